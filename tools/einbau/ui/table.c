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
        t->below = realloc(t->below, t->cap * sizeof *t->below);
        if (t->cells == NULL || t->below == NULL)
            abort();
    }
    t->below[t->rows] = 0;
    for (size_t c = 0; c < t->columns; c++)
        t->cells[t->rows * t->columns + c] = strdup(cells[c] != NULL ? cells[c] : "");
    t->rows++;
}

void table_add_below(struct table *t, const char *const *cells, size_t same)
{
    table_add(t, cells);
    t->below[t->rows - 1] = same;
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

/* Behind which a cell may be broken, besides blanks. */
static const char marks[] = ",;/:-._";

/* The next piece of a text that goes into so many columns: broken at a blank, else behind a mark, else where
 * they end; gives its bytes, and those to where the next one begins. */
static size_t piece_of(const char *text, size_t columns, size_t *next)
{
    char fits[512];
    snprintf(fits, sizeof fits, "%s", text);
    cut_to_columns(fits, columns);
    size_t size = strlen(fits);
    if (text[size] == '\0' || text[size] == ' ') {
        *next = size + (text[size] == ' ');
        return size;
    }
    size_t indent = strspn(text, " ");
    for (size_t at = size; at > indent + 1; at--) {
        *next = at;
        if (text[at - 1] == ' ')
            return at - 1;
        if (strchr(marks, text[at - 1]) != NULL)
            return at;
    }
    *next = size > 0 ? size : strlen(text);
    return *next;
}

/* Columns of the longest piece that is never broken. */
static size_t longest_piece(const char *text)
{
    size_t longest = 0;
    size_t begin = 0;
    for (size_t at = strspn(text, " "); text[at] != '\0'; at++) {
        bool blank = text[at] == ' ';
        if (!blank && text[at + 1] != '\0' && strchr(marks, text[at]) == NULL)
            continue;
        char piece[512];
        snprintf(piece, sizeof piece, "%.*s", (int)(at + !blank - begin), text + begin);
        longest = columns_of(piece) > longest ? columns_of(piece) : longest;
        begin = at + 1;
    }
    return longest;
}

static void print_cell(const char *text, size_t size, const char *colour, size_t width)
{
    char *piece = strndup(text, size);
    if (piece == NULL)
        abort();
    bool coloured = colour != NULL && size > 0;
    size_t columns = columns_of(piece);
    printf("%s%s%s", coloured ? colour : "", piece, coloured ? "\033[0m" : "");
    put_blanks(width > columns ? width - columns : 0);
    free(piece);
}

/* The last column with something in it from these places on; 0: none. */
static size_t used_of(char *const *at, size_t columns)
{
    while (columns > 0 && at[columns - 1][0] == '\0')
        columns--;
    return columns;
}

/* `gap` 0: no terminal, nothing is broken. */
static void print_row(const struct table *t, char *const *cells, const size_t *widths, bool colours,
                      size_t gap)
{
    char *at[TABLE_COLUMNS_MAX];
    memcpy(at, cells, t->columns * sizeof *at);
    size_t used = used_of(at, t->columns);
    do {
        for (size_t c = 0; c < used; c++) {
            const char *colour = colours && c >= t->plain ? colour_of(cells[c]) : NULL;
            size_t next = strlen(at[c]);
            size_t size = gap == 0 ? next : piece_of(at[c], widths[c], &next);
            print_cell(at[c], size, colour, c + 1 < used ? widths[c] + (gap == 1 ? 1 : 2) : 0);
            at[c] += next;
        }
        putchar('\n');
        used = used_of(at, t->columns);
    } while (used > 0);
}

/* Makes the widest columns narrower until all go into the terminal with `gap` blanks between them, the first
 * one only where names may be broken; false: they cannot without breaking a word. */
static bool fit_widths(const struct table *t, size_t *widths, size_t gap, size_t width, bool names)
{
    size_t least[TABLE_COLUMNS_MAX] = {names ? 0 : widths[0]};
    size_t total = gap * (t->columns - 1);
    for (size_t i = 0; i < t->rows * t->columns; i++) {
        size_t longest = longest_piece(t->cells[i]);
        if (longest > least[i % t->columns])
            least[i % t->columns] = longest;
    }
    for (size_t c = 0; c < t->columns; c++)
        total += widths[c];
    while (total > width) {
        size_t widest = t->columns;
        for (size_t c = 0; c < t->columns; c++) {
            if (widths[c] > least[c] && (widest == t->columns || widths[c] > widths[widest]))
                widest = c;
        }
        if (widest == t->columns)
            return false;
        widths[widest]--;
        total--;
    }
    return true;
}

/* A cell on lines of its own, from a column on; each in its colour. */
static void print_pieces(const char *text, const char *colour, size_t indent, size_t width)
{
    size_t room = width > indent + 8 ? width - indent : 8;
    for (bool first = true; *text != '\0'; first = false) {
        size_t next;
        size_t size = piece_of(text, room, &next);
        put_blanks(first ? 0 : indent);
        print_cell(text, size, colour, 0);
        putchar('\n');
        text += next;
    }
}

/* On a terminal that is too narrow for columns: the first cell on a line of its own, the others below it with
 * their names. */
static void print_blocks(const struct table *t, bool colours, size_t width)
{
    char *const *heads = t->cells;
    size_t names = 0;
    for (size_t c = 1; c < t->columns; c++)
        names = columns_of(heads[c]) > names ? columns_of(heads[c]) : names;
    for (size_t r = 1; r < t->rows; r++) {
        char *const *cells = t->cells + r * t->columns;
        print_pieces(cells[0], NULL, 2, width);
        for (size_t c = 1; c < t->columns; c++) {
            const char *colour = colours && c >= t->plain ? colour_of(cells[c]) : NULL;
            if (cells[c][0] == '\0')
                continue;
            printf("  %s%*s  ", heads[c], (int)(names - columns_of(heads[c])), "");
            print_pieces(cells[c], colour, names + 4, width);
        }
    }
}

/* --- rows that are alike --------------------------------------------------------------------------- */

/* Of so many bytes the digits at the end, of which there are at most nine. */
static size_t digits_of(const char *text, size_t size)
{
    size_t digits = 0;
    while (digits < size && digits < 9 && text[size - 1 - digits] >= '0' && text[size - 1 - digits] <= '9')
        digits++;
    return digits;
}

/* As text_follows, with `tail` bytes behind the number of each. */
static bool follows(const char *text, const char *next, size_t tail)
{
    size_t size = strlen(text) - tail;
    size_t digits = digits_of(text, size);
    size_t stem = size - digits;
    char number[16];
    if (digits == 0 || strncmp(text, next, stem) != 0)
        return false;
    int length = snprintf(number, sizeof number, "%0*lu", (int)digits, strtoul(text + stem, NULL, 10) + 1);
    return strlen(next) == stem + (size_t)length + tail && strncmp(next + stem, number, (size_t)length) == 0;
}

bool text_follows(const char *text, const char *next)
{
    return follows(text, next, 0);
}

/* Bytes of a prefix that two addresses have behind their numbers: "/24". */
static size_t prefix_of(const char *cell, const char *next)
{
    const char *prefix = strchr(cell, '/');
    const char *other = strchr(next, '/');
    return prefix != NULL && other != NULL && strcmp(prefix, other) == 0 ? strlen(prefix) : 0;
}

static const char *cell_of(const struct table *t, size_t row, size_t column)
{
    return t->cells[row * t->columns + column];
}

/* Lines of a row: itself and those below it. */
static size_t lines_of(const struct table *t, size_t row)
{
    size_t lines = 1;
    while (row + lines < t->rows && t->below[row + lines] > 0)
        lines++;
    return lines;
}

/* Whether the row behind this one goes on with it. */
static bool is_alike(const struct table *t, size_t row, size_t lines, unsigned differ)
{
    size_t next = row + lines;
    if (next >= t->rows || lines_of(t, next) != lines ||
        !text_follows(cell_of(t, row, 0), cell_of(t, next, 0)))
        return false;
    for (size_t i = 1; i < lines * t->columns; i++) {
        bool may = i < t->columns && (differ >> i & 1) != 0;
        if (!may && strcmp(t->cells[row * t->columns + i], t->cells[next * t->columns + i]) != 0)
            return false;
    }
    return true;
}

/* What a column says of `count` rows: the same, a series, or how many. */
static char *cell_of_all(const struct table *t, size_t row, size_t lines, size_t count, size_t column)
{
    const char *first = cell_of(t, row, column);
    const char *last = cell_of(t, row + (count - 1) * lines, column);
    size_t prefix = prefix_of(first, last);
    size_t digits = digits_of(last, strlen(last) - prefix);
    bool same = true;
    bool series = true;
    char *text;
    for (size_t i = 0; i + 1 < count; i++) {
        const char *cell = cell_of(t, row + i * lines, column);
        const char *next = cell_of(t, row + (i + 1) * lines, column);
        same = same && strcmp(cell, next) == 0;
        series = series && prefix_of(cell, next) == prefix && follows(cell, next, prefix);
    }
    int size = same     ? asprintf(&text, "%s", first)
               : series ? asprintf(&text, "%.*s..%s", (int)(strlen(first) - prefix), first,
                                   last + strlen(last) - prefix - digits)
                        : asprintf(&text, "%zu different", count);
    if (size < 0)
        abort();
    return text;
}

void table_fold(struct table *t, unsigned differ)
{
    struct table to = {.columns = t->columns, .plain = t->plain};
    if (!isatty(STDOUT_FILENO))
        return;
    for (size_t row = 0; row < t->rows;) {
        size_t lines = lines_of(t, row);
        size_t count = 1;
        while (row > 0 && is_alike(t, row + (count - 1) * lines, lines, differ))
            count++;
        if (count < SERIES_LEAST)
            count = 1;
        for (size_t c = 0; count > 1 && c < t->columns; c++) {
            char *text = cell_of_all(t, row, lines, count, c);
            free(t->cells[row * t->columns + c]);
            t->cells[row * t->columns + c] = text;
        }
        for (size_t i = 0; i < lines; i++)
            table_add_below(&to, (const char *const *)t->cells + (row + i) * t->columns, t->below[row + i]);
        row += count * lines;
    }
    table_free(t);
    *t = to;
}

/* --- which columns, in which order --------------------------------------------------------------- */

static const struct table *sorted; /* while it is sorted ... */
static const struct table_wish *sorted_by;

static int compare_rows(const void *a, const void *b)
{
    const size_t rows[] = {*(const size_t *)a, *(const size_t *)b};
    for (size_t i = 0; i < sorted_by->sort_count; i++) {
        size_t c = sorted_by->sort[i];
        const char *x = sorted->cells[rows[0] * sorted->columns + c];
        const char *y = sorted->cells[rows[1] * sorted->columns + c];
        int order = strverscmp(x + strspn(x, " "), y + strspn(y, " "));
        if (order != 0)
            return order;
    }
    return rows[0] < rows[1] ? -1 : 1;
}

/* The same table with the columns and the order that are wished; each row says all by itself then. */
static struct table wished(struct table *t, const struct table_wish *wish)
{
    struct table to = {.columns = wish->shown_count > 0 ? wish->shown_count : t->columns};
    size_t *order = calloc(t->rows, sizeof *order);
    if (order == NULL)
        abort();
    for (size_t r = 0; r < t->rows; r++) {
        order[r] = r;
        for (size_t c = 0; c < t->below[r]; c++) {
            char **cell = &t->cells[r * t->columns + c];
            if ((*cell)[0] != '\0')
                continue;
            free(*cell);
            *cell = strdup(t->cells[(r - 1) * t->columns + c]);
            if (*cell == NULL)
                abort();
        }
    }
    sorted = t;
    sorted_by = wish;
    if (wish->sort_count > 0 && t->rows > 1)
        qsort(order + 1, t->rows - 1, sizeof *order, compare_rows);
    for (size_t r = 0; r < t->rows; r++) {
        const char *cells[TABLE_COLUMNS_MAX];
        for (size_t c = 0; c < to.columns; c++) {
            size_t from = wish->shown_count > 0 ? wish->shown[c] : c;
            const char *cell = t->cells[order[r] * t->columns + from];
            cells[c] = cell + strspn(cell, " ");
        }
        table_add(&to, cells);
    }
    free(order);
    table_free(t);
    return to;
}

void table_print_as(struct table *t, const struct table_wish *wish)
{
    if (wish->shown_count + wish->sort_count > 0) {
        struct table to = wished(t, wish);
        table_print(&to);
    } else {
        table_print(t);
    }
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
    static const struct {
        size_t gap;
        bool names;
    } ways[] = {{2, false}, {1, false}, {1, true}};
    size_t natural[TABLE_COLUMNS_MAX];
    size_t gap = 0;
    bool fits = width == 0;
    memcpy(natural, widths, sizeof natural);
    for (size_t i = 0; i < sizeof ways / sizeof ways[0] && !fits; i++) {
        memcpy(widths, natural, sizeof natural);
        gap = ways[i].gap;
        fits = fit_widths(t, widths, gap, width, ways[i].names);
    }
    if (!fits)
        print_blocks(t, colours, width);
    for (size_t r = 0; r < t->rows && fits; r++)
        print_row(t, t->cells + r * t->columns, widths, colours && r > 0, gap);
    table_free(t);
}

void table_free(struct table *t)
{
    for (size_t i = 0; i < t->rows * t->columns; i++)
        free(t->cells[i]);
    free(t->cells);
    free(t->below);
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

void say_labelled(const char *label, size_t columns, const char *text)
{
    printf("%-*s ", (int)columns, label);
    put_wrapped(text, columns + 1, columns + 1, terminal_width());
    putchar('\n');
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

void between_text(uint64_t least, uint64_t most, char *text, size_t cap)
{
    char ends[2][32];
    seconds_text(least, ends[0], sizeof ends[0]);
    seconds_text(most, ends[1], sizeof ends[1]);
    if (most <= least)
        snprintf(text, cap, "%s", ends[0]);
    else if (most < 60)
        snprintf(text, cap, "%u to %s", (unsigned)least, ends[1]);
    else
        snprintf(text, cap, "%s to %s", ends[0], ends[1]);
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
