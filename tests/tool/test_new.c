/* The first files of a site and of a product: by options, and by questions on a terminal. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static struct little here; /* an empty folder, with one for profiles */

static int set_up(void **state)
{
    (void)state;
    little_begin(&here);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    little_remove(&here);
    return 0;
}

static struct outcome in_folder(const char *words)
{
    return shell("cd %s && unset EINBAU_SITE EINBAU_SIM EINBAU_STATE && " BIN_DIR "/einbau %s </dev/null",
                 here.folder, words);
}

static void expect(const char *words, int status, const char *says)
{
    struct outcome o = in_folder(words);
    if (o.status != status || (strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("einbau %s: %d, not '%s' in\n%s%s", words, o.status, says, o.out, o.err);
    outcome_free(&o);
}

static void each_kind_passes_check(void **state)
{
    (void)state;
    static const char *const ways[] = {"tftp", "http", "canopen", "uds", "dfu"};
    expect("new site hall --title 'The hall' --wires ethernet,can,usb", 0, "hall.site.yaml was written.");
    expect("check hall.site.yaml", 0, "1 file: nothing is wrong");
    expect("", 0, "The hall: it has no devices yet.");
    expect("", 0, "Next: einbau survey --into hall.site.yaml");
    for (size_t i = 0; i < 5; i++) {
        char words[160];
        snprintf(words, sizeof words,
                 "new profile box-%s --maker 'Made up' --product Box --order-codes 'B-1, C-*' --by %s",
                 ways[i], ways[i]);
        expect(words, 0, "was written.");
        snprintf(words, sizeof words, "check profiles/box-%s.yaml", ways[i]);
        expect(words, 0, "1 file: nothing is wrong");
        /* nothing in it would change a device but by the order of a standard */
        char name[64];
        snprintf(name, sizeof name, "profiles/box-%s.yaml", ways[i]);
        char *text = read_text(here.folder, name, NULL);
        assert_null(strstr(text, "\nactivate:"));
        assert_null(strstr(text, "\nprepare:"));
        assert_non_null(strstr(text, "order-codes: [B-1, C-*]"));
        free(text);
    }
    char *before = read_text(here.folder, "hall.site.yaml", NULL);
    expect("new site hall", 2,
           "hall.site.yaml cannot be written: it is there already, and nothing is written over it");
    expect("new profile box-tftp", 2, "profiles/box-tftp.yaml cannot be written: it is there already");
    char *after = read_text(here.folder, "hall.site.yaml", NULL);
    assert_string_equal(before, after);
    free(before);
    free(after);
}

static void wrong_calls_write_nothing(void **state)
{
    (void)state;
    static const struct {
        const char *words, *says;
    } rows[] = {
        {"new", "expected one of these commands:\n  new site"},
        {"new sit x", "no command 'new sit'; did you mean 'new site'?"},
        {"new site", "found 0 names, expected one"},
        {"new site ../x", "found the name '../x', expected letters, digits, '-' and '_', as it is a file's"},
        {"new site .x", "expected letters"},
        {"new site x --wires etherent",
         "found 'etherent', expected ethernet, can or usb, or several of them"},
        {"new site x --title 'a\"b'", "expected a name without quotes"},
        {"new profile x --by tfpt", "found 'tfpt', expected tftp, http, canopen, uds or dfu"},
        {"new profile x --order-codes '[a'", "found '[a', expected codes with commas between"},
        {"new profile x/y", "expected letters, digits"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        expect(rows[i].words, 2, rows[i].says);
    struct outcome o = shell("cd %s && ls x* profiles/x* 2>/dev/null", here.folder);
    assert_string_equal(o.out, "");
    outcome_free(&o);
}

/* A wrong answer is asked for again; Enter takes what is offered. */
static void on_a_terminal_it_asks(void **state)
{
    (void)state;
    char line[2 * PATH_BYTES];
    snprintf(line, sizeof line, "cd %s && unset EINBAU_SITE && " BIN_DIR "/einbau new site asked",
             here.folder);
    char *screen = on_terminal_typing(line, "Ropeway \"9\"\nRopeway 9\nethernet, lorry\ncan\n");
    static const char *const says[] = {"What is the installation called? [asked]: ",
                                       "Found 'Ropeway \"9\"', expected a name without quotes.",
                                       "Which wires does it have: ethernet, can, usb? [ethernet]: ",
                                       "Found 'ethernet, lorry', expected ethernet, can or usb",
                                       "asked.site.yaml was written."};
    for (size_t i = 0; i < 5; i++) {
        if (strstr(screen, says[i]) == NULL)
            fail_msg("not '%s' in\n%s", says[i], screen);
    }
    free(screen);
    char *text = read_text(here.folder, "asked.site.yaml", NULL);
    assert_non_null(strstr(text, "site: \"Ropeway 9\"\n"));
    assert_non_null(strstr(text, "\n  bus: {kind: can"));
    assert_null(strstr(text, "kind: ethernet"));
    free(text);
    snprintf(line, sizeof line, "cd %s && unset EINBAU_SITE && " BIN_DIR "/einbau new profile asked",
             here.folder);
    free(on_terminal_typing(line, "\n\nA-*\nsmoke signals\nuds\n"));
    text = read_text(here.folder, "profiles/asked.yaml", NULL);
    assert_non_null(strstr(text, "maker: \"unknown\"\nproduct: \"asked\"\norder-codes: [A-*] "));
    assert_non_null(strstr(text, "\nuds:\n"));
    free(text);
}

/* The whole way of a first day: a site, a profile, what answers is entered, and can be looked at. */
static void a_survey_fills_it(void **state)
{
    (void)state;
    struct little l;
    const struct little_options options = {.plcs = 2};
    little_make(&l, &options);
    replace_in(&l, "world.yaml", "devices:\n",
               "laptop:\n  eth0: {wire: lan, addresses: [192.0.2.100/24]}\ndevices:\n");
    struct outcome o = shell("cd %s && mkdir first && cd first && unset EINBAU_SITE && export "
                             "EINBAU_SIM=../world.yaml EINBAU_STATE=state && "
                             "E=" BIN_DIR "/einbau && $E new site hall --title Hall --wires ethernet && "
                             "$E new profile plc --order-codes 'TP-*' --by tftp && $E survey --into "
                             "hall.site.yaml; $E check hall.site.yaml && "
                             "$E survey",
                             l.folder);
    static const char *const says[] = {"hall.site.yaml was written", "profiles/plc.yaml was written",
                                       "1 file: nothing is wrong", "Hall: 2 of 2 devices answered"};
    for (size_t i = 0; i < 4; i++) {
        if (strstr(o.out, says[i]) == NULL)
            fail_msg("not '%s' in\n%s%s", says[i], o.out, o.err);
    }
    outcome_free(&o);
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(each_kind_passes_check),
        cmocka_unit_test(wrong_calls_write_nothing),
        cmocka_unit_test(on_a_terminal_it_asks),
        cmocka_unit_test(a_survey_fills_it),
    };
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
