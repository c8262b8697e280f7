/* Device firmware upgrade over USB (Universal Serial Bus Device Class Specification for Device Firmware
 * Upgrade, revision 1.1, 2004): the host's side of one transfer, without input or output. */
#ifndef EINBAU_DFU_H
#define EINBAU_DFU_H

#include "einbau/profile.h"
#include "einbau/source.h"
#include "einbau/usb.h"

#ifdef __cplusplus
extern "C" {
#endif

/* bState (section 6.1.2). */
enum eb_dfu_state {
    EB_DFU_APP_IDLE,
    EB_DFU_APP_DETACH,
    EB_DFU_IDLE,
    EB_DFU_DNLOAD_SYNC,
    EB_DFU_DNBUSY,
    EB_DFU_DNLOAD_IDLE,
    EB_DFU_MANIFEST_SYNC,
    EB_DFU_MANIFEST,
    EB_DFU_MANIFEST_WAIT_RESET,
    EB_DFU_UPLOAD_IDLE,
    EB_DFU_ERROR,
    EB_DFU_STATES
};
/* The state's name in the standard; static. */
const char *eb_dfu_state_word(unsigned state);

/* What a bStatus of 1 to 15 means, in words (section 6.1.2). */
const char *eb_dfu_status_text(unsigned status);

/* bRequest (table 3.2). */
enum eb_dfu_request {
    EB_DFU_DETACH,
    EB_DFU_DNLOAD,
    EB_DFU_UPLOAD,
    EB_DFU_GETSTATUS,
    EB_DFU_CLRSTATUS,
    EB_DFU_GETSTATE,
    EB_DFU_ABORT
};

/* Bits of bmAttributes of the functional descriptor (table 4.2). */
enum {
    EB_DFU_CAN_DNLOAD = 1,
    EB_DFU_CAN_UPLOAD = 2,
    EB_DFU_MANIFESTATION_TOLERANT = 4,
    EB_DFU_WILL_DETACH = 8
};

enum { EB_DFU_STATUS_BYTES = 6, EB_DFU_SUBCLASS = 1, EB_DFU_CLASS = 0xFE };

/* The DFU interface of a configuration. */
struct eb_dfu_interface {
    uint8_t number;
    uint8_t alternates; /* 1 or more: each stands for a part of the device's memory */
    bool in_loader;     /* DFU mode; else the program runs */
    uint8_t attributes;
    uint16_t detach_ms; /* wDetachTimeOut */
    uint16_t transfer_bytes;
    uint16_t version; /* bcdDFUVersion; 0100h where the descriptor is one of DFU 1.0 */
};

/* Finds it; false where there is none. */
bool eb_dfu_find(const struct eb_usb_device *device, struct eb_dfu_interface *found);

/* Whether a device that is plugged in is the one that is meant: by its serial number; one that tells none, by
 * its place.  Either may be empty, where it is not known. */
enum eb_usb_match {
    EB_USB_NOT_IT,   /* of another kind */
    EB_USB_ANOTHER,  /* of this kind, another one */
    EB_USB_PERHAPS,  /* nothing says which one is meant */
    EB_USB_BY_PLACE, /* it is plugged in where the one that is meant was */
    EB_USB_IT
};
/* Compares it with what is known of the one that is meant; each of the two texts may be empty. */
enum eb_usb_match eb_usb_match(const struct eb_usb_ids *ids, const char *serial, const char *place,
                               const struct eb_usb_device *device);

/* Downloading an image, and comparing it by uploading where that is wanted and can be done; or uploading all
 * that an alternate setting holds. */
enum eb_dfu_step {
    EB_DFU_BUSY,
    EB_DFU_DONE, /* see `wants_reset` */
    EB_DFU_FAILED
};

/* What is to be downloaded or uploaded, and how. */
struct eb_dfu_config {
    const struct eb_dfu_interface *interface;
    const struct eb_source *source; /* what is downloaded; not looked at where `take` is set */
    /* Where it is set, all that the device holds is uploaded and given to it, in its order; EB_OK, or the
     * upload ends with that. */
    enum eb_status (*take)(void *self, const uint8_t *bytes, size_t size);
    void *take_self;
    uint8_t *buffer; /* for one block, like the next borrowed while the transfer lasts */
    size_t buffer_bytes;
    /* Compares by upload, where the device can: it is tolerant of manifestation and uploads.
     * EB_READ_BACK_YES: one that cannot ends the transfer before its first byte. */
    enum eb_read_back read_back;
    uint64_t patience_us; /* for all waiting that the device asks for in one go, manifestation included */
};

/* A transfer under way. */
struct eb_dfu {
    struct eb_dfu_config config;
    enum eb_dfu_step step;
    struct eb_error error;
    uint64_t done_bytes; /* taken by the device, or uploaded */
    uint64_t back_bytes; /* read back and compared */
    uint64_t poll_us;    /* all the waiting that the device asked for */
    bool whole;          /* its end was told to the device: it may have gone with it */
    bool wants_reset;    /* a reset of the bus starts what was written */
    bool read_back;      /* what the device holds was compared with the image */

    uint8_t move;
    bool asked, stopping;
    uint8_t state; /* as told last */
    uint8_t repeats;
    uint16_t block;
    uint16_t transfer_bytes, sent_bytes;
    uint32_t last_poll_ms;
    uint64_t look_us, quiet_end_us, patience_end_us;
};

/* EB_BAD_CALL: no room for a byte, or the device takes none.  What its descriptor does not allow ends the
 * transfer before its first byte. */
enum eb_status eb_dfu_begin(struct eb_dfu *dfu, const struct eb_dfu_config *config, uint64_t now_us);

/* The next control transfer, if there is one to begin now: `*bytes` are what goes with it.  The next call is
 * eb_dfu_answer with what came of it. */
bool eb_dfu_next(struct eb_dfu *dfu, uint64_t now_us, struct eb_usb_setup *setup, const uint8_t **bytes);

/* How it ended: EB_OK with `size` bytes for transfers in, EB_PEER_ERROR (stalled), EB_NO_ANSWER,
 * EB_UNREACHABLE (the device is gone). */
void eb_dfu_answer(struct eb_dfu *dfu, enum eb_status status, const uint8_t *bytes, size_t size,
                   uint64_t now_us);

/* When it wants to be asked for the next transfer; EB_NEVER while one is under way, and at the end. */
uint64_t eb_dfu_deadline_us(const struct eb_dfu *dfu);

/* Ends with DFU_ABORT, where nothing was told to be whole yet. */
void eb_dfu_stop(struct eb_dfu *dfu);

/* Makes a running program go: DFU_DETACH with the device's own time. */
struct eb_usb_setup eb_dfu_detach(const struct eb_dfu_interface *found);

#ifdef __cplusplus
}
#endif

#endif
