/* A job rehearsed before the drive: the very plan, carried out by the very ladder and in the very order, in
 * virtual time, on devices that do what their profiles say and take as long as such devices took before.
 * Nothing is opened: neither a socket nor an adapter, and nothing is remembered. */
#ifndef EINBAU_REHEARSE_H
#define EINBAU_REHEARSE_H

#include "einbau/job.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What may happen while a job goes on. */
enum eb_mishap {
    EB_MISHAP_NONE,
    EB_MISHAP_POWER,  /* the site's power fails for a minute; the laptop has its battery */
    EB_MISHAP_LINK,   /* a cable, or an adapter, is out for a minute: `link` */
    EB_MISHAP_LAPTOP, /* the laptop is gone; the job is taken up by another call */
    EB_MISHAP_DEVICE, /* one device does not come back from its restart: `device` */
    EB_MISHAPS
};
/* "power"; static. */
const char *eb_mishap_word(enum eb_mishap mishap);

/* One mishap at one moment. */
struct eb_strike {
    enum eb_mishap mishap;
    uint64_t at_us; /* since the job began */
    const struct eb_site_link *link;
    const struct eb_job_device *device;
};

/* What came of a job. */
struct eb_rehearsed {
    uint64_t took_us;
    size_t devices, confirmed, in_loader, failed, not_started;
    /* Just after the strike: devices in which no program runs, or may not. */
    size_t without_program;
    /* Where not all were confirmed: the next call, on what was left; 0: it would change nothing. */
    uint64_t again_us;
    size_t again_devices, again_confirmed;
};

/* What is assumed of a device, as nothing is known; bits. */
enum { EB_ASSUMED_IDENTITY = 1, EB_ASSUMED_VERSION = 2, EB_ASSUMED_PACE = 4 };

struct eb_rehearsal;

/* Makes a job, opened with a site and a shelf and without a port, a rehearsal: its port becomes one of its
 * own, and what was seen of its devices becomes what they are.  `seed`: of what is random.  The job is closed
 * after the rehearsal. */
EB_NODISCARD struct eb_rehearsal *eb_rehearsal_open(struct eb_job *job, uint64_t seed);
void eb_rehearsal_close(struct eb_rehearsal *rehearsal); /* NULL: nothing */

/* Looks, plans and estimates; devices that are refused are left out of it.  False with job->problem. */
EB_NODISCARD bool eb_rehearsal_plan(struct eb_rehearsal *rehearsal);

/* Carries the plan out from its beginning, with this strike or, NULL, without any; the job's devices then
 * have their runs and spans (eb_job_device.spans) as after a job.  False with job->problem: the caller has
 * asked for the end. */
EB_NODISCARD bool eb_rehearsal_run(struct eb_rehearsal *rehearsal, const struct eb_strike *strike,
                                   struct eb_rehearsed *rehearsed);

/* What was assumed of the device. */
unsigned eb_rehearsal_assumed(const struct eb_rehearsal *rehearsal, const struct eb_job_device *target);
/* How long a person is assumed to take for one manual step. */
enum { EB_REHEARSAL_HAND_US = 60000000 };

#ifdef __cplusplus
}
#endif

#endif
