/* The shelf: images and packages kept on the laptop.  A folder with each image once, under its digest, and an
 * index. A process that is killed at any moment leaves a shelf that opens and holds what it held; several
 * processes may work with it at once. */
#ifndef EINBAU_SHELF_H
#define EINBAU_SHELF_H

#include "einbau/host.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_DIGEST_TEXT_BYTES = 2 * EB_SHA256_BYTES + 1, EB_TIME_TEXT_BYTES = 24, EB_BY_BYTES = 128 };

/* What the index says of one image. */
struct eb_shelf_image {
    int64_t number; /* for this shelf; never given again */
    char digest[EB_DIGEST_TEXT_BYTES];
    uint64_t size_bytes, content_bytes; /* the file, and what it stands for */
    char maker[EB_NAME_BYTES], product[EB_NAME_BYTES], profile[EB_NAME_BYTES];
    char order_codes[EB_FILE_BYTES]; /* with ", " between */
    char component[EB_NAME_BYTES], version[EB_VERSION_TEXT_BYTES], released[EB_NAME_BYTES];
    char format[12];
    char origin[EB_FILE_BYTES];     /* the file that it came in, the names of archives in front of it */
    char added[EB_TIME_TEXT_BYTES]; /* ISO 8601, UTC */
    char by[EB_BY_BYTES];           /* by what it was recognised */
    bool ordered;                   /* a profile was there that says how its versions are ordered */
    struct eb_version_order order;
};

struct eb_shelf;

/* Opens a shelf; `make` makes one where none is.  NULL with `problem` filled. */
EB_NODISCARD struct eb_shelf *eb_shelf_open(const char *folder, bool make, struct eb_problem *problem);
void eb_shelf_close(struct eb_shelf *shelf);

/* --- taking images in ---------------------------------------------------------------------------- */

enum eb_shelf_taking {
    EB_SHELF_TAKEN,
    EB_SHELF_THERE,        /* it was on the shelf already */
    EB_SHELF_UNRECOGNISED, /* left out */
    EB_SHELF_REFUSED       /* the file with all that is in it */
};

/* What became of one image, or of a file that is none. */
struct eb_shelf_told {
    enum eb_shelf_taking what;
    const char *name; /* "update.zip/inner.tar/fw.hex" */
    const char *why;  /* of the last two */
    struct eb_shelf_image image;
    /* Only by eb_files_check: what its manifest says, and whose signature is under it (NULL: none). */
    const struct eb_image_facts *facts;
    const struct eb_key *signer;
};

/* What became of the files of one call. */
struct eb_shelf_adding {
    const char *const *paths;
    size_t count;
    const struct eb_profile *profiles; /* by which bare images are recognised */
    size_t profile_count;
    const struct eb_trust
        *trust; /* NULL: any; where keys are listed, only what one of them signed is taken */
    /* What the caller says of the one image that is not recognised; NULL where not said. */
    const struct eb_profile *profile;
    const char *component, *version, *revisions;
    void (*told)(void *context, const struct eb_shelf_told *told);
    void *context;
};

/* Takes in what is in the files: packages, images, archives.  A file with something wrong in it is refused
 * whole; the others are taken.  False with `problem` filled where the shelf itself fails. */
EB_NODISCARD bool eb_shelf_add(struct eb_shelf *shelf, const struct eb_shelf_adding *adding,
                               struct eb_problem *problem);

/* Looks at files as eb_shelf_add does, and puts nothing anywhere.  `told` is called for every image that is
 * fine (EB_SHELF_TAKEN, without a number), and for everything that is wrong, not only the first.  Where no
 * key is listed, a signature must still be that of the key which it names.  False with `problem` filled where
 * nothing can be read here. */
EB_NODISCARD bool eb_files_check(const struct eb_shelf_adding *adding, struct eb_problem *problem);

/* --- what is there ------------------------------------------------------------------------------- */

/* All images, in the order of their products and components, newest first; freed by the caller. */
EB_NODISCARD bool eb_shelf_list(struct eb_shelf *shelf, struct eb_shelf_image **images, size_t *count,
                                struct eb_problem *problem);

/* Between these two, what is read is of one moment, and many questions are answered faster; others can read
 * meanwhile, but change nothing. */
void eb_shelf_hold(struct eb_shelf *shelf);
void eb_shelf_release(struct eb_shelf *shelf);

/* One image by its number or the first eight or more digits of its digest. */
EB_NODISCARD bool eb_shelf_find(struct eb_shelf *shelf, const char *name, struct eb_shelf_image *image,
                                struct eb_problem *problem);

/* The manifest that it came with or that was made for it, freed by the caller; and who signed it. */
EB_NODISCARD char *eb_shelf_manifest(struct eb_shelf *shelf, int64_t number, const struct eb_trust *trust,
                                     enum eb_signature *signature, struct eb_problem *problem);

/* An image of the shelf as a candidate for a device. */
struct eb_shelf_said {
    struct eb_shelf_image image;
    struct eb_image_facts facts;
    char files[EB_FILES_TEXT_BYTES]; /* as in struct eb_manifest_image */
    struct eb_image_found file;      /* as the index has it: the file itself is read when it is opened */
    char signer[EB_KEY_TEXT_BYTES];  /* the trusted key by which its manifest is signed; empty: by none */
};
/* An image of the shelf that may be for a component. */
struct eb_shelf_candidate {
    int64_t number;
    char version[EB_VERSION_TEXT_BYTES];
    struct eb_shelf_said *said; /* NULL until eb_shelf_facts was asked */
};

/* The images for a component that may be for a device with this order code ("": any), newest first; freed by
 * the caller.  `others`: also those for other order codes. */
EB_NODISCARD bool eb_shelf_candidates(struct eb_shelf *shelf, const struct eb_component_profile *component,
                                      const char *order_code, bool others,
                                      struct eb_shelf_candidate **candidates, size_t *count,
                                      struct eb_problem *problem);

/* An order code, or a pattern of them, and how many images are for it. */
struct eb_shelf_code {
    char pattern[EB_NAME_BYTES];
    size_t images;
};

/* What the images of a component are for that are not for a device with this order code, by name; freed by
 * the caller with free. */
EB_NODISCARD bool eb_shelf_other_codes(struct eb_shelf *shelf, const char *component, const char *order_code,
                                       struct eb_shelf_code **codes, size_t *count,
                                       struct eb_problem *problem);

/* Frees what eb_shelf_candidates gave; NULL: nothing. */
void eb_shelf_candidates_free(struct eb_shelf_candidate *candidates, size_t count);

/* Fills in what is said of a candidate, and who signed it. */
EB_NODISCARD bool eb_shelf_facts(struct eb_shelf *shelf, const struct eb_trust *trust,
                                 struct eb_shelf_candidate *candidate, struct eb_problem *problem);

/* Opens an image for a job: its digest is read anew, and the verdict compares it. */
EB_NODISCARD struct eb_image *eb_shelf_image_open(struct eb_shelf *shelf,
                                                  const struct eb_shelf_candidate *candidate,
                                                  struct eb_problem *problem);

/* Whether the stored file is what its digest says; reads it. */
EB_NODISCARD bool eb_shelf_check(struct eb_shelf *shelf, const struct eb_shelf_image *image,
                                 struct eb_problem *problem);

/* Removes one image; the others that came with it stay. */
EB_NODISCARD bool eb_shelf_drop(struct eb_shelf *shelf, int64_t number, struct eb_problem *problem);

/* Copies images into another shelf, which is made where it is missing; each is checked on the way.  `copied`
 * counts those that were not there yet. */
EB_NODISCARD bool eb_shelf_copy(struct eb_shelf *shelf, const char *folder, const int64_t *numbers,
                                size_t count, size_t *copied, struct eb_problem *problem);

/* --- a shelf on a web server --------------------------------------------------------------------- */

/* Writes the images of a shelf to a folder that any web server can serve as it is: index.json, and
 * images/ab/ab12... under their digests.  What is there and right stays; nothing is taken away; the index
 * changes last, in one step.  `written`: how many images are new there. */
EB_NODISCARD bool eb_shelf_publish(struct eb_shelf *shelf, const char *folder, size_t *count, size_t *written,
                                   struct eb_problem *problem);

/* What a fetch is about. */
struct eb_shelf_server {
    const char *url;       /* of the folder: "https://images.example/shelf" */
    const char *authority; /* NULL: those that the system trusts; else a PEM file with the only ones */
    const struct eb_profile *profiles; /* that say how versions are ordered */
    size_t profile_count;
    const struct eb_trust *trust; /* where keys are listed, only what one of them signed is seen */
    void (*refused)(void *context, const char *name, const char *why); /* an image that is not seen */
    /* Called some times a second: `got` of `all` bytes of it are here, those of earlier calls included; true
     * goes on, false ends the call with EB_STOPPED. */
    bool (*progress)(void *context, const char *name, uint64_t got_bytes, uint64_t all_bytes);
    void *context;
};

/* Reads the index of a published shelf into a shelf without files, for questions, kept
 * below `shelf`; it is closed by eb_shelf_close.  EB_OK; EB_UNREACHABLE: the server does not answer, or not
 * to the end; EB_GARBAGE: it has no such shelf; EB_BUSY: another process is at it; EB_STOPPED; EB_IO; each
 * with `problem` filled. */
EB_NODISCARD enum eb_status eb_shelf_mirror(const struct eb_shelf_server *server,
                                            const struct eb_shelf *shelf, struct eb_shelf **mirror,
                                            struct eb_problem *problem);

/* Brings images of the mirror onto a shelf.  What was cut off is gone on with, by a later call too; each is
 * compared with its digest, and on the shelf are all or none.  `brought` counts those that were not there
 * yet. As eb_shelf_mirror; EB_GARBAGE: other bytes than their digest says. */
EB_NODISCARD enum eb_status eb_shelf_fetch(const struct eb_shelf_server *server, struct eb_shelf *mirror,
                                           struct eb_shelf *shelf, const int64_t *numbers, size_t count,
                                           size_t *brought, struct eb_problem *problem);

/* --- packages ------------------------------------------------------------------------------------ */

/* Writes a zip archive of the files of a folder, in the order of their names: an image of several files.
 * `files` gets the names, as in struct eb_manifest_image.  The file must not be there. */
EB_NODISCARD bool eb_folder_pack(const char *folder, const char *path, char files[EB_FILES_TEXT_BYTES],
                                 struct eb_problem *problem);

/* Writes a package: its manifest, signed where `key_path` is not NULL, and the images, `paths` as in the
 * manifest. The file is there whole or not at all, and never written over. */
EB_NODISCARD bool eb_package_write(const char *path, const struct eb_manifest *manifest,
                                   const char *const *paths, const char *key_path,
                                   struct eb_problem *problem);

#ifdef __cplusplus
}
#endif

#endif
