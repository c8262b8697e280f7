/* A slot for a memory card: what lies in it when the world begins is what was in it when the power came back.
 * The device is as strict as its profile says, and its lamp shows what it made of the card. */
#include "fat.h"
#include "server.h"
#include "world.h"
#include "yaml_read.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

enum { ENTRIES_MAX = 64 };

struct slot {
    char path[EB_PATH_BYTES]; /* of the card's image; there is a card where the file is */
    char folder[EB_NAME_BYTES];
    char file[EB_NAME_BYTES], modules_file[EB_NAME_BYTES], control[EB_NAME_BYTES];
    unsigned bits; /* of file systems that it reads: 1, 2, 4 for FAT12, FAT16, FAT32 */
    bool only, only_partitioned;
    uint32_t power_lost_at; /* that many bytes are written when the power goes; 0: it stays */
    enum eb_sim_card says;
};

static struct slot *slot_of(const struct ebi_sim_device *d)
{
    struct ebi_sim_device *own = (struct ebi_sim_device *)d; /* its memory, which is ours */
    return ebi_sim_own(own, &ebi_sim_card_slot, sizeof(struct slot));
}

enum eb_sim_card ebi_sim_card_says(const struct ebi_sim_device *d)
{
    return d->has_card_slot ? slot_of(d)->says : EB_SIM_CARD_NONE;
}

/* What lies on the card. */
struct found {
    struct ebi_fat_entry list[ENTRIES_MAX];
    size_t count;
};

static void take(void *context, const struct ebi_fat_entry *entry)
{
    struct found *found = context;
    if (found->count < ENTRIES_MAX)
        found->list[found->count] = *entry;
    found->count++;
}

static const struct ebi_fat_entry *called(const struct slot *s, const struct found *found, const char *name)
{
    char path[2 * EB_NAME_BYTES];
    snprintf(path, sizeof path, "%s%s%s", s->folder, s->folder[0] != '\0' ? "/" : "", name);
    for (size_t i = 0; i < found->count && name[0] != '\0'; i++) {
        if (strcmp(found->list[i].path, path) == 0 && !found->list[i].folder)
            return &found->list[i];
    }
    return NULL;
}

/* Whether all that lies there belongs there. */
static bool is_tidy(const struct slot *s, const struct found *found)
{
    if (found->count > ENTRIES_MAX)
        return false;
    for (size_t i = 0; i < found->count; i++) {
        const struct ebi_fat_entry *e = &found->list[i];
        const char *const names[] = {s->file, s->modules_file, s->control};
        bool known = e->folder && strcmp(e->path, s->folder) == 0;
        for (size_t k = 0; k < sizeof names / sizeof names[0]; k++)
            known = known || e == called(s, found, names[k]);
        if (!known)
            return false;
    }
    return true;
}

static bool is_for(const struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    const struct ebi_sim_component *c = &d->components[0];
    uint8_t *bank = malloc(c->capacity);
    if (bank == NULL || size > c->capacity) {
        free(bank);
        return false;
    }
    memset(bank, 0xFF, c->capacity);
    memcpy(bank, bytes, size);
    bool good = ebi_sim_bank_valid(d, c, bank) && ebi_sim_image_bytes(bank) == size;
    free(bank);
    return good;
}

/* Into the memory that it runs from: what a card writes is not undone when the power goes. */
static void write_program(struct ebi_sim_device *d, const uint8_t *bytes, size_t size, uint32_t power_lost_at)
{
    struct ebi_sim_component *c = &d->components[0];
    size_t written = power_lost_at > 0 && power_lost_at < size ? power_lost_at : size;
    memset(c->bank[c->active], 0xFF, c->capacity);
    ebi_sim_device_write(d, c->bank[c->active], c->bank[c->active], bytes, written);
    ebi_sim_device_examine(d);
    if (!c->valid)
        d->mode = EB_SIM_LOADER;
    else if (d->mode == EB_SIM_LOADER)
        d->mode = EB_SIM_RUNNING; /* a card helps where nothing else does */
}

/* Whether a control file names the version of the image. */
static bool is_named(const struct ebi_fat *fat, const struct ebi_fat_entry *control, const uint8_t *image)
{
    uint8_t *bytes = ebi_fat_read(fat, control);
    char wanted[64];
    bool good = false;
    snprintf(wanted, sizeof wanted, "version=%.16s\r\n", (const char *)image + 48);
    for (size_t i = 0; bytes != NULL && i + strlen(wanted) <= control->size; i++)
        good = good || memcmp(bytes + i, wanted, strlen(wanted)) == 0;
    free(bytes);
    return good;
}

static enum eb_sim_card take_images(struct ebi_sim_device *d, const struct ebi_fat *fat,
                                    const struct found *found)
{
    const struct slot *s = slot_of(d);
    const struct ebi_fat_entry *file = called(s, found, s->file);
    const struct ebi_fat_entry *others = called(s, found, s->modules_file);
    const struct ebi_fat_entry *control = called(s, found, s->control);
    if (file == NULL || (s->control[0] != '\0' && control == NULL))
        return EB_SIM_CARD_FILE_MISSING;
    if (s->only && !is_tidy(s, found))
        return EB_SIM_CARD_SOMETHING_ELSE;
    uint8_t *image = ebi_fat_read(fat, file);
    uint8_t *second = others != NULL ? ebi_fat_read(fat, others) : NULL;
    bool good = image != NULL && is_for(d, image, file->size) &&
                (control == NULL || is_named(fat, control, image)) && (others == NULL || second != NULL);
    for (struct ebi_sim_device *m = d->modules; m != NULL && good && others != NULL; m = m->next_module)
        good = is_for(m, second, others->size);
    if (good) {
        write_program(d, image, file->size, s->power_lost_at);
        bool lost = s->power_lost_at > 0 && s->power_lost_at < file->size;
        for (struct ebi_sim_device *m = d->modules; m != NULL && others != NULL && !lost; m = m->next_module)
            write_program(m, second, others->size, 0);
    }
    free(image);
    free(second);
    return good ? EB_SIM_CARD_TAKEN : EB_SIM_CARD_WRONG_IMAGE;
}

static bool reads(const struct slot *s, unsigned bits)
{
    return (s->bits & (bits == 12 ? 1U : bits == 16 ? 2U : 4U)) != 0;
}

static enum eb_sim_card read_card(struct ebi_sim_device *d, const uint8_t *bytes, size_t size)
{
    const struct slot *s = slot_of(d);
    struct ebi_fat fat;
    struct found *found = calloc(1, sizeof *found);
    enum eb_sim_card says = EB_SIM_CARD_UNREADABLE;
    if (found != NULL && ebi_fat_open(&fat, bytes, size) && reads(s, fat.bits) &&
        (!s->only_partitioned || fat.partitioned) && ebi_fat_list(&fat, take, found))
        says = take_images(d, &fat, found);
    free(found);
    return says;
}

static void begin(struct ebi_sim_device *d)
{
    struct slot *s = d->has_card_slot ? slot_of(d) : NULL;
    struct stat st;
    int fd = s != NULL ? open(s->path, O_RDONLY | O_CLOEXEC) : -1;
    if (fd < 0)
        return; /* no card */
    if (fstat(fd, &st) == 0 && S_ISREG(st.st_mode) && st.st_size > 0) {
        void *bytes = mmap(NULL, (size_t)st.st_size, PROT_READ, MAP_PRIVATE, fd, 0);
        s->says = EB_SIM_CARD_UNREADABLE;
        if (bytes != MAP_FAILED) {
            s->says = read_card(d, bytes, (size_t)st.st_size);
            munmap(bytes, (size_t)st.st_size);
        }
    }
    close(fd);
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const systems[] = {"fat12", "fat16", "fat32", NULL};
    yaml_node_t *node = ebi_yaml_get(map, "card", false);
    char path[EB_PATH_BYTES] = "";
    if (node == NULL)
        return;
    struct slot *s = slot_of(d);
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, node);
    d->has_card_slot = true;
    ebi_yaml_text(&keys, "file", true, path, sizeof path);
    if (path[0] != '\0')
        ebi_path_beside(map->yaml->path, path, s->path);
    ebi_yaml_text(&keys, "folder", false, s->folder, sizeof s->folder);
    ebi_yaml_text(&keys, "image", true, s->file, sizeof s->file);
    ebi_yaml_text(&keys, "modules-image", false, s->modules_file, sizeof s->modules_file);
    ebi_yaml_text(&keys, "control", false, s->control, sizeof s->control);
    s->only = ebi_yaml_yes(&keys, "nothing-else", true);
    s->only_partitioned = ebi_yaml_yes(&keys, "partitioned", false);
    s->power_lost_at = (uint32_t)ebi_yaml_number(&keys, "power-lost-at", 0, UINT32_MAX, 0);
    yaml_node_t *list = ebi_yaml_get(&keys, "file-systems", false);
    yaml_node_t *item;
    s->bits = list == NULL ? 7 : 0;
    for (size_t i = 0; list != NULL && (item = ebi_yaml_item(map->yaml, list, i)) != NULL; i++) {
        const char *word = ebi_yaml_scalar(map->yaml, item);
        size_t k = 0;
        while (word != NULL && systems[k] != NULL && strcmp(systems[k], word) != 0)
            k++;
        if (word != NULL && systems[k] == NULL)
            ebi_yaml_wrong(map->yaml, item, word, "fat12, fat16 or fat32");
        s->bits |= 1U << k;
    }
    ebi_yaml_map_end(&keys);
}

const struct ebi_sim_server ebi_sim_card_slot = {.read = read_keys, .begin = begin};
