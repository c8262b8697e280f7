/* Documents of devices: saved before a job's first effect on a device, put back after its last one.  What is
 * to be put back is written down first (`due`, one file for each device with the name of its backup), so that
 * the next call does it where this one cannot. */
#include "job/inside.h"

#include "image_file.h"

#include <errno.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { NAMES_MAX = 1000, KEY_BYTES = EB_LOCK_KEY_BYTES };

static struct eb_job_kept *kept_of(struct eb_job_device *target)
{
    if (target->kept == NULL)
        target->kept = calloc(1, sizeof *target->kept);
    if (target->kept == NULL)
        abort();
    return target->kept;
}

void ebi_kept_drop(struct eb_job_device *target)
{
    if (target->kept == NULL)
        return;
    eb_backup_free(&target->kept->file);
    eb_backup_free(&target->kept->due);
    free(target->kept);
    target->kept = NULL;
}

/* --- names of files -------------------------------------------------------------------------------- */

bool eb_job_backups(const struct eb_job *job, char folder[EB_PATH_BYTES])
{
    const char *state = job->config.state;
    return state != NULL && state[0] != '\0' &&
           snprintf(folder, EB_PATH_BYTES, "%s/backups", state) < EB_PATH_BYTES;
}

/* What devices tell never becomes a path. */
void ebi_kept_plain(char *text)
{
    for (char *c = text; *c != '\0'; c++) {
        bool plain = (*c >= 'a' && *c <= 'z') || (*c >= 'A' && *c <= 'Z') || (*c >= '0' && *c <= '9') ||
                     *c == '-' || (*c == '.' && c > text);
        *c = plain ? *c : '_';
    }
}

void ebi_kept_key(const struct eb_job_device *target, char key[KEY_BYTES])
{
    eb_job_unit_key(target->job, target, key);
    ebi_kept_plain(key);
}

static bool due_folder(const struct eb_job *job, char folder[EB_PATH_BYTES])
{
    char backups[EB_PATH_BYTES];
    return eb_job_backups(job, backups) && snprintf(folder, EB_PATH_BYTES, "%s/due", backups) < EB_PATH_BYTES;
}

/* --- what is due ----------------------------------------------------------------------------------- */

static void find_due(struct eb_job *job, struct eb_job_device *target, const char *folder)
{
    char key[KEY_BYTES];
    char path[EB_PATH_BYTES];
    struct eb_problem problem = {.text = ""};
    struct eb_backup_file due;
    size_t size = 0;
    bool missing = false;
    ebi_kept_key(target, key);
    char *name = (char *)eb_state_read(folder, key, &size, &missing, &problem);
    if (name == NULL && missing)
        return;
    bool read = name != NULL && size > 0 && size < sizeof path && memchr(name, '\0', size) == NULL;
    if (read)
        read = snprintf(path, sizeof path, "%s%s%.*s", name[0] == '/' ? "" : folder,
                        name[0] == '/' ? "" : "/../", (int)size, name) < (int)sizeof path &&
               eb_backup_read(path, &due, &problem);
    free(name);
    if (!read) {
        ebi_job_warn(job,
                     "%s: an earlier job has saved documents of it and did not put them back, and they "
                     "cannot be read: %s",
                     target->device->name, problem.text);
        return;
    }
    if (strcmp(due.identity.serial, target->look.identity.serial) == 0 &&
        strcmp(due.identity.order_code, target->look.identity.order_code) == 0)
        kept_of(target)->due = due;
    else
        eb_backup_free(&due);
}

void ebi_kept_find(struct eb_job *job)
{
    char folder[EB_PATH_BYTES];
    if (!due_folder(job, folder) || access(folder, F_OK) != 0)
        return;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        ebi_kept_drop(target);
        if (target->chosen && target->reached && target->device->profile->backup_count > 0)
            find_due(job, target, folder);
    }
}

static bool mark(struct eb_job_device *target)
{
    char folder[EB_PATH_BYTES];
    char key[KEY_BYTES];
    struct eb_problem problem = {.text = "found no folder for it"};
    const struct eb_job_kept *kept = target->kept;
    const char *path = kept->due.count > 0 ? kept->due.path : kept->file.path;
    const char *name = strrchr(path, '/');
    bool known = due_folder(target->job, folder) && ebi_make_folders(folder, &problem);
    char *backups = known ? realpath(folder, NULL) : NULL;
    ebi_kept_key(target, key);
    /* One in the folder of backups by its name there, so that the folder may move. */
    size_t size = backups != NULL ? strlen(backups) - strlen("/due") : 0;
    bool there =
        backups != NULL && name != NULL && (size_t)(name - path) == size && strncmp(path, backups, size) == 0;
    const char *text = there ? name + 1 : path;
    free(backups);
    target->kept->marked = known && eb_state_write(folder, key, text, strlen(text), &problem);
    if (!target->kept->marked)
        ebi_job_warn(target->job, "%s: that its documents are to be put back cannot be written down: %s",
                     target->device->name, problem.text);
    return target->kept->marked;
}

void ebi_kept_forget(const struct eb_job_device *target, const char *folder)
{
    char key[KEY_BYTES];
    char path[EB_PATH_BYTES + KEY_BYTES];
    ebi_kept_key(target, key);
    snprintf(path, sizeof path, "%s/%s", folder, key);
    unlink(path);
}

static void unmark(const struct eb_job_device *target)
{
    char folder[EB_PATH_BYTES];
    if (due_folder(target->job, folder))
        ebi_kept_forget(target, folder);
}

/* --- what is planned ------------------------------------------------------------------------------- */

/* What each component will run once the plan is carried out; empty: not known. */
static void versions_after(const struct eb_job_device *target, const char *running[EB_COMPONENTS_MAX])
{
    const struct eb_profile *p = target->device->profile;
    for (size_t i = 0; i < p->count; i++)
        running[i] = target->look.in_loader ? "" : target->look.running[i].version;
    for (size_t k = 0; k < target->item_count; k++)
        running[target->items[k].component - p->components] = target->items[k].image->version;
}

static bool suits(const struct eb_job_device *target, struct eb_problem *problem)
{
    const char *running[EB_COMPONENTS_MAX] = {NULL};
    versions_after(target, running);
    return eb_backup_suits(&target->kept->due, target->device->profile, &target->look.identity, running,
                           problem);
}

/* Adds a document to those of the run: `saves`: it is fetched; `puts_back`: the copy that is due is written
 * again. */
static void add_document(struct eb_job_kept *kept, const struct eb_backup *backup, bool saves, bool puts_back)
{
    struct eb_run_document *d = &kept->documents[kept->count];
    struct eb_backup_document *due = puts_back ? eb_backup_document(&kept->due, backup->name) : NULL;
    *d = (struct eb_run_document){.backup = backup};
    if (saves) {
        struct eb_backup_document *to = &kept->file.documents[kept->file.count++];
        eb_text_copy(to->name, sizeof to->name, backup->name);
        d->sink = eb_backup_sink(to);
    }
    if (due != NULL) {
        d->source = eb_backup_source(due);
        d->due = true;
    }
    kept->count += saves || due != NULL;
}

static void clear(struct eb_job_kept *kept)
{
    eb_backup_free(&kept->file);
    kept->count = 0;
    kept->marked = false;
}

static bool goes_back(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    bool back = false;
    for (size_t k = 0; k < target->item_count && !target->look.in_loader; k++) {
        const struct eb_run_item *item = &target->items[k];
        const char *runs = target->look.running[item->component - p->components].version;
        back = back || eb_version_compare(&item->component->order, runs, item->image->version) == EB_NEWER;
    }
    return back;
}

bool ebi_kept_any_due(const struct eb_job_device *target)
{
    const struct eb_job_kept *kept = target->kept;
    bool any = false;
    for (size_t i = 0; kept != NULL && i < kept->count; i++)
        any = any || kept->documents[i].due;
    return any;
}

static void plan_one(struct eb_job *job, struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    struct eb_problem problem;
    bool writes = target->item_count > 0 && !target->refused;
    bool loader = target->look.in_loader;
    struct eb_job_kept *kept = kept_of(target);
    bool due = kept->due.count > 0 && !job->no_backup && (writes || !loader);
    clear(kept);
    kept->whole = true;
    kept->goes_back = writes && goes_back(target);
    if (due && !suits(target, &problem)) {
        ebi_job_warn(job, "%s: what an earlier job saved of it is not put back: %s", target->device->name,
                     problem.text);
        due = false;
    }
    for (size_t i = 0; i < p->backup_count; i++)
        add_document(kept, &p->backups[i], writes && !loader && !job->no_backup && p->backups[i].erased, due);
    target->puts_back = due && !writes && !target->refused && kept->count > 0;
    if (due && !ebi_kept_any_due(target))
        ebi_job_warn(
            job,
            "%s: what an earlier job saved of it and did not put back is no document of its profile any "
            "more. It is kept: %s",
            target->device->name, kept->due.path);
}

void eb_job_plan_due(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        target->puts_back = false;
        if (target->chosen && target->reached && target->device->profile->backup_count > 0)
            plan_one(job, target);
    }
}

/* --- saving ---------------------------------------------------------------------------------------- */

static void describe(struct eb_job_device *target, const struct eb_run *run, struct eb_backup_file *file)
{
    const struct eb_profile *p = target->device->profile;
    file->identity = run->identity;
    eb_text_copy(file->site, sizeof file->site, target->job->site->name);
    eb_text_copy(file->device, sizeof file->device, target->device->name);
    eb_text_copy(file->profile, sizeof file->profile, p->name);
    file->version_count = 0;
    for (size_t i = 0; i < p->count; i++) {
        struct eb_backup_version *v = &file->versions[file->version_count++];
        eb_text_copy(v->component, sizeof v->component, p->components[i].name);
        eb_text_copy(v->version, sizeof v->version, run->running[i].version);
    }
}

/* Whether the device has given anything: what it does not have any more is due from before. */
static bool any_saved(struct eb_job_kept *kept)
{
    bool any = false;
    for (size_t i = 0; i < kept->count; i++) {
        struct eb_backup_document *to = kept->documents[i].sink.self;
        bool saved = kept->documents[i].state == EB_DOCUMENT_SAVED;
        any = any || saved;
        if (to != NULL)
            to->missing = !saved;
    }
    return any;
}

/* A file of its own in the folder of backups: SERIAL-TIME.zip. */
static bool write_named(const struct eb_job_device *target, struct eb_backup_file *file, const char *folder,
                        struct eb_problem *problem)
{
    char name[EB_NAME_BYTES];
    char stamp[32];
    char path[EB_PATH_BYTES];
    time_t now = time(NULL);
    struct tm parts;
    bool taken = true;
    const char *serial = file->identity.serial;
    eb_text_copy(name, sizeof name, serial[0] != '\0' ? serial : target->device->name);
    ebi_kept_plain(name);
    strftime(stamp, sizeof stamp, "%Y%m%dT%H%M%SZ", gmtime_r(&now, &parts));
    if (!ebi_make_folders(folder, problem))
        return false;
    for (unsigned n = 1; n <= NAMES_MAX && taken; n++) {
        char more[16] = "";
        if (n > 1)
            snprintf(more, sizeof more, "-%u", n);
        if (snprintf(path, sizeof path, "%s/%s-%s%s.zip", folder, name, stamp, more) >= (int)sizeof path) {
            snprintf(problem->text, sizeof problem->text, "%.900s: found a path that is too long", folder);
            return false;
        }
        if (eb_backup_write(file, path, &taken, problem))
            return true;
    }
    return false;
}

static bool record_saved(struct eb_job *job, struct eb_job_device *target, const char *path)
{
    struct ebi_row_keys keys;
    if (!job->recording)
        return true;
    struct eb_record_row row = ebi_job_row(job, target, &keys);
    json_t *body = json_pack("{s:s}", "backup", path);
    char *text = json_dumps(body, JSON_COMPACT);
    json_decref(body);
    row.kind = "saved";
    row.body = text;
    row.ms = ebi_note_ms(job);
    bool ok = eb_record_add(job->record, &row, &job->problem);
    if (!ok)
        ebi_job_warn(job, "%s: the record of jobs cannot be written: %s", target->device->name,
                     job->problem.text);
    free(text);
    return ok;
}

static const char no_folder[] =
    "found no folder to keep it in, expected --state DIR, or the variable XDG_STATE_HOME or HOME";

bool ebi_kept_write(struct eb_job_device *target, const struct eb_run *run, struct eb_backup_file *file,
                    const char *to, struct eb_problem *problem)
{
    char folder[EB_PATH_BYTES];
    bool written;
    describe(target, run, file);
    snprintf(problem->text, sizeof problem->text, "%s", no_folder);
    if (to != NULL)
        written = eb_backup_write(file, to, NULL, problem);
    else
        written = eb_job_backups(target->job, folder) && write_named(target, file, folder, problem);
    return written && record_saved(target->job, target, file->path);
}

/* All documents of the device are here: on disk before anything is done to it. */
static bool on_saved(void *context, const struct eb_run *run)
{
    struct eb_job_device *target = context;
    struct eb_job *job = target->job;
    struct eb_job_kept *kept = target->kept;
    struct eb_problem problem = {.text = ""};
    char folder[EB_PATH_BYTES];
    bool settings = run->config.count == 0 && ebi_settings_add(target, &kept->file);
    if (!any_saved(kept) && !settings)
        return true;
    bool nowhere = job->config.simulated && !eb_job_backups(job, folder) && job->backup_to == NULL;
    if (!nowhere && !ebi_kept_write(target, run, &kept->file, job->backup_to, &problem)) {
        ebi_job_warn(job, "%s: what was saved of it cannot be kept: %s", target->device->name, problem.text);
        return false;
    }
    for (size_t i = 0; i < kept->count; i++) {
        struct eb_run_document *d = &kept->documents[i];
        if (d->sink.take != NULL && d->source.read == NULL && run->config.count > 0 && !kept->goes_back)
            d->source = eb_backup_source(d->sink.self);
    }
    return true;
}

void ebi_kept_attach(struct eb_job_device *target, struct eb_run_config *config)
{
    if (target->kept == NULL || target->kept->count == 0)
        return;
    config->keeps = &eb_run_documents;
    config->documents = target->kept->documents;
    config->document_count = target->kept->count;
    config->saved = on_saved;
    config->saved_context = target;
}

bool ebi_kept_effect(struct eb_job_device *target, const struct eb_run_record *record)
{
    struct eb_job_kept *kept = target->kept;
    bool erases = record->effect == EB_EFFECT_PREPARE || record->effect == EB_EFFECT_SEND ||
                  record->effect == EB_EFFECT_ACTIVATE || record->effect == EB_EFFECT_PUT_BACK;
    char folder[EB_PATH_BYTES];
    if (kept == NULL || !erases || kept->marked || (kept->goes_back && kept->due.count == 0) ||
        !due_folder(target->job, folder) || (kept->due.count == 0 && kept->file.path[0] == '\0'))
        return true;
    return mark(target);
}

/* Nothing is due any more where the device holds all of it. */
void ebi_kept_end(struct eb_job_device *target)
{
    const struct eb_job_kept *kept = target->kept;
    bool all = kept != NULL && kept->count > 0;
    for (size_t i = 0; all && i < kept->count; i++) {
        enum eb_document_state state = kept->documents[i].state;
        all = kept->documents[i].source.read == NULL || state == EB_DOCUMENT_THERE ||
              state == EB_DOCUMENT_PUT_BACK;
    }
    if (all && kept->whole && (kept->marked || kept->due.count > 0))
        unmark(target);
}

/* --- by itself -------------------------------------------------------------------------------------- */

bool eb_job_stops_to_save(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    bool stops = false;
    for (size_t i = 0; i < p->backup_count; i++)
        stops = stops || (p->backups[i].at.by->able & EB_DOCUMENTS_IN_LOADER) != 0;
    return stops;
}

void eb_job_plan_backup(struct eb_job *job, const char *to)
{
    job->backup_to = to;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        const struct eb_profile *p = target->device->profile;
        target->puts_back =
            target->chosen && target->reached && !target->look.in_loader && p->backup_count > 0;
        target->begun = false;
        if (!target->puts_back)
            continue;
        ebi_settings_clear(target);
        clear(kept_of(target));
        for (size_t k = 0; k < p->backup_count; k++)
            add_document(target->kept, &p->backups[k], true, false);
    }
}

bool eb_job_plan_restore(struct eb_job *job, struct eb_job_device *target, const char *path, const char *only)
{
    const struct eb_profile *p = target->device->profile;
    struct eb_job_kept *kept = kept_of(target);
    clear(kept);
    eb_backup_free(&kept->due);
    target->puts_back = false;
    kept->whole = only == NULL;
    if (!eb_backup_read(path, &kept->due, &job->problem) || !suits(target, &job->problem))
        return ebi_job_failed(job, EB_OTHER);
    for (size_t i = 0; i < p->backup_count; i++) {
        if ((only == NULL || strcmp(only, p->backups[i].name) == 0) &&
            eb_backup_document(&kept->due, p->backups[i].name) != NULL)
            add_document(kept, &p->backups[i], true, true);
    }
    target->puts_back = kept->count > 0;
    return target->puts_back ||
           ebi_job_fail(job, EB_BAD_CALL, "%s: found no document%s%s in it that %s has", path,
                        only != NULL ? " " : "", only != NULL ? only : "", target->device->name);
}

/* --- as JSON --------------------------------------------------------------------------------------- */

/* Why a document that the update erases is not saved. */
static const char *why_not(const struct eb_job_device *target)
{
    return target->job->no_backup ? "no-backup" : target->look.in_loader ? "in-loader" : "";
}

static json_t *document_json(const struct eb_job_device *target, const struct eb_backup *backup,
                             const struct eb_run_document *d)
{
    const struct eb_job_kept *kept = target->kept;
    bool saves = d != NULL && d->sink.take != NULL;
    bool due = d != NULL && d->due;
    const char *path = due ? kept->due.path : saves ? kept->file.path : "";
    char error[EB_ERROR_TEXT_BYTES + 128] = "";
    if (d != NULL && d->error.status != EB_OK)
        snprintf(error, sizeof error, "%s: %s", d->error.where != NULL ? d->error.where : "",
                 d->error.text[0] != '\0' ? d->error.text : eb_status_word(d->error.status));
    return json_pack("{s:s, s:b, s:b, s:b, s:s, s:s, s:s, s:s}", "name", backup->name, "saves", saves,
                     "puts_back", due || (saves && target->item_count > 0 && !kept->goes_back), "due", due,
                     "why_not", d == NULL ? why_not(target) : "", "state",
                     eb_document_word(d != NULL && target->begun ? d->state : EB_DOCUMENT_NONE), "backup",
                     path, "error", error);
}

json_t *ebi_kept_json(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    const struct eb_job_kept *kept = target->kept;
    json_t *list = json_array();
    for (size_t i = 0; i < p->backup_count; i++) {
        const struct eb_run_document *d = NULL;
        for (size_t k = 0; kept != NULL && k < kept->count && d == NULL; k++)
            d = kept->documents[k].backup == &p->backups[i] ? &kept->documents[k] : NULL;
        if (d != NULL || (target->item_count > 0 && !target->refused && p->backups[i].erased))
            json_array_append_new(list, document_json(target, &p->backups[i], d));
    }
    json_t *changes = ebi_changes_json(target);
    json_array_extend(list, changes);
    json_decref(changes);
    return list;
}

char *eb_job_describe_documents(const struct eb_job_device *target)
{
    json_t *list = ebi_kept_json(target);
    char *text = json_array_size(list) > 0 ? json_dumps(list, JSON_COMPACT) : NULL;
    json_decref(list);
    return text;
}

bool eb_job_documents_good(const struct eb_job_device *target)
{
    const struct eb_job_kept *kept = target->kept;
    bool good = true;
    for (size_t i = 0; kept != NULL && target->begun && i < kept->count; i++) {
        enum eb_document_state state = kept->documents[i].state;
        bool back = state == EB_DOCUMENT_THERE || state == EB_DOCUMENT_PUT_BACK;
        good = good && (kept->documents[i].source.read != NULL ? back : state == EB_DOCUMENT_SAVED);
    }
    return good;
}
