/* Who is on a CAN bus, and how the bus is: listens first, without acknowledging; then asks all 127 CANopen
 * node ids at once and the UDS units that are named, and reads what they are.  It changes nothing in any of
 * them.
 *
 * A state machine that never waits, like a run. */
#ifndef EINBAU_NODES_H
#define EINBAU_NODES_H

#include "einbau/isotp.h"
#include "einbau/port.h"
#include "einbau/profile.h"
#include "einbau/sdo.h"
#include "einbau/uds.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_NODES_MAX = 127, EB_NODES_AT_ONCE = 8, EB_UNITS_MAX = 16 };

/* What is read of one of them; empty where it does not tell. */
enum eb_node_text { EB_NODE_NAME, EB_NODE_HARDWARE, EB_NODE_SOFTWARE, EB_NODE_SERIAL, EB_NODE_TEXTS };

/* One CANopen node that answered. */
struct eb_node {
    bool heard;    /* it said something of its own accord */
    bool answered; /* it was asked */
    bool twice;    /* two answers came to one question: two nodes have this id */
    bool has_state;
    uint8_t state;       /* NMT, as in its heartbeat: 4 stopped, 5 operational, 127 pre-operational */
    uint16_t emergency;  /* error code of the last emergency message; 0: none */
    uint16_t bus_errors; /* how often an emergency told of errors on the bus (81xxh, CiA 301 table 29) */
    bool has_identity;
    uint32_t vendor, product, revision, serial; /* 1018h */
    bool manages;                               /* it is the manager of a network (1F80h, CiA 302-2) */
    char texts[EB_NODE_TEXTS][EB_NAME_BYTES];

    uint16_t asked, answers, serials; /* its own */
};

/* Which bus is looked at, and how. */
struct eb_nodes_config {
    const struct eb_port *port;
    struct eb_waiter *waiter;
    const char *link;
    uint32_t bit_rate;
    uint64_t listen_us; /* how long it only listens */
    bool only_listen;
    const struct eb_isotp_config *units; /* UDS, at most EB_UNITS_MAX; borrowed */
    size_t unit_count;
    uint8_t alone[EB_NODES_MAX / 8 + 1]; /* bit n % 8 of byte n / 8: node n is not asked, as another process
                                          * works on it: its SDO server has one transfer at a time */
    bool scan_units; /* also looks for others, by their answer to TesterPresent (ISO 14229-1 section 10.7) at
                      * each of EB_SCAN_STEPS pairs of identifiers: of 11 bits from 780h on, where CANopen has
                      * nothing (CiA 301 table 23), and of 29 bits with fixed addresses (ISO 15765-2) */
};

enum { EB_SCAN_STEPS = 101 + 255 };

/* The survey's own: reads one node. */
struct ebi_node_reader {
    uint8_t node; /* 0: free */
    uint8_t item;
    uint8_t bytes[EB_NAME_BYTES];
    struct eb_sdo sdo;
};

/* The survey's own: reads one unit. */
struct ebi_unit_reader {
    uint8_t item;
    bool done;
    uint8_t message[EB_UDS_MESSAGE_MIN_BYTES];
    struct eb_uds uds;
};

/* A look at a bus under way. */
struct eb_nodes {
    struct eb_nodes_config config;
    enum eb_status status; /* EB_PENDING until it has ended; EB_UNREACHABLE: no adapter, or it was lost */
    struct eb_node nodes[EB_NODES_MAX + 1];    /* by node id; 0 is not used */
    struct eb_node units[EB_UNITS_MAX];        /* as in the configuration, and behind them those found */
    struct eb_isotp_config ways[EB_UNITS_MAX]; /* how each is reached */
    size_t unit_count;
    unsigned scanned;          /* how many of EB_SCAN_STEPS were asked */
    struct eb_can_state quiet; /* the adapter's state after listening, and at the end */
    struct eb_can_state state;
    uint64_t quiet_us, asked_us; /* how long each took */
    bool stayed_quiet;           /* nothing was sent, for what was heard were errors only */

    /* its own */
    bool more; /* a poll left frames that had come */
    uint8_t phase, pass, next_node, next_to_read;
    uint16_t next_step;
    int handle;
    uint64_t began_us, until_us, given;
    struct ebi_node_reader readers[EB_NODES_AT_ONCE];
    struct ebi_unit_reader units_read[EB_UNITS_MAX];
};

/* Begins; opens the adapter. */
void eb_nodes_begin(struct eb_nodes *nodes, const struct eb_nodes_config *config);
/* Does what can be done now; EB_PENDING, or how it ended. */
EB_NODISCARD enum eb_status eb_nodes_poll(struct eb_nodes *nodes);
uint64_t eb_nodes_deadline_us(const struct eb_nodes *nodes);
/* Polls and waits until it has ended, or until `until_us`. */
enum eb_status eb_nodes_work(struct eb_nodes *nodes, uint64_t until_us);
void eb_nodes_close(struct eb_nodes *nodes);

/* --- how the bus is ------------------------------------------------------------------------------ */

/* Bits; none: the bus is sound. */
enum eb_bus_trouble {
    EB_BUS_NO_ADAPTER = 1,
    EB_BUS_ALONE = 2,      /* nobody acknowledges, or what is sent is no proof of it and nothing is heard */
    EB_BUS_BIT_RATE = 4,   /* only errors, no good frame */
    EB_BUS_REFLECTS = 8,   /* many frames go wrong: as where a terminator is missing */
    EB_BUS_NOISE = 16,     /* a few go wrong */
    EB_BUS_TWO_NODES = 32, /* two nodes with one id */
    EB_BUS_NODE_OFF = 64,  /* a node tells that it was off the bus, or could hardly send */
    EB_BUS_OFF = 128,      /* the adapter itself is off */
    EB_BUS_PASSIVE = 256,  /* its error counters are high */
    EB_BUS_LOAD = 512,     /* the bus is nearly full without us */
    EB_BUS_OVERRUN = 1024, /* the adapter loses frames */
    EB_BUS_FLAGS = 2048    /* its status flags tell of errors, and nothing else does */
};
enum { EB_BUS_TROUBLES = 12 };

/* What is wrong, from what was seen. */
unsigned eb_bus_judge(const struct eb_nodes *nodes);
/* A sentence for one bit: what it means, and what to do; static. */
const char *eb_bus_trouble_text(enum eb_bus_trouble trouble);
/* How full the bus was while it was only listened to, in percent. */
unsigned eb_bus_load_percent(const struct eb_nodes *nodes);
/* Of all frames, how many went wrong, in thousandths. */
unsigned eb_bus_errors_per_mille(const struct eb_nodes *nodes);

#ifdef __cplusplus
}
#endif

#endif
