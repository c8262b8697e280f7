/* Values of settings, as people type them and as devices keep them. */
#include "einbau/settings.h"
#include "einbau/einbau.h"
#include "setting_number.h"

#include <ctype.h>
#include <errno.h>
#include <inttypes.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

static const char value_mark[] = "{value}";

static bool wrong(struct eb_problem *problem, const struct eb_setting *s, const char *typed)
{
    char range[256];
    eb_setting_range(s, range, sizeof range);
    snprintf(problem->text, sizeof problem->text, "%s: found '%s', expected %s", s->at->name, typed, range);
    return false;
}

/* --- numbers --------------------------------------------------------------------------------------- */

static int64_t scale_of(const struct eb_setting *s)
{
    int64_t scale = 1;
    for (unsigned i = 0; i < s->decimals; i++)
        scale *= 10;
    return scale;
}

static void number_text(const struct eb_setting *s, int64_t number, char *text, size_t cap)
{
    int64_t scale = scale_of(s);
    uint64_t size = number < 0 ? 0 - (uint64_t)number : (uint64_t)number;
    int at = snprintf(text, cap, "%s%" PRIu64, number < 0 ? "-" : "", size / (uint64_t)scale);
    if (s->decimals > 0 && at > 0 && (size_t)at < cap)
        snprintf(text + at, cap - (size_t)at, ".%0*" PRIu64, s->decimals % 10, size % (uint64_t)scale);
}

bool ebi_setting_number(const struct eb_setting *s, const char *text, int64_t *number)
{
    bool negative = *text == '-';
    const char *c = text + (*text == '-' || *text == '+');
    int64_t sum = 0;
    unsigned digits = 0;
    int behind = -1; /* digits behind the point */
    for (; *c != '\0'; c++) {
        if (*c == '.' && behind < 0) {
            behind = 0;
            continue;
        }
        if (*c < '0' || *c > '9')
            return false;
        if (behind >= s->decimals && *c == '0' && behind >= 0)
            continue; /* "3.50" */
        if (++digits > 17 || behind >= s->decimals)
            return false;
        sum = 10 * sum + (*c - '0');
        behind += behind >= 0;
    }
    for (int i = behind < 0 ? 0 : behind; i < s->decimals; i++)
        sum *= 10;
    *number = negative ? -sum : sum;
    return digits > 0;
}

/* --- times ----------------------------------------------------------------------------------------- */

static bool read_time(const char *text, time_t *seconds)
{
    struct tm parts;
    memset(&parts, 0, sizeof parts);
    const char *end = strptime(text, "%Y-%m-%dT%H:%M:%S", &parts);
    if (end == NULL)
        return false;
    if (*end == '.') /* parts of a second */
        end += 1 + strspn(end + 1, "0123456789");
    *seconds = timegm(&parts);
    return strcmp(end, "Z") == 0 || strcmp(end, "+00:00") == 0;
}

static void time_text(time_t seconds, char *text, size_t cap)
{
    struct tm parts;
    if (gmtime_r(&seconds, &parts) == NULL || strftime(text, cap, "%Y-%m-%dT%H:%M:%SZ", &parts) == 0)
        text[0] = '\0';
}

bool eb_setting_same(const struct eb_setting *s, const char *wanted, const char *is, unsigned seconds)
{
    enum { INEXACT_S = 5 };
    time_t from;
    time_t to;
    if (s->kind != EB_SETTING_TIME || !read_time(wanted, &from) || !read_time(is, &to))
        return strcmp(wanted, is) == 0;
    return to - from >= -INEXACT_S && to - from <= (time_t)seconds + INEXACT_S;
}

/* --- what a person types ---------------------------------------------------------------------------- */

static bool take_text(const struct eb_setting *s, const char *typed, char text[EB_SETTING_BYTES],
                      struct eb_problem *problem)
{
    size_t characters = 0;
    for (const char *c = typed; *c != '\0'; c++)
        characters += (*c & 0xC0) != 0x80;
    if (!eb_text_printable(typed) || !eb_text_copy(text, EB_SETTING_BYTES, typed) ||
        (s->has_range && (characters > (size_t)s->most || characters < (size_t)s->least)))
        return wrong(problem, s, typed);
    return true;
}

bool eb_setting_take(const struct eb_setting *s, const char *typed, char text[EB_SETTING_BYTES],
                     struct eb_problem *problem)
{
    int64_t number;
    struct eb_endpoint endpoint = {.port = 0};
    char plain[EB_ENDPOINT_TEXT_BYTES];
    time_t seconds;
    text[0] = '\0';
    switch (s->kind) {
    case EB_SETTING_TEXT:
        return take_text(s, typed, text, problem);
    case EB_SETTING_NUMBER:
        if (!ebi_setting_number(s, typed, &number) ||
            (s->has_range && (number < s->least || number > s->most)))
            return wrong(problem, s, typed);
        number_text(s, number, text, EB_SETTING_BYTES);
        return true;
    case EB_SETTING_YES:
        if (strcmp(typed, "yes") != 0 && strcmp(typed, "no") != 0)
            return wrong(problem, s, typed);
        return eb_text_copy(text, EB_SETTING_BYTES, typed);
    case EB_SETTING_CHOICE:
        for (size_t i = 0; i < s->choices.count; i++) {
            if (strcmp(s->choices.list[i].name, typed) == 0)
                return eb_text_copy(text, EB_SETTING_BYTES, typed);
        }
        return wrong(problem, s, typed);
    case EB_SETTING_ADDRESS:
        if (!eb_endpoint_parse(&endpoint, typed) || endpoint.port != 0)
            return wrong(problem, s, typed);
        eb_endpoint_text(&endpoint, false, plain);
        return eb_text_copy(text, EB_SETTING_BYTES, plain);
    case EB_SETTING_TIME:
        if (strcmp(typed, "now") == 0)
            seconds = time(NULL);
        else if (!read_time(typed, &seconds))
            return wrong(problem, s, typed);
        time_text(seconds, text, EB_SETTING_BYTES);
        return true;
    }
    return false;
}

void eb_setting_range(const struct eb_setting *s, char *text, size_t cap)
{
    char least[32];
    char most[32];
    const char *unit = s->unit != NULL ? s->unit : "";
    number_text(s, s->least, least, sizeof least);
    number_text(s, s->most, most, sizeof most);
    text[0] = '\0';
    switch (s->kind) {
    case EB_SETTING_NUMBER:
        if (s->has_range)
            snprintf(text, cap, "%s to %s%s%s", least, most, unit[0] != '\0' ? " " : "", unit);
        else if (s->decimals > 0)
            snprintf(text, cap, "a number with %u decimal%s", s->decimals, s->decimals == 1 ? "" : "s");
        else
            snprintf(text, cap, "a whole number");
        break;
    case EB_SETTING_TEXT:
        if (s->has_range)
            snprintf(text, cap, "up to %" PRId64 " characters", s->most);
        else
            snprintf(text, cap, "a text");
        break;
    case EB_SETTING_YES:
        snprintf(text, cap, "yes or no");
        break;
    case EB_SETTING_CHOICE:
        snprintf(text, cap, "one of: ");
        for (size_t i = 0; i < s->choices.count; i++)
            snprintf(text + strlen(text), cap - strlen(text), "%s%s", i > 0 ? ", " : "",
                     s->choices.list[i].name);
        break;
    case EB_SETTING_ADDRESS:
        snprintf(text, cap, "an IPv4 address");
        break;
    case EB_SETTING_TIME:
        snprintf(text, cap, "a time like 2026-11-30T08:15:00Z, or now");
        break;
    }
}

/* --- what the device keeps --------------------------------------------------------------------------- */

/* A value as the device's own text, to what a person sees. */
static bool from_characters(const struct eb_setting *s, const char *kept, char text[EB_SETTING_BYTES])
{
    int64_t number;
    struct eb_problem unused = {.text = ""};
    time_t seconds;
    switch (s->kind) {
    case EB_SETTING_NUMBER: /* also one that is out of range now */
        if (!ebi_setting_number(s, kept, &number))
            return false;
        number_text(s, number, text, EB_SETTING_BYTES);
        return true;
    case EB_SETTING_YES:
        if (strcmp(kept, "true") == 0 || strcmp(kept, "1") == 0 || strcmp(kept, "yes") == 0)
            return eb_text_copy(text, EB_SETTING_BYTES, "yes");
        if (strcmp(kept, "false") == 0 || strcmp(kept, "0") == 0 || strcmp(kept, "no") == 0)
            return eb_text_copy(text, EB_SETTING_BYTES, "no");
        return false;
    case EB_SETTING_CHOICE:
        for (size_t i = 0; i < s->choices.count; i++) {
            if (strcmp(s->choices.list[i].text, kept) == 0)
                return eb_text_copy(text, EB_SETTING_BYTES, s->choices.list[i].name);
        }
        return false;
    case EB_SETTING_TIME:
        if (!read_time(kept, &seconds))
            return false;
        time_text(seconds, text, EB_SETTING_BYTES);
        return true;
    case EB_SETTING_ADDRESS:
        return eb_setting_take(s, kept, text, &unused);
    case EB_SETTING_TEXT:
        break;
    }
    if (strlen(kept) >= EB_SETTING_BYTES)
        return false;
    eb_text_copy_foreign(text, EB_SETTING_BYTES, (const uint8_t *)kept, strlen(kept));
    return true;
}

/* The same backwards. */
static void to_characters(const struct eb_setting *s, const char *text, char kept[EB_SETTING_BYTES])
{
    eb_text_copy(kept, EB_SETTING_BYTES, text);
    if (s->kind == EB_SETTING_YES && s->writes_as != EB_SETTING_PLAIN)
        eb_text_copy(kept, EB_SETTING_BYTES, strcmp(text, "yes") == 0 ? "true" : "false");
    for (size_t i = 0; s->kind == EB_SETTING_CHOICE && i < s->choices.count; i++) {
        if (strcmp(s->choices.list[i].name, text) == 0)
            eb_text_copy(kept, EB_SETTING_BYTES, s->choices.list[i].text);
    }
}

static uint64_t get_number(const struct eb_setting *s, const uint8_t *bytes, size_t size)
{
    uint64_t number = 0;
    for (size_t i = 0; i < size; i++) {
        size_t at = s->form == EB_SETTING_LITTLE     ? size - 1 - i
                    : s->form == EB_SETTING_LOW_WORD ? (size - 2 - (i & ~(size_t)1)) + (i & 1)
                                                     : i;
        number = number << 8 | bytes[at];
    }
    return number;
}

static void put_number(const struct eb_setting *s, uint64_t number, uint8_t *bytes, size_t size)
{
    for (size_t i = size; i-- > 0; number >>= 8) {
        size_t at = s->form == EB_SETTING_LITTLE     ? size - 1 - i
                    : s->form == EB_SETTING_LOW_WORD ? (size - 2 - (i & ~(size_t)1)) + (i & 1)
                                                     : i;
        bytes[at] = (uint8_t)number;
    }
}

static bool from_bytes(const struct eb_setting *s, const uint8_t *bytes, size_t size,
                       char text[EB_SETTING_BYTES])
{
    char kept[32];
    if (s->kind == EB_SETTING_TEXT) {
        if (size >= EB_SETTING_BYTES)
            return false;
        eb_text_copy_foreign(text, EB_SETTING_BYTES, bytes, size);
        return true;
    }
    if (size < 1 || size > 8 || (s->form == EB_SETTING_LOW_WORD && size % 2 != 0))
        return false;
    uint64_t number = get_number(s, bytes, size);
    if (s->kind == EB_SETTING_ADDRESS) {
        snprintf(text, EB_SETTING_BYTES, "%u.%u.%u.%u", (unsigned)(number >> 24 & 255),
                 (unsigned)(number >> 16 & 255), (unsigned)(number >> 8 & 255), (unsigned)(number & 255));
        return size == 4;
    }
    if (s->kind == EB_SETTING_TIME) {
        time_text((time_t)number, text, EB_SETTING_BYTES);
        return text[0] != '\0' && size >= 4;
    }
    int64_t value = (int64_t)number;
    if (s->is_signed && size < 8 && (number >> (8 * size - 1) & 1) != 0)
        value -= (int64_t)1 << 8 * size;
    if (s->kind == EB_SETTING_NUMBER) {
        number_text(s, value, text, EB_SETTING_BYTES);
        return true;
    }
    snprintf(kept, sizeof kept, "%" PRId64, value);
    return from_characters(s, kept, text);
}

/* The text of a value in a JSON document; NULL: there is none. */
static char *json_value(const struct eb_setting *s, const uint8_t *bytes, size_t size)
{
    json_t *root = json_loadb((const char *)bytes, size, JSON_REJECT_DUPLICATES | JSON_DECODE_ANY, NULL);
    const json_t *at = root;
    char *text = NULL;
    for (const char *c = s->json; at != NULL && *c == '/';) {
        char part[EB_SETTING_BYTES];
        size_t used = 0;
        for (c++; *c != '\0' && *c != '/' && used < sizeof part - 1; c++) { /* RFC 6901 section 4 */
            bool escape = *c == '~' && (c[1] == '0' || c[1] == '1');
            part[used++] = !escape ? *c : c[1] == '0' ? '~' : '/';
            c += escape;
        }
        part[used] = '\0';
        at = json_is_array(at) ? json_array_get(at, strtoul(part, NULL, 10)) : json_object_get(at, part);
    }
    if (json_is_string(at))
        text = strdup(json_string_value(at));
    else if (json_is_real(at) && asprintf(&text, "%.*f", s->decimals, json_real_value(at)) < 0)
        text = NULL;
    else if (json_is_integer(at) || json_is_boolean(at))
        text = json_dumps(at, JSON_ENCODE_ANY);
    json_decref(root);
    return text;
}

bool eb_setting_read(const struct eb_setting *s, const uint8_t *bytes, size_t size,
                     char text[EB_SETTING_BYTES])
{
    text[0] = '\0';
    if (size < s->head_bytes)
        return false;
    bytes += s->head_bytes;
    size -= s->head_bytes;
    if (s->form != EB_SETTING_CHARACTERS)
        return from_bytes(s, bytes, size, text);
    char *kept = s->json != NULL ? json_value(s, bytes, size) : strndup((const char *)bytes, size);
    if (kept != NULL && s->json == NULL) {
        size_t end = strlen(kept);
        while (end > 0 && isspace((unsigned char)kept[end - 1]))
            kept[--end] = '\0';
    }
    bool ok = kept != NULL && from_characters(s, kept, text);
    free(kept);
    if (!ok)
        text[0] = '\0';
    return ok;
}

/* --- what is written ---------------------------------------------------------------------------------- */

/* The value as it stands in a JSON document. */
static char *json_quoted(const struct eb_setting *s, const char *kept)
{
    int64_t number;
    bool bare = s->kind == EB_SETTING_NUMBER || s->kind == EB_SETTING_YES ||
                (s->kind == EB_SETTING_CHOICE && ebi_setting_number(s, kept, &number));
    json_t *string = json_string(kept);
    char *text = bare ? strdup(kept) : json_dumps(string, JSON_ENCODE_ANY);
    json_decref(string);
    return text;
}

static char *form_quoted(const char *kept)
{
    char text[3 * EB_SETTING_BYTES];
    struct eb_text form;
    eb_text_init(&form, text, sizeof text);
    eb_http_add_form(&form, kept);
    return strdup(text);
}

/* The text with what stands between braces filled in, as JSON or as a form has it. */
uint8_t *ebi_password_body(const struct eb_setting *how, const char *user, const char *old, const char *fresh,
                           size_t *size)
{
    const struct {
        const char *mark, *text;
    } marks[] = {{"{user}", user}, {"{password}", old}, {"{new-password}", fresh}};
    char *whole = NULL;
    FILE *to = open_memstream(&whole, size);
    if (to == NULL)
        abort();
    for (const char *c = how->writes; *c != '\0';) {
        size_t i = 0;
        while (i < 3 && strncmp(c, marks[i].mark, strlen(marks[i].mark)) != 0)
            i++;
        if (i == 3) {
            fputc(*c++, to);
            continue;
        }
        char *quoted =
            how->writes_as == EB_SETTING_JSON ? json_quoted(how, marks[i].text) : form_quoted(marks[i].text);
        if (quoted == NULL)
            abort();
        fputs(quoted, to);
        explicit_bzero(quoted, strlen(quoted));
        free(quoted);
        c += strlen(marks[i].mark);
    }
    fclose(to);
    return (uint8_t *)whole;
}

static uint8_t *write_characters(const struct eb_setting *s, const char *text, size_t *size)
{
    char kept[EB_SETTING_BYTES];
    char *whole = NULL;
    to_characters(s, text, kept);
    char *value = s->writes_as == EB_SETTING_JSON   ? json_quoted(s, kept)
                  : s->writes_as == EB_SETTING_FORM ? form_quoted(kept)
                                                    : strdup(kept);
    const char *mark = s->writes != NULL ? strstr(s->writes, value_mark) : NULL;
    if (value == NULL)
        abort();
    if (mark == NULL)
        whole = strdup(value);
    else if (asprintf(&whole, "%.*s%s%s", (int)(mark - s->writes), s->writes, value,
                      mark + strlen(value_mark)) < 0)
        whole = NULL;
    free(value);
    if (whole == NULL)
        abort();
    *size = strlen(whole);
    return (uint8_t *)whole;
}

/* The number that a device keeps for a value; false: it is none. */
static bool number_of(const struct eb_setting *s, const char *text, int64_t *number)
{
    char kept[EB_SETTING_BYTES];
    struct eb_endpoint endpoint = {.port = 0};
    time_t seconds;
    if (s->kind == EB_SETTING_TIME) {
        bool ok = read_time(text, &seconds);
        *number = ok ? (int64_t)seconds : 0;
        return ok;
    }
    if (s->kind == EB_SETTING_ADDRESS) {
        bool ok = eb_endpoint_parse(&endpoint, text);
        *number = (int64_t)((uint64_t)endpoint.ip[0] << 24 | (uint64_t)endpoint.ip[1] << 16 |
                            (uint64_t)endpoint.ip[2] << 8 | endpoint.ip[3]);
        return ok;
    }
    to_characters(s, text, kept);
    if (s->kind == EB_SETTING_YES) {
        *number = strcmp(text, "yes") == 0;
        return true;
    }
    return ebi_setting_number(s, kept, number);
}

/* Whether a binary number of so many bytes holds it. */
static bool fits(const struct eb_setting *s, int64_t number, size_t size)
{
    if (size >= 8)
        return s->is_signed || number >= 0;
    int64_t most = ((int64_t)1 << (8 * size - s->is_signed)) - 1;
    return number <= most && number >= (s->is_signed ? -most - 1 : 0);
}

uint8_t *eb_setting_write(const struct eb_setting *s, const char *text, const uint8_t *before,
                          size_t before_size, size_t *size, struct eb_problem *problem)
{
    int64_t number = 0;
    if (s->form == EB_SETTING_CHARACTERS)
        return write_characters(s, text, size);
    size_t room = before_size - s->head_bytes;
    if (before_size < s->head_bytes || room == 0 || (s->kind != EB_SETTING_TEXT && room > 8) ||
        (s->kind == EB_SETTING_TEXT ? strlen(text) > room
                                    : !number_of(s, text, &number) || !fits(s, number, room))) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found '%s', which does not fit into the %zu byte%s that the device keeps for it",
                 s->at->name, text, before_size < s->head_bytes ? 0 : room, room == 1 ? "" : "s");
        return NULL;
    }
    uint8_t *bytes = calloc(1, before_size);
    if (bytes == NULL)
        abort();
    memcpy(bytes, before, s->head_bytes);
    if (s->kind == EB_SETTING_TEXT)
        memcpy(bytes + s->head_bytes, text, strlen(text));
    else
        put_number(s, (uint64_t)number, bytes + s->head_bytes, room);
    *size = before_size;
    return bytes;
}

/* --- actions ----------------------------------------------------------------------------------------- */

const char *eb_action_word(enum eb_action_kind kind)
{
    static const char *const words[] = {"restart", "restart-cold", "stop", "start", "reset"};
    return (size_t)kind < EB_ACTIONS ? words[kind] : "unknown";
}

bool eb_profile_can(const struct eb_profile *p, enum eb_action_kind kind)
{
    return p->actions != NULL && p->actions[kind].steps.count > 0;
}
