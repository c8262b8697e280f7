/* A job under way, on a terminal: how far it is as a whole, then what needs attention, what runs, what waits,
 * and in one line what is done.  Devices that are at the same are one line, and the slowest of them counts.
 */
#include "session/names.h"
#include "session/progress.h"
#include "ui/table.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

enum {
    WIDE = 100,  /* from so many columns on: bytes and rates */
    NARROW = 60, /* below: no bars */
    NAME_LEAST = 16,
    NAME_MOST = 20,
    NAME_MOST_WIDE = 32, /* on a wide terminal */
    CELLS = 10,
    LINE_BYTES = 512
};

/* In this order on the screen. */
enum where { BY_HAND, ENDED_BADLY, TRIES_AGAIN, UNDER_WAY, WAITS, ENDED_WELL, WHERES, NOT_IN_IT };

struct view {
    struct progress *p;
    struct eb_job *job;
    FILE *to;
    size_t width, lines;
    size_t room, most; /* lines for devices; at all */
    bool colours;
    bool *drawn;       /* of each device */
    size_t *list;      /* those of one line */
    size_t hidden;     /* devices for which there was no line */
    size_t name_width; /* the same for all lines */
};

static struct winsize size_of_terminal(void)
{
    struct winsize size;
    if (ioctl(STDERR_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col == 0 || size.ws_row == 0)
        size = (struct winsize){.ws_col = 80, .ws_row = 24};
    return size;
}

/* By what the device's run ended with; whether that is what is wanted of it is said at the end. */
static bool ended_well(const struct eb_job_device *t)
{
    switch (eb_job_outcome(t)) {
    case EB_OUTCOME_CONFIRMED:
    case EB_OUTCOME_UP_TO_DATE:
    case EB_OUTCOME_RECOVERED:
    case EB_OUTCOME_PUT_BACK:
    case EB_OUTCOME_DONE:
        return true;
    case EB_OUTCOME_NONE:
        return t->fit.error.status == EB_OK;
    default:
        return false;
    }
}

static enum where where_is(const struct eb_job_device *t)
{
    const struct eb_run *run = &t->fit;
    if (t->item_count == 0 && !t->begun)
        return NOT_IN_IT;
    if (!t->begun)
        return t->waited_for != NULL ? ENDED_BADLY : WAITS;
    if (eb_run_ended(run))
        return ended_well(t) ? ENDED_WELL : ENDED_BADLY;
    if (eb_run_hand(run) != NULL)
        return BY_HAND;
    return run->progress.attempt > 1 ? TRIES_AGAIN : UNDER_WAY;
}

/* "1:06" */
static const char *clock_of(uint64_t us, char text[24])
{
    uint64_t s = us / 1000000;
    snprintf(text, 24, "%u:%02u", (unsigned)(s / 60), (unsigned)(s % 60));
    return text;
}

static void put_bar(uint64_t done, uint64_t total, size_t cells, char *text)
{
    size_t full = total > 0 ? (size_t)(done * cells / total) : 0;
    full = full > cells ? cells : full;
    text[0] = '[';
    memset(text + 1, ' ', cells);
    memset(text + 1, '=', full);
    text[cells + 1] = ']';
    text[cells + 2] = '\0';
}

/* --- lines ---------------------------------------------------------------------------------------- */

/* One line, as far as there is room; `colour`: of the `word` in it, or of the whole where that is NULL. */
static void put(struct view *v, const char *text, const char *word, const char *colour)
{
    char line[LINE_BYTES];
    if (v->lines >= v->most) /* one more would move all of it up, out of reach */
        return;
    snprintf(line, sizeof line, "%s", text);
    cut_to_columns(line, v->width - 1);
    const char *at = word != NULL ? strstr(line, word) : line;
    size_t size = word != NULL ? strlen(word) : strlen(line);
    if (!v->colours || colour == NULL || at == NULL)
        fprintf(v->to, "\r\033[K%s\n", line);
    else
        fprintf(v->to, "\r\033[K%.*s%s%.*s\033[0m%s\n", (int)(at - line), line, colour, (int)size, at,
                at + size);
    v->lines++;
}

/* A text behind a name, in as many lines as it needs, from column `indent` on: what a person has to do is
 * never cut off. */
static void put_wrapped(struct view *v, const char *name, size_t indent, const char *text, const char *colour)
{
    size_t room = v->width > indent + 12 ? v->width - indent - 1 : 12;
    if (strlen(name) >= indent && name[0] != '\0') {
        put(v, name, NULL, colour);
        name = "";
    }
    while (text[0] != '\0') {
        char line[LINE_BYTES];
        size_t size = strlen(text);
        if (size > room) {
            size = room;
            while (size > 1 && text[size] != ' ')
                size--;
            size = size == 1 ? room : size;
        }
        snprintf(line, sizeof line, "%-*s%.*s", (int)indent, name, (int)size, text);
        put(v, line, NULL, colour);
        text += size + (text[size] == ' ' ? 1 : 0);
        name = "";
    }
}

/* "done: door-01..door-07, pa-valley": in two lines at most, else how many they are. */
static void put_list(struct view *v, const char *label, const char *names, size_t count, const char *colour)
{
    char *text = malloc(strlen(label) + strlen(names) + 32);
    if (text == NULL)
        abort();
    if (strlen(label) + strlen(names) + 1 < 2 * v->width - 24)
        sprintf(text, "%s %s", label, names);
    else
        sprintf(text, "%s %zu devices", label, count);
    size_t line = v->width - 1;
    bool longer = strlen(text) > line;
    while (longer && line > 0 && text[line] != ' ')
        line--;
    longer = longer && line > 0; /* one word alone is cut off */
    if (longer)
        text[line] = '\0';
    put(v, text, NULL, colour);
    if (longer)
        put_wrapped(v, "", 2, text + line + 1, colour);
    free(text);
}

/* All steps that are due, where the device is, and what shows that they were done. */
static void put_hands(struct view *v, const struct eb_job_device *t)
{
    const struct eb_run *run = &t->fit;
    size_t indent = v->width >= NARROW ? v->name_width + 1 : 2;
    char place[EB_PLACE_TEXT_BYTES];
    char text[LINE_BYTES];
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
        put_wrapped(v, i == 0 ? t->device->name : "", indent, text, "\033[1m");
    }
    if (run->contact.notice[0] != '\0')
        put_wrapped(v, "", indent, run->contact.notice, NULL);
}

/* --- devices at the same -------------------------------------------------------------------------- */

/* The first of those that it waits for that is not done; NULL: none. */
static const struct eb_job_device *waits_for(const struct eb_job *job, const struct eb_job_device *t)
{
    const struct eb_job_device *other;
    for (size_t i = 0; (other = eb_job_waits_for(job, t, i)) != NULL; i++) {
        if (where_is(other) != ENDED_WELL)
            return other;
    }
    return NULL;
}

/* "firmware 1.7.2", or "" where it is not about an image. */
enum { WHAT_BYTES = EB_NAME_BYTES + EB_VERSION_TEXT_BYTES };
static const char *what_of(const struct eb_job_device *t, char text[WHAT_BYTES])
{
    const struct eb_progress *at = &t->fit.progress;
    text[0] = '\0';
    if (at->item < t->item_count)
        snprintf(text, WHAT_BYTES, "%s %s", t->items[at->item].component->name,
                 t->items[at->item].image->version);
    return text;
}

static bool at_the_same(const struct eb_job_device *a, const struct eb_job_device *b)
{
    const struct eb_progress *p = &a->fit.progress;
    const struct eb_progress *q = &b->fit.progress;
    if (where_is(a) != where_is(b))
        return false;
    if (where_is(a) == ENDED_WELL)
        return true;
    if (where_is(a) == BY_HAND) /* each has steps, and a place, of its own */
        return a == b;
    if (where_is(a) == WAITS)
        return waits_for(a->job, a) == waits_for(b->job, b) && eb_job_by_hand(a) == eb_job_by_hand(b);
    if (where_is(a) == ENDED_BADLY)
        return a->begun == b->begun && (!a->begun || a->fit.outcome == b->fit.outcome);
    char what[2][WHAT_BYTES];
    return a->device->profile == b->device->profile && p->rung == q->rung && p->attempt == q->attempt &&
           strcmp(what_of(a, what[0]), what_of(b, what[1])) == 0;
}

/* The devices from `first` on that are at the same as it, into v->list. */
static size_t gather(struct view *v, size_t first)
{
    size_t count = 0;
    for (size_t i = first; i < v->job->count; i++) {
        if (v->drawn[i] || !at_the_same(&v->job->devices[first], &v->job->devices[i]))
            continue;
        v->drawn[i] = true;
        v->list[count++] = i;
    }
    return count;
}

/* The one that will be ready last. */
static const struct eb_job_device *slowest(const struct view *v, size_t count)
{
    const struct eb_job_device *found = &v->job->devices[v->list[0]];
    for (size_t i = 1; i < count; i++) {
        const struct eb_job_device *t = &v->job->devices[v->list[i]];
        const struct eb_progress *a = &t->fit.progress;
        const struct eb_progress *b = &found->fit.progress;
        bool less = a->done_bytes * (b->total_bytes + 1) < b->done_bytes * (a->total_bytes + 1);
        found = less || (a->total_bytes == 0 && t->told_us > found->told_us) ? t : found;
    }
    return found;
}

static void put_running(struct view *v, const char *name, const struct eb_job_device *t)
{
    const struct eb_run *run = &t->fit;
    const struct eb_progress *at = &run->progress;
    bool parts = at->rung == EB_RUNG_SEND && at->total_bytes > 0;
    char line[LINE_BYTES];
    char what[WHAT_BYTES];
    char cells[CELLS + 3];
    char clock[24];
    char again[32] = "";
    what_of(t, what);
    if (at->attempt > 1)
        snprintf(again, sizeof again, "try %u of %d", at->attempt, EB_RUN_TRIES);
    uint64_t since_us = t->told_us != 0 ? t->told_us : t->began_us;
    clock_of(run->now_us > since_us ? run->now_us - since_us : 0, clock);
    bool left = parts && at->left_us > 0;
    if (left)
        clock_of(at->left_us + 999999, clock);
    unsigned percent = parts ? (unsigned)(at->done_bytes * 100 / at->total_bytes) : 0;
    size_t n;
    if (v->width < NARROW) {
        n = (size_t)snprintf(line, sizeof line, "%-*s %-8s ", (int)v->name_width, name,
                             progress_rung_word(run));
        if (parts)
            n += (size_t)snprintf(line + n, sizeof line - n, "%3u %%", percent);
        else
            n += (size_t)snprintf(line + n, sizeof line - n, "%5s", clock);
    } else {
        n = (size_t)snprintf(line, sizeof line, "%-*s %-9s %-16s ", (int)v->name_width, name,
                             progress_rung_word(run), what);
        put_bar(at->done_bytes, at->total_bytes, CELLS, cells);
        if (parts)
            n += (size_t)snprintf(line + n, sizeof line - n, "%s %3u %% %5s%s", cells, percent, clock,
                                  left ? " left" : "");
        else
            n += (size_t)snprintf(line + n, sizeof line - n, "for %s", clock);
    }
    if (parts && v->width >= WIDE) {
        char done[24];
        char total[24];
        char rate[24];
        bytes_text(at->done_bytes, done, sizeof done);
        bytes_text(at->total_bytes, total, sizeof total);
        bytes_text(at->bytes_per_s, rate, sizeof rate);
        n += (size_t)snprintf(line + n, sizeof line - n, "  %s of %s  %s/s", done, total, rate);
    }
    if (again[0] != '\0')
        snprintf(line + n, sizeof line - n, "  %s", again);
    put(v, line, again[0] != '\0' ? again : NULL, again[0] != '\0' ? "\033[33m" : NULL);
}

static void put_ended(struct view *v, const char *names, const struct eb_job_device *t)
{
    char line[LINE_BYTES];
    const char *word = t->begun ? progress_end_word(&t->fit) : "not-started";
    snprintf(line, sizeof line, "%-*s %s", (int)v->name_width, names, word);
    put(v, line, word, t->begun ? "\033[31m" : "\033[33m");
}

static void put_waiting(struct view *v, const char *names, size_t count)
{
    char label[EB_NAME_BYTES + 24] = "about to start:";
    const struct eb_job_device *other = waits_for(v->job, &v->job->devices[v->list[0]]);
    if (other != NULL)
        snprintf(label, sizeof label, "waiting for %s:", other->device->name);
    else if (eb_job_by_hand(&v->job->devices[v->list[0]]))
        snprintf(label, sizeof label, "by hand, one after another:");
    put_list(v, label, names, count, NULL);
}

static void put_line(struct view *v, enum where where, size_t count)
{
    const struct eb_job_device *t = &v->job->devices[v->list[0]];
    char *names = names_folded(v->p->session, v->list, count);
    /* Names that do not fit before the columns stand on a line of their own. */
    bool fits = strlen(names) <= v->name_width;
    if (!fits && (where == ENDED_BADLY || where == TRIES_AGAIN || where == UNDER_WAY))
        put(v, names, NULL, NULL);
    switch (where) {
    case ENDED_WELL:
        put_list(v, "done:", names, count, "\033[2m");
        break;
    case WAITS:
        put_waiting(v, names, count);
        break;
    case BY_HAND:
        put_hands(v, t);
        break;
    case ENDED_BADLY:
        put_ended(v, fits ? names : "", t);
        break;
    default:
        put_running(v, fits ? names : "", slowest(v, count));
        break;
    }
    free(names);
}

/* --- the whole ------------------------------------------------------------------------------------ */

/* "0:21 of about 0:38"; or, where no earlier job has told how long something takes, "0:21 of 0:38 to 0:57".
 */
static void put_about(char *text, size_t cap, uint64_t gone_us, uint64_t about_us, uint64_t most_us)
{
    char clocks[3][24];
    clock_of(gone_us, clocks[0]);
    clock_of(about_us + 999999, clocks[1]); /* a part of a second counts as one, as in the plan */
    clock_of(most_us + 999999, clocks[2]);
    if (most_us > about_us && strcmp(clocks[1], clocks[2]) != 0)
        snprintf(text, cap, "%s of %s to %s", clocks[0], clocks[1], clocks[2]);
    else
        snprintf(text, cap, "%s of about %s", clocks[0], clocks[1]);
}

static void put_head(struct view *v, const size_t *count)
{
    const struct eb_job *job = v->job;
    uint64_t now_us = eb_port_now_us(job->port);
    uint64_t gone_us = now_us > job->began_us ? now_us - job->began_us : 0;
    uint64_t left_us = 0;
    size_t all = 0;
    size_t failed = 0;
    char number[32] = "Job";
    char state[96];
    char clock[24];
    char right[96];
    for (size_t i = 0; i < WHERES; i++)
        all += count[i];
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *t = &job->devices[i];
        failed += t->begun && where_is(t) == ENDED_BADLY;
        if (t->begun && t->item_count > 0 && !eb_run_ended(&t->fit) && t->fit.progress.left_us > left_us)
            left_us = t->fit.progress.left_us;
    }
    bool ended = count[ENDED_WELL] + count[ENDED_BADLY] == all;
    uint64_t about_us = job->estimate_us > gone_us + left_us ? job->estimate_us : gone_us + left_us;
    if (job->number != 0)
        snprintf(number, sizeof number, "Job %lld", (long long)job->number);
    size_t n = (size_t)snprintf(state, sizeof state, "%s: %zu of %zu device%s done", number,
                                count[ENDED_WELL], all, all == 1 ? "" : "s");
    if (failed > 0)
        n += (size_t)snprintf(state + n, sizeof state - n, ", %zu failed", failed);
    if (count[ENDED_BADLY] > failed)
        snprintf(state + n, sizeof state - n, ", %zu not started", count[ENDED_BADLY] - failed);
    if (ended || about_us == 0)
        snprintf(right, sizeof right, "%s", clock_of(gone_us, clock));
    else
        put_about(right, sizeof right, gone_us, about_us, job->estimate_most_us);
    char bar[256] = "";
    char line[LINE_BYTES];
    size_t used = strlen(state) + strlen(right);
    bool two = v->width < NARROW;
    size_t cells = two ? v->width - strlen(right) - 5 : v->width > used + 12 ? v->width - used - 7 : 0;
    cells = cells > 40 ? 40 : cells;
    if (!ended && about_us > 0 && cells > 4 && cells < 100)
        put_bar(gone_us, about_us, cells, bar);
    if (two) {
        put(v, state, NULL, "\033[1m");
        snprintf(line, sizeof line, "%s%s%s", right, bar[0] != '\0' ? "  " : "", bar);
    } else {
        size_t tail = strlen(right) + (bar[0] != '\0' ? strlen(bar) + 2 : 0);
        size_t gap = v->width > strlen(state) + tail + 1 ? v->width - 1 - strlen(state) - tail : 1;
        snprintf(line, sizeof line, "%s%*s%s%s%s", state, (int)gap, "", right, bar[0] != '\0' ? "  " : "",
                 bar);
    }
    put(v, line, NULL, two ? NULL : "\033[1m");
}

/* As wide as the names of a line are, where that leaves room for what they are at. */
static void measure_names(struct view *v)
{
    v->name_width = NAME_LEAST;
    for (size_t i = 0; i < v->job->count && v->width >= NARROW; i++) {
        enum where where = where_is(&v->job->devices[i]);
        if (v->drawn[i] || where == NOT_IN_IT || where == ENDED_WELL || where == WAITS)
            continue;
        char *names = names_folded(v->p->session, v->list, gather(v, i));
        size_t size = strlen(names);
        free(names);
        if (size > v->name_width && size <= (v->width >= WIDE ? NAME_MOST_WIDE : NAME_MOST))
            v->name_width = size;
    }
    memset(v->drawn, 0, v->job->count * sizeof *v->drawn);
}

void progress_draw(struct progress *p)
{
    struct winsize size = size_of_terminal();
    struct eb_job *job = p->session->job;
    char *screen = NULL;
    size_t bytes = 0;
    struct view v = {.p = p,
                     .job = job,
                     .to = open_memstream(&screen, &bytes),
                     .width = size.ws_col > 20 ? size.ws_col : 20,
                     .room = size.ws_row > 6 ? size.ws_row - 5U : 1,
                     .most = size.ws_row > 2 ? size.ws_row - 1U : 1,
                     .colours = colours_on(STDERR_FILENO),
                     .drawn = calloc(job->count + 1, sizeof *v.drawn),
                     .list = calloc(job->count + 1, sizeof *v.list)};
    size_t count[NOT_IN_IT + 1] = {0};
    if (v.to == NULL || v.drawn == NULL || v.list == NULL)
        abort();
    for (size_t i = 0; i < job->count; i++)
        count[where_is(&job->devices[i])]++;
    if (p->lines > 0)
        fprintf(v.to, "\033[%zuA", p->lines);
    measure_names(&v);
    put_head(&v, count);
    for (int where = 0; where < WHERES; where++) {
        for (size_t i = 0; i < job->count; i++) {
            if (v.drawn[i] || where_is(&job->devices[i]) != (enum where)where)
                continue;
            size_t members = gather(&v, i);
            if (v.lines < v.room || where == ENDED_WELL)
                put_line(&v, (enum where)where, members);
            else
                v.hidden += members;
        }
    }
    if (v.hidden > 0) {
        char line[64];
        snprintf(line, sizeof line, "and %zu more", v.hidden);
        put(&v, line, NULL, NULL);
    }
    fputs("\033[J", v.to);
    fclose(v.to);
    fwrite(screen, 1, bytes, stderr); /* in one go: nothing flickers */
    fflush(stderr);
    p->lines = v.lines;
    free(screen);
    free(v.drawn);
    free(v.list);
}
