#include "einbau/access/pull.h"
#include "access/access.h"
#include "einbau/text.h"

#include <string.h>

/*   OPENING --> PROBING (ARP: is the address free?) --> the loader asks (BOOTP, DHCP), and asks for the file
 *   (TFTP) --> it has all.  Behind that the sockets stay open: a loader that asks again has its switch still
 * on. */

enum {
    TFTP_PORT = 69,
    PROBE_US = 600000, /* RFC 5227 section 2.1.1, in short: somebody waits at the device */
    PROBE_AGAIN_US = 200000,
    LEASE_S = 600,
    AGAIN_US =
        10000000, /* an answer that was lost makes a loader ask once more: only later it tells something */
    LOOK_US = 100000, /* between two looks whether the person has answered */
    MESSAGE_BYTES = 1024
};

typedef struct eb_access_pull_context context;

static void close_udp(context *p, int *handle)
{
    const struct eb_port *port = p->contact->port;
    if (*handle != EB_NO_HANDLE)
        port->udp->close(port->self, *handle);
    *handle = EB_NO_HANDLE;
}

static void close_frames(context *p)
{
    const struct eb_port *port = p->contact->port;
    if (p->frame_handle != EB_NO_HANDLE)
        port->frame->close(port->self, p->frame_handle);
    p->frame_handle = EB_NO_HANDLE;
}

static void close(void *self)
{
    context *p = self;
    close_udp(p, &p->bootp_handle);
    close_udp(p, &p->request_handle);
    close_udp(p, &p->transfer_handle);
    close_udp(p, &p->listen_handle);
    close_frames(p);
    p->busy = p->reading = false;
}

static enum eb_status end(context *p, const struct eb_error *error)
{
    p->contact->error = *error;
    close(p);
    return error->status;
}

static struct eb_pull_way way_of(const context *p)
{
    struct eb_pull_way way;
    memcpy(&way, eb_profile_way(p->contact->profile, &eb_access_pull), sizeof way);
    return way;
}

/* --- opening ---------------------------------------------------------------------------------------------
 */

/* A server has its port alone; who only listens shares it. */
static enum eb_status open_udp(context *p, uint16_t local_port, bool serves, int *handle)
{
    const struct eb_contact *c = p->contact;
    const struct eb_udp_options options = {.link = p->link.name[0] != '\0' ? p->link.name : NULL,
                                           .local_port = local_port,
                                           .exclusive = serves,
                                           .broadcast = local_port == EB_BOOTP_SERVER_PORT};
    return c->port->udp->open(c->port->self, c->waiter, &options, handle);
}

static enum eb_status end_opening(context *p, enum eb_status status, const char *where)
{
    struct eb_error error = {.status = status, .retry = EB_RETRY_NEVER, .where = where};
    if (status == EB_BUSY)
        eb_text_copy(error.text, sizeof error.text, "another program of this laptop has this port");
    return end(p, &error);
}

/* The address that the device gets, and the laptop's own beside it. */
static enum eb_status open_all(context *p)
{
    const struct eb_contact *c = p->contact;
    const struct eb_target *target = c->target;
    const struct eb_pull_way way = way_of(p);
    struct eb_bootp_config bootp = {.file = p->operation.component->file_name, .lease_s = LEASE_S};
    struct eb_error error = {.status = EB_UNREACHABLE, .retry = EB_RETRY_NEVER, .where = "choosing a link"};
    if (!ebi_link_to(c, &p->link)) {
        eb_text_copy(error.text, sizeof error.text, "no link of this laptop is in the device's subnet");
        return end(p, &error);
    }
    memcpy(bootp.mac, p->mac, sizeof bootp.mac);
    memcpy(bootp.ip, target->modbus.ip, sizeof bootp.ip);
    memcpy(bootp.server, p->link.addresses[0].ip, sizeof bootp.server);
    uint8_t prefix = target->prefix != 0 ? target->prefix : p->link.addresses[0].prefix;
    for (unsigned i = 0; i < 32; i++)
        bootp.mask[i / 8] |= (uint8_t)(i < prefix ? 0x80 >> i % 8 : 0);
    eb_bootp_init(&p->bootp, &bootp);
    const struct eb_tftp_serve_config serve = {.name = p->operation.component->file_name,
                                               .source = p->operation.source,
                                               .ip = {bootp.ip[0], bootp.ip[1], bootp.ip[2], bootp.ip[3]},
                                               .blksize = way.blksize,
                                               .windowsize = way.windowsize,
                                               .rollover_to_one = way.rollover_to == 1,
                                               .patience_us = c->profile->send_patience_ms * 1000ULL,
                                               .buffer = c->buffer,
                                               .buffer_bytes = c->buffer_bytes};
    eb_tftp_serve_init(&p->serve, &serve);
    enum eb_status status = open_udp(p, EB_BOOTP_SERVER_PORT, true, &p->bootp_handle);
    if (status != EB_OK)
        return end_opening(p, status, "opening port 67 (BOOTP)");
    status = open_udp(p, TFTP_PORT, true, &p->request_handle);
    if (status != EB_OK)
        return end_opening(p, status, "opening port 69 (TFTP)");
    /* Without raw frames the address cannot be probed: the device itself does so before it takes one. */
    p->probing = c->port->frame != NULL &&
                 c->port->frame->open(c->port->self, c->waiter, p->link.name, &p->frame_handle) == EB_OK;
    return EB_PENDING;
}

static bool receive(context *p, int handle, struct eb_datagram *d, uint8_t bytes[MESSAGE_BYTES])
{
    const struct eb_port *port = p->contact->port;
    size_t received = 0;
    *d = (struct eb_datagram){.bytes = bytes, .size_bytes = MESSAGE_BYTES};
    return handle != EB_NO_HANDLE && port->udp->receive(port->self, handle, d, 1, &received) == EB_OK &&
           received == 1;
}

static void notice(context *p, const char *what, const char *which, const char *more)
{
    struct eb_text text;
    eb_text_init(&text, p->contact->notice, sizeof p->contact->notice);
    eb_text_add(&text, what);
    eb_text_add(&text, which);
    eb_text_add(&text, more);
}

static void know_mac(context *p, const uint8_t mac[EB_MAC_BYTES])
{
    p->has_mac = true;
    p->asks = false;
    memcpy(p->mac, mac, EB_MAC_BYTES);
    memcpy(p->bootp.config.mac, mac, EB_MAC_BYTES);
}

/* A loader asks, and whose it is is not known: a person reads the label.  Its address is not shown: it would
 * only be typed again. */
static void ask_for_label(context *p, uint64_t now_us)
{
    const struct eb_target *target = p->contact->target;
    char said[EB_NAME_BYTES];
    uint8_t label[EB_MAC_BYTES];
    enum eb_status status = EB_NO_ANSWER;
    if (target->statement != NULL)
        status = target->statement(target->statement_context, eb_profile_items(p->contact->profile),
                                   "the label on the device", false, said);
    p->ask_us = now_us + LOOK_US;
    p->asks = status == EB_PENDING;
    if (p->asks) {
        notice(p, "a loader asks that the site does not know: type the address on the device's label", "",
               "");
        return;
    }
    char mac[EB_MAC_TEXT_BYTES];
    eb_mac_text(p->bootp.stranger, mac);
    notice(p, "a loader asks: ", mac, "; the site has no 'mac' that tells whose it is");
    if (status == EB_OK && eb_mac_parse(said, label)) {
        know_mac(p, label);
        p->contact->notice[0] = '\0';
    }
}

/* Listens for the loader of a device that has not answered otherwise; while it is served, the transfer itself
 * shows it. */
static void begin_reading(context *p, uint64_t now_us)
{
    struct eb_bootp_config bootp = {.file = ""};
    p->operation.kind = EB_READ;
    p->reading = p->busy = true;
    p->end_us = now_us;
    if (!ebi_values_silent(p->contact, &eb_access_pull) || p->bootp_handle != EB_NO_HANDLE ||
        (!p->has_mac && p->contact->target->statement == NULL) || !ebi_link_to(p->contact, &p->link))
        return;
    memcpy(bootp.mac, p->mac, sizeof bootp.mac);
    eb_bootp_init(&p->bootp, &bootp);
    if (open_udp(p, EB_BOOTP_SERVER_PORT, false, &p->listen_handle) == EB_OK)
        p->end_us = now_us + way_of(p).look_ms * 1000ULL;
}

static void read_asking(const void *answer, const struct eb_value *value, char *text)
{
    (void)answer;
    (void)value;
    eb_text_copy(text, EB_NAME_BYTES, "loader");
}

static enum eb_status poll_reading(context *p, uint64_t now_us)
{
    uint8_t bytes[MESSAGE_BYTES];
    struct eb_datagram d;
    enum eb_bootp_event event = EB_BOOTP_NOTHING;
    while ((event == EB_BOOTP_NOTHING || event == EB_BOOTP_STRANGER) &&
           receive(p, p->listen_handle, &d, bytes))
        event = eb_bootp_receive(&p->bootp, d.bytes, d.size_bytes);
    bool asks = event != EB_BOOTP_NOTHING && event != EB_BOOTP_STRANGER;
    if (event == EB_BOOTP_STRANGER)
        p->asks = !p->has_mac;
    if (p->asks) {
        ask_for_label(p, now_us);
        asks = p->has_mac && memcmp(p->mac, p->bootp.stranger, EB_MAC_BYTES) == 0;
    }
    if (!asks && (p->asks || now_us < p->end_us))
        return EB_PENDING;
    close_udp(p, &p->listen_handle);
    p->reading = p->busy = false;
    if (asks) {
        ebi_values_take(p->contact, &eb_access_pull, 0, read_asking, NULL);
        p->contact->by_mac = p->contact->connected = true;
    }
    return EB_OK;
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *p = self;
    if (operation->kind == EB_READ) {
        begin_reading(p, now_us);
        return;
    }
    close(p);
    memset(&p->contact->error, 0, sizeof p->contact->error);
    p->operation = *operation;
    p->busy = true;
    p->stopped = p->probing = p->probed = p->asked = p->in_use = false;
    p->asked_after = 0;
    p->best_bytes = 0;
    p->begin_us = now_us;
    p->probe_us = now_us;
    p->end_us = now_us + way_of(p).ask_patience_ms * 1000ULL;
    p->contact->notice[0] = '\0';
    p->contact->done_bytes = 0;
}

/* --- what comes ------------------------------------------------------------------------------------------
 */

static void notice_ip(context *p, const char *what, const uint8_t ip[4])
{
    char text[EB_ENDPOINT_TEXT_BYTES];
    const struct eb_endpoint endpoint = {.ip = {ip[0], ip[1], ip[2], ip[3]}};
    eb_endpoint_text(&endpoint, false, text);
    notice(p, what, text, "");
}

/* Probes the address that is to be given: only the device itself may answer. */
static void probe(context *p, uint64_t now_us)
{
    static const uint8_t no_address[4];
    const struct eb_port *port = p->contact->port;
    uint8_t bytes[EB_FRAME_MAX_BYTES];
    size_t size;
    for (int i = 0; i < EBI_READS_AT_ONCE &&
                    port->frame->receive(port->self, p->frame_handle, bytes, sizeof bytes, &size) == EB_OK;
         i++) {
        struct eb_frame frame;
        struct eb_arp arp;
        if (!eb_frame_read(&frame, bytes, size) || frame.type != EB_ETHERTYPE_ARP ||
            !eb_arp_read(&arp, frame.payload, frame.size) ||
            memcmp(arp.from_ip, p->bootp.config.ip, sizeof arp.from_ip) != 0)
            continue;
        if (!p->has_mac) /* the device was identified at this address a moment ago */
            know_mac(p, arp.from_mac);
        if (memcmp(arp.from_mac, p->mac, EB_MAC_BYTES) != 0) {
            p->in_use = true;
            memcpy(p->other_mac, arp.from_mac, EB_MAC_BYTES);
        }
    }
    if (now_us >= p->begin_us + PROBE_US) {
        close_frames(p);
        p->probing = false;
        p->probed = true;
    } else if (now_us >= p->probe_us) {
        p->probe_us = now_us + PROBE_AGAIN_US;
        eb_arp_ask(bytes, p->link.mac, no_address, p->bootp.config.ip);
        port->frame->send(port->self, p->frame_handle, bytes, EB_FRAME_MIN_BYTES);
    }
}

/* Only what has never been reached before gives it more time: one that begins anew again and again has an
 * end. */
static void patient_again(context *p, uint64_t now_us)
{
    p->end_us = now_us + p->contact->profile->send_patience_ms * 1000ULL;
}

static void take_bootp(context *p, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    const struct eb_port *port = p->contact->port;
    char mac[EB_MAC_TEXT_BYTES];
    enum eb_bootp_event event = eb_bootp_receive(&p->bootp, bytes, size);
    if (event == EB_BOOTP_NOTHING)
        return;
    if (event == EB_BOOTP_STRANGER) {
        eb_mac_text(p->bootp.stranger, mac);
        p->asks = p->asks || (!p->has_mac && !p->probing);
        if (p->has_mac && !p->asked)
            notice(p, "a loader asks: ", mac, ", which is not this device");
        return;
    }
    p->contact->loader_seen = true;
    if (p->serve.state == EB_TFTP_SERVE_DONE) {
        p->asked_after += now_us >= p->after_us + AGAIN_US ? 1 : 0;
        return; /* once is enough */
    }
    if (!p->asked)
        patient_again(p, now_us);
    p->asked = true;
    if (event == EB_BOOTP_ELSEWHERE)
        notice_ip(p, "its loader takes an address from another DHCP server: ", p->bootp.other);
    else if (event == EB_BOOTP_DECLINED)
        notice_ip(p, "its loader found that another device has its address: ", p->bootp.config.ip);
    else
        notice(p, "its loader asks for its image", "", "");
    if (p->bootp.answer_bytes == 0 || p->in_use || p->probing)
        return;
    const struct eb_datagram d = {p->bootp.to, p->bootp.answer, p->bootp.answer_bytes};
    port->udp->send(port->self, p->bootp_handle, &d, 1);
}

static void take_all(context *p, uint64_t now_us)
{
    uint8_t bytes[MESSAGE_BYTES];
    struct eb_datagram d;
    int reads = 0;
    while (reads < EBI_READS_AT_ONCE && receive(p, p->bootp_handle, &d, bytes)) {
        take_bootp(p, d.bytes, d.size_bytes, now_us);
        reads++;
    }
    while (reads < EBI_READS_AT_ONCE && receive(p, p->request_handle, &d, bytes)) {
        reads++;
        if (!eb_tftp_serve_request(&p->serve, &d.peer, d.bytes, d.size_bytes, now_us))
            continue;
        close_udp(p, &p->transfer_handle); /* a port of its own for each transfer */
        if (open_udp(p, 0, false, &p->transfer_handle) != EB_OK)
            p->transfer_handle = EB_NO_HANDLE;
    }
    while (reads < EBI_READS_AT_ONCE && receive(p, p->transfer_handle, &d, bytes)) {
        eb_tftp_serve_receive(&p->serve, &d.peer, d.bytes, d.size_bytes, now_us);
        if (p->serve.acked_bytes > p->best_bytes) {
            p->best_bytes = p->serve.acked_bytes;
            patient_again(p, now_us);
        }
        reads++;
    }
    p->more = reads == EBI_READS_AT_ONCE;
    if (p->asks)
        ask_for_label(p, now_us);
}

static void send_all(context *p, uint64_t now_us)
{
    const struct eb_port *port = p->contact->port;
    struct eb_datagram burst[EB_BURST_MAX];
    size_t given;
    size_t sent;
    do {
        int handle = p->transfer_handle != EB_NO_HANDLE ? p->transfer_handle : p->request_handle;
        given = eb_tftp_serve_give(&p->serve, burst, EB_BURST_MAX);
        sent = given > 0 ? port->udp->send(port->self, handle, burst, given) : 0;
        eb_tftp_serve_taken(&p->serve, sent, now_us);
    } while (given > 0 && sent == given);
}

/* --- how it ends -----------------------------------------------------------------------------------------
 */

static enum eb_status end_in_use(context *p)
{
    struct eb_error error = {.status = EB_OTHER, .retry = EB_RETRY_NEVER, .where = "probing its address"};
    char mac[EB_MAC_TEXT_BYTES];
    struct eb_text text;
    eb_mac_text(p->other_mac, mac);
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "another device has it: ");
    eb_text_add(&text, mac);
    error.status = EB_UNREACHABLE;
    return end(p, &error);
}

/* Nobody came, or the loader went away in the middle. */
static enum eb_status end_unasked(context *p)
{
    struct eb_error error = {
        .status = EB_UNCONFIRMED, .retry = EB_RETRY_NEVER, .where = "waiting for its loader"};
    eb_text_copy(error.text, sizeof error.text,
                 p->contact->notice[0] != '\0' ? p->contact->notice
                                               : "its loader did not ask for an address");
    if (p->asked) {
        error.status = EB_NO_ANSWER;
        error.retry = EB_RETRY_AT_ONCE;
        if (p->serve.error.status == EB_PEER_ERROR)
            error = p->serve.error;
    }
    return end(p, &error);
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *p = self;
    struct eb_contact *c = p->contact;
    if (p->reading)
        return poll_reading(p, now_us);
    if (p->stopped)
        return end(p, &(struct eb_error){.status = EB_STOPPED, .where = "waiting for its loader"});
    if (p->bootp_handle == EB_NO_HANDLE) {
        enum eb_status status = open_all(p);
        if (status != EB_PENDING)
            return status;
    }
    if (p->probing)
        probe(p, now_us);
    if (p->in_use)
        return end_in_use(p);
    take_all(p, now_us);
    eb_tftp_serve_tick(&p->serve, now_us);
    send_all(p, now_us);
    c->done_bytes = p->serve.acked_bytes;
    if (p->serve.state == EB_TFTP_SERVE_FAILED)
        return end(p, &p->serve.error);
    if (p->serve.state == EB_TFTP_SERVE_DONE || (now_us >= p->end_us && eb_tftp_serve_all_sent(&p->serve))) {
        p->serve.state = EB_TFTP_SERVE_DONE;
        c->all_sent = true;
        c->notice[0] = '\0';
        p->busy = false; /* and the sockets stay open */
        p->after_us = now_us;
        return EB_OK;
    }
    return now_us >= p->end_us ? end_unasked(p) : EB_PENDING;
}

static uint64_t deadline_us(const void *self)
{
    const context *p = self;
    if (!p->busy)
        return EB_NEVER;
    if (p->reading)
        return p->asks ? p->ask_us : p->end_us;
    if (p->bootp_handle == EB_NO_HANDLE || p->more || p->stopped)
        return 0;
    uint64_t next_us = eb_tftp_serve_deadline_us(&p->serve);
    next_us = p->probing && p->probe_us < next_us ? p->probe_us : next_us;
    next_us = p->asks && p->ask_us < next_us ? p->ask_us : next_us;
    return next_us < p->end_us ? next_us : p->end_us;
}

static bool still_loader(void *self, uint64_t now_us)
{
    context *p = self;
    if (p->bootp_handle != EB_NO_HANDLE && !p->busy)
        take_all(p, now_us);
    if (p->asked_after == 0)
        return false;
    eb_text_copy(p->contact->notice, sizeof p->contact->notice,
                 "its loader asks again: its service switch is still on, or the program does not start");
    return true;
}

static void stop(void *self)
{
    context *p = self;
    p->stopped = p->busy;
}

static void init(void *self, struct eb_contact *contact)
{
    context *p = self;
    memset(p, 0, sizeof *p);
    p->contact = contact;
    p->bootp_handle = p->request_handle = p->transfer_handle = p->frame_handle = EB_NO_HANDLE;
    p->listen_handle = EB_NO_HANDLE;
    p->has_mac = contact->target->has_mac;
    memcpy(p->mac, contact->target->mac, sizeof p->mac);
}

#define WAY(member) EBI_WAY(struct eb_pull_way, member)
static const struct eb_field way_fields[] = {
    {"blksize", EB_FIELD_NUMBER, WAY(blksize), .least = EB_TFTP_BLKSIZE_MIN, .most = EB_TFTP_BLKSIZE_MAX,
     .otherwise = 1468},
    {"windowsize", EB_FIELD_NUMBER, WAY(windowsize), .least = 1, .most = 64, .otherwise = 16},
    {"rollover-to", EB_FIELD_NUMBER, WAY(rollover_to), .most = 1},
    {"ask-patience-s", EB_FIELD_SECONDS, WAY(ask_patience_ms), .least = 1, .most = 3600, .otherwise = 300},
    {"listen-s", EB_FIELD_SECONDS, WAY(look_ms), .least = 1, .most = 120, .otherwise = 5}};
static const char *const asking[] = {"loader", NULL};
static const struct eb_field asking_fields[] = {{"pull", EB_FIELD_WORD, EBI_VALUE(item), .words = asking}};
static const struct eb_row sources[] = {{"pull", 0, asking_fields, 1, 0, EB_LIST_NONE}};
_Static_assert(sizeof(struct eb_pull_way) <= EB_WAY_BYTES, "a profile holds it");

static const struct eb_section section = {
    .key = "pull", .fields = way_fields, .count = sizeof way_fields / sizeof way_fields[0], .by = EB_BY_NAME};

const struct eb_rows eb_rows_pull = {.sources = sources, .source_count = 1, .section = &section};

const struct eb_access eb_access_pull = {
    .word = "pull",
    .title = "BOOTP and TFTP",
    .rank = 3,
    .able = EB_ABLE(EB_SEND) | EB_ABLE(EB_READ),
    .needs = EB_NEEDS_UDP,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
    .still_loader = still_loader,
};
