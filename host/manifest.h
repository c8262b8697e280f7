/* Manifests: what a package says of its images. */
#ifndef EBI_MANIFEST_H
#define EBI_MANIFEST_H

#include "einbau/host.h"

/* Whether a text that ends with NUL says of itself that it is a manifest; whether it is a good one, reading
 * it tells. */
bool ebi_manifest_looks_so(const char *bytes);

#endif
