/* Members of networks that a manager keeps: what its list says of them, whether that lets them be updated,
 * and what a run that writes must know to take them out and give them back. */
#include "job/inside.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MEMBER_PATIENCE_US = 20000000, PROGRAM_ID = 0x1F56 };

static struct eb_job_device *manager_of(const struct eb_job_device *target)
{
    const struct eb_site_device *d = target->device->manager;
    return d != NULL ? &target->job->devices[d - target->job->site->devices] : NULL;
}

/* --- reading lists ----------------------------------------------------------------------------------- */

/* Works until the engine has ended, with all that its bus brings. */
static void work(const struct eb_port *port, int handle, struct eb_network *n, uint64_t patience_us)
{
    uint64_t end_us = eb_port_now_us(port) + patience_us;
    struct eb_can_frame frames[16];
    size_t count;
    while (n->state == EB_NETWORK_BUSY && eb_port_now_us(port) < end_us) {
        uint64_t now_us = eb_port_now_us(port);
        while (port->can->receive(port->self, handle, frames, 16, &count) == EB_OK && count > 0) {
            for (size_t i = 0; i < count; i++)
                eb_network_receive(n, &frames[i], now_us);
        }
        eb_network_tick(n, now_us);
        count = eb_network_give(n, frames, 16);
        eb_network_taken(n, count > 0 ? port->can->send(port->self, handle, frames, count) : 0, now_us);
        if (n->state == EB_NETWORK_BUSY)
            eb_port_wait(port, eb_network_deadline_us(n));
    }
    if (n->state == EB_NETWORK_BUSY) {
        n->state = EB_NETWORK_FAILED;
        n->error = (struct eb_error){.status = EB_NO_ANSWER, .where = "the manager of the network"};
    }
}

bool eb_read_network(const struct eb_port *port, const struct eb_can_options *bus, uint8_t manager,
                     uint8_t first, uint8_t last, struct eb_member *list, size_t *count,
                     struct eb_error *error)
{
    struct eb_network n;
    int handle;
    *count = 0;
    *error = (struct eb_error){.status = EB_UNREACHABLE, .where = "the CAN adapter"};
    if (port->can == NULL || port->can->open(port->self, NULL, bus, &handle) != EB_OK)
        return false;
    eb_network_init(&n, manager);
    eb_network_read(&n, first, last, list, true, eb_port_now_us(port));
    work(port, handle, &n, (uint64_t)(last - first + 1) * MEMBER_PATIENCE_US);
    port->can->close(port->self, handle);
    *count = n.state == EB_NETWORK_DONE ? n.count : 0;
    *error = n.error;
    return n.state == EB_NETWORK_DONE;
}

bool eb_job_read_network(struct eb_job *job, struct eb_job_device *manager, uint8_t first, uint8_t last,
                         struct eb_member *list, size_t *count, struct eb_error *error)
{
    struct eb_target at = eb_job_run_config(job, manager, EB_JOB_LOOK).target;
    const struct eb_can_options bus = {.link = at.can_link, .bit_rate = at.bit_rate, .mask = 0};
    return eb_read_network(job->port, &bus, manager->device->node, first, last, list, count, error);
}

/* What the list of `manager` says of this one, and what it says itself. */
static void read_member(struct eb_job *job, struct eb_job_device *target, struct eb_job_device *manager)
{
    struct eb_job_member *m = target->member;
    uint8_t node = target->device->node;
    size_t count;
    m->error = (struct eb_error){.status = EB_NO_ANSWER};
    if (manager->reached && target->reached)
        m->read = eb_job_read_network(job, manager, node, node, &m->entry, &count, &m->error);
}

static void give_member(struct eb_job_device *target)
{
    target->member = calloc(1, sizeof *target->member);
    if (target->member == NULL)
        abort();
}

/* Whether a node of this bus, of which the site does not say so, keeps a list that has the device in it: then
 * that is found out before it resets the device. */
static void find_unnamed(struct eb_job *job, struct eb_job_device *target, bool *is_none)
{
    for (size_t i = 0; i < job->count && target->member == NULL; i++) {
        struct eb_job_device *other = &job->devices[i];
        struct eb_member entry;
        struct eb_error error;
        size_t count;
        bool may = !is_none[i] && other != target && other->reached && other->device->node != 0 &&
                   other->device->wire == target->device->wire;
        if (!may)
            continue;
        bool keeps = eb_job_read_network(job, other, target->device->node, target->device->node, &entry,
                                         &count, &error);
        is_none[i] = !keeps;
        if (count > 0) {
            give_member(target);
            target->member->unnamed = other->device;
        }
    }
}

void ebi_networks_find(struct eb_job *job)
{
    if (job->rehearses)
        return; /* that managers let go of their members is assumed */
    bool *is_none = calloc(job->count + 1, sizeof *is_none); /* no manager, as was seen */
    if (is_none == NULL)
        abort();
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        const struct eb_site_device *d = target->device;
        free(target->member);
        target->member = NULL;
        if (ebi_job_stop(job) > 0)
            continue;
        if (d->manager != NULL && (target->chosen || target->asked)) {
            give_member(target);
            read_member(job, target, manager_of(target));
        } else if (d->node != 0 && target->chosen && target->reached && d->profile->sends) {
            find_unnamed(job, target, is_none);
        }
    }
    free(is_none);
}

/* --- verdicts ---------------------------------------------------------------------------------------- */

static void add(struct eb_job_device *target, size_t k, enum eb_grade grade, bool acceptable,
                const char *found, const char *expected)
{
    struct eb_verdict *verdict = &target->job->verdicts[k];
    struct eb_finding finding = {.rule = EB_RULE_NETWORK, .grade = grade, .acceptable = acceptable};
    eb_text_copy(finding.found, sizeof finding.found, found);
    eb_text_copy(finding.expected, sizeof finding.expected, expected);
    *verdict = *eb_job_verdict(target, k);
    eb_verdict_add(verdict, &finding, target->accepted);
    ebi_verdict_keep(target, k, verdict);
}

/* The identification that the image will have once it runs, where the profile reads it as the image's
 * checksum. */
static bool software_of(const struct eb_run_item *item, uint32_t *identification)
{
    const struct eb_values *values = &item->component->checksum;
    bool known = false;
    for (size_t i = 0; i < values->count; i++)
        known = known || (values->list[i].by == &eb_access_canopen && values->list[i].index == PROGRAM_ID);
    *identification = item->checksum;
    return known;
}

/* Whether its manager would start it with the new program: what is expected of the old one is said. */
static bool software_fits(const struct eb_member *e, const struct eb_run_item *item, char *found, size_t cap)
{
    uint32_t identification;
    bool other = e->expected[EB_MEMBER_DATE] != 0 || e->expected[EB_MEMBER_TIME] != 0;
    uint32_t wanted = e->expected[EB_MEMBER_SOFTWARE];
    if (!e->verifies_software || (!other && wanted == 0))
        return true;
    if (!other && software_of(item, &identification) && identification == wanted)
        return true;
    if (wanted != 0)
        snprintf(found, cap, "a check for the software identification %08X (1F55h)", wanted);
    else
        snprintf(found, cap, "a check for software of day %u since 1984, %u ms (1F53h, 1F54h)",
                 e->expected[EB_MEMBER_DATE], e->expected[EB_MEMBER_TIME]);
    return false;
}

/* Another member that gets the same image is of the same type. */
static const struct eb_job_device *of_another_type(const struct eb_job_device *target,
                                                   const struct eb_job_item *item,
                                                   enum eb_member_item *differs)
{
    static const enum eb_member_item type[] = {EB_MEMBER_TYPE, EB_MEMBER_VENDOR, EB_MEMBER_PRODUCT};
    const struct eb_job *job = target->job;
    for (const struct eb_job_device *o = job->devices; o < target; o++) {
        bool same_image = false;
        for (size_t k = 0; k < o->item_count; k++)
            same_image = same_image || o->planned[k].image == item->image;
        bool programs = !o->look.in_loader && !target->look.in_loader; /* loaders tell other numbers */
        bool compared =
            same_image && programs && o->member != NULL && o->device->manager == target->device->manager;
        for (size_t i = 0; compared && i < 3; i++) {
            *differs = type[i];
            if (o->member->entry.actual[type[i]] != target->member->entry.actual[type[i]])
                return o;
        }
    }
    return NULL;
}

void ebi_member_judge(struct eb_job_device *target, size_t k)
{
    const struct eb_job_member *m = target->member;
    const char *manager = target->device->manager != NULL ? target->device->manager->name : "";
    char found[EB_FINDING_TEXT_BYTES];
    char expected[EB_FINDING_TEXT_BYTES];
    enum eb_member_item item;
    if (m == NULL)
        return;
    const struct eb_member *e = &m->entry;
    if (m->unnamed != NULL) {
        snprintf(found, sizeof found, "in the list of %.40s, which may supervise it", m->unnamed->name);
        snprintf(expected, sizeof expected, "'managed-by: %.40s' in the site", m->unnamed->name);
        add(target, k, EB_GRADE_CANNOT_TELL, true, found, expected);
        return;
    }
    if (!m->read) {
        snprintf(found, sizeof found, "%.24s: %.64s", manager,
                 m->error.text[0] != '\0' ? m->error.text : eb_status_word(m->error.status));
        add(target, k, EB_GRADE_CANNOT_TELL, false, found,
            "an answer: it would reset the device in the middle");
        return;
    }
    if (!e->listed) {
        snprintf(found, sizeof found, "node %u not in the list of %.40s", target->device->node, manager);
        add(target, k, EB_GRADE_CANNOT_TELL, true, found, "a member, as 'managed-by' says");
        return;
    }
    for (unsigned i = 0; i < EB_MEMBER_DATE; i++) {
        if (!eb_member_differs(e, (enum eb_member_item)i) || target->look.in_loader)
            continue;
        snprintf(found, sizeof found, "%s %08X", eb_member_item_word((enum eb_member_item)i), e->actual[i]);
        snprintf(expected, sizeof expected, "%08X by the list of %.40s, or it is not started", e->expected[i],
                 manager);
        add(target, k, EB_GRADE_NO, true, found, expected);
        return;
    }
    const struct eb_job_device *other = of_another_type(target, &target->planned[k], &item);
    if (other != NULL) {
        snprintf(found, sizeof found, "%s %08X", eb_member_item_word(item), e->actual[item]);
        snprintf(expected, sizeof expected, "%08X as %.40s has, which gets the same image",
                 other->member->entry.actual[item], other->device->name);
        add(target, k, EB_GRADE_NO, false, found, expected);
        return;
    }
    if (!software_fits(e, &target->items[k], found, sizeof found)) {
        snprintf(expected, sizeof expected, "none, or one for %.20s: %.30s would not start it",
                 target->items[k].image->version, manager);
        add(target, k, EB_GRADE_NO, true, found, expected);
        return;
    }
    snprintf(found, sizeof found, "%s by %.40s", e->supervised ? "supervised" : "listed", manager);
    add(target, k, EB_GRADE_YES, false, found, "any, it is taken out meanwhile");
}

/* --- runs -------------------------------------------------------------------------------------------- */

void ebi_member_attach(struct eb_job_device *target, struct eb_run_config *config)
{
    const struct eb_left *left = target->left;
    struct eb_job_member *m = target->member;
    if (m == NULL || m->unnamed != NULL)
        return;
    memset(&m->run, 0, sizeof m->run);
    m->run.manager = target->device->manager->node;
    if (left != NULL && left->joined) { /* as an earlier job has found it */
        m->run.joined = true;
        m->run.found = m->entry;
        m->run.found.node = target->device->node;
        m->run.found.listed = true;
        m->run.found.tells_supervision = left->tells_supervision;
        m->run.found.supervised = left->supervised;
        m->run.found.state = left->state;
    }
    config->member = &m->run;
    config->keeps = &eb_run_network;
}

bool eb_job_is_out(const struct eb_job_device *target)
{
    bool ended = target->begun && eb_run_ended(&target->fit);
    return target->member != NULL &&
           (ended ? target->member->run.joined : target->left != NULL && target->left->joined);
}

json_t *ebi_member_json(const struct eb_job_device *target)
{
    const struct eb_job_member *m = target->member;
    if (m == NULL || !m->run.joined)
        return NULL;
    return json_pack("{s:s, s:i, s:b, s:b}", "manager", target->device->manager->name, "state",
                     (int)m->run.found.state, "supervised", m->run.found.supervised, "tells_supervision",
                     m->run.found.tells_supervision);
}
