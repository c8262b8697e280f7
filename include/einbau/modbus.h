/* Modbus/TCP as a client: reading and writing registers, and reading the device identification.
 * Modbus Application Protocol 1.1b3; Modbus Messaging on TCP/IP Implementation Guide 1.0b.
 *
 * The engine does no input or output: it gives bytes for the stream and takes bytes from it, in slices of any
 * size. */
#ifndef EINBAU_MODBUS_H
#define EINBAU_MODBUS_H

#include "einbau/status.h"
#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_MODBUS_PORT = 502,
    EB_MODBUS_UNIT_SELF = 0xFF, /* the device itself, not one behind it */
    EB_MODBUS_PDU_BYTES = 253,  /* Application Protocol section 4.1 */
    EB_MODBUS_FRAME_BYTES = 260,
    EB_MODBUS_REGISTERS_MAX = 32, /* in one exchange: a name of 64 characters */
    EB_MODBUS_OBJECTS_MAX = 40,   /* 7 of the standard's own and room for a maker's */
    EB_MODBUS_OBJECT_TEXT_BYTES = 1536
};

/* Object ids of the device identification, Application Protocol section 6.21. */
enum {
    EB_MODBUS_VENDOR_NAME = 0,
    EB_MODBUS_PRODUCT_CODE = 1,
    EB_MODBUS_REVISION = 2,
    EB_MODBUS_PRODUCT_NAME = 4,
    EB_MODBUS_MODEL_NAME = 5
};

enum eb_modbus_code { EB_MODBUS_BASIC = 1, EB_MODBUS_REGULAR = 2, EB_MODBUS_EXTENDED = 3 };

/* One object of the device identification: where its text is. */
struct eb_modbus_object {
    uint8_t id;
    uint8_t size;
    uint16_t at; /* in `bytes` */
};

/* All objects that were read. */
struct eb_modbus_objects {
    struct eb_modbus_object list[EB_MODBUS_OBJECTS_MAX];
    size_t count;
    uint8_t bytes[EB_MODBUS_OBJECT_TEXT_BYTES];
    size_t used;
};

enum eb_modbus_state { EB_MODBUS_IDLE, EB_MODBUS_ASKING, EB_MODBUS_DONE, EB_MODBUS_FAILED };

/* One connection's engine. */
struct eb_modbus {
    enum eb_modbus_state state;
    struct eb_error error; /* of FAILED: EB_PEER_ERROR (number: exception code), EB_GARBAGE, EB_TOO_LARGE */
    uint16_t value;        /* the register read by eb_modbus_read_register */
    uint16_t values[EB_MODBUS_REGISTERS_MAX]; /* those read by eb_modbus_read_registers */
    struct eb_modbus_objects objects;

    /* the engine's own */
    uint8_t kind;
    uint8_t unit;
    uint8_t code; /* of the identification being asked for */
    uint16_t tid;
    uint16_t address;
    uint8_t next_object;
    uint8_t tx[80];
    size_t tx_size, tx_taken;
    uint8_t rx[EB_MODBUS_FRAME_BYTES];
    size_t rx_size;
};

/* Makes the engine ready for a fresh connection.  `tid` is the first transaction id; any will do. */
void eb_modbus_init(struct eb_modbus *modbus, uint8_t unit, uint16_t tid);

/* Each begins one exchange, when no other is going on: on the same connection after EB_MODBUS_DONE, on a
 * fresh one after EB_MODBUS_FAILED. */
void eb_modbus_read_register(struct eb_modbus *modbus, uint16_t address);                  /* function 03 */
void eb_modbus_write_register(struct eb_modbus *modbus, uint16_t address, uint16_t value); /* function 06 */

/* The same for `count` registers, 1..EB_MODBUS_REGISTERS_MAX (functions 03 and 10h), and for a coil (05). */
void eb_modbus_read_registers(struct eb_modbus *modbus, uint16_t address, size_t count);
void eb_modbus_write_registers(struct eb_modbus *modbus, uint16_t address, const uint16_t *values,
                               size_t count);
void eb_modbus_write_coil(struct eb_modbus *modbus, uint16_t address, bool on);

/* Reads all objects up to category `code` (function 2B / MEI 0E), one answer after the other while more
 * follows. A device that refuses the category is asked for the next lower one. */
void eb_modbus_identify(struct eb_modbus *modbus, enum eb_modbus_code code);

/* Bytes that are to be sent: gives their number, 0 for none. */
size_t eb_modbus_give(const struct eb_modbus *modbus, const uint8_t **bytes);
/* The first `count` of them went out. */
void eb_modbus_taken(struct eb_modbus *modbus, size_t count);

/* Takes `size` bytes of the stream.  Answers with another transaction id (late ones) are passed over. */
void eb_modbus_receive(struct eb_modbus *modbus, const uint8_t *bytes, size_t size);

/* The object `id` copied as printable text; false (and an empty text) where the device did not give it, or
 * where it is too long for `cap`: half a version or serial number is none. */
bool eb_modbus_object_text(const struct eb_modbus_objects *objects, uint8_t id, char *text, size_t cap);

/* The standard's words for an exception code, static. */
const char *eb_modbus_exception_text(uint32_t code);

#ifdef __cplusplus
}
#endif

#endif
