/* Zip archives that are written: packages and backups.  One that is there is never written over. */
#ifndef EBI_ZIP_WRITE_H
#define EBI_ZIP_WRITE_H

#include "einbau/host.h"

#include <archive.h>
#include <sys/types.h>

/* One that is being written, under another name until it is whole. */
struct ebi_zip {
    struct archive *archive;
    int fd;
    const char *path; /* borrowed */
    char fresh[EB_PATH_BYTES + 32];
    struct eb_problem *problem;
};

/* False with `problem` filled, which is borrowed until the end; ebi_zip_end is called all the same. */
bool ebi_zip_begin(struct ebi_zip *zip, const char *path, mode_t mode, struct eb_problem *problem);
bool ebi_zip_put(struct ebi_zip *zip, const char *name, const void *bytes, size_t size);
bool ebi_zip_put_file(struct ebi_zip *zip, const char *name, const char *path);
/* Where all went well: it is on disk under its name when this comes back.  False with `problem` filled, and
 * nothing is there. `taken`: a file of this name is there; may be NULL. */
bool ebi_zip_end(struct ebi_zip *zip, bool well, bool *taken);

#endif
