#include "yaml_read.h"

#include <errno.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

void ebi_yaml_wrong(struct ebi_yaml *yaml, const yaml_node_t *node, const char *found, const char *expected)
{
    if (yaml->failed)
        return;
    yaml->failed = true;
    snprintf(yaml->problem->text, sizeof yaml->problem->text, "%s:%zu:%zu: found %s, expected %s", yaml->path,
             node->start_mark.line + 1, node->start_mark.column + 1, found, expected);
}

void ebi_yaml_go_on(struct ebi_yaml *yaml)
{
    if (yaml->tell == NULL || !yaml->failed)
        return;
    if (yaml->problem->text[0] != '\0')
        yaml->tell(yaml->context, yaml->problem->text);
    yaml->problem->text[0] = '\0';
    yaml->told++;
    yaml->failed = false;
}

bool ebi_yaml_whole(const struct ebi_yaml *yaml)
{
    return !yaml->failed && yaml->told == 0;
}

void ebi_yaml_end(struct ebi_yaml *yaml)
{
    ebi_yaml_go_on(yaml);
    yaml->failed = yaml->failed || yaml->told > 0;
}

static const char *scalar(const yaml_node_t *node)
{
    return (const char *)node->data.scalar.value;
}

static bool printable(struct ebi_yaml *yaml, const yaml_node_t *node)
{
    if (strlen(scalar(node)) == node->data.scalar.length && eb_text_printable(scalar(node)))
        return true;
    ebi_yaml_wrong(
        yaml, node, "a character that cannot be shown",
        "text without control characters and without such as take no place or turn the direction of "
        "writing");
    return false;
}

/* A key of a mapping. */
struct key {
    const yaml_node_t *mapping, *name;
};

static int compare_keys(const void *left, const void *right)
{
    const struct key *a = left;
    const struct key *b = right;
    if (a->mapping != b->mapping)
        return a->mapping < b->mapping ? -1 : 1;
    int order = strcmp(scalar(a->name), scalar(b->name));
    return order != 0 ? order : a->name < b->name ? -1 : a->name > b->name;
}

/* All keys that are single words, in the file's order; freed by the caller. */
static struct key *collect_keys(struct ebi_yaml *yaml, size_t *count)
{
    struct key *keys = NULL;
    size_t cap = 0;
    const yaml_document_t *d = &yaml->document;
    *count = 0;
    for (const yaml_node_t *node = d->nodes.start; node < d->nodes.top; node++) {
        const yaml_node_pair_t *pair = node->data.mapping.pairs.start;
        for (; node->type == YAML_MAPPING_NODE && pair < node->data.mapping.pairs.top; pair++) {
            const yaml_node_t *name = yaml_document_get_node(&yaml->document, pair->key);
            if (name->type != YAML_SCALAR_NODE)
                continue;
            if (*count == cap) {
                cap = 2 * cap + 64;
                struct key *more = realloc(keys, cap * sizeof *more);
                if (more == NULL)
                    abort();
                keys = more;
            }
            keys[(*count)++] = (struct key){node, name};
        }
    }
    return keys;
}

/* Keys can be shown, and stand there once: of all mappings in one go, as a site may have thousands of
 * devices. */
static void check_keys(struct ebi_yaml *yaml)
{
    const yaml_node_t *first = NULL;
    size_t count;
    struct key *keys = collect_keys(yaml, &count);
    bool shown = true;
    for (size_t i = 0; i < count && shown; i++)
        shown = printable(yaml, keys[i].name);
    if (count > 1)
        qsort(keys, count, sizeof *keys, compare_keys);
    for (size_t i = 1; i < count; i++) {
        bool twice = keys[i].mapping == keys[i - 1].mapping &&
                     strcmp(scalar(keys[i].name), scalar(keys[i - 1].name)) == 0;
        if (twice && (first == NULL || keys[i].name < first))
            first = keys[i].name;
    }
    free(keys);
    if (first != NULL) {
        char found[128];
        snprintf(found, sizeof found, "'%.60s' a second time", scalar(first));
        ebi_yaml_wrong(yaml, first, found, "each key once");
    }
}

/* Whether there is a tab at a place of the file, or only blanks and one before it. */
static bool has_tab(const char *path, size_t line, size_t column)
{
    char text[256];
    bool tab = false;
    FILE *file = fopen(path, "rb");
    for (size_t at = 0; file != NULL && at < line && fgets(text, sizeof text, file) != NULL;) {
        size_t size = strcspn(text, "\n");
        bool ends = text[size] == '\n' || feof(file);
        size_t blank = strspn(text, " \t");
        tab = ends && at + 1 == line &&
              (memchr(text, '\t', blank) != NULL || (column <= size && text[column - 1] == '\t'));
        at += ends;
    }
    if (file != NULL)
        fclose(file);
    return tab;
}

bool ebi_yaml_open(struct ebi_yaml *yaml, const char *path, struct eb_problem *problem)
{
    yaml_parser_t parser;
    FILE *file = fopen(path, "rb");
    *yaml = (struct ebi_yaml){.path = path, .problem = problem, .tell = yaml->tell, .context = yaml->context};
    if (file == NULL) {
        snprintf(problem->text, sizeof problem->text, "%s: cannot be opened: %s", path, strerror(errno));
        return false;
    }
    if (!yaml_parser_initialize(&parser)) {
        fclose(file);
        snprintf(problem->text, sizeof problem->text, "out of memory");
        return false;
    }
    yaml_parser_set_input_file(&parser, file);
    bool ok = yaml_parser_load(&parser, &yaml->document) != 0;
    if (!ok) {
        size_t line = parser.problem_mark.line + 1;
        size_t column = parser.problem_mark.column + 1;
        if (has_tab(path, line, column))
            snprintf(problem->text, sizeof problem->text,
                     "%s:%zu:%zu: found a tab, expected spaces: YAML is indented by spaces only", path, line,
                     column);
        else
            snprintf(problem->text, sizeof problem->text,
                     "%s:%zu:%zu: not YAML: found %s%s%s, expected key: value lines", path, line, column,
                     parser.problem != NULL ? parser.problem : "unreadable bytes",
                     parser.context != NULL ? " " : "", parser.context != NULL ? parser.context : "");
    } else if (yaml_document_get_root_node(&yaml->document) == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "%s:1:1: found an empty file, expected key: value lines", path);
        yaml_document_delete(&yaml->document);
        ok = false;
    }
    yaml_parser_delete(&parser);
    fclose(file);
    if (ok)
        check_keys(yaml);
    if (yaml->failed) /* which key is meant cannot be told, or shown */
        yaml->tell = NULL;
    return ok;
}

void ebi_yaml_close(struct ebi_yaml *yaml)
{
    yaml_document_delete(&yaml->document);
}

yaml_node_t *ebi_yaml_root(struct ebi_yaml *yaml)
{
    return yaml_document_get_root_node(&yaml->document);
}

static const char *kind_word(const yaml_node_t *node)
{
    return node->type == YAML_MAPPING_NODE    ? "a mapping (key: value)"
           : node->type == YAML_SEQUENCE_NODE ? "a list"
                                              : "a single value";
}

size_t ebi_yaml_pairs(const yaml_node_t *node)
{
    return node != NULL && node->type == YAML_MAPPING_NODE
               ? (size_t)(node->data.mapping.pairs.top - node->data.mapping.pairs.start)
               : 0;
}

yaml_node_t *ebi_yaml_pair(struct ebi_yaml *yaml, yaml_node_t *node, size_t index, const char **key)
{
    if (node == NULL || yaml->failed)
        return NULL;
    if (node->type != YAML_MAPPING_NODE) {
        ebi_yaml_wrong(yaml, node, kind_word(node), "a mapping (key: value)");
        return NULL;
    }
    yaml_node_pair_t *pair = node->data.mapping.pairs.start + index;
    if (pair >= node->data.mapping.pairs.top)
        return NULL;
    yaml_node_t *name = yaml_document_get_node(&yaml->document, pair->key);
    if (name->type != YAML_SCALAR_NODE) {
        ebi_yaml_wrong(yaml, name, kind_word(name), "a name as the key");
        return NULL;
    }
    *key = scalar(name);
    return yaml_document_get_node(&yaml->document, pair->value);
}

yaml_node_t *ebi_yaml_item(struct ebi_yaml *yaml, yaml_node_t *node, size_t index)
{
    if (node == NULL || yaml->failed)
        return NULL;
    if (node->type != YAML_SEQUENCE_NODE) {
        ebi_yaml_wrong(yaml, node, kind_word(node), "a list");
        return NULL;
    }
    yaml_node_item_t *item = node->data.sequence.items.start + index;
    return item < node->data.sequence.items.top ? yaml_document_get_node(&yaml->document, *item) : NULL;
}

struct ebi_yaml_map ebi_yaml_map(struct ebi_yaml *yaml, yaml_node_t *node)
{
    struct ebi_yaml_map map = {.yaml = yaml, .node = node};
    if (node != NULL && node->type != YAML_MAPPING_NODE) {
        ebi_yaml_wrong(yaml, node, kind_word(node), "a mapping (key: value)");
        map.node = NULL;
    }
    return map;
}

static const yaml_node_t *key_node(struct ebi_yaml_map *map, size_t index)
{
    return yaml_document_get_node(&map->yaml->document, (map->node->data.mapping.pairs.start + index)->key);
}

/* A key that nothing asked for: the one that was meant, or all that could be. */
static void unknown_key(struct ebi_yaml_map *map, size_t index, const char *key)
{
    char found[128];
    char expected[1024] = "one of:";
    struct eb_nearest near = eb_nearest_begin(key);
    for (size_t k = 0; k < map->count; k++) {
        size_t at = strlen(expected);
        snprintf(expected + at, sizeof expected - at, "%s %s", k > 0 ? "," : "", map->keys[k]);
        eb_nearest_offer(&near, map->keys[k]);
    }
    if (near.best != NULL)
        snprintf(expected, sizeof expected, "'%s'", near.best);
    snprintf(found, sizeof found, "the unknown key '%.60s'", key);
    ebi_yaml_wrong(map->yaml, key_node(map, index), found, expected);
    ebi_yaml_go_on(map->yaml);
}

static bool is_known(const struct ebi_yaml_map *map, const char *key)
{
    for (size_t k = 0; k < map->count; k++) {
        if (strcmp(map->keys[k], key) == 0)
            return true;
    }
    return false;
}

void ebi_yaml_map_end(struct ebi_yaml_map *map)
{
    const char *key;
    for (size_t i = 0; map->node != NULL && ebi_yaml_pair(map->yaml, map->node, i, &key) != NULL; i++) {
        if (!is_known(map, key))
            unknown_key(map, i, key);
    }
}

static yaml_node_t *find(struct ebi_yaml_map *map, const char *name)
{
    const char *key;
    yaml_node_t *value;
    if (map->node == NULL || map->yaml->failed)
        return NULL;
    for (size_t i = 0; (value = ebi_yaml_pair(map->yaml, map->node, i, &key)) != NULL; i++) {
        if (strcmp(key, name) == 0)
            return value;
    }
    return NULL;
}

bool ebi_yaml_has(struct ebi_yaml_map *map, const char *name)
{
    return find(map, name) != NULL;
}

bool ebi_yaml_misspelt(struct ebi_yaml_map *map, const char *name)
{
    const char *key;
    for (size_t i = 0; map->node != NULL && ebi_yaml_pair(map->yaml, map->node, i, &key) != NULL; i++) {
        struct eb_nearest near = eb_nearest_begin(key);
        eb_nearest_offer(&near, name);
        if (near.best == NULL || is_known(map, key))
            continue;
        char found[160];
        char expected[96];
        snprintf(found, sizeof found, "'%.60s' and no '%.60s'", key, name);
        snprintf(expected, sizeof expected, "the key '%s' here", name);
        ebi_yaml_wrong(map->yaml, key_node(map, i), found, expected);
        if (map->count < EBI_YAML_KEYS_MAX)
            map->keys[map->count++] = key; /* that is reported */
        return true;
    }
    return false;
}

yaml_node_t *ebi_yaml_need(struct ebi_yaml_map *map, const char *name)
{
    yaml_node_t *value = find(map, name);
    if (value != NULL || map->node == NULL || map->yaml->failed || ebi_yaml_misspelt(map, name))
        return value;
    char expected[96];
    snprintf(expected, sizeof expected, "the key '%s' here", name);
    ebi_yaml_wrong(map->yaml, map->node, "none", expected);
    return NULL;
}

yaml_node_t *ebi_yaml_get(struct ebi_yaml_map *map, const char *name, bool required)
{
    if (map->count < EBI_YAML_KEYS_MAX)
        map->keys[map->count++] = name;
    return required ? ebi_yaml_need(map, name) : find(map, name);
}

/* A text with the number in the place of "{slot}". */
static const char *with_slot(struct ebi_yaml *yaml, const char *text)
{
    static const char mark[] = "{slot}";
    const char *at = strstr(text, mark);
    if (at == NULL)
        return text;
    yaml->has_slots = true;
    if (yaml->slot == 0)
        return text;
    size_t cap = strlen(text) + 4;
    char *filled = ebi_yaml_keep(yaml, cap);
    snprintf(filled, cap, "%.*s%u%s", (int)(at - text), text, yaml->slot, at + sizeof mark - 1);
    return with_slot(yaml, filled);
}

const char *ebi_yaml_scalar(struct ebi_yaml *yaml, yaml_node_t *node)
{
    if (node == NULL || yaml->failed)
        return NULL;
    if (node->type != YAML_SCALAR_NODE) {
        ebi_yaml_wrong(yaml, node, kind_word(node), "a single value");
        return NULL;
    }
    return printable(yaml, node) ? with_slot(yaml, scalar(node)) : NULL;
}

void ebi_yaml_text(struct ebi_yaml_map *map, const char *key, bool required, char *to, size_t cap)
{
    yaml_node_t *node = ebi_yaml_get(map, key, required);
    const char *text = ebi_yaml_scalar(map->yaml, node);
    if (text == NULL)
        return;
    if (text[0] == '\0') {
        ebi_yaml_wrong(map->yaml, node, "an empty text", "some characters");
    } else if (!eb_text_copy(to, cap, text)) {
        char expected[64];
        snprintf(expected, sizeof expected, "at most %zu characters", cap - 1);
        ebi_yaml_wrong(map->yaml, node, "a longer text", expected);
    }
}

/* Blocks in a list; each begins with the next one. */
void *ebi_yaml_keep(struct ebi_yaml *yaml, size_t bytes)
{
    void **block = calloc(1, sizeof(max_align_t) + bytes);
    if (block == NULL)
        abort(); /* a description of a few kilobytes: there is nothing left to work with */
    *block = yaml->memory;
    yaml->memory = block;
    return (char *)block + sizeof(max_align_t);
}

void ebi_kept_free(void *memory)
{
    while (memory != NULL) {
        void **block = memory;
        memory = *block;
        free(block);
    }
}

const char *ebi_yaml_kept(struct ebi_yaml *yaml, yaml_node_t *node)
{
    const char *text = ebi_yaml_scalar(yaml, node);
    if (text == NULL)
        return NULL;
    if (text[0] == '\0')
        ebi_yaml_wrong(yaml, node, "an empty text", "some characters");
    else if (strlen(text) >= EBI_YAML_STRING_BYTES)
        ebi_yaml_wrong(yaml, node, "a longer text", "at most 255 characters");
    if (yaml->failed)
        return NULL;
    return memcpy(ebi_yaml_keep(yaml, strlen(text) + 1), text, strlen(text) + 1);
}

const char *ebi_yaml_string(struct ebi_yaml_map *map, const char *key, bool required)
{
    return ebi_yaml_kept(map->yaml, ebi_yaml_get(map, key, required));
}

uint64_t ebi_yaml_number(struct ebi_yaml_map *map, const char *key, uint64_t least, uint64_t most,
                         uint64_t otherwise)
{
    yaml_node_t *node = ebi_yaml_get(map, key, false);
    const char *text = ebi_yaml_scalar(map->yaml, node);
    if (text == NULL)
        return otherwise;
    char *end;
    bool hex = text[0] == '0' && (text[1] == 'x' || text[1] == 'X');
    errno = 0;
    unsigned long long number = strtoull(text, &end, hex ? 16 : 10);
    if (text[0] < '0' || text[0] > '9' || *end != '\0' || errno != 0 || number < least || number > most) {
        char found[96];
        char expected[96];
        snprintf(found, sizeof found, "'%.40s'", text);
        snprintf(expected, sizeof expected, "a whole number from %llu to %llu", (unsigned long long)least,
                 (unsigned long long)most);
        ebi_yaml_wrong(map->yaml, node, found, expected);
        return otherwise;
    }
    return number;
}

bool ebi_yaml_yes(struct ebi_yaml_map *map, const char *key, bool otherwise)
{
    yaml_node_t *node = ebi_yaml_get(map, key, false);
    const char *text = ebi_yaml_scalar(map->yaml, node);
    if (text == NULL)
        return otherwise;
    if (strcmp(text, "yes") == 0 || strcmp(text, "true") == 0)
        return true;
    if (strcmp(text, "no") != 0 && strcmp(text, "false") != 0) {
        char found[96];
        snprintf(found, sizeof found, "'%.40s'", text);
        ebi_yaml_wrong(map->yaml, node, found, "yes or no");
    }
    return false;
}

void ebi_path_beside(const char *path, const char *name, char to[EB_PATH_BYTES])
{
    const char *slash = strrchr(path, '/');
    if (name[0] == '/' || slash == NULL)
        snprintf(to, EB_PATH_BYTES, "%s", name);
    else
        snprintf(to, EB_PATH_BYTES, "%.*s/%s", (int)(slash - path), path, name);
}

bool ebi_usb_ids_parse(const char *text, uint16_t *vendor, uint16_t *product)
{
    unsigned v;
    unsigned p;
    int end = 0;
    if (sscanf(text, "%4x:%4x%n", &v, &p, &end) != 2 || end != 9 || text[9] != '\0')
        return false;
    *vendor = (uint16_t)v;
    *product = (uint16_t)p;
    return true;
}

uint8_t ebi_yaml_word(struct ebi_yaml_map *map, const char *key, const char *const *words)
{
    yaml_node_t *node = ebi_yaml_get(map, key, true);
    const char *text = ebi_yaml_scalar(map->yaml, node);
    char found[96];
    char expected[256] = "one of:";
    char meant[EB_NEAREST_BYTES];
    struct eb_nearest near = eb_nearest_begin(text != NULL ? text : "");
    for (uint8_t i = 0; text != NULL && words[i] != NULL; i++) {
        if (strcmp(words[i], text) == 0)
            return i;
        snprintf(expected + strlen(expected), sizeof expected - strlen(expected), " %s", words[i]);
        eb_nearest_offer(&near, words[i]);
    }
    if (text != NULL) {
        size_t at = strlen(expected);
        snprintf(expected + at, sizeof expected - at, "%s", eb_nearest_text(&near, meant));
        snprintf(found, sizeof found, "'%.60s'", text);
        ebi_yaml_wrong(map->yaml, node, found, expected);
    }
    return 0;
}
