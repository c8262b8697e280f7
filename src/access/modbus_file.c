#include "einbau/access/modbus_file.h"
#include "access/access.h"
#include "port/stream.h"

#include <string.h>

enum { REOPEN_US = 200000 };

typedef struct eb_access_modbus_file_context context;

static void close(void *self)
{
    context *m = self;
    ebi_stream_close(&m->stream, m->contact->port);
    m->busy = false;
}

static enum eb_status end(context *m, const struct eb_error *error)
{
    m->contact->error = *error;
    close(m);
    return error->status;
}

/* The component's `send-as` is a number: the reader of the profile has seen to that. */
static uint16_t file_number(const char *text)
{
    uint32_t number = 0;
    for (; *text >= '0' && *text <= '9' && number <= UINT16_MAX; text++)
        number = 10 * number + (uint32_t)(*text - '0');
    return number <= UINT16_MAX ? (uint16_t)number : 0;
}

enum { DOCUMENT_IN_REGISTERS, DOCUMENT_IN_FILE }; /* kinds of rows */

static void choose_document(struct eb_modbus_file_config *config, const struct eb_operation *operation)
{
    const struct eb_step *at = operation->step;
    config->place = at->kind == DOCUMENT_IN_FILE ? EB_MODBUS_IN_FILE : EB_MODBUS_IN_REGISTERS;
    config->file = at->address;
    config->words = at->value;
    if (operation->kind == EB_STORE)
        return;
    config->source = NULL;
    config->take = operation->sink->take;
    config->take_self = operation->sink->self;
    operation->sink->begin(operation->sink->self);
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *m = self;
    struct eb_contact *c = m->contact;
    const struct eb_port *port = c->port;
    const uint8_t *own = eb_profile_way(c->profile, &eb_access_modbus_file);
    struct eb_modbus_file_way way = {.group = EB_MODBUS_FILE_GROUP_MAX};
    if (own != NULL)
        memcpy(&way, own, sizeof way);
    struct eb_modbus_file_config config = {.unit = c->target->unit,
                                           .tid = (uint16_t)eb_port_random(port),
                                           .group = way.group,
                                           .source = operation->source,
                                           .patience_us = c->profile->send_patience_ms * 1000ULL};
    if (operation->kind == EB_SEND)
        config.file = file_number(operation->component->file_name);
    else
        choose_document(&config, operation);
    close(m);
    memset(&c->error, 0, sizeof c->error);
    m->busy = true;
    m->sends = operation->kind == EB_SEND;
    m->open_us = now_us;
    if (eb_modbus_file_begin(&m->file, &config, now_us) != EB_OK)
        m->file.error.where = "the profile's numbers";
}

static bool asking(const void *file)
{
    return ((const struct eb_modbus_file *)file)->state == EB_MODBUS_ASKING;
}

static size_t give(const void *file, const uint8_t **bytes)
{
    return eb_modbus_file_give(file, bytes);
}

static void taken(void *file, size_t count)
{
    eb_modbus_file_taken(file, count);
}

static void receive(void *file, const uint8_t *bytes, size_t size)
{
    eb_modbus_file_receive(file, bytes, size);
}

static const struct ebi_stream_engine engine = {asking, give, taken, receive};

/* A connection that ends is opened anew: a device may close each behind its answer, and one that restarts is
 * waited for as long as its patience lasts. */
static void exchange(context *m, uint64_t now_us)
{
    struct eb_contact *c = m->contact;
    const struct eb_port *port = c->port;
    enum eb_status status = EB_OK;
    if (m->stream.handle == EB_NO_HANDLE) {
        if (now_us < m->open_us)
            return;
        m->stream.connected = false;
        m->open_us = now_us + REOPEN_US;
        status = port->tcp->open(port->self, c->waiter, &c->target->modbus, &m->stream.handle);
        eb_modbus_file_connected(&m->file);
    }
    if (status == EB_OK)
        status = ebi_stream_pump(&m->stream, port, &engine, &m->file, EBI_READS_AT_ONCE);
    if (status != EB_OK && status != EB_PENDING)
        ebi_stream_close(&m->stream, port);
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *m = self;
    struct eb_contact *c = m->contact;
    eb_modbus_file_tick(&m->file, now_us);
    if (m->file.state == EB_MODBUS_ASKING)
        exchange(m, now_us);
    if (m->sends) {
        c->done_bytes = m->file.acked_bytes;
        c->all_sent = m->file.all_sent;
    }
    if (m->file.state == EB_MODBUS_FAILED)
        return end(m, &m->file.error);
    if (m->file.state != EB_MODBUS_DONE)
        return EB_PENDING;
    close(m);
    return EB_OK;
}

static uint64_t deadline_us(const void *self)
{
    const context *m = self;
    uint64_t next_us = eb_modbus_file_deadline_us(&m->file);
    if (!m->busy)
        return EB_NEVER;
    if (m->stream.more)
        return 0;
    return m->stream.handle == EB_NO_HANDLE && m->open_us < next_us ? m->open_us : next_us;
}

static void stop(void *self)
{
    context *m = self;
    eb_modbus_file_stop(&m->file);
}

static void init(void *self, struct eb_contact *contact)
{
    context *m = self;
    memset(m, 0, sizeof *m);
    m->contact = contact;
    m->stream.handle = EB_NO_HANDLE;
}

static const struct eb_field way_fields[] = {
    {"group", EB_FIELD_NUMBER, EBI_WAY(struct eb_modbus_file_way, group), .least = 1,
     .most = EB_MODBUS_FILE_GROUP_MAX, .otherwise = EB_MODBUS_FILE_GROUP_MAX}};
static const struct eb_section section = {
    .key = "modbus-file", .fields = way_fields, .count = 1, .by = EB_BY_NUMBER};

static const struct eb_field register_fields[] = {
    {"address", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = UINT16_MAX},
    {"count", EB_FIELD_NUMBER, EBI_STEP(value), .needed = true, .least = 1, .most = UINT16_MAX}};
static const struct eb_field file_fields[] = {
    {"file", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .least = 1, .most = UINT16_MAX},
    {"records", EB_FIELD_NUMBER, EBI_STEP(value), .needed = true, .least = 1, .most = UINT16_MAX}};
static const struct eb_row documents[] = {
    {"modbus-registers", DOCUMENT_IN_REGISTERS, register_fields, 2, 0, EB_LIST_NONE},
    {"modbus-file", DOCUMENT_IN_FILE, file_fields, 2, 0, EB_LIST_NONE}};

const struct eb_rows eb_rows_modbus_file = {.documents = documents, .document_count = 2, .section = &section};

const struct eb_access eb_access_modbus_file = {
    .word = "modbus-file",
    .title = "Modbus file records",
    .rank = 2,
    .able = EB_ABLE(EB_SEND) | EB_ABLE(EB_FETCH) | EB_ABLE(EB_STORE),
    .needs = EB_NEEDS_TCP,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
};
