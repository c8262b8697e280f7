/* One device on the ladder: looked at, or fitted with images.  A run is a state machine that never waits; a
 * crew (crew.h) polls many of them in one thread. */
#ifndef EINBAU_RUN_H
#define EINBAU_RUN_H

#include "einbau/access.h"
#include "einbau/access/can.h"
#include "einbau/network.h"
#include "einbau/tftp.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The rungs of the ladder, in their order. */
enum eb_rung {
    EB_RUNG_REACH,
    EB_RUNG_IDENTIFY,
    EB_RUNG_JUDGE,
    EB_RUNG_SAVE,
    EB_RUNG_PREPARE,
    EB_RUNG_SEND,
    EB_RUNG_ACTIVATE,
    EB_RUNG_RETURN,
    EB_RUNG_CONFIRM,
    EB_RUNG_RESTORE,
    EB_RUNG_END
};
/* The word for it, "identify"; static. */
const char *eb_rung_word(enum eb_rung rung);

enum eb_outcome {
    EB_OUTCOME_NONE,       /* still under way, or only looked at */
    EB_OUTCOME_CONFIRMED,  /* it restarted where its profile says that it must, answered under the same serial
                            * number, and what was read back is what was intended: see `confirmed_by` */
    EB_OUTCOME_UP_TO_DATE, /* it ran already, by version and checksum; nothing was written */
    EB_OUTCOME_REFUSED,    /* does not fit; nothing was written */
    EB_OUTCOME_FAILED,     /* `error` says at which rung and why; `identity` and `running` what was read
                            * last, if `identified` */
    EB_OUTCOME_IN_LOADER,  /* no program runs; it answers from its loader and can be fitted from there */
    EB_OUTCOME_MANUAL_STEP,
    EB_OUTCOME_INTERRUPTED, /* stopped by the caller */
    EB_OUTCOME_NOT_STARTED, /* something that it depends on was not confirmed; nothing was written */
    EB_OUTCOME_RECOVERED,   /* of a run that only undoes: the program runs again */
    EB_OUTCOME_PUT_BACK,    /* of a device whose documents only were put back: it holds them */
    EB_OUTCOME_DONE,        /* of one whose settings or state only were changed: that was read back; or whose
                             * documents only were saved */
    EB_OUTCOMES
};
/* The word for it, "confirmed"; static. */
const char *eb_outcome_word(enum eb_outcome outcome);

/* By what an image was confirmed; bits. */
enum { EB_BY_VERSION = 1, EB_BY_CHECKSUM = 2, EB_BY_READ_BACK = 4, EB_BY_STATEMENT = 8 };

/* What a run is about to do to a device, or has ended with. */
enum eb_effect {
    EB_EFFECT_PREPARE,  /* the profile's steps before sending */
    EB_EFFECT_SEND,     /* the first byte of the current item */
    EB_EFFECT_ACTIVATE, /* the device is made to take up what was sent */
    EB_EFFECT_UNDO,     /* the preparation is undone */
    EB_EFFECT_PUT_BACK, /* documents that were saved are written again */
    EB_EFFECT_CHANGE,   /* settings are written, or the device's state is changed: enum eb_change */
    EB_EFFECT_JOIN,     /* its manager is asked to let go of it: struct eb_run_member */
    EB_EFFECT_LEAVE,    /* ... and to take it back */
    EB_EFFECT_END       /* the run has ended: `outcome`, `left` */
};

/* What a run has done to its device, and is about to do: told before each effect, so that it can be written
 * down first, and enough to know afterwards what may have been left. */
struct eb_run_record {
    enum eb_effect effect; /* that is about to happen, or has ended the run */
    size_t item;           /* which it is about */
    unsigned attempt;
    bool prepared; /* an effect was begun that EB_EFFECT_UNDO takes back, and it is not known to be undone */
    bool acted;    /* anything was done at all */
    bool sent;     /* in this try bytes were acknowledged */
    bool
        was_stopped; /* its program, before the run began and not by an earlier job: it is not started then */
    uint16_t touched; /* bit per item: bytes of it may have been sent */
    uint16_t right;   /* bit per item: it ran already when it was judged, by version and checksum */
    char serial[EB_NAME_BYTES], order_code[EB_NAME_BYTES]; /* of the device, as first told */
};

enum { EB_RUN_TRIES = 3, EB_RUN_BUFFER_MIN_BYTES = EB_TFTP_BUFFER_MIN_BYTES };
enum {
    EB_RUN_ITEMS_MAX = 16
}; /* one for each component; where there are fewer, the way to a version may lead
      through others */

/* One image for one component; one behind another for the same component follows it.  The caller fills the
 * upper part; it is borrowed while the run lasts. */
struct eb_run_item {
    const struct eb_component_profile *component;
    const struct eb_image_facts *image;
    const struct eb_image_found *file;
    struct eb_source source;
    const struct eb_part *parts; /* of an image of several files: in their order; their bytes are `source` */
    size_t part_count;           /* 0: it is one */
    uint32_t checksum;           /* CRC-32 of the whole image, compared where the device tells its own */
    const char *delivered;       /* the delivered version of this device's component, or NULL */
    const char *known_floor;     /* the floor of an image that it got before, or NULL */
    bool no_way;                 /* no image leads from what runs to what this one needs */

    struct eb_verdict *verdict;       /* the caller's room; result: of the first judging */
    char from[EB_VERSION_TEXT_BYTES]; /* result: what ran before, empty where not readable */
    enum eb_outcome outcome;          /* result: NONE, ALREADY_RIGHT or CONFIRMED */
    bool read_back;                   /* result: what was sent was read back, and is the same */
    unsigned confirmed_by;            /* result: bits of EB_BY_VERSION and so on */
};

struct eb_run;

/* What became of a document. */
enum eb_document_state {
    EB_DOCUMENT_NONE,     /* nothing was done with it */
    EB_DOCUMENT_SAVED,    /* all of it was taken by its sink */
    EB_DOCUMENT_THERE,    /* the device holds what was to be put back: nothing was written */
    EB_DOCUMENT_PUT_BACK, /* it was written, and read back as what was written */
    EB_DOCUMENT_DIFFERS,  /* it was written, and something else was read back */
    EB_DOCUMENT_FAILED    /* `error` says why */
};
/* The word for it, "put-back"; static. */
const char *eb_document_word(enum eb_document_state state);

/* One document of the profile's in a run: saved before the run's first effect, put back after its last one.
 * The caller fills in the upper part. */
struct eb_run_document {
    const struct eb_backup *backup;
    struct eb_sink sink;     /* where it is saved; `take` NULL: it is not */
    struct eb_source source; /* what is put back; `read` NULL: nothing.  That of one that is saved is looked
                                at when it is needed, so that `saved` may fill it in */
    bool due;                /* it is put back also where this run has written nothing */
    bool may_lack;           /* where the device refuses to give it, the others are saved all the same */
    /* Where what is read back need not be the same bytes: these are given to `check`, and then `same` says
     * whether they mean what was to be written.  NULL: the bytes are compared. */
    const struct eb_sink *check;
    bool (*same)(void *self);

    bool written;                 /* result: its bytes may have been sent */
    bool known;                   /* result: what the device holds was read since then */
    enum eb_document_state state; /* result */
    struct eb_error error;        /* result: of the last failure */
};

/* What not every application needs, and one that does not name it does not link: other ways to write and to
 * restart a device (struct eb_other_way, eb_step.choice), images of several files (struct eb_part), and what
 * a person states (access/stated.h); closing what was opened (eb_profile.closes).  The functions are the
 * run's own. */
struct eb_run_extras {
    bool (*has_way)(const struct eb_run *run, const struct eb_error *error);
    void (*take_next_way)(struct eb_run *run);
    bool (*choose_next)(struct eb_run *run, const struct eb_error *error);
    void (*take_part)(struct eb_run *run, struct eb_operation *send);
    bool (*next_part)(struct eb_run *run);
    void (*note_statements)(struct eb_run *run);
    void (*ask_person)(const struct eb_run *run, const struct eb_run_item *item, struct eb_error *error);
    bool (*close)(struct eb_run *run);
};
extern const struct eb_run_extras eb_run_extras;

/* What a run changes of a device by its user's wish; EB_CHANGE_RESTART and those behind it take the steps of
 * eb_profile.restart, and are through once the device shows it. */
enum eb_change {
    EB_CHANGE_NOTHING,
    EB_CHANGE_SETTINGS, /* what its documents are written with */
    EB_CHANGE_RESTART,  /* it was seen to restart */
    EB_CHANGE_STOP,     /* its program is read as stopped: eb_profile.from_program */
    EB_CHANGE_START     /* ... and as running */
};

/* The same for documents of the device: whether saving begins, whether putting back does before the run ends.
 */
struct eb_run_documents {
    bool (*save)(struct eb_run *run);
    bool (*put_back)(struct eb_run *run, enum eb_outcome outcome);
    void (*poll)(struct eb_run *run);
};
extern const struct eb_run_documents eb_run_documents;

/* A member of a network that a manager keeps (CiA 302-2), in a run: before the first effect it is taken out
 * of supervision, and made pre-operational, by its manager; whatever happens, both are put back before the
 * run ends, unless it is in its loader then, where its manager would reset it.  Where that was not done,
 * eb_run.left says so. */
struct eb_run_member {
    uint8_t manager; /* its node id */
    /* `found` is what was found before anything was changed.  The caller sets both where an earlier job has
     * left it so. */
    bool joined;
    struct eb_member found;
    struct eb_error error; /* result: why it was not given back; EB_OK: it was, or never taken out */

    /* the run's own */
    uint8_t doing, then, looks;
    bool through, left;
    uint8_t ending;
    uint64_t until_us;
    struct eb_can_link link;
    struct eb_network network;
    struct eb_member entry, before;
};
/* For eb_run_config.keeps of such a device, in place of eb_run_documents. */
extern const struct eb_run_documents eb_run_network;

/* What a run is to do; borrowed until it has ended. */
struct eb_run_config {
    const struct eb_port *port;
    const struct eb_profile *profile;
    struct eb_target target;
    uint64_t *memory; /* for what is read, and for the contexts of its accesses: eb_run_memory_bytes */
    size_t memory_bytes;
    struct eb_running *running; /* NULL: what is read of components is in `memory`; else here, one for each of
                                   the profile's, for a caller who needs it longer */
    uint64_t reach_patience_us; /* how long it may take until it first answers */

    const struct eb_run_extras *extras; /* eb_run_extras, or NULL: only the profile's first ways, and one file
                                           for each image */
    struct eb_run_item *items;          /* none: only looks */
    size_t count;
    const struct eb_surroundings *around; /* may be NULL; read when it is judged */
    uint32_t accepted;                    /* see struct eb_judge_facts */
    bool again;                           /* write also what runs already */
    bool interrupted; /* an earlier job left the device in the middle of a transfer: that is aborted first */
    bool recover;     /* only undoes what an earlier run has prepared; no items */

    /* Documents of the device.  Without items they are saved, those that are due are put back, and the run
     * ends as EB_OUTCOME_NONE. */
    const struct eb_run_documents *keeps; /* eb_run_documents, or NULL: there are none */
    struct eb_run_document *documents;
    size_t document_count;
    /* Told when all documents were saved, before the first effect; they may have become sources by then.  May
     * be NULL.  False: they cannot be kept, and the run ends with EB_IO. */
    bool (*saved)(void *context, const struct eb_run *run);
    void *saved_context;
    enum eb_change change;        /* needs `keeps`; after the documents */
    struct eb_run_member *member; /* needs eb_run_network; NULL: no manager keeps its network */

    uint8_t *buffer; /* for sending: at least EB_RUN_BUFFER_MIN_BYTES, better one burst of blocks */
    size_t buffer_bytes;

    /* Told at each rung, each new try, at the end, and while sending every EB_RUN_EVENT_US; may be NULL.
     * Must not call back into the run. */
    void (*event)(void *context, const struct eb_run *run);
    void *event_context;
    /* Told before each effect, so that a record can be written first; may be NULL.  False: it must not be,
     * and the run ends with EB_IO.  Of EB_EFFECT_UNDO and EB_EFFECT_END the answer is not looked at.  Must
     * not call back into the run. */
    bool (*effect)(void *context, const struct eb_run *run, const struct eb_run_record *record);
    void *effect_context;
};

enum { EB_RUN_EVENT_US = 200000, EB_HANDS_MAX = 4 };

/* What is going on, for a display. */
struct eb_progress {
    enum eb_rung rung;
    size_t item;      /* index into the items */
    unsigned attempt; /* 1, 2, ... */
    uint64_t done_bytes, total_bytes;
    uint64_t bytes_per_s; /* of the current transfer so far */
    uint64_t left_us;     /* estimated until the current item is confirmed, 0: not known */
};

enum { EB_DISAGREEMENTS_MAX = 4 };

/* Two sources of one item that contradict each other. */
struct eb_disagreement {
    size_t item; /* of the profile: eb_profile_item_word */
    const struct eb_access *by, *other_by;
    char text[EB_NAME_BYTES], other_text[EB_NAME_BYTES]; /* the first one counts */
};

/* One device on its ladder; its members may be read. */
struct eb_run {
    struct eb_run_config config;
    struct eb_progress progress;
    enum eb_outcome outcome;
    struct eb_error error;   /* why it failed, or could not be looked at; status EB_OK where nothing did */
    enum eb_rung error_rung; /* where */
    struct eb_error first_error; /* why the first try failed, where several did */
    enum eb_rung first_rung;
    unsigned failures; /* tries that failed */
    bool all_equal;    /* ... all of them in the same way */
    uint8_t way;       /* by which images are sent: 0, or 1 + index into the profile's other ways */
    uint8_t choice;    /* of the profile's ways to restart the device: see struct eb_step */
    struct eb_error way_error,
        choice_error;        /* why the one before failed; EB_OK: it did not, or was the last */
    bool left;               /* at the end: the preparation is not known to be undone */
    enum eb_restart restart; /* what showed the last restart */

    bool answered;   /* at the last look something came, even if it could not be used */
    bool identified; /* the next ones are as read last, and nothing was done to the device since */
    bool in_loader;
    bool program_known, program_stopped;
    struct eb_identity identity;
    struct eb_usb_ids usb;      /* of a device on USB */
    struct eb_running *running; /* once it was identified: one for each of the profile's components; in
                                   config.memory, or config.running */
    struct eb_disagreement disagreement[EB_DISAGREEMENTS_MAX];
    size_t disagreements;
    uint64_t stated; /* bit per item of the profile: what counts was said by a person */

    struct eb_run_record record;

    /* the run's own */
    struct eb_waiter waiter; /* until a crew gives its own */
    struct eb_contact contact;
    eb_texts *texts; /* in config.memory */
    /* The run's own: an access and its context. */
    struct ebi_run_access {
        const struct eb_access *access;
        void *context;
    } accesses[EB_ACCESSES_MAX];
    size_t access_count;
    size_t active;        /* the one that is at work; EB_ACCESSES_MAX: none, it waits until step_end_us */
    uint64_t step_end_us; /* of a step that only waits */
    uint8_t state;
    const char *hands[EB_HANDS_MAX]; /* what a person has to do, until it is seen to be done */
    uint8_t hand_count;
    bool hand_waits, hand_done; /* nothing sees that it was done: a person says so */
    bool stopping, judged, by_hand, undo_due, undo_failed, activate_unanswered, way_due;
    uint8_t others; /* looks in a row that were answered by another device */
    bool has_counter, counter_read, counter_restarted;
    uint64_t counter, counter_us;
    uint64_t later_us, pause_us, peek_us; /* asked again later since then; with this pause */
    size_t part; /* which file of the item is sent, of several; where it begins; its bytes */
    uint64_t part_at;
    struct eb_source part_source;
    size_t step;
    /* Of documents: what is done with them, which, how often it failed; how far the comparison is. */
    uint8_t keeping, failed_keeping;
    bool closing;    /* behind what was confirmed: what was opened for it is closed */
    uint8_t leaving; /* the loader, to which documents were brought: what comes behind it */
    bool documents_differ, documents_written, restarts_again;
    size_t document;
    struct eb_sink comparison;
    uint64_t compared, settle_end_us;
    enum eb_outcome ending; /* of the run, once they are put back */
    size_t group;           /* first of the items that the same restart takes up */
    uint64_t now_us, wake_us, patience_end_us, answered_us, began_us, event_us;
};

/* The memory for the contexts of all accesses that the profile names, bytes. */
size_t eb_run_memory_bytes(const struct eb_profile *profile);

/* The context of an access of the run, as its header describes it; NULL: the profile does not name it. */
const void *eb_run_context(const struct eb_run *run, const struct eb_access *access);

/* Begins at the bottom of the ladder.  EB_BAD_CALL: more items than EB_RUN_ITEMS_MAX, a buffer or memory too
 * small, an item without room for its verdict, images for a profile that sends none; the run has then ended
 * as EB_OUTCOME_FAILED. */
EB_NODISCARD enum eb_status eb_run_init(struct eb_run *run, const struct eb_run_config *config);

/* Does what can be done now.  Afterwards eb_run_deadline_us says when it wants to be called at the latest. */
void eb_run_poll(struct eb_run *run);
uint64_t
eb_run_deadline_us(const struct eb_run *run); /* EB_NEVER where it only waits for an arrival, or has ended */
bool eb_run_ended(const struct eb_run *run);

/* By what images are sent now. */
const struct eb_access *eb_run_sends_by(const struct eb_run *run);

/* What a person has to do now for it to go on, in the profile's words, the last one first asked for; NULL:
 * nothing.  There may be several, one after the other: run->hands. */
const char *eb_run_hand(const struct eb_run *run);
/* Whether nothing but a person can tell that it was done; and that a person does. */
bool eb_run_hand_waits(const struct eb_run *run);
void eb_run_hand_done(struct eb_run *run);

/* Asks for a clean end: what is being sent is aborted by the protocol's own means and the preparation is
 * undone; what was activated already is followed to its end. */
void eb_run_stop(struct eb_run *run);

/* Ends at once, leaving the device as it is; closes what is open. */
void eb_run_abandon(struct eb_run *run);

/* Ends at once with EB_STALLED: for a caller who sees that the run asks to be polled over and over while the
 * clock stands still. */
void eb_run_stall(struct eb_run *run);

#ifdef __cplusplus
}
#endif

#endif
