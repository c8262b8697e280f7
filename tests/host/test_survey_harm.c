/* A survey of a network that means harm: floods, noise, and somebody who answers for others. */
#include "survey_rig.h"

#include <stdio.h>
#include <string.h>

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

static size_t stub_wait(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct stub *s = self;
    (void)ready, (void)cap;
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

static enum eb_status stub_udp_open(void *self, struct eb_waiter *waiter,
                                    const struct eb_udp_options *options, int *handle)
{
    (void)self, (void)waiter, (void)options;
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

static enum eb_status stub_tcp_open(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                                    int *handle)
{
    (void)waiter, (void)peer;
    stub_count(self, 1);
    *handle = EB_NO_HANDLE;
    return EB_UNREACHABLE;
}

static enum eb_status stub_frame_open(void *self, struct eb_waiter *waiter, const char *link, int *handle)
{
    (void)self, (void)waiter, (void)link;
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
    static const struct eb_port_time time_group = {sizeof time_group, stub_now, stub_wait, stub_any};
    static const struct eb_port_links links_group = {.bytes = sizeof links_group, .list = stub_links};
    static const struct eb_port_udp udp_group = {
        .bytes = sizeof udp_group, stub_udp_open, stub_udp_send, stub_udp_receive, stub_close};
    static const struct eb_port_tcp tcp_group = {
        .bytes = sizeof tcp_group, .open = stub_tcp_open, .close = stub_close};
    static const struct eb_port_frame frame_group = {sizeof frame_group, stub_frame_open, stub_frame_send,
                                                     stub_frame_receive, stub_close};
    s->port = (struct eb_port){.bytes = sizeof s->port,
                               .self = s,
                               .time = &time_group,
                               .udp = &udp_group,
                               .tcp = &tcp_group,
                               .frame = &frame_group,
                               .links = &links_group};
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
    struct eb_port_udp udp;
    struct eb_port_frame frame;
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
    enum eb_status status = forger.real->udp->receive(self, handle, burst, 1, received);
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
    forger.real->frame->send(self, handle, bytes, size);
}

static const struct eb_port *forging(const struct eb_port *real, bool knows)
{
    forger = (struct forger){.port = *real, .real = real, .knows = knows};
    forger.udp = *real->udp;
    forger.udp.receive = forged_receive;
    forger.frame = *real->frame;
    forger.frame.send = hear_frame;
    forger.port.udp = &forger.udp;
    forger.port.frame = &forger.frame;
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
    eb_texts texts[8] = {{{0}}};
    static struct eb_oid oid;
    struct eb_value *value = &profile.from_serial.list[0];
    memset(&profile, 0, sizeof profile);
    profile.from_serial.count = 1;
    eb_text_copy(profile.community, sizeof profile.community, "public");
    eb_text_copy(profile.service, sizeof profile.service, "_box._tcp");
    value->by = dns ? &eb_access_dns_sd : &eb_access_snmp;
    value->key = "serial";
    value->oid = &oid;
    assert_true(eb_oid_parse("1.3.6.1.2.1.47.1.1.1.1.11.1", &oid));
    const struct eb_request_config config = {.port = port,
                                             .access = value->by,
                                             .operation = {.kind = EB_READ},
                                             .target = {.modbus = {{192, 0, 2, dns ? 5 : 4}, 0}},
                                             .patience_us = 3000000,
                                             .profile = &profile,
                                             .texts = texts};
    assert_int_equal(request_work(&request, &config), EB_OK);
    for (size_t i = 0; i < eb_profile_items(&profile); i++) {
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
        TEST(who_hears_the_questions_to_all_cannot_answer_the_others),
        TEST(nor_the_questions_to_one),
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
