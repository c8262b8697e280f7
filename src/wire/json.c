#include "einbau/document.h"

#include <string.h>

/* What may come next.
 *
 *   VALUE --{--> KEY_OR_END --"--> KEY --"--> COLON --:--> VALUE ... AFTER --,--> KEY_BEFORE
 *         --[--> VALUE_OR_END ................................. AFTER --,--> VALUE
 *         --"--> TEXT <--> ESCAPE, ESCAPE_CODE        --digit--> NUMBER        --t f n--> LITERAL
 */
enum state {
    VALUE,
    VALUE_OR_END,
    KEY_OR_END,
    KEY_BEFORE,
    KEY,
    KEY_ESCAPE,
    KEY_CODE,
    COLON,
    TEXT,
    ESCAPE,
    ESCAPE_CODE,
    NUMBER,
    LITERAL,
    AFTER
};

void eb_json_begin(struct eb_json *j, char *text, size_t cap,
                   void (*value)(void *context, const char *pointer, const char *text, bool cut),
                   void *context)
{
    memset(j, 0, sizeof *j);
    j->text = text;
    j->cap = cap;
    j->value = value;
    j->context = context;
    j->state = VALUE;
}

static void fail(struct eb_json *j)
{
    j->failed = true;
}

static bool is_blank(char c)
{
    return c == ' ' || c == '\t' || c == '\n' || c == '\r';
}

/* --- the path ------------------------------------------------------------------------------------------ */

static void path_add(struct eb_json *j, char c)
{
    if (j->path_size + 1U < EB_JSON_PATH_BYTES)
        j->path[j->path_size++] = c;
    else
        j->path_lost = true;
    j->path[j->path_size] = '\0';
}

/* RFC 6901 section 3: '~' and '/' in names are written as ~0 and ~1. */
static void path_add_name(struct eb_json *j, char c)
{
    if (c == '~' || c == '/') {
        path_add(j, '~');
        c = c == '~' ? '0' : '1';
    }
    path_add(j, c);
}

static void path_cut(struct eb_json *j)
{
    j->path_size = j->depth > 0 ? j->levels[j->depth - 1].path_size : 0;
    j->path[j->path_size] = '\0';
    if (j->path_size + 1U < EB_JSON_PATH_BYTES)
        j->path_lost = false;
}

static void path_index(struct eb_json *j)
{
    char digits[10];
    size_t count = 0;
    uint32_t index = j->levels[j->depth - 1].index;
    path_cut(j);
    path_add(j, '/');
    do {
        digits[count++] = (char)('0' + index % 10);
        index /= 10;
    } while (index > 0);
    while (count > 0)
        path_add(j, digits[--count]);
}

/* --- values -------------------------------------------------------------------------------------------- */

static void text_begin(struct eb_json *j, enum state state)
{
    j->size = 0;
    j->cut = false;
    j->high = 0;
    j->state = (uint8_t)state;
}

static void text_add(struct eb_json *j, char c)
{
    if (j->size + 1 < j->cap)
        j->text[j->size++] = c;
    else
        j->cut = true;
}

static void add(struct eb_json *j, char c)
{
    if (j->state == KEY || j->state == KEY_ESCAPE || j->state == KEY_CODE)
        path_add_name(j, c);
    else
        text_add(j, c);
}

/* A code point as UTF-8 (RFC 3629). */
static void add_code(struct eb_json *j, uint32_t code)
{
    if (code < 0x80) {
        add(j, (char)code);
    } else if (code < 0x800) {
        add(j, (char)(0xC0 | code >> 6));
        add(j, (char)(0x80 | (code & 0x3F)));
    } else if (code < 0x10000) {
        add(j, (char)(0xE0 | code >> 12));
        add(j, (char)(0x80 | (code >> 6 & 0x3F)));
        add(j, (char)(0x80 | (code & 0x3F)));
    } else {
        add(j, (char)(0xF0 | code >> 18));
        add(j, (char)(0x80 | (code >> 12 & 0x3F)));
        add(j, (char)(0x80 | (code >> 6 & 0x3F)));
        add(j, (char)(0x80 | (code & 0x3F)));
    }
}

static void after_value(struct eb_json *j)
{
    path_cut(j);
    j->state = AFTER;
    j->whole = j->depth == 0;
}

static void tell(struct eb_json *j)
{
    j->text[j->size] = '\0';
    if (!j->path_lost)
        j->value(j->context, j->path, j->text, j->cut);
    after_value(j);
}

static void open(struct eb_json *j, bool object)
{
    if (j->depth == EB_JSON_DEPTH_MAX) {
        fail(j);
        return;
    }
    j->levels[j->depth].object = object;
    j->levels[j->depth].path_size = j->path_size;
    j->levels[j->depth].index = 0;
    j->depth++;
    j->state = object ? KEY_OR_END : VALUE_OR_END;
    if (!object)
        path_index(j);
}

static void shut(struct eb_json *j, bool object)
{
    if (j->depth == 0 || j->levels[j->depth - 1].object != object) {
        fail(j);
        return;
    }
    j->depth--;
    j->path_size = j->levels[j->depth].path_size;
    after_value(j);
}

static const char *const literals[] = {"true", "false", "null"};

static void begin_value(struct eb_json *j, char c)
{
    if (c == '{' || c == '[') {
        open(j, c == '{');
    } else if (c == '"') {
        text_begin(j, TEXT);
    } else if (c == '-' || (c >= '0' && c <= '9')) {
        text_begin(j, NUMBER);
        text_add(j, c);
    } else if (c == 't' || c == 'f' || c == 'n') {
        text_begin(j, LITERAL);
        j->literal = c == 't' ? 0 : c == 'f' ? 1 : 2;
        text_add(j, c);
    } else {
        fail(j);
    }
}

static void take_literal(struct eb_json *j, char c)
{
    const char *word = literals[j->literal];
    if (c != word[j->size]) {
        fail(j);
        return;
    }
    text_add(j, c);
    if (j->cut || word[j->size] == '\0')
        tell(j);
}

/* --- escapes (RFC 8259 section 7) ----------------------------------------------------------------------- */

static void take_escape(struct eb_json *j, char c, enum state back, enum state code)
{
    static const char from[] = "\"\\/bfnrt";
    static const char to[] = "\"\\/\b\f\n\r\t";
    const char *at = c != '\0' ? strchr(from, c) : NULL;
    if (c == 'u') {
        j->code = 0;
        j->escape_digits = 0;
        j->state = (uint8_t)code;
    } else if (at != NULL) {
        add(j, to[at - from]);
        j->state = (uint8_t)back;
    } else {
        fail(j);
    }
}

static void take_code(struct eb_json *j, char c, enum state back)
{
    unsigned digit = c >= '0' && c <= '9'   ? (unsigned)(c - '0')
                     : c >= 'a' && c <= 'f' ? (unsigned)(c - 'a' + 10)
                     : c >= 'A' && c <= 'F' ? (unsigned)(c - 'A' + 10)
                                            : 16;
    if (digit == 16) {
        fail(j);
        return;
    }
    j->code = (uint16_t)((unsigned)j->code << 4 | (unsigned)digit);
    if (++j->escape_digits < 4)
        return;
    bool low = j->code >= 0xDC00 && j->code < 0xE000;
    if (j->code >= 0xD800 && j->code < 0xDC00) {
        j->high = j->code;
    } else if (low && j->high != 0) {
        add_code(j, 0x10000 + ((uint32_t)(j->high - 0xD800) << 10) + (uint32_t)(j->code - 0xDC00));
        j->high = 0;
    } else {
        add_code(j, low ? 0xFFFD : j->code);
    }
    j->state = (uint8_t)back;
}

/* --- characters ------------------------------------------------------------------------------------------
 */

static void take_after(struct eb_json *j, char c)
{
    bool object = j->depth > 0 && j->levels[j->depth - 1].object;
    if (c == '}' || c == ']') {
        shut(j, c == '}');
    } else if (c == ',' && j->depth > 0) {
        j->levels[j->depth - 1].index++;
        j->state = object ? KEY_BEFORE : VALUE;
        if (!object)
            path_index(j);
    } else {
        fail(j);
    }
}

static void take(struct eb_json *j, char c)
{
    switch ((enum state)j->state) {
    case NUMBER:
        if ((c >= '0' && c <= '9') || c == '.' || c == 'e' || c == 'E' || c == '+' || c == '-') {
            text_add(j, c);
            return;
        }
        tell(j);
        if (!is_blank(c))
            take_after(j, c);
        return;
    case TEXT:
    case KEY:
        if ((unsigned char)c < 0x20)
            fail(j);
        else if (c == '\\')
            j->state = j->state == TEXT ? ESCAPE : KEY_ESCAPE;
        else if (c != '"')
            add(j, c);
        else if (j->state == TEXT)
            tell(j);
        else
            j->state = COLON;
        return;
    case ESCAPE:
        take_escape(j, c, TEXT, ESCAPE_CODE);
        return;
    case KEY_ESCAPE:
        take_escape(j, c, KEY, KEY_CODE);
        return;
    case ESCAPE_CODE:
        take_code(j, c, TEXT);
        return;
    case KEY_CODE:
        take_code(j, c, KEY);
        return;
    case LITERAL:
        take_literal(j, c);
        return;
    default:
        break;
    }
    if (is_blank(c))
        return;
    if (j->state == VALUE_OR_END && c == ']') {
        shut(j, false);
    } else if (j->state == VALUE || j->state == VALUE_OR_END) {
        begin_value(j, c);
    } else if (j->state == KEY_OR_END && c == '}') {
        shut(j, true);
    } else if ((j->state == KEY_OR_END || j->state == KEY_BEFORE) && c == '"') {
        path_cut(j);
        path_add(j, '/');
        j->high = 0;
        j->state = KEY;
    } else if (j->state == COLON && c == ':') {
        j->state = VALUE;
    } else if (j->state == AFTER) {
        take_after(j, c);
    } else {
        fail(j);
    }
}

void eb_json_take(struct eb_json *j, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i < size && !j->failed; i++)
        take(j, (char)bytes[i]);
}

bool eb_json_end(struct eb_json *j)
{
    if (!j->failed && j->state == NUMBER)
        tell(j);
    j->failed = j->failed || !j->whole;
    return !j->failed;
}
