#include "einbau/version.h"
#include "einbau/text.h"

#include <string.h>

/* A part of a text: `size` characters at `at`. */
struct part {
    const char *at;
    size_t size;
};

static const struct {
    const char *word;
    enum eb_version_scheme scheme;
} schemes[] = {
    {"dotted", EB_VERSION_DOTTED}, {"decimal", EB_VERSION_DECIMAL}, {"semver", EB_VERSION_SEMVER},
    {"date", EB_VERSION_DATE},     {"letters", EB_VERSION_LETTERS},
};

enum { SCHEMES = sizeof schemes / sizeof schemes[0] };

const char *eb_version_scheme_word(enum eb_version_scheme scheme)
{
    return (size_t)scheme < SCHEMES ? schemes[scheme].word : "unknown";
}

bool eb_version_scheme_read(const char *word, enum eb_version_scheme *scheme)
{
    for (size_t i = 0; i < SCHEMES; i++) {
        if (strcmp(schemes[i].word, word) == 0) {
            *scheme = schemes[i].scheme;
            return true;
        }
    }
    return false;
}

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

static bool is_letter(char c)
{
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
}

static bool all_digits(struct part p)
{
    for (size_t i = 0; i < p.size; i++) {
        if (!is_digit(p.at[i]))
            return false;
    }
    return p.size > 0;
}

static enum eb_comparison sign(long difference)
{
    return difference < 0 ? EB_OLDER : difference > 0 ? EB_NEWER : EB_SAME;
}

/* Numbers of any length, by their digits: leading zeros do not count. */
static enum eb_comparison compare_numbers(struct part a, struct part b)
{
    for (; a.size > 0 && *a.at == '0'; a.size--)
        a.at++;
    for (; b.size > 0 && *b.at == '0'; b.size--)
        b.at++;
    if (a.size != b.size)
        return a.size < b.size ? EB_OLDER : EB_NEWER;
    return sign(a.size > 0 ? memcmp(a.at, b.at, a.size) : 0);
}

/* Cuts the part up to the next `mark` off the front of `rest`; false where nothing is left to cut. */
static bool next_field(struct part *rest, char mark, struct part *field)
{
    if (rest->at == NULL)
        return false;
    const char *found = memchr(rest->at, mark, rest->size);
    field->at = rest->at;
    field->size = found != NULL ? (size_t)(found - rest->at) : rest->size;
    if (found == NULL) {
        rest->at = NULL;
        rest->size = 0;
    } else {
        rest->at += field->size + 1;
        rest->size -= field->size + 1;
    }
    return true;
}

/* --- dotted -------------------------------------------------------------------------------------- */

static bool dotted_readable(struct part p)
{
    struct part field;
    while (next_field(&p, '.', &field)) {
        if (!all_digits(field))
            return false;
    }
    return true;
}

static enum eb_comparison dotted_compare(struct part a, struct part b)
{
    const struct part zero = {"0", 1};
    for (;;) {
        struct part x = zero;
        struct part y = zero;
        bool more_a = next_field(&a, '.', &x);
        bool more_b = next_field(&b, '.', &y);
        if (!more_a && !more_b)
            return EB_SAME;
        enum eb_comparison c = compare_numbers(x, y);
        if (c != EB_SAME)
            return c;
    }
}

/* --- decimal ------------------------------------------------------------------------------------- */

static bool decimal_split(struct part p, struct part *whole, struct part *fraction)
{
    *fraction = (struct part){"", 0};
    *whole = *fraction;
    next_field(&p, '.', whole);
    if (p.at != NULL) {
        *fraction = p;
        if (!all_digits(*fraction))
            return false;
    }
    return all_digits(*whole);
}

static bool decimal_readable(struct part p)
{
    struct part whole;
    struct part fraction;
    return decimal_split(p, &whole, &fraction);
}

static enum eb_comparison decimal_compare(struct part a, struct part b)
{
    struct part whole_a;
    struct part whole_b;
    struct part x;
    struct part y;
    decimal_split(a, &whole_a, &x);
    decimal_split(b, &whole_b, &y);
    enum eb_comparison c = compare_numbers(whole_a, whole_b);
    for (size_t i = 0; c == EB_SAME && (i < x.size || i < y.size); i++)
        c = sign((i < x.size ? x.at[i] : '0') - (i < y.size ? y.at[i] : '0'));
    return c;
}

/* --- semver -------------------------------------------------------------------------------------- */

struct semver {
    struct part number[3];
    struct part before; /* pre-release, at == NULL where there is none */
};

static bool semver_identifiers(struct part p, bool numbers_strict)
{
    struct part field;
    while (next_field(&p, '.', &field)) {
        if (field.size == 0)
            return false;
        for (size_t i = 0; i < field.size; i++) {
            if (!is_digit(field.at[i]) && !is_letter(field.at[i]) && field.at[i] != '-')
                return false;
        }
        if (numbers_strict && all_digits(field) && field.size > 1 && field.at[0] == '0')
            return false;
    }
    return true;
}

/* Semantic Versioning 2.0.0, sections 2, 9 and 10. */
static bool semver_split(struct part p, struct semver *v)
{
    const char *plus = memchr(p.at, '+', p.size);
    if (plus != NULL) {
        struct part build = {plus + 1, p.size - (size_t)(plus - p.at) - 1};
        if (!semver_identifiers(build, false))
            return false;
        p.size = (size_t)(plus - p.at);
    }
    v->before = (struct part){NULL, 0};
    const char *dash = memchr(p.at, '-', p.size);
    if (dash != NULL) {
        v->before = (struct part){dash + 1, p.size - (size_t)(dash - p.at) - 1};
        if (!semver_identifiers(v->before, true))
            return false;
        p.size = (size_t)(dash - p.at);
    }
    for (int i = 0; i < 3; i++) {
        if (!next_field(&p, '.', &v->number[i]) || !all_digits(v->number[i]))
            return false;
        if (v->number[i].size > 1 && v->number[i].at[0] == '0')
            return false;
    }
    return p.at == NULL;
}

static bool semver_readable(struct part p)
{
    struct semver v;
    return semver_split(p, &v);
}

static enum eb_comparison compare_identifiers(struct part x, struct part y)
{
    bool number_x = all_digits(x);
    bool number_y = all_digits(y);
    if (number_x && number_y)
        return compare_numbers(x, y);
    if (number_x != number_y)
        return number_x ? EB_OLDER : EB_NEWER;
    size_t least = x.size < y.size ? x.size : y.size;
    enum eb_comparison c = sign(memcmp(x.at, y.at, least));
    return c != EB_SAME ? c : sign((long)x.size - (long)y.size);
}

static enum eb_comparison semver_compare(struct part a, struct part b)
{
    struct semver v;
    struct semver w;
    semver_split(a, &v);
    semver_split(b, &w);
    for (int i = 0; i < 3; i++) {
        enum eb_comparison c = compare_numbers(v.number[i], w.number[i]);
        if (c != EB_SAME)
            return c;
    }
    if (v.before.at == NULL || w.before.at == NULL)
        return v.before.at != NULL ? EB_OLDER : w.before.at != NULL ? EB_NEWER : EB_SAME;
    for (;;) {
        struct part x = {"", 0};
        struct part y = {"", 0};
        bool more_v = next_field(&v.before, '.', &x);
        bool more_w = next_field(&w.before, '.', &y);
        if (!more_v || !more_w)
            return more_w ? EB_OLDER : more_v ? EB_NEWER : EB_SAME;
        enum eb_comparison c = compare_identifiers(x, y);
        if (c != EB_SAME)
            return c;
    }
}

/* --- date ---------------------------------------------------------------------------------------- */

/* The day as the number yyyymmdd; 0 where it is no day of the calendar. */
static uint32_t date_number(struct part p)
{
    char digits[8];
    if (p.size == 10 && (p.at[4] == '-' || p.at[4] == '.') && p.at[7] == p.at[4]) {
        memcpy(digits, p.at, 4);
        memcpy(digits + 4, p.at + 5, 2);
        memcpy(digits + 6, p.at + 8, 2);
    } else if (p.size == 8) {
        memcpy(digits, p.at, 8);
    } else {
        return 0;
    }
    uint64_t number;
    if (!eb_text_number(digits, sizeof digits, &number))
        return 0;
    static const uint8_t days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    uint32_t year = (uint32_t)number / 10000;
    uint32_t month = (uint32_t)number / 100 % 100;
    uint32_t day = (uint32_t)number % 100;
    bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
    if (year == 0 || month < 1 || month > 12 || day < 1)
        return 0;
    return day <= days[month - 1] + (month == 2 && leap ? 1U : 0U) ? (uint32_t)number : 0;
}

static bool date_readable(struct part p)
{
    return date_number(p) != 0;
}

static enum eb_comparison date_compare(struct part a, struct part b)
{
    return sign((long)date_number(a) - (long)date_number(b));
}

/* --- letters ------------------------------------------------------------------------------------- */

static void letters_split(struct part p, struct part *number, struct part *letters)
{
    size_t n = 0;
    while (n < p.size && is_digit(p.at[n]))
        n++;
    *number = (struct part){p.at, n};
    *letters = (struct part){p.at + n, p.size - n};
}

static char upper(char c)
{
    return c >= 'a' && c <= 'z' ? (char)(c - 'a' + 'A') : c;
}

static bool letters_readable(struct part p)
{
    struct part number;
    struct part letters;
    letters_split(p, &number, &letters);
    for (size_t i = 0; i < letters.size; i++) {
        if (!is_letter(letters.at[i]))
            return false;
    }
    return letters.size > 0;
}

static enum eb_comparison letters_compare(struct part a, struct part b)
{
    struct part number_a;
    struct part number_b;
    struct part x;
    struct part y;
    letters_split(a, &number_a, &x);
    letters_split(b, &number_b, &y);
    if ((number_a.size == 0) != (number_b.size == 0))
        return EB_CANNOT_TELL;
    enum eb_comparison c = compare_numbers(number_a, number_b);
    if (c == EB_SAME)
        c = sign((long)x.size - (long)y.size);
    for (size_t i = 0; c == EB_SAME && i < x.size; i++)
        c = sign(upper(x.at[i]) - upper(y.at[i]));
    return c;
}

/* --- all ----------------------------------------------------------------------------------------- */

static const struct {
    bool (*readable)(struct part);
    enum eb_comparison (*compare)(struct part, struct part); /* both are readable */
} orders[SCHEMES] = {
    [EB_VERSION_DOTTED] = {dotted_readable, dotted_compare},
    [EB_VERSION_DECIMAL] = {decimal_readable, decimal_compare},
    [EB_VERSION_SEMVER] = {semver_readable, semver_compare},
    [EB_VERSION_DATE] = {date_readable, date_compare},
    [EB_VERSION_LETTERS] = {letters_readable, letters_compare},
};

/* Splits `text` into version and build (at == NULL where there is none); false where it does not follow the
 * order. */
static bool split(const struct eb_version_order *order, const char *text, struct part *version,
                  struct part *build)
{
    *version = (struct part){text, strlen(text)};
    *build = (struct part){NULL, 0};
    if (order->build_mark[0] != '\0') {
        const char *mark = strstr(text, order->build_mark);
        if (mark != NULL) {
            build->at = mark + strlen(order->build_mark);
            build->size = strlen(build->at);
            version->size = (size_t)(mark - text);
            if (!all_digits(*build))
                return false;
        }
    }
    return version->size > 0 && orders[order->scheme].readable(*version);
}

bool eb_version_readable(const struct eb_version_order *order, const char *text)
{
    struct part version;
    struct part build;
    return split(order, text, &version, &build);
}

enum eb_comparison eb_version_compare(const struct eb_version_order *order, const char *a, const char *b)
{
    struct part version_a;
    struct part version_b;
    struct part build_a;
    struct part build_b;
    if (!split(order, a, &version_a, &build_a) || !split(order, b, &version_b, &build_b))
        return EB_CANNOT_TELL;
    enum eb_comparison c = orders[order->scheme].compare(version_a, version_b);
    if (c != EB_SAME)
        return c;
    if ((build_a.at == NULL) != (build_b.at == NULL))
        return EB_CANNOT_TELL;
    return build_a.at == NULL ? EB_SAME : compare_numbers(build_a, build_b);
}
