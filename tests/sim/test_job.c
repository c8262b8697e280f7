/* Whole jobs on simulated hardware in virtual time: devices that refuse or ignore, wires that lose, many
 * devices at once, and jobs that are stopped. */
#include "support/support.h"

#include <einbau/job.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A little site, its simulated hardware, and a job on it. */
struct rig {
    struct little little;
    struct eb_sim *sim;
    const struct eb_port *port;
    struct job job;
};

/* Opens what little_make has made. */
static void rig_open(struct rig *r)
{
    struct eb_problem problem;
    r->sim = eb_sim_open(r->little.world_path, NULL, &problem);
    if (r->sim == NULL)
        fail_msg("%s", problem.text);
    r->port = eb_sim_port(r->sim);
    job_open(&r->job, r->little.site_path);
}

static void rig_close(struct rig *r)
{
    job_close(&r->job);
    eb_sim_close(r->sim);
}

static const struct eb_tftp_put *put_of(const struct eb_run *run)
{
    const struct eb_access_tftp_context *context = eb_run_context(run, &eb_access_tftp);
    return &context->put;
}

struct result {
    size_t confirmed, count;
    uint64_t frames, took_us;
};

/* Fits all devices of a little site made with `options`; tells how that went. */
static struct result fit_all(const struct little_options *options)
{
    struct rig r;
    little_make(&r.little, options);
    rig_open(&r);
    uint64_t began_us = eb_port_now_us(r.port);
    job_begin(&r.job, r.port, true);
    job_work(&r.job);
    struct result result = {.count = r.job.site->device_count,
                            .frames = eb_sim_frames(r.sim),
                            .took_us = eb_port_now_us(r.port) - began_us};
    for (size_t i = 0; i < result.count; i++) {
        result.confirmed += r.job.runs[i].outcome == EB_OUTCOME_CONFIRMED;
        if (r.job.runs[i].outcome != EB_OUTCOME_CONFIRMED)
            print_message("%s: %s, %s\n", r.job.site->devices[i].name, eb_outcome_word(r.job.runs[i].outcome),
                          r.job.runs[i].error.text);
    }
    rig_close(&r);
    little_remove(&r.little);
    return result;
}

static void expect_all_confirmed(const struct little_options *options)
{
    struct result r = fit_all(options);
    assert_int_equal(r.confirmed, r.count);
    assert_true(r.count > 0);
}

/* --- devices of every manner --------------------------------------------------------------------- */

static void devices_that_refuse_ignore_or_drop_options_are_fitted(void **state)
{
    (void)state;
    static const char *const manners[] = {"options: taken", "options: ignored", "options: refused",
                                          "options: dropped", "options: taken, rollover-to: 0"};
    for (size_t i = 0; i < sizeof manners / sizeof manners[0]; i++) {
        const struct little_options options = {.plcs = 1,
                                               .couplers = 1,
                                               .device_tftp = manners[i],
                                               .tftp = "windowsize: 4, blksize: 256, patience-s: 30"};
        expect_all_confirmed(&options);
    }
}

static void block_numbers_roll_over_as_the_device_counts(void **state)
{
    (void)state;
    static const struct {
        const char *profile, *device;
    } rows[] = {{"windowsize: 500, blksize: 8", "rollover-to: 0"},
                {"windowsize: 500, blksize: 8, rollover-to: 1", "rollover-to: 1"}};
    for (size_t i = 0; i < 2; i++) {
        const struct little_options options = {.couplers = 1,
                                               .image_bytes = 1100000,
                                               .capacity_kib = 2048,
                                               .no_times = true,
                                               .tftp = rows[i].profile,
                                               .device_tftp = rows[i].device};
        expect_all_confirmed(&options); /* 137500 blocks: twice round */
    }
}

static void answers_split_over_tcp_segments_are_put_together(void **state)
{
    (void)state;
    const struct little_options options = {
        .plcs = 1, .wire = "segment-bytes: 1", .device = "    modbus: {objects-per-answer: 1}\n"};
    expect_all_confirmed(&options);
}

static void blocks_are_as_large_as_the_path_carries(void **state)
{
    (void)state;
    static const struct {
        const char *wire;
        unsigned blksize;
    } rows[] = {{"mtu-bytes: 576", 544}, {"mtu-bytes: 1500", 1468}, {"mtu-bytes: 65536", 65464}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct rig r;
        const struct little_options options = {.couplers = 1,
                                               .image_bytes = 200000,
                                               .capacity_kib = 256,
                                               .wire = rows[i].wire,
                                               .tftp = "windowsize: 4"};
        little_make(&r.little, &options);
        rig_open(&r);
        job_begin(&r.job, r.port, true);
        job_work(&r.job);
        assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
        assert_int_equal(put_of(&r.job.runs[0])->blksize, rows[i].blksize);
        rig_close(&r);
        little_remove(&r.little);
    }
}

static void images_of_every_size_arrive_whole(void **state)
{
    (void)state;
    static const size_t sizes[] = {64, 127, 128, 129, 511, 512, 1024, 1025, 4096};
    for (size_t i = 0; i < sizeof sizes / sizeof sizes[0]; i++) {
        const struct little_options options = {.plcs = 1, .couplers = 1, .image_bytes = sizes[i]};
        expect_all_confirmed(&options);
    }
}

static void wires_that_lose_double_and_reorder_do_not_stop_it(void **state)
{
    (void)state;
    static const char *const wires[] = {
        "lost-ppm: 50000",
        "doubled-ppm: 200000",
        "reordered-ppm: 100000, jitter-us: 3000",
        "garbled-ppm: 50000",
        "latency-us: 300000",
        "lost-ppm: 30000, doubled-ppm: 30000, reordered-ppm: 30000, garbled-ppm: 10000, jitter-us: 500",
    };
    for (size_t i = 0; i < sizeof wires / sizeof wires[0]; i++) {
        const struct little_options options = {.plcs = 10, .couplers = 10, .wire = wires[i]};
        expect_all_confirmed(&options);
    }
}

static void doubled_datagrams_do_not_double_the_traffic(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.plcs = 1, .image_bytes = 8000, .wire = "doubled-ppm: 1000000"};
    little_make(&r.little, &options);
    rig_open(&r);
    job_begin(&r.job, r.port, true);
    uint64_t repeated = 0;
    while (eb_crew_work(&r.job.crew, EB_NEVER) > 0) {
        if (put_of(&r.job.runs[0])->repeated > repeated)
            repeated = put_of(&r.job.runs[0])->repeated;
    }
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    assert_int_equal(repeated, 0); /* each arrives twice, both ways, and not one block is sent again */
    rig_close(&r);
    little_remove(&r.little);
}

struct seen {
    unsigned rungs;
    uint64_t rate, left_first_us, left_last_us, done;
    unsigned sending;
};

static void see(void *context, const struct eb_run *run)
{
    struct seen *seen = context;
    const struct eb_progress *at = &run->progress;
    seen->rungs |= 1U << at->rung;
    if (at->rung != EB_RUNG_SEND || at->done_bytes == 0)
        return;
    assert_true(at->done_bytes >= seen->done && at->done_bytes <= at->total_bytes);
    seen->done = at->done_bytes;
    seen->rate = at->bytes_per_s;
    seen->left_last_us = at->left_us;
    if (seen->sending++ == 0)
        seen->left_first_us = at->left_us;
}

static void events_tell_rung_bytes_rate_and_time_left(void **state)
{
    (void)state;
    struct rig r;
    struct seen seen = {0};
    const struct little_options options = {.couplers = 1, .image_bytes = 100000, .capacity_kib = 128};
    little_make(&r.little, &options);
    rig_open(&r);
    job_begin(&r.job, r.port, true);
    r.job.runs[0].config.event = see;
    r.job.runs[0].config.event_context = &seen;
    job_work(&r.job);
    for (int rung = EB_RUNG_IDENTIFY; rung <= EB_RUNG_END; rung++)
        assert_int_equal(seen.rungs >> rung & 1,
                         rung != EB_RUNG_RESTORE && rung != EB_RUNG_SAVE); /* nothing had to be undone */
    assert_in_range(seen.sending, 5, 15);                                  /* two seconds, every 200 ms */
    assert_in_range(seen.rate, 35000, 50000); /* the flash takes 50 kB/s, and 400 ms to erase */
    assert_in_range(seen.left_first_us, 1000000, 20000000);
    assert_in_range(seen.left_last_us, 1, 400000);
    rig_close(&r);
    little_remove(&r.little);
}

static void a_device_that_erases_for_long_is_waited_for(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1,
                                           .couplers = 1,
                                           .device = "    erase-ms: 12000\n",
                                           .tftp = "windowsize: 4, patience-s: 40",
                                           .no_times = true};
    expect_all_confirmed(&options); /* its answer comes after requests with and without options */
}

static void the_same_seed_gives_the_same_run(void **state)
{
    (void)state;
    const struct little_options options = {
        .plcs = 5, .couplers = 5, .wire = "lost-ppm: 30000, jitter-us: 200"};
    struct result a = fit_all(&options);
    struct result b = fit_all(&options);
    assert_int_equal(a.frames, b.frames);
    assert_int_equal(a.took_us, b.took_us);
    assert_true(a.took_us > 1000000);
}

static void two_hundred_take_little_longer_than_one(void **state)
{
    (void)state;
    struct little_options options = {
        .couplers = 1, .image_bytes = 20000, .capacity_kib = 64, .wire = "rate-mbit-per-s: 1000"};
    struct result one = fit_all(&options);
    options.couplers = 200;
    struct result many = fit_all(&options);
    assert_int_equal(many.confirmed, 200);
    assert_in_range(many.took_us, one.took_us,
                    one.took_us * 11 / 10); /* virtual time: the same on every machine */
}

/* --- stopping ------------------------------------------------------------------------------------ */

static void stopping_at_any_moment_leaves_a_running_device(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.plcs = 1, .couplers = 1, .image_bytes = 6000};
    size_t interrupted = 0;
    size_t confirmed = 0;
    little_make(&r.little, &options);
    for (uint64_t at = 0; at < 200; at++) {
        rig_open(&r);
        job_begin(&r.job, r.port, true);
        while (r.job.crew.going > 0 && eb_sim_frames(r.sim) < at)
            eb_crew_work(&r.job.crew, eb_port_now_us(r.port) + 500);
        eb_crew_stop(&r.job.crew);
        job_work(&r.job);
        for (size_t i = 0; i < 2; i++) {
            const char *name = r.job.site->devices[i].name;
            enum eb_outcome outcome = r.job.runs[i].outcome;
            interrupted += outcome == EB_OUTCOME_INTERRUPTED;
            confirmed += outcome == EB_OUTCOME_CONFIRMED;
            if (outcome != EB_OUTCOME_INTERRUPTED && outcome != EB_OUTCOME_CONFIRMED &&
                outcome != EB_OUTCOME_IN_LOADER)
                fail_msg("%s stopped at frame %u: %s", name, (unsigned)at, eb_outcome_word(outcome));
            enum eb_sim_mode mode = eb_sim_mode_of(r.sim, name);
            if (mode != (outcome == EB_OUTCOME_IN_LOADER ? EB_SIM_LOADER : EB_SIM_RUNNING))
                fail_msg("%s stopped at frame %u: %s, in mode %d", name, (unsigned)at,
                         eb_outcome_word(outcome), mode);
        }
        rig_close(&r);
    }
    assert_true(interrupted > 50);
    assert_true(confirmed > 10);
    little_remove(&r.little);
}

static void a_device_that_dies_for_good_is_called_failed(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.plcs = 1, .couplers = 1, .image_bytes = 6000};
    little_make(&r.little, &options);
    rig_open(&r);
    job_begin(&r.job, r.port, true);
    while (r.job.runs[1].progress.done_bytes == 0)
        eb_crew_work(&r.job.crew, eb_port_now_us(r.port) + 500);
    eb_sim_power(r.sim, "coupler-1", false);
    job_work(&r.job);
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_CONFIRMED); /* the others go on */
    assert_int_equal(r.job.runs[1].outcome, EB_OUTCOME_FAILED);
    assert_int_equal(r.job.runs[1].error.status, EB_NO_ANSWER);
    assert_false(r.job.runs[1].identified);
    eb_sim_power(r.sim, "coupler-1", true); /* hours later it is found in its loader, and rescued */
    eb_sim_pass(r.sim, 10000000);
    assert_int_equal(eb_sim_mode_of(r.sim, "coupler-1"), EB_SIM_LOADER);
    job_begin(&r.job, r.port, true);
    job_work(&r.job);
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_UP_TO_DATE);
    assert_int_equal(r.job.runs[1].outcome, EB_OUTCOME_CONFIRMED);
    rig_close(&r);
    little_remove(&r.little);
}

static void a_run_judges_again_before_it_writes(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.couplers = 1};
    size_t size;
    little_make(&r.little, &options);
    write_image(r.little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "4..6", "");
    rig_open(&r);
    uint8_t *before = malloc(8192);
    memcpy(before, eb_sim_flash(r.sim, "coupler-1", "firmware", &size), 8192);
    job_begin(&r.job, r.port, true);
    job_work(&r.job);
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_REFUSED);
    assert_int_equal(r.job.items[0][0].verdict->answer, EB_DOES_NOT_FIT);
    assert_int_equal(eb_sim_mode_of(r.sim, "coupler-1"), EB_SIM_RUNNING); /* not even prepared */
    assert_memory_equal(before, eb_sim_flash(r.sim, "coupler-1", "firmware", &size), 8192);
    free(before);
    rig_close(&r);
    little_remove(&r.little);
}

/* Another device at the same address, with the wanted version in it, is no confirmation. */
static void another_device_that_answers_afterwards_does_not_count(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.couplers = 2};
    little_make(&r.little, &options);
    rig_open(&r);
    job_begin(&r.job, r.port, true);
    while (r.job.runs[0].progress.rung != EB_RUNG_RETURN)
        eb_crew_work(&r.job.crew, eb_port_now_us(r.port) + 1000);
    r.job.runs[0].config.target.modbus = r.job.site->devices[1].modbus;
    job_work(&r.job);
    assert_int_equal(r.job.runs[1].outcome, EB_OUTCOME_CONFIRMED);
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_FAILED);
    assert_int_equal(r.job.runs[0].error.status, EB_OTHER);
    assert_string_equal(r.job.runs[0].error.text, "found C-2, expected C-1");
    rig_close(&r);
    little_remove(&r.little);
}

static void the_right_version_with_other_bytes_is_not_already_right(void **state)
{
    (void)state;
    struct rig r;
    const struct little_options options = {.couplers = 1};
    size_t size;
    little_make(&r.little, &options);
    write_image(r.little.folder, "coupler-1.0.bin", "TC-1", "firmware", "2.0", 2000, "1..9",
                ""); /* runs: another 2.0 */
    rig_open(&r);
    job_begin(&r.job, r.port, true);
    job_work(&r.job);
    assert_string_equal(r.job.items[0][0].from, "2.0");
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    size_t image_size;
    char *image = read_text(r.little.folder, "coupler-2.0.bin", &image_size);
    assert_memory_equal(image, eb_sim_flash(r.sim, "coupler-1", "firmware", &size), image_size);
    free(image);
    job_begin(&r.job, r.port, true);
    job_work(&r.job);
    assert_int_equal(r.job.runs[0].outcome, EB_OUTCOME_UP_TO_DATE);
    rig_close(&r);
    little_remove(&r.little);
}

/* --- the simulated device judges what it receives ------------------------------------------------ */

struct raw {
    struct little little;
    struct eb_sim *sim;
    const struct eb_port *port;
    int handle;
    struct eb_endpoint device;
};

static void raw_open(struct raw *r, const char *device_tftp)
{
    struct eb_problem problem;
    const struct little_options options = {.plcs = 1, .no_times = true, .device_tftp = device_tftp};
    little_make(&r->little, &options);
    char *world = read_text(r->little.folder, "world.yaml", NULL);
    memcpy(strstr(world, "writable: stopped"), "writable: always ", 17);
    write_text(r->little.folder, "world.yaml", "%s", world);
    free(world);
    r->sim = eb_sim_open(r->little.world_path, NULL, &problem);
    assert_non_null(r->sim);
    r->port = eb_sim_port(r->sim);
    r->device = (struct eb_endpoint){{192, 0, 2, 1}, 69};
    assert_int_equal(r->port->udp->open(r->port->self, NULL, NULL, &r->handle), EB_OK);
}

static void raw_close(struct raw *r)
{
    eb_sim_close(r->sim);
    little_remove(&r->little);
}

/* Sends one datagram; gives the size of what comes back within 100 ms, 0 for nothing. */
static size_t talk(struct raw *r, int handle, const struct eb_endpoint *to, const void *bytes, size_t size,
                   uint8_t answer[600], struct eb_endpoint *from)
{
    uint8_t copy[600];
    memcpy(copy, bytes, size);
    const struct eb_datagram out = {*to, copy, size};
    assert_int_equal(r->port->udp->send(r->port->self, handle, &out, 1), 1);
    uint64_t until_us = eb_port_now_us(r->port) + 100000;
    while (eb_port_now_us(r->port) < until_us) {
        eb_port_wait(r->port, until_us);
        struct eb_datagram in = {.bytes = answer, .size_bytes = 600};
        size_t n = 0;
        if (r->port->udp->receive(r->port->self, handle, &in, 1, &n) == EB_OK && n == 1) {
            if (from != NULL)
                *from = in.peer;
            return in.size_bytes;
        }
    }
    return 0;
}

static void the_device_answers_wrong_requests_with_the_standards_errors(void **state)
{
    (void)state;
#define ROW(text, error)                                                                                     \
    {                                                                                                        \
        text, sizeof(text) - 1, error                                                                        \
    }
    static const struct {
        const char *bytes;
        size_t size;
        int error; /* -1: silence, -2: begins a transfer */
    } rows[] = {
        ROW("", -1), /* the opcode is not read before the length is known */
        ROW("\0", -1),
        ROW("\0\2", -1),
        ROW("\0\2f", -1),
        ROW("\0\5\0\0no\0", -1),     /* an ERROR is never answered */
        ROW("\0\2fw.bin\0octet", 4), /* mode without its end */
        ROW("\0\2fw.bin", 4),
        ROW("\0\2\0octet\0", 4),                /* no name */
        ROW("\0\2fw.bin\0octet\0blksize\0", 4), /* option without a value */
        ROW("\0\2fw.bin\0netascii\0", 4),
        ROW("\0\1fw.bin\0octet\0", 2), /* reading */
        ROW("\0\3\0\1data", 4),
        ROW("\0\11\0\0", 4),
        ROW("\0\2other.bin\0octet\0", 1),
        ROW("\0\2fw.bin\0octet\0tsize\0"
            "8193\0",
            3), /* one byte more than the flash holds */
        ROW("\0\2fw.bin\0octet\0tsize\0"
            "8192\0",
            -2),
        ROW("\0\2fw.bin\0OCTET\0", -2),
        ROW("\0\2fw.bin\0octet\0colour\0red\0", -2), /* RFC 2347: left out of the answer */
        ROW("\0\2fw.bin\0octet\0blksize\0"
            "7\0",
            -2),
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct raw r;
        uint8_t answer[600];
        raw_open(&r, NULL);
        size_t n = talk(&r, r.handle, &r.device, rows[i].bytes, rows[i].size, answer, NULL);
        if (rows[i].error == -1 ? n != 0
            : rows[i].error == -2
                ? n < 4 || (answer[1] != 4 && answer[1] != 6)
                : n < 5 || answer[1] != 5 || answer[3] != rows[i].error || answer[n - 1] != 0)
            fail_msg("row %zu: %zu bytes back, opcode %d, error %d", i, n, answer[1], answer[3]);
        raw_close(&r);
    }
}

static void the_device_keeps_its_transfer_from_strangers(void **state)
{
    (void)state;
    struct raw r;
    uint8_t answer[600];
    struct eb_endpoint tid = {0};
    int other;
    raw_open(&r, NULL);
    assert_int_equal(r.port->udp->open(r.port->self, NULL, NULL, &other), EB_OK);
    assert_int_equal(talk(&r, r.handle, &r.device, "\0\2fw.bin\0octet\0", 15, answer, &tid), 4);
    assert_memory_equal(answer, "\0\4\0\0", 4);
    assert_int_not_equal(tid.port, 69); /* a transfer id of its own */
    assert_true(talk(&r, other, &tid, "\0\3\0\1x", 5, answer, NULL) > 4);
    assert_memory_equal(answer, "\0\5\0\5", 4);
    assert_true(talk(&r, other, &r.device, "\0\2fw.bin\0octet\0", 15, answer, NULL) > 4);
    assert_memory_equal(answer, "\0\5\0\0", 4); /* busy */
    assert_int_equal(talk(&r, r.handle, &tid, "\0\3\0\1abc", 7, answer, NULL), 4);
    assert_memory_equal(answer, "\0\4\0\1", 4);
    assert_int_equal(talk(&r, r.handle, &tid, "\0\3\0\1abc", 7, answer, NULL),
                     4); /* the last ACK was lost: it dallies */
    assert_memory_equal(answer, "\0\4\0\1", 4);
    eb_sim_pass(r.sim, 5000000);
    assert_int_equal(talk(&r, r.handle, &tid, "\0\3\0\1abc", 7, answer, NULL), 0); /* not for ever */
    raw_close(&r);
}

/* A caller that carries a plan out although one device is refused: that one is not begun. */
static void a_refused_device_is_not_begun(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 2};
    struct little little;
    struct eb_problem problem = {""};
    size_t size;
    size_t capacity;
    little_make(&little, &options);
    replace_in(&little, "world.yaml", "hardware-revision: 3\n    serial: C-2",
               "hardware-revision: 12\n    serial: C-2");
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    assert_non_null(sim);
    const struct eb_job_config config = {
        .site = little.site_path, .shelf_may_miss = true, .simulated = true, .port = eb_sim_port(sim)};
    struct eb_job *job = eb_job_open(&config, &problem);
    if (job == NULL)
        fail_msg("%s", problem.text);
    assert_true(eb_job_look(job) && eb_job_shelf(job, false) && eb_job_plan(job) && eb_job_carry_out(job));
    assert_int_equal(job->devices[0].fit.outcome, EB_OUTCOME_CONFIRMED);
    assert_true(job->devices[1].refused && !job->devices[1].begun);
    assert_int_equal(eb_job_outcome(&job->devices[1]), EB_OUTCOME_REFUSED);
    char *old = read_text(little.folder, "coupler-1.0.bin", &size);
    assert_memory_equal(eb_sim_flash(sim, "coupler-2", "firmware", &capacity), old, size);
    assert_false(
        eb_job_fit(job, &problem)); /* all of it in one call: nothing is written while one is refused */
    free(old);
    eb_job_close(job);
    eb_sim_close(sim);
    little_remove(&little);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(devices_that_refuse_ignore_or_drop_options_are_fitted),
        cmocka_unit_test(block_numbers_roll_over_as_the_device_counts),
        cmocka_unit_test(answers_split_over_tcp_segments_are_put_together),
        cmocka_unit_test(blocks_are_as_large_as_the_path_carries),
        cmocka_unit_test(images_of_every_size_arrive_whole),
        cmocka_unit_test(wires_that_lose_double_and_reorder_do_not_stop_it),
        cmocka_unit_test(doubled_datagrams_do_not_double_the_traffic),
        cmocka_unit_test(events_tell_rung_bytes_rate_and_time_left),
        cmocka_unit_test(a_device_that_erases_for_long_is_waited_for),
        cmocka_unit_test(the_same_seed_gives_the_same_run),
        cmocka_unit_test(two_hundred_take_little_longer_than_one),
        cmocka_unit_test(stopping_at_any_moment_leaves_a_running_device),
        cmocka_unit_test(a_device_that_dies_for_good_is_called_failed),
        cmocka_unit_test(a_run_judges_again_before_it_writes),
        cmocka_unit_test(another_device_that_answers_afterwards_does_not_count),
        cmocka_unit_test(the_right_version_with_other_bytes_is_not_already_right),
        cmocka_unit_test(the_device_answers_wrong_requests_with_the_standards_errors),
        cmocka_unit_test(the_device_keeps_its_transfer_from_strangers),
        cmocka_unit_test(a_refused_device_is_not_begun),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
