/* Digests: MD5 (RFC 1321) and SHA-256 (FIPS 180-4), as Digest access authentication wants them, and memory
 * that must not keep a secret. */
#ifndef EBI_DIGEST_H
#define EBI_DIGEST_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { EBI_DIGEST_BYTES_MAX = 32, EBI_DIGEST_TEXT_BYTES = 2 * EBI_DIGEST_BYTES_MAX + 1 };

struct ebi_digest {
    bool sha256; /* else MD5 */
    uint64_t size_bytes;
    uint32_t state[8];
    uint8_t block[64];
};

void ebi_digest_begin(struct ebi_digest *digest, bool sha256);
void ebi_digest_add(struct ebi_digest *digest, const void *bytes, size_t size);
void ebi_digest_add_text(struct ebi_digest *digest, const char *text);
/* In hexadecimal digits, lower case; the digest is wiped. */
void ebi_digest_end(struct ebi_digest *digest, char text[EBI_DIGEST_TEXT_BYTES]);

/* Overwrites memory, whatever a compiler thinks of it. */
void ebi_wipe(void *memory, size_t size);

#endif
