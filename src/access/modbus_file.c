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

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *m = self;
    struct eb_contact *c = m->contact;
    const struct eb_port *port = c->port;
    struct eb_modbus_file_way way;
    memcpy(&way, eb_profile_way(c->profile, &eb_access_modbus_file), sizeof way);
    const struct eb_modbus_file_config config = {.unit = c->target->unit,
                                                 .tid = (uint16_t)eb_port_random(port),
                                                 .file = file_number(operation->component->file_name),
                                                 .group = way.group,
                                                 .source = operation->source,
                                                 .patience_us = c->profile->send_patience_ms * 1000ULL};
    close(m);
    memset(&c->error, 0, sizeof c->error);
    m->busy = true;
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
    c->done_bytes = m->file.acked_bytes;
    c->all_sent = m->file.all_sent;
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

const struct eb_rows eb_rows_modbus_file = {.section = &section};

const struct eb_access eb_access_modbus_file = {
    .word = "modbus-file",
    .title = "Modbus file records",
    .rank = 2,
    .able = EB_ABLE(EB_SEND),
    .needs = EB_NEEDS_TCP,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
};
