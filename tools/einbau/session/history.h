/* The record of jobs, as commands read it. */
#ifndef TOOL_HISTORY_H
#define TOOL_HISTORY_H

#include "session/session.h"

#include <jansson.h>

/* A job with all that the record says of its devices. */
struct past {
    struct eb_record_job job;
    bool plan;                                   /* it is none yet: what a job would do */
    bool goes_on;                                /* it is still at work */
    json_t *body;                                /* of the job: docs/record.md */
    char digest[2 * EB_RECORD_DIGEST_BYTES + 1]; /* of its last entry */
    struct past_device {
        char name[EB_NAME_BYTES], serial[EB_NAME_BYTES], order_code[EB_NAME_BYTES];
        char link[EB_NAME_BYTES], profile[EB_NAME_BYTES];
        char outcome[EB_NAME_BYTES]; /* empty: the job did not come to its end */
        char error[EB_PROBLEM_BYTES];
        char effect[EB_NAME_BYTES];                                    /* the last one, "send"; empty: none */
        char component[EB_NAME_BYTES], version[EB_VERSION_TEXT_BYTES]; /* of that */
        json_t *spans; /* what it did when: as it was noted, or by its effects where the job was cut off */
        json_t *before, *after; /* `after` may be NULL */
        json_t *noted;          /* of its values and diagnostics, or NULL */
    } * devices;
    size_t count;
    uint64_t last_ms;                      /* of the last row, since the job began */
    char (*statements)[5 * EB_NAME_BYTES]; /* what persons said: a sentence each */
    size_t statement_count;
};

/* Where the record is that this call is about, or NULL. */
const char *history_folder(const struct session *session);
/* Opens the record that this call is about; NULL after a complaint, with `status` filled. */
struct eb_record *history_open(struct session *session);
/* Its jobs, the newest first; freed by the caller.  False after a complaint. */
bool history_jobs(struct session *session, struct eb_record *record, struct eb_record_job **jobs,
                  size_t *count);
/* One job by its number, or the newest one that wrote (`name` NULL); false after a complaint. */
bool history_read(struct session *session, struct eb_record *record, const char *name, struct past *past);
void history_free(struct past *past);

/* Whether it is still at work. */
bool history_goes_on(struct eb_record *record, const struct eb_record_job *job);
/* "interrupted", "running", or how it ended in a few words. */
const char *history_result(const struct eb_record_job *job, bool goes_on);
/* Whether it wants to be gone on with. */
bool history_is_open(const struct eb_record_job *job, bool goes_on);

/* Whether it made a memory card, and no 'confirm' has read back yet what became of it. */
bool history_waits(const struct eb_record_job *job);

/* A SHA-256 in hexadecimal. */
void digest_text(const uint8_t digest[EB_SHA256_BYTES], char to[EB_DIGEST_TEXT_BYTES]);

/* The text as a string, or null where it is empty. */
json_t *text_or_null(const char *text);

/* A text of a record, and one of an object; empty where there is none. */
const char *history_word(const json_t *string);
const char *history_text(const json_t *object, const char *key);

#endif
