#include "route/route.h"
#include "einbau/text.h"

#include <string.h>

enum { DOING_NOTHING, DOING_IDENTIFY, DOING_STEP, DOING_SEND };

enum {
    EXPECT_ATTEMPT_US =
        1000000, /* for the first look at a register; each later one has twice as long, for slow wires */
    EXPECT_AGAIN_US = 100000, /* between two looks at a register that does not read as expected yet */
    RECEIVE_BYTES = 600,      /* an ACK has 4 bytes, an OACK or ERROR a short text */
    RECEIVE_BURST = 8
};

static void close_tcp(struct ebi_route *route)
{
    if (route->tcp != EB_NO_HANDLE)
        route->config->port->tcp_close(route->config->port->self, route->tcp);
    route->tcp = EB_NO_HANDLE;
    route->connected = false;
}

static void ip_close(struct ebi_route *route)
{
    close_tcp(route);
    if (route->udp != EB_NO_HANDLE)
        route->config->port->udp_close(route->config->port->self, route->udp);
    route->udp = EB_NO_HANDLE;
    if (route->doing == DOING_IDENTIFY && route->reading > EB_VALUE_MODBUS_OBJECT)
        eb_ask_close(&route->ask);
    route->doing = DOING_NOTHING;
}

static void begin(struct ebi_route *route, uint8_t doing, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    ip_close(route);
    memset(&route->error, 0, sizeof route->error);
    route->doing = doing;
    route->deadline_us = now_us;
    route->patience_end_us = now_us + EBI_EXCHANGE_PATIENCE_US;
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
    if (route->doing == DOING_IDENTIFY)
        eb_modbus_identify(&route->modbus, category_needed(route->config->profile));
    else if (route->step->kind == EB_STEP_WRITE_REGISTER)
        eb_modbus_write_register(&route->modbus, route->step->address, route->step->value);
    else
        eb_modbus_read_register(&route->modbus, route->step->address);
}

static void begin_reading(struct ebi_route *route, unsigned kind, uint64_t now_us)
{
    begin(route, DOING_IDENTIFY, now_us);
    route->reading = (uint8_t)kind;
    if (kind == EB_VALUE_MODBUS_OBJECT)
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

/* Sends and receives what can be; EB_OK once the exchange is done. */
static enum eb_status exchange(struct ebi_route *route)
{
    const struct eb_port *port = route->config->port;
    struct eb_modbus *modbus = &route->modbus;
    enum eb_status status = EB_OK;
    if (route->tcp == EB_NO_HANDLE)
        status = port->tcp_open(port->self, route->owner, &route->config->modbus, &route->tcp);
    while (status == EB_OK && modbus->state == EB_MODBUS_ASKING) {
        const uint8_t *out;
        size_t size = eb_modbus_give(modbus, &out);
        size_t done = 0;
        if (size > 0) {
            status = port->tcp_send(port->self, route->tcp, out, size, &done);
            if (status == EB_OK) {
                route->connected = true;
                eb_modbus_taken(modbus, done);
            }
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

static enum eb_status poll_modbus(struct ebi_route *route, uint64_t now_us)
{
    bool expecting = route->doing == DOING_STEP && expects(route->step);
    enum eb_status status = EB_PENDING;
    if (route->tcp != EB_NO_HANDLE || now_us >= route->deadline_us) {
        route->deadline_us = EB_NEVER;
        status = exchange(route);
        if (status == EB_OK && (!expecting || route->modbus.value == route->step->value)) {
            close_tcp(route);
            return EB_OK;
        }
    }
    if (status == EB_PENDING && now_us >= route->attempt_end_us)
        status = EB_NO_ANSWER;
    if (status != EB_PENDING && expecting && now_us < route->patience_end_us) {
        /* Not yet, or it is restarting: look again on a fresh connection. */
        close_tcp(route);
        route->attempt_us = 2 * route->attempt_us < EBI_EXCHANGE_PATIENCE_US ? 2 * route->attempt_us
                                                                             : EBI_EXCHANGE_PATIENCE_US;
        route->attempt_end_us = now_us + EXPECT_AGAIN_US + route->attempt_us;
        eb_modbus_init(&route->modbus, route->config->unit, route->modbus.tid);
        ask(route);
        route->deadline_us = now_us + EXPECT_AGAIN_US;
        return EB_PENDING;
    }
    if (status == EB_OK)
        return end_unexpected(route);
    if (status == EB_PEER_ERROR)
        return ebi_route_end(route, &route->modbus.error);
    if (status != EB_PENDING)
        return ebi_route_end_simple(route, status,
                                    route->connected ? "Modbus/TCP" : "connecting by Modbus/TCP");
    return EB_PENDING;
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
    eb_tftp_put_init(&route->put, &put, now_us);
}

static void receive_datagrams(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    uint8_t bytes[RECEIVE_BURST][RECEIVE_BYTES];
    struct eb_datagram burst[RECEIVE_BURST];
    size_t received = RECEIVE_BURST;
    while (received == RECEIVE_BURST) {
        for (size_t i = 0; i < RECEIVE_BURST; i++)
            burst[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = RECEIVE_BYTES};
        /* EB_UNREACHABLE is not the end: the device may be restarting, and patience decides. */
        if (port->udp_receive(port->self, route->udp, burst, RECEIVE_BURST, &received) != EB_OK)
            return;
        for (size_t i = 0; i < received; i++)
            eb_tftp_put_receive(&route->put, &burst[i].peer, burst[i].bytes, burst[i].size_bytes, now_us);
    }
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

static enum eb_status poll_send(struct ebi_route *route, uint64_t now_us)
{
    const struct eb_port *port = route->config->port;
    if (route->udp == EB_NO_HANDLE && port->udp_open(port->self, route->owner, NULL, &route->udp) != EB_OK)
        return ebi_route_end_simple(route, EB_IO, "opening a UDP socket");
    receive_datagrams(route, now_us);
    eb_tftp_put_tick(&route->put, now_us);
    send_datagrams(route, now_us);
    route->done_bytes = route->put.acked_bytes;
    route->all_sent = route->put.all_sent;
    if (route->put.state == EB_TFTP_FAILED)
        return ebi_route_end(route, &route->put.error);
    if (route->put.state == EB_TFTP_DONE) {
        ip_close(route);
        return EB_OK;
    }
    return EB_PENDING;
}

/* --- identity ------------------------------------------------------------------------------------ */

/* One protocol after the other.  One that does not answer is no harm where another has the same item. */
static enum eb_status poll_identify(struct ebi_route *route, uint64_t now_us)
{
    unsigned kind = route->reading;
    enum eb_status status =
        kind == EB_VALUE_MODBUS_OBJECT ? poll_modbus(route, now_us) : eb_ask_poll(&route->ask, now_us);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status == EB_OK) {
        ebi_reading_take(route);
    } else {
        route->failed_kinds[kind] = true;
        if (route->first_error.status == EB_OK)
            route->first_error = kind == EB_VALUE_MODBUS_OBJECT ? route->error : route->ask.error;
    }
    unsigned next = ebi_reading_next(route, kind);
    if (next != EB_VALUE_NONE && !ebi_reading_failed(route)) {
        begin_reading(route, next, now_us);
        return EB_PENDING;
    }
    if (ebi_reading_failed(route))
        return ebi_route_end(route, &route->first_error);
    ip_close(route);
    return EB_OK;
}

/* ------------------------------------------------------------------------------------------------- */

static enum eb_status ip_poll(struct ebi_route *route, uint64_t now_us)
{
    if (route->doing == DOING_SEND)
        return poll_send(route, now_us);
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
        ip_close(route);
    return status;
}

static uint64_t ip_deadline_us(const struct ebi_route *route)
{
    if (route->doing == DOING_NOTHING)
        return EB_NEVER;
    if (route->doing == DOING_SEND)
        return route->udp == EB_NO_HANDLE ? 0 : eb_tftp_put_deadline_us(&route->put);
    if (route->doing == DOING_STEP && route->step->kind == EB_STEP_WAIT)
        return route->patience_end_us;
    if (route->doing == DOING_IDENTIFY && route->reading != EB_VALUE_MODBUS_OBJECT)
        return eb_ask_deadline_us(&route->ask);
    return route->deadline_us < route->attempt_end_us ? route->deadline_us : route->attempt_end_us;
}

static void ip_stop(struct ebi_route *route)
{
    if (route->doing == DOING_SEND)
        eb_tftp_put_stop(&route->put);
}

const struct eb_route eb_route_ip = {
    .identify = ip_identify,
    .send = ip_send,
    .step = ip_step,
    .poll = ip_poll,
    .deadline_us = ip_deadline_us,
    .stop = ip_stop,
    .close = ip_close,
};
