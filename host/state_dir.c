#include "image_file.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

enum { NAME_BYTES = EB_PATH_BYTES + 256 };

static void failed(struct eb_problem *problem, const char *path, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%s: %s: %s", path, what, strerror(errno));
}

static bool make_folders(const char *dir)
{
    char path[EB_PATH_BYTES];
    if (!eb_text_copy(path, sizeof path, dir)) {
        errno = ENAMETOOLONG;
        return false;
    }
    for (char *slash = strchr(path + 1, '/'); slash != NULL; slash = strchr(slash + 1, '/')) {
        *slash = '\0';
        if (mkdir(path, 0777) != 0 && errno != EEXIST)
            return false;
        *slash = '/';
    }
    return mkdir(path, 0777) == 0 || errno == EEXIST;
}

FILE *ebi_file_create(const char *path, mode_t mode)
{
    int fd = open(path, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, mode);
    FILE *file = fd >= 0 ? fdopen(fd, "wb") : NULL;
    if (fd >= 0 && file == NULL)
        close(fd);
    return file;
}

bool ebi_make_folders(const char *dir, struct eb_problem *problem)
{
    if (make_folders(dir))
        return true;
    failed(problem, dir, "the folder cannot be made");
    return false;
}

int eb_state_lock(const char *dir, struct eb_problem *problem)
{
    char path[NAME_BYTES];
    if (!make_folders(dir)) {
        failed(problem, dir, "the state folder cannot be made");
        return -1;
    }
    snprintf(path, sizeof path, "%s/lock", dir);
    int fd = open(path, O_RDWR | O_CREAT | O_NOFOLLOW | O_CLOEXEC, 0666);
    if (fd < 0) {
        failed(problem, path, "cannot be opened");
        return -1;
    }
    if (flock(fd, LOCK_EX | LOCK_NB) == 0) {
        if (ftruncate(fd, 0) == 0)
            dprintf(fd, "%ld\n", (long)getpid());
        return fd;
    }
    char holder[32] = "";
    ssize_t n = pread(fd, holder, sizeof holder - 1, 0);
    holder[n > 0 ? strcspn(holder, "\n") : 0] = '\0';
    close(fd);
    snprintf(
        problem->text, sizeof problem->text,
        "%s: found it in use by another process (%s), expected it free. Wait until that one has ended, or "
        "name another folder with --state",
        dir, holder[0] != '\0' ? holder : "unknown");
    return -1;
}

bool eb_state_write(const char *dir, const char *name, const void *bytes, size_t size,
                    struct eb_problem *problem)
{
    char path[NAME_BYTES];
    char fresh[NAME_BYTES + 8];
    const char *at = bytes;
    snprintf(path, sizeof path, "%s/%s", dir, name);
    snprintf(fresh, sizeof fresh, "%s.new", path);
    int fd = open(fresh, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, 0666);
    bool ok = fd >= 0;
    while (ok && size > 0) {
        ssize_t n = write(fd, at, size);
        if (n < 0 && errno == EINTR)
            continue;
        ok = n > 0;
        at += ok ? n : 0;
        size -= ok ? (size_t)n : 0;
    }
    ok = ok && fsync(fd) == 0;
    if (fd >= 0 && close(fd) != 0)
        ok = false;
    if (ok && rename(fresh, path) == 0)
        return true;
    failed(problem, path, "cannot be written, its old content was kept");
    if (fd >= 0)
        unlink(fresh);
    return false;
}

uint8_t *eb_state_read(const char *dir, const char *name, size_t *size, bool *missing,
                       struct eb_problem *problem)
{
    char path[NAME_BYTES];
    struct stat info;
    snprintf(path, sizeof path, "%s/%s", dir, name);
    int fd = open(path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    *missing = fd < 0 && errno == ENOENT;
    if (fd < 0 || fstat(fd, &info) != 0) {
        failed(problem, path, "cannot be opened");
        if (fd >= 0)
            close(fd);
        return NULL;
    }
    uint8_t *bytes = malloc((size_t)info.st_size + 1);
    size_t have = 0;
    ssize_t n = 1;
    while (bytes != NULL && have < (size_t)info.st_size && n > 0) {
        n = read(fd, bytes + have, (size_t)info.st_size - have);
        have += n > 0 ? (size_t)n : 0;
    }
    close(fd);
    if (bytes != NULL && have == (size_t)info.st_size) {
        bytes[have] = 0;
        *size = have;
        return bytes;
    }
    failed(problem, path, "cannot be read");
    free(bytes);
    return NULL;
}
