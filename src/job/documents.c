/* Documents of a device: saved before anything is done to it, put back once it is through.
 *
 *   SAVING    one after the other; all of them, or nothing is done to the device
 *   COMPARING does the device still hold it?  Else STORING
 *   LOOKING   at what shows a restart, as it is before that
 *   RESTARTING where one that was written needs that
 *   RETURNING the device is looked at once more
 *   READING   what was written is read back, again and again for a while where it differs
 *   LEAVING   its program is started again, where only its loader has the documents; that is seen by
 * RETURNING
 *
 * Restarting is also what a change of its state is made of (enum eb_change). */
#include "job/ladder.h"

#include "einbau/text.h"

#include <string.h>

enum { TRIES = 3, PIECE_BYTES = 64 };
enum {
    BEFORE,
    SAVING,
    SAVED,
    COMPARING,
    STORING,
    LOOKING,
    RESTARTING,
    RETURNING,
    READING,
    LEAVING,
    PAUSES = 16
};
/* When the loader is left: for good, or with the program to be seen in between. */
enum { NOT_LEAVING, BEHIND_SAVING, BEHIND_STORING, AT_END };

static const char *const state_words[] = {"none", "saved", "unchanged", "put-back", "differs", "failed"};

const char *eb_document_word(enum eb_document_state state)
{
    return (size_t)state < sizeof state_words / sizeof state_words[0] ? state_words[state] : "unknown";
}

static struct eb_run_document *current(const struct eb_run *run)
{
    return &run->config.documents[run->document];
}

/* --- comparing --------------------------------------------------------------------------------------- */

static void begin_comparison(void *self)
{
    struct eb_run *run = self;
    run->compared = 0;
    run->documents_differ = false;
}

static enum eb_status compare(void *self, const uint8_t *bytes, size_t size)
{
    struct eb_run *run = self;
    const struct eb_source *source = &current(run)->source;
    uint8_t piece[PIECE_BYTES];
    while (size > 0 && !run->documents_differ) {
        size_t part = size < sizeof piece ? size : sizeof piece;
        if (part > source->size_bytes - run->compared) {
            run->documents_differ = true;
            return EB_OK;
        }
        if (source->read(source->self, run->compared, piece, part) != EB_OK)
            return EB_IO;
        run->documents_differ = memcmp(piece, bytes, part) != 0;
        run->compared += part;
        bytes += part;
        size -= part;
    }
    return EB_OK;
}

static bool is_same(const struct eb_run *run)
{
    const struct eb_run_document *document = current(run);
    if (document->check != NULL)
        return document->same(document->check->self);
    return !run->documents_differ && run->compared == current(run)->source.size_bytes;
}

/* --- which document ---------------------------------------------------------------------------------- */

static bool to_be_saved(const struct eb_run *run, const struct eb_run_document *document)
{
    (void)run;
    return document->sink.take != NULL;
}

static bool to_be_put_back(const struct eb_run *run, const struct eb_run_document *document)
{
    return document->source.read != NULL && (document->due || run->record.acted);
}

static bool to_be_read_back(const struct eb_run *run, const struct eb_run_document *document)
{
    (void)run;
    return document->written && document->state == EB_DOCUMENT_NONE;
}

/* Goes to the first one from `at` on; false: there is none. */
static bool find(struct eb_run *run, size_t at,
                 bool (*wanted)(const struct eb_run *run, const struct eb_run_document *document))
{
    run->document = at;
    while (run->document < run->config.document_count && !wanted(run, current(run)))
        run->document++;
    run->failed_keeping = 0;
    run->later_us = run->pause_us = 0;
    return run->document < run->config.document_count;
}

/* --- one operation ----------------------------------------------------------------------------------- */

static const struct eb_error no_record = {
    .status = EB_IO, .where = "writing the record", .text = "the record could not be written"};

static void end(struct eb_run *run);

static void cannot_record(struct eb_run *run)
{
    current(run)->state = EB_DOCUMENT_FAILED;
    current(run)->error = no_record;
    run->ending = run->ending == EB_OUTCOME_CONFIRMED ? EB_OUTCOME_CONFIRMED : EB_OUTCOME_FAILED;
    end(run);
}

/* `step` changes, so that it is polled at once. */
static void begin(struct eb_run *run, uint8_t keeping)
{
    struct eb_run_document *document = current(run);
    const struct ebi_run_access *by = ebi_access_of(run, document->backup->at.by);
    struct eb_operation operation = {.kind = EB_FETCH, .step = &document->backup->at};
    bool in_loader = (by->access->able & EB_DOCUMENTS_IN_LOADER) != 0;
    if (in_loader && !run->record.prepared && !ebi_may_act(run, EB_EFFECT_PREPARE)) {
        cannot_record(run);
        return;
    }
    run->keeping = keeping;
    run->step++;
    ebi_close_but(run, by);
    if (keeping == STORING) {
        operation.kind = EB_STORE;
        operation.source = &document->source;
        document->written = true;
        document->known = false;
    } else {
        if (keeping != SAVING) {
            document->state = EB_DOCUMENT_NONE;
            run->comparison = (struct eb_sink){run, begin_comparison, compare};
        }
        operation.sink = keeping == SAVING         ? &document->sink
                         : document->check != NULL ? document->check
                                                   : &run->comparison;
    }
    ebi_begin_operation(run, by, &operation);
}

static void rest(struct eb_run *run, uint8_t keeping, uint64_t us)
{
    run->keeping = keeping | PAUSES;
    run->active = EB_ACCESSES_MAX;
    run->step_end_us = run->now_us + us;
    run->step++;
}

static bool may_write(struct eb_run *run)
{
    bool changes = run->config.change != EB_CHANGE_NOTHING;
    return run->documents_written || ebi_may_act(run, changes ? EB_EFFECT_CHANGE : EB_EFFECT_PUT_BACK);
}

static void store(struct eb_run *run)
{
    if (may_write(run)) {
        run->documents_written = true;
        begin(run, STORING);
        return;
    }
    cannot_record(run);
}

/* Whether a document was looked for in the device's loader, and the device is to leave that. */
static bool is_in_loader(const struct eb_run *run)
{
    return run->record.prepared && run->config.document_count > 0 &&
           (run->config.documents[0].backup->at.by->able & EB_DOCUMENTS_IN_LOADER) != 0;
}

static void leave(struct eb_run *run, uint8_t leaving)
{
    ebi_may_act(run, EB_EFFECT_UNDO);
    run->leaving = leaving;
    run->keeping = LEAVING;
    run->step++;
    ebi_begin_by_sender(run, EB_UNDO);
}

static void end(struct eb_run *run)
{
    if (is_in_loader(run)) {
        leave(run, AT_END);
        return;
    }
    run->keeping = EBI_KEPT;
    ebi_finish(run, run->ending);
}

/* --- saving ------------------------------------------------------------------------------------------ */

static bool begin_saving(struct eb_run *run)
{
    if (!find(run, 0, to_be_saved))
        return false;
    ebi_set_state(run, EBI_SAVING);
    begin(run, SAVING);
    return true;
}

/* In its loader it has no documents to give. */
static bool save(struct eb_run *run)
{
    if (run->keeping != BEFORE || run->config.document_count == 0)
        return false;
    run->keeping = SAVED;
    return !run->in_loader && begin_saving(run);
}

static void all_saved(struct eb_run *run)
{
    const struct eb_error error = {
        .status = EB_IO, .where = "saving", .text = "what was saved cannot be kept on this laptop"};
    run->keeping = SAVED;
    if (run->config.saved != NULL && !run->config.saved(run->config.saved_context, run)) {
        ebi_keep_error(run, &error);
        run->ending = EB_OUTCOME_FAILED;
        end(run);
    } else if (run->config.count == 0 && is_in_loader(run)) {
        leave(run, BEHIND_SAVING);
    } else if (run->config.count == 0) {
        ebi_finish(run, run->ending); /* which puts back first what is due */
    } else if (!run->config.keeps->save(run)) {
        ebi_begin_prepare(run);
    }
}

static void save_next(struct eb_run *run)
{
    if (find(run, run->document + 1, to_be_saved))
        begin(run, SAVING);
    else
        all_saved(run);
}

/* --- putting back ------------------------------------------------------------------------------------ */

static void after_storing(struct eb_run *run);

/* Whether the device's state is to be changed. */
static bool acts(const struct eb_run *run)
{
    return run->config.change >= EB_CHANGE_RESTART;
}

/* What was to be seen of the restart, or of the change of its state. */
static bool is_through(struct eb_run *run)
{
    if (run->config.change == EB_CHANGE_STOP || run->config.change == EB_CHANGE_START)
        return run->program_known && run->program_stopped == (run->config.change == EB_CHANGE_STOP);
    return ebi_restart_seen(run);
}

static bool begin_putting_back(struct eb_run *run)
{
    if (!find(run, 0, to_be_put_back))
        return false;
    ebi_set_state(run, EBI_PUTTING_BACK);
    begin(run, COMPARING);
    return true;
}

/* Every run comes by here before it ends.  True: it goes on for a while. */
static bool put_back(struct eb_run *run, enum eb_outcome outcome)
{
    bool well = outcome == EB_OUTCOME_CONFIRMED || outcome == EB_OUTCOME_UP_TO_DATE ||
                outcome == EB_OUTCOME_RECOVERED || (outcome == EB_OUTCOME_NONE && run->error.status == EB_OK);
    if (run->keeping >= EBI_GIVEN_UP || (run->config.document_count == 0 && !acts(run)))
        return false;
    run->ending = outcome;
    if (run->identified && !run->in_loader && (well || run->record.acted)) {
        if (run->config.count == 0 && run->keeping == BEFORE && begin_saving(run))
            return true;
        if (begin_putting_back(run))
            return true;
        if (acts(run) && outcome == EB_OUTCOME_NONE && !run->stopping) {
            ebi_set_state(run, EBI_PUTTING_BACK);
            after_storing(run);
            return true;
        }
    }
    run->keeping = EBI_KEPT;
    return false;
}

static bool restart_is_due(const struct eb_run *run)
{
    bool due = acts(run);
    for (size_t i = 0; i < run->config.document_count; i++)
        due = due || (run->config.documents[i].written && run->config.documents[i].backup->restarts);
    return due && run->config.profile->restart.count > 0;
}

/* All are compared, and those that differed written: what became of it is read back. */
static void after_storing(struct eb_run *run)
{
    uint64_t patience_us = run->config.profile->return_patience_ms * 1000ULL;
    run->document = 0;
    run->patience_end_us = run->now_us + patience_us;
    run->restarts_again = restart_is_due(run);
    if (acts(run) && !may_write(run)) {
        ebi_keep_error(run, &no_record);
        end(run);
    } else if (!run->documents_written && !acts(run)) {
        end(run);
    } else if (is_in_loader(run)) {
        leave(run, BEHIND_STORING);
    } else if (run->restarts_again) {
        rest(run, LOOKING, 0);
    } else {
        rest(run, RETURNING, 0);
    }
}

/* The device was looked at: from now on its restart must show.  What showed that of the update counts no
 * more. */
static void begin_restart(struct eb_run *run)
{
    run->contact.loader_seen = run->counter_restarted = false;
    run->group = run->progress.item + 1;
    run->document = 0;
    ebi_watch(&run->contact);
    rest(run, RESTARTING, 0);
}

/* The device says that it does not do this: for now, or at all. */
static void refused(struct eb_run *run)
{
    const struct eb_error *error = &run->contact.error;
    if (eb_error_retry(error) == EB_RETRY_LATER && run->now_us < run->patience_end_us) {
        run->document--;
        rest(run, RESTARTING, EBI_PAUSE_US);
    } else {
        ebi_keep_error(run, error);
        end(run);
    }
}

/* The next step of the restart; a failure may be the restart itself. */
static void restart(struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->restart;
    if (run->document < steps->count) {
        run->keeping = RESTARTING;
        run->step++;
        ebi_begin_step(run, &steps->list[run->document++]);
        return;
    }
    run->patience_end_us = run->now_us + run->config.profile->return_patience_ms * 1000ULL;
    rest(run, RETURNING, 0);
}

static void compare_next(struct eb_run *run, size_t at)
{
    if (find(run, at, to_be_put_back))
        begin(run, COMPARING);
    else
        after_storing(run);
}

static void read_next(struct eb_run *run, size_t at)
{
    if (find(run, at, to_be_read_back))
        begin(run, READING);
    else
        end(run);
}

/* Patience is over. */
static struct eb_error not_seen(const struct eb_run *run)
{
    static const char *const texts[] = {"the device was not seen to restart", "its program still runs",
                                        "its program is still stopped"};
    struct eb_error error = {.status = EB_UNCONFIRMED, .where = "waiting for the restart"};
    enum eb_change change = run->config.change;
    eb_text_copy(error.text, sizeof error.text,
                 texts[change <= EB_CHANGE_RESTART ? 0 : change - EB_CHANGE_RESTART]);
    return error;
}

/* The loader was left, or not: what was to come behind that. */
static void left(struct eb_run *run, bool runs, const struct eb_error *error)
{
    uint8_t leaving = run->leaving;
    run->leaving = NOT_LEAVING;
    if (!runs) {
        struct eb_error stays = {.status = EB_UNCONFIRMED, .where = "starting its program again"};
        eb_text_copy(stays.text, sizeof stays.text, "its loader still answers");
        ebi_keep_error(run, run->in_loader ? &stays : error);
        run->ending = run->in_loader ? EB_OUTCOME_IN_LOADER : EB_OUTCOME_FAILED;
    }
    run->keeping = runs && leaving == BEHIND_SAVING ? SAVED : EBI_KEPT;
    ebi_finish(run, run->ending);
}

/* The device is back, or patience is over. */
static void returned(struct eb_run *run, enum eb_status status, const struct eb_error *error)
{
    bool back = status == EB_OK && !run->in_loader;
    bool restarted = !run->restarts_again || is_through(run);
    if (run->leaving != NOT_LEAVING && back)
        run->record.prepared = false;
    if ((!back || !restarted) && run->now_us < run->patience_end_us) {
        rest(run, RETURNING, EBI_WATCH_US);
        return;
    }
    if (run->leaving == BEHIND_SAVING || run->leaving == AT_END) {
        left(run, back, error);
        return;
    }
    run->leaving = NOT_LEAVING;
    run->contact.watching = false;
    run->settle_end_us = run->now_us + run->config.profile->settle_ms * 1000ULL;
    const struct eb_error missed = back || error->status == EB_OK ? not_seen(run) : *error;
    if (acts(run) && (!back || !restarted))
        ebi_keep_error(run, &missed);
    for (size_t i = 0; i < run->config.document_count; i++) {
        struct eb_run_document *d = &run->config.documents[i];
        if (d->written && (!back || (!restarted && d->backup->restarts))) {
            d->state = EB_DOCUMENT_FAILED;
            d->error = missed;
        }
    }
    read_next(run, 0);
}

static void look(struct eb_run *run)
{
    struct eb_error error = {.status = EB_OK};
    enum eb_status status = ebi_poll_look(run);
    if (status == EB_PENDING)
        return;
    status = ebi_take_look(run, status, &error);
    if (run->keeping == RETURNING)
        returned(run, status, &error);
    else if (status == EB_OK || run->now_us >= run->patience_end_us)
        begin_restart(run);
    else
        rest(run, LOOKING, EBI_PAUSE_US);
}

/* --- what came of an operation ----------------------------------------------------------------------- */

static void failed(struct eb_run *run)
{
    struct eb_run_document *document = current(run);
    const struct eb_error *error = &run->contact.error;
    enum eb_retry retry = eb_error_retry(error);
    document->error = *error;
    if (retry == EB_RETRY_LATER && run->later_us == 0)
        run->later_us = run->now_us;
    bool busy = retry == EB_RETRY_LATER && run->now_us - run->later_us < ebi_busy_patience_us(run);
    if (busy || (retry != EB_RETRY_NEVER && ++run->failed_keeping < TRIES)) {
        rest(run, run->keeping, ebi_longer_pause(run));
        return;
    }
    if (run->keeping == COMPARING && error->status == EB_PEER_ERROR) { /* it has none any more */
        run->failed_keeping = 0;
        store(run);
        return;
    }
    /* What it refused is read all the same, where it is shown. */
    bool read = run->keeping == STORING && error->status == EB_PEER_ERROR && document->check != NULL;
    document->state = read ? EB_DOCUMENT_NONE : EB_DOCUMENT_FAILED;
    if (run->keeping == SAVING && error->status == EB_PEER_ERROR && (document->due || document->may_lack)) {
        save_next(run);
        return;
    }
    if (run->keeping == SAVING) {
        ebi_keep_error(run, error);
        run->ending = EB_OUTCOME_FAILED;
        end(run);
    } else if (run->keeping == READING) {
        read_next(run, run->document + 1);
    } else {
        compare_next(run, run->document + 1);
    }
}

static void done(struct eb_run *run)
{
    struct eb_run_document *document = current(run);
    bool refused = run->keeping == READING && document->error.status == EB_PEER_ERROR;
    document->known = run->keeping == READING;
    if (!refused || is_same(run))
        memset(&document->error, 0, sizeof document->error);
    if (run->keeping == SAVING) {
        document->state = EB_DOCUMENT_SAVED;
        save_next(run);
    } else if (run->keeping == COMPARING && !is_same(run)) {
        store(run);
    } else if (run->keeping == READING && !is_same(run) && run->now_us < run->settle_end_us) {
        rest(run, READING, EBI_PAUSE_US); /* it may need a moment to take it up */
    } else if (run->keeping == READING) {
        document->state = is_same(run) ? EB_DOCUMENT_PUT_BACK
                          : refused    ? EB_DOCUMENT_FAILED
                                       : EB_DOCUMENT_DIFFERS;
        read_next(run, run->document + 1);
    } else {
        if (run->keeping == COMPARING)
            document->state = EB_DOCUMENT_THERE;
        compare_next(run, run->document + 1);
    }
}

static void poll_documents(struct eb_run *run)
{
    if (run->stopping && run->state == EBI_SAVING && run->leaving == NOT_LEAVING) {
        run->ending = EB_OUTCOME_INTERRUPTED;
        end(run);
        return;
    }
    if (run->keeping == RETURNING || run->keeping == LOOKING) {
        look(run);
        return;
    }
    enum eb_status status = ebi_poll_operation(run);
    if (status == EB_PENDING)
        return;
    if (run->keeping == LEAVING) { /* whatever came of it: the next look shows */
        run->patience_end_us = run->now_us + run->config.profile->return_patience_ms * 1000ULL;
        rest(run, RETURNING, 0);
    } else if ((run->keeping & ~(unsigned)PAUSES) == RESTARTING) {
        if (status == EB_PEER_ERROR && acts(run))
            refused(run);
        else
            restart(run);
    } else if (run->keeping == (RETURNING | PAUSES) || run->keeping == (LOOKING | PAUSES)) {
        ebi_begin_look(run);
        run->keeping &= PAUSES - 1;
        run->step++;
    } else if ((run->keeping & PAUSES) != 0) {
        begin(run, run->keeping & (PAUSES - 1));
    } else if (status == EB_OK) {
        done(run);
    } else {
        failed(run);
    }
}

const struct eb_run_documents eb_run_documents = {save, put_back, poll_documents};
