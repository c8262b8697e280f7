/* What a medium is and holds, before anything is done to it. */
#include "card/card.h"
#include "card/child.h"

#include <blkid/blkid.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <ftw.h>
#include <inttypes.h>
#include <linux/fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <unistd.h>

enum {
    MIB = 1 << 20,
    FIRST_SECTOR = 2048,
    SECTOR_BYTES = 512,
    MSDOS_MAGIC = 0x4D44,
    EXFAT_MAGIC = 0x2011BAB0
};

const char *eb_file_system_word(enum eb_file_system fs)
{
    static const char *const words[EB_FILE_SYSTEMS] = {"none", "fat12", "fat16", "fat32", "exfat", "other"};
    return (unsigned)fs < EB_FILE_SYSTEMS ? words[fs] : "other";
}

static bool fail(struct eb_problem *problem, const struct eb_medium *m, const char *what)
{
    snprintf(problem->text, sizeof problem->text, "%.900s: %s: %s", m->path, what, strerror(errno));
    return false;
}

/* --- entries ----------------------------------------------------------------------------------------- */

static bool add_entry(struct eb_medium *m, const char *path)
{
    if (m->count == EB_CARD_ENTRIES_MAX || path[0] == '\0')
        return m->count < EB_CARD_ENTRIES_MAX;
    if (m->count % 64 == 0) {
        struct eb_card_entry *longer = realloc(m->entries, (m->count / 64 + 1) * 64 * sizeof *longer);
        if (longer == NULL)
            return false;
        m->entries = longer;
    }
    eb_text_copy_foreign(m->entries[m->count].path, sizeof m->entries[m->count].path, (const uint8_t *)path,
                         strlen(path));
    m->count++;
    return true;
}

/* Lines of mdir -b: "::/update/FILE.IMG", a folder with a slash behind. */
struct lines {
    struct eb_medium *medium;
    char line[2 * EB_CARD_PATH_BYTES];
    size_t size;
};

static bool take_lines(void *context, const void *bytes, size_t size)
{
    struct lines *l = context;
    const char *at = bytes;
    for (size_t i = 0; i < size; i++) {
        if (at[i] != '\n') {
            if (l->size < sizeof l->line - 1)
                l->line[l->size++] = at[i];
            continue;
        }
        l->line[l->size] = '\0';
        l->size = 0;
        if (strncmp(l->line, "::/", 3) == 0 && !add_entry(l->medium, l->line + 3))
            return false;
    }
    return true;
}

void ebi_medium_image(const struct eb_medium *m, char text[EB_PATH_BYTES + 32])
{
    snprintf(text, EB_PATH_BYTES + 32, "%s@@%" PRIu64, m->path, m->offset);
}

static bool list_image(struct eb_medium *m, struct eb_problem *problem)
{
    char image[EB_PATH_BYTES + 32];
    struct lines lines = {.medium = m};
    ebi_medium_image(m, image);
    const char *const top[] = {"mdir", "-i", image, "-b", "-a", "::/", NULL};
    const char *const all[] = {"mdir", "-i", image, "-b", "-a", "-/", "::/", NULL};
    /* An empty one has nothing to go through, which the second would call an error. */
    enum ebi_child_end end = ebi_child_end(top, -1, take_lines, &lines, problem);
    if (end == EBI_CHILD_GOOD && m->count > 0) {
        m->count = 0;
        end = ebi_child_end(all, -1, take_lines, &lines, problem);
    }
    if (end == EBI_CHILD_BAD)
        snprintf(m->damaged, sizeof m->damaged, "%.100s", problem->text);
    return end != EBI_CHILD_NONE;
}

static struct eb_medium *walked; /* while nftw goes through a folder */
static size_t walked_stem;

static int walk(const char *path, const struct stat *st, int kind, struct FTW *at)
{
    char entry[EB_PATH_BYTES];
    (void)st;
    if (at->level == 0)
        return kind == FTW_DNR;
    snprintf(entry, sizeof entry, "%s%s", path + walked_stem, kind == FTW_D || kind == FTW_DNR ? "/" : "");
    return add_entry(walked, entry) ? 0 : 1;
}

static bool list_folder(struct eb_medium *m, struct eb_problem *problem)
{
    walked = m;
    walked_stem = strlen(m->path) + (m->path[strlen(m->path) - 1] != '/');
    errno = 0;
    int end = nftw(m->path, walk, 16, FTW_PHYS | FTW_MOUNT);
    walked = NULL;
    if (end == 0)
        return true;
    return fail(problem, m, errno != 0 ? "cannot be read" : "holds too much to be a card");
}

/* --- what it is -------------------------------------------------------------------------------------- */

static const char *value_of(blkid_probe probe, const char *name)
{
    const char *value;
    return blkid_probe_lookup_value(probe, name, &value, NULL) == 0 ? value : "";
}

static enum eb_file_system fs_of(blkid_probe probe)
{
    const char *type = value_of(probe, "TYPE");
    const char *version = value_of(probe, "VERSION");
    if (type[0] == '\0')
        return EB_FS_NONE;
    if (strcmp(type, "exfat") == 0)
        return EB_FS_EXFAT;
    if (strcmp(type, "vfat") != 0)
        return EB_FS_OTHER;
    return strcmp(version, "FAT12") == 0   ? EB_FS_FAT12
           : strcmp(version, "FAT16") == 0 ? EB_FS_FAT16
                                           : EB_FS_FAT32;
}

/* Of one volume: the whole medium, or a partition of it. */
static void look_at_volume(struct eb_medium *m, int fd, uint64_t offset, uint64_t size, bool first)
{
    blkid_probe probe = blkid_new_probe();
    if (probe == NULL || blkid_probe_set_device(probe, fd, (blkid_loff_t)offset, (blkid_loff_t)size) != 0) {
        blkid_free_probe(probe);
        return;
    }
    blkid_probe_enable_superblocks(probe, 1);
    blkid_probe_set_superblocks_flags(probe, BLKID_SUBLKS_TYPE | BLKID_SUBLKS_VERSION);
    /* Several signatures at once, or one that contradicts itself, is nothing that may be erased. */
    int found = blkid_do_safeprobe(probe);
    enum eb_file_system fs = found == 0 ? fs_of(probe) : found == 1 ? EB_FS_NONE : EB_FS_OTHER;
    if (first) {
        m->fs = fs;
        m->offset = offset;
    }
    if (fs == EB_FS_OTHER && m->other[0] == '\0')
        eb_text_copy(m->other, sizeof m->other,
                     found == 0 ? value_of(probe, "TYPE") : "more than one file system");
    blkid_free_probe(probe);
}

static bool is_system(blkid_partition partition)
{
    static const char esp[] = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"; /* UEFI 2.10 section 5.3.3 */
    const char *type = blkid_partition_get_type_string(partition);
    return blkid_partition_get_type(partition) == 0xEF || (type != NULL && strcasecmp(type, esp) == 0);
}

static bool look_inside(struct eb_medium *m, int fd, struct eb_problem *problem)
{
    blkid_probe probe = blkid_new_probe();
    if (probe == NULL || blkid_probe_set_device(probe, fd, 0, 0) != 0) {
        blkid_free_probe(probe);
        return fail(problem, m, "cannot be looked at");
    }
    m->size_bytes = (uint64_t)blkid_probe_get_size(probe);
    look_at_volume(m, fd, 0, m->size_bytes, true);
    blkid_probe_enable_partitions(probe, 1);
    blkid_partlist list = m->fs == EB_FS_NONE ? blkid_probe_get_partitions(probe) : NULL;
    int count = list != NULL ? blkid_partlist_numof_partitions(list) : 0;
    for (int i = 0; i < count; i++) {
        blkid_partition partition = blkid_partlist_get_partition(list, i);
        look_at_volume(m, fd, (uint64_t)blkid_partition_get_start(partition) * SECTOR_BYTES,
                       (uint64_t)blkid_partition_get_size(partition) * SECTOR_BYTES, i == 0);
        if (is_system(partition) && m->other[0] == '\0')
            eb_text_copy(m->other, sizeof m->other, "a partition from which a computer starts");
        m->partitions++;
    }
    blkid_free_probe(probe);
    return true;
}

/* A line of a file of the kernel's; false: it has none. */
static bool kernel_says(const char *path, char *text, size_t cap)
{
    FILE *file = fopen(path, "re");
    bool good = file != NULL && fgets(text, (int)cap, file) != NULL;
    if (file != NULL)
        fclose(file);
    if (good)
        text[strcspn(text, "\n")] = '\0';
    return good;
}

/* Where something of this device is mounted. */
static void find_mount(struct eb_medium *m, unsigned major_number, unsigned minor_number)
{
    FILE *file = fopen("/proc/self/mountinfo", "re");
    char line[4096];
    while (file != NULL && fgets(line, sizeof line, file) != NULL) {
        unsigned at[2];
        char where[EB_PATH_BYTES];
        if (sscanf(line, "%*u %*u %u:%u %*s %1023s", &at[0], &at[1], where) == 3 && at[0] == major_number &&
            at[1] == minor_number && m->mounted_at[0] == '\0')
            snprintf(m->mounted_at, sizeof m->mounted_at, "%s", where);
    }
    if (file != NULL)
        fclose(file);
}

/* What the kernel knows of a block device: whether it can be taken out, and who uses it or a part of it. */
static void look_at_device(struct eb_medium *m, const struct stat *st)
{
    char link[64];
    char folder[PATH_MAX];
    char path[PATH_MAX + 300];
    char text[64];
    unsigned numbers[2] = {major(st->st_rdev), minor(st->st_rdev)};
    find_mount(m, numbers[0], numbers[1]);
    snprintf(link, sizeof link, "/sys/dev/block/%u:%u", numbers[0], numbers[1]);
    if (realpath(link, folder) == NULL)
        return;
    DIR *dir = opendir(folder);
    for (const struct dirent *e; dir != NULL && (e = readdir(dir)) != NULL;) {
        snprintf(path, sizeof path, "%s/%s/dev", folder, e->d_name);
        if (kernel_says(path, text, sizeof text) && sscanf(text, "%u:%u", &numbers[0], &numbers[1]) == 2)
            find_mount(m, numbers[0], numbers[1]);
    }
    if (dir != NULL)
        closedir(dir);
    snprintf(path, sizeof path, "%s/partition", folder);
    if (access(path, F_OK) == 0) /* a partition: its disk stands above it */
        *strrchr(folder, '/') = '\0';
    snprintf(path, sizeof path, "%s/removable", folder);
    m->removable = kernel_says(path, text, sizeof text) && strcmp(text, "1") == 0;
    snprintf(path, sizeof path, "%s/device/type", folder);
    m->removable = m->removable || (kernel_says(path, text, sizeof text) && strcmp(text, "SD") == 0);
}

/* The loop device that has this file, or this disk, as its own: what it holds may be mounted from there. */
static void find_loop(struct eb_medium *m)
{
    char whole[PATH_MAX];
    DIR *dir = realpath(m->path, whole) != NULL ? opendir("/sys/block") : NULL;
    for (const struct dirent *e; dir != NULL && (e = readdir(dir)) != NULL;) {
        char path[NAME_MAX + 64];
        char text[PATH_MAX];
        snprintf(path, sizeof path, "/sys/block/%s/loop/backing_file", e->d_name);
        if (kernel_says(path, text, sizeof text) && strcmp(text, whole) == 0 && m->mounted_at[0] == '\0')
            snprintf(m->mounted_at, sizeof m->mounted_at, "/dev/%s", e->d_name);
    }
    if (dir != NULL)
        closedir(dir);
}

static bool look_at_folder(struct eb_medium *m, struct eb_problem *problem)
{
    struct statfs fs;
    struct stat here;
    struct stat above;
    char up[EB_PATH_BYTES + 8];
    snprintf(up, sizeof up, "%s/..", m->path);
    if (statfs(m->path, &fs) != 0 || stat(m->path, &here) != 0 || stat(up, &above) != 0)
        return fail(problem, m, "cannot be looked at");
    m->kind = EB_MEDIUM_FOLDER;
    m->read_only = access(m->path, W_OK) != 0;
    m->fs = fs.f_type == MSDOS_MAGIC   ? EB_FS_FAT32 /* or a smaller one: the kernel does not say */
            : fs.f_type == EXFAT_MAGIC ? EB_FS_EXFAT
                                       : EB_FS_OTHER;
    m->size_bytes = (uint64_t)fs.f_blocks * (uint64_t)fs.f_bsize;
    m->removable = here.st_dev != above.st_dev; /* something is mounted here */
    if (m->fs == EB_FS_OTHER)
        eb_text_copy(m->other, sizeof m->other, "a folder that is on no card");
    else if (!m->removable)
        eb_text_copy(m->other, sizeof m->other, "a folder below the top one of a card");
    return list_folder(m, problem);
}

bool eb_medium_look(const char *path, struct eb_medium *m, struct eb_problem *problem)
{
    struct stat st;
    memset(m, 0, sizeof *m);
    char plain[EB_PATH_BYTES + 2];
    snprintf(plain, sizeof plain, "%s%s", path[0] == '-' ? "./" : "",
             path); /* else programs read it as an option */
    if (!eb_text_copy(m->path, sizeof m->path, plain) || strstr(path, "@@") != NULL) {
        snprintf(problem->text, sizeof problem->text, "found '%.200s', expected a shorter path without @@",
                 path);
        return false;
    }
    m->kind = EB_MEDIUM_IMAGE;
    if (stat(path, &st) != 0) {
        m->missing = errno == ENOENT;
        return m->missing || fail(problem, m, "cannot be opened");
    }
    if (S_ISDIR(st.st_mode))
        return look_at_folder(m, problem);
    if (!S_ISREG(st.st_mode) && !S_ISBLK(st.st_mode)) {
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found neither a folder, nor a file, nor a disk, expected the top folder of a "
                 "mounted card, "
                 "an image file of one, or the card itself",
                 path);
        return false;
    }
    if (S_ISBLK(st.st_mode)) {
        m->kind = EB_MEDIUM_DEVICE;
        look_at_device(m, &st);
    }
    find_loop(m);
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0)
        return fail(problem, m,
                    m->kind == EB_MEDIUM_DEVICE
                        ? "cannot be opened; as a whole it needs root or the group disk. Or mount the card "
                          "and name that folder"
                        : "cannot be opened");
    int read_only = 0;
    if (m->kind == EB_MEDIUM_DEVICE && ioctl(fd, BLKROGET, &read_only) == 0)
        m->read_only = read_only != 0;
    m->read_only = m->read_only || access(path, W_OK) != 0;
    bool good = look_inside(m, fd, problem);
    close(fd);
    if (good && m->fs >= EB_FS_FAT12 && m->fs <= EB_FS_FAT32 && m->other[0] == '\0')
        good = list_image(m, problem);
    if (!good)
        eb_medium_free(m);
    return good;
}

void eb_medium_free(struct eb_medium *m)
{
    free(m->entries);
    m->entries = NULL;
    m->count = 0;
}

/* --- a new file system ------------------------------------------------------------------------------- */

/* The one that is made: the last that the device reads, in the order in which they grow; exFAT only where it
 * reads nothing else. */
static enum eb_file_system wanted_fs(const struct eb_card *card, uint64_t size_bytes)
{
    enum { FAT12_MOST = 4 * MIB, FAT16_LEAST = 8 * MIB, FAT32_LEAST = 36 * MIB };
    const bool fits[EB_FILE_SYSTEMS] = {[EB_FS_FAT12] = size_bytes <= FAT12_MOST,
                                        [EB_FS_FAT16] =
                                            size_bytes >= FAT16_LEAST && size_bytes <= 2048ULL * MIB,
                                        [EB_FS_FAT32] = size_bytes >= FAT32_LEAST,
                                        [EB_FS_EXFAT] = false};
    for (int fs = EB_FS_EXFAT; fs > EB_FS_NONE; fs--) {
        if (fits[fs] && (card->file_systems >> fs & 1) != 0)
            return (enum eb_file_system)fs;
    }
    return EB_FS_NONE;
}

static bool make_table(const struct eb_medium *m, enum eb_file_system fs, struct eb_problem *problem)
{
    static const char *const types[EB_FILE_SYSTEMS] = {
        [EB_FS_FAT12] = "1", [EB_FS_FAT16] = "e", [EB_FS_FAT32] = "c"};
    const char *const words[] = {"sfdisk",  "--quiet", "--no-reread", "--wipe", "always",
                                 "--label", "dos",     m->path,       NULL};
    FILE *input = tmpfile();
    if (input == NULL)
        return fail(problem, m, "no table of partitions can be made");
    fprintf(input, "%d,,%s,*\n", FIRST_SECTOR, types[fs]);
    bool good = fflush(input) == 0 && lseek(fileno(input), 0, SEEK_SET) == 0 &&
                ebi_child_run(words, fileno(input), NULL, NULL, problem);
    fclose(input);
    return good;
}

/* What was at its beginning and end, where other tables and signatures stand. */
static bool wipe(const struct eb_medium *m, struct eb_problem *problem)
{
    static const uint8_t zeros[MIB];
    int fd = open(m->path, O_WRONLY | O_CLOEXEC | (m->kind == EB_MEDIUM_DEVICE ? O_EXCL : 0));
    uint64_t tail = m->size_bytes > MIB ? m->size_bytes - MIB : 0;
    size_t head = m->size_bytes < MIB ? (size_t)m->size_bytes : (size_t)MIB;
    bool good = fd >= 0 && pwrite(fd, zeros, head, 0) == (ssize_t)head &&
                (tail == 0 || pwrite(fd, zeros, MIB, (off_t)tail) == MIB) && fsync(fd) == 0;
    if (!good)
        fail(problem, m, "cannot be erased");
    if (fd >= 0)
        close(fd);
    return good;
}

static bool make_image(struct eb_medium *m, uint64_t size_bytes, struct eb_problem *problem)
{
    int fd = open(m->path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    bool good = fd >= 0 && ftruncate(fd, (off_t)size_bytes) == 0;
    if (!good)
        fail(problem, m, "cannot be made");
    if (fd >= 0)
        close(fd);
    m->missing = !good;
    m->size_bytes = size_bytes;
    return good;
}

bool eb_medium_erase(struct eb_medium *m, const struct eb_card *card, uint64_t size_bytes,
                     struct eb_problem *problem)
{
    char offset[24];
    char blocks[24];
    static const char *const bits[EB_FILE_SYSTEMS] = {
        [EB_FS_FAT12] = "12", [EB_FS_FAT16] = "16", [EB_FS_FAT32] = "32"};
    enum eb_file_system fs = wanted_fs(card, m->missing ? size_bytes : m->size_bytes);
    bool table = card->partition != EB_CARD_NONE;
    if (fs == EB_FS_NONE) {
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found %" PRIu64
                 " MB, expected a size for which the device reads a file system that can be "
                 "made here",
                 m->path, (m->missing ? size_bytes : m->size_bytes) / 1000000);
        return false;
    }
    if ((m->missing && !make_image(m, size_bytes, problem)) || !wipe(m, problem) ||
        (table && !make_table(m, fs, problem)))
        return false;
    snprintf(offset, sizeof offset, "%d", table ? FIRST_SECTOR : 0);
    snprintf(blocks, sizeof blocks, "%" PRIu64, (m->size_bytes - (table ? MIB : 0)) / 1024);
    const char *const words[] = {"mkfs.fat", "-F", bits[fs], "--offset", offset, m->path, blocks, NULL};
    if (!ebi_child_run(words, -1, NULL, NULL, problem))
        return false;
    struct eb_medium fresh;
    if (!eb_medium_look(m->path, &fresh, problem))
        return false;
    eb_medium_free(m);
    *m = fresh;
    return true;
}
