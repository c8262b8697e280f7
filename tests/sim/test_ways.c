/* Devices with more than one way to be written and restarted: the next one is taken where the one before has
 * failed and the device runs as before, and the tool says so. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct device {
    const char *http;    /* YAML for its web server, or NULL: it has none */
    const char *speaks;  /* NULL: modbus, tftp */
    const char *profile; /* lines in place of the usual `otherwise` and `activate`, or NULL */
    const char *more;    /* lines for the device, four blanks deep, or NULL */
};

#define RESTARTS                                                                                             \
    "activate:\n  - http: {path: /restart, expect: 202}\n"                                                   \
    "  - otherwise: [write-register: {address: 0x1000, value: 3}]\n"
#define BY_HAND "  - otherwise: [by-hand: {do: switch its power off and on}]\n"
#define WAYS    "otherwise:\n  - tftp: {windowsize: 4, patience-s: 5}\n"

static void make(struct little *l, const struct device *d)
{
    little_begin(l);
    write_text(
        l->folder, "profiles/amp.yaml",
        "profile: amp\norder-codes: [OR-*]\nidentity:\n  order-code: {modbus-object: 1}\n"
        "  hardware-revision: {modbus-object: 130}\n  serial: {modbus-object: 129}\n"
        "components:\n  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: "
        "144}, "
        "send-as: fw}\n"
        "http:\n  tls: no\n  login: {kind: none}\n  upload: {path: /images/fw, method: PUT}\n"
        "  progress: {path: /api/status, state: /job/state, done: idle, failed: failed}\n  patience-s: 5\n"
        "answer-patience-s: 1\nreturn: {down-ms: 300, patience-s: 10, settle-s: 2}\n%s",
        d->profile != NULL ? d->profile : WAYS RESTARTS BY_HAND);
    write_text(l->folder, "site.yaml",
               "site: ways\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  amp-1:\n    link: lan\n    address: 192.0.2.41\n    profile: amp\n    serial: A-1\n"
               "    wants: {firmware: {version: \"2.0\", image: fw-2.0.bin}}\n");
    write_text(l->folder, "world.yaml",
               "world: ways\nsite: site.yaml\nwires: {lan: {latency-us: 200}}\ndevices:\n"
               "  amp-1:\n    wire: lan\n    address: 192.0.2.41\n    speaks: [%s]\n%s%s%s"
               "    tftp: {writable: always}\n    pulls: {person: only-power, person-ms: 2000}\n"
               "    order-code: OR-H\n    hardware-revision: \"1\"\n    serial: A-1\n    checks-crc: yes\n"
               "    erase-ms: 100\n    write-bytes-per-s: 20000\n    down-ms: 300\n    boot-ms: 700\n%s"
               "    components:\n      firmware: {send-as: fw, product: OR-H, version-object: 2, "
               "checksum-object: 144, "
               "capacity-kib: 64, banks: 2, image: fw-1.0.bin}\n",
               d->speaks != NULL ? d->speaks : "modbus, tftp", d->http != NULL ? "    http: {tls: no, " : "",
               d->http != NULL ? d->http : "", d->http != NULL ? "}\n" : "", d->more != NULL ? d->more : "");
    write_image(l->folder, "fw-1.0.bin", "OR-H", "firmware", "1.0", 3000, "1", "");
    write_image(l->folder, "fw-2.0.bin", "OR-H", "firmware", "2.0", 3000, "1", "");
}

/* The program that the device runs, by another look from outside. */
static void expect_running(const struct little *l, const char *version)
{
    char says[64];
    snprintf(says, sizeof says, "\"running\": \"%s\"", version);
    expect_einbau(l, strcmp(version, "2.0") == 0 ? 0 : 1, says, "confirm --json");
}

static void the_next_way_is_taken_and_told(void **state)
{
    (void)state;
    static const struct {
        struct device device;
        int status;
        const char *says[3];
        const char *not_said, *version;
    } rows[] = {
        /* as it should be: nothing of other ways */
        {{.http = "answer: 202"}, 0, {"1 confirmed"}, "the way before failed", "2.0"},
        /* sending */
        {{.http = "upload-status: 501"},
         0,
         {"1 confirmed", "written by TFTP", "HTTP status 501"},
         NULL,
         "2.0"},
        {{.http = "upload-status: 503"},
         0,
         {"1 confirmed", "written by TFTP", "HTTP status 503"},
         NULL,
         "2.0"},
        {{.http = "limit-kib: 1"}, 0, {"1 confirmed", "written by TFTP", "HTTP status 413"}, NULL, "2.0"},
        {{.http = "write-fails: yes"}, 0, {"1 confirmed", "written by TFTP"}, NULL, "2.0"},
        {{.http = "stands-still: yes"}, 0, {"1 confirmed", "written by TFTP", "stands still"}, NULL, "2.0"},
        {{.http = NULL}, 0, {"1 confirmed", "written by TFTP", "restarted by Modbus/TCP"}, NULL, "2.0"},
        /* a wrong login is never a reason to try by another way */
        {{.http = "login: basic, user: service, password: x"},
         1,
         {"1 failed", "The profile's key 'login'"},
         "the way before",
         "1.0"},
        /* neither */
        {{.http = "upload-status: 501", .speaks = "modbus"}, 1, {"1 failed"}, "1 confirmed", "1.0"},
        /* restarting */
        {{.http = "ignores-restart: yes"},
         0,
         {"1 confirmed", "restarted by Modbus/TCP", "found 1.0"},
         NULL,
         "2.0"},
        {{.http = "ignores-restart: yes", .more = "    conduct: {restarts: never}\n"},
         0,
         {"1 confirmed", "restarted by hand", "manual step"},
         NULL,
         "2.0"},
        {{.http = "ignores-restart: yes",
          .more = "    conduct: {restarts: never}\n",
          .profile = WAYS RESTARTS},
         1,
         {"1 failed", "found 1.0"},
         "1 confirmed",
         "1.0"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, &rows[i].device);
        struct outcome o = einbau_run(&l, "fit --yes");
        bool said = o.status == rows[i].status &&
                    (rows[i].not_said == NULL || strstr(o.out, rows[i].not_said) == NULL);
        for (size_t k = 0; k < 3 && rows[i].says[k] != NULL; k++)
            said = said && (strstr(o.out, rows[i].says[k]) != NULL || strstr(o.err, rows[i].says[k]) != NULL);
        if (!said)
            fail_msg("row %zu: %d\n%s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
        expect_running(&l, rows[i].version);
        little_remove(&l);
    }
}

static void the_plan_names_them(void **state)
{
    (void)state;
    struct little l;
    const struct device device = {.http = "answer: 202"};
    make(&l, &device);
    char *out = einbau_says(&l, 0, "amp-1: is written by HTTP; where that fails, by TFTP", "plan");
    assert_non_null(strstr(out,
                           "manual step after sending, only where what is before it does not restart the "
                           "device: switch its power off and on"));
    free(out);
    little_remove(&l);
}

static void a_document_names_them(void **state)
{
    (void)state;
    struct little l;
    const struct device device = {.http = "ignores-restart: yes, upload-status: 501",
                                  .more = "    conduct: {restarts: never}\n"};
    make(&l, &device);
    struct outcome o = einbau_run(&l, "fit --yes --json");
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "\"sent_by\": \"tftp\""));
    assert_non_null(strstr(o.out, "\"restarted_by\": \"by-hand\""));
    /* the step was told when it was due */
    assert_non_null(strstr(o.err,
                           "{\"einbau\": \"event/1\", \"event\": \"manual-step\", \"device\": \"amp-1\", "
                           "\"step\": \"switch its power off and on\", \"shown_by\": \"device\"}\n"));
    outcome_free(&o);
    little_remove(&l);
}

static void wrong_profiles_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *lines, *says;
    } rows[] = {
        {"tftp: {}\n", "several ways to write to the device"},
        {"otherwise: [{http: {upload: {path: /x}}}]\n", "a way that the profile has not named yet"},
        {"otherwise: [{dfu: {ids: \"1209:0001\"}}]\n", "http, tftp, modbus-file or pull"},
        {"otherwise: [{prepare: []}]\n", "a way without a section"},
        {"otherwise: [{modbus-file: {}}]\n", "number from 1 to 65535"},
        {"prepare:\n  - otherwise: [wait-ms: 1]\n", "the unknown key 'otherwise'"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        const struct device device = {.http = "answer: 202", .profile = rows[i].lines};
        make(&l, &device);
        expect_einbau(&l, 2, rows[i].says, "plan");
        little_remove(&l);
    }
}

/* --- every frame struck --------------------------------------------------------------------------- */

static void on_event(void *context, const struct eb_run *run)
{
    if (eb_run_hand(run) != NULL)
        eb_sim_ask_person(context, "amp-1", run->hands[0]);
}

static void begins(void *context, struct eb_run_config *config)
{
    config->event = on_event;
    config->event_context = *(struct eb_sim **)context;
}

static enum eb_outcome fit_struck(const struct little *l, const struct eb_sim_fault *fault, bool *right)
{
    struct eb_problem problem;
    struct eb_sim *sim = eb_sim_open(l->world_path, NULL, &problem);
    assert_non_null(sim);
    if (fault != NULL)
        eb_sim_set_faults(sim, fault, 1);
    const struct eb_job_config config = {
        .site = l->site_path, .port = eb_sim_port(sim), .simulated = true, .begins = begins, .context = &sim};
    struct eb_job *job = eb_job_open(&config, &problem);
    assert_non_null(job);
    (void)!eb_job_fit(job, &problem);
    enum eb_outcome outcome = eb_job_device(job, "amp-1")->fit.outcome;
    eb_sim_pass(sim, 30000000);
    *right = little_runs(l, sim, "amp-1", "firmware", "fw-2.0.bin");
    eb_job_close(job);
    eb_sim_close(sim);
    return outcome;
}

static void no_fault_makes_it_lie(void **state)
{
    (void)state;
    static const enum eb_sim_fault_kind kinds[] = {EB_SIM_LOST, EB_SIM_GARBLED_UNSEEN, EB_SIM_POWER_LOST};
    static const struct device devices[] = {{.http = "upload-status: 501"}, {.http = "ignores-restart: yes"}};
    size_t cases = 0;
    size_t confirmed = 0;
    for (size_t d = 0; d < 2; d++) {
        struct little l;
        make(&l, &devices[d]);
        for (size_t k = 0; k < sizeof kinds / sizeof kinds[0]; k++) {
            for (uint64_t frame = 0; frame < 400; frame += 7) {
                bool right;
                const struct eb_sim_fault fault = {frame, kinds[k]};
                enum eb_outcome outcome = fit_struck(&l, &fault, &right);
                cases++;
                confirmed += outcome == EB_OUTCOME_CONFIRMED;
                if (outcome == EB_OUTCOME_CONFIRMED && !right)
                    fail_msg("device %zu, frame %llu, fault %d: confirmed, but it does not run 2.0", d,
                             (unsigned long long)frame, (int)kinds[k]);
            }
        }
        little_remove(&l);
    }
    print_message("%zu cases, %zu confirmed\n", cases, confirmed);
    assert_true(confirmed > cases * 8 / 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_next_way_is_taken_and_told), cmocka_unit_test(the_plan_names_them),
        cmocka_unit_test(a_document_names_them),          cmocka_unit_test(wrong_profiles_are_refused),
        cmocka_unit_test(no_fault_makes_it_lie),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
