/* What is printed is compared with what is: the tool as a process, on simulated devices that are struck by a
 * fault, a signal or a habit of their own; after each case outcome, running version and mark, in text and
 * JSON of fit, and of confirm, survey and show after it, are held against the simulated flash and the
 * device's state.
 *
 * The cases are worked off by several processes; EINBAU_TEST_EVERY=1 takes every frame, else every few. */
#include "told_subjects.h"

#include <errno.h>
#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

enum { CASES_MAX = 20000, TOLD_BYTES = 65536, CELL_BYTES = 64 };

/* --- cases --------------------------------------------------------------------------------------- */

struct a_case {
    uint8_t kind, habit;
    const char *fault, *signal; /* at `frame`; NULL: none */
    unsigned frame;
};

struct told {
    char text[TOLD_BYTES];
    bool wrong;
    unsigned long cases, confirmed, not_confirmed, killed, recovered, statements;
};

static const char *case_text(const struct a_case *c)
{
    static char text[256];
    snprintf(text, sizeof text, "%s%s%s%s%s, %s%s at frame %u", subjects[c->kind].name,
             habits[c->habit].words != NULL ? ", " : "",
             habits[c->habit].words != NULL ? habits[c->habit].words : "",
             habits[c->habit].again ? ", the wanted version runs already" : "",
             habits[c->habit].other_bytes ? " with other bytes" : "",
             c->fault != NULL    ? c->fault
             : c->signal != NULL ? "signal "
                                 : "nothing",
             c->signal != NULL ? c->signal : "", c->frame);
    return text;
}

#define WRONG(own, c, ...)                                                                                   \
    do {                                                                                                     \
        size_t at_ = strlen((own)->text);                                                                    \
        (own)->wrong = true;                                                                                 \
        at_ += (size_t)snprintf((own)->text + at_, sizeof(own)->text - at_, "%s: ", case_text(c));           \
        if (at_ < sizeof(own)->text)                                                                         \
            snprintf((own)->text + at_, sizeof(own)->text - at_, __VA_ARGS__);                               \
        strncat((own)->text, "\n", sizeof(own)->text - 1 - strlen((own)->text));                             \
    } while (0)

/* What is said of one component. */
struct said {
    char running[CELL_BYTES], mark[CELL_BYTES], outcome[CELL_BYTES];
};

struct sayings {
    int status;
    bool there, in_loader, loader_known, stopped, answered;
    char outcome[CELL_BYTES]; /* of the device, JSON only */
    struct said of[COMPONENTS_MAX];
    char *text;
};

static const char *text_of(const json_t *object, const char *key)
{
    const json_t *value = json_object_get(object, key);
    return json_is_string(value) ? json_string_value(value) : json_is_null(value) ? "null" : "";
}

static struct sayings read_json(struct outcome *o, const char *name)
{
    struct sayings s = {.status = o->status, .text = o->out};
    json_t *root = json_loads(o->out, JSON_REJECT_DUPLICATES, NULL);
    const json_t *devices = json_object_get(root, "devices");
    for (size_t i = 0; i < json_array_size(devices); i++) {
        const json_t *device = json_array_get(devices, i);
        if (strcmp(text_of(device, "name"), name) != 0)
            continue;
        s.there = true;
        s.in_loader = json_is_true(json_object_get(device, "in_loader"));
        s.loader_known = json_is_boolean(json_object_get(device, "in_loader"));
        s.answered = json_is_true(json_object_get(device, "answered"));
        s.stopped = strcmp(text_of(device, "program"), "stopped") == 0;
        snprintf(s.outcome, sizeof s.outcome, "%s", text_of(device, "outcome"));
        const json_t *components = json_object_get(device, "components");
        for (size_t k = 0; k < json_array_size(components) && k < COMPONENTS_MAX; k++) {
            const json_t *c = json_array_get(components, k);
            snprintf(s.of[k].running, CELL_BYTES, "%s", text_of(c, "running"));
            snprintf(s.of[k].mark, CELL_BYTES, "%s", text_of(c, "mark"));
            snprintf(s.of[k].outcome, CELL_BYTES, "%s", text_of(c, "outcome"));
        }
    }
    json_decref(root);
    free(o->err);
    return s;
}

/* The cell below a head of the table that has `anchor` as one of its heads, in the row of a component; false:
 * there is none. */
static bool cell(const char *text, const char *anchor, const char *head, const char *component, char *to)
{
    const char *heads = strstr(text, anchor);
    if (heads == NULL)
        return false;
    while (heads > text && heads[-1] != '\n')
        heads--;
    const char *end = strchr(heads, '\n');
    const char *at = strstr(heads, head);
    const char *names = strstr(heads, "COMPONENT");
    if (at == NULL || names == NULL || at > end || names > end)
        return false;
    size_t column = (size_t)(at - heads);
    size_t name_column = (size_t)(names - heads);
    for (const char *line = end + 1; *line != '\0' && *line != '\n'; line = strchr(line, '\n') + 1) {
        size_t length = strcspn(line, "\n");
        if (length <= name_column || strncmp(line + name_column, component, strlen(component)) != 0)
            continue;
        to[0] = '\0';
        if (length <= column)
            return true;
        const char *two = strstr(line + column, "  "); /* columns are two blanks apart */
        size_t size = two != NULL && two < line + length ? (size_t)(two - (line + column)) : length - column;
        snprintf(to, CELL_BYTES, "%.*s", (int)size, line + column);
        return true;
    }
    return false;
}

static const char *expected_mark(const struct truth *t, size_t i)
{
    return t->mode == EB_SIM_LOADER            ? "unreadable"
           : t->wanted[i]                      ? "current"
           : strcmp(t->version[i], "2.0") == 0 ? "differs"
                                               : "outdated";
}

/* --- judging ------------------------------------------------------------------------------------- */

/* What fit says, against what is once all has come to rest.  `settles`: the device may go on by itself when
 * the job has ended, so that what ran then need not run now. */
static void judge_fit(struct told *own, const struct a_case *c, const struct sayings *s,
                      const struct truth *t, bool settles)
{
    bool all = true;
    for (size_t i = 0; i < subjects[c->kind].count; i++) {
        const struct said *of = &s->of[i];
        bool confirmed = strncmp(of->outcome, "confirmed", 9) == 0 ||
                         strncmp(of->outcome, "up-to-date", 13) == 0 ||
                         (of->outcome[0] == '\0' && strncmp(s->outcome, "up-to-date", 13) == 0);
        all = all && confirmed;
        own->statements++;
        if (confirmed && (!t->wanted[i] || t->mode != EB_SIM_RUNNING))
            WRONG(own, c, "%s is called %s, and its flash holds %s%s, mode %d",
                  subjects[c->kind].components[i], of->outcome, t->version[i],
                  t->wanted[i] ? "" : " of other bytes", t->mode);
        if (strcmp(of->mark, "current") == 0 && !t->wanted[i] && !settles)
            WRONG(own, c, "%s is marked current, and its flash holds %s", subjects[c->kind].components[i],
                  t->version[i]);
        bool version = of->running[0] >= '0' && of->running[0] <= '9';
        char plain[CELL_BYTES];
        snprintf(plain, sizeof plain, "%s", of->running);
        plain[strcspn(plain, ",")] = '\0'; /* "2.0, stopped" */
        if (version && !settles && (strcmp(plain, t->version[i]) != 0 || t->mode == EB_SIM_LOADER))
            WRONG(own, c, "%s is said to run %s, and its flash holds %s, mode %d",
                  subjects[c->kind].components[i], of->running, t->version[i], t->mode);
    }
    if (s->loader_known && s->in_loader && t->mode != EB_SIM_LOADER && !settles)
        WRONG(own, c, "it is said to be in its loader, and is in mode %d", t->mode);
    if ((s->status == 0) != all)
        WRONG(own, c, "fit ended with %d, and all confirmed is %d", s->status, all);
}

/* Text and document of one command say the same. */
static void judge_same(struct told *own, const struct a_case *c, const char *command,
                       const struct sayings *json, const char *text, const char *running_head,
                       const char *last_head)
{
    for (size_t i = 0; i < subjects[c->kind].count; i++) {
        char running[CELL_BYTES] = "";
        char last[CELL_BYTES] = "";
        const struct said *of = &json->of[i];
        bool outcomes = strcmp(last_head, "OUTCOME") == 0;
        if (!cell(text, running_head, running_head, subjects[c->kind].components[i], running) ||
            !cell(text, running_head, last_head, subjects[c->kind].components[i], last))
            continue; /* it prints no such table in this case */
        const char *wanted = strcmp(of->running, "null") != 0   ? of->running
                             : json->in_loader                  ? "(in loader)"
                             : strcmp(of->mark, "unknown") == 0 ? "unknown"
                                                                : "";
        size_t size = strlen(wanted);
        own->statements++;
        if (strncmp(running, wanted, size) != 0 || (running[size] != '\0' && running[size] != ','))
            WRONG(own, c, "%s says '%s' in text and '%s' in JSON", command, running, of->running);
        const char *other = outcomes ? of->outcome : of->mark;
        if (strncmp(last, other, strlen(other)) != 0)
            WRONG(own, c, "%s says '%s' in text and '%s' in JSON", command, last, other);
    }
}

/* What those that only look say. */
static void judge_look(struct told *own, const struct a_case *c, const char *command, const struct sayings *s,
                       const struct truth *t, bool left)
{
    bool right = t->mode == EB_SIM_RUNNING;
    if (!s->there) {
        WRONG(own, c, "%s does not name the device: %d %.400s", command, s->status, s->text);
        return;
    }
    if (!s->loader_known && s->answered) { /* by its serial number it is another one: nothing is said of it */
        for (size_t i = 0; i < subjects[c->kind].count; i++) {
            if (strcmp(s->of[i].running, "null") != 0 || strcmp(s->of[i].mark, "unreadable") != 0)
                WRONG(own, c, "%s says %s %s of another device", command, s->of[i].running, s->of[i].mark);
        }
        if (s->status == 0 || strstr(habits[c->habit].words, "serial") == NULL)
            WRONG(own, c, "%s takes it for another device", command);
        return;
    }
    if (s->in_loader != (t->mode == EB_SIM_LOADER))
        WRONG(own, c, "%s says in_loader %d, mode %d", command, s->in_loader, t->mode);
    if (c->kind <= COUPLER && s->stopped != (t->mode == EB_SIM_STOPPED))
        WRONG(own, c, "%s says stopped %d, mode %d", command, s->stopped, t->mode);
    for (size_t i = 0; i < subjects[c->kind].count; i++) {
        const char *running = t->mode == EB_SIM_LOADER ? "null" : t->version[i];
        right = right && t->wanted[i];
        own->statements++;
        if (strcmp(s->of[i].running, running) != 0 || strcmp(s->of[i].mark, expected_mark(t, i)) != 0)
            WRONG(own, c, "%s says %s %s, expected %s %s", command, s->of[i].running, s->of[i].mark, running,
                  expected_mark(t, i));
    }
    if (strcmp(command, "confirm") == 0 && (s->status == 0) != (right && !left))
        WRONG(own, c, "confirm ended with %d, and right is %d, left %d", s->status, right, left);
}

/* --- one case ------------------------------------------------------------------------------------ */

static void put_strike(const struct little *l, const char *world, const struct a_case *c)
{
    char line[128] = "";
    const char *rest = strstr(world, "seed: 7\n") + 8;
    if (c->fault != NULL)
        snprintf(line, sizeof line, "faults: [{frame: %u, kind: %s}]\n", c->frame, c->fault);
    else if (c->signal != NULL)
        snprintf(line, sizeof line, "laptop-process: {frame: %u, signal: %s}\n", c->frame, c->signal);
    write_text(l->folder, "world.yaml", "%.*s%s%s", (int)(rest - world), world, line, rest);
}

/* One of those that only look, while the device stays as it is: a loader may start its program by itself
 * meanwhile, and then it is looked once more. */
static void judge_reader(struct told *own, const struct a_case *c, const struct little *l,
                         const char *command)
{
    const char *name = subjects[c->kind].name;
    for (int i = 0; i < 4; i++) {
        char words[64];
        struct truth t = look(l, c->kind, "state");
        snprintf(words, sizeof words, "%s %s --json", command, name);
        struct outcome o = in_state(l, "state", words);
        snprintf(words, sizeof words, "%s %s", command, name);
        struct outcome text = in_state(l, "state", words);
        struct truth after = look(l, c->kind, "state");
        bool left = strstr(o.out, "\"left\"") != NULL;
        struct sayings s = read_json(&o, name);
        bool stayed = same_truth(&t, &after);
        if (stayed) {
            judge_look(own, c, command, &s, &t, left);
            judge_same(own, c, command, &s, text.out, "RUNNING", "MARK");
            if (text.status != s.status)
                WRONG(own, c, "%s ends with %d, with --json %d", command, text.status, s.status);
            if (t.mode == EB_SIM_STOPPED && strstr(text.out, "stopped") == NULL)
                WRONG(own, c, "%s does not say that the program is stopped", command);
        }
        outcome_free(&text);
        free(s.text);
        if (stayed)
            return;
    }
    WRONG(own, c, "it does not come to rest");
}

static void try_case(struct told *own, const struct a_case *c, struct little *l, const char *world)
{
    const struct habit *h = &habits[c->habit];
    const char *name = subjects[c->kind].name;
    const char *again = h->again && !h->other_bytes ? " --again" : "";
    char words[96];
    char line[4 * PATH_BYTES];
    put_strike(l, world, c);
    snprintf(line, sizeof line, "rm -rf %s/state %s/other", l->folder, l->folder);
    const char *const clean[] = {"sh", "-c", line, NULL};
    struct outcome cleaned = run_program(clean);
    outcome_free(&cleaned);

    snprintf(words, sizeof words, "fit --yes %s%s", name, again);
    struct outcome text = in_state(l, "state", words);
    snprintf(words, sizeof words, "fit --yes --json %s%s", name, again);
    struct outcome o = in_state(l, "other", words);
    write_text(l->folder, "world.yaml", "%s", world);
    struct truth t = look(l, c->kind, "state");
    struct truth u = look(l, c->kind, "other");
    own->cases++;
    bool killed = text.status == 128 + SIGKILL;
    own->killed += killed;
    if (!same_truth(&t, &u))
        WRONG(own, c, "with --json it ends otherwise: mode %d and %d", t.mode, u.mode);
    if (text.status != o.status)
        WRONG(own, c, "fit ends with %d, with --json %d", text.status, o.status);
    if (text.status > 4 && !killed)
        WRONG(own, c, "fit ends with %d: %.600s", text.status, text.err);
    if (!killed) {
        struct sayings s = read_json(&o, name);
        /* A restart that comes late, a second one, a device that comes back after its power was gone, a job
         * that was ended before the device had come to rest. */
        bool settles = (h->words != NULL && strstr(h->words, "restart") != NULL) || c->fault != NULL ||
                       c->signal != NULL;
        judge_fit(own, c, &s, &u, settles);
        judge_same(own, c, "fit", &s, text.out, "NOW RUNNING", "OUTCOME");
        *(s.status == 0 ? &own->confirmed : &own->not_confirmed) += 1;
        if (strstr(text.out, "does not answer now") != NULL && s.answered)
            WRONG(own, c, "it answers, and is said not to");
        free(s.text);
    } else {
        outcome_free(&o);
    }
    if (!h->lies) {
        judge_reader(own, c, l, "confirm");
        judge_reader(own, c, l, "survey");
        judge_reader(own, c, l, "show");
    }

    /* What was left is put right, and the device can be fitted. */
    if (c->signal != NULL) {
        struct outcome r = in_state(l, "state", "recover --yes");
        t = look(l, c->kind, "state");
        if (t.mode == EB_SIM_STOPPED && (h->words == NULL || strstr(h->words, "stopped") == NULL))
            WRONG(own, c, "stopped after recover: %.600s%.600s", r.out, r.err);
        own->recovered += strstr(r.out, "recovered") != NULL;
        outcome_free(&r);
    }
    if (!h->hopeless) {
        char again_words[96];
        snprintf(again_words, sizeof again_words, "fit --yes%s",
                 subjects[c->kind].accepts != NULL ? subjects[c->kind].accepts : "");
        struct outcome r = in_state(l, "state", again_words);
        t = look(l, c->kind, "state");
        bool right = t.mode == EB_SIM_RUNNING;
        for (size_t i = 0; i < subjects[c->kind].count; i++)
            right = right && t.wanted[i];
        if (r.status != 0 || !right)
            WRONG(own, c, "fitted once more: %d, right %d: %.800s%.400s", r.status, right, r.out, r.err);
        outcome_free(&r);
        r = in_state(l, "state", "confirm");
        if (r.status != 0)
            WRONG(own, c, "fitted once more, and confirm ends with %d: %.800s", r.status, r.out);
        outcome_free(&r);
    }
    outcome_free(&text);
}

/* --- all of them --------------------------------------------------------------------------------- */

static struct a_case cases[CASES_MAX];
static size_t case_count;

static void add_case(const struct a_case *c)
{
    assert_true(case_count < CASES_MAX);
    cases[case_count++] = *c;
}

static void work(size_t worker, size_t workers, void *result)
{
    struct told *own = result;
    for (size_t h = 0; h < HABITS; h++) {
        for (unsigned kind = 0; kind < KINDS; kind++) {
            struct little l;
            bool made = false;
            char *world = NULL;
            size_t turn = 0;
            for (size_t i = 0; i < case_count && !own->wrong; i++) {
                if (cases[i].habit != h || cases[i].kind != kind || turn++ % workers != worker)
                    continue;
                if (!made) {
                    make_subject(&l, (enum kind)kind, &habits[h]);
                    world = read_text(l.folder, "world.yaml", NULL);
                }
                made = true;
                try_case(own, &cases[i], &l, world);
            }
            free(world);
            if (made)
                little_remove(&l);
        }
    }
}

static void work_off(const char *what)
{
    struct told sum = {.wrong = false};
    size_t workers;
    struct told *told = workers_run(sizeof *told, work, &workers);
    for (size_t i = 0; i < workers; i++) {
        if (told[i].wrong)
            fail_msg("%s", told[i].text);
        sum.cases += told[i].cases;
        sum.confirmed += told[i].confirmed;
        sum.not_confirmed += told[i].not_confirmed;
        sum.killed += told[i].killed;
        sum.recovered += told[i].recovered;
        sum.statements += told[i].statements;
    }
    workers_free(told, sizeof *told, workers);
    print_message(
        "%s: %lu cases: %lu confirmed, %lu not, %lu killed, %lu recovered; %lu statements on versions, marks "
        "and outcomes, none false\n",
        what, sum.cases, sum.confirmed, sum.not_confirmed, sum.killed, sum.recovered, sum.statements);
    assert_int_equal(sum.cases, case_count);
    assert_true(sum.cases > (getenv("EINBAU_TEST_EVERY") == NULL ? 30 : 4));
}

static void strike_with_faults(enum kind kind)
{
    unsigned frames = frames_of(kind);
    unsigned step = every(frames / 7 + 1);
    case_count = 0;
    for (unsigned f = 0; f < frames; f += step) {
        for (size_t k = 0; subjects[kind].faults[k] != NULL; k++)
            add_case(&(struct a_case){
                .kind = (uint8_t)kind, .fault = subjects[kind].faults[k], .frame = f + (unsigned)k % step});
    }
    char what[64];
    snprintf(what, sizeof what, "%s, struck on its wire", subjects[kind].name);
    work_off(what);
}

static void a_plc_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(PLC);
}

static void a_coupler_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(COUPLER);
}

static void a_node_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(NODE);
}

static void a_unit_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(UNIT);
}

static void a_gauge_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(GAUGE);
}

static void an_amplifier_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(AMPLIFIER);
}

static void a_panel_struck_on_its_wire(void **state)
{
    (void)state;
    strike_with_faults(PANEL);
}

/* The laptop's process is killed, its terminal closed, it is told to end: at any frame, on every kind. */
static void the_laptop_struck_at_any_point(void **state)
{
    (void)state;
    static const char *const signals[] = {"kill", "hang-up", "interrupt"};
    case_count = 0;
    for (unsigned kind = 0; kind < KINDS; kind++) {
        unsigned frames = frames_of((enum kind)kind);
        for (unsigned f = 0; f < frames; f += every(29)) {
            for (unsigned s = 0; s < 3; s++)
                add_case(&(struct a_case){
                    .kind = (uint8_t)kind, .signal = signals[s], .frame = f + s % every(29)});
        }
    }
    work_off("the laptop struck");
}

/* Every habit alone, and with a fault or a signal now and then. */
static void devices_with_a_will_of_their_own(void **state)
{
    (void)state;
    case_count = 0;
    for (size_t h = 1; h < HABITS; h++) {
        for (unsigned kind = 0; kind < KINDS; kind++) {
            bool few = every(60) >
                       60; /* of each habit a third of the kinds, and one of the four ways to strike it */
            if ((habits[h].kinds & ON(kind)) == 0 || (few && (h + kind) % 3 != 0))
                continue;
            add_case(&(struct a_case){.kind = (uint8_t)kind, .habit = (uint8_t)h});
            const struct a_case struck[] = {{.fault = "power-lost", .frame = 10},
                                            {.fault = "lost", .frame = 13},
                                            {.signal = "kill", .frame = 15},
                                            {.signal = "hang-up", .frame = 17}};
            for (unsigned f = 0; f < 100; f += every(60)) {
                for (size_t k = few ? h % 4 : 0; k < 4; k += few ? 4 : 1) {
                    struct a_case c = struck[k];
                    c.kind = (uint8_t)kind;
                    c.habit = (uint8_t)h;
                    c.frame += f;
                    add_case(&c);
                }
            }
        }
    }
    work_off("devices with a will of their own");
}

/* --- a second job at any point ------------------------------------------------------------------- */

/* On sockets, in real time: while one job writes, others are begun over and over, each with a state folder of
 * its own. All of them are refused, and the first one ends well. */
static void a_second_job_at_any_point(void **state)
{
    (void)state;
    static const enum kind kinds[] = {PLC, COUPLER, NODE, UNIT};
    unsigned refused = 0;
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        const struct habit plain = {.kinds = ALL};
        struct little l;
        char log[PATH_BYTES + 32];
        char site[PATH_BYTES + 32];
        char line[6 * PATH_BYTES];
        make_subject(&l, kinds[i], &plain);
        snprintf(log, sizeof log, "%s/sim.log", l.folder);
        snprintf(site, sizeof site, "%s/real.yaml", l.folder);
        const char *const program[] = {BIN_DIR "/einbau-sim", l.world_path, "--write-site", site, NULL};
        int sim = start_program(program, log);
        assert_true(wait_for_text(log, "ready:", 20));
        snprintf(line, sizeof line, "%s/first", l.folder);
        snprintf(log, sizeof log, "%s/fit.log", l.folder);
        const char *const fit[] = {BIN_DIR "/einbau", "fit", "--yes", subjects[kinds[i]].name, "--site", site,
                                   "--state",         line,  NULL};
        int first = start_program(fit, log);
        int status;
        assert_true(wait_for_text(log, "Plan for", 20)); /* it has its lock by then */
        while (waitpid(first, &status, WNOHANG) == 0) {
            snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes %s --again --site %s --state %s/second",
                     subjects[kinds[i]].name, site, l.folder);
            const char *const run[] = {"sh", "-c", line, NULL};
            struct outcome o = run_program(run);
            bool told_who = strstr(o.err, "is working on it. Wait until that has ended") != NULL;
            bool over = strstr(o.out, "confirmed") != NULL && waitpid(first, &status, WNOHANG) == first;
            if (!told_who && !over)
                fail_msg("%s: a second job was not refused: %d\n%s%s", subjects[kinds[i]].name, o.status,
                         o.out, o.err);
            refused += told_who;
            outcome_free(&o);
            if (over)
                break;
        }
        assert_true(WIFEXITED(status));
        char *told_by_first = read_text(l.folder, "fit.log", NULL);
        if (WEXITSTATUS(status) != 0 || strstr(told_by_first, "1 confirmed") == NULL)
            fail_msg("%s: disturbed by the others: %s", subjects[kinds[i]].name, told_by_first);
        free(told_by_first);
        snprintf(line, sizeof line, BIN_DIR "/einbau confirm %s --site %s --state %s/first",
                 subjects[kinds[i]].name, site, l.folder);
        const char *const run[] = {"sh", "-c", line, NULL};
        struct outcome o = run_program(run);
        if (o.status != 0)
            fail_msg("%s: %d\n%s%s", line, o.status, o.out, o.err);
        outcome_free(&o);
        assert_int_equal(stop_program(sim, SIGTERM), 0);
        little_remove(&l);
    }
    print_message("%u second jobs refused, none of the first ones disturbed\n", refused);
    assert_true(refused > 20);
}

/* --- the judges themselves ----------------------------------------------------------------------- */

/* Each false statement is found: a check that could not fail would prove nothing. */
static void the_judges_find_lies(void **state)
{
    (void)state;
    const struct a_case c = {.kind = COUPLER};
    const struct truth old = {.mode = EB_SIM_RUNNING, .version = {"1.0"}};
    const struct truth fresh = {.mode = EB_SIM_RUNNING, .version = {"2.0"}, .wanted = {true}};
    const struct truth other = {.mode = EB_SIM_RUNNING, .version = {"2.0"}};
    const struct truth loader = {.mode = EB_SIM_LOADER, .version = {""}};
    static const struct sayings confirmed = {.there = true,
                                             .loader_known = true,
                                             .answered = true,
                                             .outcome = "confirmed",
                                             .of = {{"2.0", "current", "confirmed"}}};
    static const struct sayings failed = {.status = 1,
                                          .there = true,
                                          .loader_known = true,
                                          .answered = true,
                                          .outcome = "failed",
                                          .of = {{"1.0", "outdated", "failed"}}};
    static const struct {
        const struct sayings *says;
        int truth;
        bool lie;
    } fits[] = {{&confirmed, 0, true}, {&confirmed, 1, false}, {&confirmed, 2, true}, {&confirmed, 3, true},
                {&failed, 0, false},   {&failed, 1, true},     {&failed, 3, true}};
    const struct truth *const truths[] = {&old, &fresh, &other, &loader};
    for (size_t i = 0; i < sizeof fits / sizeof fits[0]; i++) {
        static struct told own;
        memset(&own, 0, sizeof own);
        judge_fit(&own, &c, fits[i].says, truths[fits[i].truth], false);
        assert_int_equal(own.wrong, fits[i].lie);
        memset(&own, 0, sizeof own);
        judge_look(&own, &c, "survey", fits[i].says, truths[fits[i].truth], false);
        assert_int_equal(own.wrong, fits[i].lie);
    }
    static const struct {
        const char *text;
        bool lie;
    } texts[] = {{"DEVICE     COMPONENT  FROM  TO   NOW RUNNING  OUTCOME\ncoupler-1  firmware   1.0   2.0  "
                  "2.0          "
                  "confirmed (version only)\n",
                  false},
                 {"DEVICE     COMPONENT  FROM  TO   NOW RUNNING  OUTCOME\ncoupler-1  firmware   1.0   2.0  "
                  "1.0          "
                  "confirmed\n",
                  true},
                 {"DEVICE     COMPONENT  FROM  TO   NOW RUNNING  OUTCOME\ncoupler-1  firmware   1.0   2.0  "
                  "2.0          "
                  "failed\n",
                  true}};
    for (size_t i = 0; i < sizeof texts / sizeof texts[0]; i++) {
        static struct told own;
        memset(&own, 0, sizeof own);
        judge_same(&own, &c, "fit", &confirmed, texts[i].text, "NOW RUNNING", "OUTCOME");
        assert_int_equal(own.wrong, texts[i].lie);
    }
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_judges_find_lies),
        cmocka_unit_test(a_plc_struck_on_its_wire),
        cmocka_unit_test(a_coupler_struck_on_its_wire),
        cmocka_unit_test(a_node_struck_on_its_wire),
        cmocka_unit_test(a_unit_struck_on_its_wire),
        cmocka_unit_test(a_gauge_struck_on_its_wire),
        cmocka_unit_test(an_amplifier_struck_on_its_wire),
        cmocka_unit_test(a_panel_struck_on_its_wire),
        cmocka_unit_test(the_laptop_struck_at_any_point),
        cmocka_unit_test(devices_with_a_will_of_their_own),
        cmocka_unit_test(a_second_job_at_any_point),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
