/* How long a plan takes: the devices begin by the same rules as when it is carried out, on a clock that only
 * counts.
 *
 * A device first sends, then does all else: prepares, restarts, is confirmed.  On a bus it sends as fast as
 * the bus is.  What its profile says that it takes longer is spent before that, erasing.  What was measured
 * on earlier jobs holds the others of that time as well: such a device sends from the beginning, and takes no
 * less than that.  Those that send on the same bus share it, and those that others wait for go first. */
#include "job/inside.h"

#include <stdlib.h>

enum {
    EVERY_ITEM_US = 500000, /* looking, judging, restoring */
    BUS_BITS_PER_BYTE = 18  /* 7 bytes of the image in a frame of some 125 bits */
};

#define LEAST_PART 0.05 /* of a bus that is left for what nothing waits for */

/* --- one device ----------------------------------------------------------------------------------- */

static void estimate(struct eb_job_device *target)
{
    const struct eb_profile *profile = target->device->profile;
    struct eb_job_estimate *e = &target->estimate;
    struct eb_known_pace pace;
    *e = (struct eb_job_estimate){0};
    for (size_t i = 0; i < target->item_count; i++) {
        const struct eb_run_item *item = &target->items[i];
        bool restarts = ebi_restarts(target, i + 1) > ebi_restarts(target, i);
        bool seen = target->job->known != NULL &&
                    eb_known_pace(target->job->known, &target->look.identity, item->component->name, &pace);
        e->guessed = e->guessed || !seen || pace.bytes_per_s == 0 || pace.rest_ms == 0;
        uint64_t bytes_per_s = seen && pace.bytes_per_s > 0 ? pace.bytes_per_s : profile->typical_bytes_per_s;
        if (bytes_per_s == 0) {
            *e = (struct eb_job_estimate){0};
            return;
        }
        e->send_us += item->source.size_bytes * 1000000 / bytes_per_s;
        if (seen && pace.rest_ms > 0)
            e->rest_us += restarts ? pace.rest_ms * 1000ULL : 0;
        else
            e->rest_us += EVERY_ITEM_US + (restarts ? profile->typical_restart_s * 1000000ULL : 0);
    }
}

/* --- all of them ---------------------------------------------------------------------------------- */

enum stage { ERASES, SENDS, WRITES, ENDS };

/* Of each device: what it still has to send, and the bus on which it does. */
struct sender {
    enum stage stage;
    uint64_t due_us;     /* when that is over; EB_NEVER: it is not under way */
    uint64_t written_us; /* not before all of it is written */
    double left_us;      /* on a bus, if it were alone there */
    size_t next;         /* of the same bus; SIZE_MAX: none */
};

struct clock {
    struct eb_job *job;
    struct sender *senders; /* as the job's devices */
    uint64_t *least_us; /* a tree of minima over `due_us`: node k covers 2k and 2k + 1, leaves from `count` */
    struct bus {
        size_t first; /* of those that send */
        unsigned senders, urgent;
        uint64_t seen_us;
    } * buses; /* as the site's links */
    uint64_t now_us;
};

static uint64_t least_us(const struct clock *c, size_t node)
{
    return node >= c->job->count ? c->senders[node - c->job->count].due_us : c->least_us[node];
}

static void set_due(struct clock *c, size_t i, uint64_t due_us)
{
    c->senders[i].due_us = due_us;
    for (size_t node = c->job->count + i; node > 1; node /= 2) {
        uint64_t us = least_us(c, node);
        uint64_t other_us = least_us(c, node ^ 1U);
        c->least_us[node / 2] = us < other_us ? us : other_us;
    }
}

static struct bus *bus_of(const struct clock *c, size_t i)
{
    const struct eb_site_link *link = c->job->devices[i].device->wire;
    return link->bit_rate > 0 ? &c->buses[link - c->job->site->links] : NULL;
}

static double speed(const struct clock *c, const struct bus *bus, size_t i)
{
    if (ebi_is_urgent(&c->job->devices[i]))
        return 1.0 / bus->urgent;
    return (bus->urgent > 0 ? LEAST_PART : 1) / (bus->senders - bus->urgent);
}

/* What was sent on the bus until now. */
static void advance(struct clock *c, struct bus *bus)
{
    for (size_t i = bus->first; i != SIZE_MAX; i = c->senders[i].next) {
        double us = (double)(c->now_us - bus->seen_us) * speed(c, bus, i);
        c->senders[i].left_us -= us < c->senders[i].left_us ? us : c->senders[i].left_us;
    }
    bus->seen_us = c->now_us;
}

static void foresee(struct clock *c, const struct bus *bus)
{
    for (size_t i = bus->first; i != SIZE_MAX; i = c->senders[i].next)
        set_due(c, i, c->now_us + (uint64_t)(c->senders[i].left_us / speed(c, bus, i)));
}

/* Of what it sends: how long that occupies its bus. */
static uint64_t bus_us(const struct clock *c, size_t i)
{
    const struct eb_job_device *target = &c->job->devices[i];
    uint64_t bytes = 0;
    for (size_t k = 0; bus_of(c, i) != NULL && k < target->item_count; k++)
        bytes += target->items[k].source.size_bytes;
    uint64_t us = bytes > 0 ? bytes * BUS_BITS_PER_BYTE * 1000000 / target->device->wire->bit_rate : 0;
    return us < target->estimate.send_us ? us : target->estimate.send_us;
}

static void begin(struct clock *c, size_t i)
{
    struct eb_job_estimate *e = &c->job->devices[i].estimate;
    e->begins_us = c->now_us;
    c->senders[i].stage = ERASES;
    c->senders[i].written_us = c->now_us + e->send_us;
    set_due(c, i, c->now_us + (e->guessed || bus_of(c, i) == NULL ? e->send_us - bus_us(c, i) : 0));
}

static void enter(struct clock *c, size_t i, struct bus *bus)
{
    advance(c, bus);
    c->senders[i].left_us = (double)bus_us(c, i);
    c->senders[i].next = bus->first;
    bus->first = i;
    bus->senders++;
    bus->urgent += ebi_is_urgent(&c->job->devices[i]);
    foresee(c, bus);
}

static void leave(struct clock *c, size_t i, struct bus *bus)
{
    size_t *at = &bus->first;
    advance(c, bus);
    while (*at != i)
        at = &c->senders[*at].next;
    *at = c->senders[i].next;
    bus->senders--;
    bus->urgent -= ebi_is_urgent(&c->job->devices[i]);
    foresee(c, bus);
}

/* A device has come to the end of what it does. */
static void go_on(struct clock *c, size_t i)
{
    struct eb_job_device *target = &c->job->devices[i];
    struct bus *bus = bus_of(c, i);
    switch (c->senders[i].stage) {
    case ERASES:
        c->senders[i].stage = SENDS;
        if (bus != NULL)
            enter(c, i, bus);
        break;
    case SENDS:
        c->senders[i].stage = WRITES;
        if (bus != NULL)
            leave(c, i, bus);
        set_due(c, i, c->senders[i].written_us > c->now_us ? c->senders[i].written_us : c->now_us);
        break;
    case WRITES:
        c->senders[i].stage = ENDS;
        target->estimate.sent_us = c->now_us;
        set_due(c, i, c->now_us + target->estimate.rest_us);
        break;
    case ENDS:
        set_due(c, i, EB_NEVER);
        ebi_order_ended(c->job, target, true);
        break;
    }
}

static uint64_t work(struct clock *c)
{
    struct eb_job_device *target;
    for (;;) {
        while ((target = ebi_order_next(c->job)) != NULL)
            begin(c, (size_t)(target - c->job->devices));
        uint64_t due_us = least_us(c, 1);
        if (due_us == EB_NEVER)
            return c->now_us;
        size_t node = 1;
        while (node < c->job->count)
            node = 2 * node + (least_us(c, 2 * node) > due_us);
        c->now_us = due_us;
        go_on(c, node - c->job->count);
    }
}

/* As it was before; nothing has begun. */
static void forget(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        job->devices[i].stage = EBI_STAGE_WAITS;
        job->devices[i].waited_for = NULL;
    }
}

static bool any_begun(const struct eb_job *job)
{
    bool any = false;
    for (size_t i = 0; i < job->count; i++)
        any = any || job->devices[i].begun;
    return any;
}

/* A part of the whole would be worse than nothing. */
static bool is_known(const struct eb_job *job)
{
    bool any = false;
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        if (target->item_count == 0 || target->refused)
            continue;
        if (target->estimate.rest_us == 0)
            return false;
        any = true;
    }
    return any;
}

/* What a profile says may be wrong by as much. */
static void stretch(struct eb_job_estimate *e)
{
    if (e->guessed) {
        e->send_us += e->send_us / 2;
        e->rest_us += e->rest_us / 2;
    }
}

/* Carries it out on the clock. */
static uint64_t estimate_all(struct eb_job *job, bool most)
{
    size_t links = job->site != NULL ? job->site->link_count : 0;
    struct sender *senders = calloc(job->count + 1, sizeof *senders);
    uint64_t *least = calloc(job->count + 1, sizeof *least);
    struct bus *buses = calloc(links + 1, sizeof *buses);
    uint64_t whole_us = 0;
    if (senders != NULL && least != NULL && buses != NULL) {
        struct clock c = {.job = job, .senders = senders, .least_us = least, .buses = buses};
        for (size_t i = 0; i < links; i++)
            buses[i].first = SIZE_MAX;
        for (size_t i = 0; i <= job->count; i++)
            senders[i].due_us = least[i] = EB_NEVER;
        for (size_t i = 0; i < job->count; i++) {
            estimate(&job->devices[i]);
            if (most)
                stretch(&job->devices[i].estimate);
        }
        whole_us = is_known(job) && ebi_order_begin(job) ? work(&c) : 0;
        forget(job);
    }
    free(senders);
    free(least);
    free(buses);
    return whole_us;
}

uint64_t eb_job_estimate(struct eb_job *job)
{
    bool guessed = false;
    if (any_begun(job))
        return job->estimate_us; /* it is no plan any more */
    job->estimate_most_us = estimate_all(job, true);
    uint64_t whole_us = estimate_all(job, false);
    for (size_t i = 0; i < job->count; i++)
        guessed = guessed || (job->devices[i].item_count > 0 && !job->devices[i].refused &&
                              job->devices[i].estimate.guessed);
    if (!guessed)
        job->estimate_most_us = whole_us;
    return whole_us;
}
