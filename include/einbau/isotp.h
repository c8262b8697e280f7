/* One ISO-TP connection (ISO 15765-2): messages of up to 4 GiB in frames of a CAN bus, one at a time each
 * way.
 *
 * It does no I/O: the caller gives it frames and the time, and sends the frames that it gives. */
#ifndef EINBAU_ISOTP_H
#define EINBAU_ISOTP_H

#include "einbau/can.h"
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_ISOTP_WAITS_MAX = 60 }; /* wait frames in a row, about one a second */

/* Normal addressing: identifiers only.  Normal-fixed: 29 bits, 18DAttssh, which the caller puts together.
 * Extended: the first byte of each frame is an address. */
struct eb_isotp_config {
    uint32_t request, response; /* identifiers of what is sent and received */
    bool extended_ids;          /* of 29 bits */
    bool extended;              /* addressing, with the next two */
    uint8_t target, tester;
    bool unpadded;      /* frames are as short as they can be; else all have 8 bytes ... */
    uint8_t padding;    /* ... filled up with this */
    uint8_t block_size; /* asked for when receiving: frames between flow controls; 0: no more of them */
    uint8_t separation; /* asked for: STmin as on the wire */
};

/* One connection of ISO-TP: a message out, and a message in. */
struct eb_isotp {
    struct eb_isotp_config config;
    enum eb_status sending;  /* EB_OK: nothing to send, or all of it was; EB_PENDING; else why not:
                              * EB_NO_ANSWER no flow control came, EB_UNREACHABLE the adapter takes no
                              * frames, EB_TOO_LARGE the receiver has no room */
    enum eb_status received; /* EB_PENDING: nothing yet; EB_OK: a message of `size` bytes is in the buffer */
    size_t size;

    /* its own */
    const uint8_t *message;
    size_t message_size, at;
    uint8_t phase, sequence, waits;
    bool limited, out; /* the separation time begins when a frame is out */
    uint8_t left;
    uint32_t separation_us;
    uint64_t next_us, until_us;
    uint8_t *to;
    size_t cap, to_size, to_at;
    uint8_t rx_sequence, rx_count, flow;
    bool receiving;
    uint64_t rx_until_us;
};

/* `to` is where messages are received, borrowed as long as the connection is used. */
void eb_isotp_init(struct eb_isotp *tp, const struct eb_isotp_config *config, uint8_t *to, size_t cap);

/* Begins to send; `message` is borrowed until `sending` is no longer EB_PENDING.  What was received is
 * dropped.
 */
void eb_isotp_send(struct eb_isotp *tp, const uint8_t *message, size_t size, uint64_t now_us);

/* A frame from the bus; others than those of the peer do nothing. */
void eb_isotp_receive(struct eb_isotp *tp, const struct eb_can_frame *frame, uint64_t now_us);

/* Frames to be sent now.  `all_out`: whether all that were taken before are known to have gone out. */
size_t eb_isotp_give(struct eb_isotp *tp, struct eb_can_frame *frames, size_t cap, bool all_out,
                     uint64_t now_us);
void eb_isotp_taken(struct eb_isotp *tp, size_t count, uint64_t now_us);

/* Lets time pass. */
void eb_isotp_tick(struct eb_isotp *tp, uint64_t now_us);
/* When it next wants to be called; EB_NEVER: only with a frame. */
uint64_t eb_isotp_deadline_us(const struct eb_isotp *tp);

/* Makes ready for the next message; where one has begun to come, it is dropped. */
void eb_isotp_clear(struct eb_isotp *tp);

/* STmin as a time, microseconds: 0 to 127 ms, or 100 to 900 us (ISO 15765-2 section 9.6.5.4); reserved values
 * are the longest. */
uint32_t eb_isotp_separation_us(uint8_t separation);

#ifdef __cplusplus
}
#endif

#endif
