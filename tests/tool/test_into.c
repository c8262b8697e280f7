/* What a survey finds on CAN buses and on USB, entered into a site; and UDS units that nobody has named. */
#include "support/support.h"

#include <jansson.h>
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
    /* Without the scan no unit is asked that nobody has named. */
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

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(all_wires_are_entered),
        cmocka_unit_test(what_cannot_be_entered_is_named),
        cmocka_unit_test(units_are_found_by_a_scan),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
