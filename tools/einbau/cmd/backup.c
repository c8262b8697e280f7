/* Documents of devices: saved into files, and put back. */
#include "report/report.h"
#include "session/history.h"

#include <einbau/backup.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char *only; /* restore: one document */

/* "presets 85 B, tables 2 kB" */
static void documents_text(const struct eb_backup_file *b, const char *name, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t i = 0; i < b->count; i++) {
        char size[24];
        size_t at = strlen(text);
        if (b->documents[i].missing || (name != NULL && strcmp(name, b->documents[i].name) != 0))
            continue;
        bytes_text(b->documents[i].size, size, sizeof size);
        snprintf(text + at, cap - at, "%s%s %s", at > 0 ? ", " : "", b->documents[i].name, size);
    }
}

/* "firmware 3.9, web-pages 3.9" */
static void versions_text(const struct eb_backup_file *b, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t i = 0; i < b->version_count; i++) {
        size_t at = strlen(text);
        if (b->versions[i].version[0] != '\0')
            snprintf(text + at, cap - at, "%s%s %s", at > 0 ? ", " : "", b->versions[i].component,
                     b->versions[i].version);
    }
}

static json_t *backup_document(const struct eb_backup_file *b)
{
    json_t *versions = json_object();
    json_t *documents = json_array();
    const struct eb_identity *id = &b->identity;
    for (size_t i = 0; i < b->version_count; i++)
        json_object_set_new(versions, b->versions[i].component, text_or_null(b->versions[i].version));
    for (size_t i = 0; i < b->count; i++) {
        char digest[EB_DIGEST_TEXT_BYTES];
        if (b->documents[i].missing)
            continue;
        for (size_t k = 0; k < EB_SHA256_BYTES; k++)
            snprintf(digest + 2 * k, 3, "%02x", b->documents[i].sha256[k]);
        json_array_append_new(documents, json_pack("{s:s, s:I, s:s}", "name", b->documents[i].name, "bytes",
                                                   (json_int_t)b->documents[i].size, "sha256", digest));
    }
    return json_pack("{s:s, s:s, s:s, s:s, s:o, s:o, s:o, s:o, s:o}", "file", b->path, "made", b->at, "site",
                     b->site, "device", b->device, "serial", text_or_null(id->serial), "order_code",
                     text_or_null(id->order_code), "hardware_revision", text_or_null(id->hardware_revision),
                     "versions", versions, "documents", documents);
}

/* --- backup list ----------------------------------------------------------------------------------- */

static void print_list(const struct eb_backup_file *list, size_t count)
{
    static const char *const heads[] = {"MADE", "DEVICE", "SERIAL", "VERSIONS", "DOCUMENTS", "FILE"};
    struct table table;
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < count; i++) {
        char made[32];
        char versions[256];
        char documents[256];
        eb_job_local_time(list[i].at, made, sizeof made);
        versions_text(&list[i], versions, sizeof versions);
        documents_text(&list[i], NULL, documents, sizeof documents);
        const char *const cells[] = {made,     list[i].device, list[i].identity.serial,
                                     versions, documents,      file_name(list[i].path)};
        table_add(&table, cells);
    }
    table_print(&table);
}

static int run_list(const struct options *options)
{
    struct session s;
    struct eb_backup_file *list = NULL;
    size_t count = 0;
    size_t wrong = 0;
    char folder[EB_PATH_BYTES] = "";
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    if (s.state_folder[0] == '\0') {
        complain("found no folder of backups, expected --state DIR, or the variable XDG_STATE_HOME or HOME");
        return session_close(&s, EXIT_WRONG_CALL);
    }
    snprintf(folder, sizeof folder, "%.*s/backups", (int)sizeof folder - 16, s.state_folder);
    if (!eb_backups_list(folder, &list, &count, &wrong, &s.job->problem)) {
        complain("%s", s.job->problem.text);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    if (options->json) {
        json_t *backups = json_array();
        for (size_t i = 0; i < count; i++)
            json_array_append_new(backups, backup_document(&list[i]));
        print_document(json_pack("{s:s, s:s, s:o, s:I}", "einbau", "backup-list/1", "folder", folder,
                                 "backups", backups, "unreadable", (json_int_t)wrong));
    } else if (count + wrong == 0) {
        say("No backup is kept in %s. 'einbau backup DEVICE' makes one.", folder);
    } else {
        say("%zu backup%s in %s, the newest first.\n", count, count == 1 ? "" : "s", folder);
        print_list(list, count);
        if (wrong > 0)
            say("\n%zu file%s there cannot be read as a backup.", wrong, wrong == 1 ? "" : "s");
    }
    free(list);
    return session_close(&s, wrong > 0 ? EXIT_NOT_AS_WANTED : EXIT_AS_WANTED);
}

/* --- both of the others ----------------------------------------------------------------------------- */

static bool can_be_saved(const struct eb_job_device *t)
{
    return t->device->profile->backup_count + t->device->profile->setting_count > 0;
}

static bool has_backups(const struct session *s)
{
    bool any = false;
    for (size_t i = 0; i < s->job->count; i++)
        any = any || (s->job->devices[i].chosen && can_be_saved(&s->job->devices[i]));
    return any;
}

static void say_nothing_to_save(const struct session *s, const struct eb_job_device *t, const void *context,
                                char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->chosen && !can_be_saved(t))
        snprintf(text, SENTENCE_BYTES,
                 "its profile %s names nothing that can be saved: the keys 'backups' and 'settings'",
                 t->device->profile->name);
    else if (t->chosen && t->reached && t->look.in_loader)
        snprintf(text, SENTENCE_BYTES, "it is in its loader, where it has no documents");
}

/* Opens the session, looks, and prints what cannot be done. */
static bool begin(struct session *s, const struct options *options)
{
    if (!session_open(s, options))
        return false;
    if (!has_backups(s)) {
        for (size_t i = 0; i < s->job->count && !options->json; i++) {
            if (s->job->devices[i].chosen && options->name_count > 0)
                complain(
                    "%s: its profile %s names nothing that can be saved: the keys 'backups' and 'settings'",
                    s->job->devices[i].device->name, s->job->devices[i].device->profile->name);
        }
        if (options->name_count == 0)
            complain(
                "found no device on this site whose profile names a document or a setting, expected the key "
                "'backups' or 'settings'");
        s->status = EXIT_NOT_AS_WANTED;
        return false;
    }
    for (size_t i = 0; i < s->job->count && options->name_count == 0; i++)
        s->job->devices[i].chosen = s->job->devices[i].chosen && can_be_saved(&s->job->devices[i]);
    return job_lock_addresses(s) && session_look(s);
}

static int end(struct session *s, const char *kind)
{
    bool good = true;
    bool reached = false;
    json_t *devices = json_array();
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        bool alone = t->device->profile->backup_count == 0; /* settings only, of which no run was needed */
        bool done = alone ? eb_job_saved(t) != NULL
                          : t->begun && eb_job_documents_good(t) && t->fit.error.status == EB_OK;
        good = good && done;
        reached = reached || t->answered;
        const struct eb_backup_file *file = eb_job_saved(t);
        json_array_append_new(devices,
                              json_pack("{s:s, s:b, s:o, s:o}", "name", t->device->name, "done", done,
                                        "saved", file != NULL ? backup_document(file) : json_null(),
                                        "documents", t->begun ? documents_of(t) : json_array()));
    }
    if (s->options->json)
        print_document(
            json_pack("{s:s, s:s, s:O}", "einbau", kind, "site", s->job->site->name, "devices", devices));
    json_decref(devices);
    return session_close(s, exit_status(reached, good));
}

/* --- backup ---------------------------------------------------------------------------------------- */

static void print_saved(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "SERIAL", "VERSIONS", "DOCUMENTS", "FILE"};
    struct table table;
    size_t rows = 0;
    table_begin(&table, 5, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        char versions[256];
        char documents[256];
        const struct eb_backup_file *b = eb_job_saved(t);
        if (b == NULL)
            continue;
        versions_text(b, versions, sizeof versions);
        documents_text(b, NULL, documents, sizeof documents);
        const char *const cells[] = {t->device->name, b->identity.serial, versions, documents, b->path};
        table_add(&table, cells);
        rows++;
    }
    if (rows == 0) {
        say("Nothing was saved.");
        table_free(&table);
        return;
    }
    say("%zu device%s saved; what is in the file%s was read back from the disk.\n", rows,
        rows == 1 ? "" : "s", rows == 1 ? "" : "s");
    table_print(&table);
}

/* Those of which only the loader has the documents: where they are not named they are left alone; else asked.
 */
static bool may_stop(struct session *s)
{
    char question[SENTENCE_BYTES];
    size_t devices = 0;
    size_t others = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (!t->puts_back || !eb_job_stops_to_save(t)) {
            others += t->chosen;
            continue;
        }
        if (s->options->name_count == 0) {
            t->puts_back = t->chosen = false;
            complain("%s: not saved, as only its loader gives its documents, and its program would stop "
                     "meanwhile: "
                     "einbau backup %s",
                     t->device->name, eb_job_word(t->device->name));
        } else {
            devices++;
            complain(
                "%s: only its loader gives its documents; its program stops meanwhile and is started again.",
                t->device->name);
        }
    }
    if (devices + others == 0) {
        s->status = EXIT_NOT_AS_WANTED;
        return false;
    }
    snprintf(question, sizeof question, "Stop the program of %zu device%s to save?", devices,
             devices == 1 ? "" : "s");
    return devices == 0 || (job_lock_devices(s) && session_may(s, question, "nothing was saved") &&
                            job_begin(s, "nothing was saved"));
}

static int run_backup(const struct options *options)
{
    struct session s;
    if (options->to != NULL && options->name_count != 1) {
        complain("--to is a file for one device, found %zu devices, expected one", options->name_count);
        return EXIT_WRONG_CALL;
    }
    if (!begin(&s, options))
        return session_close(&s, s.status);
    if (s.state_folder[0] == '\0' && options->to == NULL) {
        complain("found no folder to keep backups in, expected --state DIR, or --to FILE for one device");
        return session_close(&s, EXIT_WRONG_CALL);
    }
    eb_job_plan_settings(s.job);
    if (!eb_job_recover(s.job)) {
        session_failed(&s);
        return session_close(&s, s.status);
    }
    for (size_t i = 0; i < s.job->count; i++) {
        struct eb_job_device *t = &s.job->devices[i];
        bool alone = t->begun && t->device->profile->backup_count == 0;
        if (alone && !eb_job_keep_settings(t, options->to))
            complain("%s: its settings cannot be kept: %s", t->device->name, s.job->problem.text);
    }
    eb_job_plan_backup(s.job, options->to);
    if (!may_stop(&s) || !session_carry_out(&s, true))
        return session_close(&s, s.status);
    if (!options->json) {
        print_saved(&s);
        say_folded(&s, say_look, NULL, NULL);
        say_folded(&s, say_nothing_to_save, NULL, NULL);
        say_folded(&s, say_run, NULL, NULL);
    }
    return end(&s, "backup/1");
}

/* --- restore --------------------------------------------------------------------------------------- */

/* Whether it has a document that the device has: one that a change of settings has left has none. */
static bool has_document(const struct eb_job_device *t, const struct eb_backup_file *b)
{
    const struct eb_profile *p = t->device->profile;
    bool has = false;
    for (size_t i = 0; i < p->backup_count; i++) {
        for (size_t k = 0; k < b->count; k++)
            has = has || strcmp(b->documents[k].name, p->backups[i].name) == 0;
    }
    return has;
}

/* The newest one of this very device; NULL: there is none. */
static const struct eb_backup_file *newest_of(const struct eb_job_device *t,
                                              const struct eb_backup_file *list, size_t count)
{
    const struct eb_identity *id = &t->look.identity;
    for (size_t i = 0; i < count; i++) {
        if (strcmp(list[i].identity.serial, id->serial) == 0 &&
            strcmp(list[i].identity.order_code, id->order_code) == 0 && has_document(t, &list[i]))
            return &list[i];
    }
    return NULL;
}

/* False after a complaint. */
static bool plan_one(struct session *s, struct eb_job_device *t, const char *file,
                     const struct eb_backup_file *list, size_t count)
{
    const struct eb_backup_file *newest = NULL;
    if (!t->reached || t->look.in_loader)
        return true; /* that is said by itself */
    bool due = file == NULL && t->kept != NULL && t->kept->due.count > 0;
    if (file == NULL && !due) {
        newest = newest_of(t, list, count);
        if (newest == NULL) {
            complain(
                "%s: found no backup of it (serial number %s) among those of this laptop, expected one, or "
                "a file: einbau restore %s FILE",
                t->device->name, t->look.identity.serial, eb_job_word(t->device->name));
            return false;
        }
    }
    char path[EB_PATH_BYTES];
    snprintf(path, sizeof path, "%s", due ? t->kept->due.path : file != NULL ? file : newest->path);
    if (eb_job_plan_restore(s->job, t, path, only))
        return true;
    complain("%s: %s. Nothing was written", t->device->name, s->job->problem.text);
    return false;
}

static size_t plan_restore(struct session *s, const char *file, bool *good)
{
    struct eb_backup_file *list = NULL;
    size_t count = 0;
    size_t wrong = 0;
    size_t devices = 0;
    char folder[EB_PATH_BYTES];
    *good = true;
    if (file == NULL && eb_job_backups(s->job, folder) &&
        !eb_backups_list(folder, &list, &count, &wrong, &s->job->problem)) {
        complain("%s", s->job->problem.text);
        *good = false;
    }
    for (size_t i = 0; i < s->job->count && *good; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        *good = plan_one(s, t, file, list, count);
        devices += t->puts_back;
    }
    free(list);
    return devices;
}

static void print_restore_plan(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "PUT BACK", "MADE", "OF", "WITH"};
    struct table table;
    table_begin(&table, 5, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        char made[32];
        char of[2 * EB_NAME_BYTES + 16];
        char versions[256];
        char documents[256];
        if (!t->puts_back)
            continue;
        const struct eb_backup_file *b = &t->kept->due;
        bool same = strcmp(b->identity.serial, t->look.identity.serial) == 0;
        eb_job_local_time(b->at, made, sizeof made);
        documents_text(b, only, documents, sizeof documents);
        versions_text(b, versions, sizeof versions);
        snprintf(of, sizeof of, "%s%s",
                 same ? "this device" : "another device: ", same ? "" : b->identity.serial);
        const char *const cells[] = {t->device->name, documents, made, of, versions};
        table_add(&table, cells);
    }
    table_print(&table);
    say("\nWhat the devices hold now is saved first.");
}

/* The last name may be a file. */
static const char *file_of(struct options *own)
{
    const char *last = own->name_count > 1 ? own->names[own->name_count - 1] : NULL;
    size_t size = last != NULL ? strlen(last) : 0;
    if (size == 0 || (strchr(last, '/') == NULL && (size < 5 || strcmp(last + size - 4, ".zip") != 0)))
        return NULL;
    own->name_count--;
    return last;
}

static int run_restore(const struct options *given)
{
    struct session s;
    struct options own = *given;
    const struct options *options = &own;
    const char *file = file_of(&own);
    char question[96];
    bool good;
    own.names_devices = true;
    if (!begin(&s, options))
        return session_close(&s, s.status);
    size_t devices = plan_restore(&s, file, &good);
    if (!good)
        return session_close(&s, EXIT_NOT_AS_WANTED);
    if (!options->json) {
        if (devices > 0)
            print_restore_plan(&s);
        say_folded(&s, say_look, NULL, NULL);
        say_folded(&s, say_nothing_to_save, NULL, NULL);
    }
    snprintf(question, sizeof question, "Put this back onto %zu device%s?", devices, devices == 1 ? "" : "s");
    if (devices > 0 && (!job_lock_devices(&s) || !session_may(&s, question, "nothing was written") ||
                        !job_begin(&s, "nothing was written") || !session_carry_out(&s, true)))
        return session_close(&s, s.status);
    if (!options->json && devices > 0) {
        say_folded(&s, say_run, NULL, NULL);
        print_documents(&s, false, NULL);
    }
    return end(&s, "restore/1");
}

/* ------------------------------------------------------------------------------------------------- */

static const struct option_row to = {
    "to", "FILE",      "the file for the one device that is named, else one in the folder of backups",
    2,    OPTION_TEXT, .to = OPTION_TO(to)};
static const struct option_row only_document = {"only", "NAME",      "only this document",
                                                2,      OPTION_TEXT, .own = (void *)&only};
static const struct option_row *const backup_options[] = {
    &option_without, &option_only, &to, &option_yes, &option_add_address, &option_key_file, NULL};
static const struct option_row *const restore_options[] = {&only_document, &option_yes, &option_add_address,
                                                           &option_key_file, NULL};

const struct command command_backup_list = {
    .name = "backup list",
    .arguments = "",
    .summary = "lists the backups on this laptop",
    .help = "Backups that 'einbau backup', 'einbau fit' and 'einbau restore' have made, the newest first.\v"
            "Example:\n  einbau backup list\n\n"
            "Exit status 1 where a file there cannot be read as a backup.",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .run = run_list,
};

const struct command command_backup = {
    .name = "backup",
    .arguments = "[DEVICE...]",
    .summary = "saves presets, databases and other documents of devices",
    .help =
        "Fetches all documents that the profiles of the devices name (the key 'backups'), and writes them "
        "into one file for each device, named by serial number and time, with what the device is and runs. "
        "A file that is there is never written over. Nothing is changed on any device. One whose documents "
        "only "
        "its loader gives (DFU) is saved where it is named: its program stops meanwhile, so that is asked "
        "first. "
        "'einbau fit' saves by itself what an update erases.\v"
        "Examples:\n  einbau backup --site larchfell.site.yaml\n"
        "  einbau backup --site larchfell.site.yaml pa-valley --to pa-valley.zip\n\n"
        "Exit status 0 only where every one of these devices was saved.",
    .takes = NAMES_DEVICES,
    .options = backup_options,
    .run = run_backup,
};

const struct command command_restore = {
    .name = "restore",
    .arguments = "DEVICE... [FILE]",
    .summary = "puts saved documents back onto devices",
    .help =
        "Puts back what 'einbau backup' or 'einbau fit' has saved, reads it back and compares. Without FILE: "
        "the newest backup of each device, by its serial number. A FILE of another device is taken where "
        "order "
        "code and hardware revision are the same, as after a replacement; one that was made with a newer "
        "version is refused. What the device holds is saved first.\v"
        "Examples:\n  einbau restore --site larchfell.site.yaml pa-valley\n"
        "  einbau restore --site larchfell.site.yaml pa-middle backups/pa-valley.zip --only presets\n\n"
        "Exit status 0 only where every document was read back as it was saved.",
    .takes = NEEDS_NAMES,
    .options = restore_options,
    .run = run_restore,
};
