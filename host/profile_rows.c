#include "profile_rows.h"

#include <stdio.h>
#include <string.h>

/* Every protocol that a profile can name; a new one is added here. */
static const struct entry {
    const struct eb_access *access;
    const struct eb_rows *rows; /* NULL: it reads no values and does no steps */
} entries[] = {
    {&eb_access_modbus, &eb_rows_modbus},
    {&eb_access_snmp, &eb_rows_snmp},
    {&eb_access_cip, &eb_rows_cip},
    {&eb_access_dns_sd, &eb_rows_dns_sd},
    {&eb_access_dcp, &eb_rows_dcp},
    {&eb_access_canopen, &eb_rows_canopen},
    {&eb_access_uds, &eb_rows_uds},
    {&eb_access_dfu, &eb_rows_dfu},
    {&eb_access_tftp, NULL},
};
enum { ENTRIES = sizeof entries / sizeof entries[0] };

const struct eb_access *ebi_access_named(const char *word, unsigned able)
{
    for (size_t i = 0; i < ENTRIES; i++) {
        if (strcmp(entries[i].access->word, word) == 0 && (entries[i].access->able & able) != 0)
            return entries[i].access;
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

enum { WORDS_BYTES = 200 };

/* The row one of whose keys the map has; NULL: none.  `words` gets the keys that there are, in a row. */
static const struct eb_row *find_row(struct ebi_yaml_map *map, bool steps, const struct eb_access **by,
                                     char *words, size_t cap)
{
    words[0] = '\0';
    for (size_t i = 0; i < ENTRIES; i++) {
        const struct eb_rows *rows = entries[i].rows;
        size_t count = rows == NULL ? 0 : steps ? rows->step_count : rows->source_count;
        for (size_t k = 0; k < count; k++) {
            const struct eb_row *row = steps ? &rows->steps[k] : &rows->sources[k];
            *by = entries[i].access;
            if (ebi_yaml_has(map, row->key))
                return row;
            snprintf(words + strlen(words), cap - strlen(words), "%s%s", words[0] != '\0' ? ", " : "",
                     row->key);
        }
    }
    return NULL;
}

void ebi_read_source(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_value *value)
{
    char words[WORDS_BYTES];
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    const struct eb_row *row = find_row(&map, false, &value->by, words, sizeof words);
    if (row == NULL) {
        char expected[WORDS_BYTES + 8];
        const char *last = strrchr(words, ',');
        snprintf(expected, sizeof expected, "%.*s or%s", (int)(last - words), words, last + 1);
        ebi_yaml_wrong(yaml, node, "no source", expected);
        return;
    }
    value->kind = row->kind;
    read_fields(&map, row, value);
    ebi_yaml_text(&map, "after", false, value->after, sizeof value->after);
    ebi_yaml_map_end(&map);
}

void ebi_read_step(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_step *step)
{
    static const char wait[] = "wait-ms";
    char words[WORDS_BYTES];
    const char *first;
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (ebi_yaml_has(&map, wait)) {
        step->time_ms = (uint32_t)ebi_yaml_number(&map, wait, 0, 600000, 0);
        ebi_yaml_map_end(&map);
        return;
    }
    const struct eb_row *row = find_row(&map, true, &step->by, words, sizeof words);
    if (row == NULL) {
        char found[96];
        char expected[WORDS_BYTES + 32];
        bool empty = ebi_yaml_pair(yaml, node, 0, &first) == NULL;
        snprintf(found, sizeof found, empty ? "an empty step" : "the unknown key '%.60s'",
                 empty ? "" : first);
        snprintf(expected, sizeof expected, "one of: %s, %s", words, wait);
        ebi_yaml_wrong(yaml, node, found, expected);
        return;
    }
    struct ebi_yaml_map fields = ebi_yaml_map(yaml, ebi_yaml_get(&map, row->key, true));
    step->kind = row->kind;
    read_fields(&fields, row, step);
    ebi_yaml_map_end(&fields);
    ebi_yaml_map_end(&map);
}
