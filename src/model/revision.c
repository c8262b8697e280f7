#include "einbau/version.h"
#include "einbau/text.h"

#include <string.h>

/* A hardware revision: letters, a number, or letters and then a number. */
struct revision {
    char letters[4];
    bool has_number;
    uint64_t number;
};

static bool read_revision(const char *text, size_t size, struct revision *r)
{
    size_t n = 0;
    memset(r, 0, sizeof *r);
    while (n < size && n < sizeof r->letters - 1 &&
           ((text[n] >= 'A' && text[n] <= 'Z') || (text[n] >= 'a' && text[n] <= 'z'))) {
        r->letters[n] = (char)(text[n] & ~0x20);
        n++;
    }
    r->has_number = n < size;
    return size > 0 && (n == size || eb_text_number(text + n, size - n, &r->number));
}

static bool same_kind(const struct revision *a, const struct revision *b)
{
    return a->has_number == b->has_number && (a->letters[0] == '\0') == (b->letters[0] == '\0');
}

static int order(const struct revision *a, const struct revision *b)
{
    size_t size_a = strlen(a->letters);
    size_t size_b = strlen(b->letters);
    int c = size_a != size_b ? (size_a < size_b ? -1 : 1) : strcmp(a->letters, b->letters);
    if (c == 0 && a->number != b->number)
        c = a->number < b->number ? -1 : 1;
    return c;
}

static bool read_range(const char *range, struct revision *from, struct revision *to)
{
    const char *dots = strstr(range, "..");
    if (dots == NULL) {
        bool ok = read_revision(range, strlen(range), from);
        *to = *from;
        return ok;
    }
    return read_revision(range, (size_t)(dots - range), from) &&
           read_revision(dots + 2, strlen(dots + 2), to) && same_kind(from, to) && order(from, to) <= 0;
}

bool eb_revision_range_valid(const char *range)
{
    struct revision from;
    struct revision to;
    return read_range(range, &from, &to);
}

enum eb_membership eb_revision_in(const char *range, const char *revision)
{
    struct revision from;
    struct revision to;
    struct revision r;
    if (!read_range(range, &from, &to) || !read_revision(revision, strlen(revision), &r) ||
        !same_kind(&from, &r))
        return EB_NOT_COMPARABLE;
    return order(&from, &r) <= 0 && order(&r, &to) <= 0 ? EB_INSIDE : EB_OUTSIDE;
}
