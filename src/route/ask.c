#include "einbau/ask.h"
#include "einbau/dns_sd.h"
#include "einbau/text.h"

#include <string.h>

/*   FINDING THE MAC (ARP, where it is missing)  -->  ASKING, again and again  -->  OK or the error */

enum {
    REPEAT_FIRST_US = 400000, /* then twice as long each time, as wires may be slow */
    REPEAT_MOST_US = 1600000,
    RECEIVE_AT_ONCE = 32
};

static bool by_frames(enum eb_ask_kind kind)
{
    return kind <= EB_ASK_SIGNAL;
}

static bool by_cip(enum eb_ask_kind kind)
{
    return kind == EB_ASK_IDENTITY || kind == EB_ASK_FLASH;
}

static bool by_tcp(enum eb_ask_kind kind)
{
    return by_cip(kind) || kind == EB_ASK_COIL || kind == EB_ASK_WRITE || kind == EB_ASK_READ;
}

/* Whether all answers count until patience is over, none being an answer too. */
static bool collects(enum eb_ask_kind kind)
{
    return kind == EB_ASK_WHO_HAS || kind == EB_ASK_NAME_USED;
}

static enum eb_status finish(struct eb_ask *ask, const struct eb_error *error)
{
    eb_ask_close(ask);
    ask->error = *error;
    ask->status = error->status;
    return ask->status;
}

static enum eb_status finish_simple(struct eb_ask *ask, enum eb_status status)
{
    static const char *const where[] = {"ARP",          "PROFINET DCP", "PROFINET DCP", "PROFINET DCP",
                                        "PROFINET DCP", "PROFINET DCP", "EtherNet/IP",  "EtherNet/IP",
                                        "Modbus/TCP",   "Modbus/TCP",   "Modbus/TCP",   "SNMP",
                                        "DNS-SD"};
    struct eb_error error = {.status = status, .where = where[ask->config.kind]};
    if (status == EB_OK)
        error.where = NULL;
    if (ask->finding_mac && status == EB_NO_ANSWER)
        error.where = "finding the hardware address by ARP";
    return finish(ask, &error);
}

void eb_ask_close(struct eb_ask *ask)
{
    const struct eb_port *port = ask->config.port;
    if (ask->handle == EB_NO_HANDLE)
        return;
    if (ask->tcp)
        port->tcp_close(port->self, ask->handle);
    else if (ask->frames)
        port->frame_close(port->self, ask->handle);
    else
        port->udp_close(port->self, ask->handle);
    ask->handle = EB_NO_HANDLE;
}

/* --- opening ------------------------------------------------------------------------------------- */

/* The link in whose subnet the peer is, with the address that is used there first. */
static bool find_link(struct eb_ask *ask)
{
    const struct eb_port *port = ask->config.port;
    struct eb_link links[EB_LINKS_MAX];
    if (ask->config.link != NULL) {
        ask->link = *ask->config.link;
        return true;
    }
    size_t count = port->links != NULL ? port->links(port->self, links, EB_LINKS_MAX) : 0;
    for (size_t i = 0; i < count; i++) {
        for (size_t k = 0; k < links[i].count && links[i].up; k++) {
            if (links[i].has_mac && eb_link_covers(&links[i].addresses[k], ask->config.peer.ip)) {
                ask->link = links[i];
                ask->link.addresses[0] = links[i].addresses[k];
                return true;
            }
        }
    }
    return false;
}

static void ask_engine(struct eb_ask *ask)
{
    const struct eb_ask_config *c = &ask->config;
    const uint8_t seconds[1] = {c->flash_s};
    eb_modbus_init(&ask->modbus, c->unit, (uint16_t)ask->id);
    if (c->kind == EB_ASK_IDENTITY)
        eb_cip_ask(&ask->cip, EB_CIP_GET_ALL, NULL, 0);
    else if (c->kind == EB_ASK_FLASH)
        eb_cip_ask(&ask->cip, EB_CIP_FLASH, seconds, sizeof seconds);
    else if (c->kind == EB_ASK_COIL)
        eb_modbus_write_coil(&ask->modbus, c->address, c->on);
    else if (c->kind == EB_ASK_WRITE && c->count == 1)
        eb_modbus_write_register(&ask->modbus, c->address, c->values[0]);
    else if (c->kind == EB_ASK_WRITE)
        eb_modbus_write_registers(&ask->modbus, c->address, c->values, c->count);
    else
        eb_modbus_read_registers(&ask->modbus, c->address, c->count);
}

static enum eb_status open(struct eb_ask *ask)
{
    const struct eb_port *port = ask->config.port;
    const struct eb_udp_options only_peer = {.peer = &ask->config.peer};
    if (ask->tcp) {
        ask_engine(ask);
        ask->connected = false;
        return port->tcp_open(port->self, ask->config.owner, &ask->config.peer, &ask->handle);
    }
    if (!ask->frames)
        return port->udp_open(port->self, ask->config.owner, &only_peer, &ask->handle);
    if (!find_link(ask) || port->frame_open == NULL)
        return EB_UNREACHABLE;
    ask->finding_mac = !ask->config.has_mac && !collects(ask->config.kind);
    return port->frame_open(port->self, ask->config.owner, ask->link.name, &ask->handle);
}

void eb_ask_begin(struct eb_ask *ask, const struct eb_ask_config *config, uint64_t now_us)
{
    memset(ask, 0, sizeof *ask);
    ask->config = *config;
    ask->status = EB_PENDING;
    ask->handle = EB_NO_HANDLE;
    ask->id = config->port->random(config->port->self) & 0x3FFFFFFF;
    ask->frames = by_frames(config->kind);
    ask->tcp = by_tcp(config->kind);
    ask->next_us = now_us;
    ask->repeat_us = REPEAT_FIRST_US;
    ask->end_us = now_us + config->patience_us;
}

/* --- frames -------------------------------------------------------------------------------------- */

static void send_frame(struct eb_ask *ask)
{
    static const uint8_t nobody[4];
    const struct eb_ask_config *c = &ask->config;
    uint8_t frame[EB_DCP_FRAME_BYTES];
    const uint8_t *mac = ask->link.mac;
    size_t size = EB_FRAME_MIN_BYTES;
    if (ask->finding_mac)
        eb_arp_ask(frame, mac, ask->link.count > 0 ? ask->link.addresses[0].ip : nobody, c->peer.ip);
    else if (c->kind == EB_ASK_WHO_HAS)
        eb_arp_ask(frame, mac, nobody, c->ip); /* a probe: it must not change anybody's tables */
    else if (c->kind == EB_ASK_NAME_USED)
        size = eb_dcp_identify(frame, mac, ask->id, 1);
    else if (c->kind == EB_ASK_STATION)
        size = eb_dcp_get(frame, mac, c->mac, ask->id);
    else if (c->kind == EB_ASK_SET_NAME)
        size = eb_dcp_set_name(frame, mac, c->mac, ask->id, c->name);
    else if (c->kind == EB_ASK_SET_IP)
        size = eb_dcp_set_ip(frame, mac, c->mac, ask->id, c->ip, c->mask, c->router);
    else
        size = eb_dcp_signal(frame, mac, c->mac, ask->id);
    c->port->frame_send(c->port->self, ask->handle, frame, size);
}

static void collect(struct eb_ask *ask, const uint8_t *mac)
{
    for (size_t i = 0; i < ask->mac_count; i++) {
        if (memcmp(ask->macs[i], mac, EB_MAC_BYTES) == 0)
            return;
    }
    if (ask->mac_count < EB_ASK_MACS_MAX && memcmp(mac, ask->link.mac, EB_MAC_BYTES) != 0)
        memcpy(ask->macs[ask->mac_count++], mac, EB_MAC_BYTES);
}

static enum eb_status take_frame(struct eb_ask *ask, const struct eb_frame *frame, uint64_t now_us)
{
    struct eb_ask_config *c = &ask->config;
    struct eb_arp arp;
    struct eb_error error;
    bool is_arp = frame->type == EB_ETHERTYPE_ARP && eb_arp_read(&arp, frame->payload, frame->size);
    bool from_peer = memcmp(frame->from, c->mac, EB_MAC_BYTES) == 0;
    if (ask->finding_mac) {
        if (is_arp && memcmp(arp.from_ip, c->peer.ip, 4) == 0) {
            memcpy(c->mac, arp.from_mac, EB_MAC_BYTES);
            ask->finding_mac = false;
            ask->next_us = now_us;
            ask->repeat_us = REPEAT_FIRST_US;
        }
        return EB_PENDING;
    }
    if (c->kind == EB_ASK_WHO_HAS) {
        if (is_arp && memcmp(arp.from_ip, c->ip, 4) == 0)
            collect(ask, arp.from_mac);
        return EB_PENDING;
    }
    if (c->kind == EB_ASK_NAME_USED) {
        if (eb_dcp_read_station(&ask->station, frame, ask->id) && strcmp(ask->station.name, c->name) == 0)
            collect(ask, frame->from);
        return EB_PENDING;
    }
    if (!from_peer)
        return EB_PENDING;
    if (c->kind == EB_ASK_STATION)
        return eb_dcp_read_station(&ask->station, frame, ask->id) ? EB_OK : EB_PENDING;
    enum eb_status status = eb_dcp_read_set(frame, ask->id, &error);
    if (status == EB_PEER_ERROR)
        return finish(ask, &error);
    return status;
}

static enum eb_status hear_frames(struct eb_ask *ask, uint64_t now_us)
{
    const struct eb_port *port = ask->config.port;
    uint8_t bytes[EB_FRAME_MAX_BYTES];
    size_t size;
    struct eb_frame frame;
    enum eb_status status = EB_PENDING;
    for (int i = 0; i < RECEIVE_AT_ONCE && status == EB_PENDING; i++) {
        if (port->frame_receive(port->self, ask->handle, bytes, sizeof bytes, &size) != EB_OK)
            return EB_PENDING;
        if (eb_frame_read(&frame, bytes, size))
            status = take_frame(ask, &frame, now_us);
    }
    ask->more = status == EB_PENDING;
    return status;
}

/* --- datagrams ----------------------------------------------------------------------------------- */

static void send_datagram(struct eb_ask *ask)
{
    const struct eb_ask_config *c = &ask->config;
    struct eb_datagram d = {.peer = c->peer, .bytes = ask->message};
    struct eb_dns_questions q;
    if (c->kind == EB_ASK_SNMP) {
        d.size_bytes = eb_snmp_write(ask->message, EB_SNMP_REQUEST_BYTES, EB_SNMP_GET, c->community, ask->id,
                                     c->oids, c->count, 0);
    } else {
        eb_dns_begin(&q, ask->message, sizeof ask->message, (uint16_t)ask->id);
        eb_dns_ask(&q, c->service, EB_DNS_PTR, true);
        d.size_bytes = q.size;
    }
    if (d.size_bytes > 0)
        c->port->udp_send(c->port->self, ask->handle, &d, 1);
}

bool eb_ask_next_text(const struct eb_ask *ask, struct eb_dns_reader *reader, struct eb_dns_record *record)
{
    while (eb_dns_next(reader, record)) {
        if (record->type == EB_DNS_TXT && eb_dns_is_below(record->name, ask->config.service))
            return true;
    }
    return false;
}

/* Whether the message answers the question (RFC 6762 section 6.7: with its id) and holds a text record. */
static bool has_text(const struct eb_ask *ask)
{
    struct eb_dns_reader reader;
    struct eb_dns_record record;
    return eb_dns_open(&reader, ask->message, ask->message_size) && reader.id == (uint16_t)ask->id &&
           eb_ask_next_text(ask, &reader, &record);
}

static enum eb_status hear_datagrams(struct eb_ask *ask)
{
    const struct eb_port *port = ask->config.port;
    for (int i = 0; i < RECEIVE_AT_ONCE; i++) {
        struct eb_datagram d = {.bytes = ask->message, .size_bytes = sizeof ask->message};
        struct eb_snmp_answer answer;
        size_t received = 0;
        enum eb_status status = port->udp_receive(port->self, ask->handle, &d, 1, &received);
        if (status != EB_OK || received == 0)
            return status == EB_UNREACHABLE ? status : EB_PENDING;
        ask->message_size = d.size_bytes;
        if (memcmp(d.peer.ip, ask->config.peer.ip, 4) != 0)
            continue;
        if (ask->config.kind == EB_ASK_SNMP
                ? eb_snmp_read(&answer, ask->message, ask->message_size) && answer.id == ask->id
                : has_text(ask))
            return EB_OK;
        ask->strays++;
    }
    ask->more = true;
    return EB_PENDING;
}

/* --- streams ------------------------------------------------------------------------------------- */

static enum eb_status exchange(struct eb_ask *ask)
{
    const struct eb_port *port = ask->config.port;
    bool cip = by_cip(ask->config.kind);
    enum eb_status status = EB_OK;
    int rounds = 0;
    while (status == EB_OK &&
           (cip ? ask->cip.state == EB_CIP_ASKING : ask->modbus.state == EB_MODBUS_ASKING)) {
        ask->more = rounds++ == RECEIVE_AT_ONCE;
        if (ask->more)
            return EB_PENDING;
        const uint8_t *out;
        size_t size = cip ? eb_cip_give(&ask->cip, &out) : eb_modbus_give(&ask->modbus, &out);
        size_t done = 0;
        uint8_t in[EB_MODBUS_FRAME_BYTES];
        if (size > 0) {
            status = port->tcp_send(port->self, ask->handle, out, size, &done);
            ask->connected = ask->connected || status == EB_OK;
            if (status == EB_OK && cip)
                eb_cip_taken(&ask->cip, done);
            else if (status == EB_OK)
                eb_modbus_taken(&ask->modbus, done);
        } else {
            status = port->tcp_receive(port->self, ask->handle, in, sizeof in, &done);
            if (status == EB_OK && cip)
                eb_cip_receive(&ask->cip, in, done);
            else if (status == EB_OK)
                eb_modbus_receive(&ask->modbus, in, done);
        }
    }
    if (cip ? ask->cip.state == EB_CIP_FAILED : ask->modbus.state == EB_MODBUS_FAILED)
        return finish(ask, cip ? &ask->cip.error : &ask->modbus.error);
    if (cip ? ask->cip.state != EB_CIP_DONE : ask->modbus.state != EB_MODBUS_DONE)
        return status;
    if (ask->config.kind == EB_ASK_IDENTITY &&
        !eb_cip_read_attributes(&ask->identity, ask->cip.data, ask->cip.data_size))
        return EB_GARBAGE;
    return EB_OK;
}

/* ------------------------------------------------------------------------------------------------- */

static void send_again(struct eb_ask *ask, uint64_t now_us)
{
    if (ask->frames)
        send_frame(ask);
    else if (!ask->tcp)
        send_datagram(ask);
    ask->next_us = now_us + ask->repeat_us;
    ask->repeat_us = 2 * ask->repeat_us < REPEAT_MOST_US ? 2 * ask->repeat_us : REPEAT_MOST_US;
}

enum eb_status eb_ask_poll(struct eb_ask *ask, uint64_t now_us)
{
    if (ask->status != EB_PENDING)
        return ask->status;
    if (ask->handle == EB_NO_HANDLE) {
        enum eb_status status = open(ask);
        if (status != EB_OK)
            return finish_simple(ask, status);
    }
    ask->more = false;
    enum eb_status status = ask->frames ? hear_frames(ask, now_us)
                            : ask->tcp  ? exchange(ask)
                                        : hear_datagrams(ask);
    if (ask->status != EB_PENDING)
        return ask->status; /* with an error of its own */
    if (status != EB_PENDING)
        return finish_simple(ask, status == EB_CLOSED ? EB_UNREACHABLE : status);
    if (now_us >= ask->end_us)
        return finish_simple(ask, collects(ask->config.kind) ? EB_OK : EB_NO_ANSWER);
    if (now_us >= ask->next_us)
        send_again(ask, now_us);
    return EB_PENDING;
}

uint64_t eb_ask_deadline_us(const struct eb_ask *ask)
{
    if (ask->status != EB_PENDING || ask->handle == EB_NO_HANDLE || ask->more)
        return 0;
    return ask->next_us < ask->end_us ? ask->next_us : ask->end_us;
}

enum eb_status eb_ask_work(struct eb_ask *ask, uint64_t until_us)
{
    const struct eb_port *port = ask->config.port;
    void *owners[8];
    uint64_t now_us = port->now_us(port->self);
    while (eb_ask_poll(ask, now_us) == EB_PENDING && now_us < until_us) {
        uint64_t at_us = eb_ask_deadline_us(ask);
        port->wait(port->self, at_us < until_us ? at_us : until_us, owners, 8);
        now_us = port->now_us(port->self);
    }
    return ask->status;
}
