#include "route/can_route.h"
#include "einbau/text.h"

#include <string.h>

void ebi_can_begin(struct ebi_route *r, uint8_t move, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    memset(&r->error, 0, sizeof r->error);
    r->doing = 1;
    r->connected = false;
    r->all_sent = false;
    r->done_bytes = 0;
    c->move = move;
    c->answered = c->pausing = false;
    c->repeats = 0;
    r->value = 0;
    r->deadline_us = now_us;
}

void ebi_can_close(struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    if (r->can.handle != EB_NO_HANDLE)
        port->can_close(port->self, r->can.handle);
    r->can.handle = EB_NO_HANDLE;
    r->doing = 0;
}

enum eb_status ebi_can_pause(struct ebi_route *r, uint64_t us, uint64_t now_us)
{
    r->can.pausing = true;
    r->can.look_us = now_us + us;
    return EB_PENDING;
}

enum eb_status ebi_can_end_with(struct ebi_route *r, const char *const *where, const struct eb_error *error)
{
    struct eb_error told = *error;
    told.where = where[r->can.move];
    return ebi_route_end(r, &told);
}

enum eb_status ebi_can_end_saying(struct ebi_route *r, const char *const *where, enum eb_status status,
                                  const char *text)
{
    struct eb_error error = {.status = status};
    eb_text_copy(error.text, sizeof error.text, text);
    return ebi_can_end_with(r, where, &error);
}

enum eb_status ebi_can_end_well(struct ebi_route *r)
{
    ebi_can_close(r);
    return EB_OK;
}

bool ebi_can_all_out(const struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    return r->can.handle != EB_NO_HANDLE && port->can_sent(port->self, r->can.handle) >= r->can.given;
}

static enum eb_status open_adapter(struct ebi_route *r, uint32_t id, uint32_t mask)
{
    const struct eb_port *port = r->config->port;
    const struct eb_can_options options = {
        .link = r->config->can_link, .bit_rate = r->can.bit_rate, .id = id, .mask = mask};
    if (r->can.handle != EB_NO_HANDLE)
        return EB_OK;
    if (port->can_open == NULL || options.link == NULL)
        return EB_UNREACHABLE;
    r->can.given = 0;
    return port->can_open(port->self, r->owner, &options, &r->can.handle) == EB_OK ? EB_OK : EB_UNREACHABLE;
}

enum eb_status ebi_can_exchange(struct ebi_route *r, const struct ebi_can_engine *engine, uint32_t id,
                                uint32_t mask, uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    if (open_adapter(r, id, mask) != EB_OK)
        return EB_UNREACHABLE;
    enum eb_status status;
    while ((status = port->can_receive(port->self, r->can.handle, frames, EBI_CAN_BURST, &count)) == EB_OK) {
        for (size_t i = 0; i < count; i++)
            engine->receive(r, &frames[i], now_us);
    }
    if (status == EB_UNREACHABLE) {
        port->can_close(port->self, r->can.handle);
        r->can.handle = EB_NO_HANDLE;
        return EB_UNREACHABLE;
    }
    engine->tick(r, now_us);
    size_t taken;
    do {
        count = engine->give(r, frames, EBI_CAN_BURST, ebi_can_all_out(r), now_us);
        taken = count > 0 ? port->can_send(port->self, r->can.handle, frames, count) : 0;
        r->can.given += taken;
        engine->taken(r, taken, now_us);
    } while (count > 0 && taken == count);
    return EB_OK;
}

bool ebi_can_same_serial(struct ebi_route *r)
{
    char serial[EB_NAME_BYTES];
    if (!ebi_route_value(r, &r->config->profile->from_serial, serial, sizeof serial))
        return r->can.serial[0] == '\0';
    if (r->can.serial[0] == '\0')
        eb_text_copy(r->can.serial, sizeof r->can.serial, serial);
    return strcmp(serial, r->can.serial) == 0;
}
