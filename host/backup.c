/* Backups as files: docs/backup.md says what stands in them. */
#include "einbau/backup.h"
#include "einbau/einbau.h"
#include "image_file.h"
#include "sha256.h"
#include "zip_write.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define FACTS_FILE "backup.json"
enum { FACTS_BYTES = 65536, FIRST_BYTES = 4096 };

/* --- documents in memory --------------------------------------------------------------------------- */

static void begin(void *self)
{
    struct eb_backup_document *d = self;
    d->size = 0;
}

static enum eb_status take(void *self, const uint8_t *bytes, size_t size)
{
    struct eb_backup_document *d = self;
    if (size > EB_BACKUP_DOCUMENT_BYTES - d->size)
        return EB_TOO_LARGE;
    if (d->size + size > d->cap) {
        size_t cap = d->cap == 0 ? FIRST_BYTES : d->cap;
        while (cap < d->size + size)
            cap *= 2;
        uint8_t *more = realloc(d->bytes, cap);
        if (more == NULL)
            return EB_IO;
        d->bytes = more;
        d->cap = cap;
    }
    if (size > 0)
        memcpy(d->bytes + d->size, bytes, size);
    d->size += size;
    return EB_OK;
}

struct eb_sink eb_backup_sink(struct eb_backup_document *document)
{
    return (struct eb_sink){document, begin, take};
}

static enum eb_status read_bytes(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct eb_backup_document *d = self;
    if (offset > d->size || size > d->size - offset)
        return EB_IO;
    if (size > 0)
        memcpy(to, d->bytes + offset, size);
    return EB_OK;
}

struct eb_source eb_backup_source(struct eb_backup_document *document)
{
    return (struct eb_source){.self = document, .size_bytes = document->size, .read = read_bytes};
}

struct eb_backup_document *eb_backup_document(struct eb_backup_file *backup, const char *name)
{
    for (size_t i = 0; i < backup->count; i++) {
        if (strcmp(backup->documents[i].name, name) == 0)
            return &backup->documents[i];
    }
    return NULL;
}

static void digest_of(const uint8_t *bytes, size_t size, uint8_t sha256[EB_SHA256_BYTES])
{
    struct ebi_sha256 sha;
    ebi_sha256_begin(&sha);
    if (size > 0)
        ebi_sha256_add(&sha, bytes, size);
    ebi_sha256_end(&sha, sha256);
}

void eb_backup_free(struct eb_backup_file *backup)
{
    for (size_t i = 0; i < backup->count; i++)
        free(backup->documents[i].bytes);
    memset(backup, 0, sizeof *backup);
}

/* --- writing --------------------------------------------------------------------------------------- */

/* Texts of devices may be anything. */
static json_t *text(const char *from)
{
    json_t *string = json_string(from);
    return string != NULL ? string : json_string("?");
}

static char *facts_of(const struct eb_backup_file *b)
{
    json_t *versions = json_object();
    json_t *documents = json_array();
    for (size_t i = 0; i < b->version_count; i++)
        json_object_set_new(versions, b->versions[i].component, text(b->versions[i].version));
    for (size_t i = 0; i < b->count; i++) {
        const struct eb_backup_document *d = &b->documents[i];
        char digest[2 * EB_SHA256_BYTES + 1];
        if (d->missing)
            continue;
        sodium_bin2hex(digest, sizeof digest, d->sha256, EB_SHA256_BYTES);
        json_array_append_new(documents, json_pack("{s:s, s:I, s:s}", "name", d->name, "bytes",
                                                   (json_int_t)d->size, "sha256", digest));
    }
    const struct eb_identity *id = &b->identity;
    json_t *root =
        json_pack("{s:s, s:s, s:s, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o, s:o}", "einbau", "backup/1",
                  "by", EB_VERSION, "made", b->at, "site", text(b->site), "device", text(b->device),
                  "profile", text(b->profile), "maker", text(id->maker), "product", text(id->product),
                  "order_code", text(id->order_code), "hardware_revision", text(id->hardware_revision),
                  "serial", text(id->serial), "versions", versions, "documents", documents);
    char *string = json_dumps(root, JSON_INDENT(2));
    json_decref(root);
    if (string == NULL)
        abort();
    return string;
}

/* Whether all of `a` that is not missing is in `b`. */
static bool same_documents(const struct eb_backup_file *a, struct eb_backup_file *b)
{
    bool same = true;
    for (size_t i = 0; i < a->count && same; i++) {
        const struct eb_backup_document *d = &a->documents[i];
        const struct eb_backup_document *read = eb_backup_document(b, d->name);
        same = d->missing || (read != NULL && memcmp(d->sha256, read->sha256, EB_SHA256_BYTES) == 0);
    }
    return same;
}

/* From wherever it is asked for later. */
static void keep_path(struct eb_backup_file *b, const char *path)
{
    char *whole = realpath(path, NULL);
    eb_text_copy(b->path, sizeof b->path, whole != NULL ? whole : path);
    free(whole);
}

/* What is not readable afterwards was not saved. */
static bool reads_back(const struct eb_backup_file *backup, const char *path, struct eb_problem *problem)
{
    struct eb_backup_file read = {.count = 0};
    bool same = eb_backup_read(path, &read, problem) &&
                (same_documents(backup, &read) ||
                 ebi_wrong(problem, path, "found other bytes on the disk than were written"));
    eb_backup_free(&read);
    return same;
}

bool eb_backup_write(struct eb_backup_file *b, const char *path, bool *taken, struct eb_problem *problem)
{
    struct ebi_zip zip;
    time_t now = time(NULL);
    struct tm parts;
    if (b->at[0] == '\0')
        strftime(b->at, sizeof b->at, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&now, &parts));
    for (size_t i = 0; i < b->count; i++)
        digest_of(b->documents[i].bytes, b->documents[i].size, b->documents[i].sha256);
    char *facts = facts_of(b);
    bool ok = ebi_zip_begin(&zip, path, 0600, problem) && ebi_zip_put(&zip, FACTS_FILE, facts, strlen(facts));
    for (size_t i = 0; i < b->count && ok; i++) {
        const struct eb_backup_document *d = &b->documents[i];
        ok = d->missing || ebi_zip_put(&zip, d->name, d->bytes, d->size);
    }
    ok = ebi_zip_end(&zip, ok, taken);
    free(facts);
    if (!ok || !reads_back(b, path, problem))
        return false;
    keep_path(b, path);
    return true;
}

/* --- reading --------------------------------------------------------------------------------------- */

static bool take_text(const json_t *root, const char *key, char *to, size_t cap, const char *path,
                      struct eb_problem *problem)
{
    const char *from = json_string_value(json_object_get(root, key));
    return (from != NULL && eb_text_copy(to, cap, from) && eb_text_printable(from)) ||
           ebi_wrong(problem, path,
                     "found no text '%s' in its " FACTS_FILE ", or one that is too long, "
                     "expected one",
                     key);
}

static bool take_versions(struct eb_backup_file *b, json_t *versions, const char *path,
                          struct eb_problem *problem)
{
    const char *component;
    json_t *version;
    json_object_foreach(versions, component, version)
    {
        const char *from = json_string_value(version);
        struct eb_backup_version *to = &b->versions[b->version_count];
        if (b->version_count == EB_COMPONENTS_MAX || from == NULL || !eb_text_printable(component) ||
            !eb_text_printable(from) || !eb_text_copy(to->component, sizeof to->component, component) ||
            !eb_text_copy(to->version, sizeof to->version, from))
            return ebi_wrong(problem, path, "found versions in its " FACTS_FILE " that are none");
        b->version_count++;
    }
    return true;
}

/* A file of the archive, and where its bytes begin among those of all; NULL: there is none of this name. */
static const struct eb_part *find_part(const struct eb_image *image, const char *name, uint64_t *at)
{
    *at = 0;
    for (size_t i = 0; i < image->part_count; i++) {
        if (strcmp(image->parts[i].name, name) == 0)
            return &image->parts[i];
        *at += image->parts[i].size_bytes;
    }
    return NULL;
}

static bool take_document(struct eb_backup_file *b, const struct eb_image *image, const json_t *said,
                          struct eb_problem *problem)
{
    struct eb_backup_document *d = &b->documents[b->count];
    const char *name = json_string_value(json_object_get(said, "name"));
    const char *digest = json_string_value(json_object_get(said, "sha256"));
    uint8_t expected[EB_SHA256_BYTES];
    uint64_t at;
    if (name == NULL || !eb_text_printable(name) || digest == NULL || strlen(name) >= sizeof d->name ||
        strcmp(name, FACTS_FILE) == 0 ||
        sodium_hex2bin(expected, sizeof expected, digest, strlen(digest), NULL, NULL, NULL) != 0)
        return ebi_wrong(problem, b->path,
                         "found a document in its " FACTS_FILE " without a name or a digest");
    if (eb_backup_document(b, name) != NULL)
        return ebi_wrong(problem, b->path, "found the document '%s' twice", name);
    const struct eb_part *part = find_part(image, name, &at);
    if (part == NULL)
        return ebi_wrong(problem, b->path,
                         "found no document '%s' in it, expected it, as its " FACTS_FILE " says", name);
    uint64_t size = part->size_bytes;
    if (size > EB_BACKUP_DOCUMENT_BYTES)
        return ebi_wrong(problem, b->path, "found a document '%s' of more than 64 MiB", name);
    eb_text_copy(d->name, sizeof d->name, name);
    d->bytes = malloc((size_t)size + 1);
    if (d->bytes == NULL)
        abort();
    d->size = d->cap = (size_t)size;
    b->count++;
    if (image->parts_source.read(image->parts_source.self, at, d->bytes, d->size) != EB_OK)
        return ebi_wrong(problem, b->path, "cannot be read: %s", strerror(errno));
    digest_of(d->bytes, d->size, d->sha256);
    return memcmp(d->sha256, expected, sizeof expected) == 0 ||
           ebi_wrong(problem, b->path,
                     "found the document '%s' changed since it was saved (another SHA-256), "
                     "expected it as it was",
                     name);
}

static bool take_facts(struct eb_backup_file *b, const struct eb_image *image, const json_t *root,
                       struct eb_problem *problem)
{
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    struct eb_identity *id = &b->identity;
    const struct {
        const char *key;
        char *to;
        size_t cap;
    } texts[] = {{"made", b->at, sizeof b->at},
                 {"site", b->site, sizeof b->site},
                 {"device", b->device, sizeof b->device},
                 {"profile", b->profile, sizeof b->profile},
                 {"maker", id->maker, sizeof id->maker},
                 {"product", id->product, sizeof id->product},
                 {"order_code", id->order_code, sizeof id->order_code},
                 {"hardware_revision", id->hardware_revision, sizeof id->hardware_revision},
                 {"serial", id->serial, sizeof id->serial}};
    json_t *documents = json_object_get(root, "documents");
    bool ok = (kind != NULL && strcmp(kind, "backup/1") == 0) ||
              ebi_wrong(problem, b->path, "found a " FACTS_FILE " of another form, expected backup/1");
    for (size_t i = 0; i < sizeof texts / sizeof texts[0] && ok; i++)
        ok = take_text(root, texts[i].key, texts[i].to, texts[i].cap, b->path, problem);
    ok = ok && take_versions(b, json_object_get(root, "versions"), b->path, problem);
    if (ok && (json_array_size(documents) == 0 || json_array_size(documents) > EB_BACKUPS_MAX + 1))
        return ebi_wrong(problem, b->path, "found no documents in it, or more than 9, expected 1 to 9");
    for (size_t i = 0; i < json_array_size(documents) && ok; i++)
        ok = take_document(b, image, json_array_get(documents, i), problem);
    return ok;
}

/* The archive is taken apart by the child. */
static bool take_file(struct eb_backup_file *b, struct eb_image *image, struct eb_problem *problem)
{
    uint64_t at;
    if (!ebi_image_unpack(image, problem))
        return false;
    const struct eb_part *part = find_part(image, FACTS_FILE, &at);
    size_t size = part != NULL ? (size_t)part->size_bytes : 0;
    if (size == 0 || size > FACTS_BYTES)
        return ebi_wrong(problem, b->path,
                         "found no " FACTS_FILE " in it, expected a file that 'einbau backup' "
                         "has written");
    uint8_t *bytes = malloc(size);
    if (bytes == NULL)
        abort();
    bool ok = image->parts_source.read(image->parts_source.self, at, bytes, size) == EB_OK;
    json_t *root = ok ? json_loadb((const char *)bytes, size, JSON_REJECT_DUPLICATES, NULL) : NULL;
    free(bytes);
    ok = root != NULL || ebi_wrong(problem, b->path, "found a " FACTS_FILE " that is no JSON");
    ok = ok && take_facts(b, image, root, problem);
    json_decref(root);
    return ok;
}

bool eb_backup_read(const char *path, struct eb_backup_file *backup, struct eb_problem *problem)
{
    memset(backup, 0, sizeof *backup);
    if (!eb_text_copy(backup->path, sizeof backup->path, path))
        return ebi_wrong(problem, path, "found a path that is too long");
    int fd = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return ebi_wrong(problem, path, "the backup cannot be opened: %s", strerror(errno));
    struct eb_image *image = ebi_image_new(fd, path, problem);
    bool ok = image != NULL;
    if (ok) {
        off_t end = lseek(fd, 0, SEEK_END);
        image->file.size_bytes = end > 0 ? (uint64_t)end : 0;
        ok = take_file(backup, image, problem);
    }
    eb_image_close(image);
    if (ok)
        keep_path(backup, path);
    else
        eb_backup_free(backup);
    return ok;
}

/* --- whether it suits a device ---------------------------------------------------------------------- */

static const char *running_of(const struct eb_profile *profile, const char *const *running, const char *name,
                              const struct eb_component_profile **component)
{
    for (size_t i = 0; i < profile->count; i++) {
        *component = &profile->components[i];
        if (strcmp(profile->components[i].name, name) == 0)
            return running[i] != NULL ? running[i] : "";
    }
    return NULL;
}

bool eb_backup_suits(const struct eb_backup_file *b, const struct eb_profile *profile,
                     const struct eb_identity *identity, const char *const *running,
                     struct eb_problem *problem)
{
    const struct eb_component_profile *component;
    const struct {
        const char *what, *found, *expected;
    } texts[] = {{"order code", b->identity.order_code, identity->order_code},
                 {"hardware revision", b->identity.hardware_revision, identity->hardware_revision}};
    for (size_t i = 0; i < sizeof texts / sizeof texts[0]; i++) {
        if (strcmp(texts[i].found, texts[i].expected) != 0 || texts[i].found[0] == '\0')
            return ebi_wrong(problem, b->path,
                             "found a backup of %s '%s', expected one of this device's: '%s'", texts[i].what,
                             texts[i].found, texts[i].expected);
    }
    for (size_t i = 0; i < b->version_count; i++) {
        const struct eb_backup_version *v = &b->versions[i];
        const char *runs = running_of(profile, running, v->component, &component);
        if (runs == NULL || v->version[0] == '\0')
            continue;
        enum eb_comparison step = eb_version_compare(&component->order, v->version, runs);
        if (step != EB_SAME && step != EB_OLDER)
            return ebi_wrong(problem, b->path,
                             "found a backup made with %s %s, and %s runs now%s, expected one made with that "
                             "version or an older one",
                             v->component, v->version, runs[0] != '\0' ? runs : "a version that is not known",
                             step == EB_NEWER ? "" : ", which cannot be compared");
    }
    return true;
}

/* --- a folder of them ------------------------------------------------------------------------------- */

static int is_zip(const struct dirent *entry)
{
    size_t size = strlen(entry->d_name);
    return size > 4 && entry->d_name[0] != '.' && strcmp(entry->d_name + size - 4, ".zip") == 0;
}

static int newest_first(const void *a, const void *b)
{
    const struct eb_backup_file *x = a;
    const struct eb_backup_file *y = b;
    int by_time = strcmp(y->at, x->at);
    size_t size = strlen(x->path);
    size_t other = strlen(y->path);
    /* Within a second by the number behind the time: "-2" is newer than none, "-10" newer than "-9". */
    return by_time != 0 ? by_time : size != other ? (size < other ? 1 : -1) : strcmp(y->path, x->path);
}

bool eb_backups_list(const char *folder, struct eb_backup_file **list, size_t *count, size_t *wrong,
                     struct eb_problem *problem)
{
    struct dirent **names = NULL;
    int found = scandir(folder, &names, is_zip, alphasort);
    *count = *wrong = 0;
    *list = NULL;
    if (found < 0 && errno != ENOENT)
        return ebi_wrong(problem, folder, "the folder cannot be read: %s", strerror(errno));
    *list = calloc((size_t)(found > 0 ? found : 0) + 1, sizeof **list);
    if (*list == NULL)
        abort();
    for (int i = 0; i < found; i++) {
        struct eb_backup_file *b = &(*list)[*count];
        struct eb_problem unused = {.text = ""};
        char path[EB_PATH_BYTES + 256];
        snprintf(path, sizeof path, "%s/%s", folder, names[i]->d_name);
        bool read = eb_backup_read(path, b, &unused);
        for (size_t k = 0; k < b->count; k++) {
            free(b->documents[k].bytes);
            b->documents[k].bytes = NULL;
        }
        *count += read;
        *wrong += !read;
        free(names[i]);
    }
    free(names);
    qsort(*list, *count, sizeof **list, newest_first);
    return true;
}
