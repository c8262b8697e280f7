#include "route/route.h"
#include "base/bytes.h"
#include "einbau/text.h"

#include <string.h>

enum { DOING_NOTHING, DOING_IDENTIFY, DOING_STEP, DOING_SEND, DOING_READ_BACK };

enum {
    EXPECT_ATTEMPT_US =
        1000000, /* for the first look at a register; each later one has twice as long, for slow wires */
    EXPECT_AGAIN_US = 100000, /* between two looks at a register that does not read as expected yet */
    RECEIVE_BYTES = 600,      /* an ACK has 4 bytes, an OACK or ERROR a short text */
    RECEIVE_BURST = 8,
    BURSTS_AT_ONCE = EBI_READS_AT_ONCE / RECEIVE_BURST,
    /* While a restart is looked for: a connection that is not answered for that long, a repetition of its
     * first segment included (RFC 6298: after 1 s), is a device that is away. */
    CONNECT_LEAST_US = 300000, /* for a connection to a device whose restart is waited for, */
    CONNECT_MOST_US = 1200000, /* and four times as long as one took before */
    CONNECTS_UNANSWERED = 2    /* so many in a row are no accident */
};

static uint64_t answer_patience_us(const struct ebi_route *route)
{
    return route->config->profile->answer_patience_ms * 1000ULL;
}

static void close_tcp(struct ebi_route *route)
{
    if (route->tcp != EB_NO_HANDLE)
        route->config->port->tcp_close(route->config->port->self, route->tcp);
    route->tcp = EB_NO_HANDLE;
    route->connected = false;
}

static void end_doing(struct ebi_route *route)
{
    if (route->udp != EB_NO_HANDLE && !route->keep_send)
        route->config->port->udp_close(route->config->port->self, route->udp);
    if (!route->keep_send)
        route->udp = EB_NO_HANDLE;
    if (route->doing == DOING_IDENTIFY && route->reading > EB_VALUE_MODBUS_REGISTER)
        eb_ask_close(&route->ask);
    route->doing = DOING_NOTHING;
}

static void ip_close(struct ebi_route *route)
{
    route->keep_send = false;
    close_tcp(route);
    end_doing(route);
}

/* The end of an operation that went well.  While a restart is looked for, the connection stays: one that
 * lives on shows that the device has not restarted, and one that is reset that it has. */
static void leave(struct ebi_route *route)
{
    if (!route->watching)
        close_tcp(route);
    end_doing(route);
}

static void begin(struct ebi_route *route, uint8_t doing, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    if (!route->watching || doing != DOING_IDENTIFY)
        close_tcp(route);
    end_doing(route);
    memset(&route->error, 0, sizeof route->error);
    route->doing = doing;
    route->more = false;
    route->reopened = false;
    route->kept = route->tcp != EB_NO_HANDLE;
    route->deadline_us = now_us;
    route->patience_end_us = now_us + answer_patience_us(route);
    route->attempt_end_us = route->patience_end_us;
    eb_modbus_init(&route->modbus, route->config->unit, (uint16_t)port->random(port->self));
}

/* --- Modbus/TCP ---------------------------------------------------------------------------------- */

static enum eb_modbus_code category_needed(const struct eb_profile *profile)
{
    uint8_t highest = 0;
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        const struct eb_values *values = eb_profile_values(profile, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            if (values->list[k].kind == EB_VALUE_MODBUS_OBJECT && values->list[k].item > highest)
                highest = values->list[k].item;
        }
    }
    return highest >= 0x80                ? EB_MODBUS_EXTENDED
           : highest > EB_MODBUS_REVISION ? EB_MODBUS_REGULAR
                                          : EB_MODBUS_BASIC;
}

static void ask(struct ebi_route *route)
{
    const struct eb_value *value = NULL;
    if (route->doing == DOING_IDENTIFY && route->reading == EB_VALUE_MODBUS_REGISTER)
        value = ebi_value_next(route, EB_VALUE_MODBUS_REGISTER);
    if (value != NULL)
        eb_modbus_read_registers(&route->modbus, value->index, value->sub);
    else if (route->doing == DOING_IDENTIFY)
        eb_modbus_identify(&route->modbus, category_needed(route->config->profile));
    else if (route->step->kind == EB_STEP_WRITE_REGISTER)
        eb_modbus_write_register(&route->modbus, route->step->address, route->step->value);
    else
        eb_modbus_read_register(&route->modbus, route->step->address);
}

static bool by_modbus(unsigned kind)
{
    return kind == EB_VALUE_MODBUS_OBJECT || kind == EB_VALUE_MODBUS_REGISTER;
}

static void begin_reading(struct ebi_route *route, unsigned kind, uint64_t now_us)
{
    begin(route, DOING_IDENTIFY, now_us);
    route->reading = (uint8_t)kind;
    route->value = 0;
    if (by_modbus(kind))
        ask(route);
    else
        ebi_reading_begin(route, now_us);
}

static void ip_identify(struct ebi_route *route, uint64_t now_us)
{
    memset(route->texts, 0, sizeof route->texts);
    memset(route->failed_kinds, 0, sizeof route->failed_kinds);
    memset(&route->first_error, 0, sizeof route->first_error);
    begin_reading(route, ebi_reading_next(route, EB_VALUE_NONE), now_us);
}

static bool expects(const struct eb_step *step)
{
    return step->kind == EB_STEP_EXPECT_REGISTER || step->kind == EB_STEP_BY_HAND;
}

static void ip_step(struct ebi_route *route, const struct eb_step *step, uint64_t now_us)
{
    begin(route, DOING_STEP, now_us);
    route->step = step;
    if (step->kind == EB_STEP_WAIT)
        route->patience_end_us = now_us + step->time_ms * 1000ULL;
    else
        ask(route);
    if (expects(step)) {
        route->patience_end_us = now_us + step->time_ms * 1000ULL;
        route->attempt_us = EXPECT_ATTEMPT_US;
        route->attempt_end_us = now_us + route->attempt_us;
    }
}

static enum eb_status open_tcp(struct ebi_route *route)
{
    const struct eb_port *port = route->config->port;
    if (route->tcp != EB_NO_HANDLE)
        return EB_OK;
    route->connected = false;
    route->kept = false;
    route->connect_began_us = port->now_us(port->self);
    return port->tcp_open(port->self, route->owner, &route->config->modbus, &route->tcp);
}

static void has_connected(struct ebi_route *route)
{
    const struct eb_port *port = route->config->port;
    uint64_t took_us = port->now_us(port->self) - route->connect_began_us;
    if (!route->connected && !route->kept && !route->watching && took_us > route->connect_us)
        route->connect_us = took_us;
    route->connected = true;
    route->unanswered = 0;
}

/* Sends and receives what can be; EB_OK once the exchange is done. */
static enum eb_status exchange(struct ebi_route *route)
{
    const struct eb_port *port = route->config->port;
    struct eb_modbus *modbus = &route->modbus;
    enum eb_status status = open_tcp(route);
    route->more = false;
    for (int reads = 0; status == EB_OK && modbus->state == EB_MODBUS_ASKING;) {
        const uint8_t *out;
        size_t size = eb_modbus_give(modbus, &out);
        size_t done = 0;
        if (size > 0) {
            status = port->tcp_send(port->self, route->tcp, out, size, &done);
            if (status == EB_OK) {
                has_connected(route);
                eb_modbus_taken(modbus, done);
            }
        } else if (reads++ == EBI_READS_AT_ONCE) {
            route->more = true;
            return EB_PENDING;
        } else {
            uint8_t in[EB_MODBUS_FRAME_BYTES];
            status = port->tcp_receive(port->self, route->tcp, in, sizeof in, &done);
            if (status == EB_OK)
                eb_modbus_receive(modbus, in, done);
        }
    }
    if (modbus->state == EB_MODBUS_FAILED)
        return EB_PEER_ERROR;
    return modbus->state == EB_MODBUS_DONE ? EB_OK : status;
}

/* A connection that the device closes in the regular way between two questions is opened anew, once: some do
 * so after each answer. */
static bool reopen(struct ebi_route *route, enum eb_status status)
{
    if (status != EB_CLOSED || route->reopened)
        return false;
    close_tcp(route);
    route->reopened = true;
    route->deadline_us = 0;
    eb_modbus_init(&route->modbus, route->config->unit, route->modbus.tid);
    ask(route);
    return true;
}

/* The end of an exchange that failed.  Of an identification it is the end of one source only, and a send that
 * it has interrupted stays. */
static enum eb_status end_with(struct ebi_route *route, const struct eb_error *error)
{
    if (route->doing != DOING_IDENTIFY)
        return ebi_route_end(route, error);
    route->error = *error;
    close_tcp(route);
    return error->status;
}

/* The register never read as the profile says that it must. */
static enum eb_status end_unexpected(struct ebi_route *route)
{
    struct eb_error error = {.status = EB_UNCONFIRMED, .where = "waiting for a register"};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "found ");
    eb_text_add_number(&text, route->modbus.value);
    eb_text_add(&text, " in register ");
    eb_text_add_number(&text, route->step->address);
    eb_text_add(&text, ", expected ");
    eb_text_add_number(&text, route->step->value);
    return ebi_route_end(route, &error);
}

/* What the end of a connection says, where a restart is looked for.  One packet that asks for a connection
 * may be lost; two are not. */
static void judge_silence(struct ebi_route *route, enum eb_status status)
{
    if (!route->answered_kinds[EB_VALUE_MODBUS_OBJECT] && !route->answered_kinds[EB_VALUE_MODBUS_REGISTER])
        return; /* it has never answered by Modbus */
    bool unconnected = status == EB_NO_ANSWER && !route->connected;
    if (unconnected && route->unanswered < CONNECTS_UNANSWERED)
        route->unanswered++;
    if (status == EB_UNREACHABLE && route->kept)
        ebi_route_restarted(route, EB_RESTART_CONNECTION);
    else if (status == EB_UNREACHABLE || (status == EB_NO_ANSWER && !unconnected) ||
             route->unanswered == CONNECTS_UNANSWERED)
        ebi_route_restarted(route, EB_RESTART_SILENCE);
}

/* Until its restart was seen a connection is not waited for as long as the system would: a device that is
 * back within a second would answer to the system's second packet, as if nothing had been. */
static uint64_t attempt_end_us(const struct ebi_route *route)
{
    bool connecting = route->watching && route->restart == EB_RESTART_NOT_SEEN &&
                      route->doing == DOING_IDENTIFY && !route->connected;
    uint64_t most_us = 4 * route->connect_us;
    most_us = most_us < CONNECT_LEAST_US  ? CONNECT_LEAST_US
              : most_us < CONNECT_MOST_US ? most_us
                                          : CONNECT_MOST_US;
    uint64_t end_us = route->patience_end_us - answer_patience_us(route) + most_us;
    return connecting && end_us < route->attempt_end_us ? end_us : route->attempt_end_us;
}

static enum eb_status poll_modbus(struct ebi_route *route, uint64_t now_us)
{
    bool expecting = route->doing == DOING_STEP && expects(route->step);
    enum eb_status status = EB_PENDING;
    if (route->tcp != EB_NO_HANDLE || now_us >= route->deadline_us) {
        route->deadline_us = EB_NEVER;
        status = exchange(route);
        if (status == EB_OK && (!expecting || route->modbus.value == route->step->value))
            return EB_OK;
        if (reopen(route, status))
            return poll_modbus(route, now_us);
    }
    if (status == EB_PENDING && now_us >= attempt_end_us(route))
        status = EB_NO_ANSWER;
    if (status == EB_CLOSED)
        status = EB_UNREACHABLE;
    if (status != EB_PENDING && expecting && now_us < route->patience_end_us) {
        /* Not yet, or it is restarting: look again on a fresh connection. */
        uint64_t most_us = answer_patience_us(route);
        close_tcp(route);
        route->attempt_us = 2 * route->attempt_us < most_us ? 2 * route->attempt_us : most_us;
        route->attempt_end_us = now_us + EXPECT_AGAIN_US + route->attempt_us;
        eb_modbus_init(&route->modbus, route->config->unit, route->modbus.tid);
        ask(route);
        route->deadline_us = now_us + EXPECT_AGAIN_US;
        return EB_PENDING;
    }
    if (status == EB_PENDING)
        return EB_PENDING;
    judge_silence(route, status);
    if (status == EB_OK)
        return end_unexpected(route);
    if (status == EB_PEER_ERROR)
        return end_with(route, &route->modbus.error);
    const struct eb_error error = {.status = status,
                                   .where = route->connected ? "Modbus/TCP" : "connecting by Modbus/TCP"};
    return end_with(route, &error);
}

/* --- TFTP ---------------------------------------------------------------------------------------- */

static void ip_send(struct ebi_route *route, const struct eb_run_item *item, uint64_t now_us)
{
    const struct eb_run_config *config = route->config;
    const struct eb_profile *profile = config->profile;
    begin(route, DOING_SEND, now_us);

    uint32_t mtu = config->port->path_mtu_bytes(config->port->self, &config->tftp);
    uint32_t largest = mtu > EB_TFTP_OVERHEAD_BYTES + EB_TFTP_BLKSIZE_DEFAULT ? mtu - EB_TFTP_OVERHEAD_BYTES
                                                                              : EB_TFTP_BLKSIZE_DEFAULT;
    if (largest > config->buffer_bytes - 4)
        largest = (uint32_t)(config->buffer_bytes - 4);
    if (largest > EB_TFTP_BLKSIZE_MAX)
        largest = EB_TFTP_BLKSIZE_MAX;
    if (profile->blksize != 0 && profile->blksize < largest)
        largest = profile->blksize;

    const struct eb_tftp_put_config put = {
        .server = config->tftp,
        .file_name = item->component->file_name,
        .source = item->source,
        .blksize = (uint16_t)largest,
        .windowsize = profile->windowsize != 0 ? profile->windowsize : 1,
        .timeout_s = profile->timeout_s,
        .tsize = profile->tsize,
        .rollover_to_one = profile->rollover_to_one,
        .patience_us = profile->send_patience_ms * 1000ULL,
        .buffer = config->buffer,
        .buffer_bytes = config->buffer_bytes,
    };
    route->item = item;
    eb_tftp_put_init(&route->put, &put, now_us);
}

static void receive_datagrams(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    uint8_t bytes[RECEIVE_BURST][RECEIVE_BYTES];
    struct eb_datagram burst[RECEIVE_BURST];
    for (int bursts = 0; bursts < BURSTS_AT_ONCE; bursts++) {
        size_t received = RECEIVE_BURST;
        for (size_t i = 0; i < RECEIVE_BURST; i++)
            burst[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = RECEIVE_BYTES};
        /* EB_UNREACHABLE is not the end: the device may be restarting, and patience decides. */
        if (port->udp_receive(port->self, route->udp, burst, RECEIVE_BURST, &received) != EB_OK)
            return;
        for (size_t i = 0; i < received; i++)
            eb_tftp_put_receive(&route->put, &burst[i].peer, burst[i].bytes, burst[i].size_bytes, now_us);
        if (received < RECEIVE_BURST)
            return;
    }
    route->more = true;
}

static void send_datagrams(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    struct eb_datagram burst[EB_BURST_MAX];
    size_t given;
    size_t sent;
    do {
        given = eb_tftp_put_give(&route->put, burst, EB_BURST_MAX, now_us);
        sent = given > 0 ? port->udp_send(port->self, route->udp, burst, given) : 0;
        eb_tftp_put_taken(&route->put, sent, now_us);
    } while (given > 0 && sent == given);
}

/* --- reading back -------------------------------------------------------------------------------- */

static void begin_read_back(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_tftp_get_config get = {
        .server = route->config->tftp,
        .file_name = route->item->component->file_name,
        .compared = &route->item->source,
        .blksize = route->put.blksize,
        .windowsize = route->put.windowsize,
        .rollover_to_one = route->config->profile->rollover_to_one,
        .patience_us = route->config->profile->send_patience_ms * 1000ULL,
    };
    route->doing = DOING_READ_BACK;
    eb_tftp_get_init(&route->get, &get, now_us);
}

static enum eb_status poll_read_back(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    struct eb_datagram d = {.bytes = route->config->buffer, .size_bytes = route->config->buffer_bytes};
    size_t received = 0;
    int reads = 0;
    while (reads < EBI_READS_AT_ONCE &&
           port->udp_receive(port->self, route->udp, &d, 1, &received) == EB_OK) {
        eb_tftp_get_receive(&route->get, &d.peer, d.bytes, d.size_bytes, now_us);
        d = (struct eb_datagram){.bytes = route->config->buffer, .size_bytes = route->config->buffer_bytes};
        reads++;
        if (route->get.owed) /* an acknowledgement may not be left out */
            break;
    }
    route->more = reads > 0;
    eb_tftp_get_tick(&route->get, now_us);
    if (eb_tftp_get_give(&route->get, &d) && port->udp_send(port->self, route->udp, &d, 1) == 1)
        eb_tftp_get_taken(&route->get, now_us);
    if (route->get.state == EB_TFTP_GET_FAILED)
        return ebi_route_end(route, &route->get.error);
    if (route->get.state == EB_TFTP_GET_DONE) {
        route->read_back = true;
        ip_close(route);
        return EB_OK;
    }
    return EB_PENDING;
}

static enum eb_status poll_send(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    if (route->udp == EB_NO_HANDLE && port->udp_open(port->self, route->owner, NULL, &route->udp) != EB_OK)
        return ebi_route_end_simple(route, EB_IO, "opening a UDP socket");
    route->more = false;
    receive_datagrams(route, now_us);
    eb_tftp_put_tick(&route->put, now_us);
    send_datagrams(route, now_us);
    route->done_bytes = route->put.acked_bytes;
    route->all_sent = route->put.all_sent;
    route->last_late = eb_tftp_put_last_unanswered(&route->put);
    if (route->put.state == EB_TFTP_FAILED)
        return ebi_route_end(route, &route->put.error);
    if (route->put.state == EB_TFTP_DONE && route->config->profile->read_back == EB_READ_BACK_YES) {
        begin_read_back(route, now_us);
        return poll_read_back(route, now_us);
    }
    if (route->put.state == EB_TFTP_DONE) {
        ip_close(route);
        return EB_OK;
    }
    return EB_PENDING;
}

static void ip_resume(struct ebi_route *route, uint64_t now_us)
{
    (void)now_us;
    close_tcp(route);
    end_doing(route);
    route->keep_send = false;
    route->doing = DOING_SEND;
}

/* --- identity ------------------------------------------------------------------------------------ */

/* A register was read, or the device has none there; EB_PENDING while more are to be read. */
static enum eb_status take_register(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_value *value = ebi_value_next(route, EB_VALUE_MODBUS_REGISTER);
    uint8_t bytes[2 * EB_MODBUS_REGISTERS_MAX];
    size_t count = route->modbus.state == EB_MODBUS_DONE && value != NULL ? value->sub : 0;
    for (size_t i = 0; i < count; i++)
        ebi_put16(bytes + 2 * i, route->modbus.values[i]);
    if (value != NULL)
        ebi_value_take(route, value, bytes, 2 * count);
    if (ebi_value_next(route, EB_VALUE_MODBUS_REGISTER) == NULL)
        return EB_OK;
    if (route->modbus.state == EB_MODBUS_FAILED)
        eb_modbus_init(&route->modbus, route->config->unit, route->modbus.tid);
    ask(route);
    route->attempt_end_us = now_us + answer_patience_us(route);
    return EB_PENDING;
}

static enum eb_status poll_registers(struct ebi_route *route, uint64_t now_us)
{
    for (;;) {
        enum eb_status status = poll_modbus(route, now_us);
        bool refused = status == EB_PEER_ERROR && route->modbus.error.status == EB_PEER_ERROR;
        if (status != EB_OK && !refused)
            return status;
        if (refused && route->first_error.status == EB_OK)
            route->first_error = route->modbus.error; /* for whoever misses the value */
        if (take_register(route, now_us) == EB_OK)
            return EB_OK;
    }
}

/* One protocol after the other.  One that does not answer is no harm where another has the same item. */
static enum eb_status poll_identify(struct ebi_route *route, uint64_t now_us)
{
    unsigned kind = route->reading;
    enum eb_status status = kind == EB_VALUE_MODBUS_REGISTER ? poll_registers(route, now_us)
                            : by_modbus(kind)                ? poll_modbus(route, now_us)
                                                             : eb_ask_poll(&route->ask, now_us);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status == EB_OK) {
        route->answered_kinds[kind] = true;
        ebi_reading_take(route);
    } else {
        const struct eb_error *error = by_modbus(kind) ? &route->error : &route->ask.error;
        route->failed_kinds[kind] = true;
        if (route->first_error.status == EB_OK)
            route->first_error = *error;
        if (!by_modbus(kind) && route->answered_kinds[kind] &&
            (error->status == EB_NO_ANSWER || error->status == EB_UNREACHABLE))
            ebi_route_restarted(route, EB_RESTART_SILENCE);
    }
    unsigned next = ebi_reading_next(route, kind);
    if (next != EB_VALUE_NONE && !ebi_reading_failed(route)) {
        begin_reading(route, next, now_us);
        return EB_PENDING;
    }
    if (ebi_reading_failed(route)) {
        route->error = route->first_error;
        leave(route);
        return route->error.status;
    }
    leave(route);
    return EB_OK;
}

/* ------------------------------------------------------------------------------------------------- */

static enum eb_status ip_poll(struct ebi_route *route, uint64_t now_us)
{
    if (route->doing == DOING_SEND)
        return poll_send(route, now_us);
    if (route->doing == DOING_READ_BACK)
        return poll_read_back(route, now_us);
    if (route->doing == DOING_STEP && route->step->kind == EB_STEP_WAIT) {
        if (now_us < route->patience_end_us)
            return EB_PENDING;
        ip_close(route);
        return EB_OK;
    }
    if (route->doing == DOING_IDENTIFY)
        return poll_identify(route, now_us);
    enum eb_status status = poll_modbus(route, now_us);
    if (status == EB_OK)
        leave(route);
    return status;
}

static uint64_t ip_deadline_us(const struct ebi_route *route)
{
    if (route->doing == DOING_NOTHING)
        return EB_NEVER;
    if (route->more)
        return 0;
    if (route->doing == DOING_READ_BACK)
        return eb_tftp_get_deadline_us(&route->get);
    if (route->doing == DOING_SEND)
        return route->udp == EB_NO_HANDLE ? 0 : eb_tftp_put_deadline_us(&route->put);
    if (route->doing == DOING_STEP && route->step->kind == EB_STEP_WAIT)
        return route->patience_end_us;
    if (route->doing == DOING_IDENTIFY && !by_modbus(route->reading))
        return eb_ask_deadline_us(&route->ask);
    uint64_t end_us = attempt_end_us(route);
    return route->deadline_us < end_us ? route->deadline_us : end_us;
}

static void ip_stop(struct ebi_route *route)
{
    if (route->doing == DOING_SEND)
        eb_tftp_put_stop(&route->put);
    else if (route->doing == DOING_READ_BACK)
        eb_tftp_get_stop(&route->get);
}

const struct eb_route eb_route_ip = {
    .identify = ip_identify,
    .send = ip_send,
    .step = ip_step,
    .resume = ip_resume,
    .poll = ip_poll,
    .deadline_us = ip_deadline_us,
    .stop = ip_stop,
    .close = ip_close,
};
