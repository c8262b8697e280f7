/* Bounded text, numbers and addresses without the C library's printf. */
#ifndef EINBAU_TEXT_H
#define EINBAU_TEXT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* A text being built in the caller's buffer of `cap` bytes.  Always ends with NUL; what does not fit is cut,
 * between two characters of UTF-8, and `cut` is set. */
struct eb_text {
    char *chars;
    size_t cap;
    size_t size; /* bytes without the NUL */
    bool cut;
};

/* An empty text in `cap` bytes. */
void eb_text_init(struct eb_text *text, char *chars, size_t cap);
/* Puts more behind it; what does not fit is left out, at a whole character. */
void eb_text_add(struct eb_text *text, const char *more);
/* The same with a number in decimal. */
void eb_text_add_number(struct eb_text *text, uint64_t number);
/* So many hexadecimal digits, at most 8. */
void eb_text_add_hex(struct eb_text *text, uint32_t number, unsigned digits);

/* Copies `from` to `to` (`cap` bytes, NUL included); false where it had to be cut. */
bool eb_text_copy(char *to, size_t cap, const char *from);

/* Copies `size` bytes that came from outside: ends at the first NUL, blanks at the end are dropped, and every
 * byte that is no part of a character that may be shown (see eb_text_printable) becomes '?', so that no
 * control or escape sequence reaches a terminal or a file.  Cut between characters. */
void eb_text_copy_foreign(char *to, size_t cap, const uint8_t *from, size_t size);

/* Whether a text may be shown: it is valid UTF-8 (RFC 3629) without control characters (U+0000 to U+001F,
 * U+007F to U+009F), without such as turn the direction of writing, and without such as take no place. */
bool eb_text_printable(const char *text);

/* Reads a decimal number of 1 to `max_digits` digits that fills the whole of `size` characters. */
bool eb_text_number(const char *chars, size_t size, uint64_t *number);

/* Reads up to 8 hexadecimal digits that fill the whole text. */
bool eb_text_hex32(const char *chars, uint32_t *number);

/* How many characters must be put in, taken out, changed, or swapped with the next to make `b` of `a`, upper
 * and lower case of ASCII letters being the same (optimal string alignment); UINT_MAX where `b` has more
 * than 63. */
unsigned eb_text_distance(const char *a, const char *b);

/* The nearest of several words to one that was mistyped.  The texts stay the caller's. */
struct eb_nearest {
    const char *word, *best; /* `best` NULL: all offered so far are too far off to be meant */
    unsigned least;
};
/* Begins with the word as it was typed. */
struct eb_nearest eb_nearest_begin(const char *word);
/* Offers one that could be meant: the first of those with the least distance stays, unless it differs in more
 * than a third of the typed word's characters, or in more than three. */
void eb_nearest_offer(struct eb_nearest *nearest, const char *candidate);

enum { EB_NEAREST_BYTES = 96 }; /* enough for a word of 63 characters */
/* "; did you mean 'x'?" for the end of a message, or nothing. */
const char *eb_nearest_text(const struct eb_nearest *nearest, char text[EB_NEAREST_BYTES]);

/* Whether `text` matches `pattern`: '*' stands for any characters, '?' for exactly one, all others for
 * themselves, upper and lower case being different.  Linear in both sizes for one '*', never recursive. */
bool eb_pattern_matches(const char *pattern, const char *text);

#ifdef __cplusplus
}
#endif

#endif
