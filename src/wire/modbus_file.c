#include "einbau/modbus_file.h"

#include "base/bytes.h"
#include "einbau/port.h"
#include "einbau/text.h"
#include "wire/modbus_wire.h"

#include <string.h>

enum {
    READ_FILE = 0x14,
    WRITE_FILE = 0x15,
    REFERENCE = 6,      /* of every request, section 6.15 */
    HEAD_BYTES = 9,     /* function, length, reference, file, record, number of records */
    SUB_HEAD_BYTES = 7, /* those that `length` counts */
    PLACE_BYTES = 5,    /* of registers: function, address, number of registers */
    X_ACKNOWLEDGE = 5,  /* accepted, and takes its time */
    X_BUSY = 6,
    PAUSE_LEAST_US = 5000,
    PAUSE_MOST_US = 200000,
    PAD = 0xFF /* behind the last byte of an image of an odd number: as erased flash reads */
};

static void fail(struct eb_modbus_file *f, enum eb_status status, const char *text)
{
    f->state = EB_MODBUS_FAILED;
    bool file = f->config.place == EB_MODBUS_IN_FILE;
    f->error = (struct eb_error){.status = status,
                                 .where = f->config.source == NULL
                                              ? (file ? "reading file records" : "reading registers")
                                          : file ? "writing file records"
                                                 : "writing registers"};
    eb_text_copy(f->error.text, sizeof f->error.text, text);
}

static uint64_t whole_bytes(const struct eb_modbus_file *f)
{
    return f->config.source != NULL ? f->config.source->size_bytes : 2 * (uint64_t)f->config.words;
}

/* Where the next words are; function, place and number of a request for them.  Gives the bytes of its PDU
 * without data. */
static size_t put_head(struct eb_modbus_file *f, uint8_t *pdu, uint64_t at, uint16_t count)
{
    bool writes = f->config.source != NULL;
    if (f->config.place == EB_MODBUS_IN_REGISTERS) {
        pdu[0] = writes ? MODBUS_WRITE_REGISTERS : MODBUS_READ_REGISTERS;
        ebi_put16(pdu + 1, (uint16_t)(f->config.file + at));
        ebi_put16(pdu + 3, count);
        pdu[PLACE_BYTES] = (uint8_t)(2 * count);
        return writes ? PLACE_BYTES + 1 : PLACE_BYTES;
    }
    pdu[0] = writes ? WRITE_FILE : READ_FILE;
    pdu[1] = (uint8_t)(SUB_HEAD_BYTES + (writes ? 2 * count : 0));
    pdu[2] = REFERENCE;
    ebi_put16(pdu + 3, (uint16_t)(f->config.file + at / EB_MODBUS_FILE_RECORDS));
    ebi_put16(pdu + 5, (uint16_t)(at % EB_MODBUS_FILE_RECORDS));
    ebi_put16(pdu + 7, count);
    return HEAD_BYTES;
}

/* The request for what comes behind the acknowledged bytes. */
static void ask(struct eb_modbus_file *f)
{
    const struct eb_source *source = f->config.source;
    uint64_t at = f->acked_bytes / 2;
    uint16_t record = (uint16_t)(at % EB_MODBUS_FILE_RECORDS);
    uint64_t left = (whole_bytes(f) - f->acked_bytes + 1) / 2;
    uint16_t count = f->group;
    count = left < count ? (uint16_t)left : count;
    if (f->config.place == EB_MODBUS_IN_FILE && count > EB_MODBUS_FILE_RECORDS - record)
        count = (uint16_t)(EB_MODBUS_FILE_RECORDS - record);
    uint8_t *pdu = f->tx + MBAP_BYTES;
    size_t head = put_head(f, pdu, at, count);
    size_t bytes = source != NULL ? 2 * (size_t)count : 0;
    size_t real = source != NULL && source->size_bytes - f->acked_bytes < bytes ? bytes - 1 : bytes;
    if (source != NULL && source->read(source->self, f->acked_bytes, pdu + head, real) != EB_OK) {
        fail(f, EB_IO, "what is to be written could not be read");
        return;
    }
    if (real < bytes)
        pdu[head + real] = PAD;
    f->config.tid++;
    ebi_put16(f->tx, f->config.tid);
    ebi_put16(f->tx + 2, 0);
    ebi_put16(f->tx + 4, (uint16_t)(1 + head + bytes));
    f->tx[6] = f->config.unit;
    f->count = count;
    f->tx_size = MBAP_BYTES + head + bytes;
    f->tx_taken = f->rx_size = 0;
    f->waiting = false;
}

/* The next request has all of its patience. */
static void go_on(struct eb_modbus_file *f)
{
    f->patience_end_us = f->now_us + f->config.patience_us;
    f->pause_us = PAUSE_LEAST_US;
    if (f->acked_bytes >= whole_bytes(f))
        f->state = EB_MODBUS_DONE;
    else if (f->stopping)
        fail(f, EB_STOPPED, "");
    else
        ask(f);
}

enum eb_status eb_modbus_file_begin(struct eb_modbus_file *f, const struct eb_modbus_file_config *config,
                                    uint64_t now_us)
{
    memset(f, 0, sizeof *f);
    f->config = *config;
    f->group = config->group;
    if (config->source == NULL && f->group > EB_MODBUS_FILE_READ_MAX)
        f->group = EB_MODBUS_FILE_READ_MAX;
    f->now_us = now_us;
    f->state = EB_MODBUS_ASKING;
    bool file = config->place == EB_MODBUS_IN_FILE;
    if ((file && config->file == 0) || config->group == 0 || config->group > EB_MODBUS_FILE_GROUP_MAX ||
        (config->source == NULL && config->take == NULL)) {
        fail(f, EB_BAD_CALL, "");
        return EB_BAD_CALL;
    }
    if ((whole_bytes(f) + 1) / 2 >
        (uint64_t)(file ? EB_MODBUS_FILE_RECORDS : 1) * (0x10000U - config->file)) {
        fail(f, EB_TOO_LARGE,
             file ? "it has more bytes than files behind this number"
                  : "it has more bytes than registers behind this number");
        return EB_OK;
    }
    go_on(f);
    return EB_OK;
}

void eb_modbus_file_connected(struct eb_modbus_file *f)
{
    f->connected_anew = f->connected;
    f->connected = true;
    f->tx_taken = f->rx_size = 0;
}

void eb_modbus_file_tick(struct eb_modbus_file *f, uint64_t now_us)
{
    f->now_us = now_us;
    if (f->state != EB_MODBUS_ASKING)
        return;
    if (f->stopping && f->waiting)
        fail(f, EB_STOPPED, "");
    else if (now_us >= f->patience_end_us && f->error.status == EB_PEER_ERROR)
        f->state = EB_MODBUS_FAILED; /* busy all the time */
    else if (now_us >= f->patience_end_us)
        fail(f, EB_NO_ANSWER, "");
    else if (f->waiting && now_us >= f->again_us)
        ask(f);
}

size_t eb_modbus_file_give(const struct eb_modbus_file *f, const uint8_t **bytes)
{
    *bytes = f->tx + f->tx_taken;
    return f->state == EB_MODBUS_ASKING && !f->waiting ? f->tx_size - f->tx_taken : 0;
}

void eb_modbus_file_taken(struct eb_modbus_file *f, size_t count)
{
    f->tx_taken += count;
    f->all_sent = f->tx_taken == f->tx_size && f->acked_bytes + 2 * (uint64_t)f->count >= whole_bytes(f);
}

static void tell_exception(struct eb_modbus_file *f, uint8_t code)
{
    fail(f, EB_PEER_ERROR, eb_modbus_exception_text(code));
    f->error.code = EB_CODE_MODBUS;
    f->error.number = code;
    f->error.retry = code >= MODBUS_X_FUNCTION && code <= MODBUS_X_VALUE ? EB_RETRY_NEVER : EB_RETRY_LATER;
}

/* A busy device is asked again within its patience.  One that refuses a value may only take fewer records at
 * once: the standard leaves it its limit, and no way to say it. */
static void take_exception(struct eb_modbus_file *f, uint8_t code)
{
    tell_exception(f, code);
    if (code == X_BUSY || code == X_ACKNOWLEDGE) {
        f->state = EB_MODBUS_ASKING;
        f->waiting = true;
        f->again_us = f->now_us + f->pause_us;
        f->pause_us = 2 * f->pause_us < PAUSE_MOST_US ? 2 * f->pause_us : PAUSE_MOST_US;
    } else if (code == MODBUS_X_VALUE && f->count > 1) {
        f->state = EB_MODBUS_ASKING;
        f->group = (uint16_t)(f->count / 2);
        ask(f);
    } else if (code == MODBUS_X_ADDRESS && f->connected_anew && f->acked_bytes > 0) {
        /* It took the records before: it has restarted since, and knows nothing of them. */
        f->error.retry = EB_RETRY_AT_ONCE;
    }
}

/* Where the words of an answer begin; NULL: it is not the one that was asked for. */
static const uint8_t *words_of(const struct eb_modbus_file *f, const uint8_t *pdu, size_t size)
{
    size_t bytes = 2 * (size_t)f->count;
    if (f->config.place == EB_MODBUS_IN_REGISTERS)
        return size == 2 + bytes && pdu[0] == MODBUS_READ_REGISTERS && pdu[1] == bytes ? pdu + 2 : NULL;
    return size == 4 + bytes && pdu[0] == READ_FILE && pdu[1] == 2 + bytes && pdu[2] == 1 + bytes &&
                   pdu[3] == REFERENCE
               ? pdu + 4
               : NULL;
}

/* Whether it was written: file records echo the request, registers its place. */
static bool echoes(const struct eb_modbus_file *f, const uint8_t *pdu, size_t size)
{
    size_t asked = f->config.place == EB_MODBUS_IN_FILE ? f->tx_size - MBAP_BYTES : PLACE_BYTES;
    return size == asked && memcmp(pdu, f->tx + MBAP_BYTES, size) == 0;
}

static void take_answer(struct eb_modbus_file *f, size_t size)
{
    const uint8_t *pdu = f->rx + MBAP_BYTES;
    const uint8_t *words = f->config.source == NULL ? words_of(f, pdu, size) : NULL;
    enum eb_status taken = EB_OK;
    if (size == 2 && pdu[0] == (f->tx[MBAP_BYTES] | MODBUS_EXCEPTION)) {
        take_exception(f, pdu[1]);
        return;
    }
    if (words == NULL && (f->config.source == NULL || !echoes(f, pdu, size))) {
        fail(f, EB_GARBAGE, "answer that is not the request's");
        return;
    }
    if (words != NULL)
        taken = f->config.take(f->config.take_self, words, 2 * (size_t)f->count);
    if (taken != EB_OK) {
        fail(f, taken, "what was read cannot be kept");
        return;
    }
    uint64_t whole = whole_bytes(f);
    f->acked_bytes += 2 * (uint64_t)f->count;
    f->acked_bytes = f->acked_bytes < whole ? f->acked_bytes : whole;
    memset(&f->error, 0, sizeof f->error);
    go_on(f);
}

void eb_modbus_file_receive(struct eb_modbus_file *f, const uint8_t *bytes, size_t size)
{
    const struct ebi_mbap_rx rx = {f->rx, &f->rx_size};
    while (size > 0 && f->state == EB_MODBUS_ASKING) {
        size_t pdu_size;
        enum ebi_mbap taken = ebi_mbap_take(&rx, &bytes, &size, &pdu_size);
        if (taken == EBI_MBAP_NONE)
            fail(f, EB_GARBAGE, "not a Modbus/TCP header");
        else if (taken == EBI_MBAP_WHOLE && f->tx_taken == f->tx_size && !f->waiting &&
                 ebi_get16(f->rx) == f->config.tid && f->rx[6] == f->config.unit)
            take_answer(f, pdu_size);
    }
}

void eb_modbus_file_stop(struct eb_modbus_file *f)
{
    f->stopping = true;
}

uint64_t eb_modbus_file_deadline_us(const struct eb_modbus_file *f)
{
    if (f->state != EB_MODBUS_ASKING)
        return EB_NEVER;
    if (f->waiting && f->stopping)
        return 0;
    return f->waiting && f->again_us < f->patience_end_us ? f->again_us : f->patience_end_us;
}
