/* A medium's files, whatever kind it is; for host/card alone. */
#ifndef EBI_CARD_CARD_H
#define EBI_CARD_CARD_H

#include "einbau/card.h"

/* The image that mtools are given: "PATH@@OFFSET". */
void ebi_medium_image(const struct eb_medium *medium, char text[EB_PATH_BYTES + 32]);

/* Size and digest of a file on the medium; false with `problem` filled: it cannot be read. */
bool ebi_medium_digest(const struct eb_medium *medium, const char *path, uint64_t *size_bytes,
                       uint8_t sha256[EB_SHA256_BYTES], struct eb_problem *problem);
/* Makes a folder in the top one; writes a file that is not there yet, with what stands in `fd`. */
bool ebi_medium_folder(const struct eb_medium *medium, const char *folder, struct eb_problem *problem);
bool ebi_medium_put(const struct eb_medium *medium, const char *path, int fd, struct eb_problem *problem);
/* Waits until all is on the medium, and forgets what is remembered of it, so that it is read from there next.
 */
bool ebi_medium_sync(const struct eb_medium *medium, struct eb_problem *problem);

#endif
