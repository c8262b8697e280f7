/* Simulated hardware: a world of devices and wires, described in YAML (docs/world.md).  The same device
 * models answer in this process on virtual time (eb_sim_port), or on real sockets in real time
 * (eb_sim_serve). */
#ifndef EINBAU_SIM_H
#define EINBAU_SIM_H

#include "einbau/host.h"

#ifdef __cplusplus
extern "C" {
#endif

struct eb_sim;

/* Builds the world that `path` describes and takes up what `state_dir` remembers of it (NULL: it begins new
 * and is forgotten).  The directory is locked until eb_sim_close.  NULL with `problem` filled. */
EB_NODISCARD struct eb_sim *eb_sim_open(const char *path, const char *state_dir, struct eb_problem *problem);

/* All that is wrong in the file, as eb_site_check says it.  True: nothing is. */
bool eb_world_check(const char *path, eb_finding_tell *tell, void *context);

/* Lets the devices finish what they are doing (up to two minutes of their time), then remembers everything;
 * does nothing without a state directory. */
EB_NODISCARD bool eb_sim_save(struct eb_sim *sim, struct eb_problem *problem);
void eb_sim_close(struct eb_sim *sim);

/* The laptop's end of the wires, in virtual time: waiting takes no real time.  The same seed and the same
 * calls give the same run, to the bit. */
const struct eb_port *eb_sim_port(struct eb_sim *sim);

/* Lets `us` of virtual time pass. */
void eb_sim_pass(struct eb_sim *sim, uint64_t us);

/* --- faults, for tests --------------------------------------------------------------------------- */

enum eb_sim_fault_kind {
    EB_SIM_LOST,
    EB_SIM_DOUBLED,        /* arrives twice */
    EB_SIM_LATE,           /* arrives after what was sent behind it */
    EB_SIM_GARBLED,        /* damaged, and the checksum on the wire tells: it is dropped */
    EB_SIM_GARBLED_UNSEEN, /* damaged so that no checksum tells: it is delivered */
    EB_SIM_POWER_LOST,     /* the device that it comes from or goes to loses power, for 5 s */
    /* on a CAN bus only, where a lost frame is one that nobody took, and a garbled one is repeated at once */
    EB_SIM_BUS_OFF,      /* its sender falls off the bus */
    EB_SIM_ADAPTER_LOST, /* the laptop's adapter is unplugged, for 5 s */
    EB_SIM_GATEWAY_LOST, /* the device that the adapter is in loses power, for 5 s */
    /* on USB only, where a frame is a control transfer, a lost one does not reach the device, and of a late
     * one the answer does not come back; a garbled one is repeated by the hardware */
    EB_SIM_STALLED,      /* the device stalls it, and is in its error state if it is in its loader */
    EB_SIM_STATUS_ERROR, /* the device is in its error state behind it: "unknown" */
    EB_SIM_UNPLUGGED,    /* pulled out, for 5 s */
    EB_SIM_MOVED         /* pulled out, and plugged into another socket 5 s later */
};

/* What happens to the `frame`th datagram, TCP segment, CAN frame or control transfer on any wire, counted
 * from 0. */
struct eb_sim_fault {
    uint64_t frame;
    enum eb_sim_fault_kind kind;
};

/* The faults that are to come, borrowed. */
void eb_sim_set_faults(struct eb_sim *sim, const struct eb_sim_fault *faults, size_t count);

/* Frames so far, and the time that the laptop's way out was busy with them. */
uint64_t eb_sim_frames(const struct eb_sim *sim);
uint64_t eb_sim_busy_us(const struct eb_sim *sim);
/* The time that a CAN bus was busy, by whomever. */
uint64_t eb_sim_bus_busy_us(const struct eb_sim *sim, const char *bus);

/* The time that USB was busy with packets, and the waiting between transfers that the laptop itself is the
 * cause of. */
uint64_t eb_sim_usb_busy_us(const struct eb_sim *sim);

/* Plugs a device on USB into a socket, or pulls it out (NULL).  A hub that drops takes all that is behind it
 * along. */
void eb_sim_usb_plug(struct eb_sim *sim, const char *device, const char *place);
void eb_sim_usb_hub(struct eb_sim *sim, const char *place, bool on);

/* --- the truth, which no protocol can hide ------------------------------------------------------- */

enum eb_sim_mode { EB_SIM_OFF, EB_SIM_BOOTING, EB_SIM_LOADER, EB_SIM_STOPPED, EB_SIM_RUNNING };

/* What the device really does. */
enum eb_sim_mode eb_sim_mode_of(const struct eb_sim *sim, const char *device);

/* What a device holds as this document, `*size` bytes, borrowed; NULL: it has none. */
const uint8_t *eb_sim_document(const struct eb_sim *sim, const char *device, const char *name, size_t *size);

/* The flash from which `component` runs, `*size` bytes; NULL for an unknown one. */
const uint8_t *eb_sim_flash(const struct eb_sim *sim, const char *device, const char *component,
                            size_t *size);

/* What the device's lamp says of the memory card that was in it when its power came. */
enum eb_sim_card {
    EB_SIM_CARD_NONE,
    EB_SIM_CARD_TAKEN,
    EB_SIM_CARD_UNREADABLE, /* no file system that it knows */
    EB_SIM_CARD_FILE_MISSING,
    EB_SIM_CARD_SOMETHING_ELSE, /* more than it wants */
    EB_SIM_CARD_WRONG_IMAGE
};
/* The same of a device; EB_SIM_CARD_NONE where it has no slot. */
enum eb_sim_card eb_sim_card(const struct eb_sim *sim, const char *device);

/* A member of a network that a simulated manager keeps: whether it is supervised, the state that it is in
 * (NMT, as in a heartbeat; 1: it is not there), how often the manager has reset it, how often of that while
 * its program did not run, and how often all of the network was stopped for its sake. */
struct eb_sim_member {
    bool supervised;
    uint8_t state;
    unsigned resets, harmful, stopped_all;
};
/* The same of the node; false: there is no such manager or member. */
bool eb_sim_member(const struct eb_sim *sim, const char *manager, unsigned node,
                   struct eb_sim_member *member);

/* How often it was asked to show itself, and whether a lamp that stays on is on. */
unsigned eb_sim_blinks(const struct eb_sim *sim, const char *device);
bool eb_sim_lamp(const struct eb_sim *sim, const char *device);

/* The name and the address that it will have after its next start; false for an unknown device. */
bool eb_sim_settings(const struct eb_sim *sim, const char *device, char *name, size_t cap,
                     struct eb_link_address *address);

/* Asks the person at the device, where its world has one, to do what its profile says.  The same `words` once
 * more: it is done again only where nothing came of it for 10 s.  NULL: what comes next is done. */
void eb_sim_ask_person(struct eb_sim *sim, const char *device, const char *words);

/* Switches the device's power. */
void eb_sim_power(struct eb_sim *sim, const char *device, bool on);

/* --- on real sockets ----------------------------------------------------------------------------- */

/* Opens the devices' ports on loopback addresses and gives the site that the world names, with the real
 * addresses and ports in place of its own; NULL with `problem` filled. */
EB_NODISCARD struct eb_site *eb_sim_listen(struct eb_sim *sim, struct eb_problem *problem);

/* The pseudo-terminal of a bus's first or second adapter (0, 1), which speak the ASCII protocol of serial CAN
 * adapters; NULL where there is none.  The site that eb_sim_listen gives names the first. */
const char *eb_sim_adapter(const struct eb_sim *sim, const char *bus, size_t which);

/* After eb_sim_listen: plugs the world's USB devices into the kernel's virtual host controller (vhci-hcd),
 * each into a socket of its own, whatever its place in the world.  Needs root. */
EB_NODISCARD bool eb_sim_plug_in(struct eb_sim *sim, struct eb_problem *problem);

/* Serves in real time until `stop_fd` can be read. */
EB_NODISCARD bool eb_sim_serve(struct eb_sim *sim, int stop_fd, struct eb_problem *problem);

/* Puts all devices of one wire (NULL: the first) on a real Ethernet interface, each with its own hardware
 * address, its IP address or none: a whole segment.  Needs the right to raw frames, and the interface to
 * itself: in a network namespace, without an address of the system's own. */
EB_NODISCARD bool eb_sim_join(struct eb_sim *sim, const char *interface, const char *wire,
                              struct eb_problem *problem);
EB_NODISCARD bool eb_sim_serve_segment(struct eb_sim *sim, int stop_fd, struct eb_problem *problem);

#ifdef __cplusplus
}
#endif

#endif
