/* A survey of simulated wires, quiet and bad ones, and of a network that means harm. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { ROWS = 64, PROBES = 16 };

static char folder[PATH_BYTES];

static int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    write_image(folder, "old.bin", "BOX", "firmware", "1.24", 2000, "1", "");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* --- one survey ---------------------------------------------------------------------------------- */

struct look {
    struct eb_sim *sim;
    const struct eb_port *port;
    struct eb_link links[4];
    size_t link_count;
    struct eb_survey survey;
    struct eb_found found[ROWS];
    struct eb_survey_probe probes[PROBES];
    uint64_t began_us, took_us;
};

static void begin_look(struct look *l, const struct eb_port *port, bool keep_on)
{
    l->port = port;
    l->link_count = port->links(port->self, l->links, 4);
    const struct eb_survey_config config = {.port = port,
                                            .links = l->links,
                                            .link_count = l->link_count,
                                            .found = l->found,
                                            .cap = ROWS,
                                            .probes = l->probes,
                                            .probe_count = PROBES,
                                            .keep_on = keep_on};
    l->began_us = port->now_us(port->self);
    eb_survey_begin(&l->survey, &config);
}

static void end_look(struct look *l)
{
    while (eb_survey_work(&l->survey, EB_NEVER))
        ;
    l->took_us = l->port->now_us(l->port->self) - l->began_us;
    eb_survey_end(&l->survey);
}

/* `wire`, `laptop` and `devices` are YAML. */
static struct look *open_world(const char *wire, const char *laptop, const char *devices)
{
    struct look *l = calloc(1, sizeof *l);
    struct eb_problem problem;
    char path[PATH_BYTES + 16];
    assert_non_null(l);
    write_text(folder, "world.yaml", "world: w\nwires: {lan: {%s}}\nlaptop:\n%s\ndevices:\n%s", wire, laptop,
               devices);
    snprintf(path, sizeof path, "%s/world.yaml", folder);
    l->sim = eb_sim_open(path, NULL, &problem);
    if (l->sim == NULL)
        fail_msg("%s", problem.text);
    return l;
}

static void close_world(struct look *l)
{
    eb_sim_close(l->sim);
    free(l);
}

static const struct eb_found *by_name(const struct look *l, const char *name)
{
    for (size_t i = 0; i < l->survey.count; i++) {
        for (size_t k = 0; k < l->found[i].count; k++) {
            if (strcmp(l->found[i].facts[k].text, name) == 0)
                return &l->found[i];
        }
    }
    return NULL;
}

static bool heard(const struct eb_found *f, enum eb_protocol by)
{
    return f != NULL && (f->heard >> by & 1) != 0;
}

#define LAPTOP "  eth0: {wire: lan, addresses: [192.0.2.100/24]}"
#define COMPONENTS                                                                                           \
    "    components: {firmware: {send-as: fw, checksum-object: 0x90, capacity-kib: 8, image: old.bin}}\n"
#define BOX(name, more)                                                                                      \
    "  " name                                                                                                \
    ":\n    wire: lan\n    product: BOX\n    order-code: BOX\n    maker: Maker\n    hardware-revision: 1\n"  \
    "    serial: SN-" name "\n    station-name: " name "\n" more COMPONENTS

static const char all_kinds[] = BOX("modbus", "    address: 192.0.2.1\n")
    BOX("dcp", "    address: 192.0.2.2\n    speaks: [dcp]\n    vendor-id: 7\n    product-id: 9\n")
        BOX("bare",
            "    speaks: [dcp]\n") BOX("cip", "    address: 192.0.2.3\n    speaks: [cip]\n    vendor-id: 7\n")
            BOX("snmp", "    address: 192.0.2.4\n    speaks: [snmp]\n")
                BOX("sd", "    address: 192.0.2.5\n    speaks: [dns-sd]\n    dns-sd: {service: _box._tcp, "
                          "text: [\"fw={firmware}\"]}\n")
                    BOX("lldp", "    address: 192.0.2.6\n    speaks: [lldp]\n")
                        BOX("far", "    address: 198.51.100.7\n    speaks: [dns-sd, lldp]\n")
                            BOX("asks", "    asks-for-address: dhcp\n    speaks: []\n")
                                BOX("boots", "    asks-for-address: bootp\n    speaks: []\n")
                                    BOX("mute", "    address: 192.0.2.8\n    speaks: []\n")
                                        BOX("several", "    address: 192.0.2.9\n    speaks: [modbus, dcp, "
                                                       "cip, snmp, dns-sd, lldp]\n    by-dhcp: yes\n");

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
            if (!pulled && l->port->now_us(l->port->self) >= l->began_us + at_us) {
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
    while (l->port->now_us(l->port->self) < l->began_us + 6000000)
        eb_survey_work(&l->survey, EB_NEVER);
    assert_int_equal(l->survey.count, 2);
    while (l->port->now_us(l->port->self) < l->began_us + 40000000)
        eb_survey_work(&l->survey, EB_NEVER);
    uint64_t now_us = l->port->now_us(l->port->self);
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
        void *owners[4];
        assert_int_equal(port->frame_open(port->self, l, "w", &handle), EB_OK);
        for (uint32_t n = 0; n < 4000; n++) {
            size_t size = eb_dcp_identify(frame, mac, n, 1);
            /* The answer goes to the asker: the link's own address. */
            port->links(port->self, l->links, 4);
            memcpy(frame + 6, l->links[0].mac, 6);
            port->frame_send(port->self, handle, frame, size);
            port->wait(port->self, port->now_us(port->self) + 1000, owners, 4);
            answers += port->frame_receive(port->self, handle, frame, sizeof frame, &size) == EB_OK;
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

/* --- harm: a port that brings whatever the test likes -------------------------------------------- */

struct stub {
    struct eb_port port;
    uint64_t now_us;
    uint64_t frames_sent, busiest; /* in one second */
    uint64_t second, sent_in_second;
    size_t (*bring)(struct stub *stub, uint8_t *bytes); /* one frame or datagram, 0: none */
    size_t left;                                        /* how many it still brings */
    uint32_t random;
    bool as_datagram;
    bool wide; /* the laptop is in three subnets of a thousand hosts each */
    uint16_t from_port;
};

static uint32_t stub_random(struct stub *s)
{
    s->random ^= s->random << 13;
    s->random ^= s->random >> 17;
    s->random ^= s->random << 5;
    return s->random;
}

static uint64_t stub_now(void *self)
{
    return ((struct stub *)self)->now_us;
}

static size_t stub_wait(void *self, uint64_t deadline_us, void **owners, size_t cap)
{
    struct stub *s = self;
    (void)owners, (void)cap;
    uint64_t step_us = s->left > 0 ? 200 : 1000;
    s->now_us = deadline_us < s->now_us + step_us ? deadline_us : s->now_us + step_us;
    return 0;
}

static uint32_t stub_any(void *self)
{
    (void)self;
    return 0x12345678;
}

static size_t stub_links(void *self, struct eb_link *links, size_t cap)
{
    (void)cap;
    links[0] = (struct eb_link){
        .name = "eth0", .up = true, .carrier = true, .has_mac = true, .mac = {2, 0, 0, 0, 0, 1}};
    links[0].count = 1;
    links[0].addresses[0] = (struct eb_link_address){{192, 0, 2, 100}, 24};
    if (((struct stub *)self)->wide) {
        links[0].count = 3;
        for (uint8_t i = 0; i < 3; i++)
            links[0].addresses[i] = (struct eb_link_address){{10, i, 0, 1}, 22};
    }
    return 1;
}

static void stub_count(struct stub *s, size_t count)
{
    if (s->now_us / 1000000 != s->second) {
        s->second = s->now_us / 1000000;
        s->sent_in_second = 0;
    }
    s->sent_in_second += count;
    s->frames_sent += count;
    s->busiest = s->sent_in_second > s->busiest ? s->sent_in_second : s->busiest;
}

static enum eb_status stub_udp_open(void *self, void *owner, const struct eb_udp_options *options,
                                    int *handle)
{
    (void)self, (void)owner, (void)options;
    *handle = 1;
    return EB_OK;
}

static size_t stub_udp_send(void *self, int handle, const struct eb_datagram *burst, size_t count)
{
    (void)handle, (void)burst;
    stub_count(self, count);
    return count;
}

static enum eb_status stub_udp_receive(void *self, int handle, struct eb_datagram *burst, size_t count,
                                       size_t *received)
{
    struct stub *s = self;
    (void)handle, (void)count;
    *received = 0;
    if (!s->as_datagram || s->left == 0)
        return EB_PENDING;
    s->left--;
    burst[0].size_bytes = s->bring(s, burst[0].bytes);
    burst[0].peer = (struct eb_endpoint){{192, 0, 2, (uint8_t)(1 + stub_random(s) % 4)}, s->from_port};
    *received = 1;
    return EB_OK;
}

static void stub_close(void *self, int handle)
{
    (void)self, (void)handle;
}

static enum eb_status stub_tcp_open(void *self, void *owner, const struct eb_endpoint *peer, int *handle)
{
    (void)owner, (void)peer;
    stub_count(self, 1);
    *handle = EB_NO_HANDLE;
    return EB_UNREACHABLE;
}

static enum eb_status stub_frame_open(void *self, void *owner, const char *link, int *handle)
{
    (void)self, (void)owner, (void)link;
    *handle = 2;
    return EB_OK;
}

static void stub_frame_send(void *self, int handle, const uint8_t *bytes, size_t size)
{
    (void)handle, (void)bytes, (void)size;
    stub_count(self, 1);
}

static enum eb_status stub_frame_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct stub *s = self;
    (void)handle, (void)cap;
    if (s->as_datagram || s->left == 0)
        return EB_PENDING;
    s->left--;
    *received = s->bring(s, bytes);
    return EB_OK;
}

static void fill_port(struct stub *s)
{
    s->port = (struct eb_port){.self = s,
                               .now_us = stub_now,
                               .wait = stub_wait,
                               .random = stub_any,
                               .links = stub_links,
                               .udp_open = stub_udp_open,
                               .udp_send = stub_udp_send,
                               .udp_receive = stub_udp_receive,
                               .udp_close = stub_close,
                               .tcp_open = stub_tcp_open,
                               .tcp_close = stub_close,
                               .frame_open = stub_frame_open,
                               .frame_send = stub_frame_send,
                               .frame_receive = stub_frame_receive,
                               .frame_close = stub_close};
    s->now_us = 1000000;
    s->random = 4711;
}

static struct look *look_at_stub(struct stub *s)
{
    struct look *l = calloc(1, sizeof *l);
    fill_port(s);
    begin_look(l, &s->port, false);
    end_look(l);
    return l;
}

static void expect_readable(const struct look *l)
{
    assert_true(l->survey.count <= ROWS);
    for (size_t i = 0; i < l->survey.count; i++) {
        assert_true(l->found[i].count <= EB_FACTS_MAX);
        for (size_t k = 0; k < l->found[i].count; k++) {
            assert_true(eb_text_printable(l->found[i].facts[k].text));
            assert_true(strlen(l->found[i].facts[k].text) < EB_HEARD_TEXT_BYTES);
        }
    }
}

static size_t arp_from(uint8_t *frame, uint32_t mac, uint32_t ip)
{
    const uint8_t from[6] = {2,           9, (uint8_t)(mac >> 24), (uint8_t)(mac >> 16), (uint8_t)(mac >> 8),
                             (uint8_t)mac};
    const uint8_t own[4] = {192, 0, (uint8_t)(ip >> 8), (uint8_t)ip};
    static const uint8_t any[4] = {192, 0, 2, 1};
    eb_arp_ask(frame, from, own, any);
    return EB_FRAME_MIN_BYTES;
}

static size_t bring_identities(struct stub *s, uint8_t *bytes)
{
    return arp_from(bytes, (uint32_t)s->left, (uint32_t)s->left & 0x2FF);
}

static void a_thousand_made_up_devices_are_bounded_and_counted(void **state)
{
    (void)state;
    struct stub s = {.bring = bring_identities, .left = 5000};
    struct look *l = look_at_stub(&s);
    assert_int_equal(l->survey.count, ROWS);
    assert_true(l->survey.left_out > 4000);
    expect_readable(l);
    free(l);
}

/* One device, a thousand answers, each with another name, serial number and service. */
static size_t bring_answers(struct stub *s, uint8_t *bytes)
{
    static const uint8_t head[14] = {0x01, 0x80, 0xC2, 0, 0, 0x0E, 2, 7, 7, 7, 7, 7, 0x88, 0xCC};
    static const uint8_t tlvs[] = {2, 2, 7, 'x', 4,    2,  7, '1',  6,    2, 0,   120, 10, 6, 'n', 0,
                                   0, 0, 0, 0,   0xFE, 10, 0, 0x12, 0xBB, 8, 's', 0,   0,  0, 0,   0};
    memset(bytes, 0, EB_FRAME_MIN_BYTES);
    memcpy(bytes, head, sizeof head);
    memcpy(bytes + 14, tlvs, sizeof tlvs);
    for (int i = 0; i < 5; i++) {
        bytes[14 + 15 + i] = (uint8_t)('a' + stub_random(s) % 26);
        bytes[14 + 27 + i] = (uint8_t)('a' + stub_random(s) % 26);
    }
    return EB_FRAME_MIN_BYTES;
}

static void a_thousand_answers_of_one_device_are_one_row(void **state)
{
    (void)state;
    struct stub s = {.bring = bring_answers, .left = 1000};
    struct look *l = look_at_stub(&s);
    assert_int_equal(l->survey.count, 1);
    assert_true(l->found[0].several); /* it cannot be one */
    expect_readable(l);
    free(l);
}

/* Two devices with one hardware address: each time another IP address. */
static size_t bring_two(struct stub *s, uint8_t *bytes)
{
    return arp_from(bytes, 1, 0x200 + 1 + (uint32_t)s->left % 2);
}

static void two_devices_with_one_hardware_address_are_one_row_with_both(void **state)
{
    (void)state;
    struct stub s = {.bring = bring_two, .left = 100};
    struct look *l = look_at_stub(&s);
    assert_int_equal(l->survey.count, 1);
    assert_int_equal(l->found[0].count, 1);
    assert_int_equal(l->found[0].facts[0].kind, EB_FACT_ADDRESS);
    free(l);
}

/* Random bytes with the beginning of something. */
static size_t bring_noise(struct stub *s, uint8_t *bytes)
{
    static const uint16_t types[] = {EB_ETHERTYPE_ARP, EB_ETHERTYPE_DCP, EB_ETHERTYPE_LLDP, EB_ETHERTYPE_IPV4,
                                     EB_ETHERTYPE_VLAN};
    size_t size = stub_random(s) % 200;
    for (size_t i = 0; i < size; i++)
        bytes[i] = (uint8_t)(stub_random(s) >> 7);
    if (size < 60)
        return size;
    bytes[6] &= 0xFE;
    bytes[12] = (uint8_t)(types[stub_random(s) % 5] >> 8);
    bytes[13] = (uint8_t)types[stub_random(s) % 5];
    if (stub_random(s) % 2 != 0) { /* an identify response that is ours but for what it holds */
        const uint8_t dcp[10] = {0x88, 0x92, 0xFE, 0xFF, 5, 1, 0x12, 0x34, 0x56, 0x78};
        memcpy(bytes + 12, dcp, sizeof dcp);
        bytes[24] = 0;
    }
    return size;
}

static size_t bring_datagram_noise(struct stub *s, uint8_t *bytes)
{
    /* A DNS answer with records, an SNMP answer, an identity: then whatever comes. */
    static const uint8_t starts[3][24] = {
        {0, 0, 0x84, 0, 0, 0, 0, 4, 0, 0, 0, 4, 3, 'a', 0x1B, '[', 0xC0, 12, 0, 16, 0x80, 1, 0, 0},
        {0x30, 0x82, 0, 90, 2, 1, 1, 4, 1, 'p', 0xA2, 80, 2, 4, 0x12, 0x34, 0x56, 0x78, 2, 1, 0, 2, 1, 0},
        {0x63, 0, 60, 0}};
    size_t size = 60 + stub_random(s) % 400;
    for (size_t i = 0; i < size; i++)
        bytes[i] = (uint8_t)(stub_random(s) >> 7 & (stub_random(s) % 2 ? 0xFF : 0x3F));
    memcpy(bytes, starts[s->from_port == EB_DNS_SD_PORT ? 0 : s->from_port == 161 ? 1 : 2], 24);
    return size;
}

static void noise_is_survived(void **state)
{
    (void)state;
    static const uint16_t ports[] = {EB_DNS_SD_PORT, EB_SNMP_PORT, EB_CIP_PORT};
    struct stub s = {.bring = bring_noise, .left = 60000};
    struct look *l = look_at_stub(&s);
    expect_readable(l);
    free(l);
    for (int i = 0; i < 3; i++) {
        struct stub d = {
            .bring = bring_datagram_noise, .left = 60000, .as_datagram = true, .from_port = ports[i]};
        l = look_at_stub(&d);
        expect_readable(l);
        assert_true(l->survey.count <= 4);
        free(l);
    }
}

static void it_never_sends_faster_than_it_says(void **state)
{
    (void)state;
    struct stub s = {.bring = bring_identities, .left = 5000, .wide = true};
    struct look *l = look_at_stub(&s);
    print_message("at most %llu frames in one second, %llu in all\n", (unsigned long long)s.busiest,
                  (unsigned long long)s.frames_sent);
    assert_true(s.busiest > 200);
    assert_true(s.busiest <= EB_SURVEY_FRAMES_PER_S / 2 + 32); /* all of it broadcasts */
    assert_true(s.frames_sent <= eb_survey_sent(&l->survey));
    free(l);
}

/* The answer to a DCP set with the right xid, from whom the test likes. */
static size_t bring_set_answer(struct stub *s, uint8_t *bytes)
{
    static const uint8_t answer[] = {2,    0,    0,    0,    0, 1, 2,    7,    7,    7,    7, 7,
                                     0x88, 0x92, 0xFE, 0xFD, 4, 1, 0x12, 0x34, 0x56, 0x78, 0, 0,
                                     0,    8,    5,    4,    0, 3, 5,    3,    0,    0};
    memset(bytes, 0, EB_FRAME_MIN_BYTES);
    memcpy(bytes, answer, sizeof answer);
    bytes[11] = (uint8_t)s->from_port;
    return EB_FRAME_MIN_BYTES;
}

static void a_stranger_does_not_answer_for_another(void **state)
{
    (void)state;
    for (uint16_t from = 7; from <= 8; from++) {
        struct stub s = {.bring = bring_set_answer, .left = 5, .from_port = from};
        struct eb_link link;
        struct eb_request request;
        fill_port(&s);
        stub_links(&s, &link, 1);
        const struct eb_request_config config = {
            .port = &s.port,
            .owner = &request,
            .access = &eb_access_dcp,
            .operation = {.kind = EB_BLINK},
            .target = {.link = &link, .has_mac = true, .mac = {2, 7, 7, 7, 7, 7}},
            .patience_us = 1000000};
        assert_int_equal(request_work(&request, &config), from == 7 ? EB_OK : EB_NO_ANSWER);
    }
}

/* --- somebody who hears what is sent to all, and answers in the place of others ------------------- */

/* The simulated port; before each answer it brings the same one with another id and another name. */
static struct forger {
    struct eb_port port;
    const struct eb_port *real;
    bool knows; /* the right id: what he then forges is believed */
    uint8_t bytes[1600];
    size_t size; /* of the true answer, which comes next; 0: none waits */
    struct eb_endpoint peer;
    uint32_t heard; /* the id of the question that went to all */
    size_t forged;
} forger;

/* "SN-" becomes "XX-" wherever it stands. */
static void rename_in(uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i + 3 <= size; i++) {
        if (memcmp(bytes + i, "SN-", 3) == 0)
            memcpy(bytes + i, "XX-", 3);
    }
}

static void put_id(uint8_t *to, size_t size)
{
    for (size_t i = 0; i < size && !forger.knows; i++)
        to[i] = (uint8_t)(forger.heard >> (8 * (size - 1 - i)));
}

/* Whether it can be told from others by an id, which is then that of the question to all. */
static bool forge_datagram(uint8_t *b, size_t size, uint16_t port)
{
    size_t at = 0;
    while (port == EB_SNMP_PORT && at + 1 < size && b[at] != 0xA2)
        at++; /* a response, whose first part is its id (RFC 3416 section 3), behind the length (X.690, 8.1.3)
               */
    at += at + 1 < size && (b[at + 1] & 0x80) != 0 ? 2U + (b[at + 1] & 0x7FU) : 2U;
    if (port == EB_SNMP_PORT && at + 1 < size && b[at] == 2 && b[at + 1] <= 4 && at + 2 + b[at + 1] < size)
        put_id(b + at + 2, b[at + 1]);
    else if (port == EB_DNS_SD_PORT && (b[0] != 0 || b[1] != 0)) /* RFC 6762 section 6.7 */
        put_id(b, 2);
    else
        return false;
    rename_in(b, size);
    return true;
}

static enum eb_status forged_receive(void *self, int handle, struct eb_datagram *burst, size_t count,
                                     size_t *received)
{
    if (forger.size > 0 && count > 0) {
        memcpy(burst[0].bytes, forger.bytes, forger.size);
        burst[0].size_bytes = forger.size;
        burst[0].peer = forger.peer;
        forger.size = 0;
        *received = 1;
        return EB_OK;
    }
    enum eb_status status = forger.real->udp_receive(self, handle, burst, 1, received);
    if (status != EB_OK || *received == 0)
        return status;
    memcpy(forger.bytes, burst[0].bytes, burst[0].size_bytes);
    if (forge_datagram(burst[0].bytes, burst[0].size_bytes, burst[0].peer.port)) {
        forger.size = forger.knows ? 0 : burst[0].size_bytes; /* the true one does not get through */
        forger.peer = burst[0].peer;
        forger.forged++;
    }
    return status;
}

static void hear_frame(void *self, int handle, const uint8_t *bytes, size_t size)
{
    if (size > 22 && bytes[12] == 0x88 && bytes[13] == 0x92)
        forger.heard =
            (uint32_t)bytes[18] << 24 | (uint32_t)bytes[19] << 16 | (uint32_t)bytes[20] << 8 | bytes[21];
    forger.real->frame_send(self, handle, bytes, size);
}

static const struct eb_port *forging(const struct eb_port *real, bool knows)
{
    forger = (struct forger){.port = *real, .real = real, .knows = knows};
    forger.port.udp_receive = forged_receive;
    forger.port.frame_send = hear_frame;
    return &forger.port;
}

/* With the id of the question that all hear nothing is believed; with the right one it would be. */
static void who_hears_the_questions_to_all_cannot_answer_the_others(void **state)
{
    (void)state;
    for (int knows = 0; knows < 2; knows++) {
        struct look *l = open_world("", LAPTOP, all_kinds);
        begin_look(l, forging(eb_sim_port(l->sim), knows), false);
        end_look(l);
        assert_true(forger.forged >= 2); /* two questions by SNMP to each who answers */
        assert_int_equal(l->survey.strays, knows ? 0 : forger.forged);
        assert_int_equal(by_name(l, "XX-snmp") != NULL, knows);
        assert_int_equal(by_name(l, "SN-snmp") != NULL, !knows);
        close_world(l);
    }
}

/* What one device is read to be called, by SNMP or by DNS-SD; gives how often another one answered for it. */
static uint64_t read_one(const struct eb_port *port, bool dns, char serial[EB_NAME_BYTES])
{
    static struct eb_profile profile;
    struct eb_request request;
    eb_texts texts = {{{0}}};
    struct eb_value *value = &profile.from_serial.list[0];
    memset(&profile, 0, sizeof profile);
    profile.from_serial.count = 1;
    eb_text_copy(profile.community, sizeof profile.community, "public");
    eb_text_copy(profile.service, sizeof profile.service, "_box._tcp");
    value->by = dns ? &eb_access_dns_sd : &eb_access_snmp;
    eb_text_copy(value->key, sizeof value->key, "serial");
    assert_true(eb_oid_parse("1.3.6.1.2.1.47.1.1.1.1.11.1", &value->oid));
    const struct eb_request_config config = {.port = port,
                                             .owner = &request,
                                             .access = value->by,
                                             .operation = {.kind = EB_READ},
                                             .target = {.modbus = {{192, 0, 2, dns ? 5 : 4}, 0}},
                                             .patience_us = 3000000,
                                             .profile = &profile,
                                             .texts = &texts};
    assert_int_equal(request_work(&request, &config), EB_OK);
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        if (eb_profile_values(&profile, i) == &profile.from_serial)
            eb_text_copy(serial, EB_NAME_BYTES, texts[i][0]);
    }
    const struct eb_exchange *exchange = (const void *)request.context;
    return exchange->strays;
}

static void nor_the_questions_to_one(void **state)
{
    (void)state;
    for (int what = 0; what < 4; what++) {
        bool knows = what % 2 != 0;
        char serial[EB_NAME_BYTES] = "";
        struct look *l = open_world("", LAPTOP, all_kinds);
        const struct eb_port *port = forging(eb_sim_port(l->sim), knows);
        forger.heard = 0x12345678;
        uint64_t strays = read_one(port, what / 2 != 0, serial);
        assert_int_equal(forger.forged, 1);
        assert_int_equal(strays, knows ? 0 : 1);
        if (what / 2 == 0)
            assert_int_equal(strncmp(serial, "XX-", 3) == 0, knows);
        close_world(l);
    }
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
        TEST(who_hears_the_questions_to_all_cannot_answer_the_others),
        TEST(nor_the_questions_to_one),
        TEST(several_links_are_looked_at_together),
        cmocka_unit_test(a_thousand_made_up_devices_are_bounded_and_counted),
        cmocka_unit_test(a_thousand_answers_of_one_device_are_one_row),
        cmocka_unit_test(two_devices_with_one_hardware_address_are_one_row_with_both),
        cmocka_unit_test(noise_is_survived),
        cmocka_unit_test(a_stranger_does_not_answer_for_another),
        cmocka_unit_test(it_never_sends_faster_than_it_says),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
