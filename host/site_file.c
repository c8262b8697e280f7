#include "yaml_read.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LINKS_MAX = 16, PROFILES_MAX = 256 };

struct reading {
    struct ebi_yaml yaml;
    struct eb_site *site;
    char links[LINKS_MAX][EB_NAME_BYTES];
    size_t link_count;
};

static void wrong_word(struct ebi_yaml *yaml, const yaml_node_t *node, const char *word, const char *expected)
{
    char found[96];
    snprintf(found, sizeof found, "'%.60s'", word);
    ebi_yaml_wrong(yaml, node, found, expected);
}

static void read_links(struct reading *r, yaml_node_t *links)
{
    const char *name;
    yaml_node_t *node;
    for (size_t i = 0; (node = ebi_yaml_pair(&r->yaml, links, i, &name)) != NULL; i++) {
        char kind[EB_NAME_BYTES] = "";
        if (i == LINKS_MAX || !eb_text_copy(r->links[i], EB_NAME_BYTES, name)) {
            ebi_yaml_wrong(&r->yaml, node, "one link too many, or a longer name",
                           "at most 16, 47 characters each");
            return;
        }
        r->link_count = i + 1;
        struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
        ebi_yaml_text(&map, "kind", true, kind, sizeof kind);
        if (!r->yaml.failed && strcmp(kind, "ethernet") != 0)
            wrong_word(&r->yaml, ebi_yaml_need(&map, "kind"), kind, "ethernet");
        ebi_yaml_map_end(&map);
    }
}

/* The profile `name` from the site's folder of profiles, read once. */
static const struct eb_profile *profile_named(struct reading *r, const yaml_node_t *node, const char *name)
{
    struct eb_site *site = r->site;
    char path[EB_PATH_BYTES + EB_NAME_BYTES + 8];
    for (size_t i = 0; i < site->profile_count; i++) {
        if (strcmp(site->profiles[i].name, name) == 0)
            return &site->profiles[i];
    }
    if (strchr(name, '/') != NULL || site->profile_count == PROFILES_MAX) {
        wrong_word(&r->yaml, node, name, "the name of a profile, without a folder");
        return NULL;
    }
    struct eb_profile *p = &site->profiles[site->profile_count];
    snprintf(path, sizeof path, "%s/%s.yaml", site->profiles_dir, name);
    if (!eb_profile_read(path, p, r->yaml.problem)) {
        r->yaml.failed = true;
        return NULL;
    }
    if (strcmp(p->name, name) != 0) {
        r->yaml.failed = true;
        snprintf(r->yaml.problem->text, sizeof r->yaml.problem->text,
                 "%s: found the profile '%s', expected '%s' as the file is called", path, p->name, name);
        return NULL;
    }
    site->profile_count++;
    return p;
}

static void read_version(struct ebi_yaml_map *map, const char *key, const struct eb_component_profile *c,
                         char *to)
{
    ebi_yaml_text(map, key, false, to, EB_VERSION_TEXT_BYTES);
    if (to[0] != '\0' && !map->yaml->failed && !eb_version_readable(&c->order, to)) {
        char expected[80];
        snprintf(expected, sizeof expected, "a version in %s order", eb_version_scheme_word(c->order.scheme));
        wrong_word(map->yaml, ebi_yaml_need(map, key), to, expected);
    }
}

static void read_wants(struct reading *r, yaml_node_t *wants, struct eb_site_device *device)
{
    const char *name;
    yaml_node_t *node;
    for (size_t i = 0; (node = ebi_yaml_pair(&r->yaml, wants, i, &name)) != NULL; i++) {
        const struct eb_component_profile *component = eb_profile_component(device->profile, name);
        if (component == NULL) {
            char expected[256] = "one of:";
            for (size_t k = 0; k < device->profile->count; k++)
                snprintf(expected + strlen(expected), sizeof expected - strlen(expected), "%s %s",
                         k > 0 ? "," : "", device->profile->components[k].name);
            char found[192];
            snprintf(found, sizeof found, "the component '%.60s', which profile %s has not", name,
                     device->profile->name);
            ebi_yaml_wrong(&r->yaml, node, found, expected);
            return;
        }
        struct eb_site_want *want = &device->wants[component - device->profile->components];
        struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
        char image[EB_PATH_BYTES] = "";
        ebi_yaml_need(&map, "version");
        read_version(&map, "version", component, want->version);
        read_version(&map, "delivered", component, want->delivered);
        ebi_yaml_text(&map, "image", false, image, sizeof image);
        if (image[0] != '\0')
            ebi_path_beside(r->yaml.path, image, want->image);
        ebi_yaml_map_end(&map);
    }
}

static void read_mask(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    struct eb_endpoint mask;
    char text[EB_ENDPOINT_TEXT_BYTES] = "255.255.255.0";
    ebi_yaml_text(map, "mask", false, text, sizeof text);
    if (!eb_endpoint_parse(&mask, text) || !eb_mask_read(mask.ip, &device->prefix))
        wrong_word(&r->yaml, ebi_yaml_need(map, "mask"), text, "a mask like 255.255.255.0: ones, then zeros");
}

static void read_address(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    char address[EB_ENDPOINT_TEXT_BYTES] = "";
    struct ebi_yaml_map ports = ebi_yaml_map(&r->yaml, ebi_yaml_get(map, "ports", false));
    ebi_yaml_text(map, "address", true, address, sizeof address);
    device->modbus.port = (uint16_t)ebi_yaml_number(&ports, "modbus", 1, 65535, EB_MODBUS_PORT);
    device->tftp.port = (uint16_t)ebi_yaml_number(&ports, "tftp", 1, 65535, EB_TFTP_PORT);
    device->unit = (uint8_t)ebi_yaml_number(map, "unit", 0, 255, EB_MODBUS_UNIT_SELF);
    ebi_yaml_map_end(&ports);
    read_mask(r, map, device);
    if (r->yaml.failed)
        return;
    yaml_node_t *node = ebi_yaml_need(map, "address");
    if (!eb_endpoint_parse(&device->modbus, address)) {
        wrong_word(&r->yaml, node, address, "an IPv4 address like 192.0.2.10");
        return;
    }
    eb_endpoint_parse(&device->tftp, address);
    for (const struct eb_site_device *d = r->site->devices; d < device; d++) {
        if (eb_endpoint_same(&d->modbus, &device->modbus) || eb_endpoint_same(&d->tftp, &device->tftp)) {
            char found[160];
            snprintf(found, sizeof found, "%s, which '%s' has already", address, d->name);
            ebi_yaml_wrong(&r->yaml, node, found, "an address of its own for each device");
            return;
        }
    }
}

static void read_mac(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    char text[EB_NAME_BYTES] = "";
    ebi_yaml_text(map, "mac", false, text, sizeof text);
    device->has_mac = text[0] != '\0' && eb_mac_parse(text, device->mac);
    if (text[0] != '\0' && !device->has_mac && !r->yaml.failed)
        wrong_word(&r->yaml, ebi_yaml_need(map, "mac"), text, "a hardware address like 02:00:5e:10:00:01");
}

static void read_device(struct reading *r, const char *name, yaml_node_t *node, struct eb_site_device *device)
{
    struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
    char profile[EB_NAME_BYTES] = "";
    bool known = false;
    if (!eb_text_copy(device->name, sizeof device->name, name))
        ebi_yaml_wrong(&r->yaml, node, "a device with a longer name", "at most 47 characters");
    ebi_yaml_text(&map, "link", true, device->link, sizeof device->link);
    for (size_t i = 0; i < r->link_count; i++)
        known = known || strcmp(r->links[i], device->link) == 0;
    if (!known && !r->yaml.failed)
        wrong_word(&r->yaml, ebi_yaml_need(&map, "link"), device->link, "the name of a link from 'links'");
    read_address(r, &map, device);
    ebi_yaml_text(&map, "serial", false, device->serial, sizeof device->serial);
    read_mac(r, &map, device);
    ebi_yaml_text(&map, "profile", true, profile, sizeof profile);
    yaml_node_t *wants = ebi_yaml_get(&map, "wants", false);
    if (!r->yaml.failed)
        device->profile = profile_named(r, ebi_yaml_need(&map, "profile"), profile);
    if (device->profile != NULL)
        read_wants(r, wants, device);
    ebi_yaml_map_end(&map);
}

static size_t pairs_of(const yaml_node_t *node)
{
    return node != NULL && node->type == YAML_MAPPING_NODE
               ? (size_t)(node->data.mapping.pairs.top - node->data.mapping.pairs.start)
               : 0;
}

static void read_site(struct reading *r)
{
    struct eb_site *site = r->site;
    struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, ebi_yaml_root(&r->yaml));
    char profiles[EB_PATH_BYTES] = "profiles";
    const char *name;
    yaml_node_t *node;
    ebi_yaml_text(&map, "site", true, site->name, sizeof site->name);
    ebi_yaml_text(&map, "profiles", false, profiles, sizeof profiles);
    ebi_path_beside(r->yaml.path, profiles, site->profiles_dir);
    read_links(r, ebi_yaml_get(&map, "links", true));
    yaml_node_t *devices = ebi_yaml_get(&map, "devices", true);
    site->devices = calloc(pairs_of(devices) + 1, sizeof *site->devices);
    site->profiles = calloc(PROFILES_MAX, sizeof *site->profiles);
    for (size_t i = 0; (node = ebi_yaml_pair(&r->yaml, devices, i, &name)) != NULL; i++) {
        read_device(r, name, node, &site->devices[i]);
        site->device_count = i + 1;
    }
    ebi_yaml_map_end(&map);
}

struct eb_site *eb_site_read(const char *path, struct eb_problem *problem)
{
    struct reading r = {.site = calloc(1, sizeof *r.site)};
    if (r.site == NULL || !ebi_yaml_open(&r.yaml, path, problem)) {
        free(r.site);
        return NULL;
    }
    read_site(&r);
    ebi_yaml_close(&r.yaml);
    if (r.yaml.failed) {
        eb_site_free(r.site);
        return NULL;
    }
    return r.site;
}

void eb_site_free(struct eb_site *site)
{
    if (site == NULL)
        return;
    free(site->profiles);
    free(site->devices);
    free(site);
}

const struct eb_site_device *eb_site_device(const struct eb_site *site, const char *name)
{
    for (size_t i = 0; i < site->device_count; i++) {
        if (strcmp(site->devices[i].name, name) == 0)
            return &site->devices[i];
    }
    return NULL;
}

/* --- writing ------------------------------------------------------------------------------------- */

/* YAML double-quoted style; the texts hold no control characters, reading refuses them. */
static void put_text(FILE *file, int indent, const char *key, const char *text)
{
    fprintf(file, "%*s%s: \"", indent, "", key);
    for (; *text != '\0'; text++) {
        if (*text == '"' || *text == '\\')
            fputc('\\', file);
        fputc(*text, file);
    }
    fputs("\"\n", file);
}

static void write_device(FILE *file, const struct eb_site_device *d)
{
    char address[EB_ENDPOINT_TEXT_BYTES];
    unsigned mask = d->prefix == 0 ? 0 : UINT32_MAX << (32 - d->prefix);
    bool any = false;
    eb_endpoint_text(&d->modbus, false, address);
    fprintf(file, "  \"%s\":\n", d->name);
    put_text(file, 4, "link", d->link);
    put_text(file, 4, "address", address);
    fprintf(file, "    mask: %u.%u.%u.%u\n", mask >> 24, mask >> 16 & 255, mask >> 8 & 255, mask & 255);
    fprintf(file, "    ports: {modbus: %u, tftp: %u}\n    unit: %u\n", d->modbus.port, d->tftp.port, d->unit);
    if (d->has_mac) {
        char mac[EB_MAC_TEXT_BYTES];
        eb_mac_text(d->mac, mac);
        put_text(file, 4, "mac", mac);
    }
    put_text(file, 4, "profile", d->profile->name);
    if (d->serial[0] != '\0')
        put_text(file, 4, "serial", d->serial);
    for (size_t i = 0; i < d->profile->count; i++) {
        const struct eb_site_want *want = &d->wants[i];
        if (want->version[0] == '\0')
            continue;
        fprintf(file, "%s      \"%s\":\n", any ? "" : "    wants:\n", d->profile->components[i].name);
        any = true;
        put_text(file, 8, "version", want->version);
        if (want->image[0] != '\0')
            put_text(file, 8, "image", want->image);
        if (want->delivered[0] != '\0')
            put_text(file, 8, "delivered", want->delivered);
    }
}

bool eb_site_write(const struct eb_site *site, const char *path, struct eb_problem *problem)
{
    char *bytes = NULL;
    size_t size = 0;
    FILE *text = open_memstream(&bytes, &size);
    if (text == NULL)
        return false;
    put_text(text, 0, "site", site->name);
    put_text(text, 0, "profiles", site->profiles_dir);
    fputs("links:\n", text);
    for (size_t i = 0; i < site->device_count; i++) {
        bool seen = false;
        for (size_t k = 0; k < i; k++)
            seen = seen || strcmp(site->devices[k].link, site->devices[i].link) == 0;
        if (!seen)
            fprintf(text, "  \"%s\": {kind: ethernet}\n", site->devices[i].link);
    }
    fputs(site->device_count > 0 ? "devices:\n" : "devices: {}\n", text);
    for (size_t i = 0; i < site->device_count; i++)
        write_device(text, &site->devices[i]);
    fclose(text);
    FILE *file = fopen(path, "wb");
    bool ok = file != NULL && fwrite(bytes, 1, size, file) == size;
    if (file != NULL && fclose(file) != 0)
        ok = false;
    if (!ok)
        snprintf(problem->text, sizeof problem->text, "%s: cannot be written: %s", path, strerror(errno));
    free(bytes);
    return ok;
}
