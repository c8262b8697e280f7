#include "profile_rows.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Every protocol that a profile can name; a new one is added here. */
static const struct entry {
    const struct eb_access *access;
    const struct eb_rows *rows;
} entries[] = {
    /* clang-format off */
    {&eb_access_modbus, &eb_rows_modbus},
    {&eb_access_snmp, &eb_rows_snmp},
    {&eb_access_cip, &eb_rows_cip},
    {&eb_access_dns_sd, &eb_rows_dns_sd},
    {&eb_access_dcp, &eb_rows_dcp},
    {&eb_access_canopen, &eb_rows_canopen},
    {&eb_access_uds, &eb_rows_uds},
    {&eb_access_dfu, &eb_rows_dfu},
    {&eb_access_tftp, &eb_rows_tftp},
    {&eb_access_tftp_document, &eb_rows_tftp_document},
    {&eb_access_modbus_file, &eb_rows_modbus_file},
    {&eb_access_http, &eb_rows_http},
    {&eb_access_pull, &eb_rows_pull},
    {&eb_access_stated, &eb_rows_stated},
    /* clang-format on */
};
enum { ENTRIES = sizeof entries / sizeof entries[0] };

const struct eb_access *eb_profile_protocol(size_t index, const struct eb_rows **rows)
{
    *rows = index < ENTRIES ? entries[index].rows : NULL;
    return index < ENTRIES ? entries[index].access : NULL;
}

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

static void read_oid(struct ebi_yaml_map *map, const struct eb_field *field, void *member)
{
    char text[160] = "";
    struct eb_oid *oid = ebi_yaml_keep(map->yaml, sizeof *oid);
    memcpy(member, &oid, sizeof oid);
    ebi_yaml_text(map, field->key, true, text, sizeof text);
    if (!map->yaml->failed && !eb_oid_parse(text, oid))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, field->key), "no object identifier",
                       "numbers between dots, like 1.3.6.1.2.1.1.5.0");
}

static void read_usb_ids(struct ebi_yaml_map *map, const struct eb_field *field, uint16_t *vendor)
{
    char text[16] = "";
    ebi_yaml_text(map, field->key, field->needed, text, sizeof text);
    if (text[0] != '\0' && !map->yaml->failed && !ebi_usb_ids_parse(text, vendor, vendor + 1))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, field->key), text,
                       "the numbers of maker and product, each of four hexadecimal digits: \"1209:0001\"");
}

static void read_number(struct ebi_yaml_map *map, const struct eb_field *field, void *member)
{
    uint64_t number = ebi_yaml_number(map, field->key, field->least, field->most, field->otherwise);
    put_number(member, field->bytes, field->kind == EB_FIELD_SECONDS ? 1000 * number : number);
    if (field->odd != NULL && number % 2 == 0) {
        char expected[80];
        snprintf(expected, sizeof expected, "the odd one %s", field->odd);
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, field->key), "an even number", expected);
    }
}

/* The items of a list, or the one value; NULL behind the last. */
static yaml_node_t *one_of(struct ebi_yaml_map *map, yaml_node_t *node, size_t index)
{
    if (node != NULL && node->type == YAML_SEQUENCE_NODE)
        return ebi_yaml_item(map->yaml, node, index);
    return index == 0 && !map->yaml->failed ? node : NULL;
}

enum { LIST_MAX = 16 };

static size_t count_of(struct ebi_yaml_map *map, yaml_node_t *node, size_t most)
{
    size_t count = 0;
    while (one_of(map, node, count) != NULL && count <= most)
        count++;
    if (count > most) {
        char expected[32];
        snprintf(expected, sizeof expected, "at most %zu", most);
        ebi_yaml_wrong(map->yaml, node, "one too many", expected);
    }
    return count;
}

static void read_strings(struct ebi_yaml_map *map, const struct eb_field *field, struct eb_strings *strings)
{
    yaml_node_t *node = ebi_yaml_get(map, field->key, field->needed);
    size_t count = count_of(map, node, LIST_MAX);
    const char **list = ebi_yaml_keep(map->yaml, count * sizeof *list);
    for (size_t i = 0; i < count && !map->yaml->failed; i++)
        list[i] = ebi_yaml_kept(map->yaml, one_of(map, node, i));
    *strings = (struct eb_strings){list, map->yaml->failed ? 0 : count};
}

void ebi_read_strings(struct ebi_yaml_map *map, const char *key, struct eb_strings *strings)
{
    const struct eb_field field = {.key = key};
    read_strings(map, &field, strings);
}

static void read_numbers(struct ebi_yaml_map *map, const struct eb_field *field, struct eb_numbers *numbers)
{
    yaml_node_t *node = ebi_yaml_get(map, field->key, field->needed);
    size_t count = count_of(map, node, EB_NUMBERS_MAX);
    numbers->count = 0;
    for (size_t i = 0; i < count && !map->yaml->failed; i++) {
        yaml_node_t *item = one_of(map, node, i);
        const char *text = ebi_yaml_scalar(map->yaml, item);
        char *end = NULL;
        unsigned long number = text != NULL ? strtoul(text, &end, 10) : 0;
        if (text != NULL && (*end != '\0' || text[0] < '0' || text[0] > '9' || number < field->least ||
                             number > field->most)) {
            char expected[80];
            snprintf(expected, sizeof expected, "a whole number from %u to %u", field->least, field->most);
            ebi_yaml_wrong(map->yaml, item, text, expected);
        }
        numbers->list[numbers->count++] = (uint16_t)number;
    }
}

static void read_pairs(struct ebi_yaml_map *map, const struct eb_field *field, struct eb_pairs *pairs)
{
    yaml_node_t *node = ebi_yaml_get(map, field->key, field->needed);
    const char *name;
    size_t count = 0;
    while (count <= LIST_MAX && ebi_yaml_pair(map->yaml, node, count, &name) != NULL)
        count++;
    if (count > LIST_MAX)
        ebi_yaml_wrong(map->yaml, node, "one too many", "at most 16");
    struct eb_pair *list = ebi_yaml_keep(map->yaml, (count + 1) * sizeof *list);
    for (size_t i = 0; i < count && !map->yaml->failed; i++) {
        list[i].text = ebi_yaml_kept(map->yaml, ebi_yaml_pair(map->yaml, node, i, &name));
        list[i].name = memcpy(ebi_yaml_keep(map->yaml, strlen(name) + 1), name, strlen(name) + 1);
    }
    *pairs = (struct eb_pairs){list, map->yaml->failed ? 0 : count};
}

static void read_field(struct ebi_yaml_map *map, const struct eb_field *field, void *to)
{
    void *member = (char *)to + field->offset;
    if (field->needed && map->node != NULL)
        ebi_yaml_need(map, field->key);
    switch (field->kind) {
    case EB_FIELD_NUMBER:
    case EB_FIELD_SECONDS:
        read_number(map, field, member);
        break;
    case EB_FIELD_YES:
        put_number(member, field->bytes, ebi_yaml_yes(map, field->key, field->otherwise != 0));
        break;
    case EB_FIELD_USB_IDS:
        read_usb_ids(map, field, member);
        break;
    case EB_FIELD_MAP: {
        struct ebi_yaml_map below = ebi_yaml_map(map->yaml, ebi_yaml_get(map, field->key, false));
        ebi_read_fields(&below, field->fields, field->count, to);
        ebi_yaml_map_end(&below);
        break;
    }
    case EB_FIELD_WORD:
        put_number(member, field->bytes,
                   ebi_yaml_get(map, field->key, false) != NULL ? ebi_yaml_word(map, field->key, field->words)
                                                                : field->otherwise);
        break;
    case EB_FIELD_TEXT:
        ebi_yaml_text(map, field->key, field->needed, member, field->bytes);
        break;
    case EB_FIELD_STRING: {
        const char *text = ebi_yaml_string(map, field->key, field->needed);
        memcpy(member, &text, sizeof text);
        break;
    }
    case EB_FIELD_STRINGS:
        read_strings(map, field, member);
        break;
    case EB_FIELD_PAIRS:
        read_pairs(map, field, member);
        break;
    case EB_FIELD_NUMBERS:
        read_numbers(map, field, member);
        break;
    case EB_FIELD_OID:
        read_oid(map, field, member);
        break;
    }
}

void ebi_read_fields(struct ebi_yaml_map *map, const struct eb_field *fields, size_t count, void *to)
{
    const uint8_t *first = (const uint8_t *)to + fields[0].offset;
    for (size_t i = 0; i < count; i++) {
        if (fields[i].only_for == 0 || (fields[i].only_for >> *first & 1) != 0)
            read_field(map, &fields[i], to);
    }
}

enum { WORDS_BYTES = 200 };

/* The row one of whose keys the map has; NULL: none.  `words` gets the keys that there are, in a row. */
enum rows_of { ROWS_OF_SOURCES, ROWS_OF_STEPS, ROWS_OF_DOCUMENTS };

static const struct eb_row *find_row(struct ebi_yaml_map *map, enum rows_of which,
                                     const struct eb_access **by, char *words, size_t cap)
{
    words[0] = '\0';
    for (size_t i = 0; i < ENTRIES; i++) {
        const struct eb_rows *rows = entries[i].rows;
        const struct eb_row *const lists[] = {rows->sources, rows->steps, rows->documents};
        const size_t counts[] = {rows->source_count, rows->step_count, rows->document_count};
        for (size_t k = 0; k < counts[which]; k++) {
            const struct eb_row *row = &lists[which][k];
            *by = entries[i].access;
            if (ebi_yaml_has(map, row->key))
                return row;
            snprintf(words + strlen(words), cap - strlen(words), "%s%s", words[0] != '\0' ? ", " : "",
                     row->key);
        }
    }
    return NULL;
}

enum eb_list ebi_read_source(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_value *value)
{
    char words[WORDS_BYTES];
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    const struct eb_row *row = find_row(&map, ROWS_OF_SOURCES, &value->by, words, sizeof words);
    if (row == NULL) {
        char expected[WORDS_BYTES + 8];
        const char *last = strrchr(words, ',');
        snprintf(expected, sizeof expected, "%.*s or%s", (int)(last - words), words, last + 1);
        ebi_yaml_wrong(yaml, node, "no source", expected);
        return EB_LIST_NONE;
    }
    value->kind = row->kind;
    ebi_read_fields(&map, row->fields, row->count, value);
    value->after = ebi_yaml_string(&map, "after", false);
    ebi_yaml_map_end(&map);
    return row->list;
}

/* What the lamp or the screen shows in the end becomes part of the step's sentence. */
static void add_lamp(struct ebi_yaml_map *hand, struct eb_step *step)
{
    static const char between[] = ", until ";
    const char *lamp = ebi_yaml_string(hand, "lamp", false);
    size_t size = lamp != NULL && step->hand != NULL ? strlen(step->hand) + strlen(lamp) + sizeof between : 0;
    char *text = size > 0 ? ebi_yaml_keep(hand->yaml, size) : NULL;
    if (text == NULL)
        return;
    snprintf(text, size, "%s%s%s", step->hand, between, lamp);
    step->hand = text;
}

/* {by-hand: {do: ...}} without a register that tells whether it was done: what comes next shows it, or with
 * `ask` the person. */
static bool by_hand(struct ebi_yaml_map *map, struct eb_step *step)
{
    static const char key[] = "by-hand";
    if (!ebi_yaml_has(map, key))
        return false;
    struct ebi_yaml_map hand = ebi_yaml_map(map->yaml, ebi_yaml_need(map, key));
    if (ebi_yaml_has(&hand, "address"))
        return false;
    ebi_yaml_get(map, key, true);
    step->hand = ebi_yaml_string(&hand, "do", true);
    add_lamp(&hand, step);
    step->kind = ebi_yaml_yes(&hand, "ask", false) ? EB_HAND_ASKED : EB_HAND_SEEN;
    step->time_ms =
        step->kind == EB_HAND_ASKED ? 1000 * (uint32_t)ebi_yaml_number(&hand, "within-s", 1, 3600, 600) : 0;
    ebi_yaml_map_end(&hand);
    return true;
}

static void read_row(struct ebi_yaml_map *map, const struct eb_row *row, struct eb_step *step)
{
    struct ebi_yaml_map fields = ebi_yaml_map(map->yaml, ebi_yaml_get(map, row->key, true));
    step->kind = row->kind;
    void *more = row->more_bytes > 0 ? ebi_yaml_keep(map->yaml, row->more_bytes) : NULL;
    step->more = more;
    ebi_read_fields(&fields, row->fields, row->count, more != NULL ? more : (void *)step);
    if (step->hand != NULL)
        add_lamp(&fields, step);
    ebi_yaml_map_end(&fields);
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
    if (by_hand(&map, step)) {
        ebi_yaml_map_end(&map);
        return;
    }
    const struct eb_row *row = find_row(&map, ROWS_OF_STEPS, &step->by, words, sizeof words);
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
    read_row(&map, row, step);
    ebi_yaml_map_end(&map);
}

void ebi_read_document(struct ebi_yaml_map *map, struct eb_step *step)
{
    char words[WORDS_BYTES];
    const struct eb_row *row = find_row(map, ROWS_OF_DOCUMENTS, &step->by, words, sizeof words);
    if (row != NULL)
        read_row(map, row, step);
    else
        ebi_yaml_wrong(map->yaml, map->node, "a document that is fetched in no way", words);
}

static void add_step(struct ebi_yaml *yaml, yaml_node_t *item, uint8_t choice, struct eb_steps *steps)
{
    if (steps->count == EB_STEPS_MAX) {
        ebi_yaml_wrong(yaml, item, "one step too many", "at most 8");
        return;
    }
    struct eb_step *step = &steps->list[steps->count++];
    ebi_read_step(yaml, item, step);
    step->choice = choice;
}

void ebi_read_steps(struct ebi_yaml_map *map, const char *key, bool choices, struct eb_steps *steps)
{
    yaml_node_t *list = ebi_yaml_get(map, key, false);
    yaml_node_t *item;
    uint8_t choice = 0;
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, list, i)) != NULL && !map->yaml->failed; i++) {
        struct ebi_yaml_map other = ebi_yaml_map(map->yaml, item);
        yaml_node_t *step;
        if (!choices || !ebi_yaml_has(&other, "otherwise")) {
            add_step(map->yaml, item, choice, steps);
            continue;
        }
        yaml_node_t *steps_of = ebi_yaml_get(&other, "otherwise", true);
        ebi_yaml_map_end(&other);
        choice++;
        for (size_t k = 0; (step = one_of(&other, steps_of, k)) != NULL && !map->yaml->failed; k++)
            add_step(map->yaml, step, choice, steps);
    }
}

/* A device that is written to over its bus or plug is read there as well, in the order of its standard. */
static void check_elsewhere(struct ebi_yaml_map *map, const struct eb_profile *p, const char *elsewhere)
{
    if (!ebi_yaml_whole(map->yaml))
        return;
    if (p->prepare.count + p->activate.count + p->undo.count > 0)
        ebi_yaml_wrong(map->yaml, map->node, "steps with 'prepare', 'activate', 'undo' or 'close'",
                       "none: a device on a CAN bus or on USB is written to in the order of its standard");
    for (size_t i = 0; i < eb_profile_items(p); i++) {
        const struct eb_values *values = eb_profile_values(p, i);
        for (size_t k = 0; values != NULL && k < values->count; k++) {
            if (values->list[k].by != p->sends_by)
                ebi_yaml_wrong(map->yaml, map->node, eb_profile_item_word(i), elsewhere);
        }
    }
}

static void check_components(struct ebi_yaml_map *map, const struct eb_profile *p,
                             const struct eb_section *section, const struct eb_access *by)
{
    for (size_t i = 0; i < p->count && ebi_yaml_whole(map->yaml); i++) {
        if (p->components[i].alternate != 0 && (section == NULL || !section->alternates))
            ebi_yaml_wrong(map->yaml, map->node, "a component with the key 'alternate'",
                           "none: alternate settings are of devices with the key 'dfu'");
        if (p->components[i].in_files && by != &eb_access_tftp && by != &eb_access_http)
            ebi_yaml_wrong(map->yaml, map->node, "a component that takes files",
                           "a device with the key 'tftp' or 'http'");
        char expected[120];
        const char *name = p->components[i].file_name;
        size_t digits = strspn(name, "0123456789");
        if (section == NULL || section->by == EB_BY_NOTHING || p->components[i].in_files)
            continue;
        snprintf(expected, sizeof expected, "the %s under which the device takes it by %s",
                 section->by == EB_BY_NUMBER ? "number from 1 to 65535" : "name", by->title);
        if (name[0] == '\0')
            ebi_yaml_wrong(map->yaml, map->node, "a component without the key 'send-as'", expected);
        else if (section->by == EB_BY_NUMBER &&
                 (name[digits] != '\0' || digits > 5 || atoi(name) < 1 || atoi(name) > UINT16_MAX))
            ebi_yaml_wrong(map->yaml, map->node, name, expected);
    }
}

/* The section that says how images are sent, or NULL. */
static const struct eb_section *find_section(struct ebi_yaml_map *map, const struct eb_access **by)
{
    const struct eb_section *found = NULL;
    char words[WORDS_BYTES] = "one of";
    bool any = false;
    size_t count = 0;
    for (size_t i = 0; i < ENTRIES; i++) {
        const struct eb_section *section = entries[i].rows->section;
        if (section == NULL)
            continue;
        snprintf(words + strlen(words), sizeof words - strlen(words), "%s %s", any ? "," : "", section->key);
        any = true;
        if (ebi_yaml_get(map, section->key, false) != NULL && count++ == 0) {
            found = section;
            *by = entries[i].access;
        }
    }
    snprintf(words + strlen(words), sizeof words - strlen(words),
             "; another way goes below the key 'otherwise'");
    if (count > 1)
        ebi_yaml_wrong(map->yaml, map->node, "several ways to write to the device", words);
    return found;
}

/* The section's own fields: into what the access must know besides. */
static void read_section(struct ebi_yaml_map *map, const struct eb_section *section, struct eb_profile *to)
{
    struct ebi_yaml_map below =
        ebi_yaml_map(map->yaml, section != NULL ? ebi_yaml_get(map, section->key, true) : NULL);
    void *more =
        section != NULL && section->more_bytes > 0 ? ebi_yaml_keep(map->yaml, section->more_bytes) : NULL;
    if (more != NULL)
        memcpy(to->way, &more, sizeof more);
    if (section != NULL)
        ebi_read_fields(&below, section->fields, section->count, more != NULL ? more : (void *)to);
    to->send_patience_ms = 1000 * (uint32_t)ebi_yaml_number(&below, "patience-s", 1, 3600, 60);
    ebi_yaml_map_end(&below);
}

/* One more way, for where those before it have failed.  Patience is that of the longest. */
static void read_other_way(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_profile *p,
                           struct eb_other_way *way)
{
    struct eb_profile other = {.sends_by = NULL};
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    const struct eb_section *section = find_section(&map, &way->by);
    if (section == NULL || section->elsewhere != NULL)
        ebi_yaml_wrong(yaml, node, section == NULL ? "a way without a section" : section->key,
                       "http, tftp, modbus-file or pull");
    else if (eb_profile_way(p, way->by) != NULL)
        ebi_yaml_wrong(yaml, node, section->key, "a way that the profile has not named yet");
    if (yaml->failed)
        return;
    read_section(&map, section, &other);
    memcpy(way->more, other.way, sizeof way->more);
    if (other.send_patience_ms > p->send_patience_ms)
        p->send_patience_ms = other.send_patience_ms;
    ebi_read_steps(&map, "prepare", false, &way->prepare);
    ebi_yaml_map_end(&map);
    check_components(&map, p, section, way->by);
}

static void read_other_ways(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *list = ebi_yaml_get(map, "otherwise", false);
    struct eb_other_way *ways = list != NULL ? ebi_yaml_keep(map->yaml, EB_WAYS_MAX * sizeof *ways) : NULL;
    yaml_node_t *item;
    p->otherwise = ways;
    for (size_t i = 0; list != NULL && (item = ebi_yaml_item(map->yaml, list, i)) != NULL; i++) {
        if (i == EB_WAYS_MAX) {
            ebi_yaml_wrong(map->yaml, item, "one way too many", "at most 3 besides the first");
            return;
        }
        read_other_way(map->yaml, item, p, &ways[i]);
        if (map->yaml->failed)
            return;
        p->otherwise_count = i + 1;
    }
}

void ebi_read_way(struct ebi_yaml_map *map, struct eb_profile *p)
{
    const struct eb_section *found = find_section(map, &p->sends_by);
    p->sends = found != NULL;
    p->read_back = found != NULL ? found->read_back : EB_READ_BACK_NO;
    if (ebi_yaml_get(map, "read-back", false) != NULL)
        p->read_back = ebi_yaml_yes(map, "read-back", false) ? EB_READ_BACK_YES : EB_READ_BACK_NO;
    if (p->read_back == EB_READ_BACK_YES && found != NULL &&
        (p->sends_by->able & EB_ABLE_TO_READ_BACK) == 0) {
        char expected[80];
        snprintf(expected, sizeof expected, "no: %s cannot read back what was sent", p->sends_by->title);
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "read-back"), "yes", expected);
    }
    read_section(map, found, p);
    if (found != NULL && found->complete != NULL && ebi_yaml_whole(map->yaml))
        found->complete(p);
    if (found != NULL && found->elsewhere != NULL)
        check_elsewhere(map, p, found->elsewhere);
    check_components(map, p, found, p->sends_by);
    if (found != NULL && found->elsewhere == NULL)
        read_other_ways(map, p);
}
