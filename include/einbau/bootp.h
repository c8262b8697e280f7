/* Giving one device its address and the name of its image: BOOTP (RFC 951) and the whole exchange of DHCP
 * (RFC 2131, 2132), server side, for one hardware address.  A pure engine: bytes in, one answer out. */
#ifndef EINBAU_BOOTP_H
#define EINBAU_BOOTP_H

#include "einbau/ethernet.h"
#include "einbau/port.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_BOOTP_SERVER_PORT = 67,
    EB_BOOTP_CLIENT_PORT = 68,
    EB_BOOTP_MESSAGE_BYTES = 576,
    EB_BOOTP_CLIENT_ID_BYTES = 32
};

/* What the device gets; the text is borrowed. */
struct eb_bootp_config {
    uint8_t mac[EB_MAC_BYTES];
    uint8_t ip[4], mask[4], server[4];
    const char *file; /* under 128 bytes */
    uint32_t lease_s;
};

/* What a message was. */
enum eb_bootp_event {
    EB_BOOTP_NOTHING,   /* no request */
    EB_BOOTP_STRANGER,  /* another device asks: `stranger` */
    EB_BOOTP_ASKED,     /* the device asks; the answer is ready */
    EB_BOOTP_BOUND,     /* it has its address now; the answer is ready */
    EB_BOOTP_ELSEWHERE, /* it takes an address from another server: `other` */
    EB_BOOTP_DECLINED   /* it says that its address is in use (RFC 2131 section 4.3.3) */
};

/* One server for one device. */
struct eb_bootp {
    struct eb_bootp_config config;
    uint8_t stranger[EB_MAC_BYTES];
    uint8_t other[4];
    struct eb_endpoint to; /* of the answer; to all where the device has no address yet */
    uint8_t answer[EB_BOOTP_MESSAGE_BYTES];
    size_t answer_bytes; /* 0: there is none */
};

/* Begins; `config` is copied. */
void eb_bootp_init(struct eb_bootp *bootp, const struct eb_bootp_config *config);
/* Takes what came to port 67.  The answer, if any, is in `answer` until the next call. */
enum eb_bootp_event eb_bootp_receive(struct eb_bootp *bootp, const uint8_t *message, size_t size);

#ifdef __cplusplus
}
#endif

#endif
