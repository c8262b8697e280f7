/* A shelf as a folder for a web server: images/ab/ab12... as they are on the shelf, and index.json:
 *   {"einbau": "published/1", "made": TIME, "manifests": [{"text", "signature"}], "images": [{"digest",
 * "size", "content", "format", "origin", "by", "manifest": which of them, "place": in it}]} */
#include "image_file.h"
#include "sha256.h"
#include "shelf/published.h"

#include <errno.h>
#include <fcntl.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

/* What comes, until it is whole; one process at a time is at work here. */
static const char coming[] = "coming";

static bool failed(struct eb_problem *problem, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%.900s: %s", what, strerror(errno));
    return false;
}

bool ebi_copy_compared(int from, int to, const char *digest, bool *same)
{
    uint8_t chunk[1 << 16];
    uint8_t bytes[EB_SHA256_BYTES];
    char text[EB_DIGEST_TEXT_BYTES];
    uint64_t at = 0;
    ssize_t n;
    struct ebi_sha256 sha;
    ebi_sha256_begin(&sha);
    while ((n = read(from, chunk, sizeof chunk)) > 0 && (to < 0 || ebi_write_at(to, at, chunk, (size_t)n))) {
        ebi_sha256_add(&sha, chunk, (size_t)n);
        at += (uint64_t)n;
    }
    int why = errno;
    ebi_sha256_end(&sha, bytes);
    sodium_bin2hex(text, sizeof text, bytes, sizeof bytes);
    *same = strcmp(text, digest) == 0;
    errno = why;
    return n == 0;
}

/* Whether the folder has the image already, and it is right. */
static bool is_there(int part, const char *digest)
{
    bool same = false;
    int fd = openat(part, digest, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    bool ok = fd >= 0 && ebi_copy_compared(fd, -1, digest, &same);
    if (fd >= 0)
        close(fd);
    return ok && same;
}

static int open_coming(int dir)
{
    return openat(dir, coming, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, 0666);
}

/* A file that is whole comes to its place. */
static bool settle(int dir, int fd, int place, const char *name)
{
    bool ok = fsync(fd) == 0 && renameat(dir, coming, place, name) == 0 && fsync(place) == 0;
    int why = errno;
    close(fd);
    errno = why;
    return ok;
}

static bool put_image(struct eb_shelf *shelf, const struct eb_shelf_image *image, int dir, int part,
                      struct eb_problem *problem)
{
    bool same = false;
    int from = ebi_shelf_stored(shelf, image->digest);
    int to = from >= 0 ? open_coming(dir) : -1;
    bool read = to >= 0 && ebi_copy_compared(from, to, image->digest, &same);
    if (from >= 0)
        close(from);
    if (read && same)
        return settle(dir, to, part, image->digest) || failed(problem, image->origin);
    if (to >= 0)
        close(to);
    if (!read)
        return failed(problem, image->origin);
    snprintf(problem->text, sizeof problem->text,
             "%.900s: found other bytes on the shelf than its digest says, expected those: add it again",
             image->origin);
    return false;
}

/* Its folder, made where it is missing; -1 with errno. */
static int part_of(int images, const char *digest)
{
    char name[3];
    snprintf(name, sizeof name, "%.2s", digest);
    return mkdirat(images, name, 0777) == 0 || errno == EEXIST
               ? openat(images, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC)
               : -1;
}

static bool put_images(struct eb_shelf *shelf, const struct eb_shelf_image *list, size_t count, int dir,
                       size_t *written, struct eb_problem *problem)
{
    bool ok = true;
    mkdirat(dir, "images", 0777);
    int images = openat(dir, "images", O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
    if (images < 0)
        return failed(problem, "images");
    for (size_t i = 0; ok && i < count; i++) {
        int part = part_of(images, list[i].digest);
        ok = part >= 0 || failed(problem, list[i].digest);
        if (ok && !is_there(part, list[i].digest)) {
            ok = put_image(shelf, &list[i], dir, part, problem);
            *written += ok;
        }
        if (part >= 0)
            close(part);
    }
    ok = ok && (fsync(images) == 0 || failed(problem, "images"));
    close(images);
    return ok;
}

/* --- the index ----------------------------------------------------------------------------------- */

/* An image's entry; its manifest joins those of the document, once. */
static json_t *entry_of(struct eb_shelf *shelf, const struct eb_shelf_image *image, json_t *manifests,
                        json_t *places, struct eb_problem *problem)
{
    sqlite3_stmt *ask = ebi_shelf_ask_manifest(shelf, image->number, problem);
    if (ebi_sql_step(&shelf->sql, ask, problem) != 1) {
        ebi_sql_end(&shelf->sql, ask);
        return NULL;
    }
    char *text = ebi_shelf_whole_text(ask, 0);
    char *signature = ebi_shelf_whole_text(ask, 1);
    json_int_t place = sqlite3_column_int64(ask, 2);
    ebi_sql_end(&shelf->sql, ask);
    json_t *manifest = json_pack("{s:s, s:s}", "text", text, "signature", signature != NULL ? signature : "");
    char *key = json_dumps(manifest, JSON_COMPACT | JSON_SORT_KEYS);
    if (manifest == NULL || key == NULL)
        abort();
    const json_t *known = json_object_get(places, key);
    json_int_t which = known != NULL ? json_integer_value(known) : (json_int_t)json_array_size(manifests);
    if (known == NULL) {
        json_object_set_new(places, key, json_integer(which));
        json_array_append(manifests, manifest);
    }
    json_decref(manifest);
    free(key);
    free(text);
    free(signature);
    return json_pack("{s:s, s:I, s:I, s:s, s:s, s:s, s:I, s:I}", "digest", image->digest, "size",
                     (json_int_t)image->size_bytes, "content", (json_int_t)image->content_bytes, "format",
                     image->format, "origin", image->origin, "by", image->by, "manifest", which, "place",
                     place);
}

static json_t *index_of(struct eb_shelf *shelf, const struct eb_shelf_image *list, size_t count,
                        struct eb_problem *problem)
{
    json_t *images = json_array();
    json_t *manifests = json_array();
    json_t *places = json_object();
    json_t *entry = images;
    for (size_t i = 0; entry != NULL && i < count; i++) {
        entry = entry_of(shelf, &list[i], manifests, places, problem);
        json_array_append_new(images, entry);
    }
    json_decref(places);
    json_t *index =
        json_pack("{s:s, s:o, s:o}", "einbau", EBI_PUBLISHED, "manifests", manifests, "images", images);
    if (entry != NULL && index != NULL)
        return index;
    json_decref(index);
    return NULL;
}

/* Another file of that name is not replaced. */
static bool may_replace(int dir, struct eb_problem *problem)
{
    int fd = openat(dir, EBI_PUBLISHED_INDEX, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0 && errno == ENOENT)
        return true;
    json_error_t unheard;
    json_t *index = fd >= 0 ? json_loadfd(fd, 0, &unheard) : NULL;
    const char *word = json_string_value(json_object_get(index, "einbau"));
    bool ok = word != NULL && strcmp(word, EBI_PUBLISHED) == 0;
    json_decref(index);
    if (fd >= 0)
        close(fd);
    if (!ok)
        snprintf(problem->text, sizeof problem->text,
                 "%s: found another file of this name there, expected none, or that of an earlier 'einbau "
                 "shelf publish': choose another folder",
                 EBI_PUBLISHED_INDEX);
    return ok;
}

static bool put_index(int dir, const json_t *index, struct eb_problem *problem)
{
    char *text = json_dumps(index, JSON_INDENT(1));
    int fd = text != NULL ? open_coming(dir) : -1;
    bool ok = fd >= 0 && ebi_write_at(fd, 0, (const uint8_t *)text, strlen(text));
    free(text);
    if (!ok) {
        failed(problem, EBI_PUBLISHED_INDEX);
        if (fd >= 0)
            close(fd);
        return false;
    }
    return settle(dir, fd, dir, EBI_PUBLISHED_INDEX) || failed(problem, EBI_PUBLISHED_INDEX);
}

static bool publish(struct eb_shelf *shelf, int dir, size_t *count, size_t *written,
                    struct eb_problem *problem)
{
    struct eb_shelf_image *list = NULL;
    if (!may_replace(dir, problem))
        return false;
    /* The index is of one moment; an image that is dropped while files are written is found missing. */
    eb_shelf_hold(shelf);
    bool ok = eb_shelf_list(shelf, &list, count, problem);
    json_t *index = ok ? index_of(shelf, list, *count, problem) : NULL;
    eb_shelf_release(shelf);
    ok = index != NULL && put_images(shelf, list, *count, dir, written, problem) &&
         put_index(dir, index, problem);
    if (!ok)
        unlinkat(dir, coming, 0);
    json_decref(index);
    free(list);
    return ok;
}

bool eb_shelf_publish(struct eb_shelf *shelf, const char *folder, size_t *count, size_t *written,
                      struct eb_problem *problem)
{
    *count = *written = 0;
    if (!ebi_make_folders(folder, problem))
        return false;
    int dir = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    bool ok = dir >= 0 || failed(problem, folder);
    if (ok && flock(dir, LOCK_EX | LOCK_NB) != 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found another process that publishes there, expected none: wait for its end",
                 folder);
        ok = false;
    }
    ok = ok && publish(shelf, dir, count, written, problem);
    if (dir >= 0)
        close(dir);
    return ok;
}
