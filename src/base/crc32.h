/* CRC-32 as in IEEE 802.3: reflected 04C11DB7h, begun with all ones, inverted at the end.  A nibble at a
 * time: sixteen table entries are small enough for everybody. */
#ifndef EBI_CRC32_H
#define EBI_CRC32_H

#include <stddef.h>
#include <stdint.h>

/* Goes on with `crc`, the result of what came before; begins with 0. */
uint32_t ebi_crc32(uint32_t crc, const uint8_t *bytes, size_t size);

#endif
