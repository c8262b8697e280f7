/* Ethernet frames around what sockets carry, with their checksums. */
#ifndef EBI_PACKET_H
#define EBI_PACKET_H

#include "einbau/ethernet.h"
#include "einbau/port.h"

enum { EBI_UDP_FRAME_HEAD_BYTES = 42, EBI_TCP_FRAME_HEAD_BYTES = 54 };
enum { EBI_TCP_FIN = 1, EBI_TCP_SYN = 2, EBI_TCP_RST = 4, EBI_TCP_PSH = 8, EBI_TCP_ACK = 16 };

/* The Internet checksum (RFC 1071) of what `sum` holds already and `size` bytes more. */
uint32_t ebi_packet_sum(uint32_t sum, const uint8_t *bytes, size_t size);
uint16_t ebi_packet_checksum(uint32_t sum);

/* Each gives the frame's size. */
size_t ebi_packet_udp(uint8_t *frame, const uint8_t *from_mac, const uint8_t *to_mac,
                      const struct eb_endpoint *from, const struct eb_endpoint *to, const uint8_t *bytes,
                      size_t size);
size_t ebi_packet_tcp(uint8_t *frame, const uint8_t *from_mac, const uint8_t *to_mac,
                      const struct eb_endpoint *from, const struct eb_endpoint *to, uint32_t sequence,
                      uint32_t acknowledged, uint8_t flags, const uint8_t *bytes, size_t size);

#endif
