/* Events in their order, and wires: what is lost, late, doubled or garbled on them, and when it arrives. */
#include "packet.h"
#include "virtual.h"
#include <signal.h>
#include <stdlib.h>
#include <string.h>

enum {
    TCP_HEAD_BYTES = 40,
    FRAME_BYTES = 38, /* preamble 8, Ethernet head 14, check 4, gap 12 */
    LATE_US = 30000,
    POWER_BACK_US = 5000000,
};

/* --- events -------------------------------------------------------------------------------------- */

static bool before(const struct event *a, const struct event *b)
{
    return a->at_us != b->at_us ? a->at_us < b->at_us : a->age < b->age;
}

void ebi_sim_push_event(struct ebi_sim_virtual *v, struct event event)
{
    if (v->heap_size == v->heap_cap) {
        v->heap_cap = v->heap_cap == 0 ? 256 : 2 * v->heap_cap;
        v->heap = ebi_sim_grow(v->heap, v->heap_cap, sizeof *v->heap);
    }
    event.age = v->age++;
    size_t i = v->heap_size++;
    while (i > 0 && before(&event, &v->heap[(i - 1) / 2])) {
        v->heap[i] = v->heap[(i - 1) / 2];
        i = (i - 1) / 2;
    }
    v->heap[i] = event;
}

struct event ebi_sim_pop_event(struct ebi_sim_virtual *v)
{
    struct event top = v->heap[0];
    struct event last = v->heap[--v->heap_size];
    size_t i = 0;
    for (;;) {
        size_t child = 2 * i + 1;
        if (child >= v->heap_size)
            break;
        if (child + 1 < v->heap_size && before(&v->heap[child + 1], &v->heap[child]))
            child++;
        if (!before(&v->heap[child], &last))
            break;
        v->heap[i] = v->heap[child];
        i = child;
    }
    if (v->heap_size > 0)
        v->heap[i] = last;
    return top;
}

void ebi_sim_wake_later(struct ebi_sim_virtual *v, struct ebi_sim_device *d)
{
    for (struct ebi_sim_device *m = d->modules; m != NULL; m = m->next_module)
        ebi_sim_wake_later(v, m);
    uint64_t at_us = ebi_sim_device_deadline_us(d);
    size_t index = (size_t)(d - v->sim->devices);
    if (at_us == EB_NEVER || v->woken[index] <= at_us)
        return;
    v->woken[index] = at_us;
    ebi_sim_push_event(
        v, (struct event){.at_us = at_us > v->now_us ? at_us : v->now_us, .kind = EVENT_WAKE, .device = d});
}

/* --- wires --------------------------------------------------------------------------------------- */

static bool happens(struct eb_sim *sim, uint32_t ppm)
{
    return ppm > 0 && ebi_sim_random(sim) % 1000000 < ppm;
}

struct ebi_sim_wire *ebi_sim_wire_of(struct ebi_sim_virtual *v, const struct ebi_sim_device *d)
{
    for (size_t i = 0; i < v->sim->wire_count; i++) {
        if (strcmp(v->sim->wires[i].name, d->wire) == 0)
            return &v->sim->wires[i];
    }
    return &v->sim->wires[0];
}

/* Radio of a worse quality loses more: a tenth of all frames at half the quality. */
static bool lost_in_the_air(const struct ebi_sim_virtual *v, const struct ebi_sim_wire *w)
{
    for (size_t i = 0; i < v->sim->laptop_count; i++) {
        const struct ebi_sim_laptop_link *l = &v->sim->laptop[i];
        if (l->link.kind == EB_LINK_WIRELESS && l->link.quality_percent > 0 && strcmp(l->wire, w->name) == 0)
            return happens(v->sim, (100U - l->link.quality_percent) * 2000U);
    }
    return false;
}

/* What the world's description has the laptop's process undergo.  Whatever ends it, the devices live on as
 * they are at this moment. */
static void signal_the_laptop(const struct ebi_sim_virtual *v)
{
    struct eb_problem problem;
    if (v->sim->state_dir[0] != '\0')
        ebi_sim_state_save(v->sim, &problem);
    raise(v->sim->laptop_signal);
}

struct fate ebi_sim_next_fault(struct ebi_sim_virtual *v, struct ebi_sim_device *d, struct ebi_sim_bus *bus)
{
    struct fate fate = {0};
    uint64_t frame = v->frames++;
    if (v->sim->laptop_signal != 0 && frame == v->sim->laptop_frame)
        signal_the_laptop(v);
    for (size_t i = 0; i < v->fault_count; i++) {
        if (v->faults[i].frame != frame)
            continue;
        switch (v->faults[i].kind) {
        case EB_SIM_LOST:
            fate.lost = true;
            break;
        case EB_SIM_GARBLED:
            fate.garbled = true;
            break;
        case EB_SIM_DOUBLED:
            fate.doubled = true;
            break;
        case EB_SIM_LATE:
            fate.extra_us = LATE_US;
            break;
        case EB_SIM_GARBLED_UNSEEN:
            fate.unseen = true;
            break;
        case EB_SIM_BUS_OFF:
            fate.bus_off = bus != NULL;
            break;
        case EB_SIM_ADAPTER_LOST:
            if (bus != NULL) {
                ebi_sim_bus_plug(v->sim, bus, false);
                bus->plug_us = v->now_us + POWER_BACK_US;
            }
            break;
        case EB_SIM_STALLED:
            fate.stalled = true;
            break;
        case EB_SIM_STATUS_ERROR:
            fate.status_error = true;
            break;
        case EB_SIM_UNPLUGGED:
        case EB_SIM_MOVED:
            fate.unplugged = d != NULL && d->usb.is_usb;
            if (fate.unplugged)
                ebi_sim_virtual_usb_pull(v, d, v->faults[i].kind == EB_SIM_MOVED);
            break;
        case EB_SIM_GATEWAY_LOST:
        case EB_SIM_POWER_LOST:
            if (v->faults[i].kind == EB_SIM_GATEWAY_LOST)
                d = bus != NULL ? bus->gateway : NULL;
            fate.garbled = true;
            if (d == NULL)
                break;
            ebi_sim_device_power(d, false);
            d->power_back_us = v->now_us + POWER_BACK_US;
            ebi_sim_wake_later(v, d);
            break;
        }
    }
    return fate;
}

/* What happens to the next frame between the laptop and `d`. */
struct fate ebi_sim_next_fate(struct ebi_sim_virtual *v, struct ebi_sim_wire *w, struct ebi_sim_device *d)
{
    bool lost = happens(v->sim, w->lost_ppm) || happens(v->sim, w->garbled_ppm) || lost_in_the_air(v, w);
    bool doubled = happens(v->sim, w->doubled_ppm);
    bool unseen = happens(v->sim, w->garbled_unseen_ppm);
    uint64_t extra_us = happens(v->sim, w->reordered_ppm) ? 2 * w->latency_us + 1000 : 0;
    if (w->jitter_us > 0)
        extra_us += ebi_sim_random(v->sim) % w->jitter_us;
    struct fate fate = ebi_sim_next_fault(v, d, NULL);
    fate.lost = fate.lost || fate.garbled || lost;
    fate.doubled = fate.doubled || doubled;
    fate.unseen = fate.unseen || unseen;
    fate.extra_us = fate.extra_us > 0 ? fate.extra_us : extra_us;
    return fate;
}

/* When a packet of `size` bytes that is sent now has arrived, microseconds. */
uint64_t ebi_sim_carry(const struct ebi_sim_virtual *v, struct ebi_sim_wire *w, struct ebi_sim_cable *cable,
                       size_t size)
{
    uint64_t fragments = (size + w->mtu_bytes - 1) / w->mtu_bytes;
    uint64_t takes_ns = 8 * (size + fragments * FRAME_BYTES) * 1000000 / w->rate_kbit_per_s;
    uint64_t now_ns = v->now_us * 1000;
    cable->free_ns = (cable->free_ns > now_ns ? cable->free_ns : now_ns) + takes_ns;
    cable->busy_ns += takes_ns;
    return cable->free_ns / 1000 + w->latency_us;
}

uint8_t *ebi_sim_copy_of(const uint8_t *bytes, size_t size)
{
    uint8_t *copy = ebi_sim_grow(NULL, size + 1, 1);
    if (size > 0)
        memcpy(copy, bytes, size);
    return copy;
}

static void damage(struct ebi_sim_virtual *v, uint8_t *bytes, size_t size)
{
    /* Beyond the head of a message, where it has a body: the body is what nobody else looks after. */
    size_t from = size > 8 ? 4 : 0;
    if (size > 0)
        bytes[from + ebi_sim_random(v->sim) % (size - from)] ^= (uint8_t)(1U << ebi_sim_random(v->sim) % 8);
}

/* What becomes of a frame on the wire: it arrives as `event` says, not at all, twice, or damaged. */
void ebi_sim_deliver(struct ebi_sim_virtual *v, const struct fate *fate, struct event event,
                     const uint8_t *bytes, size_t size)
{
    for (int copies = fate->lost ? 0 : fate->doubled ? 2 : 1; copies > 0; copies--) {
        event.bytes = ebi_sim_copy_of(bytes, size);
        event.size = size;
        if (fate->unseen)
            damage(v, event.bytes, size);
        ebi_sim_push_event(v, event);
        event.at_us += 5;
    }
}

/* Sends one datagram; `event` says what its arrival is. */
void ebi_sim_send_datagram(struct ebi_sim_virtual *v, struct ebi_sim_device *d, bool up, struct event event,
                           const uint8_t *bytes, size_t size)
{
    struct ebi_sim_wire *w = ebi_sim_wire_of(v, d);
    struct fate fate = ebi_sim_next_fate(v, w, d);
    event.at_us = ebi_sim_carry(v, w, up ? &w->up : &w->down, size + UDP_HEAD_BYTES) + fate.extra_us;
    ebi_sim_deliver(v, &fate, event, bytes, size);
}

/* Sends one TCP segment: it arrives, sooner or later, in its order. */
void ebi_sim_send_segment(struct ebi_sim_virtual *v, struct end *end, bool up, struct event event,
                          const uint8_t *bytes, size_t size)
{
    struct ebi_sim_wire *w = ebi_sim_wire_of(v, end->device);
    struct fate fate = ebi_sim_next_fate(v, w, end->device);
    uint64_t resend_us = RESEND_US;
    uint64_t at_us = ebi_sim_carry(v, w, up ? &w->up : &w->down, size + TCP_HEAD_BYTES) + fate.extra_us;
    uint64_t *last_us = up ? &end->up_last_us : &end->down_last_us;
    for (int tries = 0; fate.lost && tries < RESENDS_MAX; tries++) {
        at_us += resend_us;
        resend_us *= 2;
        fate.lost = happens(v->sim, w->lost_ppm);
    }
    event.at_us = at_us > *last_us ? at_us : *last_us;
    *last_us = event.at_us;
    event.bytes = ebi_sim_copy_of(bytes, size);
    event.size = size;
    if (fate.unseen)
        damage(v, event.bytes, size);
    event.handle = (int)(end - v->ends);
    event.generation = end->generation;
    event.device = end->device;
    ebi_sim_push_event(v, event);
}

void ebi_sim_send_stream(struct ebi_sim_virtual *v, int handle, bool up, const uint8_t *bytes, size_t size)
{
    size_t most = ebi_sim_wire_of(v, v->ends[handle].device)->segment_bytes;
    while (size > 0) {
        size_t n = size < most ? size : most;
        ebi_sim_send_segment(v, &v->ends[handle], up,
                             (struct event){.kind = up ? EVENT_TCP_UP : EVENT_TCP_DOWN}, bytes, n);
        bytes += n;
        size -= n;
    }
}
