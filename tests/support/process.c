#include "support.h"

#include <ctype.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

/* --- processes ----------------------------------------------------------------------------------- */

static pid_t spawn(const char *const *arguments, int in, int out, int err)
{
    fflush(NULL);
    pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid == 0) {
        dup2(in, 0);
        dup2(out, 1);
        dup2(err, 2);
        /* Nothing of the user's own, unless a test says so. */
        setenv("XDG_DATA_HOME", "/dev/null/none", 0);
        setenv("XDG_STATE_HOME", "/dev/null/none", 0);
        setenv("XDG_CONFIG_HOME", "/nonexistent", 0);
        union {
            const char *const *given;
            char *const *wanted;
        } words = {arguments};
        execvp(arguments[0], words.wanted);
        dprintf(2, "%s: %s\n", arguments[0], strerror(errno));
        _exit(127);
    }
    return pid;
}

static int wait_status(pid_t pid)
{
    int status;
    while (waitpid(pid, &status, 0) < 0)
        assert_int_equal(errno, EINTR);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

static char *text_of_file(FILE *file)
{
    long size = ftell(file);
    char *text = calloc(1, (size_t)size + 1);
    rewind(file);
    assert_int_equal(fread(text, 1, (size_t)size, file), size);
    fclose(file);
    return text;
}

struct outcome shell(const char *format, ...)
{
    char *line;
    va_list arguments;
    va_start(arguments, format);
    assert_true(vasprintf(&line, format, arguments) >= 0);
    va_end(arguments);
    const char *const words[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(words);
    free(line);
    return o;
}

void *workers_run(size_t bytes, void (*work)(size_t worker, size_t workers, void *result), size_t *count)
{
    enum { MOST = 16 };
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    size_t workers = processors < 1 ? 1 : processors > MOST ? MOST : (size_t)processors;
    pid_t pids[MOST];
    char *results = mmap(NULL, workers * bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    assert_true(results != MAP_FAILED);
    fflush(NULL);
    for (size_t i = 0; i < workers; i++) {
        pids[i] = fork();
        assert_true(pids[i] >= 0);
        if (pids[i] == 0) {
            work(i, workers, results + i * bytes);
            _exit(0);
        }
    }
    for (size_t i = 0; i < workers; i++)
        assert_int_equal(wait_status(pids[i]), 0);
    *count = workers;
    return results;
}

void workers_free(void *results, size_t bytes, size_t count)
{
    munmap(results, count * bytes);
}

struct outcome run_program(const char *const *arguments)
{
    FILE *out = tmpfile();
    FILE *err = tmpfile();
    int in = open("/dev/null", O_RDONLY | O_CLOEXEC);
    assert_true(out != NULL && err != NULL && in >= 0);
    struct outcome o = {.status = wait_status(spawn(arguments, in, fileno(out), fileno(err)))};
    close(in);
    fseek(out, 0, SEEK_END);
    fseek(err, 0, SEEK_END);
    o.out = text_of_file(out);
    o.err = text_of_file(err);
    return o;
}

void outcome_free(struct outcome *o)
{
    free(o->out);
    free(o->err);
}

static struct outcome run_with(const struct little *l, const char *format, va_list arguments)
{
    char line[8 * PATH_BYTES];
    char *words;
    assert_true(vasprintf(&words, format, arguments) >= 0);
    char *rest = words;
    int variables = 0;
    if (words[0] == '{') {
        variables = (int)strcspn(words, "}") - 1;
        rest = words + variables + 3;
    }
    snprintf(line, sizeof line,
             "cd %s && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state "
             "XDG_DATA_HOME=$PWD/home %.*s "
             "&& exec " BIN_DIR "/einbau %s",
             l->folder, variables, words + 1, rest);
    free(words);
    const char *const run[] = {"sh", "-c", line, NULL};
    return run_program(run);
}

struct outcome einbau_run(const struct little *l, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = run_with(l, format, arguments);
    va_end(arguments);
    return o;
}

char *einbau_says(const struct little *l, int status, const char *says, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = run_with(l, format, arguments);
    va_end(arguments);
    if (o.status != status || (says != NULL && strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: found %d\n%s\n%s\nexpected %d: %s", format, o.status, o.out, o.err, status,
                 says != NULL ? says : "");
    free(o.err);
    return o.out;
}

void replace_in(const struct little *l, const char *file, const char *old, const char *fresh)
{
    char *text = read_text(l->folder, file, NULL);
    char *at = text != NULL ? strstr(text, old) : NULL;
    if (at == NULL)
        fail_msg("%s: found no '%s'", file, old);
    write_text(l->folder, file, "%.*s%s%s", (int)(at - text), text, fresh, at + strlen(old));
    free(text);
}

int start_program(const char *const *arguments, const char *log)
{
    int fd = open(log, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
    int in = open("/dev/null", O_RDONLY | O_CLOEXEC);
    assert_true(fd >= 0 && in >= 0);
    pid_t pid = spawn(arguments, in, fd, fd);
    close(fd);
    close(in);
    return pid;
}

int stop_program(int pid, int number)
{
    kill(pid, number);
    return wait_status(pid);
}

bool wait_for_text(const char *path, const char *text, unsigned seconds)
{
    const struct timespec pause = {0, 20000000};
    for (unsigned i = 0; i < seconds * 50; i++) {
        char *have = read_text("", path, NULL);
        bool found = have != NULL && strstr(have, text) != NULL;
        free(have);
        if (found)
            return true;
        nanosleep(&pause, NULL);
    }
    return false;
}

bool have_program(const char *name)
{
    char line[256];
    snprintf(line, sizeof line, "PATH=$PATH:/usr/sbin:/sbin command -v %s", name);
    const char *const arguments[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(arguments);
    bool have = o.status == 0;
    outcome_free(&o);
    return have;
}

static struct sockaddr_in on_loopback(unsigned port)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    return address;
}

unsigned free_port(int type)
{
    struct sockaddr_in address = on_loopback(0);
    socklen_t size = sizeof address;
    int fd = socket(AF_INET, type, 0);
    assert_int_equal(bind(fd, (const struct sockaddr *)&address, sizeof address), 0);
    assert_int_equal(getsockname(fd, (struct sockaddr *)&address, &size), 0);
    close(fd);
    return ntohs(address.sin_port);
}

bool wait_for_server(unsigned port)
{
    struct sockaddr_in address = on_loopback(port);
    bool up = false;
    for (int i = 0; i < 150 && !up; i++) {
        int fd = socket(AF_INET, SOCK_STREAM, 0);
        up = connect(fd, (const struct sockaddr *)&address, sizeof address) == 0;
        close(fd);
        usleep(100000);
    }
    return up;
}

void strip_screen(char *text)
{
    char *to = text;
    for (const char *at = text; *at != '\0'; at++) {
        if (*at == '\033' && at[1] == '[') {
            at += 2;
            at += strspn(at, "0123456789;?");
        } else if (*at != '\r') {
            *to++ = *at;
        }
    }
    *to = '\0';
}

char *on_terminal(const char *words)
{
    return on_terminal_typing(words, NULL);
}

char *on_terminal_typing(const char *words, const char *typed)
{
    enum { SCREEN_BYTES = 1 << 20, SECONDS_MAX = 240 };
    static const char full_screen[] = "\x1b[?1049h";
    char *screen = calloc(1, SCREEN_BYTES);
    size_t size = 0;
    size_t answered = 0;
    int fd;
    time_t until = time(NULL) + SECONDS_MAX;
    pid_t pid = forkpty(&fd, NULL, NULL, NULL);
    if (pid < 0 || screen == NULL)
        abort();
    if (pid == 0) {
        setenv("TERM", "xterm", 1);
        execl("/bin/sh", "sh", "-c", words, (char *)NULL);
        _exit(127);
    }
    for (;;) {
        struct pollfd p = {.fd = fd, .events = POLLIN};
        int ready = poll(&p, 1, 500);
        ssize_t n = ready > 0 ? read(fd, screen + size, SCREEN_BYTES - 1 - size) : 0;
        if (ready > 0 && n <= 0)
            break;
        size += (size_t)(n > 0 ? n : 0);
        if (strstr(screen + answered, "(yes/no) ") != NULL) {
            answered = size;
            assert_int_equal(write(fd, "yes\n", 4), 4);
        } else if (size > answered + 4 && strcmp(screen + size - 5, " it: ") == 0) {
            answered = size;
            dprintf(fd, "%s\n", typed != NULL ? typed : "no");
        } else if (typed != NULL && size > answered + 2 && strcmp(screen + size - 3, "]: ") == 0) {
            size_t line = strcspn(typed, "\n"); /* one line for each question */
            answered = size;
            dprintf(fd, "%.*s\n", (int)line, typed);
            typed += line + (typed[line] == '\n');
        } else if (strstr(screen + answered, full_screen) != NULL &&
                   strstr(screen + answered, "q ends") != NULL) {
            answered = size;
            assert_int_equal(write(fd, "q", 1), 1);
        }
        if (time(NULL) >= until) {
            kill(pid, SIGKILL);
            fputs(screen, stderr); /* whole: the messages of cmocka are cut */
            fail_msg("%s: not ended after %d s", words, SECONDS_MAX);
        }
    }
    close(fd);
    waitpid(pid, NULL, 0);
    assert_int_equal(strlen(screen), size); /* no NUL among it */
    return screen;
}

unsigned every(unsigned otherwise)
{
    const char *given = getenv("EINBAU_TEST_EVERY");
    return given != NULL && atoi(given) > 0 ? (unsigned)atoi(given) : otherwise;
}

void done(struct outcome o)
{
    if (o.status != 0)
        fail_msg("found %d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
}

void make_demo(char folder[PATH_BYTES])
{
    make_folder(folder);
    done(shell("mkdir %s/build && ln -s " BIN_DIR " %s/build/bin && cd " SOURCE_DIR
               " && scripts/demo %s/build --only-prepare",
               folder, folder, folder));
}
