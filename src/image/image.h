/* Between the readers of the formats.  Each gives the next piece, or false at the end or where `wrong` is
 * filled. */
#ifndef EBI_IMAGE_H
#define EBI_IMAGE_H

#include "einbau/image.h"

bool ebi_hex_next(struct eb_image_reader *reader, struct eb_image_piece *piece);
bool ebi_srecord_next(struct eb_image_reader *reader, struct eb_image_piece *piece);
bool ebi_elf_begin(struct eb_image_reader *reader);
bool ebi_elf_next(struct eb_image_reader *reader, struct eb_image_piece *piece);
bool ebi_dfu_begin(struct eb_image_reader *reader);

/* Fills `wrong` and gives false.  `found` may be NULL. */
bool ebi_image_wrong(struct eb_image_reader *reader, const char *found, const char *expected);
bool ebi_image_wrong_number(struct eb_image_reader *reader, const char *what, uint64_t number,
                            const char *expected);

/* Exactly `size` bytes from `at`; false with `wrong` filled where the file ends before. */
bool ebi_image_read(struct eb_image_reader *reader, uint64_t at, uint8_t *to, size_t size);
/* What is left of the current stretch of the file, in the reader's buffer. */
bool ebi_image_stretch(struct eb_image_reader *reader, struct eb_image_piece *piece);

/* The next line of a text format, which begins with `mark` ("S" has one character more, given in `type`): the
 * hexadecimal digits behind it as bytes.  False at the end of the file (EB_OK), or where the line is none. */
bool ebi_image_line(struct eb_image_reader *reader, char mark, char *type, uint8_t *bytes, size_t *size);

#endif
