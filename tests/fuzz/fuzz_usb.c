/* Any bytes as descriptors of a device on USB, and as the answers to a download. */
#include <einbau/dfu.h>
#include <einbau/port.h>

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

enum { IMAGE_BYTES = 1000, BLOCK_BYTES = 64 };

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    if (offset + size > IMAGE_BYTES)
        __builtin_trap(); /* nobody asks beyond the end */
    memset(to, (int)offset, size);
    return EB_OK;
}

static void descriptors(const uint8_t *bytes, size_t size)
{
    struct eb_usb_device device = {
        .size = (uint16_t)(size < EB_USB_CONFIGURATION_BYTES ? size : EB_USB_CONFIGURATION_BYTES)};
    struct eb_dfu_interface dfu;
    char text[EB_NAME_BYTES];
    uint8_t index;
    memcpy(device.configuration, bytes, device.size);
    if (eb_dfu_find(&device, &dfu))
        eb_usb_interface_name(&device, dfu.number, 0, &index);
    if (eb_usb_string(bytes, size, text, sizeof text) && strlen(text) >= sizeof text)
        __builtin_trap();
    eb_usb_language(bytes, size);
}

static enum eb_status take(void *self, const uint8_t *bytes, size_t size)
{
    (void)self;
    return size > 0 && size <= BLOCK_BYTES && bytes != NULL ? EB_OK : EB_IO;
}

/* An answer is a byte that says how it ends, and as many as were asked for. */
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static const struct eb_source source = {.size_bytes = IMAGE_BYTES, .read = read_image};
    static const enum eb_status ends[] = {EB_OK,         EB_OK,        EB_OK,          EB_OK,
                                          EB_PEER_ERROR, EB_NO_ANSWER, EB_UNREACHABLE, EB_OK};
    static uint8_t block[BLOCK_BYTES];
    struct eb_dfu_interface interface = {.alternates = 1, .in_loader = true, .transfer_bytes = BLOCK_BYTES};
    const struct eb_dfu_config config = {.interface = &interface,
                                         .source = &source,
                                         .buffer = block,
                                         .buffer_bytes = sizeof block,
                                         .read_back = EB_READ_BACK_IF_POSSIBLE,
                                         .take = size > 0 && (bytes[0] & 0x80) != 0 ? take : NULL,
                                         .patience_us = 60000000};
    struct eb_dfu dfu;
    struct eb_usb_setup setup;
    const uint8_t *out;
    uint64_t now_us = 0;
    descriptors(bytes, size);
    if (size == 0)
        return 0;
    interface.attributes = bytes[0];
    eb_dfu_begin(&dfu, &config, 0);
    for (size_t at = 1; at < size && dfu.step == EB_DFU_BUSY;) {
        uint64_t due_us = eb_dfu_deadline_us(&dfu);
        if (due_us == EB_NEVER)
            __builtin_trap(); /* it neither waits nor has ended */
        now_us = due_us > now_us ? due_us : now_us;
        if (!eb_dfu_next(&dfu, now_us, &setup, &out))
            continue;
        if (setup.length > BLOCK_BYTES)
            __builtin_trap();
        enum eb_status end = ends[bytes[at] % 8];
        if (bytes[at] > 250)
            eb_dfu_stop(&dfu);
        at++;
        size_t have = (setup.type & EB_USB_IN) == 0 ? 0 : size - at < setup.length ? size - at : setup.length;
        eb_dfu_answer(&dfu, end, bytes + at, end == EB_OK ? have : 0, now_us);
        at += have;
    }
    if (config.take != NULL && (dfu.whole || dfu.back_bytes > 0))
        __builtin_trap(); /* nothing is written */
    if (config.take == NULL && (dfu.done_bytes > IMAGE_BYTES || dfu.back_bytes > IMAGE_BYTES ||
                                (dfu.step == EB_DFU_DONE && dfu.done_bytes != IMAGE_BYTES)))
        __builtin_trap();
    return 0;
}
