/* The parts of the job library among themselves. */
#ifndef EBI_JOB_INSIDE_H
#define EBI_JOB_INSIDE_H

#include "einbau/job.h"

#include <jansson.h>

/* The job must end: fills in job->problem; gives false. */
__attribute__((format(printf, 3, 4))) bool ebi_job_fail(struct eb_job *job, enum eb_status status,
                                                        const char *format, ...);
/* job->problem is filled already. */
bool ebi_job_failed(struct eb_job *job, enum eb_status status);
/* A sentence for config.warn. */
__attribute__((format(printf, 2, 3))) void ebi_job_warn(struct eb_job *job, const char *format, ...);

/* How urgently the caller wants the end. */
unsigned ebi_job_stop(const struct eb_job *job);

/* Memory for the accesses of a run, as long as it goes on. */
void ebi_job_free_spare(struct eb_job *job);
void ebi_job_take_memory(struct eb_job_device *target, enum eb_job_run which, struct eb_run_config *config);
void ebi_job_give_memory(struct eb_job_device *target, enum eb_job_run which);

/* Works until all runs of the crew have ended and `more`, which may be NULL, has added none. */
void ebi_job_work(struct eb_job *job, struct eb_crew *crew,
                  bool (*more)(struct eb_job *job, struct eb_crew *crew));

/* A row of the record about the device, without what happens to it; the keys live as long as the row. */
struct ebi_row_keys {
    char address[EB_LOCK_KEY_BYTES], unit[EB_LOCK_KEY_BYTES];
};
struct eb_record_row ebi_job_row(const struct eb_job *job, const struct eb_job_device *target,
                                 struct ebi_row_keys *keys);

/* Lets the run write into the record before each effect. */
void ebi_job_attach(struct eb_job *job, struct eb_run_config *config);

/* Finds the checksums of the wanted images, as far as the devices tell theirs and the images are known. */
void ebi_job_compare(struct eb_job *job);

/* What a run must know of the device's web server. */
struct eb_http_target ebi_job_web(struct eb_job_device *target);

/* What a person says of the device; see struct eb_target.  `context` is the device. */
enum eb_status ebi_job_statement(void *context, size_t item, const char *where, bool afresh,
                                 char text[EB_NAME_BYTES]);
/* Writes down what was said of it so far. */
void ebi_job_record_statements(struct eb_job_device *target);

/* What the record says, as JSON, freed by the caller: of the job at its beginning, of a device
 * afterwards (before: eb_job_describe).  Whether a device is part of the job; what became of it, also of one
 * that was not begun; all of them in a few words. */
char *ebi_note_job(const struct eb_job *job);
char *ebi_note_end(const struct eb_job *job, struct eb_job_device *target);
/* What is said with an effect; NULL: nothing. */
char *ebi_note_effect(const struct eb_job_device *target);
bool ebi_note_is_part(const struct eb_job_device *target);
enum eb_outcome ebi_note_outcome(const struct eb_job_device *target);
void ebi_note_result(const struct eb_job *job, char *to, size_t cap);
void ebi_note_person(const struct eb_job *job, char to[EB_NAME_BYTES]);
void ebi_note_laptop(char to[EB_NAME_BYTES]);
/* Reads what the profiles note: of the devices of the plan before anything is done, of those that were
 * written to afterwards, which is written down.  What could not be read stays unknown; no device is the worse
 * for it. */
void ebi_noted_before(struct eb_job *job);
void ebi_noted_after(struct eb_job *job);
json_t *ebi_noted_before_json(const struct eb_job_device *target);
/* Documents of devices: finds what earlier jobs have not put back; decides what is saved and put back; lets a
 * run do that; remembers before an effect what is to be put back (false: it cannot); and forgets it once it
 * was. */
void ebi_kept_find(struct eb_job *job);
void ebi_kept_attach(struct eb_job_device *target, struct eb_run_config *config);
bool ebi_kept_effect(struct eb_job_device *target, const struct eb_run_record *record);
void ebi_kept_end(struct eb_job_device *target);
/* Whether a document is put back, and not only saved. */
bool ebi_kept_any_due(const struct eb_job_device *target);
void ebi_kept_drop(struct eb_job_device *target);
json_t *ebi_kept_json(const struct eb_job_device *target);

/* Members of managed networks: reads what their managers say of them; adds the finding on item `k`; what a
 * run must know; what a row of the record says while it is taken out, NULL: it is not. */
void ebi_networks_find(struct eb_job *job);
void ebi_member_judge(struct eb_job_device *target, size_t k);
void ebi_member_attach(struct eb_job_device *target, struct eb_run_config *config);
json_t *ebi_member_json(const struct eb_job_device *target);

/* --- verdicts.c --- */

/* Keeps what all rules say of an item, in place of what is kept of it. */
void ebi_verdict_keep(struct eb_job_device *target, size_t k, const struct eb_verdict *verdict);
/* The run that writes has judged: that is kept, once.  What is in the run's rooms is overwritten by the next
 * one. */
void ebi_verdicts_judged(struct eb_job_device *target, const struct eb_run *run);
/* There are no items any more. */
void ebi_verdicts_drop(struct eb_job_device *target);

/* What devices tell never becomes a path; the device in the name of a file. */
void ebi_kept_plain(char *text);
/* ... and that file is not needed any more. */
void ebi_kept_forget(const struct eb_job_device *target, const char *folder);
void ebi_kept_key(const struct eb_job_device *target, char key[EB_LOCK_KEY_BYTES]);
/* Writes what was saved of it, as the run knows it, into the file `to`, or, NULL, into one of its own among
 * the backups; and into the record. */
bool ebi_kept_write(struct eb_job_device *target, const struct eb_run *run, struct eb_backup_file *file,
                    const char *to, struct eb_problem *problem);
/* Settings, and actions: what a run does for them, and what became of it; that a change was cut off is said;
 * what was read becomes part of a backup (false: nothing was).  The first gives false where the run is about
 * something else. */
bool ebi_settings_attach(struct eb_job_device *target, struct eb_run_config *config);
void ebi_settings_end(struct eb_job_device *target);
void ebi_settings_find(struct eb_job *job);
json_t *ebi_changes_json(const struct eb_job_device *target);
json_t *ebi_settings_json(const struct eb_job_device *target);
struct eb_job_settings *ebi_settings_of(struct eb_job_device *target);
void ebi_settings_clear(struct eb_job_device *target);
bool ebi_settings_add(const struct eb_job_device *target, struct eb_backup_file *file);
void ebi_settings_drop(struct eb_job_device *target);

/* Writes down the devices of the plan, before anything is done to one of them; the first one, once, and so
 * that each has an end. */
bool ebi_note_plan(struct eb_job *job);
bool ebi_note_devices(struct eb_job *job);
/* Milliseconds since the job began; an event of a run, `context` is its device. */
uint64_t ebi_note_ms(const struct eb_job *job);
void ebi_note_event(void *context, const struct eb_run *run);

/* Where a device stands, for those that wait for it. */
enum { EBI_STAGE_WAITS, EBI_STAGE_BEGUN, EBI_STAGE_DONE, EBI_STAGE_FAILED };

/* The order in which devices begin, for the crew and for the estimate.  Makes it from what is planned and not
 * begun; the next one that may begin now, or NULL; one has ended. */
EB_NODISCARD bool ebi_order_begin(struct eb_job *job);
struct eb_job_device *ebi_order_next(struct eb_job *job);
void ebi_order_ended(struct eb_job *job, struct eb_job_device *target, bool well);

/* How long the device took for what: noted at each effect of its run, and kept at the end of the job, with
 * what it runs then. */
void ebi_pace_note(struct eb_job_device *target, const struct eb_run *run,
                   const struct eb_run_record *record);
void ebi_job_remember(struct eb_job *job);
/* What is known of such a device. */
void ebi_pace_recall(const struct eb_job_device *target, struct eb_target *to);
/* How long it takes alone, at least 1; whether others wait for it. */
uint64_t ebi_own_us(const struct eb_job_device *target);
bool ebi_is_urgent(const struct eb_job_device *target);
/* How often it restarts for the first `count` of its items. */
unsigned ebi_restarts(const struct eb_job_device *target, size_t count);

bool ebi_job_on_bus(const struct eb_job_device *target);
bool ebi_job_on_ip(const struct eb_job_device *target);

/* keep.c: whether another process works on it now. */
void ebi_job_find_worker(struct eb_job *job, struct eb_job_device *target);

#endif
