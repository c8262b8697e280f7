/* Archives and images are read by a child without rights: what it cannot do, what becomes of one that breaks
 * down, and that it makes no call that it does not need. */
#include "sandbox.h"
#include "support/support.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <unistd.h>

#define EINBAU BIN_DIR "/einbau"

#if defined(__SANITIZE_ADDRESS__)
#define SANITIZED 1
#else
#define SANITIZED 0
#endif

static struct little little;

static int set_up(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

static struct outcome in_folder(const char *words)
{
    return shell("cd %s && export E='" EINBAU "' EINBAU_SITE=site.yaml EINBAU_SHELF=shelf; %s", little.folder,
                 words);
}

static void expect(const char *words, int status, const char *says)
{
    struct outcome o = in_folder(words);
    if (o.status != status || (strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s\nfound %d\n%s\n%s\nexpected %d: %s", words, o.status, o.out, o.err, status, says);
    outcome_free(&o);
}

/* --- the child itself ---------------------------------------------------------------------------- */

struct tried {
    int what;  /* the call's number in the list below */
    int error; /* 0: it worked */
};

enum { OPEN_READ, OPEN_WRITE, INTERNET, UNIX, FORK, KILL, REMOVE, CODE, OTHER_FILE, TRIES };

static void tell_try(FILE *to, int what, bool worked)
{
    const struct tried t = {what, worked ? 0 : errno};
    fwrite(&t, sizeof t, 1, to);
}

static void try_everything(void *context, FILE *to)
{
    const int *fd = context;
    char byte;
    tell_try(to, OPEN_READ, open("/etc/passwd", O_RDONLY) >= 0);
    tell_try(to, OPEN_WRITE, open("/tmp/escaped", O_WRONLY | O_CREAT, 0600) >= 0);
    tell_try(to, INTERNET, socket(AF_INET, SOCK_DGRAM, 0) >= 0);
    tell_try(to, UNIX, socket(AF_UNIX, SOCK_STREAM, 0) >= 0);
    tell_try(to, FORK, fork() >= 0);
    tell_try(to, KILL, kill(getppid(), 0) == 0);
    tell_try(to, REMOVE, unlink("/etc/passwd") == 0);
    tell_try(to, CODE,
             mmap(NULL, 4096, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0) !=
                 MAP_FAILED);
    tell_try(to, OTHER_FILE, read(fd[1], &byte, 1) >= 0);
}

static void the_child_has_no_rights(void **state)
{
    (void)state;
    struct ebi_sandbox sandbox;
    struct eb_problem problem;
    struct tried tried;
    char why[256];
    int files[2] = {open("/dev/zero", O_RDONLY | O_CLOEXEC), open("/etc/passwd", O_RDONLY | O_CLOEXEC)};
    if (SANITIZED)
        skip(); /* what finds errors in memory needs other calls */
    assert_true(files[0] >= 0 && files[1] >= 0);
    assert_true(ebi_sandbox_begin(&sandbox, files[0], -1, 10, try_everything, files, &problem));
    int count = 0;
    while (fread(&tried, sizeof tried, 1, sandbox.from) == 1) {
        assert_int_equal(tried.what, count);
        assert_int_equal(tried.error, tried.what == OTHER_FILE ? EBADF : EPERM);
        count++;
    }
    assert_int_equal(count, TRIES);
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_WELL);
    close(files[0]);
    close(files[1]);
}

static void read_given(void *context, FILE *to)
{
    char bytes[4] = "";
    const int *fds = context;
    bool ok = pread(fds[0], bytes, 3, 1) == 3 && pwrite(fds[1], "out", 3, 0) == 3;
    fputs(ok ? bytes : "no", to);
    errno = 0;
    fputs(read(fds[2], bytes, 1) < 0 && errno == EBADF ? " closed" : " open", to);
}

static void it_has_the_files_that_it_is_given(void **state)
{
    (void)state;
    struct ebi_sandbox sandbox;
    struct eb_problem problem;
    char text[32] = "";
    char why[256];
    FILE *in = tmpfile();
    FILE *out = tmpfile();
    FILE *other = tmpfile();
    if (SANITIZED)
        skip(); /* it keeps descriptors of its own */
    assert_true(in != NULL && out != NULL && other != NULL);
    assert_int_equal(write(fileno(in), "abcd", 4), 4);
    int fds[3] = {fileno(in), fileno(out), fileno(other)};
    assert_true(ebi_sandbox_begin(&sandbox, fds[0], fds[1], 10, read_given, fds, &problem));
    assert_non_null(fgets(text, sizeof text, sandbox.from));
    assert_string_equal(text, "bcd closed");
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_WELL);
    assert_int_equal(pread(fds[1], text, 3, 0), 3);
    assert_memory_equal(text, "out", 3);
    fclose(in);
    fclose(out);
    fclose(other);
}

static void spin(void *context, FILE *to)
{
    const volatile int *for_ever = context;
    (void)to;
    while (*for_ever)
        ;
}

static void take_memory(void *context, FILE *to)
{
    (void)context;
    void *list = NULL; /* each begins with the one before it */
    size_t got = 0;
    for (void **more = malloc(65536); more != NULL && got < (4ULL << 30) / 65536; more = malloc(65536)) {
        *more = list;
        list = more;
        got++;
    }
    fwrite(&got, sizeof got, 1, to);
    while (list != NULL) {
        void *next = *(void **)list;
        free(list);
        list = next;
    }
}

static void crash(void *context, FILE *to)
{
    (void)context;
    (void)to;
    raise(SIGSEGV);
    __builtin_trap();
}

static void its_time_and_memory_are_bounded(void **state)
{
    (void)state;
    struct ebi_sandbox sandbox;
    struct eb_problem problem;
    char why[256];
    int for_ever = 1;
    size_t got = 0;
    assert_true(ebi_sandbox_begin(&sandbox, -1, -1, 1, spin, &for_ever, &problem));
    assert_int_equal(fgetc(sandbox.from), EOF);
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_EARLY);
    assert_non_null(strstr(why, "takes too long"));
    /* One that is quick comes to its end. */
    for_ever = 0;
    assert_true(ebi_sandbox_begin(&sandbox, -1, -1, 1, spin, &for_ever, &problem));
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_WELL);
    assert_true(ebi_sandbox_begin(&sandbox, -1, -1, 1, crash, NULL, &problem));
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_EARLY);
    assert_non_null(strstr(why, "reading breaks down"));
    if (SANITIZED)
        return;
    assert_true(ebi_sandbox_begin(&sandbox, -1, -1, 10, take_memory, NULL, &problem));
    assert_int_equal(fread(&got, sizeof got, 1, sandbox.from), 1);
    assert_int_equal(ebi_sandbox_end(&sandbox, why, sizeof why), EBI_ENDED_WELL);
    assert_in_range(got * 65536, EBI_SANDBOX_MEMORY_BYTES / 2, EBI_SANDBOX_MEMORY_BYTES);
}

/* --- the tool ------------------------------------------------------------------------------------ */

#define BROKEN                                                                                               \
    "LD_PRELOAD=" BUILD_DIR "/tests/libbreak_at.so "                                                         \
    "ASAN_OPTIONS=verify_asan_link_order=0:detect_leaks=0 "

/* A crash is a refused file, nothing else: what else was given is taken, whatever its place. */
static void a_reader_that_breaks_down_is_a_refused_file(void **state)
{
    (void)state;
    static const char *const kinds[] = {"crash", "leave", "flood"};
    expect("for i in crash leave flood escape; do echo x >$i; zip -q $i.zip $i; rm $i; done; "
           "cp coupler-2.0.bin two.bin; cp coupler-2.0.bin.json two.json; "
           "sed -i 's/coupler-2.0.bin/two.bin/' two.json && mkdir in && "
           "mv two.bin in && mv two.json in/manifest.json && (cd in && zip -q ../good.zip *)",
           0, "");
    /* Under sanitizers the child keeps the descriptors of its parent, and floods those too. */
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0] - SANITIZED; i++) {
        for (int place = 0; place < 2; place++) {
            char words[512];
            snprintf(words, sizeof words, "rm -rf shelf; " BROKEN "$E shelf add %s%s%s 2>&1",
                     place == 1 ? "" : "good.zip ", kinds[i], place == 1 ? ".zip good.zip" : ".zip");
            expect(words, 2, "reading breaks down");
            expect("$E shelf list", 0, "two.bin");
        }
    }
    expect("rm -rf shelf; " BROKEN "$E shelf add crash.zip good.zip leave.zip crash.zip", 2,
           "1 added, 0 there already, 0 left out, 3 refused");
    expect("ls shelf/coming | wc -l", 0, "0");
}

/* What it cannot do is change the files that were given with its own: it may only read them. */
static void one_that_was_taken_over_changes_no_other_file(void **state)
{
    (void)state;
    if (SANITIZED)
        skip();
    expect(
        "echo x >flood; zip -q flood.zip flood; rm coupler-2.0.bin.json; cp coupler-2.0.bin bare.bin; " BROKEN
        "$E shelf add bare.bin flood.zip --profile coupler --component firmware --version 2.0 --profiles "
        "profiles",
        2, "1 added, 0 there already, 0 left out, 1 refused");
    expect("cmp shelf/images/*/* bare.bin && echo same", 0, "same");
}

/* One that was taken over gets nowhere: its file is read on, as if it had not tried. */
static void one_that_was_taken_over_gets_nowhere(void **state)
{
    (void)state;
    if (SANITIZED)
        skip();
    expect("echo x >victim; echo x >escape; zip -q escape.zip escape; " BROKEN "$E shelf add escape.zip; ls",
           0, "victim");
    expect("test ! -e ESCAPED && test -e victim && " BROKEN "$E shelf add escape.zip", 1,
           "nothing in it says what it is for");
}

/* Every call of the child after it has given up its rights is one of these. */
static void it_makes_no_other_calls(void **state)
{
    (void)state;
    static const char allowed[] = " read write pread64 pwrite64 readv writev lseek close brk mmap mprotect "
                                  "munmap mremap madvise clock_gettime gettimeofday time exit_group ";
    if (SANITIZED)
        skip();
    expect("cp coupler-2.0.bin b && objcopy -I binary -O ihex b b.hex && tar -czf b.tgz b b.hex && "
           "tar -cJf b.txz b && zip -q b.zip b.tgz b.txz && zstd -q b && bzip2 -k b && "
           "strace -f -o calls -e trace=all $E shelf add b.zip b.hex b.zst b.bz2 coupler-2.0.bin",
           0, "1 added");
    struct outcome o = in_folder("cat calls");
    char child[24] = "";
    size_t seen = 0;
    for (char *line = strtok(o.out, "\n"); line != NULL; line = strtok(NULL, "\n")) {
        char pid[24];
        char call[40];
        if (sscanf(line, "%23s %39[a-z0-9_]", pid, call) != 2)
            continue;
        if (child[0] == '\0' && strcmp(call, "seccomp") == 0 && strstr(line, "{len=") != NULL)
            snprintf(child, sizeof child, "%s", pid);
        else if (strcmp(child, pid) == 0) {
            char word[48];
            snprintf(word, sizeof word, " %s ", call);
            seen++;
            if (strstr(allowed, word) == NULL)
                fail_msg("the child called: %s", line);
        }
    }
    outcome_free(&o);
    print_message("%zu calls of the child\n", seen);
    assert_true(seen > 20);
}

/* --- bounds -------------------------------------------------------------------------------------- */

/* Each archive at its bound is read to its end, and one beyond it is refused, with the bound. */
static void each_bound_holds_on_both_sides(void **state)
{
    (void)state;
    static const struct {
        const char *name, *at, *beyond;
    } cases[] = {{"deep", "1 left out, 0 refused", "found archives in each other more than 4 deep"},
                 {"many", "10000 left out, 0 refused", "found more than 10000 files in it"},
                 {"tight", "2 left out, 0 refused", "found more than 200 times the file's size unpacked"},
                 {"bytes", "3 left out, 0 refused", "found more than 4294967296 bytes unpacked"}};
    expect("python3 " SOURCE_DIR "/tests/shelf/bounds.py", 0, "");
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char words[256];
        if (strcmp(cases[i].name, "bytes") == 0) {
            if (SANITIZED)
                break; /* it takes minutes there */
            expect("python3 " SOURCE_DIR "/tests/shelf/bounds.py bytes", 0, "");
        }
        snprintf(words, sizeof words, "$E shelf add %s-at.*", cases[i].name);
        expect(words, 1, cases[i].at);
        snprintf(words, sizeof words, "$E shelf add %s-beyond.*", cases[i].name);
        expect(words, 2, cases[i].beyond);
    }
    expect("truncate -s 4294967297 large && $E shelf add large", 2, "found more than 4294967296 bytes");
    /* What is too large for a manifest is none, and not even copied. */
    expect("cp coupler-2.0.bin a.bin && truncate -s 1T a.bin.json && $E shelf add a.bin", 1,
           "nothing in it says");
    expect("ls shelf/coming | wc -l", 0, "0");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_child_has_no_rights),
        cmocka_unit_test(it_has_the_files_that_it_is_given),
        cmocka_unit_test(its_time_and_memory_are_bounded),
        cmocka_unit_test_setup_teardown(a_reader_that_breaks_down_is_a_refused_file, set_up, tear_down),
        cmocka_unit_test_setup_teardown(one_that_was_taken_over_changes_no_other_file, set_up, tear_down),
        cmocka_unit_test_setup_teardown(one_that_was_taken_over_gets_nowhere, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_makes_no_other_calls, set_up, tear_down),
        cmocka_unit_test_setup_teardown(each_bound_holds_on_both_sides, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
