/* How libarchive reads: from a place in a file, by a function of the caller's, so that a child without rights
 * may do it. */
#ifndef EBI_ARCHIVE_READ_H
#define EBI_ARCHIVE_READ_H

#include "einbau/status.h"

#include <archive.h>
#include <stdbool.h>
#include <stdint.h>
#include <stddef.h>

enum { EBI_ARCHIVE_CHUNK_BYTES = 65536 };

struct ebi_archive_reading {
    enum eb_status (*read)(const void *from, uint64_t at, uint8_t *to, size_t size);
    const void *from;
    uint64_t first, size; /* where in it the archive is */
    uint64_t at;          /* within that; begins with 0 */
    uint8_t chunk[EBI_ARCHIVE_CHUNK_BYTES];
};

/* Opens the archive, whose formats were chosen; `reading` lives as long as it.  False: archive_error_string.
 */
bool ebi_archive_open(struct archive *archive, struct ebi_archive_reading *reading);

#endif
