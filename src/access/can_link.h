/* What the accesses over a CAN bus share: the handle, frames to and from an engine, values. */
#ifndef EBI_CAN_LINK_H
#define EBI_CAN_LINK_H

#include "access/access.h"
#include "einbau/access/can.h"

enum { EBI_CAN_BURST = 64, EBI_LOOK_US = 100000, EBI_REOPEN_US = 200000 };

/* The engine that an access drives; `self` is its context. */
struct ebi_can_engine {
    void (*receive)(void *self, const struct eb_can_frame *frame, uint64_t now_us);
    void (*tick)(void *self, uint64_t now_us);
    size_t (*give)(void *self, struct eb_can_frame *frames, size_t cap, bool all_out, uint64_t now_us);
    void (*taken)(void *self, size_t count, uint64_t now_us);
};

/* Begins an operation.  While a restart is looked for the adapter stays open, so that nothing is missed that
 * the device says of its own accord. */
void ebi_can_begin(struct eb_can_link *link, const struct eb_operation *operation, uint8_t move,
                   uint64_t now_us);
void ebi_can_init(struct eb_can_link *link, struct eb_contact *contact);
/* Moves what can be moved: EB_OK, or EB_UNREACHABLE while there is no adapter; it is opened again.  After a
 * bus-off, or where only errors are on the bus, EB_IO: the operation must end with ebi_can_end_off_bus. */
enum eb_status ebi_can_exchange(struct eb_can_link *link, void *self, const struct ebi_can_engine *engine,
                                uint32_t id, uint32_t mask, uint64_t now_us);
void ebi_can_close(struct eb_can_link *link);
/* The same move again a little later; gives EB_PENDING. */
enum eb_status ebi_can_pause(struct eb_can_link *link, uint64_t us, uint64_t now_us);
/* The end, at the current move; `where` says in words what each is. */
enum eb_status ebi_can_end_with(struct eb_can_link *link, const char *const *where,
                                const struct eb_error *error);
enum eb_status ebi_can_end_saying(struct eb_can_link *link, const char *const *where, enum eb_status status,
                                  const char *text);
enum eb_status ebi_can_end_at(struct eb_can_link *link, enum eb_status status, const char *where);
enum eb_status ebi_can_end_well(struct eb_can_link *link);
/* Another serial number than the program's: both are named, so that a label can be compared. */
enum eb_status ebi_can_end_other(struct eb_can_link *link, const char *const *where);
enum eb_status ebi_can_end_off_bus(struct eb_can_link *link);
/* When the operation wants to go on; `engine_us`: when its engine does. */
uint64_t ebi_can_deadline_us(const struct eb_can_link *link, uint64_t engine_us);
bool ebi_can_all_out(const struct eb_can_link *link);

/* Whether what was read is of the very device that was met first. */
bool ebi_can_same_serial(struct eb_can_link *link);

#endif
