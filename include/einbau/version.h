/* Versions and hardware revisions: how makers order them.  Nothing is guessed: a text that does not follow
 * its order compares as "cannot tell". */
#ifndef EINBAU_VERSION_H
#define EINBAU_VERSION_H

#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

enum eb_version_scheme {
    EB_VERSION_DOTTED,  /* 3.9 < 3.10: numbers between dots; a missing one counts as 0 */
    EB_VERSION_DECIMAL, /* 1.24 < 1.3: one decimal number; 1.3 and 1.30 are the same */
    EB_VERSION_SEMVER,  /* Semantic Versioning 2.0.0, section 11 */
    EB_VERSION_DATE,    /* 20260310, 2026-03-10 or 2026.03.10 (ISO 8601 order); a day that exists */
    EB_VERSION_LETTERS  /* A < B < Z < AA, in either case; with a number in front, 2A < 2B < 10A */
};

enum { EB_VERSION_TEXT_BYTES = 48, EB_BUILD_MARK_BYTES = 12 };

/* How one component's versions are ordered.  Where `build_mark` is not empty, what stands behind its first
 * occurrence is a build number: "4.2.1 build 17" with the mark " build ".  It decides between equal versions.
 */
struct eb_version_order {
    enum eb_version_scheme scheme;
    char build_mark[EB_BUILD_MARK_BYTES];
};

enum eb_comparison { EB_OLDER = -1, EB_SAME = 0, EB_NEWER = 1, EB_CANNOT_TELL = 2 };

/* Where `a` stands against `b`.  EB_CANNOT_TELL where one of them does not follow the order, or where they
 * differ only in that one has a build number and the other has none. */
enum eb_comparison eb_version_compare(const struct eb_version_order *order, const char *a, const char *b);

/* Whether `text` is a version in this order at all. */
bool eb_version_readable(const struct eb_version_order *order, const char *text);

/* The word for a scheme as profiles write it, and back; false for an unknown word. */
const char *eb_version_scheme_word(enum eb_version_scheme scheme);
bool eb_version_scheme_read(const char *word, enum eb_version_scheme *scheme);

enum eb_membership { EB_OUTSIDE, EB_INSIDE, EB_NOT_COMPARABLE };

/* Whether hardware revision `revision` is one of `range`: "5", "C", "B1", or from..to with both ends
 * included: "2..5", "A..F", "B1..B9".  Letters come before numbers in weight (B9 < C1).  EB_NOT_COMPARABLE
 * where one is not a revision, or where they are of different kinds (a number against a letter). */
enum eb_membership eb_revision_in(const char *range, const char *revision);

/* Whether `range` can be read at all, and does not run backwards. */
bool eb_revision_range_valid(const char *range);

#ifdef __cplusplus
}
#endif

#endif
