/* Frames as hexadecimal text, and an image to be sent. */
#ifndef CAN_FRAMES_H
#define CAN_FRAMES_H

#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static inline struct eb_can_frame frame_of(uint32_t id, const char *hex)
{
    struct eb_can_frame f = {.id = id};
    unsigned byte;
    for (const char *at = hex; sscanf(at, " %2x", &byte) == 1; at = strchr(at + 1, ' ')) {
        f.data[f.size++] = (uint8_t)byte;
        if (strchr(at + 1, ' ') == NULL)
            break;
    }
    return f;
}

static inline void assert_frame(const struct eb_can_frame *f, uint32_t id, const char *hex)
{
    const struct eb_can_frame wanted = frame_of(id, hex);
    char found[64] = "";
    for (int i = 0; i < f->size; i++)
        snprintf(found + strlen(found), sizeof found - strlen(found), "%s%02X", i > 0 ? " " : "", f->data[i]);
    if (f->id != id || f->size != wanted.size || memcmp(f->data, wanted.data, f->size) != 0)
        fail_msg("found %X: %s, expected %X: %s", f->id, found, id, hex);
}

static uint8_t image[2000];

static inline enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    memcpy(to, image + offset, size);
    return EB_OK;
}

static inline struct eb_source source_of(size_t size)
{
    for (size_t i = 0; i < sizeof image; i++)
        image[i] = (uint8_t)(i + 1);
    return (struct eb_source){.size_bytes = size, .read = read_image};
}

#endif
