#include "einbau/link.h"

#include <string.h>

static uint32_t number(const uint8_t ip[4])
{
    return (uint32_t)ip[0] << 24 | (uint32_t)ip[1] << 16 | (uint32_t)ip[2] << 8 | ip[3];
}

static uint32_t mask_of(uint8_t prefix)
{
    return prefix == 0 ? 0 : UINT32_MAX << (32 - prefix);
}

bool eb_link_covers(const struct eb_link_address *address, const uint8_t ip[4])
{
    return ((number(address->ip) ^ number(ip)) & mask_of(address->prefix)) == 0;
}

bool eb_mask_read(const uint8_t mask[4], uint8_t *prefix)
{
    uint32_t ones = number(mask);
    for (uint8_t p = 0; p <= 32; p++) {
        if (mask_of(p) == ones) {
            *prefix = p;
            return true;
        }
    }
    return false;
}

const char *eb_link_kind_word(enum eb_link_kind kind)
{
    static const char *const words[] = {"wired", "wireless", "tunnel", "loopback"};
    return (size_t)kind < sizeof words / sizeof words[0] ? words[kind] : "unknown";
}

const char *eb_trap_text(enum eb_trap trap)
{
    switch (trap) {
    case EB_TRAP_SAME_ADDRESS:
        return "the laptop itself has this address: take it away there, or give the device another";
    case EB_TRAP_MASK_DIFFERS:
        return "laptop and device have different masks: replies may not reach the laptop";
    case EB_TRAP_TWO_LINKS:
        return "two links of the laptop are in this subnet: take the address away from the one without the "
               "device";
    case EB_TRAP_NO_HOST_ADDRESS:
        return "this is the address of the subnet itself or its broadcast address, which no device can have";
    case EB_TRAP_WIRELESS:
        return "the way is by radio, which loses packets: take a cable for writing";
    case EB_TRAP_NO_CARRIER:
        return "the link in this subnet has no carrier: is the cable in, and the device powered?";
    case EB_TRAP_TWO_DEVICES:
        return "two devices answer to this address: unplug one of them, or give it another address, before "
               "anything "
               "is written";
    }
    return "unknown";
}

/* A subnet's own address and its broadcast address are no host's (RFC 1122 section 3.2.1.3); with 31 and 32
 * ones there is nothing but hosts (RFC 3021). */
static bool is_host(uint32_t ip, uint8_t prefix)
{
    uint32_t host = ip & ~mask_of(prefix);
    return prefix >= 31 || (host != 0 && host != ~mask_of(prefix));
}

static bool is_taken(uint32_t ip, const struct eb_link *links, size_t count, const uint8_t (*taken)[4],
                     size_t taken_count)
{
    for (size_t i = 0; i < taken_count; i++) {
        if (number(taken[i]) == ip)
            return true;
    }
    for (size_t i = 0; i < count; i++) {
        for (size_t k = 0; k < links[i].count; k++) {
            if (number(links[i].addresses[k].ip) == ip)
                return true;
        }
    }
    return false;
}

/* An address for the laptop in the device's subnet.  The first and the last host are left alone, routers like
 * to sit there, unless nothing else is left to try. */
static bool free_address(const struct eb_link_address *device, const struct eb_link *links, size_t count,
                         const uint8_t (*taken)[4], size_t taken_count, struct eb_link_address *add)
{
    uint32_t mask = mask_of(device->prefix);
    uint32_t subnet = number(device->ip) & mask;
    uint32_t hosts = ~mask;
    uint32_t tries = hosts < 4096 ? hosts : 4096;
    for (uint32_t i = 0; i <= tries; i++) {
        uint32_t ip = subnet + ((hosts / 4 + 1) * 3 + i) % (hosts == UINT32_MAX ? hosts : hosts + 1);
        bool edge = hosts > 6 && (ip == subnet + 1 || ip == subnet + hosts - 1);
        if (edge || ip == number(device->ip) || !is_host(ip, device->prefix) ||
            is_taken(ip, links, count, taken, taken_count))
            continue;
        for (int b = 0; b < 4; b++)
            add->ip[b] = (uint8_t)(ip >> (24 - 8 * b));
        add->prefix = device->prefix;
        return true;
    }
    return false;
}

/* How good a link is to be given an address: 0 not at all. */
static int suitability(const struct eb_link *link)
{
    if (!link->up || link->kind != EB_LINK_WIRED || link->count == EB_LINK_ADDRESSES_MAX)
        return 0;
    return link->carrier ? (link->default_route ? 2 : 3) : 1;
}

struct eb_way eb_way_to(const struct eb_link *links, size_t count, const struct eb_link_address *device,
                        const uint8_t (*taken)[4], size_t taken_count)
{
    struct eb_way way = {.kind = EB_WAY_NONE};
    size_t in_subnet = 0;
    int best_prefix = -1;
    if (!is_host(number(device->ip), device->prefix))
        way.traps |= EB_TRAP_NO_HOST_ADDRESS;
    for (size_t i = 0; i < count; i++) {
        bool here = false;
        for (size_t k = 0; k < links[i].count && links[i].up; k++) {
            const struct eb_link_address *address = &links[i].addresses[k];
            if (memcmp(address->ip, device->ip, sizeof device->ip) == 0)
                way.traps |= EB_TRAP_SAME_ADDRESS;
            if (!eb_link_covers(address, device->ip))
                continue;
            here = true;
            if (address->prefix > best_prefix) { /* the longest mask wins, as in every routing table */
                best_prefix = address->prefix;
                way.kind = EB_WAY_DIRECT;
                way.link = i;
            }
        }
        in_subnet += here;
    }
    if (way.kind == EB_WAY_DIRECT) {
        const struct eb_link *link = &links[way.link];
        if (best_prefix != device->prefix && link->kind != EB_LINK_LOOPBACK)
            way.traps |= EB_TRAP_MASK_DIFFERS;
        if (in_subnet > 1)
            way.traps |= EB_TRAP_TWO_LINKS;
        if (link->kind == EB_LINK_WIRELESS)
            way.traps |= EB_TRAP_WIRELESS;
        if (!link->carrier)
            way.traps |= EB_TRAP_NO_CARRIER;
        return way;
    }
    int best = 0;
    for (size_t i = 0; i < count; i++) {
        if (suitability(&links[i]) > best) {
            best = suitability(&links[i]);
            way.link = i;
        }
    }
    if (best > 0 && free_address(device, links, count, taken, taken_count, &way.add)) {
        way.kind = EB_WAY_ADD;
        if (!links[way.link].carrier)
            way.traps |= EB_TRAP_NO_CARRIER;
        return way;
    }
    for (size_t i = 0; i < count; i++) {
        if (links[i].up && links[i].carrier && links[i].default_route) {
            way.kind = EB_WAY_ROUTED;
            way.link = i;
            if (links[i].kind == EB_LINK_WIRELESS)
                way.traps |= EB_TRAP_WIRELESS;
        }
    }
    return way;
}
