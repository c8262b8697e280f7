/* Adding to a site's file without touching what a person wrote in it. */
#include "image_file.h"
#include "yaml_read.h"

#include <dirent.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { INDENT_DEFAULT = 2 };

/* Where in the file new devices go. */
struct place {
    size_t line;   /* behind this line, counted from 0 */
    size_t blanks; /* before each name */
    bool empty;    /* the line holds "devices: {}" */
};

/* The last line on which something of `node` stands; a block's own end is behind comments and is not asked.
 */
static size_t last_line(yaml_document_t *document, const yaml_node_t *node)
{
    size_t line = node->start_mark.line;
    if (node->type == YAML_SCALAR_NODE)
        return node->end_mark.column == 0 && node->end_mark.line > line ? node->end_mark.line - 1
                                                                        : node->end_mark.line;
    if (node->type == YAML_MAPPING_NODE) {
        if (node->data.mapping.style == YAML_FLOW_MAPPING_STYLE)
            return node->end_mark.line;
        for (const yaml_node_pair_t *p = node->data.mapping.pairs.start; p < node->data.mapping.pairs.top;
             p++) {
            size_t end = last_line(document, yaml_document_get_node(document, p->value));
            line = end > line ? end : line;
        }
        return line;
    }
    if (node->data.sequence.style == YAML_FLOW_SEQUENCE_STYLE)
        return node->end_mark.line;
    for (const yaml_node_item_t *i = node->data.sequence.items.start; i < node->data.sequence.items.top;
         i++) {
        size_t end = last_line(document, yaml_document_get_node(document, *i));
        line = end > line ? end : line;
    }
    return line;
}

static bool find_place(const char *path, struct place *place, struct eb_problem *problem)
{
    struct ebi_yaml yaml = {.tell = NULL};
    if (!ebi_yaml_open(&yaml, path, problem))
        return false;
    struct ebi_yaml_map map = ebi_yaml_map(&yaml, ebi_yaml_root(&yaml));
    yaml_node_t *devices = ebi_yaml_get(&map, "devices", true);
    if (devices != NULL && devices->type != YAML_MAPPING_NODE) {
        ebi_yaml_wrong(&yaml, devices, "no devices", "'devices:' with at least one below it, or {}");
    } else if (devices != NULL) {
        const yaml_node_pair_t *first = devices->data.mapping.pairs.start;
        place->empty = first == devices->data.mapping.pairs.top;
        place->line = last_line(&yaml.document, devices);
        place->blanks = place->empty ? INDENT_DEFAULT
                                     : yaml_document_get_node(&yaml.document, first->key)->start_mark.column;
        if (!place->empty && devices->data.mapping.style == YAML_FLOW_MAPPING_STYLE)
            ebi_yaml_wrong(&yaml, devices, "devices between braces",
                           "one below the other, so that more can be added");
    }
    ebi_yaml_close(&yaml);
    return !yaml.failed;
}

static void put_entry(FILE *file, size_t blanks, const struct eb_site_entry *e)
{
    uint32_t mask = e->address.prefix == 0 ? 0 : UINT32_MAX << (32 - e->address.prefix);
    const uint8_t *ip = e->address.ip;
    int indent = (int)blanks;
    fprintf(file, "%*s%s:\n%*slink: %s\n", indent, "", e->name, 2 * indent, "", e->link);
    if (e->on == EB_SITE_ETHERNET)
        fprintf(file, "%*saddress: %u.%u.%u.%u\n", 2 * indent, "", ip[0], ip[1], ip[2], ip[3]);
    if (e->node != 0)
        fprintf(file, "%*snode: %u\n", 2 * indent, "", e->node);
    else if (e->on == EB_SITE_CAN)
        fprintf(file, "%*suds: {request: 0x%X, response: 0x%X}\n", 2 * indent, "", e->unit.request,
                e->unit.response);
    if (e->place[0] != '\0')
        fprintf(file, "%*splace: \"%s\"\n", 2 * indent, "", e->place);
    if (e->via[0] != '\0')
        fprintf(file, "%*s%s: %s\n", 2 * indent, "", e->managed ? "managed-by" : "via", e->via);
    if (e->on == EB_SITE_ETHERNET && e->address.prefix != 24)
        fprintf(file, "%*smask: %u.%u.%u.%u\n", 2 * indent, "", mask >> 24, mask >> 16 & 255, mask >> 8 & 255,
                mask & 255);
    if (e->has_mac) {
        char mac[EB_MAC_TEXT_BYTES];
        eb_mac_text(e->mac, mac);
        fprintf(file, "%*smac: %s\n", 2 * indent, "", mac);
    }
    fprintf(file, "%*sprofile: %s\n", 2 * indent, "", e->profile);
    if (e->serial[0] != '\0') {
        fprintf(file, "%*sserial: \"", 2 * indent, "");
        for (const char *c = e->serial; *c != '\0'; c++)
            fprintf(file, *c == '"' || *c == '\\' ? "\\%c" : "%c", *c);
        fputs("\"\n", file);
    }
}

/* The old text with the entries at their place, freed by the caller. */
static char *new_text(const char *old, const struct place *place, const struct eb_site_entry *entries,
                      size_t count)
{
    char *text = NULL;
    size_t size = 0;
    const char *rest = old;
    FILE *file = open_memstream(&text, &size);
    if (file == NULL)
        return NULL;
    for (size_t line = 0; line <= place->line && *rest != '\0'; line++) {
        size_t length = strcspn(rest, "\n");
        const char *braces = place->empty && line == place->line ? strstr(rest, "{}") : NULL;
        if (braces != NULL && braces < rest + length)
            fprintf(file, "%.*s%.*s", (int)(braces - rest), rest, (int)(rest + length - braces - 2),
                    braces + 2);
        else
            fprintf(file, "%.*s", (int)length, rest);
        fputc('\n', file);
        rest += length + (rest[length] == '\n');
    }
    for (size_t i = 0; i < count; i++)
        put_entry(file, place->blanks, &entries[i]);
    fputs(rest, file);
    return fclose(file) == 0 ? text : NULL;
}

static char *whole_file(const char *path, struct eb_problem *problem)
{
    char *text = NULL;
    size_t size = 0;
    FILE *from = fopen(path, "rbe");
    FILE *to = from != NULL ? open_memstream(&text, &size) : NULL;
    char bytes[4096];
    size_t n;
    while (to != NULL && (n = fread(bytes, 1, sizeof bytes, from)) > 0)
        fwrite(bytes, 1, n, to);
    if (from == NULL || to == NULL)
        snprintf(problem->text, sizeof problem->text, "%s: cannot be read: %s", path, strerror(errno));
    if (to != NULL)
        fclose(to);
    if (from != NULL)
        fclose(from);
    return text;
}

/* Writes the new text beside the old file, reads it as a site, and lets it take the old one's place. */
static bool replace(const char *path, const char *text, struct eb_problem *problem)
{
    char fresh[EB_PATH_BYTES + 8];
    struct stat info;
    snprintf(fresh, sizeof fresh, "%s.new", path);
    FILE *file = ebi_file_create(fresh, 0666);
    bool ok = file != NULL && fputs(text, file) >= 0 && fflush(file) == 0 && fsync(fileno(file)) == 0;
    if (file != NULL && fclose(file) != 0)
        ok = false;
    if (!ok) {
        snprintf(problem->text, sizeof problem->text, "%s: cannot be written: %s. %s is as it was", fresh,
                 strerror(errno), path);
    } else {
        struct eb_site *site = eb_site_read(fresh, problem);
        ok = site != NULL;
        eb_site_free(site);
    }
    if (ok && stat(path, &info) == 0)
        ok = chmod(fresh, info.st_mode & 07777) == 0;
    if (ok && rename(fresh, path) != 0) {
        snprintf(problem->text, sizeof problem->text, "%s: cannot be replaced: %s", path, strerror(errno));
        ok = false;
    }
    if (!ok)
        unlink(fresh);
    return ok;
}

bool eb_site_add(const char *path, const struct eb_site_entry *entries, size_t count,
                 struct eb_problem *problem)
{
    struct place place = {0};
    if (!find_place(path, &place, problem))
        return false;
    char *old = whole_file(path, problem);
    char *text = old != NULL ? new_text(old, &place, entries, count) : NULL;
    bool ok = text != NULL && replace(path, text, problem);
    free(old);
    free(text);
    return ok;
}

struct eb_profile *eb_profiles_read(const char *folder, size_t *count, struct eb_problem *problem)
{
    struct dirent **names;
    struct eb_problem here;
    int found = scandir(folder, &names, NULL, alphasort);
    *count = 0;
    if (found < 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found no folder that can be read, expected one with profiles", folder);
        return NULL;
    }
    problem->text[0] = '\0';
    struct eb_profile *profiles = calloc((size_t)found + 1, sizeof *profiles);
    for (int i = 0; i < found; i++) {
        char path[EB_PATH_BYTES + 256];
        size_t size = strlen(names[i]->d_name);
        snprintf(path, sizeof path, "%s/%s", folder, names[i]->d_name);
        if (profiles != NULL && size > 5 && strcmp(names[i]->d_name + size - 5, ".yaml") == 0) {
            if (eb_profile_read(path, &profiles[*count], &here))
                (*count)++;
            else if (problem->text[0] == '\0')
                *problem = here; /* the first one is told */
        }
        free(names[i]);
    }
    free(names);
    return profiles;
}

void eb_profiles_free(struct eb_profile *profiles, size_t count)
{
    for (size_t i = 0; i < count; i++)
        eb_profile_free(&profiles[i]);
    free(profiles);
}
