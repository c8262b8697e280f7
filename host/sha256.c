#include "sha256.h"

#include <openssl/evp.h>
#include <stdlib.h>

static EVP_MD *method;

void ebi_sha256_ready(void)
{
    /* The configuration of this machine does not matter here, and is not read. */
    if (method == NULL && OPENSSL_init_crypto(OPENSSL_INIT_NO_LOAD_CONFIG, NULL) == 1)
        method = EVP_MD_fetch(NULL, "SHA256", NULL);
    if (method == NULL)
        abort();
}

void ebi_sha256_begin(struct ebi_sha256 *sha)
{
    ebi_sha256_ready();
    sha->state = EVP_MD_CTX_new();
    if (sha->state == NULL || EVP_DigestInit_ex2(sha->state, method, NULL) != 1)
        abort();
}

void ebi_sha256_add(struct ebi_sha256 *sha, const void *bytes, size_t size)
{
    if (EVP_DigestUpdate(sha->state, bytes, size) != 1)
        abort();
}

void ebi_sha256_end(struct ebi_sha256 *sha, uint8_t digest[EB_SHA256_BYTES])
{
    if (digest != NULL && EVP_DigestFinal_ex(sha->state, digest, NULL) != 1)
        abort();
    EVP_MD_CTX_free(sha->state);
    sha->state = NULL;
}
