#include "einbau/sdo.h"

#include <string.h>

#include "base/bytes.h"
#include "einbau/port.h"
#include "wire/canopen_wire.h"

/* What is waited for.
 *
 *   reading:  UP --size--> UP_SEGMENT ...        BLOCK_UP --size--> BLOCK_UP_DATA ... --> BLOCK_UP_END
 *   writing:  DOWN --ok--> DOWN_SEGMENT ...      BLOCK_DOWN --ok--> BLOCK_DATA ... --> BLOCK_END
 */
enum phase {
    NOTHING,
    UP,
    UP_SEGMENT,
    BLOCK_UP,
    BLOCK_UP_DATA,
    BLOCK_UP_END,
    DOWN,
    DOWN_SEGMENT,
    BLOCK_DOWN,
    BLOCK_DATA,
    BLOCK_END
};

static const struct {
    uint32_t code;
    const char *text;
} aborts[] = {
    {0x05030000, "toggle bit not alternated"},
    {0x05040000, "SDO protocol timed out"},
    {0x05040001, "command specifier not valid or unknown"},
    {0x05040002, "invalid block size"},
    {0x05040003, "invalid sequence number"},
    {0x05040004, "check sequence (CRC) wrong"},
    {0x05040005, "out of memory"},
    {0x06010000, "access not supported"},
    {0x06010001, "the object can only be written"},
    {0x06010002, "the object can only be read"},
    {0x06020000, "no such object"},
    {0x06040041, "the object cannot be mapped to the PDO"},
    {0x06040042, "the mapped objects exceed the PDO"},
    {0x06040043, "parameters not compatible"},
    {0x06040047, "incompatible inside the device"},
    {0x06060000, "hardware error"},
    {0x06070010, "length of the data does not match"},
    {0x06070012, "data too long"},
    {0x06070013, "data too short"},
    {0x06090011, "no such sub-index"},
    {0x06090030, "invalid value"},
    {0x06090031, "value too high"},
    {0x06090032, "value too low"},
    {0x06090036, "maximum less than minimum"},
    {0x060A0023, "resource not available"},
    {0x08000000, "general error"},
    {0x08000020, "data cannot be transferred or stored"},
    {0x08000021, "data cannot be stored because of local control"},
    {0x08000022, "data cannot be stored in the present state of the device"},
    {0x08000023, "no object dictionary, or it cannot be made"},
    {0x08000024, "no data available"},
};

const char *eb_sdo_abort_text(uint32_t code)
{
    for (size_t i = 0; i < sizeof aborts / sizeof aborts[0]; i++) {
        if (aborts[i].code == code)
            return aborts[i].text;
    }
    return "unknown abort code";
}

uint16_t eb_sdo_crc(uint16_t crc, const uint8_t *bytes, size_t size)
{
    static const uint16_t nibbles[16] = {0x0000, 0x1021, 0x2042, 0x3063, 0x4084, 0x50A5, 0x60C6, 0x70E7,
                                         0x8108, 0x9129, 0xA14A, 0xB16B, 0xC18C, 0xD1AD, 0xE1CE, 0xF1EF};
    for (size_t i = 0; i < size; i++) {
        crc = (uint16_t)(crc << 4) ^ nibbles[(crc >> 12 ^ bytes[i] >> 4) & 15];
        crc = (uint16_t)(crc << 4) ^ nibbles[(crc >> 12 ^ bytes[i]) & 15];
    }
    return crc;
}

/* --- ends ---------------------------------------------------------------------------------------- */

static void say(struct eb_sdo *s, const char *text)
{
    size_t size = strlen(text);
    memset(s->error.text, 0, sizeof s->error.text);
    memcpy(s->error.text, text, size < EB_ERROR_TEXT_BYTES ? size : EB_ERROR_TEXT_BYTES - 1);
}

static void fail(struct eb_sdo *s, enum eb_status status, uint32_t code, const char *text)
{
    s->state = EB_SDO_FAILED;
    s->phase = NOTHING;
    s->error = (struct eb_error){.status = status, .code = EB_CODE_SDO, .number = code, .where = "SDO"};
    say(s, text);
}

static void put_object(struct eb_sdo *s, uint8_t command, uint32_t value)
{
    s->out[0] = command;
    ebi_put16le(s->out + 1, s->index);
    s->out[3] = s->sub;
    ebi_put16le(s->out + 4, (uint16_t)value);
    ebi_put16le(s->out + 6, (uint16_t)(value >> 16));
    s->has_out = true;
}

static void put_plain(struct eb_sdo *s, uint8_t command, uint8_t one, uint8_t two)
{
    memset(s->out, 0, sizeof s->out);
    s->out[0] = command;
    s->out[1] = one;
    s->out[2] = two;
    s->has_out = true;
}

/* Tells the node that it is over. */
static void abort_with(struct eb_sdo *s, enum eb_status status, uint32_t code)
{
    put_object(s, SDO_ABORT, code);
    fail(s, status, code, eb_sdo_abort_text(code));
}

static void finish(struct eb_sdo *s)
{
    s->state = EB_SDO_DONE;
    s->phase = NOTHING;
}

/* --- beginnings ---------------------------------------------------------------------------------- */

void eb_sdo_init(struct eb_sdo *s, uint8_t node)
{
    memset(s, 0, sizeof *s);
    s->node = node;
    s->until_us = EB_NEVER;
}

static void begin(struct eb_sdo *s, uint16_t index, uint8_t sub, uint64_t patience_us)
{
    eb_sdo_init(s, s->node);
    s->state = EB_SDO_BUSY;
    s->index = index;
    s->sub = sub;
    s->patience_us = patience_us;
}

static void begin_read(struct eb_sdo *s, uint16_t index, uint8_t sub, enum eb_sdo_way way,
                       uint64_t patience_us, uint64_t now_us)
{
    begin(s, index, sub, patience_us);
    s->until_us = now_us + patience_us;
    s->way = way;
    s->block_size = EB_SDO_BLOCK_MAX;
    s->phase = way == EB_SDO_BLOCK ? BLOCK_UP : UP;
    put_object(s, way == EB_SDO_BLOCK ? SDO_BLOCK_UP | SDO_BLOCK_CRC : SDO_UP,
               way == EB_SDO_BLOCK ? s->block_size : 0);
}

void eb_sdo_read(struct eb_sdo *s, uint16_t index, uint8_t sub, enum eb_sdo_way way, uint8_t *to, size_t cap,
                 uint64_t patience_us, uint64_t now_us)
{
    begin_read(s, index, sub, way, patience_us, now_us);
    s->to = to;
    s->cap = cap;
}

void eb_sdo_compare(struct eb_sdo *s, uint16_t index, uint8_t sub, enum eb_sdo_way way,
                    const struct eb_source *source, uint64_t patience_us, uint64_t now_us)
{
    begin_read(s, index, sub, way, patience_us, now_us);
    s->compared = source;
    s->cap = SIZE_MAX;
}

static void begin_segmented(struct eb_sdo *s)
{
    s->phase = DOWN;
    s->way = EB_SDO_SEGMENTED;
    if (s->bytes != NULL && s->total_bytes <= 4) {
        uint8_t four[4] = {0};
        memcpy(four, s->bytes, (size_t)s->total_bytes);
        put_object(s, (uint8_t)(SDO_DOWN | SDO_EXPEDITED | SDO_SIZE | (4 - s->total_bytes) << 2),
                   ebi_get32le(four));
        return;
    }
    put_object(s, SDO_DOWN | SDO_SIZE, (uint32_t)s->total_bytes);
}

void eb_sdo_write(struct eb_sdo *s, uint16_t index, uint8_t sub, const uint8_t *bytes, size_t size,
                  uint64_t patience_us, uint64_t now_us)
{
    begin(s, index, sub, patience_us);
    s->until_us = now_us + patience_us;
    s->bytes = bytes;
    s->total_bytes = size;
    begin_segmented(s);
}

void eb_sdo_write_source(struct eb_sdo *s, uint16_t index, uint8_t sub, enum eb_sdo_way way,
                         const struct eb_source *source, uint64_t patience_us, uint64_t now_us)
{
    begin(s, index, sub, patience_us);
    s->until_us = now_us + patience_us;
    s->source = source;
    s->total_bytes = source->size_bytes;
    s->way = way;
    if (s->total_bytes == 0 || s->total_bytes > UINT32_MAX) {
        fail(s, EB_TOO_LARGE, 0, "an image without bytes, or of 4 GiB and more");
    } else if (way == EB_SDO_BLOCK) {
        s->phase = BLOCK_DOWN;
        put_object(s, SDO_BLOCK_DOWN | SDO_BLOCK_CRC | SDO_BLOCK_SIZE, (uint32_t)s->total_bytes);
    } else {
        begin_segmented(s);
    }
}

/* --- writing ------------------------------------------------------------------------------------- */

/* Fetches what follows what is done: a block, or a segment. */
static bool fetch(struct eb_sdo *s, size_t most)
{
    uint64_t left = s->total_bytes - s->done_bytes;
    s->buffered = left < most ? (size_t)left : most;
    memset(s->buffer, 0, sizeof s->buffer);
    if (s->bytes != NULL) {
        memcpy(s->buffer, s->bytes + s->done_bytes, s->buffered);
    } else if (s->source->read(s->source->self, s->done_bytes, s->buffer, s->buffered) != EB_OK) {
        abort_with(s, EB_IO, SDO_E_GENERAL);
        return false;
    }
    /* Each byte counts once, however often it is sent. */
    if (s->way == EB_SDO_BLOCK && s->done_bytes + s->buffered > s->summed_bytes) {
        size_t old = (size_t)(s->summed_bytes - s->done_bytes);
        s->crc = eb_sdo_crc(s->crc, s->buffer + old, s->buffered - old);
        s->summed_bytes = s->done_bytes + s->buffered;
    }
    return true;
}

static void next_block(struct eb_sdo *s)
{
    if (!fetch(s, (size_t)s->block_size * EB_SDO_SEGMENT_BYTES))
        return;
    s->count = (uint8_t)((s->buffered + EB_SDO_SEGMENT_BYTES - 1) / EB_SDO_SEGMENT_BYTES);
    s->sequence = 0;
    s->phase = BLOCK_DATA;
}

static void end_blocks(struct eb_sdo *s)
{
    unsigned rest = (unsigned)(s->total_bytes % EB_SDO_SEGMENT_BYTES);
    unsigned unused = rest > 0 ? EB_SDO_SEGMENT_BYTES - rest : 0;
    uint16_t crc = s->crc_used ? s->crc : 0;
    s->phase = BLOCK_END;
    put_plain(s, (uint8_t)(SDO_BLOCK_END | unused << 2), (uint8_t)crc, (uint8_t)(crc >> 8));
}

static void take_acknowledgement(struct eb_sdo *s, uint8_t acknowledged, uint8_t size)
{
    /* The same again while the next block is under way: the frame came twice. */
    if (s->sequence < s->count && acknowledged == s->last_ack && size == s->last_size &&
        acknowledged >= s->sequence)
        return;
    if (acknowledged > s->sequence || size == 0 || size > EB_SDO_BLOCK_MAX) {
        abort_with(s, EB_GARBAGE, size == 0 || size > EB_SDO_BLOCK_MAX ? SDO_E_BLOCK_SIZE : SDO_E_SEQUENCE);
        return;
    }
    s->repeats = acknowledged > 0 ? 0 : s->repeats + 1;
    if (s->repeats > EB_SDO_REPEATS_MAX) {
        abort_with(s, EB_NO_ANSWER, SDO_E_SEQUENCE);
        return;
    }
    s->last_ack = acknowledged;
    s->last_size = size;
    s->block_size = size;
    s->done_bytes += (uint64_t)acknowledged * EB_SDO_SEGMENT_BYTES;
    if (s->done_bytes >= s->total_bytes) {
        s->done_bytes = s->total_bytes;
        end_blocks(s);
    } else {
        next_block(s);
    }
}

static void put_segment(struct eb_sdo *s)
{
    if (!fetch(s, EB_SDO_SEGMENT_BYTES))
        return;
    s->ended = s->done_bytes + s->buffered == s->total_bytes;
    s->out[0] = (uint8_t)((s->toggle ? SDO_TOGGLE : 0) | (EB_SDO_SEGMENT_BYTES - s->buffered) << 1 |
                          (s->ended ? SDO_LAST : 0));
    memcpy(s->out + 1, s->buffer, EB_SDO_SEGMENT_BYTES);
    s->has_out = true;
    s->phase = DOWN_SEGMENT;
}

static void receive_write(struct eb_sdo *s, const uint8_t *d, bool mine)
{
    uint8_t command = d[0];
    if (s->phase == DOWN && command == SDO_DOWN_DONE && mine) {
        if (s->bytes != NULL && s->total_bytes <= 4) {
            s->done_bytes = s->total_bytes;
            finish(s);
        } else {
            put_segment(s);
        }
    } else if (s->phase == DOWN_SEGMENT && (command & 0xEF) == SDO_SEGMENT_DONE) {
        if (((command & SDO_TOGGLE) != 0) != s->toggle)
            return; /* the answer before, once more */
        s->toggle = !s->toggle;
        s->done_bytes += s->buffered;
        if (s->ended)
            finish(s);
        else
            put_segment(s);
    } else if (s->phase == BLOCK_DOWN && (command & 0xFB) == SDO_BLOCK_DOWN_DONE && mine) {
        if (d[4] == 0 || d[4] > EB_SDO_BLOCK_MAX) {
            abort_with(s, EB_GARBAGE, SDO_E_BLOCK_SIZE);
            return;
        }
        s->crc_used = (command & SDO_BLOCK_CRC) != 0;
        s->block_size = d[4];
        next_block(s);
    } else if (s->phase == BLOCK_DATA && command == SDO_BLOCK_ACK) {
        take_acknowledgement(s, d[1], d[2]);
    } else if (s->phase == BLOCK_END && command == SDO_BLOCK_ENDED) {
        finish(s);
    }
}

/* --- reading ------------------------------------------------------------------------------------- */

static bool reading(const struct eb_sdo *s)
{
    return s->to != NULL || s->compared != NULL;
}

/* Whether these bytes, which follow what was read so far, are the source's. */
static bool compares(struct eb_sdo *s, const uint8_t *bytes, size_t size)
{
    uint8_t expected[EB_SDO_SEGMENT_BYTES];
    uint64_t left = s->size < s->compared->size_bytes ? s->compared->size_bytes - s->size : 0;
    size_t n = left < size ? (size_t)left : size;
    if (n > 0 && s->compared->read(s->compared->self, s->size, expected, n) != EB_OK) {
        abort_with(s, EB_IO, SDO_E_GENERAL);
        return false;
    }
    if (n > 0 && memcmp(expected, bytes, n) != 0) {
        abort_with(s, EB_UNCONFIRMED, SDO_E_GENERAL);
        say(s, "what the device holds is not what was sent");
        return false;
    }
    return true;
}

static bool store(struct eb_sdo *s, const uint8_t *bytes, size_t size)
{
    s->crc = eb_sdo_crc(s->crc, bytes, size);
    if (s->compared != NULL) {
        if (!compares(s, bytes, size))
            return false;
        s->size += size;
        return true;
    }
    if (s->size + size > s->cap) {
        abort_with(s, EB_TOO_LARGE, SDO_E_MEMORY);
        return false;
    }
    memcpy(s->to + s->size, bytes, size);
    s->size += size;
    return true;
}

static void end_read(struct eb_sdo *s)
{
    if (s->compared != NULL && s->size < s->compared->size_bytes) {
        abort_with(s, EB_UNCONFIRMED, SDO_E_GENERAL);
        say(s, "the device holds less than was sent");
        return;
    }
    finish(s);
}

static void ask_segment(struct eb_sdo *s)
{
    s->phase = UP_SEGMENT;
    put_plain(s, SDO_UP_SEGMENT | (s->toggle ? SDO_TOGGLE : 0), 0, 0);
}

static void take_upload(struct eb_sdo *s, const uint8_t *d)
{
    if ((d[0] & SDO_EXPEDITED) != 0) {
        size_t size = (d[0] & SDO_SIZE) != 0 ? 4U - (d[0] >> 2 & 3U) : 4;
        if (store(s, d + 4, size))
            end_read(s);
    } else if ((d[0] & SDO_SIZE) != 0 && ebi_get32le(d + 4) > s->cap) {
        abort_with(s, EB_TOO_LARGE, SDO_E_MEMORY);
    } else {
        s->toggle = false;
        ask_segment(s);
    }
}

static void acknowledge_block(struct eb_sdo *s)
{
    put_plain(s, SDO_BLOCK_ACK, s->sequence, EB_SDO_BLOCK_MAX);
    s->sequence = 0;
    if (s->ended)
        s->phase = BLOCK_UP_END;
}

/* The last seven bytes are kept apart until it is known how many of them count. */
static void take_block_segment(struct eb_sdo *s, const uint8_t *d)
{
    unsigned number = d[0] & 0x7FU;
    bool last = (d[0] & SDO_BLOCK_LAST) != 0;
    if (number == s->sequence + 1U) {
        if (s->buffered > 0 && !store(s, s->buffer, s->buffered))
            return;
        memcpy(s->buffer, d + 1, EB_SDO_SEGMENT_BYTES);
        s->buffered = EB_SDO_SEGMENT_BYTES;
        s->sequence++;
        s->ended = last;
    }
    if (number == EB_SDO_BLOCK_MAX || s->ended)
        acknowledge_block(s);
}

static void take_block_end(struct eb_sdo *s, const uint8_t *d)
{
    size_t unused = d[0] >> 2 & 7U;
    if (unused > s->buffered || !store(s, s->buffer, s->buffered - unused))
        return;
    if (s->crc_used && s->crc != ebi_get16le(d + 1)) {
        abort_with(s, EB_GARBAGE, SDO_E_CRC);
        return;
    }
    end_read(s);
    if (s->state == EB_SDO_DONE)
        put_plain(s, SDO_BLOCK_ENDED, 0, 0);
}

static void receive_read(struct eb_sdo *s, const uint8_t *d, bool mine)
{
    uint8_t command = d[0];
    if ((s->phase == UP || s->phase == BLOCK_UP) && (command & 0xF0) == SDO_UP && mine) {
        take_upload(s, d);
    } else if (s->phase == UP_SEGMENT && (command & 0xE0) == 0) {
        if (((command & SDO_TOGGLE) != 0) != s->toggle)
            return;
        if (!store(s, d + 1, EB_SDO_SEGMENT_BYTES - (command >> 1 & 7U)))
            return;
        s->toggle = !s->toggle;
        if ((command & SDO_LAST) != 0)
            end_read(s);
        else
            ask_segment(s);
    } else if (s->phase == BLOCK_UP && (command & 0xF9) == SDO_BLOCK_UP_DONE && mine) {
        s->crc_used = (command & SDO_BLOCK_CRC) != 0;
        s->phase = BLOCK_UP_DATA;
        s->sequence = 0;
        s->buffered = 0;
        s->crc = 0;
        s->size = 0;
        put_plain(s, SDO_BLOCK_UP_START, 0, 0);
    } else if (s->phase == BLOCK_UP_DATA && (command & 0x7F) != 0) {
        take_block_segment(s, d);
    } else if (s->phase == BLOCK_UP_END && (command & 0xE3) == SDO_BLOCK_END) {
        take_block_end(s, d);
    }
}

/* ------------------------------------------------------------------------------------------------- */

/* What the node can do nothing about stays as it is: a missing object, a wrong length, a value out of range.
 * What was damaged on the way is sent again, and a state, or a fault of the hardware, may pass. */
static enum eb_retry retry_of(uint32_t code)
{
    if (code == SDO_E_MEMORY)
        return EB_RETRY_NEVER;
    switch (code >> 24) {
    case 0x05:
        return EB_RETRY_AT_ONCE;
    case 0x06:
        return code == SDO_E_HARDWARE ? EB_RETRY_LATER : EB_RETRY_NEVER;
    default:
        return EB_RETRY_LATER;
    }
}

/* The node gives up.  One that only does not know blocks is asked in the simpler way. */
static void take_abort(struct eb_sdo *s, uint32_t code)
{
    if (code == SDO_E_COMMAND && s->phase == BLOCK_DOWN) {
        begin_segmented(s);
    } else if (code == SDO_E_COMMAND && s->phase == BLOCK_UP) {
        s->phase = UP;
        put_object(s, SDO_UP, 0);
    } else {
        fail(s, EB_PEER_ERROR, code, eb_sdo_abort_text(code));
        s->error.retry = retry_of(code);
    }
}

void eb_sdo_receive(struct eb_sdo *s, const struct eb_can_frame *f, uint64_t now_us)
{
    const uint8_t *d = f->data;
    if (s->state != EB_SDO_BUSY || f->flags != 0 || f->size != 8 ||
        f->id != (uint32_t)CO_SDO_ANSWER + s->node)
        return;
    bool mine = ebi_get16le(d + 1) == s->index && d[3] == s->sub;
    bool segments = s->phase == BLOCK_UP_DATA;
    s->until_us = now_us + s->patience_us;
    if (d[0] == SDO_ABORT && (mine || segments)) {
        take_abort(s, ebi_get32le(d + 4));
    } else if (reading(s)) {
        receive_read(s, d, mine);
    } else {
        receive_write(s, d, mine);
    }
}

size_t eb_sdo_give(struct eb_sdo *s, struct eb_can_frame *frames, size_t cap)
{
    const struct eb_can_frame empty = {.id = (uint32_t)CO_SDO_REQUEST + s->node, .size = 8};
    size_t given = 0;
    if (s->has_out && cap > 0) {
        frames[0] = empty;
        memcpy(frames[0].data, s->out, 8);
        return 1;
    }
    for (uint8_t i = s->sequence; s->phase == BLOCK_DATA && i < s->count && given < cap; i++) {
        struct eb_can_frame *f = &frames[given++];
        bool last = s->done_bytes + (uint64_t)(i + 1) * EB_SDO_SEGMENT_BYTES >= s->total_bytes;
        *f = empty;
        f->data[0] = (uint8_t)((i + 1) | (last ? SDO_BLOCK_LAST : 0));
        memcpy(f->data + 1, s->buffer + (size_t)i * EB_SDO_SEGMENT_BYTES, EB_SDO_SEGMENT_BYTES);
    }
    return given;
}

void eb_sdo_taken(struct eb_sdo *s, size_t count, uint64_t now_us)
{
    if (count == 0)
        return;
    if (s->has_out)
        s->has_out = false;
    else
        s->sequence = (uint8_t)(s->sequence + count);
    if (s->state == EB_SDO_BUSY && !s->repeating)
        s->until_us = now_us + s->patience_us;
    if (s->repeat_us > 0)
        s->again_us = now_us + s->repeat_us;
    s->repeating = false;
}

void eb_sdo_repeat(struct eb_sdo *s, uint64_t every_us, uint64_t now_us)
{
    s->repeat_us = every_us;
    s->again_us = now_us + every_us;
}

/* The first request of a read may be said again: it only begins anew. */
static bool may_repeat(const struct eb_sdo *s)
{
    return s->repeat_us > 0 && !s->has_out && (s->phase == UP || s->phase == BLOCK_UP);
}

void eb_sdo_tick(struct eb_sdo *s, uint64_t now_us)
{
    if (s->state == EB_SDO_BUSY && may_repeat(s) && now_us >= s->again_us && now_us < s->until_us) {
        put_object(s, s->phase == BLOCK_UP ? SDO_BLOCK_UP | SDO_BLOCK_CRC : SDO_UP,
                   s->phase == BLOCK_UP ? s->block_size : 0);
        s->repeating = true;
        return;
    }
    if (s->state != EB_SDO_BUSY || now_us < s->until_us)
        return;
    if (s->phase == BLOCK_UP_DATA && s->repeats++ < EB_SDO_REPEATS_MAX) {
        s->until_us = now_us + s->patience_us;
        acknowledge_block(s); /* what is there of the block */
    } else {
        abort_with(s, EB_NO_ANSWER, SDO_E_TIMEOUT);
    }
}

uint64_t eb_sdo_deadline_us(const struct eb_sdo *s)
{
    if (s->state != EB_SDO_BUSY)
        return EB_NEVER;
    return may_repeat(s) && s->again_us < s->until_us ? s->again_us : s->until_us;
}

void eb_sdo_stop(struct eb_sdo *s)
{
    if (s->state == EB_SDO_BUSY)
        abort_with(s, EB_STOPPED, SDO_E_GENERAL);
}
