#include "image_file.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { VARIANT = sodium_base64_VARIANT_URLSAFE_NO_PADDING, KEY_FILE_BYTES = 4096, HEADER_BYTES = 512 };

_Static_assert(EB_KEY_BYTES == crypto_sign_PUBLICKEYBYTES, "a key of Ed25519");
_Static_assert(EB_KEY_TEXT_BYTES == sodium_base64_ENCODED_LEN(EB_KEY_BYTES, VARIANT), "and its text");

void eb_key_text(const struct eb_key *key, char text[EB_KEY_TEXT_BYTES])
{
    sodium_bin2base64(text, EB_KEY_TEXT_BYTES, key->bytes, sizeof key->bytes, VARIANT);
}

/* Base64url of exactly `size` bytes. */
static bool decode(const char *text, size_t length, uint8_t *to, size_t size)
{
    size_t have = 0;
    const char *end = NULL;
    return text != NULL && sodium_base642bin(to, size, text, length, NULL, &have, &end, VARIANT) == 0 &&
           have == size && end == text + length;
}

bool eb_key_parse(const char *text, struct eb_key *key)
{
    return decode(text, strlen(text), key->bytes, sizeof key->bytes);
}

/* --- files: JSON Web Keys (RFC 8037) ------------------------------------------------------------- */

static bool write_key(const char *path, mode_t mode, const char *x, const char *d, struct eb_problem *problem)
{
    json_t *root = json_pack("{s:s, s:s, s:s}", "kty", "OKP", "crv", "Ed25519", "x", x);
    if (d != NULL)
        json_object_set_new(root, "d", json_string(d));
    char *text = json_dumps(root, JSON_INDENT(2));
    int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
    bool ok = text != NULL && fd >= 0 && dprintf(fd, "%s\n", text) > 0 && fsync(fd) == 0;
    if (!ok)
        snprintf(problem->text, sizeof problem->text, "%s: cannot be written: %s%s", path, strerror(errno),
                 errno == EEXIST ? ". A key that is there is never written over: give another name" : "");
    if (fd >= 0)
        close(fd);
    if (text != NULL)
        sodium_memzero(text, strlen(text));
    free(text);
    json_decref(root);
    return ok;
}

bool eb_key_new(const char *name, struct eb_key *key, struct eb_problem *problem)
{
    uint8_t secret[crypto_sign_SECRETKEYBYTES];
    uint8_t seed[crypto_sign_SEEDBYTES];
    char x[EB_KEY_TEXT_BYTES];
    char d[EB_KEY_TEXT_BYTES];
    char path[EB_PATH_BYTES + 8];
    if (sodium_init() < 0 || crypto_sign_keypair(key->bytes, secret) != 0 ||
        crypto_sign_ed25519_sk_to_seed(seed, secret) != 0) {
        snprintf(problem->text, sizeof problem->text,
                 "found no source of random numbers, expected the system's");
        return false;
    }
    eb_key_text(key, x);
    sodium_bin2base64(d, sizeof d, seed, sizeof seed, VARIANT);
    snprintf(path, sizeof path, "%s.key", name);
    bool ok = write_key(path, 0600, x, d, problem);
    if (ok) {
        char public_path[EB_PATH_BYTES + 8];
        snprintf(public_path, sizeof public_path, "%s.pub", name);
        ok = write_key(public_path, 0644, x, NULL, problem);
        if (!ok)
            unlink(path);
    }
    sodium_memzero(secret, sizeof secret);
    sodium_memzero(seed, sizeof seed);
    sodium_memzero(d, sizeof d);
    return ok;
}

static bool read_key(const char *path, struct eb_key *key, uint8_t *seed, struct eb_problem *problem)
{
    size_t size = 0;
    uint8_t *bytes = ebi_file_read(path, KEY_FILE_BYTES, &size, problem);
    if (bytes == NULL)
        return false;
    json_t *root = json_loadb((const char *)bytes, size, JSON_REJECT_DUPLICATES, NULL);
    const char *kty = json_string_value(json_object_get(root, "kty"));
    const char *crv = json_string_value(json_object_get(root, "crv"));
    const char *x = json_string_value(json_object_get(root, "x"));
    const char *d = json_string_value(json_object_get(root, "d"));
    bool ok = kty != NULL && crv != NULL && x != NULL && strcmp(kty, "OKP") == 0 &&
              strcmp(crv, "Ed25519") == 0 && eb_key_parse(x, key);
    if (!ok)
        snprintf(problem->text, sizeof problem->text,
                 "%s: found no Ed25519 key as a JSON Web Key, expected a file that 'einbau key new' wrote",
                 path);
    if (ok && seed != NULL) {
        ok = d != NULL && decode(d, strlen(d), seed, crypto_sign_SEEDBYTES);
        if (!ok)
            snprintf(problem->text, sizeof problem->text,
                     "%s: found no private part, expected the .key file, not the .pub file", path);
    }
    json_decref(root);
    sodium_memzero(bytes, size);
    free(bytes);
    return ok;
}

bool eb_key_read(const char *path, struct eb_key *key, struct eb_problem *problem)
{
    return read_key(path, key, NULL, problem);
}

/* --- detached signatures: JSON Web Signature, RFC 7515 appendix F; EdDSA by RFC 8037 section 3.1 --- */

/* What is signed: the header, a dot, and the payload in base64url (RFC 7515 section 5.1). */
static char *signing_input(const char *header, size_t header_size, const void *payload, size_t payload_size,
                           size_t *size)
{
    size_t cap = sodium_base64_encoded_len(payload_size, VARIANT);
    char *input = malloc(header_size + 1 + cap);
    if (input == NULL)
        return NULL;
    memcpy(input, header, header_size);
    input[header_size] = '.';
    sodium_bin2base64(input + header_size + 1, cap, payload, payload_size, VARIANT);
    *size = header_size + cap; /* without the NUL */
    return input;
}

char *eb_manifest_sign(const char *key_path, const void *manifest, size_t size, struct eb_problem *problem)
{
    struct eb_key key;
    struct eb_key told;
    uint8_t seed[crypto_sign_SEEDBYTES];
    uint8_t secret[crypto_sign_SECRETKEYBYTES];
    uint8_t signature[crypto_sign_BYTES];
    char kid[EB_KEY_TEXT_BYTES];
    char header[HEADER_BYTES];
    char encoded[HEADER_BYTES * 2];
    size_t input_size = 0;
    char *jws = NULL;
    if (sodium_init() < 0 || !read_key(key_path, &told, seed, problem))
        return NULL;
    crypto_sign_seed_keypair(key.bytes, secret, seed);
    sodium_memzero(seed, sizeof seed);
    eb_key_text(&key, kid);
    snprintf(header, sizeof header, "{\"alg\":\"EdDSA\",\"kid\":\"%s\"}", kid);
    sodium_bin2base64(encoded, sizeof encoded, (const uint8_t *)header, strlen(header), VARIANT);
    char *input = signing_input(encoded, strlen(encoded), manifest, size, &input_size);
    if (input != NULL && memcmp(key.bytes, told.bytes, sizeof key.bytes) == 0 &&
        crypto_sign_detached(signature, NULL, (const uint8_t *)input, input_size, secret) == 0) {
        char text[sodium_base64_ENCODED_LEN(crypto_sign_BYTES, VARIANT)];
        size_t cap = strlen(encoded) + sizeof text + 4;
        sodium_bin2base64(text, sizeof text, signature, sizeof signature, VARIANT);
        jws = malloc(cap);
        if (jws != NULL)
            snprintf(jws, cap, "%s..%s\n", encoded, text);
    } else {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found a private part that does not belong to the public one, expected a key pair",
                 key_path);
    }
    sodium_memzero(secret, sizeof secret);
    free(input);
    return jws;
}

/* The header of a signature: EdDSA and nothing that would have to be understood (RFC 7515 section 4.1.11); a
 * key that the signature itself brings along is no trusted one. */
static bool header_fine(const char *encoded, size_t size, char kid[EB_KEY_TEXT_BYTES])
{
    char text[HEADER_BYTES + 1];
    size_t have = 0;
    const char *end = NULL;
    kid[0] = '\0';
    if (size > HEADER_BYTES ||
        sodium_base642bin((uint8_t *)text, HEADER_BYTES, encoded, size, NULL, &have, &end, VARIANT) != 0 ||
        end != encoded + size)
        return false;
    json_t *header = json_loadb(text, have, JSON_REJECT_DUPLICATES, NULL);
    const char *alg = json_string_value(json_object_get(header, "alg"));
    const char *name = json_string_value(json_object_get(header, "kid"));
    bool fine = alg != NULL && strcmp(alg, "EdDSA") == 0 && json_object_get(header, "crit") == NULL &&
                json_object_get(header, "jwk") == NULL && json_object_get(header, "jku") == NULL &&
                json_object_get(header, "b64") == NULL;
    if (fine && name != NULL)
        eb_text_copy(kid, EB_KEY_TEXT_BYTES, name);
    json_decref(header);
    return fine;
}

bool eb_signature_key(const char *jws, struct eb_key *key)
{
    char kid[EB_KEY_TEXT_BYTES];
    return header_fine(jws, strcspn(jws, "."), kid) && eb_key_parse(kid, key);
}

static bool signed_by(const struct eb_key *key, const uint8_t *signature, const char *input, size_t size)
{
    return crypto_sign_verify_detached(signature, (const uint8_t *)input, size, key->bytes) == 0;
}

enum eb_signature eb_manifest_verify(const void *manifest, size_t size, const char *jws,
                                     const struct eb_trust *trust)
{
    uint8_t signature[crypto_sign_BYTES];
    char kid[EB_KEY_TEXT_BYTES];
    size_t input_size = 0;
    if (trust == NULL || !trust->asked)
        return EB_SIGNATURE_NOT_ASKED;
    if (jws == NULL || jws[0] == '\0' || sodium_init() < 0)
        return EB_SIGNATURE_MISSING;
    size_t header_size = strcspn(jws, ".");
    const char *last = jws + header_size;
    size_t length = strlen(jws);
    while (length > 0 && (jws[length - 1] == '\n' || jws[length - 1] == '\r'))
        length--;
    if (strncmp(last, "..", 2) != 0 || !header_fine(jws, header_size, kid) ||
        !decode(last + 2, (size_t)(jws + length - last - 2), signature, sizeof signature))
        return EB_SIGNATURE_WRONG;
    char *input = signing_input(jws, header_size, manifest, size, &input_size);
    enum eb_signature result = EB_SIGNATURE_STRANGE;
    for (size_t i = 0; i < trust->count && input != NULL && result != EB_SIGNATURE_TRUSTED; i++) {
        char text[EB_KEY_TEXT_BYTES];
        eb_key_text(&trust->keys[i], text);
        if (signed_by(&trust->keys[i], signature, input, input_size))
            result = EB_SIGNATURE_TRUSTED;
        else if (strcmp(text, kid) == 0)
            result = EB_SIGNATURE_WRONG;
    }
    for (size_t i = 0; i < trust->dead_count && input != NULL && result != EB_SIGNATURE_TRUSTED; i++) {
        if (signed_by(&trust->dead[i], signature, input, input_size))
            result = EB_SIGNATURE_DEAD;
    }
    free(input);
    return result;
}

/* --- which keys count ---------------------------------------------------------------------------- */

static bool listed(const struct eb_key *list, size_t count, const struct eb_key *key)
{
    for (size_t i = 0; i < count; i++) {
        if (memcmp(list[i].bytes, key->bytes, sizeof key->bytes) == 0)
            return true;
    }
    return false;
}

static void trust_key(struct eb_trust *trust, const struct eb_key *key)
{
    trust->asked = true;
    if (trust->count < sizeof trust->keys / sizeof trust->keys[0] &&
        !listed(trust->keys, trust->count, key) && !listed(trust->dead, trust->dead_count, key))
        trust->keys[trust->count++] = *key;
}

/* Not accepted any more, even if it is listed elsewhere. */
static void bury_key(struct eb_trust *trust, const struct eb_key *key)
{
    size_t kept = 0;
    trust->asked = true;
    for (size_t i = 0; i < trust->count; i++) {
        if (memcmp(trust->keys[i].bytes, key->bytes, sizeof key->bytes) != 0)
            trust->keys[kept++] = trust->keys[i];
    }
    trust->count = kept;
    if (trust->dead_count < sizeof trust->dead / sizeof trust->dead[0] &&
        !listed(trust->dead, trust->dead_count, key))
        trust->dead[trust->dead_count++] = *key;
}

void eb_trust_site(struct eb_trust *trust, const struct eb_site *site, const char *today)
{
    char by_clock[EB_DATE_BYTES];
    time_t now = time(NULL);
    struct tm parts;
    strftime(by_clock, sizeof by_clock, "%Y-%m-%d", localtime_r(&now, &parts));
    today = today != NULL ? today : by_clock;
    for (size_t i = 0; i < site->revoked_count; i++)
        bury_key(trust, &site->revoked[i]);
    for (size_t i = 0; i < site->key_count; i++) {
        const struct eb_site_key *key = &site->keys[i];
        if (key->until[0] != '\0' && strcmp(today, key->until) > 0)
            bury_key(trust, &key->key);
        else
            trust_key(trust, &key->key);
    }
}

static bool is_public(const char *name)
{
    size_t length = strlen(name);
    return length >= 5 && strcmp(name + length - 4, ".pub") == 0;
}

bool eb_trust_folder(struct eb_trust *trust, const char *folder, struct eb_problem *problem)
{
    const struct dirent *entry;
    DIR *dir = opendir(folder);
    bool ok = true;
    if (dir == NULL && errno == ENOENT)
        return true;
    if (dir == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "the folder of trusted keys cannot be read: %s: %s. Nothing is trusted until it can", folder,
                 strerror(errno));
        return false;
    }
    while (ok && (entry = readdir(dir)) != NULL) {
        char path[EB_PATH_BYTES + 256];
        struct eb_problem why;
        struct eb_key key;
        if (!is_public(entry->d_name))
            continue;
        snprintf(path, sizeof path, "%s/%s", folder, entry->d_name);
        ok = eb_key_read(path, &key, &why);
        if (ok)
            trust_key(trust, &key);
        else
            snprintf(problem->text, sizeof problem->text,
                     "a trusted key cannot be read: %.1200s. Nothing is trusted until it can, or is removed",
                     why.text);
    }
    closedir(dir);
    return ok;
}

bool eb_key_trust(const char *folder, const char *public_key_path, struct eb_problem *problem)
{
    char name[EB_KEY_TEXT_BYTES + 8];
    char text[EB_KEY_TEXT_BYTES];
    char json[200];
    struct eb_key key;
    if (!eb_key_read(public_key_path, &key, problem) || !ebi_make_folders(folder, problem))
        return false;
    eb_key_text(&key, text);
    snprintf(name, sizeof name, "%s.pub", text);
    snprintf(json, sizeof json, "{\"kty\": \"OKP\", \"crv\": \"Ed25519\", \"x\": \"%s\"}\n", text);
    return eb_state_write(folder, name, json, strlen(json), problem);
}

bool eb_key_untrust(const char *folder, const char *name, struct eb_problem *problem)
{
    struct eb_key wanted;
    struct eb_problem unheard;
    const struct dirent *entry;
    bool is_text = eb_key_parse(name, &wanted);
    size_t removed = 0;
    if (!is_text && !eb_key_read(name, &wanted, problem))
        return false;
    DIR *dir = opendir(folder);
    while (dir != NULL && (entry = readdir(dir)) != NULL) {
        char path[EB_PATH_BYTES + 256];
        struct eb_key key;
        if (!is_public(entry->d_name))
            continue;
        snprintf(path, sizeof path, "%s/%s", folder, entry->d_name);
        if (eb_key_read(path, &key, &unheard) && memcmp(key.bytes, wanted.bytes, sizeof key.bytes) == 0)
            removed += unlink(path) == 0;
    }
    if (dir != NULL)
        closedir(dir);
    if (removed == 0)
        snprintf(problem->text, sizeof problem->text,
                 "%s: this key is not among those in %s; 'einbau key list' shows them", name, folder);
    return removed > 0;
}

void ebi_signer(enum eb_signature signature, const char *jws, char to[EB_KEY_TEXT_BYTES])
{
    struct eb_key key;
    to[0] = '\0';
    if (signature == EB_SIGNATURE_TRUSTED && eb_signature_key(jws, &key))
        eb_key_text(&key, to);
}
