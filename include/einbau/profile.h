/* What is known of a product family: how it is identified, written and brought back.  Data, not code. */
#ifndef EINBAU_PROFILE_H
#define EINBAU_PROFILE_H

#include "einbau/label.h"
#include "einbau/model.h"
#include "einbau/snmp.h"
#include "einbau/uds.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_STEPS_MAX = 8,
    EB_COMPONENTS_MAX = 16,
    EB_LOSSES_MAX = 4,
    EB_BACKUPS_MAX = 8,
    EB_SETTINGS_MAX = 32,
    EB_LOSS_TEXT_BYTES = 80,
    EB_FILE_NAME_BYTES = 64,
    EB_WAY_BYTES = 48
};

struct eb_access;  /* access.h: a protocol */
struct eb_card;    /* card.h: what it wants of a memory card */
struct eb_setting; /* settings.h: what a user sets */
struct eb_action;  /* settings.h: what a user does */

/* Attributes of the Identity object as text: numbers in decimal, the revision as "4.1", the serial number as
 * eight hexadecimal digits. */
enum eb_cip_item { EB_CIP_VENDOR, EB_CIP_TYPE, EB_CIP_PRODUCT, EB_CIP_REVISION, EB_CIP_SERIAL, EB_CIP_NAME };
/* A station's name, type, and the numbers of its vendor and device in decimal. */
enum eb_dcp_item { EB_DCP_NAME, EB_DCP_TYPE, EB_DCP_VENDOR, EB_DCP_DEVICE };

/* What is read of a device on USB: its strings, its release in `sub` parts (eb_usb_release_text), string
 * `index`, the name of interface `index` with its alternate setting `sub`, and "loader" or "program" for what
 * answers. */
enum eb_usb_item {
    EB_USB_SERIAL,
    EB_USB_MAKER,
    EB_USB_NAME,
    EB_USB_RELEASE,
    EB_USB_STRING,
    EB_USB_INTERFACE,
    EB_USB_MODE
};

/* How the bytes of an object or a data identifier are to be read: as text, or as a number of up to four
 * bytes, in decimal, as eight hexadecimal digits, or its upper and its lower half with a point between. */
enum eb_value_form { EB_FORM_TEXT, EB_FORM_NUMBER, EB_FORM_HEX, EB_FORM_HALVES };

/* Where a text is read: by which protocol, and there by what; see the `sources` of the access. */
struct eb_value {
    const struct eb_access *by;
    uint8_t kind;
    uint8_t form; /* enum eb_value_form */
    uint16_t index;
    uint8_t sub;
    uint8_t item;
    const char *after; /* only what stands behind this counts; NULL: all of it */
    const char *key;   /* of a text record, or where it stands in a document (a JSON pointer, RFC 6901) */
    const char *path;  /* of a document on a web server */
    const char *until; /* characters that end the text behind `after`, there; or NULL */
    const struct eb_oid *oid;
};

enum { EB_SOURCES_MAX = 3, EB_NUMBERS_MAX = 6 };

/* Lists in a profile; the texts live as long as it. */
struct eb_strings {
    const char *const *list;
    size_t count;
};
/* Names with texts, in their order. */
struct eb_pairs {
    /* A name and its text. */
    const struct eb_pair {
        const char *name, *text;
    } * list;
    size_t count;
};
/* Numbers, in their order. */
struct eb_numbers {
    uint16_t list[EB_NUMBERS_MAX];
    uint8_t count;
};

/* One text from several sources: the first that has one counts, the others are compared with it. */
struct eb_values {
    struct eb_value list[EB_SOURCES_MAX];
    size_t count;
};

/* How a device shows itself: by a command of the protocol, or by a coil or register. */
struct eb_blink {
    const struct eb_access *by; /* NULL: not known */
    bool coil;
    uint16_t address, on, off;
};

/* Registers that hold a setting; `count` 0: not there. */
struct eb_registers {
    uint16_t address, count;
};

/* How it shows that a person has done a step that no access looks at. */
enum eb_hand_kind {
    EB_HAND_SEEN, /* by what comes next: the transfer, or the device's return */
    EB_HAND_ASKED /* by nothing: the person says so */
};

/* One step of a preparation; see the `steps` of the access. */
struct eb_step {
    const struct eb_access *by; /* NULL: nothing is done for `time_ms`, or by a person: `hand` */
    uint8_t kind;
    uint16_t address;
    uint16_t value;
    uint32_t time_ms;
    uint8_t choice;   /* of `activate`: 0, or which of the others it belongs to, each for where the one before
                         has not restarted the device */
    const char *hand; /* what a person does, else NULL */
    const void *more; /* what only that access must know: a struct of its own, or NULL */
};
/* Steps in their order. */
struct eb_steps {
    struct eb_step list[EB_STEPS_MAX];
    size_t count;
};

/* A document that the device keeps and gives: presets, a database, its program. */
struct eb_backup {
    char name[EB_NAME_BYTES];
    struct eb_step at; /* by which access, and there what: see its `documents` */
    bool erased;       /* an update erases it */
    bool restarts;     /* what was put back counts after a restart: eb_profile.restart */
};

/* Another way to write images: taken where the one before has failed and the device runs as before. */
struct eb_other_way {
    const struct eb_access *by;
    uint8_t more[EB_WAY_BYTES]; /* as in eb_profile.way */
    struct eb_steps prepare;
};

/* Whether what was sent is read back from the device and compared, before the device takes it up. */
enum eb_read_back { EB_READ_BACK_NO, EB_READ_BACK_IF_POSSIBLE, EB_READ_BACK_YES };

/* What a counter counts that shows a restart: starts, or the time since the last one. */
enum eb_counter_kind { EB_COUNTS_STARTS, EB_COUNTS_SECONDS, EB_COUNTS_HUNDREDTHS, EB_COUNTS_MILLISECONDS };

/* One of the files of an image; their bytes are one behind the other. */
struct eb_part {
    char name[EB_FILE_NAME_BYTES]; /* under which the device takes it */
    uint64_t size_bytes;
};

/* One component of a product family: what is read and written of it. */
struct eb_component_profile {
    char name[EB_NAME_BYTES];
    struct eb_version_order order;
    struct eb_values version;
    struct eb_values checksum; /* CRC-32 of the running image as 8 hexadecimal digits */
    char floor[EB_VERSION_TEXT_BYTES];
    uint64_t capacity_bytes;
    char file_name[EB_FILE_NAME_BYTES]; /* under which the device takes it */
    struct eb_label label;              /* where an image's bytes say what it is */
    uint8_t alternate;                  /* DFU: the alternate setting that stands for it */
    bool in_files; /* the device takes the files of a zip archive, one after the other, each under its own
                      name */
    bool as_it_is; /* the device takes the file itself, not the bytes that it stands for */
};

/* A product family. */
struct eb_profile {
    char name[EB_NAME_BYTES];
    char maker[EB_NAME_BYTES];
    char product[EB_NAME_BYTES];
    char order_codes[EB_PATTERNS_MAX][EB_NAME_BYTES];

    struct eb_values from_maker, from_product, from_order_code, from_hardware_revision, from_serial;
    struct eb_values from_program;         /* tells whether the program runs ... */
    char program_stopped[EB_NAME_BYTES];   /* ... by this text where it is stopped */
    struct eb_values from_counter;         /* a counter that shows a restart */
    struct eb_values from_state;           /* tells that the device is in its loader ... */
    char state_loader[EB_NAME_BYTES];      /* ... by this text */
    char loader_order_code[EB_NAME_BYTES]; /* of any device in this loader, where that does not tell; or empty
                                            */
    char loader_component[EB_NAME_BYTES];  /* whose version is the loader's; empty: it cannot be told */

    struct eb_steps prepare;  /* before sending; done again at each try */
    struct eb_steps activate; /* makes the device take up what was sent */
    struct eb_steps undo;     /* undoes `prepare` where nothing was activated ... */
    size_t closes;            /* ... its last ones, so many, also behind what was confirmed */
    struct eb_steps restart;  /* restarts the device, for documents that need it */

    uint32_t answer_patience_ms; /* over IP: for one exchange, connecting included */
    uint32_t send_patience_ms;

    bool restarts;       /* taking up what was sent restarts the device: that must be seen */
    bool version_proves; /* ... and another version than before shows it, as it is read only at a start */
    enum eb_counter_kind counts; /* of from_counter */
    uint32_t down_ms;            /* after activating it surely does not answer for that long */
    uint32_t return_patience_ms; /* until it must answer again */
    uint32_t settle_ms;          /* once it answers: until the new version must show */

    uint32_t typical_bytes_per_s; /* for the plan's duration */
    uint32_t typical_restart_s;
    char loses[EB_LOSSES_MAX][EB_LOSS_TEXT_BYTES];

    char community[EB_NAME_BYTES]; /* for SNMP */
    char service[EB_NAME_BYTES];   /* of DNS-SD, like "_pa._tcp" */
    struct eb_blink blink;
    struct eb_registers set_name, set_address, set_mask, set_router, set_dhcp; /* by Modbus; none: by DCP */
    struct eb_steps take_up; /* makes the device take up what the registers hold */

    enum eb_read_back read_back;
    const struct eb_access *sends_by;     /* NULL: it is only looked at, over IP */
    uint8_t way[EB_WAY_BYTES];            /* what that access must know besides: a struct of its own */
    const struct eb_other_way *otherwise; /* other ways, in their order; each by an access of its own */
    size_t otherwise_count;
    struct eb_usb_ids usb; /* of a device on USB */
    bool sends;            /* images can be sent to it; else it is only looked at */
    bool restarts_once;    /* takes up the images of all components by one restart; else each by its own */
    bool per_slot;         /* it is of modules in a rack: the slot stands in its names */
    uint8_t slot;          /* ... of this one; 0: of none */
    const struct eb_component_profile *components; /* at most EB_COMPONENTS_MAX */
    size_t count;
    /* For looking at what is noted of such a device before it is written to and after: each component stands
     * for a value, which is its version; one without a name for an entry of the device's own diagnostics.
     * NULL: nothing is noted. */
    const struct eb_profile *notes;
    const struct eb_backup *backups; /* at most EB_BACKUPS_MAX; behind them those of settings */
    size_t backup_count, stored_count;
    const struct eb_setting *settings; /* at most EB_SETTINGS_MAX */
    size_t setting_count;
    const struct eb_setting *password; /* how the password of its login is changed, or NULL */
    struct eb_strings settings_from;   /* order codes of others whose settings suit it, too; patterns */
    const struct eb_action *actions;   /* one for each enum eb_action_kind; NULL: none */
    const struct eb_card *card;        /* it updates itself from a memory card; NULL: it does not */
    void *memory; /* of what the profile points to, where it was read from a file: eb_profile_free */
};

enum { EB_WAYS_MAX = 3 };
/* What an access that sends must know besides: EB_WAY_BYTES bytes; NULL: it is none of the profile's ways. */
const uint8_t *eb_profile_way(const struct eb_profile *profile, const struct eb_access *by);

/* Everything that is read from a device: 0 to eb_profile_items - 1; NULL for components that it has not. */
enum { EB_PROFILE_ITEMS = 8 + 2 * EB_COMPONENTS_MAX };
size_t eb_profile_items(const struct eb_profile *profile);
const struct eb_values *eb_profile_values(const struct eb_profile *profile, size_t index);
/* Which component's version (`*checksum` false) or checksum the item is; false: it is no component's. */
bool eb_profile_item_component(size_t index, size_t *component, bool *checksum);
/* The item that is a component's version, or its checksum. */
size_t eb_profile_item_of(size_t component, bool checksum);
/* What an item is in words, like "serial number"; of a component "version" or "checksum". */
const char *eb_profile_item_word(size_t index);

/* Whether the profile is made for a device with this order code. */
bool eb_profile_covers(const struct eb_profile *profile, const char *order_code);

/* The component by its name, or NULL. */
const struct eb_component_profile *eb_profile_component(const struct eb_profile *profile, const char *name);

#ifdef __cplusplus
}
#endif

#endif
