/* What profiles note of a device, its values and its own diagnostics: read before the job does anything to it
 * and once more after, and what differs. */
#include "job/inside.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

struct reading {
    struct eb_job_device *target;
    struct eb_run run;
};

static bool notes(const struct eb_job_device *target)
{
    return target->item_count > 0 && !target->refused && target->device->profile->notes != NULL;
}

/* Before: of a device whose program runs, and of which an earlier job has not noted it already. */
static bool due_before(const struct eb_job_device *target)
{
    return notes(target) && target->waited_for == NULL && target->reached && !target->look.in_loader &&
           (target->noted == NULL || !target->noted->before.read);
}

/* After: of one that was read last as running, however its job has ended; also of one that an earlier job has
 * written to, and this one had no more to do with. */
static bool due_after(const struct eb_job_device *target)
{
    const struct eb_run *run = eb_job_last(target);
    bool known = target->begun ? run->identified : target->reached;
    bool done =
        target->begun || (target->item_count == 0 && target->noted != NULL && target->noted->recalled);
    return target->noted != NULL && !target->noted->after.read && done && known && !run->in_loader;
}

static struct eb_job_noted *noted_of(struct eb_job_device *target)
{
    if (target->noted == NULL)
        target->noted = calloc(1, sizeof *target->noted);
    if (target->noted == NULL)
        abort();
    return target->noted;
}

static void begin(struct eb_job *job, struct reading *reading, struct eb_crew *crew)
{
    struct eb_job_device *target = reading->target;
    const struct eb_profile *profile = target->device->profile->notes;
    struct eb_run_config config = eb_job_run_config(job, target, EB_JOB_LOOK);
    config.profile = profile;
    config.running = NULL;
    ebi_job_take_memory(target, EB_JOB_LOOK, &config);
    config.interrupted = false;
    config.target.serial = target->look.identity.serial; /* the very device that was looked at */
    if (eb_run_init(&reading->run, &config) == EB_OK && eb_crew_add(crew, &reading->run) != EB_OK)
        eb_run_abandon(&reading->run);
}

static void take(const struct reading *reading, struct eb_job_values *values)
{
    const struct eb_run *run = &reading->run;
    values->read = run->identified && run->error.status == EB_OK && !run->in_loader;
    for (size_t i = 0; i < run->config.profile->count && values->read; i++)
        eb_text_copy(values->text[i], sizeof values->text[i], run->running[i].version);
}

static void read_all(struct eb_job *job, bool (*due)(const struct eb_job_device *target), bool after)
{
    size_t count = 0;
    size_t most = 0;
    struct eb_crew crew;
    for (size_t i = 0; i < job->count; i++)
        most += due(&job->devices[i]);
    if (most == 0)
        return;
    struct reading *readings = calloc(most, sizeof *readings);
    struct eb_crew_place *places = calloc(most, sizeof *places);
    if (readings == NULL || places == NULL)
        abort();
    eb_crew_init(&crew, job->port, places, most);
    for (size_t i = 0; i < job->count && ebi_job_stop(job) == 0; i++) {
        if (!due(&job->devices[i]))
            continue;
        readings[count].target = &job->devices[i];
        begin(job, &readings[count++], &crew);
    }
    ebi_job_work(job, &crew, NULL);
    for (size_t i = 0; i < count; i++) {
        struct eb_job_noted *noted = noted_of(readings[i].target);
        take(&readings[i], after ? &noted->after : &noted->before);
        ebi_job_give_memory(readings[i].target, EB_JOB_LOOK);
    }
    free(readings);
    free(places);
}

void ebi_noted_before(struct eb_job *job)
{
    read_all(job, due_before, false);
}

static bool write_down(struct eb_job *job)
{
    bool ok = eb_record_together(job->record, true, &job->problem);
    for (size_t i = 0; i < job->count && ok; i++) {
        struct ebi_row_keys keys;
        struct eb_job_noted *noted = job->devices[i].noted;
        char *body = noted == NULL || noted->recorded ? NULL : eb_job_describe_noted(&job->devices[i]);
        if (body == NULL)
            continue;
        noted->recorded = true;
        struct eb_record_row row = ebi_job_row(job, &job->devices[i], &keys);
        row.kind = "noted";
        row.body = body;
        row.ms = ebi_note_ms(job);
        ok = eb_record_add(job->record, &row, &job->problem);
        free(body);
    }
    return eb_record_together(job->record, false, &job->problem) && ok;
}

void ebi_noted_after(struct eb_job *job)
{
    read_all(job, due_after, true);
    if (job->recording && !write_down(job))
        ebi_job_warn(job, "what the devices noted could not be written into the record: %s",
                     job->problem.text);
}

/* --- what differs ---------------------------------------------------------------------------------- */

/* Else it is an entry of its diagnostics. */
static bool is_value(const struct eb_profile *profile, size_t index)
{
    return profile->components[index].name[0] != '\0';
}

/* A list that holds fewer entries has its last places empty, or zero. */
static bool is_entry(const char *text)
{
    return text[strspn(text, "0.")] != '\0';
}

/* The entries of one reading, in their order; gives their number.  `*full`: there may be more behind them. */
static size_t list_entries(const struct eb_profile *profile, const struct eb_job_values *values,
                           const char *list[EB_COMPONENTS_MAX], bool *full)
{
    size_t count = 0;
    *full = true;
    for (size_t i = 0; i < profile->count; i++) {
        if (is_value(profile, i))
            continue;
        if (is_entry(values->text[i]))
            list[count++] = values->text[i];
        else
            *full = false;
    }
    return count;
}

static size_t count_of(const char *const *list, size_t count, const char *text)
{
    size_t found = 0;
    for (size_t i = 0; i < count; i++)
        found += strcmp(list[i], text) == 0;
    return found;
}

/* How many entries stand in front of those that were the first before: the newest is the first.  All of
 * them: none of before is there. */
static size_t in_front(const char *const *after, size_t count, const char *const *before, size_t before_count)
{
    size_t front = 0;
    for (; front < count; front++) {
        size_t same = 0;
        while (front + same < count && same < before_count && strcmp(after[front + same], before[same]) == 0)
            same++;
        if (front + same == count)
            return front;
    }
    return count;
}

/* What is new after a job; gives the number.  Where all entries of before were read: of which there are more
 * than then.  Else one that was not read then may have moved up, so that only those in front count. */
static size_t list_new(const struct eb_profile *profile, const struct eb_job_noted *noted,
                       const char *list[EB_COMPONENTS_MAX])
{
    const char *before[EB_COMPONENTS_MAX];
    const char *after[EB_COMPONENTS_MAX];
    bool full;
    bool after_full;
    size_t before_count = list_entries(profile, &noted->before, before, &full);
    size_t count = list_entries(profile, &noted->after, after, &after_full);
    size_t front = full ? in_front(after, count, before, before_count) : count;
    size_t fresh = 0;
    if (full && front == count)
        return 0;
    for (size_t i = 0; i < front; i++) {
        if (full || count_of(after, i + 1, after[i]) > count_of(before, before_count, after[i]))
            list[fresh++] = after[i];
    }
    return fresh;
}

/* --- as JSON --------------------------------------------------------------------------------------- */

/* Texts of devices may be anything; empty: not readable. */
static json_t *text(const char *from)
{
    json_t *string = from[0] != '\0' ? json_string(from) : NULL;
    return string != NULL ? string : json_null();
}

static json_t *values_json(const struct eb_profile *profile, const struct eb_job_values *values)
{
    json_t *object = json_object();
    json_t *entries = json_array();
    if (!values->read) {
        json_decref(object);
        json_decref(entries);
        return json_null();
    }
    for (size_t i = 0; i < profile->count; i++) {
        if (is_value(profile, i))
            json_object_set_new(object, profile->components[i].name, text(values->text[i]));
        else if (is_entry(values->text[i]))
            json_array_append_new(entries, text(values->text[i]));
    }
    return json_pack("{s:o, s:o}", "values", object, "diagnostics", entries);
}

json_t *ebi_noted_before_json(const struct eb_job_device *target)
{
    return target->noted != NULL ? values_json(target->device->profile->notes, &target->noted->before) : NULL;
}

char *eb_job_describe_noted(const struct eb_job_device *target)
{
    const struct eb_profile *profile = target->device->profile->notes;
    const struct eb_job_noted *noted = target->noted;
    if (noted == NULL || (!target->begun && (!noted->recalled || target->item_count > 0)))
        return NULL;
    const char *list[EB_COMPONENTS_MAX];
    json_t *changed = json_array();
    json_t *entries = json_array();
    for (size_t i = 0; i < profile->count && noted->before.read && noted->after.read; i++) {
        const char *before = noted->before.text[i];
        const char *after = noted->after.text[i];
        if (is_value(profile, i) && strcmp(before, after) != 0)
            json_array_append_new(changed, json_pack("{s:s, s:o, s:o}", "name", profile->components[i].name,
                                                     "before", text(before), "after", text(after)));
    }
    size_t fresh = noted->before.read && noted->after.read ? list_new(profile, noted, list) : 0;
    for (size_t i = 0; i < fresh; i++)
        json_array_append_new(entries, text(list[i]));
    json_t *body =
        json_pack("{s:o, s:o, s:o, s:o}", "before", values_json(profile, &noted->before), "after",
                  values_json(profile, &noted->after), "changed", changed, "new_diagnostics", entries);
    char *string = json_dumps(body, JSON_COMPACT);
    json_decref(body);
    if (string == NULL)
        abort();
    return string;
}

void eb_job_recall_noted(struct eb_job_device *target, const char *body)
{
    const struct eb_profile *profile = target->device->profile->notes;
    json_t *root = profile != NULL ? json_loads(body, 0, NULL) : NULL;
    const json_t *noted = json_object_get(root, "noted");
    const json_t *values = json_object_get(noted, "values");
    size_t entry = 0;
    for (size_t i = 0; profile != NULL && i < profile->count && json_is_object(values); i++) {
        const json_t *from = is_value(profile, i)
                                 ? json_object_get(values, profile->components[i].name)
                                 : json_array_get(json_object_get(noted, "diagnostics"), entry++);
        const char *word = json_string_value(from);
        struct eb_job_values *before = &noted_of(target)->before;
        before->read = target->noted->recalled = true;
        eb_text_copy(before->text[i], sizeof before->text[i], word != NULL ? word : "");
    }
    json_decref(root);
}
