/* A report as one self-contained HTML page: no script, nothing from elsewhere. */
#ifndef TOOL_PAGE_H
#define TOOL_PAGE_H

#include "report/page_words.h"
#include "session/history.h"

#include <stdio.h>

/* One device, or several of which the same is to be drawn. */
struct page_row {
    const struct past_device *device; /* that is drawn: the first one, or the slowest of a timeline */
    const struct past_device *first, *last;
    size_t count;
};

struct page {
    FILE *to;
    const struct past *past;
    uint64_t length_ms; /* of the job */
    bool *critical;     /* by device */
};

/* Text that is no markup: &, <, > and quotes are written out. */
void page_text(const struct page *page, const char *text);
__attribute__((format(printf, 2, 3))) void page_format(const struct page *page, const char *format, ...);

/* "confirmed": the outcome of a device; "interrupted" where the job was cut off. */
const char *past_outcome(const struct past_device *device);
/* Whether it is as the job wanted it. */
bool past_is_good(const struct past_device *device);
enum { PAST_SAYS_BYTES = EB_PROBLEM_BYTES + 128 };
/* What happened to it, and what helps; empty where all is well. */
void past_says(const struct past *past, const struct past_device *device, char *text, size_t cap);
bool past_says_the_same(const struct past *past, const struct past_device *a, const struct past_device *b);
/* What was read behind an image of the plan; empty: nothing. */
const char *past_read_back(const struct past_device *device, size_t index);
/* The documents of a device, as eb_job_describe_documents gives them, or NULL; `*plan`: what is planned. */
const json_t *past_documents(const struct past *past, const struct past_device *device, bool *plan);
/* What was accepted, one finding after the other; `finding` NULL: no rule's. */
void past_accepted(const struct past *past,
                   void (*take)(void *context, const struct past_device *device, const char *what,
                                const json_t *finding),
                   void *context);
/* The devices that the call left out, "a, b"; false: none. */
bool past_left_out(const struct past *past, char *text, size_t cap);
/* "version, checksum": by what an image was confirmed. */
void past_proofs(const struct past_device *device, size_t item, char *text, size_t cap);
/* "door-01..07", "pa-valley, pa-middle", or the one name; "1:04" */
void range_text(const struct page_row *row, char *text, size_t cap);
void clock_text(uint64_t ms, char *text, size_t cap);
/* Text for a drawing, where more than so many characters have no room: the whole stands in a label. */
void page_short(const struct page *page, const char *text, size_t most);
/* When its run began and ended, since the job began; false: it had none. */
bool past_times(const struct past_device *device, uint64_t *began_ms, uint64_t *ended_ms);

/* The symbol of an outcome with its word. */
void page_outcome(const struct page *page, const char *outcome);

void page_head(const struct page *page);
void page_site(const struct page *page);
void page_timeline(const struct page *page);

/* Writes a page into a file, which stays as it was until the page is whole; false after a complaint. */
bool page_file(const char *path, bool (*write)(FILE *to, const void *context), const void *context);
/* The same of a job, and says so. */
bool page_save(const char *path, const struct past *past);

/* What the plan of a session would do, as if it were a job of the record; history_free frees it. */
void past_of_plan(const struct session *session, struct past *past);

/* The report as text, and as a JSON document. */
void past_print(struct past *past);
json_t *past_document(const struct past *past);

#endif
