#include "route/can_route.h"
#include "einbau/text.h"

#include <string.h>

enum { FEW_ERRORS = 3 }; /* without one good frame: it is another bit rate, or no bus */

void ebi_can_begin(struct ebi_route *r, uint8_t move, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    if (!r->watching)
        ebi_can_close(r);
    memset(&r->error, 0, sizeof r->error);
    r->doing = 1;
    r->connected = false;
    r->more = false;
    r->all_sent = false;
    r->loader_differs = false;
    r->done_bytes = 0;
    c->move = move;
    c->answered = c->pausing = c->stopping = false;
    c->repeats = 0;
    c->patience_end_us = now_us + r->config->profile->return_patience_ms * 1000ULL;
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
    if (!r->watching || r->can.handle == EB_NO_HANDLE)
        return ebi_route_end(r, &told);
    r->error = told;
    r->doing = 0;
    return told.status;
}

enum eb_status ebi_can_end_saying(struct ebi_route *r, const char *const *where, enum eb_status status,
                                  const char *text)
{
    struct eb_error error = {.status = status};
    eb_text_copy(error.text, sizeof error.text, text);
    return ebi_can_end_with(r, where, &error);
}

enum eb_status ebi_can_end_other(struct ebi_route *r, const char *const *where)
{
    struct eb_error error = {.status = EB_OTHER};
    struct eb_text text;
    char serial[EB_NAME_BYTES];
    r->loader_differs = true;
    ebi_route_value(r, &r->config->profile->from_serial, serial, sizeof serial);
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "its loader has the serial number ");
    eb_text_add(&text, serial[0] != '\0' ? serial : "(none)");
    eb_text_add(&text, ", the program had ");
    eb_text_add(&text, r->can.serial);
    return ebi_can_end_with(r, where, &error);
}

enum eb_status ebi_can_end_well(struct ebi_route *r)
{
    if (!r->watching)
        ebi_can_close(r);
    r->doing = 0;
    return EB_OK;
}

/* A bus on which nothing good was ever heard from here is left alone: whatever is sent there disturbs those
 * that run at another bit rate.  Behind a fault in the middle of good traffic another try may begin. */
enum eb_status ebi_can_end_off_bus(struct ebi_route *r)
{
    struct eb_error error = {.status = EB_UNREACHABLE,
                             .retry = r->can.heard ? EB_RETRY_LATER : EB_RETRY_NEVER,
                             .where = "the CAN bus"};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, r->can.bus_off
                           ? "bus-off: the adapter took itself off the bus after too many errors at "
                           : "only errors, not one good frame at ");
    eb_text_add_number(&text, r->can.bit_rate);
    eb_text_add(&text, " bit/s; nothing more was sent");
    return ebi_route_end(r, &error);
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
    r->can.bus_off = false;
    return port->can_open(port->self, r->owner, &options, &r->can.handle) == EB_OK ? EB_OK : EB_UNREACHABLE;
}

static uint64_t errors_of(const struct eb_can_state *s)
{
    return (uint64_t)s->faults[EB_CAN_FAULT_BIT] + s->faults[EB_CAN_FAULT_STUFF] +
           s->faults[EB_CAN_FAULT_FORM] + s->faults[EB_CAN_FAULT_CRC] + s->faults[EB_CAN_FAULT_OTHER];
}

/* EB_IO where the bus must be left alone. */
static enum eb_status look_at_bus(struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    struct eb_can_state state;
    port->can_state(port->self, r->can.handle, &state);
    r->can.bus_off = state.mode == EB_CAN_BUS_OFF;
    bool only_errors =
        state.received == 0 && (state.sent == 0 || !state.sent_is_proof) && errors_of(&state) >= FEW_ERRORS;
    if (!r->can.bus_off && !only_errors)
        return EB_OK;
    port->can_close(port->self, r->can.handle);
    r->can.handle = EB_NO_HANDLE;
    return EB_IO;
}

static enum eb_status receive_frames(struct ebi_route *r, const struct ebi_can_engine *engine,
                                     uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    enum eb_status status = port->can_receive(port->self, r->can.handle, frames, EBI_CAN_BURST, &count);
    r->more = status == EB_OK && count == EBI_CAN_BURST;
    for (size_t i = 0; status == EB_OK && i < count; i++) {
        r->can.heard = true;
        engine->receive(r, &frames[i], now_us);
    }
    return status == EB_PENDING ? EB_OK : status;
}

enum eb_status ebi_can_exchange(struct ebi_route *r, const struct ebi_can_engine *engine, uint32_t id,
                                uint32_t mask, uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    if (open_adapter(r, id, mask) != EB_OK)
        return EB_UNREACHABLE;
    if (look_at_bus(r) != EB_OK)
        return EB_IO;
    if (receive_frames(r, engine, now_us) != EB_OK) {
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
