#include "report/output.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <wchar.h>

/* --- tables -------------------------------------------------------------------------------------- */

void table_begin(struct table *t, size_t columns, const char *const *heads)
{
    *t = (struct table){.columns = columns};
    table_add(t, heads);
}

void table_add(struct table *t, const char *const *cells)
{
    if (t->rows == t->cap) {
        t->cap = t->cap == 0 ? 32 : 2 * t->cap;
        t->cells = realloc(t->cells, t->cap * t->columns * sizeof *t->cells);
        if (t->cells == NULL)
            abort();
    }
    for (size_t c = 0; c < t->columns; c++)
        t->cells[t->rows * t->columns + c] = strdup(cells[c] != NULL ? cells[c] : "");
    t->rows++;
}

/* Whether a cell says this word, perhaps with more behind it: "confirmed (version only)". */
static bool says(const char *cell, const char *word)
{
    size_t size = strlen(word);
    return strncmp(cell, word, size) == 0 && (cell[size] == '\0' || strncmp(cell + size, " (", 2) == 0);
}

static const char *colour_of(const char *cell)
{
    static const char *const good[] = {"current", "confirmed",    "up-to-date", "recovered", "fits",
                                       "yes",     "on the shelf", "added",      "whole"};
    static const char *const bad[] = {"unreachable", "failed", "refused", "does not fit", "in-loader",
                                      "differs",     "no",     "lacks",   "missing"};
    static const char *const look[] = {"outdated",    "newer",    "unreadable",  "unknown",
                                       "interrupted", "fits if",  "cannot-tell", "if",
                                       "not-started", "accepted", "cannot tell"};
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        if (says(cell, bad[i]))
            return "\033[31m";
    }
    for (size_t i = 0; i < sizeof look / sizeof look[0]; i++) {
        if (says(cell, look[i]))
            return "\033[33m";
    }
    for (size_t i = 0; i < sizeof good / sizeof good[0]; i++) {
        if (says(cell, good[i]))
            return "\033[32m";
    }
    return NULL;
}

bool colours_on(int fd)
{
    const char *no = getenv("NO_COLOR");
    const char *term = getenv("TERM");
    return isatty(fd) && (no == NULL || no[0] == '\0') && term != NULL && strcmp(term, "dumb") != 0;
}

const char *painted(const char *word, size_t width, char text[PAINTED_BYTES])
{
    const char *colour = colours_on(STDOUT_FILENO) ? colour_of(word) : NULL;
    size_t blanks = strlen(word) < width ? width - strlen(word) : 0;
    snprintf(text, PAINTED_BYTES, "%s%s%s%*s", colour != NULL ? colour : "", word,
             colour != NULL ? "\033[0m" : "", (int)blanks, "");
    return text;
}

/* Columns that a text takes on a terminal. */
static size_t columns_of(const char *text)
{
    wchar_t wide[256];
    size_t plain = 0;
    while ((signed char)text[plain] > 0)
        plain++;
    if (text[plain] == '\0')
        return plain;
    size_t n = mbstowcs(wide, text, sizeof wide / sizeof wide[0]);
    int width = n < sizeof wide / sizeof wide[0] ? wcswidth(wide, n) : -1;
    return width >= 0 ? (size_t)width : strlen(text);
}

/* Columns of the terminal; 0: it is none. */
static size_t terminal_width(void)
{
    struct winsize size = {.ws_col = 0};
    return isatty(STDOUT_FILENO) && ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 ? size.ws_col : 0;
}

static void put_blanks(size_t count)
{
    while (count-- > 0)
        putchar(' ');
}

/* A text from `column` on, broken between words where the terminal ends; further lines begin at `indent`. */
static void put_wrapped(const char *text, size_t column, size_t indent, size_t width)
{
    bool first = true;
    for (const char *word = text; *word != '\0';) {
        size_t length = strcspn(word, " ");
        if (!first && width > 0 && column + 1 + length > width) {
            putchar('\n');
            put_blanks(indent);
            column = indent;
        } else if (!first) {
            putchar(' ');
            column++;
        }
        column += length;
        printf("%.*s", (int)length, word);
        word += length + (word[length] == ' ');
        first = false;
    }
}

static void print_row(char *const *cells, size_t columns, const size_t *widths, bool colours, size_t width)
{
    size_t column = 0;
    while (columns > 0 && cells[columns - 1][0] == '\0')
        columns--; /* behind the last cell that is not empty nothing is printed */
    for (size_t c = 0; c < columns; c++) {
        const char *colour = colours ? colour_of(cells[c]) : NULL;
        fputs(colour != NULL ? colour : "", stdout);
        if (c + 1 == columns && width > 0)
            put_wrapped(cells[c], column, column, width);
        else
            fputs(cells[c], stdout);
        fputs(colour != NULL ? "\033[0m" : "", stdout);
        if (c + 1 < columns)
            put_blanks(widths[c] + 2 - columns_of(cells[c]));
        column += widths[c] + 2;
    }
    putchar('\n');
}

void table_print(struct table *t)
{
    size_t widths[TABLE_COLUMNS_MAX] = {0};
    bool colours = colours_on(STDOUT_FILENO);
    size_t width = terminal_width();
    for (size_t i = 0; i < t->rows * t->columns; i++) {
        size_t columns = columns_of(t->cells[i]);
        if (columns > widths[i % t->columns])
            widths[i % t->columns] = columns;
    }
    for (size_t r = 0; r < t->rows; r++)
        print_row(t->cells + r * t->columns, t->columns, widths, colours && r > 0, width);
    table_free(t);
}

void table_free(struct table *t)
{
    for (size_t i = 0; i < t->rows * t->columns; i++)
        free(t->cells[i]);
    free(t->cells);
    *t = (struct table){.columns = t->columns};
}

void say(const char *format, ...)
{
    char *text;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&text, format, arguments) < 0)
        abort();
    va_end(arguments);
    put_wrapped(text, 0, 2, terminal_width());
    putchar('\n');
    free(text);
}

void bytes_text(uint64_t bytes, char *text, size_t cap)
{
    if (bytes >= 1000000)
        snprintf(text, cap, "%.1f MB", (double)bytes / 1e6);
    else if (bytes >= 1000)
        snprintf(text, cap, "%.0f kB", (double)bytes / 1e3);
    else
        snprintf(text, cap, "%u B", (unsigned)bytes);
}

void seconds_text(uint64_t seconds, char *text, size_t cap)
{
    if (seconds >= 60)
        snprintf(text, cap, "%u min %02u s", (unsigned)(seconds / 60), (unsigned)(seconds % 60));
    else
        snprintf(text, cap, "%u s", (unsigned)seconds);
}

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
    snprintf(text, RUNNING_BYTES, "%s%s", version[0] != '\0' ? version : "?",
             eb_job_stopped(t) ? ", stopped" : "");
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
        say("%s: its sources disagree on the %s: found %s by %s and %s by %s, expected the same; the "
            "first one "
            "counts",
            t->device->name, eb_profile_item_word(d->item), d->text, d->by->title, d->other_text,
            d->other_by->title);
    }
}

void print_devices(const struct session *s)
{
    static const char *const heads[] = {"DEVICE",    "ADDRESS", "ORDER CODE", "REV", "SERIAL NUMBER",
                                        "COMPONENT", "RUNNING", "WANTED",     "MARK"};
    struct table table;
    table_begin(&table, 9, heads);
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
            table_add(&table, cells);
            first = false;
        }
    }
    table_print(&table);
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            print_disagreements(&s->job->devices[i]);
    }
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

void say_left(const struct session *s, const struct eb_job_device *t, const void *context,
              char text[SENTENCE_BYTES])
{
    char sentence[SENTENCE_BYTES - 64];
    (void)s;
    (void)context;
    if (t->worked_on) {
        eb_job_holder_text(&t->worker, sentence, sizeof sentence);
        snprintf(text, SENTENCE_BYTES, "%s is working on it now", sentence);
    } else if (t->left != NULL) {
        left_sentence(t, text, SENTENCE_BYTES);
    } else if (eb_job_stopped(t)) {
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

static bool in_plan(const struct eb_job_device *t)
{
    return t->chosen && (t->item_count > 0 || t->refused);
}

size_t count_plan(const struct session *s, size_t *devices, size_t *refused)
{
    size_t images = 0;
    *devices = 0;
    *refused = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        if (!in_plan(&s->job->devices[i]))
            continue;
        images += s->job->devices[i].item_count;
        (*devices)++;
        *refused += s->job->devices[i].refused;
    }
    return images;
}

/* Prints a line of a paragraph, with an empty line before its first. */
__attribute__((format(printf, 2, 3))) static void paragraph(bool *spaced, const char *format, ...)
{
    char text[1200];
    va_list arguments;
    if (!*spaced)
        puts("");
    *spaced = true;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    say("%s", text);
}

void print_verdict(const struct eb_verdict *v, const char *indent)
{
    char found[EB_FINDING_TEXT_BYTES + 4];
    char expected[EB_FINDING_TEXT_BYTES + 4];
    char paint[PAINTED_BYTES];
    for (size_t f = 0; f < v->count; f++) {
        const struct eb_finding *finding = &v->findings[f];
        printf("%s%s %-18s ", indent, painted(eb_grade_word(finding->grade), 11, paint),
               eb_rule_code(finding->rule));
        if (strcmp(finding->expected, "any") == 0)
            puts("not required");
        else
            printf("found %s, expected %s%s%s%s\n", shorter(finding->found, found),
                   shorter(finding->expected, expected), finding->together != NULL ? ": fit " : "",
                   finding->together != NULL ? finding->together : "",
                   finding->together != NULL ? " together with it" : "");
    }
}

void print_findings(const struct eb_job_device *t, bool *spaced)
{
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = &t->items[k].verdict;
        for (size_t f = 0; f < v->count; f++) {
            const struct eb_finding *finding = &v->findings[f];
            if (finding->grade == EB_GRADE_YES || finding->rule == EB_RULE_BATCH)
                continue;
            const char *code = eb_rule_code(finding->rule);
            char advice[192] = "cannot be accepted";
            char found[EB_FINDING_TEXT_BYTES + 4];
            char expected[EB_FINDING_TEXT_BYTES + 4];
            if (finding->grade == EB_GRADE_ACCEPTED)
                snprintf(advice, sizeof advice, "accepted");
            else if (finding->together != NULL)
                snprintf(advice, sizeof advice, "fit %s together with it: einbau fit %s %s",
                         finding->together, eb_job_word(finding->together), eb_job_word(t->device->name));
            else if (finding->acceptable)
                snprintf(advice, sizeof advice, "refused unless accepted: --accept %s:%s",
                         eb_job_word(t->device->name), code);
            paragraph(spaced, "%s %s %s: %s: found %s, expected %s (%s)", t->device->name,
                      t->items[k].component->name, t->items[k].image->version, code,
                      shorter(finding->found, found), shorter(finding->expected, expected), advice);
        }
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (t->lacks[i])
            paragraph(
                spaced,
                "%s %s: image: found none of %s for %s on the shelf, expected one: einbau shelf add FILE; "
                "'einbau shelf list --for %s --all' shows what is there",
                t->device->name, t->device->profile->components[i].name, eb_job_wanted(t, i),
                t->look.identity.order_code[0] != '\0' ? t->look.identity.order_code : "this device",
                eb_job_word(t->device->name));
    }
}

const char *file_name(const char *path)
{
    const char *slash = strrchr(path, '/');
    return slash != NULL ? slash + 1 : path;
}

static uint32_t seconds_of(const struct eb_job_device *t)
{
    const struct eb_profile *profile = t->device->profile;
    uint32_t seconds = 0;
    for (size_t k = 0; k < t->item_count; k++) {
        seconds += eb_plan_seconds(profile, t->items[k].source.size_bytes);
        if (profile->restarts_once && k > 0 && t->items[k].component != t->items[k - 1].component)
            seconds -= seconds > profile->typical_restart_s ? profile->typical_restart_s : 0;
    }
    return seconds;
}

static size_t last_wave(const struct session *s)
{
    size_t last = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        if (in_plan(&s->job->devices[i]) && s->job->devices[i].device->wave > last)
            last = s->job->devices[i].device->wave;
    }
    return last;
}

/* The devices of the plan that this one waits for, one after the other; NULL behind the last. */
static const struct eb_job_device *waits_for(const struct session *s, const struct eb_job_device *t,
                                             size_t index)
{
    const struct eb_site_device *d = t->device;
    for (size_t i = 0; i <= d->companion_count; i++) {
        const struct eb_site_device *other = i == 0 ? d->via : d->companions[i - 1].device;
        const struct eb_job_device *o =
            other != NULL ? &s->job->devices[other - s->job->site->devices] : NULL;
        bool again = i > 0 && other == d->via;
        if (o != NULL && !again && in_plan(o) && o->item_count > 0 && index-- == 0)
            return o;
    }
    return NULL;
}

/* "drive-plc, lead-node" */
static void after_text(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_job_device *other;
    text[0] = '\0';
    for (size_t i = 0; (other = waits_for(s, t, i)) != NULL; i++)
        snprintf(text + strlen(text), cap - strlen(text), "%s%s", i > 0 ? ", " : "", other->device->name);
}

static bool waits(const struct session *s)
{
    bool any = false;
    for (size_t i = 0; i < s->job->count; i++)
        any = any || (in_plan(&s->job->devices[i]) && waits_for(s, &s->job->devices[i], 0) != NULL);
    return any;
}

/* When a device can begin: when those that it waits for are through, each of them as early as it can be. */
static uint32_t begins_after(const struct session *s, const struct eb_job_device *t)
{
    const struct eb_job_device *other;
    uint32_t latest = 0;
    for (size_t i = 0; (other = waits_for(s, t, i)) != NULL; i++) {
        uint32_t end = begins_after(s, other) + seconds_of(other);
        latest = end > latest ? end : latest;
    }
    return latest;
}

/* Of devices that share a bus: what it carries for one it does not carry for the others. */
static uint32_t seconds_of_bus(const struct session *s, const struct eb_job_device *of)
{
    uint32_t sum = 0;
    uint32_t restart = 0;
    uint32_t first = UINT32_MAX;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        uint32_t own = t->device->profile->typical_restart_s;
        if (t->device->wire != of->device->wire || t->refused || t->item_count == 0)
            continue;
        uint32_t begins = begins_after(s, t);
        sum += seconds_of(t) > own ? seconds_of(t) - own : 0;
        restart = own > restart ? own : restart;
        first = begins < first ? begins : first;
    }
    return first + sum + restart;
}

/* The longest chain of devices that wait for each other, or the busiest bus. */
static uint32_t whole_seconds(const struct session *s)
{
    uint32_t longest = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!in_plan(t) || t->refused)
            continue;
        uint32_t chain = begins_after(s, t) + seconds_of(t);
        uint32_t bus = target_on_bus(t) ? seconds_of_bus(s, t) : 0;
        longest = chain > longest ? chain : longest;
        longest = bus > longest ? bus : longest;
    }
    return longest;
}

static void add_plan_rows(struct table *table, const struct session *s, const struct eb_job_device *t)
{
    char time[32] = "";
    char after[160];
    bool first = true;
    char running[RUNNING_BYTES];
    if (seconds_of(t) > 0)
        seconds_text(seconds_of(t), time, sizeof time);
    after_text(s, t, after, sizeof after);
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_run_item *item = &t->items[k];
        char size[24];
        bytes_text(item->source.size_bytes, size, sizeof size);
        bool from_loader = t->look.in_loader && (k == 0 || t->items[k - 1].component != item->component);
        const char *const cells[] = {first ? t->device->name : "",
                                     item->component->name,
                                     from_loader             ? "(in loader)"
                                     : item->from[0] != '\0' ? item->from
                                                             : "?",
                                     item->image->version,
                                     file_name(t->planned[k].image->path),
                                     size,
                                     first ? after : "",
                                     first ? time : "",
                                     answer_text(item->verdict.answer)};
        table_add(table, cells);
        first = false;
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        const char *const cells[] = {first ? t->device->name : "",
                                     t->device->profile->components[i].name,
                                     running_text(t, i, running),
                                     eb_job_wanted(t, i),
                                     "(none on the shelf)",
                                     "",
                                     first ? after : "",
                                     "",
                                     "lacks"};
        if (t->lacks[i])
            table_add(table, cells);
        first = first && !t->lacks[i];
    }
}

/* Each device below those that it waits for. */
static void print_plan_table(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "COMPONENT", "FROM",  "TO",     "IMAGE",
                                        "SIZE",   "AFTER",     "ABOUT", "VERDICT"};
    struct table table;
    table_begin(&table, 9, heads);
    for (size_t w = 0; w <= last_wave(s); w++) {
        for (size_t i = 0; i < s->job->count; i++) {
            if (in_plan(&s->job->devices[i]) && s->job->devices[i].device->wave == w)
                add_plan_rows(&table, s, &s->job->devices[i]);
        }
    }
    table_print(&table);
    if (waits(s))
        say("\nA device with a name under AFTER starts when that one is confirmed; all others start at "
            "once.");
}

static void say_loss(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    const char *loss = t->device->profile->loses[*(const size_t *)context];
    (void)s;
    if (t->item_count > 0 && !t->refused && loss[0] != '\0')
        snprintf(text, SENTENCE_BYTES, "will lose %s", loss);
}

static void say_hand(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    const struct eb_step *step = &t->device->profile->prepare.list[*(const size_t *)context];
    (void)s;
    if (t->item_count > 0 && !t->refused && step->hand[0] != '\0')
        snprintf(text, SENTENCE_BYTES, "manual step: %s (it is checked)", step->hand);
}

/* What is lost, and which steps a person must do. */
static void print_consequences(const struct session *s)
{
    bool spaced = false;
    for (size_t k = 0; k < EB_LOSSES_MAX; k++)
        say_folded(s, say_loss, &k, &spaced);
    for (size_t k = 0; k < EB_STEPS_MAX; k++)
        say_folded(s, say_hand, &k, &spaced);
}

static void print_left_out(const struct eb_job_device *t, bool *spaced)
{
    for (size_t k = 0; t->reached && t->item_count == 0 && k < t->device->profile->count; k++) {
        enum eb_mark mark = eb_job_mark(t, k);
        if (mark != EB_MARK_CURRENT && eb_job_has(t, k) && !t->lacks[k])
            paragraph(spaced, "%s %s: %s; not in the plan%s", t->device->name,
                      t->device->profile->components[k].name, eb_mark_word(mark),
                      t->device->profile->sends ? " unless the device is named"
                                                : ": its profile knows no way to send an image");
    }
}

static void print_refused(const struct session *s)
{
    char text[1600] = "Refused:";
    size_t at = strlen(text);
    puts("");
    for (size_t i = 0; i < s->job->count && at < sizeof text - 200; i++) {
        if (s->job->devices[i].refused)
            at += (size_t)snprintf(text + at, sizeof text - at, " %s", s->job->devices[i].device->name);
    }
    at += (size_t)snprintf(
        text + at, sizeof text - at,
        ". Nothing is written to any device while a refused one is in the plan. Leave it out:");
    for (size_t i = 0; i < s->job->count && at < sizeof text - 80; i++) {
        if (s->job->devices[i].refused)
            at += (size_t)snprintf(text + at, sizeof text - at, " --without %s",
                                   eb_job_word(s->job->devices[i].device->name));
    }
    say("%s", text);
}

void plan_question(const struct session *s, char question[PLAN_QUESTION_BYTES])
{
    size_t devices;
    size_t refused;
    size_t images = count_plan(s, &devices, &refused);
    uint32_t seconds = whole_seconds(s);
    char time[32] = "";
    if (seconds > 0)
        seconds_text(seconds, time, sizeof time);
    snprintf(question, PLAN_QUESTION_BYTES, "Write %zu image%s to %zu device%s%s%s?", images,
             images == 1 ? "" : "s", devices, devices == 1 ? "" : "s", seconds > 0 ? ", about " : "", time);
}

void print_plan(const struct session *s)
{
    size_t devices;
    size_t refused;
    size_t images = count_plan(s, &devices, &refused);
    char time[32] = "";
    if (devices == 0) {
        puts("Nothing to write: every device that was reached is up to date.");
    } else {
        uint32_t seconds = whole_seconds(s);
        if (seconds > 0)
            seconds_text(seconds, time, sizeof time);
        printf("Plan for %s: %zu image%s, %zu device%s%s%s%s\n\n", s->job->site->name, images,
               images == 1 ? "" : "s", devices, devices == 1 ? "" : "s",
               devices == 1 ? ""
               : waits(s)   ? ", in their order"
                            : ", all at the same time",
               seconds > 0 ? ", about " : "", time);
        print_plan_table(s);
    }
    print_consequences(s);
    bool spaced = false;
    say_folded(s, say_left, NULL, &spaced);
    say_folded(s, say_moved, NULL, &spaced);
    say_folded(s, say_look, NULL, &spaced);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && !s->options->explain)
            print_findings(t, &spaced);
        if (t->chosen)
            print_left_out(t, &spaced);
    }
    for (size_t i = 0; i < s->job->count && s->options->explain; i++) {
        for (size_t k = 0; k < s->job->devices[i].item_count; k++) {
            const struct eb_run_item *item = &s->job->devices[i].items[k];
            printf("\n%s %s %s:\n", s->job->devices[i].device->name, item->component->name,
                   item->image->version);
            print_verdict(&item->verdict, "  ");
        }
    }
    if (refused > 0)
        print_refused(s);
}

/* --- documents ----------------------------------------------------------------------------------- */

static json_t *text_or_null(const char *text)
{
    return text[0] != '\0' ? json_string(text) : json_null();
}

static json_t *findings_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = &t->items[k].verdict;
        for (size_t f = 0; f < v->count; f++) {
            const struct eb_finding *finding = &v->findings[f];
            json_array_append_new(
                list,
                json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:b, s:o}", "component",
                          t->items[k].component->name, "version", t->items[k].image->version, "code",
                          eb_rule_code(finding->rule), "grade", eb_grade_word(finding->grade), "found",
                          finding->found, "expected", finding->expected, "acceptable", finding->acceptable,
                          "together", text_or_null(finding->together != NULL ? finding->together : "")));
        }
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (t->lacks[i])
            json_array_append_new(list, json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:b}", "component",
                                                  t->device->profile->components[i].name, "version",
                                                  eb_job_wanted(t, i), "code", "image", "grade", "no",
                                                  "found", "none on the shelf", "expected",
                                                  eb_job_wanted(t, i), "acceptable", 0));
    }
    return list;
}

/* Which of the kinds of proof. */
static json_t *known_by_document(unsigned by)
{
    static const char *const words[] = {"version", "checksum", "read-back"};
    json_t *list = json_array();
    for (unsigned i = 0; i < sizeof words / sizeof words[0]; i++) {
        if ((by >> i & 1) != 0)
            json_array_append_new(list, json_string(words[i]));
    }
    return list;
}

/* Of a component to which something is to be written, or was. */
static void add_item(const struct eb_job_device *t, json_t *component, size_t i)
{
    const struct eb_run_item *item = &t->items[i];
    json_t *through = json_object_get(component, "through");
    if (through == NULL) {
        through = json_array();
        json_object_set_new(component, "through", through);
        json_object_set_new(component, "from", text_or_null(item->from));
    }
    json_array_append_new(through, json_string(item->image->version));
    json_object_set_new(component, "to", json_string(item->image->version));
    json_object_set_new(component, "image", json_string(t->planned[i].image->path));
    json_object_set_new(component, "verdict", json_string(eb_answer_word(item->verdict.answer)));
    if (!t->begun)
        return;
    enum eb_outcome outcome = item->outcome != EB_OUTCOME_NONE ? item->outcome : t->fit.outcome;
    json_object_set_new(component, "outcome", json_string(eb_outcome_word(outcome)));
    json_object_set_new(component, "confirmed_by", known_by_document(item->confirmed_by));
}

static json_t *components_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    const struct eb_run *run = eb_job_last(t);
    bool known = (t->begun ? run->identified : t->reached) && !run->in_loader;
    for (size_t k = 0; k < t->device->profile->count; k++) {
        if (!eb_job_has(t, k))
            continue;
        const struct eb_running *running = &run->running[k];
        enum eb_mark mark = eb_job_mark(t, k);
        json_t *component = json_pack("{s:s, s:o, s:o, s:s}", "name", t->device->profile->components[k].name,
                                      "running", text_or_null(known ? running->version : ""), "wanted",
                                      text_or_null(eb_job_wanted(t, k)), "mark", eb_mark_word(mark));
        if (mark == EB_MARK_CURRENT && eb_job_wanted(t, k)[0] != '\0')
            json_object_set_new(component, "confirmed_by", known_by_document(eb_job_known_by(t, k)));
        for (size_t i = 0; i < t->item_count; i++) {
            if (t->items[i].component == &t->device->profile->components[k])
                add_item(t, component, i);
        }
        json_array_append_new(list, component);
    }
    return list;
}

/* Rules whose findings were accepted. */
static json_t *accepted_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    uint32_t told = 0;
    for (size_t i = 0; i < t->item_count; i++) {
        const struct eb_verdict *v = &t->items[i].verdict;
        for (size_t f = 0; f < v->count; f++) {
            if (v->findings[f].grade != EB_GRADE_ACCEPTED || (told >> v->findings[f].rule & 1) != 0)
                continue;
            told |= 1U << v->findings[f].rule;
            json_array_append_new(list, json_string(eb_rule_code(v->findings[f].rule)));
        }
    }
    return list;
}

static json_t *left_document(const struct eb_job_device *t)
{
    const struct eb_left *l = t->left;
    char sentence[SENTENCE_BYTES];
    left_sentence(t, sentence, sizeof sentence);
    return json_pack("{s:s, s:s, s:s, s:I, s:s}", "after", l->kind, "command", l->command, "began", l->began,
                     "process", (json_int_t)l->process, "says", sentence);
}

static json_t *disagreement_document(const struct eb_disagreement *d)
{
    return json_pack("{s:s, s:s, s:s, s:s, s:s}", "what", eb_profile_item_word(d->item), "by", d->by->title,
                     "text", d->text, "other_by", d->other_by->title, "other_text", d->other_text);
}

static json_t *device_document(const struct session *s, const struct eb_job_device *t)
{
    char address[EB_PLACE_TEXT_BYTES];
    char sentence[SENTENCE_BYTES];
    const struct eb_run *run = eb_job_last(t);
    const struct eb_identity *id = &run->identity;
    bool known = t->begun ? run->identified : t->reached;
    eb_site_place_text(t->device, address);
    json_t *device = json_pack(
        "{s:s, s:s, s:s, s:s, s:b, s:b, s:o, s:o, s:{s:o, s:o, s:o, s:o, s:o}, s:o, s:o, s:o}", "name",
        t->device->name, "link", t->device->link, "address", address, "profile", t->device->profile->name,
        "reached", known, "answered", t->begun ? run->answered : t->answered, "in_loader",
        known ? json_boolean(run->in_loader) : json_null(), "program",
        known && run->program_known ? json_string(run->program_stopped ? "stopped" : "running") : json_null(),
        "identity", "maker", text_or_null(id->maker), "product", text_or_null(id->product), "order_code",
        text_or_null(id->order_code), "hardware_revision", text_or_null(id->hardware_revision), "serial",
        text_or_null(id->serial), "components", components_document(t), "findings", findings_document(t),
        "accepted", accepted_document(t));
    json_t *disagreements = json_array();
    for (size_t i = 0; i < run->disagreements; i++)
        json_array_append_new(disagreements, disagreement_document(&run->disagreement[i]));
    json_object_set_new(device, "disagreements", disagreements);
    if (t->left != NULL && !t->begun)
        json_object_set_new(device, "left", left_document(t));
    if (t->worked_on)
        json_object_set_new(device, "worked_on",
                            json_pack("{s:s, s:I, s:s}", "command", t->worker.command, "process",
                                      (json_int_t)t->worker.process, "since", t->worker.since));
    if (t->other_mac[0] != '\0')
        json_object_set_new(
            device, "moved",
            json_pack("{s:s, s:s, s:s}", "mac", t->mac, "before", t->other_mac, "seen", t->other_seen));
    if (t->item_count > 0) {
        const struct eb_job_device *other;
        json_t *after = json_array();
        for (size_t i = 0; (other = waits_for(s, t, i)) != NULL; i++)
            json_array_append_new(after, json_string(other->device->name));
        json_object_set_new(device, "after", after);
    }
    outcome_sentence(s, t, sentence, sizeof sentence);
    if (sentence[0] != '\0')
        json_object_set_new(device, "error", json_string(sentence));
    return device;
}

json_t *document(const struct session *s, const char *command)
{
    char kind[64];
    json_t *devices = json_array();
    snprintf(kind, sizeof kind, "%s/2", command);
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            json_array_append_new(devices, device_document(s, &s->job->devices[i]));
    }
    return json_pack("{s:s, s:o, s:o}", "einbau", kind, "site",
                     s->job->site != NULL ? json_string(s->job->site->name) : json_null(), "devices",
                     devices);
}

void print_document(json_t *root)
{
    json_dumpf(root, stdout, JSON_INDENT(2));
    puts("");
    json_decref(root);
}
