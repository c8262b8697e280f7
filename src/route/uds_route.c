/* The way to a unit that speaks UDS: its identity by data identifiers, its program by download (ISO 14229-1).
 *
 *   reading:     READ, identifier after identifier
 *   sending:     EXTENDED --> [FAULTS_OFF --> TALK_OFF] --> PROGRAMMING (until its loader answers) --> SAME
 * (is it the same device) --> [SEED --> KEY] --> [FINGERPRINT] --> ERASE --> DOWNLOAD --> TRANSFER ... -->
 *                EXIT --> [CHECK] --> [UPLOAD --> BACK ... --> BACK_EXIT] --> [DEPENDENCIES]
 *   activating:  RESET
 *
 * SESSION is read where a restart is looked for: the active session is the default one behind it.
 *
 * Everything is asked of the one unit that is meant, never of all. */
#include "base/bytes.h"
#include "einbau/text.h"
#include "route/can_route.h"
#include "wire/uds_wire.h"

#include <string.h>

enum move {
    READ,
    ACTIVE_SESSION,
    EXTENDED,
    FAULTS_OFF,
    TALK_OFF,
    PROGRAMMING,
    SAME,
    SEED,
    KEY,
    FINGERPRINT,
    ERASE,
    DOWNLOAD,
    TRANSFER,
    EXIT,
    CHECK,
    UPLOAD,
    BACK,
    BACK_EXIT,
    DEPENDENCIES,
    RESET
};

enum {
    ANSWER_US = 1000000,
    REPEATS_MAX = 3,
    SEED_BYTES_MAX = 32,
    COUNTER_BYTES = 2,
    DID_ACTIVE_SESSION = 0xF186, /* ISO 14229-1 table C.1 */
    DELAY_US = 1000000 /* between two requests for a seed while the unit says that its delay is not over */
};

static const char *const where[] = {"reading data identifiers",
                                    "reading the active session (22h F186h)",
                                    "extended session (10h)",
                                    "switching fault memory off (85h)",
                                    "switching communication off (28h)",
                                    "programming session (10h)",
                                    "reading the serial number again (22h)",
                                    "security access, seed (27h)",
                                    "security access, key (27h)",
                                    "writing the fingerprint (2Eh)",
                                    "erasing (31h FF00h)",
                                    "request download (34h)",
                                    "transfer data (36h)",
                                    "transfer exit (37h)",
                                    "checking what was written (31h)",
                                    "request upload (35h)",
                                    "reading back (36h)",
                                    "reading back (37h)",
                                    "checking dependencies (31h FF01h)",
                                    "reset (11h)"};

static void receive(struct ebi_route *r, const struct eb_can_frame *frame, uint64_t now_us)
{
    eb_uds_receive(&r->can.uds, frame, now_us);
}

static void tick(struct ebi_route *r, uint64_t now_us)
{
    eb_uds_tick(&r->can.uds, now_us);
}

static size_t give(struct ebi_route *r, struct eb_can_frame *frames, size_t cap, bool all_out,
                   uint64_t now_us)
{
    return eb_uds_give(&r->can.uds, frames, cap, all_out, now_us);
}

static void taken(struct ebi_route *r, size_t count, uint64_t now_us)
{
    eb_uds_taken(&r->can.uds, count, now_us);
}

static const struct ebi_can_engine engine = {receive, tick, give, taken};

static const struct eb_uds_way *way(const struct ebi_route *r)
{
    return &r->config->profile->uds;
}

/* --- moves --------------------------------------------------------------------------------------- */

static void ask(struct ebi_route *r, const uint8_t *bytes, size_t size, uint64_t patience_us, uint64_t now_us)
{
    eb_uds_ask(&r->can.uds, bytes, size, NULL, 0, patience_us, now_us);
}

static void ask_two(struct ebi_route *r, uint8_t service, uint8_t sub, uint64_t now_us)
{
    const uint8_t bytes[2] = {service, sub};
    ask(r, bytes, sizeof bytes, ANSWER_US, now_us);
}

static uint64_t erase_patience_us(const struct ebi_route *r)
{
    return way(r)->erase_patience_ms * 1000ULL;
}

static void ask_value(struct ebi_route *r, uint16_t did, uint64_t now_us)
{
    const uint8_t bytes[3] = {UDS_READ, (uint8_t)(did >> 8), (uint8_t)did};
    ask(r, bytes, sizeof bytes, ANSWER_US, now_us);
}

static void ask_routine(struct ebi_route *r, uint16_t id, const uint8_t *record, size_t size,
                        uint64_t patience_us, uint64_t now_us)
{
    const uint8_t head[4] = {UDS_ROUTINE, UDS_ROUTINE_START, (uint8_t)(id >> 8), (uint8_t)id};
    eb_uds_ask(&r->can.uds, head, sizeof head, record, size, patience_us, now_us);
}

/* 44h: four bytes of address, four of size. */
static void put_area(const struct ebi_route *r, uint8_t area[9])
{
    area[0] = 0x44;
    ebi_put32(area + 1, way(r)->address);
    ebi_put32(area + 5, (uint32_t)r->can.item->source.size_bytes);
}

static uint32_t block_size(const struct ebi_route *r)
{
    uint64_t left = r->can.item->source.size_bytes - r->done_bytes;
    return left < r->can.block_bytes ? (uint32_t)left : r->can.block_bytes;
}

/* The block that follows what is done; read into the very message, which is the caller's buffer. */
static bool ask_transfer(struct ebi_route *r, uint64_t now_us)
{
    const uint8_t head[COUNTER_BYTES] = {UDS_TRANSFER, r->can.counter};
    const struct eb_source *source = &r->can.item->source;
    uint8_t *data = r->config->buffer + COUNTER_BYTES;
    uint32_t size = block_size(r);
    if (source->read(source->self, r->done_bytes, data, size) != EB_OK)
        return false;
    eb_uds_ask(&r->can.uds, head, sizeof head, data, size, r->config->profile->send_patience_ms * 1000ULL,
               now_us);
    return true;
}

static bool ask_key(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_run_config *config = r->config;
    const struct eb_uds *u = &r->can.uds;
    uint8_t head[2] = {UDS_SECURITY, (uint8_t)(way(r)->level + 1)};
    uint8_t key[SEED_BYTES_MAX];
    size_t size = u->answer_size - 2;
    if (way(r)->key != EB_UDS_KEY_CALL)
        eb_uds_key(way(r)->key, way(r)->key_value, u->answer + 2, size, key);
    else if (config->key == NULL || !config->key(config->key_context, u->answer + 2, size, key))
        return false;
    eb_uds_ask(&r->can.uds, head, sizeof head, key, size, ANSWER_US, now_us);
    return true;
}

/* Reading back: the caller's buffer takes the answers, which are as long as blocks were. */
static void begin_back(struct ebi_route *r)
{
    struct ebi_can_route *c = &r->can;
    eb_uds_buffers(&c->uds, c->request, sizeof c->request, r->config->buffer, r->config->buffer_bytes);
    c->back_bytes = 0;
    c->counter = 1;
}

/* The one place where the move changes; what it asks begins with it.  False where it cannot be asked. */
static bool set_move(struct ebi_route *r, enum move move, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    uint8_t area[11] = {UDS_DOWNLOAD, 0};
    uint8_t bytes[19] = {UDS_WRITE, (uint8_t)(way(r)->fingerprint >> 8), (uint8_t)way(r)->fingerprint};
    const struct eb_value *value;
    if (c->move != (uint8_t)move) {
        c->patience_end_us = now_us + r->config->profile->return_patience_ms * 1000ULL;
        c->repeats = 0;
    }
    c->move = (uint8_t)move;
    c->pausing = false;
    r->deadline_us = now_us;
    switch (move) {
    case READ:
    case SAME:
        value = ebi_value_next(r, EB_VALUE_DID);
        if (value != NULL)
            ask_value(r, value->index, now_us);
        return true;
    case ACTIVE_SESSION:
        ask_value(r, DID_ACTIVE_SESSION, now_us);
        return true;
    case EXTENDED:
        ask_two(r, UDS_SESSION, UDS_EXTENDED_SESSION, now_us);
        return true;
    case FAULTS_OFF:
        ask_two(r, UDS_DTC_SETTING, 2, now_us);
        return true;
    case TALK_OFF:
        ask(r, (const uint8_t[]){UDS_COMMUNICATION, 3, 1}, 3, ANSWER_US, now_us);
        return true;
    case PROGRAMMING:
        ask(r, (const uint8_t[]){UDS_SESSION, UDS_PROGRAMMING_SESSION}, 2,
            r->config->profile->return_patience_ms * 1000ULL, now_us);
        return true;
    case SEED:
        ask_two(r, UDS_SECURITY, way(r)->level, now_us);
        return true;
    case KEY:
        return ask_key(r, now_us);
    case FINGERPRINT: /* the file's CRC-32, which tells later what was sent */
        ebi_put32(bytes + 3, c->item->checksum);
        ask(r, bytes, 7, ANSWER_US, now_us);
        return true;
    case ERASE:
        put_area(r, area);
        ask_routine(r, UDS_ERASE, area, 9, erase_patience_us(r), now_us);
        return true;
    case DOWNLOAD:
        put_area(r, area + 2);
        ask(r, area, 11, ANSWER_US, now_us);
        return true;
    case TRANSFER:
        return ask_transfer(r, now_us);
    case EXIT:
        ask(r, (const uint8_t[]){UDS_EXIT}, 1, r->config->profile->send_patience_ms * 1000ULL, now_us);
        return true;
    case CHECK:
        ebi_put32(bytes, c->item->checksum);
        ask_routine(r, way(r)->check_routine, bytes, 4, erase_patience_us(r), now_us);
        return true;
    case UPLOAD:
        area[0] = UDS_UPLOAD;
        put_area(r, area + 2);
        begin_back(r);
        ask(r, area, 11, ANSWER_US, now_us);
        return true;
    case BACK:
        ask(r, (const uint8_t[]){UDS_TRANSFER, c->counter}, 2, r->config->profile->send_patience_ms * 1000ULL,
            now_us);
        return true;
    case BACK_EXIT:
        ask(r, (const uint8_t[]){UDS_EXIT}, 1, ANSWER_US, now_us);
        return true;
    case DEPENDENCIES:
        ask_routine(r, UDS_DEPENDENCIES, NULL, 0, erase_patience_us(r), now_us);
        return true;
    case RESET:
        ask_two(r, UDS_RESET, 1, now_us);
        return true;
    }
    return false;
}

/* The move behind this one, by what the profile asks for. */
static enum move next_move(const struct ebi_route *r)
{
    const struct eb_uds_way *w = way(r);
    switch ((enum move)r->can.move) {
    case EXTENDED:
        return w->quiet ? FAULTS_OFF : PROGRAMMING;
    case SAME:
        if (w->key != EB_UDS_KEY_NONE)
            return SEED;
        return w->fingerprint != 0 ? FINGERPRINT : ERASE;
    case KEY:
        return w->fingerprint != 0 ? FINGERPRINT : ERASE;
    case EXIT:
        if (w->check_routine != 0)
            return CHECK;
        /* fall through */
    case CHECK:
        if (r->config->profile->read_back == EB_READ_BACK_YES)
            return UPLOAD;
        /* fall through */
    case BACK_EXIT:
        return w->dependencies ? DEPENDENCIES : READ;
    case ACTIVE_SESSION:
    case DEPENDENCIES:
    case RESET:
        return READ; /* there is none */
    default:
        return (enum move)(r->can.move + 1);
    }
}

static enum eb_status go_on(struct ebi_route *r, enum move move, uint64_t now_us)
{
    if (r->can.stopping && r->can.move >= EXTENDED && r->can.move < RESET && r->can.move != PROGRAMMING)
        return ebi_can_end_saying(r, where, EB_STOPPED, "");
    if (move == READ)
        return ebi_can_end_well(r);
    if (set_move(r, move, now_us))
        return EB_PENDING;
    return ebi_can_end_saying(r, where, move == KEY ? EB_DENIED : EB_IO,
                              move == KEY ? "the key for its seed is not known here"
                                          : "the image cannot be read");
}

/* Whether the loader answers, by what was read last. */
static bool in_loader(const struct ebi_route *r)
{
    const struct eb_profile *p = r->config->profile;
    char state[EB_NAME_BYTES];
    return ebi_route_value(r, &p->from_state, state, sizeof state) && strcmp(state, p->state_loader) == 0;
}

/* --- answers ------------------------------------------------------------------------------------- */

/* One value was answered, or is refused; EB_PENDING while more are to be read. */
static enum eb_status after_value(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    const struct eb_value *value = ebi_value_next(r, EB_VALUE_DID);
    size_t size = 0;
    if (c->uds.error.status != EB_OK && c->uds.error.status != EB_PEER_ERROR) {
        if (c->repeats++ < (c->answered ? REPEATS_MAX : 1)) { /* a frame was lost */
            set_move(r, (enum move)c->move, now_us);
            return EB_PENDING;
        }
        if (r->answered_kinds[EB_VALUE_DID])
            ebi_route_restarted(r, EB_RESTART_SILENCE);
        return ebi_can_end_with(r, where, &c->uds.error);
    }
    c->repeats = 0;
    r->connected = c->answered = true;
    if (value != NULL) {
        const uint8_t *bytes = eb_uds_value(&c->uds, value->index, &size);
        ebi_value_take(r, value, bytes, bytes != NULL ? size : 0);
    }
    if (ebi_value_next(r, EB_VALUE_DID) != NULL) {
        set_move(r, (enum move)c->move, now_us);
        return EB_PENDING;
    }
    bool same = ebi_can_same_serial(r);
    if (c->move == READ) {
        r->answered_kinds[EB_VALUE_DID] = true;
        return r->watching && r->restart == EB_RESTART_NOT_SEEN ? go_on(r, ACTIVE_SESSION, now_us)
                                                                : ebi_can_end_well(r);
    }
    if (!same)
        return ebi_can_end_other(r, where);
    r->loader_seen = in_loader(r);
    return go_on(r, next_move(r), now_us);
}

/* Its length of a block counts the service and the counter. */
static enum eb_status after_download(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->can.uds;
    uint32_t length = 0;
    size_t bytes = u->answer_size >= 2 ? u->answer[1] >> 4 : 0;
    if (bytes == 0 || bytes > 4 || u->answer_size < 2 + bytes)
        return ebi_can_end_saying(r, where, EB_GARBAGE, "the answer does not say how long a block may be");
    for (size_t i = 0; i < bytes; i++)
        length = length << 8 | u->answer[2 + i];
    if (length > r->config->buffer_bytes)
        length = (uint32_t)r->config->buffer_bytes;
    if (length <= COUNTER_BYTES)
        return ebi_can_end_saying(r, where, EB_GARBAGE, "the answer says that a block may hold nothing");
    r->can.block_bytes = length - COUNTER_BYTES;
    r->can.counter = 1;
    r->done_bytes = 0;
    return go_on(r, TRANSFER, now_us);
}

/* Where the answer was lost the same block is sent once more: the unit does not write it twice. */
static enum eb_status after_transfer(struct ebi_route *r, uint64_t now_us)
{
    if (r->can.uds.state == EB_UDS_FAILED) {
        if (r->can.uds.error.status != EB_NO_ANSWER || r->can.repeats++ >= REPEATS_MAX)
            return ebi_can_end_with(r, where, &r->can.uds.error);
        return go_on(r, TRANSFER, now_us);
    }
    r->can.repeats = 0;
    r->done_bytes += block_size(r);
    r->can.counter++;
    r->all_sent = r->done_bytes == r->can.item->source.size_bytes;
    return go_on(r, r->all_sent ? EXIT : TRANSFER, now_us);
}

/* The first byte of a routine's status is 0 where it went well. */
static enum eb_status after_check(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->can.uds;
    if (u->answer_size >= 5 && u->answer[4] != 0)
        return ebi_can_end_saying(r, where, EB_PEER_ERROR, "the unit finds what was written wrong");
    return go_on(r, next_move(r), now_us);
}

static enum eb_status after_seed(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->can.uds;
    bool locked = false;
    for (size_t i = 2; i < u->answer_size; i++)
        locked = locked || u->answer[i] != 0;
    if (u->answer_size < 3 || u->answer_size - 2 > SEED_BYTES_MAX)
        return ebi_can_end_saying(r, where, EB_GARBAGE, "a seed of no use");
    if (locked)
        return go_on(r, KEY, now_us);
    r->can.move = KEY; /* a seed of zeros: it is unlocked already */
    return go_on(r, next_move(r), now_us);
}

/* Behind a reset the default session is active.  Before that it was another one: that of the transfer, which
 * the questions here keep alive. */
static enum eb_status after_session(struct ebi_route *r)
{
    const struct eb_uds *u = &r->can.uds;
    size_t size = 0;
    const uint8_t *session = eb_uds_value(u, DID_ACTIVE_SESSION, &size);
    if (session != NULL && size == 1 && *session == UDS_DEFAULT_SESSION)
        ebi_route_restarted(r, EB_RESTART_SESSION);
    return ebi_can_end_well(r);
}

/* One block of what the unit holds: compared with the image, in pieces, as there is no second buffer. */
static enum eb_status after_back(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    const struct eb_source *source = &c->item->source;
    const uint8_t *data = c->uds.answer + COUNTER_BYTES;
    size_t size = c->uds.answer_size > COUNTER_BYTES ? c->uds.answer_size - COUNTER_BYTES : 0;
    if (size == 0)
        return ebi_can_end_saying(r, where, EB_UNCONFIRMED, "the unit gives less than was sent");
    for (size_t at = 0; at < size && c->back_bytes < source->size_bytes;) {
        uint8_t expected[64];
        uint64_t left = source->size_bytes - c->back_bytes;
        size_t n = size - at < sizeof expected ? size - at : sizeof expected;
        n = left < n ? (size_t)left : n;
        if (source->read(source->self, c->back_bytes, expected, n) != EB_OK)
            return ebi_can_end_saying(r, where, EB_IO, "the image cannot be read");
        if (memcmp(expected, data + at, n) != 0)
            return ebi_can_end_saying(r, where, EB_UNCONFIRMED, "what the unit holds is not what was sent");
        at += n;
        c->back_bytes += n;
    }
    c->counter++;
    r->read_back = c->back_bytes == source->size_bytes;
    return go_on(r, r->read_back ? BACK_EXIT : BACK, now_us);
}

/* A unit that counts wrong keys says for how long it takes none; it is asked for a seed until that is over.
 */
static bool waits_for_delay(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    bool delay = c->uds.error.status == EB_PEER_ERROR && c->uds.error.number == NRC_DELAY;
    if (c->move != SEED || !delay || now_us >= c->patience_end_us)
        return false;
    ebi_can_pause(r, DELAY_US, now_us);
    return true;
}

static enum eb_status after_answer(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    bool failed = c->uds.state == EB_UDS_FAILED;
    bool silent = failed && c->uds.error.status == EB_NO_ANSWER;
    switch ((enum move)c->move) {
    case READ:
    case SAME:
        return after_value(r, now_us);
    case EXTENDED: /* one that sits in its loader already need not have it */
        if (silent && c->repeats++ < REPEATS_MAX)
            return go_on(r, EXTENDED, now_us);
        if (silent)
            return ebi_can_end_with(r, where, &c->uds.error);
        return go_on(r, failed ? PROGRAMMING : next_move(r), now_us);
    case FAULTS_OFF:
    case TALK_OFF: /* not every unit has it; without it nothing is worse */
        return go_on(r, next_move(r), now_us);
    case PROGRAMMING: /* it may restart into its loader without a word */
        if (silent && now_us < c->patience_end_us) {
            set_move(r, PROGRAMMING, now_us);
            return EB_PENDING;
        }
        if (failed)
            return ebi_can_end_with(r, where, &c->uds.error);
        r->value = 0;
        memset(r->texts, 0, sizeof r->texts);
        return go_on(r, SAME, now_us);
    case TRANSFER:
        return after_transfer(r, now_us);
    case ACTIVE_SESSION:
        return after_session(r);
    case UPLOAD:
    case BACK:
    case BACK_EXIT:
        if (!failed && c->move == BACK)
            return after_back(r, now_us);
        if (failed && c->uds.error.status == EB_PEER_ERROR)
            c->uds.error.retry = EB_RETRY_NEVER; /* it stays unreadable */
        return failed ? ebi_can_end_with(r, where, &c->uds.error) : go_on(r, next_move(r), now_us);
    default:
        break;
    }
    if (failed && waits_for_delay(r, now_us))
        return EB_PENDING;
    /* Erasing and checking are not begun twice; what is asked without harm is. */
    bool harmless = c->move == SEED || c->move == FINGERPRINT || c->move == EXIT || c->move == CHECK ||
                    c->move == DEPENDENCIES || c->move == DOWNLOAD;
    if (silent && harmless && c->repeats++ < REPEATS_MAX)
        return go_on(r, (enum move)c->move, now_us);
    if (failed)
        return ebi_can_end_with(r, where, &c->uds.error);
    switch ((enum move)c->move) {
    case SEED:
        return after_seed(r, now_us);
    case DOWNLOAD:
        return after_download(r, now_us);
    case CHECK:
    case DEPENDENCIES:
    case ERASE:
        return after_check(r, now_us);
    default:
        return go_on(r, next_move(r), now_us);
    }
}

/* ------------------------------------------------------------------------------------------------- */

static void begin(struct ebi_route *r, enum move move, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    bool sends = move == EXTENDED;
    struct eb_isotp_config isotp = r->config->isotp;
    isotp.unpadded = way(r)->unpadded;
    isotp.padding = way(r)->padding;
    ebi_can_begin(r, (uint8_t)move, now_us);
    eb_uds_init(&c->uds, &isotp, sends ? r->config->buffer : c->request,
                sends ? r->config->buffer_bytes : sizeof c->request);
    if (way(r)->answer_patience_ms > EB_UDS_MARGIN_MS)
        c->uds.margin_ms = way(r)->answer_patience_ms;
}

static void identify(struct ebi_route *r, uint64_t now_us)
{
    begin(r, READ, now_us);
    memset(r->texts, 0, sizeof r->texts);
    set_move(r, READ, now_us);
}

static void send(struct ebi_route *r, const struct eb_run_item *item, uint64_t now_us)
{
    begin(r, EXTENDED, now_us);
    r->can.item = item;
    set_move(r, EXTENDED, now_us);
}

static void activate(struct ebi_route *r, uint64_t now_us)
{
    begin(r, RESET, now_us);
    set_move(r, RESET, now_us);
}

static enum eb_status poll(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_can_route *c = &r->can;
    const struct eb_isotp_config *isotp = &r->config->isotp;
    uint32_t mask = isotp->extended_ids ? EB_CAN_EXTENDED_ID_MAX : EB_CAN_ID_MAX;
    for (;;) {
        if (c->pausing && now_us < c->look_us)
            return EB_PENDING;
        if (c->pausing)
            set_move(r, (enum move)c->move, now_us);
        enum eb_status exchanged = ebi_can_exchange(r, &engine, isotp->response, mask, now_us);
        if (exchanged == EB_IO)
            return ebi_can_end_off_bus(r);
        if (exchanged != EB_OK) {
            if (c->move != PROGRAMMING || now_us >= c->patience_end_us)
                return ebi_route_end_simple(r, EB_UNREACHABLE, "the CAN adapter");
            return ebi_can_pause(r, EBI_REOPEN_US, now_us);
        }
        if (c->uds.state == EB_UDS_BUSY)
            return EB_PENDING;
        enum eb_status status = after_answer(r, now_us);
        if (status != EB_PENDING || c->pausing)
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
    return eb_uds_deadline_us(&r->can.uds);
}

/* There is no word for giving up: the unit is left to its own patience, and reset on the way down.  What it
 * does now, erasing perhaps, it brings to its end. */
static void stop(struct ebi_route *r)
{
    r->can.stopping = true;
    if (r->can.move == TRANSFER && r->can.uds.state == EB_UDS_BUSY) {
        r->can.uds.state = EB_UDS_FAILED;
        r->can.uds.error = (struct eb_error){.status = EB_STOPPED, .where = "UDS"};
    }
}

const struct eb_route eb_route_uds = {
    .identify = identify,
    .send = send,
    .activate = activate,
    .undo = activate,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = ebi_can_close,
};
