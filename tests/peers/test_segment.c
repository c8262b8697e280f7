/* Real Ethernet between two network namespaces: the laptop's end is Linux, the other end a whole segment of
 * simulated devices, or programs that nobody here wrote. */
#include "support/web.h"

#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define PYTHON "/usr/bin/python3"

static char folder[PATH_BYTES], lap[32], plant[32];
static bool made;
static int other; /* the program at the other end */

/* On the laptop. */
#define IN_LAP "cd %s && exec ip netns exec %s "

static struct outcome einbau(const char *words)
{
    return shell(IN_LAP BIN_DIR "/einbau %s", folder, lap, words);
}

/* Starts something at the other end of the cable, and waits until it says `ready`. */
static void start_other(const char *words, const char *ready)
{
    char line[4 * PATH_BYTES];
    char log[PATH_BYTES + 16];
    snprintf(line, sizeof line, "cd %s && exec ip netns exec %s %s", folder, plant, words);
    snprintf(log, sizeof log, "%s/other.log", folder);
    const char *const command[] = {"sh", "-c", line, NULL};
    other = start_program(command, log);
    if (ready != NULL && !wait_for_text(log, ready, 20)) {
        char *text = read_text(folder, "other.log", NULL);
        fail_msg("%s: %s", words, text);
    }
}

static int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    snprintf(lap, sizeof lap, "eb%dl", getpid());
    snprintf(plant, sizeof plant, "eb%dp", getpid());
    other = 0;
    struct outcome o =
        shell("ip netns add %s && ip netns add %s && "
              "ip -n %s link add plug type veth peer name socket netns %s && "
              "ip -n %s link set lo up && ip -n %s link set plug up && "
              "ip -n %s address add 10.77.0.1/24 dev plug && ip -n %s route add default dev plug && "
              "ip -n %s link set socket up && ip -n %s link set lo up",
              lap, plant, lap, plant, lap, lap, lap, lap, plant, plant);
    made = o.status == 0;
    outcome_free(&o);
    usleep(300000); /* the carrier */
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    if (other > 0)
        stop_program(other, SIGTERM);
    struct outcome o = shell("ip netns delete %s; ip netns delete %s", lap, plant);
    outcome_free(&o);
    remove_folder(folder);
    return 0;
}

static void need_wire(void)
{
    if (!made) {
        print_message("no network namespaces can be made here: skipped\n");
        skip();
    }
}

static void need(const char *program)
{
    need_wire();
    if (!have_program(program)) {
        print_message("%s is missing: skipped\n", program);
        skip();
    }
}

static void expect_in(const char *text, const char *expected)
{
    if (text == NULL || strstr(text, expected) == NULL)
        fail_msg("found:\n%s\nexpected in it: %s", text != NULL ? text : "nothing", expected);
}

/* --- a segment of simulated devices -------------------------------------------------------------- */

static const char *const speaks[] = {
    "modbus, tftp, dcp, lldp", "modbus, tftp, cip, snmp", "dns-sd", "dcp", "modbus, snmp, lldp", "modbus"};
enum { KINDS = 6 };

static void write_world(int count)
{
    char *text;
    size_t size;
    FILE *file = open_memstream(&text, &size);
    fputs("world: segment\nwires: {lan: {}}\ndevices:\n", file);
    for (int i = 0; i < count; i++)
        fprintf(file,
                "  dev-%03d:\n    wire: lan\n    address: 10.77.0.%d\n    mac: 02:00:5e:77:00:%02x\n    "
                "speaks: [%s]\n"
                "    station-name: dev-%03d\n    maker: Maker\n    product: Box\n    order-code: BOX\n"
                "    hardware-revision: 1\n    serial: SN-%04d\n    vendor-id: 77\n    product-id: 5\n"
                "    dns-sd: {service: _box._tcp, text: [\"firmware={firmware}\"]}\n"
                "    components: {firmware: {send-as: fw, capacity-kib: 8, image: old.bin}}\n",
                i, i + 20, i, speaks[i % KINDS], i, i);
    fclose(file);
    write_bytes(folder, "world.yaml", text, size);
    free(text);
    write_image(folder, "old.bin", "BOX", "firmware", "1.24", 2000, "1", "");
}

static void start_segment(int count)
{
    write_world(count);
    start_other(BIN_DIR "/einbau-sim world.yaml --on socket --state state", "ready: on socket");
}

static unsigned long sent_by_laptop(void)
{
    struct outcome o = shell("ip netns exec %s cat /sys/class/net/plug/statistics/tx_packets", lap);
    unsigned long sent = strtoul(o.out, NULL, 10);
    outcome_free(&o);
    return sent;
}

static double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static const char *text_at(const json_t *object, const char *key)
{
    const char *text = json_string_value(json_object_get(object, key));
    return text != NULL ? text : "";
}

static bool says(const json_t *found, const char *what, const char *text)
{
    const json_t *facts = json_object_get(found, "facts");
    for (size_t i = 0; i < json_array_size(facts); i++) {
        const json_t *fact = json_array_get(facts, i);
        if (strcmp(text_at(fact, "what"), what) == 0 && strcmp(text_at(fact, "text"), text) == 0)
            return true;
    }
    return false;
}

static const json_t *found_at(const json_t *root, const char *address)
{
    const json_t *found = json_object_get(root, "found");
    for (size_t i = 0; i < json_array_size(found); i++) {
        if (strcmp(text_at(json_array_get(found, i), "address"), address) == 0)
            return json_array_get(found, i);
    }
    return NULL;
}

static void two_hundred_devices_are_found_in_five_seconds(void **state)
{
    (void)state;
    need_wire();
    start_segment(200);
    unsigned long before = sent_by_laptop();
    double began_s = now_s();
    struct outcome o = einbau("survey --json");
    double took_s = now_s() - began_s;
    unsigned long sent = sent_by_laptop() - before;
    assert_int_equal(o.status, 0);
    json_t *root = json_loads(o.out, 0, NULL);
    assert_int_equal(json_array_size(json_object_get(root, "found")), 200);
    for (int i = 0; i < 200; i++) {
        char address[32];
        char mac[32];
        char name[32];
        snprintf(address, sizeof address, "10.77.0.%d", i + 20);
        snprintf(mac, sizeof mac, "02:00:5e:77:00:%02x", i);
        snprintf(name, sizeof name, "dev-%03d", i);
        const json_t *found = found_at(root, address);
        assert_string_equal(text_at(found, "mac"), mac);
        bool whole = i % KINDS == 5 ? says(found, "order code", "BOX") : says(found, "name", name);
        if (i % KINDS < 2 || i % KINDS == 4)
            whole = whole && says(found, "version", "1.24");
        if (!whole)
            fail_msg("%s: found %s", name, text_at(found, "heard_by"));
    }
    json_int_t told = json_integer_value(json_object_get(root, "frames_sent"));
    print_message("200 devices in %.1f s; %lu frames were sent, %lld told of\n", took_s, sent,
                  (long long)told);
    if (took_s > 5.0)
        print_message("longer than five seconds: this machine is busy\n");
    assert_in_range(sent, (unsigned long)told * 9 / 10, (unsigned long)told * 11 / 10);
    assert_true((double)sent < took_s * EB_SURVEY_FRAMES_PER_S);
    json_decref(root);
    outcome_free(&o);
}

static const char site[] = "site: segment\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
                           "  # the pump's PLC\n"
                           "  plc:\n    link: lan\n    address: 10.77.0.20\n    profile: box\n"
                           "  far:\n    link: lan\n    address: 10.99.0.5\n    profile: box\n";
static const char profile[] =
    "profile: box\norder-codes: [BOX]\nidentity: {order-code: {modbus-object: 1}, serial: "
    "{modbus-object: 0x81}}\ncomponents: {firmware: {order: decimal, version: "
    "{modbus-object: 2}}}\nblink: dcp\n";

static void write_site(void)
{
    struct outcome o = shell("mkdir -p %s/profiles", folder);
    outcome_free(&o);
    write_text(folder, "site.yaml", "%s", site);
    write_text(folder, "profiles/box.yaml", "%s", profile);
}

static void expect(const char *words, int status, const char *out, const char *err)
{
    struct outcome o = einbau(words);
    if (o.status != status)
        fail_msg("%s: found exit status %d, expected %d\n%s%s", words, o.status, status, o.out, o.err);
    expect_in(o.out, out);
    expect_in(o.err, err);
    outcome_free(&o);
}

static void links_probes_and_adds_addresses(void **state)
{
    (void)state;
    need_wire();
    start_segment(12);
    write_site();
    expect("links --site site.yaml", 1, "plc     10.77.0.20/24  in one subnet with plug", "");
    expect("links --site site.yaml", 1, "sudo ip address add 10.99.0.192/24 dev plug", "");
    expect("links --site site.yaml --add-address --state laptop", 0,
           "far     10.99.0.5/24   in one subnet with plug", "added 10.99.0.192/24 to plug");
    struct outcome o = shell("ip -n %s -o address show dev plug", lap);
    expect_in(o.out, "10.99.0.192/24 brd 10.99.0.255");
    outcome_free(&o);
    expect("links --undo --state laptop", 0, "1 address taken back", "took 10.99.0.192/24 back from plug");
    o = shell("ip -n %s -o address show dev plug", lap);
    assert_null(strstr(o.out, "10.99"));
    outcome_free(&o);
    /* For one command only; the device is not there, the address is gone afterwards. */
    expect("survey far --site site.yaml --add-address --state laptop", 3, "far",
           "took 10.99.0.192/24 back from plug");
    /* An address that one of the devices has, and one that somebody has whom the site does not know. */
    o = shell("ip -n %s address add 10.77.0.21/24 dev plug", lap);
    outcome_free(&o);
    expect("links", 1, "answers to the laptop's own address 10.77.0.21: give the laptop another one", "");
}

static void blinking_and_setting_over_a_real_link(void **state)
{
    (void)state;
    need_wire();
    start_segment(12);
    write_site();
    expect("blink plc --site site.yaml --for 1", 0, "plc: done", "");
    expect("blink 10.77.0.21 --for 1", 0, "shows itself by EtherNet/IP for 1 s", "");
    expect("blink 02:00:5e:77:00:03 --for 1", 0, "shows itself by PROFINET DCP for 1 s", "");
    expect("blink 02:00:5e:77:ff:ff --for 1", 3, "", "02:00:5e:77:ff:ff: PROFINET DCP: no answer");
    expect("set 02:00:5e:77:00:03 name=valve-7 address=10.77.0.200 --yes", 0,
           "02:00:5e:77:00:03: confirmed, as read back: valve-7, 10.77.0.200", "");
    expect("set 10.77.0.200 address=10.77.0.20 --yes", 1, "", "found 10.77.0.20 in use by 02:00:5e:77:00:00");
    expect("set 10.77.0.200 name=dev-000 --yes", 1, "",
           "found the name 'dev-000' at 02:00:5e:77:00:00 already");
    expect("set 10.77.0.200 address=10.77.0.1 --yes", 1, "", "found 10.77.0.1, which the laptop has itself");
    expect("set 10.77.0.200 name=valve-8", 2, "",
           "cannot ask for confirmation without a terminal; use --yes");
    struct outcome o = einbau("survey --json");
    json_t *root = json_loads(o.out, 0, NULL);
    assert_true(says(found_at(root, "10.77.0.200"), "name", "valve-7"));
    assert_null(found_at(root, "10.77.0.23"));
    json_decref(root);
    outcome_free(&o);
    /* Kept after a restart: the world remembers what was set for good. */
    assert_int_equal(stop_program(other, SIGTERM), 0);
    other = 0;
    char *remembered = read_text(folder, "state/world.state", NULL);
    expect_in(remembered, "\"settings\":{\"name\":\"valve-7\",\"address\":[10,77,0,200]");
    free(remembered);
}

/* A panel at the other end of a cable, and a person there who does what the job asks for. */
static void a_panel_pulls_its_image_over_the_cable(void **state)
{
    (void)state;
    struct little l;
    const struct panel_options options = {.person = "person: does-it, person-ms: 100"};
    need_wire();
    panel_make(&l, &options);
    struct outcome o =
        shell("cp -r %s/. %s && cd %s && mkfifo names && ip -n %s address add 192.0.2.200/24 dev plug",
              l.folder, folder, folder, lap);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    little_remove(&l);
    start_other("sh -c 'exec " BIN_DIR "/einbau-sim world.yaml --on socket --person <>names'", "ready");
    o = shell("cd %s && export EINBAU_STATE=state EINBAU_LOCKS=locks && mkdir -m 700 locks && "
              "{ ip netns exec %s " BIN_DIR
              "/einbau fit --yes --json --site site.yaml >out 2>events & job=$!; "
              "for step in SERVICE RUN; do for i in $(seq 200); do grep -q $step events && break; sleep 0.1; "
              "done; echo panel-1 >names; done; wait $job; status=$?; cat events out; exit $status; }",
              folder, lap);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    expect_in(o.out, "\"outcome\": \"confirmed\"");
    expect_in(o.out, "manual-step");
    outcome_free(&o);
}

static void found_devices_are_entered_into_the_site(void **state)
{
    (void)state;
    need_wire();
    start_segment(3);
    write_site();
    expect("survey --into site.yaml", 0, "added: dev-001, 10.77.0.21, profile box, serial number SN-0001",
           "");
    char *text = read_text(folder, "site.yaml", NULL);
    assert_memory_equal(text, site, strlen(site)); /* every character of it */
    assert_string_equal(text + strlen(site),
                        "  dev-001:\n    link: lan\n    address: 10.77.0.21\n    mac: "
                        "02:00:5e:77:00:01\n    profile: box\n    serial: \"SN-0001\"\n");
    free(text);
    expect("survey --into site.yaml", 0, "0 devices added", "");
    expect("survey dev-001 --site site.yaml", 0, "SN-0001", "");
}

static void without_a_right_it_says_how_to_give_it(void **state)
{
    (void)state;
    need("setpriv");
    start_segment(12);
    struct outcome o =
        shell(IN_LAP "setpriv --reuid=65534 --regid=65534 --clear-groups --bounding-set=-all "
                     "--inh-caps=-all env XDG_CONFIG_HOME=/nonexistent " BIN_DIR "/einbau survey",
              "/", lap);
    if (o.status == 127) {
        outcome_free(&o);
        skip();
    }
    assert_int_equal(o.status, 0);
    expect_in(o.out, "sudo setcap cap_net_raw+ep");
    expect_in(o.out, "On plug: 12 devices"); /* the system's ARP finds them all */
    assert_null(strstr(o.out, "dev-003"));   /* but not what DCP would have told */
    outcome_free(&o);
}

static void a_cable_without_carrier_is_told(void **state)
{
    (void)state;
    need_wire();
    struct outcome o = shell("ip -n %s link set socket down; sleep 2", plant);
    outcome_free(&o);
    expect("survey", 3, "No wired link has a carrier: check the cable", "");
    expect("survey --link plug0", 2, "", "--link: found 'plug0', expected one of: lo, plug");
}

/* --- programs that nobody here wrote look at our devices ----------------------------------------- */

static void scapy_reads_and_sets_a_device(void **state)
{
    (void)state;
    need_wire();
    start_segment(4);
    struct outcome o =
        shell(IN_LAP PYTHON " " SOURCE_DIR
                            "/tests/interop/dcp_client.py plug 02:00:5e:77:00:03 valve-7 10.77.0.240",
              folder, lap);
    if (strcmp(o.out, "identified dev-003 10.77.0.23\nset 0\nset 0\nidentified valve-7 10.77.0.240\n") != 0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
}

static void an_ethernet_ip_client_lists_and_reads_a_device(void **state)
{
    (void)state;
    need("node");
    if (access(SOURCE_DIR "/build-unpacked/npm/node_modules", R_OK) != 0) {
        print_message("the client could not be installed: skipped\n");
        skip();
    }
    start_segment(8);
    struct outcome o = shell("export NODE_PATH=" SOURCE_DIR "/build-unpacked/npm/node_modules; " IN_LAP
                             "node " SOURCE_DIR "/tests/interop/cip_client.js 10.77.0.27",
                             folder, lap);
    if (strcmp(
            o.out,
            "listed 10.77.0.21 Box 77 5 1.24 3\nlisted 10.77.0.27 Box 77 5 1.24 3\nread 0 77 5 1.24 Box\n") !=
        0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
}

static void avahi_lists_our_devices(void **state)
{
    (void)state;
    need("avahi-daemon");
    need("dbus-daemon");
    start_segment(9);
    write_text(folder, "avahi.conf",
               "[server]\nhost-name=laptop\nallow-interfaces=plug\nuse-ipv6=no\nenable-dbus=yes\n[wide-area]"
               "\n[publish]\n"
               "[reflector]\n[rlimits]\n");
    struct outcome o = shell(
        IN_LAP
        "dbus-run-session -- sh -c '"
        "export DBUS_SYSTEM_BUS_ADDRESS=$DBUS_SESSION_BUS_ADDRESS; "
        "mkdir -p /run/avahi-daemon; unshare -m sh -c \""
        "mount -t tmpfs none /run/avahi-daemon; exec avahi-daemon --no-drop-root --no-chroot -f avahi.conf\" "
        ">avahi.log 2>&1 & "
        "for i in 1 2 3 4 5 6 7 8; do sleep 1; timeout 4 avahi-browse -rtp _box._tcp >browse.log 2>&1 && "
        "grep -q ^= browse.log && break; done; cat browse.log; kill %%1'",
        folder, lap);
    expect_in(o.out, "=;plug;IPv4;dev-002;_box._tcp;local;dev-002.local;10.77.0.22;80;\"firmware=1.24\"");
    expect_in(o.out, "=;plug;IPv4;dev-008;_box._tcp;local;dev-008.local;10.77.0.28;80;\"firmware=1.24\"");
    outcome_free(&o);
}

static void a_dissector_reads_a_survey(void **state)
{
    (void)state;
    need("tshark");
    start_segment(24);
    write_site();
    struct outcome o = shell(
        "cd %s && (ip netns exec %s tshark -q -a duration:60 -i plug -w survey.pcapng >tshark.log 2>&1 & "
        "capture=$!; "
        "for i in $(seq 100); do grep -q Capturing tshark.log && break; sleep 0.1; done; sleep 1; "
        "ip netns exec %s " BIN_DIR "/einbau survey >/dev/null; ip netns exec %s " BIN_DIR
        "/einbau set 02:00:5e:77:00:03 name=valve --yes >/dev/null; ip netns exec %s " BIN_DIR
        "/einbau blink 10.77.0.21 --for 1 >/dev/null; sleep 1; kill -INT $capture; wait $capture); true",
        folder, lap, lap, lap, lap);
    outcome_free(&o);
    static const struct {
        const char *filter;
        int least, most;
    } rows[] = {
        {"_ws.malformed", 0, 0},
        {"pn_dcp.service_type == 1 && pn_dcp.service_id == 5", 8,
         60}, /* of eight stations, to two greetings */
        {"pn_dcp.service_id == 4 && pn_dcp.service_type == 1", 1, 4},
        {"enip.command == 0x63 && enip.lir.name == \"Box\"", 4, 16},
        {"cip.service == 0xcb || cip.service == 0x4b", 2, 4},
        {"mdns && dns.flags.response == 1 && dns.txt contains \"firmware=1.24\"", 4, 40},
        {"snmp.name == 1.3.6.1.2.1.47.1.1.1.1.11.1", 8, 40},
        {"modbus.func_code == 43 && modbus.object_str_value == \"BOX\"", 16, 40},
        {"lldp.media.serial || lldp.media.sn", 0, 40},
        {"arp.opcode == 2", 24, 400},
        {"ip.checksum.status == 0 || (udp.checksum.status == 0 && eth.src[0:3] == 02:00:5e)", 0, 0},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        o = shell(
            "cd %s && tshark -r survey.pcapng -o ip.check_checksum:TRUE -o udp.check_checksum:TRUE -Y '%s' "
            "2>/dev/null | wc -l",
            folder, rows[i].filter);
        long count = strtol(o.out, NULL, 10);
        if (count < rows[i].least || count > rows[i].most)
            fail_msg("%s: found %ld packets, expected %d to %d", rows[i].filter, count, rows[i].least,
                     rows[i].most);
        outcome_free(&o);
    }
}

/* --- we look at programs that nobody here wrote -------------------------------------------------- */

/* The other end becomes a host of the subnet. */
static void make_host(void)
{
    struct outcome o = shell("ip -n %s address add 10.77.0.9/24 dev socket", plant);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

static json_t *survey_host(const char *words)
{
    char line[64];
    snprintf(line, sizeof line, "survey --json %s", words);
    struct outcome o = einbau(line);
    json_t *root = json_loads(o.out, 0, NULL);
    if (root == NULL)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    return root;
}

static void expect_fact(const json_t *root, const char *what, const char *text)
{
    if (!says(found_at(root, "10.77.0.9"), what, text)) {
        char *found = json_dumps(root, JSON_INDENT(1));
        fail_msg("found %s, expected %s: %s", found, what, text);
    }
}

static void a_host_announced_by_zeroconf_is_found(void **state)
{
    (void)state;
    need_wire();
    make_host();
    start_other(PYTHON " " SOURCE_DIR "/tests/interop/announce.py 10.77.0.9", "announced");
    json_t *root = survey_host("");
    expect_fact(root, "name", "pa one");
    expect_fact(root, "service", "_announce._tcp.local");
    expect_fact(root, "text", "firmware=3.10");
    json_decref(root);
}

static void a_host_announced_by_lldpd_is_found_with_its_inventory(void **state)
{
    (void)state;
    need("lldpd");
    make_host();
    write_text(folder, "lldpd.conf",
               "configure lldp tx-interval 1\nconfigure system hostname panel-9\n"
               "configure inventory hardware-revision C\nconfigure inventory firmware-revision 2.18\n"
               "configure inventory serial-number T07-9\nconfigure inventory manufacturer Hestrand\n"
               "configure inventory model Tafel-7\n");
    struct outcome o = shell("mkdir -p /run/lldpd; cp %s/lldpd.conf /run/lldpd/einbau.conf", folder);
    outcome_free(&o);
    start_other("lldpd -d -M 1 -I socket -u /run/lldpd/einbau.socket -O /run/lldpd/einbau.conf", NULL);
    sleep(3);
    json_t *root = survey_host("--listen 4");
    expect_fact(root, "name", "panel-9");
    expect_fact(root, "hardware revision", "C");
    expect_fact(root, "version", "2.18");
    expect_fact(root, "serial number", "T07-9");
    expect_fact(root, "maker", "Hestrand");
    expect_fact(root, "product", "Tafel-7");
    json_decref(root);
}

static void a_host_that_answers_snmp_is_found(void **state)
{
    (void)state;
    need("snmpd");
    make_host();
    write_text(folder, "snmpd.conf",
               "agentaddress udp:10.77.0.9:161\nrocommunity public\nsysName io-9\nsysDescr a coupler\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.5.1 integer 3\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.8.1 octet_str 3\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.9.1 octet_str 1.24\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.11.1 octet_str K8E-9\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.12.1 octet_str Brindlow\n"
               "override 1.3.6.1.2.1.47.1.1.1.1.13.1 octet_str K8\n");
    start_other("env SNMP_PERSISTENT_DIR=. snmpd -f -Lo -C -c snmpd.conf -p snmpd.pid", "NET-SNMP");
    json_t *root = survey_host("");
    expect_fact(root, "name", "io-9");
    expect_fact(root, "description", "a coupler");
    expect_fact(root, "serial number", "K8E-9");
    expect_fact(root, "version", "1.24");
    expect_fact(root, "hardware revision", "3");
    expect_fact(root, "maker", "Brindlow");
    expect_fact(root, "product", "K8");
    json_decref(root);
}

static void a_host_that_answers_modbus_is_found(void **state)
{
    (void)state;
    need_wire();
    make_host();
    start_other(PYTHON " " SOURCE_DIR "/tests/interop/modbus_host.py 10.77.0.9", "listening");
    json_t *root = survey_host("");
    expect_fact(root, "maker", "Quellmar");
    expect_fact(root, "order code", "QM-RC4-24D");
    expect_fact(root, "version", "4.1.9");
    expect_fact(root, "product", "Regent C4");
    json_decref(root);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(two_hundred_devices_are_found_in_five_seconds),
        TEST(links_probes_and_adds_addresses),
        TEST(blinking_and_setting_over_a_real_link),
        TEST(found_devices_are_entered_into_the_site),
        TEST(a_panel_pulls_its_image_over_the_cable),
        TEST(without_a_right_it_says_how_to_give_it),
        TEST(a_cable_without_carrier_is_told),
        TEST(scapy_reads_and_sets_a_device),
        TEST(an_ethernet_ip_client_lists_and_reads_a_device),
        TEST(avahi_lists_our_devices),
        TEST(a_dissector_reads_a_survey),
        TEST(a_host_announced_by_zeroconf_is_found),
        TEST(a_host_announced_by_lldpd_is_found_with_its_inventory),
        TEST(a_host_that_answers_snmp_is_found),
        TEST(a_host_that_answers_modbus_is_found),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
