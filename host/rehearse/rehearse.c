/* A job carried out in virtual time, from what is known of its devices; and the same job struck by something.
 */
#include "rehearse/device.h"

#include "job/inside.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    OUT_US = 60000000,      /* how long power, or a cable, is away */
    AGAIN_US = 30000000,    /* until the next call has begun */
    LONGEST_US = 2000000000 /* an end of everything: no job has more than half an hour of silence in it */
};

static const char *const words[EB_MISHAPS] = {"none", "power", "link", "laptop", "device"};

const char *eb_mishap_word(enum eb_mishap mishap)
{
    return (size_t)mishap < EB_MISHAPS ? words[mishap] : "unknown";
}

struct ebi_played *ebi_played_of(const struct eb_job_device *target)
{
    struct eb_rehearsal *r = target->job->port->self;
    return &r->played[target - target->job->devices];
}

/* --- the port: a clock ------------------------------------------------------------------------------- */

static uint64_t now_us(void *self)
{
    return ((struct eb_rehearsal *)self)->now_us;
}

static uint32_t random_32(void *self)
{
    struct eb_rehearsal *r = self;
    r->random = r->random * 6364136223846793005U + 1442695040888963407U;
    return (uint32_t)(r->random >> 32);
}

static void count_without(struct eb_rehearsal *r)
{
    r->without_program = 0;
    for (size_t i = 0; i < r->job->count; i++) {
        const struct ebi_played *d = &r->played[i];
        bool concerned = r->strike.mishap != EB_MISHAP_LINK || d->target->device->wire == r->strike.link;
        r->without_program += concerned && (d->written || d->mode == EBI_PLAYED_LOADER);
    }
}

static void strike(struct eb_rehearsal *r)
{
    const struct eb_strike *s = &r->strike;
    r->strike_us = EB_NEVER;
    r->struck = true;
    count_without(r);
    for (size_t i = 0; i < r->job->count && s->mishap == EB_MISHAP_POWER; i++)
        ebi_played_cut(r, &r->played[i], OUT_US);
    if (s->mishap == EB_MISHAP_LINK) {
        r->cut = s->link;
        r->cut_until_us = r->now_us + OUT_US;
    }
    r->laptop_gone = s->mishap == EB_MISHAP_LAPTOP;
    if (s->mishap == EB_MISHAP_DEVICE)
        r->played[s->device - r->job->devices].never_back = true;
    for (size_t i = 0; i < r->job->count; i++) {
        struct ebi_played *d = &r->played[i];
        if (d->sends && d->waiter != NULL && d->waiter->ready != NULL)
            d->waiter->ready(d->waiter);
    }
}

/* Manual steps that are reported: a person takes a minute for each. */
static uint64_t do_by_hand(struct eb_rehearsal *r)
{
    uint64_t next_us = EB_NEVER;
    for (size_t i = 0; i < r->job->count; i++) {
        struct ebi_played *d = &r->played[i];
        struct eb_run *run = &d->target->fit;
        bool waits = d->target->begun && !eb_run_ended(run) && eb_run_hand_waits(run);
        if (!waits) {
            d->hand_us = EB_NEVER;
            continue;
        }
        if (d->hand_us == EB_NEVER)
            d->hand_us = r->now_us + EB_REHEARSAL_HAND_US;
        if (r->now_us >= d->hand_us) {
            eb_run_hand_done(run);
            if (run->contact.waiter->ready != NULL)
                run->contact.waiter->ready(run->contact.waiter);
            d->hand_us = EB_NEVER;
            continue;
        }
        next_us = d->hand_us < next_us ? d->hand_us : next_us;
    }
    return next_us;
}

static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct eb_rehearsal *r = self;
    (void)ready;
    (void)cap;
    uint64_t hand_us = do_by_hand(r);
    uint64_t next_us = deadline_us < hand_us ? deadline_us : hand_us;
    next_us = r->strike_us < next_us ? r->strike_us : next_us;
    if (next_us == EB_NEVER)
        next_us = r->now_us + LONGEST_US;
    r->now_us = next_us > r->now_us ? next_us : r->now_us;
    if (r->now_us >= r->strike_us)
        strike(r);
    return 0;
}

/* --- devices ----------------------------------------------------------------------------------------- */

/* A version that any image is newer than. */
static const char *oldest(const struct eb_version_order *order)
{
    return order->scheme == EB_VERSION_SEMVER ? "0.0.0" : order->scheme == EB_VERSION_DATE ? "20000101" : "0";
}

static void meet(struct eb_rehearsal *r, size_t i)
{
    struct eb_job_device *target = &r->job->devices[i];
    struct ebi_played *d = &r->played[i];
    const struct eb_profile *p = target->device->profile;
    char seen[EB_SEEN_BYTES];
    d->target = target;
    eb_job_recall(r->job, target, seen);
    d->identity = target->look.identity;
    d->assumed = seen[0] == '\0' ? EB_ASSUMED_IDENTITY : 0;
    if (d->identity.order_code[0] == '\0')
        snprintf(d->identity.order_code, sizeof d->identity.order_code, "%s", p->order_codes[0]);
    if (target->device->serial[0] != '\0')
        snprintf(d->identity.serial, sizeof d->identity.serial, "%s", target->device->serial);
    for (size_t k = 0; k < p->count; k++) {
        const char *version = target->look.running[k].version;
        if (version[0] == '\0' && target->device->wants[k].delivered[0] != '\0')
            version = target->device->wants[k].delivered;
        if (version[0] == '\0' && target->device->wants[k].version[0] != '\0') {
            version = oldest(&p->components[k].order);
            d->assumed |= EB_ASSUMED_VERSION;
        }
        snprintf(d->components[k].first, sizeof d->components[k].first, "%s", version);
    }
}

/* As it is before the job. */
static void reset(struct eb_rehearsal *r)
{
    r->now_us += OUT_US;
    r->strike_us = EB_NEVER;
    r->struck = r->laptop_gone = false;
    r->cut = NULL;
    for (size_t i = 0; i < r->job->count; i++) {
        struct ebi_played *d = &r->played[i];
        d->mode = EBI_PLAYED_RUNS;
        d->written = d->never_back = d->sends = d->on_bus = false;
        d->back_us = d->hand_us = EB_NEVER;
        d->off_until_us = 0;
        for (size_t k = 0; k < EB_COMPONENTS_MAX; k++) {
            memcpy(d->components[k].runs, d->components[k].first, sizeof d->components[k].runs);
            d->components[k].is_sent = false;
            d->components[k].checksum = 0;
        }
    }
}

/* --- profiles ---------------------------------------------------------------------------------------- */

static void play_steps(struct eb_rehearsal *r, struct eb_steps *steps)
{
    for (size_t i = 0; i < steps->count; i++)
        steps->list[i].by = ebi_played_access(r, steps->list[i].by);
}

/* Its accesses become played ones; what a rehearsal has nothing to do with is left out. */
static void play(struct eb_rehearsal *r, struct eb_profile *p)
{
    for (size_t item = 0; item < eb_profile_items(p); item++) {
        struct eb_values *values = (struct eb_values *)eb_profile_values(p, item);
        for (size_t k = 0; values != NULL && k < values->count; k++)
            values->list[k].by = ebi_played_access(r, values->list[k].by);
    }
    play_steps(r, &p->prepare);
    play_steps(r, &p->activate);
    play_steps(r, &p->undo);
    play_steps(r, &p->restart);
    p->sends_by = ebi_played_access(r, p->sends_by);
    p->otherwise_count = 0;
    p->notes = NULL;
    p->backup_count = p->stored_count = 0;
}

/* --- the rehearsal ------------------------------------------------------------------------------------ */

static unsigned stops(void *context)
{
    const struct eb_rehearsal *r = context;
    return r->laptop_gone ? 2 : 0;
}

struct eb_rehearsal *eb_rehearsal_open(struct eb_job *job, uint64_t seed)
{
    struct eb_rehearsal *r = calloc(1, sizeof *r);
    if (r == NULL || (r->played = calloc(job->count + 1, sizeof *r->played)) == NULL)
        abort();
    r->job = job;
    r->random = seed;
    r->strike_us = EB_NEVER;
    r->time = (struct eb_port_time){sizeof r->time, now_us, wait_until, random_32};
    r->port = (struct eb_port){.bytes = sizeof r->port, .self = r, .time = &r->time};
    for (size_t i = 0; i < job->count; i++)
        meet(r, i);
    for (size_t i = 0; i < job->site->profile_count; i++)
        play(r, job->site->profiles[i]);
    job->port = &r->port;
    job->config.simulated = true;
    job->config.records = job->config.locks = false;
    job->config.state = NULL;
    job->config.statement = NULL;
    job->config.begins = NULL;
    job->config.stop = stops;
    job->config.show = NULL;
    job->config.says = NULL;
    job->config.context = r;
    job->no_backup = job->rehearses = true;
    reset(r);
    return r;
}

void eb_rehearsal_close(struct eb_rehearsal *r)
{
    if (r == NULL)
        return;
    eb_known_close(r->job->known); /* nothing of it is remembered */
    r->job->known = NULL;
    r->job->port = NULL;
    free(r->played);
    free(r);
}

/* The runs of the time before are none. */
static void forget_runs(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        target->begun = false;
        target->stage = EBI_STAGE_WAITS;
        target->waited_for = NULL;
        target->span_count = 0;
        target->fit.config.event = NULL; /* that of the run before */
        for (size_t k = 0; k < target->item_count; k++)
            target->items[k].outcome = EB_OUTCOME_NONE;
    }
}

bool eb_rehearsal_plan(struct eb_rehearsal *r)
{
    struct eb_job *job = r->job;
    struct eb_known *known = job->known;
    forget_runs(job);
    job->known = NULL; /* what is made up is not remembered */
    bool ok = eb_job_look(job);
    job->known = known;
    ok = ok && eb_job_plan(job);
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        if (target->refused)
            ebi_verdicts_drop(target);
        if (target->item_count > 0 && target->estimate.guessed)
            r->played[i].assumed |= EB_ASSUMED_PACE;
    }
    return ok;
}

static bool carry_out(struct eb_rehearsal *r)
{
    struct eb_job *job = r->job;
    struct eb_known *known = job->known;
    job->known = NULL;
    forget_runs(job);
    job->began_us = r->now_us;
    bool ok = eb_job_carry_out(job);
    job->known = known;
    return ok;
}

static void count(struct eb_rehearsal *r, struct eb_rehearsed *to)
{
    for (size_t i = 0; i < r->job->count; i++) {
        const struct eb_job_device *target = &r->job->devices[i];
        enum eb_outcome outcome = eb_job_outcome(target);
        if (target->item_count == 0)
            continue;
        to->devices++;
        to->confirmed += outcome == EB_OUTCOME_CONFIRMED || outcome == EB_OUTCOME_UP_TO_DATE;
        to->in_loader += outcome == EB_OUTCOME_IN_LOADER;
        to->not_started += !target->begun;
        to->failed += target->begun && outcome != EB_OUTCOME_CONFIRMED && outcome != EB_OUTCOME_UP_TO_DATE &&
                      outcome != EB_OUTCOME_IN_LOADER;
    }
}

/* The next call, once the laptop is there again: on all that is not confirmed. */
static bool carry_out_again(struct eb_rehearsal *r, struct eb_rehearsed *to)
{
    struct eb_rehearsed again = {0};
    uint64_t back_us = r->job->began_us + r->strike.at_us + OUT_US;
    r->laptop_gone = false;
    for (size_t i = 0; i < r->job->count; i++) { /* what a person has begun is finished first */
        uint64_t up_us = r->played[i].mode == EBI_PLAYED_STARTS ? r->played[i].back_us : 0;
        back_us = up_us > back_us && up_us != EB_NEVER ? up_us : back_us;
    }
    r->now_us = (r->now_us > back_us ? r->now_us : back_us) + AGAIN_US;
    uint64_t began_us = r->now_us;
    if (!eb_rehearsal_plan(r) || !carry_out(r))
        return false;
    count(r, &again);
    to->again_us = r->now_us - began_us;
    to->again_devices = again.devices;
    to->again_confirmed = again.confirmed;
    return true;
}

bool eb_rehearsal_run(struct eb_rehearsal *r, const struct eb_strike *strike, struct eb_rehearsed *to)
{
    memset(to, 0, sizeof *to);
    reset(r);
    if (r->struck_before && !eb_rehearsal_plan(r)) /* that one had plans of its own */
        return false;
    r->struck_before = strike != NULL;
    if (strike != NULL) {
        r->strike = *strike;
        r->strike_us = r->now_us + strike->at_us;
    }
    if (!carry_out(r))
        return false;
    to->took_us = r->now_us - r->job->began_us;
    to->without_program = r->without_program;
    r->strike_us = EB_NEVER;
    count(r, to);
    bool again = strike != NULL && to->confirmed < to->devices && strike->mishap != EB_MISHAP_DEVICE;
    return !again || carry_out_again(r, to);
}

unsigned eb_rehearsal_assumed(const struct eb_rehearsal *r, const struct eb_job_device *target)
{
    return r->played[target - r->job->devices].assumed;
}
