/* Versions, revisions, patterns, marks. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- versions ------------------------------------------------------------------------------------ */

/* Texts in rising order; "=" in front of one: the same as the one before. */
struct row {
    enum eb_version_scheme scheme;
    const char *mark;
    const char *texts[24];
};

static const struct row rising[] = {
    {EB_VERSION_DOTTED,
     "",
     {"0", "1", "=1.0", "=01.0.0", "1.0.1", "1.9", "1.10", "3.9", "3.10", "3.10.1", "10",
      "99999999999999999999", "100000000000000000000"}},
    {EB_VERSION_DECIMAL,
     "",
     {"0.9", "1", "=1.0", "1.05", "1.1", "=1.10", "1.24", "1.3", "=1.30", "1.31", "2", "10.05", "10.5"}},
    /* Semantic Versioning 2.0.0, sections 10 and 11, its own examples */
    {EB_VERSION_SEMVER,
     "",
     {"1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11",
      "1.0.0-rc.1", "1.0.0", "=1.0.0+20130313144700", "=1.0.0+exp.sha.5114f85", "2.0.0", "2.1.0", "2.1.1",
      "99999999999999999999.0.0", "100000000000000000000.0.0"}},
    {EB_VERSION_DATE,
     "",
     {"19991231", "20240228", "2024-02-29", "=20240229", "=2024.02.29", "20260310", "20260918"}},
    {EB_VERSION_LETTERS, "", {"A", "=a", "B", "Z", "AA", "AB", "BA", "AAA"}},
    {EB_VERSION_LETTERS, "", {"2A", "=02a", "2B", "2AA", "10A"}},
    {EB_VERSION_DOTTED,
     " build ",
     {"4.2 build 9", "4.2.1 build 3", "=4.2.1.0 build 03", "4.2.1 build 17", "4.2.2 build 1"}},
    {EB_VERSION_DECIMAL, "b", {"1.24b2", "1.3b1", "=1.30b01", "1.3b10"}},
};

static const struct row unreadable[] = {
    {EB_VERSION_DOTTED,
     "",
     {"", "v1", "1.", ".1", "1..2", "1.a", "1 .2", "-1", "1.2-3", "1,2", "(in loader)"}},
    {EB_VERSION_DECIMAL, "", {"", "1.", ".5", "1.2.3", "1,5", "1.x", "-1.0"}},
    {EB_VERSION_SEMVER,
     "",
     {"", "1", "1.2", "1.2.3.4", "01.2.3", "1.02.3", "1.2.3-", "1.2.3-01", "1.2.3-a..b", "1.2.3+", "v1.2.3",
      "1.2.3-a_b", "1.2.x"}},
    {EB_VERSION_DATE,
     "",
     {"", "2026", "20261301", "20260230", "20250229", "20260000", "00000101", "2026-03.10", "26-03-10",
      "2026/03/10", "202603101"}},
    {EB_VERSION_LETTERS, "", {"", "1", "A1", "A.B", "A ", "-"}},
    {EB_VERSION_DOTTED, "-", {"4.2-", "-17", "4.2-x", "4.2-1-2"}},
};

enum { ROWS = sizeof rising / sizeof rising[0], BAD_ROWS = sizeof unreadable / sizeof unreadable[0] };

static struct eb_version_order order_of(const struct row *row)
{
    struct eb_version_order order = {.scheme = row->scheme};
    eb_text_copy(order.build_mark, sizeof order.build_mark, row->mark);
    return order;
}

static void versions_follow_their_order_both_ways_and_over_any_distance(void **state)
{
    (void)state;
    for (size_t r = 0; r < ROWS; r++) {
        const struct eb_version_order order = order_of(&rising[r]);
        int rank[24];
        const char *text[24];
        int count = 0;
        for (; rising[r].texts[count] != NULL; count++) {
            bool same = rising[r].texts[count][0] == '=';
            text[count] = rising[r].texts[count] + same;
            rank[count] = count == 0 ? 0 : rank[count - 1] + !same;
            assert_true(eb_version_readable(&order, text[count]));
        }
        for (int a = 0; a < count; a++) {
            for (int b = 0; b < count; b++) {
                enum eb_comparison expected = rank[a] < rank[b]   ? EB_OLDER
                                              : rank[a] > rank[b] ? EB_NEWER
                                                                  : EB_SAME;
                if (eb_version_compare(&order, text[a], text[b]) != expected)
                    fail_msg("%s: %s against %s", eb_version_scheme_word(order.scheme), text[a], text[b]);
            }
        }
    }
}

/* A text from the characters that its scheme is made of, often a good one. */
static void make_version(enum eb_version_scheme scheme, char *text, size_t cap)
{
    static const char *const characters[] = {"0123456789..", "0123456789.", "0123456789..-+ab",
                                             "0123456789-.", "AaBbZz129"};
    static const char *const forms[] = {"%d.%d", "%d.%d", "%d.%d.%d", "%d", "%d"};
    if (scheme == EB_VERSION_DATE && rand() % 2 == 0) {
        snprintf(text, cap, rand() % 2 == 0 ? "%04d%02d%02d" : "%04d-%02d-%02d", 2020 + rand() % 3,
                 1 + rand() % 13, 1 + rand() % 31);
    } else if (scheme == EB_VERSION_SEMVER && rand() % 2 == 0) {
        static const char *const tails[] = {"",   "-1",   "-a", "-a.1", "-a.b",  "-1.a",
                                            "+b", "-a+b", "-2", "-10",  "-a.b.c"};
        snprintf(text, cap, "%d.%d.%d%s", rand() % 2, rand() % 3, rand() % 2,
                 tails[(size_t)rand() % (sizeof tails / sizeof tails[0])]);
    } else if (scheme <= EB_VERSION_DECIMAL && rand() % 3 != 0) {
        snprintf(text, cap, forms[scheme], rand() % 12, rand() % 130);
    } else {
        size_t size = 1 + (size_t)rand() % 5;
        for (size_t i = 0; i < size; i++)
            text[i] = characters[scheme][(size_t)rand() % strlen(characters[scheme])];
        text[size] = '\0';
    }
}

/* Of any texts: nothing is both before and after another; what can be read is the same as itself and can be
 * compared with all that can be read; and where a is not after b, and b not after c, a is not after c. */
static void orders_are_orders(void **state)
{
    enum { TEXTS = 90 };
    (void)state;
    srand(16);
    for (int s = EB_VERSION_DOTTED; s <= EB_VERSION_LETTERS; s++) {
        const struct eb_version_order order = {.scheme = (enum eb_version_scheme)s};
        char text[TEXTS][32];
        enum eb_comparison c[TEXTS][TEXTS];
        size_t readable = 0;
        for (size_t i = 0; i < TEXTS; i++) {
            make_version(order.scheme, text[i], sizeof text[i]);
            readable += eb_version_readable(&order, text[i]);
        }
        assert_in_range(readable, TEXTS / 4, TEXTS - 1);
        for (size_t a = 0; a < TEXTS; a++) {
            for (size_t b = 0; b < TEXTS; b++)
                c[a][b] = eb_version_compare(&order, text[a], text[b]);
        }
        for (size_t a = 0; a < TEXTS; a++) {
            assert_int_equal(c[a][a], eb_version_readable(&order, text[a]) ? EB_SAME : EB_CANNOT_TELL);
            for (size_t b = 0; b < TEXTS; b++) {
                if (c[a][b] == EB_CANNOT_TELL ? c[b][a] != EB_CANNOT_TELL : (int)c[a][b] != -(int)c[b][a])
                    fail_msg("%s: '%s' and '%s'", eb_version_scheme_word(order.scheme), text[a], text[b]);
                /* Letters with and without a number in front are of different kinds. */
                if (order.scheme != EB_VERSION_LETTERS && c[a][b] == EB_CANNOT_TELL)
                    assert_true(c[a][a] == EB_CANNOT_TELL || c[b][b] == EB_CANNOT_TELL);
                for (size_t d = 0; d < TEXTS; d++) {
                    bool ab = c[a][b] == EB_OLDER || c[a][b] == EB_SAME;
                    bool bd = c[b][d] == EB_OLDER || c[b][d] == EB_SAME;
                    if (ab && bd && !(c[a][d] == EB_SAME || c[a][d] == EB_OLDER))
                        fail_msg("%s: '%s', '%s', '%s'", eb_version_scheme_word(order.scheme), text[a],
                                 text[b], text[d]);
                    if (c[a][b] == EB_SAME && c[a][d] != c[b][d])
                        fail_msg("%s: '%s' is '%s', but not to '%s'", eb_version_scheme_word(order.scheme),
                                 text[a], text[b], text[d]);
                }
            }
        }
    }
}

static void what_does_not_follow_the_order_cannot_be_told(void **state)
{
    (void)state;
    for (size_t r = 0; r < BAD_ROWS; r++) {
        const struct eb_version_order order = order_of(&unreadable[r]);
        for (size_t i = 0; unreadable[r].texts[i] != NULL; i++) {
            const char *text = unreadable[r].texts[i];
            if (eb_version_readable(&order, text) || eb_version_compare(&order, text, text) != EB_CANNOT_TELL)
                fail_msg("%s: '%s' was read", eb_version_scheme_word(order.scheme), text);
        }
    }
}

static void a_build_on_one_side_only_decides_nothing(void **state)
{
    (void)state;
    const struct eb_version_order order = {EB_VERSION_DOTTED, "-"};
    assert_int_equal(eb_version_compare(&order, "4.2.1-17", "4.2.1"), EB_CANNOT_TELL);
    assert_int_equal(eb_version_compare(&order, "4.2.1", "4.2.1-17"), EB_CANNOT_TELL);
    assert_int_equal(eb_version_compare(&order, "4.2.2", "4.2.1-17"), EB_NEWER);
    assert_int_equal(eb_version_compare(&order, "4.2.1-17", "4.2.2"), EB_OLDER);
}

static void letters_with_and_without_a_number_cannot_be_compared(void **state)
{
    (void)state;
    const struct eb_version_order order = {EB_VERSION_LETTERS, ""};
    assert_int_equal(eb_version_compare(&order, "2A", "A"), EB_CANNOT_TELL);
}

static void schemes_have_words_and_back(void **state)
{
    (void)state;
    static const char *const words[] = {"dotted", "decimal", "semver", "date", "letters"};
    enum eb_version_scheme scheme;
    for (size_t i = 0; i < 5; i++) {
        assert_true(eb_version_scheme_read(words[i], &scheme));
        assert_string_equal(eb_version_scheme_word(scheme), words[i]);
    }
    assert_false(eb_version_scheme_read("Dotted", &scheme));
}

/* --- revisions and patterns ---------------------------------------------------------------------- */

static void revisions_are_in_their_range_or_not(void **state)
{
    (void)state;
    static const struct {
        const char *range, *revision;
        enum eb_membership expected;
    } rows[] = {
        {"2..5", "2", EB_INSIDE},
        {"2..5", "5", EB_INSIDE},
        {"2..5", "05", EB_INSIDE},
        {"2..5", "1", EB_OUTSIDE},
        {"2..5", "6", EB_OUTSIDE},
        {"9..11", "10", EB_INSIDE},
        {"5", "5", EB_INSIDE},
        {"5", "50", EB_OUTSIDE},
        {"A..F", "A", EB_INSIDE},
        {"A..F", "f", EB_INSIDE},
        {"A..F", "G", EB_OUTSIDE},
        {"A..AB", "Z", EB_INSIDE},
        {"C", "C", EB_INSIDE},
        {"C", "D", EB_OUTSIDE},
        {"B1..B9", "B1", EB_INSIDE},
        {"B1..B9", "B9", EB_INSIDE},
        {"B1..B9", "B10", EB_OUTSIDE},
        {"B1..B9", "A4", EB_OUTSIDE},
        {"B1..C3", "B77", EB_INSIDE},
        {"B1..C3", "C4", EB_OUTSIDE},
        {"2..5", "C", EB_NOT_COMPARABLE},
        {"A..F", "3", EB_NOT_COMPARABLE},
        {"B1..B9", "B", EB_NOT_COMPARABLE},
        {"2..5", "", EB_NOT_COMPARABLE},
        {"2..5", "3a", EB_NOT_COMPARABLE},
        {"2..5", "rev 3", EB_NOT_COMPARABLE},
        {"", "3", EB_NOT_COMPARABLE},
        {"5..2", "3", EB_NOT_COMPARABLE},
        {"2..", "3", EB_NOT_COMPARABLE},
        {"2..B", "3", EB_NOT_COMPARABLE},
        {"ABCD", "ABCD", EB_NOT_COMPARABLE},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        if (eb_revision_in(rows[i].range, rows[i].revision) != rows[i].expected)
            fail_msg("%s in %s", rows[i].revision, rows[i].range);
    }
    assert_true(eb_revision_range_valid("B1..B9"));
    assert_false(eb_revision_range_valid("B9..B1"));
}

static void patterns_stand_for_what_they_say(void **state)
{
    (void)state;
    static const struct {
        const char *pattern, *text;
        bool expected;
    } rows[] = {
        {"QM-RC4-24D", "QM-RC4-24D", true},
        {"QM-RC4-24D", "QM-RC4-24K", false},
        {"QM-RC4-24D", "qm-rc4-24d", false},
        {"QM-RC4-24D", "QM-RC4-24D2", false},
        {"QM-RC4-24?", "QM-RC4-24K", true},
        {"QM-RC4-24?", "QM-RC4-24", false},
        {"BL-K8-*", "BL-K8-E", true},
        {"BL-K8-*", "BL-K8-", true},
        {"BL-K8-*", "BL-K9-E", false},
        {"*", "", true},
        {"", "", true},
        {"", "a", false},
        {"*-E", "BL-K8-E", true},
        {"a*b*c", "axxbxxc", true},
        {"a*b*c", "axxbxx", false},
        {"?*?", "a", false},
        {"*aab", "aaaaab", true},
        {"**a", "bba", true},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        if (eb_pattern_matches(rows[i].pattern, rows[i].text) != rows[i].expected)
            fail_msg("'%s' against '%s'", rows[i].text, rows[i].pattern);
    }
}

static void a_hostile_pattern_takes_no_time(void **state)
{
    (void)state;
    char pattern[2001];
    char text[2001];
    for (size_t i = 0; i < 2000; i++) {
        pattern[i] = i % 2 ? '*' : 'a';
        text[i] = 'a';
    }
    pattern[1999] = 'b';
    pattern[2000] = text[2000] = '\0';
    assert_false(eb_pattern_matches(pattern, text)); /* exponential matchers never come back from this */
}

static void addresses_are_read_strictly(void **state)
{
    (void)state;
    static const char *const bad[] = {"",         "1.2.3",  "1.2.3.4.5", "256.1.1.1", "01.2.3.4",
                                      "1.2.3.4 ", "1..2.3", "a.b.c.d",   "1.2.3.-4",  "1.2.3.4:5"};
    struct eb_endpoint e = {.port = 7};
    char text[EB_ENDPOINT_TEXT_BYTES];
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++)
        assert_false(eb_endpoint_parse(&e, bad[i]));
    assert_true(eb_endpoint_parse(&e, "192.0.2.255"));
    eb_endpoint_text(&e, true, text);
    assert_string_equal(text, "192.0.2.255:7");
}

static const struct eb_version_order dotted = {EB_VERSION_DOTTED, ""};

static void marks_tell_the_running_from_the_wanted(void **state)
{
    (void)state;
    const uint32_t image = 0x1234;
    static const struct {
        struct eb_running running;
        const char *wanted;
        bool has_checksum; /* of the wanted image */
        enum eb_mark mark;
    } cases[] = {
        {{.version = "3.9"}, "3.10", false, EB_MARK_OUTDATED},
        {{.version = "3.10"}, "3.10", false, EB_MARK_CURRENT},
        {{.version = "3.11"}, "3.10", false, EB_MARK_NEWER},
        {{.version = ""}, "3.10", false, EB_MARK_UNREADABLE},
        {{.version = "beta"}, "3.10", false, EB_MARK_UNREADABLE},
        {{.version = "beta"}, "", false, EB_MARK_CURRENT},
        /* the wanted version by its name: its bytes decide, where they are known */
        {{.version = "3.10", .has_checksum = true, .checksum = 0x1234}, "3.10", true, EB_MARK_CURRENT},
        {{.version = "3.10", .has_checksum = true, .checksum = 0x1235}, "3.10", true, EB_MARK_DIFFERS},
        {{.version = "3.10", .has_checksum = true, .checksum = 0x1235}, "3.10", false, EB_MARK_CURRENT},
        {{.version = "3.10"}, "3.10", true, EB_MARK_UNREADABLE},
        {{.version = "3.9", .has_checksum = true, .checksum = 0x1234}, "3.10", true, EB_MARK_OUTDATED},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++)
        assert_int_equal(
            eb_mark_of(&dotted, &cases[i].running, cases[i].wanted, cases[i].has_checksum ? &image : NULL),
            cases[i].mark);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(versions_follow_their_order_both_ways_and_over_any_distance),
        cmocka_unit_test(orders_are_orders),
        cmocka_unit_test(what_does_not_follow_the_order_cannot_be_told),
        cmocka_unit_test(a_build_on_one_side_only_decides_nothing),
        cmocka_unit_test(letters_with_and_without_a_number_cannot_be_compared),
        cmocka_unit_test(schemes_have_words_and_back),
        cmocka_unit_test(revisions_are_in_their_range_or_not),
        cmocka_unit_test(patterns_stand_for_what_they_say),
        cmocka_unit_test(a_hostile_pattern_takes_no_time),
        cmocka_unit_test(addresses_are_read_strictly),
        cmocka_unit_test(marks_tell_the_running_from_the_wanted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
