/* The accesses over a CAN bus: a CANopen node (CiA 301, CiA 302-3) and a unit that speaks UDS (ISO 14229-1).
 */
#ifndef EINBAU_ACCESS_CAN_H
#define EINBAU_ACCESS_CAN_H

#include "einbau/access.h"
#include "einbau/sdo.h"
#include "einbau/uds.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What both share: the adapter, and where an operation stands. */
struct eb_can_link {
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle;     /* EB_NO_HANDLE: not open */
    uint64_t given; /* frames to the port since it was opened */
    uint64_t deadline_us, patience_end_us, look_us;
    uint8_t move, repeats;
    uint32_t bit_rate; /* where the device is now, as far as is known */
    bool busy, more, answered, pausing, stopping;
    bool heard;    /* a good frame of the device, since the run began */
    bool bus_off;  /* what ended the last exchange */
    bool has_been; /* its values were read before */
    char serial[EB_NAME_BYTES];
};

/* Its one kind of value: object `index`, `sub`. */
struct eb_access_canopen_context {
    struct eb_can_link link;
    uint8_t node;
    bool transferred;      /* a download was begun, so that the node may wait for its rest */
    uint64_t flush_end_us; /* until then what the engine says last may still go out */
    uint8_t bytes[EB_NAME_BYTES];
    struct eb_sdo sdo;
};
extern const struct eb_access eb_access_canopen;
extern const struct eb_rows eb_rows_canopen;

/* Its one kind of value: data identifier `index`. */
struct eb_access_uds_context {
    struct eb_can_link link;
    uint8_t request[EB_UDS_MESSAGE_MIN_BYTES];
    uint8_t counter;
    uint32_t block_bytes;
    uint64_t back_bytes; /* read back and compared */
    struct eb_uds uds;
};
extern const struct eb_access eb_access_uds;
extern const struct eb_rows eb_rows_uds;

#ifdef __cplusplus
}
#endif

#endif
