/* The CAN bus and programs that nobody here wrote: python-can reads our nodes, scapy is a control unit for
 * us, tshark reads our traces; over pseudo-terminals in real time. */
#include "support/support.h"

#include <linux/can.h>
#include <net/if.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#define PYTHON "/usr/bin/python3"

struct served {
    struct little little;
    int pid;
    char first[64], second[64]; /* the bus's adapters */
    char site[PATH_BYTES + 32];
};

static bool have_python(const char *module)
{
    char line[128];
    snprintf(line, sizeof line, PYTHON " -c 'import %s' 2>/dev/null", module);
    return system(line) == 0;
}

static void serve(struct served *s, const struct bus_options *options)
{
    char log[PATH_BYTES + 32];
    size_t size;
    bus_make(&s->little, options);
    snprintf(log, sizeof log, "%s/sim.log", s->little.folder);
    snprintf(s->site, sizeof s->site, "%s/real.yaml", s->little.folder);
    const char *const program[] = {BIN_DIR "/einbau-sim", s->little.world_path, "--write-site", s->site,
                                   NULL};
    s->pid = start_program(program, log);
    assert_true(wait_for_text(log, "ready:", 10));
    char *text = read_text(s->little.folder, "sim.log", &size);
    assert_int_equal(
        sscanf(strstr(text, "bus: adapters"), "bus: adapters %63s and %63s", s->first, s->second), 2);
    free(text);
}

static void end(struct served *s)
{
    assert_int_equal(stop_program(s->pid, SIGTERM), 0);
    little_remove(&s->little);
}

static void expect(const char *line, int status, const char *out)
{
    struct outcome o = shell("%s", line);
    if (o.status != status || strstr(o.out, out) == NULL)
        fail_msg("%s: found %d\n%s%s\nexpected %d and %s", line, o.status, o.out, o.err, status, out);
    outcome_free(&o);
}

/* python-can reads nodes' identities by SDO over the pseudo-terminal, and sees a boot-up message. */
static void python_can_reads_our_nodes(void **state)
{
    (void)state;
    struct served s;
    char line[1024];
    if (!have_python("can")) {
        print_message("python-can is missing: skipped\n");
        skip();
    }
    for (int plain = 0; plain <= 1; plain++) {
        const struct bus_options options = {.nodes = 2, .bus = plain ? "plain-answers: yes" : NULL};
        serve(&s, &options);
        snprintf(line, sizeof line, PYTHON " " SOURCE_DIR "/tests/interop/can_nodes.py %s 11 12", s.second);
        struct outcome o = shell("%s", line);
        if (o.status != 0)
            fail_msg("%s%s", o.out, o.err);
        assert_string_equal(
            o.out, "node 11: serial 100, name TN-1\nnode 12: serial 101, name TN-1\nnode 11: boot-up\n");
        outcome_free(&o);
        end(&s);
    }
}

/* The port on Linux over a pseudo-terminal: both kinds of answers, small queues, and two users of one bus. */
static void our_port_speaks_with_serial_adapters(void **state)
{
    (void)state;
    static const char *const buses[] = {NULL, "plain-answers: yes", "queue: 4", "refuses-every: 5"};
    struct served s;
    char line[2048];
    for (size_t i = 0; i < sizeof buses / sizeof buses[0]; i++) {
        const struct bus_options options = {.nodes = 2, .units = 1, .bus = buses[i], .image_bytes = 2000};
        serve(&s, &options);
        snprintf(line, sizeof line, BIN_DIR "/einbau links --site %s", s.site);
        expect(line, 0, "bus  250 kbit/s  sound");
        snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes --site %s", s.site);
        expect(line, 0, "little bus: 3 confirmed");
        end(&s);
    }
}

/* The examples of the public API, over the pseudo-terminal. */
static void the_examples_read_and_flash_one_node(void **state)
{
    (void)state;
    struct served s;
    char line[2048];
    const struct bus_options options = {.nodes = 2};
    serve(&s, &options);
    snprintf(line, sizeof line, BIN_DIR "/read_node %s 250000 12", s.first);
    expect(line, 0, "name: TN-1\nhardware version: 3\nsoftware version: 1.0\nserial number: 101\n");
    snprintf(line, sizeof line, BIN_DIR "/read_node %s 250000 99", s.first);
    expect(line, 1, "name: SDO protocol timed out");
    snprintf(line, sizeof line, "cd %s && " BIN_DIR "/flash_node node.yaml %s 250000 12 node-2.0.bin",
             s.little.folder, s.first);
    expect(line, 0, "\nconfirmed\n");
    snprintf(line, sizeof line, BIN_DIR "/read_node %s 250000 12", s.first);
    expect(line, 0, "software version: 2.0");
    snprintf(line, sizeof line, "cd %s && " BIN_DIR "/flash_node node.yaml %s 250000 1 node-2.0.bin",
             s.little.folder, s.first);
    expect(line, 1,
           "refused\ncomparing the order code with the profile's: another device found TG-1, expected TN-1");
    end(&s);
}

/* Two of us at once: the second one is told; the first one is not disturbed.  And a process that dies, or the
 * adapter that goes away in the midst of a job, leaves what can be found and fitted. */
static void jobs_over_an_adapter_end_in_order(void **state)
{
    (void)state;
    struct served s;
    char line[2048];
    char log[PATH_BYTES + 32];
    const struct bus_options options = {.nodes = 1, .image_bytes = 7000};
    serve(&s, &options);
    snprintf(log, sizeof log, "%s/fit.log", s.little.folder);
    const char *const fit[] = {BIN_DIR "/einbau", "fit", "--yes", "--site", s.site, NULL};
    int pid = start_program(fit, log);
    assert_true(wait_for_text(log, "node-1: send", 20));
    snprintf(line, sizeof line, BIN_DIR "/einbau links --site %s", s.site);
    expect(line, 1, "no adapter: it is not plugged in, another program has it");
    assert_int_equal(stop_program(pid, SIGINT), 4); /* its memory was cleared already: so it is said */
    snprintf(line, sizeof line, "cat %s", log);
    expect(line, 0, "node-1: in-loader");
    snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes --site %s; " BIN_DIR "/einbau confirm --site %s",
             s.site, s.site);
    expect(line, 0, "1 device as wanted, 0 not");
    pid = start_program(
        (const char *const[]){BIN_DIR "/einbau", "fit", "node-1", "--again", "--yes", "--site", s.site, NULL},
        log);
    assert_true(wait_for_text(log, "node-1: send", 20));
    usleep(900000); /* wherever it is by then */
    stop_program(pid, SIGKILL);
    expect(line, 0, "1 device as wanted, 0 not");
    pid = start_program(
        (const char *const[]){BIN_DIR "/einbau", "fit", "node-1", "--again", "--yes", "--site", s.site, NULL},
        log);
    assert_true(wait_for_text(log, "node-1: send", 20));
    /* As long as this end is open, no terminal of another test gets the adapter's number, and what the job
     * writes to an adapter that it hopes is back. */
    int held = open(s.first, O_RDWR | O_NOCTTY);
    assert_true(held >= 0);
    assert_int_equal(stop_program(s.pid, SIGTERM), 0);
    assert_int_equal(stop_program(pid, 0), 1); /* it gives up by itself */
    close(held);
    little_remove(&s.little);
}

/* A file that is no adapter, one that answers nothing, and one that goes away meanwhile. */
static void adapters_that_are_none_are_told(void **state)
{
    (void)state;
    struct served s;
    char line[2048];
    const struct bus_options options = {.nodes = 1};
    serve(&s, &options);
    snprintf(line, sizeof line,
             "sed 's#%s#/dev/null#' %s > %s/none.yaml; " BIN_DIR "/einbau links --site %s/none.yaml", s.first,
             s.site, s.little.folder, s.little.folder);
    expect(line, 1, "no adapter: it is not plugged in");
    snprintf(line, sizeof line,
             PYTHON
             " -c 'import os, pty, subprocess, sys; master, slave = pty.openpty(); name = os.ttyname(slave); "
             "text = open(\"%s\").read().replace(\"%s\", name); open(\"%s/mute.yaml\", \"w\").write(text); "
             "sys.exit(subprocess.run([\"" BIN_DIR
             "/einbau\", \"links\", \"--site\", \"%s/mute.yaml\"]).returncode)'",
             s.site, s.first, s.little.folder, s.little.folder);
    expect(line, 1, "no adapter: it is not plugged in");
    end(&s);
}

/* A control unit made of scapy's automotive layers is flashed, and what it got is the image. */
static void scapys_control_unit_is_flashed(void **state)
{
    (void)state;
    struct served s;
    char line[2048];
    char flash[PATH_BYTES + 32];
    char log[PATH_BYTES + 32];
    size_t size;
    size_t image_size;
    if (!have_python("can") || !have_python("scapy.contrib.automotive.uds")) {
        print_message("python-can or scapy is missing: skipped\n");
        skip();
    }
    const struct bus_options options = {.units = 1, .image_bytes = 900, .device = "    starts: off\n"};
    serve(&s, &options);
    snprintf(flash, sizeof flash, "%s/flash", s.little.folder);
    snprintf(log, sizeof log, "%s/unit.log", s.little.folder);
    const char *const unit[] = {
        PYTHON, SOURCE_DIR "/tests/interop/uds_unit.py", s.second, "700", "708", flash, NULL};
    int pid = start_program(unit, log);
    if (!wait_for_text(log, "ready", 30)) {
        char *text = read_text(s.little.folder, "unit.log", &size);
        fail_msg("%s", text);
    }
    snprintf(line, sizeof line, BIN_DIR "/einbau fit unit-1 --yes --site %s --trace %s/uds.pcapng", s.site,
             s.little.folder);
    char *profile = read_text(s.little.folder, "unit.yaml", NULL);
    write_text(
        s.little.folder, "unit.yaml",
        "%snote-values: {setpoint: {did: 0x0200, as: number}}\ndiagnostics: {source: {dtc-mask: 0x08}}\n"
        "backups: {coding: {did: {first: 0x0400, count: 4, extended-session: yes, security: yes}}}\n"
        "settings: {title: {did: {first: 0x0400, extended-session: yes, security: yes}, kind: text}}\n",
        profile);
    free(profile);
    struct outcome o = shell("%s", line);
    if (o.status != 0 || strstr(o.out, "little bus: 1 confirmed") == NULL ||
        strstr(o.out, "setpoint                1480    0\n") == NULL ||
        strstr(o.out, "new in its diagnostics          9A0F00h\n") == NULL ||
        strstr(o.out, "C10050h") != NULL || strstr(o.out, "445566h") != NULL ||
        strstr(o.out, "coding put back and compared: as they were saved") == NULL)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    char *coding = read_text(s.little.folder, "flash.coding", NULL);
    assert_string_equal(coding, "morning: valley -6 dB, and twelve more\x01");
    free(coding);
    snprintf(line, sizeof line, BIN_DIR "/einbau settings unit-1 title=evening --yes --site %s", s.site);
    o = shell("%s", line);
    if (o.status != 0 || strstr(o.out, "->  evening  confirmed") == NULL)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    char *found = read_text(s.little.folder, "flash", &size);
    char *image = read_text(s.little.folder, "unit-2.0.bin", &image_size);
    assert_int_equal(size, image_size);
    assert_memory_equal(found, image, size);
    free(found);
    free(image);
    stop_program(pid, SIGKILL);
    end(&s);
}

/* What tshark reads in a field of the frames that a filter picks, in its order, without repetition. */
static void expect_fields(const char *trace, const char *options, const char *filter, const char *field,
                          const char *wanted)
{
    char line[2048];
    snprintf(line, sizeof line,
             "tshark -r %s %s -Y '%s' -T fields -e %s 2>/dev/null | awk '!seen[$0]++' | tr '\\n' ' '", trace,
             options, filter, field);
    struct outcome o = shell("%s", line);
    if (strcmp(o.out, wanted) != 0)
        fail_msg("%s of %s: found '%s', expected '%s'", field, filter, o.out, wanted);
    outcome_free(&o);
}

static void tshark_reads_traces_of_whole_jobs(void **state)
{
    (void)state;
    struct little l;
    char line[2048];
    char trace[PATH_BYTES + 32];
    if (!have_program("tshark")) {
        print_message("tshark is missing: skipped\n");
        skip();
    }
    const struct bus_options options = {.nodes = 1, .units = 1, .image_bytes = 900};
    bus_make(&l, &options);
    snprintf(trace, sizeof trace, "%s/job.pcapng", l.folder);
    snprintf(line, sizeof line,
             "cd %s && " BIN_DIR "/einbau fit --yes --site site.yaml --sim world.yaml --trace %s", l.folder,
             trace);
    expect(line, 0, "little bus: 2 confirmed");
    static const char both[] =
        "-o iso15765.can.ids:0x700,0x708 -d iso15765.subdissector,uds -d can.subdissector,canopen";
    expect_fields(trace, both, "_ws.malformed", "frame.number", "");
    /* block segments look like anything to a dissector that keeps no state: only the objects of what is not
     * one */
    expect_fields(trace, both,
                  "canopen.sdo.main_idx == 0x1f51 && canopen.sdo.sub_idx == 1 && canopen.sdo.ccs",
                  "canopen.sdo.ccs", "1 ");
    expect_fields(trace, both,
                  "canopen.sdo.ccs == 2 && canopen.sdo.main_idx >= 0x1000 && canopen.sdo.main_idx < 0x2000",
                  "canopen.sdo.main_idx", "0x1008 0x1018 0x1009 0x100a 0x1f56 0x1f81 0x1f57 ");
    expect_fields(trace, both, "canopen.nmt_guard.state", "canopen.nmt_guard.state", "0x00 ");
    expect_fields(trace, both, "uds.reply == 0", "uds.sid",
                  "0x22 0x10 0x85 0x28 0x27 0x2e 0x31 0x34 0x36 0x37 0x11 ");
    expect_fields(trace, both, "uds.td.block_sequence_counter && uds.reply == 0",
                  "uds.td.block_sequence_counter", "1 2 3 4 5 6 7 8 ");
    expect_fields(trace, both, "uds.reply == 1 && uds.sid == 0x37", "uds.sid", "0x37 ");
    expect_fields(trace, both, "frame", "frame.interface_name", "bus ");
    expect_fields(trace, both, "can", "can.len", "1 8 2 ");
    little_remove(&l);

    /* and of Ethernet, from the same file format: heads made by the trace around what sockets carry */
    const struct little_options ethernet = {.plcs = 1};
    little_make(&l, &ethernet);
    snprintf(trace, sizeof trace, "%s/job.pcapng", l.folder);
    snprintf(line, sizeof line,
             "cd %s && " BIN_DIR "/einbau fit --yes --site site.yaml --sim world.yaml --trace %s", l.folder,
             trace);
    expect(line, 0, "little: 1 confirmed");
    expect_fields(trace, "", "_ws.malformed || tcp.analysis.lost_segment || tcp.analysis.retransmission",
                  "frame.number", "");
    expect_fields(trace, "-o tcp.check_checksum:TRUE -o udp.check_checksum:TRUE -o ip.check_checksum:TRUE",
                  "tcp.checksum.status == 0 || udp.checksum.status == 0 || ip.checksum.status == 0",
                  "frame.number", "");
    expect_fields(trace, "", "tftp.opcode == 2", "tftp.destination_file", "fw.bin display.bin ");
    expect_fields(trace, "", "modbus.func_code", "modbus.func_code", "43 6 ");
    snprintf(line, sizeof line,
             "cd %s && " BIN_DIR "/einbau survey --site site.yaml --sim world.yaml --trace /nowhere/x",
             l.folder);
    struct outcome o = shell("%s", line);
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "/nowhere/x: the trace cannot be written there"));
    outcome_free(&o);
    little_remove(&l);
}

/* SocketCAN, where the kernel has it: frames of every kind to and from a socket of the test's own, the proof
 * that ours went out, and bursts longer than the queue. */
static void socketcan_carries_frames(void **state)
{
    (void)state;
    int fd = socket(PF_CAN, SOCK_RAW, CAN_RAW);
    if (fd < 0) {
        print_message("this kernel has no SocketCAN: the serial adapter's path was run instead\n");
        skip();
    }
    if (system("ip link add einbau0 type vcan 2>/dev/null && ip link set einbau0 up") != 0) {
        print_message("no vcan can be made here: skipped\n");
        skip();
    }
    const struct sockaddr_can address = {.can_family = AF_CAN, .can_ifindex = (int)if_nametoindex("einbau0")};
    assert_int_equal(bind(fd, (const struct sockaddr *)&address, sizeof address), 0);
    const struct eb_port *port = eb_port_linux_open();
    const struct eb_can_options all = {.link = "einbau0"};
    const struct eb_can_options one_id = {.link = "einbau0", .id = 0x123, .mask = 0x7FF};
    static const struct eb_can_frame frames[] = {
        {.id = 0x123, .size = 2, .data = {1, 2}},
        {.id = 0x1ABCDEF0, .flags = EB_CAN_EXTENDED, .size = 8, .data = {1, 2, 3, 4, 5, 6, 7, 8}},
        {.id = 0x70B, .flags = EB_CAN_REMOTE, .size = 1},
    };
    static const canid_t ids[] = {0x123, 0x1ABCDEF0 | CAN_EFF_FLAG, 0x70B | CAN_RTR_FLAG};
    struct eb_can_frame heard[8];
    struct can_frame raw;
    struct eb_can_state now;
    size_t count = 0;
    size_t total = 0;
    int one;
    int other;
    assert_int_equal(port->can->open(port->self, NULL, &all, &one), EB_OK);
    assert_int_equal(port->can->open(port->self, NULL, &one_id, &other), EB_OK);
    assert_int_equal(port->can->send(port->self, one, frames, 3), 3);
    for (int i = 0; i < 20 && port->can->sent(port->self, one) < 3; i++)
        eb_port_wait(port, eb_port_now_us(port) + 100000);
    assert_int_equal(port->can->sent(port->self, one), 3);
    assert_int_equal(port->can->receive(port->self, one, heard, 8, &count), EB_PENDING);
    for (size_t i = 0; i < 3; i++) {
        assert_int_equal(read(fd, &raw, sizeof raw), sizeof raw);
        assert_int_equal(raw.can_id, ids[i]);
        assert_int_equal(raw.can_dlc, frames[i].size);
        assert_memory_equal(raw.data, frames[i].data, 8);
        assert_int_equal(write(fd, &raw, sizeof raw), sizeof raw);
    }
    for (int i = 0; i < 20 && total < 3; i++) {
        eb_port_wait(port, eb_port_now_us(port) + 100000);
        if (port->can->receive(port->self, one, heard + total, 8 - total, &count) == EB_OK)
            total += count;
    }
    assert_int_equal(total, 3);
    for (size_t i = 0; i < 3; i++) {
        assert_int_equal(heard[i].id, frames[i].id);
        assert_int_equal(heard[i].flags, frames[i].flags);
    }
    assert_int_equal(port->can->receive(port->self, other, heard, 8, &count), EB_OK);
    assert_int_equal(count, 1); /* only what it asked for */
    struct eb_can_frame burst[200];
    uint64_t given = 0;
    for (size_t i = 0; i < 200; i++)
        burst[i] = frames[0];
    for (int i = 0; i < 200 && given < 200; i++) {
        given += port->can->send(port->self, one, burst + given, 200 - given);
        eb_port_wait(port, eb_port_now_us(port) + 100000);
    }
    for (int i = 0; i < 20 && port->can->sent(port->self, one) < 203; i++)
        eb_port_wait(port, eb_port_now_us(port) + 100000);
    assert_int_equal(port->can->sent(port->self, one), 203);
    port->can->state(port->self, one, &now);
    assert_int_equal(now.sent, 203);
    assert_int_equal(system("ip link set einbau0 down"), 0);
    for (int i = 0; i < 20 && port->can->receive(port->self, one, heard, 8, &count) != EB_UNREACHABLE; i++)
        eb_port_wait(port, eb_port_now_us(port) + 100000);
    assert_int_equal(port->can->receive(port->self, one, heard, 8, &count), EB_UNREACHABLE);
    port->can->close(port->self, one);
    port->can->close(port->self, other);
    eb_port_linux_close(port);
    close(fd);
    assert_int_equal(system("ip link del einbau0"), 0);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(python_can_reads_our_nodes),
        cmocka_unit_test(our_port_speaks_with_serial_adapters),
        cmocka_unit_test(the_examples_read_and_flash_one_node),
        cmocka_unit_test(jobs_over_an_adapter_end_in_order),
        cmocka_unit_test(adapters_that_are_none_are_told),
        cmocka_unit_test(scapys_control_unit_is_flashed),
        cmocka_unit_test(tshark_reads_traces_of_whole_jobs),
        cmocka_unit_test(socketcan_carries_frames),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
