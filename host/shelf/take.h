/* From files as they came to images that may go on a shelf: copied into a file without a name, which a child
 * without rights may only read; unpacked by it into another one; and looked at once more when it reports what
 * it has found. */
#ifndef EBI_TAKE_H
#define EBI_TAKE_H

#include "einbau/shelf.h"
#include "shelf/unpack.h"

struct ebi_image {
    char *name; /* "update.zip/inner.tar/fw.hex" */
    struct ebi_range bytes;
    struct eb_shelf_image row; /* without number and time */
    struct eb_image_facts facts;
    bool seen;      /* these bytes have this digest: it was computed outside of the child */
    char *manifest; /* the text that says all this */
    char *signature;
    size_t place;    /* in the manifest */
    size_t argument; /* the file of the call that says what it is */
    bool signed_fine;
    struct eb_key signer; /* where `signed_fine`: whose signature it is */
};

struct ebi_images {
    struct ebi_bytes bytes; /* bytes.split is the end of what was given */
    int fd;                 /* of the file for that, for writing */
    struct ebi_image *list;
    size_t count;
};

/* Finds the images in the files of `adding`, and reports refused files and files that are no images.  `all`:
 * every finding of a file, and its good images stay; else the first finding, and none of its images.  False
 * with `problem` filled where nothing can be read here, whatever it is. */
bool ebi_take(struct ebi_images *images, const struct eb_shelf_adding *adding, bool all,
              struct eb_problem *problem);

/* Copies an open file to the end of what was given; `sum` NULL: nothing is computed meanwhile. */
bool ebi_take_bytes(struct ebi_images *images, int fd, struct ebi_range *bytes, struct ebi_sum *sum);

/* Makes the files in the folder `dir` (-1: in that for temporary files); they are gone with ebi_images_free.
 */
bool ebi_images_open(struct ebi_images *images, int dir, struct eb_problem *problem);
void ebi_images_free(struct ebi_images *images);
void ebi_image_free(struct ebi_image *image); /* what it points to */

/* Fills in what its manifest says of it; `source` names that in a complaint.  False where it is none, or has
 * no such place. */
bool ebi_image_describe(struct ebi_image *image, const char *source, const struct eb_profile *profiles,
                        size_t count);
/* Why no key that counts has signed it; NULL: one has, or none is asked for.  Where no key is listed here, a
 * signature must still be that of the key which it names.  `bare`: it came without a manifest. */
const char *ebi_image_why_refused(struct ebi_image *image, bool bare, const struct eb_trust *trust);

#endif
