/* Identity and versions by whatever protocols a profile names, one after the other. */
#include "einbau/dns_sd.h"
#include "einbau/text.h"
#include "route/route.h"

#include <string.h>

/* Whether the item has a text, so that in a job no further source needs to be asked. */
static bool enough(const struct ebi_route *route, size_t item)
{
    bool has = false;
    for (size_t k = 0; k < EB_SOURCES_MAX; k++)
        has = has || route->texts[item][k][0] != '\0';
    return has && route->config->count > 0;
}

unsigned ebi_reading_next(const struct ebi_route *route, unsigned after)
{
    unsigned next = EB_VALUE_NONE;
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        const struct eb_values *values = eb_profile_values(route->config->profile, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            unsigned kind = values->list[k].kind;
            if (kind > after && kind < EB_VALUE_SDO && !enough(route, i) &&
                (next == EB_VALUE_NONE || kind < next))
                next = kind;
        }
    }
    return next;
}

bool ebi_reading_failed(const struct ebi_route *route)
{
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        const struct eb_values *values = eb_profile_values(route->config->profile, i);
        bool hope = values == NULL || values->count == 0;
        for (size_t k = 0; values != NULL && k < values->count; k++)
            hope = hope || !route->failed_kinds[values->list[k].kind];
        if (!hope)
            return true;
    }
    return false;
}

/* --- asking -------------------------------------------------------------------------------------- */

static size_t collect_oids(const struct eb_profile *profile, struct eb_oid *oids)
{
    size_t count = 0;
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        const struct eb_values *values = eb_profile_values(profile, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            bool known = values->list[k].kind != EB_VALUE_SNMP || count == EB_ASK_OIDS_MAX;
            for (size_t o = 0; o < count && !known; o++)
                known = eb_oid_same(&oids[o], &values->list[k].oid);
            if (!known)
                oids[count++] = values->list[k].oid;
        }
    }
    return count;
}

void ebi_reading_begin(struct ebi_route *route, uint64_t now_us)
{
    static const enum eb_ask_kind kinds[] = {[EB_VALUE_SNMP] = EB_ASK_SNMP,
                                             [EB_VALUE_CIP] = EB_ASK_IDENTITY,
                                             [EB_VALUE_DNS_SD] = EB_ASK_DNS_SD,
                                             [EB_VALUE_DCP] = EB_ASK_STATION};
    static const uint16_t ports[] = {[EB_VALUE_SNMP] = EB_SNMP_PORT,
                                     [EB_VALUE_CIP] = EB_CIP_PORT,
                                     [EB_VALUE_DNS_SD] = EB_DNS_SD_PORT,
                                     [EB_VALUE_DCP] = 0};
    const struct eb_run_config *config = route->config;
    struct eb_ask_config ask = {.port = config->port,
                                .owner = route->owner,
                                .kind = kinds[route->reading],
                                .patience_us = config->profile->answer_patience_ms * 1000ULL,
                                .peer = config->modbus};
    ask.peer.port = ports[route->reading];
    ask.community = config->profile->community;
    ask.count = collect_oids(config->profile, route->oids);
    ask.oids = route->oids;
    struct eb_text service;
    eb_text_init(&service, route->service, sizeof route->service);
    eb_text_add(&service, config->profile->service);
    eb_text_add(&service, ".local");
    ask.service = route->service;
    eb_ask_begin(&route->ask, &ask, now_us);
}

/* --- taking -------------------------------------------------------------------------------------- */

static void number_text(uint32_t number, char *text, size_t cap)
{
    struct eb_text out;
    eb_text_init(&out, text, cap);
    eb_text_add_number(&out, number);
}

static void cip_text(const struct eb_cip_identity *id, unsigned item, char *text, size_t cap)
{
    static const char hex[] = "0123456789ABCDEF";
    struct eb_text out;
    eb_text_init(&out, text, cap);
    if (item == EB_CIP_REVISION) {
        eb_text_add_number(&out, id->major);
        eb_text_add(&out, ".");
        eb_text_add_number(&out, id->minor);
    } else if (item == EB_CIP_SERIAL) {
        char digits[9] = "";
        for (int i = 0; i < 8; i++)
            digits[i] = hex[id->serial >> (28 - 4 * i) & 15];
        eb_text_add(&out, digits);
    } else if (item == EB_CIP_NAME) {
        if (strlen(id->name) < cap)
            eb_text_add(&out, id->name);
    } else {
        eb_text_add_number(&out, item == EB_CIP_VENDOR ? id->vendor
                                 : item == EB_CIP_TYPE ? id->type
                                                       : id->product);
    }
}

static void dcp_text(const struct eb_dcp_station *station, unsigned item, char *text, size_t cap)
{
    const char *from = item == EB_DCP_NAME ? station->name : station->type;
    if (item == EB_DCP_VENDOR || item == EB_DCP_DEVICE) {
        if (station->has_id)
            number_text(item == EB_DCP_VENDOR ? station->vendor_id : station->device_id, text, cap);
    } else if (strlen(from) < cap) {
        eb_text_copy(text, cap, from);
    }
}

static void snmp_text(const struct ebi_route *route, const struct eb_oid *oid, char *text, size_t cap)
{
    struct eb_snmp_answer answer;
    if (!eb_snmp_read(&answer, route->ask.message, route->ask.message_size))
        return;
    for (size_t i = 0; i < answer.count; i++) {
        /* Half a version or serial number is none. */
        if (eb_oid_same(&answer.vars[i].oid, oid) && answer.vars[i].size < cap)
            eb_snmp_text(&answer.vars[i], text, cap);
    }
}

static void dns_text(const struct ebi_route *route, const char *key, char *text, size_t cap)
{
    struct eb_dns_reader reader;
    struct eb_dns_record record;
    char pair[2 * EB_NAME_BYTES];
    size_t size = strlen(key);
    if (!eb_dns_open(&reader, route->ask.message, route->ask.message_size))
        return;
    while (eb_ask_next_text(&route->ask, &reader, &record)) {
        size_t at = 0;
        while (eb_dns_text(&record, &at, pair, sizeof pair)) {
            if (strncmp(pair, key, size) == 0 && pair[size] == '=' && strlen(pair + size + 1) < cap) {
                eb_text_copy(text, cap, pair + size + 1);
                return; /* the first one counts (RFC 6763 section 6.4) */
            }
        }
    }
}

void ebi_reading_take(struct ebi_route *route)
{
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        const struct eb_values *values = eb_profile_values(route->config->profile, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            const struct eb_value *value = &values->list[k];
            char *text = route->texts[i][k];
            if (value->kind != route->reading || value->kind == EB_VALUE_MODBUS_REGISTER)
                continue; /* registers were taken one by one */
            if (value->kind == EB_VALUE_MODBUS_OBJECT)
                eb_modbus_object_text(&route->modbus.objects, value->item, text, EB_NAME_BYTES);
            else if (value->kind == EB_VALUE_SNMP)
                snmp_text(route, &value->oid, text, EB_NAME_BYTES);
            else if (value->kind == EB_VALUE_CIP)
                cip_text(&route->ask.identity, value->item, text, EB_NAME_BYTES);
            else if (value->kind == EB_VALUE_DNS_SD)
                dns_text(route, value->key, text, EB_NAME_BYTES);
            else
                dcp_text(&route->ask.station, value->item, text, EB_NAME_BYTES);
            ebi_route_cut_before(text, value->after);
        }
    }
}
