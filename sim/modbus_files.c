/* The simulated device's file records (Modbus Application Protocol 1.1b3, section 6.15): what stands in a
 * file is the flash of the component whose `send-as` is its number.  Record 0 of another image begins by
 * erasing. */
#include "documents.h"
#include "server.h"
#include "yaml_read.h"

#include <stdlib.h>
#include <string.h>

enum {
    READ_FILE = 0x14,
    WRITE_FILE = 0x15,
    HEAD_BYTES = 9,
    READ_MAX = 121,
    REFERENCE = 6,
    RECORDS = 10000,
    X_FUNCTION = 1,
    X_ADDRESS = 2,
    X_VALUE = 3,
    X_FAILURE = 4,
    X_ACKNOWLEDGE = 5,
    X_BUSY = 6
};

struct files {
    bool taken; /* the device has this function */
    unsigned group_max;
    uint8_t busy_code;
    bool other_echo;                     /* it answers with another record number */
    unsigned lost_answers, answers;      /* every so often the connection ends in place of an answer */
    struct ebi_sim_component *component; /* whose transfer is under way */
    uint8_t *bank;
    size_t received;
    uint64_t began_us, erased_us, ready_us;
};

static struct files *files_of(struct ebi_sim_device *d)
{
    return ebi_sim_own(d, &ebi_sim_modbus_files, sizeof(struct files));
}

static size_t get16(const uint8_t *at)
{
    return (size_t)at[0] << 8 | at[1];
}

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

/* The component that file `number` belongs to, the next ones of a long image too; `*at`: where it is there.
 */
static struct ebi_sim_component *component_of(struct ebi_sim_device *d, size_t number, size_t *at)
{
    struct ebi_sim_component *found = NULL;
    for (size_t i = 0; i < d->count; i++) {
        size_t first = strtoul(d->components[i].file_name, NULL, 10);
        if (first == 0 || number < first || 2 * RECORDS * (number - first) >= d->components[i].capacity)
            continue;
        *at += 2 * RECORDS * (number - first);
        found = &d->components[i];
        break;
    }
    return found;
}

static void begin(struct ebi_sim_device *d, struct files *f, struct ebi_sim_component *c)
{
    f->component = c;
    f->bank = c->bank[c->banks == 2 ? 1 - c->active : c->active];
    c->pending = false;
    f->received = 0;
    f->began_us = now(d);
    f->erased_us = f->ready_us = now(d) + d->erase_ms * 1000ULL;
}

/* 0, or the exception. */
static uint8_t store(struct ebi_sim_device *d, struct files *f, struct ebi_sim_component *c, size_t at,
                     const uint8_t *bytes, size_t size)
{
    bool same = at + size <= f->received && memcmp(f->bank + at, bytes, size) == 0;
    if (same)
        return 0; /* its answer was lost */
    if (now(d) < f->ready_us)
        return f->busy_code;
    if (f->received == 0)
        memset(f->bank, 0xFF, c->capacity);
    if (at > f->received || at + size > c->capacity)
        return X_ADDRESS;
    ebi_sim_device_write(d, f->bank, f->bank + at, bytes, size);
    f->received = at + size;
    if (d->write_bytes_per_s > 0)
        f->ready_us = now(d) + (uint64_t)size * 1000000 / d->write_bytes_per_s;
    const uint8_t *head = f->bank + 8;
    size_t whole = (size_t)head[0] | (size_t)head[1] << 8 | (size_t)head[2] << 16 | (size_t)head[3] << 24;
    if (f->received >= EBI_SIM_IMAGE_HEAD_BYTES && f->received >= whole) {
        c->pending = c->banks == 2;
        if (d->conduct.restarts_itself)
            ebi_sim_device_restart(d, false, 0);
    }
    return 0;
}

static uint8_t judge(struct ebi_sim_device *d, struct files *f, const uint8_t *pdu, size_t size)
{
    size_t at = size >= HEAD_BYTES ? 2 * get16(pdu + 5) : 0;
    size_t count = size >= HEAD_BYTES ? get16(pdu + 7) : 0;
    if (!f->taken)
        return X_FUNCTION;
    if (count == 0 || size != HEAD_BYTES + 2 * count || pdu[1] != size - 2 || pdu[2] != REFERENCE ||
        count > f->group_max)
        return X_VALUE;
    if (at + 2 * count > 2 * (size_t)RECORDS)
        return X_ADDRESS;
    struct ebi_sim_document *document = ebi_sim_document_of(d, (unsigned)get16(pdu + 3));
    struct ebi_sim_component *c = document == NULL ? component_of(d, get16(pdu + 3), &at) : NULL;
    if (c == NULL && document == NULL)
        return X_ADDRESS;
    if (ebi_sim_device_busy(d) || (document != NULL && document->busy > 0 && document->busy-- > 0))
        return f->busy_code;
    if (document != NULL)
        return document->refuses                                                 ? X_FAILURE
               : ebi_sim_document_put(document, at, pdu + HEAD_BYTES, 2 * count) ? 0
                                                                                 : X_ADDRESS;
    if (!ebi_sim_device_writable(d))
        return X_FAILURE;
    bool other = c != f->component || f->received == 0 || memcmp(f->bank, pdu + HEAD_BYTES, 2 * count) != 0;
    bool erasing = c == f->component && f->received == 0 && now(d) < f->erased_us;
    if (at == 0 && other && !erasing && !(c == f->component && f->received == 0))
        begin(d, f, c);
    return c == f->component ? store(d, f, c, at, pdu + HEAD_BYTES, 2 * count) : X_ADDRESS;
}

static size_t write_file(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    struct files *f = files_of(d);
    uint8_t code = judge(d, f, pdu, size);
    if (code != 0)
        return ebi_sim_modbus_exception(reply, pdu[0], code);
    if (f->lost_answers != 0 && ++f->answers % f->lost_answers == 0) {
        for (int i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++) {
            int handle = d->connections[i].handle;
            d->connections[i].handle = EB_NO_HANDLE;
            if (handle != EB_NO_HANDLE)
                d->net->tcp_close(d->net->self, handle);
        }
        return 0;
    }
    memcpy(reply, pdu, size);
    if (f->other_echo)
        reply[6] ^= 1;
    return size;
}

/* Only documents are read: an image is not given back. */
static size_t read_file(struct ebi_sim_device *d, const uint8_t *pdu, size_t size, uint8_t *reply)
{
    const struct files *f = files_of(d);
    size_t at = size == HEAD_BYTES ? 2 * get16(pdu + 5) : 0;
    size_t count = size == HEAD_BYTES ? get16(pdu + 7) : 0;
    const struct ebi_sim_document *document =
        size == HEAD_BYTES ? ebi_sim_document_of(d, (unsigned)get16(pdu + 3)) : NULL;
    if (!f->taken)
        return ebi_sim_modbus_exception(reply, pdu[0], X_FUNCTION);
    if (count == 0 || pdu[1] != HEAD_BYTES - 2 || pdu[2] != REFERENCE || count > READ_MAX ||
        count > f->group_max)
        return ebi_sim_modbus_exception(reply, pdu[0], X_VALUE);
    if (document == NULL || document->gone || at + 2 * count > document->now.size)
        return ebi_sim_modbus_exception(reply, pdu[0], X_ADDRESS);
    reply[0] = pdu[0];
    reply[1] = (uint8_t)(2 + 2 * count);
    reply[2] = (uint8_t)(1 + 2 * count);
    reply[3] = REFERENCE;
    memcpy(reply + 4, document->now.bytes + at, 2 * count);
    return 4 + 2 * count;
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const codes[] = {"acknowledge", "busy", NULL};
    yaml_node_t *node = ebi_yaml_get(map, "modbus-files", false);
    struct files *f = files_of(d);
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, node);
    f->taken = node != NULL;
    f->group_max = (unsigned)ebi_yaml_number(&keys, "group-max", 1, 122, 122);
    f->busy_code = X_BUSY;
    if (ebi_yaml_get(&keys, "busy-as", false) != NULL && ebi_yaml_word(&keys, "busy-as", codes) == 0)
        f->busy_code = X_ACKNOWLEDGE;
    f->other_echo = ebi_yaml_yes(&keys, "other-echo", false);
    f->lost_answers = (unsigned)ebi_yaml_number(&keys, "lost-answer-every", 1, 1000000, 0);
    ebi_yaml_map_end(&keys);
}

/* Power goes while it erases: a part is gone. */
static void alive(struct ebi_sim_device *d, bool on)
{
    struct files *f = files_of(d);
    if (!on && f->component != NULL && f->received == 0 && f->erased_us > f->began_us) {
        uint64_t done_us = now(d) < f->erased_us ? now(d) - f->began_us : f->erased_us - f->began_us;
        memset(f->bank, 0xFF, (size_t)(f->component->capacity * done_us / (f->erased_us - f->began_us)));
    }
    f->component = NULL;
}

static const struct ebi_sim_modbus_function functions[] = {
    {READ_FILE, read_file}, {WRITE_FILE, write_file}, {0, NULL}};

const struct ebi_sim_server ebi_sim_modbus_files = {
    .functions = functions, .read = read_keys, .alive = alive};
