/* A survey of simulated wires, quiet and bad ones. */
#include "survey_rig.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void everybody_is_found_and_is_one_row(void **state)
{
    (void)state;
    struct look *l = open_world("", LAPTOP, all_kinds);
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_int_equal(l->survey.count, 12);
    const struct eb_found *f = by_name(l, "several");
    assert_int_equal(f->heard & ~(1 << EB_BY_ARP), 1 << EB_BY_LLDP | 1 << EB_BY_DCP | 1 << EB_BY_CIP |
                                                       1 << EB_BY_DNS_SD | 1 << EB_BY_SNMP |
                                                       1 << EB_BY_MODBUS);
    assert_true(f->dhcp);
    assert_string_equal(eb_found_text(f, EB_FACT_SERIAL), "SN-several");
    assert_string_equal(eb_found_text(f, EB_FACT_ORDER_CODE), "BOX");
    assert_string_equal(eb_found_text(f, EB_FACT_VERSION), "1.24");
    assert_true(heard(by_name(l, "dcp"), EB_BY_DCP) && by_name(l, "dcp")->has_ip &&
                by_name(l, "dcp")->prefix == 24);
    assert_true(heard(by_name(l, "bare"), EB_BY_DCP) && !by_name(l, "bare")->has_ip);
    assert_true(heard(by_name(l, "snmp"), EB_BY_SNMP) && heard(by_name(l, "lldp"), EB_BY_LLDP));
    assert_non_null(by_name(l, "fw=1.24"));
    assert_true(by_name(l, "fw=1.24") == by_name(l, "sd"));
    assert_non_null(by_name(l, "maker 7, product 9"));
    assert_true(by_name(l, "far")->has_ip && !by_name(l, "far")->ours_to_ask);
    assert_true(by_name(l, "asks")->asks && by_name(l, "asks")->dhcp && !by_name(l, "asks")->bootp);
    assert_true(by_name(l, "boots")->asks && by_name(l, "boots")->bootp);
    assert_true(l->took_us < 5000000);
    assert_true(eb_survey_sent(&l->survey) < EB_SURVEY_FRAMES_PER_S * l->took_us / 1000000 + 32);
    print_message("12 devices in %.1f s with %llu frames\n", (double)l->took_us / 1e6,
                  (unsigned long long)eb_survey_sent(&l->survey));
    close_world(l);
}

static void without_the_right_to_frames_the_rest_is_found(void **state)
{
    (void)state;
    struct look *l =
        open_world("", "  eth0: {wire: lan, raw-frames: no, addresses: [192.0.2.100/24]}", all_kinds);
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_true(eb_survey_denied(&l->survey, 0));
    assert_null(by_name(l, "bare"));
    assert_null(by_name(l, "asks"));
    assert_true(heard(by_name(l, "several"), EB_BY_MODBUS) && heard(by_name(l, "several"), EB_BY_SNMP));
    assert_true(by_name(l, "several")->has_mac); /* the system knows it */
    assert_true(heard(by_name(l, "sd"), EB_BY_DNS_SD));
    assert_int_equal(l->survey.count, 9); /* mute and dcp answer to the system's ARP, far announces itself */
    close_world(l);
}

static void two_devices_with_one_address_are_told_apart(void **state)
{
    (void)state;
    struct look *l =
        open_world("", LAPTOP,
                   BOX("one", "    address: 192.0.2.1\n    speaks: [dcp]\n")
                       BOX("two", "    address: 192.0.2.1\n    shares-address: yes\n    speaks: [dcp]\n"));
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_int_equal(l->survey.count, 2);
    assert_true(l->found[0].shared_ip && l->found[1].shared_ip);
    close_world(l);
}

/* A device with two ports, each with an address of its own, is one device; two with the same numbers are not.
 */
static void what_belongs_together_is_joined_by_its_serial_number(void **state)
{
    (void)state;
    static const char ports[] =
        "  a:\n    wire: lan\n    serial: X-100\n    product: P\n    address: 192.0.2.1\n    mac: "
        "02:00:00:00:00:10\n"
        "    speaks: [lldp]\n" COMPONENTS "  b:\n    wire: lan\n    serial: X-100\n    product: P\n    "
        "address: 192.0.2.2\n    mac: 02:00:00:00:00:11\n"
        "    speaks: [lldp]\n" COMPONENTS "  c:\n    wire: lan\n    serial: X-100\n    product: P\n    "
        "address: 192.0.2.3\n    mac: 02:77:00:00:00:12\n"
        "    speaks: [lldp]\n" COMPONENTS;
    struct look *l = open_world("", LAPTOP, ports);
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_int_equal(l->survey.count, 2);
    assert_non_null(by_name(l, "192.0.2.2")); /* as one more address of the first */
    close_world(l);
}

/* --- bad wires ----------------------------------------------------------------------------------- */

/* Twenty devices that speak everything; gives how many of them were found whole in `runs` worlds. */
static size_t found_whole(const char *wire, int runs, size_t *rows, uint64_t *longest_us)
{
    size_t whole = 0;
    *rows = 0;
    *longest_us = 0;
    for (int run = 0; run < runs; run++) {
        char devices[16384] = "";
        for (int i = 1; i <= 20; i++)
            snprintf(devices + strlen(devices), sizeof devices - strlen(devices),
                     "  box-%d:\n    wire: lan\n    product: BOX\n    order-code: BOX\n    serial: SN-%d\n"
                     "    station-name: box-%d\n    address: 192.0.2.%d\n    speaks: [modbus, dcp, cip, "
                     "snmp, dns-sd]\n" COMPONENTS,
                     i, i, i, i);
        struct look *l = calloc(1, sizeof *l);
        struct eb_problem problem;
        char path[PATH_BYTES + 16];
        write_text(folder, "world.yaml",
                   "world: w\nseed: %d\nwires: {lan: {%s}}\nlaptop:\n" LAPTOP "\ndevices:\n%s", run + 1, wire,
                   devices);
        snprintf(path, sizeof path, "%s/world.yaml", folder);
        l->sim = eb_sim_open(path, NULL, &problem);
        if (l->sim == NULL)
            fail_msg("%s", problem.text);
        begin_look(l, eb_sim_port(l->sim), false);
        end_look(l);
        for (size_t i = 0; i < l->survey.count; i++) {
            const struct eb_found *f = &l->found[i];
            whole += f->has_mac && f->has_ip && heard(f, EB_BY_MODBUS) && heard(f, EB_BY_SNMP) &&
                     eb_found_text(f, EB_FACT_SERIAL)[0] != '\0';
        }
        *rows += l->survey.count;
        *longest_us = l->took_us > *longest_us ? l->took_us : *longest_us;
        close_world(l);
    }
    return whole;
}

static void a_segment_that_loses_every_fifth_frame(void **state)
{
    (void)state;
    size_t rows;
    uint64_t longest_us;
    size_t whole = found_whole("lost-ppm: 200000", 10, &rows, &longest_us);
    print_message("with 20 %% loss %zu of 200 devices found, %zu of them with all they say, at most %.1f s\n",
                  rows, whole, (double)longest_us / 1e6);
    assert_int_equal(rows, 200); /* each of them, and none twice */
    assert_true(whole >= 150);
    assert_true(longest_us <= 12000000);
}

static void a_segment_with_half_a_second_of_latency(void **state)
{
    (void)state;
    size_t rows;
    uint64_t longest_us;
    size_t whole = found_whole("latency-us: 500000", 2, &rows, &longest_us);
    print_message(
        "with 500 ms latency %zu of 40 devices found, %zu of them with all they say, at most %.1f s\n", rows,
        whole, (double)longest_us / 1e6);
    assert_int_equal(rows, 40);
    assert_int_equal(whole, 40);
}

static void a_garbled_and_doubled_segment_shows_nobody_twice(void **state)
{
    (void)state;
    size_t rows;
    uint64_t longest_us;
    found_whole("garbled-ppm: 100000, doubled-ppm: 200000, reordered-ppm: 200000", 5, &rows, &longest_us);
    assert_int_equal(rows, 100);
}

static void a_device_that_restarts_meanwhile_is_one_row(void **state)
{
    (void)state;
    for (uint64_t at_us = 0; at_us < 3000000; at_us += 130000) {
        struct look *l = open_world("", LAPTOP,
                                    BOX("box", "    address: 192.0.2.1\n    speaks: [modbus, dcp, snmp]\n    "
                                               "down-ms: 300\n    boot-ms: 400\n"));
        begin_look(l, eb_sim_port(l->sim), false);
        bool pulled = false;
        while (eb_survey_work(&l->survey, EB_NEVER)) {
            if (!pulled && eb_port_now_us(l->port) >= l->began_us + at_us) {
                eb_sim_power(l->sim, "box", false);
                eb_sim_power(l->sim, "box", true);
                pulled = true;
            }
        }
        eb_survey_end(&l->survey);
        assert_int_equal(l->survey.count, 1);
        assert_true(heard(&l->found[0], EB_BY_DCP));
        close_world(l);
    }
}

static void what_goes_and_what_comes_is_seen(void **state)
{
    (void)state;
    struct look *l = open_world(
        "", LAPTOP,
        BOX("stays", "    address: 192.0.2.1\n")
            BOX("leaves", "    address: 192.0.2.2\n    leaves-after-s: 8\n")
                BOX("comes", "    address: 192.0.2.3\n    speaks: [dcp]\n    arrives-after-s: 8\n"));
    begin_look(l, eb_sim_port(l->sim), true);
    while (eb_port_now_us(l->port) < l->began_us + 6000000)
        eb_survey_work(&l->survey, EB_NEVER);
    assert_int_equal(l->survey.count, 2);
    while (eb_port_now_us(l->port) < l->began_us + 40000000)
        eb_survey_work(&l->survey, EB_NEVER);
    uint64_t now_us = eb_port_now_us(l->port);
    assert_int_equal(l->survey.count, 3);
    assert_false(eb_found_gone(by_name(l, "comes"), now_us));
    unsigned gone = 0;
    for (size_t i = 0; i < 3; i++) {
        if (!eb_found_gone(&l->found[i], now_us))
            continue;
        gone++;
        assert_int_equal(l->found[i].ip[3], 2);
        assert_in_range(l->found[i].last_us - l->began_us, 4000000, 9000000); /* since when */
    }
    assert_int_equal(gone, 1);
    eb_survey_end(&l->survey);
    close_world(l);
}

/* docs/world.md: at a quality of 50 every tenth frame is lost. */
static void wireless_loses_by_its_quality(void **state)
{
    (void)state;
    static const unsigned qualities[] = {100, 50, 10};
    for (size_t i = 0; i < 3; i++) {
        char laptop[128];
        snprintf(laptop, sizeof laptop,
                 "  w: {kind: wireless, quality-percent: %u, wire: lan, addresses: [192.0.2.100/24]}",
                 qualities[i]);
        struct look *l =
            open_world("latency-us: 10", laptop, BOX("box", "    address: 192.0.2.1\n    speaks: [dcp]\n"));
        const struct eb_port *port = eb_sim_port(l->sim);
        uint8_t frame[EB_DCP_FRAME_BYTES];
        static const uint8_t mac[6] = {2, 0, 0, 0, 0, 9};
        unsigned answers = 0;
        int handle;
        assert_int_equal(port->frame->open(port->self, NULL, "w", &handle), EB_OK);
        for (uint32_t n = 0; n < 4000; n++) {
            size_t size = eb_dcp_identify(frame, mac, n, 1);
            /* The answer goes to the asker: the link's own address. */
            port->links->list(port->self, l->links, 4);
            memcpy(frame + 6, l->links[0].mac, 6);
            port->frame->send(port->self, handle, frame, size);
            eb_port_wait(port, eb_port_now_us(port) + 1000);
            answers += port->frame->receive(port->self, handle, frame, sizeof frame, &size) == EB_OK;
        }
        double there_and_back = (1 - (100 - qualities[i]) * 0.002) * (1 - (100 - qualities[i]) * 0.002);
        if (answers < 4000 * there_and_back - 120 || answers > 4000 * there_and_back + 120)
            fail_msg("quality %u: %u of 4000 answers", qualities[i], answers);
        close_world(l);
    }
}

static void a_large_subnet_is_not_swept(void **state)
{
    (void)state;
    struct look *l =
        open_world("", "  eth0: {wire: lan, addresses: [10.1.2.3/16]}",
                   BOX("dcp", "    address: 10.1.0.1\n    mask: 255.255.0.0\n    speaks: [dcp]\n"));
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_true(eb_survey_too_large(&l->survey, 0));
    assert_int_equal(l->survey.count, 1);
    assert_true(eb_survey_sent(&l->survey) < 50);
    close_world(l);
}

static void several_links_are_looked_at_together(void **state)
{
    (void)state;
    struct look *l = calloc(1, sizeof *l);
    struct eb_problem problem;
    char path[PATH_BYTES + 16];
    write_text(folder, "two.yaml",
               "world: w\nwires: {lan: {}, wan: {}}\nlaptop:\n  a: {wire: lan, addresses: [192.0.2.100/24]}\n"
               "  b: {wire: wan, addresses: [198.51.100.100/24]}\ndevices:\n"
               "  here:\n    wire: lan\n    address: 192.0.2.1\n    station-name: here\n    speaks: [dcp, "
               "snmp]\n" COMPONENTS "  there:\n    wire: wan\n    address: 198.51.100.1\n    station-name: "
               "there\n    speaks: [dcp, snmp]\n" COMPONENTS);
    snprintf(path, sizeof path, "%s/two.yaml", folder);
    l->sim = eb_sim_open(path, NULL, &problem);
    assert_non_null(l->sim);
    begin_look(l, eb_sim_port(l->sim), false);
    end_look(l);
    assert_int_equal(l->survey.count, 2);
    assert_int_equal(by_name(l, "here")->link, 0);
    assert_int_equal(by_name(l, "there")->link, 1);
    close_world(l);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(everybody_is_found_and_is_one_row),
        TEST(without_the_right_to_frames_the_rest_is_found),
        TEST(two_devices_with_one_address_are_told_apart),
        TEST(what_belongs_together_is_joined_by_its_serial_number),
        TEST(a_segment_that_loses_every_fifth_frame),
        TEST(a_segment_with_half_a_second_of_latency),
        TEST(a_garbled_and_doubled_segment_shows_nobody_twice),
        TEST(a_device_that_restarts_meanwhile_is_one_row),
        TEST(what_goes_and_what_comes_is_seen),
        TEST(wireless_loses_by_its_quality),
        TEST(a_large_subnet_is_not_swept),
        TEST(several_links_are_looked_at_together),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
