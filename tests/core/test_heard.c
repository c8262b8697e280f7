/* What devices say on Ethernet, read from messages that scapy made and written for a dissector to read; and
 * what somebody sends who means harm. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MESSAGES_MAX = 32, MESSAGE_BYTES = 1600, FIELDS_MAX = 12 };

struct message {
    char kind[8];
    uint8_t bytes[MESSAGE_BYTES];
    size_t size;
    char *fields[FIELDS_MAX];
};

static struct message messages[MESSAGES_MAX];
static size_t message_count;
static char *script_output;

static char *next_field(char **rest)
{
    char *field = *rest;
    char *bar = strchr(field, '|');
    *rest = bar != NULL ? bar + 1 : field + strlen(field);
    if (bar != NULL)
        *bar = '\0';
    return field;
}

static int read_messages(void **state)
{
    (void)state;
    const char *const make[] = {"/usr/bin/python3", SOURCE_DIR "/tests/interop/frames.py", NULL};
    struct outcome o = run_program(make);
    char *more;
    if (o.status != 0) {
        print_message("%s", o.err);
        return -1;
    }
    script_output = o.out;
    free(o.err);
    for (char *line = strtok_r(o.out, "\n", &more); line != NULL; line = strtok_r(NULL, "\n", &more)) {
        struct message *m = &messages[message_count++];
        snprintf(m->kind, sizeof m->kind, "%s", next_field(&line));
        const char *hex = next_field(&line);
        for (; hex[0] != '\0'; hex += 2) {
            const char digits[3] = {hex[0], hex[1], '\0'};
            m->bytes[m->size++] = (uint8_t)strtoul(digits, NULL, 16);
        }
        for (int i = 0; i < FIELDS_MAX; i++)
            m->fields[i] = next_field(&line);
    }
    return message_count > 10 ? 0 : -1;
}

static int forget_messages(void **state)
{
    (void)state;
    free(script_output);
    return 0;
}

static const char *ip_text(const uint8_t ip[4])
{
    static char texts[4][EB_ENDPOINT_TEXT_BYTES];
    static int turn;
    struct eb_endpoint endpoint = {.port = 0};
    memcpy(endpoint.ip, ip, 4);
    turn = (turn + 1) % 4;
    eb_endpoint_text(&endpoint, false, texts[turn]);
    return texts[turn];
}

static const char *mac_text(const uint8_t mac[6])
{
    static char text[EB_MAC_TEXT_BYTES];
    eb_mac_text(mac, text);
    return text;
}

/* --- reading what scapy made --------------------------------------------------------------------- */

static void read_arp(const struct message *m, const struct eb_frame *frame)
{
    struct eb_arp arp;
    assert_int_equal(frame->type, EB_ETHERTYPE_ARP);
    assert_true(eb_arp_read(&arp, frame->payload, frame->size));
    assert_string_equal(mac_text(arp.from_mac), m->fields[0]);
    assert_string_equal(ip_text(arp.from_ip), m->fields[1]);
    assert_string_equal(ip_text(arp.to_ip), m->fields[2]);
    assert_int_equal(arp.reply, atoi(m->fields[3]));
}

static void read_dhcp(const struct message *m, const struct eb_frame *frame)
{
    struct eb_udp udp;
    struct eb_dhcp_request request;
    assert_true(eb_udp_read(&udp, frame->payload, frame->size));
    assert_int_equal(udp.to_port, 67);
    assert_int_equal(udp.from_port, 68);
    assert_true(eb_dhcp_read(&request, udp.payload, udp.size));
    assert_string_equal(mac_text(request.mac), m->fields[0]);
    assert_int_equal(request.bootp, atoi(m->fields[1]));
    assert_string_equal(ip_text(request.ip), m->fields[2]);
    assert_string_equal(request.host_name, m->fields[3]);
    assert_string_equal(request.vendor_class, m->fields[4]);
}

static void read_lldp(const struct message *m, const struct eb_frame *frame)
{
    struct eb_lldp lldp;
    assert_int_equal(frame->type, EB_ETHERTYPE_LLDP);
    assert_true(eb_lldp_read(&lldp, frame->payload, frame->size));
    assert_string_equal(lldp.has_mac ? mac_text(lldp.mac) : "", m->fields[0]);
    assert_string_equal(lldp.has_ip ? ip_text(lldp.ip) : "", m->fields[1]);
    const char *const texts[] = {lldp.name,   lldp.description, lldp.hardware, lldp.firmware,
                                 lldp.serial, lldp.maker,       lldp.model};
    for (size_t i = 0; i < 7; i++)
        assert_string_equal(texts[i], m->fields[2 + i]);
    assert_int_equal(lldp.leaves, atoi(m->fields[9]));
}

static void read_dcp(const struct message *m, const struct eb_frame *frame)
{
    struct eb_dcp_station station;
    assert_false(eb_dcp_read_station(&station, frame, 0x1235));
    assert_true(eb_dcp_read_station(&station, frame, 0x1234));
    assert_string_equal(mac_text(station.mac), m->fields[0]);
    assert_string_equal(station.name, m->fields[1]);
    assert_int_equal(station.vendor_id, atoi(m->fields[2]));
    assert_int_equal(station.device_id, atoi(m->fields[3]));
    assert_string_equal(ip_text(station.ip), m->fields[4]);
    assert_string_equal(ip_text(station.mask), m->fields[5]);
    assert_string_equal(ip_text(station.router), m->fields[6]);
    assert_true(station.has_ip);
    assert_false(station.dhcp);
}

static void read_dns(const struct message *m)
{
    struct eb_dns_reader reader;
    struct eb_dns_record record;
    char target[EB_DNS_NAME_BYTES];
    char texts[128] = "";
    char text[64];
    size_t at = 0;
    assert_true(eb_dns_open(&reader, m->bytes, m->size));
    assert_true(eb_dns_next(&reader, &record));
    assert_int_equal(record.type, EB_DNS_PTR);
    assert_string_equal(record.name, m->fields[0]);
    assert_true(eb_dns_target(&reader, &record, target));
    assert_string_equal(target, m->fields[1]);
    assert_true(eb_dns_next(&reader, &record));
    assert_int_equal(record.type, EB_DNS_SRV);
    assert_int_equal(record.ttl_s, 120);
    assert_true(eb_dns_target(&reader, &record, target));
    assert_string_equal(target, m->fields[2]);
    assert_true(eb_dns_next(&reader, &record));
    assert_int_equal(record.type, EB_DNS_TXT);
    assert_string_equal(record.name, m->fields[1]);
    while (eb_dns_text(&record, &at, text, sizeof text))
        snprintf(texts + strlen(texts), sizeof texts - strlen(texts), "%s%s", texts[0] != '\0' ? "," : "",
                 text);
    assert_string_equal(texts, m->fields[3]);
    assert_true(eb_dns_next(&reader, &record));
    assert_int_equal(record.type, EB_DNS_A);
    assert_memory_equal(record.data, ((const uint8_t[]){192, 0, 2, 41}), 4);
    assert_false(eb_dns_next(&reader, &record));
    assert_false(reader.damaged);
}

static void read_snmp(const struct message *m)
{
    struct eb_snmp_answer answer;
    assert_true(eb_snmp_read(&answer, m->bytes, m->size));
    assert_int_equal(answer.id, strtoul(m->fields[0], NULL, 10));
    assert_int_equal(answer.error, 0);
    assert_int_equal(answer.count, 3);
    for (size_t i = 0; i < 3; i++) {
        struct eb_oid oid;
        char text[256];
        assert_true(eb_oid_parse(m->fields[1 + 2 * i], &oid));
        assert_true(eb_oid_same(&oid, &answer.vars[i].oid));
        assert_true(eb_snmp_text(&answer.vars[i], text, sizeof text));
        assert_string_equal(text, m->fields[2 + 2 * i]);
    }
}

static void what_scapy_made_is_read(void **state)
{
    (void)state;
    size_t seen = 0;
    for (size_t i = 0; i < message_count; i++) {
        const struct message *m = &messages[i];
        struct eb_frame frame;
        bool whole = eb_frame_read(&frame, m->bytes, m->size);
        if (strcmp(m->kind, "arp") == 0 && whole)
            read_arp(m, &frame);
        else if (strcmp(m->kind, "dhcp") == 0 && whole)
            read_dhcp(m, &frame);
        else if (strcmp(m->kind, "lldp") == 0 && whole)
            read_lldp(m, &frame);
        else if (strcmp(m->kind, "dcp") == 0 && whole)
            read_dcp(m, &frame);
        else if (strcmp(m->kind, "dns") == 0)
            read_dns(m);
        else if (strcmp(m->kind, "snmp") == 0)
            read_snmp(m);
        else
            fail_msg("nobody reads %s", m->kind);
        seen++;
    }
    assert_int_equal(seen, message_count);
}

/* --- writing for a dissector --------------------------------------------------------------------- */

static void put32(FILE *file, uint32_t value)
{
    fwrite(&value, sizeof value, 1, file);
}

static void put_packet(FILE *file, const uint8_t *bytes, size_t size)
{
    put32(file, 0);
    put32(file, 0);
    put32(file, (uint32_t)size);
    put32(file, (uint32_t)size);
    fwrite(bytes, 1, size, file);
}

/* A frame around a datagram, for the dissector only: its checksums are left out. */
static void put_datagram(FILE *file, uint16_t port, const uint8_t *bytes, size_t size)
{
    uint8_t frame[MESSAGE_BYTES] = {0x01, 0x00, 0x5E, 0, 0, 0xFB, 2, 0, 0, 0, 0, 1, 8, 0, 0x45};
    size_t ip_size = 28 + size;
    frame[16] = (uint8_t)(ip_size >> 8);
    frame[17] = (uint8_t)ip_size;
    frame[22] = 255;
    frame[23] = 17;
    memcpy(frame + 26, (const uint8_t[]){192, 0, 2, 100, 224, 0, 0, 251}, 8);
    frame[34] = 0xC0;
    frame[36] = (uint8_t)(port >> 8);
    frame[37] = (uint8_t)port;
    frame[38] = (uint8_t)((8 + size) >> 8);
    frame[39] = (uint8_t)(8 + size);
    memcpy(frame + 42, bytes, size);
    put_packet(file, frame, 14 + ip_size);
}

static void write_all(const char *path)
{
    static const uint8_t mac[6] = {0x02, 0, 0x5E, 0xBB, 0, 1};
    static const uint8_t device[6] = {0x02, 0, 0x5E, 0xAA, 0, 1};
    static const uint8_t ip[4] = {192, 0, 2, 12};
    static const uint8_t mask[4] = {255, 255, 255, 0};
    static const uint8_t nobody[4];
    uint8_t bytes[MESSAGE_BYTES];
    struct eb_dns_questions q;
    struct eb_oid oids[3];
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    put32(file, 0xA1B2C3D4);
    put32(file, 4 << 16 | 2);
    put32(file, 0);
    put32(file, 0);
    put32(file, 65535);
    put32(file, 1);
    eb_arp_ask(bytes, mac, nobody, ip);
    put_packet(file, bytes, EB_FRAME_MIN_BYTES);
    put_packet(file, bytes, eb_dcp_identify(bytes, mac, 0x11, 40));
    put_packet(file, bytes, eb_dcp_get(bytes, mac, device, 0x12));
    put_packet(file, bytes, eb_dcp_set_name(bytes, mac, device, 0x13, "drive-plc.valley"));
    put_packet(file, bytes, eb_dcp_set_ip(bytes, mac, device, 0x14, ip, mask, nobody));
    put_packet(file, bytes, eb_dcp_signal(bytes, mac, device, 0x15));
    eb_cip_list_identity(bytes, 500);
    put_datagram(file, EB_CIP_PORT, bytes, EB_CIP_LIST_BYTES);
    eb_dns_begin(&q, bytes, sizeof bytes, 0);
    assert_true(eb_dns_ask(&q, EB_DNS_SD_SERVICES, EB_DNS_PTR, false));
    assert_true(eb_dns_ask(&q, "pa\\.one._pa._tcp.local", EB_DNS_TXT, true));
    put_datagram(file, EB_DNS_SD_PORT, bytes, q.size);
    assert_true(eb_oid_parse("1.3.6.1.2.1.1.1.0", &oids[0]));
    assert_true(eb_oid_parse("1.3.6.1.2.1.47.1.1.1.1.11.300", &oids[1]));
    assert_true(eb_oid_parse("1.3.6.1.4.1.4294967295", &oids[2]));
    size_t size = eb_snmp_write(bytes, sizeof bytes, EB_SNMP_GET, "public", 0x80, oids, 3, 0);
    assert_true(size > 0);
    put_datagram(file, EB_SNMP_PORT, bytes, size);
    size = eb_snmp_write(bytes, sizeof bytes, EB_SNMP_GET_BULK, "public", 0x12345678, oids, 2, 4);
    put_datagram(file, EB_SNMP_PORT, bytes, size);
    assert_int_equal(fclose(file), 0);
}

static void a_dissector_reads_what_is_asked(void **state)
{
    (void)state;
    static const struct {
        const char *filter, *fields, *expected;
    } rows[] = {
        {"arp", "-e arp.opcode -e arp.src.proto_ipv4 -e arp.dst.proto_ipv4 -e eth.dst",
         "1,0.0.0.0,192.0.2.12,ff:ff:ff:ff:ff:ff\n"},
        {"pn_dcp && frame.number == 2", "-e eth.dst -e pn_rt.frame_id -e pn_dcp.service_id -e pn_dcp.xid",
         "01:0e:cf:00:00:00,65278,5,0x00000011\n"},
        {"frame.number == 3", "-e pn_rt.frame_id -e pn_dcp.service_id -e pn_dcp.service_type", "65277,3,0\n"},
        {"frame.number == 4", "-e pn_dcp.service_id -e pn_dcp.suboption_device_nameofstation",
         "4,drive-plc.valley\n"},
        {"frame.number == 5",
         "-e pn_dcp.suboption_ip_ip -e pn_dcp.suboption_ip_subnetmask -e "
         "pn_dcp.suboption_ip_standard_gateway",
         "192.0.2.12,255.255.255.0,0.0.0.0\n"},
        {"frame.number == 6", "-e pn_dcp.option -e pn_dcp.suboption_control", "5,3\n"},
        {"enip", "-e enip.command -e enip.length", "0x0063,0\n"},
        {"mdns", "-E \"aggregator=;\" -e dns.qry.name -e dns.qry.type -e dns.qry.qu",
         "_services._dns-sd._udp.local;pa.one._pa._tcp.local,12;16,0;1\n"},
        {"frame.number == 9", "-E \"aggregator=;\" -e snmp.request_id -e snmp.name",
         "128,1.3.6.1.2.1.1.1.0;1.3.6.1.2.1.47.1.1.1.1.11.300;1.3.6.1.4.1.4294967295\n"},
        {"frame.number == 10", "-e snmp.request_id -e snmp.non_repeaters -e snmp.max_repetitions",
         "305419896,0,4\n"},
        {"_ws.malformed || _ws.expert.severity == \"Error\"", "-e frame.number", ""},
    };
    char folder[PATH_BYTES];
    char path[PATH_BYTES + 16];
    if (!have_program("tshark")) {
        print_message("tshark is missing: skipped\n");
        skip();
    }
    make_folder(folder);
    snprintf(path, sizeof path, "%s/asked.pcap", folder);
    write_all(path);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char line[2 * PATH_BYTES];
        snprintf(line, sizeof line, "tshark -r %s -Y '%s' -T fields -E separator=, %s 2>/dev/null", path,
                 rows[i].filter, rows[i].fields);
        const char *const shell[] = {"sh", "-c", line, NULL};
        struct outcome o = run_program(shell);
        if (strcmp(o.out, rows[i].expected) != 0)
            fail_msg("%s: found %s, expected %s", rows[i].filter, o.out, rows[i].expected);
        outcome_free(&o);
    }
    remove_folder(folder);
}

/* --- names --------------------------------------------------------------------------------------- */

static void station_names_are_judged_by_the_standard(void **state)
{
    (void)state;
    static const char *const good[] = {
        "a",   "drive-plc", "drive-plc.valley", "1a",        "port-xyz", "a.port-001",
        "9-9", "1.2.3",     "1.2.3.4.5",        "1234.1.1.1"};
    static const char *const bad[] = {"",     ".",        "a..b", "Drive",         "a_b",
                                      "-a",   "a-",       "a b",  "1.2.3.4",       "port-001",
                                      "a.-b", "\xC3\xA4", "a.",   "port-001-00001"};
    char label[66];
    char name[260];
    for (size_t i = 0; i < sizeof good / sizeof good[0]; i++) {
        if (eb_dcp_name_wrong(good[i]) != NULL)
            fail_msg("%s: %s", good[i], eb_dcp_name_wrong(good[i]));
    }
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        if (eb_dcp_name_wrong(bad[i]) == NULL)
            fail_msg("'%s' may not be given", bad[i]);
    }
    memset(label, 'a', sizeof label);
    label[63] = '\0';
    assert_null(eb_dcp_name_wrong(label));
    label[63] = 'a';
    label[64] = '\0';
    assert_non_null(eb_dcp_name_wrong(label));
    for (size_t i = 0; i < 240; i++)
        name[i] = i % 60 == 59 ? '.' : 'b';
    name[239] = 'b';
    name[240] = '\0';
    assert_null(eb_dcp_name_wrong(name));
    name[240] = 'b';
    name[241] = '\0';
    assert_non_null(eb_dcp_name_wrong(name));
}

static void object_identifiers_are_read(void **state)
{
    (void)state;
    static const char *const bad[] = {
        "", "1", "1.", ".1", "3.1", "1.40", "1.3.x", "1.3..1", "1.3.4294967296"};
    struct eb_oid oid;
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        if (eb_oid_parse(bad[i], &oid))
            fail_msg("'%s' is none", bad[i]);
    }
    /* X.690 section 8.19.5: 2.999 cannot be told in one byte here, 1.3 can; 300 takes two. */
    assert_true(eb_oid_parse("1.3.300", &oid));
    assert_int_equal(oid.size, 3);
    assert_memory_equal(oid.bytes, ((const uint8_t[]){0x2B, 0x82, 0x2C}), 3);
}

/* --- harm ---------------------------------------------------------------------------------------- */

static void dns_names_do_not_go_round(void **state)
{
    (void)state;
    static const struct {
        const char *what;
        uint8_t bytes[48];
        size_t size;
    } rows[] = {
        {"points to itself",
         {0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0xC0, 12, 0, 12, 0, 1, 0, 0, 0, 1, 0, 0},
         24},
        {"points ahead",
         {0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0xC0, 14, 1, 'a', 0, 0, 12, 0, 1, 0, 0, 0, 1, 0, 0},
         27},
        {"two point at each other",
         {0,  0, 0x84, 0,    0,  0, 0,  1, 0, 0, 0, 0, 1, 'a', 0xC0,
          16, 1, 'b',  0xC0, 12, 0, 12, 0, 1, 0, 0, 0, 1, 0,   0},
         30},
        {"label of a kind that is not used", {0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0x41, 'a', 0}, 15},
        {"label behind the end", {0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 63, 'a', 'b'}, 15},
        {"data behind the end",
         {0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 16, 0, 1, 0, 0, 0, 1, 0xFF, 0xFF},
         23},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_dns_reader reader;
        struct eb_dns_record record;
        assert_true(eb_dns_open(&reader, rows[i].bytes, rows[i].size));
        if (eb_dns_next(&reader, &record) || !reader.damaged)
            fail_msg("%s: was read", rows[i].what);
    }
}

static void escapes_of_a_device_do_not_get_through(void **state)
{
    (void)state;
    static const uint8_t evil[] = "\x1b[2J\x9b"
                                  "31m\x07\r\nname\x7f";
    uint8_t frame[128] = {0x01, 0x80, 0xC2, 0,   0, 0x0E, 2, 0,   0, 0, 0, 1,   0x88, 0xCC,
                          2,    2,    7,    'x', 4, 2,    7, '1', 6, 2, 0, 120, 10,   sizeof evil - 1};
    struct eb_frame read;
    struct eb_lldp lldp;
    memcpy(frame + 28, evil, sizeof evil - 1);
    assert_true(eb_frame_read(&read, frame, 28 + sizeof evil - 1));
    assert_true(eb_lldp_read(&lldp, read.payload, read.size));
    assert_string_equal(lldp.name, "?[2J?31m???name?");
}

static uint32_t random_state = 20261123;

static uint32_t random_number(void)
{
    random_state ^= random_state << 13;
    random_state ^= random_state >> 17;
    random_state ^= random_state << 5;
    return random_state;
}

/* Reads anything as everything: what comes out must be text, and nothing may be read outside of the bytes
 * (the sanitizers see that: each try has a block of its own). */
static size_t read_as_all(const uint8_t *bytes, size_t size)
{
    uint8_t *own = malloc(size + 1);
    struct eb_frame frame;
    size_t taken = 0;
    assert_non_null(own);
    memcpy(own, bytes, size);
    own = realloc(own, size > 0 ? size : 1);
    if (eb_frame_read(&frame, own, size)) {
        struct eb_arp arp;
        struct eb_lldp lldp;
        struct eb_dcp_station station;
        struct eb_udp udp;
        struct eb_error error = {.status = EB_OK};
        taken += eb_arp_read(&arp, frame.payload, frame.size);
        if (eb_lldp_read(&lldp, frame.payload, frame.size)) {
            assert_true(eb_text_printable(lldp.name) && eb_text_printable(lldp.serial));
            taken++;
        }
        if (eb_dcp_read_station(&station, &frame, 0x1234)) {
            assert_true(eb_text_printable(station.name));
            taken++;
        }
        assert_true(eb_dcp_read_set(&frame, 0x1234, &error) <= EB_GARBAGE);
        if (eb_udp_read(&udp, frame.payload, frame.size)) {
            struct eb_dhcp_request request;
            assert_in_range(udp.payload - own, 0, size);
            taken += eb_dhcp_read(&request, udp.payload, udp.size);
        }
    }
    struct eb_dns_reader reader;
    struct eb_dns_record record;
    if (eb_dns_open(&reader, own, size)) {
        char target[EB_DNS_NAME_BYTES];
        char text[32];
        while (eb_dns_next(&reader, &record)) {
            size_t at = 0;
            eb_dns_target(&reader, &record, target);
            while (eb_dns_text(&record, &at, text, sizeof text))
                assert_true(eb_text_printable(text));
            taken++;
        }
    }
    struct eb_snmp_answer answer;
    if (eb_snmp_read(&answer, own, size)) {
        for (size_t i = 0; i < answer.count; i++) {
            char text[32] = "";
            eb_snmp_text(&answer.vars[i], text, sizeof text);
            assert_true(eb_text_printable(text));
        }
        taken++;
    }
    struct eb_cip_identity identity;
    taken += eb_cip_read_identity(&identity, own, size);
    struct eb_cip cip;
    eb_cip_ask(&cip, EB_CIP_GET_ALL, NULL, 0);
    eb_cip_receive(&cip, own, size);
    free(own);
    return taken;
}

static void damaged_messages_do_no_harm(void **state)
{
    (void)state;
    enum { CHANGES = 4000 };
    size_t tries = 0;
    size_t taken = 0;
    for (size_t i = 0; i < message_count; i++) {
        const struct message *m = &messages[i];
        uint8_t bytes[MESSAGE_BYTES];
        for (size_t size = 0; size <= m->size; size++, tries++)
            taken += read_as_all(m->bytes, size);
        for (int c = 0; c < CHANGES && m->size > 0; c++, tries++) {
            memcpy(bytes, m->bytes, m->size);
            for (uint32_t n = 1 + random_number() % 4; n > 0; n--) {
                uint32_t value = random_number();
                /* Lengths are where harm is: often the largest or the smallest one. */
                bytes[random_number() % m->size] = (uint8_t)(value & 3 ? value >> 8 : (value >> 2 & 1) - 1);
            }
            taken += read_as_all(bytes, m->size);
        }
    }
    print_message("%zu damaged messages, %zu of them still read as something\n", tries, taken);
    assert_true(taken > 0 && taken < 3 * tries);
}

/* IEEE 802.1AB section 9.2.7.7.1: chassis, port and time to live are at their places, and come once.  A
 * second one that is cut short at the very end of the frame, in memory of just that size. */
static void mandatory_parts_of_lldp_come_once(void **state)
{
    (void)state;
    static const uint8_t good[] = {0x02, 2, 7, 'c', 0x04, 2, 7, 'p', 0x06, 2, 0, 120};
    static const uint8_t more[][3] = {{0x02, 0}, {0x02, 1, 4}, {0x04, 0}, {0x06, 0}, {0x06, 1, 0}};
    struct eb_lldp lldp;
    assert_true(eb_lldp_read(&lldp, good, sizeof good));
    for (size_t i = 0; i < sizeof more / sizeof more[0]; i++) {
        size_t size = sizeof good + 2 + more[i][1];
        uint8_t *frame = malloc(size);
        assert_non_null(frame);
        memcpy(frame, good, sizeof good);
        memcpy(frame + sizeof good, more[i], 2U + more[i][1]);
        assert_false(eb_lldp_read(&lldp, frame, size));
        free(frame);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(mandatory_parts_of_lldp_come_once),
        cmocka_unit_test(what_scapy_made_is_read),
        cmocka_unit_test(a_dissector_reads_what_is_asked),
        cmocka_unit_test(station_names_are_judged_by_the_standard),
        cmocka_unit_test(object_identifiers_are_read),
        cmocka_unit_test(dns_names_do_not_go_round),
        cmocka_unit_test(escapes_of_a_device_do_not_get_through),
        cmocka_unit_test(damaged_messages_do_no_harm),
    };
    return cmocka_run_group_tests(tests, read_messages, forget_messages);
}
