/* The examples, built and run as their heads say. */
#include "support/support.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static char real_site[PATH_BYTES + 16], sim_log[PATH_BYTES + 16];

static struct outcome example(const char *name, const char *a, const char *b, const char *c)
{
    char path[PATH_BYTES];
    snprintf(path, sizeof path, "%s/%s", BIN_DIR, name);
    const char *const arguments[] = {path, a, b, c, NULL};
    return run_program(arguments);
}

static void fit_one_fits_a_simulated_device(void **state)
{
    (void)state;
    struct outcome o = example("fit_one", shared.site_path, shared.world_path, "coupler-1");
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "send 0 of 3000 bytes\n"));
    assert_non_null(strstr(o.out, "confirm 3000 of 3000 bytes\n"));
    assert_non_null(strstr(o.out, "coupler-1: confirmed\n"));
    outcome_free(&o);
}

static void fit_one_says_why_not(void **state)
{
    (void)state;
    write_image(shared.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "4..6", "");
    struct outcome o = example("fit_one", shared.site_path, shared.world_path, "coupler-1");
    assert_int_equal(o.status, 1);
    assert_non_null(strstr(o.out, "coupler-1: refused\nhardware-revision: found 3, expected 4..6\n"));
    outcome_free(&o);
    o = example("fit_one", shared.site_path, shared.world_path, "nobody");
    assert_int_equal(o.status, 2);
    outcome_free(&o);
}

static struct outcome fit_device(const char *device)
{
    const char *const arguments[] = {
        BIN_DIR "/fit_device", shared.site_path, shared.world_path, device, "no-shelf", NULL};
    return run_program(arguments);
}

static void fit_device_confirms_or_says_why_not(void **state)
{
    (void)state;
    struct outcome o = fit_device("coupler-1");
    assert_string_equal(o.out, "confirmed\n");
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    o = fit_device("nobody");
    assert_non_null(strstr(o.out, "found 'nobody', expected a device of little: plc-1, coupler-1"));
    assert_int_equal(o.status, 1);
    outcome_free(&o);
    write_image(shared.folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", 3000, "4..6", "");
    o = fit_device("coupler-1");
    assert_string_equal(
        o.out, "coupler-1 is refused: hardware-revision: found 3, expected 4..6. Nothing was written\n");
    assert_int_equal(o.status, 1);
    outcome_free(&o);
    replace_in(&shared, "world.yaml", "serial: C-1", "serial: C-9");
    o = fit_device("coupler-1");
    assert_non_null(strstr(o.out, "found C-9, expected C-1"));
    assert_int_equal(o.status, 1);
    outcome_free(&o);
}

static void read_identity_reads_a_real_socket(void **state)
{
    (void)state;
    char profile[2 * PATH_BYTES];
    char port[8];
    snprintf(real_site, sizeof real_site, "%s/real.yaml", shared.folder);
    snprintf(sim_log, sizeof sim_log, "%s/sim.log", shared.folder);
    snprintf(profile, sizeof profile, "%s/profiles/plc.yaml", shared.folder);
    const char *const arguments[] = {BIN_DIR "/einbau-sim", shared.world_path, "--write-site", real_site,
                                     NULL};
    int pid = start_program(arguments, sim_log);
    assert_true(wait_for_text(sim_log, "ready", 10));
    char *site = read_text("", real_site, NULL);
    snprintf(port, sizeof port, "%lu", strtoul(strstr(site, "modbus: ") + 8, NULL, 10));
    free(site);
    struct outcome o = example("read_identity", "127.77.0.1", port, profile);
    assert_int_equal(stop_program(pid, SIGTERM), 0);
    assert_int_equal(o.status, 0);
    assert_string_equal(
        o.out,
        "Tester plc, order code TP-1, hardware revision 3, serial number P-1\nfirmware 1.0\ndisplay 1.0\n");
    outcome_free(&o);
    o = example("read_identity", "127.77.0.1", port, profile); /* nobody is there any more */
    assert_int_equal(o.status, 1);
    assert_non_null(strstr(o.err, "unreachable"));
    outcome_free(&o);
}

static void who_is_there_lists_a_simulated_segment(void **state)
{
    (void)state;
    write_text(
        shared.folder, "segment.yaml",
        "world: w\nwires: {lan: {}}\nlaptop: {eth0: {wire: lan, addresses: [192.0.2.9/24]}}\ndevices:\n"
        "  a:\n    wire: lan\n    mac: 02:00:5e:00:00:0a\n    station-name: pump\n    speaks: [dcp]\n"
        "    components: {firmware: {send-as: f, capacity-kib: 1}}\n");
    char world[PATH_BYTES + 16];
    snprintf(world, sizeof world, "%s/segment.yaml", shared.folder);
    struct outcome o = example("who_is_there", "eth0", world, NULL);
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "no address 02:00:5e:00:00:0a pump\n    name by PROFINET DCP: pump\n"));
    outcome_free(&o);
    o = example("who_is_there", "eth7", world, NULL);
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "found no link 'eth7'"));
    outcome_free(&o);
}

/* The README's demo, with the refusals that belong to it. */
static void the_demo_refuses_what_does_not_fit_and_confirms_the_rest(void **state)
{
    (void)state;
    const char *const demo[] = {"sh", "-c", "cd " SOURCE_DIR " && exec scripts/demo " BUILD_DIR, NULL};
    struct outcome o = run_program(demo);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    assert_non_null(strstr(
        o.out,
        "tower-io-3 firmware 1.3: hardware-revision: found 6, expected 2..5 (refused unless accepted: "));
    assert_non_null(strstr(o.out, "rescue-plc firmware 4.2.0: order-code: found QM-RC4-24K, expected "
                                  "QM-RC4-24D (cannot be accepted)\n"));
    assert_non_null(strstr(o.out, "eth0 needs an address like 198.51.100.192/24"));
    assert_non_null(strstr(o.out, "02:00:5e:51:04:99: confirmed, as read back: spare-plc, 192.0.2.77\n"));
    assert_non_null(strstr(o.out, "16 added, 0 there already, 1 left out, 0 refused"));
    assert_non_null(strstr(o.out, "Larchfell ropeway: 3 of 34 lacking; the shelf is shelf"));
    assert_non_null(strstr(o.out, "4.2.0     4.2.1     regent-4.2.1.hex"));
    assert_non_null(
        strstr(o.out, "Larchfell ropeway: 24 confirmed, 4 up-to-date (1 of them by the version only)\n"));
    assert_non_null(strstr(o.out, "Larchfell ropeway: 28 devices as wanted, 0 not; 4 by the version only: "
                                  "pa-valley, pa-middle, pa-summit, gate-master\n"));
    assert_non_null(
        strstr(o.out, "door-08 firmware 1.7.2: hardware-revision: found A4, expected B1..B9 (refused unless "
                      "accepted: --accept door-08:hardware-revision)"));
    assert_non_null(strstr(o.out, "drive-io-2 firmware 1.2: hardware-revision: found 1, expected 2..4"));
    assert_non_null(strstr(o.out, "  drive-io-1    192.0.2.10 slot 2  QM-DI16     3    QDI-1188"));
    assert_non_null(strstr(o.out, "  door-01       node 11            VH-D2       B1   5201"));
    assert_non_null(strstr(o.out, "lead-node       1209:0001          VH-L1       2    VL1-0042"));
    assert_non_null(strstr(o.out, "rope-gauge      1209:0003          SK-G3       1    G3-3307"));
    assert_non_null(strstr(o.out, "cabin-bus  250 kbit/s  sound"));
    assert_non_null(strstr(o.out, "card.img: 3 files written and read back, byte by byte\n"));
    assert_non_null(strstr(o.out, "card.img: right for mast-gateway\n"));
    assert_non_null(strstr(o.out, "Larchfell ropeway: 3 devices as wanted, 0 not\n"));
    outcome_free(&o);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(fit_one_fits_a_simulated_device, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(fit_one_says_why_not, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(fit_device_confirms_or_says_why_not, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(read_identity_reads_a_real_socket, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(who_is_there_lists_a_simulated_segment, set_up_shared,
                                        tear_down_shared),
        cmocka_unit_test(the_demo_refuses_what_does_not_fit_and_confirms_the_rest),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
