/* Whether an image fits: every rule on both sides of its border, with facts that cannot be read, and with
 * every other rule broken or not; and the way to a version through others. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct eb_version_order dotted = {EB_VERSION_DOTTED, ""};

struct facts {
    struct eb_identity identity;
    struct eb_running running;
    struct eb_image_facts image;
    struct eb_image_found file;
    char loader[16], gateway[16], plc[16], profile_floor[16], delivered[16];
    struct eb_surroundings around;
    struct eb_judge_facts facts;
};

/* All of it in order, and every rule with something to say. */
static struct facts *good(struct facts *f)
{
    *f = (struct facts){
        .identity = {"Quellmar", "Regent C4", "QM-RC4-24D", "5", "S1"},
        .running = {.version = "4.1.9"},
        .image = {.component = "firmware",
                  .version = "4.2.1",
                  .size_bytes = 1000,
                  .order_codes = {"QM-RC4-24D", "QM-RC4-12?"},
                  .hardware_revisions = {"4..6", "C"},
                  .least_running = "4.1.0",
                  .least_loader = "2.0",
                  .least_gateway = "2.1",
                  .floor = "4.0.0",
                  .companions = {{"tool", "18.0", {EB_VERSION_DOTTED, ""}},
                                 {"plc", "4.2", {EB_VERSION_DOTTED, ""}}},
                  .signature = EB_SIGNATURE_TRUSTED},
        .file = {.size_bytes = 1000, .content_bytes = 900},
        .loader = "2.0",
        .gateway = "2.1",
        .plc = "4.2",
        .profile_floor = "3.0",
        .delivered = "4.0.3",
        .around = {.behind_gateway = true,
                   .gateway = f->gateway,
                   .gateway_order = &dotted,
                   .companions = {{"plc", f->plc}, {"tool", "18.0"}},
                   .companion_count = 2},
        .facts = {.identity = &f->identity,
                  .running = &f->running,
                  .order = &dotted,
                  .image = &f->image,
                  .file = &f->file,
                  .capacity_bytes = 1000,
                  .profile_floor = f->profile_floor,
                  .delivered = f->delivered,
                  .loader = f->loader,
                  .loader_order = &dotted,
                  .around = &f->around},
    };
    return f;
}

static struct eb_verdict judge(const struct facts *f)
{
    struct eb_verdict v;
    eb_judge(&f->facts, &v);
    assert_int_equal(v.count, EB_RULES_OF_IMAGES); /* every rule answers, also when it holds */
    return v;
}

#define AT(member)      offsetof(struct facts, member)
#define DIGEST_OF_ZEROS "0000000000000000000000000000000000000000000000000000000000000000"

/* One text of the facts is changed; then the rule answers so, and all others hold. */
static const struct row {
    size_t at;
    const char *text;
    enum eb_rule rule;
    enum eb_grade grade;
    const char *found, *expected;
} rows[] = {
    {AT(identity.order_code), "QM-RC4-24D", EB_RULE_ORDER_CODE, EB_GRADE_YES, "QM-RC4-24D",
     "QM-RC4-24D or QM-RC4-12?"},
    {AT(identity.order_code), "QM-RC4-12X", EB_RULE_ORDER_CODE, EB_GRADE_YES, "QM-RC4-12X",
     "QM-RC4-24D or QM-RC4-12?"},
    {AT(identity.order_code), "QM-RC4-24K", EB_RULE_ORDER_CODE, EB_GRADE_NO, "QM-RC4-24K",
     "QM-RC4-24D or QM-RC4-12?"},
    {AT(identity.order_code), "QM-RC4-24D ", EB_RULE_ORDER_CODE, EB_GRADE_NO, "QM-RC4-24D ",
     "QM-RC4-24D or QM-RC4-12?"},
    {AT(identity.order_code), "", EB_RULE_ORDER_CODE, EB_GRADE_CANNOT_TELL, "not readable",
     "QM-RC4-24D or QM-RC4-12?"},

    {AT(identity.hardware_revision), "3", EB_RULE_HARDWARE_REVISION, EB_GRADE_NO, "3", "4..6 or C"},
    {AT(identity.hardware_revision), "4", EB_RULE_HARDWARE_REVISION, EB_GRADE_YES, "4", "4..6 or C"},
    {AT(identity.hardware_revision), "6", EB_RULE_HARDWARE_REVISION, EB_GRADE_YES, "6", "4..6 or C"},
    {AT(identity.hardware_revision), "7", EB_RULE_HARDWARE_REVISION, EB_GRADE_NO, "7", "4..6 or C"},
    {AT(identity.hardware_revision), "C", EB_RULE_HARDWARE_REVISION, EB_GRADE_YES, "C", "4..6 or C"},
    {AT(identity.hardware_revision), "D", EB_RULE_HARDWARE_REVISION, EB_GRADE_NO, "D", "4..6 or C"},
    {AT(identity.hardware_revision), "B2", EB_RULE_HARDWARE_REVISION, EB_GRADE_CANNOT_TELL, "B2",
     "4..6 or C"},
    {AT(identity.hardware_revision), "", EB_RULE_HARDWARE_REVISION, EB_GRADE_CANNOT_TELL, "not readable",
     "4..6 or C"},
    {AT(image.hardware_revisions), "", EB_RULE_HARDWARE_REVISION, EB_GRADE_CANNOT_TELL, "5",
     "an image that says for which revisions it is"},

    {AT(loader), "1.9", EB_RULE_LOADER_VERSION, EB_GRADE_NO, "1.9", "at least 2.0"},
    {AT(loader), "2.0", EB_RULE_LOADER_VERSION, EB_GRADE_YES, "2.0", "at least 2.0"},
    {AT(loader), "2.1", EB_RULE_LOADER_VERSION, EB_GRADE_YES, "2.1", "at least 2.0"},
    {AT(loader), "", EB_RULE_LOADER_VERSION, EB_GRADE_CANNOT_TELL, "not readable", "at least 2.0"},
    {AT(loader), "two", EB_RULE_LOADER_VERSION, EB_GRADE_CANNOT_TELL, "two", "at least 2.0"},

    {AT(running.version), "4.2.0", EB_RULE_RUNNING_VERSION, EB_GRADE_YES, "4.2.0", "older than 4.2.1"},
    {AT(running.version), "4.2.1", EB_RULE_RUNNING_VERSION, EB_GRADE_YES, "4.2.1", "the same as 4.2.1"},
    {AT(running.version), "4.2.2", EB_RULE_RUNNING_VERSION, EB_GRADE_IF, "4.2.2", "older than 4.2.1"},

    {AT(running.version), "4.1.0", EB_RULE_LEAST_RUNNING, EB_GRADE_YES, "4.1.0", "at least 4.1.0"},
    {AT(running.version), "4.0.9", EB_RULE_LEAST_RUNNING, EB_GRADE_NO, "4.0.9", "at least 4.1.0"},
    {AT(image.least_running), "", EB_RULE_LEAST_RUNNING, EB_GRADE_YES, "4.1.9", "any"},

    {AT(delivered), "4.2.1", EB_RULE_DELIVERED_FLOOR, EB_GRADE_YES, "4.2.1", "at least 4.2.1"},
    {AT(delivered), "4.2.2", EB_RULE_DELIVERED_FLOOR, EB_GRADE_NO, "4.2.1", "at least 4.2.2"},
    {AT(delivered), "?", EB_RULE_DELIVERED_FLOOR, EB_GRADE_CANNOT_TELL, "4.2.1", "at least ?"},
    {AT(profile_floor), "4.2.1", EB_RULE_DELIVERED_FLOOR, EB_GRADE_YES, "4.2.1", "at least 4.0.3"},
    {AT(profile_floor), "5", EB_RULE_DELIVERED_FLOOR, EB_GRADE_NO, "4.2.1", "at least 5"},
    {AT(image.floor), "4.2.2", EB_RULE_DELIVERED_FLOOR, EB_GRADE_NO, "4.2.1", "at least 4.2.2"},

    {AT(gateway), "2.0.9", EB_RULE_GATEWAY_VERSION, EB_GRADE_NO, "2.0.9", "at least 2.1"},
    {AT(gateway), "2.1", EB_RULE_GATEWAY_VERSION, EB_GRADE_YES, "2.1", "at least 2.1"},
    {AT(gateway), "", EB_RULE_GATEWAY_VERSION, EB_GRADE_CANNOT_TELL, "not readable", "at least 2.1"},

    {AT(plc), "4.1.9", EB_RULE_COMPANION, EB_GRADE_NO, "plc 4.1.9", "plc at least 4.2"},
    {AT(plc), "4.2", EB_RULE_COMPANION, EB_GRADE_YES, "tool 18.0", "tool at least 18.0"},
    {AT(plc), "", EB_RULE_COMPANION, EB_GRADE_CANNOT_TELL, "plc not readable", "plc at least 4.2"},
    {AT(image.companions[1].role), "hmi", EB_RULE_COMPANION, EB_GRADE_CANNOT_TELL,
     "hmi not named on the site", "hmi at least 4.2"},
    {AT(image.companions[0].role), "", EB_RULE_COMPANION, EB_GRADE_YES, "none asked for", "any"},
};

static const struct number_row {
    uint64_t size, content, capacity;
    enum eb_rule rule;
    enum eb_grade grade;
    const char *found, *expected;
} number_rows[] = {
    {1000, 1000, 1000, EB_RULE_CAPACITY, EB_GRADE_YES, "1000 bytes", "at most 1000 bytes"},
    {1000, 1001, 1000, EB_RULE_CAPACITY, EB_GRADE_NO, "1001 bytes", "at most 1000 bytes"},
    {1000, UINT64_MAX, 0, EB_RULE_CAPACITY, EB_GRADE_YES, "18446744073709551615 bytes",
     "any, the profile names no capacity"},
    {999, 900, 1000, EB_RULE_SIZE, EB_GRADE_NO, "999 bytes", "1000 bytes"},
    {1001, 900, 1000, EB_RULE_SIZE, EB_GRADE_NO, "1001 bytes", "1000 bytes"},
};

static void check(const struct eb_verdict *v, enum eb_rule rule, enum eb_grade grade, const char *found,
                  const char *expected)
{
    static const enum eb_answer answers[] = {EB_FITS, EB_FITS, EB_FITS_IF, EB_VERDICT_CANNOT_TELL,
                                             EB_DOES_NOT_FIT};
    for (size_t i = 0; i < v->count; i++) {
        const struct eb_finding *f = &v->findings[i];
        if (f->rule != rule) {
            if (f->grade != EB_GRADE_YES)
                fail_msg("%s is %s beside %s", eb_rule_code(f->rule), eb_grade_word(f->grade),
                         eb_rule_code(rule));
        } else if (f->grade != grade || strcmp(f->found, found) != 0 || strcmp(f->expected, expected) != 0) {
            fail_msg("%s: %s, found %s, expected %s, not %s, %s, %s", eb_rule_code(rule),
                     eb_grade_word(f->grade), f->found, f->expected, eb_grade_word(grade), found, expected);
        }
    }
    assert_int_equal(v->answer, answers[grade]);
}

static void each_rule_on_both_sides_of_its_border(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct facts f;
        eb_text_copy((char *)good(&f) + rows[i].at, 16, rows[i].text);
        struct eb_verdict v = judge(&f);
        check(&v, rows[i].rule, rows[i].grade, rows[i].found, rows[i].expected);
    }
    for (size_t i = 0; i < sizeof number_rows / sizeof number_rows[0]; i++) {
        const struct number_row *r = &number_rows[i];
        struct facts f;
        good(&f)->file = (struct eb_image_found){.size_bytes = r->size, .content_bytes = r->content};
        f.facts.capacity_bytes = r->capacity;
        struct eb_verdict v = judge(&f);
        check(&v, r->rule, r->grade, r->found, r->expected);
    }
}

static void what_is_in_order_fits(void **state)
{
    (void)state;
    struct facts f;
    struct eb_verdict v = judge(good(&f));
    assert_int_equal(v.answer, EB_FITS);
    assert_int_equal(v.step, EB_NEWER);
}

static void digest_and_signature(void **state)
{
    (void)state;
    static const struct {
        enum eb_signature signature;
        enum eb_grade grade;
        const char *found, *expected;
    } signatures[] = {
        {EB_SIGNATURE_NOT_ASKED, EB_GRADE_YES, "not asked for", "any, no key is listed as trusted"},
        {EB_SIGNATURE_TRUSTED, EB_GRADE_YES, "signed with a trusted key", "signed with a trusted key"},
        {EB_SIGNATURE_MISSING, EB_GRADE_NO, "not signed", "signed with a trusted key"},
        {EB_SIGNATURE_WRONG, EB_GRADE_NO, "a signature that does not belong to it",
         "signed with a trusted key"},
        {EB_SIGNATURE_STRANGE, EB_GRADE_NO, "signed with a key that is not trusted here",
         "signed with a trusted key"},
    };
    struct facts f;
    struct eb_verdict v;
    good(&f)->file.sha256[31] = 1;
    v = judge(&f);
    check(&v, EB_RULE_DIGEST, EB_GRADE_NO, "0000000000000000000000000000000000000000000000000000000000000001",
          DIGEST_OF_ZEROS);
    for (size_t i = 0; i < sizeof signatures / sizeof signatures[0]; i++) {
        good(&f)->image.signature = signatures[i].signature;
        v = judge(&f);
        check(&v, EB_RULE_SIGNATURE, signatures[i].grade, signatures[i].found, signatures[i].expected);
    }
}

static void what_nobody_knows_cannot_be_told(void **state)
{
    (void)state;
    struct facts f;
    struct eb_verdict v;
    good(&f)->facts.file = NULL; /* size and digest */
    f.facts.accepted = UINT32_MAX;
    assert_int_equal(judge(&f).answer, EB_VERDICT_CANNOT_TELL);
    good(&f)->facts.around = NULL;
    v = judge(&f);
    assert_int_equal(v.answer, EB_VERDICT_CANNOT_TELL);
    assert_string_equal(v.findings[EB_RULE_GATEWAY_VERSION].found, "not known");
    assert_string_equal(v.findings[EB_RULE_COMPANION].found, "tool not named on the site");
    good(&f)->facts.loader = NULL;
    f.facts.loader_order = NULL;
    v = judge(&f);
    check(&v, EB_RULE_LOADER_VERSION, EB_GRADE_CANNOT_TELL, "not known", "at least 2.0");
    /* What runs decides two rules. */
    good(&f)->running.version[0] = '\0';
    v = judge(&f);
    assert_int_equal(v.findings[EB_RULE_RUNNING_VERSION].grade, EB_GRADE_CANNOT_TELL);
    assert_int_equal(v.findings[EB_RULE_LEAST_RUNNING].grade, EB_GRADE_CANNOT_TELL);
    f.image.least_running[0] = '\0';
    v = judge(&f);
    check(&v, EB_RULE_RUNNING_VERSION, EB_GRADE_CANNOT_TELL, "not readable",
          "a version that can be compared with 4.2.1");
    f.facts.in_loader = true;
    v = judge(&f);
    check(&v, EB_RULE_RUNNING_VERSION, EB_GRADE_YES, "in its loader, no program runs",
          "any, to bring it back");
}

static void without_a_gateway_none_is_asked_for(void **state)
{
    (void)state;
    struct facts f;
    struct eb_verdict v;
    good(&f)->around.behind_gateway = false;
    strcpy(f.gateway, "0.1");
    v = judge(&f);
    check(&v, EB_RULE_GATEWAY_VERSION, EB_GRADE_YES, "reached directly", "behind a gateway at least 2.1");
}

/* What another device of the site lacks, and the same job would bring it, is no reason to accept anything. */
static void what_a_job_brings_to_others_is_named(void **state)
{
    (void)state;
    static const struct {
        const char *plc, *together, *tool;
        enum eb_grade grade;
        const char *device, *found;
    } cases[] = {
        {"4.1.9", "4.2", "18.0", EB_GRADE_IF, "drive-plc", "plc 4.1.9"},
        {"4.1.9", "4.1.10", "18.0", EB_GRADE_NO, NULL, "plc 4.1.9"}, /* it would not be enough either */
        {"4.1.9", "", "18.0", EB_GRADE_NO, NULL, "plc 4.1.9"},
        {"", "4.2", "18.0", EB_GRADE_IF, "drive-plc", "plc not readable"},
        {"4.2", "4.3", "18.0", EB_GRADE_YES, NULL, "tool 18.0"},
        {"4.1.9", "4.2", "17.9", EB_GRADE_NO, NULL, "tool 17.9"}, /* the worst one is told */
    };
    struct facts f;
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        good(&f);
        f.around.companions[0] =
            (struct eb_companion_version){"plc", cases[i].plc, "drive-plc", cases[i].together};
        f.around.companions[1].version = cases[i].tool;
        struct eb_verdict v = judge(&f);
        const struct eb_finding *finding = &v.findings[EB_RULE_COMPANION];
        assert_int_equal(finding->rule, EB_RULE_COMPANION);
        assert_int_equal(finding->grade, cases[i].grade);
        assert_string_equal(finding->found, cases[i].found);
        if (cases[i].device == NULL)
            assert_null(finding->together);
        else
            assert_string_equal(finding->together, cases[i].device);
    }
    eb_text_copy(good(&f)->gateway, sizeof f.gateway, "2.0");
    f.around.gateway_device = "lead-node";
    f.around.gateway_together = "2.1";
    struct eb_verdict v = judge(&f);
    check(&v, EB_RULE_GATEWAY_VERSION, EB_GRADE_IF, "2.0", "at least 2.1");
    assert_string_equal(v.findings[EB_RULE_GATEWAY_VERSION].together, "lead-node");
}

static void a_gap_is_named(void **state)
{
    (void)state;
    struct facts f;
    struct eb_verdict v;
    good(&f)->facts.no_way = true;
    assert_int_equal(judge(&f).answer, EB_FITS);
    strcpy(f.running.version, "4.0.1");
    v = judge(&f);
    check(&v, EB_RULE_LEAST_RUNNING, EB_GRADE_NO, "4.0.1", "at least 4.1.0, and no image leads there");
}

/* Breaks those rules whose bit is set. */
static void break_rules(struct facts *f, unsigned broken)
{
    good(f);
    if (broken >> EB_RULE_ORDER_CODE & 1)
        strcpy(f->identity.order_code, "other");
    if (broken >> EB_RULE_HARDWARE_REVISION & 1)
        strcpy(f->identity.hardware_revision, "7");
    if (broken >> EB_RULE_LOADER_VERSION & 1)
        strcpy(f->loader, "1");
    if (broken >> EB_RULE_RUNNING_VERSION & 1)
        strcpy(f->running.version, "4.3.0");
    if (broken >> EB_RULE_LEAST_RUNNING & 1)
        strcpy(f->image.least_running, "4.9");
    if (broken >> EB_RULE_DELIVERED_FLOOR & 1)
        strcpy(f->delivered, "9");
    if (broken >> EB_RULE_GATEWAY_VERSION & 1)
        strcpy(f->gateway, "1");
    if (broken >> EB_RULE_COMPANION & 1)
        strcpy(f->plc, "4.1");
    if (broken >> EB_RULE_CAPACITY & 1)
        f->file.content_bytes = 1001;
    if (broken >> EB_RULE_SIZE & 1)
        f->file.size_bytes++;
    if (broken >> EB_RULE_DIGEST & 1)
        f->file.sha256[31] = 1;
    if (broken >> EB_RULE_SIGNATURE & 1)
        f->image.signature = EB_SIGNATURE_WRONG;
}

/* All pairs of rules are in it, and all other sets. */
static void rules_do_not_hide_each_other(void **state)
{
    (void)state;
    for (unsigned broken = 0; broken < 1U << EB_RULES_OF_IMAGES; broken++) {
        struct facts f;
        break_rules(&f, broken);
        struct eb_verdict v = judge(&f);
        for (size_t i = 0; i < v.count; i++)
            assert_int_equal(v.findings[i].grade != EB_GRADE_YES, broken >> v.findings[i].rule & 1);
        assert_int_equal(v.answer == EB_FITS, broken == 0);
        assert_int_equal(v.answer == EB_FITS_IF, broken == 1U << EB_RULE_RUNNING_VERSION);
    }
}

static bool is_never_accepted(enum eb_rule rule)
{
    return rule == EB_RULE_ORDER_CODE || rule == EB_RULE_DELIVERED_FLOOR || rule == EB_RULE_CAPACITY ||
           rule == EB_RULE_SIZE || rule == EB_RULE_DIGEST || rule == EB_RULE_SIGNATURE;
}

/* One rule broken, and each pair: accepted alone, with all others accepted, and by its own code. */
static void only_what_may_be_accepted_is(void **state)
{
    (void)state;
    for (int a = 0; a < EB_RULES_OF_IMAGES; a++) {
        for (int b = a; b < EB_RULES_OF_IMAGES; b++) {
            struct facts f;
            unsigned broken = 1U << a | 1U << b;
            bool never = is_never_accepted((enum eb_rule)a) || is_never_accepted((enum eb_rule)b);
            break_rules(&f, broken);
            f.facts.accepted = broken;
            assert_int_equal(judge(&f).answer == EB_FITS, !never);
            f.facts.accepted = UINT32_MAX;
            assert_int_equal(judge(&f).answer == EB_FITS, !never);
            f.facts.accepted = ~(1U << a);
            assert_int_not_equal(judge(&f).answer, EB_FITS);
            f.facts.accepted = broken;
            struct eb_verdict v = judge(&f);
            for (size_t i = 0; i < v.count; i++) {
                bool is_broken = (broken >> v.findings[i].rule & 1) != 0;
                assert_int_equal(v.findings[i].grade == EB_GRADE_ACCEPTED,
                                 is_broken && !is_never_accepted(v.findings[i].rule));
            }
        }
    }
}

static void what_could_not_be_read_may_be_accepted_where_a_wrong_one_may_not(void **state)
{
    (void)state;
    struct facts f;
    good(&f)->identity.order_code[0] = '\0';
    f.facts.accepted = 1U << EB_RULE_ORDER_CODE;
    assert_int_equal(judge(&f).answer, EB_FITS);
    strcpy(good(&f)->delivered, "?");
    f.facts.accepted = 1U << EB_RULE_DELIVERED_FLOOR;
    assert_int_equal(judge(&f).answer, EB_FITS);
}

static void codes_are_words_and_back(void **state)
{
    (void)state;
    for (int i = 0; i < EB_RULES; i++) {
        enum eb_rule rule;
        assert_true(eb_rule_read(eb_rule_code((enum eb_rule)i), &rule));
        assert_int_equal(rule, i);
    }
    enum eb_rule rule;
    assert_false(eb_rule_read("", &rule));
    assert_false(eb_rule_read("Digest", &rule));
}

static void the_batch_is_about_the_plan_not_the_image(void **state)
{
    (void)state;
    struct facts f;
    struct eb_verdict v = judge(good(&f));
    eb_verdict_batch(&v, NULL);
    assert_int_equal(v.findings[EB_RULES_OF_IMAGES].grade, EB_GRADE_YES);
    v = judge(&f);
    eb_verdict_batch(&v, "door-08");
    assert_int_equal(v.findings[EB_RULES_OF_IMAGES].grade, EB_GRADE_IF);
    assert_string_equal(v.findings[EB_RULES_OF_IMAGES].found, "door-08 is refused");
    assert_int_equal(v.answer, EB_FITS);
}

/* --- the way through others ---------------------------------------------------------------------- */

enum { SHELF_MAX = 80 };

struct shelf {
    struct eb_image_facts facts[SHELF_MAX];
    struct eb_image_found files[SHELF_MAX];
    struct eb_way_image images[SHELF_MAX];
    size_t count;
};

/* An image that follows `least`. */
static void put(struct shelf *s, const char *version, const char *least)
{
    struct facts f;
    size_t i = s->count++;
    good(&f);
    s->facts[i] = f.image;
    s->files[i] = f.file;
    eb_text_copy(s->facts[i].version, EB_VERSION_TEXT_BYTES, version);
    eb_text_copy(s->facts[i].least_running, EB_VERSION_TEXT_BYTES, least);
    s->images[i] = (struct eb_way_image){&s->facts[i], &s->files[i]};
}

/* The versions on the way, with blanks between. */
static const char *way(const struct shelf *s, const char *running, const char *wanted)
{
    static char text[200];
    size_t steps[EB_WAY_STEPS_MAX];
    struct facts f;
    size_t goal = s->count;
    eb_text_copy(good(&f)->running.version, EB_VERSION_TEXT_BYTES, running);
    strcpy(f.delivered, "");
    strcpy(f.profile_floor, "");
    for (size_t i = 0; i < s->count; i++)
        goal = strcmp(s->facts[i].version, wanted) == 0 && goal == s->count ? i : goal;
    struct eb_text to;
    eb_text_init(&to, text, sizeof text);
    size_t count = eb_plan_way(&f.facts, s->images, s->count, goal, steps);
    for (size_t i = 0; i < count; i++) {
        eb_text_add(&to, i > 0 ? " " : "");
        eb_text_add(&to, s->facts[steps[i]].version);
    }
    return text;
}

static void the_shortest_way_is_taken(void **state)
{
    (void)state;
    struct shelf s = {0};
    put(&s, "9.0", "7.0");
    put(&s, "8.0", "6.0");
    put(&s, "7.0", "5.0");
    put(&s, "6.0", "4.0");
    put(&s, "5.0", "4.0");
    assert_string_equal(way(&s, "8.0", "9.0"), "9.0");
    assert_string_equal(way(&s, "7.0", "9.0"), "9.0");
    assert_string_equal(way(&s, "6.5", "9.0"), "8.0 9.0");
    assert_string_equal(way(&s, "5.0", "9.0"), "7.0 9.0");
    assert_string_equal(way(&s, "4.5", "9.0"),
                        "6.0 8.0 9.0"); /* not by 5.0 and 7.0: that is as long, but stands behind */
    assert_string_equal(way(&s, "3.9", "9.0"), ""); /* nothing follows that */
    assert_string_equal(way(&s, "9.0", "9.0"), ""); /* there is nothing to go */
    assert_string_equal(way(&s, "9.5", "9.0"), ""); /* never backwards */
    assert_string_equal(way(&s, "unknown", "9.0"), "");
}

static void each_step_of_a_way_fits_itself(void **state)
{
    (void)state;
    struct shelf s = {0};
    put(&s, "9.0", "7.0");
    put(&s, "8.0", "4.0");
    put(&s, "7.5", "4.0");
    strcpy(s.facts[1].hardware_revisions[0], "1..3");
    s.facts[1].hardware_revisions[1][0] = '\0';
    assert_string_equal(way(&s, "4.5", "9.0"), "7.5 9.0");
    strcpy(s.facts[2].order_codes[0], "other");
    s.facts[2].order_codes[1][0] = '\0';
    assert_string_equal(way(&s, "4.5", "9.0"), "");
    /* Nor does one lead beyond what is wanted. */
    struct shelf beyond = {0};
    put(&beyond, "9.0", "7.0");
    put(&beyond, "9.5", "4.0");
    assert_string_equal(way(&beyond, "4.5", "9.0"), "");
}

static void a_way_has_its_limits(void **state)
{
    (void)state;
    struct shelf s = {0};
    for (int i = EB_WAY_STEPS_MAX + 1; i > 0; i--) {
        char version[8];
        char least[8];
        snprintf(version, sizeof version, "%d.0", i + 4);
        snprintf(least, sizeof least, "%d.0", i + 3);
        put(&s, version, least);
    }
    assert_string_equal(way(&s, "5.0", "11.0"), "6.0 7.0 8.0 9.0 10.0 11.0");
    assert_string_equal(way(&s, "4.0", "11.0"), "");
    struct shelf full = {0};
    while (full.count < EB_WAY_IMAGES_MAX)
        put(&full, "9.0", "8.0");
    put(&full, "9.1", "8.0");
    assert_string_equal(way(&full, "8.5", "9.0"), "9.0");
    assert_string_equal(way(&full, "8.5", "9.1"), ""); /* the one too many is not looked at */
}

/* Against a search that tries all ways, on shelves made at random. */
static size_t shortest(const struct shelf *s, int running, int wanted, size_t depth)
{
    size_t best = 0;
    for (size_t i = 0; depth > 0 && i < s->count; i++) {
        int version = atoi(s->facts[i].version);
        if (atoi(s->facts[i].least_running) > running || version <= running || version > wanted)
            continue;
        size_t rest = version == wanted ? 1 : shortest(s, version, wanted, depth - 1);
        rest += version != wanted && rest > 0;
        best = rest > 0 && (best == 0 || rest < best) ? rest : best;
    }
    return best;
}

static void the_way_is_as_short_as_any(void **state)
{
    (void)state;
    size_t with_way = 0;
    srand(4);
    for (int round = 0; round < 2000; round++) {
        struct shelf s = {0};
        int wanted = 6 + rand() % 8;
        size_t others = (size_t)(rand() % 8);
        for (size_t i = 0; i <= others; i++) {
            char version[8];
            char least[8];
            int v = i == 0 ? wanted : 5 + rand() % 10;
            if (i > 0 && v == wanted)
                continue;
            snprintf(version, sizeof version, "%d", v);
            snprintf(least, sizeof least, "%d", v - 1 - rand() % 5);
            put(&s, version, least);
        }
        char wanted_text[8];
        snprintf(wanted_text, sizeof wanted_text, "%d", wanted);
        const char *text = way(&s, "4", wanted_text);
        size_t steps = text[0] != '\0';
        for (const char *at = text; *at != '\0'; at++)
            steps += *at == ' ';
        assert_int_equal(steps, shortest(&s, 4, wanted, EB_WAY_STEPS_MAX));
        with_way += steps > 1;
    }
    assert_true(with_way > 200);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_is_in_order_fits),
        cmocka_unit_test(each_rule_on_both_sides_of_its_border),
        cmocka_unit_test(digest_and_signature),
        cmocka_unit_test(what_nobody_knows_cannot_be_told),
        cmocka_unit_test(without_a_gateway_none_is_asked_for),
        cmocka_unit_test(what_a_job_brings_to_others_is_named),
        cmocka_unit_test(a_gap_is_named),
        cmocka_unit_test(rules_do_not_hide_each_other),
        cmocka_unit_test(only_what_may_be_accepted_is),
        cmocka_unit_test(what_could_not_be_read_may_be_accepted_where_a_wrong_one_may_not),
        cmocka_unit_test(codes_are_words_and_back),
        cmocka_unit_test(the_batch_is_about_the_plan_not_the_image),
        cmocka_unit_test(the_shortest_way_is_taken),
        cmocka_unit_test(each_step_of_a_way_fits_itself),
        cmocka_unit_test(a_way_has_its_limits),
        cmocka_unit_test(the_way_is_as_short_as_any),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
