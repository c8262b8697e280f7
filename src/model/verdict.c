#include "einbau/model.h"
#include "einbau/text.h"
#include "einbau/usb.h"

#include <string.h>

enum { ANY = 0xFFFF }; /* in a DFU suffix */

static const char *const rule_codes[EB_RULES] = {
    [EB_RULE_ORDER_CODE] = "order-code",
    [EB_RULE_HARDWARE_REVISION] = "hardware-revision",
    [EB_RULE_LOADER_VERSION] = "loader-version",
    [EB_RULE_RUNNING_VERSION] = "running-version",
    [EB_RULE_LEAST_RUNNING] = "least-running",
    [EB_RULE_DELIVERED_FLOOR] = "delivered-floor",
    [EB_RULE_GATEWAY_VERSION] = "gateway-version",
    [EB_RULE_COMPANION] = "companion",
    [EB_RULE_CAPACITY] = "capacity",
    [EB_RULE_SIZE] = "size",
    [EB_RULE_DIGEST] = "digest",
    [EB_RULE_DFU_SUFFIX] = "dfu-suffix",
    [EB_RULE_SIGNATURE] = "signature",
    [EB_RULE_BATCH] = "batch",
    [EB_RULE_NETWORK] = "network",
};

_Static_assert((int)EB_RULES <= (int)EB_FINDINGS_MAX, "every rule has room for its finding");

const char *eb_rule_code(enum eb_rule rule)
{
    return (size_t)rule < EB_RULES ? rule_codes[rule] : "unknown";
}

bool eb_rule_read(const char *code, enum eb_rule *rule)
{
    for (int i = 0; i < EB_RULES; i++) {
        if (strcmp(rule_codes[i], code) == 0) {
            *rule = (enum eb_rule)i;
            return true;
        }
    }
    return false;
}

const char *eb_grade_word(enum eb_grade grade)
{
    static const char *const words[] = {"yes", "accepted", "if", "cannot-tell", "no"};
    return (size_t)grade < 5 ? words[grade] : "unknown";
}

const char *eb_answer_word(enum eb_answer answer)
{
    static const char *const words[] = {"fits", "fits-if", "does-not-fit", "cannot-tell"};
    return (size_t)answer < 4 ? words[answer] : "unknown";
}

const char *eb_mark_word(enum eb_mark mark)
{
    static const char *const words[] = {"current",    "outdated",    "newer",  "differs",
                                        "unreadable", "unreachable", "unknown"};
    return (size_t)mark < sizeof words / sizeof words[0] ? words[mark] : "unknown";
}

enum eb_mark eb_mark_of(const struct eb_version_order *order, const struct eb_running *running,
                        const char *wanted, const uint32_t *checksum)
{
    if (running->version[0] == '\0')
        return EB_MARK_UNREADABLE;
    if (wanted[0] == '\0')
        return EB_MARK_CURRENT;
    switch (eb_version_compare(order, running->version, wanted)) {
    case EB_OLDER:
        return EB_MARK_OUTDATED;
    case EB_SAME:
        return checksum == NULL                 ? EB_MARK_CURRENT
               : !running->has_checksum         ? EB_MARK_UNREADABLE
               : running->checksum == *checksum ? EB_MARK_CURRENT
                                                : EB_MARK_DIFFERS;
    case EB_NEWER:
        return EB_MARK_NEWER;
    default:
        return EB_MARK_UNREADABLE;
    }
}

/* Adds the finding of one rule.  The texts are joined from up to two pieces each. */
static struct eb_finding *add(struct eb_verdict *verdict, enum eb_rule rule, enum eb_grade grade,
                              const char *found, const char *expected, const char *expected_more)
{
    struct eb_finding *f = &verdict->findings[verdict->count++];
    struct eb_text text;
    f->rule = rule;
    f->grade = grade;
    f->acceptable = grade != EB_GRADE_YES;
    eb_text_copy(f->found, sizeof f->found, found[0] != '\0' ? found : "not readable");
    eb_text_init(&text, f->expected, sizeof f->expected);
    eb_text_add(&text, expected);
    eb_text_add(&text, expected_more);
    return f;
}

static void join(const char (*list)[EB_NAME_BYTES], char *to, size_t cap)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    for (int i = 0; i < EB_PATTERNS_MAX && list[i][0] != '\0'; i++) {
        if (i > 0)
            eb_text_add(&text, " or ");
        eb_text_add(&text, list[i]);
    }
}

static void judge_order_code(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const struct eb_image_facts *image = facts->image;
    const char *code = facts->identity->order_code;
    char expected[EB_FINDING_TEXT_BYTES];
    bool matches = false;
    join(image->order_codes, expected, sizeof expected);
    for (int i = 0; i < EB_PATTERNS_MAX && image->order_codes[i][0] != '\0'; i++)
        matches = matches || eb_pattern_matches(image->order_codes[i], code);
    enum eb_grade grade = code[0] == '\0' ? EB_GRADE_CANNOT_TELL : matches ? EB_GRADE_YES : EB_GRADE_NO;
    struct eb_finding *f = add(verdict, EB_RULE_ORDER_CODE, grade, code, expected, "");
    f->acceptable = grade == EB_GRADE_CANNOT_TELL;
}

static void judge_revision(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const struct eb_image_facts *image = facts->image;
    const char *revision = facts->identity->hardware_revision;
    char expected[EB_FINDING_TEXT_BYTES];
    enum eb_membership best = EB_NOT_COMPARABLE;
    join(image->hardware_revisions, expected, sizeof expected);
    if (expected[0] == '\0')
        eb_text_copy(expected, sizeof expected, "an image that says for which revisions it is");
    for (int i = 0; i < EB_PATTERNS_MAX && image->hardware_revisions[i][0] != '\0'; i++) {
        enum eb_membership m = eb_revision_in(image->hardware_revisions[i], revision);
        if (m == EB_INSIDE || best == EB_NOT_COMPARABLE)
            best = m == EB_NOT_COMPARABLE ? best : m;
    }
    enum eb_grade grade = best == EB_INSIDE    ? EB_GRADE_YES
                          : best == EB_OUTSIDE ? EB_GRADE_NO
                                               : EB_GRADE_CANNOT_TELL;
    add(verdict, EB_RULE_HARDWARE_REVISION, grade, revision, expected, "");
}

static void judge_running(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const char *running = facts->running->version;
    const char *version = facts->image->version;
    if (facts->in_loader) {
        verdict->step = EB_NEWER;
        add(verdict, EB_RULE_RUNNING_VERSION, EB_GRADE_YES, "in its loader, no program runs",
            "any, to bring it back", "");
        return;
    }
    verdict->step = eb_version_compare(facts->order, version, running);
    enum eb_grade grade = verdict->step == EB_CANNOT_TELL ? EB_GRADE_CANNOT_TELL
                          : verdict->step == EB_OLDER     ? EB_GRADE_IF
                                                          : EB_GRADE_YES;
    const char *relation = verdict->step == EB_CANNOT_TELL ? "a version that can be compared with "
                           : verdict->step == EB_SAME      ? "the same as "
                                                           : "older than ";
    add(verdict, EB_RULE_RUNNING_VERSION, grade, running, relation, version);
}

/* How a version stands to the least one that is needed: an empty one is not known. */
static enum eb_grade at_least(const struct eb_version_order *order, const char *version, const char *least)
{
    enum eb_comparison c = order != NULL && version != NULL && version[0] != '\0'
                               ? eb_version_compare(order, version, least)
                               : EB_CANNOT_TELL;
    return c == EB_CANNOT_TELL ? EB_GRADE_CANNOT_TELL : c == EB_OLDER ? EB_GRADE_NO : EB_GRADE_YES;
}

/* A rule that asks for a least version; `least` empty: for none. */
static struct eb_finding *add_least(struct eb_verdict *verdict, enum eb_rule rule, enum eb_grade grade,
                                    const char *version, const char *least)
{
    bool any = least[0] == '\0';
    return add(verdict, rule, any ? EB_GRADE_YES : grade, version != NULL ? version : "not known",
               any ? "any" : "at least ", least);
}

/* Of what stands on another device: too old, but new enough once that one is fitted in the same job. */
static void add_together(struct eb_finding *f, enum eb_grade then, const char *device)
{
    if (f->grade == EB_GRADE_YES || then != EB_GRADE_YES)
        return;
    f->grade = EB_GRADE_IF;
    f->together = device;
}

static void judge_loader(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const char *least = facts->image->least_loader;
    add_least(verdict, EB_RULE_LOADER_VERSION, at_least(facts->loader_order, facts->loader, least),
              facts->loader, least);
}

static void judge_least(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const char *least = facts->image->least_running;
    const char *running = facts->running->version;
    enum eb_grade grade = at_least(facts->order, running, least);
    add_least(verdict, EB_RULE_LEAST_RUNNING, grade, running, least);
    if (grade == EB_GRADE_NO && least[0] != '\0' && facts->no_way) {
        struct eb_finding *f = &verdict->findings[verdict->count - 1];
        struct eb_text text;
        eb_text_init(&text, f->expected, sizeof f->expected);
        eb_text_add(&text, "at least ");
        eb_text_add(&text, least);
        eb_text_add(&text, ", and no image leads there");
    }
}

static void judge_gateway(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const char *least = facts->image->least_gateway;
    const struct eb_surroundings *around = facts->around;
    if (around != NULL && !around->behind_gateway) {
        add(verdict, EB_RULE_GATEWAY_VERSION, EB_GRADE_YES, "reached directly",
            least[0] != '\0' ? "behind a gateway at least " : "any", least);
        return;
    }
    if (around == NULL) {
        add_least(verdict, EB_RULE_GATEWAY_VERSION, EB_GRADE_CANNOT_TELL, NULL, least);
        return;
    }
    struct eb_finding *f =
        add_least(verdict, EB_RULE_GATEWAY_VERSION, at_least(around->gateway_order, around->gateway, least),
                  around->gateway, least);
    add_together(f, at_least(around->gateway_order, around->gateway_together, least), around->gateway_device);
}

/* The companion of the site that has this role; one of no version where there is none. */
static const struct eb_companion_version *companion_of(const struct eb_surroundings *around, const char *role)
{
    static const struct eb_companion_version nobody;
    for (size_t i = 0; around != NULL && i < around->companion_count; i++) {
        if (strcmp(around->companions[i].role, role) == 0)
            return &around->companions[i];
    }
    return &nobody;
}

/* The finding is on the companion that stands worst. */
static void judge_companions(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const struct eb_companion *worst = NULL;
    const struct eb_companion_version *worst_here = NULL;
    enum eb_grade grade = EB_GRADE_YES;
    enum eb_grade then = EB_GRADE_YES;
    for (int i = 0; i < EB_COMPANIONS_MAX && facts->image->companions[i].role[0] != '\0'; i++) {
        const struct eb_companion *c = &facts->image->companions[i];
        const struct eb_companion_version *here = companion_of(facts->around, c->role);
        enum eb_grade now = at_least(&c->order, here->version, c->least);
        bool together = at_least(&c->order, here->together, c->least) == EB_GRADE_YES;
        enum eb_grade at_best = together ? EB_GRADE_YES : now;
        if (worst == NULL || at_best > then || (at_best == then && now > grade)) {
            worst = c;
            worst_here = here;
            grade = now;
            then = at_best;
        }
    }
    if (worst == NULL) {
        add(verdict, EB_RULE_COMPANION, EB_GRADE_YES, "none asked for", "any", "");
        return;
    }
    char found[EB_FINDING_TEXT_BYTES];
    char expected[EB_FINDING_TEXT_BYTES];
    struct eb_text text;
    const char *version = worst_here->version;
    bool known = version != NULL && version[0] != '\0';
    eb_text_init(&text, found, sizeof found);
    eb_text_add(&text, worst->role);
    eb_text_add(&text, known ? " " : version != NULL ? " not readable" : " not named on the site");
    eb_text_add(&text, known ? version : "");
    eb_text_init(&text, expected, sizeof expected);
    eb_text_add(&text, worst->role);
    eb_text_add(&text, " at least ");
    add_together(add(verdict, EB_RULE_COMPANION, grade, found, expected, worst->least), then,
                 worst_here->device);
}

static void judge_floor(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const char *version = facts->image->version;
    const char *floors[] = {facts->delivered, facts->profile_floor, facts->known_floor, facts->image->floor};
    const char *expected = "";
    enum eb_grade grade = EB_GRADE_YES;
    for (size_t i = 0; i < sizeof floors / sizeof floors[0]; i++) {
        if (floors[i] == NULL || floors[i][0] == '\0')
            continue;
        enum eb_comparison c = eb_version_compare(facts->order, version, floors[i]);
        enum eb_grade here = c == EB_CANNOT_TELL ? EB_GRADE_CANNOT_TELL
                             : c == EB_OLDER     ? EB_GRADE_NO
                                                 : EB_GRADE_YES;
        if (expected[0] == '\0' || here > grade) {
            grade = here;
            expected = floors[i];
        }
    }
    struct eb_finding *f = add(verdict, EB_RULE_DELIVERED_FLOOR, grade, version,
                               expected[0] != '\0' ? "at least " : "any, no floor is known", expected);
    f->acceptable = grade == EB_GRADE_CANNOT_TELL;
}

static void bytes_text(char *to, size_t cap, const char *before, uint64_t bytes)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    eb_text_add(&text, before);
    eb_text_add_number(&text, bytes);
    eb_text_add(&text, " bytes");
}

static void judge_capacity(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    char found[EB_FINDING_TEXT_BYTES];
    char expected[EB_FINDING_TEXT_BYTES] = "any, the profile names no capacity";
    uint64_t size = facts->file != NULL ? facts->file->content_bytes : facts->image->size_bytes;
    bool too_large = facts->capacity_bytes != 0 && size > facts->capacity_bytes;
    bytes_text(found, sizeof found, "", size);
    if (facts->capacity_bytes != 0)
        bytes_text(expected, sizeof expected, "at most ", facts->capacity_bytes);
    add(verdict, EB_RULE_CAPACITY, too_large ? EB_GRADE_NO : EB_GRADE_YES, found, expected, "")->acceptable =
        false;
}

static void judge_size(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    char found[EB_FINDING_TEXT_BYTES] = "";
    char expected[EB_FINDING_TEXT_BYTES];
    enum eb_grade grade = EB_GRADE_CANNOT_TELL;
    bytes_text(expected, sizeof expected, "", facts->image->size_bytes);
    if (facts->file != NULL) {
        bytes_text(found, sizeof found, "", facts->file->size_bytes);
        grade = facts->file->size_bytes == facts->image->size_bytes ? EB_GRADE_YES : EB_GRADE_NO;
    }
    add(verdict, EB_RULE_SIZE, grade, found, expected, "")->acceptable = false;
}

static void hex(const uint8_t *bytes, char *to)
{
    static const char digits[] = "0123456789abcdef";
    for (int i = 0; i < EB_SHA256_BYTES; i++) {
        *to++ = digits[bytes[i] >> 4];
        *to++ = digits[bytes[i] & 15];
    }
    *to = '\0';
}

static void judge_digest(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    char found[2 * EB_SHA256_BYTES + 1] = "";
    char expected[2 * EB_SHA256_BYTES + 1];
    enum eb_grade grade = EB_GRADE_CANNOT_TELL;
    hex(facts->image->sha256, expected);
    if (facts->file != NULL) {
        hex(facts->file->sha256, found);
        grade = strcmp(found, expected) == 0 ? EB_GRADE_YES : EB_GRADE_NO;
    }
    struct eb_finding *f = add(verdict, EB_RULE_DIGEST, grade, found, expected, "");
    f->acceptable = false;
}

static void add_hex16(struct eb_text *text, uint16_t number)
{
    static const char digits[] = "0123456789abcdef";
    const char chars[] = {digits[number >> 12], digits[number >> 8 & 15], digits[number >> 4 & 15],
                          digits[number & 15], '\0'};
    eb_text_add(text, chars);
}

/* "1209:0001 release 2.1.0" */
static void ids_text(uint16_t vendor, uint16_t product, uint16_t release, char to[EB_FINDING_TEXT_BYTES])
{
    struct eb_text text;
    char digits[EB_USB_RELEASE_BYTES];
    eb_text_init(&text, to, EB_FINDING_TEXT_BYTES);
    if (vendor == ANY)
        eb_text_add(&text, "any");
    else
        add_hex16(&text, vendor);
    eb_text_add(&text, ":");
    if (product == ANY)
        eb_text_add(&text, "any");
    else
        add_hex16(&text, product);
    if (release == ANY)
        return;
    eb_usb_release_text(release, 3, digits);
    eb_text_add(&text, " release ");
    eb_text_add(&text, digits);
}

/* Whether the release in a file is as it must be: the image's version where the device tells its version so,
 * else the device's own release. */
static bool release_fits(const struct eb_judge_facts *facts, uint16_t release)
{
    char text[EB_USB_RELEASE_BYTES];
    if (release == ANY)
        return true;
    if (!facts->usb->release_is_version)
        return release == facts->usb->release;
    for (unsigned parts = 2; parts <= 3; parts++) {
        eb_usb_release_text(release, parts, text);
        if (eb_version_compare(facts->order, text, facts->image->version) == EB_SAME)
            return true;
    }
    return false;
}

static void judge_suffix(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    const struct eb_usb_ids *usb = facts->usb;
    char found[EB_FINDING_TEXT_BYTES] = "no DFU suffix";
    char expected[EB_FINDING_TEXT_BYTES];
    bool fits = true;
    if (usb == NULL || facts->file == NULL || facts->file->suffix.there == EB_SUFFIX_NOT_LOOKED_FOR)
        return;
    const struct eb_suffix *s = &facts->file->suffix;
    ids_text(usb->vendor, usb->product, usb->release_is_version ? ANY : usb->release, expected);
    if (s->there == EB_SUFFIX_THERE) {
        ids_text(s->vendor, s->product, s->release, found);
        bool program = (s->vendor == ANY || s->vendor == usb->vendor) &&
                       (s->product == ANY || s->product == usb->product);
        bool loader = (s->vendor == ANY || s->vendor == usb->loader_vendor) &&
                      (s->product == ANY || s->product == usb->loader_product);
        fits = (program || loader) && release_fits(facts, s->release);
    }
    struct eb_finding *f =
        add(verdict, EB_RULE_DFU_SUFFIX, fits ? EB_GRADE_YES : EB_GRADE_NO, found, expected,
            usb->release_is_version ? ", the release being the image's version" : "");
    f->acceptable = false;
}

static void judge_signature(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    static const char *const found[] = {"not signed",
                                        "not asked for",
                                        "signed with a trusted key",
                                        "a signature that does not belong to it",
                                        "signed with a key that is not trusted here",
                                        "signed with a key that has expired or was revoked"};
    enum eb_signature signature = facts->image->signature;
    bool good = signature == EB_SIGNATURE_NOT_ASKED || signature == EB_SIGNATURE_TRUSTED;
    add(verdict, EB_RULE_SIGNATURE, good ? EB_GRADE_YES : EB_GRADE_NO, found[signature],
        signature == EB_SIGNATURE_NOT_ASKED ? "any, no key is listed as trusted"
                                            : "signed with a trusted key",
        "")
        ->acceptable = false;
}

void eb_verdict_batch(struct eb_verdict *verdict, const char *refused)
{
    char found[EB_FINDING_TEXT_BYTES];
    struct eb_text text;
    eb_text_init(&text, found, sizeof found);
    eb_text_add(&text, refused != NULL ? refused : "all fit");
    eb_text_add(&text, refused != NULL ? " is refused" : "");
    add(verdict, EB_RULE_BATCH, refused != NULL ? EB_GRADE_IF : EB_GRADE_YES, found,
        "every device of the plan to fit, or be left out", "")
        ->acceptable = false;
}

/* The answer follows from the worst grade. */
static void answer(struct eb_verdict *verdict, uint32_t accepted)
{
    static const enum eb_answer answers[] = {
        [EB_GRADE_YES] = EB_FITS,        [EB_GRADE_ACCEPTED] = EB_FITS,
        [EB_GRADE_IF] = EB_FITS_IF,      [EB_GRADE_CANNOT_TELL] = EB_VERDICT_CANNOT_TELL,
        [EB_GRADE_NO] = EB_DOES_NOT_FIT,
    };
    enum eb_grade worst = EB_GRADE_YES;
    for (size_t i = 0; i < verdict->count; i++) {
        struct eb_finding *f = &verdict->findings[i];
        if (f->acceptable && (accepted >> f->rule & 1) != 0)
            f->grade = EB_GRADE_ACCEPTED;
        if (f->grade > worst)
            worst = f->grade;
    }
    verdict->answer = answers[worst];
}

void eb_verdict_add(struct eb_verdict *verdict, const struct eb_finding *finding, uint32_t accepted)
{
    verdict->findings[verdict->count++] = *finding;
    answer(verdict, accepted);
}

void eb_judge(const struct eb_judge_facts *facts, struct eb_verdict *verdict)
{
    memset(verdict, 0, sizeof *verdict);
    judge_order_code(facts, verdict);
    judge_revision(facts, verdict);
    judge_loader(facts, verdict);
    judge_running(facts, verdict);
    judge_least(facts, verdict);
    judge_floor(facts, verdict);
    judge_gateway(facts, verdict);
    judge_companions(facts, verdict);
    judge_capacity(facts, verdict);
    judge_size(facts, verdict);
    judge_digest(facts, verdict);
    judge_suffix(facts, verdict);
    judge_signature(facts, verdict);
    answer(verdict, facts->accepted);
}
