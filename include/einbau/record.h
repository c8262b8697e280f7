/* What keeps a plant whole when several jobs run, or one dies: a lock on each device, and a record on disk of
 * each effect, written before it happens. */
#ifndef EINBAU_RECORD_H
#define EINBAU_RECORD_H

#include "einbau/host.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_LOCK_KEY_BYTES = 160 };

/* --- locks --------------------------------------------------------------------------------------- */

/* Who holds a lock. */
struct eb_lock_holder {
    long process;
    char command[EB_NAME_BYTES];
    char since[EB_SEEN_BYTES]; /* ISO 8601, UTC; empty: not known */
};

/* The locks that this process holds.  They are files in a folder of this user's own: $EINBAU_LOCKS, else
 * /run/user/UID/einbau, else /tmp/einbau-UID.  The system releases them when the process ends, however that
 * happens. */
struct eb_locks;

/* `command` is what others are told.  NULL with `problem` filled where the folder cannot be used. */
EB_NODISCARD struct eb_locks *eb_locks_open(const char *command, struct eb_problem *problem);
void eb_locks_close(struct eb_locks *locks); /* NULL: nothing */

/* EB_OK: this process holds it from now on, or did already.  EB_BUSY: another one does, and `holder` says
 * who.  EB_IO with `problem` filled: the file cannot be made. */
EB_NODISCARD enum eb_status eb_locks_take(struct eb_locks *locks, const char *key,
                                          struct eb_lock_holder *holder, struct eb_problem *problem);
void eb_locks_release(struct eb_locks *locks, const char *key);

/* Whether another process holds it; nothing is taken. */
bool eb_locks_held(const struct eb_locks *locks, const char *key, struct eb_lock_holder *holder);

/* --- the record ---------------------------------------------------------------------------------- */

/* One row: what is about to be done to a device or to the laptop.  The texts are borrowed; NULL and "": not
 * known. */
struct eb_record_row {
    const char
        *kind; /* "prepare", "send", "activate", "undo", "end", "address-add", "address-remove", "stated" */
    const char *unit;          /* which device: the key of its lock */
    const char *site, *device; /* its name there */
    const char *serial, *order_code, *profile;
    const char *link, *address; /* where it is: the key of the address's lock; an address of the laptop */
    const char *component, *version, *checksum; /* of "send": what is sent; the checksum as 8 digits */
    const char *outcome, *error;                /* of "end"; of "stated": who said it, else empty */
    bool left;                                  /* of "end": what was prepared is not known to be undone */
};

/* A file `record.db` (SQLite): one row for each job, one for each effect. */
struct eb_record;

/* `make`: the folder and the file are made where they are missing; else that gives NULL with `problem` empty.
 */
EB_NODISCARD struct eb_record *eb_record_open(const char *folder, bool make, struct eb_problem *problem);
void eb_record_close(struct eb_record *record); /* NULL: nothing */

/* A job begins, and ends.  Between the two, rows are of this job.  On disk when they come back; false with
 * `problem` filled. */
EB_NODISCARD bool eb_record_begin(struct eb_record *record, const char *command, const char *site,
                                  struct eb_problem *problem);
EB_NODISCARD bool eb_record_add(struct eb_record *record, const struct eb_record_row *row,
                                struct eb_problem *problem);
EB_NODISCARD bool eb_record_end(struct eb_record *record, const char *outcome, struct eb_problem *problem);

/* What a job left behind: the last row of a device, where that does not say that all is in order; or an
 * address of the laptop that was not taken back.  Whether that job still goes on, the lock `unit` tells. */
struct eb_left {
    char kind[16]; /* as in the row: "end" means that it could not be undone */
    char unit[EB_LOCK_KEY_BYTES], address[EB_LOCK_KEY_BYTES];
    char site[EB_NAME_BYTES], device[EB_NAME_BYTES], link[EB_NAME_BYTES];
    char serial[EB_NAME_BYTES];
    char component[EB_NAME_BYTES], version[EB_VERSION_TEXT_BYTES];
    char command[EB_NAME_BYTES], began[EB_SEEN_BYTES]; /* of the job */
    long process;
    bool prepared; /* that job has prepared it, and has not undone it */
};

/* All of it, freed by the caller with free. */
EB_NODISCARD bool eb_record_left(struct eb_record *record, struct eb_left **list, size_t *count,
                                 struct eb_problem *problem);

/* The checksum of what was last sent to this device as this version of a component; false: nothing was. */
bool eb_record_checksum(struct eb_record *record, const char *unit, const char *component,
                        const char *version, uint32_t *checksum);

#ifdef __cplusplus
}
#endif

#endif
