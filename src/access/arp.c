#include "access/exchange.h"
#include "einbau/ethernet.h"

#include <string.h>

/* A probe: it must not change anybody's tables (RFC 5227 section 2.1.1). */
static size_t write(const struct eb_exchange *x, uint8_t *bytes, size_t cap)
{
    static const uint8_t nobody[4];
    (void)cap;
    eb_arp_ask(bytes, x->link.mac, nobody, x->operation.ip);
    return EB_FRAME_MIN_BYTES;
}

static enum eb_status take(struct eb_exchange *x, const uint8_t *bytes, size_t size, struct eb_error *error)
{
    struct eb_frame frame;
    struct eb_arp arp;
    (void)error;
    if (eb_frame_read(&frame, bytes, size) && frame.type == EB_ETHERTYPE_ARP &&
        eb_arp_read(&arp, frame.payload, frame.size) && memcmp(arp.from_ip, x->operation.ip, 4) == 0)
        ebi_exchange_collect(x, arp.from_mac);
    return EB_PENDING;
}

static const struct ebi_question question = {&eb_access_arp, 0, write, take};

static void init(void *self, struct eb_contact *contact)
{
    ebi_exchange_init(self, &question, contact);
}

const struct eb_access eb_access_arp = {
    .word = "arp",
    .title = "ARP",
    .able = EB_ABLE(EB_WHO_HAS) | EB_BY_FRAMES,
    .needs = EB_NEEDS_FRAMES,
    .context_bytes = sizeof(struct eb_exchange),
    .init = init,
    .begin = ebi_exchange_begin,
    .poll = ebi_exchange_poll,
    .deadline_us = ebi_exchange_deadline_us,
    .close = ebi_exchange_close,
};
