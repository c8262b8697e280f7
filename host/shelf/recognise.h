/* What the files of a haul are: by a manifest, by what stands in their bytes, or by what the caller says. */
#ifndef EBI_RECOGNISE_H
#define EBI_RECOGNISE_H

#include "einbau/shelf.h"
#include "shelf/unpack.h"

struct ebi_image {
    const struct ebi_leaf *leaf;
    struct eb_shelf_image row; /* without number and time */
    struct eb_image_facts facts;
    char *manifest; /* the text that says all this, the caller's */
    char *signature;
    size_t place; /* in the manifest */
};

struct ebi_images {
    struct ebi_image *list;
    size_t count;
};

/* Finds the images among all leaves.  Tells of files that are to be refused, and marks their leaves; and of
 * those that are nothing. */
void ebi_recognise(struct ebi_haul *haul, const struct eb_shelf_adding *adding, struct ebi_images *images);
void ebi_images_free(struct ebi_images *images, size_t first);

#endif
