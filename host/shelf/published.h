/* A shelf on a web server: publish.c writes it, mirror.c reads its index, download.c its files. */
#ifndef EBI_SHELF_PUBLISHED_H
#define EBI_SHELF_PUBLISHED_H

#include "shelf/index.h"

#include <jansson.h>

#define EBI_PUBLISHED       "published/1"
#define EBI_PUBLISHED_INDEX "index.json"

/* Copies a file from where it stands, or only reads it (`to` -1); whether it has this digest.  False with
 * errno. */
bool ebi_copy_compared(int from, int to, const char *digest, bool *same);

struct ebi_download;

/* NULL with `problem` filled. */
struct ebi_download *ebi_download_open(const struct eb_shelf_server *server, struct eb_problem *problem);
void ebi_download_close(struct ebi_download *download); /* NULL: nothing */

/* Reads a whole file of the server, of at most `most` bytes, to its end; freed by the caller.  As
 * eb_shelf_mirror. */
enum eb_status ebi_download_text(struct ebi_download *download, const char *file, size_t most, char **text,
                                 size_t *size, struct eb_problem *problem);

/* Goes on with a file that has so many bytes at the end; `label` is for people.  EB_OK: it has all of
 * them, whatever they are. */
enum eb_status ebi_download_file(struct ebi_download *download, const char *file, const char *label, int fd,
                                 uint64_t size, struct eb_problem *problem);

#endif
