/* The port: everything that Einbau wants from the world outside, in groups of functions, non-blocking but for
 * `wait`.  docs/porting.md says how to write one.
 *
 * A port knows no protocol of this job.  Handles are small non-negative numbers of the port's own.  Each is
 * opened for a waiter. The port reports to it when something can be done: bytes or a connection arrived,
 * there is room to send again after a send that was not taken whole, or an error came. */
#ifndef EINBAU_PORT_H
#define EINBAU_PORT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include "einbau/can.h"
#include "einbau/http.h"
#include "einbau/link.h"
#include "einbau/status.h"
#include "einbau/usb.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Deadlines: a time in the past is due; this is never. */
#define EB_NEVER UINT64_MAX

/* The receiver of a handle's events.  The caller that opens the handle owns it and keeps it until the handle
 * is closed. */
struct eb_waiter {
    /* Called in eb_port_wait.  It takes note, and calls nothing of the port; NULL where that is not needed,
     * as by one who looks at all its handles after each wait. */
    void (*ready)(struct eb_waiter *waiter);
};

/* An IPv4 address in network byte order of its bytes, and a port number. */
struct eb_endpoint {
    uint8_t ip[4];
    uint16_t port;
};

/* One UDP datagram; the bytes are the caller's. */
struct eb_datagram {
    struct eb_endpoint peer;
    uint8_t *bytes;
    size_t size_bytes; /* receiving: in, the room; out, the bytes */
};

/* How a UDP socket is to be; zero-initialised it is a plain one. */
struct eb_udp_options {
    const char *link;               /* only over this link; NULL: wherever the routing table says */
    uint16_t local_port;            /* 0: any free one; one that others use is shared ... */
    bool exclusive;                 /* ... or, for a server, EB_BUSY */
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

/* Each group begins with its size in bytes, so that a port and a program of different versions go together:
 * what stands behind the end of a group is not there.  Every function gets the port's `self`. */

/* Time: every port has it. */
struct eb_port_time {
    size_t bytes;
    /* Microseconds since any fixed moment; never goes back. */
    uint64_t (*now_us)(void *self);
    /* Waits until `deadline_us` or until something arrived.  Fills `ready` with the waiters concerned, each
     * at least once, and gives their number; 0 where the deadline came or the wait was cut short by a signal.
     * See eb_port_wait. */
    size_t (*wait)(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap);
    /* Random enough to tell transfers apart. */
    uint32_t (*random)(void *self);
};

/* Datagrams. */
struct eb_port_udp {
    size_t bytes;
    /* Opens a UDP socket; `options` may be NULL.  EB_IO where none can be had; EB_DENIED: the user lacks the
     * permission for this port; EB_BUSY: another program has it. */
    enum eb_status (*open)(void *self, struct eb_waiter *waiter, const struct eb_udp_options *options,
                           int *handle);
    /* Sends up to EB_BURST_MAX datagrams in one call; gives the number taken.  Fewer than `count`: no room
     * now; the port reports to the waiter when there is. */
    size_t (*send)(void *self, int handle, const struct eb_datagram *burst, size_t count);
    /* Receives up to `count`; `*received` of them are filled.  EB_PENDING: none now.  EB_UNREACHABLE: the
     * network reports that what was sent did not arrive. */
    enum eb_status (*receive)(void *self, int handle, struct eb_datagram *burst, size_t count,
                              size_t *received);
    void (*close)(void *self, int handle);
    /* The largest IP packet that goes to `peer` unfragmented, bytes; 576 where it is not known (RFC 791). */
    uint32_t (*mtu_bytes)(void *self, const struct eb_endpoint *peer);
};

/* Connections over TCP. */
struct eb_port_tcp {
    size_t bytes;
    /* Begins a connection; the next calls say how it went. */
    enum eb_status (*open)(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer, int *handle);
    /* `*sent` of `size` bytes were taken.  EB_PENDING: connecting, or no room.  EB_UNREACHABLE: refused or
     * reset.  A port may give EB_CLOSED as `receive` does. */
    enum eb_status (*send)(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent);
    /* EB_PENDING: nothing now.  EB_UNREACHABLE: refused or reset.  EB_CLOSED: the peer has closed it in the
     * regular way, and nothing is left of what it sent. */
    enum eb_status (*receive)(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received);
    void (*close)(void *self, int handle);
};

/* Whole Ethernet frames without their check sequence, sent and heard on one link: those for the laptop, for
 * all, for PROFINET's and LLDP's groups, and their own addresses' multicast. */
struct eb_port_frame {
    size_t bytes;
    /* EB_DENIED: the user lacks the permission. */
    enum eb_status (*open)(void *self, struct eb_waiter *waiter, const char *link, int *handle);
    void (*send)(void *self, int handle, const uint8_t *frame, size_t size);
    /* One frame; EB_PENDING: none now. */
    enum eb_status (*receive)(void *self, int handle, uint8_t *frame, size_t cap, size_t *received);
    void (*close)(void *self, int handle);
};

/* What the system knows of the laptop's links; each function may be NULL. */
struct eb_port_links {
    size_t bytes;
    /* Fills in up to `cap` links and gives their number. */
    size_t (*list)(void *self, struct eb_link *links, size_t cap);
    /* Fills in up to `cap` of those that have answered on `link` lately, and gives their number. */
    size_t (*neighbours)(void *self, const char *link, struct eb_neighbour *list, size_t cap);
    /* Gives a link one more address, or takes it away.  EB_DENIED: the user lacks the permission. */
    enum eb_status (*add)(void *self, const char *link, const struct eb_link_address *address);
    enum eb_status (*remove)(void *self, const char *link, const struct eb_link_address *address);
};

/* Any number of handles share one adapter; the first one that is opened sets its bit rate. */
struct eb_port_can {
    size_t bytes;
    /* EB_IO: no such adapter now, or another program has it; EB_BAD_CALL: another handle uses it with another
     * bit rate, or only listens; EB_DENIED: the user lacks the permission. */
    enum eb_status (*open)(void *self, struct eb_waiter *waiter, const struct eb_can_options *options,
                           int *handle);
    /* Gives the number of frames taken; fewer than `count`: no room now; the port reports to the waiter when
     * there is.  `count` 0: nothing is to be sent, and no room is waited for any more. */
    size_t (*send)(void *self, int handle, const struct eb_can_frame *burst, size_t count);
    /* How many of this handle's frames are known to have gone out on the bus, acknowledged: not only taken.
     */
    uint64_t (*sent)(void *self, int handle);
    /* Receives up to `cap`, what the handle itself sent not among them.  EB_PENDING: none now.
     * EB_UNREACHABLE: the adapter is gone; close the handle and open it again. */
    enum eb_status (*receive)(void *self, int handle, struct eb_can_frame *frames, size_t cap,
                              size_t *received);
    void (*state)(void *self, int handle, struct eb_can_state *state);
    void (*close)(void *self, int handle);
};

/* Devices on USB, through control transfers. */
struct eb_port_usb {
    size_t bytes;
    /* Fills in one of the devices that are plugged in, hubs among them; false behind the last.  Index 0 looks
     * anew, the others go on in what was seen then; nothing is sent for that. */
    bool (*device)(void *self, size_t index, struct eb_usb_device *device);
    /* The port reports to the waiter whenever a device was plugged in or removed, until `close`. */
    enum eb_status (*watch)(void *self, struct eb_waiter *waiter, int *handle);
    /* Opens the device that is plugged in there under that address on its bus.  EB_UNREACHABLE: it is not;
     * EB_DENIED: the user lacks the permission. */
    enum eb_status (*open)(void *self, struct eb_waiter *waiter, const struct eb_usb_device *device,
                           int *handle);
    /* Takes an interface for this handle, until it is closed, with one of its alternate settings.  EB_BUSY:
     * another program, or a driver of the system, has it; EB_PENDING: the device is not ready for that yet,
     * as happens right after it came; EB_UNREACHABLE: it is gone. */
    enum eb_status (*claim)(void *self, int handle, uint8_t interface, uint8_t alternate);
    /* Begins a control transfer, of which one at a time may be under way; what goes out with it is copied.
     * EB_UNREACHABLE: the device is gone. */
    enum eb_status (*control)(void *self, int handle, const struct eb_usb_setup *setup, const uint8_t *bytes,
                              uint32_t patience_ms);
    /* What came of it: EB_PENDING; EB_OK with what the device sent, `*received` bytes; EB_PEER_ERROR: the
     * device stalled; EB_NO_ANSWER: its time is over; EB_UNREACHABLE: the device is gone; EB_TOO_LARGE: it
     * sent more than was asked for. */
    enum eb_status (*answer)(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received);
    /* Begins a reset of the device by its hub; `answer` tells its end as that of a transfer.  The device may
     * come back as another one, with another address: then, and where it is gone already, EB_UNREACHABLE. */
    enum eb_status (*reset)(void *self, int handle);
    /* Gives back what was claimed, and ends a transfer under way. */
    void (*close)(void *self, int handle);
};

/* Exchanges over HTTP. */
struct eb_port_http {
    size_t bytes;
    /* Begins one; `request` and what it points to are borrowed until `close`. */
    enum eb_status (*begin)(void *self, struct eb_waiter *waiter, const struct eb_http_request *request,
                            int *handle);
    /* What came of it: EB_PENDING; EB_OK: the whole answer has come; EB_NO_ANSWER: patience is over;
     * EB_UNREACHABLE: refused or reset; EB_CLOSED: closed before the answer was whole; EB_GARBAGE: no HTTP;
     * EB_TOO_LARGE; EB_OTHER: the certificate is not trusted; EB_IO: the source failed. */
    enum eb_status (*poll)(void *self, int handle, struct eb_http_progress *progress);
    /* Ends it where it is. */
    void (*close)(void *self, int handle);
};

/* A group that the port does not have is NULL; `time` is always there. */
struct eb_port {
    size_t bytes; /* of this struct, as with the groups */
    void *self;
    const struct eb_port_time *time;
    const struct eb_port_udp *udp;
    const struct eb_port_tcp *tcp;
    const struct eb_port_frame *frame;
    const struct eb_port_links *links;
    const struct eb_port_can *can;
    const struct eb_port_usb *usb;
    const struct eb_port_http *http;
};

/* Whether the port has a function: EB_PORT_HAS(port, links, neighbours). */
#define EB_PORT_HAS(port, group, function)                                                                   \
    ((port)->bytes > offsetof(struct eb_port, group) && (port)->group != NULL &&                             \
     (port)->group->bytes > offsetof(struct eb_port_##group, function) && (port)->group->function != NULL)

/* Waits until `deadline_us` or until something arrived, and calls `ready` of every waiter concerned: those of
 * other users of the port, too, who look at what came when it is their turn.  Gives their number; 0: the
 * deadline came, or the wait was cut short. */
size_t eb_port_wait(const struct eb_port *port, uint64_t deadline_us);

static inline uint64_t eb_port_now_us(const struct eb_port *port)
{
    return port->time->now_us(port->self);
}

static inline uint32_t eb_port_random(const struct eb_port *port)
{
    return port->time->random(port->self);
}

/* A connection over TCP, as an engine uses it. */
struct eb_stream {
    int handle;     /* EB_NO_HANDLE: not open */
    bool connected; /* bytes were taken, or came */
    bool more;      /* there is more to take in at once */
};

/* Whether address and port are the same. */
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
