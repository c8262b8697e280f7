#include "session/resume.h"
#include "ui/table.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static bool fail(int *status, int with)
{
    *status = with;
    return false;
}

/* --- from the record ----------------------------------------------------------------------------- */

static bool is_good(const char *outcome)
{
    return strcmp(outcome, "confirmed") == 0 || strcmp(outcome, "up-to-date") == 0;
}

static size_t items_of(const struct past_device *d)
{
    return json_array_size(json_object_get(d->before, "items"));
}

/* Devices of that job, and what was accepted of each. */
static void fill_devices(struct resume *r, const struct options *given)
{
    static const char *const others[] = {"certificate", "plain-password", "stated"};
    struct options *o = &r->options;
    o->names = calloc(r->past.count + 1, sizeof *o->names);
    o->accepted = calloc(r->past.count + given->accepted_count + 1, sizeof *o->accepted);
    if (o->names == NULL || o->accepted == NULL)
        abort();
    for (size_t i = 0; i < r->past.count; i++) {
        struct past_device *d = &r->past.devices[i];
        /* What was confirmed is only looked at; with --again it would be written once more.  Of one that
         * could not be looked at, nothing was planned yet. */
        bool unseen = items_of(d) == 0 && !json_is_true(json_object_get(d->before, "reached"));
        if ((items_of(d) == 0 && !unseen) || (o->again && is_good(d->outcome)))
            continue;
        o->names[o->name_count++] = d->name;
        struct accepted *a = &o->accepted[o->accepted_count];
        *a = (struct accepted){
            .device = d->name,
            .rules = (uint32_t)json_integer_value(json_object_get(d->before, "accepted_rules"))};
        size_t k;
        const json_t *word;
        json_array_foreach(json_object_get(d->before, "accepts"), k, word)
        {
            for (unsigned n = 0; n < sizeof others / sizeof others[0]; n++)
                a->others |= strcmp(history_word(word), others[n]) == 0 ? 1U << n : 0;
        }
        o->accepted_count += a->rules != 0 || a->others != 0;
    }
    for (size_t i = 0; i < given->accepted_count; i++)
        o->accepted[o->accepted_count++] = given->accepted[i];
}

/* An image that was given on the command line: the file, if it is still there, else the shelf's. */
static void fill_image(struct resume *r)
{
    for (size_t i = 0; i < r->past.count && r->options.image == NULL; i++) {
        const struct past_device *d = &r->past.devices[i];
        const json_t *item = json_array_get(json_object_get(d->before, "items"), 0);
        if (!json_is_true(json_object_get(d->before, "given")) || item == NULL)
            continue;
        const char *file = history_text(item, "file");
        snprintf(r->image, sizeof r->image, "%s",
                 access(file, R_OK) == 0 ? file : history_text(item, "sha256"));
        r->options.image = r->image;
    }
}

static bool fill(struct resume *r, const struct options *given, int *status)
{
    const struct past *past = &r->past;
    r->options.resumes = past->job.number;
    r->options.again = json_is_true(json_object_get(past->body, "again"));
    r->named = json_is_true(json_object_get(past->body, "named"));
    snprintf(r->site, sizeof r->site, "%s", history_text(past->body, "site_file"));
    snprintf(r->shelf, sizeof r->shelf, "%s", history_text(past->body, "shelf"));
    if (given->site == NULL && r->site[0] != '\0' && access(r->site, R_OK) != 0) {
        complain("the site file of job %lld, %s, is not there any more. Name it: --site FILE",
                 (long long)past->job.number, r->site);
        return fail(status, EXIT_WRONG_CALL);
    }
    if (given->site == NULL && r->site[0] != '\0')
        r->options.site = r->site;
    if (given->shelf == NULL && r->shelf[0] != '\0')
        r->options.shelf = r->shelf;
    fill_devices(r, given);
    fill_image(r);
    r->options.names_devices = r->options.name_count > 0;
    if (r->options.name_count > 0)
        return true;
    complain("job %lld has nothing left to do: %s", (long long)past->job.number, past->job.result);
    return fail(status, EXIT_AS_WANTED);
}

/* The number of the last job that wants to be gone on with, as text. */
static bool find_open(struct session *s, struct eb_record *record, char number[24])
{
    struct eb_record_job *jobs;
    size_t count;
    number[0] = '\0';
    if (!history_jobs(s, record, &jobs, &count))
        return false;
    for (size_t i = 0; i < count && number[0] == '\0'; i++) {
        if (strcmp(jobs[i].command, "fit") == 0 &&
            history_is_open(&jobs[i], history_goes_on(record, &jobs[i])))
            snprintf(number, 24, "%lld", (long long)jobs[i].number);
    }
    free(jobs);
    if (number[0] == '\0') {
        complain("every job in the record came to its end or is still at work: there is none to go on with. "
                 "'einbau jobs' lists them; "
                 "'einbau fit --resume JOB' takes up what one of them did not confirm");
        s->status = EXIT_AS_WANTED;
    }
    return number[0] != '\0';
}

static bool read_job(struct resume *r, struct session *s, struct eb_record *record, const char *number)
{
    char open[24];
    if (number == NULL && !find_open(s, record, open))
        return false;
    if (!history_read(s, record, number != NULL ? number : open, &r->past))
        return false;
    const struct eb_record_job *job = &r->past.job;
    s->status = EXIT_WRONG_CALL;
    if (r->past.goes_on)
        complain("job %lld still goes on (process %ld). Nothing was changed", (long long)job->number,
                 job->process);
    else if (strcmp(job->command, "fit") != 0 || r->past.count == 0)
        complain("job %lld is a '%s': only 'fit' is gone on with. 'einbau recover' puts right what it left",
                 (long long)job->number, job->command);
    else if (job->simulated != (s->options->sim != NULL))
        complain(job->simulated
                     ? "job %lld was on simulated hardware: name its world, --sim WORLD. Nothing was changed"
                     : "job %lld was on real hardware: it is not gone on with in a simulated world, --sim. "
                       "Nothing was changed",
                 (long long)job->number);
    else if (job->resumed_by != 0)
        complain("job %lld was gone on with by job %lld: 'einbau fit --resume %lld'", (long long)job->number,
                 (long long)job->resumed_by, (long long)job->resumed_by);
    else
        return true;
    return false;
}

bool resume_open(struct resume *r, const struct options *given, const char *number, int *status)
{
    struct session office;
    struct options bare = *given;
    memset(r, 0, sizeof *r);
    bare.site = NULL; /* it may be named by the record */
    bare.site_optional = true;
    bare.name_count = 0;
    bool ok = session_open_office(&office, &bare, SHELF_NOT_NEEDED);
    struct eb_record *record = ok ? history_open(&office) : NULL;
    ok = record != NULL && read_job(r, &office, record, number);
    *status = office.status;
    eb_record_close(record);
    session_close(&office, EXIT_AS_WANTED);
    if (!ok)
        return false;
    r->options = *given;
    r->options.accepted = NULL;
    r->options.accepted_count = 0;
    r->options.name_count = 0;
    return fill(r, given, status);
}

void resume_close(struct resume *r)
{
    history_free(&r->past);
    free(r->options.names);
    free(r->options.accepted);
}

/* --- what became of them ------------------------------------------------------------------------- */

bool resume_begin(const struct resume *r, struct session *s)
{
    const struct eb_record_job *job = &r->past.job;
    s->job->named = r->named;
    if (strcmp(s->job->site->name, job->site) == 0)
        return true;
    complain("job %lld was on the site '%s', and %s is of '%s'. Nothing was changed", (long long)job->number,
             job->site, s->options->site, s->job->site->name);
    s->status = EXIT_WRONG_CALL;
    return false;
}

static const struct past_device *past_of(const struct resume *r, const char *name)
{
    for (size_t i = 0; i < r->past.count; i++) {
        if (strcmp(r->past.devices[i].name, name) == 0)
            return &r->past.devices[i];
    }
    return NULL;
}

/* What the job did last to the device. */
static void then_text(const struct past_device *d, char *text, size_t cap)
{
    if (d->outcome[0] != '\0')
        snprintf(text, cap, "%s", d->outcome);
    else if (d->effect[0] == '\0')
        snprintf(text, cap, "not begun");
    else
        snprintf(text, cap, "cut off at %s %s %s", d->effect, d->component, d->version);
}

/* By what is read now. */
static const char *state_of(const struct past_device *d, const struct eb_job_device *t, bool another)
{
    size_t i;
    const json_t *item;
    bool done = items_of(d) > 0 || eb_job_as_wanted(t);
    bool before = true;
    if (another)
        return "another device";
    if (!t->reached)
        return "unreachable";
    if (t->look.in_loader)
        return "in-loader";
    if (eb_job_stopped(t))
        return "stopped";
    json_array_foreach(json_object_get(d->before, "items"), i, item)
    {
        const struct eb_component_profile *component =
            eb_profile_component(t->device->profile, history_text(item, "component"));
        size_t k = component != NULL ? (size_t)(component - t->device->profile->components) : 0;
        if (component == NULL)
            return "changed";
        const char *now = t->look.running[k].version;
        done = done && eb_job_mark(t, k) == EB_MARK_CURRENT;
        before = before &&
                 (strcmp(now, history_text(item, "from")) == 0 || strcmp(now, history_text(item, "to")) == 0);
    }
    return done ? "done" : !before ? "changed" : d->effect[0] != '\0' ? "unfinished" : "not begun";
}

static void now_text(const struct eb_job_device *t, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t k = 0; k < t->device->profile->count && t->reached && !t->look.in_loader; k++) {
        size_t at = strlen(text);
        if (eb_job_has(t, k))
            snprintf(text + at, cap - at, "%s%s %s", at > 0 ? ", " : "",
                     t->device->profile->components[k].name,
                     t->look.running[k].version[0] != '\0' ? t->look.running[k].version : "unreadable");
    }
    if (text[0] == '\0')
        snprintf(text, cap, "%s", t->reached ? "loader" : "unknown");
}

/* What that job has noted before it began: by now it may be lost. */
static void recall_noted(struct eb_job_device *t, const struct past_device *d)
{
    char *body = d->effect[0] != '\0' ? json_dumps(d->before, JSON_COMPACT) : NULL;
    if (body != NULL)
        eb_job_recall_noted(t, body);
    free(body);
}

void resume_compare(const struct resume *r, struct session *s)
{
    static const char *const heads[] = {"DEVICE", "JOB", "RUNS NOW", "STATE"};
    struct table table;
    char began[32];
    table_begin(&table, 4, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        const struct past_device *d = past_of(r, t->device->name);
        char then[3 * EB_NAME_BYTES + 32];
        char now[256];
        if (!t->chosen || d == NULL)
            continue;
        const char *serial = t->look.identity.serial;
        bool another =
            t->look.identified && d->serial[0] != '\0' && serial[0] != '\0' && strcmp(serial, d->serial) != 0;
        if (another)
            t->accepted = t->accepts = 0;
        else
            recall_noted(t, d);
        then_text(d, then, sizeof then);
        now_text(t, now, sizeof now);
        const char *const cells[] = {d->name, then, now, state_of(d, t, another)};
        table_add(&table, cells);
    }
    if (s->options->json) {
        table_free(&table);
        return;
    }
    eb_job_local_time(r->past.job.began, began, sizeof began);
    say("Job %lld of %s, %s%s. Its devices now:", (long long)r->past.job.number, began, r->past.job.site,
        r->past.job.ended[0] != '\0' ? "" : ", did not come to its end");
    puts("");
    table_print(&table);
    puts("");
}

bool resume_again(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        const struct eb_site_device *via = t->device->via;
        if (t->chosen && !t->reached && via != NULL &&
            eb_job_outcome(&s->job->devices[via - s->job->site->devices]) == EB_OUTCOME_CONFIRMED)
            return true;
    }
    return false;
}

size_t resume_recovers(struct session *s)
{
    size_t count = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        t->recovers = t->chosen && t->reached && !t->look.in_loader && t->item_count == 0 && !t->refused &&
                      t->left != NULL && t->left->job == s->options->resumes && target_can_start(t);
        count += t->recovers;
    }
    return count;
}

bool resume_same_images(const struct resume *r, struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        const struct past_device *d = past_of(r, t->device->name);
        for (size_t k = 0; k < t->item_count && d != NULL; k++) {
            size_t n;
            const json_t *item;
            char digest[EB_DIGEST_TEXT_BYTES];
            digest_text(t->planned[k].image->found.sha256, digest);
            json_array_foreach(json_object_get(d->before, "items"), n, item)
            {
                if (strcmp(history_text(item, "component"), t->items[k].component->name) != 0 ||
                    strcmp(history_text(item, "to"), t->items[k].image->version) != 0 ||
                    strcmp(history_text(item, "sha256"), digest) == 0)
                    continue;
                complain(
                    "%s %s %s: the image is another one than in job %lld: SHA-256 %.12s then, %.12s now. "
                    "Nothing was written. Put the image of then on the shelf, or plan anew: 'einbau fit %s'",
                    t->device->name, t->items[k].component->name, t->items[k].image->version,
                    (long long)r->past.job.number, history_text(item, "sha256"), digest,
                    eb_job_word(t->device->name));
                s->status = EXIT_NOT_AS_WANTED;
                return false;
            }
        }
    }
    return true;
}
