/* Who is on the wire: looks on several links at once, by everything that devices answer to or say unasked,
 * and makes one row of what belongs to one device.
 *
 * What it sends is bounded by EB_SURVEY_FRAMES_PER_S on each link, broadcasts by half of that: less than one
 * percent of a 100 Mbit/s link.  It only asks; it changes nothing in any device. */
#ifndef EINBAU_SURVEY_H
#define EINBAU_SURVEY_H

#include "einbau/dcp.h"
#include "einbau/dns_sd.h"
#include "einbau/modbus.h"
#include "einbau/port.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_SURVEY_FRAMES_PER_S = 1000,
    EB_SURVEY_SWEEP_PREFIX = 22, /* 1022 hosts; larger subnets are only listened to */
    EB_SURVEY_LINKS_MAX = 8,
    EB_SURVEY_SERVICES_MAX = 24,
    EB_MACS_MAX = 3,
    EB_FACTS_MAX = 24 /* of one device: eight protocols with up to three each */
};

/* What tells of a device. */
enum eb_protocol {
    EB_BY_ARP,
    EB_BY_DHCP,
    EB_BY_LLDP,
    EB_BY_DCP,
    EB_BY_CIP,
    EB_BY_DNS_SD,
    EB_BY_SNMP,
    EB_BY_MODBUS,
    EB_PROTOCOLS
};
/* The word for it, "lldp"; static. */
const char *eb_protocol_word(enum eb_protocol protocol);

enum eb_fact_kind {
    EB_FACT_NAME,
    EB_FACT_MAKER,
    EB_FACT_PRODUCT,
    EB_FACT_ORDER_CODE,
    EB_FACT_HARDWARE_REVISION,
    EB_FACT_SERIAL,
    EB_FACT_VERSION,
    EB_FACT_DESCRIPTION,
    EB_FACT_NUMBERS, /* a maker's and a product's numbers in their protocol's lists */
    EB_FACT_ADDRESS, /* one more than the row's own */
    EB_FACT_SERVICE,
    EB_FACT_TEXT, /* "key=value" */
    EB_FACT_KINDS
};
/* The word for it; static. */
const char *eb_fact_word(enum eb_fact_kind kind);

/* One thing that a device said, printable. */
struct eb_fact {
    uint8_t kind; /* enum eb_fact_kind */
    uint8_t by;   /* enum eb_protocol */
    char text[EB_HEARD_TEXT_BYTES];
};

/* One device. */
struct eb_found {
    size_t link; /* index into the survey's links */
    bool has_mac, has_ip, has_mask;
    uint8_t mac[EB_MAC_BYTES], ip[4], prefix;
    uint8_t other_macs[EB_MACS_MAX][EB_MAC_BYTES]; /* of its other ports */
    size_t other_mac_count;
    bool dhcp;         /* its address came by DHCP, or it asked for one by DHCP */
    bool asks;         /* it asks for an address and is not known to have one */
    bool bootp;        /* it asks by BOOTP, as loaders do */
    bool shared_ip;    /* another device answers to its address too */
    bool several;      /* more serial numbers answer with this hardware address than one device has */
    bool more;         /* it said more than fits */
    uint16_t heard;    /* bit 1 << enum eb_protocol */
    uint64_t first_us; /* when it was first, and last, heard of */
    uint64_t last_us;
    uint64_t changed_us; /* when something of it changed last; 0: never */
    struct eb_fact facts[EB_FACTS_MAX];
    size_t count;

    /* the survey's own */
    bool ours_to_ask;
    uint8_t snmp, modbus, snmp_tries, modbus_tries;
    uint64_t snmp_us;
};

/* A Modbus exchange with one device. */
struct eb_survey_probe {
    bool used;
    size_t link;
    uint8_t ip[4];
    struct eb_stream stream;
    uint64_t until_us;
    struct eb_modbus modbus;
};

struct eb_survey;

/* What is surveyed; borrowed until its end. */
struct eb_survey_config {
    const struct eb_port *port;
    const struct eb_link *links; /* to look on, at most EB_SURVEY_LINKS_MAX; borrowed */
    size_t link_count;
    struct eb_found *found; /* room for `cap` devices; what does not fit is only counted */
    size_t cap;
    struct eb_survey_probe *probes; /* Modbus exchanges at the same time */
    size_t probe_count;
    uint64_t listen_us;    /* how long it listens at least */
    bool keep_on;          /* round after round, until it is closed */
    const char *community; /* for SNMP; NULL: "public" */
    /* Told of each new row; may be NULL. */
    void (*event)(void *context, const struct eb_found *found);
    void *event_context;
};

/* The survey's own: one link. */
struct ebi_survey_link {
    struct eb_link link;
    int frames, group, udp;
    bool denied;    /* raw frames */
    bool too_large; /* a subnet that is not swept */
    size_t address; /* being swept */
    uint32_t offset;
    uint8_t pass;
    uint8_t greetings;
    uint64_t greet_us, pass_us, neighbours_us, paced_us;
    uint64_t tokens; /* frames that may be sent, in thousandths */
    uint64_t sent;   /* frames so far, as far as they are known */
};

/* A survey under way; its members may be read. */
struct eb_survey {
    struct eb_survey_config config;
    struct eb_waiter waiter;
    struct ebi_survey_link links[EB_SURVEY_LINKS_MAX];
    size_t count;    /* of devices found */
    size_t left_out; /* answers of devices for which there was no room */
    unsigned rounds; /* that were completed */
    bool done;
    uint32_t dcp_id;    /* everybody on the link reads it, so no other protocol has it */
    uint64_t secret[2]; /* of which the ids of SNMP are made, another one for each address */
    uint64_t strays;    /* answers that belong to no question */
    uint64_t round_us;
    char services[EB_SURVEY_SERVICES_MAX][EB_DNS_NAME_BYTES];
    size_t service_count, services_asked;
};

/* Opens what it needs on each link.  A link without the right to raw frames is looked at all the same:
 * eb_survey_denied says so. */
void eb_survey_begin(struct eb_survey *survey, const struct eb_survey_config *config);

/* Does what can be done now, then waits for the next arrival or deadline, but not beyond `until_us`.
 * Gives false once it is complete. */
bool eb_survey_work(struct eb_survey *survey, uint64_t until_us);

/* It needs to listen no longer than its own questions take, whatever `listen_us` was. */
void eb_survey_enough(struct eb_survey *survey);

/* Closes everything; the rows stay the caller's. */
void eb_survey_end(struct eb_survey *survey);

/* Whether raw frames were refused on link `index`, and whether a subnet of it was too large to be swept. */
bool eb_survey_denied(const struct eb_survey *survey, size_t index);
bool eb_survey_too_large(const struct eb_survey *survey, size_t index);
/* Frames that went out on all links, about. */
uint64_t eb_survey_sent(const struct eb_survey *survey);

/* --- what a row says --- */

/* The fact of this kind by the protocol that tells it best, or "". */
const char *eb_found_text(const struct eb_found *found, enum eb_fact_kind kind);
/* Two facts of one kind that contradict each other; false where there are none.  Names may differ from
 * protocol to protocol, and numbers of EtherNet/IP are no texts. */
bool eb_found_disagree(const struct eb_found *found, enum eb_fact_kind kind, const struct eb_fact **one,
                       const struct eb_fact **other);
/* Whether a row that was heard last at `last_us` is gone: what answers was asked three times in vain, what
 * only announces itself is silent for longer than its announcement holds. */
bool eb_found_gone(const struct eb_found *found, uint64_t now_us);

#ifdef __cplusplus
}
#endif

#endif
