/* What the ways over a CAN bus share: the handle, frames to and from an engine, values. */
#ifndef EBI_CAN_ROUTE_H
#define EBI_CAN_ROUTE_H

#include "route/route.h"

enum { EBI_CAN_BURST = 64, EBI_LOOK_US = 100000, EBI_REOPEN_US = 200000 };

/* The engine that a way drives. */
struct ebi_can_engine {
    void (*receive)(struct ebi_route *route, const struct eb_can_frame *frame, uint64_t now_us);
    void (*tick)(struct ebi_route *route, uint64_t now_us);
    size_t (*give)(struct ebi_route *route, struct eb_can_frame *frames, size_t cap, bool all_out,
                   uint64_t now_us);
    void (*taken)(struct ebi_route *route, size_t count, uint64_t now_us);
};

/* Begins an operation.  While a restart is looked for the adapter stays open, so that nothing is missed that
 * the device says of its own accord. */
void ebi_can_begin(struct ebi_route *route, uint8_t move, uint64_t now_us);
/* Moves what can be moved: EB_OK, or EB_UNREACHABLE while there is no adapter; it is opened again.  After a
 * bus-off, or where only errors are on the bus, EB_IO: the operation must end with ebi_can_end_off_bus. */
enum eb_status ebi_can_exchange(struct ebi_route *route, const struct ebi_can_engine *engine, uint32_t id,
                                uint32_t mask, uint64_t now_us);
void ebi_can_close(struct ebi_route *route);
/* The same move again a little later; gives EB_PENDING. */
enum eb_status ebi_can_pause(struct ebi_route *route, uint64_t us, uint64_t now_us);
/* The end, at the current move; `where` says in words what each is. */
enum eb_status ebi_can_end_with(struct ebi_route *route, const char *const *where,
                                const struct eb_error *error);
enum eb_status ebi_can_end_saying(struct ebi_route *route, const char *const *where, enum eb_status status,
                                  const char *text);
enum eb_status ebi_can_end_well(struct ebi_route *route);
/* Another serial number than the program's: both are named, so that a label can be compared. */
enum eb_status ebi_can_end_other(struct ebi_route *route, const char *const *where);
enum eb_status ebi_can_end_off_bus(struct ebi_route *route);
bool ebi_can_all_out(const struct ebi_route *route);

/* Whether what was read is of the very device that was met first. */
bool ebi_can_same_serial(struct ebi_route *route);

#endif
