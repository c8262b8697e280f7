#include "sandbox.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <linux/landlock.h>
#include <seccomp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#if defined(__SANITIZE_ADDRESS__)
#define SANITIZED 1
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
#define SANITIZED 1
#endif
#endif
#ifndef SANITIZED
#define SANITIZED 0
#endif

/* The exit status of a child that could not give up its rights. */
enum { NO_SANDBOX = 77, WALL_FACTOR = 3 };

/* --- in the child -------------------------------------------------------------------------------- */

/* All descriptors but these three are closed. */
static void close_others(int one, int other, int to)
{
    int keep[] = {one, other, to};
    unsigned first = 0;
    for (;;) {
        unsigned next = ~0U;
        for (size_t i = 0; i < sizeof keep / sizeof keep[0]; i++) {
            if (keep[i] >= 0 && (unsigned)keep[i] >= first && (unsigned)keep[i] < next)
                next = (unsigned)keep[i];
        }
        if (next > first)
            close_range(first, next - 1, 0);
        if (next == ~0U)
            return;
        first = next + 1;
    }
}

static uint64_t mapped_bytes(void)
{
    unsigned long long pages = 0;
    FILE *file = fopen("/proc/self/statm", "r");
    if (file == NULL || fscanf(file, "%llu", &pages) != 1)
        pages = 0;
    if (file != NULL)
        fclose(file);
    return pages * (uint64_t)sysconf(_SC_PAGESIZE);
}

static bool limit(int what, uint64_t value)
{
    struct rlimit l;
    if (getrlimit(what, &l) != 0)
        return false;
    if (l.rlim_max > value + 1)
        l.rlim_max = value + 1; /* at the soft limit of time there is a signal that tells so, then the end */
    if (l.rlim_cur > value)
        l.rlim_cur = value;
    return setrlimit(what, &l) == 0;
}

/* No signal of this process is caught in the child: it ends by them.  Where it would write more than a file
 * may hold, the write fails. */
static void default_signals(void)
{
    sigset_t none;
    for (int i = 1; i < NSIG; i++)
        signal(i, i == SIGXFSZ ? SIG_IGN : SIG_DFL);
    sigemptyset(&none);
    sigprocmask(SIG_SETMASK, &none, NULL);
}

/* No file can be opened below any folder, where the kernel has this (landlock(7)). */
static void without_files(void)
{
    const struct landlock_ruleset_attr all = {
        .handled_access_fs =
            LANDLOCK_ACCESS_FS_EXECUTE | LANDLOCK_ACCESS_FS_WRITE_FILE | LANDLOCK_ACCESS_FS_READ_FILE |
            LANDLOCK_ACCESS_FS_READ_DIR | LANDLOCK_ACCESS_FS_REMOVE_DIR | LANDLOCK_ACCESS_FS_REMOVE_FILE |
            LANDLOCK_ACCESS_FS_MAKE_CHAR | LANDLOCK_ACCESS_FS_MAKE_DIR | LANDLOCK_ACCESS_FS_MAKE_REG |
            LANDLOCK_ACCESS_FS_MAKE_SOCK | LANDLOCK_ACCESS_FS_MAKE_FIFO | LANDLOCK_ACCESS_FS_MAKE_BLOCK |
            LANDLOCK_ACCESS_FS_MAKE_SYM};
    int rules = (int)syscall(SYS_landlock_create_ruleset, &all, sizeof all, 0);
    if (rules < 0)
        return;
    syscall(SYS_landlock_restrict_self, rules, 0);
    close(rules);
}

/* What is left: reading and writing open files, memory without code in it, the time, and the end. */
static bool without_calls(void)
{
    static const int calls[] = {SCMP_SYS(read),     SCMP_SYS(write),         SCMP_SYS(pread64),
                                SCMP_SYS(pwrite64), SCMP_SYS(readv),         SCMP_SYS(writev),
                                SCMP_SYS(lseek),    SCMP_SYS(_llseek),       SCMP_SYS(close),
                                SCMP_SYS(brk),      SCMP_SYS(munmap),        SCMP_SYS(mremap),
                                SCMP_SYS(madvise),  SCMP_SYS(clock_gettime), SCMP_SYS(gettimeofday),
                                SCMP_SYS(time),     SCMP_SYS(exit_group),    SCMP_SYS(clock_gettime64)};
    static const int mapping[] = {SCMP_SYS(mmap), SCMP_SYS(mmap2), SCMP_SYS(mprotect)};
    scmp_filter_ctx filter = seccomp_init(SCMP_ACT_ERRNO(EPERM));
    /* No slower than it must be: the child has no secrets that others of its threads could read. */
    bool ok = filter != NULL && seccomp_attr_set(filter, SCMP_FLTATR_CTL_SSB, 1) == 0 &&
              seccomp_attr_set(filter, SCMP_FLTATR_CTL_OPTIMIZE, 2) == 0;
    for (size_t i = 0; ok && i < sizeof calls / sizeof calls[0]; i++)
        ok = seccomp_rule_add(filter, SCMP_ACT_ALLOW, calls[i], 0) == 0;
    for (size_t i = 0; ok && i < sizeof mapping / sizeof mapping[0]; i++)
        ok = seccomp_rule_add(filter, SCMP_ACT_ALLOW, mapping[i], 1,
                              SCMP_A2(SCMP_CMP_MASKED_EQ, PROT_EXEC, 0)) == 0;
    ok = ok && seccomp_load(filter) == 0;
    if (filter != NULL)
        seccomp_release(filter);
    return ok;
}

static bool give_up_rights(int one, int other, int to, unsigned seconds)
{
    setenv("TZ", "UTC0", 1); /* a name would be looked for among the system's files */
    tzset();
    prctl(PR_SET_PDEATHSIG, SIGKILL); /* not longer than its parent */
    default_signals();
    alarm(WALL_FACTOR * seconds);
    bool ok =
        limit(RLIMIT_CPU, seconds) && limit(RLIMIT_CORE, 0) && prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0;
    if (SANITIZED)
        return ok; /* it needs tens of terabytes of addresses, and calls of its own where it finds something
                    */
    ok = ok && limit(RLIMIT_AS, mapped_bytes() + EBI_SANDBOX_MEMORY_BYTES);
    close_others(one, other, to);
    without_files();
    return ok && without_calls();
}

/* --- in the parent ------------------------------------------------------------------------------- */

bool ebi_sandbox_begin(struct ebi_sandbox *s, int one, int other, unsigned seconds,
                       void (*work)(void *context, FILE *to), void *context, struct eb_problem *problem)
{
    int ends[2];
    *s = (struct ebi_sandbox){.pid = -1};
#ifdef FUZZING_BUILD_MODE_UNSAFE_FOR_PRODUCTION
    s->from = tmpfile(); /* what is fuzzed must not die in another process */
    if (s->from == NULL)
        abort();
    work(context, s->from);
    rewind(s->from);
    (void)ends, (void)one, (void)other, (void)seconds, (void)problem, (void)give_up_rights;
    return true;
#else
    json_object_seed(0); /* by a file of the system's, of which there is none in the child */
    if (pipe2(ends, O_CLOEXEC) != 0) {
        snprintf(problem->text, sizeof problem->text, "no pipe can be made: %s", strerror(errno));
        return false;
    }
    s->pid = fork();
    if (s->pid == 0) {
        FILE *to = fdopen(ends[1], "w");
        if (to == NULL || setvbuf(to, NULL, _IOFBF, BUFSIZ) != 0 ||
            !give_up_rights(one, other, ends[1], seconds))
            _exit(NO_SANDBOX);
        work(context, to);
        _exit(fflush(to) != 0);
    }
    close(ends[1]);
    s->from = s->pid > 0 ? fdopen(ends[0], "r") : NULL;
    if (s->from != NULL)
        return true;
    snprintf(problem->text, sizeof problem->text, "no process can be started: %s", strerror(errno));
    close(ends[0]);
    if (s->pid > 0) {
        kill(s->pid, SIGKILL);
        waitpid(s->pid, NULL, 0);
    }
    return false;
#endif
}

enum ebi_ended ebi_sandbox_end(struct ebi_sandbox *s, char *why, size_t cap)
{
    int status = 0;
    fclose(s->from);
    while (s->pid > 0 && waitpid(s->pid, &status, 0) < 0 && errno == EINTR)
        ;
    int number = WIFSIGNALED(status) ? WTERMSIG(status) : 0;
    if (WIFEXITED(status) && WEXITSTATUS(status) == 0)
        return EBI_ENDED_WELL;
    if (number == SIGINT || number == SIGTERM || number == SIGHUP) {
        snprintf(why, cap, "was not read to its end: interrupted");
        return EBI_NOT_READ;
    }
    if (WIFEXITED(status) && WEXITSTATUS(status) == NO_SANDBOX) {
        snprintf(
            why, cap,
            "cannot be read safely here: no process can give up its rights. Expected a kernel with seccomp "
            "filters, and where this runs in a container, one that allows them");
        return EBI_NOT_READ;
    }
    if (number == SIGXCPU || number == SIGALRM)
        snprintf(why, cap,
                 "found that reading it takes too long, expected less than %d s: this is no firmware",
                 EBI_SANDBOX_SECONDS);
    else
        snprintf(why, cap, EBI_BREAKS_DOWN, number > 0 ? strsignal(number) : "it ends early");
    return EBI_ENDED_EARLY;
}
