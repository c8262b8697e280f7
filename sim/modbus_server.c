/* The simulated device's Modbus/TCP: device identification, registers and a lamp, by the Application
 * Protocol 1.1b3. */
#include "server.h"
#include "documents.h"
#include "values.h"

#include <stdio.h>
#include <string.h>

#include "wire/modbus_wire.h"

enum { PDU_BYTES = 253, CONFORMITY_EXTENDED = 0x83, OBJECTS_MAX = 16, X_BUSY = 6 };

struct object {
    uint8_t id;
    char text[EB_NAME_BYTES];
};

static unsigned get16(const uint8_t *at)
{
    return (unsigned)at[0] << 8 | at[1];
}

static void put16(uint8_t *at, unsigned value)
{
    at[0] = (uint8_t)(value >> 8);
    at[1] = (uint8_t)value;
}

/* --- identification ------------------------------------------------------------------------------ */

static void add(struct object *list, size_t *count, uint8_t id, const char *text)
{
    size_t at = *count;
    while (at > 0 && list[at - 1].id > id) { /* in the order of their ids */
        list[at] = list[at - 1];
        at--;
    }
    list[at].id = id;
    snprintf(list[at].text, sizeof list[at].text, "%s", text);
    (*count)++;
}

static size_t objects_of(const struct ebi_sim_device *d, struct object list[OBJECTS_MAX])
{
    bool runs = d->mode == EB_SIM_RUNNING || d->mode == EB_SIM_STOPPED;
    size_t count = 0;
    add(list, &count, 0x00, d->identity.maker);
    add(list, &count, 0x01, d->identity.order_code);
    add(list, &count, 0x04, d->identity.product);
    add(list, &count, EBI_SIM_OBJECT_STATE,
        d->mode == EB_SIM_RUNNING   ? "running"
        : d->mode == EB_SIM_STOPPED ? "stopped"
                                    : "loader");
    add(list, &count, EBI_SIM_OBJECT_SERIAL, ebi_sim_device_serial(d));
    add(list, &count, EBI_SIM_OBJECT_HARDWARE_REVISION, d->identity.hardware_revision);
    for (size_t i = 0; i < d->count; i++) {
        const struct ebi_sim_component *c = &d->components[i];
        struct ebi_sim_component written = *c;
        if (d->conduct.tells_written && c->pending) {
            written.active = 1 - c->active;
            ebi_sim_component_examine(d, &written);
            c = &written;
        }
        bool known = runs && c->valid;
        add(list, &count, c->version_object, known ? c->version : "");
        if (c->checksum_object != 0) {
            char hex[12] = "";
            if (known)
                snprintf(hex, sizeof hex, "%08x", c->checksum);
            add(list, &count, c->checksum_object, hex);
        }
    }
    return count;
}

size_t ebi_sim_modbus_exception(uint8_t *reply, uint8_t function, uint8_t code)
{
    reply[0] = function | MODBUS_EXCEPTION;
    reply[1] = code;
    return 2;
}

static size_t identify(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    struct object list[OBJECTS_MAX];
    size_t count = objects_of(d, list);
    if (size != 4 || pdu[1] != MODBUS_MEI_IDENTIFY)
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_FUNCTION);
    uint8_t code = pdu[2];
    if (code < 1 || code > 4)
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_VALUE);
    unsigned highest = code == 1 ? 0x02 : code == 2 ? 0x7F : 0xFF;
    size_t first = 0;
    while (first < count && list[first].id != pdu[3])
        first++;
    if (first == count) {
        if (code == 4)
            return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_ADDRESS);
        first = 0; /* section 6.21: an unknown object in a stream restarts it */
    }
    const uint8_t head[7] = {MODBUS_ENCAPSULATED, MODBUS_MEI_IDENTIFY, code, CONFORMITY_EXTENDED, 0, 0, 0};
    memcpy(reply, head, sizeof head);
    size_t at = sizeof head;
    for (size_t i = first; i < count && list[i].id <= highest; i++) {
        size_t bytes = strlen(list[i].text);
        if (at + 2 + bytes > PDU_BYTES || (d->objects_per_answer != 0 && reply[6] == d->objects_per_answer)) {
            reply[4] = MODBUS_MORE_FOLLOWS;
            reply[5] = list[i].id;
            break;
        }
        reply[at] = list[i].id;
        reply[at + 1] = (uint8_t)bytes;
        memcpy(reply + at + 2, list[i].text, bytes);
        at += 2 + bytes;
        reply[6]++;
        if (code == 4)
            break;
    }
    return at;
}

/* --- registers ----------------------------------------------------------------------------------- */

static unsigned state_of(const struct ebi_sim_device *d)
{
    return d->mode == EB_SIM_RUNNING   ? EBI_SIM_STATE_RUNNING
           : d->mode == EB_SIM_STOPPED ? EBI_SIM_STATE_STOPPED
                                       : EBI_SIM_STATE_LOADER;
}

/* The settings as they lie in the registers, two bytes each. */
struct place {
    unsigned first, count;
    uint8_t *bytes;
};

static bool find_setting(struct ebi_sim_settings *set, uint8_t mask[4], uint8_t dhcp[2], unsigned address,
                         struct place *place)
{
    const struct place places[] = {{EBI_SIM_REGISTER_ADDRESS, 2, set->ip},
                                   {EBI_SIM_REGISTER_MASK, 2, mask},
                                   {EBI_SIM_REGISTER_ROUTER, 2, set->router},
                                   {EBI_SIM_REGISTER_DHCP, 1, dhcp},
                                   {EBI_SIM_REGISTER_NAME, EBI_SIM_NAME_REGISTERS, (uint8_t *)set->name}};
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        if (address >= places[i].first && address < places[i].first + places[i].count) {
            *place = places[i];
            return true;
        }
    }
    return false;
}

static void mask_of(const struct ebi_sim_settings *set, uint8_t mask[4])
{
    uint32_t ones = set->prefix == 0 ? 0 : UINT32_MAX << (32 - set->prefix);
    put16(mask, ones >> 16);
    put16(mask + 2, ones & 0xFFFF);
}

/* Registers of values and of the log, which has a zero where it has no entry. */
static bool read_held(const struct ebi_sim_device *d, unsigned address, uint8_t *to)
{
    const struct ebi_sim_log *log = ebi_sim_log_of(d);
    const struct ebi_sim_document *document = ebi_sim_document_with(d, address);
    uint32_t value = 0;
    if (document != NULL) {
        memcpy(to, document->now.bytes + 2 * (size_t)(address - document->number), 2);
        return true;
    }
    if (log != NULL && address >= log->number && address < log->number + (unsigned)EBI_SIM_LOG_MAX)
        value = address - log->number < log->count ? log->entries[address - log->number] : 0;
    else if (!ebi_sim_value_of(d, address, &value))
        return false;
    put16(to, value & 0xFFFF);
    return true;
}

static bool read_register(struct ebi_sim_device *d, unsigned address, uint8_t *to)
{
    struct ebi_sim_settings set = d->set;
    struct place place;
    uint8_t mask[4];
    uint8_t dhcp[2] = {0, set.dhcp};
    uint64_t up = (d->net->now_us(d->net->self) - d->started_us) / 10000;
    mask_of(&set, mask);
    if (address == EBI_SIM_REGISTER_STATE)
        put16(to, state_of(d));
    else if (address == EBI_SIM_REGISTER_LAMP)
        put16(to, d->lamp);
    else if (address == EBI_SIM_REGISTER_SWITCH)
        put16(to, d->switch_after_s > 0 && d->net->now_us(d->net->self) >= d->switch_after_s * 1000000ULL);
    else if (address == EBI_SIM_REGISTER_CARD)
        put16(to, ebi_sim_card_says(d));
    else if (address == EBI_SIM_REGISTER_STARTS)
        put16(to, d->starts);
    else if (address == EBI_SIM_REGISTER_UPTIME || address == EBI_SIM_REGISTER_UPTIME + 1)
        put16(to, (unsigned)(address == EBI_SIM_REGISTER_UPTIME ? up >> 16 : up) & 0xFFFF);
    else if (find_setting(&set, mask, dhcp, address, &place))
        memcpy(to, place.bytes + 2 * (size_t)(address - place.first), 2);
    else
        return read_held(d, address, to);
    return true;
}

static size_t read_registers(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    unsigned count = size == 5 ? get16(pdu + 3) : 0;
    if (count < 1 || count > 125)
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_VALUE);
    for (unsigned i = 0; i < count; i++) {
        if (!read_register(d, get16(pdu + 1) + i, reply + 2 + 2 * (size_t)i))
            return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_ADDRESS);
    }
    reply[0] = pdu[0];
    reply[1] = (uint8_t)(2 * count);
    return 2 + 2 * (size_t)count;
}

static bool control(struct ebi_sim_device *d, unsigned value)
{
    switch (value) {
    case EBI_SIM_CONTROL_START:
        if (d->mode == EB_SIM_STOPPED)
            d->mode = EB_SIM_RUNNING;
        return d->mode == EB_SIM_RUNNING;
    case EBI_SIM_CONTROL_STOP:
        if (d->mode == EB_SIM_RUNNING)
            d->mode = EB_SIM_STOPPED;
        return true;
    case EBI_SIM_CONTROL_RESTART:
        ebi_sim_device_restart(d, false, 0);
        return true;
    case EBI_SIM_CONTROL_LOADER:
        if (d->mode != EB_SIM_LOADER)
            ebi_sim_device_restart(d, true, 0);
        return true;
    case EBI_SIM_CONTROL_TAKE_UP:
        d->set_us = d->net->now_us(d->net->self) + 20000;
        return true;
    default:
        return false;
    }
}

static void set_lamp(struct ebi_sim_device *d, bool on)
{
    d->blinks += on && !d->lamp;
    d->lamp = on;
}

/* Writes one register; gives an exception code, 0 for none. */
static uint8_t write_one(struct ebi_sim_device *d, unsigned address, const uint8_t *value)
{
    struct place place;
    uint8_t mask[4];
    uint8_t dhcp[2] = {0, d->wanted.dhcp};
    mask_of(&d->wanted, mask);
    if (address == EBI_SIM_REGISTER_CONTROL && ebi_sim_device_busy(d))
        return X_BUSY;
    const struct ebi_sim_document *service =
        d->service_register != 0 ? ebi_sim_document_with(d, d->service_register) : NULL;
    if (address == EBI_SIM_REGISTER_CONTROL && service != NULL && service->now.bytes[1] == 0)
        return MODBUS_X_VALUE;
    if (address == EBI_SIM_REGISTER_CONTROL)
        return control(d, get16(value)) ? 0 : MODBUS_X_VALUE;
    if (address == EBI_SIM_REGISTER_LAMP) {
        set_lamp(d, get16(value) != 0);
        return 0;
    }
    struct ebi_sim_document *document = ebi_sim_document_with(d, address);
    if (document != NULL)
        return document->refuses ? MODBUS_X_VALUE
               : ebi_sim_document_put(document, 2 * (size_t)(address - document->number), value, 2)
                   ? 0
                   : MODBUS_X_ADDRESS;
    if (!find_setting(&d->wanted, mask, dhcp, address, &place))
        return MODBUS_X_ADDRESS;
    memcpy(place.bytes + 2 * (size_t)(address - place.first), value, 2);
    d->wanted.dhcp = dhcp[1] != 0;
    d->wanted.prefix = 0;
    while (d->wanted.prefix < 32 && (mask[d->wanted.prefix / 8] >> (7 - d->wanted.prefix % 8) & 1) != 0)
        d->wanted.prefix++;
    return 0;
}

static size_t write_register(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    uint8_t code = size != 5 ? MODBUS_X_VALUE : write_one(d, get16(pdu + 1), pdu + 3);
    if (code != 0)
        return ebi_sim_modbus_exception(reply, pdu[0], code);
    memcpy(reply, pdu, size);
    return size;
}

static size_t write_registers(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    unsigned count = size < 6 ? 0 : get16(pdu + 3);
    if (count < 1 || count > MODBUS_REGISTERS_MAX || pdu[5] != 2 * count || size != 6 + 2 * (size_t)count)
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_VALUE);
    for (unsigned i = 0; i < count; i++) {
        uint8_t code = write_one(d, get16(pdu + 1) + i, pdu + 6 + 2 * (size_t)i);
        if (code != 0)
            return ebi_sim_modbus_exception(reply, pdu[0], code);
    }
    memcpy(reply, pdu, 5);
    return 5;
}

static size_t write_coil(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    if (size != 5 || (get16(pdu + 3) != 0 && get16(pdu + 3) != MODBUS_COIL_ON))
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_VALUE);
    if (get16(pdu + 1) != EBI_SIM_COIL_LAMP)
        return ebi_sim_modbus_exception(reply, pdu[0], MODBUS_X_ADDRESS);
    set_lamp(d, get16(pdu + 3) != 0);
    memcpy(reply, pdu, size);
    return size;
}

/* ------------------------------------------------------------------------------------------------- */

static const struct ebi_sim_modbus_function own_functions[] = {
    {MODBUS_READ_REGISTERS, read_registers}, {MODBUS_WRITE_COIL, write_coil},
    {MODBUS_WRITE_REGISTER, write_register}, {MODBUS_WRITE_REGISTERS, write_registers},
    {MODBUS_ENCAPSULATED, identify},         {0, NULL}};

static const struct ebi_sim_modbus_function *function_of(uint8_t code)
{
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        const struct ebi_sim_modbus_function *f = ebi_sim_servers[i]->functions;
        while (f != NULL && f->code != 0 && f->code != code)
            f++;
        if (f != NULL && f->code != 0)
            return f;
    }
    return NULL;
}

static void answer(struct ebi_sim_device *d, struct ebi_sim_connection *connection, const uint8_t *adu,
                   size_t pdu_size)
{
    uint8_t reply[MBAP_BYTES + PDU_BYTES];
    const uint8_t *pdu = adu + MBAP_BYTES;
    size_t size;
    struct ebi_sim_device *to = d;
    if (adu[6] != d->unit && adu[6] != 0) {
        to = ebi_sim_module(d, adu[6]);
        if (to == NULL)
            return; /* for a device behind this one: there is none */
    }
    if (d->babbles) {
        static const uint8_t noise[] = "\x1b[2J\x07who are you?\r\n";
        d->net->tcp_send(d->net->self, connection->handle, noise, sizeof noise);
        return;
    }
    const struct ebi_sim_modbus_function *function = function_of(pdu[0]);
    if (to != d && !ebi_sim_device_alive(to))
        size = d->silent_slots ? 0 : ebi_sim_modbus_exception(reply + MBAP_BYTES, pdu[0], MODBUS_X_TARGET);
    else
        size = function != NULL ? function->answer(to, pdu, pdu_size, reply + MBAP_BYTES)
                                : ebi_sim_modbus_exception(reply + MBAP_BYTES, pdu[0], MODBUS_X_FUNCTION);
    if (size == 0)
        return;
    memcpy(reply, adu, 4);
    put16(reply + 4, (unsigned)size + 1);
    reply[6] = adu[6];
    ebi_sim_device_answer(d, connection, reply, MBAP_BYTES + size);
}

static void stream(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes, size_t size)
{
    while (size > 0 && c->handle != EB_NO_HANDLE) {
        size_t n = sizeof c->rx - c->rx_size < size ? sizeof c->rx - c->rx_size : size;
        memcpy(c->rx + c->rx_size, bytes, n);
        c->rx_size += n;
        bytes += n;
        size -= n;
        while (c->rx_size >= MBAP_BYTES + 1) {
            unsigned length = get16(c->rx + 4);
            if (get16(c->rx + 2) != 0 || length < 2 || length > PDU_BYTES + 1) {
                int handle = c->handle;
                c->handle = EB_NO_HANDLE; /* no Modbus: the stream cannot be followed any more */
                d->net->tcp_close(d->net->self, handle);
                return;
            }
            size_t whole = MBAP_BYTES - 1 + length;
            if (c->rx_size < whole)
                break;
            answer(d, c, c->rx, length - 1);
            if (c->handle == EB_NO_HANDLE)
                return; /* it closed the connection */
            c->rx_size -= whole;
            memmove(c->rx, c->rx + whole, c->rx_size);
        }
    }
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    return tcp ? d->modbus_port : 0;
}

const struct ebi_sim_server ebi_sim_modbus = {
    .word = "modbus", .functions = own_functions, .port = port, .stream = stream};
