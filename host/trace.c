/* A port around another one that writes down what passes: pcapng (IETF draft "PCAP Now Generic", opsawg) with
 * one interface for each link.
 *
 * Raw frames and CAN frames are written as they are, control transfers as the system's own monitor does.  Of
 * UDP and TCP a port knows only what sockets carry: the heads around it are made here, so that every program
 * that reads such files shows the conversation; hardware addresses in them, TCP's numbers and the laptop's
 * port where the system chose it are not those on the wire. */
#include "einbau/host.h"
#include "einbau/snmp.h"
#include "image_file.h"
#include "packet.h"
#include "trace_http.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>

#include "base/bytes.h"

enum {
    LINKTYPE_ETHERNET = 1,
    LINKTYPE_SOCKETCAN = 227,
    LINKTYPE_USB = 220, /* Linux's usbmon with a head of 64 bytes */
    USB_HEAD_BYTES = 64,
    INTERFACES_MAX = 32,
    SEGMENT_BYTES = 1460,
    PORT_FIRST = 49152,
    HTTP_PORT_FIRST = 57344,
    SOCKETCAN_BYTES = 16,
    OPTION_NAME = 2,
    OPTION_FLAGS = 2, /* of a packet: 1 came in, 2 went out */
    CAME_IN = 1,
    WENT_OUT = 2
};

struct interface {
    char name[EB_PATH_BYTES];
    uint16_t linktype;
};

/* What is remembered of a handle of the inner port. */
struct traced {
    uint32_t interface;
    struct eb_endpoint local, peer;
    uint32_t sent, received; /* TCP's next sequence numbers */
    bool open, ended;
    /* USB */
    uint16_t bus;
    uint8_t address;
    struct eb_usb_setup setup;
    uint64_t asked; /* number of the transfer */
};

enum group { GROUP_UDP, GROUP_TCP, GROUP_FRAME, GROUP_CAN, GROUP_USB, GROUP_HTTP, GROUPS };

struct trace {
    struct eb_port port;
    struct eb_port_links links;
    const struct eb_port *inner;
    FILE *file;
    char path[EB_PATH_BYTES];
    bool failed;
    int64_t offset_us; /* from the port's clock to that of the wall */
    struct interface interfaces[INTERFACES_MAX];
    uint32_t interface_count;
    uint64_t transfers;
    struct ebi_trace_http *http;
    struct traced *handles[GROUPS];
    int caps[GROUPS];
};

/* --- the file ------------------------------------------------------------------------------------ */

static void put(struct trace *t, const void *bytes, size_t size)
{
    if (fwrite(bytes, 1, size, t->file) != size)
        t->failed = true;
}

static void put32(struct trace *t, uint32_t number)
{
    put(t, &number, sizeof number); /* in this machine's order, as the format allows */
}

static void put_padded(struct trace *t, const void *bytes, size_t size)
{
    static const uint8_t zeros[4];
    put(t, bytes, size);
    put(t, zeros, (4 - size % 4) % 4);
}

static void put_section(struct trace *t)
{
    put32(t, 0x0A0D0D0A);
    put32(t, 28);
    put32(t, 0x1A2B3C4D);
    put32(t, 1); /* version 1.0 */
    put32(t, UINT32_MAX);
    put32(t, UINT32_MAX); /* length not told */
    put32(t, 28);
}

/* The number of a link's interface, described where it comes up first. */
static uint32_t interface_of(struct trace *t, const char *name, uint16_t linktype)
{
    uint32_t i = 0;
    while (i < t->interface_count &&
           (t->interfaces[i].linktype != linktype || strcmp(t->interfaces[i].name, name) != 0))
        i++;
    if (i < t->interface_count || i == INTERFACES_MAX)
        return i < INTERFACES_MAX ? i : INTERFACES_MAX - 1;
    snprintf(t->interfaces[i].name, sizeof t->interfaces[i].name, "%s", name);
    t->interfaces[i].linktype = linktype;
    t->interface_count++;
    uint32_t size = (uint32_t)strlen(name);
    uint32_t whole = 20 + 4 + (size + 3) / 4 * 4 + 4;
    put32(t, 1);
    put32(t, whole);
    put32(t, linktype); /* and 16 bits of nothing */
    put32(t, 0);        /* no limit of a packet's size */
    put32(t, OPTION_NAME | size << 16);
    put_padded(t, name, size);
    put32(t, 0);
    put32(t, whole);
    return i;
}

static void put_packet(struct trace *t, uint32_t interface, uint64_t at_us, uint32_t direction,
                       const uint8_t *bytes, size_t size)
{
    uint64_t wall_us = at_us + (uint64_t)t->offset_us;
    uint32_t whole = 28 + ((uint32_t)size + 3) / 4 * 4 + 12 + 4;
    put32(t, 6);
    put32(t, whole);
    put32(t, interface);
    put32(t, (uint32_t)(wall_us >> 32));
    put32(t, (uint32_t)wall_us);
    put32(t, (uint32_t)size);
    put32(t, (uint32_t)size);
    put_padded(t, bytes, size);
    put32(t, OPTION_FLAGS | 4U << 16);
    put32(t, direction);
    put32(t, 0);
    put32(t, whole);
}

/* --- what passes --------------------------------------------------------------------------------- */

static uint64_t now_us(void *self)
{
    const struct trace *t = self;
    return eb_port_now_us(t->inner);
}

static struct traced *traced_at(struct trace *t, enum group group, int handle)
{
    if (handle >= t->caps[group]) {
        int cap = handle + 64;
        t->handles[group] = realloc(t->handles[group], (size_t)cap * sizeof *t->handles[group]);
        if (t->handles[group] == NULL)
            abort();
        memset(t->handles[group] + t->caps[group], 0,
               (size_t)(cap - t->caps[group]) * sizeof *t->handles[group]);
        t->caps[group] = cap;
    }
    return &t->handles[group][handle];
}

/* The laptop's address in the peer's subnet, and the link that has it. */
static void find_local(const struct trace *t, const struct eb_endpoint *peer, struct eb_endpoint *local,
                       char *name)
{
    static _Thread_local struct eb_link links[EB_LINKS_MAX];
    size_t count =
        EB_PORT_HAS(t->inner, links, list) ? t->inner->links->list(t->inner->self, links, EB_LINKS_MAX) : 0;
    for (size_t i = 0; i < count; i++) {
        for (size_t k = 0; k < links[i].count; k++) {
            bool only = peer->ip[0] >= 224 && strcmp(links[i].name, name) == 0;
            if (!only && !eb_link_covers(&links[i].addresses[k], peer->ip))
                continue;
            memcpy(local->ip, links[i].addresses[k].ip, sizeof local->ip);
            snprintf(name, EB_LINK_NAME_BYTES, "%s", links[i].name);
            return;
        }
    }
}

static void mac_of(const struct eb_endpoint *endpoint, uint8_t mac[EB_MAC_BYTES])
{
    mac[0] = 0x02;
    mac[1] = 0x00;
    memcpy(mac + 2, endpoint->ip, 4);
}

/* Where the contents of a BER element begin (ITU-T X.690 section 8.1), and how many bytes they have; 0: it is
 * none. */
static size_t ber_at(const uint8_t *bytes, size_t size, size_t at, uint8_t tag, size_t *length)
{
    size_t more = at + 1 < size && (bytes[at + 1] & 0x80) != 0 ? bytes[at + 1] & 0x7FU : 0;
    if (at + 2 + more > size || bytes[at] != tag || more > 2)
        return 0;
    *length = more == 0 ? bytes[at + 1] : 0;
    for (size_t i = 0; i < more; i++)
        *length = *length << 8 | bytes[at + 2 + i];
    return at + 2 + more + *length <= size ? at + 2 + more : 0;
}

/* The community of SNMP is its password (RFC 3584 section 5.1): a trace shows as many x. */
static void mask_community(uint8_t *bytes, size_t size)
{
    size_t length;
    size_t at = ber_at(bytes, size, 0, 0x30, &length);
    size_t version = at > 0 ? ber_at(bytes, size, at, 0x02, &length) : 0;
    size_t community = version > 0 ? ber_at(bytes, size, version + length, 0x04, &length) : 0;
    if (community > 0)
        memset(bytes + community, 'x', length);
}

static void trace_udp(struct trace *t, const struct traced *h, bool out, const struct eb_datagram *d)
{
    static _Thread_local uint8_t frame[65536 + EBI_UDP_FRAME_HEAD_BYTES];
    const struct eb_endpoint *from = out ? &h->local : &d->peer;
    const struct eb_endpoint *to = out ? &d->peer : &h->local;
    uint8_t from_mac[EB_MAC_BYTES];
    uint8_t to_mac[EB_MAC_BYTES];
    struct eb_endpoint local = h->local;
    char name[EB_LINK_NAME_BYTES] = "ip";
    static _Thread_local uint8_t payload[65536];
    const uint8_t *shown = d->bytes;
    if (d->peer.port == EB_SNMP_PORT && d->size_bytes <= sizeof payload) {
        memcpy(payload, d->bytes, d->size_bytes);
        mask_community(payload, d->size_bytes);
        shown = payload;
    }
    find_local(t, &d->peer, &local, name);
    memcpy(local.ip, h->local.ip[0] != 0 ? h->local.ip : local.ip, sizeof local.ip);
    from = out ? &local : from;
    to = out ? to : &local;
    mac_of(from, from_mac);
    mac_of(to, to_mac);
    put_packet(t, interface_of(t, name, LINKTYPE_ETHERNET), now_us(t), out ? WENT_OUT : CAME_IN, frame,
               ebi_packet_udp(frame, from_mac, to_mac, from, to, shown, d->size_bytes));
}

static void trace_segment(struct trace *t, struct traced *h, bool out, uint8_t flags, const uint8_t *bytes,
                          size_t size)
{
    uint8_t frame[EBI_TCP_FRAME_HEAD_BYTES + SEGMENT_BYTES];
    const struct eb_endpoint *from = out ? &h->local : &h->peer;
    const struct eb_endpoint *to = out ? &h->peer : &h->local;
    uint32_t *sequence = out ? &h->sent : &h->received;
    uint8_t from_mac[EB_MAC_BYTES];
    uint8_t to_mac[EB_MAC_BYTES];
    mac_of(from, from_mac);
    mac_of(to, to_mac);
    uint32_t acknowledged = (flags & EBI_TCP_ACK) != 0 ? (out ? h->received : h->sent) : 0;
    put_packet(
        t, h->interface, now_us(t), out ? WENT_OUT : CAME_IN, frame,
        ebi_packet_tcp(frame, from_mac, to_mac, from, to, *sequence, acknowledged, flags, bytes, size));
    *sequence += (uint32_t)size + ((flags & (EBI_TCP_SYN | EBI_TCP_FIN)) != 0);
}

static void trace_stream(struct trace *t, struct traced *h, bool out, const uint8_t *bytes, size_t size)
{
    if (!h->open) {
        h->open = true;
        trace_segment(t, h, false, EBI_TCP_SYN | EBI_TCP_ACK, NULL, 0);
        trace_segment(t, h, true, EBI_TCP_ACK, NULL, 0);
    }
    for (size_t at = 0; at < size; at += SEGMENT_BYTES) {
        size_t n = size - at < SEGMENT_BYTES ? size - at : SEGMENT_BYTES;
        trace_segment(t, h, out, EBI_TCP_PSH | EBI_TCP_ACK, bytes + at, n);
    }
}

/* The error classes of Linux's CAN error frames (linux/can/error.h). */
static void put_fault(uint32_t fault, uint8_t frame[SOCKETCAN_BYTES])
{
    static const uint32_t classes[EB_CAN_FAULTS] = {0x20, 0x88, 0x88, 0x88, 0x88, 0x80, 0x04, 0x40};
    static const uint8_t types[EB_CAN_FAULTS] = {0, 0x01, 0x04, 0x02, 0, 0, 0, 0};
    ebi_put32(frame, 0x20000000U | classes[fault % EB_CAN_FAULTS]);
    frame[4] = 8;
    frame[8 + 1] = fault == EB_CAN_FAULT_OVERRUN;
    frame[8 + 2] = types[fault % EB_CAN_FAULTS];
    frame[8 + 3] = fault == EB_CAN_FAULT_CRC ? 0x08 : 0; /* where in the frame: its check sequence */
}

/* The key of a unit's security access (ISO 14229-1 section 10.4, an even sub-function of 27h) in a single
 * frame (ISO 15765-2), with or without an address in front: a trace shows zeros.  Of what is sent nothing
 * else looks so but SDO, whose identifiers are left out. */
static void mask_key(const struct eb_can_frame *f, uint8_t *data)
{
    if (f->id >= 0x600 && f->id < 0x680 && (f->flags & EB_CAN_EXTENDED) == 0)
        return;
    for (size_t at = 0; at < 2 && f->size >= at + 4U; at++) {
        size_t length = data[at];
        if (length < 3 || length > 7U - at || data[at + 1] != 0x27 || data[at + 2] % 2 != 0)
            continue;
        for (size_t i = at + 3; i <= at + length && i < f->size; i++)
            data[i] = 0;
        return;
    }
}

static void trace_can(struct trace *t, const struct traced *h, bool out, const struct eb_can_frame *f)
{
    uint8_t frame[SOCKETCAN_BYTES] = {0};
    uint32_t id = f->id | ((f->flags & EB_CAN_EXTENDED) != 0 ? 0x80000000U : 0) |
                  ((f->flags & EB_CAN_REMOTE) != 0 ? 0x40000000U : 0);
    if ((f->flags & EB_CAN_FAULT) != 0) {
        put_fault(f->id, frame);
    } else {
        ebi_put32(frame, id);
        frame[4] = f->size;
        if ((f->flags & EB_CAN_REMOTE) == 0)
            memcpy(frame + 8, f->data, f->size);
        if (out)
            mask_key(f, frame + 8);
    }
    put_packet(t, h->interface, f->at_us != 0 ? f->at_us : now_us(t), out ? WENT_OUT : CAME_IN, frame,
               sizeof frame);
}

/* A control transfer as usbmon tells of it (Linux, Documentation/usb/usbmon.rst): when it begins, and when it
 * is over with `status` 0 or a negative error number. */
static void trace_usb(struct trace *t, const struct traced *h, bool begins, int32_t status,
                      const uint8_t *bytes, size_t size)
{
    static _Thread_local uint8_t packet[USB_HEAD_BYTES + UINT16_MAX];
    bool in = (h->setup.type & EB_USB_IN) != 0;
    uint64_t wall_us = now_us(t) + (uint64_t)t->offset_us;
    int64_t seconds = (int64_t)(wall_us / 1000000);
    int32_t micros = (int32_t)(wall_us % 1000000);
    uint32_t length = begins ? h->setup.length : (uint32_t)size;
    uint32_t captured =
        begins == in ? 0 : (uint32_t)size; /* what goes out is in the first, what comes in the other */
    memset(packet, 0, USB_HEAD_BYTES);
    memcpy(packet, &h->asked, 8);
    packet[8] = begins ? 'S' : 'C';
    packet[9] = 2; /* control */
    packet[10] = in ? EB_USB_IN : 0;
    packet[11] = h->address;
    memcpy(packet + 12, &h->bus, 2);
    packet[14] = begins ? 0 : '-';
    packet[15] = captured > 0 ? 0 : in ? '<' : '>';
    memcpy(packet + 16, &seconds, 8);
    memcpy(packet + 24, &micros, 4);
    memcpy(packet + 28, &status, 4);
    memcpy(packet + 32, &length, 4);
    memcpy(packet + 36, &captured, 4);
    if (begins)
        eb_usb_setup_put(&h->setup, packet + 40);
    if (captured > 0)
        memcpy(packet + USB_HEAD_BYTES, bytes, captured);
    put_packet(t, h->interface, now_us(t), begins ? WENT_OUT : CAME_IN, packet, USB_HEAD_BYTES + captured);
}

/* --- the port ------------------------------------------------------------------------------------ */

static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    const struct trace *t = self;
    return t->inner->time->wait(t->inner->self, deadline_us, ready, cap);
}

static uint32_t random_number(void *self)
{
    const struct trace *t = self;
    return eb_port_random(t->inner);
}

static uint32_t path_mtu_bytes(void *self, const struct eb_endpoint *peer)
{
    const struct trace *t = self;
    return t->inner->udp->mtu_bytes(t->inner->self, peer);
}

static size_t list_links(void *self, struct eb_link *links, size_t cap)
{
    const struct trace *t = self;
    return t->inner->links->list(t->inner->self, links, cap);
}

static enum eb_status udp_open(void *self, struct eb_waiter *waiter, const struct eb_udp_options *options,
                               int *handle)
{
    struct trace *t = self;
    enum eb_status status = t->inner->udp->open(t->inner->self, waiter, options, handle);
    if (status == EB_OK) {
        struct traced *h = traced_at(t, GROUP_UDP, *handle);
        *h = (struct traced){.local = {.port = (uint16_t)(PORT_FIRST + *handle)}};
        if (options != NULL && options->local_port != 0)
            h->local.port = options->local_port;
    }
    return status;
}

static size_t udp_send(void *self, int handle, const struct eb_datagram *burst, size_t count)
{
    struct trace *t = self;
    size_t sent = t->inner->udp->send(t->inner->self, handle, burst, count);
    for (size_t i = 0; i < sent; i++)
        trace_udp(t, traced_at(t, GROUP_UDP, handle), true, &burst[i]);
    return sent;
}

static enum eb_status udp_receive(void *self, int handle, struct eb_datagram *burst, size_t count,
                                  size_t *received)
{
    struct trace *t = self;
    enum eb_status status = t->inner->udp->receive(t->inner->self, handle, burst, count, received);
    for (size_t i = 0; status == EB_OK && i < *received; i++)
        trace_udp(t, traced_at(t, GROUP_UDP, handle), false, &burst[i]);
    return status;
}

static void udp_close(void *self, int handle)
{
    const struct trace *t = self;
    t->inner->udp->close(t->inner->self, handle);
}

static void begin_stream(struct trace *t, struct traced *h, uint16_t port, const struct eb_endpoint *peer)
{
    char name[EB_LINK_NAME_BYTES] = "ip";
    uint32_t again = h->sent; /* numbers go on, so that a port used again is another conversation */
    *h = (struct traced){
        .peer = *peer, .local = {.port = port}, .sent = again + 0x10000, .received = again + 0x20000};
    find_local(t, peer, &h->local, name);
    h->interface = interface_of(t, name, LINKTYPE_ETHERNET);
    trace_segment(t, h, true, EBI_TCP_SYN, NULL, 0);
}

static void end_stream(struct trace *t, struct traced *h)
{
    if (h->open && !h->ended) {
        trace_segment(t, h, true, EBI_TCP_FIN | EBI_TCP_ACK, NULL, 0);
        trace_segment(t, h, false, EBI_TCP_FIN | EBI_TCP_ACK, NULL, 0);
        trace_segment(t, h, true, EBI_TCP_ACK, NULL, 0);
    }
}

static enum eb_status tcp_open(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                               int *handle)
{
    struct trace *t = self;
    enum eb_status status = t->inner->tcp->open(t->inner->self, waiter, peer, handle);
    if (status == EB_OK)
        begin_stream(t, traced_at(t, GROUP_TCP, *handle), (uint16_t)(PORT_FIRST + *handle), peer);
    return status;
}

/* What a call gave, for the trace. */
static enum eb_status tcp_passed(struct trace *t, int handle, enum eb_status status, bool out,
                                 const uint8_t *bytes, size_t size)
{
    struct traced *h = traced_at(t, GROUP_TCP, handle);
    if (status == EB_OK && size > 0) {
        trace_stream(t, h, out, bytes, size);
    } else if ((status == EB_UNREACHABLE || status == EB_CLOSED) && !h->ended) {
        h->ended = true;
        trace_segment(t, h, false, EBI_TCP_RST | EBI_TCP_ACK, NULL, 0);
    }
    return status;
}

static enum eb_status tcp_send(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent)
{
    struct trace *t = self;
    enum eb_status status = t->inner->tcp->send(t->inner->self, handle, bytes, size, sent);
    return tcp_passed(t, handle, status, true, bytes, *sent);
}

static enum eb_status tcp_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct trace *t = self;
    enum eb_status status = t->inner->tcp->receive(t->inner->self, handle, bytes, cap, received);
    return tcp_passed(t, handle, status, false, bytes, *received);
}

static void tcp_close(void *self, int handle)
{
    struct trace *t = self;
    end_stream(t, traced_at(t, GROUP_TCP, handle));
    t->inner->tcp->close(t->inner->self, handle);
}

static enum eb_status frame_open(void *self, struct eb_waiter *waiter, const char *link, int *handle)
{
    struct trace *t = self;
    enum eb_status status = t->inner->frame->open(t->inner->self, waiter, link, handle);
    if (status == EB_OK)
        *traced_at(t, GROUP_FRAME, *handle) =
            (struct traced){.interface = interface_of(t, link, LINKTYPE_ETHERNET)};
    return status;
}

static void frame_send(void *self, int handle, const uint8_t *bytes, size_t size)
{
    struct trace *t = self;
    put_packet(t, traced_at(t, GROUP_FRAME, handle)->interface, now_us(t), WENT_OUT, bytes, size);
    t->inner->frame->send(t->inner->self, handle, bytes, size);
}

static enum eb_status frame_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct trace *t = self;
    enum eb_status status = t->inner->frame->receive(t->inner->self, handle, bytes, cap, received);
    if (status == EB_OK)
        put_packet(t, traced_at(t, GROUP_FRAME, handle)->interface, now_us(t), CAME_IN, bytes, *received);
    return status;
}

static void frame_close(void *self, int handle)
{
    const struct trace *t = self;
    t->inner->frame->close(t->inner->self, handle);
}

static size_t list_neighbours(void *self, const char *link, struct eb_neighbour *list, size_t cap)
{
    const struct trace *t = self;
    return t->inner->links->neighbours(t->inner->self, link, list, cap);
}

static enum eb_status address_add(void *self, const char *link, const struct eb_link_address *address)
{
    const struct trace *t = self;
    return t->inner->links->add(t->inner->self, link, address);
}

static enum eb_status address_remove(void *self, const char *link, const struct eb_link_address *address)
{
    const struct trace *t = self;
    return t->inner->links->remove(t->inner->self, link, address);
}

static enum eb_status can_open(void *self, struct eb_waiter *waiter, const struct eb_can_options *options,
                               int *handle)
{
    struct trace *t = self;
    enum eb_status status = t->inner->can->open(t->inner->self, waiter, options, handle);
    if (status == EB_OK)
        *traced_at(t, GROUP_CAN, *handle) =
            (struct traced){.interface = interface_of(t, options->link, LINKTYPE_SOCKETCAN)};
    return status;
}

static size_t can_send(void *self, int handle, const struct eb_can_frame *burst, size_t count)
{
    struct trace *t = self;
    size_t sent = t->inner->can->send(t->inner->self, handle, burst, count);
    for (size_t i = 0; i < sent; i++) {
        struct eb_can_frame frame = burst[i];
        frame.at_us = 0;
        trace_can(t, traced_at(t, GROUP_CAN, handle), true, &frame);
    }
    return sent;
}

static uint64_t can_sent(void *self, int handle)
{
    const struct trace *t = self;
    return t->inner->can->sent(t->inner->self, handle);
}

static enum eb_status can_receive(void *self, int handle, struct eb_can_frame *frames, size_t cap,
                                  size_t *received)
{
    struct trace *t = self;
    enum eb_status status = t->inner->can->receive(t->inner->self, handle, frames, cap, received);
    for (size_t i = 0; status == EB_OK && i < *received; i++)
        trace_can(t, traced_at(t, GROUP_CAN, handle), false, &frames[i]);
    return status;
}

static void can_state(void *self, int handle, struct eb_can_state *state)
{
    const struct trace *t = self;
    t->inner->can->state(t->inner->self, handle, state);
}

static void can_close(void *self, int handle)
{
    const struct trace *t = self;
    t->inner->can->close(t->inner->self, handle);
}

static bool usb_device(void *self, size_t index, struct eb_usb_device *device)
{
    const struct trace *t = self;
    return t->inner->usb->device(t->inner->self, index, device);
}

static enum eb_status usb_watch(void *self, struct eb_waiter *waiter, int *handle)
{
    const struct trace *t = self;
    return t->inner->usb->watch(t->inner->self, waiter, handle);
}

static enum eb_status usb_open(void *self, struct eb_waiter *waiter, const struct eb_usb_device *device,
                               int *handle)
{
    struct trace *t = self;
    enum eb_status status = t->inner->usb->open(t->inner->self, waiter, device, handle);
    if (status == EB_OK) {
        char name[16];
        snprintf(name, sizeof name, "usb%u", device->bus);
        *traced_at(t, GROUP_USB, *handle) = (struct traced){
            .interface = interface_of(t, name, LINKTYPE_USB), .bus = device->bus, .address = device->address};
    }
    return status;
}

static enum eb_status usb_claim(void *self, int handle, uint8_t interface, uint8_t alternate)
{
    const struct trace *t = self;
    return t->inner->usb->claim(t->inner->self, handle, interface, alternate);
}

static enum eb_status usb_control(void *self, int handle, const struct eb_usb_setup *setup,
                                  const uint8_t *bytes, uint32_t patience_ms)
{
    struct trace *t = self;
    struct traced *h = traced_at(t, GROUP_USB, handle);
    enum eb_status status = t->inner->usb->control(t->inner->self, handle, setup, bytes, patience_ms);
    if (status == EB_OK) {
        h->setup = *setup;
        h->asked = ++t->transfers;
        trace_usb(t, h, true, -EINPROGRESS, bytes, setup->length);
    }
    return status;
}

static enum eb_status usb_answer(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct trace *t = self;
    struct traced *h = traced_at(t, GROUP_USB, handle);
    enum eb_status status = t->inner->usb->answer(t->inner->self, handle, bytes, cap, received);
    int32_t error = status == EB_OK           ? 0
                    : status == EB_PEER_ERROR ? -EPIPE
                    : status == EB_TOO_LARGE  ? -EOVERFLOW
                    : status == EB_NO_ANSWER  ? -ENOENT
                                              : -ESHUTDOWN;
    bool in = (h->setup.type & EB_USB_IN) != 0;
    if (status != EB_PENDING && h->asked != 0)
        trace_usb(t, h, false, error, bytes, status != EB_OK ? 0 : in ? *received : h->setup.length);
    if (status != EB_PENDING)
        h->asked = 0;
    return status;
}

static enum eb_status usb_reset(void *self, int handle)
{
    const struct trace *t = self;
    return t->inner->usb->reset(t->inner->self, handle);
}

static void usb_close(void *self, int handle)
{
    const struct trace *t = self;
    t->inner->usb->close(t->inner->self, handle);
}

/* --- HTTP ---------------------------------------------------------------------------------------- */

static void text_open(void *self, int handle, const struct eb_endpoint *peer)
{
    struct trace *t = self;
    begin_stream(t, traced_at(t, GROUP_HTTP, handle), (uint16_t)(HTTP_PORT_FIRST + handle), peer);
}

static void text_put(void *self, int handle, bool out, const uint8_t *bytes, size_t size)
{
    struct trace *t = self;
    trace_stream(t, traced_at(t, GROUP_HTTP, handle), out, bytes, size);
}

static void text_close(void *self, int handle)
{
    struct trace *t = self;
    end_stream(t, traced_at(t, GROUP_HTTP, handle));
}

static enum eb_status http_begin(void *self, struct eb_waiter *waiter, const struct eb_http_request *request,
                                 int *handle)
{
    return ebi_trace_http_begin(((struct trace *)self)->http, waiter, request, handle);
}

static enum eb_status http_poll(void *self, int handle, struct eb_http_progress *progress)
{
    return ebi_trace_http_poll(((struct trace *)self)->http, handle, progress);
}

static void http_close(void *self, int handle)
{
    ebi_trace_http_close(((struct trace *)self)->http, handle);
}

/* ------------------------------------------------------------------------------------------------- */

static const struct eb_port_time time_group = {sizeof time_group, now_us, wait_until, random_number};
static const struct eb_port_udp udp_group = {sizeof udp_group, udp_open,  udp_send,
                                             udp_receive,      udp_close, path_mtu_bytes};
static const struct eb_port_tcp tcp_group = {sizeof tcp_group, tcp_open, tcp_send, tcp_receive, tcp_close};
static const struct eb_port_frame frame_group = {sizeof frame_group, frame_open, frame_send, frame_receive,
                                                 frame_close};
static const struct eb_port_can can_group = {sizeof can_group, can_open,  can_send, can_sent,
                                             can_receive,      can_state, can_close};
static const struct eb_port_usb usb_group = {sizeof usb_group, usb_device, usb_watch, usb_open, usb_claim,
                                             usb_control,      usb_answer, usb_reset, usb_close};

static const struct eb_port_http http_group = {sizeof http_group, http_begin, http_poll, http_close};

const struct eb_port *eb_trace_open(const struct eb_port *inner, const char *path, bool real,
                                    struct eb_problem *problem)
{
    struct trace *t = calloc(1, sizeof *t);
    struct timespec wall;
    if (t == NULL)
        return NULL;
    snprintf(t->path, sizeof t->path, "%s", path);
    /* The trace may hold confidential data, so an existing file gets this mode as well. */
    t->file = ebi_file_create(path, 0600);
    if (t->file == NULL || fchmod(fileno(t->file), 0600) != 0) {
        snprintf(problem->text, sizeof problem->text, "%s: the trace cannot be written there: %s", path,
                 strerror(errno));
        if (t->file != NULL)
            fclose(t->file);
        free(t);
        return NULL;
    }
    t->inner = inner;
    clock_gettime(CLOCK_REALTIME, &wall);
    if (real)
        t->offset_us = (int64_t)wall.tv_sec * 1000000 + wall.tv_nsec / 1000 - (int64_t)eb_port_now_us(inner);
    /* What the inner port has not, this one has not either. */
    t->links = (struct eb_port_links){sizeof t->links, EB_PORT_HAS(inner, links, list) ? list_links : NULL,
                                      EB_PORT_HAS(inner, links, neighbours) ? list_neighbours : NULL,
                                      EB_PORT_HAS(inner, links, add) ? address_add : NULL,
                                      EB_PORT_HAS(inner, links, remove) ? address_remove : NULL};
    t->port = (struct eb_port){.bytes = sizeof t->port,
                               .self = t,
                               .time = &time_group,
                               .udp = EB_PORT_HAS(inner, udp, open) ? &udp_group : NULL,
                               .tcp = EB_PORT_HAS(inner, tcp, open) ? &tcp_group : NULL,
                               .frame = EB_PORT_HAS(inner, frame, open) ? &frame_group : NULL,
                               .links = inner->links != NULL ? &t->links : NULL,
                               .can = EB_PORT_HAS(inner, can, open) ? &can_group : NULL,
                               .usb = EB_PORT_HAS(inner, usb, device) ? &usb_group : NULL,
                               .http = EB_PORT_HAS(inner, http, begin) ? &http_group : NULL};
    const struct ebi_trace_text text = {t, text_open, text_put, text_close};
    t->http = ebi_trace_http_new(inner, &text);
    put_section(t);
    return &t->port;
}

bool eb_trace_close(const struct eb_port *port, struct eb_problem *problem)
{
    struct trace *t = port->self;
    bool ok = !t->failed;
    if (fclose(t->file) != 0)
        ok = false;
    if (!ok)
        snprintf(problem->text, sizeof problem->text, "%s: the trace could not be written whole: %s", t->path,
                 strerror(errno != 0 ? errno : ENOSPC));
    for (int i = 0; i < GROUPS; i++)
        free(t->handles[i]);
    ebi_trace_http_free(t->http);
    free(t);
    return ok;
}
