/* The simulated node of a CANopen bus: its states, its object dictionary, its program memory, and LSS.  CiA
 * 301, 302-3, 305. */
#include "device.h"
#include "documents.h"
#include "manager.h"
#include "values.h"
#include "wire/canopen_wire.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum { LSS_STEPS = 4, LSS_NODE_NONE = 0xFF };

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static uint32_t get32(const uint8_t *at)
{
    return (uint32_t)at[0] | (uint32_t)at[1] << 8 | (uint32_t)at[2] << 16 | (uint32_t)at[3] << 24;
}

static void put32(uint8_t *at, uint32_t value)
{
    for (int i = 0; i < 4; i++)
        at[i] = (uint8_t)(value >> 8 * i);
}

static void say_state(struct ebi_sim_device *d, uint8_t state)
{
    struct eb_can_frame frame = {.id = CO_ERROR_CONTROL + d->can.canopen.here, .size = 1, .data = {state}};
    ebi_sim_can_send(d, &frame, 0);
}

/* Where the world says what 1017h holds. */
static void take_heartbeat(struct ebi_sim_device *d)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    const struct ebi_sim_document *document = ebi_sim_document_of(d, OD_HEARTBEAT);
    if (document != NULL && document->now.size == 2)
        c->heartbeat_ms = document->now.bytes[0] | (uint32_t)document->now.bytes[1] << 8;
    c->heartbeat_us = c->heartbeat_ms > 0 ? now(d) + c->heartbeat_ms * 1000ULL : EB_NEVER;
}

void ebi_sim_canopen_alive(struct ebi_sim_device *d)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    bool loader = d->mode == EB_SIM_LOADER;
    c->here = loader ? c->loader_node : c->lss_node != 0 ? c->lss_node : c->node;
    memset(&c->sdo, 0, sizeof c->sdo);
    c->toggle = false;
    c->cleared = false;
    c->clear_until_us = c->busy_until_us = 0;
    c->flash_error = d->components[0].valid ? 0 : 1;
    c->lss = false;
    c->nmt = CO_STATE_PREOPERATIONAL;
    take_heartbeat(d);
    if (c->here != LSS_NODE_NONE)
        say_state(d, CO_STATE_BOOT_UP);
}

/* --- objects ------------------------------------------------------------------------------------- */

static size_t text_object(const char *text, uint8_t *bytes)
{
    size_t size = strlen(text);
    if (size > EBI_SIM_SDO_BYTES)
        size = EBI_SIM_SDO_BYTES;
    memcpy(bytes, text, size);
    return size;
}

static size_t number_object(uint32_t value, uint8_t *bytes)
{
    put32(bytes, value);
    return 4;
}

static uint32_t flash_status(const struct ebi_sim_device *d)
{
    const struct ebi_sim_canopen *c = &d->can.canopen;
    bool busy = now(d) < c->clear_until_us || now(d) < c->busy_until_us;
    return (busy ? FLASH_BUSY : 0) | (uint32_t)c->flash_error << 1;
}

/* Reads an object; its size, or 0 with the reason. */
static size_t read_object(const struct ebi_sim_device *d, uint16_t index, uint8_t sub, uint8_t *bytes,
                          uint32_t *error)
{
    const struct ebi_sim_canopen *c = &d->can.canopen;
    bool loader = d->mode == EB_SIM_LOADER;
    if (ebi_sim_manager_has(d, index))
        return ebi_sim_manager_read(d, index, sub, bytes, error);
    *error = SDO_E_NO_SUB;
    if (index == OD_IDENTITY) {
        const uint32_t values[] = {4, c->vendor, loader ? c->loader_product : c->product, c->revision,
                                   (uint32_t)strtoul(ebi_sim_device_serial(d), NULL, 10)};
        if (sub > 4)
            return 0;
        if (sub == 0) {
            bytes[0] = 4;
            return 1;
        }
        return number_object(values[sub], bytes);
    }
    if (index == OD_PROGRAM_CONTROL || index == OD_PROGRAM_ID || index == OD_FLASH_STATUS) {
        if (sub == 0) {
            bytes[0] = 1;
            return 1;
        }
        if (sub != 1)
            return 0;
        if (index == OD_PROGRAM_CONTROL) {
            bytes[0] = loader ? d->components[0].valid ? 0 : 3 : 1;
            return 1;
        }
        return number_object(index == OD_FLASH_STATUS ? flash_status(d)
                             : d->components[0].valid ? d->components[0].checksum
                                                      : 0,
                             bytes);
    }
    if (index == OD_PROGRAM) { /* where it can be read, it is by `upload` */
        *error = sub <= 1 ? SDO_E_WRITE_ONLY : SDO_E_NO_SUB;
        return 0;
    }
    const struct ebi_sim_log *log = ebi_sim_log_of(d);
    if (log != NULL && index == log->number) { /* CiA 301 section 7.5.2.4: the newest is sub 1 */
        *error = sub <= EBI_SIM_LOG_MAX ? SDO_E_NO_DATA : SDO_E_NO_SUB;
        bytes[0] = (uint8_t)log->count;
        return sub == 0 ? 1 : sub <= log->count ? number_object(log->entries[sub - 1], bytes) : 0;
    }
    const struct ebi_sim_document *document = ebi_sim_document_of(d, index);
    if (document != NULL) { /* a part of it in each subindex */
        const uint8_t *part;
        bool first = sub == 0 && !document->whole;
        bytes[0] = (uint8_t)ebi_sim_document_parts(document);
        size_t size = first ? 1 : ebi_sim_document_part(document, document->whole ? sub : sub - 1U, &part);
        if (!first && size > 0)
            memcpy(bytes, part, size);
        return size;
    }
    if (index == OD_STORE && sub <= 4) {
        bytes[0] = 4;
        return sub == 0 ? 1 : number_object(1, bytes);
    }
    uint32_t held;
    if (sub == 0 && ebi_sim_value_of(d, index, &held))
        return number_object(held, bytes);
    if (sub != 0 && (index == OD_TYPE || (index >= OD_NAME && index <= OD_SOFTWARE)))
        return 0;
    *error = SDO_E_NO_OBJECT;
    switch (index) {
    case OD_TYPE:
        return number_object(c->type, bytes);
    case OD_NAME:
        return text_object(loader ? "loader" : d->identity.order_code, bytes);
    case OD_HARDWARE:
        return text_object(d->identity.hardware_revision, bytes);
    case OD_SOFTWARE:
        return text_object(ebi_sim_device_version(d, 0), bytes); /* the loader has none: no object */
    case OD_HEARTBEAT:
        bytes[0] = (uint8_t)c->heartbeat_ms;
        bytes[1] = (uint8_t)(c->heartbeat_ms >> 8);
        return 2;
    default:
        return 0;
    }
}

static uint32_t control_program(struct ebi_sim_device *d, uint8_t what)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_sim_component *program = &d->components[0];
    bool loader = d->mode == EB_SIM_LOADER;
    if (ebi_sim_device_busy(d))
        return SDO_E_STATE;
    switch (what) {
    case PROGRAM_STOP:
        if (!loader)
            ebi_sim_device_restart(d, true, 0);
        return 0;
    case PROGRAM_START:
    case PROGRAM_RESET:
        if (now(d) < c->clear_until_us || now(d) < c->busy_until_us || (loader && !program->valid)) {
            c->flash_error = loader && !program->valid ? 1 : c->flash_error;
            return SDO_E_STATE;
        }
        if (loader || what == PROGRAM_RESET)
            ebi_sim_device_restart(d, false, 0);
        return 0;
    case PROGRAM_CLEAR:
        if (!loader)
            return SDO_E_STATE;
        if (now(d) >= c->clear_until_us) { /* once is enough while it goes on */
            memset(program->bank[0], 0xFF, program->capacity);
            program->valid = false;
            c->cleared = true;
            c->flash_error = 1;
            c->clear_until_us = now(d) + d->erase_ms * 1000ULL;
        }
        return 0;
    default:
        return SDO_E_VALUE;
    }
}

/* --- LSS ----------------------------------------------------------------------------------------- */

static void lss_answer(struct ebi_sim_device *d, uint8_t command, uint8_t error)
{
    struct eb_can_frame frame = {.id = CO_LSS_SLAVE, .size = 8, .data = {command, error}};
    ebi_sim_can_send(d, &frame, d->can.response_us);
}

static uint32_t lss_number(const struct ebi_sim_device *d, unsigned sub)
{
    uint8_t bytes[EBI_SIM_SDO_BYTES] = {0};
    uint32_t error;
    read_object(d, OD_IDENTITY, (uint8_t)(sub + 1), bytes, &error);
    return get32(bytes);
}

static void lss_scan(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    uint32_t number = get32(data + 1);
    uint8_t bit = data[5];
    if (c->here != LSS_NODE_NONE || c->lss)
        return; /* it has a node id, or was found */
    if (bit == 0x80) {
        c->scan_sub = 0;
        lss_answer(d, 0x4F, 0);
    } else if (data[6] == c->scan_sub && bit < 32 && (number ^ lss_number(d, data[6])) >> bit == 0) {
        if (bit == 0)
            c->scan_sub = data[7];
        c->lss = c->lss || (bit == 0 && data[6] == 3 && data[7] == 0);
        lss_answer(d, 0x4F, 0);
    }
}

static void lss_request(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    if (data[0] == 0x04) {
        bool leaves = c->lss && data[1] == 0;
        c->lss = data[1] == 1;
        if (leaves && c->here == LSS_NODE_NONE && c->lss_node != 0) {
            c->here = c->lss_node;
            say_state(d, CO_STATE_BOOT_UP);
        }
    } else if (data[0] >= 0x40 && data[0] <= 0x43) {
        unsigned step = data[0] - 0x40U;
        c->lss_matches =
            (step == 0 || (c->lss_matches && c->lss_step == step)) && get32(data + 1) == lss_number(d, step);
        c->lss_step = (uint8_t)(step + 1);
        if (c->lss_step == LSS_STEPS && c->lss_matches) {
            c->lss = true;
            lss_answer(d, 0x44, 0);
        }
    } else if (data[0] == 0x51) {
        lss_scan(d, data);
    } else if (!c->lss) {
        return; /* the rest is for whom was chosen */
    } else if (data[0] == 0x11) {
        bool good = (data[1] >= 1 && data[1] <= CO_NODES) || data[1] == LSS_NODE_NONE;
        if (good)
            c->lss_node = data[1];
        lss_answer(d, 0x11, good ? 0 : 1);
    } else if (data[0] == 0x13) {
        static const uint32_t rates[] = {1000000, 800000, 500000, 250000, 125000, 0, 50000, 20000, 10000};
        bool known = data[1] == 0 && data[2] <= 8 && data[2] != 5;
        if (known)
            c->lss_bit_rate = rates[data[2]];
        lss_answer(d, 0x13, known ? 0 : 1);
    } else if (data[0] == 0x17) {
        if (c->loader_node == c->node && c->lss_node != 0)
            c->loader_node = c->lss_node;
        c->node = c->lss_node != 0 ? c->lss_node : c->node;
        d->can.own_bit_rate = c->lss_bit_rate != 0 ? c->lss_bit_rate : d->can.own_bit_rate;
        c->stored = true;
        lss_answer(d, 0x17, 0);
    } else if (data[0] >= 0x5A && data[0] <= 0x5E) {
        struct eb_can_frame frame = {.id = CO_LSS_SLAVE, .size = 8, .data = {data[0]}};
        if (data[0] == 0x5E)
            frame.data[1] = c->here;
        else
            put32(frame.data + 1, lss_number(d, data[0] - 0x5AU));
        ebi_sim_can_send(d, &frame, d->can.response_us);
    }
}

/* --- NMT and guarding ---------------------------------------------------------------------------- */

static void nmt_command(struct ebi_sim_device *d, uint8_t command)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    if (command == CO_NMT_START)
        c->nmt = CO_STATE_OPERATIONAL;
    else if (command == CO_NMT_STOP)
        c->nmt = CO_STATE_STOPPED;
    else if (command == CO_NMT_PREOPERATIONAL)
        c->nmt = CO_STATE_PREOPERATIONAL;
    else if (command == CO_NMT_RESET_NODE)
        ebi_sim_device_restart(d, false, 0);
    else if (command == CO_NMT_RESET_COMMUNICATION)
        ebi_sim_canopen_alive(d);
}

void ebi_sim_canopen_frame(struct ebi_sim_device *d, const struct eb_can_frame *f)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    if ((f->flags & EB_CAN_EXTENDED) != 0)
        return;
    if (d->is_manager)
        ebi_sim_manager_frame(d, f);
    if ((f->flags & EB_CAN_REMOTE) != 0) {
        if (f->id == CO_ERROR_CONTROL + (unsigned)c->here && c->heartbeat_ms == 0) {
            struct eb_can_frame answer = {
                .id = f->id, .size = 1, .data = {(uint8_t)(c->nmt | (c->toggle ? 0x80 : 0))}};
            c->toggle = !c->toggle;
            ebi_sim_can_send(d, &answer, d->can.response_us);
        }
    } else if (f->id == CO_NMT && f->size == 2) {
        if (f->data[1] == 0 || f->data[1] == c->here)
            nmt_command(d, f->data[0]);
    } else if (f->id == CO_LSS_MASTER && f->size == 8) {
        lss_request(d, f->data);
    } else if (f->id == CO_SDO_REQUEST + (unsigned)c->here && f->size == 8 && c->nmt != CO_STATE_STOPPED) {
        ebi_sim_sdo_request(d, f->data);
    }
}

void ebi_sim_canopen_tick(struct ebi_sim_device *d)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    if (now(d) >= c->heartbeat_us) {
        c->heartbeat_us = now(d) + c->heartbeat_ms * 1000ULL;
        say_state(d, c->nmt);
    }
    if (c->sdo.state != EBI_SIM_SDO_IDLE && now(d) >= c->sdo.until_us)
        ebi_sim_sdo_late(d);
}

uint64_t ebi_sim_canopen_deadline_us(const struct ebi_sim_device *d)
{
    const struct ebi_sim_canopen *c = &d->can.canopen;
    uint64_t sdo_us = c->sdo.state != EBI_SIM_SDO_IDLE ? c->sdo.until_us : EB_NEVER;
    return c->heartbeat_us < sdo_us ? c->heartbeat_us : sdo_us;
}

/* --- the SDO server ------------------------------------------------------------------------------ */

enum { SDO_PATIENCE_US = 2000000, SDO_BLOCK_PATIENCE_US = 400000 };

static void answer(struct ebi_sim_device *d, const uint8_t data[8])
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct eb_can_frame frame = {.id = CO_SDO_ANSWER + (unsigned)c->here, .size = 8};
    uint64_t delay_us = d->can.response_us;
    memcpy(frame.data, data, 8);
    /* It answers once its flash has taken what came. */
    if (c->sdo.program && c->busy_until_us > now(d) + delay_us)
        delay_us = c->busy_until_us - now(d);
    c->sdo.until_us = now(d) + delay_us + SDO_PATIENCE_US;
    ebi_sim_can_send(d, &frame, delay_us);
}

static void answer_object(struct ebi_sim_device *d, uint8_t command, const uint8_t *four)
{
    const struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    uint8_t data[8] = {command, (uint8_t)s->index, (uint8_t)(s->index >> 8), s->sub};
    if (four != NULL)
        memcpy(data + 4, four, 4);
    answer(d, data);
}

void ebi_sim_sdo_abort(struct ebi_sim_device *d, uint32_t code)
{
    uint8_t four[4];
    put32(four, code);
    answer_object(d, SDO_ABORT, four);
    d->can.canopen.sdo.state = EBI_SIM_SDO_IDLE;
}

static uint16_t crc16(uint16_t crc, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i < size; i++) {
        crc ^= (uint16_t)(bytes[i] << 8);
        for (int k = 0; k < 8; k++)
            crc = (uint16_t)((crc & 0x8000) != 0 ? crc << 1 ^ 0x1021 : crc << 1);
    }
    return crc;
}

/* Takes bytes of what is being written; false after an abort. */
static bool take(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_sim_sdo *s = &c->sdo;
    struct ebi_sim_component *program = &d->components[0];
    if (!s->program) {
        if (s->at + size > sizeof s->bytes) {
            ebi_sim_sdo_abort(d, SDO_E_LENGTH);
            return false;
        }
        memcpy(s->bytes + s->at, bytes, size);
    } else {
        if (s->at + size > program->capacity) {
            c->flash_error = 6;
            ebi_sim_sdo_abort(d, SDO_E_MEMORY);
            return false;
        }
        ebi_sim_device_write(d, program->bank[0], program->bank[0] + s->at, bytes, size);
        if (d->write_bytes_per_s > 0) {
            uint64_t from_us = c->busy_until_us > now(d) ? c->busy_until_us : now(d);
            c->busy_until_us = from_us + (uint64_t)size * 1000000 / d->write_bytes_per_s;
        }
    }
    s->crc = crc16(s->crc, bytes, size);
    s->at += size;
    return true;
}

/* All bytes of an object came; 0, or an abort code. */
static uint32_t write_object(struct ebi_sim_device *d)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_sim_sdo *s = &c->sdo;
    if (s->size != 0 && s->at != s->size)
        return SDO_E_LENGTH;
    if (s->program) {
        ebi_sim_device_examine(d);
        c->cleared = false;
        c->flash_error = d->components[0].valid ? 0 : 3;
        return 0;
    }
    if (ebi_sim_manager_has(d, s->index))
        return ebi_sim_manager_write(d, s->index, s->sub, s->bytes, s->at);
    if (s->index == OD_PROGRAM_CONTROL && s->sub == 1)
        return s->at == 1 ? control_program(d, s->bytes[0]) : SDO_E_LENGTH;
    if (s->index == OD_HEARTBEAT && s->sub == 0 && ebi_sim_document_of(d, OD_HEARTBEAT) == NULL) {
        if (s->at != 2)
            return SDO_E_LENGTH;
        c->heartbeat_ms = s->bytes[0] | (uint32_t)s->bytes[1] << 8;
        c->heartbeat_us = c->heartbeat_ms > 0 ? now(d) + c->heartbeat_ms * 1000ULL : EB_NEVER;
        return 0;
    }
    struct ebi_sim_document *document = ebi_sim_document_of(d, s->index);
    if (document != NULL && (s->sub > 0 || document->whole)) {
        size_t part = document->whole ? s->sub : s->sub - 1U;
        if (document->refuses)
            return SDO_E_VALUE;
        if (!ebi_sim_document_put_part(document, part, s->bytes, s->at))
            return document->whole ? SDO_E_LENGTH : SDO_E_NO_SUB;
        if (s->index == OD_HEARTBEAT)
            take_heartbeat(d);
        return 0;
    }
    if (s->index == OD_RESTORE && s->sub >= 1 && s->sub <= 4) { /* CiA 301 section 7.5.2.14 */
        if (s->at != 4 || memcmp(s->bytes, "load", 4) != 0)
            return SDO_E_STATE;
        ebi_sim_documents_reset(d);
        return 0;
    }
    if (s->index == OD_STORE && s->sub >= 1 && s->sub <= 4) {
        if (s->at != 4 || memcmp(s->bytes, "save", 4) != 0)
            return SDO_E_STATE;
        ebi_sim_documents_store(d);
        return 0;
    }
    uint8_t bytes[EBI_SIM_SDO_BYTES];
    uint32_t error;
    return read_object(d, s->index, s->sub, bytes, &error) > 0 ? SDO_E_READ_ONLY : error;
}

/* Whether writing to the object may begin. */
static bool begin_write(struct ebi_sim_device *d, uint32_t size)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_sim_sdo *s = &c->sdo;
    s->size = size;
    s->at = 0;
    s->crc = 0;
    s->has_tail = false;
    s->toggle = false;
    s->program = s->index == OD_PROGRAM && s->sub == 1;
    if (!s->program)
        return true;
    if (d->mode != EB_SIM_LOADER || !c->cleared || now(d) < c->clear_until_us ||
        size > d->components[0].capacity) {
        c->flash_error = !c->cleared && d->mode == EB_SIM_LOADER ? 4 : c->flash_error;
        ebi_sim_sdo_abort(d, size > d->components[0].capacity ? SDO_E_MEMORY : SDO_E_STATE);
        return false;
    }
    return true;
}

static uint8_t next_block_size(struct ebi_sim_canopen *c)
{
    return c->block_sizes[c->block_turn++ % c->block_size_count];
}

static void finish_write(struct ebi_sim_device *d, uint8_t command, bool of_object)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    uint32_t error = write_object(d);
    bool stops = (s->index == OD_PROGRAM_CONTROL && d->restart_us != EB_NEVER && d->can.canopen.reply_lost) ||
                 (ebi_sim_manager_has(d, s->index) && ebi_sim_manager_deaf(d));
    const uint8_t plain[8] = {command};
    if (error != 0)
        ebi_sim_sdo_abort(d, error);
    else if (of_object && !stops)
        answer_object(d, command, NULL);
    else if (!stops)
        answer(d, plain);
    s->state = EBI_SIM_SDO_IDLE;
}

static void download(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    bool sized = (data[0] & SDO_SIZE) != 0;
    if ((data[0] & SDO_EXPEDITED) != 0) {
        if (!begin_write(d, 0) || !take(d, data + 4, sized ? 4U - (data[0] >> 2 & 3U) : 4U))
            return;
        finish_write(d, SDO_DOWN_DONE, true);
    } else if (begin_write(d, sized ? get32(data + 4) : 0)) {
        s->state = EBI_SIM_SDO_DOWN;
        answer_object(d, SDO_DOWN_DONE, NULL);
    }
}

static void download_segment(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    if (((data[0] & SDO_TOGGLE) != 0) != s->toggle) {
        ebi_sim_sdo_abort(d, SDO_E_TOGGLE);
        return;
    }
    if (!take(d, data + 1, 7U - (data[0] >> 1 & 7U)))
        return;
    uint8_t reply = (uint8_t)(SDO_SEGMENT_DONE | (s->toggle ? SDO_TOGGLE : 0));
    s->toggle = !s->toggle;
    if ((data[0] & SDO_LAST) != 0) {
        finish_write(d, reply, false);
    } else {
        const uint8_t plain[8] = {reply};
        answer(d, plain);
    }
}

static void block_acknowledge(struct ebi_sim_device *d)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    const uint8_t acknowledged = s->sequence;
    s->block_size = next_block_size(&d->can.canopen);
    s->sequence = 0;
    const uint8_t ack[8] = {SDO_BLOCK_ACK, acknowledged, s->block_size};
    answer(d, ack);
}

static void block_segment(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    unsigned number = data[0] & 0x7FU;
    bool last = (data[0] & SDO_BLOCK_LAST) != 0;
    s->until_us = now(d) + SDO_BLOCK_PATIENCE_US;
    if (number == s->sequence + 1U) {
        if (s->has_tail && !take(d, s->tail, sizeof s->tail))
            return;
        memcpy(s->tail, data + 1, sizeof s->tail);
        s->has_tail = true;
        s->sequence++;
    } else {
        last = false;
    }
    if (number < s->block_size && !last)
        return;
    /* The last one of a block came, whichever were missing before it. */
    block_acknowledge(d);
    if (last)
        s->state = EBI_SIM_SDO_DOWN_END;
}

/* Nothing came for a while: what is there of a block is acknowledged once, anything else is given up. */
void ebi_sim_sdo_late(struct ebi_sim_device *d)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    if (s->state == EBI_SIM_SDO_DOWN_BLOCK && s->sequence > 0)
        block_acknowledge(d);
    else
        ebi_sim_sdo_abort(d, SDO_E_TIMEOUT);
}

static void block_end(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    if ((data[0] & 0xE3) != SDO_BLOCK_END) {
        ebi_sim_sdo_abort(d, SDO_E_COMMAND);
        return;
    }
    if (s->has_tail && !take(d, s->tail, 7U - (data[0] >> 2 & 7U)))
        return;
    if (s->crc_used && s->crc != (data[1] | data[2] << 8)) {
        if (s->program) { /* what was written is of no use */
            ebi_sim_device_examine(d);
            d->can.canopen.flash_error = 3;
            d->can.canopen.cleared = false;
        }
        ebi_sim_sdo_abort(d, SDO_E_CRC);
        return;
    }
    finish_write(d, SDO_BLOCK_ENDED, false);
}

/* What is being read. */
static const uint8_t *given(const struct ebi_sim_device *d)
{
    const struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    return s->program ? d->components[0].bank[0] : s->bytes;
}

static void upload(struct ebi_sim_device *d, bool block, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    uint32_t error;
    uint8_t four[4] = {0};
    s->program = d->conduct.readable && d->mode == EB_SIM_LOADER && s->index == OD_PROGRAM && s->sub == 1;
    s->size = s->program ? d->components[0].capacity : read_object(d, s->index, s->sub, s->bytes, &error);
    s->at = 0;
    if (s->size == 0) {
        ebi_sim_sdo_abort(d, error);
        return;
    }
    if (block) {
        s->crc_used = (data[0] & SDO_BLOCK_CRC) != 0;
        s->block_size = data[4];
        s->crc = crc16(0, given(d), s->size);
        if (s->block_size == 0 || s->block_size > SDO_BLOCK_MAX) {
            ebi_sim_sdo_abort(d, SDO_E_BLOCK_SIZE);
            return;
        }
        s->state = EBI_SIM_SDO_UP_START;
        put32(four, (uint32_t)s->size);
        answer_object(d, (uint8_t)(SDO_BLOCK_UP_DONE | SDO_BLOCK_SIZE | (s->crc_used ? SDO_BLOCK_CRC : 0)),
                      four);
    } else if (s->size <= 4) {
        memcpy(four, s->bytes, s->size);
        answer_object(d, (uint8_t)(SDO_UP | SDO_EXPEDITED | SDO_SIZE | (4 - s->size) << 2), four);
    } else {
        s->state = EBI_SIM_SDO_UP;
        s->toggle = false;
        put32(four, (uint32_t)s->size);
        answer_object(d, SDO_UP | SDO_SIZE, four);
    }
}

static void upload_segment(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    size_t left = s->size - s->at;
    size_t n = left < 7 ? left : 7;
    if (((data[0] & SDO_TOGGLE) != 0) != s->toggle) {
        ebi_sim_sdo_abort(d, SDO_E_TOGGLE);
        return;
    }
    uint8_t reply[8] = {(uint8_t)((s->toggle ? SDO_TOGGLE : 0) | (7 - n) << 1 | (left <= 7 ? SDO_LAST : 0))};
    memcpy(reply + 1, given(d) + s->at, n);
    s->at += n;
    s->toggle = !s->toggle;
    answer(d, reply);
    if (left <= 7)
        s->state = EBI_SIM_SDO_IDLE;
}

static void upload_block(struct ebi_sim_device *d)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    size_t at = s->at;
    for (unsigned i = 1; i <= s->block_size && at < s->size; i++, at += 7) {
        size_t n = s->size - at < 7 ? s->size - at : 7;
        uint8_t segment[8] = {(uint8_t)(i | (at + 7 >= s->size ? SDO_BLOCK_LAST : 0))};
        memcpy(segment + 1, given(d) + at, n);
        answer(d, segment);
    }
    s->state = EBI_SIM_SDO_UP_BLOCK;
}

static void upload_acknowledged(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    size_t sent = (s->size - s->at + 6) / 7;
    if (sent > s->block_size)
        sent = s->block_size;
    if (data[0] != SDO_BLOCK_ACK || data[1] > sent || data[2] == 0 || data[2] > SDO_BLOCK_MAX) {
        ebi_sim_sdo_abort(d, data[0] != SDO_BLOCK_ACK ? SDO_E_COMMAND : SDO_E_SEQUENCE);
        return;
    }
    s->at += 7U * data[1];
    s->block_size = data[2];
    if (s->at < s->size) {
        upload_block(d);
        return;
    }
    uint8_t end[8] = {(uint8_t)(SDO_BLOCK_END | (s->at - s->size) << 2)};
    if (s->crc_used) {
        end[1] = (uint8_t)s->crc;
        end[2] = (uint8_t)(s->crc >> 8);
    }
    s->state = EBI_SIM_SDO_UP_END;
    answer(d, end);
}

static void begin_request(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_sim_sdo *s = &c->sdo;
    s->index = (uint16_t)(data[1] | data[2] << 8);
    s->sub = data[3];
    s->program = false;
    s->state = EBI_SIM_SDO_IDLE;
    if ((data[0] & 0xE0) == SDO_DOWN) {
        download(d, data);
    } else if (data[0] == SDO_UP) {
        upload(d, false, data);
    } else if ((data[0] & 0xF9) == SDO_BLOCK_DOWN && !c->no_block) {
        s->crc_used = (data[0] & SDO_BLOCK_CRC) != 0;
        if (!begin_write(d, (data[0] & SDO_BLOCK_SIZE) != 0 ? get32(data + 4) : 0))
            return;
        s->sequence = 0;
        s->block_size = next_block_size(c);
        s->state = EBI_SIM_SDO_DOWN_BLOCK;
        const uint8_t four[4] = {s->block_size};
        answer_object(d, SDO_BLOCK_DOWN_DONE | SDO_BLOCK_CRC, four);
    } else if ((data[0] & 0xFB) == SDO_BLOCK_UP && !c->no_block) {
        upload(d, true, data);
    } else {
        ebi_sim_sdo_abort(d, SDO_E_COMMAND);
    }
}

void ebi_sim_sdo_request(struct ebi_sim_device *d, const uint8_t *data)
{
    struct ebi_sim_sdo *s = &d->can.canopen.sdo;
    if (s->state == EBI_SIM_SDO_DOWN_BLOCK &&
        (data[0] & 0x7F) != 0) { /* not an abort: a number, perhaps the last */
        block_segment(d, data);
    } else if (data[0] == SDO_ABORT) {
        s->state = EBI_SIM_SDO_IDLE;
    } else if (s->state == EBI_SIM_SDO_DOWN_END) {
        block_end(d, data);
    } else if (s->state == EBI_SIM_SDO_DOWN && (data[0] & 0xE0) == 0) {
        download_segment(d, data);
    } else if (s->state == EBI_SIM_SDO_UP && (data[0] & 0xE0) == SDO_UP_SEGMENT) {
        upload_segment(d, data);
    } else if (s->state == EBI_SIM_SDO_UP_START && data[0] == SDO_BLOCK_UP_START) {
        upload_block(d);
    } else if (s->state == EBI_SIM_SDO_UP_BLOCK) {
        upload_acknowledged(d, data);
    } else if (s->state == EBI_SIM_SDO_UP_END && data[0] == SDO_BLOCK_ENDED) {
        s->state = EBI_SIM_SDO_IDLE;
    } else {
        begin_request(d, data); /* also in the midst of another: that one is given up */
    }
}
