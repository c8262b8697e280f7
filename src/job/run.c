#include "einbau/run.h"
#include "einbau/plan.h"
#include "einbau/text.h"
#include "route/route.h"

#include <string.h>

/* What a run is doing.  Rungs of the ladder are what a user sees of it.
 *
 *   REACHING <-> REACH_PAUSE     until it is identified, or patience is over
 *      |
 *      v (judged; looked at only, refused, already right: ENDED)
 *   PREPARING -> SENDING -> ACTIVATING -> DOWN -> RETURNING <-> RETURN_PAUSE --confirmed--> next item
 *      \___________\____________\____________________/
 *                  | failed
 *                  v
 *      a try is left: REACHING; none, or stopped: UNDOING -> LAST_PAUSE <-> LAST_LOOK -> ENDED
 */
enum state {
    REACHING,
    REACH_PAUSE,
    PREPARING,
    SENDING,
    ACTIVATING,
    DOWN,
    RETURNING,
    RETURN_PAUSE,
    UNDOING,
    LAST_PAUSE,
    LAST_LOOK,
    ENDED
};

enum { PAUSE_US = 500000 }; /* between two tries to reach a device */

static const char *const rung_words[] = {"reach",    "identify", "judge",   "prepare", "send",
                                         "activate", "return",   "confirm", "restore", "end"};
static const char *const outcome_words[] = {"none",   "confirmed", "already-right", "refused",
                                            "failed", "in-loader", "needs-hand",    "interrupted"};

const char *eb_rung_word(enum eb_rung rung)
{
    return (size_t)rung < sizeof rung_words / sizeof rung_words[0] ? rung_words[rung] : "unknown";
}

const char *eb_outcome_word(enum eb_outcome outcome)
{
    return (size_t)outcome < sizeof outcome_words / sizeof outcome_words[0] ? outcome_words[outcome]
                                                                            : "unknown";
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
        [REACHING] = EB_RUNG_REACH,     [REACH_PAUSE] = EB_RUNG_REACH,   [PREPARING] = EB_RUNG_PREPARE,
        [SENDING] = EB_RUNG_SEND,       [ACTIVATING] = EB_RUNG_ACTIVATE, [DOWN] = EB_RUNG_RETURN,
        [RETURNING] = EB_RUNG_RETURN,   [RETURN_PAUSE] = EB_RUNG_RETURN, [UNDOING] = EB_RUNG_RESTORE,
        [LAST_PAUSE] = EB_RUNG_RESTORE, [LAST_LOOK] = EB_RUNG_RESTORE,   [ENDED] = EB_RUNG_END,
    };
    run->state = (uint8_t)state;
    set_rung(run, rungs[state]);
}

static void finish(struct eb_run *run, enum eb_outcome outcome)
{
    run->outcome = outcome;
    run->config.route->close(&run->route);
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
    run->config.route->identify(&run->route, run->now_us);
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

/* --- identity ------------------------------------------------------------------------------------ */

/* Whether two texts of one item say the same: versions by their order, checksums as numbers. */
static bool agree(const struct eb_profile *p, size_t item, const char *one, const char *other)
{
    uint32_t a;
    uint32_t b;
    if (strcmp(one, other) == 0)
        return true;
    if (item < 6)
        return false;
    if ((item - 6) % 2 == 0)
        return eb_version_compare(&p->components[(item - 6) / 2].order, one, other) == EB_SAME;
    return eb_text_hex32(one, &a) && eb_text_hex32(other, &b) && a == b;
}

static void find_disagreement(struct eb_run *run, size_t item)
{
    const struct eb_profile *p = run->config.profile;
    const struct eb_values *values = eb_profile_values(p, item);
    size_t first = EB_SOURCES_MAX;
    for (size_t i = 0; values != NULL && i < values->count; i++) {
        const char *text = run->route.texts[item][i];
        if (text[0] == '\0')
            continue;
        if (first == EB_SOURCES_MAX) {
            first = i;
        } else if (!agree(p, item, run->route.texts[item][first], text) &&
                   run->disagreements < EB_DISAGREEMENTS_MAX) {
            struct eb_disagreement *d = &run->disagreement[run->disagreements++];
            *d = (struct eb_disagreement){
                .item = item, .by = values->list[first].kind, .other_by = values->list[i].kind};
            eb_text_copy(d->text, sizeof d->text, run->route.texts[item][first]);
            eb_text_copy(d->other_text, sizeof d->other_text, text);
        }
    }
}

static void take_identity(struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    const struct ebi_route *route = &run->route;
    char text[EB_NAME_BYTES];
    struct eb_identity *id = &run->identity;
    ebi_route_value(route, &p->from_maker, id->maker, sizeof id->maker);
    ebi_route_value(route, &p->from_product, id->product, sizeof id->product);
    ebi_route_value(route, &p->from_order_code, id->order_code, sizeof id->order_code);
    ebi_route_value(route, &p->from_hardware_revision, id->hardware_revision, sizeof id->hardware_revision);
    ebi_route_value(route, &p->from_serial, id->serial, sizeof id->serial);
    run->in_loader =
        ebi_route_value(route, &p->from_state, text, sizeof text) && strcmp(text, p->state_loader) == 0;
    if (run->in_loader && p->loader_order_code[0] != '\0')
        eb_text_copy(id->order_code, sizeof id->order_code, p->loader_order_code);
    for (size_t i = 0; i < p->count; i++) {
        struct eb_running *running = &run->running[i];
        ebi_route_value(route, &p->components[i].version, running->version, sizeof running->version);
        running->has_checksum = ebi_route_value(route, &p->components[i].checksum, text, sizeof text) &&
                                eb_text_hex32(text, &running->checksum);
    }
    run->usb = (struct eb_usb_ids){.vendor = p->dfu.vendor,
                                   .product = p->dfu.product,
                                   .loader_vendor = p->dfu.loader_vendor,
                                   .loader_product = p->dfu.loader_product,
                                   .release = route->usb.device.release};
    for (size_t i = 0; i < p->count; i++) {
        const struct eb_values *version = &p->components[i].version;
        for (size_t k = 0; k < version->count; k++)
            run->usb.release_is_version =
                run->usb.release_is_version ||
                (version->list[k].kind == EB_VALUE_USB && version->list[k].item == EB_USB_RELEASE);
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
    const char *serial = run->serial[0] != '\0' ? run->serial : run->config.serial;
    const char *code = run->order_code;
    bool by_place = run->route.usb.by_place && id->serial[0] == '\0';
    if (serial != NULL && serial[0] != '\0' && !by_place && strcmp(serial, id->serial) != 0) {
        *error = other("comparing the serial number", id->serial, serial);
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

/* --- the way up ---------------------------------------------------------------------------------- */

static void begin_prepare(struct eb_run *run)
{
    run->step = 0;
    set_state(run, PREPARING);
}

/* Goes to the next item that is to be written, or ends. */
static void next_item(struct eb_run *run)
{
    size_t confirmed = 0;
    for (size_t i = 0; i < run->config.count; i++) {
        if (run->config.items[i].outcome == EB_OUTCOME_NONE) {
            if (run->stopping) {
                finish(run, EB_OUTCOME_INTERRUPTED);
                return;
            }
            run->progress.item = i;
            run->group = i;
            run->progress.attempt = 1;
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

static void begin_restore(struct eb_run *run)
{
    run->step = 0;
    run->patience_end_us = 0;
    if (run->prepared) {
        set_state(run, UNDOING);
    } else {
        pause_in(run, LAST_PAUSE, 0);
    }
}

/* A try has failed with `error`: another one, or the end. */
static void try_again(struct eb_run *run, const struct eb_error *error)
{
    keep_error(run, error);
    if (run->stopping || run->progress.attempt >= EB_RUN_TRIES) {
        begin_restore(run);
        return;
    }
    run->progress.attempt++;
    run->progress.item = run->group;
    run->progress.done_bytes = 0;
    run->progress.total_bytes = current(run)->source.size_bytes;
    tell(run);
    uint64_t patience_us = run->config.profile->return_patience_ms * 1000ULL;
    begin_reach(run,
                patience_us > run->config.reach_patience_us ? patience_us : run->config.reach_patience_us);
}

/* The items of the current group were seen to run: with what ran before being something else, or with a
 * restart in between. */
static void confirm_group(struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        if (run->config.items[i].outcome == EB_OUTCOME_NONE)
            run->config.items[i].outcome = EB_OUTCOME_CONFIRMED;
    }
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
static bool arrived(const struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        const struct eb_run_item *item = &run->config.items[i];
        if (item->outcome == EB_OUTCOME_NONE && (!item->touched || item->was_right))
            return false;
    }
    return not_running(run) == NULL;
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

static void poll_reaching(struct eb_run *run)
{
    enum eb_status status = run->config.route->poll(&run->route, run->now_us);
    struct eb_error error = run->route.error;
    if (run->stopping && !run->judged) {
        finish(run, EB_OUTCOME_INTERRUPTED);
        return;
    }
    if (run->route.connected)
        set_rung(run, EB_RUNG_IDENTIFY);
    if (status == EB_PENDING)
        return;
    if (status == EB_OK) {
        take_identity(run);
        if (is_meant(run, &error)) {
            if (run->config.count == 0)
                finish(run, EB_OUTCOME_NONE);
            else if (!run->judged)
                judge(run);
            else if (run->stopping)
                begin_restore(run);
            else if (arrived(run))
                confirm_group(run);
            else
                begin_prepare(run);
            return;
        }
    } else if (run->now_us < run->patience_end_us) {
        pause_in(run, REACH_PAUSE, PAUSE_US);
        return;
    }
    if (!run->judged) {
        keep_error(run, &error);
        finish(run, run->config.count == 0     ? EB_OUTCOME_NONE
                    : error.status == EB_OTHER ? EB_OUTCOME_REFUSED
                                               : EB_OUTCOME_FAILED);
    } else {
        run->identified = false;
        finish(run, EB_OUTCOME_FAILED); /* `error` still says what began it */
    }
}

static void begin_send(struct eb_run *run)
{
    current(run)->touched = true;
    run->prepared = run->prepared || run->config.route->undo != NULL;
    run->began_us = run->now_us;
    run->config.route->send(&run->route, current(run), run->now_us);
    set_state(run, SENDING);
}

static void poll_preparing(struct eb_run *run, const struct eb_steps *steps)
{
    enum eb_status status;
    if (run->step == 0)
        run->prepared = run->prepared || steps->count > 0;
    if (run->step > 0) {
        status = run->config.route->poll(&run->route, run->now_us);
        if (status == EB_PENDING)
            return;
        if (status != EB_OK || run->stopping) {
            const struct eb_error stopped = {.status = EB_STOPPED, .where = "preparing"};
            run->by_hand = steps->list[run->step - 1].kind == EB_STEP_BY_HAND && status == EB_UNCONFIRMED;
            if (run->by_hand) { /* patience is over; another try would only ask again */
                keep_error(run, &run->route.error);
                begin_restore(run);
                return;
            }
            try_again(run, status == EB_OK ? &stopped : &run->route.error);
            return;
        }
    }
    if (run->step < steps->count) {
        const struct eb_step *step = &steps->list[run->step++];
        run->config.route->step(&run->route, step, run->now_us);
        if (step->kind == EB_STEP_BY_HAND)
            tell(run);
        return;
    }
    begin_send(run);
}

static void update_progress(struct eb_run *run)
{
    struct eb_progress *progress = &run->progress;
    uint64_t elapsed_us = run->now_us - run->began_us;
    progress->done_bytes = run->route.done_bytes;
    progress->bytes_per_s = elapsed_us > 0 ? progress->done_bytes * 1000000 / elapsed_us : 0;
    progress->left_us = 0;
    if (progress->bytes_per_s > 0) {
        uint64_t rest = progress->total_bytes - progress->done_bytes;
        progress->left_us =
            rest * 1000000 / progress->bytes_per_s + run->config.profile->typical_restart_s * 1000000ULL;
    }
}

static void poll_sending(struct eb_run *run)
{
    if (run->stopping)
        run->config.route->stop(&run->route);
    enum eb_status status = run->config.route->poll(&run->route, run->now_us);
    update_progress(run);
    if (status == EB_PENDING) {
        if (run->now_us - run->event_us >= EB_RUN_EVENT_US)
            tell(run);
        return;
    }
    /* Without the last acknowledgement nobody knows whether the device has it all: the confirm will tell. */
    bool perhaps_whole = status == EB_NO_ANSWER && run->route.all_sent;
    if (status != EB_OK && !perhaps_whole) {
        try_again(run, &run->route.error);
        return;
    }
    if (next_of_group(run)) {
        tell(run);
        begin_send(run);
        return;
    }
    run->step = 0;
    run->began_us = run->now_us;
    set_state(run, ACTIVATING);
}

static void poll_activating(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->activate;
    if (run->step > 0) {
        enum eb_status status = run->config.route->poll(&run->route, run->now_us);
        if (status == EB_PENDING)
            return;
        if (status == EB_PEER_ERROR || status == EB_GARBAGE || status == EB_UNCONFIRMED) {
            try_again(run, &run->route.error);
            return;
        }
        /* Silence may mean that it restarts already: what returns will tell. */
    } else if (run->config.route->activate != NULL) {
        run->step = 1; /* such a way has no steps of the profile's */
        run->config.route->activate(&run->route, run->now_us);
        return;
    }
    if (run->step < steps->count) {
        run->config.route->step(&run->route, &steps->list[run->step++], run->now_us);
        return;
    }
    run->answered_us = EB_NEVER;
    run->patience_end_us = run->now_us + run->config.profile->return_patience_ms * 1000ULL;
    pause_in(run, DOWN, run->config.profile->down_ms * 1000ULL);
}

static void poll_returning(struct eb_run *run)
{
    enum eb_status status = run->config.route->poll(&run->route, run->now_us);
    struct eb_error error = run->route.error;
    uint64_t typical_us = run->config.profile->typical_restart_s * 1000000ULL;
    uint64_t elapsed_us = run->now_us - run->began_us;
    uint64_t end_us = run->patience_end_us;
    run->progress.left_us = elapsed_us < typical_us ? typical_us - elapsed_us : 0;
    if (status == EB_PENDING)
        return;
    if (status == EB_OK) {
        take_identity(run);
        if (is_meant(run, &error)) {
            set_rung(run, EB_RUNG_CONFIRM);
            const struct eb_run_item *missing = not_running(run);
            if (missing == NULL) {
                confirm_group(run);
                return;
            }
            const struct eb_running *running = running_of(run, missing);
            bool text_fits = !run->in_loader && strcmp(running->version, missing->image->version) == 0;
            error = other("reading back the running version",
                          run->in_loader ? "the loader, no program runs"
                          : text_fits    ? "another checksum"
                                         : running->version,
                          text_fits ? "the image's" : missing->image->version);
            error.status = EB_UNCONFIRMED;
            if (run->answered_us == EB_NEVER)
                run->answered_us = run->now_us;
            end_us = run->answered_us + run->config.profile->settle_ms * 1000ULL;
        }
    }
    if (run->now_us < end_us)
        pause_in(run, RETURN_PAUSE, PAUSE_US);
    else
        try_again(run, &error);
}

/* --- the way down -------------------------------------------------------------------------------- */

static void poll_undoing(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->undo;
    if (run->step > 0 && run->config.route->poll(&run->route, run->now_us) == EB_PENDING)
        return; /* a step that fails is no reason to leave out the next */
    bool own = run->config.route->undo != NULL;
    if (run->step == 0 && own) {
        run->step = 1;
        run->config.route->undo(&run->route, run->now_us);
    } else if (run->step < steps->count) {
        run->config.route->step(&run->route, &steps->list[run->step++], run->now_us);
    } else {
        pause_in(run, LAST_PAUSE, steps->count > 0 || own ? run->config.profile->down_ms * 1000ULL : 0);
    }
}

/* Says what state the device was left in: by looking. */
static void poll_last_look(struct eb_run *run)
{
    enum eb_status status = run->config.route->poll(&run->route, run->now_us);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    if (run->patience_end_us == 0) {
        uint64_t ms = run->config.profile->return_patience_ms;
        run->patience_end_us = run->now_us + (run->prepared ? ms : 0) * 1000;
        run->answered_us = EB_NEVER;
    }
    run->identified = false;
    bool meant = false;
    if (status == EB_OK) {
        take_identity(run);
        meant = is_meant(run, &error);
        if (run->answered_us == EB_NEVER) {
            uint64_t end_us = run->now_us + run->config.profile->settle_ms * 1000ULL;
            run->answered_us = run->now_us;
            run->patience_end_us = end_us < run->patience_end_us ? end_us : run->patience_end_us;
        }
    }
    if (meant && arrived(run))
        confirm_group(run);
    else if ((!meant || run->in_loader) && run->now_us < run->patience_end_us)
        pause_in(run, LAST_PAUSE, PAUSE_US);
    else if (meant && run->in_loader)
        finish(run, EB_OUTCOME_IN_LOADER);
    else
        finish(run, run->stopping  ? EB_OUTCOME_INTERRUPTED
                    : run->by_hand ? EB_OUTCOME_NEEDS_HAND
                                   : EB_OUTCOME_FAILED);
}

const char *eb_run_hand(const struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->prepare;
    bool waits = run->state == PREPARING && run->step > 0 && run->step <= steps->count;
    return waits && steps->list[run->step - 1].kind == EB_STEP_BY_HAND ? steps->list[run->step - 1].hand
                                                                       : NULL;
}

/* ------------------------------------------------------------------------------------------------- */

enum eb_status eb_run_init(struct eb_run *run, const struct eb_run_config *config)
{
    memset(run, 0, sizeof *run);
    const struct eb_profile *p = config->profile;
    bool steps = p->prepare.count + p->activate.count + p->undo.count > 0;
    if (config->route == NULL || (steps && config->route->step == NULL) || config->count > EB_RUN_ITEMS_MAX ||
        (config->count > 0 && config->buffer_bytes < EB_RUN_BUFFER_MIN_BYTES))
        return EB_BAD_CALL;
    run->config = *config;
    run->now_us = config->port->now_us(config->port->self);
    run->progress.attempt = 1;
    ebi_route_init(&run->route, &run->config, run);
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
    case SENDING:
        poll_sending(run);
        break;
    case ACTIVATING:
        poll_activating(run);
        break;
    case DOWN:
    case RETURN_PAUSE:
        if (due)
            begin_identify(run, RETURNING);
        break;
    case RETURNING:
        poll_returning(run);
        break;
    case UNDOING:
        poll_undoing(run);
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
    case LAST_PAUSE:
        return run->wake_us;
    default:
        return run->config.route->deadline_us(&run->route);
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
