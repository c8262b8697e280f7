/* ISO-TP and UDS on arrays of frames.  Expected frames are those of ISO 15765-2 and ISO 14229-1. */
#include "can_frames.h"

/* --- ISO-TP -------------------------------------------------------------------------------------- */

static const struct eb_isotp_config normal = {.request = 0x7E0, .response = 0x7E8, .padding = 0xCC};

static void short_and_long_messages_are_sent(void **state)
{
    (void)state;
    struct eb_isotp tp;
    struct eb_can_frame f[8];
    uint8_t to[32];
    (void)source_of(0);
    eb_isotp_init(&tp, &normal, to, sizeof to);
    eb_isotp_send(&tp, image, 7, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "07 01 02 03 04 05 06 07");
    eb_isotp_taken(&tp, 1, 0);
    assert_int_equal(tp.sending, EB_OK);
    eb_isotp_send(&tp, image, 2, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "02 01 02 CC CC CC CC CC");
    eb_isotp_send(&tp, image, 20, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "10 14 01 02 03 04 05 06");
    eb_isotp_taken(&tp, 1, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 0); /* not before flow control */
    const struct eb_can_frame wait = frame_of(0x7E8, "31 00 00");
    const struct eb_can_frame go = frame_of(0x7E8, "30 01 14"); /* one at a time, 20 ms apart */
    eb_isotp_receive(&tp, &wait, 900000);
    eb_isotp_tick(&tp, 1800000);
    assert_int_equal(tp.sending, EB_PENDING);
    eb_isotp_receive(&tp, &go, 1800000);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 1800000), 1);
    assert_frame(&f[0], 0x7E0, "21 07 08 09 0A 0B 0C 0D");
    eb_isotp_taken(&tp, 1, 1800000);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 1900000), 0);
    eb_isotp_receive(&tp, &go, 1900000);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 1900000), 1);
    assert_frame(&f[0], 0x7E0, "22 0E 0F 10 11 12 13 14");
    eb_isotp_taken(&tp, 1, 1900000);
    assert_int_equal(tp.sending, EB_OK);
    /* from 4096 bytes on the length has 32 bits */
    static uint8_t large[4096];
    eb_isotp_send(&tp, large, 4096, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "10 00 00 00 10 00 00 00");
    eb_isotp_taken(&tp, 1, 0);
    const struct eb_can_frame overflow = frame_of(0x7E8, "32 00 00");
    eb_isotp_receive(&tp, &overflow, 0);
    assert_int_equal(tp.sending, EB_TOO_LARGE);
    eb_isotp_send(&tp, large, 4095, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "1F FF 00 00 00 00 00 00");
}

/* STmin counts from when a frame is known to be out (ISO 15765-2 section 9.6.5.4). */
static void frames_keep_their_distance(void **state)
{
    (void)state;
    static const struct {
        uint8_t separation;
        uint32_t us;
    } rows[] = {{0, 0},      {1, 1000},   {0x7F, 127000}, {0x80, 127000}, {0xF0, 127000},
                {0xF1, 100}, {0xF9, 900}, {0xFA, 127000}, {0xFF, 127000}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        assert_int_equal(eb_isotp_separation_us(rows[i].separation), rows[i].us);
    struct eb_isotp tp;
    struct eb_can_frame f[8];
    uint8_t to[32];
    eb_isotp_init(&tp, &normal, to, sizeof to);
    eb_isotp_send(&tp, image, 30, 0);
    eb_isotp_taken(&tp, eb_isotp_give(&tp, f, 8, true, 0), 0);
    const struct eb_can_frame go = frame_of(0x7E8, "30 00 F3");
    eb_isotp_receive(&tp, &go, 1000);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 1000), 1);
    eb_isotp_taken(&tp, 1, 1000);
    assert_int_equal(eb_isotp_give(&tp, f, 8, false, 2000), 0); /* it is not out yet */
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 2500), 0);  /* now it is: 300 us from here */
    assert_int_equal(eb_isotp_deadline_us(&tp), 2800);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 2799), 0);
    assert_int_equal(eb_isotp_give(&tp, f, 8, true, 2800), 1);
}

static void messages_are_received(void **state)
{
    (void)state;
    struct eb_isotp tp;
    struct eb_can_frame f[4];
    uint8_t to[20];
    struct eb_isotp_config config = normal;
    config.block_size = 1;
    config.separation = 5;
    config.unpadded = true;
    eb_isotp_init(&tp, &config, to, sizeof to);
    const struct eb_can_frame first = frame_of(0x7E8, "10 14 01 02 03 04 05 06");
    const struct eb_can_frame second = frame_of(0x7E8, "21 07 08 09 0A 0B 0C 0D");
    const struct eb_can_frame third = frame_of(0x7E8, "22 0E 0F 10 11 12 13 14");
    const struct eb_can_frame stranger = frame_of(0x7E9, "02 01 02");
    eb_isotp_receive(&tp, &first, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 4, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "30 01 05");
    eb_isotp_taken(&tp, 1, 0);
    eb_isotp_receive(&tp, &second, 0);
    eb_isotp_receive(&tp, &second, 0); /* twice */
    eb_isotp_receive(&tp, &stranger, 0);
    assert_int_equal(tp.received, EB_PENDING);
    assert_int_equal(eb_isotp_give(&tp, f, 4, true, 0), 1);
    eb_isotp_taken(&tp, 1, 0);
    eb_isotp_receive(&tp, &third, 0);
    assert_int_equal(tp.received, EB_OK);
    assert_int_equal(tp.size, 20);
    assert_memory_equal(to, image, 20);
    /* a gap ends it, and so does silence */
    eb_isotp_clear(&tp);
    eb_isotp_receive(&tp, &first, 0);
    eb_isotp_receive(&tp, &third, 0);
    assert_int_equal(tp.received, EB_GARBAGE);
    eb_isotp_clear(&tp);
    eb_isotp_receive(&tp, &first, 0);
    eb_isotp_tick(&tp, 999999);
    assert_int_equal(tp.received, EB_PENDING);
    eb_isotp_tick(&tp, 1000000);
    assert_int_equal(tp.received, EB_NO_ANSWER);
    /* one byte more than there is room */
    const struct eb_can_frame large = frame_of(0x7E8, "10 15 01 02 03 04 05 06");
    eb_isotp_receive(&tp, &large, 0);
    assert_int_equal(tp.received, EB_TOO_LARGE);
    assert_int_equal(eb_isotp_give(&tp, f, 4, true, 0), 1);
    assert_frame(&f[0], 0x7E0, "32 01 05");
}

static void extended_addressing_shifts_by_one(void **state)
{
    (void)state;
    struct eb_isotp_config config = {.request = 0x18DA10F1,
                                     .response = 0x18DAF110,
                                     .extended_ids = true,
                                     .extended = true,
                                     .target = 0x10,
                                     .tester = 0xF1};
    struct eb_isotp tp;
    struct eb_can_frame f[4];
    uint8_t to[20];
    eb_isotp_init(&tp, &config, to, sizeof to);
    eb_isotp_send(&tp, image, 6, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 4, true, 0), 1);
    assert_frame(&f[0], 0x18DA10F1, "10 06 01 02 03 04 05 06");
    assert_int_equal(f[0].flags, EB_CAN_EXTENDED);
    eb_isotp_send(&tp, image, 7, 0);
    assert_int_equal(eb_isotp_give(&tp, f, 4, true, 0), 1);
    assert_frame(&f[0], 0x18DA10F1, "10 10 07 01 02 03 04 05");
    struct eb_can_frame reply = frame_of(0x18DAF110, "F1 02 AA BB 00 00 00 00");
    eb_isotp_receive(&tp, &reply, 0);
    assert_int_equal(tp.received, EB_PENDING); /* 11 bits */
    reply.flags = EB_CAN_EXTENDED;
    eb_isotp_receive(&tp, &reply, 0);
    assert_int_equal(tp.received, EB_OK);
    assert_int_equal(tp.size, 2);
    eb_isotp_clear(&tp);
    reply.data[0] = 0xF2; /* for another tester */
    eb_isotp_receive(&tp, &reply, 0);
    assert_int_equal(tp.received, EB_PENDING);
}

/* --- UDS ----------------------------------------------------------------------------------------- */

static void uds_ask(struct eb_uds *u, uint8_t *message, uint64_t patience_us)
{
    struct eb_can_frame f;
    const uint8_t erase[4] = {0x31, 0x01, 0xFF, 0x00};
    eb_uds_init(u, &normal, message, EB_UDS_MESSAGE_MIN_BYTES);
    assert_int_equal(eb_uds_ask(u, erase, sizeof erase, NULL, 0, patience_us, 0), EB_OK);
    assert_int_equal(eb_uds_give(u, &f, 1, true, 0), 1);
    assert_frame(&f, 0x7E0, "04 31 01 FF 00 CC CC CC");
    eb_uds_taken(u, 1, 0);
}

static void a_unit_may_say_that_it_is_still_at_it(void **state)
{
    (void)state;
    uint8_t message[EB_UDS_MESSAGE_MIN_BYTES];
    const struct eb_can_frame pending = frame_of(0x7E8, "03 7F 31 78");
    const struct eb_can_frame done = frame_of(0x7E8, "05 71 01 FF 00 00");
    struct eb_uds u;
    uds_ask(&u, message, 20000000);
    assert_int_equal(eb_uds_deadline_us(&u), 1000000); /* 50 ms, and the wire's */
    eb_uds_receive(&u, &pending, 900000);
    assert_int_equal(eb_uds_deadline_us(&u), 900000 + 5950000); /* P2* is 5 s until the unit says otherwise */
    eb_uds_receive(&u, &pending, 6000000);
    eb_uds_tick(&u, 11900000);
    assert_int_equal(u.state, EB_UDS_BUSY);
    eb_uds_receive(&u, &done, 11900000);
    assert_int_equal(u.state, EB_UDS_DONE);
    assert_int_equal(u.answer_size, 5);
    uds_ask(&u, message, 5000000);
    eb_uds_receive(&u, &pending, 6000000); /* its patience is over */
    assert_int_equal(u.state, EB_UDS_FAILED);
    assert_int_equal(u.error.number, 0x78);
    uds_ask(&u, message, 20000000);
    eb_uds_tick(&u, 1000000);
    assert_int_equal(u.error.status, EB_NO_ANSWER);
}

static void a_busy_unit_is_asked_again(void **state)
{
    (void)state;
    uint8_t message[EB_UDS_MESSAGE_MIN_BYTES];
    struct eb_can_frame f;
    const struct eb_can_frame busy = frame_of(0x7E8, "03 7F 31 21");
    const struct eb_can_frame other = frame_of(0x7E8, "03 7F 22 31");
    const struct eb_can_frame locked = frame_of(0x7E8, "03 7F 31 33");
    struct eb_uds u;
    uds_ask(&u, message, 20000000);
    eb_uds_receive(&u, &other, 0); /* to another service */
    assert_int_equal(u.state, EB_UDS_BUSY);
    eb_uds_receive(&u, &busy, 1000);
    assert_int_equal(eb_uds_give(&u, &f, 1, true, 1000), 0);
    assert_int_equal(eb_uds_deadline_us(&u), 101000);
    eb_uds_tick(&u, 101000);
    assert_int_equal(eb_uds_give(&u, &f, 1, true, 101000), 1);
    assert_frame(&f, 0x7E0, "04 31 01 FF 00 CC CC CC");
    eb_uds_taken(&u, 1, 101000);
    eb_uds_receive(&u, &locked, 102000);
    assert_int_equal(u.state, EB_UDS_FAILED);
    assert_int_equal(u.error.status, EB_PEER_ERROR);
    assert_string_equal(u.error.text, "security access denied");
}

/* ISO 14229-1: P2* is told in units of 10 ms, and S3 is kept from running out. */
static void a_session_is_kept(void **state)
{
    (void)state;
    uint8_t message[EB_UDS_MESSAGE_MIN_BYTES];
    struct eb_uds u;
    struct eb_can_frame f;
    const uint8_t session[2] = {0x10, 0x03};
    const struct eb_can_frame answer_frame = frame_of(0x7E8, "06 50 03 00 32 01 F4");
    eb_uds_init(&u, &normal, message, sizeof message);
    eb_uds_ask(&u, session, 2, NULL, 0, 1000000, 0);
    eb_uds_taken(&u, eb_uds_give(&u, &f, 1, true, 0), 0);
    eb_uds_receive(&u, &answer_frame, 1000);
    assert_int_equal(u.state, EB_UDS_DONE);
    assert_int_equal(u.p2_ms, 50);
    assert_int_equal(u.p2_star_ms, 5000);
    assert_int_equal(eb_uds_deadline_us(&u), EB_UDS_KEEP_US);
    assert_int_equal(eb_uds_give(&u, &f, 1, true, EB_UDS_KEEP_US - 1), 0);
    assert_int_equal(eb_uds_give(&u, &f, 1, true, EB_UDS_KEEP_US), 1);
    assert_frame(&f, 0x7E0, "02 3E 80 CC CC CC CC CC");
    eb_uds_taken(&u, 1, EB_UDS_KEEP_US);
    assert_int_equal(eb_uds_give(&u, &f, 1, true, EB_UDS_KEEP_US + 1), 0);
    const uint8_t too_long[EB_UDS_MESSAGE_MIN_BYTES + 1] = {0x22};
    assert_int_equal(eb_uds_ask(&u, too_long, sizeof too_long, NULL, 0, 0, 0), EB_TOO_LARGE);
    assert_int_equal(eb_uds_ask(&u, too_long, sizeof too_long - 1, NULL, 0, 0, 0), EB_OK);
}

static void keys_follow_from_seeds(void **state)
{
    (void)state;
    const uint8_t seed[4] = {0x00, 0xFF, 0xFF, 0xFF};
    uint8_t key[4];
    eb_uds_key(EB_UDS_KEY_ADD, 0x01000001, seed, 4, key);
    assert_memory_equal(key, "\x02\x00\x00\x00", 4);
    eb_uds_key(EB_UDS_KEY_XOR, 0x0102, seed, 4, key);
    assert_memory_equal(key, "\x00\xFF\xFE\xFD", 4);
    eb_uds_key(EB_UDS_KEY_INVERT, 0, seed, 4, key);
    assert_memory_equal(key, "\xFF\x00\x00\x00", 4);
    static const uint8_t codes[] = {0x10, 0x11, 0x12, 0x13, 0x14, 0x21, 0x22, 0x24, 0x25,
                                    0x26, 0x31, 0x33, 0x34, 0x35, 0x36, 0x37, 0x70, 0x71,
                                    0x72, 0x73, 0x78, 0x7E, 0x7F, 0x92, 0x93, 0x94};
    for (size_t i = 0; i < sizeof codes; i++)
        assert_string_not_equal(eb_uds_refusal_text(codes[i]), eb_uds_refusal_text(0xEE));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(short_and_long_messages_are_sent),
        cmocka_unit_test(frames_keep_their_distance),
        cmocka_unit_test(messages_are_received),
        cmocka_unit_test(extended_addressing_shifts_by_one),
        cmocka_unit_test(a_unit_may_say_that_it_is_still_at_it),
        cmocka_unit_test(a_busy_unit_is_asked_again),
        cmocka_unit_test(a_session_is_kept),
        cmocka_unit_test(keys_follow_from_seeds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
