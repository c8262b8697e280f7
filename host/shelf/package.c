#include "shelf/unpack.h"

#include <archive.h>
#include <archive_entry.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "einbau/shelf.h"

enum { CHUNK_BYTES = 65536 };

/* The same content makes the same package: every member has this time. */
#define MEMBER_TIME 315619200 /* 1980-01-02, the first whole day that a zip can tell in every time zone */

static bool failed(struct archive *a, const char *path, struct eb_problem *problem)
{
    snprintf(problem->text, sizeof problem->text, "%.900s: cannot be written: %s", path,
             archive_error_string(a) != NULL ? archive_error_string(a) : strerror(errno));
    return false;
}

static bool put_head(struct archive *a, const char *name, int64_t size)
{
    struct archive_entry *entry = archive_entry_new();
    archive_entry_set_pathname(entry, name);
    archive_entry_set_filetype(entry, AE_IFREG);
    archive_entry_set_perm(entry, 0644);
    archive_entry_set_size(entry, size);
    archive_entry_set_mtime(entry, MEMBER_TIME, 0);
    bool ok = archive_write_header(a, entry) == ARCHIVE_OK;
    archive_entry_free(entry);
    return ok;
}

static bool put_text(struct archive *a, const char *name, const char *text)
{
    return put_head(a, name, (int64_t)strlen(text)) &&
           archive_write_data(a, text, strlen(text)) == (la_ssize_t)strlen(text);
}

static bool put_file(struct archive *a, const char *name, const char *path)
{
    char chunk[CHUNK_BYTES];
    struct stat info;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    bool ok = fd >= 0 && fstat(fd, &info) == 0 && put_head(a, name, info.st_size);
    ssize_t n = 1;
    while (ok && n > 0) {
        n = read(fd, chunk, sizeof chunk);
        ok = n >= 0 && archive_write_data(a, chunk, (size_t)n) == (la_ssize_t)n;
    }
    if (fd >= 0)
        close(fd);
    return ok;
}

static bool put_folder(struct archive *a, const char *folder, struct dirent **list, int count,
                       char files[EB_FILES_TEXT_BYTES], struct eb_problem *problem)
{
    struct eb_text names;
    eb_text_init(&names, files, EB_FILES_TEXT_BYTES);
    for (int i = 0; i < count; i++) {
        char path[EB_PATH_BYTES + 256];
        struct stat info;
        snprintf(path, sizeof path, "%s/%s", folder, list[i]->d_name);
        if (strcmp(list[i]->d_name, ".") == 0 || strcmp(list[i]->d_name, "..") == 0)
            continue;
        if (stat(path, &info) != 0 || !S_ISREG(info.st_mode) || list[i]->d_name[0] == '.' ||
            names.size + strlen(list[i]->d_name) + 3 > EB_FILES_TEXT_BYTES) {
            snprintf(problem->text, sizeof problem->text,
                     "%.500s: found '%.200s' in it, expected only files that all go to the device", folder,
                     list[i]->d_name);
            return false;
        }
        eb_text_add(&names, names.size > 0 ? ", " : "");
        eb_text_add(&names, list[i]->d_name);
        if (!put_file(a, list[i]->d_name, path))
            return failed(a, path, problem);
    }
    if (names.size == 0)
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found no file in it, expected those that go to the device", folder);
    return names.size > 0;
}

bool eb_folder_pack(const char *folder, const char *path, char files[EB_FILES_TEXT_BYTES],
                    struct eb_problem *problem)
{
    struct dirent **list = NULL;
    int count = scandir(folder, &list, NULL, alphasort);
    int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    struct archive *a = archive_write_new();
    bool begun = count >= 0 && fd >= 0 && archive_write_set_format_zip(a) == ARCHIVE_OK &&
                 archive_write_open_fd(a, fd) == ARCHIVE_OK;
    bool ok = begun ? put_folder(a, folder, list, count, files, problem) : failed(a, path, problem);
    if (ok && archive_write_close(a) != ARCHIVE_OK)
        ok = failed(a, path, problem);
    archive_write_free(a);
    if (fd >= 0)
        close(fd);
    for (int i = 0; i < count; i++)
        free(list[i]);
    free(list);
    return ok;
}

/* What nobody could read need not be written: file names with folders, too many images. */
static bool reads_back(const char *path, const char *text, struct eb_problem *problem)
{
    struct eb_manifest manifest;
    if (!eb_manifest_read(path, text, strlen(text), &manifest, problem))
        return false;
    eb_manifest_free(&manifest);
    return true;
}

bool eb_package_write(const char *path, const struct eb_manifest *manifest, const char *const *paths,
                      const char *key_path, struct eb_problem *problem)
{
    char fresh[EB_PATH_BYTES + 32];
    char *text = eb_manifest_text(manifest);
    if (text == NULL || !reads_back(path, text, problem)) {
        free(text);
        return false;
    }
    char *jws = key_path != NULL ? eb_manifest_sign(key_path, text, strlen(text), problem) : NULL;
    if (key_path != NULL && jws == NULL) {
        free(text);
        return false;
    }
    snprintf(fresh, sizeof fresh, "%.*s.%ld.new", EB_PATH_BYTES - 1, path, (long)getpid());
    int fd = open(fresh, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    struct archive *a = archive_write_new();
    bool ok = fd >= 0 && archive_write_set_format_zip(a) == ARCHIVE_OK &&
              archive_write_open_fd(a, fd) == ARCHIVE_OK && put_text(a, "manifest.json", text) &&
              (jws == NULL || put_text(a, "manifest.jws", jws));
    for (size_t i = 0; ok && i < manifest->count; i++)
        ok = put_file(a, manifest->images[i].file, paths[i]);
    ok = ok && archive_write_close(a) == ARCHIVE_OK && fsync(fd) == 0;
    if (!ok)
        failed(a, path, problem);
    archive_write_free(a);
    if (fd >= 0)
        close(fd);
    if (ok && link(fresh, path) != 0) {
        ok = false;
        snprintf(problem->text, sizeof problem->text, "%.900s: cannot be written: %s%s", path,
                 strerror(errno),
                 errno == EEXIST ? ". A package that is there is never written over: give another name" : "");
    }
    if (fd >= 0)
        unlink(fresh);
    free(text);
    free(jws);
    return ok;
}
