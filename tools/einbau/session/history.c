#include "session/history.h"

#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

const char *history_folder(const struct session *s)
{
    const struct eb_job_config *config = &s->job->config;
    return config->record != NULL ? config->record : config->state;
}

struct eb_record *history_open(struct session *s)
{
    const char *folder = history_folder(s);
    s->status = EXIT_WRONG_CALL;
    if (folder == NULL) {
        complain(
            "found no folder with a record of jobs: a simulated world keeps one only with --state DIR or "
            "--record DIR");
        return NULL;
    }
    struct eb_record *record = eb_record_open(folder, false, &s->job->problem);
    if (record == NULL && s->job->problem.text[0] != '\0')
        complain("the record of jobs cannot be read: %s", s->job->problem.text);
    else if (record == NULL)
        complain("no job was recorded yet in %s", folder);
    size_t given;
    if (record != NULL && s->job->config.state != NULL &&
        !eb_record_outbox(record, s->job->config.state, &given, &s->job->problem))
        complain("entries that wait for the record's server could not be given to it: %s",
                 s->job->problem.text);
    return record;
}

bool history_jobs(struct session *s, struct eb_record *record, struct eb_record_job **jobs, size_t *count)
{
    if (eb_record_jobs(record, jobs, count, &s->job->problem))
        return true;
    complain("the record of jobs cannot be read: %s", s->job->problem.text);
    s->status = EXIT_WRONG_CALL;
    free(*jobs);
    return false;
}

bool history_goes_on(struct eb_record *record, const struct eb_record_job *job)
{
    static struct eb_locks *locks;
    char key[EB_LOCK_KEY_BYTES];
    struct eb_lock_holder holder;
    struct eb_problem problem;
    if (job->ended[0] != '\0')
        return false;
    eb_record_key(record, job->number, key);
    if (eb_record_shared(record))
        return eb_record_leased(record, key, &holder);
    if (locks == NULL)
        locks = eb_locks_open("jobs", &problem);
    return locks != NULL && eb_locks_held(locks, key, &holder);
}

bool history_is_open(const struct eb_record_job *job, bool goes_on)
{
    return job->devices > 0 && job->resumed_by == 0 && !goes_on &&
           (job->ended[0] == '\0' || strstr(job->result, "interrupted") != NULL ||
            strcmp(job->outcome, "interrupted") == 0);
}

bool history_waits(const struct eb_record_job *job)
{
    return strcmp(job->outcome, "card-written") == 0 && job->resumed_by == 0;
}

const char *history_result(const struct eb_record_job *job, bool goes_on)
{
    return goes_on                  ? "running"
           : job->ended[0] == '\0'  ? "interrupted"
           : job->result[0] != '\0' ? job->result
                                    : job->outcome;
}

const char *history_word(const json_t *string)
{
    const char *text = json_string_value(string);
    /* Anybody may have written the file, and this goes to a terminal. */
    return text == NULL ? "" : eb_text_printable(text) ? text : "?";
}

const char *history_text(const json_t *object, const char *key)
{
    return history_word(json_object_get(object, key));
}

void digest_text(const uint8_t digest[EB_SHA256_BYTES], char to[EB_DIGEST_TEXT_BYTES])
{
    sodium_bin2hex(to, EB_DIGEST_TEXT_BYTES, digest, EB_SHA256_BYTES);
}

json_t *text_or_null(const char *text)
{
    return text[0] != '\0' ? json_string(text) : json_null();
}

/* --- one job ------------------------------------------------------------------------------------- */

static struct past_device *device_of(struct past *past, const struct eb_record_row *row, bool make)
{
    for (size_t i = past->count; i > 0; i--) {
        if (strcmp(past->devices[i - 1].name, row->device) == 0)
            return &past->devices[i - 1];
    }
    struct past_device *more = make ? realloc(past->devices, (past->count + 1) * sizeof *more) : NULL;
    if (more == NULL)
        return NULL;
    past->devices = more;
    struct past_device *d = &more[past->count++];
    memset(d, 0, sizeof *d);
    eb_text_copy(d->name, sizeof d->name, row->device);
    eb_text_copy(d->serial, sizeof d->serial, row->serial);
    eb_text_copy(d->order_code, sizeof d->order_code, row->order_code);
    eb_text_copy(d->link, sizeof d->link, row->link);
    eb_text_copy(d->profile, sizeof d->profile, row->profile);
    return d;
}

static void take_statement(struct past *past, const struct eb_record_entry *e)
{
    void *more = realloc(past->statements, (past->statement_count + 1) * sizeof *past->statements);
    if (more == NULL)
        return;
    past->statements = more;
    snprintf(past->statements[past->statement_count++], sizeof *past->statements, "%s: %s '%s', by %s",
             e->row.device, e->row.component, e->row.version, e->row.outcome);
}

/* An effect lasts until the next one. */
static void add_span(struct past_device *d, const char *kind, uint64_t ms, unsigned attempt)
{
    size_t count = json_array_size(d->spans);
    if (d->spans == NULL)
        d->spans = json_array();
    if (count > 0)
        json_object_set_new(json_array_get(d->spans, count - 1), "to_ms", json_integer((json_int_t)ms));
    if (kind != NULL)
        json_array_append_new(d->spans,
                              json_pack("{s:s, s:I, s:I, s:i}", "rung", kind, "from_ms", (json_int_t)ms,
                                        "to_ms", (json_int_t)ms, "attempt", (int)attempt));
}

static void replace(json_t **body, const char *text)
{
    json_decref(*body);
    *body = json_loads(text, 0, NULL);
}

static bool take(void *context, const struct eb_record_entry *e)
{
    struct past *past = context;
    bool end = strcmp(e->row.kind, "end") == 0 || strcmp(e->row.kind, "not-begun") == 0 ||
               strcmp(e->row.kind, "card") == 0;
    sodium_bin2hex(past->digest, sizeof past->digest, e->chain, EB_RECORD_DIGEST_BYTES);
    if (strcmp(e->row.kind, "job") == 0)
        replace(&past->body, e->row.body);
    else if (strcmp(e->row.kind, "stated") == 0)
        take_statement(past, e);
    if (e->row.device[0] == '\0')
        return true;
    bool effect = strcmp(e->row.kind, "stated") != 0 && strcmp(e->row.kind, "noted") != 0 &&
                  strcmp(e->row.kind, "saved") != 0;
    struct past_device *d = device_of(past, &e->row, effect);
    if (d == NULL)
        return true;
    past->last_ms = e->row.ms > past->last_ms ? e->row.ms : past->last_ms;
    if (strcmp(e->row.kind, "device") == 0) {
        replace(&d->before, e->row.body);
    } else if (end) {
        replace(&d->after, e->row.body);
        eb_text_copy(d->outcome, sizeof d->outcome, e->row.outcome);
        snprintf(d->error, sizeof d->error, "%s", eb_text_printable(e->row.error) ? e->row.error : "?");
        json_decref(d->spans);
        d->spans = json_incref(json_object_get(d->after, "spans"));
    } else if (strcmp(e->row.kind, "noted") == 0) {
        replace(&d->noted, e->row.body);
    } else if (effect) {
        eb_text_copy(d->effect, sizeof d->effect, e->row.kind);
        eb_text_copy(d->component, sizeof d->component, e->row.component);
        eb_text_copy(d->version, sizeof d->version, e->row.version);
        add_span(d, e->row.kind, e->row.ms, e->row.attempt);
    }
    return true;
}

bool history_read(struct session *s, struct eb_record *record, const char *name, struct past *past)
{
    struct eb_record_job *jobs;
    size_t count;
    uint64_t number = 0;
    memset(past, 0, sizeof *past);
    if (name != NULL && !eb_text_number(name, strlen(name), &number)) {
        complain("found '%s', expected the number of a job: 'einbau jobs' lists them", name);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    if (!history_jobs(s, record, &jobs, &count))
        return false;
    bool found = false;
    for (size_t i = 0; i < count && !found; i++) {
        found = name != NULL ? jobs[i].number == (int64_t)number : jobs[i].devices > 0;
        past->job = jobs[i];
    }
    free(jobs);
    if (!found && name != NULL)
        complain("the record has no job %s; 'einbau jobs' lists those that it has", name);
    else if (!found)
        complain("the record has no job that was to write to a device, so there is nothing to report");
    if (found && !eb_record_rows(record, past->job.number, take, past, &s->job->problem)) {
        complain("the record of jobs cannot be read: %s", s->job->problem.text);
        found = false;
    }
    for (size_t i = 0; i < past->count; i++) {
        if (past->devices[i].after == NULL && past->devices[i].spans != NULL)
            add_span(&past->devices[i], NULL, past->last_ms, 0);
    }
    past->goes_on = found && history_goes_on(record, &past->job);
    s->status = found ? EXIT_AS_WANTED : name == NULL ? EXIT_NOT_AS_WANTED : EXIT_WRONG_CALL;
    return found;
}

void history_free(struct past *past)
{
    for (size_t i = 0; i < past->count; i++) {
        json_decref(past->devices[i].before);
        json_decref(past->devices[i].after);
        json_decref(past->devices[i].noted);
        json_decref(past->devices[i].spans);
    }
    json_decref(past->body);
    free(past->devices);
    free(past->statements);
    memset(past, 0, sizeof *past);
}
