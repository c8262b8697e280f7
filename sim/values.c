#include "values.h"

#include "server.h"
#include "yaml_read.h"

#include <stdlib.h>
#include <string.h>

static bool runs(const struct ebi_sim_device *d)
{
    return d->mode == EB_SIM_RUNNING || d->mode == EB_SIM_STOPPED;
}

bool ebi_sim_value_of(const struct ebi_sim_device *d, unsigned number, uint32_t *value)
{
    for (size_t i = 0; d->values != NULL && runs(d) && i < d->values->count; i++) {
        const struct ebi_sim_value *v = &d->values->list[i];
        if (v->number != number || v->gone)
            continue;
        *value = v->now;
        return true;
    }
    return false;
}

const struct ebi_sim_log *ebi_sim_log_of(const struct ebi_sim_device *d)
{
    return d->values != NULL && d->values->log.taken && runs(d) ? &d->values->log : NULL;
}

/* --- another image runs -------------------------------------------------------------------------- */

static void add_entry(struct ebi_sim_log *log, uint32_t entry)
{
    size_t kept = log->count < EBI_SIM_LOG_MAX ? log->count : EBI_SIM_LOG_MAX - 1;
    memmove(log->entries + 1, log->entries, kept * sizeof log->entries[0]);
    log->entries[0] = entry;
    log->count = kept + 1;
}

static void update(struct ebi_sim_values *values)
{
    struct ebi_sim_log *log = &values->log;
    for (size_t i = 0; i < values->count; i++) {
        struct ebi_sim_value *v = &values->list[i];
        v->now = v->has_after ? v->after_update : v->now;
        v->gone = v->gone || v->gone_after;
    }
    if (log->cleared_by_update)
        log->count = 0;
    if (log->moves_up && log->count > 2)
        memmove(log->entries + 2, log->entries + 3, (--log->count - 2) * sizeof log->entries[0]);
    for (size_t i = 0; i < log->after_count; i++)
        add_entry(log, log->after_update[i]);
}

uint32_t ebi_sim_images(const struct ebi_sim_device *d)
{
    uint32_t sum = 0;
    for (size_t i = 0; i < d->count; i++)
        sum = sum * 31 + (d->components[i].valid ? d->components[i].checksum : 0);
    return sum;
}

static void alive(struct ebi_sim_device *d, bool is_alive)
{
    if (d->values == NULL || !is_alive || !runs(d))
        return;
    uint32_t runs_now = ebi_sim_images(d);
    if (d->values->known && runs_now != d->values->ran)
        update(d->values);
    d->values->known = true;
    d->values->ran = runs_now;
}

static void forget(struct ebi_sim_device *d)
{
    free(d->values);
    d->values = NULL;
}

/* --- what a world says of it ----------------------------------------------------------------------- */

static void read_value(struct ebi_yaml *yaml, const char *name, yaml_node_t *node, struct ebi_sim_value *v)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (!eb_text_copy(v->name, sizeof v->name, name))
        ebi_yaml_wrong(yaml, node, "a value with a longer name", "at most 47 characters");
    ebi_yaml_get(&map, "number", true);
    v->number = (uint16_t)ebi_yaml_number(&map, "number", 0, UINT16_MAX, 0);
    v->now = (uint32_t)ebi_yaml_number(&map, "value", 0, UINT32_MAX, 0);
    v->has_after = ebi_yaml_get(&map, "after-update", false) != NULL;
    v->after_update = (uint32_t)ebi_yaml_number(&map, "after-update", 0, UINT32_MAX, 0);
    v->gone_after = ebi_yaml_yes(&map, "gone-after-update", false);
    ebi_yaml_map_end(&map);
}

static size_t read_entries(struct ebi_yaml_map *map, const char *key, uint32_t list[EBI_SIM_LOG_MAX])
{
    yaml_node_t *node = ebi_yaml_get(map, key, false);
    yaml_node_t *item;
    size_t count = 0;
    while ((item = ebi_yaml_item(map->yaml, node, count)) != NULL) {
        const char *text = ebi_yaml_scalar(map->yaml, item);
        char *end = NULL;
        if (count == EBI_SIM_LOG_MAX || text == NULL) {
            ebi_yaml_wrong(map->yaml, item, "one entry too many, or no number", "at most 8 numbers");
            return 0;
        }
        list[count++] = (uint32_t)strtoul(text, &end, 0);
        if (*end != '\0' || end == text)
            ebi_yaml_wrong(map->yaml, item, text, "a number");
    }
    return count;
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    yaml_node_t *list = ebi_yaml_get(map, "values", false);
    yaml_node_t *log = ebi_yaml_get(map, "log", false);
    yaml_node_t *node;
    const char *name;
    if (list == NULL && log == NULL)
        return;
    d->values = calloc(1, sizeof *d->values);
    if (d->values == NULL)
        abort();
    for (size_t i = 0; list != NULL && (node = ebi_yaml_pair(map->yaml, list, i, &name)) != NULL; i++) {
        if (i == EBI_SIM_VALUES_MAX) {
            ebi_yaml_wrong(map->yaml, node, "one value too many", "at most 8");
            return;
        }
        read_value(map->yaml, name, node, &d->values->list[i]);
        d->values->count = i + 1;
    }
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, log);
    d->values->log.taken = log != NULL;
    d->values->log.number = (uint16_t)ebi_yaml_number(&keys, "number", 0, UINT16_MAX, 0);
    d->values->log.count = read_entries(&keys, "entries", d->values->log.entries);
    d->values->log.after_count = read_entries(&keys, "after-update", d->values->log.after_update);
    d->values->log.cleared_by_update = ebi_yaml_yes(&keys, "cleared-by-update", false);
    d->values->log.moves_up = ebi_yaml_yes(&keys, "moves-up", false);
    ebi_yaml_map_end(&keys);
}

const struct ebi_sim_server ebi_sim_values = {.read = read_keys, .alive = alive, .forget = forget};

/* --- what is remembered ---------------------------------------------------------------------------- */

json_t *ebi_sim_values_save(const struct ebi_sim_device *d)
{
    const struct ebi_sim_values *values = d->values;
    if (values == NULL)
        return NULL;
    json_t *now = json_array();
    json_t *gone = json_array();
    json_t *log = json_array();
    for (size_t i = 0; i < values->count; i++) {
        json_array_append_new(now, json_integer((json_int_t)values->list[i].now));
        json_array_append_new(gone, json_boolean(values->list[i].gone));
    }
    for (size_t i = 0; i < values->log.count; i++)
        json_array_append_new(log, json_integer((json_int_t)values->log.entries[i]));
    return json_pack("{s:o, s:o, s:o, s:b, s:I}", "now", now, "gone", gone, "log", log, "known",
                     values->known, "ran", (json_int_t)values->ran);
}

void ebi_sim_values_load(struct ebi_sim_device *d, const json_t *from)
{
    struct ebi_sim_values *values = d->values;
    const json_t *log = json_object_get(from, "log");
    if (values == NULL || from == NULL)
        return;
    for (size_t i = 0; i < values->count; i++) {
        values->list[i].now = (uint32_t)json_integer_value(json_array_get(json_object_get(from, "now"), i));
        values->list[i].gone = json_is_true(json_array_get(json_object_get(from, "gone"), i));
    }
    values->log.count = 0;
    for (size_t i = 0; i < json_array_size(log) && i < EBI_SIM_LOG_MAX; i++)
        values->log.entries[values->log.count++] = (uint32_t)json_integer_value(json_array_get(log, i));
    values->known = json_is_true(json_object_get(from, "known"));
    values->ran = (uint32_t)json_integer_value(json_object_get(from, "ran"));
}
