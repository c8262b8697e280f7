/* A device as a rehearsal has it: what it runs, and what becomes of it. */
#ifndef EBI_REHEARSE_DEVICE_H
#define EBI_REHEARSE_DEVICE_H

#include "einbau/rehearse.h"

enum { EBI_CLASSES_MAX = 24 };

/* What a device is doing. */
enum ebi_played_mode { EBI_PLAYED_RUNS, EBI_PLAYED_LOADER, EBI_PLAYED_STARTS };

struct ebi_played {
    struct eb_job_device *target;
    struct eb_identity identity;
    unsigned assumed;
    /* of each of the profile's components, at first and now; `sent`: what waits for the restart */
    struct ebi_played_component {
        char first[EB_VERSION_TEXT_BYTES], runs[EB_VERSION_TEXT_BYTES], sent[EB_VERSION_TEXT_BYTES];
        uint32_t checksum, sent_checksum;
        bool is_sent;
    } components[EB_COMPONENTS_MAX];
    enum ebi_played_mode mode;
    bool written;    /* its program was erased, and is not whole again */
    bool never_back; /* once it restarts */
    unsigned starts;
    uint64_t back_us; /* EBI_PLAYED_STARTS: when its start has ended; EB_NEVER */
    uint64_t off_until_us;
    unsigned cuts; /* how often its power went */
    /* sending: it takes until `done_us` by itself, and a shared bus has still to carry that much */
    double left_us;
    uint64_t seen_us, begun_us, done_us;
    bool sends, on_bus;
    struct eb_waiter *waiter;
    uint64_t hand_us; /* since when a manual step waits to be reported; EB_NEVER: none does */
};

struct eb_rehearsal {
    struct eb_job *job;
    struct eb_port port;
    struct eb_port_time time;
    uint64_t now_us, random;
    struct ebi_played *played; /* as the job's devices */
    struct eb_strike strike;
    uint64_t strike_us; /* by the port's clock; EB_NEVER: none is to come */
    bool struck, laptop_gone, struck_before;
    const struct eb_site_link *cut; /* nothing passes there until `cut_until_us` */
    uint64_t cut_until_us;
    /* the accesses, each played by one of these */
    struct eb_access classes[EBI_CLASSES_MAX];
    const struct eb_access *of[EBI_CLASSES_MAX];
    size_t class_count;
    size_t without_program; /* behind the strike */
};

/* access.c: plays an access of the profiles, from now on; and what passes on a link until now. */
const struct eb_access *ebi_played_access(struct eb_rehearsal *rehearsal, const struct eb_access *access);
/* The device of a job's device. */
struct ebi_played *ebi_played_of(const struct eb_job_device *target);
/* Time passes for a device: its start ends. */
void ebi_played_pass(struct eb_rehearsal *rehearsal, struct ebi_played *device);
/* Its power goes for a while. */
void ebi_played_cut(struct eb_rehearsal *rehearsal, struct ebi_played *device, uint64_t for_us);
/* Sending on its link has begun or ended somewhere: all others take longer, or less long. */
void ebi_played_share(struct eb_rehearsal *rehearsal, const struct eb_site_link *link);

#endif
