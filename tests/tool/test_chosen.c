/* The words of a call: which devices they stand for, and what is answered where one is mistyped. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct little little;

static int set_up(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 3, .couplers = 2};
    little_make(&little, &options);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

/* The names in "devices" of a document, each with a blank behind it. */
static void names_of(const char *document, char *names, size_t cap)
{
    json_t *root = json_loads(document, 0, NULL);
    const json_t *devices = json_object_get(root, "devices");
    names[0] = '\0';
    assert_non_null(root);
    for (size_t i = 0; i < json_array_size(devices); i++) {
        size_t at = strlen(names);
        snprintf(names + at, cap - at, "%s ",
                 json_string_value(json_object_get(json_array_get(devices, i), "name")));
    }
    json_decref(root);
}

static void words_stand_for_devices(void **state)
{
    (void)state;
    static const struct {
        const char *words, *names;
        int status;
    } rows[] = {
        {"survey", "plc-1 plc-2 plc-3 coupler-1 coupler-2 ", 1},
        {"survey plc-2", "plc-2 ", 1},
        {"survey 'plc-*'", "plc-1 plc-2 plc-3 ", 1},
        {"survey 'p*-[13]' coupler-2", "plc-1 plc-3 coupler-2 ", 1},
        {"survey '*' --without 'plc-?'", "coupler-1 coupler-2 ", 1},
        {"survey --without plc-1 --without 'c*'", "plc-2 plc-3 ", 1},
        {"survey PLC-SERIAL", "plc-2 ", 1},
        {"survey PLC-ADDRESS", "plc-3 ", 1},
        {"survey PLC-CODE", "plc-1 plc-2 plc-3 ", 1},
        {"plan 'plc-*' --without plc-2", "plc-1 plc-3 ", 0},
        {"confirm 'plc-*'", "plc-1 plc-2 plc-3 ", 1},
        {"survey --only outdated", "plc-1 plc-2 plc-3 coupler-1 coupler-2 ", 1},
        {"survey --only current,unreachable", "", 0},
        {"fit plc-1 --yes", "plc-1 ", 0},
        {"survey --only current", "plc-1 ", 0},
        {"survey --only outdated", "plc-2 plc-3 coupler-1 coupler-2 ", 1},
        {"survey 'plc-*' --only current,outdated", "plc-1 plc-2 plc-3 ", 1},
        {"plan --only outdated", "plc-2 plc-3 coupler-1 coupler-2 ", 0},
        {"fit --only current --yes", "plc-1 ", 0},
        {"fit 'plc-*' --only outdated --yes", "plc-2 plc-3 ", 0},
        {"confirm 'plc-*'", "plc-1 plc-2 plc-3 ", 0},
    };
    /* what the devices say of themselves is known once they were seen */
    struct outcome o = einbau_run(&little, "survey --json");
    json_t *root = json_loads(o.out, 0, NULL);
    char known[3][64];
    static const char *const marks[] = {"PLC-SERIAL", "PLC-ADDRESS", "PLC-CODE"};
    for (size_t i = 0; i < 3; i++) {
        static const char *const keys[] = {"serial", "address", "order_code"};
        const json_t *device = json_array_get(json_object_get(root, "devices"), i == 0 ? 1 : 2);
        const char *text = json_string_value(json_object_get(json_object_get(device, "identity"), keys[i]));
        text = text != NULL ? text : json_string_value(json_object_get(device, keys[i]));
        assert_non_null(text);
        snprintf(known[i], sizeof known[i], "%s", text);
        if (i == 1)
            known[i][strcspn(known[i], ":")] = '\0';
    }
    json_decref(root);
    outcome_free(&o);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char words[256];
        char names[256];
        snprintf(words, sizeof words, "%s", rows[i].words);
        for (size_t k = 0; k < 3; k++) {
            char *at = strstr(words, marks[k]);
            if (at != NULL)
                snprintf(at, sizeof words - (size_t)(at - words), "%s", known[k]);
        }
        o = einbau_run(&little, "%s --json", words);
        if (o.status != rows[i].status)
            fail_msg("%s: %d\n%s%s", words, o.status, o.out, o.err);
        names_of(o.out, names, sizeof names);
        if (strcmp(names, rows[i].names) != 0)
            fail_msg("%s: found %s, expected %s", words, names, rows[i].names);
        outcome_free(&o);
    }
    expect_einbau(&little, 0, "Of 3 devices none is unreachable or newer.",
                  "survey 'plc-*' --only unreachable,newer");
    /* one that does not answer may be what is looked for: that it is left out is said */
    replace_in(&little, "site.yaml", "devices:\n",
               "devices:\n  ghost: {link: lan, address: 192.0.2.99, profile: plc}\n");
    o = einbau_run(&little, "survey --only current");
    assert_non_null(strstr(o.err, "einbau: --only leaves out 1 device that did not answer"));
    assert_null(strstr(o.out, "ghost"));
    outcome_free(&o);
    o = einbau_run(&little, "survey --only unreachable");
    assert_null(strstr(o.err, "--only leaves out"));
    assert_non_null(strstr(o.out, "ghost"));
    outcome_free(&o);
}

/* Everything here writes nothing, ends with 2, and says what was meant where that can be told. */
static void a_mistyped_word_is_answered(void **state)
{
    (void)state;
    static const struct {
        const char *words, *says;
    } rows[] = {
        {"sruvey", "no command 'sruvey'; did you mean 'survey'?"},
        {"fti --yes", "no command 'fti'; did you mean 'fit'?"},
        {"shlef list", "no command 'shlef list'; did you mean 'shelf list'?"},
        {"shelf lsit", "no command 'shelf lsit'; did you mean 'shelf list'?"},
        {"keys list", "no command 'keys list'; did you mean 'key list'?"},
        {"shelf", "expected one of these commands:\n  shelf add"},
        {"wibble", "no command 'wibble'\n"},
        {"fit --yess", "found '--yess', expected one of its options in full: did you mean --yes?"},
        {"fit --withuot plc-1", "did you mean --without?"},
        {"fit --ye", "did you mean --yes?"},
        {"fit --nothing-like-it", "expected one of its options in full. Try 'einbau fit --help'"},
        {"fit plc1", "found 'plc1', expected a device of little; did you mean 'plc-1'?"},
        {"fit PLC-1", "found 'PLC-1', expected a device of little; did you mean 'plc-1'?"},
        {"fit copuler-1 --yes", "did you mean 'coupler-1'?"},
        {"fit 'x-*'", "found 'x-*', expected a device of little: plc-1, plc-2"},
        {"fit --without plc-9", "found 'plc-9', expected a device of little; did you mean 'plc-1'?"},
        {"fit plc-1 --accept plc-2:stated", "--accept: found 'plc-2', expected a device of this call"},
        {"fit plc-1 --accept plc-1:statd", "stated; did you mean 'stated'?"},
        {"fit plc-1 --accept 'plc-*:stated'",
         "'plc-*' stands for 3 devices (plc-1, plc-2, plc-3), expected one"},
        {"fit --accept stated", "a code alone goes only with one device named"},
        {"survey --only outdate", "--only: found 'outdate', expected current, outdated"},
        {"survey --only outdate", "did you mean 'outdated'?"},
        {"fit --only '' --yes", "--only: found nothing, expected a mark like outdated"},
        {"fit --only , --yes", "--only: found nothing, expected a mark like outdated"},
        {"survey --only plc-1",
         "expected current, outdated, newer, differs, unreadable, unreachable or in-loader"},
        {"set plcc-1 name=x", "did you mean 'plc-1'?"},
        {"blink 'plc-*'", "'plc-*' stands for 3 devices (plc-1, plc-2, plc-3), expected one: use its name"},
        {"secret set plc-11 service",
         "found no device and no profile 'plc-11' on this site, expected the name of one; "
         "did you mean 'plc-1'?"},
        {"manual surve",
         "found no command 'surve', expected one that 'einbau --help' lists; did you mean 'survey'?"},
        {"fit plc-1 --image", "option '--image' requires an argument"},
        {"plan --image x", "--image: found no device names, expected those that it is for"},
        {"confirm --without '*'", "no device is chosen: --without leaves out every one that was named"},
        {"survey --site sitee.yaml", "sitee.yaml: cannot be opened: No such file or directory"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        expect_einbau(&little, 2, rows[i].says, "%s", rows[i].words);
    print_message("%zu misspellings and misuses\n", sizeof rows / sizeof rows[0]);
}

/* --- check of what people write ------------------------------------------------------------------- */

static void all_findings_of_a_site_at_once(void **state)
{
    (void)state;
    expect_einbau(&little, 0, "1 file: nothing is wrong", "check site.yaml");
    expect_einbau(&little, 0, "2 files: nothing is wrong", "check world.yaml site.yaml");
    write_text(little.folder, "wrong.yaml", "%s",
               "site: wrong\n"
               "links: {lan: {kind: ethernet}}\n"
               "devices:\n"
               "  a: {link: lna, address: 192.0.2.1, profile: plc}\n"
               "  b: {link: lan, adress: 192.0.2.2, profile: plc}\n"
               "  c: {link: lan, address: 192.0.2.3, profile: plcc}\n"
               "  d: {link: lan, address: 192.0.2.4, profile: plc, wantz: {}, colour: red}\n"
               "  e: {link: lan, address: 192.0.2.300, profile: plc}\n"
               "  f: {link: lan, address: 192.0.2.6, profile: plc}\n");
    static const char *const says[] = {
        "wrong: wrong.yaml:4:13: found 'lna', expected the name of a link from 'links'; did you mean "
        "'lan'?\n",
        "wrong: wrong.yaml:5:18: found 'adress' and no 'address', expected the key 'address' here\n",
        "wrong: wrong.yaml:6:47: found 'plcc', expected the name of a profile in profiles; did you mean "
        "'plc'?\n",
        "wrong: wrong.yaml:7:52: found the unknown key 'wantz', expected 'wants'\n",
        "wrong: wrong.yaml:7:63: found the unknown key 'colour', expected one of: link",
        "wrong: wrong.yaml:8:27: found '192.0.2.300'",
        "\n1 file: 6 things wrong\n"};
    struct outcome o = einbau_run(&little, "check wrong.yaml");
    assert_int_equal(o.status, 1);
    const char *at = o.out;
    for (size_t i = 0; i < sizeof says / sizeof says[0]; i++) {
        at = strstr(at, says[i]); /* in the order of the lines */
        if (at == NULL)
            fail_msg("not there, or earlier: %s in\n%s%s", says[i], o.out, o.err);
    }
    outcome_free(&o);
    /* other commands stop at the first */
    o = einbau_run(&little, "survey --site wrong.yaml");
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "wrong.yaml:4:13"));
    assert_null(strstr(o.err, "wrong.yaml:5"));
    outcome_free(&o);
    /* without the links nothing true can be said of the devices */
    write_text(little.folder, "wrong.yaml", "%s",
               "site: wrong\nlinks: {lan: {kind: ethernt}, bus: {kind: can, bitrate: 1}}\n"
               "devices:\n  a: {link: lan, node: 3, profile: plc}\n");
    expect_einbau(&little, 1, "1 file: 2 things wrong", "check wrong.yaml");
    /* one of two keys that would do, and is spelt wrongly */
    write_text(little.folder, "wrong.yaml", "%s",
               "site: wrong\nlinks: {bus: {kind: can, bit-rate: 250000}}\n"
               "devices:\n  a: {link: bus, nod: 3, profile: plc}\n");
    expect_einbau(&little, 1,
                  "wrong: wrong.yaml:4:18: found 'nod' and no 'node', expected the key 'node' here",
                  "check wrong.yaml");
    write_text(little.folder, "wrong.yaml", "%s", "site: wrong\nlinks:\n  lan:\n\tkind: ethernet\n");
    expect_einbau(&little, 1,
                  "wrong: wrong.yaml:4:1: found a tab, expected spaces: YAML is indented by spaces only",
                  "check wrong.yaml");
    write_text(little.folder, "wrong.yaml", "%s", "site: wrong\nlinks: {lan: {kind: ethernet}}\n");
    expect_einbau(&little, 1, "wrong: wrong.yaml:1:1: found none, expected the key 'devices' here",
                  "check wrong.yaml");
    expect_einbau(&little, 1, "wrong: gone.yaml: cannot be opened", "check gone.yaml");
}

static void all_findings_of_a_profile_at_once(void **state)
{
    (void)state;
    char *profile = read_text(little.folder, "profiles/plc.yaml", NULL);
    expect_einbau(&little, 0, "1 file: nothing is wrong", "check profiles/plc.yaml");
    replace_in(&little, "profiles/plc.yaml", "order-codes:", "order-cods:");
    replace_in(&little, "profiles/plc.yaml", "serial:", "seriel:");
    replace_in(&little, "profiles/plc.yaml", "display: {order:", "display: {ordr:");
    static const char *const says[] = {
        "found 'order-cods' and no 'order-codes', expected the key 'order-codes' here",
        "found the unknown key 'seriel', expected 'serial'",
        "found 'ordr' and no 'order', expected the key 'order' here"};
    for (size_t i = 0; i < 3; i++) {
        expect_einbau(&little, 1, says[i], "check profiles/plc.yaml");
        expect_einbau(&little, 1, says[i], "check site.yaml"); /* each once, though three devices have it */
    }
    expect_einbau(&little, 1, "1 file: 3 things wrong", "check profiles/plc.yaml");
    expect_einbau(&little, 1, "1 file: 3 things wrong", "check site.yaml");
    struct outcome o = einbau_run(&little, "check --json site.yaml profiles/plc.yaml");
    json_t *root = json_loads(o.out, 0, NULL);
    assert_int_equal(o.status, 1);
    assert_int_equal(json_array_size(json_object_get(root, "findings")), 3);
    json_decref(root);
    outcome_free(&o);
    write_text(little.folder, "profiles/plc.yaml", "%s", profile);
    free(profile);
}

/* A world: of each device its wire and one more finding, and of what stands before the devices; none where it
 * is read. */
static void all_findings_of_a_world_at_once(void **state)
{
    (void)state;
    char *world = read_text(little.folder, "world.yaml", NULL);
    replace_in(&little, "world.yaml", "seed: 7", "seed: seven");
    expect_einbau(&little, 1, "world.yaml:2:7: found 'seven', expected a whole number", "check world.yaml");
    replace_in(&little, "world.yaml", "wires:", "faults: [{frame: 1, kind: loost}]\nwires:");
    replace_in(&little, "world.yaml", "    components:", "    erase-mz: 3\n    components:");
    replace_in(&little, "world.yaml", "    wire: ", "    wire: x");
    replace_in(&little, "world.yaml", "devices:", "devises:");
    expect_einbau(&little, 1, "found 'devises' and no 'devices', expected the key 'devices' here",
                  "check world.yaml");
    replace_in(&little, "world.yaml", "devises:", "devices:");
    expect_einbau(&little, 1, "found 'loost', expected one of: lost", "check world.yaml");
    expect_einbau(&little, 1, "found the unknown key 'erase-mz', expected 'erase-ms'", "check world.yaml");
    expect_einbau(&little, 1, "found an unknown wire, expected the name of one from 'wires'",
                  "check world.yaml");
    expect_einbau(&little, 1, "1 file: 4 things wrong", "check world.yaml");
    expect_einbau(&little, 2, "", "survey --sim world.yaml"); /* who uses it hears the first */
    write_text(little.folder, "world.yaml", "%s", world);
    free(world);
}

/* A profile that only says what a device is serves several devices. */
static void a_profile_without_components_is_no_finding(void **state)
{
    (void)state;
    write_text(
        little.folder, "profiles/bare.yaml", "%s",
        "profile: bare\norder-codes: []\nidentity: {order-code: {modbus-object: 1}}\ncomponents: {}\n");
    write_text(little.folder, "bare.yaml", "%s",
               "site: s\nlinks: {lan: {kind: ethernet}}\ndevices:\n  a: {link: lan, address: 192.0.2.1, "
               "profile: bare}\n"
               "  b: {link: lan, address: 192.0.2.2, profile: bare}\n");
    expect_einbau(&little, 0, "1 file: nothing is wrong", "check bare.yaml");
    expect_einbau(&little, 1, "s: 2 of 2 devices answered", "survey --site bare.yaml");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(all_findings_of_a_site_at_once),
        cmocka_unit_test(all_findings_of_a_profile_at_once),
        cmocka_unit_test(all_findings_of_a_world_at_once),
        cmocka_unit_test(a_profile_without_components_is_no_finding),
        cmocka_unit_test(a_mistyped_word_is_answered),
        cmocka_unit_test(words_stand_for_devices),
    };
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
