/* The devices that a watch shows besides those on Ethernet: nodes of the site's CAN buses, and USB devices.
 */
#ifndef TOOL_OTHERS_H
#define TOOL_OTHERS_H

#include "session/wire.h"

/* One of them, as a row of the watch. */
struct other {
    char cells[WIRE_COLUMNS][WIRE_CELL_BYTES]; /* the address is what it is known by */
    const void *of;                            /* the bus, or NULL: USB */
    uint64_t first_us, last_us, changed_us;    /* 0: it never changed */
    unsigned missed;                           /* rounds in which it did not answer */
};

struct other_bus;
struct others {
    struct session *session;
    struct other *list;
    size_t count;
    struct other_bus *buses;
    size_t bus_count;
    uint64_t usb_us; /* when USB is looked at next */
};

/* Whether there is anything to be watched. */
bool others_begin(struct others *others, struct session *session);
/* Looks for a while, until `until_us` at most. */
void others_work(struct others *others, uint64_t until_us);
void others_end(struct others *others);

const char *others_bus(const struct others *others, size_t index); /* its name */

bool other_gone(const struct other *other);
/* Why a bus cannot be watched, or how it is; the empty text: all is well. */
void others_trouble(const struct others *others, char *text, size_t cap);

#endif
