#include "einbau/run.h"
#include "base/check.h"
#include "job/ladder.h"

#include <string.h>

static const char *const rung_words[] = {"reach",    "identify", "judge",   "save",    "prepare", "send",
                                         "activate", "return",   "confirm", "restore", "end"};
static const char *const outcome_words[EB_OUTCOMES] = {
    "none",        "confirmed",   "up-to-date",  "refused",   "failed",   "in-loader",
    "manual-step", "interrupted", "not-started", "recovered", "put-back", "done"};

const char *eb_rung_word(enum eb_rung rung)
{
    return (size_t)rung < sizeof rung_words / sizeof rung_words[0] ? rung_words[rung] : "unknown";
}

const char *eb_outcome_word(enum eb_outcome outcome)
{
    return (size_t)outcome < EB_OUTCOMES ? outcome_words[outcome] : "unknown";
}

/* --- pauses -------------------------------------------------------------------------------------- */

static bool over(const struct eb_run *run)
{
    return run->now_us >= run->wake_us;
}

static void poll_reach_pause(struct eb_run *run)
{
    if (run->stopping && !run->judged)
        ebi_finish(run, EB_OUTCOME_INTERRUPTED);
    else if (over(run))
        ebi_begin_identify(run, EBI_REACHING);
}

static void poll_activate_pause(struct eb_run *run)
{
    if (over(run))
        ebi_activate_once_more(run);
}

static void poll_return_pause(struct eb_run *run)
{
    if (over(run))
        ebi_begin_identify(run, EBI_RETURNING);
}

static void poll_try_pause(struct eb_run *run)
{
    if (run->stopping)
        ebi_begin_undo(run);
    else if (over(run))
        ebi_begin_next_try(run);
}

static void poll_undo_pause(struct eb_run *run)
{
    if (over(run))
        ebi_undo_next(run);
}

static void poll_last_pause(struct eb_run *run)
{
    if (over(run))
        ebi_begin_identify(run, EBI_LAST_LOOK);
}

static void rest(struct eb_run *run)
{
    (void)run;
}

static void poll_documents(struct eb_run *run)
{
    run->config.keeps->poll(run);
}

/* --- what must hold in a state ------------------------------------------------------------------- */

static bool has_item(const struct eb_run *run)
{
    return run->judged && run->progress.item < run->config.count && ebi_sender(run) != NULL;
}

static bool was_touched(const struct eb_run *run)
{
    return has_item(run) && ebi_touched(run, run->progress.item);
}

static bool is_watched(const struct eb_run *run)
{
    return was_touched(run) && run->contact.watching;
}

static bool is_prepared(const struct eb_run *run)
{
    return run->record.prepared;
}

/* Nothing is confirmed that was not sent, and no item is left without an outcome. */
static bool is_told(const struct eb_run *run)
{
    for (size_t i = 0; i < run->config.count; i++) {
        enum eb_outcome outcome = run->config.items[i].outcome;
        if (outcome == EB_OUTCOME_CONFIRMED && !ebi_touched(run, i))
            return false;
        if (outcome == EB_OUTCOME_NONE && run->outcome == EB_OUTCOME_CONFIRMED)
            return false;
    }
    return true;
}

static bool holds(const struct eb_run *run)
{
    static bool (*const rules[])(const struct eb_run *run) = {
        [EBI_PREPARING] = has_item, [EBI_CHECKING] = is_prepared,  [EBI_SENDING] = was_touched,
        [EBI_PEEKING] = is_watched, [EBI_ACTIVATING] = is_watched, [EBI_ACTIVATE_PAUSE] = is_watched,
        [EBI_DOWN] = is_watched,    [EBI_RETURNING] = is_watched,  [EBI_RETURN_PAUSE] = is_watched,
        [EBI_TRY_PAUSE] = has_item, [EBI_UNDOING] = is_prepared,   [EBI_UNDO_PAUSE] = is_prepared,
        [EBI_ENDED] = is_told,
    };
    return rules[run->state] == NULL || rules[run->state](run);
}

/* --- the table ----------------------------------------------------------------------------------- */

static const struct {
    enum eb_rung rung;
    bool pauses; /* until run->wake_us; else the access at work says when */
    void (*poll)(struct eb_run *run);
} states[] = {
    [EBI_REACHING] = {EB_RUNG_REACH, false, ebi_poll_reaching},
    [EBI_REACH_PAUSE] = {EB_RUNG_REACH, true, poll_reach_pause},
    [EBI_SAVING] = {EB_RUNG_SAVE, false, poll_documents},
    [EBI_JOINING] = {EB_RUNG_PREPARE, false, poll_documents},
    [EBI_PREPARING] = {EB_RUNG_PREPARE, false, ebi_poll_preparing},
    [EBI_CHECKING] = {EB_RUNG_PREPARE, false, ebi_poll_checking},
    [EBI_SENDING] = {EB_RUNG_SEND, false, ebi_poll_sending},
    [EBI_PEEKING] = {EB_RUNG_SEND, false, ebi_poll_peeking},
    [EBI_ACTIVATING] = {EB_RUNG_ACTIVATE, false, ebi_poll_activating},
    [EBI_ACTIVATE_PAUSE] = {EB_RUNG_ACTIVATE, true, poll_activate_pause},
    [EBI_DOWN] = {EB_RUNG_RETURN, true, poll_return_pause},
    [EBI_RETURNING] = {EB_RUNG_RETURN, false, ebi_poll_returning},
    [EBI_RETURN_PAUSE] = {EB_RUNG_RETURN, true, poll_return_pause},
    [EBI_TRY_PAUSE] = {EB_RUNG_REACH, true, poll_try_pause},
    [EBI_UNDOING] = {EB_RUNG_RESTORE, false, ebi_poll_undoing},
    [EBI_UNDO_PAUSE] = {EB_RUNG_RESTORE, true, poll_undo_pause},
    [EBI_LAST_PAUSE] = {EB_RUNG_RESTORE, true, poll_last_pause},
    [EBI_LAST_LOOK] = {EB_RUNG_RESTORE, false, ebi_poll_last_look},
    [EBI_PUTTING_BACK] = {EB_RUNG_RESTORE, false, poll_documents},
    [EBI_ENDED] = {EB_RUNG_END, false, rest},
};

/* --- telling ------------------------------------------------------------------------------------- */

void ebi_tell(struct eb_run *run)
{
    run->event_us = run->now_us;
    if (run->config.event != NULL)
        run->config.event(run->config.event_context, run);
}

void ebi_set_rung(struct eb_run *run, enum eb_rung rung)
{
    if (run->progress.rung != rung) {
        run->progress.rung = rung;
        ebi_tell(run);
    }
}

void ebi_set_state(struct eb_run *run, enum ebi_state state)
{
    /* Seen to be back, and read again until it runs what was sent. */
    bool confirms = (state == EBI_RETURNING || state == EBI_RETURN_PAUSE) && run->answered_us != EB_NEVER;
    run->state = (uint8_t)state;
    ebi_set_rung(run, confirms ? EB_RUNG_CONFIRM : states[state].rung);
    EBI_CHECK(holds(run));
}

void ebi_pause_in(struct eb_run *run, enum ebi_state state, uint64_t us)
{
    run->wake_us = run->now_us + us;
    ebi_set_state(run, state);
}

void ebi_begin_identify(struct eb_run *run, enum ebi_state state)
{
    ebi_begin_look(run);
    ebi_set_state(run, state);
}

void ebi_begin_reach(struct eb_run *run, uint64_t patience_us)
{
    run->patience_end_us = run->now_us + patience_us;
    ebi_begin_identify(run, EBI_REACHING);
}

void ebi_keep_error(struct eb_run *run, const struct eb_error *error)
{
    run->error = *error;
    run->error_rung = run->progress.rung;
}

struct eb_run_item *ebi_current(struct eb_run *run)
{
    return &run->config.items[run->progress.item];
}

bool ebi_touched(const struct eb_run *run, size_t item)
{
    return (run->record.touched >> item & 1) != 0;
}

bool ebi_may_act(struct eb_run *run, enum eb_effect effect)
{
    struct eb_run_record *record = &run->record;
    const struct eb_run_record before = *record;
    record->effect = effect;
    record->item = run->progress.item;
    record->attempt = run->progress.attempt;
    if (effect == EB_EFFECT_SEND)
        record->touched |= (uint16_t)(1U << record->item);
    if (effect == EB_EFFECT_PREPARE || effect == EB_EFFECT_SEND)
        record->prepared =
            before.prepared || effect == EB_EFFECT_PREPARE || ebi_sender_is_able(run, EB_ABLE(EB_UNDO));
    if (run->config.effect != NULL && !run->config.effect(run->config.effect_context, run, record) &&
        effect != EB_EFFECT_UNDO) {
        *record = before; /* nothing is done */
        return false;
    }
    record->acted = true;
    run->identified = false;
    return true;
}

const char *eb_run_hand(const struct eb_run *run)
{
    return run->hand_count > 0 && run->state != EBI_ENDED ? run->hands[run->hand_count - 1] : NULL;
}

bool eb_run_hand_waits(const struct eb_run *run)
{
    return run->hand_waits && !run->hand_done;
}

void eb_run_hand_done(struct eb_run *run)
{
    run->hand_done = run->hand_waits;
}

void ebi_ask_hand(struct eb_run *run, const struct eb_step *step)
{
    if (step->hand == NULL)
        return;
    if (run->hand_count == EB_HANDS_MAX)
        run->hand_count = 0;
    run->hands[run->hand_count++] = step->hand;
    run->hand_waits = step->by == NULL && step->kind == EB_HAND_ASKED;
    run->hand_done = false;
    ebi_tell(run);
}

void ebi_hands_done(struct eb_run *run)
{
    run->hand_count = 0;
    run->hand_waits = false;
}

/* ------------------------------------------------------------------------------------------------- */

enum eb_status eb_run_init(struct eb_run *run, const struct eb_run_config *config)
{
    memset(run, 0, sizeof *run);
    const struct eb_access *sends_by = config->profile->sends_by;
    bool sends = sends_by != NULL && (sends_by->able & EB_ABLE(EB_SEND)) != 0;
    run->config = *config;
    run->running = config->running != NULL ? config->running : (struct eb_running *)config->memory;
    run->progress.attempt = 1;
    bool wrong =
        config->memory == NULL || config->memory_bytes < eb_run_memory_bytes(config->profile) ||
        config->count > EB_RUN_ITEMS_MAX ||
        (config->count > 0 && (!sends || config->buffer_bytes < EB_RUN_BUFFER_MIN_BYTES || config->recover));
    for (size_t i = 0; i < config->count; i++)
        wrong = wrong || config->items[i].verdict == NULL ||
                (config->extras == NULL && config->items[i].part_count > 0);
    const char *lacks = ebi_run_lacks(config);
    if (wrong || lacks != NULL) {
        run->state = EBI_ENDED;
        run->progress.rung = EB_RUNG_END;
        run->outcome = EB_OUTCOME_FAILED;
        run->error = (struct eb_error){.status = EB_BAD_CALL, .where = wrong ? "beginning" : lacks};
        return EB_BAD_CALL;
    }
    run->now_us = eb_port_now_us(config->port);
    ebi_init_accesses(run);
    ebi_begin_reach(run, config->reach_patience_us);
    return EB_OK;
}

void eb_run_poll(struct eb_run *run)
{
    const struct eb_port *port = run->config.port;
    uint8_t state;
    size_t step;
    if (run->state == EBI_ENDED)
        return;
    run->now_us = eb_port_now_us(port);
    do {
        state = run->state;
        step = run->step;
        states[state].poll(run);
    } while (run->state != EBI_ENDED && (run->state != state || run->step != step));
}

uint64_t eb_run_deadline_us(const struct eb_run *run)
{
    if (run->state == EBI_ENDED)
        return EB_NEVER;
    if (states[run->state].pauses)
        return run->wake_us;
    if (run->active == EB_ACCESSES_MAX)
        return run->step_end_us;
    return run->accesses[run->active].access->deadline_us(run->accesses[run->active].context);
}

bool eb_run_ended(const struct eb_run *run)
{
    return run->state == EBI_ENDED;
}

void eb_run_stop(struct eb_run *run)
{
    if (run->state != EBI_ENDED)
        run->stopping = true;
}

void eb_run_abandon(struct eb_run *run)
{
    if (run->state != EBI_ENDED) {
        run->now_us = eb_port_now_us(run->config.port);
        run->keeping = EBI_GIVEN_UP;
        ebi_finish(run, EB_OUTCOME_INTERRUPTED);
    }
}

void eb_run_stall(struct eb_run *run)
{
    const struct eb_error error = {.status = EB_STALLED, .where = rung_words[run->progress.rung]};
    if (run->state == EBI_ENDED)
        return;
    run->keeping = EBI_GIVEN_UP;
    ebi_keep_error(run, &error);
    ebi_finish(run, EB_OUTCOME_FAILED);
}
