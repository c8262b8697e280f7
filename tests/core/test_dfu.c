/* The DFU engine request by request, and who is who on USB.  Requests and states are those of DFU 1.1,
 * descriptors those of USB 2.0. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- descriptors --------------------------------------------------------------------------------- */

static void configuration_of(struct eb_usb_device *d, const char *hex)
{
    unsigned byte;
    memset(d, 0, sizeof *d);
    for (; sscanf(hex, "%2x", &byte) == 1; hex += 2 + (hex[2] == ' ')) {
        d->configuration[d->size++] = (uint8_t)byte;
        if (hex[2] == '\0')
            break;
    }
}

static void the_functional_descriptor_is_found(void **state)
{
    (void)state;
    struct eb_usb_device d;
    struct eb_dfu_interface f;
    /* a maker's own interface, then the run-time DFU interface with number 1 */
    configuration_of(&d, "09 02 24 00 02 01 00 80 32 09 04 00 00 00 FF 00 00 00 09 04 01 00 00 FE 01 01 08 "
                         "09 21 0D E8 03 00 04 10 01");
    assert_true(eb_dfu_find(&d, &f));
    assert_int_equal(f.number, 1);
    assert_false(f.in_loader);
    assert_int_equal(f.alternates, 1);
    assert_int_equal(f.attributes, EB_DFU_CAN_DNLOAD | EB_DFU_MANIFESTATION_TOLERANT | EB_DFU_WILL_DETACH);
    assert_int_equal(f.detach_ms, 1000);
    assert_int_equal(f.transfer_bytes, 1024);
    assert_int_equal(f.version, 0x0110);
    uint8_t name;
    assert_true(eb_usb_interface_name(&d, 1, 0, &name));
    assert_int_equal(name, 8);
    assert_false(eb_usb_interface_name(&d, 1, 1, &name));

    /* DFU mode with two alternate settings, and a functional descriptor of DFU 1.0: 7 bytes, no version */
    configuration_of(&d, "09 02 22 00 01 01 00 80 32 09 04 00 00 00 FE 01 02 10 09 04 00 01 00 FE 01 02 11 "
                         "07 21 03 00 00 40 00");
    assert_true(eb_dfu_find(&d, &f));
    assert_true(f.in_loader);
    assert_int_equal(f.alternates, 2);
    assert_int_equal(f.transfer_bytes, 64);
    assert_int_equal(f.version, 0x0100);

    /* cut off, of length 0, none at all */
    d.size = 20;
    assert_true(eb_dfu_find(&d, &f));
    assert_int_equal(f.transfer_bytes, 0);
    configuration_of(&d, "09 02 24 00 02 01 00 80 32 00 04 00 00 00 FE 01 02 00");
    assert_false(eb_dfu_find(&d, &f));
    configuration_of(&d, "09 02 12 00 01 01 00 80 32 09 04 00 00 00 08 06 50 00");
    assert_false(eb_dfu_find(&d, &f));
}

static void strings_and_releases_are_read(void **state)
{
    (void)state;
    static const uint8_t languages[] = {4, 3, 0x09, 0x04};
    static const uint8_t text[] = {14, 3, 'G', 0, '3', 0, '-', 0, 0xE9, 0, '7', 0, 0, 0};
    char to[EB_NAME_BYTES];
    char release[EB_USB_RELEASE_BYTES];
    assert_int_equal(eb_usb_language(languages, sizeof languages), 0x0409);
    assert_int_equal(eb_usb_language(languages, 2), 0);
    assert_true(eb_usb_string(text, sizeof text, to, sizeof to));
    assert_string_equal(to, "G3-?7"); /* what is no ASCII, and the NUL that some count */
    assert_false(eb_usb_string(text, sizeof text, to, 4));
    assert_string_equal(to, "");
    assert_false(eb_usb_string(text, 10, to, sizeof to)); /* shorter than it says */
    eb_usb_release_text(0x0210, 3, release);
    assert_string_equal(release, "2.1.0");
    eb_usb_release_text(0x0502, 2, release);
    assert_string_equal(release, "5.2");
    eb_usb_release_text(0x1234, 2, release);
    assert_string_equal(release, "12.34");
}

static void who_is_who(void **state)
{
    (void)state;
    const struct eb_usb_ids way = {
        .vendor = 0x1209, .product = 3, .loader_vendor = 0x1209, .loader_product = 4};
    struct eb_usb_device d = {.vendor = 0x1209, .product = 4, .place = "1-2.1", .serial = "G-1"};
    assert_int_equal(eb_usb_match(&way, "G-1", "", &d), EB_USB_IT);
    assert_int_equal(eb_usb_match(&way, "G-1", "3-1", &d),
                     EB_USB_IT); /* plugged in elsewhere: the number counts */
    assert_int_equal(eb_usb_match(&way, "G-2", "1-2.1", &d), EB_USB_ANOTHER);
    assert_int_equal(eb_usb_match(&way, "", "", &d), EB_USB_PERHAPS);
    assert_int_equal(eb_usb_match(&way, "", "1-2.1", &d), EB_USB_BY_PLACE);
    d.serial[0] = '\0';
    assert_int_equal(eb_usb_match(&way, "G-1", "1-2.1", &d), EB_USB_BY_PLACE);
    assert_int_equal(eb_usb_match(&way, "G-1", "1-2.2", &d), EB_USB_ANOTHER);
    assert_int_equal(eb_usb_match(&way, "G-1", "", &d),
                     EB_USB_ANOTHER); /* never because it is the only one */
    d.product = 5;
    assert_int_equal(eb_usb_match(&way, "", "1-2.1", &d), EB_USB_NOT_IT);
}

/* --- the engine, request by request -------------------------------------------------------------- */

static uint8_t image_bytes[150];
static uint8_t block[64];

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    memcpy(to, image_bytes + offset, size);
    return EB_OK;
}

static const struct eb_source image_source = {.size_bytes = sizeof image_bytes, .read = read_image};

struct engine {
    struct eb_dfu dfu;
    struct eb_dfu_interface interface;
    uint64_t now_us;
};

static uint8_t uploaded[sizeof image_bytes];
static size_t uploaded_bytes;

static enum eb_status take(void *self, const uint8_t *bytes, size_t size)
{
    (void)self;
    if (uploaded_bytes + size > sizeof uploaded)
        return EB_IO;
    memcpy(uploaded + uploaded_bytes, bytes, size);
    uploaded_bytes += size;
    return EB_OK;
}

static void begin(struct engine *e, uint8_t attributes, bool reads_back)
{
    e->interface = (struct eb_dfu_interface){
        .number = 2, .alternates = 1, .in_loader = true, .attributes = attributes, .transfer_bytes = 64};
    const struct eb_dfu_config config = {.interface = &e->interface,
                                         .source = &image_source,
                                         .buffer = block,
                                         .buffer_bytes = sizeof block,
                                         .read_back = reads_back ? EB_READ_BACK_IF_POSSIBLE : EB_READ_BACK_NO,
                                         .patience_us = 5000000};
    for (size_t i = 0; i < sizeof image_bytes; i++)
        image_bytes[i] = (uint8_t)(i * 7);
    e->now_us = 1000;
    assert_int_equal(eb_dfu_begin(&e->dfu, &config, e->now_us), EB_OK);
}

/* It asks for this, and not before `wait_ms` are over. */
static void asks(struct engine *e, uint32_t wait_ms, unsigned type, unsigned request, unsigned value,
                 unsigned length)
{
    struct eb_usb_setup setup;
    const uint8_t *bytes;
    if (wait_ms > 0) {
        assert_int_equal(eb_dfu_deadline_us(&e->dfu), e->now_us + wait_ms * 1000ULL);
        e->now_us += wait_ms * 1000ULL - 1;
        assert_false(eb_dfu_next(&e->dfu, e->now_us, &setup, &bytes));
        e->now_us++;
    }
    assert_true(eb_dfu_next(&e->dfu, e->now_us, &setup, &bytes));
    if (setup.type != type || setup.request != request || setup.value != value || setup.index != 2 ||
        setup.length != length)
        fail_msg("found %02x %u value %u length %u, expected %02x %u value %u length %u", setup.type,
                 setup.request, setup.value, setup.length, type, request, value, length);
    if (request == EB_DFU_DNLOAD && length > 0)
        assert_memory_equal(bytes, image_bytes + value * 64, length);
    assert_int_equal(eb_dfu_deadline_us(&e->dfu), UINT64_MAX);
}

static void asks_status(struct engine *e, uint32_t wait_ms)
{
    asks(e, wait_ms, 0xA1, EB_DFU_GETSTATUS, 0, 6);
}

static void tells(struct engine *e, unsigned status, uint32_t poll_ms, unsigned dfu_state)
{
    const uint8_t bytes[6] = {(uint8_t)status,          (uint8_t)poll_ms,   (uint8_t)(poll_ms >> 8),
                              (uint8_t)(poll_ms >> 16), (uint8_t)dfu_state, 0};
    e->now_us += 100;
    eb_dfu_answer(&e->dfu, EB_OK, bytes, sizeof bytes, e->now_us);
}

static void ends_as(struct engine *e, enum eb_status status)
{
    e->now_us += 100;
    eb_dfu_answer(&e->dfu, status, NULL, 0, e->now_us);
}

static void tells_state(struct engine *e, uint8_t dfu_state)
{
    eb_dfu_answer(&e->dfu, EB_OK, &dfu_state, 1, e->now_us);
}

static void takes_block(struct engine *e, unsigned number, unsigned length)
{
    asks(e, 0, 0x21, EB_DFU_DNLOAD, number, length);
    ends_as(e, EB_OK);
    asks_status(e, 0);
    tells(e, 0, 30, EB_DFU_DNBUSY);
    asks_status(e, 30);
    tells(e, 0, 0, EB_DFU_DNLOAD_IDLE);
}

static void takes_all(struct engine *e)
{
    asks_status(e, 0);
    tells(e, 0, 0, EB_DFU_IDLE);
    takes_block(e, 0, 64);
    takes_block(e, 1, 64);
    takes_block(e, 2, 22);
    asks(e, 0, 0x21, EB_DFU_DNLOAD, 3, 0);
    ends_as(e, EB_OK);
    asks_status(e, 0);
}

static void a_download_waits_as_it_is_told(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD, true);
    takes_all(&e);
    tells(&e, 0, 70000, EB_DFU_MANIFEST); /* more than patience allows */
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
    assert_int_equal(e.dfu.error.status, EB_NO_ANSWER);

    /* one that is not tolerant answers no more: its time over, it wants the reset */
    begin(&e, EB_DFU_CAN_DNLOAD, true);
    takes_all(&e);
    tells(&e, 0, 200, EB_DFU_MANIFEST);
    struct eb_usb_setup setup;
    const uint8_t *bytes;
    assert_int_equal(eb_dfu_deadline_us(&e.dfu), e.now_us + 200000);
    assert_false(eb_dfu_next(&e.dfu, e.now_us + 199999, &setup, &bytes));
    assert_int_equal(e.dfu.step, EB_DFU_BUSY);
    assert_false(eb_dfu_next(&e.dfu, e.now_us + 200000, &setup, &bytes));
    assert_int_equal(e.dfu.step, EB_DFU_DONE);
    assert_true(e.dfu.wants_reset);
    assert_int_equal(e.dfu.done_bytes, sizeof image_bytes);
    assert_int_equal(e.dfu.poll_us, 3 * 30000 + 200000);
    assert_false(e.dfu.read_back);

    /* one that goes away with the end may have restarted */
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    takes_all(&e);
    ends_as(&e, EB_UNREACHABLE);
    assert_int_equal(e.dfu.step, EB_DFU_DONE);
    assert_false(e.dfu.wants_reset);
    /* one that goes away before has not */
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    ends_as(&e, EB_UNREACHABLE);
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
    assert_int_equal(e.dfu.error.status, EB_UNREACHABLE);
}

/* bwPollTimeout comes with every answer; a device whose state allows a download takes the next block at once,
 * and is asked for its status no earlier than it wishes. */
static void a_wish_of_an_idle_device_holds_for_the_next_status(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 40, EB_DFU_IDLE);
    uint64_t told_us = e.now_us;
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    ends_as(&e, EB_OK);
    assert_int_equal(eb_dfu_deadline_us(&e.dfu), told_us + 40000);
}

static void a_tolerant_device_is_read_back(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD | EB_DFU_CAN_UPLOAD | EB_DFU_MANIFESTATION_TOLERANT, true);
    takes_all(&e);
    tells(&e, 0, 10, EB_DFU_MANIFEST);
    asks_status(&e, 10);
    tells(&e, 0, 5, EB_DFU_MANIFEST_SYNC); /* not yet */
    asks_status(&e, 5);
    tells(&e, 0, 0, EB_DFU_IDLE);
    for (unsigned i = 0; i < 3; i++) {
        uint8_t flash[64];
        size_t size = i < 2 ? 64 : 22;
        memset(flash, 0xFF, sizeof flash);
        memcpy(flash, image_bytes + i * 64, size);
        asks(&e, 0, 0xA1, EB_DFU_UPLOAD, i, 64);
        eb_dfu_answer(&e.dfu, EB_OK, flash, 64, e.now_us);
    }
    asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0); /* it has more, which is no business of ours */
    ends_as(&e, EB_OK);
    assert_int_equal(e.dfu.step, EB_DFU_DONE);
    assert_true(e.dfu.read_back);
    assert_int_equal(e.dfu.back_bytes, sizeof image_bytes);

    begin(&e, EB_DFU_CAN_DNLOAD | EB_DFU_CAN_UPLOAD | EB_DFU_MANIFESTATION_TOLERANT, true);
    takes_all(&e);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0xA1, EB_DFU_UPLOAD, 0, 64);
    uint8_t other[64] = {1};
    eb_dfu_answer(&e.dfu, EB_OK, other, 64, e.now_us);
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
    assert_int_equal(e.dfu.error.status, EB_UNCONFIRMED);

    begin(&e, EB_DFU_CAN_DNLOAD | EB_DFU_CAN_UPLOAD | EB_DFU_MANIFESTATION_TOLERANT, true);
    takes_all(&e);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0xA1, EB_DFU_UPLOAD, 0, 64);
    eb_dfu_answer(&e.dfu, EB_OK, image_bytes, 10, e.now_us); /* a short block: that was all */
    assert_int_equal(e.dfu.error.status, EB_UNCONFIRMED);
}

static void begin_upload(struct engine *e, uint8_t attributes)
{
    e->interface = (struct eb_dfu_interface){
        .number = 2, .alternates = 1, .in_loader = true, .attributes = attributes, .transfer_bytes = 64};
    const struct eb_dfu_config config = {.interface = &e->interface,
                                         .take = take,
                                         .buffer = block,
                                         .buffer_bytes = sizeof block,
                                         .patience_us = 5000000};
    for (size_t i = 0; i < sizeof image_bytes; i++)
        image_bytes[i] = (uint8_t)(i * 7);
    uploaded_bytes = 0;
    e->now_us = 1000;
    assert_int_equal(eb_dfu_begin(&e->dfu, &config, e->now_us), EB_OK);
}

/* It is idle, and gives its first block next. */
static void begin_idle_upload(struct engine *e)
{
    begin_upload(e, EB_DFU_CAN_UPLOAD);
    asks_status(e, 0);
    tells(e, 0, 0, EB_DFU_IDLE);
}

static void gives(struct engine *e, unsigned number, size_t size)
{
    asks(e, 0, 0xA1, EB_DFU_UPLOAD, number, 64);
    eb_dfu_answer(&e->dfu, EB_OK, image_bytes + number * 64, size, e->now_us);
}

/* Up to the first block that is shorter than asked for (DFU 1.1 section 6.2). */
static void an_upload_ends_with_a_short_block(void **state)
{
    (void)state;
    struct engine e;
    begin_upload(&e, EB_DFU_CAN_UPLOAD);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_UPLOAD_IDLE); /* an earlier one was cut off */
    asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0);
    ends_as(&e, EB_OK);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    gives(&e, 0, 64);
    gives(&e, 1, 64);
    gives(&e, 2, 22);
    assert_int_equal(e.dfu.step, EB_DFU_DONE);
    assert_int_equal(uploaded_bytes, sizeof image_bytes);
    assert_memory_equal(uploaded, image_bytes, sizeof image_bytes);

    /* whole blocks: one without a byte ends it */
    begin_idle_upload(&e);
    gives(&e, 0, 64);
    assert_int_equal(e.dfu.step, EB_DFU_BUSY);
    gives(&e, 1, 0);
    assert_int_equal(e.dfu.step, EB_DFU_DONE);
    assert_int_equal(uploaded_bytes, 64);

    /* more than can be kept; a block that is lost, which cannot be asked for again; a stall; no upload at all
     */
    begin_idle_upload(&e);
    gives(&e, 0, 64);
    gives(&e, 1, 64);
    asks(&e, 0, 0xA1, EB_DFU_UPLOAD, 2, 64);
    eb_dfu_answer(&e.dfu, EB_OK, block, 64, e.now_us);
    assert_int_equal(e.dfu.error.status, EB_IO);
    begin_idle_upload(&e);
    asks(&e, 0, 0xA1, EB_DFU_UPLOAD, 0, 64);
    ends_as(&e, EB_NO_ANSWER);
    assert_int_equal(e.dfu.error.status, EB_NO_ANSWER);
    begin_idle_upload(&e);
    asks(&e, 0, 0xA1, EB_DFU_UPLOAD, 0, 64);
    ends_as(&e, EB_PEER_ERROR);
    asks_status(&e, 0);
    tells(&e, 15, 0, EB_DFU_ERROR);
    assert_int_equal(e.dfu.error.status, EB_PEER_ERROR);
    assert_string_equal(e.dfu.error.where, "DFU upload");
    begin_upload(&e, EB_DFU_CAN_DNLOAD);
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
    assert_int_equal(eb_error_retry(&e.dfu.error), EB_RETRY_NEVER);
}

static void whatever_it_was_left_in_is_brought_to_rest(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 10, 0, EB_DFU_ERROR); /* no valid program: that is why we are here */
    asks(&e, 0, 0x21, EB_DFU_CLRSTATUS, 0, 0);
    ends_as(&e, EB_OK);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_DNLOAD_IDLE); /* an earlier transfer */
    asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0);
    ends_as(&e, EB_OK);
    asks_status(&e, 0);
    tells(&e, 0, 25, EB_DFU_DNBUSY);
    asks_status(&e, 25);
    tells(&e, 0, 0, EB_DFU_UPLOAD_IDLE);
    asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0);
    ends_as(&e, EB_OK);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    takes_block(&e, 0, 64);

    begin(&e, EB_DFU_CAN_DNLOAD, false);
    for (int i = 0; i < 3; i++) {
        asks_status(&e, 0);
        tells(&e, 3, 0, EB_DFU_ERROR);
        asks(&e, 0, 0x21, EB_DFU_CLRSTATUS, 0, 0);
        ends_as(&e, EB_OK);
    }
    asks_status(&e, 0);
    tells(&e, 3, 0, EB_DFU_ERROR); /* it does not come out of it */
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
    assert_int_equal(e.dfu.error.number, 3);

    begin(&e, EB_DFU_CAN_DNLOAD, false);
    for (int i = 0; i < 3; i++) {
        asks_status(&e, 0);
        tells(&e, 0, 0, EB_DFU_UPLOAD_IDLE);
        asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0);
        ends_as(&e, EB_OK);
    }
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_UPLOAD_IDLE); /* it takes the abort, and stays */
    assert_int_equal(e.dfu.error.status, EB_GARBAGE);

    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_MANIFEST_WAIT_RESET);
    assert_true(e.dfu.wants_reset);
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_APP_IDLE);
    assert_int_equal(e.dfu.error.status, EB_GARBAGE);
}

static void what_was_lost_is_found_by_its_state(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    ends_as(&e, EB_NO_ANSWER);
    asks(&e, 0, 0xA1, EB_DFU_GETSTATE, 0, 1);
    tells_state(&e, EB_DFU_IDLE); /* it did not come */
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    ends_as(&e, EB_NO_ANSWER);
    asks(&e, 0, 0xA1, EB_DFU_GETSTATE, 0, 1);
    tells_state(&e, EB_DFU_DNLOAD_SYNC); /* it came, and its answer was lost */
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_DNLOAD_IDLE);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 1, 64);
    ends_as(&e, EB_NO_ANSWER);
    asks(&e, 0, 0xA1, EB_DFU_GETSTATE, 0, 1);
    tells_state(&e, EB_DFU_DNLOAD_IDLE);
    takes_block(&e, 1, 64);
    takes_block(&e, 2, 22);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 3, 0);
    ends_as(&e, EB_NO_ANSWER);
    asks(&e, 0, 0xA1, EB_DFU_GETSTATE, 0, 1);
    tells_state(&e, EB_DFU_MANIFEST_SYNC);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_MANIFEST_WAIT_RESET);
    assert_int_equal(e.dfu.step, EB_DFU_DONE);

    begin(&e, EB_DFU_CAN_DNLOAD, false); /* one that takes itself for written when nothing is */
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    ends_as(&e, EB_NO_ANSWER);
    asks(&e, 0, 0xA1, EB_DFU_GETSTATE, 0, 1);
    tells_state(&e, EB_DFU_MANIFEST_SYNC);
    assert_int_equal(e.dfu.error.status, EB_GARBAGE);

    begin(&e, EB_DFU_CAN_DNLOAD, false); /* a device that has gone dumb */
    asks_status(&e, 0);
    ends_as(&e, EB_NO_ANSWER);
    asks_status(&e, 50);
    ends_as(&e, EB_NO_ANSWER);
    asks_status(&e, 50);
    ends_as(&e, EB_NO_ANSWER);
    assert_int_equal(e.dfu.error.status, EB_NO_ANSWER);
}

static void every_status_is_told_in_words(void **state)
{
    (void)state;
    for (unsigned status = 1; status <= 15; status++) {
        struct engine e;
        begin(&e, EB_DFU_CAN_DNLOAD, false);
        asks_status(&e, 0);
        tells(&e, 0, 0, EB_DFU_IDLE);
        asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
        ends_as(&e, EB_PEER_ERROR); /* stalled: why, its status tells */
        asks_status(&e, 0);
        tells(&e, status, 0, EB_DFU_ERROR);
        assert_int_equal(e.dfu.step, EB_DFU_FAILED);
        assert_int_equal(e.dfu.error.number, status);
        assert_string_equal(e.dfu.error.text, eb_dfu_status_text(status));
        for (unsigned other = 0; other < status; other++)
            assert_string_not_equal(eb_dfu_status_text(status), eb_dfu_status_text(other));
    }
    assert_string_equal(eb_dfu_status_text(16), "unknown error");
    for (unsigned s = 0; s < EB_DFU_STATES; s++)
        assert_non_null(strstr(eb_dfu_state_word(s), s < 2 ? "app" : "dfu"));
}

static void answers_against_the_standard_end_it(void **state)
{
    (void)state;
    struct engine e;
    for (int kind = 0; kind < 5; kind++) {
        const uint8_t eleven[6] = {0, 0, 0, 0, 11, 0};
        begin(&e, EB_DFU_CAN_DNLOAD, false);
        asks_status(&e, 0);
        if (kind == 0)
            eb_dfu_answer(&e.dfu, EB_OK, eleven, 6, e.now_us);
        else if (kind == 1)
            eb_dfu_answer(&e.dfu, EB_OK, eleven, 5, e.now_us);
        else
            tells(&e, 0, 0, EB_DFU_IDLE);
        if (kind >= 2) {
            asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
            ends_as(&e, EB_OK);
            asks_status(&e, 0);
            tells(&e, 0, 0, kind == 2 ? EB_DFU_IDLE : kind == 3 ? EB_DFU_UPLOAD_IDLE : EB_DFU_APP_IDLE);
        }
        assert_int_equal(e.dfu.step, EB_DFU_FAILED);
        assert_int_equal(e.dfu.error.status, EB_GARBAGE);
    }
    begin(&e, EB_DFU_CAN_UPLOAD, false); /* takes no download, and says so */
    assert_int_equal(e.dfu.step, EB_DFU_FAILED);
}

static void stopping_aborts(void **state)
{
    (void)state;
    struct engine e;
    begin(&e, EB_DFU_CAN_DNLOAD, false);
    asks_status(&e, 0);
    tells(&e, 0, 0, EB_DFU_IDLE);
    asks(&e, 0, 0x21, EB_DFU_DNLOAD, 0, 64);
    eb_dfu_stop(&e.dfu);
    ends_as(&e, EB_OK);
    asks_status(&e, 0);
    tells(&e, 0, 30, EB_DFU_DNBUSY); /* what it is writing it writes to its end */
    asks_status(&e, 30);
    tells(&e, 0, 0, EB_DFU_DNLOAD_IDLE);
    asks(&e, 0, 0x21, EB_DFU_ABORT, 0, 0);
    ends_as(&e, EB_OK);
    assert_int_equal(e.dfu.error.status, EB_STOPPED);
}

/* Block numbers begin at 0 and go on behind FFFFh with 0. */
static enum eb_status read_nothing(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    (void)offset;
    memset(to, 0, size);
    return EB_OK;
}

static void block_numbers_wrap(void **state)
{
    (void)state;
    const struct eb_source source = {.size_bytes = 70000, .read = read_nothing};
    const struct eb_dfu_interface interface = {
        .alternates = 1, .in_loader = true, .attributes = EB_DFU_CAN_DNLOAD, .transfer_bytes = 1};
    const struct eb_dfu_config config = {.interface = &interface,
                                         .source = &source,
                                         .buffer = block,
                                         .buffer_bytes = 1,
                                         .patience_us = 1000000};
    static const uint8_t idle[6] = {0, 0, 0, 0, EB_DFU_IDLE};
    static const uint8_t next[6] = {0, 0, 0, 0, EB_DFU_DNLOAD_IDLE};
    struct eb_dfu dfu;
    struct eb_usb_setup setup;
    const uint8_t *bytes;
    unsigned blocks = 0;
    eb_dfu_begin(&dfu, &config, 0);
    assert_true(eb_dfu_next(&dfu, 0, &setup, &bytes));
    eb_dfu_answer(&dfu, EB_OK, idle, 6, 0);
    while (eb_dfu_next(&dfu, 0, &setup, &bytes) && setup.length == 1) {
        assert_int_equal(setup.request, EB_DFU_DNLOAD);
        assert_int_equal(setup.value, blocks & 0xFFFF);
        blocks++;
        eb_dfu_answer(&dfu, EB_OK, NULL, 0, 0);
        assert_true(eb_dfu_next(&dfu, 0, &setup, &bytes));
        eb_dfu_answer(&dfu, EB_OK, next, 6, 0);
    }
    assert_int_equal(blocks, 70000);
    assert_int_equal(setup.value, 70000 & 0xFFFF);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_functional_descriptor_is_found),
        cmocka_unit_test(strings_and_releases_are_read),
        cmocka_unit_test(who_is_who),
        cmocka_unit_test(a_download_waits_as_it_is_told),
        cmocka_unit_test(a_wish_of_an_idle_device_holds_for_the_next_status),
        cmocka_unit_test(a_tolerant_device_is_read_back),
        cmocka_unit_test(an_upload_ends_with_a_short_block),
        cmocka_unit_test(whatever_it_was_left_in_is_brought_to_rest),
        cmocka_unit_test(what_was_lost_is_found_by_its_state),
        cmocka_unit_test(every_status_is_told_in_words),
        cmocka_unit_test(answers_against_the_standard_end_it),
        cmocka_unit_test(stopping_aborts),
        cmocka_unit_test(block_numbers_wrap),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
