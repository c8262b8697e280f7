/* Carrying a plan out: each device begins when all that it depends on is confirmed. */
#include "job/inside.h"

#include <stddef.h>
#include <stdlib.h>

enum eb_outcome eb_job_outcome(const struct eb_job_device *target)
{
    if (target->begun)
        return target->fit.outcome;
    if (target->waited_for != NULL)
        return EB_OUTCOME_NOT_STARTED;
    if (!eb_job_wants(target))
        return EB_OUTCOME_NONE;
    if (target->refused)
        return EB_OUTCOME_REFUSED;
    if (!target->reached)
        return EB_OUTCOME_FAILED;
    return target->item_count == 0 && eb_job_as_wanted(target) ? EB_OUTCOME_UP_TO_DATE : EB_OUTCOME_NONE;
}

/* Whether a device waits for this one; `*in_vain`: and need not wait any longer. */
static bool waits_for(struct eb_job *job, const struct eb_site_device *d, bool *in_vain)
{
    const struct eb_job_device *target = d != NULL ? &job->devices[d - job->site->devices] : NULL;
    if (target == NULL || target->item_count == 0)
        return false; /* it is no part of this job */
    if (target->begun && eb_run_ended(&target->fit)) {
        *in_vain =
            target->fit.outcome != EB_OUTCOME_CONFIRMED && target->fit.outcome != EB_OUTCOME_UP_TO_DATE;
        return *in_vain;
    }
    *in_vain = target->waited_for != NULL || target->refused;
    return true;
}

/* The device that it waits for, or NULL. */
static struct eb_job_device *awaited(struct eb_job *job, const struct eb_job_device *target, bool *in_vain)
{
    const struct eb_site_device *d = target->device;
    struct eb_job_device *first = NULL;
    *in_vain = false;
    for (size_t i = 0; i <= d->companion_count && !*in_vain; i++) {
        const struct eb_site_device *other = i == 0 ? d->via : d->companions[i - 1].device;
        if (waits_for(job, other, in_vain) && (first == NULL || *in_vain))
            first = &job->devices[other - job->site->devices];
    }
    return first;
}

/* Begins a run that writes. */
static bool begin(struct eb_job *job, struct eb_job_device *target, struct eb_crew *crew)
{
    struct eb_run_config config = target->fit.config;
    if (job->config.begins != NULL)
        job->config.begins(job->config.context, &config);
    ebi_job_attach(job, &config);
    ebi_job_record_statements(target);
    target->begun = true;
    if (eb_run_init(&target->fit, &config) != EB_OK)
        return false;
    if (eb_crew_add(crew, &target->fit) == EB_OK)
        return true;
    eb_run_abandon(&target->fit);
    return false;
}

static bool has_hand(const struct eb_steps *steps)
{
    for (size_t i = 0; i < steps->count; i++) {
        if (steps->list[i].hand != NULL)
            return true;
    }
    return false;
}

bool eb_job_by_hand(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    bool has = has_hand(&p->prepare) || has_hand(&p->activate) || has_hand(&p->undo);
    for (size_t i = 0; i < p->otherwise_count; i++)
        has = has || has_hand(&p->otherwise[i].prepare);
    return has;
}

/* The one that has `*user` now, which is `target` where no other has. */
static struct eb_job_device *take(struct eb_job_device **user, struct eb_job_device *target)
{
    if (*user == NULL || !(*user)->begun || eb_run_ended(&(*user)->fit))
        *user = target;
    return *user;
}

/* A device under way that this one must not meet: another with a manual step, one device by hand at a time;
 * or another module of the same rack, as what goes to them goes through one device.  Else the device itself.
 */
static struct eb_job_device *in_the_way(struct eb_job *job, struct eb_job_device *target)
{
    struct eb_job_device *other = target;
    if (eb_job_by_hand(target))
        other = take(&job->by_hand, target);
    if (other == target && target->device->slot != 0)
        other = take(&job->devices[target->device->via - job->site->devices].rack_user, target);
    return other;
}

/* --- who is to be tried next ---------------------------------------------------------------------- */

static void add_last(struct eb_job_queue *queue, struct eb_job_device *target)
{
    target->next = NULL;
    if (queue->first == NULL)
        queue->first = target;
    else
        queue->last->next = target;
    queue->last = target;
}

static struct eb_job_device *take_first(struct eb_job_queue *queue)
{
    struct eb_job_device *target = queue->first;
    if (target != NULL)
        queue->first = target->next;
    return target;
}

/* Those that waited for this one are tried again. */
static void release(struct eb_job *job, struct eb_job_device *target)
{
    struct eb_job_device *waiter;
    while ((waiter = take_first(&target->waiters)) != NULL)
        add_last(&job->ready, waiter);
}

/* Begins a device that waits for no one any more, gives it up where it waits in vain, or has it wait. */
static bool try_to_begin(struct eb_job *job, struct eb_job_device *target, struct eb_crew *crew)
{
    bool in_vain;
    struct eb_job_device *other = awaited(job, target, &in_vain);
    if (in_vain) {
        target->waited_for = other->device;
        release(job, target);
        return false;
    }
    if (other == NULL)
        other = in_the_way(job, target);
    if (other != target) {
        add_last(&other->waiters, target);
        return false;
    }
    /* By what runs now in those that it waited for: the run judges once more. */
    eb_job_surround(job, target, false);
    if (begin(job, target, crew))
        return true;
    release(job, target); /* it has ended already */
    return false;
}

static bool begin_ready(struct eb_job *job, struct eb_crew *crew)
{
    bool added = false;
    for (struct eb_run *run; (run = eb_crew_ended(crew)) != NULL;)
        release(job, (struct eb_job_device *)(void *)((char *)run - offsetof(struct eb_job_device, fit)));
    for (struct eb_job_device *target; ebi_job_stop(job) == 0 && (target = take_first(&job->ready)) != NULL;)
        added = try_to_begin(job, target, crew) || added;
    return added;
}

static bool begin_recovering(struct eb_job *job, struct eb_crew *crew)
{
    bool added = false;
    for (struct eb_job_device *target; (target = take_first(&job->ready)) != NULL;) {
        target->fit.config = eb_job_run_config(job, target, EB_JOB_FIT);
        target->fit.config.target.serial =
            target->look.identity.serial; /* the very device that was looked at */
        target->fit.config.recover = true;
        added = begin(job, target, crew) || added;
    }
    return added;
}

static bool work(struct eb_job *job, bool (*more)(struct eb_job *job, struct eb_crew *crew))
{
    struct eb_crew_place *places = calloc(job->count + 1, sizeof *places);
    struct eb_crew crew;
    if (places == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory; nothing was written");
    eb_crew_init(&crew, job->port, places, job->count);
    ebi_job_work(job, &crew, more);
    free(places);
    return true;
}

bool eb_job_carry_out(struct eb_job *job)
{
    job->ready = (struct eb_job_queue){NULL, NULL};
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        if (target->item_count > 0 && !target->refused && !target->begun && target->waited_for == NULL)
            add_last(&job->ready, target);
    }
    return work(job, begin_ready);
}

bool eb_job_recover(struct eb_job *job)
{
    job->ready = (struct eb_job_queue){NULL, NULL};
    for (size_t i = 0; i < job->count; i++) {
        if (job->devices[i].recovers && !job->devices[i].begun)
            add_last(&job->ready, &job->devices[i]);
    }
    return work(job, begin_recovering);
}

/* --- all of it ------------------------------------------------------------------------------------ */

/* Why nothing is written: one device is refused, or could not be looked at. */
static bool is_ready(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        const struct eb_finding *f = NULL;
        if (!target->chosen || !eb_job_wants(target))
            continue;
        if (!target->reached)
            return ebi_job_fail(job, EB_NO_ANSWER, "%s: %s: %s. Nothing was written", target->device->name,
                                target->look.error.where != NULL ? target->look.error.where : "looking at it",
                                target->look.error.text[0] != '\0'
                                    ? target->look.error.text
                                    : eb_status_word(target->look.error.status));
        for (size_t k = 0; k < target->item_count && f == NULL; k++) {
            const struct eb_verdict *v = &target->items[k].verdict;
            for (size_t n = 0; n < v->count && f == NULL; n++)
                f = v->findings[n].grade > EB_GRADE_ACCEPTED ? &v->findings[n] : NULL;
        }
        if (target->refused)
            return ebi_job_fail(
                job, EB_OTHER, "%s is refused: %s: found %s, expected %s. Nothing was written",
                target->device->name, f != NULL ? eb_rule_code(f->rule) : "image",
                f != NULL ? f->found : "none on the shelf", f != NULL ? f->expected : "the wanted version");
    }
    return true;
}

/* Whether all is as wanted; else the first device that is not. */
static bool is_done(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        enum eb_outcome outcome = eb_job_outcome(target);
        const struct eb_error *e = &target->fit.error;
        if (!target->chosen || !eb_job_wants(target) || outcome == EB_OUTCOME_CONFIRMED ||
            outcome == EB_OUTCOME_UP_TO_DATE)
            continue;
        return ebi_job_fail(job, e->status != EB_OK ? e->status : EB_UNCONFIRMED, "%s: %s%s%s%s%s",
                            target->device->name, eb_outcome_word(outcome), e->where != NULL ? ": " : "",
                            e->where != NULL ? e->where : "", e->text[0] != '\0' ? ": " : "", e->text);
    }
    return true;
}

bool eb_job_fit(struct eb_job *job, struct eb_problem *problem)
{
    bool good = eb_job_lock_addresses(job) && eb_job_look(job) && eb_job_plan(job) && is_ready(job) &&
                eb_job_lock_devices(job) && eb_job_begin(job) && eb_job_carry_out(job) && is_done(job);
    eb_job_end(job, good ? "as wanted" : "not as wanted");
    if (!good && problem != NULL)
        *problem = job->problem;
    return good;
}
