/* The simulated devices on one real Ethernet interface, in real time: each has its own hardware address, and
 * an IP address or none, whatever subnet that is of.
 *
 * What a small device's network code does is done here for all of them: ARP and DCP are the device's
 * (ether.c), here are UDP and the listening end of TCP (RFC 9293), which takes what comes in order and leaves
 * the rest to be sent again.  Checksums of what comes are not looked at: over a pair of virtual interfaces
 * the system leaves them out. */
#include "einbau/bootp.h"
#include "packet.h"
#include "world.h"

#include <arpa/inet.h>
#include <errno.h>
#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

#include "base/bytes.h"
#include "wire/ethernet_wire.h"

enum {
    FRAME_BYTES = 65536 + 64, /* as large as what the system hands over in one piece */
    SOCKETS_MAX = 1024,
    PEERS_MAX = 64,
    STREAMS_MAX = 512,
    STREAM_TX_BYTES = 2048,
    SEGMENT_BYTES = 1460,
    TCP_HEAD = 20,
    FIN = 1,
    SYN = 2,
    RST = 4,
    PSH = 8,
    ACK = 16,
    WINDOW = 8192,
    RESEND_US = 300000,
    RESENDS_MAX = 7,
    LINGER_US = 1000000,
    BURST = 512,
    ROOM_BYTES = 8 << 20
};

/* LISTEN is every device's; a stream begins with a SYN. */
enum stream_state { STREAM_FREE, STREAM_SYN_RECEIVED, STREAM_OPEN, STREAM_CLOSING };

struct stream {
    enum stream_state state;
    struct ebi_sim_device *device;
    struct eb_endpoint peer;
    uint16_t port;
    uint32_t next_in;            /* RCV.NXT */
    uint32_t acked_out;          /* SND.UNA */
    uint8_t tx[STREAM_TX_BYTES]; /* from SND.UNA on */
    size_t tx_size;
    bool acks; /* something came that must be acknowledged */
    uint64_t resend_us, pause_us;
    unsigned resends;
};

struct peer {
    uint8_t ip[4], mac[EB_MAC_BYTES];
};

struct bound {
    struct ebi_sim_device *device;
    uint16_t port;
};

struct ebi_sim_segment {
    struct ebi_sim_net net;
    struct eb_sim *sim;
    char wire[EB_NAME_BYTES];
    int fd;
    struct bound sockets[SOCKETS_MAX];
    uint16_t next_port;
    struct peer peers[PEERS_MAX];
    size_t peer_count, next_peer;
    struct stream streams[STREAMS_MAX];
    uint32_t sequence;
    uint8_t frame[FRAME_BYTES];
};

static uint64_t now_us(void *self)
{
    (void)self;
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

static bool here(const struct ebi_sim_segment *g, const struct ebi_sim_device *d)
{
    return strcmp(d->wire, g->wire) == 0;
}

/* --- what goes out ------------------------------------------------------------------------------- */

static void frame_send(void *self, struct ebi_sim_device *d, const uint8_t *frame, size_t size)
{
    const struct ebi_sim_segment *g = self;
    if (here(g, d) && send(g->fd, frame, size, 0) < 0 && errno == ENOBUFS)
        usleep(1000); /* lost, as on a wire; the next one may pass */
}

/* The hardware address behind an IP address, as heard before. */
static const uint8_t *mac_of(const struct ebi_sim_segment *g, const uint8_t ip[4])
{
    for (size_t i = 0; i < g->peer_count; i++) {
        if (memcmp(g->peers[i].ip, ip, 4) == 0)
            return g->peers[i].mac;
    }
    return NULL;
}

static void learn(struct ebi_sim_segment *g, const uint8_t *ip, const uint8_t *mac)
{
    size_t at = 0;
    while (at < g->peer_count && memcmp(g->peers[at].ip, ip, 4) != 0)
        at++;
    if (at == g->peer_count) {
        at = g->peer_count < PEERS_MAX ? g->peer_count++ : g->next_peer++ % PEERS_MAX;
        memcpy(g->peers[at].ip, ip, 4);
    }
    memcpy(g->peers[at].mac, mac, EB_MAC_BYTES);
}

static void udp_send_from(void *self, struct ebi_sim_device *d, uint16_t port, const struct eb_endpoint *to,
                          const uint8_t *bytes, size_t size)
{
    struct ebi_sim_segment *g = self;
    uint8_t frame[EBI_UDP_FRAME_HEAD_BYTES + 1500];
    uint8_t group[EB_MAC_BYTES];
    const uint8_t *mac = group;
    struct eb_endpoint from = {.port = port};
    memcpy(from.ip, d->set.ip, sizeof from.ip);
    ebi_sim_ether_group_mac(to->ip, group);
    if (to->ip[0] < 224)
        mac = ebi_sim_device_covers(d, to->ip) ? mac_of(g, to->ip) : NULL;
    if (mac != NULL && size <= 1472)
        frame_send(g, d, frame, ebi_packet_udp(frame, d->mac, mac, &from, to, bytes, size));
}

static int udp_bind(void *self, struct ebi_sim_device *d, uint16_t port)
{
    struct ebi_sim_segment *g = self;
    for (int i = 0; i < SOCKETS_MAX; i++) {
        if (g->sockets[i].device != NULL)
            continue;
        g->sockets[i].device = d;
        g->sockets[i].port = port != 0 ? port : (uint16_t)(20000 + g->next_port++ % 20000);
        return i;
    }
    return EB_NO_HANDLE;
}

static void udp_send(void *self, int handle, const struct eb_endpoint *to, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_segment *g = self;
    if (handle != EB_NO_HANDLE)
        udp_send_from(g, g->sockets[handle].device, g->sockets[handle].port, to, bytes, size);
}

static void udp_unbind(void *self, int handle)
{
    struct ebi_sim_segment *g = self;
    if (handle != EB_NO_HANDLE)
        g->sockets[handle].device = NULL;
}

/* --- TCP ----------------------------------------------------------------------------------------- */

static void send_segment(struct ebi_sim_segment *g, struct ebi_sim_device *d, const struct eb_endpoint *peer,
                         uint16_t port, uint32_t sequence, uint32_t acknowledged, unsigned flags,
                         const uint8_t *bytes, size_t size)
{
    uint8_t frame[EB_FRAME_HEAD_BYTES + IPV4_HEAD_BYTES + TCP_HEAD + 4 + SEGMENT_BYTES] = {0};
    uint8_t *ip = frame + EB_FRAME_HEAD_BYTES;
    uint8_t *tcp = ip + IPV4_HEAD_BYTES;
    const uint8_t *mac = mac_of(g, peer->ip);
    size_t head = (flags & SYN) != 0 ? TCP_HEAD + 4 : TCP_HEAD;
    if (mac == NULL)
        return;
    memcpy(frame, mac, EB_MAC_BYTES);
    memcpy(frame + EB_MAC_BYTES, d->mac, EB_MAC_BYTES);
    ebi_put16(frame + 12, EB_ETHERTYPE_IPV4);
    ip[0] = 0x45;
    ebi_put16(ip + 2, (uint16_t)(IPV4_HEAD_BYTES + head + size));
    ip[8] = 64;
    ip[9] = IPV4_TCP;
    memcpy(ip + 12, d->set.ip, 4);
    memcpy(ip + 16, peer->ip, 4);
    ebi_put16(ip + 10, ebi_packet_checksum(ebi_packet_sum(0, ip, IPV4_HEAD_BYTES)));
    ebi_put16(tcp, port);
    ebi_put16(tcp + 2, peer->port);
    ebi_put32(tcp + 4, sequence);
    ebi_put32(tcp + 8, acknowledged);
    tcp[12] = (uint8_t)(head / 4 << 4);
    tcp[13] = (uint8_t)flags;
    ebi_put16(tcp + 14, WINDOW);
    if ((flags & SYN) != 0) {
        tcp[TCP_HEAD] = 2; /* maximum segment size */
        tcp[TCP_HEAD + 1] = 4;
        ebi_put16(tcp + TCP_HEAD + 2, SEGMENT_BYTES);
    }
    if (size > 0)
        memcpy(tcp + head, bytes, size);
    uint32_t pseudo = ebi_packet_sum(IPV4_TCP + (uint32_t)(head + size), ip + 12, 8);
    ebi_put16(tcp + 16, ebi_packet_checksum(ebi_packet_sum(pseudo, tcp, head + size)));
    size_t whole = EB_FRAME_HEAD_BYTES + IPV4_HEAD_BYTES + head + size;
    frame_send(g, d, frame, whole < EB_FRAME_MIN_BYTES ? EB_FRAME_MIN_BYTES : whole);
}

static void arm(struct stream *t)
{
    t->pause_us = RESEND_US;
    t->resends = 0;
    t->resend_us = now_us(NULL) + t->pause_us;
}

/* Sends everything that is not acknowledged, from the oldest on. */
static void send_all(struct ebi_sim_segment *g, struct stream *t)
{
    for (size_t at = 0; at < t->tx_size;) {
        size_t n = t->tx_size - at < SEGMENT_BYTES ? t->tx_size - at : SEGMENT_BYTES;
        send_segment(g, t->device, &t->peer, t->port, t->acked_out + (uint32_t)at, t->next_in, ACK | PSH,
                     t->tx + at, n);
        at += n;
    }
    t->acks = false;
}

static void tcp_send(void *self, int connection, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_segment *g = self;
    struct stream *t = &g->streams[connection];
    if (t->state != STREAM_OPEN || t->tx_size + size > sizeof t->tx)
        return;
    memcpy(t->tx + t->tx_size, bytes, size);
    t->tx_size += size;
    send_all(g, t);
    arm(t);
}

static void tcp_close(void *self, int connection)
{
    struct ebi_sim_segment *g = self;
    struct stream *t = &g->streams[connection];
    if (t->state == STREAM_FREE)
        return;
    send_segment(g, t->device, &t->peer, t->port, t->acked_out, t->next_in, RST | ACK, t->tx, 0);
    t->state = STREAM_FREE;
}

static struct stream *stream_of(struct ebi_sim_segment *g, const struct ebi_sim_device *d,
                                const struct eb_endpoint *peer, uint16_t port)
{
    for (size_t i = 0; i < STREAMS_MAX; i++) {
        struct stream *t = &g->streams[i];
        if (t->state != STREAM_FREE && t->device == d && t->port == port && eb_endpoint_same(&t->peer, peer))
            return t;
    }
    return NULL;
}

static void take_syn(struct ebi_sim_segment *g, struct ebi_sim_device *d, const struct eb_endpoint *peer,
                     uint16_t port, uint32_t sequence)
{
    if (!ebi_sim_device_listens(d, true, port)) {
        send_segment(g, d, peer, port, 0, sequence + 1, RST | ACK, NULL, 0);
        return;
    }
    for (size_t i = 0; i < STREAMS_MAX; i++) {
        struct stream *t = &g->streams[i];
        if (t->state != STREAM_FREE)
            continue;
        g->sequence += 64021;
        *t = (struct stream){.state = STREAM_SYN_RECEIVED,
                             .device = d,
                             .peer = *peer,
                             .port = port,
                             .next_in = sequence + 1,
                             .acked_out = g->sequence};
        arm(t);
        send_segment(g, d, peer, port, t->acked_out, t->next_in, SYN | ACK, NULL, 0);
        return;
    }
}

/* What is acknowledged need not be kept; gives false where the number is none of this stream's. */
static bool take_ack(struct stream *t, uint32_t acknowledged)
{
    uint32_t fresh = acknowledged - t->acked_out;
    uint32_t marks = t->state == STREAM_OPEN ? 0 : 1; /* SYN or FIN take a number too */
    if (fresh > t->tx_size + marks)
        return false;
    if (fresh == 0)
        return true;
    size_t bytes = fresh < t->tx_size ? fresh : t->tx_size;
    t->tx_size -= bytes;
    memmove(t->tx, t->tx + bytes, t->tx_size);
    t->acked_out = acknowledged;
    arm(t);
    return true;
}

static void take_segment(struct ebi_sim_segment *g, struct ebi_sim_device *d, const struct eb_endpoint *peer,
                         const uint8_t *tcp, size_t size)
{
    uint16_t port = ebi_get16(tcp + 2);
    uint32_t sequence = ebi_get32(tcp + 4);
    size_t head = (size_t)(tcp[12] >> 4) * 4;
    unsigned flags = tcp[13];
    if (head < TCP_HEAD || head > size)
        return;
    size_t bytes = size - head;
    struct stream *t = stream_of(g, d, peer, port);
    int handle = (int)(t != NULL ? t - g->streams : 0);
    if ((flags & SYN) != 0) {
        if (t == NULL)
            take_syn(g, d, peer, port, sequence);
        else if (t->state == STREAM_SYN_RECEIVED)
            send_segment(g, d, peer, port, t->acked_out, t->next_in, SYN | ACK, NULL, 0);
        return;
    }
    if (t == NULL) {
        if ((flags & RST) == 0)
            send_segment(g, d, peer, port, ebi_get32(tcp + 8), sequence + (uint32_t)bytes, RST | ACK, NULL,
                         0);
        return;
    }
    if ((flags & RST) != 0) {
        bool known = t->state == STREAM_OPEN;
        t->state = STREAM_FREE;
        if (known)
            ebi_sim_device_disconnected(d, handle);
        return;
    }
    if ((flags & ACK) != 0 && take_ack(t, ebi_get32(tcp + 8))) {
        if (t->state == STREAM_CLOSING && t->tx_size == 0) {
            t->state = STREAM_FREE;
            return;
        }
        if (t->state == STREAM_SYN_RECEIVED) {
            t->state = STREAM_OPEN;
            ebi_sim_device_connected(d, handle, port);
        }
    }
    if (t->state != STREAM_OPEN)
        return;
    if (bytes > 0 || (flags & FIN) != 0)
        t->acks = true;
    if (sequence == t->next_in) {
        t->next_in += (uint32_t)bytes;
        if (bytes > 0)
            ebi_sim_device_stream(d, handle, tcp + head, bytes);
        if ((flags & FIN) != 0 && t->state == STREAM_OPEN) {
            t->next_in++;
            t->state = STREAM_CLOSING;
            arm(t);
            send_segment(g, d, peer, port, t->acked_out + (uint32_t)t->tx_size, t->next_in, FIN | ACK, NULL,
                         0);
            ebi_sim_device_disconnected(d, handle);
            return;
        }
    }
    if (t->acks && t->state == STREAM_OPEN) {
        t->acks = false;
        send_segment(g, d, peer, port, t->acked_out + (uint32_t)t->tx_size, t->next_in, ACK, NULL, 0);
    }
}

static void tick_stream(struct ebi_sim_segment *g, struct stream *t, uint64_t at_us)
{
    bool waits = t->state == STREAM_SYN_RECEIVED || t->state == STREAM_CLOSING || t->tx_size > 0;
    if (t->state == STREAM_FREE || !waits || at_us < t->resend_us)
        return;
    if (++t->resends > RESENDS_MAX) {
        bool known = t->state == STREAM_OPEN;
        t->state = STREAM_FREE;
        if (known)
            ebi_sim_device_disconnected(t->device, (int)(t - g->streams));
        return;
    }
    t->pause_us *= 2;
    t->resend_us = at_us + t->pause_us;
    if (t->state == STREAM_SYN_RECEIVED)
        send_segment(g, t->device, &t->peer, t->port, t->acked_out, t->next_in, SYN | ACK, NULL, 0);
    else if (t->state == STREAM_CLOSING)
        send_segment(g, t->device, &t->peer, t->port, t->acked_out + (uint32_t)t->tx_size, t->next_in,
                     FIN | ACK, NULL, 0);
    else
        send_all(g, t);
}

/* A device that goes takes its connections with it, without a word. */
static void set_alive(void *self, struct ebi_sim_device *d, bool alive)
{
    struct ebi_sim_segment *g = self;
    for (size_t i = 0; !alive && i < STREAMS_MAX; i++) {
        if (g->streams[i].device == d)
            g->streams[i].state = STREAM_FREE;
    }
}

/* --- what comes in ------------------------------------------------------------------------------- */

static void take_datagram(struct ebi_sim_segment *g, struct ebi_sim_device *d, const struct eb_udp *udp)
{
    struct eb_endpoint from = {.port = udp->from_port};
    memcpy(from.ip, udp->from_ip, sizeof from.ip);
    for (int i = 0; i < SOCKETS_MAX; i++) {
        if (g->sockets[i].device == d && g->sockets[i].port == udp->to_port) {
            ebi_sim_device_datagram(d, i, udp->to_port, &from, udp->payload, udp->size);
            return;
        }
    }
    if (!ebi_sim_device_listens(d, false, udp->to_port))
        return;
    int handle = udp_bind(g, d, udp->to_port);
    if (handle == EB_NO_HANDLE)
        return;
    ebi_sim_device_datagram(d, handle, udp->to_port, &from, udp->payload, udp->size);
    udp_unbind(g, handle);
}

/* An IP packet that a device takes: for its address, for all, or for the group of DNS-SD.  One without an
 * address only takes what is about one. */
static void take_packet(struct ebi_sim_segment *g, struct ebi_sim_device *d, const struct eb_frame *frame)
{
    static const uint8_t dns_sd[4] = {224, 0, 0, 251};
    const uint8_t *ip = frame->payload;
    struct eb_udp udp;
    size_t head = frame->size < IPV4_HEAD_BYTES ? 0 : (size_t)(ip[0] & 15) * 4;
    if (head < IPV4_HEAD_BYTES || frame->size < head || !ebi_sim_device_alive(d))
        return;
    bool own = ebi_sim_device_has_ip(d) && memcmp(ip + 16, d->set.ip, 4) == 0;
    bool all = ebi_get32(ip + 16) == UINT32_MAX || memcmp(ip + 16, dns_sd, 4) == 0;
    if (!own && !all)
        return;
    if (eb_udp_read(&udp, ip, frame->size)) {
        if (ebi_sim_device_has_ip(d) || udp.to_port == EB_BOOTP_CLIENT_PORT)
            take_datagram(g, d, &udp);
    } else if (ip[9] == IPV4_TCP && own) {
        size_t whole = ebi_get16(ip + 2) < frame->size ? ebi_get16(ip + 2) : frame->size;
        struct eb_endpoint peer;
        memcpy(peer.ip, ip + 12, 4);
        if (whole < head + TCP_HEAD || !ebi_sim_device_covers(d, peer.ip))
            return;
        peer.port = ebi_get16(ip + head);
        take_segment(g, d, &peer, ip + head, whole - head);
    }
}

static void take_frame(struct ebi_sim_segment *g, const uint8_t *bytes, size_t size)
{
    struct eb_frame frame;
    struct eb_arp arp;
    if (!eb_frame_read(&frame, bytes, size))
        return;
    if (frame.type == EB_ETHERTYPE_IPV4 && frame.size >= IPV4_HEAD_BYTES)
        learn(g, frame.payload + 12, frame.from);
    else if (frame.type == EB_ETHERTYPE_ARP && eb_arp_read(&arp, frame.payload, frame.size))
        learn(g, arp.from_ip, arp.from_mac);
    for (size_t i = 0; i < g->sim->count; i++) {
        struct ebi_sim_device *d = &g->sim->devices[i];
        if (!here(g, d) || ((frame.to[0] & 1) == 0 && memcmp(frame.to, d->mac, EB_MAC_BYTES) != 0))
            continue;
        if (frame.type == EB_ETHERTYPE_IPV4)
            take_packet(g, d, &frame);
        else
            ebi_sim_device_frame(d, bytes, size);
    }
}

/* --- the caller's -------------------------------------------------------------------------------- */

static bool open_interface(struct ebi_sim_segment *g, const char *interface, struct eb_problem *problem)
{
    struct sockaddr_ll address = {.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ALL)};
    struct packet_mreq all = {.mr_type = PACKET_MR_PROMISC};
    int room = ROOM_BYTES;
    address.sll_ifindex = (int)if_nametoindex(interface);
    all.mr_ifindex = address.sll_ifindex;
    if (address.sll_ifindex == 0) {
        snprintf(problem->text, sizeof problem->text,
                 "--on: found no interface '%s', expected one of this network namespace", interface);
        return false;
    }
    g->fd = socket(AF_PACKET, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, htons(ETH_P_ALL));
    if (g->fd < 0 || bind(g->fd, (const struct sockaddr *)&address, sizeof address) != 0 ||
        setsockopt(g->fd, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &all, sizeof all) != 0) {
        snprintf(problem->text, sizeof problem->text,
                 "--on %s: raw frames cannot be had: %s. They need root, or the capability cap_net_raw",
                 interface, strerror(errno));
        return false;
    }
    setsockopt(g->fd, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
    return true;
}

bool eb_sim_join(struct eb_sim *sim, const char *interface, const char *wire, struct eb_problem *problem)
{
    struct ebi_sim_segment *g = calloc(1, sizeof *g);
    if (g == NULL)
        return false;
    sim->segment = g;
    g->sim = sim;
    g->fd = -1;
    snprintf(g->wire, sizeof g->wire, "%s", wire != NULL ? wire : sim->wires[0].name);
    g->net = (struct ebi_sim_net){g,        now_us,    udp_bind,      udp_send,   udp_unbind,
                                  tcp_send, tcp_close, udp_send_from, frame_send, set_alive};
    if (!open_interface(g, interface, problem))
        return false;
    for (size_t i = 0; i < sim->count; i++)
        ebi_sim_device_start(&sim->devices[i], &g->net);
    return true;
}

void ebi_sim_segment_close(struct eb_sim *sim)
{
    if (sim->segment == NULL)
        return;
    if (sim->segment->fd >= 0)
        close(sim->segment->fd);
    free(sim->segment);
    sim->segment = NULL;
}

static uint64_t next_deadline(const struct ebi_sim_segment *g)
{
    uint64_t next_us = EB_NEVER;
    for (size_t i = 0; i < g->sim->count; i++) {
        uint64_t at_us = ebi_sim_device_deadline_us(&g->sim->devices[i]);
        next_us = at_us < next_us ? at_us : next_us;
    }
    for (size_t i = 0; i < STREAMS_MAX; i++) {
        const struct stream *t = &g->streams[i];
        if (t->state != STREAM_FREE && t->resend_us < next_us)
            next_us = t->resend_us;
    }
    return next_us;
}

bool eb_sim_serve_segment(struct eb_sim *sim, int stop_fd, struct eb_problem *problem)
{
    struct ebi_sim_segment *g = sim->segment;
    struct pollfd fds[2] = {{.fd = g->fd, .events = POLLIN}, {.fd = stop_fd, .events = POLLIN}};
    for (;;) {
        uint64_t now = now_us(g);
        uint64_t next_us = next_deadline(g);
        int timeout_ms = next_us > now + 50000 ? 50 : next_us > now ? (int)((next_us - now) / 1000) : 0;
        if (poll(fds, 2, timeout_ms) < 0 && errno != EINTR) {
            snprintf(problem->text, sizeof problem->text, "cannot wait: %s", strerror(errno));
            return false;
        }
        if (fds[1].revents != 0)
            return true;
        for (int i = 0; i < BURST && (fds[0].revents & POLLIN) != 0; i++) {
            struct sockaddr_ll from = {0};
            socklen_t from_size = sizeof from;
            ssize_t n = recvfrom(g->fd, g->frame, sizeof g->frame, 0, (struct sockaddr *)&from, &from_size);
            if (n < 0)
                break;
            if (from.sll_pkttype != PACKET_OUTGOING)
                take_frame(g, g->frame, (size_t)n);
        }
        now = now_us(g);
        for (size_t i = 0; i < sim->count; i++) {
            if (ebi_sim_device_deadline_us(&sim->devices[i]) <= now)
                ebi_sim_device_tick(&sim->devices[i]);
        }
        for (size_t i = 0; i < STREAMS_MAX; i++)
            tick_stream(g, &g->streams[i], now);
    }
}
