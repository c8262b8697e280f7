/* Protocols as a job sees them: each reads values, does steps, sends images, or shows a device and gives it a
 * name, as far as it can.  A ladder (run.h) and single commands (request.h) use the same operations.
 *
 * An access is a constant class; what it needs for one device is its context, in memory of the caller.  A run
 * is given contexts for those that its profile names and knows no protocol itself; what no profile reader and
 * no caller names is not linked. */
#ifndef EINBAU_ACCESS_H
#define EINBAU_ACCESS_H

#include "einbau/dcp.h"
#include "einbau/cip.h"
#include "einbau/isotp.h"
#include "einbau/port.h"
#include "einbau/profile.h"
#include "einbau/source.h"

#ifdef __cplusplus
extern "C" {
#endif

/* --- one device ----------------------------------------------------------------------------------- */

/* A device's web server, as its site and its user see it.  The functions may be NULL: there is no password;
 * no certificate is trusted. */
struct eb_http_target {
    uint16_t port;         /* 0: as the profile says */
    const char *host;      /* its name, or NULL: it has an address only */
    const char *authority; /* file (PEM) of who signs the certificates of this site, or NULL */
    bool plain_passwords;  /* the user allows a login without TLS */
    /* Fills in user and password; false: none are known.  Both are wiped after use. */
    bool (*secret)(void *context, char user[EB_HTTP_USER_BYTES], char password[EB_HTTP_PASSWORD_BYTES]);
    /* Whether the device's certificate is the one that is known, or the first one. */
    bool (*certificate)(void *context, const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES]);
    void *context;
};

/* Where a device is reached, by each protocol: what the site says.  Only what its protocols need. */
struct eb_target {
    /* over IP */
    struct eb_endpoint modbus; /* where identity and registers are; other protocols take its address only */
    struct eb_endpoint tftp;   /* where images are pushed */
    uint8_t unit;              /* Modbus unit identifier */
    struct eb_http_target http;
    /* by Ethernet frames */
    const struct eb_link *link; /* NULL: the one in whose subnet its address is */
    bool has_mac;               /* else ARP finds it by its address */
    uint8_t mac[EB_MAC_BYTES];
    uint8_t prefix; /* of its mask, as the number of its ones; 0: that of the laptop's address */
    /* by CAN */
    const char *can_link; /* as in struct eb_can_options */
    uint32_t bit_rate;
    uint32_t tftp_at_once, tftp_pause_us; /* as in struct eb_tftp_put_config */
    bool urgent;                          /* other devices wait for this one: on a shared bus it goes first */
    uint8_t node;                         /* CANopen */
    struct eb_isotp_config isotp;         /* UDS */
    /* Writes the key for a seed of UDS, as long as the seed, where the profile says EB_UDS_KEY_CALL; false:
     * it is not known. */
    bool (*key)(void *context, const uint8_t *seed, size_t size, uint8_t *key);
    void *key_context;
    /* by USB */
    const char *usb_place; /* where it is plugged in, for one without a serial number; or NULL */

    const char *serial; /* the serial number it must have, or NULL */

    /* What a person says of an item of the profile, read at `where`; `afresh`: only what was said after the
     * device was made to take up an image.  The item behind the last is the hardware address.  EB_PENDING:
     * the person is being asked; else: no statement.  May be NULL. */
    enum eb_status (*statement)(void *context, size_t item, const char *where, bool afresh,
                                char text[EB_NAME_BYTES]);
    void *statement_context;
};

/* What showed that the device restarted. */
enum eb_restart {
    EB_RESTART_NOT_SEEN,
    EB_RESTART_SILENCE,    /* it did not answer for a while, though it had before */
    EB_RESTART_CONNECTION, /* a connection of before was reset */
    EB_RESTART_LOADER,     /* its loader answered before, and its program does now */
    EB_RESTART_BOOT_UP,    /* its boot-up message (CiA 301 section 7.2.8.3.3) */
    EB_RESTART_SESSION,    /* UDS: the default session, and before that another one */
    EB_RESTART_ATTACHED,   /* USB: it was enumerated anew */
    EB_RESTART_COUNTER,    /* the profile's counter */
    EB_RESTART_VERSION     /* another version, where the profile says that this is enough */
};
/* The word for it, "boot-up"; static. */
const char *eb_restart_word(enum eb_restart restart);

/* The texts of one of a profile's items, by source; empty where there is none. */
typedef char eb_texts[EB_SOURCES_MAX][EB_NAME_BYTES];

/* One device as all its accesses see it: what they are given, and what they found.  Lives as long as their
 * contexts. */
struct eb_contact {
    const struct eb_port *port;
    const struct eb_profile *profile; /* NULL: none, for single operations that need none */
    const struct eb_target *target;
    struct eb_waiter *waiter; /* told when something can be done; may be NULL */
    uint64_t patience_us;     /* for one exchange over IP, connecting included */
    uint8_t *buffer;          /* for sending */
    size_t buffer_bytes;
    bool first_is_enough;   /* an item that has a text needs no further source */
    bool interrupted;       /* an earlier job may have left a transfer under way */
    uint8_t manager;        /* CANopen: the node that is asked for state changes of this one; 0: none is */
    bool gentle;            /* CAN: one frame and its answer at a time, as others must not be held up */
    uint32_t round_trip_us; /* the shortest that was seen, 0: none was */

    struct eb_error error;            /* of the operation that ended last */
    bool connected;                   /* since the look began something came from the device */
    bool watching;                    /* what shows a restart is looked for ... */
    enum eb_restart restart;          /* ... and this did, first */
    bool loader_seen;                 /* in this try its loader was read to be what answers */
    bool loader_differs;              /* that loader tells another serial number than the program */
    char notice[EB_ERROR_TEXT_BYTES]; /* what is seen while something is waited for; else empty */
    uint64_t done_bytes;              /* of what is being sent, acknowledged */
    bool all_sent;                    /* all of it, though perhaps not the last of it acknowledged */
    bool last_late;                   /* all was sent, and the last acknowledgement stays away */
    bool read_back;                   /* what was sent was read back, and is the same */
    bool by_mac;                      /* at the last look its loader asked, which is known by that only */
    bool by_place;                    /* USB: it was found by the place where it is plugged in */
    uint16_t release;                 /* USB: bcdDevice */

    eb_texts *texts;                  /* for EB_READ: eb_profile_items; NULL where that is not asked for */
    uint8_t failed[EB_PROFILE_ITEMS]; /* bit per source: it could not be asked */
    struct eb_error first_error;      /* why the first source could not */
    size_t value;                     /* which is being read, counted over all items and their sources */
};

/* --- operations ----------------------------------------------------------------------------------- */

enum eb_operation_kind {
    EB_READ,     /* all values that the profile reads by this access, into contact->texts */
    EB_STEP,     /* one step of the profile */
    EB_SEND,     /* an image, to the last acknowledgement, and where the profile says so reads it back */
    EB_ACTIVATE, /* makes the device take up what was sent */
    EB_UNDO,     /* undoes what sending prepared */
    EB_BLINK,    /* lets the device show itself, or (`on` false) ends that */
    EB_STATION,  /* what it is called, and its address: `station` */
    EB_SET_NAME, /* `name` */
    EB_SET_IP,   /* `ip`, `mask`, `router` */
    EB_WHO_HAS,  /* all who answer to `ip`, until patience is over: `macs` */
    EB_NAMED,    /* all who are called `name`, until patience is over: `macs` */
    EB_GET,      /* reads `count` registers from `address` on into `registers` */
    EB_PUT,      /* writes them: `values` */
    EB_FETCH,    /* a document: `step` says which; its bytes go to `sink` */
    EB_STORE     /* the same one, from `source` */
};
#define EB_ABLE(kind) (1U << (kind))
/* Beside its operations: an image that is under way can stay so while the device is asked by others what it
 * runs; it asks by Ethernet frames, on target->link; what it sends it can read back; a person does it; only
 * the device's loader gives and takes its documents, into which it is brought and in which it stays until
 * EB_UNDO. */
enum {
    EB_ABLE_TO_WAIT = 1 << 16,
    EB_BY_FRAMES = 1 << 17,
    EB_ABLE_TO_READ_BACK = 1 << 18,
    EB_BY_PERSON = 1 << 19,
    EB_DOCUMENTS_IN_LOADER = 1 << 20
};

enum { EB_MACS_SEEN_MAX = 4 };
/* Hardware addresses that answered, each once. */
struct eb_macs_seen {
    uint8_t list[EB_MACS_SEEN_MAX][EB_MAC_BYTES];
    size_t count;
};

/* Where the bytes of a document go, in their order; EB_OK, or why they cannot be taken: the operation ends
 * with that.  `begin` comes before the first one, and again where all of them come once more. */
struct eb_sink {
    void *self;
    void (*begin)(void *self);
    enum eb_status (*take)(void *self, const uint8_t *bytes, size_t size);
};

/* What is to be done, and where its results go; everything is borrowed until it has ended. */
struct eb_operation {
    enum eb_operation_kind kind;
    const struct eb_step *step;
    const struct eb_component_profile *component; /* EB_SEND */
    const char *file_name; /* under which the device takes it, where that is not the component's; else NULL */
    const struct eb_source *source;
    const struct eb_sink *sink;   /* EB_FETCH */
    uint32_t checksum;            /* CRC-32 of the whole image */
    const struct eb_blink *blink; /* EB_BLINK, by a coil or a register */
    bool on;
    uint8_t seconds;
    const char *name;
    uint8_t ip[4], mask[4], router[4];
    uint16_t address;
    size_t count;
    const uint16_t *values;
    uint16_t *registers;
    struct eb_macs_seen *macs;
    struct eb_dcp_station *station;
};

/* --- how profiles name its values and steps ------------------------------------------------------------ */

enum eb_field_kind {
    EB_FIELD_NUMBER,
    EB_FIELD_WORD,    /* one of `words`; the member holds its index */
    EB_FIELD_TEXT,    /* into an array */
    EB_FIELD_STRING,  /* the member is a pointer: const char *, NULL without the key */
    EB_FIELD_STRINGS, /* one or several: struct eb_strings */
    EB_FIELD_PAIRS,   /* names with texts: struct eb_pairs */
    EB_FIELD_NUMBERS, /* one or several, of 16 bits: struct eb_numbers */
    EB_FIELD_OID,     /* numbers between dots; the member is a pointer */
    EB_FIELD_YES,     /* yes or no */
    EB_FIELD_SECONDS, /* held in milliseconds */
    EB_FIELD_USB_IDS, /* two of 16 bits: "1209:0001" */
    EB_FIELD_MAP      /* `fields` below the key */
};

/* One key, and the member that holds what it says: of struct eb_value, struct eb_step or, for a section,
 * struct eb_profile. */
struct eb_field {
    const char *key;
    enum eb_field_kind kind;
    uint8_t bytes; /* of the member */
    uint16_t offset;
    bool needed;
    uint32_t least, most, otherwise; /* of a number; `otherwise` without the key, also the index of a word */
    const char *const *words;        /* NULL behind the last */
    uint16_t only_for;               /* bits of the first field's words; 0: always */
    const char *odd;                 /* NULL, or what an odd number is needed for */
    const struct eb_field *fields;
    size_t count;
};

/* How the further entries of a list are named, of which a source names the first: by numbers that go on, by
 * their place in one answer, or by "{n}" in the key of a document. */
enum eb_list { EB_LIST_NONE, EB_LIST_INDEX, EB_LIST_SUB, EB_LIST_ITEM, EB_LIST_KEY };

/* One kind of source or step.  A source is a map whose first field has the row's key,
 * {snmp: 1.3.6.1.2.1.1.5.0}; a step is a map below the key, {write-register: {address: 1, value: 2}}. */
struct eb_row {
    const char *key;
    uint8_t kind; /* the access's own */
    const struct eb_field *fields;
    size_t count;
    uint16_t more_bytes; /* of a step: the fields are members of a struct of that size, eb_step.more; 0: of
                            eb_step itself */
    enum eb_list list;   /* of a source that can be the first of several */
};

/* By what a device takes the image of a component: by order of the standard, a file's name, a number. */
enum eb_section_by { EB_BY_NOTHING, EB_BY_NAME, EB_BY_NUMBER };

/* The section of a profile that says how images are sent. */
struct eb_section {
    const char *key;
    const struct eb_field *fields;
    size_t count;
    uint16_t more_bytes;   /* the fields are members of a struct of that size, and eb_profile.way holds a
                              pointer to it; 0: of eb_profile itself */
    const char *elsewhere; /* what is wrong with a value that another access reads; NULL: nothing, and the
                              profile may have steps of its own */
    enum eb_read_back read_back;                  /* where the profile does not say */
    enum eb_section_by by;                        /* what each component's `send-as` must be */
    bool alternates;                              /* components may have alternate settings */
    void (*complete)(struct eb_profile *profile); /* what follows from what was read; or NULL */
};

/* What a profile reader needs of an access; a program without one does not link it. */
struct eb_rows {
    const struct eb_row *sources;
    size_t source_count;
    const struct eb_row *steps;
    size_t step_count;
    const struct eb_row *documents; /* as steps, for struct eb_backup */
    size_t document_count;
    const struct eb_section *section; /* NULL: it sends nothing */
};

enum {
    EB_NEEDS_UDP = 1,
    EB_NEEDS_TCP = 2,
    EB_NEEDS_FRAMES = 4,
    EB_NEEDS_CAN = 8,
    EB_NEEDS_USB = 16,
    EB_NEEDS_HTTP = 32
};

enum eb_wire { EB_WIRE_ETHERNET, EB_WIRE_CAN, EB_WIRE_USB };

/* A protocol as a job sees it: a constant class. */
struct eb_access {
    const char *word;  /* "modbus" */
    const char *title; /* as in a sentence: "Modbus/TCP" */
    enum eb_wire wire;
    uint8_t rank;   /* of several that read values the lower ones are asked first */
    unsigned able;  /* EB_ABLE bits */
    unsigned needs; /* EB_NEEDS bits: groups of the port */
    size_t context_bytes;

    /* Makes a fresh context; it keeps `contact`. */
    void (*init)(void *context, struct eb_contact *contact);
    /* Begins an operation that the access is able to do; one that was under way ends.  The first poll may
     * come at once. */
    void (*begin)(void *context, const struct eb_operation *operation, uint64_t now_us);
    /* EB_PENDING while it goes on; then EB_OK, or the status that contact->error holds. */
    enum eb_status (*poll)(void *context, uint64_t now_us);
    uint64_t (*deadline_us)(const void *context);
    /* Aborts a transfer by the protocol's own means (poll on until it ends); anything else just goes on.  May
     * be NULL. */
    void (*stop)(void *context);
    /* Closes whatever is open. */
    void (*close)(void *context);
    /* Whether the device's loader has asked again since it got all, so that its program does not run: then
     * contact->notice says so; may be NULL. */
    bool (*still_loader)(void *context, uint64_t now_us);
};

/* Those that a profile names, each once, in the order in which they are asked; gives their number. */
enum { EB_ACCESSES_MAX = 6 };
/* Those that a profile names, each once, in the order in which they are asked; gives their number. */
size_t eb_profile_accesses(const struct eb_profile *profile, const struct eb_access *list[EB_ACCESSES_MAX]);

/* The wire that the profile is for. */
enum eb_wire eb_profile_wire(const struct eb_profile *profile);

#ifdef __cplusplus
}
#endif

#endif
