#include "ui/table.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <wchar.h>

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
    static const char *const good[] = {"current",      "confirmed", "up-to-date", "recovered",
                                       "put-back",     "done",      "fits",       "yes",
                                       "on the shelf", "added",     "whole"};
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

void cut_to_columns(char *text, size_t columns)
{
    mbstate_t state = {0};
    size_t at = 0;
    size_t used = 0;
    while (text[at] != '\0') {
        wchar_t c;
        size_t size = mbrtowc(&c, text + at, MB_CUR_MAX, &state);
        bool whole = size != (size_t)-1 && size != (size_t)-2;
        int width = whole ? wcwidth(c) : 1;
        if (!whole)
            memset(&state, 0, sizeof state);
        used += width > 0 ? (size_t)width : 0;
        if (used > columns)
            break;
        at += whole ? size : 1;
    }
    text[at] = '\0';
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

static void print_row(const struct table *table, char *const *cells, const size_t *widths, bool colours,
                      size_t width)
{
    size_t column = 0;
    size_t columns = table->columns;
    while (columns > 0 && cells[columns - 1][0] == '\0')
        columns--; /* behind the last cell that is not empty nothing is printed */
    for (size_t c = 0; c < columns; c++) {
        const char *colour = colours && c >= table->plain ? colour_of(cells[c]) : NULL;
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
        print_row(t, t->cells + r * t->columns, widths, colours && r > 0, width);
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

void print_line(json_t *event)
{
    json_dumpf(event, stdout, JSON_COMPACT);
    puts("");
    fflush(stdout);
    json_decref(event);
}

void print_document(json_t *root)
{
    json_dumpf(root, stdout, JSON_INDENT(2));
    puts("");
    json_decref(root);
}
