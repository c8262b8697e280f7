/* SNMP on the wire: tags of RFC 3416 and X.690. */
#ifndef EBI_SNMP_WIRE_H
#define EBI_SNMP_WIRE_H

enum {
    BER_INTEGER = 0x02,
    BER_OCTETS = 0x04,
    BER_NULL = 0x05,
    BER_OID = 0x06,
    BER_SEQUENCE = 0x30,
    SNMP_COUNTER32 = 0x41,
    SNMP_GAUGE32 = 0x42,
    SNMP_RESPONSE = 0xA2,
    SNMP_NO_SUCH_OBJECT = 0x80,
    SNMP_NO_SUCH_INSTANCE = 0x81,
    SNMP_END_OF_VIEW = 0x82,
    SNMP_VERSION_2C = 1
};

#endif
