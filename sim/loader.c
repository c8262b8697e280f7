/* A simulated device that takes its image only in its loader, which a service switch and the power bring
 * about: without an address it asks by BOOTP or DHCP, pulls a file by TFTP, writes it, and stays where it is
 * until the switch is off and the power was cycled.  And the person at the device, who does what is asked. */
#include "server.h"
#include "world.h"
#include "yaml_read.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/bytes.h"
#include "wire/tftp_wire.h"

enum {
    ASK_EVERY_US = 2000000,
    RESEND_US = 1000000,
    TRIES = 8,
    POWER_OFF_US = 1000000, /* how long the person leaves the power off */
    AGAIN_US = 10000000,    /* how long the person waits before doing the same again */
    DALLY_US = 2000000,
    COOKIE = 0x63825363,
    FIXED = 236,
    CLIENT = 68,
    SERVER = 67,
    TFTP = 69
};

enum state { IDLE, ASKING, REQUESTING, PULLING, DALLYING, WRITTEN };
enum person { PERSON_NONE, PERSON_DOES_IT, PERSON_FORGETS_SWITCH, PERSON_LEAVES_SWITCH, PERSON_ONLY_POWER };

struct loader {
    bool taken, bootp, asks_size_first, elsewhere, own_file;
    unsigned blksize, windowsize;
    enum person person;
    char asked[96];  /* what the person was asked last */
    bool to_service; /* that was: switch on */
    uint32_t person_ms;
    /* now */
    bool service; /* the switch */
    enum state state;
    uint32_t xid;
    unsigned tries;
    uint64_t timer_us, person_us, power_us, again_us;
    uint8_t offered[4], server[4];
    char file[128];
    int handle; /* of its transfer, EB_NO_HANDLE */
    struct eb_endpoint peer;
    bool sized;
    uint64_t block; /* received */
    unsigned in_window, block_bytes, window;
    size_t received;
    bool gap;
};

static struct loader *loader_of(const struct ebi_sim_device *d)
{
    struct ebi_sim_device *own = (struct ebi_sim_device *)d; /* its memory, which is ours */
    return ebi_sim_own(own, &ebi_sim_loader, sizeof(struct loader));
}

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

bool ebi_sim_loader_wanted(const struct ebi_sim_device *d)
{
    return loader_of(d)->taken && loader_of(d)->service;
}

bool ebi_sim_loader_only(const struct ebi_sim_device *d)
{
    return loader_of(d)->taken && d->mode == EB_SIM_LOADER;
}

/* --- asking for an address ------------------------------------------------------------------------- */

static size_t put_option(uint8_t *to, size_t at, uint8_t option, const void *value, size_t size)
{
    to[at] = option;
    to[at + 1] = (uint8_t)size;
    memcpy(to + at + 2, value, size);
    return at + 2 + size;
}

static void ask(struct ebi_sim_device *d, uint8_t type)
{
    struct loader *l = loader_of(d);
    uint8_t message[300] = {1, 1, EB_MAC_BYTES, 0};
    const struct eb_endpoint to = {{255, 255, 255, 255}, SERVER};
    size_t at = FIXED + 4;
    ebi_put32(message + 4, l->xid);
    ebi_put16(message + 10, 0x8000);
    memcpy(message + 28, d->mac, EB_MAC_BYTES);
    ebi_put32(message + FIXED, COOKIE);
    if (!l->bootp) {
        uint8_t other[4] = {192, 0, 2, 1};
        at = put_option(message, at, 53, &type, 1);
        if (type == 3) {
            at = put_option(message, at, 50, l->offered, 4);
            at = put_option(message, at, 54, l->elsewhere ? other : l->server, 4);
        }
    }
    message[at] = 255;
    d->net->udp_send_from(d->net->self, d, CLIENT, &to, message, sizeof message);
    l->timer_us = now(d) + ASK_EVERY_US;
}

static void begin_asking(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    l->state = ASKING;
    l->xid = (uint32_t)ebi_sim_random(d->sim);
    ask(d, 1);
}

/* --- pulling --------------------------------------------------------------------------------------- */

static void request(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    char text[256] = {0, TFTP_RRQ};
    struct eb_endpoint to = {.port = TFTP};
    size_t at = 2;
    memcpy(to.ip, l->server, 4);
    at +=
        (size_t)snprintf(text + at, sizeof text - at, "%s%coctet", l->own_file ? "update.bin" : l->file, 0) +
        1;
    if (l->asks_size_first && !l->sized)
        at += (size_t)snprintf(text + at, sizeof text - at, "tsize%c0", 0) + 1;
    if (l->blksize != 512)
        at += (size_t)snprintf(text + at, sizeof text - at, "blksize%c%u", 0, l->blksize) + 1;
    if (l->windowsize != 1)
        at += (size_t)snprintf(text + at, sizeof text - at, "windowsize%c%u", 0, l->windowsize) + 1;
    d->net->udp_send(d->net->self, l->handle, &to, (const uint8_t *)text, at);
    l->timer_us = now(d) + RESEND_US;
}

static void end_transfer(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    if (l->handle != EB_NO_HANDLE)
        d->net->udp_unbind(d->net->self, l->handle);
    l->handle = EB_NO_HANDLE;
}

static void begin_pulling(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    end_transfer(d);
    l->handle = d->net->udp_bind(d->net->self, d, 0);
    l->state = PULLING;
    l->peer.port = 0;
    l->tries = 0;
    l->block = l->received = 0;
    l->in_window = 0;
    l->block_bytes = 512;
    l->window = 1;
    l->gap = false;
    request(d);
}

static void acknowledge(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    const uint8_t ack[4] = {0, TFTP_ACK, (uint8_t)(l->block >> 8), (uint8_t)l->block};
    d->net->udp_send(d->net->self, l->handle, &l->peer, ack, sizeof ack);
    l->timer_us = now(d) + RESEND_US;
    l->in_window = 0;
}

static void take_options(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct loader *l = loader_of(d);
    for (size_t at = 2; at < size;) {
        const char *name = (const char *)bytes + at;
        at += strnlen(name, size - at) + 1;
        const char *text = at < size ? (const char *)bytes + at : "";
        at += at < size ? strnlen(text, size - at) + 1 : 0;
        if (strcmp(name, "blksize") == 0)
            l->block_bytes = (unsigned)strtoul(text, NULL, 10);
        else if (strcmp(name, "windowsize") == 0)
            l->window = (unsigned)strtoul(text, NULL, 10);
    }
    if (l->asks_size_first && !l->sized) { /* it knows the size now, and begins anew */
        const uint8_t enough[] = {0, TFTP_ERROR, 0, 0, 0};
        d->net->udp_send(d->net->self, l->handle, &l->peer, enough, sizeof enough);
        l->sized = true;
        begin_pulling(d);
        return;
    }
    acknowledge(d);
}

static void take_block(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct loader *l = loader_of(d);
    struct ebi_sim_component *c = &d->components[0];
    uint8_t *bank = c->bank[c->active];
    if (ebi_get16(bytes + 2) != (uint16_t)(l->block + 1)) {
        bool old = (int16_t)(ebi_get16(bytes + 2) - (uint16_t)l->block) <= 0;
        if (!l->gap || old)
            acknowledge(d);
        l->gap = !old;
        return;
    }
    l->gap = false;
    if (l->received == 0)
        memset(bank, 0xFF, c->capacity);
    if (l->received + size - 4 > c->capacity) {
        const uint8_t full[] = {0, TFTP_ERROR, 0, 3, 'f', 'u', 'l', 'l', 0};
        d->net->udp_send(d->net->self, l->handle, &l->peer, full, sizeof full);
        end_transfer(d);
        l->state = IDLE;
        return;
    }
    ebi_sim_device_write(d, bank, bank + l->received, bytes + 4, size - 4);
    l->received += size - 4;
    l->block++;
    l->in_window++;
    l->tries = 0;
    bool last = size - 4 < l->block_bytes;
    if (last && d->conduct.no_last_ack) {
        l->state = WRITTEN;
        end_transfer(d);
        return;
    }
    if (last || l->in_window >= l->window)
        acknowledge(d);
    if (last) {
        l->state = DALLYING;
        l->timer_us = now(d) + DALLY_US;
    }
}

static void take_transfer(struct ebi_sim_device *d, const struct eb_endpoint *from, const uint8_t *bytes,
                          size_t size)
{
    struct loader *l = loader_of(d);
    if (size < 4 || memcmp(from->ip, l->server, 4) != 0)
        return;
    if (l->peer.port == 0)
        l->peer = *from;
    if (l->peer.port != from->port)
        return;
    if (bytes[1] == TFTP_ERROR) {
        end_transfer(d);
        l->state = ASKING;
        l->timer_us = now(d) + 2 * (uint64_t)ASK_EVERY_US;
    } else if (bytes[1] == TFTP_OACK && l->block == 0 && l->state == PULLING) {
        take_options(d, bytes, size);
    } else if (bytes[1] == TFTP_DATA && l->state == PULLING) {
        take_block(d, bytes, size);
    } else if (bytes[1] == TFTP_DATA && l->state == DALLYING) {
        acknowledge(d);
        l->timer_us = now(d) + DALLY_US;
    }
}

/* --- what comes ------------------------------------------------------------------------------------ */

static void take_answer(struct ebi_sim_device *d, const uint8_t *m, size_t size)
{
    struct loader *l = loader_of(d);
    uint8_t type = 0;
    struct ebi_sim_settings set = d->saved;
    if (size < FIXED + 4 || m[0] != 2 || ebi_get32(m + 4) != l->xid || memcmp(m + 28, d->mac, 6) != 0)
        return;
    for (size_t at = FIXED + 4; at + 2 < size && m[at] != 255; at += 2 + (size_t)m[at + 1]) {
        if (m[at] == 53)
            type = m[at + 2];
        if (m[at] == 54 && at + 6 <= size)
            memcpy(l->server, m + at + 2, 4);
    }
    if (type == 2 && l->state == ASKING) {
        memcpy(l->offered, m + 16, 4);
        l->state = REQUESTING;
        ask(d, 3);
    } else if ((type == 5 && l->state == REQUESTING) || (type == 0 && l->bootp && l->state == ASKING)) {
        memcpy(l->server, m + 20, 4);
        memcpy(set.ip, m + 16, 4);
        snprintf(l->file, sizeof l->file, "%.127s", (const char *)m + 108);
        ebi_sim_device_set(d, &set, false);
        begin_pulling(d);
    } else if (type == 6) {
        begin_asking(d);
    }
}

static void datagram(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size)
{
    struct loader *l = loader_of(d);
    if (handle == l->handle && handle != EB_NO_HANDLE)
        take_transfer(d, from, bytes, size);
    else
        take_answer(d, bytes, size);
}

static bool owns(const struct ebi_sim_device *d, int handle)
{
    return loader_of(d)->taken && loader_of(d)->handle == handle && handle != EB_NO_HANDLE;
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    return !tcp && ebi_sim_loader_only(d) ? CLIENT : 0;
}

/* --- time ------------------------------------------------------------------------------------------ */

static void alive(struct ebi_sim_device *d, bool on)
{
    struct loader *l = loader_of(d);
    if (!l->taken)
        return;
    if (!on) {
        end_transfer(d);
        l->state = IDLE;
        l->sized = false;
        return;
    }
    if (d->mode == EB_SIM_LOADER) {
        struct ebi_sim_settings none = d->saved;
        memset(none.ip, 0, sizeof none.ip);
        ebi_sim_device_set(d, &none, false);
        l->state = ASKING;
        l->timer_us = now(d) + 200000;
        l->xid = (uint32_t)ebi_sim_random(d->sim);
    }
}

/* The person: the switch, and the power. */
static void act(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    l->person_us = EB_NEVER;
    l->again_us = now(d) + AGAIN_US;
    if (l->to_service)
        l->service |= l->person != PERSON_FORGETS_SWITCH && l->person != PERSON_ONLY_POWER;
    else
        l->service &= l->person == PERSON_LEAVES_SWITCH;
    ebi_sim_device_power(d, false);
    d->power_back_us = now(d) + POWER_OFF_US;
}

void ebi_sim_loader_person(struct ebi_sim_device *d, const char *words)
{
    struct loader *l = loader_of(d);
    if (!l->taken || l->person == PERSON_NONE)
        return;
    char asked[sizeof l->asked];
    snprintf(asked, sizeof asked, "%s", words != NULL ? words : "");
    bool other = words == NULL || strcmp(asked, l->asked) != 0;
    if (l->person_us != EB_NEVER || (!other && now(d) < l->again_us))
        return;
    if (other)
        l->to_service = !l->service && d->mode != EB_SIM_LOADER;
    memcpy(l->asked, asked, sizeof asked);
    l->person_us = now(d) + l->person_ms * 1000ULL;
}

static void tick(struct ebi_sim_device *d)
{
    struct loader *l = loader_of(d);
    if (!l->taken)
        return;
    if (now(d) >= l->person_us) {
        act(d);
        return;
    }
    if (!ebi_sim_loader_only(d) || now(d) < l->timer_us)
        return;
    switch (l->state) {
    case ASKING:
    case REQUESTING:
        begin_asking(d);
        break;
    case PULLING:
        if (++l->tries > TRIES) {
            end_transfer(d);
            begin_asking(d);
        } else if (l->peer.port == 0) {
            request(d);
        } else {
            acknowledge(d);
        }
        break;
    case DALLYING:
        end_transfer(d);
        l->state = WRITTEN;
        break;
    default:
        l->timer_us = EB_NEVER;
        break;
    }
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    const struct loader *l = loader_of(d);
    if (!l->taken)
        return EB_NEVER;
    uint64_t at_us =
        ebi_sim_loader_only(d) && l->state != IDLE && l->state != WRITTEN ? l->timer_us : EB_NEVER;
    return l->person_us < at_us ? l->person_us : at_us;
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const persons[] = {"none",          "does-it",    "forgets-switch",
                                          "leaves-switch", "only-power", NULL};
    yaml_node_t *node = ebi_yaml_get(map, "pulls", false);
    struct loader *l = loader_of(d);
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, node);
    l->taken = node != NULL;
    l->handle = EB_NO_HANDLE;
    l->person_us = EB_NEVER;
    l->bootp = ebi_yaml_yes(&keys, "bootp", false);
    l->asks_size_first = ebi_yaml_yes(&keys, "asks-size-first", false);
    l->elsewhere = ebi_yaml_yes(&keys, "takes-other-server", false);
    l->own_file = ebi_yaml_yes(&keys, "asks-another-file", false);
    l->blksize = (unsigned)ebi_yaml_number(&keys, "blksize", 8, 65464, 512);
    l->windowsize = (unsigned)ebi_yaml_number(&keys, "windowsize", 1, 65535, 1);
    l->service = ebi_yaml_yes(&keys, "service-switch", false);
    l->person = ebi_yaml_get(&keys, "person", false) != NULL
                    ? (enum person)ebi_yaml_word(&keys, "person", persons)
                    : PERSON_NONE;
    l->person_ms = (uint32_t)ebi_yaml_number(&keys, "person-ms", 0, 3600000, 5000);
    ebi_yaml_map_end(&keys);
}

const struct ebi_sim_server ebi_sim_loader = {.read = read_keys,
                                              .port = port,
                                              .owns = owns,
                                              .datagram = datagram,
                                              .alive = alive,
                                              .tick = tick,
                                              .deadline_us = deadline_us};
