/* What a device is, what an image is for, and whether they fit: pure functions, no input or output. */
#ifndef EINBAU_MODEL_H
#define EINBAU_MODEL_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/version.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_NAME_BYTES = 48,  /* names of devices, components, order codes, serial numbers */
    EB_PATTERNS_MAX = 8, /* order-code patterns or revision ranges of one image */
    EB_FINDING_TEXT_BYTES = 96,
    EB_FINDINGS_MAX = 16, /* one per rule, see enum eb_rule */
    EB_COMPANIONS_MAX = 4,
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

/* Something else on the site that an image needs in a version: "plc", "engineering-tool". */
struct eb_companion {
    char role[EB_NAME_BYTES]; /* as the site calls it; empty: none */
    char least[EB_VERSION_TEXT_BYTES];
    struct eb_version_order order;
};

/* Who vouches for what is said of an image.  Whoever forgets to ask gets a refusal. */
enum eb_signature {
    EB_SIGNATURE_MISSING,
    EB_SIGNATURE_NOT_ASKED, /* no key is listed as trusted, so none is asked for */
    EB_SIGNATURE_TRUSTED,
    EB_SIGNATURE_WRONG,   /* does not belong to the manifest */
    EB_SIGNATURE_STRANGE, /* made with a key that is not trusted here */
    EB_SIGNATURE_DEAD     /* made with a listed key that has expired or was revoked */
};

/* What a manifest says of one image. */
struct eb_image_facts {
    char component[EB_NAME_BYTES];
    char version[EB_VERSION_TEXT_BYTES];
    uint64_t size_bytes;
    uint8_t sha256[EB_SHA256_BYTES];
    char order_codes[EB_PATTERNS_MAX][EB_NAME_BYTES]; /* unused ones are empty */
    char hardware_revisions[EB_PATTERNS_MAX][EB_NAME_BYTES];
    char least_running[EB_VERSION_TEXT_BYTES]; /* empty: any, like the next two */
    char least_loader[EB_VERSION_TEXT_BYTES];
    char least_gateway[EB_VERSION_TEXT_BYTES];
    char floor[EB_VERSION_TEXT_BYTES]; /* empty: none */
    struct eb_companion companions[EB_COMPANIONS_MAX];
    enum eb_signature signature; /* of the manifest */
};

/* What the suffix of a DFU file says of the device that it is for; FFFFh is any (DFU 1.1, appendix B). */
enum eb_suffix_there { EB_SUFFIX_NOT_LOOKED_FOR, EB_SUFFIX_NONE, EB_SUFFIX_THERE };
/* The suffix of a DFU file (DFU 1.1, appendix B). */
struct eb_suffix {
    enum eb_suffix_there there;
    uint16_t vendor, product, release;
};

/* What was found when the image file itself was read. */
struct eb_image_found {
    uint64_t size_bytes;
    uint64_t content_bytes; /* what the device gets of it: a text format's bytes, without a suffix */
    uint8_t sha256[EB_SHA256_BYTES];
    struct eb_suffix suffix;
};

/* A device on USB, by its numbers: while its program runs and in its loader. */
struct eb_usb_ids {
    uint16_t vendor, product;
    uint16_t loader_vendor, loader_product;
    uint16_t release;        /* bcdDevice of what answers now */
    bool release_is_version; /* it is the version of the component: that of a file is then the image's */
};

/* What is around a device on its site, as far as images ask for it.  The texts are borrowed; versions that
 * are not known are empty.  Of another device that could be fitted in the same job: its name, and the version
 * that it would then have; else NULL. */
struct eb_companion_version {
    const char *role, *version;
    const char *device, *together;
};
/* What is around a device. */
struct eb_surroundings {
    bool behind_gateway; /* else it is reached directly */
    const char *gateway; /* the version that runs in it */
    const char *gateway_device, *gateway_together;
    const struct eb_version_order *gateway_order;
    struct eb_companion_version companions[EB_COMPANIONS_MAX];
    size_t companion_count;
};

enum eb_rule {
    EB_RULE_ORDER_CODE,        /* the image is for this order code */
    EB_RULE_HARDWARE_REVISION, /* the image is for this hardware revision */
    EB_RULE_LOADER_VERSION,    /* the loader is new enough for this image */
    EB_RULE_RUNNING_VERSION,   /* the image is newer than what runs */
    EB_RULE_LEAST_RUNNING,     /* what runs is new enough for this image to follow */
    EB_RULE_DELIVERED_FLOOR,   /* the image is not older than what the device was delivered with */
    EB_RULE_GATEWAY_VERSION,   /* the device on the way is new enough */
    EB_RULE_COMPANION,         /* what it works with on the site is new enough */
    EB_RULE_CAPACITY,          /* the component can hold it */
    EB_RULE_SIZE,              /* the file is as large as its manifest says */
    EB_RULE_DIGEST,            /* the file is the one that the manifest was written for */
    EB_RULE_SIGNATURE,         /* a trusted key has signed what is said of it */
    EB_RULES_OF_IMAGES,
    EB_RULE_DFU_SUFFIX =
        EB_RULES_OF_IMAGES, /* on USB: the numbers in the file's DFU suffix are the device's */
    EB_RULE_BATCH,          /* every device of the plan fits: eb_verdict_batch */
    EB_RULE_NETWORK,        /* a member of a managed network: its manager lets go of it, and takes it back */
    EB_RULES
};

enum eb_grade {
    EB_GRADE_YES,
    EB_GRADE_ACCEPTED, /* was one of those below; a person accepted it by its code */
    EB_GRADE_IF,       /* only if a person wants it: going back to an older version; or together with another
                        * device */
    EB_GRADE_CANNOT_TELL, /* a fact is missing or cannot be compared */
    EB_GRADE_NO
};

/* What one rule says of an image for a component. */
struct eb_finding {
    enum eb_rule rule;
    enum eb_grade grade;
    bool acceptable; /* whether a person may accept it by its code */
    /* Of EB_GRADE_IF: it holds once this device of the site is fitted in the same job; else NULL.  Borrowed
     * from struct eb_surroundings. */
    const char *together;
    char found[EB_FINDING_TEXT_BYTES];
    char expected[EB_FINDING_TEXT_BYTES];
};

enum eb_answer { EB_FITS, EB_FITS_IF, EB_DOES_NOT_FIT, EB_VERDICT_CANNOT_TELL };

/* What all rules say of an image. */
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
    const struct eb_image_found *file;           /* NULL: not looked at, cannot tell */
    uint64_t capacity_bytes;                     /* of the component, 0: not known */
    const char *profile_floor;                   /* may be NULL or empty, like the next */
    const char *delivered;                       /* the version that this very device was delivered with */
    const char *known_floor;                     /* of an image that it got before */
    const char *loader;                          /* the version of its loader, may be NULL or empty */
    const struct eb_version_order *loader_order; /* may be NULL where `loader` is */
    const struct eb_usb_ids *usb;                /* NULL: it is not on USB */
    const struct eb_surroundings *around;        /* may be NULL: nothing is known */
    bool no_way;       /* there is no image that leads from what runs to what this one needs */
    uint32_t accepted; /* bit 1 << rule for each rule that a person accepted */
};

/* Answers every rule of images, also those that hold; that of DFU files only for a device on USB.  `fits`
 * only where each rule is YES or ACCEPTED. Never accepted, whatever `accepted` says: a wrong order code, a
 * version below the delivered floor, an image that is too large, a wrong size, a wrong digest, a wrong DFU
 * suffix, a signature that is missing, wrong or strange. */
void eb_judge(const struct eb_judge_facts *facts, struct eb_verdict *verdict);

/* Adds the finding on the batch: `refused` names the device for which it is held back, NULL: none is.  It is
 * about the plan, not about the image: the answer stays. */
void eb_verdict_batch(struct eb_verdict *verdict, const char *refused);

/* Adds a finding of the caller's own, as eb_judge would: by `accepted`, and the answer follows from all. */
void eb_verdict_add(struct eb_verdict *verdict, const struct eb_finding *finding, uint32_t accepted);

/* The rule's code in messages and documents ("hardware-revision"), and back; false for an unknown one. */
const char *eb_rule_code(enum eb_rule rule);
bool eb_rule_read(const char *code, enum eb_rule *rule);
const char *eb_grade_word(enum eb_grade grade);
const char *eb_answer_word(enum eb_answer answer);

/* A component's mark: what runs against what is wanted. */
enum eb_mark {
    EB_MARK_CURRENT,
    EB_MARK_OUTDATED,
    EB_MARK_NEWER,
    EB_MARK_DIFFERS, /* the wanted version by its name, but another checksum */
    EB_MARK_UNREADABLE,
    EB_MARK_UNREACHABLE,
    EB_MARK_UNKNOWN /* not read since something was done to it; never the answer of eb_mark_of */
};

/* `wanted` empty: nothing is wanted, and whatever runs is current.  `checksum`: the CRC-32 of the wanted
 * image, NULL where it is not known or the profile has none: then the version alone decides.
 * EB_MARK_UNREADABLE where no version was read or it cannot be compared, and where a checksum is wanted and
 * was not read. */
enum eb_mark eb_mark_of(const struct eb_version_order *order, const struct eb_running *running,
                        const char *wanted, const uint32_t *checksum);
const char *eb_mark_word(enum eb_mark mark);

#ifdef __cplusplus
}
#endif

#endif
