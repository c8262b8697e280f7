/* What is noted of a device before it is written to and after: values by name, and its own diagnostics. */
#include "profile_rows.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { VALUES_MAX = EB_COMPONENTS_MAX / 2, ENTRIES_MAX = EB_COMPONENTS_MAX - VALUES_MAX };

static void read_values(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_component_profile *list,
                        size_t *count)
{
    const char *name;
    yaml_node_t *source;
    for (size_t i = 0; (source = ebi_yaml_pair(yaml, node, i, &name)) != NULL && !yaml->failed; i++) {
        struct eb_component_profile *value = &list[*count];
        if (i == VALUES_MAX) {
            ebi_yaml_wrong(yaml, source, "one value too many", "at most 8 in 'note-values'");
            return;
        }
        if (name[0] == '\0' || !eb_text_copy(value->name, sizeof value->name, name))
            ebi_yaml_wrong(yaml, source, "a value with no name or a longer one", "1 to 47 characters");
        ebi_read_source(yaml, source, &value->version.list[0]);
        value->version.count = 1;
        ++*count;
    }
}

/* The key with the number of the entry in place of its "{n}". */
static const char *numbered(struct ebi_yaml *yaml, const char *key, const char *mark, size_t number)
{
    size_t size = strlen(key) + 24;
    char *text = ebi_yaml_keep(yaml, size);
    snprintf(text, size, "%.*s%zu%s", (int)(mark - key), key, number, mark + 3);
    return text;
}

static void read_diagnostics(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_component_profile *list,
                             size_t *count)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    yaml_node_t *source = ebi_yaml_get(&map, "source", true);
    size_t entries = (size_t)ebi_yaml_number(&map, "entries", 1, ENTRIES_MAX, ENTRIES_MAX);
    struct eb_value first = {.by = NULL};
    ebi_yaml_map_end(&map);
    enum eb_list kind = source != NULL ? ebi_read_source(yaml, source, &first) : EB_LIST_NONE;
    const char *mark = first.key != NULL ? strstr(first.key, "{n}") : NULL;
    if (yaml->failed)
        return;
    if (kind == EB_LIST_NONE || (kind == EB_LIST_KEY && mark == NULL)) {
        ebi_yaml_wrong(yaml, source, "a source of one value",
                       "a list: modbus-register, sdo, did, dtc-mask, or http with \"{n}\" in the key 'json'");
        return;
    }
    for (size_t i = 0; i < entries; i++) {
        struct eb_value *value = &list[*count].version.list[0];
        list[(*count)++].version.count = 1;
        *value = first;
        if (kind == EB_LIST_INDEX)
            value->index = (uint16_t)(first.index + i * (first.sub > 1 ? first.sub : 1U));
        else if (kind == EB_LIST_SUB)
            value->sub = (uint8_t)(first.sub + i);
        else if (kind == EB_LIST_ITEM)
            value->item = (uint8_t)i;
        else if (mark != NULL)
            value->key = numbered(yaml, first.key, mark, i);
    }
}

/* On the wire by which the device is written to, and by itself: nothing asks a person here. */
static void check_values(struct ebi_yaml_map *map, const struct eb_profile *notes)
{
    for (size_t i = 0; i < notes->count && ebi_yaml_whole(map->yaml); i++) {
        const struct eb_access *by = notes->components[i].version.list[0].by;
        if (by->wire != eb_profile_wire(notes) || (by->able & EB_BY_PERSON) != 0)
            ebi_yaml_wrong(map->yaml, map->node, "a noted value that is read in another way",
                           "one that is read by the wire by which the device is written to");
    }
}

void ebi_read_notes(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *values = ebi_yaml_get(map, "note-values", false);
    yaml_node_t *diagnostics = ebi_yaml_get(map, "diagnostics", false);
    if (values == NULL && diagnostics == NULL)
        return;
    struct eb_component_profile *list = ebi_yaml_keep(map->yaml, EB_COMPONENTS_MAX * sizeof *list);
    struct eb_profile *notes = ebi_yaml_keep(map->yaml, sizeof *notes);
    size_t count = 0;
    if (values != NULL)
        read_values(map->yaml, values, list, &count);
    if (diagnostics != NULL)
        read_diagnostics(map->yaml, diagnostics, list, &count);
    /* The device is the same one, and reached in the same way; nothing is done to it. */
    *notes = *p;
    notes->from_maker.count = notes->from_product.count = notes->from_hardware_revision.count = 0;
    notes->from_program.count = notes->from_counter.count = 0;
    notes->prepare.count = notes->activate.count = notes->undo.count = notes->closes = 0;
    notes->otherwise_count = 0;
    notes->backup_count = notes->stored_count = notes->restart.count = 0;
    notes->loader_component[0] = '\0';
    notes->memory = NULL;
    notes->components = list;
    notes->count = count;
    p->notes = notes;
    check_values(map, notes);
}
