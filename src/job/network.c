/* A member of a network that a manager keeps: taken out of supervision before anything is done to it, and put
 * back in the end, whatever happened; but not where no program runs in it then.
 *
 *   LOOKING --> TAKING_OUT --> the run goes on --> GIVING_BACK --> the run ends
 *
 * What is found by LOOKING is in the record before TAKING_OUT begins. */
#include "access/can_link.h"
#include "job/ladder.h"
#include "wire/canopen_wire.h"

enum { NOT_AT_ALL, LOOKING, TAKING_OUT, GIVING_BACK };
enum { PREPARE, FINISH }; /* what comes behind joining */
enum { LOOKS_MAX = 6, HASTY_MS = 250 };

static const struct eb_error no_record = {
    .status = EB_IO, .where = "writing the record", .text = "the record could not be written"};

/* --- the engine -------------------------------------------------------------------------------------- */

static void receive(void *self, const struct eb_can_frame *frame, uint64_t now_us)
{
    eb_network_receive(&((struct eb_run_member *)self)->network, frame, now_us);
}

static void tick(void *self, uint64_t now_us)
{
    eb_network_tick(&((struct eb_run_member *)self)->network, now_us);
}

static size_t give(void *self, struct eb_can_frame *frames, size_t cap, bool all_out, uint64_t now_us)
{
    (void)all_out;
    (void)now_us;
    return eb_network_give(&((struct eb_run_member *)self)->network, frames, cap);
}

static void taken(void *self, size_t count, uint64_t now_us)
{
    eb_network_taken(&((struct eb_run_member *)self)->network, count, now_us);
}

static const struct ebi_can_engine engine = {receive, tick, give, taken};

/* --- beginnings -------------------------------------------------------------------------------------- */

static void begin(struct eb_run *run, uint8_t doing)
{
    struct eb_run_member *m = run->config.member;
    uint8_t node = run->config.target.node;
    m->doing = doing;
    m->until_us = run->now_us + 2ULL * EB_NETWORK_PATIENCE_US; /* an adapter may come back in between */
    run->step++;
    run->active = EB_ACCESSES_MAX;
    run->step_end_us = run->now_us;
    if (doing == LOOKING)
        eb_network_read(&m->network, node, node, &m->entry, false, run->now_us);
    else if (doing == TAKING_OUT)
        eb_network_take_out(&m->network, &m->found, run->now_us);
    else
        eb_network_give_back(&m->network, &m->found, run->now_us);
}

static void open_link(struct eb_run *run)
{
    struct eb_run_member *m = run->config.member;
    ebi_close_but(run, NULL);
    ebi_can_init(&m->link, &run->contact);
    eb_network_init(&m->network, m->manager);
}

static bool join(struct eb_run *run, uint8_t then)
{
    struct eb_run_member *m = run->config.member;
    if (m->through)
        return false;
    m->through = true;
    m->then = then;
    open_link(run);
    ebi_set_state(run, then == PREPARE ? EBI_JOINING : EBI_PUTTING_BACK);
    begin(run, LOOKING);
    return true;
}

/* --- ends -------------------------------------------------------------------------------------------- */

static void go_on(struct eb_run *run)
{
    struct eb_run_member *m = run->config.member;
    m->doing = NOT_AT_ALL;
    ebi_can_close(&m->link);
    if (m->then == FINISH)
        ebi_finish(run, (enum eb_outcome)m->ending);
    else if (run->stopping)
        ebi_finish(run, EB_OUTCOME_INTERRUPTED);
    else
        ebi_begin_prepare(run);
}

static void give_up(struct eb_run *run, const struct eb_error *error)
{
    struct eb_run_member *m = run->config.member;
    m->doing = NOT_AT_ALL;
    ebi_can_close(&m->link);
    ebi_keep_error(run, error);
    ebi_finish(run, EB_OUTCOME_FAILED);
}

/* What was read of the device itself stays true. */
static bool may_act(struct eb_run *run, enum eb_effect effect)
{
    bool identified = run->identified;
    bool may = ebi_may_act(run, effect);
    run->identified = identified;
    return may;
}

/* What it was found as is written down first. */
static void take_out(struct eb_run *run)
{
    struct eb_run_member *m = run->config.member;
    if (!m->joined)
        m->found = m->entry;
    if (!m->found.listed) { /* there is nothing to take it out of */
        go_on(run);
        return;
    }
    m->joined = true;
    if (!may_act(run, EB_EFFECT_JOIN)) {
        m->joined = false;
        give_up(run, &no_record);
        return;
    }
    begin(run, TAKING_OUT);
}

/* Whether supervision of such members notices so soon that a block of frames in a row could hold up its
 * questions for too long: up to 127 of them. */
static bool is_hasty(const struct eb_member *m)
{
    return m->guard_ms > 0 && m->guard_ms * (m->retries + 1U) < HASTY_MS;
}

/* What is put back in the end is looked at until it is seen twice in a row: an answer may be damaged, or a
 * state pass. */
static bool seen_twice(struct eb_run_member *m)
{
    bool same = m->looks > 0 && m->entry.listed == m->before.listed && m->entry.state == m->before.state &&
                m->entry.supervised == m->before.supervised;
    m->before = m->entry;
    m->looks++;
    return same || m->looks == LOOKS_MAX;
}

/* What was confirmed stays so; a run that was to put things right has not. */
static void not_taken_back(struct eb_run *run, const struct eb_error *error)
{
    struct eb_run_member *m = run->config.member;
    m->error = *error;
    if (m->ending == EB_OUTCOME_CONFIRMED || m->ending == EB_OUTCOME_UP_TO_DATE || run->error.status != EB_OK)
        return;
    ebi_keep_error(run, error);
    if (m->ending == EB_OUTCOME_RECOVERED)
        m->ending = EB_OUTCOME_FAILED;
}

static void after(struct eb_run *run, const struct eb_error *error)
{
    struct eb_run_member *m = run->config.member;
    if (m->doing == GIVING_BACK) {
        m->joined = error != NULL;
        if (error != NULL)
            not_taken_back(run, error);
        m->doing = NOT_AT_ALL;
        m->left = true;
        ebi_can_close(&m->link);
        ebi_finish(run, (enum eb_outcome)m->ending);
    } else if (error != NULL) {
        give_up(run, error);
    } else if (m->doing == LOOKING && run->stopping && m->then == PREPARE) {
        go_on(run);
    } else if (m->doing == LOOKING && !seen_twice(m)) {
        begin(run, LOOKING);
    } else if (m->doing == LOOKING) {
        take_out(run);
    } else {
        run->contact.manager = m->manager;
        run->contact.gentle = is_hasty(&m->found);
        go_on(run);
    }
}

/* --- hooks ------------------------------------------------------------------------------------------- */

static bool save(struct eb_run *run)
{
    return eb_run_documents.save(run) || join(run, PREPARE);
}

/* Whether a run without images is about to write. */
static bool is_to_write(const struct eb_run *run, enum eb_outcome outcome)
{
    bool writes = run->config.change != EB_CHANGE_NOTHING;
    for (size_t i = 0; i < run->config.document_count; i++)
        writes = writes || (run->config.documents[i].source.read != NULL && run->config.documents[i].due);
    return writes && run->config.count == 0 && outcome == EB_OUTCOME_NONE && run->identified &&
           run->error.status == EB_OK && !run->stopping;
}

/* In its loader a manager would reset it, again and again, and perhaps stop the whole network for its sake:
 * it stays out until a program runs.  The same where it was written to and does not answer. */
static bool may_be_supervised(const struct eb_run *run)
{
    bool untouched = run->record.touched == 0 && !run->record.prepared;
    return run->identified ? !run->in_loader : untouched;
}

/* Every run comes by here before it ends. */
static bool put_back(struct eb_run *run, enum eb_outcome outcome)
{
    struct eb_run_member *m = run->config.member;
    bool given_up = run->keeping == EBI_GIVEN_UP;
    if (!given_up && is_to_write(run, outcome) && !m->left) {
        m->ending = (uint8_t)outcome;
        if (join(run, FINISH))
            return true;
    }
    if (!given_up && !m->left && eb_run_documents.put_back(run, outcome))
        return true;
    if (!given_up && m->joined && !m->left && may_be_supervised(run)) {
        may_act(run, EB_EFFECT_LEAVE);
        m->ending = (uint8_t)outcome;
        open_link(run);
        ebi_set_state(run, EBI_PUTTING_BACK);
        begin(run, GIVING_BACK);
        return true;
    }
    if (m->doing != NOT_AT_ALL)
        ebi_can_close(&m->link);
    run->record.prepared = run->record.prepared || m->joined; /* it was left so */
    return false;
}

/* The adapter may be gone for a while, or the bus disturbed: it is tried again until patience is over. */
static void poll(struct eb_run *run)
{
    struct eb_run_member *m = run->config.member;
    if (m->doing == NOT_AT_ALL) {
        eb_run_documents.poll(run);
        return;
    }
    enum eb_status status = ebi_can_exchange(&m->link, m, &engine, m->manager, CO_NODE, run->now_us);
    bool bad_bus = status == EB_IO && !m->link.heard; /* nothing more is sent there */
    if (status != EB_OK && (bad_bus || run->now_us >= m->until_us)) {
        struct eb_error error = {.status = EB_UNREACHABLE, .where = "the CAN adapter"};
        after(run, &error);
    } else if (status != EB_OK) {
        run->step_end_us = run->now_us + EBI_REOPEN_US;
    } else if (m->network.state != EB_NETWORK_BUSY) {
        after(run, m->network.state == EB_NETWORK_FAILED ? &m->network.error : NULL);
    } else {
        run->step_end_us = m->link.more ? run->now_us : eb_network_deadline_us(&m->network);
    }
}

const struct eb_run_documents eb_run_network = {.save = save, .put_back = put_back, .poll = poll};
