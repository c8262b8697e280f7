#include "einbau/ethernet.h"
#include "base/bytes.h"
#include "einbau/text.h"
#include "wire/ethernet_wire.h"

#include <string.h>

static const char hex[] = "0123456789abcdef";

void eb_mac_text(const uint8_t mac[EB_MAC_BYTES], char text[EB_MAC_TEXT_BYTES])
{
    for (int i = 0; i < EB_MAC_BYTES; i++) {
        text[3 * i] = hex[mac[i] >> 4];
        text[3 * i + 1] = hex[mac[i] & 15];
        text[3 * i + 2] = i < EB_MAC_BYTES - 1 ? ':' : '\0';
    }
}

bool eb_mac_parse(const char *text, uint8_t mac[EB_MAC_BYTES])
{
    if (strlen(text) != EB_MAC_TEXT_BYTES - 1)
        return false;
    for (int i = 0; i < EB_MAC_BYTES; i++) {
        const char digits[3] = {text[3 * i], text[3 * i + 1], '\0'};
        uint32_t number;
        char mark = text[3 * i + 2];
        if (!eb_text_hex32(digits, &number) || (i < EB_MAC_BYTES - 1 && mark != ':' && mark != '-'))
            return false;
        mac[i] = (uint8_t)number;
    }
    return true;
}

bool eb_mac_is_device(const uint8_t mac[EB_MAC_BYTES])
{
    static const uint8_t none[EB_MAC_BYTES];
    return (mac[0] & 1) == 0 && memcmp(mac, none, EB_MAC_BYTES) != 0;
}

bool eb_frame_read(struct eb_frame *frame, const uint8_t *bytes, size_t size)
{
    size_t at = EB_FRAME_HEAD_BYTES;
    if (size < at)
        return false;
    memcpy(frame->to, bytes, EB_MAC_BYTES);
    memcpy(frame->from, bytes + EB_MAC_BYTES, EB_MAC_BYTES);
    frame->type = ebi_get16(bytes + at - 2);
    while (frame->type == EB_ETHERTYPE_VLAN) {
        at += 4;
        if (size < at)
            return false;
        frame->type = ebi_get16(bytes + at - 2);
    }
    frame->payload = bytes + at;
    frame->size = size - at;
    return true;
}

void eb_frame_write(uint8_t *bytes, const uint8_t to[EB_MAC_BYTES], const uint8_t from[EB_MAC_BYTES],
                    uint16_t type)
{
    memcpy(bytes, to, EB_MAC_BYTES);
    memcpy(bytes + EB_MAC_BYTES, from, EB_MAC_BYTES);
    ebi_put16(bytes + 12, type);
}

bool eb_udp_read(struct eb_udp *udp, const uint8_t *packet, size_t size)
{
    if (size < IPV4_HEAD_BYTES || packet[0] >> 4 != 4 || packet[9] != IPV4_UDP)
        return false;
    size_t head = (size_t)(packet[0] & 15) * 4;
    size_t whole = ebi_get16(packet + 2);
    bool fragment = (ebi_get16(packet + 6) & 0x3FFF) != 0;
    if (head < IPV4_HEAD_BYTES || whole > size || whole < head + UDP_HEAD_BYTES || fragment)
        return false;
    const uint8_t *at = packet + head;
    size_t length = ebi_get16(at + 4);
    if (length < UDP_HEAD_BYTES || length > whole - head)
        return false;
    memcpy(udp->from_ip, packet + 12, 4);
    memcpy(udp->to_ip, packet + 16, 4);
    udp->from_port = ebi_get16(at);
    udp->to_port = ebi_get16(at + 2);
    udp->payload = at + UDP_HEAD_BYTES;
    udp->size = length - UDP_HEAD_BYTES;
    return true;
}

/* --- ARP ----------------------------------------------------------------------------------------- */

static const uint8_t arp_head[6] = {0, 1, EB_ETHERTYPE_IPV4 >> 8, EB_ETHERTYPE_IPV4 & 0xFF, EB_MAC_BYTES, 4};

bool eb_arp_read(struct eb_arp *arp, const uint8_t *payload, size_t size)
{
    if (size < ARP_BYTES || memcmp(payload, arp_head, sizeof arp_head) != 0)
        return false;
    uint16_t operation = ebi_get16(payload + 6);
    if (operation != ARP_REQUEST && operation != ARP_REPLY)
        return false;
    arp->reply = operation == ARP_REPLY;
    memcpy(arp->from_mac, payload + 8, EB_MAC_BYTES);
    memcpy(arp->from_ip, payload + 14, 4);
    memcpy(arp->to_ip, payload + 24, 4);
    return true;
}

void eb_arp_ask(uint8_t frame[EB_FRAME_MIN_BYTES], const uint8_t mac[EB_MAC_BYTES], const uint8_t from_ip[4],
                const uint8_t ip[4])
{
    static const uint8_t all[EB_MAC_BYTES] = {0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF};
    uint8_t *arp = frame + EB_FRAME_HEAD_BYTES;
    memset(frame, 0, EB_FRAME_MIN_BYTES);
    eb_frame_write(frame, all, mac, EB_ETHERTYPE_ARP);
    memcpy(arp, arp_head, sizeof arp_head);
    ebi_put16(arp + 6, ARP_REQUEST);
    memcpy(arp + 8, mac, EB_MAC_BYTES);
    memcpy(arp + 14, from_ip, 4);
    memcpy(arp + 24, ip, 4);
}

/* --- DHCP and BOOTP ------------------------------------------------------------------------------ */

static bool is_zero(const uint8_t ip[4])
{
    return ebi_get32(ip) == 0;
}

static void take_ip(struct eb_dhcp_request *request, const uint8_t ip[4])
{
    if (is_zero(ip))
        return;
    request->has_ip = true;
    memcpy(request->ip, ip, 4);
}

bool eb_dhcp_read(struct eb_dhcp_request *request, const uint8_t *message, size_t size)
{
    if (size < DHCP_FIXED_BYTES || message[0] != 1 || message[1] != 1 || message[2] != EB_MAC_BYTES)
        return false;
    memset(request, 0, sizeof *request);
    request->bootp = true;
    memcpy(request->mac, message + 28, EB_MAC_BYTES);
    take_ip(request, message + 12);
    size_t at = DHCP_FIXED_BYTES + 4;
    if (size < at || ebi_get32(message + DHCP_FIXED_BYTES) != DHCP_COOKIE)
        return true;
    while (at < size && message[at] != DHCP_OPTION_END) {
        uint8_t option = message[at++];
        if (option == 0)
            continue;
        if (at == size || at + 1 + message[at] > size)
            break; /* what stands before it counts */
        const uint8_t *value = message + at + 1;
        size_t length = message[at];
        at += 1 + length;
        if (option == DHCP_OPTION_TYPE)
            request->bootp = false;
        else if (option == DHCP_OPTION_REQUESTED && length == 4)
            take_ip(request, value);
        else if (option == DHCP_OPTION_HOST_NAME)
            eb_text_copy_foreign(request->host_name, sizeof request->host_name, value, length);
        else if (option == DHCP_OPTION_VENDOR_CLASS)
            eb_text_copy_foreign(request->vendor_class, sizeof request->vendor_class, value, length);
    }
    return eb_mac_is_device(request->mac);
}

/* --- LLDP ---------------------------------------------------------------------------------------- */

static void read_inventory(struct eb_lldp *lldp, const uint8_t *value, size_t length)
{
    /* ANSI/TIA-1057 section 10.2.6: subtypes 5 to 10 */
    char *const texts[] = {lldp->hardware, lldp->firmware, lldp->software,
                           lldp->serial,   lldp->maker,    lldp->model};
    if (length < 4 || ((uint32_t)value[0] << 16 | ebi_get16(value + 1)) != LLDP_MED_OUI)
        return;
    unsigned subtype = value[3];
    if (subtype >= 5 && subtype <= 10)
        eb_text_copy_foreign(texts[subtype - 5], EB_HEARD_TEXT_BYTES, value + 4, length - 4);
}

static void read_tlv(struct eb_lldp *lldp, unsigned type, const uint8_t *value, size_t length)
{
    switch (type) {
    case LLDP_CHASSIS:
        if (value[0] == 4 && length == 1 + EB_MAC_BYTES) {
            lldp->has_mac = true;
            memcpy(lldp->mac, value + 1, EB_MAC_BYTES);
        }
        break;
    case LLDP_TTL:
        lldp->leaves = ebi_get16(value) == 0;
        break;
    case LLDP_NAME:
        eb_text_copy_foreign(lldp->name, sizeof lldp->name, value, length);
        break;
    case LLDP_DESCRIPTION:
        eb_text_copy_foreign(lldp->description, sizeof lldp->description, value, length);
        break;
    case LLDP_MANAGEMENT:
        if (length >= 6 && value[0] == 5 && value[1] == 1 && !lldp->has_ip) {
            lldp->has_ip = true;
            memcpy(lldp->ip, value + 2, 4);
        }
        break;
    case LLDP_ORGANISATION:
        read_inventory(lldp, value, length);
        break;
    default:
        break;
    }
}

bool eb_lldp_read(struct eb_lldp *lldp, const uint8_t *payload, size_t size)
{
    static const size_t least[] = {[LLDP_CHASSIS] = 2, [LLDP_PORT] = 2, [LLDP_TTL] = 2};
    unsigned place = 1;
    memset(lldp, 0, sizeof *lldp);
    for (size_t at = 0; at + 2 <= size; place++) {
        unsigned head = ebi_get16(payload + at);
        unsigned type = head >> 9;
        size_t length = head & 0x1FF;
        at += 2;
        if (at + length > size)
            return false;
        /* The first three at their places, and never again (IEEE 802.1AB section 9.2.7.7.1). */
        bool first = type >= LLDP_CHASSIS && type <= LLDP_TTL;
        if (first ? type != place || length < least[type] : place <= LLDP_TTL)
            return false;
        if (type == LLDP_END)
            break;
        read_tlv(lldp, type, payload + at, length);
        at += length;
    }
    return place > LLDP_TTL;
}
