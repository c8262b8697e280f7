/* Reads an image file and writes the bytes that it stands for, from its lowest address on, gaps as FFh: what
 * objcopy and srec_cat are measured against. usage: read_image FILE OUT */
#include <einbau/host.h>
#include <einbau/image.h>
#include <fcntl.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { SEGMENTS_MAX = 65536, OUT_BYTES = 1 << 20 };

static enum eb_status read_fd(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    return pread(*(const int *)self, to, size, (off_t)offset) == (ssize_t)size ? EB_OK : EB_IO;
}

/* Pieces that touch are written together. */
struct out {
    int fd;
    uint64_t at;
    size_t size;
    uint8_t bytes[OUT_BYTES];
};

static void flush(struct out *out)
{
    if (pwrite(out->fd, out->bytes, out->size, (off_t)out->at) != (ssize_t)out->size)
        exit(1);
    out->at += out->size;
    out->size = 0;
}

static void put(struct out *out, uint64_t at, const uint8_t *bytes, size_t size)
{
    if (at != out->at + out->size || out->size + size > OUT_BYTES)
        flush(out);
    if (out->size == 0)
        out->at = at;
    memcpy(out->bytes + out->size, bytes, size);
    out->size += size;
}

int main(int argc, char **argv)
{
    static struct eb_segment list[SEGMENTS_MAX];
    static struct eb_image_reader reader;
    static struct out out;
    struct eb_segments segments = {list, 0, SEGMENTS_MAX};
    struct eb_image_piece piece;
    struct stat info;
    int fd = argc == 3 ? open(argv[1], O_RDONLY) : -1;
    out.fd = argc == 3 ? open(argv[2], O_WRONLY | O_CREAT | O_TRUNC, 0666) : -1;
    if (fd < 0 || out.fd < 0 || fstat(fd, &info) != 0) {
        fputs("usage: read_image FILE OUT\n", stderr);
        return 2;
    }
    const struct eb_source source = {&fd, (uint64_t)info.st_size, read_fd, eb_read_lines};
    /* The first byte of nearly every file is its lowest: then one pass does. */
    uint64_t base = 0;
    bool first = true;
    eb_image_begin(&reader, &source);
    while (eb_image_next(&reader, &piece)) {
        base = first ? piece.address : base;
        first = false;
        if (piece.address < base) {
            fputs("the first byte is not the lowest\n", stderr);
            return 1;
        }
        if (eb_segments_add(&segments, piece.address, piece.size) != EB_OK) {
            fputs("bytes overlap, or are too scattered\n", stderr);
            return 1;
        }
        put(&out, piece.address - base, piece.bytes, piece.size);
    }
    if (reader.wrong.status != EB_OK) {
        fprintf(stderr, "%s:%llu: found %s, expected %s\n", argv[1], (unsigned long long)reader.wrong.line,
                reader.wrong.found, reader.wrong.expected);
        return 1;
    }
    static uint8_t blank[4096];
    memset(blank, 0xff, sizeof blank);
    for (size_t i = 1; i < segments.count; i++) {
        for (uint64_t at = list[i - 1].address + list[i - 1].size_bytes; at < list[i].address;
             at += sizeof blank)
            put(&out, at - base, blank,
                list[i].address - at < sizeof blank ? (size_t)(list[i].address - at) : sizeof blank);
    }
    flush(&out);
    return reader.wrong.status == EB_OK ? 0 : 1;
}
