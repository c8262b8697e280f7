#include "access/exchange.h"
#include "einbau/ethernet.h"

#include <string.h>

/*   FINDING THE MAC (frames: by ARP, where it is missing)  -->  ASKING, again and again  -->  the end */

enum {
    REPEAT_FIRST_US = 400000, /* then twice as long each time, as wires may be slow */
    REPEAT_MOST_US = 1600000,
    RECEIVE_AT_ONCE = 32
};

static bool by_frames(const struct eb_exchange *x)
{
    return x->question->udp_port == 0;
}

/* Whether all answers count until patience is over, none being an answer too. */
static bool collects(const struct eb_exchange *x)
{
    return x->operation.kind == EB_WHO_HAS || x->operation.kind == EB_NAMED;
}

void ebi_exchange_close(void *self)
{
    struct eb_exchange *x = self;
    const struct eb_port *port = x->contact->port;
    x->busy = false;
    if (x->handle == EB_NO_HANDLE)
        return;
    if (by_frames(x))
        port->frame->close(port->self, x->handle);
    else
        port->udp->close(port->self, x->handle);
    x->handle = EB_NO_HANDLE;
}

static enum eb_status end(struct eb_exchange *x, enum eb_status status, const struct eb_error *by_peer)
{
    struct eb_contact *c = x->contact;
    c->error = (struct eb_error){.status = status, .where = x->question->access->title};
    if (status == EB_OK)
        c->error.where = NULL;
    if (x->finding_mac && status == EB_NO_ANSWER)
        c->error.where = "finding the hardware address by ARP";
    if (by_peer != NULL)
        c->error = *by_peer;
    if (x->answered && (status == EB_NO_ANSWER || status == EB_UNREACHABLE))
        ebi_restarted(c, EB_RESTART_SILENCE);
    x->answered = x->answered || status == EB_OK;
    c->connected = c->connected || status == EB_OK;
    ebi_exchange_close(x);
    return status;
}

/* --- opening ---------------------------------------------------------------------------------------------
 */

static struct eb_endpoint peer_of(const struct eb_exchange *x)
{
    struct eb_endpoint peer = x->contact->target->modbus;
    peer.port = x->question->udp_port;
    return peer;
}

static enum eb_status open(struct eb_exchange *x)
{
    const struct eb_contact *c = x->contact;
    const struct eb_port *port = c->port;
    const struct eb_endpoint peer = peer_of(x);
    const struct eb_udp_options only_peer = {.peer = &peer};
    if (!by_frames(x))
        return port->udp->open(port->self, c->waiter, &only_peer, &x->handle);
    if (!ebi_link_to(c, &x->link) || port->frame == NULL)
        return EB_UNREACHABLE;
    x->finding_mac = !c->target->has_mac && !collects(x);
    return port->frame->open(port->self, c->waiter, x->link.name, &x->handle);
}

void ebi_exchange_init(struct eb_exchange *x, const struct ebi_question *question, struct eb_contact *contact)
{
    memset(x, 0, sizeof *x);
    x->question = question;
    x->contact = contact;
    x->handle = EB_NO_HANDLE;
}

void ebi_exchange_begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    struct eb_exchange *x = self;
    struct eb_contact *c = x->contact;
    ebi_exchange_close(x);
    memset(&c->error, 0, sizeof c->error);
    x->operation = *operation;
    x->busy = true;
    x->more = x->finding_mac = false;
    x->id = eb_port_random(c->port) & 0x3FFFFFFF;
    x->next_us = now_us;
    x->repeat_us = REPEAT_FIRST_US;
    x->end_us = now_us + c->patience_us;
    memcpy(x->mac, c->target->mac, sizeof x->mac);
    if (operation->macs != NULL)
        operation->macs->count = 0;
}

/* --- answers ---------------------------------------------------------------------------------------------
 */

void ebi_exchange_collect(struct eb_exchange *x, const uint8_t *mac)
{
    struct eb_macs_seen *macs = x->operation.macs;
    for (size_t i = 0; i < macs->count; i++) {
        if (memcmp(macs->list[i], mac, EB_MAC_BYTES) == 0)
            return;
    }
    if (macs->count < EB_MACS_SEEN_MAX && memcmp(mac, x->link.mac, EB_MAC_BYTES) != 0)
        memcpy(macs->list[macs->count++], mac, EB_MAC_BYTES);
}

/* The answer to the question for the device's hardware address. */
static void take_mac(struct eb_exchange *x, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    struct eb_frame frame;
    struct eb_arp arp;
    if (!eb_frame_read(&frame, bytes, size) || frame.type != EB_ETHERTYPE_ARP ||
        !eb_arp_read(&arp, frame.payload, frame.size) ||
        memcmp(arp.from_ip, x->contact->target->modbus.ip, 4) != 0)
        return;
    memcpy(x->mac, arp.from_mac, EB_MAC_BYTES);
    x->finding_mac = false;
    x->next_us = now_us;
    x->repeat_us = REPEAT_FIRST_US;
}

/* One message; EB_NO_ANSWER: none is there. */
static enum eb_status hear_one(struct eb_exchange *x, struct eb_error *error, uint64_t now_us)
{
    const struct eb_port *port = x->contact->port;
    uint8_t bytes[EBI_MESSAGE_BYTES];
    size_t size = 0;
    if (by_frames(x)) {
        if (port->frame->receive(port->self, x->handle, bytes, sizeof bytes, &size) != EB_OK)
            return EB_NO_ANSWER;
        if (!x->finding_mac)
            return x->question->take(x, bytes, size, error);
        take_mac(x, bytes, size, now_us);
        return EB_PENDING;
    }
    struct eb_datagram d = {.bytes = bytes, .size_bytes = sizeof bytes};
    size_t received = 0;
    enum eb_status status = port->udp->receive(port->self, x->handle, &d, 1, &received);
    if (status != EB_OK || received == 0)
        return status == EB_UNREACHABLE ? status : EB_NO_ANSWER;
    if (memcmp(d.peer.ip, x->contact->target->modbus.ip, 4) != 0)
        return EB_PENDING;
    status = x->question->take(x, bytes, d.size_bytes, error);
    x->strays += status == EB_PENDING;
    return status;
}

static enum eb_status hear(struct eb_exchange *x, struct eb_error *error, uint64_t now_us)
{
    for (int i = 0; i < RECEIVE_AT_ONCE; i++) {
        enum eb_status status = hear_one(x, error, now_us);
        if (status == EB_NO_ANSWER)
            return EB_PENDING;
        if (status != EB_PENDING)
            return status;
    }
    x->more = true;
    return EB_PENDING;
}

/* --- asking ----------------------------------------------------------------------------------------------
 */

static void ask(struct eb_exchange *x, uint64_t now_us)
{
    static const uint8_t nobody[4];
    const struct eb_port *port = x->contact->port;
    uint8_t bytes[EBI_MESSAGE_BYTES];
    struct eb_datagram d = {.peer = peer_of(x), .bytes = bytes};
    size_t size = EB_FRAME_MIN_BYTES;
    if (x->finding_mac)
        eb_arp_ask(bytes, x->link.mac, x->link.count > 0 ? x->link.addresses[0].ip : nobody, d.peer.ip);
    else
        size = x->question->write(x, bytes, sizeof bytes);
    d.size_bytes = size;
    if (size > 0 && by_frames(x))
        port->frame->send(port->self, x->handle, bytes, size);
    else if (size > 0)
        port->udp->send(port->self, x->handle, &d, 1);
    x->next_us = now_us + x->repeat_us;
    x->repeat_us = 2 * x->repeat_us < REPEAT_MOST_US ? 2 * x->repeat_us : REPEAT_MOST_US;
}

enum eb_status ebi_exchange_poll(void *self, uint64_t now_us)
{
    struct eb_exchange *x = self;
    struct eb_error error = {.status = EB_OK};
    if (x->handle == EB_NO_HANDLE) {
        enum eb_status status = open(x);
        if (status != EB_OK)
            return end(x, status, NULL);
    }
    x->more = false;
    enum eb_status status = hear(x, &error, now_us);
    if (status != EB_PENDING)
        return end(x, status, status == EB_PEER_ERROR ? &error : NULL);
    if (now_us >= x->end_us)
        return end(x, collects(x) ? EB_OK : EB_NO_ANSWER, NULL);
    if (now_us >= x->next_us)
        ask(x, now_us);
    return EB_PENDING;
}

uint64_t ebi_exchange_deadline_us(const void *self)
{
    const struct eb_exchange *x = self;
    if (!x->busy)
        return EB_NEVER;
    if (x->handle == EB_NO_HANDLE || x->more)
        return 0;
    return x->next_us < x->end_us ? x->next_us : x->end_us;
}
