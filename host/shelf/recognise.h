/* What the files of a haul are: by a manifest, by what stands in their bytes, or by what the caller says. */
#ifndef EBI_RECOGNISE_H
#define EBI_RECOGNISE_H

#include "einbau/shelf.h"
#include "shelf/unpack.h"

/* One image among the leaves of a haul. */
struct ebi_recognised {
    const struct ebi_leaf *leaf;
    const struct ebi_leaf *source; /* that says what it is: a manifest, a header, or itself */
    uint64_t content_bytes;        /* that it stands for */
    char format[12];
    char by[EB_BY_BYTES]; /* by what it was recognised */
    char *manifest;       /* the text that says all this, the caller's */
    char *signature;      /* of it; NULL: none */
    size_t place;         /* in the manifest */
};

struct ebi_recognition {
    struct ebi_recognised *list;
    size_t count;
    /* Called before the files of one argument are looked at. */
    void (*at)(void *context, size_t argument);
    /* Something for which a file is to be refused, with the name of what it is in, and why; or a file that is
     * nothing. */
    void (*tell)(void *context, enum eb_shelf_taking what, size_t argument, const char *name,
                 const char *why);
    void *context;
};

/* Finds the images among all leaves; who signed them is not looked at.  Reports every reason
 * to refuse a file, and marks its leaves; and files that are no images. */
void ebi_recognise(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                   struct ebi_recognition *images);
void ebi_recognition_free(struct ebi_recognition *recognition);

#endif
