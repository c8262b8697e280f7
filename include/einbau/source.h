/* Where the bytes of an image come from. */
#ifndef EINBAU_SOURCE_H
#define EINBAU_SOURCE_H

#include <stdint.h>
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Reading at any place, any number of times; the bytes must not change while a job runs. */
struct eb_source {
    void *self;
    uint64_t size_bytes;
    /* Fills `to` with exactly `size` bytes from `offset`; EB_IO where they cannot be had. */
    enum eb_status (*read)(void *self, uint64_t offset, uint8_t *to, size_t size);
};

#ifdef __cplusplus
}
#endif

#endif
