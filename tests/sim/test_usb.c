/* USB: the DFU engine against the state diagram of its standard, who is who, jobs on the simulated port, and
 * the tool's words.  Requests and states are those of DFU 1.1, descriptors those of USB 2.0 chapter 9. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- jobs on the simulated port ------------------------------------------------------------------ */

struct bench {
    struct little little;
    struct eb_sim *sim;
    struct job job;
};

static void open_bench(struct bench *b, const struct usb_options *options)
{
    struct eb_problem problem = {""};
    usb_make(&b->little, options);
    b->sim = eb_sim_open(b->little.world_path, NULL, &problem);
    if (b->sim == NULL)
        fail_msg("%s", problem.text);
    job_open(&b->job, b->little.site_path);
}

static void close_bench(struct bench *b)
{
    job_close(&b->job);
    eb_sim_close(b->sim);
    little_remove(&b->little);
}

static void work_bench(struct bench *b, bool fit)
{
    job_begin(&b->job, eb_sim_port(b->sim), fit);
    job_work(&b->job);
}

static void holds(const struct bench *b, const char *device, const char *file)
{
    size_t size;
    size_t capacity;
    char *image = read_text(b->little.folder, file, &size);
    assert_memory_equal(eb_sim_flash(b->sim, device, "firmware", &capacity), image, size);
    free(image);
}

/* What kinds of devices there are: each is fitted and confirmed, with what it then runs read back. */
static void every_kind_of_device_is_fitted(void **state)
{
    (void)state;
    static const struct usb_options kinds[] = {
        {.gauges = 1},
        {.gauges = 1, .usb = "detaches-itself: yes"},
        {.gauges = 1,
         .usb = "detaches-itself: yes, manifest: tolerant, uploads: yes",
         .component = "banks: 2"},
        {.gauges = 1, .usb = "manifest: restart, other-interface: yes, loader-release: \"9.9\""},
        {.gauges = 1, .usb = "manifest: tolerant, uploads: yes", .profile = "read-back: no\n"},
        {.gauges = 1, .usb = "loader-serial-number: no"},
        {.gauges = 1, .usb = "serial-number: no", .no_site_serial = true},
        {.gauges = 1, .by_release = true, .dfu_file = true},
        {.gauges = 1, .usb = "asks-again-ms: 3, manifest: tolerant", .device = "    erase-ms: 100\n"},
        {.gauges = 1, .usb = "configured-after-ms: 900"},
        {.gauges = 1, .usb = "own-power: yes, detach-ms: 0, detaches-itself: yes"},
    };
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        struct bench b;
        open_bench(&b, &kinds[i]);
        work_bench(&b, true);
        const struct eb_run *run = &b.job.runs[0];
        if (run->outcome != EB_OUTCOME_CONFIRMED)
            fail_msg("kind %zu: %s: %s %s", i, eb_outcome_word(run->outcome), run->error.where,
                     run->error.text);
        assert_string_equal(run->running[0].version, "2.0");
        assert_int_equal(run->progress.attempt, 1);
        if (!kinds[i].dfu_file)
            holds(&b, "gauge-1", "gauge-2.0.bin");
        close_bench(&b);
    }
}

/* The bytes of a suffix never reach the device. */
static void a_suffix_is_never_sent(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .dfu_file = true, .capacity_kib = 1};
    struct bench b;
    size_t size;
    size_t capacity;
    open_bench(&b, &options);
    work_bench(&b, true);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    char *file = read_text(b.little.folder, "gauge-2.0.bin", &size);
    const uint8_t *flash = eb_sim_flash(b.sim, "gauge-1", "firmware", &capacity);
    assert_memory_equal(flash, file, size - 16);
    for (size_t i = size - 16; i < capacity; i++)
        assert_int_equal(flash[i], 0xFF);
    free(file);
    close_bench(&b);
}

/* Two parts of one device's memory: its firmware, and tables that have their own version. */
static void alternate_settings_are_components(void **state)
{
    (void)state;
    for (int once = 0; once < 2; once++) {
        const struct usb_options options = {.gauges = 1,
                                            .usb = once ? "manifest: tolerant, uploads: yes"
                                                        : "detaches-itself: yes",
                                            .device = "    erase-ms: 100\n"};
        struct little *l;
        struct bench b = {0};
        size_t capacity;
        size_t size;
        usb_make(&b.little, &options);
        l = &b.little;
        write_image(l->folder, "tables-1.0.bin", "TS-1", "tables", "1.0", 300, "1..9", "");
        write_image(l->folder, "tables-7.bin", "TS-1", "tables", "7", 350, "1..9", "");
        char line[4 * PATH_BYTES];
        snprintf(line, sizeof line,
                 "cd %s && sed -i 's|^dfu:|  tables: {order: dotted, version: {usb: string, "
                 "number: 17}, alternate: 1, capacity-kib: 2}\\ndfu:|; s|settle-s: 2|settle-s: 2, restart: "
                 "%s|' gauge.yaml && "
                 "echo '      tables: {version: \"7\", image: tables-7.bin}' >> site.yaml && "
                 "echo '      tables: {product: TS-1, capacity-kib: 2, image: tables-1.0.bin}' >> world.yaml",
                 l->folder, once ? "once" : "each");
        assert_int_equal(system(line), 0);
        struct eb_problem problem = {""};
        b.sim = eb_sim_open(l->world_path, NULL, &problem);
        if (b.sim == NULL)
            fail_msg("%s", problem.text);
        job_open(&b.job, l->site_path);
        work_bench(&b, true);
        const struct eb_run *run = &b.job.runs[0];
        if (run->outcome != EB_OUTCOME_CONFIRMED)
            fail_msg("once %d: %s: %s %s", once, eb_outcome_word(run->outcome), run->error.where,
                     run->error.text);
        assert_string_equal(run->running[1].version, "7");
        assert_int_equal(run->progress.attempt, 1);
        holds(&b, "gauge-1", "gauge-2.0.bin");
        char *tables = read_text(l->folder, "tables-7.bin", &size);
        assert_memory_equal(eb_sim_flash(b.sim, "gauge-1", "tables", &capacity), tables, size);
        free(tables);
        close_bench(&b);
    }
}

/* Where a run found its device last. */
static const char *place_of(const struct eb_run *run)
{
    const struct eb_access_dfu_context *context = eb_run_context(run, &eb_access_dfu);
    return context->place;
}

/* Four of one kind at once, two of them without a number in their loader: each gets its own, found by number
 * or place. */
static void identical_devices_at_once(void **state)
{
    (void)state;
    for (int numbers = 0; numbers < 3; numbers++) {
        const struct usb_options options = {.gauges = 4,
                                            .usb = numbers == 0   ? NULL
                                                   : numbers == 1 ? "loader-serial-number: no"
                                                                  : "serial-number: no",
                                            .no_site_serial = numbers == 2,
                                            .device = "    erase-ms: 300\n"};
        struct bench b;
        open_bench(&b, &options);
        work_bench(&b, true);
        for (size_t i = 0; i < 4; i++) {
            char place[16];
            char serial[16];
            snprintf(place, sizeof place, "1-2.%zu", i + 1);
            snprintf(serial, sizeof serial, "G-%zu", i + 1);
            assert_int_equal(b.job.runs[i].outcome, EB_OUTCOME_CONFIRMED);
            assert_string_equal(place_of(&b.job.runs[i]), place);
            assert_string_equal(b.job.runs[i].identity.serial, numbers == 2 ? "" : serial);
        }
        close_bench(&b);
    }
}

static void run_until(struct bench *b, enum eb_rung rung)
{
    const struct eb_port *port = eb_sim_port(b->sim);
    for (int i = 0; i < 100000 && b->job.runs[0].progress.rung != rung; i++)
        eb_crew_work(&b->job.crew, eb_port_now_us(port) + 1000);
    assert_int_equal(b->job.runs[0].progress.rung, rung);
}

static void begin_fit(struct bench *b, const struct usb_options *options, enum eb_rung rung)
{
    open_bench(b, options);
    job_begin(&b->job, eb_sim_port(b->sim), true);
    run_until(b, rung);
}

static void pass_with_job(struct bench *b, uint64_t us)
{
    const struct eb_port *port = eb_sim_port(b->sim);
    uint64_t end_us = eb_port_now_us(port) + us;
    while (b->job.crew.going > 0 && eb_port_now_us(port) < end_us)
        eb_crew_work(&b->job.crew, end_us);
}

/* In the middle of its download, while others are plugged in and out next to it. */
static void cables_and_hubs(void **state)
{
    (void)state;
    const struct usb_options slow = {
        .gauges = 2, .image_bytes = 4000, .device = "    write-bytes-per-s: 4000\n"};
    struct bench b;

    begin_fit(&b, &slow, EB_RUNG_SEND); /* pulled out, and plugged into another socket */
    pass_with_job(&b, 600000);
    eb_sim_usb_plug(b.sim, "gauge-1", NULL);
    pass_with_job(&b, 3000000);
    eb_sim_usb_plug(b.sim, "gauge-1", "1-4");
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    assert_int_equal(b.job.runs[0].progress.attempt, 2);
    assert_string_equal(place_of(&b.job.runs[0]), "1-4");
    assert_int_equal(b.job.runs[1].outcome, EB_OUTCOME_CONFIRMED);
    assert_int_equal(b.job.runs[1].progress.attempt, 1);
    close_bench(&b);

    begin_fit(&b, &slow, EB_RUNG_SEND); /* the hub drops for two seconds */
    pass_with_job(&b, 600000);
    eb_sim_usb_hub(b.sim, "1-2", false);
    pass_with_job(&b, 2000000);
    eb_sim_usb_hub(b.sim, "1-2", true);
    job_work(&b.job);
    for (size_t i = 0; i < 2; i++)
        assert_int_equal(b.job.runs[i].outcome, EB_OUTCOME_CONFIRMED);
    close_bench(&b);

    begin_fit(&b, &slow, EB_RUNG_SEND); /* it does not come back */
    pass_with_job(&b, 600000);
    eb_sim_usb_plug(b.sim, "gauge-1", NULL);
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_FAILED);
    assert_false(b.job.runs[0].identified);
    assert_int_equal(b.job.runs[0].error.status, EB_UNREACHABLE);
    assert_int_equal(b.job.runs[1].outcome, EB_OUTCOME_CONFIRMED);
    /* Later it is plugged in again: found in its loader, said so, and brought back. */
    eb_sim_usb_plug(b.sim, "gauge-1", "1-2.1");
    work_bench(&b, false);
    assert_true(b.job.runs[0].identified && b.job.runs[0].in_loader);
    work_bench(&b, true);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    assert_int_equal(b.job.runs[1].outcome, EB_OUTCOME_UP_TO_DATE);
    holds(&b, "gauge-1", "gauge-2.0.bin");
    close_bench(&b);

    const struct usb_options battery = {
        .gauges = 1, .image_bytes = 4000, .usb = "own-power: yes", .device = "    write-bytes-per-s: 4000\n"};
    begin_fit(&b, &battery, EB_RUNG_SEND); /* one with a battery stays in its loader meanwhile */
    pass_with_job(&b, 600000);
    eb_sim_usb_plug(b.sim, "gauge-1", NULL);
    pass_with_job(&b, 2000000);
    eb_sim_usb_plug(b.sim, "gauge-1", "1-2.1");
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_CONFIRMED);
    close_bench(&b);
}

/* Another one of its kind in the same socket is not it; nor is one without a number that is plugged in
 * elsewhere. */
static void another_one_is_never_taken_for_it(void **state)
{
    (void)state;
    const struct usb_options slow = {
        .gauges = 2, .image_bytes = 4000, .device = "    write-bytes-per-s: 4000\n"};
    struct bench b;
    open_bench(&b, &slow);
    b.job.site->device_count = 1;
    job_begin(&b.job, eb_sim_port(b.sim), true);
    run_until(&b, EB_RUNG_SEND);
    pass_with_job(&b, 600000);
    eb_sim_usb_plug(b.sim, "gauge-1", NULL);
    eb_sim_usb_plug(b.sim, "gauge-2", NULL);
    pass_with_job(&b, 1000000);
    eb_sim_usb_plug(b.sim, "gauge-2", "1-2.1");
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_FAILED);
    holds(&b, "gauge-2", "gauge-1.0.bin");
    close_bench(&b);

    const struct usb_options nameless = {.gauges = 1,
                                         .image_bytes = 4000,
                                         .usb = "loader-serial-number: no",
                                         .device = "    write-bytes-per-s: 4000\n"};
    begin_fit(&b, &nameless, EB_RUNG_SEND);
    pass_with_job(&b, 900000);
    assert_int_equal(eb_sim_mode_of(b.sim, "gauge-1"), EB_SIM_LOADER);
    eb_sim_usb_plug(b.sim, "gauge-1", NULL);
    pass_with_job(&b, 1000000);
    eb_sim_usb_plug(b.sim, "gauge-1", "1-4");
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome,
                     EB_OUTCOME_FAILED); /* it says nothing that would tell it from another */
    assert_int_equal(eb_sim_mode_of(b.sim, "gauge-1"), EB_SIM_LOADER);
    eb_sim_usb_plug(b.sim, "gauge-1", "1-2.1");
    eb_sim_pass(b.sim, 1000000);
    close_bench(&b);
}

/* An error of the device, or one that never lets go: nothing is called done, and what runs is told. */
static void devices_that_cannot_are_told(void **state)
{
    (void)state;
    const struct usb_options stays = {.gauges = 1, .usb = "stays: yes"};
    const struct usb_options busy = {.gauges = 1, .usb = "busy: yes"};
    const struct usb_options denied = {.gauges = 1, .usb = "denied: yes"};
    struct bench b;
    open_bench(&b, &stays);
    work_bench(&b, true);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_FAILED);
    assert_non_null(strstr(b.job.runs[0].error.text, "still running"));
    assert_string_equal(b.job.runs[0].running[0].version, "1.0");
    close_bench(&b);
    open_bench(&b, &busy);
    work_bench(&b, true);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_FAILED);
    assert_int_equal(b.job.runs[0].error.status, EB_BUSY);
    holds(&b, "gauge-1", "gauge-1.0.bin");
    close_bench(&b);
    open_bench(&b, &denied);
    work_bench(&b, true);
    assert_int_equal(b.job.runs[0].error.status, EB_DENIED);
    close_bench(&b);
}

/* Who stops while it is sent finds the program that was there, where there are two banks. */
static void stopping_leaves_what_ran(void **state)
{
    (void)state;
    const struct usb_options options = {
        .gauges = 1, .image_bytes = 4000, .component = "banks: 2", .device = "    write-bytes-per-s: 4000\n"};
    struct bench b;
    begin_fit(&b, &options, EB_RUNG_SEND);
    pass_with_job(&b, 900000);
    eb_crew_stop(&b.job.crew);
    job_work(&b.job);
    assert_int_equal(b.job.runs[0].outcome, EB_OUTCOME_INTERRUPTED);
    assert_string_equal(b.job.runs[0].running[0].version, "1.0");
    eb_sim_pass(b.sim, 1000000);
    assert_int_equal(eb_sim_mode_of(b.sim, "gauge-1"), EB_SIM_RUNNING);
    close_bench(&b);
}

/* The adapter of a bus is in a device on USB: that one goes first, and its adapter is away meanwhile. */
static void a_gateway_on_usb_goes_before_the_bus_behind_it(void **state)
{
    (void)state;
    const struct usb_options gauge = {
        .gauges = 1, .usb = "detaches-itself: yes", .device = "    erase-ms: 500\n    gateway-to: bus\n"};
    const struct bus_options nodes = {.nodes = 1};
    struct little bus;
    struct bench b;
    char line[8 * PATH_BYTES];
    bool away = false;
    bus_make(&bus, &nodes);
    usb_make(&b.little, &gauge);
    snprintf(line, sizeof line,
             "cd %s && cp %s/node* . && sed -i 's|^  desk:.*|  desk: {kind: usb}\\n  bus: {kind: can, "
             "bit-rate: 250000}|' "
             "site.yaml && sed -n '/^  node-1:/,$p' %s/site.yaml | sed 's|via: gate$|via: gauge-1|' >> "
             "site.yaml && sed -i "
             "'s|^devices:|buses:\\n  bus: {bit-rate: 250000}\\ndevices:|' world.yaml && sed -n '/^  "
             "node-1:/,$p' %s/world.yaml "
             ">> world.yaml",
             b.little.folder, bus.folder, bus.folder, bus.folder);
    assert_int_equal(system(line), 0);
    const char *const fit[] = {
        BIN_DIR "/einbau",   "fit",     "--yes",         "--site", b.little.site_path, "--sim",
        b.little.world_path, "--state", b.little.folder, NULL};
    struct outcome o = run_program(fit);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    const char *gateway = strstr(o.err, "gauge-1: confirmed");
    const char *node = strstr(o.err, "node-1: identify");
    assert_true(gateway != NULL && node != NULL && gateway < node);
    outcome_free(&o);

    struct eb_problem problem = {""};
    b.sim = eb_sim_open(b.little.world_path, NULL, &problem);
    assert_non_null(b.sim);
    job_open(&b.job, b.little.site_path);
    b.job.site->device_count = 1;
    job_begin(&b.job, eb_sim_port(b.sim), true);
    const struct eb_port *port = eb_sim_port(b.sim);
    const struct eb_can_options adapter = {.link = "bus"};
    int handle;
    while (b.job.crew.going > 0) {
        eb_crew_work(&b.job.crew, eb_port_now_us(port) + 1000);
        if (port->can->open(port->self, NULL, &adapter, &handle) == EB_OK)
            port->can->close(port->self, handle);
        else
            away = true;
        assert_false(handle != EB_NO_HANDLE && eb_sim_mode_of(b.sim, "gauge-1") == EB_SIM_LOADER);
    }
    assert_true(away);
    assert_int_equal(port->can->open(port->self, NULL, &adapter, &handle), EB_OK);
    port->can->close(port->self, handle);
    close_bench(&b);
    little_remove(&bus);
}

/* --- the tool ------------------------------------------------------------------------------------ */

static struct outcome einbau(const struct little *l, const char *command, const char *a, const char *b,
                             const char *c)
{
    const char *const arguments[] = {BIN_DIR "/einbau",
                                     command,
                                     "--site",
                                     l->site_path,
                                     "--sim",
                                     l->world_path,
                                     "--state",
                                     l->folder,
                                     a,
                                     b,
                                     c,
                                     NULL};
    return run_program(arguments);
}

static void expect_text(const char *text, const char *wanted)
{
    if (strstr(text, wanted) == NULL)
        fail_msg("found:\n%s\nexpected: %s", text, wanted);
}

static json_t *json_of(struct outcome *o)
{
    json_error_t error;
    json_t *root = json_loads(o->out, 0, &error);
    if (root == NULL)
        fail_msg("no JSON: %s in %s%s", error.text, o->out, o->err);
    return root;
}

static void the_suffix_is_a_finding(void **state)
{
    (void)state;
    static const struct {
        uint16_t vendor, product, release;
        const char *answer, *found;
    } cases[] = {
        {0x1209, 0x0003, 0xFFFF, "fits", "1209:0003"},
        {0x1209, 0x0004, 0xFFFF, "fits", "1209:0004"}, /* as it is called in its loader */
        {0xFFFF, 0xFFFF, 0xFFFF, "fits", "any:any"},
        {0x1209, 0xFFFF, 0x0200, "fits", "1209:any release 2.0.0"}, /* the version that the file brings */
        {0x1209, 0x0003, 0x0100, "does-not-fit", "1209:0003 release 1.0.0"},
        {0x1209, 0x0005, 0xFFFF, "does-not-fit", "1209:0005"},
        {0x120A, 0x0003, 0xFFFF, "does-not-fit", "120a:0003"}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct usb_options options = {.gauges = 1, .by_release = true};
        struct little l;
        size_t size;
        usb_make(&l, &options);
        uint8_t *image = (uint8_t *)read_text(l.folder, "gauge-2.0.bin", &size);
        uint8_t *file = with_suffix(image, &size, cases[i].vendor, cases[i].product, cases[i].release);
        write_bytes(l.folder, "gauge-2.0.bin", file, size);
        free(image);
        free(file);
        const char *const measure[] = {
            "sh", "-c",
            "cd \"$0\" && sha=$(sha256sum gauge-2.0.bin | cut -d' ' -f1) && size=$(stat -c %s "
            "gauge-2.0.bin) && sed -i \"s/\\\"sha256\\\": *\\\"[0-9a-f]*\\\"/\\\"sha256\\\": "
            "\\\"$sha\\\"/; s/\\\"size\\\": *[0-9]*/\\\"size\\\": $size/\" gauge-2.0.bin.json",
            l.folder, NULL};
        struct outcome m = run_program(measure);
        assert_int_equal(m.status, 0);
        outcome_free(&m);
        bool fits = strcmp(cases[i].answer, "fits") == 0;
        struct outcome o = einbau(&l, "plan", "--json", NULL, NULL);
        json_t *root = json_of(&o);
        json_t *findings = json_object_get(json_array_get(json_object_get(root, "devices"), 0), "findings");
        const char *found = NULL;
        const char *grade = NULL;
        size_t at;
        json_t *finding;
        json_array_foreach(findings, at, finding)
        {
            if (strcmp(json_string_value(json_object_get(finding, "code")), "dfu-suffix") == 0) {
                found = json_string_value(json_object_get(finding, "found"));
                grade = json_string_value(json_object_get(finding, "grade"));
            }
        }
        if (found == NULL || strcmp(found, cases[i].found) != 0 || strcmp(grade, fits ? "yes" : "no") != 0)
            fail_msg("case %zu: found %s %s in %s", i, found, grade, o.out);
        json_decref(root);
        outcome_free(&o);
        o = einbau(&l, "fit", "--yes", "--accept", "gauge-1:dfu-suffix");
        assert_int_equal(o.status, fits ? 0 : 1); /* nobody may accept a wrong one */
        outcome_free(&o);
        little_remove(&l);
    }
}

static void survey_and_links_say_what_is_plugged_in(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 2};
    struct little l;
    usb_make(&l, &options);
    /* The site knows the first only; the second is a stranger. */
    write_text(
        l.folder, "site.yaml",
        "site: gauges\nprofiles: .\nlinks:\n  desk: {kind: usb}\ndevices:\n  gauge-1:\n    link: desk\n"
        "    profile: gauge\n    serial: G-1\n    wants:\n      firmware: {version: \"2.0\", image: "
        "gauge-2.0.bin}\n"
        "  gauge-9:\n    link: desk\n    profile: gauge\n    serial: G-9\n");
    struct outcome o = einbau(&l, "survey", NULL, NULL, NULL);
    expect_text(o.out, "gauges: 1 of 2 devices answered");
    expect_text(o.out, "On USB and not on the site:");
    expect_text(o.out, "1-2.2  1209:0003  Tester  Gauge    G-2            1.0.0    its program");
    expect_text(
        o.out,
        "gauge-9: looking for the device on USB: no answer: found G-2 at 1-2.2 and others, expected G-9");
    assert_int_equal(o.status, 1);
    outcome_free(&o);
    o = einbau(&l, "survey", "--json", NULL, NULL);
    json_t *root = json_of(&o);
    json_t *usb = json_object_get(root, "usb");
    assert_int_equal(json_array_size(usb), 3); /* and the hub */
    assert_string_equal(json_string_value(json_object_get(json_array_get(usb, 0), "device")), "gauge-1");
    assert_string_equal(json_string_value(json_object_get(json_array_get(usb, 1), "dfu")), "program");
    assert_true(json_is_null(json_object_get(json_array_get(usb, 2), "dfu")));
    json_decref(root);
    outcome_free(&o);
    little_remove(&l);
}

static void a_device_in_its_loader_is_found_and_brought_back(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .device = "    starts: loader\n"};
    struct little l;
    usb_make(&l, &options);
    struct outcome o = einbau(&l, "survey", NULL, NULL, NULL);
    expect_text(o.out, "1 in the loader, where no program runs: 'einbau fit' brings them back.");
    outcome_free(&o);
    o = einbau(&l, "fit", "--yes", "--accept", "gauge-1:order-code");
    outcome_free(&o);
    o = einbau(&l, "confirm", NULL, NULL, NULL);
    expect_text(o.out, "current");
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    little_remove(&l);
}

/* A loader without a number, and a site that knows the number only: it is not guessed; the place helps. */
static void a_nameless_loader_is_told_by_its_place(void **state)
{
    (void)state;
    const struct usb_options options = {
        .gauges = 1, .usb = "loader-serial-number: no", .device = "    starts: loader\n"};
    struct little l;
    char line[2 * PATH_BYTES];
    usb_make(&l, &options);
    struct outcome o = einbau(&l, "survey", NULL, NULL, NULL);
    expect_text(
        o.out, "found one without a serial number at 1-2.1, expected G-1: if that is it, enter its place on");
    assert_int_equal(o.status, 3);
    outcome_free(&o);
    snprintf(line, sizeof line, "sed -i 's|serial: G-1|serial: G-1\\n    place: 1-2.1|' %s", l.site_path);
    assert_int_equal(system(line), 0);
    o = einbau(&l, "survey", NULL, NULL, NULL);
    expect_text(o.out, "1 in the loader");
    outcome_free(&o);
    o = einbau(&l, "fit", "--yes", NULL, NULL);
    expect_text(o.out, "gauges: 1 confirmed");
    outcome_free(&o);
    little_remove(&l);
}

static void sites_and_profiles_that_are_wrong_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *file, *text, *wanted;
    } cases[] = {
        {"site.yaml",
         "site: x\nprofiles: .\nlinks: {desk: {kind: usb}}\ndevices:\n  a: {link: desk, profile: gauge, "
         "serial: G-1}\n"
         "  b: {link: desk, profile: gauge}\n",
         "expected 'serial' or 'place' for each of them"},
        {"site.yaml",
         "site: x\nprofiles: .\nlinks: {desk: {kind: firewire}}\ndevices:\n  a: {link: desk, profile: "
         "gauge}\n",
         "expected ethernet, can or usb"},
        {"site.yaml",
         "site: x\nprofiles: .\nlinks: {lan: {kind: ethernet}}\ndevices:\n  a: {link: lan, address: "
         "192.0.2.1, profile: "
         "gauge}\n",
         "a profile for a device on Ethernet"},
        {"gauge.yaml",
         "profile: gauge\norder-codes: [T]\nidentity: {order-code: {usb: name}}\ncomponents:\n  f: {order: "
         "dotted, version: "
         "{usb: release}}\ndfu: {ids: \"12090003\"}\n",
         "each of four hexadecimal digits"},
        {"gauge.yaml",
         "profile: gauge\norder-codes: [T]\nidentity: {order-code: {usb: names}}\ncomponents:\n  f: {order: "
         "dotted, version: "
         "{usb: release}}\ndfu: {ids: \"1209:0003\"}\n",
         "one of: serial maker name release string interface mode"},
        {"gauge.yaml",
         "profile: gauge\norder-codes: [T]\nidentity: {order-code: {sdo: 0x1008}}\ncomponents:\n  f: {order: "
         "dotted, alternate: 1, version: {sdo: 0x100A}}\ncanopen: {}\n",
         "alternate settings are of devices with the key 'dfu'"},
        {"gauge.yaml",
         "profile: gauge\norder-codes: [T]\nidentity: {order-code: {did: 0xF187}}\ncomponents:\n  f: {order: "
         "dotted, version: "
         "{usb: release}}\ndfu: {ids: \"1209:0003\"}\n",
         "it read by 'usb', as the device is on USB"},
        {"gauge.yaml",
         "profile: gauge\norder-codes: [T]\nidentity: {order-code: {usb: name}}\ncomponents:\n  f: {order: "
         "dotted, version: "
         "{usb: release}}\ndfu: {ids: \"1209:0003\"}\nactivate: [{wait-ms: 5}]\n",
         "expected none"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct usb_options options = {.gauges = 1};
        struct little l;
        usb_make(&l, &options);
        write_text(l.folder, cases[i].file, "%s", cases[i].text);
        struct outcome o = einbau(&l, "survey", NULL, NULL, NULL);
        assert_int_equal(o.status, 2);
        expect_text(o.err, cases[i].wanted);
        outcome_free(&o);
        little_remove(&l);
    }
}

/* One document of a trace, by the dissector's own fields. */
static void a_trace_of_a_job_reads_as_dfu(void **state)
{
    (void)state;
    const struct usb_options options = {
        .gauges = 1, .device = "    write-bytes-per-s: 10000\n", .capacity_kib = 8};
    struct little l;
    char trace[PATH_BYTES + 32];
    char fields[4096] = "";
    usb_make(&l, &options);
    snprintf(trace, sizeof trace, "%s/usb.pcapng", l.folder);
    struct outcome o = einbau(&l, "fit", "--yes", "--trace", trace);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    const char *const read[] = {"tshark",
                                "-r",
                                trace,
                                "-d",
                                "usb.product==0x12090003,usbdfu",
                                "-d",
                                "usb.product==0x12090004,usbdfu",
                                "-Y",
                                "usbdfu",
                                "-T",
                                "fields",
                                "-e",
                                "usbdfu.command",
                                "-e",
                                "usbdfu.block_number",
                                "-e",
                                "usbdfu.status",
                                "-e",
                                "usbdfu.poll_timeout",
                                "-e",
                                "usbdfu.state",
                                NULL};
    o = run_program(read);
    assert_int_equal(o.status, 0);
    /* requests in their order: "command block", answers to GETSTATUS: "status poll state" */
    for (char *line = strtok(o.out, "\n"); line != NULL; line = strtok(NULL, "\n")) {
        unsigned number;
        unsigned status;
        unsigned poll_ms;
        unsigned dfu_state;
        size_t at = strlen(fields);
        if (sscanf(line, "\t\t0x%x\t%u\t%u", &status, &poll_ms, &dfu_state) == 3)
            snprintf(fields + at, sizeof fields - at, "[%u/%u/%u]", status, poll_ms, dfu_state);
        else if (sscanf(line, "1\t%u", &number) == 1)
            snprintf(fields + at, sizeof fields - at, " D%u", number);
        else if (line[0] >= '0' && line[0] <= '9')
            snprintf(fields + at, sizeof fields - at, " %c", line[0]);
    }
    outcome_free(&o);
    expect_text(fields, " 0");         /* DETACH */
    expect_text(fields, "[0/0/2] D0"); /* dfuIDLE, then block 0 */
    expect_text(fields, "[0/7/4]");    /* 64 bytes at 10000 a second: dfuDNBUSY for 7 ms */
    expect_text(fields, "[0/0/5] D1"); /* dfuDNLOAD-IDLE, then block 1 */
    expect_text(fields, "[0/0/5] D9"); /* 600 bytes are ten blocks */
    expect_text(fields, "[0/200/7]");  /* dfuMANIFEST */
    const char *const malformed[] = {"tshark",
                                     "-r",
                                     trace,
                                     "-d",
                                     "usb.product==0x12090003,usbdfu",
                                     "-d",
                                     "usb.product==0x12090004,usbdfu",
                                     "-Y",
                                     "_ws.malformed",
                                     "-T",
                                     "fields",
                                     "-e",
                                     "usb.setup.wLength",
                                     NULL};
    o = run_program(malformed);
    assert_int_equal(o.status, 0);
    /* The dissector wants bytes in the download that ends it, which by the standard has none: that one and
     * its answer. */
    size_t lines = 0;
    for (const char *at = o.out; *at != '\0'; at++)
        lines += *at == '\n';
    assert_int_equal(lines, 2);
    outcome_free(&o);
    little_remove(&l);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_kind_of_device_is_fitted),
        cmocka_unit_test(a_suffix_is_never_sent),
        cmocka_unit_test(alternate_settings_are_components),
        cmocka_unit_test(identical_devices_at_once),
        cmocka_unit_test(cables_and_hubs),
        cmocka_unit_test(another_one_is_never_taken_for_it),
        cmocka_unit_test(devices_that_cannot_are_told),
        cmocka_unit_test(stopping_leaves_what_ran),
        cmocka_unit_test(a_gateway_on_usb_goes_before_the_bus_behind_it),
        cmocka_unit_test(the_suffix_is_a_finding),
        cmocka_unit_test(survey_and_links_say_what_is_plugged_in),
        cmocka_unit_test(a_device_in_its_loader_is_found_and_brought_back),
        cmocka_unit_test(a_nameless_loader_is_told_by_its_place),
        cmocka_unit_test(sites_and_profiles_that_are_wrong_are_told),
        cmocka_unit_test(a_trace_of_a_job_reads_as_dfu),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
