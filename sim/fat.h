/* A card's file system as a device reads it (Microsoft's FAT32 File System Specification, 1.03): code of its
 * own, so that it shares nothing with what makes cards. */
#ifndef EBI_SIM_FAT_H
#define EBI_SIM_FAT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { EBI_FAT_PATH_BYTES = 300 };

/* A volume in memory. */
struct ebi_fat {
    const uint8_t *bytes;
    size_t size;
    unsigned bits; /* 12, 16 or 32 */
    bool partitioned;
    uint32_t sector_bytes, cluster_bytes, fat_at, root_at, root_bytes, data_at, clusters, root_cluster;
};

/* One file or folder: `folder` has no bytes. */
struct ebi_fat_entry {
    char path[EBI_FAT_PATH_BYTES];
    bool folder;
    uint32_t size, cluster;
};

/* False: no volume that such a device reads, be it in the first partition or without one. */
bool ebi_fat_open(struct ebi_fat *fat, const uint8_t *bytes, size_t size);
/* Every entry, folders before what is in them; false where the chains of clusters make no sense. */
bool ebi_fat_list(const struct ebi_fat *fat, void (*take)(void *context, const struct ebi_fat_entry *entry),
                  void *context);
/* The bytes of a file, `entry->size`, freed by the caller; NULL: its chain ends too early, or does not end.
 */
uint8_t *ebi_fat_read(const struct ebi_fat *fat, const struct ebi_fat_entry *entry);

#endif
