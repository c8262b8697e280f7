/* Where the bytes of an image come from. */
#ifndef EINBAU_SOURCE_H
#define EINBAU_SOURCE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Text of Intel HEX or S-records, to be read in one go. */
struct eb_lines {
    uint8_t *chars; /* begins with a line; the bytes are written over it, from its beginning on */
    size_t size;
    bool hex; /* else S-records */

    /* What was read: whole lines with data that follow each other. */
    size_t taken; /* characters, 0: none */
    size_t lines;
    size_t bytes;
    uint64_t address; /* of the first, as its record has it */
};

/* Reading at any place, any number of times; the bytes must not change while a job runs. */
struct eb_source {
    void *self;
    uint64_t size_bytes;
    /* Fills `to` with exactly `size` bytes from `offset`; EB_IO where they cannot be had. */
    enum eb_status (*read)(void *self, uint64_t offset, uint8_t *to, size_t size);
    /* A fast way to read lines that are as they should be; it leaves everything else.  Where bytes overlap,
     * the line in the error may then be too high.  NULL: there is none. */
    void (*lines)(struct eb_lines *lines);
};

#ifdef __cplusplus
}
#endif

#endif
