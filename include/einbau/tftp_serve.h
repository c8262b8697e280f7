/* Serving one file to one device by TFTP: the sending end of a read request (RFC 1350, 2347, 2348, 2349,
 * 7440). A pure engine.  It has no files: what the name stands for is a source. */
#ifndef EINBAU_TFTP_SERVE_H
#define EINBAU_TFTP_SERVE_H

#include "einbau/port.h"
#include "einbau/source.h"
#include "einbau/tftp.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Where the transfer stands.
 *
 *   WAITING --request--> ASKED (options) --ACK 0--> SENDING --ACK of the last block--> DONE
 *      ^  \______________ request without options ___^  |
 *      |_____________ the device gives up, or begins anew (request)
 *   FAILED: the source cannot be read, or patience is over
 */
enum eb_tftp_serve_state {
    EB_TFTP_SERVE_WAITING,
    EB_TFTP_SERVE_ASKED,
    EB_TFTP_SERVE_SENDING,
    EB_TFTP_SERVE_DONE,
    EB_TFTP_SERVE_FAILED
};

/* What is served, and to whom; all is borrowed. */
struct eb_tftp_serve_config {
    const char *name; /* the only file that there is */
    const struct eb_source *source;
    uint8_t ip[4];                /* the only device that it is for */
    uint16_t blksize, windowsize; /* at most */
    bool rollover_to_one;         /* behind block 65535 comes 1; else 0 */
    uint64_t patience_us;         /* with a device that says nothing in the middle */
    uint8_t *buffer;              /* for blocks: at least 516 bytes; better a window's */
    size_t buffer_bytes;
};

enum { EB_TFTP_SERVE_REPLY_BYTES = 96 };

/* One server. */
struct eb_tftp_serve {
    struct eb_tftp_serve_config config;
    enum eb_tftp_serve_state state;
    struct eb_error error;
    struct eb_endpoint peer;
    uint16_t blksize, windowsize;
    uint64_t interval_us; /* before something is sent again */
    uint64_t acked, next; /* blocks, without rollover; `next` is to be sent */
    uint64_t timer_us, heard_us;
    bool last_unanswered; /* all was sent, again and again, and the last acknowledgement stays away */
    unsigned tries;       /* of what is awaited now */
    unsigned requests, given_up;
    uint64_t acked_bytes;
    uint8_t reply[EB_TFTP_SERVE_REPLY_BYTES]; /* to the request: options */
    size_t reply_bytes;
    bool reply_due;
    /* to someone else, or for a file that there is not */
    struct eb_endpoint refused;
    uint8_t refusal[32];
    size_t refusal_bytes;
};

/* Begins; `config` is copied. */
void eb_tftp_serve_init(struct eb_tftp_serve *serve, const struct eb_tftp_serve_config *config);
/* Takes what came to port 69.  True: a transfer begins; its datagrams must come from a port of its own (RFC
 * 1350 section 4), a fresh one. */
bool eb_tftp_serve_request(struct eb_tftp_serve *serve, const struct eb_endpoint *from, const uint8_t *bytes,
                           size_t size, uint64_t now_us);
/* Takes what came to the transfer's port. */
void eb_tftp_serve_receive(struct eb_tftp_serve *serve, const struct eb_endpoint *from, const uint8_t *bytes,
                           size_t size, uint64_t now_us);
void eb_tftp_serve_tick(struct eb_tftp_serve *serve, uint64_t now_us);
/* Fills in up to `count` datagrams that are to be sent now, in the buffer of the configuration, and gives
 * their number; then eb_tftp_serve_taken says how many of them went out. */
size_t eb_tftp_serve_give(struct eb_tftp_serve *serve, struct eb_datagram *burst, size_t count);
void eb_tftp_serve_taken(struct eb_tftp_serve *serve, size_t count, uint64_t now_us);
/* Whether all was sent once, though not all of it is acknowledged. */
bool eb_tftp_serve_all_sent(const struct eb_tftp_serve *serve);
/* When it wants to be called; EB_NEVER: only with a datagram. */
uint64_t eb_tftp_serve_deadline_us(const struct eb_tftp_serve *serve);

#ifdef __cplusplus
}
#endif

#endif
