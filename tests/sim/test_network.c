/* Members of a network that a strict manager keeps, in virtual time: whatever the manager does, and whatever
 * is lost on the bus, a member is written or not, and is supervised afterwards as before; else the job says
 * so. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { OPERATIONAL = 5, PREOPERATIONAL = 127, STOPPED = 4, AFTER_US = 20000000, FIRST_NODE = 11 };

/* How a job ended, and how things really are some time after it. */
struct after {
    bool good; /* as eb_job_fit says */
    char says[EB_PROBLEM_BYTES];
    enum eb_outcome outcome; /* of node-1, by its run; NONE: it had none */
    bool out;                /* the job says that the manager did not take it back */
    bool runs_new, runs_old;
    struct eb_sim_member member;
    uint64_t frames;
};

static bool flash_is(const struct little *l, const struct eb_sim *sim, const char *file)
{
    size_t capacity;
    size_t size;
    char *image = read_text(l->folder, file, &size);
    bool same = memcmp(eb_sim_flash(sim, "node-1", "firmware", &capacity), image, size) == 0;
    free(image);
    return same;
}

static struct eb_job *open_job(const struct little *l, struct eb_sim *sim, bool accepts)
{
    struct eb_problem problem;
    const struct eb_job_config config = {.site = l->site_path, .port = eb_sim_port(sim), .simulated = true};
    struct eb_job *job = eb_job_open(&config, &problem);
    if (job == NULL)
        fail_msg("%s", problem.text);
    for (size_t i = 0; i < job->count && accepts; i++)
        job->devices[i].accepted = 1U << EB_RULE_NETWORK;
    return job;
}

static struct after fit(const struct little *l, const struct eb_sim_fault *faults, size_t count, bool accepts)
{
    struct after a = {.says = ""};
    struct eb_problem problem = {""};
    struct eb_sim *sim = eb_sim_open(l->world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    eb_sim_pass(sim, 200000);
    eb_sim_set_faults(sim, faults, count);
    struct eb_job *job = open_job(l, sim, accepts);
    struct eb_job_device *node = eb_job_device(job, "node-1");
    a.good = eb_job_fit(job, &problem);
    snprintf(a.says, sizeof a.says, "%s", problem.text);
    a.outcome = node->begun ? node->fit.outcome : EB_OUTCOME_NONE;
    a.out = eb_job_is_out(node);
    a.frames = eb_sim_frames(sim);
    eb_job_close(job);
    eb_sim_set_faults(sim, NULL, 0);
    eb_sim_pass(sim, AFTER_US);
    bool runs = eb_sim_mode_of(sim, "node-1") == EB_SIM_RUNNING;
    a.runs_new = runs && flash_is(l, sim, "node-2.0.bin");
    a.runs_old = runs && flash_is(l, sim, "node-1.0.bin");
    assert_true(eb_sim_member(sim, "gate", FIRST_NODE, &a.member) ||
                strstr(a.says, "not in the list") != NULL || accepts);
    eb_sim_close(sim);
    return a;
}

static void print_after(const struct after *a)
{
    print_message(
        "good %d, %s, out %d, runs %s, supervised %d, state %u, resets %u, harmful %u, stopped all %u: %s\n",
        a->good, eb_outcome_word(a->outcome), a->out,
        a->runs_new   ? "new"
        : a->runs_old ? "old"
                      : "nothing",
        a->member.supervised, a->member.state, a->member.resets, a->member.harmful, a->member.stopped_all,
        a->says);
}

/* --- conduct of managers ---------------------------------------------------------------------------- */

static const struct {
    const char *network, *member, *members;
    bool good;     /* written, and as before in its network */
    uint8_t state; /* in which the member is then */
    bool supervised;
    const char *says; /* where it is not good */
} rows[] = {
    {"guard-ms: 50", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"guard-ms: 50", NULL, "members: at-once", true, OPERATIONAL, true, NULL},
    {"guard-ms: 20\n      retries: 0", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"takes-up-after-ms: 3000", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"tells-states: no", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"tells-supervision: no", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"tells-states: no\n      tells-supervision: no", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"busy-requests: 5", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"lost-requests: 3", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"silent-members: stop", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"silent-members: leave", NULL, NULL, true, OPERATIONAL, true, NULL},
    {"guard-ms: 50", "vendor: 7, product: 0xAA", NULL, true, OPERATIONAL, true, NULL},
    {"guard-ms: 50", "mandatory: yes, vendor: 7, product: 0xAA", NULL, true, OPERATIONAL, true, NULL},
    {"guard-ms: 50", "boot: no", NULL, true, OPERATIONAL, true, NULL},
    /* as it was found, whatever that was */
    {"guard-ms: 50", "boot: no, state: pre-operational", NULL, true, PREOPERATIONAL, true, NULL},
    {"guard-ms: 50", "supervised: no", NULL, true, OPERATIONAL, false, NULL},
    {"guard-ms: 50", "supervised: no, boot: no, state: pre-operational", NULL, true, PREOPERATIONAL, false,
     NULL},
    /* refused before anything is done */
    {"guard-ms: 50", "product: 0xAC", NULL, false, OPERATIONAL, true,
     "node-1 is refused: network: found product code 000000AA, expected 000000AC by the list of gate"},
    {"guard-ms: 50", "verifies-software: yes, software: 0x1234", NULL, false, OPERATIONAL, true,
     "node-1 is refused: network: found a check for the software identification 00001234 (1F55h)"},
    {"guard-ms: 50", "verifies-software: yes, date: 15000", NULL, false, OPERATIONAL, true,
     "node-1 is refused: network: found a check for software of day 15000 since 1984, 0 ms"},
    /* it does not let go, and nothing was written */
    {"refuses-requests: yes", NULL, NULL, false, OPERATIONAL, true,
     "data cannot be stored in the present state of the device"},
};

static void members_are_written_and_given_back(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        const struct bus_options options = {.nodes = 2,
                                            .no_gateway = true,
                                            .network = rows[i].network,
                                            .member = rows[i].member,
                                            .members = rows[i].members};
        bus_make(&l, &options);
        struct after a = fit(&l, NULL, 0, false);
        bool as_said = a.good == rows[i].good && (a.good || strstr(a.says, rows[i].says) != NULL);
        if (!as_said || a.runs_new != rows[i].good || a.runs_old == rows[i].good || a.out ||
            a.member.state != rows[i].state || a.member.supervised != rows[i].supervised ||
            a.member.resets > 0) {
            print_after(&a);
            fail_msg("row %zu: %s; %s", i, rows[i].network, rows[i].member != NULL ? rows[i].member : "");
        }
        little_remove(&l);
    }
}

/* What no request can hinder: the job may fail, and says nothing that is not so. */
static void a_manager_that_does_not_keep_to_it(void **state)
{
    (void)state;
    static const char *const networks[] = {"resumes-after-ms: 100", "resumes-after-ms: 400",
                                           "resumes-after-ms: 2000", "resumes-after-ms: 9000",
                                           "boots-unsupervised: yes"};
    for (size_t i = 0; i < sizeof networks / sizeof networks[0]; i++) {
        struct little l;
        const struct bus_options options = {
            .nodes = 1, .no_gateway = true, .network = networks[i], .member = "vendor: 7, product: 0xAA"};
        bus_make(&l, &options);
        struct after a = fit(&l, NULL, 0, false);
        print_message("%s: ", networks[i]);
        print_after(&a);
        assert_true(!a.good || (a.runs_new && a.member.supervised && a.member.state == OPERATIONAL));
        assert_true(a.outcome != EB_OUTCOME_CONFIRMED || a.runs_new);
        little_remove(&l);
    }
}

/* With what the plan refuses accepted, it is written; the manager does not start it, and that is said. */
static void what_the_manager_does_not_start_is_told(void **state)
{
    (void)state;
    static const char *const members[] = {"product: 0xAC", "verifies-software: yes, software: 0x1234"};
    for (size_t i = 0; i < 2; i++) {
        struct little l;
        const struct bus_options options = {
            .nodes = 1, .no_gateway = true, .network = "guard-ms: 50", .member = members[i]};
        bus_make(&l, &options);
        struct after a = fit(&l, NULL, 0, true);
        if (a.outcome != EB_OUTCOME_CONFIRMED || !a.out || !a.runs_new || a.member.state == OPERATIONAL) {
            print_after(&a);
            fail_msg("%s", members[i]);
        }
        little_remove(&l);
    }
}

/* The same device without a word of its manager in the site: the plan finds that out; and where that is
 * accepted, the simulated manager shows why. */
static void a_manager_that_the_site_does_not_name(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 1,
                                        .no_gateway = true,
                                        .network = "guard-ms: 50",
                                        .member = "product: 0xAA",
                                        .unnamed = true};
    bus_make(&l, &options);
    struct after a = fit(&l, NULL, 0, false);
    assert_false(a.good);
    assert_non_null(strstr(
        a.says, "network: found in the list of gate, which may supervise it, expected 'managed-by: gate'"));
    assert_true(a.runs_old);
    a = fit(&l, NULL, 0, true);
    assert_false(a.good);
    assert_true(a.member.harmful > 0);
    little_remove(&l);
}

/* --- every frame of a job, struck by every fault ---------------------------------------------------- */

enum { KINDS = EB_SIM_ADAPTER_LOST + 1 };

struct tally {
    unsigned long cases, confirmed, failed, out, wrong;
    char first[400]; /* what was wrong first */
};

static struct little struck;
static uint64_t struck_frames;

static void judge(struct tally *t, const struct after *a, uint64_t frame, int kind)
{
    bool lies = (a->outcome == EB_OUTCOME_CONFIRMED && !a->runs_new) || (a->good && (a->out || !a->runs_new));
    bool as_before = a->member.supervised && a->member.state == OPERATIONAL;
    /* One that is left in its loader is given back as well, and reset there; one without power is the
     * manager's to bring back. */
    bool harmed =
        a->member.harmful > 0 && kind != EB_SIM_POWER_LOST; /* that is the manager's to bring back */
    bool unsaid = !as_before && !a->out && (a->runs_new || a->runs_old) && kind != EB_SIM_POWER_LOST;
    t->cases++;
    t->confirmed += a->outcome == EB_OUTCOME_CONFIRMED;
    t->failed += a->outcome != EB_OUTCOME_CONFIRMED;
    t->out += a->out;
    if (!lies && !harmed && !unsaid)
        return;
    if (t->wrong++ == 0)
        snprintf(t->first, sizeof t->first,
                 "frame %llu, fault %d: %s%s%s; %s, out %d, runs %s, supervised %d, state %u, resets %u, "
                 "harmful %u; %.100s",
                 (unsigned long long)frame, kind, lies ? "a lie " : "", harmed ? "harm " : "",
                 unsaid ? "unsaid " : "", eb_outcome_word(a->outcome), a->out,
                 a->runs_new   ? "new"
                 : a->runs_old ? "old"
                               : "nothing",
                 a->member.supervised, a->member.state, a->member.resets, a->member.harmful, a->says);
}

static void strike(size_t worker, size_t workers, void *result)
{
    struct tally *t = result;
    unsigned step = every(1);
    for (uint64_t n = worker; n < struck_frames * KINDS / step; n += workers) {
        uint64_t at = n * step + n / struck_frames % step;
        const struct eb_sim_fault fault = {at / KINDS, (enum eb_sim_fault_kind)(at % KINDS)};
        struct after a = fit(&struck, &fault, 1, false);
        judge(t, &a, fault.frame, fault.kind);
    }
}

static void every_frame_is_struck(void **state)
{
    (void)state;
    size_t workers;
    struct tally sum = {0};
    const struct bus_options options = {.nodes = 1,
                                        .no_gateway = true,
                                        .network = "guard-ms: 100",
                                        .member = "vendor: 7, product: 0xAA",
                                        .image_bytes = 300};
    bus_make(&struck, &options);
    struct after whole = fit(&struck, NULL, 0, false);
    assert_true(whole.good);
    struck_frames = whole.frames;
    struct tally *results = workers_run(sizeof *results, strike, &workers);
    for (size_t i = 0; i < workers; i++) {
        sum.cases += results[i].cases;
        sum.confirmed += results[i].confirmed;
        sum.failed += results[i].failed;
        sum.out += results[i].out;
        sum.wrong += results[i].wrong;
        if (sum.first[0] == '\0')
            memcpy(sum.first, results[i].first, sizeof sum.first);
    }
    workers_free(results, sizeof *results, workers);
    print_message("%llu frames, %lu cases: %lu confirmed, %lu not, %lu not taken back and said to be so\n",
                  (unsigned long long)struck_frames, sum.cases, sum.confirmed, sum.failed, sum.out);
    little_remove(&struck);
    if (sum.wrong > 0)
        fail_msg("%lu wrong, the first: %s", sum.wrong, sum.first);
    assert_true(sum.confirmed > sum.cases / 2);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(members_are_written_and_given_back),
                                       cmocka_unit_test(a_manager_that_does_not_keep_to_it),
                                       cmocka_unit_test(what_the_manager_does_not_start_is_told),
                                       cmocka_unit_test(a_manager_that_the_site_does_not_name),
                                       cmocka_unit_test(every_frame_is_struck)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
