#include "report/report.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <wchar.h>

/* --- tables -------------------------------------------------------------------------------------- */

const char *shorter(const char *from, char to[EB_FINDING_TEXT_BYTES + 4])
{
    bool long_one = strlen(from) == 2 * EB_SHA256_BYTES && strchr(from, ' ') == NULL;
    snprintf(to, EB_FINDING_TEXT_BYTES + 4, "%.*s%s", long_one ? 16 : (int)strlen(from), from,
             long_one ? "..." : "");
    return to;
}

const char *running_text(const struct eb_job_device *t, size_t index, char text[RUNNING_BYTES])
{
    const struct eb_run *run = eb_job_last(t);
    const char *version = run->running[index].version;
    if (t->begun && !run->identified)
        return "unknown";
    if (!t->begun && !t->reached)
        return "";
    if (run->in_loader)
        return "(in loader)";
    bool stated = (run->stated >> eb_profile_item_of(index, false) & 1) != 0;
    snprintf(text, RUNNING_BYTES, "%s%s%s", version[0] != '\0' ? version : "?",
             eb_job_stopped(t) ? ", stopped" : "", stated ? " (stated)" : "");
    return text;
}

/* Where nothing is wanted and something runs, there is nothing to be marked. */
static const char *mark_text(const struct eb_job_device *t, size_t index)
{
    enum eb_mark mark = eb_job_mark(t, index);
    return mark == EB_MARK_CURRENT && eb_job_wanted(t, index)[0] == '\0' ? "" : eb_mark_word(mark);
}

void print_disagreements(const struct eb_job_device *t)
{
    for (size_t i = 0; i < t->look.disagreements; i++) {
        const struct eb_disagreement *d = &t->look.disagreement[i];
        puts("");
        say("%s: its sources disagree on the %s: found %s by %s and %s by %s, expected the same; the first "
            "one counts",
            t->device->name, eb_profile_item_word(d->item), d->text, d->by->title, d->other_text,
            d->other_by->title);
    }
}

enum { ADDRESS_COLUMN = 1, SERIAL_COLUMN = 4, COMPONENT_COLUMN = 5 };
const char *const devices_heads[] = {"DEVICE",    "ADDRESS", "ORDER CODE", "REV",  "SERIAL NUMBER",
                                     "COMPONENT", "RUNNING", "WANTED",     "MARK", NULL};

void print_folded(const struct session *s, struct table *table, unsigned differ)
{
    if (!s->options->unfolded && s->options->wish.sort_count == 0)
        table_fold(table, differ);
    table_print_as(table, &s->options->wish);
}

void print_devices(const struct session *s)
{
    struct table table;
    table_begin(&table, 9, devices_heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        char address[EB_PLACE_TEXT_BYTES];
        char name[EB_NAME_BYTES + 4];
        if (!t->chosen)
            continue;
        eb_site_place_text(t->device, address);
        snprintf(name, sizeof name, "%s%s", t->device->via != NULL ? "  " : "", t->device->name);
        const struct eb_identity *id = &t->look.identity;
        bool first = true;
        char running[RUNNING_BYTES];
        for (size_t k = 0; k < t->device->profile->count; k++) {
            /* A device that is silent has a line even where nothing is wanted of it. */
            bool last = first && k + 1 == t->device->profile->count;
            if (!eb_job_has(t, k) && !last)
                continue;
            const char *const cells[] = {first ? name : "",
                                         first ? address : "",
                                         first ? id->order_code : "",
                                         first ? id->hardware_revision : "",
                                         first ? id->serial : "",
                                         t->device->profile->components[k].name,
                                         running_text(t, k, running),
                                         eb_job_wanted(t, k),
                                         mark_text(t, k)};
            table_add_below(&table, cells, first ? 0 : COMPONENT_COLUMN);
            first = false;
        }
    }
    print_folded(s, &table, 1U << ADDRESS_COLUMN | 1U << SERIAL_COLUMN);
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            print_disagreements(&s->job->devices[i]);
    }
    say_folded(s, say_statement, NULL, NULL);
    say_folded(s, say_left, NULL, NULL);
    say_folded(s, say_moved, NULL, NULL);
    say_folded(s, say_look, NULL, NULL);
}

void say_look(const struct session *s, const struct eb_job_device *t, const void *context,
              char text[SENTENCE_BYTES])
{
    (void)context;
    look_sentence(s, t, text, SENTENCE_BYTES);
}

void say_outcome(const struct session *s, const struct eb_job_device *t, const void *context,
                 char text[SENTENCE_BYTES])
{
    (void)context;
    outcome_sentence(s, t, text, SENTENCE_BYTES);
}

void say_statement(const struct session *s, const struct eb_job_device *t, const void *context,
                   char text[SENTENCE_BYTES])
{
    char said[SENTENCE_BYTES - 80];
    (void)s;
    (void)context;
    statement_text(t, said, sizeof said);
    if (said[0] != '\0')
        snprintf(text, SENTENCE_BYTES, "stated by a person, not read by Einbau: %s%s%s", said,
                 statement_counts(t) ? "" : ". It counts with --accept ",
                 statement_counts(t) ? "" : "DEVICE:stated");
}

void say_way(const struct session *s, const struct eb_job_device *t, const void *context,
             char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->begun && eb_job_outcome(t) == EB_OUTCOME_CONFIRMED)
        other_way_sentence(&t->fit, text, SENTENCE_BYTES);
}

void say_left(const struct session *s, const struct eb_job_device *t, const void *context,
              char text[SENTENCE_BYTES])
{
    char sentence[SENTENCE_BYTES - 64];
    bool resumed = t->left != NULL && t->left->job == s->options->resumes; /* the table of that job says it */
    (void)context;
    if (t->worked_on) {
        eb_job_holder_text(&t->worker, sentence, sizeof sentence);
        snprintf(text, SENTENCE_BYTES, "%s is working on it now", sentence);
    } else if (t->left != NULL && !resumed) {
        left_sentence(t, text, SENTENCE_BYTES);
    } else if (eb_job_stopped(t) && !resumed) {
        start_sentence(t, sentence, sizeof sentence);
        snprintf(text, SENTENCE_BYTES, "its program is stopped: %s", sentence);
    }
}

void say_moved(const struct session *s, const struct eb_job_device *t, const void *context,
               char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->other_mac[0] != '\0')
        snprintf(
            text, SENTENCE_BYTES,
            "its serial number answers at the MAC address %s, and on %.10s did so at %s. A device keeps its "
            "MAC address unless its network part was replaced: look whether this is the one that you mean",
            t->mac, t->other_seen, t->other_mac);
}

/* --- the plan ------------------------------------------------------------------------------------ */

const char *answer_text(enum eb_answer answer)
{
    static const char *const texts[] = {"fits", "fits if", "does not fit", "cannot tell"};
    return texts[answer];
}
