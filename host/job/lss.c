/* A node's id and bit rate by LSS (CiA 305): of the one node that is meant, chosen by the four numbers of its
 * identity.  Nothing is set before exactly that node has answered with the id that it is known by. */
#include "einbau/lss.h"
#include "job/inside.h"

#include <stdio.h>
#include <string.h>

enum {
    IDENTITY = 0x1018,
    NUMBERS = EB_LSS_NUMBERS,
    ANSWER_US = 1000000,
    BACK_US = 5000000,
    PAUSE_US = 200000,
    NMT_RESET = 0x82
};

/* --- reading the identity ----------------------------------------------------------------------------- */

/* Reads 1018h of the node with this id; false: it does not answer, `error` says why. */
static bool read_numbers(struct eb_job *job, struct eb_job_device *target, uint8_t node,
                         uint32_t numbers[NUMBERS], struct eb_error *error)
{
    static struct eb_component_profile components[NUMBERS];
    static struct eb_profile profile;
    static struct eb_request request;
    static eb_texts texts[EB_PROFILE_ITEMS];
    profile = (struct eb_profile){.components = components, .count = NUMBERS, .return_patience_ms = 1000};
    memcpy(profile.way, target->device->profile->way, sizeof profile.way);
    for (unsigned i = 0; i < NUMBERS; i++)
        components[i].version = (struct eb_values){.list = {{.by = &eb_access_canopen,
                                                             .form = EB_FORM_HEX,
                                                             .index = IDENTITY,
                                                             .sub = (uint8_t)(i + 1)}},
                                                   .count = 1};
    memset(texts, 0, sizeof texts);
    struct eb_request_config config = {.port = job->port,
                                       .access = &eb_access_canopen,
                                       .operation = {.kind = EB_READ},
                                       .target = eb_job_run_config(job, target, EB_JOB_LOOK).target,
                                       .patience_us = ANSWER_US,
                                       .profile = &profile,
                                       .texts = texts};
    config.target.node = node;
    enum eb_status status = eb_request_begin(&request, &config);
    if (status == EB_OK)
        status = eb_request_work(&request, eb_port_now_us(job->port) + 2ULL * ANSWER_US);
    eb_request_close(&request);
    *error = request.contact.error;
    bool known = status == EB_OK;
    for (unsigned i = 0; i < NUMBERS && known; i++)
        known = eb_text_hex32(texts[eb_profile_item_of(i, false)][0], &numbers[i]);
    return known;
}

/* --- one exchange ------------------------------------------------------------------------------------- */

struct master {
    struct eb_job *job;
    int handle;
    struct eb_lss lss;
};

static bool work(struct master *m)
{
    const struct eb_port *port = m->job->port;
    struct eb_can_frame frames[16];
    size_t count;
    while (m->lss.state == EB_LSS_BUSY) {
        uint64_t now_us = eb_port_now_us(port);
        while (port->can->receive(port->self, m->handle, frames, 16, &count) == EB_OK) {
            for (size_t i = 0; i < count; i++)
                eb_lss_receive(&m->lss, &frames[i], now_us);
        }
        eb_lss_tick(&m->lss, now_us);
        count = eb_lss_give(&m->lss, frames, 16);
        eb_lss_taken(&m->lss, count > 0 ? port->can->send(port->self, m->handle, frames, count) : 0, now_us);
        if (m->lss.state == EB_LSS_BUSY)
            eb_port_wait(port, eb_lss_deadline_us(&m->lss));
    }
    return m->lss.state == EB_LSS_DONE;
}

static bool failed(struct master *m, const char *doing)
{
    const struct eb_error *e = &m->lss.error;
    snprintf(m->job->problem.text, sizeof m->job->problem.text, "%s: %s%s%s", doing,
             eb_status_word(e->status), e->text[0] != '\0' ? ": " : "", e->text);
    m->job->status = EB_PEER_ERROR;
    return false;
}

/* The one node, and no other: it has to answer with the id that it is known by. */
static bool choose(struct master *m, const uint32_t numbers[NUMBERS], uint8_t node)
{
    const struct eb_port *port = m->job->port;
    eb_lss_select(&m->lss, numbers, eb_port_now_us(port));
    if (!work(m))
        return failed(m, "choosing the node by LSS");
    eb_lss_inquire(&m->lss, NUMBERS, eb_port_now_us(port));
    if (!work(m))
        return failed(m, "asking for its node id by LSS");
    return m->lss.value == node ||
           ebi_job_fail(m->job, EB_PEER_ERROR, "the node that answered by LSS has the id %u, expected %u",
                        (unsigned)m->lss.value, node);
}

/* In any case it goes on as before. */
static void release(struct master *m)
{
    struct eb_problem problem = m->job->problem;
    eb_lss_release(&m->lss, eb_port_now_us(m->job->port));
    work(m);
    m->job->problem = problem;
}

/* What was not stored would else be taken up by the next reset of its communication. */
static void put_back(struct master *m, uint8_t node)
{
    struct eb_problem problem = m->job->problem;
    eb_lss_set_node(&m->lss, node, eb_port_now_us(m->job->port));
    work(m);
    m->job->problem = problem;
}

static bool set(struct master *m, const uint32_t numbers[NUMBERS], uint8_t from,
                const struct eb_job_node *wish)
{
    const struct eb_port *port = m->job->port;
    bool chosen = choose(m, numbers, from);
    bool ok = chosen;
    if (ok && wish->node != 0) {
        eb_lss_set_node(&m->lss, wish->node, eb_port_now_us(port));
        ok = work(m) || failed(m, "setting the node id by LSS");
    }
    if (ok && wish->bit_rate != 0) {
        eb_lss_set_bit_rate(&m->lss, wish->bit_rate, eb_port_now_us(port));
        ok = work(m) || failed(m, "setting the bit rate by LSS");
    }
    if (ok) {
        eb_lss_store(&m->lss, eb_port_now_us(port));
        ok = work(m) || failed(m, "storing by LSS");
    }
    if (chosen && !ok && wish->node != 0)
        put_back(m, from);
    release(m);
    return ok;
}

static void rest(struct eb_job *job, uint64_t us)
{
    uint64_t end_us = eb_port_now_us(job->port) + us;
    while (eb_port_now_us(job->port) < end_us)
        eb_port_wait(job->port, end_us);
}

/* NMT, reset communication: to the one node by its old id. */
static void restart_communication(struct master *m, uint8_t node)
{
    enum { FLUSH_US = 20000 };
    const struct eb_port *port = m->job->port;
    const struct eb_can_frame frame = {.id = 0, .size = 2, .data = {NMT_RESET, node}};
    uint64_t until_us = eb_port_now_us(port) + ANSWER_US;
    while (port->can->send(port->self, m->handle, &frame, 1) == 0 && eb_port_now_us(port) < until_us)
        eb_port_wait(port, eb_port_now_us(port) + FLUSH_US);
    rest(m->job, FLUSH_US);
}

static bool same_numbers(const uint32_t *a, const uint32_t *b)
{
    return memcmp(a, b, NUMBERS * sizeof *a) == 0;
}

/* It answers under its new id as the same one, and nothing under the old one. */
static bool is_moved(struct eb_job *job, struct eb_job_device *target, const struct eb_job_node *wish,
                     const uint32_t numbers[NUMBERS])
{
    uint32_t there[NUMBERS];
    struct eb_error error;
    uint64_t until_us = eb_port_now_us(job->port) + BACK_US;
    bool same = false;
    do { /* an adapter that is gone says so at once */
        rest(job, PAUSE_US);
        same = read_numbers(job, target, wish->node, there, &error) && same_numbers(there, numbers);
    } while (!same && eb_port_now_us(job->port) < until_us);
    if (!same)
        return ebi_job_fail(
            job, EB_UNCONFIRMED,
            "it was stored, and does not answer as node %u: it may need its power switched off and on",
            wish->node);
    return !read_numbers(job, target, target->device->node, there, &error) ||
           ebi_job_fail(job, EB_UNCONFIRMED, "node %u still answers, as well as node %u",
                        target->device->node, wish->node);
}

/* Whether something answers under the new id. */
static bool is_free(struct eb_job *job, struct eb_job_device *target, const struct eb_job_node *wish)
{
    uint32_t there[NUMBERS];
    struct eb_error error;
    bool taken = read_numbers(job, target, wish->node, there, &error) || error.status == EB_PEER_ERROR;
    return !taken || ebi_job_fail(job, EB_OTHER, "found node id %u in use on this bus, expected a free one",
                                  wish->node);
}

bool eb_job_set_node(struct eb_job *job, struct eb_job_device *target, const struct eb_job_node *wish)
{
    const struct eb_port *port = job->port;
    uint32_t numbers[NUMBERS];
    struct eb_error error;
    uint8_t from = target->device->node;
    struct master m = {.job = job};
    struct eb_target at = eb_job_run_config(job, target, EB_JOB_LOOK).target;
    const struct eb_can_options options = {.link = at.can_link, .bit_rate = at.bit_rate, .mask = 0};
    if (!read_numbers(job, target, from, numbers, &error))
        return ebi_job_fail(
            job, EB_PEER_ERROR,
            "the four numbers of its identity (1018h) cannot be read, by which LSS chooses it");
    if (wish->node != 0 && wish->node != from && !is_free(job, target, wish))
        return false;
    if (port->can == NULL || port->can->open(port->self, NULL, &options, &m.handle) != EB_OK)
        return ebi_job_fail(job, EB_IO, "the CAN adapter cannot be opened");
    eb_lss_init(&m.lss);
    bool ok = set(&m, numbers, from, wish);
    if (ok && wish->node != 0 && wish->node != from)
        restart_communication(&m, from);
    port->can->close(port->self, m.handle);
    return ok && (wish->node == 0 || wish->node == from || is_moved(job, target, wish, numbers));
}
