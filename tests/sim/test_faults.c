/* Every datagram and every TCP segment of a whole job, struck by every fault, in virtual time.
 *
 * Whatever happens, afterwards the device runs the old version or the new one, or sits in its loader and is
 * said to; and what is called confirmed runs from a flash that holds the image to the last byte. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    AFTER_US = 60000000,
    PAIR_REACH = 8 /* a window of 8 and its acknowledgement */
};

static const char *const kind_words[] = {"lost",    "doubled",        "late",
                                         "garbled", "garbled unseen", "power lost",
                                         "bus-off", "adapter lost",   "gateway's power lost",
                                         "stalled", "status error",   "unplugged",
                                         "moved"};

#define BIT(kind) (1U << (kind))
static const unsigned ip_kinds = BIT(EB_SIM_POWER_LOST + 1) - 1;
static const unsigned can_kinds = BIT(EB_SIM_GATEWAY_LOST + 1) - 1;
static const unsigned usb_kinds = BIT(EB_SIM_LOST) | BIT(EB_SIM_LATE) | BIT(EB_SIM_GARBLED_UNSEEN) |
                                  BIT(EB_SIM_POWER_LOST) | BIT(EB_SIM_STALLED) | BIT(EB_SIM_STATUS_ERROR) |
                                  BIT(EB_SIM_UNPLUGGED) | BIT(EB_SIM_MOVED);

struct subject {
    const char *name; /* of the one device */
    size_t run;       /* its run's place in the job */
    struct little little;
    struct job job; /* its site and images, read once for all cases */
    const char *components[2];
    size_t count;
    uint8_t *old_image[2], *new_image[2], *through;
    size_t old_size[2], new_size[2], through_size;
};

struct tally {
    unsigned long cases, confirmed, failed, in_loader, other, rescued;
    unsigned long
        excused; /* failed, after damage that no checksum shows, or a bus-off: there a try more may do harm */
};

static struct tally tally;

static void open_subject(struct subject *s, bool plc, bool through, const char *device)
{
    const struct little_options options = {.plcs = plc,
                                           .couplers = !plc,
                                           .image_bytes = 8000,
                                           .device = device,
                                           .through = through,
                                           .tftp = "windowsize: 8, blksize: 128, patience-s: 20"};
    static const char *const plc_files[2][2] = {{"plc-1.0.bin", "plc-2.0.bin"},
                                                {"display-1.0.bin", "display-2.0.bin"}};
    static const char *const coupler_files[2] = {"coupler-1.0.bin", "coupler-2.0.bin"};
    memset(s, 0, sizeof *s);
    s->name = plc ? "plc-1" : "coupler-1";
    s->components[0] = "firmware";
    s->components[1] = "display";
    s->count = plc ? 2 : 1;
    little_make(&s->little, &options);
    job_open(&s->job, s->little.site_path);
    for (size_t i = 0; i < s->count; i++) {
        const char *const *files = plc ? plc_files[i] : coupler_files;
        s->old_image[i] = (uint8_t *)read_text(s->little.folder, files[0], &s->old_size[i]);
        s->new_image[i] = (uint8_t *)read_text(s->little.folder, files[1], &s->new_size[i]);
    }
    s->through = (uint8_t *)read_text(s->little.folder, "plc-1.5.bin", &s->through_size);
}

static void close_subject(struct subject *s)
{
    job_close(&s->job);
    little_remove(&s->little);
    for (size_t i = 0; i < s->count; i++) {
        free(s->old_image[i]);
        free(s->new_image[i]);
    }
    free(s->through);
}

static bool flash_holds(const struct subject *s, const struct eb_sim *sim, size_t i, bool new_one)
{
    size_t capacity;
    const uint8_t *flash = eb_sim_flash(sim, s->name, s->components[i], &capacity);
    return memcmp(flash, new_one ? s->new_image[i] : s->old_image[i],
                  new_one ? s->new_size[i] : s->old_size[i]) == 0;
}

static bool flash_is_between(const struct subject *s, const struct eb_sim *sim, size_t i)
{
    size_t capacity;
    return i == 0 && s->through != NULL &&
           memcmp(eb_sim_flash(sim, s->name, s->components[i], &capacity), s->through, s->through_size) == 0;
}

/* The laptop's process dies when `kill_at` frames were on the wire; UINT64_MAX: never. */
static void work(struct job *job, struct eb_sim *sim, uint64_t kill_at)
{
    const struct eb_port *port = eb_sim_port(sim);
    if (kill_at == UINT64_MAX) {
        job_work(job);
        return;
    }
    while (job->crew.going > 0 && eb_sim_frames(sim) < kill_at)
        eb_crew_work(&job->crew, eb_port_now_us(port) + 1000);
    eb_crew_abandon(&job->crew);
}

static void tell_rung(void *context, const struct eb_run *run)
{
    (void)context;
    print_message("%10llu us: %s, try %u, item %u\n", (unsigned long long)run->now_us,
                  eb_rung_word(run->progress.rung), run->progress.attempt, (unsigned)run->progress.item);
}

static uint64_t try_case(struct subject *s, const struct eb_sim_fault *faults, size_t count, uint64_t kill_at,
                         const char *what)
{
    struct eb_problem problem;
    struct job *job = &s->job;
    struct eb_sim *sim = eb_sim_open(s->little.world_path, NULL, &problem);
    assert_non_null(sim);
    eb_sim_set_faults(sim, faults, count);
    job_forget(job);
    job_begin(job, eb_sim_port(sim), true);
    if (getenv("EINBAU_TEST_CASE") != NULL)
        job->runs[s->run].config.event = tell_rung;
    work(job, sim, kill_at);
    uint64_t frames = eb_sim_frames(sim);
    enum eb_outcome outcome = job->runs[s->run].outcome;
    bool identified = job->runs[s->run].identified;
    bool all_new = true;
    tally.cases++;

    if (outcome == EB_OUTCOME_CONFIRMED) {
        tally.confirmed++;
        for (size_t i = 0; i < s->count; i++) {
            if (!flash_holds(s, sim, i, true))
                fail_msg("%s: confirmed, but the %s's flash does not hold the image", what, s->components[i]);
        }
    }
    if (outcome == EB_OUTCOME_FAILED && kill_at == UINT64_MAX && identified &&
        eb_sim_mode_of(sim, s->name) == EB_SIM_STOPPED)
        fail_msg("%s: failed, and the program was left stopped", what);
    eb_sim_pass(sim, AFTER_US);
    enum eb_sim_mode mode = eb_sim_mode_of(sim, s->name);
    for (size_t i = 0; i < s->count && mode != EB_SIM_LOADER; i++) {
        bool new_one = flash_holds(s, sim, i, true);
        all_new = all_new && new_one;
        if (!new_one && !flash_holds(s, sim, i, false) && !flash_is_between(s, sim, i))
            fail_msg("%s: the device runs a %s that is neither old nor new", what, s->components[i]);
    }
    if (outcome == EB_OUTCOME_CONFIRMED && mode != EB_SIM_RUNNING)
        fail_msg("%s: confirmed, but the device is in mode %d in the end", what, mode);
    if (mode != EB_SIM_LOADER && mode != EB_SIM_RUNNING && mode != EB_SIM_STOPPED)
        fail_msg("%s: the device is in mode %d in the end", what, mode);
    const struct eb_run *run = &job->runs[s->run];
    if (outcome != EB_OUTCOME_CONFIRMED && getenv("EINBAU_TEST_LOUD"))
        print_message("%s: %s: %s: %s: %s (%u failures, first %s: %s)\n", what, eb_outcome_word(outcome),
                      run->error.where != NULL ? run->error.where : "", eb_status_word(run->error.status),
                      run->error.text, run->failures,
                      run->first_error.where != NULL ? run->first_error.where : "", run->first_error.text);
    bool excused = false;
    for (size_t i = 0; i < count; i++)
        excused = excused || faults[i].kind == EB_SIM_GARBLED_UNSEEN || faults[i].kind == EB_SIM_BUS_OFF;
    tally.excused += excused && (outcome == EB_OUTCOME_FAILED || outcome == EB_OUTCOME_IN_LOADER);
    tally.failed += outcome == EB_OUTCOME_FAILED;
    tally.in_loader += outcome == EB_OUTCOME_IN_LOADER;
    tally.other +=
        outcome != EB_OUTCOME_FAILED && outcome != EB_OUTCOME_IN_LOADER && outcome != EB_OUTCOME_CONFIRMED;

    /* It is found as it is, and can be fitted from there. */
    eb_sim_set_faults(sim, NULL, 0);
    job_begin(job, eb_sim_port(sim), false);
    job_work(job);
    if (!job->runs[s->run].identified || job->runs[s->run].in_loader != (mode == EB_SIM_LOADER))
        fail_msg("%s: %s, but a look says otherwise", what,
                 mode == EB_SIM_LOADER ? "in its loader" : "running");
    job_begin(job, eb_sim_port(sim), true);
    job_work(job);
    if (job->runs[s->run].outcome !=
        (all_new && mode != EB_SIM_LOADER ? EB_OUTCOME_UP_TO_DATE : EB_OUTCOME_CONFIRMED))
        fail_msg("%s: fitted once more without a fault, the outcome is %s", what,
                 eb_outcome_word(job->runs[s->run].outcome));
    tally.rescued += mode == EB_SIM_LOADER;
    eb_sim_close(sim);
    return frames;
}

static void strike(struct subject *s, unsigned kinds)
{
    const char *only = getenv("EINBAU_TEST_CASE");
    if (only != NULL) { /* one case, with all that it does: "125 4", frame and kind */
        char *end;
        struct eb_sim_fault one = {strtoul(only, &end, 10), EB_SIM_LOST};
        one.kind = (enum eb_sim_fault_kind)strtoul(end, NULL, 10);
        try_case(s, &one, 1, UINT64_MAX, "one case");
        return;
    }
    char what[128];
    memset(&tally, 0, sizeof tally);
    uint64_t frames = try_case(s, NULL, 0, UINT64_MAX, "no fault");
    assert_int_equal(tally.confirmed, 1);
    assert_true(frames > 50);
    for (uint64_t f = 0; f < frames; f += every(1)) {
        for (int kind = 0; kinds >> kind != 0; kind++) {
            if ((kinds >> kind & 1) == 0)
                continue;
            const struct eb_sim_fault fault = {f, (enum eb_sim_fault_kind)kind};
            snprintf(what, sizeof what, "%s, frame %u %s", s->name, (unsigned)f, kind_words[kind]);
            try_case(s, &fault, 1, UINT64_MAX, what);
        }
        snprintf(what, sizeof what, "%s, laptop killed at frame %u", s->name, (unsigned)f);
        try_case(s, NULL, 0, f, what);
        for (uint64_t g = f + 1; g <= f + PAIR_REACH && g < frames; g++) {
            const struct eb_sim_fault pair[] = {{f, EB_SIM_LOST}, {g, EB_SIM_LOST}};
            snprintf(what, sizeof what, "%s, frames %u and %u lost", s->name, (unsigned)f, (unsigned)g);
            try_case(s, pair, 2, UINT64_MAX, what);
        }
    }
    print_message("%s: %lu cases on %u frames: %lu confirmed, %lu failed, %lu in loader, %lu of these by "
                  "damage that no "
                  "checksum shows or by a bus-off, %lu refused or interrupted; %lu found in the loader "
                  "afterwards, all of "
                  "them rescued\n",
                  s->name, tally.cases, (unsigned)frames, tally.confirmed, tally.failed, tally.in_loader,
                  tally.excused, tally.other, tally.rescued);
    assert_true(tally.cases > 1000 / every(1));
    assert_true(tally.confirmed > tally.cases / 2);
    assert_true(tally.failed + tally.in_loader - tally.excused <=
                5); /* one fault, or two lost frames, are no reason to give up */
    assert_true(tally.excused <= 16);
    close_subject(s);
}

static void strike_everything(bool plc, bool through)
{
    struct subject s;
    open_subject(&s, plc, through, NULL);
    strike(&s, ip_kinds);
}

/* A CANopen node or a UDS unit behind its gateway. */
static void strike_a_bus(bool node)
{
    const struct bus_options options = {
        .nodes = node, .units = !node, .image_bytes = 500, .device = "    response-us: 200\n"};
    struct subject s = {.name = node ? "node-1" : "unit-1", .run = 1, .components = {"firmware"}, .count = 1};
    bus_make(&s.little, &options);
    job_open(&s.job, s.little.site_path);
    s.old_image[0] =
        (uint8_t *)read_text(s.little.folder, node ? "node-1.0.bin" : "unit-1.0.bin", &s.old_size[0]);
    s.new_image[0] =
        (uint8_t *)read_text(s.little.folder, node ? "node-2.0.bin" : "unit-2.0.bin", &s.new_size[0]);
    strike(&s, can_kinds);
}

/* Two transfers one behind the other, each with each fault. */
static void strike_neighbours(struct subject *s, unsigned kinds)
{
    char what[128];
    memset(&tally, 0, sizeof tally);
    uint64_t frames = try_case(s, NULL, 0, UINT64_MAX, "no fault");
    for (uint64_t f = 0; f + 1 < frames; f += every(1)) {
        for (int pair = 0; pair < 256; pair++) {
            const struct eb_sim_fault faults[] = {{f, (enum eb_sim_fault_kind)(pair / 16)},
                                                  {f + 1, (enum eb_sim_fault_kind)(pair % 16)}};
            if ((kinds >> pair / 16 & 1) == 0 || (kinds >> pair % 16 & 1) == 0)
                continue;
            snprintf(what, sizeof what, "%s, frame %u %s, then %s", s->name, (unsigned)f,
                     kind_words[pair / 16], kind_words[pair % 16]);
            try_case(s, faults, 2, UINT64_MAX, what);
        }
    }
    print_message("%s: %lu pairs of neighbours: %lu confirmed, %lu failed, %lu in loader, %lu refused or "
                  "interrupted; %lu found in the loader afterwards, all of them rescued\n",
                  s->name, tally.cases, tally.confirmed, tally.failed, tally.in_loader, tally.other,
                  tally.rescued);
    assert_true(tally.cases > 1000 / every(1));
    assert_true(tally.failed + tally.in_loader - tally.excused <= tally.cases / 100);
}

static void open_gauge(struct subject *s, const struct usb_options *options)
{
    *s = (struct subject){.name = "gauge-1", .components = {"firmware"}, .count = 1};
    usb_make(&s->little, options);
    job_open(&s->job, s->little.site_path);
    s->old_image[0] = (uint8_t *)read_text(s->little.folder, "gauge-1.0.bin", &s->old_size[0]);
    s->new_image[0] = (uint8_t *)read_text(s->little.folder, "gauge-2.0.bin", &s->new_size[0]);
}

/* A device with one bank that wants resets; and one with two that goes by itself and is read back. */
static void every_fault_at_every_transfer_of_a_dfu_job(void **state)
{
    (void)state;
    const struct usb_options plain = {
        .gauges = 1, .image_bytes = 900, .device = "    erase-ms: 30\n    write-bytes-per-s: 20000\n"};
    const struct usb_options fine = {.gauges = 1,
                                     .image_bytes = 900,
                                     .usb = "detaches-itself: yes, manifest: tolerant, uploads: yes",
                                     .component = "banks: 2",
                                     .device = "    erase-ms: 30\n    write-bytes-per-s: 20000\n"};
    struct subject s;
    open_gauge(&s, &plain);
    strike_neighbours(&s, usb_kinds);
    strike(&s, usb_kinds);
    open_gauge(&s, &fine);
    strike_neighbours(&s, usb_kinds);
    strike(&s, usb_kinds);
}

static void every_fault_at_every_frame_of_a_canopen_job(void **state)
{
    (void)state;
    strike_a_bus(true);
}

static void every_fault_at_every_frame_of_a_uds_job(void **state)
{
    (void)state;
    strike_a_bus(false);
}

static void every_fault_at_every_frame_of_a_plc(void **state)
{
    (void)state;
    strike_everything(true, false);
}

/* Its firmware by way of another version, and the last two images taken up by one restart. */
static void every_fault_at_every_frame_of_a_way(void **state)
{
    (void)state;
    strike_everything(true, true);
}

static void every_fault_at_every_frame_of_a_coupler(void **state)
{
    (void)state;
    strike_everything(false, false);
}

/* A loader that checks nothing starts whatever it finds: then only what is read back can tell. */
static void damage_that_no_loader_sees_is_caught_by_the_confirm(void **state)
{
    (void)state;
    struct subject s;
    struct eb_problem problem;
    unsigned damaged = 0;
    struct job *job = &s.job;
    open_subject(&s, false, false, "    checks-crc: no\n");
    for (uint64_t f = 0; f < 120; f++) {
        const struct eb_sim_fault faults[] = {{f, EB_SIM_GARBLED_UNSEEN}};
        struct eb_sim *sim = eb_sim_open(s.little.world_path, NULL, &problem);
        assert_non_null(sim);
        eb_sim_set_faults(sim, faults, 1);
        job_forget(job);
        job_begin(job, eb_sim_port(sim), true);
        while (job->crew.going > 0) {
            eb_crew_work(&job->crew, EB_NEVER);
            if (job->runs[0].progress.attempt > 1 && job->runs[0].error.status == EB_UNCONFIRMED) {
                damaged++;
                assert_true(job->runs[0].in_loader || !flash_holds(&s, sim, 0, true));
                break;
            }
        }
        job_work(job);
        if (job->runs[0].outcome == EB_OUTCOME_CONFIRMED)
            assert_true(flash_holds(&s, sim, 0, true));
        eb_sim_close(sim);
    }
    print_message("%u of 120 single bits went into the flash unseen, and none was confirmed\n", damaged);
    assert_true(damaged > 40);
    close_subject(&s);
}

/* All kinds of trouble at once, at random: what is called confirmed is, whatever happened on the way. */
static void storms_never_make_a_false_confirmation(void **state)
{
    (void)state;
    unsigned confirmed = 0;
    unsigned not_confirmed = 0;
    for (unsigned seed = 0; seed < 150; seed++) {
        char wire[256];
        struct eb_problem problem;
        struct job job;
        struct little little;
        unsigned rate = seed % 5 * 30000;
        snprintf(wire, sizeof wire,
                 "lost-ppm: %u, doubled-ppm: %u, reordered-ppm: %u, garbled-ppm: %u, garbled-unseen-ppm: %u, "
                 "jitter-us: %u",
                 rate, rate, rate, rate, seed % 3 * 10000, seed % 7 * 700);
        const struct little_options options = {.plcs = 2,
                                               .couplers = 2,
                                               .image_bytes = 5000,
                                               .wire = wire,
                                               .device = seed % 2 != 0 ? "    checks-crc: no\n" : NULL};
        little_make(&little, &options);
        struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
        assert_non_null(sim);
        eb_sim_pass(sim, seed); /* another moment, and with it another row of random numbers */
        for (unsigned i = 0; i < seed; i++)
            eb_port_random(eb_sim_port(sim));
        job_open(&job, little.site_path);
        job_begin(&job, eb_sim_port(sim), true);
        job_work(&job);
        for (size_t d = 0; d < job.site->device_count; d++) {
            const char *name = job.site->devices[d].name;
            bool plc = name[0] == 'p';
            for (size_t k = 0; k < (plc ? 2U : 1U); k++) {
                const char *file = k == 1 ? "display-2.0.bin" : plc ? "plc-2.0.bin" : "coupler-2.0.bin";
                size_t size;
                size_t capacity;
                char *image = read_text(little.folder, file, &size);
                const uint8_t *flash = eb_sim_flash(sim, name, k == 1 ? "display" : "firmware", &capacity);
                bool holds = memcmp(flash, image, size) == 0;
                free(image);
                if (job.items[d][k].outcome == EB_OUTCOME_CONFIRMED && !holds)
                    fail_msg("seed %u: %s is called confirmed and is not", seed, name);
            }
            *(job.runs[d].outcome == EB_OUTCOME_CONFIRMED ? &confirmed : &not_confirmed) += 1;
        }
        job_close(&job);
        eb_sim_close(sim);
        little_remove(&little);
    }
    print_message("in 150 storms %u devices were confirmed, truly, and %u were not\n", confirmed,
                  not_confirmed);
    assert_true(confirmed > 200);
    assert_true(not_confirmed > 10);
}

int main(int argc, char **argv)
{
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_fault_at_every_frame_of_a_plc),
        cmocka_unit_test(every_fault_at_every_frame_of_a_way),
        cmocka_unit_test(every_fault_at_every_frame_of_a_coupler),
        cmocka_unit_test(every_fault_at_every_frame_of_a_canopen_job),
        cmocka_unit_test(every_fault_at_every_frame_of_a_uds_job),
        cmocka_unit_test(every_fault_at_every_transfer_of_a_dfu_job),
        cmocka_unit_test(damage_that_no_loader_sees_is_caught_by_the_confirm),
        cmocka_unit_test(storms_never_make_a_false_confirmation),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
