#include "einbau/tftp.h"
#include "einbau/text.h"
#include "base/bytes.h"
#include "wire/tftp_wire.h"

#include <string.h>

/* How much goes out at once, and when it is repeated.
 *
 * A flight is what goes out before an acknowledgement is waited for: at most the window that was agreed.  Of
 * a longer window less is used where more would be lost.  Then one block out of order ends the flight: the
 * device acknowledges the last one in order at once (RFC 7440 section 4).
 *
 * A gap has one of two reasons.  Loss on the way strikes anywhere: flights are as long as is best for the
 * length of runs without loss (L blocks) and of the round trip (r blocks).  A flight of U brings
 * L (1 - exp(-U/L)) blocks in the time of U + r; that is most where exp(x) = 1 + x + r/L, with x = U/L.  A
 * device that cannot take in more loses always at the same place: flights end before it; one that can take in
 * very little gets its blocks with pauses in between.
 *
 * A switch between a fast and a slow wire keeps little.  So only a part of a flight goes out at once, and the
 * rest as fast as the way is; see measure_way.
 *
 * Only flights of which nothing was sent twice measure the round trip.  Silence is answered by one block, the
 * last one of the flight: whatever the device lacks, it says so.  Only then more is repeated, little at
 * first, for it may just be busy. */
enum {
    INTERVAL_FIRST_US = 1000000, /* as long as no other timeout was agreed, and nothing was measured */
    INTERVAL_LEAST_US = 5000,
    INTERVAL_LAST_US =
        500000, /* from the second repetition of the last block on: a device may check the image */
    EARLY_LEAST_US = 20000,    /* before anything was acknowledged, the last block of a flight alone */
    INTERVAL_MAX_US = 8000000, /* while sending; a request may wait as long as patience lasts */
    SAMPLE_MAX_US = 60000000,

    WINDOW_LEAST_BYTES = 96000, /* also as long as no round trip was seen */
    WINDOW_BYTES_PER_US = 4000, /* 32 round trips at 125 bytes a microsecond */

    FIRST_BYTES_PER_US =
        11, /* of the first flight, beside WINDOW_LEAST_BYTES: a switch on the way keeps little */
    AHEAD_BYTES = 90000, /* of a flight go out at once, the rest as fast as the way brought the ones before */
    FLIGHT_TRIPS = 100,  /* round trips that a flight lasts then: waiting for the answer costs 1 % */
    WAY_SLOWEST_NS = 250, /* for each byte.  A slower way is not told from a device that was just erasing */
    WAY_CHANGES =
        64, /* by such a part, with each flight: towards slower, or where it is quicker than known */
    FLIGHT_LEAST = 6,  /* blocks */
    WINDOW_SHORT = 16, /* blocks: less of it is not used for the way's sake */
    FLIGHT_NARROW = 3, /* a device that takes in fewer at once gets them with pauses */
    LOSSY_MOST = 512,  /* blocks of a flight that is repeated as a whole where there were gaps before */
    REPEAT_FIRST = 8,  /* blocks of the second repetition; four times as many in each one after it */
    REPEAT_TRIES = 8,  /* then all */
    WHOLE_TRIES = 3,  /* from the third on no flight is short: the device may be further than it could tell */
    GAPS_MEAN = 32,   /* over so many the mean is taken */
    SAME_ENOUGH = 12, /* gaps in a row at the same place, to tell the one reason from the other */
    CLEAN_ENOUGH = 32, /* flights without a gap, then one that is longer is tried */
    RUN_MAX = 1 << 23, /* the sum of 32 of them in eighths has 32 bits */
    BLOCK_NS_MAX = 1 << 24,
    BLOCKS_MAX = 20000, /* of a run or a round trip: their product has 32 bits */

    /* Pauses for a device that takes in few blocks: each loss doubles them, or nearly so where the last one
     * is long ago, and what goes well takes a little off. */
    PACE_FIRST_US = 40,
    PACE_MAX_US = 2000,
    PACE_EASE = 64,
    PACE_LONG_AGO = 512, /* blocks */
    PACE_BLOCKS = 4,     /* go out together all the same: timers are no finer */

    REFUSED_OACKS = 4,      /* from one transfer id: it is no repetition any more */
    LAST_TRIES = 2,         /* repetitions of the last window before its acknowledgement counts as late */
    TRIES_WITH_OPTIONS = 3, /* requests without any answer before they go out without options */

    /* The first block whose number is not plain counting any more: 0 or 1 follows 65535.  A device that
     * counts in the other way drops it and takes the one behind it in its place, and no later acknowledgement
     * shows that.  So nothing behind it is sent before it is acknowledged by itself. */
    ROLLOVER_BLOCK = 65536,
    ROLLOVER_REFUSALS = 4 /* 65535 acknowledged so often again: the device counts in the other way */
};

/* What eb_tftp_put_give gave last. */
enum { GIVEN_NOTHING, GIVEN_STRANGER, GIVEN_HEAD, GIVEN_DATA, GIVEN_NUDGE };

static void fail(struct eb_tftp_put *put, enum eb_status status, uint32_t number, uint8_t farewell)
{
    put->error.where = put->state == EB_TFTP_ASKING ? "TFTP write request" : "TFTP transfer";
    put->error.status = status;
    put->error.code = EB_CODE_TFTP;
    put->error.number = number;
    put->farewell = farewell;
    /* RFC 1350 section 7: no answer to an ERROR. */
    put->owed = put->state == EB_TFTP_SENDING && status != EB_PEER_ERROR;
    put->state = EB_TFTP_FAILED;
    put->deadline_us = EB_NEVER;
}

static void say_rollover(struct eb_tftp_put *put)
{
    struct eb_text text;
    eb_text_init(&text, put->error.text, sizeof put->error.text);
    eb_text_add(&text, "no block was taken after 65535; try 'rollover-to: ");
    eb_text_add(&text, put->config.rollover_to_one ? "0" : "1");
    eb_text_add(&text, "' in its profile");
}

static void fail_at_rollover(struct eb_tftp_put *put)
{
    fail(put, EB_GARBAGE, 0, TFTP_E_UNDEFINED);
    put->error.retry = EB_RETRY_NEVER;
    say_rollover(put);
}

static uint32_t clipped(uint64_t value, uint32_t most)
{
    return value < most ? (uint32_t)value : most;
}

static uint32_t least(uint32_t a, uint32_t b)
{
    return a < b ? a : b;
}

static uint32_t most(uint32_t a, uint32_t b)
{
    return a > b ? a : b;
}

/* How long to wait for an acknowledgement before the first repetition. */
static uint32_t first_interval(const struct eb_tftp_put *put)
{
    if (put->config.timeout_s > 0)
        return put->config.timeout_s * 1000000U;
    if (put->round_trip_us == 0)
        return put->early_us != 0 ? put->early_us : INTERVAL_FIRST_US;
    uint32_t flight = least(put->flight, put->last - put->acked);
    uint64_t us = put->round_trip_us + most(4 * put->spread_us, put->round_trip_us);
    uint64_t queued_us =
        put->least_us + (uint64_t)flight * put->block_ns / 1000; /* perhaps all is still here */
    return clipped(us > queued_us + INTERVAL_LEAST_US ? us : queued_us + INTERVAL_LEAST_US, INTERVAL_MAX_US);
}

uint16_t eb_tftp_window(uint16_t blksize, uint32_t round_trip_us, uint64_t size_bytes, uint16_t most_blocks)
{
    uint64_t bytes = (uint64_t)round_trip_us * WINDOW_BYTES_PER_US;
    uint64_t blocks = (bytes < WINDOW_LEAST_BYTES ? WINDOW_LEAST_BYTES : bytes) / blksize + 1;
    uint64_t end =
        most_blocks == 0 || most_blocks > EB_TFTP_WINDOWSIZE_MAX ? EB_TFTP_WINDOWSIZE_MAX : most_blocks;
    end = size_bytes / blksize + 1 < end ? size_bytes / blksize + 1 : end;
    return (uint16_t)(blocks < end ? blocks : end);
}

enum eb_status eb_tftp_put_init(struct eb_tftp_put *put, const struct eb_tftp_put_config *config,
                                uint64_t now_us)
{
    memset(put, 0, sizeof *put);
    put->config = *config;
    put->peer = config->server;
    put->blksize = EB_TFTP_BLKSIZE_DEFAULT;
    put->windowsize = 1;
    put->interval_us = first_interval(put);
    put->progress_us = now_us;
    put->deadline_us = now_us + put->interval_us;
    put->owed = true;
    if (config->blksize < EB_TFTP_BLKSIZE_MIN || config->blksize > EB_TFTP_BLKSIZE_MAX ||
        config->windowsize < 1 || config->windowsize > EB_TFTP_WINDOWSIZE_MAX ||
        config->file_name[0] == '\0' || config->source.size_bytes / EB_TFTP_BLKSIZE_MIN > UINT32_MAX / 2 ||
        !eb_text_copy(put->file_name, sizeof put->file_name, config->file_name) ||
        config->buffer_bytes < EB_TFTP_BUFFER_MIN_BYTES ||
        config->buffer_bytes < (size_t)config->blksize + TFTP_HEAD_BYTES + EB_TFTP_BUFFER_HEAD_BYTES) {
        fail(put, EB_BAD_CALL, 0, 0);
        return EB_BAD_CALL;
    }
    put->config.file_name = put->file_name;
    return EB_OK;
}

/* --- what goes out ------------------------------------------------------------------------------- */

static size_t build_request(struct eb_tftp_put *put)
{
    const struct eb_tftp_put_config *c = &put->config;
    uint8_t *to = put->head;
    size_t cap = sizeof put->head;
    size_t at = 2;
    ebi_put16(to, TFTP_WRQ);
    at += ebi_tftp_field(to, cap, at, put->file_name);
    at += ebi_tftp_field(to, cap, at, "octet");
    if (!put->plain && c->blksize != EB_TFTP_BLKSIZE_DEFAULT)
        at += ebi_tftp_option(to, cap, at, "blksize", c->blksize);
    if (!put->plain && c->windowsize > 1)
        at += ebi_tftp_option(to, cap, at, "windowsize", c->windowsize);
    if (!put->plain && c->timeout_s > 0)
        at += ebi_tftp_option(to, cap, at, "timeout", c->timeout_s);
    if (!put->plain && c->tsize)
        at += ebi_tftp_option(to, cap, at, "tsize", c->source.size_bytes);
    return at;
}

static size_t build_error(struct eb_tftp_put *put, uint8_t code)
{
    const char *words = code == TFTP_E_UNKNOWN_TID        ? "unknown transfer id"
                        : code == TFTP_E_OPTION           ? "option not asked for"
                        : put->error.status == EB_STOPPED ? "stopped by the user"
                                                          : "given up";
    struct eb_text text;
    ebi_put16(put->head, TFTP_ERROR);
    ebi_put16(put->head + 2, code);
    eb_text_init(&text, (char *)put->head + TFTP_HEAD_BYTES, sizeof put->head - TFTP_HEAD_BYTES);
    eb_text_add(&text, words);
    return TFTP_HEAD_BYTES + text.size + 1;
}

/* After how many blocks their numbers come again. */
static uint32_t block_period(const struct eb_tftp_put *put)
{
    return put->config.rollover_to_one ? 65535 : 65536;
}

/* The number that block `block` (1, 2, ...) has on the wire. */
static uint16_t wire_number(const struct eb_tftp_put *put, uint32_t block)
{
    if (put->config.rollover_to_one)
        return block == 0 ? 0 : (uint16_t)((block - 1) % 65535 + 1);
    return (uint16_t)block;
}

static uint64_t offset_of(const struct eb_tftp_put *put, uint32_t block)
{
    return (uint64_t)(block - 1) * put->blksize;
}

static size_t block_bytes(const struct eb_tftp_put *put, uint32_t block)
{
    return block < put->last ? put->blksize : (size_t)(put->config.source.size_bytes - offset_of(put, block));
}

static uint32_t window_end(const struct eb_tftp_put *put)
{
    uint32_t end = put->acked + put->windowsize;
    if (put->acked < ROLLOVER_BLOCK && end > ROLLOVER_BLOCK)
        end = ROLLOVER_BLOCK;
    return end < put->last ? end : put->last;
}

/* Where the flight ends: with the window, or earlier where less of it is used and the device can be asked. */
static uint32_t flight_end(const struct eb_tftp_put *put)
{
    uint32_t end = window_end(put);
    bool short_of_it =
        put->acked + put->flight + 2 <= end && !put->mute && put->pace_us == 0 && put->tries < WHOLE_TRIES;
    return put->tries > 0 && put->flight_last < end ? put->flight_last
           : short_of_it                            ? put->acked + put->flight
                                                    : end;
}

/* A flight that ends before its window, or before the rollover, would be acknowledged only when the device's
 * own timer ends.  A block that leaves one out makes it acknowledge the last one in order at once (RFC 7440
 * section 4); at the rollover: whichever way it counts, this one is not the one that it waits for. */
static bool wants_nudge(const struct eb_tftp_put *put)
{
    uint32_t end = flight_end(put);
    return !put->nudged && put->next == end + 1 && end < put->acked + put->windowsize &&
           end + 2 <= put->last && !(put->mute && end != ROLLOVER_BLOCK);
}

static size_t slots(const struct eb_tftp_put *put)
{
    size_t count =
        (put->config.buffer_bytes - EB_TFTP_BUFFER_HEAD_BYTES) / ((size_t)put->blksize + TFTP_HEAD_BYTES);
    return count > 0 ? count : 1;
}

/* The buffer is a ring of slots, each for one block with its head; in front of them stands whose blocks they
 * are, as several transfers may have the same one. */
static uint8_t *slot_of(const struct eb_tftp_put *put, uint32_t block)
{
    return put->config.buffer + EB_TFTP_BUFFER_HEAD_BYTES +
           (size_t)(block % slots(put)) * ((size_t)put->blksize + TFTP_HEAD_BYTES);
}

/* Reads ahead until the blocks from `put->next` to `to` are in the ring, as far as it holds them. */
static bool load(struct eb_tftp_put *put, uint32_t to)
{
    if (put->next < put->loaded_from || put->next > put->loaded_to ||
        memcmp(put->config.buffer, &put, EB_TFTP_BUFFER_HEAD_BYTES) != 0) {
        memcpy(put->config.buffer, &put, EB_TFTP_BUFFER_HEAD_BYTES);
        put->loaded_from = put->next;
        put->loaded_to = put->next;
    }
    if (to > put->next + slots(put) - 1)
        to = put->next + (uint32_t)slots(put) - 1;
    if (to > put->last)
        to = put->last;
    for (; put->loaded_to <= to; put->loaded_to++) {
        uint32_t block = put->loaded_to;
        uint8_t *at = slot_of(put, block);
        size_t size = block_bytes(put, block);
        ebi_put16(at, TFTP_DATA);
        ebi_put16(at + 2, wire_number(put, block));
        if (size > 0 && put->config.source.read(put->config.source.self, offset_of(put, block),
                                                at + TFTP_HEAD_BYTES, size) != EB_OK) {
            fail(put, EB_IO, 0, TFTP_E_UNDEFINED);
            put->error.where = "reading the image";
            return false;
        }
        if (put->loaded_to - put->loaded_from >= slots(put))
            put->loaded_from = put->loaded_to - (uint32_t)slots(put) + 1; /* its slot has a new tenant */
    }
    return true;
}

static bool paced(const struct eb_tftp_put *put, uint64_t now_us)
{
    return now_us < put->release_us;
}

static size_t give_nudge(struct eb_tftp_put *put, struct eb_datagram *burst, size_t max)
{
    uint32_t block = put->next + 1;
    if (slots(put) < 2)
        put->loaded_from = put->loaded_to = put->next = block; /* the ring is overwritten */
    bool loaded = load(put, block);
    put->next = block - 1;
    if (!loaded)
        return 0;
    burst[0] = (struct eb_datagram){.peer = put->peer,
                                    .bytes = slot_of(put, block),
                                    .size_bytes = TFTP_HEAD_BYTES + block_bytes(put, block)};
    put->given = GIVEN_NUDGE;
    if (put->gaps == 0 || put->flight_most > 0 || max < 2)
        return 1;
    burst[1] = burst[0]; /* where much is lost, one alone would be lost as well */
    return 2;
}

static size_t give_data(struct eb_tftp_put *put, struct eb_datagram *burst, size_t max, uint64_t now_us)
{
    uint32_t end = flight_end(put);
    if (wants_nudge(put) && !paced(put, now_us))
        return give_nudge(put, burst, max);
    if (put->next > end || paced(put, now_us)) {
        load(put, put->next + put->windowsize - 1); /* while the device is busy with the last window */
        return 0;
    }
    if ((put->pace_us > 0 || put->release_us > 0) && max > PACE_BLOCKS)
        max = PACE_BLOCKS;
    if (end > put->next + max - 1)
        end = put->next + (uint32_t)max - 1;
    if (!load(put, end))
        return 0;
    size_t n = 0;
    for (uint32_t block = put->next; block <= end && block < put->loaded_to; block++) {
        burst[n].peer = put->peer;
        burst[n].bytes = slot_of(put, block);
        burst[n].size_bytes = TFTP_HEAD_BYTES + block_bytes(put, block);
        n++;
    }
    put->given = n > 0 ? GIVEN_DATA : GIVEN_NOTHING;
    return n;
}

size_t eb_tftp_put_give(struct eb_tftp_put *put, struct eb_datagram *burst, size_t max, uint64_t now_us)
{
    put->given = GIVEN_NOTHING;
    put->blocked = false;
    if (max == 0)
        return 0;
    if (!put->stranger_waits && !put->owed && put->state == EB_TFTP_SENDING) {
        size_t n = give_data(put, burst, max < EB_BURST_MAX ? max : EB_BURST_MAX, now_us);
        if (n > 0 || put->state == EB_TFTP_SENDING)
            return n;
    }
    if (put->stranger_waits) {
        burst[0].peer = put->stranger;
        burst[0].size_bytes = build_error(put, put->stranger_code);
        put->given = GIVEN_STRANGER;
    } else if (put->owed) {
        burst[0].peer = put->peer;
        burst[0].size_bytes =
            put->state == EB_TFTP_ASKING ? build_request(put) : build_error(put, put->farewell);
        put->given = GIVEN_HEAD;
    } else {
        return 0;
    }
    burst[0].bytes = put->head;
    return 1;
}

static void set_deadline(struct eb_tftp_put *put, uint64_t now_us)
{
    uint64_t end = put->progress_us + put->config.patience_us;
    put->deadline_us = now_us + put->interval_us < end ? now_us + put->interval_us : end;
}

static uint32_t ahead(const struct eb_tftp_put *put)
{
    uint32_t bytes = AHEAD_BYTES;
    return bytes / put->blksize;
}

static uint32_t first_way_ns(const struct eb_tftp_put *put)
{
    return put->blksize * (1000U / FIRST_BYTES_PER_US);
}

/* When the next blocks may go out; 0: as soon as the port takes them. */
static void set_release(struct eb_tftp_put *put, size_t count, uint64_t now_us)
{
    uint32_t sent = put->next - 1 - put->acked;
    put->release_us = 0;
    if (put->pace_us > 0)
        put->release_us = now_us + put->pace_us * count;
    else if (put->way_ns > 0 && sent > ahead(put))
        put->release_us = put->flight_us + (uint64_t)(sent - ahead(put)) * put->way_ns / 1000;
}

void eb_tftp_put_taken(struct eb_tftp_put *put, size_t count, uint64_t now_us)
{
    if (count == 0) {
        /* Without room in the laptop's queue the time at which the next block may go says nothing: the port
         * tells when there is room. */
        put->blocked = put->given != GIVEN_NOTHING;
        return;
    }
    if (put->given == GIVEN_NUDGE) {
        put->nudged = true;
        put->sent_us = now_us;
        set_deadline(put, now_us);
    } else if (put->given == GIVEN_STRANGER) {
        put->stranger_waits = false;
    } else if (put->given == GIVEN_HEAD) {
        put->owed = false;
        put->asked = true;
        if (put->state == EB_TFTP_ASKING)
            set_deadline(put, now_us);
    } else if (put->given == GIVEN_DATA) {
        uint32_t new_next = put->next + (uint32_t)count;
        if (put->next == put->acked + 1) {
            put->flight_us = now_us;
            put->fresh = put->high <= put->acked;
        }
        put->sent_us = now_us;
        if (put->high >= put->next)
            put->repeated += (new_next - 1 < put->high ? new_next - 1 : put->high) - put->next + 1;
        put->next = new_next;
        if (new_next - 1 > put->high)
            put->high = new_next - 1;
        put->all_sent = put->high == put->last;
        set_release(put, count, now_us);
        set_deadline(put, now_us);
    }
    put->given = GIVEN_NOTHING;
}

/* --- what comes in ------------------------------------------------------------------------------- */

/* No flight is as long as the device was seen to take in at once. */
static void keep_below(struct eb_tftp_put *put, uint32_t blocks)
{
    put->flight_most = blocks;
    put->flight = put->flight_most - put->flight_most / 4;
}

static void begin_sending(struct eb_tftp_put *put, const struct eb_endpoint *from, uint64_t now_us)
{
    put->peer = *from;
    put->state = EB_TFTP_SENDING;
    put->owed = false;
    put->acked = 0;
    put->next = 1;
    put->last = (uint32_t)(put->config.source.size_bytes / put->blksize) + 1;
    put->tries = 0;
    put->flight = clipped(
        ((uint64_t)put->config.round_trip_us * FIRST_BYTES_PER_US + WINDOW_LEAST_BYTES) / put->blksize + 1,
        put->windowsize);
    put->pace_us = put->config.pause_us;
    put->way_ns = first_way_ns(put);
    if (put->config.at_once > 0) { /* as if it had shown that already */
        keep_below(put, put->config.at_once);
        put->gap_at = put->flight_most * 8;
        put->same = SAME_ENOUGH;
        put->gaps = 1;
    }
    put->least_us = put->config.round_trip_us;
    if (put->windowsize > 1 &&
        now_us > put->progress_us) /* the answer to the request took no less than a round trip */
        put->early_us = most(clipped(4 * (now_us - put->progress_us), INTERVAL_FIRST_US), EARLY_LEAST_US);
    put->interval_us = first_interval(put);
    put->progress_us = now_us;
    set_deadline(put, now_us);
}

/* What the device granted against the rules, for the message. */
static void refuse_option(struct eb_tftp_put *put, const char *name, const char *value)
{
    struct eb_text text;
    char shown[16];
    eb_text_init(&text, put->refused_option, sizeof put->refused_option);
    eb_text_copy_foreign(shown, sizeof shown, (const uint8_t *)name, strlen(name));
    eb_text_add(&text, "the device granted '");
    eb_text_add(&text, shown);
    eb_text_copy_foreign(shown, sizeof shown, (const uint8_t *)value, strlen(value));
    eb_text_add(&text, " ");
    eb_text_add(&text, shown);
    eb_text_add(&text, "', which was not asked for");
}

/* RFC 2347: the OACK holds only what was asked for; RFC 2348, 2349, 7440: the same value or a lower one. */
static bool accept_option(struct eb_tftp_put *put, const char *name, const char *value)
{
    uint64_t number;
    /* Also after a request without options: a device that erases for long answers the first one late. */
    if (!eb_text_number(value, strlen(value), &number))
        return false;
    if (ebi_tftp_is(name, "blksize") && put->config.blksize != EB_TFTP_BLKSIZE_DEFAULT) {
        put->blksize = (uint16_t)number;
        return number >= EB_TFTP_BLKSIZE_MIN && number <= put->config.blksize;
    }
    if (ebi_tftp_is(name, "windowsize") && put->config.windowsize > 1) {
        put->windowsize = (uint16_t)number;
        return number >= 1 && number <= put->config.windowsize;
    }
    if (ebi_tftp_is(name, "timeout"))
        return put->config.timeout_s > 0 && number == put->config.timeout_s;
    return ebi_tftp_is(name, "tsize") && put->config.tsize;
}

static bool accept_options(struct eb_tftp_put *put, const uint8_t *bytes, size_t size)
{
    size_t at = 2;
    if (size < 3 || bytes[size - 1] != '\0') {
        eb_text_copy(put->refused_option, sizeof put->refused_option, "an option acknowledgement cut short");
        return false;
    }
    while (at < size) {
        const char *name = (const char *)bytes + at;
        at += strlen(name) + 1;
        const char *value = at < size ? (const char *)bytes + at : "";
        at += strlen(value) + 1;
        if (!accept_option(put, name, value)) {
            refuse_option(put, name, value);
            return false;
        }
    }
    return true;
}

static void receive_error(struct eb_tftp_put *put, const uint8_t *bytes, size_t size)
{
    uint16_t code = ebi_get16(bytes + 2);
    bool about_options = code == TFTP_E_OPTION || code == TFTP_E_UNDEFINED || code == TFTP_E_ILLEGAL;
    if (put->stopping) {
        fail(put, EB_STOPPED, 0, 0);
        put->owed = false;
        return;
    }
    if (put->state == EB_TFTP_SENDING && code == TFTP_E_UNKNOWN_TID && put->all_sent) {
        /* It has ended the transfer: with all blocks, if only the last acknowledgement was lost. */
        fail(put, EB_NO_ANSWER, 0, 0);
        put->owed = false;
        return;
    }
    if (put->state == EB_TFTP_ASKING && !put->plain && about_options) {
        put->plain = true; /* perhaps it is the options that it does not like */
        put->owed = true;
        put->interval_us = first_interval(put);
        return;
    }
    if (put->state == EB_TFTP_ASKING && put->plain && code == TFTP_E_OPTION)
        return; /* a late answer to the request with options */
    fail(put, EB_PEER_ERROR, code, 0);
    put->error.retry = code == TFTP_E_UNDEFINED                              ? EB_RETRY_LATER
                       : code == TFTP_E_ACCESS || code == TFTP_E_UNKNOWN_TID ? EB_RETRY_AT_ONCE
                                                                             : EB_RETRY_NEVER;
    eb_text_copy_foreign(put->error.text, sizeof put->error.text, bytes + TFTP_HEAD_BYTES,
                         size - TFTP_HEAD_BYTES);
}

/* --- what an acknowledgement tells --- */

/* RFC 6298 section 2, with a quarter for the mean as well: there is one sample for each flight only. */
static void take_round_trip(struct eb_tftp_put *put, uint32_t us)
{
    uint32_t sample = most(least(us, SAMPLE_MAX_US), most(put->config.round_trip_us, 1));
    uint32_t off = sample > put->round_trip_us ? sample - put->round_trip_us : put->round_trip_us - sample;
    if (put->round_trip_us == 0) {
        put->round_trip_us = sample;
        put->spread_us = sample / 2;
        return;
    }
    put->spread_us = (3 * put->spread_us + off) / 4;
    put->round_trip_us = most((3 * put->round_trip_us + sample) / 4, 1);
}

/* How quick the way is.  What goes out at once waits in front of its narrow part, and stays ahead where the
 * rest follows at that part's pace.  Where nothing is left of it, the way is quicker: as long as it was not
 * seen to be narrow, the next flight shows how quick. */
static void measure_way(struct eb_tftp_put *put, uint32_t ns, uint32_t trip_us, bool clean)
{
    bool quicker = trip_us < put->least_us + ahead(put) * put->way_ns / 4000;
    uint32_t part = put->way_ns / (put->way_ns < first_way_ns(put) ? WAY_CHANGES : WAY_CHANGES / 4);
    if (put->way_ns == 0)
        put->way_ns = ns;
    else if (quicker)
        put->way_ns -= put->narrow ? part : put->way_ns;
    else if (clean)
        put->way_ns = least(put->way_ns + part, ns);
    put->narrow = put->narrow || !quicker;
}

/* From the time at which block `block` of the flight (1, 2, ...) went out until the last one did. */
static uint32_t before_last_us(const struct eb_tftp_put *put, uint32_t block, uint32_t sent)
{
    uint32_t at_once = put->way_ns > 0 && block > ahead(put) ? ahead(put) : 0;
    uint32_t us = clipped(put->sent_us - put->flight_us, SAMPLE_MAX_US);
    uint32_t n = sent - at_once;
    return us / n * (sent - block) + us % n * (sent - block) / n;
}

/* A clean flight is acknowledged at its last block; a gap, when the block behind the missing one comes, whose
 * time lies between those of the first and the last one. */
static void measure(struct eb_tftp_put *put, uint32_t step, bool gap, uint64_t now_us)
{
    bool clean = !gap && put->fresh;
    uint32_t sent = put->next - 1 - put->acked;
    if (put->tries > 0 || sent == 0)
        return;
    uint32_t us = clipped(now_us - put->sent_us, SAMPLE_MAX_US);
    if (clean)
        put->slowest_us = most(us, put->slowest_us); /* it may write its flash meanwhile */
    if (gap)
        us += before_last_us(put, step + 1, sent);
    if (clean || (gap && (put->round_trip_us == 0 || us / 4 < put->round_trip_us)))
        take_round_trip(put, us); /* else the device's own timer told */
    uint64_t took_us = now_us - put->flight_us;
    if (put->least_us == 0 || (put->round_trip_us > 0 && put->round_trip_us < put->least_us))
        put->least_us = put->round_trip_us;
    uint32_t ns = took_us > put->least_us
                      ? clipped((took_us - put->least_us) * 1000 / (step + (gap ? 2 : 0)), BLOCK_NS_MAX)
                      : 0;
    if (step > ahead(put) && (clean || gap))
        measure_way(put, least(ns, (uint32_t)WAY_SLOWEST_NS * put->blksize), us, clean);
    put->block_ns = put->block_ns == 0 ? ns : (3 * put->block_ns + ns) / 4;
}

static uint32_t root(uint32_t square)
{
    uint32_t low = 0;
    for (uint32_t bit = 1U << 15; bit > 0; bit >>= 1)
        low += (low + bit) * (low + bit) <= square ? bit : 0;
    return low;
}

/* How long a flight is best; see above.  Two more blocks are what asks for the acknowledgement. */
static uint32_t best_flight(const struct eb_tftp_put *put)
{
    uint32_t run = least(put->runs / 8 + 1, BLOCKS_MAX);
    uint32_t trip =
        2 + (put->block_ns > 0 ? clipped(put->least_us * 1000ULL / put->block_ns, BLOCKS_MAX) : 0);
    if (put->windowsize <= WINDOW_SHORT || put->vain * put->vain / 2 < trip * run)
        return put->windowsize;
    return most(trip <= run ? root(run * trip / 5 * 8) : 2 * run, FLIGHT_LEAST);
}

static void slow_down(struct eb_tftp_put *put)
{
    uint32_t more_us = put->run > PACE_LONG_AGO ? put->pace_us / 4 : put->pace_us;
    put->pace_us = put->pace_us == 0 ? PACE_FIRST_US : least(put->pace_us + more_us, PACE_MAX_US);
}

/* The device has taken in `step` blocks of the flight, and then lacked one. */
static void note_gap(struct eb_tftp_put *put, uint32_t step)
{
    uint32_t at = step * 8;
    uint32_t off = at > put->gap_at ? at - put->gap_at : put->gap_at - at;
    put->run = least(put->run + step, RUN_MAX);
    put->vain = most(put->next - put->acked - step, put->vain);
    put->same = 4 * off <= put->gap_at ? (uint8_t)(put->same + (put->same < UINT8_MAX)) : 0;
    put->gap_at = put->gaps == 0 ? at : (3 * put->gap_at + at) / 4;
    put->gaps = (uint8_t)(put->gaps + (put->gaps < GAPS_MEAN));
    put->runs = ((put->gaps - 1U) * put->runs + 8 * put->run) / put->gaps;
    bool overrun = put->same >= SAME_ENOUGH;
    if (step < FLIGHT_NARROW && (overrun || (put->pace_us > 0 && put->same > 1))) {
        slow_down(put);
    } else if (overrun) {
        keep_below(put, step);
    } else {
        put->pace_us = put->pace_us / 4 * 3;
        put->flight_most = 0;
        put->flight = best_flight(put);
    }
    put->run = 0;
    put->clean = 0;
}

/* The flight where nothing is lost: the first one again, until it has shown something of the way. */
static uint32_t steady_flight(const struct eb_tftp_put *put)
{
    uint32_t bytes = WINDOW_LEAST_BYTES;
    uint32_t trips = UINT32_MAX;
    if (put->way_ns > 0 && !put->narrow)
        return put->flight;
    if (put->way_ns > 0)
        trips = clipped(1000ULL * FLIGHT_TRIPS * put->least_us / put->way_ns, UINT32_MAX);
    return least(most(trips, bytes / put->blksize + 1), put->windowsize);
}

static void note_clean(struct eb_tftp_put *put, uint32_t step)
{
    put->run = least(put->run + step, RUN_MAX);
    put->runs = most(put->runs, 2 * put->run); /* a run as long as four is no accident */
    put->pace_us -= (put->pace_us + PACE_EASE - 1) / PACE_EASE;
    put->clean = (uint8_t)(put->clean + (put->clean < UINT8_MAX));
    if (put->gaps == 0) {
        put->flight = steady_flight(put);
        return;
    }
    if (put->flight_most == 0) {
        put->flight = most(best_flight(put), put->flight);
    } else if (put->clean >= CLEAN_ENOUGH) {
        put->flight_most += put->flight_most / 8;
        put->flight = put->flight_most - put->flight_most / 8;
        put->clean = 0;
    }
    put->flight = least(put->flight, put->windowsize);
}

static void receive_ack(struct eb_tftp_put *put, uint16_t number, uint64_t now_us)
{
    uint32_t period = block_period(put);
    uint32_t step = (number + period - wire_number(put, put->acked)) % period;
    if (step == 0 && put->acked == ROLLOVER_BLOCK - 1 && put->high >= ROLLOVER_BLOCK &&
        ++put->rollover_refusals >= ROLLOVER_REFUSALS) {
        fail_at_rollover(put);
        return;
    }
    if (step == 0 || step > put->high - put->acked)
        return; /* a repeated or an impossible one: only the timer repeats data */
    bool gap = put->acked + step + 1 < put->next;
    measure(put, step, gap, now_us);
    if (gap)
        note_gap(put, step);
    else
        note_clean(put, step);
    if (put->tries >= REPEAT_TRIES / 2 && put->gaps == 0 && put->round_trip_us > 0)
        put->mute = true; /* what asks it for gaps has no effect */
    put->acked += step;
    put->progress_us = now_us;
    put->nudged = false;
    put->interval_us = first_interval(put);
    put->tries = 0;
    put->acked_bytes =
        put->acked == put->last ? put->config.source.size_bytes : (uint64_t)put->acked * put->blksize;
    put->next = put->acked + 1; /* RFC 7440 section 4: a full new window from there */
    put->release_us = put->pace_us > 0 ? put->release_us : 0;
    if (put->acked == put->last) {
        put->state = EB_TFTP_DONE;
        put->deadline_us = EB_NEVER;
    } else {
        set_deadline(put, now_us);
    }
}

/* Owes an ERROR to somebody. */
static void reject(struct eb_tftp_put *put, const struct eb_endpoint *whom, uint8_t code)
{
    put->stranger = *whom;
    put->stranger_code = code;
    put->stranger_waits = true;
}

/* An OACK that must not be taken ends that transfer (RFC 2347).  Once it is tried without options. */
static void refuse_options(struct eb_tftp_put *put, const struct eb_endpoint *from)
{
    bool again = put->refused_oacks > 0 && eb_endpoint_same(from, &put->stranger);
    put->blksize = EB_TFTP_BLKSIZE_DEFAULT;
    put->windowsize = 1;
    reject(put, from, TFTP_E_OPTION);
    if (again && ++put->refused_oacks < REFUSED_OACKS)
        return; /* the one before, repeated */
    put->refused_oacks++;
    if (put->plain) {
        fail(put, EB_GARBAGE, 0, 0);
        put->error.retry = EB_RETRY_NEVER;
        eb_text_copy(put->error.text, sizeof put->error.text, put->refused_option);
        return;
    }
    put->plain = true;
    put->owed = true;
    put->interval_us = first_interval(put);
}

/* The first answer while the caller asked for the end: now the device can be told. */
static void stop_at_answer(struct eb_tftp_put *put, const struct eb_endpoint *from)
{
    put->peer = *from;
    fail(put, EB_STOPPED, 0, TFTP_E_UNDEFINED);
    put->owed = true;
}

void eb_tftp_put_receive(struct eb_tftp_put *put, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size, uint64_t now_us)
{
    bool known = put->state == EB_TFTP_ASKING ? memcmp(from->ip, put->config.server.ip, sizeof from->ip) == 0
                                              : eb_endpoint_same(from, &put->peer);
    uint16_t opcode = size >= TFTP_HEAD_BYTES ? ebi_get16(bytes) : 0;
    if (!known) {
        put->strangers++;
        if (opcode != TFTP_ERROR && put->state != EB_TFTP_FAILED)
            reject(put, from, TFTP_E_UNKNOWN_TID);
        return;
    }
    if (put->state == EB_TFTP_DONE || put->state == EB_TFTP_FAILED)
        return;
    if (opcode == TFTP_ERROR) {
        receive_error(put, bytes, size);
    } else if (put->stopping && (opcode == TFTP_OACK || opcode == TFTP_ACK)) {
        stop_at_answer(put, from);
    } else if (put->state == EB_TFTP_ASKING && opcode == TFTP_OACK) {
        if (accept_options(put, bytes, size))
            begin_sending(put, from, now_us);
        else
            refuse_options(put, from);
    } else if (put->state == EB_TFTP_ASKING && opcode == TFTP_ACK && ebi_get16(bytes + 2) == 0) {
        begin_sending(put, from, now_us);
    } else if (put->state == EB_TFTP_SENDING && opcode == TFTP_ACK) {
        receive_ack(put, ebi_get16(bytes + 2), now_us);
    } else if (opcode != TFTP_OACK) { /* an OACK while sending is a repeated one */
        put->garbage = true;
    }
}

/* Nothing came in time. */
static void repeat(struct eb_tftp_put *put)
{
    bool measured = put->round_trip_us > 0 && put->windowsize > 1 && !put->mute && put->high > put->acked;
    bool lossy = put->gaps > 0 && put->next <= put->acked + 1 + LOSSY_MOST;
    uint32_t slow_us = least(2 * put->slowest_us, INTERVAL_MAX_US);
    put->tries++;
    put->next = put->acked + 1;
    put->flight_last = UINT32_MAX;
    put->fresh = false;
    put->nudged = false;
    if (put->pace_us > 0 && put->same > 1)
        slow_down(put);
    if (put->way_ns == 0) { /* all that went out at once behind a gap is lost, or what asked for it */
        put->way_ns = first_way_ns(put);
        put->narrow = true;
    }
    if (put->interval_us < slow_us / 2)
        put->interval_us = slow_us / 2; /* it is doubled behind this */
    bool early = put->early_us != 0 && put->round_trip_us == 0 && put->high > put->acked &&
                 put->interval_us < INTERVAL_FIRST_US;
    if (!measured && !early)
        return;
    if (early || put->tries == (lossy ? 2 : 1)) { /* the last one alone */
        put->next = put->flight_last = put->high;
        put->nudged = true;
    } else if (lossy) {
        put->flight_last = (put->tries == 1 ? put->acked : put->high) + put->flight;
    } else if (put->tries < REPEAT_TRIES) {
        put->flight_last = put->acked + ((uint32_t)REPEAT_FIRST << 2 * (put->tries - 1));
    }
    if (put->flight_last == ROLLOVER_BLOCK - 1)
        put->flight_last = ROLLOVER_BLOCK; /* else the block that leaves one out could be taken for it */
}

void eb_tftp_put_tick(struct eb_tftp_put *put, uint64_t now_us)
{
    if (now_us < put->deadline_us || put->state == EB_TFTP_DONE || put->state == EB_TFTP_FAILED)
        return;
    if (now_us - put->progress_us >= put->config.patience_us) {
        bool at_rollover = put->acked == ROLLOVER_BLOCK - 1 && put->high >= ROLLOVER_BLOCK;
        fail(put, put->stopping ? EB_STOPPED : put->garbage ? EB_GARBAGE : EB_NO_ANSWER, 0, TFTP_E_UNDEFINED);
        if (at_rollover)
            say_rollover(put);
        return;
    }
    uint64_t most_us = INTERVAL_MAX_US;
    if (put->state == EB_TFTP_ASKING) {
        put->owed = true;
        /* Silence may mean that it drops requests with options.  It stays with one form of request, and the
         * waiting grows: a device that takes each request as a new one must get through with erasing. */
        put->plain = put->plain || ++put->tries >= TRIES_WITH_OPTIONS;
        most_us = put->config.patience_us;
    } else {
        repeat(put);
    }
    put->interval_us = put->interval_us * 2 < most_us ? put->interval_us * 2 : most_us;
    if (put->state == EB_TFTP_SENDING && put->all_sent && put->interval_us < INTERVAL_LAST_US)
        put->interval_us = INTERVAL_LAST_US;
    set_deadline(put, now_us);
}

uint64_t eb_tftp_put_deadline_us(const struct eb_tftp_put *put)
{
    bool waits = put->state == EB_TFTP_SENDING && put->release_us > 0 && !put->blocked &&
                 (put->next <= flight_end(put) || wants_nudge(put));
    return waits && put->release_us < put->deadline_us ? put->release_us : put->deadline_us;
}

void eb_tftp_put_stop(struct eb_tftp_put *put)
{
    if (put->state == EB_TFTP_SENDING || (put->state == EB_TFTP_ASKING && !put->asked)) {
        fail(put, EB_STOPPED, 0, TFTP_E_UNDEFINED);
    } else if (put->state == EB_TFTP_ASKING && !put->stopping) {
        put->stopping = true;
        put->owed = false;
        put->deadline_us = put->progress_us + put->config.patience_us;
    }
}

bool eb_tftp_put_last_unanswered(const struct eb_tftp_put *put)
{
    return put->state == EB_TFTP_SENDING && put->all_sent && put->tries >= LAST_TRIES;
}
