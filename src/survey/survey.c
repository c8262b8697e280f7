#include "einbau/survey.h"
#include "base/bytes.h"
#include "einbau/cip.h"
#include "einbau/snmp.h"
#include "survey/heard.h"
#include "wire/modbus_stream.h"

#include <string.h>

/* A round on one link:
 *
 *   greetings (all at once, twice)   DCP identify, DNS-SD, EtherNet/IP list identity
 *   sweep (three passes)             every address of the subnets that has not answered yet: by ARP, or where
 * the right to frames is missing, by SNMP, which lets the system ask questions                        Modbus
 * and SNMP, to each address that somebody answers to
 *
 * Meanwhile everything that comes is taken in.  The round is complete when nothing is left to ask and what
 * was asked has answered or had its time. */
enum {
    GREETINGS = 2,
    GREET_AGAIN_US = 1200000,
    PASSES = 3,
    PASS_PAUSE_US = 400000,
    DCP_DELAY_10MS = 40,
    CIP_DELAY_MS = 500,
    BROADCAST_COST = 2, /* every device on the wire has to look at it */
    MODBUS_COST = 6,    /* frames of one exchange that are ours */
    TOKENS_MAX = 32,
    NEIGHBOURS_US = 150000,
    SNMP_TRIES = 3,
    SNMP_WAIT_US = 800000,
    MODBUS_TRIES = 2,
    CONNECT_US = 1500000,
    EXCHANGE_US = 3500000,
    ROUND_MIN_US = 2500000,
    ROUND_MAX_US = 12000000,
    ROUND_US = 3000000, /* where it keeps on */
    SWEEP_EVERY = 4,    /* rounds, then */
    ASK_EVERY = 5,
    FRAMES_AT_ONCE = 256, /* taken in before anything else is done */
    TICK_US = 4000,
    NEIGHBOURS_MAX = 256
};

/* --- what comes in ------------------------------------------------------------------------------- */

static void hear_frames(struct eb_survey *s, size_t link, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    uint8_t bytes[EB_FRAME_MAX_BYTES];
    size_t size;
    for (int i = 0; i < FRAMES_AT_ONCE && s->links[link].frames != EB_NO_HANDLE; i++) {
        if (port->frame->receive(port->self, s->links[link].frames, bytes, sizeof bytes, &size) != EB_OK)
            return;
        ebi_heard_frame(s, link, bytes, size, now_us);
    }
}

static void hear_datagrams(struct eb_survey *s, size_t link, int handle, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    uint8_t bytes[EB_DNS_MESSAGE_BYTES];
    for (int i = 0; i < FRAMES_AT_ONCE && handle != EB_NO_HANDLE; i++) {
        struct eb_datagram d = {.bytes = bytes, .size_bytes = sizeof bytes};
        size_t received = 0;
        enum eb_status status = port->udp->receive(port->self, handle, &d, 1, &received);
        if (status == EB_PENDING || (status == EB_OK && received == 0))
            return;
        if (status != EB_OK)
            continue; /* a message that nobody took: the next one */
        ebi_heard_datagram(s, link, &d, now_us);
    }
}

static void ask_neighbours(struct eb_survey *s, size_t link, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[link];
    const struct eb_port *port = s->config.port;
    struct eb_neighbour list[NEIGHBOURS_MAX];
    if (port->links == NULL || port->links->neighbours == NULL || now_us < l->neighbours_us)
        return;
    l->neighbours_us = now_us + NEIGHBOURS_US;
    size_t count = port->links->neighbours(port->self, l->link.name, list, NEIGHBOURS_MAX);
    for (size_t i = 0; i < count; i++) {
        bool covered = false;
        for (size_t k = 0; k < l->link.count; k++)
            covered = covered || eb_link_covers(&l->link.addresses[k], list[i].ip);
        /* With frames the answers themselves were heard, and the system's memory is older. */
        if (covered && l->frames == EB_NO_HANDLE)
            ebi_heard_neighbour(s, link, &list[i], now_us);
    }
}

/* --- Modbus -------------------------------------------------------------------------------------- */

static struct eb_found *row_of(const struct eb_survey *s, const struct eb_survey_probe *p)
{
    for (size_t i = 0; i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f->link == p->link && f->has_ip && memcmp(f->ip, p->ip, 4) == 0)
            return f;
    }
    return NULL;
}

static void end_probe(struct eb_survey *s, struct eb_survey_probe *p, bool again, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    struct eb_found *f = row_of(s, p);
    if (p->modbus.state == EB_MODBUS_DONE)
        ebi_heard_modbus(s, p, now_us);
    ebi_stream_close(&p->stream, port);
    p->used = false;
    if (f != NULL)
        f->modbus = again && f->modbus_tries < MODBUS_TRIES ? EBI_NOT_ASKED : EBI_ANSWERED;
}

static void poll_probe(struct eb_survey *s, struct eb_survey_probe *p, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    bool before = p->stream.connected;
    enum eb_status status = ebi_stream_pump(&p->stream, port, &ebi_modbus_stream, &p->modbus, FRAMES_AT_ONCE);
    if (p->stream.connected && !before)
        p->until_us = now_us + EXCHANGE_US;
    if (status == EB_UNREACHABLE && !p->stream.connected) {
        /* Refused at the door: most of what was set aside for it was not needed. */
        s->links[p->link].tokens += (MODBUS_COST - 1) * 1000ULL;
        s->links[p->link].sent -= MODBUS_COST - 1;
    }
    if (p->modbus.state != EB_MODBUS_ASKING || status == EB_UNREACHABLE || status == EB_CLOSED)
        end_probe(s, p, false, now_us);
    else if (now_us >= p->until_us)
        end_probe(s, p, true, now_us);
}

static bool begin_probe(struct eb_survey *s, struct eb_found *f, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    for (size_t i = 0; i < s->config.probe_count; i++) {
        struct eb_survey_probe *p = &s->config.probes[i];
        if (p->used)
            continue;
        struct eb_endpoint peer = {.port = EB_MODBUS_PORT};
        memcpy(peer.ip, f->ip, 4);
        *p = (struct eb_survey_probe){.used = true, .link = f->link, .until_us = now_us + CONNECT_US};
        memcpy(p->ip, f->ip, 4);
        eb_modbus_init(&p->modbus, EB_MODBUS_UNIT_SELF, (uint16_t)eb_port_random(port));
        eb_modbus_identify(&p->modbus, EB_MODBUS_REGULAR);
        f->modbus = EBI_ASKED;
        f->modbus_tries++;
        if (port->tcp->open(port->self, &s->waiter, &peer, &p->stream.handle) != EB_OK) {
            p->stream.handle = EB_NO_HANDLE;
            end_probe(s, p, false, now_us);
        }
        return true;
    }
    return false;
}

/* --- what goes out ------------------------------------------------------------------------------- */

/* Whether `frames` more may go out now. */
static bool spend(struct ebi_survey_link *l, unsigned frames, uint64_t now_us)
{
    uint64_t passed_us = now_us - l->paced_us;
    l->paced_us = now_us;
    if (passed_us > 1000000)
        passed_us = 1000000;
    l->tokens += passed_us * EB_SURVEY_FRAMES_PER_S / 1000;
    if (l->tokens > (uint64_t)TOKENS_MAX * 1000)
        l->tokens = (uint64_t)TOKENS_MAX * 1000;
    if (l->tokens < frames * 1000ULL)
        return false;
    l->tokens -= frames * 1000ULL;
    return true;
}

static void send_frame(struct eb_survey *s, struct ebi_survey_link *l, const uint8_t *frame, size_t size)
{
    const struct eb_port *port = s->config.port;
    port->frame->send(port->self, l->frames, frame, size);
    l->sent++;
}

static void send_snmp(struct eb_survey *s, struct ebi_survey_link *l, const uint8_t *ip, bool entity)
{
    uint8_t bytes[EB_SNMP_REQUEST_BYTES];
    const struct eb_port *port = s->config.port;
    struct eb_datagram datagram = {.peer = {.port = EB_SNMP_PORT}, .bytes = bytes};
    memcpy(datagram.peer.ip, ip, 4);
    datagram.size_bytes = ebi_heard_snmp_question(s, ip, entity, bytes, sizeof bytes);
    if (datagram.size_bytes > 0 && l->udp != EB_NO_HANDLE) {
        port->udp->send(port->self, l->udp, &datagram, 1);
        l->sent++;
    }
}

static void send_dns(struct eb_survey *s, struct ebi_survey_link *l, const struct eb_dns_questions *q)
{
    const struct eb_port *port = s->config.port;
    struct eb_datagram d = {
        .peer = {{224, 0, 0, 251}, EB_DNS_SD_PORT}, .bytes = q->bytes, .size_bytes = q->size};
    int handle = l->group != EB_NO_HANDLE ? l->group : l->udp;
    if (handle == EB_NO_HANDLE)
        return;
    port->udp->send(port->self, handle, &d, 1);
    l->sent++;
}

static void greet(struct eb_survey *s, struct ebi_survey_link *l, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    uint8_t bytes[EB_DNS_MESSAGE_BYTES];
    if (l->greetings == GREETINGS || now_us < l->greet_us || !spend(l, 3 * BROADCAST_COST, now_us))
        return;
    l->greetings++;
    l->greet_us = now_us + GREET_AGAIN_US;
    if (l->frames != EB_NO_HANDLE)
        send_frame(s, l, bytes, eb_dcp_identify(bytes, l->link.mac, s->dcp_id, DCP_DELAY_10MS));
    struct eb_dns_questions q;
    eb_dns_begin(&q, bytes, sizeof bytes, 0);
    eb_dns_ask(&q, EB_DNS_SD_SERVICES, EB_DNS_PTR, false);
    for (size_t i = 0; i < s->service_count; i++)
        eb_dns_ask(&q, s->services[i], EB_DNS_PTR, false);
    send_dns(s, l, &q);
    if (l->udp != EB_NO_HANDLE) {
        eb_cip_list_identity(bytes, CIP_DELAY_MS);
        struct eb_datagram d = {
            .peer = {{255, 255, 255, 255}, EB_CIP_PORT}, .bytes = bytes, .size_bytes = EB_CIP_LIST_BYTES};
        port->udp->send(port->self, l->udp, &d, 1);
        l->sent++;
    }
}

/* Kinds of service that were heard of since. */
static void ask_services(struct eb_survey *s, uint64_t now_us)
{
    uint8_t bytes[EB_DNS_MESSAGE_BYTES];
    struct eb_dns_questions q;
    if (s->services_asked == s->service_count)
        return;
    eb_dns_begin(&q, bytes, sizeof bytes, 0);
    while (s->services_asked < s->service_count &&
           eb_dns_ask(&q, s->services[s->services_asked], EB_DNS_PTR, false))
        s->services_asked++;
    for (size_t i = 0; i < s->config.link_count; i++) {
        spend(&s->links[i], BROADCAST_COST, now_us);
        send_dns(s, &s->links[i], &q);
    }
}

static bool knows(const struct eb_survey *s, size_t link, const uint8_t *ip)
{
    for (size_t i = 0; i < s->count; i++) {
        const struct eb_found *f = &s->config.found[i];
        if (f->link == link && f->has_ip && memcmp(f->ip, ip, 4) == 0 && f->last_us >= s->round_us)
            return true;
    }
    return false;
}

static bool is_ours(const struct ebi_survey_link *l, const uint8_t *ip)
{
    for (size_t i = 0; i < l->link.count; i++) {
        if (memcmp(l->link.addresses[i].ip, ip, 4) == 0)
            return true;
    }
    return false;
}

static bool swept(const struct ebi_survey_link *l)
{
    return l->pass == PASSES || l->link.count == 0;
}

static void ask_address(struct eb_survey *s, struct ebi_survey_link *l, const struct eb_link_address *from,
                        const uint8_t *ip)
{
    uint8_t frame[EB_FRAME_MIN_BYTES];
    if (l->frames == EB_NO_HANDLE) {
        send_snmp(s, l, ip, false);
        return;
    }
    eb_arp_ask(frame, l->link.mac, from->ip, ip);
    send_frame(s, l, frame, sizeof frame);
}

/* Goes on to the next address of the link's subnets; one after the last begins the next pass. */
static void sweep(struct eb_survey *s, size_t link, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[link];
    while (!swept(l) && now_us >= l->pass_us) {
        const struct eb_link_address *a = &l->link.addresses[l->address];
        /* What is too large, or has no hosts, is passed over; the last address is for all. */
        bool small = a->prefix >= EB_SURVEY_SWEEP_PREFIX && a->prefix < 31;
        uint32_t hosts = small ? (1U << (32 - a->prefix)) - 1 : 0;
        if (++l->offset >= hosts) {
            l->offset = 0;
            if (++l->address == l->link.count) {
                l->address = 0;
                l->pass++;
                l->pass_us = now_us + PASS_PAUSE_US;
            }
            continue;
        }
        uint8_t ip[4];
        ebi_put32(ip, (ebi_get32(a->ip) & ~hosts) + l->offset);
        if (is_ours(l, ip) || knows(s, link, ip))
            continue;
        if (!spend(l, BROADCAST_COST, now_us)) {
            l->offset--;
            return;
        }
        ask_address(s, l, a, ip);
    }
}

static bool snmp_due(const struct eb_found *f, uint64_t now_us)
{
    return f->snmp < EBI_ANSWERED && now_us >= f->snmp_us;
}

/* Each gives false where no more may be asked now. */
static bool ask_snmp(struct eb_survey *s, struct eb_found *f, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[f->link];
    if (snmp_due(f, now_us) && f->snmp_tries == SNMP_TRIES)
        f->snmp = EBI_ANSWERED; /* as good as it gets */
    if (!snmp_due(f, now_us))
        return true;
    /* Before the first packet the system asks for the hardware address by itself. */
    bool first = f->snmp == EBI_NOT_ASKED && f->snmp_tries == 0;
    if (!spend(l, first ? 1 + BROADCAST_COST : 1, now_us))
        return false;
    l->sent += first;
    send_snmp(s, l, f->ip, f->snmp == EBI_ASKED_MORE);
    f->snmp_tries++;
    f->snmp_us = now_us + SNMP_WAIT_US;
    if (f->snmp == EBI_NOT_ASKED)
        f->snmp = EBI_ASKED;
    return true;
}

static bool ask_modbus(struct eb_survey *s, struct eb_found *f, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[f->link];
    if (f->modbus != EBI_NOT_ASKED)
        return true;
    if (!spend(l, MODBUS_COST, now_us) || !begin_probe(s, f, now_us))
        return false;
    l->sent += MODBUS_COST;
    return true;
}

/* SNMP first: who does not speak it is the longest to wait for. */
static void ask_rows(struct eb_survey *s, uint64_t now_us)
{
    bool more = true;
    for (size_t i = 0; i < s->count && more; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f->has_ip && f->ours_to_ask)
            more = ask_snmp(s, f, now_us);
    }
    for (size_t i = 0; i < s->count && more; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f->has_ip && f->ours_to_ask)
            more = ask_modbus(s, f, now_us);
    }
}

/* --- rounds -------------------------------------------------------------------------------------- */

static void begin_round(struct eb_survey *s, uint64_t now_us)
{
    bool whole = s->rounds % SWEEP_EVERY == 0;
    bool ask = s->rounds % ASK_EVERY == 0;
    s->round_us = now_us;
    for (size_t i = 0; i < s->config.link_count; i++) {
        struct ebi_survey_link *l = &s->links[i];
        l->greetings = 0;
        l->greet_us = now_us;
        l->address = 0;
        l->offset = 0;
        l->pass = whole ? 0 : PASSES;
        l->pass_us = now_us;
    }
    for (size_t i = 0; i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        struct ebi_survey_link *l = &s->links[f->link];
        bool back = eb_found_gone(f, now_us);
        if (ask || back) {
            f->modbus = EBI_NOT_ASKED;
            f->modbus_tries = 0;
            f->snmp = EBI_NOT_ASKED;
            f->snmp_tries = 0;
            f->snmp_us = 0;
        }
        if (f->has_ip && f->ours_to_ask && !whole && spend(l, 1, now_us))
            ask_address(s, l, &l->link.addresses[0], f->ip);
    }
}

static bool row_pending(const struct eb_found *f)
{
    return f->has_ip && f->ours_to_ask && (f->modbus != EBI_ANSWERED || f->snmp != EBI_ANSWERED);
}

static bool round_complete(const struct eb_survey *s, uint64_t now_us)
{
    uint64_t least_us = s->config.keep_on ? ROUND_US : ROUND_MIN_US;
    if (!s->config.keep_on && s->config.listen_us > least_us)
        least_us = s->config.listen_us;
    if (s->config.link_count == 0)
        return !s->config.keep_on || now_us >= s->round_us + ROUND_US;
    if (now_us < s->round_us + least_us)
        return false;
    if (now_us >= s->round_us + (least_us > ROUND_MAX_US ? least_us : ROUND_MAX_US))
        return true;
    for (size_t i = 0; i < s->config.link_count; i++) {
        const struct ebi_survey_link *l = &s->links[i];
        if (l->greetings < GREETINGS || !swept(l) || now_us < l->pass_us)
            return false;
    }
    for (size_t i = 0; i < s->count; i++) {
        if (row_pending(&s->config.found[i]))
            return false;
    }
    return true;
}

/* --- the caller's -------------------------------------------------------------------------------- */

static void open_link(struct eb_survey *s, size_t index)
{
    struct ebi_survey_link *l = &s->links[index];
    const struct eb_port *port = s->config.port;
    const struct eb_udp_options group = {
        .link = l->link.name, .local_port = EB_DNS_SD_PORT, .group = {224, 0, 0, 251}};
    const struct eb_udp_options plain = {.link = l->link.name, .broadcast = true};
    l->frames = EB_NO_HANDLE;
    l->group = EB_NO_HANDLE;
    l->udp = EB_NO_HANDLE;
    if (l->link.has_mac && port->frame != NULL)
        l->denied = port->frame->open(port->self, &s->waiter, l->link.name, &l->frames) == EB_DENIED;
    if (l->link.count > 0) {
        port->udp->open(port->self, &s->waiter, &group, &l->group);
        port->udp->open(port->self, &s->waiter, &plain, &l->udp);
    }
    for (size_t i = 0; i < l->link.count; i++)
        l->too_large = l->too_large || (l->link.kind != EB_LINK_LOOPBACK &&
                                        l->link.addresses[i].prefix < EB_SURVEY_SWEEP_PREFIX);
}

void eb_survey_begin(struct eb_survey *s, const struct eb_survey_config *config)
{
    memset(s, 0, sizeof *s);
    s->config = *config;
    if (s->config.link_count > EB_SURVEY_LINKS_MAX)
        s->config.link_count = EB_SURVEY_LINKS_MAX;
    if (config->port->udp == NULL || config->port->tcp == NULL)
        s->config.link_count = 0;
    s->dcp_id = eb_port_random(config->port) & 0x3FFFFFFF;
    for (size_t i = 0; i < 2; i++)
        s->secret[i] = (uint64_t)eb_port_random(config->port) << 32 | eb_port_random(config->port);
    uint64_t now_us = eb_port_now_us(config->port);
    for (size_t i = 0; i < config->probe_count; i++)
        config->probes[i].used = false;
    for (size_t i = 0; i < s->config.link_count; i++) {
        s->links[i].link = config->links[i];
        s->links[i].paced_us = now_us;
        open_link(s, i);
    }
    begin_round(s, now_us);
}

static void poll(struct eb_survey *s, uint64_t now_us)
{
    for (size_t i = 0; i < s->config.link_count; i++) {
        hear_frames(s, i, now_us);
        hear_datagrams(s, i, s->links[i].group, now_us);
        hear_datagrams(s, i, s->links[i].udp, now_us);
        ask_neighbours(s, i, now_us);
    }
    for (size_t i = 0; i < s->config.probe_count; i++) {
        if (s->config.probes[i].used)
            poll_probe(s, &s->config.probes[i], now_us);
    }
    ask_rows(s, now_us);
    ask_services(s, now_us);
    for (size_t i = 0; i < s->config.link_count; i++) {
        greet(s, &s->links[i], now_us);
        sweep(s, i, now_us);
    }
}

/* When something is due: soon while there is something to send. */
static uint64_t next_us(const struct eb_survey *s, uint64_t now_us)
{
    bool busy = false;
    for (size_t i = 0; i < s->config.link_count; i++)
        busy = busy || !swept(&s->links[i]) || s->links[i].greetings < GREETINGS;
    for (size_t i = 0; i < s->count && !busy; i++)
        busy = row_pending(&s->config.found[i]);
    return now_us + (busy ? TICK_US : 10 * TICK_US);
}

bool eb_survey_work(struct eb_survey *s, uint64_t until_us)
{
    const struct eb_port *port = s->config.port;
    uint64_t now_us = eb_port_now_us(port);
    poll(s, now_us);
    if (round_complete(s, now_us)) {
        s->rounds++;
        s->done = !s->config.keep_on;
        if (s->done)
            return false;
        begin_round(s, now_us);
    }
    uint64_t at_us = next_us(s, now_us);
    eb_port_wait(port, at_us < until_us ? at_us : until_us);
    return true;
}

void eb_survey_enough(struct eb_survey *s)
{
    s->config.listen_us = 0;
}

void eb_survey_end(struct eb_survey *s)
{
    const struct eb_port *port = s->config.port;
    for (size_t i = 0; i < s->config.probe_count; i++) {
        if (s->config.probes[i].used)
            ebi_stream_close(&s->config.probes[i].stream, port);
        s->config.probes[i].used = false;
    }
    for (size_t i = 0; i < s->config.link_count; i++) {
        struct ebi_survey_link *l = &s->links[i];
        if (l->frames != EB_NO_HANDLE)
            port->frame->close(port->self, l->frames);
        if (l->group != EB_NO_HANDLE)
            port->udp->close(port->self, l->group);
        if (l->udp != EB_NO_HANDLE)
            port->udp->close(port->self, l->udp);
    }
    s->done = true;
}

bool eb_survey_denied(const struct eb_survey *s, size_t index)
{
    return s->links[index].denied;
}

bool eb_survey_too_large(const struct eb_survey *s, size_t index)
{
    return s->links[index].too_large;
}

uint64_t eb_survey_sent(const struct eb_survey *s)
{
    uint64_t sent = 0;
    for (size_t i = 0; i < s->config.link_count; i++)
        sent += s->links[i].sent;
    return sent;
}
