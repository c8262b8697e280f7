/* Numbers in network byte order, and with `le` in their names with the lowest byte first. */
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

static inline uint32_t ebi_get32(const uint8_t *at)
{
    return (uint32_t)ebi_get16(at) << 16 | ebi_get16(at + 2);
}

static inline void ebi_put32(uint8_t *at, uint32_t value)
{
    ebi_put16(at, (uint16_t)(value >> 16));
    ebi_put16(at + 2, (uint16_t)value);
}

static inline uint16_t ebi_get16le(const uint8_t *at)
{
    return (uint16_t)(at[1] << 8 | at[0]);
}

static inline void ebi_put16le(uint8_t *at, uint16_t value)
{
    at[0] = (uint8_t)value;
    at[1] = (uint8_t)(value >> 8);
}

static inline void ebi_put32le(uint8_t *at, uint32_t value)
{
    ebi_put16le(at, (uint16_t)value);
    ebi_put16le(at + 2, (uint16_t)(value >> 16));
}

static inline uint32_t ebi_get32le(const uint8_t *at)
{
    return (uint32_t)ebi_get16le(at + 2) << 16 | ebi_get16le(at);
}

#endif
