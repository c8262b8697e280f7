/* One small exchange with one device: who has this address, who are you, show yourself, be called so.
 *
 * An ask is a state machine that never waits, like a run.  It repeats what got no answer: everything here may
 * be said twice without harm. */
#ifndef EINBAU_ASK_H
#define EINBAU_ASK_H

#include "einbau/cip.h"
#include "einbau/dcp.h"
#include "einbau/dns_sd.h"
#include "einbau/modbus.h"
#include "einbau/port.h"
#include "einbau/snmp.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_ASK_MACS_MAX = 4, EB_ASK_MESSAGE_BYTES = 1472, EB_ASK_OIDS_MAX = 12 };

enum eb_ask_kind {
    EB_ASK_WHO_HAS,   /* ARP: all who answer to `ip`, until patience is over: `macs` */
    EB_ASK_NAME_USED, /* DCP: all stations called `name`, until patience is over: `macs` */
    EB_ASK_STATION,   /* DCP get: `station` */
    EB_ASK_SET_NAME,  /* DCP set `name` */
    EB_ASK_SET_IP,    /* DCP set `ip`, `mask`, `router` */
    EB_ASK_SIGNAL,    /* DCP: the lamp for about three seconds */
    EB_ASK_IDENTITY,  /* CIP: `identity` */
    EB_ASK_FLASH,     /* CIP: the lamp as long as the device likes */
    EB_ASK_COIL,      /* Modbus: writes a coil `on` or off */
    EB_ASK_WRITE,     /* Modbus: writes registers */
    EB_ASK_READ,      /* Modbus: reads registers: modbus.values */
    EB_ASK_SNMP,      /* reads objects: `message` holds the answer for eb_snmp_read */
    EB_ASK_DNS_SD     /* the text record of `service`: `message` holds the answer for eb_dns_open */
};

struct eb_ask_config {
    const struct eb_port *port;
    void *owner; /* whom the port's wait is to give back */
    enum eb_ask_kind kind;
    uint64_t patience_us;
    const struct eb_link *link; /* for frames, borrowed; NULL: the one in whose subnet the peer is */
    bool has_mac; /* of the device, for DCP; where it is missing, ARP finds it by the peer's address */
    uint8_t mac[EB_MAC_BYTES];
    struct eb_endpoint peer; /* with the protocol's port */
    uint8_t unit;            /* Modbus */
    uint8_t ip[4], mask[4], router[4];
    const char *name;
    bool on;
    uint8_t flash_s; /* EB_ASK_FLASH */
    uint16_t address;
    const uint16_t *values;
    size_t count;
    const char *community;
    const struct eb_oid *oids; /* at most EB_ASK_OIDS_MAX */
    const char *service;       /* "_pa._tcp.local" */
};

struct eb_ask {
    struct eb_ask_config config;
    enum eb_status status; /* EB_PENDING until it has ended */
    struct eb_error error;

    uint8_t macs[EB_ASK_MACS_MAX][EB_MAC_BYTES];
    size_t mac_count;
    struct eb_dcp_station station;
    struct eb_cip_identity identity;
    struct eb_modbus modbus;
    uint8_t message[EB_ASK_MESSAGE_BYTES];
    size_t message_size;

    /* its own */
    struct eb_link link;
    int handle;
    bool tcp, frames, finding_mac, connected;
    bool more; /* a poll left something that had come */
    uint32_t id;
    uint64_t strays; /* datagrams that answer no question of it */
    uint64_t next_us, end_us, repeat_us;
    struct eb_cip cip;
};

/* Begins; the texts and arrays of `config` are borrowed until the end. */
void eb_ask_begin(struct eb_ask *ask, const struct eb_ask_config *config, uint64_t now_us);

/* Does what can be done now.  EB_OK, or the status that `error` holds: EB_NO_ANSWER, EB_DENIED (raw frames),
 * EB_UNREACHABLE, EB_PEER_ERROR, EB_GARBAGE.  Whatever was opened is closed at the end. */
EB_NODISCARD enum eb_status eb_ask_poll(struct eb_ask *ask, uint64_t now_us);
uint64_t eb_ask_deadline_us(const struct eb_ask *ask);

/* The next text record (TXT) of the service that was asked for, in the answer to EB_ASK_DNS_SD; false at the
 * end. */
bool eb_ask_next_text(const struct eb_ask *ask, struct eb_dns_reader *reader, struct eb_dns_record *record);

/* Polls and waits until it has ended, or until `until_us`. */
EB_NODISCARD enum eb_status eb_ask_work(struct eb_ask *ask, uint64_t until_us);

/* Ends it early. */
void eb_ask_close(struct eb_ask *ask);

#ifdef __cplusplus
}
#endif

#endif
