#include "einbau/isotp.h"

#include <string.h>

#include "base/bytes.h"
#include "einbau/port.h"
#include "wire/uds_wire.h"

/*   IDLE --send--> SINGLE --taken--> IDLE
 *          \-----> FIRST --taken--> FLOW --continue--> DATA --last one taken--> IDLE
 *                                    ^__block is full____/                           */
enum phase { IDLE, SINGLE, FIRST, FLOW, DATA };

/* What is still to be said about what comes. */
enum { SAY_NOTHING, SAY_CONTINUE, SAY_OVERFLOW };

enum {
    PATIENCE_US = 1000000, /* N_Bs and N_Cr (ISO 15765-2 section 9.8) */
    SEND_US = 4000000,     /* a frame that the adapter does not take for that long never goes out */
    LONG_LENGTH = 4096     /* from here on in 32 bits */
};

uint32_t eb_isotp_separation_us(uint8_t separation)
{
    if (separation <= 0x7F)
        return separation * 1000U;
    return separation >= 0xF1 && separation <= 0xF9 ? (separation - 0xF0U) * 100U : 127000U;
}

void eb_isotp_init(struct eb_isotp *tp, const struct eb_isotp_config *config, uint8_t *to, size_t cap)
{
    memset(tp, 0, sizeof *tp);
    tp->config = *config;
    tp->to = to;
    tp->cap = cap;
    tp->received = EB_PENDING;
}

void eb_isotp_clear(struct eb_isotp *tp)
{
    tp->received = EB_PENDING;
    tp->receiving = false;
    tp->flow = SAY_NOTHING;
}

/* Bytes of a frame behind the address. */
static size_t room(const struct eb_isotp *tp)
{
    return tp->config.extended ? EB_CAN_BYTES - 1 : EB_CAN_BYTES;
}

void eb_isotp_send(struct eb_isotp *tp, const uint8_t *message, size_t size, uint64_t now_us)
{
    eb_isotp_clear(tp);
    tp->sending = EB_PENDING;
    tp->message = message;
    tp->message_size = size;
    tp->at = 0;
    tp->waits = 0;
    tp->out = false;
    tp->phase = size < room(tp) ? SINGLE : FIRST;
    tp->until_us = now_us + SEND_US;
}

static void end_sending(struct eb_isotp *tp, enum eb_status status)
{
    tp->phase = IDLE;
    tp->sending = status;
}

/* --- receiving ----------------------------------------------------------------------------------- */

static void take_flow(struct eb_isotp *tp, const uint8_t *d, size_t size, uint64_t now_us)
{
    if (tp->phase != FLOW || size < 3)
        return;
    if ((d[0] & 15) == TP_CONTINUE) {
        tp->phase = DATA;
        tp->waits = 0;
        tp->limited = d[1] != 0;
        tp->left = d[1];
        tp->separation_us = eb_isotp_separation_us(d[2]);
        tp->next_us = now_us;
        tp->out = false;
        tp->until_us = now_us + SEND_US + tp->separation_us;
    } else if ((d[0] & 15) == TP_WAIT && tp->waits < EB_ISOTP_WAITS_MAX) {
        tp->waits++;
        tp->until_us = now_us + PATIENCE_US;
    } else {
        end_sending(tp, (d[0] & 15) == TP_OVERFLOW ? EB_TOO_LARGE : EB_NO_ANSWER);
    }
}

static void take_first(struct eb_isotp *tp, const uint8_t *d, size_t size, uint64_t now_us)
{
    size_t head = 2;
    uint32_t length = (uint32_t)(d[0] & 15) << 8 | d[1];
    if (length == 0) {
        length = ebi_get32(d + 2);
        head = 6;
    }
    if (length < room(tp) || (head == 6 && length < LONG_LENGTH))
        return; /* shorter than what needs it: ignored (section 9.6.3.2) */
    tp->receiving = false;
    tp->received = EB_PENDING;
    if (length > tp->cap) {
        tp->flow = SAY_OVERFLOW;
        tp->received = EB_TOO_LARGE;
        return;
    }
    tp->to_size = length;
    tp->to_at = size - head;
    memcpy(tp->to, d + head, tp->to_at);
    tp->rx_sequence = 1;
    tp->rx_count = 0;
    tp->receiving = true;
    tp->flow = SAY_CONTINUE;
    tp->rx_until_us = now_us + PATIENCE_US;
}

static void take_consecutive(struct eb_isotp *tp, const uint8_t *d, size_t size, uint64_t now_us)
{
    size_t left = tp->to_size - tp->to_at;
    size_t n = left < room(tp) - 1 ? left : room(tp) - 1;
    if (!tp->receiving)
        return;
    if ((d[0] & 15) == ((tp->rx_sequence - 1) & 15) && tp->to_at > room(tp))
        return; /* the one before, once more */
    if ((d[0] & 15) != tp->rx_sequence || size < n + 1) {
        tp->receiving = false;
        tp->received = EB_GARBAGE;
        return;
    }
    memcpy(tp->to + tp->to_at, d + 1, n);
    tp->to_at += n;
    tp->rx_sequence = (tp->rx_sequence + 1) & 15;
    tp->rx_until_us = now_us + PATIENCE_US;
    if (tp->to_at == tp->to_size) {
        tp->receiving = false;
        tp->received = EB_OK;
        tp->size = tp->to_size;
    } else if (tp->config.block_size != 0 && ++tp->rx_count == tp->config.block_size) {
        tp->rx_count = 0;
        tp->flow = SAY_CONTINUE;
    }
}

void eb_isotp_receive(struct eb_isotp *tp, const struct eb_can_frame *f, uint64_t now_us)
{
    const struct eb_isotp_config *c = &tp->config;
    const uint8_t *d = f->data;
    size_t size = f->size;
    if (f->id != c->response || f->flags != (c->extended_ids ? EB_CAN_EXTENDED : 0) || size == 0)
        return;
    if (c->extended) {
        if (d[0] != c->tester)
            return;
        d++;
        size--;
    }
    unsigned kind = size > 0 ? d[0] & 0xF0U : 0xF0U;
    if (kind == TP_SINGLE) {
        size_t n = d[0] & 15;
        if (n == 0 || n >= room(tp) || n >= size || n > tp->cap)
            return;
        memcpy(tp->to, d + 1, n);
        tp->receiving = false;
        tp->received = EB_OK;
        tp->size = n;
    } else if (kind == TP_FIRST && size == room(tp)) {
        take_first(tp, d, size, now_us);
    } else if (kind == TP_CONSECUTIVE) {
        take_consecutive(tp, d, size, now_us);
    } else if (kind == TP_FLOW) {
        take_flow(tp, d, size, now_us);
    }
}

/* --- sending ------------------------------------------------------------------------------------- */

/* A frame with `head_size` bytes of protocol and as much of `bytes` as given. */
static void put_frame(const struct eb_isotp *tp, struct eb_can_frame *f, const uint8_t *head,
                      size_t head_size, const uint8_t *bytes, size_t size)
{
    uint8_t *to = f->data;
    *f = (struct eb_can_frame){.id = tp->config.request,
                               .flags = tp->config.extended_ids ? EB_CAN_EXTENDED : 0,
                               .size = EB_CAN_BYTES};
    memset(f->data, tp->config.padding, sizeof f->data);
    if (tp->config.extended)
        *to++ = tp->config.target;
    memcpy(to, head, head_size);
    if (size > 0)
        memcpy(to + head_size, bytes, size);
    if (tp->config.unpadded)
        f->size = (uint8_t)((size_t)(to - f->data) + head_size + size);
}

/* Bytes of the message that the next frame carries. */
static size_t next_bytes(const struct eb_isotp *tp, size_t at)
{
    size_t most = room(tp) - (tp->phase == FIRST ? tp->message_size < LONG_LENGTH ? 2U : 6U : 1U);
    size_t left = tp->message_size - at;
    return left < most ? left : most;
}

static size_t give_data(const struct eb_isotp *tp, struct eb_can_frame *frames, size_t cap, uint64_t now_us)
{
    size_t at = tp->at;
    size_t given = 0;
    size_t most = tp->separation_us > 0 ? 1 : cap;
    if (tp->limited && tp->left < most)
        most = tp->left;
    if (now_us < tp->next_us)
        return 0;
    while (given < most && at < tp->message_size) {
        const uint8_t head = (uint8_t)(TP_CONSECUTIVE | ((tp->sequence + given) & 15));
        size_t n = next_bytes(tp, at);
        put_frame(tp, &frames[given], &head, 1, tp->message + at, n);
        frames[given++].flags |= EB_CAN_ORDERED;
        at += n;
    }
    return given;
}

size_t eb_isotp_give(struct eb_isotp *tp, struct eb_can_frame *frames, size_t cap, bool all_out,
                     uint64_t now_us)
{
    size_t n = next_bytes(tp, tp->at);
    if (cap == 0)
        return 0;
    if (tp->flow != SAY_NOTHING) {
        const uint8_t flow[3] = {(uint8_t)(TP_FLOW | (tp->flow == SAY_OVERFLOW ? TP_OVERFLOW : TP_CONTINUE)),
                                 tp->config.block_size, tp->config.separation};
        put_frame(tp, frames, flow, sizeof flow, NULL, 0);
        return 1;
    }
    if (tp->phase == SINGLE) {
        const uint8_t head = (uint8_t)tp->message_size;
        put_frame(tp, frames, &head, 1, tp->message, n);
        return 1;
    }
    if (tp->phase == FIRST) {
        uint8_t head[6] = {TP_FIRST};
        bool is_long = tp->message_size >= LONG_LENGTH;
        if (is_long)
            ebi_put32(head + 2, (uint32_t)tp->message_size);
        else
            ebi_put16(head, (uint16_t)(TP_FIRST << 8 | tp->message_size));
        put_frame(tp, frames, head, is_long ? 6 : 2, tp->message, n);
        return 1;
    }
    if (tp->phase != DATA)
        return 0;
    if (tp->separation_us > 0 && tp->out) {
        if (!all_out)
            return 0;
        tp->out = false;
        tp->next_us = now_us + tp->separation_us;
    }
    return give_data(tp, frames, cap, now_us);
}

void eb_isotp_taken(struct eb_isotp *tp, size_t count, uint64_t now_us)
{
    if (count == 0)
        return;
    if (tp->flow != SAY_NOTHING) {
        tp->flow = SAY_NOTHING;
        return;
    }
    if (tp->phase == SINGLE) {
        end_sending(tp, EB_OK);
    } else if (tp->phase == FIRST) {
        tp->at = next_bytes(tp, 0);
        tp->phase = FLOW;
        tp->sequence = 1;
    } else if (tp->phase == DATA) {
        for (size_t i = 0; i < count; i++)
            tp->at += next_bytes(tp, tp->at);
        tp->sequence = (uint8_t)((tp->sequence + count) & 15);
        tp->out = true;
        if (tp->at == tp->message_size) {
            end_sending(tp, EB_OK);
        } else if (tp->limited) {
            tp->left = (uint8_t)(tp->left - count);
            if (tp->left == 0)
                tp->phase = FLOW;
        }
    }
    tp->until_us = now_us + (tp->phase == FLOW ? PATIENCE_US : SEND_US + tp->separation_us);
}

void eb_isotp_tick(struct eb_isotp *tp, uint64_t now_us)
{
    if (tp->phase != IDLE && now_us >= tp->until_us)
        end_sending(tp, tp->phase == FLOW ? EB_NO_ANSWER : EB_UNREACHABLE);
    if (tp->receiving && now_us >= tp->rx_until_us) {
        tp->receiving = false;
        tp->received = EB_NO_ANSWER;
    }
}

uint64_t eb_isotp_deadline_us(const struct eb_isotp *tp)
{
    uint64_t next_us = tp->receiving ? tp->rx_until_us : EB_NEVER;
    if (tp->phase != IDLE && tp->until_us < next_us)
        next_us = tp->until_us;
    if (tp->phase == DATA && tp->separation_us > 0 && !tp->out && tp->next_us < next_us)
        next_us = tp->next_us;
    return next_us;
}
