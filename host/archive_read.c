#include "archive_read.h"

#include <errno.h>
#include <stdio.h>

static la_ssize_t read_range(struct archive *a, void *context, const void **to)
{
    struct ebi_archive_reading *r = context;
    uint64_t left = r->size - r->at;
    size_t size = left < sizeof r->chunk ? (size_t)left : sizeof r->chunk;
    *to = r->chunk;
    if (r->read(r->from, r->first + r->at, r->chunk, size) != EB_OK) {
        archive_set_error(a, EIO, "cannot be read");
        return -1;
    }
    r->at += size;
    return (la_ssize_t)size;
}

static la_int64_t seek_range(struct archive *a, void *context, la_int64_t offset, int whence)
{
    struct ebi_archive_reading *r = context;
    int64_t from = whence == SEEK_SET ? 0 : whence == SEEK_CUR ? (int64_t)r->at : (int64_t)r->size;
    if (offset < -from || (uint64_t)(from + offset) > r->size) {
        archive_set_error(a, EINVAL, "leads out of the file");
        return ARCHIVE_FATAL;
    }
    r->at = (uint64_t)(from + offset);
    return (la_int64_t)r->at;
}

static la_int64_t skip_range(struct archive *a, void *context, la_int64_t count)
{
    struct ebi_archive_reading *r = context;
    uint64_t left = r->size - r->at;
    uint64_t skipped = count > 0 && (uint64_t)count < left ? (uint64_t)count : count > 0 ? left : 0;
    (void)a;
    r->at += skipped;
    return (la_int64_t)skipped;
}

bool ebi_archive_open(struct archive *a, struct ebi_archive_reading *reading)
{
    archive_read_set_read_callback(a, read_range);
    archive_read_set_seek_callback(a, seek_range);
    archive_read_set_skip_callback(a, skip_range);
    archive_read_set_callback_data(a, reading);
    return archive_read_open1(a) == ARCHIVE_OK;
}
