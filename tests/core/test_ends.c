/* Everything comes to an end: floods, time that stands still, losses, calls that are wrong. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct little little;

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

/* --- floods, and time that stands still ------------------------------------------------------------ */

/* A port whose one connection brings bytes for ever. */
static uint64_t memory[1024]; /* of a run, for its accesses */

struct flood {
    uint64_t now_us;
    unsigned long reads, waits;
    bool stands_still;
};

static uint64_t flood_now(void *self)
{
    return ((struct flood *)self)->now_us;
}

static size_t flood_wait(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct flood *f = self;
    (void)ready;
    (void)cap;
    f->waits++;
    if (!f->stands_still)
        f->now_us +=
            deadline_us == EB_NEVER || deadline_us < f->now_us + 1000 ? 1000 : deadline_us - f->now_us;
    return 0;
}

static uint32_t flood_random(void *self)
{
    (void)self;
    return 4;
}

static uint32_t flood_mtu(void *self, const struct eb_endpoint *peer)
{
    (void)self;
    (void)peer;
    return 1500;
}

static enum eb_status flood_open(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                                 int *handle)
{
    (void)self;
    (void)waiter;
    (void)peer;
    *handle = 1;
    return EB_OK;
}

static enum eb_status flood_send(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent)
{
    (void)self;
    (void)handle;
    (void)bytes;
    *sent = size;
    return EB_OK;
}

/* Good answers to questions that nobody asked, one behind the other. */
static enum eb_status flood_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct flood *f = self;
    static const uint8_t stranger[] = {0x7F, 0x7F, 0, 0, 0, 3, 0xFF, 0xAB, 0x01};
    (void)handle;
    f->reads++;
    *received = 0;
    while (*received + sizeof stranger <= cap) {
        memcpy(bytes + *received, stranger, sizeof stranger);
        *received += sizeof stranger;
    }
    return EB_OK;
}

static void flood_close(void *self, int handle)
{
    (void)self;
    (void)handle;
}

static enum eb_status flood_udp_open(void *self, struct eb_waiter *waiter,
                                     const struct eb_udp_options *options, int *handle)
{
    (void)self, (void)waiter, (void)options, (void)handle;
    return EB_IO;
}

static const struct eb_port *flood_port(struct flood *f)
{
    static const struct eb_port_time time_group = {sizeof time_group, flood_now, flood_wait, flood_random};
    static const struct eb_port_udp udp_group = {
        .bytes = sizeof udp_group, .open = flood_udp_open, .mtu_bytes = flood_mtu};
    static const struct eb_port_tcp tcp_group = {sizeof tcp_group, flood_open, flood_send, flood_receive,
                                                 flood_close};
    static struct eb_port port;
    port = (struct eb_port){
        .bytes = sizeof port, .self = f, .time = &time_group, .udp = &udp_group, .tcp = &tcp_group};
    return &port;
}

static void one_poll_does_not_read_for_ever(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    struct flood flood = {.now_us = 1000};
    struct eb_problem problem;
    static struct eb_run run;
    little_make(&little, &options);
    struct eb_site *site = eb_site_read(little.site_path, &problem);
    assert_non_null(site);
    const struct eb_run_config config = {.port = flood_port(&flood),
                                         .profile = site->devices[0].profile,
                                         .memory = memory,
                                         .memory_bytes = sizeof memory,
                                         .target = {.modbus = site->devices[0].modbus, .unit = 255},
                                         .reach_patience_us = 1000000};
    assert_int_equal(eb_run_init(&run, &config), EB_OK);
    eb_run_poll(&run);
    assert_true(flood.reads <= 100);
    /* It looks away, time passes, and its patience ends. */
    for (int i = 0; i < 20000 && !eb_run_ended(&run); i++) {
        flood.now_us += 1000;
        unsigned long before = flood.reads;
        eb_run_poll(&run);
        assert_true(flood.reads - before <= 100);
    }
    assert_true(eb_run_ended(&run));
    assert_true(run.error.status == EB_NO_ANSWER || run.error.status == EB_GARBAGE);
    eb_site_free(site);
}

/* Where the clock stands still, nothing would ever end: it is a fault, and whose it is told. */
static void time_that_stands_still_ends_the_run(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    struct flood flood = {.now_us = 1000, .stands_still = true};
    struct eb_problem problem;
    static struct eb_run run;
    struct eb_crew crew;
    struct eb_crew_place places[1];
    little_make(&little, &options);
    struct eb_site *site = eb_site_read(little.site_path, &problem);
    const struct eb_run_config config = {.port = flood_port(&flood),
                                         .profile = site->devices[0].profile,
                                         .memory = memory,
                                         .memory_bytes = sizeof memory,
                                         .target = {.modbus = site->devices[0].modbus, .unit = 255},
                                         .reach_patience_us = 1000000};
    assert_int_equal(eb_run_init(&run, &config), EB_OK);
    eb_crew_init(&crew, config.port, places, 1);
    assert_int_equal(eb_crew_add(&crew, &run), EB_OK);
    for (unsigned i = 0; i < 10 * EB_CREW_STALL_POLLS && crew.going > 0; i++)
        eb_crew_work(&crew, EB_NEVER);
    assert_int_equal(crew.going, 0);
    assert_int_equal(run.error.status, EB_STALLED);
    assert_int_equal(run.outcome, EB_OUTCOME_FAILED);
    eb_site_free(site);
}

/* Many devices, jitter, loss and large windows: simulated time goes on, and the job ends. */
static void many_devices_and_large_windows_come_to_an_end(void **state)
{
    (void)state;
    static const struct {
        const char *wire, *tftp;
        unsigned devices;
        size_t bytes;
    } cases[] = {
        {"rate-mbit-per-s: 1000, latency-us: 100, jitter-us: 40",
         "windowsize: 64, blksize: 1428, patience-s: 20", 24, 100000},
        {"rate-mbit-per-s: 100, latency-us: 100, lost-ppm: 1000",
         "windowsize: 16, blksize: 1428, patience-s: 20", 60, 60000},
        {"rate-mbit-per-s: 100, latency-us: 500, lost-ppm: 1000",
         "windowsize: 160, blksize: 1428, patience-s: 20", 1, 400000},
        {"rate-mbit-per-s: 100, latency-us: 500, lost-ppm: 1000",
         "windowsize: 250, blksize: 1428, patience-s: 20", 1, 400000},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char wanted[64];
        const struct little_options options = {.couplers = cases[i].devices,
                                               .image_bytes = cases[i].bytes,
                                               .wire = cases[i].wire,
                                               .tftp = cases[i].tftp,
                                               .capacity_kib = 512,
                                               .no_times = true};
        little_make(&little, &options);
        snprintf(wanted, sizeof wanted, "little: %u confirmed", cases[i].devices);
        expect_einbau(&little, 0, wanted, "fit --yes");
        if (i + 1 < sizeof cases / sizeof cases[0])
            little_remove(&little);
    }
}

/* --- time lost ----------------------------------------------------------------------------------- */

/* What a job takes on simulated time, where something is lost on the way. */
static double seconds_of_job(const char *conduct, const char *wire, const char *device_tftp)
{
    const struct little_options options = {.couplers = 1,
                                           .image_bytes = 200000,
                                           .capacity_kib = 512,
                                           .wire = wire,
                                           .device = conduct,
                                           .device_tftp = device_tftp,
                                           .no_times = true,
                                           .tftp = "windowsize: 8, blksize: 512, patience-s: 60"};
    struct eb_problem problem;
    struct job job;
    little_make(&little, &options);
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    assert_non_null(sim);
    const struct eb_port *port = eb_sim_port(sim);
    uint64_t began_us = eb_port_now_us(port);
    job_open(&job, little.site_path);
    job_begin(&job, port, true);
    job_work(&job);
    assert_int_equal(job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    uint64_t took_us = eb_port_now_us(port) - began_us;
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&little);
    return (double)took_us / 1e6;
}

static void what_is_lost_costs_little_time(void **state)
{
    (void)state;
    static const char plain[] = "latency-us: 200";
    double without = seconds_of_job(NULL, plain, NULL);
    double lossy = seconds_of_job(NULL, "latency-us: 200, lost-ppm: 20000", NULL);
    double no_last =
        seconds_of_job("    conduct: {last-acknowledgement: no, restarts-itself: yes}\n", plain, NULL);
    double dropped = seconds_of_job(NULL, plain, "options: dropped");
    double refused = seconds_of_job(NULL, plain, "options: refused");
    print_message(
        "a job takes %.1f s of simulated time; with 2 %% loss %.1f s, without the last acknowledgement "
        "%.1f s, where requests with options are dropped %.1f s, refused %.1f s\n",
        without, lossy, no_last, dropped, refused);
    assert_true(lossy < without + 45);
    assert_true(no_last < without + 15); /* and not the 60 s of its patience */
    assert_true(dropped < without + 30);
    assert_true(refused < without + 15);
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
}

/* --- calls that are wrong ------------------------------------------------------------------------ */

/* A site with one coupler on simulated hardware, and a run that may want an image of it. */
struct one {
    struct eb_sim *sim;
    struct eb_site *site;
    struct eb_verdict verdict;
    struct eb_run_item item;
    struct eb_run_config config;
};

static void one_begin(struct one *one)
{
    const struct little_options options = {.couplers = 1};
    struct eb_problem problem;
    little_make(&little, &options);
    one->sim = eb_sim_open(little.world_path, NULL, &problem);
    one->site = eb_site_read(little.site_path, &problem);
    one->item = (struct eb_run_item){.component = &one->site->devices[0].profile->components[0],
                                     .verdict = &one->verdict};
    one->config = (struct eb_run_config){.port = eb_sim_port(one->sim),
                                         .profile = one->site->devices[0].profile,
                                         .memory = memory,
                                         .memory_bytes = sizeof memory};
}

static void a_run_that_could_not_begin_has_ended(void **state)
{
    (void)state;
    static struct eb_run run;
    struct eb_crew crew;
    struct eb_crew_place places[1];
    struct one one;
    one_begin(&one);
    one.config.items = &one.item; /* and no buffer */
    one.config.count = 1;
    assert_int_equal(eb_run_init(&run, &one.config), EB_BAD_CALL);
    assert_true(eb_run_ended(&run));
    assert_int_equal(run.outcome, EB_OUTCOME_FAILED);
    eb_run_poll(&run);
    eb_run_stop(&run);
    eb_run_abandon(&run);
    eb_crew_init(&crew, one.config.port, places, 1);
    assert_int_equal(eb_crew_add(&crew, &run), EB_OK);
    assert_int_equal(eb_crew_work(&crew, EB_NEVER), 0);
    eb_site_free(one.site);
    eb_sim_close(one.sim);
}

/* Another may wait for it: no time passes between the end of a run and that of the call. */
static void a_run_that_ends_ends_the_wait(void **state)
{
    (void)state;
    static struct eb_run runs[2];
    struct eb_crew crew;
    struct eb_crew_place places[2];
    struct one one;
    one_begin(&one);
    struct eb_run_config *config = &one.config;
    config->target.modbus = one.site->devices[0].modbus;
    config->target.unit = 255;
    config->reach_patience_us = 1000000;
    assert_int_equal(eb_run_init(&runs[0], config), EB_OK);
    config->items = &one.item; /* and no buffer: it ends at once */
    config->count = 1;
    assert_int_equal(eb_run_init(&runs[1], config), EB_BAD_CALL);
    eb_crew_init(&crew, config->port, places, 2);
    assert_int_equal(eb_crew_add(&crew, &runs[0]), EB_OK);
    assert_int_equal(eb_crew_add(&crew, &runs[1]), EB_OK);
    uint64_t began_us = eb_port_now_us(config->port);
    assert_int_equal(eb_crew_work(&crew, EB_NEVER), 1);
    assert_int_equal(eb_port_now_us(config->port), began_us);
    assert_ptr_equal(eb_crew_ended(&crew), &runs[1]);
    while (eb_crew_work(&crew, EB_NEVER) > 0)
        ;
    assert_true(eb_port_now_us(config->port) > began_us);
    eb_site_free(one.site);
    eb_sim_close(one.sim);
}

/* What was abandoned is not polled again, whatever comes; another run in the same crew still is. */
static void a_crew_that_was_abandoned_takes_another_run(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    static uint64_t other_memory[sizeof memory / sizeof memory[0]];
    static struct eb_run runs[2];
    struct eb_problem problem;
    struct eb_crew crew;
    struct eb_crew_place places[2];
    little_make(&little, &options);
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    struct eb_site *site = eb_site_read(little.site_path, &problem);
    struct eb_run_config config = {.port = eb_sim_port(sim),
                                   .profile = site->devices[0].profile,
                                   .memory = memory,
                                   .memory_bytes = sizeof memory,
                                   .target = {.modbus = site->devices[0].modbus, .unit = 255},
                                   .reach_patience_us = 1000000};
    eb_crew_init(&crew, config.port, places, 2);
    assert_int_equal(eb_run_init(&runs[0], &config), EB_OK);
    assert_int_equal(eb_crew_add(&crew, &runs[0]), EB_OK);
    assert_int_equal(eb_crew_work(&crew, EB_NEVER), 1);
    places[0].waiter.ready(&places[0].waiter);
    eb_crew_abandon(&crew);
    places[0].waiter.ready(&places[0].waiter);
    assert_int_equal(eb_crew_work(&crew, EB_NEVER), 0);
    assert_null(eb_crew_ended(&crew));
    config.memory = other_memory;
    assert_int_equal(eb_run_init(&runs[1], &config), EB_OK);
    assert_int_equal(eb_crew_add(&crew, &runs[1]), EB_OK);
    for (unsigned i = 0; i < 10000 && crew.going > 0; i++)
        assert_true(eb_crew_work(&crew, EB_NEVER) <= 1);
    assert_int_equal(crew.going, 0);
    assert_true(runs[1].identified);
    assert_ptr_equal(eb_crew_ended(&crew), &runs[1]);
    assert_null(eb_crew_ended(&crew));
    eb_site_free(site);
    eb_sim_close(sim);
}

/* Two users of one port, each with handles of its own: a crew, and requests that go on between its turns.
 * Either one's wait brings what is the other's, and neither loses anything by it. */
struct counter {
    struct eb_waiter waiter;
    unsigned told;
};

static void count(struct eb_waiter *waiter)
{
    ((struct counter *)(void *)waiter)->told++;
}

static void two_users_share_one_port(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 2, .no_times = true};
    uint64_t alone_us = 0;
    for (int together = 0; together <= 1; together++) {
        struct eb_problem problem;
        struct job job;
        struct eb_request request;
        uint16_t registers[1];
        unsigned answers = 0;
        if (together == 1)
            little_remove(&little);
        little_make(&little, &options);
        struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
        const struct eb_port *port = eb_sim_port(sim);
        job_open(&job, little.site_path);
        /* the second device is the other user's */
        struct counter counter = {.waiter = {count}};
        const struct eb_request_config config = {
            .port = port,
            .access = &eb_access_modbus,
            .operation = {.kind = EB_GET, .address = 0x1001, .count = 1, .registers = registers},
            .target = {.modbus = job.site->devices[1].modbus, .unit = 255},
            .waiter = &counter.waiter,
            .patience_us = 3000000};
        job.site->device_count = 1;
        job_begin(&job, port, true);
        uint64_t began_us = eb_port_now_us(port);
        uint64_t ended_us = 0;
        if (together == 1)
            assert_int_equal(eb_request_begin(&request, &config), EB_OK);
        while (job.crew.going > 0) {
            if (eb_crew_work(&job.crew, EB_NEVER) == 0)
                ended_us = eb_port_now_us(port);
            if (together == 0 || eb_request_poll(&request, eb_port_now_us(port)) == EB_PENDING)
                continue;
            assert_int_equal(request.status, EB_OK);
            answers++;
            eb_request_close(&request);
            assert_int_equal(eb_request_begin(&request, &config), EB_OK);
            /* the other one's wait, in the midst of the crew's work */
            if (answers % 3 == 0)
                assert_int_equal(eb_request_work(&request, EB_NEVER), EB_OK);
        }
        assert_int_equal(job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
        if (together == 1) {
            eb_request_close(&request);
            assert_true(answers > 10 && counter.told > 10);
            assert_true(ended_us - began_us < alone_us + alone_us / 5);
        }
        alone_us = ended_us - began_us;
        job_close(&job);
        eb_sim_close(sim);
    }
}

/* A port with time and nothing else: whatever is asked for ends at once and says what is missing. */
static void a_port_without_wires_is_told(void **state)
{
    (void)state;
    const struct little_options ethernet = {.plcs = 1};
    const struct bus_options bus = {.nodes = 1, .units = 1};
    const struct usb_options usb = {.gauges = 1};
    for (int kind = 0; kind < 3; kind++) {
        struct eb_port_null null;
        struct job job;
        const struct eb_port *port = eb_port_null_init(&null);
        if (kind > 0)
            little_remove(&little);
        if (kind == 0)
            little_make(&little, &ethernet);
        else if (kind == 1)
            bus_make(&little, &bus);
        else
            usb_make(&little, &usb);
        job_open(&job, little.site_path);
        for (size_t i = 0; i < job.site->device_count; i++) {
            const struct eb_profile *profile = job.site->devices[i].profile;
            struct eb_run run;
            const struct eb_run_config config = {.port = port,
                                                 .profile = profile,
                                                 .memory = memory,
                                                 .memory_bytes = sizeof memory,
                                                 .target = {.can_link = "bus"}};
            assert_int_equal(eb_run_init(&run, &config), EB_BAD_CALL);
            assert_true(eb_run_ended(&run));
            assert_non_null(strstr(run.error.where, "port: no "));
            assert_true(eb_run_deadline_us(&run) == EB_NEVER);
        }
        static const struct eb_access *const list[] = {
            &eb_access_modbus, &eb_access_snmp, &eb_access_cip,        &eb_access_dns_sd,
            &eb_access_dcp,    &eb_access_arp,  &eb_access_tftp,       &eb_access_canopen,
            &eb_access_uds,    &eb_access_dfu,  &eb_access_modbus_file};
        for (size_t i = 0; i < sizeof list / sizeof list[0]; i++) {
            struct eb_request request;
            const struct eb_request_config config = {
                .port = port, .access = list[i], .operation = {.kind = EB_READ}, .patience_us = 1};
            assert_int_equal(eb_request_begin(&request, &config), EB_BAD_CALL);
            assert_int_equal(request.status, EB_BAD_CALL);
        }
        assert_false(EB_PORT_HAS(port, links, list));
        assert_int_equal(eb_port_now_us(port), 0);
        assert_int_equal(eb_port_wait(port, 500), 0);
        assert_int_equal(eb_port_now_us(port), 500);
        job_close(&job);
    }
}

#define TEST(name) cmocka_unit_test_teardown(name, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(one_poll_does_not_read_for_ever),
        TEST(time_that_stands_still_ends_the_run),
        TEST(many_devices_and_large_windows_come_to_an_end),
        TEST(what_is_lost_costs_little_time),
        TEST(a_run_that_could_not_begin_has_ended),
        TEST(a_run_that_ends_ends_the_wait),
        TEST(a_crew_that_was_abandoned_takes_another_run),
        TEST(two_users_share_one_port),
        TEST(a_port_without_wires_is_told),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
