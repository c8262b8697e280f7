/* One call of the tool: the site, the port, and what became known of each device. */
#ifndef TOOL_SESSION_H
#define TOOL_SESSION_H

#include "options.h"

#include <einbau/einbau.h>
#include <einbau/host.h>
#include <einbau/shelf.h>
#include <einbau/sim.h>

/* One device of the site in this call. */
struct target {
    const struct eb_site_device *device;
    bool chosen;   /* named, or all are meant */
    bool left_out; /* by --without */
    bool asked;    /* looked at for the sake of another one: its gateway, or its companion */
    bool absent;   /* nobody answered to its address when all were asked */
    bool answered; /* with anything, even if it could not be understood */
    bool reached;  /* and was identified */
    struct eb_run look;

    /* what is to be written, for plan and fit */
    struct eb_run_item items[EB_RUN_ITEMS_MAX];
    const struct eb_image *images[EB_RUN_ITEMS_MAX];
    struct eb_image_found files[EB_RUN_ITEMS_MAX];
    size_t item_count;
    char delivered[EB_COMPONENTS_MAX][EB_VERSION_TEXT_BYTES]; /* by the site, else as first seen */
    struct eb_surroundings around;
    bool lacks[EB_COMPONENTS_MAX]; /* the shelf has no image of the version that is wanted */
    bool refused;
    bool begun;
    struct eb_run fit;
    uint8_t *buffer;

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
    struct eb_key keys[2 * EB_KEYS_MAX]; /* that the site or the shelf trusts */
    size_t key_count;
    struct eb_known *known; /* NULL: nothing is remembered */
    struct added *added;    /* addresses that are to be taken back: addresses.c */
    size_t added_count;
    struct eb_problem problem;
    int status; /* what to exit with where a step below gave false */
};

/* Each gives false where the command must end: the reason was printed, `status` says with what. */
bool session_open(struct session *session, const struct options *options);
bool session_look(struct session *session);

/* Opens the site, if one is named, and the shelf; nothing on any wire. */
bool session_open_office(struct session *session, const struct options *options, bool make_shelf);

/* Whether the device is on a CAN bus; whether on Ethernet. */
bool target_on_bus(const struct target *target);
bool target_on_ip(const struct target *target);

/* What the port calls the adapter of a CAN bus. */
const char *wire_adapter(const struct session *session, const struct eb_site_link *wire);

/* A run for this device that only looks. */
struct eb_run_config session_run(const struct session *session, const struct target *target);

/* Opens the shelf that is named, or the user's own; where `must`, it is made. */
bool session_open_shelf(struct session *session, bool must);

/* --- planning.c --- */

/* Fills in what is to be written to each chosen device, and judges it. */
bool session_plan(struct session *session);

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
struct choice {
    size_t way[EB_WAY_STEPS_MAX];
    size_t steps;              /* 0: no candidate has that version */
    bool gap;                  /* it needs others first, and they are not there */
    struct eb_verdict verdict; /* of that one against what runs now */
};
void session_choose(struct session *session, struct target *target, size_t index,
                    struct eb_shelf_candidate *candidates, size_t count, struct choice *choice);

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

/* Whether the user asked for the end (SIGINT, SIGTERM): how often. */
int session_interrupts(void);

/* Works until all runs of the crew have ended; `show` is called about ten times a second, and at the end. */
void session_work(struct session *session, struct eb_crew *crew, void (*show)(void *context), void *context);

/* --- what the commands say of a device --- */

/* The version that is wanted of component `index`, or "". */
const char *target_wanted(const struct target *target, size_t index);
/* Whether the component is worth a word: it is wanted, or there is something in it. */
bool target_has(const struct target *target, size_t index);
enum eb_mark target_mark(const struct target *target, size_t index);

/* Whether anything is wanted of it, or is to be written. */
bool target_wants(const struct target *target);

/* Whether all of its components are as wanted. */
bool target_as_wanted(const struct target *target);

/* Why a device could not be looked at, or a run failed, as a sentence. */
void error_sentence(const struct eb_run *run, char *text, size_t cap);

/* Asks on the terminal, unless --yes said so already.  False where the answer was not yes: the reason was
 * printed, `status` says what to exit with.  `nothing` is what did not happen then: "nothing was written". */
bool session_may(struct session *session, const char *question, const char *nothing);

/* --- addresses.c: addresses for the laptop, given and taken back --- */

struct added {
    char link[EB_LINK_NAME_BYTES];
    struct eb_link_address address;
};
/* Adds what the chosen devices need; false where it could not be done. */
bool addresses_add(struct session *session);
/* Takes back what is still there of this session or an earlier one; gives how many. */
size_t addresses_take_back(struct session *session);
/* A simulated laptop remembers its addresses from command to command. */
void addresses_recall(struct session *session);

/* Prints "einbau: ..." to stderr. */
__attribute__((format(printf, 1, 2))) void complain(const char *format, ...);

#endif
