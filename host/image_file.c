#include "image_file.h"
#include "sandbox.h"
#include "sha256.h"

#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

enum { CHUNK_BYTES = 65536 };

enum eb_status ebi_read_at(int fd, uint64_t offset, uint8_t *to, size_t size)
{
    while (size > 0) {
        ssize_t n = pread(fd, to, size, (off_t)offset);
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return EB_IO;
        to += n;
        offset += (uint64_t)n;
        size -= (size_t)n;
    }
    return EB_OK;
}

bool ebi_wrong(struct eb_problem *problem, const char *name, const char *format, ...)
{
    char text[EB_PROBLEM_BYTES - 600];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    snprintf(problem->text, sizeof problem->text, "%.500s: %s", name, text);
    return false;
}

bool ebi_write_at(int fd, uint64_t offset, const uint8_t *bytes, size_t size)
{
    while (size > 0) {
        ssize_t n = pwrite(fd, bytes, size, (off_t)offset);
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return false;
        bytes += n;
        offset += (uint64_t)n;
        size -= (size_t)n;
    }
    return true;
}

static enum eb_status read_file(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    return ebi_read_at(((const struct eb_image *)self)->fd, offset, to, size);
}

static enum eb_status read_content(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    return ebi_read_at(((const struct eb_image *)self)->content_fd, offset, to, size);
}

/* Size, SHA-256 (may be NULL) and CRC-32 of all that `fd` holds. */
static bool digest(int fd, uint64_t *size, uint8_t *sha256, uint32_t *checksum)
{
    struct ebi_sha256 sha;
    uint8_t chunk[CHUNK_BYTES];
    ssize_t n;
    ebi_sha256_begin(&sha);
    *size = 0;
    *checksum = 0;
    while ((n = pread(fd, chunk, sizeof chunk, (off_t)*size)) != 0) {
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0)
            break;
        if (sha256 != NULL)
            ebi_sha256_add(&sha, chunk, (size_t)n);
        *checksum = (uint32_t)crc32(*checksum, chunk, (unsigned)n);
        *size += (uint64_t)n;
    }
    ebi_sha256_end(&sha, n == 0 ? sha256 : NULL);
    return n == 0;
}

static bool measure(struct eb_image *image, struct eb_problem *problem)
{
    if (!image->measured)
        image->measured =
            digest(image->fd, &image->found.size_bytes, image->found.sha256, &image->file_checksum);
    if (!image->measured)
        snprintf(problem->text, sizeof problem->text, "%s: cannot be read: %s", image->path, strerror(errno));
    return image->measured;
}

/* --- what a file stands for ---------------------------------------------------------------------- */

bool ebi_image_segments(struct eb_image_reader *reader, const struct eb_source *source, const char *path,
                        struct eb_segments *segments, struct eb_problem *problem)
{
    static const size_t cap = 65536;
    *segments = (struct eb_segments){.list = malloc(cap * sizeof *segments->list), .cap = cap};
    if (segments->list != NULL && eb_image_scan(reader, source, segments) && segments->count > 0)
        return true;
    if (segments->list != NULL && source->lines != NULL) { /* line by line: it tells the very line */
        const struct eb_source careful = {
            .self = source->self, .size_bytes = source->size_bytes, .read = source->read};
        eb_image_scan(reader, &careful, segments);
    }
    const struct eb_image_wrong *w = &reader->wrong;
    if (w->line > 0)
        snprintf(problem->text, sizeof problem->text, "%s:%llu: found %s, expected %s", path,
                 (unsigned long long)w->line, w->found, w->expected);
    else
        snprintf(problem->text, sizeof problem->text, "%s: found %s, expected %s", path,
                 w->found[0] != '\0' ? w->found : "no bytes",
                 w->expected[0] != '\0' ? w->expected : "an image");
    free(segments->list);
    segments->list = NULL;
    return false;
}

static bool fill_gaps(int fd, const struct eb_segments *segments, uint64_t base)
{
    uint8_t blank[4096];
    memset(blank, 0xff, sizeof blank);
    for (size_t i = 1; i < segments->count; i++) {
        const struct eb_segment *before = &segments->list[i - 1];
        uint64_t at = before->address + before->size_bytes - base;
        uint64_t end = segments->list[i].address - base;
        while (at < end) {
            size_t size = end - at < sizeof blank ? (size_t)(end - at) : sizeof blank;
            if (!ebi_write_at(fd, at, blank, size))
                return false;
            at += size;
        }
    }
    return true;
}

uint64_t ebi_segments_span(const struct eb_segments *segments)
{
    const struct eb_segment *last = &segments->list[segments->count - 1];
    return last->address + last->size_bytes - segments->list[0].address;
}

int ebi_nameless_file(void)
{
    char path[EB_PATH_BYTES];
    const char *folder = getenv("TMPDIR");
    snprintf(path, sizeof path, "%s/einbau-XXXXXX", folder != NULL && folder[0] != '\0' ? folder : "/tmp");
    int fd = mkostemp(path, O_CLOEXEC);
    if (fd >= 0)
        unlink(path);
    return fd;
}

/* Pieces on their way to a file: those that follow each other are written together. */
struct gathering {
    int fd;
    uint64_t at;
    size_t size;
    uint8_t bytes[CHUNK_BYTES];
};

static bool write_gathered(struct gathering *g)
{
    bool ok = ebi_write_at(g->fd, g->at, g->bytes, g->size);
    g->at += g->size;
    g->size = 0;
    return ok;
}

static bool gather(struct gathering *g, uint64_t at, const uint8_t *bytes, size_t size)
{
    if ((at != g->at + g->size || g->size + size > sizeof g->bytes) && !write_gathered(g))
        return false;
    if (size > sizeof g->bytes)
        return ebi_write_at(g->fd, at, bytes, size);
    if (g->size == 0)
        g->at = at;
    memcpy(g->bytes + g->size, bytes, size);
    g->size += size;
    return true;
}

/* Writes the bytes that a text format, an ELF or a DFU file stands for into a file of their own. */
static bool spread(const struct eb_image *image, struct eb_image_reader *reader, struct eb_problem *problem)
{
    struct eb_segments segments;
    struct eb_image_piece piece;
    if (!ebi_image_segments(reader, &image->file, image->path, &segments, problem))
        return false;
    uint64_t span = ebi_segments_span(&segments);
    uint64_t base = segments.list[0].address;
    bool ok = span <= EBI_IMAGE_BYTES_MAX;
    if (!ok)
        snprintf(problem->text, sizeof problem->text,
                 "%s: found bytes spread over %llu, expected an image of at most %llu", image->path,
                 (unsigned long long)span, (unsigned long long)EBI_IMAGE_BYTES_MAX);
    if (ok) {
        struct gathering g = {.fd = image->content_fd};
        ok = fill_gaps(image->content_fd, &segments, base) && eb_image_begin(reader, &image->file);
        while (ok && eb_image_next(reader, &piece))
            ok = gather(&g, piece.address - base, piece.bytes, piece.size);
        ok = ok && write_gathered(&g) && reader->wrong.status == EB_OK;
        if (!ok)
            snprintf(problem->text, sizeof problem->text,
                     "%s: its bytes cannot be written to a temporary file: %s", image->path, strerror(errno));
    }
    free(segments.list);
    return ok;
}

/* What a child without rights finds out about a file. */
struct recognising {
    const struct eb_image *image;
    const char *format; /* that it ought to have; "": any */
};

struct recognised {
    bool ok;
    enum eb_image_format format;
    struct eb_suffix suffix;
    struct eb_problem problem;
};

static void recognise(void *context, FILE *to)
{
    const struct recognising *what = context;
    const struct eb_image *image = what->image;
    struct recognised found = {.suffix = {.there = EB_SUFFIX_NONE}};
    struct eb_image_reader reader;
    if (!eb_image_begin(&reader, &image->file)) {
        snprintf(found.problem.text, sizeof found.problem.text, "%s: found %s, expected %s", image->path,
                 reader.wrong.found, reader.wrong.expected);
    } else {
        found.format = reader.format;
        if (reader.format == EB_FORMAT_DFU)
            found.suffix = (struct eb_suffix){EB_SUFFIX_THERE, reader.suffix.vendor, reader.suffix.product,
                                              reader.suffix.device};
        if (what->format[0] != '\0' && strcmp(what->format, eb_image_format_word(reader.format)) != 0)
            snprintf(found.problem.text, sizeof found.problem.text,
                     "%s: found a file in the format %s, expected %s as its manifest says", image->path,
                     eb_image_format_word(reader.format), what->format);
        else
            found.ok = reader.format == EB_FORMAT_RAW || spread(image, &reader, &found.problem);
    }
    fwrite(&found, sizeof found, 1, to);
}

static bool recognise_apart(struct eb_image *image, const char *format, struct eb_problem *problem)
{
    struct recognising what = {image, format};
    struct recognised found;
    struct ebi_sandbox sandbox;
    char why[EB_PROBLEM_BYTES - EB_PATH_BYTES - 16];
    image->content_fd = ebi_nameless_file();
    if (image->content_fd < 0) {
        snprintf(problem->text, sizeof problem->text, "%s: no temporary file can be made: %s", image->path,
                 strerror(errno));
        return false;
    }
    ebi_sha256_ready();
    if (!ebi_sandbox_begin(&sandbox, image->fd, image->content_fd, EBI_SANDBOX_SECONDS, recognise, &what,
                           problem))
        return false;
    bool measured = measure(image, problem); /* while the child reads the same copy */
    bool heard = fread(&found, sizeof found, 1, sandbox.from) == 1;
    enum ebi_ended ended = ebi_sandbox_end(&sandbox, why, sizeof why);
    if (ended == EBI_ENDED_WELL && (!heard || found.format > EB_FORMAT_DFU)) {
        snprintf(why, sizeof why, EBI_BREAKS_DOWN, "it ends early");
        ended = EBI_ENDED_EARLY;
    }
    if (!measured)
        return false;
    if (ended != EBI_ENDED_WELL) {
        snprintf(problem->text, sizeof problem->text, "%s: %s", image->path, why);
        return false;
    }
    found.problem.text[sizeof found.problem.text - 1] = '\0';
    if (!found.ok) {
        eb_text_copy_foreign(problem->text, sizeof problem->text, (const uint8_t *)found.problem.text,
                             strlen(found.problem.text));
        return false;
    }
    image->format = found.format;
    image->found.suffix = found.suffix;
    return true;
}

static bool copy_whole(int from, int to, uint64_t *size)
{
    uint8_t chunk[4 * CHUNK_BYTES];
    ssize_t n;
    *size = 0;
    while ((n = pread(from, chunk, sizeof chunk, (off_t)*size)) != 0) {
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0 || !ebi_write_at(to, *size, chunk, (size_t)n))
            return false;
        *size += (uint64_t)n;
    }
    return true;
}

bool ebi_image_keep(struct eb_image *image, struct eb_problem *problem)
{
    int copy = ebi_nameless_file();
    if (copy < 0 || !copy_whole(image->fd, copy, &image->found.size_bytes)) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: cannot be copied to a temporary file, from which it would be sent: %s", image->path,
                 strerror(errno));
        if (copy >= 0)
            close(copy);
        return false;
    }
    close(image->fd);
    image->fd = copy;
    image->kept = true;
    image->measured = false;
    return true;
}

/* It stands for its own bytes. */
static void take_raw(struct eb_image *image)
{
    image->source = image->file;
    image->checksum = image->file_checksum;
    image->found.content_bytes = image->found.size_bytes;
    image->format = EB_FORMAT_RAW;
    image->found.suffix.there = EB_SUFFIX_NONE;
}

bool ebi_image_load(struct eb_image *image, const char *format, struct eb_problem *problem)
{
    bool raw = strcmp(format, "raw") == 0;
    /* A copy has its size already, and is measured while the child reads it. */
    if ((raw || !image->kept || image->found.size_bytes == 0) && !measure(image, problem))
        return false;
    image->file = (struct eb_source){image, image->found.size_bytes, read_file, eb_read_lines};
    take_raw(image);
    if (raw || image->found.size_bytes == 0)
        return true;
    if (!recognise_apart(image, format, problem))
        return false;
    if (image->format == EB_FORMAT_RAW) {
        struct eb_suffix suffix = image->found.suffix;
        take_raw(image);
        image->found.suffix = suffix;
        return true;
    }
    image->source = (struct eb_source){.self = image, .read = read_content};
    if (!digest(image->content_fd, &image->found.content_bytes, NULL, &image->checksum)) {
        snprintf(problem->text, sizeof problem->text, "%s: its bytes cannot be read: %s", image->path,
                 strerror(errno));
        return false;
    }
    image->source.size_bytes = image->found.content_bytes;
    return true;
}

/* --- a file with its manifest beside it ---------------------------------------------------------- */

uint8_t *ebi_file_read(const char *path, size_t most, size_t *size, struct eb_problem *problem)
{
    return ebi_open_file_read(open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK), path, most, size, problem);
}

uint8_t *ebi_open_file_read(int fd, const char *path, size_t most, size_t *size, struct eb_problem *problem)
{
    struct stat info;
    uint8_t *bytes = NULL;
    if (fd < 0 || fstat(fd, &info) != 0) {
        snprintf(problem->text, sizeof problem->text, "%s: cannot be read: %s", path, strerror(errno));
    } else if (!S_ISREG(info.st_mode) || (uint64_t)info.st_size > most) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found something that is no file of at most %zu bytes, expected one", path, most);
    } else {
        *size = (size_t)info.st_size;
        bytes = malloc(*size + 1);
        if (bytes == NULL || ebi_read_at(fd, 0, bytes, *size) != EB_OK) {
            snprintf(problem->text, sizeof problem->text, "%s: cannot be read whole", path);
            free(bytes);
            bytes = NULL;
        } else {
            bytes[*size] = 0;
        }
    }
    if (fd >= 0)
        close(fd);
    return bytes;
}

/* Whether a key that counts has signed the manifest beside an image: X.jws for X.json.  A signature that
 * cannot be read is none. */
static enum eb_signature signature_beside(const char *path, const uint8_t *manifest, size_t size,
                                          const struct eb_trust *trust, char signer[EB_KEY_TEXT_BYTES])
{
    char beside[EB_PATH_BYTES + 16];
    struct eb_problem unheard;
    size_t jws_size;
    snprintf(beside, sizeof beside, "%.*s.jws", (int)(strlen(path) - strlen(".json")), path);
    uint8_t *jws =
        trust != NULL && trust->asked ? ebi_file_read(beside, EB_MANIFEST_BYTES, &jws_size, &unheard) : NULL;
    enum eb_signature signature = eb_manifest_verify(manifest, size, (const char *)jws, trust);
    ebi_signer(signature, (const char *)jws, signer);
    free(jws);
    return signature;
}

static bool load_manifest(const char *path, const struct eb_trust *trust, struct eb_manifest *manifest,
                          struct eb_image *image, struct eb_problem *problem)
{
    size_t size;
    if (access(path, F_OK) != 0) {
        snprintf(
            problem->text, sizeof problem->text,
            "%s: cannot be read: %s. An image needs its manifest beside it, named like the image with .json "
            "behind; or put it on the shelf: einbau shelf add",
            path, strerror(errno));
        return false;
    }
    uint8_t *bytes = ebi_file_read(path, EB_MANIFEST_BYTES, &size, problem);
    bool ok = bytes != NULL && eb_manifest_read(path, bytes, size, manifest, problem);
    if (ok)
        image->facts.signature = signature_beside(path, bytes, size, trust, image->signer);
    free(bytes);
    return ok;
}

static bool load_beside(struct eb_image *image, const char *path, const struct eb_trust *trust,
                        struct eb_problem *problem)
{
    char beside[EB_PATH_BYTES + 8];
    const char *slash = strrchr(path, '/');
    const char *name = slash != NULL ? slash + 1 : path;
    struct eb_manifest manifest;
    const struct eb_manifest_image *found = NULL;
    snprintf(beside, sizeof beside, "%s.json", path);
    if (!load_manifest(beside, trust, &manifest, image, problem))
        return false;
    for (size_t i = 0; i < manifest.count && found == NULL; i++) {
        if (strcmp(manifest.images[i].file, name) == 0)
            found = &manifest.images[i];
    }
    if (found == NULL)
        snprintf(problem->text, sizeof problem->text,
                 "%s: found no image with the file name \"%s\" in \"images\", expected one", beside, name);
    enum eb_signature signature = image->facts.signature;
    if (found != NULL) {
        image->facts = found->facts;
        eb_text_copy(image->files, sizeof image->files, found->files);
    }
    image->facts.signature = signature;
    bool ok =
        found != NULL && ebi_image_keep(image, problem) && ebi_image_load(image, found->format, problem);
    eb_manifest_free(&manifest);
    return ok;
}

static int open_image(const char *path)
{
    return open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
}

struct eb_image *ebi_image_new(int fd, const char *path, struct eb_problem *problem)
{
    struct eb_image *image = calloc(1, sizeof *image);
    struct stat info;
    int why = errno;
    if (image == NULL) {
        free(image);
        if (fd >= 0)
            close(fd);
        snprintf(problem->text, sizeof problem->text, "out of memory");
        return NULL;
    }
    snprintf(image->path, sizeof image->path, "%s", path);
    image->content_fd = image->parts_fd = -1;
    image->fd = fd;
    if (image->fd >= 0 && fstat(image->fd, &info) == 0 && S_ISREG(info.st_mode))
        return image;
    if (image->fd < 0)
        snprintf(problem->text, sizeof problem->text, "%s: the image cannot be opened: %s", path,
                 strerror(why));
    else
        snprintf(problem->text, sizeof problem->text,
                 "%s: found something that is no file, expected an image", path);
    eb_image_close(image);
    return NULL;
}

bool eb_file_measure(const char *path, struct eb_image_found *found, struct eb_problem *problem)
{
    struct eb_image *image = ebi_image_new(open_image(path), path, problem);
    bool ok = image != NULL && ebi_image_load(image, "raw", problem);
    if (ok)
        *found = image->found;
    eb_image_close(image);
    return ok;
}

struct eb_image *eb_image_open(const char *path, const struct eb_trust *trust, struct eb_problem *problem)
{
    struct eb_image *image = ebi_image_new(open_image(path), path, problem);
    if (image == NULL || load_beside(image, path, trust, problem))
        return image;
    eb_image_close(image);
    return NULL;
}

void eb_image_close(struct eb_image *image)
{
    if (image == NULL)
        return;
    if (image->fd >= 0)
        close(image->fd);
    if (image->content_fd >= 0)
        close(image->content_fd);
    if (image->parts_fd >= 0)
        close(image->parts_fd);
    free(image->parts);
    free(image);
}
