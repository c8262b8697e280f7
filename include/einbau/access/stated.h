/* What only a person can read: a plate, a menu on the device's own display.  An access like others, whose
 * other end is a person; what is asked, and what was said, goes through the caller. */
#ifndef EINBAU_ACCESS_STATED_H
#define EINBAU_ACCESS_STATED_H

#include "einbau/access.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What it needs for one device. */
struct eb_access_stated_context {
    struct eb_contact *contact;
    bool busy;
    size_t place; /* the value that is asked for, counted over all items and their sources */
    uint64_t next_us, end_us;
};
extern const struct eb_access eb_access_stated;
extern const struct eb_rows eb_rows_stated;

#ifdef __cplusplus
}
#endif

#endif
