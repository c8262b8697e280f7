#include "card/child.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

/* The same words in every language, no settings of this user, and where system programs are. */
static char *const surroundings[] = {"LC_ALL=C.UTF-8", "MTOOLSRC=/dev/null", "MTOOLS_SKIP_CHECK=1",
                                     "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                                     NULL};

static pid_t start(const char *const *words, int input, int output, int errors)
{
    posix_spawn_file_actions_t files;
    posix_spawnattr_t attributes;
    static const char *const folders[] = {"/usr/sbin",
                                          "/sbin"}; /* not where a user's programs are looked for */
    sigset_t none;
    pid_t pid = -1;
    if (posix_spawn_file_actions_init(&files) != 0)
        return -1;
    if (posix_spawnattr_init(&attributes) != 0) {
        posix_spawn_file_actions_destroy(&files);
        return -1;
    }
    sigemptyset(&none);
    posix_spawnattr_setsigmask(&attributes, &none);
    /* Ctrl-C ends the call between two programs, and none of them in the middle. */
    posix_spawnattr_setpgroup(&attributes, 0);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP | POSIX_SPAWN_SETSIGMASK);
    if (input >= 0)
        posix_spawn_file_actions_adddup2(&files, input, STDIN_FILENO);
    else
        posix_spawn_file_actions_addopen(&files, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
    posix_spawn_file_actions_adddup2(&files, output, STDOUT_FILENO);
    posix_spawn_file_actions_adddup2(&files, errors, STDERR_FILENO);
    errno = posix_spawnp(&pid, words[0], &files, &attributes, (char *const *)words, surroundings);
    for (size_t i = 0; errno == ENOENT && i < sizeof folders / sizeof folders[0]; i++) {
        char path[64];
        snprintf(path, sizeof path, "%s/%s", folders[i], words[0]);
        errno = posix_spawn(&pid, path, &files, &attributes, (char *const *)words, surroundings);
    }
    if (errno != 0)
        pid = -1;
    posix_spawnattr_destroy(&attributes);
    posix_spawn_file_actions_destroy(&files);
    return pid;
}

/* Reads both pipes to their ends; the errors' first bytes are kept. */
static bool drain(pid_t pid, int fds[2], bool (*take)(void *context, const void *bytes, size_t size),
                  void *context, char *said, size_t cap)
{
    struct pollfd polled[2] = {{.fd = fds[0], .events = POLLIN}, {.fd = fds[1], .events = POLLIN}};
    char bytes[65536];
    size_t kept = 0;
    bool good = true;
    int open_ends = 2;
    while (open_ends > 0) {
        if (poll(polled, 2, -1) < 0 && errno != EINTR)
            return false;
        for (int i = 0; i < 2; i++) {
            if (polled[i].fd < 0 || polled[i].revents == 0)
                continue;
            ssize_t size = read(polled[i].fd, bytes, sizeof bytes);
            if (size < 0 && errno == EINTR)
                continue;
            if (size <= 0) {
                polled[i].fd = -1;
                open_ends--;
            } else if (i == 0) {
                bool taken = !good || take == NULL || take(context, bytes, (size_t)size);
                if (!taken)
                    kill(pid, SIGKILL); /* what it says may have no end: a folder that is in itself */
                good = good && taken;
            } else {
                size_t more = (size_t)size < cap - 1 - kept ? (size_t)size : cap - 1 - kept;
                memcpy(said + kept, bytes, more);
                kept += more;
            }
        }
    }
    said[kept] = '\0';
    said[strcspn(said, "\n")] = '\0';
    return good;
}

enum ebi_child_end ebi_child_end(const char *const *words, int input,
                                 bool (*take)(void *context, const void *bytes, size_t size), void *context,
                                 struct eb_problem *problem)
{
    int output[2];
    int errors[2];
    char said[256] = "";
    int status = -1;
    snprintf(problem->text, sizeof problem->text, "%s cannot be run: this process has no handles left",
             words[0]);
    if (pipe2(output, O_CLOEXEC) != 0)
        return EBI_CHILD_NONE;
    if (pipe2(errors, O_CLOEXEC) != 0) {
        close(output[0]);
        close(output[1]);
        return EBI_CHILD_NONE;
    }
    pid_t pid = start(words, input, output[1], errors[1]);
    int failed = errno;
    close(output[1]);
    close(errors[1]);
    int ends[2] = {output[0], errors[0]};
    bool good = pid > 0 && drain(pid, ends, take, context, said, sizeof said);
    close(output[0]);
    close(errors[0]);
    while (pid > 0 && waitpid(pid, &status, 0) < 0 && errno == EINTR)
        continue;
    if (pid < 0)
        snprintf(problem->text, sizeof problem->text,
                 "%s cannot be run: %s. It is in the packages mtools, "
                 "dosfstools and fdisk",
                 words[0], strerror(failed));
    else if (status != 0)
        snprintf(problem->text, sizeof problem->text, "%s ended with %d: %s", words[0],
                 WIFEXITED(status) ? WEXITSTATUS(status) : -1, eb_text_printable(said) ? said : "unreadable");
    else if (!good)
        snprintf(problem->text, sizeof problem->text, "what %s gives cannot be taken", words[0]);
    return pid < 0 ? EBI_CHILD_NONE : status == 0 && good ? EBI_CHILD_GOOD : EBI_CHILD_BAD;
}

bool ebi_child_run(const char *const *words, int input,
                   bool (*take)(void *context, const void *bytes, size_t size), void *context,
                   struct eb_problem *problem)
{
    return ebi_child_end(words, input, take, context, problem) == EBI_CHILD_GOOD;
}
