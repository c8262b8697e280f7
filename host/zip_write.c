#include "zip_write.h"

#include <archive_entry.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { CHUNK_BYTES = 65536 };

/* The same content makes the same archive: every member has this time. */
#define MEMBER_TIME 315619200 /* 1980-01-02, the first whole day that a zip can tell in every time zone */

static bool failed(struct ebi_zip *zip)
{
    const char *why = zip->archive != NULL ? archive_error_string(zip->archive) : NULL;
    snprintf(zip->problem->text, sizeof zip->problem->text, "%.900s: cannot be written: %s", zip->path,
             why != NULL ? why : strerror(errno));
    return false;
}

bool ebi_zip_begin(struct ebi_zip *zip, const char *path, mode_t mode, struct eb_problem *problem)
{
    *zip = (struct ebi_zip){.path = path, .problem = problem};
    snprintf(zip->fresh, sizeof zip->fresh, "%.*s.%ld.new", EB_PATH_BYTES - 1, path, (long)getpid());
    zip->fd = open(zip->fresh, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
    if (zip->fd < 0)
        return failed(zip);
    zip->archive = archive_write_new();
    return (zip->archive != NULL && archive_write_set_format_zip(zip->archive) == ARCHIVE_OK &&
            archive_write_open_fd(zip->archive, zip->fd) == ARCHIVE_OK) ||
           failed(zip);
}

static bool put_head(struct ebi_zip *zip, const char *name, int64_t size)
{
    struct archive_entry *entry = archive_entry_new();
    archive_entry_set_pathname(entry, name);
    archive_entry_set_filetype(entry, AE_IFREG);
    archive_entry_set_perm(entry, 0644);
    archive_entry_set_size(entry, size);
    archive_entry_set_mtime(entry, MEMBER_TIME, 0);
    bool ok = archive_write_header(zip->archive, entry) == ARCHIVE_OK;
    archive_entry_free(entry);
    return ok || failed(zip);
}

bool ebi_zip_put(struct ebi_zip *zip, const char *name, const void *bytes, size_t size)
{
    return put_head(zip, name, (int64_t)size) &&
           (size == 0 || archive_write_data(zip->archive, bytes, size) == (la_ssize_t)size || failed(zip));
}

bool ebi_zip_put_file(struct ebi_zip *zip, const char *name, const char *path)
{
    char chunk[CHUNK_BYTES];
    struct stat info;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    bool ok = fd >= 0 && fstat(fd, &info) == 0;
    if (!ok)
        snprintf(zip->problem->text, sizeof zip->problem->text, "%.900s: cannot be read: %s", path,
                 strerror(errno));
    ok = ok && put_head(zip, name, info.st_size);
    ssize_t n = 1;
    while (ok && n > 0) {
        n = read(fd, chunk, sizeof chunk);
        ok = (n >= 0 && archive_write_data(zip->archive, chunk, (size_t)n) == (la_ssize_t)n) || failed(zip);
    }
    if (fd >= 0)
        close(fd);
    return ok;
}

/* The name is on disk, too. */
static bool sync_folder(const char *path)
{
    char folder[EB_PATH_BYTES];
    const char *slash = strrchr(path, '/');
    snprintf(folder, sizeof folder, "%.*s", slash != NULL ? (int)(slash - path + 1) : 1,
             slash != NULL ? path : ".");
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    bool ok = fd >= 0 && (fsync(fd) == 0 || errno == EINVAL);
    if (fd >= 0)
        close(fd);
    return ok;
}

/* Under its name, unless that is taken.  A memory stick may know no links: its file is moved there. */
static int name_it(const struct ebi_zip *zip)
{
    if (link(zip->fresh, zip->path) == 0)
        return 0;
    if (errno != EPERM && errno != EOPNOTSUPP && errno != ENOSYS)
        return -1;
    return renameat2(AT_FDCWD, zip->fresh, AT_FDCWD, zip->path, RENAME_NOREPLACE);
}

bool ebi_zip_end(struct ebi_zip *zip, bool well, bool *taken)
{
    bool ok = well && (archive_write_close(zip->archive) == ARCHIVE_OK || failed(zip));
    if (taken != NULL)
        *taken = false;
    ok = ok && (fsync(zip->fd) == 0 || failed(zip));
    archive_write_free(zip->archive);
    zip->archive = NULL;
    if (zip->fd >= 0)
        close(zip->fd);
    if (ok && name_it(zip) != 0) {
        ok = false;
        if (taken != NULL)
            *taken = errno == EEXIST;
        snprintf(zip->problem->text, sizeof zip->problem->text, "%.900s: cannot be written: %s%s", zip->path,
                 strerror(errno),
                 errno == EEXIST ? ". A file that is there is never written over: give another name" : "");
    }
    if (zip->fd >= 0)
        unlink(zip->fresh); /* which is gone where it was moved */
    return ok && (sync_folder(zip->path) || failed(zip));
}
