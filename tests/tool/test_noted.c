/* What profiles note of a device: values and entries of its own diagnostics that differ since before the job,
 * as the user reads them, against what the simulated device holds. */
#include "told_subjects.h"

#include <jansson.h>
#include <signal.h>

static const char modbus_notes[] =
    "note-values: {setpoint: {modbus-register: 0x200}, ramp: {modbus-register: 0x201}}\n"
    "diagnostics: {source: {modbus-register: 0x300}}\n";
static const char sdo_notes[] =
    "note-values: {setpoint: {sdo: 0x2100, as: number}, ramp: {sdo: 0x2101, as: number}}\n"
    "diagnostics: {source: {sdo: 0x1003, sub: 1, as: number}}\n";
static const char uds_notes[] =
    "note-values: {setpoint: {did: 0x0200, as: number}, ramp: {did: 0x0201, as: number}}\n"
    "diagnostics: {source: {dtc-mask: 0x08}}\n";
static const char http_notes[] =
    "note-values: {setpoint: {http: /api/values, json: /setpoint}, ramp: {http: /api/values, json: /ramp}}\n"
    "diagnostics: {source: {http: /api/log, json: \"/entries/{n}/text\"}}\n";

/* The number of the value `index` in the simulated device, by what its world remembers; -1: it has none any
 * more. */
static long long held(const struct little *l, enum kind kind, size_t index)
{
    json_t *root = remembered(l, subjects[kind].name);
    const json_t *values = json_object_get(root, "values");
    long long number = json_integer_value(json_array_get(json_object_get(values, "now"), index));
    if (json_is_true(json_array_get(json_object_get(values, "gone"), index)))
        number = -1;
    assert_non_null(values);
    json_decref(root);
    return number;
}

/* --- each protocol, each way in which such a device may go on --------------------------------------- */

static const struct way {
    enum kind kind;
    const char *notes, *holds, *says[3], *never[2];
} ways[] = {
    {PLC,
     modbus_notes,
     "values: {setpoint: {number: 0x200, value: 1480, after-update: 0}, ramp: {number: 0x201, value: 5}}\n"
     "    log: {number: 0x300, entries: [7], after-update: [9]}",
     {"setpoint                1480    0\n", "new in its diagnostics          9 (2 times)\n"},
     {"ramp", " 7"}},
    {PLC, /* the list is full: what it drops at its end is no news */
     modbus_notes,
     "log: {number: 0x300, entries: [7, 7, 8, 7, 7, 6, 7, 1], after-update: [7]}",
     {"new in its diagnostics          7 (2 times)\n"},
     {" 8", " 6"}},
    {PLC, /* it is longer than what is read, and an older one moves up */
     "diagnostics: {source: {modbus-register: 0x301}, entries: 3}\n",
     "log: {number: 0x300, entries: [7, 8, 9, 10, 11, 12], moves-up: yes}",
     {"1 confirmed"},
     {"Changed since before", " 10"}},
    {PLC, /* the value is no longer there */
     modbus_notes,
     "values: {setpoint: {number: 0x200, value: 1480, gone-after-update: yes}}",
     {"setpoint  1480    unreadable\n"},
     {"ramp", "diagnostics"}},
    {PLC, /* the update clears the list; the codes of before are not new */
     modbus_notes,
     "log: {number: 0x300, entries: [7, 8], after-update: [9], cleared-by-update: yes}",
     {"9\n"},
     {" 7", " 8"}},
    {PLC,
     modbus_notes,
     "values: {ramp: {number: 0x201, value: 5}}",
     {"1 confirmed"},
     {"Changed since before", "noted"}},
    {PLC,
     modbus_notes,
     NULL,
     {"1 confirmed"},
     {"Changed since before", "could not be read"}}, /* it has none of it */
    {NODE,
     sdo_notes,
     "values: {setpoint: {number: 0x2100, value: 1480, after-update: 0}, ramp: {number: 0x2101, value: 5}}\n"
     "    log: {number: 0x1003, entries: [20480], after-update: [33024]}",
     {"setpoint                1480    0\n", "33024\n"},
     {"ramp", "20480"}},
    {NODE, sdo_notes, "log: {number: 0x1003, after-update: [33024]}", {"33024\n"}, {"setpoint", "ramp"}},
    {UNIT,
     uds_notes,
     "values: {setpoint: {number: 0x200, value: 1480, after-update: 7}, ramp: {number: 0x201, value: 5}}\n"
     "    log: {entries: [0xC10050], after-update: [0x012345, 0x9A0F00]}",
     {"setpoint                1480    7\n", "9A0F00h\n", "012345h\n"},
     {"ramp", "C10050h"}},
    {UNIT, /* it does not know the service: nothing is said of it */
     uds_notes,
     "values: {setpoint: {number: 0x200, value: 1480, after-update: 7}}",
     {"setpoint  1480    7\n"},
     {"diagnostics", "could not be read"}},
    {AMPLIFIER,
     http_notes,
     "values: {setpoint: {number: 1, value: 62, after-update: 10}, ramp: {number: 2, value: 5}}\n"
     "    log: {entries: [204], after-update: [118]}",
     {"setpoint                62      10\n", "E118\n"},
     {"ramp", "E204"}},
};

static void what_differs_is_told(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) {
        const struct way *w = &ways[i];
        struct little l;
        make_with(&l, w->kind, w->holds, w->notes);
        struct outcome o = in_state(&l, "state", "fit --yes");
        for (size_t k = 0; k < 3 && w->says[k] != NULL; k++) {
            if (o.status != 0 || strstr(o.out, w->says[k]) == NULL)
                fail_msg("case %zu: %d, not '%s' in\n%s%s", i, o.status, w->says[k], o.out, o.err);
        }
        const char *result = strstr(o.out, "NOW RUNNING");
        for (size_t k = 0; k < 2 && w->never[k] != NULL; k++) {
            if (result == NULL || strstr(result, w->never[k]) != NULL)
                fail_msg("case %zu: '%s' in\n%s", i, w->never[k], o.out);
        }
        outcome_free(&o);
        little_remove(&l);
    }
}

/* What a document says of the one device. */
static const json_t *noted_in(const json_t *root, const char *name)
{
    size_t i;
    const json_t *device;
    json_array_foreach(json_object_get(root, "devices"), i, device)
    {
        if (strcmp(json_string_value(json_object_get(device, "name")), name) == 0)
            return json_object_get(device, "noted");
    }
    return NULL;
}

/* The same stands in the record: as text, as JSON, and on the page. */
static void the_record_has_it(void **state)
{
    (void)state;
    struct little l;
    const struct way *w = ways;
    while (w->kind != NODE)
        w++;
    make_with(&l, w->kind, w->holds, w->notes);
    struct outcome o = in_state(&l, "state", "fit --yes --json");
    json_t *fit = json_loads(o.out, 0, NULL);
    json_t *expected =
        json_pack("{s:{s:{s:s,s:s},s:[s]},s:{s:{s:s,s:s},s:[s,s]},s:[{s:s,s:s,s:s}],s:[s]}", "before",
                  "values", "setpoint", "1480", "ramp", "5", "diagnostics", "20480", "after", "values",
                  "setpoint", "0", "ramp", "5", "diagnostics", "33024", "20480", "changed", "name",
                  "setpoint", "before", "1480", "after", "0", "new_diagnostics", "33024");
    if (!json_equal(noted_in(fit, "node-1"), expected))
        fail_msg("%s", o.out);
    outcome_free(&o);
    o = in_state(&l, "state", "report --json");
    json_t *report = json_loads(o.out, 0, NULL);
    assert_true(json_equal(noted_in(report, "node-1"), expected));
    json_decref(report);
    json_decref(fit);
    json_decref(expected);
    outcome_free(&o);
    expect_einbau(&l, 0, "setpoint                1480    0\n", "{EINBAU_STATE=state} report");
    expect_einbau(&l, 0, NULL, "{EINBAU_STATE=state} report --to %s/page.html", l.folder);
    char *page = read_text(l.folder, "page.html", NULL);
    assert_non_null(strstr(page, "Values before and after"));
    assert_non_null(strstr(page, "<td>setpoint</td><td>1480</td><td>0</td>"));
    free(page);
    expect_einbau(&l, 0, "as it was written", "{EINBAU_STATE=state} jobs --verify");
    little_remove(&l);
}

/* --- a job that is struck, and one that is gone on with ------------------------------------------------ */

/* The row of a value in the last table: its text behind the last blank; NULL: it is not told. */
static const char *told_after(const char *out, const char *name, char *text, size_t cap)
{
    const char *table = strstr(out, "Changed since before the job");
    const char *row = table != NULL ? strstr(table, name) : NULL;
    if (row == NULL)
        return NULL;
    size_t size = strcspn(row, "\n");
    const char *last = row + size;
    while (last > row && last[-1] != ' ')
        last--;
    snprintf(text, cap, "%.*s", (int)(row + size - last), last);
    return text;
}

static const char holds_two[] =
    "values: {setpoint: {number: 0x200, value: 1480, after-update: 0}, ramp: {number: 0x201, value: 5}}";

/* Whatever is lost, doubled, late or without power, and when: the value that is printed is the one that the
 * device holds, or it says that it could not be read. */
static void nothing_false_is_told(void **state)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost"};
    struct little l;
    size_t told = 0;
    size_t unread = 0;
    (void)state;
    make_with(&l, PLC, holds_two, modbus_notes);
    char *world = read_text(l.folder, "world.yaml", NULL);
    unsigned frames = frames_of(PLC) + 40;
    for (unsigned frame = 0; frame < frames; frame += every(5)) {
        char text[64];
        snprintf(text, sizeof text, "kind: %s", kinds[frame / 5 % 4]);
        strike_at(&l, world, "faults:\n  - ", frame, text);
        struct outcome o = in_state(&l, "state", "fit --yes");
        const char *after = told_after(o.out, "setpoint", text, sizeof text);
        told += after != NULL;
        unread += strstr(o.out, "could not be read") != NULL;
        if (after != NULL && strtoll(after, NULL, 10) != held(&l, PLC, 0))
            fail_msg("%s at frame %u: told %s, holds %lld\n%s", kinds[frame / 5 % 4], frame, after,
                     held(&l, PLC, 0), o.out);
        if (o.status == 0 && after == NULL && strstr(o.out, "could not be read") == NULL)
            fail_msg("%s at frame %u: not told, and it holds %lld\n%s", kinds[frame / 5 % 4], frame,
                     held(&l, PLC, 0), o.out);
        outcome_free(&o);
    }
    print_message("told in %zu jobs, could not be read in %zu\n", told, unread);
    assert_true(told > 0);
    free(world);
    little_remove(&l);
}

/* Killed anywhere and gone on with: the last report has the value as it was before the first job. */
static void a_resumed_job_knows_what_was_before(void **state)
{
    struct little l;
    size_t resumed = 0;
    (void)state;
    make_with(&l, PLC, holds_two, modbus_notes);
    char *world = read_text(l.folder, "world.yaml", NULL);
    unsigned frames = frames_of(PLC) + 40;
    for (unsigned frame = 0; frame < frames; frame += every(7)) {
        strike_at(&l, world, "laptop-process: ", frame, "signal: kill");
        struct outcome o = in_state(&l, "state", "fit --yes");
        bool killed = o.status == 128 + SIGKILL;
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        o = in_state(&l, "state", "jobs");
        bool open = strstr(o.out, "interrupted") != NULL;
        outcome_free(&o);
        if (killed) {
            bool json = frame % 2 == 1;
            o = in_state(&l, "state",
                         open ? json ? "fit --yes --resume --json" : "fit --yes --resume" : "fit --yes");
            if (o.status != 0 || strstr(o.out, open && json ? "\"noted\"" : "setpoint  1480    0\n") == NULL)
                fail_msg("killed at frame %u: %d\n%s%s", frame, o.status, o.out, o.err);
            resumed += open;
            outcome_free(&o);
        }
        assert_int_equal(held(&l, PLC, 0), 0);
        o = in_state(&l, "state", "report");
        if (strstr(o.out, "setpoint  1480    0\n") == NULL)
            fail_msg("killed at frame %u: not in\n%s", frame, o.out);
        outcome_free(&o);
    }
    print_message("%zu jobs were gone on with\n", resumed);
    assert_true(resumed > (getenv("EINBAU_TEST_EVERY") == NULL ? 3 : 0));
    free(world);
    little_remove(&l);
}

/* --- profiles that are wrong -----------------------------------------------------------------------------
 */

static void wrong_notes_are_named(void **state)
{
    static const struct {
        enum kind kind;
        const char *notes, *says;
    } rows[] = {
        {PLC,
         "note-values: {a: {modbus-register: 1}, b: {modbus-register: 1}, c: {modbus-register: 1},\n"
         "  d: {modbus-register: 1}, e: {modbus-register: 1}, f: {modbus-register: 1}, g: {modbus-register: "
         "1},\n"
         "  h: {modbus-register: 1}, i: {modbus-register: 1}}\n",
         "one value too many, expected at most 8 in 'note-values'"},
        {PLC, "note-values: {setpoint: {regster: 1}}\n", "no source, expected"},
        {PLC, "note-values: {setpoint: {stated: \"the plate\"}}\n",
         "a noted value that is read in another way"},
        {PLC, "note-values: {setpoint: {sdo: 0x2100}}\n", "a noted value that is read in another way"},
        {NODE, "note-values: {setpoint: {modbus-register: 1}}\n",
         "a noted value that is read in another way"},
        {PLC, "diagnostics: {source: {snmp: 1.3.6.1.2.1.1.5.0}}\n", "a source of one value, expected a list"},
        {AMPLIFIER, "diagnostics: {source: {http: /api/log, json: /entries/0/text}}\n",
         "a source of one value, expected a list"},
        {PLC, "diagnostics: {source: {modbus-register: 1}, entries: 9}\n",
         "expected a whole number from 1 to 8"},
        {PLC, "diagnostics: {entries: 2}\n", "'source'"},
        {UNIT, "diagnostics: {source: {dtc-mask: 0}}\n", "from 1 to 255"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make_with(&l, rows[i].kind, NULL, rows[i].notes);
        struct outcome o = in_state(&l, "state", "fit --yes");
        if (o.status != 2 || strstr(o.err, rows[i].says) == NULL)
            fail_msg("%s: %d\n%s", rows[i].notes, o.status, o.err);
        outcome_free(&o);
        little_remove(&l);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_differs_is_told),  cmocka_unit_test(the_record_has_it),
        cmocka_unit_test(nothing_false_is_told), cmocka_unit_test(a_resumed_job_knows_what_was_before),
        cmocka_unit_test(wrong_notes_are_named),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
