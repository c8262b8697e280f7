/* Modbus/TCP as a client: frames as the Application Protocol 1.1b3 draws them, byte by byte. */
#include "support/support.h"

#include <string.h>

#define BYTES(...) ((const uint8_t[]){__VA_ARGS__}), sizeof((const uint8_t[]){__VA_ARGS__})

static void sent(struct eb_modbus *m, const uint8_t *expected, size_t size)
{
    const uint8_t *bytes;
    assert_int_equal(eb_modbus_give(m, &bytes), size);
    assert_memory_equal(bytes, expected, size);
    eb_modbus_taken(m, size);
    assert_int_equal(eb_modbus_give(m, &bytes), 0);
}

/* The basic stream in two answers, as in section 6.21's example, tid 0x0101 and 0x0102. */
static const uint8_t first_answer[] = {1,    1,    0,   0,   0,   0x18, 0xFF, 0x2B, 0x0E, 1,
                                       0x83, 0xFF, 2,   2,   0,   4,    'M',  'a',  'k',  'r',
                                       1,    8,    'Q', 'M', '-', 'R',  'C',  '4',  '-',  'D'};
static const uint8_t second_answer[] = {1, 2, 0, 0, 0, 0x0F, 0xFF, 0x2B, 0x0E, 1,  0x83,
                                        0, 0, 1, 2, 5, '4',  '.',  '1',  '.',  '9'};

static void identification_is_read_over_several_answers_in_any_slicing(void **state)
{
    (void)state;
    for (size_t slice = 1; slice <= sizeof first_answer; slice++) {
        struct eb_modbus m;
        char text[32];
        eb_modbus_init(&m, 0xFF, 0x0100);
        eb_modbus_identify(&m, EB_MODBUS_BASIC);
        sent(&m, BYTES(1, 1, 0, 0, 0, 5, 0xFF, 0x2B, 0x0E, 1, 0));
        for (size_t at = 0; at < sizeof first_answer; at += slice)
            eb_modbus_receive(&m, first_answer + at,
                              sizeof first_answer - at < slice ? sizeof first_answer - at : slice);
        assert_int_equal(m.state, EB_MODBUS_ASKING);
        sent(&m, BYTES(1, 2, 0, 0, 0, 5, 0xFF, 0x2B, 0x0E, 1, 2));
        for (size_t at = 0; at < sizeof second_answer; at += slice)
            eb_modbus_receive(&m, second_answer + at,
                              sizeof second_answer - at < slice ? sizeof second_answer - at : slice);
        assert_int_equal(m.state, EB_MODBUS_DONE);
        assert_true(eb_modbus_object_text(&m.objects, EB_MODBUS_PRODUCT_CODE, text, sizeof text));
        assert_string_equal(text, "QM-RC4-D");
        assert_true(eb_modbus_object_text(&m.objects, EB_MODBUS_REVISION, text, sizeof text));
        assert_string_equal(text, "4.1.9");
        assert_false(eb_modbus_object_text(&m.objects, EB_MODBUS_MODEL_NAME, text, sizeof text));
        assert_string_equal(text, "");
    }
}

static void a_late_answer_to_an_older_question_is_passed_over(void **state)
{
    (void)state;
    struct eb_modbus m;
    eb_modbus_init(&m, 0xFF, 6);
    eb_modbus_read_register(&m, 0x1001);
    sent(&m, BYTES(0, 7, 0, 0, 0, 6, 0xFF, 3, 0x10, 1, 0, 1));
    eb_modbus_receive(&m, BYTES(0, 6, 0, 0, 0, 5, 0xFF, 3, 2, 0, 1));
    assert_int_equal(m.state, EB_MODBUS_ASKING);
    eb_modbus_receive(&m, BYTES(0, 7, 0, 0, 0, 5, 0xFF, 3, 2, 0, 3));
    assert_int_equal(m.state, EB_MODBUS_DONE);
    assert_int_equal(m.value, 3);
}

static void writing_a_register_wants_its_echo(void **state)
{
    (void)state;
    struct eb_modbus m;
    eb_modbus_init(&m, 1, 0xFFFF);
    eb_modbus_write_register(&m, 0x1000, 0x00B0);
    sent(&m, BYTES(0, 0, 0, 0, 0, 6, 1, 6, 0x10, 0, 0, 0xB0));
    eb_modbus_receive(&m, BYTES(0, 0, 0, 0, 0, 6, 1, 6, 0x10, 0, 0, 0xB0));
    assert_int_equal(m.state, EB_MODBUS_DONE);
    eb_modbus_write_register(&m, 0x1000, 2);
    eb_modbus_receive(&m, BYTES(0, 1, 0, 0, 0, 6, 1, 6, 0x10, 0, 0, 3));
    assert_int_equal(m.state, EB_MODBUS_FAILED);
    assert_int_equal(m.error.status, EB_GARBAGE);
}

static void exceptions_come_with_the_standards_words(void **state)
{
    (void)state;
    static const struct {
        uint8_t code;
        const char *text;
    } rows[] = {{1, "illegal function"},    {2, "illegal data address"},
                {3, "illegal data value"},  {4, "server device failure"},
                {6, "server device busy"},  {0x0B, "gateway target device failed to respond"},
                {0x7F, "unknown exception"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_modbus m;
        eb_modbus_init(&m, 0xFF, 0);
        eb_modbus_read_register(&m, 0);
        eb_modbus_receive(&m, BYTES(0, 1, 0, 0, 0, 3, 0xFF, 0x83, rows[i].code));
        assert_int_equal(m.state, EB_MODBUS_FAILED);
        assert_int_equal(m.error.status, EB_PEER_ERROR);
        assert_int_equal(m.error.number, rows[i].code);
        assert_string_equal(m.error.text, rows[i].text);
    }
}

static void a_refused_category_is_asked_for_one_lower(void **state)
{
    (void)state;
    struct eb_modbus m;
    eb_modbus_init(&m, 0xFF, 0);
    eb_modbus_identify(&m, EB_MODBUS_EXTENDED);
    sent(&m, BYTES(0, 1, 0, 0, 0, 5, 0xFF, 0x2B, 0x0E, 3, 0));
    eb_modbus_receive(&m, BYTES(0, 1, 0, 0, 0, 3, 0xFF, 0xAB, 3));
    sent(&m, BYTES(0, 2, 0, 0, 0, 5, 0xFF, 0x2B, 0x0E, 2, 0));
    eb_modbus_receive(&m, BYTES(0, 2, 0, 0, 0, 4, 0xFF, 0xAB, 0x0E, 2)); /* with the MEI type in between */
    sent(&m, BYTES(0, 3, 0, 0, 0, 5, 0xFF, 0x2B, 0x0E, 1, 0));
    eb_modbus_receive(&m, BYTES(0, 3, 0, 0, 0, 3, 0xFF, 0xAB, 1));
    assert_int_equal(m.state, EB_MODBUS_FAILED);
    assert_int_equal(m.error.number, 1);
}

static void answers_that_the_protocol_does_not_allow_are_named(void **state)
{
    (void)state;
    static const struct {
        uint8_t bytes[32];
        size_t size;
        enum eb_status status;
    } rows[] = {
        {{0, 1, 0, 1, 0, 5, 0xFF, 0x2B, 0x0E}, 9, EB_GARBAGE}, /* another protocol id */
        {{'H', 'T', 'T', 'P', '/', '1', '.', '1'}, 8, EB_GARBAGE},
        {{0, 1, 0, 0, 0, 1, 0xFF}, 7, EB_GARBAGE},                 /* no PDU at all */
        {{0, 1, 0, 0, 0, 0xFF, 0xFF, 0x2B}, 8, EB_GARBAGE},        /* a PDU of 254 bytes */
        {{0, 1, 0, 0, 0, 3, 0xFF, 0x03, 0}, 9, EB_GARBAGE},        /* another function */
        {{0, 1, 0, 0, 0, 4, 0xFF, 0x2B, 0x0E, 1}, 10, EB_GARBAGE}, /* cut */
        {{0, 1, 0, 0, 0, 10, 0xFF, 0x2B, 0x0E, 1, 1, 0, 0, 1, 0, 200}, 16, EB_GARBAGE}, /* object too long */
        {{0, 1, 0, 0, 0, 8, 0xFF, 0x2B, 0x0E, 1, 1, 0xFF, 0, 0}, 14, EB_GARBAGE},       /* does not advance */
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_modbus m;
        eb_modbus_init(&m, 0xFF, 0);
        eb_modbus_identify(&m, EB_MODBUS_BASIC);
        eb_modbus_receive(&m, rows[i].bytes, rows[i].size);
        assert_int_equal(m.state, EB_MODBUS_FAILED);
        assert_int_equal(m.error.status, rows[i].status);
    }
}

/* Answers one object of `size` bytes per request until it ends. */
static enum eb_status endless(unsigned objects, uint8_t size)
{
    struct eb_modbus m;
    uint8_t answer[EB_MODBUS_FRAME_BYTES];
    eb_modbus_init(&m, 0xFF, 0);
    eb_modbus_identify(&m, EB_MODBUS_EXTENDED);
    for (unsigned i = 0; i < objects && m.state == EB_MODBUS_ASKING; i++) {
        bool last = i + 1 == objects;
        const uint8_t head[] = {(uint8_t)(m.tid >> 8),
                                (uint8_t)m.tid,
                                0,
                                0,
                                0,
                                (uint8_t)(10 + size),
                                0xFF,
                                0x2B,
                                0x0E,
                                3,
                                0x83,
                                last ? 0 : 0xFF,
                                (uint8_t)(last ? 0 : i + 1),
                                1,
                                (uint8_t)i,
                                size};
        memcpy(answer, head, sizeof head);
        memset(answer + sizeof head, 'x', size);
        eb_modbus_receive(&m, answer, sizeof head + size);
    }
    return m.state == EB_MODBUS_DONE ? EB_OK : m.error.status;
}

/* A wrong header ends an exchange in the middle of an answer.  Nothing of it may be left for the next one: a
 * length of FFFFh once made the next answer be written behind the buffer. */
static void an_engine_can_be_used_again_after_a_wrong_header(void **state)
{
    (void)state;
    for (unsigned length = 0xFF00; length <= 0xFFFF; length += 0x33) {
        struct eb_modbus m;
        uint8_t flood[512];
        memset(flood, 0x5A, sizeof flood);
        eb_modbus_init(&m, 0xFF, 6);
        eb_modbus_read_register(&m, 0x1001);
        eb_modbus_receive(&m, BYTES(0, 7, 0, 0, (uint8_t)(length >> 8), (uint8_t)length, 0xFF));
        assert_int_equal(m.state, EB_MODBUS_FAILED);
        eb_modbus_read_register(&m, 0x1001);
        eb_modbus_receive(&m, flood, sizeof flood);
        assert_int_equal(m.state, EB_MODBUS_FAILED);
        eb_modbus_read_register(&m, 0x1001);
        eb_modbus_receive(&m, BYTES(0, 9, 0, 0, 0, 5, 0xFF, 3, 2, 0, 3));
        assert_int_equal(m.state, EB_MODBUS_DONE);
        assert_int_equal(m.value, 3);
    }
}

static void exceptions_say_whether_to_try_again(void **state)
{
    (void)state;
    static const struct {
        uint8_t code;
        enum eb_retry retry;
    } rows[] = {{1, EB_RETRY_NEVER}, {2, EB_RETRY_NEVER}, {3, EB_RETRY_NEVER}, {4, EB_RETRY_LATER},
                {5, EB_RETRY_LATER}, {6, EB_RETRY_LATER}, {11, EB_RETRY_LATER}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_modbus m;
        eb_modbus_init(&m, 0xFF, 6);
        eb_modbus_write_register(&m, 0x1000, 2);
        eb_modbus_receive(&m, BYTES(0, 7, 0, 0, 0, 3, 0xFF, 0x86, rows[i].code));
        assert_int_equal(m.error.status, EB_PEER_ERROR);
        assert_int_equal(eb_error_retry(&m.error), rows[i].retry);
    }
}

static void limits_hold_on_both_sides(void **state)
{
    (void)state;
    assert_int_equal(endless(EB_MODBUS_OBJECTS_MAX, 1), EB_OK);
    assert_int_equal(endless(EB_MODBUS_OBJECTS_MAX + 1, 1), EB_TOO_LARGE);
    assert_int_equal(endless(12, 128), EB_OK); /* 12 * 128 is EB_MODBUS_OBJECT_TEXT_BYTES */
    assert_int_equal(endless(13, 128), EB_TOO_LARGE);
}

static void an_object_that_is_too_long_is_none(void **state)
{
    (void)state;
    struct eb_modbus_objects objects = {.count = 1, .list = {{2, 5, 0}}, .used = 5};
    char text[6];
    memcpy(objects.bytes, "4.2.1", 5);
    assert_true(eb_modbus_object_text(&objects, 2, text, 6));
    assert_string_equal(text, "4.2.1");
    assert_false(eb_modbus_object_text(&objects, 2, text, 5));
    assert_string_equal(text, "");
}

static void what_a_device_sends_becomes_printable(void **state)
{
    (void)state;
    char text[8];
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)"a\033[2J\0z", 8);
    assert_string_equal(text, "a?[2J");
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)"4.2.1   ", 8);
    assert_string_equal(text, "4.2.1");
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)"\xC3\xA4\x7F\x80", 4);
    assert_string_equal(text, "\xC3\xA4??");
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)"12345\xE2\x82\xAC", 8); /* no half character */
    assert_string_equal(text, "12345");
    eb_text_copy_foreign(text, sizeof text, (const uint8_t *)"123456789", 9);
    assert_string_equal(text, "1234567");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(identification_is_read_over_several_answers_in_any_slicing),
        cmocka_unit_test(a_late_answer_to_an_older_question_is_passed_over),
        cmocka_unit_test(writing_a_register_wants_its_echo),
        cmocka_unit_test(exceptions_come_with_the_standards_words),
        cmocka_unit_test(a_refused_category_is_asked_for_one_lower),
        cmocka_unit_test(answers_that_the_protocol_does_not_allow_are_named),
        cmocka_unit_test(an_engine_can_be_used_again_after_a_wrong_header),
        cmocka_unit_test(exceptions_say_whether_to_try_again),
        cmocka_unit_test(limits_hold_on_both_sides),
        cmocka_unit_test(an_object_that_is_too_long_is_none),
        cmocka_unit_test(what_a_device_sends_becomes_printable),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
