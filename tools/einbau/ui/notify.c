#include "ui/notify.h"

#include <fcntl.h>
#include <spawn.h>
#include <stdio.h>
#include <unistd.h>

void notify(const char *title, const char *text)
{
    char *const words[] = {"notify-send", "--app-name=einbau", "--", (char *)title, (char *)text, NULL};
    posix_spawn_file_actions_t files;
    pid_t pid;
    if (isatty(STDERR_FILENO)) {
        fputc('\a', stderr);
        fflush(stderr);
    }
    if (posix_spawn_file_actions_init(&files) != 0)
        return;
    for (int fd = 0; fd < 3; fd++)
        posix_spawn_file_actions_addopen(&files, fd, "/dev/null", O_RDWR, 0);
    posix_spawnp(&pid, words[0], &files, NULL, words, environ);
    posix_spawn_file_actions_destroy(&files);
}
