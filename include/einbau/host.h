/* What needs an operating system: files that people write, image files, the port on Linux. */
#ifndef EINBAU_HOST_H
#define EINBAU_HOST_H

#include "einbau/einbau.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_PATH_BYTES = 1024, EB_PROBLEM_BYTES = 1600, EB_CERTIFICATE_TEXT_BYTES = 65 };

/* Why something could not be done, as one sentence or two for the user: where, found, expected, what to do.
 */
struct eb_problem {
    char text[EB_PROBLEM_BYTES];
};

/* The port on Linux sockets; NULL where the system has no handles left.  Not for several threads. */
const struct eb_port *eb_port_linux_open(void);
void eb_port_linux_close(const struct eb_port *port);
/* Opens sockets for raw frames before any is asked for, so that the right to open them can be given up. */
void eb_port_linux_raw_first(const struct eb_port *port);

/* A port that does what `inner` does and writes all that passes to a file (pcapng), links of all kinds
 * together. `real`: the inner port's clock is the machine's.  NULL with `problem` filled; else
 * eb_trace_close, before the inner port is closed, which gives false with `problem` filled where the file is
 * not whole. */
const struct eb_port *eb_trace_open(const struct eb_port *inner, const char *path, bool real,
                                    struct eb_problem *problem);
EB_NODISCARD bool eb_trace_close(const struct eb_port *port, struct eb_problem *problem);

/* --- keys (Ed25519, RFC 8032) --------------------------------------------------------------------- */

enum { EB_KEY_BYTES = 32, EB_KEY_TEXT_BYTES = 44, EB_KEYS_MAX = 16, EB_DATE_BYTES = 11 };

/* A public key. */
struct eb_key {
    uint8_t bytes[EB_KEY_BYTES];
};

/* As base64url without padding, the "x" of a JSON Web Key (RFC 8037 section 2), and back. */
void eb_key_text(const struct eb_key *key, char text[EB_KEY_TEXT_BYTES]);
bool eb_key_parse(const char *text, struct eb_key *key);

/* Makes a key pair: NAME.key, which only its owner may read, and NAME.pub, both JSON Web Keys.  Never writes
 * over a file. */
EB_NODISCARD bool eb_key_new(const char *name, struct eb_key *key, struct eb_problem *problem);

/* Reads the public key from either file. */
EB_NODISCARD bool eb_key_read(const char *path, struct eb_key *key, struct eb_problem *problem);

/* A detached signature over a manifest's bytes (JSON Web Signature, RFC 7515 appendix F, with EdDSA, RFC 8037
 * section 3.1), freed by the caller; NULL with `problem` filled. */
EB_NODISCARD char *eb_manifest_sign(const char *key_path, const void *manifest, size_t size,
                                    struct eb_problem *problem);

/* Which signatures count.  Only a site, or this user's own configuration, lists keys; a shelf or a package
 * never brings its own. */
struct eb_trust {
    bool asked; /* keys are listed, so a signature by one of `keys` is needed, even if `count` is 0 */
    struct eb_key keys[2 * EB_KEYS_MAX];
    size_t count;
    struct eb_key dead[2 * EB_KEYS_MAX]; /* listed, but expired or revoked */
    size_t dead_count;
};

/* Adds what the site lists; `today` as "2026-11-28", NULL: by the system's clock. */
struct eb_site;
void eb_trust_site(struct eb_trust *trust, const struct eb_site *site, const char *today);
/* Adds the keys of a folder of this user's, one in each FILE.pub.  False with `problem` filled where the
 * folder is there and one of them, or the folder, cannot be read: then nothing may be trusted.  A missing
 * folder lists none. */
EB_NODISCARD bool eb_trust_folder(struct eb_trust *trust, const char *folder, struct eb_problem *problem);
/* Puts a public key into such a folder, which is made where it is missing; takes one out again, named by its
 * text or by a file that holds it. */
EB_NODISCARD bool eb_key_trust(const char *folder, const char *public_key_path, struct eb_problem *problem);
EB_NODISCARD bool eb_key_untrust(const char *folder, const char *name, struct eb_problem *problem);

/* Whether a key that counts has signed it; `jws` NULL or empty: there is no signature; `trust` NULL: none is
 * asked for. */
enum eb_signature eb_manifest_verify(const void *manifest, size_t size, const char *jws,
                                     const struct eb_trust *trust);

/* The key that a signature names (RFC 7515 section 4.1.4), whether or not it is that one's; false: none. */
bool eb_signature_key(const char *jws, struct eb_key *key);

/* --- profiles and sites (YAML) ------------------------------------------------------------------- */

/* What a user sets once, in config.yaml of their own, or in einbau.yaml beside a site (docs/site.md): paths,
 * relative ones to the file's folder; empty: not set. */
enum eb_config_key {
    EB_CONFIG_SITE,
    EB_CONFIG_SHELF,
    EB_CONFIG_STATE,
    EB_CONFIG_RECORD,
    EB_CONFIG_KEY_FILE,
    EB_CONFIG_SIM,
    EB_CONFIG_KEYS
};
/* The paths by their keys. */
struct eb_config {
    char paths[EB_CONFIG_KEYS][EB_PATH_BYTES];
};

/* The key as it stands in the file; and reads the file: false with `problem` filled. */
const char *eb_config_word(enum eb_config_key key);
EB_NODISCARD bool eb_config_read(const char *path, struct eb_config *config, struct eb_problem *problem);

/* Takes one finding, "FILE:LINE:COLUMN: found ..., expected ...", with the caller's `context`. */
typedef void eb_finding_tell(void *context, const char *finding);

/* All that is wrong in a profile, and in a site with the profiles that it names: of each entry (a device, a
 * link, a component, a key) the first thing, and each key that is not known.  What depends on other entries,
 * as who waits for whom, is looked at once they are right.  True: nothing is. */
bool eb_profile_check(const char *path, eb_finding_tell *tell, void *context);
bool eb_site_check(const char *path, eb_finding_tell *tell, void *context);

/* The protocols that a profile can name, and what it can say of each; NULL behind the last. */
const struct eb_access *eb_profile_protocol(size_t index, const struct eb_rows **rows);

/* Reads one profile; false with `problem` filled, else eb_profile_free frees what it points to.
 * docs/profiles.md describes the file. */
EB_NODISCARD bool eb_profile_read(const char *path, struct eb_profile *profile, struct eb_problem *problem);
/* The same for a module in this slot of a rack: "{slot}" in the file stands for the number. */
EB_NODISCARD bool eb_profile_read_slot(const char *path, unsigned slot, struct eb_profile *profile,
                                       struct eb_problem *problem);
/* The struct itself stays the caller's, and is empty then. */
void eb_profile_free(struct eb_profile *profile);

/* What one component of a device should run. */
struct eb_site_want {
    char version[EB_VERSION_TEXT_BYTES];   /* empty: nothing is wanted */
    const char *image;                     /* a file; empty: none is named */
    char delivered[EB_VERSION_TEXT_BYTES]; /* empty: not known */
};

/* What an image may ask for beside the device itself: another device of the site, or a fixed version. */
struct eb_site_companion {
    char role[EB_NAME_BYTES];
    const struct eb_site_device *device; /* NULL: `version` is fixed */
    size_t component;                    /* of `device` */
    char version[EB_VERSION_TEXT_BYTES];
};

/* One wire of the site. */
enum eb_site_link_kind { EB_SITE_ETHERNET, EB_SITE_CAN, EB_SITE_USB };
/* A link of a site: a network, a bus, or USB. */
struct eb_site_link {
    char name[EB_NAME_BYTES];
    enum eb_site_link_kind kind;
    uint32_t bit_rate; /* of a CAN bus, bit/s */
    char
        adapter[EB_PATH_BYTES]; /* the laptop's: a CAN interface, or a serial adapter's file; empty: `name` */
};

/* Of a device with a web server: what its site says. */
struct eb_site_web {
    uint16_t port;                               /* 0: as the profile says */
    char host[EB_NAME_BYTES];                    /* its name; empty: it has an address only */
    char certificate[EB_CERTIFICATE_TEXT_BYTES]; /* SHA-256 of the only one that is trusted, or empty */
    const char *authority; /* file (PEM) of who must have signed its certificate; "": none */
};

/* One device of a site, and what is wanted of it. */
struct eb_site_device {
    char name[EB_NAME_BYTES];
    char link[EB_NAME_BYTES];
    const struct eb_site_link *wire;
    uint8_t node;                       /* on a CAN bus: CANopen, or 0 */
    struct eb_isotp_config isotp;       /* UDS, where `node` is 0 */
    char usb_place[EB_USB_PLACE_BYTES]; /* on USB: where it is plugged in, or empty */
    struct eb_endpoint modbus;          /* the same address with each protocol's port */
    struct eb_endpoint tftp;
    struct eb_site_web web;
    uint8_t unit;
    uint8_t slot;   /* of a module in the rack of `via`, whose address it has; 0: it is none */
    uint8_t prefix; /* of the device's own mask, as the number of its ones */
    bool has_mac;
    uint8_t mac[EB_MAC_BYTES];
    const struct eb_profile *profile;
    char serial[EB_NAME_BYTES];     /* empty: any */
    char order_code[EB_NAME_BYTES]; /* as the plate says; empty: not entered, like the next */
    char hardware_revision[EB_NAME_BYTES];
    struct eb_pairs stated;               /* what a person has read, by the words of eb_site_item_key */
    const struct eb_site_device *via;     /* the gateway on the way to it, or NULL */
    const struct eb_site_device *manager; /* that keeps its network, `via` as well; or NULL */
    struct eb_site_companion companions[EB_COMPANIONS_MAX];
    size_t companion_count;
    size_t wave;                /* 0: waits for no other; else one more than those it waits for */
    struct eb_site_want *wants; /* as the profile's components */
};

/* A site as its file says it. */
struct eb_site {
    char name[EB_NAME_BYTES];
    char profiles_dir[EB_PATH_BYTES];
    struct eb_site_link *links;
    size_t link_count;
    struct eb_profile **profiles;
    size_t profile_count;
    struct eb_site_device *devices;
    size_t device_count;
    /* A public key whose signatures count. */
    struct eb_site_key {
        struct eb_key key;
        char until[EB_DATE_BYTES]; /* the last day on which it counts, like "2027-03-31"; empty: for good */
    } keys[EB_KEYS_MAX];           /* that are trusted */
    size_t key_count;
    struct eb_key revoked[EB_KEYS_MAX]; /* not accepted any more, even if listed elsewhere */
    size_t revoked_count;
    void *memory; /* of what it points to */
};

/* The word for an item of the profile in a site's `stated`: "hardware-revision", or a component's name for
 * its version; "": it has none. */
const char *eb_site_item_key(const struct eb_profile *profile, size_t item);

/* Reads a site and the profiles that it names; NULL with `problem` filled.  docs/site.md describes the file.
 */
EB_NODISCARD struct eb_site *eb_site_read(const char *path, struct eb_problem *problem);
void eb_site_free(struct eb_site *site);

/* Writes a site that reads back as the same one from wherever it lies: paths are written from the root. */
EB_NODISCARD bool eb_site_write(const struct eb_site *site, const char *path, struct eb_problem *problem);

/* One device more for a site's file. */
struct eb_site_entry {
    char name[EB_NAME_BYTES];
    char link[EB_NAME_BYTES];
    enum eb_site_link_kind on; /* which of the next say where it is */
    struct eb_link_address address;
    bool has_mac;
    uint8_t mac[EB_MAC_BYTES];
    uint8_t node;                /* CANopen; 0: a UDS unit ... */
    struct eb_isotp_config unit; /* ... of 11 bits, or 29 with normal addressing */
    char place[EB_NAME_BYTES];   /* on USB, or empty */
    char via[EB_NAME_BYTES];     /* the device that it is reached through, or empty */
    bool managed;                /* ... which keeps its network */
    char profile[EB_NAME_BYTES];
    char serial[EB_NAME_BYTES]; /* or empty */
};

/* Writes devices behind those that a site's file has, leaving every other character of it as it is.  The new
 * file is read before it takes the old one's place. */
EB_NODISCARD bool eb_site_add(const char *path, const struct eb_site_entry *entries, size_t count,
                              struct eb_problem *problem);

/* Reads the profiles of a folder: gives their number and a list for eb_profiles_free; NULL with `problem`
 * filled where the folder cannot be read.  A file that is no good profile is left out, and `problem` tells of
 * the first; else it is empty. */
EB_NODISCARD struct eb_profile *eb_profiles_read(const char *folder, size_t *count,
                                                 struct eb_problem *problem);
void eb_profiles_free(struct eb_profile *profiles, size_t count);

/* The device by its name, or NULL. */
const struct eb_site_device *eb_site_device(const struct eb_site *site, const char *name);

/* --- images -------------------------------------------------------------------------------------- */

/* Where it is on its wire: "192.0.2.10", "node 11", "7A1/7A9", "1209:0001 at 1-2". */
enum { EB_PLACE_TEXT_BYTES = 32 };
/* Where a device is reached, as one reads it: "192.0.2.10", "node 11", "1209:0001 at 1-2.3". */
void eb_site_place_text(const struct eb_site_device *device, char text[EB_PLACE_TEXT_BYTES]);

enum {
    EB_FILE_BYTES = 256,
    EB_FILES_TEXT_BYTES = 1024,
    EB_MANIFEST_IMAGES_MAX = 64,
    EB_MANIFEST_BYTES = 1 << 20,
    EB_NOTES_BYTES = 4096
};

/* What a manifest says of one file. */
struct eb_manifest_image {
    char file[EB_FILE_BYTES];
    char format[12]; /* as eb_image_format_word, where the content is not to decide; else empty */
    char files[EB_FILES_TEXT_BYTES]; /* of a zip whose files all go to the device: their names, with ", "
                                        between */
    struct eb_image_facts facts;
};

/* docs/package.md describes it. */
struct eb_manifest {
    char maker[EB_NAME_BYTES], product[EB_NAME_BYTES], released[EB_NAME_BYTES];
    char notes[EB_NOTES_BYTES];
    struct eb_manifest_image *images;
    size_t count;
};

/* Reads a manifest; `path` is for messages.  False with `problem` filled; else eb_manifest_free frees it. */
EB_NODISCARD bool eb_manifest_read(const char *path, const void *bytes, size_t size,
                                   struct eb_manifest *manifest, struct eb_problem *problem);
/* The same where sizes and digests may still be missing; they are zeros then. */
EB_NODISCARD bool eb_manifest_draft(const char *path, const void *bytes, size_t size,
                                    struct eb_manifest *manifest, struct eb_problem *problem);
void eb_manifest_free(struct eb_manifest *manifest);

/* The manifest as JSON, freed by the caller. */
EB_NODISCARD char *eb_manifest_text(const struct eb_manifest *manifest);

/* An image file with what its manifest says and what was found in it.  The files stay open. */
struct eb_image {
    char path[EB_PATH_BYTES]; /* for messages: where it is from */
    struct eb_image_facts facts;
    char files[EB_FILES_TEXT_BYTES]; /* as in struct eb_manifest_image */
    struct eb_image_found found;
    enum eb_image_format format;
    uint32_t checksum;       /* CRC-32 of what `source` gives */
    struct eb_source source; /* the bytes that the file stands for, from its lowest address; gaps are FFh */
    uint32_t file_checksum;  /* CRC-32 of the whole file */
    struct eb_source file;   /* the file as it is */
    struct eb_part *parts;   /* of one of several files, once it was unpacked for a job; else NULL */
    size_t part_count;
    struct eb_source parts_source; /* their bytes, one behind the other */
    int fd, content_fd, parts_fd;
    bool kept;                      /* `fd` is a copy without a name */
    bool measured;                  /* digest and checksum of the file are known */
    char signer[EB_KEY_TEXT_BYTES]; /* the trusted key by which its manifest is signed; empty: by none */
};

/* For eb_source.lines: with vectors, where the processor has them. */
void eb_read_lines(struct eb_lines *lines);

/* Reads a file for its size and digest; false with `problem` filled. */
EB_NODISCARD bool eb_file_measure(const char *path, struct eb_image_found *found, struct eb_problem *problem);

/* Opens `path` and reads its manifest beside it (`path` with ".json" behind), and the signature of that
 * (".jws" behind), which `trust` (NULL: none is asked for) judges.  All bytes are copied while they are read
 * for the digest, and what is sent later is that copy: a file that changes meanwhile changes nothing.  Where
 * the manifest describes several images, the one with this file's name counts.  NULL with `problem` filled
 * where one of them cannot be read; that size or digest differ is for the verdict to say. */
EB_NODISCARD struct eb_image *eb_image_open(const char *path, const struct eb_trust *trust,
                                            struct eb_problem *problem);
void eb_image_close(struct eb_image *image);

/* --- what devices told before -------------------------------------------------------------------- */

/* A memory of devices in a folder: who answered under which name of a site, and for each serial number the
 * version of each component that was seen first - what it was delivered with, as far as is known - and last.
 */
struct eb_known;
enum { EB_SEEN_BYTES = 24 };
/* Opens what is remembered in a folder, which is made where it is missing; NULL with `problem` filled. */
EB_NODISCARD struct eb_known *eb_known_open(const char *folder, struct eb_problem *problem);
/* NULL: nothing. */
void eb_known_close(struct eb_known *known);

/* What is noted between the two is kept at the end, at once: one write to the disk in place of three for each
 * device.  Without them each note is kept by itself. */
EB_NODISCARD bool eb_known_begin(struct eb_known *known, struct eb_problem *problem);
EB_NODISCARD bool eb_known_end(struct eb_known *known, struct eb_problem *problem);

/* Remembers what a run has identified. */
EB_NODISCARD bool eb_known_note(struct eb_known *known, const char *site, const char *name,
                                const struct eb_run *looked, struct eb_problem *problem);

/* Who answered last under this name, and when (ISO 8601, UTC); false: nobody yet. */
bool eb_known_recall(struct eb_known *known, const char *site, const char *name, struct eb_identity *identity,
                     char seen[EB_SEEN_BYTES]);
/* The first and the last version of its component; false: none was seen. */
bool eb_known_versions(struct eb_known *known, const struct eb_identity *identity, const char *component,
                       char first[EB_VERSION_TEXT_BYTES], char last[EB_VERSION_TEXT_BYTES]);

/* Notes that this serial number answered at this MAC address now.  `other`: another one where it answered
 * within the last 30 days, and when last ("": none): a device keeps its own, unless its network part was
 * replaced. */
EB_NODISCARD bool eb_known_mac(struct eb_known *known, const struct eb_identity *identity, const char *mac,
                               char other[EB_MAC_TEXT_BYTES], char seen[EB_SEEN_BYTES],
                               struct eb_problem *problem);

/* The certificate of a device's web server that is trusted, as SHA-256 in hexadecimal; false: none yet. */
bool eb_known_certificate(struct eb_known *known, const char *site, const char *name,
                          char certificate[EB_CERTIFICATE_TEXT_BYTES]);
EB_NODISCARD bool eb_known_set_certificate(struct eb_known *known, const char *site, const char *name,
                                           const char *certificate, struct eb_problem *problem);

/* The highest floor among the images that were written to this device; false: none.  Raising it to a lower
 * one changes nothing. */
bool eb_known_floor(struct eb_known *known, const struct eb_identity *identity, const char *component,
                    char floor[EB_VERSION_TEXT_BYTES]);
EB_NODISCARD bool eb_known_raise_floor(struct eb_known *known, const struct eb_identity *identity,
                                       const struct eb_component_profile *component, const char *floor,
                                       struct eb_problem *problem);

/* What devices of a product take: its order code and hardware revision. */
struct eb_known_pace {
    uint32_t bytes_per_s; /* the fastest that was seen lately: others may have shared its bus; 0: not known,
                             like the next */
    uint32_t rest_ms;     /* all that is not sending, for each restart; the mean */
    bool by_tftp;         /* the next two were seen: what it takes in at once, and between two blocks */
    uint32_t tftp_at_once, tftp_pause_us;
};
/* What is remembered of a product; false: nothing. */
bool eb_known_pace(struct eb_known *known, const struct eb_identity *identity, const char *component,
                   struct eb_known_pace *pace);
/* What was seen now; false with `problem` filled. */
EB_NODISCARD bool eb_known_set_pace(struct eb_known *known, const struct eb_identity *identity,
                                    const char *component, const struct eb_known_pace *pace,
                                    struct eb_problem *problem);

/* --- the state directory ------------------------------------------------------------------------- */

/* Takes the directory for this process (it is made where it is missing), so that no two work in it at once.
 * Gives a descriptor to close at the end, or -1 with `problem` filled. */
int eb_state_lock(const char *dir, struct eb_problem *problem);

/* Writes a file of the state directory whole or not at all: the old content stays until the new one is on
 * disk. */
EB_NODISCARD bool eb_state_write(const char *dir, const char *name, const void *bytes, size_t size,
                                 struct eb_problem *problem);

/* Reads a whole file into memory that the caller frees.  NULL: `*missing` says whether it is only not there.
 */
EB_NODISCARD uint8_t *eb_state_read(const char *dir, const char *name, size_t *size, bool *missing,
                                    struct eb_problem *problem);

#ifdef __cplusplus
}
#endif

#endif
