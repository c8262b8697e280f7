/* One call of the tool: the site, the port, and what became known of each device. */
#ifndef TOOL_SESSION_H
#define TOOL_SESSION_H

#include "options.h"

#include <einbau/einbau.h>
#include <einbau/host.h>
#include <einbau/record.h>
#include <einbau/shelf.h>
#include <einbau/sim.h>

/* One device of the site in this call. */
/* A target's runs. */
enum target_run { TARGET_LOOK, TARGET_FIT };

struct target {
    const struct eb_site_device *device;
    bool chosen;       /* named, or all are meant */
    bool left_out;     /* by --without */
    bool asked;        /* looked at for the sake of another one: its gateway, or its companion */
    bool absent;       /* nobody answered to its address when all were asked */
    bool answered;     /* with anything, even if it could not be understood */
    bool reached;      /* and was identified as the device that is meant; also one that was only asked */
    uint32_t accepted; /* rules, by --accept: see struct eb_judge_facts */
    struct eb_run look;
    const struct eb_left *left; /* what a job that did not end left behind, or NULL */
    bool worked_on;             /* another process works on it now: `worker` */
    struct eb_lock_holder worker;
    char mac[EB_MAC_TEXT_BYTES];       /* where it answers, "": not known */
    char other_mac[EB_MAC_TEXT_BYTES]; /* where its serial number answered before, "": nowhere else */
    char other_seen[EB_SEEN_BYTES];    /* when last */

    /* of the wanted image of each component, where it is known */
    bool has_checksum[EB_COMPONENTS_MAX];
    uint32_t checksum[EB_COMPONENTS_MAX];

    /* what is to be written, for plan and fit */
    struct eb_run_item items[EB_RUN_ITEMS_MAX];
    const struct eb_image *images[EB_RUN_ITEMS_MAX];
    struct eb_image_found files[EB_RUN_ITEMS_MAX];
    size_t item_count;
    char delivered[EB_COMPONENTS_MAX][EB_VERSION_TEXT_BYTES];   /* by the site, else as first seen */
    char known_floor[EB_COMPONENTS_MAX][EB_VERSION_TEXT_BYTES]; /* of images that it got before */
    struct eb_surroundings around;
    char foreseen[EB_COMPONENTS_MAX][EB_VERSION_TEXT_BYTES]; /* by a job that it is not part of */
    bool lacks[EB_COMPONENTS_MAX]; /* the shelf has no image of the version that is wanted */
    bool refused;
    bool recovers; /* its run only undoes what an earlier job did */
    bool begun;
    const struct eb_site_device *waited_for; /* in vain: it was not confirmed, so this one is not started */
    struct eb_run fit;
    uint8_t *buffer;
    uint64_t *memory[2]; /* of each run, for its accesses */

    /* what the progress display said last */
    enum eb_rung told_rung;
    unsigned told_attempt;
    uint64_t told_us;
};

struct session {
    const struct options *options;
    struct eb_site *site;
    struct eb_sim *sim;
    const struct eb_port *port;
    const struct eb_port *inner; /* of a trace, or NULL */
    struct target *targets;
    size_t count;
    struct opened {
        struct eb_image *image;
        int64_t number; /* on the shelf, 0: a file */
    } * images;
    size_t image_count;
    struct eb_shelf *shelf; /* NULL: there is none */
    char shelf_folder[EB_PATH_BYTES];
    struct eb_trust trust;  /* whose signatures count: the site's keys and this user's own */
    struct eb_known *known; /* NULL: nothing is remembered */
    struct added *added;    /* addresses that are to be taken back: addresses.c */
    size_t added_count;
    struct eb_locks *locks;   /* job.c, like the next; NULL: none is needed */
    struct eb_record *record; /* NULL: there is none, or none yet */
    bool recording;           /* a job of this process is in it */
    bool carried;             /* the plan was carried out, as far as it could be */
    struct eb_left *lefts;
    size_t left_count;
    struct heard { /* the CAN buses that were listened to, by the site's links */
        bool listened;
        unsigned trouble; /* bits of enum eb_bus_trouble */
    } heard[EB_SITE_LINKS_MAX];
    struct eb_problem problem;
    int status; /* what to exit with where a step below gave false */
};

/* Each gives false where the command must end: the reason was printed, `status` says with what. */
bool session_open(struct session *session, const struct options *options);
bool session_look(struct session *session);

/* Fills in what is known of the versions below which its components must not go. */
void session_floors(struct session *session, struct target *target);

/* Opens the site, if one is named, the keys that count, and the shelf; nothing on any wire. */
enum shelf_need { SHELF_NOT_NEEDED, SHELF_IF_THERE, SHELF_IS_MADE };
bool session_open_office(struct session *session, const struct options *options, enum shelf_need shelf);

/* The profiles that bare images are recognised by, from --profiles or the site, freed by the caller; none
 * where neither is named.  False after a complaint. */
bool session_profiles(struct session *session, struct eb_profile **profiles, size_t *count);

/* Whether the device is on a CAN bus; whether on Ethernet. */
bool target_on_bus(const struct target *target);
bool target_on_ip(const struct target *target);

/* What the port calls the adapter of a CAN bus. */
const char *wire_adapter(const struct session *session, const struct eb_site_link *wire);

/* A run for this device that only looks. */
struct eb_run_config session_run(struct session *session, struct target *target, enum target_run which);

/* Finds out whose signatures count; false where a listed key cannot be read, so that nothing may be trusted.
 */
bool session_trust(struct session *session);
/* Where this user keeps trusted keys; false: nowhere. */
bool session_trusted_dir(char folder[EB_PATH_BYTES]);

/* rights.c: gives up every capability that is not needed any more; raw sockets are open by then.
 * `keep_addresses`: the laptop's addresses are to be changed. */
void rights_drop(bool keep_addresses);

/* Opens the shelf that is named, or the user's own; where `must`, it is made. */
bool session_open_shelf(struct session *session, bool must);

/* --- planning.c --- */

/* Finds the checksums of the wanted images, as far as the devices tell theirs and the images are known. */
void session_compare(struct session *session);

/* Fills in what is to be written to each chosen device, and judges it. */
bool session_plan(struct session *session);

/* Finds out to what a job with the devices that were only asked would bring them; session_plan does. */
void session_foresee(struct session *session);

/* What is around a device now, as far as it was read; `planned`: as it will be once the plan is carried out.
 */
void session_surround(struct session *session, struct target *target, bool planned);

/* The images of the shelf that may be for a component of a device; see eb_shelf_candidates. */
bool session_candidates(struct session *session, struct target *target, size_t component, bool others,
                        struct eb_shelf_candidate **candidates, size_t *count);
/* Judges one of them as the next item of the device's plan. */
void session_judge(struct session *session, struct target *target, size_t component,
                   struct eb_shelf_candidate *candidate, struct eb_run_item *item);

/* The best image of the wanted version among candidates, with those that lead to it: the last of `way` is the
 * one. */
struct eb_job_choice {
    size_t way[EB_WAY_STEPS_MAX];
    size_t steps;              /* 0: no candidate has that version */
    bool gap;                  /* it needs others first, and they are not there */
    struct eb_verdict verdict; /* of that one against what runs now */
};
void session_choose(struct session *session, struct target *target, size_t index,
                    struct eb_shelf_candidate *candidates, size_t count, struct eb_job_choice *choice);

/* What is known of a device without looking: by the site, and from an earlier look.  `seen` empty: from none.
 */
void session_recall(struct session *session, struct target *target, char seen[EB_SEEN_BYTES]);

/* Lets a simulated world remember, and frees everything.  Gives `status`, or a worse one. */
int session_close(struct session *session, int status);

/* Reads the image once, however often it is asked for: a file, or one of the shelf. */
const struct eb_image *session_image(struct session *session, const char *path);
const struct eb_image *session_shelf_image(struct session *session,
                                           const struct eb_shelf_candidate *candidate);

/* Where this call keeps what it must remember: --state, else the user's own folder; false: nowhere. */
bool session_state_dir(const struct session *session, char folder[EB_PATH_BYTES]);

/* How urgently the user asked for the end: 1 by Ctrl-C, SIGTERM or a terminal that is closed; 2 by a second
 * Ctrl-C. */
int session_interrupts(void);

/* Works until all runs of the crew have ended and `more`, which may be NULL, has added none.  `show`, which
 * may be NULL, is called about ten times a second, and at the end. */
struct working {
    bool (*more)(void *context, struct eb_crew *crew); /* may add runs; false: none was added */
    void (*show)(void *context);
    void *context, *show_context;
};
void session_work(struct session *session, struct eb_crew *crew, const struct working *working);

/* --- what the commands say of a device --- */

/* The version that is wanted of component `index`, or "". */
const char *eb_job_wanted(const struct target *target, size_t index);
/* Whether the component is worth a word: it is wanted, or there is something in it. */
bool eb_job_has(const struct target *target, size_t index);
enum eb_mark eb_job_mark(const struct target *target, size_t index);

/* Whether anything is wanted of it, or is to be written. */
bool eb_job_wants(const struct target *target);

/* Where nothing is wanted of any chosen device, so that nothing can be as wanted: says so. */
bool say_nothing_wanted(const struct session *session);

/* Whether all that is wanted of it runs. */
bool eb_job_as_wanted(const struct target *target);
/* By what that is known of a component that is as wanted: EB_BY_VERSION, EB_BY_CHECKSUM. */
unsigned eb_job_known_by(const struct target *target, size_t index);
/* Whether its program is stopped, which the site never wants. */
bool eb_job_stopped(const struct target *target);

/* What helps where its program is stopped: a sentence. */
void start_sentence(const struct target *target, char *text, size_t cap);
bool target_can_start(const struct target *target);

/* The run that was with it last. */
const struct eb_run *eb_job_last(const struct target *target);

/* A name as a word of a command line that a user may paste: quoted where the shell would do something with it
 * (POSIX, Shell Command Language, section 2.2.2).  Valid until the fourth call from now. */
const char *eb_job_word(const char *name);

/* --- explain.c: what happened, why, and what helps in this case --- */

/* Why a run failed, as a sentence or two. */
void error_sentence(const struct eb_run *run, char *text, size_t cap);
/* Why a device could not be looked at; empty where it could.  Where the cause is the gateway that it is
 * behind, or the laptop's addresses, it says so. */
void look_sentence(const struct session *session, const struct target *target, char *text, size_t cap);
/* What can be said of a device that a job is through with and that is not as it should be: what happened, how
 * it was left, and what helps; empty where all is well. */
void outcome_sentence(const struct session *session, const struct target *target, char *text, size_t cap);

/* Asks on the terminal, unless --yes said so already.  False where the answer was not yes: the reason was
 * printed, `status` says what to exit with.  `nothing` is what did not happen then: "nothing was written". */
bool session_may(struct session *session, const char *question, const char *nothing);

/* --- job.c: what keeps a plant whole --- */

/* Reads what jobs that did not end left behind, and finds out who works on the devices now. */
void job_find_left(struct session *session);
/* The locks of all chosen devices' addresses, then of the devices themselves once they are identified; false
 * where another process has one: that was said. */
bool job_lock_addresses(struct session *session);
bool job_lock_devices(struct session *session);
/* The keys of these locks; `key` of a device that told no serial number is that of its address. */
void eb_job_ip_key(const struct eb_endpoint *modbus, char key[EB_LOCK_KEY_BYTES]);
void eb_job_mac_key(const uint8_t mac[EB_MAC_BYTES], char key[EB_LOCK_KEY_BYTES]);
void address_key(const struct session *session, const struct target *target, char key[EB_LOCK_KEY_BYTES]);
void unit_key(const struct session *session, const struct target *target, char key[EB_LOCK_KEY_BYTES]);
/* One lock; `name` is what the user calls the device. */
bool job_lock(struct session *session, const char *name, const char *key);
/* Begins a job in the record; false where it cannot be written, which was said with `nothing`. */
bool job_begin(struct session *session, const char *nothing);
void job_end(struct session *session, int status);
/* Lets the run write into the record before each effect. */
void job_attach(struct session *session, struct eb_run_config *config);
/* A row on an address of the laptop, "address-add" or "address-remove". */
bool job_note_address(struct session *session, const char *kind, const char *link, const char *address);

/* What was left of a device, and what helps: a sentence. */
void left_sentence(const struct target *target, char *text, size_t cap);
/* That somebody works on it, as part of a sentence: "by einbau fit, process 12, since 11:02". */
void eb_job_holder_text(const struct eb_lock_holder *holder, char *text, size_t cap);
/* A time of the record (ISO 8601, UTC) as the user reads it. */
void eb_job_local_time(const char *iso, char *text, size_t cap);

/* --- addresses.c: addresses for the laptop, given and taken back --- */

struct added {
    char link[EB_LINK_NAME_BYTES];
    struct eb_link_address address;
};
/* Adds what the chosen devices need; false where it could not be done. */
bool addresses_add(struct session *session);
/* Takes back what this session has added. */
void addresses_take_back(struct session *session);
/* What jobs that did not end have added: how many there are; takes them back, and gives how many were. `all`:
 * also those that 'einbau links' has added, which stay until they are asked back. */
size_t addresses_left(const struct session *session);
size_t addresses_recover(struct session *session, bool all);
/* A simulated laptop remembers its addresses from command to command. */
void addresses_recall(struct session *session);

/* Prints "einbau: ..." to stderr. */
__attribute__((format(printf, 1, 2))) void complain(const char *format, ...);
/* Prints nothing from now on, or again. */
void hush(bool on);

#endif
