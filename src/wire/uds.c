#include "einbau/uds.h"

#include <string.h>

#include "base/bytes.h"
#include "einbau/port.h"
#include "wire/uds_wire.h"

enum {
    BUSY_AGAIN_US = 100000,
    BUSY_MOST_US = 2000000
}; /* until a unit that is busy is asked once more: longer
    * each time */

static const struct {
    uint8_t code;
    const char *text;
} refusals[] = {
    {0x10, "general reject"},
    {0x11, "service not supported"},
    {0x12, "sub-function not supported"},
    {0x13, "incorrect message length or invalid format"},
    {0x14, "response too long"},
    {0x21, "busy, repeat the request"},
    {0x22, "conditions not correct"},
    {0x24, "request sequence error"},
    {0x25, "no response from the sub-net component"},
    {0x26, "a failure prevents it"},
    {0x31, "request out of range"},
    {0x33, "security access denied"},
    {0x34, "authentication required"},
    {0x35, "invalid key"},
    {0x36, "exceeded number of attempts"},
    {0x37, "required time delay not expired"},
    {0x70, "upload or download not accepted"},
    {0x71, "transfer of data suspended"},
    {0x72, "general programming failure"},
    {0x73, "wrong block sequence counter"},
    {0x78, "response pending"},
    {0x7E, "sub-function not supported in the active session"},
    {0x7F, "service not supported in the active session"},
    {0x92, "voltage too high"},
    {0x93, "voltage too low"},
    {0x94, "resource temporarily not available"},
};

const char *eb_uds_refusal_text(uint8_t code)
{
    for (size_t i = 0; i < sizeof refusals / sizeof refusals[0]; i++) {
        if (refusals[i].code == code)
            return refusals[i].text;
    }
    return "unknown negative response code";
}

void eb_uds_key(enum eb_uds_key way, uint32_t value, const uint8_t *seed, size_t size, uint8_t *key)
{
    uint32_t carry = 0;
    for (size_t i = size; i-- > 0;) {
        size_t place = (size - 1 - i) % 4; /* from the lowest byte */
        uint8_t own = (uint8_t)(value >> 8 * place);
        if (way == EB_UDS_KEY_ADD) {
            carry += seed[i] + (size - 1 - i < 4 ? own : 0U);
            key[i] = (uint8_t)carry;
            carry >>= 8;
        } else {
            key[i] = (uint8_t)(way == EB_UDS_KEY_XOR ? seed[i] ^ own : ~seed[i]);
        }
    }
}

void eb_uds_init(struct eb_uds *u, const struct eb_isotp_config *config, uint8_t *message, size_t cap)
{
    memset(u, 0, sizeof *u);
    u->answer = u->own_answer;
    eb_isotp_init(&u->tp, config, u->answer, sizeof u->own_answer);
    u->message = message;
    u->message_cap = cap;
    u->p2_ms = EB_UDS_P2_MS;
    u->p2_star_ms = EB_UDS_P2_STAR_MS;
    u->margin_ms = EB_UDS_MARGIN_MS;
    u->session = UDS_DEFAULT_SESSION;
}

void eb_uds_buffers(struct eb_uds *u, uint8_t *message, size_t message_cap, uint8_t *answer,
                    size_t answer_cap)
{
    u->message = message;
    u->message_cap = message_cap;
    u->answer = answer;
    u->tp.to = answer;
    u->tp.cap = answer_cap;
}

static void fail(struct eb_uds *u, enum eb_status status, uint32_t number, const char *text)
{
    u->state = EB_UDS_FAILED;
    u->error = (struct eb_error){.status = status, .code = EB_CODE_UDS, .number = number, .where = "UDS"};
    memcpy(u->error.text, text, strlen(text));
}

static void send(struct eb_uds *u, uint64_t now_us)
{
    u->sent = u->pending = false;
    u->again_us = EB_NEVER;
    u->until_us = EB_NEVER; /* begins when all of it is on the wire */
    eb_isotp_send(&u->tp, u->message, u->message_size, now_us);
}

enum eb_status eb_uds_ask(struct eb_uds *u, const uint8_t *head, size_t head_size, const uint8_t *data,
                          size_t size, uint64_t patience_us, uint64_t now_us)
{
    if (head_size + size > u->message_cap) {
        fail(u, EB_TOO_LARGE, 0, "a request longer than its buffer");
        return EB_TOO_LARGE;
    }
    memcpy(u->message, head, head_size);
    if (size > 0 && data != u->message + head_size)
        memcpy(u->message + head_size, data, size);
    u->message_size = head_size + size;
    memset(&u->error, 0, sizeof u->error);
    u->state = EB_UDS_BUSY;
    u->patience_end_us = now_us + patience_us;
    u->busy_us = BUSY_AGAIN_US;
    send(u, now_us);
    return EB_OK;
}

/* --- answers ------------------------------------------------------------------------------------- */

/* A wrong key counts against a limit behind which a unit locks itself: it is never sent again. */
static enum eb_retry retry_of(uint8_t code)
{
    switch (code) {
    case NRC_SEQUENCE:
    case NRC_COUNTER:
    case NRC_SUB_NOT_IN_SESSION: /* its session has ended meanwhile: a try begins with it */
    case NRC_NOT_IN_SESSION:
        return EB_RETRY_AT_ONCE;
    case NRC_SERVICE:
    case NRC_SUB_FUNCTION:
    case NRC_LENGTH:
    case NRC_TOO_LONG:
    case NRC_RANGE:
    case NRC_SECURITY:
    case NRC_AUTHENTICATION:
    case NRC_KEY:
    case NRC_ATTEMPTS:
        return EB_RETRY_NEVER;
    default:
        return EB_RETRY_LATER;
    }
}

static void take_refusal(struct eb_uds *u, uint8_t code, uint64_t now_us)
{
    bool patient = now_us < u->patience_end_us;
    if (code == NRC_PENDING && patient) {
        u->pending = true;
        u->until_us = now_us + (u->p2_star_ms + (uint64_t)u->margin_ms) * 1000;
        eb_isotp_clear(&u->tp);
    } else if (code == NRC_BUSY && patient) {
        u->again_us = now_us + u->busy_us;
        u->busy_us = 2 * u->busy_us < BUSY_MOST_US ? 2 * u->busy_us : BUSY_MOST_US;
        eb_isotp_clear(&u->tp);
    } else {
        fail(u, EB_PEER_ERROR, code, eb_uds_refusal_text(code));
        u->error.retry = retry_of(code);
    }
}

/* How many bytes of the request, behind the service, a positive response repeats (ISO 14229-1): by them the
 * answer to an earlier request of the same service is told apart. */
static size_t repeated_bytes(uint8_t service)
{
    switch (service) {
    case UDS_READ:
    case UDS_WRITE:
        return 2; /* the identifier */
    case UDS_ROUTINE:
        return 3;      /* what to do, and the routine */
    case UDS_TRANSFER: /* the counter */
    case UDS_SESSION:
    case UDS_SECURITY:
    case UDS_RESET:
        return 1;
    default:
        return 0;
    }
}

static void take_answer(struct eb_uds *u, uint64_t now_us)
{
    const uint8_t *a = u->answer;
    uint8_t service = u->message[0];
    size_t size = u->tp.size;
    size_t repeats = repeated_bytes(service);
    if (size >= 3 && a[0] == UDS_NEGATIVE && a[1] == service) {
        take_refusal(u, a[2], now_us);
        return;
    }
    bool mine = size >= 1 + repeats && memcmp(a + 1, u->message + 1, repeats) == 0;
    if (a[0] != (uint8_t)(service + UDS_POSITIVE) || !mine) {
        eb_isotp_clear(&u->tp); /* to an earlier request, or to somebody else's */
        return;
    }
    u->answer_size = size;
    u->state = EB_UDS_DONE;
    if (service == UDS_SESSION && size >= 2) {
        u->session = a[1];
        u->p2_ms = size >= 6 ? ebi_get16(a + 2) : EB_UDS_P2_MS;
        u->p2_star_ms = size >= 6 ? ebi_get16(a + 4) * 10U : EB_UDS_P2_STAR_MS;
    } else if (service == UDS_RESET) {
        u->session = UDS_DEFAULT_SESSION;
    }
}

void eb_uds_receive(struct eb_uds *u, const struct eb_can_frame *frame, uint64_t now_us)
{
    eb_isotp_receive(&u->tp, frame, now_us);
    if (u->state != EB_UDS_BUSY) {
        eb_isotp_clear(&u->tp);
        return;
    }
    if (u->tp.received == EB_OK && u->sent)
        take_answer(u, now_us);
    else if (u->tp.received == EB_TOO_LARGE)
        fail(u, EB_TOO_LARGE, 0, "an answer longer than its buffer");
    else if (u->tp.received == EB_GARBAGE)
        fail(u, EB_NO_ANSWER, 0, "a part of the answer was lost");
}

const uint8_t *eb_uds_value(const struct eb_uds *u, uint16_t did, size_t *size)
{
    if (u->state != EB_UDS_DONE || u->answer_size < 3 || u->answer[0] != UDS_READ + UDS_POSITIVE ||
        ebi_get16(u->answer + 1) != did)
        return NULL;
    *size = u->answer_size - 3;
    return u->answer + 3;
}

/* --- sending ------------------------------------------------------------------------------------- */

size_t eb_uds_give(struct eb_uds *u, struct eb_can_frame *frames, size_t cap, bool all_out, uint64_t now_us)
{
    bool idle = u->state != EB_UDS_BUSY && u->tp.sending != EB_PENDING;
    if (idle && u->session != UDS_DEFAULT_SESSION && now_us >= u->kept_us + EB_UDS_KEEP_US) {
        u->present[0] = UDS_PRESENT;
        u->present[1] = UDS_QUIET;
        eb_isotp_send(&u->tp, u->present, sizeof u->present, now_us);
    }
    return eb_isotp_give(&u->tp, frames, cap, all_out, now_us);
}

void eb_uds_taken(struct eb_uds *u, size_t count, uint64_t now_us)
{
    eb_isotp_taken(&u->tp, count, now_us);
    if (count > 0)
        u->kept_us = now_us;
    if (u->state == EB_UDS_BUSY && !u->sent && u->tp.sending == EB_OK) {
        u->sent = true;
        u->until_us = now_us + (u->p2_ms + (uint64_t)u->margin_ms) * 1000;
    }
}

void eb_uds_tick(struct eb_uds *u, uint64_t now_us)
{
    eb_isotp_tick(&u->tp, now_us);
    if (u->state != EB_UDS_BUSY)
        return;
    if (u->tp.sending != EB_OK && u->tp.sending != EB_PENDING)
        fail(u, u->tp.sending, 0,
             u->tp.sending == EB_TOO_LARGE     ? "the unit has no room for the message"
             : u->tp.sending == EB_UNREACHABLE ? "the adapter takes no frames"
                                               : "no flow control came");
    else if (u->tp.received == EB_NO_ANSWER)
        fail(u, EB_NO_ANSWER, 0, "a part of the answer was lost");
    else if (now_us >= u->again_us)
        send(u, now_us);
    else if (u->again_us == EB_NEVER && !u->tp.receiving && now_us >= u->until_us)
        fail(u, EB_NO_ANSWER, 0, u->pending ? "said that its answer is pending, and then nothing" : "");
}

uint64_t eb_uds_deadline_us(const struct eb_uds *u)
{
    uint64_t next_us = eb_isotp_deadline_us(&u->tp);
    uint64_t own_us = EB_NEVER;
    if (u->state == EB_UDS_BUSY)
        own_us = u->again_us != EB_NEVER ? u->again_us : u->tp.receiving ? EB_NEVER : u->until_us;
    else if (u->session != UDS_DEFAULT_SESSION)
        own_us = u->kept_us + EB_UDS_KEEP_US;
    return own_us < next_us ? own_us : next_us;
}
