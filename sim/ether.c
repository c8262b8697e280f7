/* The simulated device on its Ethernet: ARP (RFC 826), PROFINET DCP (IEC 61158-6-10), LLDP with inventory
 * (802.1AB, ANSI/TIA-1057), asking for an address (RFC 951, 2131), and frames around UDP (RFC 791, 768). */
#include "packet.h"
#include "server.h"

#include <string.h>

#include "base/bytes.h"
#include "wire/dcp_wire.h"
#include "wire/ethernet_wire.h"

enum { FRAME_BYTES = 1518, ASK_EVERY_US = 4000000, HEAD = EB_FRAME_HEAD_BYTES };

static const uint8_t all_macs[EB_MAC_BYTES] = {0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF};

static void send(struct ebi_sim_device *d, uint8_t *frame, size_t size)
{
    if (size < EB_FRAME_MIN_BYTES) {
        memset(frame + size, 0, EB_FRAME_MIN_BYTES - size);
        size = EB_FRAME_MIN_BYTES;
    }
    if (d->net->frame_send != NULL)
        d->net->frame_send(d->net->self, d, frame, size);
}

static size_t begin(const struct ebi_sim_device *d, uint8_t *frame, const uint8_t *to, uint16_t type)
{
    memcpy(frame, to, EB_MAC_BYTES);
    memcpy(frame + EB_MAC_BYTES, d->mac, EB_MAC_BYTES);
    ebi_put16(frame + HEAD - 2, type);
    return HEAD;
}

/* --- ARP ----------------------------------------------------------------------------------------- */

static void answer_arp(struct ebi_sim_device *d, const uint8_t *arp, size_t size)
{
    uint8_t frame[FRAME_BYTES];
    if (size < ARP_BYTES || ebi_get16(arp) != 1 || ebi_get16(arp + 2) != EB_ETHERTYPE_IPV4 ||
        ebi_get16(arp + 6) != ARP_REQUEST || !ebi_sim_device_has_ip(d) || memcmp(arp + 24, d->set.ip, 4) != 0)
        return;
    size_t at = begin(d, frame, arp + 8, EB_ETHERTYPE_ARP);
    memcpy(frame + at, arp, 8);
    ebi_put16(frame + at + 6, ARP_REPLY);
    memcpy(frame + at + 8, d->mac, EB_MAC_BYTES);
    memcpy(frame + at + 14, d->set.ip, 4);
    memcpy(frame + at + 18, arp + 8, EB_MAC_BYTES);
    memcpy(frame + at + 24, arp + 14, 4);
    send(d, frame, at + ARP_BYTES);
}

/* --- DCP ----------------------------------------------------------------------------------------- */

/* Adds a block, and gives where the next one begins. */
static size_t add_block(uint8_t *frame, size_t at, unsigned option, unsigned suboption, uint16_t info,
                        const void *data, size_t size)
{
    frame[at] = (uint8_t)option;
    frame[at + 1] = (uint8_t)suboption;
    ebi_put16(frame + at + 2, (uint16_t)(size + 2));
    ebi_put16(frame + at + 4, info);
    memcpy(frame + at + 6, data, size);
    frame[at + 6 + size] = 0;
    return at + 6 + size + size % 2;
}

static size_t add_station(const struct ebi_sim_device *d, uint8_t *frame, size_t at)
{
    uint8_t ids[4];
    uint8_t ip[12];
    uint32_t mask = d->set.prefix == 0 ? 0 : UINT32_MAX << (32 - d->set.prefix);
    ebi_put16(ids, d->vendor_id);
    ebi_put16(ids + 2, d->product_id);
    memcpy(ip, d->set.ip, 4);
    ebi_put32(ip + 4, ebi_sim_device_has_ip(d) ? mask : 0);
    memcpy(ip + 8, d->set.router, 4);
    uint16_t info = !ebi_sim_device_has_ip(d) ? 0 : d->set.dhcp ? DCP_INFO_IP_DHCP : 1;
    at = add_block(frame, at, DCP_OPTION_PROPERTIES, DCP_STATION_TYPE, 0, d->identity.product,
                   strlen(d->identity.product));
    at = add_block(frame, at, DCP_OPTION_PROPERTIES, DCP_STATION_NAME, 0, d->set.name, strlen(d->set.name));
    at = add_block(frame, at, DCP_OPTION_PROPERTIES, DCP_STATION_ID, 0, ids, sizeof ids);
    return add_block(frame, at, DCP_OPTION_IP, DCP_IP_PARAMETERS, info, ip, sizeof ip);
}

/* Which blocks an identify request filters by; an unknown filter is none that fits. */
static bool identified(const struct ebi_sim_device *d, const uint8_t *block, size_t size)
{
    if (size < 4)
        return false;
    size_t length = ebi_get16(block + 2);
    if (block[0] == DCP_OPTION_ALL && block[1] == DCP_OPTION_ALL)
        return true;
    return block[0] == DCP_OPTION_PROPERTIES && block[1] == DCP_STATION_NAME && length <= size - 4 &&
           length == strlen(d->set.name) && memcmp(block + 4, d->set.name, length) == 0;
}

static bool name_taken(struct ebi_sim_settings *set, const uint8_t *text, size_t size)
{
    if (size >= sizeof set->name)
        return false;
    memset(set->name, 0, sizeof set->name);
    memcpy(set->name, text, size);
    for (size_t i = 0; i < size; i++) {
        bool fine = (text[i] >= 'a' && text[i] <= 'z') || (text[i] >= '0' && text[i] <= '9') ||
                    text[i] == '-' || text[i] == '.';
        if (!fine)
            return false;
    }
    return true;
}

static bool ip_taken(struct ebi_sim_settings *set, const uint8_t *ip)
{
    uint32_t mask = ebi_get32(ip + 4);
    uint8_t prefix = 0;
    while (prefix < 32 && (mask & 0x80000000U >> prefix) != 0)
        prefix++;
    if (mask != (prefix == 0 ? 0 : UINT32_MAX << (32 - prefix)))
        return false;
    memcpy(set->ip, ip, 4);
    memcpy(set->router, ip + 8, 4);
    set->prefix = prefix;
    set->dhcp = false;
    return true;
}

/* Carries one block of a set request out, and gives its block error. */
static uint8_t set_block(struct ebi_sim_device *d, const uint8_t *block, size_t length)
{
    enum { OK, NO_OPTION, NO_SUBOPTION, NOT_SET };
    struct ebi_sim_settings set = d->set;
    const uint8_t *data = block + 6;
    bool permanent = (block[5] & DCP_PERMANENT) != 0;
    if (length < 2)
        return NO_SUBOPTION;
    if (block[0] == DCP_OPTION_CONTROL && block[1] == DCP_CONTROL_SIGNAL) {
        d->blinks++;
        return OK;
    }
    if (block[0] == DCP_OPTION_PROPERTIES && block[1] == DCP_STATION_NAME) {
        if (!name_taken(&set, data, length - 2))
            return NOT_SET;
    } else if (block[0] == DCP_OPTION_IP && block[1] == DCP_IP_PARAMETERS) {
        if (length < 14 || !ip_taken(&set, data))
            return NOT_SET;
    } else {
        return block[0] == DCP_OPTION_PROPERTIES || block[0] == DCP_OPTION_IP ? NO_SUBOPTION : NO_OPTION;
    }
    ebi_sim_device_set(d, &set, permanent);
    if (permanent)
        d->asks = EBI_SIM_ASKS_NOT;
    return OK;
}

static size_t set_blocks(struct ebi_sim_device *d, const uint8_t *blocks, size_t size, uint8_t *frame,
                         size_t at)
{
    for (size_t b = 0; b + 6 <= size;) {
        size_t length = ebi_get16(blocks + b + 2);
        if (b + 4 + length > size || at + 8 > FRAME_BYTES)
            break;
        const uint8_t answer[8] = {DCP_OPTION_CONTROL,
                                   DCP_CONTROL_RESPONSE,
                                   0,
                                   3,
                                   blocks[b],
                                   blocks[b + 1],
                                   set_block(d, blocks + b, length),
                                   0};
        memcpy(frame + at, answer, sizeof answer);
        at += sizeof answer;
        b += 4 + length + length % 2;
    }
    return at;
}

static void answer_dcp(struct ebi_sim_device *d, const uint8_t *from, const uint8_t *dcp, size_t size)
{
    uint8_t frame[FRAME_BYTES];
    if (size < DCP_HEAD_BYTES || dcp[3] != DCP_REQUEST)
        return;
    unsigned id = ebi_get16(dcp);
    size_t length = ebi_get16(dcp + 10);
    if (length > size - DCP_HEAD_BYTES)
        return;
    const uint8_t *blocks = dcp + DCP_HEAD_BYTES;
    size_t start = begin(d, frame, from, EB_ETHERTYPE_DCP);
    size_t at = start + DCP_HEAD_BYTES;
    memcpy(frame + start, dcp, DCP_HEAD_BYTES);
    frame[start + 3] = DCP_SUCCESS;
    if (id == DCP_FRAME_IDENTIFY && dcp[2] == DCP_IDENTIFY && identified(d, blocks, length)) {
        ebi_put16(frame + start, DCP_FRAME_IDENTIFIED);
        at = add_station(d, frame, at);
    } else if (id == DCP_FRAME_GET_SET && dcp[2] == DCP_GET) {
        at = add_station(d, frame, at);
    } else if (id == DCP_FRAME_GET_SET && dcp[2] == DCP_SET) {
        at = set_blocks(d, blocks, length, frame, at);
    } else {
        return;
    }
    ebi_put16(frame + start + 8, 0);
    ebi_put16(frame + start + 10, (uint16_t)(at - start - DCP_HEAD_BYTES));
    send(d, frame, at);
}

static bool is_of(const uint8_t *frame, size_t size, unsigned type)
{
    return size >= HEAD && ebi_get16(frame + HEAD - 2) == type;
}

static void take_arp(struct ebi_sim_device *d, const uint8_t *frame, size_t size)
{
    if (is_of(frame, size, EB_ETHERTYPE_ARP))
        answer_arp(d, frame + HEAD, size - HEAD);
}

static void take_dcp(struct ebi_sim_device *d, const uint8_t *frame, size_t size)
{
    if (is_of(frame, size, EB_ETHERTYPE_DCP))
        answer_dcp(d, frame + EB_MAC_BYTES, frame + HEAD, size - HEAD);
}

const struct ebi_sim_server ebi_sim_dcp = {.word = "dcp", .frame = take_dcp};

/* --- LLDP ---------------------------------------------------------------------------------------- */

static size_t add_tlv(uint8_t *frame, size_t at, unsigned type, const void *head, size_t head_size,
                      const char *text)
{
    size_t size = strlen(text) < 32 || type != LLDP_ORGANISATION ? strlen(text) : 32;
    ebi_put16(frame + at, (uint16_t)(type << 9 | (head_size + size)));
    memcpy(frame + at + 2, head, head_size);
    memcpy(frame + at + 2 + head_size, text, size);
    return at + 2 + head_size + size;
}

static void announce(struct ebi_sim_device *d)
{
    static const uint8_t group[EB_MAC_BYTES] = {0x01, 0x80, 0xC2, 0x00, 0x00, 0x0E};
    const char *const inventory[] = {d->identity.hardware_revision,
                                     ebi_sim_device_version(d, 0),
                                     "",
                                     d->identity.serial,
                                     d->identity.maker,
                                     d->identity.product};
    uint8_t frame[FRAME_BYTES];
    uint8_t chassis[7] = {4};
    uint8_t port[7] = {3};
    uint8_t ttl[2];
    uint8_t address[12] = {5, 1, d->set.ip[0], d->set.ip[1], d->set.ip[2], d->set.ip[3], 2, 0, 0, 0, 1, 0};
    memcpy(chassis + 1, d->mac, EB_MAC_BYTES);
    memcpy(port + 1, d->mac, EB_MAC_BYTES);
    ebi_put16(ttl, (uint16_t)(4 * d->lldp_interval_s));
    size_t at = begin(d, frame, group, EB_ETHERTYPE_LLDP);
    at = add_tlv(frame, at, LLDP_CHASSIS, chassis, sizeof chassis, "");
    at = add_tlv(frame, at, LLDP_PORT, port, sizeof port, "");
    at = add_tlv(frame, at, LLDP_TTL, ttl, sizeof ttl, "");
    at = add_tlv(frame, at, LLDP_NAME, "", 0, d->set.name[0] != '\0' ? d->set.name : d->name);
    if (ebi_sim_device_has_ip(d))
        at = add_tlv(frame, at, LLDP_MANAGEMENT, address, sizeof address, "");
    const uint8_t capabilities[7] = {0x00, 0x12, 0xBB, 1, 0x00, 0x21, 1};
    at = add_tlv(frame, at, LLDP_ORGANISATION, capabilities, sizeof capabilities, "");
    for (size_t i = 0; i < sizeof inventory / sizeof inventory[0]; i++) {
        const uint8_t head[4] = {0x00, 0x12, 0xBB, (uint8_t)(5 + i)};
        if (inventory[i][0] != '\0')
            at = add_tlv(frame, at, LLDP_ORGANISATION, head, sizeof head, inventory[i]);
    }
    at = add_tlv(frame, at, LLDP_END, "", 0, "");
    send(d, frame, at);
}

/* --- asking for an address ----------------------------------------------------------------------- */

static void ask_for_address(struct ebi_sim_device *d)
{
    uint8_t message[300] = {1, 1, EB_MAC_BYTES, 0};
    uint8_t frame[FRAME_BYTES];
    const struct eb_endpoint from = {{0, 0, 0, 0}, DHCP_CLIENT_PORT};
    const struct eb_endpoint to = {{255, 255, 255, 255}, DHCP_SERVER_PORT};
    size_t at = DHCP_FIXED_BYTES;
    memcpy(message + 4, d->mac + 2, 4);
    ebi_put16(message + 10, 0x8000);
    memcpy(message + 28, d->mac, EB_MAC_BYTES);
    ebi_put32(message + at, DHCP_COOKIE);
    at += 4;
    if (d->asks == EBI_SIM_ASKS_DHCP) {
        message[at++] = DHCP_OPTION_TYPE;
        message[at++] = 1;
        message[at++] = 1; /* discover */
    }
    const struct {
        uint8_t option;
        const char *text;
    } texts[] = {{DHCP_OPTION_HOST_NAME, d->set.name}, {DHCP_OPTION_VENDOR_CLASS, d->identity.product}};
    for (size_t i = 0; i < 2; i++) {
        size_t size = strlen(texts[i].text);
        if (size == 0 || size > 20)
            continue;
        message[at++] = texts[i].option;
        message[at++] = (uint8_t)size;
        memcpy(message + at, texts[i].text, size);
        at += size;
    }
    message[at] = DHCP_OPTION_END;
    send(d, frame, ebi_packet_udp(frame, d->mac, all_macs, &from, &to, message, sizeof message));
}

/* --- time ---------------------------------------------------------------------------------------- */

static void tick_lldp(struct ebi_sim_device *d)
{
    uint64_t now_us = d->net->now_us(d->net->self);
    if (now_us < d->lldp_us)
        return;
    d->lldp_us = now_us + d->lldp_interval_s * 1000000ULL;
    announce(d);
}

static uint64_t lldp_deadline_us(const struct ebi_sim_device *d)
{
    return d->lldp_us;
}

const struct ebi_sim_server ebi_sim_lldp = {
    .word = "lldp", .tick = tick_lldp, .deadline_us = lldp_deadline_us};

static uint64_t ask_deadline_us(const struct ebi_sim_device *d)
{
    return d->asks != EBI_SIM_ASKS_NOT && !ebi_sim_device_has_ip(d) ? d->ask_us : EB_NEVER;
}

static void tick_asking(struct ebi_sim_device *d)
{
    uint64_t now_us = d->net->now_us(d->net->self);
    if (now_us < ask_deadline_us(d))
        return;
    d->ask_us = now_us + ASK_EVERY_US;
    ask_for_address(d);
}

/* ARP, and asking for an address: of every device. */
const struct ebi_sim_server ebi_sim_ether = {
    .frame = take_arp, .tick = tick_asking, .deadline_us = ask_deadline_us};

/* --- frames around UDP --------------------------------------------------------------------------- */

void ebi_sim_ether_group_mac(const uint8_t ip[4], uint8_t mac[EB_MAC_BYTES])
{
    const uint8_t group[EB_MAC_BYTES] = {0x01, 0x00, 0x5E, ip[1] & 0x7F, ip[2], ip[3]};
    memcpy(mac, ip[0] == 255 ? all_macs : group, EB_MAC_BYTES);
}
