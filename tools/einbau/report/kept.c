/* Documents of devices: saved before an update, put back after it. */
#include "report/page_words.h"
#include "report/report.h"
#include "session/history.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

json_t *documents_of(const struct eb_job_device *t)
{
    char *body = eb_job_describe_documents(t);
    json_t *documents = body != NULL ? json_loads(body, 0, NULL) : NULL;
    free(body);
    return documents;
}

static bool is(const json_t *document, const char *key, const char *word)
{
    return strcmp(history_text(document, key), word) == 0;
}

static const char *planned_words(const json_t *d)
{
    return json_is_true(json_object_get(d, "due"))         ? W_KEPT_DUE
           : json_is_true(json_object_get(d, "puts_back")) ? W_KEPT_PLAN
           : json_is_true(json_object_get(d, "saves"))     ? W_KEPT_ONLY
           : is(d, "why_not", "in-loader")                 ? W_KEPT_LOADER
           : is(d, "why_not", "no-backup")                 ? W_KEPT_NO_BACKUP
                                                           : "";
}

/* It is kept on the laptop, and the run did not come to putting it back. */
static bool is_due(const json_t *d)
{
    return json_is_true(json_object_get(d, "puts_back")) && history_text(d, "backup")[0] != '\0';
}

/* A setting that is changed, or an action. */
static void change_words(const json_t *d, bool plan, char *text, size_t cap)
{
    const char *wanted = history_text(d, "wanted");
    bool done = is(d, "state", "put-back") || is(d, "state", "unchanged") || is(d, "state", "done");
    snprintf(text, cap, "%s%s%s%s%s", history_text(d, "before"), wanted[0] != '\0' ? " -> " : "", wanted,
             wanted[0] != '\0' && !plan ? ": " : "",
             plan   ? ""
             : done ? W_CHANGED
                    : W_NOT_CHANGED);
}

void document_words(const json_t *d, bool plan, char *text, size_t cap)
{
    if (json_object_get(d, "saves") == NULL) {
        change_words(d, plan, text, cap);
        return;
    }
    const char *error = history_text(d, "error");
    bool back = json_is_true(json_object_get(d, "puts_back"));
    const char *words = plan                                  ? planned_words(d)
                        : is(d, "state", "saved")             ? (back ? W_KEPT_NOT_YET : W_KEPT_SAVED)
                        : is(d, "state", "none") && is_due(d) ? W_KEPT_NOT_YET
                        : is(d, "state", "unchanged")         ? W_KEPT_THERE
                        : is(d, "state", "put-back")          ? W_KEPT_BACK
                        : is(d, "state", "differs")           ? W_KEPT_DIFFERS
                        : is(d, "why_not", "in-loader")       ? W_KEPT_LOADER
                        : is(d, "why_not", "no-backup")       ? W_KEPT_LOST
                                                              : "";
    snprintf(text, cap, "%s", words);
    if (!plan && is(d, "state", "failed") && history_text(d, "backup")[0] == '\0')
        snprintf(text, cap, W_KEPT_NOT_SAVED, error);
    else if (!plan && is(d, "state", "failed"))
        snprintf(text, cap, W_KEPT_FAILED, error);
}

void kept_text(const json_t *documents, bool plan, char *text, size_t cap)
{
    size_t i;
    const json_t *d;
    text[0] = '\0';
    json_array_foreach(documents, i, d)
    {
        char words[256];
        size_t at = strlen(text);
        document_words(d, plan, words, sizeof words);
        if (words[0] != '\0')
            snprintf(text + at, cap - at, "%s%s %s", at > 0 ? "; " : "", history_text(d, "name"), words);
    }
}

struct one {
    size_t index;
    bool plan;
};

/* Whether it is on the laptop and not on the device. */
static bool is_missing(const json_t *d)
{
    return history_text(d, "backup")[0] != '\0' &&
           (is(d, "state", "failed") || is(d, "state", "differs") ||
            (is_due(d) && (is(d, "state", "saved") || is(d, "state", "none"))));
}

static void say_document(const struct session *s, const struct eb_job_device *t, const void *context,
                         char text[SENTENCE_BYTES])
{
    const struct one *one = context;
    json_t *documents = t->chosen && !t->refused && (one->plan || t->begun) ? documents_of(t) : NULL;
    const json_t *d = json_array_get(documents, one->index);
    char words[SENTENCE_BYTES / 2] = "";
    (void)s;
    if (d != NULL)
        document_words(d, one->plan, words, sizeof words);
    if (words[0] != '\0')
        snprintf(text, SENTENCE_BYTES, "%.48s %s", history_text(d, "name"), words);
    if (words[0] != '\0' && !one->plan && is_missing(d)) {
        size_t at = strlen(text);
        snprintf(text + at, SENTENCE_BYTES - at, ". A backup is kept: einbau restore %s %s --only %s",
                 eb_job_word(t->device->name), eb_job_word(history_text(d, "backup")),
                 history_text(d, "name"));
    }
    json_decref(documents);
}

void print_documents(const struct session *s, bool plan, bool *spaced)
{
    for (struct one one = {0, plan}; one.index < EB_BACKUPS_MAX; one.index++)
        say_folded(s, say_document, &one, spaced);
}

void say_run(const struct session *s, const struct eb_job_device *t, const void *context,
             char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->begun && t->fit.error.status != EB_OK)
        error_sentence(&t->fit, text, SENTENCE_BYTES);
}
