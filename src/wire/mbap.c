/* The frames of Modbus/TCP in a stream (Messaging on TCP/IP Implementation Guide 1.0b, section 3.1.3). */
#include "wire/modbus_wire.h"

#include "base/bytes.h"

#include <string.h>

enum ebi_mbap ebi_mbap_take(const struct ebi_mbap_rx *rx, const uint8_t **bytes, size_t *size,
                            size_t *pdu_size)
{
    while (*size > 0) {
        size_t have = *rx->size;
        size_t wanted = have < MBAP_BYTES ? MBAP_BYTES : (size_t)MBAP_BYTES - 1 + ebi_get16(rx->bytes + 4);
        size_t n = wanted - have < *size ? wanted - have : *size;
        memcpy(rx->bytes + have, *bytes, n);
        *rx->size = have += n;
        *bytes += n;
        *size -= n;
        if (have < MBAP_BYTES)
            continue;
        uint16_t length = ebi_get16(rx->bytes + 4);
        if (ebi_get16(rx->bytes + 2) != 0 || length < 2 || length > EB_MODBUS_PDU_BYTES + 1)
            return EBI_MBAP_NONE;
        if (have == (size_t)MBAP_BYTES - 1 + length) {
            *rx->size = 0;
            *pdu_size = (size_t)length - 1;
            return EBI_MBAP_WHOLE;
        }
    }
    return EBI_MBAP_PART;
}
