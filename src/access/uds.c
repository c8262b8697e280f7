/* A unit that speaks UDS: its identity by data identifiers, its program by download (ISO 14229-1).
 *
 *   reading:     READ, identifier after identifier --> [FAULTS]
 *   sending:     EXTENDED --> [FAULTS_OFF --> TALK_OFF] --> PROGRAMMING (until its loader answers) --> SAME
 * (is it the same device) --> [SEED --> KEY] --> [FINGERPRINT] --> ERASE --> DOWNLOAD --> TRANSFER ... -->
 *                EXIT --> [CHECK] --> [UPLOAD --> BACK ... --> BACK_EXIT] --> [DEPENDENCIES]
 *   activating:  RESET
 *   a document:  [EXTENDED] --> FETCH, identifier after identifier --> [DEFAULT], or
 *                [EXTENDED] --> [SEED --> KEY] --> PUT, identifier after identifier --> [DEFAULT]
 *
 * SESSION is read where a restart is looked for: the active session is the default one behind it.
 *
 * Everything is asked of the one unit that is meant, never of all. */
#include "base/bytes.h"
#include "einbau/text.h"
#include "access/can_link.h"
#include "wire/uds_wire.h"

#include <string.h>

enum move {
    READ,
    FAULTS,
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
    RESET,
    ROUTINE,
    FETCH,
    PUT,
    DEFAULT
};

/* Kinds of values, and of steps. */
enum { VALUE_IDENTIFIER, VALUE_FAULT };
enum { STEP_RESET, STEP_ROUTINE };

enum {
    ANSWER_US = 1000000,
    REPEATS_MAX = 3,
    SEED_BYTES_MAX = 32,
    COUNTER_BYTES = 2,
    DID_ACTIVE_SESSION = 0xF186, /* ISO 14229-1 table C.1 */
    DELAY_US = 1000000 /* between two requests for a seed while the unit says that its delay is not over */
};

static const char *const where[] = {"reading data identifiers",
                                    "reading trouble codes (19h 02h)",
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
                                    "reset (11h)",
                                    "starting a routine (31h)",
                                    "reading data identifiers (22h)",
                                    "writing data identifiers (2Eh)",
                                    "default session (10h)"};

typedef struct eb_access_uds_context context;

static void receive(void *self, const struct eb_can_frame *frame, uint64_t now_us)
{
    context *r = self;
    eb_uds_receive(&r->uds, frame, now_us);
}

static void tick(void *self, uint64_t now_us)
{
    context *r = self;
    eb_uds_tick(&r->uds, now_us);
}

static size_t give(void *self, struct eb_can_frame *frames, size_t cap, bool all_out, uint64_t now_us)
{
    context *r = self;
    return eb_uds_give(&r->uds, frames, cap, all_out, now_us);
}

static void taken(void *self, size_t count, uint64_t now_us)
{
    context *r = self;
    eb_uds_taken(&r->uds, count, now_us);
}

static const struct ebi_can_engine engine = {receive, tick, give, taken};

static struct eb_uds_way way(const context *r)
{
    return eb_uds_way_of(r->link.contact->profile);
}

/* --- moves --------------------------------------------------------------------------------------- */

static void ask(context *r, const uint8_t *bytes, size_t size, uint64_t patience_us, uint64_t now_us)
{
    eb_uds_ask(&r->uds, bytes, size, NULL, 0, patience_us, now_us);
}

static void ask_two(context *r, uint8_t service, uint8_t sub, uint64_t now_us)
{
    const uint8_t bytes[2] = {service, sub};
    ask(r, bytes, sizeof bytes, ANSWER_US, now_us);
}

static uint64_t erase_patience_us(const context *r)
{
    return way(r).erase_patience_ms * 1000ULL;
}

static void ask_value(context *r, uint16_t did, uint64_t now_us)
{
    const uint8_t bytes[3] = {UDS_READ, (uint8_t)(did >> 8), (uint8_t)did};
    ask(r, bytes, sizeof bytes, ANSWER_US, now_us);
}

/* ISO 14229-1 section 11.3, reportDTCByStatusMask; the mask is that of the profile's first such value. */
static void ask_faults(context *r, uint64_t now_us)
{
    const struct eb_value *value;
    r->link.contact->value = 0;
    value = ebi_value_next(r->link.contact, &eb_access_uds, VALUE_FAULT);
    const uint8_t bytes[3] = {UDS_FAULTS, UDS_FAULTS_BY_MASK, value != NULL ? (uint8_t)value->index : 0xFF};
    ask(r, bytes, sizeof bytes, ANSWER_US, now_us);
}

static void ask_routine(context *r, uint16_t id, const uint8_t *record, size_t size, uint64_t patience_us,
                        uint64_t now_us)
{
    const uint8_t head[4] = {UDS_ROUTINE, UDS_ROUTINE_START, (uint8_t)(id >> 8), (uint8_t)id};
    eb_uds_ask(&r->uds, head, sizeof head, record, size, patience_us, now_us);
}

/* 44h: four bytes of address, four of size. */
static void put_area(const context *r, uint8_t area[9])
{
    area[0] = 0x44;
    ebi_put32(area + 1, way(r).address);
    ebi_put32(area + 5, (uint32_t)r->link.operation.source->size_bytes);
}

static uint32_t block_size(const context *r)
{
    uint64_t left = r->link.operation.source->size_bytes - r->link.contact->done_bytes;
    return left < r->block_bytes ? (uint32_t)left : r->block_bytes;
}

/* The block that follows what is done; read into the very message, which is the caller's buffer. */
static bool ask_transfer(context *r, uint64_t now_us)
{
    const uint8_t head[COUNTER_BYTES] = {UDS_TRANSFER, r->counter};
    const struct eb_source *source = r->link.operation.source;
    uint8_t *data = r->link.contact->buffer + COUNTER_BYTES;
    uint32_t size = block_size(r);
    if (source->read(source->self, r->link.contact->done_bytes, data, size) != EB_OK)
        return false;
    eb_uds_ask(&r->uds, head, sizeof head, data, size, r->link.contact->profile->send_patience_ms * 1000ULL,
               now_us);
    return true;
}

static bool ask_key(context *r, uint64_t now_us)
{
    const struct eb_target *target = r->link.contact->target;
    const struct eb_uds *u = &r->uds;
    uint8_t head[2] = {UDS_SECURITY, (uint8_t)(way(r).level + 1)};
    uint8_t key[SEED_BYTES_MAX];
    size_t size = u->answer_size - 2;
    if (way(r).key != EB_UDS_KEY_CALL)
        eb_uds_key(way(r).key, way(r).key_value, u->answer + 2, size, key);
    else if (target->key == NULL || !target->key(target->key_context, u->answer + 2, size, key))
        return false;
    eb_uds_ask(&r->uds, head, sizeof head, key, size, ANSWER_US, now_us);
    return true;
}

/* Reading back: the caller's buffer takes the answers, which are as long as blocks were. */
static void begin_back(context *r)
{
    const struct eb_contact *c = r->link.contact;
    eb_uds_buffers(&r->uds, r->request, sizeof r->request, c->buffer, c->buffer_bytes);
    r->back_bytes = 0;
    r->counter = 1;
}

/* --- documents ------------------------------------------------------------------------------------- */

enum { PART_HEAD_BYTES = 6 }; /* number and size of an identifier */

static bool is_document(const context *r)
{
    return r->link.operation.kind == EB_FETCH || r->link.operation.kind == EB_STORE;
}

static const struct eb_uds_document *document_of(const context *r)
{
    return r->link.operation.step->more;
}

/* The move behind the session and the security access. */
static enum move document_move(const context *r)
{
    bool stores = r->link.operation.kind == EB_STORE;
    bool unlocked = r->link.move == KEY || !document_of(r)->locked;
    return !stores ? FETCH : unlocked ? PUT : SEED;
}

/* The next identifier of the source: its head; false: there is none, or it is damaged. */
static bool next_part(context *r)
{
    const struct eb_source *whole = r->link.operation.source;
    uint8_t head[PART_HEAD_BYTES];
    if (whole->size_bytes - r->back_bytes < sizeof head ||
        whole->read(whole->self, r->back_bytes, head, sizeof head) != EB_OK)
        return false;
    r->did = ebi_get16(head);
    r->did_bytes = ebi_get32le(head + 2);
    return r->did_bytes > 0 && r->did_bytes <= whole->size_bytes - r->back_bytes - sizeof head;
}

/* Read into the very message, which is the caller's buffer. */
static bool ask_put(context *r, uint64_t now_us)
{
    const struct eb_source *whole = r->link.operation.source;
    const uint8_t head[3] = {UDS_WRITE, (uint8_t)(r->did >> 8), (uint8_t)r->did};
    uint8_t *data = r->link.contact->buffer + sizeof head;
    if (r->did_bytes > r->link.contact->buffer_bytes - sizeof head ||
        whole->read(whole->self, r->back_bytes + PART_HEAD_BYTES, data, r->did_bytes) != EB_OK)
        return false;
    eb_uds_ask(&r->uds, head, sizeof head, data, r->did_bytes,
               r->link.contact->profile->send_patience_ms * 1000ULL, now_us);
    return true;
}

/* The one place where the move changes; what it asks begins with it.  False where it cannot be asked. */
static bool set_move(context *r, enum move move, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    uint8_t area[11] = {UDS_DOWNLOAD, 0};
    uint8_t bytes[19] = {UDS_WRITE, (uint8_t)(way(r).fingerprint >> 8), (uint8_t)way(r).fingerprint};
    const struct eb_value *value;
    if (c->move != (uint8_t)move) {
        c->patience_end_us = now_us + r->link.contact->profile->return_patience_ms * 1000ULL;
        c->repeats = 0;
    }
    c->move = (uint8_t)move;
    c->pausing = false;
    r->link.deadline_us = now_us;
    switch (move) {
    case READ:
    case SAME:
        value = ebi_value_next(r->link.contact, &eb_access_uds, VALUE_IDENTIFIER);
        if (value != NULL)
            ask_value(r, value->index, now_us);
        return true;
    case FAULTS:
        ask_faults(r, now_us);
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
            r->link.contact->profile->return_patience_ms * 1000ULL, now_us);
        return true;
    case SEED:
        ask_two(r, UDS_SECURITY, way(r).level, now_us);
        return true;
    case KEY:
        return ask_key(r, now_us);
    case FINGERPRINT: /* the file's CRC-32, which tells later what was sent */
        ebi_put32(bytes + 3, c->operation.checksum);
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
        ask(r, (const uint8_t[]){UDS_EXIT}, 1, r->link.contact->profile->send_patience_ms * 1000ULL, now_us);
        return true;
    case CHECK:
        ebi_put32(bytes, c->operation.checksum);
        ask_routine(r, way(r).check_routine, bytes, 4, erase_patience_us(r), now_us);
        return true;
    case UPLOAD:
        area[0] = UDS_UPLOAD;
        put_area(r, area + 2);
        begin_back(r);
        ask(r, area, 11, ANSWER_US, now_us);
        return true;
    case BACK:
        ask(r, (const uint8_t[]){UDS_TRANSFER, r->counter}, 2,
            r->link.contact->profile->send_patience_ms * 1000ULL, now_us);
        return true;
    case BACK_EXIT:
        ask(r, (const uint8_t[]){UDS_EXIT}, 1, ANSWER_US, now_us);
        return true;
    case DEPENDENCIES:
        ask_routine(r, UDS_DEPENDENCIES, NULL, 0, erase_patience_us(r), now_us);
        return true;
    case RESET:
        ask_two(r, UDS_RESET, c->operation.kind == EB_STEP ? (uint8_t)c->operation.step->value : 1, now_us);
        return true;
    case ROUTINE:
        ask_routine(r, c->operation.step->address, NULL, 0, erase_patience_us(r), now_us);
        return true;
    case FETCH:
        ask_value(r, r->did, now_us);
        return true;
    case PUT:
        return ask_put(r, now_us);
    case DEFAULT:
        ask_two(r, UDS_SESSION, UDS_DEFAULT_SESSION, now_us);
        return true;
    }
    return false;
}

/* The move behind this one, by what the profile asks for. */
static enum move next_move(const context *r)
{
    const struct eb_uds_way w = way(r);
    if (is_document(r) && r->link.move != SEED)
        return document_move(r);
    if (r->link.operation.kind == EB_STEP && r->link.move != SEED)
        return r->link.move >= RESET                                            ? READ
               : r->link.move == EXTENDED && r->link.operation.step->value != 0 ? SEED
                                                                                : ROUTINE;
    switch ((enum move)r->link.move) {
    case EXTENDED:
        return w.quiet ? FAULTS_OFF : PROGRAMMING;
    case SAME:
        if (w.key != EB_UDS_KEY_NONE)
            return SEED;
        return w.fingerprint != 0 ? FINGERPRINT : ERASE;
    case KEY:
        return w.fingerprint != 0 ? FINGERPRINT : ERASE;
    case EXIT:
        if (w.check_routine != 0)
            return CHECK;
        /* fall through */
    case CHECK:
        if (r->link.contact->profile->read_back == EB_READ_BACK_YES)
            return UPLOAD;
        /* fall through */
    case BACK_EXIT:
        return w.dependencies ? DEPENDENCIES : READ;
    case ACTIVE_SESSION:
    case DEPENDENCIES:
    case RESET:
    case ROUTINE:
        return READ; /* there is none */
    default:
        return (enum move)(r->link.move + 1);
    }
}

static enum eb_status go_on(context *r, enum move move, uint64_t now_us)
{
    if (r->link.stopping && r->link.move >= EXTENDED && r->link.move < RESET && r->link.move != PROGRAMMING)
        return ebi_can_end_saying(&r->link, where, EB_STOPPED, "");
    if (move == READ)
        return ebi_can_end_well(&r->link);
    if (set_move(r, move, now_us))
        return EB_PENDING;
    return ebi_can_end_saying(&r->link, where, move == KEY ? EB_DENIED : EB_IO,
                              move == KEY   ? "the key for its seed is not known here"
                              : move == PUT ? "the document cannot be read"
                                            : "the image cannot be read");
}

/* --- answers ------------------------------------------------------------------------------------- */

/* Which code the unit lists at this place, "C10050h": behind service, sub-function and mask each has four
 * bytes, the last its status. */
static void read_fault(const void *answer, const struct eb_value *value, char *text)
{
    const struct eb_uds *u = answer;
    size_t at = 3 + 4 * (size_t)value->item;
    struct eb_text out;
    text[0] = '\0';
    if (u->state != EB_UDS_DONE || at + 4 > u->answer_size)
        return;
    eb_text_init(&out, text, EB_NAME_BYTES);
    eb_text_add_hex(&out, (uint32_t)u->answer[at] << 16 | ebi_get16(u->answer + at + 1), 6);
    eb_text_add(&out, "h");
}

/* All values are read. */
static enum eb_status after_reading(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    bool same = ebi_can_same_serial(&r->link);
    if (c->move != SAME) {
        r->link.has_been = true;
        return r->link.contact->watching && r->link.contact->restart == EB_RESTART_NOT_SEEN
                   ? go_on(r, ACTIVE_SESSION, now_us)
                   : ebi_can_end_well(&r->link);
    }
    if (!same)
        return ebi_can_end_other(&r->link, where);
    r->link.contact->loader_seen = ebi_in_loader(r->link.contact);
    return go_on(r, next_move(r), now_us);
}

/* One value was answered, or is refused; EB_PENDING while more are to be read. */
static enum eb_status after_value(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    const struct eb_value *value = ebi_value_next(r->link.contact, &eb_access_uds, VALUE_IDENTIFIER);
    size_t size = 0;
    if (r->uds.error.status != EB_OK && r->uds.error.status != EB_PEER_ERROR) {
        if (c->repeats++ < (c->answered ? REPEATS_MAX : 1)) { /* a frame was lost */
            set_move(r, (enum move)c->move, now_us);
            return EB_PENDING;
        }
        if (r->link.has_been)
            ebi_restarted(r->link.contact, EB_RESTART_SILENCE);
        return ebi_can_end_with(&r->link, where, &r->uds.error);
    }
    c->repeats = 0;
    r->link.contact->connected = c->answered = true;
    if (c->move == FAULTS) {
        ebi_values_take(r->link.contact, &eb_access_uds, VALUE_FAULT, read_fault, &r->uds);
        return after_reading(r, now_us);
    }
    if (value != NULL) {
        const uint8_t *bytes = eb_uds_value(&r->uds, value->index, &size);
        ebi_value_take(r->link.contact, value, bytes, bytes != NULL ? size : 0, false);
    }
    if (ebi_value_next(r->link.contact, &eb_access_uds, VALUE_IDENTIFIER) != NULL) {
        set_move(r, (enum move)c->move, now_us);
        return EB_PENDING;
    }
    if (c->move == READ && ebi_values_wanted(r->link.contact, &eb_access_uds, 1U << VALUE_FAULT))
        return go_on(r, FAULTS, now_us);
    return after_reading(r, now_us);
}

/* Its length of a block counts the service and the counter. */
static enum eb_status after_download(context *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->uds;
    uint32_t length = 0;
    size_t bytes = u->answer_size >= 2 ? u->answer[1] >> 4 : 0;
    if (bytes == 0 || bytes > 4 || u->answer_size < 2 + bytes)
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE,
                                  "the answer does not say how long a block may be");
    for (size_t i = 0; i < bytes; i++)
        length = length << 8 | u->answer[2 + i];
    if (length > r->link.contact->buffer_bytes)
        length = (uint32_t)r->link.contact->buffer_bytes;
    if (length <= COUNTER_BYTES)
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE,
                                  "the answer says that a block may hold nothing");
    r->block_bytes = length - COUNTER_BYTES;
    r->counter = 1;
    r->link.contact->done_bytes = 0;
    return go_on(r, TRANSFER, now_us);
}

/* Where the answer was lost the same block is sent once more: the unit does not write it twice. */
static enum eb_status after_transfer(context *r, uint64_t now_us)
{
    if (r->uds.state == EB_UDS_FAILED) {
        if (r->uds.error.status != EB_NO_ANSWER || r->link.repeats++ >= REPEATS_MAX)
            return ebi_can_end_with(&r->link, where, &r->uds.error);
        return go_on(r, TRANSFER, now_us);
    }
    r->link.repeats = 0;
    r->link.contact->done_bytes += block_size(r);
    r->counter++;
    r->link.contact->all_sent = r->link.contact->done_bytes == r->link.operation.source->size_bytes;
    return go_on(r, r->link.contact->all_sent ? EXIT : TRANSFER, now_us);
}

/* The first byte of a routine's status is 0 where it went well. */
static enum eb_status after_check(context *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->uds;
    if (u->answer_size >= 5 && u->answer[4] != 0)
        return ebi_can_end_saying(&r->link, where, EB_PEER_ERROR, "the unit finds what was written wrong");
    return go_on(r, next_move(r), now_us);
}

static enum eb_status after_seed(context *r, uint64_t now_us)
{
    const struct eb_uds *u = &r->uds;
    bool locked = false;
    for (size_t i = 2; i < u->answer_size; i++)
        locked = locked || u->answer[i] != 0;
    if (u->answer_size < 3 || u->answer_size - 2 > SEED_BYTES_MAX)
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE, "a seed of no use");
    if (locked)
        return go_on(r, KEY, now_us);
    r->link.move = KEY; /* a seed of zeros: it is unlocked already */
    return go_on(r, next_move(r), now_us);
}

/* Behind a reset the default session is active.  Before that it was another one: that of the transfer, which
 * the questions here keep alive. */
static enum eb_status after_session(context *r)
{
    const struct eb_uds *u = &r->uds;
    size_t size = 0;
    const uint8_t *session = eb_uds_value(u, DID_ACTIVE_SESSION, &size);
    if (session != NULL && size == 1 && *session == UDS_DEFAULT_SESSION)
        ebi_restarted(r->link.contact, EB_RESTART_SESSION);
    return ebi_can_end_well(&r->link);
}

/* One block of what the unit holds: compared with the image, in pieces, as there is no second buffer. */
static enum eb_status after_back(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    const struct eb_source *source = c->operation.source;
    const uint8_t *data = r->uds.answer + COUNTER_BYTES;
    size_t size = r->uds.answer_size > COUNTER_BYTES ? r->uds.answer_size - COUNTER_BYTES : 0;
    if (size == 0)
        return ebi_can_end_saying(&r->link, where, EB_UNCONFIRMED, "the unit gives less than was sent");
    for (size_t at = 0; at < size && r->back_bytes < source->size_bytes;) {
        uint8_t expected[64];
        uint64_t left = source->size_bytes - r->back_bytes;
        size_t n = size - at < sizeof expected ? size - at : sizeof expected;
        n = left < n ? (size_t)left : n;
        if (source->read(source->self, r->back_bytes, expected, n) != EB_OK)
            return ebi_can_end_saying(&r->link, where, EB_IO, "the image cannot be read");
        if (memcmp(expected, data + at, n) != 0)
            return ebi_can_end_saying(&r->link, where, EB_UNCONFIRMED,
                                      "what the unit holds is not what was sent");
        at += n;
        r->back_bytes += n;
    }
    r->counter++;
    r->link.contact->read_back = r->back_bytes == source->size_bytes;
    return go_on(r, r->link.contact->read_back ? BACK_EXIT : BACK, now_us);
}

/* A unit that counts wrong keys says for how long it takes none; it is asked for a seed until that is over.
 */
static bool waits_for_delay(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    bool delay = r->uds.error.status == EB_PEER_ERROR && r->uds.error.number == NRC_DELAY;
    if (c->move != SEED || !delay || now_us >= c->patience_end_us)
        return false;
    ebi_can_pause(&r->link, DELAY_US, now_us);
    return true;
}

/* Through with all identifiers. */
static enum eb_status end_document(context *r, uint64_t now_us)
{
    return document_of(r)->extended ? go_on(r, DEFAULT, now_us) : ebi_can_end_well(&r->link);
}

/* What a unit does not have is no part of the document. */
static enum eb_status after_fetch(context *r, bool missing, uint64_t now_us)
{
    const struct eb_sink *sink = r->link.operation.sink;
    size_t size = 0;
    const uint8_t *bytes = missing ? NULL : eb_uds_value(&r->uds, r->did, &size);
    bool last = (uint16_t)(r->did - document_of(r)->first) + 1U >= document_of(r)->count;
    if (last && missing && !r->any)
        return ebi_can_end_with(&r->link, where, &r->uds.error);
    if (!missing && bytes == NULL)
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE, "the answer is about another identifier");
    if (!missing) {
        uint8_t head[PART_HEAD_BYTES];
        ebi_put16(head, r->did);
        ebi_put32le(head + 2, (uint32_t)size);
        enum eb_status status = sink->take(sink->self, head, sizeof head);
        if (status == EB_OK)
            status = sink->take(sink->self, bytes, size);
        if (status != EB_OK)
            return ebi_can_end_saying(&r->link, where, status, "");
        r->any = true;
    }
    r->did++;
    return last ? end_document(r, now_us) : go_on(r, FETCH, now_us);
}

/* What cannot be written is left as it is: reading back shows whether it differs. */
static enum eb_status after_put(context *r, uint64_t now_us)
{
    r->back_bytes += PART_HEAD_BYTES + r->did_bytes;
    if (r->back_bytes >= r->link.operation.source->size_bytes)
        return end_document(r, now_us);
    if (!next_part(r))
        return ebi_can_end_saying(&r->link, where, EB_GARBAGE, "the document is damaged");
    return go_on(r, PUT, now_us);
}

static enum eb_status after_document(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    const struct eb_error *error = &r->uds.error;
    bool failed = r->uds.state == EB_UDS_FAILED;
    bool out_of_range = failed && error->status == EB_PEER_ERROR && error->number == NRC_RANGE;
    if (c->move == DEFAULT)
        return ebi_can_end_well(&r->link);
    if (failed && error->status == EB_NO_ANSWER && c->repeats++ < REPEATS_MAX)
        return go_on(r, (enum move)c->move, now_us);
    if (failed && !out_of_range)
        return ebi_can_end_with(&r->link, where, error);
    c->repeats = 0;
    return c->move == FETCH ? after_fetch(r, out_of_range, now_us) : after_put(r, now_us);
}

static enum eb_status after_answer(context *r, uint64_t now_us)
{
    struct eb_can_link *c = &r->link;
    bool failed = r->uds.state == EB_UDS_FAILED;
    bool silent = failed && r->uds.error.status == EB_NO_ANSWER;
    switch ((enum move)c->move) {
    case READ:
    case FAULTS:
    case SAME:
        return after_value(r, now_us);
    case EXTENDED: /* one that sits in its loader already need not have it */
        if (silent && c->repeats++ < REPEATS_MAX)
            return go_on(r, EXTENDED, now_us);
        if (silent || (failed && r->link.operation.kind != EB_SEND))
            return ebi_can_end_with(&r->link, where, &r->uds.error);
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
            return ebi_can_end_with(&r->link, where, &r->uds.error);
        r->link.contact->value = 0;
        ebi_values_forget(r->link.contact);
        return go_on(r, SAME, now_us);
    case TRANSFER:
        return after_transfer(r, now_us);
    case ACTIVE_SESSION:
        return after_session(r);
    case FETCH:
    case PUT:
    case DEFAULT:
        return after_document(r, now_us);
    case UPLOAD:
    case BACK:
    case BACK_EXIT:
        if (!failed && c->move == BACK)
            return after_back(r, now_us);
        if (failed && r->uds.error.status == EB_PEER_ERROR)
            r->uds.error.retry = EB_RETRY_NEVER; /* it stays unreadable */
        return failed ? ebi_can_end_with(&r->link, where, &r->uds.error) : go_on(r, next_move(r), now_us);
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
        return ebi_can_end_with(&r->link, where, &r->uds.error);
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

/* Where a document begins. */
static enum move begin_document(context *r)
{
    struct eb_contact *c = r->link.contact;
    r->did = document_of(r)->first;
    r->back_bytes = 0;
    r->any = false;
    if (r->link.operation.kind == EB_FETCH) {
        eb_uds_buffers(&r->uds, r->request, sizeof r->request, c->buffer, c->buffer_bytes);
        r->link.operation.sink->begin(r->link.operation.sink->self);
    } else if (!next_part(r)) {
        r->did_bytes = UINT32_MAX; /* which has no room */
    }
    return document_of(r)->extended ? EXTENDED : document_move(r);
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *r = self;
    bool sends = operation->kind == EB_SEND || operation->kind == EB_STORE;
    bool routine = operation->kind == EB_STEP && operation->step->kind == STEP_ROUTINE;
    enum move first = sends || routine ? EXTENDED : operation->kind == EB_READ ? READ : RESET;
    struct eb_isotp_config isotp = r->link.contact->target->isotp;
    isotp.unpadded = !way(r).padded;
    isotp.padding = way(r).padding;
    ebi_can_begin(&r->link, operation, (uint8_t)first, now_us);
    eb_uds_init(&r->uds, &isotp, sends ? r->link.contact->buffer : r->request,
                sends ? r->link.contact->buffer_bytes : sizeof r->request);
    if (way(r).answer_patience_ms > EB_UDS_MARGIN_MS)
        r->uds.margin_ms = way(r).answer_patience_ms;
    if (is_document(r))
        first = begin_document(r);
    if (!set_move(r, first, now_us)) { /* a document that is damaged */
        r->uds.state = EB_UDS_FAILED;
        r->uds.error = (struct eb_error){.status = EB_GARBAGE, .where = "UDS"};
    }
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *r = self;
    struct eb_can_link *c = &r->link;
    const struct eb_isotp_config *isotp = &r->link.contact->target->isotp;
    uint32_t mask = isotp->extended_ids ? EB_CAN_EXTENDED_ID_MAX : EB_CAN_ID_MAX;
    for (;;) {
        if (c->pausing && now_us < c->look_us)
            return EB_PENDING;
        if (c->pausing)
            set_move(r, (enum move)c->move, now_us);
        enum eb_status exchanged = ebi_can_exchange(&r->link, r, &engine, isotp->response, mask, now_us);
        if (exchanged == EB_IO)
            return ebi_can_end_off_bus(&r->link);
        if (exchanged != EB_OK) {
            if (c->move != PROGRAMMING || now_us >= c->patience_end_us)
                return ebi_can_end_at(&r->link, EB_UNREACHABLE, "the CAN adapter");
            return ebi_can_pause(&r->link, EBI_REOPEN_US, now_us);
        }
        if (r->uds.state == EB_UDS_BUSY)
            return EB_PENDING;
        enum eb_status status = after_answer(r, now_us);
        if (status != EB_PENDING || c->pausing)
            return status;
    }
}

static uint64_t deadline_us(const void *self)
{
    const context *r = self;
    return ebi_can_deadline_us(&r->link, eb_uds_deadline_us(&r->uds));
}

/* There is no word for giving up: the unit is left to its own patience, and reset on the way down.  What it
 * does now, erasing perhaps, it brings to its end. */
static void stop(void *self)
{
    context *r = self;
    r->link.stopping = true;
    if (r->link.move == TRANSFER && r->uds.state == EB_UDS_BUSY) {
        r->uds.state = EB_UDS_FAILED;
        r->uds.error = (struct eb_error){.status = EB_STOPPED, .where = "UDS"};
    }
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
}

static const struct eb_field fields[] = {{"did", EB_FIELD_NUMBER, EBI_VALUE(index), .most = 0xFFFF},
                                         {"as", EB_FIELD_WORD, EBI_VALUE(form), .words = ebi_forms}};
static const struct eb_field fault_fields[] = {
    {"dtc-mask", EB_FIELD_NUMBER, EBI_VALUE(index), .least = 1, .most = 255}};
static const struct eb_row sources[] = {{"did", VALUE_IDENTIFIER, fields, 2, 0, EB_LIST_INDEX},
                                        {"dtc-mask", VALUE_FAULT, fault_fields, 1, 0, EB_LIST_ITEM}};

#define WAY(member) EBI_WAY(struct eb_uds_way, member)
static const char *const keys[] = {"none", "add", "xor", "invert", "call", NULL};
static const struct eb_field security[] = {{"level", EB_FIELD_NUMBER, WAY(level), .least = 1, .most = 0x7D,
                                            .otherwise = 1, .odd = "of the request for the seed"},
                                           {"key", EB_FIELD_WORD, WAY(key), .needed = true, .words = keys},
                                           {"value", EB_FIELD_NUMBER, WAY(key_value), .most = UINT32_MAX}};
static const struct eb_field way_fields[] = {
    {"security", EB_FIELD_MAP, .fields = security, .count = sizeof security / sizeof security[0]},
    {"address", EB_FIELD_NUMBER, WAY(address), .most = UINT32_MAX},
    {"fingerprint", EB_FIELD_NUMBER, WAY(fingerprint), .least = 1, .most = 0xFFFF},
    {"check-routine", EB_FIELD_NUMBER, WAY(check_routine), .least = 1, .most = 0xFFFF},
    {"dependencies", EB_FIELD_YES, WAY(dependencies), .otherwise = true},
    {"quiet", EB_FIELD_YES, WAY(quiet), .otherwise = true},
    {"erase-patience-s", EB_FIELD_SECONDS, WAY(erase_patience_ms), .least = 1, .most = 3600, .otherwise = 60},
    {"answer-patience-s", EB_FIELD_SECONDS, WAY(answer_patience_ms), .least = 1, .most = 600, .otherwise = 1},
    {"padded", EB_FIELD_YES, WAY(padded), .otherwise = true},
    {"padding", EB_FIELD_NUMBER, WAY(padding), .most = 255, .otherwise = 0xCC}};
_Static_assert(sizeof(struct eb_uds_way) <= EB_WAY_BYTES, "a profile holds it");

static const struct eb_section section = {.key = "uds",
                                          .fields = way_fields,
                                          .count = sizeof way_fields / sizeof way_fields[0],
                                          .elsewhere = "it read by 'did', as the device speaks UDS"};

#define DOCUMENT(member)                                                                                     \
    .bytes = sizeof(((struct eb_uds_document *)0)->member), .offset = offsetof(struct eb_uds_document, member)
static const struct eb_field document_fields[] = {
    {"first", EB_FIELD_NUMBER, DOCUMENT(first), .needed = true, .most = 0xFFFF},
    {"count", EB_FIELD_NUMBER, DOCUMENT(count), .least = 1, .most = 256, .otherwise = 1},
    {"extended-session", EB_FIELD_YES, DOCUMENT(extended)},
    {"security", EB_FIELD_YES, DOCUMENT(locked)}};
static const struct eb_field reset_fields[] = {
    {"type", EB_FIELD_NUMBER, EBI_STEP(value), .least = 1, .most = 0x7E, .otherwise = 1}};
static const struct eb_field routine_fields[] = {
    {"id", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = 0xFFFF},
    {"security", EB_FIELD_YES, EBI_STEP(value)}};
static const struct eb_row steps[] = {{"ecu-reset", STEP_RESET, reset_fields, 1, 0, EB_LIST_NONE},
                                      {"routine", STEP_ROUTINE, routine_fields, 2, 0, EB_LIST_NONE}};
static const struct eb_row documents[] = {
    {"did", 0, document_fields, 4, sizeof(struct eb_uds_document), EB_LIST_NONE}};

const struct eb_rows eb_rows_uds = {.sources = sources,
                                    .source_count = sizeof sources / sizeof sources[0],
                                    .steps = steps,
                                    .step_count = 2,
                                    .documents = documents,
                                    .document_count = 1,
                                    .section = &section};

const struct eb_access eb_access_uds = {
    .word = "uds",
    .title = "UDS",
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
