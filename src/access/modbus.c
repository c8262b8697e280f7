#include "einbau/access/modbus.h"
#include "access/access.h"
#include "wire/modbus_stream.h"
#include "wire/modbus_wire.h"
#include "base/bytes.h"
#include "einbau/text.h"

#include <string.h>

enum {
    EXPECT_ATTEMPT_US =
        1000000, /* for the first look at a register; each later one has twice as long, for slow wires */
    EXPECT_AGAIN_US = 100000, /* between two looks at a register that does not read as expected yet */
    /* While a restart is looked for: a connection that is not answered for that long, a repetition of its
     * first segment included (RFC 6298: after 1 s), is a device that is away. */
    CONNECT_LEAST_US = 300000, /* for a connection to a device whose restart is waited for, */
    CONNECT_MOST_US = 1200000, /* and four times as long as one took before */
    CONNECTS_UNANSWERED = 2    /* so many in a row are no accident */
};

typedef struct eb_access_modbus_context context;

/* --- the stream ------------------------------------------------------------------------------------------
 */

static void close_stream(context *m)
{
    ebi_stream_close(&m->stream, m->contact->port);
}

static void close(void *self)
{
    context *m = self;
    close_stream(m);
    m->busy = false;
}

/* The end of an operation that went well.  While a restart is looked for, the connection stays: one that
 * lives on shows that the device has not restarted, and one that is reset that it has. */
static enum eb_status leave(context *m)
{
    if (!m->contact->watching)
        close_stream(m);
    m->busy = false;
    return EB_OK;
}

static enum eb_status open_stream(context *m)
{
    const struct eb_port *port = m->contact->port;
    if (m->stream.handle != EB_NO_HANDLE)
        return EB_OK;
    m->stream.connected = false;
    m->kept = false;
    m->connect_began_us = eb_port_now_us(port);
    return port->tcp->open(port->self, m->contact->waiter, &m->contact->target->modbus, &m->stream.handle);
}

/* Sends and receives what can be; EB_OK once the exchange is done. */
static enum eb_status exchange(context *m)
{
    const struct eb_port *port = m->contact->port;
    enum eb_status status = open_stream(m);
    bool before = m->stream.connected;
    if (status == EB_OK)
        status = ebi_stream_pump(&m->stream, port, &ebi_modbus_stream, &m->modbus, EBI_READS_AT_ONCE);
    if (m->stream.connected && !before) {
        uint64_t took_us = eb_port_now_us(port) - m->connect_began_us;
        if (!m->kept && !m->contact->watching && took_us > m->connect_us)
            m->connect_us = took_us;
        m->unanswered = 0;
        if (m->contact->round_trip_us == 0 || took_us < m->contact->round_trip_us)
            m->contact->round_trip_us = (uint32_t)(took_us < UINT32_MAX ? took_us + 1 : UINT32_MAX);
        m->contact->connected = true;
    }
    return m->modbus.state == EB_MODBUS_FAILED ? EB_PEER_ERROR : status;
}

/* --- what is asked ---------------------------------------------------------------------------------------
 */

static bool reads(const context *m)
{
    return m->operation.kind == EB_READ;
}

static bool expects(const context *m)
{
    return m->operation.kind == EB_STEP && m->operation.step->kind != EB_MODBUS_WRITE;
}

static enum eb_modbus_code category_needed(const struct eb_profile *profile)
{
    uint8_t highest = 0;
    for (size_t i = 0; i < eb_profile_items(profile); i++) {
        const struct eb_values *values = eb_profile_values(profile, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            const struct eb_value *value = &values->list[k];
            if (value->by == &eb_access_modbus && value->kind == EB_MODBUS_OBJECT && value->item > highest)
                highest = value->item;
        }
    }
    return highest >= 0x80                ? EB_MODBUS_EXTENDED
           : highest > EB_MODBUS_REVISION ? EB_MODBUS_REGULAR
                                          : EB_MODBUS_BASIC;
}

static void ask_values(context *m)
{
    const struct eb_value *value =
        m->reading == EB_MODBUS_REGISTER ? ebi_value_next(m->contact, &eb_access_modbus, m->reading) : NULL;
    if (value != NULL)
        eb_modbus_read_registers(&m->modbus, value->index, value->sub);
    else
        eb_modbus_identify(&m->modbus, category_needed(m->contact->profile));
}

static void ask(context *m)
{
    const struct eb_operation *o = &m->operation;
    const struct eb_blink *blink = o->blink;
    if (o->kind == EB_READ)
        ask_values(m);
    else if (o->kind == EB_STEP && o->step->kind == EB_MODBUS_WRITE)
        eb_modbus_write_register(&m->modbus, o->step->address, o->step->value);
    else if (o->kind == EB_STEP)
        eb_modbus_read_register(&m->modbus, o->step->address);
    else if (o->kind == EB_BLINK && blink->coil)
        eb_modbus_write_coil(&m->modbus, blink->address, o->on);
    else if (o->kind == EB_BLINK)
        eb_modbus_write_register(&m->modbus, blink->address, o->on ? blink->on : blink->off);
    else if (o->kind == EB_PUT && o->count == 1)
        eb_modbus_write_register(&m->modbus, o->address, o->values[0]);
    else if (o->kind == EB_PUT)
        eb_modbus_write_registers(&m->modbus, o->address, o->values, o->count);
    else
        eb_modbus_read_registers(&m->modbus, o->address, o->count);
}

static void ask_afresh(context *m)
{
    eb_modbus_init(&m->modbus, m->contact->target->unit, m->modbus.tid);
    ask(m);
}

static void begin_exchange(context *m, uint64_t now_us)
{
    const struct eb_port *port = m->contact->port;
    if (!m->contact->watching || !reads(m))
        close_stream(m);
    m->stream.more = m->reopened = false;
    m->kept = m->stream.handle != EB_NO_HANDLE;
    m->deadline_us = now_us;
    m->patience_end_us = now_us + m->contact->patience_us;
    m->attempt_end_us = m->patience_end_us;
    eb_modbus_init(&m->modbus, m->contact->target->unit, (uint16_t)eb_port_random(port));
    ask(m);
}

static void begin_reading(context *m, uint8_t kind, uint64_t now_us)
{
    m->reading = kind;
    m->contact->value = 0;
    begin_exchange(m, now_us);
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *m = self;
    m->operation = *operation;
    m->busy = true;
    memset(&m->contact->error, 0, sizeof m->contact->error);
    if (reads(m)) {
        bool objects = ebi_values_wanted(m->contact, &eb_access_modbus, 1U << EB_MODBUS_OBJECT);
        begin_reading(m, objects ? EB_MODBUS_OBJECT : EB_MODBUS_REGISTER, now_us);
        return;
    }
    begin_exchange(m, now_us);
    if (expects(m)) {
        m->patience_end_us = now_us + operation->step->time_ms * 1000ULL;
        m->attempt_us = EXPECT_ATTEMPT_US;
        m->attempt_end_us = now_us + m->attempt_us;
    }
}

/* --- how it ends -----------------------------------------------------------------------------------------
 */

/* Of a reading it is the end of one kind of value only, or of one register that the device refuses: that
 * costs no connection. */
static enum eb_status end(context *m, const struct eb_error *error)
{
    m->contact->error = *error;
    m->busy = reads(m);
    if (!m->busy || error->status != EB_PEER_ERROR)
        close_stream(m);
    return error->status;
}

/* The register never read as the profile says that it must. */
static enum eb_status end_unexpected(context *m)
{
    const struct eb_step *step = m->operation.step;
    struct eb_error error = {.status = EB_UNCONFIRMED, .where = "waiting for a register"};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "found ");
    eb_text_add_number(&text, m->modbus.value);
    eb_text_add(&text, " in register ");
    eb_text_add_number(&text, step->address);
    eb_text_add(&text, ", expected ");
    eb_text_add_number(&text, step->value);
    return end(m, &error);
}

/* A connection that the device closes in the regular way between two questions is opened anew, once: some do
 * so after each answer. */
static bool reopen(context *m, enum eb_status status)
{
    if (status != EB_CLOSED || m->reopened)
        return false;
    close_stream(m);
    m->reopened = true;
    m->deadline_us = 0;
    ask_afresh(m);
    return true;
}

/* Whether a gateway, or the head of a rack, says that what is behind it does not answer (Modbus application
 * protocol section 7). */
static bool behind(const context *m)
{
    return m->modbus.error.status == EB_PEER_ERROR && m->modbus.error.number >= MODBUS_X_PATH &&
           m->modbus.error.number <= MODBUS_X_TARGET;
}

/* What the end of a connection says, where a restart is looked for.  One packet that asks for a connection
 * may be lost; two are not. */
static void judge_silence(context *m, enum eb_status status)
{
    if (!m->answered)
        return;
    bool absent = status == EB_NO_ANSWER && behind(m);
    bool unconnected = status == EB_NO_ANSWER && !m->stream.connected;
    m->absent = absent ? (uint8_t)(m->absent + (m->absent < CONNECTS_UNANSWERED)) : 0;
    if (unconnected && m->unanswered < CONNECTS_UNANSWERED)
        m->unanswered++;
    if (status == EB_UNREACHABLE && m->kept)
        ebi_restarted(m->contact, EB_RESTART_CONNECTION);
    else if (status == EB_UNREACHABLE || (status == EB_NO_ANSWER && !unconnected && !absent) ||
             m->unanswered == CONNECTS_UNANSWERED || m->absent == CONNECTS_UNANSWERED)
        ebi_restarted(m->contact, EB_RESTART_SILENCE);
}

/* Until its restart was seen a connection is not waited for as long as the system would: a device that is
 * back within a second would answer to the system's second packet, as if nothing had been. */
static uint64_t attempt_end_us(const context *m)
{
    const struct eb_contact *c = m->contact;
    bool connecting = c->watching && c->restart == EB_RESTART_NOT_SEEN && reads(m) && !m->stream.connected;
    uint64_t most_us = 4 * m->connect_us;
    most_us = most_us < CONNECT_LEAST_US  ? CONNECT_LEAST_US
              : most_us < CONNECT_MOST_US ? most_us
                                          : CONNECT_MOST_US;
    uint64_t end_us = m->patience_end_us - c->patience_us + most_us;
    return connecting && end_us < m->attempt_end_us ? end_us : m->attempt_end_us;
}

/* Not yet, or it is restarting: looks again on a fresh connection. */
static enum eb_status look_again(context *m, uint64_t now_us)
{
    uint64_t most_us = m->contact->patience_us;
    close_stream(m);
    m->attempt_us = 2 * m->attempt_us < most_us ? 2 * m->attempt_us : most_us;
    m->attempt_end_us = now_us + EXPECT_AGAIN_US + m->attempt_us;
    ask_afresh(m);
    m->deadline_us = now_us + EXPECT_AGAIN_US;
    return EB_PENDING;
}

static enum eb_status poll_exchange(context *m, uint64_t now_us)
{
    bool expecting = expects(m);
    enum eb_status status = EB_PENDING;
    if (m->stream.handle != EB_NO_HANDLE || now_us >= m->deadline_us) {
        m->deadline_us = EB_NEVER;
        status = exchange(m);
        if (status == EB_OK && (!expecting || m->modbus.value == m->operation.step->value))
            return EB_OK;
        if (reopen(m, status))
            return poll_exchange(m, now_us);
    }
    if (status == EB_PENDING && now_us >= attempt_end_us(m))
        status = EB_NO_ANSWER;
    if (status == EB_CLOSED)
        status = EB_UNREACHABLE;
    if (status != EB_PENDING && expecting && now_us < m->patience_end_us)
        return look_again(m, now_us);
    if (status == EB_PENDING)
        return EB_PENDING;
    struct eb_error told = m->modbus.error;
    bool said = status == EB_PEER_ERROR;
    if (said && behind(m))
        told.status = status = EB_NO_ANSWER;
    judge_silence(m, status);
    if (status == EB_OK)
        return end_unexpected(m);
    if (said)
        return end(m, &told);
    const struct eb_error error = {.status = status,
                                   .where = m->stream.connected ? "Modbus/TCP" : "connecting by Modbus/TCP"};
    return end(m, &error);
}

/* --- values ----------------------------------------------------------------------------------------------
 */

/* A register was read, or the device has none there; EB_PENDING while more are to be read. */
static enum eb_status take_register(context *m, uint64_t now_us)
{
    struct eb_contact *c = m->contact;
    const struct eb_value *value = ebi_value_next(c, &eb_access_modbus, EB_MODBUS_REGISTER);
    uint8_t bytes[2 * EB_MODBUS_REGISTERS_MAX];
    size_t count = m->modbus.state == EB_MODBUS_DONE && value != NULL ? value->sub : 0;
    for (size_t i = 0; i < count; i++)
        ebi_put16(bytes + 2 * i, m->modbus.values[i]);
    if (value != NULL)
        ebi_value_take(c, value, bytes, 2 * count, false);
    if (ebi_value_next(c, &eb_access_modbus, EB_MODBUS_REGISTER) == NULL)
        return EB_OK;
    if (m->modbus.state == EB_MODBUS_FAILED)
        eb_modbus_init(&m->modbus, c->target->unit, m->modbus.tid);
    ask(m);
    m->attempt_end_us = now_us + c->patience_us;
    return EB_PENDING;
}

static enum eb_status poll_registers(context *m, uint64_t now_us)
{
    for (;;) {
        enum eb_status status = poll_exchange(m, now_us);
        bool refused = status == EB_PEER_ERROR && m->modbus.error.status == EB_PEER_ERROR;
        if (status != EB_OK && !refused)
            return status;
        if (refused && m->contact->first_error.status == EB_OK)
            m->contact->first_error = m->modbus.error; /* for one who misses the value */
        if (take_register(m, now_us) == EB_OK)
            return EB_OK;
    }
}

static void read_object(const void *objects, const struct eb_value *value, char *text)
{
    eb_modbus_object_text(objects, value->item, text, EB_NAME_BYTES);
}

/* Objects, then registers.  One kind that is not answered is no harm where another source has the item. */
static enum eb_status poll_read(context *m, uint64_t now_us)
{
    bool objects = m->reading == EB_MODBUS_OBJECT;
    enum eb_status status = objects ? poll_exchange(m, now_us) : poll_registers(m, now_us);
    if (status == EB_PENDING)
        return EB_PENDING;
    m->answered = m->answered || status == EB_OK;
    if (status == EB_OK && objects)
        ebi_values_take(m->contact, &eb_access_modbus, EB_MODBUS_OBJECT, read_object, &m->modbus.objects);
    if (status != EB_OK)
        ebi_values_failed(m->contact, &eb_access_modbus, 1U << m->reading, &m->contact->error);
    if (objects && !ebi_values_lost(m->contact) &&
        ebi_values_wanted(m->contact, &eb_access_modbus, 1U << EB_MODBUS_REGISTER)) {
        begin_reading(m, EB_MODBUS_REGISTER, now_us);
        return EB_PENDING;
    }
    return leave(m);
}

/* ---------------------------------------------------------------------------------------------------------
 */

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *m = self;
    if (reads(m))
        return poll_read(m, now_us);
    enum eb_status status = poll_exchange(m, now_us);
    if (status == EB_OK && m->operation.kind == EB_GET)
        memcpy(m->operation.registers, m->modbus.values, m->operation.count * sizeof m->modbus.values[0]);
    return status == EB_OK ? leave(m) : status;
}

static uint64_t deadline_us(const void *self)
{
    const context *m = self;
    if (!m->busy)
        return EB_NEVER;
    if (m->stream.more)
        return 0;
    uint64_t end_us = attempt_end_us(m);
    return m->deadline_us < end_us ? m->deadline_us : end_us;
}

static void init(void *self, struct eb_contact *contact)
{
    context *m = self;
    memset(m, 0, sizeof *m);
    m->contact = contact;
    m->stream.handle = EB_NO_HANDLE;
}

static const struct eb_field object_fields[] = {
    {"modbus-object", EB_FIELD_NUMBER, EBI_VALUE(item), .most = 255}};
static const struct eb_field register_fields[] = {
    {"modbus-register", EB_FIELD_NUMBER, EBI_VALUE(index), .most = 65535},
    {"registers", EB_FIELD_NUMBER, EBI_VALUE(sub), .least = 1, .most = EB_MODBUS_REGISTERS_MAX,
     .otherwise = 1},
    {"as", EB_FIELD_WORD, EBI_VALUE(form), .words = ebi_forms, .otherwise = EB_FORM_NUMBER}};
static const struct eb_row sources[] = {
    {"modbus-object", EB_MODBUS_OBJECT, object_fields, 1, 0, EB_LIST_NONE},
    {"modbus-register", EB_MODBUS_REGISTER, register_fields, 3, 0, EB_LIST_INDEX}};

static const struct eb_field write_fields[] = {
    {"address", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = 65535},
    {"value", EB_FIELD_NUMBER, EBI_STEP(value), .needed = true, .most = 65535}};
static const struct eb_field expect_fields[] = {
    {"address", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = 65535},
    {"value", EB_FIELD_NUMBER, EBI_STEP(value), .needed = true, .most = 65535},
    {"within-ms", EB_FIELD_NUMBER, EBI_STEP(time_ms), .least = 1, .most = 3600000, .otherwise = 5000}};
static const struct eb_field hand_fields[] = {
    {"address", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = 65535},
    {"value", EB_FIELD_NUMBER, EBI_STEP(value), .needed = true, .most = 65535},
    {"within-ms", EB_FIELD_NUMBER, EBI_STEP(time_ms), .least = 1, .most = 3600000, .otherwise = 300000},
    {"do", EB_FIELD_STRING, EBI_STEP(hand), .needed = true}};
static const struct eb_row steps[] = {
    {"write-register", EB_MODBUS_WRITE, write_fields, 2, 0, EB_LIST_NONE},
    {"expect-register", EB_MODBUS_EXPECT, expect_fields, 3, 0, EB_LIST_NONE},
    {"by-hand", EB_MODBUS_BY_HAND, hand_fields, 4, 0, EB_LIST_NONE}};

const struct eb_rows eb_rows_modbus = {.sources = sources,
                                       .source_count = sizeof sources / sizeof sources[0],
                                       .steps = steps,
                                       .step_count = sizeof steps / sizeof steps[0]};

const struct eb_access eb_access_modbus = {
    .word = "modbus",
    .title = "Modbus/TCP",
    .rank = 1,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_STEP) | EB_ABLE(EB_BLINK) | EB_ABLE(EB_GET) | EB_ABLE(EB_PUT),
    .needs = EB_NEEDS_TCP,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .close = close,
};
