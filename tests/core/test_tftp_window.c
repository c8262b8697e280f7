/* The pushing end of TFTP: blocks, their numbers, windows and the pace (RFC 1350, 2348, 7440). */
#include "tftp_rig.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- data ---------------------------------------------------------------------------------------- */

static void an_exact_multiple_ends_with_an_empty_block(void **state)
{
    (void)state;
    static const struct {
        uint64_t size;
        unsigned blocks;
        size_t last;
    } rows[] = {{0, 1, 0}, {1, 1, 1}, {511, 1, 511}, {512, 2, 0}, {513, 2, 1}, {1024, 3, 0}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct rig r;
        struct eb_datagram d = {0};
        begin(&r, rows[i].size, 512, 1);
        take(&r, NULL);
        ack(&r, 0);
        for (unsigned block = 1; block <= rows[i].blocks; block++) {
            assert_int_equal(r.put.state, EB_TFTP_SENDING);
            assert_int_equal(take(&r, &d), 1);
            ack(&r, block);
        }
        assert_int_equal(d.size_bytes, 4 + rows[i].last);
        assert_int_equal(r.put.state, EB_TFTP_DONE);
        end(&r);
    }
}

/* A receiver by RFC 1350 and RFC 7440 section 4: it takes blocks in order, acknowledges the last one of each
 * window and of the file, and once for each gap the last one in order.  Gives the number of ACKs. */
struct receiver {
    bool to_one, quiet_in_gaps; /* counts to 1 behind 65535; says nothing of what comes out of order */
    uint64_t taken;             /* blocks */
    uint64_t windowsize, in_window;
    bool told_gap;
    uint64_t wrong; /* bytes that are not the file's at their place */
    unsigned waits;
    uint64_t lost_from;          /* blocks that go well before */
    unsigned lost_every, chance; /* one of so many datagrams is lost on the way, each way; 0: none */
    unsigned acks[8], ack_count;
};

static unsigned number_of(const struct receiver *v, uint64_t block)
{
    return block == 0 ? 0 : v->to_one ? (unsigned)((block - 1) % 65535 + 1) : (unsigned)(block % 65536);
}

static void say_ack(struct receiver *v)
{
    assert_true(v->ack_count < 8);
    v->acks[v->ack_count++] = number_of(v, v->taken);
    v->in_window = 0;
}

static bool is_lost(struct receiver *v)
{
    v->chance = v->chance * 1664525 + 1013904223;
    return v->lost_every != 0 && v->taken >= v->lost_from && (v->chance >> 8) % v->lost_every == 0;
}

static void give_block(struct receiver *v, const struct eb_datagram *d)
{
    unsigned number = (unsigned)(d->bytes[2] << 8 | d->bytes[3]);
    if (is_lost(v))
        return;
    if (number == number_of(v, v->taken + 1)) {
        v->wrong += d->size_bytes > 4 && d->bytes[4] != byte_at(v->taken * 8);
        v->taken++;
        v->told_gap = false;
        if (++v->in_window == v->windowsize || d->size_bytes < 12)
            say_ack(v);
    } else if (!v->told_gap && !v->quiet_in_gaps) {
        v->told_gap = true;
        say_ack(v);
    }
}

/* Runs a transfer of 8-byte blocks into the receiver. */
static void run_into(struct rig *r, struct receiver *v, uint64_t blocks, bool to_one)
{
    char oack[64];
    begin(r, blocks * 8 - 1, 8, (uint16_t)v->windowsize);
    struct eb_tftp_put_config config = config_of(r, 8, (uint16_t)v->windowsize);
    config.rollover_to_one = to_one;
    assert_int_equal(eb_tftp_put_init(&r->put, &config, r->now_us), EB_OK);
    take(r, NULL);
    int n = snprintf(oack, sizeof oack, "%c%cblksize%c8%cwindowsize%c%u%c", 0, 6, 0, 0, 0,
                     (unsigned)v->windowsize, 0);
    receive(r, &peer, oack, v->windowsize > 1 ? (size_t)n : 12);
    for (unsigned idle = 0; r->put.state == EB_TFTP_SENDING && idle < 60;) {
        struct eb_datagram burst[EB_BURST_MAX];
        size_t given = eb_tftp_put_give(&r->put, burst, EB_BURST_MAX, r->now_us);
        for (size_t i = 0; i < given; i++)
            give_block(v, &burst[i]);
        eb_tftp_put_taken(&r->put, given, r->now_us);
        unsigned acks = v->ack_count;
        v->ack_count = 0;
        for (unsigned i = 0; i < acks; i++) {
            if (!is_lost(v))
                ack(r, v->acks[i]);
        }
        if (given > 0 || acks > 0) {
            idle = 0;
            continue;
        }
        uint64_t due_us = eb_tftp_put_deadline_us(&r->put);
        bool timer = due_us == r->put.deadline_us;
        r->now_us = due_us;
        eb_tftp_put_tick(&r->put, r->now_us);
        idle += timer;
        /* Its own timer ends as well, or later: the last one in order, once more. */
        if (timer && v->taken > 0 && (v->lost_every == 0 || ++v->waits % 4 == 0)) {
            v->told_gap = false;
            ack(r, number_of(v, v->taken));
        }
    }
}

static void block_numbers_roll_over(void **state)
{
    (void)state;
    static const unsigned windows[] = {1, 2, 7, 1000, 4096};
    for (size_t w = 0; w < 2 * sizeof windows / sizeof windows[0]; w++) {
        bool to_one = w % 2 == 1;
        struct rig r;
        struct receiver v = {.to_one = to_one, .windowsize = windows[w / 2]};
        run_into(&r, &v, 140000, to_one);
        assert_int_equal(r.put.state, EB_TFTP_DONE);
        assert_int_equal(v.taken, 140000);
        assert_int_equal(v.wrong, 0);
        assert_int_equal(r.put.repeated, 0);
        assert_true(r.now_us == START_US); /* nothing had to wait for a timer */
        end(&r);
    }
}

/* Neither may the transfer be called whole, nor may a block be dropped unseen. */
static void a_device_that_counts_on_in_the_other_way_ends_the_transfer(void **state)
{
    (void)state;
    static const unsigned windows[] = {1, 2, 7, 1000};
    for (size_t w = 0; w < 16; w++) {
        bool to_one = w % 2 == 1;
        struct rig r;
        struct receiver v = {
            .to_one = !to_one, .quiet_in_gaps = w / 2 % 2 == 1, .windowsize = windows[w / 4]};
        run_into(&r, &v, 66000, to_one);
        assert_int_equal(r.put.state, EB_TFTP_FAILED);
        assert_int_equal(v.taken, 65535); /* nothing was taken in another's place */
        assert_int_equal(v.wrong, 0);
        assert_int_equal(r.put.acked_bytes, 65535 * 8);
        assert_int_equal(r.put.error.status, EB_GARBAGE);
        assert_int_equal(eb_error_retry(&r.put.error), EB_RETRY_NEVER);
        assert_non_null(strstr(r.put.error.text, to_one ? "'rollover-to: 0'" : "'rollover-to: 1'"));
        end(&r);
    }
}

/* The same where flights end anywhere, as blocks are lost. */
static void losses_before_the_rollover_put_nothing_in_another_place(void **state)
{
    (void)state;
    static const unsigned windows[] = {20, 1000, 4096};
    unsigned ended = 0;
    for (unsigned i = 0; i < 160; i++) {
        bool to_one = i % 2 == 1;
        bool right = i / 2 % 4 == 0;
        struct rig r;
        struct receiver v = {.to_one = to_one == right,
                             .windowsize = windows[i % 3],
                             .lost_every = 3 + i % 7,
                             .lost_from = 60000 + i,
                             .chance = i};
        run_into(&r, &v, 66000, to_one);
        assert_int_equal(v.wrong, 0);
        assert_true(v.taken <= (right ? 66000 : 65535));
        assert_int_equal(r.put.state == EB_TFTP_DONE, right && v.taken == 66000);
        ended += v.taken == (right ? 66000 : 65535);
        end(&r);
    }
    assert_true(ended > 140);
}

/* 32 round trips at 1 Gbit/s: 4000 bytes for each microsecond of one. */
static void the_window_follows_the_round_trip(void **state)
{
    (void)state;
    static const struct {
        uint16_t blksize;
        uint32_t round_trip_us;
        uint64_t size;
        uint16_t most, window;
    } rows[] = {
        {1000, 1000, 100000000, 0, 4001}, {1000, 100, 100000000, 0, 401},
        {1000, 0, 100000000, 0, 97},      {1000, 1, 100000000, 0, 97},
        {65464, 30, 100000000, 0, 2},     {1000, 4000000, UINT64_MAX, 0, EB_TFTP_WINDOWSIZE_MAX},
        {1000, 1000, 100000000, 16, 16},  {1000, 1000, 9999, 0, 10},
        {1000, 1000, 999, 0, 1},          {512, 50000, 100000000, 65535, EB_TFTP_WINDOWSIZE_MAX},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        assert_int_equal(eb_tftp_window(rows[i].blksize, rows[i].round_trip_us, rows[i].size, rows[i].most),
                         rows[i].window);
}

static void a_window_goes_out_whole_and_then_waits(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    expect_blocks(&r, 0, 0);
    ack(&r, 8);
    expect_blocks(&r, 9, 8);
    end(&r);
}

static void an_acknowledgement_inside_the_window_begins_a_new_full_one_there(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    ack(&r, 3); /* RFC 7440 section 4: block 4 was lost */
    expect_blocks(&r, 4, 8);
    assert_int_equal(r.put.repeated, 5);
    ack(&r, 11);
    expect_blocks(&r, 12, 8);
    end(&r);
}

static void repeated_acknowledgements_send_nothing(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    ack(&r, 8);
    expect_blocks(&r, 9, 8);
    for (int i = 0; i < 1000; i++) {
        ack(&r, 8); /* the same again, old ones, and ones for what was never sent */
        ack(&r, 5);
        ack(&r, 0);
        ack(&r, 17);
        ack(&r, 65535);
    }
    expect_blocks(&r, 0, 0);
    assert_int_equal(r.put.repeated, 0);
    end(&r);
}

static void silence_repeats_the_window_with_backoff_until_patience_is_over(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    uint64_t began_us = r.now_us;
    uint64_t last_us = began_us;
    uint64_t gaps[16];
    unsigned repeats = 0;
    while (r.put.state == EB_TFTP_SENDING) {
        uint64_t deadline_us = eb_tftp_put_deadline_us(&r.put);
        assert_true(deadline_us > r.now_us);
        r.now_us = deadline_us;
        eb_tftp_put_tick(&r.put, r.now_us);
        if (r.put.state != EB_TFTP_SENDING)
            break;
        gaps[repeats++] = r.now_us - last_us;
        last_us = r.now_us;
        expect_blocks(&r, 1, 8);
    }
    assert_int_equal(r.put.error.status, EB_NO_ANSWER);
    assert_int_equal(r.now_us - began_us, 30ULL * SECOND_US);
    assert_in_range(repeats, 4, 8);
    for (unsigned i = 1; i < repeats; i++)
        assert_in_range(gaps[i], gaps[i - 1] < 4ULL * SECOND_US ? 2 * gaps[i - 1] - 50000 : 8ULL * SECOND_US,
                        8ULL * SECOND_US + 50000);
    struct eb_datagram d = {0};
    assert_int_equal(take(&r, &d), 1); /* a farewell, so that the device does not wait either */
    assert_memory_equal(d.bytes, "\0\5\0\0", 4);
    end(&r);
}

static void slow_flash_is_not_answered_with_repeats(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    for (unsigned block = 8; block < 96; block += 8) {
        r.now_us += SECOND_US * 9 / 10; /* each window takes nearly as long as the first timeout */
        eb_tftp_put_tick(&r.put, r.now_us);
        expect_blocks(&r, 0, 0);
        ack(&r, block);
        expect_blocks(&r, block + 1, 8);
        if (block > 16)
            assert_true(eb_tftp_put_deadline_us(&r.put) >= r.now_us + SECOND_US * 18 / 10);
    }
    assert_int_equal(r.put.repeated, 0);
    end(&r);
}

/* Blocks in order of the next flight, and what comes behind it. */
static unsigned flight_of(struct rig *r, unsigned *behind)
{
    unsigned first = (unsigned)r->put.acked + 1;
    unsigned taken = (unsigned)take(r, NULL);
    unsigned in_order = (unsigned)(r->put.next - first);
    *behind = taken - in_order;
    return in_order;
}

static void grant_long_window(struct rig *r)
{
    take(r, NULL);
    pass(r, 300);
    RECEIVE(r, &peer,
            "\0\6blksize\0"
            "1000\0windowsize\0"
            "64\0");
}

static void begin_long_window(struct rig *r)
{
    begin(r, 8000000, 1000, 64);
    grant_long_window(r);
}

/* A device that takes in twenty blocks at once: what it loses is always at the same place.  Soon no more than
 * that goes out, with one block out of order that asks it; later a little more is tried again. */
static void a_device_with_a_short_queue_gets_what_it_takes(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    unsigned longest = 0;
    unsigned lost = 0;
    begin_long_window(&r);
    for (int i = 0; i < 260 && r.put.state == EB_TFTP_SENDING; i++) {
        unsigned sent = flight_of(&r, &behind);
        pass(&r, 2000);
        ack(&r, (unsigned)r.put.acked + (sent < 20 ? sent : 20));
        lost += i >= 130 && sent > 20;
        longest = i >= 130 && sent > longest ? sent : longest;
        if (i >= 130)
            assert_int_equal(behind, 1);
    }
    assert_in_range(longest, 15, 24);
    assert_true(lost <= 8);
    assert_int_equal(r.put.pace_us, 0);
    end(&r);
}

/* A switch between a fast and a slow wire keeps little, and what it cannot keep is lost for others, too: the
 * first flight is short.  Where all of it came through, the whole window follows. */
static void the_first_flight_of_a_long_window_is_short(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    begin(&r, 8000000, 1000, 2000);
    take(&r, NULL);
    pass(&r, 300);
    RECEIVE(&r, &peer,
            "\0\6blksize\0"
            "1000\0windowsize\0"
            "2000\0");
    unsigned first = flight_of(&r, &behind);
    assert_in_range(first, 64, 128);
    assert_int_equal(behind, 1); /* asks for the acknowledgement */
    pass(&r, 2000);
    ack(&r, first);
    assert_int_equal(flight_of(&r, &behind), 2000);
    assert_int_equal(behind, 0);
    end(&r);
}

/* A way with a narrow part, what is kept in front of it, and a device behind it by RFC 7440 section 4. */
struct way {
    uint64_t block_ns, trip_us;
    unsigned keeps;    /* blocks in front of the narrow part; more are lost */
    uint64_t pause_us; /* of the device, before its first acknowledgement */
    uint64_t free_ns, acks_from_us;
    unsigned taken, in_window, lost;
    bool told_gap;
    struct {
        uint64_t at_us;
        unsigned number;
    } acks[64];
    unsigned first, count;
};

static void bring(struct way *w, const struct eb_datagram *d, unsigned window, unsigned last, uint64_t now_us)
{
    unsigned number = (unsigned)d->bytes[2] << 8 | d->bytes[3];
    uint64_t from_ns = w->free_ns > now_us * 1000 ? w->free_ns : now_us * 1000;
    if (from_ns - now_us * 1000 > w->keeps * w->block_ns) {
        w->lost++;
        return;
    }
    w->free_ns = from_ns + w->block_ns;
    bool in_order = number == w->taken + 1;
    w->taken += in_order;
    bool acks = in_order ? ++w->in_window == window || w->taken == last : !w->told_gap;
    w->told_gap = !in_order;
    if (!acks)
        return;
    assert_true(w->count < 64);
    unsigned at = (w->first + w->count++) % 64;
    if (w->acks_from_us == 0)
        w->acks_from_us = w->free_ns / 1000 + w->trip_us + w->pause_us;
    w->acks[at].at_us = w->free_ns / 1000 + w->trip_us;
    if (w->acks[at].at_us < w->acks_from_us)
        w->acks[at].at_us = w->acks_from_us;
    w->acks[at].number = w->taken;
    w->in_window = 0;
}

/* A whole transfer over it, from a port that takes everything at once.  Gives how long it took. */
static uint64_t send_over(struct rig *r, struct way *w, unsigned blocks)
{
    begin(r, blocks * 1428ULL - 1, 1428, 12000);
    r->put.config.round_trip_us = (uint32_t)w->trip_us;
    take(r, NULL);
    pass(r, (unsigned)w->trip_us);
    RECEIVE(r, &peer,
            "\0\6blksize\0"
            "1428\0windowsize\0"
            "12000\0");
    uint64_t from_us = r->now_us;
    while (r->put.state == EB_TFTP_SENDING) {
        struct eb_datagram burst[EB_BURST_MAX];
        size_t n = eb_tftp_put_give(&r->put, burst, EB_BURST_MAX, r->now_us);
        for (size_t i = 0; i < n; i++)
            bring(w, &burst[i], 12000, blocks, r->now_us);
        eb_tftp_put_taken(&r->put, n, r->now_us);
        if (n > 0)
            continue;
        uint64_t due_us = eb_tftp_put_deadline_us(&r->put);
        if (w->count > 0 && w->acks[w->first].at_us <= due_us) {
            unsigned number = w->acks[w->first].number;
            r->now_us = w->acks[w->first].at_us > r->now_us ? w->acks[w->first].at_us : r->now_us;
            w->first = (w->first + 1) % 64;
            w->count--;
            ack(r, number);
        } else {
            r->now_us = due_us > r->now_us ? due_us : r->now_us;
            eb_tftp_put_tick(&r->put, r->now_us);
        }
    }
    assert_int_equal(r->put.state, EB_TFTP_DONE);
    assert_int_equal(w->taken, blocks);
    return r->now_us - from_us;
}

/* From a fast port through a switch onto a slow wire: what the switch cannot keep is never sent, and the wire
 * is full all the same.  A way that is quicker than thought at first is used, too. */
static void a_narrow_way_loses_nothing_and_is_full(void **state)
{
    (void)state;
    static const struct {
        uint64_t block_ns, trip_us;
        double share; /* of the wire's time, a round trip aside for the first flight and one for the last */
    } rows[] = {
        {119520, 300, 0.98}, {119520, 1000, 0.98}, {119520, 10000, 0.97}, {119520, 50000, 0.97},
        {11952, 100, 0.97},  {11952, 300, 0.96},   {11952, 1000, 0.96},   {40000, 1000, 0.97},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        enum { BLOCKS = 30000 };
        bool quick = rows[i].block_ns < 119520; /* then what is sent at once may be as much as a window */
        struct rig r;
        struct way w = {
            .block_ns = rows[i].block_ns, .trip_us = rows[i].trip_us, .keeps = quick ? 12000 : 170};
        uint64_t took_us = send_over(&r, &w, BLOCKS);
        double wire_us = BLOCKS * (double)rows[i].block_ns / 1000;
        assert_int_equal(w.lost, 0);
        assert_int_equal(r.put.repeated, 0);
        assert_true(wire_us >= rows[i].share * (double)(took_us - 2 * rows[i].trip_us));
        end(&r);
    }
}

/* A device that erases before its first acknowledgement looks like a slow way.  The rest is not slow for
 * that. */
static void a_device_that_erases_first_is_not_taken_for_a_slow_way(void **state)
{
    (void)state;
    struct rig r;
    struct way w = {.block_ns = 119520, .trip_us = 1000, .keeps = 170, .pause_us = 3000000};
    uint64_t took_us = send_over(&r, &w, 30000);
    assert_in_range(took_us, 6000000, 6900000);
    assert_true(r.put.repeated < 3000); /* asked for meanwhile, more each time */
    end(&r);
}

/* What is known of such a device already spares it that: nothing is lost from the first flight on.  And one
 * that takes in more than is known gets more in the end. */
static void what_is_known_of_a_device_is_used_from_the_beginning(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    unsigned lost = 0;
    begin(&r, 8000000, 1000, 64);
    r.put.config.at_once = 20;
    grant_long_window(&r);
    for (int i = 0; i < 200 && r.put.state == EB_TFTP_SENDING; i++) {
        unsigned sent = flight_of(&r, &behind);
        pass(&r, 2000);
        ack(&r, (unsigned)r.put.acked + (sent < 20 ? sent : 20));
        assert_in_range(sent, 15, 24);
        lost += sent > 20;
    }
    assert_true(lost <= 8);
    end(&r);
    begin(&r, 8000000, 1000, 64);
    r.put.config.at_once = 20;
    grant_long_window(&r);
    unsigned longest = 0;
    while (r.put.state == EB_TFTP_SENDING) {
        unsigned sent = flight_of(&r, &behind);
        pass(&r, 2000);
        ack(&r, (unsigned)r.put.acked + sent);
        longest = sent > longest ? sent : longest;
    }
    assert_int_equal(r.put.state, EB_TFTP_DONE);
    assert_true(longest > 30);
    end(&r);
    begin(&r, 8000000, 1000, 64);
    r.put.config.pause_us = 300;
    grant_long_window(&r);
    uint64_t from_us = r.now_us;
    unsigned sent = flight_of(&r, &behind);
    assert_in_range(r.now_us - from_us, (sent - 4) * 300, sent * 600);
    end(&r);
}

/* Who takes one datagram at a time gets one, also where two would go out. */
static void a_burst_of_one_stays_one(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    begin_long_window(&r);
    for (unsigned i = 0; i < 9; i++) { /* at places that differ: flights end with two blocks out of order */
        flight_of(&r, &behind);
        pass(&r, 2000);
        ack(&r, (unsigned)r.put.acked + 1 + i % 3 * 2);
    }
    for (size_t given = 1, total = 0; given > 0; total++) {
        struct eb_datagram burst[2] = {{.size_bytes = 0}, {.size_bytes = 77777}};
        given = eb_tftp_put_give(&r.put, burst, 1, r.now_us);
        assert_true(given <= 1 && total < 200);
        assert_int_equal(burst[1].size_bytes, 77777);
        eb_tftp_put_taken(&r.put, given, r.now_us);
    }
    assert_true(r.put.nudged);
    end(&r);
}

/* One that takes in one block at a time gets pauses; without losses they shrink again. */
static void a_device_that_takes_one_block_at_a_time_gets_pauses(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    begin_long_window(&r);
    for (int i = 0; i < 40; i++) {
        flight_of(&r, &behind);
        pass(&r, 2000);
        ack(&r, (unsigned)r.put.acked + 1);
    }
    uint64_t pace_us = r.put.pace_us;
    assert_in_range(pace_us, 100, 2000);
    uint64_t from_us = r.now_us;
    unsigned sent = flight_of(&r, &behind);
    assert_in_range(r.now_us - from_us, (sent - 4) * pace_us, sent * 2000);
    for (int i = 0; i < 40; i++) {
        ack(&r, (unsigned)(r.put.next - 1));
        flight_of(&r, &behind);
        pass(&r, 2000);
    }
    assert_in_range(r.put.pace_us, 0, pace_us * 2 / 3);
    end(&r);
}

/* Loss that strikes anywhere slows nothing down: no pauses, and what is silent is asked within milliseconds.
 */
static void loss_on_the_way_makes_no_pauses(void **state)
{
    (void)state;
    struct rig r;
    unsigned behind;
    uint32_t seed = 12345;
    begin_long_window(&r);
    for (int i = 0; i < 200 && r.put.state == EB_TFTP_SENDING; i++) {
        unsigned sent = flight_of(&r, &behind);
        seed = seed * 1664525 + 1013904223;
        unsigned until = seed >> 25; /* 0 to 127 */
        pass(&r, 2000);
        if (until == 0 || until >= 120) { /* nothing comes back */
            assert_in_range(eb_tftp_put_deadline_us(&r.put), r.now_us, r.now_us + 100000);
            pass(&r, eb_tftp_put_deadline_us(&r.put) - r.now_us);
            flight_of(&r, &behind);
            until = 127;
        }
        ack(&r, (unsigned)r.put.acked + (until < sent ? until : sent));
    }
    assert_int_equal(r.put.pace_us, 0);
    end(&r);
}

static void a_port_without_room_loses_nothing(void **state)
{
    (void)state;
    struct rig r;
    struct eb_datagram burst[EB_BURST_MAX];
    begin(&r, 50000, 1000, 16);
    take(&r, NULL);
    RECEIVE(&r, &peer,
            "\0\6blksize\0"
            "1000\0windowsize\0"
            "16\0");
    unsigned expected = 1;
    while (r.put.state == EB_TFTP_SENDING) {
        size_t n = eb_tftp_put_give(&r.put, burst, 5, r.now_us);
        if (n == 0) {
            ack(&r, expected - 1);
            continue;
        }
        for (size_t i = 0; i < n; i++)
            assert_int_equal(burst[i].bytes[3], (expected + i) & 0xFF);
        size_t taken = expected % 3 < n ? expected % 3 : n; /* none, one or two of them */
        eb_tftp_put_taken(&r.put, taken, r.now_us);
        expected += (unsigned)taken;
        if (taken == 0) {
            eb_tftp_put_taken(&r.put, eb_tftp_put_give(&r.put, burst, 1, r.now_us), r.now_us);
            expected++;
        }
    }
    assert_int_equal(r.put.state, EB_TFTP_DONE);
    assert_int_equal(r.put.repeated, 0);
    end(&r);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(an_exact_multiple_ends_with_an_empty_block),
        cmocka_unit_test(block_numbers_roll_over),
        cmocka_unit_test(a_device_that_counts_on_in_the_other_way_ends_the_transfer),
        cmocka_unit_test(losses_before_the_rollover_put_nothing_in_another_place),
        cmocka_unit_test(the_window_follows_the_round_trip),
        cmocka_unit_test(a_window_goes_out_whole_and_then_waits),
        cmocka_unit_test(an_acknowledgement_inside_the_window_begins_a_new_full_one_there),
        cmocka_unit_test(repeated_acknowledgements_send_nothing),
        cmocka_unit_test(silence_repeats_the_window_with_backoff_until_patience_is_over),
        cmocka_unit_test(slow_flash_is_not_answered_with_repeats),
        cmocka_unit_test(a_device_with_a_short_queue_gets_what_it_takes),
        cmocka_unit_test(the_first_flight_of_a_long_window_is_short),
        cmocka_unit_test(a_narrow_way_loses_nothing_and_is_full),
        cmocka_unit_test(a_device_that_erases_first_is_not_taken_for_a_slow_way),
        cmocka_unit_test(what_is_known_of_a_device_is_used_from_the_beginning),
        cmocka_unit_test(a_burst_of_one_stays_one),
        cmocka_unit_test(a_device_that_takes_one_block_at_a_time_gets_pauses),
        cmocka_unit_test(loss_on_the_way_makes_no_pauses),
        cmocka_unit_test(a_port_without_room_loses_nothing),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
