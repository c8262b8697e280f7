#include "einbau/text.h"

#include <limits.h>
#include <string.h>

void eb_text_init(struct eb_text *text, char *chars, size_t cap)
{
    text->chars = chars;
    text->cap = cap;
    text->size = 0;
    text->cut = false;
    chars[0] = '\0';
}

void eb_text_add(struct eb_text *text, const char *more)
{
    size_t size = strlen(more);
    size_t room = text->cap - 1 - text->size;
    if (size > room) {
        size = room;
        text->cut = true;
        while (size > 0 && ((unsigned char)more[size] & 0xC0) == 0x80) /* no part of a character */
            size--;
    }
    memcpy(text->chars + text->size, more, size);
    text->size += size;
    text->chars[text->size] = '\0';
}

void eb_text_add_number(struct eb_text *text, uint64_t number)
{
    char digits[21];
    size_t at = sizeof digits - 1;
    digits[at] = '\0';
    do {
        digits[--at] = (char)('0' + number % 10);
        number /= 10;
    } while (number > 0);
    eb_text_add(text, digits + at);
}

void eb_text_add_hex(struct eb_text *text, uint32_t number, unsigned digits)
{
    static const char hex[] = "0123456789ABCDEF";
    while (digits-- > 0) {
        const char digit[2] = {hex[number >> 4 * digits & 15], '\0'};
        eb_text_add(text, digit);
    }
}

bool eb_text_copy(char *to, size_t cap, const char *from)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    eb_text_add(&text, from);
    return !text.cut;
}

/* --- what may be shown --------------------------------------------------------------------------- */

/* Characters that no terminal or page should get from outside: controls, such as end a line elsewhere, such
 * as turn the direction of writing (Unicode Standard Annex 9), and such as take no place. */
static const struct {
    uint32_t first, last;
} hidden[] = {
    {0x0000, 0x001F},   {0x007F, 0x009F}, {0x00AD, 0x00AD}, {0x034F, 0x034F}, {0x061C, 0x061C},
    {0x115F, 0x1160},   {0x17B4, 0x17B5}, {0x180B, 0x180F}, {0x200B, 0x200F}, {0x2028, 0x202E},
    {0x2060, 0x206F},   {0x3164, 0x3164}, {0xD800, 0xDFFF}, {0xFDD0, 0xFDEF}, {0xFE00, 0xFE0F},
    {0xFEFF, 0xFEFF},   {0xFFA0, 0xFFA0}, {0xFFF0, 0xFFFB}, {0xFFFE, 0xFFFF}, {0x1D173, 0x1D17A},
    {0xE0000, 0xE0FFF},
};

/* The bytes of the one character at `from`, of at most `size` bytes, where it is valid UTF-8 (RFC 3629) and
 * may be shown; else 0. */
static size_t shown_character(const uint8_t *from, size_t size)
{
    static const uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
    uint8_t head = from[0];
    size_t length = head < 0x80 ? 1 : head >= 0xC2 && head < 0xE0 ? 2 : head >= 0xE0 && head < 0xF0 ? 3 : 4;
    if (length > size || (head >= 0x80 && head < 0xC2) || head > 0xF4)
        return 0;
    uint32_t code = length == 1 ? head : head & (0x7FU >> length);
    for (size_t i = 1; i < length; i++) {
        if ((from[i] & 0xC0) != 0x80)
            return 0;
        code = code << 6 | (from[i] & 0x3F);
    }
    if (code < least[length] || code > 0x10FFFF)
        return 0;
    for (size_t i = 0; i < sizeof hidden / sizeof hidden[0]; i++) {
        if (code >= hidden[i].first && code <= hidden[i].last)
            return 0;
    }
    return length;
}

void eb_text_copy_foreign(char *to, size_t cap, const uint8_t *from, size_t size)
{
    size_t n = 0;
    for (size_t at = 0; at < size && from[at] != 0;) {
        size_t length = shown_character(from + at, size - at);
        if (n + (length > 0 ? length : 1) > cap - 1)
            break;
        if (length > 0)
            memcpy(to + n, from + at, length);
        else
            to[n] = '?';
        n += length > 0 ? length : 1;
        at += length > 0 ? length : 1;
    }
    while (n > 0 && to[n - 1] == ' ')
        n--;
    to[n] = '\0';
}

bool eb_text_printable(const char *text)
{
    size_t size = strlen(text);
    for (size_t at = 0; at < size;) {
        bool plain = text[at] >= ' ' && text[at] <= '~'; /* most are */
        size_t length = plain ? 1 : shown_character((const uint8_t *)text + at, size - at);
        if (length == 0)
            return false;
        at += length;
    }
    return true;
}

bool eb_text_number(const char *chars, size_t size, uint64_t *number)
{
    uint64_t value = 0;
    if (size == 0 || size > 19)
        return false;
    for (size_t i = 0; i < size; i++) {
        if (chars[i] < '0' || chars[i] > '9')
            return false;
        value = value * 10 + (uint64_t)(chars[i] - '0');
    }
    *number = value;
    return true;
}

bool eb_text_hex32(const char *chars, uint32_t *number)
{
    uint32_t value = 0;
    size_t size = strlen(chars);
    if (size == 0 || size > 8)
        return false;
    for (size_t i = 0; i < size; i++) {
        char c = chars[i];
        uint32_t digit;
        if (c >= '0' && c <= '9')
            digit = (uint32_t)(c - '0');
        else if (c >= 'a' && c <= 'f')
            digit = (uint32_t)(c - 'a' + 10);
        else if (c >= 'A' && c <= 'F')
            digit = (uint32_t)(c - 'A' + 10);
        else
            return false;
        value = value << 4 | digit;
    }
    *number = value;
    return true;
}

bool eb_pattern_matches(const char *pattern, const char *text)
{
    const char *star = NULL; /* the last '*' seen, and how far of the text it has swallowed */
    const char *swallowed = NULL;
    while (*text != '\0') {
        if (*pattern == '*') {
            star = pattern++;
            swallowed = text;
        } else if (*pattern == '?' || *pattern == *text) {
            pattern++;
            text++;
        } else if (star != NULL) {
            pattern = star + 1;
            text = ++swallowed;
        } else {
            return false;
        }
    }
    while (*pattern == '*')
        pattern++;
    return *pattern == '\0';
}

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c + 32) : c;
}

static unsigned least_of(unsigned a, unsigned b)
{
    return a < b ? a : b;
}

unsigned eb_text_distance(const char *a, const char *b)
{
    enum { WORD_MAX = 63 };
    unsigned rows[3][WORD_MAX + 1]; /* of the last three characters of `a` */
    size_t size = strlen(b);
    size_t i;
    if (size > WORD_MAX)
        return UINT_MAX;
    for (size_t k = 0; k <= size; k++)
        rows[0][k] = (unsigned)k;
    for (i = 0; a[i] != '\0'; i++) {
        const unsigned *before = rows[(i + 2) % 3];
        const unsigned *above = rows[i % 3];
        unsigned *row = rows[(i + 1) % 3];
        row[0] = (unsigned)i + 1;
        for (size_t k = 1; k <= size; k++) {
            bool same = lower(a[i]) == lower(b[k - 1]);
            row[k] = least_of(above[k - 1] + !same, least_of(above[k], row[k - 1]) + 1);
            if (i > 0 && k > 1 && lower(a[i]) == lower(b[k - 2]) && lower(a[i - 1]) == lower(b[k - 1]))
                row[k] = least_of(row[k], before[k - 2] + 1);
        }
    }
    return rows[i % 3][size];
}

struct eb_nearest eb_nearest_begin(const char *word)
{
    size_t size = strlen(word);
    unsigned third = size > 9 ? 3 : (unsigned)((size + 2) / 3);
    return (struct eb_nearest){.word = word, .least = third + 1};
}

void eb_nearest_offer(struct eb_nearest *nearest, const char *candidate)
{
    unsigned differs = eb_text_distance(nearest->word, candidate);
    if (differs < nearest->least) {
        nearest->least = differs;
        nearest->best = candidate;
    }
}

const char *eb_nearest_text(const struct eb_nearest *nearest, char text[EB_NEAREST_BYTES])
{
    struct eb_text to;
    eb_text_init(&to, text, EB_NEAREST_BYTES);
    if (nearest->best != NULL) {
        eb_text_add(&to, "; did you mean '");
        eb_text_add(&to, nearest->best);
        eb_text_add(&to, "'?");
    }
    return text;
}
