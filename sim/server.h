/* What a simulated device speaks.  A device knows its protocols only through this table: a new one is a file
 * of its own and a row in servers.c. */
#ifndef EBI_SIM_SERVER_H
#define EBI_SIM_SERVER_H

#include "device.h"

/* A function of Modbus: gives the bytes of the reply's PDU, or 0 where it says nothing. */
struct ebi_sim_modbus_function {
    uint8_t code;
    size_t (*answer)(struct ebi_sim_device *device, const uint8_t *pdu, size_t size, uint8_t *reply);
};
size_t ebi_sim_modbus_exception(uint8_t *reply, uint8_t function, uint8_t code);

struct ebi_yaml_map;

/* Any member may be NULL. */
struct ebi_sim_server {
    const char *word; /* in the world's `speaks`; NULL: what the device is, not what is listed there */
    const struct ebi_sim_modbus_function *functions; /* `code` 0 behind the last */
    /* Its own keys of a device in the world file. */
    void (*read)(struct ebi_yaml_map *map, struct ebi_sim_device *device);
    /* Where it listens, over TCP or UDP; 0: it does not. */
    uint16_t (*port)(const struct ebi_sim_device *device, bool tcp);
    /* Whether a handle of the network is one that it has opened itself, for one transfer. */
    bool (*owns)(const struct ebi_sim_device *device, int handle);
    void (*datagram)(struct ebi_sim_device *device, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size);
    void (*stream)(struct ebi_sim_device *device, struct ebi_sim_connection *connection, const uint8_t *bytes,
                   size_t size);
    void (*frame)(struct ebi_sim_device *device, const uint8_t *frame, size_t size);
    /* The world begins: it was there long before. */
    void (*begin)(struct ebi_sim_device *device);
    /* The device starts, or its power goes. */
    void (*alive)(struct ebi_sim_device *device, bool alive);
    void (*tick)(struct ebi_sim_device *device);
    uint64_t (*deadline_us)(const struct ebi_sim_device *device);
    /* The world ends: what it allocated. */
    void (*forget)(struct ebi_sim_device *device);
};

/* Everything that simulated devices speak, in the order of the bits of `speaks`; a new protocol is added
 * here. */
#define EBI_SIM_SERVERS(row)                                                                                 \
    row(modbus) row(tftp) row(dcp) row(cip) row(dns_sd) row(snmp) row(lldp) row(ether) row(can) row(usb)     \
        row(modbus_files) row(http) row(loader) row(values) row(documents) row(card_slot) row(manager)
#define EBI_SIM_DECLARE(name) extern const struct ebi_sim_server ebi_sim_##name;
EBI_SIM_SERVERS(EBI_SIM_DECLARE)
extern const struct ebi_sim_server *const ebi_sim_servers[]; /* NULL behind the last */

/* The one that listens there and that the device speaks, or NULL. */
const struct ebi_sim_server *ebi_sim_server_at(const struct ebi_sim_device *device, bool tcp, uint16_t port);
bool ebi_sim_speaks(const struct ebi_sim_device *device, const struct ebi_sim_server *server);
/* When the first of those that it speaks wants to be asked next. */
uint64_t ebi_sim_servers_deadline_us(const struct ebi_sim_device *device);

/* loader.c: whether a service switch keeps the device in its loader; whether it is there, where it speaks
 * nothing but its own; the person at the device is asked for something. */
bool ebi_sim_loader_wanted(const struct ebi_sim_device *device);
bool ebi_sim_loader_only(const struct ebi_sim_device *device);
void ebi_sim_loader_person(struct ebi_sim_device *device, const char *words);

/* card_slot.c: what its lamp says of the memory card in it. */
enum eb_sim_card ebi_sim_card_says(const struct ebi_sim_device *device);

/* What a protocol remembers of a device: zeros at first, freed with it. */
void *ebi_sim_own(struct ebi_sim_device *device, const struct ebi_sim_server *server, size_t bytes);

#endif
