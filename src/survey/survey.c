#include "einbau/survey.h"
#include "base/bytes.h"
#include "einbau/cip.h"
#include "einbau/snmp.h"
#include "einbau/text.h"
#include "survey/found.h"
#include "wire/ethernet_wire.h"

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

enum asked { NOT_ASKED, ASKED, ASKED_MORE, ANSWERED };

/* --- rows and facts ------------------------------------------------------------------------------ */

static struct eb_found *row(struct eb_survey *s, size_t link, enum eb_protocol by, const uint8_t *mac,
                            const uint8_t *ip, uint64_t now_us)
{
    static const uint8_t none[4];
    const struct eb_link *l = &s->links[link].link;
    bool broadcast = ip != NULL && (memcmp(ip, none, 4) == 0 || ip[0] >= 224);
    for (size_t i = 0; mac != NULL && i < s->config.link_count; i++) {
        const struct eb_link *own = &s->links[i].link;
        if (!eb_mac_is_device(mac) || (own->has_mac && memcmp(mac, own->mac, EB_MAC_BYTES) == 0))
            return NULL;
    }
    for (size_t i = 0; ip != NULL && i < l->count; i++) {
        if (memcmp(l->addresses[i].ip, ip, 4) == 0)
            ip = NULL; /* our own: whoever says so has no address that helps */
        if (ip == NULL && mac == NULL)
            return NULL;
        if (ip == NULL)
            break;
    }
    const struct ebi_heard heard = {link, by, mac, broadcast ? NULL : ip, now_us};
    if (mac == NULL && heard.ip == NULL)
        return NULL;
    size_t before = s->count;
    struct eb_found *f = ebi_found_row(s, &heard);
    if (f == NULL)
        return NULL;
    f->ours_to_ask = false;
    for (size_t i = 0; f->has_ip && i < l->count; i++)
        f->ours_to_ask = f->ours_to_ask || eb_link_covers(&l->addresses[i], f->ip);
    if (s->count > before && s->config.event != NULL)
        s->config.event(s->config.event_context, f);
    return f;
}

static void add_numbers(struct eb_found *f, enum eb_protocol by, uint32_t a, uint32_t b, uint64_t now_us)
{
    char chars[EB_HEARD_TEXT_BYTES];
    struct eb_text text;
    eb_text_init(&text, chars, sizeof chars);
    eb_text_add(&text, "maker ");
    eb_text_add_number(&text, a);
    eb_text_add(&text, ", product ");
    eb_text_add_number(&text, b);
    ebi_found_add(f, EB_FACT_NUMBERS, by, chars, now_us);
}

/* --- frames -------------------------------------------------------------------------------------- */

static void take_arp(struct eb_survey *s, size_t link, const struct eb_frame *frame, uint64_t now_us)
{
    struct eb_arp arp;
    if (eb_arp_read(&arp, frame->payload, frame->size))
        row(s, link, EB_BY_ARP, arp.from_mac, arp.from_ip, now_us);
}

static void take_lldp(struct eb_survey *s, size_t link, const struct eb_frame *frame, uint64_t now_us)
{
    struct eb_lldp lldp;
    if (!eb_lldp_read(&lldp, frame->payload, frame->size) || lldp.leaves)
        return;
    struct eb_found *f = row(s, link, EB_BY_LLDP, frame->from, lldp.has_ip ? lldp.ip : NULL, now_us);
    if (f == NULL)
        return;
    ebi_found_add(f, EB_FACT_NAME, EB_BY_LLDP, lldp.name, now_us);
    ebi_found_add(f, EB_FACT_DESCRIPTION, EB_BY_LLDP, lldp.description, now_us);
    ebi_found_add(f, EB_FACT_HARDWARE_REVISION, EB_BY_LLDP, lldp.hardware, now_us);
    ebi_found_add(f, EB_FACT_VERSION, EB_BY_LLDP, lldp.firmware[0] != '\0' ? lldp.firmware : lldp.software,
                  now_us);
    ebi_found_add(f, EB_FACT_SERIAL, EB_BY_LLDP, lldp.serial, now_us);
    ebi_found_add(f, EB_FACT_MAKER, EB_BY_LLDP, lldp.maker, now_us);
    ebi_found_add(f, EB_FACT_PRODUCT, EB_BY_LLDP, lldp.model, now_us);
    ebi_found_join(s, f);
}

static void take_dcp(struct eb_survey *s, size_t link, const struct eb_frame *frame, uint64_t now_us)
{
    struct eb_dcp_station station;
    if (!eb_dcp_read_station(&station, frame, s->id))
        return;
    struct eb_found *f = row(s, link, EB_BY_DCP, station.mac, station.has_ip ? station.ip : NULL, now_us);
    if (f == NULL)
        return;
    if (station.has_ip)
        f->has_mask = eb_mask_read(station.mask, &f->prefix);
    f->dhcp = f->dhcp || station.dhcp;
    f->shared_ip = f->shared_ip || station.conflict;
    char name[EB_HEARD_TEXT_BYTES];
    eb_text_copy(name, sizeof name, station.name);
    ebi_found_add(f, EB_FACT_NAME, EB_BY_DCP, name, now_us);
    ebi_found_add(f, EB_FACT_PRODUCT, EB_BY_DCP, station.type, now_us);
    if (station.has_id)
        add_numbers(f, EB_BY_DCP, station.vendor_id, station.device_id, now_us);
}

static void take_dhcp(struct eb_survey *s, size_t link, const struct eb_udp *udp, uint64_t now_us)
{
    struct eb_dhcp_request request;
    if (!eb_dhcp_read(&request, udp->payload, udp->size))
        return;
    struct eb_found *f = row(s, link, EB_BY_DHCP, request.mac, NULL, now_us);
    if (f == NULL)
        return;
    f->dhcp = f->dhcp || !request.bootp;
    f->bootp = request.bootp;
    f->asks = !f->has_ip;
    ebi_found_add(f, EB_FACT_NAME, EB_BY_DHCP, request.host_name, now_us);
    ebi_found_add(f, EB_FACT_DESCRIPTION, EB_BY_DHCP, request.vendor_class, now_us);
}

/* --- DNS-SD -------------------------------------------------------------------------------------- */

static bool ends_with(const char *text, const char *end)
{
    size_t size = strlen(text);
    size_t end_size = strlen(end);
    return size >= end_size && strcmp(text + size - end_size, end) == 0;
}

/* A kind of service to ask for, once. */
static void want_service(struct eb_survey *s, const char *name)
{
    if (!ends_with(name, "._tcp.local") && !ends_with(name, "._udp.local"))
        return;
    for (size_t i = 0; i < s->service_count; i++) {
        if (strcmp(s->services[i], name) == 0)
            return;
    }
    if (s->service_count < EB_SURVEY_SERVICES_MAX)
        eb_text_copy(s->services[s->service_count++], EB_DNS_NAME_BYTES, name);
}

static void add_label(struct eb_found *f, enum eb_fact_kind kind, const char *label, uint64_t now_us)
{
    char text[EB_HEARD_TEXT_BYTES];
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)label, strlen(label));
    ebi_found_add(f, kind, EB_BY_DNS_SD, text, now_us);
}

static void take_dns_record(struct eb_survey *s, struct eb_found *f, const struct eb_dns_reader *reader,
                            const struct eb_dns_record *record, uint64_t now_us)
{
    char target[EB_DNS_NAME_BYTES];
    char text[EB_HEARD_TEXT_BYTES];
    size_t at = 0;
    if (record->ttl_s == 0)
        return; /* a goodbye */
    if (record->type == EB_DNS_PTR && eb_dns_target(reader, record, target)) {
        if (strcmp(record->name, EB_DNS_SD_SERVICES) == 0) {
            want_service(s, target);
        } else if (ends_with(target, record->name)) {
            eb_dns_first_label(target, text, sizeof text);
            add_label(f, EB_FACT_NAME, text, now_us);
            eb_text_copy(text, sizeof text, record->name);
            add_label(f, EB_FACT_SERVICE, text, now_us);
        }
    } else if (record->type == EB_DNS_TXT) {
        while (eb_dns_text(record, &at, text, sizeof text))
            ebi_found_add(f, EB_FACT_TEXT, EB_BY_DNS_SD, text, now_us);
    }
}

static void take_dns(struct eb_survey *s, size_t link, const uint8_t *mac, const uint8_t *ip,
                     const uint8_t *bytes, size_t size, uint64_t now_us)
{
    struct eb_dns_reader reader;
    struct eb_dns_record record;
    if (!eb_dns_open(&reader, bytes, size) || reader.left == 0)
        return;
    struct eb_found *f = row(s, link, EB_BY_DNS_SD, mac, ip, now_us);
    while (f != NULL && eb_dns_next(&reader, &record))
        take_dns_record(s, f, &reader, &record, now_us);
}

/* --- EtherNet/IP --------------------------------------------------------------------------------- */

static void take_cip(struct eb_survey *s, size_t link, const uint8_t *mac, const uint8_t *ip,
                     const uint8_t *bytes, size_t size, uint64_t now_us)
{
    static const char hex[] = "0123456789ABCDEF";
    struct eb_cip_identity id;
    char chars[EB_HEARD_TEXT_BYTES];
    struct eb_text text;
    if (!eb_cip_read_identity(&id, bytes, size))
        return;
    struct eb_found *f = row(s, link, EB_BY_CIP, mac, ip, now_us);
    if (f == NULL)
        return;
    ebi_found_add(f, EB_FACT_PRODUCT, EB_BY_CIP, id.name, now_us);
    eb_text_init(&text, chars, sizeof chars);
    eb_text_add_number(&text, id.major);
    eb_text_add(&text, ".");
    eb_text_add_number(&text, id.minor);
    ebi_found_add(f, EB_FACT_VERSION, EB_BY_CIP, chars, now_us);
    for (int i = 0; i < 8; i++)
        chars[i] = hex[id.serial >> (28 - 4 * i) & 15];
    chars[8] = '\0';
    ebi_found_add(f, EB_FACT_SERIAL, EB_BY_CIP, chars, now_us);
    add_numbers(f, EB_BY_CIP, id.vendor, id.product, now_us);
}

/* --- SNMP ---------------------------------------------------------------------------------------- */

/* ENTITY-MIB, entPhysicalTable (RFC 6933): columns of the first entries, and what they tell. */
static const struct {
    uint8_t column;
    uint8_t kind;
} entity_columns[] = {
    {5, EB_FACT_KINDS}, /* class: 3 is the chassis */
    {8, EB_FACT_HARDWARE_REVISION},
    {9, EB_FACT_VERSION},  /* firmware */
    {10, EB_FACT_VERSION}, /* software: comes after, counts where there is no firmware */
    {11, EB_FACT_SERIAL},
    {12, EB_FACT_MAKER},
    {13, EB_FACT_PRODUCT},
};
enum { ENTITY_COLUMNS = 7, ENTITY_ENTRIES = 4, CLASS_CHASSIS = 3 };

static const struct eb_oid system_oids[] = {{8, {0x2B, 6, 1, 2, 1, 1, 1, 0}},  /* sysDescr.0 */
                                            {8, {0x2B, 6, 1, 2, 1, 1, 5, 0}}}; /* sysName.0 */

static struct eb_oid entity_column(size_t index)
{
    struct eb_oid oid = {10, {0x2B, 6, 1, 2, 1, 47, 1, 1, 1, 1}};
    oid.bytes[oid.size++] = entity_columns[index].column;
    return oid;
}

static void send_snmp(struct eb_survey *s, struct ebi_survey_link *l, const uint8_t *ip, bool entity)
{
    uint8_t bytes[EB_SNMP_REQUEST_BYTES];
    struct eb_oid oids[ENTITY_COLUMNS];
    const char *community = s->config.community != NULL ? s->config.community : "public";
    const struct eb_port *port = s->config.port;
    for (size_t i = 0; i < ENTITY_COLUMNS; i++)
        oids[i] = entity_column(i);
    size_t size = entity
                      ? eb_snmp_write(bytes, sizeof bytes, EB_SNMP_GET_BULK, community, s->id + 1, oids,
                                      ENTITY_COLUMNS, ENTITY_ENTRIES)
                      : eb_snmp_write(bytes, sizeof bytes, EB_SNMP_GET, community, s->id, system_oids, 2, 0);
    struct eb_datagram datagram = {.peer = {.port = EB_SNMP_PORT}, .bytes = bytes, .size_bytes = size};
    memcpy(datagram.peer.ip, ip, 4);
    if (size > 0 && l->udp != EB_NO_HANDLE) {
        port->udp_send(port->self, l->udp, &datagram, 1);
        l->sent++;
    }
}

static void take_system(struct eb_found *f, const struct eb_snmp_answer *answer, uint64_t now_us)
{
    static const uint8_t kinds[] = {EB_FACT_DESCRIPTION, EB_FACT_NAME};
    char text[EB_HEARD_TEXT_BYTES];
    for (size_t i = 0; i < answer->count; i++) {
        for (size_t k = 0; k < 2; k++) {
            if (eb_oid_same(&answer->vars[i].oid, &system_oids[k]) &&
                eb_snmp_text(&answer->vars[i], text, sizeof text))
                ebi_found_add(f, (enum eb_fact_kind)kinds[k], EB_BY_SNMP, text, now_us);
        }
    }
}

/* The column of an ENTITY-MIB object, and its entry as the bytes behind it; false for any other object. */
static bool entity_place(const struct eb_oid *oid, size_t *column, uint8_t *entry)
{
    struct eb_oid head = entity_column(0);
    if (oid->size != head.size + 1 || memcmp(oid->bytes, head.bytes, head.size - 1U) != 0)
        return false;
    *entry = oid->bytes[head.size];
    for (*column = 0; *column < ENTITY_COLUMNS; (*column)++) {
        if (entity_columns[*column].column == oid->bytes[head.size - 1])
            return true;
    }
    return false;
}

static void take_entities(struct eb_survey *s, struct eb_found *f, const struct eb_snmp_answer *answer,
                          uint64_t now_us)
{
    char text[EB_HEARD_TEXT_BYTES];
    uint8_t chosen = 0xFF; /* the chassis, else the first entry */
    size_t column;
    uint8_t entry;
    for (size_t i = 0; i < answer->count; i++) {
        const struct eb_snmp_var *var = &answer->vars[i];
        if (!entity_place(&var->oid, &column, &entry))
            continue;
        bool chassis = column == 0 && var->size == 1 && var->value[0] == CLASS_CHASSIS;
        if (chassis || chosen == 0xFF)
            chosen = entry;
        if (chassis)
            break;
    }
    bool firmware = false;
    for (size_t i = 0; i < answer->count; i++) {
        if (!entity_place(&answer->vars[i].oid, &column, &entry) || entry != chosen || column == 0 ||
            !eb_snmp_text(&answer->vars[i], text, sizeof text) || text[0] == '\0')
            continue;
        bool version = entity_columns[column].kind == EB_FACT_VERSION;
        if (!(version && firmware))
            ebi_found_add(f, (enum eb_fact_kind)entity_columns[column].kind, EB_BY_SNMP, text, now_us);
        firmware = firmware || version;
    }
    ebi_found_join(s, f);
}

static void take_snmp(struct eb_survey *s, size_t link, const uint8_t *ip, const uint8_t *bytes, size_t size,
                      uint64_t now_us)
{
    struct eb_snmp_answer answer;
    if (!eb_snmp_read(&answer, bytes, size) || (answer.id != s->id && answer.id != s->id + 1))
        return;
    struct eb_found *f = row(s, link, EB_BY_SNMP, NULL, ip, now_us);
    if (f == NULL)
        return;
    if (answer.id == s->id) {
        take_system(f, &answer, now_us);
        if (f->snmp < ASKED_MORE) {
            f->snmp = ASKED_MORE;
            f->snmp_tries = 0;
            f->snmp_us = 0;
        }
    } else {
        f->snmp = ANSWERED;
        take_entities(s, f, &answer, now_us);
    }
}

/* --- what comes in ------------------------------------------------------------------------------- */

static void take_frame(struct eb_survey *s, size_t link, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    struct eb_frame frame;
    struct eb_udp udp;
    if (!eb_frame_read(&frame, bytes, size))
        return;
    switch (frame.type) {
    case EB_ETHERTYPE_ARP:
        take_arp(s, link, &frame, now_us);
        break;
    case EB_ETHERTYPE_LLDP:
        take_lldp(s, link, &frame, now_us);
        break;
    case EB_ETHERTYPE_DCP:
        take_dcp(s, link, &frame, now_us);
        break;
    case EB_ETHERTYPE_IPV4:
        if (!eb_udp_read(&udp, frame.payload, frame.size))
            return;
        /* Sockets hear the rest; these come from devices whose address is of another subnet, too. */
        if (udp.to_port == DHCP_SERVER_PORT)
            take_dhcp(s, link, &udp, now_us);
        else if (udp.from_port == EB_DNS_SD_PORT && (frame.to[0] & 1) != 0)
            take_dns(s, link, frame.from, udp.from_ip, udp.payload, udp.size, now_us);
        break;
    default:
        break;
    }
}

static void hear_frames(struct eb_survey *s, size_t link, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    uint8_t bytes[EB_FRAME_MAX_BYTES];
    size_t size;
    for (int i = 0; i < FRAMES_AT_ONCE && s->links[link].frames != EB_NO_HANDLE; i++) {
        if (port->frame_receive(port->self, s->links[link].frames, bytes, sizeof bytes, &size) != EB_OK)
            return;
        take_frame(s, link, bytes, size, now_us);
    }
}

static void hear_datagrams(struct eb_survey *s, size_t link, int handle, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    uint8_t bytes[EB_DNS_MESSAGE_BYTES];
    for (int i = 0; i < FRAMES_AT_ONCE && handle != EB_NO_HANDLE; i++) {
        struct eb_datagram d = {.bytes = bytes, .size_bytes = sizeof bytes};
        size_t received = 0;
        enum eb_status status = port->udp_receive(port->self, handle, &d, 1, &received);
        if (status == EB_PENDING || (status == EB_OK && received == 0))
            return;
        if (status != EB_OK)
            continue; /* a message that nobody took: the next one */
        if (d.peer.port == EB_DNS_SD_PORT)
            take_dns(s, link, NULL, d.peer.ip, bytes, d.size_bytes, now_us);
        else if (d.peer.port == EB_CIP_PORT)
            take_cip(s, link, NULL, d.peer.ip, bytes, d.size_bytes, now_us);
        else if (d.peer.port == EB_SNMP_PORT)
            take_snmp(s, link, d.peer.ip, bytes, d.size_bytes, now_us);
    }
}

static void ask_neighbours(struct eb_survey *s, size_t link, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[link];
    const struct eb_port *port = s->config.port;
    struct eb_neighbour list[NEIGHBOURS_MAX];
    if (port->neighbours == NULL || now_us < l->neighbours_us)
        return;
    l->neighbours_us = now_us + NEIGHBOURS_US;
    size_t count = port->neighbours(port->self, l->link.name, list, NEIGHBOURS_MAX);
    for (size_t i = 0; i < count; i++) {
        bool covered = false;
        for (size_t k = 0; k < l->link.count; k++)
            covered = covered || eb_link_covers(&l->link.addresses[k], list[i].ip);
        /* With frames the answers themselves were heard, and the system's memory is older. */
        if (covered && l->frames == EB_NO_HANDLE)
            row(s, link, EB_BY_ARP, list[i].mac, list[i].ip, now_us);
    }
}

/* --- Modbus -------------------------------------------------------------------------------------- */

static void take_modbus(struct eb_survey *s, const struct eb_survey_probe *p, uint64_t now_us)
{
    static const struct {
        uint8_t object, kind;
    } objects[] = {{EB_MODBUS_VENDOR_NAME, EB_FACT_MAKER},
                   {EB_MODBUS_PRODUCT_CODE, EB_FACT_ORDER_CODE},
                   {EB_MODBUS_REVISION, EB_FACT_VERSION},
                   {EB_MODBUS_PRODUCT_NAME, EB_FACT_PRODUCT}};
    char text[EB_HEARD_TEXT_BYTES];
    struct eb_found *f = row(s, p->link, EB_BY_MODBUS, NULL, p->ip, now_us);
    if (f == NULL)
        return;
    for (size_t i = 0; i < sizeof objects / sizeof objects[0]; i++) {
        eb_modbus_object_text(&p->modbus.objects, objects[i].object, text, sizeof text);
        ebi_found_add(f, (enum eb_fact_kind)objects[i].kind, EB_BY_MODBUS, text, now_us);
    }
}

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
        take_modbus(s, p, now_us);
    if (p->tcp != EB_NO_HANDLE)
        port->tcp_close(port->self, p->tcp);
    p->used = false;
    if (f != NULL)
        f->modbus = again && f->modbus_tries < MODBUS_TRIES ? NOT_ASKED : ANSWERED;
}

static void poll_probe(struct eb_survey *s, struct eb_survey_probe *p, uint64_t now_us)
{
    const struct eb_port *port = s->config.port;
    enum eb_status status = EB_OK;
    while (status == EB_OK && p->modbus.state == EB_MODBUS_ASKING) {
        const uint8_t *out;
        size_t size = eb_modbus_give(&p->modbus, &out);
        size_t done = 0;
        uint8_t in[EB_MODBUS_FRAME_BYTES];
        if (size > 0) {
            status = port->tcp_send(port->self, p->tcp, out, size, &done);
            if (status == EB_OK) {
                eb_modbus_taken(&p->modbus, done);
                if (!p->connected)
                    p->until_us = now_us + EXCHANGE_US;
                p->connected = true;
            }
        } else {
            status = port->tcp_receive(port->self, p->tcp, in, sizeof in, &done);
            if (status == EB_OK)
                eb_modbus_receive(&p->modbus, in, done);
        }
    }
    if (status == EB_UNREACHABLE && !p->connected) {
        /* Refused at the door: most of what was set aside for it was not needed. */
        s->links[p->link].tokens += (MODBUS_COST - 1) * 1000ULL;
        s->links[p->link].sent -= MODBUS_COST - 1;
    }
    if (p->modbus.state != EB_MODBUS_ASKING || status == EB_UNREACHABLE)
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
        eb_modbus_init(&p->modbus, EB_MODBUS_UNIT_SELF, (uint16_t)s->id);
        eb_modbus_identify(&p->modbus, EB_MODBUS_REGULAR);
        f->modbus = ASKED;
        f->modbus_tries++;
        if (port->tcp_open(port->self, s, &peer, &p->tcp) != EB_OK) {
            p->tcp = EB_NO_HANDLE;
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
    port->frame_send(port->self, l->frames, frame, size);
    l->sent++;
}

static void send_dns(struct eb_survey *s, struct ebi_survey_link *l, const struct eb_dns_questions *q)
{
    const struct eb_port *port = s->config.port;
    struct eb_datagram d = {
        .peer = {{224, 0, 0, 251}, EB_DNS_SD_PORT}, .bytes = q->bytes, .size_bytes = q->size};
    int handle = l->group != EB_NO_HANDLE ? l->group : l->udp;
    if (handle == EB_NO_HANDLE)
        return;
    port->udp_send(port->self, handle, &d, 1);
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
        send_frame(s, l, bytes, eb_dcp_identify(bytes, l->link.mac, s->id, DCP_DELAY_10MS));
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
        port->udp_send(port->self, l->udp, &d, 1);
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
    return f->snmp < ANSWERED && now_us >= f->snmp_us;
}

/* Each gives false where no more may be asked now. */
static bool ask_snmp(struct eb_survey *s, struct eb_found *f, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[f->link];
    if (snmp_due(f, now_us) && f->snmp_tries == SNMP_TRIES)
        f->snmp = ANSWERED; /* as good as it gets */
    if (!snmp_due(f, now_us))
        return true;
    /* Before the first packet the system asks for the hardware address by itself. */
    bool first = f->snmp == NOT_ASKED && f->snmp_tries == 0;
    if (!spend(l, first ? 1 + BROADCAST_COST : 1, now_us))
        return false;
    l->sent += first;
    send_snmp(s, l, f->ip, f->snmp == ASKED_MORE);
    f->snmp_tries++;
    f->snmp_us = now_us + SNMP_WAIT_US;
    if (f->snmp == NOT_ASKED)
        f->snmp = ASKED;
    return true;
}

static bool ask_modbus(struct eb_survey *s, struct eb_found *f, uint64_t now_us)
{
    struct ebi_survey_link *l = &s->links[f->link];
    if (f->modbus != NOT_ASKED)
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
            f->modbus = NOT_ASKED;
            f->modbus_tries = 0;
            f->snmp = NOT_ASKED;
            f->snmp_tries = 0;
            f->snmp_us = 0;
        }
        if (f->has_ip && f->ours_to_ask && !whole && spend(l, 1, now_us))
            ask_address(s, l, &l->link.addresses[0], f->ip);
    }
}

static bool row_pending(const struct eb_found *f)
{
    return f->has_ip && f->ours_to_ask && (f->modbus != ANSWERED || f->snmp != ANSWERED);
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
    if (l->link.has_mac && port->frame_open != NULL)
        l->denied = port->frame_open(port->self, s, l->link.name, &l->frames) == EB_DENIED;
    if (l->link.count > 0) {
        port->udp_open(port->self, s, &group, &l->group);
        port->udp_open(port->self, s, &plain, &l->udp);
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
    s->id = config->port->random(config->port->self) & 0x3FFFFFFF;
    uint64_t now_us = config->port->now_us(config->port->self);
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
    uint64_t now_us = port->now_us(port->self);
    void *owners[8];
    poll(s, now_us);
    if (round_complete(s, now_us)) {
        s->rounds++;
        s->done = !s->config.keep_on;
        if (s->done)
            return false;
        begin_round(s, now_us);
    }
    uint64_t at_us = next_us(s, now_us);
    port->wait(port->self, at_us < until_us ? at_us : until_us, owners, 8);
    return true;
}

void eb_survey_end(struct eb_survey *s)
{
    const struct eb_port *port = s->config.port;
    for (size_t i = 0; i < s->config.probe_count; i++) {
        if (s->config.probes[i].used && s->config.probes[i].tcp != EB_NO_HANDLE)
            port->tcp_close(port->self, s->config.probes[i].tcp);
        s->config.probes[i].used = false;
    }
    for (size_t i = 0; i < s->config.link_count; i++) {
        struct ebi_survey_link *l = &s->links[i];
        if (l->frames != EB_NO_HANDLE)
            port->frame_close(port->self, l->frames);
        if (l->group != EB_NO_HANDLE)
            port->udp_close(port->self, l->group);
        if (l->udp != EB_NO_HANDLE)
            port->udp_close(port->self, l->udp);
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
