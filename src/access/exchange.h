/* One question to one device, by datagrams or frames, repeated until it is answered: everything that is asked
 * so may be said twice without harm. */
#ifndef EBI_EXCHANGE_H
#define EBI_EXCHANGE_H

#include "access/access.h"
#include "einbau/access/exchange.h"

enum { EBI_MESSAGE_BYTES = EB_FRAME_MAX_BYTES };

/* What is asked, and what is an answer. */
struct ebi_question {
    const struct eb_access *access;
    uint16_t udp_port; /* 0: by Ethernet frames */
    /* Writes the datagram or frame and gives its size; 0: nothing can be asked. */
    size_t (*write)(const struct eb_exchange *exchange, uint8_t *bytes, size_t cap);
    /* Takes what came from the device (datagrams) or from any one (frames).  EB_PENDING: it is no answer.
     * EB_PEER_ERROR: `error` is filled. */
    enum eb_status (*take)(struct eb_exchange *exchange, const uint8_t *bytes, size_t size,
                           struct eb_error *error);
};

/* The functions of an access that only asks such questions; `question` is the access's own. */
void ebi_exchange_init(struct eb_exchange *x, const struct ebi_question *question,
                       struct eb_contact *contact);
void ebi_exchange_begin(void *self, const struct eb_operation *operation, uint64_t now_us);
enum eb_status ebi_exchange_poll(void *self, uint64_t now_us);
uint64_t ebi_exchange_deadline_us(const void *self);
void ebi_exchange_close(void *self);

/* Adds one who answers to those that are collected. */
void ebi_exchange_collect(struct eb_exchange *x, const uint8_t *mac);

#endif
