/* What is asked of a manager, and in which order.
 *
 *   read:       for each node: LIST (1F81h) -- listed --> EXPECTS ... STATE, SUPERVISION --> [ITSELF ...]
 *   take out:   SUPERVISE (off) --> REQUEST (pre-operational) --> STATE, SUPERVISION, again and again until
 * they are so give back:  [the same, once] --> REQUEST (as found) --> SUPERVISE (as found) --> the same
 *
 * A manager that is busy, or does not answer, is asked again: what is asked for may be asked twice. */
#include "einbau/network.h"

#include <string.h>

#include "base/bytes.h"
#include "einbau/port.h"
#include "wire/canopen_wire.h"

enum doing { READ, TAKE_OUT, GIVE_BACK };
enum step {
    LIST,
    EXPECTS,
    STATE = EXPECTS + EB_MEMBER_ITEMS,
    SUPERVISION,
    ITSELF,
    THROUGH = ITSELF + EB_MEMBER_ITEMS
};
/* The same for the other two. */
enum { FIRST_WRITE, SECOND_WRITE };

enum {
    ANSWER_US = 1000000,
    ITSELF_US = 400000, /* of a member that may not be there */
    REPEAT_US = 300000,
    PAUSE_US = 100000,
    ASK_AGAIN_US = 4000000, /* one that took the request, and does not show it */
    HOLDS_US =
        1000000, /* so long, and as long as supervision takes to notice, it has to stay as it was put back */
    HOLDS_MOST_US = 4000000,
    TRIES = 3
};

static const struct {
    uint16_t index;
    uint8_t sub;
    uint16_t list;
    const char *word;
} items[EB_MEMBER_ITEMS] = {{OD_TYPE, 0, OD_MEMBER_TYPE, "device type"},
                            {OD_IDENTITY, 1, OD_MEMBER_VENDOR, "vendor id"},
                            {OD_IDENTITY, 2, OD_MEMBER_PRODUCT, "product code"},
                            {OD_IDENTITY, 3, OD_MEMBER_REVISION, "revision number"},
                            {OD_IDENTITY, 4, OD_MEMBER_SERIAL, "serial number"},
                            {OD_SOFTWARE_TIME, 1, OD_MEMBER_DATE, "software date"},
                            {OD_SOFTWARE_TIME, 2, OD_MEMBER_TIME, "software time"},
                            {OD_PROGRAM_ID, 1, OD_MEMBER_SOFTWARE, "software identification"}};

const char *eb_member_item_word(enum eb_member_item item)
{
    return (size_t)item < EB_MEMBER_ITEMS ? items[item].word : "unknown";
}

const char *eb_nmt_word(uint8_t state)
{
    return state == EB_NMT_STOPPED            ? "stopped"
           : state == EB_NMT_OPERATIONAL      ? "operational"
           : state == EB_NMT_PREOPERATIONAL   ? "pre-operational"
           : state == EB_NMT_MISSING          ? "missing"
           : state == NMT_RESET_NODE          ? "reset node"
           : state == NMT_RESET_COMMUNICATION ? "reset communication"
                                              : "unknown";
}

bool eb_member_differs(const struct eb_member *m, enum eb_member_item item)
{
    bool counts = item < EB_MEMBER_DATE || m->verifies_software;
    return counts && m->expected[item] != 0 && m->answers &&
           ((m->has >> item & 1) == 0 || m->actual[item] != m->expected[item]);
}

/* --- asking ------------------------------------------------------------------------------------------ */

static void ask(struct eb_network *n, uint8_t node, uint16_t index, uint8_t sub, uint64_t now_us)
{
    uint64_t patience_us = node == n->manager ? ANSWER_US : ITSELF_US;
    memset(n->bytes, 0, sizeof n->bytes);
    eb_sdo_init(&n->sdo, node);
    eb_sdo_read(&n->sdo, index, sub, EB_SDO_SEGMENTED, n->bytes, sizeof n->bytes, patience_us, now_us);
    eb_sdo_repeat(&n->sdo, node == n->manager ? REPEAT_US : patience_us / 2, now_us);
}

static void set(struct eb_network *n, uint16_t index, uint8_t value, uint64_t now_us)
{
    n->bytes[0] = value;
    eb_sdo_init(&n->sdo, n->manager);
    eb_sdo_write(&n->sdo, index, n->node, n->bytes, 1, ANSWER_US, now_us);
}

/* Whether the manager is to be asked for a state: one that is none cannot be asked for. */
static bool is_asked_for(uint8_t state)
{
    return state == EB_NMT_STOPPED || state == EB_NMT_OPERATIONAL || state == EB_NMT_PREOPERATIONAL;
}

/* What the member shall be in, and whether supervised. */
static uint8_t aim_state(const struct eb_network *n)
{
    return n->doing == TAKE_OUT ? EB_NMT_PREOPERATIONAL : n->found.state;
}

static bool aim_supervised(const struct eb_network *n)
{
    return n->doing == GIVE_BACK && n->found.supervised;
}

/* The writes, in the order in which supervision is off while the state is another one; false: nothing is to
 * be written. */
static bool write(struct eb_network *n, uint64_t now_us)
{
    bool supervision = (n->doing == TAKE_OUT) == (n->step == FIRST_WRITE);
    if (supervision ? !n->found.supervised : !is_asked_for(aim_state(n)))
        return false;
    if (supervision)
        set(n, OD_GUARD_REQUEST, aim_supervised(n), now_us);
    else
        set(n, OD_NMT_REQUEST, aim_state(n), now_us);
    return true;
}

/* Begins what the step asks for. */
static void begin_step(struct eb_network *n, uint64_t now_us)
{
    n->pausing = false;
    if (n->doing != READ) {
        while (n->step <= SECOND_WRITE && !write(n, now_us))
            n->step++;
        if (n->step > SECOND_WRITE && n->step < STATE)
            n->step = STATE;
    }
    if (n->doing == READ && n->step >= ITSELF)
        ask(n, n->node, items[n->step - ITSELF].index, items[n->step - ITSELF].sub, now_us);
    else if (n->step == STATE)
        ask(n, n->manager, OD_NMT_REQUEST, n->node, now_us);
    else if (n->step == SUPERVISION)
        ask(n, n->manager, OD_GUARD_REQUEST, n->node, now_us);
    else if (n->doing == READ)
        ask(n, n->manager, n->step == LIST ? OD_MEMBERS : items[n->step - EXPECTS].list, n->node, now_us);
}

static void go_to(struct eb_network *n, uint8_t step, uint64_t now_us)
{
    n->step = step;
    n->tries = 0;
    begin_step(n, now_us);
}

static void pause(struct eb_network *n, uint64_t now_us)
{
    n->pausing = true;
    n->wake_us = now_us + PAUSE_US;
}

static void fail(struct eb_network *n, enum eb_status status, const char *text)
{
    size_t size = strlen(text);
    n->state = EB_NETWORK_FAILED;
    n->error = n->sdo.error;
    if (status != EB_OK) {
        n->error = (struct eb_error){.status = status};
        memcpy(n->error.text, text, size < EB_ERROR_TEXT_BYTES ? size : EB_ERROR_TEXT_BYTES - 1);
    }
    n->error.where = "the manager of the network";
}

/* --- answers ----------------------------------------------------------------------------------------- */

static bool is_missing(const struct eb_sdo *sdo)
{
    return sdo->error.status == EB_PEER_ERROR;
}

/* Silence, and what passes: asked again for a while. */
static bool once_more(struct eb_network *n, uint64_t now_us)
{
    uint32_t code = n->sdo.error.number;
    bool passes = n->doing == GIVE_BACK || n->sdo.error.status != EB_PEER_ERROR || code == SDO_E_STATE ||
                  code == SDO_E_CONTROL || code == SDO_E_TRANSFER || code == SDO_E_MEMORY ||
                  code == SDO_E_COMMAND;
    bool may = n->doing == READ ? n->sdo.error.status == EB_NO_ANSWER && ++n->tries < TRIES
                                : passes && now_us < n->until_us;
    if (may)
        pause(n, now_us);
    return may;
}

static void next_member(struct eb_network *n, bool listed, uint64_t now_us)
{
    n->count += listed;
    if (n->node >= n->last) {
        n->state = EB_NETWORK_DONE;
        return;
    }
    n->node++;
    go_to(n, LIST, now_us);
}

static void take_assignment(struct eb_member *m, uint8_t node, uint32_t value)
{
    memset(m, 0, sizeof *m);
    m->node = node;
    m->listed = (value & MEMBER_LISTED) != 0;
    m->boots = (value & MEMBER_BOOT) != 0;
    m->mandatory = (value & MEMBER_MANDATORY) != 0;
    m->verifies_software = (value & MEMBER_VERIFY) != 0;
    m->retries = (uint8_t)(value >> 8);
    m->guard_ms = (uint16_t)(value >> 16);
}

static void after_reading(struct eb_network *n, uint64_t now_us)
{
    struct eb_member *m = &n->list[n->count];
    bool read = n->sdo.state == EB_SDO_DONE;
    uint32_t value = read ? ebi_get32le(n->bytes) : 0;
    bool itself = n->step >= ITSELF;
    if (!read && !itself && !is_missing(&n->sdo)) {
        if (!once_more(n, now_us))
            fail(n, EB_OK, "");
        return;
    }
    if (n->step == LIST) {
        if (!read && n->sdo.error.number == SDO_E_NO_OBJECT) {
            fail(n, EB_PEER_ERROR, "it has no network list (1F81h), so it is not the manager of a network");
            return;
        }
        take_assignment(m, n->node, value);
        if (!m->listed) {
            next_member(n, false, now_us);
            return;
        }
    } else if (n->step < STATE) {
        m->expected[n->step - EXPECTS] = value;
    } else if (n->step == STATE) {
        m->state = (uint8_t)value;
    } else if (n->step == SUPERVISION) {
        m->tells_supervision = read;
        m->supervised = read ? (value & 1) != 0 : m->guard_ms > 0;
        m->asked = n->asks_members;
    } else {
        bool silent = !read && !is_missing(&n->sdo) && n->sdo.error.status != EB_TOO_LARGE;
        m->answers = m->answers || !silent;
        m->has |= (uint8_t)(read ? 1U << (n->step - ITSELF) : 0);
        m->actual[n->step - ITSELF] = value;
        if (silent) { /* or it fell silent: what was read until then is not all of it */
            m->answers = false;
            next_member(n, true, now_us);
            return;
        }
    }
    if (n->step + 1 == (n->asks_members ? THROUGH : ITSELF))
        next_member(n, true, now_us);
    else
        go_to(n, (uint8_t)(n->step + 1), now_us);
}

/* What the manager says is not what was asked for, yet. */
static void not_yet(struct eb_network *n, uint8_t state, uint64_t now_us)
{
    n->so_us = EB_NEVER;
    if (now_us >= n->until_us && n->error.status != EB_OK) {
        n->sdo.error = n->error;
        fail(n, EB_OK, "");
        return;
    }
    if (now_us >= n->until_us) {
        fail(n, EB_UNCONFIRMED,
             n->step == STATE ? "it reports another state of the member than was asked for"
                              : "it reports that the member is supervised as before");
        n->error.number = state;
        return;
    }
    if (now_us >= n->again_us) {
        n->again_us = now_us + ASK_AGAIN_US;
        n->step = FIRST_WRITE;
    } else {
        n->step = STATE;
    }
    pause(n, now_us);
}

/* As was asked for.  A manager that takes a member back may look at it first, and then not start it. */
static void is_so(struct eb_network *n, uint64_t now_us)
{
    uint64_t notices_us = n->found.guard_ms * (n->found.retries + 2ULL) * 1000;
    uint64_t holds_us = HOLDS_US + (notices_us < HOLDS_MOST_US ? notices_us : HOLDS_MOST_US);
    if (n->so_us == EB_NEVER)
        n->so_us = now_us;
    if (n->doing == TAKE_OUT || now_us - n->so_us >= holds_us) {
        n->state = EB_NETWORK_DONE;
        return;
    }
    n->step = STATE;
    pause(n, now_us);
}

static void after_asking(struct eb_network *n, uint64_t now_us)
{
    bool read = n->sdo.state == EB_SDO_DONE;
    bool refused = !read && n->doing == GIVE_BACK && n->step < STATE && is_missing(&n->sdo);
    if (refused) { /* it may want the other one first: all is asked for again */
        n->error = n->sdo.error;
        n->again_us = now_us;
    }
    if (!read && !refused && (n->step < STATE || !is_missing(&n->sdo))) {
        if (!once_more(n, now_us))
            fail(n, EB_OK, "");
        return;
    }
    if (n->step == STATE) {
        /* A manager may not know the state of a member that it does not supervise. */
        bool open = n->bytes[0] == EB_NMT_UNKNOWN && !aim_supervised(n);
        if (read && !open && is_asked_for(aim_state(n)) && n->bytes[0] != aim_state(n))
            not_yet(n, n->bytes[0], now_us);
        else
            go_to(n, SUPERVISION, now_us);
    } else if (n->step == SUPERVISION) {
        if (read && (n->bytes[0] & 1) != aim_supervised(n) && n->found.tells_supervision)
            not_yet(n, n->bytes[0], now_us);
        else
            is_so(n, now_us);
    } else {
        go_to(n, n->step == FIRST_WRITE ? SECOND_WRITE : STATE, now_us);
    }
}

/* ---------------------------------------------------------------------------------------------------- */

void eb_network_init(struct eb_network *n, uint8_t manager)
{
    memset(n, 0, sizeof *n);
    n->manager = manager;
    eb_sdo_init(&n->sdo, manager);
}

static void begin(struct eb_network *n, enum doing doing, uint8_t node, uint64_t now_us)
{
    memset(&n->error, 0, sizeof n->error);
    n->state = EB_NETWORK_BUSY;
    n->doing = (uint8_t)doing;
    n->node = node;
    n->until_us = now_us + EB_NETWORK_PATIENCE_US;
    n->again_us = now_us + ASK_AGAIN_US;
    n->so_us = EB_NEVER;
}

void eb_network_read(struct eb_network *n, uint8_t first, uint8_t last, struct eb_member *list, bool asks,
                     uint64_t now_us)
{
    begin(n, READ, first, now_us);
    n->last = last;
    n->list = list;
    n->count = 0;
    n->asks_members = asks;
    go_to(n, LIST, now_us);
}

void eb_network_take_out(struct eb_network *n, const struct eb_member *found, uint64_t now_us)
{
    begin(n, TAKE_OUT, found->node, now_us);
    n->found = *found;
    go_to(n, FIRST_WRITE, now_us);
}

void eb_network_give_back(struct eb_network *n, const struct eb_member *found, uint64_t now_us)
{
    begin(n, GIVE_BACK, found->node, now_us);
    n->found = *found;
    n->again_us = now_us;
    go_to(n, found->tells_supervision ? STATE : FIRST_WRITE,
          now_us); /* a manager that did not let go of it has nothing to do */
}

static void go_on(struct eb_network *n, uint64_t now_us)
{
    while (n->state == EB_NETWORK_BUSY && !n->pausing && n->sdo.state != EB_SDO_BUSY) {
        if (n->doing == READ)
            after_reading(n, now_us);
        else
            after_asking(n, now_us);
    }
}

void eb_network_receive(struct eb_network *n, const struct eb_can_frame *frame, uint64_t now_us)
{
    if (n->state != EB_NETWORK_BUSY || n->pausing)
        return;
    eb_sdo_receive(&n->sdo, frame, now_us);
    go_on(n, now_us);
}

size_t eb_network_give(struct eb_network *n, struct eb_can_frame *frames, size_t cap)
{
    return n->state == EB_NETWORK_BUSY && !n->pausing ? eb_sdo_give(&n->sdo, frames, cap) : 0;
}

void eb_network_taken(struct eb_network *n, size_t count, uint64_t now_us)
{
    if (n->state == EB_NETWORK_BUSY && !n->pausing)
        eb_sdo_taken(&n->sdo, count, now_us);
}

void eb_network_tick(struct eb_network *n, uint64_t now_us)
{
    if (n->state != EB_NETWORK_BUSY)
        return;
    if (n->pausing && now_us >= n->wake_us)
        begin_step(n, now_us);
    if (n->pausing)
        return;
    eb_sdo_tick(&n->sdo, now_us);
    go_on(n, now_us);
}

uint64_t eb_network_deadline_us(const struct eb_network *n)
{
    if (n->state != EB_NETWORK_BUSY)
        return EB_NEVER;
    return n->pausing ? n->wake_us : eb_sdo_deadline_us(&n->sdo);
}
