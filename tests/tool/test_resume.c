/* A laptop that is killed in the middle of a job, and 'fit --resume' in a new process: every device ends
 * confirmed, none that was confirmed is written to again, and the record says what its flash went through. */
#include "told_subjects.h"

#include <jansson.h>
#include <signal.h>

enum { TEXT_BYTES = 4096, SECOND = 3 }; /* every third case is killed once more, while it goes on */

struct tried {
    char text[TEXT_BYTES]; /* what went wrong first */
    unsigned long cases, killed, twice, resumed, not_begun, done, sends;
};

#define WRONG(own, kind, frame, ...)                                                                         \
    do {                                                                                                     \
        size_t at_ = strlen((own)->text);                                                                    \
        at_ += (size_t)snprintf((own)->text + at_, TEXT_BYTES - at_,                                         \
                                "%s, killed at frame %u: ", subjects[kind].name, frame);                     \
        if (at_ < TEXT_BYTES)                                                                                \
            snprintf((own)->text + at_, TEXT_BYTES - at_, __VA_ARGS__);                                      \
    } while (0)

static unsigned frames[KINDS];

/* --- what the record says ------------------------------------------------------------------------ */

struct rows {
    const char *device;
    unsigned sends, jobs, after_confirmed; /* sends behind the end of a run that was confirmed */
    bool sent[COMPONENTS_MAX], confirmed;
    char outcome[32]; /* of the last end */
    enum kind kind;
};

static bool take(void *context, const struct eb_record_entry *e)
{
    struct rows *r = context;
    r->jobs += strcmp(e->row.kind, "job") == 0;
    if (strcmp(e->row.device, r->device) != 0)
        return true;
    if (strcmp(e->row.kind, "send") == 0) {
        r->sends++;
        r->after_confirmed += r->confirmed;
        for (size_t i = 0; i < subjects[r->kind].count; i++)
            r->sent[i] = r->sent[i] || strcmp(subjects[r->kind].components[i], e->row.component) == 0;
    } else if (strcmp(e->row.kind, "end") == 0 || strcmp(e->row.kind, "not-begun") == 0) {
        r->confirmed = r->confirmed || strcmp(e->row.outcome, "confirmed") == 0;
        snprintf(r->outcome, sizeof r->outcome, "%s", e->row.outcome);
    }
    return true;
}

/* All rows of all jobs, in the order of the jobs; false: no job was begun. */
static bool read_rows(const struct little *l, enum kind kind, struct rows *rows)
{
    char folder[PATH_BYTES + 16];
    struct eb_problem problem = {""};
    struct eb_record_job *jobs;
    struct eb_record_check check;
    size_t count;
    snprintf(folder, sizeof folder, "%s/state", l->folder);
    *rows = (struct rows){.device = subjects[kind].name, .kind = kind};
    struct eb_record *record = eb_record_open(folder, false, &problem);
    if (record == NULL && problem.text[0] == '\0')
        return false;
    if (record == NULL || !eb_record_jobs(record, &jobs, &count, &problem) ||
        !eb_record_verify(record, &check, &problem))
        fail_msg("%s", problem.text);
    if (check.wrong > 0)
        fail_msg("the record of job %lld: %s", (long long)check.job, check.text);
    for (size_t i = count; i > 0; i--)
        assert_true(eb_record_rows(record, jobs[i - 1].number, take, rows, &problem));
    free(jobs);
    eb_record_close(record);
    return rows->jobs > 0;
}

/* --- one case ------------------------------------------------------------------------------------- */

static void strike(const struct little *l, const char *world, unsigned frame)
{
    const char *rest = strstr(world, "seed: 7\n") + 8;
    write_text(l->folder, "world.yaml", "%.*slaptop-process: {frame: %u, signal: kill}\n%s",
               (int)(rest - world), world, frame, rest);
}

/* What helps: to go on, or to begin, where the job was killed before it had. */
static const char *words(bool open, enum kind kind)
{
    static char text[128];
    snprintf(text, sizeof text, "fit --yes%s%s", open ? " --resume" : "",
             subjects[kind].accepts != NULL ? subjects[kind].accepts : "");
    return text;
}

/* The flash holds something new only where the record said before that it would. */
static void compare(struct tried *own, enum kind kind, unsigned frame, const struct truth *base,
                    const struct truth *t, const struct rows *r)
{
    for (size_t i = 0; i < subjects[kind].count; i++) {
        bool changed = strcmp(t->version[i], base->version[i]) != 0 || t->wanted[i] != base->wanted[i];
        if (changed && !r->sent[i])
            WRONG(own, kind, frame, "%s holds '%s', and the record has no row that it was sent",
                  subjects[kind].components[i], t->version[i]);
        if (r->confirmed && !t->wanted[i])
            WRONG(own, kind, frame, "confirmed in the record, and %s holds %s", subjects[kind].components[i],
                  t->version[i]);
    }
}

static void go_on(struct tried *own, enum kind kind, unsigned frame, const struct little *l,
                  const struct rows *before)
{
    bool open = before->jobs > 0;
    struct outcome o = in_state(l, "state", words(open, kind));
    struct truth t = look(l, kind, "state");
    struct rows after;
    bool recorded = read_rows(l, kind, &after);
    bool right = t.mode == EB_SIM_RUNNING;
    for (size_t i = 0; i < subjects[kind].count; i++)
        right = right && t.wanted[i];
    /* A job that was killed behind its last device has left nothing to do but to look. */
    bool done = strcmp(after.outcome, "confirmed") == 0 || strcmp(after.outcome, "up-to-date") == 0 ||
                strcmp(after.outcome, "recovered") == 0 || before->confirmed;
    own->resumed += open;
    own->not_begun += !open;
    own->sends += after.sends;
    if (o.status != 0 || !right)
        WRONG(own, kind, frame, "gone on with: %d, right %d, mode %d: %.1500s%.1000s", o.status, right,
              t.mode, o.out, o.err);
    if (recorded && !done)
        WRONG(own, kind, frame, "the record ends with '%s'", after.outcome);
    if (after.after_confirmed > 0)
        WRONG(own, kind, frame, "%u images were sent to it after it was confirmed", after.after_confirmed);
    outcome_free(&o);
}

/* A device of some habit, as it was at first. */
struct subject {
    struct little l;
    enum kind kind;
    const struct habit *habit;
    struct truth base;
    char *world;
};

static void try_case(struct tried *own, const struct subject *s, unsigned frame)
{
    struct rows rows;
    char first[64];
    enum kind kind = s->kind;
    const struct little *l = &s->l;
    struct outcome o = shell("rm -rf %s/state", l->folder);
    outcome_free(&o);
    strike(l, s->world, frame);
    snprintf(first, sizeof first, "fit --yes %s%s", subjects[kind].name, s->habit->again ? " --again" : "");
    o = in_state(l, "state", first);
    bool killed = o.status == 128 + SIGKILL;
    bool ended = !killed;
    outcome_free(&o);
    own->cases++;
    own->killed += killed;
    own->done += !killed;
    if (killed && frame % SECOND == 0) { /* and once more, soon */
        strike(l, s->world, 1 + frame / 2);
        bool open = read_rows(l, kind, &rows);
        o = in_state(l, "state", words(open, kind));
        own->twice += o.status == 128 + SIGKILL;
        ended = o.status != 128 + SIGKILL;
        if (ended && o.status != 0)
            WRONG(own, kind, frame, "gone on with: %d: %.1500s%.1000s", o.status, o.out, o.err);
        outcome_free(&o);
    }
    write_text(l->folder, "world.yaml", "%s", s->world);
    read_rows(l, kind, &rows);
    struct truth t = look(l, kind, "state");
    compare(own, kind, frame, &s->base, &t, &rows);
    if (!ended && own->text[0] == '\0')
        go_on(own, kind, frame, l, &rows);
    if (own->text[0] != '\0')
        WRONG(own, kind, frame, "(%s)", s->habit->words != NULL ? s->habit->words : "");
}

static void work(size_t worker, size_t workers, void *result)
{
    struct tried *own = result;
    for (unsigned i = 0; i < KINDS * HABITS; i++) {
        struct subject s = {.kind = (enum kind)(i % KINDS), .habit = &habits[i / KINDS]};
        unsigned step = every(i < KINDS ? 1 : 7);
        if ((s.habit->kinds & ON(s.kind)) == 0 || s.habit->hopeless || own->text[0] != '\0')
            continue;
        make_subject(&s.l, s.kind, s.habit);
        s.world = read_text(s.l.folder, "world.yaml", NULL);
        s.base = look(&s.l, s.kind, "none");
        for (unsigned frame = (unsigned)worker * step; frame < frames[s.kind] && own->text[0] == '\0';
             frame += (unsigned)workers * step)
            try_case(own, &s, frame);
        free(s.world);
        little_remove(&s.l);
    }
}

static void killed_at_every_frame(void **state)
{
    (void)state;
    struct tried sum = {.text = ""};
    size_t workers;
    for (unsigned kind = 0; kind < KINDS; kind++)
        frames[kind] = frames_of((enum kind)kind);
    struct tried *tried = workers_run(sizeof *tried, work, &workers);
    for (size_t i = 0; i < workers; i++) {
        if (tried[i].text[0] != '\0')
            fail_msg("%s", tried[i].text);
        sum.cases += tried[i].cases;
        sum.killed += tried[i].killed;
        sum.twice += tried[i].twice;
        sum.resumed += tried[i].resumed;
        sum.not_begun += tried[i].not_begun;
        sum.done += tried[i].done;
        sum.sends += tried[i].sends;
    }
    workers_free(tried, sizeof *tried, workers);
    print_message("%lu jobs, %lu killed, %lu of them twice; %lu resumed, %lu had not begun; %lu ended before "
                  "that frame; "
                  "%lu sends in their records\n",
                  sum.cases, sum.killed, sum.twice, sum.resumed, sum.not_begun, sum.done, sum.sends);
    assert_int_equal(sum.cases, sum.killed + sum.done);
    assert_true(sum.killed >= sum.resumed + sum.not_begun);
    assert_true(sum.resumed > (getenv("EINBAU_TEST_EVERY") == NULL ? 600 : 0));
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(killed_at_every_frame)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
