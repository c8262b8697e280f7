/* Ethernet frames and what devices say in them unasked: ARP (RFC 826, 5227), DHCP and BOOTP requests (RFC
 * 951, 2131, 2132), LLDP with inventory (IEEE 802.1AB, ANSI/TIA-1057).
 *
 * All functions are pure: bytes in, facts out, or the other way round.  Texts of a device come out printable
 * (eb_text_copy_foreign); what does not fit its field is cut. */
#ifndef EINBAU_ETHERNET_H
#define EINBAU_ETHERNET_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_MAC_BYTES = 6,
    EB_MAC_TEXT_BYTES = 18,
    EB_FRAME_HEAD_BYTES = 14,
    EB_FRAME_MIN_BYTES = 60,   /* without the check sequence; shorter ones are filled up with zeros */
    EB_FRAME_MAX_BYTES = 1518, /* with one VLAN tag */
    EB_HEARD_TEXT_BYTES = 64
};

enum eb_ethertype {
    EB_ETHERTYPE_IPV4 = 0x0800,
    EB_ETHERTYPE_ARP = 0x0806,
    EB_ETHERTYPE_VLAN = 0x8100,
    EB_ETHERTYPE_DCP = 0x8892,
    EB_ETHERTYPE_LLDP = 0x88CC
};

/* Writes "02:00:5e:10:00:01"; and reads it, upper case and '-' too. */
void eb_mac_text(const uint8_t mac[EB_MAC_BYTES], char text[EB_MAC_TEXT_BYTES]);
bool eb_mac_parse(const char *text, uint8_t mac[EB_MAC_BYTES]);
/* Whether it is one device's own: neither a group's address nor all zeros. */
bool eb_mac_is_device(const uint8_t mac[EB_MAC_BYTES]);

/* The head of an Ethernet frame, and what is behind it; borrowed from the bytes. */
struct eb_frame {
    uint8_t to[EB_MAC_BYTES], from[EB_MAC_BYTES];
    uint16_t type; /* behind VLAN tags */
    const uint8_t *payload;
    size_t size;
};

/* Reads the head of a frame; `payload` points into `bytes`.  False for one that is too short. */
bool eb_frame_read(struct eb_frame *frame, const uint8_t *bytes, size_t size);

/* Writes the head of a frame, EB_FRAME_HEAD_BYTES. */
void eb_frame_write(uint8_t *bytes, const uint8_t to[EB_MAC_BYTES], const uint8_t from[EB_MAC_BYTES],
                    uint16_t type);

/* --- UDP in IPv4, as it lies in a frame (RFC 791, 768) --- */

/* A UDP datagram in an Ethernet frame; borrowed from the bytes. */
struct eb_udp {
    uint8_t from_ip[4], to_ip[4];
    uint16_t from_port, to_port;
    const uint8_t *payload;
    size_t size;
};

/* False where the packet is no whole UDP datagram: fragments are left alone.  Checksums are not looked at. */
bool eb_udp_read(struct eb_udp *udp, const uint8_t *packet, size_t size);

/* --- ARP --- */

/* An ARP packet for IPv4 over Ethernet (RFC 826). */
struct eb_arp {
    bool reply;
    uint8_t from_mac[EB_MAC_BYTES], from_ip[4], to_ip[4];
};

/* False for anything but Ethernet and IPv4. */
bool eb_arp_read(struct eb_arp *arp, const uint8_t *payload, size_t size);

/* A frame that asks who has `ip`.  With `from_ip` 0.0.0.0 it is a probe, which changes nobody's tables
 * (RFC 5227 section 2.1.1). */
void eb_arp_ask(uint8_t frame[EB_FRAME_MIN_BYTES], const uint8_t mac[EB_MAC_BYTES], const uint8_t from_ip[4],
                const uint8_t ip[4]);

/* --- DHCP and BOOTP --- */

/* A request for an address, by DHCP or BOOTP (RFC 2131, RFC 951). */
struct eb_dhcp_request {
    bool bootp; /* without a message type: plain BOOTP */
    uint8_t mac[EB_MAC_BYTES];
    bool has_ip; /* it has an address, or asks for this one */
    uint8_t ip[4];
    char host_name[EB_HEARD_TEXT_BYTES];    /* option 12 */
    char vendor_class[EB_HEARD_TEXT_BYTES]; /* option 60 */
};

/* Reads what a client sends to port 67; false for everything else. */
bool eb_dhcp_read(struct eb_dhcp_request *request, const uint8_t *message, size_t size);

/* --- LLDP --- */

/* What a neighbour says of itself (IEEE 802.1AB). */
struct eb_lldp {
    bool leaves; /* time to live 0 */
    bool has_mac, has_ip;
    uint8_t mac[EB_MAC_BYTES]; /* the chassis', where it tells one */
    uint8_t ip[4];             /* for management */
    char name[EB_HEARD_TEXT_BYTES], description[EB_HEARD_TEXT_BYTES];
    char hardware[EB_HEARD_TEXT_BYTES], firmware[EB_HEARD_TEXT_BYTES], software[EB_HEARD_TEXT_BYTES];
    char serial[EB_HEARD_TEXT_BYTES], maker[EB_HEARD_TEXT_BYTES], model[EB_HEARD_TEXT_BYTES];
};

/* False where the three mandatory TLVs are not there in their order, or a length is wrong (section 9.2.7.7).
 */
bool eb_lldp_read(struct eb_lldp *lldp, const uint8_t *payload, size_t size);

#ifdef __cplusplus
}
#endif

#endif
