/* The simulated device's sending end of TFTP, where what was written can be read back: RFC 1350, 2347, 2348,
 * 7440. */
#include "pull.h"

#include "documents.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "wire/tftp_wire.h"

enum { INTERVAL_US = 1000000, TRIES_MAX = 6, BLKSIZE_DEFAULT = 512 };

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static void end_pull(struct ebi_sim_device *d)
{
    if (d->pull.handle != EB_NO_HANDLE)
        d->net->udp_unbind(d->net->self, d->pull.handle);
    d->pull.handle = EB_NO_HANDLE;
    free(d->pull.block);
    d->pull.block = NULL;
}

static uint64_t last_block(const struct ebi_sim_pull *p)
{
    return p->size / p->blksize + 1;
}

static unsigned wire_number(const struct ebi_sim_device *d, uint64_t block)
{
    if (d->rollover_to_one)
        return block == 0 ? 0 : (unsigned)((block - 1) % 65535 + 1);
    return (unsigned)(block % 65536);
}

static void send_window(struct ebi_sim_device *d)
{
    struct ebi_sim_pull *p = &d->pull;
    for (uint64_t i = p->acked + 1; i <= p->acked + p->windowsize && i <= last_block(p); i++) {
        size_t from = (size_t)(i - 1) * p->blksize;
        size_t size = p->size - from < p->blksize ? p->size - from : p->blksize;
        unsigned number = wire_number(d, i);
        const uint8_t head[4] = {0, TFTP_DATA, (uint8_t)(number >> 8), (uint8_t)number};
        memcpy(p->block, head, sizeof head);
        memcpy(p->block + 4, p->bank + from, size);
        d->net->udp_send(d->net->self, p->handle, &p->peer, p->block, size + 4);
    }
    p->timer_us = now(d) + INTERVAL_US;
}

static const char *next_field(const uint8_t *bytes, size_t size, size_t *at)
{
    const uint8_t *start = bytes + *at;
    const uint8_t *end = *at < size ? memchr(start, 0, size - *at) : NULL;
    if (end == NULL)
        return NULL;
    *at += (size_t)(end - start) + 1;
    return (const char *)start;
}

/* The answer to its options; false where it has none that are known. */
static bool send_oack(struct ebi_sim_device *d)
{
    struct ebi_sim_pull *p = &d->pull;
    char text[64] = {0, TFTP_OACK};
    size_t at = 2;
    if (p->blksize != BLKSIZE_DEFAULT)
        at += (size_t)snprintf(text + at, sizeof text - at, "blksize%c%zu", 0, p->blksize) + 1;
    if (p->windowsize != 1)
        at += (size_t)snprintf(text + at, sizeof text - at, "windowsize%c%u", 0, p->windowsize) + 1;
    if (at == 2)
        return false;
    d->net->udp_send(d->net->self, p->handle, &p->peer, (const uint8_t *)text, at);
    p->timer_us = now(d) + INTERVAL_US;
    return true;
}

bool ebi_sim_pull_request(struct ebi_sim_device *d, const struct eb_endpoint *from, const uint8_t *bytes,
                          size_t size)
{
    struct ebi_sim_pull *p = &d->pull;
    size_t at = 2;
    const char *file = next_field(bytes, size, &at);
    const char *mode = next_field(bytes, size, &at);
    struct ebi_sim_component *c = NULL;
    for (size_t i = 0; i < d->count && file != NULL; i++)
        c = strcmp(d->components[i].file_name, file) == 0 ? &d->components[i] : c;
    const struct ebi_sim_document *document = file != NULL ? ebi_sim_document_named(d, file) : NULL;
    if (document != NULL && document->gone)
        document = NULL;
    if ((document == NULL && (!d->conduct.readable || c == NULL)) || mode == NULL ||
        strcasecmp(mode, "octet") != 0)
        return false;
    end_pull(d);
    *p = (struct ebi_sim_pull){.handle = d->net->udp_bind(d->net->self, d, 0),
                               .peer = *from,
                               .bank = document != NULL ? document->now.bytes
                                                        : c->bank[c->pending ? 1 - c->active : c->active],
                               .size = document != NULL ? document->now.size : c->capacity,
                               .blksize = BLKSIZE_DEFAULT,
                               .windowsize = 1};
    while (at < size && d->options == EBI_SIM_OPTIONS_TAKEN) {
        const char *name = next_field(bytes, size, &at);
        const char *value = next_field(bytes, size, &at);
        unsigned long number = value != NULL ? strtoul(value, NULL, 10) : 0;
        if (name != NULL && strcasecmp(name, "blksize") == 0 && number >= 8 && d->blksize_max != 0)
            p->blksize = number < d->blksize_max ? number : d->blksize_max;
        else if (name != NULL && strcasecmp(name, "windowsize") == 0 && number >= 1 && d->windowsize_max != 0)
            p->windowsize = (uint32_t)(number < d->windowsize_max ? number : d->windowsize_max);
    }
    p->block = malloc(p->blksize + 4);
    if (p->block == NULL)
        abort();
    if (!send_oack(d))
        send_window(d);
    return true;
}

void ebi_sim_pull_receive(struct ebi_sim_device *d, const struct eb_endpoint *from, const uint8_t *bytes,
                          size_t size)
{
    struct ebi_sim_pull *p = &d->pull;
    if (size < 4 || !eb_endpoint_same(from, &p->peer))
        return;
    if (bytes[1] != TFTP_ACK) {
        end_pull(d);
        return;
    }
    unsigned number = (unsigned)bytes[2] << 8 | bytes[3];
    for (uint64_t i = p->acked; i <= p->acked + p->windowsize && i <= last_block(p); i++) {
        if (wire_number(d, i) != number || (i == p->acked && i != 0))
            continue;
        p->acked = i;
        p->tries = 0;
        if (i == last_block(p))
            end_pull(d);
        else
            send_window(d);
        return;
    }
}

void ebi_sim_pull_tick(struct ebi_sim_device *d)
{
    struct ebi_sim_pull *p = &d->pull;
    if (now(d) < ebi_sim_pull_deadline_us(d))
        return;
    if (++p->tries >= TRIES_MAX)
        end_pull(d);
    else
        send_window(d);
}

uint64_t ebi_sim_pull_deadline_us(const struct ebi_sim_device *d)
{
    return d->pull.handle == EB_NO_HANDLE ? EB_NEVER : d->pull.timer_us;
}

void ebi_sim_pull_end(struct ebi_sim_device *d)
{
    end_pull(d);
}
