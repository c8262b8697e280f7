#include "einbau/snmp.h"
#include "einbau/text.h"
#include "wire/snmp_wire.h"

#include <string.h>

/* --- object identifiers -------------------------------------------------------------------------- */

static bool add_arc(struct eb_oid *oid, uint32_t arc)
{
    unsigned groups = 1;
    while (groups < 5 && arc >> (7 * groups) != 0)
        groups++;
    if (oid->size + groups > EB_OID_BYTES)
        return false;
    while (groups-- > 0)
        oid->bytes[oid->size++] = (uint8_t)((arc >> (7 * groups) & 0x7F) | (groups > 0 ? 0x80 : 0));
    return true;
}

bool eb_oid_parse(const char *text, struct eb_oid *oid)
{
    uint32_t first = 0;
    memset(oid, 0, sizeof *oid);
    for (int place = 0;; place++) {
        uint64_t arc;
        size_t size = strcspn(text, ".");
        if (size > 10 || !eb_text_number(text, size, &arc) || arc > UINT32_MAX)
            return false;
        if (place == 0)
            first = (uint32_t)arc;
        if (place == 0 && first > 2)
            return false;
        if (place == 1 && (arc >= 40 || !add_arc(oid, 40 * first + (uint32_t)arc)))
            return false;
        if (place > 1 && !add_arc(oid, (uint32_t)arc))
            return false;
        if (text[size] == '\0')
            return place > 0;
        text += size + 1;
    }
}

bool eb_oid_same(const struct eb_oid *a, const struct eb_oid *b)
{
    return a->size != 0 && a->size == b->size && memcmp(a->bytes, b->bytes, a->size) == 0;
}

/* --- writing: from the end to the front, so that each length is known ------------------------------- */

struct writing {
    uint8_t *bytes;
    size_t at; /* the first byte that is written */
    bool full;
};

static void put(struct writing *w, const void *bytes, size_t size)
{
    if (size > w->at) {
        w->full = true;
        return;
    }
    w->at -= size;
    memcpy(w->bytes + w->at, bytes, size);
}

/* Tag and length before what was written since `end`. */
static void put_head(struct writing *w, uint8_t tag, size_t end)
{
    size_t size = end - w->at;
    const uint8_t head[4] = {tag, 0x82, (uint8_t)(size >> 8), (uint8_t)size};
    const uint8_t short_head[2] = {tag, (uint8_t)size};
    if (size < 128)
        put(w, short_head, sizeof short_head);
    else
        put(w, head, sizeof head);
}

static void put_number(struct writing *w, uint32_t number)
{
    size_t end = w->at;
    do {
        const uint8_t byte = (uint8_t)number;
        put(w, &byte, 1);
        number >>= 8;
    } while (number != 0);
    if (!w->full && (w->bytes[w->at] & 0x80) != 0)
        put(w, "", 1); /* not negative */
    put_head(w, BER_INTEGER, end);
}

size_t eb_snmp_write(uint8_t *message, size_t cap, enum eb_snmp_request request, const char *community,
                     uint32_t id, const struct eb_oid *oids, size_t count, uint8_t repetitions)
{
    static const uint8_t null[2] = {BER_NULL, 0};
    struct writing w = {message, cap, false};
    for (size_t i = count; i-- > 0 && !w.full;) {
        size_t end = w.at;
        put(&w, null, sizeof null);
        size_t oid_end = w.at;
        put(&w, oids[i].bytes, oids[i].size);
        put_head(&w, BER_OID, oid_end);
        put_head(&w, BER_SEQUENCE, end);
    }
    put_head(&w, BER_SEQUENCE, cap);
    put_number(&w, request == EB_SNMP_GET_BULK ? repetitions : 0);
    put_number(&w, 0);
    put_number(&w, id & 0x7FFFFFFF);
    put_head(&w, (uint8_t)request, cap);
    size_t end = w.at;
    put(&w, community, strlen(community));
    put_head(&w, BER_OCTETS, end);
    put_number(&w, SNMP_VERSION_2C);
    put_head(&w, BER_SEQUENCE, cap);
    if (w.full)
        return 0;
    memmove(message, message + w.at, cap - w.at);
    return cap - w.at;
}

/* --- reading ------------------------------------------------------------------------------------- */

/* What is left of a constructed value. */
struct reading {
    const uint8_t *bytes;
    size_t size;
};

/* Takes the next value off `from`; accepts lengths that could be shorter.  False where it is not whole. */
static bool take(struct reading *from, uint8_t *tag, struct reading *value)
{
    if (from->size < 2)
        return false;
    size_t head = 2;
    size_t length = from->bytes[1];
    if (length >= 0x80) {
        size_t count = length & 0x7F;
        if (count == 0 || count > 4 || from->size < 2 + count)
            return false;
        length = 0;
        for (size_t i = 0; i < count; i++)
            length = length << 8 | from->bytes[2 + i];
        head += count;
    }
    if (length > from->size - head)
        return false;
    *tag = from->bytes[0];
    *value = (struct reading){from->bytes + head, length};
    from->bytes += head + length;
    from->size -= head + length;
    return true;
}

static bool take_as(struct reading *from, uint8_t expected, struct reading *value)
{
    uint8_t tag;
    return take(from, &tag, value) && tag == expected;
}

static bool take_number(struct reading *from, uint32_t *number)
{
    struct reading value;
    if (!take_as(from, BER_INTEGER, &value) || value.size == 0 || value.size > 5)
        return false;
    *number = 0;
    for (size_t i = 0; i < value.size; i++)
        *number = *number << 8 | value.bytes[i];
    return true;
}

bool eb_snmp_read(struct eb_snmp_answer *answer, const uint8_t *message, size_t size)
{
    struct reading all = {message, size};
    struct reading whole;
    struct reading community;
    struct reading pdu;
    struct reading list;
    uint32_t version;
    uint32_t index;
    memset(answer, 0, sizeof *answer);
    if (!take_as(&all, BER_SEQUENCE, &whole) || !take_number(&whole, &version) ||
        version != SNMP_VERSION_2C || !take_as(&whole, BER_OCTETS, &community) ||
        !take_as(&whole, SNMP_RESPONSE, &pdu) || !take_number(&pdu, &answer->id) ||
        !take_number(&pdu, &answer->error) || !take_number(&pdu, &index) ||
        !take_as(&pdu, BER_SEQUENCE, &list))
        return false;
    while (list.size > 0 && answer->count < EB_SNMP_VARS_MAX) {
        struct eb_snmp_var *var = &answer->vars[answer->count];
        struct reading pair;
        struct reading oid;
        struct reading value;
        if (!take_as(&list, BER_SEQUENCE, &pair) || !take_as(&pair, BER_OID, &oid) ||
            !take(&pair, &var->tag, &value))
            return false;
        if (oid.size <= EB_OID_BYTES) {
            var->oid.size = (uint8_t)oid.size;
            memcpy(var->oid.bytes, oid.bytes, oid.size);
        }
        var->value = value.bytes;
        var->size = value.size;
        answer->count++;
    }
    return true;
}

bool eb_snmp_text(const struct eb_snmp_var *var, char *text, size_t cap)
{
    struct eb_text out;
    eb_text_init(&out, text, cap);
    if (var->tag == BER_OCTETS) {
        eb_text_copy_foreign(text, cap, var->value, var->size);
        return true;
    }
    bool negative = var->tag == BER_INTEGER && var->size > 0 && (var->value[0] & 0x80) != 0;
    if ((var->tag != BER_INTEGER && var->tag != SNMP_COUNTER32 && var->tag != SNMP_GAUGE32) ||
        var->size == 0 || var->size > 5 || negative)
        return false;
    uint64_t number = 0;
    for (size_t i = 0; i < var->size; i++)
        number = number << 8 | var->value[i];
    eb_text_add_number(&out, number);
    return true;
}
