/* A simulated CAN bus: stations that arbitrate bit by bit, acknowledge each other, count errors and fall off.
 * It knows nothing of what frames mean.  Times are nanoseconds, since a bit at 800 kbit/s is 1.25 us. */
#ifndef EBI_SIM_CAN_BUS_H
#define EBI_SIM_CAN_BUS_H

#include "einbau/can.h"
#include "einbau/port.h"
#include "einbau/profile.h"

enum { SIM_STATIONS_MAX = 32, SIM_STATION_QUEUE = 256, SIM_ADAPTERS_MAX = 2 };

struct sim_device;
struct sim_bus;

struct sim_can_tx {
    struct eb_can_frame frame;
    uint64_t ready_ns; /* not before */
    int tag;           /* whose it is, for the adapter */
    int generation;
};

/* A node, or the laptop's adapter. */
struct sim_station {
    struct sim_device *device; /* NULL: an adapter */
    bool on, listen_only;
    uint32_t bit_rate;
    uint32_t sick_ppm; /* of its own frames go wrong in its transceiver */
    unsigned tec, rec; /* error counters */
    bool bus_off;      /* since its TEC passed 255 */
    uint64_t back_ns;  /* when a device comes back by itself */
    struct sim_can_tx queue[SIM_STATION_QUEUE];
    size_t first, count;
};

/* What happens to a frame that is about to be sent, for tests. */
struct sim_can_fate {
    bool unheard, doubled, destroyed, garbled, bus_off;
    uint64_t late_us;
};

struct sim_bus {
    char name[EB_NAME_BYTES];
    uint32_t bit_rate; /* that its devices are set to */
    unsigned terminators;
    uint32_t noise_ppm;
    uint32_t latency_us;        /* between adapter and laptop, each way */
    uint32_t queue;             /* frames that the adapter takes */
    struct sim_device *gateway; /* the adapter is in it; NULL: one of its own */
    unsigned refuses_every; /* the ASCII adapter refuses the n-th frame that finds its queue empty; 0: none */
    bool plain_answers;     /* the ASCII adapter answers CR where others say z ... */
    bool answers_queued;    /* ... when it has queued a frame, not when it was sent ... */
    bool bel_when_full;     /* ... BEL where its queue is full, in place of waiting ... */
    bool no_flags;          /* ... and does not know the command F */
    bool tells_no_errors;   /* it says nothing of errors and states */
    bool unplugged;
    uint64_t plug_us;           /* when somebody plugs it in again; EB_NEVER */
    char serial[EB_NAME_BYTES]; /* of the adapter */

    struct sim_station stations[SIM_STATIONS_MAX];
    size_t count;
    size_t adapters[SIM_ADAPTERS_MAX]; /* places among the stations */
    size_t adapter_count;

    /* what is on the wire; EB_NEVER: nothing */
    uint64_t end_ns, free_ns, busy_ns;
    struct sim_can_tx on_wire;
    size_t senders[SIM_STATIONS_MAX];
    size_t sender_count;
    int fault; /* enum eb_can_fault, or -1: it goes well */
    struct sim_can_fate fate;
    uint64_t frames; /* that went well */

    /* the world's */
    void *self;
    uint64_t (*random)(void *self);
    void (*heard)(void *self, struct sim_bus *bus, size_t station, const struct eb_can_frame *frame,
                  uint64_t at_ns);
    void (*sent)(void *self, struct sim_bus *bus, size_t station, const struct sim_can_tx *tx,
                 uint64_t at_ns);
    void (*faulted)(void *self, struct sim_bus *bus, size_t station, enum eb_can_fault fault, uint64_t at_ns);
    struct sim_can_fate (*fate_of)(void *self, struct sim_bus *bus, size_t sender,
                                   const struct eb_can_frame *frame);
};

/* One more station; its place, or SIM_STATIONS_MAX where there is no room. */
size_t sim_bus_join(struct sim_bus *bus, struct sim_device *device, uint32_t bit_rate);

/* Queues a frame; false where the station's queue is full, or it is not on. */
bool sim_bus_send(struct sim_bus *bus, size_t station, const struct sim_can_tx *tx);

/* Switches a station; what it had queued is gone, and its counters begin at 0. */
void sim_bus_switch(struct sim_bus *bus, size_t station, bool on);

/* Lets everything happen that happens until `now_ns`; and when the next thing does. */
void sim_bus_run(struct sim_bus *bus, uint64_t now_ns);
uint64_t sim_bus_deadline_ns(const struct sim_bus *bus);

enum eb_can_mode sim_station_mode(const struct sim_station *station);

#endif
