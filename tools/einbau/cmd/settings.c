/* Settings of devices: shown, compared, changed, copied. */
#include "report/report.h"
#include "session/history.h"
#include "session/wishes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct wishes wishes;
static const char *since;

/* --- which of them ---------------------------------------------------------------------------------- */

/* A name that means nothing would leave everything as it is, without a word. */
static bool all_known(struct session *s)
{
    for (size_t i = 0; i < wishes.only_count; i++) {
        bool known = false;
        char meant[EB_NEAREST_BYTES];
        struct eb_nearest near = eb_nearest_begin(wishes.only[i]);
        for (size_t k = 0; k < s->job->count; k++) {
            const struct eb_profile *p = s->job->devices[k].device->profile;
            for (size_t n = 0; s->job->devices[k].chosen && n < p->setting_count; n++) {
                known = known || eb_pattern_matches(wishes.only[i], p->settings[n].at->name);
                eb_nearest_offer(&near, p->settings[n].at->name);
            }
        }
        if (known)
            continue;
        complain("--only: found '%s', expected the name of a setting of these devices, or a pattern like "
                 "'input-*'%s",
                 wishes.only[i], eb_nearest_text(&near, meant));
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return true;
}

static void say_without(const struct session *s, const struct eb_job_device *t, const void *context,
                        char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->chosen && t->device->profile->setting_count == 0)
        snprintf(text, SENTENCE_BYTES, "its profile %s names no setting: the key 'settings'",
                 t->device->profile->name);
    else if (t->chosen && t->reached && t->look.in_loader)
        snprintf(text, SENTENCE_BYTES, "it is in its loader, where it has no settings");
}

/* --- shown ------------------------------------------------------------------------------------------- */

/* A value with its unit. */
static const char *value_text(const struct eb_job_setting *s, const char *value,
                              char text[EB_SETTING_BYTES + 32])
{
    const char *unit = s->setting->unit;
    snprintf(text, EB_SETTING_BYTES + 32, "%s%s%s", value, unit != NULL ? " " : "", unit != NULL ? unit : "");
    return text;
}

/* What it was in the backup, where that differs; NULL: it does not, or is not there. */
static const char *value_since(const struct eb_job_setting *s, const json_t *backup)
{
    const char *was = json_string_value(json_object_get(backup, s->setting->at->name));
    return was != NULL && s->read && s->setting->kind != EB_SETTING_TIME && strcmp(was, s->text) != 0 ? was
                                                                                                      : NULL;
}

static void marks_text(const struct eb_job_setting *s, const json_t *backup, char *text, size_t cap)
{
    const char *was = value_since(s, backup);
    text[0] = '\0';
    if (s->setting->safety)
        wish_list(text, cap, "safety");
    if (s->setting->unique)
        wish_list(text, cap, "unique");
    if (s->setting->read_only)
        wish_list(text, cap, "read-only");
    if (s->setting->at->restarts)
        wish_list(text, cap, "restart");
    if (was != NULL) {
        char changed[EB_SETTING_BYTES + 16];
        snprintf(changed, sizeof changed, "was %s", was);
        wish_list(text, cap, changed);
    }
}

/* The settings in a backup of the device: --since, or the newest one on this laptop; NULL: there is none, or
 * (`*wrong`) it cannot be read. */
static json_t *backup_of(struct session *s, const struct eb_job_device *t, char made[32], bool *wrong)
{
    struct eb_backup_file file = {.count = 0};
    bool read =
        since != NULL ? eb_backup_read(since, &file, &s->job->problem) : eb_job_newest_settings(t, &file);
    char *text = read ? eb_job_backup_settings(&file) : NULL;
    json_t *values = text != NULL ? json_loads(text, 0, NULL) : NULL;
    *wrong = false;
    if (since != NULL && values == NULL) {
        complain("%s", read ? "found no settings in the file of --since, expected a backup with settings"
                            : s->job->problem.text);
        *wrong = true;
    } else if (since != NULL && strcmp(file.identity.order_code, t->look.identity.order_code) != 0) {
        complain("%s: found a backup of order code '%s', expected '%s', which %s has", since,
                 file.identity.order_code, t->look.identity.order_code, t->device->name);
        *wrong = true;
    }
    eb_job_local_time(file.at, made, 32);
    eb_backup_free(&file);
    free(text);
    return values;
}

static bool show_one(struct session *s, const struct eb_job_device *t)
{
    static const char *const heads[] = {"SETTING", "VALUE", "MAY BE", "MARKS"};
    struct table table;
    char made[32];
    bool wrong;
    size_t differ = 0;
    json_t *backup = backup_of(s, t, made, &wrong);
    table_begin(&table, 4, heads);
    table.plain = 4;
    for (size_t i = 0; i < t->settings->count && !wrong; i++) {
        const struct eb_job_setting *one = &t->settings->list[i];
        char value[EB_SETTING_BYTES + 32];
        char range[256];
        char marks[EB_SETTING_BYTES + 64];
        if (!wish_meant(&wishes, one->setting->at->name) ||
            (since != NULL && value_since(one, backup) == NULL))
            continue;
        differ += value_since(one, backup) != NULL;
        range[0] = '\0';
        if (!one->setting->read_only)
            eb_setting_range(one->setting, range, sizeof range);
        marks_text(one, backup, marks, sizeof marks);
        const char *const cells[] = {one->setting->at->name,
                                     one->read ? value_text(one, one->text, value) : "unknown", range, marks};
        table_add(&table, cells);
    }
    if (wrong) {
        table_free(&table);
    } else if (since != NULL && differ == 0) {
        say("%s: all settings are as in the backup of %s.", t->device->name, made);
        table_free(&table);
    } else {
        say("%s (%s, serial number %s)%s%s%s", t->device->name, t->look.identity.order_code,
            t->look.identity.serial, backup != NULL ? ": " : "",
            backup == NULL ? ""
            : differ == 0  ? "as in the backup of "
                           : "compared with the backup of ",
            backup != NULL ? made : "");
        puts("");
        table_print(&table);
    }
    json_decref(backup);
    return !wrong;
}

static void say_unread(const struct session *s, const struct eb_job_device *t, const void *context,
                       char text[SENTENCE_BYTES])
{
    const size_t *index = context;
    (void)s;
    if (!wish_has(t) || *index >= t->settings->count)
        return;
    const struct eb_job_setting *one = &t->settings->list[*index];
    if (!one->read && wish_meant(&wishes, one->setting->at->name))
        snprintf(text, SENTENCE_BYTES, "%s cannot be read: %s%s%s", one->setting->at->name,
                 one->error.status != EB_OK ? (one->error.where != NULL ? one->error.where : "") : "",
                 one->error.status != EB_OK ? ": " : "what it holds is none of the values that it may have",
                 one->error.status == EB_OK   ? ""
                 : one->error.text[0] != '\0' ? one->error.text
                                              : eb_status_word(one->error.status));
}

/* --- compared ---------------------------------------------------------------------------------------- */

/* Whether the devices hold the same; those that have no such setting do not count. */
static bool all_same(const struct session *s, const char *name)
{
    const struct eb_job_setting *first = NULL;
    bool same = true;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_setting *one = wish_setting(&s->job->devices[i], name);
        if (one == NULL)
            continue;
        if (first != NULL && (one->read != first->read || strcmp(one->text, first->text) != 0))
            same = false;
        first = first == NULL ? one : first;
    }
    return same;
}

/* One column for each device, as long as there is room; a setting that is the same everywhere is left out. */
static void compare(const struct session *s)
{
    const char *heads[TABLE_COLUMNS_MAX] = {"SETTING"};
    const struct eb_job_device *devices[TABLE_COLUMNS_MAX] = {NULL};
    size_t columns = 1;
    size_t left = 0; /* devices that there is no column for; what they hold counts all the same */
    size_t same = 0;
    size_t rows = 0;
    struct table table;
    for (size_t i = 0; i < s->job->count; i++) {
        if (!wish_has(&s->job->devices[i]))
            continue;
        if (columns == TABLE_COLUMNS_MAX) {
            left++;
            continue;
        }
        devices[columns] = &s->job->devices[i];
        heads[columns++] = s->job->devices[i].device->name;
    }
    table_begin(&table, columns, heads);
    table.plain = columns;
    for (size_t d = 1; d < columns; d++) {
        for (size_t k = 0; k < devices[d]->settings->count; k++) {
            const char *name = devices[d]->settings->list[k].setting->at->name;
            char values[TABLE_COLUMNS_MAX][EB_SETTING_BYTES + 32];
            const char *cells[TABLE_COLUMNS_MAX] = {name};
            bool earlier = false;
            for (size_t e = 1; e < d; e++)
                earlier = earlier || wish_setting(devices[e], name) != NULL;
            if (earlier || !wish_meant(&wishes, name))
                continue;
            if (all_same(s, name)) {
                same++;
                continue;
            }
            for (size_t e = 1; e < columns; e++) {
                const struct eb_job_setting *one = wish_setting(devices[e], name);
                cells[e] = one == NULL ? "" : !one->read ? "unknown" : value_text(one, one->text, values[e]);
            }
            table_add(&table, cells);
            rows++;
        }
    }
    if (rows == 0) {
        say("All %zu settings are the same on these %zu devices.", same, columns - 1 + left);
        table_free(&table);
        return;
    }
    say("%zu setting%s differ%s between these devices; %zu are the same.", rows, rows == 1 ? "" : "s",
        rows == 1 ? "s" : "", same);
    puts("");
    table_print(&table);
    if (left > 0)
        say("\n%zu more device%s compared, but not shown: name at most %d at a time to see all.", left,
            left == 1 ? " was" : "s were", TABLE_COLUMNS_MAX - 1);
}

/* --- what was cut off ---------------------------------------------------------------------------------- */

/* What a device held before a change. */
static json_t *values_before(const char *path)
{
    struct eb_backup_file file = {.count = 0};
    struct eb_problem unused = {.text = ""};
    char *text = eb_backup_read(path, &file, &unused) ? eb_job_backup_settings(&file) : NULL;
    json_t *values = text != NULL ? json_loads(text, 0, NULL) : NULL;
    eb_backup_free(&file);
    free(text);
    return values;
}

/* Where each setting is as it was to be, or each as it was before, nothing is left to do. */
static void say_cut_off(const struct eb_job_device *t)
{
    char backup[EB_PATH_BYTES];
    char *text = eb_job_cut_off(t, backup);
    json_t *wanted = text != NULL ? json_loads(text, 0, NULL) : NULL;
    json_t *before = wanted != NULL ? values_before(backup) : NULL;
    char call[SENTENCE_BYTES / 2] = "";
    const char *name;
    json_t *value;
    size_t done = 0;
    size_t open = 0;
    bool untouched = true;
    free(text);
    json_object_foreach(wanted, name, value)
    {
        const struct eb_job_setting *one = eb_job_setting(t, name);
        const char *wish = json_string_value(value);
        const char *was = json_string_value(json_object_get(before, name));
        bool read = one != NULL && one->read;
        bool is = read && eb_setting_same(one->setting, wish, one->text, 0);
        size_t at = strlen(call);
        char word[EB_SETTING_BYTES + EB_NAME_BYTES];
        done += is;
        open += !is;
        untouched = untouched && read && was != NULL && strcmp(was, one->text) == 0;
        snprintf(word, sizeof word, "%s=%s", name, wish);
        if (!is)
            snprintf(call + at, sizeof call - at, " %s", eb_job_word(word));
    }
    json_decref(before);
    if (wanted == NULL)
        return;
    json_decref(wanted);
    if (open == 0 || untouched) {
        fprintf(stderr, "einbau: %s: the change that was cut off %s\n", t->device->name,
                open == 0 ? "is complete: it holds all that was wanted"
                          : "has changed nothing: it holds what it held before");
        eb_job_forget_cut_off(t);
        return;
    }
    complain("%s: a change of its settings was cut off: %zu of %zu are as wanted. To finish it: einbau "
             "settings %s%s. To take it back: einbau settings %s --load %s",
             t->device->name, done, done + open, eb_job_word(t->device->name), call,
             eb_job_word(t->device->name), eb_job_word(backup));
}

/* --- changed ------------------------------------------------------------------------------------------- */

static size_t print_changes(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "SETTING", "NOW", "", "THEN", "MARKS"};
    struct table table;
    size_t changes = 0;
    table_begin(&table, 6, heads);
    table.plain = 6;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        for (size_t k = 0; wish_has(t) && k < t->settings->count; k++) {
            const struct eb_job_setting *one = &t->settings->list[k];
            char now[EB_SETTING_BYTES + 32];
            char then[EB_SETTING_BYTES + 32];
            char marks[EB_SETTING_BYTES + 64];
            if (!one->changes)
                continue;
            marks_text(one, NULL, marks, sizeof marks);
            const char *const cells[] = {t->device->name,
                                         one->setting->at->name,
                                         value_text(one, one->text, now),
                                         "->",
                                         value_text(one, one->wanted, then),
                                         marks};
            table_add(&table, cells);
            changes++;
        }
    }
    if (s->options->json || changes == 0)
        table_free(&table);
    else
        table_print(&table);
    fflush(stdout);
    return changes;
}

/* Each safety setting by itself: its new value is typed. */
static bool confirm_safety(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        for (size_t k = 0; wish_has(t) && k < t->settings->count; k++) {
            const struct eb_job_setting *one = &t->settings->list[k];
            char typed[EB_SETTING_BYTES + 2] = "";
            if (!one->changes || !one->setting->safety)
                continue;
            char question[SENTENCE_BYTES / 2];
            snprintf(question, sizeof question,
                     "%s: %s is a safety setting. Type its new value to confirm it:", t->device->name,
                     one->setting->at->name);
            if (!session_types(s, typed, sizeof typed, question)) {
                complain("%s: %s is a safety setting, which is confirmed by typing its value on a terminal; "
                         "--yes does not do that. Nothing was written",
                         t->device->name, one->setting->at->name);
                s->status = EXIT_NOT_AS_WANTED;
                return false;
            }
            if (strcmp(typed, one->wanted) != 0) {
                complain("%s: found '%s' for %s, expected %s. Nothing was written", t->device->name, typed,
                         one->setting->at->name, one->wanted);
                s->status = EXIT_NOT_AS_WANTED;
                return false;
            }
        }
    }
    return true;
}

static const char *result_word(enum eb_document_state state)
{
    return state == EB_DOCUMENT_THERE || state == EB_DOCUMENT_PUT_BACK ? "confirmed"
           : state == EB_DOCUMENT_DIFFERS                              ? "differs"
           : state == EB_DOCUMENT_FAILED                               ? "failed"
                                                                       : "not written";
}

/* Of one that is not as wanted: what was read back, and why. */
static void say_change(const struct session *s, const struct eb_job_device *t, const void *context,
                       char text[SENTENCE_BYTES])
{
    const size_t *index = context;
    (void)s;
    if (!t->begun || t->settings == NULL || *index >= t->settings->count)
        return;
    const struct eb_job_setting *one = &t->settings->list[*index];
    const char *name = one->setting->at->name;
    if (one->changes && one->state == EB_DOCUMENT_DIFFERS)
        snprintf(text, SENTENCE_BYTES,
                 "%s was written as %s, and %s was read back: the device may keep only some "
                 "values, or needs a restart for it",
                 name, one->wanted, one->read ? one->text : "nothing that can be understood");
    else if (one->changes && one->state == EB_DOCUMENT_FAILED)
        snprintf(text, SENTENCE_BYTES, "%s: %s: %s", name, one->error.where != NULL ? one->error.where : "",
                 one->error.text[0] != '\0' ? one->error.text : eb_status_word(one->error.status));
}

/* What each is now, as it was read back. */
static void print_results(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "SETTING", "WAS", "", "IS", "RESULT"};
    struct table table;
    table_begin(&table, 6, heads);
    table.plain = 5;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        for (size_t k = 0; t->begun && t->settings != NULL && k < t->settings->count; k++) {
            const struct eb_job_setting *one = &t->settings->list[k];
            char was[EB_SETTING_BYTES + 32];
            char now[EB_SETTING_BYTES + 32];
            bool known = one->read && one->known;
            if (!one->changes)
                continue;
            const char *const cells[] = {t->device->name,
                                         one->setting->at->name,
                                         value_text(one, one->before, was),
                                         "->",
                                         known ? value_text(one, one->text, now) : "unknown",
                                         result_word(one->state)};
            table_add(&table, cells);
        }
    }
    puts("");
    table_print(&table);
}

static void say_back(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->begun && t->settings != NULL && t->settings->kept.path[0] != '\0' && !eb_job_settings_good(t))
        snprintf(text, SENTENCE_BYTES, "what it held before is kept: einbau settings %s --load %s",
                 eb_job_word(t->device->name), eb_job_word(t->settings->kept.path));
}

static bool change(struct session *s)
{
    size_t devices = 0;
    char question[96];
    if (print_changes(s) == 0) {
        if (!s->options->json)
            say("Nothing to change: the devices hold these values already.");
        return true;
    }
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        bool any = false;
        for (size_t k = 0; wish_has(t) && k < t->settings->count; k++)
            any = any || t->settings->list[k].changes;
        devices += any;
    }
    snprintf(question, sizeof question, "Change this on %zu device%s?", devices, devices == 1 ? "" : "s");
    if (!job_lock_devices(s) || !confirm_safety(s) || !session_may(s, question, "nothing was written"))
        return false;
    eb_job_plan_changes(s->job);
    if (!job_begin(s, "nothing was written") || !session_carry_out(s, true))
        return false;
    if (!s->options->json) {
        print_results(s);
        for (size_t k = 0; k < EB_SETTINGS_MAX; k++)
            say_folded(s, say_change, &k, NULL);
        say_folded(s, say_run, NULL, NULL);
        say_folded(s, say_back, NULL, NULL);
    }
    return true;
}

/* ------------------------------------------------------------------------------------------------- */

/* Devices and "NAME=VALUE" among the words of the call. */
struct words {
    char *names[256], *assignments[EB_SETTINGS_MAX];
    size_t name_count, assignment_count;
};

static bool sort_words(const struct options *given, struct words *w)
{
    for (size_t i = 0; i < given->name_count; i++) {
        bool assignment = strchr(given->names[i], '=') != NULL;
        if (assignment ? w->assignment_count == EB_SETTINGS_MAX : w->name_count == 255) {
            complain("found too many words, expected at most 255 devices and 32 settings");
            return false;
        }
        if (assignment)
            w->assignments[w->assignment_count++] = given->names[i];
        else
            w->names[w->name_count++] = given->names[i];
    }
    for (size_t i = 0; i < w->assignment_count; i++) {
        size_t size = strcspn(w->assignments[i], "=") + 1;
        for (size_t k = 0; k < i; k++) {
            if (strncmp(w->assignments[i], w->assignments[k], size) == 0) {
                complain("found '%s' and '%s', expected each setting once", w->assignments[k],
                         w->assignments[i]);
                return false;
            }
        }
    }
    if (w->assignment_count > 0 && wishes.only_count > 0) {
        complain("found NAME=VALUE and --only, expected one of them");
        return false;
    }
    if (w->name_count == 0) {
        complain("found no device, expected one or several: einbau settings DEVICE");
        return false;
    }
    if ((w->assignment_count > 0) + (wishes.copy_from != NULL) + (wishes.load_from != NULL) +
            (since != NULL) >
        1) {
        complain("expected only one of NAME=VALUE, --copy-from, --load and --since");
        return false;
    }
    if (wishes.copy_from != NULL)
        w->names[w->name_count++] = (char *)wishes.copy_from;
    return true;
}

static bool read_all(struct session *s)
{
    bool any = false;
    if (!job_lock_addresses(s) || !session_look(s))
        return false;
    eb_job_plan_settings(s->job);
    for (size_t i = 0; i < s->job->count; i++)
        any = any || s->job->devices[i].puts_back;
    if (any && !eb_job_recover(s->job))
        return session_failed(s);
    for (size_t i = 0; i < s->job->count; i++) {
        if (wish_has(&s->job->devices[i]))
            say_cut_off(&s->job->devices[i]);
    }
    return true;
}

static json_t *settings_document(const struct session *s)
{
    json_t *devices = json_array();
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        char *text = t->settings != NULL ? eb_job_describe_settings(t) : NULL;
        const struct eb_identity *id = &t->look.identity;
        json_array_append_new(
            devices,
            json_pack("{s:s, s:b, s:o, s:o, s:s, s:o, s:o}", "name", t->device->name, "reached", t->reached,
                      "order_code", text_or_null(t->reached ? id->order_code : ""), "serial",
                      text_or_null(t->reached ? id->serial : ""), "outcome",
                      t->settings != NULL && t->puts_back && t->settings->change == EB_CHANGE_SETTINGS
                          ? eb_outcome_word(eb_job_outcome(t))
                          : "none",
                      "backup", text_or_null(t->settings != NULL ? t->settings->kept.path : ""), "settings",
                      text != NULL ? json_loads(text, 0, NULL) : json_array()));
        free(text);
    }
    return json_pack("{s:s, s:s, s:o}", "einbau", "settings/1", "site", s->job->site->name, "devices",
                     devices);
}

/* Whether all that was asked for is known, or was done. */
static int status_of(const struct session *s, bool changes)
{
    bool good = true;
    bool reached = false;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        reached = reached || t->answered;
        bool changed =
            changes && t->settings != NULL && t->puts_back && t->settings->change == EB_CHANGE_SETTINGS;
        good = good && t->reached && t->settings != NULL && (!changed || eb_job_settings_good(t));
        for (size_t k = 0; good && !changed && t->settings != NULL && k < t->settings->count; k++)
            good = t->settings->list[k].read || !wish_meant(&wishes, t->settings->list[k].setting->at->name);
    }
    return exit_status(reached, good);
}

static bool show(struct session *s)
{
    size_t devices = 0;
    const struct eb_job_device *one = NULL;
    for (size_t i = 0; i < s->job->count; i++) {
        if (wish_has(&s->job->devices[i])) {
            one = &s->job->devices[i];
            devices++;
        }
    }
    if (devices > 1 && since == NULL) {
        compare(s);
        return true;
    }
    for (size_t i = 0; i < s->job->count && one != NULL; i++) {
        if (wish_has(&s->job->devices[i]) && !show_one(s, &s->job->devices[i])) {
            s->status = EXIT_WRONG_CALL;
            return false;
        }
    }
    return true;
}

static int run(const struct options *given)
{
    struct session s;
    struct options own = *given;
    struct words words = {.name_count = 0};
    if (!sort_words(given, &words))
        return EXIT_WRONG_CALL;
    own.names = words.names;
    own.name_count = words.name_count;
    own.names_devices = true;
    if (!session_open(&s, &own) || !all_known(&s) || !read_all(&s))
        return session_close(&s, s.status);
    bool changes = words.assignment_count > 0 || wishes.copy_from != NULL || wishes.load_from != NULL;
    bool good = !changes                     ? own.json || show(&s)
                : words.assignment_count > 0 ? wish_assignments(&s, words.assignments, words.assignment_count)
                : wishes.copy_from != NULL   ? wish_copy(&s, &wishes)
                                             : wish_file(&s, &wishes);
    if (!good || (changes && !change(&s)))
        return session_close(&s, s.status);
    if (own.json)
        print_document(settings_document(&s));
    if (!own.json) {
        say_folded(&s, say_look, NULL, NULL);
        say_folded(&s, say_without, NULL, NULL);
        for (size_t k = 0; k < EB_SETTINGS_MAX; k++)
            say_folded(&s, say_unread, &k, NULL);
    }
    return session_close(&s, status_of(&s, changes));
}

static const struct option_row option_copy_from = {
    "copy-from", "DEVICE",    "copy the settings of this device, but never what is unique to it",
    2,           OPTION_TEXT, .own = (void *)&wishes.copy_from};
static const struct option_row option_load = {
    "load", "FILE",      "take the settings from a file: of 'settings --json', or a backup",
    2,      OPTION_TEXT, .own = (void *)&wishes.load_from};
static const struct option_row option_since = {"since", "BACKUP",    "what has changed since this backup",
                                               2,       OPTION_TEXT, .own = (void *)&since};
static const struct option_row only_setting = {
    "only",
    "NAME",
    "only this setting; several times, and with '*' for any characters",
    2,
    OPTION_LIST,
    .own = (void *)&wishes.only,
    .own_count = &wishes.only_count};
static const struct option_row *const settings_options[] = {
    &option_copy_from, &option_load,        &option_since,    &only_setting,
    &option_yes,       &option_add_address, &option_key_file, NULL};

const struct command command_settings = {
    .name = "settings",
    .arguments = "DEVICE... [NAME=VALUE...]",
    .summary = "shows, compares, changes and copies settings of devices",
    .help =
        "Of one device: its settings, what each may be, and what has changed since its newest backup on this "
        "laptop. Of several: where they differ. NAME=VALUE changes a setting: checked first, shown as now -> "
        "then, asked, written, restarted where that is needed, and read back. What the device held before is "
        "kept as a backup. A safety setting is confirmed by typing its value. Name and address are set by "
        "'einbau set'.\v"
        "Examples:\n  einbau settings --site larchfell.site.yaml pa-valley\n"
        "  einbau settings --site larchfell.site.yaml pa-valley gain=-3\n"
        "  einbau settings --site larchfell.site.yaml --copy-from pa-valley pa-middle --only 'input-*'\n\n"
        "Exit status 0 only where all settings were read, or all changes were read back.",
    .takes = NEEDS_NAMES,
    .options = settings_options,
    .run = run,
};
