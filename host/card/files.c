/* Reading and writing files on a medium: by mtools, or in a mounted folder. */
#include "card/card.h"
#include "card/child.h"
#include "sha256.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static bool fail(struct eb_problem *problem, const struct eb_medium *m, const char *path, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%.700s: %.200s: %s: %s", m->path, path, what,
             strerror(errno));
    return false;
}

/* What is read of a file. */
struct digest {
    struct ebi_sha256 sha;
    uint64_t size_bytes;
};

static bool take(void *context, const void *bytes, size_t size)
{
    struct digest *d = context;
    ebi_sha256_add(&d->sha, bytes, size);
    d->size_bytes += size;
    return true;
}

static bool read_folder_file(const struct eb_medium *m, const char *path, struct digest *d,
                             struct eb_problem *problem)
{
    char whole[EB_PATH_BYTES + EB_CARD_PATH_BYTES];
    char bytes[65536];
    ssize_t size = -1;
    snprintf(whole, sizeof whole, "%s/%s", m->path, path);
    int fd = open(whole, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    while (fd >= 0 && (size = read(fd, bytes, sizeof bytes)) > 0)
        take(d, bytes, (size_t)size);
    bool good = fd >= 0 && size == 0;
    if (!good)
        fail(problem, m, path, "cannot be read");
    if (fd >= 0)
        close(fd);
    return good;
}

bool ebi_medium_digest(const struct eb_medium *m, const char *path, uint64_t *size_bytes,
                       uint8_t sha256[EB_SHA256_BYTES], struct eb_problem *problem)
{
    char image[EB_PATH_BYTES + 32];
    char inside[EB_CARD_PATH_BYTES + 4];
    struct digest digest = {.size_bytes = 0};
    ebi_sha256_begin(&digest.sha);
    ebi_medium_image(m, image);
    snprintf(inside, sizeof inside, "::/%s", path);
    const char *const words[] = {"mcopy", "-i", image, inside, "-", NULL};
    bool good = m->kind == EB_MEDIUM_FOLDER ? read_folder_file(m, path, &digest, problem)
                                            : ebi_child_run(words, -1, take, &digest, problem);
    ebi_sha256_end(&digest.sha, sha256);
    *size_bytes = digest.size_bytes;
    return good;
}

bool ebi_medium_folder(const struct eb_medium *m, const char *folder, struct eb_problem *problem)
{
    char image[EB_PATH_BYTES + 32];
    char inside[EB_PATH_BYTES + EB_CARD_PATH_BYTES];
    if (m->kind == EB_MEDIUM_FOLDER) {
        snprintf(inside, sizeof inside, "%s/%s", m->path, folder);
        return mkdir(inside, 0777) == 0 || errno == EEXIST || fail(problem, m, folder, "cannot be made");
    }
    for (size_t i = 0; i < m->count; i++) {
        size_t size = strlen(folder);
        if (strncasecmp(m->entries[i].path, folder, size) == 0 && m->entries[i].path[size] == '/')
            return true;
    }
    ebi_medium_image(m, image);
    snprintf(inside, sizeof inside, "::/%s", folder);
    const char *const words[] = {"mmd", "-i", image, inside, NULL};
    return ebi_child_run(words, -1, NULL, NULL, problem);
}

static bool put_into_folder(const struct eb_medium *m, const char *path, int from, struct eb_problem *problem)
{
    char whole[EB_PATH_BYTES + EB_CARD_PATH_BYTES];
    char bytes[65536];
    ssize_t size = 0;
    snprintf(whole, sizeof whole, "%s/%s", m->path, path);
    int fd = open(whole, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    bool good = fd >= 0;
    while (good && (size = read(from, bytes, sizeof bytes)) > 0) {
        for (ssize_t at = 0; good && at < size;) {
            ssize_t written = write(fd, bytes + at, (size_t)(size - at));
            good = written > 0;
            at += written;
        }
    }
    good = good && size == 0 && fsync(fd) == 0;
    if (good)
        posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
    else
        fail(problem, m, path, "cannot be written");
    if (fd >= 0)
        close(fd);
    return good;
}

bool ebi_medium_put(const struct eb_medium *m, const char *path, int fd, struct eb_problem *problem)
{
    char image[EB_PATH_BYTES + 32];
    char inside[EB_CARD_PATH_BYTES + 4];
    if (m->kind == EB_MEDIUM_FOLDER)
        return put_into_folder(m, path, fd, problem);
    ebi_medium_image(m, image);
    snprintf(inside, sizeof inside, "::/%s", path);
    /* One that is there already is an error, never a question. */
    const char *const words[] = {"mcopy", "-i", image, "-D", "s", "-", inside, NULL};
    return ebi_child_run(words, fd, NULL, NULL, problem);
}

bool ebi_medium_sync(const struct eb_medium *m, struct eb_problem *problem)
{
    int fd = open(m->path, (m->kind == EB_MEDIUM_FOLDER ? O_RDONLY | O_DIRECTORY : O_RDWR) | O_CLOEXEC);
    bool good = fd >= 0 && (m->kind == EB_MEDIUM_FOLDER ? syncfs(fd) : fsync(fd)) == 0;
    if (!good)
        fail(problem, m, "", "cannot be brought onto the medium");
    /* What is read next comes from the medium, not from what the kernel remembers of it. */
    if (good)
        posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
    if (fd >= 0)
        close(fd);
    return good;
}
