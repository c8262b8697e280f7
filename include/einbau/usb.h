/* Devices on USB: what their descriptors say, and control transfers (Universal Serial Bus Specification,
 * revision 2.0, chapter 9). */
#ifndef EINBAU_USB_H
#define EINBAU_USB_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/model.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_USB_DEVICES_MAX = 128,
    EB_USB_PLACE_BYTES = 32,
    EB_USB_CONFIGURATION_BYTES = 512, /* what is kept of a configuration descriptor */
    EB_USB_SETUP_BYTES = 8,
    EB_USB_DESCRIPTOR_BYTES = 18 /* of a device */
};

/* One device that is plugged in, as it was when it was enumerated. */
struct eb_usb_device {
    char place[EB_USB_PLACE_BYTES]; /* the sockets on the way to it: "1-2.4" is bus 1, socket 2, socket 4 of
                                       the hub */
    uint16_t bus;
    uint8_t address;                   /* on its bus; another one after each enumeration */
    uint16_t vendor, product, release; /* idVendor, idProduct, bcdDevice */
    char maker[EB_NAME_BYTES], name[EB_NAME_BYTES],
        serial[EB_NAME_BYTES];                         /* its strings; empty: it has none */
    uint16_t size;                                     /* of `configuration`; 0: it has none yet */
    uint8_t configuration[EB_USB_CONFIGURATION_BYTES]; /* the active one, with all that belongs to it
                                                          (section 9.6.3) */
};

/* The eight bytes that begin a control transfer (section 9.3). */
struct eb_usb_setup {
    uint8_t type;    /* bmRequestType: bit 7 set, the device sends `length` bytes */
    uint8_t request; /* bRequest */
    uint16_t value, index, length;
};

enum {
    EB_USB_IN = 0x80,
    EB_USB_GET_DESCRIPTOR = 6,
    EB_USB_TYPE_DEVICE = 1,
    EB_USB_TYPE_CONFIGURATION = 2,
    EB_USB_TYPE_STRING = 3,
    EB_USB_TYPE_INTERFACE = 4
};

/* The eight bytes of a setup packet (USB 2.0, section 9.3). */
void eb_usb_setup_put(const struct eb_usb_setup *setup, uint8_t bytes[EB_USB_SETUP_BYTES]);
/* The other way round. */
void eb_usb_setup_get(const uint8_t bytes[EB_USB_SETUP_BYTES], struct eb_usb_setup *setup);

/* Asks for a string in the language `language` (section 9.6.7; index 0: for the list of languages). */
struct eb_usb_setup eb_usb_ask_string(uint8_t index, uint16_t language);

/* The text of a string descriptor; what is not printable ASCII becomes '?', half a text is none.  False where
 * it is no string descriptor, or longer than the text may be. */
bool eb_usb_string(const uint8_t *bytes, size_t size, char *text, size_t cap);
/* The first language of the list that string 0 is; 0: there is none. */
uint16_t eb_usb_language(const uint8_t *bytes, size_t size);

/* The string index of an interface's name, 0: it has none.  False where the configuration has no such
 * interface with this alternate setting. */
bool eb_usb_interface_name(const struct eb_usb_device *device, uint8_t interface, uint8_t alternate,
                           uint8_t *index);

/* A binary coded release as text: "2.1.0" where there are three parts, "5.2" where there are two (the last is
 * then 0..99); JJMNh of section 9.6.1. */
enum { EB_USB_RELEASE_BYTES = 12 };
void eb_usb_release_text(uint16_t release, unsigned parts, char text[EB_USB_RELEASE_BYTES]);

#ifdef __cplusplus
}
#endif

#endif
