/* Images as file records of Modbus/TCP, request by request; frames as the Application Protocol 1.1b3,
 * section 6.15 draws them, and as pymodbus makes them. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { HEAD = 7, UNIT = 1, TID = 0xFFFE, PATIENCE_US = 5000000 };

static uint8_t image[50000];

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    memcpy(to, image + offset, size);
    return EB_OK;
}

static struct eb_source source = {.read = read_image};

static void begin(struct eb_modbus_file *f, size_t size, uint16_t file, uint16_t group)
{
    const struct eb_modbus_file_config config = {.unit = UNIT,
                                                 .tid = TID,
                                                 .file = file,
                                                 .group = group,
                                                 .source = &source,
                                                 .patience_us = PATIENCE_US};
    for (size_t i = 0; i < sizeof image; i++)
        image[i] = (uint8_t)(i * 7 + i / 256);
    source.size_bytes = size;
    assert_int_equal(eb_modbus_file_begin(f, &config, 1000), EB_OK);
}

/* What goes out, whole; its size. */
static size_t take(struct eb_modbus_file *f, uint8_t frame[EB_MODBUS_FRAME_BYTES])
{
    const uint8_t *bytes;
    size_t size = eb_modbus_file_give(f, &bytes);
    memcpy(frame, bytes, size);
    eb_modbus_file_taken(f, size);
    return size;
}

/* The device's exception to the request in `frame`. */
static void refuse(struct eb_modbus_file *f, const uint8_t *frame, uint8_t code)
{
    const uint8_t answer[] = {frame[0], frame[1], 0, 0, 0, 3, frame[6], 0x95, code};
    eb_modbus_file_receive(f, answer, sizeof answer);
}

static unsigned get16(const uint8_t *at)
{
    return (unsigned)at[0] << 8 | at[1];
}

/* A device that takes everything, checking each request against the next place. */
static void every_request_is_as_the_standard_draws_it(void **state)
{
    (void)state;
    static const struct {
        size_t size;
        uint16_t file, group;
        unsigned requests;
    } rows[] = {{1, 1, 122, 1},      {2, 1, 122, 1},      {244, 4, 122, 1},     {245, 4, 122, 2},
                {20000, 4, 122, 82}, {20001, 4, 122, 83}, {50000, 9, 100, 250}, {300, 65535, 1, 150}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_modbus_file f;
        uint8_t frame[EB_MODBUS_FRAME_BYTES];
        unsigned requests = 0;
        size_t at = 0;
        begin(&f, rows[i].size, rows[i].file, rows[i].group);
        while (f.state == EB_MODBUS_ASKING) {
            size_t size = take(&f, frame);
            const uint8_t *pdu = frame + HEAD;
            unsigned count = get16(pdu + 7);
            size_t real = rows[i].size - at < 2 * (size_t)count ? 2 * (size_t)count - 1 : 2 * (size_t)count;
            assert_int_equal(get16(frame), (TID + 1 + requests) & 0xFFFF);
            assert_int_equal(get16(frame + 2), 0);
            assert_int_equal(get16(frame + 4), size - 6);
            assert_int_equal(frame[6], UNIT);
            assert_int_equal(pdu[0], 0x15);
            assert_int_equal(pdu[1], size - HEAD - 2);
            assert_int_equal(pdu[2], 6);
            assert_int_equal(get16(pdu + 3), rows[i].file + at / 20000);
            assert_int_equal(get16(pdu + 5), at % 20000 / 2);
            assert_true(count >= 1 && count <= rows[i].group && get16(pdu + 5) + count <= 10000);
            assert_int_equal(size, HEAD + 9 + 2 * (size_t)count);
            assert_memory_equal(pdu + 9, image + at, real);
            if (real % 2 != 0)
                assert_int_equal(pdu[9 + real], 0xFF);
            at += real;
            requests++;
            assert_int_equal(f.all_sent, at == rows[i].size);
            /* its echo, in pieces */
            eb_modbus_file_receive(&f, frame, 3);
            assert_int_equal(f.acked_bytes, at - real);
            eb_modbus_file_receive(&f, frame + 3, size - 3);
            assert_int_equal(f.acked_bytes, at);
        }
        assert_int_equal(f.state, EB_MODBUS_DONE);
        assert_int_equal(at, rows[i].size);
        assert_int_equal(requests, rows[i].requests);
        assert_true(eb_modbus_file_deadline_us(&f) == EB_NEVER);
    }
}

/* pymodbus encodes the same place and bytes; its decoder reads ours. */
static void pymodbus_makes_the_same_requests(void **state)
{
    (void)state;
    struct eb_modbus_file f;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    char folder[PATH_BYTES];
    begin(&f, 20060, 7, 50);
    make_folder(folder);
    while (f.state == EB_MODBUS_ASKING) {
        size_t size = take(&f, frame);
        write_bytes(folder, "request", frame + HEAD + 1, size - HEAD - 1);
        struct outcome o =
            f.acked_bytes % 2000 != 0
                ? (struct outcome){0}
                : shell("/usr/bin/python3 -c \"from pymodbus.file_message import *\n"
                        "body = open('%s/request', 'rb').read()\n"
                        "read = WriteFileRecordRequest(); read.decode(body); r = read.records[0]\n"
                        "made = WriteFileRecordRequest([FileRecord(file_number=%u, record_number=%u, "
                        "record_data=body[8:])])\n"
                        "assert made.encode() == body\n"
                        "print(len(read.records), r.file_number, r.record_number, r.record_length)\"",
                        folder, get16(frame + HEAD + 3), get16(frame + HEAD + 5));
        if (o.out != NULL) {
            char wanted[64];
            snprintf(wanted, sizeof wanted, "1 %u %u %u\n", get16(frame + HEAD + 3), get16(frame + HEAD + 5),
                     get16(frame + HEAD + 7));
            if (strcmp(o.out, wanted) != 0)
                fail_msg("%s%s", o.out, o.err);
            outcome_free(&o);
        }
        eb_modbus_file_receive(&f, frame, size);
    }
    assert_int_equal(f.state, EB_MODBUS_DONE);
    remove_folder(folder);
}

static void a_busy_device_is_asked_again(void **state)
{
    (void)state;
    static const uint8_t codes[] = {5, 6};
    for (size_t i = 0; i < sizeof codes; i++) {
        struct eb_modbus_file f;
        uint8_t first[EB_MODBUS_FRAME_BYTES];
        uint8_t again[EB_MODBUS_FRAME_BYTES];
        const uint8_t *none;
        uint64_t now_us = 1000;
        uint64_t pause_us = 5000;
        begin(&f, 500, 1, 122);
        size_t size = take(&f, first);
        for (int k = 0; k < 10; k++) {
            refuse(&f, k == 0 ? first : again, codes[i]);
            assert_int_equal(eb_modbus_file_give(&f, &none), 0);
            assert_int_equal(eb_modbus_file_deadline_us(&f), now_us + pause_us);
            eb_modbus_file_tick(&f, now_us + pause_us - 1);
            assert_int_equal(eb_modbus_file_give(&f, &none), 0);
            now_us += pause_us;
            eb_modbus_file_tick(&f, now_us);
            assert_int_equal(take(&f, again), size);
            assert_memory_equal(again + 2, first + 2, size - 2); /* with a transaction of its own */
            pause_us = 2 * pause_us < 200000 ? 2 * pause_us : 200000;
        }
        eb_modbus_file_receive(&f, again, size);
        assert_int_equal(f.acked_bytes, 244);
        /* to the end of its patience, which began with this request */
        uint64_t end_us = now_us + PATIENCE_US;
        while (f.state == EB_MODBUS_ASKING) {
            take(&f, again);
            refuse(&f, again, codes[i]);
            now_us = eb_modbus_file_deadline_us(&f);
            eb_modbus_file_tick(&f, now_us);
        }
        assert_int_equal(now_us, end_us);
        assert_int_equal(f.error.status, EB_PEER_ERROR);
        assert_int_equal(f.error.number, codes[i]);
        assert_int_equal(eb_error_retry(&f.error), EB_RETRY_LATER);
    }
}

static void a_device_that_takes_fewer_records_gets_fewer(void **state)
{
    (void)state;
    struct eb_modbus_file f;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    begin(&f, 1000, 1, 122);
    while (f.state == EB_MODBUS_ASKING) {
        size_t size = take(&f, frame);
        if (get16(frame + HEAD + 7) > 16)
            refuse(&f, frame, 3);
        else
            eb_modbus_file_receive(&f, frame, size);
    }
    assert_int_equal(f.state, EB_MODBUS_DONE);
    assert_int_equal(f.group, 15); /* 122, 61, 30, 15 */
    begin(&f, 1000, 1, 122);
    while (f.state == EB_MODBUS_ASKING) {
        take(&f, frame);
        refuse(&f, frame, 3);
    }
    assert_int_equal(get16(frame + HEAD + 7), 1);
    assert_int_equal(f.error.number, 3);
    assert_int_equal(eb_error_retry(&f.error), EB_RETRY_NEVER);
}

/* What was not answered on its connection goes out whole on the next one; late answers to what came before,
 * or of another unit, count for nothing. */
static void a_fresh_connection_asks_again(void **state)
{
    (void)state;
    struct eb_modbus_file f;
    uint8_t first[EB_MODBUS_FRAME_BYTES];
    uint8_t again[EB_MODBUS_FRAME_BYTES];
    begin(&f, 1000, 1, 122);
    size_t size = take(&f, first);
    eb_modbus_file_receive(&f, first, 9);
    eb_modbus_file_connected(&f);
    assert_int_equal(take(&f, again), size);
    assert_memory_equal(again, first, size);
    again[1] ^= 1;
    eb_modbus_file_receive(&f, again, size);
    again[1] ^= 1;
    again[6] ^= 1;
    eb_modbus_file_receive(&f, again, size);
    assert_int_equal(f.acked_bytes, 0);
    again[6] ^= 1;
    eb_modbus_file_receive(&f, again, size);
    assert_int_equal(f.acked_bytes, 244);
    /* an answer before the request is out is none */
    eb_modbus_file_receive(&f, again, size);
    assert_int_equal(f.acked_bytes, 244);
}

static void answers_that_are_none_end_it(void **state)
{
    (void)state;
    static const struct {
        size_t at;
        enum eb_status status;
    } rows[] = {{3, EB_GARBAGE}, {7, EB_GARBAGE}, {8, EB_GARBAGE}, {11, EB_GARBAGE}, {20, EB_GARBAGE}};
    struct eb_modbus_file f;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        begin(&f, 1000, 1, 122);
        size_t size = take(&f, frame);
        frame[rows[i].at] ^= 0x40;
        eb_modbus_file_receive(&f, frame, size);
        assert_int_equal(f.error.status, rows[i].status);
    }
    begin(&f, 1000, 1, 122); /* silence */
    take(&f, frame);
    eb_modbus_file_tick(&f, 1000 + PATIENCE_US - 1);
    assert_int_equal(f.state, EB_MODBUS_ASKING);
    eb_modbus_file_tick(&f, 1000 + PATIENCE_US);
    assert_int_equal(f.error.status, EB_NO_ANSWER);
    begin(&f, 1000, 1, 122); /* illegal function, and address: for good */
    take(&f, frame);
    refuse(&f, frame, 1);
    assert_string_equal(f.error.text, "illegal function");
    assert_int_equal(eb_error_retry(&f.error), EB_RETRY_NEVER);
    /* An address that is not taken on a second connection: the device has forgotten what it had, all goes
     * anew. */
    for (int again = 0; again <= 1; again++) {
        begin(&f, 1000, 1, 122);
        eb_modbus_file_connected(&f);
        size_t size = take(&f, frame);
        eb_modbus_file_receive(&f, frame, size);
        if (again == 1)
            eb_modbus_file_connected(&f);
        take(&f, frame);
        refuse(&f, frame, 2);
        assert_int_equal(f.error.number, 2);
        assert_int_equal(eb_error_retry(&f.error), again == 1 ? EB_RETRY_AT_ONCE : EB_RETRY_NEVER);
    }
}

static void limits_and_stops(void **state)
{
    (void)state;
    struct eb_modbus_file f;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    struct eb_modbus_file_config config = {.file = 65534, .group = 122, .source = &source, .patience_us = 1};
    source.size_bytes = 40000;
    assert_int_equal(eb_modbus_file_begin(&f, &config, 0), EB_OK);
    assert_int_equal(f.state, EB_MODBUS_ASKING);
    source.size_bytes = 40001;
    assert_int_equal(eb_modbus_file_begin(&f, &config, 0), EB_OK);
    assert_int_equal(f.error.status, EB_TOO_LARGE);
    static const uint16_t wrong[][2] = {{0, 1}, {1, 0}, {1, 123}};
    for (size_t i = 0; i < 3; i++) {
        config.file = wrong[i][0];
        config.group = wrong[i][1];
        assert_int_equal(eb_modbus_file_begin(&f, &config, 0), EB_BAD_CALL);
        assert_true(eb_modbus_file_deadline_us(&f) == EB_NEVER);
    }
    begin(&f, 1000, 1, 122); /* behind the request that is under way */
    size_t size = take(&f, frame);
    eb_modbus_file_stop(&f);
    assert_int_equal(f.state, EB_MODBUS_ASKING);
    eb_modbus_file_receive(&f, frame, size);
    assert_int_equal(f.error.status, EB_STOPPED);
    begin(&f, 1000, 1, 122); /* while it waits for a busy device: at once */
    take(&f, frame);
    refuse(&f, frame, 6);
    eb_modbus_file_stop(&f);
    assert_int_equal(eb_modbus_file_deadline_us(&f), 0);
    eb_modbus_file_tick(&f, 1001);
    assert_int_equal(f.error.status, EB_STOPPED);
}

/* --- reading, and registers: the frames are the examples of the standard ------------------------------ */

struct got {
    uint8_t bytes[256];
    size_t size, room;
};

static enum eb_status keep(void *self, const uint8_t *bytes, size_t size)
{
    struct got *got = self;
    if (size > got->room - got->size)
        return EB_TOO_LARGE;
    memcpy(got->bytes + got->size, bytes, size);
    got->size += size;
    return EB_OK;
}

static void begin_words(struct eb_modbus_file *f, enum eb_modbus_place place, uint16_t first, uint32_t words,
                        struct got *got)
{
    const struct eb_modbus_file_config config = {.unit = UNIT,
                                                 .tid = TID,
                                                 .place = place,
                                                 .file = first,
                                                 .group = 122,
                                                 .words = words,
                                                 .take = keep,
                                                 .take_self = got,
                                                 .patience_us = PATIENCE_US};
    got->size = 0;
    got->room = sizeof got->bytes;
    assert_int_equal(eb_modbus_file_begin(f, &config, 1000), EB_OK);
}

/* The answer with this PDU to the request in `frame`. */
static void answer(struct eb_modbus_file *f, const uint8_t *frame, const uint8_t *pdu, size_t size)
{
    uint8_t bytes[EB_MODBUS_FRAME_BYTES] = {frame[0], frame[1], 0, 0, 0, (uint8_t)(size + 1), frame[6]};
    memcpy(bytes + HEAD, pdu, size);
    eb_modbus_file_receive(f, bytes, HEAD + size);
}

/* Application Protocol 1.1b3: 6.14 (the first group of its example begins at record 1), 6.3, 6.12. */
static void words_are_read_and_written_as_in_the_standard(void **state)
{
    (void)state;
    static const uint8_t read_file[] = {0x14, 7, 6, 0, 4, 0, 0, 0, 2};
    static const uint8_t file[] = {0x14, 6, 5, 6, 0x0D, 0xFE, 0, 0x20};
    static const uint8_t read_registers[] = {3, 0, 0x6B, 0, 3};
    static const uint8_t registers[] = {3, 6, 2, 0x2B, 0, 0, 0, 0x64};
    static const uint8_t write_registers[] = {0x10, 0, 1, 0, 2, 4, 0, 0x0A, 1, 2};
    struct eb_modbus_file f;
    struct got got;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    begin_words(&f, EB_MODBUS_IN_FILE, 4, 2, &got);
    assert_int_equal(take(&f, frame), HEAD + sizeof read_file);
    assert_memory_equal(frame + HEAD, read_file, sizeof read_file);
    answer(&f, frame, file, sizeof file);
    assert_int_equal(f.state, EB_MODBUS_DONE);
    assert_int_equal(got.size, 4);
    assert_memory_equal(got.bytes, file + 4, 4);

    begin_words(&f, EB_MODBUS_IN_REGISTERS, 0x6B, 3, &got);
    assert_int_equal(take(&f, frame), HEAD + sizeof read_registers);
    assert_memory_equal(frame + HEAD, read_registers, sizeof read_registers);
    answer(&f, frame, registers, sizeof registers);
    assert_int_equal(f.state, EB_MODBUS_DONE);
    assert_int_equal(got.size, 6);
    assert_memory_equal(got.bytes, registers + 2, 6);

    memcpy(image, write_registers + 6, 4);
    source.size_bytes = 4;
    const struct eb_modbus_file_config write = {.unit = UNIT,
                                                .tid = TID,
                                                .place = EB_MODBUS_IN_REGISTERS,
                                                .file = 1,
                                                .group = 122,
                                                .source = &source,
                                                .patience_us = PATIENCE_US};
    assert_int_equal(eb_modbus_file_begin(&f, &write, 1000), EB_OK);
    assert_int_equal(take(&f, frame), HEAD + sizeof write_registers);
    assert_memory_equal(frame + HEAD, write_registers, sizeof write_registers);
    answer(&f, frame, write_registers, 5);
    assert_int_equal(f.state, EB_MODBUS_DONE);
}

/* A long file in groups that an answer can hold, on into the next file. */
static void a_long_file_is_read_in_groups(void **state)
{
    (void)state;
    struct eb_modbus_file f;
    struct got got;
    uint8_t frame[EB_MODBUS_FRAME_BYTES];
    uint8_t pdu[EB_MODBUS_PDU_BYTES];
    uint32_t at = 0;
    const struct eb_modbus_file_config config = {.unit = UNIT,
                                                 .place = EB_MODBUS_IN_FILE,
                                                 .file = 4,
                                                 .group = 122,
                                                 .words = 10130,
                                                 .take = keep,
                                                 .take_self = &got,
                                                 .patience_us = PATIENCE_US};
    assert_int_equal(eb_modbus_file_begin(&f, &config, 1000), EB_OK);
    while (f.state == EB_MODBUS_ASKING) {
        got = (struct got){.room = sizeof got.bytes};
        take(&f, frame);
        unsigned count = get16(frame + HEAD + 7);
        assert_true(count >= 1 && count <= 121); /* F5h bytes of answer */
        assert_int_equal(get16(frame + HEAD + 3), 4 + at / 10000);
        assert_int_equal(get16(frame + HEAD + 5), at % 10000);
        pdu[0] = 0x14;
        pdu[1] = (uint8_t)(2 + 2 * count);
        pdu[2] = (uint8_t)(1 + 2 * count);
        pdu[3] = 6;
        memset(pdu + 4, (int)(at & 0xFF), 2 * (size_t)count);
        answer(&f, frame, pdu, 4 + 2 * (size_t)count);
        assert_int_equal(got.size, 2 * (size_t)count);
        assert_memory_equal(got.bytes, pdu + 4, got.size);
        at += count;
    }
    assert_int_equal(f.state, EB_MODBUS_DONE);
    assert_int_equal(at, 10130);
    /* what cannot be kept ends it */
    assert_int_equal(eb_modbus_file_begin(&f, &config, 1000), EB_OK);
    got = (struct got){.room = 10};
    take(&f, frame);
    pdu[1] = 244;
    pdu[2] = 243;
    answer(&f, frame, pdu, 246);
    assert_int_equal(f.error.status, EB_TOO_LARGE);
}

static void answers_of_reading_that_are_none_end_it(void **state)
{
    (void)state;
    static const struct {
        enum eb_modbus_place place;
        uint8_t pdu[10];
        size_t size;
        enum eb_status status;
    } rows[] = {
        {EB_MODBUS_IN_FILE,
         {0x14, 6, 6, 5, 1, 2, 3, 4},
         8,
         EB_GARBAGE}, /* type and length the other way round */
        {EB_MODBUS_IN_FILE, {0x14, 6, 5, 7, 1, 2, 3, 4}, 8, EB_GARBAGE},
        {EB_MODBUS_IN_FILE, {0x14, 4, 3, 6, 1, 2}, 6, EB_GARBAGE},
        {EB_MODBUS_IN_FILE, {0x15, 6, 5, 6, 1, 2, 3, 4}, 8, EB_GARBAGE},
        {EB_MODBUS_IN_FILE, {0x94, 2}, 2, EB_PEER_ERROR},
        {EB_MODBUS_IN_REGISTERS, {3, 4, 1, 2, 3}, 5, EB_GARBAGE},
        {EB_MODBUS_IN_REGISTERS, {3, 2, 1, 2}, 4, EB_GARBAGE},
        {EB_MODBUS_IN_REGISTERS, {4, 4, 1, 2, 3, 4}, 6, EB_GARBAGE},
        {EB_MODBUS_IN_REGISTERS, {0x83, 2}, 2, EB_PEER_ERROR},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_modbus_file f;
        struct got got;
        uint8_t frame[EB_MODBUS_FRAME_BYTES];
        begin_words(&f, rows[i].place, 4, 2, &got);
        take(&f, frame);
        answer(&f, frame, rows[i].pdu, rows[i].size);
        assert_int_equal(f.state, EB_MODBUS_FAILED);
        assert_int_equal(f.error.status, rows[i].status);
        assert_int_equal(got.size, 0);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_request_is_as_the_standard_draws_it),
        cmocka_unit_test(pymodbus_makes_the_same_requests),
        cmocka_unit_test(a_busy_device_is_asked_again),
        cmocka_unit_test(a_device_that_takes_fewer_records_gets_fewer),
        cmocka_unit_test(a_fresh_connection_asks_again),
        cmocka_unit_test(answers_that_are_none_end_it),
        cmocka_unit_test(limits_and_stops),
        cmocka_unit_test(words_are_read_and_written_as_in_the_standard),
        cmocka_unit_test(a_long_file_is_read_in_groups),
        cmocka_unit_test(answers_of_reading_that_are_none_end_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
