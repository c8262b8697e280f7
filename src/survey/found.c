#include "survey/found.h"
#include "einbau/text.h"

#include <string.h>

enum {
    NEAR_MACS = 8,                 /* ports of one device have addresses close to each other */
    ANSWERS_GONE_US = 10000000,    /* three rounds */
    ANNOUNCES_GONE_US = 125000000, /* LLDP: four times 30 s (802.1AB section 9.2.5.22) */
    SWAP_US = 2000000,             /* nobody exchanges a device that fast */
    SERIAL_LEAST = 4               /* shorter ones are no serial numbers */
};

const char *eb_protocol_word(enum eb_protocol protocol)
{
    static const char *const words[] = {"ARP",         "DHCP",   "LLDP", "PROFINET DCP",
                                        "EtherNet/IP", "DNS-SD", "SNMP", "Modbus/TCP"};
    return (size_t)protocol < EB_PROTOCOLS ? words[protocol] : "unknown";
}

const char *eb_fact_word(enum eb_fact_kind kind)
{
    static const char *const words[] = {
        "name",    "maker",       "product", "order code", "hardware revision", "serial number",
        "version", "description", "numbers", "address",    "service",           "text"};
    return (size_t)kind < EB_FACT_KINDS ? words[kind] : "unknown";
}

/* --- facts --------------------------------------------------------------------------------------- */

/* Whether a device may say several of this kind by one protocol. */
static bool may_repeat(enum eb_fact_kind kind, enum eb_protocol by)
{
    return kind == EB_FACT_SERVICE || kind == EB_FACT_ADDRESS || kind == EB_FACT_TEXT ||
           (kind == EB_FACT_NAME && by == EB_BY_DNS_SD);
}

/* "key=value" texts with the same key are one. */
static bool same_key(const char *a, const char *b)
{
    size_t size = strcspn(a, "=");
    return size == strcspn(b, "=") && memcmp(a, b, size) == 0;
}

void ebi_found_add(struct eb_found *found, enum eb_fact_kind kind, enum eb_protocol by, const char *text,
                   uint64_t now_us)
{
    if (text[0] == '\0')
        return;
    for (size_t i = 0; i < found->count; i++) {
        struct eb_fact *fact = &found->facts[i];
        if (fact->kind != kind || fact->by != by)
            continue;
        bool same = strcmp(fact->text, text) == 0;
        if (same)
            return;
        if (kind == EB_FACT_TEXT ? same_key(fact->text, text) : !may_repeat(kind, by)) {
            eb_text_copy(fact->text, sizeof fact->text, text);
            /* A serial number that changes back and forth is not one device's. */
            found->several =
                found->several || (kind == EB_FACT_SERIAL && now_us - found->changed_us < SWAP_US);
            found->changed_us = now_us;
            return;
        }
    }
    if (found->count == EB_FACTS_MAX) {
        found->more = true;
        return;
    }
    struct eb_fact *fact = &found->facts[found->count++];
    fact->kind = (uint8_t)kind;
    fact->by = (uint8_t)by;
    eb_text_copy(fact->text, sizeof fact->text, text);
}

const char *eb_found_text(const struct eb_found *found, enum eb_fact_kind kind)
{
    /* What was given to the device comes before what it calls itself. */
    static const uint8_t names[] = {EB_BY_DCP,  EB_BY_DNS_SD, EB_BY_LLDP,  EB_BY_SNMP,
                                    EB_BY_DHCP, EB_BY_CIP,    EB_BY_MODBUS};
    static const uint8_t others[] = {EB_BY_MODBUS, EB_BY_SNMP,   EB_BY_LLDP, EB_BY_CIP,
                                     EB_BY_DCP,    EB_BY_DNS_SD, EB_BY_DHCP};
    const uint8_t *order = kind == EB_FACT_NAME ? names : others;
    for (size_t o = 0; o < sizeof names; o++) {
        for (size_t i = 0; i < found->count; i++) {
            if (found->facts[i].kind == kind && found->facts[i].by == order[o])
                return found->facts[i].text;
        }
    }
    return "";
}

bool eb_found_disagree(const struct eb_found *found, enum eb_fact_kind kind, const struct eb_fact **one,
                       const struct eb_fact **other)
{
    bool comparable = kind == EB_FACT_MAKER || kind == EB_FACT_ORDER_CODE ||
                      kind == EB_FACT_HARDWARE_REVISION || kind == EB_FACT_SERIAL || kind == EB_FACT_VERSION;
    *one = NULL;
    for (size_t i = 0; comparable && i < found->count; i++) {
        const struct eb_fact *fact = &found->facts[i];
        if (fact->kind != kind || fact->by == EB_BY_CIP)
            continue;
        if (*one == NULL) {
            *one = fact;
        } else if (strcmp((*one)->text, fact->text) != 0) {
            *other = fact;
            return true;
        }
    }
    return false;
}

bool eb_found_gone(const struct eb_found *found, uint64_t now_us)
{
    unsigned answers = 1U << EB_BY_DCP | 1U << EB_BY_CIP | 1U << EB_BY_SNMP | 1U << EB_BY_MODBUS;
    bool asked =
        (found->heard & answers) != 0 || ((found->heard & 1U << EB_BY_ARP) != 0 && found->ours_to_ask);
    return now_us - found->last_us > (asked ? ANSWERS_GONE_US : ANNOUNCES_GONE_US);
}

/* --- rows ---------------------------------------------------------------------------------------- */

static bool same_ip(const struct eb_found *found, const uint8_t *ip)
{
    return found->has_ip && memcmp(found->ip, ip, sizeof found->ip) == 0;
}

static bool has_mac(const struct eb_found *found, const uint8_t *mac)
{
    bool has = found->has_mac && memcmp(found->mac, mac, EB_MAC_BYTES) == 0;
    for (size_t i = 0; i < found->other_mac_count; i++)
        has = has || memcmp(found->other_macs[i], mac, EB_MAC_BYTES) == 0;
    return has;
}

static struct eb_found *row_by_mac(const struct eb_survey *s, size_t link, const uint8_t *mac)
{
    for (size_t i = 0; i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f->link == link && has_mac(f, mac))
            return f;
    }
    return NULL;
}

static struct eb_found *row_by_ip(const struct eb_survey *s, size_t link, const uint8_t *ip, bool without_mac)
{
    for (size_t i = 0; i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f->link == link && same_ip(f, ip) && !(without_mac && f->has_mac))
            return f;
    }
    return NULL;
}

static void address_text(const uint8_t *ip, char *text)
{
    struct eb_endpoint endpoint = {.port = 0};
    memcpy(endpoint.ip, ip, sizeof endpoint.ip);
    eb_endpoint_text(&endpoint, false, text);
}

/* Takes `from` into `to`; the last row moves to its place. */
static struct eb_found *unite(struct eb_survey *s, struct eb_found *to, struct eb_found *from)
{
    char text[EB_ENDPOINT_TEXT_BYTES];
    struct eb_found *last = &s->config.found[s->count - 1];
    for (size_t i = 0; i < from->count; i++)
        ebi_found_add(to, (enum eb_fact_kind)from->facts[i].kind, (enum eb_protocol)from->facts[i].by,
                      from->facts[i].text, from->last_us);
    if (from->has_ip && !to->has_ip) {
        to->has_ip = true;
        memcpy(to->ip, from->ip, sizeof to->ip);
    } else if (from->has_ip && !same_ip(to, from->ip)) {
        address_text(from->ip, text);
        ebi_found_add(to, EB_FACT_ADDRESS, EB_BY_ARP, text, from->last_us);
    }
    if (from->has_mac && !to->has_mac) {
        to->has_mac = true;
        memcpy(to->mac, from->mac, sizeof to->mac);
    } else if (from->has_mac && !has_mac(to, from->mac) && to->other_mac_count < EB_MACS_MAX) {
        memcpy(to->other_macs[to->other_mac_count++], from->mac, EB_MAC_BYTES);
    }
    to->heard |= from->heard;
    to->more = to->more || from->more;
    to->first_us = from->first_us < to->first_us ? from->first_us : to->first_us;
    to->last_us = from->last_us > to->last_us ? from->last_us : to->last_us;
    to->snmp = from->snmp > to->snmp ? from->snmp : to->snmp;
    to->modbus = from->modbus > to->modbus ? from->modbus : to->modbus;
    if (from != last)
        *from = *last;
    s->count--;
    return to == last ? from : to;
}

/* Another device that answers to the same address. */
static void mark_shared(struct eb_survey *s, struct eb_found *found)
{
    for (size_t i = 0; found->has_ip && i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f != found && f->link == found->link && same_ip(f, found->ip)) {
            f->shared_ip = true;
            found->shared_ip = true;
        }
    }
}

/* The row has an address now, or one more. */
static void take_ip(struct eb_survey *s, struct eb_found *f, const struct ebi_heard *heard)
{
    char text[EB_ENDPOINT_TEXT_BYTES];
    if (same_ip(f, heard->ip))
        return;
    bool told = heard->by == EB_BY_DCP; /* it says itself which is its own */
    if (f->has_ip && !told) {
        address_text(heard->ip, text);
        ebi_found_add(f, EB_FACT_ADDRESS, heard->by, text, heard->now_us);
        return;
    }
    if (f->has_ip)
        f->changed_us = heard->now_us;
    f->has_ip = true;
    f->asks = false;
    memcpy(f->ip, heard->ip, sizeof f->ip);
    mark_shared(s, f);
}

struct eb_found *ebi_found_row(struct eb_survey *s, const struct ebi_heard *heard)
{
    struct eb_found *f = heard->mac != NULL ? row_by_mac(s, heard->link, heard->mac) : NULL;
    struct eb_found *by_ip =
        heard->ip != NULL ? row_by_ip(s, heard->link, heard->ip, heard->mac != NULL) : NULL;
    if (f == NULL && by_ip != NULL) {
        f = by_ip;
        if (heard->mac != NULL) {
            f->has_mac = true;
            memcpy(f->mac, heard->mac, sizeof f->mac);
            mark_shared(s, f);
        }
    } else if (f != NULL && by_ip != NULL && by_ip != f) {
        f = unite(s, f, by_ip);
    }
    if (f == NULL) {
        if (s->count == s->config.cap) {
            s->left_out++;
            return NULL;
        }
        f = &s->config.found[s->count++];
        *f = (struct eb_found){.link = heard->link, .first_us = heard->now_us};
        if (heard->mac != NULL) {
            f->has_mac = true;
            memcpy(f->mac, heard->mac, sizeof f->mac);
        }
    }
    if (heard->ip != NULL)
        take_ip(s, f, heard);
    f->heard |= (uint16_t)(1U << heard->by);
    f->last_us = heard->now_us;
    return f;
}

static bool lie_together(const struct eb_found *a, const struct eb_found *b)
{
    if (a->link != b->link || !a->has_mac || !b->has_mac)
        return true;
    int apart = (int)a->mac[5] - (int)b->mac[5];
    return memcmp(a->mac, b->mac, sizeof a->mac - 1) == 0 && apart < NEAR_MACS && apart > -NEAR_MACS;
}

void ebi_found_join(struct eb_survey *s, struct eb_found *found)
{
    const char *serial = eb_found_text(found, EB_FACT_SERIAL);
    if (strlen(serial) < SERIAL_LEAST || strspn(serial, "0") == strlen(serial))
        return;
    for (size_t i = 0; i < s->count; i++) {
        struct eb_found *f = &s->config.found[i];
        if (f == found || strcmp(eb_found_text(f, EB_FACT_SERIAL), serial) != 0 || !lie_together(f, found) ||
            strcmp(eb_found_text(f, EB_FACT_PRODUCT), eb_found_text(found, EB_FACT_PRODUCT)) != 0)
            continue;
        unite(s, f < found ? f : found, f < found ? found : f);
        return;
    }
}
