/* The simulated port's USB: one bus at full speed, its packets counted, with hubs, sockets and what is
 * plugged in. */
#include "virtual.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    TRANSACTION_NS =
        24667,     /* what a transaction takes beside its data: 37 bytes for three (USB 2.0 table 5-2) */
    BYTE_NS = 667, /* 8 bits at 12 Mbit/s */
    PACKET_BYTES = 64,
    RESET_US = 50000, /* USB 2.0 section 7.1.7.5: TDRSTR of a root hub */
    PLUG_BACK_US = 5000000
};

struct usb_end {
    struct ebi_sim_device *device; /* NULL: it only watches */
    uint8_t address;
    bool claimed, gone, pending, answered;
    enum eb_status status;
    struct eb_usb_setup setup;
    uint8_t *bytes;
    size_t size;
    uint64_t turn; /* of the transfer under way, so that older events are told apart */
};

/* --- what comes and goes ------------------------------------------------------------------------- */

static void changed(void *self, struct ebi_sim_device *d)
{
    struct ebi_sim_virtual *v = self;
    for (int i = 0; i < v->end_cap; i++) {
        struct usb_end *u = v->ends[i].used ? v->ends[i].usb : NULL;
        if (u == NULL)
            continue;
        if (u->device == d && u->address != d->usb.address) {
            u->gone = true;
            u->pending = false;
        }
        if (u->device == NULL || u->device == d)
            ebi_sim_set_ready(v, &v->ends[i]);
    }
}

static const struct ebi_sim_hub *hub_at(const struct ebi_sim_virtual *v, size_t index)
{
    for (size_t i = 0; i < v->sim->hub_count; i++) {
        if (!v->sim->hubs[i].off && index-- == 0)
            return &v->sim->hubs[i];
    }
    return NULL;
}

static bool device_at(void *self, size_t index, struct eb_usb_device *to)
{
    struct ebi_sim_virtual *v = self;
    for (size_t i = 0; i < v->sim->count; i++) {
        if (!ebi_sim_usb_there(&v->sim->devices[i]) || index-- != 0)
            continue;
        ebi_sim_usb_describe(&v->sim->devices[i], to);
        return true;
    }
    const struct ebi_sim_hub *hub = hub_at(v, index);
    if (hub == NULL)
        return false;
    *to = (struct eb_usb_device){.bus = (uint16_t)(hub->place[0] - '0'),
                                 .address = hub->address,
                                 .vendor = 0x1209,
                                 .product = 0x0010,
                                 .name = "hub"};
    snprintf(to->place, sizeof to->place, "%s", hub->place);
    return true;
}

static struct usb_end *new_usb_end(struct ebi_sim_virtual *v, struct eb_waiter *waiter, int *handle)
{
    *handle = ebi_sim_new_end(v, waiter, false);
    struct usb_end *u = ebi_sim_grow(NULL, 1, sizeof *u);
    memset(u, 0, sizeof *u);
    v->ends[*handle].usb = u;
    return u;
}

static enum eb_status watch(void *self, struct eb_waiter *waiter, int *handle)
{
    new_usb_end(self, waiter, handle);
    return EB_OK;
}

static enum eb_status open_device(void *self, struct eb_waiter *waiter, const struct eb_usb_device *device,
                                  int *handle)
{
    struct ebi_sim_virtual *v = self;
    *handle = EB_NO_HANDLE;
    for (size_t i = 0; i < v->sim->count; i++) {
        struct ebi_sim_device *d = &v->sim->devices[i];
        if (!ebi_sim_usb_there(d) || d->usb.address != device->address ||
            strcmp(d->usb.place, device->place) != 0)
            continue;
        if (d->usb.denied)
            return EB_DENIED;
        struct usb_end *u = new_usb_end(v, waiter, handle);
        u->device = d;
        u->address = d->usb.address;
        return EB_OK;
    }
    return EB_UNREACHABLE;
}

static enum eb_status claim(void *self, int handle, uint8_t interface, uint8_t alternate)
{
    struct ebi_sim_virtual *v = self;
    struct usb_end *u = v->ends[handle].usb;
    const struct eb_usb_setup setup = {1, 11, alternate, interface, 0};
    size_t size = 0;
    if (u->gone)
        return EB_UNREACHABLE;
    if (v->now_us < u->device->usb.configured_us)
        return EB_PENDING;
    if (u->device->usb.busy)
        return EB_BUSY;
    for (int i = 0; i < v->end_cap; i++) {
        const struct usb_end *other = v->ends[i].used ? v->ends[i].usb : NULL;
        if (other != NULL && other != u && other->device == u->device && other->claimed)
            return EB_BUSY;
    }
    u->claimed = true;
    return ebi_sim_usb_control(u->device, &setup, NULL, &size) ? EB_OK : EB_PEER_ERROR;
}

/* --- transfers ----------------------------------------------------------------------------------- */

/* A control transfer's time on a bus at full speed: the setup, the data in packets of 64 bytes, the end. */
static uint64_t transfer_ns(size_t data)
{
    uint64_t packets = 2 + (data + PACKET_BYTES - 1) / PACKET_BYTES;
    return packets * TRANSACTION_NS / 3 + (EB_USB_SETUP_BYTES + data) * BYTE_NS;
}

static enum eb_status control(void *self, int handle, const struct eb_usb_setup *setup, const uint8_t *bytes,
                              uint32_t patience_ms)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    struct usb_end *u = end->usb;
    bool in = (setup->type & EB_USB_IN) != 0;
    if (u->gone)
        return EB_UNREACHABLE;
    if (u->pending)
        return EB_BAD_CALL;
    u->bytes = ebi_sim_grow(u->bytes, (size_t)setup->length + 512, 1);
    u->size = setup->length;
    u->setup = *setup;
    u->pending = true;
    u->answered = false;
    u->turn++;
    if (!in && setup->length > 0)
        memcpy(u->bytes, bytes, setup->length);
    /* What a device sends is known when it is asked: until then the bus is taken for the setup and what goes
     * out. */
    uint64_t now_ns = v->now_us * 1000;
    uint64_t begin_ns = now_ns > v->usb_free_ns ? now_ns : v->usb_free_ns;
    v->usb_free_ns = begin_ns + transfer_ns(in ? 0 : setup->length);
    v->usb_busy_ns += v->usb_free_ns - begin_ns;
    struct event event = {.at_us = v->usb_free_ns / 1000,
                          .kind = EVENT_USB_UP,
                          .handle = handle,
                          .generation = end->generation,
                          .size = (size_t)u->turn,
                          .device = u->device};
    ebi_sim_push_event(v, event);
    event.kind = EVENT_USB_LATE;
    event.at_us = v->now_us + patience_ms * 1000ULL;
    event.device = NULL;
    ebi_sim_push_event(v, event);
    return EB_OK;
}

static void answer(struct ebi_sim_virtual *v, const struct event *e, enum eb_status status, size_t in)
{
    struct usb_end *u = v->ends[e->handle].usb;
    uint64_t takes_ns = in > 0 ? transfer_ns(in) - transfer_ns(0) : 0;
    uint64_t now_ns = v->now_us * 1000;
    uint64_t begin_ns = now_ns > v->usb_free_ns ? now_ns : v->usb_free_ns;
    v->usb_free_ns = begin_ns + takes_ns;
    v->usb_busy_ns += takes_ns;
    v->usb_late_us += v->sim->usb_latency_us;
    u->status = status;
    ebi_sim_push_event(v, (struct event){.at_us = v->usb_free_ns / 1000 + v->sim->usb_latency_us,
                                         .kind = EVENT_USB_DOWN,
                                         .handle = e->handle,
                                         .generation = e->generation,
                                         .size = e->size});
}

/* A transfer is at the device. */
static void arrive(struct ebi_sim_virtual *v, const struct event *e)
{
    struct usb_end *u = v->ends[e->handle].usb;
    struct ebi_sim_device *d = u->device;
    bool in = (u->setup.type & EB_USB_IN) != 0;
    struct fate fate = ebi_sim_next_fault(v, d, NULL);
    if (fate.unplugged || fate.lost || u->gone)
        return;
    if (fate.stalled) {
        ebi_sim_usb_tick(d);
        ebi_sim_usb_fail(d, 15);
        answer(v, e, EB_PEER_ERROR, 0);
        return;
    }
    if (fate.unseen && !in && u->size > 0)
        u->bytes[u->size / 2] ^= 0x10;
    bool ok = ebi_sim_usb_control(d, &u->setup, u->bytes, &u->size);
    if (fate.unseen && in && ok && u->size > 0)
        u->bytes[u->size / 2] ^= 0x10;
    if (fate.status_error)
        ebi_sim_usb_fail(d, 14);
    if (fate.extra_us > 0)
        return; /* its answer comes when nobody waits for it any more */
    answer(v, e, ok ? EB_OK : EB_PEER_ERROR, in && ok ? u->size : 0);
}

void ebi_sim_virtual_usb_event(struct ebi_sim_virtual *v, const struct event *e)
{
    struct end *end = &v->ends[e->handle];
    if (!end->used || end->generation != e->generation || end->usb == NULL)
        return;
    struct usb_end *u = end->usb;
    if (!u->pending || u->answered || e->size != (size_t)u->turn)
        return;
    if (e->kind == EVENT_USB_UP) {
        arrive(v, e);
        return;
    }
    if (e->kind == EVENT_USB_RESET) {
        u->status = EB_OK;
        ebi_sim_usb_reset(u->device);
        ebi_sim_wake_later(v, u->device);
    }
    if (e->kind == EVENT_USB_LATE)
        u->status = EB_NO_ANSWER;
    u->answered = true;
    ebi_sim_set_ready(v, end);
}

static enum eb_status take_answer(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct ebi_sim_virtual *v = self;
    struct usb_end *u = v->ends[handle].usb;
    *received = 0;
    if (u->gone)
        return EB_UNREACHABLE;
    if (!u->answered)
        return EB_PENDING;
    u->answered = u->pending = false;
    if (u->status != EB_OK || (u->setup.type & EB_USB_IN) == 0)
        return u->status;
    if (u->size > cap)
        return EB_TOO_LARGE;
    memcpy(bytes, u->bytes, u->size);
    *received = u->size;
    return EB_OK;
}

static enum eb_status reset(void *self, int handle)
{
    struct ebi_sim_virtual *v = self;
    struct usb_end *u = v->ends[handle].usb;
    if (u->gone)
        return EB_UNREACHABLE;
    if (u->pending)
        return EB_BAD_CALL;
    u->setup = (struct eb_usb_setup){0};
    u->pending = true;
    u->turn++;
    ebi_sim_push_event(v, (struct event){.at_us = v->now_us + RESET_US,
                                         .kind = EVENT_USB_RESET,
                                         .handle = handle,
                                         .generation = v->ends[handle].generation,
                                         .size = (size_t)u->turn});
    return EB_OK;
}

/* --- the port ------------------------------------------------------------------------------------ */

static const struct eb_port_usb usb_group = {sizeof usb_group, device_at,   watch, open_device,      claim,
                                             control,          take_answer, reset, ebi_sim_close_end};

void ebi_sim_virtual_usb_open(struct ebi_sim_virtual *v)
{
    bool any = v->sim->hub_count > 0;
    for (size_t i = 0; i < v->sim->count; i++)
        any = any || v->sim->devices[i].usb.is_usb;
    v->sim->usb_changed = changed;
    v->sim->usb_self = v;
    if (!any)
        return; /* a laptop without USB */
    v->port.usb = &usb_group;
}

void ebi_sim_virtual_usb_free(struct end *end)
{
    if (end->usb == NULL)
        return;
    free(end->usb->bytes);
    free(end->usb);
    end->usb = NULL;
}

void ebi_sim_virtual_usb_pull(struct ebi_sim_virtual *v, struct ebi_sim_device *d, bool elsewhere)
{
    size_t length = strlen(d->usb.place);
    if (elsewhere && length + 1 < sizeof d->usb.place)
        snprintf(d->usb.place + length, sizeof d->usb.place - length, "7"); /* "1-2.1" is now "1-2.17" */
    ebi_sim_usb_plug(d, NULL);
    ebi_sim_push_event(
        v, (struct event){.at_us = v->now_us + PLUG_BACK_US, .kind = EVENT_USB_BACK, .device = d});
}

void ebi_sim_virtual_usb_back(struct ebi_sim_device *d)
{
    ebi_sim_usb_plug(d, d->usb.place);
}

/* --- public -------------------------------------------------------------------------------------- */

uint64_t eb_sim_usb_busy_us(const struct eb_sim *sim)
{
    return sim->net != NULL ? sim->net->usb_busy_ns / 1000 + sim->net->usb_late_us : 0;
}

void eb_sim_usb_plug(struct eb_sim *sim, const char *device, const char *place)
{
    struct ebi_sim_device *d = ebi_sim_find(sim, device);
    eb_sim_port(sim);
    if (d == NULL || !d->usb.is_usb)
        return;
    ebi_sim_usb_plug(d, place);
    ebi_sim_wake_later(sim->net, d);
}

void eb_sim_usb_hub(struct eb_sim *sim, const char *place, bool on)
{
    size_t length = strlen(place);
    eb_sim_port(sim);
    for (size_t i = 0; i < sim->hub_count; i++) {
        if (strcmp(sim->hubs[i].place, place) == 0)
            sim->hubs[i].off = !on;
    }
    for (size_t i = 0; i < sim->count; i++) {
        struct ebi_sim_device *d = &sim->devices[i];
        char there[EB_USB_PLACE_BYTES];
        if (!d->usb.is_usb || strncmp(d->usb.place, place, length) != 0 || d->usb.place[length] != '.')
            continue;
        memcpy(there, d->usb.place, sizeof there);
        ebi_sim_usb_plug(d, on ? there : NULL);
        ebi_sim_wake_later(sim->net, d);
    }
}
