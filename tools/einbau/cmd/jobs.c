#include "report/page.h"
#include "report/report.h"
#include "session/history.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* What is recorded: the list of jobs, the history of one device, whether it was changed, and what is taken
 * out of it. */

static const char *device, *since, *until, *outcome, *forget_before;
static bool verify, all;

static void date_option(struct argp_state *state, const char *name, const char *text)
{
    struct tm day = {.tm_mday = 0};
    const char *end = text != NULL ? strptime(text, "%Y-%m-%d", &day) : NULL;
    if (text != NULL && (end == NULL || *end != '\0'))
        argp_error(state, "--%s: found '%s', expected a day like 2026-11-30", name, text);
}

static void check(struct argp_state *state, const struct options *o)
{
    (void)o;
    date_option(state, "since", since);
    date_option(state, "until", until);
    date_option(state, "forget-before", forget_before);
    if ((verify || forget_before != NULL) &&
        (device != NULL || outcome != NULL || since != NULL || until != NULL))
        argp_error(state,
                   "--verify and --forget-before go over the whole record: without --device, --outcome, "
                   "--since and --until");
}

/* The moment at which a day of this laptop begins, as the record writes it; `later` days after that. */
static void moment(const char *day, int later, char to[EB_SEEN_BYTES])
{
    struct tm local = {.tm_mday = 0};
    struct tm parts;
    strptime(day, "%Y-%m-%d", &local);
    local.tm_mday += later;
    local.tm_isdst = -1;
    time_t seconds = mktime(&local);
    strftime(to, EB_SEEN_BYTES, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
}

static bool is_between(const char *began)
{
    char at[EB_SEEN_BYTES];
    if (since != NULL) {
        moment(since, 0, at);
        if (strcmp(began, at) < 0)
            return false;
    }
    if (until != NULL) {
        moment(until, 1, at);
        if (strcmp(began, at) >= 0)
            return false;
    }
    return true;
}

static bool is_shown(const struct session *s, const struct eb_record_job *job, bool goes_on)
{
    return (job->devices > 0 || all) && is_between(job->began) &&
           (s->job->site == NULL || strcmp(s->job->site->name, job->site) == 0) &&
           (outcome == NULL || strstr(history_result(job, goes_on), outcome) != NULL);
}

static json_t *job_document(const struct eb_record_job *job, bool goes_on)
{
    return json_pack("{s:I, s:s, s:s, s:s, s:o, s:f, s:s, s:s, s:I, s:b, s:s, s:s, s:o}", "number",
                     (json_int_t)job->number, "command", job->command, "site", job->site, "began", job->began,
                     "ended", job->ended[0] != '\0' ? json_string(job->ended) : json_null(), "took_s",
                     (double)job->took_ms / 1e3, "person", job->person, "laptop", job->laptop, "devices",
                     (json_int_t)job->devices, "simulated", job->simulated, "state",
                     goes_on                 ? "running"
                     : job->ended[0] == '\0' ? "interrupted"
                                             : "ended",
                     "result", history_result(job, goes_on), "resumed_by",
                     job->resumed_by != 0 ? json_integer(job->resumed_by) : json_null());
}

static void add_job(struct table *table, const struct eb_record_job *job, bool goes_on)
{
    char number[24];
    char began[32];
    char took[32] = "";
    char devices[24];
    char result[EB_LOCK_KEY_BYTES + 64];
    snprintf(number, sizeof number, "%lld", (long long)job->number);
    eb_job_local_time(job->began, began, sizeof began);
    if (job->ended[0] != '\0')
        snprintf(took, sizeof took, "%llu:%02u", (unsigned long long)(job->took_ms / 60000),
                 (unsigned)(job->took_ms / 1000 % 60));
    snprintf(devices, sizeof devices, "%zu", job->devices);
    snprintf(result, sizeof result, "%s", history_result(job, goes_on));
    if (job->resumed_by != 0)
        snprintf(result + strlen(result), sizeof result - strlen(result), "; %s by job %lld",
                 strcmp(job->outcome, "card-written") == 0 ? "closed" : "resumed",
                 (long long)job->resumed_by);
    const char *const cells[] = {number, job->command, job->site, began, took, job->person, devices, result};
    table_add(table, cells);
}

static const char *const jobs_heads[] = {"JOB", "COMMAND", "SITE",   "BEGUN", "TOOK",
                                         "BY",  "DEVICES", "RESULT", NULL};

static int list(struct session *s, struct eb_record *record)
{
    struct eb_record_job *jobs;
    size_t count;
    size_t shown = 0;
    const struct eb_record_job *open = NULL;
    const struct eb_record_job *card = NULL;
    size_t opens = 0;
    size_t running = 0;
    struct table table;
    bool simulated = false;
    json_t *documents = json_array();
    if (!history_jobs(s, record, &jobs, &count))
        return EXIT_WRONG_CALL;
    table_begin(&table, 8, jobs_heads);
    for (int turn = 0; turn < 2; turn++) { /* those that want to be gone on with come first */
        for (size_t i = 0; i < count; i++) {
            bool goes_on = history_goes_on(record, &jobs[i]);
            bool is_open = history_is_open(&jobs[i], goes_on);
            if (!is_shown(s, &jobs[i], goes_on) || is_open != (turn == 0))
                continue;
            open = is_open && open == NULL ? &jobs[i] : open;
            opens += is_open;
            card = card == NULL && history_waits(&jobs[i]) ? &jobs[i] : card;
            running += goes_on;
            shown++;
            simulated = simulated || jobs[i].simulated;
            add_job(&table, &jobs[i], goes_on);
            json_array_append_new(documents, job_document(&jobs[i], goes_on));
        }
    }
    if (s->options->json) {
        table_free(&table);
        print_document(json_pack("{s:s, s:o}", "einbau", "jobs/1", "jobs", documents));
        free(jobs);
        return EXIT_AS_WANTED;
    }
    json_decref(documents);
    if (shown == 0)
        say("No job of %s is in the record%s%s.", s->job->site != NULL ? s->job->site->name : "any site",
            since != NULL || until != NULL || outcome != NULL ? " with these limits" : "",
            all ? "" : "; --all shows also those that were to write to no device");
    else {
        char state[96] = "all came to their end";
        if (opens > 0)
            snprintf(state, sizeof state, "%zu did not come to %s end", opens, opens == 1 ? "its" : "their");
        if (running > 0)
            snprintf(state + (opens > 0 ? strlen(state) : 0), sizeof state - (opens > 0 ? strlen(state) : 0),
                     "%s%zu still at work", opens > 0 ? ", " : "", running);
        say("%zu job%s%s%s; %s.", shown, shown == 1 ? "" : "s", s->job->site != NULL ? " on " : "",
            s->job->site != NULL ? s->job->site->name : "", state);
    }
    if (shown > 0) {
        puts("");
        table_print_as(&table, &s->options->wish);
        if (simulated)
            say("Of jobs on simulated hardware, TOOK is simulated time.");
        puts("");
        if (open != NULL)
            say("Next: einbau fit --resume %lld", (long long)open->number);
        else if (card != NULL)
            say("Next: einbau confirm, once the devices have taken the card of job %lld",
                (long long)card->number);
        else
            say("Next: einbau report");
    } else {
        table_free(&table);
    }
    free(jobs);
    return EXIT_AS_WANTED;
}

/* --- one device ---------------------------------------------------------------------------------- */

struct device_history {
    struct session *session;
    struct eb_record *record;
    struct eb_record_job *jobs;
    size_t job_count;
    struct table table;
    json_t *documents;
    json_t *before; /* of the plan whose end was not seen yet */
    int64_t job;
    char name[EB_NAME_BYTES], serial[EB_NAME_BYTES], at[EB_SEEN_BYTES], site[EB_NAME_BYTES];
    size_t rows;
    int64_t last;
};

/* The newest is the first. */
static int compare_numbers(const void *a, const void *b)
{
    const struct eb_record_job *x = a;
    const struct eb_record_job *y = b;
    return (x->number < y->number) - (x->number > y->number);
}

static const struct eb_record_job *job_of(const struct device_history *h, int64_t number)
{
    const struct eb_record_job wanted = {.number = number};
    return bsearch(&wanted, h->jobs, h->job_count, sizeof *h->jobs, compare_numbers);
}

static void add_item(struct device_history *h, const struct past_device *d, size_t index, const char *how)
{
    char job[24];
    char at[32];
    const json_t *item = json_array_get(json_object_get(d->before, "items"), index);
    const char *component = history_text(item, "component");
    snprintf(job, sizeof job, "%lld", (long long)h->job);
    eb_job_local_time(h->at, at, sizeof at);
    const char *from = history_text(item, "from");
    const char *now = d->after != NULL ? past_read_back(d, index) : "";
    const char *const cells[] = {job,
                                 at,
                                 h->site,
                                 h->name,
                                 h->serial,
                                 component,
                                 from[0] != '\0' ? from : "?",
                                 history_text(item, "to"),
                                 now[0] != '\0' ? now : "unknown",
                                 how};
    h->rows++;
    h->last = h->job;
    if (!h->session->options->json) {
        table_add(&h->table, cells);
        return;
    }
    json_array_append_new(h->documents,
                          json_pack("{s:I, s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:o, s:s, s:s}", "job",
                                    (json_int_t)h->job, "at", h->at, "site", h->site, "device", h->name,
                                    "serial", h->serial, "component", component, "from", from, "to",
                                    history_text(item, "to"), "read_back",
                                    now[0] != '\0' ? json_string(now) : json_null(), "outcome", how, "sha256",
                                    history_text(item, "sha256")));
}

/* All images of the plan that was seen last, with what became of them. */
static void end_plan(struct device_history *h, json_t *after, const char *how)
{
    const struct past_device d = {.before = h->before, .after = after};
    for (size_t i = 0; i < json_array_size(json_object_get(h->before, "items")); i++) {
        const char *own = history_text(json_array_get(json_object_get(after, "items"), i), "outcome");
        add_item(h, &d, i, own[0] != '\0' ? own : how);
    }
    json_decref(h->before);
    h->before = NULL;
}

/* Settings that were changed, and actions. */
static void add_changes(struct device_history *h, const json_t *after, const char *how)
{
    size_t i;
    const json_t *change;
    json_array_foreach(json_object_get(after, "documents"), i, change)
    {
        const json_t *wanted = json_object_get(change, "wanted");
        const char *state = history_text(change, "state");
        bool is =
            strcmp(state, "put-back") == 0 || strcmp(state, "unchanged") == 0 || strcmp(state, "done") == 0;
        if (json_object_get(change, "saves") != NULL)
            continue; /* a document */
        json_t *item = json_pack("{s:[{s:s, s:s, s:s}]}", "items", "component", history_text(change, "name"),
                                 "from", wanted != NULL ? history_text(change, "before") : "-", "to",
                                 wanted != NULL ? history_word(wanted) : "-");
        json_t *seen = json_pack("{s:[{s:s, s:s}]}", "components", "name", history_text(change, "name"),
                                 "running", is && wanted != NULL ? history_word(wanted) : "");
        const struct past_device d = {.before = item, .after = seen};
        add_item(h, &d, 0, is ? "done" : how);
        json_decref(item);
        json_decref(seen);
    }
}

static void end_open(struct device_history *h)
{
    const struct eb_record_job *job = job_of(h, h->job);
    if (h->before != NULL)
        end_plan(h, NULL, job != NULL && history_goes_on(h->record, job) ? "running" : "interrupted");
}

/* What stands between two keys of a row's body: the rest is not shown here, and reading it would take most of
 * the time.  Inside of a text there are no such quotes without a backslash (RFC 8259 section 7). */
static json_t *read_between(const char *body, const char *first, const char *behind)
{
    const char *from = strstr(body, first);
    const char *end = from != NULL ? strstr(from, behind) : NULL;
    char *text;
    if (end == NULL)
        return json_loads(body, 0, NULL);
    if (asprintf(&text, "{%.*s}", (int)(end - from - 1), from + 1) < 0)
        abort();
    json_t *part = json_loads(text, 0, NULL);
    free(text);
    return part != NULL ? part : json_loads(body, 0, NULL);
}

static bool take(void *context, const struct eb_record_entry *e)
{
    struct device_history *h = context;
    const struct eb_record_job *job = job_of(h, e->job);
    if (job == NULL || !is_shown(h->session, job, history_goes_on(h->record, job)))
        return true;
    if (strcmp(e->row.kind, "device") == 0) {
        end_open(h);
        h->before = read_between(e->row.body, ",\"items\":[", ",\"after\":[");
        h->job = e->job;
        eb_text_copy(h->name, sizeof h->name, e->row.device);
        eb_text_copy(h->serial, sizeof h->serial, e->row.serial);
        eb_text_copy(h->site, sizeof h->site, e->row.site);
        eb_text_copy(h->at, sizeof h->at, e->at);
    } else if (h->before != NULL) {
        json_t *after = read_between(e->row.body, ",\"components\":[", ",\"says\":\"");
        eb_text_copy(h->at, sizeof h->at, e->at);
        end_plan(h, after, e->row.outcome);
        json_decref(after);
        json_t *body =
            strstr(e->row.body, "\"documents\":[{") != NULL ? json_loads(e->row.body, 0, NULL) : NULL;
        add_changes(h, body, e->row.outcome);
        json_decref(body);
    }
    return true;
}

static int history(struct session *s, struct eb_record *record)
{
    static const char *const heads[] = {"JOB",       "AT",   "SITE", "DEVICE",    "SERIAL NUMBER",
                                        "COMPONENT", "FROM", "TO",   "READ BACK", "OUTCOME"};
    struct device_history h = {.session = s, .record = record, .documents = json_array()};
    if (!history_jobs(s, record, &h.jobs, &h.job_count))
        return EXIT_WRONG_CALL;
    table_begin(&h.table, 10, heads);
    bool ok = eb_record_device(record, device, take, &h, &s->job->problem);
    end_open(&h);
    free(h.jobs);
    if (!ok)
        complain("the record of jobs cannot be read: %s", s->job->problem.text);
    if (!ok || s->options->json || h.rows == 0)
        table_free(&h.table);
    if (ok && s->options->json)
        print_document(json_pack("{s:s, s:s, s:O}", "einbau", "jobs-device/1", "device", device, "history",
                                 h.documents));
    json_decref(h.documents);
    if (!ok)
        return EXIT_WRONG_CALL;
    if (s->options->json)
        return EXIT_AS_WANTED;
    if (h.rows == 0) {
        say("Nothing was written to a device with the serial number or the name %s, as far as this record "
            "knows.",
            device);
        return EXIT_AS_WANTED;
    }
    say("%s: %zu entr%s in the record.", device, h.rows, h.rows == 1 ? "y" : "ies");
    puts("");
    table_print(&h.table);
    puts("");
    say("Next: einbau report %lld", (long long)h.last);
    return EXIT_AS_WANTED;
}

/* --- whether it was changed, and taking out -------------------------------------------------------- */

static int verify_all(struct session *s, struct eb_record *record)
{
    struct eb_record_check check;
    if (!eb_record_verify(record, &check, &s->job->problem)) {
        complain("the record of jobs cannot be read: %s", s->job->problem.text);
        return EXIT_WRONG_CALL;
    }
    if (s->options->json)
        print_document(json_pack(
            "{s:s, s:I, s:I, s:I, s:o}", "einbau", "jobs-verify/1", "jobs", (json_int_t)check.jobs, "entries",
            (json_int_t)check.rows, "changed", (json_int_t)check.wrong, "first",
            check.wrong > 0 ? json_pack("{s:I, s:s}", "job", (json_int_t)check.job, "says", check.text)
                            : json_null()));
    else if (check.wrong == 0)
        say("The record is as it was written: %zu job%s, %zu entries.", check.jobs,
            check.jobs == 1 ? "" : "s", check.rows);
    else
        say("The record was changed: %zu of %zu jobs %s not as %s written. Job %lld: %s. A report of that "
            "job "
            "proves nothing; compare the digest on a signed one.",
            check.wrong, check.jobs, check.wrong == 1 ? "is" : "are",
            check.wrong == 1 ? "it was" : "they were", (long long)check.job, check.text);
    return check.wrong == 0 ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int forget(struct session *s, struct eb_record *record)
{
    struct eb_record_job *jobs;
    size_t count;
    size_t old = 0;
    char before[EB_SEEN_BYTES];
    char question[192];
    moment(forget_before, 0, before);
    if (!history_jobs(s, record, &jobs, &count))
        return EXIT_WRONG_CALL;
    for (size_t i = 0; i < count; i++)
        old += jobs[i].ended[0] != '\0' && strcmp(jobs[i].ended, before) < 0;
    free(jobs);
    if (old == 0) {
        say("No job in the record ended before %s. Nothing was taken out.", forget_before);
        return EXIT_AS_WANTED;
    }
    snprintf(question, sizeof question,
             "Take %zu of %zu jobs out of the record for good: those that ended before %s?", old, count,
             forget_before);
    if (!session_may(s, question, "nothing was taken out"))
        return s->status;
    if (!eb_record_forget(record, before, &old, &s->job->problem)) {
        complain("nothing was taken out of the record: %s", s->job->problem.text);
        return EXIT_WRONG_CALL;
    }
    say("%zu job%s taken out of the record. Jobs that did not come to their end, or left a device "
        "unfinished, "
        "are kept.",
        old, old == 1 ? " was" : "s were");
    return EXIT_AS_WANTED;
}

static int run(const struct options *options)
{
    struct session s;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    struct eb_record *record = history_open(&s);
    int status = record == NULL          ? s.status
                 : verify                ? verify_all(&s, record)
                 : forget_before != NULL ? forget(&s, record)
                 : device != NULL        ? history(&s, record)
                                         : list(&s, record);
    eb_record_close(record);
    return session_close(&s, status);
}

static const struct option_row row_device = {
    "device", "NAME",      "what was written to this device, by its serial number or its name",
    2,        OPTION_TEXT, .own = &device};
static const struct option_row row_since = {
    "since", "DAY", "only jobs from this day on, like 2026-11-30", 2, OPTION_TEXT, .own = &since};
static const struct option_row row_until = {"until", "DAY",       "only jobs up to this day",
                                            2,       OPTION_TEXT, .own = &until};
static const struct option_row row_outcome = {
    "outcome",
    "WORD",
    "only jobs with this outcome: confirmed, failed, in-loader, interrupted, running ...",
    2,
    OPTION_TEXT,
    .own = &outcome};
static const struct option_row row_all = {
    "all", NULL,        "also jobs that were to write to no device, such as new addresses for the laptop",
    2,     OPTION_FLAG, .own = &all};
static const struct option_row row_verify = {
    "verify", NULL, "whether the record is still as it was written", 2, OPTION_FLAG, .own = &verify};
static const struct option_row row_forget = {
    "forget-before",
    "DAY",
    "take the jobs that ended before this day out of the record, for good",
    2,
    OPTION_TEXT,
    .own = &forget_before};
static const struct option_row *const jobs_options[] = {
    &row_device, &row_since,      &row_until,   &row_outcome, &row_all, &row_verify,
    &row_forget, &option_columns, &option_sort, &option_yes,  NULL};

const struct command command_jobs = {
    .name = "jobs",
    .arguments = "",
    .summary = "what was done: jobs, and the history of a device",
    .help = "Lists the jobs in the record, those first that did not come to their end: 'einbau fit --resume' "
            "goes "
            "on with them. With --site only those of this site. With --device the history of one device, "
            "wherever "
            "it was.\v"
            "Examples:\n  einbau jobs\n  einbau jobs --device 5206\n  einbau jobs --verify\n\n"
            "Exit status 1 where --verify finds that the record was changed.",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .heads = jobs_heads,
    .options = jobs_options,
    .check = check,
    .run = run,
};
