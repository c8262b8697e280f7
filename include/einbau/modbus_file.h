/* Many words of two bytes by Modbus/TCP: file records (functions 14h and 15h, Application Protocol 1.1b3,
 * sections 6.14 and 6.15) or registers (functions 03 and 10h, sections 6.3 and 6.12).  A file has 10,000
 * records; an image that is longer goes on in the file with the next number.
 *
 * The engine does no input or output: it gives bytes for the stream and takes bytes from it.  One request is
 * under way at a time; one that was not answered on its connection is asked again on the next one, which
 * writes the same bytes to the same place. */
#ifndef EINBAU_MODBUS_FILE_H
#define EINBAU_MODBUS_FILE_H

#include "einbau/modbus.h"
#include "einbau/source.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_MODBUS_FILE_RECORDS = 10000, /* of a file: 0 to 270Fh */
    EB_MODBUS_FILE_GROUP_MAX = 122, /* words of one request: 253 bytes of PDU */
    EB_MODBUS_FILE_READ_MAX = 121   /* of one that reads: at most F5h bytes of answer (section 6.14) */
};

/* Where the words are. */
enum eb_modbus_place { EB_MODBUS_IN_FILE, EB_MODBUS_IN_REGISTERS };

/* What is to be written or read, and how. */
struct eb_modbus_file_config {
    uint8_t unit;
    uint16_t tid; /* of the first transaction; any will do */
    enum eb_modbus_place place;
    uint16_t file;                  /* where it begins: a file, from 1; or the first register */
    uint16_t group;                 /* words in one request, 1..EB_MODBUS_FILE_GROUP_MAX */
    const struct eb_source *source; /* what is written, borrowed; NULL: it is read */
    uint32_t words;                 /* to be read */
    /* Takes what is read, in its order; EB_OK, or it ends with that. */
    enum eb_status (*take)(void *self, const uint8_t *bytes, size_t size);
    void *take_self;
    uint64_t patience_us; /* for one request, while the device is busy or away */
};

/* An image on its way. */
struct eb_modbus_file {
    enum eb_modbus_state state;
    /* Of FAILED: EB_PEER_ERROR (number: exception code), EB_GARBAGE, EB_NO_ANSWER, EB_STOPPED, EB_IO,
     * EB_TOO_LARGE (more than files have numbers). */
    struct eb_error error;
    uint64_t acked_bytes; /* written, or read */
    bool all_sent;        /* the last request is out, though perhaps not answered */

    /* the engine's own */
    struct eb_modbus_file_config config;
    uint16_t group, count; /* records that the device takes at once, and of the request */
    uint64_t now_us, again_us, pause_us, patience_end_us;
    bool waiting, stopping, connected, connected_anew;
    uint8_t tx[EB_MODBUS_FRAME_BYTES], rx[EB_MODBUS_FRAME_BYTES];
    size_t tx_size, tx_taken, rx_size;
};

/* EB_BAD_CALL: a number is outside of its limits. */
EB_NODISCARD enum eb_status eb_modbus_file_begin(struct eb_modbus_file *file,
                                                 const struct eb_modbus_file_config *config, uint64_t now_us);
/* A fresh connection: what was not answered is asked again. */
void eb_modbus_file_connected(struct eb_modbus_file *file);
/* Time; before bytes are given and taken. */
void eb_modbus_file_tick(struct eb_modbus_file *file, uint64_t now_us);
/* What is to go out next, valid until the next call; 0: nothing. */
size_t eb_modbus_file_give(const struct eb_modbus_file *file, const uint8_t **bytes);
void eb_modbus_file_taken(struct eb_modbus_file *file, size_t count);
void eb_modbus_file_receive(struct eb_modbus_file *file, const uint8_t *bytes, size_t size);
/* Ends behind the request that is under way. */
void eb_modbus_file_stop(struct eb_modbus_file *file);
uint64_t eb_modbus_file_deadline_us(const struct eb_modbus_file *file);

#ifdef __cplusplus
}
#endif

#endif
