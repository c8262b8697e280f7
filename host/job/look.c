/* Looking at devices, and comparing them with what is wanted. */
#include "job/inside.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    REACH_PATIENCE_US = 5000000,
    ABSENT_PATIENCE_US = 500000 /* for one that did not answer to ARP a moment ago */
};

bool ebi_job_on_bus(const struct eb_job_device *target)
{
    return target->device->wire->kind == EB_SITE_CAN;
}

bool ebi_job_on_ip(const struct eb_job_device *target)
{
    return target->device->wire->kind == EB_SITE_ETHERNET;
}

const char *eb_job_adapter(const struct eb_job *job, const struct eb_site_link *wire)
{
    return !job->config.simulated && wire->adapter[0] != '\0' ? wire->adapter : wire->name;
}

struct eb_run_config eb_job_run_config(struct eb_job *job, struct eb_job_device *target,
                                       enum eb_job_run which)
{
    const struct eb_site_device *d = target->device;
    return (struct eb_run_config){
        .port = job->port,
        .profile = d->profile,
        .running = target->running[which],
        .target = {.modbus = d->modbus,
                   .tftp = d->tftp,
                   .unit = d->unit,
                   .has_mac = d->has_mac,
                   .mac = {d->mac[0], d->mac[1], d->mac[2], d->mac[3], d->mac[4], d->mac[5]},
                   .prefix = d->prefix,
                   .http = ebi_job_web(target),
                   .can_link = eb_job_adapter(job, d->wire),
                   .bit_rate = d->wire->bit_rate,
                   .node = d->node,
                   .isotp = d->isotp,
                   .usb_place = d->usb_place,
                   .serial = d->serial,
                   .statement = ebi_job_statement,
                   .statement_context = target},
        .reach_patience_us = REACH_PATIENCE_US,
        .extras = &eb_run_extras,
        .around = &target->around,
        .interrupted = target->left != NULL,
    };
}

/* What runs that have ended needed is kept for the next ones: given back to the system it would be cut up by
 * whatever small comes in between, and each of thousands of devices would need fresh memory.  The first of
 * each size has the others of it behind `same`. */
struct eb_job_spare {
    struct eb_job_spare *next, *same;
    size_t bytes;
};

/* Where those of a size are, or would be. */
static struct eb_job_spare **spare_of(struct eb_job *job, size_t bytes)
{
    struct eb_job_spare **at = &job->spare;
    while (*at != NULL && (*at)->bytes != bytes)
        at = &(*at)->next;
    return at;
}

static void *take_spare(struct eb_job *job, size_t bytes)
{
    struct eb_job_spare **at = spare_of(job, bytes);
    struct eb_job_spare *spare = *at;
    if (spare != NULL && spare->same != NULL)
        spare->same->next = spare->next;
    if (spare != NULL)
        *at = spare->same != NULL ? spare->same : spare->next;
    return spare;
}

static void keep_spare(struct eb_job *job, void *memory, size_t bytes)
{
    struct eb_job_spare *spare = memory;
    if (memory == NULL)
        return;
    struct eb_job_spare **at = spare_of(job, bytes);
    *spare = (struct eb_job_spare){*at != NULL ? (*at)->next : NULL, *at, bytes};
    *at = spare;
}

void ebi_job_free_spare(struct eb_job *job)
{
    while (job->spare != NULL)
        free(take_spare(job, job->spare->bytes));
}

void ebi_job_take_memory(struct eb_job_device *target, enum eb_job_run which, struct eb_run_config *config)
{
    config->memory_bytes = eb_run_memory_bytes(config->profile);
    config->memory = take_spare(target->job, config->memory_bytes);
    if (config->memory == NULL)
        config->memory = malloc(config->memory_bytes);
    if (config->memory == NULL)
        abort();
    free(target->memory[which]);
    target->memory[which] = config->memory;
    target->memory_bytes[which] = config->memory_bytes;
}

void ebi_job_give_memory(struct eb_job_device *target, enum eb_job_run which)
{
    struct eb_run *run = which == EB_JOB_LOOK ? &target->look : &target->fit;
    run->access_count = 0; /* their contexts are gone: eb_run_context gives NULL */
    run->texts = NULL;
    keep_spare(target->job, target->memory[which], target->memory_bytes[which]);
    target->memory[which] = NULL;
}

static void ask_too(struct eb_job *job, const struct eb_site_device *d, bool *more)
{
    struct eb_job_device *target = d != NULL ? &job->devices[d - job->site->devices] : NULL;
    if (target == NULL || target->asked)
        return;
    target->asked = true;
    *more = true;
}

/* Those that the chosen ones depend on are looked at too, and those that these depend on. */
void eb_job_ask(struct eb_job *job)
{
    for (bool more = true; more;) {
        more = false;
        for (size_t i = 0; i < job->count; i++) {
            const struct eb_site_device *d = job->devices[i].device;
            if (!job->devices[i].chosen && !job->devices[i].asked)
                continue;
            ask_too(job, d->via, &more);
            for (size_t k = 0; k < d->companion_count; k++)
                ask_too(job, d->companions[k].device, &more);
        }
    }
}

/* All whom the laptop has talked to on its Ethernet segments, freed by the caller. */
static struct eb_neighbour *list_neighbours(const struct eb_job *job, size_t *count)
{
    enum { NEIGHBOURS_MAX = 8192 };
    const struct eb_port *port = job->port;
    struct eb_link links[EB_LINKS_MAX];
    struct eb_neighbour *list = malloc(NEIGHBOURS_MAX * sizeof *list);
    bool known = list != NULL && job->known != NULL && EB_PORT_HAS(port, links, list);
    known = known && EB_PORT_HAS(port, links, neighbours);
    size_t link_count = known ? port->links->list(port->self, links, EB_LINKS_MAX) : 0;
    *count = 0;
    for (size_t i = 0; i < link_count; i++)
        *count += port->links->neighbours(port->self, links[i].name, list + *count, NEIGHBOURS_MAX - *count);
    return list;
}

/* Whether the same serial number answers at another MAC address than before. */
static void compare_mac(struct eb_job *job, struct eb_job_device *target, const struct eb_neighbour *list,
                        size_t count)
{
    const struct eb_identity *id = &target->look.identity;
    target->mac[0] = '\0';
    for (size_t i = 0; ebi_job_on_ip(target) && i < count; i++) {
        if (memcmp(list[i].ip, target->device->modbus.ip, sizeof list[i].ip) == 0)
            eb_mac_text(list[i].mac, target->mac);
    }
    if (target->mac[0] != '\0' && id->serial[0] != '\0' &&
        !eb_known_mac(job->known, id, target->mac, target->other_mac, target->other_seen, &job->problem))
        ebi_job_warn(job, "the MAC address of %s cannot be remembered: %s", target->device->name,
                     job->problem.text);
}

static void remember(struct eb_job *job, const struct eb_job_device *target)
{
    if (job->known != NULL &&
        !eb_known_note(job->known, job->site->name, target->device->name, &target->look, &job->problem))
        ebi_job_warn(job, "what %s reported cannot be remembered: %s", target->device->name,
                     job->problem.text);
}

/* Nothing is sent to a bus that seems to run at another bit rate: every frame would disturb it. */
static bool kept_off(struct eb_job_device *target)
{
    if (!target->kept_off)
        return false;
    target->look.outcome = EB_OUTCOME_FAILED;
    target->look.error_rung = EB_RUNG_REACH;
    target->look.error = (struct eb_error){
        .status = EB_UNREACHABLE, .retry = EB_RETRY_NEVER, .where = "listening to the bus first"};
    snprintf(target->look.error.text, sizeof target->look.error.text,
             "errors only at %u bit/s, and not one good frame. Nothing was sent",
             target->device->wire->bit_rate);
    return true;
}

/* A node has one SDO server, a unit one connection: a question from here would end the transfer of the
 * process that works on it. */
static bool left_alone(struct eb_job *job, struct eb_job_device *target)
{
    if (target->device->wire->kind != EB_SITE_CAN)
        return false;
    ebi_job_find_worker(job, target);
    if (!target->worked_on)
        return false;
    target->look.answered = true; /* to that process */
    target->look.outcome = EB_OUTCOME_FAILED;
    target->look.error_rung = EB_RUNG_REACH;
    target->look.error =
        (struct eb_error){.status = EB_BUSY,
                          .retry = EB_RETRY_NEVER,
                          .where = EB_BESIDE_ANOTHER_JOB,
                          .text = "a question from here could end its transfer. Nothing was sent"};
    return true;
}

static void begin_look(struct eb_job *job, struct eb_job_device *target, struct eb_crew *crew)
{
    struct eb_run_config config = eb_job_run_config(job, target, EB_JOB_LOOK);
    if (target->absent)
        config.reach_patience_us = ABSENT_PATIENCE_US;
    ebi_job_take_memory(target, EB_JOB_LOOK, &config);
    target->look.config = config;
    memset(target->look.running, 0, target->device->profile->count * sizeof *target->look.running);
    if (!kept_off(target) && !left_alone(job, target) && eb_run_init(&target->look, &config) == EB_OK &&
        eb_crew_add(crew, &target->look) != EB_OK)
        eb_run_abandon(&target->look);
}

bool eb_job_look(struct eb_job *job)
{
    struct eb_crew_place *places = calloc(job->count + 1, sizeof *places);
    struct eb_crew crew;
    size_t neighbour_count;
    if (places == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory");
    eb_job_ask(job);
    eb_crew_init(&crew, job->port, places, job->count);
    for (size_t i = 0; i < job->count && ebi_job_stop(job) == 0; i++) {
        struct eb_job_device *target = &job->devices[i];
        if (target->chosen || target->asked)
            begin_look(job, target, &crew);
    }
    ebi_job_work(job, &crew, NULL);
    free(places);
    struct eb_neighbour *list = list_neighbours(job, &neighbour_count);
    bool together = job->known != NULL && eb_known_begin(job->known, &job->problem);
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        ebi_job_give_memory(target, EB_JOB_LOOK); /* the look has ended */
        target->reached = target->look.identified && target->look.error.status == EB_OK;
        target->answered = target->look.answered || target->reached;
        if (target->reached) {
            compare_mac(job, target, list, neighbour_count);
            remember(job, target);
        }
    }
    if (together && !eb_known_end(job->known, &job->problem))
        ebi_job_warn(job, "what the devices reported cannot be remembered: %s", job->problem.text);
    free(list);
    ebi_networks_find(job);
    ebi_kept_find(job);
    ebi_settings_find(job);
    if (ebi_job_stop(job) > 0)
        return ebi_job_fail(job, EB_STOPPED, "interrupted; nothing was written");
    eb_job_find_left(job);
    ebi_job_compare(job);
    return true;
}

/* --- what was read, and what is wanted ------------------------------------------------------------ */

const char *eb_job_wanted(const struct eb_job_device *target, size_t index)
{
    return target->device->wants[index].version;
}

bool eb_job_has(const struct eb_job_device *target, size_t index)
{
    return eb_job_wanted(target, index)[0] != '\0' || target->look.running[index].version[0] != '\0';
}

const struct eb_run *eb_job_last(const struct eb_job_device *target)
{
    return target->begun ? &target->fit : &target->look;
}

/* The checksum of the wanted image: of the one that was to be written now, else of the one that is known. */
static const uint32_t *wanted_checksum(const struct eb_job_device *target, size_t index)
{
    const struct eb_component_profile *component = &target->device->profile->components[index];
    for (size_t k = target->item_count; k-- > 0 && component->checksum.count > 0;) {
        const struct eb_run_item *item = &target->items[k];
        if (item->component == component && eb_version_compare(&component->order, item->image->version,
                                                               eb_job_wanted(target, index)) == EB_SAME)
            return &item->checksum;
    }
    return target->components[index].has_checksum ? &target->components[index].checksum : NULL;
}

enum eb_mark eb_job_mark(const struct eb_job_device *target, size_t index)
{
    const struct eb_run *run = eb_job_last(target);
    if (target->begun && !run->identified)
        return EB_MARK_UNKNOWN;
    if (!target->begun && !target->reached)
        return target->answered ? EB_MARK_UNREADABLE : EB_MARK_UNREACHABLE;
    if (run->in_loader)
        return EB_MARK_UNREADABLE;
    return eb_mark_of(&target->device->profile->components[index].order, &run->running[index],
                      eb_job_wanted(target, index), wanted_checksum(target, index));
}

bool eb_job_wants(const struct eb_job_device *target)
{
    bool wants = target->item_count > 0;
    for (size_t i = 0; i < target->device->profile->count; i++)
        wants = wants || eb_job_wanted(target, i)[0] != '\0';
    return wants;
}

unsigned eb_job_known_by(const struct eb_job_device *target, size_t index)
{
    size_t item = eb_profile_item_of(index, false);
    bool stated = (eb_job_last(target)->stated >> item & 1) != 0;
    return (stated ? EB_BY_STATEMENT : EB_BY_VERSION) |
           (wanted_checksum(target, index) != NULL ? EB_BY_CHECKSUM : 0U);
}

bool eb_job_stopped(const struct eb_job_device *target)
{
    const struct eb_run *run = eb_job_last(target);
    return run->identified && run->program_known && run->program_stopped;
}

bool eb_job_as_wanted(const struct eb_job_device *target)
{
    for (size_t i = 0; i < target->device->profile->count; i++) {
        if (eb_job_has(target, i) && eb_job_mark(target, i) != EB_MARK_CURRENT)
            return false;
    }
    bool settled = target->left == NULL || (target->begun && eb_run_ended(&target->fit) && !target->fit.left);
    return target->reached && !eb_job_stopped(target) && settled;
}
