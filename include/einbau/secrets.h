/* Users and passwords of devices, in one encrypted file of this user's (libsodium: XChaCha20-Poly1305; the
 * key comes from a passphrase by Argon2id, or from a key file). */
#ifndef EINBAU_SECRETS_H
#define EINBAU_SECRETS_H

#include "einbau/host.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_PASSPHRASE_BYTES = 256 };

/* Where they are kept, and where the key comes from. */
struct eb_secrets_config {
    const char *folder;
    const char *key_file; /* 32 bytes, in base64; made where it is missing and something is to be kept; NULL:
                             a passphrase */
    /* Fills in the passphrase; `fresh`: one is chosen now.  False: none can be had, `problem` says why. */
    bool (*passphrase)(void *context, bool fresh, char to[EB_PASSPHRASE_BYTES], struct eb_problem *problem);
    void *context;
};

/* Whose user and password they are: of one device of a site, or of all devices of a profile. */
struct eb_secret_name {
    const char *site, *device; /* NULL: of a profile */
    const char *profile;
};

struct eb_secrets;

/* Whether the folder has such a file. */
bool eb_secrets_there(const char *folder);
/* Opens the file, or begins an empty one.  NULL with `problem` filled: a wrong passphrase or key file, or the
 * file is damaged.  The opened texts are locked in memory and wiped by eb_secrets_close. */
EB_NODISCARD struct eb_secrets *eb_secrets_open(const struct eb_secrets_config *config,
                                                struct eb_problem *problem);
void eb_secrets_close(struct eb_secrets *secrets); /* NULL: nothing */

/* The entry of the device; where it has none, that of the profile.  False: there is none. */
bool eb_secret_find(const struct eb_secrets *secrets, const struct eb_secret_name *name,
                    char user[EB_HTTP_USER_BYTES], char password[EB_HTTP_PASSWORD_BYTES]);
/* Adds an entry, or takes the place of the one of the same name; drops one.  The file is written whole or not
 * at all.  False with `problem` filled. */
EB_NODISCARD bool eb_secret_set(struct eb_secrets *secrets, const struct eb_secret_name *name,
                                const char *user, const char *password, struct eb_problem *problem);
EB_NODISCARD bool eb_secret_drop(struct eb_secrets *secrets, const struct eb_secret_name *name,
                                 struct eb_problem *problem);
/* The entries, without their passwords: false behind the last.  The texts are valid until the next change. */
bool eb_secret_entry(const struct eb_secrets *secrets, size_t index, struct eb_secret_name *name,
                     const char **user);

#ifdef __cplusplus
}
#endif

#endif
