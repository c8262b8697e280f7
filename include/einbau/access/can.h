/* The accesses over a CAN bus: a CANopen node (CiA 301, CiA 302-3) and a unit that speaks UDS (ISO 14229-1).
 */
#ifndef EINBAU_ACCESS_CAN_H
#define EINBAU_ACCESS_CAN_H

#include "einbau/access.h"
#include "einbau/sdo.h"
#include "einbau/uds.h"
#include <string.h>

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

/* Program download (CiA 302-3). */
struct eb_canopen_way {
    uint8_t program;          /* sub-index, 1 is the main one */
    uint8_t loader_node;      /* of the loader where it is another one; 0: the same */
    uint32_t loader_bit_rate; /* 0: the same */
    uint32_t clear_patience_ms;
    uint32_t answer_patience_ms; /* for each answer of the transfer */
    bool segmented;              /* the node is not asked for block transfer */
    bool members_at_once;        /* of a manager: several of its members may be taken out at once */
};
/* What the profile says of it. */
static inline struct eb_canopen_way eb_canopen_way_of(const struct eb_profile *profile)
{
    struct eb_canopen_way way;
    memcpy(&way, profile->way, sizeof way);
    return way;
}

/* Its one kind of value: object `index`, `sub`. */
struct eb_access_canopen_context {
    struct eb_can_link link;
    uint8_t node;
    bool transferred;      /* a download was begun, so that the node may wait for its rest */
    uint64_t flush_end_us; /* until then what the engine says last may still go out */
    uint8_t bytes[EB_NAME_BYTES];
    struct eb_sdo sdo;
    /* of a document: the subindex, the bytes of the source that are through, what is written of it */
    uint16_t sub;
    uint64_t at;
    struct eb_source part;
    bool any;
};

/* A document: the subindices of one object, in their order, each as its number (u8), its size (u32,
 * little-endian) and its bytes.  What a node has not is left out. */
struct eb_canopen_document {
    uint16_t index;
    uint8_t first, last;
    uint8_t store; /* subindex of 1010h that stores what was written; 0: nothing does */
};
/* A step: an object is written (`nmt` 0), or a command of NMT is sent to the node (CiA 301
 * section 7.2.8.2.1). */
struct eb_canopen_step {
    uint16_t index;
    uint8_t sub, bytes; /* of `value`, little-endian */
    uint32_t value;
    uint8_t nmt;
};
extern const struct eb_access eb_access_canopen;
extern const struct eb_rows eb_rows_canopen;

/* Download by UDS (ISO 14229-1 section 14 and annex of sequences). */
struct eb_uds_way {
    enum eb_uds_key key;
    uint32_t key_value;
    uint8_t level; /* of security access: the odd number for the seed */
    uint32_t address;
    uint16_t fingerprint;   /* data identifier that it is written to; 0: none */
    uint16_t check_routine; /* gets the CRC-32 of what was sent; 0: none */
    bool dependencies;      /* FF01h is run behind it */
    bool quiet;             /* communication and fault memory are switched off meanwhile */
    uint32_t erase_patience_ms;
    uint32_t answer_patience_ms; /* for each answer, beyond what the unit itself tells */
    bool padded;
    uint8_t padding;
};
/* What the profile says of it. */
static inline struct eb_uds_way eb_uds_way_of(const struct eb_profile *profile)
{
    struct eb_uds_way way;
    memcpy(&way, profile->way, sizeof way);
    return way;
}

/* Its one kind of value: data identifier `index`. */
struct eb_access_uds_context {
    struct eb_can_link link;
    uint8_t request[EB_UDS_MESSAGE_MIN_BYTES];
    uint8_t counter;
    uint32_t block_bytes;
    uint64_t back_bytes; /* read back and compared; of a document: through */
    uint16_t did;        /* of a document ... */
    uint32_t did_bytes;  /* ... and how long it is */
    bool any;
    struct eb_uds uds;
};

/* A document: data identifiers in a row, each as its number (u16, big-endian), its size (u32, little-endian)
 * and its bytes.  What a unit has not is left out. */
struct eb_uds_document {
    uint16_t first, count;
    bool extended; /* they are read and written in the extended session */
    bool locked;   /* ... and written only after the security access of eb_uds_way */
};
extern const struct eb_access eb_access_uds;
extern const struct eb_rows eb_rows_uds;

#ifdef __cplusplus
}
#endif

#endif
