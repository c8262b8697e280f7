#include "image_file.h"
#include "yaml_read.h"

#include <errno.h>
#include <dirent.h>
#include <limits.h>
#include <search.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct reading {
    struct ebi_yaml yaml;
    struct eb_site *site;
    /* trees (search.h) of its profiles by name and slot; of its devices by name, by what they are sent to,
     * and of modules by rack and slot */
    void *profiles, *names, *modbus, *tftp, *slots;
    void *unreadable; /* profiles, as well by name and slot */
};

static int compare_numbers(uintptr_t a, uintptr_t b)
{
    return (a > b) - (a < b);
}

static int compare_profiles(const void *a, const void *b)
{
    const struct eb_profile *left = a;
    const struct eb_profile *right = b;
    int order = strcmp(left->name, right->name);
    return order != 0 ? order : compare_numbers(left->slot, right->slot);
}

static int compare_names(const void *a, const void *b)
{
    return strcmp(((const struct eb_site_device *)a)->name, ((const struct eb_site_device *)b)->name);
}

static int compare_endpoints(const struct eb_endpoint *a, const struct eb_endpoint *b)
{
    int order = memcmp(a->ip, b->ip, sizeof a->ip);
    return order != 0 ? order : compare_numbers(a->port, b->port);
}

static int compare_modbus(const void *a, const void *b)
{
    return compare_endpoints(&((const struct eb_site_device *)a)->modbus,
                             &((const struct eb_site_device *)b)->modbus);
}

static int compare_tftp(const void *a, const void *b)
{
    return compare_endpoints(&((const struct eb_site_device *)a)->tftp,
                             &((const struct eb_site_device *)b)->tftp);
}

static int compare_slots(const void *a, const void *b)
{
    const struct eb_site_device *left = a;
    const struct eb_site_device *right = b;
    int order = compare_numbers((uintptr_t)left->via, (uintptr_t)right->via);
    return order != 0 ? order : compare_numbers(left->slot, right->slot);
}

/* The device that has this place in the tree: the one that came first. */
static const struct eb_site_device *put(const struct eb_site_device *device, void **tree,
                                        int (*compare)(const void *a, const void *b))
{
    struct eb_site_device *const *at = tsearch(device, tree, compare);
    if (at == NULL)
        abort(); /* no memory for a few words */
    return *at;
}

static void keep_data(void *data)
{
    (void)data;
}

static void wrong_word(struct ebi_yaml *yaml, const yaml_node_t *node, const char *word, const char *expected)
{
    char found[96];
    snprintf(found, sizeof found, "'%.60s'", word);
    ebi_yaml_wrong(yaml, node, found, expected);
}

static const char *const kinds[] = {
    [EB_SITE_ETHERNET] = "ethernet", [EB_SITE_CAN] = "can", [EB_SITE_USB] = "usb"};

static void read_bus(struct reading *r, struct ebi_yaml_map *map, struct eb_site_link *link)
{
    link->bit_rate = (uint32_t)ebi_yaml_number(map, "bit-rate", 5000, 1000000, 0);
    ebi_yaml_text(map, "adapter", false, link->adapter, sizeof link->adapter);
    bool known = link->bit_rate == 0 || strchr(link->adapter, '/') == NULL;
    for (size_t i = 0; i < EB_CAN_BIT_RATES; i++)
        known = known || eb_can_bit_rates[i] == link->bit_rate;
    if (!known && !r->yaml.failed)
        ebi_yaml_wrong(&r->yaml, ebi_yaml_need(map, "bit-rate"),
                       "a bit rate that serial adapters do not know",
                       "10000, 20000, 50000, 100000, 125000, 250000, 500000, 800000 or 1000000");
}

static void read_links(struct reading *r, yaml_node_t *links)
{
    const char *name;
    yaml_node_t *node;
    r->site->links = calloc(ebi_yaml_pairs(links) + 1, sizeof *r->site->links);
    for (size_t i = 0; (node = ebi_yaml_pair(&r->yaml, links, i, &name)) != NULL; i++) {
        struct eb_site_link *link = &r->site->links[i];
        char kind[EB_NAME_BYTES] = "";
        if (!eb_text_copy(link->name, sizeof link->name, name)) {
            ebi_yaml_wrong(&r->yaml, node, "a link with a longer name", "at most 47 characters");
            return;
        }
        r->site->link_count = i + 1;
        struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
        ebi_yaml_text(&map, "kind", true, kind, sizeof kind);
        while (link->kind <= EB_SITE_USB && strcmp(kinds[link->kind], kind) != 0)
            link->kind++;
        if (link->kind > EB_SITE_USB) {
            link->kind = EB_SITE_ETHERNET;
            if (!r->yaml.failed)
                wrong_word(&r->yaml, ebi_yaml_need(&map, "kind"), kind, "ethernet, can or usb");
        }
        if (link->kind == EB_SITE_CAN)
            read_bus(r, &map, link);
        ebi_yaml_map_end(&map);
        ebi_yaml_go_on(&r->yaml);
    }
}

static void no_such_profile(struct reading *r, const yaml_node_t *node, const char *name)
{
    struct dirent **list = NULL;
    char near[EB_NAME_BYTES] = "";
    unsigned least = UINT_MAX;
    int count = scandir(r->site->profiles_dir, &list, NULL, alphasort);
    for (int i = 0; i < count; i++) {
        char other[EB_NAME_BYTES];
        size_t size = strlen(list[i]->d_name);
        struct eb_nearest one = eb_nearest_begin(name);
        if (size > 5 && strcmp(list[i]->d_name + size - 5, ".yaml") == 0 && size - 5 < sizeof other) {
            memcpy(other, list[i]->d_name, size - 5);
            other[size - 5] = '\0';
            eb_nearest_offer(&one, other);
        }
        if (one.best != NULL && one.least < least) {
            least = one.least;
            eb_text_copy(near, sizeof near, other);
        }
        free(list[i]);
    }
    free(list);
    char expected[EB_PATH_BYTES + 2 * EB_NAME_BYTES];
    snprintf(expected, sizeof expected, "the name of a profile in %s%s%s%s", r->site->profiles_dir,
             near[0] != '\0' ? "; did you mean '" : "", near, near[0] != '\0' ? "'?" : "");
    wrong_word(&r->yaml, node, name, expected);
}

/* The profile `name` from the site's folder of profiles, read once, or once for each slot that is used. */
static const struct eb_profile *profile_named(struct reading *r, const yaml_node_t *node, const char *name,
                                              unsigned slot)
{
    struct eb_site *site = r->site;
    char path[EB_PATH_BYTES + EB_NAME_BYTES + 8];
    struct eb_profile wanted = {.slot = (uint8_t)slot};
    eb_text_copy(wanted.name, sizeof wanted.name, name);
    struct eb_profile *const *known = tfind(&wanted, &r->profiles, compare_profiles);
    if (tfind(&wanted, &r->unreadable, compare_profiles) != NULL) { /* that was reported */
        r->yaml.failed = true;
        return NULL;
    }
    if (known != NULL)
        return *known;
    if (strchr(name, '/') != NULL) {
        wrong_word(&r->yaml, node, name, "the name of a profile, without a folder");
        return NULL;
    }
    snprintf(path, sizeof path, "%s/%s.yaml", site->profiles_dir, name);
    if (access(path, F_OK) != 0 && errno == ENOENT) {
        no_such_profile(r, node, name);
        return NULL;
    }
    struct eb_profile **more = realloc(site->profiles, (site->profile_count + 1) * sizeof *more);
    struct eb_profile *p = calloc(1, sizeof *p);
    if (more == NULL || p == NULL)
        abort();
    site->profiles = more;
    more[site->profile_count++] = p;
    /* With all findings of it, once. */
    bool read = r->yaml.tell == NULL ? eb_profile_read_slot(path, slot, p, r->yaml.problem)
                                     : eb_profile_check(path, r->yaml.tell, r->yaml.context) &&
                                           eb_profile_read_slot(path, slot, p, r->yaml.problem);
    if (!read) {
        r->yaml.failed = true;
        eb_text_copy(p->name, sizeof p->name, name);
        p->slot = (uint8_t)slot;
        if (tsearch(p, &r->unreadable, compare_profiles) == NULL)
            abort();
        return NULL;
    }
    if (strcmp(p->name, name) != 0) {
        r->yaml.failed = true;
        snprintf(r->yaml.problem->text, sizeof r->yaml.problem->text,
                 "%s: found the profile '%s', expected '%s' as the file is called", path, p->name, name);
        return NULL;
    }
    if (tsearch(p, &r->profiles, compare_profiles) == NULL)
        abort();
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

/* A text in the site's own memory. */
static const char *kept(struct ebi_yaml *yaml, const char *text)
{
    size_t size = strlen(text) + 1;
    return memcpy(ebi_yaml_keep(yaml, size), text, size);
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
            snprintf(found, sizeof found, "the component '%.60s', which profile %s does not have", name,
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
        if (image[0] != '\0') {
            char path[EB_PATH_BYTES];
            ebi_path_beside(r->yaml.path, image, path);
            want->image = kept(&r->yaml, path);
        }
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
    const struct eb_site_device *other = put(device, &r->modbus, compare_modbus);
    if (other == device)
        other = put(device, &r->tftp, compare_tftp);
    if (other != device) {
        char found[160];
        snprintf(found, sizeof found, "%s, which '%s' has already", address, other->name);
        ebi_yaml_wrong(&r->yaml, node, found, "an address of its own for each device");
    }
}

static void read_web(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    struct ebi_yaml_map web = ebi_yaml_map(&r->yaml, ebi_yaml_get(map, "http", false));
    struct eb_site_web *to = &device->web;
    char authority[EB_PATH_BYTES] = "";
    to->authority = "";
    to->port = (uint16_t)ebi_yaml_number(&web, "port", 1, 65535, 0);
    ebi_yaml_text(&web, "host", false, to->host, sizeof to->host);
    ebi_yaml_text(&web, "certificate", false, to->certificate, sizeof to->certificate);
    ebi_yaml_text(&web, "authority", false, authority, sizeof authority);
    if (to->certificate[0] != '\0' && !r->yaml.failed &&
        strspn(to->certificate, "0123456789abcdef") != EB_CERTIFICATE_TEXT_BYTES - 1)
        wrong_word(&r->yaml, ebi_yaml_need(&web, "certificate"), to->certificate,
                   "the SHA-256 of its certificate, 64 hexadecimal digits in lower case");
    if (authority[0] != '\0') {
        char path[EB_PATH_BYTES];
        ebi_path_beside(r->yaml.path, authority, path);
        to->authority = kept(&r->yaml, path);
    }
    ebi_yaml_map_end(&web);
}

static void read_mac(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    char text[EB_NAME_BYTES] = "";
    ebi_yaml_text(map, "mac", false, text, sizeof text);
    device->has_mac = text[0] != '\0' && eb_mac_parse(text, device->mac);
    if (text[0] != '\0' && !device->has_mac && !r->yaml.failed)
        wrong_word(&r->yaml, ebi_yaml_need(map, "mac"), text, "a hardware address like 02:00:5e:10:00:01");
}

/* On USB: its serial number or its place must tell which one of its kind it is. */
static void check_usb(struct reading *r, struct ebi_yaml_map *map, const struct eb_site_device *device)
{
    bool vague = device->serial[0] == '\0' && device->usb_place[0] == '\0';
    for (const struct eb_site_device *d = r->site->devices; d < device && !r->yaml.failed; d++) {
        if (d->profile == device->profile && (vague || (d->serial[0] == '\0' && d->usb_place[0] == '\0')))
            ebi_yaml_wrong(&r->yaml, map->node, "a second device of one kind on USB",
                           "'serial' or 'place' for each of them: else nothing says which is which");
    }
}

/* On a CAN bus: a node id, or the identifiers of UDS. */
static void read_place(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    yaml_node_t *uds = ebi_yaml_get(map, "uds", false);
    struct eb_isotp_config *isotp = &device->isotp;
    device->node = (uint8_t)ebi_yaml_number(map, "node", 1, 127, 0);
    bool wrong = (uds != NULL) == (device->node != 0) && !r->yaml.failed;
    if (wrong && (uds != NULL || (!ebi_yaml_misspelt(map, "node") && !ebi_yaml_misspelt(map, "uds"))))
        ebi_yaml_wrong(&r->yaml, map->node, uds != NULL ? "both 'node' and 'uds'" : "no place on its bus",
                       "'node', a node id of CANopen, or 'uds' with 'request' and 'response'");
    struct ebi_yaml_map ids = ebi_yaml_map(&r->yaml, uds);
    isotp->request = (uint32_t)ebi_yaml_number(&ids, "request", 0, EB_CAN_EXTENDED_ID_MAX, 0);
    isotp->response = (uint32_t)ebi_yaml_number(&ids, "response", 0, EB_CAN_EXTENDED_ID_MAX, 0);
    isotp->extended_ids = isotp->request > EB_CAN_ID_MAX || isotp->response > EB_CAN_ID_MAX;
    isotp->extended = uds != NULL && ebi_yaml_get(&ids, "target", false) != NULL;
    isotp->target = (uint8_t)ebi_yaml_number(&ids, "target", 0, 255, 0);
    isotp->tester = (uint8_t)ebi_yaml_number(&ids, "tester", 0, 255, 0xF1);
    if (uds != NULL) {
        ebi_yaml_need(&ids, "request");
        ebi_yaml_need(&ids, "response");
    }
    ebi_yaml_map_end(&ids);
}

void eb_site_place_text(const struct eb_site_device *d, char text[EB_PLACE_TEXT_BYTES])
{
    if (d->slot != 0) {
        eb_endpoint_text(&d->modbus, false, text);
        snprintf(text + strlen(text), EB_PLACE_TEXT_BYTES - strlen(text), " slot %u", d->slot);
    } else if (d->wire == NULL || d->wire->kind == EB_SITE_ETHERNET)
        eb_endpoint_text(&d->modbus, false, text);
    else if (d->wire->kind == EB_SITE_USB)
        snprintf(text, EB_PLACE_TEXT_BYTES, "%04x:%04x%s%.16s", d->profile->usb.vendor,
                 d->profile->usb.product, d->usb_place[0] != '\0' ? " at " : "", d->usb_place);
    else if (d->node != 0)
        snprintf(text, EB_PLACE_TEXT_BYTES, "node %u", d->node);
    else
        snprintf(text, EB_PLACE_TEXT_BYTES, d->isotp.extended_ids ? "%08X/%08X" : "%03X/%03X",
                 d->isotp.request, d->isotp.response);
}

/* A profile is for one wire: a device is not reached over another one. */
static void check_wire(struct reading *r, struct ebi_yaml_map *map, const struct eb_site_device *device,
                       const char *name)
{
    const struct eb_access *by = device->profile->sends_by;
    enum eb_wire wire = eb_profile_wire(device->profile);
    const char *expected = NULL;
    if (device->wire == NULL || device->wire->kind == EB_SITE_ETHERNET) {
        if (wire != EB_WIRE_ETHERNET)
            expected = "a profile for a device on Ethernet";
    } else if (device->wire->kind == EB_SITE_USB) {
        if (wire != EB_WIRE_USB)
            expected = "a profile with the key 'dfu', as the device is on USB";
    } else if (by != (device->node != 0 ? &eb_access_canopen : &eb_access_uds)) {
        expected = device->node != 0 ? "a profile with the key 'canopen', as the device has a node id"
                                     : "a profile with the key 'uds', as the device has UDS identifiers";
    }
    if (expected != NULL)
        wrong_word(&r->yaml, ebi_yaml_need(map, "profile"), name, expected);
}

/* {hardware-revision: C, firmware: "2.18"}: what a person has read. */
static void read_stated(struct reading *r, yaml_node_t *node, struct eb_site_device *device)
{
    const struct eb_profile *p = device->profile;
    const char *name;
    size_t count = 0;
    if (node == NULL)
        return;
    struct eb_pair *list = ebi_yaml_keep(&r->yaml, (eb_profile_items(p) + 1) * sizeof *list);
    yaml_node_t *value;
    for (size_t i = 0; (value = ebi_yaml_pair(&r->yaml, node, i, &name)) != NULL; i++) {
        bool known = false;
        for (size_t item = 0; item < eb_profile_items(p); item++)
            known = known || strcmp(eb_site_item_key(p, item), name) == 0;
        if (!known || count == eb_profile_items(p)) {
            wrong_word(&r->yaml, value, name,
                       "maker, product, order-code, hardware-revision, serial, or a component");
            return;
        }
        list[count].text = ebi_yaml_kept(&r->yaml, value);
        list[count++].name = memcpy(ebi_yaml_keep(&r->yaml, strlen(name) + 1), name, strlen(name) + 1);
        if (r->yaml.failed)
            return;
    }
    device->stated = (struct eb_pairs){list, count};
}

static void no_such_link(struct reading *r, const yaml_node_t *node, const char *name)
{
    struct eb_nearest near = eb_nearest_begin(name);
    char meant[EB_NEAREST_BYTES];
    char expected[EB_NEAREST_BYTES + 48];
    for (size_t i = 0; i < r->site->link_count; i++)
        eb_nearest_offer(&near, r->site->links[i].name);
    snprintf(expected, sizeof expected, "the name of a link from 'links'%s", eb_nearest_text(&near, meant));
    wrong_word(&r->yaml, node, name, expected);
}

static void read_device(struct reading *r, const char *name, yaml_node_t *node, struct eb_site_device *device)
{
    struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
    char profile[EB_NAME_BYTES] = "";
    if (!eb_text_copy(device->name, sizeof device->name, name))
        ebi_yaml_wrong(&r->yaml, node, "a device with a longer name", "at most 47 characters");
    ebi_yaml_text(&map, "link", true, device->link, sizeof device->link);
    for (size_t i = 0; i < r->site->link_count; i++) {
        if (strcmp(r->site->links[i].name, device->link) == 0)
            device->wire = &r->site->links[i];
    }
    if (device->wire == NULL && !r->yaml.failed)
        no_such_link(r, ebi_yaml_need(&map, "link"), device->link);
    bool on_bus = device->wire != NULL && device->wire->kind == EB_SITE_CAN;
    bool on_usb = device->wire != NULL && device->wire->kind == EB_SITE_USB;
    if (on_bus)
        read_place(r, &map, device);
    else if (on_usb)
        ebi_yaml_text(&map, "place", false, device->usb_place, sizeof device->usb_place);
    else if ((device->slot = (uint8_t)ebi_yaml_number(&map, "slot", 1, 247, 0)) == 0)
        read_address(r, &map, device);
    device->web.authority = "";
    if (!on_bus && !on_usb && device->slot == 0)
        read_web(r, &map, device);
    ebi_yaml_text(&map, "serial", false, device->serial, sizeof device->serial);
    ebi_yaml_text(&map, "order-code", false, device->order_code, sizeof device->order_code);
    ebi_yaml_text(&map, "hardware-revision", false, device->hardware_revision,
                  sizeof device->hardware_revision);
    ebi_yaml_get(&map, "via", false); /* these once all devices are known */
    ebi_yaml_get(&map, "managed-by", false);
    ebi_yaml_get(&map, "companions", false);
    if (!on_bus && !on_usb && device->slot == 0)
        read_mac(r, &map, device);
    ebi_yaml_text(&map, "profile", true, profile, sizeof profile);
    yaml_node_t *stated = ebi_yaml_get(&map, "stated", false);
    yaml_node_t *wants = ebi_yaml_get(&map, "wants", false);
    if (!r->yaml.failed)
        device->profile = profile_named(r, ebi_yaml_need(&map, "profile"), profile, device->slot);
    if (device->profile != NULL && device->profile->per_slot && device->slot == 0)
        wrong_word(&r->yaml, ebi_yaml_need(&map, "profile"), profile,
                   "the keys 'slot' and 'via' here as well: it is of modules in a rack");
    if (device->profile != NULL && device->order_code[0] != '\0' &&
        !eb_profile_covers(device->profile, device->order_code))
        wrong_word(&r->yaml, ebi_yaml_need(&map, "order-code"), device->order_code,
                   "an order code that its profile covers");
    if (device->profile != NULL)
        check_wire(r, &map, device, profile);
    if (device->profile != NULL && on_usb)
        check_usb(r, &map, device);
    if (device->profile != NULL) {
        device->wants = ebi_yaml_keep(&r->yaml, (device->profile->count + 1) * sizeof *device->wants);
        for (size_t k = 0; k < device->profile->count; k++)
            device->wants[k].image = "";
        read_wants(r, wants, device);
        read_stated(r, stated, device);
    }
    ebi_yaml_map_end(&map);
}

/* The device of the site under `key`. */
static const struct eb_site_device *read_reference(struct reading *r, struct ebi_yaml_map *map,
                                                   const char *key)
{
    char name[EB_NAME_BYTES] = "";
    ebi_yaml_text(map, key, false, name, sizeof name);
    struct eb_site_device wanted;
    memcpy(wanted.name, name, sizeof name);
    struct eb_site_device *const *at = name[0] != '\0' ? tfind(&wanted, &r->names, compare_names) : NULL;
    const struct eb_site_device *device = at != NULL ? *at : NULL;
    if (name[0] != '\0' && device == NULL)
        wrong_word(&r->yaml, ebi_yaml_need(map, key), name, "the name of a device of this site");
    return device;
}

static void read_companion(struct reading *r, const char *role, yaml_node_t *node,
                           struct eb_site_companion *companion)
{
    char component[EB_NAME_BYTES] = "";
    struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
    companion->device = read_reference(r, &map, "device");
    ebi_yaml_text(&map, "version", false, companion->version, sizeof companion->version);
    ebi_yaml_text(&map, "component", false, component, sizeof component);
    if (!eb_text_copy(companion->role, sizeof companion->role, role))
        ebi_yaml_wrong(&r->yaml, node, "a longer role", "at most 47 characters");
    if (!r->yaml.failed && (companion->device == NULL) == (companion->version[0] == '\0'))
        ebi_yaml_wrong(&r->yaml, node, companion->device == NULL ? "no companion" : "a device and a version",
                       "'device', the name of one of this site, or 'version', a fixed one");
    if (companion->device != NULL && component[0] != '\0') {
        const struct eb_profile *profile = companion->device->profile;
        const struct eb_component_profile *c = eb_profile_component(profile, component);
        if (c == NULL)
            wrong_word(&r->yaml, ebi_yaml_need(&map, "component"), component, "a component of that device");
        else
            companion->component = (size_t)(c - profile->components);
    }
    ebi_yaml_map_end(&map);
}

/* A module is reached at the address of the device in whose rack it is, as the unit of its slot. */
static void take_slot(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    const struct eb_site_device *rack = device->via;
    if (device->slot == 0 || r->yaml.failed)
        return;
    if (rack == NULL || rack->slot != 0 || rack->wire != device->wire) {
        wrong_word(&r->yaml, ebi_yaml_need(map, "slot"), device->name,
                   "'via' with the device in whose rack it is, on the same link");
        return;
    }
    const struct eb_site_device *other = put(device, &r->slots, compare_slots);
    if (other != device)
        wrong_word(&r->yaml, ebi_yaml_need(map, "slot"), other->name, "one module in each slot of a rack");
    device->modbus = rack->modbus;
    device->tftp = rack->tftp;
    device->prefix = rack->prefix;
    device->web = rack->web;
    device->unit = device->slot;
}

/* A manager keeps the network of its own bus. */
static void take_manager(struct reading *r, struct ebi_yaml_map *map, struct eb_site_device *device)
{
    const struct eb_site_device *manager = read_reference(r, map, "managed-by");
    device->manager = manager;
    if (manager == NULL || r->yaml.failed)
        return;
    if (device->node == 0 || manager->node == 0 || manager->wire != device->wire || manager == device)
        wrong_word(&r->yaml, ebi_yaml_need(map, "managed-by"), manager->name,
                   "another CANopen node on the same link, which keeps the network");
    else if (device->via != NULL && device->via != manager)
        wrong_word(&r->yaml, ebi_yaml_need(map, "via"), device->via->name,
                   "no 'via' beside 'managed-by': the device waits for its manager");
    device->via = manager;
}

/* What one device says of others. */
static void read_relations(struct reading *r, yaml_node_t *node, struct eb_site_device *device)
{
    struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
    const char *role;
    yaml_node_t *companion;
    device->via = read_reference(r, &map, "via");
    take_manager(r, &map, device);
    take_slot(r, &map, device);
    yaml_node_t *companions = ebi_yaml_get(&map, "companions", false);
    for (size_t i = 0; (companion = ebi_yaml_pair(&r->yaml, companions, i, &role)) != NULL; i++) {
        if (i == EB_COMPANIONS_MAX) {
            ebi_yaml_wrong(&r->yaml, companion, "one companion too many", "at most 4");
            return;
        }
        read_companion(r, role, companion, &device->companions[i]);
        device->companion_count = i + 1;
    }
}

/* The device that `d` waits for, number `i`; NULL: none there. */
static struct eb_site_device *awaited(const struct eb_site *site, const struct eb_site_device *d, size_t i)
{
    const struct eb_site_device *other = i == 0 ? d->via : d->companions[i - 1].device;
    return other != NULL ? &site->devices[other - site->devices] : NULL;
}

/* Each device comes after those that it waits for, which are visited before it.  One that waits for itself
 * never comes. */
static void find_waves(struct reading *r, yaml_node_t *devices)
{
    struct eb_site *site = r->site;
    const char *name;
    struct visit {
        struct eb_site_device *device;
        size_t next; /* of those that it waits for */
    } *way = calloc(site->device_count + 1, sizeof *way);
    enum { NEW, UNDER_WAY, DONE } *states = calloc(site->device_count + 1, sizeof *states);
    if (way == NULL || states == NULL)
        abort();
    for (size_t i = 0; i < site->device_count && !r->yaml.failed; i++) {
        size_t depth = states[i] == NEW;
        way[0] = (struct visit){&site->devices[i], 0};
        while (depth > 0 && !r->yaml.failed) {
            struct visit *at = &way[depth - 1];
            struct eb_site_device *d = at->device;
            states[d - site->devices] = UNDER_WAY;
            if (at->next > d->companion_count) {
                states[d - site->devices] = DONE;
                depth--;
                continue;
            }
            struct eb_site_device *other = awaited(site, d, at->next);
            if (other != NULL && states[other - site->devices] == UNDER_WAY) {
                ebi_yaml_wrong(&r->yaml,
                               ebi_yaml_pair(&r->yaml, devices, (size_t)(other - site->devices), &name),
                               "a device that waits for itself, by 'via', 'managed-by' and 'companions'",
                               "no such circle");
            } else if (other != NULL && states[other - site->devices] == NEW) {
                way[depth++] = (struct visit){other, 0};
                continue; /* and once more to this one, when its wave is known */
            } else if (other != NULL && other->wave >= d->wave) {
                d->wave = other->wave + 1;
            }
            at->next++;
        }
    }
    free(way);
    free(states);
}

static const char key_expected[] =
    "at most 16 public keys, each of 43 characters as 'einbau key new' prints it";

static bool is_day(const char *text)
{
    const struct eb_version_order order = {.scheme = EB_VERSION_DATE};
    return strlen(text) == EB_DATE_BYTES - 1 && text[4] == '-' && eb_version_readable(&order, text);
}

/* "...", or {key: "...", until: 2027-03-31} */
static void read_trusted(struct reading *r, yaml_node_t *keys)
{
    yaml_node_t *node;
    for (size_t i = 0; (node = ebi_yaml_item(&r->yaml, keys, i)) != NULL && !r->yaml.failed; i++) {
        char text[EB_NAME_BYTES] = "";
        char until[EB_NAME_BYTES] = "";
        if (node->type == YAML_MAPPING_NODE) {
            struct ebi_yaml_map map = ebi_yaml_map(&r->yaml, node);
            ebi_yaml_text(&map, "key", true, text, sizeof text);
            ebi_yaml_text(&map, "until", false, until, sizeof until);
            ebi_yaml_map_end(&map);
        } else {
            const char *word = ebi_yaml_scalar(&r->yaml, node);
            eb_text_copy(text, sizeof text, word != NULL ? word : "");
        }
        if (r->yaml.failed)
            return;
        if (i == EB_KEYS_MAX || !eb_key_parse(text, &r->site->keys[i].key)) {
            wrong_word(&r->yaml, node, text, key_expected);
            return;
        }
        if (until[0] != '\0' && !is_day(until)) {
            wrong_word(&r->yaml, node, until, "the last day on which the key counts, like 2027-03-31");
            return;
        }
        eb_text_copy(r->site->keys[i].until, EB_DATE_BYTES, until);
        r->site->key_count = i + 1;
    }
}

static void read_revoked(struct reading *r, yaml_node_t *keys)
{
    yaml_node_t *node;
    for (size_t i = 0; (node = ebi_yaml_item(&r->yaml, keys, i)) != NULL; i++) {
        const char *text = ebi_yaml_scalar(&r->yaml, node);
        if (text == NULL)
            return;
        if (i == EB_KEYS_MAX || !eb_key_parse(text, &r->site->revoked[i])) {
            wrong_word(&r->yaml, node, text, key_expected);
            return;
        }
        r->site->revoked_count = i + 1;
    }
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
    ebi_yaml_go_on(&r->yaml);
    bool linked = r->yaml.told == 0; /* without its links nothing true can be said of a device */
    read_trusted(r, ebi_yaml_get(&map, "trusted-keys", false));
    ebi_yaml_go_on(&r->yaml);
    read_revoked(r, ebi_yaml_get(&map, "revoked-keys", false));
    ebi_yaml_go_on(&r->yaml);
    yaml_node_t *devices = ebi_yaml_get(&map, "devices", true);
    site->devices = calloc(ebi_yaml_pairs(devices) + 1, sizeof *site->devices);
    for (size_t i = 0; linked && (node = ebi_yaml_pair(&r->yaml, devices, i, &name)) != NULL; i++) {
        read_device(r, name, node, &site->devices[i]);
        ebi_yaml_go_on(&r->yaml);
        site->device_count = i + 1;
        put(&site->devices[i], &r->names, compare_names);
    }
    bool whole = r->yaml.told == 0;
    for (size_t i = 0; whole && (node = ebi_yaml_pair(&r->yaml, devices, i, &name)) != NULL; i++) {
        read_relations(r, node, &site->devices[i]);
        ebi_yaml_go_on(&r->yaml);
    }
    if (r->yaml.told == 0)
        find_waves(r, devices);
    ebi_yaml_map_end(&map);
    ebi_yaml_end(&r->yaml);
}

/* `tell` NULL: to the first thing that is wrong. */
static struct eb_site *read_whole(const char *path, struct eb_problem *problem, eb_finding_tell *tell,
                                  void *context)
{
    struct reading r = {.site = calloc(1, sizeof *r.site), .yaml = {.tell = tell, .context = context}};
    if (r.site == NULL || !ebi_yaml_open(&r.yaml, path, problem)) {
        free(r.site);
        return NULL;
    }
    read_site(&r);
    void *const trees[] = {r.profiles, r.unreadable, r.names, r.modbus, r.tftp, r.slots};
    for (size_t i = 0; i < sizeof trees / sizeof trees[0]; i++)
        tdestroy(trees[i], keep_data);
    ebi_yaml_close(&r.yaml);
    r.site->memory = r.yaml.memory;
    if (r.yaml.failed) {
        eb_site_free(r.site);
        return NULL;
    }
    return r.site;
}

struct eb_site *eb_site_read(const char *path, struct eb_problem *problem)
{
    return read_whole(path, problem, NULL, NULL);
}

bool eb_site_check(const char *path, eb_finding_tell *tell, void *context)
{
    struct eb_problem problem = {""};
    struct eb_site *site = read_whole(path, &problem, tell, context);
    if (site == NULL && problem.text[0] != '\0')
        tell(context, problem.text); /* it could not be read at all */
    eb_site_free(site);
    return site != NULL;
}

void eb_site_free(struct eb_site *site)
{
    if (site == NULL)
        return;
    ebi_kept_free(site->memory);
    for (size_t i = 0; i < site->profile_count; i++)
        eb_profiles_free(site->profiles[i], 1);
    free(site->profiles);
    free(site->links);
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
static void put_quoted(FILE *file, const char *text)
{
    fputc('"', file);
    for (; *text != '\0'; text++) {
        if (*text == '"' || *text == '\\')
            fputc('\\', file);
        fputc(*text, file);
    }
    fputc('"', file);
}

static void put_text(FILE *file, int indent, const char *key, const char *text)
{
    fprintf(file, "%*s%s: ", indent, "", key);
    put_quoted(file, text);
    fputc('\n', file);
}

/* A name as the key of what follows. */
static void put_name(FILE *file, int indent, const char *name)
{
    fprintf(file, "%*s", indent, "");
    put_quoted(file, name);
    fputs(":\n", file);
}

/* A path that holds from wherever the written file will lie. */
static void put_path(FILE *file, int indent, const char *key, const char *path)
{
    char *whole = realpath(path, NULL);
    put_text(file, indent, key, whole != NULL ? whole : path);
    free(whole);
}

static void write_place(FILE *file, const struct eb_site_device *d)
{
    if (d->node != 0) {
        fprintf(file, "    node: %u\n", d->node);
        return;
    }
    fprintf(file, "    uds: {request: 0x%X, response: 0x%X", d->isotp.request, d->isotp.response);
    if (d->isotp.extended)
        fprintf(file, ", target: 0x%X, tester: 0x%X", d->isotp.target, d->isotp.tester);
    fputs("}\n", file);
}

static void write_device(FILE *file, const struct eb_site_device *d)
{
    char address[EB_ENDPOINT_TEXT_BYTES];
    unsigned mask = d->prefix == 0 ? 0 : UINT32_MAX << (32 - d->prefix);
    bool any = false;
    eb_endpoint_text(&d->modbus, false, address);
    put_name(file, 2, d->name);
    put_text(file, 4, "link", d->link);
    if (d->wire->kind == EB_SITE_CAN) {
        write_place(file, d);
    } else if (d->wire->kind == EB_SITE_USB) {
        if (d->usb_place[0] != '\0')
            put_text(file, 4, "place", d->usb_place);
    } else if (d->slot != 0) {
        fprintf(file, "    slot: %u\n", d->slot);
    } else {
        put_text(file, 4, "address", address);
        fprintf(file, "    mask: %u.%u.%u.%u\n", mask >> 24, mask >> 16 & 255, mask >> 8 & 255, mask & 255);
        fprintf(file, "    ports: {modbus: %u, tftp: %u}\n    unit: %u\n", d->modbus.port, d->tftp.port,
                d->unit);
    }
    if (d->slot == 0 && (d->web.port != 0 || d->web.host[0] != '\0' || d->web.certificate[0] != '\0' ||
                         d->web.authority[0] != '\0')) {
        fputs("    http:\n", file);
        if (d->web.port != 0)
            fprintf(file, "      port: %u\n", d->web.port);
        if (d->web.host[0] != '\0')
            put_text(file, 6, "host", d->web.host);
        if (d->web.certificate[0] != '\0')
            put_text(file, 6, "certificate", d->web.certificate);
        if (d->web.authority[0] != '\0')
            put_path(file, 6, "authority", d->web.authority);
    }
    if (d->has_mac) {
        char mac[EB_MAC_TEXT_BYTES];
        eb_mac_text(d->mac, mac);
        put_text(file, 4, "mac", mac);
    }
    put_text(file, 4, "profile", d->profile->name);
    if (d->serial[0] != '\0')
        put_text(file, 4, "serial", d->serial);
    if (d->order_code[0] != '\0')
        put_text(file, 4, "order-code", d->order_code);
    if (d->hardware_revision[0] != '\0')
        put_text(file, 4, "hardware-revision", d->hardware_revision);
    if (d->via != NULL)
        put_text(file, 4, d->manager != NULL ? "managed-by" : "via", d->via->name);
    for (size_t i = 0; i < d->stated.count; i++) {
        fputs(i == 0 ? "    stated:\n" : "", file);
        put_text(file, 6, d->stated.list[i].name, d->stated.list[i].text);
    }
    for (size_t i = 0; i < d->companion_count; i++) {
        const struct eb_site_companion *c = &d->companions[i];
        fputs(i == 0 ? "    companions:\n" : "", file);
        put_name(file, 6, c->role);
        put_text(file, 8, c->device != NULL ? "device" : "version",
                 c->device != NULL ? c->device->name : c->version);
        if (c->device != NULL)
            put_text(file, 8, "component", c->device->profile->components[c->component].name);
    }
    for (size_t i = 0; i < d->profile->count; i++) {
        const struct eb_site_want *want = &d->wants[i];
        if (want->version[0] == '\0')
            continue;
        fputs(any ? "" : "    wants:\n", file);
        put_name(file, 6, d->profile->components[i].name);
        any = true;
        put_text(file, 8, "version", want->version);
        if (want->image[0] != '\0')
            put_path(file, 8, "image", want->image);
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
    put_path(text, 0, "profiles", site->profiles_dir);
    fputs(site->key_count > 0 ? "trusted-keys:\n" : "", text);
    for (size_t i = 0; i < site->key_count; i++) {
        char key[EB_KEY_TEXT_BYTES];
        const struct eb_site_key *k = &site->keys[i];
        eb_key_text(&k->key, key);
        fprintf(text, k->until[0] != '\0' ? "  - {key: \"%s\", until: \"%s\"}\n" : "  - \"%s\"\n", key,
                k->until);
    }
    fputs(site->revoked_count > 0 ? "revoked-keys:\n" : "", text);
    for (size_t i = 0; i < site->revoked_count; i++) {
        char key[EB_KEY_TEXT_BYTES];
        eb_key_text(&site->revoked[i], key);
        fprintf(text, "  - \"%s\"\n", key);
    }
    fputs("links:\n", text);
    for (size_t i = 0; i < site->link_count; i++) {
        const struct eb_site_link *link = &site->links[i];
        put_name(text, 2, link->name);
        put_text(text, 4, "kind", kinds[link->kind]);
        if (link->bit_rate != 0)
            fprintf(text, "    bit-rate: %u\n", link->bit_rate);
        if (link->adapter[0] != '\0')
            put_text(text, 4, "adapter", link->adapter);
    }
    fputs(site->device_count > 0 ? "devices:\n" : "devices: {}\n", text);
    for (size_t i = 0; i < site->device_count; i++)
        write_device(text, &site->devices[i]);
    fclose(text);
    FILE *file = ebi_file_create(path, 0666);
    bool ok = file != NULL && fwrite(bytes, 1, size, file) == size;
    if (file != NULL && fclose(file) != 0)
        ok = false;
    if (!ok)
        snprintf(problem->text, sizeof problem->text, "%s: cannot be written: %s", path, strerror(errno));
    free(bytes);
    return ok;
}
