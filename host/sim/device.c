#include "device.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum { RESTART_AFTER_ANSWER_US = 20000 };

static uint32_t get32(const uint8_t *at)
{
    return (uint32_t)at[0] | (uint32_t)at[1] << 8 | (uint32_t)at[2] << 16 | (uint32_t)at[3] << 24;
}

bool sim_device_alive(const struct sim_device *d)
{
    return d->mode != EB_SIM_OFF && d->mode != EB_SIM_BOOTING;
}

/* --- what the loader does at a start ------------------------------------------------------------- */

/* Whether a program starts from this bank. */
static bool bank_valid(const struct sim_device *d, const struct sim_component *c, const uint8_t *bank)
{
    uint32_t size = get32(bank + 8);
    if (memcmp(bank, "EBIMAGE1", 8) != 0 || size < SIM_IMAGE_HEAD_BYTES || size > c->capacity)
        return false;
    if (d->checks_crc && crc32_z(0, bank + 16, size - 16) != get32(bank + 12))
        return false;
    char product[17] = "";
    memcpy(product, bank + 16, 16);
    return c->product[0] == '\0' || strcmp(product, c->product) == 0;
}

static void examine(const struct sim_device *d, struct sim_component *c)
{
    const uint8_t *bank = c->bank[c->active];
    c->valid = bank_valid(d, c, bank);
    memset(c->version, 0, sizeof c->version);
    if (c->valid) {
        memcpy(c->version, bank + 48, 16);
        c->checksum = (uint32_t)crc32_z(0, bank, get32(bank + 8));
    }
}

void sim_device_examine(struct sim_device *d)
{
    for (size_t i = 0; i < d->count; i++)
        examine(d, &d->components[i]);
}

static void boot(struct sim_device *d)
{
    for (size_t i = 0; i < d->count; i++) {
        struct sim_component *c = &d->components[i];
        if (c->pending && bank_valid(d, c, c->bank[1 - c->active]))
            c->active = 1 - c->active;
        c->pending = false;
    }
    sim_device_examine(d);
    d->mode = d->components[0].valid && !d->wants_loader ? EB_SIM_RUNNING : EB_SIM_LOADER;
    d->wants_loader = false;
    d->net->set_alive(d->net->self, d, true);
}

/* --- power --------------------------------------------------------------------------------------- */

static void go_down(struct sim_device *d, enum eb_sim_mode mode)
{
    sim_push_power_lost(d);
    d->mode = mode;
    d->restart_us = EB_NEVER;
    for (int i = 0; i < SIM_CONNECTIONS_MAX; i++)
        d->connections[i].handle = EB_NO_HANDLE;
    d->net->set_alive(d->net->self, d, false);
}

static void begin_boot(struct sim_device *d)
{
    d->mode = EB_SIM_BOOTING;
    d->boot_until_us = d->net->now_us(d->net->self) + (uint64_t)(d->down_ms + d->boot_ms) * 1000;
}

void sim_device_power(struct sim_device *d, bool on)
{
    if (!on) {
        go_down(d, EB_SIM_OFF);
        d->power_back_us = EB_NEVER;
    } else if (d->mode == EB_SIM_OFF) {
        begin_boot(d);
    }
}

void sim_device_restart(struct sim_device *d, bool into_loader, uint64_t delay_us)
{
    d->wants_loader = into_loader;
    d->restart_us = d->net->now_us(d->net->self) + RESTART_AFTER_ANSWER_US + delay_us;
}

void sim_device_start(struct sim_device *d, const struct sim_net *net)
{
    d->net = net;
    d->restart_us = EB_NEVER;
    d->power_back_us = EB_NEVER;
    d->push.handle = EB_NO_HANDLE;
    for (int i = 0; i < SIM_CONNECTIONS_MAX; i++)
        d->connections[i].handle = EB_NO_HANDLE;
    sim_device_examine(d);
    net->set_alive(net->self, d, sim_device_alive(d));
    if (d->mode == EB_SIM_BOOTING)
        begin_boot(d);
}

/* --- the network --------------------------------------------------------------------------------- */

static struct sim_connection *connection_of(struct sim_device *d, int handle)
{
    for (int i = 0; i < SIM_CONNECTIONS_MAX; i++) {
        if (d->connections[i].handle == handle)
            return &d->connections[i];
    }
    return NULL;
}

void sim_device_datagram(struct sim_device *d, int handle, bool request_port, const struct eb_endpoint *from,
                         const uint8_t *bytes, size_t size)
{
    if (!sim_device_alive(d))
        return;
    if (request_port)
        sim_push_request(d, handle, from, bytes, size);
    else if (handle == d->push.handle)
        sim_push_receive(d, from, bytes, size);
}

void sim_device_connected(struct sim_device *d, int handle)
{
    struct sim_connection *c = connection_of(d, EB_NO_HANDLE);
    if (c == NULL || !sim_device_alive(d)) {
        d->net->tcp_close(d->net->self, handle);
        return;
    }
    c->handle = handle;
    c->rx_size = 0;
}

void sim_device_stream(struct sim_device *d, int handle, const uint8_t *bytes, size_t size)
{
    struct sim_connection *c = connection_of(d, handle);
    if (c != NULL)
        sim_modbus_stream(d, c, bytes, size);
}

void sim_device_disconnected(struct sim_device *d, int handle)
{
    struct sim_connection *c = connection_of(d, handle);
    if (c != NULL)
        c->handle = EB_NO_HANDLE;
}

/* --- time ---------------------------------------------------------------------------------------- */

void sim_device_tick(struct sim_device *d)
{
    uint64_t now_us = d->net->now_us(d->net->self);
    if (d->mode == EB_SIM_OFF) {
        if (now_us >= d->power_back_us)
            begin_boot(d);
    } else if (d->mode == EB_SIM_BOOTING) {
        if (now_us >= d->boot_until_us)
            boot(d);
    } else if (now_us >= d->restart_us) {
        go_down(d, EB_SIM_OFF);
        begin_boot(d);
    } else {
        sim_push_tick(d);
    }
}

uint64_t sim_device_deadline_us(const struct sim_device *d)
{
    if (d->mode == EB_SIM_OFF)
        return d->power_back_us;
    if (d->mode == EB_SIM_BOOTING)
        return d->boot_until_us;
    uint64_t push_us = sim_push_deadline_us(d);
    return push_us < d->restart_us ? push_us : d->restart_us;
}
