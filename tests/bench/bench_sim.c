/* Figures on simulated hardware: how much of the link a push uses at several round trips, and many devices at
 * once against one.  Times on the wire are virtual and the same on every machine; CPU time is real. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { BLOCK_BYTES = 1468, PACKET_BYTES = BLOCK_BYTES + 4 + 28 + 38 };

static double cpu_seconds(void)
{
    struct timespec t;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static bool all_confirmed = true;

static const char *remark(bool confirmed)
{
    all_confirmed = all_confirmed && confirmed;
    return confirmed ? "" : "  NOT CONFIRMED";
}

struct figures {
    double seconds; /* virtual, from the first byte sent to the last acknowledged, or the whole job */
    double busy;    /* of those, how long the way out was in use */
    double cpu;
    double repeated; /* datagrams that were sent again, against blocks */
    size_t confirmed;
};

/* Fits all devices of a little site; with `sending_only` the time is that of the one transfer. */
static struct figures measure(const struct little_options *options, bool sending_only)
{
    struct little little;
    struct eb_problem problem;
    struct job job;
    struct figures f = {0};
    uint64_t from_us = 0;
    uint64_t to_us = 0;
    little_make(&little, options);
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_port *port = eb_sim_port(sim);
    job_open(&job, little.site_path);
    double cpu = cpu_seconds();
    job_begin(&job, port, true);
    from_us = eb_port_now_us(port);
    const struct eb_access_tftp_context *tftp = eb_run_context(&job.runs[0], &eb_access_tftp);
    const struct eb_tftp_put *put = &tftp->put;
    while (eb_crew_work(&job.crew, EB_NEVER) > 0 && !(sending_only && put->state == EB_TFTP_DONE)) {
        if (put->state == EB_TFTP_SENDING && put->acked == 0 && sending_only)
            from_us = put->progress_us; /* when the device agreed */
    }
    f.repeated = put->last > 0 ? (double)put->repeated / (double)put->last : 0;
    to_us = sending_only ? put->progress_us : eb_port_now_us(port);
    f.cpu = cpu_seconds() - cpu;
    f.seconds = (double)(to_us - from_us) / 1e6;
    f.busy = (double)eb_sim_busy_us(sim) / 1e6; /* the few frames before the transfer take microseconds */
    for (size_t i = 0; i < job.site->device_count; i++)
        f.confirmed += job.runs[i].outcome == EB_OUTCOME_CONFIRMED;
    eb_crew_abandon(&job.crew);
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&little);
    return f;
}

/* What go-back-N by RFC 7440 can reach with windows of `window` blocks, from the standard alone: blocks
 * follow each other; a gap is acknowledged when the next block behind it comes, and sending goes on there;
 * where none comes, or an acknowledgement is lost, a sender that knows the round trip waits for one more.  In
 * seconds. */
static double go_back_n(uint64_t blocks, unsigned window, double block_s, double trip_s, double loss)
{
    uint64_t seed = 88172645463325252ULL;
    uint64_t at = 0;
    double s = 0;
    while (at < blocks) {
        unsigned end = blocks - at < window ? (unsigned)(blocks - at) : window;
        unsigned first = end; /* the first that is lost */
        unsigned i = 0;
        bool told = false;
        for (; i < end && !told; i++) {
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            bool lost = (double)(seed >> 11) / 9007199254740992.0 < loss;
            if (lost && first == end)
                first = i;
            told = !lost && first < i;
        }
        s += i * block_s + trip_s + (first < end && !told ? trip_s : 0) + loss * trip_s;
        at += first;
    }
    return s;
}

static double best_of_all(uint64_t blocks, double block_s, double trip_s, double loss)
{
    double best = 0;
    for (unsigned window = 16; window <= 65535;
         window = window < 32768 ? 2 * window : 65535 + (window == 65535)) {
        double s = go_back_n(blocks, window, block_s, trip_s, loss);
        best = best == 0 || s < best ? s : best;
    }
    return best;
}

/* One transfer: by itself, with the best of some fixed windows, and what the standard allows. */
static void link_share(unsigned mbit_per_s, unsigned round_trip_us, unsigned lost_ppm)
{
    static const unsigned windows[] = {64, 2048, EB_TFTP_WINDOWSIZE_MAX};
    char wire[96];
    char tftp[96];
    double block_s = PACKET_BYTES * 8.0 / mbit_per_s / 1e6;
    double seconds = 0.5 + round_trip_us * (lost_ppm == 0       ? 2e-5 * mbit_per_s / 1e3
                                            : mbit_per_s < 1000 ? 1e-4
                                                                : 1e-5);
    uint64_t blocks = (uint64_t)(seconds / block_s);
    const struct little_options options = {.couplers = 1,
                                           .image_bytes = (size_t)blocks * BLOCK_BYTES,
                                           .capacity_kib = (size_t)blocks * BLOCK_BYTES / 1024 + 1,
                                           .wire = wire,
                                           .tftp = tftp,
                                           .no_times = true};
    struct figures best = {0};
    unsigned best_window = 0;
    snprintf(wire, sizeof wire, "rate-mbit-per-s: %u, latency-us: %u, lost-ppm: %u", mbit_per_s,
             round_trip_us / 2, lost_ppm);
    snprintf(tftp, sizeof tftp, "blksize: %d, patience-s: 60", BLOCK_BYTES);
    struct figures own = measure(&options, true);
    for (size_t i = 0; i < sizeof windows / sizeof windows[0]; i++) {
        snprintf(tftp, sizeof tftp, "windowsize: %u, blksize: %d, patience-s: 60", windows[i], BLOCK_BYTES);
        struct figures f = measure(&options, true);
        if (best.seconds == 0 || f.seconds < best.seconds) {
            best = f;
            best_window = windows[i];
        }
    }
    double allowed = best_of_all(blocks, block_s, round_trip_us / 1e6, lost_ppm / 1e6);
    printf(
        "  %4u Mbit/s, %4.1f ms, %4.1f %% lost: %5.1f %% of the link, %5.1f %% of what the standard allows; "
        "%4.2f times as fast as the best fixed window (%u); sent again %4.1f %%\n",
        mbit_per_s, round_trip_us / 1e3, lost_ppm / 1e4, 100 * (double)blocks * block_s / own.seconds,
        100 * allowed / own.seconds, best.seconds / own.seconds, best_window, 100 * own.repeated);
}

/* --- CAN ----------------------------------------------------------------------------------------- */

struct bus_figures {
    double bytes_per_s; /* from the first acknowledged bytes to the last */
    double busy;        /* share of that time that the bus was in use */
    double seconds;     /* the whole job */
    size_t confirmed;
};

static struct bus_figures measure_bus(const struct bus_options *options)
{
    struct little little;
    struct eb_problem problem;
    struct job job;
    struct bus_figures f = {0};
    uint64_t from_us = 0;
    uint64_t busy_us = 0;
    uint64_t bytes = 0;
    bus_make(&little, options);
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_port *port = eb_sim_port(sim);
    uint64_t began_us = eb_port_now_us(port);
    job_open(&job, little.site_path);
    job_begin(&job, port, true);
    const struct eb_run *run = &job.runs[1];
    while (eb_crew_work(&job.crew, EB_NEVER) > 0) {
        uint64_t now_us = eb_port_now_us(port);
        uint64_t done = run->contact.done_bytes;
        if (run->progress.rung != EB_RUNG_SEND || done == 0)
            continue;
        if (from_us == 0) {
            from_us = now_us;
            busy_us = eb_sim_bus_busy_us(sim, "bus");
            bytes = done;
        } else if (done > bytes && f.bytes_per_s == 0 && done == options->image_bytes) {
            f.bytes_per_s = (double)(done - bytes) * 1e6 / (double)(now_us - from_us);
            f.busy = (double)(eb_sim_bus_busy_us(sim, "bus") - busy_us) / (double)(now_us - from_us);
        }
    }
    f.seconds = (double)(eb_port_now_us(port) - began_us) / 1e6;
    for (size_t i = 1; i < job.site->device_count; i++)
        f.confirmed += job.runs[i].outcome == EB_OUTCOME_CONFIRMED;
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&little);
    return f;
}

/* What share of the bus can be in use: in each exchange of so many frames the device is waited for so often,
 * each time its own time and both ways through the adapter; and where it is longer than a turn, the adapter's
 * queue runs empty for those with higher identifiers. */
static double can_be_busy(double frames, double waits, double ceiling, double latency_us, double answer_us,
                          uint32_t rate)
{
    struct eb_can_pace pace;
    eb_can_pace_init(&pace, 64, rate);
    double bus_us = frames * 7 * 1e6 / ceiling;
    double turns = (double)(uint32_t)((frames - 1) / pace.turn);
    return bus_us / (bus_us + waits * (2 * latency_us + answer_us) + turns * 2 * latency_us);
}

static void measure_can(void)
{
    enum { BYTES = 100000, ANSWER_US = 200, QUICK_US = 50 };
    static const struct {
        const char *name;
        double frames, waits; /* of one exchange: block, segment, TransferData with its flow control */
        struct bus_options options;
    } rows[] = {
        {"SDO block", 127, 1, {.nodes = 1}},
        {"SDO segmented", 1, 1, {.nodes = 1, .way = ", transfer: segmented"}},
        {"UDS, BS 0, STmin 0",
         586,
         2,
         {.units = 1, .block_length = 4095, .uds = ", block-size: 0, separation: 0"}},
    };
    static const char *const adapters[] = {"latency-us: 0, queue: 64", "latency-us: 300, queue: 64",
                                           "latency-us: 1000, queue: 64"};
    static const double latencies_us[] = {0, 300, 1000};
    printf("\nCAN, one device, %d bytes, bits counted with their stuffing; of the share of the bus that "
           "protocol, "
           "adapter and the room for heartbeats leave (aim: 99 %%)\n",
           BYTES);
    for (uint32_t rate = 1000000; rate > 0; rate = rate == 1000000 ? 250000 : 0) {
        for (size_t a = 0; a < 3; a++) {
            for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
                struct bus_options o = rows[i].options;
                o.bit_rate = rate;
                o.image_bytes = BYTES;
                o.bus = adapters[a];
                o.no_times = true;
                o.capacity_kib = 128;
                o.device = a == 0 ? "    response-us: 50\n" : "    response-us: 200\n";
                struct bus_figures f = measure_bus(&o);
                double can_be = can_be_busy(rows[i].frames, rows[i].waits, f.bytes_per_s / f.busy,
                                            latencies_us[a], a == 0 ? QUICK_US : ANSWER_US, rate);
                printf("  %4u kbit/s, adapter with %4.0f us: %-18s %6.0f bytes/s, bus busy %5.1f %%, %5.1f "
                       "%% of what "
                       "can be%s\n",
                       rate / 1000, latencies_us[a], rows[i].name, f.bytes_per_s, 100 * f.busy,
                       100 * f.busy / can_be, remark(f.confirmed == 1));
            }
        }
    }
    const struct bus_options one = {.nodes = 1,
                                    .image_bytes = 48000,
                                    .capacity_kib = 64,
                                    .no_times = true,
                                    .device = "    erase-ms: 3000\n"};
    struct bus_options eight = one;
    eight.nodes = 8;
    struct bus_figures alone = measure_bus(&one);
    struct bus_figures together = measure_bus(&eight);
    printf("  eight nodes at 250 kbit/s, 3 s to erase each, 48 kB: together %.1f s, one after the other %.1f "
           "s: %.2f times as fast%s\n",
           together.seconds, 8 * alone.seconds, 8 * alone.seconds / together.seconds,
           remark(together.confirmed == 8));
}

/* --- USB ----------------------------------------------------------------------------------------- */

struct usb_figures {
    double seconds; /* from the first request in the loader to the last, of the first device */
    double waits;   /* what the device asked for, of that */
    double wire;    /* packets, and the laptop's own turns */
    double job;     /* the whole job */
    size_t confirmed;
};

static struct usb_figures measure_usb(const struct usb_options *options)
{
    struct little little;
    struct eb_problem problem;
    struct job job;
    struct usb_figures f = {0};
    usb_make(&little, options);
    struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_port *port = eb_sim_port(sim);
    uint64_t began_us = eb_port_now_us(port);
    uint64_t from_us = 0;
    uint64_t busy_us = 0;
    job_open(&job, little.site_path);
    job_begin(&job, port, true);
    const struct eb_run *run = &job.runs[0];
    while (eb_crew_work(&job.crew, eb_port_now_us(port) + 1000) > 0) {
        uint64_t now_us = eb_port_now_us(port);
        const struct eb_access_dfu_context *context = eb_run_context(run, &eb_access_dfu);
        const struct eb_dfu *dfu = &context->dfu;
        if (run->progress.rung == EB_RUNG_SEND && from_us == 0 && dfu->config.source != NULL) {
            from_us = now_us;
            busy_us = eb_sim_usb_busy_us(sim);
        }
        if (run->progress.rung == EB_RUNG_SEND && from_us != 0)
            continue;
        if (from_us != 0 && f.seconds == 0) {
            f.seconds = (double)(now_us - from_us) / 1e6;
            f.waits = (double)dfu->poll_us / 1e6;
            f.wire = (double)(eb_sim_usb_busy_us(sim) - busy_us) / 1e6;
        }
    }
    f.job = (double)(eb_port_now_us(port) - began_us) / 1e6;
    for (size_t i = 0; i < job.site->device_count; i++)
        f.confirmed += job.runs[i].outcome == EB_OUTCOME_CONFIRMED;
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&little);
    return f;
}

static void measure_dfu(void)
{
    static const unsigned sizes[] = {64, 1024, 4096};
    struct usb_options options = {.gauges = 1,
                                  .image_bytes = 1 << 20,
                                  .capacity_kib = 2048,
                                  .device = "    erase-ms: 2000\n    write-bytes-per-s: 60000\n"};
    printf("\nDFU, 1 MiB, 2 s to erase and 60 kB/s of flash, on a bus at full speed: the time against the "
           "device's own waits "
           "and the wire's time (aim: at most 1.02)\n");
    for (unsigned latency_us = 1; latency_us <= 41; latency_us += 40) {
        for (size_t i = 0; i < 3; i++) {
            options.transfer_bytes = sizes[i];
            options.latency_us = latency_us;
            struct usb_figures f = measure_usb(&options);
            printf("  transfers of %4u bytes, %2u us of the laptop's between two: %6.2f s; waits %6.2f s, "
                   "wire %5.2f s: "
                   "ratio %.4f%s\n",
                   sizes[i], latency_us - 1, f.seconds, f.waits, f.wire, f.seconds / (f.waits + f.wire),
                   remark(f.confirmed == 1));
        }
    }
    options.transfer_bytes = 1024;
    struct usb_figures one = measure_usb(&options);
    options.gauges = 4;
    struct usb_figures four = measure_usb(&options);
    printf("  four devices at once, transfers of 1024 bytes: %.2f s against %.2f s for one, ratio %.3f%s\n",
           four.job, one.job, four.job / one.job, remark(four.confirmed == 4));
}

/* usage: bench_sim [--short]      short: a few rows of each table */
int main(int argc, char **argv)
{
    bool is_short = argc > 1 && strcmp(argv[1], "--short") == 0;
    static const unsigned round_trips_us[] = {100, 1000, 10000, 50000};
    static const unsigned losses_ppm[] = {0, 1000, 10000, 50000};
    printf("TFTP push on the simulated port, blocks of %d bytes, nothing tuned (aim: 97, 85 and 60 %% of "
           "what the "
           "standard allows without loss, with 0.1 %% and with 1 %%)\n",
           BLOCK_BYTES);
    for (size_t k = 0; k < sizeof losses_ppm / sizeof losses_ppm[0]; k += is_short ? 2 : 1) {
        for (size_t i = 0; i < (is_short ? 1 : sizeof round_trips_us / sizeof round_trips_us[0]); i++) {
            link_share(100, round_trips_us[i], losses_ppm[k]);
            link_share(1000, round_trips_us[i], losses_ppm[k]);
        }
    }
    struct little_options options = {.couplers = 1,
                                     .image_bytes = 96000,
                                     .capacity_kib = 256,
                                     .wire = "rate-mbit-per-s: 1000",
                                     .tftp = "windowsize: 8, blksize: 1024, patience-s: 60"};
    struct figures one = measure(&options, false);
    options.couplers = 200;
    struct figures many = measure(&options, false);
    printf("Two hundred devices at once against one, 96 kB each, 50 kB/s of flash (aim: at most 1.10)\n"
           "  one: %.2f s, two hundred: %.2f s, ratio %.3f; CPU time %.2f s is %.1f %% of one core over the "
           "job%s\n",
           one.seconds, many.seconds, many.seconds / one.seconds, many.cpu, 100 * many.cpu / many.seconds,
           remark(many.confirmed == 200));
    measure_can();
    measure_dfu();
    return all_confirmed ? 0 : 1;
}
