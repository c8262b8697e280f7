/* DNS messages for DNS-SD over multicast (RFC 1035, 6762, 6763): writing questions, reading answers.
 * Pure functions; nothing in a message is believed before it was checked. */
#ifndef EINBAU_DNS_SD_H
#define EINBAU_DNS_SD_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_DNS_SD_PORT = 5353,
    EB_DNS_NAME_BYTES = 256, /* as text: labels with dots between them */
    EB_DNS_MESSAGE_BYTES = 1500
};

#define EB_DNS_SD_SERVICES "_services._dns-sd._udp.local" /* RFC 6763 section 9 */

enum eb_dns_type { EB_DNS_A = 1, EB_DNS_PTR = 12, EB_DNS_TXT = 16, EB_DNS_AAAA = 28, EB_DNS_SRV = 33 };

/* A message with questions being written. */
struct eb_dns_questions {
    uint8_t *bytes;
    size_t cap, size;
};

/* Begins a query in `bytes`; `id` 0 where it is asked from port 5353. */
void eb_dns_begin(struct eb_dns_questions *questions, uint8_t *bytes, size_t cap, uint16_t id);
/* Adds a question; false where it does not fit or `name` is none.  In a label '\' takes the next character as
 * it is: the dots of an instance's name.  `unicast`: the answer may come to the asker alone. */
bool eb_dns_ask(struct eb_dns_questions *questions, const char *name, enum eb_dns_type type, bool unicast);

/* A message being read. */
struct eb_dns_reader {
    const uint8_t *bytes;
    size_t size, at;
    unsigned left; /* records */
    uint16_t id;
    bool damaged; /* ended before its end */
};

/* One resource record of a message; names are as text. */
struct eb_dns_record {
    char name[EB_DNS_NAME_BYTES]; /* as eb_dns_ask takes it; no control characters, but any byte from 80h */
    uint16_t type;
    uint32_t ttl_s;      /* 0: goodbye */
    const uint8_t *data; /* in the message */
    size_t size;
};

/* Begins with the head of a message and passes over its questions; false where it is no answer. */
bool eb_dns_open(struct eb_dns_reader *reader, const uint8_t *bytes, size_t size);
/* The next record of whatever section; false at the end, or where the message is damaged. */
bool eb_dns_next(struct eb_dns_reader *reader, struct eb_dns_record *record);
/* The name inside a PTR record, or the target of an SRV record. */
bool eb_dns_target(const struct eb_dns_reader *reader, const struct eb_dns_record *record,
                   char name[EB_DNS_NAME_BYTES]);
/* The next "key=value" of a TXT record, printable; `*at` begins with 0.  False at the end. */
bool eb_dns_text(const struct eb_dns_record *record, size_t *at, char *text, size_t cap);
/* Whether a name stands directly below another: "X._pa._tcp.local" below "_pa._tcp.local"; upper and lower
 * case are the same (RFC 1035 section 2.3.3). */
bool eb_dns_is_below(const char *name, const char *parent);
/* The first label of a name without its escapes: an instance's own name. */
void eb_dns_first_label(const char *name, char *label, size_t cap);

#ifdef __cplusplus
}
#endif

#endif
