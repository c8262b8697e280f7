/* The buses of a world, and what their stations are to its devices. */
#include "server.h"
#include "world.h"

#include <string.h>

#include "wire/canopen_wire.h"

/* --- what a bus tells ---------------------------------------------------------------------------- */

static uint64_t bus_random(void *self)
{
    return ebi_sim_random(self);
}

static void bus_heard(void *self, struct ebi_sim_bus *bus, size_t station, const struct eb_can_frame *frame,
                      uint64_t at_ns)
{
    struct eb_sim *sim = self;
    struct ebi_sim_device *d = bus->stations[station].device;
    if (d == NULL)
        sim->can.heard(sim->can.self, bus, station, frame, at_ns / 1000);
    else if (at_ns / 1000 > d->net->now_us(d->net->self) && sim->can.later != NULL)
        sim->can.later(sim->can.self, d, frame, at_ns / 1000);
    else
        ebi_sim_can_frame(d, frame);
}

static void bus_sent(void *self, struct ebi_sim_bus *bus, size_t station, const struct ebi_sim_can_tx *tx,
                     uint64_t at_ns)
{
    struct eb_sim *sim = self;
    (void)station;
    sim->can.sent(sim->can.self, bus, tx, at_ns / 1000);
}

static void bus_faulted(void *self, struct ebi_sim_bus *bus, size_t station, enum eb_can_fault fault,
                        uint64_t at_ns)
{
    struct eb_sim *sim = self;
    struct ebi_sim_device *d = bus->stations[station].device;
    if (d == NULL)
        sim->can.faulted(sim->can.self, bus, station, fault, at_ns / 1000);
    else
        ebi_sim_can_recovered(d);
}

static struct ebi_sim_can_fate bus_fate(void *self, struct ebi_sim_bus *bus, size_t sender,
                                        const struct eb_can_frame *frame)
{
    struct eb_sim *sim = self;
    return sim->can.fate_of(sim->can.self, bus, sender, frame);
}

void ebi_sim_can_open(struct eb_sim *sim, const struct ebi_sim_can_hooks *hooks)
{
    sim->can = *hooks;
    for (size_t b = 0; b < sim->bus_count; b++) {
        struct ebi_sim_bus *bus = &sim->buses[b];
        bus->self = sim;
        bus->plug_us = EB_NEVER;
        bus->random = bus_random;
        bus->heard = bus_heard;
        bus->sent = bus_sent;
        bus->faulted = bus_faulted;
        bus->fate_of = hooks->fate_of != NULL ? bus_fate : NULL;
        for (size_t i = 0; i < EBI_SIM_ADAPTERS_MAX; i++)
            ebi_sim_bus_join(bus, NULL, bus->bit_rate);
    }
    for (size_t i = 0; i < sim->count; i++) {
        struct ebi_sim_device *d = &sim->devices[i];
        if (d->can.bus == NULL)
            continue;
        d->can.station = ebi_sim_bus_join(d->can.bus, d, d->can.own_bit_rate);
        d->can.bus->stations[d->can.station].sick_ppm = d->can.sick_ppm;
    }
}

static uint64_t bus_next_us(const struct ebi_sim_bus *bus)
{
    uint64_t ns = bus->count > 0 ? ebi_sim_bus_deadline_ns(bus) : EB_NEVER;
    uint64_t us = ns == EB_NEVER ? EB_NEVER : (ns + 999) / 1000;
    return bus->plug_us < us ? bus->plug_us : us;
}

bool ebi_sim_can_run(struct eb_sim *sim, struct ebi_sim_bus *bus, uint64_t now_us)
{
    if (bus_next_us(bus) > now_us)
        return false;
    if (bus->plug_us <= now_us) {
        bus->plug_us = EB_NEVER;
        ebi_sim_bus_plug(sim, bus, true);
    }
    ebi_sim_bus_run(bus, now_us * 1000);
    return true;
}

uint64_t ebi_sim_can_next_us(const struct eb_sim *sim)
{
    uint64_t next_us = EB_NEVER;
    for (size_t b = 0; b < sim->bus_count; b++) {
        uint64_t us = bus_next_us(&sim->buses[b]);
        next_us = us < next_us ? us : next_us;
    }
    return next_us;
}

bool ebi_sim_bus_has_adapter(const struct ebi_sim_bus *bus)
{
    const struct ebi_sim_device *d = bus->gateway;
    bool there = d == NULL || !d->usb.is_usb ? d == NULL || ebi_sim_device_alive(d)
                                             : d->mode == EB_SIM_RUNNING && ebi_sim_usb_there(d);
    return there && !bus->unplugged;
}

static void lose_adapter(struct eb_sim *sim, struct ebi_sim_bus *bus)
{
    for (size_t i = 0; i < bus->adapter_count; i++)
        ebi_sim_bus_switch(bus, bus->adapters[i], false);
    sim->can.lost(sim->can.self, bus);
}

void ebi_sim_bus_plug(struct eb_sim *sim, struct ebi_sim_bus *bus, bool in)
{
    bus->unplugged = !in;
    if (!in)
        lose_adapter(sim, bus);
}

/* --- what a device asks of its bus --------------------------------------------------------------- */

void ebi_sim_can_send(struct ebi_sim_device *d, const struct eb_can_frame *frame, uint64_t delay_us)
{
    const struct ebi_sim_can_tx tx = {.frame = *frame,
                                      .ready_ns = (d->net->now_us(d->net->self) + delay_us) * 1000};
    ebi_sim_bus_send(d->can.bus, d->can.station, &tx);
}

void ebi_sim_can_frame(struct ebi_sim_device *d, const struct eb_can_frame *frame)
{
    if (!ebi_sim_device_alive(d))
        return;
    if (d->can.is_canopen)
        ebi_sim_canopen_frame(d, frame);
    if (d->can.is_uds)
        ebi_sim_uds_frame(d, frame);
}

void ebi_sim_can_gateway(const struct ebi_sim_device *d)
{
    struct eb_sim *sim = d->sim;
    for (size_t b = 0; sim != NULL && b < sim->bus_count; b++) {
        if (sim->buses[b].gateway == d && sim->buses[b].count > 0 && !ebi_sim_bus_has_adapter(&sim->buses[b]))
            lose_adapter(sim, &sim->buses[b]);
    }
}

static void alive(struct ebi_sim_device *d, bool on)
{
    if (!on)
        ebi_sim_can_gateway(d);
    if (d->can.bus == NULL || d->can.bus->count == 0)
        return;
    struct ebi_sim_station *s = &d->can.bus->stations[d->can.station];
    if (!on)
        d->can.canopen.lss_node = 0, d->can.canopen.lss_bit_rate = 0;
    s->bit_rate = d->mode == EB_SIM_LOADER ? d->can.loader_bit_rate : d->can.own_bit_rate;
    ebi_sim_bus_switch(d->can.bus, d->can.station, on);
    if (on && d->can.is_canopen)
        ebi_sim_canopen_alive(d);
    if (on && d->can.is_uds)
        ebi_sim_uds_alive(d);
}

void ebi_sim_can_recovered(struct ebi_sim_device *d)
{
    /* CiA 301 table 29: 8140h, recovered from bus-off; error register 11h: generic and communication */
    struct eb_can_frame frame = {
        .id = CO_EMERGENCY + (unsigned)d->can.canopen.here, .size = 8, .data = {0x40, 0x81, 0x11}};
    if (d->can.is_canopen)
        ebi_sim_can_send(d, &frame, 0);
}

static void tick(struct ebi_sim_device *d)
{
    if (d->can.bus == NULL || d->can.bus->count == 0)
        return;
    if (d->can.is_canopen)
        ebi_sim_canopen_tick(d);
    if (d->can.is_uds)
        ebi_sim_uds_tick(d);
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    uint64_t next_us = EB_NEVER;
    if (d->can.bus == NULL || d->can.bus->count == 0)
        return EB_NEVER;
    if (d->can.is_canopen)
        next_us = ebi_sim_canopen_deadline_us(d);
    if (d->can.is_uds && ebi_sim_uds_deadline_us(d) < next_us)
        next_us = ebi_sim_uds_deadline_us(d);
    return next_us;
}

bool ebi_sim_can_meant(const struct ebi_sim_device *d, const struct eb_can_frame *f)
{
    if (d->can.is_uds && f->id == d->can.uds.request)
        return true;
    bool node = f->id >= CO_SDO_REQUEST && (f->flags & EB_CAN_EXTENDED) == 0
                    ? (f->id & CO_NODE) == d->can.canopen.here
                    : f->id == CO_NMT && f->data[1] == d->can.canopen.here;
    return d->can.is_canopen && node;
}

const struct ebi_sim_server ebi_sim_can = {.alive = alive, .tick = tick, .deadline_us = deadline_us};
