#ifndef EBI_SIM_VHCI_H
#define EBI_SIM_VHCI_H

#include "world.h"

/* Plugs the world's USB devices into the kernel's virtual host controller (vhci-hcd), each into a socket of
 * its own; NULL with `problem` filled where there is none, or no right to it. */
struct ebi_sim_vhci *ebi_sim_vhci_open(struct eb_sim *sim, uint64_t (*now_us)(void *self), void *self,
                                       struct eb_problem *problem);
void ebi_sim_vhci_close(struct ebi_sim_vhci *vhci);

/* Can be read when the kernel wants something; then, and when its time has come, it works. */
int ebi_sim_vhci_fd(const struct ebi_sim_vhci *vhci);
uint64_t ebi_sim_vhci_deadline_us(const struct ebi_sim_vhci *vhci);
void ebi_sim_vhci_work(struct ebi_sim_vhci *vhci);

#endif
