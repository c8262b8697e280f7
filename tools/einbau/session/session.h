/* One call of the tool on a site: the job (einbau/job.h), its port, simulated hardware, and how the call
 * ends. */
#ifndef TOOL_SESSION_H
#define TOOL_SESSION_H

#include "session/options.h"

#include <einbau/job.h>
#include <einbau/sim.h>

struct session {
    const struct options *options;
    struct eb_job *job;
    struct eb_sim *sim;
    const struct eb_port *inner;                                   /* of a trace, or NULL */
    char state_folder[EB_PATH_BYTES], shelf_folder[EB_PATH_BYTES]; /* empty: nowhere */
    struct added *added; /* addresses that are to be taken back: addresses.c */
    size_t added_count;
    bool carried;  /* the plan was carried out, as far as it could be */
    struct heard { /* the CAN buses that were listened to, by the site's links */
        bool listened;
        unsigned trouble; /* bits of enum eb_bus_trouble */
    } * heard;
    struct progress *progress; /* while the plan is carried out */
    bool looking;              /* while the devices are looked at, since ... */
    uint64_t looks_us;
    int status;                        /* what to exit with where a step below gave false */
    const struct eb_job_device *asked; /* a person is asked for this of it; NULL: nothing */
    char asked_key[EB_NAME_BYTES];
};

/* Where the shelf of this call is: as it says, else the user's own; empty where there is no home. */
const char *session_shelf_folder(const struct options *options, char folder[EB_PATH_BYTES]);

/* Each gives false where the command must end: the reason was printed, `status` says with what. */
bool session_open(struct session *session, const struct options *options);
bool session_look(struct session *session);
/* Fills in what is to be written to each chosen device, and judges it. */
bool session_plan(struct session *session);
/* Carries the plan out; or, `recovers`, only undoes what earlier jobs left.  With a display of the progress.
 */
bool session_carry_out(struct session *session, bool recovers);

/* Opens the site, if one is named, the keys that count, and the shelf; nothing on any wire. */
enum shelf_need { SHELF_NOT_NEEDED, SHELF_IF_THERE, SHELF_IS_MADE };
bool session_open_office(struct session *session, const struct options *options, enum shelf_need shelf);

/* The profiles that bare images are recognised by, from --profiles or the site, freed by the caller; none
 * where neither is named.  False after a complaint. */
bool session_profiles(struct session *session, struct eb_profile **profiles, size_t *count);

/* Whether the device is on a CAN bus; whether on Ethernet. */
bool target_on_bus(const struct eb_job_device *target);
bool target_on_ip(const struct eb_job_device *target);

/* Finds out whose signatures count; false where a listed key cannot be read, so that nothing may be trusted.
 */
bool session_trust(struct session *session);
/* Where this user keeps trusted keys; false: nowhere. */
bool session_trusted_dir(char folder[EB_PATH_BYTES]);

/* rights.c: gives up every capability that is not needed any more; raw sockets are open by then.
 * `keep_addresses`: the laptop's addresses are to be changed; `keep_ports`: a device pulls its image, from
 * ports that need a permission. */
void rights_drop(bool keep_addresses, bool keep_ports);

/* Opens the shelf that is named, or the user's own; where `must`, it is made. */
bool session_open_shelf(struct session *session, bool must);
/* The images of the shelf that may be for a component of a device; see eb_shelf_candidates. */
bool session_candidates(struct session *session, struct eb_job_device *target, size_t component, bool others,
                        struct eb_shelf_candidate **candidates, size_t *count);

/* Lets a simulated world remember, and frees everything.  Gives `status`, or a worse one. */
int session_close(struct session *session, int status);

/* Says why the job must end, in the library's words; gives false. */
bool session_failed(struct session *session);

/* How a command ends that has reached devices, or not, and all of them are as wanted, or not. */
int exit_status(bool reached, bool good);

/* How urgently the user asked for the end: 1 by Ctrl-C, SIGTERM or a terminal that is closed; 2 by a second
 * Ctrl-C. */
int session_interrupts(void);
void session_heed_interrupts(void); /* from now on they are counted, and end nothing by themselves */

/* --- what the commands say of a device --- */

/* Where nothing is wanted of any chosen device, so that nothing can be as wanted: says so. */
bool say_nothing_wanted(const struct session *session);

/* What helps where its program is stopped: a sentence. */
void start_sentence(const struct eb_job_device *target, char *text, size_t cap);
bool target_can_start(const struct eb_job_device *target);
/* Whether one that is in its loader may still have a program: the job that left it there was not writing. */
bool target_may_have_program(const struct eb_job_device *target);

/* --- statement.c: what only a person can read --- */

enum eb_status statement_ask(void *context, const struct eb_job_device *target, const char *key,
                             const char *where, bool afresh, char text[EB_NAME_BYTES]);
/* What was said of the device and counts, and by whom; empty: nothing. */
void statement_text(const struct eb_job_device *target, char *text, size_t cap);
/* Whether what is known of it rests on no statement, or the user accepts that it does. */
bool statement_counts(const struct eb_job_device *target);

/* --- explain.c: what happened, why, and what helps in this case --- */

/* Why a run failed, as a sentence or two. */
void error_sentence(const struct eb_run *run, char *text, size_t cap);
/* Why a device could not be looked at; empty where it could.  Where the cause is the gateway that it is
 * behind, or the laptop's addresses, it says so. */
void look_sentence(const struct session *session, const struct eb_job_device *target, char *text, size_t cap);
/* By which other way it was written, or restarted, and why: empty where the first ones did. */
void other_way_sentence(const struct eb_run *run, char *text, size_t cap);
/* What has restarted the device: the word of an access, or "by-hand"; NULL: nothing that the profile names.
 */
const char *restarted_by(const struct eb_run *run);
/* Why nothing is written to a device of a plan: the findings, or that it could not be looked at. */
void plan_sentence(const struct session *session, const struct eb_job_device *target, char *text, size_t cap);
/* What can be said of a device that a job is through with and that is not as it should be: what happened, how
 * it was left, and what helps; empty where all is well. */
void outcome_sentence(const struct session *session, const struct eb_job_device *target, char *text,
                      size_t cap);

/* Asks on the terminal, unless --yes said so already.  False where the answer was not yes: the reason was
 * printed, `status` says what to exit with.  `nothing` is what did not happen then: "nothing was written". */
bool session_may(struct session *session, const char *question, const char *nothing);

/* Lets a person type something, whatever --yes says; false: there is no terminal. */
bool session_types(const struct session *session, char *typed, size_t cap, const char *question);

/* --- the record and the locks: einbau/job.h, with complaints --- */

bool job_lock_addresses(struct session *session);
bool job_lock_devices(struct session *session);
/* One lock; `name` is what the user calls the device. */
bool job_lock(struct session *session, const char *name, const char *key);
/* Begins a job in the record; false where it cannot be written, which was said with `nothing`. */
bool job_begin(struct session *session, const char *nothing);

/* What was left of a device, and what helps: a sentence. */
void left_sentence(const struct eb_job_device *target, char *text, size_t cap);

/* --- secret.c: passwords of devices --- */

/* Opens the file of them; where it is not there and need not be, none are known.  False after a complaint. */
bool secrets_open(struct session *session, bool must);
/* The same where a chosen device has a login: with a passphrase only for a job that writes. */
bool secrets_needed(struct session *session);
/* A planned device whose password is not known is refused, and it is said what helps. */
void secrets_miss(struct session *session);
/* Asks for the password of a device; false after a complaint. */
bool secrets_password(const char *whose, char to[EB_HTTP_PASSWORD_BYTES]);
/* A new one: twice, where it is typed. */
bool secrets_new_password(const char *whose, char to[EB_HTTP_PASSWORD_BYTES]);

/* --- addresses.c: addresses for the laptop, given and taken back --- */

/* Who answers to an address, by ARP on all links, or whether it is the laptop's: EB_OK with its hardware
 * address, EB_NO_ANSWER, or why that cannot be asked. */
enum eb_status address_answers(struct session *session, const uint8_t ip[4], char mac[EB_MAC_TEXT_BYTES]);

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

#endif
