#include "shelf/unpack.h"
#include "image_file.h"
#include "manifest.h"

#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <fcntl.h>
#include <sodium.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

enum { CHUNK_BYTES = 65536, SNIFF_BYTES = 512, TAR_MARK_AT = 257, TAR_BLOCK_BYTES = 512 };

__attribute__((format(printf, 3, 4))) static bool refuse(struct ebi_haul *haul, const char *name,
                                                         const char *format, ...)
{
    char text[EB_PROBLEM_BYTES - 600];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    snprintf(haul->problem->text, sizeof haul->problem->text, "%.500s: %s", name, text);
    return false;
}

void ebi_leaf_file(const struct ebi_leaf *leaf, char name[EBI_LEAF_FILE_BYTES])
{
    snprintf(name, EBI_LEAF_FILE_BYTES, "%zu", leaf->number);
}

int ebi_leaf_open(const struct ebi_haul *haul, const struct ebi_leaf *leaf)
{
    char name[EBI_LEAF_FILE_BYTES];
    ebi_leaf_file(leaf, name);
    return openat(haul->dir, name, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
}

uint8_t *ebi_leaf_read(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size,
                       struct eb_problem *problem)
{
    return ebi_open_file_read(ebi_leaf_open(haul, leaf), leaf->name, EB_MANIFEST_BYTES, size, problem);
}

static void remove_leaf(const struct ebi_haul *haul, struct ebi_leaf *leaf)
{
    char name[EBI_LEAF_FILE_BYTES];
    ebi_leaf_file(leaf, name);
    unlinkat(haul->dir, name, 0);
    free(leaf->name);
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
        refuse(haul, name, "out of memory");
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
        remove_leaf(haul, &haul->leaves[i]);
    haul->sorted = false;
    haul->count = first;
}

static void drop_leaf(struct ebi_haul *haul, size_t index)
{
    remove_leaf(haul, &haul->leaves[index]);
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

/* --- writing one leaf ---------------------------------------------------------------------------- */

struct writing {
    struct ebi_haul *haul;
    struct ebi_leaf *leaf;
    int fd;
    crypto_hash_sha256_state state;
};

static bool begin_leaf(struct writing *w, struct ebi_haul *haul, const char *name, size_t archive)
{
    char file[EBI_LEAF_FILE_BYTES];
    *w = (struct writing){.haul = haul, .leaf = add_leaf(haul, name, archive), .fd = -1};
    if (w->leaf == NULL)
        return false;
    ebi_leaf_file(w->leaf, file);
    w->fd = openat(haul->dir, file, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    crypto_hash_sha256_init(&w->state);
    return w->fd >= 0 || refuse(haul, name, "cannot be written: %s", strerror(errno));
}

static bool write_leaf(struct writing *w, const uint8_t *bytes, size_t size)
{
    struct ebi_haul *haul = w->haul;
    haul->unpacked_bytes += size;
    if (haul->unpacked_bytes > EBI_UNPACK_BYTES_MAX)
        return refuse(haul, w->leaf->name, "found more than %llu bytes unpacked, expected at most that",
                      (unsigned long long)EBI_UNPACK_BYTES_MAX);
    if (haul->file_bytes > 0 && haul->unpacked_bytes > EBI_UNPACK_RATIO_FROM &&
        haul->unpacked_bytes / EBI_UNPACK_RATIO_MAX > haul->file_bytes)
        return refuse(
            haul, w->leaf->name,
            "found more than %d times the file's size unpacked, expected at most that: this is no firmware",
            EBI_UNPACK_RATIO_MAX);
    crypto_hash_sha256_update(&w->state, bytes, size);
    w->leaf->checksum = (uint32_t)crc32(w->leaf->checksum, bytes, (unsigned)size);
    w->leaf->size += size;
    while (size > 0) {
        ssize_t n = write(w->fd, bytes, size);
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return refuse(haul, w->leaf->name, "cannot be written: %s", strerror(errno));
        bytes += n;
        size -= (size_t)n;
    }
    return true;
}

static bool end_leaf(struct writing *w, bool ok)
{
    if (w->fd >= 0 && close(w->fd) != 0 && ok)
        ok = refuse(w->haul, w->leaf->name, "cannot be written: %s", strerror(errno));
    if (w->leaf != NULL)
        crypto_hash_sha256_final(&w->state, w->leaf->sha256);
    return ok;
}

bool ebi_haul_copy(struct ebi_haul *haul, int fd, const char *name)
{
    uint8_t chunk[CHUNK_BYTES];
    struct writing w;
    bool ok = begin_leaf(&w, haul, name, 0);
    ssize_t n = 1;
    while (ok && n != 0) {
        n = read(fd, chunk, sizeof chunk);
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0)
            ok = refuse(haul, name, "cannot be read: %s", strerror(errno));
        else
            ok = write_leaf(&w, chunk, (size_t)n);
    }
    return end_leaf(&w, ok);
}

/* --- archives ------------------------------------------------------------------------------------ */

static bool is_archive(int fd)
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
    uint8_t head[SNIFF_BYTES] = {0};
    ssize_t n = pread(fd, head, sizeof head, 0);
    for (size_t i = 0; n > 0 && i < sizeof marks / sizeof marks[0]; i++) {
        if (memcmp(head + marks[i].at, marks[i].bytes, marks[i].size) == 0)
            return true;
    }
    return false;
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
        return refuse(haul, name, "found more than %d files in it, expected at most that",
                      EBI_UNPACK_ENTRIES_MAX);
    if (path == NULL || !name_fine(path))
        return refuse(
            haul, name,
            "found a name in it that leads elsewhere, or cannot be one (\"%.80s\"), expected plain names "
            "without .., drives and backslashes",
            path != NULL && eb_text_printable(path) ? path : "?");
    if (archive_entry_hardlink(entry) != NULL || archive_entry_symlink(entry) != NULL)
        return refuse(haul, name, "found a link in it (\"%s\"), expected only files", path);
    if (archive_entry_filetype(entry) == AE_IFDIR)
        return true;
    if (archive_entry_filetype(entry) != AE_IFREG)
        return refuse(haul, name, "found something in it that is no file (\"%s\"), expected only files",
                      path);
    if (archive_entry_is_encrypted(entry) > 0)
        return refuse(haul, name,
                      "found \"%s\" encrypted in it, expected it open: unpack it with its password first",
                      path);
    if (strlen(name) + strlen(path) + 2 > sizeof full)
        return refuse(haul, name, "found a longer name in it, expected at most %zu characters",
                      sizeof full - 2);
    struct eb_text text;
    eb_text_init(&text, full, sizeof full);
    eb_text_add(&text, name);
    eb_text_add(&text, "/");
    eb_text_add(&text, path);
    bool ok = begin_leaf(&w, haul, full, number);
    la_ssize_t n = 1;
    while (ok && n != 0) {
        n = archive_read_data(a, chunk, sizeof chunk);
        if (n < 0)
            ok = refuse(haul, name, "found \"%s\" damaged or cut off (%s), expected a whole archive", path,
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
        return refuse(haul, name, "found it damaged or cut off (%s), expected a whole archive",
                      archive_error_string(a) != NULL ? archive_error_string(a) : "unreadable");
    /* Two empty blocks end a tar archive; one that was cut off between two files has none. */
    if ((archive_format(a) & ARCHIVE_FORMAT_BASE_MASK) == ARCHIVE_FORMAT_TAR &&
        archive_filter_bytes(a, 0) - end < TAR_BLOCK_BYTES)
        return refuse(haul, name, "found no end of the archive, expected two empty blocks: it is cut off");
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
            ok = refuse(haul, name, "found \"%s\" twice in it, expected each name once",
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
    if (leaf->size > EB_MANIFEST_BYTES)
        return strcmp(leaf->file, "manifest.json") != 0 ||
               refuse(haul, leaf->name, "found %llu bytes, expected a manifest of at most %d",
                      (unsigned long long)leaf->size, EB_MANIFEST_BYTES);
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

static bool unpack(struct ebi_haul *haul, int fd, const char *name, int depth);

/* Archives among the leaves from `first` on give way to what is in them. */
static bool descend(struct ebi_haul *haul, size_t first, int depth)
{
    size_t end = haul->count;
    for (size_t i = first; i < end;) {
        int fd = ebi_leaf_open(haul, &haul->leaves[i]);
        bool ok = fd >= 0 || refuse(haul, haul->leaves[i].name, "cannot be read: %s", strerror(errno));
        bool inner = ok && is_archive(fd) && !haul->leaves[i].named;
        if (inner) {
            char name[EB_PATH_BYTES];
            snprintf(name, sizeof name, "%s", haul->leaves[i].name);
            ok = unpack(haul, fd, name, depth + 1);
        }
        if (fd >= 0)
            close(fd);
        if (!ok)
            return false;
        if (inner) {
            drop_leaf(haul, i);
            end--;
        } else {
            i++;
        }
    }
    return true;
}

static bool unpack(struct ebi_haul *haul, int fd, const char *name, int depth)
{
    size_t first = haul->count;
    if (depth > EBI_UNPACK_DEPTH)
        return refuse(haul, name, "found archives in each other more than %d deep, expected at most that",
                      EBI_UNPACK_DEPTH);
    struct archive *a = archive_read_new();
    if (a == NULL)
        return refuse(haul, name, "out of memory");
    /* Only with the directory at its end is a zip archive whole. */
    archive_read_support_format_zip_seekable(a);
    archive_read_support_format_tar(a);
    archive_read_support_format_raw(a); /* one compressed file */
    archive_read_support_filter_gzip(a);
    archive_read_support_filter_bzip2(a);
    archive_read_support_filter_xz(a);
    archive_read_support_filter_zstd(a);
    bool ok = archive_read_open_fd(a, fd, CHUNK_BYTES) == ARCHIVE_OK;
    if (!ok)
        refuse(haul, name, "found an archive that cannot be opened (%s), expected a whole one",
               archive_error_string(a) != NULL ? archive_error_string(a) : "unreadable");
    ok = ok && take_entries(haul, a, name, ++haul->archives);
    if (ok && archive_format(a) == ARCHIVE_FORMAT_RAW && archive_filter_count(a) < 2)
        ok = refuse(haul, name, "found the beginning of an archive and not the rest, expected a whole one");
    archive_read_free(a);
    ok = ok && names_differ(haul, first, name);
    for (size_t i = first; ok && i < haul->count; i++)
        ok = find_manifest(haul, &haul->leaves[i]);
    if (ok)
        mark_all_named(haul, first);
    return ok && descend(haul, first, depth);
}

/* --- files that were given ------------------------------------------------------------------------ */

/* Another process that writes to the file prevents a lease on it (fcntl(2)); where leases cannot be had, its
 * size and times before and after tell. */
static bool is_written(int fd)
{
    if (fcntl(fd, F_SETLEASE, F_RDLCK) == 0) {
        fcntl(fd, F_SETLEASE, F_UNLCK);
        return false;
    }
    return errno == EAGAIN;
}

static bool take_open(struct ebi_haul *haul, int fd, const char *path, bool inside)
{
    struct stat before;
    struct stat after;
    if (fstat(fd, &before) != 0 || !S_ISREG(before.st_mode))
        return refuse(haul, path,
                      "found something that is no file, expected an image, a package or an archive");
    if (is_written(fd))
        return refuse(haul, path,
                      "found another program writing to it, expected a finished file: wait for its end");
    if (before.st_size == 0)
        return refuse(haul, path, "found an empty file, expected an image, a package or an archive");
    haul->file_bytes = (uint64_t)before.st_size;
    haul->unpacked_bytes = 0;
    haul->entries = 0;
    if (!(inside ? unpack(haul, fd, path, 1) : ebi_haul_copy(haul, fd, path)))
        return false;
    if (fstat(fd, &after) != 0 || after.st_size != before.st_size ||
        after.st_mtim.tv_sec != before.st_mtim.tv_sec || after.st_mtim.tv_nsec != before.st_mtim.tv_nsec)
        return refuse(haul, path,
                      "found it changed while it was read, expected a finished file: wait for its end");
    return true;
}

static bool take_file(struct ebi_haul *haul, const char *path, bool as_it_is, bool may_miss)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0)
        return (may_miss && errno == ENOENT) || refuse(haul, path, "cannot be opened: %s", strerror(errno));
    bool ok = take_open(haul, fd, path, !as_it_is && is_archive(fd));
    close(fd);
    return ok;
}

struct sought {
    const char *file;
    bool found;
};

static void seek_name(void *context, const char *file)
{
    struct sought *sought = context;
    sought->found = sought->found || strcmp(file, sought->file) == 0;
}

bool ebi_haul_take(struct ebi_haul *haul, const char *path)
{
    char beside[EB_PATH_BYTES];
    size_t first = haul->count;
    if (strlen(path) >= sizeof beside - 8)
        return refuse(haul, "a file", "found a longer name than can be used");
    if (!eb_text_printable(path))
        return refuse(haul, "a file",
                      "found control characters in its name, expected a name without: rename it");
    const char *slash = strrchr(path, '/');
    snprintf(beside, sizeof beside, "%s.json", path);
    struct sought sought = {slash != NULL ? slash + 1 : path, false};
    size_t size = 0;
    struct eb_problem unheard;
    uint8_t *bytes = ebi_file_read(beside, EB_MANIFEST_BYTES, &size, &unheard);
    each_named(bytes, size, seek_name, &sought);
    bool named = sought.found;
    bool ok = take_file(haul, path, named, false);
    bool bare = ok && haul->count == first + 1 && haul->leaves[first].archive == 0;
    if (bare && find_manifest(haul, &haul->leaves[first]) && !haul->leaves[first].manifest) {
        ok = take_file(haul, beside, true, true) &&
             (haul->count == first + 1 || find_manifest(haul, &haul->leaves[first + 1]));
        if (ok && haul->count == first + 2 && !haul->leaves[first + 1].manifest)
            drop_leaf(haul, first + 1);
    }
    if (!ok)
        drop_leaves(haul, first);
    return ok;
}
