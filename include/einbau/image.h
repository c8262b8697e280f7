/* Image files read as one thing: pieces of bytes with their addresses, whatever the format is.
 *
 * Formats: raw bytes; Intel HEX (Hexadecimal Object File Format Specification, revision A, 1988); Motorola
 * S-records; ELF of 32 and 64 bits in both byte orders (the loadable segments at their load address, System V
 * ABI chapter 5); DFU files (Universal Serial Bus Device Class Specification for Device Firmware
 * Upgrade, 1.1, appendix B).
 *
 * The reader streams: it holds one buffer, whatever the file's size, and gives the pieces in the file's
 * order. */
#ifndef EINBAU_IMAGE_H
#define EINBAU_IMAGE_H

#include <stdbool.h>
#include "einbau/source.h"

#ifdef __cplusplus
extern "C" {
#endif

enum eb_image_format { EB_FORMAT_RAW, EB_FORMAT_HEX, EB_FORMAT_SRECORD, EB_FORMAT_ELF, EB_FORMAT_DFU };
/* The word for it, "intel-hex"; static. */
const char *eb_image_format_word(enum eb_image_format format);

enum {
    EB_IMAGE_BUFFER_BYTES = 4096,
    EB_IMAGE_RECORD_BYTES =
        261, /* the longest line: 255 bytes of data, length, address, type and checksum; and one */
    EB_IMAGE_WORDS_BYTES = 64
};

/* What is wrong with a file, and where. */
struct eb_image_wrong {
    enum eb_status status; /* EB_GARBAGE, EB_TOO_LARGE, or EB_IO */
    uint64_t line;         /* of a text format, from 1; 0: not of one line */
    char found[EB_IMAGE_WORDS_BYTES], expected[EB_IMAGE_WORDS_BYTES];
};

/* A piece of the image; the bytes are the reader's until it is asked for the next one. */
struct eb_image_piece {
    uint64_t address;
    const uint8_t *bytes;
    size_t size;
};

/* What a DFU file's suffix says; FFFFh stands for any. */
struct eb_dfu_suffix {
    uint16_t device, product, vendor, version; /* bcdDevice, idProduct, idVendor, bcdDFU */
};

/* Reads one image; its members are its own, but for those with a comment. */
struct eb_image_reader {
    enum eb_image_format format;
    struct eb_image_wrong wrong;
    struct eb_dfu_suffix suffix; /* of EB_FORMAT_DFU */
    bool has_start;              /* the file says where a program begins */
    uint64_t start;

    /* the reader's own */
    struct eb_source source;
    uint64_t at, end; /* in the file: what is read next, and where the payload ends */
    uint64_t line;
    uint64_t base; /* Intel HEX: what the last extended address record set */
    bool segmented, ended;
    uint8_t sum;      /* of the last line's bytes */
    uint64_t records; /* S-records: of data, so far */
    bool counted;     /* and their number was told behind them */
    uint64_t rest_at; /* Intel HEX: what wrapped inside its segment */
    size_t rest, rest_from;
    uint64_t table_at; /* ELF: program headers */
    uint32_t table_size, table_entries, table_next;
    bool wide, big_endian;
    uint64_t left, address; /* of the current segment */
    uint8_t buffer[EB_IMAGE_BUFFER_BYTES];
    size_t have, taken;
    uint8_t record[EB_IMAGE_RECORD_BYTES]; /* the last line's bytes */
};

/* Begins to read a file: recognises its format by its content alone.  A text that begins like a record is
 * one, ELF and DFU are told by their marks, everything else is raw and begins at address 0.  False with
 * `wrong` filled where it cannot be read: a DFU suffix with a wrong checksum is no raw file. */
bool eb_image_begin(struct eb_image_reader *reader, const struct eb_source *source);

/* The next piece; false at the end, or where something is wrong: wrong.status tells which (EB_OK: the end).
 */
bool eb_image_next(struct eb_image_reader *reader, struct eb_image_piece *piece);

/* --- what the pieces make together --- */

/* Bytes of an image that lie together. */
struct eb_segment {
    uint64_t address, size_bytes;
};

/* Segments in the order of their addresses, in the caller's array; what touches is one. */
struct eb_segments {
    struct eb_segment *list;
    size_t count, cap;
};

/* Adds a piece.  EB_GARBAGE: it overlaps what is there.  EB_TOO_LARGE: more segments than `cap`. */
EB_NODISCARD enum eb_status eb_segments_add(struct eb_segments *segments, uint64_t address,
                                            uint64_t size_bytes);

/* Reads the whole file and collects its segments.  False with the reader's `wrong` filled. */
bool eb_image_scan(struct eb_image_reader *reader, const struct eb_source *source,
                   struct eb_segments *segments);

#ifdef __cplusplus
}
#endif

#endif
