/* A library to be loaded in front of the C library: kills the process, as a power cut would, at its n-th call
 * that changes something in a file system, before it or half way through; its children are left alone: they
 * write to files without a name.  KILL_AT=n, KILL_HALF=1; the number
 * of calls of a process that comes to its end is written to the file KILL_COUNT. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static long calls;
static pid_t counted; /* the process that is */

/* Whether the call whose turn it is must not come to its end. */
static int its_turn(void)
{
    const char *at = getenv("KILL_AT");
    if (counted == 0)
        counted = getpid();
    return counted == getpid() && ++calls == (at != NULL ? atol(at) : 0);
}

static void die(void)
{
    kill(getpid(), SIGKILL);
    for (;;)
        pause();
}

static int half(void)
{
    return getenv("KILL_HALF") != NULL;
}

__attribute__((destructor)) static void tell(void)
{
    const char *path = getenv("KILL_COUNT");
    int fd = path != NULL ? open(path, O_WRONLY | O_CREAT | O_TRUNC, 0666) : -1;
    if (fd >= 0) {
        dprintf(fd, "%ld\n", calls);
        close(fd);
    }
}

/* The C library's own names for its parameters are reserved ones, and parameters cannot stand in parentheses.
 */
/* NOLINTBEGIN(readability-inconsistent-declaration-parameter-name,bugprone-macro-parentheses) */
#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))
#define CHANGES(type, name, parameters, arguments)                                                           \
    type name parameters                                                                                     \
    {                                                                                                        \
        if (its_turn())                                                                                      \
            die();                                                                                           \
        return REAL(name) arguments;                                                                         \
    }

ssize_t write(int fd, const void *bytes, size_t size)
{
    if (its_turn()) {
        if (half() && REAL(write)(fd, bytes, size / 2) < 0)
            die();
        die();
    }
    return REAL(write)(fd, bytes, size);
}

ssize_t pwrite(int fd, const void *bytes, size_t size, off_t at)
{
    if (its_turn()) {
        if (half() && REAL(pwrite)(fd, bytes, size / 2, at) < 0)
            die();
        die();
    }
    return REAL(pwrite)(fd, bytes, size, at);
}

ssize_t pwrite64(int fd, const void *bytes, size_t size, off64_t at)
{
    return pwrite(fd, bytes, size, at);
}

CHANGES(int, rename, (const char *from, const char *to), (from, to))
/* NO_LINKS=1: as on a memory stick. */
int link(const char *from, const char *to)
{
    if (its_turn())
        die();
    errno = EPERM;
    return getenv("NO_LINKS") != NULL ? -1 : REAL(link)(from, to);
}

CHANGES(int, renameat2, (int from_dir, const char *from, int to_dir, const char *to, unsigned flags),
        (from_dir, from, to_dir, to, flags))
CHANGES(int, renameat, (int from_dir, const char *from, int to_dir, const char *to),
        (from_dir, from, to_dir, to))
CHANGES(int, mkdirat, (int fd, const char *path, mode_t mode), (fd, path, mode))
CHANGES(int, unlink, (const char *path), (path))
CHANGES(int, unlinkat, (int fd, const char *path, int flags), (fd, path, flags))
CHANGES(int, mkdir, (const char *path, mode_t mode), (path, mode))
CHANGES(int, rmdir, (const char *path), (path))
CHANGES(int, ftruncate, (int fd, off_t size), (fd, size))
CHANGES(int, fsync, (int fd), (fd))
CHANGES(int, fdatasync, (int fd), (fd))
/* NOLINTEND(readability-inconsistent-declaration-parameter-name,bugprone-macro-parentheses) */
