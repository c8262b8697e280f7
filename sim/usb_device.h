/* What a simulated device does on USB: its descriptors and strings (USB 2.0 chapter 9), and its side of the
 * DFU class in both modes (DFU 1.1). */
#ifndef EBI_SIM_USB_DEVICE_H
#define EBI_SIM_USB_DEVICE_H

#include "einbau/dfu.h"

struct ebi_sim_device;
struct ebi_sim_component;

enum { EBI_SIM_USB_HUBS_MAX = 4, EBI_SIM_USB_TRANSFER_MAX = 65535 };

/* The strings of a device; a program's interface is called after product and version. */
enum ebi_sim_usb_string {
    EBI_SIM_USB_MAKER = 1,
    EBI_SIM_USB_PRODUCT,
    EBI_SIM_USB_SERIAL,
    EBI_SIM_USB_ORDER_CODE,
    EBI_SIM_USB_REVISION,
    EBI_SIM_USB_VERSION,     /* of the first component, while its program runs */
    EBI_SIM_USB_CHECKSUM,    /* likewise, eight hexadecimal digits */
    EBI_SIM_USB_PROGRAM,     /* the name of the program's DFU interface */
    EBI_SIM_USB_TARGETS = 16 /* from here on: the names of the loader's alternate settings; of the program,
                            each one's version */
};

enum ebi_sim_usb_manifest { EBI_SIM_USB_WAITS_FOR_RESET, EBI_SIM_USB_TOLERANT, EBI_SIM_USB_RESTARTS };

struct ebi_sim_usb {
    bool is_usb;
    char home[EB_USB_PLACE_BYTES], place[EB_USB_PLACE_BYTES]; /* described, and now */
    bool unplugged;
    bool own_power; /* it goes on when it is unplugged */
    uint16_t vendor, product, loader_vendor, loader_product, release, loader_release;
    bool release_is_version;
    bool other_interface; /* the program has one more, in front of the one for DFU */
    bool no_serial, no_loader_serial;
    bool claims_detach; /* its descriptor says that it detaches itself, and it waits for a reset all the same
                         */
    bool detaches_itself, stays; /* `stays`: never lets go, for tests */
    bool uploads;
    enum ebi_sim_usb_manifest manifest;
    uint16_t transfer_bytes, detach_ms;
    uint32_t manifest_ms, poll_cap_ms; /* asks for no more than that at a time; 0: for all of it */
    uint32_t configured_ms;            /* so long after it came */
    bool denied, busy;                 /* to this user; by another program */

    uint8_t address; /* 0: not enumerated */
    uint64_t arrives_us, configured_us;
    /* gone with the power */
    uint8_t state, status, alternate;
    uint16_t block;
    uint64_t until_us; /* busy, or waiting for a reset in appDETACH; EB_NEVER: neither */
    uint32_t left_ms;  /* of what it does, beyond `until_us` */
    size_t received;
    uint8_t *bank;
    bool manifested;
};

/* One control transfer: `data` is what came with it, or has room for what is asked for; `size` is its size.
 * False: the device stalls. */
bool ebi_sim_usb_control(struct ebi_sim_device *device, const struct eb_usb_setup *setup, uint8_t *data,
                         size_t *size);
/* A reset of the bus. */
void ebi_sim_usb_reset(struct ebi_sim_device *device);
/* Enumerated now. */
bool ebi_sim_usb_there(const struct ebi_sim_device *device);
/* What the host reads at enumeration; the address is the world's. */
void ebi_sim_usb_describe(const struct ebi_sim_device *device, struct eb_usb_device *to);

void ebi_sim_usb_plug(struct ebi_sim_device *device, const char *place); /* NULL: pulls it out */
void ebi_sim_usb_tick(struct ebi_sim_device *device);
/* It falls into its error state. */
void ebi_sim_usb_fail(struct ebi_sim_device *device, unsigned status);

#endif
