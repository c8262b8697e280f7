/* The way to a CANopen node: its identity by SDO, its program by program download (CiA 302-3).
 *
 *   reading:     [ABORT of what a dead job left under way] --> READ, object after object
 *   sending:     QUIET (pre-operational) --> STOP --> LOADER (until it is there, and it is the same device)
 *                --> CLEAR --> CLEARED --> DOWNLOAD --> WRITTEN --> [BACK: read back and compared]
 *   activating:  START
 *
 * NMT commands and everything else are for the one node that is meant, never for all. */
#include "einbau/text.h"
#include "route/can_route.h"
#include "wire/canopen_wire.h"

#include <string.h>

enum move { READ, ABORT, QUIET, STOP, LOADER, CLEAR, CLEARED, DOWNLOAD, WRITTEN, BACK, START };

enum {
    REPEAT_US = 600000,        /* reading: a question that was lost is asked again */
    LOADER_REPEAT_US = 300000, /* while a node starts */
    FLUSH_US = 100000          /* for an abort to leave the adapter */
};

static const char *const where[] = {"reading objects by SDO",
                                    "aborting an earlier transfer",
                                    "setting the node pre-operational",
                                    "stopping the program (1F51h)",
                                    "waiting for the loader",
                                    "clearing the program memory (1F51h)",
                                    "clearing the program memory (1F57h)",
                                    "program download (1F50h)",
                                    "writing the program memory (1F57h)",
                                    "reading back the program (1F50h)",
                                    "starting the program (1F51h)"};

static void receive(struct ebi_route *r, const struct eb_can_frame *frame, uint64_t now_us)
{
    if (frame->id == (uint32_t)CO_ERROR_CONTROL + r->can.node && frame->flags == 0 && frame->size == 1 &&
        frame->data[0] == CO_STATE_BOOT_UP)
        ebi_route_restarted(r, EB_RESTART_BOOT_UP);
    eb_sdo_receive(&r->can.sdo, frame, now_us);
}

/* The moves that are one frame without an answer. */
static bool is_said(const struct ebi_route *r)
{
    return r->can.move == QUIET || r->can.move == ABORT;
}

static void tick(struct ebi_route *r, uint64_t now_us)
{
    if (!is_said(r))
        eb_sdo_tick(&r->can.sdo, now_us);
}

static size_t give(struct ebi_route *r, struct eb_can_frame *frames, size_t cap, bool all_out,
                   uint64_t now_us)
{
    (void)all_out;
    (void)now_us;
    if (is_said(r) && r->can.repeats == 0) {
        const struct eb_can_frame quiet = {
            .id = CO_NMT, .size = 2, .data = {CO_NMT_PREOPERATIONAL, r->can.node}};
        const struct eb_can_frame stop = {.id = (uint32_t)CO_SDO_REQUEST + r->can.node,
                                          .size = 8,
                                          .data = {SDO_ABORT, 0, 0, 0, 0, 0, 4, 5}};
        frames[0] = r->can.move == QUIET ? quiet : stop; /* 05040000h: timed out */
        return 1;
    }
    return eb_sdo_give(&r->can.sdo, frames, cap);
}

static void taken(struct ebi_route *r, size_t count, uint64_t now_us)
{
    if (is_said(r))
        r->can.repeats = r->can.repeats != 0 || count > 0;
    else
        eb_sdo_taken(&r->can.sdo, count, now_us);
}

static const struct ebi_can_engine engine = {receive, tick, give, taken};

static const struct eb_canopen_way *way(const struct ebi_route *r)
{
    return &r->config->profile->canopen;
}

/* --- moves --------------------------------------------------------------------------------------- */

static uint64_t answer_us(const struct ebi_route *r)
{
    return way(r)->answer_patience_ms * 1000ULL;
}

static void read_object(struct ebi_route *r, uint16_t index, uint8_t sub, uint64_t repeat_us, uint64_t now_us)
{
    eb_sdo_init(&r->can.sdo, r->can.node);
    eb_sdo_read(&r->can.sdo, index, sub, EB_SDO_SEGMENTED, r->can.bytes, sizeof r->can.bytes, answer_us(r),
                now_us);
    eb_sdo_repeat(&r->can.sdo, repeat_us, now_us);
}

static void control(struct ebi_route *r, uint8_t what, uint64_t patience_us, uint64_t now_us)
{
    r->can.bytes[0] = what;
    eb_sdo_init(&r->can.sdo, r->can.node);
    eb_sdo_write(&r->can.sdo, OD_PROGRAM_CONTROL, way(r)->program, r->can.bytes, 1, patience_us, now_us);
}

/* The one place where the move changes; what it asks begins with it. */
static void set_move(struct ebi_route *r, enum move move, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    const struct eb_value *value;
    if (c->move != (uint8_t)move)
        c->patience_end_us = now_us + r->config->profile->return_patience_ms * 1000ULL;
    c->move = (uint8_t)move;
    c->pausing = false;
    r->deadline_us = now_us;
    switch (move) {
    case READ:
    case LOADER:
        value = ebi_value_next(r, EB_VALUE_SDO);
        if (value != NULL)
            read_object(r, value->index, value->sub,
                        move == READ && !r->watching ? REPEAT_US : LOADER_REPEAT_US, now_us);
        break;
    case ABORT:
    case QUIET:
        c->repeats = 0;
        break;
    case STOP:
        control(r, PROGRAM_STOP, answer_us(r), now_us);
        break;
    case CLEAR:
        control(r, PROGRAM_CLEAR, way(r)->clear_patience_ms * 1000ULL, now_us);
        break;
    case CLEARED:
    case WRITTEN:
        read_object(r, OD_FLASH_STATUS, way(r)->program, REPEAT_US, now_us);
        break;
    case BACK:
        eb_sdo_init(&c->sdo, c->node);
        eb_sdo_compare(&c->sdo, OD_PROGRAM, way(r)->program,
                       way(r)->segmented ? EB_SDO_SEGMENTED : EB_SDO_BLOCK, &c->item->source, answer_us(r),
                       now_us);
        break;
    case DOWNLOAD:
        eb_sdo_init(&c->sdo, c->node);
        eb_sdo_write_source(&c->sdo, OD_PROGRAM, way(r)->program,
                            way(r)->segmented ? EB_SDO_SEGMENTED : EB_SDO_BLOCK, &c->item->source,
                            way(r)->answer_patience_ms * 1000ULL, now_us);
        break;
    case START:
        control(r, PROGRAM_START, answer_us(r), now_us);
        break;
    }
}

/* Where else it may be, in its loader or out of it: under another node id, at another bit rate. */
static bool try_other_place(struct ebi_route *r)
{
    const struct eb_run_config *config = r->config;
    uint8_t node = way(r)->loader_node != 0 ? way(r)->loader_node : config->node;
    uint32_t bit_rate = way(r)->loader_bit_rate != 0 ? way(r)->loader_bit_rate : config->bit_rate;
    bool there = r->can.node == node && r->can.bit_rate == bit_rate;
    if (node == config->node && bit_rate == config->bit_rate)
        return false;
    r->can.node = there ? config->node : node;
    r->can.bit_rate = there ? config->bit_rate : bit_rate;
    /* What was opened hears only the other place. */
    if (r->can.handle != EB_NO_HANDLE)
        config->port->can_close(config->port->self, r->can.handle);
    r->can.handle = EB_NO_HANDLE;
    return true;
}

/* One value was answered, or is not there; EB_PENDING while more are to be read. */
static enum eb_status take_value(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    const struct eb_value *value = ebi_value_next(r, EB_VALUE_SDO);
    bool there = c->sdo.state == EB_SDO_DONE;
    r->connected = c->answered = true;
    if (value != NULL)
        ebi_value_take(r, value, c->bytes, there ? c->sdo.size : 0);
    if (ebi_value_next(r, EB_VALUE_SDO) == NULL)
        return EB_OK;
    set_move(r, (enum move)c->move, now_us);
    return EB_PENDING;
}

static enum eb_status after_read(struct ebi_route *r, uint64_t now_us)
{
    if (r->can.sdo.error.status == EB_NO_ANSWER) {
        if (r->answered_kinds[EB_VALUE_SDO])
            ebi_route_restarted(r, EB_RESTART_SILENCE);
        if (!r->can.answered && r->can.repeats++ == 0 && try_other_place(r)) {
            set_move(r, READ, now_us);
            return EB_PENDING;
        }
        return ebi_can_end_with(r, where, &r->can.sdo.error);
    }
    if (r->can.sdo.state == EB_SDO_FAILED && r->can.sdo.error.status != EB_PEER_ERROR &&
        r->can.sdo.error.status != EB_TOO_LARGE)
        return ebi_can_end_with(r, where, &r->can.sdo.error);
    if (take_value(r, now_us) == EB_PENDING)
        return EB_PENDING;
    ebi_can_same_serial(r); /* remembers the first one */
    r->answered_kinds[EB_VALUE_SDO] = true;
    return ebi_can_end_well(r);
}

/* Whether it is the loader that answers, and that of the same device: read anew, before anything is erased.
 */
static enum eb_status after_loader(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_profile *p = r->config->profile;
    char state[EB_NAME_BYTES];
    bool ready = false;
    if (r->can.sdo.state == EB_SDO_FAILED && r->can.sdo.error.status == EB_NO_ANSWER)
        try_other_place(r);
    else if (take_value(r, now_us) == EB_PENDING)
        return EB_PENDING;
    else
        ready = p->from_state.count == 0 || (ebi_route_value(r, &p->from_state, state, sizeof state) &&
                                             strcmp(state, p->state_loader) == 0);
    if (!ready) {
        if (now_us >= r->can.patience_end_us)
            return ebi_can_end_saying(r, where, EB_NO_ANSWER, "the loader did not come up");
        r->value = 0;
        ebi_can_pause(r, EBI_LOOK_US, now_us);
        return EB_PENDING;
    }
    if (!ebi_can_same_serial(r))
        return ebi_can_end_other(r, where);
    r->loader_seen = p->from_state.count > 0;
    if (r->can.stopping)
        return ebi_can_end_saying(r, where, EB_STOPPED, "");
    set_move(r, CLEAR, now_us);
    return EB_PENDING;
}

static const char *flash_error_text(unsigned error)
{
    static const char *const texts[] = {"no error",          "no valid program",       "format unknown",
                                        "data or CRC error", "not cleared before",     "write error",
                                        "address error",     "secured against writing"};
    return error < sizeof texts / sizeof texts[0] ? texts[error] : "unspecified error";
}

static enum eb_status after_status(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_sdo *sdo = &r->can.sdo;
    bool cleared = r->can.move == CLEARED;
    uint8_t status = sdo->state == EB_SDO_DONE && sdo->size > 0 ? r->can.bytes[0] : 0;
    unsigned error = status >> 1 & 0x7FU;
    bool silent = sdo->error.status == EB_NO_ANSWER;
    if ((status & FLASH_BUSY) != 0 || silent) {
        if (now_us >= r->can.patience_end_us)
            return ebi_can_end_saying(r, where, EB_NO_ANSWER, silent ? "" : "still busy");
        ebi_can_pause(r, EBI_LOOK_US, now_us);
        return EB_PENDING;
    }
    if (error > 1 || (error == 1 && !cleared)) {
        struct eb_error told = {.status = EB_PEER_ERROR, .code = EB_CODE_FLASH, .number = error};
        eb_text_copy(told.text, sizeof told.text, flash_error_text(error));
        return ebi_can_end_with(r, where, &told);
    }
    if (r->can.stopping && cleared)
        return ebi_can_end_saying(r, where, EB_STOPPED, "");
    if (!cleared && r->config->profile->read_back != EB_READ_BACK_YES)
        return ebi_can_end_well(r);
    set_move(r, cleared ? DOWNLOAD : BACK, now_us);
    return EB_PENDING;
}

/* What the answer to the current move leads to. */
static enum eb_status after_answer(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_sdo *sdo = &r->can.sdo;
    bool failed = sdo->state == EB_SDO_FAILED;
    bool silent = failed && sdo->error.status == EB_NO_ANSWER;
    switch ((enum move)r->can.move) {
    case READ:
        return after_read(r, now_us);
    case STOP: /* it may restart before it has answered */
        if (failed && !silent)
            return ebi_can_end_with(r, where, &sdo->error);
        r->value = 0;
        memset(r->texts, 0, sizeof r->texts);
        set_move(r, LOADER, now_us);
        ebi_can_pause(r,
                      r->config->profile->from_state.count == 0 ? r->config->profile->down_ms * 1000ULL
                                                                : EBI_LOOK_US,
                      now_us);
        return EB_PENDING;
    case LOADER:
        return after_loader(r, now_us);
    case CLEAR: /* its state will tell */
        if (failed && !silent)
            return ebi_can_end_with(r, where, &sdo->error);
        set_move(r, CLEARED, now_us);
        r->can.patience_end_us = now_us + way(r)->clear_patience_ms * 1000ULL;
        return EB_PENDING;
    case CLEARED:
    case WRITTEN:
        return after_status(r, now_us);
    case DOWNLOAD:
        if (failed)
            return ebi_can_end_with(r, where, &sdo->error);
        set_move(r, WRITTEN, now_us);
        r->can.patience_end_us = now_us + r->config->profile->send_patience_ms * 1000ULL;
        return EB_PENDING;
    case BACK:
        if (failed && sdo->error.status == EB_PEER_ERROR) {
            struct eb_error error = sdo->error; /* it stays unreadable */
            error.retry = EB_RETRY_NEVER;
            return ebi_can_end_with(r, where, &error);
        }
        r->read_back = !failed;
        return failed ? ebi_can_end_with(r, where, &sdo->error) : ebi_can_end_well(r);
    default:
        return failed ? ebi_can_end_with(r, where, &sdo->error) : ebi_can_end_well(r);
    }
}

/* ------------------------------------------------------------------------------------------------- */

/* A transfer that a dead job left under way, or this run's own try before, would take the first question for
 * a part of it. */
static void identify(struct ebi_route *r, uint64_t now_us)
{
    bool abort = r->config->interrupted || r->can.transferred;
    r->can.transferred = false;
    ebi_can_begin(r, abort ? ABORT : READ, now_us);
    memset(r->texts, 0, sizeof r->texts);
    set_move(r, abort ? ABORT : READ, now_us);
}

static void send(struct ebi_route *r, const struct eb_run_item *item, uint64_t now_us)
{
    ebi_can_begin(r, QUIET, now_us);
    r->can.item = item;
    set_move(r, QUIET, now_us);
}

static void activate(struct ebi_route *r, uint64_t now_us)
{
    ebi_can_begin(r, START, now_us);
    set_move(r, START, now_us);
}

/* What ended the transfer is told to the node before the adapter is closed. */
static bool flushes(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    if (c->sdo.state != EB_SDO_FAILED || c->sdo.error.status == EB_PEER_ERROR)
        return false;
    if (c->flush_end_us == 0)
        c->flush_end_us = now_us + FLUSH_US;
    return (c->sdo.has_out || !ebi_can_all_out(r)) && now_us < c->flush_end_us;
}

static enum eb_status poll(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    for (;;) {
        if (c->pausing && now_us < c->look_us)
            return EB_PENDING;
        if (c->pausing)
            set_move(r, (enum move)c->move, now_us);
        /* 580h + n, 700h + n, 80h + n: whatever the node says */
        enum eb_status exchanged = ebi_can_exchange(r, &engine, c->node, CO_NODE, now_us);
        if (exchanged == EB_IO)
            return ebi_can_end_off_bus(r);
        if (exchanged != EB_OK) {
            bool once = c->move == READ || c->move == ABORT || c->move == START || c->move == DOWNLOAD;
            if (once || now_us >= c->patience_end_us)
                return ebi_route_end_simple(r, EB_UNREACHABLE, "the CAN adapter");
            ebi_can_pause(r, EBI_REOPEN_US, now_us);
            return EB_PENDING;
        }
        if (is_said(r)) {
            if (c->repeats == 0 && now_us >= c->patience_end_us)
                return ebi_can_end_saying(r, where, EB_UNREACHABLE, "the adapter takes no frames");
            if (c->repeats == 0)
                return EB_PENDING; /* the adapter has no room */
            bool abort = c->move == ABORT;
            c->repeats = 0;
            set_move(r, abort ? READ : STOP, now_us);
            continue;
        }
        if (c->move == DOWNLOAD) {
            c->transferred = true;
            r->done_bytes = c->sdo.done_bytes;
            r->all_sent = c->sdo.done_bytes == c->sdo.total_bytes;
        }
        if (c->sdo.state == EB_SDO_BUSY || flushes(r, now_us))
            return EB_PENDING;
        c->flush_end_us = 0;
        enum eb_status status = after_answer(r, now_us);
        if (status != EB_PENDING)
            return status;
    }
}

static uint64_t deadline_us(const struct ebi_route *r)
{
    if (r->doing == 0)
        return EB_NEVER;
    if (r->can.pausing)
        return r->can.look_us;
    if (r->can.handle == EB_NO_HANDLE)
        return r->deadline_us;
    if (r->more)
        return 0;
    if (is_said(r))
        return r->can.patience_end_us;
    return r->can.sdo.state == EB_SDO_BUSY ? eb_sdo_deadline_us(&r->can.sdo) : r->can.flush_end_us;
}

/* It ends where the node stands well: in its loader, or behind the erasing. */
static void stop(struct ebi_route *r)
{
    r->can.stopping = true;
    if (r->can.move == DOWNLOAD || r->can.move == BACK)
        eb_sdo_stop(&r->can.sdo);
}

const struct eb_route eb_route_canopen = {
    .identify = identify,
    .send = send,
    .activate = activate,
    .undo = activate,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = ebi_can_close,
};
