/* The commands that look at and change what is on the wire, as processes on simulated segments: survey,
 * --watch,
 * --into, links, blink, set. */
#include "support/support.h"

#include <jansson.h>
#include <pty.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static char folder[PATH_BYTES];

#define COMPONENTS                                                                                           \
    "    components: {firmware: {send-as: fw, checksum-object: 0x90, capacity-kib: 8, image: old.bin}}\n"
#define BOX(name, more)                                                                                      \
    "  " name                                                                                                \
    ":\n    wire: lan\n    product: Box\n    order-code: BOX\n    maker: Maker\n    hardware-revision: 1\n"  \
    "    serial: SN-" name "\n    station-name: " name "\n" more COMPONENTS
#define LAPTOP "laptop:\n  eth0: {wire: lan, addresses: [192.0.2.100/24]}\n"

static const char devices[] =
    BOX("plc", "    address: 192.0.2.1\n    mac: 02:00:00:00:00:01\n    speaks: [modbus, dcp]\n")
        BOX("io", "    address: 192.0.2.2\n    mac: 02:00:00:00:00:02\n    speaks: [modbus, cip, snmp]\n")
            BOX("valve",
                "    address: 192.0.2.3\n    mac: 02:00:00:00:00:03\n    by-dhcp: yes\n    speaks: [dcp]\n")
                BOX("bare", "    mac: 02:00:00:00:00:04\n    speaks: [dcp]\n");

static const char site[] = "site: boxes # of the test\nlinks:\n  lan: {kind: ethernet}\ndevices:\n\n"
                           "  plc:   # the first\n    link: lan\n    address: 192.0.2.1\n    profile: box\n"
                           "    wants:\n      firmware: {version: '1.24', image: old.bin}\n"
                           "# the end\n";

static const char identity[] =
    "order-codes: [BOX]\nidentity: {order-code: {modbus-object: 1}, serial: {modbus-object: 0x81}}\n"
    "components: {firmware: {order: decimal, version: {modbus-object: 2}}}\n";

static int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    write_image(folder, "old.bin", "BOX", "firmware", "1.24", 2000, "1", "");
    const char *const make[] = {"mkdir", folder, NULL};
    char path[PATH_BYTES + 16];
    snprintf(path, sizeof path, "%s/profiles", folder);
    const char *const profiles[] = {make[0], path, NULL};
    struct outcome o = run_program(profiles);
    outcome_free(&o);
    write_text(folder, "world.yaml", "world: w\nwires: {lan: {}}\n" LAPTOP "devices:\n%s", devices);
    write_text(folder, "site.yaml", "%s", site);
    write_text(folder, "profiles/box.yaml", "profile: box\nblink: dcp\n%s", identity);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static struct outcome einbau(const char *words)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line, "cd %s && exec " BIN_DIR "/einbau %s --sim world.yaml --state state", folder,
             words);
    const char *const shell[] = {"sh", "-c", line, NULL};
    return run_program(shell);
}

static void expect_in(const char *text, const char *expected)
{
    if (text == NULL || strstr(text, expected) == NULL)
        fail_msg("found:\n%s\nexpected in it: %s", text != NULL ? text : "nothing", expected);
}

static void expect(const char *words, int status, const char *out, const char *err)
{
    struct outcome o = einbau(words);
    if (o.status != status)
        fail_msg("einbau %s: found exit status %d, expected %d\n%s%s", words, o.status, status, o.out, o.err);
    expect_in(o.out, out);
    expect_in(o.err, err);
    outcome_free(&o);
}

/* Replaces the first `find` in a file. */
static void change(const char *file, const char *find, const char *put)
{
    char *text = read_text(folder, file, NULL);
    char *at = strstr(text, find);
    assert_non_null(at);
    if (at != NULL)
        *at = '\0';
    write_text(folder, file, "%s%s%s", text, put, at != NULL ? at + strlen(find) : "");
    free(text);
}

/* A world with other devices is another one. */
static void forget_world(void)
{
    char path[PATH_BYTES + 32];
    snprintf(path, sizeof path, "%s/state/world.state", folder);
    unlink(path);
}

/* --- survey -------------------------------------------------------------------------------------- */

static void without_a_site_everything_is_listed(void **state)
{
    (void)state;
    expect("survey", 0, "On eth0: 4 devices, looked for ", "");
    expect("survey", 0,
           "io     192.0.2.2  02:00:00:00:00:02  Box      BOX         1    SN-io          1.24     cip snmp "
           "modbus",
           "");
    expect("survey", 0, "bare   none       02:00:00:00:00:04", "");
    expect("survey", 0, "'einbau set 02:00:00:00:00:04 address=... mask=...' gives it one", "");
    expect("survey", 0, "'einbau set 02:00:00:00:00:03 dhcp=off' fixes it", "");
    struct outcome o = einbau("survey --json");
    json_t *root = json_loads(o.out, 0, NULL);
    assert_true(json_is_null(json_object_get(root, "site")));
    assert_int_equal(json_array_size(json_object_get(root, "found")), 4);
    assert_true(json_integer_value(json_object_get(root, "frames_sent")) > 500);
    json_decref(root);
    outcome_free(&o);
}

static void with_a_site_the_rest_is_listed_behind(void **state)
{
    (void)state;
    expect("survey --site site.yaml", 0, "boxes: 1 of 1 devices answered", "");
    expect("survey --site site.yaml", 0, "On eth0: 3 devices beside those of the site", "");
    change("site.yaml", "192.0.2.1", "192.0.2.99");
    change("site.yaml", "    profile", "    mac: 02:00:00:00:00:01\n    profile");
    expect("survey --site site.yaml", 3, "plc: found at 192.0.2.1, expected at 192.0.2.99 as the site says",
           "");
}

static void sources_that_disagree_are_shown(void **state)
{
    (void)state;
    change("profiles/box.yaml", "serial: {modbus-object: 0x81}",
           "serial: [{modbus-object: 0x81}, {snmp: 1.3.6.1.2.1.47.1.1.1.1.11.1}], maker: [{modbus-object: "
           "0}, {snmp: "
           "1.3.6.1.2.1.47.1.1.1.1.13.1}, {cip: name}]");
    change("site.yaml", "192.0.2.1", "192.0.2.2");
    expect("survey plc --site site.yaml", 0,
           "plc: its sources disagree on the maker: found Maker by Modbus/TCP and BOX by SNMP, expected the "
           "same; the "
           "first one counts",
           "");
    expect("show plc --site site.yaml", 0, "found Maker by Modbus/TCP and Box by EtherNet/IP", "");
    struct outcome o = einbau("survey plc --site site.yaml --json");
    json_t *root = json_loads(o.out, 0, NULL);
    const json_t *list =
        json_object_get(json_array_get(json_object_get(root, "devices"), 0), "disagreements");
    assert_int_equal(json_array_size(list), 2);
    assert_string_equal(json_string_value(json_object_get(json_array_get(list, 0), "other_text")), "BOX");
    json_decref(root);
    outcome_free(&o);
}

/* Every kind of source, alone. */
static void each_source_identifies(void **state)
{
    (void)state;
    static const struct {
        const char *address, *identity, *version;
    } rows[] = {
        {"192.0.2.1", "order-code: {dcp: type}", "dcp: vendor"},
        {"192.0.2.2", "order-code: {snmp: 1.3.6.1.2.1.47.1.1.1.1.13.1}", "snmp: 1.3.6.1.2.1.47.1.1.1.1.9.1"},
        {"192.0.2.2", "order-code: {cip: name}", "cip: revision"},
        {"192.0.2.5", "order-code: {dns-sd: code}", "dns-sd: firmware"},
    };
    static const char *const versions[] = {"77", "1.24", "1.24", "1.24"};
    write_text(folder, "world.yaml", "world: w\nwires: {lan: {}}\n" LAPTOP "devices:\n%s%s", devices,
               BOX("sd",
                   "    address: 192.0.2.5\n    speaks: [dns-sd]\n    dns-sd: {service: _box._tcp, text: "
                   "[code=BOX, \"firmware={firmware}\"]}\n"));
    change("world.yaml", "speaks: [modbus, dcp]", "vendor-id: 77\n    speaks: [dcp]");
    for (size_t i = 0; i < 4; i++) {
        write_text(folder, "profiles/box.yaml",
                   "profile: box\ndns-sd: {service: _box._tcp}\norder-codes: [BOX, Box]\nidentity: {%s}\n"
                   "components: {firmware: {order: decimal, version: {%s}}}\n",
                   rows[i].identity, rows[i].version);
        write_text(
            folder, "site.yaml",
            "site: s\nlinks: {lan: {kind: ethernet}}\ndevices:\n  one:\n    link: lan\n    address: %s\n"
            "    profile: box\n",
            rows[i].address);
        struct outcome o = einbau("survey one --site site.yaml --json");
        json_t *root = json_loads(o.out, 0, NULL);
        const json_t *device = json_array_get(json_object_get(root, "devices"), 0);
        const json_t *component = json_array_get(json_object_get(device, "components"), 0);
        const char *running = json_string_value(json_object_get(component, "running"));
        if (running == NULL || strcmp(running, versions[i]) != 0)
            fail_msg("%s: found %s\n%s", rows[i].version, running, o.out);
        json_decref(root);
        outcome_free(&o);
        if (i == 0) { /* without the right to frames there is no DCP, and that is said */
            change("world.yaml", "wire: lan, addresses", "wire: lan, raw-frames: no, addresses");
            expect("survey one --site site.yaml", 3, "one: PROFINET DCP: no permission", "");
            change("world.yaml", "raw-frames: no, ", "");
        }
    }
}

static void what_was_found_is_entered_and_nothing_else_is_touched(void **state)
{
    (void)state;
    expect("survey --into site.yaml", 0, "added: io, 192.0.2.2, profile box, serial number SN-io", "");
    char *text = read_text(folder, "site.yaml", NULL);
    static const char added[] = "  io:\n    link: lan\n    address: 192.0.2.2\n    mac: 02:00:00:00:00:02\n"
                                "    profile: box\n    serial: \"SN-io\"\n# the end\n";
    size_t head = strlen(site) - strlen("# the end\n");
    assert_memory_equal(text, site, head);
    assert_string_equal(text + head, added);
    free(text);
    expect("survey io --site site.yaml", 0, "SN-io", "");
    expect("survey --into site.yaml", 0, "0 devices added to site.yaml", "");
    /* Without a line end at its end, and with braces. */
    write_text(folder, "short.yaml",
               "site: s\nlinks: {lan: {kind: ethernet}}\ndevices:\n   plc: {link: lan, address: 192.0.2.1, "
               "profile: box}");
    expect("survey --into short.yaml", 0, "1 device added", "");
    text = read_text(folder, "short.yaml", NULL);
    expect_in(text, "profile: box}\n   io:\n      link: lan\n");
    free(text);
    write_text(folder, "flow.yaml",
               "site: s\nlinks: {lan: {kind: ethernet}}\ndevices: {plc: {link: lan, address: 192.0.2.1, "
               "profile: box}}\n");
    expect("survey --into flow.yaml", 2, "",
           "flow.yaml:3:10: found devices between braces, expected one below the other");
    expect("survey --into gone.yaml", 2, "", "gone.yaml: cannot be opened");
    write_text(folder, "none.yaml", "site: s\nlinks: {bus: {kind: can, bit-rate: 250000}}\ndevices: {}\n");
    expect("survey --into none.yaml", 0, "not added: 192.0.2.2 Box: the site has no link of kind ethernet",
           "");
    write_text(folder, "first.yaml",
               "site: s\nlinks: {bus: {kind: can, bit-rate: 250000}, lan: {kind: ethernet}}\ndevices: {}\n");
    expect("survey --into first.yaml", 0, "added: io, 192.0.2.2, profile box", "");
}

/* A profile may only know how to look. */
static void a_device_that_takes_no_images_is_in_no_plan(void **state)
{
    (void)state;
    write_image(folder, "new.bin", "BOX", "firmware", "1.3", 2000, "1", "");
    change("site.yaml", "'1.24', image: old.bin", "'1.3', image: new.bin");
    expect("survey plc --site site.yaml", 1, "outdated", "");
    expect("show plc --site site.yaml", 1, "firmware: outdated", "");
    expect("plan --site site.yaml", 1,
           "plc firmware: outdated; not in the plan: its profile has no way to send an image", "");
    expect("fit --yes --site site.yaml", 1, "its profile has no way to send an image", "");
    expect("fit plc --image new.bin --yes --site site.yaml", 2, "", "found no way to send an image");
}

/* --- links --------------------------------------------------------------------------------------- */

static void an_advised_address_is_free(void **state)
{
    (void)state;
    change("site.yaml", "192.0.2.1", "198.51.100.7");
    expect("links --site site.yaml", 1, "  sudo ip address add 198.51.100.192/24 dev eth0\n", "");
    /* Somebody has it whom the site does not know. */
    forget_world();
    change("world.yaml", "devices:\n",
           "devices:\n" BOX("squatter", "    address: 198.51.100.192\n    speaks: []\n"));
    expect("links --site site.yaml", 1, "  sudo ip address add 198.51.100.193/24 dev eth0\n", "");
    change("world.yaml", "{wire: lan, addresses", "{wire: lan, raw-frames: no, addresses");
    expect("links --site site.yaml", 1, "To reach them, once no other device is known to have the address",
           "");
    expect("links --site site.yaml", 1, "sudo setcap cap_net_raw+ep", "");
    expect("links --site site.yaml --add-address", 2, "",
           "198.51.100.192/24 cannot be added to eth0 without root or the capability cap_net_admin");
}

static void the_router_keeps_its_address(void **state)
{
    (void)state;
    change("world.yaml", "{wire: lan, addresses: [192.0.2.100/24]}",
           "{wire: lan, default-route: yes, router: 198.51.100.192, addresses: [192.0.2.100/24]}");
    change("site.yaml", "192.0.2.1", "198.51.100.7");
    expect("links --site site.yaml", 1, "  sudo ip address add 198.51.100.193/24 dev eth0\n", "");
}

static void two_devices_and_the_laptops_own_address(void **state)
{
    (void)state;
    change("world.yaml", "devices:\n", "devices:\n" BOX("twin", "    address: 192.0.2.1\n    speaks: []\n"));
    change("world.yaml", "address: 192.0.2.1\n    mac",
           "address: 192.0.2.1\n    shares-address: yes\n    mac");
    expect("links --site site.yaml", 1, "plc: two devices answer to this address: unplug one of them", "");
    expect("survey", 0, "another device answers to 192.0.2.1 too", "");
    change("world.yaml", "192.0.2.100/24", "192.0.2.3/24");
    expect("links --site site.yaml", 1,
           "eth0: the device 02:00:00:00:00:03 answers to the laptop's own address 192.0.2.3: give the "
           "laptop another one",
           "");
}

static void added_addresses_are_taken_back(void **state)
{
    (void)state;
    change("site.yaml", "192.0.2.1", "198.51.100.7");
    change("world.yaml", "devices:\n", "devices:\n" BOX("far", "    address: 198.51.100.7\n"));
    expect("survey plc --site site.yaml --add-address", 0, "boxes: 1 of 1 devices answered",
           "took 198.51.100.192/24 back from eth0");
    expect("links --site site.yaml", 1, "not in a subnet", "");
    expect("links --site site.yaml --add-address", 0, "in one subnet with eth0",
           "added 198.51.100.192/24 to eth0");
    expect("links --site site.yaml", 0, "192.0.2.100/24 198.51.100.192/24", "");
    expect("survey plc --site site.yaml", 0, "1 of 1 devices answered", "");
    expect("links --undo", 0, "1 address taken back", "took 198.51.100.192/24 back from eth0");
    expect("links --undo", 0, "0 addresses taken back", "");
    expect("links --site site.yaml", 1, "not in a subnet", "");
    write_text(folder, "state/addresses.json",
               "{\"added\": [7, {\"link\": \"eth0\"}, {\"link\": \"eth0\", \"address\": \"x/99\"}]}");
    expect("links --undo", 0, "0 addresses taken back", "");
}

/* --- blink --------------------------------------------------------------------------------------- */

static void each_way_to_blink(void **state)
{
    (void)state;
    static const char *const ways[] = {"dcp", "{coil: 16}", "{register: 0x1002, on: 1, off: 0}"};
    static const char *const words[] = {"PROFINET DCP", "a Modbus coil", "a Modbus register"};
    for (size_t i = 0; i < 3; i++) {
        char said[80];
        write_text(folder, "profiles/box.yaml", "profile: box\nblink: %s\n%s", ways[i], identity);
        snprintf(said, sizeof said, "plc shows itself by %s for 7 s\nplc: done\n", words[i]);
        expect("blink plc --site site.yaml --for 7", 0, said, "");
    }
    change("site.yaml", "192.0.2.1", "192.0.2.2");
    write_text(folder, "profiles/box.yaml", "profile: box\nblink: cip\n%s", identity);
    expect("blink plc --site site.yaml", 0, "plc shows itself by EtherNet/IP for 10 s\n", "");
    write_text(folder, "profiles/box.yaml", "profile: box\nblink: {register: 9}\n%s", identity);
    expect("blink plc --site site.yaml", 1, "",
           "plc: writing a register: refused by the device: illegal data address");
    write_text(folder, "profiles/box.yaml", "profile: box\n%s", identity);
    expect("blink plc --site site.yaml", 1, "", "found no key 'blink' in the profile box");
    expect("blink 192.0.2.2", 0, "192.0.2.2: done", "");
    expect("blink 02-00-00-00-00-04 --for 4", 0, "shows itself by PROFINET DCP for 4 s", "");
    expect("blink 192.0.2.77 --for 1", 3, "", "no answer");
    expect("blink plcx --site site.yaml", 2, "",
           "found 'plcx', expected a device of the site, a hardware address like");
    expect("blink 192.0.2.2 --for 0", 2, "", "--for: found '0', expected seconds from 1 to 3600");
    expect("blink 192.0.2.2 --link eth9", 2, "",
           "--link: found 'eth9', expected one of the laptop's Ethernet links");
    expect("blink 192.0.2.2 --json --for 1", 0, "\"blinked\": true", "");
}

/* The truth of it: the lamp itself. */
static void the_lamp_goes_on_and_off(void **state)
{
    (void)state;
    struct eb_problem problem;
    char path[PATH_BYTES + 16];
    snprintf(path, sizeof path, "%s/world.yaml", folder);
    struct eb_sim *sim = eb_sim_open(path, NULL, &problem);
    const struct eb_port *port = eb_sim_port(sim);
    struct eb_request request;
    struct eb_blink blink = {.by = &eb_access_modbus, .coil = true, .address = 16};
    struct eb_request_config config = {
        .port = port,
        .access = &eb_access_modbus,
        .operation = {.kind = EB_BLINK, .blink = &blink, .on = true},
        .target = {.modbus = {{192, 0, 2, 1}, EB_MODBUS_PORT}, .unit = EB_MODBUS_UNIT_SELF},
        .patience_us = 2000000};
    assert_int_equal(request_work(&request, &config), EB_OK);
    assert_true(eb_sim_lamp(sim, "plc"));
    config.operation.on = false;
    assert_int_equal(request_work(&request, &config), EB_OK);
    assert_false(eb_sim_lamp(sim, "plc"));
    config.access = &eb_access_dcp;
    unsigned before = eb_sim_blinks(sim, "plc");
    assert_int_equal(request_work(&request, &config), EB_OK);
    assert_int_equal(eb_sim_blinks(sim, "plc"), before + 1);
    assert_int_equal(eb_sim_blinks(sim, "valve") + eb_sim_blinks(sim, "bare"), 0); /* nobody else */
    config.access = &eb_access_modbus;
    blink.address = 17;
    assert_int_equal(request_work(&request, &config), EB_PEER_ERROR);
    assert_int_equal(request.contact.error.number, 2);
    config.target.modbus.ip[3] = 200;
    assert_int_equal(request_work(&request, &config), EB_NO_ANSWER);
    config.operation.kind = EB_SEND; /* not by this protocol */
    assert_int_equal(request_work(&request, &config), EB_BAD_CALL);
    assert_int_equal(eb_request_deadline_us(&request), EB_NEVER);
    eb_sim_close(sim);
}

/* --- set ----------------------------------------------------------------------------------------- */

static void names_and_addresses_are_set_for_good(void **state)
{
    (void)state;
    expect("set 02:00:00:00:00:04 name=pump-4.hall address=192.0.2.40 mask=255.255.255.0 router=192.0.2.254 "
           "--yes",
           0, "  name     bare -> pump-4.hall\n  address  0.0.0.0 -> 192.0.2.40\n", "");
    /* Another process, the same world: it was kept. */
    expect("survey", 0, "pump-4.hall  192.0.2.40", "");
    expect("set 192.0.2.3 dhcp=off --yes", 0, "dhcp     on -> off", "");
    expect("set 192.0.2.40 name= --yes", 0, "name     pump-4.hall -> none", "");
    expect("set 192.0.2.40 name=a --yes --json", 0, "\"outcome\": \"confirmed\"", "");
}

static void settings_by_registers(void **state)
{
    (void)state;
    static const char settings[] = "set:\n  name: {register: 0x1020, registers: 8}\n  address: "
                                   "{register: 0x1010}\n  mask: {register: 0x1012}\n"
                                   "  router: {register: 0x1014}\n  dhcp: {register: 0x1016}\n"
                                   "  take-up: [write-register: {address: 0x1000, value: 5}]\n";
    write_text(folder, "profiles/box.yaml", "profile: box\n%s%s", settings, identity);
    change("site.yaml", "192.0.2.1", "192.0.2.2");
    expect("set plc name=io-7 address=192.0.2.27 --site site.yaml --yes", 0,
           "plc: confirmed, as read back: io-7, 192.0.2.27\n", "");
    expect("set plc name=io-7 --site site.yaml --yes", 3, "",
           "plc: its settings cannot be read"); /* it has moved */
    change("site.yaml", "192.0.2.2", "192.0.2.27");
    expect("set plc name=a-name-of-17-chars --site site.yaml --yes", 1, "",
           "found a name of 18 characters, expected no more than its registers hold");
    expect("set plc dhcp=on --site site.yaml --yes", 0, "dhcp     off -> on", "");
    /* One that forgets to take it up is not called confirmed. */
    write_text(folder, "profiles/box.yaml", "profile: box\n%.*s%s",
               (int)(strstr(settings, "  take-up") - settings), settings, identity);
    expect("set plc name=other --site site.yaml --yes", 1, "", "plc: not confirmed: found the name 'io-7'");
}

static void wrong_settings_are_refused_before_anything_is_changed(void **state)
{
    (void)state;
    static const struct {
        const char *words;
        int status;
        const char *message;
    } rows[] = {
        {"name=Valve", 1, "the name 'Valve': a character other than a to z, 0 to 9, '-' and '.'"},
        {"name=port-001", 1, "like the name of a port"},
        {"name=192.0.2.5", 1, "like an IP address"},
        {"name=plc", 1, "found the name 'plc' at 02:00:00:00:00:01 already"},
        {"address=192.0.2.1", 1, "found 192.0.2.1 in use by 02:00:00:00:00:01, expected a free address"},
        {"address=192.0.2.100", 1, "found 192.0.2.100, which the laptop has itself"},
        {"address=192.0.2.255", 1, "the subnet's own or its broadcast address"},
        {"address=192.0.2.0", 1, "the subnet's own or its broadcast address"},
        {"address=192.0.2.50 mask=255.0.255.0", 1, "found the mask 255.0.255.0, expected ones, then zeros"},
        {"address=192.0.2.50 router=198.51.100.1", 1,
         "found the router 198.51.100.1 outside of the device's subnet"},
        {"address=192.0.2", 2, "found 'address=192.0.2', expected an IPv4 address"},
        {"colour=red", 2,
         "found 'colour=red', expected name=..., address=..., mask=..., router=..., dhcp=off or dhcp=on"},
        {"dhcp=maybe", 2, "found 'dhcp=maybe'"},
        {"dhcp=on", 1, "found dhcp=on, expected it only where the profile has a register for it"},
        {"", 2, "found nothing to set"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char words[160];
        snprintf(words, sizeof words, "set 02:00:00:00:00:03 %s --yes", rows[i].words);
        expect(words, rows[i].status, "", rows[i].message);
    }
    expect("set 02:00:00:00:00:04 mask=255.255.255.0 --yes", 1, "", "found no address, expected address=...");
    expect("set 02:00:00:00:00:03 address=198.51.100.9", 2, "",
           "198.51.100.9 is not in a subnet of the laptop");
    expect("set", 2, "", "found 0 device names, expected one");
    expect("survey", 0, "valve  192.0.2.3  02:00:00:00:00:03", "");
}

/* --- watch --------------------------------------------------------------------------------------- */

static double seconds(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

/* Reads the terminal until `text` was on it, at most `limit_s`; everything so far is in `screen`. */
static bool read_until(int fd, char *screen, size_t *have, size_t cap, const char *text, double limit_s)
{
    double end_s = seconds() + limit_s;
    while (seconds() < end_s) {
        fd_set set;
        struct timeval wait = {.tv_usec = 100000};
        FD_ZERO(&set);
        FD_SET(fd, &set);
        if (select(fd + 1, &set, NULL, NULL, &wait) > 0) {
            ssize_t n = read(fd, screen + *have, cap - 1 - *have);
            if (n <= 0)
                return strstr(screen, text) != NULL;
            *have += (size_t)n;
            screen[*have] = '\0';
        }
        if (strstr(screen, text) != NULL)
            return true;
    }
    return false;
}

static char screen[1 << 20];

/* Begins to watch on a terminal of its own; -1 where there is none to be had. */
static pid_t start_watch_in(const char *where, const char *named, const char *world, int *fd)
{
    struct winsize size = {.ws_row = 30, .ws_col = 120};
    pid_t pid = forkpty(fd, NULL, NULL, &size);
    screen[0] = '\0';
    if (pid != 0)
        return pid;
    setenv("TERM", "xterm", 1);
    if (named != NULL)
        setenv("EINBAU_SITE", named, 1);
    if (chdir(where) == 0)
        execl(BIN_DIR "/einbau", "einbau", "survey", "--watch", "--sim", world, (char *)NULL);
    _exit(127);
}

static pid_t start_watch(int *fd)
{
    return start_watch_in(folder, NULL, "world.yaml", fd);
}

static void expect_end(int fd, pid_t pid)
{
    int status;
    assert_int_equal(waitpid(pid, &status, 0), pid);
    close(fd);
    assert_true(WIFEXITED(status) && WEXITSTATUS(status) == 0);
}

static void watching_shows_who_has_gone(void **state)
{
    (void)state;
    size_t have = 0;
    int fd;
    change("world.yaml", "    by-dhcp: yes\n", "    leaves-after-s: 3\n");
    pid_t pid = start_watch(&fd);
    if (pid < 0) {
        print_message("there are no pseudo-terminals here: skipped\n");
        skip();
    }
    assert_true(read_until(fd, screen, &have, sizeof screen, "valve", 10));
    expect_in(screen, "\033[?1049h"); /* the terminal's own screen stays as it was */
    size_t drawn = have;
    read_until(fd, screen, &have, sizeof screen, "\001", 2);
    assert_true(have - drawn < 3000); /* two seconds of nothing new are a clock, not whole screens */
    assert_true(read_until(fd, screen, &have, sizeof screen, "gone since", 25));
    struct winsize tiny = {.ws_row = 4, .ws_col = 17};
    ioctl(fd, TIOCSWINSZ, &tiny);
    kill(pid, SIGWINCH);
    read_until(fd, screen, &have, sizeof screen, "\001", 1);
    assert_int_equal(write(fd, "q", 1), 1);
    assert_true(read_until(fd, screen, &have, sizeof screen, "4 devices seen", 5));
    expect_in(screen, "\033[?1049l");
    expect_end(fd, pid);
    /* Ctrl-C ends it as well, and gives the terminal back. */
    have = 0;
    pid = start_watch(&fd);
    assert_true(read_until(fd, screen, &have, sizeof screen, "valve", 10));
    assert_int_equal(write(fd, "\003", 1), 1);
    assert_true(read_until(fd, screen, &have, sizeof screen, "devices seen", 5));
    expect_in(screen, "\033[?1049l");
    expect_end(fd, pid);
}

/* With a site, nodes of its CAN buses and what is plugged in on USB as well; and who leaves there. */
static void watching_covers_all_wires(void **state)
{
    (void)state;
    char demo[PATH_BYTES];
    char where[PATH_BYTES + 16];
    size_t have = 0;
    int fd;
    make_demo(demo);
    snprintf(where, sizeof where, "%s/build/demo", demo);
    done(shell("cd %s && sed -i -e '/^  door-03:/a\\    leaves-after-s: 6' -e '/^  rope-gauge:/a\\    "
               "leaves-after-s: 9' larchfell.world.yaml",
               where));
    pid_t pid = start_watch_in(where, "larchfell.site.yaml", "larchfell.world.yaml", &fd);
    if (pid < 0) {
        print_message("there are no pseudo-terminals here: skipped\n");
        skip();
    }
    assert_true(read_until(fd, screen, &have, sizeof screen, "cabin-bus node 13", 15));
    expect_in(screen, "On eth0, cabin-bus, gate-bus, USB: ");
    expect_in(screen, "usb 1-2.3");
    expect_in(screen, "192.0.2.10");
    assert_true(read_until(fd, screen, &have, sizeof screen, ", 1 gone", 25) ||
                strstr(screen, "gone since") != NULL);
    for (int i = 0; i < 50; i++) { /* the other one, too */
        const char *first = strstr(screen, "gone since");
        if (first != NULL && strstr(first + 1, "gone since") != NULL)
            break;
        read_until(fd, screen, &have, sizeof screen, "\001", 0.5);
    }
    const char *first = strstr(screen, "gone since");
    assert_true(first != NULL && strstr(first + 1, "gone since") != NULL);
    assert_int_equal(write(fd, "q", 1), 1);
    assert_true(read_until(fd, screen, &have, sizeof screen, "devices seen", 5));
    expect_end(fd, pid);
    remove_folder(demo);
}

static void watching_needs_a_terminal_and_nothing_else(void **state)
{
    (void)state;
    expect("survey --watch", 2, "", "--watch: found no terminal, expected one");
    expect("survey --watch --json", 2, "", "--watch: found --json, expected one of them");
    expect("survey --into site.yaml plc", 2, "", "--into: found --watch or device names, expected neither");
    expect("survey --listen x", 2, "", "--listen: found 'x', expected seconds");
    expect("survey --link eth7", 2, "", "--link: found 'eth7', expected one of: eth0");
    change("world.yaml", "{wire: lan, addresses", "{wire: lan, carrier: no, addresses");
    expect("survey", 3, "No wired link has a carrier: check the cable", "");
}

/* --- wrong files --------------------------------------------------------------------------------- */

static void wrong_files_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *file, *find, *put, *message;
    } rows[] = {
        {"profiles/box.yaml", "{modbus-object: 1}", "{snmp: 1.x}",
         "found no object identifier, expected numbers between dots"},
        {"profiles/box.yaml", "{modbus-object: 1}", "{cip: colour}",
         "found 'colour', expected one of: vendor type product revision serial name"},
        {"profiles/box.yaml", "{modbus-object: 1}", "{dcp: address}",
         "found 'address', expected one of: name type vendor device"},
        {"profiles/box.yaml", "{modbus-object: 1}", "{after: x}",
         "found no source, expected modbus-object, modbus-register, snmp, cip, dns-sd, dcp, sdo, did, "
         "dtc-mask, usb, "
         "http, pull or stated"},
        {"profiles/box.yaml", "{modbus-object: 1}",
         "[{modbus-object: 1}, {modbus-object: 2}, {modbus-object: 3}, {modbus-object: 4}]",
         "found one source too many, expected at most 3"},
        {"profiles/box.yaml", "blink: dcp", "blink: lamp", "found 'lamp', expected one of: dcp cip"},
        {"profiles/box.yaml", "blink: dcp", "blink: {lamp: 1}",
         "found no way to blink, expected dcp, cip, {coil: ...} or"},
        {"profiles/box.yaml", "blink: dcp", "set: {address: {registers: 2}}",
         "found 'registers' and no 'register', expected the key 'register' here"},
        {"profiles/box.yaml", "blink: dcp", "tftp: {}", "found a component without the key 'send-as'"},
        {"site.yaml", "    profile", "    mac: 02:00\n    profile",
         "found '02:00', expected a hardware address like 02:00:5e:10:00:01"},
        {"world.yaml", "02:00:00:00:00:01", "ff:ff:ff:ff:ff:ff", "expected a hardware address like"},
        {"world.yaml", "[modbus, dcp]", "[modbus, smoke]",
         "found an unknown protocol, expected modbus, tftp, dcp"},
        {"world.yaml", "    by-dhcp", "    mask: 255.0.255.0\n    by-dhcp", "expected ones, then zeros"},
        {"world.yaml", "    by-dhcp", "    asks-for-address: often\n    by-dhcp",
         "found 'often', expected one of: no dhcp bootp"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        tear_down(NULL);
        set_up(NULL);
        change(rows[i].file, rows[i].find, rows[i].put);
        expect("survey --site site.yaml", 2, "", rows[i].message);
    }
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(without_a_site_everything_is_listed),
        TEST(with_a_site_the_rest_is_listed_behind),
        TEST(sources_that_disagree_are_shown),
        TEST(each_source_identifies),
        TEST(what_was_found_is_entered_and_nothing_else_is_touched),
        TEST(a_device_that_takes_no_images_is_in_no_plan),
        TEST(an_advised_address_is_free),
        TEST(the_router_keeps_its_address),
        TEST(two_devices_and_the_laptops_own_address),
        TEST(added_addresses_are_taken_back),
        TEST(each_way_to_blink),
        TEST(the_lamp_goes_on_and_off),
        TEST(names_and_addresses_are_set_for_good),
        TEST(settings_by_registers),
        TEST(wrong_settings_are_refused_before_anything_is_changed),
        TEST(watching_shows_who_has_gone),
        TEST(watching_covers_all_wires),
        TEST(watching_needs_a_terminal_and_nothing_else),
        TEST(wrong_files_are_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
