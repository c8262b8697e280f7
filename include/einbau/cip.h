/* EtherNet/IP: who is there, and one CIP request to one device (The CIP Networks Library, volume 1 chapter 5,
 * volume 2 chapter 2).
 *
 * ListIdentity goes by UDP and is a pair of pure functions.  Everything else goes over a session on TCP: an
 * engine without input or output, which gives bytes for the stream and takes bytes from it, in slices of any
 * size. */
#ifndef EINBAU_CIP_H
#define EINBAU_CIP_H

#include "einbau/ethernet.h"
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_CIP_PORT = 44818, /* UDP and TCP */
    EB_CIP_LIST_BYTES = 24,
    EB_CIP_DATA_BYTES = 128, /* of one answer */
    EB_CIP_FRAME_BYTES = 256
};

/* The Identity object, class 1. */
struct eb_cip_identity {
    uint16_t vendor, type, product;
    uint8_t major, minor;
    uint16_t status;
    uint32_t serial;
    char name[EB_HEARD_TEXT_BYTES];
};

/* Asks everybody who hears it; each answers after a random time of at most `delay_ms` (volume 2, 2-4.2). */
void eb_cip_list_identity(uint8_t message[EB_CIP_LIST_BYTES], uint16_t delay_ms);
/* Reads one answer; false for anything else. */
bool eb_cip_read_identity(struct eb_cip_identity *identity, const uint8_t *message, size_t size);

/* Services of the Identity object (volume 1, 5-2.3). */
enum eb_cip_service {
    EB_CIP_GET_ALL = 0x01,
    EB_CIP_RESET = 0x05,
    EB_CIP_GET_ONE = 0x0E,
    EB_CIP_FLASH = 0x4B
};

enum eb_cip_state { EB_CIP_IDLE, EB_CIP_ASKING, EB_CIP_DONE, EB_CIP_FAILED };

/* The engine of one exchange; its members are its own, but for those with a comment. */
struct eb_cip {
    enum eb_cip_state state;
    struct eb_error error; /* of FAILED: EB_PEER_ERROR (number: general or encapsulation status), EB_GARBAGE,
                              EB_TOO_LARGE */
    uint8_t data[EB_CIP_DATA_BYTES]; /* of DONE: what the service answered */
    size_t data_size;

    /* the engine's own */
    uint32_t session;
    uint8_t request[32];
    size_t request_size;
    uint8_t tx[80];
    size_t tx_size, tx_taken;
    uint8_t rx[EB_CIP_FRAME_BYTES];
    size_t rx_size;
};

/* Makes the engine ready for a fresh connection and one request: `service` of the Identity object, instance
 * 1, with `size` bytes of data (at most 16).  It registers a session first. */
void eb_cip_ask(struct eb_cip *cip, enum eb_cip_service service, const uint8_t *data, size_t size);

/* Bytes that are to be sent: gives their number, 0 for none; and the first `count` of them went out. */
size_t eb_cip_give(const struct eb_cip *cip, const uint8_t **bytes);
void eb_cip_taken(struct eb_cip *cip, size_t count);
void eb_cip_receive(struct eb_cip *cip, const uint8_t *bytes, size_t size);

/* Reads the answer to EB_CIP_GET_ALL. */
bool eb_cip_read_attributes(struct eb_cip_identity *identity, const uint8_t *data, size_t size);

#ifdef __cplusplus
}
#endif

#endif
