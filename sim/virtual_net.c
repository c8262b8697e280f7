/* The simulated port: the laptop's sockets, the wires and the devices behind them on virtual time.
 *
 * Everything that happens is an event in one heap, ordered by time and then by age, so that a run is the same
 * to the bit each time.  TCP is what TCP gives: a stream in order, where a lost or damaged segment only comes
 * later. */
#include "packet.h"
#include "virtual.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>

enum {
    LAPTOP_PORT_FIRST = 49152,
    DEVICE_PORT_FIRST = 20000,
    BACKLOG_MAX_BYTES = 262144, /* what the laptop's network queue holds */
    SYN_RESEND_US = 1000000,    /* RFC 6298 section 2.1 */
};

void *ebi_sim_grow(void *old, size_t count, size_t size)
{
    void *fresh = realloc(old, count * size);
    if (fresh == NULL)
        abort(); /* a simulation without memory has nothing to say */
    return fresh;
}

/* --- the laptop's sockets ------------------------------------------------------------------------ */

void ebi_sim_set_ready(struct ebi_sim_virtual *v, struct end *end)
{
    if (end->ready)
        return;
    end->ready = true;
    if (v->ready_count == v->ready_cap) {
        v->ready_cap = v->ready_cap == 0 ? 64 : 2 * v->ready_cap;
        v->ready = ebi_sim_grow(v->ready, v->ready_cap, sizeof *v->ready);
    }
    v->ready[v->ready_count++] = (int)(end - v->ends);
}

static uint32_t number_of(const struct ebi_sim_virtual *v, const struct ebi_sim_device *d)
{
    return (uint32_t)(d - v->sim->devices);
}

/* Nobody holds this handle any more, or its device does not. */
static void may_be_free(struct ebi_sim_virtual *v, int handle)
{
    v->end_free = handle < v->end_free ? handle : v->end_free;
}

int ebi_sim_new_end(struct ebi_sim_virtual *v, struct eb_waiter *waiter, bool tcp)
{
    int handle = v->end_free;
    while (handle < v->end_cap && (v->ends[handle].used || v->ends[handle].device_knows))
        handle++;
    v->end_free = handle + 1;
    if (handle == v->end_cap) {
        int cap = v->end_cap == 0 ? 64 : 2 * v->end_cap;
        v->ends = ebi_sim_grow(v->ends, (size_t)cap, sizeof *v->ends);
        memset(v->ends + v->end_cap, 0, (size_t)(cap - v->end_cap) * sizeof *v->ends);
        v->end_cap = cap;
    }
    struct end *end = &v->ends[handle];
    int generation = end->generation + 1;
    if (end->device != NULL)
        ebi_sim_table_remove(&v->connected, number_of(v, end->device), (size_t)handle);
    *end = (struct end){.used = true, .tcp = tcp, .generation = generation, .waiter = waiter};
    end->port = v->next_laptop_port++;
    if (v->next_laptop_port == 0)
        v->next_laptop_port = LAPTOP_PORT_FIRST;
    return handle;
}

/* Whether laptop and device are on one wire over this link, and each takes the other for its subnet's. */
static bool over_link(const struct ebi_sim_laptop_link *l, const struct ebi_sim_device *d)
{
    for (size_t k = 0; k < l->link.count && strcmp(l->wire, d->wire) == 0 && l->link.carrier; k++) {
        if (eb_link_covers(&l->link.addresses[k], d->address.ip) &&
            ebi_sim_device_covers(d, l->link.addresses[k].ip))
            return true;
    }
    return false;
}

/* Whether the device is reached from an end that is bound to `link`, or to none (NULL). */
static bool on_link(const struct ebi_sim_virtual *v, const struct ebi_sim_laptop_link *link,
                    const struct ebi_sim_device *d)
{
    for (size_t i = 0; i < v->sim->laptop_count; i++) {
        const struct ebi_sim_laptop_link *l = &v->sim->laptop[i];
        if ((link == NULL || l == link) && over_link(l, d))
            return true;
    }
    return v->sim->laptop_count == 0;
}

struct ebi_sim_device *ebi_sim_device_at(struct ebi_sim_virtual *v, const struct ebi_sim_laptop_link *link,
                                         const struct eb_endpoint *endpoint)
{
    const struct ebi_sim_table *addresses = &v->sim->addresses;
    struct ebi_sim_device *first = NULL;
    size_t i = ebi_sim_table_first(addresses, ebi_sim_address_key(endpoint->ip));
    for (; i != EBI_SIM_NONE; i = ebi_sim_table_next(addresses, i)) {
        struct ebi_sim_device *d = &v->sim->devices[i];
        if (ebi_sim_device_has_ip(d) && memcmp(d->address.ip, endpoint->ip, sizeof endpoint->ip) == 0 &&
            on_link(v, link, d) && (first == NULL || d < first))
            first = d;
    }
    if (first != NULL)
        v->asked[first - v->sim->devices] = true;
    return first;
}

static const struct ebi_sim_laptop_link *link_named(const struct ebi_sim_virtual *v, const char *name)
{
    for (size_t i = 0; name != NULL && i < v->sim->laptop_count; i++) {
        if (strcmp(v->sim->laptop[i].link.name, name) == 0)
            return &v->sim->laptop[i];
    }
    return NULL;
}

static size_t list_links(void *self, struct eb_link *links, size_t cap)
{
    const struct ebi_sim_virtual *v = self;
    size_t count = v->sim->laptop_count < cap ? v->sim->laptop_count : cap;
    for (size_t i = 0; i < count; i++)
        links[i] = v->sim->laptop[i].link;
    return count;
}

static enum eb_status udp_open(void *self, struct eb_waiter *waiter, const struct eb_udp_options *options,
                               int *handle)
{
    struct ebi_sim_virtual *v = self;
    *handle = ebi_sim_new_end(v, waiter, false);
    struct end *end = &v->ends[*handle];
    if (options != NULL) {
        end->link = link_named(v, options->link);
        if (options->local_port != 0)
            end->port = options->local_port;
        memcpy(end->group, options->group, sizeof end->group);
    }
    ebi_sim_table_add(&v->ports, end->port, (size_t)*handle);
    return EB_OK;
}

/* The laptop's address that a device sees on this link; zeros where there is none. */
static struct eb_endpoint laptop_at(const struct ebi_sim_laptop_link *l, const struct ebi_sim_device *d,
                                    uint16_t port)
{
    struct eb_endpoint from = {{0, 0, 0, 0}, port};
    for (size_t k = 0; k < l->link.count; k++) {
        if (k == 0 || (d != NULL && eb_link_covers(&l->link.addresses[k], d->address.ip)))
            memcpy(from.ip, l->link.addresses[k].ip, sizeof from.ip);
    }
    return from;
}

static void send_to_all(struct ebi_sim_virtual *v, const struct end *end, const struct eb_datagram *datagram);

static size_t udp_send(void *self, int handle, const struct eb_datagram *burst, size_t count)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    for (size_t i = 0; i < count; i++) {
        struct eb_endpoint from = {{0, 0, 0, 0}, end->port};
        if (burst[i].peer.ip[0] >= 224) {
            send_to_all(v, end, &burst[i]);
            continue;
        }
        struct ebi_sim_device *d = ebi_sim_device_at(v, end->link, &burst[i].peer);
        if (d == NULL)
            continue; /* nobody has this address */
        for (size_t k = 0; k < v->sim->laptop_count; k++) {
            if (over_link(&v->sim->laptop[k], d))
                from = laptop_at(&v->sim->laptop[k], d, end->port);
        }
        struct ebi_sim_wire *w = ebi_sim_wire_of(v, d);
        uint64_t free_us = w->up.free_ns / 1000;
        uint64_t backlog_us = free_us > v->now_us ? free_us - v->now_us : 0;
        if (backlog_us * w->rate_kbit_per_s / 8000 > BACKLOG_MAX_BYTES) {
            end->wants_room = true;
            if (!end->room_due) /* however often it is tried before */
                ebi_sim_push_event(v, (struct event){.at_us = v->now_us + backlog_us / 2,
                                                     .kind = EVENT_ROOM,
                                                     .handle = handle,
                                                     .generation = end->generation});
            end->room_due = true;
            return i;
        }
        ebi_sim_send_datagram(
            v, d, true, (struct event){.kind = EVENT_UDP_UP, .device = d, .from = from, .to = burst[i].peer},
            burst[i].bytes, burst[i].size_bytes);
    }
    return count;
}

static enum eb_status udp_receive(void *self, int handle, struct eb_datagram *burst, size_t count,
                                  size_t *received)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    *received = 0;
    while (*received < count && end->first != NULL) {
        struct message *message = end->first;
        struct eb_datagram *to = &burst[(*received)++];
        end->first = message->next;
        if (to->size_bytes > message->size)
            to->size_bytes = message->size;
        memcpy(to->bytes, message->bytes, to->size_bytes);
        to->peer = message->from;
        free(message);
    }
    return *received > 0 ? EB_OK : EB_PENDING;
}

void ebi_sim_close_end(void *self, int handle)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    ebi_sim_table_remove(&v->ports, end->port, (size_t)handle);
    may_be_free(v, handle);
    if (end->tcp && end->device_knows)
        ebi_sim_send_segment(v, end, true, (struct event){.kind = EVENT_RESET}, NULL, 0);
    while (end->first != NULL) {
        struct message *message = end->first;
        end->first = message->next;
        free(message);
    }
    free(end->rx);
    end->rx = NULL;
    ebi_sim_virtual_can_free(v, end);
    ebi_sim_virtual_usb_free(end);
    ebi_sim_virtual_http_free(end);
    end->used = false;
}

static enum eb_status tcp_open(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                               int *handle)
{
    struct ebi_sim_virtual *v = self;
    *handle = ebi_sim_new_end(v, waiter, true);
    struct end *end = &v->ends[*handle];
    end->peer = *peer;
    end->device = ebi_sim_device_at(v, NULL, peer);
    if (end->device != NULL) {
        ebi_sim_table_add(&v->connected, number_of(v, end->device), (size_t)*handle);
        ebi_sim_send_segment(v, end, true, (struct event){.kind = EVENT_SYN}, NULL, 0);
    }
    return EB_OK;
}

static enum eb_status tcp_send(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    *sent = 0;
    if (end->dead || end->closed)
        return end->closed ? EB_CLOSED : EB_UNREACHABLE;
    if (!end->open)
        return EB_PENDING;
    ebi_sim_send_stream(v, handle, true, bytes, size);
    *sent = size;
    return EB_OK;
}

static enum eb_status tcp_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    size_t n = end->rx_size < cap ? end->rx_size : cap;
    *received = n;
    if (n == 0)
        return end->closed ? EB_CLOSED : end->dead ? EB_UNREACHABLE : EB_PENDING;
    memcpy(bytes, end->rx, n);
    end->rx_size -= n;
    memmove(end->rx, end->rx + n, end->rx_size);
    return EB_OK;
}

/* --- for all on a wire ---------------------------------------------------------------------------- */

static struct ebi_sim_wire *wire_named(struct ebi_sim_virtual *v, const char *name)
{
    for (size_t i = 0; i < v->sim->wire_count; i++) {
        if (strcmp(v->sim->wires[i].name, name) == 0)
            return &v->sim->wires[i];
    }
    return NULL;
}

/* One event for each device on the link's wire that `wanted` picks; the laptop's cable carries it once. */
static void send_up(struct ebi_sim_virtual *v, const struct ebi_sim_laptop_link *l, const uint8_t *mac,
                    struct event event, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_wire *w = wire_named(v, l->wire);
    if (w == NULL || !l->link.carrier)
        return;
    uint64_t at_us = ebi_sim_carry(v, w, &w->up, size + UDP_HEAD_BYTES);
    for (size_t i = 0; i < v->sim->count; i++) {
        struct ebi_sim_device *d = &v->sim->devices[i];
        if (strcmp(d->wire, w->name) != 0 || (mac != NULL && memcmp(d->mac, mac, EB_MAC_BYTES) != 0))
            continue;
        struct fate fate = ebi_sim_next_fate(v, w, d);
        event.at_us = at_us + fate.extra_us;
        event.device = d;
        ebi_sim_deliver(v, &fate, event, bytes, size);
    }
}

static void send_to_all(struct ebi_sim_virtual *v, const struct end *end, const struct eb_datagram *datagram)
{
    for (size_t i = 0; i < v->sim->laptop_count; i++) {
        const struct ebi_sim_laptop_link *l = &v->sim->laptop[i];
        if ((end->link != NULL && end->link != l) || l->link.count == 0)
            continue;
        const struct event event = {
            .kind = EVENT_UDP_UP, .from = laptop_at(l, NULL, end->port), .to = datagram->peer};
        send_up(v, l, NULL, event, datagram->bytes, datagram->size_bytes);
    }
}

static enum eb_status frame_open(void *self, struct eb_waiter *waiter, const char *link, int *handle)
{
    struct ebi_sim_virtual *v = self;
    const struct ebi_sim_laptop_link *l = link_named(v, link);
    *handle = EB_NO_HANDLE;
    if (l == NULL || !l->link.has_mac)
        return EB_IO;
    if (l->no_frames)
        return EB_DENIED;
    *handle = ebi_sim_new_end(v, waiter, false);
    v->ends[*handle].frames = true;
    v->ends[*handle].link = l;
    return EB_OK;
}

static void frame_send(void *self, int handle, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_virtual *v = self;
    bool group = (bytes[0] & 1) != 0;
    send_up(v, v->ends[handle].link, group ? NULL : bytes, (struct event){.kind = EVENT_FRAME_UP}, bytes,
            size);
}

static enum eb_status frame_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct eb_datagram datagram = {.bytes = bytes, .size_bytes = cap};
    size_t count;
    enum eb_status status = udp_receive(self, handle, &datagram, 1, &count);
    *received = datagram.size_bytes;
    return status;
}

static size_t list_neighbours(void *self, const char *link, struct eb_neighbour *list, size_t cap)
{
    const struct ebi_sim_virtual *v = self;
    const struct ebi_sim_laptop_link *l = link_named(v, link);
    size_t count = 0;
    for (size_t i = 0; l != NULL && i < v->sim->count && count < cap; i++) {
        const struct ebi_sim_device *d = &v->sim->devices[i];
        if (!v->asked[i] || !ebi_sim_device_alive(d) || !over_link(l, d))
            continue;
        memcpy(list[count].ip, d->address.ip, sizeof list[count].ip);
        memcpy(list[count++].mac, d->mac, sizeof list[0].mac);
    }
    return count;
}

static struct ebi_sim_laptop_link *link_to_change(struct ebi_sim_virtual *v, const char *name)
{
    for (size_t i = 0; i < v->sim->laptop_count; i++) {
        if (strcmp(v->sim->laptop[i].link.name, name) == 0)
            return &v->sim->laptop[i];
    }
    return NULL;
}

static enum eb_status address_add(void *self, const char *link, const struct eb_link_address *address)
{
    struct ebi_sim_laptop_link *l = link_to_change(self, link);
    if (l == NULL || l->link.count == EB_LINK_ADDRESSES_MAX)
        return EB_IO;
    if (l->no_frames)
        return EB_DENIED;
    l->link.addresses[l->link.count++] = *address;
    return EB_OK;
}

static enum eb_status address_remove(void *self, const char *link, const struct eb_link_address *address)
{
    struct ebi_sim_laptop_link *l = link_to_change(self, link);
    for (size_t i = 0; l != NULL && i < l->link.count; i++) {
        if (memcmp(&l->link.addresses[i], address, sizeof *address) == 0) {
            l->link.count--;
            memmove(&l->link.addresses[i], &l->link.addresses[i + 1],
                    (l->link.count - i) * sizeof l->link.addresses[0]);
            return EB_OK;
        }
    }
    return EB_IO;
}

/* --- the devices' side --------------------------------------------------------------------------- */

static uint64_t now_us(void *self)
{
    return ((struct ebi_sim_virtual *)self)->now_us;
}

static int udp_bind(void *self, struct ebi_sim_device *d, uint16_t port)
{
    struct ebi_sim_virtual *v = self;
    int handle = v->socket_free;
    while (handle < v->socket_cap && v->sockets[handle].device != NULL)
        handle++;
    v->socket_free = handle + 1;
    if (handle == v->socket_cap) {
        int cap = v->socket_cap == 0 ? 64 : 2 * v->socket_cap;
        v->sockets = ebi_sim_grow(v->sockets, (size_t)cap, sizeof *v->sockets);
        memset(v->sockets + v->socket_cap, 0, (size_t)(cap - v->socket_cap) * sizeof *v->sockets);
        v->socket_cap = cap;
    }
    if (port == 0) {
        port = v->next_device_port++;
        if (v->next_device_port >= LAPTOP_PORT_FIRST)
            v->next_device_port = DEVICE_PORT_FIRST;
    }
    v->sockets[handle] = (struct device_socket){d, port};
    ebi_sim_table_add(&v->device_sockets, number_of(v, d), (size_t)handle);
    return handle;
}

static void udp_unbind(void *self, int handle)
{
    struct ebi_sim_virtual *v = self;
    ebi_sim_table_remove(&v->device_sockets, number_of(v, v->sockets[handle].device), (size_t)handle);
    v->sockets[handle].device = NULL;
    v->socket_free = handle < v->socket_free ? handle : v->socket_free;
}

static void device_udp_send(void *self, int handle, const struct eb_endpoint *to, const uint8_t *bytes,
                            size_t size)
{
    struct ebi_sim_virtual *v = self;
    const struct device_socket *socket = &v->sockets[handle];
    struct eb_endpoint from = socket->device->address;
    from.port = socket->port;
    ebi_sim_send_datagram(
        v, socket->device, false,
        (struct event){.kind = EVENT_UDP_DOWN, .device = socket->device, .from = from, .to = *to}, bytes,
        size);
}

static void frame_down(void *self, struct ebi_sim_device *d, const uint8_t *frame, size_t size)
{
    struct ebi_sim_virtual *v = self;
    struct ebi_sim_wire *w = ebi_sim_wire_of(v, d);
    struct fate fate = ebi_sim_next_fate(v, w, d);
    struct event event = {.kind = EVENT_FRAME_DOWN, .device = d};
    event.at_us = ebi_sim_carry(v, w, &w->down, size) + fate.extra_us;
    ebi_sim_deliver(v, &fate, event, frame, size);
}

static void udp_send_from(void *self, struct ebi_sim_device *d, uint16_t port, const struct eb_endpoint *to,
                          const uint8_t *bytes, size_t size)
{
    struct ebi_sim_virtual *v = self;
    struct eb_endpoint from = d->address;
    from.port = port;
    if (to->ip[0] < 224) {
        ebi_sim_send_datagram(v, d, false,
                              (struct event){.kind = EVENT_UDP_DOWN, .device = d, .from = from, .to = *to},
                              bytes, size);
        return;
    }
    /* For a group: one frame, which sockets and whoever hears frames take. */
    uint8_t frame[EBI_UDP_FRAME_HEAD_BYTES + 1500];
    uint8_t mac[EB_MAC_BYTES];
    ebi_sim_ether_group_mac(to->ip, mac);
    frame_down(v, d, frame, ebi_packet_udp(frame, d->mac, mac, &from, to, bytes, size));
}

static void device_tcp_send(void *self, int connection, const uint8_t *bytes, size_t size)
{
    ebi_sim_send_stream(self, connection, false, bytes, size);
}

static void device_tcp_close(void *self, int connection)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[connection];
    end->device_knows = false;
    may_be_free(v, connection);
    if (end->used)
        ebi_sim_send_segment(v, end, false, (struct event){.kind = EVENT_FIN}, NULL, 0);
}

/* A device that goes takes its connections with it, without a word. */
static void set_alive(void *self, struct ebi_sim_device *d, bool alive)
{
    struct ebi_sim_virtual *v = self;
    size_t i = alive ? EBI_SIM_NONE : ebi_sim_table_first(&v->connected, number_of(v, d));
    for (; i != EBI_SIM_NONE; i = ebi_sim_table_next(&v->connected, i)) {
        if (v->ends[i].device != d)
            continue;
        v->ends[i].device_knows = false;
        may_be_free(v, (int)i);
    }
}

/* --- what happens -------------------------------------------------------------------------------- */

static void arrive_up(struct ebi_sim_virtual *v, const struct event *e)
{
    struct ebi_sim_device *d = e->device;
    if (ebi_sim_device_listens(d, false, e->to.port)) {
        int handle = udp_bind(v, d, e->to.port);
        ebi_sim_device_datagram(d, handle, e->to.port, &e->from, e->bytes, e->size);
        udp_unbind(v, handle);
        return;
    }
    size_t i = ebi_sim_table_first(&v->device_sockets, number_of(v, d));
    for (; i != EBI_SIM_NONE; i = ebi_sim_table_next(&v->device_sockets, i)) {
        if (v->sockets[i].device == d && v->sockets[i].port == e->to.port) {
            ebi_sim_device_datagram(d, (int)i, e->to.port, &e->from, e->bytes, e->size);
            return;
        }
    }
}

/* Puts what arrived behind what the end has already. */
static void queue(struct ebi_sim_virtual *v, struct end *end, const struct eb_endpoint *from,
                  const uint8_t *bytes, size_t size)
{
    struct message *message = ebi_sim_grow(NULL, sizeof *message + size, 1);
    *message = (struct message){.from = *from, .size = size};
    memcpy(message->bytes, bytes, size);
    if (end->first == NULL)
        end->last = &end->first;
    *end->last = message;
    end->last = &message->next;
    ebi_sim_set_ready(v, end);
}

static void arrive_down(struct ebi_sim_virtual *v, const struct event *e)
{
    size_t i = ebi_sim_table_first(&v->ports, e->to.port);
    for (; i != EBI_SIM_NONE; i = ebi_sim_table_next(&v->ports, i)) {
        struct end *end = &v->ends[i];
        if (end->port != e->to.port)
            continue;
        if (end->link != NULL && e->device != NULL && strcmp(end->link->wire, e->device->wire) != 0)
            continue; /* shared by several links */
        queue(v, end, &e->from, e->bytes, e->size);
        return;
    }
}

static void arrive_frame(struct ebi_sim_virtual *v, const struct event *e)
{
    struct eb_frame frame;
    struct eb_udp udp;
    bool whole = eb_frame_read(&frame, e->bytes, e->size);
    bool datagram = whole && frame.type == EB_ETHERTYPE_IPV4 && eb_udp_read(&udp, frame.payload, frame.size);
    for (int i = 0; i < v->end_cap && whole; i++) {
        struct end *end = &v->ends[i];
        if (!end->used || end->tcp || end->can != NULL || end->link == NULL ||
            strcmp(end->link->wire, e->device->wire) != 0 || !end->link->link.carrier)
            continue;
        const struct eb_endpoint nobody = {.port = 0};
        if (end->frames) {
            bool ours = (frame.to[0] & 1) != 0 || memcmp(frame.to, end->link->link.mac, EB_MAC_BYTES) == 0;
            if (ours)
                queue(v, end, &nobody, e->bytes, e->size);
        } else if (datagram && end->port == udp.to_port &&
                   (memcmp(end->group, udp.to_ip, sizeof end->group) == 0 || udp.to_ip[0] == 255)) {
            struct eb_endpoint from = {.port = udp.from_port};
            memcpy(from.ip, udp.from_ip, sizeof from.ip);
            queue(v, end, &from, udp.payload, udp.size);
        }
    }
}

/* What does not reach a device that is down is sent again: later each time, as TCP does it. */
static void send_again(struct ebi_sim_virtual *v, const struct event *e)
{
    uint64_t first_us = e->kind == EVENT_SYN ? SYN_RESEND_US : RESEND_US;
    struct event again = *e;
    if (e->tries == RESENDS_MAX)
        return;
    again.at_us = v->now_us + (first_us << e->tries);
    again.tries++;
    again.bytes = ebi_sim_copy_of(e->bytes, e->size);
    ebi_sim_push_event(v, again);
}

static void arrive_tcp(struct ebi_sim_virtual *v, const struct event *e)
{
    struct end *end = &v->ends[e->handle];
    bool current = end->generation == e->generation;
    bool down = e->device == NULL || !ebi_sim_device_alive(e->device);
    switch (e->kind) {
    case EVENT_SYN:
        if (!current || !end->used)
            return;
        if (down) { /* nobody answers */
            send_again(v, e);
            return;
        }
        if (!ebi_sim_device_listens(e->device, true, end->peer.port)) {
            ebi_sim_send_segment(v, end, false, (struct event){.kind = EVENT_RESET}, NULL, 0);
            return;
        }
        end->device_knows = true;
        ebi_sim_send_segment(v, end, false, (struct event){.kind = EVENT_OPEN}, NULL, 0);
        ebi_sim_device_connected(e->device, e->handle, end->peer.port);
        break;
    case EVENT_OPEN:
        if (current && end->used) {
            end->open = true;
            ebi_sim_set_ready(v, end);
        }
        break;
    case EVENT_TCP_UP:
        if (current && end->device_knows)
            ebi_sim_device_stream(e->device, e->handle, e->bytes, e->size);
        else if (current && end->used && down)
            send_again(v, e);
        else if (current && end->used) /* RFC 9293 section 3.5.2: of a connection that it does not know */
            ebi_sim_send_segment(v, end, false, (struct event){.kind = EVENT_RESET}, NULL, 0);
        break;
    case EVENT_FIN:
        if (current && end->used) {
            end->closed = true;
            ebi_sim_set_ready(v, end);
        }
        break;
    case EVENT_TCP_DOWN:
        if (!current || !end->used)
            return;
        if (end->rx_size + e->size > end->rx_cap || end->rx == NULL) {
            end->rx_cap = 2 * (end->rx_size + e->size) + 256;
            end->rx = ebi_sim_grow(end->rx, end->rx_cap, 1);
        }
        memcpy(end->rx + end->rx_size, e->bytes, e->size);
        end->rx_size += e->size;
        ebi_sim_set_ready(v, end);
        break;
    default: /* EVENT_RESET, from either side */
        if (current && end->device_knows) {
            end->device_knows = false;
            may_be_free(v, e->handle);
            ebi_sim_device_disconnected(e->device, e->handle);
        } else if (current && end->used) {
            end->dead = true;
            ebi_sim_set_ready(v, end);
        }
        break;
    }
}

static void handle_event(struct ebi_sim_virtual *v, const struct event *e)
{
    switch (e->kind) {
    case EVENT_UDP_UP:
        arrive_up(v, e);
        break;
    case EVENT_UDP_DOWN:
        arrive_down(v, e);
        break;
    case EVENT_FRAME_UP:
        ebi_sim_device_frame(e->device, e->bytes, e->size);
        break;
    case EVENT_FRAME_DOWN:
        arrive_frame(v, e);
        break;
    case EVENT_ROOM:
        if (v->ends[e->handle].used && v->ends[e->handle].generation == e->generation) {
            v->ends[e->handle].room_due = false;
            ebi_sim_set_ready(v, &v->ends[e->handle]);
        }
        break;
    case EVENT_WAKE:
        v->woken[e->device - v->sim->devices] = EB_NEVER;
        ebi_sim_device_tick(e->device);
        break;
    case EVENT_BUS:
    case EVENT_CAN_QUEUE:
    case EVENT_CAN_DOWN:
    case EVENT_CAN_SENT:
    case EVENT_CAN_LATE:
        ebi_sim_virtual_can_event(v, e);
        break;
    case EVENT_USB_UP:
    case EVENT_USB_DOWN:
    case EVENT_USB_LATE:
    case EVENT_USB_RESET:
        ebi_sim_virtual_usb_event(v, e);
        break;
    case EVENT_USB_BACK:
        ebi_sim_virtual_usb_back(e->device);
        break;
    default:
        arrive_tcp(v, e);
        break;
    }
    ebi_sim_virtual_can_arm(v);
    if (e->device != NULL)
        ebi_sim_wake_later(v, e->device);
    free(e->bytes); /* NOLINT(clang-analyzer-unix.Malloc): what was popped is no longer in the heap */
}

static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct ebi_sim_virtual *v = self;
    while (v->ready_count == 0 && v->heap_size > 0 && v->heap[0].at_us <= deadline_us) {
        struct event event = ebi_sim_pop_event(v);
        v->now_us = event.at_us > v->now_us ? event.at_us : v->now_us;
        handle_event(v, &event);
    }
    if (v->ready_count == 0 && deadline_us != EB_NEVER && deadline_us > v->now_us)
        v->now_us = deadline_us;
    size_t count = 0;
    size_t left = 0;
    for (size_t i = 0; i < v->ready_count; i++) {
        struct end *end = &v->ends[v->ready[i]];
        if (count == cap) {
            v->ready[left++] = v->ready[i];
            continue;
        }
        end->ready = false;
        if (end->used)
            ready[count++] = end->waiter;
    }
    v->ready_count = left;
    return count;
}

static uint32_t random_number(void *self)
{
    return (uint32_t)ebi_sim_random(((struct ebi_sim_virtual *)self)->sim);
}

static uint32_t path_mtu_bytes(void *self, const struct eb_endpoint *peer)
{
    struct ebi_sim_virtual *v = self;
    struct ebi_sim_device *d = ebi_sim_device_at(v, NULL, peer);
    return d != NULL ? ebi_sim_wire_of(v, d)->mtu_bytes : 576;
}

static const struct eb_port_time time_group = {sizeof time_group, now_us, wait_until, random_number};
static const struct eb_port_udp udp_group = {sizeof udp_group, udp_open,          udp_send,
                                             udp_receive,      ebi_sim_close_end, path_mtu_bytes};
static const struct eb_port_tcp tcp_group = {sizeof tcp_group, tcp_open, tcp_send, tcp_receive,
                                             ebi_sim_close_end};
static const struct eb_port_frame frame_group = {sizeof frame_group, frame_open, frame_send, frame_receive,
                                                 ebi_sim_close_end};

bool ebi_sim_virtual_open(struct eb_sim *sim)
{
    struct ebi_sim_virtual *v = ebi_sim_grow(NULL, 1, sizeof *v);
    *v = (struct ebi_sim_virtual){.sim = sim,
                                  .now_us = 1000000,
                                  .next_laptop_port = LAPTOP_PORT_FIRST,
                                  .next_device_port = DEVICE_PORT_FIRST};
    v->links = (struct eb_port_links){sizeof v->links, sim->laptop_count > 0 ? list_links : NULL,
                                      list_neighbours, address_add, address_remove};
    v->port = (struct eb_port){.bytes = sizeof v->port,
                               .self = v,
                               .time = &time_group,
                               .udp = &udp_group,
                               .tcp = &tcp_group,
                               .frame = &frame_group,
                               .links = &v->links};
    v->net = (struct ebi_sim_net){v,          now_us,          udp_bind,         device_udp_send,
                                  udp_unbind, device_tcp_send, device_tcp_close, udp_send_from,
                                  frame_down, set_alive};
    ebi_sim_table_open(&v->ports, sim->count);
    ebi_sim_table_open(&v->connected, sim->count);
    ebi_sim_table_open(&v->device_sockets, sim->count);
    v->asked = ebi_sim_grow(NULL, sim->count + 1, sizeof *v->asked);
    memset(v->asked, 0, (sim->count + 1) * sizeof *v->asked);
    v->woken = ebi_sim_grow(NULL, sim->count + 1, sizeof *v->woken);
    v->faults = sim->faults;
    v->fault_count = sim->fault_count;
    sim->net = v;
    ebi_sim_virtual_can_open(v);
    ebi_sim_virtual_usb_open(v);
    ebi_sim_virtual_http_open(v);
    for (size_t i = 0; i < sim->count; i++) {
        v->woken[i] = EB_NEVER;
        ebi_sim_device_start(&sim->devices[i], &v->net);
        ebi_sim_wake_later(v, &sim->devices[i]);
    }
    ebi_sim_virtual_can_arm(v);
    return true;
}

void ebi_sim_virtual_close(struct eb_sim *sim)
{
    struct ebi_sim_virtual *v = sim->net;
    if (v == NULL)
        return;
    for (int i = 0; i < v->end_cap; i++) {
        if (v->ends[i].used) {
            v->ends[i].device_knows = false;
            ebi_sim_close_end(v, i);
        }
    }
    ebi_sim_virtual_can_close(v);
    for (size_t i = 0; i < v->heap_size; i++)
        free(v->heap[i].bytes);
    free(v->heap);
    free(v->ends);
    free(v->ready);
    free(v->sockets);
    ebi_sim_table_clear(&v->ports);
    ebi_sim_table_clear(&v->connected);
    ebi_sim_table_clear(&v->device_sockets);
    free(v->asked);
    free(v->woken);
    free(v);
    sim->net = NULL;
}
