/* What a survey finds on CAN buses and on USB, entered into a site; and UDS units that no site names. */
#include "support/support.h"

#include <einbau/job.h>
#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define EINBAU BIN_DIR "/einbau"

static char folder[PATH_BYTES];

static int set_up(void **state)
{
    (void)state;
    make_demo(folder);
    write_text(folder, "build/demo/new.yaml",
               "site: new\nprofiles: profiles\nlinks:\n  lan: {kind: ethernet}\n"
               "  cabin-bus: {kind: can, bit-rate: 250000}\n  stick: {kind: usb}\ndevices:\n"
               "  gate: {link: stick, profile: varnholt-l1, serial: VL1-0042}\n"
               "  first: {link: cabin-bus, node: 11, via: gate, profile: varnholt-d2}\n");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static struct outcome einbau(const char *words)
{
    return shell("cd %s/build/demo && export EINBAU_SIM=larchfell.world.yaml && " EINBAU " %s", folder,
                 words);
}

static void expect(const char *words, int status, const char *out)
{
    struct outcome o = einbau(words);
    if (o.status != status || strstr(o.out, out) == NULL)
        fail_msg("%s: found %d\n%s%s\nexpected %d, '%s'", words, o.status, o.out, o.err, status, out);
    outcome_free(&o);
}

static void change(const char *from, const char *to)
{
    done(shell(
        "cd %s/build/demo && grep -q '%s' larchfell.world.yaml && sed -i 's/%s/%s/' larchfell.world.yaml",
        folder, from, from, to));
}

/* Every device that answers, once, with what is needed to reach it; a second call finds nothing new. */
static void all_wires_are_entered(void **state)
{
    (void)state;
    struct outcome o = einbau("survey --into new.yaml --scan-uds");
    static const char *const added[] = {
        "added: varnholt-d2-12, node 12, profile varnholt-d2, serial number 5202\n",
        "added: skarvik-ga2-7A1, 7A1/7A9, profile skarvik-ga2, serial number GA2-1101\n",
        "added: G3-3307, on USB, profile skarvik-g3, serial number G3-3307\n",
        "added: drive-plc, 192.0.2.10, profile regent-c4"};
    assert_int_equal(o.status, 0);
    for (size_t i = 0; i < sizeof added / sizeof added[0]; i++) {
        if (strstr(o.out, added[i]) == NULL)
            fail_msg("no '%s' in\n%s", added[i], o.out);
    }
    assert_null(strstr(o.out, "node 11,")); /* it was there */
    assert_null(strstr(o.out, "VL1-0042"));
    outcome_free(&o);
    char *text = read_text(folder, "build/demo/new.yaml", NULL);
    assert_non_null(strstr(text, "  varnholt-d2-12:\n    link: cabin-bus\n    node: 12\n    via: gate\n"
                                 "    profile: varnholt-d2\n    serial: \"5202\"\n"));
    assert_non_null(strstr(text, "    uds: {request: 0x7A1, response: 0x7A9}\n"));
    free(text);
    expect("survey --into new.yaml --scan-uds", 0, "0 devices added");
    /* What was entered is what answers. */
    o = einbau("survey --site new.yaml --json");
    json_t *root = json_loads(o.out, 0, NULL);
    outcome_free(&o);
    size_t answered = 0;
    size_t i;
    const json_t *device;
    for (i = 0; (device = json_array_get(json_object_get(root, "devices"), i)) != NULL; i++)
        answered += json_is_true(json_object_get(device, "reached"));
    assert_true(i >= 20);
    assert_true(answered >= i - 1); /* one is of another subnet */
    json_decref(root);
    /* Without the scan only units of the site are asked. */
    expect("survey --bus cabin-bus --bit-rate 250000 --json", 0, "\"units\": []");
}

static void what_cannot_be_entered_is_named(void **state)
{
    (void)state;
    done(shell("mkdir %s/build/demo/none", folder));
    write_text(folder, "build/demo/bare.yaml",
               "site: bare\nprofiles: none\nlinks:\n  lan: {kind: ethernet}\n"
               "  cabin-bus: {kind: can, bit-rate: 250000}\n  stick: {kind: usb}\ndevices: {}\n");
    expect("survey --into bare.yaml", 0, "not added: node 12 on cabin-bus, VH-D2: found no profile for it");
    expect("survey --into bare.yaml", 0,
           "not added: 1209:0003 at 1-2.3, G3: found no profile with these numbers");
    /* A link of a kind that the site has not is not looked at. */
    write_text(folder, "build/demo/lan.yaml", "site: lan\nlinks: {lan: {kind: ethernet}}\ndevices: {}\n");
    struct outcome o = einbau("survey --into lan.yaml");
    assert_int_equal(o.status, 0);
    assert_null(strstr(o.out, "node 12"));
    assert_non_null(strstr(o.out, "G3: the site has no link of kind usb"));
    outcome_free(&o);
}

/* Units whose identifiers follow no habit: 29 bits with fixed addresses, an answer that is not eight behind
 * the request, the last identifier; and one outside of what is asked, which is not found. */
static void units_are_found_by_a_scan(void **state)
{
    (void)state;
    static const struct {
        const char *ids;
        bool found;
        long request, response;
    } cases[] = {
        {"request: 0x18DA22F1, response: 0x18DAF122", true, 0x18DA22F1, 0x18DAF122},
        {"request: 0x18DA00F1, response: 0x18DAF100", true, 0x18DA00F1, 0x18DAF100},
        {"request: 0x18DAFFF1, response: 0x18DAF1FF", true, 0x18DAFFF1, 0x18DAF1FF},
        {"request: 0x780, response: 0x7F0", true, 0x780, 0x7F0},
        {"request: 0x7E7, response: 0x7EF", true, 0x7E7, 0x7EF},
        {"request: 0x6F0, response: 0x6F8", false, 0, 0},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        make_demo(folder);
        change("request: 0x7A2, response: 0x7AA", cases[i].ids);
        struct outcome o = einbau("survey --bus cabin-bus --bit-rate 250000 --scan-uds --json");
        json_t *root = json_loads(o.out, 0, NULL);
        outcome_free(&o);
        const json_t *bus = json_array_get(json_object_get(root, "buses"), 0);
        const json_t *units = json_object_get(bus, "units");
        bool first = false;
        bool second = false;
        for (size_t k = 0; k < json_array_size(units); k++) {
            const json_t *u = json_array_get(units, k);
            json_int_t request = json_integer_value(json_object_get(u, "request"));
            const char *serial = json_string_value(json_object_get(u, "serial"));
            first = first || (request == 0x7A1 && strcmp(serial, "GA2-1101") == 0);
            second = second || (request == cases[i].request && strcmp(serial, "GA2-1102") == 0 &&
                                json_integer_value(json_object_get(u, "response")) == cases[i].response);
        }
        if (!first || second != cases[i].found || json_array_size(units) != (cases[i].found ? 2U : 1U))
            fail_msg("%s: first %d, second %d, %zu units", cases[i].ids, first, second,
                     json_array_size(units));
        /* The nodes of the same bus are found as without a scan, and in the state that they were in. */
        assert_true(json_array_size(json_object_get(bus, "nodes")) >= 8);
        json_decref(root);
        remove_folder(folder);
    }
    make_demo(folder);
}

/* Whether a request to this identifier is in a trace (pcapng, SocketCAN: the identifier, big-endian, then 8
 * bytes). */
static bool was_asked(const char *name, unsigned id)
{
    size_t size;
    char path[PATH_BYTES];
    snprintf(path, sizeof path, "build/demo/%.64s", name);
    char *bytes = read_text(folder, path, &size);
    const char wanted[] = {0, 0, (char)(id >> 8), (char)id, 8};
    bool found = memmem(bytes, size, wanted, sizeof wanted) != NULL;
    free(bytes);
    return found;
}

/* On a bus that two programs share (can0), a question to a node whose SDO server is in the middle of a
 * transfer, or to a unit that another tester speaks to, would end that: who is worked on is left alone, and
 * all others are asked. */
static void who_is_worked_on_is_left_alone(void **state)
{
    (void)state;
    struct eb_problem problem;
    char log[PATH_BYTES + 16];
    char site[PATH_BYTES + 16];
    char world[PATH_BYTES + 48];
    char line[8 * PATH_BYTES];
    static const char *const names[] = {"door-02", "grip-amp-1"};
    static const char devices[] = "door-02 door-03 grip-amp-1 grip-amp-2";
    snprintf(log, sizeof log, "%s/sim.log", folder);
    snprintf(site, sizeof site, "%s/real.yaml", folder);
    snprintf(world, sizeof world, "%s/build/demo/larchfell.world.yaml", folder);
    snprintf(line, sizeof line, "%s/locks", folder);
    setenv("EINBAU_LOCKS", line, 1);
    const char *const program[] = {BIN_DIR "/einbau-sim", world, "--write-site", site, NULL};
    int pid = start_program(program, log);
    assert_true(wait_for_text(log, "ready:", 20));
    const struct eb_job_config config = {.site = site};
    struct eb_job *job = eb_job_open(&config, &problem);
    struct eb_locks *held = eb_locks_open("fit", &problem);
    assert_non_null(job);
    assert_non_null(held);
    for (size_t i = 0; i < 2; i++) {
        struct eb_lock_holder holder;
        char key[EB_LOCK_KEY_BYTES];
        eb_job_address_key(job, eb_job_device(job, names[i]), key);
        assert_int_equal(eb_locks_take(held, key, &holder, &problem), EB_OK);
    }
    const char *const commands[] = {"survey", "links", "plan"};
    for (size_t i = 0; i < 3; i++) {
        struct outcome o =
            shell("cd %s/build/demo && " EINBAU " %s %s --site %s --state kept --trace %s.pcapng", folder,
                  commands[i], devices, site, commands[i]);
        snprintf(line, sizeof line, "%s.pcapng", commands[i]);
        static const char says[] =
            "door-02, grip-amp-1: beside another job: in use by another program: a question from here "
            "could end its transfer. Nothing was sent. Wait until that has ended";
        if (i == 0 && strstr(o.out, says) == NULL)
            fail_msg("%s: %s%s", commands[i], o.out, o.err);
        outcome_free(&o);
        assert_true(was_asked(line, 0x600 + 13));  /* door-03 */
        assert_false(was_asked(line, 0x600 + 12)); /* door-02 */
        assert_true(was_asked(line, 0x7A2));
        assert_false(was_asked(line, 0x7A1));
    }
    /* Without a site as well: what counts is the adapter, and the node. */
    char adapter[64] = "";
    char *told = read_text(folder, "sim.log", NULL);
    assert_int_equal(sscanf(strstr(told, ": adapters "), ": adapters %63s", adapter), 1);
    free(told);
    struct outcome bus = shell("cd %s/build/demo && " EINBAU
                               " survey --bus %s --bit-rate 250000 --scan-uds --trace bus.pcapng",
                               folder, adapter);
    assert_non_null(strstr(bus.out, "5203"));
    assert_null(strstr(bus.out, "5202"));
    outcome_free(&bus);
    assert_true(was_asked("bus.pcapng", 0x600 + 13));
    assert_false(was_asked("bus.pcapng", 0x600 + 12));
    assert_false(was_asked("bus.pcapng", 0x7A1)); /* nor is anything looked for beside another job */
    eb_locks_close(held);
    eb_job_close(job);
    struct outcome o =
        shell("cd %s/build/demo && " EINBAU " survey %s --site %s --state kept --trace after.pcapng", folder,
              devices, site);
    outcome_free(&o);
    assert_true(was_asked("after.pcapng", 0x600 + 12));
    assert_true(was_asked("after.pcapng", 0x7A1));
    unsetenv("EINBAU_LOCKS");
    assert_int_equal(stop_program(pid, SIGTERM), 0);
}

/* How long the wire was looked at, by what the user reads. */
static double looked_for_s(const char *words)
{
    struct outcome o = einbau(words);
    const char *said = strstr(o.out, "looked for ");
    if (said == NULL)
        fail_msg("%s: found %s%s", words, o.out, o.err);
    double seconds = strtod(said + strlen("looked for "), NULL);
    outcome_free(&o);
    return seconds;
}

/* --listen waits for what is missing, and no longer; without a site nothing says what that is. */
static void listening_ends_with_the_last_that_is_missed(void **state)
{
    (void)state;
    done(shell("cd %s/build/demo && sed 's/^devices:$/devices:\\n  late: {link: station-lan, address: "
               "192.0.2.98, profile: regent-c4}/' larchfell.site.yaml >late.site.yaml",
               folder));
    double usual = looked_for_s("survey --site larchfell.site.yaml");
    assert_true(usual > 1 && usual < 5);
    assert_true(looked_for_s("survey --site larchfell.site.yaml --listen 20") < usual + 0.5);
    assert_true(looked_for_s("survey --site late.site.yaml --listen 20") >= 20);
    assert_true(looked_for_s("survey --listen 20") >= 20);
    assert_true(looked_for_s("survey --site late.site.yaml") < usual + 0.5);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(all_wires_are_entered),
        cmocka_unit_test(what_cannot_be_entered_is_named),
        cmocka_unit_test(units_are_found_by_a_scan),
        cmocka_unit_test(listening_ends_with_the_last_that_is_missed),
        cmocka_unit_test(who_is_worked_on_is_left_alone),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
