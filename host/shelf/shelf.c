#include "image_file.h"
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

/* The folder that an image is in, below images/; made where `make`. -1 with errno. */
static int image_folder(const struct eb_shelf *shelf, const char *digest, bool make)
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
static int open_stored(const struct eb_shelf *shelf, const char *digest)
{
    int folder = image_folder(shelf, digest, false);
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
    int folder = image_folder(shelf, digest, false);
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

/* Empties a folder, whose descriptor is closed, and removes it. */
static void remove_folder(int parent, const char *name, int fd)
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
            remove_folder(parent, entry->d_name, fd);
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
    crypto_hash_sha256_state state;
    crypto_hash_sha256_init(&state);
    for (uint64_t at = 0; at < image->bytes.size;) {
        uint64_t left = image->bytes.size - at;
        size_t size = left < sizeof chunk ? (size_t)left : sizeof chunk;
        if (ebi_bytes_read(&from->bytes, image->bytes.at + at, chunk, size) != EB_OK ||
            !ebi_write_at(to, at, chunk, size))
            return failed(problem, image->name, "this image cannot be copied");
        crypto_hash_sha256_update(&state, chunk, size);
        at += size;
    }
    crypto_hash_sha256_final(&state, digest);
    if (memcmp(digest, image->facts.sha256, sizeof digest) == 0)
        return true;
    snprintf(problem->text, sizeof problem->text,
             "%.900s: found other bytes than its digest says, once it was unpacked, expected those. Nothing "
             "was added",
             image->name);
    return false;
}

/* Brings one file to its place: whole, on disk, under its digest. */
static bool place_file(struct eb_shelf *shelf, const struct ebi_images *images, const struct ebi_image *image,
                       int coming, struct eb_problem *problem)
{
    static const char fresh[] = "image";
    const char *digest = image->row.digest;
    int folder = image_folder(shelf, digest, true);
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

/* --- looking ------------------------------------------------------------------------------------- */

static int by_version(const struct eb_shelf_image *a, const struct eb_shelf_image *b)
{
    enum eb_comparison c = eb_version_compare(&a->order, b->version, a->version);
    return c == EB_CANNOT_TELL ? strcmp(b->version, a->version) : (int)c;
}

/* Products by name, newest first. */
static int by_product(const void *one, const void *other)
{
    const struct eb_shelf_image *a = one;
    const struct eb_shelf_image *b = other;
    int c = strcmp(a->product, b->product);
    c = c != 0 ? c : strcmp(a->order_codes, b->order_codes);
    c = c != 0 ? c : strcmp(a->component, b->component);
    c = c != 0 ? c : by_version(a, b);
    return c != 0 ? c : (a->number < b->number) - (a->number > b->number);
}

bool eb_shelf_list(struct eb_shelf *shelf, struct eb_shelf_image **images, size_t *count,
                   struct eb_problem *problem)
{
    size_t cap = 0;
    int step;
    *images = NULL;
    *count = 0;
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem, "SELECT " EBI_IMAGE_COLUMNS " FROM images i", NULL);
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        if (*count == cap) {
            cap = cap == 0 ? 64 : 2 * cap;
            struct eb_shelf_image *more = realloc(*images, cap * sizeof *more);
            if (more == NULL)
                abort();
            *images = more;
        }
        ebi_index_row(ask, &(*images)[(*count)++]);
    }
    ebi_sql_end(&shelf->sql, ask);
    if (*count > 1)
        qsort(*images, *count, sizeof **images, by_product);
    if (step == 0)
        return true;
    free(*images);
    *images = NULL;
    return false;
}

bool eb_shelf_find(struct eb_shelf *shelf, const char *name, struct eb_shelf_image *image,
                   struct eb_problem *problem)
{
    enum { DIGITS_LEAST = 8 };
    size_t length = strlen(name);
    bool is_number = length < DIGITS_LEAST && strspn(name, "0123456789") == length && length > 0;
    char pattern[EB_DIGEST_TEXT_BYTES + 1];
    if (!is_number && (length < DIGITS_LEAST || length >= EB_DIGEST_TEXT_BYTES ||
                       strspn(name, "0123456789abcdef") != length)) {
        snprintf(problem->text, sizeof problem->text,
                 "found '%.80s', expected the number of an image, as 'einbau shelf list' shows it, or at "
                 "least the "
                 "first 8 digits of its digest",
                 name);
        return false;
    }
    snprintf(pattern, sizeof pattern, "%s*", name);
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        is_number ? "SELECT " EBI_IMAGE_COLUMNS " FROM images i WHERE i.number = CAST(?1 AS INTEGER)"
                  : "SELECT " EBI_IMAGE_COLUMNS " FROM images i WHERE i.digest GLOB ?1 ORDER BY i.number",
        is_number ? name : pattern, NULL);
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    if (step == 1)
        ebi_index_row(ask, image);
    bool more = step == 1 && ebi_sql_step(&shelf->sql, ask, problem) == 1;
    ebi_sql_end(&shelf->sql, ask);
    if (step == 0)
        snprintf(problem->text, sizeof problem->text,
                 "found no image %s on the shelf, expected one that 'einbau shelf list' shows", name);
    if (more)
        snprintf(problem->text, sizeof problem->text,
                 "found several images whose digest begins with %s, expected one: give its number", name);
    return step == 1 && !more;
}

static sqlite3_stmt *ask_manifest(struct eb_shelf *shelf, int64_t number, struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem,
                                    "SELECT m.text, m.signature, i.place FROM images i JOIN manifests m ON "
                                    "m.id = i.manifest WHERE i.number = ?1",
                                    NULL);
    if (ask != NULL)
        sqlite3_bind_int64(ask, 1, number);
    return ask;
}

/* A text of the index in full, freed by the caller; empty where there is none, as another hand may have
 * written it. */
static char *whole_text(sqlite3_stmt *ask, int column)
{
    const char *text = (const char *)sqlite3_column_text(ask, column);
    char *copy = strdup(text != NULL ? text : "");
    if (copy == NULL)
        abort();
    return copy;
}

char *eb_shelf_manifest(struct eb_shelf *shelf, int64_t number, const struct eb_trust *trust,
                        enum eb_signature *signature, struct eb_problem *problem)
{
    sqlite3_stmt *ask = ask_manifest(shelf, number, problem);
    char *text = NULL;
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    if (step == 1) {
        text = whole_text(ask, 0);
        *signature = eb_manifest_verify(text, strlen(text), (const char *)sqlite3_column_text(ask, 1), trust);
    } else if (step == 0) {
        snprintf(problem->text, sizeof problem->text, "found no image %lld on the shelf any more",
                 (long long)number);
    }
    ebi_sql_end(&shelf->sql, ask);
    return text;
}

static int by_newest(const void *one, const void *other, void *order)
{
    const struct eb_shelf_candidate *a = one;
    const struct eb_shelf_candidate *b = other;
    enum eb_comparison c = eb_version_compare(order, b->version, a->version);
    int d = c == EB_CANNOT_TELL ? strcmp(b->version, a->version) : (int)c;
    return d != 0 ? d : (a->number < b->number) - (a->number > b->number);
}

static struct eb_shelf_said *read_said(sqlite3_stmt *ask, const struct eb_manifest *manifest)
{
    struct eb_shelf_said *said = calloc(1, sizeof *said);
    size_t place = (size_t)sqlite3_column_int64(ask, EBI_IMAGE_COLUMN_COUNT + 2);
    if (said == NULL)
        abort();
    ebi_index_row(ask, &said->image);
    /* Where the index was changed by another hand, facts of zeros are for nothing. */
    if (place < manifest->count)
        said->facts = manifest->images[place].facts;
    said->file.size_bytes = said->image.size_bytes;
    said->file.content_bytes = said->image.content_bytes;
    sodium_hex2bin(said->file.sha256, EB_SHA256_BYTES, said->image.digest, strlen(said->image.digest), NULL,
                   NULL, NULL);
    return said;
}

bool eb_shelf_facts(struct eb_shelf *shelf, const struct eb_trust *trust, struct eb_shelf_candidate *c,
                    struct eb_problem *problem)
{
    struct eb_manifest manifest;
    if (c->said != NULL)
        return true;
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem,
                                    "SELECT " EBI_IMAGE_COLUMNS ", m.text, m.signature, i.place FROM images i"
                                    " JOIN manifests m ON m.id = i.manifest WHERE i.number = ?1",
                                    NULL);
    if (ask == NULL)
        return false;
    sqlite3_bind_int64(ask, 1, c->number);
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    const char *text = step == 1 ? (const char *)sqlite3_column_text(ask, EBI_IMAGE_COLUMN_COUNT) : NULL;
    if (step == 0)
        snprintf(problem->text, sizeof problem->text, "found no image %lld on the shelf any more",
                 (long long)c->number);
    if (step == 1 && text == NULL)
        snprintf(problem->text, sizeof problem->text,
                 "found no manifest for image %lld of the shelf, expected one: its index is damaged. Drop "
                 "the image "
                 "and add it again",
                 (long long)c->number);
    if (text != NULL && eb_manifest_read("the shelf", text, strlen(text), &manifest, problem)) {
        const char *signature = (const char *)sqlite3_column_text(ask, EBI_IMAGE_COLUMN_COUNT + 1);
        c->said = read_said(ask, &manifest);
        c->said->facts.signature = eb_manifest_verify(text, strlen(text), signature, trust);
        eb_manifest_free(&manifest);
    }
    ebi_sql_end(&shelf->sql, ask);
    return c->said != NULL;
}

void eb_shelf_candidates_free(struct eb_shelf_candidate *candidates, size_t count)
{
    for (size_t i = 0; i < count; i++)
        free(candidates[i].said);
    free(candidates);
}

bool eb_shelf_candidates(struct eb_shelf *shelf, const struct eb_component_profile *component,
                         const char *order_code, bool others, struct eb_shelf_candidate **candidates,
                         size_t *count, struct eb_problem *problem)
{
    bool all = others || order_code[0] == '\0';
    struct eb_version_order order = component->order;
    size_t cap = 0;
    int step;
    *candidates = NULL;
    *count = 0;
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        all ? "SELECT number, version FROM images WHERE component = ?1"
            : "SELECT number, version FROM images WHERE number IN"
              " (SELECT image FROM codes WHERE component = ?1 AND pattern = ?2"
              "  UNION SELECT image FROM codes WHERE component = ?1 AND wild AND matches(pattern, ?2))",
        component->name, all ? NULL : order_code, NULL);
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        if (*count == cap) {
            cap = cap == 0 ? 16 : 2 * cap;
            struct eb_shelf_candidate *more = realloc(*candidates, cap * sizeof *more);
            if (more == NULL)
                abort();
            *candidates = more;
        }
        struct eb_shelf_candidate *c = &(*candidates)[(*count)++];
        *c = (struct eb_shelf_candidate){.number = sqlite3_column_int64(ask, 0)};
        ebi_sql_text(ask, 1, c->version, sizeof c->version);
    }
    ebi_sql_end(&shelf->sql, ask);
    if (*count > 1)
        qsort_r(*candidates, *count, sizeof **candidates, by_newest, &order);
    return step == 0;
}

/* --- files --------------------------------------------------------------------------------------- */

struct eb_image *eb_shelf_image_open(struct eb_shelf *shelf, const struct eb_shelf_candidate *candidate,
                                     struct eb_problem *problem)
{
    const struct eb_shelf_said *said = candidate->said;
    if (said == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "what is said of image %lld of the shelf could not be read, so it cannot be used",
                 (long long)candidate->number);
        return NULL;
    }
    struct eb_image *image =
        ebi_image_new(open_stored(shelf, said->image.digest), said->image.origin, problem);
    if (image == NULL)
        return NULL;
    image->facts = said->facts;
    /* What was damaged on the shelf need not be readable in its format any more: the digest is what tells. */
    bool ok = ebi_image_keep(image, problem) && ebi_image_load(image, "raw", problem);
    if (ok && memcmp(image->found.sha256, said->file.sha256, EB_SHA256_BYTES) == 0 &&
        strcmp(said->image.format, "raw") != 0)
        ok = ebi_image_load(image, said->image.format, problem);
    if (ok)
        return image;
    eb_image_close(image);
    return NULL;
}

bool eb_shelf_check(struct eb_shelf *shelf, const struct eb_shelf_image *image, struct eb_problem *problem)
{
    char found[EB_DIGEST_TEXT_BYTES];
    struct eb_image *file = ebi_image_new(open_stored(shelf, image->digest), image->origin, problem);
    bool ok = file != NULL && ebi_image_load(file, "raw", problem);
    if (ok) {
        sodium_bin2hex(found, sizeof found, file->found.sha256, EB_SHA256_BYTES);
        ok = strcmp(found, image->digest) == 0;
        if (!ok)
            snprintf(problem->text, sizeof problem->text,
                     "found the digest %.16s... in the file of image %lld, expected %.16s...: it is damaged; "
                     "drop it and "
                     "add it again",
                     found, (long long)image->number, image->digest);
    }
    eb_image_close(file);
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
    sqlite3_stmt *ask = ask_manifest(shelf, number, problem);
    bool ok = ebi_sql_step(&shelf->sql, ask, problem) == 1;
    if (ok) {
        image->manifest = whole_text(ask, 0);
        image->signature = whole_text(ask, 1);
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
    if (!is_digest(image->row.digest) || !eb_shelf_check(shelf, &image->row, problem))
        return false;
    sodium_hex2bin(image->facts.sha256, EB_SHA256_BYTES, image->row.digest, strlen(image->row.digest), NULL,
                   NULL, NULL);
    int fd = open_stored(shelf, image->row.digest);
    ok = (fd >= 0 && ebi_take_bytes(images, fd, &image->bytes)) ||
         failed(problem, image->row.origin, "this image of the shelf cannot be copied");
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
