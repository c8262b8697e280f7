/* The accesses of a rehearsal: each does what the protocol of its name does, in the time that the device is
 * estimated to take, without a byte on any wire. */
#include "access/access.h"
#include "rehearse/device.h"

#include <stdio.h>
#include <string.h>

enum {
    EXCHANGE_US = 20000,
    SILENCE_US = 200000,   /* until no answer is taken for none */
    BUS_BITS_PER_BYTE = 18 /* as in the estimate of a plan */
};

/* Only one operation is under way. */
struct context {
    struct eb_contact *contact;
    struct eb_operation operation;
    bool busy;
    uint64_t due_us;
    unsigned cuts, starts;
};

static struct ebi_played *played(const struct context *c)
{
    return ebi_played_of(c->contact->target->statement_context);
}

static struct eb_rehearsal *rehearsal_of(const struct context *c)
{
    return c->contact->port->self;
}

/* --- devices ----------------------------------------------------------------------------------------- */

/* It takes up what was sent, where its program is whole. */
static void start(struct ebi_played *d)
{
    bool whole = !d->written;
    for (size_t i = 0; i < d->target->device->profile->count && whole; i++) {
        struct ebi_played_component *c = &d->components[i];
        if (!c->is_sent)
            continue;
        memcpy(c->runs, c->sent, sizeof c->runs);
        c->checksum = c->sent_checksum;
        c->is_sent = false;
    }
    d->mode = whole ? EBI_PLAYED_RUNS : EBI_PLAYED_LOADER;
    d->starts++;
}

void ebi_played_pass(struct eb_rehearsal *r, struct ebi_played *d)
{
    if (d->mode == EBI_PLAYED_STARTS && r->now_us >= d->back_us)
        start(d);
}

static bool answers(const struct eb_rehearsal *r, const struct ebi_played *d)
{
    bool cut = r->cut == d->target->device->wire && r->now_us < r->cut_until_us;
    return !cut && r->now_us >= d->off_until_us && d->mode != EBI_PLAYED_STARTS;
}

static uint64_t restart_us(const struct ebi_played *d)
{
    const struct eb_job_device *t = d->target;
    unsigned restarts = t->device->profile->restarts_once || t->item_count == 0 ? 1 : (unsigned)t->item_count;
    return t->estimate.rest_us / restarts;
}

static void restart(struct eb_rehearsal *r, struct ebi_played *d, uint64_t more_us)
{
    d->mode = EBI_PLAYED_STARTS;
    d->back_us = d->never_back ? EB_NEVER : r->now_us + restart_us(d) + more_us;
}

void ebi_played_cut(struct eb_rehearsal *r, struct ebi_played *d, uint64_t for_us)
{
    d->cuts++;
    d->off_until_us = r->now_us + for_us;
    d->mode = EBI_PLAYED_STARTS;
    d->back_us = d->never_back ? EB_NEVER
                               : d->off_until_us + d->target->device->profile->typical_restart_s * 1000000ULL;
}

/* --- links ------------------------------------------------------------------------------------------- */

static struct ebi_played *next_sender(const struct eb_rehearsal *r, const struct eb_site_link *link,
                                      size_t *at)
{
    for (; *at < r->job->count; ++*at) {
        struct ebi_played *d = &r->played[*at];
        if (d->on_bus && d->target->device->wire == link && r->now_us > d->begun_us && d->left_us > 0)
            return &r->played[(*at)++];
    }
    return NULL;
}

static unsigned senders(const struct eb_rehearsal *r, const struct eb_site_link *link)
{
    unsigned count = 0;
    for (size_t at = 0; next_sender(r, link, &at) != NULL;)
        count++;
    return count > 0 ? count : 1;
}

/* What each has sent since it was seen last: a bus is shared in equal parts. */
static void advance(struct eb_rehearsal *r, const struct eb_site_link *link)
{
    unsigned count = senders(r, link);
    struct ebi_played *d;
    for (size_t at = 0; (d = next_sender(r, link, &at)) != NULL;) {
        double us = (double)(r->now_us - d->seen_us) / count;
        d->left_us -= us < d->left_us ? us : d->left_us;
        d->seen_us = r->now_us;
    }
}

void ebi_played_share(struct eb_rehearsal *r, const struct eb_site_link *link)
{
    for (size_t i = 0; i < r->job->count; i++) {
        const struct ebi_played *d = &r->played[i];
        if (d->on_bus && d->target->device->wire == link && d->waiter != NULL && d->waiter->ready != NULL)
            d->waiter->ready(d->waiter);
    }
}

/* --- sending ----------------------------------------------------------------------------------------- */

static unsigned hands_of(const struct eb_steps *steps)
{
    unsigned count = 0;
    for (size_t i = 0; i < steps->count; i++)
        count +=
            steps->list[i].hand != NULL && steps->list[i].by == NULL && steps->list[i].kind == EB_HAND_SEEN;
    return count;
}

static void begin_send(struct context *c)
{
    struct eb_rehearsal *r = rehearsal_of(c);
    struct ebi_played *d = played(c);
    const struct eb_site_link *link = d->target->device->wire;
    uint64_t bytes = c->operation.source->size_bytes;
    uint64_t all = 0;
    for (size_t i = 0; i < d->target->item_count; i++)
        all += d->target->items[i].source.size_bytes;
    uint64_t alone_us = all > 0 ? d->target->estimate.send_us * bytes / all : 0;
    double bus_us = link->bit_rate > 0 ? (double)bytes * BUS_BITS_PER_BYTE * 1e6 / link->bit_rate : 0;
    uint64_t hands_us = d->mode == EBI_PLAYED_LOADER
                            ? 0
                            : hands_of(&d->target->device->profile->prepare) * (uint64_t)EB_REHEARSAL_HAND_US;
    advance(r, link);
    d->sends = true;
    d->on_bus = link->bit_rate > 0;
    d->left_us = bus_us;
    d->seen_us = d->begun_us = r->now_us + hands_us;
    d->done_us = d->begun_us + alone_us;
    d->waiter = c->contact->waiter;
    d->written = true; /* a second bank is not known of: the worst is assumed */
    ebi_played_share(r, link);
}

static void end_send(struct context *c)
{
    struct ebi_played *d = played(c);
    d->sends = d->on_bus = false;
    ebi_played_share(rehearsal_of(c), d->target->device->wire);
}

/* All of it was taken: which version it is, the plan says. */
static void take_image(struct context *c)
{
    struct ebi_played *d = played(c);
    for (size_t i = 0; i < d->target->item_count; i++) {
        const struct eb_run_item *item = &d->target->items[i];
        if (item->component != c->operation.component || item->checksum != c->operation.checksum)
            continue;
        struct ebi_played_component *to =
            &d->components[item->component - d->target->device->profile->components];
        snprintf(to->sent, sizeof to->sent, "%s", item->image->version);
        to->sent_checksum = item->checksum;
        to->is_sent = true;
    }
    d->written = false;
}

static bool acts_itself(const struct eb_profile *p)
{
    bool by_command = p->sends_by != NULL && (p->sends_by->able & EB_ABLE(EB_ACTIVATE)) != 0;
    for (size_t i = 0; i < p->activate.count; i++)
        by_command = by_command || p->activate.list[i].by != NULL;
    return !by_command;
}

/* --- what it says ------------------------------------------------------------------------------------ */

static void text_of(const struct ebi_played *d, size_t item, char text[EB_NAME_BYTES])
{
    const struct eb_profile *p = d->target->device->profile;
    const struct eb_identity *id = &d->identity;
    const char *const device[] = {id->maker, id->product, id->order_code, id->hardware_revision, id->serial};
    bool loader = d->mode == EBI_PLAYED_LOADER;
    size_t component;
    bool checksum;
    text[0] = '\0';
    if (item < sizeof device / sizeof device[0])
        snprintf(text, EB_NAME_BYTES, "%s", device[item]);
    else if (eb_profile_item_component(item, &component, &checksum) && !loader && checksum)
        snprintf(text, EB_NAME_BYTES, "%08X", d->components[component].checksum);
    else if (eb_profile_item_component(item, &component, &checksum) && !loader)
        snprintf(text, EB_NAME_BYTES, "%s", d->components[component].runs);
    else if (eb_profile_values(p, item) == &p->from_state)
        snprintf(text, EB_NAME_BYTES, "%s", loader ? p->state_loader : "runs");
    else if (eb_profile_values(p, item) == &p->from_program)
        snprintf(text, EB_NAME_BYTES, "runs");
    else if (eb_profile_values(p, item) == &p->from_counter)
        snprintf(text, EB_NAME_BYTES, "%u", d->starts);
}

static void read_all(struct context *c)
{
    const struct eb_profile *p = c->contact->profile;
    struct ebi_played *d = played(c);
    for (size_t item = 0; item < eb_profile_items(p); item++) {
        const struct eb_values *values = eb_profile_values(p, item);
        for (size_t k = 0; values != NULL && k < values->count; k++)
            text_of(d, item, c->contact->texts[item][k]);
    }
    c->contact->connected = true;
    if (d->starts != c->starts)
        ebi_restarted(c->contact, EB_RESTART_SILENCE);
}

/* --- the class ---------------------------------------------------------------------------------------- */

static void init(void *self, struct eb_contact *contact)
{
    struct context *c = self;
    memset(c, 0, sizeof *c);
    c->contact = contact;
    c->due_us = EB_NEVER;
    c->starts = played(c)->starts;
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    struct context *c = self;
    memset(&c->contact->error, 0, sizeof c->contact->error);
    c->contact->connected = c->contact->all_sent = false;
    c->contact->done_bytes = 0;
    c->operation = *operation;
    c->busy = true;
    c->cuts = played(c)->cuts;
    c->due_us = now_us + EXCHANGE_US;
    ebi_played_pass(rehearsal_of(c), played(c));
    if (!answers(rehearsal_of(c), played(c)))
        c->due_us = now_us + SILENCE_US;
    else if (operation->kind == EB_SEND)
        begin_send(c);
}

static enum eb_status end(struct context *c, enum eb_status status)
{
    c->busy = false;
    if (c->operation.kind == EB_SEND)
        end_send(c);
    c->contact->error = (struct eb_error){.status = status, .where = status != EB_OK ? "the device" : NULL};
    return status;
}

static enum eb_status poll_send(struct context *c)
{
    struct eb_rehearsal *r = rehearsal_of(c);
    struct ebi_played *d = played(c);
    const struct eb_site_link *link = d->target->device->wire;
    uint64_t bytes = c->operation.source->size_bytes;
    if (c->cuts != d->cuts || !answers(r, d))
        return end(c, EB_NO_ANSWER);
    advance(r, link);
    if (d->left_us >= 1 || r->now_us < d->done_us)
        return EB_PENDING;
    c->contact->done_bytes = bytes;
    c->contact->all_sent = true;
    c->contact->read_back = c->contact->profile->read_back == EB_READ_BACK_YES;
    take_image(c);
    enum eb_status status = end(c, EB_OK);
    if (acts_itself(d->target->device->profile))
        restart(r, d, hands_of(&d->target->device->profile->activate) * (uint64_t)EB_REHEARSAL_HAND_US);
    return status;
}

/* A step of taking up restarts it; any other one changes nothing that matters here. */
static bool is_restart(const struct context *c)
{
    const struct eb_profile *p = c->contact->profile;
    const struct eb_steps *steps = &p->activate;
    bool step = c->operation.kind == EB_STEP && c->operation.step >= steps->list &&
                c->operation.step < steps->list + steps->count;
    return step || c->operation.kind == EB_ACTIVATE;
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    struct context *c = self;
    struct ebi_played *d = played(c);
    ebi_played_pass(rehearsal_of(c), d);
    if (!c->busy)
        return c->contact->error.status;
    if (c->operation.kind == EB_SEND && d->sends)
        return poll_send(c);
    if (now_us < c->due_us)
        return EB_PENDING;
    if (!answers(rehearsal_of(c), d) || c->cuts != d->cuts)
        return end(c, EB_NO_ANSWER);
    if (c->operation.kind == EB_READ)
        read_all(c);
    else if (is_restart(c)) {
        c->starts = d->starts;
        restart(rehearsal_of(c), d, 0);
    }
    return end(c, EB_OK);
}

static uint64_t deadline_us(const void *self)
{
    const struct context *c = self;
    const struct ebi_played *d = played(c);
    struct eb_rehearsal *r = rehearsal_of(c);
    if (!c->busy)
        return EB_NEVER;
    if (c->operation.kind != EB_SEND || !d->sends)
        return c->due_us;
    if (d->left_us < 1 || r->now_us < d->begun_us)
        return d->done_us;
    return r->now_us + 1 + (uint64_t)(d->left_us * senders(r, d->target->device->wire));
}

static void close(void *self)
{
    struct context *c = self;
    if (c->busy && c->operation.kind == EB_SEND && played(c)->sends)
        end_send(c);
    c->busy = false;
}

const struct eb_access *ebi_played_access(struct eb_rehearsal *r, const struct eb_access *access)
{
    if (access == NULL)
        return NULL;
    for (size_t i = 0; i < r->class_count; i++) {
        if (r->of[i] == access || &r->classes[i] == access)
            return &r->classes[i];
    }
    if (r->class_count == EBI_CLASSES_MAX)
        return access;
    struct eb_access *played_class = &r->classes[r->class_count];
    r->of[r->class_count++] = access;
    *played_class = (struct eb_access){
        .word = access->word,
        .title = access->title,
        .wire = access->wire,
        .rank = access->rank,
        .able = access->able &
                ~(unsigned)(EB_ABLE_TO_WAIT | EB_BY_FRAMES | EB_BY_PERSON | EB_DOCUMENTS_IN_LOADER),
        .context_bytes = sizeof(struct context),
        .init = init,
        .begin = begin,
        .poll = poll,
        .deadline_us = deadline_us,
        .close = close,
    };
    return played_class;
}
