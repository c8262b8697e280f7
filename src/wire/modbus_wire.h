/* Modbus on the wire: Application Protocol 1.1b3, sections 4, 6 and 7. */
#ifndef EBI_MODBUS_WIRE_H
#define EBI_MODBUS_WIRE_H

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
    MODBUS_COIL_ON = 0xFF00,
    MODBUS_REGISTERS_MAX = 123 /* of one write */
};

#endif
