/* What was written, read back by TFTP: the part of the TFTP server that sends. */
#ifndef EBI_SIM_PULL_H
#define EBI_SIM_PULL_H

#include "device.h"

/* False: it is not for that. */
bool ebi_sim_pull_request(struct ebi_sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                          size_t size);
void ebi_sim_pull_receive(struct ebi_sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                          size_t size);
void ebi_sim_pull_tick(struct ebi_sim_device *device);
uint64_t ebi_sim_pull_deadline_us(const struct ebi_sim_device *device);
void ebi_sim_pull_end(struct ebi_sim_device *device);

#endif
