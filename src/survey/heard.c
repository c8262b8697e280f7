#include "base/bytes.h"
#include "survey/heard.h"
#include "einbau/cip.h"
#include "einbau/snmp.h"
#include "einbau/text.h"
#include "survey/found.h"
#include "wire/ethernet_wire.h"

#include <string.h>

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
    if (!eb_dcp_read_station(&station, frame, s->dcp_id)) {
        s->strays += eb_dcp_answers_other(frame, s->dcp_id);
        return;
    }
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
    } else if (record->type == EB_DNS_TXT &&
               (ends_with(record->name, "._tcp.local") || ends_with(record->name, "._udp.local"))) {
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

static void take_cip(struct eb_survey *s, size_t link, const uint8_t *ip, const uint8_t *bytes, size_t size,
                     uint64_t now_us)
{
    struct eb_cip_identity id;
    char chars[EB_HEARD_TEXT_BYTES];
    struct eb_text text;
    if (!eb_cip_read_identity(&id, bytes, size))
        return;
    struct eb_found *f = row(s, link, EB_BY_CIP, NULL, ip, now_us);
    if (f == NULL)
        return;
    ebi_found_add(f, EB_FACT_PRODUCT, EB_BY_CIP, id.name, now_us);
    eb_text_init(&text, chars, sizeof chars);
    eb_text_add_number(&text, id.major);
    eb_text_add(&text, ".");
    eb_text_add_number(&text, id.minor);
    ebi_found_add(f, EB_FACT_VERSION, EB_BY_CIP, chars, now_us);
    eb_text_init(&text, chars, sizeof chars);
    eb_text_add_hex(&text, id.serial, 8);
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

static uint64_t turned(uint64_t x, unsigned by)
{
    return x << by | x >> (64 - by);
}

static void sip_round(uint64_t v[4])
{
    v[0] += v[1];
    v[2] += v[3];
    v[1] = turned(v[1], 13) ^ v[0];
    v[3] = turned(v[3], 16) ^ v[2];
    v[0] = turned(v[0], 32);
    v[2] += v[1];
    v[0] += v[3];
    v[1] = turned(v[1], 17) ^ v[2];
    v[3] = turned(v[3], 21) ^ v[0];
    v[2] = turned(v[2], 32);
}

/* The id of a question to this address, an even number: SipHash-2-4 of the address (Aumasson and Bernstein,
 * 2012). A device that knows its own cannot tell that of another one, for which it might want to answer. */
static uint32_t snmp_id(const struct eb_survey *s, const uint8_t *ip, bool entity)
{
    uint64_t block = 4ULL << 56 | ebi_get32(ip); /* the address and its length */
    uint64_t v[4] = {s->secret[0] ^ 0x736F6D6570736575, s->secret[1] ^ 0x646F72616E646F6D,
                     s->secret[0] ^ 0x6C7967656E657261, s->secret[1] ^ 0x7465646279746573};
    v[3] ^= block;
    for (int i = 0; i < 2; i++)
        sip_round(v);
    v[0] ^= block;
    v[2] ^= 0xFF;
    for (int i = 0; i < 4; i++)
        sip_round(v);
    return ((uint32_t)(v[0] ^ v[1] ^ v[2] ^ v[3]) & 0x3FFFFFFE) + entity;
}

size_t ebi_heard_snmp_question(const struct eb_survey *s, const uint8_t *ip, bool entity, uint8_t *bytes,
                               size_t cap)
{
    struct eb_oid oids[ENTITY_COLUMNS];
    uint32_t id = snmp_id(s, ip, entity);
    const char *community = s->config.community != NULL ? s->config.community : "public";
    for (size_t i = 0; i < ENTITY_COLUMNS; i++)
        oids[i] = entity_column(i);
    return entity ? eb_snmp_write(bytes, cap, EB_SNMP_GET_BULK, community, id, oids, ENTITY_COLUMNS,
                                  ENTITY_ENTRIES)
                  : eb_snmp_write(bytes, cap, EB_SNMP_GET, community, id, system_oids, 2, 0);
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
    bool ours = eb_snmp_read(&answer, bytes, size) &&
                (answer.id == snmp_id(s, ip, false) || answer.id == snmp_id(s, ip, true));
    struct eb_found *f = ours ? row(s, link, EB_BY_SNMP, NULL, ip, now_us) : NULL;
    s->strays += !ours;
    if (f == NULL)
        return;
    if (answer.id == snmp_id(s, ip, false)) {
        take_system(f, &answer, now_us);
        if (f->snmp < EBI_ASKED_MORE) {
            f->snmp = EBI_ASKED_MORE;
            f->snmp_tries = 0;
            f->snmp_us = 0;
        }
    } else {
        f->snmp = EBI_ANSWERED;
        take_entities(s, f, &answer, now_us);
    }
}

/* --- what comes in ------------------------------------------------------------------------------- */

void ebi_heard_frame(struct eb_survey *s, size_t link, const uint8_t *bytes, size_t size, uint64_t now_us)
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

void ebi_heard_datagram(struct eb_survey *s, size_t link, const struct eb_datagram *d, uint64_t now_us)
{
    const uint8_t *ip = d->peer.ip;
    if (d->peer.port == EB_DNS_SD_PORT)
        take_dns(s, link, NULL, ip, d->bytes, d->size_bytes, now_us);
    else if (d->peer.port == EB_CIP_PORT)
        take_cip(s, link, ip, d->bytes, d->size_bytes, now_us);
    else if (d->peer.port == EB_SNMP_PORT)
        take_snmp(s, link, ip, d->bytes, d->size_bytes, now_us);
}

void ebi_heard_neighbour(struct eb_survey *s, size_t link, const struct eb_neighbour *neighbour,
                         uint64_t now_us)
{
    row(s, link, EB_BY_ARP, neighbour->mac, neighbour->ip, now_us);
}

void ebi_heard_modbus(struct eb_survey *s, const struct eb_survey_probe *p, uint64_t now_us)
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
