/* The command-line tool as a process: what it prints, how it ends, and what it leaves behind. */
#include "support/support.h"

#include <fcntl.h>
#include <jansson.h>
#include <pty.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

static struct little little;
static char state_dir[PATH_BYTES + 16];

static int set_up(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .couplers = 2};
    little_make(&little, &options);
    snprintf(state_dir, sizeof state_dir, "%s/state", little.folder);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

/* Runs `einbau COMMAND...` on the little site; the words are separated by blanks. */
static struct outcome einbau_at(const char *site, const char *world, const char *words)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line, "cd %s && exec %s/einbau %s --site %s --sim %s --state %s", little.folder,
             BIN_DIR, words, site, world, state_dir);
    const char *const arguments[] = {"sh", "-c", line, NULL};
    return run_program(arguments);
}

static struct outcome einbau(const char *words)
{
    return einbau_at("site.yaml", "world.yaml", words);
}

static void expect_in(const char *text, const char *part)
{
    if (strstr(text, part) == NULL)
        fail_msg("found:\n%s\nexpected in it: %s", text, part);
}

/* Runs, and insists on the exit status and on a part of what was printed (stdout, then stderr). */
static void expect(const char *words, int status, const char *out, const char *err)
{
    struct outcome o = einbau(words);
    if (o.status != status)
        fail_msg("einbau %s: found exit status %d, expected %d\n%s%s", words, o.status, status, o.out, o.err);
    expect_in(o.out, out);
    expect_in(o.err, err);
    outcome_free(&o);
}

static json_t *document(const char *words, int status)
{
    struct outcome o = einbau(words);
    json_error_t error;
    assert_int_equal(o.status, status);
    assert_string_equal(o.err, "");
    json_t *root = json_loads(o.out, JSON_REJECT_DUPLICATES, &error);
    if (root == NULL)
        fail_msg("not JSON: %s\n%s", error.text, o.out);
    outcome_free(&o);
    return root;
}

static const json_t *device(const json_t *root, const char *name)
{
    size_t i;
    json_t *value;
    json_array_foreach(json_object_get(root, "devices"), i, value)
    {
        if (strcmp(json_string_value(json_object_get(value, "name")), name) == 0)
            return value;
    }
    fail_msg("no device %s", name);
    return NULL;
}

static const char *text(const json_t *object, const char *key)
{
    const char *value = json_string_value(json_object_get(object, key));
    return value != NULL ? value : "(none)";
}

static const json_t *component(const json_t *of_device, size_t index)
{
    return json_array_get(json_object_get(of_device, "components"), index);
}

/* What the first component of a device runs, read back by another process. */
static void expect_running(const char *name, const char *version)
{
    char words[128];
    snprintf(words, sizeof words, "survey --json %s", name);
    struct outcome o = einbau(words);
    json_t *root = json_loads(o.out, 0, NULL);
    assert_non_null(root);
    assert_string_equal(text(component(device(root, name), 0), "running"), version);
    json_decref(root);
    outcome_free(&o);
}

/* --- the way through ----------------------------------------------------------------------------- */

static void from_first_look_to_confirmed_version(void **state)
{
    (void)state;
    expect("survey", 1, "little: 3 of 3 devices answered", "");
    expect("show plc-1", 1, "serial number      P-1", "");
    expect("plan", 0, "Plan for little: 4 images, 3 devices", "");
    expect_running("plc-1", "1.0");
    expect("fit --yes", 0, "little: 3 confirmed", "plc-1: confirmed");
    expect("confirm", 0, "little: 3 devices as wanted, 0 not", "");
    expect("survey", 0, "current", "");
    expect("fit --yes", 0, "Nothing to write", "");
    expect("fit plc-1 --yes", 0, "Nothing to write", "");
}

static void documents_say_what_the_tables_say(void **state)
{
    (void)state;
    json_t *root = document("survey --json", 1);
    assert_string_equal(text(root, "einbau"), "survey/2");
    assert_string_equal(text(root, "site"), "little");
    const json_t *plc = device(root, "plc-1");
    assert_string_equal(text(plc, "address"), "192.0.2.1");
    assert_string_equal(text(json_object_get(plc, "identity"), "order_code"), "TP-1");
    assert_string_equal(text(component(plc, 1), "name"), "display");
    assert_string_equal(text(component(plc, 1), "running"), "1.0");
    assert_string_equal(text(component(plc, 1), "wanted"), "2.0");
    assert_string_equal(text(component(plc, 1), "mark"), "outdated");
    json_decref(root);

    root = document("plan --json", 0);
    assert_string_equal(text(root, "einbau"), "plan/2");
    const json_t *findings = json_object_get(device(root, "coupler-1"), "findings");
    assert_int_equal(json_array_size(findings), EB_RULES_OF_IMAGES + 1); /* and the batch */
    assert_string_equal(text(json_array_get(findings, 1), "code"), "hardware-revision");
    assert_string_equal(text(json_array_get(findings, 1), "found"), "3");
    assert_string_equal(text(json_array_get(findings, 1), "expected"), "1..9");
    assert_string_equal(text(json_array_get(findings, 1), "grade"), "yes");
    json_decref(root);

    root = document("fit --json --yes", 0);
    assert_string_equal(text(device(root, "plc-1"), "outcome"), "confirmed");
    assert_string_equal(text(component(device(root, "plc-1"), 0), "from"), "1.0");
    assert_string_equal(text(component(device(root, "plc-1"), 0), "running"), "2.0");
    assert_string_equal(text(component(device(root, "plc-1"), 0), "mark"), "current");
    json_decref(root);
    root = document("confirm --json", 0);
    assert_int_equal(json_integer_value(json_object_get(root, "as_wanted")), 3);
    json_decref(root);
}

static void one_refused_device_keeps_all_from_being_written(void **state)
{
    (void)state;
    write_image(little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "4..6", "");
    expect("plan", 1, "coupler-2 firmware 2.0: hardware-revision: found 3, expected 4..6", "");
    expect("fit --yes", 1, "--without coupler-1 --without coupler-2", "");
    expect("fit --yes", 1, "Nothing was written.", "");
    expect_running("plc-1", "1.0");
    json_t *root = document("fit --yes --json", 1);
    assert_string_equal(text(device(root, "coupler-1"), "outcome"), "refused");
    assert_string_equal(text(device(root, "plc-1"), "outcome"), "(none)");
    json_decref(root);
    expect("fit --yes --without coupler-1 --without coupler-2", 0, "1 confirmed", "");
    expect_running("plc-1", "2.0");
    expect_running("coupler-1", "1.0");
    expect("confirm --without coupler-1", 1, "1 device as wanted, 1 not: coupler-2", "");
}

static void a_finding_is_accepted_by_its_code_only(void **state)
{
    (void)state;
    write_image(little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "4..6", "");
    expect("fit coupler-1 --yes --accept least-running", 1, "Refused: coupler-1", "");
    expect("plan coupler-1 --accept hardware-revision", 0, "found 3, expected 4..6 (accepted)", "");
    expect("fit coupler-1 --yes --accept hardware-revision", 0, "1 confirmed", "");
    expect("fit coupler-2 --accept colour", 2, "",
           "--accept: found 'colour', expected DEVICE: and one of: order-code");
    write_image(little.folder, "coupler-2.0.bin", "TC-9", "firmware", "2.0", 3000, "1..9", "");
    expect("fit coupler-2 --yes --accept order-code", 1,
           "order-code: found TC-1, expected TC-9 (cannot be accepted)", "");
    expect_running("coupler-2", "1.0");
}

static void the_same_version_is_written_again_when_asked(void **state)
{
    (void)state;
    expect("fit --yes", 0, "3 confirmed", "");
    expect("fit coupler-1 --again --yes", 0, "1 confirmed", "coupler-1: send firmware 2.0");
    expect("fit --again --yes", 2, "", "--again: found no device names");
}

static void an_older_image_is_written_only_when_accepted(void **state)
{
    (void)state;
    expect("fit --yes", 0, "3 confirmed", "");
    expect("fit coupler-1 --image coupler-1.0.bin --yes", 1,
           "running-version: found 2.0, expected older than 1.0", "");
    expect("fit coupler-1 --image coupler-1.0.bin --accept running-version --yes", 0, "1 confirmed", "");
    expect_running("coupler-1", "1.0");
    expect("survey coupler-1", 1, "outdated", "");
}

static void an_image_for_another_variant_is_refused(void **state)
{
    (void)state;
    expect("plan coupler-1 --image plc-2.0.bin", 1, "order-code: found TC-1, expected TP-1", "");
    expect("fit coupler-1 --image display-2.0.bin --yes", 2, "",
           "found an image for the component 'display', expected one that coupler-1 has");
    expect("plan --image plc-2.0.bin", 2, "", "--image: found no device names");
    expect_running("coupler-1", "1.0");
}

/* --- asking -------------------------------------------------------------------------------------- */

/* The tool as it is built without simulated hardware. */
static void without_simulated_hardware_it_says_so(void **state)
{
    (void)state;
    struct outcome o =
        shell(BIN_DIR "/einbau_without_sim survey --site %s --sim %s", little.site_path, little.world_path);
    assert_int_equal(o.status, 2);
    assert_non_null(
        strstr(o.err, "found no simulated hardware in this einbau, expected one that was built with"));
    outcome_free(&o);
}

static void without_a_terminal_it_wants_yes(void **state)
{
    (void)state;
    expect("fit", 2, "Plan for little",
           "cannot ask for confirmation without a terminal; use --yes. Nothing was written");
    expect_running("plc-1", "1.0");
}

/* Answers the question on a terminal, each time that it is asked with the next line; gives the exit status.
 */
static int fit_on_terminal(const char *answers, char *screen, size_t cap)
{
    struct winsize size = {.ws_row = 40, .ws_col = 100};
    int fd;
    size_t have = 0;
    static const char question[] = "(yes/no) ";
    size_t answered = 0; /* what stands before is */
    pid_t pid = forkpty(&fd, NULL, NULL, &size);
    assert_true(pid >= 0);
    if (pid == 0) {
        if (chdir(little.folder) == 0) {
            setenv("TERM", "xterm", 1);
            execl(BIN_DIR "/einbau", "einbau", "fit", "--site", "site.yaml", "--sim", "world.yaml", "--state",
                  "state", (char *)NULL);
        }
        _exit(127);
    }
    for (;;) {
        ssize_t n = read(fd, screen + have, cap - 1 - have);
        if (n <= 0)
            break;
        have += (size_t)n;
        screen[have] = '\0';
        const char *asked = strstr(screen + answered, question);
        if (asked != NULL && answers[0] != '\0') {
            size_t line = strcspn(answers, "\n") + 1;
            answered = (size_t)(asked - screen) + strlen(question);
            assert_int_equal(write(fd, answers, line), line);
            answers += line;
        }
    }
    int status;
    assert_int_equal(waitpid(pid, &status, 0), pid);
    close(fd);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

static void on_a_terminal_it_asks_first(void **state)
{
    (void)state;
    char screen[65536] = "";
    int probe = posix_openpt(O_RDWR | O_NOCTTY);
    if (probe < 0) {
        print_message("there are no pseudo-terminals here: skipped\n");
        skip();
    }
    close(probe);
    assert_int_equal(fit_on_terminal("no\n", screen, sizeof screen), 1);
    expect_in(screen, "cancelled, nothing was written");
    expect_running("plc-1", "1.0");
    assert_int_equal(fit_on_terminal("\n", screen, sizeof screen), 1); /* Enter alone is no */
    assert_int_equal(fit_on_terminal("y\nno\n", screen, sizeof screen), 1);
    expect_in(screen, "Found 'y', expected yes or no, in full.");
    expect_in(screen, "cancelled, nothing was written");
    expect_running("plc-1", "1.0");
    assert_int_equal(fit_on_terminal("Yes\nyes\n", screen, sizeof screen), 0);
    expect_in(screen, "3 of 3 devices done");
    expect_in(screen, "\033[32mconfirmed\033[0m"); /* in colour */
    expect_running("plc-1", "2.0");
}

/* Real sockets to which nothing answers: while it is waited, who is waited for; and nothing of that stays. */
static void who_does_not_answer_is_shown_meanwhile(void **state)
{
    (void)state;
    char words[4 * PATH_BYTES];
    snprintf(words, sizeof words,
             "cd %s && sed -i 's/address: 192.0.2\\.\\(.*\\)/address: 127.0.0.\\1\\n    ports: {modbus: 1, "
             "tftp: 1}/' "
             "site.yaml && %s/einbau plan coupler-1 --site site.yaml --state %s; echo ended $?",
             little.folder, BIN_DIR, state_dir);
    char *screen = on_terminal(words);
    const char *meanwhile = strstr(screen, "did not answer yet: coupler-1");
    if (meanwhile == NULL)
        fail_msg("%s", screen);
    expect_in(screen, "\r\033[KLooking at 1 device for ");
    const char *plan = strstr(screen, "\r\033[KNothing to write: no device was reached.");
    if (plan == NULL || plan < meanwhile)
        fail_msg("%s", screen);
    expect_in(plan, "coupler-1: connecting by Modbus/TCP");
    expect_in(plan, "ended 3");
    free(screen);
}

/* --- bad input ----------------------------------------------------------------------------------- */

struct bad {
    const char *file, *find, *put; /* a change in a file of the little site: the first `find` becomes `put` */
    const char *words;
    int status;
    const char *message;
};

/* Changes a file, or (find NULL) replaces all of it, or (put NULL) removes it. */
static void change(const struct bad *b)
{
    if (b->put == NULL) {
        char path[2 * PATH_BYTES];
        snprintf(path, sizeof path, "%s/%s", little.folder, b->file);
        assert_int_equal(unlink(path), 0);
        return;
    }
    if (b->find == NULL) {
        write_text(little.folder, b->file, "%s", b->put);
        return;
    }
    char *old = read_text(little.folder, b->file, NULL);
    assert_non_null(old);
    char *at = strstr(old, b->find);
    if (at == NULL)
        fail_msg("%s holds no %s", b->file, b->find);
    write_text(little.folder, b->file, "%.*s%s%s", (int)(at - old), old, b->put, at + strlen(b->find));
    free(old);
}

static void bad_input_is_told_and_nothing_is_written(void **state)
{
    (void)state;
    static const struct bad rows[] = {
        /* images and manifests */
        {"plc-2.0.bin", NULL, NULL, "fit --yes", 2,
         "plc-2.0.bin: the image cannot be opened: No such file or directory"},
        {"plc-2.0.bin", NULL, "", "fit --yes", 1,
         "plc-1 firmware 2.0: size: found 0 bytes, expected 3000 bytes (cannot be accepted)"},
        {"plc-2.0.bin", NULL, "EBIMAGE1 cut", "fit --yes", 1,
         "plc-1 firmware 2.0: size: found 12 bytes, expected 3000 bytes"},
        {"coupler-2.0.bin", "EBIMAGE1", "EBIMAGE2", "fit --yes", 1, "coupler-1 firmware 2.0: digest: found "},
        {"profiles/plc.yaml", "send-as: fw.bin", "send-as: fw.bin, capacity-kib: 2", "fit --yes", 1,
         "plc-1 firmware 2.0: capacity: found 3000 bytes, expected at most 2048 bytes"},
        {"plc-2.0.bin.json", NULL, NULL, "fit --yes", 2,
         "plc-2.0.bin.json: cannot be read: No such file or directory. An image needs its manifest"},
        {"plc-2.0.bin.json", NULL, "{\"einbau\": ", "fit --yes", 2, "plc-2.0.bin.json:1:11: not JSON"},
        {"plc-2.0.bin.json", NULL, "[]", "fit --yes", 2, "found no \"einbau\": \"manifest/1\" at its top"},
        {"plc-2.0.bin.json", "manifest/1", "manifest/2", "fit --yes", 2, "expected a manifest of that form"},
        {"plc-2.0.bin.json", "\"size\": 3000", "\"size\": \"3000\"", "fit --yes", 2,
         "found no usable \"size\""},
        {"plc-2.0.bin.json", "\"size\"", "\"weight\": 1, \"size\"", "fit --yes", 2,
         "found the unknown key \"weight\", expected one of: file, component"},
        {"plc-2.0.bin.json", "\"1..9\"", "\"9..1\"", "fit --yes", 2, "found the hardware revision \"9..1\""},
        {"plc-2.0.bin.json", "[\"1..9\"]", "\"1..9\"", "fit --yes", 2,
         "found \"hardware_revisions\" of another kind or size"},
        {"plc-2.0.bin.json", "\"file\": \"plc-2.0.bin\"", "\"file\": \"other.bin\"", "fit --yes", 2,
         "found no image with the file name \"plc-2.0.bin\""},
        {"plc-2.0.bin.json", "\"version\": \"2.0\"", "\"version\": \"2.1\"", "fit --yes", 2,
         "found an image of firmware 2.1, expected firmware 2.0 as plc-1 wants it"},
        {"plc-2.0.bin.json", "\"version\": \"2.0\"", "\"version\": \"\"", "fit --yes", 2,
         "found \"version\" of another kind or size"},
        {"plc-2.0.bin.json", "sha256\": \"", "sha256\": \"zz", "fit --yes", 2,
         "found \"sha256\" of another kind or size"},
        {"site.yaml", ", image: plc-2.0.bin", "", "fit --yes", 2,
         "plc-1: found no image for firmware 2.0 in the site"},
        {"plc-2.0.bin.json", "\"firmware\"", "\"firm\\u001bware\"", "fit --yes", 2,
         "found a control character in \"component\""},
        /* profiles */
        {"profiles/plc.yaml", NULL, NULL, "fit --yes", 2,
         "site.yaml:8:14: found 'plc', expected the name of a profile in profiles"},
        {"profiles/plc.yaml", "order: dotted", "order: roman", "fit --yes", 2,
         "profiles/plc.yaml:11:21: found 'roman', expected dotted, decimal, semver, date or letters"},
        {"profiles/plc.yaml", "windowsize: 4", "windowsize: many", "fit --yes", 2,
         "found 'many', expected a whole number from 1 to 32767"},
        {"profiles/plc.yaml", "windowsize: 4", "windowsize: 32768", "fit --yes", 2,
         "found '32768', expected a whole number from 1 to 32767"},
        {"profiles/plc.yaml", "windowsize", "windowsice", "fit --yes", 2,
         "found the unknown key 'windowsice', expected 'windowsize'"},
        {"profiles/plc.yaml", "return:", "retrun:", "fit --yes", 2, "found the unknown key 'retrun'"},
        {"profiles/plc.yaml", "profile: plc", "profile: other", "fit --yes", 2,
         "found the profile 'other', expected 'plc' as the file is called"},
        {"profiles/plc.yaml", "order-codes: [TP-*]", "order-codes: TP-*", "fit --yes", 2,
         "profiles/plc.yaml:2:14: found a single value, expected a list"},
        {"profiles/plc.yaml", "order-codes: [TP-*]", "order-codes: [XX-*]", "fit --yes", 1,
         "plc-1: comparing the order code with the profile's: another device: found TP-1, expected XX-*"},
        {"profiles/plc.yaml", "identity:", "maker:", "fit --yes", 2,
         "found a mapping (key: value), expected a single value"},
        {"profiles/plc.yaml", "address: 0x1000, value: 2", "address: 0x1000", "fit --yes", 2,
         "found none, expected the key 'value' here"},
        {"profiles/plc.yaml", "write-register", "shout", "fit --yes", 2,
         "found the unknown key 'shout', expected one of: write-register, expect-register, by-hand, "
         "cip-reset, "
         "write-sdo, nmt, ecu-reset, routine, http, wait-ms"},
        {"profiles/plc.yaml", NULL, "profile: plc\n  order: {", "fit --yes", 2,
         "profiles/plc.yaml:2:8: not YAML: found"},
        {"profiles/plc.yaml", "value: 2}", "value: 1}", "fit plc-1 --yes", 1,
         "plc-1: TFTP write request: TFTP error code 2: stop the program first. It runs firmware 1.0, "
         "display "
         "1.0. The same happened at each of 3 tries"},
        {"profiles/coupler.yaml", "value: 3, within-ms: 8000", "value: 9, within-ms: 3000",
         "fit coupler-1 --yes", 1,
         "coupler-1: waiting for a register: not confirmed: found 3 in register 4097, expected 9"},
        /* sites */
        {"site.yaml", NULL, NULL, "survey", 2, "site.yaml: cannot be opened: No such file or directory"},
        {"site.yaml", NULL, "", "survey", 2, "site.yaml:1:1: found an empty file"},
        {"site.yaml", NULL, "site: [", "survey", 2, "site.yaml:2:1: not YAML: found"},
        {"site.yaml", NULL, "- a\n- b\n", "survey", 2,
         "site.yaml:1:1: found a list, expected a mapping (key: value)"},
        {"site.yaml", "links:", "lynx:", "survey", 2, "expected the key 'links' here"},
        {"site.yaml", "    link: lan", "    link: lan\n    colour: red", "survey", 2,
         "site.yaml:7:5: found the unknown key 'colour', expected one of: link, slot, ports, address"},
        {"site.yaml", "link: lan", "link: wan", "survey", 2,
         "site.yaml:6:11: found 'wan', expected the name of a link from 'links'"},
        {"site.yaml", "192.0.2.2", "192.0.2.1", "survey", 2,
         "found 192.0.2.1, which 'plc-1' has already, expected an address of its own for each device"},
        {"site.yaml", "192.0.2.1", "192.0.2.300", "survey", 2,
         "found '192.0.2.300', expected an IPv4 address like 192.0.2.10"},
        {"site.yaml", "coupler-2:", "coupler-1:", "survey", 2,
         "found 'coupler-1' a second time, expected each key once"},
        {"site.yaml", "version: 2.0", "version: two", "survey", 2,
         "found 'two', expected a version in dotted order"},
        {"site.yaml", "display: {", "engine: {", "survey", 2,
         "found the component 'engine', which profile plc does not have, expected one of: firmware, display"},
        {"site.yaml", "profile: plc", "profile: ../plc", "survey", 2,
         "found '../plc', expected the name of a profile, without a folder"},
        {"site.yaml", "kind: ethernet", "kind: string", "survey", 2,
         "site.yaml:3:15: found 'string', expected ethernet"},
        {"site.yaml", "serial: P-1", "serial: P-9", "fit --yes", 1,
         "plc-1: comparing the serial number: another device: found P-1, expected P-9"},
        {"site.yaml", "  plc-1:", "  \"plc\\e[2J\":", "survey", 2,
         "site.yaml:5:3: found a character that cannot be shown"},
        {"site.yaml", "serial: P-1", "serial: \"\\x9b2J\"", "survey", 2,
         "found a character that cannot be shown, expected text without control characters"},
        {"site.yaml", "links:", "\"li\\x1bnks\":", "survey", 2,
         "found a character that cannot be shown, expected text without control characters"},
        {"site.yaml", "    address: 192.0.2.1", "    mask: 255.0.255.0\n    address: 192.0.2.1", "survey", 2,
         "found '255.0.255.0', expected a mask like 255.255.255.0: ones, then zeros"},
        /* worlds */
        {"world.yaml", NULL, NULL, "survey", 2, "world.yaml: cannot be opened"},
        {"world.yaml", "seed: 7", "seed: seven", "survey", 2,
         "world.yaml:2:7: found 'seven', expected a whole number"},
        {"world.yaml", "wire: lan", "wire: van", "survey", 2,
         "found an unknown wire, expected the name of one from 'wires'"},
        {"world.yaml", "latency-us", "latency", "survey", 2, "found the unknown key 'latency'"},
        {"world.yaml", "192.0.2.2", "192.0.2.1", "survey", 2, "found 192.0.2.1, which 'plc-1' has already"},
        {"world.yaml", "image: plc-1.0.bin", "image: gone.bin", "survey", 2,
         "found the image gone.bin, which cannot be opened"},
        {"world.yaml", "writable: stopped", "writable: never", "survey", 2,
         "found 'never', expected one of: always stopped loader"},
        {"world.yaml", "banks: 2", "banks: 3", "survey", 2, "found '3', expected a whole number from 1 to 2"},
        {"world.yaml", NULL, "world: w\nwires: }", "survey", 2, "world.yaml:2:8: not YAML: found"},
        {"world.yaml", "    components:", "    checks-crc: perhaps\n    components:", "survey", 2,
         "found 'perhaps', expected yes or no"},
        /* devices and calls */
        {"world.yaml", "    erase-ms", "    modbus: {babbles: yes}\n    erase-ms", "fit plc-1 --yes", 1,
         "plc-1: reading the identification: answer not understood: not a Modbus/TCP header"},
        {"world.yaml", "    erase-ms", "    starts: off\n    erase-ms", "fit plc-1 --yes", 3,
         "plc-1: connecting by Modbus/TCP: no answer"},
        {"site.yaml", NULL, "site: s\nlinks: {}\ndevices: {}\n", "survey", 0, "s: 0 of 0 devices answered"},
        {"site.yaml", "little", "little", "survey nobody", 2,
         "found 'nobody', expected a device of little: plc-1, coupler-1, coupler-2"},
        {"site.yaml", "little", "little", "fit --yes --without nobody", 2,
         "found 'nobody', expected a device of little"},
        {"site.yaml", "little", "little", "show", 2, "found 0 device names, expected one"},
        {"site.yaml", "little", "little", "survey --colour", 2,
         "found '--colour', expected one of its options in full"},
        {"site.yaml", "little", "little", "surwey", 2, "no command 'surwey'; did you mean 'survey'?"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        tear_down(NULL);
        set_up(NULL);
        change(&rows[i]);
        struct outcome o = einbau(rows[i].words);
        size_t size = strlen(o.out) + strlen(o.err) + 1;
        char *all = malloc(size);
        snprintf(all, size, "%s%s", o.out, o.err);
        if (o.status != rows[i].status || strstr(all, rows[i].message) == NULL)
            fail_msg("row %zu, einbau %s\nfound %d: %s\nexpected %d: %s", i, rows[i].words, o.status, all,
                     rows[i].status, rows[i].message);
        /* Nothing was written: the PLC's flash, if any is remembered, still is the old one. */
        char *flash = read_text(little.folder, "state/world.state", &size);
        if (flash != NULL) {
            assert_null(memmem(flash, size,
                               "firmware\0\0\0\0\0\0\0\0"
                               "2.0",
                               19));
            assert_non_null(memmem(flash, size,
                                   "firmware\0\0\0\0\0\0\0\0"
                                   "1.0",
                                   19));
        }
        free(flash);
        free(all);
        outcome_free(&o);
    }
}

static void a_call_without_a_site_or_a_command_says_so(void **state)
{
    (void)state;
    const char *const none[] = {BIN_DIR "/einbau", NULL};
    const char *const no_site[] = {"env", "-u", "EINBAU_SITE", BIN_DIR "/einbau", "plan", NULL};
    const char *const no_command[] = {BIN_DIR "/einbau", "nothing-of-the-kind", NULL};
    struct outcome o = run_program(none); /* where one stands: test_here */
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    o = run_program(no_command);
    assert_int_equal(o.status, 2);
    expect_in(o.err, "usage: einbau COMMAND");
    outcome_free(&o);
    o = run_program(no_site);
    assert_int_equal(o.status, 2);
    expect_in(o.err, "found no site, expected one: a file *.site.yaml in this folder or above it, --site "
                     "FILE, or the variable EINBAU_SITE");
    outcome_free(&o);
}

static void every_command_has_help_with_an_example(void **state)
{
    (void)state;
    static const char *const names[] = {"links", "survey", "show", "blink", "set", "plan", "fit", "confirm"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        const char *const arguments[] = {BIN_DIR "/einbau", names[i], "--help", NULL};
        char example[32];
        struct outcome o = run_program(arguments);
        assert_int_equal(o.status, 0);
        snprintf(example, sizeof example, "einbau %s --site", names[i]);
        expect_in(o.out, "Example");
        expect_in(o.out, example);
        expect_in(o.out, "--json");
        outcome_free(&o);
    }
}

static void what_cannot_be_read_is_not_taken_unasked(void **state)
{
    (void)state;
    char *profile = read_text(little.folder, "profiles/coupler.yaml", NULL);
    memcpy(strstr(profile, "version: {modbus-object: 2}"), "version: {modbus-object: 3}",
           27); /* they have none */
    write_text(little.folder, "profiles/coupler.yaml", "%s", profile);
    free(profile);
    expect("survey", 1, "unreadable", "");
    expect("fit --yes", 1, "coupler-1 firmware: unreadable; not in the plan unless the device is named", "");
    expect_running("plc-1", "2.0");
    expect("fit coupler-1 --yes", 1,
           "running-version: found not readable, expected a version that can be compared with 2.0", "");
    expect("fit coupler-1 --yes --accept running-version", 1, "1 failed", "coupler-1: confirm firmware 2.0");
}

static void a_device_in_its_loader_is_seen_and_brought_back(void **state)
{
    (void)state;
    char *world = read_text(little.folder, "world.yaml", NULL);
    char *at = strstr(world, "    serial: C-1\n");
    write_text(little.folder, "world.yaml", "%.*s    starts: loader\n%s", (int)(at - world), world, at);
    free(world);
    expect("survey", 1, "(in loader)  2.0     unreadable", "");
    expect("survey", 1, "1 in the loader, where no program runs: 'einbau fit' brings them back.", "");
    write_image(little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "1..9",
                ", \"least_running\": \"0.9\"");
    expect("fit coupler-1 --yes", 1,
           "coupler-1 firmware 2.0: least-running: found not readable, expected at least 0.9 "
           "(refused unless accepted: --accept coupler-1:least-running)",
           "");
    expect("fit --yes --accept coupler-1:least-running", 0,
           "coupler-1  firmware   (in loader)  2.0  2.0          confirmed", "");
    expect_running("coupler-1", "2.0");
}

static void silent_devices_are_told_from_silent_links(void **state)
{
    (void)state;
    write_text(little.folder, "off.yaml",
               "world: little\nwires:\n  lan: {}\ndevices:\n  plc-1:\n    wire: lan\n    address: "
               "192.0.2.1\n    maker: T\n    product: plc\n"
               "    order-code: TP-1\n    serial: P-1\n    hardware-revision: 3\n    components:\n      "
               "firmware: {send-as: fw.bin, image: plc-1.0.bin}\n");
    struct outcome o = einbau_at("site.yaml", "off.yaml", "survey");
    assert_int_equal(o.status, 1);
    expect_in(o.out, "1 of 3 devices answered");
    expect_in(o.out, "unreachable");
    outcome_free(&o);
    o = einbau_at("site.yaml", "off.yaml", "survey coupler-1 coupler-2");
    assert_int_equal(o.status, 3);
    outcome_free(&o);
}

/* --- the state directory ------------------------------------------------------------------------- */

static void a_state_in_use_is_left_alone(void **state)
{
    (void)state;
    struct eb_problem problem;
    int fd = eb_state_lock(state_dir, &problem);
    assert_true(fd >= 0);
    char holder[64];
    snprintf(holder, sizeof holder, "found it in use by another process (%d), expected it free", getpid());
    expect("fit --yes", 2, "", holder);
    close(fd);
    expect_running("plc-1", "1.0");
}

static void a_damaged_or_foreign_state_is_not_taken_up(void **state)
{
    (void)state;
    expect("survey", 1, "", "");
    write_text(little.folder, "state/world.state", "{\"einbau\":\"world-state/1\"}\nxx");
    expect("fit --yes", 2, "",
           "found the state of another world, or a damaged one, expected that of 'little'");
    char *kept = read_text(little.folder, "state/world.state", NULL);
    assert_string_equal(kept, "{\"einbau\":\"world-state/1\"}\nxx");
    free(kept);
    write_text(little.folder, "state/world.state", "%s", "");
    expect("survey", 2, "", "remove the file to begin new");
}

static void a_full_disk_is_told_before_anything_is_written(void **state)
{
    (void)state;
    char line[4 * PATH_BYTES];
    const char *const probe[] = {"unshare", "-m", "true", NULL};
    struct outcome may = run_program(probe);
    if (may.status != 0) {
        print_message("a small file system cannot be mounted here: skipped\n");
        skip();
    }
    outcome_free(&may);
    /* 12 KiB: room for the lock, none for the flash of three devices.  In a mount namespace of its own. */
    snprintf(line, sizeof line,
             "unshare -m sh -c 'mkdir %s/full && mount -t tmpfs -o size=12k none %s/full && cd %s && "
             "%s/einbau fit --yes --site site.yaml --sim world.yaml --state full; s=$?; ls full/world.state; "
             "exit $s'",
             little.folder, little.folder, little.folder, BIN_DIR);
    const char *const arguments[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(arguments);
    if (o.status != 2)
        fail_msg("found %d: %s%s", o.status, o.out, o.err);
    expect_in(o.err, "world.state: cannot be written, its old content was kept: No space left on device");
    expect_in(o.err, "cannot access 'full/world.state'"); /* half of a file is none */
    assert_null(strstr(o.err, "send"));
    outcome_free(&o);
}

/* --- in real time -------------------------------------------------------------------------------- */

static char real_site[PATH_BYTES + 16], sim_log[PATH_BYTES + 16];

static int start_sim(void)
{
    snprintf(real_site, sizeof real_site, "%s/real.yaml", little.folder);
    snprintf(sim_log, sizeof sim_log, "%s/sim.log", little.folder);
    const char *const arguments[] = {BIN_DIR "/einbau-sim", little.world_path, "--state", state_dir,
                                     "--write-site",        real_site,         NULL};
    int pid = start_program(arguments, sim_log);
    assert_true(wait_for_text(sim_log, "ready: 3 devices", 10));
    return pid;
}

static void the_simulator_serves_real_sockets_and_remembers(void **state)
{
    (void)state;
    int pid = start_sim();
    const char *const fit[] = {BIN_DIR "/einbau", "fit", "--yes", "--site", real_site, NULL};
    struct outcome o = run_program(fit);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    expect_in(o.out, "3 confirmed");
    outcome_free(&o);
    assert_int_equal(stop_program(pid, SIGTERM), 0);
    expect_running("plc-1", "2.0"); /* the same state, now in virtual time */
    pid = start_sim();
    assert_int_equal(stop_program(pid, SIGINT), 0);
}

static void an_interrupted_job_ends_cleanly(void **state)
{
    (void)state;
    char log[PATH_BYTES + 16];
    tear_down(NULL);
    const struct little_options slow = {.plcs = 1, .couplers = 2, .image_bytes = 300000, .capacity_kib = 512};
    little_make(&little, &slow);
    snprintf(state_dir, sizeof state_dir, "%s/state", little.folder);
    snprintf(log, sizeof log, "%s/fit.log", little.folder);
    int sim = start_sim();
    const char *const fit[] = {BIN_DIR "/einbau", "fit", "plc-1", "--yes", "--site", real_site, NULL};
    int job = start_program(fit, log);
    assert_true(wait_for_text(log, "plc-1: send firmware 2.0", 10));
    usleep(700000); /* erased, and well into its six seconds of writing */
    assert_int_equal(stop_program(job, SIGINT), 4);
    assert_true(wait_for_text(log, "1 interrupted", 1));
    assert_true(wait_for_text(log, "Ctrl-C once more leaves all as it is", 1));
    const char *const look[] = {BIN_DIR "/einbau", "survey", "plc-1", "--json", "--site", real_site, NULL};
    struct outcome o = run_program(look);
    json_t *root = json_loads(o.out, 0, NULL);
    if (root == NULL)
        fail_msg("%s", o.err);
    assert_string_equal(text(component(device(root, "plc-1"), 0), "running"), "1.0");
    json_decref(root);
    outcome_free(&o);
    assert_int_equal(stop_program(sim, SIGTERM), 0);
    char *remembered = read_text(little.folder, "state/world.state", NULL);
    expect_in(remembered, "\"plc-1\":{\"mode\":\"running\""); /* the program was started again */
    free(remembered);
}

static void the_simulator_refuses_wrong_calls(void **state)
{
    (void)state;
    static const struct {
        const char *words, *message;
    } rows[] = {
        {"world.yaml", "found neither --write-site FILE"},
        {"--write-site x.yaml", "found no world"},
        {"world.yaml --write-site /nowhere/x.yaml",
         "/nowhere/x.yaml: cannot be written: No such file or directory"},
        {"gone.yaml --write-site x.yaml", "gone.yaml: cannot be opened"},
        {"siteless.yaml --write-site x.yaml", "the world 'siteless' names no site"},
    };
    write_text(little.folder, "siteless.yaml", "world: siteless\nwires: {}\ndevices: {}\n");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char line[3 * PATH_BYTES];
        snprintf(line, sizeof line, "cd %s && exec %s/einbau-sim %s", little.folder, BIN_DIR, rows[i].words);
        const char *const arguments[] = {"sh", "-c", line, NULL};
        struct outcome o = run_program(arguments);
        assert_int_equal(o.status, 2);
        expect_in(o.err, rows[i].message);
        outcome_free(&o);
    }
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(from_first_look_to_confirmed_version),
        TEST(documents_say_what_the_tables_say),
        TEST(one_refused_device_keeps_all_from_being_written),
        TEST(a_finding_is_accepted_by_its_code_only),
        TEST(the_same_version_is_written_again_when_asked),
        TEST(an_older_image_is_written_only_when_accepted),
        TEST(an_image_for_another_variant_is_refused),
        TEST(without_a_terminal_it_wants_yes),
        TEST(without_simulated_hardware_it_says_so),
        TEST(who_does_not_answer_is_shown_meanwhile),
        TEST(on_a_terminal_it_asks_first),
        TEST(bad_input_is_told_and_nothing_is_written),
        TEST(a_call_without_a_site_or_a_command_says_so),
        TEST(every_command_has_help_with_an_example),
        TEST(what_cannot_be_read_is_not_taken_unasked),
        TEST(a_device_in_its_loader_is_seen_and_brought_back),
        TEST(silent_devices_are_told_from_silent_links),
        TEST(a_state_in_use_is_left_alone),
        TEST(a_damaged_or_foreign_state_is_not_taken_up),
        TEST(a_full_disk_is_told_before_anything_is_written),
        TEST(the_simulator_serves_real_sockets_and_remembers),
        TEST(an_interrupted_job_ends_cleanly),
        TEST(the_simulator_refuses_wrong_calls),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
