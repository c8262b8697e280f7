#include "einbau/lss.h"

#include <string.h>

#include "base/bytes.h"
#include "einbau/port.h"
#include "wire/canopen_wire.h"

/* ANSWERING is everything but fastscan: that asks for ANY node without an id, finds out one BIT of a number
 * after the other (an answer means 0, silence 1), and CONFIRMs each number. */
enum phase { NOTHING, ANSWERING, ANY, BIT, CONFIRM };

enum {
    ANSWER_US = 500000,
    SCAN_US = 100000,
    SWITCH_GLOBAL = 0x04,
    NODE_ID = 0x11,
    BIT_TIMING = 0x13,
    STORE = 0x17,
    SELECT_VENDOR = 0x40,
    SELECTED = 0x44,
    FASTSCAN = 0x51,
    FOUND = 0x4F,
    INQUIRE = 0x5A,
    SCAN_RESET = 0x80,
    FIRST_BIT = 31
};

void eb_lss_init(struct eb_lss *l)
{
    memset(l, 0, sizeof *l);
    l->until_us = EB_NEVER;
}

static void fail(struct eb_lss *l, enum eb_status status, uint32_t number, const char *text)
{
    l->state = EB_LSS_FAILED;
    l->phase = NOTHING;
    l->error = (struct eb_error){.status = status, .code = EB_CODE_LSS, .number = number, .where = "LSS"};
    memcpy(l->error.text, text, strlen(text));
}

static void put(struct eb_lss *l, uint8_t command, uint32_t number, uint8_t five, uint8_t six, uint8_t seven)
{
    struct eb_can_frame *f = &l->out[l->out_count++];
    *f = (struct eb_can_frame){.id = CO_LSS_MASTER, .size = 8, .data = {command}};
    ebi_put16le(f->data + 1, (uint16_t)number);
    ebi_put16le(f->data + 3, (uint16_t)(number >> 16));
    f->data[5] = five;
    f->data[6] = six;
    f->data[7] = seven;
}

static void begin(struct eb_lss *l, enum phase phase, uint8_t expected, uint64_t patience_us, uint64_t now_us)
{
    l->state = EB_LSS_BUSY;
    memset(&l->error, 0, sizeof l->error);
    l->phase = (uint8_t)phase;
    l->expected = expected;
    l->out_count = l->out_given = 0;
    l->until_us = now_us + patience_us;
}

void eb_lss_select(struct eb_lss *l, const uint32_t identity[EB_LSS_NUMBERS], uint64_t now_us)
{
    begin(l, ANSWERING, SELECTED, ANSWER_US, now_us);
    memcpy(l->identity, identity, sizeof l->identity);
    for (unsigned i = 0; i < EB_LSS_NUMBERS; i++)
        put(l, (uint8_t)(SELECT_VENDOR + i), identity[i], 0, 0, 0);
}

void eb_lss_set_node(struct eb_lss *l, uint8_t node, uint64_t now_us)
{
    begin(l, ANSWERING, NODE_ID, ANSWER_US, now_us);
    put(l, NODE_ID, node, 0, 0, 0);
}

void eb_lss_set_bit_rate(struct eb_lss *l, uint32_t bit_rate, uint64_t now_us)
{
    /* CiA 305 table 1; index 5 is reserved */
    static const uint32_t rates[] = {1000000, 800000, 500000, 250000, 125000, 0, 50000, 20000, 10000};
    uint8_t index = 0;
    while (index < sizeof rates / sizeof rates[0] && rates[index] != bit_rate)
        index++;
    begin(l, ANSWERING, BIT_TIMING, ANSWER_US, now_us);
    if (bit_rate == 0 || index == sizeof rates / sizeof rates[0])
        fail(l, EB_BAD_CALL, 0, "a bit rate that is not in the table of CiA 305");
    else
        put(l, BIT_TIMING, (uint32_t)index << 8, 0, 0, 0);
}

void eb_lss_store(struct eb_lss *l, uint64_t now_us)
{
    begin(l, ANSWERING, STORE, ANSWER_US, now_us);
    put(l, STORE, 0, 0, 0, 0);
}

void eb_lss_inquire(struct eb_lss *l, unsigned what, uint64_t now_us)
{
    begin(l, ANSWERING, (uint8_t)(INQUIRE + what), ANSWER_US, now_us);
    put(l, (uint8_t)(INQUIRE + what), 0, 0, 0, 0);
}

void eb_lss_release(struct eb_lss *l, uint64_t now_us)
{
    begin(l, ANSWERING, 0, ANSWER_US, now_us);
    put(l, SWITCH_GLOBAL, 0, 0, 0, 0);
}

void eb_lss_scan(struct eb_lss *l, uint64_t now_us)
{
    begin(l, ANY, FOUND, SCAN_US, now_us);
    memset(l->identity, 0, sizeof l->identity);
    l->number = 0;
    put(l, FASTSCAN, 0, SCAN_RESET, 0, 0);
}

/* --- fastscan ------------------------------------------------------------------------------------ */

static void ask_bit(struct eb_lss *l, uint8_t bit, uint64_t now_us)
{
    begin(l, BIT, FOUND, SCAN_US, now_us);
    l->bit = bit;
    put(l, FASTSCAN, l->identity[l->number], bit, l->number, l->number);
}

static void ask_confirmation(struct eb_lss *l, uint64_t now_us)
{
    begin(l, CONFIRM, FOUND, SCAN_US, now_us);
    put(l, FASTSCAN, l->identity[l->number], 0, l->number, (uint8_t)((l->number + 1) % EB_LSS_NUMBERS));
}

static void next_bit(struct eb_lss *l, bool answered, uint64_t now_us)
{
    if (!answered)
        l->identity[l->number] |= 1U << l->bit;
    if (l->bit > 0)
        ask_bit(l, (uint8_t)(l->bit - 1), now_us);
    else
        ask_confirmation(l, now_us);
}

static void next_number(struct eb_lss *l, uint64_t now_us)
{
    if (++l->number == EB_LSS_NUMBERS) {
        l->state = EB_LSS_DONE;
        l->phase = NOTHING;
    } else {
        ask_bit(l, FIRST_BIT, now_us);
    }
}

/* ------------------------------------------------------------------------------------------------- */

static void take_answer(struct eb_lss *l, const uint8_t *d)
{
    bool has_error = l->expected == NODE_ID || l->expected == BIT_TIMING || l->expected == STORE;
    if (has_error && d[1] != 0) {
        fail(l, EB_PEER_ERROR, d[1],
             d[1] == 1
                 ? l->expected == STORE ? "storing is not supported" : "out of the range that it supports"
             : d[1] == 2 ? "its memory cannot be written"
                         : "an error of its own kind");
        return;
    }
    l->value = l->expected == INQUIRE + 4 ? d[1] : ebi_get32le(d + 1);
    l->state = EB_LSS_DONE;
    l->phase = NOTHING;
}

void eb_lss_receive(struct eb_lss *l, const struct eb_can_frame *f, uint64_t now_us)
{
    if (l->state != EB_LSS_BUSY || f->id != CO_LSS_SLAVE || f->flags != 0 || f->size != 8 ||
        f->data[0] != l->expected || l->out_given < l->out_count)
        return;
    if (l->phase == ANSWERING)
        take_answer(l, f->data);
    else if (l->phase == ANY)
        ask_bit(l, FIRST_BIT, now_us);
    else if (l->phase == BIT)
        next_bit(l, true, now_us);
    else
        next_number(l, now_us);
}

size_t eb_lss_give(struct eb_lss *l, struct eb_can_frame *frames, size_t cap)
{
    size_t left = l->state == EB_LSS_BUSY ? (size_t)(l->out_count - l->out_given) : 0;
    size_t n = left < cap ? left : cap;
    if (n > 0)
        memcpy(frames, l->out + l->out_given, n * sizeof *frames);
    return n;
}

void eb_lss_taken(struct eb_lss *l, size_t count, uint64_t now_us)
{
    if (count == 0)
        return;
    l->out_given = (uint8_t)(l->out_given + count);
    l->until_us = now_us + (l->phase == ANSWERING ? ANSWER_US : SCAN_US);
    if (l->out_given == l->out_count && l->phase == ANSWERING && l->expected == 0) {
        l->state = EB_LSS_DONE; /* nobody answers to being released */
        l->phase = NOTHING;
    }
}

void eb_lss_tick(struct eb_lss *l, uint64_t now_us)
{
    if (l->state != EB_LSS_BUSY || now_us < l->until_us)
        return;
    if (l->phase == BIT)
        next_bit(l, false, now_us);
    else
        fail(l, EB_NO_ANSWER, 0, "");
}

uint64_t eb_lss_deadline_us(const struct eb_lss *l)
{
    return l->state == EB_LSS_BUSY ? l->until_us : EB_NEVER;
}
