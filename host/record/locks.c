#include "einbau/record.h"
#include "einbau/text.h"

#include <errno.h>
#include <fcntl.h>
#include <search.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

enum { PATH_BYTES = EB_PATH_BYTES + 3 * EB_LOCK_KEY_BYTES + 16 };

struct held {
    char key[EB_LOCK_KEY_BYTES];
    int fd;
};

struct eb_locks {
    char folder[EB_PATH_BYTES];
    char command[EB_NAME_BYTES];
    void *tree; /* of struct held by key (search.h) */
};

/* A folder that only this user can have put something into. */
static bool own_folder(const char *folder)
{
    struct stat info;
    if (mkdir(folder, 0700) != 0 && errno != EEXIST)
        return false;
    if (lstat(folder, &info) == 0 && S_ISDIR(info.st_mode) && info.st_uid == getuid() &&
        (info.st_mode & (S_IWGRP | S_IWOTH)) == 0)
        return true;
    errno = EPERM;
    return false;
}

static bool find_folder(char *folder, size_t cap)
{
    const char *given = getenv("EINBAU_LOCKS");
    unsigned user = (unsigned)getuid();
    struct stat info;
    char run[64];
    if (given != NULL && given[0] != '\0')
        return snprintf(folder, cap, "%s", given) < (int)cap && own_folder(folder);
    snprintf(run, sizeof run, "/run/user/%u", user);
    if (lstat(run, &info) == 0 && S_ISDIR(info.st_mode) && info.st_uid == user) {
        snprintf(folder, cap, "%s/einbau", run);
        if (own_folder(folder))
            return true;
    }
    snprintf(folder, cap, "/tmp/einbau-%u", user);
    return own_folder(folder);
}

struct eb_locks *eb_locks_open(const char *command, struct eb_problem *problem)
{
    struct eb_locks *locks = calloc(1, sizeof *locks);
    if (locks == NULL)
        abort();
    eb_text_copy(locks->command, sizeof locks->command, command);
    if (find_folder(locks->folder, sizeof locks->folder))
        return locks;
    snprintf(
        problem->text, sizeof problem->text,
        "%s: cannot be used for the locks on devices: %s. Expected a folder that only this user may write "
        "to; EINBAU_LOCKS names another one",
        locks->folder, strerror(errno));
    free(locks);
    return NULL;
}

static int compare_keys(const void *a, const void *b)
{
    return strcmp(((const struct held *)a)->key, ((const struct held *)b)->key);
}

static struct held *held_by(const struct eb_locks *locks, const char *key)
{
    struct held wanted;
    eb_text_copy(wanted.key, sizeof wanted.key, key);
    struct held *const *at = tfind(&wanted, &locks->tree, compare_keys);
    return at != NULL ? *at : NULL;
}

static void let_go(void *held)
{
    close(((struct held *)held)->fd);
    free(held);
}

void eb_locks_close(struct eb_locks *locks)
{
    if (locks != NULL)
        tdestroy(locks->tree, let_go);
    free(locks);
}

/* The key with everything but letters, digits and a few signs as %XX. */
static void path_of(const struct eb_locks *locks, const char *key, char path[PATH_BYTES])
{
    int at = snprintf(path, PATH_BYTES, "%s/", locks->folder);
    for (const char *c = key; *c != '\0' && at < PATH_BYTES - 8; c++) {
        bool plain = (*c >= 'a' && *c <= 'z') || (*c >= 'A' && *c <= 'Z') || (*c >= '0' && *c <= '9') ||
                     *c == '-' || *c == '_' || (*c == '.' && c != key);
        at += snprintf(path + at, (size_t)(PATH_BYTES - at), plain ? "%c" : "%%%02X", (unsigned char)*c);
    }
}

static void read_holder(int fd, struct eb_lock_holder *holder)
{
    char text[EB_NAME_BYTES + EB_SEEN_BYTES + 32];
    char command[EB_NAME_BYTES] = "";
    char since[EB_SEEN_BYTES] = "";
    ssize_t size = pread(fd, text, sizeof text - 1, 0);
    memset(holder, 0, sizeof *holder);
    text[size > 0 ? size : 0] = '\0';
    if (sscanf(text, "%ld\n%23[^\n]\n%47[^\n]", &holder->process, since, command) < 1)
        return;
    eb_text_copy(holder->since, sizeof holder->since, since);
    eb_text_copy(holder->command, sizeof holder->command, command);
}

/* Locks of the open file description: a child does not inherit them by its own copy, and who holds one can be
 * asked without taking it. */
static bool lock(int fd, int what, struct flock *l)
{
    *l = (struct flock){.l_type = F_WRLCK, .l_whence = SEEK_SET};
    return fcntl(fd, what, l) == 0;
}

enum eb_status eb_locks_take(struct eb_locks *locks, const char *key, struct eb_lock_holder *holder,
                             struct eb_problem *problem)
{
    char path[PATH_BYTES];
    char now[EB_SEEN_BYTES];
    struct flock l;
    struct tm parts;
    time_t seconds = time(NULL);
    if (held_by(locks, key) != NULL)
        return EB_OK;
    path_of(locks, key, path);
    int fd = open(path, O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (fd >= 0 && !lock(fd, F_OFD_SETLK, &l) && (errno == EAGAIN || errno == EACCES)) {
        read_holder(fd, holder);
        close(fd);
        return EB_BUSY;
    }
    strftime(now, sizeof now, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
    if (fd < 0 || ftruncate(fd, 0) != 0 ||
        dprintf(fd, "%ld\n%s\n%s\n", (long)getpid(), now, locks->command) < 0) {
        snprintf(problem->text, sizeof problem->text, "%s: the lock cannot be written: %s", path,
                 strerror(errno));
        if (fd >= 0)
            close(fd);
        return EB_IO;
    }
    struct held *held = malloc(sizeof *held);
    if (held == NULL)
        abort();
    held->fd = fd;
    eb_text_copy(held->key, sizeof held->key, key);
    if (tsearch(held, &locks->tree, compare_keys) == NULL)
        abort();
    return EB_OK;
}

void eb_locks_release(struct eb_locks *locks, const char *key)
{
    struct held *held = held_by(locks, key);
    if (held == NULL)
        return;
    tdelete(held, &locks->tree, compare_keys);
    let_go(held);
}

bool eb_locks_held(const struct eb_locks *locks, const char *key, struct eb_lock_holder *holder)
{
    char path[PATH_BYTES];
    struct flock l;
    if (held_by(locks, key) != NULL)
        return false; /* by this very process */
    path_of(locks, key, path);
    int fd = open(path, O_RDWR | O_CLOEXEC | O_NOFOLLOW);
    if (fd < 0)
        return false;
    bool held = lock(fd, F_OFD_GETLK, &l) && l.l_type != F_UNLCK;
    if (held)
        read_holder(fd, holder);
    close(fd);
    return held;
}
