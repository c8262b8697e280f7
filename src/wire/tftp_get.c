#include "einbau/tftp_get.h"
#include "base/bytes.h"
#include "einbau/text.h"
#include "wire/tftp_wire.h"

#include <string.h>

enum {
    INTERVAL_FIRST_US = 1000000,
    INTERVAL_MAX_US = 8000000,
    TRIES_WITH_OPTIONS = 3,
    PIECE_BYTES = 256 /* compared at a time */
};

/* What is owed. */
enum { SAY_REQUEST, SAY_ACK, SAY_ERROR };

static void owe(struct eb_tftp_get *g, uint8_t what)
{
    g->owed = true;
    g->said = what;
}

static void fail(struct eb_tftp_get *g, enum eb_status status, uint32_t number, const char *text)
{
    g->owed = false;
    if (g->known && status != EB_PEER_ERROR)
        owe(g, SAY_ERROR);
    g->error = (struct eb_error){
        .status = status, .code = EB_CODE_TFTP, .number = number, .where = "reading back by TFTP"};
    eb_text_copy(g->error.text, sizeof g->error.text, text);
    g->state = EB_TFTP_GET_FAILED;
    g->deadline_us = EB_NEVER;
}

void eb_tftp_get_init(struct eb_tftp_get *g, const struct eb_tftp_get_config *config, uint64_t now_us)
{
    memset(g, 0, sizeof *g);
    g->config = *config;
    g->peer = config->server;
    g->blksize = EB_TFTP_BLKSIZE_DEFAULT;
    g->windowsize = 1;
    g->interval_us = INTERVAL_FIRST_US;
    g->progress_us = now_us;
    g->deadline_us = now_us + g->interval_us;
    g->plain = config->blksize == EB_TFTP_BLKSIZE_DEFAULT && config->windowsize <= 1;
    owe(g, SAY_REQUEST);
}

/* --- what goes out ------------------------------------------------------------------------------- */

/* The number that block `block` (1, 2, ...) has on the wire. */
static uint16_t wire_number(const struct eb_tftp_get *g, uint64_t block)
{
    if (g->config.rollover_to_one)
        return block == 0 ? 0 : (uint16_t)((block - 1) % 65535 + 1);
    return (uint16_t)block;
}

static size_t build_request(struct eb_tftp_get *g)
{
    size_t at = 2;
    ebi_put16(g->head, TFTP_RRQ);
    at += ebi_tftp_field(g->head, sizeof g->head, at, g->config.file_name);
    at += ebi_tftp_field(g->head, sizeof g->head, at, "octet");
    if (!g->plain && g->config.blksize != EB_TFTP_BLKSIZE_DEFAULT)
        at += ebi_tftp_option(g->head, sizeof g->head, at, "blksize", g->config.blksize);
    if (!g->plain && g->config.windowsize > 1)
        at += ebi_tftp_option(g->head, sizeof g->head, at, "windowsize", g->config.windowsize);
    return at;
}

bool eb_tftp_get_give(struct eb_tftp_get *g, struct eb_datagram *d)
{
    if (!g->owed)
        return false;
    *d = (struct eb_datagram){.peer = g->peer, .bytes = g->head};
    if (g->said == SAY_REQUEST) {
        d->size_bytes = build_request(g);
    } else if (g->said == SAY_ACK) {
        ebi_put16(g->head, TFTP_ACK);
        ebi_put16(g->head + 2, wire_number(g, g->blocks));
        d->size_bytes = TFTP_HEAD_BYTES;
    } else {
        ebi_put16(g->head, TFTP_ERROR);
        ebi_put16(g->head + 2, TFTP_E_UNDEFINED);
        d->size_bytes = TFTP_HEAD_BYTES + ebi_tftp_field(g->head, sizeof g->head, TFTP_HEAD_BYTES,
                                                         g->error.status == EB_STOPPED ? "stopped by the user"
                                                                                       : "reading given up");
    }
    return true;
}

void eb_tftp_get_taken(struct eb_tftp_get *g, uint64_t now_us)
{
    g->owed = false;
    if (g->state == EB_TFTP_GET_ASKING || g->state == EB_TFTP_GET_RECEIVING)
        g->deadline_us = now_us + g->interval_us;
}

/* --- what comes in ------------------------------------------------------------------------------- */

enum eb_status eb_tftp_get_compare(const void *self, uint64_t offset, const uint8_t *bytes, size_t size,
                                   bool last, const char **text)
{
    const struct eb_source *source = self;
    uint8_t expected[PIECE_BYTES];
    for (size_t at = 0; at < size && offset + at < source->size_bytes;) {
        uint64_t left = source->size_bytes - offset - at;
        size_t n = size - at < sizeof expected ? size - at : sizeof expected;
        n = left < n ? (size_t)left : n;
        *text = "the image cannot be read";
        if (source->read(source->self, offset + at, expected, n) != EB_OK)
            return EB_IO;
        *text = "the device holds other bytes";
        if (memcmp(expected, bytes + at, n) != 0)
            return EB_UNCONFIRMED;
        at += n;
    }
    *text = "the device holds less";
    return last && offset + size < source->size_bytes ? EB_UNCONFIRMED : EB_OK;
}

static void progress(struct eb_tftp_get *g, uint64_t now_us)
{
    g->progress_us = now_us;
    g->interval_us = INTERVAL_FIRST_US;
    g->tries = 0;
    g->deadline_us = now_us + g->interval_us;
}

static void take_data(struct eb_tftp_get *g, uint16_t number, const uint8_t *data, size_t size,
                      uint64_t now_us)
{
    uint64_t offset = g->blocks * g->blksize;
    if (number != wire_number(g, g->blocks + 1)) {
        if (!g->gap_told) /* RFC 7440 section 4: the last one in order, once for a gap */
            owe(g, SAY_ACK);
        g->gap_told = true;
        return;
    }
    if (size > g->blksize) {
        fail(g, EB_GARBAGE, 0, "a block longer than agreed");
        return;
    }
    const char *text = "";
    enum eb_status taken = g->config.take(g->config.self, offset, data, size, size < g->blksize, &text);
    if (taken != EB_OK) {
        fail(g, taken, 0, text);
        return;
    }
    progress(g, now_us);
    g->blocks++;
    g->gap_told = false;
    g->done_bytes = offset + size;
    if (size < g->blksize) {
        owe(g, SAY_ACK);
        g->state = EB_TFTP_GET_DONE;
        g->deadline_us = EB_NEVER;
    } else if (++g->in_window >= g->windowsize) {
        g->in_window = 0;
        owe(g, SAY_ACK);
    }
}

/* False where the device granted what was not asked for. */
static bool take_options(struct eb_tftp_get *g, const uint8_t *bytes, size_t size)
{
    size_t at = 2;
    if (size < 3 || bytes[size - 1] != '\0')
        return false;
    while (at < size) {
        const char *name = (const char *)bytes + at;
        at += strlen(name) + 1;
        const char *value = at < size ? (const char *)bytes + at : "";
        uint64_t number;
        at += strlen(value) + 1;
        if (!eb_text_number(value, strlen(value), &number))
            return false;
        if (ebi_tftp_is(name, "blksize") && number >= EB_TFTP_BLKSIZE_MIN && number <= g->config.blksize)
            g->blksize = (uint16_t)number;
        else if (ebi_tftp_is(name, "windowsize") && number >= 1 && number <= g->config.windowsize)
            g->windowsize = (uint16_t)number;
        else if (!ebi_tftp_is(name, "tsize"))
            return false;
    }
    return true;
}

static void take_error(struct eb_tftp_get *g, const uint8_t *bytes, size_t size)
{
    uint16_t code = ebi_get16(bytes + 2);
    if (g->state == EB_TFTP_GET_ASKING && !g->plain &&
        (code == TFTP_E_OPTION || code == TFTP_E_UNDEFINED || code == TFTP_E_ILLEGAL)) {
        g->plain = true;
        owe(g, SAY_REQUEST);
        return;
    }
    fail(g, EB_PEER_ERROR, code, "");
    g->error.retry = EB_RETRY_NEVER; /* the profile asks for what the device does not give */
    eb_text_copy_foreign(g->error.text, sizeof g->error.text, bytes + TFTP_HEAD_BYTES,
                         size - TFTP_HEAD_BYTES);
}

void eb_tftp_get_receive(struct eb_tftp_get *g, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size, uint64_t now_us)
{
    bool asking = g->state == EB_TFTP_GET_ASKING;
    bool known = g->known ? eb_endpoint_same(from, &g->peer)
                          : memcmp(from->ip, g->config.server.ip, sizeof from->ip) == 0;
    uint16_t opcode = size >= TFTP_HEAD_BYTES ? ebi_get16(bytes) : 0;
    if (!known || (!asking && g->state != EB_TFTP_GET_RECEIVING))
        return;
    if (opcode == TFTP_ERROR) {
        take_error(g, bytes, size);
        return;
    }
    if (asking && (opcode == TFTP_OACK || (opcode == TFTP_DATA && ebi_get16(bytes + 2) == 1))) {
        g->peer = *from;
        g->known = true;
        g->state = EB_TFTP_GET_RECEIVING;
        progress(g, now_us);
        if (opcode == TFTP_OACK && !take_options(g, bytes, size)) {
            fail(g, EB_GARBAGE, 0, "it granted an option not asked for");
            g->error.retry = EB_RETRY_NEVER;
            return;
        }
        if (opcode == TFTP_OACK)
            owe(g, SAY_ACK);
    }
    if (g->state == EB_TFTP_GET_RECEIVING && opcode == TFTP_DATA)
        take_data(g, ebi_get16(bytes + 2), bytes + TFTP_HEAD_BYTES, size - TFTP_HEAD_BYTES, now_us);
}

void eb_tftp_get_tick(struct eb_tftp_get *g, uint64_t now_us)
{
    if (now_us < g->deadline_us || (g->state != EB_TFTP_GET_ASKING && g->state != EB_TFTP_GET_RECEIVING))
        return;
    if (now_us - g->progress_us >= g->config.patience_us) {
        fail(g, EB_NO_ANSWER, 0, "");
        return;
    }
    g->tries++;
    if (g->state == EB_TFTP_GET_ASKING) {
        g->plain = g->plain || g->tries >= TRIES_WITH_OPTIONS;
        owe(g, SAY_REQUEST);
    } else {
        g->gap_told = false;
        g->in_window = 0;
        owe(g, SAY_ACK);
    }
    g->interval_us = 2 * g->interval_us < INTERVAL_MAX_US ? 2 * g->interval_us : INTERVAL_MAX_US;
    g->deadline_us = now_us + g->interval_us;
}

uint64_t eb_tftp_get_deadline_us(const struct eb_tftp_get *g)
{
    return g->owed ? 0 : g->deadline_us;
}

void eb_tftp_get_stop(struct eb_tftp_get *g)
{
    if (g->state == EB_TFTP_GET_ASKING || g->state == EB_TFTP_GET_RECEIVING)
        fail(g, EB_STOPPED, 0, "");
}
