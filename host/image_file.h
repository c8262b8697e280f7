/* Image files: their digests, and the bytes that they stand for. */
#ifndef EBI_IMAGE_FILE_H
#define EBI_IMAGE_FILE_H

#include "einbau/host.h"

#include <stdio.h>
#include <sys/types.h>

#define EBI_IMAGE_BYTES_MAX (2ULL << 30) /* a larger image is taken for a mistake */

/* Exactly `size` bytes from `offset` on; EB_IO where they cannot be had. */
enum eb_status ebi_read_at(int fd, uint64_t offset, uint8_t *to, size_t size);

/* Says what is wrong with the thing of this name; always false. */
__attribute__((format(printf, 3, 4))) bool ebi_wrong(struct eb_problem *problem, const char *name,
                                                     const char *format, ...);

/* Writes exactly that; false with errno. */
bool ebi_write_at(int fd, uint64_t offset, const uint8_t *bytes, size_t size);

/* An image of an open file, whose descriptor it takes and closes (-1: errno says why there is none), without
 * facts; NULL with `problem` filled.  eb_image_close closes it. */
struct eb_image *ebi_image_new(int fd, const char *path, struct eb_problem *problem);

/* Puts a nameless copy of the file in its place, with size and digest as they were read for it: whatever
 * becomes of the file, what is checked and what is sent are the same bytes.  False with `problem` filled. */
bool ebi_image_keep(struct eb_image *image, struct eb_problem *problem);

/* Reads the file: digest, format, and what it stands for.  `format` "raw": whatever it looks like, it is sent
 * as it is;
 * "": its content tells; another must be what its content tells. */
bool ebi_image_load(struct eb_image *image, const char *format, struct eb_problem *problem);

/* Whose signature it is: the key that it names, which it signs as well; empty where none that counts has
 * signed. */
void ebi_signer(enum eb_signature signature, const char *jws, char to[EB_KEY_TEXT_BYTES]);

/* Unpacks the files of an image of several, once.  False with `problem` filled. */
bool ebi_image_unpack(struct eb_image *image, struct eb_problem *problem);

/* The segments of a file, at least one, in memory that the caller frees; false with `problem` filled. */
bool ebi_image_segments(struct eb_image_reader *reader, const struct eb_source *source, const char *path,
                        struct eb_segments *segments, struct eb_problem *problem);
/* Bytes from the first address to the last. */
uint64_t ebi_segments_span(const struct eb_segments *segments);

/* The same of an open file, which is closed. */
uint8_t *ebi_open_file_read(int fd, const char *path, size_t most, size_t *size, struct eb_problem *problem);
/* A whole file of at most `most` bytes, with NUL behind its end, freed by the caller; NULL with `problem`
 * filled. */
uint8_t *ebi_file_read(const char *path, size_t most, size_t *size, struct eb_problem *problem);

/* A file without a name, in the folder for temporary files, gone with its descriptor; -1 with errno. */
int ebi_nameless_file(void);

/* Opens a file for writing, empty, and never through a symbolic link; NULL with errno. */
FILE *ebi_file_create(const char *path, mode_t mode);

/* Makes a folder and those above it, where they are missing. */
bool ebi_make_folders(const char *dir, struct eb_problem *problem);

#endif
