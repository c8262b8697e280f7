#include "packet.h"

#include <string.h>

#include "base/bytes.h"

enum { HEAD = 14, IPV4_HEAD = 20, UDP_HEAD = 8, TCP_HEAD = 20, TCP = 6, UDP = 17, WINDOW = 65535 };

uint32_t ebi_packet_sum(uint32_t sum, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i + 1 < size; i += 2)
        sum += ebi_get16(bytes + i);
    return size % 2 != 0 ? sum + ((uint32_t)bytes[size - 1] << 8) : sum;
}

uint16_t ebi_packet_checksum(uint32_t sum)
{
    while (sum > 0xFFFF)
        sum = (sum & 0xFFFF) + (sum >> 16);
    return (uint16_t)~sum;
}

/* The heads of Ethernet and IPv4; gives where the rest begins. */
static uint8_t *put_heads(uint8_t *frame, const uint8_t *from_mac, const uint8_t *to_mac,
                          const struct eb_endpoint *from, const struct eb_endpoint *to, uint8_t protocol,
                          size_t size)
{
    uint8_t *ip = frame + HEAD;
    memcpy(frame, to_mac, EB_MAC_BYTES);
    memcpy(frame + EB_MAC_BYTES, from_mac, EB_MAC_BYTES);
    ebi_put16(frame + HEAD - 2, EB_ETHERTYPE_IPV4);
    memset(ip, 0, IPV4_HEAD);
    ip[0] = 0x45;
    ebi_put16(ip + 2, (uint16_t)(IPV4_HEAD + size));
    ip[8] = to->ip[0] == 224 ? 255 : 64; /* RFC 6762 section 11 wants 255 */
    ip[9] = protocol;
    memcpy(ip + 12, from->ip, 4);
    memcpy(ip + 16, to->ip, 4);
    ebi_put16(ip + 10, ebi_packet_checksum(ebi_packet_sum(0, ip, IPV4_HEAD)));
    return ip + IPV4_HEAD;
}

/* Of the segment or datagram and the addresses above it. */
static uint16_t checksum(const uint8_t *body, uint8_t protocol, size_t size)
{
    uint32_t pseudo = ebi_packet_sum(protocol + (uint32_t)size, body - 8, 8);
    return ebi_packet_checksum(ebi_packet_sum(pseudo, body, size));
}

size_t ebi_packet_udp(uint8_t *frame, const uint8_t *from_mac, const uint8_t *to_mac,
                      const struct eb_endpoint *from, const struct eb_endpoint *to, const uint8_t *bytes,
                      size_t size)
{
    size_t whole = UDP_HEAD + size;
    uint8_t *udp = put_heads(frame, from_mac, to_mac, from, to, UDP, whole);
    ebi_put16(udp, from->port);
    ebi_put16(udp + 2, to->port);
    ebi_put16(udp + 4, (uint16_t)whole);
    ebi_put16(udp + 6, 0);
    memcpy(udp + UDP_HEAD, bytes, size);
    uint16_t sum = checksum(udp, UDP, whole);
    ebi_put16(udp + 6, sum == 0 ? 0xFFFF : sum);
    return EBI_UDP_FRAME_HEAD_BYTES + size;
}

size_t ebi_packet_tcp(uint8_t *frame, const uint8_t *from_mac, const uint8_t *to_mac,
                      const struct eb_endpoint *from, const struct eb_endpoint *to, uint32_t sequence,
                      uint32_t acknowledged, uint8_t flags, const uint8_t *bytes, size_t size)
{
    size_t whole = TCP_HEAD + size;
    uint8_t *tcp = put_heads(frame, from_mac, to_mac, from, to, TCP, whole);
    ebi_put16(tcp, from->port);
    ebi_put16(tcp + 2, to->port);
    ebi_put32(tcp + 4, sequence);
    ebi_put32(tcp + 8, acknowledged);
    tcp[12] = TCP_HEAD / 4 << 4;
    tcp[13] = flags;
    ebi_put16(tcp + 14, WINDOW);
    ebi_put32(tcp + 16, 0);
    if (size > 0)
        memcpy(tcp + TCP_HEAD, bytes, size);
    ebi_put16(tcp + 16, checksum(tcp, TCP, whole));
    return EBI_TCP_FRAME_HEAD_BYTES + size;
}
