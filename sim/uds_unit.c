/* The simulated control unit: UDS (ISO 14229-1) over ISO-TP (ISO 15765-2). */
#include "device.h"
#include "documents.h"
#include "values.h"
#include "wire/uds_wire.h"

#include <string.h>
#include <zlib.h>

enum {
    S3_US = 5000000,
    TP_PATIENCE_US = 1000000,
    WAIT_US = 200000,
    FAULT_STATUS = 0x2F,          /* of each code: failed, pending, confirmed */
    WRITE_ROUTINE_CHECK = 0x0202, /* its own: compares the CRC-32 of what was written */
    PENDING_EVERY_US = 1500000    /* well below the 2 s that it announces */
};

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static uint32_t get_be(const uint8_t *at, unsigned size)
{
    uint32_t value = 0;
    while (size-- > 0)
        value = value << 8 | *at++;
    return value;
}

/* --- ISO-TP -------------------------------------------------------------------------------------- */

static void tp_send(struct ebi_sim_device *d, const uint8_t *data, size_t size, uint64_t delay_us)
{
    const struct ebi_sim_uds *u = &d->can.uds;
    struct eb_can_frame frame = {.id = u->response, .size = 8};
    uint8_t *to = frame.data;
    frame.flags = u->extended_ids ? EB_CAN_EXTENDED : 0;
    memset(frame.data, 0xAA, sizeof frame.data);
    if (u->extended)
        *to++ = u->tester;
    memcpy(to, data, size);
    ebi_sim_can_send(d, &frame, delay_us);
}

static size_t tp_room(const struct ebi_sim_uds *u)
{
    return u->extended ? 7 : 8;
}

static void send_flow(struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    bool waits = u->waits_left > 0;
    u->waits_left -= waits;
    const uint8_t flow[3] = {(uint8_t)(TP_FLOW | (waits ? TP_WAIT : TP_CONTINUE)), u->block_size,
                             u->separation};
    tp_send(d, flow, sizeof flow, d->can.response_us);
    u->tp.waiting = waits;
    u->tp.rx_until_us = now(d) + (waits ? WAIT_US : TP_PATIENCE_US);
}

void ebi_sim_isotp_send(struct ebi_sim_device *d, const uint8_t *bytes, size_t size, uint64_t delay_us)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_sim_isotp *t = &u->tp;
    size_t room = tp_room(u);
    uint8_t data[8];
    if (size <= room - 1) {
        data[0] = (uint8_t)size;
        memcpy(data + 1, bytes, size);
        tp_send(d, data, size + 1, delay_us);
        return;
    }
    memcpy(t->tx, bytes, size);
    t->tx_size = size;
    t->tx_at = room - 2;
    data[0] = (uint8_t)(TP_FIRST | size >> 8);
    data[1] = (uint8_t)size;
    memcpy(data + 2, bytes, room - 2);
    tp_send(d, data, room, delay_us);
    t->sending = true;
    t->may_send = false;
    t->tx_sequence = 1;
    t->tx_until_us = now(d) + delay_us + TP_PATIENCE_US;
}

static void send_consecutive(struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_sim_isotp *t = &u->tp;
    while (t->sending && t->may_send && now(d) >= t->tx_next_us) {
        uint8_t data[8] = {(uint8_t)(TP_CONSECUTIVE | t->tx_sequence)};
        size_t n = t->tx_size - t->tx_at < tp_room(u) - 1 ? t->tx_size - t->tx_at : tp_room(u) - 1;
        memcpy(data + 1, t->tx + t->tx_at, n);
        tp_send(d, data, n + 1, 0);
        t->tx_at += n;
        t->tx_sequence = (t->tx_sequence + 1) & 15;
        t->tx_next_us = now(d) + t->separation_us;
        t->sending = t->tx_at < t->tx_size;
        if (t->limited && --t->block_left == 0) {
            t->may_send = false;
            t->tx_until_us = now(d) + TP_PATIENCE_US;
        }
    }
}

void ebi_sim_isotp_frame(struct ebi_sim_device *d, const uint8_t *data, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_sim_isotp *t = &u->tp;
    size_t room = tp_room(u);
    if (size == 0)
        return;
    unsigned kind = data[0] & 0xF0;
    if (kind == TP_SINGLE) {
        unsigned n = data[0] & 15;
        if (n >= 1 && n < room && n < size) {
            t->receiving = false;
            ebi_sim_uds_message(d, data + 1, n);
        }
    } else if (kind == TP_FIRST && size == room) {
        size_t head = 2;
        t->rx_size = (data[0] & 15U) << 8 | data[1];
        if (t->rx_size == 0) {
            t->rx_size = get_be(data + 2, 4);
            head = 6;
        }
        if (t->rx_size > sizeof t->rx) {
            const uint8_t overflow[3] = {TP_FLOW | TP_OVERFLOW, 0, 0};
            tp_send(d, overflow, sizeof overflow, d->can.response_us);
            return;
        }
        t->rx_at = size - head;
        memcpy(t->rx, data + head, t->rx_at);
        t->receiving = true;
        t->sequence = 1;
        t->in_block = 0;
        u->waits_left = u->waits;
        send_flow(d);
    } else if (kind == TP_CONSECUTIVE && t->receiving) {
        size_t n = t->rx_size - t->rx_at < room - 1 ? t->rx_size - t->rx_at : room - 1;
        if ((data[0] & 15) != t->sequence || size < n + 1) {
            t->receiving = false;
            return;
        }
        memcpy(t->rx + t->rx_at, data + 1, n);
        t->rx_at += n;
        t->sequence = (t->sequence + 1) & 15;
        t->rx_until_us = now(d) + TP_PATIENCE_US;
        if (t->rx_at == t->rx_size) {
            t->receiving = false;
            ebi_sim_uds_message(d, t->rx, t->rx_size);
        } else if (u->block_size > 0 && ++t->in_block == u->block_size) {
            t->in_block = 0;
            send_flow(d);
        }
    } else if (kind == TP_FLOW && t->sending && size >= 3) {
        unsigned st = data[2];
        if ((data[0] & 15) == TP_CONTINUE) {
            t->separation_us = st <= 0x7F                 ? st * 1000U
                               : st >= 0xF1 && st <= 0xF9 ? (st - 0xF0U) * 100U
                                                          : 127000;
            t->limited = data[1] != 0;
            t->block_left = data[1];
            t->may_send = true;
            t->tx_next_us = now(d) + d->can.response_us;
        } else if ((data[0] & 15) == TP_WAIT) {
            t->tx_until_us = now(d) + TP_PATIENCE_US;
        } else {
            t->sending = false;
        }
    }
}

void ebi_sim_isotp_tick(struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_sim_isotp *t = &u->tp;
    if (t->receiving && now(d) >= t->rx_until_us) {
        if (t->waiting)
            send_flow(d);
        else
            t->receiving = false;
    }
    if (t->sending && !t->may_send && now(d) >= t->tx_until_us)
        t->sending = false;
    send_consecutive(d);
}

uint64_t ebi_sim_isotp_deadline_us(const struct ebi_sim_device *d)
{
    const struct ebi_sim_isotp *t = &d->can.uds.tp;
    uint64_t next_us = t->receiving ? t->rx_until_us : EB_NEVER;
    uint64_t send_us = !t->sending ? EB_NEVER : t->may_send ? t->tx_next_us : t->tx_until_us;
    return next_us < send_us ? next_us : send_us;
}

/* --- UDS ----------------------------------------------------------------------------------------- */

void ebi_sim_uds_alive(struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    memset(&u->tp, 0, sizeof u->tp);
    /* A loader that was asked for is in its session already. */
    u->session =
        d->mode == EB_SIM_LOADER && d->components[0].valid ? UDS_PROGRAMMING_SESSION : UDS_DEFAULT_SESSION;
    u->session_until_us = now(d) + S3_US;
    u->unlocked = u->seed_given = u->erased = u->downloading = u->uploading = false;
    u->later_us = u->pending_us = EB_NEVER;
    if (u->session_asked && d->mode == EB_SIM_LOADER) {
        const uint8_t answer[6] = {UDS_SESSION + UDS_POSITIVE, UDS_PROGRAMMING_SESSION, 0, 50, 0, 200};
        ebi_sim_isotp_send(d, answer, sizeof answer, d->can.response_us);
    }
    u->session_asked = false;
}

static void reply(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    ebi_sim_isotp_send(d, bytes, size, d->can.response_us);
}

static void refuse(struct ebi_sim_device *d, uint8_t service, uint8_t code)
{
    const uint8_t bytes[3] = {UDS_NEGATIVE, service, code};
    reply(d, bytes, sizeof bytes);
}

/* Answers once `ms` have passed, and says meanwhile that it is still at it. */
static void reply_later(struct ebi_sim_device *d, const uint8_t *bytes, size_t size, uint64_t ms)
{
    struct ebi_sim_uds *u = &d->can.uds;
    memcpy(u->later, bytes, size);
    u->later_size = size;
    u->later_us = now(d) + ms * 1000;
    u->pending_us = ms > 0 ? now(d) : EB_NEVER;
}

static size_t text_value(const char *text, uint8_t *to)
{
    size_t size = strlen(text);
    memcpy(to, text, size);
    return size;
}

/* The value of a data identifier; 0: there is none. */
static size_t read_value(const struct ebi_sim_device *d, uint16_t did, uint8_t *to)
{
    const struct ebi_sim_uds *u = &d->can.uds;
    const struct ebi_sim_document *document;
    const uint8_t *part;
    char crc[9];
    uint32_t held;
    switch (did) {
    case 0xF187:
        return text_value(d->identity.order_code, to);
    case 0xF18A:
        return text_value(d->identity.maker, to);
    case 0xF18C:
        return text_value(ebi_sim_device_serial(d), to);
    case 0xF191:
        return text_value(d->identity.hardware_revision, to);
    case 0xF197:
        return text_value(d->identity.product, to);
    case 0xF181: /* "application 20260310" or, in the loader, nothing */
    case 0xF189:
        return text_value(ebi_sim_device_version(d, 0), to);
    case 0xF180:
        return text_value(d->mode == EB_SIM_LOADER ? "boot" : "application", to);
    case 0xF184:
        memcpy(to, u->fingerprint, u->fingerprint_size);
        return u->fingerprint_size;
    case 0xF186:
        to[0] = u->session;
        return 1;
    case 0xF1F0: /* its own: CRC-32 of what runs */
        for (int i = 0; i < 8; i++)
            crc[i] = "0123456789ABCDEF"[d->components[0].checksum >> (28 - 4 * i) & 15];
        memcpy(to, crc, 8);
        return d->components[0].valid ? 8 : 0;
    default:
        document = ebi_sim_document_in_parts(d, did);
        if (document != NULL) {
            size_t size = ebi_sim_document_part(document, did - document->number, &part);
            memcpy(to, part, size);
            return size;
        }
        if (!ebi_sim_value_of(d, did, &held))
            return 0;
        for (int i = 0; i < 4; i++)
            to[i] = (uint8_t)(held >> (24 - 8 * i));
        return 4;
    }
}

/* ISO 14229-1 section 11.3: sub-function 02h, each code in three bytes with its status behind it. */
static void read_faults(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    const struct ebi_sim_log *log = ebi_sim_log_of(d);
    uint8_t answer[3 + 4 * EBI_SIM_LOG_MAX] = {UDS_FAULTS + UDS_POSITIVE, UDS_FAULTS_BY_MASK, 0xFF};
    size_t at = 3;
    if (log == NULL || size != 3 || bytes[1] != UDS_FAULTS_BY_MASK) {
        refuse(d, UDS_FAULTS, log == NULL ? NRC_SERVICE : size != 3 ? NRC_LENGTH : NRC_SUB_FUNCTION);
        return;
    }
    for (size_t i = 0; i < log->count && (bytes[2] & FAULT_STATUS) != 0; i++) {
        for (int k = 0; k < 3; k++)
            answer[at++] = (uint8_t)(log->entries[i] >> (16 - 8 * k));
        answer[at++] = FAULT_STATUS;
    }
    reply(d, answer, at);
}

static void read_data(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    uint8_t answer[512] = {UDS_READ + UDS_POSITIVE};
    size_t at = 1;
    if (size < 3 || size % 2 == 0 || size > 17) {
        refuse(d, UDS_READ, NRC_LENGTH);
        return;
    }
    for (size_t i = 1; i < size; i += 2) {
        uint16_t did = (uint16_t)(bytes[i] << 8 | bytes[i + 1]);
        size_t n = read_value(d, did, answer + at + 2);
        if (n == 0)
            continue; /* ISO 14229-1 section 11.2: answered where at least one is supported */
        answer[at] = bytes[i];
        answer[at + 1] = bytes[i + 1];
        at += 2 + n;
    }
    if (at == 1)
        refuse(d, UDS_READ, NRC_RANGE);
    else
        reply(d, answer, at);
}

static void change_session(struct ebi_sim_device *d, uint8_t session, bool quiet)
{
    struct ebi_sim_uds *u = &d->can.uds;
    const uint8_t answer[6] = {UDS_SESSION + UDS_POSITIVE, session, 0, 50, 0, 200}; /* P2 50 ms, P2* 2 s */
    if (session < UDS_DEFAULT_SESSION || session > UDS_EXTENDED_SESSION) {
        refuse(d, UDS_SESSION, NRC_SUB_FUNCTION);
        return;
    }
    if (session == UDS_PROGRAMMING_SESSION && d->mode != EB_SIM_LOADER) {
        if (u->session != UDS_EXTENDED_SESSION) {
            refuse(d, UDS_SESSION, NRC_SUB_NOT_IN_SESSION);
            return;
        }
        /* The loader answers, once it runs; until then: pending. */
        refuse(d, UDS_SESSION, NRC_PENDING);
        u->session_asked = true;
        ebi_sim_device_restart(d, true, 0);
        return;
    }
    if (session == UDS_DEFAULT_SESSION && d->mode == EB_SIM_LOADER && d->components[0].valid)
        ebi_sim_device_restart(d, false, 0);
    u->session = session;
    u->unlocked = u->seed_given = false;
    if (!quiet)
        reply(d, answer, sizeof answer);
}

static void unlock(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    if (now(d) >= u->locked_until_us && u->locked_until_us != 0)
        u->locked_until_us = u->attempts = 0;
    if (u->session == UDS_DEFAULT_SESSION) {
        refuse(d, UDS_SECURITY, NRC_NOT_IN_SESSION);
    } else if (u->locked_until_us != 0) { /* ISO 14229-1 section 9.4: also over a restart */
        refuse(d, UDS_SECURITY, NRC_DELAY);
    } else if (size == 2 && bytes[1] == 1) {
        uint8_t answer[6] = {UDS_SECURITY + UDS_POSITIVE, 1};
        u->seed = u->unlocked ? 0 : (uint32_t)(now(d) * 2654435761U | 1U);
        for (int i = 0; i < 4; i++)
            answer[2 + i] = (uint8_t)(u->seed >> (24 - 8 * i));
        u->seed_given = true;
        reply(d, answer, sizeof answer);
    } else if (size == 6 && bytes[1] == 2 && u->seed_given) {
        const uint8_t answer[2] = {UDS_SECURITY + UDS_POSITIVE, 2};
        u->seed_given = false;
        u->unlocked = get_be(bytes + 2, 4) == u->seed + u->key;
        if (u->unlocked) {
            u->attempts = 0;
            reply(d, answer, sizeof answer);
        } else if (++u->attempts >= u->attempts_max) {
            u->locked_until_us = u->lock_delay_ms > 0 ? now(d) + u->lock_delay_ms * 1000ULL : EB_NEVER;
            refuse(d, UDS_SECURITY, NRC_ATTEMPTS);
        } else {
            refuse(d, UDS_SECURITY, NRC_KEY);
        }
    } else {
        refuse(d, UDS_SECURITY, size < 2 ? NRC_LENGTH : bytes[1] == 2 ? NRC_SEQUENCE : NRC_SUB_FUNCTION);
    }
}

static void routine(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_sim_component *c = &d->components[0];
    uint32_t id = size >= 4 ? get_be(bytes + 2, 2) : 0;
    uint8_t answer[5] = {UDS_ROUTINE + UDS_POSITIVE, UDS_ROUTINE_START, bytes[2], bytes[3], 0};
    if (size < 4 || bytes[1] != UDS_ROUTINE_START) {
        refuse(d, UDS_ROUTINE, size < 4 ? NRC_LENGTH : NRC_SUB_FUNCTION);
    } else if (id == u->reset_routine && id != 0 && u->session != UDS_DEFAULT_SESSION) {
        ebi_sim_documents_reset(d);
        reply(d, answer, sizeof answer);
    } else if (u->session != UDS_PROGRAMMING_SESSION) {
        refuse(d, UDS_ROUTINE, NRC_NOT_IN_SESSION);
    } else if (!u->unlocked) {
        refuse(d, UDS_ROUTINE, NRC_SECURITY);
    } else if (id == UDS_ERASE) {
        /* length of address and size, address, size */
        if (size != 13 || bytes[4] != 0x44 || get_be(bytes + 5, 4) != u->base ||
            get_be(bytes + 9, 4) > c->capacity) {
            refuse(d, UDS_ROUTINE, size != 13 ? NRC_LENGTH : NRC_RANGE);
            return;
        }
        memset(c->bank[0], 0xFF, c->capacity);
        c->valid = false;
        u->erased = true;
        reply_later(d, answer, sizeof answer, d->erase_ms);
    } else if (id == WRITE_ROUTINE_CHECK) {
        if (size != 8) {
            refuse(d, UDS_ROUTINE, NRC_LENGTH);
            return;
        }
        answer[4] = (uint32_t)crc32_z(0, c->bank[0], u->received) != get_be(bytes + 4, 4);
        reply_later(d, answer, sizeof answer, u->pending_ms);
    } else if (id == UDS_DEPENDENCIES) {
        ebi_sim_device_examine(d);
        answer[4] = !c->valid;
        reply(d, answer, sizeof answer);
    } else {
        refuse(d, UDS_ROUTINE, NRC_RANGE);
    }
}

static void begin_download(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    const uint8_t answer[4] = {UDS_DOWNLOAD + UDS_POSITIVE, 0x20, (uint8_t)(u->block_length >> 8),
                               (uint8_t)u->block_length};
    if (size != 11 || bytes[2] != 0x44) {
        refuse(d, UDS_DOWNLOAD, NRC_LENGTH);
    } else if (!u->unlocked || u->session != UDS_PROGRAMMING_SESSION) {
        refuse(d, UDS_DOWNLOAD, NRC_SECURITY);
    } else if (!u->erased) {
        refuse(d, UDS_DOWNLOAD, NRC_CONDITIONS);
    } else if (bytes[1] != 0 || get_be(bytes + 3, 4) != u->base ||
               get_be(bytes + 7, 4) > d->components[0].capacity) {
        refuse(d, UDS_DOWNLOAD, NRC_RANGE);
    } else {
        u->expected = get_be(bytes + 7, 4);
        u->received = 0;
        u->counter = 0;
        u->downloading = true;
        reply(d, answer, sizeof answer);
    }
}

static void begin_upload(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    const uint8_t answer[4] = {UDS_UPLOAD + UDS_POSITIVE, 0x20, (uint8_t)(u->block_length >> 8),
                               (uint8_t)u->block_length};
    if (!d->conduct.readable) {
        refuse(d, UDS_UPLOAD, NRC_SERVICE);
    } else if (size != 11 || bytes[2] != 0x44) {
        refuse(d, UDS_UPLOAD, NRC_LENGTH);
    } else if (!u->unlocked || u->session != UDS_PROGRAMMING_SESSION) {
        refuse(d, UDS_UPLOAD, NRC_SECURITY);
    } else if (get_be(bytes + 3, 4) != u->base || get_be(bytes + 7, 4) > d->components[0].capacity) {
        refuse(d, UDS_UPLOAD, NRC_RANGE);
    } else {
        u->expected = get_be(bytes + 7, 4);
        u->received = 0;
        u->counter = 0;
        u->uploading = true;
        reply(d, answer, sizeof answer);
    }
}

static void give_block(struct ebi_sim_device *d, const uint8_t *bytes)
{
    struct ebi_sim_uds *u = &d->can.uds;
    uint8_t answer[EBI_SIM_UDS_BYTES] = {UDS_TRANSFER + UDS_POSITIVE, bytes[1]};
    uint32_t most = u->block_length - 2U;
    uint32_t from = u->received;
    bool again = bytes[1] == u->counter && u->counter != 0;
    if (again)
        from -= u->received % most == 0 ? most : u->received % most;
    else if (bytes[1] != (uint8_t)(u->counter + 1) || u->received == u->expected) {
        refuse(d, UDS_TRANSFER, NRC_COUNTER);
        return;
    }
    uint32_t size = u->expected - from < most ? u->expected - from : most;
    memcpy(answer + 2, d->components[0].bank[0] + from, size);
    u->received = from + size;
    u->counter = bytes[1];
    reply(d, answer, 2 + size);
}

static void transfer(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    const uint8_t answer[2] = {UDS_TRANSFER + UDS_POSITIVE, bytes[1]};
    uint64_t ms = 0;
    if (u->uploading && size == 2) {
        give_block(d, bytes);
        return;
    }
    if (size < 3) {
        refuse(d, UDS_TRANSFER, NRC_LENGTH);
    } else if (!u->downloading) {
        refuse(d, UDS_TRANSFER, NRC_SEQUENCE);
    } else if (bytes[1] == u->counter && u->received > 0) {
        reply(d, answer, sizeof answer); /* again: it was written already */
    } else if (bytes[1] != (uint8_t)(u->counter + 1)) {
        refuse(d, UDS_TRANSFER, NRC_COUNTER);
    } else if (size > u->block_length || u->received + size - 2 > u->expected) {
        refuse(d, UDS_TRANSFER, size > u->block_length ? NRC_LENGTH : NRC_SUSPENDED);
    } else {
        ebi_sim_device_write(d, d->components[0].bank[0], d->components[0].bank[0] + u->received, bytes + 2,
                             size - 2);
        u->received += (uint32_t)size - 2;
        u->counter++;
        u->erased = false;
        if (d->write_bytes_per_s > 0)
            ms = (size - 2) * 1000U / d->write_bytes_per_s;
        if (ms > 40)
            reply_later(d, answer, sizeof answer, ms);
        else
            ebi_sim_isotp_send(d, answer, sizeof answer, d->can.response_us + ms * 1000);
    }
}

/* ISO 14229-1 section 11.7: not in the default session, and perhaps only unlocked. */
static void write_document(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    unsigned did = (unsigned)(bytes[1] << 8 | bytes[2]);
    struct ebi_sim_document *document = ebi_sim_document_in_parts(d, did);
    const uint8_t answer[3] = {UDS_WRITE + UDS_POSITIVE, bytes[1], bytes[2]};
    if (d->can.uds.session == UDS_DEFAULT_SESSION)
        refuse(d, UDS_WRITE, NRC_NOT_IN_SESSION);
    else if (document->needs_security && !d->can.uds.unlocked)
        refuse(d, UDS_WRITE, NRC_SECURITY);
    else if (document->refuses)
        refuse(d, UDS_WRITE, NRC_CONDITIONS);
    else if (!ebi_sim_document_put_part(document, did - document->number, bytes + 3, size - 3))
        refuse(d, UDS_WRITE, NRC_LENGTH);
    else
        reply(d, answer, sizeof answer);
}

void ebi_sim_uds_message(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_uds *u = &d->can.uds;
    const uint8_t sub = size > 1 ? bytes[1] & 0x7F : 0;
    bool quiet = size > 1 && (bytes[1] & UDS_QUIET) != 0;
    const uint8_t done[2] = {(uint8_t)(bytes[0] + UDS_POSITIVE), sub};
    u->session_until_us = now(d) + S3_US;
    if (u->later_us != EB_NEVER) {
        if (bytes[0] != UDS_PRESENT)
            refuse(d, bytes[0], NRC_BUSY);
        return;
    }
    if (bytes[0] == UDS_SESSION && sub == UDS_PROGRAMMING_SESSION && ebi_sim_device_busy(d)) {
        refuse(d, bytes[0], NRC_BUSY);
        return;
    }
    switch (bytes[0]) {
    case UDS_SESSION:
        if (size == 2)
            change_session(d, sub, quiet);
        else
            refuse(d, UDS_SESSION, NRC_LENGTH);
        return;
    case UDS_READ:
        read_data(d, bytes, size);
        return;
    case UDS_FAULTS:
        read_faults(d, bytes, size);
        return;
    case UDS_SECURITY:
        unlock(d, bytes, size);
        return;
    case UDS_ROUTINE:
        routine(d, bytes, size);
        return;
    case UDS_DOWNLOAD:
        begin_download(d, bytes, size);
        return;
    case UDS_UPLOAD:
        begin_upload(d, bytes, size);
        return;
    case UDS_TRANSFER:
        transfer(d, bytes, size);
        return;
    case UDS_EXIT:
        if (u->uploading) {
            u->uploading = false;
            reply(d, done, 1);
            return;
        }
        if (!u->downloading || u->received != u->expected) {
            refuse(d, UDS_EXIT, NRC_SEQUENCE);
        } else {
            u->downloading = false;
            reply(d, done, 1);
        }
        return;
    case UDS_WRITE:
        if (size >= 4 && ebi_sim_document_in_parts(d, (unsigned)(bytes[1] << 8 | bytes[2])) != NULL)
            write_document(d, bytes, size);
        else if (size < 4 || size > 3 + sizeof u->fingerprint || bytes[1] != 0xF1 || bytes[2] != 0x84) {
            refuse(d, UDS_WRITE, size < 4 ? NRC_LENGTH : NRC_RANGE);
        } else if (!u->unlocked) {
            refuse(d, UDS_WRITE, NRC_SECURITY);
        } else {
            const uint8_t answer[3] = {UDS_WRITE + UDS_POSITIVE, 0xF1, 0x84};
            u->fingerprint_size = size - 3;
            memcpy(u->fingerprint, bytes + 3, u->fingerprint_size);
            reply(d, answer, sizeof answer);
        }
        return;
    case UDS_RESET:
        if (size != 2 || sub < 1 || sub > 3) {
            refuse(d, UDS_RESET, size != 2 ? NRC_LENGTH : NRC_SUB_FUNCTION);
            return;
        }
        ebi_sim_device_restart(d, false, 0);
        break;
    case UDS_PRESENT:
    case UDS_DTC_SETTING:
    case UDS_COMMUNICATION:
        if (bytes[0] != UDS_PRESENT && u->session == UDS_DEFAULT_SESSION) {
            refuse(d, bytes[0], NRC_NOT_IN_SESSION);
            return;
        }
        break;
    default:
        refuse(d, bytes[0], NRC_SERVICE);
        return;
    }
    if (!quiet)
        reply(d, done, 2);
}

/* Whether a consecutive frame begins later than STmin after the end of the one before (ISO 15765-2, STmin).
 */
static bool keeps_separation(struct ebi_sim_device *d, const struct eb_can_frame *f)
{
    struct ebi_sim_uds *u = &d->can.uds;
    uint64_t begin_us = f->at_us - (uint64_t)eb_can_bits(f) * 1000000 / d->can.bus->bit_rate;
    uint64_t least_us = u->separation <= 0x7F ? u->separation * 1000U : (u->separation & 15U) * 100U;
    size_t at = u->extended ? 1 : 0;
    bool early = (f->data[at] & 0xF0) == TP_CONSECUTIVE && (f->data[at] & 15) != 1 &&
                 begin_us + 1 < u->tp.rx_end_us + least_us;
    u->tp.rx_end_us = f->at_us;
    return !early || !u->wants_separation;
}

void ebi_sim_uds_frame(struct ebi_sim_device *d, const struct eb_can_frame *f)
{
    struct ebi_sim_uds *u = &d->can.uds;
    bool extended = (f->flags & EB_CAN_EXTENDED) != 0;
    if (f->id != u->request || extended != u->extended_ids || (f->flags & EB_CAN_REMOTE) != 0 ||
        (u->pads_strictly && f->size != 8))
        return;
    if (!keeps_separation(d, f))
        u->tp.receiving = false;
    if (!u->extended)
        ebi_sim_isotp_frame(d, f->data, f->size);
    else if (f->size > 0 && f->data[0] == u->target)
        ebi_sim_isotp_frame(d, f->data + 1, f->size - 1U);
}

void ebi_sim_uds_tick(struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    ebi_sim_isotp_tick(d);
    if (now(d) >= u->later_us) {
        u->later_us = u->pending_us = EB_NEVER;
        u->session_until_us = now(d) + S3_US;
        ebi_sim_isotp_send(d, u->later, u->later_size, 0);
    } else if (now(d) >= u->pending_us) {
        u->pending_us = now(d) + PENDING_EVERY_US;
        refuse(d, (uint8_t)(u->later[0] - UDS_POSITIVE), NRC_PENDING);
    }
    if (u->session != UDS_DEFAULT_SESSION && u->later_us == EB_NEVER && now(d) >= u->session_until_us) {
        u->session = UDS_DEFAULT_SESSION;
        u->unlocked = false;
        u->downloading = false;
        if (d->mode == EB_SIM_LOADER && d->components[0].valid)
            ebi_sim_device_restart(d, false, 0);
    }
}

uint64_t ebi_sim_uds_deadline_us(const struct ebi_sim_device *d)
{
    const struct ebi_sim_uds *u = &d->can.uds;
    uint64_t next_us = ebi_sim_isotp_deadline_us(d);
    const uint64_t others[] = {
        u->later_us, u->pending_us,
        u->session != UDS_DEFAULT_SESSION && u->later_us == EB_NEVER ? u->session_until_us : EB_NEVER};
    for (size_t i = 0; i < 3; i++)
        next_us = others[i] < next_us ? others[i] : next_us;
    return next_us;
}
