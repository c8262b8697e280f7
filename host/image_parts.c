/* Images of several files: a zip archive whose files all go to the device, in their order. */
#include "archive_read.h"
#include "image_file.h"
#include "sandbox.h"

#include <archive_entry.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { PARTS_MAX = 64 };

/* The report of the child. */
struct told {
    bool ok;
    size_t count;
    struct eb_part parts[PARTS_MAX];
    struct eb_problem problem;
};

static enum eb_status read_image(const void *from, uint64_t at, uint8_t *to, size_t size)
{
    return ebi_read_at(((const struct eb_image *)from)->fd, at, to, size);
}

/* One name of a file, that no device can take for something else. */
static bool is_name(const char *path)
{
    return path != NULL && path[0] != '\0' && path[0] != '.' && strlen(path) < EB_FILE_NAME_BYTES &&
           strchr(path, '/') == NULL && strchr(path, '\\') == NULL && eb_text_printable(path);
}

static bool take_part(const struct eb_image *image, struct archive *a, struct archive_entry *entry,
                      uint64_t *at, struct told *told)
{
    struct eb_part *part = &told->parts[told->count];
    const char *path = archive_entry_pathname(entry);
    uint8_t chunk[EBI_ARCHIVE_CHUNK_BYTES];
    la_ssize_t n;
    if (archive_entry_filetype(entry) != AE_IFREG || !is_name(path) || archive_entry_is_encrypted(entry) > 0)
        return ebi_wrong(&told->problem, image->path,
                         "found something in it that is no file, or in a folder, expected files that all go "
                         "to the device");
    for (size_t i = 0; i < told->count; i++) {
        if (strcmp(told->parts[i].name, path) == 0)
            return ebi_wrong(&told->problem, image->path, "found two files '%s' in it, expected each once",
                             path);
    }
    if (told->count == PARTS_MAX)
        return ebi_wrong(&told->problem, image->path, "found more than %d files in it, expected at most that",
                         PARTS_MAX);
    eb_text_copy(part->name, sizeof part->name, path);
    part->size_bytes = 0;
    while ((n = archive_read_data(a, chunk, sizeof chunk)) > 0) {
        if (*at + (uint64_t)n > EBI_IMAGE_BYTES_MAX)
            return ebi_wrong(&told->problem, image->path,
                             "found more than 2 GiB in it, expected at most that");
        if (!ebi_write_at(image->parts_fd, *at, chunk, (size_t)n))
            return ebi_wrong(&told->problem, image->path, "cannot be unpacked: %s", strerror(errno));
        *at += (uint64_t)n;
        part->size_bytes += (uint64_t)n;
    }
    if (n < 0)
        return ebi_wrong(&told->problem, image->path,
                         "found '%s' damaged or cut off in it, expected it whole", path);
    told->count++;
    return true;
}

static void unpack(void *context, FILE *to)
{
    const struct eb_image *image = context;
    static struct told told;
    struct archive *a = archive_read_new();
    struct archive_entry *entry;
    uint64_t at = 0;
    int result = ARCHIVE_FATAL;
    static struct ebi_archive_reading reading;
    reading = (struct ebi_archive_reading){read_image, image, 0, image->file.size_bytes, .at = 0};
    bool ok = a != NULL && archive_read_support_format_zip_seekable(a) == ARCHIVE_OK &&
              ebi_archive_open(a, &reading);
    while (ok && (result = archive_read_next_header(a, &entry)) == ARCHIVE_OK)
        ok = take_part(image, a, entry, &at, &told);
    if (told.problem.text[0] == '\0' && (result != ARCHIVE_EOF || told.count == 0))
        ebi_wrong(&told.problem, image->path,
                  "found no whole zip archive, expected one with the files that go to the device");
    told.ok = told.problem.text[0] == '\0';
    fwrite(&told, sizeof told, 1, to);
}

static enum eb_status read_parts(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    return ebi_read_at(((const struct eb_image *)self)->parts_fd, offset, to, size);
}

/* Whether it has the files that its manifest lists, in that order. */
static bool as_listed(const struct eb_image *image, const struct told *told, struct eb_problem *problem)
{
    char found[EB_FILES_TEXT_BYTES] = "";
    for (size_t i = 0; i < told->count; i++) {
        size_t at = strlen(found);
        snprintf(found + at, sizeof found - at, "%s%s", i > 0 ? ", " : "", told->parts[i].name);
    }
    return image->files[0] == '\0' || strcmp(found, image->files) == 0 ||
           ebi_wrong(problem, image->path,
                     "found the files %.200s in it, expected %.200s, as its manifest says", found,
                     image->files);
}

bool ebi_image_unpack(struct eb_image *image, struct eb_problem *problem)
{
    struct ebi_sandbox sandbox;
    struct told *told = calloc(1, sizeof *told);
    char why[EB_PROBLEM_BYTES - EB_PATH_BYTES - 16] = "";
    if (image->parts != NULL) {
        free(told);
        return true;
    }
    image->parts_fd = ebi_nameless_file();
    if (told == NULL || image->parts_fd < 0) {
        free(told);
        return ebi_wrong(problem, image->path, "cannot be unpacked: %s", strerror(errno));
    }
    bool begun =
        ebi_sandbox_begin(&sandbox, image->fd, image->parts_fd, EBI_SANDBOX_SECONDS, unpack, image, problem);
    bool heard = begun && fread(told, sizeof *told, 1, sandbox.from) == 1;
    enum ebi_ended ended = begun ? ebi_sandbox_end(&sandbox, why, sizeof why) : EBI_NOT_READ;
    bool well = ended == EBI_ENDED_WELL && heard && told->count <= PARTS_MAX;
    if (well && told->ok && as_listed(image, told, problem)) {
        uint64_t size = 0;
        image->parts = calloc(told->count, sizeof *image->parts);
        image->part_count = image->parts != NULL ? told->count : 0;
        for (size_t i = 0; i < image->part_count; i++) {
            told->parts[i].name[sizeof told->parts[i].name - 1] = '\0';
            image->parts[i] = told->parts[i];
            size += told->parts[i].size_bytes;
        }
        image->parts_source = (struct eb_source){.self = image, .size_bytes = size, .read = read_parts};
    } else if (well && !told->ok) {
        told->problem.text[sizeof told->problem.text - 1] = '\0';
        eb_text_copy_foreign(problem->text, sizeof problem->text, (const uint8_t *)told->problem.text,
                             strlen(told->problem.text));
    } else if (begun && !well) {
        ebi_wrong(problem, image->path, "%s", why[0] != '\0' ? why : "it cannot be read");
    }
    free(told);
    return image->parts != NULL;
}
