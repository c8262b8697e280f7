#include "shelf/unpack.h"
#include "archive_read.h"
#include "image_file.h"
#include "sha256.h"
#include "manifest.h"

#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <zlib.h>

enum { CHUNK_BYTES = 65536, SNIFF_BYTES = 512, TAR_MARK_AT = 257, TAR_BLOCK_BYTES = 512 };

enum eb_status ebi_bytes_read(const struct ebi_bytes *bytes, uint64_t at, uint8_t *to, size_t size)
{
    return at < bytes->split ? ebi_read_at(bytes->given, at, to, size)
                             : ebi_read_at(bytes->unpacked, at - bytes->split, to, size);
}

uint8_t *ebi_leaf_read(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size,
                       struct eb_problem *problem)
{
    uint8_t *bytes = leaf->bytes.size <= EB_MANIFEST_BYTES ? malloc(leaf->bytes.size + 1) : NULL;
    *size = (size_t)leaf->bytes.size;
    if (bytes != NULL && ebi_bytes_read(&haul->bytes, leaf->bytes.at, bytes, *size) == EB_OK) {
        bytes[*size] = 0;
        return bytes;
    }
    snprintf(problem->text, sizeof problem->text,
             "%.500s: found something that is no file of at most %d bytes, expected one", leaf->name,
             EB_MANIFEST_BYTES);
    free(bytes);
    return NULL;
}

static size_t folder_size(const struct ebi_leaf *leaf)
{
    return (size_t)(leaf->file - leaf->name);
}

/* The order of leaves in which one is found by its name: archives apart. */
static int by_place(const void *one, const void *other, void *leaves)
{
    const struct ebi_leaf *a = (const struct ebi_leaf *)leaves + *(const size_t *)one;
    const struct ebi_leaf *b = (const struct ebi_leaf *)leaves + *(const size_t *)other;
    int names = a->archive == b->archive ? strcmp(a->name, b->name) : 0;
    return a->archive != b->archive ? (a->archive > b->archive) - (a->archive < b->archive)
           : names != 0             ? names
                                    : (a->number > b->number) - (a->number < b->number);
}

/* Sorts anew where leaves have come or gone. */
static void sort_leaves(struct ebi_haul *haul)
{
    if (haul->sorted)
        return;
    size_t *more = realloc(haul->order, (haul->count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    haul->order = more;
    for (size_t i = 0; i < haul->count; i++)
        haul->order[i] = i;
    qsort_r(haul->order, haul->count, sizeof *haul->order, by_place, haul->leaves);
    haul->sorted = true;
}

struct ebi_leaf *ebi_leaf_beside(struct ebi_haul *haul, const struct ebi_leaf *leaf, const char *file)
{
    size_t head = folder_size(leaf);
    size_t low = 0;
    size_t high;
    sort_leaves(haul);
    high = haul->count;
    while (low < high) {
        size_t middle = low + (high - low) / 2;
        struct ebi_leaf *other = &haul->leaves[haul->order[middle]];
        int c = other->archive != leaf->archive ? (other->archive > leaf->archive ? 1 : -1)
                                                : strncmp(other->name, leaf->name, head);
        if (c == 0)
            c = strcmp(other->name + head, file);
        if (c < 0)
            low = middle + 1;
        else
            high = middle;
    }
    struct ebi_leaf *found = low < haul->count ? &haul->leaves[haul->order[low]] : NULL;
    bool same = found != NULL && found->archive == leaf->archive &&
                strncmp(found->name, leaf->name, head) == 0 && strcmp(found->name + head, file) == 0;
    return same && folder_size(found) == head ? found : NULL;
}

/* --- leaves -------------------------------------------------------------------------------------- */

static struct ebi_leaf *add_leaf(struct ebi_haul *haul, const char *name, size_t archive)
{
    struct ebi_leaf *more = realloc(haul->leaves, (haul->count + 1) * sizeof *more);
    char *copy = strdup(name);
    haul->sorted = false;
    if (more != NULL)
        haul->leaves = more;
    if (more == NULL || copy == NULL) {
        free(copy);
        ebi_wrong(haul->problem, name, "out of memory");
        return NULL;
    }
    const char *slash = strrchr(copy, '/');
    more[haul->count] = (struct ebi_leaf){.name = copy,
                                          .file = slash != NULL ? slash + 1 : copy,
                                          .number = ++haul->numbers,
                                          .archive = archive,
                                          .argument = haul->argument};
    return &more[haul->count++];
}

static void drop_leaves(struct ebi_haul *haul, size_t first)
{
    for (size_t i = first; i < haul->count; i++)
        free(haul->leaves[i].name);
    haul->sorted = false;
    haul->count = first;
}

static void drop_leaf(struct ebi_haul *haul, size_t index)
{
    free(haul->leaves[index].name);
    haul->sorted = false;
    haul->count--;
    memmove(&haul->leaves[index], &haul->leaves[index + 1], (haul->count - index) * sizeof *haul->leaves);
}

void ebi_haul_free(struct ebi_haul *haul)
{
    drop_leaves(haul, 0);
    free(haul->leaves);
    free(haul->order);
    haul->leaves = NULL;
    haul->order = NULL;
}

/* --- one leaf ------------------------------------------------------------------------------------ */

struct writing {
    struct ebi_haul *haul;
    struct ebi_leaf *leaf;
    struct ebi_sha256 sha;
};

static bool begin_leaf(struct writing *w, struct ebi_haul *haul, const char *name, size_t archive)
{
    *w = (struct writing){.haul = haul, .leaf = add_leaf(haul, name, archive)};
    if (w->leaf == NULL)
        return false;
    w->leaf->bytes.at = haul->end;
    ebi_sha256_begin(&w->sha);
    return true;
}

static void take_bytes(struct writing *w, const uint8_t *bytes, size_t size)
{
    ebi_sha256_add(&w->sha, bytes, size);
    w->leaf->checksum = (uint32_t)crc32(w->leaf->checksum, bytes, (unsigned)size);
    w->leaf->bytes.size += size;
}

static bool end_leaf(struct writing *w, bool whole)
{
    ebi_sha256_end(&w->sha, whole ? w->leaf->sha256 : NULL);
    return whole;
}

static bool write_leaf(struct writing *w, const uint8_t *bytes, size_t size)
{
    struct ebi_haul *haul = w->haul;
    haul->unpacked_bytes += size;
    if (haul->unpacked_bytes > EBI_UNPACK_BYTES_MAX)
        return ebi_wrong(haul->problem, w->leaf->name,
                         "found more than %llu bytes unpacked, expected at most that",
                         (unsigned long long)EBI_UNPACK_BYTES_MAX);
    if (haul->unpacked_bytes > EBI_UNPACK_RATIO_FROM &&
        haul->unpacked_bytes / EBI_UNPACK_RATIO_MAX > haul->file_bytes)
        return ebi_wrong(
            haul->problem, w->leaf->name,
            "found more than %d times the file's size unpacked, expected at most that: this is no firmware",
            EBI_UNPACK_RATIO_MAX);
    take_bytes(w, bytes, size);
    if (!ebi_write_at(haul->bytes.unpacked, haul->end - haul->bytes.split, bytes, size))
        return ebi_wrong(haul->problem, w->leaf->name, "cannot be written: %s", strerror(errno));
    haul->end += size;
    return true;
}

/* A file as it is: its bytes are there already.  `sum` NULL: it was not computed yet. */
static bool take_plain(struct ebi_haul *haul, const struct ebi_range *bytes, const struct ebi_sum *sum,
                       const char *name)
{
    uint8_t chunk[CHUNK_BYTES];
    struct writing w;
    if (!begin_leaf(&w, haul, name, 0))
        return false;
    w.leaf->bytes.at = bytes->at;
    if (sum != NULL && sum->known) {
        end_leaf(&w, false);
        w.leaf->bytes.size = bytes->size;
        w.leaf->checksum = sum->checksum;
        memcpy(w.leaf->sha256, sum->sha256, sizeof sum->sha256);
        return true;
    }
    while (w.leaf->bytes.size < bytes->size) {
        uint64_t left = bytes->size - w.leaf->bytes.size;
        size_t size = left < sizeof chunk ? (size_t)left : sizeof chunk;
        if (ebi_bytes_read(&haul->bytes, bytes->at + w.leaf->bytes.size, chunk, size) != EB_OK) {
            ebi_wrong(haul->problem, name, "cannot be read: %s", strerror(errno));
            return end_leaf(&w, false);
        }
        take_bytes(&w, chunk, size);
    }
    return end_leaf(&w, true);
}

/* --- archives ------------------------------------------------------------------------------------ */

bool ebi_looks_packed(const uint8_t *head, size_t size)
{
    static const struct {
        size_t at, size;
        const char *bytes;
    } marks[] = {{0, 4, "PK\3\4"},
                 {0, 4, "PK\5\6"},
                 {0, 2, "\x1f\x8b"},
                 {0, 6,
                  "\xfd"
                  "7zXZ\0"},
                 {0, 3, "BZh"},
                 {0, 4, "\x28\xb5\x2f\xfd"},
                 {TAR_MARK_AT, 5, "ustar"}};
    for (size_t i = 0; i < sizeof marks / sizeof marks[0]; i++) {
        if (size >= marks[i].at + marks[i].size &&
            memcmp(head + marks[i].at, marks[i].bytes, marks[i].size) == 0)
            return true;
    }
    return false;
}

static bool is_archive(const struct ebi_haul *haul, const struct ebi_range *bytes)
{
    uint8_t head[SNIFF_BYTES];
    size_t size = bytes->size < sizeof head ? (size_t)bytes->size : sizeof head;
    return ebi_bytes_read(&haul->bytes, bytes->at, head, size) == EB_OK && ebi_looks_packed(head, size);
}

/* A name that leads out of the archive's own folder, or that systems take differently. */
static bool name_fine(const char *name)
{
    if (name[0] == '/' || name[0] == '\0' || strchr(name, '\\') != NULL || strchr(name, ':') != NULL ||
        !eb_text_printable(name) || strlen(name) >= EB_FILE_BYTES)
        return false;
    for (const char *part = name; part != NULL; part = strchr(part, '/')) {
        part += *part == '/';
        if (strncmp(part, "..", 2) == 0 && (part[2] == '/' || part[2] == '\0'))
            return false;
    }
    return true;
}

static bool take_entry(struct ebi_haul *haul, struct archive *a, struct archive_entry *entry,
                       const char *name, size_t number)
{
    const char *path = archive_entry_pathname(entry);
    char full[EB_PATH_BYTES];
    uint8_t chunk[CHUNK_BYTES];
    struct writing w;
    if (++haul->entries > EBI_UNPACK_ENTRIES_MAX)
        return ebi_wrong(haul->problem, name, "found more than %d files in it, expected at most that",
                         EBI_UNPACK_ENTRIES_MAX);
    if (path == NULL || !name_fine(path))
        return ebi_wrong(
            haul->problem, name,
            "found a name in it that leads elsewhere, or cannot be one (\"%.80s\"), expected plain names "
            "without .., drives and backslashes",
            path != NULL && eb_text_printable(path) ? path : "?");
    if (archive_entry_hardlink(entry) != NULL || archive_entry_symlink(entry) != NULL)
        return ebi_wrong(haul->problem, name, "found a link in it (\"%s\"), expected only files", path);
    if (archive_entry_filetype(entry) == AE_IFDIR)
        return true;
    if (archive_entry_filetype(entry) != AE_IFREG)
        return ebi_wrong(haul->problem, name,
                         "found something in it that is no file (\"%s\"), expected only files", path);
    if (archive_entry_is_encrypted(entry) > 0)
        return ebi_wrong(haul->problem, name,
                         "found \"%s\" encrypted in it, expected it open: unpack it with its password first",
                         path);
    if (strlen(name) + strlen(path) + 2 > sizeof full)
        return ebi_wrong(haul->problem, name, "found a longer name in it, expected at most %zu characters",
                         sizeof full - 2);
    struct eb_text text;
    eb_text_init(&text, full, sizeof full);
    eb_text_add(&text, name);
    eb_text_add(&text, "/");
    eb_text_add(&text, path);
    if (!begin_leaf(&w, haul, full, number))
        return false;
    bool ok = true;
    la_ssize_t n = 1;
    while (ok && n != 0) {
        n = archive_read_data(a, chunk, sizeof chunk);
        if (n < 0)
            ok = ebi_wrong(haul->problem, name,
                           "found \"%s\" damaged or cut off (%s), expected a whole archive", path,
                           archive_error_string(a) != NULL ? archive_error_string(a) : "unreadable");
        else
            ok = write_leaf(&w, chunk, (size_t)n);
    }
    return end_leaf(&w, ok);
}

static bool take_entries(struct ebi_haul *haul, struct archive *a, const char *name, size_t number)
{
    struct archive_entry *entry;
    int64_t end = 0;
    int result;
    while ((result = archive_read_next_header(a, &entry)) == ARCHIVE_OK) {
        if (!take_entry(haul, a, entry, name, number))
            return false;
        end = archive_filter_bytes(a, 0);
    }
    if (result != ARCHIVE_EOF)
        return ebi_wrong(haul->problem, name, "found it damaged or cut off (%s), expected a whole archive",
                         archive_error_string(a) != NULL ? archive_error_string(a) : "unreadable");
    /* Two empty blocks end a tar archive; one that was cut off between two files has none. */
    if ((archive_format(a) & ARCHIVE_FORMAT_BASE_MASK) == ARCHIVE_FORMAT_TAR &&
        archive_filter_bytes(a, 0) - end < TAR_BLOCK_BYTES)
        return ebi_wrong(haul->problem, name,
                         "found no end of the archive, expected two empty blocks: it is cut off");
    return true;
}

static int by_name(const void *a, const void *b)
{
    return strcasecmp(*(char *const *)a, *(char *const *)b);
}

/* No two names that any system would take for the same. */
static bool names_differ(struct ebi_haul *haul, size_t first, const char *name)
{
    size_t count = haul->count - first;
    char **names = malloc((count + 1) * sizeof *names);
    bool ok = names != NULL;
    for (size_t i = 0; ok && i < count; i++)
        names[i] = haul->leaves[first + i].name;
    if (ok && count > 1)
        qsort(names, count, sizeof *names, by_name);
    for (size_t i = 1; ok && i < count; i++) {
        if (strcasecmp(names[i - 1], names[i]) == 0)
            ok = ebi_wrong(haul->problem, name, "found \"%s\" twice in it, expected each name once",
                           strrchr(names[i], '/') + 1);
    }
    free(names);
    return ok;
}

/* A leaf that ought to be a manifest, by its name and content. */
static bool find_manifest(struct ebi_haul *haul, struct ebi_leaf *leaf)
{
    struct eb_problem problem;
    size_t size;
    size_t length = strlen(leaf->file);
    if (length < 5 || strcasecmp(leaf->file + length - 5, ".json") != 0)
        return true;
    if (leaf->bytes.size > EB_MANIFEST_BYTES)
        return strcmp(leaf->file, "manifest.json") != 0 ||
               ebi_wrong(haul->problem, leaf->name, "found %llu bytes, expected a manifest of at most %d",
                         (unsigned long long)leaf->bytes.size, EB_MANIFEST_BYTES);
    uint8_t *bytes = ebi_leaf_read(haul, leaf, &size, &problem);
    leaf->manifest = bytes != NULL &&
                     (strcmp(leaf->file, "manifest.json") == 0 || ebi_manifest_looks_so((const char *)bytes));
    free(bytes);
    return true;
}

/* Whether these bytes, which are freed, are a manifest; calls `each` for every file that it names. */
static void each_named(uint8_t *bytes, size_t size, void (*each)(void *context, const char *file),
                       void *context)
{
    struct eb_problem problem;
    struct eb_manifest manifest;
    if (bytes != NULL && eb_manifest_read("", bytes, size, &manifest, &problem)) {
        for (size_t i = 0; i < manifest.count; i++)
            each(context, manifest.images[i].file);
        eb_manifest_free(&manifest);
    }
    free(bytes);
}

struct naming {
    struct ebi_haul *haul;
    const struct ebi_leaf *manifest;
};

static void mark_named(void *context, const char *file)
{
    struct naming *n = context;
    struct ebi_leaf *leaf = ebi_leaf_beside(n->haul, n->manifest, file);
    if (leaf != NULL)
        leaf->named = true;
}

/* What a manifest in the same folder names is an image, whatever it looks like. */
static void mark_all_named(struct ebi_haul *haul, size_t first)
{
    for (size_t i = first; i < haul->count; i++) {
        struct naming n = {haul, &haul->leaves[i]};
        struct eb_problem problem;
        size_t size = 0;
        if (!haul->leaves[i].manifest)
            continue;
        uint8_t *bytes = ebi_leaf_read(haul, &haul->leaves[i], &size, &problem);
        each_named(bytes, size, mark_named, &n);
    }
}

static enum eb_status read_bytes(const void *from, uint64_t at, uint8_t *to, size_t size)
{
    return ebi_bytes_read(from, at, to, size);
}

static bool unpack(struct ebi_haul *haul, const struct ebi_range *bytes, const char *name, int depth);

/* Archives among the leaves from `first` on give way to what is in them. */
static bool descend(struct ebi_haul *haul, size_t first, int depth)
{
    size_t end = haul->count;
    for (size_t i = first; i < end;) {
        const struct ebi_leaf *leaf = &haul->leaves[i];
        if (leaf->named || !is_archive(haul, &leaf->bytes)) {
            i++;
            continue;
        }
        char name[EB_PATH_BYTES];
        struct ebi_range inner = leaf->bytes;
        snprintf(name, sizeof name, "%s", leaf->name);
        if (!unpack(haul, &inner, name, depth + 1))
            return false;
        drop_leaf(haul, i);
        end--;
    }
    return true;
}

static bool unpack(struct ebi_haul *haul, const struct ebi_range *bytes, const char *name, int depth)
{
    size_t first = haul->count;
    if (depth > EBI_UNPACK_DEPTH)
        return ebi_wrong(haul->problem, name,
                         "found archives in each other more than %d deep, expected at most that",
                         EBI_UNPACK_DEPTH);
    struct ebi_archive_reading reading = {read_bytes, &haul->bytes, bytes->at, bytes->size, .at = 0};
    struct archive *a = archive_read_new();
    if (a == NULL)
        return ebi_wrong(haul->problem, name, "out of memory");
    /* Only with the directory at its end is a zip archive whole. */
    archive_read_support_format_zip_seekable(a);
    archive_read_support_format_tar(a);
    archive_read_support_format_raw(a); /* one compressed file */
    archive_read_support_filter_gzip(a);
    archive_read_support_filter_bzip2(a);
    archive_read_support_filter_xz(a);
    archive_read_support_filter_zstd(a);
    bool ok = ebi_archive_open(a, &reading);
    if (!ok)
        ebi_wrong(haul->problem, name, "found an archive that cannot be opened (%s), expected a whole one",
                  archive_error_string(a) != NULL ? archive_error_string(a) : "unreadable");
    ok = ok && take_entries(haul, a, name, ++haul->archives);
    if (ok && archive_format(a) == ARCHIVE_FORMAT_RAW && archive_filter_count(a) < 2)
        ok = ebi_wrong(haul->problem, name,
                       "found the beginning of an archive and not the rest, expected a whole one");
    archive_read_free(a);
    ok = ok && names_differ(haul, first, name);
    for (size_t i = first; ok && i < haul->count; i++)
        ok = find_manifest(haul, &haul->leaves[i]);
    if (ok)
        mark_all_named(haul, first);
    return ok && descend(haul, first, depth);
}

/* --- files that were given ------------------------------------------------------------------------ */

struct sought {
    const char *file;
    bool found;
};

static void seek_name(void *context, const char *file)
{
    struct sought *sought = context;
    sought->found = sought->found || strcmp(file, sought->file) == 0;
}

/* Whether the manifest beside a file names it: then it is an image, whatever it looks like. */
static bool named_beside(const struct ebi_haul *haul, const struct ebi_input *input, char *beside)
{
    const char *slash = strrchr(input->path, '/');
    struct sought sought = {slash != NULL ? slash + 1 : input->path, false};
    const struct ebi_leaf manifest = {.name = beside, .bytes = input->beside};
    struct eb_problem unheard;
    size_t size = 0;
    if (!input->accompanied || input->beside_problem.text[0] != '\0')
        return false;
    uint8_t *bytes = ebi_leaf_read(haul, &manifest, &size, &unheard);
    each_named(bytes, size, seek_name, &sought);
    return sought.found;
}

static bool take_beside(struct ebi_haul *haul, const struct ebi_input *input, const char *beside,
                        size_t first)
{
    if (input->beside_problem.text[0] != '\0') {
        *haul->problem = input->beside_problem;
        return false;
    }
    if (!take_plain(haul, &input->beside, NULL, beside) || !find_manifest(haul, &haul->leaves[first + 1]))
        return false;
    if (!haul->leaves[first + 1].manifest)
        drop_leaf(haul, first + 1);
    return true;
}

bool ebi_haul_take(struct ebi_haul *haul, const struct ebi_input *input)
{
    char beside[EB_PATH_BYTES + 8];
    size_t first = haul->count;
    haul->argument = input->argument;
    haul->file_bytes = input->bytes.size;
    haul->unpacked_bytes = 0;
    haul->entries = 0;
    snprintf(beside, sizeof beside, "%s.json", input->path);
    bool plain = named_beside(haul, input, beside) || !is_archive(haul, &input->bytes);
    bool ok = plain ? take_plain(haul, &input->bytes, &input->sum, input->path)
                    : unpack(haul, &input->bytes, input->path, 1);
    if (ok && plain)
        ok = find_manifest(haul, &haul->leaves[first]) &&
             (!input->accompanied || haul->leaves[first].manifest || take_beside(haul, input, beside, first));
    if (!ok)
        drop_leaves(haul, first);
    return ok;
}
