/* Which device may begin: all that it waits for have ended well, and none that it must not meet is under way.
 *
 * Of several that wait for the same, the one that most is behind goes first: its own time and that of the
 * longest chain of devices that wait for it. */
#include "job/inside.h"

#include <stdlib.h>

static bool in_plan(const struct eb_job_device *target)
{
    return target->item_count > 0;
}

static struct eb_job_device *of_site(struct eb_job *job, const struct eb_site_device *d)
{
    return d != NULL ? &job->devices[d - job->site->devices] : NULL;
}

/* The ones that it depends on, `index` 0, 1, ... up to its number of companions; NULL where that is none. */
static struct eb_job_device *depends_on(struct eb_job *job, const struct eb_job_device *target, size_t index)
{
    const struct eb_site_device *d = target->device;
    struct eb_job_device *other = of_site(job, index == 0 ? d->via : d->companions[index - 1].device);
    return other != NULL && in_plan(other) ? other : NULL;
}

/* The device that it waits for, or NULL; `*in_vain`: and need not wait any longer. */
static struct eb_job_device *awaited(struct eb_job *job, const struct eb_job_device *target, bool *in_vain)
{
    struct eb_job_device *first = NULL;
    *in_vain = false;
    for (size_t i = 0; i <= target->device->companion_count && !*in_vain; i++) {
        struct eb_job_device *other = depends_on(job, target, i);
        if (other == NULL || other->stage == EBI_STAGE_DONE)
            continue;
        *in_vain = other->stage == EBI_STAGE_FAILED || other->waited_for != NULL || other->refused;
        first = first == NULL || *in_vain ? other : first;
    }
    return first;
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

uint64_t ebi_own_us(const struct eb_job_device *target)
{
    return target->estimate.send_us + target->estimate.rest_us + 1; /* also where it is not known */
}

bool ebi_is_urgent(const struct eb_job_device *target)
{
    return target->path_us > ebi_own_us(target);
}

/* The one that has `*user` now, which is `target` where no other has. */
static struct eb_job_device *take(struct eb_job_device **user, struct eb_job_device *target)
{
    if (*user == NULL || (*user)->stage != EBI_STAGE_BEGUN)
        *user = target;
    return *user;
}

/* A device under way that this one must not meet: another with a manual step, one device by hand at a time;
 * or another module of the same rack, as what goes to them goes through one device; or another member of the
 * same managed network, unless its manager lets go of several at once.  Else the device itself.
 */
static struct eb_job_device *in_the_way(struct eb_job *job, struct eb_job_device *target)
{
    struct eb_job_device *other = target;
    if (eb_job_by_hand(target))
        other = take(&job->by_hand, target);
    const struct eb_site_device *manager = target->device->manager;
    bool alone = manager != NULL && !eb_canopen_way_of(manager->profile).members_at_once;
    if (other == target && (target->device->slot != 0 || alone))
        other = take(&of_site(job, target->device->via)->rack_user, target);
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

/* Those that waited for this one are tried again: in the order in which they came to wait, which is that of
 * what is behind them. */
static void release(struct eb_job *job, struct eb_job_device *target)
{
    struct eb_job_queue merged = {NULL, NULL};
    while (target->waiters.first != NULL && job->ready.first != NULL)
        add_last(&merged,
                 take_first(job->ready.first->path_us >= target->waiters.first->path_us ? &job->ready
                                                                                        : &target->waiters));
    for (struct eb_job_device *d; (d = take_first(&job->ready)) != NULL;)
        add_last(&merged, d);
    for (struct eb_job_device *d; (d = take_first(&target->waiters)) != NULL;)
        add_last(&merged, d);
    job->ready = merged;
}

static int later_waves_first(const void *a, const void *b)
{
    const struct eb_job_device *x = *(struct eb_job_device *const *)a;
    const struct eb_job_device *y = *(struct eb_job_device *const *)b;
    return (y->device->wave > x->device->wave) - (y->device->wave < x->device->wave);
}

static int longest_path_first(const void *a, const void *b)
{
    const struct eb_job_device *x = *(struct eb_job_device *const *)a;
    const struct eb_job_device *y = *(struct eb_job_device *const *)b;
    return x->path_us != y->path_us ? (y->path_us > x->path_us) - (y->path_us < x->path_us)
                                    : (x > y) - (x < y);
}

/* How long it is from a device's beginning to the end of all that waits for it.  What waits for one is of a
 * later wave, so that its own path is known by then. */
static void find_paths(struct eb_job *job, struct eb_job_device **list, size_t count)
{
    qsort(list, count, sizeof *list, later_waves_first);
    for (size_t i = 0; i < count; i++) {
        struct eb_job_device *target = list[i];
        target->path_us += ebi_own_us(target); /* of those behind, until now */
        for (size_t k = 0; k <= target->device->companion_count; k++) {
            struct eb_job_device *other = depends_on(job, target, k);
            if (other != NULL && other->path_us < target->path_us)
                other->path_us = target->path_us;
        }
    }
}

bool ebi_order_begin(struct eb_job *job)
{
    struct eb_job_device **list = calloc(job->count + 1, sizeof *list);
    size_t count = 0;
    if (list == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory; nothing was written");
    job->ready = (struct eb_job_queue){NULL, NULL};
    job->by_hand = NULL;
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        target->waiters = (struct eb_job_queue){NULL, NULL};
        target->rack_user = NULL;
        target->path_us = 0;
        if (in_plan(target) && target->waited_for == NULL && target->stage == EBI_STAGE_WAITS)
            list[count++] = target;
    }
    find_paths(job, list, count);
    qsort(list, count, sizeof *list, longest_path_first);
    for (size_t i = 0; i < count; i++) {
        if (!list[i]->refused)
            add_last(&job->ready, list[i]);
    }
    free(list);
    return true;
}

struct eb_job_device *ebi_order_next(struct eb_job *job)
{
    struct eb_job_device *target;
    while ((target = take_first(&job->ready)) != NULL) {
        bool in_vain;
        struct eb_job_device *other = awaited(job, target, &in_vain);
        if (in_vain) {
            target->waited_for = other->device;
            release(job, target);
            continue;
        }
        if (other == NULL)
            other = in_the_way(job, target);
        if (other == target) {
            target->stage = EBI_STAGE_BEGUN;
            return target;
        }
        add_last(&other->waiters, target);
    }
    return NULL;
}

void ebi_order_ended(struct eb_job *job, struct eb_job_device *target, bool well)
{
    target->stage = well ? EBI_STAGE_DONE : EBI_STAGE_FAILED;
    release(job, target);
}
