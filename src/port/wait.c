#include "einbau/port.h"

enum { READY_MAX = 32 };

size_t eb_port_wait(const struct eb_port *port, uint64_t deadline_us)
{
    struct eb_waiter *ready[READY_MAX];
    size_t count = port->time->wait(port->self, deadline_us, ready, READY_MAX);
    for (size_t i = 0; i < count; i++) {
        if (ready[i] != NULL && ready[i]->ready != NULL)
            ready[i]->ready(ready[i]);
    }
    return count;
}
