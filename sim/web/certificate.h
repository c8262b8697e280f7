/* The certificate of a simulated device's web server. */
#ifndef EBI_SIM_CERTIFICATE_H
#define EBI_SIM_CERTIFICATE_H

#include "device.h"

enum { EBI_SIM_PEM_BYTES = 4096 };

/* Its key and its certificate, signed by itself, as such devices make them at their first start; `second`:
 * those after a factory reset.  Kept in the world's state directory where it has one.  False: they cannot be
 * made, or kept. */
bool ebi_sim_certificate(const struct ebi_sim_device *device, bool second, char pem[EBI_SIM_PEM_BYTES]);

#endif
