/* SNMP version 2c: asking and reading (RFC 1901, 3416), with what a device says of itself (RFC 3418 system
 * group, RFC 6933 ENTITY-MIB).  Pure functions over datagrams. */
#ifndef EINBAU_SNMP_H
#define EINBAU_SNMP_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_SNMP_PORT = 161, EB_OID_BYTES = 40, EB_SNMP_REQUEST_BYTES = 512, EB_SNMP_VARS_MAX = 40 };

/* An object identifier as it lies on the wire (X.690 section 8.19). */
struct eb_oid {
    uint8_t size;
    uint8_t bytes[EB_OID_BYTES];
};

/* Reads "1.3.6.1.2.1.1.1.0"; false for anything else, or where it is longer than EB_OID_BYTES. */
bool eb_oid_parse(const char *text, struct eb_oid *oid);
bool eb_oid_same(const struct eb_oid *a, const struct eb_oid *b);

enum eb_snmp_request { EB_SNMP_GET = 0xA0, EB_SNMP_GET_NEXT = 0xA1, EB_SNMP_GET_BULK = 0xA5 };

/* Writes a request for `count` objects and gives its size, 0 where it is longer than `cap`.  `repetitions`
 * counts for EB_SNMP_GET_BULK only. */
size_t eb_snmp_write(uint8_t *message, size_t cap, enum eb_snmp_request request, const char *community,
                     uint32_t id, const struct eb_oid *oids, size_t count, uint8_t repetitions);

/* One variable of a response. */
struct eb_snmp_var {
    struct eb_oid oid; /* size 0: longer than EB_OID_BYTES */
    uint8_t tag;
    const uint8_t *value; /* in the message */
    size_t size;
};

/* One response. */
struct eb_snmp_answer {
    uint32_t id;
    uint32_t error; /* error-status, 0: none */
    struct eb_snmp_var vars[EB_SNMP_VARS_MAX];
    size_t count;
};

/* Reads an answer; false for anything else, or where a length in it is wrong.  More objects than
 * EB_SNMP_VARS_MAX are left out. */
bool eb_snmp_read(struct eb_snmp_answer *answer, const uint8_t *message, size_t size);

/* The value as printable text: octets as they are, whole numbers in decimal.  False where there is none
 * (noSuchObject and the like), or another type. */
bool eb_snmp_text(const struct eb_snmp_var *var, char *text, size_t cap);

#ifdef __cplusplus
}
#endif

#endif
