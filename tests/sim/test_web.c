/* Whole jobs on devices with a web server: each login, each manner of such devices, each frame struck by each
 * fault; what is told is compared with the flash, which no protocol can hide. */
#include "support/web.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct case_ {
    struct little l;
    struct eb_sim *sim;
    struct eb_job *job;
    struct eb_job_device *amp;
    char warned[2048];
};

static void warn(void *context, const char *text)
{
    struct case_ *c = context;
    size_t at = strlen(c->warned);
    snprintf(c->warned + at, sizeof c->warned - at, "%s\n", text);
}

static bool passphrase(void *context, bool fresh, char to[EB_PASSPHRASE_BYTES], struct eb_problem *problem)
{
    (void)context;
    (void)fresh;
    (void)problem;
    snprintf(to, EB_PASSPHRASE_BYTES, "for tests only");
    return true;
}

static void open_world(struct case_ *c, const char *password);

static void open_case(struct case_ *c, const struct web_options *options, const char *password)
{
    memset(c, 0, sizeof *c);
    web_make(&c->l, options);
    open_world(c, password);
}

/* A fresh world in the same folder. */
static void open_world(struct case_ *c, const char *password)
{
    struct eb_problem problem;
    c->warned[0] = '\0';
    c->sim = eb_sim_open(c->l.world_path, NULL, &problem);
    if (c->sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_job_config config = {
        .site = c->l.site_path, .port = eb_sim_port(c->sim), .simulated = true, .warn = warn, .context = c};
    c->job = eb_job_open(&config, &problem);
    if (c->job == NULL)
        fail_msg("%s", problem.text);
    c->amp = eb_job_device(c->job, "amp-1");
    if (password == NULL)
        return;
    char key[PATH_BYTES + 8];
    snprintf(key, sizeof key, "%s/key", c->l.folder);
    const struct eb_secrets_config secrets = {
        .folder = c->l.folder, .key_file = key, .passphrase = passphrase};
    c->job->secrets = eb_secrets_open(&secrets, &problem);
    if (c->job->secrets == NULL)
        fail_msg("%s", problem.text);
    const struct eb_secret_name name = {.profile = "amp"};
    char user[EB_HTTP_USER_BYTES];
    char kept[EB_HTTP_PASSWORD_BYTES];
    if (!eb_secret_find(c->job->secrets, &name, user, kept))
        assert_true(eb_secret_set(c->job->secrets, &name, "service", password, &problem));
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

static bool holds(const struct case_ *c, const char *component, const char *file)
{
    size_t size;
    size_t capacity;
    char *image = read_text(c->l.folder, file, &size);
    bool same = memcmp(eb_sim_flash(c->sim, "amp-1", component, &capacity), image, size) == 0;
    free(image);
    return same;
}

static const struct eb_run *fit(struct case_ *c)
{
    struct eb_problem problem;
    bool good = eb_job_fit(c->job, &problem);
    const struct eb_run *run = &c->amp->fit;
    assert_int_equal(good, run->outcome == EB_OUTCOME_CONFIRMED || run->outcome == EB_OUTCOME_UP_TO_DATE);
    return run;
}

static void every_login(void **state)
{
    (void)state;
    for (int login = WEB_NONE; login <= WEB_TOKEN; login++) {
        for (int way = 0; way < 4; way++) {
            struct case_ c;
            const struct web_options options = {.login = (enum web_login)login,
                                                .two = way == 1,
                                                .http = way == 2 ? "private: yes" : NULL,
                                                .upload = way == 3
                                                              ? "path: \"/images/{send-as}\", method: PUT, "
                                                                "asks-first: yes"
                                                              : NULL};
            open_case(&c, &options, "Larch:fell 7");
            const struct eb_run *run = fit(&c);
            if (run->outcome != EB_OUTCOME_CONFIRMED || !holds(&c, "firmware", "fw-2.0.bin") ||
                (way == 1 && !holds(&c, "pages", "pages-2.0.bin")))
                fail_msg("login %d, way %d: %s: %s: %s; %s", login, way, eb_outcome_word(run->outcome),
                         run->error.where != NULL ? run->error.where : "", run->error.text,
                         c.job->problem.text);
            close_case(&c);
        }
    }
}

/* What a device may do, and what comes of it. */
static void devices_of_every_manner(void **state)
{
    (void)state;
    static const struct {
        struct web_options options;
        enum eb_outcome outcome;
        const char *says; /* in the error, or NULL */
        bool old;         /* the flash is as before */
    } rows[] = {
        {{.login = WEB_FORM, .http = "answer: 200"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .http = "answer: 201"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .http = "answer: 303"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .http = "answer: reset"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .http = "answer: silence"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .no_progress = true}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .two_banks = true}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .http = "session-requests: 1", .two = true}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_TOKEN, .http = "session-requests: 1", .two = true}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_DIGEST, .http = "nonce-requests: 1", .two = true}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_DIGEST, .http = "md5: yes"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_BASIC,
          .http = "refuses-expect: yes",
          .upload = "path: /images/fw, method: PUT, asks-first: yes"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_BASIC,
          .http = "ignores-expect: yes",
          .upload = "path: /images/fw, method: PUT, asks-first: yes"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_FORM, .device = "    conduct: {busy-ms: 3000}\n"}, EB_OUTCOME_CONFIRMED, NULL, false},
        {{.login = WEB_FORM, .device = "    conduct: {closes-connections: yes}\n"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_FORM, .device = "    conduct: {restarts-itself: yes}\n", .no_activate = true},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_FORM, .device = "    conduct: {restarts: twice}\n"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_FORM, .device = "    conduct: {restart-delay-ms: 3000}\n"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false},
        {{.login = WEB_FORM, .back = "restart: each"},
         EB_OUTCOME_CONFIRMED,
         NULL,
         false}, /* by its silence */
        {{.login = WEB_FORM, .wire = ", lost-ppm: 20000"}, EB_OUTCOME_CONFIRMED, NULL, false},
        /* those that do not do it */
        {{.login = WEB_FORM, .device = "    conduct: {restarts: never}\n", .two_banks = true},
         EB_OUTCOME_FAILED,
         "",
         true},
        {{.login = WEB_FORM, .http = "progress-jumps: yes"}, EB_OUTCOME_FAILED, "1.0", true},
        {{.login = WEB_FORM, .http = "stands-still: yes", .two_banks = true},
         EB_OUTCOME_FAILED,
         "stands still",
         true},
        {{.login = WEB_FORM, .http = "write-fails: yes", .two_banks = true},
         EB_OUTCOME_FAILED,
         "reports 'failed'",
         true},
        {{.login = WEB_FORM, .http = "limit-kib: 2"}, EB_OUTCOME_FAILED, "Content Too Large", true},
        {{.login = WEB_FORM, .http = "upload-status: 500"}, EB_OUTCOME_FAILED, "Internal Server Error", true},
        {{.login = WEB_FORM, .http = "upload-status: 403"}, EB_OUTCOME_FAILED, "Forbidden", true},
        {{.login = WEB_FORM, .http = "upload-status: 409"}, EB_OUTCOME_FAILED, "Conflict", true},
        {{.login = WEB_FORM, .http = "upload-status: 507"}, EB_OUTCOME_FAILED, "Insufficient Storage", true},
        {{.login = WEB_FORM, .device = "    conduct: {later-serial: A-9}\n"},
         EB_OUTCOME_FAILED,
         "A-9",
         false},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        open_case(&c, &rows[i].options, "Larch:fell 7");
        const struct eb_run *run = fit(&c);
        bool right = run->outcome == rows[i].outcome &&
                     (rows[i].says == NULL || strstr(run->error.text, rows[i].says) != NULL ||
                      strstr(run->first_error.text, rows[i].says) != NULL);
        bool flash = rows[i].old ? holds(&c, "firmware", "fw-1.0.bin") : holds(&c, "firmware", "fw-2.0.bin");
        if (!right || !flash)
            fail_msg("row %zu (%s): %s: %s: %s; %s%s", i,
                     rows[i].options.http != NULL ? rows[i].options.http : "", eb_outcome_word(run->outcome),
                     run->error.where != NULL ? run->error.where : "", run->error.text, c.job->problem.text,
                     flash ? "" : "; the flash is another one");
        close_case(&c);
    }
}

/* A wrong password is tried once, whatever the login; then nothing is written, and nobody is locked out. */
static void a_wrong_password_is_tried_once(void **state)
{
    (void)state;
    for (int login = WEB_BASIC; login <= WEB_TOKEN; login++) {
        struct case_ c;
        const struct web_options options = {.login = (enum web_login)login, .http = "lockout: 2"};
        open_case(&c, &options, "wrong");
        const struct eb_run *run = fit(&c);
        if (run->outcome != EB_OUTCOME_FAILED || run->error.status != EB_DENIED ||
            strstr(run->error.text, "refused") == NULL)
            fail_msg("login %d: %s: %s", login, eb_outcome_word(run->outcome), run->error.text);
        assert_true(holds(&c, "firmware", "fw-1.0.bin"));
        /* one more try would have locked it: with the right password it still opens */
        struct eb_problem problem;
        const struct eb_secret_name name = {.site = "amps", .device = "amp-1"};
        assert_true(eb_secret_set(c.job->secrets, &name, "service", "Larch:fell 7", &problem));
        c.amp->begun = false;
        run = fit(&c);
        if (run->outcome != EB_OUTCOME_CONFIRMED)
            fail_msg("login %d, then: %s: %s", login, eb_outcome_word(run->outcome), run->error.text);
        close_case(&c);
    }
}

static void passwords_go_where_they_may(void **state)
{
    (void)state;
    static const struct {
        struct web_options options;
        const char *password;
        unsigned accepts;
        enum eb_outcome outcome;
        const char *says;
    } rows[] = {
        {{.login = WEB_FORM}, NULL, 0, EB_OUTCOME_FAILED, "no user and password are known"},
        {{.login = WEB_BASIC, .plain = true}, "Larch:fell 7", 0, EB_OUTCOME_FAILED, "unencrypted"},
        {{.login = WEB_FORM, .plain = true}, "Larch:fell 7", 0, EB_OUTCOME_FAILED, "unencrypted"},
        {{.login = WEB_FORM, .plain = true},
         "Larch:fell 7",
         EB_ACCEPT_PLAIN_PASSWORD,
         EB_OUTCOME_CONFIRMED,
         ""},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        open_case(&c, &rows[i].options, rows[i].password);
        c.amp->accepts = rows[i].accepts;
        const struct eb_run *run = fit(&c);
        if (run->outcome != rows[i].outcome || strstr(run->error.text, rows[i].says) == NULL)
            fail_msg("row %zu: %s: %s", i, eb_outcome_word(run->outcome), run->error.text);
        close_case(&c);
    }
}

/* Where a device leads: never to another host, never from TLS to none, never in a circle. */
static void redirects_are_not_believed(void **state)
{
    (void)state;
    static const struct {
        const char *to, *says;
    } rows[] = {{"https://192.0.2.99/x", "another host"},
                {"http://192.0.2.41/x", "from https to http"},
                {"/again", "on and on"},
                {"//example.org/", "another host"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct case_ c;
        char http[80];
        snprintf(http, sizeof http, "redirects-to: \"%s\"", rows[i].to);
        const struct web_options options = {.login = WEB_FORM, .http = http};
        open_case(&c, &options, "Larch:fell 7");
        struct eb_problem problem;
        assert_false(eb_job_fit(c.job, &problem));
        if (strstr(problem.text, rows[i].says) == NULL)
            fail_msg("row %zu: %s", i, problem.text);
        assert_true(holds(&c, "firmware", "fw-1.0.bin"));
        close_case(&c);
    }
}

static void certificates_are_kept(void **state)
{
    (void)state;
    struct case_ c;
    const struct web_options changing = {.login = WEB_FORM, .http = "certificate-changes: yes"};
    open_case(&c, &changing, "Larch:fell 7");
    const struct eb_run *run = fit(&c);
    assert_non_null(strstr(c.warned, "for the first time"));
    if (run->outcome == EB_OUTCOME_CONFIRMED || strstr(run->error.text, "certificate") == NULL)
        fail_msg("%s: %s", eb_outcome_word(run->outcome), run->error.text);
    /* accepted, what runs is read and right */
    c.amp->accepts = EB_ACCEPT_CERTIFICATE;
    c.amp->begun = false;
    if (!eb_job_fit(c.job, NULL))
        fail_msg("%s", c.job->problem.text);
    assert_non_null(strstr(c.warned, "new certificate is trusted"));
    close_case(&c);
    /* one that the site pins */
    const struct web_options pinned = {
        .login = WEB_NONE,
        .site = "    http: {certificate: "
                "0000000000000000000000000000000000000000000000000000000000000000}\n"};
    open_case(&c, &pinned, NULL);
    struct eb_problem problem;
    assert_false(eb_job_fit(c.job, &problem));
    assert_non_null(strstr(problem.text, "certificate"));
    assert_true(holds(&c, "firmware", "fw-1.0.bin"));
    close_case(&c);
}

/* Each frame of a job with each fault. */
struct counts {
    unsigned cases, confirmed, later;
};

/* One case: what is reported is compared with the flash; what is not confirmed is fitted once more. */
static void strike(struct case_ *c, const struct eb_sim_fault *faults, size_t count, struct counts *n)
{
    eb_sim_set_faults(c->sim, faults, count);
    bool good = eb_job_fit(c->job, NULL);
    const struct eb_run *run = &c->amp->fit;
    unsigned frame = count > 0 ? (unsigned)faults[0].frame : 0;
    int kind = count > 0 ? (int)faults[0].kind : -1;
    if (good && !holds(c, "firmware", "fw-2.0.bin"))
        fail_msg("frame %u, fault %d: confirmed, and not in the flash", frame, kind);
    if (count == 0 && !good)
        fail_msg("without a fault: %s", c->job->problem.text);
    if (run->identified && !run->in_loader && strcmp(run->running[0].version, "2.0") == 0 &&
        !holds(c, "firmware", "fw-2.0.bin"))
        fail_msg("frame %u, fault %d: 2.0 is reported, and does not run", frame, kind);
    if (!good && getenv("EINBAU_TEST_LOUD") != NULL)
        print_message("frame %u, fault %d: %s\n", frame, kind, c->job->problem.text);
    n->cases++;
    n->confirmed += good;
    eb_sim_set_faults(c->sim, NULL, 0);
    eb_sim_pass(c->sim, 20000000);
    c->amp->begun = false;
    bool later = good || (eb_job_fit(c->job, NULL) && holds(c, "firmware", "fw-2.0.bin"));
    n->later += later;
    if (!later)
        print_message("frame %u, fault %d: then %s\n", frame, kind, c->job->problem.text);
}

static void print_counts(const char *what, const struct counts *n)
{
    print_message("%s: %u cases: %u confirmed, %u as wanted at the second job\n", what, n->cases,
                  n->confirmed, n->later);
    assert_int_equal(n->later, n->cases);
    assert_true(n->confirmed * 10 >= n->cases * 8);
}

static void every_frame_with_every_fault(void **state)
{
    (void)state;
    struct counts one = {0};
    struct counts two = {0};
    const struct web_options options = {.login = WEB_FORM, .image_bytes = 3000};
    struct case_ c;
    open_case(&c, &options, "Larch:fell 7");
    strike(&c, NULL, 0, &one);
    uint64_t frames = eb_sim_frames(c.sim);
    close_world(&c);
    for (uint64_t frame = 0; frame < frames; frame++) {
        for (int kind = EB_SIM_LOST; kind <= EB_SIM_POWER_LOST; kind++) {
            const struct eb_sim_fault faults[] = {{frame, (enum eb_sim_fault_kind)kind},
                                                  {frame + 1, (enum eb_sim_fault_kind)kind}};
            for (size_t count = 1; count <= 2; count++) {
                open_world(&c, "Larch:fell 7");
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
        cmocka_unit_test(every_login),
        cmocka_unit_test(devices_of_every_manner),
        cmocka_unit_test(a_wrong_password_is_tried_once),
        cmocka_unit_test(passwords_go_where_they_may),
        cmocka_unit_test(redirects_are_not_believed),
        cmocka_unit_test(certificates_are_kept),
        cmocka_unit_test(every_frame_with_every_fault),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
