/* Any bytes as frames of a CAN bus for every engine, some of them as the answers that are waited for, with
 * time passing between; and as the lines of a serial adapter. */
#include <einbau/ascii_can.h>
#include <einbau/lss.h>
#include <einbau/port.h>
#include <einbau/sdo.h>
#include <einbau/uds.h>

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

enum { PATIENCE_US = 1000000, READ_BYTES = 40, IMAGE_BYTES = 3000 };

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    if (offset + size > IMAGE_BYTES)
        __builtin_trap(); /* nobody asks beyond the end */
    memset(to, (int)offset, size);
    return EB_OK;
}

static void begin(uint8_t what, struct eb_sdo *sdo, struct eb_uds *uds, struct eb_lss *lss, uint8_t *to)
{
    static const struct eb_source source = {.size_bytes = IMAGE_BYTES, .read = read_image};
    static const uint8_t data[200] = {0x36, 1};
    enum eb_sdo_way way = what % 2 == 0 ? EB_SDO_BLOCK : EB_SDO_SEGMENTED;
    if (what % 4 < 2)
        eb_sdo_read(sdo, 0x1008, 0, way, to, READ_BYTES, PATIENCE_US, 0);
    else
        eb_sdo_write_source(sdo, 0x1F50, 1, way, &source, PATIENCE_US, 0);
    eb_uds_ask(uds, data, 2, data, what % 3 == 0 ? 0 : sizeof data - 2, 5 * PATIENCE_US, 0);
    if (what % 5 == 0)
        eb_lss_scan(lss, 0);
    else
        eb_lss_inquire(lss, what % 5, 0);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct eb_sdo sdo;
    static struct eb_uds uds;
    static struct eb_lss lss;
    struct eb_ascii_can reader;
    struct eb_can_frame frame;
    struct eb_can_frame out[160];
    uint8_t to[READ_BYTES];
    uint8_t message[300];
    uint64_t now_us = 0;
    const struct eb_isotp_config config = {.request = 0x7E0,
                                           .response = 0x7E8,
                                           .extended = size > 1 && bytes[1] % 2 != 0,
                                           .tester = 0xF1,
                                           .block_size = 2};
    eb_ascii_can_init(&reader);
    for (size_t i = 0; i < size; i++) {
        if (eb_ascii_can_take(&reader, bytes[i], &frame) == EB_ASCII_CAN_FRAME && frame.size > EB_CAN_BYTES)
            __builtin_trap();
    }
    eb_sdo_init(&sdo, 11);
    eb_lss_init(&lss);
    eb_uds_init(&uds, &config, message, sizeof message);
    begin(size > 0 ? bytes[0] : 0, &sdo, &uds, &lss, to);
    for (size_t at = 2; at + 9 <= size; at += 9) {
        static const uint32_t ids[] = {0x58B, 0x7E8, 0x7E4, 0x18B};
        frame =
            (struct eb_can_frame){.id = ids[bytes[at] % 4], .size = bytes[at] >> 4 > 8 ? 8 : bytes[at] >> 4};
        memcpy(frame.data, bytes + at + 1, 8);
        frame.size = bytes[at] % 16 < 8 ? 8 : frame.size;
        now_us += bytes[at] % 32 == 31 ? PATIENCE_US : 100;
        eb_sdo_receive(&sdo, &frame, now_us);
        eb_uds_receive(&uds, &frame, now_us);
        eb_lss_receive(&lss, &frame, now_us);
        eb_sdo_tick(&sdo, now_us);
        eb_uds_tick(&uds, now_us);
        eb_lss_tick(&lss, now_us);
        eb_sdo_taken(&sdo, eb_sdo_give(&sdo, out, 160), now_us);
        eb_uds_taken(&uds, eb_uds_give(&uds, out, 160, bytes[at] % 3 != 0, now_us), now_us);
        eb_lss_taken(&lss, eb_lss_give(&lss, out, 160), now_us);
        if (sdo.done_bytes > sdo.total_bytes || sdo.size > READ_BYTES)
            __builtin_trap();
    }
    return 0;
}
