/* What the bytes of an image say of it: product, version and so on, at places that a profile names.  So a
 * bare file is recognised by its content, whatever it is called. */
#ifndef EINBAU_LABEL_H
#define EINBAU_LABEL_H

#include "einbau/image.h"
#include "einbau/model.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_LABEL_MARKER_BYTES = 24,
    EB_LABEL_UNTIL_BYTES = 8,
    EB_LABEL_SEARCH_BYTES = 16 << 20 /* markers are looked for in as much of an image's beginning */
};

enum eb_label_item {
    EB_LABEL_PRODUCT,   /* must match one of the profile's order codes */
    EB_LABEL_COMPONENT, /* must be the component's name, where a place is given */
    EB_LABEL_REVISIONS, /* of hardware, between commas: "2..5,8" */
    EB_LABEL_VERSION,
    EB_LABEL_PAYLOAD_SIZE,     /* of a header file: bytes of the payload, in decimal */
    EB_LABEL_PAYLOAD_CHECKSUM, /* and its CRC-32 (ISO 3309), hexadecimal as text */
    EB_LABEL_ITEMS
};

/* A place in the bytes of an image, counted from the image's first byte, not from address 0. */
struct eb_label_place {
    enum { EB_PLACE_NONE, EB_PLACE_AT, EB_PLACE_AFTER } where;
    uint32_t offset;                    /* EB_PLACE_AT */
    char marker[EB_LABEL_MARKER_BYTES]; /* EB_PLACE_AFTER: behind its first occurrence */
    uint8_t text_bytes;               /* a text of at most so many bytes, ended by NUL or a line's end ... */
    char until[EB_LABEL_UNTIL_BYTES]; /* ... or one of these characters; 0: a number */
    uint8_t number_bytes, parts;      /* numbers of 1, 2 or 4 bytes; several are joined by dots */
    bool big_endian;
};

/* Where an image's bytes say what it is. */
struct eb_label {
    struct eb_label_place places[EB_LABEL_ITEMS];
    bool pair; /* these are the bytes of a header file; the image's own stand in the payload beside it */
};

/* Looks for one label in the pieces of an image. */
struct eb_label_reader {
    const struct eb_label *label;
    uint64_t base, next;
    uint8_t matched[EB_LABEL_ITEMS]; /* characters of the marker */
    uint8_t have[EB_LABEL_ITEMS];
    bool found[EB_LABEL_ITEMS]; /* the marker */
    uint8_t bytes[EB_LABEL_ITEMS][EB_NAME_BYTES];
};

/* Begins; `base` is the lowest address of the image; the label is borrowed while it reads. */
void eb_label_begin(struct eb_label_reader *reader, const struct eb_label *label, uint64_t base);

/* Takes a piece in, in any order; a marker is found where it does not lie across pieces that do not touch. */
void eb_label_take(struct eb_label_reader *reader, const struct eb_image_piece *piece);

/* Whether later pieces can change nothing: everything was found, or it cannot be any more. */
bool eb_label_settled(const struct eb_label_reader *reader);

/* What was found, as printable text; false where it is not there, or not whole. */
bool eb_label_text(const struct eb_label_reader *reader, enum eb_label_item item, char to[EB_NAME_BYTES]);

#ifdef __cplusplus
}
#endif

#endif
