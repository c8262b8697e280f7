/* Settings of devices: read, changed, read back.  What a device held before a change is kept as a backup, and
 * what it shall hold is written down (`changing`, one file for each device) until that was read back: after a
 * job that was cut off the next one knows both. */
#include "job/inside.h"

#include "image_file.h"

#include <dirent.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define SETTINGS_DOCUMENT "settings"

static void *take_memory(size_t count, size_t size)
{
    void *memory = calloc(count + 1, size);
    if (memory == NULL)
        abort();
    return memory;
}

struct eb_job_settings *ebi_settings_of(struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    if (target->settings != NULL)
        return target->settings;
    struct eb_job_settings *s = target->settings = take_memory(1, sizeof *s);
    s->list = take_memory(p->setting_count, sizeof *s->list);
    s->documents = take_memory(p->setting_count, sizeof *s->documents);
    s->count = p->setting_count;
    for (size_t i = 0; i < s->count; i++)
        s->list[i].setting = &p->settings[i];
    return s;
}

void ebi_settings_drop(struct eb_job_device *target)
{
    struct eb_job_settings *s = target->settings;
    for (size_t i = 0; s != NULL && i < s->count; i++) {
        free(s->list[i].seen.bytes);
        free(s->list[i].out.bytes);
    }
    if (s != NULL) {
        eb_backup_free(&s->kept);
        free(s->list);
        free(s->documents);
        free(s);
    }
    target->settings = NULL;
}

/* The next run is not about them. */
void ebi_settings_clear(struct eb_job_device *target)
{
    if (target->settings == NULL)
        return;
    target->settings->document_count = 0;
    target->settings->change = EB_CHANGE_NOTHING;
}

/* --- reading --------------------------------------------------------------------------------------- */

static bool is_as_wanted(void *self)
{
    struct eb_job_setting *s = self;
    s->read = eb_setting_read(s->setting, s->seen.bytes, s->seen.size, s->text);
    unsigned seconds = (unsigned)(time(NULL) - s->since);
    return s->read && eb_setting_same(s->setting, s->wanted, s->text, seconds);
}

static void check_begin(void *self)
{
    struct eb_job_setting *s = self;
    s->seen.size = 0;
}

static enum eb_status check_take(void *self, const uint8_t *bytes, size_t size)
{
    struct eb_job_setting *s = self;
    struct eb_sink sink = eb_backup_sink(&s->seen);
    return sink.take(sink.self, bytes, size);
}

static struct eb_run_document *add_document(struct eb_job_settings *s, struct eb_job_setting *setting)
{
    struct eb_run_document *d = &s->documents[s->document_count++];
    *d = (struct eb_run_document){.backup = setting->setting->at, .sink = eb_backup_sink(&setting->seen)};
    setting->document = d;
    return d;
}

static bool may_be_asked(const struct eb_job_device *target)
{
    return target->chosen && target->reached && !target->look.in_loader;
}

void eb_job_plan_settings(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        target->puts_back = may_be_asked(target) && target->device->profile->setting_count > 0;
        target->begun = false;
        if (!target->puts_back)
            continue;
        struct eb_job_settings *s = ebi_settings_of(target);
        s->change = EB_CHANGE_NOTHING;
        s->document_count = 0;
        for (size_t k = 0; k < s->count; k++)
            add_document(s, &s->list[k])->may_lack = true;
    }
}

/* What was read in a run that only reads. */
static void take_all(struct eb_job_settings *s)
{
    for (size_t k = 0; k < s->count; k++) {
        struct eb_job_setting *setting = &s->list[k];
        const struct eb_run_document *d = setting->document;
        setting->read =
            d != NULL && d->state == EB_DOCUMENT_SAVED &&
            eb_setting_read(setting->setting, setting->seen.bytes, setting->seen.size, setting->text);
        if (d != NULL)
            setting->error = d->error;
    }
}

struct eb_job_setting *eb_job_setting(const struct eb_job_device *target, const char *name)
{
    for (size_t i = 0; target->settings != NULL && i < target->settings->count; i++) {
        if (strcmp(target->settings->list[i].setting->at->name, name) == 0)
            return &target->settings->list[i];
    }
    return NULL;
}

/* --- what is wanted -------------------------------------------------------------------------------- */

bool eb_job_want_setting(struct eb_job_device *target, const char *name, const char *typed,
                         struct eb_problem *problem)
{
    struct eb_job_setting *s = eb_job_setting(target, name);
    char text[EB_SETTING_BYTES];
    size_t size = 0;
    if (s == NULL) {
        char meant[EB_NEAREST_BYTES];
        struct eb_nearest near = eb_nearest_begin(name);
        for (size_t i = 0; target->settings != NULL && i < target->settings->count; i++)
            eb_nearest_offer(&near, target->settings->list[i].setting->at->name);
        snprintf(problem->text, sizeof problem->text, "found no setting '%s', expected one of profile %s%s",
                 name, target->device->profile->name, eb_nearest_text(&near, meant));
        return false;
    }
    if (s->setting->read_only) {
        snprintf(problem->text, sizeof problem->text, "%s can only be read", name);
        return false;
    }
    if (!eb_setting_take(s->setting, typed, text, problem))
        return false;
    if (!s->read) {
        snprintf(problem->text, sizeof problem->text,
                 "%s cannot be read now, so that no change of it could be taken back or confirmed", name);
        return false;
    }
    uint8_t *bytes = eb_setting_write(s->setting, text, s->seen.bytes, s->seen.size, &size, problem);
    if (bytes == NULL)
        return false;
    free(s->out.bytes);
    s->out = (struct eb_backup_document){.bytes = bytes, .size = size, .cap = size};
    eb_text_copy(s->wanted, sizeof s->wanted, text);
    s->since = time(NULL);
    s->changes = s->setting->kind == EB_SETTING_TIME || strcmp(text, s->text) != 0;
    return true;
}

size_t eb_job_plan_changes(struct eb_job *job)
{
    size_t devices = 0;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        struct eb_job_settings *s = target->settings;
        target->puts_back = target->begun = false;
        if (!may_be_asked(target) || s == NULL)
            continue;
        s->document_count = 0;
        for (size_t k = 0; k < s->count; k++) {
            struct eb_job_setting *setting = &s->list[k];
            eb_text_copy(setting->before, sizeof setting->before, setting->text);
            setting->document = NULL;
            if (!setting->changes)
                continue;
            struct eb_run_document *d = add_document(s, setting);
            setting->check = (struct eb_sink){setting, check_begin, check_take};
            d->check = &setting->check;
            d->same = is_as_wanted;
            d->due = true;
        }
        s->change = EB_CHANGE_SETTINGS;
        target->puts_back = s->document_count > 0;
        devices += target->puts_back;
    }
    return devices;
}

/* --- what is kept of before ------------------------------------------------------------------------- */

bool ebi_settings_add(const struct eb_job_device *target, struct eb_backup_file *file)
{
    const struct eb_job_settings *s = target->settings;
    json_t *values = json_object();
    for (size_t i = 0; s != NULL && i < s->count; i++) {
        const struct eb_job_setting *setting = &s->list[i];
        const char *text = s->change == EB_CHANGE_SETTINGS ? setting->before : setting->text;
        if (setting->read)
            json_object_set_new(values, setting->setting->at->name, json_string(text));
    }
    char *text = json_object_size(values) > 0 ? json_dumps(values, JSON_INDENT(2)) : NULL;
    json_decref(values);
    if (text == NULL || file->count == sizeof file->documents / sizeof file->documents[0]) {
        free(text);
        return false;
    }
    struct eb_backup_document *d = &file->documents[file->count++];
    *d = (struct eb_backup_document){
        .name = SETTINGS_DOCUMENT, .bytes = (uint8_t *)text, .size = strlen(text), .cap = strlen(text)};
    return true;
}

/* "SERIAL-20261130T081500Z-2.zip" is newer than the one without a number. */
static int oldest_first(const struct dirent **a, const struct dirent **b)
{
    const char *x = (*a)->d_name;
    const char *y = (*b)->d_name;
    const char *end = strrchr(x, 'Z');
    int by_time = strncmp(x, y, end != NULL ? (size_t)(end - x) : strlen(x) + 1);
    size_t size = strlen(x);
    size_t other = strlen(y);
    return by_time != 0 ? by_time : size != other ? (size < other ? -1 : 1) : strcmp(x, y);
}

/* A file that this laptop has made of the device has its serial number in front of the time. */
bool eb_job_newest_settings(const struct eb_job_device *target, struct eb_backup_file *file)
{
    char folder[EB_PATH_BYTES];
    char start[EB_NAME_BYTES + 2];
    struct dirent **names = NULL;
    struct eb_problem unused = {.text = ""};
    bool found = false;
    eb_text_copy(start, sizeof start - 1, target->look.identity.serial);
    ebi_kept_plain(start);
    start[strlen(start) + 1] = '\0';
    start[strlen(start)] = '-';
    int count = eb_job_backups(target->job, folder) ? scandir(folder, &names, NULL, oldest_first) : -1;
    for (int i = count; i-- > 0;) {
        char path[EB_PATH_BYTES + 256];
        snprintf(path, sizeof path, "%s/%s", folder, names[i]->d_name);
        if (!found && start[0] != '-' && strncmp(names[i]->d_name, start, strlen(start)) == 0 &&
            eb_backup_read(path, file, &unused)) {
            found = eb_backup_document(file, SETTINGS_DOCUMENT) != NULL &&
                    strcmp(file->identity.serial, target->look.identity.serial) == 0;
            if (!found)
                eb_backup_free(file);
        }
        free(names[i]);
    }
    free(names);
    return found;
}

char *eb_job_backup_settings(struct eb_backup_file *file)
{
    const struct eb_backup_document *d = eb_backup_document(file, SETTINGS_DOCUMENT);
    json_t *values =
        d != NULL ? json_loadb((const char *)d->bytes, d->size, JSON_REJECT_DUPLICATES, NULL) : NULL;
    const char *name;
    json_t *value;
    bool texts = json_is_object(values);
    json_object_foreach(values, name, value)
    {
        texts = texts && json_is_string(value) && eb_text_printable(name) &&
                eb_text_printable(json_string_value(value));
    }
    char *text = texts ? json_dumps(values, 0) : NULL;
    json_decref(values);
    return text;
}

static bool changing_folder(const struct eb_job *job, char folder[EB_PATH_BYTES])
{
    char backups[EB_PATH_BYTES];
    return eb_job_backups(job, backups) &&
           snprintf(folder, EB_PATH_BYTES, "%s/changing", backups) < EB_PATH_BYTES;
}

/* Writes down what the device shall hold, and where it stands what it held. */
static bool mark(struct eb_job_device *target, struct eb_problem *problem)
{
    struct eb_job_settings *s = target->settings;
    char folder[EB_PATH_BYTES];
    char key[EB_LOCK_KEY_BYTES];
    json_t *values = json_object();
    for (size_t i = 0; i < s->count; i++) {
        if (s->list[i].changes)
            json_object_set_new(values, s->list[i].setting->at->name, json_string(s->list[i].wanted));
    }
    json_t *root = json_pack("{s:s, s:s, s:o}", "serial", target->look.identity.serial, "backup",
                             s->kept.path, "wanted", values);
    char *text = json_dumps(root, JSON_COMPACT);
    json_decref(root);
    ebi_kept_key(target, key);
    s->marked = text != NULL && changing_folder(target->job, folder) && ebi_make_folders(folder, problem) &&
                eb_state_write(folder, key, text, strlen(text), problem);
    free(text);
    return s->marked;
}

static void unmark(const struct eb_job_device *target)
{
    char folder[EB_PATH_BYTES];
    if (changing_folder(target->job, folder))
        ebi_kept_forget(target, folder);
}

const struct eb_backup_file *eb_job_saved(const struct eb_job_device *target)
{
    if (target->kept != NULL && target->kept->file.path[0] != '\0')
        return &target->kept->file;
    return target->settings != NULL && target->settings->kept.path[0] != '\0' ? &target->settings->kept
                                                                              : NULL;
}

bool eb_job_keep_settings(struct eb_job_device *target, const char *to)
{
    struct eb_job *job = target->job;
    struct eb_job_settings *s = target->settings;
    eb_backup_free(&s->kept);
    if (!ebi_settings_add(target, &s->kept))
        return ebi_job_fail(job, EB_NO_ANSWER, "none of its settings could be read");
    return ebi_kept_write(target, &target->look, &s->kept, to, &job->problem);
}

/* All that is changed was read once more: before anything is written, what was read is on disk. */
static bool on_saved(void *context, const struct eb_run *run)
{
    struct eb_job_device *target = context;
    struct eb_job_settings *s = target->settings;
    struct eb_problem problem = {.text = ""};
    char folder[EB_PATH_BYTES];
    for (size_t k = 0; k < s->count; k++) {
        struct eb_job_setting *setting = &s->list[k];
        if (setting->document == NULL)
            continue;
        char text[EB_SETTING_BYTES];
        bool read = eb_setting_read(setting->setting, setting->seen.bytes, setting->seen.size, text);
        bool clock = setting->setting->kind == EB_SETTING_TIME;
        if (!read || (!clock && strcmp(text, setting->before) != 0)) {
            ebi_job_warn(target->job,
                         "%s: %s has changed in the meantime: found '%s', expected '%s'. "
                         "Nothing was written",
                         target->device->name, setting->setting->at->name, text, setting->before);
            return false;
        }
        setting->document->source = eb_backup_source(&setting->out);
    }
    if (target->job->config.simulated && !changing_folder(target->job, folder))
        return true;
    eb_backup_free(&s->kept);
    ebi_settings_add(target, &s->kept);
    bool ok = ebi_kept_write(target, run, &s->kept, NULL, &problem) && mark(target, &problem);
    if (!ok)
        ebi_job_warn(target->job, "%s: what it holds now cannot be kept: %s. Nothing was written",
                     target->device->name, problem.text);
    return ok;
}

bool ebi_settings_attach(struct eb_job_device *target, struct eb_run_config *config)
{
    struct eb_job_settings *s = target->settings;
    if (s == NULL || (s->document_count == 0 && s->change == EB_CHANGE_NOTHING))
        return false;
    config->keeps = &eb_run_documents;
    config->documents = s->documents;
    config->document_count = s->document_count;
    config->change = s->change;
    if (s->change == EB_CHANGE_SETTINGS) {
        config->saved = on_saved;
        config->saved_context = target;
    }
    if (s->change > EB_CHANGE_SETTINGS) {
        s->acts = *config->profile;
        s->acts.restart = s->acts.actions[s->action].steps;
        config->profile = &s->acts;
    }
    return true;
}

/* Whether the device holds what was wanted, or what it held before: nothing is in doubt. */
static bool is_clear(const struct eb_job_setting *s)
{
    return s->document == NULL || !s->document->written || s->document->state == EB_DOCUMENT_THERE ||
           s->document->known;
}

void ebi_settings_end(struct eb_job_device *target)
{
    struct eb_job_settings *s = target->settings;
    if (s == NULL || s->change > EB_CHANGE_SETTINGS)
        return;
    if (s->change == EB_CHANGE_NOTHING) {
        take_all(s);
        return;
    }
    bool clear = true;
    for (size_t k = 0; k < s->count; k++) {
        const struct eb_run_document *d = s->list[k].document;
        clear = clear && is_clear(&s->list[k]);
        if (d == NULL)
            continue;
        s->list[k].state = d->state;
        s->list[k].error = d->error;
        s->list[k].known = d->known || d->state == EB_DOCUMENT_THERE;
    }
    if (clear && s->marked)
        unmark(target);
}

bool eb_job_settings_good(const struct eb_job_device *target)
{
    const struct eb_job_settings *s = target->settings;
    bool good = s != NULL && !s->refused && target->begun && target->fit.error.status == EB_OK &&
                target->fit.outcome == EB_OUTCOME_NONE &&
                (s->change <= EB_CHANGE_SETTINGS || target->fit.record.acted);
    for (size_t k = 0; good && k < s->count; k++) {
        const struct eb_run_document *d = s->list[k].document;
        good = s->change != EB_CHANGE_SETTINGS || d == NULL || d->state == EB_DOCUMENT_THERE ||
               d->state == EB_DOCUMENT_PUT_BACK;
    }
    return good;
}

/* --- what an earlier job has left -------------------------------------------------------------------- */

char *eb_job_cut_off(const struct eb_job_device *target, char backup[EB_PATH_BYTES])
{
    char folder[EB_PATH_BYTES];
    char key[EB_LOCK_KEY_BYTES];
    struct eb_problem unused = {.text = ""};
    size_t size = 0;
    bool missing = false;
    ebi_kept_key(target, key);
    char *bytes = changing_folder(target->job, folder)
                      ? (char *)eb_state_read(folder, key, &size, &missing, &unused)
                      : NULL;
    json_t *root = bytes != NULL ? json_loadb(bytes, size, 0, NULL) : NULL;
    const char *serial = json_string_value(json_object_get(root, "serial"));
    const char *path = json_string_value(json_object_get(root, "backup"));
    json_t *wanted = json_object_get(root, "wanted");
    bool ours = serial != NULL && path != NULL && json_is_object(wanted) &&
                strcmp(serial, target->look.identity.serial) == 0 &&
                eb_text_copy(backup, EB_PATH_BYTES, path);
    char *text = ours ? json_dumps(wanted, 0) : NULL;
    json_decref(root);
    free(bytes);
    return text;
}

void eb_job_forget_cut_off(const struct eb_job_device *target)
{
    unmark(target);
}

void ebi_settings_find(struct eb_job *job)
{
    char folder[EB_PATH_BYTES];
    char backup[EB_PATH_BYTES];
    if (!changing_folder(job, folder) || access(folder, F_OK) != 0)
        return;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        char *wanted = target->chosen && target->reached ? eb_job_cut_off(target, backup) : NULL;
        if (wanted != NULL)
            ebi_job_warn(job,
                         "%s: a change of its settings was cut off. 'einbau settings %s' says what it holds, "
                         "and what helps",
                         target->device->name, eb_job_word(target->device->name));
        free(wanted);
    }
}

/* --- actions ----------------------------------------------------------------------------------------- */

/* A member whose program is stopped would be reset by its manager. */
bool eb_job_can(const struct eb_job_device *target, enum eb_action_kind action)
{
    return eb_profile_can(target->device->profile, action) &&
           (action != EB_ACTION_STOP || target->device->manager == NULL);
}

size_t eb_job_plan_action(struct eb_job *job, enum eb_action_kind action)
{
    static const enum eb_change changes[EB_ACTIONS] = {EB_CHANGE_RESTART, EB_CHANGE_RESTART, EB_CHANGE_STOP,
                                                       EB_CHANGE_START, EB_CHANGE_RESTART};
    size_t devices = 0;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        target->puts_back = target->begun = false;
        if (!may_be_asked(target) || !eb_job_can(target, action))
            continue;
        struct eb_job_settings *s = ebi_settings_of(target);
        bool stopped = target->look.program_known && target->look.program_stopped;
        s->action = action;
        s->change = changes[action];
        s->document_count = 0;
        s->already = (action == EB_ACTION_STOP && stopped) ||
                     (action == EB_ACTION_START && target->look.program_known && !stopped);
        target->puts_back = !s->already;
        devices += target->puts_back;
    }
    return devices;
}

/* --- as JSON ------------------------------------------------------------------------------------------ */

static const char *const kind_words[] = {"number", "text", "yes-no", "choice", "address", "time"};

json_t *ebi_settings_json(const struct eb_job_device *target)
{
    const struct eb_job_settings *s = target->settings;
    json_t *list = json_array();
    for (size_t i = 0; s != NULL && i < s->count; i++) {
        const struct eb_job_setting *one = &s->list[i];
        const struct eb_setting *x = one->setting;
        char range[256];
        eb_setting_range(x, range, sizeof range);
        json_t *item = json_pack("{s:s, s:s?, s:s, s:s, s:s?, s:b, s:b, s:b, s:b}", "name", x->at->name,
                                 "value", one->read ? one->text : NULL, "kind", kind_words[x->kind], "range",
                                 range, "unit", x->unit, "unique", x->unique, "safety", x->safety,
                                 "read_only", x->read_only, "restart", x->at->restarts);
        if (one->document != NULL && s->change == EB_CHANGE_SETTINGS) {
            json_object_set_new(item, "before", json_string(one->before));
            json_object_set_new(item, "wanted", json_string(one->wanted));
            json_object_set_new(item, "state", json_string(eb_document_word(one->document->state)));
        }
        json_array_append_new(list, item);
    }
    return list;
}

char *eb_job_describe_settings(const struct eb_job_device *target)
{
    json_t *list = ebi_settings_json(target);
    char *text = json_dumps(list, JSON_COMPACT);
    json_decref(list);
    return text;
}

json_t *ebi_changes_json(const struct eb_job_device *target)
{
    const struct eb_job_settings *s = target->settings;
    json_t *list = json_array();
    if (s != NULL && s->change > EB_CHANGE_SETTINGS)
        json_array_append_new(list, json_pack("{s:s, s:s}", "name", eb_action_word(s->action), "state",
                                              eb_job_settings_good(target) ? "done" : "none"));
    for (size_t i = 0; s != NULL && s->change == EB_CHANGE_SETTINGS && i < s->count; i++) {
        const struct eb_job_setting *one = &s->list[i];
        if (one->document != NULL)
            json_array_append_new(list, json_pack("{s:s, s:s, s:s, s:s}", "name", one->setting->at->name,
                                                  "before", one->before, "wanted", one->wanted, "state",
                                                  eb_document_word(one->document->state)));
    }
    return list;
}
