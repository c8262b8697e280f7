/* The way up: reached, judged, prepared, sent to, activated, back, confirmed. */
#include "job/ladder.h"
#include "einbau/plan.h"
#include "einbau/text.h"

#include <string.h>

enum {
    TRY_PAUSE_US = 500000, /* before the next try; twice as long each time */
    TRY_PAUSE_MOST_US = 8000000,
    PEEK_US = 3000000 /* between two looks at a device whose last acknowledgement stays away */
};

/* The record cannot be written, so nothing more is done to the device than to undo what was. */
static void cannot_record(struct eb_run *run)
{
    struct eb_error error = {.status = EB_IO, .where = "writing the record"};
    eb_text_copy(error.text, sizeof error.text, "the record could not be written");
    ebi_keep_error(run, &error);
    ebi_begin_undo(run);
}

/* What is done before sending, by the way that is taken. */
static const struct eb_steps *prepare_steps(const struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    return run->way == 0 ? &p->prepare : &p->otherwise[run->way - 1].prepare;
}

void ebi_begin_prepare(struct eb_run *run)
{
    run->step = 0;
    run->record.sent = false;
    run->contact.loader_seen = run->identified && run->in_loader;
    run->contact.watching = false;
    if (prepare_steps(run)->count > 0) {
        if (!ebi_may_act(run, EB_EFFECT_PREPARE)) {
            cannot_record(run);
            return;
        }
        run->record.prepared = true;
    }
    ebi_set_state(run, EBI_PREPARING);
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
                ebi_finish(run, EB_OUTCOME_INTERRUPTED);
                return;
            }
            run->progress.item = i;
            run->group = i;
            run->progress.attempt = 1;
            run->failures = 0;
            run->later_us = run->pause_us = 0;
            run->progress.done_bytes = 0;
            run->progress.total_bytes = run->config.items[i].source.size_bytes;
            if (run->config.keeps == NULL || !run->config.keeps->save(run))
                ebi_begin_prepare(run);
            return;
        }
        confirmed += run->config.items[i].outcome == EB_OUTCOME_CONFIRMED;
    }
    memset(&run->error, 0, sizeof run->error);
    ebi_finish(run, confirmed > 0 ? EB_OUTCOME_CONFIRMED : EB_OUTCOME_UP_TO_DATE);
}

static void judge(struct eb_run *run)
{
    bool fits = true;
    ebi_set_rung(run, EB_RUNG_JUDGE);
    for (size_t i = 0; i < run->config.count; i++) {
        struct eb_run_item *item = &run->config.items[i];
        eb_plan_judge(run, run->config.items, i, run->config.accepted);
        bool right = ebi_runs_as_intended(run, item);
        run->record.right |= (uint16_t)(right ? 1U << i : 0);
        item->outcome = EB_OUTCOME_NONE;
        if (item->verdict->answer != EB_FITS)
            fits = false;
        else if (right && !run->config.again)
            item->outcome = EB_OUTCOME_UP_TO_DATE;
    }
    run->judged = true;
    if (!fits)
        ebi_finish(run, EB_OUTCOME_REFUSED);
    else
        next_item(run);
}

static bool same_error(const struct eb_error *a, const struct eb_error *b)
{
    return a->status == b->status && a->number == b->number && a->where == b->where &&
           strcmp(a->text, b->text) == 0;
}

static void count_failure(struct eb_run *run, const struct eb_error *error)
{
    ebi_keep_error(run, error);
    if (run->failures++ == 0) {
        run->first_error = *error;
        run->first_rung = run->error_rung;
        run->all_equal = true;
    } else {
        run->all_equal = run->all_equal && same_error(error, &run->first_error);
    }
}

/* How long a device is asked again that says that it is busy, without a byte sent. */
uint64_t ebi_busy_patience_us(const struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    return (p->send_patience_ms > p->return_patience_ms ? p->send_patience_ms : p->return_patience_ms) *
           1000ULL;
}

uint64_t ebi_longer_pause(struct eb_run *run)
{
    run->pause_us = run->pause_us == 0 ? TRY_PAUSE_US : 2 * run->pause_us;
    if (run->pause_us > TRY_PAUSE_MOST_US)
        run->pause_us = TRY_PAUSE_MOST_US;
    return run->pause_us;
}

/* This way has failed.  Another one is taken where the device is then seen to run as before. */
static void give_up_way(struct eb_run *run, const struct eb_error *error)
{
    const struct eb_run_extras *extras = run->config.extras;
    run->way_due = extras != NULL && extras->has_way(run, error);
    ebi_begin_undo(run);
}

/* A try has failed with `error`: another one, or the end. */
static void try_again(struct eb_run *run, const struct eb_error *error)
{
    enum eb_retry retry = eb_error_retry(error);
    run->choice = 0;
    bool free_of_charge = retry == EB_RETRY_LATER && !run->record.sent;
    if (run->stopping || retry == EB_RETRY_NEVER) {
        count_failure(run, error);
        give_up_way(run, error);
        return;
    }
    if (free_of_charge && run->later_us == 0)
        run->later_us = run->now_us;
    free_of_charge = free_of_charge && run->now_us - run->later_us < ebi_busy_patience_us(run);
    if (free_of_charge) {
        ebi_keep_error(run, error);
    } else {
        count_failure(run, error);
        if (run->progress.attempt >= EB_RUN_TRIES || (retry == EB_RETRY_LATER && !run->record.sent)) {
            give_up_way(run, error);
            return;
        }
        run->progress.attempt++;
    }
    run->progress.item = run->group;
    run->progress.done_bytes = 0;
    run->progress.total_bytes = ebi_current(run)->source.size_bytes;
    ebi_tell(run);
    ebi_pause_in(run, EBI_TRY_PAUSE, ebi_longer_pause(run));
}

static void try_stopped(struct eb_run *run)
{
    const struct eb_error stopped = {.status = EB_STOPPED, .where = "preparing"};
    try_again(run, &stopped);
}

void ebi_begin_next_try(struct eb_run *run)
{
    uint64_t patience_us = run->config.profile->return_patience_ms * 1000ULL;
    ebi_begin_reach(run, patience_us > run->config.reach_patience_us ? patience_us
                                                                     : run->config.reach_patience_us);
}

static bool is_stated(const struct eb_run *run, const struct eb_run_item *item)
{
    size_t component = (size_t)(item->component - run->config.profile->components);
    return (run->stated >> eb_profile_item_of(component, false) & 1) != 0;
}

/* The items of the current group were seen to run: with what ran before being something else, or with a
 * restart in between. */
void ebi_confirm_group(struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        struct eb_run_item *item = &run->config.items[i];
        if (item->outcome != EB_OUTCOME_NONE)
            continue;
        item->outcome = EB_OUTCOME_CONFIRMED;
        item->confirmed_by = (unsigned)(is_stated(run, item) ? EB_BY_STATEMENT : EB_BY_VERSION) |
                             (item->component->checksum.count > 0 ? (unsigned)EB_BY_CHECKSUM : 0U) |
                             (item->read_back ? (unsigned)EB_BY_READ_BACK : 0U);
    }
    run->restart = run->config.profile->restarts ? run->contact.restart : EB_RESTART_NOT_SEEN;
    run->contact.watching = false;
    run->record.prepared = false;
    next_item(run);
}

/* The first item of the group that does not run yet; NULL: all do. */
static const struct eb_run_item *not_running(const struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        if (!ebi_runs_as_intended(run, &run->config.items[i]))
            return &run->config.items[i];
    }
    return NULL;
}

/* Whether the intended versions run and that can only come from what was sent. */
bool ebi_arrived(struct eb_run *run)
{
    for (size_t i = run->group; i <= run->progress.item; i++) {
        const struct eb_run_item *item = &run->config.items[i];
        if (item->outcome == EB_OUTCOME_NONE && (!ebi_touched(run, i) || (run->record.right >> i & 1) != 0))
            return false;
    }
    return not_running(run) == NULL && ebi_restart_seen(run) && !ebi_stopped_by_job(run);
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
    return ebi_sender_is_able(run, EB_ABLE(EB_ACTIVATE)) || run->config.profile->activate.count > 0;
}

/* The next step of activating that belongs to the choice; NULL: none. */
static const struct eb_step *next_step(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->activate;
    while (run->step < steps->count && steps->list[run->step].choice < run->choice)
        run->step++;
    bool is = run->step < steps->count && steps->list[run->step].choice == run->choice;
    return is ? &steps->list[run->step++] : NULL;
}

void ebi_begin_activate(struct eb_run *run)
{
    run->step = 0;
    run->began_us = run->now_us;
    if (!ebi_may_act(run, EB_EFFECT_ACTIVATE)) {
        cannot_record(run);
        return;
    }
    if (acts_by_command(run) || !run->contact.watching)
        ebi_watch(&run->contact);
    run->counter_restarted = run->activate_unanswered = false;
    run->pause_us = 0;
    run->patience_end_us = run->now_us + ebi_busy_patience_us(run);
    ebi_set_state(run, EBI_ACTIVATING);
}

/* Reached and meant, for the first time or for another try. */
static void go_on(struct eb_run *run)
{
    if (run->config.recover) {
        bool command = ebi_sender_is_able(run, EB_ABLE(EB_UNDO));
        bool runs = run->program_known ? !run->program_stopped : command && !run->in_loader;
        run->judged = true;
        run->record.prepared = !runs;
        if (!runs)
            ebi_begin_undo(run);
        else if (run->config.extras == NULL || !run->config.extras->close(run))
            ebi_finish(run, EB_OUTCOME_RECOVERED);
    } else if (run->config.count == 0) {
        ebi_finish(run, EB_OUTCOME_NONE);
    } else if (!run->judged) {
        run->record.was_stopped = run->program_stopped && !run->config.interrupted;
        judge(run);
    } else if (run->stopping) {
        ebi_begin_undo(run);
    } else if (ebi_arrived(run)) {
        ebi_confirm_group(run);
    } else {
        ebi_begin_prepare(run);
    }
}

void ebi_poll_reaching(struct eb_run *run)
{
    enum eb_status status = ebi_poll_look(run);
    struct eb_error error;
    if (run->stopping && !run->judged) {
        ebi_finish(run, EB_OUTCOME_INTERRUPTED);
        return;
    }
    if (run->contact.connected)
        ebi_set_rung(run, EB_RUNG_IDENTIFY);
    if (status == EB_PENDING)
        return;
    status = ebi_take_look(run, status, &error);
    if (status == EB_OK) {
        go_on(run);
        return;
    }
    if (ebi_in_doubt(run, status)) {
        ebi_pause_in(run, EBI_REACH_PAUSE, 0);
        return;
    }
    if (status != EB_OTHER && eb_error_retry(&error) != EB_RETRY_NEVER &&
        run->now_us < run->patience_end_us) {
        ebi_pause_in(run, EBI_REACH_PAUSE, EBI_PAUSE_US);
        return;
    }
    if (!run->judged) {
        ebi_keep_error(run, &error);
        ebi_finish(run, run->config.count == 0 && !run->config.recover ? EB_OUTCOME_NONE
                        : error.status == EB_OTHER                     ? EB_OUTCOME_REFUSED
                                                                       : EB_OUTCOME_FAILED);
        return;
    }
    if (error.status == EB_OTHER) /* the device was told to restart, and another one answers in its place */
        count_failure(run, &error);
    run->identified = run->identified && status == EB_OTHER;
    if (run->record.prepared && run->answered) {
        ebi_begin_undo(run);
    } else {
        run->identified = false;
        ebi_finish(run, EB_OUTCOME_FAILED); /* `error` still says what began it */
    }
}

void ebi_send_part(struct eb_run *run)
{
    const struct eb_run_item *item = ebi_current(run);
    struct eb_operation send = {
        .kind = EB_SEND, .component = item->component, .source = &item->source, .checksum = item->checksum};
    run->contact.read_back = run->contact.last_late = run->contact.all_sent = false;
    if (item->part_count > 0 && run->config.extras != NULL)
        run->config.extras->take_part(run, &send);
    ebi_begin_operation(run, ebi_sender(run), &send);
    ebi_set_state(run, EBI_SENDING);
}

static void begin_send(struct eb_run *run)
{
    if (!ebi_may_act(run, EB_EFFECT_SEND)) {
        cannot_record(run);
        return;
    }
    ebi_current(run)->read_back = false;
    run->began_us = run->now_us;
    run->peek_us = 0;
    run->part = 0;
    run->part_at = 0;
    ebi_close_but(run, ebi_sender(run));
    ebi_send_part(run);
}

void ebi_poll_preparing(struct eb_run *run)
{
    const struct eb_steps *steps = prepare_steps(run);
    enum eb_status status;
    if (run->step > 0) {
        status = ebi_poll_operation(run);
        if (status == EB_PENDING)
            return;
        if (steps->list[run->step - 1].by != NULL || run->hand_done)
            ebi_hands_done(run);
        if (status != EB_OK || run->stopping) {
            run->by_hand = steps->list[run->step - 1].hand != NULL && status == EB_UNCONFIRMED;
            if (run->by_hand) { /* patience is over; another try would only ask again */
                count_failure(run, &run->contact.error);
                ebi_begin_undo(run);
                return;
            }
            if (status == EB_OK)
                try_stopped(run);
            else
                try_again(run, &run->contact.error);
            return;
        }
    }
    /* What a person does brings it into its loader: not where that answers already. */
    while (run->step < steps->count && run->contact.loader_seen && steps->list[run->step].by == NULL &&
           steps->list[run->step].hand != NULL && steps->list[run->step].kind == EB_HAND_SEEN)
        run->step++;
    if (run->step < steps->count) {
        const struct eb_step *step = &steps->list[run->step++];
        ebi_begin_step(run, step);
        ebi_ask_hand(run, step);
        return;
    }
    /* It may have restarted into its loader: is it still the same one?  A way of its own sees to that itself.
     */
    if (steps->count > 0 && run->config.profile->from_state.count > 0)
        ebi_begin_identify(run, EBI_CHECKING);
    else
        begin_send(run);
}

/* A loader that does not tell who it is is taken for the device's own. */
void ebi_poll_checking(struct eb_run *run)
{
    enum eb_status status = ebi_poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    status = ebi_take_look(run, status, &error);
    bool nameless = run->in_loader && run->identity.serial[0] == '\0';
    if (ebi_in_doubt(run, status) && !nameless) {
        ebi_begin_identify(run, EBI_CHECKING);
        run->step++; /* so that it is polled at once */
        return;
    }
    if (status == EB_OTHER && !nameless) {
        try_again(run, &error);
        return;
    }
    run->contact.loader_seen = run->contact.loader_seen || (status == EB_OK && run->in_loader);
    if (run->stopping) {
        try_stopped(run);
        return;
    }
    begin_send(run);
}

static void update_progress(struct eb_run *run)
{
    struct eb_progress *progress = &run->progress;
    uint64_t elapsed_us = run->now_us - run->began_us;
    progress->done_bytes = run->part_at + run->contact.done_bytes;
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
    ebi_current(run)->read_back = run->contact.read_back;
    if (next_of_group(run)) {
        run->contact.watching = false;
        ebi_tell(run);
        begin_send(run);
        return;
    }
    ebi_begin_activate(run);
}

void ebi_poll_sending(struct eb_run *run)
{
    const struct ebi_run_access *by = ebi_sender(run);
    if (run->stopping)
        by->access->stop(by->context);
    enum eb_status status = ebi_poll_operation(run);
    update_progress(run);
    if (run->contact.done_bytes > 0 || run->contact.all_sent)
        ebi_hands_done(run);
    run->record.sent = run->record.sent || run->contact.done_bytes > 0;
    if (status == EB_PENDING) {
        if (run->now_us - run->event_us >= EB_RUN_EVENT_US)
            ebi_tell(run);
        /* One that restarts by itself behind the last block may have lost the last acknowledgement: what it
         * runs is asked while the last blocks are repeated. */
        if (run->contact.last_late && ebi_sender_is_able(run, EB_ABLE_TO_WAIT) &&
            run->now_us >= run->peek_us && !run->stopping) {
            if (!run->contact.watching)
                ebi_watch(&run->contact);
            run->peek_us = run->now_us + PEEK_US;
            ebi_begin_identify(run, EBI_PEEKING);
        }
        return;
    }
    /* Without the last acknowledgement nobody knows whether the device has it all: the confirm will tell. */
    bool perhaps_whole = status == EB_NO_ANSWER && run->contact.all_sent;
    if (status == EB_UNCONFIRMED &&
        run->hand_count > 0) { /* not done in time; another try would only ask again */
        run->by_hand = true;
        count_failure(run, &run->contact.error);
        ebi_begin_undo(run);
        return;
    }
    const struct eb_run_extras *extras = run->config.extras;
    bool more = extras != NULL && run->part + 1 < ebi_current(run)->part_count;
    if (status != EB_OK && (!perhaps_whole || more)) {
        try_again(run, &run->contact.error);
        return;
    }
    if (!more || !extras->next_part(run))
        after_send(run);
}

void ebi_poll_peeking(struct eb_run *run)
{
    enum eb_status status = ebi_poll_look(run);
    struct eb_error error;
    if (status == EB_PENDING)
        return;
    status = ebi_take_look(run, status, &error);
    if (status == EB_OK && ebi_arrived(run)) {
        ebi_close_but(run, NULL);
        ebi_confirm_group(run);
        return;
    }
    if (status == EB_OK && run->contact.restart != EB_RESTART_NOT_SEEN) {
        ebi_close_but(run, NULL); /* it has restarted: the transfer is gone */
        after_send(run);
        return;
    }
    run->identified = false;
    ebi_close_but(run, ebi_sender(run));
    run->active = (size_t)(ebi_sender(run) - run->accesses);
    ebi_set_state(run, EBI_SENDING);
}

/* The step that was refused as the device was busy. */
void ebi_activate_once_more(struct eb_run *run)
{
    ebi_set_state(run, EBI_ACTIVATING);
    if (ebi_sender_is_able(run, EB_ABLE(EB_ACTIVATE)))
        ebi_begin_by_sender(run, EB_ACTIVATE);
    else
        ebi_begin_step(run, &run->config.profile->activate.list[run->step - 1]);
}

/* The device has not restarted: by the profile's next choice, without sending again.  False: there is none.
 */
static bool chosen_next(struct eb_run *run, const struct eb_error *error)
{
    return run->config.extras != NULL && run->config.extras->choose_next(run, error);
}

void ebi_poll_activating(struct eb_run *run)
{
    if (run->step > 0) {
        enum eb_status status = ebi_poll_operation(run);
        if (status == EB_PENDING)
            return;
        bool refused = status == EB_PEER_ERROR || status == EB_GARBAGE || status == EB_UNCONFIRMED;
        if (refused && eb_error_retry(&run->contact.error) == EB_RETRY_LATER &&
            run->now_us < run->patience_end_us) {
            ebi_keep_error(run, &run->contact.error);
            ebi_pause_in(run, EBI_ACTIVATE_PAUSE, ebi_longer_pause(run));
            return;
        }
        if (refused) {
            if (!chosen_next(run, &run->contact.error))
                try_again(run, &run->contact.error);
            return;
        }
        /* Silence may mean that it restarts already: what returns will tell. */
        run->activate_unanswered = run->activate_unanswered || status != EB_OK;
    } else if (ebi_sender_is_able(run, EB_ABLE(EB_ACTIVATE))) {
        run->step = 1; /* such a way has no steps of the profile's */
        ebi_begin_by_sender(run, EB_ACTIVATE);
        return;
    }
    const struct eb_step *step = next_step(run);
    if (step != NULL) {
        ebi_begin_step(run, step);
        ebi_ask_hand(run, step);
        return;
    }
    run->answered_us = EB_NEVER;
    run->patience_end_us = run->now_us + run->config.profile->return_patience_ms * 1000ULL;
    /* Where only its silence, or the end of a connection, shows the restart, it is looked at all the time. */
    bool watched = run->config.profile->restarts && !run->contact.loader_seen &&
                   run->contact.restart == EB_RESTART_NOT_SEEN;
    ebi_pause_in(run, EBI_DOWN, watched ? 0 : run->config.profile->down_ms * 1000ULL);
}

/* The device answers, and runs what was intended: whether that is enough. */
static bool read_back_is_enough(struct eb_run *run, struct eb_error *error)
{
    const struct eb_run_item *missing = not_running(run);
    if (missing != NULL) {
        const struct eb_running *running = ebi_running_of(run, missing);
        bool same = !run->in_loader && eb_version_compare(&missing->component->order, running->version,
                                                          missing->image->version) == EB_SAME;
        *error = ebi_other("reading back the running version",
                           run->in_loader ? "the loader, no program runs"
                           : same         ? running->has_checksum ? "another checksum" : "no checksum"
                                          : running->version,
                           same ? "the image's" : missing->image->version);
        error->status = EB_UNCONFIRMED;
        if (run->config.extras != NULL)
            run->config.extras->ask_person(run, missing, error);
        return false;
    }
    *error = (struct eb_error){.status = EB_UNCONFIRMED, .where = "reading back the running version"};
    if (!ebi_restart_seen(run)) {
        error->where = "waiting for the restart";
        /* It took the command: sending everything once more would not make it restart either. */
        error->retry = run->activate_unanswered ? EB_RETRY_AT_ONCE : EB_RETRY_NEVER;
        eb_text_copy(
            error->text, sizeof error->text,
            "the device answers all the time and was not seen to restart; what it reports may be what it "
            "ran before");
        return false;
    }
    if (ebi_stopped_by_job(run)) {
        error->retry = EB_RETRY_NEVER; /* what was sent is there: undoing the preparation starts it */
        eb_text_copy(error->text, sizeof error->text, "its program is stopped");
        return false;
    }
    return true;
}

/* The program does not answer, but the loader asks: it is still told to stay there. */
static void note_loader(struct eb_run *run, struct eb_error *error)
{
    const struct ebi_run_access *by = ebi_sender(run);
    if (by->access->still_loader == NULL || !by->access->still_loader(by->context, run->now_us))
        return;
    *error = (struct eb_error){
        .status = EB_UNCONFIRMED, .retry = EB_RETRY_NEVER, .where = "waiting for its program"};
    eb_text_copy(error->text, sizeof error->text, run->contact.notice);
}

void ebi_poll_returning(struct eb_run *run)
{
    enum eb_status status = ebi_poll_look(run);
    struct eb_error error;
    uint64_t typical_us = run->config.profile->typical_restart_s * 1000000ULL;
    uint64_t elapsed_us = run->now_us - run->began_us;
    uint64_t end_us = run->patience_end_us;
    run->progress.left_us = elapsed_us < typical_us ? typical_us - elapsed_us : 0;
    if (status == EB_PENDING)
        return;
    status = ebi_take_look(run, status, &error);
    if (status == EB_OK)
        ebi_hands_done(run);
    else
        note_loader(run, &error);
    if (status == EB_OK) {
        /* Until it was seen to restart it may just not have begun to. */
        bool seen = ebi_restart_seen(run);
        if (seen && run->answered_us == EB_NEVER)
            run->answered_us = run->now_us;
        if (seen)
            ebi_set_rung(run, EB_RUNG_CONFIRM);
        if (read_back_is_enough(run, &error)) {
            ebi_confirm_group(run);
            return;
        }
        if (seen)
            end_us = run->answered_us + run->config.profile->settle_ms * 1000ULL;
    }
    if (run->now_us < end_us)
        ebi_pause_in(run, EBI_RETURN_PAUSE, ebi_restart_seen(run) ? EBI_PAUSE_US : EBI_WATCH_US);
    else if (ebi_restart_seen(run) || status == EB_OTHER || !chosen_next(run, &error))
        try_again(run, &error);
}
