/* A job on a site: devices are chosen and looked at, images are chosen and judged, written in the order in
 * which devices depend on each other, and read back.
 *
 *   struct eb_job *job = eb_job_open(&config, &problem);
 *   bool good = job != NULL && eb_job_choose(job, "drive-plc", &problem) && eb_job_fit(job, &problem);
 *   eb_job_close(job);
 *
 * One thread; everything happens in the calls, which wait on the port. */
#ifndef EINBAU_JOB_H
#define EINBAU_JOB_H

#include "einbau/backup.h"
#include "einbau/settings.h"
#include "einbau/record.h"
#include "einbau/secrets.h"
#include "einbau/shelf.h"

#ifdef __cplusplus
extern "C" {
#endif

struct eb_job_device;

/* What a job is to work on, and whom it tells. */
struct eb_job_config {
    const char *site;           /* a site file; NULL: none, for what needs no devices */
    const char *shelf;          /* folder; NULL: only images that the site names */
    bool shelf_may_miss;        /* a shelf that is not there is none */
    const struct eb_port *port; /* may come later, into job->port */
    const char *state;          /* folder for what must be remembered; NULL: nothing is */
    bool records;               /* effects are written into the record there before they happen */
    bool locks;                 /* other processes may work on the same devices */
    bool simulated;             /* time passes only in the port's wait; adapters have the site's names */
    const char *record;         /* folder of the record; NULL: `state` */
    const char *command;        /* its name in locks and in the record; NULL: "job" */
    const char *words;          /* for the record: how it was called, without secrets; may be NULL */
    const char *person;         /* for the record: who does it; NULL: the user's name */
    int64_t resumes;            /* the job of the record that this one goes on with; 0: none */

    /* Each may be NULL. */
    void (*warn)(void *context, const char *text); /* a sentence on what is not as good as it could be */
    unsigned (*stop)(
        void *context);          /* 0: go on; 1: end cleanly; more: at once, leaving devices as they are */
    void (*show)(void *context); /* about ten times a second while it works */
    void (*begins)(void *context, struct eb_run_config *config); /* before each run that writes */
    /* What a person says of an item (`key` as in eb_site_item_key), read at `where`; `afresh`: what was said
     * before does not count.  EB_PENDING: is being asked.  EB_OK with `text`; else: no statement. */
    enum eb_status (*statement)(void *context, const struct eb_job_device *target, const char *key,
                                const char *where, bool afresh, char text[EB_NAME_BYTES]);
    /* For the record: what can be said of a device at its end, empty where all is well. */
    void (*says)(void *context, struct eb_job_device *target, char *text, size_t cap);
    void *context;
};

/* So many devices send out of buffers of their own; where there are more, some have the same one. */
enum { EB_JOB_BUFFERS = 64 };

/* A target's runs. */
enum eb_job_run { EB_JOB_LOOK, EB_JOB_FIT };

/* What a person may accept of a device besides the findings of rules. */
enum { EB_ACCEPT_CERTIFICATE = 1, EB_ACCEPT_PLAIN_PASSWORD = 2, EB_ACCEPT_STATED = 4 };

/* Devices in the order in which they wait. */
struct eb_job_queue {
    struct eb_job_device *first, *last;
};

/* One device of the site, and what became known of it.  Read by the caller; what it may set says so. */
struct eb_job_device {
    const struct eb_site_device *device;
    bool chosen;   /* named, or all are meant */
    bool left_out; /* the caller's: not chosen, even if all are meant */
    bool asked;    /* looked at for the sake of another one: its gateway, or its companion */
    bool absent;   /* the caller's: it did not answer to ARP a moment ago, so that it is not waited for */
    bool kept_off; /* the caller's: its bus seems to run at another bit rate, so that nothing is sent there */
    bool answered; /* with anything, even if it could not be understood */
    bool reached;  /* and was identified as the device that is meant; also one that was only asked */
    uint32_t accepted;            /* the caller's: see struct eb_judge_facts */
    unsigned accepts;             /* the caller's: bits of EB_ACCEPT_CERTIFICATE and so on */
    const struct eb_image *given; /* the caller's: this image, in place of what the site wants */
    struct eb_run look;
    const struct eb_left *left; /* what a job that did not end left behind, or NULL */
    bool worked_on;             /* another process works on it now: `worker` */
    struct eb_lock_holder worker;
    char
        certificate[EB_CERTIFICATE_TEXT_BYTES]; /* SHA-256 of the certificate that is trusted; "": none yet */
    char mac[EB_MAC_TEXT_BYTES];                /* where it answers, "": not known */
    char other_mac[EB_MAC_TEXT_BYTES]; /* where its serial number answered before, "": nowhere else */
    char other_seen[EB_SEEN_BYTES];    /* when last */

    /* What was said of each of the profile's items; NULL: nothing was asked. */
    struct eb_job_statement {
        char text[EB_NAME_BYTES], by[EB_NAME_BYTES]; /* by which user, or "site" */
        bool said, afresh;                           /* `afresh`: after the device took up an image */
        bool declined; /* the person was asked, and said nothing; once more would be no better */
    } * statements;

    /* What is known of each of the profile's components besides what was read. */
    struct eb_job_component {
        bool has_checksum; /* of the wanted image */
        uint32_t checksum;
        char delivered[EB_VERSION_TEXT_BYTES];   /* by the site, else as first seen */
        char known_floor[EB_VERSION_TEXT_BYTES]; /* of images that it got before */
        char foreseen[EB_VERSION_TEXT_BYTES];    /* by a job that it is not part of */
        bool lacks;                              /* the shelf has no image of the version that is wanted */
    } * components;

    /* what is to be written */
    struct eb_run_item *items; /* as many as `item_count` says, and what each was made of */
    /* What an item was made of. */
    struct eb_job_item {
        const struct eb_image *image;
        struct eb_image_found file;
        uint64_t sent_us; /* how long it was sent, once it was */
        uint8_t *verdict; /* its own: eb_job_verdict */
    } * planned;
    size_t item_count;
    struct eb_surroundings around;
    bool refused;
    bool judged;   /* its own: by the run that writes */
    bool recovers; /* the caller's: its run only undoes what an earlier job did */
    bool begun;
    const struct eb_site_device *waited_for; /* in vain: it was not confirmed, so this one is not started */
    struct eb_run fit;
    uint8_t *buffer;
    uint64_t *memory[2]; /* of each run, for its accesses */
    size_t memory_bytes[2];
    struct eb_running *running[2]; /* what each has read of the profile's components */

    /* What its profile notes (eb_profile.notes), before anything was done to it and after; NULL: nothing. */
    struct eb_job_noted {
        /* As in the profile's notes, one for each. */
        struct eb_job_values {
            bool read;
            char text[EB_COMPONENTS_MAX][EB_NAME_BYTES]; /* empty: not readable, or no entry */
        } before, after;
        bool recalled; /* `before` is by an earlier job that wrote to it */
        bool recorded; /* what was noted is in the record */
    } * noted;

    /* Documents that are saved before anything is done to it, and put back after; NULL: none. */
    struct eb_job_kept {
        struct eb_run_document documents[EB_BACKUPS_MAX]; /* of the run */
        size_t count;
        struct eb_backup_file file; /* what this job has saved; `path` empty: in memory only */
        struct eb_backup_file due;  /* what an earlier job, or the caller, wants to be put back */
        bool goes_back; /* to an older version, which may not understand what is saved: it is not put back */
        bool marked;    /* it is written down what is to be put back ... */
        bool whole;     /* ... and that is all of it */
    } * kept;
    /* The login that is tried in place of the one that is kept; `user` empty: none. */
    struct eb_job_login {
        char user[EB_HTTP_USER_BYTES], password[EB_HTTP_PASSWORD_BYTES];
    } trial;
    bool puts_back; /* its run only puts documents back, or saves them, or changes settings or its state */

    /* Settings that were read, and what is changed of them; an action; NULL: neither. */
    struct eb_job_settings {
        /* One for each of the profile's. */
        struct eb_job_setting {
            const struct eb_setting *setting;
            bool read; /* `text` is what it held when it was read last */
            char text[EB_SETTING_BYTES];
            bool changes; /* to `wanted`, from `before` */
            char wanted[EB_SETTING_BYTES], before[EB_SETTING_BYTES];
            enum eb_document_state state; /* of the change */
            bool known;                   /* `text` was read behind it */
            struct eb_error error;

            /* its own */
            struct eb_run_document *document; /* of the run, or NULL */
            struct eb_backup_document seen, out;
            struct eb_sink check;
            int64_t since;
        } * list;
        size_t count;
        struct eb_backup_file kept; /* what the device held before: where that stands */
        enum eb_change change;
        enum eb_action_kind action;
        bool already; /* the device is as the action would leave it */
        bool refused; /* a password was not taken */

        /* its own */
        struct eb_backup_document secret;
        struct eb_run_document *documents;
        size_t document_count;
        bool marked;
        struct eb_profile acts;
    } * settings;

    /* Its place in a network that a manager keeps; NULL: none does, as far as is known. */
    struct eb_job_member {
        bool read; /* `entry` is what the manager's list says of it, and it itself; else `error` says why not
                    */
        struct eb_member entry;
        struct eb_error error;
        struct eb_run_member run;             /* of the run that writes */
        const struct eb_site_device *unnamed; /* the manager, where the site does not say so */
    } * member;

    /* How long it takes alone, in microseconds, by eb_job_estimate; 0: not known. */
    struct eb_job_estimate {
        uint64_t send_us, rest_us;
        uint64_t begins_us, sent_us; /* in the plan: since its beginning */
        bool guessed; /* of something no earlier job has told how long it takes, only its profile */
    } estimate;

    /* its own */
    struct eb_job *job;
    uint8_t stage;              /* see job/inside.h */
    uint64_t began_us, took_us; /* `took_us`: as such a device takes, 0: not known */
    bool by_tftp;               /* see struct eb_known_pace */
    uint32_t tftp_at_once, tftp_pause_us;
    struct eb_job_item *sends; /* which is being sent, and since when */
    uint64_t sends_since_us;
    void (*event)(void *context, const struct eb_run *run); /* the caller's, of its run */
    void *event_context;
    /* What its run did when, since the job began. */
    struct eb_job_span {
        uint32_t from_ms, to_ms;
        const char *hand; /* a manual step was due, or NULL */
        uint8_t rung, item, attempt;
    } * spans;
    size_t span_count;
    uint64_t path_us;                /* its own time, and that of the longest chain behind it */
    struct eb_job_queue waiters;     /* devices that are not begun before this one has ended ... */
    struct eb_job_device *next;      /* ... and the next one that waits where this one does */
    struct eb_job_device *rack_user; /* of its modules, the one that was begun last */

    /* the caller's: the manual steps that nothing else shows are done; for a display, what it said last */
    bool steps_done;
    enum eb_rung told_rung;
    unsigned told_attempt;
    uint8_t told_hands;
    char told_notice[EB_ERROR_TEXT_BYTES];
    uint64_t told_us;
};

/* What a CANopen node shall be called, and its bit rate; 0: as it is. */
struct eb_job_node {
    uint8_t node;
    uint32_t bit_rate;
};

/* A job on a site; its members may be read, and written where a comment says so. */
struct eb_job {
    struct eb_job_config config;
    struct eb_site *site; /* NULL: there is none */
    const struct eb_port *port;
    struct eb_job_device *devices; /* in the site's order */
    size_t count;
    struct eb_job_spare *spare; /* its own: memory of runs that have ended */
    struct eb_verdict
        *verdicts;          /* its own: of the device that is judged, and behind them the one that is shown */
    bool again;             /* the caller's: chosen devices get what they run already, too */
    bool named;             /* some were chosen by their names */
    bool no_backup;         /* the caller's: nothing is saved, and nothing put back */
    bool for_card;          /* the caller's: the plan is for a memory card, not for sending */
    bool rehearses;         /* its own: nothing of it is real (rehearse.h) */
    struct eb_trust trust;  /* whose signatures count: the site's keys, and what the caller adds */
    struct eb_shelf *shelf; /* NULL: there is none */
    struct eb_known *known; /* NULL: nothing is remembered */
    struct eb_secrets *secrets; /* the caller's; closed with the job; NULL: no password is known */
    struct eb_locks *locks;     /* NULL: none was needed yet */
    struct eb_locks *going;     /* says that the job goes on */
    struct eb_record *record;   /* NULL: there is none, or none yet */
    bool cut_off;               /* its server does not answer any more: the job is being ended */
    bool recording;             /* this job is in it ... */
    bool planned;               /* ... with its devices ... */
    int64_t number;             /* ... under this number; 0: none was begun */
    uint64_t began_us;          /* when, by the port's clock */
    struct eb_left *lefts;
    size_t left_count;
    uint64_t estimate_us;      /* how long the plan takes; 0: not known */
    uint64_t estimate_most_us; /* and if all that only profiles tell takes half as long again */
    struct eb_problem problem; /* why the last call gave false ... */
    enum eb_status status;     /* ... EB_BAD_CALL: a wrong file or argument; EB_BUSY: another process works
                                * there; EB_STOPPED; EB_IO: the record or a lock cannot be written */

    /* its own */
    struct eb_job_image {
        struct eb_image *image;
        int64_t number; /* on the shelf, 0: a file */
    } * images;
    size_t image_count;
    uint8_t *buffers[EB_JOB_BUFFERS]; /* for what is sent; NULL: not needed yet */
    size_t buffers_taken;
    struct eb_job_queue ready;     /* devices to be begun, or to be given up */
    struct eb_job_device *by_hand; /* the one with a manual step that was begun last */
    bool hushed;
    const char *backup_to; /* the file for what is saved; NULL: one in the folder of backups */
};

/* Reads the site and opens what the configuration names; the texts of `config` are borrowed until the end.
 * All devices are chosen.  NULL with `problem` filled. */
EB_NODISCARD struct eb_job *eb_job_open(const struct eb_job_config *config, struct eb_problem *problem);
void eb_job_close(struct eb_job *job); /* NULL: nothing */

/* Chooses a device by its name, beside those that were; the first name takes the place of all.  False with
 * job->problem filled, and `problem` where that is not NULL: there is none. */
EB_NODISCARD bool eb_job_choose(struct eb_job *job, const char *name, struct eb_problem *problem);
struct eb_job_device *eb_job_device(struct eb_job *job, const char *name);

/* Looks at the chosen devices and those that they depend on, compares them with what the site wants, chooses
 * and judges images, writes, and reads back.  True only where every chosen device of which something is
 * wanted is confirmed or up to date.  Nothing is written to any while one is refused or cannot be looked at.
 */
EB_NODISCARD bool eb_job_fit(struct eb_job *job, struct eb_problem *problem);

/* --- the steps of that; each gives false where the job must end, with job->problem and job->status --- */

/* Marks those that the chosen ones depend on, to be looked at too. */
void eb_job_ask(struct eb_job *job);
EB_NODISCARD bool eb_job_look(struct eb_job *job);
/* Opens the shelf where it is not yet; `must`: it is made. */
EB_NODISCARD bool eb_job_shelf(struct eb_job *job, bool must);
EB_NODISCARD bool eb_job_plan(struct eb_job *job);
/* How long the plan takes, in microseconds, by the rules by which it is carried out; 0: not known.  Fills in
 * the devices' estimates: by what their products took before, as far as that is remembered, else by their
 * profiles.  Sets estimate_most_us as well. */
uint64_t eb_job_estimate(struct eb_job *job);
/* Takes the locks of all chosen devices' addresses; of the devices themselves once they are identified. */
EB_NODISCARD bool eb_job_lock_addresses(struct eb_job *job);
EB_NODISCARD bool eb_job_lock_devices(struct eb_job *job);
/* Begins in the record, where one is kept. */
EB_NODISCARD bool eb_job_begin(struct eb_job *job);
/* Writes a plan into the record that is not carried out, as devices of it are refused. */
EB_NODISCARD bool eb_job_refuse(struct eb_job *job);
void eb_job_end(struct eb_job *job, const char *outcome);
/* Carries the plan out: each device begins when all that it depends on is confirmed.  One that is refused
 * does not begin, nor do those that depend on it. */
EB_NODISCARD bool eb_job_carry_out(struct eb_job *job);
/* Only undoes what earlier jobs left, of those that `recovers` says; and saves documents, or puts them back,
 * of those that `puts_back` says. */
EB_NODISCARD bool eb_job_recover(struct eb_job *job);
/* In place of a plan: eb_job_recover then puts back what earlier jobs have saved and not put back, on the
 * chosen devices that were looked at.  eb_job_plan does this, too. */
void eb_job_plan_due(struct eb_job *job);
/* In place of a plan: eb_job_recover then saves all documents of the chosen devices that were looked at, each
 * into a file of its own (kept->file), named by serial number and time; `to`, if not NULL, is the file for
 * the one device. */
void eb_job_plan_backup(struct eb_job *job, const char *to);
/* Whether documents of the device can only be read in its loader, so that its program stops meanwhile. */
bool eb_job_stops_to_save(const struct eb_job_device *target);
/* The same for one device: eb_job_recover then saves what it holds and puts documents of this backup back.
 * `only`: one document, or NULL.  False with job->problem: the backup cannot be read, or does not suit the
 * device. */
EB_NODISCARD bool eb_job_plan_restore(struct eb_job *job, struct eb_job_device *target, const char *path,
                                      const char *only);
/* In place of a plan: eb_job_recover then reads all settings of the chosen devices that were looked at
 * (target->settings), and writes nothing. */
void eb_job_plan_settings(struct eb_job *job);
/* After that: one of them by its name, or NULL. */
struct eb_job_setting *eb_job_setting(const struct eb_job_device *target, const char *name);
/* What it shall be, as a person typed it.  False with `problem`: there is none of that name, it can only be
 * read, or this value is none for it. */
EB_NODISCARD bool eb_job_want_setting(struct eb_job_device *target, const char *name, const char *typed,
                                      struct eb_problem *problem);
/* In place of a plan: eb_job_recover then changes what was wanted and differs, and reads it back.  Gives the
 * number of devices of which something is changed. */
size_t eb_job_plan_changes(struct eb_job *job);
/* Keeps the settings of a device, as they were read, as a backup (target->settings->kept): in the file `to`,
 * or, NULL, in the folder of backups.  False with job->problem. */
EB_NODISCARD bool eb_job_keep_settings(struct eb_job_device *target, const char *to);
/* The backup that this job has made of the device; NULL: none. */
const struct eb_backup_file *eb_job_saved(const struct eb_job_device *target);
/* Whether its run did all that was planned for its settings or its state. */
bool eb_job_settings_good(const struct eb_job_device *target);
/* What an earlier job was to change on the device before it was cut off, by name, as JSON freed by the
 * caller; NULL: nothing.  `backup`: the file with what it held before.  The other one forgets that. */
char *eb_job_cut_off(const struct eb_job_device *target, char backup[EB_PATH_BYTES]);
void eb_job_forget_cut_off(const struct eb_job_device *target);
/* The newest backup of this device on this laptop that has settings; eb_backup_free frees it.  False: there
 * is none. */
EB_NODISCARD bool eb_job_newest_settings(const struct eb_job_device *target, struct eb_backup_file *file);
/* The settings in a backup, by name, as JSON freed by the caller; NULL: it has none. */
char *eb_job_backup_settings(struct eb_backup_file *file);
/* All settings of a device as they were read, JSON (docs/json.md), freed by the caller. */
char *eb_job_describe_settings(const struct eb_job_device *target);
/* Whether this can be done with the device: its profile says how, and the manager of its network, if any,
 * does not undo it. */
bool eb_job_can(const struct eb_job_device *target, enum eb_action_kind action);
/* In place of a plan: eb_job_recover then does this with all chosen devices that were looked at, with which
 * it can be done, and that are not so already.  Gives their number. */
size_t eb_job_plan_action(struct eb_job *job, enum eb_action_kind action);
/* What the list of a manager says of the nodes `first` to `last`, and what each of them answers itself:
 * `count` members, into `list`, which has room for all of these nodes.  False: `error` says why it cannot be
 * read.  The second one for a device of the site. */
EB_NODISCARD bool eb_read_network(const struct eb_port *port, const struct eb_can_options *bus,
                                  uint8_t manager, uint8_t first, uint8_t last, struct eb_member *list,
                                  size_t *count, struct eb_error *error);
EB_NODISCARD bool eb_job_read_network(struct eb_job *job, struct eb_job_device *manager, uint8_t first,
                                      uint8_t last, struct eb_member *list, size_t *count,
                                      struct eb_error *error);
/* Whether its manager was not asked, or did not come, to take it back: by this job, or by an earlier one. */
bool eb_job_is_out(const struct eb_job_device *target);
/* Sets and stores it by LSS (CiA 305), for this one node that was looked at, and for a node id reads it back
 * under the new one.  A bit rate counts from its next start on.  False with job->problem. */
EB_NODISCARD bool eb_job_set_node(struct eb_job *job, struct eb_job_device *target,
                                  const struct eb_job_node *wish);
/* In place of a plan: eb_job_recover then changes the password of this device as its profile says; the second
 * one tells whether the new one may have been sent, and wipes it.  False: the profile does not say how. */
EB_NODISCARD bool eb_job_plan_password(struct eb_job_device *target, const char *user, const char *old,
                                       const char *fresh);
bool eb_job_password_written(struct eb_job_device *target);
/* In place of a plan: eb_job_recover then logs in with this, and fetches something from behind the login; the
 * second one tells whether that was given, and wipes the login.  False: the profile names nothing there. */
EB_NODISCARD bool eb_job_plan_trial(struct eb_job_device *target, const char *user, const char *password);
bool eb_job_trial_good(struct eb_job_device *target);
/* What came of the change, for the record: it was tried, or it was not taken. */
void eb_job_end_password(struct eb_job_device *target, bool good);
/* The folder of backups; false: there is none. */
bool eb_job_backups(const struct eb_job *job, char folder[EB_PATH_BYTES]);
enum eb_outcome eb_job_outcome(const struct eb_job_device *target);
/* A device of a plan as the record describes it, JSON (docs/record.md), freed by the caller. */
char *eb_job_describe(const struct eb_job *job, const struct eb_job_device *target);
/* What was noted of a device, and what differs since the job, JSON (docs/record.md), freed by the caller;
 * NULL: nothing.  Takes what an earlier job noted before it began from what the record says of the device. */
char *eb_job_describe_noted(const struct eb_job_device *target);
void eb_job_recall_noted(struct eb_job_device *target, const char *body);
/* The documents that are saved and put back, or lost: what is planned, and what became of it; JSON
 * (docs/record.md), freed by the caller; NULL: none.  Whether all that a run was to save or to put back was.
 */
char *eb_job_describe_documents(const struct eb_job_device *target);
bool eb_job_documents_good(const struct eb_job_device *target);
/* The devices of the plan that this one waits for: the one with this index, or NULL. */
const struct eb_job_device *eb_job_waits_for(const struct eb_job *job, const struct eb_job_device *target,
                                             size_t index);

/* --- smaller things that the steps are made of --- */

/* A run for this device that only looks; its memory, eb_run_memory_bytes, is still to be given. */
struct eb_run_config eb_job_run_config(struct eb_job *job, struct eb_job_device *target,
                                       enum eb_job_run which);
/* The run that was with it last. */
const struct eb_run *eb_job_last(const struct eb_job_device *target);
const char *eb_job_adapter(const struct eb_job *job, const struct eb_site_link *wire);

/* The version that is wanted of component `index`, or ""; whether the component is worth a word; how what
 * runs compares with it, and by what that is known (EB_BY_VERSION, EB_BY_CHECKSUM). */
const char *eb_job_wanted(const struct eb_job_device *target, size_t index);
bool eb_job_has(const struct eb_job_device *target, size_t index);
enum eb_mark eb_job_mark(const struct eb_job_device *target, size_t index);
unsigned eb_job_known_by(const struct eb_job_device *target, size_t index);
/* Whether anything is wanted of it, or is to be written; whether all of that runs; whether its program is
 * stopped, which a site never wants. */
bool eb_job_wants(const struct eb_job_device *target);
bool eb_job_as_wanted(const struct eb_job_device *target);
bool eb_job_stopped(const struct eb_job_device *target);

/* Whether a person has to do something at the device for it: such devices are written to one after the other.
 */
bool eb_job_rests_on_statement(const struct eb_job_device *target);
bool eb_job_by_hand(const struct eb_job_device *target);
/* Whether its profile has a login; whether a user and a password are known for it. */
bool eb_job_logs_in(const struct eb_job_device *target);
bool eb_job_has_secret(const struct eb_job *job, const struct eb_job_device *target);

/* Reads an image once, however often it is asked for: a file, or one of the shelf.  NULL with job->problem.
 */
EB_NODISCARD const struct eb_image *eb_job_image(struct eb_job *job, const char *path);
EB_NODISCARD const struct eb_image *eb_job_shelf_image(struct eb_job *job,
                                                       const struct eb_shelf_candidate *candidate);

/* The images of the shelf that may be for a component of a device; see eb_shelf_candidates.  Judges one of
 * them as the next item of the device's plan. */
EB_NODISCARD bool eb_job_candidates(struct eb_job *job, struct eb_job_device *target, size_t component,
                                    bool others, struct eb_shelf_candidate **candidates, size_t *count);
void eb_job_judge(struct eb_job *job, struct eb_job_device *target, size_t component,
                  struct eb_shelf_candidate *candidate, struct eb_verdict *verdict);

/* What all rules say of an item of the device's plan; valid until the next call, of whatever device. */
const struct eb_verdict *eb_job_verdict(const struct eb_job_device *target, size_t item);

/* The best image of the wanted version among candidates, with those that lead to it: the last of `way` is the
 * one. */
struct eb_job_choice {
    size_t way[EB_WAY_STEPS_MAX];
    size_t steps;              /* 0: no candidate has that version */
    bool gap;                  /* it needs others first, and they are not there */
    struct eb_verdict verdict; /* of that one against what runs now */
};
/* Fills in the choice of an image for component `index`. */
void eb_job_choice(struct eb_job *job, struct eb_job_device *target, size_t index,
                   struct eb_shelf_candidate *candidates, size_t count, struct eb_job_choice *choice);

/* Fills in what is known of the versions below which its components must not go; what is around a device now,
 * as far as it was read (`planned`: as it will be once the plan is carried out); to what a job with the
 * devices that were only asked would bring them; what is known of a device without looking (`seen` empty:
 * nothing). */
void eb_job_floors(struct eb_job *job, struct eb_job_device *target);
void eb_job_surround(struct eb_job *job, struct eb_job_device *target, bool planned);
void eb_job_foresee(struct eb_job *job);
void eb_job_recall(struct eb_job *job, struct eb_job_device *target, char seen[EB_SEEN_BYTES]);

/* The keys of locks: of an address, of a hardware address, of where a device is, of the device itself (where
 * it told no serial number: of where it is). */
void eb_job_ip_key(const struct eb_endpoint *modbus, char key[EB_LOCK_KEY_BYTES]);
void eb_job_mac_key(const uint8_t mac[EB_MAC_BYTES], char key[EB_LOCK_KEY_BYTES]);
void eb_job_address_key(const struct eb_job *job, const struct eb_job_device *target,
                        char key[EB_LOCK_KEY_BYTES]);
void eb_job_unit_key(const struct eb_job *job, const struct eb_job_device *target,
                     char key[EB_LOCK_KEY_BYTES]);
/* That of a CANopen node, whatever site it is of. */
void eb_job_node_key(const struct eb_job *job, const struct eb_site_link *wire, unsigned node,
                     char key[EB_LOCK_KEY_BYTES]);
/* One lock; `name` is what the user calls the device. */
EB_NODISCARD bool eb_job_lock(struct eb_job *job, const char *name, const char *key);
/* A row on an address of the laptop, "address-add" or "address-remove". */
EB_NODISCARD bool eb_job_note_address(struct eb_job *job, const char *kind, const char *link,
                                      const char *address);
/* Reads what jobs that did not end left behind, and finds out who works on the devices now. */
void eb_job_find_left(struct eb_job *job);
/* Where a device on a CAN bus was not looked at, because another process works on it: eb_error.where. */
#define EB_BESIDE_ANOTHER_JOB "beside another job"
/* That somebody works on it, as part of a sentence: "einbau fit (process 12, since ...)"; a time of the
 * record (ISO 8601, UTC) as the user reads it. */
void eb_job_holder_text(const struct eb_lock_holder *holder, char *text, size_t cap);
void eb_job_local_time(const char *iso, char *text, size_t cap);
/* A name as a word of a command line that a user may paste: quoted where the shell would do something with it
 * (POSIX, Shell Command Language, section 2.2.2).  Valid until the fourth call from now. */
const char *eb_job_word(const char *name);

#ifdef __cplusplus
}
#endif

#endif
