/* Programs that nobody here wrote, run for real: TFTP clients and servers, a Modbus client and server, and a
 * dissector. */
#include "support/support.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#define PYTHON "/usr/bin/python3" /* Debian's, which has Debian's pymodbus */

static struct little little;
static char real_site[PATH_BYTES + 16], sim_log[PATH_BYTES + 16];
static int sim_pid;

/* Starts the simulated PLC on real sockets; it takes images at any time. */
static int set_up(void **state)
{
    (void)state;
    const struct little_options options = {
        .plcs = 1, .image_bytes = 100000, .capacity_kib = 256, .no_times = true};
    little_make(&little, &options);
    char *world = read_text(little.folder, "world.yaml", NULL);
    char *at = strstr(world, "writable: stopped");
    memcpy(at, "writable: always ", 17);
    write_text(little.folder, "world.yaml", "%s", world);
    free(world);
    snprintf(real_site, sizeof real_site, "%s/real.yaml", little.folder);
    snprintf(sim_log, sizeof sim_log, "%s/sim.log", little.folder);
    const char *const arguments[] = {BIN_DIR "/einbau-sim", little.world_path, "--write-site", real_site,
                                     NULL};
    sim_pid = start_program(arguments, sim_log);
    assert_true(wait_for_text(sim_log, "ready", 10));
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    assert_int_equal(stop_program(sim_pid, SIGTERM), 0);
    little_remove(&little);
    return 0;
}

static void expect_done(struct outcome o, const char *part)
{
    if (o.status != 0 || strstr(o.out, part) == NULL)
        fail_msg("found %d: %s%s\nexpected 0: %s", o.status, o.out, o.err, part);
    outcome_free(&o);
}

static void need(const char *program)
{
    if (!have_program(program)) {
        print_message("%s is not here: skipped\n", program);
        skip();
    }
}

/* The ports that the simulated PLC was given. */
static unsigned port_of(const char *protocol)
{
    char *text = read_text("", real_site, NULL);
    char *at = strstr(text, protocol);
    assert_non_null(at);
    unsigned port = (unsigned)strtoul(at + strlen(protocol) + 2, NULL, 10);
    free(text);
    return port;
}

#define PLC "127.77.0.1"

static struct outcome read_identity(void)
{
    return shell(PYTHON " %s/tests/interop/modbus_read.py " PLC " %u", SOURCE_DIR, port_of("modbus"));
}

/* The identity holds `part`, now or within ten seconds. */
static void expect_identity(const char *part)
{
    for (int i = 0; i < 50; i++) {
        struct outcome o = read_identity();
        bool found = o.status == 0 && strstr(o.out, part) != NULL;
        outcome_free(&o);
        if (found)
            return;
        usleep(200000);
    }
    expect_done(read_identity(), part);
}

static void restart_plc(void)
{
    expect_done(shell(PYTHON " %s/tests/interop/modbus_read.py " PLC " %u write 0x1000 3", SOURCE_DIR,
                      port_of("modbus")),
                "");
    usleep(500000); /* now it is down */
}

/* --- their clients, our devices ------------------------------------------------------------------ */

static void a_modbus_client_reads_a_simulated_device(void **state)
{
    (void)state;
    struct outcome o = read_identity();
    if (o.status != 0)
        fail_msg("%s", o.err);
    assert_non_null(
        strstr(o.out, "00 Tester\n01 TP-1\n02 1.0\n04 plc\n80 running\n81 P-1\n82 3\n83 1.0\n90 "));
    outcome_free(&o);
}

/* Pushes the new firmware with another's client; the device runs it after a restart and not before. */
static void push_and_run(const char *command)
{
    expect_done(shell("cd %s && %s", little.folder, command), "");
    expect_identity("02 1.0\n");
    restart_plc();
    expect_identity("02 2.0\n");
}

static void atftp_pushes_and_the_device_runs_it(void **state)
{
    (void)state;
    char command[256];
    need("atftp");
    snprintf(command, sizeof command, "atftp --put -l plc-2.0.bin -r fw.bin " PLC " %u", port_of("tftp"));
    push_and_run(command);
}

static void atftp_pushes_with_windows(void **state)
{
    (void)state;
    char command[256];
    need("atftp");
    snprintf(command, sizeof command,
             "atftp --option 'windowsize 8' --option 'blksize 1024' --put -l plc-2.0.bin -r fw.bin " PLC
             " %u",
             port_of("tftp"));
    push_and_run(command);
}

static void curl_pushes_and_the_device_runs_it(void **state)
{
    (void)state;
    char command[256];
    need("curl");
    snprintf(command, sizeof command, "curl -sS --tftp-blksize 1024 -T plc-2.0.bin tftp://" PLC ":%u/fw.bin",
             port_of("tftp"));
    push_and_run(command);
}

static void a_client_is_told_why_it_is_refused(void **state)
{
    (void)state;
    need("curl");
    struct outcome o = shell("cd %s && curl -sSv -T plc-2.0.bin tftp://" PLC ":%u/other.bin", little.folder,
                             port_of("tftp"));
    assert_int_not_equal(o.status, 0);
    assert_non_null(strstr(o.err, "no component takes a file of this name"));
    outcome_free(&o);
}

static void damage_by_another_client_does_not_run(void **state)
{
    (void)state;
    need("curl");
    expect_done(shell("cd %s && tr '\\000' '\\001' <plc-2.0.bin >bad.bin && curl -sS -T bad.bin tftp://" PLC
                      ":%u/fw.bin",
                      little.folder, port_of("tftp")),
                "");
    restart_plc();
    expect_identity("02 1.0\n");
}

/* --- our client, their servers ------------------------------------------------------------------- */

/* A "device" of general programs: a TFTP server that receives the image, and pymodbus for the identity. */
static void fit_general_device(const char *server_format)
{
    char folder[PATH_BYTES + 16];
    char line[4 * PATH_BYTES];
    char tftp_log[PATH_BYTES + 32];
    char modbus_log[PATH_BYTES + 32];
    char modbus_port[16];
    char file[PATH_BYTES + 32];
    unsigned tftp = free_port(SOCK_DGRAM);
    unsigned modbus = free_port(SOCK_STREAM);
    snprintf(folder, sizeof folder, "%s/general", little.folder);
    snprintf(tftp_log, sizeof tftp_log, "%s.tftp.log", folder);
    snprintf(modbus_log, sizeof modbus_log, "%s.modbus.log", folder);
    snprintf(file, sizeof file, "%s/fw.bin", folder);
    snprintf(modbus_port, sizeof modbus_port, "%u", modbus);
    expect_done(shell("mkdir %s && cp %s/plc-1.0.bin %s && echo 'door 3 open' >%s/script.cfg && "
                      "printf shut >%s/door.cfg && chmod 666 %s %s/*.cfg && chmod 755 %s",
                      folder, little.folder, file, folder, folder, file, folder, little.folder),
                "");

    snprintf(line, sizeof line, server_format, tftp, folder);
    const char *const tftp_server[] = {"sh", "-c", line, NULL};
    const char *const modbus_server[] = {
        PYTHON, SOURCE_DIR "/tests/interop/modbus_device.py", modbus_port, file, "G-1", NULL};
    int tftp_pid = start_program(tftp_server, tftp_log);
    int modbus_pid = start_program(modbus_server, modbus_log);
    if (!wait_for_server(modbus))
        fail_msg("%s", read_text("", modbus_log, NULL));
    write_text(little.folder, "general.yaml",
               "site: general\nlinks: {lan: {kind: ethernet}}\ndevices:\n  made-up:\n    link: lan\n    "
               "address: 127.0.0.1\n"
               "    ports: {tftp: %u, modbus: %u}\n    profile: plc\n    serial: G-1\n    wants:\n      "
               "firmware: {version: 2.0, image: plc-2.0.bin}\n",
               tftp, modbus);
    char *profile = read_text(little.folder, "profiles/plc.yaml", NULL);
    if (strstr(profile, "note-values") == NULL)
        write_text(little.folder, "profiles/plc.yaml",
                   "%snote-values: {setpoint: {modbus-register: 0x200}, ramp: {modbus-register: 0x201}}\n"
                   "diagnostics: {source: {modbus-register: 0x300}, entries: 4}\n"
                   "backups:\n  presets: {modbus-registers: {address: 0x400, count: 9}}\n"
                   "  table: {modbus-file: {file: 4, records: 9}}\n  script: {tftp: {file: script.cfg}}\n"
                   "settings: {ramp: {modbus-registers: {address: 0x408, count: 1}, from: 0, to: 9999},\n"
                   "  door: {tftp: {file: door.cfg}, kind: text, length: 32}}\n",
                   profile);
    free(profile);
    struct outcome look = shell("%s/einbau survey --site %s/general.yaml", BIN_DIR, little.folder);
    struct outcome fit = shell("XDG_STATE_HOME=%s/home %s/einbau fit --yes --site %s/general.yaml",
                               little.folder, BIN_DIR, little.folder);
    struct outcome same = shell("cmp %s %s/plc-2.0.bin", file, little.folder);
    /* A file that was changed since is put back as it was. */
    struct outcome restore =
        shell("cd %s && echo 'door 4 shut, and more' >script.cfg && XDG_STATE_HOME=%s/home "
              "%s/einbau restore made-up --only script --yes --site %s/general.yaml && "
              "grep -qx 'door 3 open' script.cfg && test $(wc -l <script.cfg) = 1",
              folder, little.folder, BIN_DIR, little.folder);
    struct outcome set =
        shell("XDG_STATE_HOME=%s/home %s/einbau settings made-up ramp=513 'door=half open' --yes --site "
              "%s/general.yaml && XDG_STATE_HOME=%s/home %s/einbau settings made-up --site %s/general.yaml",
              little.folder, BIN_DIR, little.folder, little.folder, BIN_DIR, little.folder);
    struct outcome door = shell("test \"$(cat %s/door.cfg)\" = 'half open'", folder);
    /* A server may still be writing when it has acknowledged the last block. */
    struct outcome push = shell("%s/push_image 127.0.0.1 %u %s/coupler-2.0.bin fw.bin 1024 4 && "
                                "for i in 1 2 3 4 5 6 7 8 9 10; do cmp -s %s %s/coupler-2.0.bin && exit 0; "
                                "sleep 0.2; done; exit 1",
                                BIN_DIR, tftp, little.folder, file, little.folder);
    stop_program(tftp_pid, SIGTERM);
    stop_program(modbus_pid, SIGKILL);
    if (look.status != 1 || strstr(look.out, "outdated") == NULL || fit.status != 0 ||
        strstr(fit.out, "1 confirmed") == NULL ||
        strstr(fit.out, "setpoint                1480    0\n") == NULL ||
        strstr(fit.out, "new in its diagnostics          9\n") == NULL || strstr(fit.out, "ramp") != NULL ||
        strstr(fit.out, "presets put back and compared: as they were saved") == NULL ||
        strstr(fit.out, "table put back and compared: as they were saved") == NULL ||
        strstr(fit.out, "script still on the device as they were saved") == NULL || restore.status != 0 ||
        strstr(restore.out, "script put back and compared") == NULL || same.status != 0 || push.status != 0 ||
        strstr(push.out, "100000 bytes in ") == NULL || set.status != 0 ||
        strstr(set.out, "->  513        confirmed") == NULL ||
        strstr(set.out, "->  half open  confirmed") == NULL || door.status != 0 ||
        strstr(set.out, "ramp     513") == NULL)
        fail_msg("%s%s%s%s%s%s%s%s%s%s%s", set.out, set.err, look.out, look.err, fit.out, fit.err,
                 restore.out, restore.err, push.out, push.err, read_text("", tftp_log, NULL));
    outcome_free(&look);
    outcome_free(&fit);
    outcome_free(&same);
    outcome_free(&restore);
    outcome_free(&set);
    outcome_free(&door);
    outcome_free(&push);
}

static void einbau_fits_a_device_made_of_atftpd_and_pymodbus(void **state)
{
    (void)state;
    need("atftpd");
    fit_general_device("PATH=$PATH:/usr/sbin exec atftpd --daemon --no-fork --port %u --bind-address "
                       "127.0.0.1 --user root --group root --logfile - %s");
}

static void einbau_fits_a_device_made_of_tftpd_hpa_and_pymodbus(void **state)
{
    (void)state;
    need(SOURCE_DIR "/build-unpacked/usr/sbin/in.tftpd");
    fit_general_device("exec " SOURCE_DIR "/build-unpacked/usr/sbin/in.tftpd --foreground --create --user "
                       "root --address 127.0.0.1:%u --secure %s");
}

/* --- a dissector --------------------------------------------------------------------------------- */

static unsigned long count_packets(const char *filter)
{
    struct outcome o =
        shell("tshark -r %s/job.pcapng -d udp.port==%u,tftp -o mbtcp.tcp.port:%u -Y '%s' 2>/dev/null | wc -l",
              little.folder, port_of("tftp"), port_of("modbus"), filter);
    unsigned long count = strtoul(o.out, NULL, 10);
    outcome_free(&o);
    return count;
}

static void a_dissector_reads_a_whole_job(void **state)
{
    (void)state;
    char log[PATH_BYTES + 16];
    char line[2 * PATH_BYTES];
    need("tshark");
    snprintf(log, sizeof log, "%s/tshark.log", little.folder);
    snprintf(line, sizeof line, "exec tshark -i lo -f 'net 127.77.0.0/16' -w %s/job.pcapng", little.folder);
    const char *const capture[] = {"sh", "-c", line, NULL};
    int pid = start_program(capture, log);
    if (!wait_for_text(log, "Capturing on", 10)) {
        print_message("this user may not capture: skipped\n");
        stop_program(pid, SIGTERM);
        skip();
    }
    /* It says so before it captures: until something of ours is in the file. */
    unsigned long looks = 0;
    for (int i = 0; i < 50 && looks == 0; i++) {
        struct outcome look = read_identity();
        outcome_free(&look);
        usleep(200000);
        looks = count_packets("modbus.func_code == 43");
    }
    assert_true(looks > 0);
    struct outcome fit = shell("%s/einbau fit --yes --site %s", BIN_DIR, real_site);
    if (fit.status != 0)
        fail_msg("%s%s", fit.out, fit.err);
    outcome_free(&fit);
    usleep(1500000);
    stop_program(pid, SIGINT);
    assert_int_equal(count_packets("_ws.malformed"), 0);
    assert_int_equal(count_packets("tftp.opcode == 2"), 2); /* two write requests */
    assert_int_equal(count_packets("tftp.opcode == 6"), 2); /* answered with options */
    assert_true(count_packets("tftp.opcode == 3") >= (100000 + 128) / 128);
    assert_int_equal(count_packets("tftp.opcode == 5"), 0);
    assert_true(count_packets("modbus.func_code == 43") >= looks + 6);
    assert_int_equal(count_packets("modbus.func_code == 6 && modbus.reference_num == 4096"),
                     8); /* stop and restart, twice, echoed */
    assert_int_equal(count_packets("modbus.exception_code"), 0);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(a_modbus_client_reads_a_simulated_device),
        TEST(atftp_pushes_and_the_device_runs_it),
        TEST(atftp_pushes_with_windows),
        TEST(curl_pushes_and_the_device_runs_it),
        TEST(a_client_is_told_why_it_is_refused),
        TEST(damage_by_another_client_does_not_run),
        TEST(einbau_fits_a_device_made_of_atftpd_and_pymodbus),
        TEST(einbau_fits_a_device_made_of_tftpd_hpa_and_pymodbus),
        TEST(a_dissector_reads_a_whole_job),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
