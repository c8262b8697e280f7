/* A CANopen SDO client (CiA 301 section 7.2.4): reads and writes one object of one node at a time.
 *
 *   IDLE --read, write--> BUSY --answered--> DONE
 *                            \__abort, silence, nonsense__> FAILED
 *
 * It does no I/O: the caller gives it the frames that came from the node (COB-ID 580h + node), and sends
 * those that it gives (600h + node). */
#ifndef EINBAU_SDO_H
#define EINBAU_SDO_H

#include "einbau/can.h"
#include "einbau/source.h"
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_SDO_BLOCK_MAX = 127, EB_SDO_SEGMENT_BYTES = 7, EB_SDO_REPEATS_MAX = 8 };

enum eb_sdo_state { EB_SDO_IDLE, EB_SDO_BUSY, EB_SDO_DONE, EB_SDO_FAILED };

/* How bytes are moved; what a node does not do is tried in the next simpler way. */
enum eb_sdo_way { EB_SDO_BLOCK, EB_SDO_SEGMENTED };

/* The client's end of one transfer at a time. */
struct eb_sdo {
    enum eb_sdo_state state;
    struct eb_error error; /* `number`: the node's abort code, or the one that was sent to it */
    uint8_t node;
    uint16_t index;
    uint8_t sub;

    /* reading */
    uint8_t *to;
    size_t cap, size;                 /* what was read */
    const struct eb_source *compared; /* in place of `to`: what was read must be this */

    /* writing: bytes that the node has acknowledged, and all of them */
    uint64_t done_bytes, total_bytes;

    /* its own */
    const uint8_t *bytes;
    const struct eb_source *source;
    enum eb_sdo_way way;
    uint8_t phase;
    uint8_t out[8];
    bool has_out, toggle, crc_used, ended;
    uint64_t patience_us, until_us;
    uint64_t repeat_us, again_us;
    bool repeating;
    /* a block */
    uint8_t buffer[EB_SDO_BLOCK_MAX * EB_SDO_SEGMENT_BYTES];
    size_t buffered;         /* bytes of this block in `buffer` */
    uint8_t block_size;      /* segments that the receiver takes at once */
    uint8_t count, sequence; /* segments of this block, and those that were given or came */
    uint8_t repeats;         /* blocks of which nothing arrived, in a row */
    uint8_t last_ack, last_size;
    uint64_t summed_bytes; /* so far into the check sequence */
    uint16_t crc;
};

/* For one node, 1..127.  Nothing is sent. */
void eb_sdo_init(struct eb_sdo *sdo, uint8_t node);

/* Begins to read an object into `to`, which is borrowed until the end.  Each answer may take `patience_us`.
 */
void eb_sdo_read(struct eb_sdo *sdo, uint16_t index, uint8_t sub, enum eb_sdo_way way, uint8_t *to,
                 size_t cap, uint64_t patience_us, uint64_t now_us);

/* Begins to read an object and compares it with a source: EB_UNCONFIRMED where it differs, or is shorter;
 * what comes behind the source's end does not count. */
void eb_sdo_compare(struct eb_sdo *sdo, uint16_t index, uint8_t sub, enum eb_sdo_way way,
                    const struct eb_source *source, uint64_t patience_us, uint64_t now_us);

/* Makes the read that has just begun ask again every `every_us` while nothing comes, within its patience: a
 * request or its answer may have been lost, and a node that starts hears the later one. */
void eb_sdo_repeat(struct eb_sdo *sdo, uint64_t every_us, uint64_t now_us);

/* Begins to write `size` bytes, at least one; up to four go in one frame.  They are borrowed until the end.
 */
void eb_sdo_write(struct eb_sdo *sdo, uint16_t index, uint8_t sub, const uint8_t *bytes, size_t size,
                  uint64_t patience_us, uint64_t now_us);

/* Begins to write a whole source, less than 4 GiB. */
void eb_sdo_write_source(struct eb_sdo *sdo, uint16_t index, uint8_t sub, enum eb_sdo_way way,
                         const struct eb_source *source, uint64_t patience_us, uint64_t now_us);

/* A frame from the bus; those that are not from the node's SDO server do not touch the transfer. */
void eb_sdo_receive(struct eb_sdo *sdo, const struct eb_can_frame *frame, uint64_t now_us);

/* Fills in up to `cap` frames to be sent now, and gives their number; eb_sdo_taken says how many of them were
 * taken.  Also after the end: an abort may have to be told. */
size_t eb_sdo_give(struct eb_sdo *sdo, struct eb_can_frame *frames, size_t cap);
void eb_sdo_taken(struct eb_sdo *sdo, size_t count, uint64_t now_us);

/* Time passes; and when it next matters (EB_NEVER: only an arrival does). */
void eb_sdo_tick(struct eb_sdo *sdo, uint64_t now_us);
uint64_t eb_sdo_deadline_us(const struct eb_sdo *sdo);

/* Gives the transfer up: an abort is told to the node. */
void eb_sdo_stop(struct eb_sdo *sdo);

/* What an abort code means (CiA 301 table 22), static; "unknown abort code" for others. */
const char *eb_sdo_abort_text(uint32_t code);

/* The check sequence of block transfer: polynomial 1021h, begun with 0 (CiA 301 section 7.2.4.3.16). */
uint16_t eb_sdo_crc(uint16_t crc, const uint8_t *bytes, size_t size);

#ifdef __cplusplus
}
#endif

#endif
