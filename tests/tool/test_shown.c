/* Every command line that README, docs, help and the heads of the examples show is run as it stands there: on
 * the demo's simulated hardware, on its sockets, on an Ethernet segment between two network namespaces, on a
 * serial adapter.  Left out are those that begin with make (which call this test) and sudo (which change the
 * system). */
#include "support/support.h"

#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { LINES_MAX = 96, LINE_BYTES = 1024 };

static char folder[PATH_BYTES];

struct lines {
    char list[LINES_MAX][LINE_BYTES];
    size_t count;
};

/* --- what is shown ------------------------------------------------------------------------------- */

static bool begins(const char *text, const char *with)
{
    return strncmp(text, with, strlen(with)) == 0;
}

/* Whether a line of a document is one to be run. */
static bool is_command(const char *line)
{
    static const char *const heads[] = {"einbau ",    "../bin/einbau ", "build/bin/",    "cd ",
                                        "export EIN", "einbau-sim ",    "read_",         "push_image ",
                                        "fit_one ",   "flash_",         "who_is_there ", "printf "};
    for (size_t i = 0; i < sizeof heads / sizeof heads[0]; i++) {
        if (begins(line, heads[i]))
            return true;
    }
    return false;
}

/* The lines behind `indent` blanks (or what else stands in front of them). */
static void take_lines(struct lines *l, const char *text, const char *indent)
{
    for (const char *at = text; *at != '\0';) {
        size_t size = strcspn(at, "\n");
        if (begins(at, indent) && is_command(at + strlen(indent))) {
            char *to = l->list[l->count++];
            assert_true(l->count < LINES_MAX && size < LINE_BYTES);
            snprintf(to, LINE_BYTES, "%.*s", (int)(size - strlen(indent)), at + strlen(indent));
            while (to[strlen(to) - 1] == '\\') { /* it goes on */
                at += size + 1;
                size = strcspn(at, "\n");
                snprintf(to + strlen(to) - 1, LINE_BYTES - strlen(to), " %.*s", (int)size, at);
            }
        }
        at += size + (at[size] == '\n');
    }
}

static void take_file(struct lines *l, const char *name)
{
    char *text = read_text(SOURCE_DIR, name, NULL);
    assert_non_null(text);
    /* What stands in a fence is YAML or JSON. */
    for (char *fence = strstr(text, "```"); fence != NULL; fence = strstr(fence, "```")) {
        char *end = strstr(fence + 3, "```");
        assert_non_null(end);
        memset(fence, '\n', (size_t)(end + 3 - fence));
    }
    take_lines(l, text, "    ");
    free(text);
}

/* Lets a command line run in the background. */
static void behind(char *line)
{
    size_t size = strlen(line);
    snprintf(line + size, LINE_BYTES - size, " &");
}

/* --- running ------------------------------------------------------------------------------------- */

/* The line with another text in place of one that is shown. */
static void put_instead(char line[LINE_BYTES], const char *shown, const char *text)
{
    char *at = strstr(line, shown);
    assert_non_null(at);
    char *rest = strdup(at + strlen(shown));
    size_t room = LINE_BYTES - (size_t)(at - line);
    assert_true((size_t)snprintf(at, room, "%s%s", text, rest) < room);
    free(rest);
}

/* The address of a published shelf that is shown is that of a web server here, which `head` starts. */
static void serve_shelf(struct lines *l, const char *begin, char *head, size_t cap)
{
    static const char shown[] = "https://images.example/shelf";
    unsigned port = free_port(SOCK_STREAM);
    char url[48];
    snprintf(url, sizeof url, "http://127.0.0.1:%u", port);
    for (size_t i = 0; i < l->count; i++) {
        if (strstr(l->list[i], shown) != NULL)
            put_instead(l->list[i], shown, url);
    }
    snprintf(
        head, cap,
        "%s\nmkdir -p web/shelf\n/usr/bin/python3 -m http.server --bind 127.0.0.1 --directory web/shelf %u "
        ">/dev/null 2>&1 &\ntrap \"kill $!\" EXIT\nsleep 1",
        begin, port);
}

/* Runs them one behind the other in one shell, below `head`; each must end with 0, or with at most `worst`:
 * the demo's plant is not as wanted. */
static void run_lines(const struct lines *l, const char *head, int worst)
{
    char path[PATH_BYTES + 16];
    char *script = NULL;
    size_t size = 0;
    FILE *to = open_memstream(&script, &size);
    fprintf(to, "PATH=%s:$PATH\n%s\n", BIN_DIR, head);
    for (size_t i = 0; i < l->count; i++) {
        fprintf(to, "%s\necho \"line %zu ended with $?\"\n", l->list[i], i);
        if (l->list[i][strlen(l->list[i]) - 1] == '&')
            fputs("sleep 2\n", to);
    }
    fputs("kill $! 2>/dev/null\n", to); /* what was put into the background */
    fclose(to);
    write_text(folder, "script", "%s", script);
    free(script);
    snprintf(path, sizeof path, "sh %s/script", folder);
    char *screen = on_terminal(path);
    for (size_t i = 0; i < l->count; i++) {
        char ended[48];
        snprintf(ended, sizeof ended, "line %zu ended with ", i);
        const char *at = strstr(screen, ended);
        int status = at != NULL ? atoi(at + strlen(ended)) : -1;
        if (status < 0 || status > worst)
            fail_msg("%s\nended with %d:\n%s", l->list[i], status, screen);
    }
    print_message("%zu lines\n", l->count);
    free(screen);
}

/* --- places to run them in ----------------------------------------------------------------------- */

/* A clone in which `make demo` was called: build/bin, build/demo. */
static int set_up(void **state)
{
    (void)state;
    make_demo(folder);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static const char in_demo[] = "export EINBAU_SITE=larchfell.site.yaml EINBAU_SIM=larchfell.world.yaml "
                              "EINBAU_STATE=state EINBAU_SHELF=shelf EINBAU_KEY_FILE=passwords.key "
                              "EINBAU_PASSWORD_FILE=label\n";

static void the_demo_by_hand(void **state)
{
    (void)state;
    struct lines l = {.count = 0};
    char head[PATH_BYTES + 32];
    take_file(&l, "docs/demo.md");
    assert_true(l.count >= 16);
    /* Those on sockets are of the clone's folder again, and of the laptop's own network. */
    struct lines by_hand = {.count = 0};
    struct lines sockets = {.count = 0};
    for (size_t i = 0; i < l.count; i++) {
        struct lines *to = begins(l.list[i], "build/bin/") ? &sockets : &by_hand;
        memcpy(to->list[to->count++], l.list[i], LINE_BYTES);
    }
    assert_int_equal(sockets.count, 2);
    snprintf(head, sizeof head, "cd %s", folder);
    run_lines(&by_hand, head, 1);
    run_lines(&sockets, head, 1);
}

/* A manifest beside an image of the demo. */
static void describe(const char *file, const char *version, const char *code, const char *revisions)
{
    done(shell("cd %s/build/demo && python3 -c \"\n"
               "import hashlib, json\n"
               "b = open('%s', 'rb').read()\n"
               "json.dump({'einbau': 'manifest/1', 'images': [{'file': '%s', 'component': 'firmware', "
               "'version': '%s', 'size': len(b), 'sha256': hashlib.sha256(b).hexdigest(), 'order_codes': "
               "['%s'], 'hardware_revisions': ['%s']}]}, open('%s.json', 'w'))\"",
               folder, file, file, version, code, revisions, file));
}

/* What the lines of docs and help are about, beside the demo's own files. */
static void add_files(void)
{
    done(shell(
        "cd %s/build/demo && export EINBAU_SITE=larchfell.site.yaml EINBAU_SHELF=shelf && " BIN_DIR
        "/einbau shelf add downloads/* >/dev/null && "
        "cp images/bl-k8-e-firmware-1.24.bin k8.bin && cp downloads/regent-display-1.4.zip update.zip && "
        "cp images/qm-rc4-24d-firmware-4.1.9.bin old.bin && cp downloads/ga2-20260918.hex fw.hex && "
        "zip -q web.zip images/sk-g3-firmware-5.0.bin && cp downloads/rc4-24k-4.2.1.s37 rc4-24k.bin && "
        "mkdir -p panel-2.0 && cp k8.bin panel-2.0/1-boot.bin && cp old.bin panel-2.0/2-program.bin",
        folder));
    write_text(folder, "build/demo/label", "Larch:fell 7\n");
    describe("rc4-24k.bin", "4.2.1", "QM-RC4-24K", "4..6");
    char path[PATH_BYTES + 32];
    snprintf(path, sizeof path, "%s/build/demo", folder);
    write_text(path, "update.json",
               "{\"einbau\": \"manifest/1\", \"images\": ["
               "{\"file\": \"fw.hex\", \"component\": \"firmware\", \"version\": \"20260918\", "
               "\"order_codes\": [\"SK-GA2\"], \"hardware_revisions\": [\"1..9\"]}, "
               "{\"file\": \"web.zip\", \"component\": \"firmware\", \"version\": \"1.0\", "
               "\"order_codes\": [\"SK-GA2\"], \"hardware_revisions\": [\"1..9\"], \"format\": \"raw\"}]}\n");
}

/* A gateway in its loader, and a device of another subnet: the cause, once for all that it goes for. */
static void why_devices_are_not_reached(void **state)
{
    (void)state;
    done(shell("cd %s/build/demo && sed -i 's/^    serial: VL1-0042/&\\n    starts: loader/' "
               "larchfell.world.yaml",
               folder));
    static const struct {
        const char *words, *says;
    } cases[] = {
        {"survey", "\ndoor-01..door-08, grip-amp-1, grip-amp-2: not reached: the gateway lead-node is in its "
                   "loader. 'einbau fit lead-node' writes it first\n"},
        {"survey", "\npa-summit: not reached: no address of eth0 is in its subnet; use --add-address\n"},
        {"plan door-02 lead-node", "\ndoor-02: not reached: the gateway lead-node is in its loader."},
        {"show door-02", "trouble            not reached: the gateway lead-node is in its loader."},
        {"fit --yes door-01 door-02 lead-node", "\ndoor-01, door-02: not reached before: the gateway "
                                                "lead-node was in its loader. It runs again now: "
                                                "'einbau fit door-01 door-02'\n"},
        {"fit --yes door-01 door-02", "Larchfell ropeway: 2 confirmed\n"},
    };
    done(shell("cd %s/build/demo && %s" BIN_DIR "/einbau shelf add downloads/* >/dev/null", folder, in_demo));
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct outcome o =
            shell("cd %s/build/demo && %s" BIN_DIR "/einbau %s", folder, in_demo, cases[i].words);
        if (strstr(o.out, cases[i].says) == NULL)
            fail_msg("%s: found\n%s%s", cases[i].words, o.out, o.err);
        outcome_free(&o);
    }
}

/* A job that was killed while the gateway had no program: what is behind it cannot be looked at before that
 * is written, and is gone on with after that. */
static void a_gateway_is_written_before_what_is_behind_it(void **state)
{
    (void)state;
    struct outcome o =
        shell("cd %s/build/demo && sed 's/^seed: .*/&\\nlaptop-process: {frame: 600, signal: kill}/' "
              "larchfell.world.yaml "
              ">killed.world.yaml && %s" BIN_DIR
              "/einbau shelf add downloads/* >/dev/null; for run in --sim=killed.world.yaml "
              "--resume; do " BIN_DIR
              "/einbau fit $run --yes $(test $run = --resume || echo drive-plc rescue-plc lead-node "
              "door-01 door-02 grip-amp-1 rope-gauge); done",
              folder, in_demo);
    static const char *const says[] = {"lead-node   cut off at send firmware 2.1.0",
                                       "door-01     not begun",
                                       "unreachable",
                                       "Larchfell ropeway: 4 confirmed, 3 failed\n",
                                       "Job 2 of ",
                                       "Larchfell ropeway: 3 confirmed, 4 up-to-date\n"};
    const char *at = o.out;
    for (size_t i = 0; i < sizeof says / sizeof says[0]; i++) {
        const char *next = strstr(at, says[i]);
        if (next == NULL)
            fail_msg("not there, or not behind the one before: %s\n%s%s", says[i], o.out, o.err);
        at = next;
    }
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

static void the_docs(void **state)
{
    (void)state;
    static const char *const files[] = {"docs/shelf.md", "docs/package.md", "docs/site.md",
                                        "docs/bus.md",   "docs/json.md",    "docs/profiles.md"};
    struct lines l = {.count = 0};
    char begin[PATH_BYTES + 512];
    char head[2 * PATH_BYTES + 1024];
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++)
        take_file(&l, files[i]);
    assert_true(l.count >= 9);
    add_files();
    snprintf(begin, sizeof begin, "cd %s/build/demo\n%seinbau key new workshop", folder, in_demo);
    serve_shelf(&l, begin, head, sizeof head);
    run_lines(&l, head, 1);
}

/* The examples at the end of each command's help; but for the adapter's, which is real. */
static void the_help(void **state)
{
    (void)state;
    struct outcome all = shell(BIN_DIR "/einbau --help");
    struct lines l = {.count = 0};
    char begin[PATH_BYTES + 512];
    char head[2 * PATH_BYTES + 1024];
    size_t commands = 0;
    take_lines(&l, "  einbau key new workshop\n", "  "); /* before something is signed with it */
    for (const char *at = strstr(all.out, "\n  "); at != NULL; at = strstr(at + 1, "\n  ")) {
        char name[16];
        snprintf(name, sizeof name, "%.13s", at + 3);
        struct outcome help = shell(BIN_DIR "/einbau %s --help", name);
        assert_int_equal(help.status, 0);
        size_t before = l.count;
        take_lines(&l, help.out, "  ");
        if (l.count == before)
            fail_msg("%s: its help has no example", name);
        outcome_free(&help);
        commands++;
    }
    outcome_free(&all);
    assert_true(commands >= 18);
    struct lines simulated = {.count = 0};
    for (size_t i = 0; i < l.count; i++) {
        bool again = i > 0 && strcmp(l.list[i], l.list[0]) == 0; /* a key is never written over */
        if (strstr(l.list[i], "/dev/tty") == NULL && !again)
            memcpy(simulated.list[simulated.count++], l.list[i], LINE_BYTES);
    }
    add_files();
    snprintf(begin, sizeof begin, "cd %s/build/demo\n%s", folder, in_demo);
    serve_shelf(&simulated, begin, head, sizeof head);
    run_lines(&simulated, head, 1);
}

/* Those of the simulator: the first one serves until it is ended; the others are of a whole segment, and are
 * run where the user may make one. */
static void the_help_of_the_simulator(void **state)
{
    (void)state;
    struct outcome help = shell(BIN_DIR "/einbau-sim --help");
    struct lines l = {.count = 0};
    struct lines sockets = {.count = 0};
    struct lines segment = {.count = 0};
    char head[PATH_BYTES + 32];
    char *at = help.out;
    for (char *ip = strstr(at, "\n  ip "); ip != NULL; ip = strstr(ip + 1, "\n  ip ")) {
        size_t size = strcspn(ip + 3, "\n");
        snprintf(segment.list[segment.count++], LINE_BYTES, "%.*s", (int)size, ip + 3);
    }
    take_lines(&l, help.out, "  ");
    outcome_free(&help);
    assert_int_equal(l.count, 2);
    assert_int_equal(segment.count, 5);
    behind(l.list[0]);
    for (size_t i = 0; i < l.count; i++)
        memcpy(sockets.list[sockets.count++], l.list[i], LINE_BYTES);
    snprintf(head, sizeof head, "cd %s/build/demo", folder);
    run_lines(&sockets, head, 1);
    struct outcome o = shell("ip netns list | grep -w plant || ip netns add plant && ip netns del plant");
    bool may = o.status == 0;
    outcome_free(&o);
    if (!may) {
        print_message("no network namespace called plant can be made here: skipped\n");
        skip();
    }
    behind(segment.list[4]);
    run_lines(&segment, head, 0);
    o = shell("ip netns pids plant | xargs -r kill; ip netns del plant; ip link del plug");
    outcome_free(&o);
}

/* --- the examples -------------------------------------------------------------------------------- */

/* The lines in the heads of the examples that `which` picks. */
static void take_examples(struct lines *l, bool which(const char *line))
{
    static const char *const files[] = {"fit_one",       "flash_node", "flash_usb",   "push_image",
                                        "read_identity", "read_node",  "who_is_there"};
    for (size_t i = 0; i < sizeof files / sizeof files[0]; i++) {
        struct lines own = {.count = 0};
        char name[48];
        snprintf(name, sizeof name, "examples/%s.c", files[i]);
        char *text = read_text(SOURCE_DIR, name, NULL);
        take_lines(&own, text, " *   ");
        free(text);
        assert_true(own.count > 0);
        for (size_t k = 0; k < own.count; k++) {
            char *end = strstr(own.list[k], "  "); /* what is said of it behind it */
            if (end != NULL)
                *end = '\0';
            end = strstr(own.list[k], " */");
            if (end != NULL)
                *end = '\0';
            if (which(own.list[k]))
                memcpy(l->list[l->count++], own.list[k], LINE_BYTES);
        }
    }
}

static bool is_simulated(const char *line)
{
    return strstr(line, ".world.yaml") != NULL;
}

static bool is_on_tty(const char *line)
{
    return strstr(line, "/dev/tty") != NULL;
}

static bool is_on_usb(const char *line)
{
    return begins(line, "flash_usb");
}

static bool is_on_ethernet(const char *line)
{
    return !is_simulated(line) && !is_on_tty(line) && !is_on_usb(line) && strstr(line, " can0 ") == NULL;
}

static void the_examples_on_simulated_hardware(void **state)
{
    (void)state;
    struct lines l = {.count = 0};
    char head[PATH_BYTES + 64];
    take_examples(&l, is_simulated);
    assert_int_equal(l.count, 2);
    add_files();
    snprintf(head, sizeof head, "cd %s/build/demo", folder);
    run_lines(&l, head, 0);
}

/* In front of the real libusb. */
static void the_examples_on_usb(void **state)
{
    (void)state;
    struct lines l = {.count = 0};
    char line[2 * LINE_BYTES];
    take_examples(&l, is_on_usb);
    assert_int_equal(l.count, 1);
    done(shell("cd %s/build/demo && cp downloads/g3-5.2.dfu .", folder));
    describe("g3-5.2.dfu", "5.2", "SK-G3", "1..3");
    snprintf(line, sizeof line,
             "cd %s/build/demo && pre=$(ldd " BIN_DIR
             "/einbau | awk '/lib(a|ub)san/ {print $3}' | tr '\\n' ':') && exec env PATH=" BIN_DIR
             ":$PATH LD_PRELOAD=\"${pre}libumockdev-preload.so.0\" ASAN_OPTIONS=detect_leaks=0 " BIN_DIR
             "/usb_stage larchfell.world.yaml -- %s",
             folder, l.list[0]);
    struct outcome o = shell("%s", line);
    if (o.status != 0 || strstr(o.out, "confirmed") == NULL)
        fail_msg("%s: found %d\n%s%s", l.list[0], o.status, o.out, o.err);
    outcome_free(&o);
}

static void those_on_a_serial_adapter(void **state)
{
    (void)state;
    struct lines l = {.count = 0};
    char head[2 * PATH_BYTES];
    char log[PATH_BYTES + 32];
    char site[PATH_BYTES + 32];
    char world[PATH_BYTES + 64];
    char adapter[64] = "";
    take_examples(&l, is_on_tty);
    struct outcome help = shell(BIN_DIR "/einbau survey --help");
    struct lines own = {.count = 0};
    take_lines(&own, help.out, "  ");
    outcome_free(&help);
    for (size_t i = 0; i < own.count; i++) {
        if (is_on_tty(own.list[i]))
            memcpy(l.list[l.count++], own.list[i], LINE_BYTES);
    }
    assert_int_equal(l.count, 3);
    snprintf(log, sizeof log, "%s/sim.log", folder);
    snprintf(site, sizeof site, "%s/real.yaml", folder);
    snprintf(world, sizeof world, "%s/build/demo/larchfell.world.yaml", folder);
    const char *const program[] = {BIN_DIR "/einbau-sim", world, "--write-site", site, NULL};
    int pid = start_program(program, log);
    assert_true(wait_for_text(log, "ready:", 20));
    char *told = read_text(folder, "sim.log", NULL);
    const char *at = strstr(told, ": adapters ");
    assert_non_null(at);
    assert_int_equal(sscanf(at, ": adapters %63s", adapter), 1);
    free(told);
    for (size_t i = 0; i < l.count; i++)
        put_instead(l.list[i], "/dev/ttyACM0", adapter);
    done(
        shell("cd %s/build/demo && " BIN_DIR "/einbau shelf add --shelf shelf --site larchfell.site.yaml "
              "downloads/* >/dev/null && cp shelf/images/*/$(" BIN_DIR
              "/einbau shelf list --shelf shelf --json | python3 -c \"import json, sys; "
              "print([i['digest'] for i in json.load(sys.stdin)['images'] if i['version'] == '1.7.2'][0])\") "
              "d2-1.7.2.bin",
              folder));
    describe("d2-1.7.2.bin", "1.7.2", "VH-D2", "B1..B9");
    snprintf(head, sizeof head, "cd %s/build/demo", folder);
    run_lines(&l, head, 1); /* the bus has nodes that the site does not want so */
    assert_int_equal(stop_program(pid, SIGTERM), 0);
}

/* The demo's wire as a whole segment at the other end of a cable; the laptop's end is called eth0. */
static void those_on_an_ethernet_segment(void **state)
{
    (void)state;
    struct lines l = {.count = 0};
    char lap[32];
    char plant[32];
    char line[4 * PATH_BYTES];
    char log[PATH_BYTES + 16];
    take_examples(&l, is_on_ethernet);
    assert_int_equal(l.count, 3);
    snprintf(lap, sizeof lap, "ebs%dl", getpid());
    snprintf(plant, sizeof plant, "ebs%dp", getpid());
    struct outcome o = shell("ip netns add %s && ip netns add %s && "
                             "ip -n %s link add eth0 type veth peer name socket netns %s && "
                             "ip -n %s link set lo up && ip -n %s link set eth0 up && "
                             "ip -n %s address add 192.0.2.100/24 dev eth0 && "
                             "ip -n %s link set socket up && ip -n %s link set lo up",
                             lap, plant, lap, plant, lap, lap, lap, plant, plant);
    bool made = o.status == 0;
    outcome_free(&o);
    if (!made) {
        print_message("no network namespaces can be made here: skipped\n");
        skip();
    }
    snprintf(log, sizeof log, "%s/sim.log", folder);
    snprintf(line, sizeof line,
             "cd %s/build/demo && exec ip netns exec %s " BIN_DIR
             "/einbau-sim larchfell.world.yaml --on socket",
             folder, plant);
    const char *const program[] = {"sh", "-c", line, NULL};
    int pid = start_program(program, log);
    assert_true(wait_for_text(log, "ready:", 20));
    done(shell("cd %s/build/demo && cp images/qm-rc4-24d-firmware-4.1.9.bin regent.bin", folder));
    /* The PLC takes an image only while its program is stopped. */
    done(shell("cd %s/build/demo && ip netns exec %s python3 -c \"\n"
               "import socket\n"
               "s = socket.create_connection(('192.0.2.10', 502), 5)\n"
               "s.sendall(bytes([0, 1, 0, 0, 0, 6, 255, 6, 0x10, 0, 0, 2]))\n"
               "assert s.recv(64)[7] == 6\"",
               folder, lap));
    for (size_t i = 0; i < l.count; i++) {
        struct outcome run = shell("cd %s/build/demo && PATH=" BIN_DIR ":$PATH exec ip netns exec %s %s",
                                   folder, lap, l.list[i]);
        if (run.status != 0)
            fail_msg("%s: found %d\n%s%s", l.list[i], run.status, run.out, run.err);
        outcome_free(&run);
    }
    stop_program(pid, SIGTERM);
    o = shell("ip netns delete %s; ip netns delete %s", lap, plant);
    outcome_free(&o);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(the_demo_by_hand),
        TEST(why_devices_are_not_reached),
        TEST(the_docs),
        TEST(a_gateway_is_written_before_what_is_behind_it),
        TEST(the_help),
        TEST(the_help_of_the_simulator),
        TEST(the_examples_on_simulated_hardware),
        TEST(the_examples_on_usb),
        TEST(those_on_a_serial_adapter),
        TEST(those_on_an_ethernet_segment),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
