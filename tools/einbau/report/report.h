/* What the tool says of devices and plans, as text and as JSON. */
#ifndef TOOL_REPORT_H
#define TOOL_REPORT_H

#include "session/session.h"
#include "ui/table.h"

#include <jansson.h>

/* A digest by its first digits; everything else whole. */
const char *shorter(const char *from, char to[EB_FINDING_TEXT_BYTES + 4]);

/* The last part of a path. */
const char *file_name(const char *path);

/* A verdict's answer in words. */
const char *answer_text(enum eb_answer answer);

/* What runs in a component, as a cell: a version, "(in loader)", "unknown". */
enum { RUNNING_BYTES = EB_VERSION_TEXT_BYTES + 24 };
const char *running_text(const struct eb_job_device *target, size_t index, char text[RUNNING_BYTES]);

/* What is to be said of one device: a sentence or more into `text`, or nothing.  Printed behind the device's
 * name, and once for all devices of which the same is to be said: "door-01..door-07: ...".  With an empty
 * line before each, or, where `spaced` is not NULL, one before the first where `*spaced` is false. */
typedef void sentence_of(const struct session *session, const struct eb_job_device *target,
                         const void *context, char text[SENTENCE_BYTES]);
void say_folded(const struct session *session, sentence_of *sentence, const void *context, bool *spaced);
/* Sentences: why its run failed; why it could not be looked at; what came of it in a job; what an earlier job
 * left, or that somebody works on it, or that its program is stopped. */
sentence_of say_run, say_look, say_statement, say_outcome, say_way, say_left, say_moved, say_noted_unread;

/* What was noted of a device before a job and after (eb_job_describe_noted), or NULL. */
json_t *noted_of(const struct eb_job_device *target);
/* A value that differs, or a new entry of its diagnostics; false behind the last one. */
struct noted_row {
    const char *name;
    char before[EB_NAME_BYTES], after[EB_NAME_BYTES + 32];
};
bool noted_row(const json_t *noted, size_t index, struct noted_row *row);
/* Why nothing can be said of it, or NULL. */
const char *noted_unread(const json_t *noted);
/* A table of what differs of several devices: printed where there is anything. */
void noted_begin(struct table *table);
void noted_add(struct table *table, const char *device, const json_t *noted);
void noted_end(struct table *table);
/* The same of all devices of a session. */
void print_noted(const struct session *session);

/* The documents of a device that are saved and put back (eb_job_describe_documents), or NULL. */
json_t *documents_of(const struct eb_job_device *target);
/* What is planned of one, or what became of it: a few words; empty: nothing. */
void document_words(const json_t *document, bool plan, char *text, size_t cap);
/* The same of all documents of a device, with their names. */
void kept_text(const json_t *documents, bool plan, char *text, size_t cap);
/* Of all devices of a session: what is planned, or came of it, and what helps. */
void print_documents(const struct session *session, bool plan, bool *spaced);

/* Prints a table of devices as the options wish it, and frees it; `differ`: as of table_fold. */
void print_folded(const struct session *session, struct table *table, unsigned differ);

/* The tables that several commands print, and the columns of two. */
extern const char *const devices_heads[], *const plan_heads[];
void print_devices(const struct session *session);
void print_disagreements(const struct eb_job_device *target);
void print_plan(const struct session *session);
/* Whether it is not as wanted, and no wire leads there by which it could be written. */
bool is_left_outdated(const struct eb_job_device *target);
/* "Write 17 images to 15 devices, about 1 min 14 s?" */
enum { PLAN_QUESTION_BYTES = 128 };
void plan_question(const struct session *session, char question[PLAN_QUESTION_BYTES]);

/* Members of managed networks.  In a plan: what is done with them; whether some are written one after the
 * other.  After it, or an earlier job: that the manager was not seen to take it back; empty where it was. */
sentence_of say_member;
bool plan_takes_turns(const struct session *session);
void out_sentence(const struct eb_job_device *target, char *text, size_t cap);
/* The list of a manager: as a table (false: a member does not answer, or is not what the list says), with
 * what is to be said of some of them, and as JSON. */
bool network_print(const struct session *session, const struct eb_site_device *manager,
                   const struct eb_member *list, size_t count);
void network_print_notes(const struct session *session, const struct eb_site_device *manager,
                         const struct eb_member *list, size_t count);
json_t *network_document(const struct session *session, const struct eb_site_device *manager,
                         const struct eb_member *list, size_t count);

/* Every rule's answer, a line each. */
void print_verdict(const struct eb_verdict *verdict, const char *indent);

/* The findings of one device that are not plain yes, after an empty line where `*spaced` is false. */
void print_findings(const struct eb_job_device *target, bool *spaced);
/* As a plan shows it: a part of a second counts as one. */
uint32_t whole_seconds(uint64_t us);
size_t count_plan(const struct session *session, size_t *devices, size_t *refused);

/* An image of the shelf; docs/json.md. */
json_t *shelf_image_document(const struct eb_shelf_image *image);

/* Reads hardware revisions with commas between into `list` of EB_PATTERNS_MAX, which may be NULL; says so
 * where that cannot be. */
bool revisions_read(const char *text, char (*list)[EB_NAME_BYTES]);

/* "EINBAU": "COMMAND/1" with the site and its devices; docs/json.md. */
json_t *document(const struct session *session, const char *command);

#endif
