/* Numbers in network byte order. */
#ifndef EBI_BYTES_H
#define EBI_BYTES_H

#include <stdint.h>

static inline uint16_t ebi_get16(const uint8_t *at)
{
    return (uint16_t)(at[0] << 8 | at[1]);
}

static inline void ebi_put16(uint8_t *at, uint16_t value)
{
    at[0] = (uint8_t)(value >> 8);
    at[1] = (uint8_t)value;
}

#endif
