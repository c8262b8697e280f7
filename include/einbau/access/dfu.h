/* A device on USB: identity by descriptors and strings, images by the DFU class (DFU 1.1). */
#ifndef EINBAU_ACCESS_DFU_H
#define EINBAU_ACCESS_DFU_H

#include "einbau/access.h"
#include "einbau/dfu.h"
#include <string.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Download by the DFU class over USB. */
struct eb_dfu_way {
    uint32_t answer_patience_ms; /* for each control transfer */
};
/* What the profile says of it. */
static inline struct eb_dfu_way eb_dfu_way_of(const struct eb_profile *profile)
{
    struct eb_dfu_way way;
    memcpy(&way, profile->way, sizeof way);
    return way;
}

/* `item` of its one kind of value is one of enum eb_usb_item. */
struct eb_access_dfu_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle, watch; /* EB_NO_HANDLE: not open */
    bool busy;
    uint8_t move, stalls, after; /* `after`: the reset */
    bool asked, wants_loader, doing_reset, goes_itself, never_went;
    uint64_t look_us, patience_end_us;
    char place[EB_USB_PLACE_BYTES], serial[EB_NAME_BYTES]; /* last place, serial number as read */
    struct eb_usb_device device;
    struct eb_dfu_interface interface;
    uint16_t language;
    uint8_t bytes[256];
    struct eb_dfu dfu;
};
extern const struct eb_access eb_access_dfu;
extern const struct eb_rows eb_rows_dfu;

#ifdef __cplusplus
}
#endif

#endif
