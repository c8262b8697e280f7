/* Settings of a device: what a profile says of each, and a value as a person types it against the bytes that
 * the device keeps.  And actions: restarting a device, stopping its program, resetting it. */
#ifndef EINBAU_SETTINGS_H
#define EINBAU_SETTINGS_H

#include "einbau/host.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_SETTING_BYTES = 128 }; /* of a value as text, with its NUL */

enum eb_setting_kind {
    EB_SETTING_NUMBER,
    EB_SETTING_TEXT,
    EB_SETTING_YES,     /* "yes" or "no" */
    EB_SETTING_CHOICE,  /* one of several words */
    EB_SETTING_ADDRESS, /* IPv4 */
    EB_SETTING_TIME     /* "2026-11-30T08:15:00Z"; when set, also "now" */
};

/* How the device keeps it. */
enum eb_setting_form {
    EB_SETTING_BIG,        /* a binary number, the first octet first */
    EB_SETTING_LITTLE,     /* ... the last one first */
    EB_SETTING_LOW_WORD,   /* ... of two registers, the lower one first */
    EB_SETTING_CHARACTERS, /* as text, perhaps inside of a JSON document */
};

/* How a value stands in what is written. */
enum eb_setting_template { EB_SETTING_PLAIN, EB_SETTING_JSON, EB_SETTING_FORM };

/* One setting of a profile; all texts live as long as it. */
struct eb_setting {
    const struct eb_backup *at; /* its name, by which access, and there what */
    enum eb_setting_kind kind;
    enum eb_setting_form form;
    uint8_t head_bytes; /* that stand before the value, of its number and size: struct eb_canopen_document */
    bool is_signed, read_only;
    bool unique;      /* never the same on two devices: an address, a name */
    bool safety;      /* of a safety function: confirmed by itself */
    uint8_t decimals; /* the device keeps it 10, 100, ... times as large */
    bool has_range;
    int64_t least, most;     /* as the device keeps it; of a text: `most` characters */
    const char *unit;        /* or NULL */
    const char *json;        /* where it stands in a JSON document (a JSON pointer, RFC 6901), or NULL */
    const char *writes;      /* what is written, with "{value}" in it; NULL: the value */
    uint8_t writes_as;       /* enum eb_setting_template */
    struct eb_pairs choices; /* words, and what the device keeps for them */
};

/* What a person typed, as it is compared, shown and written from then on: "-3" of a number with one decimal
 * is "-3.0".  False with `problem`: found ..., expected .... */
EB_NODISCARD bool eb_setting_take(const struct eb_setting *setting, const char *typed,
                                  char text[EB_SETTING_BYTES], struct eb_problem *problem);
/* What it may be: "-12.0 to 6.0 dB", "one of: mono, stereo". */
void eb_setting_range(const struct eb_setting *setting, char *text, size_t cap);

/* A value from the bytes that the device gave; false: they hold none, `text` is empty. */
EB_NODISCARD bool eb_setting_read(const struct eb_setting *setting, const uint8_t *bytes, size_t size,
                                  char text[EB_SETTING_BYTES]);
/* The bytes to be written for a value by eb_setting_take, freed by the caller; `before` are those that the
 * device gave, of which a binary one keeps its size.  NULL with `problem`: it has no room for it. */
uint8_t *eb_setting_write(const struct eb_setting *setting, const char *text, const uint8_t *before,
                          size_t before_size, size_t *size, struct eb_problem *problem);
/* Whether two values mean the same; of a clock: `is` was read up to `seconds` after it was set to `wanted`.
 */
bool eb_setting_same(const struct eb_setting *setting, const char *wanted, const char *is, unsigned seconds);

enum eb_action_kind {
    EB_ACTION_RESTART,
    EB_ACTION_RESTART_COLD, /* where the device has two kinds: what it keeps in volatile memory is lost */
    EB_ACTION_STOP,         /* its program */
    EB_ACTION_START,
    EB_ACTION_RESET, /* to what it was delivered with */
    EB_ACTIONS
};
/* One action of a profile. */
struct eb_action {
    struct eb_steps steps; /* none: the profile does not name it */
};
/* The word for it, "restart-cold": of the command line, and the key of profiles; static. */
const char *eb_action_word(enum eb_action_kind kind);
/* Whether the profile names it. */
bool eb_profile_can(const struct eb_profile *profile, enum eb_action_kind kind);

#ifdef __cplusplus
}
#endif

#endif
