/* The section `card` of a profile. */
#include "einbau/card.h"
#include "profile_rows.h"

#include <stddef.h>
#include <string.h>

#define MEMBER(member)                                                                                       \
    .bytes = sizeof(((struct eb_card *)0)->member), .offset = offsetof(struct eb_card, member)

static const char *const partitions[] = {"any", "one", "none", NULL};
static const struct eb_field fields[] = {
    {"file-systems", EB_FIELD_STRINGS, MEMBER(words), .needed = true},
    {"most-mb", EB_FIELD_NUMBER, MEMBER(most_mb), .least = 1, .most = 4000000},
    {"partitions", EB_FIELD_WORD, MEMBER(partition), .words = partitions},
    {"folder", EB_FIELD_STRING, MEMBER(folder)},
    {"files", EB_FIELD_PAIRS, MEMBER(files)},
    {"extra", EB_FIELD_PAIRS, MEMBER(extra)},
    {"nothing-else", EB_FIELD_YES, MEMBER(only), .otherwise = true},
    {"insert", EB_FIELD_STRING, MEMBER(insert)},
    {"shows", EB_FIELD_PAIRS, MEMBER(shows)},
    {"takes-s", EB_FIELD_NUMBER, MEMBER(takes_s), .least = 1, .most = 86400},
    {"power-may-be-cut", EB_FIELD_YES, MEMBER(may_cut_power)},
    {"after", EB_FIELD_STRING, MEMBER(after)},
    {"covers", EB_FIELD_STRINGS, MEMBER(covers)}};
static const struct eb_section section = {
    .key = "card", .fields = fields, .count = sizeof fields / sizeof fields[0], .by = EB_BY_NAME};

const struct eb_section *eb_card_section(void)
{
    return &section;
}

static void read_file_systems(struct ebi_yaml_map *map, struct eb_card *card)
{
    for (size_t i = 0; i < card->words.count; i++) {
        int fs = EB_FS_FAT12;
        while (fs <= EB_FS_EXFAT &&
               strcmp(eb_file_system_word((enum eb_file_system)fs), card->words.list[i]) != 0)
            fs++;
        if (fs > EB_FS_EXFAT)
            ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "file-systems"), card->words.list[i],
                           "fat12, fat16, fat32 or exfat");
        card->file_systems |= 1U << fs;
    }
}

static void check_names(struct ebi_yaml_map *map, const struct eb_profile *p, const struct eb_card *card)
{
    for (size_t i = 0; i < card->files.count; i++) {
        if (eb_profile_component(p, card->files.list[i].name) == NULL)
            ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "files"), card->files.list[i].name,
                           "a component of the profile");
    }
    if (card->folder != NULL && (strpbrk(card->folder, "/\\:*?\"<>|") != NULL || card->folder[0] == '.'))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "folder"), card->folder,
                       "the name of one folder at the top");
}

void ebi_read_card(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *node = ebi_yaml_get(map, section.key, false);
    if (node == NULL)
        return;
    struct ebi_yaml_map below = ebi_yaml_map(map->yaml, node);
    struct eb_card *card = ebi_yaml_keep(map->yaml, sizeof *card);
    ebi_read_fields(&below, fields, section.count, card);
    read_file_systems(&below, card);
    check_names(&below, p, card);
    ebi_yaml_map_end(&below);
    p->card = card;
}
