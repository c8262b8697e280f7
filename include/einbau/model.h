/* What a device is, what an image is for, and whether they fit: pure functions, no input or output. */
#ifndef EINBAU_MODEL_H
#define EINBAU_MODEL_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/version.h"

enum {
    EB_NAME_BYTES = 48,  /* names of devices, components, order codes, serial numbers */
    EB_PATTERNS_MAX = 8, /* order-code patterns or revision ranges of one image */
    EB_FINDING_TEXT_BYTES = 96,
    EB_FINDINGS_MAX = 8, /* one per rule, see enum eb_rule */
    EB_SHA256_BYTES = 32
};

/* Who a device is, as it said itself.  An empty text means: could not be read. */
struct eb_identity {
    char maker[EB_NAME_BYTES];
    char product[EB_NAME_BYTES];
    char order_code[EB_NAME_BYTES];
    char hardware_revision[EB_NAME_BYTES];
    char serial[EB_NAME_BYTES];
};

/* What runs in one component. */
struct eb_running {
    char version[EB_VERSION_TEXT_BYTES]; /* empty: could not be read */
    bool has_checksum;
    uint32_t checksum; /* CRC-32 of the image that runs, where the device tells it */
};

/* What a manifest says of one image. */
struct eb_image_facts {
    char component[EB_NAME_BYTES];
    char version[EB_VERSION_TEXT_BYTES];
    uint64_t size_bytes;
    uint8_t sha256[EB_SHA256_BYTES];
    char order_codes[EB_PATTERNS_MAX][EB_NAME_BYTES]; /* unused ones are empty */
    char hardware_revisions[EB_PATTERNS_MAX][EB_NAME_BYTES];
    char least_running[EB_VERSION_TEXT_BYTES]; /* empty: any */
    char floor[EB_VERSION_TEXT_BYTES];         /* empty: none */
};

/* What was found when the image file itself was read. */
struct eb_image_found {
    uint64_t size_bytes;
    uint8_t sha256[EB_SHA256_BYTES];
};

enum eb_rule {
    EB_RULE_ORDER_CODE,        /* the image is for this order code */
    EB_RULE_HARDWARE_REVISION, /* the image is for this hardware revision */
    EB_RULE_RUNNING_VERSION,   /* the image is newer than what runs */
    EB_RULE_LEAST_RUNNING,     /* what runs is new enough for this image to follow */
    EB_RULE_DELIVERED_FLOOR,   /* the image is not older than what the device was delivered with */
    EB_RULE_SIZE,              /* the file is as large as its manifest says, and the component can hold it */
    EB_RULE_DIGEST,            /* the file is the one that the manifest was written for */
    EB_RULES
};

enum eb_grade {
    EB_GRADE_YES,
    EB_GRADE_ACCEPTED,    /* was one of those below; a person accepted it by its code */
    EB_GRADE_IF,          /* only if a person wants it: going back to an older version */
    EB_GRADE_CANNOT_TELL, /* a fact is missing or cannot be compared */
    EB_GRADE_NO
};

struct eb_finding {
    enum eb_rule rule;
    enum eb_grade grade;
    bool acceptable; /* whether a person may accept it by its code */
    char found[EB_FINDING_TEXT_BYTES];
    char expected[EB_FINDING_TEXT_BYTES];
};

enum eb_answer { EB_FITS, EB_FITS_IF, EB_DOES_NOT_FIT, EB_VERDICT_CANNOT_TELL };

struct eb_verdict {
    enum eb_answer answer;
    enum eb_comparison step; /* the image's version against the running one */
    struct eb_finding findings[EB_FINDINGS_MAX];
    size_t count;
};

/* Everything that the verdict depends on.  The texts are borrowed for the call; those marked so may be NULL.
 */
struct eb_judge_facts {
    const struct eb_identity *identity;
    const struct eb_running *running;
    bool in_loader; /* no program runs, and that is known: any version is a step up */
    const struct eb_version_order *order;
    const struct eb_image_facts *image;
    const struct eb_image_found *file; /* NULL: not looked at, cannot tell */
    uint64_t capacity_bytes;           /* of the component, 0: not known */
    const char *profile_floor;         /* may be NULL or empty, like the next */
    const char *delivered;             /* the version that this very device was delivered with */
    uint32_t accepted;                 /* bit 1 << rule for each rule that a person accepted */
};

/* Answers every rule, also those that hold.  `fits` only where each rule is YES or ACCEPTED.
 * Never accepted, whatever `accepted` says: a wrong order code, a version below the delivered floor, a wrong
 * size, a wrong digest. */
void eb_judge(const struct eb_judge_facts *facts, struct eb_verdict *verdict);

/* The rule's code in messages and documents ("hardware-revision"), and back; false for an unknown one. */
const char *eb_rule_code(enum eb_rule rule);
bool eb_rule_read(const char *code, enum eb_rule *rule);
const char *eb_grade_word(enum eb_grade grade);
const char *eb_answer_word(enum eb_answer answer);

/* A component's mark: the running version against the wanted one. */
enum eb_mark { EB_MARK_CURRENT, EB_MARK_BEHIND, EB_MARK_AHEAD, EB_MARK_UNREADABLE, EB_MARK_SILENT };

/* EB_MARK_UNREADABLE where no version was read or it cannot be compared; `wanted` empty: current. */
enum eb_mark eb_mark_of(const struct eb_version_order *order, const char *running, const char *wanted);
const char *eb_mark_word(enum eb_mark mark);

#endif
