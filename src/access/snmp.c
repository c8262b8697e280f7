#include "access/exchange.h"
#include "einbau/snmp.h"

enum { OIDS_MAX = 12 };

/* The objects of all values, each once. */
static size_t collect(const struct eb_contact *c, struct eb_oid oids[OIDS_MAX])
{
    size_t count = 0;
    for (size_t i = 0; i < ebi_places(c); i++) {
        char *text;
        const struct eb_value *value = ebi_value_at(c, i, &text);
        bool known = value == NULL || value->by != &eb_access_snmp || count == OIDS_MAX;
        for (size_t o = 0; o < count && !known; o++)
            known = eb_oid_same(&oids[o], value->oid);
        if (!known)
            oids[count++] = *value->oid;
    }
    return count;
}

static size_t write(const struct eb_exchange *x, uint8_t *bytes, size_t cap)
{
    struct eb_oid oids[OIDS_MAX];
    size_t count = collect(x->contact, oids);
    return eb_snmp_write(bytes, cap < EB_SNMP_REQUEST_BYTES ? cap : EB_SNMP_REQUEST_BYTES, EB_SNMP_GET,
                         x->contact->profile->community, x->id, oids, count, 0);
}

static void read_value(const void *from, const struct eb_value *value, char *text)
{
    const struct eb_snmp_answer *answer = from;
    for (size_t i = 0; i < answer->count; i++) {
        if (eb_oid_same(&answer->vars[i].oid, value->oid) && answer->vars[i].size < EB_NAME_BYTES)
            eb_snmp_text(&answer->vars[i], text, EB_NAME_BYTES);
    }
}

static enum eb_status take(struct eb_exchange *x, const uint8_t *bytes, size_t size, struct eb_error *error)
{
    struct eb_snmp_answer answer;
    (void)error;
    if (!eb_snmp_read(&answer, bytes, size) || answer.id != x->id)
        return EB_PENDING;
    ebi_values_take(x->contact, &eb_access_snmp, 0, read_value, &answer);
    return EB_OK;
}

static const struct ebi_question question = {&eb_access_snmp, EB_SNMP_PORT, write, take};

static void init(void *self, struct eb_contact *contact)
{
    ebi_exchange_init(self, &question, contact);
}

static const struct eb_field fields[] = {{"snmp", EB_FIELD_OID, EBI_VALUE(oid)}};
static const struct eb_row sources[] = {{"snmp", .fields = fields, .count = 1}};

const struct eb_rows eb_rows_snmp = {.sources = sources, .source_count = sizeof sources / sizeof sources[0]};

const struct eb_access eb_access_snmp = {
    .word = "snmp",
    .title = "SNMP",
    .rank = 3,
    .able = EB_ABLE(EB_READ),
    .needs = EB_NEEDS_UDP,
    .context_bytes = sizeof(struct eb_exchange),
    .init = init,
    .begin = ebi_exchange_begin,
    .poll = ebi_exchange_poll,
    .deadline_us = ebi_exchange_deadline_us,
    .close = ebi_exchange_close,
};
