/* TFTP on the wire: RFC 1350 section 5, RFC 2347. */
#ifndef EBI_TFTP_WIRE_H
#define EBI_TFTP_WIRE_H

enum {
    TFTP_RRQ = 1,
    TFTP_WRQ = 2,
    TFTP_DATA = 3,
    TFTP_ACK = 4,
    TFTP_ERROR = 5,
    TFTP_OACK = 6,
    TFTP_HEAD_BYTES = 4
};

enum {
    TFTP_E_UNDEFINED = 0,
    TFTP_E_NOT_FOUND = 1,
    TFTP_E_ACCESS = 2,
    TFTP_E_FULL = 3,
    TFTP_E_ILLEGAL = 4,
    TFTP_E_UNKNOWN_TID = 5,
    TFTP_E_OPTION = 8
};

/* What a reader and a writer share: tftp_text.c.  Each writes behind `at` what still fits, and gives its
 * size. */
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

size_t ebi_tftp_field(uint8_t *to, size_t cap, size_t at, const char *field);
size_t ebi_tftp_option(uint8_t *to, size_t cap, size_t at, const char *name, uint64_t value);
/* Whether `chars` are the lower-case `word`, upper and lower case alike (RFC 2347). */
bool ebi_tftp_is(const char *chars, const char *word);

#endif
