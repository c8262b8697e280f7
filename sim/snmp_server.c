/* The simulated device's SNMP version 2c: the system group and one chassis in the ENTITY-MIB (RFC 3416, 3418,
 * 6933).  Each object is a row in the order of its identifier. */
#include "server.h"

#include <stdio.h>
#include <string.h>

#include "wire/snmp_wire.h"

enum { ROWS_MAX = 16, MESSAGE_BYTES = 1400, REQUESTS_MAX = 32, NOT_WRITABLE = 17 };

struct row {
    uint8_t oid[16];
    uint8_t oid_size;
    uint8_t tag;
    char text[248]; /* of BER_OCTETS; of BER_INTEGER its one byte */
};

struct part {
    const uint8_t *bytes;
    size_t size;
};

static void add(struct row *rows, size_t *count, unsigned mib, unsigned column, unsigned entry, uint8_t tag,
                const char *text)
{
    struct row *r = &rows[(*count)++];
    static const uint8_t mib_2[] = {0x2B, 6, 1, 2, 1};
    memcpy(r->oid, mib_2, sizeof mib_2);
    r->oid_size = sizeof mib_2;
    r->oid[r->oid_size++] = (uint8_t)mib;
    for (int i = 0; mib == 47 && i < 4; i++)
        r->oid[r->oid_size++] = 1; /* entityMIBObjects, entityPhysical, entPhysicalTable, entPhysicalEntry */
    r->oid[r->oid_size++] = (uint8_t)column;
    r->oid[r->oid_size++] = (uint8_t)entry;
    r->tag = tag;
    snprintf(r->text, sizeof r->text, "%s", text);
}

static size_t rows_of(const struct ebi_sim_device *d, struct row rows[ROWS_MAX])
{
    size_t count = 0;
    char description[128];
    const struct eb_identity *id = &d->identity;
    snprintf(description, sizeof description, "%s %s %s", id->maker, id->product,
             ebi_sim_device_version(d, 0));
    add(rows, &count, 1, 1, 0, BER_OCTETS, description);
    add(rows, &count, 1, 5, 0, BER_OCTETS, d->set.name[0] != '\0' ? d->set.name : d->name);
    add(rows, &count, 47, 2, 1, BER_OCTETS, id->product);
    add(rows, &count, 47, 5, 1, BER_INTEGER, "\x03"); /* a chassis */
    add(rows, &count, 47, 8, 1, BER_OCTETS, id->hardware_revision);
    add(rows, &count, 47, 9, 1, BER_OCTETS, ebi_sim_device_version(d, 0));
    add(rows, &count, 47, 10, 1, BER_OCTETS, ebi_sim_device_version(d, 1));
    add(rows, &count, 47, 11, 1, BER_OCTETS, ebi_sim_device_serial(d));
    add(rows, &count, 47, 12, 1, BER_OCTETS, id->maker);
    add(rows, &count, 47, 13, 1, BER_OCTETS, id->order_code);
    return count;
}

/* --- reading ------------------------------------------------------------------------------------- */

/* The next value; false where it is not whole. */
static bool next(struct part *from, uint8_t *tag, struct part *value)
{
    size_t head = 2;
    if (from->size < 2)
        return false;
    size_t size = from->bytes[1];
    if (size > 0x80 && size <= 0x82) {
        size_t more = size - 0x80;
        if (from->size < 2 + more)
            return false;
        size = more == 1 ? from->bytes[2] : (size_t)from->bytes[2] << 8 | from->bytes[3];
        head += more;
    } else if (size >= 0x80) {
        return false;
    }
    if (size > from->size - head)
        return false;
    *tag = from->bytes[0];
    *value = (struct part){from->bytes + head, size};
    from->bytes += head + size;
    from->size -= head + size;
    return true;
}

static bool next_is(struct part *from, uint8_t wanted, struct part *value)
{
    uint8_t tag;
    return next(from, &tag, value) && tag == wanted;
}

static int compare(const struct row *row, const struct part *oid)
{
    size_t least = row->oid_size < oid->size ? row->oid_size : oid->size;
    int difference = memcmp(row->oid, oid->bytes, least);
    return difference != 0 ? difference : (int)row->oid_size - (int)oid->size;
}

/* --- answering ----------------------------------------------------------------------------------- */

struct answer {
    uint8_t bytes[MESSAGE_BYTES];
    size_t size;
};

static void put(struct answer *a, const void *bytes, size_t size)
{
    if (a->size + size <= sizeof a->bytes) {
        memcpy(a->bytes + a->size, bytes, size);
        a->size += size;
    }
}

static void put_value(struct answer *a, uint8_t tag, const void *bytes, size_t size)
{
    const uint8_t head[4] = {tag, 0x82, (uint8_t)(size >> 8), (uint8_t)size};
    const uint8_t short_head[2] = {tag, (uint8_t)size};
    if (size < 128)
        put(a, short_head, sizeof short_head);
    else
        put(a, head, sizeof head);
    put(a, bytes, size);
}

/* One variable; `row` NULL: `tag` says why there is none. */
static void put_variable(struct answer *to, const struct part *oid, const struct row *row, uint8_t tag)
{
    struct answer pair = {.size = 0};
    if (row == NULL) {
        put_value(&pair, BER_OID, oid->bytes, oid->size);
        put_value(&pair, tag, "", 0);
    } else {
        put_value(&pair, BER_OID, row->oid, row->oid_size);
        put_value(&pair, row->tag, row->text, row->tag == BER_INTEGER ? 1 : strlen(row->text));
    }
    if (to->size + pair.size + 4 < MESSAGE_BYTES - 100)
        put_value(to, BER_SEQUENCE, pair.bytes, pair.size);
}

/* Answers for one object: it, or the `repetitions` ones behind it. */
static void look_up(const struct row *rows, size_t count, uint8_t request, unsigned repetitions,
                    const struct part *oid, struct answer *to)
{
    size_t at = 0;
    if (request == 0xA0) {
        while (at < count && compare(&rows[at], oid) != 0)
            at++;
        put_variable(to, oid, at < count ? &rows[at] : NULL, SNMP_NO_SUCH_INSTANCE);
        return;
    }
    while (at < count && compare(&rows[at], oid) <= 0)
        at++;
    for (unsigned i = 0; i < repetitions; i++, at++) {
        const struct part last =
            at > 0 && at <= count && i > 0 ? (struct part){rows[at - 1].oid, rows[at - 1].oid_size} : *oid;
        put_variable(to, &last, at < count ? &rows[at] : NULL, SNMP_END_OF_VIEW);
        if (at >= count)
            return;
    }
}

static void datagram(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size)
{
    (void)handle;
    struct part all = {bytes, size};
    struct part whole;
    struct part version;
    struct part community;
    struct part pdu;
    struct part id;
    struct part first;
    struct part second;
    struct part list;
    struct part pair;
    struct part oid;
    uint8_t request;
    if (!next_is(&all, BER_SEQUENCE, &whole) || !next_is(&whole, BER_INTEGER, &version) ||
        version.size != 1 || version.bytes[0] != SNMP_VERSION_2C ||
        !next_is(&whole, BER_OCTETS, &community) || !next(&whole, &request, &pdu) ||
        !next_is(&pdu, BER_INTEGER, &id) || !next_is(&pdu, BER_INTEGER, &first) ||
        !next_is(&pdu, BER_INTEGER, &second) || !next_is(&pdu, BER_SEQUENCE, &list))
        return;
    if (community.size != strlen(d->community) || memcmp(community.bytes, d->community, community.size) != 0)
        return; /* section 3 of RFC 1901: silence */
    if (request != 0xA0 && request != 0xA1 && request != 0xA5)
        return;
    unsigned repetitions = request == 0xA5 && second.size == 1 ? second.bytes[0] : 1;
    struct row rows[ROWS_MAX];
    size_t count = rows_of(d, rows);
    struct answer variables = {.size = 0};
    for (int i = 0; i < REQUESTS_MAX && list.size > 0; i++) {
        if (!next_is(&list, BER_SEQUENCE, &pair) || !next_is(&pair, BER_OID, &oid))
            return;
        look_up(rows, count, request, repetitions, &oid, &variables);
    }
    struct answer body = {.size = 0};
    put_value(&body, BER_INTEGER, id.bytes, id.size);
    put_value(&body, BER_INTEGER, "", 1);
    put_value(&body, BER_INTEGER, "", 1);
    put_value(&body, BER_SEQUENCE, variables.bytes, variables.size);
    struct answer message = {.size = 0};
    put_value(&message, BER_INTEGER, version.bytes, 1);
    put_value(&message, BER_OCTETS, community.bytes, community.size);
    put_value(&message, SNMP_RESPONSE, body.bytes, body.size);
    struct answer out = {.size = 0};
    put_value(&out, BER_SEQUENCE, message.bytes, message.size);
    d->net->udp_send_from(d->net->self, d, EB_SNMP_PORT, from, out.bytes, out.size);
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    (void)d;
    return tcp ? 0 : EB_SNMP_PORT;
}

const struct ebi_sim_server ebi_sim_snmp = {.word = "snmp", .port = port, .datagram = datagram};
