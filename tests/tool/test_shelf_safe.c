/* What is refused leaves nothing behind; what a killed process, a full disk or several at once leave is a
 * sound shelf. */
#include "shelf_rig.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

/* --- what is refused ----------------------------------------------------------------------------- */

static const struct {
    const char *file, *says;
} hostile[] = {
    {"bomb.zip", "found more than 200 times the file's size unpacked"},
    {"nested-bomb.zip", "found more than 200 times the file's size unpacked"},
    {"deep.zip", "found archives in each other more than 4 deep"},
    {"many.zip", "found more than 10000 files in it"},
    {"dotdot.zip", "found a name in it that leads elsewhere"},
    {"dotdot-inside.zip", "found a name in it that leads elsewhere"},
    {"absolute.zip", "found a name in it that leads elsewhere"},
    {"backslash.zip", "found a name in it that leads elsewhere"},
    {"drive.zip", "found a name in it that leads elsewhere"},
    {"escape.zip", "found a name in it that leads elsewhere, or cannot be one (\"?\")"},
    {"dotdot.tar", "found a name in it that leads elsewhere"},
    {"absolute.tar", "found a name in it that leads elsewhere"},
    {"twice.zip", "found \"fw.bin\" twice in it"},
    {"case.zip", "twice in it"},
    {"link.zip", "found a link in it"},
    {"symlink.tar", "found a link in it"},
    {"hardlink.tar", "found a link in it"},
    {"device.tar", "found something in it that is no file"},
    {"fifo.tar", "found something in it that is no file"},
    {"cut.zip", "expected a whole"},
    {"cut-inside.zip", "expected a whole"},
    {"flipped.zip", "damaged or cut off"},
    {"cut.tar", "found no end of the archive"},
    {"cut-inside.tar", "damaged or cut off"},
    {"cut.tar.gz", "cannot be opened (truncated gzip input)"},
    {"encrypted.zip", "encrypted in it"},
    {"empty.bin", "found an empty file"},
    {"wrong-digest.einbau", "expected 0000000000000000... as its manifest says"},
    {"wrong-size.einbau", "found 5000 bytes, expected 4999 as its manifest says"},
    {"missing.einbau", "names \"other.bin\", which is not beside it"},
    {"renamed.einbau", "names \"fw.bin\", which is not beside it"},
    {"huge-manifest.einbau", "expected a manifest of at most 1048576"},
    {"no-json.einbau", "manifest.json:1:1: not JSON"},
    {"deep-json.einbau", "not JSON"},
    {"no-manifest.einbau", "found no \"einbau\": \"manifest/1\" at its top"},
    {"unknown-key.einbau", "found the unknown key \"colour\", expected one of: file, component"},
    {"folder.einbau", "found the file name \"../fw.bin\", expected one without folders"},
    {"revision.einbau", "found the hardware revision \"5..2\""},
    {"companion.einbau", "found the version \"x\" of a companion"},
    {"format.einbau", "found a file in the format raw, expected hex as its manifest says"},
    {"twice.einbau", "found \"fw.bin\" twice"},
    {"bad-hex.einbau", "fw.hex:1: found a checksum of 243"},
    {"overlap.einbau", "fw.hex:151: found bytes for an address that has some already"},
};

static void what_is_refused_leaves_nothing_behind(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles $PROFILES k8");
    expect(0, NULL, NULL, "mkdir bad && /usr/bin/python3 %s/tests/shelf/hostile.py bad", SOURCE_DIR);
    struct outcome before = sh("$EINBAU shelf list --json");
    for (size_t i = 0; i < sizeof hostile / sizeof hostile[0]; i++) {
        struct outcome o = sh("$EINBAU shelf add --profiles $PROFILES bad/%s", hostile[i].file);
        if (o.status != 2 || strstr(o.err, hostile[i].says) == NULL || strstr(o.out, "0 added") == NULL)
            fail_msg("%s: found %d\n%s%s\nexpected 2: %s", hostile[i].file, o.status, o.out, o.err,
                     hostile[i].says);
        assert_null(strchr(o.err, '\033'));
        outcome_free(&o);
        check_shelf(1);
    }
    struct outcome after = sh("$EINBAU shelf list --json");
    assert_string_equal(before.out, after.out);
    outcome_free(&before);
    outcome_free(&after);
    struct outcome left = sh("ls bad | wc -l");
    assert_int_equal(strtol(left.out, NULL, 10), sizeof hostile / sizeof hostile[0]);
    outcome_free(&left);
    /* The good one beside a bad one is taken. */
    put_image("good", "BL-K8-E", "firmware", "1.31", "2..5", 5000);
    expect(2, "1 added, 0 there already, 0 left out, 1 refused", "bad/dotdot.zip",
           "$EINBAU shelf add --profiles $PROFILES bad/dotdot.zip good");
    check_shelf(2);
}

static void other_things_are_no_files(void **state)
{
    (void)state;
    expect(2, NULL, "found something that is no file", "mkdir d && $EINBAU shelf add d");
    expect(2, NULL, "found something that is no file", "$EINBAU shelf add /dev/zero");
    expect(2, NULL, "found something that is no file", "mkfifo f && $EINBAU shelf add f");
    expect(2, NULL, "cannot be opened: No such file", "$EINBAU shelf add none");
    expect(2, NULL, "found no names, expected at least one", "$EINBAU shelf add");
    expect(2, NULL, "a file: found control characters in its name",
           "f=$(printf 'a\\033[31m') && echo x >\"$f\" && $EINBAU shelf add \"$f\"");
    expect(2, NULL, "cannot be opened", "echo x >file && $EINBAU shelf add file --shelf file");
    expect(2, NULL, "file is not a database",
           "mkdir bad && echo no database at all, really none >bad/index.db && "
           "$EINBAU shelf list --shelf bad");
    expect(2, NULL, "found no folder that can be read, expected one with profiles",
           "$EINBAU shelf add file --profiles none");
    expect(2, NULL, "p/a.yaml:1:1: found none, expected the key 'profile' here",
           "mkdir p && echo 'colour: red' >p/a.yaml && $EINBAU shelf add file --profiles p");
    check_shelf(0);
}

/* The same file twice in one call, and a shelf copied onto itself. */
static void what_is_the_same_is_kept_once(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    expect(0, "1 added, 1 there already", NULL,
           "cp k8 other && $EINBAU shelf add --profiles $PROFILES k8 other");
    check_shelf(1);
    write_text(
        folder, "site.yaml",
        "site: s\nprofiles: %s\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
        "  io: {link: lan, address: 192.0.2.1, profile: brindlow-k8, order-code: BL-K8-E, wants: {firmware: "
        "{version: 1.3}}}\n",
        PROFILES);
    expect(0, "0 copied to shelf, 1 there already", NULL, "$EINBAU shelf copy site.yaml --to shelf");
    check_shelf(1);
}

static void a_file_that_is_still_written_waits(void **state)
{
    (void)state;
    char path[2 * PATH_BYTES];
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    snprintf(path, sizeof path, "%s/k8", folder);
    int fd = open(path, O_WRONLY);
    assert_true(fd >= 0);
    expect(2, NULL, "found another program writing to it, expected a finished file",
           "$EINBAU shelf add --profiles $PROFILES k8");
    close(fd);
    check_shelf(0);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles $PROFILES k8");
    check_shelf(1);
}

static void a_full_disk_takes_nothing_away(void **state)
{
    (void)state;
    put_image("a", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    put_image("b", "BL-K8-E", "firmware", "1.4", "2..5", 900000);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles $PROFILES a");
    struct outcome o = sh("(trap '' XFSZ; ulimit -f 600; $EINBAU shelf add --profiles $PROFILES b)");
    has(&o, 2, "0 added", "cannot be written: File too large");
    outcome_free(&o);
    check_shelf(1);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles $PROFILES b");
    check_shelf(2);
}

/* --- killed, and several at once ----------------------------------------------------------------- */

#define KILLED                                                                                               \
    "ASAN_OPTIONS=verify_asan_link_order=0:detect_leaks=0 LD_PRELOAD=" BUILD_DIR "/tests/libkill_at.so "

static long calls_of(const char *command)
{
    struct outcome o =
        sh("export KILL_COUNT=%s/count; %s%s >/dev/null; s=$?; unset KILL_COUNT; test $s = 0 && cat count",
           folder, KILLED, command);
    has(&o, 0, NULL, NULL);
    long calls = strtol(o.out, NULL, 10);
    outcome_free(&o);
    assert_true(calls > 10);
    return calls;
}

/* After a kill: it opens, holds what it held, and has either all of what came or nothing. */
static void check_after_kill(size_t before, size_t after)
{
    json_t *list = listed();
    size_t count = json_array_size(list);
    if (count != before && count != after)
        fail_msg("%zu images, expected %zu or %zu", count, before, after);
    for (size_t i = 0; i < count; i++) {
        long long number = json_integer_value(json_object_get(json_array_get(list, i), "number"));
        expect(0, "file is            whole", NULL, "$EINBAU shelf show %lld", number);
    }
    json_decref(list);
    expect(0, "ok\n", NULL, "sqlite3 shelf/index.db 'PRAGMA integrity_check'");
}

static void a_kill_at_any_write_of_add_leaves_a_sound_shelf(void **state)
{
    (void)state;
    put_image("a", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    put_image("b", "BL-K8-E", "firmware", "1.4", "2..5", 6000);
    put_image("c", "BL-K8-E", "firmware", "1.5", "2..5", 7000);
    expect(0, NULL, NULL,
           "tar -czf bc.tgz b c && $EINBAU shelf add --profiles $PROFILES a && cp -r shelf one");
    long calls = calls_of("$EINBAU shelf add --profiles $PROFILES bc.tgz");
    for (long at = 1; at <= calls; at += every(1)) {
        for (int half = 0; half < 2; half++) {
            expect(0, NULL, NULL, "rm -rf shelf && cp -r one shelf");
            struct outcome o = sh("KILL_AT=%ld %s %s$EINBAU shelf add --profiles $PROFILES bc.tgz", at,
                                  half ? "KILL_HALF=1" : "", KILLED);
            assert_int_equal(o.status, 128 + 9);
            outcome_free(&o);
            check_after_kill(1, 3);
            /* The next one to change anything clears up, whatever it brings. */
            expect(0, "1 there", NULL, "$EINBAU shelf add --profiles $PROFILES a");
            json_t *list = listed();
            check_shelf(json_array_size(list));
            json_decref(list);
            expect(0, NULL, NULL, "$EINBAU shelf add --profiles $PROFILES bc.tgz");
            check_shelf(3);
        }
    }
    print_message("%ld calls of add, one in %u killed before and half way\n", calls, every(1));
}

static void a_kill_at_any_write_of_drop_leaves_a_sound_shelf(void **state)
{
    (void)state;
    put_image("a", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    put_image("b", "BL-K8-E", "firmware", "1.4", "2..5", 6000);
    expect(0, NULL, NULL, "$EINBAU shelf add --profiles $PROFILES a b && cp -r shelf two");
    long calls = calls_of("$EINBAU shelf drop 2");
    for (long at = 1; at <= calls; at += every(1)) {
        for (int half = 0; half < 2; half++) {
            expect(0, NULL, NULL, "rm -rf shelf && cp -r two shelf");
            struct outcome o =
                sh("KILL_AT=%ld %s %s$EINBAU shelf drop 2", at, half ? "KILL_HALF=1" : "", KILLED);
            assert_int_equal(o.status, 128 + 9);
            outcome_free(&o);
            check_after_kill(2, 1);
            /* The next one to change anything clears up what is left. */
            expect(0, NULL, NULL,
                   "$EINBAU shelf drop 2 >/dev/null 2>&1 || $EINBAU shelf add --profiles $PROFILES a");
            check_shelf(1);
        }
    }
    print_message("%ld calls of drop, one in %u killed before and half way\n", calls, every(1));
}

static void several_at_once_do_not_disturb_each_other(void **state)
{
    (void)state;
    for (int i = 0; i < 6; i++) {
        char name[16];
        char version[16];
        snprintf(name, sizeof name, "f%d", i);
        snprintf(version, sizeof version, "1.%d", i + 1);
        put_image(name, "BL-K8-E", "firmware", version, "2..5", 5000);
    }
    expect(0, NULL, NULL,
           "for i in 0 1 2 3 4 5; do j=$(((i + 1) %% 6)); $EINBAU shelf add --profiles $PROFILES f$i f$j "
           ">log$i 2>&1 & "
           "pids=\"$pids $!\"; done; for p in $pids; do wait $p || exit 1; done");
    check_shelf(6);
    expect(0, NULL, NULL,
           "for i in 1 2 3; do ($EINBAU shelf drop $i && $EINBAU shelf add --profiles $PROFILES f0 f1 f2 f3 "
           "f4 f5) "
           ">log$i 2>&1 & pids=\"$pids $!\"; done; for p in $pids; do wait $p || exit 1; done");
    check_shelf(6);
}

int main(void)
{
#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)
    const struct CMUnitTest tests[] = {
        TEST(what_is_refused_leaves_nothing_behind),
        TEST(other_things_are_no_files),
        TEST(what_is_the_same_is_kept_once),
        TEST(a_file_that_is_still_written_waits),
        TEST(a_full_disk_takes_nothing_away),
        cmocka_unit_test_setup_teardown(a_kill_at_any_write_of_add_leaves_a_sound_shelf, set_up_in_memory,
                                        tear_down),
        cmocka_unit_test_setup_teardown(a_kill_at_any_write_of_drop_leaves_a_sound_shelf, set_up_in_memory,
                                        tear_down),
        TEST(several_at_once_do_not_disturb_each_other),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
