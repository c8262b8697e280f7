/* PROFINET DCP: who is there, names and addresses, and the lamp (IEC 61158-6-10 section 4.3).  Pure functions
 * over whole Ethernet frames: the caller sends and receives them. */
#ifndef EINBAU_DCP_H
#define EINBAU_DCP_H

#include "einbau/ethernet.h"
#include "einbau/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_DCP_NAME_BYTES = 241, EB_DCP_FRAME_BYTES = 320 };

/* What a station says of itself. */
struct eb_dcp_station {
    uint8_t mac[EB_MAC_BYTES];
    bool has_ip;   /* an address is set: not 0.0.0.0 */
    bool dhcp;     /* it came by DHCP */
    bool conflict; /* the station saw another one with its address */
    uint8_t ip[4], mask[4], router[4];
    bool has_id;
    uint16_t vendor_id, device_id;
    char name[EB_DCP_NAME_BYTES]; /* NameOfStation */
    char type[EB_HEARD_TEXT_BYTES];
};

/* Each writes a whole frame of at least EB_FRAME_MIN_BYTES from `mac` to `frame`, which has room for
 * EB_DCP_FRAME_BYTES, and gives its size.  The answer
 * carries the same `xid`. */

/* Asks all stations; each answers after a random time of at most `delay_10ms` times 10 ms (1..6400). */
size_t eb_dcp_identify(uint8_t *frame, const uint8_t *mac, uint32_t xid, uint16_t delay_10ms);
/* Asks one station for its name, type, ids and address. */
size_t eb_dcp_get(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid);
/* Sets the name (empty: takes it away), or the address, for good. */
size_t eb_dcp_set_name(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid, const char *name);
size_t eb_dcp_set_ip(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid, const uint8_t *ip,
                     const uint8_t *mask, const uint8_t *router);
/* Lets the station's lamp blink for about three seconds. */
size_t eb_dcp_signal(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid);

/* Whether a DCP frame is an answer to this host and to another question than the one with this `xid`. */
bool eb_dcp_answers_other(const struct eb_frame *frame, uint32_t xid);

/* Reads the answer to eb_dcp_identify or eb_dcp_get; false for anything else. */
bool eb_dcp_read_station(struct eb_dcp_station *station, const struct eb_frame *frame, uint32_t xid);

/* Reads the answer to a set or signal.  EB_PENDING: it is none.  EB_PEER_ERROR: `error` has the block error
 * and its words. */
EB_NODISCARD enum eb_status eb_dcp_read_set(const struct eb_frame *frame, uint32_t xid,
                                            struct eb_error *error);

/* Whether a name may be given: lower-case labels of letters, digits and '-' between dots, at most 63 each and
 * 240 in all, none like an address or a port's own ("port-001").  NULL: it may; else what is wrong, static.
 */
const char *eb_dcp_name_wrong(const char *name);

#ifdef __cplusplus
}
#endif

#endif
