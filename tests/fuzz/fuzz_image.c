/* Any bytes as an image file of whatever format, and what its bytes say of it. */
#include <einbau/label.h>
#include <einbau/text.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

struct memory {
    const uint8_t *bytes;
    size_t size;
};

static enum eb_status read_memory(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct memory *m = self;
    if (offset > m->size || size > m->size - offset)
        __builtin_trap(); /* the reader must stay inside of the file */
    memcpy(to, m->bytes + offset, size);
    return EB_OK;
}

/* Labels found piece by piece are those found in one: markers lie across pieces, and begin again inside
 * themselves. */
static void check_label(struct eb_image_reader *reader, const struct eb_source *source, uint64_t base)
{
    static const struct eb_label label = {
        .places = {
            [EB_LABEL_PRODUCT] = {.where = EB_PLACE_AFTER, .marker = "aab", .text_bytes = 5, .until = ";"},
            [EB_LABEL_VERSION] = {.where = EB_PLACE_AT, .offset = 3, .number_bytes = 2, .parts = 2},
            [EB_LABEL_REVISIONS] = {.where = EB_PLACE_AFTER, .marker = "xx", .text_bytes = 47}}};
    struct eb_label_reader found;
    struct eb_image_piece piece;
    char text[EB_NAME_BYTES];
    eb_label_begin(&found, &label, base);
    if (!eb_image_begin(reader, source))
        __builtin_trap(); /* it could be read a moment ago */
    while (eb_image_next(reader, &piece))
        eb_label_take(&found, &piece);
    for (int i = 0; i < EB_LABEL_ITEMS; i++) {
        if (eb_label_text(&found, (enum eb_label_item)i, text) &&
            (text[0] == '\0' || !eb_text_printable(text)))
            __builtin_trap();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct eb_image_reader reader;
    struct eb_segment list[16];
    struct eb_segments segments = {list, 0, 16};
    struct memory m = {bytes, size};
    const struct eb_source source = {.self = &m, .size_bytes = size, .read = read_memory};
    if (!eb_image_scan(&reader, &source, &segments)) {
        if (reader.wrong.status == EB_OK || reader.wrong.found[0] == '\0' || reader.wrong.expected[0] == '\0')
            __builtin_trap(); /* refused without a reason */
        return 0;
    }
    for (size_t i = 1; i < segments.count; i++) {
        if (list[i - 1].address + list[i - 1].size_bytes >= list[i].address)
            __builtin_trap(); /* neither overlapping nor touching, in their order */
    }
    if (segments.count > 0)
        check_label(&reader, &source, list[0].address);
    return 0;
}
