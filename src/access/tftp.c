#include "access/tftp.h"

#include <string.h>

enum {
    RECEIVE_BYTES = 600, /* an ACK has 4 bytes, an OACK or ERROR a short text */
    RECEIVE_BURST = 8,
    BURSTS_AT_ONCE = EBI_READS_AT_ONCE / RECEIVE_BURST,
    BURSTS_TO_SEND = 4 /* then what came is looked at: a device that lacks a block says so meanwhile */
};

typedef struct eb_access_tftp_context context;

void ebi_tftp_close(void *self)
{
    context *t = self;
    const struct eb_port *port = t->contact->port;
    if (t->handle != EB_NO_HANDLE)
        port->udp->close(port->self, t->handle);
    t->handle = EB_NO_HANDLE;
    t->busy = false;
}

static enum eb_status end(context *t, const struct eb_error *error)
{
    t->contact->error = *error;
    ebi_tftp_close(t);
    return error->status;
}

enum eb_status ebi_tftp_end_well(context *t)
{
    ebi_tftp_close(t);
    return EB_OK;
}

/* --- sending ---------------------------------------------------------------------------------------------
 */

uint16_t ebi_tftp_block_size(const struct eb_contact *c, uint16_t wanted)
{
    uint32_t mtu = c->port->udp->mtu_bytes(c->port->self, &c->target->tftp);
    uint32_t largest = mtu > EB_TFTP_OVERHEAD_BYTES + EB_TFTP_BLKSIZE_DEFAULT ? mtu - EB_TFTP_OVERHEAD_BYTES
                                                                              : EB_TFTP_BLKSIZE_DEFAULT;
    if (largest > c->buffer_bytes - EB_TFTP_BUFFER_HEAD_BYTES - 4)
        largest = (uint32_t)(c->buffer_bytes - EB_TFTP_BUFFER_HEAD_BYTES - 4);
    if (largest > EB_TFTP_BLKSIZE_MAX)
        largest = EB_TFTP_BLKSIZE_MAX;
    if (wanted != 0 && wanted < largest)
        largest = wanted;
    return (uint16_t)largest;
}

void ebi_tftp_begin_put(context *t, const char *file_name, const struct eb_source *source, uint64_t now_us)
{
    struct eb_contact *c = t->contact;
    const struct eb_tftp_way way = eb_tftp_way_of(c->profile);
    uint16_t blksize = ebi_tftp_block_size(c, way.blksize);
    const struct eb_tftp_put_config put = {
        .server = c->target->tftp,
        .file_name = file_name,
        .source = *source,
        .blksize = blksize,
        .windowsize = eb_tftp_window(blksize, c->round_trip_us, source->size_bytes, way.windowsize),
        .timeout_s = way.timeout_s,
        .tsize = way.tsize,
        .rollover_to_one = way.rollover_to == 1,
        .round_trip_us = c->round_trip_us,
        .at_once = c->target->tftp_at_once,
        .pause_us = c->target->tftp_pause_us,
        .patience_us = c->profile->send_patience_ms * 1000ULL,
        .buffer = c->buffer,
        .buffer_bytes = c->buffer_bytes,
    };
    eb_tftp_put_init(&t->put, &put, now_us);
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *t = self;
    ebi_tftp_close(t);
    memset(&t->contact->error, 0, sizeof t->contact->error);
    t->operation = *operation;
    t->busy = true;
    t->back = t->more = false;
    ebi_tftp_begin_put(t, ebi_file_name(operation), operation->source, now_us);
}

static void receive_datagrams(context *t, uint64_t now_us)
{
    const struct eb_port *port = t->contact->port;
    uint8_t bytes[RECEIVE_BURST][RECEIVE_BYTES];
    struct eb_datagram burst[RECEIVE_BURST];
    for (int bursts = 0; bursts < BURSTS_AT_ONCE; bursts++) {
        size_t received = RECEIVE_BURST;
        for (size_t i = 0; i < RECEIVE_BURST; i++)
            burst[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = RECEIVE_BYTES};
        /* EB_UNREACHABLE is not the end: the device may be restarting, and patience decides. */
        if (port->udp->receive(port->self, t->handle, burst, RECEIVE_BURST, &received) != EB_OK)
            return;
        for (size_t i = 0; i < received; i++)
            eb_tftp_put_receive(&t->put, &burst[i].peer, burst[i].bytes, burst[i].size_bytes, now_us);
        if (received < RECEIVE_BURST)
            return;
    }
    t->more = true;
}

static void send_datagrams(context *t, uint64_t now_us)
{
    const struct eb_port *port = t->contact->port;
    struct eb_datagram burst[EB_BURST_MAX];
    size_t given;
    size_t sent;
    int bursts = 0;
    do {
        given = eb_tftp_put_give(&t->put, burst, EB_BURST_MAX, now_us);
        sent = given > 0 ? port->udp->send(port->self, t->handle, burst, given) : 0;
        eb_tftp_put_taken(&t->put, sent, now_us);
    } while (given > 0 && sent == given && ++bursts < BURSTS_TO_SEND);
    t->more = t->more || (given > 0 && sent == given);
}

/* --- reading back ----------------------------------------------------------------------------------------
 */

static void begin_back(context *t, uint64_t now_us)
{
    const struct eb_contact *c = t->contact;
    const struct eb_tftp_get_config get = {
        .server = c->target->tftp,
        .file_name = ebi_file_name(&t->operation),
        .take = eb_tftp_get_compare,
        .self = t->operation.source,
        .blksize = t->put.blksize,
        .windowsize = t->put.windowsize,
        .rollover_to_one = eb_tftp_way_of(c->profile).rollover_to == 1,
        .patience_us = c->profile->send_patience_ms * 1000ULL,
    };
    t->back = true;
    eb_tftp_get_init(&t->get, &get, now_us);
}

enum eb_status ebi_tftp_poll_get(context *t, uint64_t now_us)
{
    struct eb_contact *c = t->contact;
    const struct eb_port *port = c->port;
    struct eb_datagram d = {.bytes = c->buffer, .size_bytes = c->buffer_bytes};
    size_t received = 0;
    int reads = 0;
    while (reads < EBI_READS_AT_ONCE &&
           port->udp->receive(port->self, t->handle, &d, 1, &received) == EB_OK) {
        eb_tftp_get_receive(&t->get, &d.peer, d.bytes, d.size_bytes, now_us);
        d = (struct eb_datagram){.bytes = c->buffer, .size_bytes = c->buffer_bytes};
        reads++;
        if (t->get.owed) /* an acknowledgement may not be left out */
            break;
    }
    t->more = reads > 0;
    eb_tftp_get_tick(&t->get, now_us);
    if (eb_tftp_get_give(&t->get, &d) && port->udp->send(port->self, t->handle, &d, 1) == 1)
        eb_tftp_get_taken(&t->get, now_us);
    if (t->get.state == EB_TFTP_GET_FAILED)
        return end(t, &t->get.error);
    return t->get.state != EB_TFTP_GET_DONE ? EB_PENDING : EB_OK;
}

static enum eb_status poll_back(context *t, uint64_t now_us)
{
    enum eb_status status = ebi_tftp_poll_get(t, now_us);
    t->contact->read_back = status == EB_OK;
    return status == EB_OK ? ebi_tftp_end_well(t) : status;
}

enum eb_status ebi_tftp_open(context *t)
{
    const struct eb_contact *c = t->contact;
    if (t->handle == EB_NO_HANDLE && c->port->udp->open(c->port->self, c->waiter, NULL, &t->handle) != EB_OK)
        return end(t, &(struct eb_error){.status = EB_IO, .where = "opening a UDP socket"});
    return EB_OK;
}

enum eb_status ebi_tftp_poll_put(context *t, uint64_t now_us)
{
    struct eb_contact *c = t->contact;
    t->more = false;
    receive_datagrams(t, now_us);
    eb_tftp_put_tick(&t->put, now_us);
    send_datagrams(t, now_us);
    c->done_bytes = t->put.acked_bytes;
    c->all_sent = t->put.all_sent;
    c->last_late = eb_tftp_put_last_unanswered(&t->put);
    if (t->put.state == EB_TFTP_FAILED)
        return end(t, &t->put.error);
    return t->put.state != EB_TFTP_DONE ? EB_PENDING : EB_OK;
}

/* ---------------------------------------------------------------------------------------------------------
 */

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *t = self;
    struct eb_contact *c = t->contact;
    if (t->back)
        return poll_back(t, now_us);
    enum eb_status status = ebi_tftp_open(t);
    if (status == EB_OK)
        status = ebi_tftp_poll_put(t, now_us);
    if (status != EB_OK)
        return status;
    if (c->profile->read_back != EB_READ_BACK_YES)
        return ebi_tftp_end_well(t);
    begin_back(t, now_us);
    return poll_back(t, now_us);
}

uint64_t ebi_tftp_deadline_us(const void *self)
{
    const context *t = self;
    if (!t->busy)
        return EB_NEVER;
    if (t->more)
        return 0;
    if (t->back)
        return eb_tftp_get_deadline_us(&t->get);
    return t->handle == EB_NO_HANDLE ? 0 : eb_tftp_put_deadline_us(&t->put);
}

void ebi_tftp_stop(void *self)
{
    context *t = self;
    if (t->back)
        eb_tftp_get_stop(&t->get);
    else if (t->busy)
        eb_tftp_put_stop(&t->put);
}

void ebi_tftp_init(void *self, struct eb_contact *contact)
{
    context *t = self;
    memset(t, 0, sizeof *t);
    t->contact = contact;
    t->handle = EB_NO_HANDLE;
}

#define WAY(member) EBI_WAY(struct eb_tftp_way, member)
static const struct eb_field way_fields[] = {
    {"blksize", EB_FIELD_NUMBER, WAY(blksize), .least = EB_TFTP_BLKSIZE_MIN, .most = EB_TFTP_BLKSIZE_MAX},
    {"windowsize", EB_FIELD_NUMBER, WAY(windowsize), .least = 1, .most = EB_TFTP_WINDOWSIZE_MAX},
    {"timeout-s", EB_FIELD_NUMBER, WAY(timeout_s), .least = 1, .most = 255},
    {"tsize", EB_FIELD_YES, WAY(tsize), .otherwise = true},
    {"rollover-to", EB_FIELD_NUMBER, WAY(rollover_to), .most = 1}};
_Static_assert(sizeof(struct eb_tftp_way) <= EB_WAY_BYTES, "a profile holds it");

static const struct eb_section section = {
    .key = "tftp", .fields = way_fields, .count = sizeof way_fields / sizeof way_fields[0], .by = EB_BY_NAME};

const struct eb_rows eb_rows_tftp = {.section = &section};

const struct eb_access eb_access_tftp = {
    .word = "tftp",
    .title = "TFTP",
    .rank = 2,
    .able = EB_ABLE(EB_SEND) | EB_ABLE_TO_WAIT | EB_ABLE_TO_READ_BACK,
    .needs = EB_NEEDS_UDP,
    .context_bytes = sizeof(context),
    .init = ebi_tftp_init,
    .begin = begin,
    .poll = poll,
    .deadline_us = ebi_tftp_deadline_us,
    .stop = ebi_tftp_stop,
    .close = ebi_tftp_close,
};
