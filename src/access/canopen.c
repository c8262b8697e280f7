/* A CANopen node: its identity by SDO, its program by program download (CiA 302-3).
 *
 *   reading:     [ABORT of what a dead job left under way] --> READ, object after object
 *   sending:     QUIET (pre-operational) --> STOP --> LOADER (until it is there, and it is the same device)
 *                --> CLEAR --> CLEARED --> DOWNLOAD --> WRITTEN --> [BACK: read back and compared]
 *   activating:  START
 *   a step:      SAY (a command of NMT), or SET
 *   a document:  FETCH, object after object; or PUT, object after object --> KEEP (1010h)
 *
 * NMT commands and everything else are for the one node that is meant, never for all; where a manager keeps
 * the network, it is asked for them, and has set the node pre-operational before. */
#include "einbau/text.h"
#include "access/can_link.h"
#include "base/bytes.h"
#include "wire/canopen_wire.h"

#include <string.h>

enum move {
    READ,
    ABORT,
    QUIET,
    STOP,
    LOADER,
    CLEAR,
    CLEARED,
    DOWNLOAD,
    WRITTEN,
    BACK,
    START,
    SAY,
    SET,
    FETCH,
    PUT,
    KEEP
};

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
                                    "starting the program (1F51h)",
                                    "sending a command of NMT",
                                    "writing objects by SDO",
                                    "reading objects by SDO",
                                    "writing objects by SDO",
                                    "storing objects (1010h)"};

typedef struct eb_access_canopen_context context;

static void receive(void *self, const struct eb_can_frame *frame, uint64_t now_us)
{
    context *r = self;
    if (frame->id == (uint32_t)CO_ERROR_CONTROL + r->node && frame->flags == 0 && frame->size == 1 &&
        frame->data[0] == CO_STATE_BOOT_UP)
        ebi_restarted(r->link.contact, EB_RESTART_BOOT_UP);
    eb_sdo_receive(&r->sdo, frame, now_us);
}

static const struct eb_canopen_step *step_of(const context *r)
{
    return r->link.operation.step->more;
}

/* The moves that are one frame without an answer. */
static bool is_said(const context *r)
{
    return r->link.move == QUIET || r->link.move == ABORT ||
           (r->link.move == SAY && r->link.contact->manager == 0);
}

static void tick(void *self, uint64_t now_us)
{
    context *r = self;
    if (!is_said(r))
        eb_sdo_tick(&r->sdo, now_us);
}

static size_t give(void *self, struct eb_can_frame *frames, size_t cap, bool all_out, uint64_t now_us)
{
    context *r = self;
    (void)all_out;
    (void)now_us;
    if (is_said(r) && r->link.repeats == 0) {
        const uint8_t command = r->link.move == SAY ? step_of(r)->nmt : CO_NMT_PREOPERATIONAL;
        const struct eb_can_frame nmt = {.id = CO_NMT, .size = 2, .data = {command, r->node}};
        const struct eb_can_frame stop = {
            .id = (uint32_t)CO_SDO_REQUEST + r->node, .size = 8, .data = {SDO_ABORT, 0, 0, 0, 0, 0, 4, 5}};
        frames[0] = r->link.move == ABORT ? stop : nmt; /* 05040000h: timed out */
        return 1;
    }
    return eb_sdo_give(&r->sdo, frames, cap);
}

static void taken(void *self, size_t count, uint64_t now_us)
{
    context *r = self;
    if (is_said(r))
        r->link.repeats = r->link.repeats != 0 || count > 0;
    else
        eb_sdo_taken(&r->sdo, count, now_us);
}

static const struct ebi_can_engine engine = {receive, tick, give, taken};

static struct eb_canopen_way way(const context *r)
{
    return eb_canopen_way_of(r->link.contact->profile);
}

/* --- moves --------------------------------------------------------------------------------------- */

static uint64_t answer_us(const context *r)
{
    return way(r).answer_patience_ms * 1000ULL;
}

static void read_object(context *r, uint16_t index, uint8_t sub, uint64_t repeat_us, uint64_t now_us)
{
    eb_sdo_read(&r->sdo, index, sub, EB_SDO_SEGMENTED, r->bytes, sizeof r->bytes, answer_us(r), now_us);
    eb_sdo_repeat(&r->sdo, repeat_us, now_us);
}

static void control(context *r, uint8_t what, uint64_t patience_us, uint64_t now_us)
{
    r->bytes[0] = what;
    eb_sdo_write(&r->sdo, OD_PROGRAM_CONTROL, way(r).program, r->bytes, 1, patience_us, now_us);
}

static void set_object(context *r, uint8_t node, uint16_t index, uint8_t sub, size_t size, uint32_t value,
                       uint64_t now_us)
{
    ebi_put32le(r->bytes, value);
    r->sdo.node = node;
    eb_sdo_write(&r->sdo, index, sub, r->bytes, size, answer_us(r), now_us);
}

/* --- documents ------------------------------------------------------------------------------------- */

enum { PART_HEAD_BYTES = 5 }; /* number and size of a subindex */

static const struct eb_canopen_document *document_of(const context *r)
{
    return r->link.operation.step->more;
}

static enum eb_status read_part(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const context *r = self;
    const struct eb_source *whole = r->link.operation.source;
    return whole->read(whole->self, r->at + PART_HEAD_BYTES + offset, to, size);
}

/* The next subindex of the source is r->sub, its bytes r->part; false: there is none, or it is damaged. */
static bool next_part(context *r)
{
    const struct eb_source *whole = r->link.operation.source;
    uint8_t head[PART_HEAD_BYTES];
    if (whole->size_bytes - r->at < sizeof head ||
        whole->read(whole->self, r->at, head, sizeof head) != EB_OK)
        return false;
    r->sub = head[0];
    r->part = (struct eb_source){.self = r, .size_bytes = ebi_get32le(head + 1), .read = read_part};
    return r->part.size_bytes > 0 && r->part.size_bytes <= whole->size_bytes - r->at - sizeof head;
}

static void begin_document(context *r, enum move move)
{
    const struct eb_sink *sink = r->link.operation.sink;
    r->sub = document_of(r)->first;
    r->at = 0;
    r->any = false;
    if (move == FETCH)
        sink->begin(sink->self);
}

static enum eb_sdo_way transfer_of(const context *r)
{
    return way(r).segmented || r->link.contact->gentle ? EB_SDO_SEGMENTED : EB_SDO_BLOCK;
}

/* A command of NMT as a manager takes it (CiA 302-2, 1F82h). */
static uint8_t request_of(uint8_t command)
{
    uint8_t to_reset = CO_NMT_RESET_NODE - NMT_RESET_NODE; /* 81h, 82h: 6, 7 */
    return command == CO_NMT_PREOPERATIONAL  ? CO_STATE_PREOPERATIONAL
           : command > CO_NMT_PREOPERATIONAL ? (uint8_t)(command - to_reset)
                                             : (uint8_t)(6 - command); /* 1, 2: 5, 4 */
}

/* The one place where the move changes; what it asks begins with it. */
static void set_move(context *r, enum move move, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    const struct eb_value *value;
    if (c->move != (uint8_t)move)
        c->patience_end_us = now_us + r->link.contact->profile->return_patience_ms * 1000ULL;
    c->move = (uint8_t)move;
    c->pausing = false;
    r->link.deadline_us = now_us;
    eb_sdo_init(&r->sdo, r->node);
    switch (move) {
    case READ:
    case LOADER:
        value = ebi_value_next(r->link.contact, &eb_access_canopen, 0);
        if (value != NULL)
            read_object(r, value->index, value->sub,
                        move == READ && !r->link.contact->watching ? REPEAT_US : LOADER_REPEAT_US, now_us);
        break;
    case ABORT:
    case QUIET:
    case SAY:
        c->repeats = 0;
        if (!is_said(r))
            set_object(r, c->contact->manager, OD_NMT_REQUEST, r->node, 1, request_of(step_of(r)->nmt),
                       now_us);
        break;
    case STOP:
        control(r, PROGRAM_STOP, answer_us(r), now_us);
        break;
    case CLEAR:
        control(r, PROGRAM_CLEAR, way(r).clear_patience_ms * 1000ULL, now_us);
        break;
    case CLEARED:
    case WRITTEN:
        read_object(r, OD_FLASH_STATUS, way(r).program, REPEAT_US, now_us);
        break;
    case BACK:
        eb_sdo_compare(&r->sdo, OD_PROGRAM, way(r).program, transfer_of(r), c->operation.source, answer_us(r),
                       now_us);
        break;
    case DOWNLOAD:
        eb_sdo_write_source(&r->sdo, OD_PROGRAM, way(r).program, transfer_of(r), c->operation.source,
                            way(r).answer_patience_ms * 1000ULL, now_us);
        break;
    case START:
        control(r, PROGRAM_START, answer_us(r), now_us);
        break;
    case SET:
        set_object(r, r->node, step_of(r)->index, step_of(r)->sub, step_of(r)->bytes, step_of(r)->value,
                   now_us);
        break;
    case FETCH:
        eb_sdo_read(&r->sdo, document_of(r)->index, (uint8_t)r->sub, EB_SDO_SEGMENTED,
                    r->link.contact->buffer, r->link.contact->buffer_bytes, answer_us(r), now_us);
        eb_sdo_repeat(&r->sdo, REPEAT_US, now_us);
        break;
    case PUT:
        if (r->part.size_bytes <= 4 && read_part(r, 0, r->bytes, (size_t)r->part.size_bytes) == EB_OK)
            eb_sdo_write(&r->sdo, document_of(r)->index, (uint8_t)r->sub, r->bytes,
                         (size_t)r->part.size_bytes, answer_us(r), now_us);
        else
            eb_sdo_write_source(&r->sdo, document_of(r)->index, (uint8_t)r->sub, EB_SDO_SEGMENTED, &r->part,
                                answer_us(r), now_us);
        break;
    case KEEP:
        memcpy(r->bytes, "save", 4); /* CiA 301 section 7.5.2.13 */
        eb_sdo_write(&r->sdo, OD_STORE, document_of(r)->store, r->bytes, 4,
                     c->contact->profile->send_patience_ms * 1000ULL, now_us);
        break;
    }
}

/* What a node does not have is no part of the document. */
static enum eb_status after_fetch(context *r, uint64_t now_us)
{
    const struct eb_sink *sink = r->link.operation.sink;
    const struct eb_sdo *sdo = &r->sdo;
    bool missing = sdo->error.status == EB_PEER_ERROR &&
                   (sdo->error.number == SDO_E_NO_SUB || sdo->error.number == SDO_E_NO_OBJECT);
    bool last = r->sub >= document_of(r)->last;
    enum eb_status status = EB_OK;
    if (sdo->state == EB_SDO_FAILED && (!missing || (last && !r->any)))
        return ebi_can_end_with(&r->link, where, &sdo->error);
    if (!missing) {
        uint8_t head[PART_HEAD_BYTES] = {(uint8_t)r->sub};
        ebi_put32le(head + 1, (uint32_t)sdo->size);
        status = sink->take(sink->self, head, sizeof head);
        if (status == EB_OK)
            status = sink->take(sink->self, r->link.contact->buffer, sdo->size);
        r->any = true;
    }
    if (status != EB_OK)
        return ebi_can_end_saying(&r->link, where, status, "");
    if (last)
        return ebi_can_end_well(&r->link);
    r->sub++;
    set_move(r, FETCH, now_us);
    return EB_PENDING;
}

/* What is read only is left as it is: reading back shows whether it differs. */
static enum eb_status after_put(context *r, uint64_t now_us)
{
    const struct eb_sdo *sdo = &r->sdo;
    bool read_only = sdo->error.status == EB_PEER_ERROR && sdo->error.number == SDO_E_READ_ONLY;
    if (sdo->state == EB_SDO_FAILED && !read_only)
        return ebi_can_end_with(&r->link, where, &sdo->error);
    r->at += PART_HEAD_BYTES + r->part.size_bytes;
    bool more = r->at < r->link.operation.source->size_bytes;
    if (more && !next_part(r))
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE, "the document is damaged");
    if (!more && document_of(r)->store == 0)
        return ebi_can_end_well(&r->link);
    set_move(r, more ? PUT : KEEP, now_us);
    return EB_PENDING;
}

/* Where else it may be, in its loader or out of it: under another node id, at another bit rate. */
static bool try_other_place(context *r)
{
    struct eb_can_link *c = &r->link;
    const struct eb_target *target = c->contact->target;
    const struct eb_port *port = c->contact->port;
    uint8_t node = way(r).loader_node != 0 ? way(r).loader_node : target->node;
    uint32_t bit_rate = way(r).loader_bit_rate != 0 ? way(r).loader_bit_rate : target->bit_rate;
    bool there = r->node == node && c->bit_rate == bit_rate;
    if (node == target->node && bit_rate == target->bit_rate)
        return false;
    r->node = there ? target->node : node;
    c->bit_rate = there ? target->bit_rate : bit_rate;
    /* What was opened hears only the other place. */
    if (c->handle != EB_NO_HANDLE)
        port->can->close(port->self, c->handle);
    c->handle = EB_NO_HANDLE;
    return true;
}

/* One value was answered, or is not there; EB_PENDING while more are to be read. */
static enum eb_status take_value(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    const struct eb_value *value = ebi_value_next(r->link.contact, &eb_access_canopen, 0);
    bool there = r->sdo.state == EB_SDO_DONE;
    r->link.contact->connected = c->answered = true;
    if (value != NULL)
        ebi_value_take(r->link.contact, value, r->bytes, there ? r->sdo.size : 0, true);
    if (ebi_value_next(r->link.contact, &eb_access_canopen, 0) == NULL)
        return EB_OK;
    set_move(r, (enum move)c->move, now_us);
    return EB_PENDING;
}

static enum eb_status after_read(context *r, uint64_t now_us)
{
    if (r->sdo.error.status == EB_NO_ANSWER) {
        if (r->link.has_been)
            ebi_restarted(r->link.contact, EB_RESTART_SILENCE);
        if (!r->link.answered && r->link.repeats++ == 0 && try_other_place(r)) {
            set_move(r, READ, now_us);
            return EB_PENDING;
        }
        return ebi_can_end_with(&r->link, where, &r->sdo.error);
    }
    if (r->sdo.state == EB_SDO_FAILED && r->sdo.error.status != EB_PEER_ERROR &&
        r->sdo.error.status != EB_TOO_LARGE)
        return ebi_can_end_with(&r->link, where, &r->sdo.error);
    if (take_value(r, now_us) == EB_PENDING)
        return EB_PENDING;
    ebi_can_same_serial(&r->link); /* remembers the first one */
    r->link.has_been = true;
    return ebi_can_end_well(&r->link);
}

/* Whether it is the loader that answers, and that of the same device: read anew, before anything is erased.
 */
static enum eb_status after_loader(context *r, uint64_t now_us)
{
    const struct eb_profile *p = r->link.contact->profile;
    char state[EB_NAME_BYTES];
    bool ready = false;
    if (r->sdo.state == EB_SDO_FAILED && r->sdo.error.status == EB_NO_ANSWER)
        try_other_place(r);
    else if (take_value(r, now_us) == EB_PENDING)
        return EB_PENDING;
    else
        ready = p->from_state.count == 0 ||
                (ebi_value_text(r->link.contact, &p->from_state, state, sizeof state) &&
                 strcmp(state, p->state_loader) == 0);
    if (!ready) {
        if (now_us >= r->link.patience_end_us)
            return ebi_can_end_saying(&r->link, where, EB_NO_ANSWER, "the loader did not come up");
        r->link.contact->value = 0;
        ebi_can_pause(&r->link, EBI_LOOK_US, now_us);
        return EB_PENDING;
    }
    if (!ebi_can_same_serial(&r->link))
        return ebi_can_end_other(&r->link, where);
    r->link.contact->loader_seen = p->from_state.count > 0;
    if (r->link.stopping)
        return ebi_can_end_saying(&r->link, where, EB_STOPPED, "");
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

static enum eb_status after_status(context *r, uint64_t now_us)
{
    const struct eb_sdo *sdo = &r->sdo;
    bool cleared = r->link.move == CLEARED;
    uint8_t status = sdo->state == EB_SDO_DONE && sdo->size > 0 ? r->bytes[0] : 0;
    unsigned error = status >> 1 & 0x7FU;
    bool silent = sdo->error.status == EB_NO_ANSWER;
    if ((status & FLASH_BUSY) != 0 || silent) {
        if (now_us >= r->link.patience_end_us)
            return ebi_can_end_saying(&r->link, where, EB_NO_ANSWER, silent ? "" : "still busy");
        ebi_can_pause(&r->link, EBI_LOOK_US, now_us);
        return EB_PENDING;
    }
    if (error > 1 || (error == 1 && !cleared)) {
        struct eb_error told = {.status = EB_PEER_ERROR, .code = EB_CODE_FLASH, .number = error};
        eb_text_copy(told.text, sizeof told.text, flash_error_text(error));
        return ebi_can_end_with(&r->link, where, &told);
    }
    if (r->link.stopping && cleared)
        return ebi_can_end_saying(&r->link, where, EB_STOPPED, "");
    if (!cleared && r->link.contact->profile->read_back != EB_READ_BACK_YES)
        return ebi_can_end_well(&r->link);
    set_move(r, cleared ? DOWNLOAD : BACK, now_us);
    return EB_PENDING;
}

/* What the answer to the current move leads to. */
static enum eb_status after_answer(context *r, uint64_t now_us)
{
    const struct eb_sdo *sdo = &r->sdo;
    bool failed = sdo->state == EB_SDO_FAILED;
    bool silent = failed && sdo->error.status == EB_NO_ANSWER;
    switch ((enum move)r->link.move) {
    case READ:
        return after_read(r, now_us);
    case STOP: /* it may restart before it has answered */
        if (failed && !silent)
            return ebi_can_end_with(&r->link, where, &sdo->error);
        r->link.contact->value = 0;
        ebi_values_forget(r->link.contact);
        set_move(r, LOADER, now_us);
        ebi_can_pause(&r->link,
                      r->link.contact->profile->from_state.count == 0
                          ? r->link.contact->profile->down_ms * 1000ULL
                          : EBI_LOOK_US,
                      now_us);
        return EB_PENDING;
    case LOADER:
        return after_loader(r, now_us);
    case CLEAR: /* its state will tell */
        if (failed && !silent)
            return ebi_can_end_with(&r->link, where, &sdo->error);
        set_move(r, CLEARED, now_us);
        r->link.patience_end_us = now_us + way(r).clear_patience_ms * 1000ULL;
        return EB_PENDING;
    case CLEARED:
    case WRITTEN:
        return after_status(r, now_us);
    case DOWNLOAD:
        if (failed)
            return ebi_can_end_with(&r->link, where, &sdo->error);
        set_move(r, WRITTEN, now_us);
        r->link.patience_end_us = now_us + r->link.contact->profile->send_patience_ms * 1000ULL;
        return EB_PENDING;
    case BACK:
        if (failed && sdo->error.status == EB_PEER_ERROR) {
            struct eb_error error = sdo->error; /* it stays unreadable */
            error.retry = EB_RETRY_NEVER;
            return ebi_can_end_with(&r->link, where, &error);
        }
        r->link.contact->read_back = !failed;
        return failed ? ebi_can_end_with(&r->link, where, &sdo->error) : ebi_can_end_well(&r->link);
    case FETCH:
        return after_fetch(r, now_us);
    case PUT:
        return after_put(r, now_us);
    default:
        return failed ? ebi_can_end_with(&r->link, where, &sdo->error) : ebi_can_end_well(&r->link);
    }
}

/* ------------------------------------------------------------------------------------------------- */

static enum move step_move(const struct eb_operation *operation)
{
    const struct eb_canopen_step *step = operation->step->more;
    return step->nmt != 0 ? SAY : SET;
}

/* A transfer that a dead job left under way, or this run's own try before, would take the first question for
 * a part of it. */
static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *r = self;
    bool abort = operation->kind == EB_READ && (r->link.contact->interrupted || r->transferred);
    enum move first = abort                         ? ABORT
                      : operation->kind == EB_READ  ? READ
                      : operation->kind == EB_SEND  ? r->link.contact->manager != 0 ? STOP : QUIET
                      : operation->kind == EB_FETCH ? FETCH
                      : operation->kind == EB_STORE ? PUT
                      : operation->kind == EB_STEP  ? step_move(operation)
                                                    : START;
    if (operation->kind == EB_READ)
        r->transferred = false;
    ebi_can_begin(&r->link, operation, (uint8_t)first, now_us);
    if (first == FETCH || first == PUT)
        begin_document(r, first);
    if (first == PUT && !next_part(r))
        r->part.size_bytes = 0; /* the engine refuses that */
    set_move(r, first, now_us);
}

/* The abort of a failed transfer is sent to the node before the adapter is closed. */
static bool flushes(context *r, uint64_t now_us)
{
    if (r->sdo.state != EB_SDO_FAILED || r->sdo.error.status == EB_PEER_ERROR)
        return false;
    if (r->flush_end_us == 0)
        r->flush_end_us = now_us + FLUSH_US;
    return (r->sdo.has_out || !ebi_can_all_out(&r->link)) && now_us < r->flush_end_us;
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *r = self;
    struct eb_can_link *c = &r->link;
    for (;;) {
        if (c->pausing && now_us < c->look_us)
            return EB_PENDING;
        if (c->pausing)
            set_move(r, (enum move)c->move, now_us);
        /* 580h + n, 700h + n, 80h + n: whatever the node says, and its manager */
        enum eb_status exchanged =
            ebi_can_exchange(&r->link, r, &engine, r->node, c->contact->manager != 0 ? 0 : CO_NODE, now_us);
        if (exchanged == EB_IO)
            return ebi_can_end_off_bus(&r->link);
        if (exchanged != EB_OK) {
            bool once = c->move == READ || c->move == ABORT || c->move == DOWNLOAD || c->move >= START;
            if (once || now_us >= c->patience_end_us)
                return ebi_can_end_at(&r->link, EB_UNREACHABLE, "the CAN adapter");
            ebi_can_pause(&r->link, EBI_REOPEN_US, now_us);
            return EB_PENDING;
        }
        if (is_said(r)) {
            if (c->repeats == 0 && now_us >= c->patience_end_us)
                return ebi_can_end_saying(&r->link, where, EB_UNREACHABLE, "the adapter takes no frames");
            if (c->repeats == 0)
                return EB_PENDING; /* the adapter has no room */
            if (c->move == SAY)
                return ebi_can_end_well(c);
            bool abort = c->move == ABORT;
            c->repeats = 0;
            set_move(r, abort ? READ : STOP, now_us);
            continue;
        }
        if (c->move == DOWNLOAD) {
            r->transferred = true;
            r->link.contact->done_bytes = r->sdo.done_bytes;
            r->link.contact->all_sent = r->sdo.done_bytes == r->sdo.total_bytes;
        }
        if (r->sdo.state == EB_SDO_BUSY || flushes(r, now_us))
            return EB_PENDING;
        r->flush_end_us = 0;
        enum eb_status status = after_answer(r, now_us);
        if (status != EB_PENDING)
            return status;
    }
}

static uint64_t deadline_us(const void *self)
{
    const context *r = self;
    return ebi_can_deadline_us(&r->link, is_said(r)                    ? r->link.patience_end_us
                                         : r->sdo.state == EB_SDO_BUSY ? eb_sdo_deadline_us(&r->sdo)
                                                                       : r->flush_end_us);
}

/* It ends where the node stands well: in its loader, or behind the erasing. */
static void stop(void *self)
{
    context *r = self;
    r->link.stopping = true;
    if (r->link.move == DOWNLOAD || r->link.move == BACK)
        eb_sdo_stop(&r->sdo);
}

static void close(void *self)
{
    ebi_can_close(&((context *)self)->link);
}

static void init(void *self, struct eb_contact *contact)
{
    context *r = self;
    memset(r, 0, sizeof *r);
    ebi_can_init(&r->link, contact);
    r->node = contact->target->node;
}

static const struct eb_field fields[] = {
    {"sdo", EB_FIELD_NUMBER, EBI_VALUE(index), .least = 1, .most = 0xFFFF},
    {"sub", EB_FIELD_NUMBER, EBI_VALUE(sub), .most = 255},
    {"as", EB_FIELD_WORD, EBI_VALUE(form), .words = ebi_forms}};
static const struct eb_row sources[] = {{"sdo", .fields = fields, .count = 3, .list = EB_LIST_SUB}};

#define WAY(member) EBI_WAY(struct eb_canopen_way, member)
static const char *const transfers[] = {"block", "segmented", NULL};
static const char *const members[] = {"one-by-one", "at-once", NULL};
static const struct eb_field way_fields[] = {
    {"program", EB_FIELD_NUMBER, WAY(program), .least = 1, .most = 254},
    {"loader-node", EB_FIELD_NUMBER, WAY(loader_node), .least = 1, .most = 127},
    {"loader-bit-rate", EB_FIELD_NUMBER, WAY(loader_bit_rate), .least = 5000, .most = 1000000},
    {"clear-patience-s", EB_FIELD_SECONDS, WAY(clear_patience_ms), .least = 1, .most = 3600, .otherwise = 60},
    {"answer-patience-s", EB_FIELD_SECONDS, WAY(answer_patience_ms), .least = 1, .most = 600, .otherwise = 3},
    {"transfer", EB_FIELD_WORD, WAY(segmented), .words = transfers},
    {"members", EB_FIELD_WORD, WAY(members_at_once), .words = members}};
_Static_assert(sizeof(struct eb_canopen_way) <= EB_WAY_BYTES, "a profile holds it");

static void complete(struct eb_profile *profile)
{
    profile->sends = eb_canopen_way_of(profile).program != 0; /* else it is only looked at */
}

static const struct eb_section section = {.key = "canopen",
                                          .fields = way_fields,
                                          .count = sizeof way_fields / sizeof way_fields[0],
                                          .elsewhere = "it read by 'sdo', as the device speaks CANopen",
                                          .complete = complete};

#define DOCUMENT(member)                                                                                     \
    .bytes = sizeof(((struct eb_canopen_document *)0)->member),                                              \
    .offset = offsetof(struct eb_canopen_document, member)
static const struct eb_field document_fields[] = {
    {"index", EB_FIELD_NUMBER, DOCUMENT(index), .needed = true, .least = 1, .most = 0xFFFF},
    {"first-sub", EB_FIELD_NUMBER, DOCUMENT(first), .most = 254},
    {"last-sub", EB_FIELD_NUMBER, DOCUMENT(last), .most = 254},
    {"store", EB_FIELD_NUMBER, DOCUMENT(store), .least = 1, .most = 127}};
static const struct eb_row documents[] = {
    {"sdo", 0, document_fields, 4, sizeof(struct eb_canopen_document), EB_LIST_NONE}};

#define STEP(member)                                                                                         \
    .bytes = sizeof(((struct eb_canopen_step *)0)->member), .offset = offsetof(struct eb_canopen_step, member)
static const struct eb_field set_fields[] = {
    {"index", EB_FIELD_NUMBER, STEP(index), .needed = true, .least = 1, .most = 0xFFFF},
    {"sub", EB_FIELD_NUMBER, STEP(sub), .most = 254},
    {"value", EB_FIELD_NUMBER, STEP(value), .needed = true, .most = UINT32_MAX},
    {"bytes", EB_FIELD_NUMBER, STEP(bytes), .least = 1, .most = 4, .otherwise = 4}};
static const struct eb_field nmt_fields[] = {
    {"command", EB_FIELD_NUMBER, STEP(nmt), .needed = true, .least = 1, .most = 0x82}};
static const struct eb_row steps[] = {
    {"write-sdo", 0, set_fields, 4, sizeof(struct eb_canopen_step), EB_LIST_NONE},
    {"nmt", 0, nmt_fields, 1, sizeof(struct eb_canopen_step), EB_LIST_NONE}};

const struct eb_rows eb_rows_canopen = {.sources = sources,
                                        .source_count = sizeof sources / sizeof sources[0],
                                        .steps = steps,
                                        .step_count = 2,
                                        .documents = documents,
                                        .document_count = 1,
                                        .section = &section};

const struct eb_access eb_access_canopen = {
    .word = "canopen",
    .title = "SDO",
    .wire = EB_WIRE_CAN,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_STEP) | EB_ABLE(EB_SEND) | EB_ABLE(EB_ACTIVATE) | EB_ABLE(EB_UNDO) |
            EB_ABLE(EB_FETCH) | EB_ABLE(EB_STORE) | EB_ABLE_TO_READ_BACK,
    .needs = EB_NEEDS_CAN,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
};
