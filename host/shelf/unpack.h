/* What comes out of files as they came: every file in every archive in them.  All bytes are in two
 * files without a name: those of the files that were given, which are only read here, and behind them those
 * that were unpacked.  Names in an archive are never used as names on this laptop.  Runs in a child without
 * rights (sandbox.h). */
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

/* The two files, and where the second one begins as if they were one. */
struct ebi_bytes {
    int given, unpacked; /* descriptors; -1: there is none */
    uint64_t split;
};

/* Some of them, in one of the files. */
struct ebi_range {
    uint64_t at, size;
};

/* Exactly `size` bytes from there on; EB_IO where they cannot be had. */
enum eb_status ebi_bytes_read(const struct ebi_bytes *bytes, uint64_t at, uint8_t *to, size_t size);

/* What was computed of a file while it was copied; of an archive only where `always`, as else what is in it
 * counts. */
struct ebi_sum {
    bool always, known;
    uint8_t sha256[EB_SHA256_BYTES];
    uint32_t checksum; /* CRC-32 */
};

/* One file that was given. */
struct ebi_input {
    const char *path;
    size_t argument; /* of the call: its place */
    struct ebi_range bytes;
    struct ebi_sum sum;
    bool accompanied; /* PATH.json was there */
    struct ebi_range beside;
    struct eb_problem beside_problem; /* why that cannot be read */
    bool refused;
};

/* One file that is no archive, or one that a manifest names. */
struct ebi_leaf {
    char *name;       /* "update.zip/inner.tar/fw.hex" */
    const char *file; /* the last part of it */
    size_t number;
    struct ebi_range bytes;
    uint8_t sha256[EB_SHA256_BYTES];
    uint32_t checksum;
    size_t archive;  /* that it stands in: its number; 0: none, it was given as it is */
    size_t argument; /* of the call: which file it came in */
    bool refused;    /* with the file that it came in */
    bool manifest;   /* a manifest, or its signature */
    bool named;      /* by a manifest in its folder: an image, whatever it looks like */
};

struct ebi_haul {
    struct ebi_bytes bytes;
    uint64_t end; /* of what is unpacked */
    struct ebi_leaf *leaves;
    size_t count;
    size_t *order; /* indices of the leaves by place, where `sorted` */
    bool sorted;
    size_t numbers, archives; /* given so far */
    size_t argument;          /* the one at work */
    uint64_t file_bytes, unpacked_bytes;
    size_t entries;
    struct eb_problem *problem;
};

/* Whether a file with these first bytes is an archive, as far as they tell. */
bool ebi_looks_packed(const uint8_t *head, size_t size);

/* Takes a file with all that is in it.  False with `problem` filled: nothing of it stays. */
bool ebi_haul_take(struct ebi_haul *haul, const struct ebi_input *input);
void ebi_haul_free(struct ebi_haul *haul);

/* Reads a leaf of at most EB_MANIFEST_BYTES whole, with NUL behind its end, freed by the caller; NULL with
 * `problem` filled. */
uint8_t *ebi_leaf_read(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size,
                       struct eb_problem *problem);

/* The leaf with the file name `file` in the same folder of the same archive, or NULL. */
struct ebi_leaf *ebi_leaf_beside(struct ebi_haul *haul, const struct ebi_leaf *leaf, const char *file);

#endif
