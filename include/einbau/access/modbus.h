/* Modbus/TCP as a job sees it: identity from objects and registers, steps by registers, lamps by coils. */
#ifndef EINBAU_ACCESS_MODBUS_H
#define EINBAU_ACCESS_MODBUS_H

#include "einbau/access.h"
#include "einbau/modbus.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Kinds of its values. */
enum {
    EB_MODBUS_OBJECT,  /* `item` is the object id */
    EB_MODBUS_REGISTER /* holding register `index` and the next ones, `sub` in all: a number, or text */
};
/* Kinds of its steps. */
enum {
    EB_MODBUS_WRITE,  /* writes `value` to register `address` (as on the wire, from 0) */
    EB_MODBUS_EXPECT, /* register `address` reads `value` within `time_ms` */
    EB_MODBUS_BY_HAND /* a person does `hand`; checked like EB_MODBUS_EXPECT */
};

/* What it needs for one device. */
struct eb_access_modbus_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    struct eb_stream stream;
    bool busy, kept, reopened, answered;
    uint8_t absent;              /* times in a row that a gateway said that the device does not answer */
    uint8_t reading, unanswered; /* kind of value; connections in a row, while a restart is waited for */
    uint64_t deadline_us, attempt_us, attempt_end_us, patience_end_us;
    uint64_t connect_began_us, connect_us; /* the longest that a connection took */
    struct eb_modbus modbus;
};
extern const struct eb_access eb_access_modbus;
extern const struct eb_rows eb_rows_modbus;

#ifdef __cplusplus
}
#endif

#endif
