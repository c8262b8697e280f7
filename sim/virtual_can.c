/* The simulated port's CAN: adapters with a latency and a queue of so many frames, shared by all handles. */
#include "virtual.h"

#include <stdlib.h>
#include <string.h>

enum { RECEIVED_MAX = 4096 };

struct can_end {
    struct ebi_sim_bus *bus;
    uint32_t id, mask;
    struct eb_can_frame *received; /* a ring */
    size_t first, count;
    uint64_t given, sent;
    bool gone, off; /* its adapter is; as it fell off the bus */
    bool urgent;
};

static struct can_adapter *adapter_of(struct ebi_sim_virtual *v, const struct ebi_sim_bus *bus)
{
    return &v->adapters[bus - v->sim->buses];
}

static struct ebi_sim_station *station_of(struct ebi_sim_bus *bus)
{
    return &bus->stations[bus->adapters[0]];
}

void ebi_sim_virtual_can_arm(struct ebi_sim_virtual *v)
{
    uint64_t next_us = v->sim->bus_count > 0 ? ebi_sim_can_next_us(v->sim) : EB_NEVER;
    next_us = next_us > v->now_us ? next_us : v->now_us;
    if (next_us >= v->bus_us)
        return;
    v->bus_us = next_us;
    ebi_sim_push_event(v, (struct event){.at_us = next_us, .kind = EVENT_BUS});
}

/* --- what the buses tell ------------------------------------------------------------------------- */

static uint8_t *frame_copy(const struct eb_can_frame *frame, size_t count)
{
    uint8_t *copy = ebi_sim_grow(NULL, count, sizeof *frame);
    memcpy(copy, frame, count * sizeof *frame);
    return copy;
}

static void bring_down(struct ebi_sim_virtual *v, const struct ebi_sim_bus *bus,
                       const struct eb_can_frame *frame, uint64_t at_us)
{
    struct eb_can_frame heard = *frame;
    heard.at_us = at_us;
    ebi_sim_push_event(v, (struct event){.at_us = at_us + bus->latency_us,
                                         .kind = EVENT_CAN_DOWN,
                                         .handle = (int)(bus - v->sim->buses),
                                         .bytes = frame_copy(&heard, 1)});
}

static void heard(void *self, struct ebi_sim_bus *bus, size_t station, const struct eb_can_frame *frame,
                  uint64_t at_us)
{
    struct ebi_sim_virtual *v = self;
    if (station != bus->adapters[0])
        return;
    adapter_of(v, bus)->state.received++;
    adapter_of(v, bus)->state.bits += eb_can_bits(frame);
    bring_down(v, bus, frame, at_us);
}

static void sent(void *self, struct ebi_sim_bus *bus, const struct ebi_sim_can_tx *tx, uint64_t at_us)
{
    struct ebi_sim_virtual *v = self;
    adapter_of(v, bus)->state.sent++;
    adapter_of(v, bus)->state.bits += eb_can_bits(&tx->frame);
    ebi_sim_push_event(v, (struct event){.at_us = at_us + bus->latency_us,
                                         .kind = EVENT_CAN_SENT,
                                         .handle = tx->tag,
                                         .generation = tx->generation});
}

/* All handles on this bus have to be opened again. */
static void lost(void *self, struct ebi_sim_bus *bus)
{
    struct ebi_sim_virtual *v = self;
    adapter_of(v, bus)->handles = 0;
    for (size_t i = 0; i < adapter_of(v, bus)->open_count; i++) {
        struct end *end = &v->ends[adapter_of(v, bus)->open[i]];
        if (!end->can->gone) {
            end->can->off = ebi_sim_station_mode(station_of(bus)) == EB_CAN_BUS_OFF;
            end->can->gone = true;
            ebi_sim_set_ready(v, end);
        }
    }
}

static void faulted(void *self, struct ebi_sim_bus *bus, size_t station, enum eb_can_fault fault,
                    uint64_t at_us)
{
    struct ebi_sim_virtual *v = self;
    const struct eb_can_frame frame = {.id = (uint32_t)fault, .flags = EB_CAN_FAULT};
    if (station != bus->adapters[0] || !station_of(bus)->on)
        return;
    adapter_of(v, bus)->state.faults[fault]++;
    bring_down(v, bus, &frame, at_us);
    if (fault == EB_CAN_FAULT_BUS_OFF)
        lost(v, bus);
}

static void later(void *self, struct ebi_sim_device *d, const struct eb_can_frame *frame, uint64_t at_us)
{
    ebi_sim_push_event(
        self,
        (struct event){.at_us = at_us, .kind = EVENT_CAN_LATE, .device = d, .bytes = frame_copy(frame, 1)});
}

static struct ebi_sim_can_fate fate_of(void *self, struct ebi_sim_bus *bus, size_t sender,
                                       const struct eb_can_frame *frame)
{
    struct ebi_sim_virtual *v = self;
    struct ebi_sim_device *d = bus->stations[sender].device;
    for (size_t i = 0; i < bus->count && d == NULL; i++) {
        if (bus->stations[i].device != NULL && ebi_sim_can_meant(bus->stations[i].device, frame))
            d = bus->stations[i].device;
    }
    struct fate fate = ebi_sim_next_fault(v, d, bus);
    return (struct ebi_sim_can_fate){.unheard = fate.lost,
                                     .doubled = fate.doubled,
                                     .destroyed = fate.garbled,
                                     .garbled = fate.unseen,
                                     .bus_off = fate.bus_off,
                                     .late_us = fate.extra_us};
}

/* --- what happens -------------------------------------------------------------------------------- */

static void receive(struct ebi_sim_virtual *v, struct end *end, const struct eb_can_frame *frame)
{
    struct can_end *c = end->can;
    bool fault = (frame->flags & EB_CAN_FAULT) != 0;
    if (c->gone || (fault ? c->mask != 0 : (frame->id & c->mask) != c->id))
        return;
    if (c->count == RECEIVED_MAX) {
        adapter_of(v, c->bus)->state.faults[EB_CAN_FAULT_OVERRUN]++;
        return;
    }
    c->received[(c->first + c->count++) % RECEIVED_MAX] = *frame;
    ebi_sim_set_ready(v, end);
}

/* Each in its turn: who was first this time is last the next. */
static void give_room(struct ebi_sim_virtual *v, const struct ebi_sim_bus *bus)
{
    struct can_adapter *a = adapter_of(v, bus);
    size_t first = a->open_count;
    for (size_t i = 1; i <= a->open_count; i++) {
        size_t at = (a->turn + i) % a->open_count;
        struct end *end = &v->ends[a->open[at]];
        if (end->wants_room) {
            first = first == a->open_count ? at : first;
            ebi_sim_set_ready(v, end);
        }
    }
    a->turn = first == a->open_count ? a->turn : first;
}

static void went_out(struct ebi_sim_virtual *v, const struct event *e)
{
    struct end *end = &v->ends[e->handle];
    if (!end->used || end->generation != e->generation || end->can == NULL || end->can->gone)
        return;
    struct ebi_sim_bus *bus = end->can->bus;
    struct can_adapter *a = adapter_of(v, bus);
    if (++end->can->sent == end->can->given)
        ebi_sim_set_ready(v, end);
    if (eb_can_pace_sent(&a->pace))
        give_room(v, bus);
}

void ebi_sim_virtual_can_event(struct ebi_sim_virtual *v, const struct event *e)
{
    const struct eb_can_frame *frames = (const void *)e->bytes;
    if (e->kind == EVENT_BUS) {
        if (e->at_us != v->bus_us)
            return; /* an earlier one took its place */
        v->bus_us = EB_NEVER;
        for (size_t i = 0; i < v->sim->bus_count; i++) {
            struct ebi_sim_bus *bus = &v->sim->buses[i];
            bool ran = ebi_sim_can_run(v->sim, bus, v->now_us);
            for (size_t k = 0; k < bus->count && ran; k++) {
                if (bus->stations[k].device != NULL)
                    ebi_sim_wake_later(v, bus->stations[k].device);
            }
        }
    } else if (e->kind == EVENT_CAN_QUEUE) {
        struct end *end = &v->ends[e->handle];
        for (size_t i = 0; i < e->size && end->used && end->generation == e->generation && !end->can->gone;
             i++) {
            struct ebi_sim_can_tx tx = {frames[i], v->now_us * 1000, e->handle, e->generation};
            tx.frame.flags &= (uint8_t)~EB_CAN_ORDERED; /* this adapter keeps the order of all */
            ebi_sim_bus_send(end->can->bus, end->can->bus->adapters[0], &tx);
        }
    } else if (e->kind == EVENT_CAN_DOWN) {
        const struct can_adapter *a = &v->adapters[e->handle];
        for (size_t i = 0; i < a->open_count; i++)
            receive(v, &v->ends[a->open[i]], frames);
    } else if (e->kind == EVENT_CAN_SENT) {
        went_out(v, e);
    } else {
        ebi_sim_can_frame(e->device, frames);
    }
}

/* --- the port ------------------------------------------------------------------------------------ */

static enum eb_status can_open(void *self, struct eb_waiter *waiter, const struct eb_can_options *options,
                               int *handle)
{
    struct ebi_sim_virtual *v = self;
    struct ebi_sim_bus *bus = NULL;
    *handle = EB_NO_HANDLE;
    for (size_t i = 0; i < v->sim->bus_count; i++) {
        if (strcmp(v->sim->buses[i].name, options->link) == 0)
            bus = &v->sim->buses[i];
    }
    if (bus == NULL || !ebi_sim_bus_has_adapter(bus))
        return EB_IO;
    struct can_adapter *a = adapter_of(v, bus);
    struct ebi_sim_station *s = station_of(bus);
    uint32_t bit_rate = options->bit_rate != 0 ? options->bit_rate : bus->bit_rate;
    if (a->handles > 0 && (options->listen_only != s->listen_only || bit_rate != s->bit_rate))
        return EB_BAD_CALL;
    if (a->handles++ == 0) {
        ebi_sim_bus_switch(bus, bus->adapters[0], true);
        s->bit_rate = bit_rate;
        s->listen_only = options->listen_only;
        eb_can_pace_init(&a->pace, bus->queue, bit_rate);
        memset(&a->state, 0, sizeof a->state);
    }
    *handle = ebi_sim_new_end(v, waiter, false);
    struct can_end *c = ebi_sim_grow(NULL, 1, sizeof *c);
    *c = (struct can_end){
        .bus = bus, .id = options->id & options->mask, .mask = options->mask, .urgent = options->urgent};
    c->received = ebi_sim_grow(NULL, RECEIVED_MAX, sizeof *c->received);
    v->ends[*handle].can = c;
    if (a->open_count == a->open_cap) {
        a->open_cap = 2 * a->open_cap + 8;
        a->open = ebi_sim_grow(a->open, a->open_cap, sizeof *a->open);
    }
    a->open[a->open_count++] = *handle;
    return EB_OK;
}

static size_t can_send(void *self, int handle, const struct eb_can_frame *burst, size_t count)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    struct can_end *c = end->can;
    struct can_adapter *a = adapter_of(v, c->bus);
    end->wants_room = end->wants_room && count > 0;
    if (c->gone || count == 0)
        return 0;
    struct eb_can_others others = {0};
    for (size_t i = 0; i < a->open_count; i++) {
        const struct end *other = &v->ends[a->open[i]];
        bool waits = other != end && other->wants_room;
        others.waiting += waits;
        others.urgent_waiting += waits && other->can->urgent;
        others.urgent = others.urgent || (other != end && other->can->urgent);
    }
    uint32_t share = eb_can_pace_share(&a->pace, &others, c->urgent);
    size_t taken = count < share ? count : share;
    end->wants_room = taken < count;
    if (taken == 0)
        return 0;
    eb_can_pace_given(&a->pace, (uint32_t)taken, others.urgent_waiting > 0 && !c->urgent);
    c->given += taken;
    ebi_sim_push_event(v, (struct event){.at_us = v->now_us + c->bus->latency_us,
                                         .kind = EVENT_CAN_QUEUE,
                                         .handle = handle,
                                         .generation = end->generation,
                                         .bytes = frame_copy(burst, taken),
                                         .size = taken});
    return taken;
}

static uint64_t can_sent(void *self, int handle)
{
    const struct ebi_sim_virtual *v = self;
    return v->ends[handle].can->sent;
}

static enum eb_status can_receive(void *self, int handle, struct eb_can_frame *frames, size_t cap,
                                  size_t *received)
{
    struct ebi_sim_virtual *v = self;
    struct can_end *c = v->ends[handle].can;
    *received = 0;
    while (*received < cap && c->count > 0) {
        frames[(*received)++] = c->received[c->first];
        c->first = (c->first + 1) % RECEIVED_MAX;
        c->count--;
    }
    if (*received > 0)
        return EB_OK;
    return c->gone ? EB_UNREACHABLE : EB_PENDING;
}

static void can_state(void *self, int handle, struct eb_can_state *state)
{
    struct ebi_sim_virtual *v = self;
    struct ebi_sim_bus *bus = v->ends[handle].can->bus;
    const struct ebi_sim_station *s = station_of(bus);
    *state = adapter_of(v, bus)->state;
    state->bit_rate = s->bit_rate;
    state->listen_only = s->listen_only;
    state->mode = v->ends[handle].can->off ? EB_CAN_BUS_OFF : ebi_sim_station_mode(s);
    state->sent_is_proof = true;
    state->has_counters = true;
    state->tx_errors = (uint16_t)s->tec;
    state->rx_errors = (uint16_t)s->rec;
}

void ebi_sim_virtual_can_free(struct ebi_sim_virtual *v, struct end *end)
{
    struct can_end *c = end->can;
    if (c == NULL)
        return;
    struct can_adapter *a = adapter_of(v, c->bus);
    if (!c->gone && --a->handles == 0)
        ebi_sim_bus_switch(c->bus, c->bus->adapters[0], false);
    for (uint64_t i = c->sent; i < c->given && !c->gone && a->handles > 0; i++)
        eb_can_pace_sent(&a->pace); /* nobody will be told of these */
    size_t at = 0;
    while (a->open[at] != (int)(end - v->ends))
        at++;
    a->open_count--;
    memmove(a->open + at, a->open + at + 1, (a->open_count - at) * sizeof *a->open);
    free(c->received);
    free(c);
    end->can = NULL;
}

static const struct eb_port_can can_group = {sizeof can_group, can_open,  can_send,         can_sent,
                                             can_receive,      can_state, ebi_sim_close_end};

void ebi_sim_virtual_can_open(struct ebi_sim_virtual *v)
{
    const struct ebi_sim_can_hooks hooks = {v, heard, sent, faulted, lost, later, fate_of};
    v->bus_us = EB_NEVER;
    v->adapters = ebi_sim_grow(NULL, v->sim->bus_count + 1, sizeof *v->adapters);
    memset(v->adapters, 0, (v->sim->bus_count + 1) * sizeof *v->adapters);
    ebi_sim_can_open(v->sim, &hooks);
    if (v->sim->bus_count == 0)
        return;
    v->port.can = &can_group;
}

void ebi_sim_virtual_can_close(struct ebi_sim_virtual *v)
{
    for (size_t b = 0; b < v->sim->bus_count; b++)
        free(v->adapters[b].open);
    free(v->adapters);
}
