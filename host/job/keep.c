/* What keeps a plant whole: a lock on each device that is worked on, and a row in the record before each
 * effect; and what jobs that did not end left behind. */
#include "job/inside.h"

#include <search.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

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

static void bus_key(const struct eb_job *job, const struct eb_site_link *wire, const char *place,
                    char key[EB_LOCK_KEY_BYTES])
{
    snprintf(key, EB_LOCK_KEY_BYTES, "can %.90s %s", eb_job_adapter(job, wire), place);
}

void eb_job_node_key(const struct eb_job *job, const struct eb_site_link *wire, unsigned node,
                     char key[EB_LOCK_KEY_BYTES])
{
    const struct eb_site_device device = {.node = (uint8_t)node, .wire = wire};
    char place[EB_PLACE_TEXT_BYTES];
    eb_site_place_text(&device, place);
    bus_key(job, wire, place, key);
}

void eb_job_address_key(const struct eb_job *job, const struct eb_job_device *target,
                        char key[EB_LOCK_KEY_BYTES])
{
    char place[EB_PLACE_TEXT_BYTES];
    const struct eb_site_device *d = target->device;
    eb_site_place_text(d, place);
    size_t size;
    if (ebi_job_on_ip(target)) {
        eb_job_ip_key(&d->modbus, key);
        size = strlen(key);
        if (d->slot != 0)
            snprintf(key + size, EB_LOCK_KEY_BYTES - size, " slot %u", d->slot);
    } else if (ebi_job_on_bus(target))
        bus_key(job, d->wire, place, key);
    else
        snprintf(key, EB_LOCK_KEY_BYTES, "usb %s %s", place, d->serial);
}

void eb_job_unit_key(const struct eb_job *job, const struct eb_job_device *target,
                     char key[EB_LOCK_KEY_BYTES])
{
    const char *serial = target->look.identity.serial;
    if (target->look.identified && serial[0] != '\0')
        snprintf(key, EB_LOCK_KEY_BYTES, "unit %s %s", target->device->profile->order_codes[0], serial);
    else
        eb_job_address_key(job, target, key);
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
    if (holder->command[0] == '\0')
        snprintf(text, cap, "another call of einbau"); /* it has begun just now, or is just ending */
    else if (holder->laptop[0] != '\0')
        snprintf(text, cap, "einbau %s of %s on %s (process %ld there, since %s)", holder->command,
                 holder->person, holder->laptop, holder->process, since);
    else
        snprintf(text, cap, "einbau %s (process %ld, since %s)", holder->command, holder->process, since);
}

/* --- locks --------------------------------------------------------------------------------------- */

static bool open_locks(struct eb_job *job)
{
    if (job->locks == NULL && job->config.locks)
        job->locks = eb_locks_open(job->config.command, &job->problem);
    return job->locks != NULL || !job->config.locks;
}

static const char *record_place(const struct eb_job *job)
{
    return job->config.record != NULL ? job->config.record : job->config.state;
}

/* Rows of an earlier job that its server could not take.  This job does not depend on them. */
static void give_waiting(struct eb_job *job)
{
    struct eb_problem problem;
    size_t given = 0;
    if (!eb_record_shared(job->record) || job->config.state == NULL)
        return;
    if (!eb_record_outbox(job->record, job->config.state, &given, &problem))
        ebi_job_warn(
            job,
            "entries of an earlier job, which the record's server could not take then, still wait in "
            "%s/outbox.db: %s",
            job->config.state, problem.text);
    if (given > 0)
        ebi_job_warn(
            job, "%zu entr%s of an earlier job, which the record's server could not take then, %s there now",
            given, given == 1 ? "y" : "ies", given == 1 ? "is" : "are");
}

static bool open_record(struct eb_job *job, bool make)
{
    if (job->record != NULL)
        return true;
    job->problem.text[0] = '\0';
    const char *place = record_place(job);
    if (place == NULL) {
        snprintf(job->problem.text, sizeof job->problem.text,
                 "found no folder for the record of jobs, expected --record DIR, or the variable "
                 "XDG_STATE_HOME or "
                 "HOME");
        return false;
    }
    job->record = eb_record_open(place, make, &job->problem);
    if (job->record != NULL)
        give_waiting(job);
    return job->record != NULL;
}

/* Another call on this laptop, or another laptop of the same record, is at work there. */
static bool is_busy(struct eb_job *job, const char *name, const struct eb_lock_holder *holder)
{
    char who[4 * EB_NAME_BYTES];
    eb_job_holder_text(holder, who, sizeof who);
    return ebi_job_fail(job, EB_BUSY,
                        "%s: %s is working on it. Wait until that has ended%s%s. Nothing was changed", name,
                        who, job->count > 1 ? ", or leave the device out: --without " : "",
                        job->count > 1 ? eb_job_word(name) : "");
}

static bool cannot_lock(struct eb_job *job)
{
    struct eb_problem problem = job->problem;
    return ebi_job_fail(job, EB_IO, "%s. Nothing was changed", problem.text);
}

/* What a key means on other laptops: a serial number is one everywhere, an address on Ethernet in its site,
 * and a bus or a USB port is this laptop's own. */
enum { LEASE_KEY_BYTES = EB_LOCK_KEY_BYTES + EB_NAME_BYTES };

static void lease_key(const struct eb_job *job, const char *key, char text[LEASE_KEY_BYTES])
{
    char laptop[EB_NAME_BYTES] = "";
    bool everywhere = strncmp(key, "unit ", 5) == 0 || strncmp(key, "job ", 4) == 0;
    bool on_site = strncmp(key, "ip ", 3) == 0 || strncmp(key, "mac ", 4) == 0;
    if (!everywhere && !on_site)
        ebi_note_laptop(laptop);
    snprintf(text, LEASE_KEY_BYTES, "%s%s%s", on_site && job->site != NULL ? job->site->name : laptop,
             everywhere ? "" : ": ", key);
}

static bool lease(struct eb_job *job, const char *name, const char *key)
{
    char shared[LEASE_KEY_BYTES];
    struct eb_lock_holder holder;
    char person[EB_NAME_BYTES];
    char laptop[EB_NAME_BYTES];
    const char *place = record_place(job);
    if (!job->config.records || place == NULL || !eb_record_is_server(place))
        return true;
    if (!open_record(job, true))
        return cannot_lock(job);
    ebi_note_person(job, person);
    ebi_note_laptop(laptop);
    lease_key(job, key, shared);
    enum eb_status status =
        eb_record_lease(job->record, shared, job->config.command, person, laptop, &holder, &job->problem);
    return status == EB_OK || (status == EB_BUSY ? is_busy(job, name, &holder) : cannot_lock(job));
}

bool eb_job_lock(struct eb_job *job, const char *name, const char *key)
{
    struct eb_lock_holder holder;
    enum eb_status status = EB_OK;
    if (job->config.locks)
        status = open_locks(job) ? eb_locks_take(job->locks, key, &holder, &job->problem) : EB_IO;
    if (status == EB_OK)
        return lease(job, name, key);
    return status == EB_BUSY ? is_busy(job, name, &holder) : cannot_lock(job);
}

static void unlock(struct eb_job *job, const char *key)
{
    if (job->locks != NULL)
        eb_locks_release(job->locks, key);
    char shared[LEASE_KEY_BYTES];
    lease_key(job, key, shared);
    if (job->record != NULL)
        eb_record_release(job->record, shared);
}

/* Whether another call holds it, on this laptop or on another one. */
static bool is_held(struct eb_job *job, const char *key, struct eb_lock_holder *holder)
{
    char shared[LEASE_KEY_BYTES];
    lease_key(job, key, shared);
    return (job->locks != NULL && eb_locks_held(job->locks, key, holder)) ||
           (eb_record_shared(job->record) && eb_record_leased(job->record, shared, holder));
}

bool eb_job_lock_addresses(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        char key[EB_LOCK_KEY_BYTES];
        const struct eb_site_device *d = job->devices[i].device;
        if (!job->devices[i].chosen)
            continue;
        eb_job_address_key(job, &job->devices[i], key);
        if (!eb_job_lock(job, d->name, key))
            return false;
        if (d->slot != 0) { /* what goes to a module goes through its rack */
            eb_job_ip_key(&d->modbus, key);
            if (!eb_job_lock(job, d->name, key))
                return false;
        }
        eb_job_mac_key(d->mac, key);
        if (d->has_mac && !eb_job_lock(job, d->name, key))
            return false;
    }
    return true;
}

/* Whether something is done to the device, or to a module in its rack. */
static bool is_needed(const struct eb_job *job, const struct eb_job_device *target)
{
    bool needed = target->chosen && (target->item_count > 0 || target->recovers || target->puts_back);
    for (size_t i = 0; i < job->count && !needed; i++) {
        const struct eb_job_device *other = &job->devices[i];
        needed = other->device->slot != 0 && other->device->via == target->device && other->chosen &&
                 (other->item_count > 0 || other->recovers || other->puts_back);
    }
    return needed;
}

/* Those that nothing is done to are anybody's again. */
bool eb_job_lock_devices(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        char key[EB_LOCK_KEY_BYTES];
        bool needed = is_needed(job, target);
        eb_job_address_key(job, target, key);
        if (!needed)
            unlock(job, key);
        eb_job_mac_key(target->device->mac, key);
        if (!needed)
            unlock(job, key);
        eb_job_unit_key(job, target, key);
        if (needed && !eb_job_lock(job, target->device->name, key))
            return false;
    }
    return true;
}

/* --- the record ---------------------------------------------------------------------------------- */

/* One row for each device of the plan: who it is and what it runs before anything is done to it. */
struct begun {
    struct eb_record_row *rows;
    struct ebi_row_keys *keys;
    char **bodies;
    size_t count;
};

static void begun_add(struct eb_job *job, struct begun *b, const struct eb_job_device *target)
{
    size_t i = b->count++;
    b->rows[i] = ebi_job_row(job, target, &b->keys[i]);
    b->bodies[i] = eb_job_describe(job, target);
    b->rows[i].kind = "device";
    b->rows[i].body = b->bodies[i];
}

bool ebi_note_devices(struct eb_job *job)
{
    struct begun b = {calloc(job->count + 1, sizeof *b.rows), calloc(job->count + 1, sizeof *b.keys),
                      calloc(job->count + 1, sizeof *b.bodies), 0};
    if (b.rows == NULL || b.keys == NULL || b.bodies == NULL)
        abort();
    for (size_t i = 0; i < job->count; i++) {
        if (ebi_note_is_part(&job->devices[i]))
            begun_add(job, &b, &job->devices[i]);
    }
    bool ok = b.count == 0 || eb_record_devices(job->record, b.rows, b.count, &job->problem);
    for (size_t i = 0; i < b.count; i++)
        free(b.bodies[i]);
    free(b.rows);
    free(b.keys);
    free(b.bodies);
    return ok;
}

/* A reader of the record sees by this lock that the job goes on; without it, the job would look interrupted.
 */
static void take_going(struct eb_job *job)
{
    char key[EB_LOCK_KEY_BYTES];
    struct eb_lock_holder holder;
    struct eb_problem problem;
    eb_record_key(job->record, job->number, key);
    if (eb_record_shared(job->record)) {
        (void)lease(job, "the job", key); /* its number is new: no other one has it */
        return;
    }
    if (job->going == NULL)
        job->going = eb_locks_open(job->config.command, &problem);
    if (job->going != NULL && eb_locks_take(job->going, key, &holder, &problem) != EB_OK) {
        eb_locks_close(job->going);
        job->going = NULL;
    }
}

/* The job itself; its devices come with the plan. */
static bool begin_record(struct eb_job *job)
{
    char person[EB_NAME_BYTES];
    char laptop[EB_NAME_BYTES];
    if (job->recording)
        return true;
    job->began_us = job->port != NULL ? eb_port_now_us(job->port) : 0;
    if (!open_record(job, true))
        return ebi_job_failed(job, EB_IO);
    char *body = ebi_note_job(job);
    ebi_note_person(job, person);
    ebi_note_laptop(laptop);
    const struct eb_record_start start = {.command = job->config.command,
                                          .site = job->site != NULL ? job->site->name : "",
                                          .person = person,
                                          .laptop = laptop,
                                          .simulated = job->config.simulated,
                                          .resumes = job->config.resumes,
                                          .body = body};
    job->recording = eb_record_begin(job->record, &start, &job->problem);
    free(body);
    if (!job->recording)
        return ebi_job_failed(job, EB_IO);
    job->number = eb_record_number(job->record);
    take_going(job);
    if (eb_record_went_back(job->record))
        ebi_job_warn(job,
                     "this laptop's clock is behind the last entry of the record: the times of this job are "
                     "not to be relied on. Set the clock");
    return true;
}

bool eb_job_begin(struct eb_job *job)
{
    return !job->config.records || begin_record(job);
}

bool ebi_note_plan(struct eb_job *job)
{
    if (!job->recording || job->planned)
        return true;
    job->planned = ebi_note_devices(job);
    if (job->planned)
        return true;
    struct eb_problem problem = job->problem;
    return ebi_job_fail(job, EB_IO, "the record of jobs cannot be written, so nothing was written: %s",
                        problem.text);
}

bool eb_job_refuse(struct eb_job *job)
{
    return eb_job_begin(job) && ebi_note_plan(job);
}

/* Whether its run has written how it ended: one that did nothing to the device does not, as what an earlier
 * job has left there is left still. */
static bool has_end(const struct eb_job_device *target)
{
    return target->begun && (target->fit.record.acted || target->fit.config.recover);
}

/* What became of those that nothing was done to. */
static bool record_rest(struct eb_job *job)
{
    bool ok = eb_record_together(job->record, true, &job->problem);
    for (size_t i = 0; i < job->count && ok; i++) {
        struct eb_job_device *target = &job->devices[i];
        struct ebi_row_keys keys;
        if (has_end(target) || !ebi_note_is_part(target))
            continue;
        struct eb_record_row row = ebi_job_row(job, target, &keys);
        char *body = ebi_note_end(job, target);
        row.kind = "not-begun";
        row.outcome = eb_outcome_word(ebi_note_outcome(target));
        row.error = target->waited_for != NULL ? target->waited_for->name : "";
        row.body = body;
        row.ms = ebi_note_ms(job);
        ok = eb_record_add(job->record, &row, &job->problem);
        free(body);
    }
    return eb_record_together(job->record, false, &job->problem) && ok;
}

void eb_job_end(struct eb_job *job, const char *outcome)
{
    ebi_job_remember(job);
    char result[EB_LOCK_KEY_BYTES];
    result[0] = '\0';
    if (job->planned)
        ebi_note_result(job, result, sizeof result);
    if (job->recording && ((job->planned && !record_rest(job)) ||
                           !eb_record_end(job->record, outcome, result,
                                          job->port != NULL ? ebi_note_ms(job) : 0, &job->problem)))
        ebi_job_warn(job, "the end of this job could not be written into the record: %s", job->problem.text);
    eb_locks_close(job->going);
    job->going = NULL;
    job->recording = false;
    job->planned = false;
}

/* What the images that it got now say of older ones: that holds from now on. */
static void raise_floors(struct eb_job *job, const struct eb_job_device *target)
{
    for (size_t i = 0; job->known != NULL && i < target->item_count; i++) {
        const struct eb_run_item *item = &target->items[i];
        if (item->image->floor[0] != '\0' &&
            !eb_known_raise_floor(job->known, &target->look.identity, item->component, item->image->floor,
                                  &job->problem))
            ebi_job_warn(job, "the floor of %s cannot be remembered: %s", target->device->name,
                         job->problem.text);
    }
}

struct eb_record_row ebi_job_row(const struct eb_job *job, const struct eb_job_device *target,
                                 struct ebi_row_keys *keys)
{
    eb_job_address_key(job, target, keys->address);
    eb_job_unit_key(job, target, keys->unit);
    return (struct eb_record_row){.unit = keys->unit,
                                  .site = job->site->name,
                                  .device = target->device->name,
                                  .serial = target->look.identity.serial,
                                  .order_code = target->look.identity.order_code,
                                  .profile = target->device->profile->name,
                                  .link = target->device->link,
                                  .address = keys->address};
}

static bool on_effect(void *context, const struct eb_run *run, const struct eb_run_record *record)
{
    static const char *const kinds[] = {"prepare", "send",    "activate", "undo", "put-back",
                                        "change",  "prepare", "undo",     "end"};
    struct eb_job *job = context;
    struct eb_job_device *target = run->config.target.statement_context;
    char checksum[16] = "";
    char error[512] = "";
    const struct eb_run_item *item =
        record->item < run->config.count ? &run->config.items[record->item] : NULL;
    bool ended = record->effect == EB_EFFECT_END;
    if (item != NULL)
        snprintf(checksum, sizeof checksum, "%08x", item->checksum);
    if (ended && run->error.status != EB_OK)
        snprintf(error, sizeof error, "%s: %s %s", run->error.where != NULL ? run->error.where : "",
                 eb_status_word(run->error.status), run->error.text);
    ebi_pace_note(target, run, record);
    if (ended)
        ebi_kept_end(target);
    else if (!ebi_kept_effect(target, record))
        return false;
    if (!job->recording)
        return true;
    struct ebi_row_keys keys;
    struct eb_record_row row = ebi_job_row(job, target, &keys);
    row.kind = kinds[record->effect];
    row.component = item != NULL ? item->component->name : "";
    row.version = item != NULL ? item->image->version : "";
    row.checksum = checksum;
    /* One that only put documents back has no outcome of its own. */
    enum eb_outcome outcome = run->outcome == EB_OUTCOME_NONE ? eb_job_outcome(target) : run->outcome;
    row.outcome = ended ? eb_outcome_word(outcome) : "";
    row.error = error;
    row.left = run->left;
    row.attempt = record->attempt;
    row.ms = ebi_note_ms(job);
    char *body = ended ? ebi_note_end(job, target) : ebi_note_effect(target);
    row.body = body;
    if (ended && run->outcome == EB_OUTCOME_CONFIRMED)
        raise_floors(job, target);
    bool ok = eb_record_add(job->record, &row, &job->problem);
    free(body);
    if (ok)
        return true;
    ebi_job_warn(job, "%s: the record of jobs cannot be written: %s", target->device->name,
                 job->problem.text);
    return false;
}

void ebi_job_attach(struct eb_job *job, struct eb_run_config *config)
{
    struct eb_job_device *target = config->target.statement_context;
    config->effect = on_effect;
    config->effect_context = job;
    target->event = config->event;
    target->event_context = config->event_context;
    config->event = ebi_note_event;
    config->event_context = target;
}

bool eb_job_note_address(struct eb_job *job, const char *kind, const char *link, const char *address)
{
    char unit[EB_LOCK_KEY_BYTES];
    snprintf(unit, sizeof unit, "address %s %s", link, address);
    if (!job->config.records)
        return true;
    if (!begin_record(job) || !eb_job_lock(job, address, unit))
        return false;
    const struct eb_record_row row = {.kind = kind,
                                      .unit = unit,
                                      .link = link,
                                      .address = unit,
                                      .site = job->site != NULL ? job->site->name : ""};
    if (eb_record_add(job->record, &row, &job->problem))
        return true;
    struct eb_problem problem = job->problem;
    return ebi_job_fail(job, EB_IO, "the record of jobs cannot be written: %s", problem.text);
}

/* --- what was left behind ------------------------------------------------------------------------ */

static int compare_units(const void *a, const void *b)
{
    return strcmp(((const struct eb_left *)a)->unit, ((const struct eb_left *)b)->unit);
}

static int compare_addresses(const void *a, const void *b)
{
    return strcmp(((const struct eb_left *)a)->address, ((const struct eb_left *)b)->address);
}

static void keep_data(void *data)
{
    (void)data;
}

/* Trees (search.h) of what was left, by unit and by address: of several, the last. */
struct left_trees {
    void *units, *addresses;
};

static void put_left(struct eb_left *left, void **tree, int (*compare)(const void *a, const void *b))
{
    struct eb_left **at = tsearch(left, tree, compare);
    if (at == NULL)
        abort();
    *at = left;
}

/* A node of another laptop's bus is another device. */
static bool is_own_address(const struct eb_job *job, const struct eb_left *left)
{
    char laptop[EB_NAME_BYTES];
    ebi_note_laptop(laptop);
    return !eb_record_shared(job->record) || strncmp(left->address, "ip ", 3) == 0 ||
           strcmp(left->laptop, laptop) == 0;
}

static const struct eb_left *left_of(const struct eb_job *job, const struct eb_job_device *target,
                                     const struct left_trees *trees)
{
    struct eb_left wanted;
    eb_job_unit_key(job, target, wanted.unit);
    eb_job_address_key(job, target, wanted.address);
    bool told = target->look.identified && target->look.identity.serial[0] != '\0';
    struct eb_left *const *unit = tfind(&wanted, &trees->units, compare_units);
    struct eb_left *const *address = told ? NULL : tfind(&wanted, &trees->addresses, compare_addresses);
    const struct eb_left *left = unit != NULL ? *unit : NULL;
    return address != NULL && is_own_address(job, *address) && (left == NULL || *address > left) ? *address
                                                                                                 : left;
}

void ebi_job_find_worker(struct eb_job *job, struct eb_job_device *target)
{
    char key[EB_LOCK_KEY_BYTES];
    target->worked_on = false;
    if (!target->chosen && !target->asked)
        return;
    eb_job_address_key(job, target, key);
    target->worked_on = is_held(job, key, &target->worker);
    eb_job_unit_key(job, target, key);
    target->worked_on = target->worked_on || is_held(job, key, &target->worker);
}

/* Leaves out what belongs to jobs that still go on. */
static void drop_living(struct eb_job *job)
{
    size_t kept = 0;
    for (size_t i = 0; i < job->left_count; i++) {
        struct eb_lock_holder holder;
        bool living =
            is_held(job, job->lefts[i].unit, &holder) || is_held(job, job->lefts[i].address, &holder);
        if (!living)
            job->lefts[kept++] = job->lefts[i];
    }
    job->left_count = kept;
}

/* Whether its manager has taken it back as it was, though that is not in the record. */
static bool is_taken_back(const struct eb_job_device *target, const struct eb_left *left)
{
    const struct eb_job_member *m = target->member;
    return left != NULL && left->joined && m != NULL && m->read && target->reached &&
           !target->look.in_loader && m->entry.state == left->state &&
           m->entry.supervised == left->supervised && left->tells_supervision;
}

/* Nothing of it is left where its program runs and its profile has nothing that undoes a preparation. */
static bool is_settled(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    bool undoes = p->undo.count > 0 || (p->sends_by != NULL && (p->sends_by->able & EB_ABLE(EB_UNDO)) != 0);
    return target->reached && !target->look.in_loader && !eb_job_stopped(target) && !undoes;
}

void eb_job_find_left(struct eb_job *job)
{
    free(job->lefts);
    job->lefts = NULL;
    job->left_count = 0;
    for (size_t i = 0; i < job->count; i++)
        job->devices[i].left = NULL;
    if (!job->config.records)
        return;
    if (!open_locks(job))
        ebi_job_warn(job, "%s. Who else works on the devices is not known", job->problem.text);
    bool there = open_record(job, false) || job->problem.text[0] == '\0';
    for (size_t i = 0; i < job->count; i++)
        ebi_job_find_worker(job, &job->devices[i]);
    if (!there ||
        (job->record != NULL && !eb_record_left(job->record, &job->lefts, &job->left_count, &job->problem))) {
        ebi_job_warn(job, "what earlier jobs left behind is not known: %s", job->problem.text);
        return;
    }
    drop_living(job);
    struct left_trees trees = {NULL, NULL};
    for (size_t k = 0; k < job->left_count; k++) {
        put_left(&job->lefts[k], &trees.units, compare_units);
        put_left(&job->lefts[k], &trees.addresses, compare_addresses);
    }
    for (size_t i = 0; i < job->count; i++) {
        if (!is_settled(&job->devices[i]))
            job->devices[i].left = left_of(job, &job->devices[i], &trees);
        if (is_taken_back(&job->devices[i], job->devices[i].left))
            job->devices[i].left = NULL;
    }
    tdestroy(trees.units, keep_data);
    tdestroy(trees.addresses, keep_data);
}
