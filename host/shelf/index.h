/* The index of a shelf: one SQLite file. */
#ifndef EBI_SHELF_INDEX_H
#define EBI_SHELF_INDEX_H

#include "einbau/shelf.h"
#include "shelf/take.h"
#include "sql.h"

struct eb_shelf {
    char folder[EB_PATH_BYTES - 128];
    struct ebi_sql sql;
    int dir;  /* its folder: everything is opened below it */
    int lock; /* descriptor of the lock file, or -1 */
};

/* Opens the file of an image, never through a link; a descriptor, or -1. */
int ebi_shelf_stored(const struct eb_shelf *shelf, const char *digest);

/* Whether this is the digest of an image's file; false with `problem` filled. */
bool ebi_shelf_same_digest(const struct eb_shelf_image *image, const uint8_t sha256[EB_SHA256_BYTES],
                           struct eb_problem *problem);

/* The folder that an image is in, below images/; made where `make`. -1 with errno. */
int ebi_shelf_folder(const struct eb_shelf *shelf, const char *digest, bool make);

/* Empties a folder, whose descriptor is closed, and removes it. */
void ebi_shelf_remove_folder(int parent, const char *name, int fd);

/* A row with the manifest of an image and its signature, or NULL with `problem` filled; a column of it as
 * text, freed by the caller. */
sqlite3_stmt *ebi_shelf_ask_manifest(struct eb_shelf *shelf, int64_t number, struct eb_problem *problem);
char *ebi_shelf_whole_text(sqlite3_stmt *ask, int column);

/* Opens the index, and makes its tables where they are missing. */
bool ebi_index_open(struct eb_shelf *shelf, struct eb_problem *problem);

/* The columns of a row, in the order of EBI_IMAGE_COLUMNS. */
#define EBI_IMAGE_COLUMNS                                                                                    \
    "i.number, i.digest, i.size, i.content, i.maker, i.product, i.profile, i.codes, i.component, "           \
    "i.version, "                                                                                            \
    "i.released, i.format, i.origin, i.added, i.by, i.scheme, i.build_mark"
enum { EBI_IMAGE_COLUMN_COUNT = 17 };
void ebi_index_row(sqlite3_stmt *ask, struct eb_shelf_image *image);

/* Adds one image and its manifest; `*there`: it was there already, and `number` is that one's. */
bool ebi_index_add(struct eb_shelf *shelf, const struct ebi_image *image, const char *now, int64_t *number,
                   bool *there, struct eb_problem *problem);

#endif
