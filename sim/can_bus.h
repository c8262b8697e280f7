/* A simulated CAN bus: stations that arbitrate bit by bit, acknowledge each other, count errors and fall off.
 * It knows nothing of what frames mean.  Times are nanoseconds, since a bit at 800 kbit/s is 1.25 us. */
#ifndef EBI_SIM_CAN_BUS_H
#define EBI_SIM_CAN_BUS_H

#include "einbau/can.h"
#include "einbau/port.h"
#include "einbau/profile.h"

enum { EBI_SIM_STATIONS_MAX = 32, EBI_SIM_STATION_QUEUE = 256, EBI_SIM_ADAPTERS_MAX = 2 };

struct ebi_sim_device;
struct ebi_sim_bus;

struct ebi_sim_can_tx {
    struct eb_can_frame frame;
    uint64_t ready_ns; /* not before */
    int tag;           /* whose it is, for the adapter */
    int generation;
};

/* A node, or the laptop's adapter. */
struct ebi_sim_station {
    struct ebi_sim_device *device; /* NULL: an adapter */
    bool on, listen_only;
    uint32_t bit_rate;
    uint32_t sick_ppm; /* of its own frames go wrong in its transceiver */
    unsigned tec, rec; /* error counters */
    bool bus_off;      /* since its TEC passed 255 */
    uint64_t back_ns;  /* when a device comes back by itself */
    struct ebi_sim_can_tx queue[EBI_SIM_STATION_QUEUE];
    size_t first, count;
};

/* What happens to a frame that is about to be sent, for tests. */
struct ebi_sim_can_fate {
    bool unheard, doubled, destroyed, garbled, bus_off;
    uint64_t late_us;
};

struct ebi_sim_bus {
    char name[EB_NAME_BYTES];
    uint32_t bit_rate; /* that its devices are set to */
    unsigned terminators;
    uint32_t noise_ppm;
    uint32_t latency_us;            /* between adapter and laptop, each way */
    uint32_t queue;                 /* frames that the adapter takes */
    struct ebi_sim_device *gateway; /* the adapter is in it; NULL: one of its own */
    unsigned refuses_every; /* the ASCII adapter refuses the n-th frame that finds its queue empty; 0: none */
    bool plain_answers;     /* the ASCII adapter answers CR where others say z ... */
    bool answers_queued;    /* ... when it has queued a frame, not when it was sent ... */
    bool bel_when_full;     /* ... BEL where its queue is full, in place of waiting ... */
    bool no_flags;          /* ... and does not know the command F */
    bool tells_no_errors;   /* it says nothing of errors and states */
    bool unplugged;
    uint64_t plug_us;           /* when somebody plugs it in again; EB_NEVER */
    char serial[EB_NAME_BYTES]; /* of the adapter */

    struct ebi_sim_station stations[EBI_SIM_STATIONS_MAX];
    size_t count;
    size_t adapters[EBI_SIM_ADAPTERS_MAX]; /* places among the stations */
    size_t adapter_count;

    /* what is on the wire; EB_NEVER: nothing */
    uint64_t end_ns, free_ns, busy_ns;
    struct ebi_sim_can_tx on_wire;
    size_t senders[EBI_SIM_STATIONS_MAX];
    size_t sender_count;
    int fault; /* enum eb_can_fault, or -1: it goes well */
    struct ebi_sim_can_fate fate;
    uint64_t frames; /* that went well */

    /* the world's */
    void *self;
    uint64_t (*random)(void *self);
    void (*heard)(void *self, struct ebi_sim_bus *bus, size_t station, const struct eb_can_frame *frame,
                  uint64_t at_ns);
    void (*sent)(void *self, struct ebi_sim_bus *bus, size_t station, const struct ebi_sim_can_tx *tx,
                 uint64_t at_ns);
    void (*faulted)(void *self, struct ebi_sim_bus *bus, size_t station, enum eb_can_fault fault,
                    uint64_t at_ns);
    struct ebi_sim_can_fate (*fate_of)(void *self, struct ebi_sim_bus *bus, size_t sender,
                                       const struct eb_can_frame *frame);
};

/* One more station; its place, or EBI_SIM_STATIONS_MAX where there is no room. */
size_t ebi_sim_bus_join(struct ebi_sim_bus *bus, struct ebi_sim_device *device, uint32_t bit_rate);

/* Queues a frame; false where the station's queue is full, or it is not on. */
bool ebi_sim_bus_send(struct ebi_sim_bus *bus, size_t station, const struct ebi_sim_can_tx *tx);

/* Switches a station; what it had queued is gone, and its counters begin at 0. */
void ebi_sim_bus_switch(struct ebi_sim_bus *bus, size_t station, bool on);

/* Lets everything happen that happens until `now_ns`; and when the next thing does. */
void ebi_sim_bus_run(struct ebi_sim_bus *bus, uint64_t now_ns);
uint64_t ebi_sim_bus_deadline_ns(const struct ebi_sim_bus *bus);

enum eb_can_mode ebi_sim_station_mode(const struct ebi_sim_station *station);

#endif
