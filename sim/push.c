/* The simulated device's receiving end of TFTP: RFC 1350, 2347, 2348, 2349, 7440. */
#include "documents.h"
#include "pull.h"
#include "server.h"
#include "world.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "wire/tftp_wire.h"

enum {
    INTERVAL_US = 1000000,
    TRIES_MAX = 6,
    DALLY_INTERVALS = 3, /* a lost last ACK is asked for again within that time */
    BLKSIZE_DEFAULT = 512
};

static unsigned get16(const uint8_t *at)
{
    return (unsigned)at[0] << 8 | at[1];
}

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static void send_error(struct ebi_sim_device *d, int handle, const struct eb_endpoint *to, uint8_t code,
                       const char *text)
{
    uint8_t bytes[128] = {0, TFTP_ERROR, 0, code};
    size_t size = strlen(text);
    memcpy(bytes + 4, text, size + 1);
    d->net->udp_send(d->net->self, handle, to, bytes, size + 5);
}

static void end_push(struct ebi_sim_device *d)
{
    if (d->push.handle != EB_NO_HANDLE)
        d->net->udp_unbind(d->net->self, d->push.handle);
    d->push.handle = EB_NO_HANDLE;
    d->push.state = EBI_SIM_PUSH_NONE;
}

/* --- requests ------------------------------------------------------------------------------------ */

struct request {
    const char *file;
    const char *mode;
    bool any_option;
    uint64_t blksize, windowsize, timeout, tsize; /* 0: not asked for; tsize: UINT64_MAX */
};

/* Takes the next NUL-terminated field of the request, or NULL where there is none. */
static const char *field(const uint8_t *bytes, size_t size, size_t *at)
{
    const uint8_t *start = bytes + *at;
    const uint8_t *end = *at < size ? memchr(start, 0, size - *at) : NULL;
    if (end == NULL)
        return NULL;
    *at += (size_t)(end - start) + 1;
    return (const char *)start;
}

static bool parse(const uint8_t *bytes, size_t size, struct request *r)
{
    size_t at = 2;
    *r = (struct request){.tsize = UINT64_MAX};
    r->file = field(bytes, size, &at);
    r->mode = field(bytes, size, &at);
    if (r->file == NULL || r->file[0] == '\0' || r->mode == NULL)
        return false;
    while (at < size) {
        const char *name = field(bytes, size, &at);
        const char *value = field(bytes, size, &at);
        if (name == NULL || value == NULL)
            return false;
        r->any_option = true;
        char *end;
        uint64_t number = strtoull(value, &end, 10);
        if (end == value || *end != '\0')
            continue; /* RFC 2347: an option that is not understood is left out of the answer */
        if (strcasecmp(name, "blksize") == 0 && number >= 8 && number <= 65464)
            r->blksize = number;
        else if (strcasecmp(name, "windowsize") == 0 && number >= 1 && number <= 65535)
            r->windowsize = number;
        else if (strcasecmp(name, "timeout") == 0 && number >= 1 && number <= 255)
            r->timeout = number;
        else if (strcasecmp(name, "tsize") == 0)
            r->tsize = number;
    }
    return true;
}

static void add_option(struct ebi_sim_push *p, const char *name, uint64_t value)
{
    size_t room = sizeof p->first_reply - p->first_reply_size;
    int n = snprintf((char *)p->first_reply + p->first_reply_size, room, "%s%c%llu", name, 0,
                     (unsigned long long)value);
    p->first_reply_size += (size_t)n + 1;
}

static void answer_options(const struct ebi_sim_device *d, struct ebi_sim_push *p, const struct request *r)
{
    static const uint8_t ack[4] = {0, TFTP_ACK, 0, 0};
    p->blksize = BLKSIZE_DEFAULT;
    p->windowsize = 1;
    p->interval_us = INTERVAL_US;
    memcpy(p->first_reply, ack, sizeof ack);
    p->first_reply_size = sizeof ack;
    if (d->options != EBI_SIM_OPTIONS_TAKEN)
        return;
    p->first_reply[1] = TFTP_OACK;
    p->first_reply_size = 2;
    if (r->blksize != 0 && d->blksize_max != 0) {
        p->blksize = r->blksize < d->blksize_max ? r->blksize : d->blksize_max;
        add_option(p, "blksize", p->blksize);
    }
    if (r->windowsize != 0 && d->windowsize_max != 0) {
        p->windowsize = (uint32_t)(r->windowsize < d->windowsize_max ? r->windowsize : d->windowsize_max);
        add_option(p, "windowsize", p->windowsize);
    }
    if (r->timeout != 0) {
        p->interval_us = r->timeout * 1000000;
        add_option(p, "timeout", r->timeout);
    }
    if (r->tsize != UINT64_MAX)
        add_option(p, "tsize", r->tsize);
    if (p->first_reply_size == 2) {
        memcpy(p->first_reply, ack, sizeof ack);
        p->first_reply_size = sizeof ack;
    }
}

/* Which of the component's files it is; the number of them: none. */
static size_t file_of(const struct ebi_sim_component *c, const char *file)
{
    size_t i = 0;
    while (i < c->file_count && strcmp(c->files[i], file) != 0)
        i++;
    return i;
}

/* Of the device itself, or of a module in its rack: `*owner`. */
static struct ebi_sim_component *component_for(struct ebi_sim_device *d, const char *file,
                                               struct ebi_sim_device **owner)
{
    for (struct ebi_sim_device *of = d; of != NULL; of = of == d ? d->modules : of->next_module) {
        for (size_t i = 0; i < of->count; i++) {
            struct ebi_sim_component *c = &of->components[i];
            *owner = of;
            if (c->file_count > 0 ? file_of(c, file) < c->file_count : strcmp(c->file_name, file) == 0)
                return c;
        }
    }
    return NULL;
}

static void send_first_reply(struct ebi_sim_device *d)
{
    d->net->udp_send(d->net->self, d->push.handle, &d->push.peer, d->push.first_reply,
                     d->push.first_reply_size);
    d->push.timer_us = now(d) + d->push.interval_us;
}

static void request_push(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                         const uint8_t *bytes, size_t size)
{
    struct ebi_sim_push *p = &d->push;
    struct request r;
    if (size < 4)
        return;
    unsigned opcode = get16(bytes);
    if (opcode == TFTP_ERROR || (opcode == TFTP_RRQ && ebi_sim_pull_request(d, from, bytes, size)))
        return;
    bool same = p->state != EBI_SIM_PUSH_NONE && eb_endpoint_same(from, &p->peer);
    if (opcode != TFTP_WRQ || !parse(bytes, size, &r)) {
        send_error(d, handle, from, opcode == TFTP_RRQ ? TFTP_E_ACCESS : TFTP_E_ILLEGAL,
                   opcode == TFTP_RRQ ? "nothing can be read here" : "not a write request");
        return;
    }
    if (same && (p->state == EBI_SIM_PUSH_ERASING || p->state == EBI_SIM_PUSH_DALLYING))
        return; /* a repeated request: answered when the flash is erased, or all done already */
    if (same && p->state == EBI_SIM_PUSH_RECEIVING && p->expected == 1) {
        send_first_reply(d);
        return;
    }
    if (p->state == EBI_SIM_PUSH_ERASING || (p->state == EBI_SIM_PUSH_RECEIVING && !same)) {
        send_error(d, handle, from, TFTP_E_UNDEFINED, "busy with another transfer");
        return;
    }
    struct ebi_sim_device *owner = d;
    struct ebi_sim_component *c = component_for(d, r.file, &owner);
    struct ebi_sim_document *document = c == NULL ? ebi_sim_document_named(d, r.file) : NULL;
    c = document != NULL ? ebi_sim_document_file(d) : c;
    if (strcasecmp(r.mode, "octet") != 0) {
        send_error(d, handle, from, TFTP_E_ILLEGAL, "only mode octet");
    } else if (c == NULL) {
        send_error(d, handle, from, TFTP_E_NOT_FOUND, "no component takes a file of this name");
    } else if (r.any_option && d->options == EBI_SIM_OPTIONS_REFUSED) {
        send_error(d, handle, from, TFTP_E_OPTION, "no options here");
    } else if (r.any_option && d->options == EBI_SIM_OPTIONS_DROPPED) {
        return;
    } else if (ebi_sim_device_busy(d)) {
        send_error(d, handle, from, TFTP_E_UNDEFINED, "busy, try again");
    } else if (!ebi_sim_device_alive(owner)) {
        send_error(d, handle, from, TFTP_E_UNDEFINED, "the module does not answer");
    } else if (document != NULL && document->refuses) {
        send_error(d, handle, from, TFTP_E_ACCESS, "not taken");
    } else if (document == NULL && !ebi_sim_device_writable(owner)) {
        send_error(d, handle, from, TFTP_E_ACCESS,
                   owner->writable == EBI_SIM_WRITABLE_LOADER ? "only in the loader"
                                                              : "stop the program first");
    } else if (c->file_count > 0 && file_of(c, r.file) != 0 && file_of(c, r.file) != c->files_taken) {
        send_error(d, handle, from, TFTP_E_ACCESS, "the files come in their order");
    } else if (r.tsize != UINT64_MAX && r.tsize > c->capacity) {
        send_error(d, handle, from, TFTP_E_FULL, "larger than the memory");
    } else {
        end_push(d);
        answer_options(d, p, &r);
        p->state = EBI_SIM_PUSH_ERASING;
        p->component = c;
        p->document = document;
        p->owner = owner;
        p->bank = c->bank[c->banks == 2 ? 1 - c->active : c->active];
        c->pending = false;
        p->peer = *from;
        p->handle = d->net->udp_bind(d->net->self, d, 0);
        p->expected = 1;
        p->in_window = 0;
        c->files_taken = c->file_count > 0 ? file_of(c, r.file) : 0;
        c->filled = c->files_taken > 0 ? c->filled : 0;
        p->received = c->filled;
        p->acked_gap = false;
        p->ack_due = false;
        p->tries = 0;
        p->began_us = now(d);
        p->timer_us = now(d) + (c->files_taken > 0 || document != NULL ? 0 : owner->erase_ms * 1000ULL);
    }
}

/* --- data ---------------------------------------------------------------------------------------- */

static unsigned wire_number(const struct ebi_sim_device *d, uint64_t block)
{
    if (d->rollover_to_one)
        return block == 0 ? 0 : (unsigned)((block - 1) % 65535 + 1);
    return (unsigned)(block % 65536);
}

static void send_ack(struct ebi_sim_device *d)
{
    struct ebi_sim_push *p = &d->push;
    unsigned number = wire_number(d, p->expected - 1);
    const uint8_t ack[4] = {0, TFTP_ACK, (uint8_t)(number >> 8), (uint8_t)number};
    p->in_window = 0;
    p->ack_due = false;
    p->timer_us = now(d) + p->interval_us * (p->state == EBI_SIM_PUSH_DALLYING ? DALLY_INTERVALS : 1);
    if (p->state == EBI_SIM_PUSH_DALLYING && d->conduct.no_last_ack)
        return;
    d->net->udp_send(d->net->self, p->handle, &p->peer, ack, sizeof ack);
}

/* Acknowledges when the flash has taken what came. */
static void ack_when_written(struct ebi_sim_device *d)
{
    if (d->push.busy_until_us <= now(d))
        send_ack(d);
    else
        d->push.ack_due = true;
}

static void store(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_push *p = &d->push;
    ebi_sim_device_write(p->owner, p->bank, p->bank + p->received, bytes, size);
    p->received += size;
    if (p->owner->write_bytes_per_s > 0) {
        uint64_t from_us = p->busy_until_us > now(d) ? p->busy_until_us : now(d);
        p->busy_until_us = from_us + (uint64_t)size * 1000000 / p->owner->write_bytes_per_s;
    }
}

static void receive_data(struct ebi_sim_device *d, unsigned number, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_push *p = &d->push;
    /* A repeated block inside a window says nothing; the last one of a window, that our ACK was lost. */
    bool last_again = p->expected > 1 && p->in_window == 0 && number == wire_number(d, p->expected - 1);
    if (p->state == EBI_SIM_PUSH_RECEIVING && number == wire_number(d, p->expected)) {
        if (size > p->blksize)
            return;
        if (p->received + size > p->component->capacity) {
            send_error(d, p->handle, &p->peer, TFTP_E_FULL, "larger than the memory");
            end_push(d);
            return;
        }
        store(d, bytes, size);
        p->expected++;
        p->in_window++;
        p->tries = 0;
        p->acked_gap = false;
        p->timer_us = now(d) + p->interval_us;
        if (size < p->blksize) {
            p->state = EBI_SIM_PUSH_DALLYING;
            p->component->filled = p->received;
            p->component->files_taken++;
            p->component->pending =
                p->component->banks == 2 && p->component->files_taken >= p->component->file_count;
            if (p->document != NULL)
                ebi_sim_document_write(p->document, p->bank, p->received);
            else if (p->owner->conduct.restarts_itself)
                ebi_sim_device_restart(p->owner, false,
                                       p->busy_until_us > now(d) ? p->busy_until_us - now(d) : 0);
        }
        if (p->state == EBI_SIM_PUSH_DALLYING || p->in_window == p->windowsize)
            ack_when_written(d);
    } else if (p->ack_due) {
        return; /* the answer is on its way */
    } else if (last_again) {
        send_ack(d);
    } else if (p->state == EBI_SIM_PUSH_RECEIVING && !p->acked_gap &&
               (number - wire_number(d, p->expected)) % 65536 < 32768) {
        p->acked_gap = true; /* RFC 7440 section 4: once per gap, the last one in order */
        send_ack(d);
    }
}

static void receive_push(struct ebi_sim_device *d, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size)
{
    struct ebi_sim_push *p = &d->push;
    if (size < 4)
        return;
    unsigned opcode = get16(bytes);
    if (!eb_endpoint_same(from, &p->peer)) {
        if (opcode != TFTP_ERROR)
            send_error(d, p->handle, from, TFTP_E_UNKNOWN_TID, "unknown transfer");
    } else if (opcode == TFTP_ERROR) {
        if (p->state != EBI_SIM_PUSH_DALLYING)
            end_push(d);
    } else if (opcode != TFTP_DATA) {
        send_error(d, p->handle, from, TFTP_E_ILLEGAL, "data expected");
        end_push(d);
    } else if (p->state != EBI_SIM_PUSH_ERASING) {
        receive_data(d, get16(bytes + 2), bytes + 4, size - 4);
    }
}

/* --- time and power ------------------------------------------------------------------------------ */

static uint64_t push_deadline_us(const struct ebi_sim_device *d)
{
    const struct ebi_sim_push *p = &d->push;
    if (p->state == EBI_SIM_PUSH_NONE)
        return EB_NEVER;
    return p->ack_due ? p->busy_until_us : p->timer_us;
}

static void tick_push(struct ebi_sim_device *d)
{
    struct ebi_sim_push *p = &d->push;
    if (now(d) < push_deadline_us(d))
        return;
    if (p->ack_due) {
        send_ack(d);
    } else if (p->state == EBI_SIM_PUSH_ERASING) {
        if (p->component->files_taken == 0)
            memset(p->bank, 0xFF, p->component->capacity);
        p->state = EBI_SIM_PUSH_RECEIVING;
        p->busy_until_us = now(d);
        send_first_reply(d);
    } else if (p->state == EBI_SIM_PUSH_DALLYING) {
        end_push(d);
    } else if (++p->tries >= TRIES_MAX) {
        send_error(d, p->handle, &p->peer, TFTP_E_UNDEFINED, "no data came");
        end_push(d);
    } else if (p->expected == 1) {
        send_first_reply(d);
    } else {
        send_ack(d);
    }
}

static void lose_power(struct ebi_sim_device *d)
{
    struct ebi_sim_push *p = &d->push;
    if (p->state == EBI_SIM_PUSH_ERASING && p->owner->erase_ms > 0) {
        uint64_t done_us = now(d) - p->began_us;
        size_t capacity = p->component->capacity;
        size_t erased = (size_t)(capacity * done_us / (p->owner->erase_ms * 1000ULL));
        memset(p->bank, 0xFF, erased < capacity ? erased : capacity);
    }
    if (p->state == EBI_SIM_PUSH_DALLYING && p->ack_due)
        p->component->pending = false; /* its last blocks were not written yet */
    end_push(d);
}

/* ------------------------------------------------------------------------------------------------- */

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    return tcp ? 0 : d->tftp_port;
}

static bool owns(const struct ebi_sim_device *d, int handle)
{
    return handle != EB_NO_HANDLE && (handle == d->push.handle || handle == d->pull.handle);
}

static void datagram(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size)
{
    if (handle == d->pull.handle)
        ebi_sim_pull_receive(d, from, bytes, size);
    else if (handle == d->push.handle)
        receive_push(d, from, bytes, size);
    else
        request_push(d, handle, from, bytes, size);
}

static void alive(struct ebi_sim_device *d, bool on)
{
    if (on)
        return;
    lose_power(d);
    ebi_sim_pull_end(d);
}

static void tick(struct ebi_sim_device *d)
{
    tick_push(d);
    ebi_sim_pull_tick(d);
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    uint64_t push_us = push_deadline_us(d);
    uint64_t pull_us = ebi_sim_pull_deadline_us(d);
    return push_us < pull_us ? push_us : pull_us;
}

const struct ebi_sim_server ebi_sim_tftp = {.word = "tftp",
                                            .port = port,
                                            .owns = owns,
                                            .datagram = datagram,
                                            .alive = alive,
                                            .tick = tick,
                                            .deadline_us = deadline_us};
