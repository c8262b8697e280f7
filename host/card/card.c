/* Which files a card is made of, whether a medium can be one, and whether it is. */
#include "card/card.h"
#include "sha256.h"

#include <errno.h>
#include <fnmatch.h>
#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* --- files ------------------------------------------------------------------------------------------- */

static bool fail(struct eb_problem *problem, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(problem->text, sizeof problem->text, format, arguments);
    va_end(arguments);
    return false;
}

static bool digest_of(struct eb_card_file *f)
{
    uint8_t bytes[32768];
    struct ebi_sha256 sha;
    enum eb_status status = EB_OK;
    ebi_sha256_begin(&sha);
    for (uint64_t at = 0; at < f->size_bytes && status == EB_OK;) {
        size_t size = f->size_bytes - at < sizeof bytes ? (size_t)(f->size_bytes - at) : sizeof bytes;
        status = f->source.read(f->source.self, f->offset + at, bytes, size);
        ebi_sha256_add(&sha, bytes, size);
        at += size;
    }
    ebi_sha256_end(&sha, f->sha256);
    return status == EB_OK;
}

static enum eb_status read_text(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    memcpy(to, (const char *)self + offset, size);
    return EB_OK;
}

/* Adds a file, unless the same is there already. */
static bool add(struct eb_card_files *files, struct eb_card_file *f, const char *name, const char *who,
                struct eb_problem *problem)
{
    const char *folder = files->card->folder != NULL ? files->card->folder : "";
    int size = snprintf(f->path, sizeof f->path, "%s%s%s", folder, folder[0] != '\0' ? "/" : "", name);
    if (name[0] == '\0' || name[0] == '.' || strpbrk(name, "/\\:*?\"<>|") != NULL ||
        !eb_text_printable(name) || size >= (int)sizeof f->path)
        return fail(problem,
                    "%s: found the name '%.100s' for a file on the card, expected one that FAT knows", who,
                    name);
    if (!digest_of(f))
        return fail(problem, "%.900s: cannot be read any more", f->image);
    for (size_t i = 0; i < files->count; i++) {
        if (strcasecmp(files->list[i].path, f->path) != 0)
            continue;
        if (memcmp(files->list[i].sha256, f->sha256, sizeof f->sha256) == 0)
            return true;
        return fail(problem, "%s: found another file that is called %s on the card: one card is not enough",
                    who, f->path);
    }
    if (files->count == EB_CARD_FILES_MAX)
        return fail(problem, "%s: found more than %d files for one card, expected at most that", who,
                    EB_CARD_FILES_MAX);
    files->size_bytes += f->size_bytes;
    files->list[files->count++] = *f;
    return true;
}

bool eb_medium_image_name(const char *path)
{
    size_t size = strlen(path);
    return size > 4 && strcmp(path + size - 4, ".img") == 0;
}

static const char *last_part(const char *path)
{
    const char *slash = strrchr(path, '/');
    return slash != NULL ? slash + 1 : path;
}

static const char *name_on_card(const struct eb_card *card, const struct eb_job_device *t, size_t k)
{
    const struct eb_component_profile *component = t->items[k].component;
    for (size_t i = 0; i < card->files.count; i++) {
        if (strcmp(card->files.list[i].name, component->name) == 0 && t->device->profile->card == card)
            return card->files.list[i].text;
    }
    return component->file_name[0] != '\0' ? component->file_name : last_part(t->planned[k].image->path);
}

/* The images of one device. */
static bool add_images(struct eb_card_files *files, const struct eb_job_device *t, struct eb_problem *problem)
{
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_run_item *item = &t->items[k];
        struct eb_card_file f = {.source = item->source, .size_bytes = item->source.size_bytes};
        eb_text_copy(f.image, sizeof f.image, t->planned[k].image->path);
        if (k + 1 < t->item_count && t->items[k + 1].component == item->component)
            return fail(
                problem,
                "%s: needs %s before %s: make a card with the first one, let the device take it, then "
                "make the next: --image FILE",
                t->device->name, item->image->version, t->items[k + 1].image->version);
        for (size_t p = 0; p < item->part_count; p++) {
            struct eb_card_file part = f;
            part.size_bytes = item->parts[p].size_bytes;
            if (!add(files, &part, item->parts[p].name, t->device->name, problem))
                return false;
            f.offset += part.size_bytes;
        }
        if (item->part_count == 0 &&
            !add(files, &f, name_on_card(files->card, t, k), t->device->name, problem))
            return false;
    }
    return true;
}

/* A text with the versions in place of "{firmware}", freed by the caller. */
static char *filled_in(const char *text, const struct eb_job_device *t)
{
    char *filled = malloc(EB_CARD_TEXT_BYTES);
    size_t at = 0;
    if (filled == NULL)
        abort();
    while (*text != '\0' && at + EB_VERSION_TEXT_BYTES < EB_CARD_TEXT_BYTES) {
        size_t length = text[0] == '{' ? strcspn(text, "}") : 0;
        if (text[0] == '\\' && text[1] == 'n') {
            filled[at++] = '\r';
            filled[at++] = '\n';
            text += 2;
            continue;
        }
        size_t k = 0;
        while (length > 0 && k < t->item_count &&
               (strlen(t->items[k].component->name) != length - 1 ||
                strncmp(t->items[k].component->name, text + 1, length - 1) != 0))
            k++;
        if (length > 0 && k < t->item_count && text[length] == '}') {
            at += (size_t)snprintf(filled + at, EB_CARD_TEXT_BYTES - at, "%s", t->items[k].image->version);
            text += length + 1;
        } else {
            filled[at++] = *text++;
        }
    }
    filled[at] = '\0';
    return filled;
}

static bool add_extra(struct eb_card_files *files, const struct eb_job_device *t, struct eb_problem *problem)
{
    for (size_t i = 0; i < files->card->extra.count; i++) {
        struct eb_card_file f = {.text = filled_in(files->card->extra.list[i].text, t)};
        size_t before = files->count;
        f.size_bytes = strlen(f.text);
        f.source = (struct eb_source){.self = f.text, .size_bytes = f.size_bytes, .read = read_text};
        bool good = add(files, &f, files->card->extra.list[i].name, t->device->name, problem);
        if (files->count == before)
            free(f.text);
        if (!good)
            return false;
    }
    return true;
}

bool eb_card_covers(const struct eb_site_device *gateway, const struct eb_site_device *device)
{
    const struct eb_card *card = gateway->profile->card;
    if (card == NULL || device->via != gateway)
        return false;
    for (size_t i = 0; i < card->covers.count; i++) {
        if (strcmp(card->covers.list[i], device->profile->name) == 0)
            return true;
    }
    return false;
}

bool eb_card_files_of(const struct eb_job *job, const struct eb_job_device *target,
                      struct eb_card_files *files, struct eb_problem *problem)
{
    memset(files, 0, sizeof *files);
    files->card = target->device->profile->card;
    bool good = add_images(files, target, problem);
    for (size_t i = 0; i < job->count && good; i++) {
        const struct eb_job_device *t = &job->devices[i];
        if (t->chosen && eb_card_covers(target->device, t->device))
            good = add_images(files, t, problem);
    }
    good = good && (files->count == 0 || add_extra(files, target, problem));
    if (!good)
        eb_card_files_free(files);
    return good;
}

bool eb_card_files_same(const struct eb_card_files *one, const struct eb_card_files *other)
{
    bool same = one->card == other->card && one->count == other->count;
    for (size_t i = 0; i < one->count && same; i++)
        same = strcmp(one->list[i].path, other->list[i].path) == 0 &&
               memcmp(one->list[i].sha256, other->list[i].sha256, EB_SHA256_BYTES) == 0;
    return same;
}

void eb_card_files_free(struct eb_card_files *files)
{
    for (size_t i = 0; i < files->count; i++)
        free(files->list[i].text);
    files->count = 0;
}

/* --- what is wrong with a medium --------------------------------------------------------------------- */

struct faults {
    const struct eb_medium *medium;
    const struct eb_card_files *files;
    eb_finding_tell *tell;
    void *context;
    size_t count;
    bool helps; /* all of it goes away when the medium is erased */
};

__attribute__((format(printf, 3, 4))) static void fault(struct faults *f, bool erasing_helps,
                                                        const char *format, ...)
{
    char text[EB_PROBLEM_BYTES];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    f->count++;
    f->helps = f->helps && erasing_helps;
    if (f->tell != NULL)
        f->tell(f->context, text);
}

static void file_systems_text(unsigned bits, char text[64])
{
    text[0] = '\0';
    for (int fs = EB_FS_FAT12; fs <= EB_FS_EXFAT; fs++) {
        if ((bits >> fs & 1) != 0)
            snprintf(text + strlen(text), 64 - strlen(text), "%s%s", text[0] != '\0' ? " or " : "",
                     eb_file_system_word((enum eb_file_system)fs));
    }
}

static bool reads_fs(const struct faults *f)
{
    const unsigned fats = 1U << EB_FS_FAT12 | 1U << EB_FS_FAT16 | 1U << EB_FS_FAT32;
    unsigned reads = f->files->card->file_systems;
    if (f->medium->kind == EB_MEDIUM_FOLDER && f->medium->fs == EB_FS_FAT32)
        return (reads & fats) != 0; /* which of them cannot be seen from there */
    return (reads >> f->medium->fs & 1) != 0;
}

static void judge_volume(struct faults *f)
{
    const struct eb_medium *m = f->medium;
    const struct eb_card *card = f->files->card;
    char reads[64];
    file_systems_text(card->file_systems, reads);
    if (m->mounted_at[0] != '\0')
        fault(f, false, "it is in use at %s: name the folder where it is mounted, or unmount it",
              m->mounted_at);
    if (m->kind == EB_MEDIUM_DEVICE && !m->removable)
        fault(f, false, "it is no medium that can be taken out: disks of this computer are never written");
    if (m->other[0] != '\0')
        fault(f, false, "found %s on it, expected FAT, exFAT or nothing: all else is never written or erased",
              m->other);
    else if (m->fs == EB_FS_NONE && m->kind == EB_MEDIUM_IMAGE && !eb_medium_image_name(m->path))
        fault(f, false,
              "found no file system in it and a name without .img at its end, expected an image of a card: "
              "it may "
              "be something else");
    else if (m->fs == EB_FS_NONE && m->partitions < 2)
        fault(f, true, "found no file system on it, expected %s", reads);
    else if (!reads_fs(f))
        fault(f, m->kind != EB_MEDIUM_FOLDER, "found %s, expected %s, which the device reads",
              eb_file_system_word(m->fs), reads);
    if (m->damaged[0] != '\0')
        fault(f, true, "its file system is damaged: %s", m->damaged);
    if (m->partitions > 1)
        fault(f, true, "found %zu partitions, expected %s", m->partitions,
              card->partition == EB_CARD_NONE ? "none" : "one");
    if (card->partition == EB_CARD_ONE && m->partitions == 0 && m->kind != EB_MEDIUM_FOLDER &&
        m->fs != EB_FS_NONE)
        fault(f, true, "found no partition, expected one");
    if (card->partition == EB_CARD_NONE && m->partitions == 1)
        fault(f, true, "found a partition, expected a file system without one");
    if (card->most_mb > 0 && m->size_bytes > card->most_mb * 1000000ULL)
        fault(f, false, "found %" PRIu64 " MB, expected at most %" PRIu32 " MB, which the device reads",
              m->size_bytes / 1000000, card->most_mb);
    if (m->size_bytes > 0 && m->size_bytes < f->files->size_bytes + (1 << 18))
        fault(f, false, "found room for %" PRIu64 " kB, expected at least %" PRIu64 " kB",
              m->size_bytes / 1000, (f->files->size_bytes + (1 << 18)) / 1000);
}

/* What other systems leave behind. */
static bool is_left_over(const char *path)
{
    static const char *const patterns[] = {"System Volume Information*",
                                           ".Trash*",
                                           "._*",
                                           ".fseventsd*",
                                           ".Spotlight-*",
                                           ".DS_Store",
                                           "$RECYCLE.BIN*",
                                           "RECYCLER*",
                                           "FOUND.[0-9]*",
                                           "Thumbs.db",
                                           "desktop.ini",
                                           ".*"};
    for (size_t i = 0; i < sizeof patterns / sizeof patterns[0]; i++) {
        if (fnmatch(patterns[i], path, FNM_CASEFOLD) == 0)
            return true;
    }
    return false;
}

static const struct eb_card_file *file_called(const struct eb_card_files *files, const char *path)
{
    for (size_t i = 0; i < files->count; i++) {
        if (strcasecmp(files->list[i].path, path) == 0)
            return &files->list[i];
    }
    return NULL;
}

static bool is_folder_of(const struct eb_card_files *files, const char *path)
{
    const char *folder = files->card->folder != NULL ? files->card->folder : "";
    size_t size = strlen(folder);
    return size > 0 && strncasecmp(path, folder, size) == 0 && strcmp(path + size, "/") == 0;
}

/* What lies there and does not belong there; `written`: the files themselves do. */
static void judge_entries(struct faults *f, bool written)
{
    enum { NAMED = 4 };
    char names[NAMED * EB_CARD_PATH_BYTES] = "";
    size_t others = 0;
    size_t left = 0;
    for (size_t i = 0; i < f->medium->count; i++) {
        const char *path = f->medium->entries[i].path;
        bool ours = file_called(f->files, path) != NULL;
        if (ours && !written)
            fault(f, true, "found %s on it already, expected a card without it", path);
        if (ours || is_folder_of(f->files, path) || !f->files->card->only)
            continue;
        others++;
        left += is_left_over(path);
        if (others <= NAMED)
            snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", others > 1 ? ", " : "",
                     path);
    }
    if (others > NAMED)
        snprintf(names + strlen(names), sizeof names - strlen(names), " and %zu more", others - NAMED);
    if (others > 0)
        fault(f, true, "found %s on it%s, expected nothing besides what the device wants", names,
              left == others ? ", left there by a computer," : "");
}

size_t eb_medium_unfit(const struct eb_medium *medium, const struct eb_card_files *files, bool *helps,
                       eb_finding_tell *tell, void *context)
{
    struct faults f = {.medium = medium, .files = files, .tell = tell, .context = context, .helps = true};
    if (medium->read_only)
        fault(&f, false, "it cannot be written: the lock of a card is on, or the permission is missing");
    if (!medium->missing) {
        judge_volume(&f);
        judge_entries(&f, false);
    }
    if (helps != NULL)
        *helps = f.count > 0 && f.helps;
    return f.count;
}

static const char *entry_called(const struct eb_medium *m, const char *path)
{
    for (size_t i = 0; i < m->count; i++) {
        if (strcasecmp(m->entries[i].path, path) == 0)
            return m->entries[i].path;
    }
    return NULL;
}

static void judge_file(struct faults *f, const struct eb_card_file *file)
{
    struct eb_problem problem;
    uint8_t sha256[EB_SHA256_BYTES];
    uint64_t size = 0;
    const char *name = entry_called(f->medium, file->path);
    if (name == NULL)
        fault(f, false, "found no %s, expected it (%" PRIu64 " bytes)", file->path, file->size_bytes);
    else if (strcmp(name, file->path) != 0)
        fault(f, false, "found the name %s, expected %s", name, file->path);
    else if (!ebi_medium_digest(f->medium, file->path, &size, sha256, &problem))
        fault(f, false, "%s: cannot be read back: %.600s", file->path, problem.text);
    else if (size != file->size_bytes)
        fault(f, false, "%s: found %" PRIu64 " bytes, expected %" PRIu64 ": it is %s", file->path, size,
              file->size_bytes, size < file->size_bytes ? "cut off" : "another file");
    else if (memcmp(sha256, file->sha256, sizeof sha256) != 0)
        fault(f, false, "%s: found other bytes than those of the image", file->path);
}

size_t eb_card_check(const struct eb_medium *medium, const struct eb_card_files *files, eb_finding_tell *tell,
                     void *context)
{
    struct faults f = {.medium = medium, .files = files, .tell = tell, .context = context};
    if (medium->missing) {
        fault(&f, false, "found no file, expected an image of a card");
        return f.count;
    }
    judge_volume(&f);
    judge_entries(&f, true);
    bool readable =
        medium->kind == EB_MEDIUM_FOLDER || (medium->fs >= EB_FS_FAT12 && medium->fs <= EB_FS_FAT32);
    for (size_t i = 0; i < files->count && readable; i++)
        judge_file(&f, &files->list[i]);
    return f.count;
}

/* --- writing ----------------------------------------------------------------------------------------- */

static bool put(const struct eb_medium *m, const struct eb_card_file *f, struct eb_problem *problem)
{
    uint8_t bytes[32768];
    FILE *copy = tmpfile();
    bool good = copy != NULL;
    for (uint64_t at = 0; good && at < f->size_bytes;) {
        size_t size = f->size_bytes - at < sizeof bytes ? (size_t)(f->size_bytes - at) : sizeof bytes;
        good = f->source.read(f->source.self, f->offset + at, bytes, size) == EB_OK &&
               fwrite(bytes, 1, size, copy) == size;
        at += size;
    }
    if (!good || fflush(copy) != 0 || lseek(fileno(copy), 0, SEEK_SET) != 0)
        good = fail(problem, "%s: its bytes cannot be had: %s", f->path, strerror(errno));
    good = good && ebi_medium_put(m, f->path, fileno(copy), problem);
    if (copy != NULL)
        fclose(copy);
    return good;
}

static void keep_first(void *context, const char *finding)
{
    struct eb_problem *problem = context;
    if (problem->text[0] == '\0')
        snprintf(problem->text, sizeof problem->text, "%s", finding);
}

bool eb_card_write(struct eb_medium *m, const struct eb_card_files *files, struct eb_problem *problem)
{
    struct eb_medium after;
    const char *folder = files->card->folder;
    problem->text[0] = '\0';
    if (eb_medium_unfit(m, files, NULL, keep_first, problem) > 0)
        return false;
    if (folder != NULL && folder[0] != '\0' && !ebi_medium_folder(m, folder, problem))
        return false;
    for (size_t i = 0; i < files->count; i++) {
        if (!put(m, &files->list[i], problem))
            return false;
    }
    if (!ebi_medium_sync(m, problem) || !eb_medium_look(m->path, &after, problem))
        return false;
    eb_medium_free(m);
    *m = after;
    problem->text[0] = '\0';
    return eb_card_check(m, files, keep_first, problem) == 0;
}
