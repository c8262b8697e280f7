/* An LSS master (CiA 305): gives one node of CANopen its node id and bit timing, though it has neither yet.
 *
 *   IDLE --select, scan, set, ...--> BUSY --answered--> DONE
 *                                      \__refused, silence__> FAILED
 *
 * One node is chosen first, by its identity or by fastscan; what is set then is for that one alone.  It does
 * no I/O. */
#ifndef EINBAU_LSS_H
#define EINBAU_LSS_H

#include "einbau/can.h"
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_LSS_NUMBERS = 4, EB_LSS_NODE_NONE = 255, EB_LSS_BURST = 4 };

enum eb_lss_state { EB_LSS_IDLE, EB_LSS_BUSY, EB_LSS_DONE, EB_LSS_FAILED };

/* The master of one exchange by LSS (CiA 305). */
struct eb_lss {
    enum eb_lss_state state;
    struct eb_error error; /* `number`: the node's error code */
    uint32_t
        identity[EB_LSS_NUMBERS]; /* vendor, product, revision, serial: as selected, or found by a scan */
    uint32_t value;               /* that was inquired */

    /* its own */
    uint8_t phase, expected; /* command of the answer that is waited for */
    struct eb_can_frame out[EB_LSS_BURST];
    uint8_t out_count, out_given;
    uint8_t number, bit;
    uint64_t until_us;
};

/* Makes the master ready. */
void eb_lss_init(struct eb_lss *lss);

/* Each begins one exchange. */

/* Chooses the one node with this identity (switch state selective). */
void eb_lss_select(struct eb_lss *lss, const uint32_t identity[EB_LSS_NUMBERS], uint64_t now_us);
/* Finds a node without a node id and chooses it (fastscan): `identity`.  EB_NO_ANSWER: there is none.  Takes
 * some seconds: silence is half of its answers. */
void eb_lss_scan(struct eb_lss *lss, uint64_t now_us);
/* Of the chosen node: its node id (1..127, or EB_LSS_NODE_NONE), its bit rate, and storing both for good.  A
 * new node id counts from its next reset of communication on, or once it is released where it had none; a new
 * bit rate from its next start on. */
void eb_lss_set_node(struct eb_lss *lss, uint8_t node, uint64_t now_us);
void eb_lss_set_bit_rate(struct eb_lss *lss, uint32_t bit_rate, uint64_t now_us);
void eb_lss_store(struct eb_lss *lss, uint64_t now_us);
/* One of the four numbers of its identity (0..3), or its node id (4): `value`. */
void eb_lss_inquire(struct eb_lss *lss, unsigned what, uint64_t now_us);
/* Ends it: the chosen node goes on as before.  Nobody answers to this. */
void eb_lss_release(struct eb_lss *lss, uint64_t now_us);

/* A frame of the bus. */
void eb_lss_receive(struct eb_lss *lss, const struct eb_can_frame *frame, uint64_t now_us);
/* Fills in what is to go out, up to `cap` frames, and gives their number. */
size_t eb_lss_give(struct eb_lss *lss, struct eb_can_frame *frames, size_t cap);
/* So many of those were sent. */
void eb_lss_taken(struct eb_lss *lss, size_t count, uint64_t now_us);
/* Lets time pass. */
void eb_lss_tick(struct eb_lss *lss, uint64_t now_us);
/* When it next wants to be called. */
uint64_t eb_lss_deadline_us(const struct eb_lss *lss);

#ifdef __cplusplus
}
#endif

#endif
