/* A simulated manager of a CANopen network: what other files of a device need of it. */
#ifndef EBI_SIM_MANAGER_H
#define EBI_SIM_MANAGER_H

#include "device.h"

#include <jansson.h>

enum { EBI_SIM_MEMBERS_MAX = 16 };

/* A frame of its bus, while it is alive. */
void ebi_sim_manager_frame(struct ebi_sim_device *device, const struct eb_can_frame *frame);

/* Its objects: whether it has one; its bytes, or 0 with an abort code; written, 0 or an abort code. */
bool ebi_sim_manager_has(const struct ebi_sim_device *device, uint16_t index);
size_t ebi_sim_manager_read(const struct ebi_sim_device *device, uint16_t index, uint8_t sub, uint8_t *bytes,
                            uint32_t *error);
uint32_t ebi_sim_manager_write(struct ebi_sim_device *device, uint16_t index, uint8_t sub,
                               const uint8_t *bytes, size_t size);
/* Whether it does not answer the request that it has just taken up. */
bool ebi_sim_manager_deaf(struct ebi_sim_device *device);

/* What is true of a member; false: it has none. */
bool ebi_sim_manager_tell(const struct ebi_sim_device *device, uint8_t node, struct eb_sim_member *to);

/* What a state directory remembers of it; NULL: it is no manager. */
json_t *ebi_sim_manager_save(const struct ebi_sim_device *device);
void ebi_sim_manager_load(struct ebi_sim_device *device, const json_t *from);

#endif
