#include "access/can_link.h"
#include "einbau/text.h"

#include <string.h>

enum { FEW_ERRORS = 3 }; /* without one good frame: it is another bit rate, or no bus */

void ebi_can_init(struct eb_can_link *r, struct eb_contact *contact)
{
    memset(r, 0, sizeof *r);
    r->contact = contact;
    r->handle = EB_NO_HANDLE;
    r->bit_rate = contact->target->bit_rate;
}

void ebi_can_begin(struct eb_can_link *r, const struct eb_operation *operation, uint8_t move, uint64_t now_us)
{
    r->operation = *operation;
    if (!r->contact->watching)
        ebi_can_close(r);
    memset(&r->contact->error, 0, sizeof r->contact->error);
    r->busy = true;
    r->contact->connected = false;
    r->more = false;
    r->contact->all_sent = false;
    r->contact->loader_differs = false;
    r->contact->done_bytes = 0;
    r->move = move;
    r->answered = r->pausing = r->stopping = false;
    r->repeats = 0;
    r->patience_end_us = now_us + r->contact->profile->return_patience_ms * 1000ULL;
    r->contact->value = 0;
    r->deadline_us = now_us;
}

void ebi_can_close(struct eb_can_link *r)
{
    const struct eb_port *port = r->contact->port;
    if (r->handle != EB_NO_HANDLE)
        port->can_close(port->self, r->handle);
    r->handle = EB_NO_HANDLE;
    r->busy = false;
}

static enum eb_status end(struct eb_can_link *r, const struct eb_error *error)
{
    r->contact->error = *error;
    ebi_can_close(r);
    return error->status;
}

enum eb_status ebi_can_end_at(struct eb_can_link *r, enum eb_status status, const char *where)
{
    return end(r, &(struct eb_error){.status = status, .where = where});
}

enum eb_status ebi_can_pause(struct eb_can_link *r, uint64_t us, uint64_t now_us)
{
    r->pausing = true;
    r->look_us = now_us + us;
    return EB_PENDING;
}

enum eb_status ebi_can_end_with(struct eb_can_link *r, const char *const *where, const struct eb_error *error)
{
    struct eb_error told = *error;
    told.where = where[r->move];
    if (!r->contact->watching || r->handle == EB_NO_HANDLE)
        return end(r, &told);
    r->contact->error = told;
    r->busy = false;
    return told.status;
}

enum eb_status ebi_can_end_saying(struct eb_can_link *r, const char *const *where, enum eb_status status,
                                  const char *text)
{
    struct eb_error error = {.status = status};
    eb_text_copy(error.text, sizeof error.text, text);
    return ebi_can_end_with(r, where, &error);
}

enum eb_status ebi_can_end_other(struct eb_can_link *r, const char *const *where)
{
    struct eb_error error = {.status = EB_OTHER};
    struct eb_text text;
    char serial[EB_NAME_BYTES];
    r->contact->loader_differs = true;
    ebi_value_text(r->contact, &r->contact->profile->from_serial, serial, sizeof serial);
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "its loader has the serial number ");
    eb_text_add(&text, serial[0] != '\0' ? serial : "(none)");
    eb_text_add(&text, ", the program had ");
    eb_text_add(&text, r->serial);
    return ebi_can_end_with(r, where, &error);
}

enum eb_status ebi_can_end_well(struct eb_can_link *r)
{
    if (!r->contact->watching)
        ebi_can_close(r);
    r->busy = false;
    return EB_OK;
}

/* A bus on which nothing good was ever heard from here is left alone: whatever is sent there disturbs those
 * that run at another bit rate.  Behind a fault in the middle of good traffic another try may begin. */
enum eb_status ebi_can_end_off_bus(struct eb_can_link *r)
{
    struct eb_error error = {.status = EB_UNREACHABLE,
                             .retry = r->heard ? EB_RETRY_LATER : EB_RETRY_NEVER,
                             .where = "the CAN bus"};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, r->bus_off ? "bus-off: the adapter took itself off the bus after too many errors at "
                                  : "only errors, not one good frame at ");
    eb_text_add_number(&text, r->bit_rate);
    eb_text_add(&text, " bit/s; nothing more was sent");
    return end(r, &error);
}

bool ebi_can_all_out(const struct eb_can_link *r)
{
    const struct eb_port *port = r->contact->port;
    return r->handle != EB_NO_HANDLE && port->can_sent(port->self, r->handle) >= r->given;
}

static enum eb_status open_adapter(struct eb_can_link *r, uint32_t id, uint32_t mask)
{
    const struct eb_port *port = r->contact->port;
    const struct eb_can_options options = {
        .link = r->contact->target->can_link, .bit_rate = r->bit_rate, .id = id, .mask = mask};
    if (r->handle != EB_NO_HANDLE)
        return EB_OK;
    if (port->can_open == NULL || options.link == NULL)
        return EB_UNREACHABLE;
    r->given = 0;
    r->bus_off = false;
    return port->can_open(port->self, r->contact->owner, &options, &r->handle) == EB_OK ? EB_OK
                                                                                        : EB_UNREACHABLE;
}

static uint64_t errors_of(const struct eb_can_state *s)
{
    return (uint64_t)s->faults[EB_CAN_FAULT_BIT] + s->faults[EB_CAN_FAULT_STUFF] +
           s->faults[EB_CAN_FAULT_FORM] + s->faults[EB_CAN_FAULT_CRC] + s->faults[EB_CAN_FAULT_OTHER];
}

/* EB_IO where the bus must be left alone. */
static enum eb_status look_at_bus(struct eb_can_link *r)
{
    const struct eb_port *port = r->contact->port;
    struct eb_can_state state;
    port->can_state(port->self, r->handle, &state);
    r->bus_off = state.mode == EB_CAN_BUS_OFF;
    bool only_errors =
        state.received == 0 && (state.sent == 0 || !state.sent_is_proof) && errors_of(&state) >= FEW_ERRORS;
    if (!r->bus_off && !only_errors)
        return EB_OK;
    port->can_close(port->self, r->handle);
    r->handle = EB_NO_HANDLE;
    return EB_IO;
}

static enum eb_status receive_frames(struct eb_can_link *r, void *self, const struct ebi_can_engine *engine,
                                     uint64_t now_us)
{
    const struct eb_port *port = r->contact->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    enum eb_status status = port->can_receive(port->self, r->handle, frames, EBI_CAN_BURST, &count);
    r->more = status == EB_OK && count == EBI_CAN_BURST;
    for (size_t i = 0; status == EB_OK && i < count; i++) {
        r->heard = true;
        engine->receive(self, &frames[i], now_us);
    }
    return status == EB_PENDING ? EB_OK : status;
}

enum eb_status ebi_can_exchange(struct eb_can_link *r, void *self, const struct ebi_can_engine *engine,
                                uint32_t id, uint32_t mask, uint64_t now_us)
{
    const struct eb_port *port = r->contact->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    if (open_adapter(r, id, mask) != EB_OK)
        return EB_UNREACHABLE;
    if (look_at_bus(r) != EB_OK)
        return EB_IO;
    if (receive_frames(r, self, engine, now_us) != EB_OK) {
        port->can_close(port->self, r->handle);
        r->handle = EB_NO_HANDLE;
        return EB_UNREACHABLE;
    }
    engine->tick(self, now_us);
    size_t taken;
    do {
        count = engine->give(self, frames, EBI_CAN_BURST, ebi_can_all_out(r), now_us);
        taken = count > 0 ? port->can_send(port->self, r->handle, frames, count) : 0;
        r->given += taken;
        engine->taken(self, taken, now_us);
    } while (count > 0 && taken == count);
    return EB_OK;
}

bool ebi_can_same_serial(struct eb_can_link *r)
{
    char serial[EB_NAME_BYTES];
    if (!ebi_value_text(r->contact, &r->contact->profile->from_serial, serial, sizeof serial))
        return r->serial[0] == '\0';
    if (r->serial[0] == '\0')
        eb_text_copy(r->serial, sizeof r->serial, serial);
    return strcmp(serial, r->serial) == 0;
}
