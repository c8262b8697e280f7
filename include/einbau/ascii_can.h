/* The ASCII protocol of serial CAN adapters: commands and frames as lines of text that end with CR; the
 * answer to a command is CR (done), or BEL (not done). */
#ifndef EINBAU_ASCII_CAN_H
#define EINBAU_ASCII_CAN_H

#include "einbau/can.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_ASCII_CAN_LINE_BYTES = 40, EB_ASCII_CAN_FRAME_BYTES = 27 }; /* T, 8 digits, size, 16 digits, CR */

/* What a line turned out to be. */
enum eb_ascii_can_kind {
    EB_ASCII_CAN_NOTHING, /* the line has not ended yet, or says nothing that is known */
    EB_ASCII_CAN_DONE,    /* CR alone */
    EB_ASCII_CAN_TAKEN,   /* z or Z: a frame to be sent was taken */
    EB_ASCII_CAN_REFUSED, /* BEL */
    EB_ASCII_CAN_FRAME,   /* a frame was received */
    EB_ASCII_CAN_FAULT,   /* e: errors on the bus, one `faults` count for each letter */
    EB_ASCII_CAN_STATE,   /* s: state and counters */
    EB_ASCII_CAN_FLAGS,   /* F: a byte whose bits differ from adapter to adapter; 0 is well: `flags` */
    EB_ASCII_CAN_TEXT     /* V or N: version or serial number, in `line` */
};

/* Reads the adapter's lines, byte by byte. */
struct eb_ascii_can {
    char line[EB_ASCII_CAN_LINE_BYTES]; /* the last whole one, without its end */
    size_t size;
    bool ended, too_long;
    uint32_t faults[EB_CAN_FAULTS];
    enum eb_can_mode mode;
    uint16_t tx_errors, rx_errors;
    uint8_t flags;
};

/* Makes a reader ready. */
void eb_ascii_can_init(struct eb_ascii_can *reader);
/* One byte more.  `frame` is filled where it gives EB_ASCII_CAN_FRAME; a timestamp behind it is left out. */
enum eb_ascii_can_kind eb_ascii_can_take(struct eb_ascii_can *reader, uint8_t byte,
                                         struct eb_can_frame *frame);

/* Writes the command that sends a frame, with its CR; gives its size. */
size_t eb_ascii_can_put(const struct eb_can_frame *frame, char text[EB_ASCII_CAN_FRAME_BYTES]);

/* The digit of the command S for a bit rate; 0: there is none for it. */
char eb_ascii_can_rate(uint32_t bit_rate);

#ifdef __cplusplus
}
#endif

#endif
