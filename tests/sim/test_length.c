/* How long a job takes in virtual time, and what its plan says of that before. */
#include "support/support.h"

#include <einbau/job.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

static char folder[PATH_BYTES];

enum { NODES = 6 };

/* What is typical of them. */
struct speeds {
    const char *wired, *on_bus;
};
static const struct speeds as_they_are = {"typical: {bytes-per-s: 9500, restart-s: 2}\n",
                                          "typical: {bytes-per-s: 7200, restart-s: 1}\n"};

static void write_profiles(const struct speeds *speeds)
{
    write_text(
        folder, "profiles/wired.yaml",
        "profile: wired\norder-codes: [W-1]\nidentity: {order-code: {modbus-object: 1}, serial: "
        "{modbus-object: 0x81}, hardware-revision: {modbus-object: 0x82}}\n"
        "components:\n  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: "
        "0x90}, send-as: fw.bin}\ntftp: {patience-s: 60}\n"
        "activate: [write-register: {address: 0x1000, value: 3}]\n%s",
        speeds->wired);
    write_text(
        folder, "profiles/on-bus.yaml",
        "profile: on-bus\norder-codes: [B-1]\nidentity: {order-code: {sdo: 0x1008}, hardware-revision: {sdo: "
        "0x1009}, serial: {sdo: 0x1018, sub: 4, as: number}}\n"
        "loader: {state: {sdo: 0x1018, sub: 2, as: hex}, reads: \"00000B06\", order-code: B-1}\n"
        "components:\n  firmware: {order: dotted, version: {sdo: 0x100A}, checksum: {sdo: 0x1F56, sub: 1, "
        "as: hex}}\ncanopen: {program: 1, clear-patience-s: 30, patience-s: 120}\n"
        "return: {down-ms: 300, patience-s: 30, settle-s: 3}\n%s",
        speeds->on_bus);
}

/* `panel` is on Ethernet and takes long; where `waits`, for the node whose id is highest, so that its frames
 * come last on the bus. */
static void write_plant_with(bool waits, unsigned queue)
{
    char site[8192];
    char world[8192];
    int s = snprintf(site, sizeof site,
                     "site: s\nprofiles: profiles\nlinks: {lan: {kind: ethernet}, bus: {kind: can, bit-rate: "
                     "250000}}\ndevices:\n  panel: {link: lan, address: 192.0.2.1, profile: wired, %s"
                     "wants: {firmware: {version: \"2.0\", image: w-2.0}}}\n",
                     waits ? "companions: {node: {device: node-6}}, " : "");
    int w = snprintf(
        world, sizeof world,
        "world: s\nsite: site.yaml\nwires: {lan: {}}\nbuses: {bus: {bit-rate: 250000, terminators: 2, "
        "latency-us: 300, queue: %u}}\ndevices:\n"
        "  panel: {wire: lan, address: 192.0.2.1, order-code: W-1, serial: P1, hardware-revision: 1, "
        "erase-ms: 20000, write-bytes-per-s: 30000, tftp: {writable: always}, components: {firmware: "
        "{send-as: fw.bin, version-object: 2, checksum-object: 0x90, capacity-kib: 512, image: w-1.0}}}\n",
        queue);
    for (int i = 1; i <= NODES; i++) {
        s += snprintf(
            site + s, sizeof site - (size_t)s,
            "  node-%d: {link: bus, node: %d, profile: on-bus, wants: {firmware: {version: \"2.0\", image: "
            "b-2.0}}}\n",
            i, i);
        w += snprintf(
            world + w, sizeof world - (size_t)w,
            "  node-%d: {bus: bus, canopen: {node: %d, type: 0x000F0191, vendor: 0x0E07, product: 0x0B05, "
            "loader-product: 0x0B06}, order-code: B-1, hardware-revision: 1, serial: \"%d\", erase-ms: "
            "3000, down-ms: 200, boot-ms: 600, components: {firmware: {capacity-kib: 64, image: b-1.0}}}\n",
            i, i, 700 + i);
    }
    write_text(folder, "site.yaml", "%s", site);
    write_text(folder, "world.yaml", "%s", world);
}

static void write_plant(bool waits)
{
    write_plant_with(waits, 64);
}

static int set_up(void **state)
{
    char path[PATH_BYTES + 16];
    (void)state;
    make_folder(folder);
    snprintf(path, sizeof path, "%s/profiles", folder);
    mkdir(path, 0777);
    write_profiles(&as_they_are);
    write_image(folder, "w-1.0", "W-1", "firmware", "1.0", 1000, "1..9", "");
    write_image(folder, "w-2.0", "W-1", "firmware", "2.0", 280000, "1..9", "");
    write_image(folder, "b-1.0", "B-1", "firmware", "1.0", 1000, "1..9", "");
    write_image(folder, "b-2.0", "B-1", "firmware", "2.0", 48000, "1..9", "");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

struct length {
    double took_s, said_s;
    double node_s, others_s; /* how long node-6, and the quickest of the others, was written */
};

static struct eb_job *open_job(struct eb_sim **sim, const char *remembers)
{
    struct eb_problem problem;
    char site[PATH_BYTES + 16];
    char world[PATH_BYTES + 16];
    char kept[PATH_BYTES + 16];
    snprintf(site, sizeof site, "%s/site.yaml", folder);
    snprintf(world, sizeof world, "%s/world.yaml", folder);
    snprintf(kept, sizeof kept, "%s/state", folder);
    *sim = eb_sim_open(world, NULL, &problem);
    const struct eb_job_config config = {.site = site,
                                         .port = *sim != NULL ? eb_sim_port(*sim) : NULL,
                                         .state = remembers != NULL ? kept : NULL,
                                         .simulated = true};
    struct eb_job *job = *sim != NULL ? eb_job_open(&config, &problem) : NULL;
    if (job == NULL)
        fail_msg("%s", problem.text);
    return job;
}

/* Fits these devices (NULL: all), and says how long it took. */
static struct length fit(const char *one, const char *other, const char *remembers)
{
    struct eb_sim *sim;
    struct length length = {.others_s = 1e9};
    struct eb_job *job = open_job(&sim, remembers);
    assert_true(one == NULL || eb_job_choose(job, one, NULL));
    assert_true(other == NULL || eb_job_choose(job, other, NULL));
    assert_true(eb_job_look(job) && eb_job_plan(job) && eb_job_begin(job));
    uint64_t began_us = eb_port_now_us(job->port);
    assert_true(eb_job_carry_out(job));
    length.took_s = (double)(eb_port_now_us(job->port) - began_us) / 1e6;
    length.said_s = (double)job->estimate_us / 1e6;
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *d = &job->devices[i];
        double s = (double)d->took_us / 1e6;
        if (!d->chosen)
            continue;
        assert_int_equal(eb_job_outcome(d), EB_OUTCOME_CONFIRMED);
        if (strcmp(d->device->name, "node-6") == 0)
            length.node_s = s;
        else if (d->device->name[0] == 'n' && s < length.others_s)
            length.others_s = s;
    }
    eb_job_end(job, "as wanted");
    eb_job_close(job);
    eb_sim_close(sim);
    return length;
}

static void expect_said(const struct length *length)
{
    if (length->said_s < 0.85 * length->took_s || length->said_s > 1.15 * length->took_s)
        fail_msg("it took %.2f s, the plan said %.2f s", length->took_s, length->said_s);
}

/* ------------------------------------------------------------------------------------------------- */

static void what_others_wait_for_goes_first_on_a_bus(void **state)
{
    (void)state;
    write_plant(true);
    const struct length alone = fit("node-6", "panel", NULL);
    const struct length all = fit(NULL, NULL, NULL);
    assert_true(all.took_s <= 1.03 * alone.took_s);
    assert_true(all.node_s < 0.6 * all.others_s);
    /* where none waits, all of them are done together */
    write_plant(false);
    const struct length alike = fit(NULL, NULL, NULL);
    assert_true(alike.node_s > 0.9 * alike.others_s);
}

/* However little an adapter takes: all of them get through, and what others wait for is no later than they.
 */
static void small_adapters_carry_all_of_them(void **state)
{
    (void)state;
    static const unsigned queues[] = {1, 2, 4, 8};
    for (size_t i = 0; i < sizeof queues / sizeof queues[0]; i++) {
        write_plant_with(true, queues[i]);
        const struct length all = fit(NULL, NULL, NULL);
        if (all.node_s > 1.05 * all.others_s)
            fail_msg("queue %u: %.1f s, the others %.1f s", queues[i], all.node_s, all.others_s);
    }
}

static void a_plan_says_how_long_it_takes(void **state)
{
    (void)state;
    for (int waits = 0; waits < 2; waits++) {
        write_plant(waits != 0);
        const struct length chain = fit("node-6", "panel", NULL);
        const struct length one = fit("node-1", NULL, NULL);
        const struct length two = fit("node-1", "node-2", NULL);
        const struct length all = fit(NULL, NULL, NULL);
        expect_said(&chain);
        expect_said(&one);
        expect_said(&two);
        expect_said(&all);
        assert_true(all.said_s > one.said_s);
    }
}

static void what_was_seen_counts_more_than_a_profile(void **state)
{
    (void)state;
    static const struct speeds wrong = {"typical: {bytes-per-s: 500000, restart-s: 30}\n",
                                        "typical: {bytes-per-s: 300, restart-s: 1}\n"};
    static const struct speeds none = {"", ""};
    write_plant(true);
    write_profiles(&wrong);
    const struct length before = fit(NULL, NULL, "remembers");
    assert_true(before.said_s > 2 * before.took_s);
    const struct length after = fit(NULL, NULL, "remembers");
    expect_said(&after);
    /* also where a profile says nothing; and without either nothing is said */
    write_profiles(&none);
    const struct length learned = fit(NULL, NULL, "remembers");
    expect_said(&learned);
    assert_true(fit("node-1", NULL, NULL).said_s == 0);
    assert_true(fit(NULL, NULL, NULL).said_s == 0);
}

/* What the last transfer was given to begin with. */
static uint32_t given_at_once, given_pause_us;

static void note_given(void *context, const struct eb_run *run)
{
    const struct eb_access_tftp_context *tftp = eb_run_context(run, &eb_access_tftp);
    (void)context;
    if (run->progress.rung != EB_RUNG_ACTIVATE)
        return;
    given_at_once = tftp->put.config.at_once;
    given_pause_us = tftp->put.config.pause_us;
}

static void begins(void *context, struct eb_run_config *config)
{
    (void)context;
    config->event = note_given;
}

/* What a product was seen to take in at once holds for the next transfer, whichever device of it that is. */
static void what_a_product_takes_in_at_once_is_known(void **state)
{
    (void)state;
    struct eb_sim *sim;
    write_plant(false);
    const struct length length = fit("panel", NULL, "remembers");
    assert_true(length.took_s > 0);
    for (uint32_t round = 0; round < 2; round++) {
        struct eb_problem problem;
        struct eb_job *job = open_job(&sim, "remembers");
        assert_true(eb_job_choose(job, "panel", NULL));
        assert_true(eb_job_look(job) && eb_job_plan(job));
        const struct eb_job_device *panel = eb_job_device(job, "panel");
        struct eb_known_pace pace;
        assert_true(eb_known_pace(job->known, &panel->look.identity, "firmware", &pace));
        assert_true(pace.by_tftp && pace.bytes_per_s > 0 && pace.rest_ms > 0);
        assert_int_equal(pace.tftp_at_once, 0); /* this device takes all of its window */
        assert_int_equal(pace.tftp_pause_us, 0);
        pace.tftp_at_once = round == 0 ? 12 : UINT32_MAX; /* such a number was never seen: it is not used */
        pace.tftp_pause_us = round == 0 ? 250 : UINT32_MAX;
        assert_true(eb_known_set_pace(job->known, &panel->look.identity, "firmware", &pace, &problem));
        job->config.begins = begins;
        given_at_once = given_pause_us = 1;
        assert_true(eb_job_begin(job) && eb_job_carry_out(job));
        assert_int_equal(eb_job_outcome(panel), EB_OUTCOME_CONFIRMED);
        assert_int_equal(given_at_once, round == 0 ? 12 : 0);
        assert_int_equal(given_pause_us, round == 0 ? 250 : 0);
        pace.tftp_at_once = pace.tftp_pause_us = 0;
        eb_job_end(job, "as wanted");
        assert_true(eb_known_set_pace(job->known, &panel->look.identity, "firmware", &pace, &problem));
        eb_job_close(job);
        eb_sim_close(sim);
    }
}

/* A job that did not go well says nothing of how long a product takes. */
static void what_failed_is_not_learned(void **state)
{
    (void)state;
    struct eb_sim *sim;
    write_plant(true);
    struct eb_job *job = open_job(&sim, "remembers");
    assert_true(eb_job_choose(job, "node-1", NULL));
    assert_true(eb_job_look(job) && eb_job_plan(job) && eb_job_begin(job));
    eb_sim_power(sim, "node-1", false);
    assert_true(eb_job_carry_out(job));
    assert_int_not_equal(eb_job_outcome(eb_job_device(job, "node-1")), EB_OUTCOME_CONFIRMED);
    eb_job_end(job, "not as wanted");
    struct eb_known_pace pace;
    assert_false(eb_known_pace(job->known, &eb_job_device(job, "node-1")->look.identity, "firmware", &pace));
    eb_job_close(job);
    eb_sim_close(sim);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_others_wait_for_goes_first_on_a_bus, set_up, tear_down),
        cmocka_unit_test_setup_teardown(small_adapters_carry_all_of_them, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_plan_says_how_long_it_takes, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_was_seen_counts_more_than_a_profile, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_a_product_takes_in_at_once_is_known, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_failed_is_not_learned, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
