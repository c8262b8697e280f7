/* What a state directory remembers of a world: one file, world.state.  Its first line is JSON, an index of
 * all devices and their flash; behind it the contents of the flash, one after the other, each without the
 * erased bytes at its end. */
#include "documents.h"
#include "manager.h"
#include "http_model.h"
#include "values.h"
#include "world.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define STATE_FILE "world.state"
#define STATE_KIND "world-state/1"

static const char *const mode_words[] = {"off", "booting", "loader", "stopped", "running"};

static size_t used_bytes(const uint8_t *bank, size_t capacity)
{
    while (capacity > 0 && bank[capacity - 1] == 0xFF)
        capacity--;
    return capacity;
}

static json_t *settings_document(const struct ebi_sim_settings *set)
{
    return json_pack("{s:s, s:[i,i,i,i], s:i, s:[i,i,i,i], s:b}", "name", set->name, "address", set->ip[0],
                     set->ip[1], set->ip[2], set->ip[3], "prefix", set->prefix, "router", set->router[0],
                     set->router[1], set->router[2], set->router[3], "dhcp", set->dhcp);
}

static void load_settings(struct ebi_sim_settings *set, const json_t *from)
{
    const char *name = json_string_value(json_object_get(from, "name"));
    for (size_t i = 0; i < 4; i++) {
        set->ip[i] = (uint8_t)json_integer_value(json_array_get(json_object_get(from, "address"), i));
        set->router[i] = (uint8_t)json_integer_value(json_array_get(json_object_get(from, "router"), i));
    }
    set->prefix = (uint8_t)(json_integer_value(json_object_get(from, "prefix")) & 63);
    if (set->prefix > 32)
        set->prefix = 32;
    set->dhcp = json_is_true(json_object_get(from, "dhcp"));
    snprintf(set->name, sizeof set->name, "%s", name != NULL ? name : "");
}

bool ebi_sim_state_save(struct eb_sim *sim, struct eb_problem *problem)
{
    json_t *devices = json_object();
    size_t total = 0;
    for (size_t i = 0; i < sim->count; i++) {
        const struct ebi_sim_device *d = &sim->devices[i];
        json_t *components = json_object();
        for (size_t k = 0; k < d->count; k++) {
            const struct ebi_sim_component *c = &d->components[k];
            json_t *banks = json_array();
            for (int b = 0; b < c->banks; b++) {
                size_t used = used_bytes(c->bank[b], c->capacity);
                json_array_append_new(banks, json_integer((json_int_t)used));
                total += used;
            }
            json_object_set_new(
                components, c->name,
                json_pack("{s:i, s:b, s:o}", "active", c->active, "pending", c->pending, "banks", banks));
        }
        json_t *device = json_pack("{s:s, s:o, s:o}", "mode", mode_words[d->mode], "settings",
                                   settings_document(&d->saved), "components", components);
        if (d->values != NULL)
            json_object_set_new(device, "values", ebi_sim_values_save(d));
        if (d->is_manager)
            json_object_set_new(device, "network", ebi_sim_manager_save(d));
        if (d->documents != NULL)
            json_object_set_new(device, "documents", ebi_sim_documents_save(d));
        const char *password = ebi_sim_http_password(d);
        if (password != NULL)
            json_object_set_new(device, "password", json_string(password));
        if (d->can.canopen.stored)
            json_object_set_new(device, "node",
                                json_pack("{s:i, s:I}", "id", d->can.canopen.node, "bit-rate",
                                          (json_int_t)d->can.own_bit_rate));
        json_object_set_new(devices, d->name, device);
    }
    json_t *root = json_pack("{s:s, s:s, s:o}", "einbau", STATE_KIND, "world", sim->name, "devices", devices);
    char *index = json_dumps(root, JSON_COMPACT);
    json_decref(root);
    size_t head = index != NULL ? strlen(index) : 0;
    uint8_t *bytes = index != NULL ? malloc(head + 1 + total) : NULL;
    bool ok = false;
    if (bytes != NULL) {
        memcpy(bytes, index, head);
        bytes[head] = '\n';
        size_t at = head + 1;
        for (size_t i = 0; i < sim->count; i++) {
            for (size_t k = 0; k < sim->devices[i].count; k++) {
                const struct ebi_sim_component *c = &sim->devices[i].components[k];
                for (int b = 0; b < c->banks; b++) {
                    size_t used = used_bytes(c->bank[b], c->capacity);
                    memcpy(bytes + at, c->bank[b], used);
                    at += used;
                }
            }
        }
        ok = eb_state_write(sim->state_dir, STATE_FILE, bytes, at, problem);
    } else {
        snprintf(problem->text, sizeof problem->text, "out of memory");
    }
    free(bytes);
    free(index);
    return ok;
}

/* What was stored by LSS. */
static void load_node(struct ebi_sim_device *d, const json_t *node)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    if (node == NULL)
        return;
    uint8_t id = (uint8_t)json_integer_value(json_object_get(node, "id"));
    if (c->loader_node == c->node)
        c->loader_node = id;
    c->node = id;
    c->stored = true;
    d->can.own_bit_rate = (uint32_t)json_integer_value(json_object_get(node, "bit-rate"));
}

/* Takes up one component; false where the index and the flash do not belong together. */
static bool load_component(struct ebi_sim_component *c, const json_t *index, const uint8_t **at,
                           const uint8_t *end)
{
    const json_t *banks = json_object_get(index, "banks");
    c->active = (int)json_integer_value(json_object_get(index, "active"));
    c->pending = json_is_true(json_object_get(index, "pending"));
    if (json_array_size(banks) != (size_t)c->banks || c->active < 0 || c->active >= c->banks)
        return false;
    for (int b = 0; b < c->banks; b++) {
        json_int_t used = json_integer_value(json_array_get(banks, (size_t)b));
        if (used < 0 || (size_t)used > c->capacity || used > end - *at)
            return false;
        memset(c->bank[b], 0xFF, c->capacity);
        memcpy(c->bank[b], *at, (size_t)used);
        *at += used;
    }
    return true;
}

static bool load_index(struct eb_sim *sim, const json_t *root, const uint8_t *at, const uint8_t *end)
{
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    const char *world = json_string_value(json_object_get(root, "world"));
    const json_t *devices = json_object_get(root, "devices");
    if (kind == NULL || strcmp(kind, STATE_KIND) != 0 || world == NULL || strcmp(world, sim->name) != 0 ||
        json_object_size(devices) != sim->count)
        return false;
    for (size_t i = 0; i < sim->count; i++) {
        struct ebi_sim_device *d = &sim->devices[i];
        const json_t *device = json_object_get(devices, d->name);
        const json_t *components = json_object_get(device, "components");
        const char *mode = json_string_value(json_object_get(device, "mode"));
        size_t m = 0;
        while (m < 5 && (mode == NULL || strcmp(mode_words[m], mode) != 0))
            m++;
        if (m == 5 || json_object_size(components) != d->count)
            return false;
        d->mode = (enum eb_sim_mode)m;
        if (json_is_object(json_object_get(device, "settings")))
            load_settings(&d->saved, json_object_get(device, "settings"));
        const char *password = json_string_value(json_object_get(device, "password"));
        if (password != NULL)
            ebi_sim_http_set_password(d, password);
        load_node(d, json_object_get(device, "node"));
        ebi_sim_values_load(d, json_object_get(device, "values"));
        ebi_sim_manager_load(d, json_object_get(device, "network"));
        ebi_sim_documents_load(d, json_object_get(device, "documents"));
        for (size_t k = 0; k < d->count; k++) {
            struct ebi_sim_component *c = &d->components[k];
            if (!load_component(c, json_object_get(components, c->name), &at, end))
                return false;
        }
    }
    return at == end;
}

bool ebi_sim_state_load(struct eb_sim *sim, struct eb_problem *problem)
{
    size_t size;
    bool missing;
    uint8_t *bytes = eb_state_read(sim->state_dir, STATE_FILE, &size, &missing, problem);
    if (bytes == NULL)
        return missing;
    const uint8_t *line = memchr(bytes, '\n', size);
    json_t *root = line != NULL ? json_loadb((const char *)bytes, (size_t)(line - bytes), 0, NULL) : NULL;
    bool ok = root != NULL && load_index(sim, root, line + 1, bytes + size);
    if (!ok)
        snprintf(
            problem->text, sizeof problem->text,
            "%s/%s: found the state of another world, or a damaged one, expected that of '%s'. Name another "
            "folder with --state, or remove the file to begin new",
            sim->state_dir, STATE_FILE, sim->name);
    json_decref(root);
    free(bytes);
    return ok;
}
