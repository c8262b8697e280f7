#include "einbau/dns_sd.h"
#include "base/bytes.h"
#include "einbau/text.h"

#include <string.h>

enum {
    HEAD_BYTES = 12,
    LABEL_MAX = 63,
    POINTER = 0xC0,
    CLASS_IN = 1,
    CLASS_TOP_BIT = 0x8000, /* question: unicast answer wanted; record: flush the cache */
    RESPONSE = 0x8000,
    RECORD_HEAD_BYTES = 10,
    SRV_HEAD_BYTES = 6,
    RECORDS_MAX = 512 /* more than a message of 9000 bytes can carry usefully */
};

void eb_dns_begin(struct eb_dns_questions *q, uint8_t *bytes, size_t cap, uint16_t id)
{
    *q = (struct eb_dns_questions){bytes, cap, HEAD_BYTES};
    memset(bytes, 0, HEAD_BYTES);
    ebi_put16(bytes, id);
}

bool eb_dns_ask(struct eb_dns_questions *q, const char *name, enum eb_dns_type type, bool unicast)
{
    size_t at = q->size;
    while (*name != '\0') {
        size_t length_at = at++;
        size_t length = 0;
        while (*name != '\0' && *name != '.') {
            if (*name == '\\' && name[1] != '\0')
                name++;
            if (at >= q->cap || ++length > LABEL_MAX)
                return false;
            q->bytes[at++] = (uint8_t)*name++;
        }
        if (length == 0 || length_at >= q->cap)
            return false;
        q->bytes[length_at] = (uint8_t)length;
        if (*name == '.')
            name++;
    }
    if (at + 5 > q->cap || at - q->size > 254)
        return false;
    q->bytes[at++] = 0;
    ebi_put16(q->bytes + at, (uint16_t)type);
    ebi_put16(q->bytes + at + 2, unicast ? CLASS_IN | CLASS_TOP_BIT : CLASS_IN);
    q->size = at + 4;
    ebi_put16(q->bytes + 4, (uint16_t)(ebi_get16(q->bytes + 4) + 1));
    return true;
}

/* --- reading ------------------------------------------------------------------------------------- */

/* Adds a label to a name: dots and backslashes inside it get a backslash, control characters a '?'. */
static bool add_label(struct eb_text *name, const uint8_t *label, size_t size)
{
    if (name->size > 0)
        eb_text_add(name, ".");
    for (size_t i = 0; i < size; i++) {
        char c[3] = {(char)label[i], '\0', '\0'};
        if (label[i] < 0x20 || label[i] == 0x7F)
            c[0] = '?';
        if (c[0] == '.' || c[0] == '\\') {
            c[1] = c[0];
            c[0] = '\\';
        }
        eb_text_add(name, c);
    }
    return !name->cut;
}

/* Reads a name at `at`; gives where it ends, or 0 where it is none.  A pointer must point to what stands
 * before the name that it is in, so that nothing can go round (RFC 1035 section 4.1.4). */
static size_t read_name(const uint8_t *bytes, size_t size, size_t at, char to[EB_DNS_NAME_BYTES])
{
    struct eb_text name;
    size_t end = 0;
    size_t limit = at;
    eb_text_init(&name, to, EB_DNS_NAME_BYTES);
    while (at < size) {
        size_t length = bytes[at];
        if (length == 0)
            return end != 0 ? end : at + 1;
        if ((length & POINTER) == POINTER) {
            if (at + 2 > size)
                return 0;
            size_t to_at = ebi_get16(bytes + at) & 0x3FFF;
            if (end == 0)
                end = at + 2;
            if (to_at >= limit)
                return 0;
            limit = to_at;
            at = to_at;
            continue;
        }
        if (length > LABEL_MAX || at + 1 + length > size || !add_label(&name, bytes + at + 1, length))
            return 0;
        at += 1 + length;
    }
    return 0;
}

bool eb_dns_open(struct eb_dns_reader *reader, const uint8_t *bytes, size_t size)
{
    char name[EB_DNS_NAME_BYTES];
    if (size < HEAD_BYTES || (ebi_get16(bytes + 2) & RESPONSE) == 0)
        return false;
    unsigned records = (unsigned)ebi_get16(bytes + 6) + ebi_get16(bytes + 8) + ebi_get16(bytes + 10);
    *reader = (struct eb_dns_reader){.bytes = bytes,
                                     .size = size,
                                     .at = HEAD_BYTES,
                                     .id = ebi_get16(bytes),
                                     .left = records < RECORDS_MAX ? records : RECORDS_MAX};
    for (unsigned left = ebi_get16(bytes + 4); left > 0; left--) {
        size_t end = read_name(bytes, size, reader->at, name);
        if (end == 0 || end + 4 > size)
            return false;
        reader->at = end + 4;
    }
    return true;
}

bool eb_dns_next(struct eb_dns_reader *reader, struct eb_dns_record *record)
{
    if (reader->left == 0)
        return false;
    reader->left--;
    size_t at = read_name(reader->bytes, reader->size, reader->at, record->name);
    reader->damaged = at == 0 || at + RECORD_HEAD_BYTES > reader->size ||
                      at + RECORD_HEAD_BYTES + ebi_get16(reader->bytes + at + 8) > reader->size;
    if (reader->damaged) {
        reader->left = 0;
        return false;
    }
    record->type = ebi_get16(reader->bytes + at);
    record->ttl_s = ebi_get32(reader->bytes + at + 4);
    record->size = ebi_get16(reader->bytes + at + 8);
    record->data = reader->bytes + at + RECORD_HEAD_BYTES;
    reader->at = at + RECORD_HEAD_BYTES + record->size;
    return true;
}

bool eb_dns_target(const struct eb_dns_reader *reader, const struct eb_dns_record *record,
                   char name[EB_DNS_NAME_BYTES])
{
    size_t before = record->type == EB_DNS_SRV ? SRV_HEAD_BYTES : 0;
    size_t at = (size_t)(record->data - reader->bytes) + before;
    if ((record->type != EB_DNS_SRV && record->type != EB_DNS_PTR) || record->size <= before)
        return false;
    size_t end = read_name(reader->bytes, reader->size, at, name);
    return end != 0 && end <= at - before + record->size;
}

bool eb_dns_text(const struct eb_dns_record *record, size_t *at, char *text, size_t cap)
{
    while (*at < record->size) {
        size_t length = record->data[*at];
        const uint8_t *value = record->data + *at + 1;
        if (length > record->size - *at - 1)
            return false;
        *at += 1 + length;
        if (length > 0) {
            eb_text_copy_foreign(text, cap, value, length);
            return true;
        }
    }
    return false;
}

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c - 'A' + 'a') : c;
}

bool eb_dns_is_below(const char *name, const char *parent)
{
    size_t at = 0;
    while (name[at] != '\0' && name[at] != '.') /* one label, in which '\' takes the next character along */
        at += name[at] == '\\' && name[at + 1] != '\0' ? 2 : 1;
    if (at == 0 || name[at] != '.')
        return false;
    for (name += at + 1; *name != '\0' && lower(*name) == lower(*parent); name++)
        parent++;
    return *name == '\0' && *parent == '\0';
}

void eb_dns_first_label(const char *name, char *label, size_t cap)
{
    size_t n = 0;
    for (; *name != '\0' && *name != '.' && n + 1 < cap; name++) {
        if (*name == '\\' && name[1] != '\0')
            name++;
        label[n++] = *name;
    }
    label[n] = '\0';
}
