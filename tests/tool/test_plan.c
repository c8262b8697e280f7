/* Plans from the shelf, and what becomes of them: ways through other versions, companions, gateways, loaders,
 * hands, floors that are remembered.  The tool as a process, on simulated hardware. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define EINBAU BIN_DIR "/einbau"

static char folder[PATH_BYTES];

/* Three controllers with two banks each; what is written here of a device or its profile is the test's. */
static void make_world(const char *profile, const char *in_world)
{
    static const char *const names[] = {"one", "two", "three"};
    char path[PATH_BYTES + 16];
    char world[4096] = "world: w\nsite: site.yaml\nwires: {lan: {latency-us: 100}}\ndevices:\n";
    make_folder(folder);
    snprintf(path, sizeof path, "%s/shelf", folder);
    setenv("EINBAU_SHELF", path, 1);
    snprintf(path, sizeof path, "%s/profiles", folder);
    const char *const mkdir[] = {"mkdir", path, NULL};
    struct outcome o = run_program(mkdir);
    outcome_free(&o);
    write_text(
        folder, "profiles/p.yaml",
        "profile: p\norder-codes: [TP-*]\nidentity:\n  order-code: {modbus-object: 1}\n"
        "  serial: {modbus-object: 0x81}\n  hardware-revision: {modbus-object: 0x82}\n"
        "tftp: {windowsize: 4, patience-s: 20}\n"
        "activate: [write-register: {address: 0x1000, value: 3}]\ntypical: {bytes-per-s: 1000, restart-s: "
        "5}\n%s",
        profile != NULL
            ? profile
            : "components:\n"
              "  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: 0x90}, "
              "send-as: "
              "fw}\n"
              "  display: {order: dotted, version: {modbus-object: 0x83}, checksum: {modbus-object: 0x91}, "
              "send-as: dis}\n");
    for (size_t i = 0; i < 3; i++)
        snprintf(
            world + strlen(world), sizeof world - strlen(world),
            "  %s:\n    wire: lan\n    address: 192.0.2.%zu\n    order-code: TP-1\n    hardware-revision: 3\n"
            "    serial: S%zu\n    tftp: {writable: always, blksize-max: 1428}\n%s    components:\n"
            "      firmware: {send-as: fw, version-object: 2, checksum-object: 0x90, capacity-kib: 8, banks: "
            "2, "
            "image: fw-1.0}\n"
            "      display: {send-as: dis, version-object: 0x83, checksum-object: 0x91, capacity-kib: 8, "
            "banks: 2, "
            "image: dis-1.0}\n",
            names[i], i + 1, i + 1, in_world);
    write_text(folder, "world.yaml", "%s", world);
    static const char *const versions[] = {"1.0", "1.5", "2.0"};
    for (size_t i = 0; i < 3; i++) {
        char name[16];
        snprintf(name, sizeof name, "fw-%s", versions[i]);
        write_image(folder, name, "TP-1", "firmware", versions[i], 3000, "1..9",
                    i == 2 ? ", \"least_running\": \"1.5\"" : "");
        snprintf(name, sizeof name, "dis-%s", versions[i]);
        write_image(folder, name, "TP-1", "display", versions[i], 1000, "1..9", "");
    }
}

/* A site whose devices have these keys. */
static void make_site(const char *one, const char *two, const char *three)
{
    write_text(folder, "site.yaml",
               "site: s\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  one: {link: lan, address: 192.0.2.1, profile: p, serial: S1, %s}\n"
               "  two: {link: lan, address: 192.0.2.2, profile: p, serial: S2, %s}\n"
               "  three: {link: lan, address: 192.0.2.3, profile: p, serial: S3, %s}\n",
               one, two, three);
}

static int tear_down(void **state)
{
    (void)state;
    unsetenv("EINBAU_SHELF");
    remove_folder(folder);
    return 0;
}

/* Runs the tool in the test's folder; what the command holds must be printed. */
__attribute__((format(printf, 3, 4))) static char *tool(int status, const char *says, const char *format, ...)
{
    char command[4096];
    char *words;
    va_list arguments;
    va_start(arguments, format);
    assert_true(vasprintf(&words, format, arguments) >= 0);
    va_end(arguments);
    snprintf(command, sizeof command, "cd %s && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml && %s %s",
             folder, EINBAU, words);
    const char *const run[] = {"sh", "-c", command, NULL};
    struct outcome o = run_program(run);
    if (o.status != status || (says != NULL && strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: found %d\n%s\n%s\nexpected %d: %s", words, o.status, o.out, o.err, status,
                 says != NULL ? says : "");
    free(words);
    free(o.err);
    return o.out;
}

/* The same where what was printed is of no further use. */
#define expect(...) free(tool(__VA_ARGS__))

static const char *const nothing = "unit: 255"; /* a key that changes nothing */

static void a_way_through_another_version(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 2.0}, display: {version: 2.0}}", nothing, nothing);
    expect(0, "4 added", "shelf add fw-1.5 fw-2.0 dis-1.5 dis-2.0");
    char *out = tool(0, NULL, "plan --json");
    json_t *root = json_loads(out, 0, NULL);
    const json_t *components =
        json_object_get(json_array_get(json_object_get(root, "devices"), 0), "components");
    const json_t *through = json_object_get(json_array_get(components, 0), "through");
    assert_int_equal(json_array_size(through), 2);
    assert_string_equal(json_string_value(json_array_get(through, 0)), "1.5");
    assert_string_equal(json_string_value(json_array_get(through, 1)), "2.0");
    assert_int_equal(json_array_size(json_object_get(json_array_get(components, 1), "through")), 1);
    json_decref(root);
    free(out);
    expect(0, "s: 1 confirmed", "fit --yes --state state");
    expect(0, "current", "confirm --state state one");
    /* It is asked for again: by one step, as the last is the same. */
    out = tool(0, "s: 1 confirmed", "fit one --again --yes --state state");
    assert_null(strstr(out, "1.5"));
    free(out);
    /* Without the stone there is a gap. */
    expect(0, "dropped", "shelf drop 1");
    expect(1,
           "one firmware 2.0: least-running: found 1.0, expected at least 1.5, and no image leads there "
           "(refused unless "
           "accepted: --accept one:least-running)",
           "plan");
    expect(1, "Nothing was written.", "fit --yes");
    expect(0, "s: 1 confirmed", "fit --yes --accept one:least-running");
    expect(1, "and no image on the shelf leads there",
           "shelf list --for one --all >/dev/null; %s survey --state st2 "
           ">/dev/null; %s shelf cover --state st2",
           EINBAU, EINBAU);
}

static void what_the_shelf_lacks_is_named(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 2.0}, display: {version: 1.5}}",
              "wants: {display: {version: 1.5}}", nothing);
    expect(2, "found no image for firmware 2.0 in the site and no shelf",
           "plan --shelf '' ; s=$?; unset EINBAU_SHELF; exit "
           "$s");
    expect(0, "1 added", "shelf add dis-1.5");
    char *out = tool(
        1,
        "one firmware: image: found none of 2.0 for TP-1 on the shelf, expected one: einbau shelf add FILE",
        "fit --yes");
    assert_non_null(strstr(out, "(none on the shelf)"));
    assert_non_null(strstr(out, "Refused: one."));
    assert_non_null(strstr(out, "Nothing was written."));
    free(out);
    out = tool(1, NULL, "plan --json");
    json_t *root = json_loads(out, 0, NULL);
    const json_t *devices = json_object_get(root, "devices");
    const json_t *findings = json_object_get(json_array_get(devices, 0), "findings");
    const json_t *last = json_array_get(findings, json_array_size(findings) - 1);
    assert_string_equal(json_string_value(json_object_get(last, "code")), "image");
    /* The other one fits, and waits. */
    findings = json_object_get(json_array_get(devices, 1), "findings");
    last = json_array_get(findings, json_array_size(findings) - 1);
    assert_string_equal(json_string_value(json_object_get(last, "code")), "batch");
    assert_string_equal(json_string_value(json_object_get(last, "grade")), "if");
    assert_string_equal(json_string_value(json_object_get(last, "found")), "one is refused");
    json_decref(root);
    free(out);
    expect(0, "s: 1 confirmed", "fit --yes --without one");
}

static void companions_and_gateways_go_first(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}",
              "companions: {plc: {device: one}}, wants: {firmware: {version: 2.0}}",
              "via: two, wants: {display: {version: 2.0}}");
    write_image(folder, "fw-2.0", "TP-1", "firmware", "2.0", 3000, "1..9",
                ", \"companions\": [{\"role\": \"plc\", \"least\": \"1.5\"}]");
    write_image(folder, "dis-2.0", "TP-1", "display", "2.0", 1000, "1..9", ", \"least_gateway\": \"2.0\"");
    expect(0, "3 added", "shelf add fw-1.5 fw-2.0 dis-2.0");
    char *out = tool(0, "3 devices, in their order, about", "plan");
    const char *one = strstr(out, "\none ");
    const char *two = strstr(out, "\ntwo ");
    const char *three = strstr(out, "\nthree ");
    assert_true(one != NULL && two > one && three > two);
    assert_true(strstr(two, " one    ") < three && strstr(three, " two    ") != NULL); /* AFTER */
    free(out);
    expect(0, "s: 3 confirmed", "fit --yes");
    /* Left out, the first one keeps the second back, and that one the third. */
    out = tool(
        1,
        "two firmware 2.0: companion: found plc 1.0, expected plc at least 1.5 (fit one together with it: "
        "einbau fit one two)",
        "fit --yes --without one");
    assert_non_null(strstr(out, "three display 2.0: gateway-version: found 1.0, expected at least 2.0"));
    assert_non_null(strstr(out, "Nothing was written."));
    free(out);
    expect(1, "gateway-version: found 1.0", "plan three"); /* looked at, though not named */
    expect(0, "s: 1 confirmed", "fit three --yes --accept gateway-version");
    /* Not named on the site, and fixed. */
    make_site(nothing, "wants: {firmware: {version: 2.0}}", nothing);
    expect(1, "companion: found plc not named on the site, expected plc at least 1.5", "plan");
    make_site(nothing, "companions: {plc: {version: 1.4}}, wants: {firmware: {version: 2.0}}", nothing);
    expect(1, "companion: found plc 1.4, expected plc at least 1.5", "plan");
    make_site(nothing, "companions: {plc: {version: 1.50}}, wants: {firmware: {version: 2.0}}", nothing);
    expect(0, "s: 1 confirmed", "fit --yes");
}

/* The first one's flash is too small, which only shows while it is written. */
static void those_that_wait_for_a_failed_one_are_not_begun(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}",
              "companions: {plc: {device: one}}, wants: {firmware: {version: 2.0}}",
              "via: one, wants: {display: {version: 2.0}}");
    write_image(folder, "fw-1.5", "TP-1", "firmware", "1.5", 9000, "1..9", "");
    write_image(folder, "fw-2.0", "TP-1", "firmware", "2.0", 3000, "1..9",
                ", \"companions\": [{\"role\": \"plc\", \"least\": \"1.5\"}]");
    write_image(folder, "dis-2.0", "TP-1", "display", "2.0", 1000, "1..9", ", \"least_gateway\": \"1.5\"");
    expect(0, "3 added", "shelf add fw-1.5 fw-2.0 dis-2.0");
    char *out = tool(1, "s: 1 failed, 2 not-started", "fit --yes --state state");
    assert_non_null(
        strstr(out, "two, three: cancelled, as one was not confirmed before. Nothing was written"));
    free(out);
    out = tool(1, NULL, "confirm --state state");
    assert_null(strstr(out, "2.0      2.0"));
    free(out);
}

static void a_loader_must_be_new_enough_or_go_first(void **state)
{
    (void)state;
    make_world("loader: {state: {modbus-object: 0x80}, reads: loader, component: loader}\ncomponents:\n"
               "  loader: {order: dotted, version: {modbus-object: 0x83}, checksum: {modbus-object: 0x91}, "
               "send-as: dis}\n"
               "  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: 0x90}, "
               "send-as: fw}\n",
               "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    write_image(folder, "fw-1.5", "TP-1", "firmware", "1.5", 3000, "1..9", ", \"least_loader\": \"2.0\"");
    write_image(folder, "dis-2.0", "TP-1", "loader", "2.0", 1000, "1..9", "");
    expect(0, "2 added", "shelf add fw-1.5 dis-2.0");
    expect(1, "one firmware 1.5: loader-version: found 1.0, expected at least 2.0 (refused unless",
           "fit --yes");
    make_site("wants: {firmware: {version: 1.5}, loader: {version: 2.0}}", nothing, nothing);
    expect(0, "s: 1 confirmed", "fit --yes");
}

static void a_hand_is_asked_and_checked(void **state)
{
    (void)state;
    static const char profile[] =
        "prepare: [by-hand: {do: turn the service switch, lamp: SF is lit, address: 0x1003, value: 1, "
        "within-ms: 60000}]\n"
        "components:\n"
        "  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: 0x90}, send-as: "
        "fw}\n";
    make_world(profile, "    switch-after-s: 5\n");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    expect(0, "one: manual step before sending: turn the service switch, until SF is lit (it is checked)",
           "plan");
    expect(0, "one: manual step before sending: turn the service switch", "fit --yes");
    expect(0, "s: 1 confirmed", "fit --yes");
    tear_down(state);
    make_world(profile, "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    char *out = tool(1, "s: 1 manual-step", "fit --yes --state state");
    assert_non_null(strstr(out, "found 0 in register 4099, expected 1"));
    free(out);
    expect(1, "1.0      1.5", "confirm --state state");
}

/* What only a person sees: said in advance, by a name or a pattern; one that names no device is refused. */
static void a_step_is_said_to_be_done(void **state)
{
    (void)state;
    make_world("prepare: [by-hand: {do: pull the plug, ask: yes, within-s: 30}]\n"
               "components:\n"
               "  firmware: {order: dotted, version: {modbus-object: 2}, checksum: {modbus-object: 0x90}, "
               "send-as: fw}\n",
               "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    expect(2, "found 'onne', expected a device of s; did you mean 'one'?", "fit --yes --step-done onne");
    expect(2, "found 'x*', expected a device of s", "fit --yes --step-done 'x*'");
    expect(1, "s: 1 manual-step", "fit --yes");
    expect(0, "s: 1 confirmed", "fit --yes --step-done one");
    expect(0, "s: 1 confirmed", "fit --yes --step-done 'o*'");
}

static void images_of_several_components_share_a_restart(void **state)
{
    (void)state;
    static const char components[] = "components:\n"
                                     "  firmware: {order: dotted, version: {modbus-object: 2}, checksum: "
                                     "{modbus-object: 0x90}, send-as: fw}\n"
                                     "  display: {order: dotted, version: {modbus-object: 0x83}, checksum: "
                                     "{modbus-object: 0x91}, send-as: dis}\n";
    for (int once = 0; once < 2; once++) {
        char profile[600];
        char *log = NULL;
        snprintf(profile, sizeof profile, "%s%s", once ? "return: {restart: once}\n" : "", components);
        make_world(profile, "");
        make_site("wants: {firmware: {version: 1.5}, display: {version: 2.0}}", nothing, nothing);
        expect(0, "2 added", "shelf add fw-1.5 dis-2.0");
        expect(0, once ? "\"about_s\": 10" : "\"about_s\": 15", "plan --json");
        log = tool(0, "s: 1 confirmed", "fit --yes --state kept 2>&1");
        size_t restarts = 0;
        for (const char *at = log; (at = strstr(at, "one: activate")) != NULL; at++)
            restarts++;
        assert_int_equal(restarts, once ? 1 : 2);
        /* About 1 s for each 1000 bytes, 5 s for each restart, and half of one for each image; not measured
         * yet. */
        if (strstr(log, once ? ", about 10 to 15 s\n" : ", about 15 to 23 s\n") == NULL)
            fail_msg("%s", log);
        free(log);
        /* Now it was measured, and the plan is sure. */
        log = tool(0, "Plan for s: 2 images, 1 device, about ", "plan one --again --state kept");
        const char *about = strstr(log, ", about ") + 8;
        if (strstr(about, " to ") != NULL && strstr(about, " to ") < strchr(about, '\n'))
            fail_msg("%s", log);
        free(log);
        tear_down(state);
    }
    make_world(NULL, "");
}

static void the_floor_is_what_was_seen_first(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    write_image(folder, "fw-0.9", "TP-1", "firmware", "0.9", 3000, "1..9", "");
    expect(0, "3 added", "shelf add fw-0.9 fw-1.0 fw-1.5");
    expect(0, "s: 1 confirmed", "fit --yes --state state");
    /* Back to what it was delivered with is wanted and allowed, if it is said; below is not. */
    make_site("wants: {firmware: {version: 1.0}}", nothing, nothing);
    expect(1,
           "running-version: found 1.5, expected older than 1.0 (refused unless accepted: --accept one:"
           "running-version)",
           "plan one --state state");
    expect(0, "s: 1 confirmed", "fit one --yes --state state --accept running-version");
    make_site("wants: {firmware: {version: 0.9}}", nothing, nothing);
    expect(1, "delivered-floor: found 0.9, expected at least 1.0 (cannot be accepted)",
           "fit one --yes --state state --accept running-version --accept delivered-floor");
    expect(1, "first seen with    1.0", "show one --state state");
    /* Another device of the same kind was never seen: only what its site says counts. */
    make_site(nothing, "wants: {firmware: {version: 0.9, delivered: 0.8}}", nothing);
    expect(0, "s: 1 confirmed", "fit two --yes --state other --accept running-version");
    expect(1, "delivered with     0.8", "show two --state state");
}

static void every_answer_is_explained_on_request(void **state)
{
    (void)state;
    static const char *const codes[] = {
        "order-code",      "hardware-revision", "loader-version", "running-version", "least-running",
        "delivered-floor", "gateway-version",   "companion",      "capacity",        "size",
        "digest",          "signature",         "batch"};
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    char *out = tool(0, "one firmware 1.5:\n", "plan --explain");
    for (size_t i = 0; i < sizeof codes / sizeof codes[0]; i++) {
        char line[64];
        snprintf(line, sizeof line, "  yes         %s ", codes[i]);
        if (strstr(out, line) == NULL)
            fail_msg("no %s in\n%s", codes[i], out);
    }
    free(out);
    out = tool(0, NULL, "plan");
    assert_null(strstr(out, "order-code"));
    free(out);
}

static void an_image_of_the_shelf_is_named_by_its_number(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site(nothing, nothing, nothing);
    expect(0, "2 added", "shelf add fw-1.5 dis-2.0");
    expect(0, "s: 1 confirmed", "fit two --image 2 --yes");
    expect(2, "--image: found no image 9 on the shelf", "fit two --image 9 --yes");
    expect(2, "none: the image cannot be opened", "fit two --image ./none --yes");
}

/* The shelf's file was damaged after it had come: the verdict sees it, and nobody can accept it away. */
static void a_damaged_image_fits_nothing(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    char *out =
        tool(1, "one firmware 1.5: digest: found ",
             "shelf list >/dev/null; printf x | dd of=$(find shelf/images -type f) bs=1 seek=90 conv=notrunc "
             "2>/dev/null; %s fit --yes --accept one:running-version",
             EINBAU);
    assert_non_null(strstr(out, "(cannot be accepted)"));
    assert_non_null(strstr(out, "Nothing was written."));
    free(out);
}

/* What is sent: the bytes that a hex file stands for, or the file itself where the profile says so. */
static void a_hex_file_is_sent_as_what_it_stands_for(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}", nothing, nothing);
    expect(0, "1 added",
           "shelf list >/dev/null 2>&1; objcopy -I binary -O ihex fw-1.5 fw.hex && %s pack fw.hex --to p "
           "--component firmware --version 1.5 --order-code TP-1 --revisions 1..9 && %s shelf add p",
           EINBAU, EINBAU);
    expect(0, "capacity           found 3000 bytes", "plan --explain");
    expect(0, "s: 1 confirmed", "fit --yes");
    /* A hole in the file is FFh in the flash: the device's own checksum over all of it says so. */
    expect(
        0, "s: 1 confirmed",
        "shelf drop 1 && /usr/bin/python3 -c \"import zlib; b = bytearray(open('fw-1.5', 'rb').read()); "
        "b[1000:1200] = b'\\xff' * 200; b[12:16] = zlib.crc32(b[16:]).to_bytes(4, 'little'); "
        "open('holed', 'wb').write(b)\" && srec_cat holed -binary -exclude 1000 1200 -o holed.hex -intel && "
        "%s pack holed.hex --to q --component firmware --version 1.5 --order-code TP-1 --revisions 1..9 && "
        "%s shelf add q && %s fit --yes",
        EINBAU, EINBAU, EINBAU);
    expect(0, NULL,
           "shelf list >/dev/null && sed -i 's/firmware: {/firmware: {takes: file, /' profiles/p.yaml");
    char *out = tool(0, NULL, "plan --explain");
    assert_null(strstr(out, "capacity           found 3000 bytes"));
    free(out);
    expect(1, "s: 1 failed", "fit --yes"); /* these devices do not read hex files */
}

static void what_was_seen_last_serves_where_nobody_answers(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site("wants: {firmware: {version: 1.5}}", "order-code: TP-1, wants: {firmware: {version: 1.5}}",
              nothing);
    write_image(folder, "fw-1.5", "TP-1", "firmware", "1.5", 3000, "4..9", "");
    expect(0, "2 added", "shelf add fw-1.5 fw-2.0");
    expect(1,
           "one     TP-1        firmware   1.5     does not fit  fw-1.5  hardware-revision: found 3, "
           "expected 4..9",
           "survey --state state >/dev/null; %s shelf cover --state state", EINBAU);
    expect(0, NULL, "shelf list >/dev/null; sed -i 's/192.0.2.1,/192.0.2.99,/' site.yaml");
    char *out = tool(1, "one: TP-1, hardware revision 3; it does not answer, this is as it was seen on 20",
                     "shelf list --for one --all --state state");
    assert_non_null(strstr(out, "does not fit"));
    free(out);
    expect(1, "order code not known, hardware revision not known; by the site alone",
           "shelf list --for one --state none");
    expect(1, "two: TP-1, hardware revision 3\n", "shelf list --for two --state state");
    expect(2, "found 'four', expected a device of s: one, two, three", "shelf list --for four");
    expect(2, "--all: found no --for DEVICE", "shelf list --all");
}

/* Images for other order codes are counted by code, also where a pattern is one of several. */
static void what_the_rest_is_for_is_counted(void **state)
{
    (void)state;
    make_world(NULL, "");
    make_site(nothing, nothing, nothing);
    expect(0, "1 added", "shelf add fw-1.5");
    char *out = tool(0, "dropped", "shelf list --for one --all; %s shelf drop 1", EINBAU);
    assert_null(strstr(out, "other order codes"));
    free(out);
    for (int i = 1; i <= 12; i++) {
        char name[16];
        char code[16];
        snprintf(name, sizeof name, "other-%d", i);
        snprintf(code, sizeof code, i == 12 ? "KX-0?" : "K-%02d", i == 2 ? 3 : i);
        write_image(folder, name, code, "firmware", i == 2 ? "1.1" : "1.0", 3000, "1..9", "");
    }
    write_image(folder, "fits", "TP-?", "firmware", "1.9", 3000, "1..9", "");
    expect(0, "13 added", "shelf add other-* fits");
    out = tool(0,
               "\n12 more are for other order codes: K-01, K-03 (2), K-04, K-05, K-06, K-07, K-08, K-09, and "
               "3 other "
               "codes\n",
               "shelf list --for one --all");
    assert_non_null(strstr(out, "TP-?"));
    free(out);
    out = tool(0, NULL, "shelf list --for one");
    assert_null(strstr(out, "order codes"));
    free(out);
    out = tool(0, NULL, "shelf list --for one --all --json");
    json_t *root = json_loads(out, 0, NULL);
    const json_t *codes = json_object_get(root, "other_order_codes");
    assert_int_equal(json_array_size(codes), 11);
    assert_string_equal(json_string_value(json_object_get(json_array_get(codes, 10), "order_code")), "KX-0?");
    assert_int_equal(json_integer_value(json_object_get(json_array_get(codes, 1), "images")), 2);
    assert_int_equal(json_array_size(json_object_get(root, "images")), 1);
    json_decref(root);
    free(out);
}

/* More devices than a shell allows descriptors, more profiles and links than most sites have; each tenth
 * device waits for the one before. */
static void a_large_site_is_fitted(void **state)
{
    (void)state;
    enum { DEVICES = 400, PROFILES = 300 };
    char *site = malloc(DEVICES * 200 + 4096);
    char *world = malloc(DEVICES * 400 + 4096);
    make_world("components: {firmware: {order: dotted, version: {modbus-object: 2}, send-as: fw}}\n", "");
    char *s = site + sprintf(site, "site: s\nlinks:\n  lan: {kind: ethernet}\n");
    for (int i = 0; i < 20; i++)
        s += sprintf(s, "  bus-%d: {kind: can, bit-rate: 250000}\n", i);
    s += sprintf(s, "devices:\n");
    char *w = world +
              sprintf(world, "world: w\nsite: site.yaml\nwires: {lan: {rate-mbit-per-s: 10000}}\ndevices:\n");
    for (int i = 0; i < DEVICES; i++) {
        s += sprintf(
            s, "  d%d: {link: lan, address: 198.18.%d.%d, profile: p%d, wants: {firmware: {version: 1.5}}", i,
            i / 250, i % 250 + 1, i % PROFILES + 1);
        s += i % 10 == 9 ? sprintf(s, ", companions: {plc: {device: d%d}}}\n", i - 1) : sprintf(s, "}\n");
        w += sprintf(w,
                     "  d%d: {wire: lan, address: 198.18.%d.%d, order-code: TP-1, hardware-revision: 3, "
                     "serial: S%d, tftp: "
                     "{writable: always}, components: {firmware: {send-as: fw, version-object: 2, "
                     "capacity-kib: 8, image: "
                     "fw-1.0}}}\n",
                     i, i / 250, i % 250 + 1, i);
    }
    write_text(folder, "site.yaml", "%s", site);
    write_text(folder, "world.yaml", "%s", world);
    free(site);
    free(world);
    expect(0, "1 added",
           "--version; i=1; while [ $i -le %d ]; do sed \"s/profile: p/profile: p$i/\" profiles/p.yaml "
           ">profiles/p$i.yaml; i=$((i + 1)); done; %s shelf add fw-1.5",
           PROFILES, EINBAU);
    expect(0, "s: 400 confirmed", "shelf list >/dev/null; ulimit -Sn 200; %s fit --yes --state state",
           EINBAU);
    expect(0, "d399    198.18.1.150  TP-1", "confirm --state state");
}

static void sites_that_make_no_sense_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *one, *two, *says;
    } rows[] = {
        {"via: four", "unit: 1", "site.yaml:4:69: found 'four', expected the name of a device of this site"},
        {"via: one", "unit: 1", "found a device that waits for itself"},
        {"via: two", "companions: {plc: {device: one}}", "found a device that waits for itself"},
        {"companions: {plc: {device: five}}", "unit: 1", "found 'five', expected the name of a device"},
        {"companions: {plc: {}}", "unit: 1", "found no companion, expected 'device'"},
        {"companions: {plc: {device: two, version: 1.0}}", "unit: 1",
         "found a device and a version, expected 'device'"},
        {"companions: {plc: {device: two, component: web}}", "unit: 1",
         "found 'web', expected a component of that device"},
        {"companions: {plc: {device: two, colour: red}}", "unit: 1", "colour"},
        {"order-code: XX-1", "unit: 1", "found 'XX-1', expected an order code that its profile covers"},
        {"companions: {a: {version: 1}, b: {version: 1}, c: {version: 1}, d: {version: 1}, e: {version: 1}}",
         "unit: 1", "found one companion too many, expected at most 4"},
    };
    make_world(NULL, "");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        make_site(rows[i].one, rows[i].two, nothing);
        expect(2, rows[i].says, "plan");
    }
}

static void profiles_that_make_no_sense_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *firmware, *more, *says;
    } rows[] = {
        {"label: {product: {at: 0, after: x, text: 4}, version: {at: 4, text: 4}}", "",
         "found both 'at' and 'after'"},
        {"label: {product: {text: 4}, version: {at: 4, text: 4}}", "", "found no place, expected 'at'"},
        {"label: {product: {at: 0}, version: {at: 4, text: 4}}", "", "found no kind, expected 'text'"},
        {"label: {product: {at: 0, text: 4, number: u8}, version: {at: 4, text: 4}}", "",
         "found both 'text' and 'number'"},
        {"label: {product: {at: 0, number: u24-le}, version: {at: 4, text: 4}}", "", "u24-le"},
        {"label: {product: {at: 0, text: 4}}", "", "version"},
        {"label: {product: {at: 0, text: 48}, version: {at: 4, text: 4}}", "", "found '48'"},
        {"label: {product: {at: 0, text: 4}, version: {at: 4, text: 4}}, pair-header: {}", "",
         "'label' and 'pair-header'"},
        {"pair-header: {product: {at: 0, text: 4}, version: {at: 4, text: 4}}", "", "payload-size"},
        {"takes: zip", "", "'zip'"},
        {"floor: 1.0", "return: {restart: twice}\n", "'twice'"},
        {"floor: 1.0", "loader: {state: {modbus-object: 1}, reads: x, component: boot}\n",
         "a component of the loader that is not in 'components'"},
        {"floor: 1.0", "prepare: [by-hand: {address: 1, value: 1}]\n", "do"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char profile[800];
        snprintf(profile, sizeof profile,
                 "%scomponents:\n  firmware: {order: dotted, version: {modbus-object: 2}, send-as: fw, %s}\n",
                 rows[i].more, rows[i].firmware);
        make_world(profile, "");
        make_site(nothing, nothing, nothing);
        expect(2, rows[i].says, "plan");
        tear_down(state);
    }
    make_world(NULL, "");
}

int main(void)
{
#define TEST(name) cmocka_unit_test_teardown(name, tear_down)
    const struct CMUnitTest tests[] = {
        TEST(a_way_through_another_version),
        TEST(what_the_shelf_lacks_is_named),
        TEST(companions_and_gateways_go_first),
        TEST(those_that_wait_for_a_failed_one_are_not_begun),
        TEST(a_loader_must_be_new_enough_or_go_first),
        TEST(a_hand_is_asked_and_checked),
        TEST(a_step_is_said_to_be_done),
        TEST(images_of_several_components_share_a_restart),
        TEST(the_floor_is_what_was_seen_first),
        TEST(every_answer_is_explained_on_request),
        TEST(an_image_of_the_shelf_is_named_by_its_number),
        TEST(a_damaged_image_fits_nothing),
        TEST(a_hex_file_is_sent_as_what_it_stands_for),
        TEST(what_was_seen_last_serves_where_nobody_answers),
        TEST(what_the_rest_is_for_is_counted),
        TEST(a_large_site_is_fitted),
        TEST(sites_that_make_no_sense_are_told),
        TEST(profiles_that_make_no_sense_are_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
