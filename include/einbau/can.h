/* Frames of a CAN bus and its state (ISO 11898-1). */
#ifndef EINBAU_CAN_H
#define EINBAU_CAN_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_CAN_BYTES = 8, EB_CAN_ID_MAX = 0x7FF, EB_CAN_EXTENDED_ID_MAX = 0x1FFFFFFF };

/* What a frame is; bits of `flags`. */
enum eb_can_flag {
    EB_CAN_EXTENDED = 1, /* an identifier of 29 bits */
    EB_CAN_REMOTE = 2,   /* asks for data; `size` bytes of it */
    EB_CAN_FAULT = 4,    /* no frame: the adapter tells of an error; `id` is one of enum eb_can_fault */
    EB_CAN_ORDERED = 8   /* sending: it must not go out before what the same handle gave earlier */
};

/* A frame of classical CAN (ISO 11898-1). */
struct eb_can_frame {
    uint64_t at_us; /* received: when, on the port's clock */
    uint32_t id;
    uint8_t flags;
    uint8_t size; /* 0..8 */
    uint8_t data[EB_CAN_BYTES];
};

/* What an adapter tells of. */
enum eb_can_fault {
    EB_CAN_FAULT_ACK,     /* nobody acknowledged */
    EB_CAN_FAULT_BIT,     /* a bit on the bus was not the one that was sent */
    EB_CAN_FAULT_STUFF,   /* more than five equal bits */
    EB_CAN_FAULT_FORM,    /* a fixed bit was wrong */
    EB_CAN_FAULT_CRC,     /* the check sequence did not fit */
    EB_CAN_FAULT_OTHER,   /* an error of a kind that the adapter does not tell */
    EB_CAN_FAULT_OVERRUN, /* frames came faster than they were taken */
    EB_CAN_FAULT_BUS_OFF,
    EB_CAN_FAULTS
};
/* A word for it; static. */
const char *eb_can_fault_word(enum eb_can_fault fault);

/* The adapter's fault confinement state (ISO 11898-1): warning from a counter of 96, passive from 128,
 * bus-off from 256. */
enum eb_can_mode { EB_CAN_UNKNOWN, EB_CAN_ACTIVE, EB_CAN_WARNING, EB_CAN_PASSIVE, EB_CAN_BUS_OFF };
/* A word for it; static. */
const char *eb_can_mode_word(enum eb_can_mode mode);

/* How the bus is, as far as the adapter says. */
struct eb_can_state {
    uint32_t bit_rate; /* bit/s, 0: not known */
    bool listen_only;
    bool sent_is_proof; /* `sent` counts frames that were acknowledged on the bus, not only taken by the
                           adapter */
    enum eb_can_mode mode;
    bool has_counters;
    uint16_t tx_errors, rx_errors; /* the adapter's counters now */
    /* since it was opened first */
    uint64_t sent, received;
    uint64_t bits; /* on the bus, as far as whole frames go */
    uint32_t faults[EB_CAN_FAULTS];
    bool has_flags; /* a serial adapter told its status flags: 0 is well, the bits differ from adapter to
                       adapter */
    uint8_t flags;
};

/* How an adapter is opened, and what of the bus is heard. */
struct eb_can_options {
    const char *link;  /* a CAN interface, or a serial adapter's file */
    uint32_t bit_rate; /* bit/s; 0: as it is */
    bool listen_only;  /* neither sends nor acknowledges */
    uint32_t queue;    /* frames that a serial adapter surely takes at once; 0: not known */
    uint32_t id, mask; /* only frames with (id & mask) of this are received; mask 0: all */
    bool urgent;       /* where several wait for room, this one gets most of it */
};

/* The bits that a frame takes on the bus, stuff bits and the three bits of intermission included (ISO 11898-1
 * section 10.5, 15-bit CRC): 47 to 55 for an empty frame with 11 bits of identifier, 111 to 135 with 8 bytes.
 */
unsigned eb_can_bits(const struct eb_can_frame *frame);

/* Fair use of an adapter, for ports.  Who fills a bus with frames keeps all others from it whose identifiers
 * are higher: heartbeats of running machinery among them.  So an adapter is filled in turns of about 30 ms of
 * bus time; between two of them its queue runs empty once, and whoever waits on the bus comes first. */
struct eb_can_pace {
    uint32_t queue;     /* frames that the adapter takes */
    uint32_t turn;      /* frames of one turn */
    uint32_t in_flight; /* given, and not known to have gone out */
    uint32_t given;     /* in this turn */
    uint32_t spared;    /* of them by handles that are not urgent, while others were */
};
/* `queue`: frames that the adapter holds; `bit_rate` of the bus. */
void eb_can_pace_init(struct eb_can_pace *pace, uint32_t queue, uint32_t bit_rate);
/* How many frames it takes now. */
uint32_t eb_can_pace_room(const struct eb_can_pace *pace);
/* The other handles of an adapter. */
struct eb_can_others {
    uint32_t waiting, urgent_waiting; /* for room; the urgent ones among them */
    bool urgent;                      /* there are urgent ones */
};
/* How many frames a handle may give now.  Those that are not urgent leave the queue short, and while an
 * urgent one waits each gives one frame in every turn: nothing is kept from sending for long. */
uint32_t eb_can_pace_share(const struct eb_can_pace *pace, const struct eb_can_others *others, bool urgent);
/* So many frames were given to the adapter; `spared`: while an urgent handle waited. */
void eb_can_pace_given(struct eb_can_pace *pace, uint32_t count, bool spared);
/* One frame has gone out, or is given up; true where those that wait for room are to be told. */
bool eb_can_pace_sent(struct eb_can_pace *pace);

/* The nine bit rates that ASCII serial adapters know, bit/s. */
enum { EB_CAN_BIT_RATES = 9 };
extern const uint32_t eb_can_bit_rates[EB_CAN_BIT_RATES];

#ifdef __cplusplus
}
#endif

#endif
