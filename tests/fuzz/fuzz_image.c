/* Any bytes as an image file of whatever format. */
#include <einbau/image.h>
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

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct eb_image_reader reader;
    struct eb_segment list[16];
    struct eb_segments segments = {list, 0, 16};
    struct memory m = {bytes, size};
    const struct eb_source source = {&m, size, read_memory};
    if (!eb_image_scan(&reader, &source, &segments)) {
        if (reader.wrong.status == EB_OK || reader.wrong.found[0] == '\0' || reader.wrong.expected[0] == '\0')
            __builtin_trap(); /* refused without a reason */
        return 0;
    }
    for (size_t i = 1; i < segments.count; i++) {
        if (list[i - 1].address + list[i - 1].size_bytes >= list[i].address)
            __builtin_trap(); /* neither overlapping nor touching, in their order */
    }
    return 0;
}
