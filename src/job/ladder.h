/* The ladder of one device, inside. */
#ifndef EBI_LADDER_H
#define EBI_LADDER_H

#include "access/access.h"
#include "einbau/run.h"

/* What a run is doing.  Rungs of the ladder are what a user sees of it; run.c has the table of states.
 *
 *   REACHING <-> REACH_PAUSE     until it is identified, or patience is over
 *      |                       SAVING: documents, before the first PREPARING; JOINING: its manager lets go of
 * it v (judged; looked at only, refused, already right: ENDED) PREPARING -> CHECKING -> SENDING -> ACTIVATING
 * -> DOWN -> RETURNING -- confirmed: the next item, or ENDED |             |        |    |      |   | |     |
 *      |             |        | PEEKING   | ACTIVATE_PAUSE     | RETURN_PAUSE
 *      \_____________\________\___________\___________________/
 *                  | failed
 *                  v
 *      another try helps: TRY_PAUSE -> REACHING; else, or stopped: UNDOING <-> UNDO_PAUSE
 *                                                                    |
 *                                                                    v
 *                                                                 LAST_PAUSE <-> LAST_LOOK -> ENDED
 *
 *   PUTTING_BACK comes between any of these and ENDED, where documents were saved and something was written,
 * or where its manager let go of it.
 *
 * Invariants:
 *   identified       the device was read, and no effect was begun since
 *   record.prepared  an effect was begun that `undo` takes back, and it is not known to be undone
 *   confirmed        only through ebi_confirm_group, which is only called where what was read back is what
 * was intended and, where the profile says that the device restarts, the restart was seen
 */
enum ebi_state {
    EBI_REACHING,
    EBI_REACH_PAUSE,
    EBI_SAVING,
    EBI_JOINING,
    EBI_PREPARING,
    EBI_CHECKING,
    EBI_SENDING,
    EBI_PEEKING,
    EBI_ACTIVATING,
    EBI_ACTIVATE_PAUSE,
    EBI_DOWN,
    EBI_RETURNING,
    EBI_RETURN_PAUSE,
    EBI_TRY_PAUSE,
    EBI_UNDOING,
    EBI_UNDO_PAUSE,
    EBI_LAST_PAUSE,
    EBI_LAST_LOOK,
    EBI_PUTTING_BACK,
    EBI_ENDED
};

enum {
    EBI_KEPT = 255,        /* run->keeping: nothing more is done with documents ... */
    EBI_GIVEN_UP = 254,    /* ... nor anything else: it was abandoned */
    EBI_PAUSE_US = 500000, /* between two tries to reach a device */
    EBI_WATCH_US =
        200000 /* between two looks while its restart is waited for: some are back in half a second */
};

/* --- run.c: states and what is told --- */

/* The one place where the state changes. */
void ebi_set_state(struct eb_run *run, enum ebi_state state);
void ebi_set_rung(struct eb_run *run, enum eb_rung rung);
void ebi_tell(struct eb_run *run);
/* Reports a manual step that is due; and ends all that were due, as they are seen to be done. */
void ebi_ask_hand(struct eb_run *run, const struct eb_step *step);
void ebi_hands_done(struct eb_run *run);
void ebi_pause_in(struct eb_run *run, enum ebi_state state, uint64_t us);
void ebi_keep_error(struct eb_run *run, const struct eb_error *error);
struct eb_run_item *ebi_current(struct eb_run *run);
/* Whether bytes of the item were sent. */
bool ebi_touched(const struct eb_run *run, size_t item);
/* Tells the record before an effect; false: it must not be.  What was read is out of date as soon as
 * something is done to the device. */
bool ebi_may_act(struct eb_run *run, enum eb_effect effect);
void ebi_begin_identify(struct eb_run *run, enum ebi_state state);
void ebi_begin_reach(struct eb_run *run, uint64_t patience_us);

/* --- operate.c: operations of the accesses, and looking --- */

/* What the port lacks for the profile, or NULL. */
const char *ebi_run_lacks(const struct eb_run_config *config);
void ebi_init_accesses(struct eb_run *run);
/* The run's context of an access, or NULL. */
const struct ebi_run_access *ebi_access_of(const struct eb_run *run, const struct eb_access *access);
/* What sends its images, or NULL; whether it is able to do one of these. */
const struct ebi_run_access *ebi_sender(const struct eb_run *run);
bool ebi_sender_is_able(const struct eb_run *run, unsigned bits);
/* Closes all but one; NULL: all. */
void ebi_close_but(struct eb_run *run, const struct ebi_run_access *one);
void ebi_begin_operation(struct eb_run *run, const struct ebi_run_access *by,
                         const struct eb_operation *operation);
void ebi_begin_by_sender(struct eb_run *run, enum eb_operation_kind kind);
void ebi_begin_step(struct eb_run *run, const struct eb_step *step);
enum eb_status ebi_poll_operation(struct eb_run *run);
void ebi_begin_look(struct eb_run *run);
enum eb_status ebi_poll_look(struct eb_run *run);

/* --- identity.c: what was read --- */

/* Identification has ended with `status`; EB_OK: with the device that is meant, else `error` says why not. */
enum eb_status ebi_take_look(struct eb_run *run, enum eb_status status, struct eb_error *error);
/* That another device answers is read twice before it is believed: an answer may be damaged. */
bool ebi_in_doubt(const struct eb_run *run, enum eb_status status);
const struct eb_running *ebi_running_of(const struct eb_run *run, const struct eb_run_item *item);
/* The heart of confirming: what was read back, never what was sent. */
bool ebi_runs_as_intended(const struct eb_run *run, const struct eb_run_item *item);
/* Whether the restart that the profile tells of was seen since the device was made to take up what was sent.
 */
bool ebi_restart_seen(struct eb_run *run);
bool ebi_stopped_by_job(const struct eb_run *run);
/* The error "found ..., expected ...". */
struct eb_error ebi_other(const char *where, const char *found, const char *expected);

/* --- climb.c: the way up --- */

void ebi_poll_reaching(struct eb_run *run);
void ebi_poll_preparing(struct eb_run *run);
void ebi_poll_checking(struct eb_run *run);
void ebi_poll_sending(struct eb_run *run);
void ebi_poll_peeking(struct eb_run *run);
void ebi_poll_activating(struct eb_run *run);
void ebi_poll_returning(struct eb_run *run);
/* The step that was refused as the device was busy. */
void ebi_activate_once_more(struct eb_run *run);
void ebi_begin_next_try(struct eb_run *run);
/* Whether the intended versions run and that can only come from what was sent. */
bool ebi_arrived(struct eb_run *run);
/* The items of the current group were seen to run: with what ran before being something else, or with a
 * restart in between. */
void ebi_confirm_group(struct eb_run *run);
void ebi_begin_prepare(struct eb_run *run);
void ebi_begin_activate(struct eb_run *run);
/* Sends the image, or the file of it that is next. */
void ebi_send_part(struct eb_run *run);
/* How long a device is asked again that says that it is busy, without a byte sent; and the pause before that.
 */
uint64_t ebi_busy_patience_us(const struct eb_run *run);
uint64_t ebi_longer_pause(struct eb_run *run);

/* --- descend.c: the way down --- */

void ebi_begin_undo(struct eb_run *run);
void ebi_undo_next(struct eb_run *run);
void ebi_poll_undoing(struct eb_run *run);
void ebi_poll_last_look(struct eb_run *run);
void ebi_finish(struct eb_run *run, enum eb_outcome outcome);

#endif
