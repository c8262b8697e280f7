/* Restart, stop, start, factory reset, node id by LSS, a device's own password: what the user reads against
 * what the simulated device does. */
#include "told_subjects.h"

#include <jansson.h>
#include <signal.h>

#define EINBAU        BIN_DIR "/einbau"
#define IN_SIMULATION " --site site.yaml --sim world.yaml --state state "

static char *on_the_terminal(const struct little *l, const char *call, const char *typed)
{
    char words[3 * PATH_BYTES];
    snprintf(words, sizeof words, "cd %s && %s %s" IN_SIMULATION "; echo =$?", l->folder, EINBAU, call);
    return on_terminal_typing(words, typed);
}

/* --- act --------------------------------------------------------------------------------------------------
 */

static const char plc_actions[] = "restart: [{write-register: {address: 0x1000, value: 3}}]\n"
                                  "stop: [{write-register: {address: 0x1000, value: 2}}]\n"
                                  "start: [{write-register: {address: 0x1000, value: 1}}]\n";
static const char web_actions[] =
    "restart: [{http: {path: /restart, expect: 202}}]\n"
    "reset: [{http: {path: /factory-reset, expect: 202}}]\n"
    "settings:\n  gain: {http: {path: /api/settings}, json: /gain, writes-json: "
    "'{\"gain\": {value}}'}\nbackups: {presets: {http: {path: /api/presets}}}\n";
static const char node_actions[] =
    "restart: [{nmt: {command: 0x81}}]\n"
    "reset: [{write-sdo: {index: 0x1011, sub: 1, value: 0x64616F6C}}, {nmt: {command: "
    "0x81}}]\nsettings: {heartbeat: {sdo: {index: 0x2217}}}\n";
static const char unit_actions[] =
    "restart: [{ecu-reset: {}}]\nreset: [{routine: {id: 0x0F01}}, {ecu-reset: {}}]\n"
    "settings: {force: {did: {first: 0x2201, extended-session: yes}}}\n";

#define WEB_DOCUMENTS                                                                                        \
    "documents: {settings: {merges: yes, text: '{\"gain\": 3}', delivered: '{\"gain\": 0}'}, "               \
    "presets: {text: own, delivered: none}}"
#define NODE_DOCUMENTS                                                                                       \
    "documents: {heartbeat: {number: 0x2217, whole: yes, hex: e803, delivered-hex: \"0000\", needs-store: "  \
    "yes}}"
#define UNIT_DOCUMENTS "documents: {force: {number: 0x2201, whole: yes, hex: 1f40, delivered-hex: \"1388\"}}"

static void actions_are_read_back(void **state)
{
    static const struct {
        enum kind kind;
        const char *profile, *world, *first, *action; /* `first`: before it, or NULL */
        int status;
        const char *says, *never;
        enum eb_sim_mode mode;
    } rows[] = {
        {PLC, plc_actions, NULL, NULL, "stop", 0, "its program is stopped, as read back", "fails",
         EB_SIM_STOPPED},
        {PLC, plc_actions, NULL, "stop", "start", 0, "its program runs, as read back", "fails",
         EB_SIM_RUNNING},
        {PLC, plc_actions, NULL, "stop", "stop", 0, "its program is stopped already", "as read back",
         EB_SIM_STOPPED},
        {PLC, plc_actions, NULL, NULL, "start", 0, "its program runs already", "as read back",
         EB_SIM_RUNNING},
        {PLC, plc_actions, NULL, NULL, "restart", 0, "it was seen to restart, and runs", "not seen",
         EB_SIM_RUNNING},
        {PLC, plc_actions, "conduct: {restarts: never}", NULL, "restart", 1, "was not seen to restart",
         "and runs", EB_SIM_RUNNING},
        {PLC, plc_actions, "conduct: {restart-delay-ms: 4000}", NULL, "restart", 0, "it was seen to restart",
         "not seen", EB_SIM_RUNNING},
        {PLC, plc_actions, NULL, NULL, "restart-cold", 1,
         "does not say how to restart-cold it: the key 'restart-cold'", "seen", EB_SIM_RUNNING},
        {PLC, "stop: [{write-register: {address: 0x7000, value: 2}}]\n", NULL, NULL, "stop", 1,
         "illegal data address", "as read back", EB_SIM_RUNNING},
        {PLC, "stop: [{write-register: {address: 0x1000, value: 1}}]\n", NULL, NULL, "stop", 1,
         "its program still runs", "as read back", EB_SIM_RUNNING},
        {AMPLIFIER, web_actions, NULL, NULL, "restart", 0, "it was seen to restart, and runs", "not seen",
         EB_SIM_RUNNING},
        {AMPLIFIER, "restart: [{http: {path: /nowhere}}]\n", NULL, NULL, "restart", 1, "Not Found",
         "and runs", EB_SIM_RUNNING},
        {AMPLIFIER, web_actions, NULL, NULL, "stop", 1, "does not say how to stop it: the key 'stop'",
         "and runs", EB_SIM_RUNNING},
        {NODE, node_actions, NODE_DOCUMENTS, NULL, "restart", 0, "it was seen to restart, and runs",
         "not seen", EB_SIM_RUNNING},
        {NODE, "restart: [{nmt: {command: 0x80}}]\n", NULL, NULL, "restart", 1, "was not seen to restart",
         "and runs", EB_SIM_RUNNING},
        {UNIT, unit_actions, UNIT_DOCUMENTS, NULL, "restart", 0, "it was seen to restart, and runs",
         "not seen", EB_SIM_RUNNING},
        {UNIT, "restart: [{routine: {id: 0x0777}}]\n", NULL, NULL, "restart", 1, "starting a routine (31h)",
         "and runs", EB_SIM_RUNNING},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        char words[96];
        make_with(&l, rows[i].kind, rows[i].world, rows[i].profile);
        if (rows[i].first != NULL) {
            snprintf(words, sizeof words, "act %s %s --yes", subjects[rows[i].kind].name, rows[i].first);
            struct outcome before = in_state(&l, "state", words);
            assert_int_equal(before.status, 0);
            outcome_free(&before);
        }
        snprintf(words, sizeof words, "act %s %s --yes", subjects[rows[i].kind].name, rows[i].action);
        struct outcome o = in_state(&l, "state", words);
        if (o.status != rows[i].status || strstr(o.out, rows[i].says) == NULL ||
            strstr(o.out, rows[i].never) != NULL)
            fail_msg("row %zu: %d, not '%s', or '%s', in\n%s%s", i, o.status, rows[i].says, rows[i].never,
                     o.out, o.err);
        outcome_free(&o);
        assert_int_equal(look(&l, rows[i].kind, "state").mode, rows[i].mode);
        little_remove(&l);
    }
}

/* Whatever is lost on the way: "as read back" is true, and what is not known is not said. */
static void stopping_never_lies(void **state)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost", "kill", "interrupt"};
    struct little l;
    size_t counts[2] = {0};
    (void)state;
    make_with(&l, PLC, NULL, plc_actions);
    char *world = read_text(l.folder, "world.yaml", NULL);
    for (unsigned frame = 0; frame < 60; frame += every(1)) {
        char text[64];
        bool signal = frame % 6 >= 4;
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", kinds[frame % 6]);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", frame, text);
        struct outcome o = in_state(&l, "state", "act plc-1 stop --yes");
        bool stopped = look(&l, PLC, "state").mode == EB_SIM_STOPPED;
        bool said = strstr(o.out, "is stopped, as read back") != NULL;
        /* its power came back after that was read: then it runs again */
        if (said && !stopped && frame % 6 != 3)
            fail_msg("%s at frame %u: it runs\n%s%s", kinds[frame % 6], frame, o.out, o.err);
        if ((o.status == 0) != said && o.status != 4)
            fail_msg("%s at frame %u: %d\n%s%s", kinds[frame % 6], frame, o.status, o.out, o.err);
        counts[said]++;
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        o = in_state(&l, "state", "act plc-1 start --yes");
        if (o.status != 0 || look(&l, PLC, "state").mode != EB_SIM_RUNNING)
            fail_msg("frame %u, and started: %d\n%s%s", frame, o.status, o.out, o.err);
        outcome_free(&o);
    }
    print_message("%zu times stopped and read back, %zu times not\n", counts[1], counts[0]);
    assert_true(counts[1] > 0 && (counts[0] > 0 || getenv("EINBAU_TEST_EVERY") != NULL));
    free(world);
    little_remove(&l);
}

static void wrong_calls_do_nothing(void **state)
{
    static const struct {
        const char *call;
        int status;
        const char *says;
    } rows[] = {
        {"act plc-1", 2, "expected restart, restart-cold, stop or start"},
        {"act plc-1 reset --yes", 2, "expected restart, restart-cold, stop or start"},
        {"act plc-9 stop --yes", 2, "expected a device of"},
        {"act plc-1 stop", 2, "cannot ask for confirmation without a terminal; use --yes. Nothing was done"},
        {"reset plc-1", 1, "nothing was done to any device"},
        {"secret change plc-1 --yes --key-file key", 1, "the key 'password'. Nothing was changed"},
        {"set plc-1 --yes", 2, "found nothing to set"},
    };
    struct little l;
    (void)state;
    make_with(&l, PLC, NULL, plc_actions);
    write_text(l.folder, "label", "Larch:fell 7\n");
    expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set plc-1 service --key-file key");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o = in_state(&l, "state", rows[i].call);
        if (o.status != rows[i].status || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s%s", rows[i].call, o.status, o.out, o.err);
        outcome_free(&o);
    }
    expect_einbau(&l, 0, "runs already", "{EINBAU_STATE=state} act plc-1 start");
    little_remove(&l);
}

/* --- reset ------------------------------------------------------------------------------------------------
 */

/* Its documents as the world remembers them, in a row. */
static char *documents(const struct little *l, const char *device)
{
    json_t *one = remembered(l, device);
    char *all = calloc(1, 1024);
    size_t i;
    const json_t *d;
    json_array_foreach(json_object_get(json_object_get(one, "documents"), "list"), i, d)
    {
        snprintf(all + strlen(all), 1024 - strlen(all), "%s ", json_string_value(json_object_get(d, "now")));
    }
    json_decref(one);
    return all;
}

static void a_reset_is_typed_saved_and_read_back(void **state)
{
    static const struct {
        enum kind kind;
        const char *profile, *world, *after; /* what it holds, as hexadecimal digits */
    } rows[] = {
        {AMPLIFIER, web_actions, WEB_DOCUMENTS, "7b226761696e223a20307d 6e6f6e65 "}, /* {"gain": 0}, none */
        {NODE, node_actions, NODE_DOCUMENTS, "0000 "},
        {UNIT, unit_actions, UNIT_DOCUMENTS, "1388 "},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        const char *name = subjects[rows[i].kind].name;
        struct little l;
        char call[96];
        make_with(&l, rows[i].kind, rows[i].world, rows[i].profile);
        if (rows[i].kind == UNIT)
            replace_in(&l, "world.yaml", "key: ", "reset-routine: 0x0F01, key: ");
        snprintf(call, sizeof call, "reset %s", name);
        struct outcome o = in_state(&l, "state", call);
        if (o.status != 1 || strstr(o.err, "typed on a terminal. It was not reset") == NULL)
            fail_msg("%s: %d\n%s%s", name, o.status, o.out, o.err);
        outcome_free(&o);
        char *before = documents(&l, name);
        char *screen = on_the_terminal(&l, call, "another");
        assert_non_null(strstr(screen, "found 'another', expected the device's name"));
        assert_non_null(strstr(screen, "=1"));
        free(screen);
        char *now = documents(&l, name);
        assert_string_equal(now, before);
        free(now);
        screen = on_the_terminal(&l, call, name);
        if (strstr(screen, "it is reset, was seen to restart, and runs") == NULL ||
            strstr(screen, "=0") == NULL || strstr(screen, "Saved, and read back from the disk: ") == NULL)
            fail_msg("%s", screen);
        free(screen);
        now = documents(&l, name);
        assert_string_equal(now, rows[i].after);
        /* and back, by what was saved */
        o = shell("ls -t %s/state/backups/*.zip | head -1 | tr -d '\\n'", l.folder);
        expect_einbau(&l, 0, "confirmed", "{EINBAU_STATE=state} settings %s --load %s --yes", name, o.out);
        if (rows[i].kind == AMPLIFIER)
            expect_einbau(&l, 0, "presets put back and compared", "{EINBAU_STATE=state} restore %s %s --yes",
                          name, o.out);
        outcome_free(&o);
        free(now);
        free(before);
        little_remove(&l);
    }
}

/* What cannot be saved is not reset; one that moves is found again. */
static void a_reset_device_is_found_again(void **state)
{
    struct little l;
    (void)state;
    make_with(&l, AMPLIFIER, WEB_DOCUMENTS, web_actions);
    struct outcome o = shell("mkdir %s/state && touch %s/state/backups", l.folder, l.folder);
    outcome_free(&o);
    char *screen = on_the_terminal(&l, "reset amp-1", "amp-1");
    if (strstr(screen, "what it holds cannot be saved, so it was not reset") == NULL)
        fail_msg("%s", screen);
    free(screen);
    char *now = documents(&l, "amp-1");
    assert_non_null(strstr(now, "6f776e"));
    free(now);
    o = shell("rm -r %s/state", l.folder);
    outcome_free(&o);
    replace_in(&l, "world.yaml", "devices:\n",
               "laptop:\n  eth0: {wire: lan, addresses: [192.0.2.200/24]}\ndevices:\n");
    replace_in(&l, "world.yaml", "    documents: {",
               "    reset-address: 192.0.2.99\n    mac: 02:00:5e:00:00:41\n    documents: {");
    replace_in(&l, "site.yaml", "    profile: amp\n", "    profile: amp\n    mac: \"02:00:5e:00:00:41\"\n");
    screen = on_the_terminal(&l, "reset amp-1", "amp-1");
    if (strstr(screen, "192.0.2.99") == NULL || strstr(screen, "=0") != NULL)
        fail_msg("%s", screen);
    free(screen);
    little_remove(&l);
}

/* --- node id and bit rate
 * ----------------------------------------------------------------------------------- */

static void make_eight(struct little *l)
{
    const struct bus_options options = {.nodes = 8, .image_bytes = 500};
    bus_make(l, &options);
}

/* What node-3 has stored: its id, or 0: nothing. */
static int stored_id(const struct little *l, const char *key)
{
    json_t *one = remembered(l, "node-3");
    int id = (int)json_integer_value(json_object_get(json_object_get(one, "node"), key));
    json_decref(one);
    return id;
}

/* All others answer as before, and node-3 by its new id. */
static void expect_bus(const struct little *l, const char *site, unsigned id)
{
    char line[32];
    char fresh[32];
    write_text(l->folder, "site.yaml", "%s", site);
    struct outcome o = shell(
        "sed -n '/^  node-3:/,/node:/p' %s/site.yaml | sed -n 's/ *node: //p' | tr -d '\\n'", l->folder);
    unsigned from = (unsigned)atoi(o.out);
    outcome_free(&o);
    assert_true(from > 0);
    snprintf(line, sizeof line, "node: %u\n", from);
    snprintf(fresh, sizeof fresh, "node: %u\n", id != 0 ? id : from);
    replace_in(l, "site.yaml", line, fresh);
    o = in_state(l, "state", "show");
    if (strstr(o.out, "unreachable") != NULL)
        fail_msg("as node %u: %s%s", id, o.out, o.err);
    outcome_free(&o);
    write_text(l->folder, "site.yaml", "%s", site);
}

static void a_node_id_is_set_for_one_of_eight(void **state)
{
    static const struct {
        const char *call;
        int status;
        const char *says;
    } rows[] = {
        {"set node-3 node=128 --yes", 2, "expected a node id from 1 to 127"},
        {"set node-3 node=0 --yes", 2, "expected a node id from 1 to 127"},
        {"set node-3 node=gate --yes", 2, "expected a node id from 1 to 127"},
        {"set node-3 bit-rate=123456 --yes", 1, "not in the table of CiA 305"},
        {"set node-3 node=77 bit-rate=123456 --yes", 1, "not in the table of CiA 305"},
        {"set node-3 name=x --yes", 2, "as the device is on a CAN bus"},
        {"set node-3 node=1 --yes", 1,
         "which gate has on this bus, expected a free one. Nothing was changed"},
        {"set node-3 node=77", 2, "use --yes"},
    };
    struct little l;
    (void)state;
    make_eight(&l);
    char *site = read_text(l.folder, "site.yaml", NULL);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o = in_state(&l, "state", rows[i].call);
        if (o.status != rows[i].status || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s%s", rows[i].call, o.status, o.out, o.err);
        outcome_free(&o);
        assert_int_equal(stored_id(&l, "id"), 0);
    }
    /* one that the site does not know is on that id */
    struct outcome o =
        shell("cd %s && sed '/^  node-8:/,$d' site.yaml >s && mv s site.yaml && "
              "sed -n '/^  node-8:/,/node:/s/.*node: \\([0-9]*\\).*/\\1/p' world.yaml | tr -d '\\n'",
              l.folder);
    char call[64];
    snprintf(call, sizeof call, "set node-3 node=%s --yes", o.out);
    outcome_free(&o);
    o = in_state(&l, "state", call);
    if (o.status != 1 || strstr(o.err, "in use on this bus, expected a free one") == NULL)
        fail_msg("%s: %d\n%s%s", call, o.status, o.out, o.err);
    outcome_free(&o);
    write_text(l.folder, "site.yaml", "%s", site);
    assert_int_equal(stored_id(&l, "id"), 0);

    expect_einbau(&l, 0, "node-3: confirmed, as read back: node 77",
                  "{EINBAU_STATE=state} set node-3 node=77 --yes");
    assert_int_equal(stored_id(&l, "id"), 77);
    expect_bus(&l, site, 77);
    expect_einbau(&l, 3, NULL,
                  "{EINBAU_STATE=state} set node-3 node=78 --yes"); /* the site says the old one */
    free(site);
    little_remove(&l);
}

static void a_bit_rate_counts_from_the_next_start(void **state)
{
    struct little l;
    (void)state;
    make_eight(&l);
    struct outcome o = in_state(&l, "state", "set node-3 bit-rate=125000 --yes");
    if (o.status != 0 || strstr(o.out, "stored: 125000 bit/s. It counts from its next start on") == NULL ||
        strstr(o.out, "confirmed, as read back") != NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_int_equal(stored_id(&l, "bit-rate"), 125000);
    little_remove(&l);
}

/* At whatever frame: the node has the old id or the new one, and the bus comes back. */
static void a_node_id_survives_faults(void **state)
{
    static const char *const kinds[] = {"lost", "late", "power-lost", "kill", "adapter-lost", "interrupt"};
    struct little l;
    size_t counts[2] = {0};
    (void)state;
    make_eight(&l);
    char *site = read_text(l.folder, "site.yaml", NULL);
    char *world = read_text(l.folder, "world.yaml", NULL);
    for (unsigned frame = 0; frame < 70; frame += every(5)) {
        char text[64];
        const char *what = kinds[frame / 5 % 6];
        bool signal = strcmp(what, "kill") == 0 || strcmp(what, "interrupt") == 0;
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", what);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", frame, text);
        struct outcome o = in_state(&l, "state", "set node-3 node=77 --yes");
        int id = stored_id(&l, "id");
        if (o.status == 0 && (id != 77 || strstr(o.out, "confirmed, as read back") == NULL))
            fail_msg("%s at frame %u: it has %d\n%s%s", what, frame, id, o.out, o.err);
        assert_true(id == 0 || id == 77);
        counts[id == 77]++;
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        expect_bus(&l, site, (unsigned)id);
    }
    print_message("%zu times it has its new id, %zu times the old one; all eight answered afterwards\n",
                  counts[1], counts[0]);
    assert_true(counts[1] > 0 && counts[0] > 0);
    free(site);
    free(world);
    little_remove(&l);
}

/* --- its own password
 * ---------------------------------------------------------------------------------------- */

static const char with_password[] =
    "password: {http: {path: /api/password}, writes-json: '{\"user\": {user}, \"old\": {password}, \"new\": "
    "{new-password}}'}\nbackups: {presets: {http: {path: /api/presets}}}\n";
#define PRESETS "documents: {presets: {text: own}}"

/* Whether a login with the password that is kept here works. */
static bool kept_works(const struct little *l)
{
    struct outcome o = in_state(l, "state", "backup amp-1 --key-file key");
    bool works = o.status == 0;
    outcome_free(&o);
    return works;
}

static char *password_of(const struct little *l)
{
    json_t *one = remembered(l, "amp-1");
    const char *text = json_string_value(json_object_get(one, "password"));
    char *copy = strdup(text != NULL ? text : "Larch:fell 7");
    json_decref(one);
    return copy;
}

static void make_login(struct little *l, const char *http)
{
    const struct web_options options = {
        .login = WEB_FORM, .http = http, .device = "    " PRESETS "\n", .profile = with_password};
    web_make(l, &options);
    write_text(l->folder, "label", "Larch:fell 7\n");
    write_text(l->folder, "fresh", "Neues \"Wort\" 8\n");
    expect_einbau(l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file key");
}

#define CHANGE "{EINBAU_PASSWORD_FILE=fresh} secret change amp-1 --key-file key --yes"

static void a_password_is_tried_before_it_is_kept(void **state)
{
    struct little l;
    (void)state;
    make_login(&l, NULL);
    expect_einbau(&l, 0, "its new password works on the device, and is kept here", CHANGE);
    char *now = password_of(&l);
    assert_string_equal(now, "Neues \"Wort\" 8");
    free(now);
    assert_true(kept_works(&l));
    struct outcome o = shell("grep -rl 'Neues' %s/state | grep -v world.state | wc -l", l.folder);
    assert_int_equal(atoi(o.out), 0); /* nowhere as it is */
    outcome_free(&o);
    /* one that the device refuses */
    write_text(l.folder, "fresh", "short\n");
    expect_einbau(&l, 1, "it did not take the new password: the old one still works", CHANGE);
    assert_true(kept_works(&l));
    /* the one that is kept is wrong */
    expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file key");
    expect_einbau(&l, 1, "the password that is kept here does not work", CHANGE);
    little_remove(&l);
    /* one that only says so */
    make_login(&l, "keeps-password: yes");
    expect_einbau(&l, 1, "it did not take the new password: the old one still works", CHANGE);
    assert_true(kept_works(&l));
    little_remove(&l);
}

/* At whatever frame: where it is said, the new one works and is kept; else the old one is, or the user reads
 * that neither works. */
static void a_password_is_not_lost(void **state)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost"};
    struct little l;
    size_t counts[3] = {0};
    (void)state;
    make_login(&l, NULL);
    char *world = read_text(l.folder, "world.yaml", NULL);
    for (unsigned frame = 0; frame < 120; frame += every(1)) {
        char text[64];
        snprintf(text, sizeof text, "kind: %s", kinds[frame % 4]);
        strike_at(&l, world, "faults:\n  - ", frame, text);
        expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file key");
        struct outcome o = einbau_run(&l, CHANGE);
        char *now = password_of(&l);
        bool is = strcmp(now, "Larch:fell 7") != 0;
        bool unsure = strstr(o.err, "neither the new nor the old password works") != NULL;
        if (o.status == 0 && !is)
            fail_msg("%s at frame %u: it has the old one\n%s%s", kinds[frame % 4], frame, o.out, o.err);
        if (o.status != 0 && is && !unsure)
            fail_msg("%s at frame %u: it has the new one, and that is not said\n%s%s", kinds[frame % 4],
                     frame, o.out, o.err);
        counts[o.status == 0 ? 0 : is ? 2 : 1]++;
        free(now);
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        if (!(is && unsure) && !kept_works(&l))
            fail_msg("%s at frame %u: what is kept does not work", kinds[frame % 4], frame);
    }
    print_message("%zu times changed and kept, %zu times not changed, %zu times said to be unsure\n",
                  counts[0], counts[1], counts[2]);
    assert_true(counts[0] > 0);
    free(world);
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(actions_are_read_back),
        cmocka_unit_test(stopping_never_lies),
        cmocka_unit_test(wrong_calls_do_nothing),
        cmocka_unit_test(a_reset_is_typed_saved_and_read_back),
        cmocka_unit_test(a_reset_device_is_found_again),
        cmocka_unit_test(a_node_id_is_set_for_one_of_eight),
        cmocka_unit_test(a_bit_rate_counts_from_the_next_start),
        cmocka_unit_test(a_node_id_survives_faults),
        cmocka_unit_test(a_password_is_tried_before_it_is_kept),
        cmocka_unit_test(a_password_is_not_lost),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
