/* The server side of BOOTP, DHCP and of TFTP's read requests, fed message by message on a fake clock near its
 * wrap: what RFC 951, 2131, 2132, 1350, 2347 to 2349 and 7440 demand. */
#include "support/support.h"

#include <einbau/bootp.h>
#include <einbau/tftp_serve.h>

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const uint8_t own_mac[6] = {2, 0, 0x5E, 7, 3, 0x88};

/* --- BOOTP and DHCP ---------------------------------------------------------------------------------- */

static struct eb_bootp server(void)
{
    struct eb_bootp b;
    struct eb_bootp_config config = {.ip = {192, 0, 2, 21},
                                     .mask = {255, 255, 255, 0},
                                     .server = {192, 0, 2, 200},
                                     .file = "tafel.fw",
                                     .lease_s = 600};
    memcpy(config.mac, own_mac, sizeof own_mac);
    eb_bootp_init(&b, &config);
    return b;
}

/* A request with options as they are given: "53 1 1 61 ..." in decimal. */
static size_t request(uint8_t m[400], const uint8_t *mac, const char *options)
{
    size_t at = 240;
    memset(m, 0, 400);
    m[0] = m[1] = 1;
    m[2] = 6;
    memcpy(m + 4, "\xDE\xAD\xBE\xEF", 4);
    memcpy(m + 28, mac, 6);
    if (options == NULL)
        return 236; /* without a vendor field at all */
    memcpy(m + 236, "\x63\x82\x53\x63", 4);
    for (char *end; *options != '\0'; options = *end == ' ' ? end + 1 : end)
        m[at++] = (uint8_t)strtoul(options, &end, 10);
    m[at] = 255;
    return 300;
}

/* An option of an answer. */
static const uint8_t *option(const struct eb_bootp *b, uint8_t code, size_t *size)
{
    for (size_t at = 240; at < b->answer_bytes && b->answer[at] != 255; at += 2 + (size_t)b->answer[at + 1]) {
        *size = b->answer[at + 1];
        if (b->answer[at] == code)
            return b->answer + at + 2;
    }
    return NULL;
}

static void the_exchange_of_dhcp(void **state)
{
    (void)state;
    static const struct {
        const char *options;
        enum eb_bootp_event event;
        int type; /* of the answer, -1: none, 0: without a type */
    } rows[] = {
        {NULL, EB_BOOTP_BOUND, 0},                                      /* 236 bytes of plain BOOTP */
        {"", EB_BOOTP_BOUND, 0},                                        /* with an empty vendor field */
        {"53 1 1", EB_BOOTP_ASKED, 2},                                  /* DISCOVER, OFFER */
        {"53 1 3 50 4 192 0 2 21 54 4 192 0 2 200", EB_BOOTP_BOUND, 5}, /* REQUEST, ACK */
        {"53 1 3 50 4 192 0 2 21", EB_BOOTP_BOUND, 5},                  /* INIT-REBOOT */
        {"53 1 3 50 4 192 0 2 99 54 4 192 0 2 200", EB_BOOTP_ASKED, 6}, /* another address: NAK */
        {"53 1 3 50 4 192 0 2 99", EB_BOOTP_ASKED, 6},
        {"53 1 3 50 4 192 0 2 21 54 4 192 0 2 1", EB_BOOTP_ELSEWHERE, -1},
        {"53 1 3", EB_BOOTP_NOTHING, -1}, /* neither an address that it has nor one that it wants */
        {"53 1 8", EB_BOOTP_ASKED, 5},    /* INFORM */
        {"53 1 4 50 4 192 0 2 21", EB_BOOTP_DECLINED, -1},
        {"53 1 7", EB_BOOTP_NOTHING, -1}, /* RELEASE */
        {"53 1 99", EB_BOOTP_NOTHING, -1},
        {"53 200 1", EB_BOOTP_BOUND, 0}, /* an option that lies about its length is none */
        {"0 0 53 1 1", EB_BOOTP_ASKED, 2},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_bootp b = server();
        uint8_t m[400];
        size_t size = request(m, own_mac, rows[i].options);
        size_t length = 0;
        enum eb_bootp_event event = eb_bootp_receive(&b, m, size);
        const uint8_t *type = option(&b, 53, &length);
        int told = b.answer_bytes == 0 ? -1 : type != NULL ? type[0] : 0;
        if (event != rows[i].event || told != rows[i].type)
            fail_msg("row %zu: event %d, answer %d", i, event, told);
        if (told < 0)
            continue;
        assert_int_equal(b.answer[0], 2);
        assert_memory_equal(b.answer + 4, "\xDE\xAD\xBE\xEF", 4);
        assert_memory_equal(b.answer + 28, own_mac, 6);
        assert_true(b.answer_bytes >= 300);
        static const uint8_t all[4] = {255, 255, 255, 255};
        assert_memory_equal(b.to.ip, all, 4);
        assert_int_equal(b.to.port, 68);
        assert_int_equal(option(&b, 54, &length) != NULL, told > 0); /* RFC 2131 table 3 */
        assert_int_equal(option(&b, 51, &length) != NULL,
                         told == 2 || (told == 5 && event == EB_BOOTP_BOUND));
        if (told == 6)
            continue;
        static const uint8_t yours[4] = {192, 0, 2, 21};
        static const uint8_t no_address[4] = {0};
        bool informed = rows[i].options != NULL && strcmp(rows[i].options, "53 1 8") == 0;
        assert_memory_equal(b.answer + 16, informed ? no_address : yours, 4);
        assert_string_equal((const char *)b.answer + 108, "tafel.fw");
        const uint8_t *file = option(&b, 67, &length);
        assert_memory_equal(file, "tafel.fw", length);
        assert_memory_equal(option(&b, 66, &length), "192.0.2.200", length);
    }
}

static void only_the_device_is_answered(void **state)
{
    (void)state;
    struct eb_bootp b = server();
    uint8_t m[400];
    static const uint8_t other[6] = {2, 0, 0x5E, 7, 0, 0xC1};
    size_t size = request(m, other, "53 1 1");
    assert_int_equal(eb_bootp_receive(&b, m, size), EB_BOOTP_STRANGER);
    assert_memory_equal(b.stranger, other, 6);
    assert_int_equal(b.answer_bytes, 0);
    size = request(m, own_mac, "53 1 1");
    m[0] = 2; /* an answer of somebody else */
    assert_int_equal(eb_bootp_receive(&b, m, size), EB_BOOTP_NOTHING);
    m[0] = 1;
    for (size_t cut = 0; cut < 236; cut++)
        assert_int_equal(eb_bootp_receive(&b, m, cut), EB_BOOTP_NOTHING);
    /* its client id comes back (RFC 6842); one behind a relay is answered there */
    size = request(m, own_mac, "53 1 1 61 7 1 2 0 94 7 3 136");
    m[24] = 198;
    assert_int_equal(eb_bootp_receive(&b, m, size), EB_BOOTP_ASKED);
    size_t length = 0;
    assert_non_null(option(&b, 61, &length));
    assert_int_equal(length, 7);
    assert_int_equal(b.to.ip[0], 198);
    assert_int_equal(b.to.port, 67);
    /* it renews: to its own address */
    size = request(m, own_mac, "53 1 3");
    memcpy(m + 12, "\xC0\x00\x02\x15", 4);
    assert_int_equal(eb_bootp_receive(&b, m, size), EB_BOOTP_BOUND);
    assert_memory_equal(b.to.ip, "\xC0\x00\x02\x15", 4);
    /* options in the fields of names (RFC 2132 section 9.3) */
    size = request(m, own_mac, "52 1 1");
    memcpy(m + 108, "\x35\x01\x01\xFF", 4);
    assert_int_equal(eb_bootp_receive(&b, m, size), EB_BOOTP_ASKED);
}

/* --- TFTP -------------------------------------------------------------------------------------------- */

enum { START = 5000000 };

struct served {
    struct eb_tftp_serve serve;
    struct eb_source source;
    uint8_t image[5000], buffer[8 * 516];
    size_t size;
    uint64_t now_us;
    bool broken;
};

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct served *s = self;
    if (s->broken)
        return EB_IO;
    memcpy(to, s->image + offset, size);
    return EB_OK;
}

static const struct eb_endpoint device = {{192, 0, 2, 21}, 30000};

static void begin(struct served *s, size_t size)
{
    memset(s, 0, sizeof *s);
    for (size_t i = 0; i < sizeof s->image; i++)
        s->image[i] = (uint8_t)(i * 7 + i / 256);
    s->size = size;
    s->now_us = START;
    s->source = (struct eb_source){.self = s, .size_bytes = size, .read = read_image};
    const struct eb_tftp_serve_config config = {.name = "tafel.fw",
                                                .source = &s->source,
                                                .ip = {192, 0, 2, 21},
                                                .blksize = 1468,
                                                .windowsize = 4,
                                                .patience_us = 60000000,
                                                .buffer = s->buffer,
                                                .buffer_bytes = sizeof s->buffer};
    eb_tftp_serve_init(&s->serve, &config);
}

/* A request whose fields stand between bars: "tafel.fw|octet|blksize|1024". */
static bool ask(struct served *s, const struct eb_endpoint *from, int opcode, const char *fields)
{
    uint8_t m[600] = {0, (uint8_t)opcode};
    size_t at = 2;
    for (; *fields != '\0'; fields++)
        m[at++] = *fields == '|' ? 0 : (uint8_t)*fields;
    m[at++] = 0;
    return eb_tftp_serve_request(&s->serve, from, m, at, s->now_us);
}

static void acknowledge(struct served *s, unsigned number)
{
    const uint8_t ack[4] = {0, 4, (uint8_t)(number >> 8), (uint8_t)number};
    eb_tftp_serve_receive(&s->serve, &device, ack, sizeof ack, s->now_us);
}

/* What goes out now: "DATA 1 512|DATA 2 512|", all of it taken. */
static const char *out(struct served *s)
{
    static char text[512];
    struct eb_datagram burst[16];
    text[0] = '\0';
    eb_tftp_serve_tick(&s->serve, s->now_us);
    for (;;) {
        size_t count = eb_tftp_serve_give(&s->serve, burst, 16);
        for (size_t i = 0; i < count; i++) {
            const uint8_t *b = burst[i].bytes;
            size_t at = strlen(text);
            unsigned number = (unsigned)b[2] << 8 | b[3];
            if (b[1] == 3)
                snprintf(text + at, sizeof text - at, "DATA %u %zu|", number, burst[i].size_bytes - 4);
            else if (b[1] == 5)
                snprintf(text + at, sizeof text - at, "ERROR %u|", number);
            else
                snprintf(text + at, sizeof text - at, "OACK %s=%s|", (const char *)b + 2,
                         (const char *)b + 3 + strlen((const char *)b + 2));
        }
        eb_tftp_serve_taken(&s->serve, count, s->now_us);
        if (count == 0)
            return text;
    }
}

static void a_file_without_options(void **state)
{
    (void)state;
    struct served s;
    begin(&s, 1024);
    assert_true(ask(&s, &device, 1, "tafel.fw|octet"));
    assert_string_equal(out(&s), "DATA 1 512|");
    acknowledge(&s, 1);
    assert_string_equal(out(&s), "DATA 2 512|");
    acknowledge(&s, 1); /* twice: nothing is sent (RFC 1123 section 4.2.3.1) */
    assert_string_equal(out(&s), "");
    acknowledge(&s, 2);
    assert_string_equal(out(&s), "DATA 3 0|"); /* the end of an exact multiple */
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_SENDING);
    acknowledge(&s, 3);
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_DONE);
    assert_int_equal(s.serve.acked_bytes, 1024);
    assert_true(eb_tftp_serve_deadline_us(&s.serve) == EB_NEVER);
}

static void options_are_taken_or_left_out(void **state)
{
    (void)state;
    static const struct {
        const char *request, *first, *then;
    } rows[] = {
        {"tafel.fw|octet|blksize|1024", "OACK blksize=1024|", "DATA 1 1024|"},
        {"tafel.fw|OCTET|BLKSIZE|60000", "OACK BLKSIZE=1468|", "DATA 1 1468|"},
        {"tafel.fw|octet|tsize|0", "OACK tsize=3000|", "DATA 1 512|"},
        {"tafel.fw|octet|windowsize|100", "OACK windowsize=4|",
         "DATA 1 512|DATA 2 512|DATA 3 512|DATA 4 512|"},
        {"tafel.fw|octet|timeout|3", "OACK timeout=3|", "DATA 1 512|"},
        {"tafel.fw|octet|blksize|7", "DATA 1 512|", NULL}, /* out of its range: as if it had not been asked */
        {"tafel.fw|octet|multicast|", "DATA 1 512|", NULL},
        {"tafel.fw|octet|blksize|many", "DATA 1 512|", NULL},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct served s;
        begin(&s, 3000);
        assert_true(ask(&s, &device, 1, rows[i].request));
        const char *first = out(&s);
        if (strcmp(first, rows[i].first) != 0)
            fail_msg("row %zu: %s", i, first);
        if (rows[i].then == NULL)
            continue;
        assert_false(ask(&s, &device, 1, rows[i].request)); /* again: the same first answer */
        assert_string_equal(out(&s), rows[i].first);
        acknowledge(&s, 0);
        const char *then = out(&s);
        if (strcmp(then, rows[i].then) != 0)
            fail_msg("row %zu: %s", i, then);
    }
}

static void nothing_else_is_served(void **state)
{
    (void)state;
    static const struct eb_endpoint stranger = {{192, 0, 2, 99}, 30000};
    static const struct {
        const char *request, *answer;
        int opcode;
        bool strange;
    } rows[] = {
        {"other.fw|octet", "ERROR 1|", 1, false},
        {"../tafel.fw|octet", "ERROR 1|", 1, false},
        {"/etc/passwd|octet", "ERROR 1|", 1, false},
        {"./tafel.fw|octet", "ERROR 1|", 1, false},
        {"TAFEL.FW|octet", "ERROR 1|", 1, false},
        {"tafel.fw|netascii", "ERROR 4|", 1, false},
        {"tafel.fw|mail", "ERROR 4|", 1, false},
        {"tafel.fw", "ERROR 4|", 1, false},
        {"", "", 1, false},
        {"tafel.fw|octet", "ERROR 2|", 2, false}, /* it wants to write */
        {"tafel.fw|octet", "ERROR 2|", 1, true},
        {"tafel.fw|octet", "", 5, false}, /* an error is never answered */
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct served s;
        begin(&s, 1000);
        assert_false(ask(&s, rows[i].strange ? &stranger : &device, rows[i].opcode, rows[i].request));
        const char *answer = out(&s);
        if (rows[i].answer[0] != '\0' && strcmp(answer, rows[i].answer) != 0)
            fail_msg("row %zu: %s", i, answer);
        assert_int_equal(s.serve.state, EB_TFTP_SERVE_WAITING);
        assert_true(ask(&s, &device, 1, "tafel.fw|octet"));
    }
    /* a datagram of a stranger in the middle: an error to him, and the transfer goes on */
    struct served s;
    begin(&s, 1000);
    assert_true(ask(&s, &device, 1, "tafel.fw|octet"));
    out(&s);
    const uint8_t ack[4] = {0, 4, 0, 1};
    eb_tftp_serve_receive(&s.serve, &stranger, ack, 4, s.now_us);
    assert_string_equal(out(&s), "ERROR 5|");
    acknowledge(&s, 1);
    assert_string_equal(out(&s), "DATA 2 488|");
}

static void what_is_lost_is_sent_again(void **state)
{
    (void)state;
    struct served s;
    begin(&s, 4000);
    ask(&s, &device, 1, "tafel.fw|octet|windowsize|4");
    out(&s);
    s.now_us += 1000001; /* the answer to the options */
    assert_string_equal(out(&s), "OACK windowsize=4|");
    acknowledge(&s, 0);
    assert_string_equal(out(&s), "DATA 1 512|DATA 2 512|DATA 3 512|DATA 4 512|");
    acknowledge(&s, 2); /* a gap: a new window from there (RFC 7440 section 4) */
    assert_string_equal(out(&s), "DATA 3 512|DATA 4 512|DATA 5 512|DATA 6 512|");
    acknowledge(&s, 2);
    assert_string_equal(out(&s), "");
    s.now_us += 999999;
    assert_string_equal(out(&s), "");
    s.now_us += 2;
    assert_string_equal(out(&s), "DATA 3 512|DATA 4 512|DATA 5 512|DATA 6 512|");
    acknowledge(&s, 9); /* nothing that was sent */
    acknowledge(&s, 6);
    assert_string_equal(out(&s), "DATA 7 512|DATA 8 416|");
    /* the last acknowledgement stays away: it is sent a few times more, and then it may be there */
    unsigned again = 0;
    while (s.serve.state == EB_TFTP_SERVE_SENDING) {
        s.now_us += 10000000;
        again += out(&s)[0] != '\0';
        assert_true(again < 20);
    }
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_DONE);
    assert_true(s.serve.last_unanswered);
    /* silence in the middle ends it */
    begin(&s, 4000);
    ask(&s, &device, 1, "tafel.fw|octet");
    out(&s);
    for (int i = 0; i < 100 && s.serve.state == EB_TFTP_SERVE_SENDING; i++) {
        s.now_us += 5000000;
        out(&s);
    }
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_FAILED);
    assert_int_equal(s.serve.error.status, EB_NO_ANSWER);
}

static void a_device_may_begin_anew(void **state)
{
    (void)state;
    struct served s;
    const struct eb_endpoint later = {{192, 0, 2, 21}, 30001};
    const uint8_t enough[] = {0, 5, 0, 0, 'e', 'n', 'o', 'u', 'g', 'h', 0};
    begin(&s, 3000);
    ask(&s, &device, 1, "tafel.fw|octet|tsize|0");
    out(&s);
    eb_tftp_serve_receive(&s.serve, &device, enough, sizeof enough, s.now_us); /* it knows the size now */
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_WAITING);
    assert_string_equal(s.serve.error.text, "enough");
    assert_true(ask(&s, &later, 1, "tafel.fw|octet"));
    assert_string_equal(out(&s), "DATA 1 512|");
    acknowledge(&s, 1); /* of the earlier transfer's port */
    assert_string_equal(out(&s), "ERROR 5|");
    assert_int_equal(s.serve.requests, 2);
    s.broken = true;
    begin(&s, 3000);
    s.broken = true;
    ask(&s, &device, 1, "tafel.fw|octet");
    out(&s);
    assert_int_equal(s.serve.state, EB_TFTP_SERVE_FAILED);
    assert_int_equal(s.serve.error.status, EB_IO);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_exchange_of_dhcp),    cmocka_unit_test(only_the_device_is_answered),
        cmocka_unit_test(a_file_without_options),  cmocka_unit_test(options_are_taken_or_left_out),
        cmocka_unit_test(nothing_else_is_served),  cmocka_unit_test(what_is_lost_is_sent_again),
        cmocka_unit_test(a_device_may_begin_anew),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
