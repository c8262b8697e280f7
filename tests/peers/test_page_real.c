/* The report in a browser: nothing is asked for, no error, every device is drawn and listed, nothing runs
 * into each other, light and dark, wide and narrow, judged by rules for accessible pages; and printed, read
 * back as text. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define NODE_MODULES SOURCE_DIR "/build-unpacked/npm/node_modules"

static struct little little;

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

static bool there_is_a_browser(void)
{
    struct outcome o = shell("command -v chromium pdftotext && test -d " NODE_MODULES "/puppeteer-core");
    bool there = o.status == 0;
    outcome_free(&o);
    if (!there)
        print_message("no browser, or nothing that drives it: make setup\n");
    return there;
}

/* Writes the page, looks at it, prints it; the printed text is freed by the caller. */
static char *look(const char *command, const char *rows)
{
    struct outcome made = einbau_run(&little, "%s page.html", command);
    outcome_free(&made);
    struct outcome o =
        shell("cd %s && NODE_PATH=" NODE_MODULES " HOME=%s timeout 120 node " SOURCE_DIR
              "/tests/interop/page_check.js page.html %s page.pdf && pdftotext -layout page.pdf -",
              little.folder, little.folder, rows);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    free(o.err);
    return o.out;
}

static void one_device(void **state)
{
    (void)state;
    if (!there_is_a_browser())
        skip();
    const struct little_options options = {.plcs = 1};
    little_make(&little, &options);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes");
    char *text = look("report --to", "1");
    assert_non_null(strstr(text, "plc-1 is confirmed."));
    assert_non_null(strstr(text, "page 1 of"));
    assert_non_null(strstr(text, "Technician: place, date, signature"));
    free(text);
}

/* Also of what is refused, and behind a gateway. */
static void a_plan(void **state)
{
    (void)state;
    if (!there_is_a_browser())
        skip();
    const struct bus_options options = {
        .nodes = 3, .units = 2, .profile = "typical: {bytes-per-s: 900, restart-s: 2}\n"};
    bus_make(&little, &options);
    /* Names for which a drawing has no room. */
    replace_in(&little, "site.yaml", "  node-1:", "  a-node-with-a-name-that-is-rather-long:");
    replace_in(&little, "site.yaml", "  node-2:", "  another-node-with-such-a-name-of-its-own:");
    char *text = look("plan --html", "5");
    assert_non_null(strstr(text, "5 of 5 devices can be written to"));
    assert_non_null(strstr(text, "Firmware plan: little bus"));
    char *page = read_text(little.folder, "page.html", NULL);
    assert_non_null(strstr(page, "a-node-with-a-name-that-is-rather-long"));
    free(page);
    free(text);
}

static void a_job_that_was_cut_off(void **state)
{
    (void)state;
    if (!there_is_a_browser())
        skip();
    const struct bus_options options = {.nodes = 3, .units = 2};
    bus_make(&little, &options);
    replace_in(&little, "world.yaml", "seed: 7\n", "seed: 7\nlaptop-process: {frame: 900, signal: kill}\n");
    struct outcome o = einbau_run(&little, "fit --yes");
    assert_int_equal(o.status, 128 + 9);
    outcome_free(&o);
    char *text = look("report --to", "5");
    assert_non_null(strstr(text, "This job did not come to its end."));
    assert_non_null(strstr(text, "interrupted"));
    assert_non_null(strstr(text, "unit-2"));
    free(text);
}

static void two_hundred_devices(void **state)
{
    (void)state;
    if (!there_is_a_browser())
        skip();
    const struct little_options options = {.plcs = 100, .couplers = 100};
    little_make(&little, &options);
    expect_einbau(&little, 0, "200 confirmed", "fit --yes");
    char *text = look("report --to", "2");
    assert_non_null(strstr(text, "All 200 devices are as wanted: 200 confirmed."));
    assert_non_null(strstr(text, "plc-1..100"));
    assert_non_null(strstr(text, "coupler-1..100"));
    assert_non_null(strstr(text, "Annex: serial numbers"));
    for (unsigned i = 1; i <= 100; i++) {
        char name[32];
        snprintf(name, sizeof name, "coupler-%u:", i);
        if (strstr(text, name) == NULL)
            fail_msg("%s is missing in the annex", name);
    }
    free(text);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_teardown(one_device, tear_down),
        cmocka_unit_test_teardown(a_plan, tear_down),
        cmocka_unit_test_teardown(a_job_that_was_cut_off, tear_down),
        cmocka_unit_test_teardown(two_hundred_devices, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
