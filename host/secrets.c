#include "einbau/secrets.h"
#include "image_file.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* The file: a line of JSON that says how the key is made, the nonce, and the entries, encrypted; the line is
 * authenticated with them.  An entry is five texts, each ended by NUL: site, device, profile, user, password.
 */

enum {
    TEXTS = 5,
    PLAIN_MAX = 1 << 18,
    NONCE = crypto_aead_xchacha20poly1305_ietf_NPUBBYTES,
    TAG = crypto_aead_xchacha20poly1305_ietf_ABYTES,
    KEY = crypto_aead_xchacha20poly1305_ietf_KEYBYTES,
    SALT = crypto_pwhash_SALTBYTES,
    OPERATIONS = 3,
    MEMORY_BYTES = 64 << 20,
    MEMORY_MOST = 1 << 30,
    OPERATIONS_MOST = 20
};
#define FILE_NAME "secrets"
#define FILE_KIND "secrets/1"

struct eb_secrets {
    char folder[EB_PATH_BYTES];
    bool by_passphrase;
    uint8_t salt[SALT];
    uint64_t operations, memory;
    uint8_t *key; /* in memory that is locked and guarded, like the next */
    char *plain;
    size_t size;
};

bool eb_secrets_there(const char *folder)
{
    char path[EB_PATH_BYTES + 16];
    snprintf(path, sizeof path, "%s/" FILE_NAME, folder);
    return access(path, F_OK) == 0;
}

void eb_secrets_close(struct eb_secrets *s)
{
    if (s == NULL)
        return;
    sodium_free(s->key);
    sodium_free(s->plain);
    free(s);
}

/* --- the key --------------------------------------------------------------------------------------- */

static bool make_key_file(const char *path, const uint8_t key[KEY], struct eb_problem *problem)
{
    char text[sodium_base64_ENCODED_LEN(KEY, sodium_base64_VARIANT_ORIGINAL)];
    int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
    sodium_bin2base64(text, sizeof text, key, KEY, sodium_base64_VARIANT_ORIGINAL);
    bool ok = fd >= 0 && dprintf(fd, "%s\n", text) > 0 && fsync(fd) == 0;
    if (!ok)
        snprintf(problem->text, sizeof problem->text, "%s: the key file cannot be written: %s", path,
                 strerror(errno));
    if (fd >= 0)
        close(fd);
    sodium_memzero(text, sizeof text);
    return ok;
}

static bool read_key_file(const char *path, bool make, uint8_t key[KEY], struct eb_problem *problem)
{
    char text[128] = "";
    struct stat info;
    size_t have = 0;
    const char *end = NULL;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0 && errno == ENOENT && make) {
        randombytes_buf(key, KEY);
        return make_key_file(path, key, problem);
    }
    if (fd < 0 || fstat(fd, &info) != 0) {
        snprintf(problem->text, sizeof problem->text, "%s: the key file cannot be opened: %s", path,
                 strerror(errno));
        return false;
    }
    if ((info.st_mode & 077) != 0) {
        close(fd);
        snprintf(problem->text, sizeof problem->text,
                 "%s: other users may read the key file; allow it to its owner only: chmod 600", path);
        return false;
    }
    ssize_t size = read(fd, text, sizeof text - 1);
    close(fd);
    bool ok = size > 0 &&
              sodium_base642bin(key, KEY, text, strcspn(text, "\r\n"), NULL, &have, &end,
                                sodium_base64_VARIANT_ORIGINAL) == 0 &&
              have == KEY;
    sodium_memzero(text, sizeof text);
    if (!ok)
        snprintf(problem->text, sizeof problem->text,
                 "%s: is no key file; expected 32 bytes in base64, as 'einbau secret set' writes them", path);
    return ok;
}

static bool make_key(struct eb_secrets *s, const struct eb_secrets_config *config, bool fresh,
                     struct eb_problem *problem)
{
    char *passphrase = sodium_malloc(EB_PASSPHRASE_BYTES);
    if (passphrase == NULL)
        return false;
    passphrase[0] = '\0';
    bool ok = config->passphrase != NULL && config->passphrase(config->context, fresh, passphrase, problem);
    if (ok && crypto_pwhash(s->key, KEY, passphrase, strlen(passphrase), s->salt, s->operations,
                            (size_t)s->memory, crypto_pwhash_ALG_ARGON2ID13) != 0) {
        snprintf(problem->text, sizeof problem->text, "no memory for the key of the passwords");
        ok = false;
    }
    sodium_free(passphrase);
    return ok;
}

/* --- the file -------------------------------------------------------------------------------------- */

static char *header_of(const struct eb_secrets *s)
{
    char salt[sodium_base64_ENCODED_LEN(SALT, sodium_base64_VARIANT_ORIGINAL)];
    sodium_bin2base64(salt, sizeof salt, s->salt, SALT, sodium_base64_VARIANT_ORIGINAL);
    json_t *root = s->by_passphrase ? json_pack("{s:s, s:s, s:s, s:I, s:I}", "einbau", FILE_KIND, "key",
                                                "argon2id", "salt", salt, "operations",
                                                (json_int_t)s->operations, "memory", (json_int_t)s->memory)
                                    : json_pack("{s:s, s:s}", "einbau", FILE_KIND, "key", "file");
    char *text = json_dumps(root, JSON_COMPACT);
    json_decref(root);
    return text;
}

static bool read_header(struct eb_secrets *s, const char *line, size_t size)
{
    json_t *root = json_loadb(line, size, 0, NULL);
    const char *kind = json_string_value(json_object_get(root, "einbau"));
    const char *key = json_string_value(json_object_get(root, "key"));
    const char *salt = json_string_value(json_object_get(root, "salt"));
    json_int_t operations = json_integer_value(json_object_get(root, "operations"));
    json_int_t memory = json_integer_value(json_object_get(root, "memory"));
    size_t have = 0;
    bool ok = kind != NULL && key != NULL && strcmp(kind, FILE_KIND) == 0;
    s->by_passphrase = ok && strcmp(key, "argon2id") == 0;
    if (s->by_passphrase) {
        ok = salt != NULL && operations > 0 && operations <= OPERATIONS_MOST && memory >= 8192 &&
             memory <= MEMORY_MOST &&
             sodium_base642bin(s->salt, SALT, salt, strlen(salt), NULL, &have, NULL,
                               sodium_base64_VARIANT_ORIGINAL) == 0 &&
             have == SALT;
        s->operations = (uint64_t)operations;
        s->memory = (uint64_t)memory;
    }
    json_decref(root);
    return ok;
}

static bool save(const struct eb_secrets *s, struct eb_problem *problem)
{
    char *header = header_of(s);
    size_t head = header != NULL ? strlen(header) + 1 : 0;
    uint8_t *bytes = header != NULL ? malloc(head + NONCE + s->size + TAG) : NULL;
    bool ok = false;
    if (bytes != NULL) {
        mode_t before = umask(077);
        memcpy(bytes, header, head - 1);
        bytes[head - 1] = '\n';
        randombytes_buf(bytes + head, NONCE);
        crypto_aead_xchacha20poly1305_ietf_encrypt(bytes + head + NONCE, NULL, (const uint8_t *)s->plain,
                                                   s->size, bytes, head, NULL, bytes + head, s->key);
        ok = ebi_make_folders(s->folder, problem) &&
             eb_state_write(s->folder, FILE_NAME, bytes, head + NONCE + s->size + TAG, problem);
        umask(before);
    }
    free(bytes);
    free(header);
    return ok;
}

static bool is_whole(const struct eb_secrets *s)
{
    size_t texts = 0;
    for (size_t i = 0; i < s->size; i++)
        texts += s->plain[i] == '\0';
    return texts % TEXTS == 0 && (s->size == 0 || s->plain[s->size - 1] == '\0');
}

static bool load(struct eb_secrets *s, const struct eb_secrets_config *config, const uint8_t *bytes,
                 size_t size, struct eb_problem *problem)
{
    const uint8_t *line = memchr(bytes, '\n', size);
    size_t head = line != NULL ? (size_t)(line - bytes) + 1 : 0;
    if (line == NULL || size - head < NONCE + TAG || size > PLAIN_MAX ||
        !read_header(s, (const char *)bytes, head - 1)) {
        snprintf(problem->text, sizeof problem->text,
                 "%s/" FILE_NAME ": is damaged, or no file of this program", s->folder);
        return false;
    }
    if (!s->by_passphrase && config->key_file == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "%s/" FILE_NAME ": is encrypted with a key file; name it: --key-file FILE, or the variable "
                 "EINBAU_KEY_FILE",
                 s->folder);
        return false;
    }
    if (s->by_passphrase ? !make_key(s, config, false, problem)
                         : !read_key_file(config->key_file, false, s->key, problem))
        return false;
    unsigned long long have = 0;
    s->plain = sodium_malloc(size - head - NONCE - TAG + 1);
    if (s->plain == NULL || crypto_aead_xchacha20poly1305_ietf_decrypt(
                                (uint8_t *)s->plain, &have, NULL, bytes + head + NONCE, size - head - NONCE,
                                bytes, head, bytes + head, s->key) != 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%s/" FILE_NAME ": cannot be opened with this %s; the file stays as it is", s->folder,
                 s->by_passphrase ? "passphrase" : "key file");
        return false;
    }
    s->size = (size_t)have;
    return is_whole(s);
}

struct eb_secrets *eb_secrets_open(const struct eb_secrets_config *config, struct eb_problem *problem)
{
    struct eb_secrets *s = calloc(1, sizeof *s);
    size_t size = 0;
    bool missing = false;
    if (s == NULL || sodium_init() < 0) {
        snprintf(problem->text, sizeof problem->text, "the passwords cannot be opened: no memory");
        free(s);
        return NULL;
    }
    snprintf(s->folder, sizeof s->folder, "%s", config->folder);
    s->key = sodium_malloc(KEY);
    uint8_t *bytes = eb_state_read(config->folder, FILE_NAME, &size, &missing, problem);
    bool ok = s->key != NULL;
    if (ok && bytes != NULL) {
        ok = load(s, config, bytes, size, problem);
    } else if (ok && missing) {
        s->plain = sodium_malloc(1);
        s->by_passphrase = config->key_file == NULL;
        s->operations = OPERATIONS;
        s->memory = MEMORY_BYTES;
        randombytes_buf(s->salt, SALT);
        ok = s->plain != NULL &&
             (config->key_file == NULL ? make_key(s, config, true, problem)
                                       : read_key_file(config->key_file, true, s->key, problem));
    } else {
        ok = false;
    }
    free(bytes);
    if (ok)
        return s;
    eb_secrets_close(s);
    return NULL;
}

/* --- entries --------------------------------------------------------------------------------------- */

static const char *next_text(const char *text)
{
    return text + strlen(text) + 1;
}

static const char *or_empty(const char *text)
{
    return text != NULL ? text : "";
}

/* The entry of exactly this name; NULL: none.  `*end` is behind it. */
static const char *entry_of(const struct eb_secrets *s, const char *site, const char *device,
                            const char *profile, const char **end)
{
    for (const char *at = s->plain; at < s->plain + s->size; at = *end) {
        const char *second = next_text(at);
        const char *third = next_text(second);
        *end = next_text(next_text(next_text(third)));
        if (strcmp(at, site) == 0 && strcmp(second, device) == 0 && strcmp(third, profile) == 0)
            return at;
    }
    return NULL;
}

bool eb_secret_find(const struct eb_secrets *s, const struct eb_secret_name *name,
                    char user[EB_HTTP_USER_BYTES], char password[EB_HTTP_PASSWORD_BYTES])
{
    const char *end;
    const char *entry =
        name->device != NULL ? entry_of(s, or_empty(name->site), name->device, "", &end) : NULL;
    if (entry == NULL && name->profile != NULL)
        entry = entry_of(s, "", "", name->profile, &end);
    if (entry == NULL)
        return false;
    const char *texts = next_text(next_text(next_text(entry)));
    return eb_text_copy(user, EB_HTTP_USER_BYTES, texts) &&
           eb_text_copy(password, EB_HTTP_PASSWORD_BYTES, next_text(texts));
}

/* Takes an entry out, and puts another one in where `texts` is not NULL. */
static bool replace(struct eb_secrets *s, const char *old, const char *end, const char *const texts[TEXTS],
                    struct eb_problem *problem)
{
    size_t added = 0;
    for (size_t i = 0; i < TEXTS && texts != NULL; i++)
        added += strlen(texts[i]) + 1;
    size_t kept = s->size - (old != NULL ? (size_t)(end - old) : 0);
    char *fresh = kept + added <= PLAIN_MAX / 2 ? sodium_malloc(kept + added + 1) : NULL;
    if (fresh == NULL) {
        snprintf(problem->text, sizeof problem->text, "too many passwords for one file");
        return false;
    }
    size_t before = old != NULL ? (size_t)(old - s->plain) : s->size;
    memcpy(fresh, s->plain, before);
    if (old != NULL)
        memcpy(fresh + before, end, s->size - (size_t)(end - s->plain));
    size_t at = kept;
    for (size_t i = 0; i < TEXTS && texts != NULL; i++) {
        memcpy(fresh + at, texts[i], strlen(texts[i]) + 1);
        at += strlen(texts[i]) + 1;
    }
    char *plain = s->plain;
    size_t size = s->size;
    s->plain = fresh;
    s->size = at;
    if (save(s, problem)) {
        sodium_free(plain);
        return true;
    }
    sodium_free(fresh);
    s->plain = plain;
    s->size = size;
    return false;
}

bool eb_secret_set(struct eb_secrets *s, const struct eb_secret_name *name, const char *user,
                   const char *password, struct eb_problem *problem)
{
    const char *end = NULL;
    bool device = name->device != NULL;
    const char *const texts[TEXTS] = {device ? or_empty(name->site) : "", device ? name->device : "",
                                      device ? "" : or_empty(name->profile), user, password};
    if (strlen(user) >= EB_HTTP_USER_BYTES || strlen(password) >= EB_HTTP_PASSWORD_BYTES ||
        password[0] == '\0') {
        snprintf(problem->text, sizeof problem->text,
                 "a user has at most %d bytes, a password 1 to %d. Nothing was changed",
                 EB_HTTP_USER_BYTES - 1, EB_HTTP_PASSWORD_BYTES - 1);
        return false;
    }
    const char *old = entry_of(s, texts[0], texts[1], texts[2], &end);
    return replace(s, old, end, texts, problem);
}

bool eb_secret_drop(struct eb_secrets *s, const struct eb_secret_name *name, struct eb_problem *problem)
{
    const char *end = NULL;
    bool device = name->device != NULL;
    const char *old = entry_of(s, device ? or_empty(name->site) : "", device ? name->device : "",
                               device ? "" : or_empty(name->profile), &end);
    if (old == NULL) {
        snprintf(problem->text, sizeof problem->text, "no password is kept for %s",
                 device ? name->device : or_empty(name->profile));
        return false;
    }
    return replace(s, old, end, NULL, problem);
}

bool eb_secret_entry(const struct eb_secrets *s, size_t index, struct eb_secret_name *name, const char **user)
{
    const char *at = s->plain;
    for (; at < s->plain + s->size && index > 0; index--) {
        for (int i = 0; i < TEXTS; i++)
            at = next_text(at);
    }
    if (at >= s->plain + s->size)
        return false;
    const char *device = next_text(at);
    const char *profile = next_text(device);
    *name = (struct eb_secret_name){.site = device[0] != '\0' ? at : NULL,
                                    .device = device[0] != '\0' ? device : NULL,
                                    .profile = profile[0] != '\0' ? profile : NULL};
    *user = next_text(profile);
    return true;
}
