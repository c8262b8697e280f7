#ifndef EBI_SIM_PTY_ADAPTER_H
#define EBI_SIM_PTY_ADAPTER_H

#include "world.h"

/* Opens a pseudo-terminal for each adapter of each bus, and joins the devices to their buses; NULL where the
 * system gives none. */
struct ebi_sim_ptys *ebi_sim_ptys_open(struct eb_sim *sim, uint64_t (*now_us)(void *self), void *self);
void ebi_sim_ptys_close(struct ebi_sim_ptys *ptys);

size_t ebi_sim_ptys_count(const struct ebi_sim_ptys *ptys);
int ebi_sim_ptys_fd(const struct ebi_sim_ptys *ptys, size_t index);
/* Takes what came. */
void ebi_sim_ptys_read(struct ebi_sim_ptys *ptys, size_t index);
/* The file of a bus's first, second ... adapter, or NULL. */
const char *ebi_sim_ptys_path(const struct ebi_sim_ptys *ptys, const char *bus, size_t which);

#endif
