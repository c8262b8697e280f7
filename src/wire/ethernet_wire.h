/* Lengths and numbers of what lies in Ethernet frames; the standards are named in einbau/ethernet.h. */
#ifndef EBI_ETHERNET_WIRE_H
#define EBI_ETHERNET_WIRE_H

enum {
    ARP_BYTES = 28,
    ARP_REQUEST = 1,
    ARP_REPLY = 2,
    IPV4_HEAD_BYTES = 20,
    IPV4_UDP = 17,
    IPV4_TCP = 6,
    UDP_HEAD_BYTES = 8,
    DHCP_SERVER_PORT = 67,
    DHCP_CLIENT_PORT = 68,
    DHCP_FIXED_BYTES = 236, /* before the options' cookie */
    DHCP_OPTION_HOST_NAME = 12,
    DHCP_OPTION_REQUESTED = 50,
    DHCP_OPTION_TYPE = 53,
    DHCP_OPTION_VENDOR_CLASS = 60,
    DHCP_OPTION_END = 255,
    LLDP_END = 0,
    LLDP_CHASSIS = 1,
    LLDP_PORT = 2,
    LLDP_TTL = 3,
    LLDP_NAME = 5,
    LLDP_DESCRIPTION = 6,
    LLDP_MANAGEMENT = 8,
    LLDP_ORGANISATION = 127
};

#define DHCP_COOKIE  0x63825363U
#define LLDP_MED_OUI 0x0012BBU

#endif
