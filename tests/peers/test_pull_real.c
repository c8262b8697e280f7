/* Einbau as the server of a loader that is made of real programs: klibc's plain BOOTP, busybox' DHCP, four
 * TFTP clients, U-Boot with and without loss, over a real cable between two network namespaces; pymodbus is
 * the program that runs before and behind it. */
#include "support/support.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

static char folder[PATH_BYTES], lap[32], plant[32];
static bool made;

static int set_up(void **state)
{
    (void)state;
    char path[PATH_BYTES + 16];
    make_folder(folder);
    snprintf(path, sizeof path, "%s/profiles", folder);
    mkdir(path, 0777);
    snprintf(lap, sizeof lap, "eq%dl", getpid());
    snprintf(plant, sizeof plant, "eq%dp", getpid());
    struct outcome o = shell(
        "ip netns add %s && ip netns add %s && ip -n %s link add plug type veth peer name socket netns %s && "
        "ip -n %s link set lo up && ip -n %s link set plug up && ip -n %s address add 10.77.0.1/24 dev plug "
        "&& "
        "ip -n %s link set socket address 02:00:5e:07:03:88 && ip -n %s link set socket up && ip -n %s link "
        "set lo up",
        lap, plant, lap, plant, lap, lap, lap, plant, plant, plant);
    made = o.status == 0;
    outcome_free(&o);
    usleep(300000); /* the carrier */
    write_image(folder, "panel-1.0.bin", "TP-1", "firmware", "1.0", 300001, "1..9", "");
    write_image(folder, "panel-2.0.bin", "TP-1", "firmware", "2.0", 300001, "1..9", "");
    write_text(
        folder, "profiles/panel.yaml",
        "profile: panel\norder-codes: [TP-1]\nidentity:\n  order-code: {modbus-object: 1}\n  "
        "hardware-revision: "
        "{modbus-object: 130}\n  serial: {modbus-object: 129}\n"
        "components:\n  firmware:\n    order: dotted\n    version: {modbus-object: 2}\n    checksum: "
        "{modbus-object: "
        "144}\n    send-as: panel.fw\n"
        "pull: {windowsize: 8, ask-patience-s: 60, patience-s: 30}\n"
        "prepare:\n  - by-hand: {do: start the loader}\nactivate:\n  - by-hand: {do: start the program}\n"
        "return: {down-ms: 100, patience-s: 60, settle-s: 5}\n");
    write_text(folder, "site.yaml",
               "site: real\nprofiles: profiles\nlinks: {plug: {kind: ethernet}}\ndevices:\n  panel:\n    "
               "link: plug\n    address: "
               "10.77.0.21\n    mac: \"02:00:5e:07:03:88\"\n    profile: panel\n    serial: P-1\n"
               "    wants: {firmware: {version: \"2.0\", image: panel-2.0.bin}}\n");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    struct outcome o = shell("ip netns delete %s; ip netns delete %s", lap, plant);
    outcome_free(&o);
    remove_folder(folder);
    return 0;
}

static int start_in(const char *namespace, const char *words, const char *log)
{
    char line[4 * PATH_BYTES];
    char path[PATH_BYTES + 32];
    snprintf(line, sizeof line, "cd %s && exec ip netns exec %s %s", folder, namespace, words);
    snprintf(path, sizeof path, "%s/%s", folder, log);
    const char *const command[] = {"sh", "-c", line, NULL};
    return start_program(command, path);
}

static void wait_in(const char *log, const char *text)
{
    char path[PATH_BYTES + 32];
    snprintf(path, sizeof path, "%s/%s", folder, log);
    if (!wait_for_text(path, text, 120)) {
        char *all = read_text(folder, log, NULL);
        char *job = read_text(folder, "job.log", NULL);
        fail_msg("no '%s' in %s: %s\n%s", text, log, all, job != NULL ? job : "");
    }
}

static int start_panel(void)
{
    struct outcome o = shell(
        "ip -n %s address flush dev socket; ip -n %s address add 10.77.0.21/24 dev socket", plant, plant);
    outcome_free(&o);
    int panel = start_in(
        plant, "/usr/bin/python3 " SOURCE_DIR "/tests/interop/modbus_device.py 502 flash.bin P-1 10.77.0.21",
        "panel.log");
    wait_in("panel.log", "ready");
    return panel;
}

static void loaders_of_real_programs(void **state)
{
    (void)state;
    static const struct {
        const char *program, *words;
    } rows[] = {{"/usr/bin/busybox", "loader.sh dhcp busybox socket"},
                {"/usr/bin/busybox", "loader.sh dhcp atftp socket"},
                {"/usr/bin/busybox", "loader.sh dhcp hpa socket"},
                {"/usr/bin/busybox", "loader.sh dhcp curl socket"},
                {"/usr/lib/klibc/bin/ipconfig", "loader.sh bootp curl socket"},
                {"/usr/bin/qemu-system-arm", "uboot.sh socket 02:00:5e:07:03:88 0"},
                {"/usr/bin/qemu-system-arm", "uboot.sh socket 02:00:5e:07:03:88 5"}};
    if (!made) {
        print_message("no network namespaces here\n");
        skip();
    }
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char words[160];
        if (access(rows[i].program, X_OK) != 0) {
            print_message("%s is not there\n", rows[i].program);
            continue;
        }
        struct outcome o =
            shell("cd %s && cp panel-1.0.bin flash.bin && rm -rf job.log loader.log home", folder);
        outcome_free(&o);
        int panel = start_panel();
        setenv("XDG_STATE_HOME", folder, 1);
        int job = start_in(lap, BIN_DIR "/einbau fit --yes --site site.yaml --trace trace.pcapng", "job.log");
        wait_in("job.log", "manual step: start the loader");
        stop_program(panel, SIGTERM);
        snprintf(words, sizeof words, "sh " SOURCE_DIR "/tests/interop/%s", rows[i].words);
        int loader = start_in(plant, words, "loader.log");
        wait_in("loader.log", "loaded");
        stop_program(loader, SIGTERM);
        wait_in("job.log", "manual step: start the program");
        panel = start_panel();
        wait_in("job.log", "1 confirmed");
        stop_program(job, SIGTERM);
        stop_program(panel, SIGTERM);
        o = shell(
            "cd %s && cmp flash.bin panel-2.0.bin && test $(tshark -r trace.pcapng -Y '_ws.malformed && "
            "ip.src == 10.77.0.1' "
            "2>/dev/null | wc -l) = 0 && "
            "tshark -r trace.pcapng -Y 'dhcp || tftp.opcode == 1 || tftp.opcode == 6' 2>/dev/null | wc -l",
            folder);
        if (o.status != 0 || atoi(o.out) < 3)
            fail_msg("%s: %d: %s%s", rows[i].words, o.status, o.out, o.err);
        outcome_free(&o);
    }
}

/* Another program has the port for BOOTP, even one that would share it: `links` says so, and a job sends
 * nothing. */
static void a_port_that_is_taken(void **state)
{
    (void)state;
    if (!made) {
        print_message("no network namespaces here\n");
        skip();
    }
    struct outcome o =
        shell("cd %s && XDG_STATE_HOME=%s ip netns exec %s " BIN_DIR "/einbau links panel --site site.yaml",
              folder, folder, lap);
    if (strstr(o.out, "Port 67, BOOTP and DHCP for loaders: free\nPort 69, TFTP for loaders: free\n") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    int other = start_in(
        lap,
        "/usr/bin/python3 -u -c 'import socket, time; s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); "
        "s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1); s.bind((\"\", 67)); print(\"ready\"); "
        "time.sleep(60)'",
        "other.log");
    wait_in("other.log", "ready");
    o = shell("cd %s && XDG_STATE_HOME=%s ip netns exec %s " BIN_DIR "/einbau links panel --site site.yaml",
              folder, folder, lap);
    if (o.status != 1 || strstr(o.out, "Port 67, BOOTP and DHCP for loaders: in use\n") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    o = shell("cd %s && cp panel-1.0.bin flash.bin", folder);
    outcome_free(&o);
    int panel = start_panel();
    o = shell("cd %s && XDG_STATE_HOME=%s timeout 60 ip netns exec %s " BIN_DIR
              "/einbau fit --yes --site site.yaml",
              folder, folder, lap);
    stop_program(panel, SIGTERM);
    stop_program(other, SIGTERM);
    if (o.status != 1 || strstr(o.out, "another program of this laptop has this port") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    o = shell("cd %s && cmp flash.bin panel-1.0.bin", folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

/* The example serves to clients of other makers, whatever they ask for. */
static void an_image_is_served_to_real_clients(void **state)
{
    (void)state;
    static const struct {
        const char *program, *words;
    } rows[] = {
        {"atftp", "atftp --get -r panel.fw -l got 127.0.0.1 %u"},
        {"atftp",
         "atftp --option 'blksize 1428' --option 'windowsize 8' --option 'tsize 0' --get -r panel.fw -l "
         "got 127.0.0.1 %u"},
        {"tftp", "tftp -m binary 127.0.0.1 %u -c get panel.fw got"},
        {"curl", "curl -sS --tftp-no-options -o got tftp://127.0.0.1:%u/panel.fw"},
        {"curl", "curl -sS --tftp-blksize 1468 -o got tftp://127.0.0.1:%u/panel.fw"},
        {"busybox", "busybox tftp -g -b 1400 -r panel.fw -l got 127.0.0.1 %u"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char line[512];
        unsigned port = free_port(SOCK_DGRAM);
        if (!have_program(rows[i].program)) {
            print_message("%s is not there\n", rows[i].program);
            continue;
        }
        snprintf(line, sizeof line, rows[i].words, port);
        struct outcome o =
            shell("cd %s && rm -f got ready && (timeout 30 " BIN_DIR
                  "/serve_image 127.0.0.1 %u panel-2.0.bin panel.fw 1468 16 >ready & "
                  "for i in $(seq 100); do grep -q ready ready && break; sleep 0.05; done; %s; wait $!) && "
                  "cmp got panel-2.0.bin && cat ready",
                  folder, port, line);
        if (o.status != 0 || strstr(o.out, "300001 bytes\n") == NULL)
            fail_msg("%s: %d: %s%s", rows[i].words, o.status, o.out, o.err);
        outcome_free(&o);
    }
    struct outcome o = shell(BIN_DIR "/serve_image 127.0.0.1");
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "usage: serve_image"));
    outcome_free(&o);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_port_that_is_taken, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_image_is_served_to_real_clients, set_up, tear_down),
        cmocka_unit_test_setup_teardown(loaders_of_real_programs, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
