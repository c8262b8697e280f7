/* A loader that pulls its image from the laptop: it asks for an address by BOOTP or DHCP, and then for the
 * file by TFTP.  What brings it into its loader is done by a person.
 *
 * Its hardware address says whose loader asks.  Where the target has none, the program that has the device's
 * address is asked for it (ARP) while it still runs; else a person reads it on the label. */
#ifndef EINBAU_ACCESS_PULL_H
#define EINBAU_ACCESS_PULL_H

#include "einbau/access.h"
#include "einbau/bootp.h"
#include "einbau/tftp_serve.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What a profile says of it. */
struct eb_pull_way {
    uint16_t blksize, windowsize; /* at most */
    uint8_t rollover_to;          /* the block number behind 65535: 0 or 1 */
    uint32_t ask_patience_ms;     /* until its loader asks: a person is on the way */
    uint32_t look_ms; /* how long a look at a device that does not answer listens for its loader */
};

/* What it needs for one device. */
struct eb_access_pull_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    int bootp_handle, request_handle, transfer_handle, frame_handle, listen_handle;
    bool reading; /* whether its loader asks, and nothing else */
    bool busy, stopped, probing, probed, asked, more;
    bool has_mac; /* of the loader: as the site, its program at its address, or a person says */
    bool asks;    /* a loader whose address is not known: bootp.stranger */
    uint8_t mac[EB_MAC_BYTES];
    bool in_use; /* another device has the address: `other_mac` */
    uint8_t other_mac[EB_MAC_BYTES];
    uint64_t begin_us, probe_us, ask_us, end_us, best_bytes;
    unsigned asked_after; /* how often its loader asked since it has all */
    uint64_t after_us;    /* when it last did */
    struct eb_link link;
    struct eb_bootp bootp;
    struct eb_tftp_serve serve;
};
extern const struct eb_access eb_access_pull;
extern const struct eb_rows eb_rows_pull;

#ifdef __cplusplus
}
#endif

#endif
