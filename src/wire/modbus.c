#include "einbau/modbus.h"
#include "wire/modbus_stream.h"
#include "einbau/text.h"
#include "base/bytes.h"
#include "wire/modbus_wire.h"

#include <string.h>

enum { KIND_READ, KIND_WRITE, KIND_IDENTIFY };

void eb_modbus_init(struct eb_modbus *modbus, uint8_t unit, uint16_t tid)
{
    memset(modbus, 0, sizeof *modbus);
    modbus->unit = unit;
    modbus->tid = tid;
}

static void fail(struct eb_modbus *modbus, enum eb_status status, uint32_t number, const char *text)
{
    static const char *const where[] = {"reading a register", "writing a register",
                                        "reading the identification"};
    modbus->state = EB_MODBUS_FAILED;
    modbus->rx_size = 0; /* the stream cannot be followed any more: the next exchange has a fresh one */
    modbus->error = (struct eb_error){
        .status = status, .code = EB_CODE_MODBUS, .number = number, .where = where[modbus->kind]};
    eb_text_copy(modbus->error.text, sizeof modbus->error.text, text);
}

static void ask(struct eb_modbus *modbus, const uint8_t *pdu, size_t size)
{
    modbus->tid++;
    ebi_put16(modbus->tx, modbus->tid);
    ebi_put16(modbus->tx + 2, 0);
    ebi_put16(modbus->tx + 4, (uint16_t)(size + 1));
    modbus->tx[6] = modbus->unit;
    memcpy(modbus->tx + MBAP_BYTES, pdu, size);
    modbus->tx_size = MBAP_BYTES + size;
    modbus->tx_taken = 0;
    modbus->state = EB_MODBUS_ASKING;
}

static void ask_register(struct eb_modbus *modbus, uint8_t function, uint16_t address, uint16_t value)
{
    uint8_t pdu[5] = {function};
    ebi_put16(pdu + 1, address);
    ebi_put16(pdu + 3, value);
    modbus->address = address;
    modbus->value = value;
    ask(modbus, pdu, sizeof pdu);
}

void eb_modbus_read_register(struct eb_modbus *modbus, uint16_t address)
{
    modbus->kind = KIND_READ;
    ask_register(modbus, MODBUS_READ_REGISTERS, address, 1);
}

void eb_modbus_write_register(struct eb_modbus *modbus, uint16_t address, uint16_t value)
{
    modbus->kind = KIND_WRITE;
    ask_register(modbus, MODBUS_WRITE_REGISTER, address, value);
}

void eb_modbus_read_registers(struct eb_modbus *modbus, uint16_t address, size_t count)
{
    modbus->kind = KIND_READ;
    ask_register(modbus, MODBUS_READ_REGISTERS, address, (uint16_t)count);
}

void eb_modbus_write_registers(struct eb_modbus *modbus, uint16_t address, const uint16_t *values,
                               size_t count)
{
    uint8_t pdu[6 + 2 * EB_MODBUS_REGISTERS_MAX] = {MODBUS_WRITE_REGISTERS};
    modbus->kind = KIND_WRITE;
    modbus->address = address;
    modbus->value = (uint16_t)count; /* what the answer repeats */
    ebi_put16(pdu + 1, address);
    ebi_put16(pdu + 3, (uint16_t)count);
    pdu[5] = (uint8_t)(2 * count);
    for (size_t i = 0; i < count; i++)
        ebi_put16(pdu + 6 + 2 * i, values[i]);
    ask(modbus, pdu, 6 + 2 * count);
}

void eb_modbus_write_coil(struct eb_modbus *modbus, uint16_t address, bool on)
{
    modbus->kind = KIND_WRITE;
    ask_register(modbus, MODBUS_WRITE_COIL, address, on ? MODBUS_COIL_ON : 0);
}

static void ask_objects(struct eb_modbus *modbus)
{
    const uint8_t pdu[4] = {MODBUS_ENCAPSULATED, MODBUS_MEI_IDENTIFY, modbus->code, modbus->next_object};
    ask(modbus, pdu, sizeof pdu);
}

static void begin_objects(struct eb_modbus *modbus, uint8_t code)
{
    modbus->code = code;
    modbus->next_object = 0;
    modbus->objects.count = 0;
    modbus->objects.used = 0;
    ask_objects(modbus);
}

void eb_modbus_identify(struct eb_modbus *modbus, enum eb_modbus_code code)
{
    modbus->kind = KIND_IDENTIFY;
    begin_objects(modbus, (uint8_t)code);
}

size_t eb_modbus_give(const struct eb_modbus *modbus, const uint8_t **bytes)
{
    *bytes = modbus->tx + modbus->tx_taken;
    return modbus->tx_size - modbus->tx_taken;
}

void eb_modbus_taken(struct eb_modbus *modbus, size_t count)
{
    modbus->tx_taken += count;
}

/* --- answers ------------------------------------------------------------------------------------- */

static bool store_object(struct eb_modbus_objects *objects, uint8_t id, const uint8_t *bytes, uint8_t size)
{
    for (size_t i = 0; i < objects->count; i++) {
        if (objects->list[i].id == id)
            return true; /* the first one counts */
    }
    if (objects->count == EB_MODBUS_OBJECTS_MAX || objects->used + size > sizeof objects->bytes)
        return false;
    objects->list[objects->count++] = (struct eb_modbus_object){id, size, (uint16_t)objects->used};
    memcpy(objects->bytes + objects->used, bytes, size);
    objects->used += size;
    return true;
}

/* Application Protocol section 6.21: 2B 0E code conformity more next n {id, length, value}. */
static void receive_objects(struct eb_modbus *modbus, const uint8_t *pdu, size_t size)
{
    if (size < 7 || pdu[1] != MODBUS_MEI_IDENTIFY || pdu[2] != modbus->code) {
        fail(modbus, EB_GARBAGE, 0, "identification answer with a wrong head");
        return;
    }
    uint8_t more = pdu[4];
    uint8_t next = pdu[5];
    size_t at = 7;
    for (unsigned left = pdu[6]; left > 0; left--) {
        if (at + 2 > size || at + 2 + pdu[at + 1] > size) {
            fail(modbus, EB_GARBAGE, 0, "identification object longer than its answer");
            return;
        }
        if (!store_object(&modbus->objects, pdu[at], pdu + at + 2, pdu[at + 1])) {
            fail(modbus, EB_TOO_LARGE, 0, "more identification objects than fit");
            return;
        }
        at += 2U + pdu[at + 1];
    }
    if (more == MODBUS_MORE_FOLLOWS) {
        if (next <= modbus->next_object) {
            fail(modbus, EB_GARBAGE, 0, "identification that does not advance");
            return;
        }
        modbus->next_object = next;
        ask_objects(modbus);
    } else {
        modbus->state = EB_MODBUS_DONE;
    }
}

/* Function | 80h and the exception code; for function 2B some devices put the MEI type in between. */
static void receive_exception(struct eb_modbus *modbus, const uint8_t *pdu, size_t size)
{
    bool with_mei = modbus->kind == KIND_IDENTIFY && size >= 3 && pdu[1] == MODBUS_MEI_IDENTIFY;
    uint8_t code = size < 2 ? 0 : with_mei ? pdu[2] : pdu[1];
    bool category = code == MODBUS_X_ADDRESS || code == MODBUS_X_VALUE;
    if (modbus->kind == KIND_IDENTIFY && category && modbus->code > EB_MODBUS_BASIC) {
        begin_objects(modbus, modbus->code - 1);
        return;
    }
    fail(modbus, EB_PEER_ERROR, code, eb_modbus_exception_text(code));
    /* Illegal function, address or value stay illegal; a busy device, or one that failed, may not stay so. */
    modbus->error.retry =
        code >= MODBUS_X_FUNCTION && code <= MODBUS_X_VALUE ? EB_RETRY_NEVER : EB_RETRY_LATER;
}

static void receive_pdu(struct eb_modbus *modbus, const uint8_t *pdu, size_t size)
{
    uint8_t function = modbus->tx[MBAP_BYTES];
    if (pdu[0] == (function | MODBUS_EXCEPTION)) {
        receive_exception(modbus, pdu, size);
    } else if (pdu[0] != function) {
        fail(modbus, EB_GARBAGE, pdu[0], "answer to another function");
    } else if (modbus->kind == KIND_IDENTIFY) {
        receive_objects(modbus, pdu, size);
    } else if (modbus->kind == KIND_READ && size == 2 + 2 * (size_t)modbus->value &&
               pdu[1] == 2 * modbus->value) {
        for (size_t i = 0; i < modbus->value; i++)
            modbus->values[i] = ebi_get16(pdu + 2 + 2 * i);
        modbus->value = modbus->values[0];
        modbus->state = EB_MODBUS_DONE;
    } else if (modbus->kind == KIND_WRITE && size == 5 && ebi_get16(pdu + 1) == modbus->address &&
               ebi_get16(pdu + 3) == modbus->value) {
        modbus->state = EB_MODBUS_DONE;
    } else {
        fail(modbus, EB_GARBAGE, pdu[0], "answer that does not echo its request");
    }
}

void eb_modbus_receive(struct eb_modbus *modbus, const uint8_t *bytes, size_t size)
{
    const struct ebi_mbap_rx rx = {modbus->rx, &modbus->rx_size};
    while (size > 0 && modbus->state == EB_MODBUS_ASKING) {
        size_t pdu_size;
        enum ebi_mbap taken = ebi_mbap_take(&rx, &bytes, &size, &pdu_size);
        if (taken == EBI_MBAP_NONE)
            fail(modbus, EB_GARBAGE, 0, "not a Modbus/TCP header");
        else if (taken == EBI_MBAP_WHOLE && ebi_get16(modbus->rx) == modbus->tid &&
                 modbus->rx[6] == modbus->unit)
            receive_pdu(modbus, modbus->rx + MBAP_BYTES, pdu_size);
    }
}

bool eb_modbus_object_text(const struct eb_modbus_objects *objects, uint8_t id, char *text, size_t cap)
{
    for (size_t i = 0; i < objects->count; i++) {
        const struct eb_modbus_object *object = &objects->list[i];
        if (object->id == id && object->size < cap) {
            eb_text_copy_foreign(text, cap, objects->bytes + object->at, object->size);
            return true;
        }
    }
    text[0] = '\0';
    return false;
}

const char *eb_modbus_exception_text(uint32_t code)
{
    static const struct {
        uint8_t code;
        const char *text;
    } exceptions[] = {
        {1, "illegal function"},
        {2, "illegal data address"},
        {3, "illegal data value"},
        {4, "server device failure"},
        {5, "acknowledge"},
        {6, "server device busy"},
        {8, "memory parity error"},
        {10, "gateway path unavailable"},
        {11, "gateway target device failed to respond"},
    };
    for (size_t i = 0; i < sizeof exceptions / sizeof exceptions[0]; i++) {
        if (exceptions[i].code == code)
            return exceptions[i].text;
    }
    return "unknown exception";
}

/* --- as an engine of a stream ---------------------------------------------------------------------- */

static bool stream_asking(const void *modbus)
{
    return ((const struct eb_modbus *)modbus)->state == EB_MODBUS_ASKING;
}

static size_t stream_give(const void *modbus, const uint8_t **bytes)
{
    return eb_modbus_give(modbus, bytes);
}

static void stream_taken(void *modbus, size_t count)
{
    eb_modbus_taken(modbus, count);
}

static void stream_receive(void *modbus, const uint8_t *bytes, size_t size)
{
    eb_modbus_receive(modbus, bytes, size);
}

const struct ebi_stream_engine ebi_modbus_stream = {stream_asking, stream_give, stream_taken, stream_receive};
