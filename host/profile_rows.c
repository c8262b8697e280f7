#include "profile_rows.h"

#include <stdio.h>
#include <string.h>

const struct eb_access *const ebi_accesses[] = {
    &eb_access_modbus,  &eb_access_snmp, &eb_access_cip, &eb_access_dns_sd, &eb_access_dcp,
    &eb_access_canopen, &eb_access_uds,  &eb_access_dfu, &eb_access_tftp,
};
const size_t ebi_access_count = sizeof ebi_accesses / sizeof ebi_accesses[0];

const struct eb_access *ebi_access_named(const char *word, unsigned able)
{
    for (size_t i = 0; i < ebi_access_count; i++) {
        if (strcmp(ebi_accesses[i]->word, word) == 0 && (ebi_accesses[i]->able & able) != 0)
            return ebi_accesses[i];
    }
    return NULL;
}

/* A member of `bytes` bytes; those that are wider than a number of the profile are texts. */
static void put_number(void *member, size_t bytes, uint64_t number)
{
    const uint8_t one = (uint8_t)number;
    const uint16_t two = (uint16_t)number;
    const uint32_t four = (uint32_t)number;
    memcpy(member,
           bytes == 1   ? (const void *)&one
           : bytes == 2 ? (const void *)&two
                        : (const void *)&four,
           bytes);
}

static void read_oid(struct ebi_yaml_map *map, const struct eb_field *field, struct eb_oid *oid)
{
    char text[160] = "";
    ebi_yaml_text(map, field->key, true, text, sizeof text);
    if (!map->yaml->failed && !eb_oid_parse(text, oid))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, field->key), "no object identifier",
                       "numbers between dots, like 1.3.6.1.2.1.1.5.0");
}

static void read_field(struct ebi_yaml_map *map, const struct eb_field *field, void *to)
{
    void *member = (char *)to + field->offset;
    if (field->needed)
        ebi_yaml_need(map, field->key);
    switch (field->kind) {
    case EB_FIELD_NUMBER:
        put_number(member, field->bytes,
                   ebi_yaml_number(map, field->key, field->least, field->most, field->otherwise));
        break;
    case EB_FIELD_WORD:
        put_number(member, field->bytes,
                   ebi_yaml_get(map, field->key, false) != NULL ? ebi_yaml_word(map, field->key, field->words)
                                                                : field->otherwise);
        break;
    case EB_FIELD_TEXT:
        ebi_yaml_text(map, field->key, field->needed, member, field->bytes);
        break;
    case EB_FIELD_OID:
        read_oid(map, field, member);
        break;
    }
}

/* The fields of a row; the words of the first one decide which of the others there are. */
static void read_fields(struct ebi_yaml_map *map, const struct eb_row *row, void *to)
{
    for (size_t i = 0; i < row->count; i++) {
        const struct eb_field *field = &row->fields[i];
        const uint8_t *first = (const uint8_t *)to + row->fields[0].offset;
        if (field->only_for == 0 || (field->only_for >> *first & 1) != 0)
            read_field(map, field, to);
    }
}

typedef const struct eb_row *rows_of(const struct eb_access *access, size_t *count);

static const struct eb_row *sources_of(const struct eb_access *access, size_t *count)
{
    *count = access->source_count;
    return access->sources;
}

static const struct eb_row *steps_of(const struct eb_access *access, size_t *count)
{
    *count = access->step_count;
    return access->steps;
}

enum { ROWS_MAX = 32 };

/* The row one of whose keys the map has.  NULL: none; that is a problem, told with the keys that there are.
 */
static const struct eb_row *find_row(struct ebi_yaml_map *map, yaml_node_t *node, rows_of *rows,
                                     const char *found, const char *last, const struct eb_access **by)
{
    const char *words[ROWS_MAX];
    char expected[200] = "";
    size_t word_count = 0;
    for (size_t i = 0; i < ebi_access_count; i++) {
        size_t count;
        const struct eb_row *row = rows(ebi_accesses[i], &count);
        for (; count > 0; row++, count--) {
            *by = ebi_accesses[i];
            if (ebi_yaml_has(map, row->key))
                return row;
            if (word_count < ROWS_MAX - 1)
                words[word_count++] = row->key;
        }
    }
    if (last != NULL)
        words[word_count++] = last;
    for (size_t i = 0; i < word_count; i++)
        snprintf(expected + strlen(expected), sizeof expected - strlen(expected), "%s%s",
                 i == 0                ? ""
                 : i + 1 == word_count ? " or "
                                       : ", ",
                 words[i]);
    ebi_yaml_wrong(map->yaml, node, found, expected);
    return NULL;
}

void ebi_read_source(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_value *value)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    const struct eb_row *row = find_row(&map, node, sources_of, "no source", NULL, &value->by);
    if (row == NULL)
        return;
    value->kind = row->kind;
    read_fields(&map, row, value);
    ebi_yaml_text(&map, "after", false, value->after, sizeof value->after);
    ebi_yaml_map_end(&map);
}

void ebi_read_step(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_step *step)
{
    static const char wait[] = "wait-ms";
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (ebi_yaml_has(&map, wait)) {
        step->time_ms = (uint32_t)ebi_yaml_number(&map, wait, 0, 600000, 0);
        ebi_yaml_map_end(&map);
        return;
    }
    const struct eb_row *row = find_row(&map, node, steps_of, "no step", wait, &step->by);
    if (row == NULL)
        return;
    struct ebi_yaml_map fields = ebi_yaml_map(yaml, ebi_yaml_get(&map, row->key, true));
    step->kind = row->kind;
    read_fields(&fields, row, step);
    ebi_yaml_map_end(&fields);
    ebi_yaml_map_end(&map);
}
