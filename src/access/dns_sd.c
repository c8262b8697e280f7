#include "access/exchange.h"
#include "einbau/dns_sd.h"
#include "einbau/text.h"

#include <string.h>

enum { SERVICE_BYTES = EB_NAME_BYTES + 8 };

/* "_pa._tcp.local" */
static void name_service(const struct eb_exchange *x, char service[SERVICE_BYTES])
{
    struct eb_text text;
    eb_text_init(&text, service, SERVICE_BYTES);
    eb_text_add(&text, x->contact->profile->service);
    eb_text_add(&text, ".local");
}

static size_t write(const struct eb_exchange *x, uint8_t *bytes, size_t cap)
{
    char service[SERVICE_BYTES];
    struct eb_dns_questions q;
    name_service(x, service);
    eb_dns_begin(&q, bytes, cap, (uint16_t)x->id);
    eb_dns_ask(&q, service, EB_DNS_PTR, true);
    return q.size;
}

/* The next text record (TXT) of the service. */
static bool next_text(const char *service, struct eb_dns_reader *reader, struct eb_dns_record *record)
{
    while (eb_dns_next(reader, record)) {
        if (record->type == EB_DNS_TXT && eb_dns_is_below(record->name, service))
            return true;
    }
    return false;
}

/* An answer, and the service that it is about. */
struct answer {
    struct eb_dns_reader reader;
    char service[SERVICE_BYTES];
};

static void read_value(const void *from, const struct eb_value *value, char *text)
{
    const struct answer *answer = from;
    struct eb_dns_reader reader = answer->reader;
    struct eb_dns_record record;
    char pair[2 * EB_NAME_BYTES];
    size_t length = strlen(value->key);
    while (next_text(answer->service, &reader, &record)) {
        size_t at = 0;
        while (eb_dns_text(&record, &at, pair, sizeof pair)) {
            if (strncmp(pair, value->key, length) == 0 && pair[length] == '=' &&
                strlen(pair + length + 1) < EB_NAME_BYTES) {
                eb_text_copy(text, EB_NAME_BYTES, pair + length + 1);
                return; /* the first one counts (RFC 6763 section 6.4) */
            }
        }
    }
}

/* It answers the question by its id (RFC 6762 section 6.7). */
static enum eb_status take(struct eb_exchange *x, const uint8_t *bytes, size_t size, struct eb_error *error)
{
    struct answer answer;
    struct eb_dns_record record;
    (void)error;
    name_service(x, answer.service);
    if (!eb_dns_open(&answer.reader, bytes, size) || answer.reader.id != (uint16_t)x->id)
        return EB_PENDING;
    struct eb_dns_reader reader = answer.reader;
    if (!next_text(answer.service, &reader, &record))
        return EB_PENDING;
    ebi_values_take(x->contact, &eb_access_dns_sd, 0, read_value, &answer);
    return EB_OK;
}

static const struct ebi_question question = {&eb_access_dns_sd, EB_DNS_SD_PORT, write, take};

static void init(void *self, struct eb_contact *contact)
{
    ebi_exchange_init(self, &question, contact);
}

static const struct eb_field fields[] = {{"dns-sd", EB_FIELD_STRING, EBI_VALUE(key), .needed = true}};
static const struct eb_row sources[] = {{"dns-sd", .fields = fields, .count = 1}};

const struct eb_rows eb_rows_dns_sd = {.sources = sources,
                                       .source_count = sizeof sources / sizeof sources[0]};

const struct eb_access eb_access_dns_sd = {
    .word = "dns-sd",
    .title = "DNS-SD",
    .rank = 5,
    .able = EB_ABLE(EB_READ),
    .needs = EB_NEEDS_UDP,
    .context_bytes = sizeof(struct eb_exchange),
    .init = init,
    .begin = ebi_exchange_begin,
    .poll = ebi_exchange_poll,
    .deadline_us = ebi_exchange_deadline_us,
    .close = ebi_exchange_close,
};
