/* A sender, a port that keeps what it sends, and a clock that the test moves. */
#ifndef TFTP_RIG_H
#define TFTP_RIG_H

#include "support/support.h"

#include <stdlib.h>
#include <string.h>

enum { START_US = 0xFFFFFF00, SECOND_US = 1000000 };

static const struct eb_endpoint server = {{192, 0, 2, 9}, 69};
static const struct eb_endpoint peer = {{192, 0, 2, 9}, 3456};
static const struct eb_endpoint stranger = {{192, 0, 2, 9}, 4000};

struct rig {
    struct eb_tftp_put put;
    uint64_t size, now_us;
    uint64_t broken_from; /* reading from there on fails */
    uint8_t *buffer;
    unsigned first_block, last_block; /* numbers of those taken last */
};

static inline uint8_t byte_at(uint64_t offset)
{
    return (uint8_t)(offset * 31 + (offset >> 8) * 7);
}

static inline enum eb_status read_bytes(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct rig *r = self;
    assert_true(offset + size <= r->size);
    if (offset + size > r->broken_from)
        return EB_IO;
    for (size_t i = 0; i < size; i++)
        to[i] = byte_at(offset + i);
    return EB_OK;
}

static inline struct eb_tftp_put_config config_of(struct rig *r, uint16_t blksize, uint16_t windowsize)
{
    return (struct eb_tftp_put_config){.server = server,
                                       .file_name = "fw.bin",
                                       .source = {r, r->size, read_bytes},
                                       .blksize = blksize,
                                       .windowsize = windowsize,
                                       .patience_us = 30ULL * SECOND_US,
                                       .buffer = r->buffer,
                                       .buffer_bytes = 70000};
}

static inline void begin(struct rig *r, uint64_t size, uint16_t blksize, uint16_t windowsize)
{
    *r = (struct rig){.size = size, .now_us = START_US, .broken_from = UINT64_MAX, .buffer = malloc(70000)};
    const struct eb_tftp_put_config config = config_of(r, blksize, windowsize);
    assert_int_equal(eb_tftp_put_init(&r->put, &config, r->now_us), EB_OK);
}

static inline void end(struct rig *r)
{
    free(r->buffer);
}

/* Takes all that is to be sent; gives the number of datagrams, the first of them in `first`. */
static inline size_t take(struct rig *r, struct eb_datagram *first)
{
    struct eb_datagram burst[EB_BURST_MAX];
    size_t total = 0;
    size_t n;
    for (;;) {
        n = eb_tftp_put_give(&r->put, burst, EB_BURST_MAX, r->now_us);
        if (n == 0 && r->put.release_us > r->now_us &&
            eb_tftp_put_deadline_us(&r->put) == r->put.release_us) {
            r->now_us = r->put.release_us; /* the sender paces itself: the rest comes a little later */
            continue;
        }
        if (n == 0)
            return total;
        if (total == 0 && first != NULL)
            *first = burst[0];
        if (total == 0)
            r->first_block = (unsigned)burst[0].bytes[2] << 8 | burst[0].bytes[3];
        r->last_block = (unsigned)burst[n - 1].bytes[2] << 8 | burst[n - 1].bytes[3];
        eb_tftp_put_taken(&r->put, n, r->now_us);
        total += n;
    }
}

static inline void expect_one(struct rig *r, const void *bytes, size_t size, const struct eb_endpoint *to)
{
    struct eb_datagram d = {0};
    assert_int_equal(take(r, &d), 1);
    assert_int_equal(d.size_bytes, size);
    assert_memory_equal(d.bytes, bytes, size);
    assert_true(eb_endpoint_same(&d.peer, to));
}
#define EXPECT_ONE(r, text, to) expect_one(r, text, sizeof(text) - 1, to)

static inline void receive(struct rig *r, const struct eb_endpoint *from, const void *bytes, size_t size)
{
    eb_tftp_put_receive(&r->put, from, bytes, size, r->now_us);
}
#define RECEIVE(r, from, text) receive(r, from, text, sizeof(text) - 1)

static inline void ack(struct rig *r, unsigned block)
{
    const uint8_t bytes[] = {0, 4, (uint8_t)(block >> 8), (uint8_t)block};
    receive(r, &peer, bytes, sizeof bytes);
}

static inline void pass(struct rig *r, uint64_t us)
{
    r->now_us += us;
    eb_tftp_put_tick(&r->put, r->now_us);
}

static inline void expect_blocks(struct rig *r, unsigned first, unsigned count)
{
    assert_int_equal(take(r, NULL), count);
    if (count == 0)
        return;
    assert_int_equal(r->first_block, first & 0xFFFF);
    assert_int_equal(r->last_block, (first + count - 1) & 0xFFFF);
}

static inline void begin_window(struct rig *r)
{
    begin(r, 100000, 1000, 8);
    take(r, NULL);
    RECEIVE(r, &peer,
            "\0\6blksize\0"
            "1000\0windowsize\0"
            "8\0");
    expect_blocks(r, 1, 8);
}

#endif
