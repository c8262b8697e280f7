#include "session/session.h"
#include "ui/table.h"
#include "session/progress.h"

#include <poll.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { PLAIN_US = 10000000 /* between two plain lines about the same rung */ };

static struct eb_job_device *target_of(const struct progress *p, const struct eb_run *run)
{
    for (size_t i = 0; i < p->session->job->count; i++) {
        if (&p->session->job->devices[i].fit == run)
            return &p->session->job->devices[i];
    }
    return NULL;
}

/* Whether --step-done names the device, or Enter was pressed. */
static bool is_done(const struct eb_job_device *t)
{
    struct pollfd keys = {.fd = STDIN_FILENO, .events = POLLIN};
    char line[64];
    return t->steps_done ||
           (isatty(STDIN_FILENO) && poll(&keys, 1, 0) == 1 && read(STDIN_FILENO, line, sizeof line) > 0);
}

static void print_event(const struct eb_job_device *t, const char *step, bool asks, bool in_lines)
{
    json_t *event =
        json_pack("{s:s, s:s, s:s, s:s, s:s}", "einbau", "event/1", "event", "manual-step", "device",
                  t->device->name, "step", step, "shown_by", asks ? "--step-done" : "device");
    if (in_lines) {
        print_line(event);
        return;
    }
    char *text = event != NULL ? json_dumps(event, JSON_PRESERVE_ORDER) : NULL;
    if (text != NULL)
        fprintf(stderr, "%s\n", text);
    free(text);
    json_decref(event);
}

/* What a person has to do, each step once. */
static void tell_hands(struct eb_job_device *t, const struct eb_run *run, bool json, bool in_lines)
{
    if (run->hand_count < t->told_hands)
        t->told_hands = 0;
    for (; t->told_hands < run->hand_count; t->told_hands++) {
        if (json) {
            print_event(t, run->hands[t->told_hands],
                        eb_run_hand_waits(run) && t->told_hands + 1U == run->hand_count, in_lines);
            continue;
        }
        fprintf(stderr, "%s: manual step: %s%s\n", t->device->name, run->hands[t->told_hands],
                eb_run_hand_waits(run) && t->told_hands + 1U == run->hand_count
                    ? "; press Enter when it is done"
                    : "");
    }
}

/* What came of it; one that only saves or puts documents back has no outcome of its own. */
const char *progress_end_word(const struct eb_run *run)
{
    bool none = run->outcome == EB_OUTCOME_NONE;
    return none && run->error.status == EB_OK ? "done"
                                              : eb_outcome_word(none ? EB_OUTCOME_FAILED : run->outcome);
}

/* Changing settings, or the device's state, is what putting documents back is made of. */
const char *progress_rung_word(const struct eb_run *run)
{
    bool changes = run->progress.rung == EB_RUNG_RESTORE && run->config.change != EB_CHANGE_NOTHING;
    return changes ? "change" : eb_rung_word(run->progress.rung);
}

/* For other programs: each rung, each try, and once a second how much was sent. */
static void print_rung(struct eb_job_device *t, const struct eb_run *run)
{
    enum { SENT_US = 1000000 };
    const struct eb_progress *at = &run->progress;
    bool news = at->rung != t->told_rung || at->attempt != t->told_attempt;
    bool sent = at->rung == EB_RUNG_SEND && run->now_us - t->told_us >= SENT_US;
    if (!news && !sent)
        return;
    t->told_rung = at->rung;
    t->told_attempt = at->attempt;
    t->told_us = run->now_us;
    const struct eb_run_item *item = at->item < t->item_count ? &t->items[at->item] : NULL;
    uint64_t ms = (run->now_us - t->job->began_us) / 1000;
    json_t *event = json_pack("{s:s, s:s, s:s, s:I}", "einbau", "event/1", "event",
                              at->rung == EB_RUNG_END ? "ended"
                              : news                  ? "rung"
                                                      : "sent",
                              "device", t->device->name, "ms", (json_int_t)ms);
    if (at->rung == EB_RUNG_END) {
        json_object_set_new(event, "outcome", json_string(progress_end_word(run)));
    } else {
        json_object_set_new(event, "rung", json_string(progress_rung_word(run)));
        json_object_set_new(event, "attempt", json_integer(at->attempt));
    }
    if (item != NULL && at->rung >= EB_RUNG_PREPARE && at->rung <= EB_RUNG_CONFIRM) {
        json_object_set_new(event, "component", json_string(item->component->name));
        json_object_set_new(event, "version", json_string(item->image->version));
    }
    if (at->rung == EB_RUNG_SEND) {
        json_object_set_new(event, "done_bytes", json_integer((json_int_t)at->done_bytes));
        json_object_set_new(event, "total_bytes", json_integer((json_int_t)at->total_bytes));
    }
    print_line(event);
}

/* Plain lines: one at each rung and at each new try, and now and then while a rung takes long. */
static void on_event(void *context, const struct eb_run *run)
{
    const struct progress *p = context;
    struct eb_job_device *t = target_of(p, run);
    const struct eb_progress *at = &run->progress;
    if (t == NULL)
        return;
    if (eb_run_hand_waits(run) && is_done(t))
        eb_run_hand_done(&t->fit);
    if (eb_run_hand(run) != NULL && p->session->sim != NULL)
        eb_sim_ask_person(p->session->sim, t->device->name, run->hands[0]);
    if (p->silent)
        tell_hands(t, run, true, p->session->options->json_lines);
    if (p->session->options->json_lines)
        print_rung(t, run);
    if (p->silent)
        return;
    if (p->terminal) { /* since when it is at this */
        if (at->rung != t->told_rung || at->attempt != t->told_attempt)
            t->told_us = run->now_us;
        t->told_rung = at->rung;
        t->told_attempt = at->attempt;
        return;
    }
    tell_hands(t, run, false, false);
    if (run->contact.notice[0] != '\0' && strcmp(run->contact.notice, t->told_notice) != 0)
        fprintf(stderr, "%s: %s\n", t->device->name, run->contact.notice);
    snprintf(t->told_notice, sizeof t->told_notice, "%s", run->contact.notice);
    bool news = at->rung != t->told_rung || at->attempt != t->told_attempt;
    if (!news && run->now_us - t->told_us < PLAIN_US)
        return;
    t->told_rung = at->rung;
    t->told_attempt = at->attempt;
    t->told_us = run->now_us;
    if (at->rung == EB_RUNG_END) {
        fprintf(stderr, "%s: %s\n", t->device->name, progress_end_word(run));
        return;
    }
    char more[128] = "";
    if (at->rung >= EB_RUNG_PREPARE && at->rung <= EB_RUNG_CONFIRM)
        snprintf(more, sizeof more, " %s %s", t->items[at->item].component->name,
                 t->items[at->item].image->version);
    if (at->rung == EB_RUNG_SEND && at->done_bytes > 0) {
        char done[24];
        char total[24];
        bytes_text(at->done_bytes, done, sizeof done);
        bytes_text(at->total_bytes, total, sizeof total);
        snprintf(more + strlen(more), sizeof more - strlen(more), ", %s of %s", done, total);
    }
    if (at->attempt > 1)
        snprintf(more + strlen(more), sizeof more - strlen(more), ", attempt %u of %d", at->attempt,
                 EB_RUN_TRIES);
    fprintf(stderr, "%s: %s%s\n", t->device->name, progress_rung_word(run), more);
}

void progress_open(struct progress *p, struct session *session)
{
    *p = (struct progress){.session = session, .silent = session->options->json};
    p->terminal = !p->silent && isatty(STDERR_FILENO);
    fflush(stdout);
    bool by_hand = false;
    for (size_t i = 0; i < session->job->count; i++)
        by_hand =
            by_hand || (session->job->devices[i].item_count > 0 && eb_job_by_hand(&session->job->devices[i]));
    bool changes = false;
    for (size_t i = 0; i < session->job->count; i++)
        changes = changes || session->job->devices[i].item_count > 0 || session->job->devices[i].recovers ||
                  (session->job->devices[i].kept != NULL && session->job->devices[i].kept->due.count > 0);
    if (!p->silent && changes)
        fprintf(stderr, "\nLeave power and cables alone until the end%s. Ctrl-C ends the job cleanly.\n",
                by_hand ? ", but for the manual steps" : "");
}

void progress_attach(struct progress *p, struct eb_run_config *config)
{
    config->event = on_event;
    config->event_context = p;
}

void progress_show(void *context)
{
    struct progress *p = context;
    if (session_interrupts() > 0 && !p->silent && !p->told_interrupt) {
        fputs("\nEnding the job cleanly, which may take a while; Ctrl-C once more leaves all as it is, at "
              "once.\n",
              stderr);
        p->told_interrupt = true;
        p->lines = 0;
    }
    for (size_t i = 0; i < p->session->job->count; i++) {
        struct eb_job_device *t = &p->session->job->devices[i];
        if (t->begun && eb_run_hand_waits(&t->fit) && is_done(t))
            eb_run_hand_done(&t->fit);
    }
    if (p->terminal)
        progress_draw(p);
}
