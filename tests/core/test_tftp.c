/* The pushing end of TFTP, datagram by datagram: frames as RFC 1350, 2347, 2348, 2349 and 7440 draw them, on
 * a clock that starts just before its wrap of 32 bits. */
#include "tftp_rig.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- requests ------------------------------------------------------------------------------------ */

static void a_plain_request_is_that_of_rfc_1350(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 1000, 512, 1);
    EXPECT_ONE(&r, "\0\2fw.bin\0octet\0", &server);
    RECEIVE(&r, &peer, "\0\4\0\0");
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    struct eb_datagram d = {0};
    assert_int_equal(take(&r, &d), 1);
    assert_int_equal(d.size_bytes, 516);
    assert_memory_equal(d.bytes, "\0\3\0\1", 4);
    for (size_t i = 0; i < 512; i++)
        assert_int_equal(d.bytes[4 + i], byte_at(i));
    ack(&r, 1);
    assert_int_equal(take(&r, &d), 1);
    assert_int_equal(d.size_bytes, 4 + 488);
    ack(&r, 2);
    assert_int_equal(r.put.state, EB_TFTP_DONE);
    assert_int_equal(r.put.acked_bytes, 1000);
    assert_true(eb_tftp_put_deadline_us(&r.put) == EB_NEVER);
    end(&r);
}

static void options_are_asked_for_by_their_names(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 123456, 1428, 16);
    struct eb_tftp_put_config config = config_of(&r, 1428, 16);
    config.timeout_s = 3;
    config.tsize = true;
    assert_int_equal(eb_tftp_put_init(&r.put, &config, r.now_us), EB_OK);
    EXPECT_ONE(&r,
               "\0\2fw.bin\0octet\0blksize\0"
               "1428\0windowsize\0"
               "16\0timeout\0"
               "3\0tsize\0"
               "123456\0",
               &server);
    RECEIVE(&r, &peer,
            "\0\6BlkSize\0"
            "1024\0WINDOWSIZE\0"
            "4\0timeout\0"
            "3\0tsize\0"
            "123456\0");
    assert_int_equal(r.put.blksize, 1024);
    assert_int_equal(r.put.windowsize, 4);
    expect_blocks(&r, 1, 4);
    end(&r);
}

static void an_option_that_the_device_leaves_out_keeps_its_default(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 5000, 1024, 8);
    take(&r, NULL);
    RECEIVE(&r, &peer,
            "\0\6blksize\0"
            "1024\0");
    assert_int_equal(r.put.windowsize, 1);
    expect_blocks(&r, 1, 1);
    end(&r);
}

static void options_that_were_not_asked_for_are_refused_with_error_8(void **state)
{
    (void)state;
    static const struct {
        const char *bytes;
        size_t size;
    } rows[] = {
#define ROW(text) {text, sizeof(text) - 1}
        ROW("\0\6blksize\0"
            "1025\0"),
        ROW("\0\6blksize\0"
            "7\0"),
        ROW("\0\6windowsize\0"
            "9\0"),
        ROW("\0\6windowsize\0"
            "0\0"),
        ROW("\0\6timeout\0"
            "1\0"),
        ROW("\0\6tsize\0"
            "5000\0"),
        ROW("\0\6colour\0"
            "1\0"),
        ROW("\0\6blksize\0"
            "10x\0"),
        ROW("\0\6blksize\0"),
        ROW("\0\6blksize\0"
            "1024"),
        ROW("\0\6blksize\0"
            "99999999999999999999999\0"),
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct rig r;
        struct eb_datagram d = {0};
        begin(&r, 5000, 1024, 8);
        take(&r, NULL);
        receive(&r, &peer, rows[i].bytes, rows[i].size);
        assert_int_equal(r.put.state, EB_TFTP_ASKING);
        /* RFC 2347: the ERROR to that transfer; then once without options. */
        struct eb_datagram burst[EB_BURST_MAX];
        assert_int_equal(eb_tftp_put_give(&r.put, burst, EB_BURST_MAX, r.now_us), 1);
        assert_memory_equal(burst[0].bytes, "\0\5\0\10", 4);
        assert_true(eb_endpoint_same(&burst[0].peer, &peer));
        eb_tftp_put_taken(&r.put, 1, r.now_us);
        EXPECT_ONE(&r, "\0\2fw.bin\0octet\0", &server);
        receive(&r, &peer, rows[i].bytes, rows[i].size); /* repeated by the transfer that was ended */
        assert_int_equal(r.put.state, EB_TFTP_ASKING);
        receive(&r, &stranger, rows[i].bytes, rows[i].size); /* another one */
        assert_int_equal(r.put.state, EB_TFTP_FAILED);
        assert_int_equal(r.put.error.status, EB_GARBAGE);
        assert_int_equal(eb_error_retry(&r.put.error), EB_RETRY_NEVER);
        assert_int_equal(take(&r, &d), 1);
        assert_memory_equal(d.bytes, "\0\5\0\10", 4);
        assert_true(eb_endpoint_same(&d.peer, &stranger));
        end(&r);
    }
}

static void an_option_granted_against_the_rules_is_named(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 5000, 1024, 8);
    take(&r, NULL);
    RECEIVE(&r, &peer,
            "\0\6windowsize\0"
            "64\0");
    take(&r, NULL);
    RECEIVE(&r, &stranger,
            "\0\6windowsize\0"
            "64\0");
    assert_string_equal(r.put.error.text, "the device granted 'windowsize 64', which was not asked for");
    end(&r);
    begin(&r, 5000, 1024, 8);
    take(&r, NULL);
    RECEIVE(&r, &peer,
            "\0\6windowsize\0"
            "64\0");
    take(&r, NULL);
    RECEIVE(&r, &stranger, "\0\4\0\0"); /* it can do without */
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    assert_int_equal(r.put.blksize, 512);
    assert_int_equal(r.put.windowsize, 1);
    end(&r);
}

static void a_device_that_refuses_options_is_asked_without(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 600, 1024, 8);
    take(&r, NULL);
    RECEIVE(&r, &peer, "\0\5\0\10no options\0");
    EXPECT_ONE(&r, "\0\2fw.bin\0octet\0", &server);
    RECEIVE(&r, &peer, "\0\5\0\10no options\0"); /* a late answer to the first request */
    assert_int_equal(r.put.state, EB_TFTP_ASKING);
    RECEIVE(&r, &peer, "\0\4\0\0");
    assert_int_equal(r.put.blksize, 512);
    expect_blocks(&r, 1, 1);
    end(&r);
}

static void a_device_that_drops_requests_with_options_is_asked_without(void **state)
{
    (void)state;
    struct rig r;
    struct eb_datagram d = {0};
    begin(&r, 600, 1024, 8);
    unsigned with = 0;
    unsigned without = 0;
    for (int i = 0; i < 12 && without == 0; i++) {
        if (take(&r, &d) == 1)
            *(d.size_bytes > 15 ? &with : &without) += 1;
        pass(&r, SECOND_US);
    }
    assert_int_equal(with, 3);
    assert_int_equal(without, 1);
    end(&r);
}

static void a_late_answer_to_the_request_with_options_is_taken(void **state)
{
    (void)state;
    struct rig r;
    struct eb_datagram d = {0};
    begin(&r, 5000, 1024, 8);
    do { /* it erases, and does not answer before a request without options has gone out as well */
        d.size_bytes = 0;
        take(&r, &d);
        pass(&r, SECOND_US);
    } while (d.size_bytes != 15);
    RECEIVE(&r, &peer,
            "\0\6blksize\0"
            "1024\0windowsize\0"
            "8\0");
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    assert_int_equal(r.put.blksize, 1024);
    expect_blocks(&r, 1, 5);
    end(&r);
}

static void the_devices_error_text_reaches_the_caller_as_plain_text(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 600, 512, 1);
    take(&r, NULL);
    RECEIVE(&r, &peer, "\0\5\0\2\033[2Jstop the program first\0");
    assert_int_equal(r.put.state, EB_TFTP_FAILED);
    assert_int_equal(r.put.error.status, EB_PEER_ERROR);
    assert_int_equal(r.put.error.number, 2);
    assert_string_equal(r.put.error.text, "?[2Jstop the program first");
    assert_int_equal(take(&r, NULL), 0); /* RFC 1350: an ERROR is not answered */
    end(&r);
}

/* --- who is who ---------------------------------------------------------------------------------- */

/* A full queue of the laptop's moves nothing: the time at which the next block may go lies in the past, and
 * whoever waited for it would be called again and again at the same moment. */
static void without_room_the_engine_waits_for_the_port_and_not_for_a_moment_that_has_passed(void **state)
{
    (void)state;
    struct rig r;
    struct eb_datagram burst[EB_BURST_MAX];
    begin_window(&r);
    for (unsigned block = 1; r.put.pace_us == 0;
         block++) { /* it loses all but one: from now on there are pauses */
        assert_true(block < 40);
        ack(&r, block);
        take(&r, NULL);
    }
    ack(&r, (unsigned)r.put.high);
    r.now_us = r.put.release_us + 1000;
    assert_true(eb_tftp_put_give(&r.put, burst, EB_BURST_MAX, r.now_us) > 0);
    eb_tftp_put_taken(&r.put, 0, r.now_us);
    assert_true(eb_tftp_put_deadline_us(&r.put) > r.now_us);
    assert_true(eb_tftp_put_deadline_us(&r.put) == r.put.deadline_us);
    size_t n = eb_tftp_put_give(&r.put, burst, EB_BURST_MAX, r.now_us); /* there is room again */
    assert_true(n > 0);
    assert_int_equal(burst[0].bytes[3], r.put.high + 1);
    eb_tftp_put_taken(&r.put, n, r.now_us);
    assert_true(eb_tftp_put_deadline_us(&r.put) == r.put.release_us);
    end(&r);
}

/* What a time-out and its repetition took is not the time that a window takes. */
static void timeouts_do_not_count_as_the_time_of_a_window(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    for (unsigned block = 8; block < 96; block += 8) {
        pass(&r, 2000);
        if (block % 16 == 0) { /* the window's end is lost: half of it is acknowledged after a time-out */
            pass(&r, r.put.deadline_us - r.now_us);
            take(&r, NULL);
            ack(&r, block - 4);
            take(&r, NULL);
            pass(&r, r.put.deadline_us - r.now_us);
            take(&r, NULL);
        }
        ack(&r, block);
        if (r.put.high > block)
            ack(&r, (unsigned)r.put.high);
        block = (unsigned)r.put.acked;
        take(&r, NULL);
        assert_true(r.put.round_trip_us < 50000);
        assert_true(r.put.deadline_us - r.now_us <= SECOND_US);
    }
    end(&r);
}

/* One that begins to erase anew at each request needs 20 s for that, and hears of options what it does not
 * know. */
static void a_device_that_takes_each_request_as_a_new_one_gets_through(void **state)
{
    (void)state;
    struct rig r;
    struct eb_datagram d = {0};
    uint64_t asked_us = 0;
    begin(&r, 600, 1024, 8);
    struct eb_tftp_put_config config = config_of(&r, 1024, 8);
    config.patience_us = 120ULL * SECOND_US;
    assert_int_equal(eb_tftp_put_init(&r.put, &config, r.now_us), EB_OK);
    bool plain = false;
    while (r.put.state == EB_TFTP_ASKING) {
        if (take(&r, &d) == 1) {
            assert_true(!plain || d.size_bytes == 15); /* it does not go back to options */
            plain = d.size_bytes == 15;
            asked_us = r.now_us;
        }
        uint64_t due_us = eb_tftp_put_deadline_us(&r.put);
        if (due_us - asked_us > 20ULL * SECOND_US) {
            r.now_us = asked_us + 20ULL * SECOND_US;
            RECEIVE(&r, &peer, "\0\4\0\0");
        } else {
            r.now_us = due_us;
            eb_tftp_put_tick(&r.put, r.now_us);
        }
    }
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    end(&r);
}

/* It has no transfer id yet, so that nothing can be told to it before it answers. */
static void stopping_while_the_device_erases_waits_for_its_answer_and_aborts(void **state)
{
    (void)state;
    static const char *const answers[] = {"\0\4\0\0", "\0\6blksize\0"};
    for (int i = 0; i < 2; i++) {
        struct rig r;
        begin(&r, 600, 1024, 8);
        take(&r, NULL);
        pass(&r, SECOND_US / 2);
        eb_tftp_put_stop(&r.put);
        assert_int_equal(r.put.state, EB_TFTP_ASKING);
        pass(&r, 10ULL * SECOND_US);
        expect_blocks(&r, 0, 0); /* no further request */
        receive(&r, &peer, answers[i], i == 0 ? 4 : 10);
        assert_int_equal(r.put.state, EB_TFTP_FAILED);
        assert_int_equal(r.put.error.status, EB_STOPPED);
        EXPECT_ONE(&r, "\0\5\0\0stopped by the user\0", &peer);
        end(&r);
    }
    struct rig r;
    begin(&r, 600, 1024, 8);
    take(&r, NULL);
    eb_tftp_put_stop(&r.put);
    pass(&r, 31ULL * SECOND_US); /* it never answers */
    assert_int_equal(r.put.error.status, EB_STOPPED);
    end(&r);
    begin(&r, 600, 1024, 8);
    eb_tftp_put_stop(&r.put); /* nothing has gone out */
    assert_int_equal(r.put.state, EB_TFTP_FAILED);
    expect_blocks(&r, 0, 0);
    end(&r);
}

/* Its transfer is over; whether it has all of it, what runs will tell. */
static void error_5_after_the_last_block_is_a_lost_acknowledgement(void **state)
{
    (void)state;
    struct rig r;
    begin(&r, 1000, 512, 1);
    take(&r, NULL);
    RECEIVE(&r, &peer, "\0\4\0\0");
    take(&r, NULL);
    ack(&r, 1);
    take(&r, NULL);
    assert_true(!eb_tftp_put_last_unanswered(&r.put));
    pass(&r, eb_tftp_put_deadline_us(&r.put) - r.now_us);
    take(&r, NULL);
    pass(&r, eb_tftp_put_deadline_us(&r.put) - r.now_us);
    assert_true(eb_tftp_put_last_unanswered(&r.put));
    RECEIVE(&r, &peer, "\0\5\0\5no such transfer\0");
    assert_int_equal(r.put.error.status, EB_NO_ANSWER);
    assert_true(r.put.all_sent);
    assert_int_equal(take(&r, NULL), 0);
    end(&r);
}

static void errors_of_the_device_say_whether_to_try_again(void **state)
{
    (void)state;
    static const enum eb_retry retries[] = {EB_RETRY_LATER, EB_RETRY_NEVER, EB_RETRY_AT_ONCE,
                                            EB_RETRY_NEVER, EB_RETRY_NEVER, EB_RETRY_AT_ONCE,
                                            EB_RETRY_NEVER, EB_RETRY_NEVER};
    for (uint8_t code = 0; code < 8; code++) {
        struct rig r;
        const uint8_t error[] = {0, 5, 0, code, 0};
        begin(&r, 600, 512, 1);
        take(&r, NULL);
        receive(&r, &peer, error, sizeof error);
        take(&r, NULL);
        if (r.put.state == EB_TFTP_ASKING) /* it was asked once more, without options */
            receive(&r, &peer, error, sizeof error);
        assert_int_equal(r.put.error.status, EB_PEER_ERROR);
        assert_int_equal(eb_error_retry(&r.put.error), retries[code]);
        end(&r);
    }
}

static void a_stranger_gets_error_5_and_the_transfer_lives(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    RECEIVE(&r, &stranger, "\0\4\0\10");
    EXPECT_ONE(&r, "\0\5\0\5unknown transfer id\0", &stranger);
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    RECEIVE(&r, &stranger, "\0\5\0\0die\0"); /* not even its error is answered */
    expect_blocks(&r, 0, 0);
    assert_int_equal(r.put.strangers, 2);
    ack(&r, 8);
    expect_blocks(&r, 9, 8);
    end(&r);
}

static void an_answer_from_another_address_does_not_begin_the_transfer(void **state)
{
    (void)state;
    struct rig r;
    const struct eb_endpoint elsewhere = {{192, 0, 2, 10}, 69};
    begin(&r, 600, 512, 1);
    take(&r, NULL);
    RECEIVE(&r, &elsewhere, "\0\4\0\0");
    assert_int_equal(r.put.state, EB_TFTP_ASKING);
    end(&r);
}

static void garbage_of_every_short_kind_changes_nothing(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    uint8_t bytes[8] = {0};
    for (unsigned size = 0; size <= 4; size++) {
        for (unsigned opcode = 0; opcode < 256; opcode++) {
            if (size == 4 && (opcode == 4 || opcode == 5))
                continue;
            bytes[1] = (uint8_t)opcode;
            receive(&r, &peer, bytes, size);
        }
    }
    assert_int_equal(r.put.state, EB_TFTP_SENDING);
    expect_blocks(&r, 0, 0);
    pass(&r, 31ULL * SECOND_US);
    assert_int_equal(r.put.error.status, EB_GARBAGE); /* and is named when patience is over */
    end(&r);
}

/* --- ends ---------------------------------------------------------------------------------------- */

static void stopping_tells_the_device_once(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    eb_tftp_put_stop(&r.put);
    EXPECT_ONE(&r, "\0\5\0\0stopped by the user\0", &peer);
    assert_int_equal(r.put.error.status, EB_STOPPED);
    ack(&r, 8);
    expect_blocks(&r, 0, 0);
    end(&r);
}

static void an_image_that_cannot_be_read_ends_the_transfer(void **state)
{
    (void)state;
    struct rig r;
    begin_window(&r);
    r.broken_from = 20000;
    ack(&r, 8);
    struct eb_datagram d = {0};
    assert_int_equal(take(&r, &d), 9); /* the window that was read ahead, and then the ERROR */
    assert_int_equal(r.last_block, 0); /* its code: not defined */
    ack(&r, 16);
    assert_int_equal(take(&r, &d), 0);
    assert_int_equal(r.put.error.status, EB_IO);
    end(&r);
}

/* Many transfers send out of one buffer, in turns: each block is the one's that gives it. */
static void transfers_may_have_one_buffer(void **state)
{
    enum { RIGS = 3, TURNS = 400 };
    static const uint16_t blksizes[RIGS] = {100, 700, 333};
    struct rig rigs[RIGS];
    uint8_t *buffer = malloc(70000);
    size_t blocks = 0;
    (void)state;
    for (size_t i = 0; i < RIGS; i++) {
        char oack[64];
        begin(&rigs[i], 50000, blksizes[i], 4);
        rigs[i].put.config.buffer = buffer;
        rigs[i].put.config.buffer_bytes = 3000; /* and it holds few of them */
        take(&rigs[i], NULL);
        int size = snprintf(oack, sizeof oack, "%c%cblksize%c%u%cwindowsize%c4", 0, 6, 0, blksizes[i], 0, 0);
        receive(&rigs[i], &peer, oack, (size_t)size + 1);
    }
    for (unsigned turn = 0; turn < TURNS; turn++) {
        struct rig *r = &rigs[turn * 7 % RIGS];
        struct eb_datagram burst[EB_BURST_MAX];
        size_t n = eb_tftp_put_give(&r->put, burst, 1 + turn % 3, r->now_us);
        unsigned last = 0;
        for (size_t k = 0; k < n; k++) {
            assert_int_equal(burst[k].bytes[1], 3); /* DATA */
            unsigned block = (unsigned)burst[k].bytes[2] << 8 | burst[k].bytes[3];
            for (size_t at = 4; at < burst[k].size_bytes; at++)
                assert_int_equal(burst[k].bytes[at],
                                 byte_at((uint64_t)(block - 1) * r->put.blksize + at - 4));
            last = block;
            blocks++;
        }
        eb_tftp_put_taken(&r->put, n, r->now_us);
        if (turn % 5 == 0)
            pass(r, 300000); /* some are lost, and come again */
        else if (last > 0)
            ack(r, last);
    }
    assert_true(blocks > 200);
    for (size_t i = 0; i < RIGS; i++)
        end(&rigs[i]);
    free(buffer);
}

static void limits_hold_on_both_sides(void **state)
{
    enum { HEAD = EB_TFTP_BUFFER_HEAD_BYTES };
    (void)state;
    static const struct {
        uint16_t blksize, windowsize;
        size_t buffer_bytes;
        enum eb_status status;
    } rows[] = {
        {8, 1, HEAD + 516, EB_OK},
        {7, 1, HEAD + 516, EB_BAD_CALL},
        {65464, 1, HEAD + 65468, EB_OK},
        {65465, 1, 70000, EB_BAD_CALL},
        {65464, 1, HEAD + 65467, EB_BAD_CALL},
        {512, 0, HEAD + 516, EB_BAD_CALL},
        {512, 32767, HEAD + 516, EB_OK},
        {512, 32768, HEAD + 516, EB_BAD_CALL},
        {512, 1, HEAD + 515, EB_BAD_CALL},
        {8, 1, HEAD + 515, EB_BAD_CALL},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct rig r;
        begin(&r, 100, 512, 1);
        struct eb_tftp_put_config config = config_of(&r, rows[i].blksize, rows[i].windowsize);
        config.buffer_bytes = rows[i].buffer_bytes;
        assert_int_equal(eb_tftp_put_init(&r.put, &config, 0), rows[i].status);
        char name[EB_TFTP_FILE_NAME_BYTES + 1];
        memset(name, 'n', sizeof name);
        name[EB_TFTP_FILE_NAME_BYTES] = '\0';
        config = config_of(&r, 512, 1);
        config.file_name = name;
        assert_int_equal(eb_tftp_put_init(&r.put, &config, 0), EB_BAD_CALL);
        config.file_name = name + 1;
        assert_int_equal(eb_tftp_put_init(&r.put, &config, 0), EB_OK);
        end(&r);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_plain_request_is_that_of_rfc_1350),
        cmocka_unit_test(options_are_asked_for_by_their_names),
        cmocka_unit_test(an_option_that_the_device_leaves_out_keeps_its_default),
        cmocka_unit_test(options_that_were_not_asked_for_are_refused_with_error_8),
        cmocka_unit_test(an_option_granted_against_the_rules_is_named),
        cmocka_unit_test(a_device_that_refuses_options_is_asked_without),
        cmocka_unit_test(a_device_that_drops_requests_with_options_is_asked_without),
        cmocka_unit_test(a_late_answer_to_the_request_with_options_is_taken),
        cmocka_unit_test(the_devices_error_text_reaches_the_caller_as_plain_text),
        cmocka_unit_test(without_room_the_engine_waits_for_the_port_and_not_for_a_moment_that_has_passed),
        cmocka_unit_test(timeouts_do_not_count_as_the_time_of_a_window),
        cmocka_unit_test(a_device_that_takes_each_request_as_a_new_one_gets_through),
        cmocka_unit_test(stopping_while_the_device_erases_waits_for_its_answer_and_aborts),
        cmocka_unit_test(error_5_after_the_last_block_is_a_lost_acknowledgement),
        cmocka_unit_test(errors_of_the_device_say_whether_to_try_again),
        cmocka_unit_test(a_stranger_gets_error_5_and_the_transfer_lives),
        cmocka_unit_test(an_answer_from_another_address_does_not_begin_the_transfer),
        cmocka_unit_test(garbage_of_every_short_kind_changes_nothing),
        cmocka_unit_test(stopping_tells_the_device_once),
        cmocka_unit_test(an_image_that_cannot_be_read_ends_the_transfer),
        cmocka_unit_test(transfers_may_have_one_buffer),
        cmocka_unit_test(limits_hold_on_both_sides),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
