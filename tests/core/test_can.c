/* The engines of the CAN bus on arrays of frames: bits, the ASCII adapter protocol, SDO and LSS.
 * Expected frames are those of the standards. */
#include "can_frames.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- frames -------------------------------------------------------------------------------------- */

/* The stuffed region written out as bits, and counted by the rule itself: ISO 11898-1 section 10.5. */
static unsigned count_bits(const struct eb_can_frame *f)
{
    char bits[200];
    size_t n = 0;
    unsigned stuffed = 0;
    bool remote = (f->flags & EB_CAN_REMOTE) != 0;
    bits[n++] = 0;
    if ((f->flags & EB_CAN_EXTENDED) != 0) {
        for (int i = 28; i >= 18; i--)
            bits[n++] = f->id >> i & 1;
        bits[n++] = 1;
        bits[n++] = 1;
        for (int i = 17; i >= 0; i--)
            bits[n++] = f->id >> i & 1;
    } else {
        for (int i = 10; i >= 0; i--)
            bits[n++] = f->id >> i & 1;
    }
    bits[n++] = remote;
    bits[n++] = 0;
    bits[n++] = 0;
    for (int i = 3; i >= 0; i--)
        bits[n++] = f->size >> i & 1;
    for (int k = 0; k < f->size && !remote; k++) {
        for (int i = 7; i >= 0; i--)
            bits[n++] = f->data[k] >> i & 1;
    }
    unsigned crc = 0;
    for (size_t i = 0; i < n; i++) {
        unsigned next = (unsigned)bits[i] ^ (crc >> 14 & 1);
        crc = crc << 1 & 0x7FFF;
        crc ^= next ? 0x4599 : 0;
    }
    for (int i = 14; i >= 0; i--)
        bits[n++] = crc >> i & 1;
    char last = 2;
    unsigned run = 0;
    for (size_t i = 0; i < n; i++) {
        run = bits[i] == last ? run + 1 : 1;
        last = bits[i];
        if (run == 5) {
            stuffed++;
            last = (char)(1 - last);
            run = 1;
        }
    }
    return (unsigned)n + stuffed + 13;
}

static void bits_are_counted_with_their_stuffing(void **state)
{
    (void)state;
    unsigned least[2] = {1000, 1000};
    unsigned most[2] = {0, 0};
    srand(5);
    for (int i = 0; i < 100000; i++) {
        struct eb_can_frame f = {.id = (uint32_t)rand() & 0x7FF, .size = 8};
        bool extended = i % 2 != 0;
        if (extended)
            f = (struct eb_can_frame){
                .id = (uint32_t)rand() & 0x1FFFFFFF, .size = 8, .flags = EB_CAN_EXTENDED};
        for (int k = 0; k < 8; k++)
            f.data[k] = i % 7 == 0 ? 0 : i % 11 == 0 ? 0xFF : (uint8_t)rand();
        unsigned bits = eb_can_bits(&f);
        assert_int_equal(bits, count_bits(&f));
        least[extended] = bits < least[extended] ? bits : least[extended];
        most[extended] = bits > most[extended] ? bits : most[extended];
    }
    /* 47 + 8n to 55 + 10n, 67 + 8n to 80 + 10n */
    assert_true(least[0] >= 111 && most[0] <= 135 && least[1] >= 131 && most[1] <= 160);
    for (uint32_t id = 0; id <= 0x7FF; id++) {
        const struct eb_can_frame empty = {.id = id};
        const struct eb_can_frame remote = {.id = id, .flags = EB_CAN_REMOTE, .size = 8};
        assert_true(eb_can_bits(&empty) >= 47 && eb_can_bits(&empty) <= 55);
        assert_int_equal(eb_can_bits(&remote), count_bits(&remote));
    }
}

static void an_adapter_is_filled_in_turns(void **state)
{
    (void)state;
    struct eb_can_pace pace;
    eb_can_pace_init(&pace, 8, 125000); /* turns of 31 frames */
    uint32_t given = 0;
    assert_int_equal(eb_can_pace_room(&pace), 8);
    while (eb_can_pace_room(&pace) > 0) {
        uint32_t n = eb_can_pace_room(&pace);
        eb_can_pace_given(&pace, n, false);
        given += n;
        for (uint32_t i = 1; i < n && given < pace.turn; i++)
            eb_can_pace_sent(&pace);
    }
    assert_int_equal(given, 31);
    assert_true(pace.in_flight > 0);
    while (pace.in_flight > 1)
        assert_false(eb_can_pace_sent(&pace)); /* no room before it has run empty */
    assert_true(eb_can_pace_sent(&pace));
    assert_int_equal(eb_can_pace_room(&pace), 8);
}

/* Three handles want to send all the time, 0 or more of them urgent: what each has sent after some turns. */
static void share_out(unsigned urgent, uint32_t sent[3])
{
    struct eb_can_pace pace;
    eb_can_pace_init(&pace, 32, 250000); /* turns of 62 frames */
    memset(sent, 0, 3 * sizeof sent[0]);
    for (unsigned at = 0, turns = 0; turns < 100; at++) {
        unsigned i = at % 3;
        const struct eb_can_others others = {
            .waiting = 2, .urgent_waiting = urgent - (i < urgent), .urgent = urgent > (i < urgent)};
        uint32_t n = eb_can_pace_share(&pace, &others, i < urgent);
        assert_true(n <= eb_can_pace_room(&pace));
        eb_can_pace_given(&pace, n, i >= urgent && urgent > 0);
        sent[i] += n;
        while (i == 2 && pace.in_flight > 0 && !eb_can_pace_sent(&pace)) {
        }
        turns += i == 2 && pace.in_flight == 0;
    }
}

static void what_is_urgent_gets_most_of_an_adapter(void **state)
{
    (void)state;
    uint32_t sent[3];
    share_out(0, sent);
    for (size_t i = 0; i < 3; i++)
        assert_true(sent[i] > 100 * 62 / 4 && sent[i] < 100 * 62 / 2);
    share_out(1, sent);
    assert_true(sent[0] >= 100 * 55);
    assert_true(sent[1] > 0 && sent[2] > 0 && sent[1] + sent[2] >= 150); /* about one in each turn */
    share_out(2, sent);
    assert_true(sent[0] > 100 * 20 && sent[1] > 100 * 20 && sent[2] >= 75);
    share_out(3, sent);
    for (size_t i = 0; i < 3; i++)
        assert_true(sent[i] > 100 * 62 / 4);
    /* alone it has all of it, urgent or not */
    struct eb_can_pace pace;
    eb_can_pace_init(&pace, 32, 250000);
    struct eb_can_others none = {0};
    assert_int_equal(eb_can_pace_share(&pace, &none, true), 32);
    assert_int_equal(eb_can_pace_share(&pace, &none, false), 32);
    none.urgent = true; /* one that waits for an answer finds few frames before its own */
    assert_int_equal(eb_can_pace_share(&pace, &none, false), 8);
}

/* --- the ASCII adapter protocol ------------------------------------------------------------------ */

static enum eb_ascii_can_kind take(struct eb_ascii_can *r, const char *text, struct eb_can_frame *f)
{
    enum eb_ascii_can_kind kind = EB_ASCII_CAN_NOTHING;
    for (const char *c = text; *c != '\0'; c++)
        kind = eb_ascii_can_take(r, (uint8_t)*c, f);
    return kind;
}

static void frames_and_answers_of_serial_adapters_are_read(void **state)
{
    (void)state;
    static const struct {
        const char *text;
        enum eb_ascii_can_kind kind;
        struct eb_can_frame frame;
    } rows[] = {
        {"\r", EB_ASCII_CAN_DONE, {0}},
        {"z\r", EB_ASCII_CAN_TAKEN, {0}},
        {"Z\r", EB_ASCII_CAN_TAKEN, {0}},
        {"\a", EB_ASCII_CAN_REFUSED, {0}},
        {"t1232AABB\r", EB_ASCII_CAN_FRAME, {.id = 0x123, .size = 2, .data = {0xAA, 0xBB}}},
        {"t1232aabbEA5F\r", EB_ASCII_CAN_FRAME, {.id = 0x123, .size = 2, .data = {0xAA, 0xBB}}},
        {"t7FF0\r", EB_ASCII_CAN_FRAME, {.id = 0x7FF}},
        {"t7FF00001\r", EB_ASCII_CAN_FRAME, {.id = 0x7FF}},
        {"T1FFFFFFF101\r",
         EB_ASCII_CAN_FRAME,
         {.id = 0x1FFFFFFF, .flags = EB_CAN_EXTENDED, .size = 1, .data = {1}}},
        {"r70B1\r", EB_ASCII_CAN_FRAME, {.id = 0x70B, .flags = EB_CAN_REMOTE, .size = 1}},
        {"R000000018\r", EB_ASCII_CAN_FRAME, {.id = 1, .flags = EB_CAN_EXTENDED | EB_CAN_REMOTE, .size = 8}},
        {"t8000\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t1239\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t1232AAB\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t1232AABBEA5\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t1232AABBEA5FF\r", EB_ASCII_CAN_NOTHING, {0}},
        {"T200000000\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t12\r", EB_ASCII_CAN_NOTHING, {0}},
        {"x\r", EB_ASCII_CAN_NOTHING, {0}},
        {"F80\r", EB_ASCII_CAN_FLAGS, {0}},
        {"V0102\r", EB_ASCII_CAN_TEXT, {0}},
        {"sp130128\r", EB_ASCII_CAN_STATE, {0}},
        {"sq130128\r", EB_ASCII_CAN_NOTHING, {0}},
        {"e2ab\r", EB_ASCII_CAN_FAULT, {0}},
        {"e3ab\r", EB_ASCII_CAN_NOTHING, {0}},
        {"t1238000102030405060708090A0B0C0D0E0F101112131415161718\r", EB_ASCII_CAN_NOTHING, {0}},
    };
    struct eb_ascii_can r;
    eb_ascii_can_init(&r);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_can_frame f = {0};
        enum eb_ascii_can_kind kind = take(&r, rows[i].text, &f);
        if (kind != rows[i].kind)
            fail_msg("%s: found %d, expected %d", rows[i].text, kind, rows[i].kind);
        if (kind == EB_ASCII_CAN_FRAME)
            assert_memory_equal(&f, &rows[i].frame, sizeof f);
    }
    struct eb_can_frame f;
    assert_int_equal(take(&r, "sp130128\r", &f), EB_ASCII_CAN_STATE);
    assert_int_equal(r.mode, EB_CAN_PASSIVE);
    assert_int_equal(r.rx_errors, 130);
    assert_int_equal(r.tx_errors, 128);
    assert_int_equal(take(&r, "e4abBs\r", &f), EB_ASCII_CAN_FAULT);
    assert_int_equal(r.faults[EB_CAN_FAULT_ACK], 1);
    assert_int_equal(r.faults[EB_CAN_FAULT_BIT], 2);
    assert_int_equal(r.faults[EB_CAN_FAULT_STUFF], 1);
}

static void frames_are_written_as_they_are_read(void **state)
{
    (void)state;
    char text[EB_ASCII_CAN_FRAME_BYTES + 8] = "";
    struct eb_ascii_can r;
    eb_ascii_can_init(&r);
    srand(9);
    for (int i = 0; i < 20000; i++) {
        struct eb_can_frame f = {.flags = (uint8_t)(i % 4), .size = (uint8_t)(i % 9)};
        struct eb_can_frame back = {0};
        f.id = (uint32_t)rand() & ((f.flags & EB_CAN_EXTENDED) != 0 ? 0x1FFFFFFFU : 0x7FFU);
        for (int k = 0; k < EB_CAN_BYTES && k < f.size && (f.flags & EB_CAN_REMOTE) == 0; k++)
            f.data[k] = (uint8_t)rand();
        size_t size = eb_ascii_can_put(&f, text);
        assert_true(size >= 5 && size <= EB_ASCII_CAN_FRAME_BYTES && text[size - 1] == '\r');
        memset(text + size, 0, sizeof text - size);
        assert_int_equal(take(&r, text, &back), EB_ASCII_CAN_FRAME);
        assert_memory_equal(&f, &back, sizeof f);
    }
    assert_int_equal(eb_ascii_can_rate(250000), '5');
    assert_int_equal(eb_ascii_can_rate(800000), '7');
    assert_int_equal(eb_ascii_can_rate(750000), 0);
}

/* --- SDO ----------------------------------------------------------------------------------------- */

enum { PATIENCE = 1000000 };

static void give_one(struct eb_sdo *s, const char *hex)
{
    struct eb_can_frame f;
    assert_int_equal(eb_sdo_give(s, &f, 1), 1);
    assert_frame(&f, 0x60B, hex);
    eb_sdo_taken(s, 1, 0);
}

static void answer(struct eb_sdo *s, const char *hex)
{
    const struct eb_can_frame f = frame_of(0x58B, hex);
    eb_sdo_receive(s, &f, 0);
}

static void objects_are_read_and_written(void **state)
{
    (void)state;
    struct eb_sdo s;
    uint8_t to[16];
    eb_sdo_init(&s, 11);
    eb_sdo_read(&s, 0x1018, 4, EB_SDO_SEGMENTED, to, sizeof to, PATIENCE, 0);
    give_one(&s, "40 18 10 04 00 00 00 00");
    answer(&s, "43 18 10 03 01 02 03 04"); /* to another question */
    assert_int_equal(s.state, EB_SDO_BUSY);
    answer(&s, "43 18 10 04 01 02 03 04");
    assert_int_equal(s.state, EB_SDO_DONE);
    assert_int_equal(s.size, 4);

    eb_sdo_read(&s, 0x1008, 0, EB_SDO_SEGMENTED, to, sizeof to, PATIENCE, 0);
    give_one(&s, "40 08 10 00 00 00 00 00");
    answer(&s, "41 08 10 00 09 00 00 00");
    give_one(&s, "60 00 00 00 00 00 00 00");
    answer(&s, "00 61 62 63 64 65 66 67");
    answer(&s, "00 61 62 63 64 65 66 67"); /* twice */
    give_one(&s, "70 00 00 00 00 00 00 00");
    answer(&s, "1B 68 69 00 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    assert_int_equal(s.size, 9);
    assert_memory_equal(to, "abcdefghi", 9);

    const uint8_t stop = 0;
    eb_sdo_write(&s, 0x1F51, 1, &stop, 1, PATIENCE, 0);
    give_one(&s, "2F 51 1F 01 00 00 00 00");
    answer(&s, "60 51 1F 01 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    const uint8_t two[2] = {0xE8, 0x03};
    eb_sdo_write(&s, 0x1017, 0, two, 2, PATIENCE, 0);
    give_one(&s, "2B 17 10 00 E8 03 00 00");
    answer(&s, "80 17 10 00 22 00 00 08");
    assert_int_equal(s.state, EB_SDO_FAILED);
    assert_int_equal(s.error.number, 0x08000022);
    assert_string_equal(s.error.text, "data cannot be stored in the present state of the device");
}

static void segments_alternate(void **state)
{
    (void)state;
    struct eb_sdo s;
    const struct eb_source source = source_of(16);
    eb_sdo_init(&s, 11);
    eb_sdo_write_source(&s, 0x1F50, 1, EB_SDO_SEGMENTED, &source, PATIENCE, 0);
    give_one(&s, "21 50 1F 01 10 00 00 00");
    answer(&s, "60 50 1F 01 00 00 00 00");
    give_one(&s, "00 01 02 03 04 05 06 07");
    answer(&s, "20 00 00 00 00 00 00 00");
    give_one(&s, "10 08 09 0A 0B 0C 0D 0E");
    answer(&s, "20 00 00 00 00 00 00 00"); /* the one before again */
    assert_int_equal(s.done_bytes, 7);
    answer(&s, "30 00 00 00 00 00 00 00");
    give_one(&s, "0B 0F 10 00 00 00 00 00");
    answer(&s, "20 00 00 00 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    assert_int_equal(s.done_bytes, 16);
}

/* CiA 301 section 7.2.4.3.7: 16 bytes are three segments, D5h ends them, the CRC of 01h to 10h is 65E5h. */
static void a_block_is_as_the_standard_draws_it(void **state)
{
    (void)state;
    struct eb_sdo s;
    struct eb_can_frame f[8];
    const struct eb_source source = source_of(16);
    eb_sdo_init(&s, 11);
    eb_sdo_write_source(&s, 0x1F50, 1, EB_SDO_BLOCK, &source, PATIENCE, 0);
    give_one(&s, "C6 50 1F 01 10 00 00 00");
    answer(&s, "A4 50 1F 01 7F 00 00 00");
    assert_int_equal(eb_sdo_give(&s, f, 8), 3);
    assert_frame(&f[0], 0x60B, "01 01 02 03 04 05 06 07");
    assert_frame(&f[1], 0x60B, "02 08 09 0A 0B 0C 0D 0E");
    assert_frame(&f[2], 0x60B, "83 0F 10 00 00 00 00 00");
    eb_sdo_taken(&s, 3, 0);
    answer(&s, "A2 03 7F 00 00 00 00 00");
    give_one(&s, "D5 E5 65 00 00 00 00 00");
    answer(&s, "A1 00 00 00 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    assert_int_equal(eb_sdo_crc(0, (const uint8_t *)"123456789", 9), 0x31C3);
}

/* What the receiver has not got is sent again from there, with the block size that it asks for now. */
static void lost_segments_are_sent_again(void **state)
{
    (void)state;
    struct eb_sdo s;
    struct eb_can_frame f[8];
    const struct eb_source source = source_of(28); /* four segments */
    eb_sdo_init(&s, 11);
    eb_sdo_write_source(&s, 0x1F50, 1, EB_SDO_BLOCK, &source, PATIENCE, 0);
    give_one(&s, "C6 50 1F 01 1C 00 00 00");
    answer(&s, "A4 50 1F 01 03 00 00 00");
    assert_int_equal(eb_sdo_give(&s, f, 8), 3);
    eb_sdo_taken(&s, 3, 0);
    answer(&s, "A2 01 02 00 00 00 00 00"); /* only the first came; two at once from now on */
    assert_int_equal(s.done_bytes, 7);
    assert_int_equal(eb_sdo_give(&s, f, 8), 2);
    assert_frame(&f[0], 0x60B, "01 08 09 0A 0B 0C 0D 0E");
    assert_frame(&f[1], 0x60B, "02 0F 10 11 12 13 14 15");
    eb_sdo_taken(&s, 2, 0);
    answer(&s, "A2 00 7F 00 00 00 00 00"); /* nothing came */
    assert_int_equal(eb_sdo_give(&s, f, 8), 3);
    assert_frame(&f[2], 0x60B, "83 16 17 18 19 1A 1B 1C");
    eb_sdo_taken(&s, 3, 0);
    answer(&s, "A2 03 7F 00 00 00 00 00");
    /* no byte without data, and the CRC counts each byte once: by binascii.crc_hqx of Python, 2F09h */
    give_one(&s, "C1 09 2F 00 00 00 00 00");
    /* and nine times nothing is enough */
    eb_sdo_write_source(&s, 0x1F50, 1, EB_SDO_BLOCK, &source, PATIENCE, 0);
    give_one(&s, "C6 50 1F 01 1C 00 00 00");
    answer(&s, "A4 50 1F 01 7F 00 00 00");
    for (int i = 0; i <= EB_SDO_REPEATS_MAX && s.state == EB_SDO_BUSY; i++) {
        eb_sdo_taken(&s, eb_sdo_give(&s, f, 8), 0);
        answer(&s, "A2 00 7F 00 00 00 00 00");
    }
    assert_int_equal(s.state, EB_SDO_FAILED);
    give_one(&s, "80 50 1F 01 03 00 04 05");
}

static void a_node_without_blocks_gets_segments(void **state)
{
    (void)state;
    struct eb_sdo s;
    const struct eb_source source = source_of(16);
    eb_sdo_init(&s, 11);
    eb_sdo_write_source(&s, 0x1F50, 1, EB_SDO_BLOCK, &source, PATIENCE, 0);
    give_one(&s, "C6 50 1F 01 10 00 00 00");
    answer(&s, "80 50 1F 01 01 00 04 05");
    assert_int_equal(s.state, EB_SDO_BUSY);
    give_one(&s, "21 50 1F 01 10 00 00 00");
    uint8_t to[16];
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_BLOCK, to, sizeof to, PATIENCE, 0);
    give_one(&s, "A4 08 10 00 7F 00 00 00");
    answer(&s, "80 08 10 00 01 00 04 05");
    give_one(&s, "40 08 10 00 00 00 00 00");
}

static void blocks_are_read(void **state)
{
    (void)state;
    struct eb_sdo s;
    uint8_t to[20];
    (void)source_of(16);
    eb_sdo_init(&s, 11);
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_BLOCK, to, sizeof to, PATIENCE, 0);
    give_one(&s, "A4 08 10 00 7F 00 00 00");
    answer(&s, "C6 08 10 00 10 00 00 00");
    give_one(&s, "A3 00 00 00 00 00 00 00");
    answer(&s, "01 01 02 03 04 05 06 07");
    answer(&s, "83 0F 10 00 00 00 00 00"); /* the second one is lost: what follows does not count */
    eb_sdo_tick(&s, PATIENCE);
    give_one(&s, "A2 01 7F 00 00 00 00 00");
    answer(&s, "01 08 09 0A 0B 0C 0D 0E");
    answer(&s, "82 0F 10 00 00 00 00 00");
    give_one(&s, "A2 02 7F 00 00 00 00 00");
    answer(&s, "D5 E5 65 00 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    give_one(&s, "A1 00 00 00 00 00 00 00");
    assert_int_equal(s.size, 16);
    assert_memory_equal(to, image, 16);
    /* with pst a node may answer in the simple way */
    eb_sdo_read(&s, 0x1000, 0, EB_SDO_BLOCK, to, sizeof to, PATIENCE, 0);
    give_one(&s, "A4 00 10 00 7F 00 00 00");
    answer(&s, "43 00 10 00 91 01 0F 00");
    assert_int_equal(s.state, EB_SDO_DONE);
    /* a check sequence that does not fit */
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_BLOCK, to, sizeof to, PATIENCE, 0);
    give_one(&s, "A4 08 10 00 7F 00 00 00");
    answer(&s, "C6 08 10 00 02 00 00 00");
    give_one(&s, "A3 00 00 00 00 00 00 00");
    answer(&s, "81 01 02 00 00 00 00 00");
    give_one(&s, "A2 01 7F 00 00 00 00 00");
    answer(&s, "D5 00 00 00 00 00 00 00");
    assert_int_equal(s.state, EB_SDO_FAILED);
    give_one(&s, "80 08 10 00 04 00 04 05");
}

static void silence_and_too_much_end_a_transfer(void **state)
{
    (void)state;
    struct eb_sdo s;
    uint8_t to[8];
    eb_sdo_init(&s, 11);
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_SEGMENTED, to, sizeof to, PATIENCE, 5);
    give_one(&s, "40 08 10 00 00 00 00 00");
    assert_int_equal(eb_sdo_deadline_us(&s), PATIENCE);
    eb_sdo_tick(&s, PATIENCE - 1);
    assert_int_equal(s.state, EB_SDO_BUSY);
    eb_sdo_tick(&s, PATIENCE);
    assert_int_equal(s.state, EB_SDO_FAILED);
    assert_int_equal(s.error.status, EB_NO_ANSWER);
    give_one(&s, "80 08 10 00 00 00 04 05");
    answer(&s, "43 08 10 00 01 02 03 04"); /* too late */
    assert_int_equal(s.state, EB_SDO_FAILED);
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_SEGMENTED, to, sizeof to, PATIENCE, 0);
    give_one(&s, "40 08 10 00 00 00 00 00");
    answer(&s, "41 08 10 00 09 00 00 00"); /* one byte more than there is room */
    assert_int_equal(s.error.status, EB_TOO_LARGE);
    eb_sdo_read(&s, 0x1008, 0, EB_SDO_SEGMENTED, to, sizeof to, PATIENCE, 0);
    give_one(&s, "40 08 10 00 00 00 00 00");
    eb_sdo_stop(&s);
    assert_int_equal(s.error.status, EB_STOPPED);
    give_one(&s, "80 08 10 00 00 00 00 08");
}

/* CiA 301 table 22. */
static void every_abort_code_is_text(void **state)
{
    (void)state;
    static const uint32_t codes[] = {
        0x05030000, 0x05040000, 0x05040001, 0x05040002, 0x05040003, 0x05040004, 0x05040005, 0x06010000,
        0x06010001, 0x06010002, 0x06020000, 0x06040041, 0x06040042, 0x06040043, 0x06040047, 0x06060000,
        0x06070010, 0x06070012, 0x06070013, 0x06090011, 0x06090030, 0x06090031, 0x06090032, 0x06090036,
        0x060A0023, 0x08000000, 0x08000020, 0x08000021, 0x08000022, 0x08000023, 0x08000024};
    for (size_t i = 0; i < sizeof codes / sizeof codes[0]; i++) {
        assert_string_not_equal(eb_sdo_abort_text(codes[i]), eb_sdo_abort_text(0x12345678));
        for (size_t k = 0; k < i; k++)
            assert_string_not_equal(eb_sdo_abort_text(codes[i]), eb_sdo_abort_text(codes[k]));
    }
}

/* --- LSS ----------------------------------------------------------------------------------------- */

static void lss_speaks_as_the_standard_says(void **state)
{
    (void)state;
    struct eb_lss l;
    struct eb_can_frame f[8];
    const uint32_t identity[4] = {0x11, 0x22, 0x33, 0x44};
    eb_lss_init(&l);
    eb_lss_select(&l, identity, 0);
    assert_int_equal(eb_lss_give(&l, f, 8), 4);
    assert_frame(&f[0], 0x7E5, "40 11 00 00 00 00 00 00");
    assert_frame(&f[3], 0x7E5, "43 44 00 00 00 00 00 00");
    eb_lss_taken(&l, 4, 0);
    const struct eb_can_frame selected = frame_of(0x7E4, "44 00 00 00 00 00 00 00");
    eb_lss_receive(&l, &selected, 0);
    assert_int_equal(l.state, EB_LSS_DONE);
    eb_lss_set_bit_rate(&l, 125000, 0);
    assert_int_equal(eb_lss_give(&l, f, 8), 1);
    assert_frame(&f[0], 0x7E5, "13 00 04 00 00 00 00 00");
    eb_lss_taken(&l, 1, 0);
    const struct eb_can_frame refused = frame_of(0x7E4, "13 01 00 00 00 00 00 00");
    eb_lss_receive(&l, &refused, 0);
    assert_int_equal(l.state, EB_LSS_FAILED);
    assert_int_equal(l.error.number, 1);
    eb_lss_set_bit_rate(&l, 123456, 0);
    assert_int_equal(l.error.status, EB_BAD_CALL);
    eb_lss_set_node(&l, 11, 0);
    assert_int_equal(eb_lss_give(&l, f, 8), 1);
    assert_frame(&f[0], 0x7E5, "11 0B 00 00 00 00 00 00");
    eb_lss_taken(&l, 1, 0);
    eb_lss_tick(&l, 499999);
    assert_int_equal(l.state, EB_LSS_BUSY);
    eb_lss_tick(&l, 500000);
    assert_int_equal(l.error.status, EB_NO_ANSWER);
    eb_lss_release(&l, 0);
    assert_int_equal(eb_lss_give(&l, f, 8), 1);
    assert_frame(&f[0], 0x7E5, "04 00 00 00 00 00 00 00");
    eb_lss_taken(&l, 1, 0);
    assert_int_equal(l.state, EB_LSS_DONE);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(bits_are_counted_with_their_stuffing),
        cmocka_unit_test(an_adapter_is_filled_in_turns),
        cmocka_unit_test(what_is_urgent_gets_most_of_an_adapter),
        cmocka_unit_test(frames_and_answers_of_serial_adapters_are_read),
        cmocka_unit_test(frames_are_written_as_they_are_read),
        cmocka_unit_test(objects_are_read_and_written),
        cmocka_unit_test(segments_alternate),
        cmocka_unit_test(a_block_is_as_the_standard_draws_it),
        cmocka_unit_test(lost_segments_are_sent_again),
        cmocka_unit_test(a_node_without_blocks_gets_segments),
        cmocka_unit_test(blocks_are_read),
        cmocka_unit_test(silence_and_too_much_end_a_transfer),
        cmocka_unit_test(every_abort_code_is_text),
        cmocka_unit_test(lss_speaks_as_the_standard_says),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
