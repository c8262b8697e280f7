/* The tool and the example on the real libusb: umockdev mocks sysfs, the device files and what the kernel
 * does with them, and usb/stage.c answers with the simulated devices.  Each way in which USB goes wrong has
 * its test: what it says, what it exits with, and what the device then really runs. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static struct little little;

static void make(const struct usb_options *options)
{
    usb_make(&little, options);
    /* Short patience, so that what does not come back is given up soon. */
    char line[PATH_BYTES + 64];
    snprintf(line, sizeof line, "sed -i 's/patience-s: 20/patience-s: 4/' %s/gauge.yaml", little.folder);
    assert_int_equal(system(line), 0);
}

/* A command on the stage, in the site's folder; what the sanitizers preload comes first. */
static void stage_line(const char *strike, const char *command, char line[4 * PATH_BYTES])
{
    snprintf(line, 4 * PATH_BYTES,
             "cd %s && pre=$(ldd " BIN_DIR "/einbau | awk '/lib(a|ub)san/ {print $3}' | tr '\\n' ':') && "
             "exec env LD_PRELOAD=\"${pre}libumockdev-preload.so.0\" ASAN_OPTIONS=detect_leaks=0 " BIN_DIR
             "/usb_stage world.yaml %s -- %s",
             little.folder, strike, command);
}

static struct outcome on_stage(const char *strike, const char *command)
{
    char line[4 * PATH_BYTES];
    const char *const shell[] = {"sh", "-c", line, NULL};
    stage_line(strike, command, line);
    return run_program(shell);
}

#define FIT BIN_DIR "/einbau fit --site site.yaml --state . --yes"

static void expect(const char *strike, const char *command, int status, const char *out, const char *err,
                   const char *runs)
{
    struct outcome o = on_stage(strike, command);
    if (o.status != status || strstr(o.out, out) == NULL || strstr(o.err, err) == NULL ||
        strstr(o.out, runs) == NULL)
        fail_msg("%s %s: found %d\n%s\n%s\nexpected %d: %s %s %s", strike, command, o.status, o.out, o.err,
                 status, out, err, runs);
    outcome_free(&o);
}

static void a_job_from_run_time_mode_to_the_confirmed_version(void **state)
{
    (void)state;
    static const struct usb_options kinds[] = {
        {.gauges = 1},
        {.gauges = 1,
         .usb = "detaches-itself: yes, manifest: tolerant, uploads: yes",
         .component = "banks: 2"},
        {.gauges = 2, .usb = "loader-serial-number: no, other-interface: yes"}};
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        make(&kinds[i]);
        expect("", FIT, 0, "gauges: ", "gauge-1: confirmed", "stage: gauge-1 runs 2.0");
        little_remove(&little);
    }
}

/* All of them side by side: most of the time each waits. */
static void strikes_are_survived(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1};
    static const char *const strikes[] = {"--stall 4",   "--stall 14", "--silence 8", "--silence 15",
                                          "--silence 1", "--unplug 7", "--unplug 16", "--silence 33",
                                          "--stall 33",  "--unplug 34"};
    enum { STRIKES = sizeof strikes / sizeof strikes[0] };
    struct little littles[STRIKES];
    int pids[STRIKES];
    char lines[STRIKES][4 * PATH_BYTES];
    char logs[STRIKES][PATH_BYTES + 32];
    for (size_t i = 0; i < STRIKES; i++) {
        make(&options);
        littles[i] = little;
        stage_line(strikes[i], FIT, lines[i]);
        const char *const shell[] = {"sh", "-c", lines[i], NULL};
        snprintf(logs[i], sizeof logs[i], "%s/stage.log", little.folder);
        pids[i] = start_program(shell, logs[i]);
    }
    for (size_t i = 0; i < STRIKES; i++) {
        bool runs = wait_for_text(logs[i], "stage: gauge-1 runs 2.0", 60);
        int status = stop_program(pids[i], 0); /* only waits */
        char *told = read_text(littles[i].folder, "stage.log", NULL);
        if (!runs || status != 0 || strstr(told, "gauges: 1 confirmed") == NULL)
            fail_msg("%s: %d %s", strikes[i], status, told);
        free(told);
        little_remove(&littles[i]);
    }
}

static void one_that_stays_away_is_not_called_done(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1};
    make(&options);
    expect("--vanish 16", FIT, 1, "asking the loader's state: unreachable. It does not answer now",
           "gauge-1: failed", "stage: gauge-1 is off");
    expect("--vanish 1", FIT, 3, "Nothing to write: no device was reached.", "", "");
    little_remove(&little);
}

/* It lets go and never comes back as a loader. */
static void not_found_after_its_reset(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .boot_ms = 60000};
    const struct usb_options stays = {.gauges = 1, .usb = "stays: yes"};
    make(&options);
    expect("", FIT, 1, "looking for the device on USB: no answer: it is not plugged in", "gauge-1: failed",
           "stage: gauge-1 is off");
    little_remove(&little);
    make(&stays);
    expect("", FIT, 1, "found its program still running, expected its loader. It runs firmware 1.0", "",
           "stage: gauge-1 runs 1.0");
    little_remove(&little);
}

static void held_by_another_program(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .usb = "busy: yes"};
    make(&options);
    expect("", FIT, 1, "a program, or a driver, on this laptop uses its DFU interface: end that",
           "gauge-1: failed", "stage: gauge-1 runs 1.0");
    expect("", BIN_DIR "/einbau links --site site.yaml", 1, "plugged in at 1-2.1; a program, or a driver", "",
           "");
    little_remove(&little);
}

static void a_configuration_that_comes_late_is_waited_for(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .usb = "configured-after-ms: 800"};
    make(&options);
    expect("", FIT, 0, "gauges: ", "gauge-1: confirmed", "stage: gauge-1 runs 2.0");
    little_remove(&little);
}

static void without_the_right_the_rule_is_named(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1};
    char command[PATH_BYTES * 2];
    if (getuid() != 0) {
        print_message("this test takes rights away, for which it needs them: skipped\n");
        skip();
    }
    make(&options);
    snprintf(command, sizeof command, "chmod 0777 %s", little.folder);
    assert_int_equal(system(command), 0);
    snprintf(command, sizeof command,
             "setpriv --reuid=65534 --regid=65534 --clear-groups " BIN_DIR
             "/einbau survey --site site.yaml --state %s/own",
             little.folder);
    expect("--no-right", command, 3,
           "no permission: it is plugged in, and this user may not open it. To grant the permission once, "
           "write into "
           "/etc/udev/rules.d/70-einbau.rules: SUBSYSTEM==\"usb\", ATTR{idVendor}==\"1209\", "
           "ATTR{idProduct}==\"0003\", "
           "TAG+=\"uaccess\", and the same line with 1209 and 0004 for its loader; then plug it in again",
           "", "");
    little_remove(&little);
}

static void the_example_flashes_one_device(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 2, .dfu_file = true};
    make(&options);
    expect("", BIN_DIR "/flash_usb gauge.yaml G-2 gauge-2.0.bin", 0, "confirmed; it runs 2.0", "",
           "stage: gauge-2 runs 2.0");
    expect("", BIN_DIR "/flash_usb gauge.yaml G-3 gauge-2.0.bin", 1,
           "looking for the device on USB: no answer found G-1 at 1-2.1 and others, expected G-3; it runs "
           "nothing that "
           "answers",
           "", "stage: gauge-1 runs 1.0");
    expect("", BIN_DIR "/flash_usb gauge.yaml", 2, "", "usage: flash_usb", "");
    little_remove(&little);
}

/* Others are plugged in and out next to it, and it is found at each of its addresses. */
static void a_trace_shows_every_enumeration(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1};
    make(&options);
    expect("", FIT " --trace usb.pcapng", 0, "", "", "stage: gauge-1 runs 2.0");
    char trace[PATH_BYTES + 32];
    snprintf(trace, sizeof trace, "%s/usb.pcapng", little.folder);
    const char *const read[] = {
        "tshark",        "-r", trace, "-Y", "usb.idProduct", "-T", "fields", "-e", "usb.device_address", "-e",
        "usb.idProduct", NULL};
    struct outcome o = run_program(read);
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "2\t0x0003\n"));
    assert_non_null(strstr(o.out, "3\t0x0004\n"));
    assert_non_null(strstr(o.out, "4\t0x0003\n"));
    outcome_free(&o);
    little_remove(&little);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_job_from_run_time_mode_to_the_confirmed_version),
        cmocka_unit_test(strikes_are_survived),
        cmocka_unit_test(one_that_stays_away_is_not_called_done),
        cmocka_unit_test(not_found_after_its_reset),
        cmocka_unit_test(held_by_another_program),
        cmocka_unit_test(a_configuration_that_comes_late_is_waited_for),
        cmocka_unit_test(without_the_right_the_rule_is_named),
        cmocka_unit_test(the_example_flashes_one_device),
        cmocka_unit_test(a_trace_shows_every_enumeration),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
