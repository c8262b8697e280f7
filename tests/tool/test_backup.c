/* Documents of devices, saved before an update and put back after it: what the user reads against what the
 * simulated device holds and what lies on the laptop. */
#include "told_subjects.h"

#include <jansson.h>
#include <signal.h>

static const char held_before[] = "morning: valley -6";

/* Where the documents of each kind are. */
static const char registers[] = "backups: {presets: {modbus-registers: {address: 0x400, count: 9}}}\n";
static const char records[] = "backups: {presets: {modbus-file: {file: 4, records: 9}}}\n";
static const char file[] = "backups: {presets: {tftp: {file: presets}}}\n";
static const char http[] = "backups: {presets: {http: {path: /api/presets}}}\n";
static const char objects[] = "backups: {presets: {sdo: {index: 0x2200, first-sub: 1, last-sub: 9}}}\n";
static const char objects_stored[] =
    "backups: {presets: {sdo: {index: 0x2200, first-sub: 1, last-sub: 3, store: 1}}}\n";
static const char identifiers[] =
    "backups: {presets: {did: {first: 0x0400, count: 5, extended-session: yes}}}\n";
static const char identifiers_locked[] =
    "backups: {presets: {did: {first: 0x0400, count: 3, extended-session: yes, security: yes}}}\n";
static const char registers_restart[] =
    "backups: {presets: {modbus-registers: {address: 0x400, count: 9}, restart: yes}}\n"
    "restart: [{write-register: {address: 0x1000, value: 3}}]\n";
static const char http_restart[] =
    "backups: {presets: {http: {path: /api/presets, method: POST}, restart: yes}}\n"
    "restart: [{http: {path: /restart, expect: 202}}]\n";

static const char loader[] = "backups: {presets: {dfu: {alternate: 1}}}\n";

#define REGISTERS                                                                                            \
    "number: 0x400, in-words: yes, text: \"morning: valley -6\", after-update: \"------------------\""
#define RECORDS         "number: 4, text: \"morning: valley -6\", after-update: \"------------------\""
#define HTTP            "text: \"morning: valley -6\", after-update: \"[]\""
#define OBJECTS         "number: 0x2200, text: \"morning: valley -6\", after-update: \"------------------\""
#define IDENTIFIERS     "number: 0x0400, text: \"morning: valley -6\", after-update: \"------------------\""
#define DOCUMENT(words) "documents: {presets: {" words "}}"

static char *held(const struct little *l, enum kind kind)
{
    return document_held(l, subjects[kind].name, 0);
}

static bool holds(const struct little *l, enum kind kind, const char *expected)
{
    char *now = held(l, kind);
    bool same = strcmp(now, expected) == 0;
    free(now);
    return same;
}

/* Backups in the state folder, and how many of them have what the device held before. */
static size_t backups(const struct little *l, size_t *whole)
{
    struct outcome o = in_state(l, "state", "backup list --json");
    json_t *root = json_loads(o.out, 0, NULL);
    json_t *list = json_object_get(root, "backups");
    size_t i;
    json_t *one;
    size_t count = json_array_size(list);
    *whole = 0;
    assert_int_equal(json_integer_value(json_object_get(root, "unreadable")), 0);
    json_array_foreach(list, i, one)
    {
        char command[PATH_BYTES + 64];
        snprintf(command, sizeof command, "unzip -p '%s' presets | tr -d '\\000-\\037'",
                 json_string_value(json_object_get(one, "file")));
        struct outcome p = shell("%s", command);
        *whole += strcmp(p.out, held_before) == 0;
        outcome_free(&p);
    }
    json_decref(root);
    outcome_free(&o);
    return count;
}

/* --- each protocol, each way in which a device may go on with its documents --------------------------- */

static const struct way {
    enum kind kind;
    const char *profile, *world, *options;
    int status;
    const char *says, *never;
    const char *holds; /* afterwards; NULL: as before */
} ways[] = {
    {PLC, registers, DOCUMENT(REGISTERS), "", 0, "presets put back and compared: as they were saved",
     "restore", NULL},
    {PLC, records, "modbus-files: {}\n    " DOCUMENT(RECORDS), "", 0, "presets put back and compared",
     "restore", NULL},
    {PLC, records, "modbus-files: {group-max: 3}\n    " DOCUMENT(RECORDS ", busy: 3"), "", 0,
     "presets put back and compared", "restore", NULL},
    {AMPLIFIER, http, DOCUMENT(HTTP), "", 0, "presets put back and compared: as they were saved", "restore",
     NULL},
    {PLC, file, DOCUMENT(RECORDS), "", 0, "presets put back and compared", "restore", NULL},
    {PLC, file, DOCUMENT(RECORDS ", refuses: yes"), "", 1, "presets not put back: ", "as they were",
     "------------------"},
    {PLC, file, DOCUMENT("text: \"morning: valley -6\", gone-after-update: yes"), "", 0,
     "presets put back and compared", "restore", NULL},
    {PLC, "backups: {presets: {tftp: {file: nothing}}}\n", DOCUMENT(RECORDS), "", 1,
     "presets not saved: ", "put back", NULL},
    /* It erases nothing: nothing is written. */
    {AMPLIFIER, http, DOCUMENT("text: \"morning: valley -6\""), "", 0,
     "presets still on the device as they were saved", "put back", NULL},
    /* None is left. */
    {AMPLIFIER, http, DOCUMENT("text: \"morning: valley -6\", gone-after-update: yes"), "", 0,
     "presets put back and compared", "restore", NULL},
    /* Only the end of the connection ends the answer, and at first that comes too early; and always. */
    {AMPLIFIER, http, DOCUMENT(HTTP ", no-length: yes"), "", 0, "presets put back and compared", "restore",
     NULL},
    {AMPLIFIER, http, DOCUMENT(HTTP ", no-length: yes, cut-off: 2"), "", 0, "presets put back and compared",
     "restore", NULL},
    {AMPLIFIER, http, DOCUMENT("text: \"morning: valley -6\", no-length: yes, cut-off: 900"), "", 1,
     "presets not saved: /api/presets: its answer does not say how long it is", "put back", NULL},
    /* Busy at first; the answer to the write is lost. */
    {AMPLIFIER, http, DOCUMENT(HTTP ", busy: 2"), "", 0, "presets put back and compared", "restore", NULL},
    {AMPLIFIER, http, DOCUMENT(HTTP ", loses-answer: yes"), "", 0, "presets put back and compared", "restore",
     NULL},
    /* What was written counts after a restart. */
    {AMPLIFIER, http_restart, DOCUMENT(HTTP ", waits-for-restart: yes"), "", 0,
     "presets put back and compared", "restore", NULL},
    {PLC, registers_restart, DOCUMENT(REGISTERS ", waits-for-restart: yes"), "", 0,
     "presets put back and compared", "restore", NULL},
    /* The same, and the profile does not say so: what is read back is another. */
    {AMPLIFIER, http, DOCUMENT(HTTP ", waits-for-restart: yes"), "", 1,
     "presets put back, but something else was read back. Compare them at the device. A backup is kept: "
     "einbau "
     "restore amp-1",
     "as they were saved", "[]"},
    /* It takes a part, and none. */
    {AMPLIFIER, http, DOCUMENT(HTTP ", keeps: 7"), "", 1, "something else was read back", "as they were",
     "morning"},
    {AMPLIFIER, http, DOCUMENT(HTTP ", refuses: yes"), "", 1,
     "presets not put back: /api/presets: ", "as they were", "[]"},
    {PLC, registers, DOCUMENT(REGISTERS ", refuses: yes"), "", 1,
     "presets not put back: writing registers: ", "as they were", "------------------"},
    /* Objects; what is not stored is gone with the next restart, here that of the world. */
    {NODE, objects, DOCUMENT(OBJECTS), "", 0, "presets put back and compared", "restore", NULL},
    {NODE, objects_stored, DOCUMENT(OBJECTS ", needs-store: yes"), "", 0, "presets put back and compared",
     "restore", NULL},
    {NODE, objects, DOCUMENT(OBJECTS ", refuses: yes"), "", 1,
     "presets not put back: writing objects by SDO: ", "as they were", "------------------"},
    {NODE, objects, DOCUMENT("number: 0x2201, text: \"morning: valley -6\""), "", 1,
     "presets not saved: reading objects by SDO: ", "put back", NULL},
    {UNIT, identifiers, DOCUMENT(IDENTIFIERS), "", 0, "presets put back and compared", "restore", NULL},
    {UNIT, identifiers_locked, DOCUMENT(IDENTIFIERS ", needs-security: yes"), "", 0,
     "presets put back and compared", "restore", NULL},
    {UNIT, identifiers, DOCUMENT(IDENTIFIERS ", needs-security: yes"), "", 1,
     "presets not put back: writing data identifiers (2Eh): ", "as they were", "------------------"},
    {UNIT, "backups: {presets: {did: {first: 0x0400, count: 3}}}\n", DOCUMENT(IDENTIFIERS), "", 1,
     "presets not put back: writing data identifiers (2Eh): ", "as they were", "------------------"},
    {UNIT, identifiers, DOCUMENT("number: 0x0500, text: \"morning: valley -6\""), "", 1,
     "presets not saved: reading data identifiers (22h): ", "put back", NULL},
    /* What cannot be saved is not erased. */
    {AMPLIFIER, http, "documents: {others: {text: x, after-update: y}}", "", 1,
     "amp-1: presets not saved: /api/presets: Not Found. Nothing was written", "put back", "x"},
    {PLC, records, DOCUMENT(RECORDS), "", 1, "presets not saved: reading file records: ", "put back", NULL},
    {PLC, registers,
     DOCUMENT("number: 0x402, in-words: yes, text: \"morning: valley -6\", after-update: \"-\""), "", 1,
     "presets not saved: reading registers: ", "put back", NULL},
    /* By a person's word. */
    {AMPLIFIER, http, DOCUMENT(HTTP), " --no-backup", 0, "presets lost: --no-backup", "put back", "[]"},
};

/* `usb`: what the device on USB does, in place of "uploads: yes"; NULL: that. */
static void come_back_or_are_told(size_t i, const struct way *w, const char *usb)
{
    struct little l;
    char words[64];
    size_t whole;
    make_with(&l, w->kind, w->world, w->profile);
    if (usb != NULL)
        replace_in(&l, "world.yaml", "uploads: yes", usb);
    snprintf(words, sizeof words, "fit --yes%s", w->options);
    struct outcome o = in_state(&l, "state", words);
    const char *result = strstr(o.out, "NOW RUNNING");
    if (o.status != w->status || result == NULL || strstr(result, w->says) == NULL ||
        strstr(result, w->never) != NULL)
        fail_msg("case %zu: %d, not '%s', or '%s', in\n%s%s", i, o.status, w->says, w->never, o.out, o.err);
    bool refused = strstr(o.out, "Nothing was written") != NULL;
    if (!holds(&l, w->kind, w->holds != NULL ? w->holds : held_before))
        fail_msg("case %zu: it holds '%s'\n%s", i, held(&l, w->kind), o.out);
    outcome_free(&o);
    struct truth t = look(&l, w->kind, "state");
    assert_true(t.wanted[0] == !refused);
    size_t count = backups(&l, &whole);
    if (count != whole || (count == 0) != (refused || w->options[0] != '\0'))
        fail_msg("case %zu: %zu of %zu backups are whole", i, whole, count);
    /* What is missing is put back by the next call, where the device takes it. */
    if (w->status == 1 && !refused) {
        o = in_state(&l, "state", "fit --yes");
        if (strstr(o.out, "presets saved by an earlier job and not put back since") == NULL ||
            (o.status == 0) != holds(&l, w->kind, held_before))
            fail_msg("case %zu, once more: %d\n%s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
    }
    little_remove(&l);
}

static void documents_come_back_or_the_user_is_told(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++)
        come_back_or_are_told(i, &ways[i], NULL);
}

/* Whatever the loader of a device on USB does behind a download. */
static void so_do_those_of_a_loader(void **state)
{
    static const char other[] = "backups: {presets: {dfu: {alternate: 2}}}\n";
    static const struct {
        struct way way;
        const char *usb;
    } rows[] = {
        {{GAUGE, loader, DOCUMENT(HTTP), "", 0, "presets put back and compared", "restore", NULL}, NULL},
        {{GAUGE, loader, DOCUMENT(HTTP), "", 0, "presets put back and compared", "restore", NULL},
         "uploads: yes, manifest: tolerant"},
        {{GAUGE, loader, DOCUMENT(HTTP), "", 0, "presets put back and compared", "restore", NULL},
         "uploads: yes, manifest: restart, detaches-itself: yes"},
        {{GAUGE, loader, DOCUMENT(HTTP), "", 0, "presets put back and compared", "restore", NULL},
         "uploads: yes, detaches-itself: claimed"},
        {{GAUGE, loader, DOCUMENT("text: \"morning: valley -6\""), "", 0,
          "presets still on the device as they were saved", "put back", NULL},
         NULL},
        {{GAUGE, loader, DOCUMENT(HTTP ", keeps: 7"), "", 1, "something else was read back", "as they were",
          "morning"},
         NULL},
        {{GAUGE, loader, DOCUMENT(HTTP), "", 1,
          "presets not saved: asking the loader's state: its descriptor says that it gives no upload",
          "put back", NULL},
         "uploads: no"},
        {{GAUGE, loader, DOCUMENT(HTTP ", refuses: yes"), "", 1,
          "presets not saved: DFU upload: ", "put back", NULL},
         NULL},
        {{GAUGE, other, DOCUMENT(HTTP), "", 1,
          "presets not saved: opening its loader: found fewer alternate settings", "put back", NULL},
         NULL},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        come_back_or_are_told(i, &rows[i].way, rows[i].usb);
}

/* --- faults, and a laptop that dies -------------------------------------------------------------------- */

/* The device has its document, or a backup of it is whole on the laptop. */
static bool nothing_is_lost(const struct little *l, enum kind kind)
{
    size_t whole;
    return holds(l, kind, held_before) || (backups(l, &whole) > 0 && whole > 0);
}

static void sweep(enum kind kind, const char *profile, const char *world_words, unsigned step)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost", "kill", "interrupt"};
    struct little l;
    size_t counts[2] = {0, 0}; /* jobs that ended well, and not */
    make_with(&l, kind, world_words, profile);
    char *world = read_text(l.folder, "world.yaml", NULL);
    unsigned frames = frames_of(kind) + 60;
    for (unsigned frame = 0; frame < frames; frame += every(step)) {
        char text[64];
        const char *what = kinds[frame / step % 6];
        bool signal = frame / step % 6 >= 4;
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", what);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", frame, text);
        struct outcome o = in_state(&l, "state", "fit --yes");
        bool ended = o.status != 128 + SIGKILL;
        if (o.status == 0 && !holds(&l, kind, held_before))
            fail_msg("%s at frame %u: it holds '%s'\n%s", what, frame, held(&l, kind), o.out);
        if (!nothing_is_lost(&l, kind))
            fail_msg("%s at frame %u: neither the device nor the laptop has it\n%s%s", what, frame, o.out,
                     o.err);
        if (ended && (o.status == 1 || o.status == 4) && strstr(o.out, "NOW RUNNING") != NULL &&
            !holds(&l, kind, held_before) && strstr(o.out, "A backup is kept") == NULL &&
            strstr(o.out, "saved, and not put back yet") == NULL)
            fail_msg("%s at frame %u: not told\n%s%s", what, frame, o.out, o.err);
        counts[o.status != 0]++;
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        o = in_state(&l, "state", "fit --yes");
        if (o.status != 0 || !holds(&l, kind, held_before))
            fail_msg("%s at frame %u, and once more: %d, it holds '%s'\n%s%s", what, frame, o.status,
                     held(&l, kind), o.out, o.err);
        outcome_free(&o);
    }
    print_message("%zu jobs ended well, %zu did not; the next call put all of it right\n", counts[0],
                  counts[1]);
    assert_true(counts[0] > 0 && (counts[1] > 0 || getenv("EINBAU_TEST_EVERY") != NULL));
    free(world);
    little_remove(&l);
}

static void nothing_is_lost_by_registers(void **state)
{
    (void)state;
    sweep(PLC, registers, DOCUMENT(REGISTERS), 7);
}

static void nothing_is_lost_by_http(void **state)
{
    (void)state;
    sweep(AMPLIFIER, http, DOCUMENT(HTTP), 5);
}

static void nothing_is_lost_where_it_restarts(void **state)
{
    (void)state;
    sweep(AMPLIFIER, http_restart, DOCUMENT(HTTP ", waits-for-restart: yes"), 11);
}

static void nothing_is_lost_where_none_is_left(void **state)
{
    (void)state;
    sweep(AMPLIFIER, http, DOCUMENT("text: \"morning: valley -6\", gone-after-update: yes"), 11);
}

static void nothing_is_lost_by_tftp(void **state)
{
    (void)state;
    sweep(PLC, file, DOCUMENT(RECORDS), 9);
}

static void nothing_is_lost_by_sdo(void **state)
{
    (void)state;
    sweep(NODE, objects_stored, DOCUMENT(OBJECTS ", needs-store: yes"), 23);
}

static void nothing_is_lost_by_uds(void **state)
{
    (void)state;
    sweep(UNIT, identifiers_locked, DOCUMENT(IDENTIFIERS ", needs-security: yes"), 17);
}

static void nothing_is_lost_in_a_loader(void **state)
{
    (void)state;
    sweep(GAUGE, loader, DOCUMENT(HTTP), 3);
}

/* --- by itself ------------------------------------------------------------------------------------------ */

static void backup_and_restore(void **state)
{
    struct little l;
    size_t whole;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT(HTTP), http);
    expect_einbau(&l, 0, "No backup is kept", "{EINBAU_STATE=state} backup list");
    expect_einbau(&l, 0, "1 device saved", "{EINBAU_STATE=state} backup");
    expect_einbau(&l, 0, "firmware 1.0", "{EINBAU_STATE=state} backup list");
    expect_einbau(&l, 0, "amp.zip", "{EINBAU_STATE=state} backup amp-1 --to %s/amp.zip", l.folder);
    /* never written over */
    expect_einbau(&l, 1, "never written over", "{EINBAU_STATE=state} backup amp-1 --to %s/amp.zip", l.folder);
    struct outcome o = in_state(&l, "state", "fit --yes --no-backup");
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    assert_true(holds(&l, AMPLIFIER, "[]"));
    /* asked first */
    expect_einbau(&l, 2, "use --yes", "{EINBAU_STATE=state} restore amp-1");
    assert_true(holds(&l, AMPLIFIER, "[]"));
    expect_einbau(&l, 0, "presets put back and compared", "{EINBAU_STATE=state} restore amp-1 --yes");
    assert_true(holds(&l, AMPLIFIER, held_before));
    expect_einbau(&l, 0, "1 put-back", "{EINBAU_STATE=state} jobs");
    o = in_state(&l, "state", "report");
    assert_non_null(strstr(o.out, "put-back\n"));
    assert_non_null(strstr(o.out, "amp-1: presets put back and compared"));
    assert_null(strstr(o.out, "interrupted"));
    outcome_free(&o);
    /* what it held before that is a backup as well, and the newest */
    assert_int_equal(backups(&l, &whole), 2);
    expect_einbau(&l, 0, "presets put back and compared", "{EINBAU_STATE=state} restore amp-1 --yes");
    assert_true(holds(&l, AMPLIFIER, "[]"));
    expect_einbau(&l, 0, "presets put back",
                  "{EINBAU_STATE=state} restore amp-1 %s/amp.zip --only presets --yes", l.folder);
    assert_true(holds(&l, AMPLIFIER, held_before));
    expect_einbau(&l, 0, "as it was written", "{EINBAU_STATE=state} jobs --verify");
    little_remove(&l);
}

/* Only the loader of a device on USB has it: asked first, and its program runs again, whatever happens. */
static void a_backup_that_stops_the_program(void **state)
{
    static const char *const kinds[] = {"lost", "late", "power-lost", "kill", "interrupt"};
    struct little l;
    size_t counts[2] = {0, 0};
    size_t whole;
    (void)state;
    make_with(&l, GAUGE, DOCUMENT(HTTP), loader);
    expect_einbau(&l, 1, "gauge-1: not saved, as only its loader gives its documents",
                  "{EINBAU_STATE=state} backup");
    expect_einbau(&l, 2, "use --yes. Nothing was saved", "{EINBAU_STATE=state} backup gauge-1");
    assert_int_equal(backups(&l, &whole), 0);
    char *world = read_text(l.folder, "world.yaml", NULL);
    for (unsigned n = 0; n < 60; n++) {
        char text[64];
        bool signal = n % 5 >= 3;
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", kinds[n % 5]);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", n, text);
        struct outcome o = in_state(&l, "state", "backup gauge-1 --yes");
        bool killed = o.status == 128 + SIGKILL;
        enum eb_sim_mode mode = look(&l, GAUGE, "state").mode;
        if (o.status == 0 && (backups(&l, &whole) != 1 || whole != 1 || mode != EB_SIM_RUNNING))
            fail_msg("%s at frame %u: well, and it is not (mode %d)\n%s", kinds[n % 5], n, mode, o.out);
        if (!killed && mode != EB_SIM_RUNNING && strstr(o.out, "loader") == NULL &&
            strstr(o.err, "loader") == NULL)
            fail_msg("%s at frame %u: not told\n%s%s", kinds[n % 5], n, o.out, o.err);
        counts[o.status != 0]++;
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        if (mode != EB_SIM_RUNNING) {
            expect_einbau(&l, 1, "'einbau recover gauge-1' starts its program",
                          "{EINBAU_STATE=state} survey");
            expect_einbau(&l, 0, "recovered", "{EINBAU_STATE=state} recover gauge-1 --yes");
        }
        assert_int_equal(look(&l, GAUGE, "state").mode, EB_SIM_RUNNING);
        assert_true(holds(&l, GAUGE, held_before));
    }
    print_message("%zu backups, %zu not\n", counts[0], counts[1]);
    assert_true(counts[0] > 0 && counts[1] > 0);
    free(world);
    little_remove(&l);
}

/* Back to an older version: saved, and left to a person. */
static void an_older_version_does_not_get_them(void **state)
{
    struct little l;
    size_t whole;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT(HTTP), http);
    replace_in(&l, "world.yaml", "fw-1.0.bin", "fw-2.0.bin");
    replace_in(&l, "site.yaml", "{version: \"2.0\", image: fw-2.0.bin}",
               "{version: \"1.0\", image: fw-1.0.bin, delivered: \"1.0\"}");
    struct outcome o = in_state(&l, "state", "fit amp-1 --yes --accept amp-1:running-version");
    if (o.status != 0 || strstr(o.out, "presets will be saved, and not put back: an older version") == NULL ||
        strstr(o.out, "1 confirmed") == NULL || strstr(o.out, "put back and compared") != NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_true(holds(&l, AMPLIFIER, "[]"));
    assert_int_equal(backups(&l, &whole), 1);
    assert_int_equal(whole, 1);
    expect_einbau(&l, 1, "found a backup made with firmware 2.0, and 1.0 runs now",
                  "{EINBAU_STATE=state} restore amp-1 --yes");
    o = in_state(&l, "state", "fit --yes");
    assert_null(strstr(o.out, "presets"));
    outcome_free(&o);
    little_remove(&l);
}

/* --- wrong uses ----------------------------------------------------------------------------------------- */

/* Puts another text into the backup's description. */
static void forge(const struct little *l, const char *from, const char *to)
{
    struct outcome o =
        shell("cd %s && rm -rf forged bad.zip && mkdir forged && cd forged && unzip -q ../amp.zip && "
              "sed -i 's/%s/%s/' backup.json && zip -qX ../bad.zip backup.json presets",
              l->folder, from, to);
    if (o.status != 0)
        fail_msg("%s", o.err);
    outcome_free(&o);
}

static void a_wrong_backup_writes_nothing(void **state)
{
    static const struct {
        const char *from, *to; /* in backup.json; `from` NULL: `to` is done with the file */
        const char *says;
    } rows[] = {
        {"OR-H", "OR-X", "found a backup of order code 'OR-X', expected one of this device's: 'OR-H'"},
        {"\"hardware_revision\": \"1\"", "\"hardware_revision\": \"2\"",
         "found a backup of hardware revision '2'"},
        {"\"1.0\"", "\"3.0\"", "found a backup made with firmware 3.0, and 1.0 runs now"},
        {"backup.1", "backup\\/9", "of another form"},
        {"presets", "others", "found no document 'others' in it"},
        {"\"sha256\": \"..", "\"sha256\": \"00", "changed since it was saved"},
        {"\"firmware\"", "\"f\\\\u001b[31m\"", "found versions in its backup.json that are none"},
        {"\"name\": \"presets", "\"name\": \"\\\\u001b[31m", "without a name or a digest"},
        {"documents", "dokuments", "found no documents in it"},
        {"\"made\"", "\"maid\"", "found no text 'made'"},
        {"{", "[", "no JSON"},
        {NULL, "head -c 300 amp.zip >bad.zip", "bad.zip: found"},
        {NULL, "cp amp.zip bad.zip; printf X | dd of=bad.zip bs=1 seek=100 conv=notrunc status=none",
         "bad.zip: found"},
        {NULL, "echo nothing >bad.zip", "found no whole zip archive"},
        {NULL, "rm -f bad.zip; zip -q bad.zip site.yaml", "found no backup.json in it"},
        {NULL, "rm bad.zip", "cannot be opened"},
        {NULL, "mkdir bad.zip", "no file"},
    };
    struct little l;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT("text: \"morning: valley -6\""), http);
    expect_einbau(&l, 0, NULL, "{EINBAU_STATE=state} backup amp-1 --to %s/amp.zip", l.folder);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o;
        if (rows[i].from != NULL) {
            forge(&l, rows[i].from, rows[i].to);
        } else {
            o = shell("cd %s && { %s; }", l.folder, rows[i].to);
            outcome_free(&o);
        }
        char words[PATH_BYTES + 64];
        snprintf(words, sizeof words, "restore amp-1 %s/bad.zip --yes", l.folder);
        o = in_state(&l, "state", words);
        if (o.status != 1 || strstr(o.err, rows[i].says) == NULL ||
            strstr(o.err, "Nothing was written") == NULL)
            fail_msg("%s: %d\n%s%s", rows[i].to, o.status, o.out, o.err);
        outcome_free(&o);
        assert_true(holds(&l, AMPLIFIER, held_before));
        o = shell("ls %s/state/backups 2>/dev/null | wc -l", l.folder);
        assert_int_equal(atoi(o.out), 0); /* it was not even asked for what it holds */
        outcome_free(&o);
    }
    expect_einbau(&l, 1, "found no backup of it", "{EINBAU_STATE=state} restore amp-1 --yes");
    expect_einbau(&l, 1, "found no document nothing in it",
                  "{EINBAU_STATE=state} restore amp-1 %s/amp.zip --only nothing --yes", l.folder);
    expect_einbau(&l, 2, "expected a device of", "{EINBAU_STATE=state} restore amp-9 --yes");
    little_remove(&l);
}

static void wrong_profiles_are_named(void **state)
{
    static const struct {
        const char *profile, *says;
    } rows[] = {
        {"backups: {presets: {htttp: {path: /x}}}\n", "a document that is fetched in no way, expected"},
        {"backups: {presets: {http: {}}}\n", "'path'"},
        {"backups: {presets: {http: {path: /x}, restart: yes}}\n",
         "needs a restart, without the key 'restart'"},
        {"backups: {Presets: {http: {path: /x}}}\n", "a document with another name"},
        {"backups: {../x: {http: {path: /x}}}\n", "a document with another name"},
        {"backups: {backup.json: {http: {path: /x}}}\n", "a document with another name"},
        {"backups: {presets: {modbus-file: {file: 0, records: 3}}}\n", "from 1 to 65535"},
        {"backups: {presets: {modbus-registers: {address: 4}}}\n", "'count'"},
        {"backups: {a: {http: {path: /}}, b: {http: {path: /}}, c: {http: {path: /}}, d: {http: {path: /}},\n"
         "  e: {http: {path: /}}, f: {http: {path: /}}, g: {http: {path: /}}, h: {http: {path: /}},\n"
         "  i: {http: {path: /}}}\n",
         "one document too many, expected at most 8"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make_with(&l, AMPLIFIER, NULL, rows[i].profile);
        struct outcome o = in_state(&l, "state", "fit --yes");
        if (o.status != 2 || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s", rows[i].profile, o.status, o.err);
        outcome_free(&o);
        little_remove(&l);
    }
}

/* A laptop where it cannot be kept, or not be written down, writes nothing. */
static void without_a_place_nothing_is_written(void **state)
{
    struct little l;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT(HTTP), http);
    struct outcome o = shell("mkdir %s/state && touch %s/state/backups", l.folder, l.folder);
    outcome_free(&o);
    o = in_state(&l, "state", "fit --yes");
    if (o.status != 1 || strstr(o.err, "cannot be kept") == NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_true(holds(&l, AMPLIFIER, held_before));
    assert_false(look(&l, AMPLIFIER, "state").wanted[0]);
    o = shell("rm %s/state/backups && mkdir %s/state/backups && touch %s/state/backups/due", l.folder,
              l.folder, l.folder);
    outcome_free(&o);
    o = in_state(&l, "state", "fit --yes");
    if (o.status != 1 || strstr(o.err, "cannot be written down") == NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    assert_true(holds(&l, AMPLIFIER, held_before));
    assert_false(look(&l, AMPLIFIER, "state").wanted[0]);
    little_remove(&l);
}

/* --- the laptop's files ----------------------------------------------------------------------------------
 */

#define PRELOAD                                                                                              \
    "ASAN_OPTIONS=verify_asan_link_order=0:detect_leaks=0 LD_PRELOAD=" BUILD_DIR "/tests/libkill_at.so "

/* Killed at any change of a file: what is there can be read, and the next call puts all of it right. */
static void a_kill_at_any_write_leaves_sound_files(void **state)
{
    struct little l;
    char line[3 * PATH_BYTES];
    size_t whole;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT(HTTP), http);
    snprintf(line, sizeof line,
             "cd %s && rm -rf state && " PRELOAD "KILL_AT=%%lu KILL_COUNT=%s/count " BIN_DIR
             "/einbau fit --yes --site site.yaml --sim world.yaml --state state",
             l.folder, l.folder);
    unsigned long calls = 0;
    size_t cut_off = 0;
    for (unsigned long n = 0; n <= calls; n += every(7)) {
        char killed[3 * PATH_BYTES + 32];
        snprintf(killed, sizeof killed, line, n);
        struct outcome o = shell("%s", killed);
        cut_off += o.status != 0;
        if (n == 0) {
            char *text = read_text(l.folder, "count", NULL);
            calls = strtoul(text, NULL, 10);
            assert_int_equal(o.status, 0);
            free(text);
        }
        outcome_free(&o);
        size_t count = backups(&l, &whole);
        assert_int_equal(count, whole);
        o = in_state(&l, "state", "fit --yes");
        if (o.status != 0 || !holds(&l, AMPLIFIER, held_before))
            fail_msg("killed at change %lu of %lu: %d\n%s%s", n, calls, o.status, o.out, o.err);
        outcome_free(&o);
        o = shell("ls %s/state/backups/due 2>/dev/null | wc -l", l.folder);
        assert_int_equal(atoi(o.out), 0);
        outcome_free(&o);
    }
    print_message("%lu changes, %zu jobs cut off\n", calls, cut_off);
    assert_true(cut_off > 10 || getenv("EINBAU_TEST_EVERY") != NULL);
    little_remove(&l);
}

/* A memory stick knows no links. */
static void a_stick_without_links_takes_a_backup(void **state)
{
    struct little l;
    (void)state;
    make_with(&l, AMPLIFIER, DOCUMENT(HTTP), http);
    for (int turn = 0; turn < 2; turn++) {
        struct outcome o =
            shell("cd %s && " PRELOAD "NO_LINKS=1 " BIN_DIR
                  "/einbau backup amp-1 --to amp.zip --site site.yaml --sim world.yaml --state state",
                  l.folder);
        if (o.status != turn ||
            strstr(turn == 0 ? o.out : o.err, turn == 0 ? "1 device saved" : "never written over") == NULL)
            fail_msg("%d\n%s%s", o.status, o.out, o.err);
        outcome_free(&o);
        o = shell("cd %s && ls *.new 2>/dev/null | wc -l && unzip -tq amp.zip", l.folder);
        assert_int_equal(o.status, 0);
        assert_int_equal(atoi(o.out), 0);
        outcome_free(&o);
    }
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(documents_come_back_or_the_user_is_told),
        cmocka_unit_test(nothing_is_lost_by_registers),
        cmocka_unit_test(nothing_is_lost_by_http),
        cmocka_unit_test(nothing_is_lost_where_it_restarts),
        cmocka_unit_test(nothing_is_lost_where_none_is_left),
        cmocka_unit_test(nothing_is_lost_by_tftp),
        cmocka_unit_test(nothing_is_lost_by_sdo),
        cmocka_unit_test(so_do_those_of_a_loader),
        cmocka_unit_test(nothing_is_lost_in_a_loader),
        cmocka_unit_test(nothing_is_lost_by_uds),
        cmocka_unit_test(backup_and_restore),
        cmocka_unit_test(a_backup_that_stops_the_program),
        cmocka_unit_test(an_older_version_does_not_get_them),
        cmocka_unit_test(a_wrong_backup_writes_nothing),
        cmocka_unit_test(wrong_profiles_are_named),
        cmocka_unit_test(without_a_place_nothing_is_written),
        cmocka_unit_test(a_kill_at_any_write_leaves_sound_files),
        cmocka_unit_test(a_stick_without_links_takes_a_backup),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
