/* What a simulated device has of a CAN bus: a node by CANopen (CiA 301, 302-3, 305), or a unit that speaks
 * UDS (ISO 14229-1) over ISO-TP (ISO 15765-2).  In code of its own: of the engines that it answers it knows
 * only the numbers of the standards. */
#ifndef EBI_SIM_CAN_NODE_H
#define EBI_SIM_CAN_NODE_H

#include "can_bus.h"

enum { EBI_SIM_BLOCK_SIZES_MAX = 4, EBI_SIM_SDO_BYTES = 64, EBI_SIM_UDS_BYTES = 4200 };

/* The SDO server, one transfer at a time. */
enum ebi_sim_sdo_state {
    EBI_SIM_SDO_IDLE,
    EBI_SIM_SDO_DOWN,       /* segments come */
    EBI_SIM_SDO_DOWN_BLOCK, /* blocks come */
    EBI_SIM_SDO_DOWN_END,   /* all blocks came */
    EBI_SIM_SDO_UP,
    EBI_SIM_SDO_UP_START, /* block upload: the client says when */
    EBI_SIM_SDO_UP_BLOCK,
    EBI_SIM_SDO_UP_END
};

struct ebi_sim_sdo {
    enum ebi_sim_sdo_state state;
    uint16_t index;
    uint8_t sub;
    bool toggle, crc_used, program;
    uint8_t bytes[EBI_SIM_SDO_BYTES];
    size_t size, at;
    uint8_t block_size, sequence;
    uint8_t tail[7]; /* the last segment, whose end is not known yet */
    bool has_tail;
    uint16_t crc;
    uint64_t until_us; /* when it gives up */
};

struct ebi_sim_canopen {
    /* the description */
    uint8_t node, loader_node;
    uint32_t type, vendor, product, revision, loader_product;
    uint32_t heartbeat_ms;
    uint8_t block_sizes[EBI_SIM_BLOCK_SIZES_MAX];
    size_t block_size_count;
    bool no_block, reply_lost; /* stopping restarts it before it has answered */
    /* now */
    uint8_t here; /* its node id */
    uint8_t nmt;  /* as in its heartbeat */
    bool toggle;  /* of guarding */
    uint64_t heartbeat_us;
    size_t block_turn;
    struct ebi_sim_sdo sdo;
    uint8_t flash_error;
    bool cleared;
    size_t written;
    uint64_t clear_until_us, busy_until_us;
    bool lss, lss_matches;
    uint8_t lss_step, lss_node, scan_sub; /* `lss_node`: set, and lost with the power unless it is stored */
    uint32_t lss_bit_rate;
    bool stored;
};

struct ebi_sim_isotp {
    /* receiving */
    bool receiving, waiting;
    uint8_t rx[EBI_SIM_UDS_BYTES];
    size_t rx_size, rx_at;
    uint8_t sequence;
    unsigned in_block;
    uint64_t rx_until_us, rx_end_us; /* the latter: when the last frame of it had left the bus */
    /* sending */
    uint8_t tx[EBI_SIM_UDS_BYTES];
    size_t tx_size, tx_at;
    bool sending, may_send;
    unsigned block_left; /* 0: no limit */
    bool limited;
    uint8_t tx_sequence;
    uint64_t separation_us, tx_next_us, tx_until_us;
};

struct ebi_sim_uds {
    /* the description */
    uint32_t request, response;
    bool extended_ids, extended; /* 29 bits; a byte of address in front */
    uint8_t target, tester;
    uint16_t block_length;  /* maxNumberOfBlockLength */
    uint16_t reset_routine; /* that resets it to what it was delivered with; 0: none */
    uint8_t block_size, separation;
    uint8_t waits; /* wait frames before it lets the sender go on */
    uint32_t pending_ms;
    uint32_t key;                         /* the seed is answered by it, added */
    bool pads_strictly, wants_separation; /* and drops what does not keep to it */
    uint8_t attempts_max;                 /* wrong keys until it takes none for a while */
    uint32_t lock_delay_ms;               /* 0: for good */
    /* now */
    uint8_t session;
    bool unlocked, seed_given, session_asked;
    uint32_t seed;
    uint8_t attempts;
    uint64_t session_until_us;
    bool erased, downloading, uploading;
    uint64_t locked_until_us; /* 0: it is not */
    uint32_t base, expected, received;
    uint8_t counter;
    uint8_t fingerprint[16];
    size_t fingerprint_size;
    uint8_t waits_left;
    /* what is answered later */
    uint8_t later[8];
    size_t later_size;
    uint64_t later_us, pending_us;
    struct ebi_sim_isotp tp;
};

struct ebi_sim_can {
    char bus_name[EB_NAME_BYTES]; /* empty: it is on none */
    struct ebi_sim_bus *bus;
    size_t station;
    uint32_t sick_ppm, own_bit_rate, loader_bit_rate;
    uint32_t response_us;
    bool is_canopen, is_uds;
    struct ebi_sim_canopen canopen;
    struct ebi_sim_uds uds;
};

/* --- between a device's files --- */
void ebi_sim_can_send(struct ebi_sim_device *device, const struct eb_can_frame *frame, uint64_t delay_us);
void ebi_sim_can_frame(struct ebi_sim_device *device, const struct eb_can_frame *frame);
/* The device is there, or gone: its station, its adapter's buses, its boot-up message. */
void ebi_sim_can_recovered(struct ebi_sim_device *device); /* from bus-off */
/* Whether a frame of the laptop is for this device. */
bool ebi_sim_can_meant(const struct ebi_sim_device *device, const struct eb_can_frame *frame);

void ebi_sim_canopen_frame(struct ebi_sim_device *device, const struct eb_can_frame *frame);
void ebi_sim_canopen_alive(struct ebi_sim_device *device);
void ebi_sim_canopen_tick(struct ebi_sim_device *device);
uint64_t ebi_sim_canopen_deadline_us(const struct ebi_sim_device *device);
void ebi_sim_sdo_request(struct ebi_sim_device *device, const uint8_t *data);
void ebi_sim_sdo_late(struct ebi_sim_device *device);
void ebi_sim_sdo_abort(struct ebi_sim_device *device, uint32_t code);

void ebi_sim_uds_frame(struct ebi_sim_device *device, const struct eb_can_frame *frame);
void ebi_sim_uds_alive(struct ebi_sim_device *device);
void ebi_sim_uds_tick(struct ebi_sim_device *device);
uint64_t ebi_sim_uds_deadline_us(const struct ebi_sim_device *device);
void ebi_sim_uds_message(struct ebi_sim_device *device, const uint8_t *bytes, size_t size);
void ebi_sim_isotp_send(struct ebi_sim_device *device, const uint8_t *bytes, size_t size, uint64_t delay_us);
void ebi_sim_isotp_frame(struct ebi_sim_device *device, const uint8_t *data, size_t size);
void ebi_sim_isotp_tick(struct ebi_sim_device *device);
uint64_t ebi_sim_isotp_deadline_us(const struct ebi_sim_device *device);

#endif
