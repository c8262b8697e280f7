/* What only a person can read: taken from the site, or asked on a terminal; it counts for the verdict, is
 * shown as what it is, and an outcome that rests on it is no success until the user says so. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A box whose hardware revision stands on its plate only; `menu`: and its version on its display. */
static void make(struct little *l, bool menu, const char *stated)
{
    little_begin(l);
    write_text(
        l->folder, "profiles/box.yaml",
        "profile: box\norder-codes: [BX]\nidentity: {order-code: {modbus-object: 1}, serial: {modbus-object: "
        "0x81}, "
        "hardware-revision: {stated: the plate on its back}}\n"
        "components:\n  firmware: {order: dotted, version: %s, send-as: box.fw}\n"
        "tftp: {windowsize: 4, patience-s: 10}\nactivate: [write-register: {address: 0x1000, value: 3}]\n"
        "return: {down-ms: 300, patience-s: 20, settle-s: 3}\n",
        menu ? "{stated: Menu > System > Version}" : "{modbus-object: 2}");
    write_text(l->folder, "site.yaml",
               "site: boxes\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  box: {link: lan, address: 192.0.2.10, profile: box, serial: B-1%s, wants: {firmware: "
               "{version: \"2.0\", image: "
               "box-2.0.bin}}}\n",
               stated);
    write_text(l->folder, "world.yaml",
               "world: boxes\nsite: site.yaml\nwires: {lan: {latency-us: 200}}\ndevices:\n"
               "  box:\n    wire: lan\n    address: 192.0.2.10\n    order-code: BX\n    serial: B-1\n    "
               "down-ms: 300\n"
               "    components:\n      firmware: {send-as: box.fw, product: BX, version-object: 2, "
               "capacity-kib: 64, banks: 2, image: "
               "box-1.0.bin}\n");
    write_image(l->folder, "box-1.0.bin", "BX", "firmware", "1.0", 3000, "3..5", "");
    write_image(l->folder, "box-2.0.bin", "BX", "firmware", "2.0", 3000, "3..5", "");
}

static void the_site_states_a_revision(void **state)
{
    (void)state;
    static const struct {
        const char *stated, *words;
        int status;
        const char *says[2];
    } rows[] = {
        {"", "plan", 1, {"hardware-revision: found not readable, expected 3..5", NULL}},
        {", stated: {hardware-revision: 4}", "plan", 0, {"fits", NULL}},
        {", stated: {hardware-revision: 6}",
         "fit --yes",
         1,
         {"hardware-revision: found 6, expected 3..5", "Nothing was written"}},
        {", stated: {hardware-revision: 4}",
         "survey",
         1,
         {"stated by a person, not read by Einbau: hardware-revision 4 (by the site)", NULL}},
        {", stated: {hardware-revision: 4}",
         "fit --yes",
         1,
         {"confirmed (stated)", "It counts with --accept DEVICE:stated"}},
        {", stated: {hardware-revision: 4}",
         "fit --yes --accept box:stated",
         0,
         {"confirmed (stated)", "by the site"}},
        {", stated: {hardware-revision: 4}",
         "fit --yes --json --accept box:stated",
         0,
         {"\"hardware-revision\": {\n          \"text\": \"4\",\n          \"by\": \"site\"",
          "\"confirmed_by\": [\n            \"version\""}},
        {", stated: {colour: red}",
         "survey",
         2,
         {"maker, product, order-code, hardware-revision, serial, or a component", NULL}},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, false, rows[i].stated);
        struct outcome o = einbau_run(&l, "%s", rows[i].words);
        for (size_t k = 0; k < 2; k++) {
            if (o.status != rows[i].status ||
                (rows[i].says[k] != NULL && strstr(o.out, rows[i].says[k]) == NULL &&
                 strstr(o.err, rows[i].says[k]) == NULL))
                fail_msg("row %zu: %d\n%s%s", i, o.status, o.out, o.err);
        }
        outcome_free(&o);
        little_remove(&l);
    }
}

/* The version was read before; what it is afterwards was not stated: that is no success. */
static void without_a_terminal_nothing_new_is_stated(void **state)
{
    (void)state;
    struct little l;
    make(&l, true, ", stated: {hardware-revision: 4, firmware: \"1.0\"}");
    expect_einbau(&l, 1, "1.0 (stated)", "survey");
    struct outcome o = einbau_run(&l, "fit --yes --accept box:stated");
    if (o.status != 1 || strstr(o.out, "confirmed (stated)") != NULL ||
        strstr(o.out, "'einbau confirm box' on a terminal") == NULL)
        fail_msg("%d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    little_remove(&l);
}

/* Runs a command on a terminal, with these lines typed. */
static struct outcome typed(const struct little *l, const char *lines, const char *words)
{
    write_text(l->folder, "typed", "%s", lines);
    return shell("cd %s && EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state timeout 60 script "
                 "-qec '" BIN_DIR "/einbau %s' /dev/null <typed",
                 l->folder, words);
}

static void on_a_terminal_a_person_is_asked(void **state)
{
    (void)state;
    static const struct {
        const char *lines, *words;
        int status;
        const char *says[3];
        bool fresh;
    } rows[] = {
        {"4\n1.0\n",
         "survey",
         1,
         {"box: what is hardware-revision at: the plate on its back?", "1.0 (stated)", "(by "},
         false},
        {"4\n1.0\n2.0\n",
         "fit --yes --accept box:stated",
         0,
         {"what is there now at: Menu > System > Version?", "confirmed (stated)", NULL},
         true},
        {"4\n1.0\n2.0\n", "fit --yes", 1, {"confirmed (stated)", "It counts with", NULL}, true},
        {"4\n1.0\n1.0\n",
         "fit --yes --accept box:stated",
         1,
         {"found 1.0, expected 2.0", NULL, NULL},
         true}, /* they say that it is the old one */
        {"4\n1.0\n\n", "fit --yes --accept box:stated", 1, {"failed", NULL, NULL}, true},
        {"9\n1.0\n", "fit --yes --accept box:stated", 1, {"found 9, expected 3..5", NULL, NULL}, false},
        {"\n\n", "survey", 1, {"unreadable", NULL, NULL}, false},
    };
    if (!have_program("script")) {
        print_message("script is not there\n");
        skip();
    }
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, true, "");
        struct outcome o = typed(&l, rows[i].lines, rows[i].words);
        for (size_t k = 0; k < 3; k++) {
            if (o.status != rows[i].status ||
                (rows[i].says[k] != NULL && strstr(o.out, rows[i].says[k]) == NULL))
                fail_msg("row %zu: %d\n%s%s", i, o.status, o.out, o.err);
        }
        outcome_free(&o);
        /* what was said is in the record, with who said it */
        if (strncmp(rows[i].words, "fit", 3) == 0 && rows[i].fresh) {
            o = shell(
                "cd %s && sqlite3 state/record.db \"SELECT component || ' ' || version || ' by ' || outcome "
                "FROM effects WHERE kind = 'stated'\"",
                l.folder);
            if (strstr(o.out, "hardware-revision 4 by ") == NULL || strstr(o.out, "firmware 1.0 by ") == NULL)
                fail_msg("row %zu: %s%s", i, o.out, o.err);
            outcome_free(&o);
        }
        little_remove(&l);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_site_states_a_revision),
        cmocka_unit_test(without_a_terminal_nothing_new_is_stated),
        cmocka_unit_test(on_a_terminal_a_person_is_asked),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
