/* The port: everything that Einbau wants from the world outside, non-blocking but for `wait`.
 *
 * A port knows no protocol of this job.  Handles are small non-negative numbers of the port's own.  Each is
 * opened for an `owner`, a pointer that `wait` gives back when something can be done there: bytes or a
 * connection arrived, there is room to send again after a send that was not taken whole, or an error came. */
#ifndef EINBAU_PORT_H
#define EINBAU_PORT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/can.h"
#include "einbau/link.h"
#include "einbau/status.h"
#include "einbau/usb.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Deadlines: a time in the past is due; this is never. */
#define EB_NEVER UINT64_MAX

/* An IPv4 address in network byte order of its bytes, and a port number. */
struct eb_endpoint {
    uint8_t ip[4];
    uint16_t port;
};

struct eb_datagram {
    struct eb_endpoint peer;
    uint8_t *bytes;
    size_t size_bytes; /* receiving: in, the room; out, the bytes */
};

/* How a UDP socket is to be; zero-initialised it is a plain one. */
struct eb_udp_options {
    const char *link;               /* only over this link; NULL: wherever the routing table says */
    uint16_t local_port;            /* 0: any free one; one that others use is shared */
    bool broadcast;                 /* it may send to broadcast addresses */
    const struct eb_endpoint *peer; /* only this one; then EB_UNREACHABLE tells that nobody listens there */
    uint8_t group[4];               /* a multicast group to hear and to send to over `link`; zeros: none */
};

/* Who answers to an address, as the system knows it. */
struct eb_neighbour {
    uint8_t ip[4];
    uint8_t mac[6];
};

enum {
    EB_BURST_MAX = 64, /* datagrams in one call: what one kernel call carries without a second copy */
    EB_NO_HANDLE = -1
};

struct eb_port {
    void *self;

    /* Microseconds since any fixed moment; never goes back. */
    uint64_t (*now_us)(void *self);

    /* Waits until `deadline_us` or until something arrived.  Fills `owners` with those concerned, each at
     * least once, and gives their number; 0 where the deadline came or the wait was cut short by a signal. */
    size_t (*wait)(void *self, uint64_t deadline_us, void **owners, size_t cap);

    /* Random enough to tell transfers apart. */
    uint32_t (*random)(void *self);

    /* The largest IP packet that goes to `peer` unfragmented, bytes; 576 where it is not known (RFC 791). */
    uint32_t (*path_mtu_bytes)(void *self, const struct eb_endpoint *peer);

    /* Fills in up to `cap` of the laptop's links and gives their number; NULL where the port does not know
     * them. */
    size_t (*links)(void *self, struct eb_link *links, size_t cap);

    /* Opens a UDP socket; `options` may be NULL.  EB_IO where none can be had. */
    enum eb_status (*udp_open)(void *self, void *owner, const struct eb_udp_options *options, int *handle);
    /* Sends up to EB_BURST_MAX datagrams in one call; gives the number taken.  Fewer than `count`: no room
     * now, the owner is told when there is. */
    size_t (*udp_send)(void *self, int handle, const struct eb_datagram *burst, size_t count);
    /* Receives up to `count`; `*received` of them are filled.  EB_PENDING: none now.  EB_UNREACHABLE: the
     * network reports that what was sent did not arrive. */
    enum eb_status (*udp_receive)(void *self, int handle, struct eb_datagram *burst, size_t count,
                                  size_t *received);
    void (*udp_close)(void *self, int handle);

    /* Begins a connection; the next calls say how it went. */
    enum eb_status (*tcp_open)(void *self, void *owner, const struct eb_endpoint *peer, int *handle);
    /* `*sent` of `size` bytes were taken.  EB_PENDING: connecting, or no room.  EB_UNREACHABLE: refused or
     * reset.  A port may give EB_CLOSED as tcp_receive does. */
    enum eb_status (*tcp_send)(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent);
    /* EB_PENDING: nothing now.  EB_UNREACHABLE: refused or reset.  EB_CLOSED: the peer has closed it in the
     * regular way, and nothing is left of what it sent. */
    enum eb_status (*tcp_receive)(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received);
    void (*tcp_close)(void *self, int handle);

    /* Whole Ethernet frames without their check sequence, sent and heard on one link: those for the laptop,
     * for all, for PROFINET's and LLDP's groups, and their own addresses' multicast.  NULL where the port
     * has none.  EB_DENIED: the user has no right to it. */
    enum eb_status (*frame_open)(void *self, void *owner, const char *link, int *handle);
    void (*frame_send)(void *self, int handle, const uint8_t *bytes, size_t size);
    /* One frame; EB_PENDING: none now. */
    enum eb_status (*frame_receive)(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received);
    void (*frame_close)(void *self, int handle);

    /* Fills in up to `cap` of those that have answered on `link` lately, and gives their number; NULL where
     * the port does not know. */
    size_t (*neighbours)(void *self, const char *link, struct eb_neighbour *list, size_t cap);

    /* Gives the laptop's link one more address, or takes it away; NULL where the port cannot.  EB_DENIED:
     * the user has no right to it. */
    enum eb_status (*address_add)(void *self, const char *link, const struct eb_link_address *address);
    enum eb_status (*address_remove)(void *self, const char *link, const struct eb_link_address *address);

    /* CAN; NULL where the port has none.  Any number of handles share one adapter; the first one that is
     * opened sets its bit rate.  EB_IO: no such adapter now, or another program has it; EB_BAD_CALL: another
     * handle uses it with another bit rate, or only listens; EB_DENIED: the user has no right to it. */
    enum eb_status (*can_open)(void *self, void *owner, const struct eb_can_options *options, int *handle);
    /* Gives the number of frames taken; fewer than `count`: no room now, the owner is told when there is. */
    size_t (*can_send)(void *self, int handle, const struct eb_can_frame *burst, size_t count);
    /* How many of this handle's frames are known to have gone out on the bus, acknowledged: not only taken.
     */
    uint64_t (*can_sent)(void *self, int handle);
    /* Receives up to `cap`, what the handle itself sent not among them.  EB_PENDING: none now.
     * EB_UNREACHABLE: the adapter is gone; close the handle and open it again. */
    enum eb_status (*can_receive)(void *self, int handle, struct eb_can_frame *frames, size_t cap,
                                  size_t *received);
    void (*can_state)(void *self, int handle, struct eb_can_state *state);
    void (*can_close)(void *self, int handle);

    /* USB; NULL where the port has none.  Fills in one of the devices that are plugged in, hubs among them;
     * false behind the last.  Index 0 looks anew, the others go on in what was seen then; nothing is sent for
     * that. */
    bool (*usb_device)(void *self, size_t index, struct eb_usb_device *device);
    /* The owner is told whenever a device came or went, until usb_close. */
    enum eb_status (*usb_watch)(void *self, void *owner, int *handle);
    /* Opens the device that is plugged in there under that address on its bus.  EB_UNREACHABLE: it is not;
     * EB_DENIED: the user has no right to it. */
    enum eb_status (*usb_open)(void *self, void *owner, const struct eb_usb_device *device, int *handle);
    /* Takes an interface for this handle, until it is closed, with one of its alternate settings.  EB_BUSY:
     * another program, or a driver of the system, has it; EB_PENDING: the device is not ready for that yet,
     * as happens right after it came; EB_UNREACHABLE: it is gone. */
    enum eb_status (*usb_claim)(void *self, int handle, uint8_t interface, uint8_t alternate);
    /* Begins a control transfer, of which one at a time may be under way; what goes out with it is copied.
     * EB_UNREACHABLE: the device is gone. */
    enum eb_status (*usb_control)(void *self, int handle, const struct eb_usb_setup *setup,
                                  const uint8_t *bytes, uint32_t patience_ms);
    /* What came of it: EB_PENDING; EB_OK with what the device sent, `*received` bytes; EB_PEER_ERROR: the
     * device stalled; EB_NO_ANSWER: its time is over; EB_UNREACHABLE: the device is gone; EB_TOO_LARGE: it
     * sent more than was asked for. */
    enum eb_status (*usb_answer)(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received);
    /* Begins a reset of the device by its hub; usb_answer tells its end as that of a transfer.  The device
     * may come back as another one, with another address: then, and where it is gone already, EB_UNREACHABLE.
     */
    enum eb_status (*usb_reset)(void *self, int handle);
    void (*usb_close)(void *self,
                      int handle); /* gives back what was claimed, and ends a transfer under way */
};

/* A connection over TCP, as an engine uses it. */
struct eb_stream {
    int handle;     /* EB_NO_HANDLE: not open */
    bool connected; /* bytes were taken, or came */
    bool more;      /* there is more to take in at once */
};

bool eb_endpoint_same(const struct eb_endpoint *a, const struct eb_endpoint *b);

/* Reads "192.0.2.10" (four decimal numbers 0..255, no leading zeros) into `ip`; the port stays. */
bool eb_endpoint_parse(struct eb_endpoint *endpoint, const char *text);

enum { EB_ENDPOINT_TEXT_BYTES = 24 };
/* Writes "192.0.2.10", with ":502" behind it where `with_port`. */
void eb_endpoint_text(const struct eb_endpoint *endpoint, bool with_port, char text[EB_ENDPOINT_TEXT_BYTES]);

#ifdef __cplusplus
}
#endif

#endif
