/* The least that a port can be: time, and no wire.  Where a new port begins (docs/porting.md), and what tests
 * use that need none. */
#ifndef EINBAU_PORT_NULL_H
#define EINBAU_PORT_NULL_H

#include "einbau/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The port and its clock. */
struct eb_port_null {
    struct eb_port port;
    uint64_t now_us; /* goes on only in `wait` */
    uint32_t random;
};

/* Makes the port; it is part of `null`, which must live as long as it is used. */
const struct eb_port *eb_port_null_init(struct eb_port_null *null);

#ifdef __cplusplus
}
#endif

#endif
