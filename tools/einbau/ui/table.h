/* Tables, colours and sentences on stdout. */
#ifndef TOOL_TABLE_H
#define TOOL_TABLE_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { TABLE_COLUMNS_MAX = 10 };

/* Which columns are shown, in which order, and by which the rows are sorted; nothing: as they come. */
struct table_wish {
    size_t shown[TABLE_COLUMNS_MAX], sort[TABLE_COLUMNS_MAX];
    size_t shown_count, sort_count;
};

/* A table whose columns are as wide as what they hold; on a terminal that is narrower, cells are broken
 * within their columns, and where that is not enough, each row becomes a block of lines. */
struct table {
    size_t columns;
    size_t
        plain; /* the first so many columns are values, whose words mean nothing by themselves: no colours */
    size_t rows, cap;
    char **cells;
    size_t *below; /* of each row: so many cells at its beginning, where they are empty, are as in the one
                      above */
};

void table_begin(struct table *table, size_t columns, const char *const *heads);
void table_add(struct table *table, const char *const *cells);
/* Of its first `same` cells the empty ones are as above; an empty one behind them is empty. */
void table_add_below(struct table *table, const char *const *cells, size_t same);
/* On a terminal: three or more rows whose first cells are a numbered series, and whose others are equal,
 * become one; the cells of the columns that are bits of `differ` may be unlike. */
void table_fold(struct table *table, unsigned differ);
void table_print(struct table *table); /* and frees it */
void table_print_as(struct table *table, const struct table_wish *wish);
void table_free(struct table *table);

/* Whether `fd` is a terminal that may have colours. */
bool colours_on(int fd);

/* `word` in the colour of what it means, where stdout takes colours; padded to `width`. */
enum { PAINTED_BYTES = 64 };
const char *painted(const char *word, size_t width, char text[PAINTED_BYTES]);

/* "1.4 MB", "230 kB", "900 B" */
void bytes_text(uint64_t bytes, char *text, size_t cap);
/* "1 min 20 s", "45 s" */
void seconds_text(uint64_t seconds, char *text, size_t cap);
/* "38 to 57 s", "50 s to 1 min 15 s"; as above where both are the same */
void between_text(uint64_t least, uint64_t most, char *text, size_t cap);

/* Whether the number at the end of `next` is one higher, and all before it is the same: door-01, door-02. */
bool text_follows(const char *text, const char *next);
enum { SERIES_LEAST = 3 }; /* so many in a row become "door-01..door-03" */

/* Cuts a text to so many columns of a terminal, between characters. */
void cut_to_columns(char *text, size_t columns);

enum { SENTENCE_BYTES = 1024 };
/* Prints a sentence on a line of its own, broken between words where the terminal is narrow. */
__attribute__((format(printf, 1, 2))) void say(const char *format, ...);

/* A text behind its label, which takes so many columns; further lines of it begin below its first word. */
void say_labelled(const char *label, size_t columns, const char *text);

void print_document(json_t *root); /* JSON; and frees it */
void print_line(json_t *event);    /* the same in one line, at once */

#endif
