#include "certificate.h"
#include "world.h"

#include <fcntl.h>
#include <gnutls/crypto.h>
#include <gnutls/x509.h>
#include <stdio.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { YEARS_S = 10 * 365 * 86400 };

static bool sign(const struct ebi_sim_device *d, gnutls_x509_privkey_t key, gnutls_x509_crt_t crt)
{
    uint8_t serial[16];
    time_t now = time(NULL);
    const char *maker = d->identity.maker;
    gnutls_rnd(GNUTLS_RND_NONCE, serial, sizeof serial);
    serial[0] &= 0x7F;
    return gnutls_x509_crt_set_version(crt, 3) == 0 &&
           gnutls_x509_crt_set_serial(crt, serial, sizeof serial) == 0 &&
           gnutls_x509_crt_set_activation_time(crt, now - 86400) == 0 &&
           gnutls_x509_crt_set_expiration_time(crt, now + YEARS_S) == 0 &&
           gnutls_x509_crt_set_dn_by_oid(crt, GNUTLS_OID_X520_COMMON_NAME, 0, d->name,
                                         (unsigned)strlen(d->name)) == 0 &&
           (maker[0] == '\0' || gnutls_x509_crt_set_dn_by_oid(crt, GNUTLS_OID_X520_ORGANIZATION_NAME, 0,
                                                              maker, (unsigned)strlen(maker)) == 0) &&
           gnutls_x509_crt_set_key(crt, key) == 0 &&
           gnutls_x509_crt_sign2(crt, crt, key, GNUTLS_DIG_SHA256, 0) == 0;
}

static bool make(const struct ebi_sim_device *d, char pem[EBI_SIM_PEM_BYTES])
{
    gnutls_x509_privkey_t key = NULL;
    gnutls_x509_crt_t crt = NULL;
    size_t key_bytes = EBI_SIM_PEM_BYTES / 2;
    size_t bytes = EBI_SIM_PEM_BYTES / 2;
    const unsigned bits = GNUTLS_CURVE_TO_BITS(GNUTLS_ECC_CURVE_SECP256R1);
    bool made = gnutls_x509_privkey_init(&key) == 0 && gnutls_x509_crt_init(&crt) == 0 &&
                gnutls_x509_privkey_generate(key, GNUTLS_PK_ECDSA, bits, 0) == 0 && sign(d, key, crt) &&
                gnutls_x509_privkey_export(key, GNUTLS_X509_FMT_PEM, pem, &key_bytes) == 0 &&
                gnutls_x509_crt_export(crt, GNUTLS_X509_FMT_PEM, pem + strlen(pem), &bytes) == 0;
    if (crt != NULL)
        gnutls_x509_crt_deinit(crt);
    if (key != NULL)
        gnutls_x509_privkey_deinit(key);
    return made;
}

bool ebi_sim_certificate(const struct ebi_sim_device *d, bool second, char pem[EBI_SIM_PEM_BYTES])
{
    char path[EB_PATH_BYTES + EB_NAME_BYTES + 16];
    bool kept = d->sim->state_dir[0] != '\0';
    memset(pem, 0, EBI_SIM_PEM_BYTES);
    snprintf(path, sizeof path, "%s/%s%s.pem", d->sim->state_dir, d->name, second ? "-2" : "");
    int fd = kept ? open(path, O_RDONLY | O_CLOEXEC) : -1;
    bool known = fd >= 0 && read(fd, pem, EBI_SIM_PEM_BYTES - 1) > 0;
    if (fd >= 0)
        close(fd);
    if (known)
        return true;
    if (!make(d, pem))
        return false;
    fd = kept ? open(path, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600) : -1;
    bool written = !kept || (fd >= 0 && write(fd, pem, strlen(pem)) == (ssize_t)strlen(pem));
    if (fd >= 0)
        close(fd);
    return written;
}
