/* What is plugged in on USB and can be written to: devices of the site, and others with a DFU interface. */
#ifndef TOOL_USB_H
#define TOOL_USB_H

#include "session/session.h"
#include "ui/table.h"

struct usb {
    struct eb_usb_device *list;
    size_t count;
};

/* Looks, and marks the site's devices that are not plugged in as absent. */
void usb_look(struct session *session, struct usb *usb);
void usb_free(struct usb *usb);

/* How many can be written to. */
size_t usb_count(const struct usb *usb);
/* How many there are, in a line; nothing where there are none. */
void usb_print_count(const struct usb *usb);
/* Those that the site does not know, as a table; nothing where there are none. */
void usb_print(const struct session *session, const struct usb *usb);
json_t *usb_document(const struct session *session, const struct usb *usb);

/* What USB says of a device of the site: a sentence. */
void usb_way_text(const struct session *session, const struct usb *usb, const struct eb_job_device *target,
                  char *text, size_t cap);

/* Whether it can be written to, or is of another wire. */
bool usb_sound(const struct session *session, const struct usb *usb, const struct eb_job_device *target);

/* How this user gets the right to open such a device. */
void usb_right_text(const struct eb_usb_ids *ids, char *text, size_t cap);

#endif
