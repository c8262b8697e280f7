/* A library to be loaded in front of the C library: what a reader of archives would do that a hostile file
 * had taken over, or broken.  The name of a file in an archive says which. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

struct archive_entry;
const char *archive_entry_pathname(struct archive_entry *entry);

/* Each of these would do harm. */
static void try_all(void)
{
    char *arguments[] = {(char *)"/bin/touch", (char *)"ESCAPED", NULL};
    char *none[] = {NULL};
    int done = 0;
    done += open("/etc/hostname", O_RDONLY) >= 0;
    done += open("ESCAPED", O_WRONLY | O_CREAT, 0666) >= 0;
    done += socket(AF_INET, SOCK_STREAM, 0) >= 0;
    done += socket(AF_UNIX, SOCK_STREAM, 0) >= 0;
    done += kill(getppid(), 0) == 0;
    done += unlink("victim") == 0;
    execve(arguments[0], arguments, none);
    if (done > 0)
        raise(SIGSEGV); /* seen as another end than the one that is expected */
}

const char *archive_entry_pathname(struct archive_entry *entry)
{
    const char *(*real)(struct archive_entry *) =
        (const char *(*)(struct archive_entry *))dlsym(RTLD_NEXT, "archive_entry_pathname");
    const char *name = real(entry);
    if (name == NULL)
        return NULL;
    if (strcmp(name, "crash") == 0)
        __builtin_trap();
    if (strcmp(name, "flood") == 0) {
        static const char nothing[65536];
        for (int fd = 3; fd < 64; fd = fd < 63 ? fd + 1 : 3)
            (void)!write(fd, nothing, sizeof nothing);
    }
    if (strcmp(name, "leave") == 0)
        _exit(0);
    if (strcmp(name, "wait") == 0) {
        for (;;)
            sleep(1000); /* is not allowed, so it is a loop */
    }
    if (strcmp(name, "escape") == 0)
        try_all();
    return name;
}
