#include "manager.h"
#include "server.h"
#include "virtual.h"
#include "world.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SETTLE_US = 120000000 };

uint64_t ebi_sim_random(struct eb_sim *sim)
{
    uint64_t z = sim->random += 0x9E3779B97F4A7C15U;
    z = (z ^ z >> 30) * 0xBF58476D1CE4E5B9U;
    z = (z ^ z >> 27) * 0x94D049BB133111EBU;
    return z ^ z >> 31;
}

uint32_t ebi_sim_name_key(const char *name)
{
    uint32_t key = 0;
    for (; *name != '\0'; name++)
        key = 31 * key + (uint8_t)*name;
    return key;
}

uint32_t ebi_sim_address_key(const uint8_t ip[4])
{
    return (uint32_t)ip[0] << 24 | (uint32_t)ip[1] << 16 | (uint32_t)ip[2] << 8 | ip[3];
}

void ebi_sim_place(struct ebi_sim_device *d, const uint8_t ip[4])
{
    struct ebi_sim_table *addresses = &d->sim->addresses;
    size_t number = (size_t)(d - d->sim->devices);
    if (memcmp(d->address.ip, ip, sizeof d->address.ip) == 0)
        return;
    ebi_sim_table_remove(addresses, ebi_sim_address_key(d->address.ip), number);
    memcpy(d->address.ip, ip, sizeof d->address.ip);
    ebi_sim_table_add(addresses, ebi_sim_address_key(ip), number);
}

struct ebi_sim_device *ebi_sim_find(const struct eb_sim *sim, const char *name)
{
    size_t i = ebi_sim_table_first(&sim->names, ebi_sim_name_key(name));
    for (; i != EBI_SIM_NONE; i = ebi_sim_table_next(&sim->names, i)) {
        if (strcmp(sim->devices[i].name, name) == 0)
            return &sim->devices[i];
    }
    return NULL;
}

struct eb_sim *eb_sim_open(const char *path, const char *state_dir, struct eb_problem *problem)
{
    struct eb_sim *sim = calloc(1, sizeof *sim);
    if (sim == NULL)
        return NULL;
    sim->lock_fd = -1;
    bool ok = ebi_sim_world_read(sim, path, NULL, NULL, problem);
    if (ok && state_dir != NULL) {
        snprintf(sim->state_dir, sizeof sim->state_dir, "%s", state_dir);
        sim->lock_fd = eb_state_lock(state_dir, problem);
        /* Writing it at once shows a full disk before anything is done to a device. */
        ok = sim->lock_fd >= 0 && ebi_sim_state_load(sim, problem) && ebi_sim_state_save(sim, problem);
    }
    if (ok)
        return sim;
    eb_sim_close(sim);
    return NULL;
}

bool eb_world_check(const char *path, eb_finding_tell *tell, void *context)
{
    struct eb_problem problem = {""};
    struct eb_sim *sim = calloc(1, sizeof *sim);
    if (sim == NULL)
        abort();
    sim->lock_fd = -1;
    bool ok = ebi_sim_world_read(sim, path, tell, context, &problem);
    if (!ok && problem.text[0] != '\0')
        tell(context, problem.text); /* it could not be read at all */
    eb_sim_close(sim);
    return ok;
}

bool eb_sim_save(struct eb_sim *sim, struct eb_problem *problem)
{
    if (sim->state_dir[0] == '\0')
        return true;
    if (sim->net != NULL)
        eb_sim_pass(sim, SETTLE_US);
    return ebi_sim_state_save(sim, problem);
}

void eb_sim_close(struct eb_sim *sim)
{
    if (sim == NULL)
        return;
    ebi_sim_virtual_close(sim);
    ebi_sim_sockets_close(sim);
    ebi_sim_segment_close(sim);
    for (size_t i = 0; i < sim->count; i++) {
        for (size_t k = 0; k < sim->devices[i].count; k++) {
            for (int b = 0; b < EBI_SIM_BANKS_MAX; b++)
                free(sim->devices[i].components[k].bank[b]);
        }
        for (size_t k = 0; ebi_sim_servers[k] != NULL; k++) {
            if (ebi_sim_servers[k]->forget != NULL)
                ebi_sim_servers[k]->forget(&sim->devices[i]);
        }
        for (size_t k = 0; k < EBI_SIM_OWN_MAX; k++)
            free(sim->devices[i].own[k].memory);
    }
    if (sim->lock_fd >= 0)
        close(sim->lock_fd);
    free(sim->devices);
    free(sim->wires);
    free(sim->buses);
    ebi_sim_table_clear(&sim->names);
    ebi_sim_table_clear(&sim->addresses);
    free(sim);
}

enum eb_sim_mode eb_sim_mode_of(const struct eb_sim *sim, const char *device)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    return d != NULL ? d->mode : EB_SIM_OFF;
}

const uint8_t *eb_sim_flash(const struct eb_sim *sim, const char *device, const char *component, size_t *size)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    for (size_t i = 0; d != NULL && i < d->count; i++) {
        const struct ebi_sim_component *c = &d->components[i];
        if (strcmp(c->name, component) == 0) {
            *size = c->capacity;
            return c->bank[c->active];
        }
    }
    return NULL;
}

uint64_t eb_sim_bus_busy_us(const struct eb_sim *sim, const char *bus)
{
    uint64_t busy_ns = 0;
    for (size_t i = 0; i < sim->bus_count; i++)
        busy_ns += strcmp(sim->buses[i].name, bus) == 0 ? sim->buses[i].busy_ns : 0;
    return busy_ns / 1000;
}

unsigned eb_sim_blinks(const struct eb_sim *sim, const char *device)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    return d != NULL ? d->blinks : 0;
}

enum eb_sim_card eb_sim_card(const struct eb_sim *sim, const char *device)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    return d != NULL ? ebi_sim_card_says(d) : EB_SIM_CARD_NONE;
}

bool eb_sim_member(const struct eb_sim *sim, const char *manager, unsigned node, struct eb_sim_member *member)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, manager);
    return d != NULL && ebi_sim_manager_tell(d, (uint8_t)node, member);
}

bool eb_sim_lamp(const struct eb_sim *sim, const char *device)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    return d != NULL && d->lamp;
}

bool eb_sim_settings(const struct eb_sim *sim, const char *device, char *name, size_t cap,
                     struct eb_link_address *address)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    if (d == NULL)
        return false;
    snprintf(name, cap, "%s", d->saved.name);
    memcpy(address->ip, d->saved.ip, sizeof address->ip);
    address->prefix = d->saved.prefix;
    return true;
}

/* --- virtual time ---------------------------------------------------------------------------------- */

const struct eb_port *eb_sim_port(struct eb_sim *sim)
{
    if (sim->net == NULL)
        ebi_sim_virtual_open(sim);
    return &sim->net->port;
}

void eb_sim_pass(struct eb_sim *sim, uint64_t us)
{
    const struct eb_port *port = eb_sim_port(sim);
    uint64_t end_us = sim->net->now_us + us;
    while (sim->net->now_us < end_us)
        eb_port_wait(port, end_us);
}

void eb_sim_set_faults(struct eb_sim *sim, const struct eb_sim_fault *faults, size_t count)
{
    eb_sim_port(sim);
    sim->net->faults = faults;
    sim->net->fault_count = count;
}

uint64_t eb_sim_frames(const struct eb_sim *sim)
{
    return sim->net != NULL ? sim->net->frames : 0;
}

uint64_t eb_sim_busy_us(const struct eb_sim *sim)
{
    uint64_t busy_us = 0;
    for (size_t i = 0; i < sim->wire_count; i++)
        busy_us += sim->wires[i].up.busy_ns / 1000;
    return busy_us;
}

void eb_sim_power(struct eb_sim *sim, const char *device, bool on)
{
    struct ebi_sim_device *d = ebi_sim_find(sim, device);
    eb_sim_port(sim);
    if (d != NULL) {
        ebi_sim_device_power(d, on);
        ebi_sim_wake_later(sim->net, d);
        ebi_sim_virtual_can_arm(sim->net);
    }
}

void eb_sim_ask_person(struct eb_sim *sim, const char *device, const char *words)
{
    struct ebi_sim_device *d = ebi_sim_find(sim, device);
    if (sim->segment == NULL)
        eb_sim_port(sim);
    if (d == NULL)
        return;
    ebi_sim_loader_person(d, words);
    if (sim->net != NULL)
        ebi_sim_wake_later(sim->net, d);
}
