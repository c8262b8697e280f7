/* What settings of devices shall be: by words of the call, by another device, by a file. */
#include "session/wishes.h"
#include "session/history.h"
#include "ui/table.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool is(const json_t *object, const char *key, const char *text)
{
    return strcmp(history_text(object, key), text) == 0;
}

bool wish_meant(const struct wishes *w, const char *name)
{
    bool meant = w->only_count == 0;
    for (size_t i = 0; i < w->only_count; i++)
        meant = meant || eb_pattern_matches(w->only[i], name);
    return meant;
}

bool wish_has(const struct eb_job_device *t)
{
    return t->chosen && t->settings != NULL && t->begun;
}

const struct eb_job_setting *wish_setting(const struct eb_job_device *t, const char *name)
{
    return wish_has(t) ? eb_job_setting(t, name) : NULL;
}

void wish_list(char *text, size_t cap, const char *word)
{
    size_t at = strlen(text);
    snprintf(text + at, cap - at, "%s%s", at > 0 ? ", " : "", word);
}

/* --- what is wanted ------------------------------------------------------------------------------------ */

static bool refuse(struct session *s, const struct eb_job_device *t, const char *why)
{
    complain("%s: %s. Nothing was written", t->device->name, why);
    s->status = EXIT_NOT_AS_WANTED;
    return false;
}

/* An address of the site's that another device has. */
static const struct eb_site_device *owner_of(const struct session *s, const struct eb_job_device *t,
                                             const char *address)
{
    struct eb_endpoint endpoint = {.port = 0};
    if (!eb_endpoint_parse(&endpoint, address))
        return NULL;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *other = &s->job->devices[i];
        if (other != t && target_on_ip(other) &&
            memcmp(other->device->modbus.ip, endpoint.ip, sizeof endpoint.ip) == 0)
            return other->device;
    }
    return NULL;
}

/* Whether anything on the wire has the address already. */
static bool is_free(struct session *s, const struct eb_job_device *t, const char *name, const char *address)
{
    struct eb_endpoint endpoint = {.port = 0};
    char mac[EB_MAC_TEXT_BYTES];
    char why[SENTENCE_BYTES / 2];
    if (!target_on_ip(t) || !eb_endpoint_parse(&endpoint, address))
        return true;
    enum eb_status status = address_answers(s, endpoint.ip, mac);
    if (status == EB_OK) {
        snprintf(why, sizeof why, "found %s=%s, which %s answers to, expected a free address", name, address,
                 mac);
        return refuse(s, t, why);
    }
    if (status != EB_NO_ANSWER)
        complain("%s: whether %s is free cannot be asked on the wire (%s)", t->device->name, address,
                 eb_status_word(status));
    return true;
}

static bool want(struct session *s, struct eb_job_device *t, const char *name, const char *value)
{
    struct eb_problem problem;
    if (!eb_job_want_setting(t, name, value, &problem))
        return refuse(s, t, problem.text);
    const struct eb_job_setting *one = eb_job_setting(t, name);
    const struct eb_site_device *owner =
        one->setting->unique && one->setting->kind == EB_SETTING_ADDRESS ? owner_of(s, t, one->wanted) : NULL;
    if (owner != NULL) {
        char why[SENTENCE_BYTES / 2];
        snprintf(why, sizeof why, "found %s=%s, which %s has on this site, expected a free address", name,
                 one->wanted, owner->name);
        return refuse(s, t, why);
    }
    if (one->setting->unique && one->setting->kind == EB_SETTING_ADDRESS && one->changes &&
        !is_free(s, t, name, one->wanted))
        return false;
    for (size_t i = 0; i < s->job->count && one->setting->unique; i++) {
        const struct eb_job_device *other = &s->job->devices[i];
        const struct eb_job_setting *same = other != t ? wish_setting(other, name) : NULL;
        const char *has = same == NULL ? NULL : same->changes ? same->wanted : same->read ? same->text : NULL;
        if (has != NULL && strcmp(has, one->wanted) == 0) {
            char why[SENTENCE_BYTES / 2];
            snprintf(why, sizeof why, "found %s=%s, the same as for %s, expected another one: it is unique",
                     name, one->wanted, other->device->name);
            return refuse(s, t, why);
        }
    }
    return true;
}

bool wish_assignments(struct session *s, char *const *words, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        const char *mark = strchr(words[i], '=');
        char name[EB_NAME_BYTES];
        snprintf(name, sizeof name, "%.*s", (int)(mark - words[i]), words[i]);
        for (size_t k = 0; k < s->job->count; k++) {
            struct eb_job_device *t = &s->job->devices[k];
            if (wish_has(t) && !want(s, t, name, mark + 1))
                return false;
        }
    }
    return true;
}

/* Whether settings of such a device suit this one. */
static bool suits(const struct eb_job_device *t, const char *order_code)
{
    const struct eb_strings *from = &t->device->profile->settings_from;
    bool same = strcmp(order_code, t->look.identity.order_code) == 0;
    for (size_t i = 0; i < from->count && !same; i++)
        same = eb_pattern_matches(from->list[i], order_code);
    return same;
}

/* Takes values over; `own`: they are this very device's.  Unique ones stay as they are, else. */
static bool want_all(struct session *s, const struct wishes *w, struct eb_job_device *t, const json_t *values,
                     const char *order_code, bool own, const char *from)
{
    const char *name;
    json_t *value;
    char left[SENTENCE_BYTES / 2] = "";
    if (!suits(t, order_code)) {
        char why[SENTENCE_BYTES / 2];
        snprintf(why, sizeof why,
                 "found settings of order code '%s' (%s), expected '%s', or one that the key "
                 "'settings-from' of profile %s names",
                 order_code, from, t->look.identity.order_code, t->device->profile->name);
        return refuse(s, t, why);
    }
    json_object_foreach((json_t *)values, name, value)
    {
        const struct eb_job_setting *one = eb_job_setting(t, name);
        bool stays = one != NULL && (one->setting->read_only || one->setting->kind == EB_SETTING_TIME ||
                                     (one->setting->unique && !own));
        if (!wish_meant(w, name))
            continue;
        if (one != NULL && one->setting->unique && !own && w->only_count > 0) {
            char why[SENTENCE_BYTES / 2];
            snprintf(why, sizeof why, "%s is never copied: it is unique to each device", name);
            return refuse(s, t, why);
        }
        if (one == NULL || !json_is_string(value))
            wish_list(left, sizeof left, name);
        else if (!stays && !want(s, t, name, json_string_value(value)))
            return false;
    }
    if (left[0] != '\0')
        fprintf(stderr, "einbau: %s: left out, as it has no such setting: %s\n", t->device->name, left);
    return true;
}

static json_t *values_of(const struct eb_job_device *t)
{
    json_t *values = json_object();
    for (size_t i = 0; i < t->settings->count; i++) {
        if (t->settings->list[i].read)
            json_object_set_new(values, t->settings->list[i].setting->at->name,
                                json_string(t->settings->list[i].text));
    }
    return values;
}

bool wish_copy(struct session *s, const struct wishes *w)
{
    struct eb_job_device *from = eb_job_device(s->job, w->copy_from);
    if (!wish_has(from)) {
        complain("%s: its settings could not be read, so that nothing was copied", w->copy_from);
        s->status = EXIT_NOT_AS_WANTED;
        return false;
    }
    json_t *values = values_of(from);
    bool good = true;
    for (size_t i = 0; i < s->job->count && good; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (t != from && wish_has(t))
            good = want_all(s, w, t, values, from->look.identity.order_code, false, w->copy_from);
    }
    json_decref(values);
    return good;
}

static bool wrong_file(struct session *s, const struct wishes *w, const char *why)
{
    complain("%s: %s. Nothing was written", w->load_from, why);
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* The values of one entry of a document by 'settings --json'. */
static json_t *values_in(const json_t *device)
{
    json_t *values = json_object();
    size_t i;
    const json_t *one;
    json_array_foreach(json_object_get(device, "settings"), i, one)
    {
        const char *name = json_string_value(json_object_get(one, "name"));
        json_t *value = json_object_get(one, "value");
        if (name != NULL && json_is_string(value) && eb_text_printable(name))
            json_object_set(values, name, value);
    }
    return values;
}

static bool want_document(struct session *s, const struct wishes *w, const json_t *root)
{
    const json_t *devices = json_object_get(root, "devices");
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    bool good = true;
    if (kind == NULL || strcmp(kind, "settings/1") != 0 || json_array_size(devices) == 0)
        return wrong_file(
            s, w, "found no settings in it, expected what 'einbau settings --json' prints, or a backup");
    for (size_t i = 0; i < s->job->count && good; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        const json_t *device = json_array_size(devices) == 1 ? json_array_get(devices, 0) : NULL;
        for (size_t k = 0; k < json_array_size(devices) && device == NULL; k++)
            device =
                is(json_array_get(devices, k), "name", t->device->name) ? json_array_get(devices, k) : NULL;
        if (!wish_has(t))
            continue;
        if (device == NULL)
            return refuse(s, t, "found no device of this name in the file of --load, expected one");
        json_t *values = values_in(device);
        good = want_all(s, w, t, values, history_text(device, "order_code"),
                        is(device, "serial", t->look.identity.serial), w->load_from);
        json_decref(values);
    }
    return good;
}

static bool want_backup(struct session *s, const struct wishes *w)
{
    struct eb_backup_file file = {.count = 0};
    bool read = eb_backup_read(w->load_from, &file, &s->job->problem);
    char *text = read ? eb_job_backup_settings(&file) : NULL;
    json_t *values = text != NULL ? json_loads(text, 0, NULL) : NULL;
    bool good = values != NULL || wrong_file(s, w,
                                             read ? "found no settings in it, expected a backup with settings"
                                                  : s->job->problem.text);
    for (size_t i = 0; i < s->job->count && good; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (wish_has(t))
            good = want_all(s, w, t, values, file.identity.order_code,
                            strcmp(file.identity.serial, t->look.identity.serial) == 0, w->load_from);
    }
    json_decref(values);
    free(text);
    eb_backup_free(&file);
    return good;
}

bool wish_file(struct session *s, const struct wishes *w)
{
    enum { FILE_BYTES = 4 << 20 };
    FILE *file = fopen(w->load_from, "re");
    char first = '\0';
    bool good = file != NULL && fread(&first, 1, 1, file) == 1;
    if (!good) {
        bool there = file != NULL;
        if (there)
            fclose(file);
        return wrong_file(s, w, there ? "found an empty file" : strerror(errno));
    }
    if (first == 'P') { /* a zip */
        fclose(file);
        return want_backup(s, w);
    }
    rewind(file);
    char *bytes = malloc(FILE_BYTES);
    size_t size = bytes != NULL ? fread(bytes, 1, FILE_BYTES, file) : 0;
    fclose(file);
    json_error_t error;
    json_t *root =
        size > 0 && size < FILE_BYTES ? json_loadb(bytes, size, JSON_REJECT_DUPLICATES, &error) : NULL;
    free(bytes);
    good = root != NULL ? want_document(s, w, root) : wrong_file(s, w, "found no JSON and no backup in it");
    json_decref(root);
    return good;
}
