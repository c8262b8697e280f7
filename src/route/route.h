/* The ways to a device.  One operation at a time; each ends with its connection closed. */
#ifndef EBI_ROUTE_H
#define EBI_ROUTE_H

#include "einbau/run.h"

/* A peer that sends without end must not keep the others from their turn: so much is taken in one poll, and
 * the rest in the next one, which is due at once. */
enum { EBI_READS_AT_ONCE = 64 };

/* What a way must be able to do.  Each begins an operation; the first poll may come at once. */
struct eb_route {
    void (*identify)(struct ebi_route *route, uint64_t now_us);
    void (*send)(struct ebi_route *route, const struct eb_run_item *item, uint64_t now_us);
    /* Makes the device take up what was sent; undoes what sending prepared.  NULL: there is nothing to do. */
    void (*activate)(struct ebi_route *route, uint64_t now_us);
    void (*undo)(struct ebi_route *route, uint64_t now_us);
    /* One step of the profile; NULL: it has none. */
    void (*step)(struct ebi_route *route, const struct eb_step *step, uint64_t now_us);
    /* Goes on with the send that an identify has interrupted (route->keep_send); NULL: none can be. */
    void (*resume)(struct ebi_route *route, uint64_t now_us);
    /* EB_PENDING while it goes on; then EB_OK, or the status that `error` holds. */
    enum eb_status (*poll)(struct ebi_route *route, uint64_t now_us);
    uint64_t (*deadline_us)(const struct ebi_route *route);
    /* Aborts a transfer by the protocol's own means (poll on until it ends); anything else just goes on. */
    void (*stop)(struct ebi_route *route);
    /* Closes whatever is open. */
    void (*close)(struct ebi_route *route);
};

/* From now on what shows a restart is looked for: ebi_route.restart. */
void ebi_route_watch(struct ebi_route *route);
/* The first proof counts. */
void ebi_route_restarted(struct ebi_route *route, enum eb_restart proof);

void ebi_route_init(struct ebi_route *route, const struct eb_run_config *config, void *owner);

/* The end of an operation. */
enum eb_status ebi_route_end(struct ebi_route *route, const struct eb_error *error);
enum eb_status ebi_route_end_simple(struct ebi_route *route, enum eb_status status, const char *where);

/* The text of one of the profile's items as it was read, of the first source that has one; false where none
 * has. */
bool ebi_route_value(const struct ebi_route *route, const struct eb_values *values, char *text, size_t cap);
/* Leaves what stands behind the mark; without it nothing. */
void ebi_route_cut_before(char *text, const char *mark);

/* The value that is being read, of this kind, from route->value on; NULL: there is none left.  One that
 * was read already, for another item, is copied on the way. */
const struct eb_value *ebi_value_next(struct ebi_route *route, enum eb_value_kind kind);
/* Takes what was read of it, and goes on to the next. */
void ebi_value_take(struct ebi_route *route, const struct eb_value *value, const uint8_t *bytes, size_t size);

/* --- reading.c: what is read by one protocol of IP after the other --- */

/* The next kind of value behind `after` that the profile names, EB_VALUE_NONE at the end. */
unsigned ebi_reading_next(const struct ebi_route *route, unsigned after);
/* Begins the exchange for route->reading, any but Modbus. */
void ebi_reading_begin(struct ebi_route *route, uint64_t now_us);
/* Takes the texts out of what was answered. */
void ebi_reading_take(struct ebi_route *route);
/* Whether an item is lost: none of its sources has a text, and not all of them have answered or will. */
bool ebi_reading_failed(const struct ebi_route *route);

#endif
