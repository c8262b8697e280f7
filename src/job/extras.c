/* What not every application needs: other ways to write and to restart a device, and images of several files.
 */
#include "job/ladder.h"
#include "einbau/text.h"

#include <string.h>

/* --- other ways to write --------------------------------------------------------------------------- */

/* Not where another device answers, or a login was refused: only after what the device itself says, or its
 * silence. */
static bool has_way(const struct eb_run *run, const struct eb_error *error)
{
    static const unsigned of_device =
        1U << EB_PEER_ERROR | 1U << EB_NO_ANSWER | 1U << EB_UNREACHABLE | 1U << EB_CLOSED | 1U << EB_GARBAGE;
    return (of_device >> error->status & 1) != 0 && run->way < run->config.profile->otherwise_count;
}

static void take_next_way(struct eb_run *run)
{
    run->way_due = false;
    run->way_error = run->error;
    run->way++;
    run->progress.item = run->group;
    run->progress.attempt = 1;
    run->failures = 0;
    run->later_us = run->pause_us = 0;
    memset(&run->error, 0, sizeof run->error);
    ebi_close_but(run, NULL);
    ebi_begin_prepare(run);
}

/* --- other ways to restart ------------------------------------------------------------------------- */

static bool choose_next(struct eb_run *run, const struct eb_error *error)
{
    const struct eb_steps *steps = &run->config.profile->activate;
    if (run->stopping || steps->count == 0 || steps->list[steps->count - 1].choice <= run->choice)
        return false;
    run->choice++;
    run->choice_error = *error;
    ebi_begin_activate(run);
    return true;
}

/* --- images of several files ----------------------------------------------------------------------- */

static enum eb_status read_part(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    struct eb_run *run = self;
    const struct eb_source *whole = &ebi_current(run)->source;
    return whole->read(whole->self, run->part_at + offset, to, size);
}

static void take_part(struct eb_run *run, struct eb_operation *send)
{
    const struct eb_part *part = &ebi_current(run)->parts[run->part];
    run->part_source = (struct eb_source){.self = run, .size_bytes = part->size_bytes, .read = read_part};
    send->file_name = part->name;
    send->source = &run->part_source;
}

static bool next_part(struct eb_run *run)
{
    if (run->stopping)
        return false;
    run->part_at += ebi_current(run)->parts[run->part++].size_bytes;
    ebi_send_part(run);
    run->step++; /* so that it is polled at once */
    return true;
}

/* --- what a person states ---------------------------------------------------------------------------- */

/* Whether the text that counts was said by a person. */
static bool is_stated(const struct eb_run *run, size_t item)
{
    const struct eb_values *values = eb_profile_values(run->config.profile, item);
    for (size_t i = 0; values != NULL && i < values->count; i++) {
        if (run->texts[item][i][0] != '\0')
            return (values->list[i].by->able & EB_BY_PERSON) != 0;
    }
    return false;
}

static void note_statements(struct eb_run *run)
{
    run->stated = 0;
    for (size_t i = 0; i < eb_profile_items(run->config.profile); i++)
        run->stated |= (uint64_t)is_stated(run, i) << i;
}

/* The version that runs is not the one that was sent: where only a person can read it, sending once more
 * would only ask once more. */
static void ask_person(const struct eb_run *run, const struct eb_run_item *item, struct eb_error *error)
{
    const struct eb_values *values = &item->component->version;
    size_t index = eb_profile_item_of((size_t)(item->component - run->config.profile->components), false);
    bool only = values->count > 0 && (values->list[0].by->able & EB_BY_PERSON) != 0;
    if (!only && (run->stated >> index & 1) == 0)
        return;
    error->retry = EB_RETRY_NEVER;
    if (ebi_running_of(run, item)->version[0] == '\0') {
        error->where = "asking what it runs now";
        eb_text_copy(error->text, sizeof error->text, "no person has stated it since the restart");
    }
}

/* Closes what was opened for the update, once; false: nothing is to be closed. */
static bool close(struct eb_run *run)
{
    if (run->closing || run->config.profile->closes == 0)
        return false;
    run->closing = true;
    run->undo_failed = run->undo_due = false;
    run->patience_end_us = 0;
    run->record.prepared = true;
    /* The restart that was seen stands: what was confirmed is to be seen once more. */
    if (run->config.count > 0 && ebi_current(run)->outcome != EB_OUTCOME_NONE)
        run->contact.watching = true;
    run->later_us = run->pause_us = 0;
    run->step = run->config.profile->undo.count - run->config.profile->closes;
    ebi_may_act(run, EB_EFFECT_UNDO);
    ebi_undo_next(run);
    return true;
}

const struct eb_run_extras eb_run_extras = {has_way,   take_next_way,   choose_next, take_part,
                                            next_part, note_statements, ask_person,  close};
