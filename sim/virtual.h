/* The simulated port's own: its events, its handles, and what its files share. */
#ifndef EBI_SIM_VIRTUAL_H
#define EBI_SIM_VIRTUAL_H

#include "world.h"

enum event_kind {
    EVENT_UDP_UP,
    EVENT_UDP_DOWN,
    EVENT_SYN,
    EVENT_OPEN,
    EVENT_TCP_UP,
    EVENT_TCP_DOWN,
    EVENT_RESET,
    EVENT_FIN, /* the device closes a connection in the regular way */
    EVENT_FRAME_UP,
    EVENT_FRAME_DOWN,
    EVENT_ROOM,
    EVENT_WAKE,
    EVENT_BUS,       /* something happens on a CAN bus */
    EVENT_CAN_QUEUE, /* frames of the laptop reach its adapter */
    EVENT_CAN_DOWN,  /* a frame that the adapter heard reaches the laptop */
    EVENT_CAN_SENT,  /* so does the news that one went out */
    EVENT_CAN_LATE,  /* a device hears a frame late */
    EVENT_USB_UP,    /* a control transfer is at its device */
    EVENT_USB_DOWN,  /* its answer is at the laptop */
    EVENT_USB_LATE,  /* or its time is over */
    EVENT_USB_RESET, /* a reset has reached a device */
    EVENT_USB_BACK   /* somebody plugs a device in again */
};

/* The laptop's adapter on one bus. */
struct can_adapter {
    size_t handles;
    int *open; /* all of them, in the order in which they were opened, also those that are gone */
    size_t open_count, open_cap;
    size_t turn; /* of those that wait for room */
    struct eb_can_pace pace;
    struct eb_can_state state;
};

struct event {
    uint64_t at_us, age;
    enum event_kind kind;
    int handle; /* the laptop's socket or the connection */
    int generation;
    struct ebi_sim_device *device;
    struct eb_endpoint from, to;
    uint8_t *bytes;
    size_t size;
    unsigned tries; /* of TCP to carry it to a device that is not there */
};

struct message {
    struct message *next;
    struct eb_endpoint from;
    size_t size;
    uint8_t bytes[];
};

/* A socket of the laptop, UDP, TCP or for frames; for TCP also the device's end. */
struct end {
    bool used, tcp, frames;
    struct can_end *can;                    /* NULL: not of a CAN bus */
    struct usb_end *usb;                    /* NULL: not on USB */
    struct http_end *http;                  /* NULL: no exchange over HTTP */
    const struct ebi_sim_laptop_link *link; /* that it is bound to, or NULL */
    uint8_t group[4];                       /* that it hears */
    int generation;                         /* so that events for an older one are told apart */
    struct eb_waiter *waiter;
    bool ready, wants_room, room_due;
    uint16_t port;
    struct message *first, **last; /* UDP: received */
    /* TCP */
    struct ebi_sim_device *device;
    struct eb_endpoint peer;
    bool open, dead, closed, device_knows;
    uint8_t *rx;
    size_t rx_size, rx_cap;
    uint64_t up_last_us, down_last_us; /* in order: nothing overtakes */
};

struct device_socket {
    struct ebi_sim_device *device;
    uint16_t port;
};

struct ebi_sim_virtual {
    struct eb_port port;
    struct eb_port_links links;
    struct ebi_sim_net net;
    struct eb_sim *sim;
    uint64_t now_us, age;
    struct event *heap;
    size_t heap_size, heap_cap;
    struct end *ends;
    int end_cap;
    int end_free;                   /* the first that may be free */
    struct ebi_sim_table ports;     /* ends for datagrams by their port */
    struct ebi_sim_table connected; /* ends for TCP by their device */
    int *ready;                     /* handles that are ready, in their order */
    size_t ready_count, ready_cap;
    struct device_socket *sockets;
    int socket_cap, socket_free;
    struct ebi_sim_table device_sockets; /* by device */
    uint16_t next_laptop_port, next_device_port;
    bool *asked;     /* per device: the laptop has sent to its address */
    uint64_t *woken; /* per device: the earliest wake event that is under way */
    const struct eb_sim_fault *faults;
    size_t fault_count;
    uint64_t frames;
    struct can_adapter *adapters; /* by bus */
    struct eb_port_http http;
    uint64_t usb_free_ns, usb_busy_ns, usb_late_us;
    uint64_t bus_us; /* the earliest bus event that is under way */
};

struct fate {
    bool lost, doubled, unseen;
    bool garbled; /* and the wire's check tells: Ethernet drops it, CAN repeats it */
    bool bus_off;
    bool stalled, status_error, unplugged;
    uint64_t extra_us;
};

/* --- virtual_net.c --- */
void *ebi_sim_grow(void *old, size_t count, size_t size);
/* Of a frame on the wire. */
enum {
    UDP_HEAD_BYTES = 28, /* IPv4 and UDP */
    RESEND_US = 200000,  /* TCP's first retransmission */
    RESENDS_MAX = 12,
};

/* virtual_wire.c */
struct event ebi_sim_pop_event(struct ebi_sim_virtual *v);
struct ebi_sim_wire *ebi_sim_wire_of(struct ebi_sim_virtual *v, const struct ebi_sim_device *d);
struct fate ebi_sim_next_fate(struct ebi_sim_virtual *v, struct ebi_sim_wire *w, struct ebi_sim_device *d);
uint64_t ebi_sim_carry(const struct ebi_sim_virtual *v, struct ebi_sim_wire *w, struct ebi_sim_cable *cable,
                       size_t size);
uint8_t *ebi_sim_copy_of(const uint8_t *bytes, size_t size);
void ebi_sim_deliver(struct ebi_sim_virtual *v, const struct fate *fate, struct event event,
                     const uint8_t *bytes, size_t size);
void ebi_sim_send_datagram(struct ebi_sim_virtual *v, struct ebi_sim_device *d, bool up, struct event event,
                           const uint8_t *bytes, size_t size);
void ebi_sim_send_segment(struct ebi_sim_virtual *v, struct end *end, bool up, struct event event,
                          const uint8_t *bytes, size_t size);
void ebi_sim_send_stream(struct ebi_sim_virtual *v, int handle, bool up, const uint8_t *bytes, size_t size);
void ebi_sim_push_event(struct ebi_sim_virtual *v, struct event event);
void ebi_sim_wake_later(struct ebi_sim_virtual *v, struct ebi_sim_device *d);
void ebi_sim_set_ready(struct ebi_sim_virtual *v, struct end *end);
int ebi_sim_new_end(struct ebi_sim_virtual *v, struct eb_waiter *waiter, bool tcp);
/* What the faults say of the next frame on any wire. */
struct fate ebi_sim_next_fault(struct ebi_sim_virtual *v, struct ebi_sim_device *d, struct ebi_sim_bus *bus);

void ebi_sim_close_end(void *self, int handle);

/* --- virtual_http.c --- */
void ebi_sim_virtual_http_open(struct ebi_sim_virtual *v);
void ebi_sim_virtual_http_free(struct end *end);
struct ebi_sim_device *ebi_sim_device_at(struct ebi_sim_virtual *v, const struct ebi_sim_laptop_link *link,
                                         const struct eb_endpoint *endpoint);

/* --- virtual_usb.c --- */
void ebi_sim_virtual_usb_open(struct ebi_sim_virtual *v);
void ebi_sim_virtual_usb_event(struct ebi_sim_virtual *v, const struct event *e);
void ebi_sim_virtual_usb_free(struct end *end);
/* Pulls a device out for a while; then it comes back there, or elsewhere. */
void ebi_sim_virtual_usb_pull(struct ebi_sim_virtual *v, struct ebi_sim_device *device, bool elsewhere);
void ebi_sim_virtual_usb_back(struct ebi_sim_device *device);

/* --- virtual_can.c --- */
void ebi_sim_virtual_can_open(struct ebi_sim_virtual *v);
void ebi_sim_virtual_can_event(struct ebi_sim_virtual *v, const struct event *e);
/* Makes sure that whatever comes next on a bus is an event. */
void ebi_sim_virtual_can_arm(struct ebi_sim_virtual *v);
void ebi_sim_virtual_can_free(struct ebi_sim_virtual *v, struct end *end);
void ebi_sim_virtual_can_close(struct ebi_sim_virtual *v);

#endif
