#include "documents.h"

#include "server.h"
#include "values.h"
#include "world.h"
#include "yaml_read.h"

#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool runs(const struct ebi_sim_device *d)
{
    return d->mode == EB_SIM_RUNNING || d->mode == EB_SIM_STOPPED;
}

/* The first one that is meant by the key, while the program runs. */
static struct ebi_sim_document *find(const struct ebi_sim_device *d,
                                     bool (*is)(const struct ebi_sim_document *document, const void *key),
                                     const void *key)
{
    for (size_t i = 0; d->documents != NULL && runs(d) && i < d->documents->count; i++) {
        if (is(&d->documents->list[i], key))
            return &d->documents->list[i];
    }
    return NULL;
}

static bool has_path(const struct ebi_sim_document *document, const void *key)
{
    return strcmp(document->path, key) == 0;
}

static bool has_name(const struct ebi_sim_document *document, const void *key)
{
    return strcmp(document->name, key) == 0;
}

/* How far the number is behind the document's own; SIZE_MAX: in front of it. */
static size_t offset_of(const struct ebi_sim_document *document, const void *key)
{
    unsigned number = *(const unsigned *)key;
    return number < document->number ? SIZE_MAX : number - document->number;
}

static bool has_number(const struct ebi_sim_document *document, const void *key)
{
    return offset_of(document, key) == 0;
}

static bool has_word(const struct ebi_sim_document *document, const void *key)
{
    return document->in_words && offset_of(document, key) < (document->now.size + 1) / 2;
}

static bool has_part(const struct ebi_sim_document *document, const void *key)
{
    return offset_of(document, key) < ebi_sim_document_parts(document);
}

struct ebi_sim_document *ebi_sim_document_at(const struct ebi_sim_device *d, const char *path)
{
    return find(d, has_path, path);
}

struct ebi_sim_document *ebi_sim_document_named(const struct ebi_sim_device *d, const char *name)
{
    return find(d, has_name, name);
}

struct ebi_sim_document *ebi_sim_document_of(const struct ebi_sim_device *d, unsigned number)
{
    return find(d, has_number, &number);
}

struct ebi_sim_document *ebi_sim_document_with(const struct ebi_sim_device *d, unsigned word)
{
    return find(d, has_word, &word);
}

struct ebi_sim_document *ebi_sim_document_in_parts(const struct ebi_sim_device *d, unsigned number)
{
    return find(d, has_part, &number);
}

struct ebi_sim_document *ebi_sim_document_in_loader(const struct ebi_sim_device *d, size_t n)
{
    return d->documents != NULL && n < d->documents->count ? &d->documents->list[n] : NULL;
}

void ebi_sim_document_erase(struct ebi_sim_document *document)
{
    memset(document->now.bytes, 0xFF, document->now.size);
}

struct ebi_sim_component *ebi_sim_document_file(struct ebi_sim_device *d)
{
    enum { FILE_BYTES = 1 << 20 };
    struct ebi_sim_component *file = &d->documents->file;
    if (file->bank[0] == NULL)
        file->bank[0] = malloc(FILE_BYTES);
    if (file->bank[0] == NULL)
        abort();
    file->capacity = FILE_BYTES;
    file->banks = 1;
    return file;
}

static void put(struct ebi_sim_bytes *to, const uint8_t *bytes, size_t size)
{
    uint8_t *copy = malloc(size + 1);
    if (copy == NULL)
        abort();
    if (size > 0)
        memcpy(copy, bytes, size);
    free(to->bytes);
    to->bytes = copy;
    to->size = size;
}

/* The members of a form: "gain=-6&name=a%20b". */
static json_t *form_members(const uint8_t *bytes, size_t size)
{
    json_t *members = json_object();
    char *form = strndup((const char *)bytes, size);
    char *rest = form;
    for (char *pair = strtok_r(form, "&", &rest); pair != NULL; pair = strtok_r(NULL, "&", &rest)) {
        char *value = strchr(pair, '=');
        if (value == NULL)
            continue;
        *value++ = '\0';
        char *to = value;
        for (const char *c = value; *c != '\0'; c++) {
            unsigned code;
            bool escaped = *c == '%' && sscanf(c + 1, "%2x", &code) == 1;
            *to++ = escaped ? (char)code : *c == '+' ? ' ' : *c;
            c += escaped ? 2 : 0;
        }
        *to = '\0';
        json_t *number = json_loads(value, JSON_DECODE_ANY, NULL);
        json_object_set_new(members, pair, number != NULL ? number : json_string(value));
    }
    free(form);
    return members;
}

static bool merge(struct ebi_sim_document *document, const uint8_t *bytes, size_t size)
{
    json_t *now = json_loadb((const char *)document->now.bytes, document->now.size, 0, NULL);
    json_t *with = size > 0 && bytes[0] == '{' ? json_loadb((const char *)bytes, size, 0, NULL)
                                               : form_members(bytes, size);
    bool ok = json_is_object(now) && json_is_object(with) && json_object_update_recursive(now, with) == 0;
    char *text = ok ? json_dumps(now, JSON_INDENT(2)) : NULL;
    json_decref(now);
    json_decref(with);
    if (text != NULL)
        put(document->waits_for_restart ? &document->pending : &document->now, (const uint8_t *)text,
            strlen(text));
    free(text);
    return ok;
}

void ebi_sim_document_write(struct ebi_sim_document *document, const uint8_t *bytes, size_t size)
{
    if (document->becomes.bytes != NULL) {
        bytes = document->becomes.bytes;
        size = document->becomes.size;
    }
    if (document->merges && merge(document, bytes, size))
        return;
    if (document->keeps != 0 && size > document->keeps)
        size = document->keeps;
    document->gone = document->gone && document->waits_for_restart;
    put(document->waits_for_restart ? &document->pending : &document->now, bytes, size);
}

bool ebi_sim_document_put(struct ebi_sim_document *document, size_t at, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_bytes *to = document->waits_for_restart ? &document->pending : &document->now;
    if (at + size > document->now.size)
        return false;
    if (to->bytes == NULL)
        put(to, document->now.bytes, document->now.size);
    if (document->becomes.bytes != NULL && document->becomes.size == size)
        bytes = document->becomes.bytes;
    for (size_t i = 0; i < size; i++) {
        if (document->keeps == 0 || at + i < document->keeps)
            to->bytes[at + i] = bytes[i];
    }
    return true;
}

void ebi_sim_documents_store(struct ebi_sim_device *d)
{
    for (size_t i = 0; d->documents != NULL && i < d->documents->count; i++) {
        if (d->documents->list[i].needs_store)
            put(&d->documents->list[i].stored, d->documents->list[i].now.bytes,
                d->documents->list[i].now.size);
    }
}

void ebi_sim_documents_reset(struct ebi_sim_device *d)
{
    for (size_t i = 0; d->documents != NULL && i < d->documents->count; i++) {
        struct ebi_sim_document *document = &d->documents->list[i];
        put(document->needs_store ? &document->stored : &document->pending, document->delivered.bytes,
            document->delivered.size);
    }
    if (d->documents != NULL && d->documents->moves)
        memcpy(d->saved.ip, d->documents->moves_to, sizeof d->saved.ip);
}

enum { PART_BYTES = 6 };

static size_t part_bytes(const struct ebi_sim_document *document)
{
    return document->whole && document->now.size > 0 ? document->now.size : PART_BYTES;
}

size_t ebi_sim_document_parts(const struct ebi_sim_document *document)
{
    return (document->now.size + part_bytes(document) - 1) / part_bytes(document);
}

size_t ebi_sim_document_part(const struct ebi_sim_document *document, size_t part, const uint8_t **bytes)
{
    size_t most = part_bytes(document);
    size_t at = part * most;
    *bytes = NULL;
    if (at >= document->now.size)
        return 0;
    *bytes = document->now.bytes + at;
    return document->now.size - at < most ? document->now.size - at : most;
}

bool ebi_sim_document_put_part(struct ebi_sim_document *document, size_t part, const uint8_t *bytes,
                               size_t size)
{
    size_t most = part_bytes(document);
    return (document->whole ? size == most : size <= most) &&
           ebi_sim_document_put(document, part * most, bytes, size);
}

/* --- its starts ------------------------------------------------------------------------------------ */

static void take_pending(struct ebi_sim_document *document)
{
    if (document->pending.bytes == NULL)
        return;
    put(&document->now, document->pending.bytes, document->pending.size);
    free(document->pending.bytes);
    document->pending = (struct ebi_sim_bytes){NULL, 0};
    document->gone = false;
}

static void alive(struct ebi_sim_device *d, bool is_alive)
{
    if (d->documents == NULL || !is_alive || !runs(d))
        return;
    uint32_t runs_now = ebi_sim_images(d);
    bool updated = d->documents->known && runs_now != d->documents->ran;
    for (size_t i = 0; i < d->documents->count; i++) {
        struct ebi_sim_document *document = &d->documents->list[i];
        take_pending(document);
        if (document->needs_store && document->stored.bytes != NULL)
            put(&document->now, document->stored.bytes, document->stored.size);
        if (updated && document->has_after)
            put(&document->now, document->after_update.bytes, document->after_update.size);
        document->gone = document->gone || (updated && document->gone_after);
    }
    ebi_sim_documents_store(d);
    d->documents->known = true;
    d->documents->ran = runs_now;
}

static void forget(struct ebi_sim_device *d)
{
    for (size_t i = 0; d->documents != NULL && i < d->documents->count; i++) {
        free(d->documents->list[i].now.bytes);
        free(d->documents->list[i].after_update.bytes);
        free(d->documents->list[i].pending.bytes);
        free(d->documents->list[i].stored.bytes);
        free(d->documents->list[i].becomes.bytes);
        free(d->documents->list[i].delivered.bytes);
    }
    if (d->documents != NULL)
        free(d->documents->file.bank[0]);
    free(d->documents);
    d->documents = NULL;
}

/* --- what a world says of it ----------------------------------------------------------------------- */

/* Bytes that differ from device to device and from document to document. */
static void fill(struct ebi_sim_bytes *to, const char *device, const char *name, size_t size)
{
    uint8_t *bytes = malloc(size + 1);
    uint32_t state = 2166136261U;
    if (bytes == NULL)
        abort();
    for (const char *c = device; *c != '\0'; c++)
        state = (state ^ (uint8_t)*c) * 16777619U;
    for (const char *c = name; *c != '\0'; c++)
        state = (state ^ (uint8_t)*c) * 16777619U;
    for (size_t i = 0; i < size; i++) {
        state = state * 1664525U + 1013904223U;
        bytes[i] = (uint8_t)(state >> 24);
    }
    *to = (struct ebi_sim_bytes){bytes, size};
}

static void unhex(struct ebi_sim_bytes *to, const char *text);

/* Bytes as hexadecimal digits. */
static void read_hex(struct ebi_yaml_map *map, const char *key, struct ebi_sim_bytes *to)
{
    char text[512] = "";
    ebi_yaml_text(map, key, false, text, sizeof text);
    if (text[0] != '\0')
        unhex(to, text);
}

static void read_one(struct ebi_yaml *yaml, const char *device, const char *name, yaml_node_t *node,
                     struct ebi_sim_document *document)
{
    char text[1024] = "";
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (!eb_text_copy(document->name, sizeof document->name, name))
        ebi_yaml_wrong(yaml, node, "a document with a longer name", "at most 47 characters");
    snprintf(document->path, sizeof document->path, "/api/%s", document->name);
    ebi_yaml_text(&map, "path", false, document->path, sizeof document->path);
    document->number = (uint16_t)ebi_yaml_number(&map, "number", 0, UINT16_MAX, 0);
    document->needs_security = ebi_yaml_yes(&map, "needs-security", false);
    document->needs_store = ebi_yaml_yes(&map, "needs-store", false);
    document->in_words = ebi_yaml_yes(&map, "in-words", false);
    size_t size = (size_t)ebi_yaml_number(&map, "bytes", 0, 4 << 20, 0);
    ebi_yaml_text(&map, "text", false, text, sizeof text);
    if (size > 0)
        fill(&document->now, device, name, size);
    else
        put(&document->now, (const uint8_t *)text, strlen(text));
    read_hex(&map, "hex", &document->now);
    read_hex(&map, "becomes-hex", &document->becomes);
    if (ebi_yaml_get(&map, "becomes", false) != NULL) {
        ebi_yaml_text(&map, "becomes", false, text, sizeof text);
        put(&document->becomes, (const uint8_t *)text, strlen(text));
    }
    put(&document->delivered, document->now.bytes, document->now.size);
    if (ebi_yaml_get(&map, "delivered", false) != NULL) {
        ebi_yaml_text(&map, "delivered", false, text, sizeof text);
        put(&document->delivered, (const uint8_t *)text, strlen(text));
    }
    read_hex(&map, "delivered-hex", &document->delivered);
    document->whole = ebi_yaml_yes(&map, "whole", false);
    document->merges = ebi_yaml_yes(&map, "merges", false);
    text[0] = '\0';
    document->has_after = ebi_yaml_get(&map, "after-update", false) != NULL;
    ebi_yaml_text(&map, "after-update", false, text, sizeof text);
    put(&document->after_update, (const uint8_t *)text, strlen(text));
    document->gone_after = ebi_yaml_yes(&map, "gone-after-update", false);
    document->waits_for_restart = ebi_yaml_yes(&map, "waits-for-restart", false);
    document->refuses = ebi_yaml_yes(&map, "refuses", false);
    document->loses_answer = ebi_yaml_yes(&map, "loses-answer", false);
    document->busy = (unsigned)ebi_yaml_number(&map, "busy", 0, 1000, 0);
    document->unsized = ebi_yaml_yes(&map, "no-length", false);
    document->cuts = (unsigned)ebi_yaml_number(&map, "cut-off", 0, 1000, 0);
    document->keeps = (size_t)ebi_yaml_number(&map, "keeps", 1, 4 << 20, 0);
    ebi_yaml_map_end(&map);
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    yaml_node_t *list = ebi_yaml_get(map, "documents", false);
    yaml_node_t *node;
    const char *name;
    if (list == NULL)
        return;
    d->documents = calloc(1, sizeof *d->documents);
    if (d->documents == NULL)
        abort();
    for (size_t i = 0; (node = ebi_yaml_pair(map->yaml, list, i, &name)) != NULL; i++) {
        if (i == EBI_SIM_DOCUMENTS_MAX) {
            ebi_yaml_wrong(map->yaml, node, "one document too many", "at most 8");
            return;
        }
        read_one(map->yaml, d->name, name, node, &d->documents->list[i]);
        d->documents->count = i + 1;
    }
    char text[EB_ENDPOINT_TEXT_BYTES] = "";
    struct eb_endpoint to = {.port = 0};
    ebi_yaml_text(map, "reset-address", false, text, sizeof text);
    d->documents->moves = text[0] != '\0' && eb_endpoint_parse(&to, text);
    memcpy(d->documents->moves_to, to.ip, sizeof to.ip);
}

const struct ebi_sim_server ebi_sim_documents = {.read = read_keys, .alive = alive, .forget = forget};

/* --- what is remembered ---------------------------------------------------------------------------- */

static json_t *hex(const struct ebi_sim_bytes *from)
{
    char *text = malloc(2 * from->size + 1);
    if (text == NULL)
        abort();
    sodium_bin2hex(text, 2 * from->size + 1, from->bytes, from->size);
    json_t *string = json_string(text);
    free(text);
    return string;
}

static void unhex(struct ebi_sim_bytes *to, const char *text)
{
    size_t size = strlen(text) / 2;
    uint8_t *bytes = malloc(size + 1);
    if (bytes == NULL)
        abort();
    sodium_hex2bin(bytes, size + 1, text, strlen(text), NULL, &size, NULL);
    free(to->bytes);
    *to = (struct ebi_sim_bytes){bytes, size};
}

json_t *ebi_sim_documents_save(const struct ebi_sim_device *d)
{
    json_t *list = json_array();
    for (size_t i = 0; d->documents != NULL && i < d->documents->count; i++) {
        const struct ebi_sim_document *document = &d->documents->list[i];
        bool stored = document->needs_store && document->stored.bytes != NULL;
        json_t *one = json_pack("{s:o, s:b}", "now", hex(stored ? &document->stored : &document->now), "gone",
                                document->gone);
        if (document->pending.bytes != NULL)
            json_object_set_new(one, "pending", hex(&document->pending));
        json_array_append_new(list, one);
    }
    return d->documents == NULL ? (json_decref(list), NULL)
                                : json_pack("{s:o, s:b, s:I}", "list", list, "known", d->documents->known,
                                            "ran", (json_int_t)d->documents->ran);
}

void ebi_sim_documents_load(struct ebi_sim_device *d, const json_t *from)
{
    for (size_t i = 0; d->documents != NULL && from != NULL && i < d->documents->count; i++) {
        struct ebi_sim_document *document = &d->documents->list[i];
        const json_t *one = json_array_get(json_object_get(from, "list"), i);
        const char *now = json_string_value(json_object_get(one, "now"));
        const char *pending = json_string_value(json_object_get(one, "pending"));
        if (now != NULL)
            unhex(&document->now, now);
        if (pending != NULL)
            unhex(&document->pending, pending);
        document->gone = json_is_true(json_object_get(one, "gone"));
    }
    if (d->documents != NULL && from != NULL) {
        d->documents->known = json_is_true(json_object_get(from, "known"));
        d->documents->ran = (uint32_t)json_integer_value(json_object_get(from, "ran"));
    }
}

/* --- for tests --------------------------------------------------------------------------------------- */

const uint8_t *eb_sim_document(const struct eb_sim *sim, const char *device, const char *name, size_t *size)
{
    const struct ebi_sim_device *d = ebi_sim_find(sim, device);
    for (size_t i = 0; d != NULL && d->documents != NULL && i < d->documents->count; i++) {
        const struct ebi_sim_document *document = &d->documents->list[i];
        *size = document->now.size;
        if (strcmp(document->name, name) == 0)
            return document->gone ? NULL : document->now.bytes;
    }
    return NULL;
}
