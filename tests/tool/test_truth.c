/* What the tool says is true: marks, outcomes and versions, as text and as JSON, on devices that do what the
 * standards leave them free to do.  Each case was a false statement once. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct little little;

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

static json_t *document(int status, const char *words)
{
    char *out = einbau_says(&little, status, NULL, "%s --json", words);
    json_error_t error;
    json_t *root = json_loads(out, JSON_REJECT_DUPLICATES, &error);
    if (root == NULL)
        fail_msg("%s: not JSON: %s\n%s", words, error.text, out);
    free(out);
    return root;
}

static json_t *device_of(const json_t *root, const char *name)
{
    size_t i;
    json_t *device;
    json_array_foreach(json_object_get(root, "devices"), i, device)
    {
        if (strcmp(json_string_value(json_object_get(device, "name")), name) == 0)
            return device;
    }
    fail_msg("no device %s", name);
    return NULL;
}

static const json_t *component_of(const json_t *root, const char *name, size_t index)
{
    return json_array_get(json_object_get(device_of(root, name), "components"), index);
}

static const char *text(const json_t *object, const char *key)
{
    const json_t *value = json_object_get(object, key);
    return json_is_string(value) ? json_string_value(value) : json_is_null(value) ? "null" : "(none)";
}

/* "version checksum" */
static const char *by(const json_t *component)
{
    static char words[64];
    size_t i;
    json_t *word;
    struct eb_text text;
    eb_text_init(&text, words, sizeof words);
    json_array_foreach(json_object_get(component, "confirmed_by"), i, word)
    {
        eb_text_add(&text, i > 0 ? " " : "");
        eb_text_add(&text, json_string_value(word));
    }
    return words;
}

static void expect_marks(const char *name, int status, const char *running, const char *mark)
{
    static const char *const commands[] = {"confirm", "survey", "show"};
    for (size_t i = 0; i < 3; i++) {
        char words[64];
        snprintf(words, sizeof words, "%s %s", commands[i], name);
        json_t *root = document(status, words);
        const json_t *component = component_of(root, name, 0);
        if (strcmp(text(component, "running"), running) != 0 || strcmp(text(component, "mark"), mark) != 0)
            fail_msg("%s: found %s %s, expected %s %s", words, text(component, "running"),
                     text(component, "mark"), running, mark);
        json_decref(root);
        expect_einbau(&little, status, mark, "%s", words);
    }
}

/* --- the checksum is part of what is wanted ------------------------------------------------------ */

/* The device holds the wanted version by its name, and other bytes.  It is seen everywhere, put right without
 * being named, and then it is right. */
static void other_bytes_under_the_wanted_version(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1};
    little_make(&little, &options);
    replace_in(&little, "world.yaml", "plc-1.0.bin", "other.bin");
    replace_in(&little, "world.yaml", "display-1.0.bin", "display-2.0.bin");
    write_image(little.folder, "other.bin", "TP-1", "firmware", "2.0", 3100, "1..9", "");
    expect_marks("plc-1", 1, "2.0", "differs");
    expect_einbau(&little, 1, "0 devices as wanted, 1 not: plc-1", "confirm");
    expect_einbau(&little, 1, "1 with other bytes than the wanted image under its version", "survey");
    expect_einbau(&little, 0, "firmware   2.0   2.0  plc-2.0.bin", "plan");
    expect_einbau(&little, 0, "little: 1 confirmed", "fit --yes");
    expect_marks("plc-1", 0, "2.0", "current");
    expect_einbau(&little, 0, "Nothing to write", "fit --yes");
}

/* A byte of its memory is broken and its loader checks nothing: the checksum tells, and is not forgotten. */
static void a_wrong_checksum_is_not_forgotten(void **state)
{
    (void)state;
    const struct little_options options = {
        .couplers = 1, .device = "    checks-crc: no\n    conduct: {bad-byte-at: 2000}\n"};
    little_make(&little, &options);
    char *out = einbau_says(&little, 1,
                            "coupler-1: reading back the running version: not confirmed: found another "
                            "checksum, expected the image's",
                            "fit --yes");
    assert_non_null(strstr(out, "The same happened at each of 3 tries"));
    assert_non_null(strstr(out, "little: 1 failed"));
    free(out);
    expect_marks("coupler-1", 1, "2.0", "differs");
    expect_einbau(&little, 1, "1 failed", "fit --yes");
    expect_einbau(&little, 1, "1 not: coupler-1", "confirm");
}

static void a_wrong_checksum_of_a_node_and_a_unit_is_not_forgotten(void **state)
{
    (void)state;
    const struct bus_options options = {
        .nodes = 1, .units = 1, .device = "    checks-crc: no\n    conduct: {bad-byte-at: 400}\n"};
    bus_make(&little, &options);
    expect_einbau(&little, 1, "found another checksum, expected the image's", "fit --yes node-1");
    expect_marks("node-1", 1, "2.0", "differs");
    expect_einbau(&little, 1, "1 failed", "fit --yes node-1");
    /* The unit compares what was written with the checksum that it was sent; and starts it all the same. */
    expect_einbau(&little, 1, "the unit finds what was written wrong", "fit --yes unit-1");
    expect_marks("unit-1", 1, "2.0", "differs");
}

/* Where the image is on the shelf, or was only given once, what runs is compared all the same. */
static void the_image_is_known_from_the_shelf_or_the_record(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
    replace_in(&little, "site.yaml", ", image: coupler-2.0.bin", "");
    expect_einbau(&little, 0, "1 confirmed", "fit --yes coupler-1 --image coupler-2.0.bin");
    json_t *root = document(0, "confirm");
    assert_string_equal(by(component_of(root, "coupler-1", 0)), "version checksum");
    json_decref(root);
    /* Another laptop, which has neither. */
    root = document(0, "{XDG_STATE_HOME=/nowhere} confirm --state state");
    assert_string_equal(by(component_of(root, "coupler-1", 0)), "version checksum");
    json_decref(root);
    /* An image of that version with other bytes, taken to be the wanted one. */
    write_image(little.folder, "later.bin", "TC-1", "firmware", "2.0", 3300, "1..9", "");
    expect_einbau(&little, 0, "1 added", "shelf add later.bin");
    expect_marks("coupler-1", 1, "2.0", "differs");
}

/* --- by what it was confirmed -------------------------------------------------------------------- */

static void without_a_checksum_it_is_said(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
    replace_in(&little, "profiles/coupler.yaml", "checksum: {modbus-object: 0x90}, ", "");
    char *out = einbau_says(
        &little, 0, "coupler-1  firmware   1.0   2.0  2.0          confirmed (version only)\n", "fit --yes");
    assert_non_null(strstr(out, "little: 1 confirmed"));
    free(out);
    expect_einbau(&little, 0, "1 device as wanted, 0 not; 1 by the version only", "confirm");
    json_t *root = document(0, "confirm");
    assert_string_equal(by(component_of(root, "coupler-1", 0)), "version");
    json_decref(root);
    root = document(0, "fit --yes --again coupler-1");
    assert_string_equal(text(device_of(root, "coupler-1"), "outcome"), "confirmed");
    assert_string_equal(by(component_of(root, "coupler-1", 0)), "version");
    json_decref(root);
    expect_einbau(&little, 0, "up-to-date (version only)", "fit --yes coupler-1");
}

/* A device that can be read back is, where its profile asks for it; and damage is found that way alone. */
static void what_is_read_back_is_compared(void **state)
{
    (void)state;
    static const char *const names[] = {"coupler-1", "node-1", "unit-1", "gauge-1"};
    static const char *const conducts[] = {
        "    checks-crc: no\n    conduct: {readable: yes}\n",
        "    checks-crc: no\n    conduct: {readable: yes, bad-byte-at: 300}\n"};
    for (size_t i = 0; i < 8; i++) {
        bool bad = i % 2 != 0;
        const char *name = names[i / 2];
        const char *want = "read-back: yes\n";
        const struct little_options ethernet = {.couplers = 1, .profile = want, .device = conducts[bad]};
        const struct bus_options bus = {
            .nodes = i / 2 == 1, .units = i / 2 == 2, .profile = want, .device = conducts[bad]};
        const struct usb_options usb = {
            .gauges = 1, .usb = "uploads: yes, manifest: tolerant", .profile = want, .device = conducts[bad]};
        if (i / 2 == 0)
            little_make(&little, &ethernet);
        else if (i / 2 == 3)
            usb_make(&little, &usb);
        else
            bus_make(&little, &bus);
        if (i / 2 == 0) /* nothing else could tell */
            replace_in(&little, "profiles/coupler.yaml", "checksum: {modbus-object: 0x90}, ", "");
        char words[64];
        snprintf(words, sizeof words, "fit --yes %s", name);
        json_t *root = document(bad ? 1 : 0, words);
        const json_t *component = component_of(root, name, 0);
        if (!bad && strstr(by(component), "read-back") == NULL)
            fail_msg("%s: confirmed by %s", name, by(component));
        if (bad && strcmp(text(component, "outcome"), "confirmed") == 0)
            fail_msg("%s: confirmed with a wrong byte", name);
        json_decref(root);
        if (i + 1 < 8)
            little_remove(&little);
    }
}

/* --- a restart is proved ------------------------------------------------------------------------- */

/* Equal versions: what is read before the device goes down proves nothing. */
static void the_version_of_before_the_restart_confirms_nothing(void **state)
{
    (void)state;
    static const struct {
        const char *conduct;
        int status;
        const char *says;
    } cases[] = {
        {"restart-delay-ms: 3000", 0, "1 confirmed"},
        {"restarts: twice", 0, "1 confirmed"},
        {"restarts-itself: yes", 0, "1 confirmed"},
        {"restarts: never", 1, "was not seen to restart"},
        {"tells-written-version: yes, restarts: never", 1, "was not seen to restart"},
        {"closes-connections: yes, restarts: never", 1, "was not seen to restart"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char conduct[96];
        snprintf(conduct, sizeof conduct, "    conduct: {%s}\n", cases[i].conduct);
        const struct little_options options = {.plcs = 1, .device = conduct};
        little_make(&little, &options);
        replace_in(&little, "world.yaml", "plc-1.0.bin", "plc-2.0.bin");
        replace_in(&little, "world.yaml", "display-1.0.bin", "display-2.0.bin");
        struct outcome o = einbau_run(&little, "fit plc-1 --again --yes");
        if (o.status != cases[i].status || strstr(o.out, cases[i].says) == NULL)
            fail_msg("%s: found %d\n%s%s", cases[i].conduct, o.status, o.out, o.err);
        outcome_free(&o);
        if (i + 1 < sizeof cases / sizeof cases[0])
            little_remove(&little);
    }
}

/* It is back at once and closes each connection, so nothing shows its restart but what the profile names. */
static void a_restart_that_nobody_sees_needs_a_proof_of_its_own(void **state)
{
    (void)state;
    static const struct {
        const char *proof, *conduct, *call, *seen;
    } cases[] = {
        {"", "", "", NULL},
        {"counter: {modbus-register: 0x1004}, counts: starts, ", "", "", "counter"},
        {"counter: {modbus-register: 0x1004}, counts: starts, ", "", " --again", "counter"},
        {"counter: {modbus-register: 0x1004}, counts: starts, ", ", restarts: never", " --again", NULL},
        {"counter: {modbus-register: 0x1005, registers: 2}, counts: hundredths, ", "", " --again", "counter"},
        {"counter: {modbus-register: 0x1005, registers: 2}, counts: hundredths, ", ", restarts: never",
         " --again", NULL},
        {"new-version-proves-restart: yes, ", "", "", "version"},
        {"new-version-proves-restart: yes, ", "", " --again", NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char conduct[128];
        char profile[160];
        char words[64];
        snprintf(conduct, sizeof conduct,
                 "    down-ms: 0\n    boot-ms: 0\n    erase-ms: 3000\n    conduct: {closes-connections: "
                 "yes%s}\n",
                 cases[i].conduct);
        snprintf(profile, sizeof profile, "return: {%s", cases[i].proof);
        const struct little_options options = {.plcs = 1, .device = conduct, .no_times = true};
        little_make(&little, &options);
        replace_in(&little, "profiles/plc.yaml", "return: {", profile);
        if (cases[i].call[0] != '\0') {
            replace_in(&little, "world.yaml", "plc-1.0.bin", "plc-2.0.bin");
            replace_in(&little, "world.yaml", "display-1.0.bin", "display-2.0.bin");
        }
        snprintf(words, sizeof words, "fit plc-1 --yes%s", cases[i].call);
        json_t *root = document(cases[i].seen != NULL ? 0 : 1, words);
        const json_t *device = device_of(root, "plc-1");
        if (strcmp(text(device, "restart_seen"), cases[i].seen != NULL ? cases[i].seen : "(none)") != 0)
            fail_msg("case %zu: restart seen by %s, expected %s", i, text(device, "restart_seen"),
                     cases[i].seen != NULL ? cases[i].seen : "nothing");
        json_decref(root);
        if (i + 1 < sizeof cases / sizeof cases[0])
            little_remove(&little);
    }
}

/* --- a block that is lost between two ways of counting ------------------------------------------- */

/* Behind block 65535 the device counts on with 1 and the profile says 0, or the other way round: in a window
 * the block in between would be dropped, and nobody would tell. */
static void another_way_to_count_blocks_is_found(void **state)
{
    (void)state;
    static const struct {
        const char *device, *profile;
        bool same;
    } cases[] = {{"rollover-to: 1", "rollover-to: 0", false},
                 {"rollover-to: 0", "rollover-to: 1", false},
                 {"rollover-to: 1", "rollover-to: 1", true},
                 {"rollover-to: 0", "rollover-to: 0", true}};
    for (size_t i = 0; i < 4; i++) {
        char tftp[96];
        snprintf(tftp, sizeof tftp, "windowsize: 4, blksize: 8, patience-s: 20, %s", cases[i].profile);
        const struct little_options options = {.couplers = 1,
                                               .image_bytes = 8 * 65536 + 4000,
                                               .capacity_kib = 1024,
                                               .tftp = tftp,
                                               .device_tftp = cases[i].device,
                                               .device = "    checks-crc: no\n",
                                               .no_times = true};
        little_make(&little, &options);
        if (cases[i].same) {
            expect_einbau(&little, 0, "little: 1 confirmed", "fit --yes");
        } else {
            char *out = einbau_says(&little, 1, "rollover-to", "fit --yes");
            assert_non_null(strstr(out, "little: 1 "));
            assert_null(strstr(out, "confirmed\n"));
            free(out);
            expect_einbau(&little, 1, "0 devices as wanted", "confirm");
        }
        if (i < 3)
            little_remove(&little);
    }
}

/* --- sentences that help ------------------------------------------------------------------------- */

static void sentences_say_what_helps_in_this_case(void **state)
{
    (void)state;
    static const struct {
        const char *file, *old, *fresh, *says, *helps;
    } cases[] = {
        {"profiles/coupler.yaml", "send-as: fw.bin", "send-as: other.bin",
         "TFTP error code 1: no component takes a file of this name",
         "The profile's key 'send-as' must be the file name that the device expects"},
        {"world.yaml", "capacity-kib: 8", "capacity-kib: 3", "TFTP error code 3: larger than the memory",
         "Its memory is full, or too small for this image"},
        {"world.yaml", "writable: loader", "writable: stopped", "1 confirmed", ""},
        {"profiles/coupler.yaml", "value: 4}", "value: 2}", "found 2 in register 4097, expected 3", ""},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct little_options options = {.couplers = 1, .image_bytes = 5000};
        little_make(&little, &options);
        replace_in(&little, cases[i].file, cases[i].old, cases[i].fresh);
        struct outcome o = einbau_run(&little, "fit --yes");
        if (strstr(o.out, cases[i].says) == NULL || strstr(o.out, cases[i].helps) == NULL ||
            strstr(o.out, "does not answer now") != NULL ||
            (cases[i].helps[0] != '\0' && strstr(o.out, "tries once more") != NULL))
            fail_msg("case %zu: %d\n%s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
        if (i + 1 < sizeof cases / sizeof cases[0])
            little_remove(&little);
    }
}

/* --- who answers, and from where ----------------------------------------------------------------- */

/* The loader's version is not the program's, though it happens to be the wanted one. */
static void a_loader_runs_nothing(void **state)
{
    (void)state;
    const struct usb_options options = {
        .gauges = 1, .by_release = true, .device = "    starts: loader\n", .usb = "loader-release: \"2.0\""};
    usb_make(&little, &options);
    json_t *root = document(1, "confirm");
    const json_t *device = device_of(root, "gauge-1");
    assert_true(json_is_true(json_object_get(device, "in_loader")));
    assert_true(json_is_true(json_object_get(device, "reached")));
    assert_string_equal(text(component_of(root, "gauge-1", 0), "running"), "null");
    assert_int_equal(json_integer_value(json_object_get(root, "not_as_wanted")), 1);
    json_decref(root);
    expect_marks("gauge-1", 1, "null", "unreadable");
    root = document(0, "fit --yes");
    device = device_of(root, "gauge-1");
    assert_string_equal(text(device, "outcome"), "confirmed");
    assert_true(json_is_false(json_object_get(device, "in_loader"))); /* as it is in the end */
    assert_string_equal(text(component_of(root, "gauge-1", 0), "running"), "2.0");
    json_decref(root);
}

static void one_that_answers_is_not_silent(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .couplers = 1};
    little_make(&little, &options);
    replace_in(&little, "site.yaml", "serial: P-1", "serial: P-9");
    json_t *root = document(1, "survey");
    const json_t *device = device_of(root, "plc-1");
    assert_true(json_is_true(json_object_get(device, "answered")));
    assert_true(json_is_false(json_object_get(device, "reached")));
    assert_string_equal(text(component_of(root, "plc-1", 0), "running"), "null");
    assert_string_equal(text(component_of(root, "plc-1", 0), "mark"), "unreadable");
    json_decref(root);
    char *out = einbau_says(&little, 1,
                            "plc-1: comparing the serial number: another device: found P-1, expected P-9. "
                            "Check the address, the cable, and the serial number in the site",
                            "survey");
    assert_null(strstr(out, "unreachable"));
    free(out);
    /* An exception is an answer too. */
    little_remove(&little);
    const struct little_options one = {.couplers = 1};
    little_make(&little, &one);
    replace_in(&little, "profiles/coupler.yaml", "serial: {modbus-object: 0x81}",
               "serial: {modbus-register: 0x7000, registers: 4, as: text}");
    out = einbau_says(&little, 1, "Modbus exception code 2", "survey");
    assert_null(strstr(out, "unreachable"));
    free(out);
}

/* After the restart another one answers in its place: it is not called silent, and not called done. */
static void another_serial_number_after_the_restart(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1, .device = "    conduct: {later-serial: C-7}\n"};
    little_make(&little, &options);
    char *out = einbau_says(&little, 1, "another device: found C-7, expected C-1", "fit --yes");
    assert_non_null(strstr(out, "unknown"));
    assert_null(strstr(out, "does not answer"));
    assert_non_null(strstr(out, "little: 1 failed"));
    free(out);
}

/* --- one judgement ------------------------------------------------------------------------------- */

/* The image for the coupler wants the PLC to be at 2.0 first: the whole plan brings it, and every command
 * says the same of the coupler alone. */
static void a_companion_of_the_same_job_is_no_reason_to_accept(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .couplers = 1};
    little_make(&little, &options);
    replace_in(&little, "site.yaml", "    serial: C-1\n",
               "    serial: C-1\n    companions: {plc: {device: plc-1}}\n");
    replace_in(&little, "site.yaml", ", image: coupler-2.0.bin", "");
    write_image(little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "1..9",
                ", \"companions\": [{\"role\": \"plc\", \"least\": \"2.0\"}]");
    expect_einbau(&little, 0, "1 added", "shelf add coupler-2.0.bin");
    expect_einbau(&little, 0, "coupler-1  firmware   1.0   2.0  coupler-2.0.bin  3 kB   plc-1  ", "plan");
    static const char advice[] =
        "companion: found plc 1.0, expected plc at least 2.0 (fit plc-1 together with it: "
        "einbau fit plc-1 coupler-1)";
    char *out = einbau_says(&little, 1, advice, "plan coupler-1");
    assert_null(strstr(out, "--accept"));
    free(out);
    out = einbau_says(&little, 1, advice, "fit coupler-1 --yes");
    assert_null(strstr(out, "--accept"));
    assert_non_null(strstr(out, "Nothing was written."));
    free(out);
    expect_einbau(&little, 1, "fits if", "show coupler-1");
    expect_einbau(&little, 1, "if          companion", "show coupler-1");
    expect_einbau(&little, 0, "fits if", "shelf list --for coupler-1 --all");
    json_t *root = document(1, "plan coupler-1");
    size_t i;
    json_t *finding;
    bool told = false;
    json_array_foreach(json_object_get(device_of(root, "coupler-1"), "findings"), i, finding)
    {
        if (strcmp(text(finding, "code"), "companion") != 0)
            continue;
        assert_string_equal(text(finding, "grade"), "if");
        assert_string_equal(text(finding, "together"), "plc-1");
        told = true;
    }
    assert_true(told);
    json_decref(root);
    expect_einbau(&little, 0, "little: 2 confirmed", "fit --yes plc-1 coupler-1");
    expect_einbau(&little, 0, NULL, "show coupler-1");
}

/* --- nothing chosen, nothing printed ------------------------------------------------------------- */

static void nothing_chosen_is_no_success(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .couplers = 1};
    little_make(&little, &options);
    expect_einbau(&little, 0, "2 confirmed", "fit --yes");
    static const char *const commands[] = {"confirm", "survey", "plan", "fit --yes", "recover --yes"};
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++)
        expect_einbau(&little, 2, "no device is chosen: --without leaves out every one that was named",
                      "%s plc-1 --without plc-1", commands[i]);
    expect_einbau(&little, 2, "found device names and no site", "{EINBAU_SITE=} survey plc-1");
    expect_einbau(&little, 2, "found device names and no site", "{EINBAU_SITE=} survey --without plc-1");
    /* Nothing is wanted of the coupler any more. */
    replace_in(&little, "site.yaml",
               "    serial: C-1\n    wants:\n      firmware: {version: 2.0, image: coupler-2.0.bin}\n",
               "    serial: C-1\n");
    expect_einbau(&little, 0, "1 device as wanted, 0 not; nothing is wanted of 1", "confirm");
    expect_einbau(&little, 1, "found nothing that is wanted of coupler-1", "confirm coupler-1");
    expect_einbau(&little, 1, "found nothing that is wanted of coupler-1", "fit --yes coupler-1");
    expect_einbau(&little, 1, "found nothing that is wanted of coupler-1", "plan coupler-1");
    json_t *root = document(0, "confirm");
    assert_int_equal(json_integer_value(json_object_get(root, "as_wanted")), 1);
    assert_int_equal(json_integer_value(json_object_get(root, "not_as_wanted")), 0);
    assert_int_equal(json_integer_value(json_object_get(root, "not_compared")), 1);
    json_decref(root);
}

/* Into a full disk and into a pipe whose reader has gone: an error of its own, in every command. */
static void what_cannot_be_printed_is_an_error(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
    static const char *const commands[] = {"--help",
                                           "--version",
                                           "survey",
                                           "survey --json",
                                           "show coupler-1",
                                           "plan",
                                           "confirm",
                                           "confirm --json",
                                           "shelf list",
                                           "shelf cover",
                                           "links",
                                           "fit --yes",
                                           "fit --help",
                                           "recover --yes",
                                           "fit --yes --json",
                                           "links --undo",
                                           "shelf add coupler-2.0.bin",
                                           "shelf show 1",
                                           "shelf copy site.yaml --to elsewhere"};
    replace_in(&little, "world.yaml", "devices:",
               "laptop:\n  eth0: {kind: wired, wire: lan, addresses: [192.0.2.100/24]}\ndevices:");
    expect_einbau(&little, 0, "1 added", "shelf add coupler-2.0.bin");
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        struct outcome o = einbau_run(&little, "%s >/dev/full", commands[i]);
        if (o.status != 2 || (strstr(o.err, "the output could not be written") == NULL &&
                              strstr(o.err, "could not be printed; nothing was written") == NULL))
            fail_msg("%s >/dev/full: found %d\n%s", commands[i], o.status, o.err);
        outcome_free(&o);
    }
    char script[2 * PATH_BYTES];
    snprintf(
        script, sizeof script,
        "cd %s && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state && python3 -c \"\n"
        "import os, subprocess, sys\n"
        "r, w = os.pipe()\nos.close(r)\n"
        "p = subprocess.run(['" BIN_DIR "/einbau', 'confirm'], stdout=w, stderr=subprocess.PIPE)\n"
        "sys.stderr.write(p.stderr.decode())\nsys.exit(p.returncode)\"",
        little.folder);
    const char *const run[] = {"sh", "-c", script, NULL};
    struct outcome o = run_program(run);
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "the output could not be written"));
    outcome_free(&o);
}

/* --- what a person accepts ----------------------------------------------------------------------- */

static void accepted_is_said_of_one_device_and_shown(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 2};
    little_make(&little, &options);
    write_image(little.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "5..9", "");
    expect_einbau(&little, 2, "expected DEVICE:CODE: a code alone goes only with one device named",
                  "fit --yes --accept hardware-revision");
    expect_einbau(&little, 2, "found a code for 2 named devices",
                  "fit --yes coupler-1 coupler-2 --accept hardware-revision");
    expect_einbau(&little, 2, "--accept: found 'coupler-3', expected a device of this call",
                  "fit --yes --accept coupler-3:hardware-revision");
    expect_einbau(&little, 2, "--accept: found 'coupler-2', expected a device of this call",
                  "fit --yes coupler-1 --accept coupler-2:hardware-revision");
    /* What is accepted for one is not for the other. */
    char *out =
        einbau_says(&little, 1, "Refused: coupler-2", "fit --yes --accept coupler-1:hardware-revision");
    assert_non_null(
        strstr(out, "coupler-1 firmware 2.0: hardware-revision: found 3, expected 5..9 (accepted)"));
    assert_non_null(strstr(out, "--accept coupler-2:hardware-revision"));
    free(out);
    out = einbau_says(&little, 0, "little: 1 confirmed", "fit --yes coupler-1 --accept hardware-revision");
    assert_non_null(strstr(out, "coupler-1 firmware: accepted hardware-revision: found 3, expected 5..9"));
    free(out);
    json_t *root = document(0, "fit --yes coupler-2 --accept coupler-2:hardware-revision");
    const json_t *accepted = json_object_get(device_of(root, "coupler-2"), "accepted");
    assert_int_equal(json_array_size(accepted), 1);
    assert_string_equal(json_string_value(json_array_get(accepted, 0)), "hardware-revision");
    json_decref(root);
}

/* --- options in full ----------------------------------------------------------------------------- */

static void options_are_written_in_full(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 2};
    little_make(&little, &options);
    expect_einbau(&little, 2, "found '--with', expected one of its options in full: did you mean --without?",
                  "confirm --with coupler-1");
    expect_einbau(&little, 2, "did you mean --yes", "fit --ye");
    expect_einbau(&little, 2, "did you mean --without", "confirm --without-device=coupler-1");
    expect_einbau(&little, 2, "expected one of its options in full. Try", "confirm --colour");
    expect_einbau(&little, 1, "2 not: coupler-1, coupler-2", "confirm"); /* nothing was written meanwhile */
}

#define TEST(name) cmocka_unit_test_teardown(name, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(other_bytes_under_the_wanted_version),
        TEST(a_wrong_checksum_is_not_forgotten),
        TEST(a_wrong_checksum_of_a_node_and_a_unit_is_not_forgotten),
        TEST(the_image_is_known_from_the_shelf_or_the_record),
        TEST(without_a_checksum_it_is_said),
        TEST(what_is_read_back_is_compared),
        TEST(the_version_of_before_the_restart_confirms_nothing),
        TEST(a_restart_that_nobody_sees_needs_a_proof_of_its_own),
        TEST(another_way_to_count_blocks_is_found),
        TEST(sentences_say_what_helps_in_this_case),
        TEST(a_loader_runs_nothing),
        TEST(one_that_answers_is_not_silent),
        TEST(another_serial_number_after_the_restart),
        TEST(a_companion_of_the_same_job_is_no_reason_to_accept),
        TEST(nothing_chosen_is_no_success),
        TEST(what_cannot_be_printed_is_an_error),
        TEST(accepted_is_said_of_one_device_and_shown),
        TEST(options_are_written_in_full),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
