/* Modbus on the wire: Application Protocol 1.1b3, sections 4, 6 and 7. */
#ifndef EBI_MODBUS_WIRE_H
#define EBI_MODBUS_WIRE_H

#include "einbau/modbus.h"

enum {
    MBAP_BYTES = 7, /* transaction id, protocol id, length, unit id */
    MODBUS_READ_REGISTERS = 0x03,
    MODBUS_WRITE_COIL = 0x05,
    MODBUS_WRITE_REGISTER = 0x06,
    MODBUS_WRITE_REGISTERS = 0x10,
    MODBUS_ENCAPSULATED = 0x2B,
    MODBUS_MEI_IDENTIFY = 0x0E,
    MODBUS_MORE_FOLLOWS = 0xFF,
    MODBUS_EXCEPTION = 0x80,
    MODBUS_X_FUNCTION = 1,
    MODBUS_X_ADDRESS = 2,
    MODBUS_X_VALUE = 3,
    MODBUS_X_PATH = 10,
    MODBUS_X_TARGET = 11,
    MODBUS_COIL_ON = 0xFF00,
    MODBUS_REGISTERS_MAX = 123 /* of one write */
};

/* Takes bytes of a stream until one frame is whole; `*bytes` and `*size` become the rest of them.  The frame
 * is in `rx`, its PDU behind MBAP_BYTES, until the next call. */
enum ebi_mbap { EBI_MBAP_PART, EBI_MBAP_WHOLE, EBI_MBAP_NONE };
struct ebi_mbap_rx {
    uint8_t *bytes; /* EB_MODBUS_FRAME_BYTES */
    size_t *size;   /* of those that are there */
};
enum ebi_mbap ebi_mbap_take(const struct ebi_mbap_rx *rx, const uint8_t **bytes, size_t *size,
                            size_t *pdu_size);

#endif
