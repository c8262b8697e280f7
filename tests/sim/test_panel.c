/* Whole jobs on panels that pull their image from a loader that a person brings about: persons and loaders of
 * every manner, each datagram struck by each fault; what is told is compared with the flash. */
#include "support/web.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct case_ {
    struct little l;
    struct eb_sim *sim;
    struct eb_job *job;
    struct eb_job_device *panel;
    char notices[2048], hands[2048];
    bool nobody; /* who would hear what is asked */
    unsigned asked;
    const char *const *labels; /* what a person says, one after the other */
    unsigned labels_asked;
};

struct counts {
    unsigned cases, confirmed, in_loader, later;
};

static void on_event(void *context, const struct eb_run *run)
{
    struct case_ *c = context;
    if (run->contact.notice[0] != '\0' && strstr(c->notices, run->contact.notice) == NULL)
        strncat(c->notices, run->contact.notice, sizeof c->notices - strlen(c->notices) - 1);
    if (eb_run_hand(run) == NULL)
        return;
    c->asked++;
    if (strstr(c->hands, eb_run_hand(run)) == NULL)
        strncat(c->hands, eb_run_hand(run), sizeof c->hands - strlen(c->hands) - 1);
    if (!c->nobody)
        eb_sim_ask_person(c->sim, "panel-1", run->hands[0]);
    if (eb_run_hand_waits(run))
        eb_run_hand_done(&c->panel->fit);
}

/* The person at the device reads its label. */
static enum eb_status read_label(void *context, const struct eb_job_device *target, const char *key,
                                 const char *where, bool afresh, char text[EB_NAME_BYTES])
{
    struct case_ *c = context;
    assert_string_equal(target->device->name, "panel-1");
    assert_string_equal(key, "hardware-address");
    assert_non_null(strstr(where, "label"));
    assert_false(afresh);
    const char *label = c->labels != NULL ? c->labels[c->labels_asked++] : NULL;
    if (label == NULL)
        return EB_NO_ANSWER;
    snprintf(text, EB_NAME_BYTES, "%s", label);
    return label[0] == '\0' ? EB_PENDING : EB_OK; /* still on the way */
}

static void begins(void *context, struct eb_run_config *config)
{
    config->event = on_event;
    config->event_context = context;
}

static void open_world(struct case_ *c)
{
    struct eb_problem problem;
    c->notices[0] = c->hands[0] = '\0';
    c->asked = 0;
    c->sim = eb_sim_open(c->l.world_path, NULL, &problem);
    if (c->sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_job_config config = {.site = c->l.site_path,
                                         .port = eb_sim_port(c->sim),
                                         .simulated = true,
                                         .begins = begins,
                                         .statement = read_label,
                                         .context = c};
    c->job = eb_job_open(&config, &problem);
    if (c->job == NULL)
        fail_msg("%s", problem.text);
    c->panel = eb_job_device(c->job, "panel-1");
}

static void open_case(struct case_ *c, const struct panel_options *options)
{
    memset(c, 0, sizeof *c);
    panel_make(&c->l, options);
    open_world(c);
}

static void close_world(struct case_ *c)
{
    eb_job_close(c->job);
    eb_sim_close(c->sim);
}

static void close_case(struct case_ *c)
{
    close_world(c);
    little_remove(&c->l);
}

static bool holds(const struct case_ *c, const char *file)
{
    size_t size;
    size_t capacity;
    char *image = read_text(c->l.folder, file, &size);
    bool same = memcmp(eb_sim_flash(c->sim, "panel-1", "firmware", &capacity), image, size) == 0;
    free(image);
    return same;
}

static void loaders_and_persons_of_every_manner(void **state)
{
    (void)state;
    static const char spare[] =
        "  spare:\n    wire: lan\n    mac: \"02:00:5e:07:00:c1\"\n    asks-for-address: dhcp\n"
        "    speaks: []\n    starts: loader\n    components:\n      firmware: {capacity-kib: 8}\n";
    static const char thief[] =
        "  thief:\n    wire: lan\n    address: 192.0.2.21\n    mac: \"02:00:5e:07:00:c2\"\n"
        "    shares-address: yes\n    speaks: [dcp]\n    components:\n      firmware: {capacity-kib: 8}\n";
    static const struct {
        struct panel_options options;
        bool nobody;
        enum eb_outcome outcome;
        const char *says, *notices;
        bool old; /* the flash is as before */
    } rows[] = {
        {{.pulls = NULL}, false, EB_OUTCOME_CONFIRMED, NULL, "its loader asks for its image", false},
        {{.pulls = "bootp: yes"}, false, EB_OUTCOME_CONFIRMED, NULL, "", false},
        {{.pulls = "blksize: 1468, windowsize: 8"}, false, EB_OUTCOME_CONFIRMED, NULL, "", false},
        {{.pulls = "blksize: 128, windowsize: 3"}, false, EB_OUTCOME_CONFIRMED, NULL, "", false},
        {{.pulls = "asks-size-first: yes"}, false, EB_OUTCOME_CONFIRMED, NULL, "", false},
        {{.image_bytes = 5120}, false, EB_OUTCOME_CONFIRMED, NULL, "", false}, /* a multiple of the blocks */
        {{.device = "    conduct: {last-acknowledgement: no}\n"},
         false,
         EB_OUTCOME_CONFIRMED,
         NULL,
         "",
         false},
        {{.others = spare}, false, EB_OUTCOME_CONFIRMED, NULL, "a loader asks: 02:00:5e:07:00:c1", false},
        /* those where it does not work */
        {{.pulls = NULL}, true, EB_OUTCOME_MANUAL_STEP, "did not ask", "", true}, /* nobody comes */
        {{.person = "person: forgets-switch"}, false, EB_OUTCOME_MANUAL_STEP, "did not ask", "", true},
        {{.person = "person: leaves-switch"}, false, EB_OUTCOME_FAILED, "switch is still on", "", false},
        {{.pulls = "takes-other-server: yes"},
         false,
         EB_OUTCOME_IN_LOADER,
         "192.0.2.1",
         "another DHCP server: 192.0.2.1",
         true},
        {{.pulls = "asks-another-file: yes"}, false, EB_OUTCOME_IN_LOADER, NULL, "", true},
        {{.others = thief, .profile = NULL}, false, EB_OUTCOME_FAILED, "02:00:5e:07:00:c2", "", true},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        open_case(&c, &rows[i].options);
        c.nobody = rows[i].nobody;
        bool good = eb_job_fit(c.job, NULL);
        const struct eb_run *run = &c.panel->fit;
        const char *flash = rows[i].old ? "panel-1.0.bin" : "panel-2.0.bin";
        if (run->outcome != rows[i].outcome || good != (run->outcome == EB_OUTCOME_CONFIRMED) ||
            (rows[i].says != NULL && strstr(run->error.text, rows[i].says) == NULL) ||
            strstr(c.notices, rows[i].notices) == NULL || !holds(&c, flash))
            fail_msg("row %zu: %s: %s: %s; %s; seen: %s%s", i, eb_outcome_word(run->outcome),
                     run->error.where != NULL ? run->error.where : "", run->error.text, c.job->problem.text,
                     c.notices, holds(&c, flash) ? "" : "; the flash is another one");
        if (good) {
            assert_non_null(strstr(c.hands, "SERVICE"));
            assert_non_null(strstr(c.hands, "RUN"));
            assert_int_equal(eb_sim_mode_of(c.sim, "panel-1"), EB_SIM_RUNNING);
        }
        close_case(&c);
    }
}

/* A step that nothing shows: a person says so, or patience ends it before a byte. */
static void a_step_that_only_a_person_sees(void **state)
{
    (void)state;
    for (int said = 0; said < 2; said++) {
        struct case_ c;
        struct eb_problem problem;
        const struct panel_options options = {.pulls = NULL};
        memset(&c, 0, sizeof c);
        panel_make(&c.l, &options);
        replace_in(&c.l, "profiles/panel.yaml", "do: \"set the service switch to SERVICE\"",
                   "do: \"set the service switch to SERVICE\", ask: yes, within-s: 30");
        open_world(&c);
        c.nobody = said == 0;
        if (said == 0) { /* nobody says anything */
            struct eb_job_config config = c.job->config;
            close_world(&c);
            c.sim = eb_sim_open(c.l.world_path, NULL, &problem);
            config.begins = NULL;
            config.port = eb_sim_port(c.sim);
            c.job = eb_job_open(&config, &problem);
            c.panel = eb_job_device(c.job, "panel-1");
        }
        bool good = eb_job_fit(c.job, &problem);
        assert_int_equal(good, said);
        if (said == 0) {
            assert_int_equal(c.panel->fit.outcome, EB_OUTCOME_MANUAL_STEP);
            assert_non_null(strstr(c.panel->fit.error.text, "not reported as done"));
            assert_true(holds(&c, "panel-1.0.bin"));
        }
        close_case(&c);
    }
}

/* A panel whose update was broken off, in its loader: found by its hardware address, and written again. */
static void one_that_was_left_in_its_loader(void **state)
{
    (void)state;
    static const struct panel_options rows[] = {
        {.pulls = "service-switch: yes", .device = "    starts: loader\n"},
        {.pulls = "service-switch: yes, bootp: yes", .device = "    starts: loader\n"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        open_case(&c, &rows[i]);
        /* without its hardware revision nothing can tell whether the image is for it */
        assert_false(eb_job_fit(c.job, NULL));
        assert_true(c.panel->look.in_loader);
        assert_string_equal(c.panel->look.identity.order_code, "HS-T");
        assert_string_equal(c.panel->look.identity.serial, "");
        assert_true(c.panel->refused);
        assert_true(holds(&c, "panel-1.0.bin"));
        close_world(&c);
        open_world(&c);
        c.panel->accepted = 1U << EB_RULE_HARDWARE_REVISION;
        if (!eb_job_fit(c.job, NULL))
            fail_msg("row %zu: %s", i, c.job->problem.text);
        assert_true(holds(&c, "panel-2.0.bin"));
        assert_null(strstr(c.hands, "SERVICE")); /* it is there already */
        assert_non_null(strstr(c.hands, "RUN"));
        assert_string_equal(c.panel->fit.identity.serial, "P-1");
        close_case(&c);
    }
    /* another loader that asks is not this panel */
    struct case_ c;
    const struct panel_options off = {
        .device = "    starts: off\n",
        .others = "  spare:\n    wire: lan\n    mac: \"02:00:5e:07:00:c1\"\n    asks-for-address: dhcp\n"
                  "    speaks: []\n    starts: loader\n    components:\n      firmware: {capacity-kib: 8}\n"};
    open_case(&c, &off);
    assert_false(eb_job_fit(c.job, NULL));
    assert_false(c.panel->look.in_loader);
    close_case(&c);
}

/* Whose loader asks where the site does not say: as its program at its address, or as its label says. */
static void one_whose_hardware_address_the_site_does_not_give(void **state)
{
    (void)state;
    static const char spare[] =
        "  spare:\n    wire: lan\n    mac: \"02:00:5e:07:00:c1\"\n    asks-for-address: dhcp\n"
        "    speaks: []\n    starts: loader\n    components:\n      firmware: {capacity-kib: 8}\n";
    static const struct {
        const char *device, *labels[6];
        unsigned labels_asked;
        bool good;
    } rows[] = {
        {NULL, {NULL}, 0, true}, /* its program answers for its address */
        {"    starts: loader\n", {"", "", "02:00:5E:07:03:88", NULL}, 3, true},
        {"    starts: loader\n", {"?", "02:00:5e:07:03", "02-00-5e-07-03-88", NULL}, 3, true},
        {"    starts: loader\n", {"02:00:5e:07:03:99", NULL}, 1, false}, /* another device's label */
        {"    starts: loader\n", {NULL}, 1, false},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        const struct panel_options options = {.pulls = rows[i].device != NULL ? "service-switch: yes" : NULL,
                                              .device = rows[i].device,
                                              .others = spare};
        memset(&c, 0, sizeof c);
        panel_make(&c.l, &options);
        replace_in(&c.l, "site.yaml", "    mac: \"02:00:5e:07:03:88\"\n", "");
        open_world(&c);
        c.labels = rows[i].labels;
        c.panel->accepted = 1U << EB_RULE_HARDWARE_REVISION;
        bool good = eb_job_fit(c.job, NULL);
        if (good != rows[i].good || c.labels_asked != rows[i].labels_asked ||
            !holds(&c, good ? "panel-2.0.bin" : "panel-1.0.bin"))
            fail_msg("row %zu: %s, %u questions; %s; seen: %s", i, eb_outcome_word(c.panel->fit.outcome),
                     c.labels_asked, c.panel->fit.error.text, c.notices);
        size_t capacity;
        assert_int_equal(eb_sim_flash(c.sim, "spare", "firmware", &capacity)[0], 0xFF);
        close_case(&c);
    }
}

/* One case: what is reported is compared with the flash; what is not confirmed is fitted once more. */
static void strike(struct case_ *c, const struct eb_sim_fault *faults, size_t count, struct counts *n)
{
    eb_sim_set_faults(c->sim, faults, count);
    bool good = eb_job_fit(c->job, NULL);
    const struct eb_run *run = &c->panel->fit;
    unsigned frame = count > 0 ? (unsigned)faults[0].frame : 0;
    int kind = count > 0 ? (int)faults[0].kind : -1;
    if (good && !holds(c, "panel-2.0.bin"))
        fail_msg("frame %u, fault %d: confirmed, and not in the flash", frame, kind);
    if (count == 0 && !good)
        fail_msg("without a fault: %s", c->job->problem.text);
    if (run->identified && !run->in_loader && strcmp(run->running[0].version, "2.0") == 0 &&
        !holds(c, "panel-2.0.bin"))
        fail_msg("frame %u, fault %d: 2.0 is reported, and does not run", frame, kind);
    if (run->outcome == EB_OUTCOME_IN_LOADER && eb_sim_mode_of(c->sim, "panel-1") != EB_SIM_LOADER)
        fail_msg("frame %u, fault %d: its loader is reported, and does not run", frame, kind);
    n->cases++;
    n->confirmed += good;
    n->in_loader += run->outcome == EB_OUTCOME_IN_LOADER;
    eb_sim_set_faults(c->sim, NULL, 0);
    eb_sim_pass(c->sim, 20000000);
    c->panel->begun = false;
    c->panel->accepted = 1U << EB_RULE_HARDWARE_REVISION;
    bool later = good || (eb_job_fit(c->job, NULL) && holds(c, "panel-2.0.bin"));
    n->later += later;
    if (!later)
        print_message("frame %u, fault %d: %s, then %s\n", frame, kind, eb_outcome_word(run->outcome),
                      c->job->problem.text);
}

static void print_counts(const char *what, const struct counts *n)
{
    print_message(
        "%s: %u cases: %u confirmed, %u reported to be in the loader, %u as wanted at the second job\n", what,
        n->cases, n->confirmed, n->in_loader, n->later);
    assert_int_equal(n->later, n->cases);
    assert_true(n->confirmed * 10 >= n->cases * 8);
}

static void every_frame_with_every_fault(void **state)
{
    (void)state;
    struct counts one = {0};
    struct counts two = {0};
    struct case_ c;
    const struct panel_options options = {.image_bytes = 3000};
    open_case(&c, &options);
    strike(&c, NULL, 0, &one);
    uint64_t frames = eb_sim_frames(c.sim);
    close_world(&c);
    for (uint64_t frame = 0; frame < frames; frame++) {
        for (int kind = EB_SIM_LOST; kind <= EB_SIM_POWER_LOST; kind++) {
            const struct eb_sim_fault faults[] = {{frame, (enum eb_sim_fault_kind)kind},
                                                  {frame + 1, (enum eb_sim_fault_kind)kind}};
            for (size_t count = 1; count <= 2; count++) {
                open_world(&c);
                strike(&c, faults, count, count == 1 ? &one : &two);
                close_world(&c);
            }
        }
    }
    little_remove(&c.l);
    print_counts("one fault", &one);
    print_counts("neighbours", &two);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(loaders_and_persons_of_every_manner),
        cmocka_unit_test(a_step_that_only_a_person_sees),
        cmocka_unit_test(one_that_was_left_in_its_loader),
        cmocka_unit_test(one_whose_hardware_address_the_site_does_not_give),
        cmocka_unit_test(every_frame_with_every_fault),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
