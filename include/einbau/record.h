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
    char since[EB_SEEN_BYTES];                         /* ISO 8601, UTC; empty: not known */
    char person[EB_NAME_BYTES], laptop[EB_NAME_BYTES]; /* of a lease; empty: on this laptop */
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

/* One row: what is about to be done to a device or to the laptop, or what became known.  The texts are
 * borrowed; NULL and "": not known. */
struct eb_record_row {
    const char *kind;          /* before an effect: "prepare", "send", "activate", "undo", "address-add",
                                * "address-remove"; afterwards "end"; "stated"; of a plan: "device"; of the job itself:
                                * "job", "job-end" */
    const char *unit;          /* which device: the key of its lock */
    const char *site, *device; /* its name there */
    const char *serial, *order_code, *profile;
    const char *link, *address; /* where it is: the key of the address's lock; an address of the laptop */
    const char *component, *version, *checksum; /* of "send": what is sent; the checksum as 8 digits */
    const char *outcome, *error;                /* of "end"; of "stated": who said it, else empty */
    bool left;                                  /* of "end": what was prepared is not known to be undone */
    unsigned attempt;                           /* of an effect: 1, 2, ... */
    uint64_t ms;                                /* since the job began, by the port's clock */
    const char *body;                           /* more of it, as a JSON object: docs/record.md */
};

/* A file `record.db` (SQLite) in a folder, or the same tables on a PostgreSQL server: one row for each job,
 * one for each effect.  Rows are only added.  Each has the SHA-256 (FIPS 180-4) of its own texts and of the
 * row before it in its job, and a job's first row follows the first row of the job before: a row that is
 * changed later no longer fits what comes behind it. */
struct eb_record;

/* `place`: a folder, or postgresql://... as libpq takes it (no password in it: ~/.pgpass, PGPASSFILE, a
 * service file).  `make`: the folder and the file are made where they are missing; else that gives NULL with
 * `problem` empty.  Of a server, eb_record_init must have made the tables.  A file of an older form is
 * renewed; one of a newer form is refused.  On a server every call waits for its answer, 10 s at most; then
 * the record is lost for this call, and with it what it has leased. */
EB_NODISCARD struct eb_record *eb_record_open(const char *place, bool make, struct eb_problem *problem);
bool eb_record_is_server(const char *place);

/* Makes the tables on a server, with the rights of the role einbau_technician; where they are, nothing is
 * changed.  `made`: whether they were made.  False with `problem` filled. */
EB_NODISCARD bool eb_record_init(const char *place, bool *made, struct eb_problem *problem);
void eb_record_close(struct eb_record *record); /* NULL: nothing */

/* How a job begins; borrowed for the call. */
struct eb_record_start {
    const char *command, *site;
    const char *person, *laptop; /* who began it, and where */
    bool simulated;
    int64_t resumes; /* the job that this one goes on with; 0: none */
    const char *body;
};

/* A job begins, and ends: `outcome` as a word, `result` as a few ("2 confirmed, 1 failed"), after `ms` of the
 * port's time.  Between the two, rows are of this job.  On disk when they come back; false with `problem`
 * filled. */
EB_NODISCARD bool eb_record_begin(struct eb_record *record, const struct eb_record_start *start,
                                  struct eb_problem *problem);
EB_NODISCARD bool eb_record_add(struct eb_record *record, const struct eb_record_row *row,
                                struct eb_problem *problem);
/* A row for each device of the job, with one write; `kind` of each is "device". */
EB_NODISCARD bool eb_record_devices(struct eb_record *record, const struct eb_record_row *rows, size_t count,
                                    struct eb_problem *problem);
EB_NODISCARD bool eb_record_end(struct eb_record *record, const char *outcome, const char *result,
                                uint64_t ms, struct eb_problem *problem);
/* The rows that are added between the two are on disk together at the end, with one write. */
EB_NODISCARD bool eb_record_together(struct eb_record *record, bool begins, struct eb_problem *problem);
/* The number of the job that is being written; 0: none.  Whether the clock was put back: a row is older than
 * the one before it. */
int64_t eb_record_number(const struct eb_record *record);
bool eb_record_went_back(const struct eb_record *record);
/* The key of the lock that is held as long as a job of this record goes on. */
void eb_record_key(const struct eb_record *record, int64_t job, char key[EB_LOCK_KEY_BYTES]);

/* --- leases --------------------------------------------------------------------------------------- */

/* What eb_locks are on one laptop, leases are among all laptops that share a server.  A lease ends with the
 * connection of its holder: at once where its process dies, within 25 s where its network is cut. */

/* Whether this record is on a server; all that follows does nothing where it is not. */
bool eb_record_shared(const struct eb_record *record);
/* EB_OK: it is this record's from now on, or was already.  EB_BUSY: another laptop's, and `holder` says
 * whose. EB_IO with `problem` filled. */
EB_NODISCARD enum eb_status eb_record_lease(struct eb_record *record, const char *key, const char *command,
                                            const char *person, const char *laptop,
                                            struct eb_lock_holder *holder, struct eb_problem *problem);
void eb_record_release(struct eb_record *record, const char *key);
/* Whether another connection holds it; nothing is taken. */
bool eb_record_leased(struct eb_record *record, const char *key, struct eb_lock_holder *holder);
/* Whether the server still answers: to be asked every few seconds while devices are worked on.  Never waits.
 * False: the connection is gone, or no answer came for 10 s; the leases are not this record's any more. */
bool eb_record_answers(struct eb_record *record);

/* A folder of this laptop for rows that the server cannot take as it is lost in the middle of a job: what
 * ends, undoes and activates is done all the same, and its rows wait there.  What waits there from before is
 * given to the server now, each row once; `given`: how many.  False with `problem` filled. */
EB_NODISCARD bool eb_record_outbox(struct eb_record *record, const char *folder, size_t *given,
                                   struct eb_problem *problem);

/* --- reading it ---------------------------------------------------------------------------------- */

/* One job. */
struct eb_record_job {
    int64_t number;                                  /* never given again */
    char began[EB_SEEN_BYTES], ended[EB_SEEN_BYTES]; /* ISO 8601, UTC; `ended` empty: it did not */
    char command[EB_NAME_BYTES], site[EB_NAME_BYTES];
    char person[EB_NAME_BYTES], laptop[EB_NAME_BYTES];
    char outcome[EB_NAME_BYTES], result[EB_LOCK_KEY_BYTES];
    bool simulated;
    long process;
    size_t devices;
    uint64_t took_ms;   /* by the port's clock */
    int64_t resumed_by; /* the job that went on with it; 0: none */
};
/* All of them, the newest first; freed by the caller with free. */
EB_NODISCARD bool eb_record_jobs(struct eb_record *record, struct eb_record_job **jobs, size_t *count,
                                 struct eb_problem *problem);

enum { EB_RECORD_DIGEST_BYTES = 32 };

/* One row as it is in the record; its texts are valid during the call. */
struct eb_record_entry {
    int64_t job;
    const char *at; /* ISO 8601, UTC */
    struct eb_record_row row;
    const uint8_t *chain; /* EB_RECORD_DIGEST_BYTES */
};
/* Gives the rows of a job in their order, until `take` gives false.  False with `problem` filled. */
EB_NODISCARD bool eb_record_rows(struct eb_record *record, int64_t job,
                                 bool (*take)(void *context, const struct eb_record_entry *entry),
                                 void *context, struct eb_problem *problem);
/* The same of the rows of plans and of ends of one device, named by its serial number or its name, over all
 * jobs.
 */
EB_NODISCARD bool eb_record_device(struct eb_record *record, const char *name,
                                   bool (*take)(void *context, const struct eb_record_entry *entry),
                                   void *context, struct eb_problem *problem);

/* What a check of all digests has found. */
struct eb_record_check {
    size_t jobs, rows;
    size_t wrong;                /* jobs that are not as they were written */
    int64_t job;                 /* the first of them ... */
    char text[EB_PROBLEM_BYTES]; /* ... and what is wrong with it */
};
/* Computes all digests again.  False with `problem` filled where the record cannot be read. */
EB_NODISCARD bool eb_record_verify(struct eb_record *record, struct eb_record_check *check,
                                   struct eb_problem *problem);

/* Takes out the jobs that ended before this moment (ISO 8601, UTC), but none that is not in order; `count` of
 * them.  The other jobs' digests stay what they are. */
EB_NODISCARD bool eb_record_forget(struct eb_record *record, const char *before, size_t *count,
                                   struct eb_problem *problem);

/* --- what was left behind ------------------------------------------------------------------------- */

/* What a job left behind: the last row of a device, where that does not say that all is in order; or an
 * address of the laptop that was not taken back.  Whether that job still goes on, the lock `unit` tells. */
struct eb_left {
    char kind[16]; /* as in the row: "end" means that it could not be undone */
    char unit[EB_LOCK_KEY_BYTES], address[EB_LOCK_KEY_BYTES];
    char site[EB_NAME_BYTES], device[EB_NAME_BYTES], link[EB_NAME_BYTES];
    char serial[EB_NAME_BYTES], laptop[EB_NAME_BYTES]; /* `laptop`: of the job */
    char component[EB_NAME_BYTES], version[EB_VERSION_TEXT_BYTES];
    char command[EB_NAME_BYTES], began[EB_SEEN_BYTES]; /* of the job */
    long process;
    bool prepared; /* that job has prepared it, and has not undone it */
    bool joined;   /* its network's manager has let go of it: how it was found before is in the next ones */
    bool supervised, tells_supervision;
    uint8_t state;
    int64_t job;
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
