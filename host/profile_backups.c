/* What can be saved of a device and put back: the section `backups` of its profile. */
#include "profile_rows.h"

#include <stdio.h>
#include <string.h>

enum { NAME_BYTES_MAX = 32 };

/* The name is a word of a command line, and of a file in an archive. */
bool ebi_is_document_name(const char *name)
{
    size_t size = strspn(name, "abcdefghijklmnopqrstuvwxyz0123456789-");
    return size > 0 && name[size] == '\0' && size <= NAME_BYTES_MAX && name[0] != '-';
}

static void read_backup(struct ebi_yaml *yaml, const char *name, yaml_node_t *node, struct eb_backup *backup)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (!ebi_is_document_name(name) || !eb_text_copy(backup->name, sizeof backup->name, name))
        ebi_yaml_wrong(yaml, node, "a document with another name",
                       "1 to 32 small letters, digits and '-', like presets");
    ebi_read_document(&map, &backup->at);
    backup->erased = ebi_yaml_yes(&map, "erased", true);
    backup->restarts = ebi_yaml_yes(&map, "restart", false);
    ebi_yaml_map_end(&map);
}

void ebi_read_backups(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *node = ebi_yaml_get(map, "backups", false);
    const char *name;
    yaml_node_t *one;
    ebi_read_steps(map, "restart", false, &p->restart);
    if (node == NULL)
        return;
    struct eb_backup *list = ebi_yaml_keep(map->yaml, EB_BACKUPS_MAX * sizeof *list);
    p->backups = list;
    for (size_t i = 0; (one = ebi_yaml_pair(map->yaml, node, i, &name)) != NULL && !map->yaml->failed; i++) {
        if (i == EB_BACKUPS_MAX) {
            ebi_yaml_wrong(map->yaml, one, "one document too many", "at most 8 in 'backups'");
            return;
        }
        read_backup(map->yaml, name, one, &list[i]);
        p->backup_count = p->stored_count = i + 1;
        if (ebi_yaml_whole(map->yaml) && list[i].restarts && p->restart.count == 0)
            ebi_yaml_wrong(map->yaml, one, "a document that needs a restart, without the key 'restart'",
                           "steps that restart the device, below 'restart'");
        if (ebi_yaml_whole(map->yaml) && list[i].at.by->wire != eb_profile_wire(p))
            ebi_yaml_wrong(map->yaml, one, "a document that is fetched by another wire",
                           "one on the wire by which the device is written to");
        if (ebi_yaml_whole(map->yaml) && (list[i].at.by->able & EB_DOCUMENTS_IN_LOADER) != 0 &&
            p->sends_by != list[i].at.by)
            ebi_yaml_wrong(map->yaml, one, "a document that its loader gives, and no way into that",
                           "the key 'dfu'");
    }
}
