#include "einbau/access/cip.h"
#include "access/access.h"
#include "port/stream.h"
#include "einbau/text.h"

#include <string.h>

enum { TURNS = 32 };

typedef struct eb_access_cip_context context;

static bool engine_asking(const void *engine)
{
    return ((const struct eb_cip *)engine)->state == EB_CIP_ASKING;
}

static size_t engine_give(const void *engine, const uint8_t **bytes)
{
    return eb_cip_give(engine, bytes);
}

static void engine_taken(void *engine, size_t count)
{
    eb_cip_taken(engine, count);
}

static void engine_receive(void *engine, const uint8_t *bytes, size_t size)
{
    eb_cip_receive(engine, bytes, size);
}

static const struct ebi_stream_engine engine = {engine_asking, engine_give, engine_taken, engine_receive};

static void close(void *self)
{
    context *x = self;
    ebi_stream_close(&x->stream, x->contact->port);
    x->busy = false;
}

static enum eb_status end(context *x, enum eb_status status)
{
    struct eb_contact *c = x->contact;
    c->error = (struct eb_error){.status = status, .where = status == EB_OK ? NULL : "EtherNet/IP"};
    if (x->answered && (status == EB_NO_ANSWER || status == EB_UNREACHABLE))
        ebi_restarted(c, EB_RESTART_SILENCE);
    x->answered = x->answered || status == EB_OK;
    close(x);
    return status;
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *x = self;
    const uint8_t data[1] = {operation->kind == EB_STEP ? (uint8_t)operation->step->value
                                                        : operation->seconds};
    close(x);
    memset(&x->contact->error, 0, sizeof x->contact->error);
    x->operation = *operation;
    x->busy = true;
    x->end_us = now_us + x->contact->patience_us;
    if (operation->kind == EB_BLINK)
        eb_cip_ask(&x->cip, EB_CIP_FLASH, data, sizeof data);
    else if (operation->kind == EB_STEP)
        eb_cip_ask(&x->cip, EB_CIP_RESET, data, sizeof data);
    else
        eb_cip_ask(&x->cip, EB_CIP_GET_ALL, NULL, 0);
}

static void read_value(const void *from, const struct eb_value *value, char *text)
{
    const struct eb_cip_identity *id = from;
    struct eb_text out;
    eb_text_init(&out, text, EB_NAME_BYTES);
    if (value->item == EB_CIP_REVISION) {
        eb_text_add_number(&out, id->major);
        eb_text_add(&out, ".");
        eb_text_add_number(&out, id->minor);
    } else if (value->item == EB_CIP_SERIAL) {
        eb_text_add_hex(&out, id->serial, 8);
    } else if (value->item == EB_CIP_NAME) {
        eb_text_add(&out, strlen(id->name) < EB_NAME_BYTES ? id->name : "");
    } else {
        eb_text_add_number(&out, value->item == EB_CIP_VENDOR ? id->vendor
                                 : value->item == EB_CIP_TYPE ? id->type
                                                              : id->product);
    }
}

static enum eb_status take_values(context *x)
{
    struct eb_cip_identity identity;
    if (!eb_cip_read_attributes(&identity, x->cip.data, x->cip.data_size))
        return EB_GARBAGE;
    ebi_values_take(x->contact, &eb_access_cip, 0, read_value, &identity);
    return EB_OK;
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *x = self;
    struct eb_contact *c = x->contact;
    const struct eb_port *port = c->port;
    if (x->stream.handle == EB_NO_HANDLE) {
        struct eb_endpoint peer = c->target->modbus;
        peer.port = EB_CIP_PORT;
        enum eb_status opened = port->tcp->open(port->self, c->waiter, &peer, &x->stream.handle);
        if (opened != EB_OK)
            return end(x, opened);
    }
    enum eb_status status = ebi_stream_pump(&x->stream, port, &engine, &x->cip, TURNS);
    c->connected = c->connected || x->stream.connected;
    if (x->cip.state == EB_CIP_FAILED) {
        end(x, x->cip.error.status);
        c->error = x->cip.error;
        return c->error.status;
    }
    if (status == EB_PENDING)
        return now_us >= x->end_us ? end(x, EB_NO_ANSWER) : EB_PENDING;
    if (status != EB_OK)
        return end(x, status == EB_CLOSED ? EB_UNREACHABLE : status);
    return end(x, x->operation.kind == EB_READ ? take_values(x) : EB_OK);
}

static uint64_t deadline_us(const void *self)
{
    const context *x = self;
    if (!x->busy)
        return EB_NEVER;
    return x->stream.handle == EB_NO_HANDLE || x->stream.more ? 0 : x->end_us;
}

static void init(void *self, struct eb_contact *contact)
{
    context *x = self;
    memset(x, 0, sizeof *x);
    x->contact = contact;
    x->stream.handle = EB_NO_HANDLE;
}

static const char *const items[] = {"vendor", "type", "product", "revision", "serial", "name", NULL};
static const struct eb_field fields[] = {{"cip", EB_FIELD_WORD, EBI_VALUE(item), .words = items}};
static const struct eb_row sources[] = {{"cip", .fields = fields, .count = 1}};

static const struct eb_field reset_fields[] = {{"type", EB_FIELD_NUMBER, EBI_STEP(value), .most = 1}};
static const struct eb_row steps[] = {{"cip-reset", 0, reset_fields, 1, 0, EB_LIST_NONE}};

const struct eb_rows eb_rows_cip = {
    .sources = sources, .source_count = sizeof sources / sizeof sources[0], .steps = steps, .step_count = 1};

const struct eb_access eb_access_cip = {
    .word = "cip",
    .title = "EtherNet/IP",
    .rank = 4,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_STEP) | EB_ABLE(EB_BLINK),
    .needs = EB_NEEDS_UDP | EB_NEEDS_TCP,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .close = close,
};
