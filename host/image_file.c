#include "einbau/host.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <jansson.h>
#include <sodium.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

enum { CHUNK_BYTES = 65536, MANIFEST_MAX_BYTES = 1 << 20 };

#define MANIFEST_KIND "manifest/1"

struct reading {
    const char *path; /* of the manifest */
    struct eb_problem *problem;
    bool failed;
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

static void read_texts(struct reading *r, const json_t *object, const char *key, char list[][EB_NAME_BYTES])
{
    const json_t *array = json_object_get(object, key);
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

static void read_facts(struct reading *r, const json_t *image, struct eb_image_facts *facts)
{
    static const char *const known[] = {
        "file",        "component",          "version",       "size", "sha256",
        "order_codes", "hardware_revisions", "least_running", "floor"};
    const char *key;
    json_t *value;
    json_object_foreach((json_t *)image, key, value)
    {
        bool is_known = false;
        for (size_t i = 0; i < sizeof known / sizeof known[0]; i++)
            is_known = is_known || strcmp(known[i], key) == 0;
        if (!is_known && !eb_text_printable(key))
            wrong(r, "found a control character in a key, expected printable text");
        else if (!is_known)
            wrong(r,
                  "found the unknown key \"%.60s\", expected one of: file, component, version, size, sha256, "
                  "order_codes, hardware_revisions, least_running, floor",
                  key);
    }
    copy_of(r, image, "component", true, facts->component, sizeof facts->component);
    copy_of(r, image, "version", true, facts->version, sizeof facts->version);
    copy_of(r, image, "least_running", false, facts->least_running, sizeof facts->least_running);
    copy_of(r, image, "floor", false, facts->floor, sizeof facts->floor);
    read_texts(r, image, "order_codes", facts->order_codes);
    read_texts(r, image, "hardware_revisions", facts->hardware_revisions);
    for (int i = 0; i < EB_PATTERNS_MAX && facts->hardware_revisions[i][0] != '\0'; i++) {
        if (!eb_revision_range_valid(facts->hardware_revisions[i]))
            wrong(r, "found the hardware revision \"%s\", expected one like \"5\", \"C\", \"B1\" or \"2..5\"",
                  facts->hardware_revisions[i]);
    }
    const json_t *size = json_object_get(image, "size");
    if (!json_is_integer(size) || json_integer_value(size) < 1)
        wrong(r, "found no usable \"size\", expected the number of bytes of the image, at least 1");
    else
        facts->size_bytes = (uint64_t)json_integer_value(size);
    const char *digest = text_of(r, image, "sha256", true, 2 * EB_SHA256_BYTES + 1);
    size_t digest_bytes = 0;
    if (digest != NULL && (strlen(digest) != 2 * EB_SHA256_BYTES ||
                           sodium_hex2bin(facts->sha256, EB_SHA256_BYTES, digest, strlen(digest), NULL,
                                          &digest_bytes, NULL) != 0 ||
                           digest_bytes != EB_SHA256_BYTES))
        wrong(r, "found \"sha256\": \"%s\", expected 64 hexadecimal digits", digest);
}

/* Finds the entry for the file called `name`; checks the others' form as well. */
static void read_manifest(struct reading *r, const json_t *root, const char *name,
                          struct eb_image_facts *facts)
{
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    const json_t *images = json_object_get(root, "images");
    bool found = false;
    if (kind == NULL || strcmp(kind, MANIFEST_KIND) != 0) {
        wrong(r, "found no \"einbau\": \"%s\" at its top, expected a manifest of that form", MANIFEST_KIND);
        return;
    }
    for (size_t i = 0; i < json_array_size(images) && !r->failed; i++) {
        const json_t *image = json_array_get(images, i);
        const char *file = text_of(r, image, "file", true, EB_PATH_BYTES);
        struct eb_image_facts here = {0};
        if (!r->failed)
            read_facts(r, image, &here);
        if (file != NULL && strcmp(file, name) == 0 && !found) {
            *facts = here;
            found = true;
        }
    }
    if (!found)
        wrong(r, "found no image with the file name \"%s\" in \"images\", expected one", name);
}

static bool load_manifest(const char *path, const char *name, struct eb_image_facts *facts,
                          struct eb_problem *problem)
{
    struct reading r = {.path = path, .problem = problem};
    struct stat info;
    json_error_t error;
    if (stat(path, &info) != 0) {
        wrong(&r,
              "cannot be read: %s. An image needs its manifest beside it, named like the image with .json "
              "behind",
              strerror(errno));
        return false;
    }
    if (!S_ISREG(info.st_mode) || info.st_size > MANIFEST_MAX_BYTES) {
        wrong(&r, "found something that is no file of at most %d bytes, expected a manifest",
              MANIFEST_MAX_BYTES);
        return false;
    }
    json_t *root = json_load_file(path, JSON_REJECT_DUPLICATES, &error);
    if (root == NULL) {
        snprintf(problem->text, sizeof problem->text, "%s:%d:%d: not JSON: found %s, expected a manifest",
                 path, error.line, error.column, error.text);
        return false;
    }
    read_manifest(&r, root, name, facts);
    json_decref(root);
    return !r.failed;
}

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct eb_image *image = self;
    while (size > 0) {
        ssize_t n = pread(image->fd, to, size, (off_t)offset);
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return EB_IO;
        to += n;
        offset += (uint64_t)n;
        size -= (size_t)n;
    }
    return EB_OK;
}

static bool digest_file(struct eb_image *image, struct eb_problem *problem)
{
    crypto_hash_sha256_state state;
    uint8_t chunk[CHUNK_BYTES];
    crypto_hash_sha256_init(&state);
    for (;;) {
        ssize_t n = read(image->fd, chunk, sizeof chunk);
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0) {
            snprintf(problem->text, sizeof problem->text, "%s: cannot be read: %s", image->path,
                     strerror(errno));
            return false;
        }
        if (n == 0)
            break;
        crypto_hash_sha256_update(&state, chunk, (unsigned long long)n);
        image->checksum = (uint32_t)crc32(image->checksum, chunk, (unsigned)n);
        image->found.size_bytes += (uint64_t)n;
    }
    crypto_hash_sha256_final(&state, image->found.sha256);
    return true;
}

struct eb_image *eb_image_open(const char *path, struct eb_problem *problem)
{
    char manifest[EB_PATH_BYTES + 8];
    const char *slash = strrchr(path, '/');
    struct stat info;
    struct eb_image *image = calloc(1, sizeof *image);
    if (image == NULL || sodium_init() < 0) {
        free(image);
        snprintf(problem->text, sizeof problem->text, "out of memory");
        return NULL;
    }
    image->fd = open(path, O_RDONLY | O_CLOEXEC);
    snprintf(image->path, sizeof image->path, "%s", path);
    snprintf(manifest, sizeof manifest, "%s.json", path);
    if (image->fd < 0 || fstat(image->fd, &info) != 0) {
        snprintf(problem->text, sizeof problem->text, "%s: the image cannot be opened: %s", path,
                 strerror(errno));
    } else if (!S_ISREG(info.st_mode)) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found something that is no file, expected an image", path);
    } else if (load_manifest(manifest, slash != NULL ? slash + 1 : path, &image->facts, problem) &&
               digest_file(image, problem)) {
        image->source = (struct eb_source){image, image->found.size_bytes, read_image};
        return image;
    }
    eb_image_close(image);
    return NULL;
}

void eb_image_close(struct eb_image *image)
{
    if (image == NULL)
        return;
    if (image->fd >= 0)
        close(image->fd);
    free(image);
}
