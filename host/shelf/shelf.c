#include "image_file.h"
#include "sha256.h"
#include "shelf/index.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

/* The folder of a shelf:
 *   index.db             what is there (index.c)
 *   images/ab/ab12...    each image once, under its digest
 *   coming/...           files of an `add` under way; each process has a folder, locked while it lives
 *   lock                 held for the moment in which files and index change together
 *
 * Somebody else may have made the shelf: everything is opened below one handle of its folder and never
 * through a symbolic link, and a digest of the index is no file name before it was looked at.
 */

static bool failed(struct eb_problem *problem, const char *path, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%.*s: %s: %s", EB_PATH_BYTES, path, what, strerror(errno));
    return false;
}

enum { FOLDER = O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC, CHUNK_BYTES = 65536 };

/* A folder below another one, made where it is missing; -1 with `problem` filled. */
static int make_folder(int dir, const char *name, struct eb_problem *problem)
{
    int fd = mkdirat(dir, name, 0777) == 0 || errno == EEXIST ? openat(dir, name, FOLDER) : -1;
    if (fd < 0)
        failed(problem, name, "this part of the shelf cannot be used");
    return fd;
}

/* Whether it may be used as the name of a file. */
static bool is_digest(const char *text)
{
    return strlen(text) == EB_DIGEST_TEXT_BYTES - 1 && strspn(text, "0123456789abcdef") == strlen(text);
}

int ebi_shelf_folder(const struct eb_shelf *shelf, const char *digest, bool make)
{
    char part[3];
    if (!is_digest(digest)) {
        errno = EINVAL;
        return -1;
    }
    int images = openat(shelf->dir, "images", FOLDER);
    snprintf(part, sizeof part, "%.2s", digest);
    if (images >= 0 && make && mkdirat(images, part, 0777) != 0 && errno != EEXIST) {
        close(images);
        return -1;
    }
    int fd = images >= 0 ? openat(images, part, FOLDER) : -1;
    int why = errno;
    if (images >= 0)
        close(images);
    errno = why;
    return fd;
}

/* -1 with errno. */
int ebi_shelf_stored(const struct eb_shelf *shelf, const char *digest)
{
    int folder = ebi_shelf_folder(shelf, digest, false);
    int fd = folder >= 0 ? openat(folder, digest, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC) : -1;
    int why = errno;
    if (folder >= 0)
        close(folder);
    errno = why;
    return fd;
}

/* The file is gone, or was never there. */
static bool remove_stored(const struct eb_shelf *shelf, const char *digest)
{
    int folder = ebi_shelf_folder(shelf, digest, false);
    if (folder < 0)
        return errno == ENOENT || errno == EINVAL; /* nothing was ever put under what is no digest */
    bool ok = unlinkat(folder, digest, 0) == 0 || errno == ENOENT;
    close(folder);
    return ok;
}

static bool make_parts(const struct eb_shelf *shelf, struct eb_problem *problem)
{
    static const char *const parts[] = {"images", "coming"};
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++) {
        int fd = make_folder(shelf->dir, parts[i], problem);
        if (fd < 0)
            return false;
        close(fd);
    }
    return true;
}

/* SQLite opens by name: none of its files may lead elsewhere. */
static bool index_fine(const struct eb_shelf *shelf, struct eb_problem *problem)
{
    static const char *const files[] = {"index.db", "index.db-journal", "index.db-wal", "index.db-shm"};
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        struct stat info;
        if (fstatat(shelf->dir, files[i], &info, AT_SYMLINK_NOFOLLOW) != 0 || S_ISREG(info.st_mode))
            continue;
        snprintf(
            problem->text, sizeof problem->text,
            "%s/%s: found a link, or something else that is no file, expected the index of a shelf. Do not "
            "use this shelf: nothing that einbau writes looks so",
            shelf->folder, files[i]);
        return false;
    }
    return true;
}

static bool open_lock(struct eb_shelf *shelf, struct eb_problem *problem)
{
    if (shelf->lock < 0)
        shelf->lock = openat(shelf->dir, "lock", O_RDWR | O_CREAT | O_NOFOLLOW | O_CLOEXEC, 0666);
    return shelf->lock >= 0 || failed(problem, shelf->folder, "its lock cannot be opened");
}

/* For SQL: whether a pattern of order codes matches one. */
static void matches(sqlite3_context *context, int count, sqlite3_value **values)
{
    const char *pattern = (const char *)sqlite3_value_text(values[0]);
    const char *code = (const char *)sqlite3_value_text(values[1]);
    sqlite3_result_int(context,
                       count == 2 && pattern != NULL && code != NULL && eb_pattern_matches(pattern, code));
}

struct eb_shelf *eb_shelf_open(const char *folder, bool make, struct eb_problem *problem)
{
    struct eb_shelf *shelf = calloc(1, sizeof *shelf);
    if (shelf == NULL || sodium_init() < 0) {
        free(shelf);
        snprintf(problem->text, sizeof problem->text, "out of memory");
        return NULL;
    }
    shelf->lock = -1;
    shelf->dir = -1;
    if (!eb_text_copy(shelf->folder, sizeof shelf->folder, folder)) {
        snprintf(problem->text, sizeof problem->text, "%.100s...: found a longer path than a shelf can have",
                 folder);
        free(shelf);
        return NULL;
    }
    bool ok = !make || ebi_make_folders(folder, problem);
    if (ok)
        shelf->dir = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (ok && make && shelf->dir < 0)
        ok = failed(problem, folder, "cannot be opened");
    if (ok && !make &&
        (shelf->dir < 0 || faccessat(shelf->dir, "index.db", F_OK, AT_SYMLINK_NOFOLLOW) != 0)) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found no shelf there, expected one: 'einbau shelf add FILE' makes it", folder);
        ok = false;
    }
    ok = ok && (!make || (make_parts(shelf, problem) && open_lock(shelf, problem))) &&
         index_fine(shelf, problem);
    if (ok && ebi_index_open(shelf, problem)) {
        sqlite3_create_function(shelf->sql.db, "matches", 2,
                                SQLITE_UTF8 | SQLITE_DETERMINISTIC | SQLITE_DIRECTONLY, NULL, matches, NULL,
                                NULL);
        return shelf;
    }
    eb_shelf_close(shelf);
    return NULL;
}

void eb_shelf_close(struct eb_shelf *shelf)
{
    if (shelf == NULL)
        return;
    ebi_sql_close(&shelf->sql);
    if (shelf->lock >= 0)
        close(shelf->lock);
    if (shelf->dir >= 0)
        close(shelf->dir);
    free(shelf);
}

void eb_shelf_hold(struct eb_shelf *shelf)
{
    sqlite3_exec(shelf->sql.db, "BEGIN", NULL, NULL, NULL);
}

void eb_shelf_release(struct eb_shelf *shelf)
{
    sqlite3_exec(shelf->sql.db, "COMMIT", NULL, NULL, NULL);
}

/* --- changing: files and index together ---------------------------------------------------------- */

static bool lock(struct eb_shelf *shelf, struct eb_problem *problem)
{
    return open_lock(shelf, problem) &&
           (flock(shelf->lock, LOCK_EX) == 0 || failed(problem, shelf->folder, "it cannot be locked"));
}

static void unlock(struct eb_shelf *shelf)
{
    flock(shelf->lock, LOCK_UN);
}

/* Removes the files that no image needs: what a killed process, or a drop, has left.  Under the lock. */
static bool sweep(struct eb_shelf *shelf, struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        "SELECT digest, (SELECT count(*) FROM images i WHERE i.digest = l.digest) FROM loose l", NULL);
    bool any = false;
    int step;
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        char digest[EB_DIGEST_TEXT_BYTES];
        any = true;
        ebi_sql_text(ask, 0, digest, sizeof digest);
        if (sqlite3_column_int64(ask, 1) == 0 && !remove_stored(shelf, digest)) {
            step = -1;
            failed(problem, digest, "this image cannot be removed");
            break;
        }
    }
    ebi_sql_end(&shelf->sql, ask);
    return step == 0 && (!any || ebi_sql_run(&shelf->sql, "DELETE FROM loose", problem));
}

void ebi_shelf_remove_folder(int parent, const char *name, int fd)
{
    DIR *dir = fdopendir(fd);
    const struct dirent *entry;
    while (dir != NULL && (entry = readdir(dir)) != NULL) {
        if (entry->d_name[0] != '.')
            unlinkat(dirfd(dir), entry->d_name, 0);
    }
    if (dir != NULL)
        closedir(dir);
    else
        close(fd);
    unlinkat(parent, name, AT_REMOVEDIR);
}

/* A folder of this process for what comes, and no folder of a dead one. */
struct coming {
    int parent; /* the folder "coming" */
    int dir;    /* this process's in it, locked; -1: it could not be made */
    char name[40];
};

static void close_coming(struct coming *c)
{
    if (c->dir >= 0) {
        unlinkat(c->parent, c->name, AT_REMOVEDIR);
        close(c->dir);
    }
    if (c->parent >= 0)
        close(c->parent);
}

/* Removes the folders of processes that have ended: their locks are free. */
static void clear_coming(int parent)
{
    int copy = openat(parent, ".", FOLDER);
    DIR *dir = copy >= 0 ? fdopendir(copy) : NULL;
    const struct dirent *entry;
    while (dir != NULL && (entry = readdir(dir)) != NULL) {
        int fd = entry->d_name[0] != '.' ? openat(parent, entry->d_name, FOLDER) : -1;
        if (fd >= 0 && flock(fd, LOCK_EX | LOCK_NB) == 0)
            ebi_shelf_remove_folder(parent, entry->d_name, fd);
        else if (fd >= 0)
            close(fd);
    }
    if (dir != NULL)
        closedir(dir);
}

static bool open_coming(struct eb_shelf *shelf, struct coming *c, struct eb_problem *problem)
{
    uint32_t salt = 0;
    *c = (struct coming){.parent = -1, .dir = -1};
    if (!lock(shelf, problem))
        return false;
    c->parent = make_folder(shelf->dir, "coming", problem);
    if (c->parent >= 0) {
        clear_coming(c->parent);
        if (getrandom(&salt, sizeof salt, 0) != (ssize_t)sizeof salt)
            salt = 0;
        snprintf(c->name, sizeof c->name, "%ld-%08x", (long)getpid(), salt);
        c->dir = make_folder(c->parent, c->name, problem);
        if (c->dir >= 0 && flock(c->dir, LOCK_EX | LOCK_NB) != 0) {
            failed(problem, c->name, "cannot be locked");
            close_coming(c);
            *c = (struct coming){.parent = -1, .dir = -1};
        }
    }
    unlock(shelf);
    return c->dir >= 0;
}

/* Writes the bytes of one image to a file of their own, if they are what its digest says. */
static bool write_image(const struct ebi_images *from, const struct ebi_image *image, int to,
                        struct eb_problem *problem)
{
    uint8_t chunk[CHUNK_BYTES];
    uint8_t digest[EB_SHA256_BYTES];
    struct ebi_sha256 sha;
    ebi_sha256_begin(&sha);
    for (uint64_t at = 0; at < image->bytes.size;) {
        uint64_t left = image->bytes.size - at;
        size_t size = left < sizeof chunk ? (size_t)left : sizeof chunk;
        if (ebi_bytes_read(&from->bytes, image->bytes.at + at, chunk, size) != EB_OK ||
            !ebi_write_at(to, at, chunk, size)) {
            ebi_sha256_end(&sha, NULL);
            return failed(problem, image->name, "this image cannot be copied");
        }
        if (!image->seen)
            ebi_sha256_add(&sha, chunk, size);
        at += size;
    }
    ebi_sha256_end(&sha, digest);
    if (image->seen || memcmp(digest, image->facts.sha256, sizeof digest) == 0)
        return true;
    snprintf(problem->text, sizeof problem->text,
             "%.900s: found other bytes than its digest says, expected those. Nothing was added",
             image->name);
    return false;
}

/* Brings one file to its place: whole, on disk, under its digest. */
static bool place_file(struct eb_shelf *shelf, const struct ebi_images *images, const struct ebi_image *image,
                       int coming, struct eb_problem *problem)
{
    static const char fresh[] = "image";
    const char *digest = image->row.digest;
    int folder = ebi_shelf_folder(shelf, digest, true);
    int fd =
        folder >= 0 ? openat(coming, fresh, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, 0666) : -1;
    bool written = fd >= 0 && write_image(images, image, fd, problem);
    bool ok = written && fsync(fd) == 0 && renameat(coming, fresh, folder, digest) == 0 && fsync(folder) == 0;
    if (!ok && (fd < 0 || written))
        failed(problem, digest, "this image cannot be put in its place");
    if (!ok && fd >= 0)
        unlinkat(coming, fresh, 0);
    if (fd >= 0)
        close(fd);
    if (folder >= 0)
        close(folder);
    return ok;
}

static bool note_loose(struct eb_shelf *shelf, const struct ebi_images *images, struct eb_problem *problem)
{
    bool ok = ebi_sql_run(&shelf->sql, "BEGIN IMMEDIATE", problem);
    for (size_t i = 0; ok && i < images->count; i++) {
        sqlite3_stmt *ask =
            EBI_SQL_ASK(&shelf->sql, problem, "INSERT OR IGNORE INTO loose (digest) VALUES (?)",
                        images->list[i].row.digest, NULL);
        ok = ebi_sql_step(&shelf->sql, ask, problem) == 0;
        ebi_sql_end(&shelf->sql, ask);
    }
    return ok && ebi_sql_run(&shelf->sql, "COMMIT", problem);
}

struct added {
    int64_t number;
    bool there;
};

static bool enter(struct eb_shelf *shelf, const struct ebi_images *images, struct added *added,
                  struct eb_problem *problem)
{
    char now[EB_TIME_TEXT_BYTES];
    time_t seconds = time(NULL);
    struct tm parts;
    strftime(now, sizeof now, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
    bool ok = ebi_sql_run(&shelf->sql, "BEGIN IMMEDIATE", problem);
    for (size_t i = 0; ok && i < images->count; i++)
        ok = ebi_index_add(shelf, &images->list[i], now, &added[i].number, &added[i].there, problem);
    return ok && ebi_sql_run(&shelf->sql, "DELETE FROM loose", problem) &&
           ebi_sql_run(&shelf->sql, "COMMIT", problem);
}

/* All images, or none. */
static bool commit(struct eb_shelf *shelf, const struct ebi_images *images, int coming, struct added *added,
                   struct eb_problem *problem)
{
    if (images->count == 0)
        return true;
    if (!lock(shelf, problem))
        return false;
    bool ok = sweep(shelf, problem) && note_loose(shelf, images, problem);
    for (size_t i = 0; ok && i < images->count; i++)
        ok = place_file(shelf, images, &images->list[i], coming, problem);
    ok = ok && enter(shelf, images, added, problem);
    if (!ok) {
        struct eb_problem unheard;
        sqlite3_exec(shelf->sql.db, "ROLLBACK", NULL, NULL, NULL);
        sweep(shelf, &unheard);
    }
    unlock(shelf);
    return ok;
}

static void tell_taken(struct eb_shelf *shelf, const struct eb_shelf_adding *adding,
                       const struct ebi_images *images, const struct added *added)
{
    for (size_t i = 0; i < images->count; i++) {
        char number[24];
        struct eb_problem unheard;
        struct eb_shelf_told told = {.what = added[i].there ? EB_SHELF_THERE : EB_SHELF_TAKEN,
                                     .name = images->list[i].name,
                                     .image = images->list[i].row};
        snprintf(number, sizeof number, "%lld", (long long)added[i].number);
        if (!eb_shelf_find(shelf, number, &told.image, &unheard))
            told.image = images->list[i].row; /* another process has dropped it since */
        adding->told(adding->context, &told);
    }
}

#define NO_IMAGES                                                                                            \
    {                                                                                                        \
        .fd = -1, .bytes = {.given = -1, .unpacked = -1 }                                                    \
    }

bool eb_shelf_add(struct eb_shelf *shelf, const struct eb_shelf_adding *adding, struct eb_problem *problem)
{
    struct ebi_images images = NO_IMAGES;
    struct added *added = NULL;
    struct coming coming;
    bool ok = open_coming(shelf, &coming, problem) && ebi_images_open(&images, coming.dir, problem) &&
              ebi_take(&images, adding, false, problem);
    if (ok) {
        added = calloc(images.count + 1, sizeof *added);
        ok = added != NULL && commit(shelf, &images, coming.dir, added, problem);
    }
    if (ok)
        tell_taken(shelf, adding, &images, added);
    free(added);
    ebi_images_free(&images);
    close_coming(&coming);
    return ok;
}

bool eb_files_check(const struct eb_shelf_adding *adding, struct eb_problem *problem)
{
    struct ebi_images images = NO_IMAGES;
    bool ok = ebi_images_open(&images, -1, problem) && ebi_take(&images, adding, true, problem);
    for (size_t i = 0; ok && i < images.count; i++) {
        const struct ebi_image *image = &images.list[i];
        const struct eb_shelf_told told = {.what = EB_SHELF_TAKEN,
                                           .name = image->name,
                                           .image = image->row,
                                           .facts = &image->facts,
                                           .signer = image->signed_fine ? &image->signer : NULL};
        adding->told(adding->context, &told);
    }
    ebi_images_free(&images);
    return ok;
}

bool eb_shelf_drop(struct eb_shelf *shelf, int64_t number, struct eb_problem *problem)
{
    char sql[600];
    long long n = number;
    snprintf(
        sql, sizeof sql,
        "BEGIN IMMEDIATE;"
        "INSERT OR IGNORE INTO loose SELECT digest FROM images WHERE number = %lld;"
        "DELETE FROM codes WHERE image = %lld;"
        "DELETE FROM images WHERE number = %lld;"
        "DELETE FROM manifests WHERE NOT EXISTS (SELECT 1 FROM images i WHERE i.manifest = manifests.id);"
        "COMMIT;",
        n, n, n);
    if (!lock(shelf, problem))
        return false;
    bool ok = ebi_sql_run(&shelf->sql, sql, problem);
    if (!ok)
        sqlite3_exec(shelf->sql.db, "ROLLBACK", NULL, NULL, NULL);
    ok = ok && sweep(shelf, problem);
    unlock(shelf);
    return ok;
}

/* --- another shelf ------------------------------------------------------------------------------- */

/* Brings one image of this shelf to those for the other one. */
static bool bring(struct eb_shelf *shelf, int64_t number, struct ebi_images *images, struct ebi_image *image,
                  struct eb_problem *problem)
{
    char name[24];
    struct eb_manifest manifest;
    snprintf(name, sizeof name, "%lld", (long long)number);
    if (!eb_shelf_find(shelf, name, &image->row, problem))
        return false;
    sqlite3_stmt *ask = ebi_shelf_ask_manifest(shelf, number, problem);
    bool ok = ebi_sql_step(&shelf->sql, ask, problem) == 1;
    if (ok) {
        image->manifest = ebi_shelf_whole_text(ask, 0);
        image->signature = ebi_shelf_whole_text(ask, 1);
        image->place = (size_t)sqlite3_column_int64(ask, 2);
        image->name = strdup(image->row.origin);
    }
    ebi_sql_end(&shelf->sql, ask);
    if (!ok || !eb_manifest_read("the shelf", image->manifest, strlen(image->manifest), &manifest, problem))
        return false;
    if (image->place < manifest.count)
        image->facts = manifest.images[image->place].facts;
    eb_manifest_free(&manifest);
    /* The index may be of another hand: the digest by which the file is found is what counts. */
    if (!is_digest(image->row.digest)) {
        snprintf(problem->text, sizeof problem->text, "%s: found no digest, expected one", image->row.origin);
        return false;
    }
    sodium_hex2bin(image->facts.sha256, EB_SHA256_BYTES, image->row.digest, strlen(image->row.digest), NULL,
                   NULL, NULL);
    int fd = ebi_shelf_stored(shelf, image->row.digest);
    struct ebi_sum sum = {.always = true};
    ok = (fd >= 0 && ebi_take_bytes(images, fd, &image->bytes, &sum)) ||
         failed(problem, image->row.origin, "this image of the shelf cannot be copied");
    ok = ok && ebi_shelf_same_digest(&image->row, sum.sha256, problem);
    image->seen = ok;
    if (fd >= 0)
        close(fd);
    return ok;
}

bool eb_shelf_copy(struct eb_shelf *shelf, const char *folder, const int64_t *numbers, size_t count,
                   size_t *copied, struct eb_problem *problem)
{
    struct ebi_images images = NO_IMAGES;
    images.list = calloc(count + 1, sizeof *images.list);
    struct added *added = calloc(count + 1, sizeof *added);
    struct eb_shelf *other = eb_shelf_open(folder, true, problem);
    struct coming coming = {.parent = -1, .dir = -1};
    bool ok = other != NULL && images.list != NULL && added != NULL && open_coming(other, &coming, problem) &&
              ebi_images_open(&images, coming.dir, problem);
    for (size_t i = 0; ok && i < count; i++) {
        images.count = i + 1;
        ok = bring(shelf, numbers[i], &images, &images.list[i], problem);
    }
    ok = ok && commit(other, &images, coming.dir, added, problem);
    *copied = 0;
    for (size_t i = 0; ok && i < count; i++)
        *copied += !added[i].there;
    ebi_images_free(&images);
    close_coming(&coming);
    eb_shelf_close(other);
    free(added);
    return ok;
}
