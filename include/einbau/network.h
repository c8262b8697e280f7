/* A CANopen network that a manager keeps (CiA 302-2): the manager's list is read, and one of its members is
 * taken out of its supervision and given back.  State changes are asked of the manager (1F82h); none is sent
 * to a member from here.
 *
 *   IDLE --read, take_out, give_back--> BUSY --> DONE
 *                                          \__abort, silence, another state than asked for__> FAILED
 *
 * It does no I/O: the caller gives it the frames of its bus, and sends those that it gives. */
#ifndef EINBAU_NETWORK_H
#define EINBAU_NETWORK_H

#include "einbau/sdo.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_MEMBERS_MAX = 127, EB_NETWORK_PATIENCE_US = 10000000 };

/* What a manager may compare of a member before it starts it, and where it holds what it expects (CiA 302-2,
 * 302-3). */
enum eb_member_item {
    EB_MEMBER_TYPE,   /* 1000h; 1F84h */
    EB_MEMBER_VENDOR, /* 1018h sub 1; 1F85h, and so on */
    EB_MEMBER_PRODUCT,
    EB_MEMBER_REVISION,
    EB_MEMBER_SERIAL,
    EB_MEMBER_DATE,     /* of its software, in days since 1984: 1F52h sub 1; 1F53h */
    EB_MEMBER_TIME,     /* in ms since midnight: 1F52h sub 2; 1F54h */
    EB_MEMBER_SOFTWARE, /* identification of its software: 1F56h sub 1; 1F55h */
    EB_MEMBER_ITEMS
};
/* "product code"; static. */
const char *eb_member_item_word(enum eb_member_item item);

/* States of NMT as in 1F82h. */
enum {
    EB_NMT_UNKNOWN = 0,
    EB_NMT_MISSING = 1,
    EB_NMT_STOPPED = 4,
    EB_NMT_OPERATIONAL = 5,
    EB_NMT_PREOPERATIONAL = 127
};
/* "pre-operational"; static, "unknown" for what is none of them. */
const char *eb_nmt_word(uint8_t state);

/* One member, by the manager's list, and as it answers itself. */
struct eb_member {
    uint8_t node;
    bool listed, boots, mandatory, verifies_software; /* 1F81h, bits 0, 2, 3 and 5 */
    uint8_t retries;                                  /* ... bits 8 to 15 ... */
    uint16_t guard_ms;                                /* ... and 16 to 31 */
    uint8_t state;                                    /* by 1F82h; EB_NMT_UNKNOWN where it cannot be read */
    bool supervised;        /* by 1F83h; where that cannot be read, whether the list has a guard time */
    bool tells_supervision; /* it can be read */
    uint32_t expected[EB_MEMBER_ITEMS]; /* 0: not compared */

    bool asked, answers; /* the member itself was asked, and answered */
    uint8_t has;         /* bit per item: `actual` was read */
    uint32_t actual[EB_MEMBER_ITEMS];
};
/* Whether the manager would find something else than it expects; where it does not verify software, that does
 * not count. */
bool eb_member_differs(const struct eb_member *member, enum eb_member_item item);

enum eb_network_state { EB_NETWORK_IDLE, EB_NETWORK_BUSY, EB_NETWORK_DONE, EB_NETWORK_FAILED };

/* A talk with one manager. */
struct eb_network {
    enum eb_network_state state;
    struct eb_error error; /* of EB_NETWORK_FAILED; `number`: the manager's abort code */
    uint8_t manager;       /* its node id */
    struct eb_member *list;
    size_t count; /* members that were found */

    /* its own */
    uint8_t doing, step, node, last, tries;
    bool asks_members, pausing;
    uint8_t bytes[8];
    uint64_t wake_us, until_us, again_us, so_us;
    struct eb_member found;
    struct eb_sdo sdo;
};

/* For one manager, by its node id.  Nothing is sent. */
void eb_network_init(struct eb_network *network, uint8_t manager);

/* Reads what the list says of the nodes `first` to `last`, in their order, into `list`, which is borrowed
 * until the end and has room for all of these.  `ask`: each member is asked as well what it is.  Nothing is
 * changed. */
void eb_network_read(struct eb_network *network, uint8_t first, uint8_t last, struct eb_member *list,
                     bool ask, uint64_t now_us);

/* Takes a member out of supervision, and asks for pre-operational; done once the manager says that both are
 * so.  `found` is what eb_network_read has found of it. */
void eb_network_take_out(struct eb_network *network, const struct eb_member *found, uint64_t now_us);

/* Puts both back as they were found; done once the manager says so, and goes on saying so for about as long
 * as its supervision takes to notice that something is wrong. */
void eb_network_give_back(struct eb_network *network, const struct eb_member *found, uint64_t now_us);

/* As with struct eb_sdo. */
void eb_network_receive(struct eb_network *network, const struct eb_can_frame *frame, uint64_t now_us);
size_t eb_network_give(struct eb_network *network, struct eb_can_frame *frames, size_t cap);
void eb_network_taken(struct eb_network *network, size_t count, uint64_t now_us);
void eb_network_tick(struct eb_network *network, uint64_t now_us);
uint64_t eb_network_deadline_us(const struct eb_network *network);

#ifdef __cplusplus
}
#endif

#endif
