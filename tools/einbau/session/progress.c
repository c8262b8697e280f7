#include "session/session.h"
#include "ui/table.h"
#include "session/progress.h"

#include <poll.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

enum {
    BAR_CELLS = 24,
    LINE_BYTES = 512,
    PLAIN_US = 10000000 /* between two plain lines about the same rung */
};

static struct winsize size_of_terminal(void)
{
    struct winsize size;
    if (ioctl(STDERR_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col == 0 || size.ws_row == 0)
        size = (struct winsize){.ws_col = 80, .ws_row = 24};
    return size;
}

static struct eb_job_device *target_of(const struct progress *p, const struct eb_run *run)
{
    for (size_t i = 0; i < p->session->job->count; i++) {
        if (&p->session->job->devices[i].fit == run)
            return &p->session->job->devices[i];
    }
    return NULL;
}

/* Whether --step-done names the device, or somebody pressed Enter. */
static bool is_done(const struct progress *p, const struct eb_job_device *t)
{
    const struct options *o = p->session->options;
    struct pollfd keys = {.fd = STDIN_FILENO, .events = POLLIN};
    char line[64];
    for (size_t i = 0; i < o->step_done_count; i++) {
        if (strcmp(o->step_done[i], t->device->name) == 0)
            return true;
    }
    return isatty(STDIN_FILENO) && poll(&keys, 1, 0) == 1 && read(STDIN_FILENO, line, sizeof line) > 0;
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
static const char *end_word(const struct eb_run *run)
{
    bool none = run->outcome == EB_OUTCOME_NONE;
    return none && run->error.status == EB_OK ? "done"
                                              : eb_outcome_word(none ? EB_OUTCOME_FAILED : run->outcome);
}

/* Changing settings, or the device's state, is what putting documents back is made of. */
static const char *rung_word(const struct eb_run *run)
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
        json_object_set_new(event, "outcome", json_string(end_word(run)));
    } else {
        json_object_set_new(event, "rung", json_string(rung_word(run)));
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
    if (eb_run_hand_waits(run) && is_done(p, t))
        eb_run_hand_done(&t->fit);
    if (eb_run_hand(run) != NULL && p->session->sim != NULL)
        eb_sim_ask_person(p->session->sim, t->device->name, run->hands[0]);
    if (p->silent)
        tell_hands(t, run, true, p->session->options->json_lines);
    if (p->session->options->json_lines)
        print_rung(t, run);
    if (p->silent || p->terminal)
        return;
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
        fprintf(stderr, "%s: %s\n", t->device->name, end_word(run));
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
    fprintf(stderr, "%s: %s%s\n", t->device->name, rung_word(run), more);
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

static void bar(const struct eb_progress *at, char *text)
{
    size_t full = at->total_bytes > 0 ? (size_t)(at->done_bytes * BAR_CELLS / at->total_bytes) : 0;
    text[0] = '|';
    for (size_t i = 0; i < BAR_CELLS; i++)
        text[i + 1] = i < full ? '=' : ' ';
    text[BAR_CELLS + 1] = '|';
    text[BAR_CELLS + 2] = '\0';
}

static void describe(const struct eb_job_device *t, char *line, size_t cap)
{
    const struct eb_run *run = &t->fit;
    const struct eb_progress *at = &run->progress;
    const struct eb_run_item *item = &t->items[at->item];
    char cells[BAR_CELLS + 3];
    char which[48] = "";
    char done[24] = "";
    char rate[24] = "";
    char left[32] = "";
    char again[32] = "";
    if (at->rung == EB_RUNG_END || !t->begun) {
        snprintf(line, cap, "%-16s %s", t->device->name,
                 t->begun ? end_word(run) : "waits for those before it");
        return;
    }
    bar(at, cells);
    if (t->item_count > 1)
        snprintf(which, sizeof which, "%zu/%zu", at->item + 1, t->item_count);
    if (at->rung == EB_RUNG_SEND) {
        bytes_text(at->done_bytes, done, sizeof done);
        bytes_text(at->bytes_per_s, rate, sizeof rate);
    }
    if (at->left_us > 0 && at->rung >= EB_RUNG_SEND) {
        seconds_text(at->left_us / 1000000 + 1, left, sizeof left);
    }
    if (at->attempt > 1)
        snprintf(again, sizeof again, "attempt %u of %d", at->attempt, EB_RUN_TRIES);
    snprintf(line, cap, "%-16s %-9s %-8s %-4s %-8s %s %8s %8s%-2s  %s%s  %s", t->device->name,
             item->component->name, item->image->version, which, rung_word(run), cells, done, rate,
             rate[0] != '\0' ? "/s" : "", left, left[0] != '\0' ? " left" : "", again);
}

static void draw(struct progress *p, char *line, size_t width)
{
    if (strlen(line) > width - 1)
        line[width - 1] = '\0';
    fprintf(stderr, "\r\033[K%s\n", line);
    p->lines++;
}

/* A text behind the device's name, in as many lines as it needs: what a person has to do is never cut off. */
static size_t draw_wrapped(struct progress *p, const char *name, const char *text, size_t width)
{
    size_t lines = 0;
    size_t room = width > 30 ? width - 18 : 12;
    while (text[0] != '\0') {
        char line[LINE_BYTES];
        size_t size = strlen(text);
        if (size > room) {
            size = room;
            while (size > 1 && text[size] != ' ')
                size--;
            if (size == 1)
                size = room;
        }
        snprintf(line, sizeof line, "%-16s %.*s", lines == 0 ? name : "", (int)size, text);
        draw(p, line, width);
        text += size + (text[size] == ' ' ? 1 : 0);
        lines++;
    }
    return lines;
}

/* All steps that are due, where the device is, and what shows that they were done. */
static size_t draw_hands(struct progress *p, const struct eb_job_device *t, size_t width)
{
    const struct eb_run *run = &t->fit;
    char place[EB_PLACE_TEXT_BYTES];
    char text[LINE_BYTES];
    size_t lines = 0;
    eb_site_place_text(t->device, place);
    for (size_t i = 0; i < run->hand_count; i++) {
        bool last = i + 1U == run->hand_count;
        if (i == 0)
            snprintf(text, sizeof text, "manual step at %s: %s", place, run->hands[i]);
        else
            snprintf(text, sizeof text, "then: %s", run->hands[i]);
        size_t at = strlen(text);
        if (last && at < sizeof text)
            snprintf(text + at, sizeof text - at, "%s",
                     eb_run_hand_waits(run) ? ". Press Enter when it is done"
                                            : ". The job sees when it is done");
        lines += draw_wrapped(p, i == 0 ? t->device->name : "", text, width);
    }
    if (run->contact.notice[0] != '\0')
        lines += draw_wrapped(p, "", run->contact.notice, width);
    return lines;
}

void progress_show(void *context)
{
    struct progress *p = context;
    char line[LINE_BYTES];
    struct winsize size = size_of_terminal();
    size_t room = size.ws_row > 3 ? size.ws_row - 3U : 1; /* one for the rest, one for the cursor */
    size_t devices = 0;
    size_t ended = 0;
    size_t shown = 0;
    if (session_interrupts() > 0 && !p->silent && !p->told_interrupt) {
        fputs("\nEnding the job cleanly, which may take a while; Ctrl-C once more leaves all as it is, at "
              "once.\n",
              stderr);
        p->told_interrupt = true;
        p->lines = 0;
    }
    for (size_t i = 0; i < p->session->job->count; i++) {
        struct eb_job_device *t = &p->session->job->devices[i];
        if (t->begun && eb_run_hand_waits(&t->fit) && is_done(p, t))
            eb_run_hand_done(&t->fit);
    }
    if (!p->terminal)
        return;
    for (size_t i = 0; i < p->session->job->count; i++) {
        devices += p->session->job->devices[i].item_count > 0;
        ended += p->session->job->devices[i].item_count > 0 && p->session->job->devices[i].begun &&
                 eb_run_ended(&p->session->job->devices[i].fit);
    }
    if (p->lines > 0)
        fprintf(stderr, "\033[%zuA", p->lines);
    p->lines = 0;
    /* Where not all have a line, those under way come first. */
    for (size_t i = 0; i < p->session->job->count && shown < room; i++) {
        const struct eb_job_device *t = &p->session->job->devices[i];
        if (t->item_count == 0 || (devices > room && t->begun && eb_run_ended(&t->fit)))
            continue;
        if (t->begun && eb_run_hand(&t->fit) != NULL) {
            shown += draw_hands(p, t, size.ws_col);
            continue;
        }
        describe(t, line, sizeof line);
        draw(p, line, size.ws_col);
        shown++;
    }
    if (devices > room) {
        snprintf(line, sizeof line, "%zu of %zu devices have ended", ended, devices);
        draw(p, line, size.ws_col);
    }
    fputs("\033[J", stderr);
    fflush(stderr);
}
