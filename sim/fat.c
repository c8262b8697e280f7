#include "fat.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    SECTOR = 512,
    TABLE = 446,
    SIGNATURE = 510,
    ENTRY = 32,
    LONG = 0x0F,
    VOLUME = 0x08,
    FOLDER = 0x10,
    DELETED = 0xE5,
    LONG_CHARACTERS = 13,
    DEPTH_MAX = 8
};

static uint32_t le16(const uint8_t *at)
{
    return (uint32_t)at[0] | (uint32_t)at[1] << 8;
}

static uint32_t le32(const uint8_t *at)
{
    return le16(at) | le16(at + 2) << 16;
}

static bool open_volume(struct ebi_fat *f, const uint8_t *b, size_t size)
{
    if (size < SECTOR || b[SIGNATURE] != 0x55 || b[SIGNATURE + 1] != 0xAA)
        return false;
    uint32_t sector = le16(b + 11);
    uint32_t per_cluster = b[13];
    uint32_t reserved = le16(b + 14);
    uint32_t root = le16(b + 17);
    uint32_t total = le16(b + 19) != 0 ? le16(b + 19) : le32(b + 32);
    uint32_t fat = le16(b + 22) != 0 ? le16(b + 22) : le32(b + 36);
    if ((sector != 512 && sector != 1024 && sector != 2048 && sector != 4096) || per_cluster == 0 ||
        (per_cluster & (per_cluster - 1)) != 0 || b[16] == 0 || fat == 0 || reserved == 0 ||
        (uint64_t)total * sector > size)
        return false;
    uint32_t root_sectors = (root * ENTRY + sector - 1) / sector;
    uint64_t data = reserved + (uint64_t)b[16] * fat + root_sectors;
    if (data >= total)
        return false;
    *f = (struct ebi_fat){.bytes = b,
                          .size = (size_t)total * sector,
                          .sector_bytes = sector,
                          .cluster_bytes = sector * per_cluster,
                          .fat_at = reserved * sector,
                          .root_at = (uint32_t)((data - root_sectors) * sector),
                          .root_bytes = root * ENTRY,
                          .data_at = (uint32_t)(data * sector),
                          .clusters = (uint32_t)((total - data) / per_cluster)};
    /* Only the number of clusters decides which kind it is. */
    f->bits = f->clusters < 4085 ? 12 : f->clusters < 65525 ? 16 : 32;
    f->root_cluster = f->bits == 32 ? le32(b + 44) : 0;
    return true;
}

bool ebi_fat_open(struct ebi_fat *f, const uint8_t *bytes, size_t size)
{
    if (open_volume(f, bytes, size))
        return true;
    if (size < SECTOR || bytes[SIGNATURE] != 0x55 || bytes[SIGNATURE + 1] != 0xAA)
        return false;
    static const uint8_t types[] = {0x01, 0x04, 0x06, 0x0B, 0x0C, 0x0E};
    const uint8_t *row = bytes + TABLE;
    uint64_t first = (uint64_t)le32(row + 8) * SECTOR;
    if (memchr(types, row[4], sizeof types) == NULL || first >= size ||
        !open_volume(f, bytes + first, size - first))
        return false;
    f->partitioned = true;
    return true;
}

/* The cluster behind this one; 0: it is the last one, or makes no sense. */
static uint32_t next_of(const struct ebi_fat *f, uint32_t cluster)
{
    uint64_t at = f->fat_at + (f->bits == 12 ? cluster + cluster / 2 : (uint64_t)cluster * f->bits / 8);
    if (at + 4 > f->size)
        return 0;
    uint32_t value = f->bits == 32   ? le32(f->bytes + at) & 0x0FFFFFFF
                     : f->bits == 16 ? le16(f->bytes + at)
                                     : (le16(f->bytes + at) >> (cluster % 2 == 1 ? 4 : 0)) & 0xFFF;
    return value >= 2 && value < f->clusters + 2 ? value : 0;
}

/* All bytes of a chain; NULL where it goes round in a circle. */
static uint8_t *chain(const struct ebi_fat *f, uint32_t cluster, size_t *size)
{
    size_t cap = f->cluster_bytes;
    uint8_t *bytes = malloc(cap);
    *size = 0;
    if (bytes == NULL)
        return NULL;
    for (uint32_t count = 0; cluster >= 2 && cluster < f->clusters + 2; count++) {
        uint64_t at = f->data_at + (uint64_t)(cluster - 2) * f->cluster_bytes;
        if (count > f->clusters || at + f->cluster_bytes > f->size) {
            free(bytes);
            return NULL;
        }
        if (*size + f->cluster_bytes > cap) {
            cap *= 2;
            uint8_t *longer = realloc(bytes, cap);
            if (longer == NULL) {
                free(bytes);
                return NULL;
            }
            bytes = longer;
        }
        memcpy(bytes + *size, f->bytes + at, f->cluster_bytes);
        *size += f->cluster_bytes;
        cluster = next_of(f, cluster);
    }
    return bytes;
}

uint8_t *ebi_fat_read(const struct ebi_fat *f, const struct ebi_fat_entry *entry)
{
    size_t size;
    uint8_t *bytes = chain(f, entry->cluster, &size);
    if (bytes != NULL && size >= entry->size)
        return bytes;
    free(bytes);
    return NULL;
}

/* The short name, with what Windows NT keeps of its case. */
static void short_name(const uint8_t *e, char name[13])
{
    size_t size = 0;
    for (size_t i = 0; i < 11; i++) {
        bool lower = (e[12] >> (i < 8 ? 3 : 4) & 1) != 0;
        if (e[i] == ' ')
            continue;
        if (i >= 8 && (size == 0 || strchr(name, '.') == NULL)) {
            name[size++] = '.';
        }
        name[size++] = (char)(lower ? tolower(e[i]) : e[i]);
        name[size] = '\0';
    }
    name[size] = '\0';
}

/* One piece of a long name; they stand in front of the entry, the last one first. */
static void long_piece(const uint8_t *e, char name[EBI_FAT_PATH_BYTES])
{
    static const uint8_t places[LONG_CHARACTERS] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    size_t at = (size_t)((e[0] & 0x3F) - 1) * LONG_CHARACTERS;
    if ((e[0] & 0x40) != 0)
        memset(name, 0, EBI_FAT_PATH_BYTES);
    for (size_t i = 0; i < LONG_CHARACTERS && at + i + 1 < EBI_FAT_PATH_BYTES; i++) {
        uint32_t c = le16(e + places[i]);
        name[at + i] = c == 0 || c == 0xFFFF ? '\0' : c < 127 ? (char)c : '?';
    }
}

struct listing {
    const struct ebi_fat *fat;
    void (*take)(void *context, const struct ebi_fat_entry *entry);
    void *context;
};

static bool list_folder(const struct listing *l, const uint8_t *bytes, size_t size, const char *path,
                        int depth)
{
    char long_name[EBI_FAT_PATH_BYTES] = "";
    for (size_t at = 0; at + ENTRY <= size && bytes[at] != 0; at += ENTRY) {
        const uint8_t *e = bytes + at;
        char name[13] = "";
        struct ebi_fat_entry entry = {.size = le32(e + 28), .cluster = le16(e + 20) << 16 | le16(e + 26)};
        if (e[0] == DELETED || e[0] == '.' || (e[11] & LONG) == LONG) {
            if (e[0] != DELETED && (e[11] & LONG) == LONG)
                long_piece(e, long_name);
            continue;
        }
        if ((e[11] & VOLUME) == 0) {
            short_name(e, name);
            snprintf(entry.path, sizeof entry.path, "%.150s%s%.140s", path, path[0] != '\0' ? "/" : "",
                     long_name[0] != '\0' ? long_name : name);
            entry.folder = (e[11] & FOLDER) != 0;
            l->take(l->context, &entry);
        }
        long_name[0] = '\0';
        if ((e[11] & VOLUME) == 0 && entry.folder) {
            size_t below = 0;
            uint8_t *inside = depth < DEPTH_MAX ? chain(l->fat, entry.cluster, &below) : NULL;
            bool good = inside != NULL && list_folder(l, inside, below, entry.path, depth + 1);
            free(inside);
            if (!good)
                return false;
        }
    }
    return true;
}

bool ebi_fat_list(const struct ebi_fat *f, void (*take)(void *context, const struct ebi_fat_entry *entry),
                  void *context)
{
    const struct listing l = {f, take, context};
    size_t size = f->root_bytes;
    if (f->bits != 32)
        return list_folder(&l, f->bytes + f->root_at, size, "", 0);
    uint8_t *root = chain(f, f->root_cluster, &size);
    bool good = root != NULL && list_folder(&l, root, size, "", 0);
    free(root);
    return good;
}
