/* What a survey has found, entered into a site. */
#ifndef TOOL_SURVEY_INTO_H
#define TOOL_SURVEY_INTO_H

#include "session/bus.h"
#include "session/usb.h"
#include "session/wire.h"

/* Enters into the site's file each device on Ethernet, on its CAN buses (which are looked at), and on USB
 * that a profile covers and that it has not yet; gives the exit status. */
int survey_into(struct session *session, const char *path, const struct wire *wire, struct buses *buses,
                const struct usb *usb);

#endif
