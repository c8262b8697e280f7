#include "access/can_link.h"
#include "einbau/text.h"

#include <string.h>

enum { FEW_ERRORS = 3 }; /* without one good frame: it is another bit rate, or no bus */

void ebi_can_init(struct eb_can_link *link, struct eb_contact *contact)
{
    memset(link, 0, sizeof *link);
    link->contact = contact;
    link->handle = EB_NO_HANDLE;
    link->bit_rate = contact->target->bit_rate;
}

void ebi_can_begin(struct eb_can_link *link, const struct eb_operation *operation, uint8_t move,
                   uint64_t now_us)
{
    link->operation = *operation;
    if (!link->contact->watching)
        ebi_can_close(link);
    memset(&link->contact->error, 0, sizeof link->contact->error);
    link->busy = true;
    link->contact->connected = false;
    link->more = false;
    link->contact->all_sent = false;
    link->contact->loader_differs = false;
    link->contact->done_bytes = 0;
    link->move = move;
    link->answered = link->pausing = link->stopping = false;
    link->repeats = 0;
    link->patience_end_us = now_us + link->contact->profile->return_patience_ms * 1000ULL;
    link->contact->value = 0;
    link->deadline_us = now_us;
}

void ebi_can_close(struct eb_can_link *link)
{
    const struct eb_port *port = link->contact->port;
    if (link->handle != EB_NO_HANDLE)
        port->can->close(port->self, link->handle);
    link->handle = EB_NO_HANDLE;
    link->busy = false;
}

static enum eb_status end(struct eb_can_link *link, const struct eb_error *error)
{
    link->contact->error = *error;
    ebi_can_close(link);
    return error->status;
}

enum eb_status ebi_can_end_at(struct eb_can_link *link, enum eb_status status, const char *where)
{
    return end(link, &(struct eb_error){.status = status, .where = where});
}

enum eb_status ebi_can_pause(struct eb_can_link *link, uint64_t us, uint64_t now_us)
{
    link->pausing = true;
    link->look_us = now_us + us;
    return EB_PENDING;
}

enum eb_status ebi_can_end_with(struct eb_can_link *link, const char *const *where,
                                const struct eb_error *error)
{
    struct eb_error told = *error;
    told.where = where[link->move];
    if (!link->contact->watching || link->handle == EB_NO_HANDLE)
        return end(link, &told);
    link->contact->error = told;
    link->busy = false;
    return told.status;
}

enum eb_status ebi_can_end_saying(struct eb_can_link *link, const char *const *where, enum eb_status status,
                                  const char *text)
{
    struct eb_error error = {.status = status};
    eb_text_copy(error.text, sizeof error.text, text);
    return ebi_can_end_with(link, where, &error);
}

enum eb_status ebi_can_end_other(struct eb_can_link *link, const char *const *where)
{
    struct eb_error error = {.status = EB_OTHER};
    struct eb_text text;
    char serial[EB_NAME_BYTES];
    link->contact->loader_differs = true;
    ebi_value_text(link->contact, &link->contact->profile->from_serial, serial, sizeof serial);
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "its loader has the serial number ");
    eb_text_add(&text, serial[0] != '\0' ? serial : "(none)");
    eb_text_add(&text, ", the program had ");
    eb_text_add(&text, link->serial);
    return ebi_can_end_with(link, where, &error);
}

enum eb_status ebi_can_end_well(struct eb_can_link *link)
{
    if (!link->contact->watching)
        ebi_can_close(link);
    link->busy = false;
    return EB_OK;
}

/* A bus on which nothing good was ever heard from here is left alone: whatever is sent there disturbs those
 * that run at another bit rate.  Behind a fault in the middle of good traffic another try may begin. */
enum eb_status ebi_can_end_off_bus(struct eb_can_link *link)
{
    struct eb_error error = {.status = EB_UNREACHABLE,
                             .retry = link->heard ? EB_RETRY_LATER : EB_RETRY_NEVER,
                             .where = "the CAN bus"};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, link->bus_off
                           ? "bus-off: the adapter took itself off the bus after too many errors at "
                           : "only errors, not one good frame at ");
    eb_text_add_number(&text, link->bit_rate);
    eb_text_add(&text, " bit/s; nothing more was sent");
    return end(link, &error);
}

uint64_t ebi_can_deadline_us(const struct eb_can_link *link, uint64_t engine_us)
{
    if (!link->busy)
        return EB_NEVER;
    if (link->pausing)
        return link->look_us;
    if (link->handle == EB_NO_HANDLE)
        return link->deadline_us;
    return link->more ? 0 : engine_us;
}

bool ebi_can_all_out(const struct eb_can_link *link)
{
    const struct eb_port *port = link->contact->port;
    return link->handle != EB_NO_HANDLE && port->can->sent(port->self, link->handle) >= link->given;
}

static enum eb_status open_adapter(struct eb_can_link *link, uint32_t id, uint32_t mask)
{
    const struct eb_port *port = link->contact->port;
    const struct eb_can_options options = {.link = link->contact->target->can_link,
                                           .bit_rate = link->bit_rate,
                                           .id = id,
                                           .mask = mask,
                                           .urgent = link->contact->target->urgent};
    if (link->handle != EB_NO_HANDLE)
        return EB_OK;
    if (port->can == NULL || options.link == NULL)
        return EB_UNREACHABLE;
    link->given = 0;
    link->bus_off = false;
    return port->can->open(port->self, link->contact->waiter, &options, &link->handle) == EB_OK
               ? EB_OK
               : EB_UNREACHABLE;
}

static uint64_t errors_of(const struct eb_can_state *s)
{
    return (uint64_t)s->faults[EB_CAN_FAULT_BIT] + s->faults[EB_CAN_FAULT_STUFF] +
           s->faults[EB_CAN_FAULT_FORM] + s->faults[EB_CAN_FAULT_CRC] + s->faults[EB_CAN_FAULT_OTHER];
}

/* EB_IO where the bus must be left alone. */
static enum eb_status look_at_bus(struct eb_can_link *link)
{
    const struct eb_port *port = link->contact->port;
    struct eb_can_state state;
    port->can->state(port->self, link->handle, &state);
    link->bus_off = state.mode == EB_CAN_BUS_OFF;
    bool only_errors =
        state.received == 0 && (state.sent == 0 || !state.sent_is_proof) && errors_of(&state) >= FEW_ERRORS;
    if (!link->bus_off && !only_errors)
        return EB_OK;
    port->can->close(port->self, link->handle);
    link->handle = EB_NO_HANDLE;
    return EB_IO;
}

static enum eb_status receive_frames(struct eb_can_link *link, void *self,
                                     const struct ebi_can_engine *engine, uint64_t now_us)
{
    const struct eb_port *port = link->contact->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    enum eb_status status = port->can->receive(port->self, link->handle, frames, EBI_CAN_BURST, &count);
    link->more = status == EB_OK && count == EBI_CAN_BURST;
    for (size_t i = 0; status == EB_OK && i < count; i++) {
        link->heard = true;
        engine->receive(self, &frames[i], now_us);
    }
    return status == EB_PENDING ? EB_OK : status;
}

enum eb_status ebi_can_exchange(struct eb_can_link *link, void *self, const struct ebi_can_engine *engine,
                                uint32_t id, uint32_t mask, uint64_t now_us)
{
    const struct eb_port *port = link->contact->port;
    struct eb_can_frame frames[EBI_CAN_BURST];
    size_t count;
    if (open_adapter(link, id, mask) != EB_OK)
        return EB_UNREACHABLE;
    if (look_at_bus(link) != EB_OK)
        return EB_IO;
    if (receive_frames(link, self, engine, now_us) != EB_OK) {
        port->can->close(port->self, link->handle);
        link->handle = EB_NO_HANDLE;
        return EB_UNREACHABLE;
    }
    engine->tick(self, now_us);
    size_t taken;
    do {
        count = engine->give(self, frames, EBI_CAN_BURST, ebi_can_all_out(link), now_us);
        taken = port->can->send(port->self, link->handle, frames, count); /* 0: wants no room any more */
        link->given += taken;
        engine->taken(self, taken, now_us);
    } while (count > 0 && taken == count);
    return EB_OK;
}

bool ebi_can_same_serial(struct eb_can_link *link)
{
    char serial[EB_NAME_BYTES];
    if (!ebi_value_text(link->contact, &link->contact->profile->from_serial, serial, sizeof serial))
        return link->serial[0] == '\0';
    if (link->serial[0] == '\0')
        eb_text_copy(link->serial, sizeof link->serial, serial);
    return strcmp(serial, link->serial) == 0;
}
