/* What keeps a plant whole: a lock on each device that is worked on, and a row in the record before each
 * effect; and what jobs that did not end left behind. */
#include "session.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* A simulated world without --state ends with the process, and its devices are nobody else's. */
static bool outlives(const struct session *s)
{
    return s->sim == NULL || s->options->state != NULL;
}

/* --- keys ---------------------------------------------------------------------------------------- */

void eb_job_ip_key(const struct eb_endpoint *modbus, char key[EB_LOCK_KEY_BYTES])
{
    char text[EB_ENDPOINT_TEXT_BYTES];
    eb_endpoint_text(modbus, true, text);
    snprintf(key, EB_LOCK_KEY_BYTES, "ip %s", text);
}

void eb_job_mac_key(const uint8_t mac[EB_MAC_BYTES], char key[EB_LOCK_KEY_BYTES])
{
    char text[EB_MAC_TEXT_BYTES];
    eb_mac_text(mac, text);
    snprintf(key, EB_LOCK_KEY_BYTES, "mac %s", text);
}

void address_key(const struct session *s, const struct eb_job_device *t, char key[EB_LOCK_KEY_BYTES])
{
    char place[EB_PLACE_TEXT_BYTES];
    const struct eb_site_device *d = t->device;
    eb_site_place_text(d, place);
    if (target_on_ip(t))
        eb_job_ip_key(&d->modbus, key);
    else if (target_on_bus(t))
        snprintf(key, EB_LOCK_KEY_BYTES, "can %.90s %s", eb_job_adapter(s->job, d->wire), place);
    else
        snprintf(key, EB_LOCK_KEY_BYTES, "usb %s %s", place, d->serial);
}

void unit_key(const struct session *s, const struct eb_job_device *t, char key[EB_LOCK_KEY_BYTES])
{
    const char *serial = t->look.identity.serial;
    if (t->look.identified && serial[0] != '\0')
        snprintf(key, EB_LOCK_KEY_BYTES, "unit %s %s", t->device->profile->order_codes[0], serial);
    else
        address_key(s, t, key);
}

/* --- texts --------------------------------------------------------------------------------------- */

void eb_job_local_time(const char *iso, char *text, size_t cap)
{
    struct tm parts = {0};
    struct tm local;
    if (strptime(iso, "%Y-%m-%dT%H:%M:%SZ", &parts) == NULL) {
        snprintf(text, cap, "an unknown time");
        return;
    }
    time_t seconds = timegm(&parts);
    strftime(text, cap, "%Y-%m-%d %H:%M", localtime_r(&seconds, &local));
}

void eb_job_holder_text(const struct eb_lock_holder *holder, char *text, size_t cap)
{
    char since[32];
    eb_job_local_time(holder->since, since, sizeof since);
    snprintf(text, cap, "einbau %s (process %ld, since %s)", holder->command, holder->process, since);
}

void left_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_left *l = t->left;
    char began[32];
    char what[160];
    const char *name = eb_job_word(t->device->name);
    eb_job_local_time(l->began, began, sizeof began);
    bool in_loader = t->reached && t->look.in_loader;
    bool ended = strcmp(l->kind, "end") == 0; /* and said so itself */
    if (strcmp(l->kind, "prepare") == 0)
        snprintf(what, sizeof what, "it had begun to stop the program");
    else if (strcmp(l->kind, "send") == 0)
        snprintf(what, sizeof what, "it was writing %s %s", l->component, l->version);
    else if (strcmp(l->kind, "activate") == 0)
        snprintf(what, sizeof what, "it was restarting the device with %s %s", l->component, l->version);
    else
        snprintf(what, sizeof what, "it was starting the program again");
    snprintf(text, cap, "%s by a job on %s (einbau %s, process %ld) that %s%s. ",
             in_loader           ? "left in the loader"
             : eb_job_stopped(t) ? "left stopped"
                                 : "left unfinished",
             began, l->command, l->process,
             ended ? "could not start its program again" : "did not end: ", ended ? "" : what);
    size_t at = strlen(text);
    bool sending = strcmp(l->kind, "send") == 0;
    if (in_loader)
        snprintf(text + at, cap - at, "'einbau fit %s' writes it again", name);
    else
        snprintf(text + at, cap - at, "'einbau recover %s' starts the program%s%s%s", name,
                 sending ? "; 'einbau fit " : "", sending ? name : "", sending ? "' writes it anew" : "");
}

/* --- locks --------------------------------------------------------------------------------------- */

static bool open_locks(struct session *s)
{
    if (s->job->locks == NULL && s->sim == NULL)
        s->job->locks = eb_locks_open(s->options->command, &s->job->problem);
    return s->job->locks != NULL || s->sim != NULL;
}

bool job_lock(struct session *s, const char *name, const char *key)
{
    struct eb_lock_holder holder;
    char who[160];
    if (s->sim != NULL)
        return true;
    enum eb_status status = open_locks(s) ? eb_locks_take(s->job->locks, key, &holder, &s->job->problem) : EB_IO;
    if (status == EB_OK)
        return true;
    if (status == EB_BUSY) {
        eb_job_holder_text(&holder, who, sizeof who);
        complain("%s: %s is working on it. Wait until that has ended%s%s. Nothing was changed", name, who,
                 s->job->count > 1 ? ", or leave the device out: --without " : "",
                 s->job->count > 1 ? eb_job_word(name) : "");
        s->status = EXIT_NOT_AS_WANTED;
    } else {
        complain("%s. Nothing was changed", s->job->problem.text);
        s->status = EXIT_WRONG_CALL;
    }
    return false;
}

bool job_lock_addresses(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        char key[EB_LOCK_KEY_BYTES];
        const struct eb_site_device *d = s->job->devices[i].device;
        if (!s->job->devices[i].chosen)
            continue;
        address_key(s, &s->job->devices[i], key);
        if (!job_lock(s, d->name, key))
            return false;
        eb_job_mac_key(d->mac, key);
        if (d->has_mac && !job_lock(s, d->name, key))
            return false;
    }
    return true;
}

/* Those that nothing is done to are anybody's again. */
bool job_lock_devices(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        char key[EB_LOCK_KEY_BYTES];
        bool needed = t->chosen && (t->item_count > 0 || t->recovers);
        address_key(s, t, key);
        if (s->job->locks != NULL && !needed)
            eb_locks_release(s->job->locks, key);
        eb_job_mac_key(t->device->mac, key);
        if (s->job->locks != NULL && !needed)
            eb_locks_release(s->job->locks, key);
        unit_key(s, t, key);
        if (needed && !job_lock(s, t->device->name, key))
            return false;
    }
    return true;
}

/* --- the record ---------------------------------------------------------------------------------- */

static bool open_record(struct session *s, bool make)
{
    char folder[EB_PATH_BYTES];
    if (s->job->record != NULL)
        return true;
    s->job->problem.text[0] = '\0';
    if (!session_state_dir(s, folder)) {
        snprintf(
            s->job->problem.text, sizeof s->job->problem.text,
            "found no folder for the record of jobs, expected --state DIR, or the variable XDG_STATE_HOME or "
            "HOME");
        return false;
    }
    s->job->record = eb_record_open(folder, make, &s->job->problem);
    return s->job->record != NULL;
}

bool job_begin(struct session *s, const char *nothing)
{
    if (!outlives(s) || s->job->recording)
        return true;
    s->job->recording = open_record(s, true) && eb_record_begin(s->job->record, s->options->command,
                                                           s->job->site != NULL ? s->job->site->name : "", &s->job->problem);
    if (s->job->recording)
        return true;
    complain(
        "the record of jobs cannot be written, so %s. Without it nobody could tell what a job that is cut "
        "off leaves behind: %s. Make room there, or name another folder with --state",
        nothing, s->job->problem.text);
    s->status = EXIT_WRONG_CALL;
    return false;
}

void job_end(struct session *s, int status)
{
    static const char *const words[] = {"as wanted", "not as wanted", "wrong call", "not reached",
                                        "interrupted"};
    if (s->job->recording && !eb_record_end(s->job->record, words[status], &s->job->problem))
        complain("the end of this job could not be written into the record: %s", s->job->problem.text);
    s->job->recording = false;
}

/* What the images that it got now say of older ones: that holds from now on. */
static void raise_floors(struct session *s, const struct eb_job_device *t)
{
    for (size_t i = 0; s->job->known != NULL && i < t->item_count; i++) {
        const struct eb_run_item *item = &t->items[i];
        if (item->image->floor[0] != '\0' &&
            !eb_known_raise_floor(s->job->known, &t->look.identity, item->component, item->image->floor,
                                  &s->job->problem))
            complain("the floor of %s cannot be remembered: %s", t->device->name, s->job->problem.text);
    }
}

static bool on_effect(void *context, const struct eb_run *run, const struct eb_run_record *record)
{
    static const char *const kinds[] = {"prepare", "send", "activate", "undo", "end"};
    struct session *s = context;
    const struct eb_job_device *t = NULL;
    char address[EB_LOCK_KEY_BYTES];
    char unit[EB_LOCK_KEY_BYTES];
    char checksum[16] = "";
    char error[512] = "";
    for (size_t i = 0; i < s->job->count; i++)
        t = run == &s->job->devices[i].fit ? &s->job->devices[i] : t;
    if (t == NULL)
        return false;
    const struct eb_run_item *item =
        record->item < run->config.count ? &run->config.items[record->item] : NULL;
    bool ended = record->effect == EB_EFFECT_END;
    address_key(s, t, address);
    unit_key(s, t, unit);
    if (item != NULL)
        snprintf(checksum, sizeof checksum, "%08x", item->checksum);
    if (ended && run->error.status != EB_OK)
        error_sentence(run, error, sizeof error);
    const struct eb_record_row row = {
        .kind = kinds[record->effect],
        .unit = unit,
        .site = s->job->site->name,
        .device = t->device->name,
        .serial = t->look.identity.serial,
        .order_code = t->look.identity.order_code,
        .profile = t->device->profile->name,
        .link = t->device->link,
        .address = address,
        .component = item != NULL ? item->component->name : "",
        .version = item != NULL ? item->image->version : "",
        .checksum = checksum,
        .outcome = ended ? eb_outcome_word(run->outcome) : "",
        .error = error,
        .left = run->left,
    };
    if (ended && run->outcome == EB_OUTCOME_CONFIRMED)
        raise_floors(s, t);
    if (eb_record_add(s->job->record, &row, &s->job->problem))
        return true;
    complain("%s: the record of jobs cannot be written: %s", t->device->name, s->job->problem.text);
    return false;
}

void job_attach(struct session *s, struct eb_run_config *config)
{
    if (!s->job->recording)
        return;
    config->effect = on_effect;
    config->effect_context = s;
}

bool job_note_address(struct session *s, const char *kind, const char *link, const char *address)
{
    char unit[EB_LOCK_KEY_BYTES];
    snprintf(unit, sizeof unit, "address %s %s", link, address);
    if (!outlives(s))
        return true;
    if (!job_begin(s, "no address was added") || !job_lock(s, address, unit))
        return false;
    const struct eb_record_row row = {.kind = kind,
                                      .unit = unit,
                                      .link = link,
                                      .address = unit,
                                      .site = s->job->site != NULL ? s->job->site->name : ""};
    if (eb_record_add(s->job->record, &row, &s->job->problem))
        return true;
    complain("the record of jobs cannot be written: %s", s->job->problem.text);
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* --- what was left behind ------------------------------------------------------------------------ */

static bool is_left_of(const struct session *s, const struct eb_job_device *t, const struct eb_left *l)
{
    char unit[EB_LOCK_KEY_BYTES];
    char address[EB_LOCK_KEY_BYTES];
    unit_key(s, t, unit);
    address_key(s, t, address);
    bool told = t->look.identified && t->look.identity.serial[0] != '\0';
    return strcmp(l->unit, unit) == 0 || (!told && strcmp(l->address, address) == 0);
}

static void find_worker(struct session *s, struct eb_job_device *t)
{
    char key[EB_LOCK_KEY_BYTES];
    t->worked_on = false;
    if (s->job->locks == NULL || (!t->chosen && !t->asked))
        return;
    address_key(s, t, key);
    t->worked_on = eb_locks_held(s->job->locks, key, &t->worker);
    unit_key(s, t, key);
    t->worked_on = t->worked_on || eb_locks_held(s->job->locks, key, &t->worker);
}

/* Leaves out what belongs to jobs that still go on. */
static void drop_living(struct session *s)
{
    size_t kept = 0;
    for (size_t i = 0; i < s->job->left_count; i++) {
        struct eb_lock_holder holder;
        bool living = s->job->locks != NULL && (eb_locks_held(s->job->locks, s->job->lefts[i].unit, &holder) ||
                                           eb_locks_held(s->job->locks, s->job->lefts[i].address, &holder));
        if (!living)
            s->job->lefts[kept++] = s->job->lefts[i];
    }
    s->job->left_count = kept;
}

void job_find_left(struct session *s)
{
    free(s->job->lefts);
    s->job->lefts = NULL;
    s->job->left_count = 0;
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].left = NULL;
    if (!outlives(s))
        return;
    if (!open_locks(s))
        complain("%s. Who else works on the devices is not known", s->job->problem.text);
    for (size_t i = 0; i < s->job->count; i++)
        find_worker(s, &s->job->devices[i]);
    if ((!open_record(s, false) && s->job->problem.text[0] != '\0') ||
        (s->job->record != NULL && !eb_record_left(s->job->record, &s->job->lefts, &s->job->left_count, &s->job->problem))) {
        complain("what earlier jobs left behind is not known: %s", s->job->problem.text);
        return;
    }
    drop_living(s);
    for (size_t i = 0; i < s->job->count; i++) {
        for (size_t k = 0; k < s->job->left_count; k++) {
            if (is_left_of(s, &s->job->devices[i], &s->job->lefts[k]))
                s->job->devices[i].left = &s->job->lefts[k];
        }
    }
}
