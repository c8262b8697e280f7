/* A world: its devices and wires, and what is remembered of it. */
#ifndef EBI_SIM_WORLD_H
#define EBI_SIM_WORLD_H

#include "device.h"
#include "table.h"

enum { EBI_SIM_FAULTS_MAX = 16 };

/* One Ethernet segment: the laptop's cable, then a switch, then the devices' cables, which are never the
 * narrow part. */
struct ebi_sim_wire {
    char name[EB_NAME_BYTES];
    uint64_t latency_us;
    uint64_t jitter_us;
    uint64_t rate_kbit_per_s; /* of the laptop's cable, each way */
    uint32_t mtu_bytes;
    uint32_t segment_bytes; /* largest TCP segment */
    uint32_t lost_ppm, doubled_ppm, reordered_ppm, garbled_ppm, garbled_unseen_ppm;
    struct ebi_sim_cable {
        uint64_t free_ns; /* when it is free again */
        uint64_t busy_ns; /* in all */
    } up, down;
};

/* One of the laptop's links in this world, and the wire at its other end. */
struct ebi_sim_laptop_link {
    struct eb_link link;
    char wire[EB_NAME_BYTES];
    bool no_frames; /* the user has no right to raw frames */
};

/* Who carries what a bus brings to the laptop: the simulated port, or a pseudo-terminal. */
struct ebi_sim_can_hooks {
    void *self;
    void (*heard)(void *self, struct ebi_sim_bus *bus, size_t station, const struct eb_can_frame *frame,
                  uint64_t at_us);
    void (*sent)(void *self, struct ebi_sim_bus *bus, const struct ebi_sim_can_tx *tx, uint64_t at_us);
    void (*faulted)(void *self, struct ebi_sim_bus *bus, size_t station, enum eb_can_fault fault,
                    uint64_t at_us);
    void (*lost)(void *self, struct ebi_sim_bus *bus); /* its adapter is gone */
    /* A frame for a device that it hears later; NULL: all are heard at once. */
    void (*later)(void *self, struct ebi_sim_device *device, const struct eb_can_frame *frame,
                  uint64_t at_us);
    struct ebi_sim_can_fate (*fate_of)(void *self, struct ebi_sim_bus *bus, size_t sender,
                                       const struct eb_can_frame *frame);
};

/* A hub in one of the laptop's sockets, or of another hub. */
struct ebi_sim_hub {
    char place[EB_USB_PLACE_BYTES];
    uint8_t address;
    bool off;
};

struct ebi_sim_virtual;
struct ebi_sim_sockets;
struct ebi_sim_segment;

struct eb_sim {
    char name[EB_NAME_BYTES];
    char site_path[EB_PATH_BYTES];
    uint64_t random;
    struct ebi_sim_wire *wires;
    size_t wire_count;
    struct ebi_sim_laptop_link laptop[EB_LINKS_MAX]; /* none: every device is reached */
    size_t laptop_count;
    struct ebi_sim_bus *buses;
    size_t bus_count;
    struct ebi_sim_can_hooks can;
    struct ebi_sim_hub hubs[EBI_SIM_USB_HUBS_MAX];
    size_t hub_count;
    uint8_t usb_addresses;   /* given so far */
    uint32_t usb_latency_us; /* between a transfer and the next, in the laptop */
    /* Who is to know of what comes and goes on USB, or NULL. */
    void (*usb_changed)(void *self, struct ebi_sim_device *device);
    void *usb_self;
    struct ebi_sim_device *devices;
    size_t count;
    struct ebi_sim_table names;     /* devices by ebi_sim_name_key */
    struct ebi_sim_table addresses; /* devices by ebi_sim_address_key, wherever they are */
    /* what is to happen, by the description: eb_sim_set_faults takes its place */
    struct eb_sim_fault faults[EBI_SIM_FAULTS_MAX];
    size_t fault_count;
    uint64_t laptop_frame; /* when that frame is sent, the laptop's process gets this signal */
    int laptop_signal;     /* 0: none */
    char state_dir[EB_PATH_BYTES];
    int lock_fd;
    const struct ebi_sim_web *web;   /* serves HTTP to real programs; NULL: http_wire.c does */
    struct ebi_sim_virtual *net;     /* virtual time, or */
    struct ebi_sim_sockets *sockets; /* real sockets, or */
    struct ebi_sim_segment *segment; /* one real Ethernet interface */
};

/* world_file.c: reads the description into `sim`; with `tell` all that is wrong in it, else the first
 * finding. */
bool ebi_sim_world_read(struct eb_sim *sim, const char *path, eb_finding_tell *tell, void *context,
                        struct eb_problem *problem);

/* state.c: takes up, or writes, what the state directory remembers. */
bool ebi_sim_state_load(struct eb_sim *sim, struct eb_problem *problem);
bool ebi_sim_state_save(struct eb_sim *sim, struct eb_problem *problem);

/* can_world.c: the buses of a world.  Joins the devices to theirs before they start. */
void ebi_sim_can_open(struct eb_sim *sim, const struct ebi_sim_can_hooks *hooks);
/* What has happened on a bus until now; false: nothing. */
bool ebi_sim_can_run(struct eb_sim *sim, struct ebi_sim_bus *bus, uint64_t now_us);
uint64_t ebi_sim_can_next_us(const struct eb_sim *sim);
bool ebi_sim_bus_has_adapter(const struct ebi_sim_bus *bus);
/* The adapters that are in this device may be gone. */
void ebi_sim_can_gateway(const struct ebi_sim_device *device);
/* Pulls a bus's adapter out, or plugs it in. */
void ebi_sim_bus_plug(struct eb_sim *sim, struct ebi_sim_bus *bus, bool in);

/* virtual_net.c */
bool ebi_sim_virtual_open(struct eb_sim *sim);
void ebi_sim_virtual_close(struct eb_sim *sim);

/* socket_net.c */
void ebi_sim_sockets_close(struct eb_sim *sim);

/* segment_net.c */
void ebi_sim_segment_close(struct eb_sim *sim);

struct ebi_sim_device *ebi_sim_find(const struct eb_sim *sim, const char *name);
/* Their keys in the tables of a world. */
uint32_t ebi_sim_name_key(const char *name);
uint32_t ebi_sim_address_key(const uint8_t ip[4]);
/* From now on it is found at this address. */
void ebi_sim_place(struct ebi_sim_device *device, const uint8_t ip[4]);

/* The next pseudo-random number of the world (SplitMix64), always the same row for the same seed. */
uint64_t ebi_sim_random(struct eb_sim *sim);

#endif
