/* When what was done: a bar for each device with its rungs, waiting, tries, and the critical path. */
#include "report/page.h"

#include <stdlib.h>
#include <string.h>

enum { LEFT = 118, RIGHT = 640, RESULT = 656, WIDTH = 780, TOP = 18, ROW = 20, NOTED = 29, FOLD_FROM = 40 };

struct axis {
    double scale; /* units per millisecond */
    uint64_t step_ms;
};

static struct axis axis_of(const struct page *p)
{
    static const unsigned steps_s[] = {1, 2, 5, 10, 30, 60, 300, 900, 3600, 4 * 3600, 24 * 3600};
    enum { LABELS = 12, STEPS = sizeof steps_s / sizeof steps_s[0] };
    uint64_t length_ms = p->length_ms > 0 ? p->length_ms : 1;
    size_t i = 0;
    while (i + 1 < STEPS && length_ms / (steps_s[i] * 1000ULL) >= LABELS)
        i++;
    return (struct axis){(double)(RIGHT - LEFT) / (double)length_ms, steps_s[i] * 1000ULL};
}

static double at(const struct axis *a, uint64_t ms)
{
    return LEFT + a->scale * (double)ms;
}

static uint64_t ms_of(const json_t *span, const char *key)
{
    return (uint64_t)json_integer_value(json_object_get(span, key));
}

static const char *class_of(const json_t *span)
{
    static const struct {
        const char *rung, *class;
    } rungs[] = {{"prepare", "prepare"},  {"save", "prepare"},      {"restore", "prepare"},
                 {"put-back", "prepare"}, {"change", "prepare"},    {"undo", "prepare"},
                 {"send", "send"},        {"activate", "activate"}, {"return", "return"}};
    const char *rung = history_text(span, "rung");
    if (history_text(span, "hand")[0] != '\0')
        return "manual";
    for (size_t i = 0; i < sizeof rungs / sizeof rungs[0]; i++) {
        if (strcmp(rung, rungs[i].rung) == 0)
            return rungs[i].class;
    }
    return "check";
}

static const char *word_of(const char *class)
{
    return strcmp(class, "prepare") == 0    ? W_PREPARE
           : strcmp(class, "send") == 0     ? W_SEND
           : strcmp(class, "activate") == 0 ? W_ACTIVATE
           : strcmp(class, "return") == 0   ? W_RETURN
           : strcmp(class, "manual") == 0   ? W_MANUAL
                                            : W_CHECK;
}

/* The names that a device waited for, with commas. */
static void after_text(const struct past_device *d, char *text, size_t cap)
{
    size_t i;
    const json_t *name;
    text[0] = '\0';
    json_array_foreach(json_object_get(d->before, "after"), i, name)
    {
        size_t used = strlen(text);
        snprintf(text + used, cap - used, "%s%s", i > 0 ? ", " : "", history_word(name));
    }
}

/* What a reader of the drawing would see, in words. */
static void put_title(const struct page *p, const struct page_row *row, const char *outcome)
{
    char began[24];
    char ended[24];
    char names[2 * EB_NAME_BYTES + 8];
    char after[256];
    uint64_t from_ms;
    uint64_t to_ms;
    size_t i;
    const json_t *span;
    bool times = past_times(row->device, &from_ms, &to_ms);
    range_text(row, names, sizeof names);
    fputs("<title>", p->to);
    page_format(p, "%s: %s", names, outcome);
    after_text(row->device, after, sizeof after);
    if (times) {
        clock_text(to_ms, ended, sizeof ended);
        page_format(p, " %s.", ended);
    }
    if (after[0] != '\0' && times && from_ms > 0) {
        clock_text(from_ms, ended, sizeof ended);
        page_format(p, " " W_WAITS_FOR " 0:00\xe2\x80\x93%s.", after, ended);
    }
    json_array_foreach(row->device->spans, i, span)
    {
        if (ms_of(span, "to_ms") < ms_of(span, "from_ms") + 500)
            continue;
        clock_text(ms_of(span, "from_ms"), began, sizeof began);
        clock_text(ms_of(span, "to_ms"), ended, sizeof ended);
        page_format(p, " %s %s\xe2\x80\x93%s.", word_of(class_of(span)), began, ended);
    }
    fputs("</title>", p->to);
}

/* Whether a row has something written above its bar. */
static bool is_noted(const struct past_device *d)
{
    size_t i;
    const json_t *span;
    json_array_foreach(d->spans, i, span)
    {
        if (json_integer_value(json_object_get(span, "attempt")) > 1)
            return true;
    }
    return json_array_size(json_object_get(d->before, "items")) > 1;
}

/* Names of the versions that are sent, where there are several; a mark at each new try. */
static void put_notes(const struct page *p, const struct axis *a, const struct past_device *d, double y)
{
    size_t i;
    const json_t *span;
    const json_t *items = json_object_get(d->before, "items");
    json_int_t attempt = 1;
    json_int_t sent = -1;
    double free_from = 0;
    json_array_foreach(d->spans, i, span)
    {
        double x = at(a, ms_of(span, "from_ms"));
        json_int_t now = json_integer_value(json_object_get(span, "attempt"));
        json_int_t item = json_integer_value(json_object_get(span, "item"));
        const json_t *sends = json_array_get(items, (size_t)item);
        const char *component = history_text(sends, "component");
        bool first = strcmp(component, history_text(json_array_get(items, 0), "component")) == 0;
        const char *version = first ? history_text(sends, "to") : component;
        if (now > attempt) {
            fprintf(p->to,
                    "<path class=\"retry\" d=\"M%.1f %.1fl-4 -7h8z\"/><text class=\"note\" x=\"%.1f\" "
                    "y=\"%.1f\">%d</text>",
                    x, y - 1, x + 6, y - 2, (int)now);
            attempt = now;
            free_from = x + 16;
        } else if (json_array_size(items) > 1 && strcmp(class_of(span), "send") == 0 && item != sent &&
                   x >= free_from) {
            fprintf(p->to, "<text class=\"note\" x=\"%.1f\" y=\"%.1f\">", x, y - 3);
            page_text(p, version);
            fputs("</text>", p->to);
            free_from = x + 6.5 * (double)strlen(version) + 4;
        }
        if (strcmp(class_of(span), "send") == 0)
            sent = item;
    }
}

static void put_bars(const struct page *p, const struct axis *a, const struct past_device *d, double y)
{
    char after[256];
    uint64_t began_ms;
    uint64_t ended_ms;
    size_t i;
    const json_t *span;
    if (!past_times(d, &began_ms, &ended_ms))
        return;
    after_text(d, after, sizeof after);
    if (began_ms > 0 && at(a, began_ms) - LEFT > 2) {
        fprintf(p->to, "<path class=\"wait\" d=\"M%d %.1fH%.1f\"/>", LEFT, y + 5, at(a, began_ms));
        /* only where there is room for it */
        if (after[0] != '\0' && (double)(strlen(after) + 12) * 5.6 < at(a, began_ms) - LEFT) {
            fprintf(p->to, "<text class=\"note on\" x=\"%d\" y=\"%.1f\">", LEFT + 8, y + 8.5);
            page_format(p, W_WAITS_FOR, after);
            fputs("</text>", p->to);
        }
    }
    json_array_foreach(d->spans, i, span)
    {
        double x = at(a, ms_of(span, "from_ms"));
        double width = at(a, ms_of(span, "to_ms")) - x;
        if (width >= 0.25)
            fprintf(p->to, "<rect class=\"%s\" x=\"%.1f\" y=\"%.1f\" width=\"%.1f\" height=\"10\"/>",
                    class_of(span), x, y, width < 0.8 ? 0.8 : width);
    }
    if (p->critical[d - p->past->devices])
        fprintf(p->to, "<path class=\"crit\" d=\"M%.1f %.1fH%.1f\"/>", at(a, began_ms), y + 14,
                at(a, ended_ms));
}

static void put_row(const struct page *p, const struct axis *a, const struct page_row *row, double y)
{
    char names[2 * EB_NAME_BYTES + 8];
    char ended[24] = "";
    uint64_t began_ms;
    uint64_t ended_ms;
    const struct past_device *d = row->device;
    const char *outcome = past_outcome(d);
    bool critical = p->critical[d - p->past->devices];
    bool indented = json_array_size(json_object_get(d->before, "after")) > 0;
    range_text(row, names, sizeof names);
    if (past_times(d, &began_ms, &ended_ms))
        clock_text(ended_ms, ended, sizeof ended);
    fputs("<g role=\"listitem\">", p->to);
    put_title(p, row, outcome);
    fprintf(p->to, "<text x=\"%d\" y=\"%.1f\"%s>", indented ? 8 : 0, y + 9,
            critical ? " font-weight=\"bold\"" : "");
    page_short(p, names, 17);
    fputs("</text>", p->to);
    put_bars(p, a, d, y);
    put_notes(p, a, d, y);
    fprintf(p->to,
            "<use href=\"#%s\" x=\"%d\" y=\"%.1f\" width=\"14\" height=\"14\"/><text x=\"%d\" y=\"%.1f\">",
            outcome, RESULT, y - 2, RESULT + 19, y + 9);
    page_format(p, "%s %s", outcome, ended);
    fputs("</text></g>\n", p->to);
}

/* Whether the two are drawn alike: confirmed at the first try, of the same product. */
static bool is_alike(const struct page *p, const struct past_device *a, const struct past_device *b)
{
    return past_is_good(a) && strcmp(past_outcome(a), past_outcome(b)) == 0 &&
           strcmp(a->order_code, b->order_code) == 0 && !is_noted(a) && !is_noted(b) &&
           !p->critical[a - p->past->devices] && !p->critical[b - p->past->devices];
}

static size_t make_rows(const struct page *p, struct page_row *rows)
{
    size_t count = 0;
    uint64_t began_ms;
    uint64_t ended_ms;
    uint64_t slowest_ms = 0;
    for (size_t i = 0; i < p->past->count; i++) {
        const struct past_device *d = &p->past->devices[i];
        bool folds = p->past->count > FOLD_FROM && count > 0 && is_alike(p, rows[count - 1].last, d);
        if (!past_times(d, &began_ms, &ended_ms))
            continue;
        if (!folds) {
            rows[count++] = (struct page_row){d, d, d, 1};
            slowest_ms = ended_ms;
            continue;
        }
        rows[count - 1].last = d;
        rows[count - 1].count++;
        if (ended_ms > slowest_ms) {
            rows[count - 1].device = d;
            slowest_ms = ended_ms;
        }
    }
    return count;
}

static void put_legend(const struct page *p)
{
    static const char *const classes[] = {"check", "prepare", "send", "activate", "return", "manual"};
    fputs("<ul class=\"legend\" aria-label=\"" W_SEGMENTS "\">\n", p->to);
    for (size_t i = 0; i < sizeof classes / sizeof classes[0]; i++)
        fprintf(p->to,
                "<li><svg aria-hidden=\"true\"><rect class=\"%s\" width=\"100%%\" "
                "height=\"100%%\"/></svg>%s</li>\n",
                classes[i], word_of(classes[i]));
    fputs("<li><svg aria-hidden=\"true\" viewBox=\"0 0 24 10\"><path class=\"wait\" d=\"M0 "
          "5H24\"/></svg>" W_WAITING "</li>\n<li><svg aria-hidden=\"true\" viewBox=\"0 0 24 10\"><path "
          "class=\"retry\" d=\"M8 1h10l-5 8z\"/></svg>" W_ANOTHER_TRY
          "</li>\n<li><svg aria-hidden=\"true\" viewBox=\"0 0 24 10\"><path class=\"crit\" d=\"M0 "
          "5H24\"/></svg>" W_CRITICAL_PATH "</li></ul>\n",
          p->to);
}

/* "drive-plc, then dispatch-panel", in their order of time. */
static void put_critical(const struct page *p)
{
    char text[512] = "";
    uint64_t after_ms = 0;
    for (;;) {
        const struct past_device *next = NULL;
        uint64_t next_ms = 0;
        for (size_t i = 0; i < p->past->count; i++) {
            uint64_t began_ms;
            uint64_t ended_ms;
            if (p->critical[i] && past_times(&p->past->devices[i], &began_ms, &ended_ms) &&
                ended_ms > after_ms && (next == NULL || ended_ms < next_ms)) {
                next = &p->past->devices[i];
                next_ms = ended_ms;
            }
        }
        if (next == NULL)
            break;
        size_t used = strlen(text);
        snprintf(text + used, sizeof text - used, "%s%s", used > 0 ? W_THEN : "", next->name);
        after_ms = next_ms;
    }
    if (text[0] != '\0')
        page_format(p, W_CRITICAL, text);
}

void page_timeline(const struct page *p)
{
    struct axis a = axis_of(p);
    struct page_row *rows = calloc(p->past->count + 1, sizeof *rows);
    char began[32];
    if (rows == NULL)
        abort();
    size_t count = make_rows(p, rows);
    double height = TOP + 8;
    for (size_t i = 0; i < count; i++)
        height += is_noted(rows[i].device) ? NOTED : ROW;
    fputs("<section aria-labelledby=\"timeline\">\n<h2 id=\"timeline\">" W_TIMELINE "</h2>\n", p->to);
    if (count == 0) {
        fprintf(p->to, "<p>%s</p>\n</section>\n", p->past->plan ? W_PLAN_NO_TIMELINE : W_NO_TIMELINE);
        free(rows);
        return;
    }
    eb_job_local_time(p->past->job.began, began, sizeof began);
    fputs("<p class=\"soft\">", p->to);
    page_format(p, p->past->plan ? W_PLAN_SINCE : W_SINCE, began);
    put_critical(p);
    fputs("</p>\n", p->to);
    put_legend(p);
    fprintf(p->to,
            "<figure tabindex=\"0\"><svg viewBox=\"0 0 %d %.0f\" role=\"list\" aria-label=\"" W_TIMELINE_LABEL
            "\">\n<g class=\"grid\" "
            "aria-hidden=\"true\">",
            WIDTH, height);
    for (uint64_t ms = 0; ms <= p->length_ms; ms += a.step_ms) {
        char label[24];
        clock_text(ms, label, sizeof label);
        fprintf(p->to,
                "<path d=\"M%.1f %dV%.0f\"/><text x=\"%.1f\" y=\"12\" text-anchor=\"middle\">%s</text>",
                at(&a, ms), TOP, height - 4, at(&a, ms), label);
    }
    fputs("</g>\n", p->to);
    double y = TOP + 6;
    for (size_t i = 0; i < count; i++) {
        bool noted = is_noted(rows[i].device);
        put_row(p, &a, &rows[i], y + (noted ? NOTED - ROW : 0));
        y += noted ? NOTED : ROW;
    }
    fputs("</svg></figure>\n</section>\n", p->to);
    free(rows);
}
