/* What comes out of files as they came: every file in every archive in them, each in a file of the shelf's
 * own under a number.  Names in an archive are never used as names on this laptop. */
#ifndef EBI_UNPACK_H
#define EBI_UNPACK_H

#include "einbau/host.h"

enum {
    EBI_UNPACK_DEPTH = 4,           /* archives in archives */
    EBI_UNPACK_ENTRIES_MAX = 10000, /* of one file with all that is in it */
    EBI_UNPACK_RATIO_MAX = 200,     /* times as large as the file ... */
    EBI_UNPACK_RATIO_FROM =
        64 << 20 /* ... once it is larger than this: small files pack better than firmware does */
};
#define EBI_UNPACK_BYTES_MAX (4ULL << 30)

/* One file that is no archive, or one that a manifest names. */
struct ebi_leaf {
    char *name;       /* "update.zip/inner.tar/fw.hex" */
    const char *file; /* the last part of it */
    size_t number;    /* of its file: ebi_leaf_file */
    uint64_t size;
    uint8_t sha256[EB_SHA256_BYTES];
    uint32_t checksum;
    size_t archive;  /* that it stands in: its number; 0: none, it was given as it is */
    size_t argument; /* of the call: which file it came in */
    bool refused;    /* with the file that it came in */
    bool manifest;   /* a manifest, or its signature */
    bool named;      /* by a manifest in its folder: an image, whatever it looks like */
};

struct ebi_haul {
    int dir; /* the folder where the files are put */
    struct ebi_leaf *leaves;
    size_t count;
    size_t *order; /* indices of the leaves by place, where `sorted` */
    bool sorted;
    size_t numbers, archives; /* given so far */
    size_t argument;          /* the next one's */
    uint64_t file_bytes, unpacked_bytes;
    size_t entries;
    struct eb_problem *problem;
};

/* Takes a file with all that is in it.  False with `problem` filled: nothing of it stays. */
bool ebi_haul_take(struct ebi_haul *haul, const char *path);
/* Takes one open file as it is, under this name. */
bool ebi_haul_copy(struct ebi_haul *haul, int fd, const char *name);
void ebi_haul_free(struct ebi_haul *haul); /* and removes its files */

/* The name of its file in the haul's folder; opens it for reading, or -1; reads it whole, as ebi_file_read.
 */
enum { EBI_LEAF_FILE_BYTES = 24 };
void ebi_leaf_file(const struct ebi_leaf *leaf, char name[EBI_LEAF_FILE_BYTES]);
int ebi_leaf_open(const struct ebi_haul *haul, const struct ebi_leaf *leaf);
uint8_t *ebi_leaf_read(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size,
                       struct eb_problem *problem);

/* The leaf with the file name `file` in the same folder of the same archive, or NULL. */
struct ebi_leaf *ebi_leaf_beside(struct ebi_haul *haul, const struct ebi_leaf *leaf, const char *file);

#endif
