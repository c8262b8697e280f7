#include "can_bus.h"

#include <string.h>

enum {
    ERROR_FRAME_BITS = 23, /* flag 6 to 12, delimiter 8, intermission 3 */
    PASSIVE = 128,
    BUS_OFF = 256,
    PASSIVE_BACK = 120, /* a receiver's counter after a good frame, where it was passive */
    RECOVERY_BITS = 128 * 11,
    DEVICE_RESTART_MS = 250 /* until a device's program asks its controller to come back */
};

static uint64_t bits_ns(const struct ebi_sim_bus *bus, uint32_t bit_rate, unsigned bits)
{
    uint32_t rate = bit_rate != 0 ? bit_rate : bus->bit_rate;
    return (uint64_t)bits * 1000000000U / rate;
}

enum eb_can_mode ebi_sim_station_mode(const struct ebi_sim_station *s)
{
    unsigned most = s->tec > s->rec ? s->tec : s->rec;
    return s->bus_off        ? EB_CAN_BUS_OFF
           : most >= PASSIVE ? EB_CAN_PASSIVE
           : most >= 96      ? EB_CAN_WARNING
                             : EB_CAN_ACTIVE;
}

size_t ebi_sim_bus_join(struct ebi_sim_bus *bus, struct ebi_sim_device *device, uint32_t bit_rate)
{
    if (bus->count == 0)
        bus->end_ns = EB_NEVER;
    if (bus->count == EBI_SIM_STATIONS_MAX)
        return EBI_SIM_STATIONS_MAX;
    struct ebi_sim_station *s = &bus->stations[bus->count];
    *s = (struct ebi_sim_station){.device = device, .bit_rate = bit_rate, .back_ns = EB_NEVER};
    if (device == NULL && bus->adapter_count < EBI_SIM_ADAPTERS_MAX)
        bus->adapters[bus->adapter_count++] = bus->count;
    return bus->count++;
}

bool ebi_sim_bus_send(struct ebi_sim_bus *bus, size_t station, const struct ebi_sim_can_tx *tx)
{
    struct ebi_sim_station *s = &bus->stations[station];
    if (!s->on || s->listen_only || s->count == EBI_SIM_STATION_QUEUE)
        return false;
    s->queue[(s->first + s->count++) % EBI_SIM_STATION_QUEUE] = *tx;
    return true;
}

void ebi_sim_bus_switch(struct ebi_sim_bus *bus, size_t station, bool on)
{
    struct ebi_sim_station *s = &bus->stations[station];
    s->on = on;
    s->count = 0;
    s->tec = s->rec = 0;
    s->bus_off = false;
    s->back_ns = EB_NEVER;
}

/* The order of arbitration: the lower one wins.  A data frame wins over a remote one, 11 bits over 29. */
static uint64_t rank(const struct eb_can_frame *f)
{
    uint64_t remote = (f->flags & EB_CAN_REMOTE) != 0;
    if ((f->flags & EB_CAN_EXTENDED) == 0)
        return (uint64_t)f->id << 21 | remote << 20;
    return (uint64_t)(f->id >> 18) << 21 | 3U << 19 | (uint64_t)(f->id & 0x3FFFF) << 1 | remote;
}

static bool same(const struct eb_can_frame *a, const struct eb_can_frame *b)
{
    return a->id == b->id && a->flags == b->flags && a->size == b->size &&
           memcmp(a->data, b->data, a->size) == 0;
}

static const struct ebi_sim_can_tx *next_of(const struct ebi_sim_station *s)
{
    return s->on && !s->bus_off && s->count > 0 ? &s->queue[s->first] : NULL;
}

/* --- what goes wrong ----------------------------------------------------------------------------- */

static bool happens(const struct ebi_sim_bus *bus, uint64_t ppm)
{
    return ppm > 0 && bus->random(bus->self) % 1000000 < ppm;
}

/* Reflections at an open end: the faster, the worse. */
static uint64_t reflection_ppm(const struct ebi_sim_bus *bus, uint32_t bit_rate)
{
    uint64_t kbit = bit_rate / 1000;
    if (bus->terminators == 2)
        return 0;
    if (bus->terminators == 1)
        return kbit >= 500 ? 200000 : kbit >= 250 ? 60000 : 4000;
    if (bus->terminators == 0)
        return kbit >= 500 ? 950000 : kbit >= 250 ? 500000 : 60000;
    return 20000; /* too many pull the levels down */
}

/* Whether a station with another bit rate, hearing nothing but errors, destroys the frame with its flags. */
static bool trampled(struct ebi_sim_bus *bus, uint32_t bit_rate)
{
    bool any = false;
    for (size_t i = 0; i < bus->count; i++) {
        struct ebi_sim_station *s = &bus->stations[i];
        if (!s->on || s->bus_off || s->bit_rate == bit_rate)
            continue;
        any = any || (!s->listen_only && s->rec < PASSIVE);
        if (s->rec < 2 * PASSIVE)
            s->rec += 8;
        if (s->device == NULL)
            bus->faulted(bus->self, bus, i, EB_CAN_FAULT_STUFF, bus->end_ns);
    }
    return any;
}

static bool acknowledged(const struct ebi_sim_bus *bus, uint32_t bit_rate)
{
    for (size_t i = 0; i < bus->count; i++) {
        const struct ebi_sim_station *s = &bus->stations[i];
        bool sends = false;
        for (size_t k = 0; k < bus->sender_count; k++)
            sends = sends || bus->senders[k] == i;
        if (!sends && s->on && !s->bus_off && !s->listen_only && s->bit_rate == bit_rate)
            return true;
    }
    return false;
}

/* --- a frame ------------------------------------------------------------------------------------- */

static void begin(struct ebi_sim_bus *bus, uint64_t at_ns)
{
    uint64_t best = UINT64_MAX;
    bool collides = false;
    bus->sender_count = 0;
    for (size_t i = 0; i < bus->count; i++) {
        const struct ebi_sim_can_tx *tx = next_of(&bus->stations[i]);
        if (tx != NULL && tx->ready_ns <= at_ns && rank(&tx->frame) < best) {
            best = rank(&tx->frame);
            bus->on_wire = *tx;
        }
    }
    for (size_t i = 0; i < bus->count; i++) {
        const struct ebi_sim_can_tx *tx = next_of(&bus->stations[i]);
        if (tx != NULL && tx->ready_ns <= at_ns && rank(&tx->frame) == best) {
            bus->senders[bus->sender_count++] = i;
            collides = collides || !same(&tx->frame, &bus->on_wire.frame);
        }
    }
    const struct ebi_sim_station *s = &bus->stations[bus->senders[0]];
    unsigned bits = eb_can_bits(&bus->on_wire.frame);
    bus->end_ns = at_ns + bits_ns(bus, s->bit_rate, bits);
    memset(&bus->fate, 0, sizeof bus->fate);
    if (bus->fate_of != NULL)
        bus->fate = bus->fate_of(bus->self, bus, bus->senders[0], &bus->on_wire.frame);
    bus->fault = -1;
    if (trampled(bus, s->bit_rate) || collides || bus->fate.destroyed || bus->fate.bus_off ||
        happens(bus, reflection_ppm(bus, s->bit_rate)) || happens(bus, s->sick_ppm))
        bus->fault = EB_CAN_FAULT_BIT;
    else if (happens(bus, bus->noise_ppm))
        bus->fault = (int)(bus->random(bus->self) % 3) + EB_CAN_FAULT_STUFF;
    else if (!acknowledged(bus, s->bit_rate))
        bus->fault = EB_CAN_FAULT_ACK;
    if (bus->fault >= 0 && bus->fault != EB_CAN_FAULT_ACK)
        bus->end_ns = at_ns + bits_ns(bus, s->bit_rate, bits / 2 + ERROR_FRAME_BITS);
    bus->free_ns = bus->end_ns;
    bus->busy_ns += bus->end_ns - at_ns;
}

static void went_wrong(struct ebi_sim_bus *bus, uint64_t at_ns)
{
    uint32_t bit_rate = bus->stations[bus->senders[0]].bit_rate;
    for (size_t i = 0; i < bus->count; i++) {
        struct ebi_sim_station *s = &bus->stations[i];
        bool sends = false;
        for (size_t k = 0; k < bus->sender_count; k++)
            sends = sends || bus->senders[k] == i;
        if (!s->on || s->bus_off || s->bit_rate != bit_rate)
            continue;
        if (sends) {
            /* Alone on the bus a passive station goes on without counting: it must not fall off for that. */
            if (bus->fault != EB_CAN_FAULT_ACK || s->tec < PASSIVE)
                s->tec += 8;
            if (bus->fate.bus_off)
                s->tec = BUS_OFF;
        } else if (bus->fault != EB_CAN_FAULT_ACK && s->rec < 2 * PASSIVE) {
            s->rec += 1;
        }
        if (s->tec >= BUS_OFF) {
            s->bus_off = true;
            s->count = 0;
            s->back_ns = s->device != NULL
                             ? at_ns + DEVICE_RESTART_MS * 1000000ULL + bits_ns(bus, bit_rate, RECOVERY_BITS)
                             : EB_NEVER;
        }
        if (s->device == NULL && (sends || bus->fault != EB_CAN_FAULT_ACK))
            bus->faulted(bus->self, bus, i,
                         s->bus_off                                ? EB_CAN_FAULT_BUS_OFF
                         : sends || bus->fault != EB_CAN_FAULT_BIT ? (enum eb_can_fault)bus->fault
                                                                   : EB_CAN_FAULT_FORM,
                         at_ns);
    }
}

static void went_well(struct ebi_sim_bus *bus, uint64_t at_ns)
{
    const struct ebi_sim_can_tx tx = bus->on_wire;
    uint32_t bit_rate = bus->stations[bus->senders[0]].bit_rate;
    struct eb_can_frame heard = tx.frame;
    heard.at_us = at_ns / 1000;
    if (bus->fate.garbled && heard.size > 0)
        heard.data[bus->random(bus->self) % heard.size] ^= (uint8_t)(1U << bus->random(bus->self) % 8);
    bus->frames++;
    for (size_t k = 0; k < bus->sender_count; k++) {
        struct ebi_sim_station *s = &bus->stations[bus->senders[k]];
        const struct ebi_sim_can_tx own = s->queue[s->first];
        s->first = (s->first + 1) % EBI_SIM_STATION_QUEUE;
        s->count--;
        s->tec -= s->tec > 0;
        if (s->device == NULL)
            bus->sent(bus->self, bus, bus->senders[k], &own, at_ns);
    }
    for (size_t i = 0; i < bus->count; i++) {
        struct ebi_sim_station *s = &bus->stations[i];
        bool sends = false;
        for (size_t k = 0; k < bus->sender_count; k++)
            sends = sends || bus->senders[k] == i;
        if (sends || !s->on || s->bus_off || s->bit_rate != bit_rate)
            continue;
        s->rec = s->rec > 127 ? PASSIVE_BACK : s->rec - (s->rec > 0);
        for (int copies = bus->fate.unheard ? 0 : bus->fate.doubled ? 2 : 1; copies > 0; copies--)
            bus->heard(bus->self, bus, i, &heard, at_ns + bus->fate.late_us * 1000);
    }
}

/* ------------------------------------------------------------------------------------------------- */

static uint64_t next_ready_ns(const struct ebi_sim_bus *bus)
{
    uint64_t next = EB_NEVER;
    for (size_t i = 0; i < bus->count; i++) {
        const struct ebi_sim_can_tx *tx = next_of(&bus->stations[i]);
        if (tx != NULL && tx->ready_ns < next)
            next = tx->ready_ns;
    }
    return next != EB_NEVER && next < bus->free_ns ? bus->free_ns : next;
}

static void come_back(struct ebi_sim_bus *bus, uint64_t now_ns)
{
    for (size_t i = 0; i < bus->count; i++) {
        struct ebi_sim_station *s = &bus->stations[i];
        if (s->back_ns <= now_ns) {
            ebi_sim_bus_switch(bus, i, s->on);
            bus->faulted(bus->self, bus, i, EB_CAN_FAULT_OTHER, now_ns);
        }
    }
}

void ebi_sim_bus_run(struct ebi_sim_bus *bus, uint64_t now_ns)
{
    for (;;) {
        come_back(bus, now_ns);
        if (bus->end_ns != EB_NEVER) {
            uint64_t at_ns = bus->end_ns;
            if (at_ns > now_ns)
                return;
            bus->end_ns = EB_NEVER;
            /* Whoever was switched off meanwhile has cut its own frame short. */
            const struct ebi_sim_can_tx *sending = next_of(&bus->stations[bus->senders[0]]);
            if (sending == NULL || !same(&sending->frame, &bus->on_wire.frame))
                continue;
            if (bus->fault >= 0)
                went_wrong(bus, at_ns);
            else
                went_well(bus, at_ns);
        }
        uint64_t next_ns = next_ready_ns(bus);
        if (next_ns > now_ns)
            return;
        begin(bus, next_ns);
    }
}

uint64_t ebi_sim_bus_deadline_ns(const struct ebi_sim_bus *bus)
{
    uint64_t next = bus->end_ns != EB_NEVER ? bus->end_ns : next_ready_ns(bus);
    for (size_t i = 0; i < bus->count; i++) {
        if (bus->stations[i].back_ns < next)
            next = bus->stations[i].back_ns;
    }
    return next;
}
