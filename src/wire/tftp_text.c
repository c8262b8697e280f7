/* The texts of TFTP's requests and options (RFC 1350 section 5, RFC 2347). */
#include "wire/tftp_wire.h"
#include "einbau/text.h"

#include <string.h>

size_t ebi_tftp_field(uint8_t *to, size_t cap, size_t at, const char *field)
{
    size_t size = strlen(field) + 1;
    if (at >= cap || size > cap - at)
        return 0;
    memcpy(to + at, field, size);
    return size;
}

size_t ebi_tftp_option(uint8_t *to, size_t cap, size_t at, const char *name, uint64_t value)
{
    char digits[21];
    struct eb_text number;
    eb_text_init(&number, digits, sizeof digits);
    eb_text_add_number(&number, value);
    size_t size = ebi_tftp_field(to, cap, at, name);
    return size + ebi_tftp_field(to, cap, at + size, digits);
}

bool ebi_tftp_is(const char *chars, const char *word)
{
    while (*chars != '\0' && (*chars | 0x20) == *word) {
        chars++;
        word++;
    }
    return *chars == *word;
}
