/* What is known of a product family: how it is identified, written and brought back.  Data, not code. */
#ifndef EINBAU_PROFILE_H
#define EINBAU_PROFILE_H

#include "einbau/model.h"

enum {
    EB_STEPS_MAX = 8,
    EB_COMPONENTS_MAX = 4,
    EB_LOSSES_MAX = 4,
    EB_LOSS_TEXT_BYTES = 80,
    EB_FILE_NAME_BYTES = 64,
    EB_MARKER_BYTES = 16
};

/* Where a text is read. */
enum eb_value_kind { EB_VALUE_NONE, EB_VALUE_MODBUS_OBJECT };
struct eb_value {
    enum eb_value_kind kind;
    uint8_t object;
    char after[EB_MARKER_BYTES]; /* only what stands behind this counts; empty: all of it */
};

enum eb_step_kind {
    EB_STEP_WRITE_REGISTER,  /* Modbus: write `value` to register `address` (as on the wire, from 0) */
    EB_STEP_EXPECT_REGISTER, /* Modbus: register `address` reads `value` within `time_ms` */
    EB_STEP_WAIT             /* nothing for `time_ms` */
};
struct eb_step {
    enum eb_step_kind kind;
    uint16_t address;
    uint16_t value;
    uint32_t time_ms;
};
struct eb_steps {
    struct eb_step list[EB_STEPS_MAX];
    size_t count;
};

struct eb_component_profile {
    char name[EB_NAME_BYTES];
    struct eb_version_order order;
    struct eb_value version;
    struct eb_value checksum; /* CRC-32 of the running image as 8 hexadecimal digits */
    char floor[EB_VERSION_TEXT_BYTES];
    uint64_t capacity_bytes;
    char file_name[EB_FILE_NAME_BYTES]; /* under which the device takes it */
};

struct eb_profile {
    char name[EB_NAME_BYTES];
    char maker[EB_NAME_BYTES];
    char product[EB_NAME_BYTES];
    char order_codes[EB_PATTERNS_MAX][EB_NAME_BYTES];

    struct eb_value from_maker, from_product, from_order_code, from_hardware_revision, from_serial;
    struct eb_value from_state;       /* tells that the device is in its loader ... */
    char state_loader[EB_NAME_BYTES]; /* ... by this text */

    struct eb_steps prepare;  /* before sending; done again at each try */
    struct eb_steps activate; /* makes the device take up what was sent */
    struct eb_steps undo;     /* undoes `prepare` where nothing was activated */

    uint16_t blksize, windowsize; /* TFTP, wanted; blksize 0: what the path carries */
    uint8_t timeout_s;
    bool tsize;
    bool rollover_to_one;
    uint32_t send_patience_ms;

    uint32_t down_ms;            /* after activating it surely does not answer for that long */
    uint32_t return_patience_ms; /* until it must answer again */
    uint32_t settle_ms;          /* once it answers: until the new version must show */

    uint32_t typical_bytes_per_s; /* for the plan's duration */
    uint32_t typical_restart_s;
    char loses[EB_LOSSES_MAX][EB_LOSS_TEXT_BYTES];

    struct eb_component_profile components[EB_COMPONENTS_MAX];
    size_t count;
};

/* Whether the profile is made for a device with this order code. */
bool eb_profile_covers(const struct eb_profile *profile, const char *order_code);

/* The component by its name, or NULL. */
const struct eb_component_profile *eb_profile_component(const struct eb_profile *profile, const char *name);

#endif
