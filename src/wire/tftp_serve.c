#include "einbau/tftp_serve.h"
#include "base/bytes.h"
#include "einbau/text.h"
#include "wire/tftp_wire.h"

#include <string.h>

enum {
    INTERVAL_FIRST_US = 1000000, /* before anything was measured */
    INTERVAL_LEAST_US = 200000,
    INTERVAL_MOST_US = 8000000,
    LAST_TRIES = 4, /* of the last window: then only its acknowledgement may be missing */
    BLKSIZE_DEFAULT = 512,
    OPTIONS_MAX = 12
};

void eb_tftp_serve_init(struct eb_tftp_serve *s, const struct eb_tftp_serve_config *config)
{
    memset(s, 0, sizeof *s);
    s->config = *config;
    if (s->config.blksize + (size_t)TFTP_HEAD_BYTES > config->buffer_bytes)
        s->config.blksize = (uint16_t)(config->buffer_bytes - TFTP_HEAD_BYTES);
    s->state = EB_TFTP_SERVE_WAITING;
}

static uint64_t blocks(const struct eb_tftp_serve *s)
{
    return s->config.source->size_bytes / s->blksize + 1;
}

static uint16_t wire_number(const struct eb_tftp_serve *s, uint64_t block)
{
    if (s->config.rollover_to_one && block > 0)
        return (uint16_t)((block - 1) % 65535 + 1);
    return (uint16_t)block;
}

static uint64_t interval_us(const struct eb_tftp_serve *s)
{
    uint64_t us = s->interval_us << (s->tries < 5 ? s->tries : 5);
    return us < INTERVAL_MOST_US ? us : INTERVAL_MOST_US;
}

static void fail(struct eb_tftp_serve *s, enum eb_status status, const char *where)
{
    s->state = EB_TFTP_SERVE_FAILED;
    s->error = (struct eb_error){.status = status, .where = where};
}

/* --- requests --------------------------------------------------------------------------------------------
 */

static void refuse(struct eb_tftp_serve *s, const struct eb_endpoint *to, uint16_t code, const char *text)
{
    s->refused = *to;
    ebi_put16(s->refusal, TFTP_ERROR);
    ebi_put16(s->refusal + 2, code);
    s->refusal_bytes = TFTP_HEAD_BYTES;
    s->refusal_bytes += ebi_tftp_field(s->refusal, sizeof s->refusal, TFTP_HEAD_BYTES, text);
}

/* The next text of a request, or NULL: it is not whole. */
static const char *next_text(const uint8_t *bytes, size_t size, size_t *at)
{
    const char *text = (const char *)bytes + *at;
    const uint8_t *end = *at < size ? memchr(bytes + *at, 0, size - *at) : NULL;
    if (end == NULL)
        return NULL;
    *at = (size_t)(end - bytes) + 1;
    return text;
}

static uint16_t at_most(uint64_t number, uint16_t most)
{
    return number < most ? (uint16_t)number : most;
}

/* One option (RFC 2347): taken over and answered, or left out of the answer. */
static void take_option(struct eb_tftp_serve *s, const char *name, const char *text)
{
    uint64_t number;
    size_t at = s->reply_bytes;
    if (!eb_text_number(text, strlen(text), &number))
        return;
    if (ebi_tftp_is(name, "blksize") && number >= EB_TFTP_BLKSIZE_MIN && number <= EB_TFTP_BLKSIZE_MAX) {
        s->blksize = at_most(number, s->config.blksize);
        number = s->blksize;
    } else if (ebi_tftp_is(name, "windowsize") && number >= 1 && number <= UINT16_MAX) {
        s->windowsize = at_most(number, s->config.windowsize);
        number = s->windowsize;
    } else if (ebi_tftp_is(name, "timeout") && number >= 1 && number <= 255) {
        s->interval_us = number * 1000000;
    } else if (ebi_tftp_is(name, "tsize")) {
        number = s->config.source->size_bytes;
    } else {
        return;
    }
    s->reply_bytes += ebi_tftp_option(s->reply, sizeof s->reply, at, name, number);
}

static void begin(struct eb_tftp_serve *s, const struct eb_endpoint *from, const uint8_t *bytes, size_t size,
                  size_t at, uint64_t now_us)
{
    s->peer = *from;
    s->blksize = BLKSIZE_DEFAULT;
    s->windowsize = 1;
    s->interval_us = INTERVAL_FIRST_US;
    s->acked = 0;
    s->next = 1;
    s->acked_bytes = 0;
    s->tries = 0;
    s->last_unanswered = false;
    s->requests++;
    ebi_put16(s->reply, TFTP_OACK);
    s->reply_bytes = 2;
    for (int i = 0; i < OPTIONS_MAX; i++) {
        const char *name = next_text(bytes, size, &at);
        const char *text = name != NULL ? next_text(bytes, size, &at) : NULL;
        if (text == NULL)
            break;
        take_option(s, name, text);
    }
    bool options = s->reply_bytes > 2;
    s->state = options ? EB_TFTP_SERVE_ASKED : EB_TFTP_SERVE_SENDING;
    s->reply_due = options;
    s->heard_us = now_us;
    s->timer_us = now_us + interval_us(s);
}

bool eb_tftp_serve_request(struct eb_tftp_serve *s, const struct eb_endpoint *from, const uint8_t *bytes,
                           size_t size, uint64_t now_us)
{
    size_t at = 2;
    if (size < 4 || size > 512 || bytes[0] != 0 || bytes[1] == TFTP_ERROR || s->state == EB_TFTP_SERVE_FAILED)
        return false;
    if (memcmp(from->ip, s->config.ip, sizeof from->ip) != 0) {
        refuse(s, from, TFTP_E_ACCESS, "not for this device");
        return false;
    }
    if (bytes[1] != TFTP_RRQ) {
        refuse(s, from, TFTP_E_ACCESS, "read only");
        return false;
    }
    const char *name = next_text(bytes, size, &at);
    const char *mode = name != NULL ? next_text(bytes, size, &at) : NULL;
    if (mode == NULL || !(ebi_tftp_is(mode, "octet") || ebi_tftp_is(mode, "netascii"))) {
        refuse(s, from, TFTP_E_ILLEGAL, "no read request");
        return false;
    }
    if (strcmp(name, s->config.name) != 0) {
        refuse(s, from, TFTP_E_NOT_FOUND, "no such file");
        return false;
    }
    if (ebi_tftp_is(mode, "netascii")) { /* an image is no text */
        refuse(s, from, TFTP_E_ILLEGAL, "mode octet only");
        return false;
    }
    bool again = s->state != EB_TFTP_SERVE_WAITING && s->state != EB_TFTP_SERVE_DONE &&
                 eb_endpoint_same(from, &s->peer);
    if (again && s->state == EB_TFTP_SERVE_ASKED) {
        s->reply_due = true; /* the same first answer */
        return false;
    }
    if (again && s->acked == 0) {
        s->next = 1;
        return false;
    }
    begin(s, from, bytes, size, at, now_us);
    return true;
}

/* --- the transfer ----------------------------------------------------------------------------------------
 */

/* The block behind the last acknowledged one that this number may stand for; UINT64_MAX: none. */
static uint64_t block_of(const struct eb_tftp_serve *s, uint16_t number)
{
    for (uint64_t block = s->acked; block <= s->acked + s->windowsize && block <= blocks(s); block++) {
        if (wire_number(s, block) == number)
            return block;
    }
    return UINT64_MAX;
}

static void take_ack(struct eb_tftp_serve *s, uint16_t number, uint64_t now_us)
{
    if (s->state == EB_TFTP_SERVE_ASKED) {
        if (number != 0)
            return;
        s->state = EB_TFTP_SERVE_SENDING;
        s->reply_due = false;
        s->tries = 0;
        s->heard_us = now_us;
        return;
    }
    uint64_t block = block_of(s, number);
    if (block == UINT64_MAX || block >= s->next)
        return;
    s->heard_us = now_us;
    if (block == s->acked) /* the same again: only a time-out sends again (RFC 1123 section 4.2.3.1) ... */
        return;
    s->acked = block;
    s->acked_bytes = block * s->blksize;
    if (s->acked_bytes > s->config.source->size_bytes)
        s->acked_bytes = s->config.source->size_bytes;
    s->next = block + 1; /* ... but one inside the window begins a new one there (RFC 7440 section 4) */
    s->tries = 0;
    s->timer_us = now_us + interval_us(s);
    if (block == blocks(s))
        s->state = EB_TFTP_SERVE_DONE;
}

void eb_tftp_serve_receive(struct eb_tftp_serve *s, const struct eb_endpoint *from, const uint8_t *bytes,
                           size_t size, uint64_t now_us)
{
    bool runs = s->state == EB_TFTP_SERVE_ASKED || s->state == EB_TFTP_SERVE_SENDING;
    if (!runs || size < TFTP_HEAD_BYTES || bytes[0] != 0)
        return;
    if (!eb_endpoint_same(from, &s->peer)) {
        if (bytes[1] != TFTP_ERROR)
            refuse(s, from, TFTP_E_UNKNOWN_TID, "unknown transfer");
        return;
    }
    if (bytes[1] == TFTP_ACK) {
        take_ack(s, ebi_get16(bytes + 2), now_us);
    } else if (bytes[1] == TFTP_ERROR) {
        /* It may only have wanted to know the size, or it tries without options: it begins anew. */
        s->error = (struct eb_error){.status = EB_PEER_ERROR,
                                     .code = EB_CODE_TFTP,
                                     .number = ebi_get16(bytes + 2),
                                     .where = "sending the image"};
        eb_text_copy_foreign(s->error.text, sizeof s->error.text, bytes + TFTP_HEAD_BYTES,
                             size - TFTP_HEAD_BYTES);
        s->given_up++;
        s->state = EB_TFTP_SERVE_WAITING;
    }
}

/* Something was sent: until when an answer is waited for. */
static uint64_t window_end(const struct eb_tftp_serve *s)
{
    uint64_t end = s->acked + s->windowsize;
    return end < blocks(s) ? end : blocks(s);
}

bool eb_tftp_serve_all_sent(const struct eb_tftp_serve *s)
{
    return s->state == EB_TFTP_SERVE_SENDING && s->next > blocks(s);
}

void eb_tftp_serve_tick(struct eb_tftp_serve *s, uint64_t now_us)
{
    bool runs = s->state == EB_TFTP_SERVE_ASKED || s->state == EB_TFTP_SERVE_SENDING;
    if (!runs || now_us < s->timer_us)
        return;
    bool last = eb_tftp_serve_all_sent(s);
    bool over = now_us - s->heard_us >= s->config.patience_us;
    if (last && (s->tries >= LAST_TRIES || over)) {
        s->last_unanswered = true;
        s->state = EB_TFTP_SERVE_DONE;
        return;
    }
    if (over) {
        fail(s, EB_NO_ANSWER, "sending the image");
        return;
    }
    s->tries++;
    s->timer_us = now_us + interval_us(s);
    if (s->state == EB_TFTP_SERVE_ASKED)
        s->reply_due = true;
    else
        s->next = s->acked + 1;
}

static bool put_block(struct eb_tftp_serve *s, uint64_t block, uint8_t *to, size_t *size)
{
    uint64_t offset = (block - 1) * s->blksize;
    uint64_t left = s->config.source->size_bytes - offset;
    size_t bytes = left < s->blksize ? (size_t)left : s->blksize;
    ebi_put16(to, TFTP_DATA);
    ebi_put16(to + 2, wire_number(s, block));
    *size = TFTP_HEAD_BYTES + bytes;
    return bytes == 0 ||
           s->config.source->read(s->config.source->self, offset, to + TFTP_HEAD_BYTES, bytes) == EB_OK;
}

size_t eb_tftp_serve_give(struct eb_tftp_serve *s, struct eb_datagram *burst, size_t count)
{
    size_t given = 0;
    size_t used = 0;
    if (s->refusal_bytes > 0 && given < count)
        burst[given++] = (struct eb_datagram){s->refused, s->refusal, s->refusal_bytes};
    if (s->state == EB_TFTP_SERVE_ASKED && s->reply_due && given < count)
        burst[given++] = (struct eb_datagram){s->peer, s->reply, s->reply_bytes};
    for (uint64_t block = s->next;
         s->state == EB_TFTP_SERVE_SENDING && block <= window_end(s) && given < count; block++) {
        size_t size;
        if (used + s->blksize + TFTP_HEAD_BYTES > s->config.buffer_bytes)
            break;
        if (!put_block(s, block, s->config.buffer + used, &size)) {
            fail(s, EB_IO, "reading the image");
            break;
        }
        burst[given++] = (struct eb_datagram){s->peer, s->config.buffer + used, size};
        used += size;
    }
    return given;
}

void eb_tftp_serve_taken(struct eb_tftp_serve *s, size_t count, uint64_t now_us)
{
    if (s->refusal_bytes > 0 && count > 0) {
        s->refusal_bytes = 0;
        count--;
    }
    if (s->state == EB_TFTP_SERVE_ASKED && s->reply_due && count > 0) {
        s->reply_due = false;
        s->timer_us = now_us + interval_us(s);
    } else if (s->state == EB_TFTP_SERVE_SENDING && count > 0) {
        s->next += count;
        s->timer_us = now_us + interval_us(s);
    }
}

uint64_t eb_tftp_serve_deadline_us(const struct eb_tftp_serve *s)
{
    if (s->refusal_bytes > 0 || (s->state == EB_TFTP_SERVE_ASKED && s->reply_due) ||
        (s->state == EB_TFTP_SERVE_SENDING && s->next <= window_end(s)))
        return 0;
    return s->state == EB_TFTP_SERVE_ASKED || s->state == EB_TFTP_SERVE_SENDING ? s->timer_us : EB_NEVER;
}
