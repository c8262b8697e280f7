#include "support.h"

#include <errno.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>
#include <zlib.h>

/* What is written is read at once, and then removed: where there is memory for it, it need not go to a disk.
 */
static const char *place(void)
{
    enum { ENOUGH_GIB = 12 };
    struct statvfs memory;
    if (getenv("TMPDIR") != NULL)
        return getenv("TMPDIR");
    return access("/dev/shm", W_OK) == 0 && statvfs("/dev/shm", &memory) == 0 &&
                   memory.f_bavail / 1024 * memory.f_frsize / 1024 / 1024 >= ENOUGH_GIB
               ? "/dev/shm"
               : "/tmp";
}

void make_folder(char folder[PATH_BYTES])
{
    snprintf(folder, PATH_BYTES, "%s/einbau-test-XXXXXX", place());
    assert_non_null(mkdtemp(folder));
    /* What the tool keeps of its own is the folder's too: the devices of two tests may have one serial
     * number. */
    char own[PATH_BYTES + 16];
    snprintf(own, sizeof own, "%s/locks", folder);
    setenv("EINBAU_LOCKS", own, 1);
    snprintf(own, sizeof own, "%s/home", folder);
    setenv("XDG_STATE_HOME", own, 1);
    snprintf(own, sizeof own, "%s/config", folder);
    setenv("XDG_CONFIG_HOME", own, 1);
}

void remove_folder(const char *folder)
{
    const char *const arguments[] = {"rm", "-rf", folder, NULL};
    struct outcome o = run_program(arguments);
    outcome_free(&o);
}

void write_bytes(const char *folder, const char *name, const void *bytes, size_t size)
{
    char path[2 * PATH_BYTES];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    assert_int_equal(fwrite(bytes, 1, size, file), size);
    assert_int_equal(fclose(file), 0);
}

void write_text(const char *folder, const char *name, const char *format, ...)
{
    char *text;
    va_list arguments;
    va_start(arguments, format);
    int size = vasprintf(&text, format, arguments);
    va_end(arguments);
    assert_true(size >= 0);
    write_bytes(folder, name, text, (size_t)size);
    free(text);
}

char *read_text(const char *folder, const char *name, size_t *size)
{
    char path[2 * PATH_BYTES];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "rb");
    if (file == NULL)
        return NULL;
    char *text = NULL;
    size_t have = 0;
    size_t n;
    do {
        text = realloc(text, have + 65536 + 1);
        assert_non_null(text);
        n = fread(text + have, 1, 65536, file);
        have += n;
    } while (n > 0);
    text[have] = '\0';
    fclose(file);
    if (size != NULL)
        *size = have;
    return text;
}

/* --- images -------------------------------------------------------------------------------------- */

static void put32(uint8_t *at, uint32_t value)
{
    for (int i = 0; i < 4; i++)
        at[i] = (uint8_t)(value >> 8 * i);
}

uint8_t *make_image(const char *product, const char *component, const char *version, size_t size)
{
    uint8_t *bytes = calloc(1, size);
    assert_non_null(bytes);
    memcpy(bytes, "EBIMAGE1", 8);
    put32(bytes + 8, (uint32_t)size);
    strncpy((char *)bytes + 16, product, 16);
    strncpy((char *)bytes + 32, component, 16);
    strncpy((char *)bytes + 48, version, 16);
    uint32_t x = (uint32_t)crc32(0, bytes + 16, 48) | 1;
    for (size_t i = 64; i < size; i++) {
        x ^= x << 13;
        x ^= x >> 17;
        x ^= x << 5;
        bytes[i] = (uint8_t)x;
    }
    put32(bytes + 12, (uint32_t)crc32_z(0, bytes + 16, size - 16));
    return bytes;
}

void write_image(const char *folder, const char *name, const char *product, const char *component,
                 const char *version, size_t size, const char *revisions, const char *more)
{
    uint8_t *bytes = make_image(product, component, version, size);
    uint8_t digest[crypto_hash_sha256_BYTES];
    char hex[2 * sizeof digest + 1];
    char manifest[PATH_BYTES];
    crypto_hash_sha256(digest, bytes, size);
    sodium_bin2hex(hex, sizeof hex, digest, sizeof digest);
    write_bytes(folder, name, bytes, size);
    free(bytes);
    snprintf(manifest, sizeof manifest, "%s.json", name);
    write_text(folder, manifest,
               "{\"einbau\": \"manifest/1\", \"images\": [{\"file\": \"%s\", \"component\": \"%s\", "
               "\"version\": \"%s\", "
               "\"size\": %zu, \"sha256\": \"%s\", \"order_codes\": [\"%s\"], \"hardware_revisions\": "
               "[\"%s\"]%s}]}\n",
               strrchr(name, '/') != NULL ? strrchr(name, '/') + 1 : name, component, version, size, hex,
               product, revisions, more);
}
