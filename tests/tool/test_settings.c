/* Settings of devices: what the user reads against what the simulated device holds.  The bytes are those of
 * the standards: registers with the first octet first (Modbus application protocol 1.1b3, section 4.2),
 * objects with the last one first (CiA 301 section 7.1.4). */
#include "told_subjects.h"

#include <jansson.h>
#include <signal.h>

enum { PLACES = 4 };

/* Four settings of each kind, and what they are at first. */
static const char by_registers[] =
    "settings:\n"
    "  limit: {modbus-registers: {address: 0x400, count: 1}, from: -100, to: 100, unit: N}\n"
    "  label: {modbus-registers: {address: 0x410, count: 4}, kind: text, length: 8, unique: yes}\n"
    "  total: {modbus-registers: {address: 0x420, count: 2}, low-word-first: yes, decimals: 1}\n"
    "  router: {modbus-registers: {address: 0x430, count: 2}, kind: address}\n";
static const char by_http[] =
    "settings:\n"
    "  gain: {http: {path: /api/settings}, json: /gain, writes-json: '{\"gain\": {value}}', decimals: 1,\n"
    "    from: -12, to: 6, unit: dB}\n"
    "  name: {http: {path: /api/settings}, json: /name, writes-json: '{\"name\": {value}}', kind: text,\n"
    "    unique: yes}\n"
    "  input-1: {http: {path: /api/settings}, json: /inputs/1, writes-json: '{\"inputs\": {\"1\": "
    "{value}}}',\n"
    "    kind: choice, choices: {line: line, radio: radio}}\n"
    "  limiter: {http: {path: /api/settings, method: POST}, json: /limiter,\n"
    "    writes-form: 'limiter={value}', kind: yes-no}\n"
    "  hours: {http: {path: /api/settings}, json: /hours, read-only: yes}\n"
    "  force: {http: {path: /api/settings}, json: /force, writes-json: '{\"force\": {value}}', safety: yes,\n"
    "    from: 1, to: 9}\n"
    "  clock: {http: {path: /api/settings}, json: /clock, writes-json: '{\"clock\": {value}}', kind: time}\n";
static const char by_sdo[] = "settings:\n"
                             "  heartbeat: {sdo: {index: 0x2217}, from: 100, to: 60000, unit: ms}\n"
                             "  level: {sdo: {index: 0x2218}, signed: yes}\n"
                             "  title: {sdo: {index: 0x2219}, kind: text, length: 6}\n"
                             "  led: {sdo: {index: 0x221A}, kind: yes-no}\n";
static const char by_sdo_stored[] = "settings:\n"
                                    "  heartbeat: {sdo: {index: 0x2217, store: 1}, from: 100, to: 60000}\n";
static const char by_did[] =
    "settings:\n"
    "  force: {did: {first: 0x2201, extended-session: yes, security: yes}, from: 5000, to: 9000, unit: N}\n"
    "  filter: {did: {first: 0x2202, extended-session: yes}, kind: choice, choices: {none: 0, 10-Hz: 1}}\n";
static const char restarts[] =
    "settings:\n"
    "  limit: {modbus-registers: {address: 0x400, count: 1}, from: -100, to: 100, restart: yes}\n"
    "restart: [{write-register: {address: 0x1000, value: 3}}]\n";

#define REGISTERS                                                                                            \
    "documents:\n      limit: {number: 0x400, in-words: yes, hex: 000a%s}\n"                                 \
    "      label: {number: 0x410, in-words: yes, hex: 76616c6c65790000}\n"                                   \
    "      total: {number: 0x420, in-words: yes, hex: \"23450001\"}\n"                                       \
    "      router: {number: 0x430, in-words: yes, hex: c0000201}"
#define WEB_DOCUMENT                                                                                         \
    "documents: {settings: {merges: yes, text: '{\"gain\": -6.0, \"name\": \"Valley\", \"inputs\": "         \
    "{\"1\": \"line\", \"2\": \"x\"}, \"limiter\": true, \"hours\": 41, \"force\": 4, "                      \
    "\"clock\": \"2026-01-01T00:00:00Z\"}'%s}}"
#define OBJECTS                                                                                              \
    "documents:\n      heartbeat: {number: 0x2217, whole: yes, hex: e803%s}\n"                               \
    "      level: {number: 0x2218, whole: yes, hex: \"05000000\"}\n"                                         \
    "      title: {number: 0x2219, whole: yes, hex: 6f6e65202020}\n"                                         \
    "      led: {number: 0x221A, whole: yes, hex: \"00\"}"
#define IDENTIFIERS                                                                                          \
    "documents:\n      force: {number: 0x2201, whole: yes, hex: 1f40, needs-security: yes%s}\n"              \
    "      filter: {number: 0x2202, whole: yes, hex: \"01\"}"

static const struct {
    const char *profile, *world;
} usual[KINDS] = {[PLC] = {by_registers, REGISTERS},
                  [AMPLIFIER] = {by_http, WEB_DOCUMENT},
                  [NODE] = {by_sdo, OBJECTS},
                  [UNIT] = {by_did, IDENTIFIERS}};

/* The device with `more` in its first document. */
static void make_set(struct little *l, enum kind kind, const char *profile, const char *more)
{
    char world[1024];
    const char *mark = strstr(usual[kind].world, "%s");
    snprintf(world, sizeof world, "%.*s%s%s", (int)(mark - usual[kind].world), usual[kind].world, more,
             mark + 2);
    make_with(l, kind, world, profile != NULL ? profile : usual[kind].profile);
}

/* What the device holds, by what its world remembers: its documents as hexadecimal digits, in a row; of a web
 * server as text.  Freed by the caller. */
static char *held(const struct little *l, const char *device)
{
    char *all = calloc(1, 8192);
    json_t *root = remembered(l, device);
    const json_t *documents = json_object_get(root, "documents");
    size_t i;
    const json_t *one;
    json_array_foreach(json_object_get(documents, "list"), i, one)
    {
        const char *hex = json_string_value(json_object_get(one, "now"));
        assert_non_null(hex);
        bool is_text = strncmp(hex, "7b", 2) == 0;
        for (size_t k = 0; is_text && hex[k] != '\0'; k += 2) {
            const char pair[3] = {hex[k], hex[k + 1], '\0'};
            all[strlen(all)] = (char)strtoul(pair, NULL, 16);
        }
        if (!is_text)
            snprintf(all + strlen(all), 8192 - strlen(all), "%s ", hex);
    }
    assert_true(all[0] != '\0');
    json_decref(root);
    return all;
}

static bool holds(const struct little *l, const char *device, const char *part)
{
    char *now = held(l, device);
    bool has = strstr(now, part) != NULL;
    free(now);
    return has;
}

static struct outcome settings(const struct little *l, const char *words)
{
    char line[512];
    snprintf(line, sizeof line, "settings %s", words);
    return in_state(l, "state", line);
}

/* --- what each protocol keeps ------------------------------------------------------------------------- */

static const struct {
    enum kind kind;
    const char *profile; /* NULL: the usual one */
    const char *more;    /* of the first document in the world */
    const char *call;    /* behind the device's name */
    int status;
    const char *says, *never, *holds;
} ways[] = {
    {PLC, NULL, "", "", 0, "limit    10 N       -100 to 100 N", "unknown",
     "000a 76616c6c65790000 23450001 c0000201"},
    {PLC, NULL, "", "", 0, "total    7456.5", "unknown",
     "000a"}, /* 0x00012345 is 74565, the lower word first */
    {PLC, NULL, "", "limit=-7", 0, "10 N  ->  -7 N  confirmed", "differs", "fff9 "},
    {PLC, NULL, "", "label=summit", 0, "valley  ->  summit  confirmed", "differs", "73756d6d69740000 "},
    {PLC, NULL, "", "total=6553.7 router=192.0.2.254", 0, "6553.7       confirmed", "differs",
     "00010001 c00002fe"},
    {PLC, NULL, "", "limit=10", 0, "Nothing to change", "confirmed", "000a"},
    {PLC, NULL, ", refuses: yes", "limit=1", 1, "limit    10 N  ->  10 N  failed", "unknown", "000a"},
    {PLC, NULL, ", becomes-hex: \"0063\"", "limit=100", 1, "limit was written as 100, and 99 was read back",
     "confirmed", "0063 "},
    {PLC, NULL, ", waits-for-restart: yes", "limit=1", 1, "limit was written as 1, and 10 was read back",
     "confirmed", "000a "},
    {PLC, restarts, ", waits-for-restart: yes", "limit=1", 0, "confirmed", "differs", "0001 "},
    {AMPLIFIER, NULL, "", "gain=3", 0, "3.0 dB  confirmed", "differs", "\"gain\": 3.0"},
    {AMPLIFIER, NULL, "", "'name=Süd \"1\"' input-1=radio", 0, "radio", "differs",
     "\"name\": \"S\303\274d \\\"1\\\"\""},
    {AMPLIFIER, NULL, "", "input-1=radio", 0, "confirmed", "differs", "\"2\": \"x\""},
    {AMPLIFIER, NULL, "", "limiter=no", 0, "yes  ->  no  confirmed", "differs", "\"limiter\": false"},
    {AMPLIFIER, NULL, "", "clock=2026-11-30T10:00:00Z", 0, "confirmed", "differs", "2026-11-30T10:00:00Z"},
    {AMPLIFIER, NULL, ", refuses: yes", "gain=3", 1, "-6.0 dB  failed", "unknown", "\"gain\": -6.0"},
    {AMPLIFIER, NULL, ", becomes: '{\"gain\": 2.5}'", "gain=3", 1,
     "gain was written as 3.0, and 2.5 was read back", "confirmed", "\"gain\": 2.5"},
    {AMPLIFIER, NULL, ", loses-answer: yes", "gain=3", 0, "confirmed", "differs", "\"gain\": 3.0"},
    {AMPLIFIER, NULL, ", busy: 2", "gain=3", 0, "confirmed", "differs", "\"gain\": 3.0"},
    {NODE, NULL, "", "", 0, "title      one      up to 6 characters", "unknown", "e803 05000000"},
    {NODE, NULL, "", "heartbeat=500 level=-2 title=ab led=yes", 0, "confirmed", "differs",
     "f401 feffffff 616200000000 01 "},
    {NODE, NULL, ", refuses: yes", "heartbeat=500", 1, "1000 ms  failed", "unknown", "e803"},
    /* What is not stored is gone with the next start, here that of the world. */
    {NODE, NULL, ", needs-store: yes", "heartbeat=500", 0, "confirmed", "differs", "e803"},
    {NODE, by_sdo_stored, ", needs-store: yes", "heartbeat=500", 0, "confirmed", "differs", "f401"},
    {UNIT, NULL, "", "force=7500 filter=none", 0, "confirmed", "differs", "1d4c 00 "},
    {UNIT, NULL, ", refuses: yes", "force=7500", 1, "8000 N  failed", "unknown", "1f40"},
};

static void settings_are_what_the_device_holds(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) {
        struct little l;
        char words[256];
        const char *device = subjects[ways[i].kind].name;
        make_set(&l, ways[i].kind, ways[i].profile, ways[i].more);
        snprintf(words, sizeof words, "%s %s%s", device, ways[i].call,
                 ways[i].call[0] != '\0' ? " --yes" : "");
        struct outcome o = settings(&l, words);
        if (o.status != ways[i].status || strstr(o.out, ways[i].says) == NULL ||
            strstr(o.out, ways[i].never) != NULL)
            fail_msg("case %zu: %d, not '%s', or '%s', in\n%s%s", i, o.status, ways[i].says, ways[i].never,
                     o.out, o.err);
        if (!holds(&l, device, ways[i].holds))
            fail_msg("case %zu: it holds '%s'\n%s", i, held(&l, device), o.out);
        outcome_free(&o);
        /* What the next call reads is what it holds: a change that was confirmed stays, unless it needed
         * storing. */
        if (ways[i].status == 0 && ways[i].call[0] != '\0' && strstr(ways[i].more, "needs-store") == NULL) {
            o = settings(&l, words);
            if (o.status != 0 || strstr(o.out, "Nothing to change") == NULL)
                assert_true(strstr(ways[i].call, "clock") != NULL && o.status == 0);
            outcome_free(&o);
        }
        little_remove(&l);
    }
}

/* --- wrong uses ----------------------------------------------------------------------------------------- */

/* amp-2 beside amp-1, with other settings. */
static void make_two(struct little *l)
{
    make_set(l, AMPLIFIER, NULL, "");
    struct outcome o = shell(
        "cd %s && sed -n '/^  amp-1:/,$p' site.yaml | sed 's/amp-1/amp-2/; s/A-1/A-2/; s/2[.]41/2.42/' "
        ">>site.yaml.2 && cat site.yaml.2 >>site.yaml && "
        "sed -n '/^  amp-1:/,$p' world.yaml | sed 's/amp-1/amp-2/; s/A-1/A-2/; s/2[.]41/2.42/; "
        "s/Valley/Middle/; s/-6.0/-1.5/; s/\"1\": \"line\"/\"1\": \"radio\"/; s/\"force\": 4/\"force\": 5/' "
        ">world.yaml.2 && cat world.yaml.2 >>world.yaml",
        l->folder);
    if (o.status != 0)
        fail_msg("%s", o.err);
    outcome_free(&o);
}

static void wrong_calls_write_nothing(void **state)
{
    static const struct {
        const char *call;
        int status;
        const char *says;
    } rows[] = {
        {"amp-1 gain=6.5", 1, "amp-1: gain: found '6.5', expected -12.0 to 6.0 dB. Nothing was written"},
        {"amp-1 gain=-12.1", 1, "expected -12.0 to 6.0 dB"},
        {"amp-1 gain=1.25", 1, "expected -12.0 to 6.0 dB"},
        {"amp-1 gain=", 1, "expected -12.0 to 6.0 dB"},
        {"amp-1 gain=loud", 1, "found 'loud'"},
        {"amp-1 limiter=on", 1, "found 'on', expected yes or no"},
        {"amp-1 input-1=phono", 1, "found 'phono', expected one of: line, radio"},
        {"amp-1 clock=tomorrow", 1, "expected a time like 2026-11-30T08:15:00Z, or now"},
        {"amp-1 volume=3", 1, "found no setting 'volume', expected one of profile amp. Nothing was written"},
        {"amp-1 hours=0", 1, "hours can only be read. Nothing was written"},
        {"amp-1 force=5", 1,
         "force is a safety setting, which is confirmed by typing its value on a terminal; --yes "
         "does not do that. Nothing was written"},
        {"amp-1 gain=1 force=5", 1, "force is a safety setting"},
        {"amp-1 amp-2 name=Hall", 1,
         "found name=Hall, the same as for amp-1, expected another one: it is unique"},
        {"amp-1 name=Middle amp-2", 1, "the same as for amp-2"},
        {"--copy-from amp-2 amp-1 --only name", 1, "name is never copied: it is unique to each device"},
        {"--copy-from amp-2 amp-1 gain=1", 2,
         "expected only one of NAME=VALUE, --copy-from, --load and --since"},
        {"--copy-from amp-9 amp-1", 2, "expected a device of"},
        {"gain=1", 2, "found no device"},
        {"amp-1 gain=1 gain=2", 2, "found 'gain=1' and 'gain=2', expected each setting once"},
        {"amp-1 gain=1 --only gain", 2, "found NAME=VALUE and --only"},
        {"--copy-from amp-2 amp-1 --only inptu-1", 2,
         "--only: found 'inptu-1', expected the name of a setting"},
        {"amp-1 --load nothing.json", 2, "nothing.json: No such file or directory. Nothing was written"},
        {"amp-1 --load site.yaml", 2, "found no JSON and no backup in it. Nothing was written"},
        {"amp-1 --load other.json", 1, "found settings of order code 'OR-X' (other.json), expected 'OR-H'"},
        {"amp-1 --load empty.json", 2, "found no settings in it"},
        {"amp-1 --load wrong.json", 1, "gain: found '99.0', expected -12.0 to 6.0 dB"},
        {"amp-1 --load cut.zip", 2, "cut.zip: "},
        {"amp-1 --load changed.zip", 2, "changed.zip: "},
        {"amp-1 --since cut.zip", 2, "cut.zip: "},
    };
    struct little l;
    (void)state;
    make_two(&l);
    expect_einbau(&l, 0, "2 devices saved", "{EINBAU_STATE=state} backup");
    struct outcome o = shell(
        "cd %s && EINBAU_SIM=world.yaml %s settings --site site.yaml --state state amp-1 --json >own.json && "
        "sed 's/OR-H/OR-X/' own.json >other.json && sed 's/\"-6.0\"/\"99.0\"/' own.json >wrong.json && "
        "echo '{}' >empty.json && head -c 200 state/backups/A-1-*.zip >cut.zip && "
        "cp state/backups/A-1-*.zip changed.zip && printf X | dd of=changed.zip bs=1 seek=100 conv=notrunc "
        "status=none",
        l.folder, BIN_DIR "/einbau");
    if (o.status != 0)
        fail_msg("%s", o.err);
    outcome_free(&o);
    char *before = held(&l, "amp-1");
    char *other = held(&l, "amp-2");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char words[256];
        snprintf(words, sizeof words, "%s%s", rows[i].call,
                 strstr(rows[i].call, "--since") != NULL ? "" : " --yes");
        o = settings(&l, words);
        if (o.status != rows[i].status || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s%s", rows[i].call, o.status, o.out, o.err);
        outcome_free(&o);
        char *now = held(&l, "amp-1");
        char *now_other = held(&l, "amp-2");
        if (strcmp(now, before) != 0 || strcmp(now_other, other) != 0)
            fail_msg("%s: it holds '%s'", rows[i].call, now);
        free(now);
        free(now_other);
    }
    /* Asked first, and not without a terminal. */
    expect_einbau(&l, 2, "use --yes", "{EINBAU_STATE=state} settings amp-1 gain=1");
    free(before);
    free(other);
    little_remove(&l);
}

/* Also where the site does not know what has it. */
static void an_address_must_be_free_on_the_wire(void **state)
{
    struct little l;
    (void)state;
    make_set(&l, PLC, NULL, "");
    replace_in(&l, "profiles/plc.yaml", "kind: address", "kind: address, unique: yes");
    replace_in(&l, "world.yaml", "devices:\n",
               "laptop:\n  eth0: {wire: lan, addresses: [192.0.2.200/24]}\ndevices:\n");
    struct outcome o =
        shell("cd %s && sed -n '/^  plc-1:/,$p' world.yaml | sed 's/  plc-1:/  other:/; s/P-1/P-9/; "
              "s/192.0.2.1$/192.0.2.77/' >more && cat more >>world.yaml",
              l.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    o = settings(&l, "plc-1 router=192.0.2.77 --yes");
    if (o.status != 1 || strstr(o.err, "plc-1: found router=192.0.2.77, which ") == NULL ||
        strstr(o.err, "answers to, expected a free address. Nothing was written") == NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_true(holds(&l, "plc-1", "c0000201"));
    o = settings(&l, "plc-1 router=192.0.2.200 --yes"); /* the laptop's own */
    if (o.status != 1 || strstr(o.err, "expected a free address. Nothing was written") == NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    o = settings(&l, "plc-1 router=192.0.2.78 --yes");
    if (o.status != 0 || strstr(o.err, "cannot be asked") != NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_true(holds(&l, "plc-1", "c000024e"));
    little_remove(&l);
}

static void wrong_profiles_are_named(void **state)
{
    static const struct {
        const char *profile, *says;
    } rows[] = {
        {"settings: {a: {htttp: {path: /x}}}\n", "a document that is fetched in no way"},
        {"settings: {A: {http: {path: /x}}}\n", "a setting with another name"},
        {"settings: {a: {http: {path: /x}, json: /a}}\n", "without 'writes-json' or 'writes-form'"},
        {"settings: {a: {http: {path: /x}, json: a, read-only: yes}}\n", "a JSON pointer"},
        {"settings: {a: {http: {path: /x}, writes-form: 'a=1'}}\n", "a text with {value} in it"},
        {"settings: {a: {http: {path: /x}, from: 3, to: 1}}\n", "a larger number than 'to'"},
        {"settings: {a: {http: {path: /x}, from: 0.5, to: 1}}\n", "digits behind the point"},
        {"settings: {a: {http: {path: /x}, from: 1}}\n", "'to'"},
        {"settings: {a: {http: {path: /x}, kind: choice}}\n", "'choices'"},
        {"settings: {a: {http: {path: /x}, kind: colour}}\n", "number"},
        {"settings: {a: {http: {path: /x}, restart: yes}}\n", "without the key 'restart'"},
        {"settings: {a: {modbus-registers: {address: 1, count: 1}, json: /a, read-only: yes}}\n",
         "them only of a document that is text"},
        {"settings: {a: {sdo: {index: 0x2000}}}\n", "a setting that is read by another wire"},
        {"stop: [{http: {path: /stop}}]\n", "no way to read whether the program runs"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make_with(&l, AMPLIFIER, NULL, rows[i].profile);
        struct outcome o = settings(&l, "amp-1");
        if (o.status != 2 || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s", rows[i].profile, o.status, o.err);
        outcome_free(&o);
        little_remove(&l);
    }
}

/* --- comparing, copying, files ----------------------------------------------------------------------------
 */

static void settings_are_compared_and_copied(void **state)
{
    struct little l;
    (void)state;
    make_two(&l);
    char *out = einbau_says(&l, 0, "4 settings differ between these devices; 3 are the same.",
                            "{EINBAU_STATE=state} settings amp-1 amp-2");
    assert_non_null(strstr(out, "gain     -6.0 dB  -1.5 dB"));
    assert_null(strstr(out, "limiter"));
    free(out);
    /* all but what is unique, and the safety setting is typed */
    expect_einbau(&l, 1, "force is a safety setting",
                  "{EINBAU_STATE=state} settings amp-2 --copy-from amp-1 --yes");
    expect_einbau(&l, 0, "-1.5 dB  ->  -6.0 dB  confirmed",
                  "{EINBAU_STATE=state} settings amp-2 --copy-from amp-1 --only gain --only 'input-*' --yes");
    assert_true(holds(&l, "amp-2", "\"gain\": -6.0"));
    assert_true(holds(&l, "amp-2", "\"1\": \"line\""));
    assert_true(holds(&l, "amp-2", "Middle"));
    assert_true(holds(&l, "amp-2", "\"force\": 5"));
    char words[3 * PATH_BYTES];
    snprintf(words, sizeof words,
             "cd %s && %s settings --sim world.yaml --state state --site site.yaml amp-2 --copy-from amp-1",
             l.folder, BIN_DIR "/einbau");
    out = on_terminal_typing(words, "9"); /* not its value */
    assert_non_null(strstr(out, "found '9' for force, expected 4. Nothing was written"));
    free(out);
    assert_true(holds(&l, "amp-2", "\"force\": 5"));
    out = on_terminal_typing(words, "4");
    assert_non_null(strstr(out, "confirmed"));
    free(out);
    assert_true(holds(&l, "amp-2", "\"force\": 4"));
    /* what it was is a backup; the difference; and back by it */
    expect_einbau(&l, 0, "was 5", "{EINBAU_STATE=state} settings amp-2");
    expect_einbau(&l, 0, "gain       -1.5   -6.0  -6.0       done",
                  "{EINBAU_STATE=state} jobs --device amp-2");
    expect_einbau(&l, 0, "gain -1.5 -> -6.0: confirmed, as read back", "{EINBAU_STATE=state} report 1");
    struct outcome o = shell("ls -tr %s/state/backups/A-2-*.zip | head -1 | tr -d '\\n'", l.folder);
    expect_einbau(&l, 0, "was -1.5", "{EINBAU_STATE=state} settings amp-2 --since %s", o.out);
    expect_einbau(&l, 0, "-6.0 dB  ->  -1.5 dB  confirmed",
                  "{EINBAU_STATE=state} settings amp-2 --load %s --only gain --yes", o.out);
    assert_true(holds(&l, "amp-2", "\"gain\": -1.5"));
    outcome_free(&o);
    /* JSON out, and in */
    out = einbau_says(&l, 0, NULL, "{EINBAU_STATE=state} settings amp-1 --json");
    write_text(l.folder, "own.json", "%s", out);
    free(out);
    expect_einbau(&l, 0, "-1.5 dB  ->  -6.0 dB  confirmed",
                  "{EINBAU_STATE=state} settings amp-2 --load own.json --yes");
    assert_true(holds(&l, "amp-2", "\"gain\": -6.0"));
    assert_true(holds(&l, "amp-2", "Middle"));
    little_remove(&l);
}

/* --- faults, and a laptop that dies ------------------------------------------------------------------------
 */

/* Two amplifiers, and the settings of the second one in a file. */
static void make_copied(struct little *l)
{
    make_two(l);
    char *json = einbau_says(l, 0, NULL, "{EINBAU_STATE=state} settings amp-2 --json");
    write_text(l->folder, "other.json", "%s", json);
    free(json);
}

/* Each setting is as it was or as it was to be, or the user reads that it is not; what it was is on disk. */
static void sweep(enum kind kind, const char *call, const char *old, const char *fresh, unsigned frames,
                  unsigned step)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost", "kill", "interrupt"};
    struct little l;
    size_t counts[3] = {0}; /* confirmed, said not to be, said to be cut off */
    const char *device = subjects[kind].name;
    if (strchr(call, '-') == call)
        make_copied(&l);
    else
        make_set(&l, kind, kind == NODE ? by_sdo_stored : NULL, kind == NODE ? ", needs-store: yes" : "");
    char *world = read_text(l.folder, "world.yaml", NULL);
    for (unsigned frame = 0; frame < frames; frame += every(step)) {
        char text[64];
        char words[128];
        const char *what = kinds[frame / step % 6];
        bool signal = frame / step % 6 >= 4;
        struct outcome o = shell("rm -rf %s/state", l.folder);
        outcome_free(&o);
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", what);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", frame, text);
        snprintf(words, sizeof words, "%s %s --yes", device, call);
        o = settings(&l, words);
        bool killed = o.status == 128 + SIGKILL;
        bool is = holds(&l, device, fresh);
        bool was = holds(&l, device, old);
        if (o.status == 0 && (!is || strstr(o.out, "confirmed") == NULL))
            fail_msg("%s at frame %u: it holds '%s'\n%s", what, frame, held(&l, device), o.out);
        if (!was && !is)
            fail_msg("%s at frame %u: it holds neither, '%s'\n%s%s", what, frame, held(&l, device), o.out,
                     o.err);
        bool said = strstr(o.out, "failed") != NULL || strstr(o.out, "differs") != NULL ||
                    strstr(o.err, "interrupted") != NULL || strstr(o.out, "not written") != NULL ||
                    strstr(o.out, "confirmed") != NULL;
        if (o.status != 0 && is && !killed && !said)
            fail_msg("%s at frame %u: it holds it, and that is not said\n%s%s", what, frame, o.out, o.err);
        struct outcome files = shell("ls %s/state/backups/*.zip 2>/dev/null | wc -l", l.folder);
        if (is && atoi(files.out) == 0)
            fail_msg("%s at frame %u: changed, and what it was is nowhere", what, frame);
        outcome_free(&files);
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        /* The next call says what holds, and whether something was cut off. */
        o = settings(&l, device);
        bool cut = strstr(o.err, "a change of its settings was cut off") != NULL ||
                   strstr(o.err, "that was cut off is complete") != NULL;
        if (o.status != 0 || (killed && is && !cut))
            fail_msg("%s at frame %u, and the next call: %d\n%s%s", what, frame, o.status, o.out, o.err);
        counts[cut ? 2 : is ? 0 : 1]++;
        outcome_free(&o);
        if (!is) { /* nothing was changed: that is said once */
            o = settings(&l, device);
            if (strstr(o.err, "cut off") != NULL)
                fail_msg("%s at frame %u: said again\n%s", what, frame, o.err);
            outcome_free(&o);
        }
        o = settings(&l, words);
        if (o.status != 0 || !holds(&l, device, fresh))
            fail_msg("%s at frame %u, and once more: %d, it holds '%s'\n%s%s", what, frame, o.status,
                     held(&l, device), o.out, o.err);
        outcome_free(&o);
        o = settings(&l, device);
        if (strstr(o.err, "cut off") != NULL)
            fail_msg("%s at frame %u: still cut off\n%s", what, frame, o.err);
        outcome_free(&o);
    }
    print_message("%zu changes held, %zu were not made, %zu were said to be cut off\n", counts[0], counts[1],
                  counts[2]);
    assert_true(counts[0] + counts[2] > 0 && (counts[1] > 0 || getenv("EINBAU_TEST_EVERY") != NULL));
    free(world);
    little_remove(&l);
}

static void faults_by_registers(void **state)
{
    (void)state;
    sweep(PLC, "limit=-7", "000a ", "fff9 ", 90, 1);
}

static void faults_by_http(void **state)
{
    (void)state;
    sweep(AMPLIFIER, "gain=3", "\"gain\": -6.0", "\"gain\": 3.0", 90, 1);
}

static void faults_of_a_copy(void **state)
{
    (void)state;
    sweep(AMPLIFIER, "--copy-from amp-2 --only gain", "\"gain\": -6.0", "\"gain\": -1.5", 120, 3);
}

static void faults_of_loading(void **state)
{
    (void)state;
    sweep(AMPLIFIER, "--load other.json --only gain", "\"gain\": -6.0", "\"gain\": -1.5", 90, 3);
}

/* Its session ends after so many requests: while it is read, saved, written, read back, put back. */
static void a_session_may_end_at_any_request(void **state)
{
    static const enum web_login logins[] = {WEB_FORM, WEB_TOKEN};
    static const char presets[] = "backups: {presets: {http: {path: /api/presets}}}\n";
    (void)state;
    for (unsigned i = 0; i < 24; i++) {
        struct little l;
        char http[48];
        char device[1024];
        char profile[sizeof by_http + sizeof presets];
        snprintf(http, sizeof http, "session-requests: %u", 1 + i / 2);
        snprintf(device, sizeof device, "    " WEB_DOCUMENT "\n", "");
        *strstr(device, "}}\n") = '\0';
        snprintf(device + strlen(device), sizeof device - strlen(device),
                 "}, presets: {text: own, after-update: erased}}\n");
        snprintf(profile, sizeof profile, "%s%s", by_http, presets);
        const struct web_options options = {
            .login = logins[i % 2], .http = http, .image_bytes = 3000, .device = device, .profile = profile};
        web_make(&l, &options);
        write_text(l.folder, "label", "Larch:fell 7\n");
        expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file key");
        struct outcome o = settings(&l, "amp-1 gain=3 input-1=radio limiter=no --yes --key-file key");
        if (o.status != 0 || !holds(&l, "amp-1", "\"gain\": 3.0") ||
            !holds(&l, "amp-1", "\"1\": \"radio\"") || !holds(&l, "amp-1", "\"limiter\": false"))
            fail_msg("%s: %d, it holds %s\n%s%s", http, o.status, held(&l, "amp-1"), o.out, o.err);
        outcome_free(&o);
        o = in_state(&l, "state", "fit --yes --key-file key");
        char *own = document_held(&l, "amp-1", 1);
        if (o.status != 0 || strcmp(own, "own") != 0 ||
            strstr(o.out, "presets put back and compared: as they were saved") == NULL)
            fail_msg("%s: %d, it holds %s\n%s%s", http, o.status, own, o.out, o.err);
        free(own);
        outcome_free(&o);
        little_remove(&l);
    }
}

static void faults_by_sdo(void **state)
{
    (void)state;
    sweep(NODE, "heartbeat=500", "e803", "f401", 70, 1);
}

static void faults_by_uds(void **state)
{
    (void)state;
    sweep(UNIT, "force=7500", "1f40", "1d4c", 90, 1);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(settings_are_what_the_device_holds),
        cmocka_unit_test(wrong_calls_write_nothing),
        cmocka_unit_test(an_address_must_be_free_on_the_wire),
        cmocka_unit_test(wrong_profiles_are_named),
        cmocka_unit_test(settings_are_compared_and_copied),
        cmocka_unit_test(faults_by_registers),
        cmocka_unit_test(faults_by_http),
        cmocka_unit_test(faults_of_a_copy),
        cmocka_unit_test(faults_of_loading),
        cmocka_unit_test(a_session_may_end_at_any_request),
        cmocka_unit_test(faults_by_sdo),
        cmocka_unit_test(faults_by_uds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
