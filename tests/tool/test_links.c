/* The laptop's links and the advice on addresses: against Python's ipaddress, on simulated wires, and on real
 * ones. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define PYTHON "/usr/bin/python3"

static struct eb_link_address address_of(const char *text)
{
    struct eb_link_address address;
    struct eb_endpoint endpoint;
    char ip[32];
    const char *slash = strchr(text, '/');
    snprintf(ip, sizeof ip, "%.*s", (int)(slash - text), text);
    assert_true(eb_endpoint_parse(&endpoint, ip));
    memcpy(address.ip, endpoint.ip, 4);
    address.prefix = (uint8_t)strtoul(slash + 1, NULL, 10);
    return address;
}

/* Tries an advice: a world with the laptop's links as they were and the device at the other end of the
 * advised one. */
static bool reached_after(const char *folder, const struct eb_link *links, size_t count,
                          const struct eb_link_address *device, const struct eb_way *way)
{
    char laptop[1024] = "";
    uint32_t mask = device->prefix == 0 ? 0 : UINT32_MAX << (32 - device->prefix);
    struct eb_problem problem;
    char path[PATH_BYTES + 16];
    for (size_t i = 0; i < count; i++) {
        char addresses[256] = "";
        for (size_t k = 0; k < links[i].count; k++) {
            const struct eb_link_address *a = &links[i].addresses[k];
            snprintf(addresses + strlen(addresses), sizeof addresses - strlen(addresses), "%s%u.%u.%u.%u/%u",
                     k > 0 ? ", " : "", a->ip[0], a->ip[1], a->ip[2], a->ip[3], a->prefix);
        }
        snprintf(laptop + strlen(laptop), sizeof laptop - strlen(laptop),
                 "  l%zu: {kind: %s, wire: %s, carrier: %s, addresses: [%s]}\n", i,
                 eb_link_kind_word(links[i].kind), i == way->link ? "lan" : "other",
                 links[i].carrier ? "yes" : "no", addresses);
    }
    write_text(folder, "tried.yaml",
               "world: w\nwires: {lan: {}, other: {}}\nlaptop:\n%sdevices:\n  d:\n    wire: lan\n"
               "    address: %u.%u.%u.%u\n    mask: %u.%u.%u.%u\n    components: {f: {send-as: f, "
               "capacity-kib: 1}}\n",
               laptop, device->ip[0], device->ip[1], device->ip[2], device->ip[3], mask >> 24,
               mask >> 16 & 255, mask >> 8 & 255, mask & 255);
    snprintf(path, sizeof path, "%s/tried.yaml", folder);
    struct eb_sim *sim = eb_sim_open(path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    const struct eb_port *port = eb_sim_port(sim);
    struct eb_request request;
    uint16_t value;
    struct eb_request_config config = {
        .port = port,
        .access = &eb_access_modbus,
        .operation = {.kind = EB_GET, .address = 0x1001, .count = 1, .registers = &value},
        .target = {.modbus = {.port = EB_MODBUS_PORT}, .unit = EB_MODBUS_UNIT_SELF},
        .patience_us = 1000000};
    memcpy(config.target.modbus.ip, device->ip, 4);
    bool before = request_work(&request, &config) == EB_OK;
    char name[8];
    snprintf(name, sizeof name, "l%zu", way->link);
    assert_int_equal(port->links->add(port->self, name, &way->add), EB_OK);
    bool after = request_work(&request, &config) == EB_OK;
    eb_sim_close(sim);
    return after && !before;
}

/* --- the pure function --------------------------------------------------------------------------- */

static size_t read_case(char *line, struct eb_link_address *device, char **expected, struct eb_link *links,
                        char taken[256])
{
    size_t count = 0;
    char *rest;
    *device = address_of(strtok_r(line, " ", &rest));
    *expected = strtok_r(NULL, " ", &rest);
    taken[0] = '\0';
    for (char *name = strtok_r(NULL, " ", &rest); name != NULL; name = strtok_r(NULL, " ", &rest)) {
        const char *flags = strtok_r(NULL, " ", &rest);
        char *addresses = strtok_r(NULL, " ", &rest);
        char *more;
        links[count] = (struct eb_link){.kind = flags[0] == 'w' ? EB_LINK_WIRED : EB_LINK_WIRELESS,
                                        .up = strchr(flags, 'u') != NULL,
                                        .carrier = strchr(flags, 'c') != NULL,
                                        .default_route = strchr(flags, 'd') != NULL};
        for (char *a = strtok_r(addresses, ",", &more); a != NULL && a[0] != '-';
             a = strtok_r(NULL, ",", &more)) {
            links[count].addresses[links[count].count++] = address_of(a);
            snprintf(taken + strlen(taken), 256 - strlen(taken), "%.*s,", (int)strcspn(a, "/"), a);
        }
        count++;
    }
    return count;
}

static void ways_are_those_that_python_works_out(void **state)
{
    (void)state;
    const char *const make[] = {PYTHON, SOURCE_DIR "/tests/interop/ways.py", "make", "7", "800", NULL};
    struct outcome cases = run_program(make);
    unsigned kinds[4] = {0};
    unsigned tried = 0;
    char *rest;
    char folder[PATH_BYTES];
    char line_of_check[2 * PATH_BYTES];
    char *results;
    size_t size;
    assert_int_equal(cases.status, 0);
    FILE *file = open_memstream(&results, &size);
    make_folder(folder);
    for (char *line = strtok_r(cases.out, "\n", &rest); line != NULL; line = strtok_r(NULL, "\n", &rest)) {
        static const char *const words[] = {"direct", "routed", "add", "none"};
        struct eb_link links[4];
        struct eb_link_address device;
        char *expected;
        char taken[256];
        char found[16];
        char whole[512];
        snprintf(whole, sizeof whole, "%s", line);
        size_t count = read_case(line, &device, &expected, links, taken);
        struct eb_way way = eb_way_to(links, count, &device, NULL, 0);
        kinds[way.kind]++;
        if (way.kind == EB_WAY_DIRECT || way.kind == EB_WAY_ROUTED)
            snprintf(found, sizeof found, "%s%zu", words[way.kind], way.link);
        else
            snprintf(found, sizeof found, "%s", words[way.kind]);
        if (strcmp(found, expected) != 0)
            fail_msg("%s: found %s", whole, found);
        if (way.kind == EB_WAY_ADD && links[way.link].carrier) {
            if (!reached_after(folder, links, count, &device, &way))
                fail_msg("%s: the advice does not help", whole);
            tried++;
        }
        if (way.kind == EB_WAY_ADD)
            fprintf(file, "%u.%u.%u.%u/%u %u.%u.%u.%u/%u %s-\n", device.ip[0], device.ip[1], device.ip[2],
                    device.ip[3], device.prefix, way.add.ip[0], way.add.ip[1], way.add.ip[2], way.add.ip[3],
                    way.add.prefix, taken);
    }
    fclose(file);
    write_bytes(folder, "results", results, size);
    snprintf(line_of_check, sizeof line_of_check,
             PYTHON " " SOURCE_DIR "/tests/interop/ways.py check <%s/results", folder);
    const char *const check[] = {"sh", "-c", line_of_check, NULL};
    struct outcome verdict = run_program(check);
    if (verdict.status != 0)
        fail_msg("%s", verdict.err);
    print_message("%u direct, %u routed, %u to add, %u none; %u advices tried; %s", kinds[0], kinds[1],
                  kinds[2], kinds[3], tried, verdict.out);
    assert_true(tried > 100);
    for (int i = 0; i < 4; i++)
        assert_true(kinds[i] > 10);
    outcome_free(&cases);
    outcome_free(&verdict);
    free(results);
    remove_folder(folder);
}

static void masks_are_ones_and_then_zeros(void **state)
{
    (void)state;
    uint8_t prefix;
    assert_true(eb_mask_read((const uint8_t[]){255, 255, 255, 0}, &prefix));
    assert_int_equal(prefix, 24);
    assert_true(eb_mask_read((const uint8_t[]){255, 255, 255, 252}, &prefix));
    assert_int_equal(prefix, 30);
    assert_true(eb_mask_read((const uint8_t[]){0, 0, 0, 0}, &prefix));
    assert_int_equal(prefix, 0);
    assert_true(eb_mask_read((const uint8_t[]){255, 255, 255, 255}, &prefix));
    assert_int_equal(prefix, 32);
    assert_false(eb_mask_read((const uint8_t[]){255, 0, 255, 0}, &prefix));
    assert_false(eb_mask_read((const uint8_t[]){0, 255, 255, 255}, &prefix));
}

static void an_address_is_advised_until_none_is_left(void **state)
{
    (void)state;
    const struct eb_link_address device = {{192, 0, 2, 17}, 29}; /* six hosts: .17 to .22 */
    struct eb_link link = {.name = "eth0", .up = true, .carrier = true};
    uint8_t taken[6][4];
    size_t count = 0;
    struct eb_way way;
    while (way = eb_way_to(&link, 1, &device, (const uint8_t(*)[4])taken, count), way.kind == EB_WAY_ADD) {
        assert_in_range(way.add.ip[3], 18, 22);
        for (size_t i = 0; i < count; i++)
            assert_int_not_equal(taken[i][3], way.add.ip[3]);
        assert_true(count < 5);
        memcpy(taken[count++], way.add.ip, 4);
    }
    assert_int_equal(count, 4); /* the last host is left to a router */
    assert_int_equal(way.kind, EB_WAY_NONE);
}

/* --- on simulated wires -------------------------------------------------------------------------- */

/* The little world with a laptop as described. */
static void give_laptop(const char *links)
{
    char *world = read_text(shared.folder, "world.yaml", NULL);
    write_text(shared.folder, "with.yaml", "%slaptop:\n%s", world, links);
    free(world);
}

static struct outcome einbau(const char *words)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line, "cd %s && exec %s/einbau %s --site site.yaml --sim with.yaml", shared.folder,
             BIN_DIR, words);
    const char *const arguments[] = {"sh", "-c", line, NULL};
    return run_program(arguments);
}

static void expect(const char *words, int status, const char *part)
{
    struct outcome o = einbau(words);
    if (o.status != status || strstr(o.out, part) == NULL)
        fail_msg("einbau %s: found %d\n%s%s\nexpected %d: %s", words, o.status, o.out, o.err, status, part);
    outcome_free(&o);
}

static void the_advice_reaches_the_device(void **state)
{
    (void)state;
    static const char *const before[] = {"[]", "[198.51.100.7/24]", "[192.0.3.1/24]",
                                         "[10.0.0.1/8, 198.51.100.7/24]"};
    for (size_t i = 0; i < sizeof before / sizeof before[0]; i++) {
        char links[256];
        char after[64];
        snprintf(links, sizeof links, "  eth7: {wire: lan, addresses: %s}\n", before[i]);
        give_laptop(links);
        expect("survey", 3, "0 of 2 devices answered");
        struct outcome o = einbau("links --json");
        assert_int_equal(o.status, 1);
        json_t *root = json_loads(o.out, 0, NULL);
        const json_t *device = json_array_get(json_object_get(root, "devices"), 0);
        assert_string_equal(json_string_value(json_object_get(device, "way")), "add");
        assert_string_equal(json_string_value(json_object_get(device, "over")), "eth7");
        snprintf(after, sizeof after, "%s", json_string_value(json_object_get(device, "add")));
        json_decref(root);
        outcome_free(&o);
        snprintf(links, sizeof links, "  eth7: {wire: lan, addresses: [%s]}\n", after);
        give_laptop(links);
        expect("survey", 1, "2 of 2 devices answered");
        expect("links", 0, "in one subnet with eth7");
    }
}

static void traps_are_named(void **state)
{
    (void)state;
    static const struct {
        const char *links, *part;
    } rows[] = {
        {"  a: {wire: lan, addresses: [192.0.2.1/24]}\n", "plc-1: the laptop itself has this address"},
        {"  a: {wire: lan, addresses: [192.0.2.9/16]}\n", "plc-1: laptop and device have different masks"},
        {"  a: {wire: lan, addresses: [192.0.2.9/24]}\n  b: {addresses: [192.0.2.8/24]}\n",
         "plc-1: two links of the laptop are in this subnet"},
        {"  a: {wire: lan}\n  b: {addresses: [10.0.0.1/8]}\n  c: {addresses: [10.1.0.1/16]}\n",
         "b and c are in one subnet: take the address away"},
        {"  a: {wire: lan, kind: wireless, addresses: [192.0.2.9/24]}\n", "plc-1: the way is by radio"},
        {"  a: {wire: lan, carrier: no, addresses: [192.0.2.9/24]}\n",
         "plc-1: the link in this subnet has no carrier"},
        {"  a: {kind: wireless, default-route: yes, addresses: [198.51.100.3/24]}\n",
         "packets would leave by the default route of a"},
        {"  a: {kind: wireless, addresses: [198.51.100.3/24]}\n", "no link of the laptop can be used"},
        {"  a: {wire: lan}\n", "  sudo ip address add 192.0.2.192/24 dev a\n"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        give_laptop(rows[i].links);
        expect("links", 1, rows[i].part);
    }
    char *site = read_text(shared.folder, "site.yaml", NULL);
    char *at = strstr(site, "192.0.2.1\n");
    write_text(shared.folder, "site.yaml", "%.*s192.0.2.3\n    mask: 255.255.255.252%s", (int)(at - site),
               site, at + 9);
    free(site);
    give_laptop("  a: {wire: lan, addresses: [192.0.2.2/30]}\n");
    expect("links plc-1", 1, "plc-1: this is the address of the subnet itself or its broadcast address");
}

static void wrong_links_in_a_world_are_told(void **state)
{
    (void)state;
    static const char *const bad[] = {"192.0.2.1", "192.0.2.1/33", "192.0.2/24", "/24", "192.0.2.1/x"};
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        char links[128];
        snprintf(links, sizeof links, "  a: {addresses: [\"%s\"]}\n", bad[i]);
        give_laptop(links);
        struct outcome o = einbau("links");
        assert_int_equal(o.status, 2);
        assert_non_null(strstr(o.err, "expected at most 8 addresses with their prefix, like 192.0.2.100/24"));
        outcome_free(&o);
    }
    write_text(shared.folder, "with.yaml", "world: w\nwires: {}\ndevices: {}\n");
    struct outcome o = einbau("links");
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "found no key 'laptop'"));
    outcome_free(&o);
}

/* --- on a real laptop ---------------------------------------------------------------------------- */

static void real_links_are_listed(void **state)
{
    (void)state;
    char line[4 * PATH_BYTES];
    const char *const probe[] = {"unshare", "-n",   "ip",   "link", "add", "one",
                                 "type",    "veth", "peer", "name", "two", NULL};
    struct outcome may = run_program(probe);
    if (may.status != 0) {
        print_message("no network namespace with its own links can be made here: skipped\n");
        outcome_free(&may);
        skip();
    }
    outcome_free(&may);
    snprintf(
        line, sizeof line,
        "ip link add one type veth peer name two && ip link set one mtu 1400 up && ip link set two up && "
        "ip address add 192.0.2.77/24 dev one && ip route add default via 192.0.2.254 && "
        "exec %s/einbau links --site %s",
        BIN_DIR, shared.site_path);
    const char *const arguments[] = {"unshare", "-n", "sh", "-c", line, NULL};
    struct outcome o = run_program(arguments);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    assert_non_null(strstr(o.out, "one   wired     carrier  10000 Mbit/s  1400   192.0.2.77/24\n"));
    assert_non_null(strstr(o.out, "two   wired     carrier  10000 Mbit/s  1500\n"));
    assert_non_null(strstr(o.out, "plc-1      192.0.2.1/24  in one subnet with one\n"));
    outcome_free(&o);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(ways_are_those_that_python_works_out),
        cmocka_unit_test(masks_are_ones_and_then_zeros),
        cmocka_unit_test(an_address_is_advised_until_none_is_left),
        cmocka_unit_test_setup_teardown(the_advice_reaches_the_device, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(traps_are_named, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(wrong_links_in_a_world_are_told, set_up_shared, tear_down_shared),
        cmocka_unit_test_setup_teardown(real_links_are_listed, set_up_shared, tear_down_shared),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
