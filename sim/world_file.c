#include "server.h"
#include "world.h"
#include "yaml_read.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static uint32_t ppm(struct ebi_yaml_map *map, const char *key)
{
    return (uint32_t)ebi_yaml_number(map, key, 0, 1000000, 0);
}

/* Memory for one thing for each pair of a mapping, and one more; zeros. */
static void *room_for(const yaml_node_t *node, size_t size)
{
    void *room = calloc(ebi_yaml_pairs(node) + 1, size);
    if (room == NULL)
        abort(); /* a simulation without memory has nothing to say */
    return room;
}

/* The wire that a device or a link is on. */
static void read_wire_of(const struct eb_sim *sim, struct ebi_yaml_map *map, bool needed,
                         char wire[EB_NAME_BYTES])
{
    bool known = false;
    ebi_yaml_text(map, "wire", needed, wire, EB_NAME_BYTES);
    for (size_t i = 0; i < sim->wire_count; i++)
        known = known || strcmp(sim->wires[i].name, wire) == 0;
    if (!known && wire[0] != '\0')
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "wire"), "an unknown wire",
                       "the name of one from 'wires'");
}

static void read_wires(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *wires)
{
    const char *name;
    yaml_node_t *node;
    sim->wires = room_for(wires, sizeof *sim->wires);
    for (size_t i = 0; (node = ebi_yaml_pair(yaml, wires, i, &name)) != NULL; i++) {
        struct ebi_sim_wire *w = &sim->wires[i];
        struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
        if (!eb_text_copy(w->name, sizeof w->name, name))
            ebi_yaml_wrong(yaml, node, "a wire with a longer name", "at most 47 characters");
        w->latency_us = ebi_yaml_number(&map, "latency-us", 0, 10000000, 100);
        w->jitter_us = ebi_yaml_number(&map, "jitter-us", 0, 10000000, 0);
        w->rate_kbit_per_s = 1000 * ebi_yaml_number(&map, "rate-mbit-per-s", 1, 100000, 100);
        w->mtu_bytes = (uint32_t)ebi_yaml_number(&map, "mtu-bytes", 576, 65536, 1500);
        w->segment_bytes = (uint32_t)ebi_yaml_number(&map, "segment-bytes", 1, 65000, 1460);
        w->lost_ppm = ppm(&map, "lost-ppm");
        w->doubled_ppm = ppm(&map, "doubled-ppm");
        w->reordered_ppm = ppm(&map, "reordered-ppm");
        w->garbled_ppm = ppm(&map, "garbled-ppm");
        w->garbled_unseen_ppm = ppm(&map, "garbled-unseen-ppm");
        ebi_yaml_map_end(&map);
        sim->wire_count = i + 1;
    }
}

/* The index of the word that `key` holds in `words` (ended by NULL). */
static int choice(struct ebi_yaml_map *map, const char *key, const char *const *words, int otherwise)
{
    yaml_node_t *node = ebi_yaml_get(map, key, false);
    const char *text = ebi_yaml_scalar(map->yaml, node);
    char expected[128] = "one of:";
    char found[80];
    if (text == NULL)
        return otherwise;
    for (int i = 0; words[i] != NULL; i++) {
        if (strcmp(words[i], text) == 0)
            return i;
        snprintf(expected + strlen(expected), sizeof expected - strlen(expected), " %s", words[i]);
    }
    snprintf(found, sizeof found, "'%.60s'", text);
    ebi_yaml_wrong(map->yaml, node, found, expected);
    return otherwise;
}

/* Puts the image that the component left the factory with into its flash. */
static void fill_flash(struct ebi_yaml *yaml, const yaml_node_t *node, const char *path,
                       struct ebi_sim_component *c)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    struct stat info;
    char found[EB_PATH_BYTES + 64];
    if (fd < 0 || fstat(fd, &info) != 0) {
        snprintf(found, sizeof found, "the image %s, which cannot be opened (%s)", path, strerror(errno));
        ebi_yaml_wrong(yaml, node, found, "a file");
    } else if ((size_t)info.st_size > c->capacity) {
        snprintf(found, sizeof found, "an image of %lld bytes", (long long)info.st_size);
        ebi_yaml_wrong(yaml, node, found, "one that capacity-kib holds");
    } else if (read(fd, c->bank[0], (size_t)info.st_size) != info.st_size) {
        ebi_yaml_wrong(yaml, node, "an image that cannot be read", "a file");
    }
    if (fd >= 0)
        close(fd);
}

static void read_component(struct ebi_yaml *yaml, const char *name, yaml_node_t *node,
                           struct ebi_sim_component *c)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    char image[EB_PATH_BYTES] = "";
    char path[EB_PATH_BYTES];
    if (!eb_text_copy(c->name, sizeof c->name, name))
        ebi_yaml_wrong(yaml, node, "a component with a longer name", "at most 47 characters");
    ebi_yaml_text(&map, "send-as", false, c->file_name, sizeof c->file_name);
    yaml_node_t *files = ebi_yaml_get(&map, "files", false);
    yaml_node_t *item;
    for (size_t i = 0; (item = ebi_yaml_item(yaml, files, i)) != NULL && i < EBI_SIM_FILES_MAX; i++) {
        const char *file = ebi_yaml_scalar(yaml, item);
        if (file == NULL || !eb_text_copy(c->files[i], sizeof c->files[i], file))
            ebi_yaml_wrong(yaml, item, "no name of a file", "one of at most 63 characters");
        c->file_count = i + 1;
    }
    ebi_yaml_text(&map, "product", false, c->product, sizeof c->product);
    c->version_object = (uint8_t)ebi_yaml_number(&map, "version-object", 2, 255, 2);
    c->checksum_object = (uint8_t)ebi_yaml_number(&map, "checksum-object", 128, 255, 0);
    c->capacity = 1024 * (size_t)ebi_yaml_number(&map, "capacity-kib", 1, 1 << 20, 256);
    c->banks = (int)ebi_yaml_number(&map, "banks", 1, EBI_SIM_BANKS_MAX, 1);
    ebi_yaml_text(&map, "image", false, image, sizeof image);
    for (int i = 0; i < c->banks; i++) {
        c->bank[i] = malloc(c->capacity);
        if (c->bank[i] == NULL)
            ebi_yaml_wrong(yaml, node, "a flash larger than this machine's memory", "less");
        else
            memset(c->bank[i], 0xFF, c->capacity);
    }
    if (image[0] != '\0' && !yaml->failed) {
        ebi_path_beside(yaml->path, image, path);
        fill_flash(yaml, ebi_yaml_need(&map, "image"), path, c);
    }
    ebi_yaml_map_end(&map);
}

static void read_buses(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *buses)
{
    const char *name;
    yaml_node_t *node;
    sim->buses = room_for(buses, sizeof *sim->buses);
    for (size_t i = 0; (node = ebi_yaml_pair(yaml, buses, i, &name)) != NULL; i++) {
        struct ebi_sim_bus *bus = &sim->buses[i];
        struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
        if (!eb_text_copy(bus->name, sizeof bus->name, name))
            ebi_yaml_wrong(yaml, node, "a bus with a longer name", "at most 47 characters");
        bus->bit_rate = (uint32_t)ebi_yaml_number(&map, "bit-rate", 5000, 1000000, 250000);
        bus->terminators = (unsigned)ebi_yaml_number(&map, "terminators", 0, 9, 2);
        bus->noise_ppm = ppm(&map, "noise-ppm");
        bus->latency_us = (uint32_t)ebi_yaml_number(&map, "latency-us", 0, 1000000, 300);
        bus->queue = (uint32_t)ebi_yaml_number(&map, "queue", 1, EBI_SIM_STATION_QUEUE, 64);
        bus->refuses_every = (unsigned)ebi_yaml_number(&map, "refuses-every", 2, 1000000, 0);
        static const char *const full[] = {"waits", "bel", NULL};
        static const char *const answers[] = {"sent", "queued", NULL};
        bus->plain_answers = ebi_yaml_yes(&map, "plain-answers", false);
        bus->bel_when_full = choice(&map, "when-full", full, 0) == 1;
        bus->answers_queued = choice(&map, "answers-when", answers, 0) == 1;
        bus->no_flags = !ebi_yaml_yes(&map, "knows-flags", true);
        bus->tells_no_errors = !ebi_yaml_yes(&map, "tells-errors", true);
        bus->unplugged = !ebi_yaml_yes(&map, "adapter", true);
        ebi_yaml_map_end(&map);
        sim->bus_count = i + 1;
    }
}

static uint32_t number32(struct ebi_yaml_map *map, const char *key, uint32_t otherwise)
{
    return (uint32_t)ebi_yaml_number(map, key, 0, UINT32_MAX, otherwise);
}

static void read_canopen(struct ebi_yaml *yaml, yaml_node_t *node, struct ebi_sim_device *d)
{
    struct ebi_sim_canopen *c = &d->can.canopen;
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    yaml_node_t *item;
    d->can.is_canopen = true;
    c->node = (uint8_t)ebi_yaml_number(&map, "node", 1, 255, 0);
    ebi_yaml_need(&map, "node");
    c->loader_node = (uint8_t)ebi_yaml_number(&map, "loader-node", 1, 127, c->node);
    c->type = number32(&map, "type", 0);
    c->vendor = number32(&map, "vendor", 0);
    c->product = number32(&map, "product", 0);
    c->revision = number32(&map, "revision", 0x00010000);
    c->loader_product = number32(&map, "loader-product", c->product);
    c->heartbeat_ms = (uint32_t)ebi_yaml_number(&map, "heartbeat-ms", 0, 65535, 0);
    c->no_block = !ebi_yaml_yes(&map, "block-transfer", true);
    c->reply_lost = ebi_yaml_yes(&map, "stops-without-answer", false);
    yaml_node_t *sizes = ebi_yaml_get(&map, "block-sizes", false);
    for (size_t i = 0; (item = ebi_yaml_item(yaml, sizes, i)) != NULL; i++) {
        const char *text = ebi_yaml_scalar(yaml, item);
        uint64_t number = 0;
        if (i == EBI_SIM_BLOCK_SIZES_MAX || text == NULL || !eb_text_number(text, strlen(text), &number) ||
            number < 1 || number > 127) {
            ebi_yaml_wrong(yaml, item, "something else", "at most 4 numbers from 1 to 127");
            return;
        }
        c->block_sizes[c->block_size_count++] = (uint8_t)number;
    }
    if (c->block_size_count == 0)
        c->block_sizes[c->block_size_count++] = 127;
    ebi_yaml_map_end(&map);
}

static void read_uds(struct ebi_yaml *yaml, yaml_node_t *node, struct ebi_sim_device *d)
{
    struct ebi_sim_uds *u = &d->can.uds;
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    d->can.is_uds = true;
    u->request = (uint32_t)ebi_yaml_number(&map, "request", 0, EB_CAN_EXTENDED_ID_MAX, 0);
    u->response = (uint32_t)ebi_yaml_number(&map, "response", 0, EB_CAN_EXTENDED_ID_MAX, 0);
    ebi_yaml_need(&map, "request");
    ebi_yaml_need(&map, "response");
    u->extended_ids = u->request > EB_CAN_ID_MAX || u->response > EB_CAN_ID_MAX;
    u->extended = ebi_yaml_get(&map, "target", false) != NULL;
    u->target = (uint8_t)ebi_yaml_number(&map, "target", 0, 255, 0);
    u->tester = (uint8_t)ebi_yaml_number(&map, "tester", 0, 255, 0xF1);
    u->reset_routine = (uint16_t)ebi_yaml_number(&map, "reset-routine", 1, 0xFFFF, 0);
    u->block_length = (uint16_t)ebi_yaml_number(&map, "block-length", 8, EBI_SIM_UDS_BYTES - 8, 1026);
    u->block_size = (uint8_t)ebi_yaml_number(&map, "block-size", 0, 255, 0);
    u->separation = (uint8_t)ebi_yaml_number(&map, "separation", 0, 255, 0);
    u->waits = (uint8_t)ebi_yaml_number(&map, "waits", 0, 255, 0);
    u->pending_ms = (uint32_t)ebi_yaml_number(&map, "pending-ms", 0, 600000, 300);
    u->key = number32(&map, "key", 0);
    u->base = number32(&map, "base", 0x08000000);
    u->pads_strictly = ebi_yaml_yes(&map, "wants-padding", false);
    u->wants_separation = ebi_yaml_yes(&map, "wants-separation", false);
    u->attempts_max = (uint8_t)ebi_yaml_number(&map, "key-attempts", 1, 255, 3);
    u->lock_delay_ms = (uint32_t)ebi_yaml_number(&map, "lock-delay-ms", 0, 600000, 10000);
    ebi_yaml_map_end(&map);
}

/* The bus that it is on, if any. */
static bool read_bus(struct eb_sim *sim, struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    ebi_yaml_text(map, "bus", false, d->can.bus_name, sizeof d->can.bus_name);
    yaml_node_t *canopen = ebi_yaml_get(map, "canopen", false);
    yaml_node_t *uds = ebi_yaml_get(map, "uds", false);
    uint32_t own = (uint32_t)ebi_yaml_number(map, "bit-rate", 5000, 1000000, 0);
    uint32_t loader = (uint32_t)ebi_yaml_number(map, "loader-bit-rate", 5000, 1000000, 0);
    d->can.sick_ppm = ppm(map, "sick-ppm");
    /* No two of them answer at the very same moment, unless it is said. */
    d->can.response_us = (uint32_t)ebi_yaml_number(map, "response-us", 0, 10000000,
                                                   200 + 13 * (uint32_t)(d - sim->devices) % 97);
    if (d->can.bus_name[0] == '\0')
        return false;
    for (size_t i = 0; i < sim->bus_count; i++) {
        if (strcmp(sim->buses[i].name, d->can.bus_name) == 0)
            d->can.bus = &sim->buses[i];
    }
    if (d->can.bus == NULL || (canopen == NULL && uds == NULL)) {
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "bus"),
                       d->can.bus == NULL ? "an unknown bus" : "no protocol",
                       "the name of one from 'buses', and 'canopen' or 'uds'");
        return true;
    }
    d->can.own_bit_rate = own != 0 ? own : d->can.bus->bit_rate;
    d->can.loader_bit_rate = loader != 0 ? loader : d->can.own_bit_rate;
    if (canopen != NULL)
        read_canopen(map->yaml, canopen, d);
    if (uds != NULL)
        read_uds(map->yaml, uds, d);
    return true;
}

/* "1209:0001" */
static void read_ids(struct ebi_yaml_map *map, const char *key, uint16_t *vendor, uint16_t *product)
{
    char text[16] = "";
    ebi_yaml_text(map, key, false, text, sizeof text);
    if (text[0] != '\0' && !ebi_usb_ids_parse(text, vendor, product))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, key), text,
                       "two numbers of four hexadecimal digits: 1209:0001");
}

/* "2.0", or the version of the first component. */
static void read_release(struct ebi_yaml_map *map, const char *key, uint16_t *release, bool *is_version)
{
    char text[16] = "1.0";
    unsigned major;
    unsigned minor;
    ebi_yaml_text(map, key, false, text, sizeof text);
    if (is_version != NULL && strcmp(text, "version") == 0)
        *is_version = true;
    else if (sscanf(text, "%2u.%2u", &major, &minor) == 2)
        *release = (uint16_t)((major / 10 << 4 | major % 10) << 8 | minor / 10 << 4 | minor % 10);
    else
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, key), text, "a release like 2.0, or 'version'");
}

static bool read_usb(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const manifests[] = {"reset", "tolerant", "restart", NULL};
    yaml_node_t *node = ebi_yaml_get(map, "usb", false);
    struct ebi_sim_usb *u = &d->usb;
    struct ebi_yaml_map usb = ebi_yaml_map(map->yaml, node);
    u->is_usb = node != NULL;
    ebi_yaml_text(&usb, "place", u->is_usb, u->home, sizeof u->home);
    memcpy(u->place, u->home, sizeof u->place);
    read_ids(&usb, "ids", &u->vendor, &u->product);
    u->loader_vendor = u->vendor;
    u->loader_product = u->product;
    read_ids(&usb, "loader-ids", &u->loader_vendor, &u->loader_product);
    if (u->is_usb) {
        ebi_yaml_need(&usb, "ids");
        read_release(&usb, "release", &u->release, &u->release_is_version);
        read_release(&usb, "loader-release", &u->loader_release, NULL);
    }
    u->other_interface = ebi_yaml_yes(&usb, "other-interface", false);
    u->own_power = ebi_yaml_yes(&usb, "own-power", false);
    u->no_serial = !ebi_yaml_yes(&usb, "serial-number", true);
    u->no_loader_serial = !ebi_yaml_yes(&usb, "loader-serial-number", !u->no_serial);
    static const char *const detaches[] = {"no", "yes", "claimed", NULL};
    int detach = choice(&usb, "detaches-itself", detaches, 0);
    u->detaches_itself = detach == 1;
    u->claims_detach = detach == 2;
    u->stays = ebi_yaml_yes(&usb, "stays", false);
    u->uploads = ebi_yaml_yes(&usb, "uploads", false);
    u->manifest = (enum ebi_sim_usb_manifest)choice(&usb, "manifest", manifests, EBI_SIM_USB_WAITS_FOR_RESET);
    u->transfer_bytes = (uint16_t)ebi_yaml_number(&usb, "transfer-bytes", 8, EBI_SIM_USB_TRANSFER_MAX, 1024);
    u->detach_ms = (uint16_t)ebi_yaml_number(&usb, "detach-ms", 0, 65535, 1000);
    u->manifest_ms = (uint32_t)ebi_yaml_number(&usb, "manifest-ms", 0, 600000, 200);
    u->poll_cap_ms = (uint32_t)ebi_yaml_number(&usb, "asks-again-ms", 1, 600000, 0);
    u->configured_ms = (uint32_t)ebi_yaml_number(&usb, "configured-after-ms", 0, 60000, 0);
    u->denied = ebi_yaml_yes(&usb, "denied", false);
    u->busy = ebi_yaml_yes(&usb, "busy", false);
    u->unplugged = !ebi_yaml_yes(&usb, "plugged-in", true);
    ebi_yaml_map_end(&usb);
    return u->is_usb;
}

/* The laptop's USB: its hubs, and how long it takes from one transfer to the next. */
static void read_usb_bus(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *node)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    yaml_node_t *hubs = ebi_yaml_get(&map, "hubs", false);
    yaml_node_t *item;
    sim->usb_latency_us = (uint32_t)ebi_yaml_number(&map, "latency-us", 0, 1000000, 40);
    for (size_t i = 0; (item = ebi_yaml_item(yaml, hubs, i)) != NULL; i++) {
        const char *text = ebi_yaml_scalar(yaml, item);
        if (text == NULL || i == EBI_SIM_USB_HUBS_MAX ||
            !eb_text_copy(sim->hubs[i].place, sizeof sim->hubs[i].place, text)) {
            ebi_yaml_wrong(yaml, item, "one hub too many, or a longer place", "at most 4, like 1-2");
            return;
        }
        sim->hubs[i].address = (uint8_t)(120 + i);
        sim->hub_count = i + 1;
    }
    ebi_yaml_map_end(&map);
}

/* The adapters of these buses are in this device. */
static void read_gateway(struct eb_sim *sim, struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    char name[EB_NAME_BYTES] = "";
    ebi_yaml_text(map, "gateway-to", false, name, sizeof name);
    for (size_t i = 0; i < sim->bus_count; i++) {
        if (strcmp(sim->buses[i].name, name) == 0) {
            sim->buses[i].gateway = d;
            return;
        }
    }
    if (name[0] != '\0')
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "gateway-to"), "an unknown bus",
                       "the name of one from 'buses'");
}

static void read_protocols(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const options[] = {"taken", "ignored", "refused", "dropped", NULL};
    static const char *const writable[] = {"always", "stopped", "loader", NULL};
    struct ebi_yaml_map modbus = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "modbus", false));
    d->modbus_port = (uint16_t)ebi_yaml_number(&modbus, "port", 1, 65535, EB_MODBUS_PORT);
    d->unit = (uint8_t)ebi_yaml_number(&modbus, "unit", 0, 255, EB_MODBUS_UNIT_SELF);
    d->objects_per_answer = (uint8_t)ebi_yaml_number(&modbus, "objects-per-answer", 1, 255, 0);
    d->babbles = ebi_yaml_yes(&modbus, "babbles", false);
    d->silent_slots = ebi_yaml_yes(&modbus, "silent-slots", false);
    ebi_yaml_map_end(&modbus);

    struct ebi_yaml_map tftp = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "tftp", false));
    d->tftp_port = (uint16_t)ebi_yaml_number(&tftp, "port", 1, 65535, EB_TFTP_PORT);
    d->options = (enum ebi_sim_options)choice(&tftp, "options", options, EBI_SIM_OPTIONS_TAKEN);
    d->blksize_max = (uint16_t)ebi_yaml_number(&tftp, "blksize-max", 0, 65464, 1428);
    d->windowsize_max = (uint16_t)ebi_yaml_number(&tftp, "windowsize-max", 0, 65535, 16);
    d->rollover_to_one = ebi_yaml_number(&tftp, "rollover-to", 0, 1, 0) == 1;
    d->writable = (enum ebi_sim_writable)choice(&tftp, "writable", writable, EBI_SIM_WRITABLE_ALWAYS);
    ebi_yaml_map_end(&tftp);
}

static void read_identity(struct ebi_yaml_map *map, struct eb_identity *id)
{
    ebi_yaml_text(map, "maker", false, id->maker, sizeof id->maker);
    ebi_yaml_text(map, "product", false, id->product, sizeof id->product);
    ebi_yaml_text(map, "order-code", false, id->order_code, sizeof id->order_code);
    ebi_yaml_text(map, "hardware-revision", false, id->hardware_revision, sizeof id->hardware_revision);
    ebi_yaml_text(map, "serial", false, id->serial, sizeof id->serial);
}

static unsigned bit_of(const struct ebi_sim_server *server)
{
    unsigned i = 0;
    while (ebi_sim_servers[i] != server)
        i++;
    return 1U << i;
}

/* What it speaks: a list of words. */
static void read_speaks(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    yaml_node_t *list = ebi_yaml_get(map, "speaks", false);
    yaml_node_t *item;
    d->speaks = list == NULL ? bit_of(&ebi_sim_modbus) | bit_of(&ebi_sim_tftp) : 0;
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, list, i)) != NULL; i++) {
        const char *word = ebi_yaml_scalar(map->yaml, item);
        char words[160] = "";
        unsigned bit = 0;
        for (size_t k = 0; ebi_sim_servers[k] != NULL && word != NULL; k++) {
            const struct ebi_sim_server *server = ebi_sim_servers[k];
            if (server->word == NULL)
                continue;
            snprintf(words + strlen(words), sizeof words - strlen(words), "%s%s", k > 0 ? ", " : "",
                     server->word);
            if (strcmp(server->word, word) == 0)
                bit = 1U << k;
        }
        if (bit == 0) {
            ebi_yaml_wrong(map->yaml, item, "an unknown protocol", words);
            return;
        }
        d->speaks |= bit;
    }
}

static void read_announcements(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    char name[sizeof d->saved.name] = "";
    yaml_node_t *item;
    struct ebi_yaml_map dns = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "dns-sd", false));
    snprintf(d->service, sizeof d->service, "_control._tcp");
    ebi_yaml_text(&dns, "service", false, d->service, sizeof d->service);
    yaml_node_t *texts = ebi_yaml_get(&dns, "text", false);
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, texts, i)) != NULL; i++) {
        const char *text = ebi_yaml_scalar(map->yaml, item);
        if (text == NULL || i == EBI_SIM_DNS_TEXTS_MAX ||
            !eb_text_copy(d->dns_texts[i], sizeof d->dns_texts[i], text)) {
            ebi_yaml_wrong(map->yaml, item, "one text too many, or a longer one",
                           "at most 6, 63 characters each");
            return;
        }
    }
    ebi_yaml_map_end(&dns);
    snprintf(d->community, sizeof d->community, "public");
    ebi_yaml_text(map, "community", false, d->community, sizeof d->community);
    d->vendor_id = (uint16_t)ebi_yaml_number(map, "vendor-id", 0, 65535, 0);
    d->product_id = (uint16_t)ebi_yaml_number(map, "product-id", 0, 65535, 0);
    d->lldp_interval_s = (uint32_t)ebi_yaml_number(map, "lldp-interval-s", 1, 3600, 30);
    ebi_yaml_text(map, "station-name", false, name, sizeof name);
    memcpy(d->saved.name, name, sizeof name);
}

/* "02:00:5e:10:00:01"; one of its own for each device where nothing is said. */
static void read_mac(const struct eb_sim *sim, struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    char text[EB_MAC_TEXT_BYTES] = "";
    size_t index = (size_t)(d - sim->devices) + 1;
    const uint8_t own[EB_MAC_BYTES] = {0x02, 0x00, 0x5E, 0x10, (uint8_t)(index >> 8), (uint8_t)index};
    memcpy(d->mac, own, sizeof own);
    ebi_yaml_text(map, "mac", false, text, sizeof text);
    if (text[0] != '\0' && (!eb_mac_parse(text, d->mac) || !eb_mac_is_device(d->mac)))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "mac"), "something else",
                       "a hardware address like 02:00:5e:10:00:01");
}

static void read_ip(struct ebi_yaml_map *map, const char *key, uint8_t ip[4])
{
    struct eb_endpoint endpoint;
    char text[EB_ENDPOINT_TEXT_BYTES] = "";
    ebi_yaml_text(map, key, false, text, sizeof text);
    if (text[0] == '\0')
        return;
    if (eb_endpoint_parse(&endpoint, text))
        memcpy(ip, endpoint.ip, 4);
    else
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, key), "something else",
                       "an IPv4 address like 192.0.2.10");
}

static void read_address(struct eb_sim *sim, struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const asks[] = {"no", "dhcp", "bootp", NULL};
    uint8_t mask[4] = {255, 255, 255, 0};
    read_mac(sim, map, d);
    d->asks = (enum ebi_sim_asks)choice(map, "asks-for-address", asks, EBI_SIM_ASKS_NOT);
    read_ip(map, "mask", mask);
    if (!map->yaml->failed && !eb_mask_read(mask, &d->saved.prefix))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "mask"), "another order of bits", "ones, then zeros");
    read_ip(map, "router", d->saved.router);
    d->saved.dhcp = ebi_yaml_yes(map, "by-dhcp", false);
    bool shared = ebi_yaml_yes(map, "shares-address", false);
    char address[EB_ENDPOINT_TEXT_BYTES] = "";
    char found[160];
    ebi_yaml_text(map, "address", d->asks == EBI_SIM_ASKS_NOT && !ebi_sim_speaks(d, &ebi_sim_dcp), address,
                  sizeof address);
    if (map->yaml->failed || address[0] == '\0')
        return; /* it has none yet */
    yaml_node_t *node = ebi_yaml_need(map, "address");
    struct eb_endpoint endpoint = {{0, 0, 0, 0}, 0};
    if (!eb_endpoint_parse(&endpoint, address)) {
        snprintf(found, sizeof found, "'%s'", address);
        ebi_yaml_wrong(map->yaml, node, found, "an IPv4 address like 192.0.2.10");
    }
    size_t i = ebi_sim_table_first(&sim->addresses, ebi_sim_address_key(endpoint.ip));
    for (; i != EBI_SIM_NONE && !shared; i = ebi_sim_table_next(&sim->addresses, i)) {
        if (memcmp(sim->devices[i].address.ip, endpoint.ip, sizeof endpoint.ip) == 0) {
            snprintf(found, sizeof found, "%s, which '%s' has already", address, sim->devices[i].name);
            ebi_yaml_wrong(map->yaml, node, found, "an address of its own for each device");
        }
    }
    memcpy(d->saved.ip, endpoint.ip, sizeof d->saved.ip);
    ebi_sim_place(d, endpoint.ip);
}

/* What it does otherwise than one would wish. */
static void read_conduct(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const restarts[] = {"once", "twice", "never", NULL};
    struct ebi_sim_conduct *c = &d->conduct;
    struct ebi_yaml_map conduct = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "conduct", false));
    c->restarts = (enum ebi_sim_restarts)choice(&conduct, "restarts", restarts, EBI_SIM_RESTARTS_ONCE);
    c->restart_delay_ms = (uint32_t)ebi_yaml_number(&conduct, "restart-delay-ms", 0, 600000, 0);
    c->restarts_itself = ebi_yaml_yes(&conduct, "restarts-itself", false);
    c->no_last_ack = !ebi_yaml_yes(&conduct, "last-acknowledgement", true);
    c->tells_written = ebi_yaml_yes(&conduct, "tells-written-version", false);
    c->starts_stopped = ebi_yaml_yes(&conduct, "starts-stopped", false);
    c->closes_connections = ebi_yaml_yes(&conduct, "closes-connections", false);
    c->readable = ebi_yaml_yes(&conduct, "readable", false);
    c->busy_ms = (uint32_t)ebi_yaml_number(&conduct, "busy-ms", 0, 600000, 0);
    c->answer_delay_ms = (uint32_t)ebi_yaml_number(&conduct, "answer-delay-ms", 0, 600000, 0);
    if (ebi_yaml_get(&conduct, "bad-byte-at", false) != NULL)
        c->bad_byte_at = 1 + (uint32_t)ebi_yaml_number(&conduct, "bad-byte-at", 0, 1 << 30, 0);
    ebi_yaml_text(&conduct, "loader-serial", false, c->loader_serial, sizeof c->loader_serial);
    ebi_yaml_text(&conduct, "later-serial", false, c->later_serial, sizeof c->later_serial);
    ebi_yaml_map_end(&conduct);
}

/* The device in whose rack it is, which stands before it; false: it is no module. */
static bool read_rack(struct eb_sim *sim, struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    char name[EB_NAME_BYTES] = "";
    ebi_yaml_text(map, "rack", false, name, sizeof name);
    if (name[0] == '\0')
        return false;
    ebi_yaml_get(map, "slot", true);
    d->slot = (uint8_t)ebi_yaml_number(map, "slot", 1, 247, 1);
    d->rack = ebi_sim_find(sim, name);
    if (d->rack == NULL) {
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "rack"), name,
                       "the name of a device that stands before this one");
        return true;
    }
    struct ebi_sim_device **last = &d->rack->modules;
    while (*last != NULL)
        last = &(*last)->next_module;
    *last = d;
    return true;
}

static void read_device(struct eb_sim *sim, struct ebi_yaml *yaml, const char *name, yaml_node_t *node,
                        struct ebi_sim_device *d)
{
    static const char *const starts[] = {"off", "booting", "loader", "stopped", "running", NULL};
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    const char *component;
    yaml_node_t *value;
    if (!eb_text_copy(d->name, sizeof d->name, name))
        ebi_yaml_wrong(yaml, node, "a device with a longer name", "at most 47 characters");
    d->sim = sim;
    bool on_bus = read_bus(sim, &map, d);
    read_gateway(sim, &map, d);
    bool on_usb = read_usb(&map, d);
    bool in_rack = read_rack(sim, &map, d);
    on_bus = on_bus || on_usb || in_rack;
    read_wire_of(sim, &map, !on_bus, d->wire);
    ebi_yaml_go_on(yaml);
    read_speaks(&map, d);
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        if (ebi_sim_servers[i]->read != NULL)
            ebi_sim_servers[i]->read(&map, d);
    }
    if (on_bus && d->wire[0] == '\0')
        d->speaks = 0;
    else
        read_address(sim, &map, d);
    read_announcements(&map, d);
    read_identity(&map, &d->identity);
    read_protocols(&map, d);
    read_conduct(&map, d);
    d->checks_crc = ebi_yaml_yes(&map, "checks-crc", true);
    d->erase_ms = (uint32_t)ebi_yaml_number(&map, "erase-ms", 0, 600000, 0);
    d->write_bytes_per_s = (uint32_t)ebi_yaml_number(&map, "write-bytes-per-s", 0, UINT32_MAX, 0);
    d->down_ms = (uint32_t)ebi_yaml_number(&map, "down-ms", 0, 600000, 300);
    d->boot_ms = (uint32_t)ebi_yaml_number(&map, "boot-ms", 0, 600000, 700);
    d->switch_after_s = (uint32_t)ebi_yaml_number(&map, "switch-after-s", 1, 86400, 0);
    d->service_register = (uint16_t)ebi_yaml_number(&map, "service-register", 1, UINT16_MAX, 0);
    d->arrives_after_s = (uint32_t)ebi_yaml_number(&map, "arrives-after-s", 1, 86400, 0);
    d->leaves_after_s = (uint32_t)ebi_yaml_number(&map, "leaves-after-s", 1, 86400, 0);
    d->mode = (enum eb_sim_mode)choice(&map, "starts", starts, EB_SIM_RUNNING);
    yaml_node_t *components = ebi_yaml_get(&map, "components", true);
    for (size_t i = 0; (value = ebi_yaml_pair(yaml, components, i, &component)) != NULL; i++) {
        if (i == EBI_SIM_COMPONENTS_MAX) {
            ebi_yaml_wrong(yaml, value, "one component too many", "at most 16");
            return;
        }
        d->count = i + 1;
        read_component(yaml, component, value, &d->components[i]);
    }
    if (d->count == 0 && components != NULL)
        ebi_yaml_wrong(yaml, components, "no component", "at least one");
    ebi_yaml_map_end(&map);
}

/* "192.0.2.100/24" */
static void read_link_address(struct ebi_yaml *yaml, const yaml_node_t *node, const char *text,
                              struct eb_link *link)
{
    struct eb_endpoint endpoint;
    char ip[EB_ENDPOINT_TEXT_BYTES] = "";
    uint64_t prefix = 33;
    const char *slash = strchr(text, '/');
    if (slash != NULL && slash - text < (ptrdiff_t)sizeof ip) {
        memcpy(ip, text, (size_t)(slash - text));
        if (!eb_text_number(slash + 1, strlen(slash + 1), &prefix))
            prefix = 33;
    }
    if (prefix > 32 || !eb_endpoint_parse(&endpoint, ip) || link->count == EB_LINK_ADDRESSES_MAX) {
        char found[96];
        snprintf(found, sizeof found, "'%.60s'", text);
        ebi_yaml_wrong(yaml, node, found, "at most 8 addresses with their prefix, like 192.0.2.100/24");
        return;
    }
    struct eb_link_address *address = &link->addresses[link->count++];
    memcpy(address->ip, endpoint.ip, sizeof endpoint.ip);
    address->prefix = (uint8_t)prefix;
}

static void read_laptop(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *links)
{
    static const char *const kinds[] = {"wired", "wireless", "tunnel", "loopback", NULL};
    const char *name;
    yaml_node_t *node;
    yaml_node_t *item;
    for (size_t i = 0; (node = ebi_yaml_pair(yaml, links, i, &name)) != NULL; i++) {
        if (i == EB_LINKS_MAX) {
            ebi_yaml_wrong(yaml, node, "one link too many", "at most 32");
            return;
        }
        struct ebi_sim_laptop_link *l = &sim->laptop[i];
        struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
        if (!eb_text_copy(l->link.name, sizeof l->link.name, name))
            ebi_yaml_wrong(yaml, node, "a link with a longer name", "at most 23 characters");
        l->link.kind = (enum eb_link_kind)choice(&map, "kind", kinds, EB_LINK_WIRED);
        l->link.has_mac = l->link.kind == EB_LINK_WIRED || l->link.kind == EB_LINK_WIRELESS;
        const uint8_t mac[EB_MAC_BYTES] = {0x02, 0x00, 0x5E, 0x20, 0x00, (uint8_t)(i + 1)};
        memcpy(l->link.mac, mac, sizeof mac);
        l->link.quality_percent = (uint8_t)ebi_yaml_number(&map, "quality-percent", 1, 100, 0);
        read_ip(&map, "router", l->link.router);
        l->no_frames = !ebi_yaml_yes(&map, "raw-frames", true);
        l->link.up = ebi_yaml_yes(&map, "up", true);
        l->link.carrier = ebi_yaml_yes(&map, "carrier", true);
        l->link.default_route = ebi_yaml_yes(&map, "default-route", false);
        l->link.speed_mbit_per_s = (uint32_t)ebi_yaml_number(&map, "speed-mbit-per-s", 1, 1000000, 1000);
        l->link.mtu_bytes = (uint32_t)ebi_yaml_number(&map, "mtu-bytes", 576, 65536, 1500);
        read_wire_of(sim, &map, false, l->wire);
        yaml_node_t *addresses = ebi_yaml_get(&map, "addresses", false);
        for (size_t k = 0; (item = ebi_yaml_item(yaml, addresses, k)) != NULL; k++) {
            const char *text = ebi_yaml_scalar(yaml, item);
            if (text != NULL)
                read_link_address(yaml, item, text, &l->link);
        }
        ebi_yaml_map_end(&map);
        ebi_yaml_go_on(yaml);
        sim->laptop_count = i + 1;
    }
}

static void read_faults(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *list)
{
    static const char *const kinds[] = {
        "lost",         "doubled",      "late",    "garbled",      "garbled-unseen", "power-lost", "bus-off",
        "adapter-lost", "gateway-lost", "stalled", "status-error", "unplugged",      "moved",      NULL};
    yaml_node_t *item;
    for (size_t i = 0; (item = ebi_yaml_item(yaml, list, i)) != NULL; i++) {
        if (i == EBI_SIM_FAULTS_MAX) {
            ebi_yaml_wrong(yaml, item, "one fault too many", "at most 16");
            return;
        }
        struct ebi_yaml_map map = ebi_yaml_map(yaml, item);
        ebi_yaml_need(&map, "frame");
        ebi_yaml_need(&map, "kind");
        sim->faults[i].frame = ebi_yaml_number(&map, "frame", 0, UINT64_MAX - 1, 0);
        sim->faults[i].kind = (enum eb_sim_fault_kind)choice(&map, "kind", kinds, 0);
        ebi_yaml_map_end(&map);
        ebi_yaml_go_on(yaml);
        sim->fault_count = i + 1;
    }
}

/* What becomes of the laptop's own process. */
static void read_laptop_end(struct eb_sim *sim, struct ebi_yaml *yaml, yaml_node_t *node)
{
    static const char *const words[] = {"kill", "hang-up", "terminate", "interrupt", NULL};
    static const int signals[] = {SIGKILL, SIGHUP, SIGTERM, SIGINT};
    if (node == NULL)
        return;
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    ebi_yaml_need(&map, "frame");
    sim->laptop_frame = ebi_yaml_number(&map, "frame", 0, UINT64_MAX - 1, 0);
    sim->laptop_signal = signals[choice(&map, "signal", words, 0)];
    ebi_yaml_map_end(&map);
}

bool ebi_sim_world_read(struct eb_sim *sim, const char *path, eb_finding_tell *tell, void *context,
                        struct eb_problem *problem)
{
    struct ebi_yaml yaml = {.tell = tell, .context = context};
    const char *name;
    yaml_node_t *node;
    char site[EB_PATH_BYTES] = "";
    if (!ebi_yaml_open(&yaml, path, problem))
        return false;
    struct ebi_yaml_map map = ebi_yaml_map(&yaml, ebi_yaml_root(&yaml));
    ebi_yaml_text(&map, "world", true, sim->name, sizeof sim->name);
    sim->random = ebi_yaml_number(&map, "seed", 0, UINT64_MAX - 1, 1);
    ebi_yaml_text(&map, "site", false, site, sizeof site);
    if (site[0] != '\0')
        ebi_path_beside(path, site, sim->site_path);
    ebi_yaml_go_on(&yaml);
    read_wires(sim, &yaml, ebi_yaml_get(&map, "wires", false));
    ebi_yaml_go_on(&yaml);
    read_buses(sim, &yaml, ebi_yaml_get(&map, "buses", false));
    ebi_yaml_go_on(&yaml);
    read_usb_bus(sim, &yaml, ebi_yaml_get(&map, "usb", false));
    ebi_yaml_go_on(&yaml);
    read_laptop(sim, &yaml, ebi_yaml_get(&map, "laptop", false));
    ebi_yaml_go_on(&yaml);
    read_faults(sim, &yaml, ebi_yaml_get(&map, "faults", false));
    ebi_yaml_go_on(&yaml);
    read_laptop_end(sim, &yaml, ebi_yaml_get(&map, "laptop-process", false));
    ebi_yaml_go_on(&yaml);
    yaml_node_t *devices = ebi_yaml_get(&map, "devices", true);
    sim->devices = room_for(devices, sizeof *sim->devices);
    ebi_sim_table_open(&sim->names, ebi_yaml_pairs(devices));
    ebi_sim_table_open(&sim->addresses, ebi_yaml_pairs(devices));
    for (size_t i = 0; (node = ebi_yaml_pair(&yaml, devices, i, &name)) != NULL; i++) {
        sim->count = i + 1;
        read_device(sim, &yaml, name, node, &sim->devices[i]);
        ebi_sim_table_add(&sim->names, ebi_sim_name_key(name), i);
        ebi_yaml_go_on(&yaml);
    }
    ebi_yaml_map_end(&map);
    ebi_yaml_end(&yaml);
    ebi_yaml_close(&yaml);
    return !yaml.failed;
}
