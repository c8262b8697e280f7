#include "einbau/port_null.h"

static uint64_t now_us(void *self)
{
    return ((const struct eb_port_null *)self)->now_us;
}

/* Nothing ever comes: only time passes. */
static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct eb_port_null *null = self;
    (void)ready, (void)cap;
    if (deadline_us != EB_NEVER && deadline_us > null->now_us)
        null->now_us = deadline_us;
    return 0;
}

static uint32_t random_number(void *self)
{
    struct eb_port_null *null = self;
    return null->random = null->random * 1664525 + 1013904223;
}

const struct eb_port *eb_port_null_init(struct eb_port_null *null)
{
    static const struct eb_port_time time_group = {sizeof time_group, now_us, wait_until, random_number};
    *null = (struct eb_port_null){.port = {.bytes = sizeof null->port, .self = null, .time = &time_group}};
    return &null->port;
}
