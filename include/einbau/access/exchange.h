/* One question, repeated until it is answered: the context of the accesses that do no more than that. */
#ifndef EINBAU_ACCESS_EXCHANGE_H
#define EINBAU_ACCESS_EXCHANGE_H

#include "einbau/access.h"

#ifdef __cplusplus
extern "C" {
#endif

struct ebi_question;

/* One question over UDP or by frames, repeated until it is answered: the context of SNMP, DNS-SD, DCP and
 * ARP. */
struct eb_exchange {
    const struct ebi_question *question;
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle;
    bool busy, answered, finding_mac;
    bool more;       /* a poll left something that had come */
    uint32_t id;     /* of the question */
    uint64_t strays; /* datagrams that answer no question of it */
    uint64_t next_us, end_us, repeat_us;
    struct eb_link link; /* by frames */
    uint8_t mac[EB_MAC_BYTES];
};

/* SNMP v2c reads objects, DNS-SD the text record of the profile's service; PROFINET DCP reads, names,
 * addresses and finds stations and lets them blink; ARP finds who has an address.  Each has one
 * kind of value: `item` of DCP is one of enum eb_dcp_item, `key` of DNS-SD that of the text record. */
extern const struct eb_access eb_access_snmp, eb_access_dns_sd, eb_access_dcp, eb_access_arp;
extern const struct eb_rows eb_rows_snmp, eb_rows_dns_sd, eb_rows_dcp;

#ifdef __cplusplus
}
#endif

#endif
