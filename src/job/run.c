#include "einbau/run.h"
#include "einbau/plan.h"
#include "einbau/text.h"
#include "access/access.h"

#include <limits.h>
#include <string.h>

/* What a run is doing.  Rungs of the ladder are what a user sees of it.
 *
 *   REACHING <-> REACH_PAUSE     until it is identified, or patience is over
 *      |
 *      v (judged; looked at only, refused, already right: ENDED)
 *   PREPARING -> CHECKING -> SENDING -> ACTIVATING -> DOWN -> RETURNING -- confirmed: the next item, or ENDED
 *      |             |        |    |      |   |                |     |
 *      |             |        | PEEKING   | ACTIVATE_PAUSE     | RETURN_PAUSE
 *      \_____________\________\___________\___________________/
 *                  | failed
 *                  v
 *      another try helps: TRY_PAUSE -> REACHING; else, or stopped: UNDOING <-> UNDO_PAUSE
 *                                                                    |
 *                                                                    v
 *                                                                 LAST_PAUSE <-> LAST_LOOK -> ENDED
 *
 * Invariants:
 *   identified   the device was read, and no effect was begun since
 *   prepared     an effect was begun that `undo` takes back, and it is not known to be undone
 *   confirmed    only through confirm_group, which is only called where what was read back is what was
 * intended and, where the profile says that the device restarts, the restart was seen
 */
enum state {
    REACHING,
    REACH_PAUSE,
    PREPARING,
    CHECKING,
    SENDING,
    PEEKING,
    ACTIVATING,
    ACTIVATE_PAUSE,
    DOWN,
    RETURNING,
    RETURN_PAUSE,
    TRY_PAUSE,
    UNDOING,
    UNDO_PAUSE,
    LAST_PAUSE,
    LAST_LOOK,
    ENDED
};

enum {
    PAUSE_US = 500000, /* between two tries to reach a device */
    WATCH_US = 200000, /* between two looks while its restart is waited for: some are back in half a second */
    TRY_PAUSE_US = 500000, /* before the next try; twice as long each time */
    TRY_PAUSE_MOST_US = 8000000,
    PEEK_US = 3000000 /* between two looks at a device whose last acknowledgement stays away */
};

static const char *const rung_words[] = {"reach",    "identify", "judge",   "prepare", "send",
                                         "activate", "return",   "confirm", "restore", "end"};
static const char *const outcome_words[EB_OUTCOMES] = {
    "none",      "confirmed",  "already-right", "refused",     "failed",
    "in-loader", "needs-hand", "interrupted",   "not-started", "recovered"};

const char *eb_rung_word(enum eb_rung rung)
{
    return (size_t)rung < sizeof rung_words / sizeof rung_words[0] ? rung_words[rung] : "unknown";
}

const char *eb_outcome_word(enum eb_outcome outcome)
{
    return (size_t)outcome < EB_OUTCOMES ? outcome_words[outcome] : "unknown";
}

static void tell(struct eb_run *run)
{
    run->event_us = run->now_us;
    if (run->config.event != NULL)
        run->config.event(run->config.event_context, run);
}

static void set_rung(struct eb_run *run, enum eb_rung rung)
{
    if (run->progress.rung != rung) {
        run->progress.rung = rung;
        tell(run);
    }
}

/* The one place where the state changes. */
static void set_state(struct eb_run *run, enum state state)
{
    static const enum eb_rung rungs[] = {
        [REACHING] = EB_RUNG_REACH,      [REACH_PAUSE] = EB_RUNG_REACH,
        [PREPARING] = EB_RUNG_PREPARE,   [CHECKING] = EB_RUNG_PREPARE,
        [SENDING] = EB_RUNG_SEND,        [PEEKING] = EB_RUNG_SEND,
        [ACTIVATING] = EB_RUNG_ACTIVATE, [ACTIVATE_PAUSE] = EB_RUNG_ACTIVATE,
        [DOWN] = EB_RUNG_RETURN,         [RETURNING] = EB_RUNG_RETURN,
        [RETURN_PAUSE] = EB_RUNG_RETURN, [TRY_PAUSE] = EB_RUNG_REACH,
        [UNDOING] = EB_RUNG_RESTORE,     [UNDO_PAUSE] = EB_RUNG_RESTORE,
        [LAST_PAUSE] = EB_RUNG_RESTORE,  [LAST_LOOK] = EB_RUNG_RESTORE,
        [ENDED] = EB_RUNG_END,
    };
    /* Seen to be back, and read again until it runs what was sent. */
    bool confirms = (state == RETURNING || state == RETURN_PAUSE) && run->answered_us != EB_NEVER;
    run->state = (uint8_t)state;
    set_rung(run, confirms ? EB_RUNG_CONFIRM : rungs[state]);
}

/* --- accesses ------------------------------------------------------------------------------------ */

static const struct ebi_run_access *access_of(const struct eb_run *run, const struct eb_access *access)
{
    for (size_t i = 0; i < run->access_count; i++) {
        if (access != NULL && run->accesses[i].access == access)
            return &run->accesses[i];
    }
    return NULL;
}

/* What sends its images, or NULL. */
static const struct ebi_run_access *sender(const struct eb_run *run)
{
    return access_of(run, run->config.profile->sends_by);
}

static bool sender_is_able(const struct eb_run *run, unsigned bits)
{
    return sender(run) != NULL && (sender(run)->access->able & bits) != 0;
}

static void close_but(struct eb_run *run, const struct ebi_run_access *one)
{
    for (size_t i = 0; i < run->access_count; i++) {
        if (&run->accesses[i] != one)
            run->accesses[i].access->close(run->accesses[i].context);
    }
}

static void begin_operation(struct eb_run *run, const struct ebi_run_access *by,
                            const struct eb_operation *operation)
{
    run->active = (size_t)(by - run->accesses);
    by->access->begin(by->context, operation, run->now_us);
}

static enum eb_status poll_operation(struct eb_run *run)
{
    const struct ebi_run_access *by = &run->accesses[run->active];
    if (run->active < run->access_count)
        return by->access->poll(by->context, run->now_us);
    return run->now_us >= run->step_end_us ? EB_OK : EB_PENDING;
}

static void begin_by_sender(struct eb_run *run, enum eb_operation_kind kind)
{
    begin_operation(run, sender(run), &(struct eb_operation){.kind = kind});
}

static void begin_step(struct eb_run *run, const struct eb_step *step)
{
    run->step_end_us = run->now_us + step->time_ms * 1000ULL;
    if (step->by != NULL)
        begin_operation(run, access_of(run, step->by), &(struct eb_operation){.kind = EB_STEP, .step = step});
    else
        run->active = EB_ACCESSES_MAX;
}

/* --- looking ------------------------------------------------------------------------------------- */

/* Begins with the next access, from `at` on, that has something to read; false: there is none. */
static bool look_further(struct eb_run *run, size_t at)
{
    for (; at < run->access_count; at++) {
        if (ebi_values_wanted(&run->contact, run->accesses[at].access, UINT_MAX)) {
            run->contact.value = 0;
            begin_operation(run, &run->accesses[at], &(struct eb_operation){.kind = EB_READ});
            return true;
        }
    }
    return false;
}

static void begin_look(struct eb_run *run)
{
    ebi_values_forget(&run->contact);
    run->contact.connected = false;
    run->active = EB_ACCESSES_MAX;
    run->step_end_us = 0;
    look_further(run, 0);
}

/* One access after the other.  One that does not answer is no harm where another has the same items. */
static enum eb_status poll_look(struct eb_run *run)
{
    enum eb_status status = poll_operation(run);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK)
        ebi_values_failed(&run->contact, run->accesses[run->active].access, UINT_MAX, &run->contact.error);
    if (!ebi_values_lost(&run->contact))
        return look_further(run, run->active + 1) ? EB_PENDING : EB_OK;
    run->contact.error = run->contact.first_error;
    return run->contact.error.status;
}

/* Whether an image of the run, or its preparation, was begun. */
static bool any_effect(const struct eb_run *run)
{
    bool any = run->prepared || run->sent;
    for (size_t i = 0; i < run->config.count; i++)
        any = any || run->config.items[i].touched;
    return any;
}

static void finish(struct eb_run *run, enum eb_outcome outcome)
{
    bool own = outcome == EB_OUTCOME_FAILED || outcome == EB_OUTCOME_IN_LOADER ||
               outcome == EB_OUTCOME_NEEDS_HAND || outcome == EB_OUTCOME_INTERRUPTED;
    run->outcome = outcome;
    run->left = run->prepared;
    /* What stands behind the one that failed was not begun. */
    for (size_t i = 0; i < run->config.count && own; i++) {
        struct eb_run_item *item = &run->config.items[i];
        if (item->outcome == EB_OUTCOME_NONE)
            item->outcome = item->touched || i <= run->progress.item ? outcome : EB_OUTCOME_NOT_STARTED;
    }
    close_but(run, NULL);
    if (run->config.effect != NULL && (run->acted || run->config.recover))
        run->config.effect(run->config.effect_context, run, EB_EFFECT_END);
    set_state(run, ENDED);
}

static void keep_error(struct eb_run *run, const struct eb_error *error)
{
    run->error = *error;
    run->error_rung = run->progress.rung;
}

static void pause_in(struct eb_run *run, enum state state, uint64_t us)
{
    run->wake_us = run->now_us + us;
    set_state(run, state);
}

static void begin_identify(struct eb_run *run, enum state state)
{
    begin_look(run);
    set_state(run, state);
}

static void begin_reach(struct eb_run *run, uint64_t patience_us)
{
    run->patience_end_us = run->now_us + patience_us;
    begin_identify(run, REACHING);
}

static struct eb_run_item *current(struct eb_run *run)
{
    return &run->config.items[run->progress.item];
}

/* What was read is out of date as soon as something is done to the device. */
static bool may_act(struct eb_run *run, enum eb_effect effect)
{
    if (run->config.effect != NULL && !run->config.effect(run->config.effect_context, run, effect) &&
        effect != EB_EFFECT_UNDO)
        return false;
    run->acted = true;
    run->identified = false;
    return true;
}

/* --- identity ------------------------------------------------------------------------------------ */

/* Whether two texts of one item say the same: versions by their order, checksums as numbers. */
static bool agree(const struct eb_profile *p, size_t item, const char *one, const char *other)
{
    uint32_t a;
    uint32_t b;
    size_t component;
    bool checksum;
    if (strcmp(one, other) == 0)
        return true;
    if (!eb_profile_item_component(item, &component, &checksum))
        return false;
    if (!checksum)
        return eb_version_compare(&p->components[component].order, one, other) == EB_SAME;
    return eb_text_hex32(one, &a) && eb_text_hex32(other, &b) && a == b;
}

static void find_disagreement(struct eb_run *run, size_t item)
{
    const struct eb_profile *p = run->config.profile;
    const struct eb_values *values = eb_profile_values(p, item);
    size_t first = EB_SOURCES_MAX;
    for (size_t i = 0; values != NULL && i < values->count; i++) {
        const char *text = run->texts[item][i];
        if (text[0] == '\0')
            continue;
        if (first == EB_SOURCES_MAX) {
            first = i;
        } else if (!agree(p, item, run->texts[item][first], text) &&
                   run->disagreements < EB_DISAGREEMENTS_MAX) {
            struct eb_disagreement *d = &run->disagreement[run->disagreements++];
            *d = (struct eb_disagreement){
                .item = item, .by = values->list[first].by, .other_by = values->list[i].by};
            eb_text_copy(d->text, sizeof d->text, run->texts[item][first]);
            eb_text_copy(d->other_text, sizeof d->other_text, text);
        }
    }
}

/* A counter that is read before the restart and behind it. */
static void take_counter(struct eb_run *run)
{
    static const uint32_t ticks_per_s[] = {0, 1, 100, 1000};
    const struct eb_profile *p = run->config.profile;
    char text[EB_NAME_BYTES];
    uint64_t number;
    run->counter_read = ebi_value_text(&run->contact, &p->from_counter, text, sizeof text) &&
                        eb_text_number(text, strlen(text), &number);
    if (!run->counter_read)
        return;
    if (!run->contact.watching || !run->has_counter) {
        run->has_counter = true;
        run->counter = number;
        run->counter_us = run->now_us;
        return;
    }
    if (p->counts == EB_COUNTS_STARTS) {
        run->counter_restarted = number != run->counter;
        return;
    }
    /* Without a restart it has gone on by the time that has passed; clocks differ by two seconds and a
     * fiftieth. */
    uint64_t passed = (run->now_us - run->counter_us) / 1000 * ticks_per_s[p->counts] / 1000;
    uint64_t slack = 2 * (uint64_t)ticks_per_s[p->counts] + passed / 50;
    run->counter_restarted = number + slack < run->counter + passed;
}

static void take_identity(struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    char text[EB_NAME_BYTES];
    struct eb_identity *id = &run->identity;
    ebi_value_text(&run->contact, &p->from_maker, id->maker, sizeof id->maker);
    ebi_value_text(&run->contact, &p->from_product, id->product, sizeof id->product);
    ebi_value_text(&run->contact, &p->from_order_code, id->order_code, sizeof id->order_code);
    ebi_value_text(&run->contact, &p->from_hardware_revision, id->hardware_revision,
                   sizeof id->hardware_revision);
    ebi_value_text(&run->contact, &p->from_serial, id->serial, sizeof id->serial);
    run->in_loader = ebi_value_text(&run->contact, &p->from_state, text, sizeof text) &&
                     strcmp(text, p->state_loader) == 0;
    if (run->in_loader && p->loader_order_code[0] != '\0')
        eb_text_copy(id->order_code, sizeof id->order_code, p->loader_order_code);
    run->program_known =
        !run->in_loader && ebi_value_text(&run->contact, &p->from_program, text, sizeof text);
    run->program_stopped = run->program_known && strcmp(text, p->program_stopped) == 0;
    take_counter(run);
    for (size_t i = 0; i < p->count; i++) {
        struct eb_running *running = &run->running[i];
        ebi_value_text(&run->contact, &p->components[i].version, running->version, sizeof running->version);
        running->has_checksum =
            ebi_value_text(&run->contact, &p->components[i].checksum, text, sizeof text) &&
            eb_text_hex32(text, &running->checksum);
    }
    run->usb = (struct eb_usb_ids){.vendor = p->dfu.vendor,
                                   .product = p->dfu.product,
                                   .loader_vendor = p->dfu.loader_vendor,
                                   .loader_product = p->dfu.loader_product,
                                   .release = run->contact.release};
    for (size_t i = 0; i < p->count; i++) {
        const struct eb_values *version = &p->components[i].version;
        for (size_t k = 0; k < version->count; k++)
            run->usb.release_is_version =
                run->usb.release_is_version ||
                (version->list[k].by->wire == EB_WIRE_USB && version->list[k].item == EB_USB_RELEASE);
    }
    run->disagreements = 0;
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++)
        find_disagreement(run, i);
    run->identified = true;
}

static struct eb_error other(const char *where, const char *found, const char *expected)
{
    struct eb_error error = {.status = EB_OTHER, .where = where};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "found ");
    eb_text_add(&text, found[0] != '\0' ? found : "nothing readable");
    eb_text_add(&text, ", expected ");
    eb_text_add(&text, expected);
    return error;
}

/* Whether it is the device that was meant, and after the first time: the same one.  Its loader may know no
 * more than the serial number; one on USB without a number is known by its place. */
static bool is_meant(struct eb_run *run, struct eb_error *error)
{
    const struct eb_profile *p = run->config.profile;
    const struct eb_identity *id = &run->identity;
    const char *serial = run->serial[0] != '\0' ? run->serial : run->config.target.serial;
    const char *code = run->order_code;
    bool by_place = run->contact.by_place && id->serial[0] == '\0';
    if (serial != NULL && serial[0] != '\0' && !by_place && strcmp(serial, id->serial) != 0) {
        *error = other("comparing the serial number", id->serial, serial);
        if (id->serial[0] == '\0' && run->contact.first_error.status != EB_OK)
            *error = run->contact.first_error; /* why it could not be read */
        return false;
    }
    if (id->order_code[0] != '\0' && !eb_profile_covers(p, id->order_code)) {
        *error = other("comparing the order code with the profile's", id->order_code, p->order_codes[0]);
        return false;
    }
    if (!run->in_loader && code[0] != '\0' && strcmp(code, id->order_code) != 0) {
        *error = other("comparing the order code with the one before", id->order_code, code);
        return false;
    }
    if (run->serial[0] == '\0' && !run->judged)
        eb_text_copy(run->serial, sizeof run->serial, id->serial);
    if (run->order_code[0] == '\0')
        eb_text_copy(run->order_code, sizeof run->order_code, id->order_code);
    return true;
}

static const struct eb_running *running_of(const struct eb_run *run, const struct eb_run_item *item)
{
    return &run->running[item->component - run->config.profile->components];
}

/* The heart of confirming: what was read back, never what was sent. */
static bool runs_as_intended(const struct eb_run *run, const struct eb_run_item *item)
{
    const struct eb_running *running = running_of(run, item);
    const struct eb_component_profile *component = item->component;
    if (run->in_loader ||
        eb_version_compare(&component->order, running->version, item->image->version) != EB_SAME)
        return false;
    return component->checksum.count == 0 || (running->has_checksum && running->checksum == item->checksum);
}

static bool stopped_by_job(const struct eb_run *run)
{
    return run->program_stopped && !run->was_stopped;
}

/* Whether the restart that the profile tells of was seen since the device was made to take up what was sent.
 */
static bool restart_seen(struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    if (!p->restarts)
        return true;
    if (run->counter_read && run->has_counter) {
        if (run->counter_restarted)
            run->contact.restart = EB_RESTART_COUNTER;
        return run->counter_restarted; /* it alone decides */
    }
    if (run->contact.loader_seen && run->identified && !run->in_loader)
        ebi_restarted(&run->contact, EB_RESTART_LOADER);
    for (size_t i = run->group; p->version_proves && i <= run->progress.item; i++) {
        const struct eb_run_item *item = &run->config.items[i];
        if (eb_version_compare(&item->component->order, item->from, running_of(run, item)->version) !=
                EB_SAME &&
            item->from[0] != '\0')
            ebi_restarted(&run->contact, EB_RESTART_VERSION);
    }
    return run->contact.watching && run->contact.restart != EB_RESTART_NOT_SEEN;
}

/* Identification has ended with `status`; EB_OK: with the device that is meant, else `error` says why not. */
static enum eb_status take_look(struct eb_run *run, enum eb_status status, struct eb_error *error)
{
    *error = run->contact.error;
    run->answered = status == EB_OK || status == EB_PEER_ERROR || status == EB_GARBAGE ||
                    status == EB_TOO_LARGE || status == EB_OTHER;
    if (status != EB_OK)
        return status;
    take_identity(run);
    status = is_meant(run, error) ? EB_OK : error->status;
    run->others = status == EB_OTHER ? run->others + 1 : 0;
    return status;
}

/* That another device answers is read twice before it is believed: an answer may be damaged. */
static bool in_doubt(const struct eb_run *run, enum eb_status status)
{
    return status == EB_OTHER && run->others == 1;
}

/* --- the way up ---------------------------------------------------------------------------------- */

static void begin_undo(struct eb_run *run);

/* The record cannot be written, so nothing more is done to the device than to undo what was. */
static void cannot_record(struct eb_run *run)
{
    const struct eb_error error = {.status = EB_IO,
                                   .where = "writing the record",
                                   .text = "what is about to be done could not be written down"};
    keep_error(run, &error);
    begin_undo(run);
}

static void begin_prepare(struct eb_run *run)
{
    run->step = 0;
    run->sent = false;
    run->contact.loader_seen = run->identified && run->in_loader;
    run->contact.watching = false;
    if (run->config.profile->prepare.count > 0) {
        if (!may_act(run, EB_EFFECT_PREPARE)) {
            cannot_record(run);
            return;
        }
        run->prepared = true;
    }
    set_state(run, PREPARING);
}

/* Goes to the next item that is to be written, or ends. */
static void next_item(struct eb_run *run)
{
    size_t confirmed = 0;
    for (size_t i = 0; i < run->config.count; i++) {
        if (run->config.items[i].outcome == EB_OUTCOME_NONE) {
            if (run->stopping) {
                run->progress.item = i;
                run->config.items[i].outcome = EB_OUTCOME_NOT_STARTED;
                finish(run, EB_OUTCOME_INTERRUPTED);
                return;
            }
            run->progress.item = i;
            run->group = i;
            run->progress.attempt = 1;
            run->failures = 0;
            run->later_us = run->pause_us = 0;
            run->progress.done_bytes = 0;
            run->progress.total_bytes = run->config.items[i].source.size_bytes;
            begin_prepare(run);
            return;
        }
        confirmed += run->config.items[i].outcome == EB_OUTCOME_CONFIRMED;
    }
    memset(&run->error, 0, sizeof run->error);
    finish(run, confirmed > 0 ? EB_OUTCOME_CONFIRMED : EB_OUTCOME_ALREADY_RIGHT);
}

static void judge(struct eb_run *run)
{
    bool fits = true;
    set_rung(run, EB_RUNG_JUDGE);
    for (size_t i = 0; i < run->config.count; i++) {
        struct eb_run_item *item = &run->config.items[i];
        eb_plan_judge(run, run->config.items, i, run->config.accepted);
        item->was_right = runs_as_intended(run, item);
        item->outcome = EB_OUTCOME_NONE;
        if (item->verdict.answer != EB_FITS)
            fits = false;
        else if (item->was_right && !run->config.again)
            item->outcome = EB_OUTCOME_ALREADY_RIGHT;
    }
    run->judged = true;
    if (!fits)
        finish(run, EB_OUTCOME_REFUSED);
    else
        next_item(run);
}

/* Whether undoing may be done to what answers now.  After another serial number was read, only to a loader:
 * it came where the device was told to start its own, and starting its program harms nobody. */
static bool may_undo(const struct eb_run *run)
{
    return run->error.status != EB_OTHER || run->in_loader || run->contact.loader_differs;
}

static void undo_next(struct eb_run *run);

static void undo(struct eb_run *run)
{
    may_act(run, EB_EFFECT_UNDO);
    run->step = 0;
    run->later_us = 0;
    run->pause_us = 0;
    undo_next(run);
}

/* A program that was stopped before the job is not started by it: first it is looked whether it is still as
 * it was. */
static void begin_undo(struct eb_run *run)
{
    bool due = run->prepared && may_undo(run);
    run->undo_failed = false;
    run->patience_end_us = 0;
    run->undo_due = due && run->was_stopped;
    if (due && !run->undo_due)
        undo(run);
    else
        pause_in(run, LAST_PAUSE, 0);
}

static bool same_error(const struct eb_error *a, const struct eb_error *b)
{
    return a->status == b->status && a->number == b->number && a->where == b->where &&
           strcmp(a->text, b->text) == 0;
}

static void count_failure(struct eb_run *run, const struct eb_error *error)
{
    keep_error(run, error);
    if (run->failures++ == 0) {
        run->first_error = *error;
        run->first_rung = run->error_rung;
        run->all_equal = true;
    } else {
        run->all_equal = run->all_equal && same_error(error, &run->first_error);
    }
}

/* How long a device is asked again that says that it is busy, without a byte sent. */
static uint64_t busy_patience_us(const struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    return (p->send_patience_ms > p->return_patience_ms ? p->send_patience_ms : p->return_patience_ms) *
           1000ULL;
}

static uint64_t longer_pause(struct eb_run *run)
{
    run->pause_us = run->pause_us == 0 ? TRY_PAUSE_US : 2 * run->pause_us;
    if (run->pause_us > TRY_PAUSE_MOST_US)
        run->pause_us = TRY_PAUSE_MOST_US;
    return run->pause_us;
}

/* A try has failed with `error`: another one, or the end. */
static void try_again(struct eb_run *run, const struct eb_error *error)
{
    enum eb_retry retry = eb_error_retry(error);
    bool free_of_charge = retry == EB_RETRY_LATER && !run->sent;
    if (run->stopping || retry == EB_RETRY_NEVER) {
        count_failure(run, error);
        begin_undo(run);
        return;
    }
    if (free_of_charge && run->later_us == 0)
        run->later_us = run->now_us;
    free_of_charge = free_of_charge && run->now_us - run->later_us < busy_patience_us(run);
    if (free_of_charge) {
        keep_error(run, error);
    } else {
        count_failure(run, error);
        if (run->progress.attempt >= EB_RUN_TRIES || (retry == EB_RETRY_LATER && !run->sent)) {
            begin_undo(run);
            return;
        }
        run->progress.attempt++;
    }
    run->progress.item = run->group;
    run->progress.done_bytes = 0;
    run->progress.total_bytes = current(run)->source.size_bytes;
    tell(run);
    pause_in(run, TRY_PAUSE, longer_pause(run));
}

static void begin_next_try(struct eb_run *run)
{
    uint64_t patience_us = run->config.profile->return_patience_ms * 1000ULL;
    begin_reach(run,
                patience_us > run->config.reach_patience_us ? patience_us : run->config.reach_patience_us);
}

/* The items of the current group were seen to run: with what ran before being something else, or with a
 * restart in between. */
static void confirm_group(struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        struct eb_run_item *item = &run->config.items[i];
        if (item->outcome != EB_OUTCOME_NONE)
            continue;
        item->outcome = EB_OUTCOME_CONFIRMED;
        item->confirmed_by = (unsigned)EB_BY_VERSION |
                             (item->component->checksum.count > 0 ? (unsigned)EB_BY_CHECKSUM : 0U) |
                             (item->read_back ? (unsigned)EB_BY_READ_BACK : 0U);
    }
    run->restart = run->config.profile->restarts ? run->contact.restart : EB_RESTART_NOT_SEEN;
    run->contact.watching = false;
    run->prepared = false;
    next_item(run);
}

/* The first item of the group that does not run yet; NULL: all do. */
static const struct eb_run_item *not_running(const struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        if (!runs_as_intended(run, &run->config.items[i]))
            return &run->config.items[i];
    }
    return NULL;
}

/* Whether the intended versions run and that can only come from what was sent. */
static bool arrived(struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        const struct eb_run_item *item = &run->config.items[i];
        if (item->outcome == EB_OUTCOME_NONE && (!item->touched || item->was_right))
            return false;
    }
    return not_running(run) == NULL && restart_seen(run) && !stopped_by_job(run);
}

/* The next image that the same restart takes up: for another component than those of the group. */
static bool next_of_group(struct eb_run *run)
{
    size_t next = run->progress.item + 1;
    if (!run->config.profile->restarts_once || run->stopping)
        return false;
    while (next < run->config.count && run->config.items[next].outcome != EB_OUTCOME_NONE)
        next++;
    if (next == run->config.count)
        return false;
    for (size_t i = run->group; i < next; i++) {
        if (run->config.items[i].component == run->config.items[next].component)
            return false;
    }
    run->progress.item = next;
    run->progress.done_bytes = 0;
    run->progress.total_bytes = run->config.items[next].source.size_bytes;
    return true;
}

static bool acts_by_command(const struct eb_run *run)
{
    return sender_is_able(run, EB_ABLE(EB_ACTIVATE)) || run->config.profile->activate.count > 0;
}

static void begin_activate(struct eb_run *run)
{
    run->step = 0;
    run->began_us = run->now_us;
    if (!may_act(run, EB_EFFECT_ACTIVATE)) {
        cannot_record(run);
        return;
    }
    if (acts_by_command(run) || !run->contact.watching)
        ebi_watch(&run->contact);
    run->counter_restarted = run->activate_unanswered = false;
    run->pause_us = 0;
    run->patience_end_us = run->now_us + busy_patience_us(run);
    set_state(run, ACTIVATING);
}

/* Reached and meant, for the first time or for another try. */
static void go_on(struct eb_run *run)
{
    if (run->config.recover) {
        bool command = sender_is_able(run, EB_ABLE(EB_UNDO));
        bool runs = run->program_known ? !run->program_stopped : command && !run->in_loader;
        run->judged = true;
        run->prepared = !runs;
        if (runs)
            finish(run, EB_OUTCOME_RECOVERED);
        else
            begin_undo(run);
    } else if (run->config.count == 0) {
        finish(run, EB_OUTCOME_NONE);
    } else if (!run->judged) {
        run->was_stopped = run->program_stopped && !run->config.interrupted;
        judge(run);
    } else if (run->stopping) {
        begin_undo(run);
    } else if (arrived(run)) {
        confirm_group(run);
    } else {
        begin_prepare(run);
    }
}

static void poll_reaching(struct eb_run *run)
{
    enum eb_status status = poll_look(run);
    struct eb_error error;
    if (run->stopping && !run->judged) {
        finish(run, EB_OUTCOME_INTERRUPTED);
        return;
    }
    if (run->contact.connected)
        set_rung(run, EB_RUNG_IDENTIFY);
    if (status == EB_PENDING)
        return;
    status = take_look(run, status, &error);
    if (status == EB_OK) {
        go_on(run);
        return;
    }
    if (in_doubt(run, status)) {
        pause_in(run, REACH_PAUSE, 0);
        return;
    }
    if (status != EB_OTHER && eb_error_retry(&error) != EB_RETRY_NEVER &&
        run->now_us < run->patience_end_us) {
        pause_in(run, REACH_PAUSE, PAUSE_US);
        return;
    }
    if (!run->judged) {
        keep_error(run, &error);
        finish(run, run->config.count == 0 && !run->config.recover ? EB_OUTCOME_NONE
                    : error.status == EB_OTHER                     ? EB_OUTCOME_REFUSED
                                                                   : EB_OUTCOME_FAILED);
        return;
    }
    if (error.status == EB_OTHER) /* the device was told to restart, and another one answers in its place */
        count_failure(run, &error);
    run->identified = run->identified && status == EB_OTHER;
    if (run->prepared && run->answered) {
        begin_undo(run);
    } else {
        run->identified = false;
        finish(run, EB_OUTCOME_FAILED); /* `error` still says what began it */
    }
}

static void begin_send(struct eb_run *run)
{
    if (!may_act(run, EB_EFFECT_SEND)) {
        cannot_record(run);
        return;
    }
    current(run)->touched = true;
    current(run)->read_back = false;
    run->prepared = run->prepared || sender_is_able(run, EB_ABLE(EB_UNDO));
    run->began_us = run->now_us;
    run->peek_us = 0;
    run->contact.read_back = run->contact.last_late = run->contact.all_sent = false;
    close_but(run, sender(run));
    begin_operation(run, sender(run),
                    &(struct eb_operation){.kind = EB_SEND,
                                           .component = current(run)->component,
                                           .source = &current(run)->source,
                                           .checksum = current(run)->checksum});
    set_state(run, SENDING);
}

static void poll_preparing(struct eb_run *run, const struct eb_steps *steps)
{
    enum eb_status status;
    if (run->step > 0) {
        status = poll_operation(run);
        if (status == EB_PENDING)
            return;
        if (status != EB_OK || run->stopping) {
            const struct eb_error stopped = {.status = EB_STOPPED, .where = "preparing"};
            run->by_hand = steps->list[run->step - 1].hand[0] != '\0' && status == EB_UNCONFIRMED;
            if (run->by_hand) { /* patience is over; another try would only ask again */
                count_failure(run, &run->contact.error);
                begin_undo(run);
                return;
            }
            try_again(run, status == EB_OK ? &stopped : &run->contact.error);
            return;
        }
    }
    if (run->step < steps->count) {
        const struct eb_step *step = &steps->list[run->step++];
        begin_step(run, step);
        if (step->hand[0] != '\0')
            tell(run);
        return;
    }
    /* It may have restarted into its loader: is it still the same one?  A way of its own sees to that itself.
     */
    if (steps->count > 0 && run->config.profile->from_state.count > 0)
        begin_identify(run, CHECKING);
    else
        begin_send(run);
}

/* A loader that does not tell who it is is taken for the device's own. */
static void poll_checking(struct eb_run *run)
{
    enum eb_status status = poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    status = take_look(run, status, &error);
    bool nameless = run->in_loader && run->identity.serial[0] == '\0';
    if (in_doubt(run, status) && !nameless) {
        begin_identify(run, CHECKING);
        run->step++; /* so that it is polled at once */
        return;
    }
    if (status == EB_OTHER && !nameless) {
        try_again(run, &error);
        return;
    }
    run->contact.loader_seen = run->contact.loader_seen || (status == EB_OK && run->in_loader);
    if (run->stopping) {
        const struct eb_error stopped = {.status = EB_STOPPED, .where = "preparing"};
        try_again(run, &stopped);
        return;
    }
    begin_send(run);
}

static void update_progress(struct eb_run *run)
{
    struct eb_progress *progress = &run->progress;
    uint64_t elapsed_us = run->now_us - run->began_us;
    progress->done_bytes = run->contact.done_bytes;
    progress->bytes_per_s = elapsed_us > 0 ? progress->done_bytes * 1000000 / elapsed_us : 0;
    progress->left_us = 0;
    if (progress->bytes_per_s > 0) {
        uint64_t rest = progress->total_bytes - progress->done_bytes;
        progress->left_us =
            rest * 1000000 / progress->bytes_per_s + run->config.profile->typical_restart_s * 1000000ULL;
    }
}

/* All was sent: the next image of the same restart, or the restart. */
static void after_send(struct eb_run *run)
{
    current(run)->read_back = run->contact.read_back;
    if (next_of_group(run)) {
        run->contact.watching = false;
        tell(run);
        begin_send(run);
        return;
    }
    begin_activate(run);
}

static void poll_sending(struct eb_run *run)
{
    const struct ebi_run_access *by = sender(run);
    if (run->stopping)
        by->access->stop(by->context);
    enum eb_status status = poll_operation(run);
    update_progress(run);
    run->sent = run->sent || run->contact.done_bytes > 0;
    if (status == EB_PENDING) {
        if (run->now_us - run->event_us >= EB_RUN_EVENT_US)
            tell(run);
        /* One that restarts by itself behind the last block may have lost the last acknowledgement: what it
         * runs is asked while the last blocks are repeated. */
        if (run->contact.last_late && sender_is_able(run, EB_ABLE_TO_WAIT) && run->now_us >= run->peek_us &&
            !run->stopping) {
            if (!run->contact.watching)
                ebi_watch(&run->contact);
            run->peek_us = run->now_us + PEEK_US;
            begin_identify(run, PEEKING);
        }
        return;
    }
    /* Without the last acknowledgement nobody knows whether the device has it all: the confirm will tell. */
    bool perhaps_whole = status == EB_NO_ANSWER && run->contact.all_sent;
    if (status != EB_OK && !perhaps_whole) {
        try_again(run, &run->contact.error);
        return;
    }
    after_send(run);
}

static void poll_peeking(struct eb_run *run)
{
    enum eb_status status = poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    status = take_look(run, status, &error);
    if (status == EB_OK && arrived(run)) {
        close_but(run, NULL);
        confirm_group(run);
        return;
    }
    if (status == EB_OK && run->contact.restart != EB_RESTART_NOT_SEEN) {
        close_but(run, NULL); /* it has restarted: the transfer is gone */
        after_send(run);
        return;
    }
    run->identified = false;
    close_but(run, sender(run));
    run->active = (size_t)(sender(run) - run->accesses);
    set_state(run, SENDING);
}

/* The step that was refused as the device was busy. */
static void activate_once_more(struct eb_run *run)
{
    set_state(run, ACTIVATING);
    if (sender_is_able(run, EB_ABLE(EB_ACTIVATE)))
        begin_by_sender(run, EB_ACTIVATE);
    else
        begin_step(run, &run->config.profile->activate.list[run->step - 1]);
}

static void poll_activating(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->activate;
    if (run->step > 0) {
        enum eb_status status = poll_operation(run);
        if (status == EB_PENDING)
            return;
        bool refused = status == EB_PEER_ERROR || status == EB_GARBAGE || status == EB_UNCONFIRMED;
        if (refused && eb_error_retry(&run->contact.error) == EB_RETRY_LATER &&
            run->now_us < run->patience_end_us) {
            keep_error(run, &run->contact.error);
            pause_in(run, ACTIVATE_PAUSE, longer_pause(run));
            return;
        }
        if (refused) {
            try_again(run, &run->contact.error);
            return;
        }
        /* Silence may mean that it restarts already: what returns will tell. */
        run->activate_unanswered = run->activate_unanswered || status != EB_OK;
    } else if (sender_is_able(run, EB_ABLE(EB_ACTIVATE))) {
        run->step = 1; /* such a way has no steps of the profile's */
        begin_by_sender(run, EB_ACTIVATE);
        return;
    }
    if (run->step < steps->count) {
        begin_step(run, &steps->list[run->step++]);
        return;
    }
    run->answered_us = EB_NEVER;
    run->patience_end_us = run->now_us + run->config.profile->return_patience_ms * 1000ULL;
    /* Where only its silence, or the end of a connection, shows the restart, it is looked at all the time. */
    bool watched = run->config.profile->restarts && !run->contact.loader_seen &&
                   run->contact.restart == EB_RESTART_NOT_SEEN;
    pause_in(run, DOWN, watched ? 0 : run->config.profile->down_ms * 1000ULL);
}

/* The device answers, and runs what was intended: whether that is enough. */
static bool read_back_is_enough(struct eb_run *run, struct eb_error *error)
{
    const struct eb_run_item *missing = not_running(run);
    if (missing != NULL) {
        const struct eb_running *running = running_of(run, missing);
        bool same = !run->in_loader && eb_version_compare(&missing->component->order, running->version,
                                                          missing->image->version) == EB_SAME;
        *error = other("reading back the running version",
                       run->in_loader ? "the loader, no program runs"
                       : same         ? running->has_checksum ? "another checksum" : "no checksum"
                                      : running->version,
                       same ? "the image's" : missing->image->version);
        error->status = EB_UNCONFIRMED;
        return false;
    }
    *error = (struct eb_error){.status = EB_UNCONFIRMED, .where = "reading back the running version"};
    if (!restart_seen(run)) {
        error->where = "waiting for the restart";
        /* It took the command: sending everything once more would not make it restart either. */
        error->retry = run->activate_unanswered ? EB_RETRY_AT_ONCE : EB_RETRY_NEVER;
        eb_text_copy(
            error->text, sizeof error->text,
            "the device answers all the time and was not seen to restart; what it tells may be what it "
            "ran before");
        return false;
    }
    if (stopped_by_job(run)) {
        error->retry = EB_RETRY_NEVER; /* what was sent is there: undoing the preparation starts it */
        eb_text_copy(error->text, sizeof error->text, "its program is stopped");
        return false;
    }
    return true;
}

static void poll_returning(struct eb_run *run)
{
    enum eb_status status = poll_look(run);
    struct eb_error error;
    uint64_t typical_us = run->config.profile->typical_restart_s * 1000000ULL;
    uint64_t elapsed_us = run->now_us - run->began_us;
    uint64_t end_us = run->patience_end_us;
    run->progress.left_us = elapsed_us < typical_us ? typical_us - elapsed_us : 0;
    if (status == EB_PENDING)
        return;
    status = take_look(run, status, &error);
    if (status == EB_OK) {
        /* Until it was seen to restart it may just not have begun to. */
        bool seen = restart_seen(run);
        if (seen && run->answered_us == EB_NEVER)
            run->answered_us = run->now_us;
        if (seen)
            set_rung(run, EB_RUNG_CONFIRM);
        if (read_back_is_enough(run, &error)) {
            confirm_group(run);
            return;
        }
        if (seen)
            end_us = run->answered_us + run->config.profile->settle_ms * 1000ULL;
    }
    if (run->now_us < end_us)
        pause_in(run, RETURN_PAUSE, restart_seen(run) ? PAUSE_US : WATCH_US);
    else
        try_again(run, &error);
}

/* --- the way down -------------------------------------------------------------------------------- */

/* The next step of undoing; behind the last one it is looked what came of it. */
static void undo_next(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->undo;
    bool own = sender_is_able(run, EB_ABLE(EB_UNDO));
    if (run->step == 0 && own) {
        run->step = 1;
        begin_by_sender(run, EB_UNDO);
        set_state(run, UNDOING);
    } else if (run->step < steps->count) {
        begin_step(run, &steps->list[run->step++]);
        set_state(run, UNDOING);
    } else {
        pause_in(run, LAST_PAUSE, steps->count > 0 || own ? run->config.profile->down_ms * 1000ULL : 0);
    }
}

/* A device that is busy is asked again; any other failure is no reason to leave out the next step. */
static void poll_undoing(struct eb_run *run)
{
    enum eb_status status = poll_operation(run);
    const struct eb_error *error = &run->contact.error;
    if (status == EB_PENDING)
        return;
    bool later = status == EB_PEER_ERROR && eb_error_retry(error) == EB_RETRY_LATER;
    if (later && run->later_us == 0)
        run->later_us = run->now_us;
    if (later && run->now_us - run->later_us < busy_patience_us(run)) {
        run->step--;
        pause_in(run, UNDO_PAUSE, longer_pause(run));
        return;
    }
    if (status != EB_OK && run->config.recover)
        keep_error(run, error);
    run->undo_failed = run->undo_failed || status != EB_OK;
    undo_next(run);
}

static enum eb_outcome last_outcome(const struct eb_run *run, bool meant)
{
    if (meant && run->in_loader)
        return EB_OUTCOME_IN_LOADER;
    if (run->config.recover)
        return meant && !run->prepared ? EB_OUTCOME_RECOVERED : EB_OUTCOME_FAILED;
    return run->stopping ? EB_OUTCOME_INTERRUPTED : run->by_hand ? EB_OUTCOME_NEEDS_HAND : EB_OUTCOME_FAILED;
}

/* Says what state the device was left in: by looking. */
static void poll_last_look(struct eb_run *run)
{
    enum eb_status status = poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    if (run->patience_end_us == 0) {
        uint64_t ms = run->config.profile->return_patience_ms;
        run->patience_end_us = run->now_us + (any_effect(run) ? ms : 0) * 1000;
        run->answered_us = EB_NEVER;
    }
    run->identified = false;
    status = take_look(run, status, &error);
    bool meant = status == EB_OK;
    if (meant && run->answered_us == EB_NEVER) {
        uint64_t end_us = run->now_us + run->config.profile->settle_ms * 1000ULL;
        run->answered_us = run->now_us;
        run->patience_end_us = end_us < run->patience_end_us ? end_us : run->patience_end_us;
    }
    bool well = meant && !run->in_loader && !stopped_by_job(run);
    if (run->undo_due && !in_doubt(run, status)) {
        run->undo_due = false;
        if (!well) {
            run->patience_end_us = 0;
            undo(run);
            return;
        }
    }
    if (well && !run->undo_failed)
        run->prepared = false;
    if (meant && run->config.count > 0 && arrived(run)) {
        confirm_group(run);
    } else if (in_doubt(run, status) || (!well && status != EB_OTHER && run->now_us < run->patience_end_us)) {
        pause_in(run, LAST_PAUSE, PAUSE_US);
    } else {
        if (run->config.recover && !meant)
            keep_error(run, &error);
        else if (run->config.recover && run->program_stopped && run->error.status == EB_OK)
            keep_error(run, &(struct eb_error){.status = EB_UNCONFIRMED,
                                               .where = "starting the program",
                                               .text = "it is still stopped"});
        run->identified = meant;
        finish(run, last_outcome(run, meant));
    }
}

const char *eb_run_hand(const struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->prepare;
    bool waits = run->state == PREPARING && run->step > 0 && run->step <= steps->count;
    return waits && steps->list[run->step - 1].hand[0] != '\0' ? steps->list[run->step - 1].hand : NULL;
}

/* ------------------------------------------------------------------------------------------------- */

/* Contexts lie one behind the other, each where any type may begin. */
static size_t context_words(const struct eb_access *access)
{
    return (access->context_bytes + sizeof(uint64_t) - 1) / sizeof(uint64_t);
}

size_t eb_run_memory_bytes(const struct eb_profile *profile)
{
    const struct eb_access *list[EB_ACCESSES_MAX];
    size_t count = eb_profile_accesses(profile, list);
    size_t words = 0;
    for (size_t i = 0; i < count; i++)
        words += context_words(list[i]);
    return words * sizeof(uint64_t);
}

const void *eb_run_context(const struct eb_run *run, const struct eb_access *access)
{
    const struct ebi_run_access *found = access_of(run, access);
    return found != NULL ? found->context : NULL;
}

static void init_accesses(struct eb_run *run)
{
    const struct eb_run_config *config = &run->config;
    const struct eb_access *list[EB_ACCESSES_MAX];
    uint64_t *at = config->memory;
    run->contact = (struct eb_contact){.port = config->port,
                                       .profile = config->profile,
                                       .target = &run->config.target,
                                       .owner = run,
                                       .patience_us = config->profile->answer_patience_ms * 1000ULL,
                                       .buffer = config->buffer,
                                       .buffer_bytes = config->buffer_bytes,
                                       .first_is_enough = config->count > 0,
                                       .interrupted = config->interrupted,
                                       .texts = &run->texts};
    run->access_count = eb_profile_accesses(config->profile, list);
    for (size_t i = 0; i < run->access_count; i++) {
        run->accesses[i] = (struct ebi_run_access){list[i], at};
        at += context_words(list[i]);
        list[i]->init(run->accesses[i].context, &run->contact);
    }
}

enum eb_status eb_run_init(struct eb_run *run, const struct eb_run_config *config)
{
    memset(run, 0, sizeof *run);
    const struct eb_access *sends_by = config->profile->sends_by;
    bool sends = sends_by != NULL && (sends_by->able & EB_ABLE(EB_SEND)) != 0;
    run->config = *config;
    run->progress.attempt = 1;
    if (config->memory == NULL || config->memory_bytes < eb_run_memory_bytes(config->profile) ||
        config->count > EB_RUN_ITEMS_MAX ||
        (config->count > 0 &&
         (!sends || config->buffer_bytes < EB_RUN_BUFFER_MIN_BYTES || config->recover))) {
        run->state = ENDED;
        run->progress.rung = EB_RUNG_END;
        run->outcome = EB_OUTCOME_FAILED;
        run->error = (struct eb_error){.status = EB_BAD_CALL, .where = "beginning"};
        return EB_BAD_CALL;
    }
    run->now_us = config->port->now_us(config->port->self);
    init_accesses(run);
    begin_reach(run, config->reach_patience_us);
    return EB_OK;
}

static void poll_once(struct eb_run *run)
{
    bool due = run->now_us >= run->wake_us;
    switch ((enum state)run->state) {
    case REACHING:
        poll_reaching(run);
        break;
    case REACH_PAUSE:
        if (run->stopping && !run->judged)
            finish(run, EB_OUTCOME_INTERRUPTED);
        else if (due)
            begin_identify(run, REACHING);
        break;
    case PREPARING:
        poll_preparing(run, &run->config.profile->prepare);
        break;
    case CHECKING:
        poll_checking(run);
        break;
    case SENDING:
        poll_sending(run);
        break;
    case PEEKING:
        poll_peeking(run);
        break;
    case ACTIVATING:
        poll_activating(run);
        break;
    case ACTIVATE_PAUSE:
        if (due)
            activate_once_more(run);
        break;
    case DOWN:
    case RETURN_PAUSE:
        if (due)
            begin_identify(run, RETURNING);
        break;
    case RETURNING:
        poll_returning(run);
        break;
    case TRY_PAUSE:
        if (run->stopping)
            begin_undo(run);
        else if (due)
            begin_next_try(run);
        break;
    case UNDOING:
        poll_undoing(run);
        break;
    case UNDO_PAUSE:
        if (due)
            undo_next(run);
        break;
    case LAST_PAUSE:
        if (due)
            begin_identify(run, LAST_LOOK);
        break;
    case LAST_LOOK:
        poll_last_look(run);
        break;
    case ENDED:
        break;
    }
}

void eb_run_poll(struct eb_run *run)
{
    const struct eb_port *port = run->config.port;
    uint8_t state;
    size_t step;
    if (run->state == ENDED)
        return;
    run->now_us = port->now_us(port->self);
    do {
        state = run->state;
        step = run->step;
        poll_once(run);
    } while (run->state != ENDED && (run->state != state || run->step != step));
}

uint64_t eb_run_deadline_us(const struct eb_run *run)
{
    switch ((enum state)run->state) {
    case ENDED:
        return EB_NEVER;
    case REACH_PAUSE:
    case DOWN:
    case RETURN_PAUSE:
    case TRY_PAUSE:
    case ACTIVATE_PAUSE:
    case UNDO_PAUSE:
    case LAST_PAUSE:
        return run->wake_us;
    default:
        if (run->active == EB_ACCESSES_MAX)
            return run->step_end_us;
        return run->accesses[run->active].access->deadline_us(run->accesses[run->active].context);
    }
}

bool eb_run_ended(const struct eb_run *run)
{
    return run->state == ENDED;
}

void eb_run_stop(struct eb_run *run)
{
    if (run->state != ENDED)
        run->stopping = true;
}

void eb_run_abandon(struct eb_run *run)
{
    if (run->state != ENDED) {
        run->now_us = run->config.port->now_us(run->config.port->self);
        finish(run, EB_OUTCOME_INTERRUPTED);
    }
}

void eb_run_stall(struct eb_run *run)
{
    const struct eb_error error = {.status = EB_STALLED, .where = rung_words[run->progress.rung]};
    if (run->state == ENDED)
        return;
    keep_error(run, &error);
    finish(run, EB_OUTCOME_FAILED);
}
