#include "einbau/text.h"

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

bool eb_text_copy(char *to, size_t cap, const char *from)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    eb_text_add(&text, from);
    return !text.cut;
}

void eb_text_copy_foreign(char *to, size_t cap, const uint8_t *from, size_t size)
{
    size_t n = 0;
    while (n < size && n < cap - 1 && from[n] != 0) {
        to[n] = from[n] >= 0x20 && from[n] < 0x7F ? (char)from[n] : '?';
        n++;
    }
    while (n > 0 && to[n - 1] == ' ')
        n--;
    to[n] = '\0';
}

bool eb_text_printable(const char *text)
{
    for (const unsigned char *c = (const unsigned char *)text; *c != '\0'; c++) {
        bool c1 = c[0] == 0xC2 && c[1] >= 0x80 && c[1] <= 0x9F;
        if (*c < 0x20 || *c == 0x7F || c1)
            return false;
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
