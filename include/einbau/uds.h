/* A UDS client (ISO 14229-1) over ISO-TP: one request and its answer at a time.
 *
 *   IDLE --ask--> BUSY --positive response--> DONE
 *                  |  \__negative response, silence, nonsense__> FAILED
 *                  \__response pending: goes on, with a patience of its own
 */
#ifndef EINBAU_UDS_H
#define EINBAU_UDS_H

#include "einbau/isotp.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_UDS_MESSAGE_MIN_BYTES = 64, /* of the buffer for requests */
    EB_UDS_ANSWER_BYTES = 260,
    EB_UDS_P2_MS = 50,
    EB_UDS_P2_STAR_MS = 5000,
    EB_UDS_MARGIN_MS =
        950, /* on top of both, for the wire and its adapter: a busy bus lets others go first */
    EB_UDS_KEEP_US = 2000000 /* tester present at least that often outside the default session (S3 is 5 s) */
};

enum eb_uds_state { EB_UDS_IDLE, EB_UDS_BUSY, EB_UDS_DONE, EB_UDS_FAILED };

/* One request of UDS at a time, with the responses to it. */
struct eb_uds {
    enum eb_uds_state state;
    struct eb_error error; /* `number`: the negative response code */
    uint8_t *answer;
    size_t answer_size; /* with the service's byte */

    /* its own */
    uint8_t own_answer[EB_UDS_ANSWER_BYTES];
    struct eb_isotp tp;
    uint8_t *message; /* the caller's */
    size_t message_cap, message_size;
    uint32_t p2_ms, p2_star_ms; /* as the unit told for its session */
    uint32_t margin_ms;         /* on top of both; EB_UDS_MARGIN_MS, where the caller sets no other one */
    uint64_t until_us, patience_end_us, again_us, kept_us, busy_us;
    bool sent, pending;
    uint8_t session;
    uint8_t present[2];
};

/* `message` is room for the longest request, borrowed as long as the client is used.  The context must not be
 * moved or copied. */
void eb_uds_init(struct eb_uds *uds, const struct eb_isotp_config *config, uint8_t *message, size_t cap);

/* From now on other buffers hold requests and answers, when no request is going on.  Borrowed like the first.
 */
void eb_uds_buffers(struct eb_uds *uds, uint8_t *message, size_t message_cap, uint8_t *answer,
                    size_t answer_cap);

/* Begins a request: `head`, then `size` bytes of data, which may be NULL where it is 0,
 * or stand in the message's buffer already, behind where the head goes.  `patience_us` is how
 * long the unit may go on saying that its answer is pending, or that it is busy.  EB_TOO_LARGE where the
 * message has no room. */
enum eb_status eb_uds_ask(struct eb_uds *uds, const uint8_t *head, size_t head_size, const uint8_t *data,
                          size_t size, uint64_t patience_us, uint64_t now_us);

/* A frame of the bus. */
void eb_uds_receive(struct eb_uds *uds, const struct eb_can_frame *frame, uint64_t now_us);
/* Fills in what is to go out, up to `cap` frames, and gives their number; `all_out`: nothing of it waits
 * in the adapter. */
size_t eb_uds_give(struct eb_uds *uds, struct eb_can_frame *frames, size_t cap, bool all_out,
                   uint64_t now_us);
/* So many of those were taken by the adapter. */
void eb_uds_taken(struct eb_uds *uds, size_t count, uint64_t now_us);
/* Lets time pass. */
void eb_uds_tick(struct eb_uds *uds, uint64_t now_us);
/* When it next wants to be called; EB_NEVER once it has ended. */
uint64_t eb_uds_deadline_us(const struct eb_uds *uds);

/* The value of one data identifier in the answer to ReadDataByIdentifier of that one alone; NULL: it is not
 * in it.
 */
const uint8_t *eb_uds_value(const struct eb_uds *uds, uint16_t did, size_t *size);

/* What a negative response code means (ISO 14229-1 table A.1), static. */
const char *eb_uds_refusal_text(uint8_t code);

/* --- security access ----------------------------------------------------------------------------- */

/* How the key follows from the seed: plain, open ways that made-up and simple units use.  A product with one
 * of its own is served by a call-out (struct eb_run_config). */
enum eb_uds_key { EB_UDS_KEY_NONE, EB_UDS_KEY_ADD, EB_UDS_KEY_XOR, EB_UDS_KEY_INVERT, EB_UDS_KEY_CALL };

/* Writes the key for a seed of `size` bytes, as long as the seed: the seed as a big-endian number plus
 * `value`, its bytes XOR those of `value` (big-endian, again and again), or all its bits inverted. */
void eb_uds_key(enum eb_uds_key way, uint32_t value, const uint8_t *seed, size_t size, uint8_t *key);

#ifdef __cplusplus
}
#endif

#endif
