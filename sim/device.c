#include "server.h"
#include "world.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum { RESTART_AFTER_ANSWER_US = 20000, SECOND_RESTART_US = 1500000 };

static uint32_t get32(const uint8_t *at)
{
    return (uint32_t)at[0] | (uint32_t)at[1] << 8 | (uint32_t)at[2] << 16 | (uint32_t)at[3] << 24;
}

bool ebi_sim_device_alive(const struct ebi_sim_device *d)
{
    return d->mode != EB_SIM_OFF && d->mode != EB_SIM_BOOTING;
}

/* --- what the loader does at a start ------------------------------------------------------------- */

/* Whether a program starts from this bank. */
bool ebi_sim_bank_valid(const struct ebi_sim_device *d, const struct ebi_sim_component *c,
                        const uint8_t *bank)
{
    uint32_t size = get32(bank + 8);
    if (memcmp(bank, "EBIMAGE1", 8) != 0 || size < EBI_SIM_IMAGE_HEAD_BYTES || size > c->capacity)
        return false;
    if (d->checks_crc && crc32_z(0, bank + 16, size - 16) != get32(bank + 12))
        return false;
    char product[17] = "";
    memcpy(product, bank + 16, 16);
    return c->product[0] == '\0' || strcmp(product, c->product) == 0;
}

size_t ebi_sim_image_bytes(const uint8_t *bank)
{
    return get32(bank + 8);
}

void ebi_sim_component_examine(const struct ebi_sim_device *d, struct ebi_sim_component *c)
{
    const uint8_t *bank = c->bank[c->active];
    c->valid = ebi_sim_bank_valid(d, c, bank);
    memset(c->version, 0, sizeof c->version);
    if (c->valid) {
        memcpy(c->version, bank + 48, 16);
        c->checksum = (uint32_t)crc32_z(0, bank, get32(bank + 8));
    }
}

/* Flash: writing can only clear bits. */
void ebi_sim_device_write(const struct ebi_sim_device *d, const uint8_t *bank, uint8_t *to,
                          const uint8_t *bytes, size_t size)
{
    size_t at = (size_t)(to - bank);
    for (size_t i = 0; i < size; i++)
        to[i] &= bytes[i];
    if (d->conduct.bad_byte_at > at && d->conduct.bad_byte_at <= at + size)
        to[d->conduct.bad_byte_at - 1 - at] ^= 0x10;
}

const char *ebi_sim_device_serial(const struct ebi_sim_device *d)
{
    if (d->mode == EB_SIM_LOADER && d->conduct.loader_serial[0] != '\0')
        return d->conduct.loader_serial;
    return d->restarted && d->mode != EB_SIM_LOADER && d->conduct.later_serial[0] != '\0'
               ? d->conduct.later_serial
               : d->identity.serial;
}

bool ebi_sim_device_busy(struct ebi_sim_device *d)
{
    uint64_t now_us = d->net->now_us(d->net->self);
    if (d->conduct.busy_ms == 0)
        return false;
    if (d->busy_since_us == 0)
        d->busy_since_us = now_us;
    return now_us < d->busy_since_us + d->conduct.busy_ms * 1000ULL;
}

bool ebi_sim_device_writable(const struct ebi_sim_device *d)
{
    return d->mode == EB_SIM_LOADER || d->writable == EBI_SIM_WRITABLE_ALWAYS ||
           (d->writable == EBI_SIM_WRITABLE_STOPPED && d->mode == EB_SIM_STOPPED);
}

static void answer_now(struct ebi_sim_device *d, int connection, const uint8_t *bytes, size_t size)
{
    d->net->tcp_send(d->net->self, connection, bytes, size);
    if (!d->conduct.closes_connections)
        return;
    for (int i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++) {
        if (d->connections[i].handle == connection)
            d->connections[i].handle = EB_NO_HANDLE;
    }
    d->net->tcp_close(d->net->self, connection);
}

void ebi_sim_device_answer(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes,
                           size_t size)
{
    if (d->conduct.answer_delay_ms == 0) {
        answer_now(d, c->handle, bytes, size);
        return;
    }
    memcpy(d->late.bytes, bytes,
           size); /* one question at a time: whoever asks sooner loses the answer before */
    d->late.size = size;
    d->late.connection = c->handle;
    d->late.at_us = d->net->now_us(d->net->self) + d->conduct.answer_delay_ms * 1000ULL;
}

void ebi_sim_device_examine(struct ebi_sim_device *d)
{
    for (size_t i = 0; i < d->count; i++)
        ebi_sim_component_examine(d, &d->components[i]);
}

static void set_alive(struct ebi_sim_device *d, bool alive)
{
    d->net->set_alive(d->net->self, d, alive);
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        if (ebi_sim_servers[i]->alive != NULL)
            ebi_sim_servers[i]->alive(d, alive);
    }
}

static void boot(struct ebi_sim_device *d)
{
    for (size_t i = 0; i < d->count; i++) {
        struct ebi_sim_component *c = &d->components[i];
        if (c->pending && ebi_sim_bank_valid(d, c, c->bank[1 - c->active]))
            c->active = 1 - c->active;
        c->pending = false;
    }
    ebi_sim_device_examine(d);
    d->mode = !d->components[0].valid || d->wants_loader || ebi_sim_loader_wanted(d) ? EB_SIM_LOADER
              : d->conduct.starts_stopped && d->restarted                            ? EB_SIM_STOPPED
                                                                                     : EB_SIM_RUNNING;
    d->wants_loader = false;
    d->starts++;
    d->started_us = d->net->now_us(d->net->self);
    ebi_sim_device_set(d, &d->saved, true);
    set_alive(d, true);
    if (d->restart_again) {
        d->restart_again = false;
        d->restart_us = d->net->now_us(d->net->self) + SECOND_RESTART_US;
    }
}

/* --- modules --------------------------------------------------------------------------------------- */

struct ebi_sim_device *ebi_sim_module(const struct ebi_sim_device *rack, uint8_t slot)
{
    struct ebi_sim_device *module = rack->modules;
    while (module != NULL && module->slot != slot)
        module = module->next_module;
    return module;
}

/* --- power --------------------------------------------------------------------------------------- */

static void go_down(struct ebi_sim_device *d, enum eb_sim_mode mode)
{
    d->mode = mode;
    d->restart_us = EB_NEVER;
    d->late.at_us = EB_NEVER;
    d->restarted = true;
    for (int i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++)
        d->connections[i].handle = EB_NO_HANDLE;
    set_alive(d, false);
}

static void begin_boot(struct ebi_sim_device *d)
{
    d->mode = EB_SIM_BOOTING;
    d->boot_until_us = d->net->now_us(d->net->self) + (uint64_t)(d->down_ms + d->boot_ms) * 1000;
}

void ebi_sim_device_power(struct ebi_sim_device *d, bool on)
{
    for (struct ebi_sim_device *m = d->modules; m != NULL; m = m->next_module) /* they have the same supply */
        ebi_sim_device_power(m, on);
    if (!on) {
        go_down(d, EB_SIM_OFF);
        d->power_back_us = EB_NEVER;
    } else if (d->mode == EB_SIM_OFF) {
        begin_boot(d);
    }
}

void ebi_sim_device_restart(struct ebi_sim_device *d, bool into_loader, uint64_t delay_us)
{
    if (d->conduct.restarts == EBI_SIM_RESTARTS_NEVER && !into_loader)
        return;
    d->wants_loader = into_loader;
    if (!into_loader) {
        delay_us += d->conduct.restart_delay_ms * 1000ULL;
        d->restart_again = d->conduct.restarts == EBI_SIM_RESTARTS_TWICE;
    }
    d->restart_us = d->net->now_us(d->net->self) + RESTART_AFTER_ANSWER_US + delay_us;
}

void ebi_sim_device_start(struct ebi_sim_device *d, const struct ebi_sim_net *net)
{
    d->net = net;
    d->restarted = false;
    d->starts = 1;
    d->started_us = net->now_us(net->self);
    d->set_us = EB_NEVER;
    d->lldp_us = net->now_us(net->self);
    d->ask_us = d->lldp_us;
    ebi_sim_device_set(d, &d->saved, true);
    d->restart_us = EB_NEVER;
    d->late.at_us = EB_NEVER;
    d->power_back_us = EB_NEVER;
    d->push.handle = EB_NO_HANDLE;
    d->pull.handle = EB_NO_HANDLE;
    for (int i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++)
        d->connections[i].handle = EB_NO_HANDLE;
    ebi_sim_device_examine(d);
    set_alive(d, ebi_sim_device_alive(d));
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        if (ebi_sim_servers[i]->begin != NULL)
            ebi_sim_servers[i]->begin(d);
    }
    d->leaves_us = d->leaves_after_s > 0 ? d->lldp_us + d->leaves_after_s * 1000000ULL : EB_NEVER;
    if (d->usb.is_usb && d->usb.unplugged && !d->usb.own_power) {
        go_down(d, EB_SIM_OFF);
        d->power_back_us = EB_NEVER;
    } else if (d->arrives_after_s > 0) {
        go_down(d, EB_SIM_OFF);
        d->power_back_us = d->lldp_us + d->arrives_after_s * 1000000ULL;
    } else if (d->mode == EB_SIM_BOOTING) {
        begin_boot(d);
    }
}

/* --- settings ------------------------------------------------------------------------------------ */

void ebi_sim_device_set(struct ebi_sim_device *d, const struct ebi_sim_settings *settings, bool permanent)
{
    d->set = *settings;
    d->wanted = *settings;
    if (permanent)
        d->saved = *settings;
    if (!d->placed)
        ebi_sim_place(d, settings->ip);
}

bool ebi_sim_device_has_ip(const struct ebi_sim_device *d)
{
    return get32(d->set.ip) != 0;
}

bool ebi_sim_device_covers(const struct ebi_sim_device *d, const uint8_t ip[4])
{
    struct eb_link_address own = {.prefix = d->set.prefix};
    memcpy(own.ip, d->set.ip, sizeof own.ip);
    return ebi_sim_device_has_ip(d) && eb_link_covers(&own, ip);
}

const char *ebi_sim_device_version(const struct ebi_sim_device *d, size_t component)
{
    bool runs = d->mode == EB_SIM_RUNNING || d->mode == EB_SIM_STOPPED;
    return runs && component < d->count && d->components[component].valid ? d->components[component].version
                                                                          : "";
}

/* --- the network --------------------------------------------------------------------------------- */

bool ebi_sim_device_listens(const struct ebi_sim_device *d, bool tcp, uint16_t port)
{
    return ebi_sim_device_alive(d) && ebi_sim_server_at(d, tcp, port) != NULL;
}

void ebi_sim_device_frame(struct ebi_sim_device *d, const uint8_t *frame, size_t size)
{
    for (size_t i = 0; ebi_sim_servers[i] != NULL && ebi_sim_device_alive(d); i++) {
        if (ebi_sim_servers[i]->frame != NULL && ebi_sim_speaks(d, ebi_sim_servers[i]))
            ebi_sim_servers[i]->frame(d, frame, size);
    }
}

static struct ebi_sim_connection *connection_of(struct ebi_sim_device *d, int handle)
{
    for (int i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++) {
        if (d->connections[i].handle == handle)
            return &d->connections[i];
    }
    return NULL;
}

void ebi_sim_device_datagram(struct ebi_sim_device *d, int handle, uint16_t port,
                             const struct eb_endpoint *from, const uint8_t *bytes, size_t size)
{
    if (!ebi_sim_device_alive(d))
        return;
    const struct ebi_sim_server *server = ebi_sim_server_at(d, false, port);
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        if (ebi_sim_servers[i]->owns != NULL && ebi_sim_servers[i]->owns(d, handle))
            server = ebi_sim_servers[i];
    }
    if (server != NULL)
        server->datagram(d, handle, from, bytes, size);
}

void ebi_sim_device_connected(struct ebi_sim_device *d, int handle, uint16_t port)
{
    struct ebi_sim_connection *c = connection_of(d, EB_NO_HANDLE);
    if (c == NULL || !ebi_sim_device_alive(d)) {
        d->net->tcp_close(d->net->self, handle);
        return;
    }
    c->handle = handle;
    c->port = port;
    c->rx_size = 0;
}

void ebi_sim_device_stream(struct ebi_sim_device *d, int handle, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_connection *c = connection_of(d, handle);
    const struct ebi_sim_server *server = c != NULL ? ebi_sim_server_at(d, true, c->port) : NULL;
    if (server != NULL)
        server->stream(d, c, bytes, size);
}

void ebi_sim_device_disconnected(struct ebi_sim_device *d, int handle)
{
    struct ebi_sim_connection *c = connection_of(d, handle);
    if (c != NULL)
        c->handle = EB_NO_HANDLE;
}

/* --- time ---------------------------------------------------------------------------------------- */

void ebi_sim_device_tick(struct ebi_sim_device *d)
{
    uint64_t now_us = d->net->now_us(d->net->self);
    if (now_us >= d->leaves_us) {
        d->leaves_us = EB_NEVER;
        ebi_sim_device_power(d, false);
    } else if (d->mode == EB_SIM_OFF) {
        if (now_us >= d->power_back_us)
            ebi_sim_device_power(d, true);
    } else if (d->mode == EB_SIM_BOOTING) {
        if (now_us >= d->boot_until_us)
            boot(d);
    } else if (now_us >= d->restart_us) {
        go_down(d, EB_SIM_OFF);
        begin_boot(d);
    } else {
        if (now_us >= d->late.at_us) {
            d->late.at_us = EB_NEVER;
            if (connection_of(d, d->late.connection) != NULL)
                answer_now(d, d->late.connection, d->late.bytes, d->late.size);
        }
        for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
            if (ebi_sim_servers[i]->tick != NULL && ebi_sim_speaks(d, ebi_sim_servers[i]))
                ebi_sim_servers[i]->tick(d);
        }
        if (now_us >= d->set_us) {
            d->set_us = EB_NEVER;
            ebi_sim_device_set(d, &d->wanted, true);
        }
    }
}

uint64_t ebi_sim_device_deadline_us(const struct ebi_sim_device *d)
{
    uint64_t next_us = d->leaves_us;
    if (d->mode == EB_SIM_OFF)
        return d->power_back_us < next_us ? d->power_back_us : next_us;
    if (d->mode == EB_SIM_BOOTING)
        return d->boot_until_us < next_us ? d->boot_until_us : next_us;
    next_us = d->restart_us < next_us ? d->restart_us : next_us;
    next_us = d->set_us < next_us ? d->set_us : next_us;
    next_us = d->late.at_us < next_us ? d->late.at_us : next_us;
    uint64_t at_us = ebi_sim_servers_deadline_us(d);
    return at_us < next_us ? at_us : next_us;
}
