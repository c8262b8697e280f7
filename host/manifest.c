#include "manifest.h"

#include <inttypes.h>
#include <jansson.h>
#include <sodium.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define MANIFEST_KIND "manifest/1"

struct reading {
    const char *path; /* of the manifest */
    struct eb_problem *problem;
    bool failed;
    bool draft; /* sizes and digests may be missing */
};

__attribute__((format(printf, 2, 3))) static void wrong(struct reading *r, const char *format, ...)
{
    char text[EB_PROBLEM_BYTES - EB_PATH_BYTES];
    va_list arguments;
    if (r->failed)
        return;
    r->failed = true;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    snprintf(r->problem->text, sizeof r->problem->text, "%s: %s", r->path, text);
}

/* The text of `key`, or NULL; what is not a printable text of fewer than `cap` bytes is a problem. */
static const char *text_of(struct reading *r, const json_t *object, const char *key, bool required,
                           size_t cap)
{
    const json_t *value = json_object_get(object, key);
    if (value == NULL) {
        if (required)
            wrong(r, "found no \"%s\", expected it in every image", key);
        return NULL;
    }
    const char *text = json_string_value(value);
    if (text == NULL || text[0] == '\0' || strlen(text) >= cap) {
        wrong(r, "found \"%s\" of another kind or size, expected a text of 1 to %zu characters", key,
              cap - 1);
        return NULL;
    }
    if (!eb_text_printable(text)) {
        wrong(r, "found a control character in \"%s\", expected printable text", key);
        return NULL;
    }
    return text;
}

static void copy_of(struct reading *r, const json_t *object, const char *key, bool required, char *to,
                    size_t cap)
{
    const char *text = text_of(r, object, key, required, cap);
    if (text != NULL)
        eb_text_copy(to, cap, text);
}

static void read_texts(struct reading *r, const json_t *object, const char *key, bool required,
                       char list[][EB_NAME_BYTES])
{
    const json_t *array = json_object_get(object, key);
    if (array == NULL && !required)
        return;
    size_t count = json_array_size(array);
    if (count < 1 || count > EB_PATTERNS_MAX) {
        wrong(r, "found \"%s\" of another kind or size, expected a list of 1 to %d texts", key,
              EB_PATTERNS_MAX);
        return;
    }
    for (size_t i = 0; i < count; i++) {
        const char *text = json_string_value(json_array_get(array, i));
        if (text == NULL || text[0] == '\0' || !eb_text_printable(text) ||
            !eb_text_copy(list[i], EB_NAME_BYTES, text))
            wrong(r, "found in \"%s\" another kind or size, expected texts of 1 to %d characters", key,
                  EB_NAME_BYTES - 1);
    }
}

/* Whether all keys of an object are among `known`, a list with commas between. */
static void check_keys(struct reading *r, const json_t *object, const char *known)
{
    const char *key;
    json_t *value;
    json_object_foreach((json_t *)object, key, value)
    {
        size_t length = strlen(key);
        const char *at = length > 0 ? strstr(known, key) : NULL;
        while (at != NULL && !((at == known || at[-1] == ' ') && (at[length] == ',' || at[length] == '\0')))
            at = strstr(at + 1, key);
        if (!eb_text_printable(key))
            wrong(r, "found a control character in a key, expected printable text");
        else if (at == NULL)
            wrong(r, "found the unknown key \"%.60s\", expected one of: %s", key, known);
    }
}

static void read_companions(struct reading *r, const json_t *image, struct eb_image_facts *facts)
{
    const json_t *list = json_object_get(image, "companions");
    if (list != NULL && (!json_is_array(list) || json_array_size(list) > EB_COMPANIONS_MAX))
        wrong(r, "found \"companions\" of another kind or size, expected a list of at most %d",
              EB_COMPANIONS_MAX);
    for (size_t i = 0; i < json_array_size(list) && !r->failed; i++) {
        const json_t *entry = json_array_get(list, i);
        struct eb_companion *c = &facts->companions[i];
        char order[16] = "dotted";
        check_keys(r, entry, "role, least, order");
        copy_of(r, entry, "role", true, c->role, sizeof c->role);
        copy_of(r, entry, "least", true, c->least, sizeof c->least);
        copy_of(r, entry, "order", false, order, sizeof order);
        if (!r->failed && !eb_version_scheme_read(order, &c->order.scheme))
            wrong(r, "found the order \"%s\", expected dotted, decimal, semver, date or letters", order);
        if (!r->failed && !eb_version_readable(&c->order, c->least))
            wrong(r, "found the version \"%s\" of a companion, expected one in %s order", c->least, order);
    }
}

/* A file's name inside of a package: no folders, nothing that a file system takes for something else. */
static void check_file_name(struct reading *r, const char *name)
{
    if (name[0] == '.' || strchr(name, '/') != NULL || strchr(name, '\\') != NULL ||
        strchr(name, ':') != NULL)
        wrong(r, "found the file name \"%s\", expected one without folders, and no leading dot", name);
}

/* Names of files, joined. */
static void read_files(struct reading *r, const json_t *image, char files[EB_FILES_TEXT_BYTES])
{
    const json_t *list = json_object_get(image, "files");
    struct eb_text to;
    eb_text_init(&to, files, EB_FILES_TEXT_BYTES);
    if (list != NULL && (!json_is_array(list) || json_array_size(list) < 1))
        wrong(r, "found \"files\" of another kind or size, expected a list of names");
    for (size_t i = 0; i < json_array_size(list) && !r->failed; i++) {
        const char *name = json_string_value(json_array_get(list, i));
        if (name == NULL || name[0] == '\0' || !eb_text_printable(name) ||
            strlen(name) >= EB_FILE_NAME_BYTES || to.size + strlen(name) + 3 > EB_FILES_TEXT_BYTES) {
            wrong(r,
                  "found in \"files\" another kind or size, expected names of 1 to %d characters, together "
                  "at most %d",
                  EB_FILE_NAME_BYTES - 1, EB_FILES_TEXT_BYTES - 1);
            return;
        }
        check_file_name(r, name);
        eb_text_add(&to, i > 0 ? ", " : "");
        eb_text_add(&to, name);
    }
}

static void read_image(struct reading *r, const json_t *image, struct eb_manifest_image *to)
{
    struct eb_image_facts *facts = &to->facts;
    check_keys(r, image,
               "file, component, version, size, sha256, order_codes, hardware_revisions, least_running, "
               "least_loader, "
               "least_gateway, companions, floor, format, files");
    copy_of(r, image, "file", true, to->file, sizeof to->file);
    check_file_name(r, to->file);
    copy_of(r, image, "component", true, facts->component, sizeof facts->component);
    copy_of(r, image, "version", true, facts->version, sizeof facts->version);
    copy_of(r, image, "least_running", false, facts->least_running, sizeof facts->least_running);
    copy_of(r, image, "least_loader", false, facts->least_loader, sizeof facts->least_loader);
    copy_of(r, image, "least_gateway", false, facts->least_gateway, sizeof facts->least_gateway);
    copy_of(r, image, "floor", false, facts->floor, sizeof facts->floor);
    copy_of(r, image, "format", false, to->format, sizeof to->format);
    read_files(r, image, to->files);
    read_companions(r, image, facts);
    read_texts(r, image, "order_codes", true, facts->order_codes);
    read_texts(r, image, "hardware_revisions", false, facts->hardware_revisions);
    for (int i = 0; i < EB_PATTERNS_MAX && facts->hardware_revisions[i][0] != '\0'; i++) {
        if (!eb_revision_range_valid(facts->hardware_revisions[i]))
            wrong(r, "found the hardware revision \"%s\", expected one like \"5\", \"C\", \"B1\" or \"2..5\"",
                  facts->hardware_revisions[i]);
    }
    const json_t *size = json_object_get(image, "size");
    if (size == NULL && r->draft)
        facts->size_bytes = 0;
    else if (!json_is_integer(size) || json_integer_value(size) < 1)
        wrong(r, "found no usable \"size\", expected the number of bytes of the image, at least 1");
    else
        facts->size_bytes = (uint64_t)json_integer_value(size);
    const char *digest = text_of(r, image, "sha256", !r->draft, 2 * EB_SHA256_BYTES + 1);
    size_t digest_bytes = 0;
    if (digest != NULL && (strlen(digest) != 2 * EB_SHA256_BYTES ||
                           sodium_hex2bin(facts->sha256, EB_SHA256_BYTES, digest, strlen(digest), NULL,
                                          &digest_bytes, NULL) != 0 ||
                           digest_bytes != EB_SHA256_BYTES))
        wrong(r, "found \"sha256\": \"%s\", expected 64 hexadecimal digits", digest);
}

static void read_root(struct reading *r, const json_t *root, struct eb_manifest *manifest)
{
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    const json_t *images = json_object_get(root, "images");
    const json_t *notes = json_object_get(root, "notes");
    if (kind == NULL || strcmp(kind, MANIFEST_KIND) != 0) {
        wrong(r, "found no \"einbau\": \"%s\" at its top, expected a manifest of that form", MANIFEST_KIND);
        return;
    }
    check_keys(r, root, "einbau, maker, product, released, notes, images");
    copy_of(r, root, "maker", false, manifest->maker, sizeof manifest->maker);
    copy_of(r, root, "product", false, manifest->product, sizeof manifest->product);
    copy_of(r, root, "released", false, manifest->released, sizeof manifest->released);
    if (notes != NULL && (!json_is_string(notes) || json_string_length(notes) >= sizeof manifest->notes))
        wrong(r, "found \"notes\" of another kind or size, expected a text of at most %zu characters",
              sizeof manifest->notes - 1);
    else if (notes != NULL)
        snprintf(manifest->notes, sizeof manifest->notes, "%s", json_string_value(notes));
    size_t count = json_array_size(images);
    if (!r->failed && (count < 1 || count > EB_MANIFEST_IMAGES_MAX))
        wrong(r, "found %zu images, expected 1 to %d in the list \"images\"", count, EB_MANIFEST_IMAGES_MAX);
    if (!r->failed)
        manifest->images = calloc(count + 1, sizeof *manifest->images);
    for (size_t i = 0; !r->failed && manifest->images != NULL && i < count; i++) {
        manifest->count = i + 1;
        read_image(r, json_array_get(images, i), &manifest->images[i]);
        for (size_t k = 0; k < i; k++) {
            if (strcmp(manifest->images[k].file, manifest->images[i].file) == 0)
                wrong(r, "found \"%s\" twice, expected each file once", manifest->images[i].file);
        }
    }
}

static bool read_manifest(const char *path, bool draft, const void *bytes, size_t size,
                          struct eb_manifest *manifest, struct eb_problem *problem)
{
    struct reading r = {.path = path, .problem = problem, .draft = draft};
    json_error_t error;
    memset(manifest, 0, sizeof *manifest);
    if (size > EB_MANIFEST_BYTES) {
        wrong(&r, "found %zu bytes, expected a manifest of at most %d", size, EB_MANIFEST_BYTES);
        return false;
    }
    json_t *root = json_loadb(bytes, size, JSON_REJECT_DUPLICATES, &error);
    if (root == NULL) {
        snprintf(problem->text, sizeof problem->text, "%s:%d:%d: not JSON: found %s, expected a manifest",
                 path, error.line, error.column,
                 eb_text_printable(error.text) ? error.text : "unprintable text");
        return false;
    }
    read_root(&r, root, manifest);
    json_decref(root);
    if (r.failed)
        eb_manifest_free(manifest);
    return !r.failed;
}

bool eb_manifest_read(const char *path, const void *bytes, size_t size, struct eb_manifest *manifest,
                      struct eb_problem *problem)
{
    return read_manifest(path, false, bytes, size, manifest, problem);
}

bool eb_manifest_draft(const char *path, const void *bytes, size_t size, struct eb_manifest *manifest,
                       struct eb_problem *problem)
{
    return read_manifest(path, true, bytes, size, manifest, problem);
}

void eb_manifest_free(struct eb_manifest *manifest)
{
    free(manifest->images);
    memset(manifest, 0, sizeof *manifest);
}

bool ebi_manifest_looks_so(const char *bytes)
{
    const char *at = strstr(bytes, "\"einbau\"");
    return at != NULL && strstr(at, "\"manifest/") != NULL;
}

/* --- writing ------------------------------------------------------------------------------------- */

static json_t *texts_array(const char (*list)[EB_NAME_BYTES])
{
    json_t *array = json_array();
    for (int i = 0; i < EB_PATTERNS_MAX && list[i][0] != '\0'; i++)
        json_array_append_new(array, json_string(list[i]));
    return array;
}

static void set_text(json_t *object, const char *key, const char *text)
{
    if (text[0] != '\0')
        json_object_set_new(object, key, json_string(text));
}

static json_t *files_array(const char *files)
{
    json_t *array = json_array();
    while (files[0] != '\0') {
        size_t size = strcspn(files, ",");
        json_array_append_new(array, json_stringn(files, size));
        files += size + (files[size] == ',' ? 2 : 0);
    }
    return array;
}

static json_t *image_object(const struct eb_manifest_image *image)
{
    const struct eb_image_facts *f = &image->facts;
    char digest[2 * EB_SHA256_BYTES + 1];
    sodium_bin2hex(digest, sizeof digest, f->sha256, EB_SHA256_BYTES);
    json_t *object = json_pack("{s:s, s:s, s:s, s:I, s:s, s:o}", "file", image->file, "component",
                               f->component, "version", f->version, "size", (json_int_t)f->size_bytes,
                               "sha256", digest, "order_codes", texts_array(f->order_codes));
    if (f->hardware_revisions[0][0] != '\0')
        json_object_set_new(object, "hardware_revisions", texts_array(f->hardware_revisions));
    set_text(object, "least_running", f->least_running);
    set_text(object, "least_loader", f->least_loader);
    set_text(object, "least_gateway", f->least_gateway);
    set_text(object, "floor", f->floor);
    set_text(object, "format", image->format);
    if (image->files[0] != '\0')
        json_object_set_new(object, "files", files_array(image->files));
    json_t *companions = json_array();
    for (int i = 0; i < EB_COMPANIONS_MAX && f->companions[i].role[0] != '\0'; i++)
        json_array_append_new(companions, json_pack("{s:s, s:s, s:s}", "role", f->companions[i].role, "least",
                                                    f->companions[i].least, "order",
                                                    eb_version_scheme_word(f->companions[i].order.scheme)));
    if (json_array_size(companions) > 0)
        json_object_set_new(object, "companions", companions);
    else
        json_decref(companions);
    return object;
}

char *eb_manifest_text(const struct eb_manifest *manifest)
{
    json_t *root = json_pack("{s:s}", "einbau", MANIFEST_KIND);
    json_t *images = json_array();
    set_text(root, "maker", manifest->maker);
    set_text(root, "product", manifest->product);
    set_text(root, "released", manifest->released);
    set_text(root, "notes", manifest->notes);
    for (size_t i = 0; i < manifest->count; i++)
        json_array_append_new(images, image_object(&manifest->images[i]));
    json_object_set_new(root, "images", images);
    char *text = json_dumps(root, JSON_INDENT(2));
    json_decref(root);
    return text;
}
