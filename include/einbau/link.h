/* The laptop's links, and whether a device can be reached over them: a pure function with advice. */
#ifndef EINBAU_LINK_H
#define EINBAU_LINK_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_LINK_NAME_BYTES = 24, EB_LINK_ADDRESSES_MAX = 8, EB_LINKS_MAX = 32 };

enum eb_link_kind { EB_LINK_WIRED, EB_LINK_WIRELESS, EB_LINK_TUNNEL, EB_LINK_LOOPBACK };

/* An IPv4 address with its mask as the number of its leading ones, 0..32. */
struct eb_link_address {
    uint8_t ip[4];
    uint8_t prefix;
};

/* A network interface of the laptop. */
struct eb_link {
    char name[EB_LINK_NAME_BYTES];
    enum eb_link_kind kind;
    bool up;                   /* switched on */
    bool carrier;              /* something is at the other end of the cable */
    uint32_t speed_mbit_per_s; /* 0: not known */
    uint32_t mtu_bytes;
    bool default_route;      /* what no other link is for goes out here ... */
    uint8_t router[4];       /* ... to this address; zeros: not known */
    uint8_t quality_percent; /* of a wireless link's signal, 0: not known */
    bool has_mac;
    uint8_t mac[6];
    struct eb_link_address addresses[EB_LINK_ADDRESSES_MAX];
    size_t count;
};

enum eb_way_kind {
    EB_WAY_DIRECT, /* in the same subnet, over `link` */
    EB_WAY_ROUTED, /* only by the default route of `link`: to somewhere else, most likely */
    EB_WAY_ADD,    /* not yet: `link` needs the address `add` */
    EB_WAY_NONE    /* there is no link to use, or no address left in the device's subnet */
};

/* What is wrong, or will go wrong; bits. */
enum eb_trap {
    EB_TRAP_SAME_ADDRESS = 1,    /* the laptop itself has the device's address */
    EB_TRAP_MASK_DIFFERS = 2,    /* laptop and device are told different masks */
    EB_TRAP_TWO_LINKS = 4,       /* two links of the laptop are in the device's subnet */
    EB_TRAP_NO_HOST_ADDRESS = 8, /* the device's address is its subnet's own, or its broadcast address */
    EB_TRAP_WIRELESS = 16,       /* the way is by radio */
    EB_TRAP_NO_CARRIER = 32,     /* the link in the device's subnet has no carrier: is the cable in? */
    EB_TRAP_TWO_DEVICES = 64     /* two devices answer to this address; only who asked them can know */
};

/* The images that lead to a version. */
struct eb_way {
    enum eb_way_kind kind;
    size_t link;                /* index; not for EB_WAY_NONE */
    struct eb_link_address add; /* for EB_WAY_ADD */
    unsigned traps;
};

/* Finds the way to a device.  `taken`: addresses that are in use or must stay free (other devices, routers).
 * Among links without an address in the subnet, a wired one with carrier is advised first, then any wired
 * one. */
struct eb_way eb_way_to(const struct eb_link *links, size_t count, const struct eb_link_address *device,
                        const uint8_t (*taken)[4], size_t taken_count);

/* Whether `ip` lies in the subnet of `address`. */
bool eb_link_covers(const struct eb_link_address *address, const uint8_t ip[4]);

/* Reads a mask like 255.255.255.0 (ones, then zeros) as its prefix. */
bool eb_mask_read(const uint8_t mask[4], uint8_t *prefix);

/* The word for it, "wired"; static. */
const char *eb_link_kind_word(enum eb_link_kind kind);

/* A sentence for one trap bit, static. */
const char *eb_trap_text(enum eb_trap trap);

#ifdef __cplusplus
}
#endif

#endif
