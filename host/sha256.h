/* SHA-256 (FIPS 180-4) of files: of all that is read here most of the time goes into it. */
#ifndef EBI_SHA256_H
#define EBI_SHA256_H

#include "einbau/host.h"

/* One digest under way. */
struct ebi_sha256 {
    void *state;
};

/* What the library needs once for the process; before a child without rights is made that computes one. */
void ebi_sha256_ready(void);
void ebi_sha256_begin(struct ebi_sha256 *sha);
void ebi_sha256_add(struct ebi_sha256 *sha, const void *bytes, size_t size);
/* Gives the digest, unless that is NULL, and frees what belongs to it. */
void ebi_sha256_end(struct ebi_sha256 *sha, uint8_t digest[EB_SHA256_BYTES]);

#endif
