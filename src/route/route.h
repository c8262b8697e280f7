/* The way to a device over IP: identity and registers by Modbus/TCP, images by TFTP.  One operation at a
 * time; each ends with its connection closed. */
#ifndef EBI_ROUTE_H
#define EBI_ROUTE_H

#include "einbau/run.h"

enum { EBI_EXCHANGE_PATIENCE_US = 3000000 }; /* for one Modbus exchange, connecting included */

void ebi_route_init(struct ebi_route *route, const struct eb_run_config *config, void *owner);

/* Each begins an operation; the first poll may come at once.  `end_us`: when its patience is over. */
void ebi_route_identify(struct ebi_route *route, uint64_t now_us);
void ebi_route_step(struct ebi_route *route, const struct eb_step *step, uint64_t now_us);
void ebi_route_send(struct ebi_route *route, const struct eb_run_item *item, uint64_t now_us);

/* EB_PENDING while it goes on; then EB_OK, or the status that `error` holds. */
enum eb_status ebi_route_poll(struct ebi_route *route, uint64_t now_us);
uint64_t ebi_route_deadline_us(const struct ebi_route *route);

/* Aborts a transfer by the protocol's own means (poll on until it ends); anything else just goes on. */
void ebi_route_stop(struct ebi_route *route);

/* Closes whatever is open. */
void ebi_route_close(struct ebi_route *route);

/* The text that a profile's value has in what was identified; false where it has none. */
bool ebi_route_value(const struct ebi_route *route, const struct eb_value *value, char *text, size_t cap);

#endif
