/* Reading the YAML files that people write: each value is asked for by its key, and what is wrong is told
 * with file, line, column, what was found and what would have been right.  The first problem sticks; later
 * questions give defaults. */
#ifndef EBI_YAML_H
#define EBI_YAML_H

#include "einbau/host.h"
#include <yaml.h>

enum { EBI_YAML_KEYS_MAX = 96, EBI_YAML_STRING_BYTES = 256 };

struct ebi_yaml {
    const char *path;
    yaml_document_t document;
    struct eb_problem *problem;
    bool failed;
    eb_finding_tell
        *tell; /* not NULL: every entry is read, and what is wrong goes here, with `context` ... */
    void *context;
    size_t told;
    void *memory;   /* of ebi_yaml_keep */
    unsigned slot;  /* what "{slot}" stands for in texts and numbers; 0: it stays as it is ... */
    bool has_slots; /* ... and there was one */
};

/* A mapping being read.  Keys that were never asked for are errors at its end. */
struct ebi_yaml_map {
    struct ebi_yaml *yaml;
    yaml_node_t *node; /* NULL: not there, all questions give defaults */
    const char *keys[EBI_YAML_KEYS_MAX];
    size_t count;
};

/* Loads the one document of a file; false with the problem told. */
bool ebi_yaml_open(struct ebi_yaml *yaml, const char *path, struct eb_problem *problem);
void ebi_yaml_close(struct ebi_yaml *yaml);
yaml_node_t *ebi_yaml_root(struct ebi_yaml *yaml);

/* Memory that outlives the file, zeros at first; all of it is freed by ebi_kept_free(yaml.memory). */
void *ebi_yaml_keep(struct ebi_yaml *yaml, size_t bytes);
void ebi_kept_free(void *memory);

/* The text of `key` in such memory; NULL where the key is missing. */
const char *ebi_yaml_string(struct ebi_yaml_map *map, const char *key, bool required);
const char *ebi_yaml_kept(struct ebi_yaml *yaml, yaml_node_t *node);

/* Tells a problem at `node`: "PATH:LINE:COLUMN: found FOUND, expected EXPECTED". */
void ebi_yaml_wrong(struct ebi_yaml *yaml, const yaml_node_t *node, const char *found, const char *expected);

/* Behind one entry: where all findings are asked for, what was found in it is reported, and the next one is
 * read. ebi_yaml_end: behind the last; `failed` says then whether there was anything. */
void ebi_yaml_go_on(struct ebi_yaml *yaml);
void ebi_yaml_end(struct ebi_yaml *yaml);
/* Whether nothing was wrong so far: only then one entry is compared with others. */
bool ebi_yaml_whole(const struct ebi_yaml *yaml);

/* Begins a mapping; `node` may be NULL. */
struct ebi_yaml_map ebi_yaml_map(struct ebi_yaml *yaml, yaml_node_t *node);
void ebi_yaml_map_end(struct ebi_yaml_map *map);

/* The value of a key, or NULL; a missing `required` one is a problem. */
yaml_node_t *ebi_yaml_get(struct ebi_yaml_map *map, const char *name, bool required);

/* The same without making the key known: for keys that are asked for in another way too. */
yaml_node_t *ebi_yaml_need(struct ebi_yaml_map *map, const char *name);

/* Whether another key that nothing asks for is written much like this one: it is what is wrong, and reported.
 */
bool ebi_yaml_misspelt(struct ebi_yaml_map *map, const char *name);

/* Whether the key is there; it is not made known. */
bool ebi_yaml_has(struct ebi_yaml_map *map, const char *name);

/* The scalar text of `key` copied to `to`; it stays as it was where the key is missing. */
void ebi_yaml_text(struct ebi_yaml_map *map, const char *key, bool required, char *to, size_t cap);

/* A whole number (decimal or 0x...) between `least` and `most`; `otherwise` where the key is missing. */
uint64_t ebi_yaml_number(struct ebi_yaml_map *map, const char *key, uint64_t least, uint64_t most,
                         uint64_t otherwise);
/* The index of the word under `key` in `words`, which end with NULL. */
uint8_t ebi_yaml_word(struct ebi_yaml_map *map, const char *key, const char *const *words);
bool ebi_yaml_yes(struct ebi_yaml_map *map, const char *key, bool otherwise);

/* Pairs of a mapping or items of a sequence in their order; NULL at the end, or where `node` is of another
 * kind (a problem). */
yaml_node_t *ebi_yaml_pair(struct ebi_yaml *yaml, yaml_node_t *node, size_t index, const char **key);
/* How many pairs a mapping has; 0 where `node` is none. */
size_t ebi_yaml_pairs(const yaml_node_t *node);
yaml_node_t *ebi_yaml_item(struct ebi_yaml *yaml, yaml_node_t *node, size_t index);
const char *ebi_yaml_scalar(struct ebi_yaml *yaml, yaml_node_t *node);

/* `name` as it stands in a file at `path`: relative names are relative to the file's folder. */
void ebi_path_beside(const char *path, const char *name, char to[EB_PATH_BYTES]);

/* "1209:0001": two numbers, each of four hexadecimal digits. */
bool ebi_usb_ids_parse(const char *text, uint16_t *vendor, uint16_t *product);

#endif
