/* Whoever brings a file is not trusted: images without a signature, shelves that somebody else has made,
 * names with control characters, files that change at the wrong moment, links where files are expected. */
#include "support/support.h"

#include <pty.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#define EINBAU BIN_DIR "/einbau"

static struct little little;

/* Runs a command line in the folder; $E is the tool on the little site and world. */
#define in_folder(...) in_folder_(__VA_ARGS__, "")
__attribute__((format(printf, 1, 0))) static struct outcome in_folder_(const char *format, ...)
{
    char *words;
    va_list arguments;
    va_start(arguments, format);
    assert_true(vasprintf(&words, format, arguments) >= 0);
    va_end(arguments);
    struct outcome o =
        shell("cd %s && export E='" EINBAU "' EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml "
              "EINBAU_STATE=state F=" SOURCE_DIR "/tests/shelf/foreign.py; [ ! -e shelf ] || export "
              "EINBAU_SHELF=shelf; %s",
              little.folder, words);
    free(words);
    return o;
}

static void has(struct outcome o, int status, const char *says)
{
    if (o.status != status || (strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("found %d\n%s\n%s\nexpected %d: %s", o.status, o.out, o.err, status, says);
    outcome_free(&o);
}
#define expect(status, says, ...) has(in_folder(__VA_ARGS__), status, says)

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

/* The line that lists a key of the site, made by `key new`. */
static void list_key(const char *name, const char *more)
{
    struct outcome key =
        shell("sed -n 's/.*\"x\": \"\\(.*\\)\".*/\\1/p' %s/%s.pub | tr -d '\\n'", little.folder, name);
    char line[256];
    snprintf(line, sizeof line, "site: little\ntrusted-keys: [{key: \"%s\"%s}]\n", key.out, more);
    replace_in(&little, "site.yaml", "site: little\n", line);
    outcome_free(&key);
}

/* A signature beside coupler-2.0.bin by that key: X.json and X.jws, out of a package. */
static void sign_beside(const char *name)
{
    expect(0, "",
           "rm -f p.einbau && $E pack coupler-2.0.bin --to p.einbau --manifest coupler-2.0.bin.json --sign "
           "%s.key && "
           "unzip -p p.einbau manifest.json >coupler-2.0.bin.json && unzip -p p.einbau manifest.jws "
           ">coupler-2.0.bin.jws",
           name);
}

/* --- signatures ---------------------------------------------------------------------------------- */

static const char *const ways[] = {"fit coupler-1 --yes --image coupler-2.0.bin", "fit coupler-1 --yes"};

/* Whether the call names the file or the site does. */
static void a_file_beside_a_site_with_keys_needs_a_signature(void **state)
{
    (void)state;
    expect(0, "", "$E key new ours && $E key new theirs");
    list_key("ours", "");
    for (size_t i = 0; i < 2; i++) {
        expect(0, "", "rm -rf state *.jws");
        expect(1, "signature: found not signed, expected signed with a trusted key (cannot be accepted)",
               "$E %s", ways[i]);
        expect(1, "not signed", "$E show coupler-1 --image coupler-2.0.bin");
        sign_beside("theirs");
        expect(1, "found signed with a key that is not trusted here", "$E %s", ways[i]);
        sign_beside("ours");
        expect(0, "1 confirmed", "$E %s", ways[i]);
        struct outcome ours = shell("sed -n 's/.*\"x\": \"\\(.*\\)\".*/\\1/p' %s/ours.pub", little.folder);
        expect(0, "Signed by the key", "$E report");
        expect(0, ours.out, "$E report | sed -n 's/^Signed by the key \\(.*\\): 1 of 1 images$/\\1/p'");
        outcome_free(&ours);
        expect(0, "", "rm -rf state && sed -i 's/\"2.0\"/\"2.0.1\"/' coupler-2.0.bin.json");
        expect(1, "found a signature that does not belong to it", "$E %s --image coupler-2.0.bin", ways[1]);
        sign_beside("ours"); /* as it was */
        expect(0, "", "sed -i 's/\"2.0.1\"/\"2.0\"/' coupler-2.0.bin.json");
    }
}

static void a_key_counts_until_its_day_and_not_once_it_is_revoked(void **state)
{
    (void)state;
    expect(0, "", "$E key new ours && cp site.yaml plain");
    sign_beside("ours");
    list_key("ours", ", until: 2099-12-31");
    expect(0, "1 confirmed", "$E fit --yes");
    expect(0, "trusted until 2099-12-31", "$E key list");
    expect(0, "", "rm -rf state && cp plain site.yaml");
    list_key("ours", ", until: 2020-02-29");
    expect(1, "found signed with a key that has expired or was revoked", "$E fit --yes");
    expect(0, "Every listed key has expired or was revoked", "$E key list");
    /* This user trusts it too: what the site has revoked counts all the same no more. */
    expect(0, "",
           "cp plain site.yaml && sed -i \"s/^site: little/&\\\\nrevoked-keys: [$(sed -n "
           "'s/.*\\\"x\\\": \\(\\\".*\\\"\\).*/\\1/p' ours.pub)]/\" site.yaml && $E key trust ours.pub");
    expect(1, "found signed with a key that has expired or was revoked", "$E fit --yes");
    expect(
        2, "found '2020-2-29', expected the last day on which the key counts",
        "cp plain site.yaml && sed -i 's/^site: little/&\\ntrusted-keys: [{key: \"%s\", until: 2020-2-29}]/' "
        "site.yaml && $E survey",
        "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA");
}

/* The floor of an image that a device got holds also against an older image with a good manifest, when the
 * newer one is nowhere any more. */
static void a_floor_holds_from_then_on(void **state)
{
    (void)state;
    expect(0, "", "$E key new ours && cp site.yaml plain && cp coupler-2.0.bin.json without.json");
    list_key("ours", "");
    sign_beside("ours");
    expect(0, "", "sed -i 's/\"2.0\"/\"2.0\", \"floor\": \"1.9\"/' coupler-2.0.bin.json");
    /* Written in without signing it anew, it is not the maker's manifest any more. */
    expect(1, "found a signature that does not belong to it", "$E fit coupler-1 --yes");
    expect(0, "",
           "cp plain site.yaml && cp coupler-2.0.bin.json with.json && cp without.json coupler-2.0.bin.json");
    for (int floor = 0; floor < 2; floor++) {
        expect(0, "", "rm -rf state; cp %s coupler-2.0.bin.json", floor ? "with.json" : "without.json");
        expect(0, "1 confirmed", "$E fit coupler-1 --yes --image coupler-2.0.bin");
        expect(0, floor ? "floor              1.9" : "first seen with", "$E show coupler-1");
        expect(0, "", "cp without.json coupler-2.0.bin.json");
        expect(floor ? 1 : 0,
               floor ? "delivered-floor: found 1.0, expected at least 1.9 (cannot be accepted)"
                     : "1 confirmed",
               "$E fit coupler-1 --yes --image coupler-1.0.bin --accept running-version");
    }
}

/* A package with several errors, checked offline: each of them is reported, and who signed it. */
static void a_package_is_checked_with_all_findings(void **state)
{
    (void)state;
    expect(0, "",
           "$E key new ours && cp site.yaml plain && cp coupler-1.0.bin.json m && python3 -c \""
           "import json; a, b = (json.load(open(f'coupler-{v}.0.bin.json')) for v in (1, 2));"
           "a['images'] += b['images']; json.dump(a, open('both.json', 'w'))\" && "
           "$E pack coupler-1.0.bin coupler-2.0.bin --to p.einbau --manifest both.json --sign ours.key");
    expect(0, "2 images: nothing is wrong", "$E check p.einbau");
    expect(0, "not listed here", "$E check p.einbau");
    list_key("ours", "");
    expect(0, "which counts here", "$E check p.einbau");
    expect(0, "",
           "mkdir in && cd in && unzip -q ../p.einbau && echo x >>coupler-1.0.bin && rm coupler-2.0.bin && "
           "zip -q ../two.einbau * && unzip -qo ../p.einbau && sed -i 's/\"1.0\"/\"1.0.1\"/' manifest.json "
           "&& zip -q ../tampered.einbau *");
    /* Both images of it, not only the first. */
    struct outcome o = in_folder("$E check two.einbau nothing-there");
    assert_int_equal(o.status, 1);
    assert_non_null(strstr(o.out, "coupler-1.0.bin: found 2802 bytes, expected 2800 as its manifest says"));
    assert_non_null(strstr(o.out, "names \"coupler-2.0.bin\", which is not beside it"));
    assert_non_null(strstr(o.out, "nothing-there: cannot be opened"));
    assert_non_null(strstr(o.out, "2 files, 0 images: 3 things wrong"));
    outcome_free(&o);
    expect(1, "found a signature that does not belong to the manifest", "$E check tampered.einbau");
    expect(1, "coupler-2.0.bin.json: found no signature, expected one", "$E check coupler-2.0.bin");
    /* Where no key is listed, a signature must still be that of the key which it names. */
    expect(1, "found a signature that does not belong to the manifest",
           "cp plain site.yaml && $E check tampered.einbau");
    expect(2, "found a signature that does not belong to the manifest",
           "$E shelf add --shelf s tampered.einbau");
    expect(0, "\"counts\": false", "$E check --json p.einbau");
    expect(0, "0", "ls s/images s/coming | grep -c '[0-9]'; true");
}

static void this_users_keys_are_listed_and_taken_back(void **state)
{
    (void)state;
    expect(0, "No key is trusted", "$E key list");
    expect(0, "added", "$E key new ours && $E shelf add coupler-2.0.bin --profiles profiles --shelf shelf");
    expect(0, "they cannot be used any more:\n  1  firmware 2.0 (coupler-2.0.bin)", "$E key trust ours.pub");
    expect(0, "this user", "$E key list");
    expect(1, "not signed", "$E fit --yes");
    expect(2, "is not among those", "$E key new other && $E key untrust other.pub");
    expect(0, "no signature is asked for", "$E key untrust ours.pub");
    expect(0, "1 confirmed", "$E fit --yes");
    /* What cannot be read is no permission. */
    expect(2, "Nothing is trusted until it can",
           "mkdir -p $XDG_CONFIG_HOME/einbau/trusted && echo >"
           "$XDG_CONFIG_HOME/einbau/trusted/x.pub && $E plan");
    expect(2, "the folder of trusted keys cannot be read",
           "rm -r $XDG_CONFIG_HOME/einbau/trusted && echo >$XDG_CONFIG_HOME/einbau/trusted && $E fit --yes");
}

/* --- shelves that somebody else has made --------------------------------------------------------- */

/* All commands on a shelf; what they print has no control byte but ends of lines, and is UTF-8. */
static void look_at_the_shelf(const char *what)
{
    static const char *const commands[] = {"shelf list",
                                           "shelf list --json",
                                           "shelf show 1",
                                           "shelf show 1 --json",
                                           "shelf list --for coupler-1 --all",
                                           "shelf list --for coupler-1 --all --json",
                                           "shelf cover site.yaml",
                                           "shelf cover site.yaml --json",
                                           "plan",
                                           "plan --json",
                                           "fit --yes",
                                           "shelf copy site.yaml --to copied",
                                           "shelf add plc-1.0.bin --profiles profiles",
                                           "shelf drop 1",
                                           "shelf list"};
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        struct outcome o = in_folder("$E %s", commands[i]);
        if (o.status > 3)
            fail_msg("%s: %s: found %d\n%s%s", what, commands[i], o.status, o.out, o.err);
        const char *const texts[] = {o.out, o.err};
        for (size_t k = 0; k < 2; k++) {
            char *line = strdup(texts[k]);
            for (char *part = strtok(line, "\n"); part != NULL; part = strtok(NULL, "\n")) {
                if (!eb_text_printable(part))
                    fail_msg("%s: %s prints what must not be shown: %s", what, commands[i], part);
            }
            free(line);
        }
        outcome_free(&o);
    }
}

static void a_foreign_shelf_touches_nothing_outside(void **state)
{
    (void)state;
    static const char *const what[] = {"digest-elsewhere", "loose-elsewhere", "texts",  "origin",
                                       "no-manifest",      "images",          "coming", "lock",
                                       "index.db",         "image-link",      "trusted"};
    replace_in(&little, "site.yaml", ", image: coupler-2.0.bin", "");
    expect(0, "",
           "$E key new theirs && echo victim >victim && $E shelf add coupler-2.0.bin --profiles profiles "
           "--shelf shelf && mv "
           "shelf sound");
    for (size_t i = 0; i < sizeof what / sizeof what[0]; i++) {
        expect(0, "",
               "rm -rf state copied outside shelf && cp -r sound shelf && /usr/bin/python3 $F shelf %s",
               what[i]);
        static const char listing[] = "find . -path ./shelf -prune -o -path ./state -prune -o -path ./copied "
                                      "-prune -o -path ./home -prune -o -path "
                                      "./locks -prune -o -type f -exec sha256sum {} + | sort";
        struct outcome before = in_folder("%s", listing);
        look_at_the_shelf(what[i]);
        struct outcome after = in_folder("%s", listing);
        if (strcmp(before.out, after.out) != 0)
            fail_msg("%s: outside of the shelf there was\n%s\nand there is\n%s", what[i], before.out,
                     after.out);
        outcome_free(&before);
        outcome_free(&after);
        expect(0, "victim", "cat victim");
    }
}

static void a_foreign_shelf_brings_no_trust(void **state)
{
    (void)state;
    replace_in(&little, "site.yaml", ", image: coupler-2.0.bin", "");
    expect(0, "", "$E key new ours && $E key new theirs");
    expect(0, "1 added",
           "$E pack coupler-2.0.bin --to p.einbau --manifest coupler-2.0.bin.json --sign theirs.key && $E "
           "shelf add p.einbau --profiles profiles --shelf shelf");
    expect(0, "", "/usr/bin/python3 $F shelf trusted");
    list_key("ours", "");
    expect(1, "found signed with a key that is not trusted here", "$E fit --yes");
}

static void names_in_all_scripts_are_shown(void **state)
{
    (void)state;
    expect(0, "Seilbahn Größe Δ 索道.bin",
           "cp coupler-2.0.bin 'Seilbahn Größe Δ 索道.bin' && rm coupler-2.0.bin.json && "
           "$E shelf add Seil*.bin --profile coupler --component firmware --version 2.0 "
           "--profiles profiles --shelf shelf && $E shelf list --json --shelf shelf");
    expect(0, "Seilbahn Größe Δ 索道.bin", "$E shelf show 1");
    expect(2, "found control characters in its name",
           "cp coupler-1.0.bin \"$(printf 'a\\342\\200\\256b')\" && $E shelf add a*");
}

/* --- noticed twice ------------------------------------------------------------------------------- */

/* The same serial number at another MAC address is reported by every command that looks, as long as both were
 * seen within 30 days. */
static void another_mac_address_is_told(void **state)
{
    (void)state;
    static const char *const tells[] = {"survey", "plan", "show coupler-1", "confirm"};
    expect(
        0, "",
        "sed -i 's/^world: .*/&\\nlaptop: {eth0: {wire: lan, addresses: [192.0.2.100\\/24]}}/' world.yaml && "
        "sed -i 's/^    serial: .*/&\\n    mac: 02:00:00:00:00:01/' world.yaml");
    for (size_t i = 0; i < sizeof tells / sizeof tells[0]; i++) {
        struct outcome o = in_folder("$E %s", tells[i]);
        if (strstr(o.out, "MAC") != NULL && strstr(o.out, "and on 20") != NULL)
            fail_msg("%s", o.out);
        outcome_free(&o);
    }
    expect(0, "", "sed -i 's/02:00:00:00:00:01/02:00:00:00:00:02/' world.yaml");
    for (size_t i = 0; i < sizeof tells / sizeof tells[0]; i++) {
        struct outcome o = in_folder("$E %s", tells[i]);
        if (strstr(o.out, "answers at the MAC address 02:00:00:00:00:02, and on 20") == NULL ||
            strstr(o.out, " did so at 02:00:00:00:00:01.") == NULL)
            fail_msg("%s\n%s%s", tells[i], o.out, o.err);
        outcome_free(&o);
    }
    expect(1, "\"before\": \"02:00:00:00:00:01\"", "$E survey --json");
    expect(1, "1 outdated",
           "sqlite3 state/devices.db \"UPDATE cards SET seen = '2020-01-01T00:00:00Z' WHERE mac LIKE '%%01'\""
           " && $E survey >x; grep -c 'did so' x; cat x; exit 1");
    expect(1, "0", "grep -c 'did so' x");
}

/* --- what comes to the terminal ------------------------------------------------------------------ */

/* A sequence that the tool itself writes: colours, and what a progress display needs (ECMA-48 section 5.4).
 */
static size_t own_sequence(const char *at)
{
    size_t size = 2;
    if (at[0] != '\x1b' || at[1] != '[')
        return 0;
    size += strspn(at + size, "0123456789;");
    return at[size] != '\0' && (strchr("mKA", at[size]) != NULL || (at[size] == 'J' && size == 2)) ? size + 1
                                                                                                   : 0;
}

/* The first place of something but characters that may be shown and what the tool itself writes between them;
 * NULL: there is none. */
static const char *harmful(const char *screen)
{
    for (const char *at = screen; *at != '\0';) {
        char piece[256];
        size_t size = 0;
        size_t own = own_sequence(at);
        if (own > 0 || *at == '\n' || *at == '\r') {
            at += own > 0 ? own : 1;
            continue;
        }
        while (at[size] != '\0' && strchr("\n\r\x1b", at[size]) == NULL &&
               (size < 200 || ((unsigned char)at[size] & 0xC0) == 0x80))
            size++;
        snprintf(piece, sizeof piece, "%.*s", (int)size, at);
        if (size == 0 || !eb_text_printable(piece))
            return at;
        at += size;
    }
    return NULL;
}

static void the_scan_finds_what_is_harmful(void **state)
{
    (void)state;
    /* NOLINTBEGIN(misc-misleading-bidirectional): it is what it is about */
    static const char *const bad[] = {"a\x1b]0;t",
                                      "a\x1b[2Jb",
                                      "a\x07",
                                      "a\x9b"
                                      "31m",
                                      "a\xc2\x9b",
                                      "\xe2\x80\xae",
                                      "\xe2\x80\x8b",
                                      "\xff",
                                      "\x7f",
                                      "a\tb",
                                      "\x1b[?1049h"};
    /* NOLINTEND(misc-misleading-bidirectional) */
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++)
        assert_non_null(harmful(bad[i]));
    assert_null(harmful("Gr\xc3\xb6\xc3\x9f"
                        "e\r\n\x1b[33mx\x1b[0m\x1b[K"));
}

/* Every text of a hostile device, archive, package and index through every command: what comes out is
 * scanned. */
static void no_control_character_reaches_the_terminal(void **state)
{
    (void)state;
    char ports[2][8];
    static const char *const commands[] = {
        "$E survey",
        "$E survey --json",
        "$E show harm",
        "$E show harm --json",
        "$E plan harm --explain --accept running-version",
        "$E plan --json",
        "$E fit harm --accept running-version",
        "$E fit harm --json --yes --accept running-version",
        "$E confirm",
        "$E confirm --json",
        "$E recover",
        "$E blink harm --for 1",
        "$E set harm name=x",
        "$E links harm",
        "$E survey --trace trace.pcapng",
        "$E shelf list --for harm --all --shelf shelf",
        "$E shelf cover --shelf shelf",
        "for f in hostile/*; do $E shelf add --shelf new $f; done",
        "$E check hostile/*",
        "$E check --json hostile/*",
        "$E shelf list --shelf shelf",
        "$E shelf list --json --shelf shelf",
        "$E shelf show 1 --shelf shelf",
        "$E shelf show 1 --json --shelf shelf",
        "$E shelf copy --to other --shelf shelf",
        "$E plan --shelf shelf",
        "$E shelf drop 1 --shelf shelf",
        "$E key trust theirs.pub --shelf shelf",
    };
    snprintf(ports[0], sizeof ports[0], "%u", free_port(SOCK_STREAM));
    snprintf(ports[1], sizeof ports[1], "%u", free_port(SOCK_DGRAM));
    const char *const device[] = {"/usr/bin/python3", SOURCE_DIR "/tests/interop/hostile_device.py", ports[0],
                                  ports[1], NULL};
    char log[PATH_BYTES + 16];
    snprintf(log, sizeof log, "%s/device.log", little.folder);
    expect(0, "",
           "mkdir hostile && python3 " SOURCE_DIR "/tests/shelf/hostile.py hostile && $E key new theirs && "
           "$E shelf add coupler-2.0.bin --profiles profiles --shelf shelf && "
           "python3 $F shelf texts");
    write_text(little.folder, "harm.yaml",
               "site: harm\nlinks: {lan: {kind: ethernet}}\ndevices:\n  harm:\n    link: lan\n    address: "
               "127.0.0.1\n"
               "    ports: {tftp: %s, modbus: %s}\n    profile: coupler\n    wants:\n      "
               "firmware: {version: 2.0, image: coupler-2.0.bin}\n",
               ports[1], ports[0]);
    int pid = start_program(device, log);
    bool there = wait_for_server((unsigned)atoi(ports[0]));
    setenv("E", EINBAU, 1);
    setenv("EINBAU_SITE", "harm.yaml", 1);
    size_t told = 0;
    for (size_t i = 0; there && i < sizeof commands / sizeof commands[0]; i++) {
        char words[PATH_BYTES + 256];
        snprintf(words, sizeof words, "cd %s && %s", little.folder, commands[i]);
        char *screen = on_terminal(words);
        if (getenv("EINBAU_TEST_SHOW") != NULL)
            printf("=== %s\n%s\n", commands[i], screen); /* cmocka's own messages are cut */
        const char *at = harmful(screen);
        if (at != NULL)
            fail_msg("%s printed what may not be printed, at byte %zu of:\n%s", commands[i],
                     (size_t)(at - screen), screen);
        told += strlen(screen);
        free(screen);
    }
    unsetenv("EINBAU_SITE");
    stop_program(pid, SIGKILL);
    assert_true(there);
    print_message("%zu bytes of %zu commands\n", told, sizeof commands / sizeof commands[0]);
    assert_true(told > 10000);
}

/* --- files that change at the wrong moment ------------------------------------------------------- */

/* The file is another one while the user reads the question: what was judged is what is sent. */
static void what_was_judged_is_what_is_sent(void **state)
{
    (void)state;
    int fd;
    char screen[32768] = "";
    size_t have = 0;
    bool answered = false;
    pid_t pid = forkpty(&fd, NULL, NULL, NULL);
    assert_true(pid >= 0);
    if (pid == 0) {
        if (chdir(little.folder) == 0)
            execl(EINBAU, "einbau", "fit", "--site", "site.yaml", "--sim", "world.yaml", "--state", "state",
                  (char *)NULL);
        _exit(127);
    }
    for (;;) {
        ssize_t n = read(fd, screen + have, sizeof screen - 1 - have);
        if (n <= 0)
            break;
        have += (size_t)n;
        screen[have] = '\0';
        if (answered || strstr(screen, "(yes/no) ") == NULL)
            continue;
        answered = true;
        /* By now it has given up what root may do, but reading and writing its user's files. */
        struct outcome rights =
            shell("grep -E '^(CapEff|CapPrm|NoNewPrivs):' /proc/%d/status | tr -s '\\t\\n' ' '", (int)pid);
        const char *least = geteuid() == 0
                                ? "CapPrm: 0000000000000002 CapEff: 0000000000000002 NoNewPrivs: 1 "
                                : "CapPrm: 0000000000000000 CapEff: 0000000000000000 NoNewPrivs: 1 ";
        has(rights, 0, least);
        /* In place: whoever still reads from the file gets other bytes. */
        expect(0, "", "dd if=/dev/zero of=coupler-2.0.bin bs=1000 count=3 conv=notrunc status=none");
        assert_int_equal(write(fd, "yes\n", 4), 4);
    }
    int status;
    assert_int_equal(waitpid(pid, &status, 0), pid);
    close(fd);
    if (!answered || WEXITSTATUS(status) != 0 || strstr(screen, "1 confirmed") == NULL)
        fail_msg("%s", screen);
}

/* --- links where files are written --------------------------------------------------------------- */

static void files_are_not_written_through_links(void **state)
{
    (void)state;
    static const char *const lines[] = {
        "ln -s ../victim t.pcapng && $E survey --trace t.pcapng",
        "mkdir state && ln -s ../../victim state/lock && $E fit --yes",
        "mkdir state && ln -s ../../victim state/world.state && $E fit --yes",
        "ln -s ../victim real.yaml && timeout 5 " BIN_DIR "/einbau-sim world.yaml --write-site real.yaml",
    };
    for (size_t i = 0; i < sizeof lines / sizeof lines[0]; i++) {
        char victim[PATH_BYTES + 16];
        snprintf(victim, sizeof victim, "%s.victim", little.folder);
        expect(0, "", "rm -rf state t.pcapng real.yaml; echo kept >../victim");
        struct outcome o = in_folder("%s", lines[i]);
        outcome_free(&o);
        expect(0, "kept\n", "cat ../victim; rm ../victim");
    }
    expect(0, "600\n", "$E survey --trace t2.pcapng >/dev/null; stat -c %%a t2.pcapng");
}

/* A trace that is sent to somebody for help gives away neither the community of SNMP nor the key of a unit.
 */
static void a_trace_holds_no_secrets(void **state)
{
    (void)state;
    const struct bus_options bus = {.units = 1};
    replace_in(&little, "profiles/coupler.yaml", "profile: coupler\n",
               "profile: coupler\nsnmp: {community: sesame}\n");
    replace_in(&little, "profiles/coupler.yaml", "  serial: {modbus-object: 0x81}",
               "  serial: {snmp: 1.3.6.1.2.1.47.1.1.1.1.11.1}");
    replace_in(&little, "world.yaml", "    hardware-revision: 3",
               "    hardware-revision: 3\n    speaks: [modbus, tftp, snmp]\n    community: sesame");
    expect(1, "C-1", "$E survey coupler-1 --trace t.pcapng");
    expect(0, "xxxxxx", "tshark -r t.pcapng -Y snmp -T fields -e snmp.community 2>/dev/null");
    expect(1, "", "grep -a sesame t.pcapng");
    little_remove(&little);
    bus_make(&little, &bus);
    expect(0, "1 confirmed", "$E fit --yes --trace t.pcapng");
    expect(0, "06 27 02 00 00 00 00",
           "tshark -r t.pcapng -x -Y 'can.id == 0x700' 2>/dev/null | grep -o '06 27 02.*'");
}

/* --- the shell ------------------------------------------------------------------------------------ */

/* What is advised may be pasted. */
static void advice_is_quoted_for_the_shell(void **state)
{
    (void)state;
    replace_in(&little, "site.yaml", "  coupler-1:\n", "  \"x;touch PWNED;'$(touch PWNED)\":\n");
    replace_in(&little, "world.yaml", "hardware-revision: 3", "hardware-revision: 77");
    struct outcome o = in_folder("$E plan");
    const char *without = strstr(o.out, "Leave it out: ");
    const char *accept = strstr(o.out, "--accept ");
    const char *name = accept != NULL ? strstr(accept, "PWNED)") : NULL;
    const char *end = name != NULL ? strchr(name, ')') : NULL; /* of the name; the next one ends the advice */
    if (without == NULL || end == NULL) {
        fail_msg("%s%s", o.out, o.err);
        return;
    }
    char line[512];
    snprintf(line, sizeof line, "%.*s", (int)strcspn(without + 14, "\n"), without + 14);
    expect(2, "no device is chosen", "$E plan %s", line);
    snprintf(line, sizeof line, "%.*s)%.*s", (int)(end - accept), accept, (int)strcspn(end + 1, ")"),
             end + 1);
    expect(0, "accepted", "$E plan %s", line);
    outcome_free(&o);
    expect(1, "", "test -e PWNED");
}

/* Names that are keys are escaped in the site that the simulation writes. */
static void names_are_escaped_in_a_written_site(void **state)
{
    (void)state;
    replace_in(&little, "site.yaml", "  coupler-1:\n", "  'a\": {x\\':\n");
    replace_in(&little, "world.yaml", "  coupler-1:\n", "  'a\": {x\\':\n");
    expect(
        1, "1 of 1 devices answered",
        BIN_DIR
        "/einbau-sim world.yaml --write-site real.yaml >log & trap \"kill $!\" EXIT; for i in $(seq 50); do "
        "grep -q ready log && break; sleep 0.1; done; unset EINBAU_SIM EINBAU_STATE; $E survey --link lo "
        "--site "
        "real.yaml");
}

/* --- how it is built ------------------------------------------------------------------------------ */

static void the_binary_is_hardened(void **state)
{
    (void)state;
    static const struct {
        const char *line, *says;
    } lines[] = {
        {"readelf -hW " EINBAU, "DYN (Position-Independent Executable file)"},
        {"readelf -lW " EINBAU, "GNU_RELRO"},
        {"readelf -dW " EINBAU, "BIND_NOW"},
        {"readelf --dyn-syms -W " EINBAU, "__stack_chk_fail"},
        {"readelf --dyn-syms -W " EINBAU, "__memcpy_chk"},
#if defined __x86_64__
        /* Debian's own startup files have no such marks, so the linker leaves out the note for the whole. */
        {"[ $(objdump -d --disassemble=main " EINBAU " | grep -c endbr64) -ge 1 ] && echo marked", "marked"},
#endif
    };
    struct outcome sanitized = shell("readelf -sW " EINBAU " | grep -c __asan_init");
    bool is = strcmp(sanitized.out, "0\n") != 0;
    outcome_free(&sanitized);
    if (is)
        skip(); /* another build, for tests only */
    for (size_t i = 0; i < sizeof lines / sizeof lines[0]; i++)
        has(shell("%s", lines[i].line), 0, lines[i].says);
    /* No stack that can be run. */
    struct outcome o = shell("readelf -lW " EINBAU " | grep GNU_STACK");
    if (strstr(o.out, "RW ") == NULL || strstr(o.out, "RWE") != NULL)
        fail_msg("%s", o.out);
    outcome_free(&o);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(a_file_beside_a_site_with_keys_needs_a_signature),
        TEST(a_key_counts_until_its_day_and_not_once_it_is_revoked),
        TEST(a_floor_holds_from_then_on),
        TEST(a_package_is_checked_with_all_findings),
        TEST(this_users_keys_are_listed_and_taken_back),
        TEST(a_foreign_shelf_touches_nothing_outside),
        TEST(a_foreign_shelf_brings_no_trust),
        TEST(names_in_all_scripts_are_shown),
        TEST(another_mac_address_is_told),
        cmocka_unit_test(the_scan_finds_what_is_harmful),
        TEST(no_control_character_reaches_the_terminal),
        TEST(what_was_judged_is_what_is_sent),
        TEST(files_are_not_written_through_links),
        TEST(a_trace_holds_no_secrets),
        TEST(advice_is_quoted_for_the_shell),
        TEST(names_are_escaped_in_a_written_site),
        TEST(the_binary_is_hardened),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
