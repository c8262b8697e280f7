/* EtherNet/IP and CIP on the wire; everything lowest byte first but the socket address. */
#ifndef EBI_CIP_WIRE_H
#define EBI_CIP_WIRE_H

enum {
    ENCAP_HEAD_BYTES = 24,
    ENCAP_LIST_SERVICES = 0x04,
    ENCAP_LIST_IDENTITY = 0x63,
    ENCAP_REGISTER = 0x65,
    ENCAP_UNREGISTER = 0x66,
    ENCAP_SEND_RR_DATA = 0x6F,
    ENCAP_ITEM_NULL = 0x00,
    ENCAP_ITEM_IDENTITY = 0x0C,
    ENCAP_ITEM_UNCONNECTED = 0xB2,
    CIP_REPLY = 0x80,
    CIP_CLASS_IDENTITY = 1
};

#endif
