/* The way down: what was prepared is undone, and the device is looked at once more. */
#include "job/ladder.h"
#include "einbau/text.h"

/* Whether an image of the run, or its preparation, was begun. */
static bool any_effect(const struct eb_run *run)
{
    return run->record.prepared || run->record.sent || run->record.touched != 0;
}

void ebi_finish(struct eb_run *run, enum eb_outcome outcome)
{
    bool own = outcome == EB_OUTCOME_FAILED || outcome == EB_OUTCOME_IN_LOADER ||
               outcome == EB_OUTCOME_MANUAL_STEP || outcome == EB_OUTCOME_INTERRUPTED;
    if (run->config.keeps != NULL && run->config.keeps->put_back(run, outcome))
        return;
    if (outcome == EB_OUTCOME_CONFIRMED && run->config.extras != NULL && run->config.extras->close(run))
        return;
    run->outcome = outcome;
    run->left = run->record.prepared;
    /* What stands behind the one that failed was not begun. */
    for (size_t i = 0; i < run->config.count && own; i++) {
        struct eb_run_item *item = &run->config.items[i];
        if (item->outcome == EB_OUTCOME_NONE)
            item->outcome = ebi_touched(run, i) || i <= run->progress.item ? outcome : EB_OUTCOME_NOT_STARTED;
    }
    ebi_close_but(run, NULL);
    run->record.effect = EB_EFFECT_END;
    if (run->config.effect != NULL && (run->record.acted || run->config.recover))
        run->config.effect(run->config.effect_context, run, &run->record);
    ebi_set_state(run, EBI_ENDED);
}

/* Whether undoing may be done to what answers now.  After another serial number was read, only to a loader:
 * it came where the device was told to start its own, and starting its program harms nobody. */
static bool may_undo(const struct eb_run *run)
{
    return run->error.status != EB_OTHER || run->in_loader || run->contact.loader_differs;
}

static void undo(struct eb_run *run)
{
    ebi_may_act(run, EB_EFFECT_UNDO);
    run->step = 0;
    run->later_us = 0;
    run->pause_us = 0;
    ebi_undo_next(run);
}

/* A program that was stopped before the job is not started by it: first it is looked whether it is still as
 * it was. */
void ebi_begin_undo(struct eb_run *run)
{
    bool due = run->record.prepared && may_undo(run);
    run->undo_failed = false;
    run->patience_end_us = 0;
    run->undo_due = due && run->record.was_stopped;
    if (due && !run->undo_due)
        undo(run);
    else
        ebi_pause_in(run, EBI_LAST_PAUSE, 0);
}

/* The next step of undoing; behind the last one it is looked what came of it. */
void ebi_undo_next(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->undo;
    bool own = ebi_sender_is_able(run, EB_ABLE(EB_UNDO));
    if (run->step == 0 && own) {
        run->step = 1;
        ebi_begin_by_sender(run, EB_UNDO);
        ebi_set_state(run, EBI_UNDOING);
    } else if (run->step < steps->count) {
        ebi_begin_step(run, &steps->list[run->step++]);
        ebi_set_state(run, EBI_UNDOING);
    } else {
        ebi_pause_in(run, EBI_LAST_PAUSE,
                     steps->count > 0 || own ? run->config.profile->down_ms * 1000ULL : 0);
    }
}

/* A device that is busy is asked again; any other failure is no reason to leave out the next step. */
void ebi_poll_undoing(struct eb_run *run)
{
    enum eb_status status = ebi_poll_operation(run);
    const struct eb_error *error = &run->contact.error;
    if (status == EB_PENDING)
        return;
    bool later = status == EB_PEER_ERROR && eb_error_retry(error) == EB_RETRY_LATER;
    if (later && run->later_us == 0)
        run->later_us = run->now_us;
    if (later && run->now_us - run->later_us < ebi_busy_patience_us(run)) {
        run->step--;
        ebi_pause_in(run, EBI_UNDO_PAUSE, ebi_longer_pause(run));
        return;
    }
    if (status != EB_OK && run->error.status == EB_OK) /* else that says why all this is */
        ebi_keep_error(run, error);
    run->undo_failed = run->undo_failed || status != EB_OK;
    ebi_undo_next(run);
}

static enum eb_outcome last_outcome(const struct eb_run *run, bool meant)
{
    if (meant && run->in_loader)
        return EB_OUTCOME_IN_LOADER;
    if (run->config.recover)
        return meant && !run->record.prepared ? EB_OUTCOME_RECOVERED : EB_OUTCOME_FAILED;
    return run->stopping ? EB_OUTCOME_INTERRUPTED : run->by_hand ? EB_OUTCOME_MANUAL_STEP : EB_OUTCOME_FAILED;
}

static void still_stopped(struct eb_run *run)
{
    struct eb_error error = {.status = EB_UNCONFIRMED, .where = "starting the program"};
    eb_text_copy(error.text, sizeof error.text, "it is still stopped");
    ebi_keep_error(run, &error);
}

/* Says what state the device was left in: by looking. */
void ebi_poll_last_look(struct eb_run *run)
{
    enum eb_status status = ebi_poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    if (run->patience_end_us == 0) {
        uint64_t ms = run->config.profile->return_patience_ms;
        run->patience_end_us = run->now_us + (any_effect(run) ? ms : 0) * 1000;
        run->answered_us = EB_NEVER;
    }
    run->identified = false;
    status = ebi_take_look(run, status, &error);
    bool meant = status == EB_OK;
    if (meant && run->answered_us == EB_NEVER) {
        uint64_t end_us = run->now_us + run->config.profile->settle_ms * 1000ULL;
        run->answered_us = run->now_us;
        run->patience_end_us = end_us < run->patience_end_us ? end_us : run->patience_end_us;
    }
    const struct eb_run_extras *extras = run->config.extras;
    bool well = meant && !run->in_loader && !ebi_stopped_by_job(run);
    if (run->undo_due && !ebi_in_doubt(run, status)) {
        run->undo_due = false;
        if (!well) {
            run->patience_end_us = 0;
            undo(run);
            return;
        }
        /* It runs as before; what was opened is closed all the same. */
        if (extras != NULL && extras->close(run))
            return;
    }
    if (well && !run->undo_failed)
        run->record.prepared = false;
    if (meant && run->config.count > 0 && !(run->closing && run->undo_failed) && ebi_arrived(run)) {
        ebi_confirm_group(run);
    } else if (well && extras != NULL && run->way_due && !run->undo_failed && !run->stopping) {
        extras->take_next_way(run);
    } else if (ebi_in_doubt(run, status) ||
               (!well && status != EB_OTHER && run->now_us < run->patience_end_us)) {
        ebi_pause_in(run, EBI_LAST_PAUSE, EBI_PAUSE_US);
    } else {
        if (run->error.status == EB_OK && !meant)
            ebi_keep_error(run, &error);
        else if (run->error.status == EB_OK && run->program_stopped)
            still_stopped(run);
        run->identified = meant;
        ebi_finish(run, last_outcome(run, meant));
    }
}
