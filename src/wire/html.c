#include "einbau/document.h"

#include <string.h>

static bool is_blank(char c)
{
    return c == ' ' || c == '\t' || c == '\n' || c == '\r';
}

/* --- marks -----------------------------------------------------------------------------------------------
 */

void eb_mark_begin(struct eb_mark_reader *r, const char *mark, const char *until, char *text, size_t cap)
{
    *r = (struct eb_mark_reader){
        .mark = mark, .until = until != NULL ? until : "<\"", .text = text, .cap = cap};
    r->found = mark[0] == '\0';
    text[0] = '\0';
}

/* How much of the mark is matched once `c` came, `matched` before: the longest beginning of it that is the
 * end of what was read. */
static size_t matched_with(const char *mark, size_t matched, char c)
{
    for (;;) {
        if (mark[matched] == c)
            return matched + 1;
        if (matched == 0)
            return 0;
        size_t shorter = matched - 1;
        while (shorter > 0 && memcmp(mark, mark + matched - shorter, shorter) != 0)
            shorter--;
        matched = shorter;
    }
}

void eb_mark_end(struct eb_mark_reader *r)
{
    while (r->size > 0 && is_blank(r->text[r->size - 1]))
        r->size--;
    r->text[r->size] = '\0';
    r->done = true;
}

void eb_mark_take(struct eb_mark_reader *r, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i < size && !r->done; i++) {
        char c = (char)bytes[i];
        if (!r->found) {
            r->matched = matched_with(r->mark, r->matched, c);
            r->found = r->mark[r->matched] == '\0';
        } else if (r->size == 0 &&
                   (is_blank(c) || (r->mark[0] != '\0' && (unsigned char)c < ' '))) { /* what fills up, too */
            continue;
        } else if ((unsigned char)c < 0x20 || strchr(r->until, c) != NULL) {
            eb_mark_end(r);
        } else if (r->size + 1 < r->cap) {
            r->text[r->size++] = c;
        } else {
            r->size = 0; /* half a text is none */
            eb_mark_end(r);
        }
    }
}

/* --- inputs of forms --------------------------------------------------------------------------------------
 */

void eb_input_begin(struct eb_input_reader *r, const char *name, char *text, size_t cap)
{
    memset(r, 0, sizeof *r);
    r->name = name;
    r->text = text;
    r->cap = cap;
    text[0] = '\0';
}

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c - 'A' + 'a') : c;
}

static bool is_word(const char *at, size_t size, const char *word)
{
    for (size_t i = 0; i < size; i++) {
        if (word[i] == '\0' || lower(at[i]) != word[i])
            return false;
    }
    return word[size] == '\0';
}

/* The attribute's text where it stands in the tag; NULL: it has none of that name. */
static const char *attribute(const char *tag, const char *name, size_t *size)
{
    const char *at = tag;
    while (*at != '\0') {
        while (*at != '\0' && (is_blank(*at) || *at == '/'))
            at++;
        const char *word = at;
        while (*at != '\0' && !is_blank(*at) && *at != '=' && *at != '/')
            at++;
        size_t length = (size_t)(at - word);
        while (is_blank(*at))
            at++;
        if (*at != '=') {
            if (length == 0 && *at != '\0')
                at++;
            continue;
        }
        do
            at++;
        while (is_blank(*at));
        char quote = *at == '"' || *at == '\'' ? *at++ : '\0';
        const char *text = at;
        while (*at != '\0' && (quote != '\0' ? *at != quote : !is_blank(*at)))
            at++;
        if (is_word(word, length, name)) {
            *size = (size_t)(at - text);
            return text;
        }
        at += *at != '\0' && quote != '\0' ? 1 : 0;
    }
    return NULL;
}

/* "&amp;" and the like, and numbers below 128; `*used` characters of the tag are one of the text. */
static char character(const char *at, size_t size, size_t *used)
{
    static const struct {
        const char *name;
        char c;
    } names[] = {{"&amp;", '&'}, {"&quot;", '"'}, {"&lt;", '<'}, {"&gt;", '>'}};
    *used = 1;
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        size_t length = strlen(names[i].name);
        if (size >= length && memcmp(at, names[i].name, length) == 0) {
            *used = length;
            return names[i].c;
        }
    }
    if (size < 4 || at[0] != '&' || at[1] != '#')
        return at[0];
    bool hex = lower(at[2]) == 'x';
    unsigned number = 0;
    size_t i = hex ? 3 : 2;
    for (; i < size && at[i] != ';' && number < 128; i++) {
        char c = lower(at[i]);
        unsigned digit = c >= '0' && c <= '9' ? (unsigned)(c - '0') : (unsigned)(c - 'a' + 10);
        if (digit >= (hex ? 16U : 10U))
            return at[0];
        number = number * (hex ? 16 : 10) + digit;
    }
    if (i == size || at[i] != ';' || number == 0 || number >= 128)
        return at[0];
    *used = i + 1;
    return (char)number;
}

static void judge_tag(struct eb_input_reader *r)
{
    size_t size;
    r->tag[r->size] = '\0';
    if (!is_word(r->tag, strcspn(r->tag, " \t\r\n/"), "input"))
        return;
    const char *name = attribute(r->tag + 5, "name", &size);
    if (name == NULL || size != strlen(r->name) || memcmp(name, r->name, size) != 0)
        return;
    r->done = true;
    const char *value = attribute(r->tag + 5, "value", &size);
    size_t length = 0;
    for (size_t i = 0; value != NULL && i < size;) {
        size_t used;
        char c = character(value + i, size - i, &used);
        i += used;
        if (length + 1 == r->cap || (unsigned char)c < 0x20) {
            length = 0; /* half a token is none */
            break;
        }
        r->text[length++] = c;
    }
    r->text[length] = '\0';
}

void eb_input_take(struct eb_input_reader *r, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i < size && !r->done; i++) {
        char c = (char)bytes[i];
        if (c == '<') {
            r->in_tag = true;
            r->size = 0;
        } else if (r->in_tag && c == '>') {
            r->in_tag = false;
            judge_tag(r);
        } else if (r->in_tag && (r->size + 1 == EB_TAG_BYTES || c == '\0')) {
            r->in_tag = false;
        } else if (r->in_tag) {
            r->tag[r->size++] = c;
        }
    }
}
