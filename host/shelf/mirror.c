/* The index of a shelf on a web server as a shelf without files, for the same questions; and images from
 * there. */
#include "image_file.h"
#include "shelf/published.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

/* What is read of an index takes so many times its text's bytes, where it is one. */
enum { INDEX_BYTES_MAX = 64 << 20, TIMES_MAX = 16, FOLDER = O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC };

static enum eb_status wrong(struct eb_problem *problem, const char *url, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%.400s/%s: %s", url, EBI_PUBLISHED_INDEX, what);
    return EB_GARBAGE;
}

/* A text of the index, as far as it may be shown and kept. */
static bool take_text(const json_t *entry, const char *key, char *to, size_t cap)
{
    const char *text = json_string_value(json_object_get(entry, key));
    return text != NULL && eb_text_printable(text) && eb_text_copy(to, cap, text);
}

/* Fills in one image as the server describes it; false: it is none.  Nothing of it is believed that its
 * manifest, which may be signed, says otherwise. */
static bool take_entry(const struct eb_shelf_server *server, const json_t *entry, const json_t *manifests,
                       struct ebi_image *image)
{
    const json_t *manifest =
        json_array_get(manifests, (size_t)json_integer_value(json_object_get(entry, "manifest")));
    const char *text = json_string_value(json_object_get(manifest, "text"));
    const char *signature = json_string_value(json_object_get(manifest, "signature"));
    json_int_t content = json_integer_value(json_object_get(entry, "content"));
    json_int_t place = json_integer_value(json_object_get(entry, "place"));
    char digest[EB_DIGEST_TEXT_BYTES];
    *image = (struct ebi_image){.place = place >= 0 ? (size_t)place : 0};
    if (text == NULL || signature == NULL || content < 0 || place < 0 ||
        !take_text(entry, "digest", digest, sizeof digest) ||
        !take_text(entry, "format", image->row.format, sizeof image->row.format) ||
        !take_text(entry, "origin", image->row.origin, sizeof image->row.origin) ||
        !take_text(entry, "by", image->row.by, sizeof image->row.by))
        return false;
    image->manifest = strdup(text);
    image->signature = strdup(signature);
    image->name = strdup(image->row.origin);
    if (image->manifest == NULL || image->signature == NULL || image->name == NULL)
        abort();
    image->row.content_bytes = (uint64_t)content;
    return ebi_image_describe(image, image->row.origin, server->profiles, server->profile_count) &&
           strcmp(image->row.digest, digest) == 0 &&
           (json_int_t)image->row.size_bytes == json_integer_value(json_object_get(entry, "size"));
}

static enum eb_status enter(const struct eb_shelf_server *server, struct eb_shelf *mirror,
                            const json_t *entry, const json_t *manifests, struct eb_problem *problem)
{
    struct ebi_image image;
    int64_t number;
    bool there;
    enum eb_status status = EB_OK;
    if (take_entry(server, entry, manifests, &image)) {
        const char *why =
            ebi_image_why_refused(&image, strcmp(image.row.by, "its manifest") != 0, server->trust);
        if (why != NULL)
            server->refused(server->context, image.name, why);
        else if (!ebi_index_add(mirror, &image, "", &number, &there, problem))
            status = EB_IO;
    } else {
        status =
            wrong(problem, server->url,
                  "found an image that is not described as it should be, expected the index that 'einbau "
                  "shelf publish' writes: publish it again");
    }
    ebi_image_free(&image);
    return status;
}

static enum eb_status enter_all(const struct eb_shelf_server *server, struct eb_shelf *mirror,
                                const json_t *index, struct eb_problem *problem)
{
    const char *word = json_string_value(json_object_get(index, "einbau"));
    const json_t *images = json_object_get(index, "images");
    const json_t *manifests = json_object_get(index, "manifests");
    size_t i;
    json_t *entry;
    if (word == NULL || strncmp(word, "published/", 10) != 0 || !json_is_array(images) ||
        !json_is_array(manifests))
        return wrong(problem, server->url, "found another file, expected the index of a published shelf");
    if (strcmp(word, EBI_PUBLISHED) != 0)
        return wrong(problem, server->url,
                     "found a newer form than this einbau can read, expected " EBI_PUBLISHED
                     ": install the newer one");
    if (!ebi_sql_run(&mirror->sql,
                     "BEGIN IMMEDIATE; DELETE FROM codes; DELETE FROM images; DELETE FROM manifests;",
                     problem))
        return EB_IO;
    enum eb_status status = EB_OK;
    for (i = 0; status == EB_OK && (entry = json_array_get(images, i)) != NULL; i++)
        status = enter(server, mirror, entry, manifests, problem);
    if (status == EB_OK && !ebi_sql_run(&mirror->sql, "COMMIT", problem))
        status = EB_IO;
    if (status != EB_OK)
        sqlite3_exec(mirror->sql.db, "ROLLBACK", NULL, NULL, NULL);
    return status;
}

static size_t allowed; /* bytes of memory that may still be taken while an index is read */

static void *take_memory(size_t size)
{
    if (size > allowed)
        return NULL;
    allowed -= size;
    return malloc(size);
}

/* A text that means to fill the memory is no index. */
static json_t *parse(const char *text, size_t size)
{
    json_error_t unheard;
    json_malloc_t usual_malloc;
    json_free_t usual_free;
    json_get_alloc_funcs(&usual_malloc, &usual_free);
    allowed = TIMES_MAX * size + (1 << 20);
    json_set_alloc_funcs(take_memory, free);
    json_t *index = json_loadb(text, size, JSON_REJECT_DUPLICATES, &unheard);
    json_set_alloc_funcs(usual_malloc, usual_free);
    return index;
}

/* The server's index, or NULL. */
static json_t *read_index(const struct eb_shelf_server *server, enum eb_status *status,
                          struct eb_problem *problem)
{
    char *text = NULL;
    size_t size = 0;
    struct ebi_download *download = ebi_download_open(server, problem);
    *status = EB_IO;
    if (download != NULL)
        *status = ebi_download_text(download, EBI_PUBLISHED_INDEX, INDEX_BYTES_MAX, &text, &size, problem);
    ebi_download_close(download);
    json_t *index = *status == EB_OK ? parse(text, size) : NULL;
    free(text);
    if (*status == EB_OK && index == NULL)
        *status = wrong(problem, server->url, "found no valid JSON, expected the index of a published shelf");
    return index;
}

/* Where the index and the parts of this server's files are: a folder for each address, never behind a link.
 */
static bool make_folder(const struct eb_shelf *shelf, const char *url, char folder[EB_PATH_BYTES],
                        struct eb_problem *problem)
{
    uint8_t bytes[8];
    char name[2 * sizeof bytes + 1];
    crypto_generichash(bytes, sizeof bytes, (const uint8_t *)url, strlen(url), NULL, 0);
    sodium_bin2hex(name, sizeof name, bytes, sizeof bytes);
    snprintf(folder, EB_PATH_BYTES, "%s/fetched/%s", shelf->folder, name);
    mkdirat(shelf->dir, "fetched", 0777);
    int fetched = openat(shelf->dir, "fetched", FOLDER);
    int own = -1;
    if (fetched >= 0 && (mkdirat(fetched, name, 0777) == 0 || errno == EEXIST))
        own = openat(fetched, name, FOLDER);
    if (own < 0)
        snprintf(problem->text, sizeof problem->text, "%s: this part of the shelf cannot be used: %s", folder,
                 strerror(errno));
    if (fetched >= 0)
        close(fetched);
    if (own >= 0)
        close(own);
    return own >= 0;
}

enum eb_status eb_shelf_mirror(const struct eb_shelf_server *server, const struct eb_shelf *shelf,
                               struct eb_shelf **mirror, struct eb_problem *problem)
{
    char folder[EB_PATH_BYTES];
    enum eb_status status;
    json_t *index = read_index(server, &status, problem);
    *mirror = NULL;
    if (index == NULL)
        return status;
    if (make_folder(shelf, server->url, folder, problem))
        *mirror = eb_shelf_open(folder, true, problem);
    if (*mirror == NULL) {
        status = EB_IO;
    } else if (flock((*mirror)->dir, LOCK_EX | LOCK_NB) != 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found another process that fetches from there, expected none: wait for its end",
                 server->url);
        status = EB_BUSY;
    } else {
        status = enter_all(server, *mirror, index, problem);
    }
    json_decref(index);
    if (status == EB_OK)
        return EB_OK;
    eb_shelf_close(*mirror);
    *mirror = NULL;
    return status;
}

/* --- its files ----------------------------------------------------------------------------------- */

/* The file of an image in the mirror, which may hold a part of it; -1 with `problem` filled. */
static int open_part(const struct eb_shelf *mirror, const char *digest, struct eb_problem *problem)
{
    int folder = ebi_shelf_folder(mirror, digest, true);
    int fd = folder >= 0
                 ? openat(folder, digest, O_RDWR | O_CREAT | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC, 0666)
                 : -1;
    if (fd < 0)
        snprintf(problem->text, sizeof problem->text, "%s: %s", digest, strerror(errno));
    if (folder >= 0)
        close(folder);
    return fd;
}

static bool is_right(int fd, const char *digest)
{
    bool same = false;
    return lseek(fd, 0, SEEK_SET) == 0 && ebi_copy_compared(fd, -1, digest, &same) && same;
}

/* One image, whole and with its digest.  A part of an earlier call that was something else is fetched anew,
 * once. */
static enum eb_status bring(struct ebi_download *download, struct eb_shelf *mirror,
                            const struct eb_shelf_image *image, struct eb_problem *problem)
{
    char name[EB_DIGEST_TEXT_BYTES + 16];
    struct stat info = {0};
    snprintf(name, sizeof name, "images/%.2s/%s", image->digest, image->digest);
    int fd = open_part(mirror, image->digest, problem);
    if (fd < 0)
        return EB_IO;
    bool begun = fstat(fd, &info) == 0 && info.st_size > 0;
    enum eb_status status = ebi_download_file(download, name, image->origin, fd, image->size_bytes, problem);
    bool right = status == EB_OK && is_right(fd, image->digest);
    if (status == EB_OK && !right && begun && ftruncate(fd, 0) == 0) {
        status = ebi_download_file(download, name, image->origin, fd, image->size_bytes, problem);
        right = status == EB_OK && is_right(fd, image->digest);
    }
    if (status == EB_OK && !right) {
        snprintf(problem->text, sizeof problem->text,
                 "%.500s: found other bytes on the server than its digest says, expected those: publish it "
                 "again. Nothing of it was kept",
                 image->origin);
        status = ftruncate(fd, 0) == 0 ? EB_GARBAGE : EB_IO;
    }
    close(fd);
    return status;
}

/* Whether the shelf has the image already, with the same said of it. */
static bool has_same(struct eb_shelf *shelf, int64_t own, struct eb_shelf *mirror, int64_t number,
                     const struct eb_trust *trust)
{
    enum eb_signature signatures[2];
    struct eb_problem unheard;
    char *texts[] = {eb_shelf_manifest(shelf, own, trust, &signatures[0], &unheard),
                     eb_shelf_manifest(mirror, number, trust, &signatures[1], &unheard)};
    bool same = texts[0] != NULL && texts[1] != NULL && strcmp(texts[0], texts[1]) == 0 &&
                signatures[0] == signatures[1];
    free(texts[0]);
    free(texts[1]);
    return same;
}

/* The file of an image that the shelf has, for which the server says something else. */
static void seed(struct eb_shelf *shelf, struct eb_shelf *mirror, const struct eb_shelf_image *image)
{
    struct eb_problem unheard;
    int from = ebi_shelf_stored(shelf, image->digest);
    int to = from >= 0 ? open_part(mirror, image->digest, &unheard) : -1;
    if (to >= 0 && ftruncate(to, 0) == 0) {
        while (copy_file_range(from, NULL, to, NULL, 1 << 30, 0) > 0)
            ;
    }
    if (from >= 0)
        close(from);
    if (to >= 0)
        close(to);
}

/* What was fetched is on the shelf now. */
static void clear_files(const struct eb_shelf *mirror)
{
    int images = openat(mirror->dir, "images", FOLDER);
    DIR *parts = images >= 0 ? fdopendir(images) : NULL;
    const struct dirent *part;
    while (parts != NULL && (part = readdir(parts)) != NULL) {
        int fd = part->d_name[0] != '.' ? openat(dirfd(parts), part->d_name, FOLDER) : -1;
        if (fd >= 0)
            ebi_shelf_remove_folder(dirfd(parts), part->d_name, fd);
    }
    if (parts != NULL)
        closedir(parts);
    else if (images >= 0)
        close(images);
}

enum eb_status eb_shelf_fetch(const struct eb_shelf_server *server, struct eb_shelf *mirror,
                              struct eb_shelf *shelf, const int64_t *numbers, size_t count, size_t *brought,
                              struct eb_problem *problem)
{
    enum eb_status status = EB_OK;
    int64_t *missing = calloc(count + 1, sizeof *missing);
    size_t missing_count = 0;
    *brought = 0;
    struct ebi_download *download = ebi_download_open(server, problem);
    if (missing == NULL)
        abort();
    if (download == NULL)
        status = EB_IO;
    for (size_t i = 0; status == EB_OK && i < count; i++) {
        char name[24];
        struct eb_shelf_image image;
        struct eb_shelf_image own;
        struct eb_problem unheard;
        snprintf(name, sizeof name, "%lld", (long long)numbers[i]);
        if (!eb_shelf_find(mirror, name, &image, problem)) {
            status = EB_BAD_CALL;
            continue;
        }
        bool there = eb_shelf_find(shelf, image.digest, &own, &unheard);
        if (there && has_same(shelf, own.number, mirror, numbers[i], server->trust))
            continue;
        if (there)
            seed(shelf, mirror, &image);
        missing[missing_count++] = numbers[i];
        status = bring(download, mirror, &image, problem);
    }
    ebi_download_close(download);
    if (status == EB_OK && missing_count > 0) {
        status =
            eb_shelf_copy(mirror, shelf->folder, missing, missing_count, brought, problem) ? EB_OK : EB_IO;
        if (status == EB_OK)
            clear_files(mirror);
    }
    free(missing);
    return status;
}
