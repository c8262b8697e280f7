#include "support.h"

#include <ctype.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <zlib.h>

/* --- the little site ----------------------------------------------------------------------------- */

static const char profile_head[] = "identity:\n"
                                   "  maker: {modbus-object: 0x00}\n"
                                   "  order-code: {modbus-object: 0x01}\n"
                                   "  product: {modbus-object: 0x04}\n"
                                   "  serial: {modbus-object: 0x81}\n"
                                   "  hardware-revision: {modbus-object: 0x82}\n"
                                   "loader: {state: {modbus-object: 0x80}, reads: loader}\n"
                                   "components:\n"
                                   "  firmware: {order: dotted, version: {modbus-object: 2}, "
                                   "checksum: {modbus-object: 0x90}, send-as: fw.bin}\n";

static const char *or_nothing(const char *text)
{
    return text != NULL ? text : "";
}

static void write_profiles(const struct little *little, const struct little_options *o)
{
    const char *tftp = o->tftp;
    char back[160];
    snprintf(back, sizeof back, "%s%s", o->back != NULL ? ", " : "", or_nothing(o->back));
    char folder[PATH_BYTES + 16];
    snprintf(folder, sizeof folder, "%s/profiles", little->folder);
    assert_int_equal(mkdir(folder, 0777), 0);
    if (tftp == NULL)
        tftp = "windowsize: 4, blksize: 128, patience-s: 20";
    write_text(folder, "plc.yaml",
               "profile: plc\norder-codes: [TP-*]\n%s"
               "  display: {order: dotted, version: {modbus-object: 0x83}, checksum: {modbus-object: 0x91}, "
               "send-as: display.bin}\n"
               "tftp: {%s}\n"
               "prepare:\n  - write-register: {address: 0x1000, value: 2}\n"
               "activate:\n  - write-register: {address: 0x1000, value: 3}\n"
               "undo:\n  - write-register: {address: 0x1000, value: 1}\n"
               "return: {down-ms: 300, patience-s: 20, settle-s: 3%s%s}\n%s",
               profile_head, tftp, o->through ? ", restart: once" : "", back, or_nothing(o->profile));
    write_text(folder, "coupler.yaml",
               "profile: coupler\norder-codes: [TC-*]\n%s"
               "tftp: {%s}\n"
               "prepare:\n  - write-register: {address: 0x1000, value: 4}\n"
               "  - expect-register: {address: 0x1001, value: 3, within-ms: 8000}\n"
               "activate:\n  - write-register: {address: 0x1000, value: 3}\n"
               "undo:\n  - write-register: {address: 0x1000, value: 3}\n"
               "return: {down-ms: 300, patience-s: 20, settle-s: 3%s}\n%s",
               profile_head, tftp, back, or_nothing(o->profile));
}

static void write_devices(const struct little *little, const struct little_options *o, FILE *site,
                          FILE *world)
{
    const char *times = o->no_times ? "" : "    erase-ms: 400\n    write-bytes-per-s: 50000\n";
    size_t kib = o->capacity_kib > 0 ? o->capacity_kib : 8;
    (void)little;
    for (size_t i = 0; i < o->plcs + o->couplers; i++) {
        bool plc = i < o->plcs;
        size_t n = plc ? i + 1 : i - o->plcs + 1;
        const char *kind = plc ? "plc" : "coupler";
        char address[48];
        snprintf(address, sizeof address, "%s.%zu", i < 250 ? "192.0.2" : "198.51.100", 1 + i % 250);
        fprintf(site,
                "  %s-%zu:\n    link: lan\n    address: %s\n    profile: %s\n    serial: %c-%zu\n    wants:\n"
                "      firmware: {version: 2.0, image: %s-2.0.bin}\n",
                kind, n, address, kind, toupper(kind[0]), n, kind);
        if (plc)
            fprintf(site, "      display: {version: 2.0, image: display-2.0.bin}\n");
        fprintf(world,
                "  %s-%zu:\n    wire: lan\n    address: %s\n    maker: Tester\n    product: %s\n    "
                "order-code: %s\n"
                "    hardware-revision: 3\n    serial: %c-%zu\n%s%s"
                "    tftp: {writable: %s, blksize-max: 65464, windowsize-max: 65535%s%s}\n    components:\n"
                "      firmware: {send-as: fw.bin, product: %s, version-object: 2, checksum-object: 0x90, "
                "capacity-kib: %zu, banks: %d, image: %s-1.0.bin}\n",
                kind, n, address, kind, plc ? "TP-1" : "TC-1", toupper(kind[0]), n, times,
                o->device != NULL ? o->device : "", plc ? "stopped" : "loader",
                o->device_tftp != NULL ? ", " : "", o->device_tftp != NULL ? o->device_tftp : "",
                plc ? "TP-1" : "TC-1", kib, plc ? 2 : 1, kind);
        if (plc)
            fprintf(world, "      display: {send-as: display.bin, product: TP-1, version-object: 0x83, "
                           "checksum-object: 0x91, capacity-kib: 8, banks: 2, image: display-1.0.bin}\n");
    }
}

void little_begin(struct little *l)
{
    char folder[PATH_BYTES + 16];
    make_folder(l->folder);
    snprintf(folder, sizeof folder, "%s/profiles", l->folder);
    assert_int_equal(mkdir(folder, 0777), 0);
    snprintf(l->site_path, sizeof l->site_path, "%s/site.yaml", l->folder);
    snprintf(l->world_path, sizeof l->world_path, "%s/world.yaml", l->folder);
}

bool little_runs(const struct little *l, struct eb_sim *sim, const char *device, const char *component,
                 const char *file)
{
    size_t capacity;
    size_t size;
    char *image = read_text(l->folder, file, &size);
    bool right = eb_sim_mode_of(sim, device) == EB_SIM_RUNNING &&
                 memcmp(eb_sim_flash(sim, device, component, &capacity), image, size) == 0;
    free(image);
    return right;
}

void little_make(struct little *little, const struct little_options *o)
{
    size_t bytes = o->image_bytes > 0 ? o->image_bytes : 3000;
    make_folder(little->folder);
    snprintf(little->site_path, sizeof little->site_path, "%s/site.yaml", little->folder);
    snprintf(little->world_path, sizeof little->world_path, "%s/world.yaml", little->folder);
    write_profiles(little, o);
    if (o->through)
        write_image(little->folder, "plc-1.5.bin", "TP-1", "firmware", "1.5", 2900, "1..9", "");
    write_image(little->folder, "plc-1.0.bin", "TP-1", "firmware", "1.0", 2800, "1..9", "");
    write_image(little->folder, "plc-2.0.bin", "TP-1", "firmware", "2.0", bytes, "1..9", "");
    write_image(little->folder, "display-1.0.bin", "TP-1", "display", "1.0", 700, "1..9", "");
    write_image(little->folder, "display-2.0.bin", "TP-1", "display", "2.0", 768, "1..9", "");
    write_image(little->folder, "coupler-1.0.bin", "TC-1", "firmware", "1.0", 2800, "1..9", "");
    write_image(little->folder, "coupler-2.0.bin", "TC-1", "firmware", "2.0", bytes, "1..9", "");
    FILE *site = fopen(little->site_path, "w");
    FILE *world = fopen(little->world_path, "w");
    assert_non_null(site);
    assert_non_null(world);
    fprintf(site, "site: little\nlinks:\n  lan: {kind: ethernet}\ndevices:\n");
    fprintf(world, "world: little\nseed: 7\nsite: site.yaml\nwires:\n  lan: {%s}\ndevices:\n",
            o->wire != NULL ? o->wire : "latency-us: 100");
    write_devices(little, o, site, world);
    fclose(site);
    fclose(world);
}

void little_remove(struct little *little)
{
    remove_folder(little->folder);
}

/* --- a little bus -------------------------------------------------------------------------------- */

static void write_bus_profiles(const struct little *l, const struct bus_options *o)
{
    write_text(l->folder, "gate.yaml",
               "profile: gate\norder-codes: [TG-1]\nidentity:\n  order-code: {sdo: 0x1008}\n"
               "  serial: {sdo: 0x1018, sub: 4, as: number}\n"
               "components:\n  firmware: {order: dotted, version: {sdo: 0x100A}}\ncanopen: {%s}\n",
               or_nothing(o->members));
    write_text(l->folder, "node.yaml",
               "profile: node\norder-codes: [TN-1]\n"
               "identity:\n  order-code: {sdo: 0x1008}\n  hardware-revision: {sdo: 0x1009}\n"
               "  serial: {sdo: 0x1018, sub: 4, as: number}\n"
               "loader: {state: {sdo: 0x1018, sub: 2, as: hex}, reads: \"000000BB\", order-code: TN-1}\n"
               "components:\n  firmware: {order: dotted, version: {sdo: 0x100A}, "
               "checksum: {sdo: 0x1F56, sub: 1, as: hex}}\n"
               "canopen: {program: 1, clear-patience-s: 10, patience-s: 10%s}\n"
               "return: {down-ms: 200, patience-s: 15, settle-s: 2}\n%s",
               or_nothing(o->way), or_nothing(o->profile));
    write_text(l->folder, "unit.yaml",
               "profile: unit\norder-codes: [TU-1]\n"
               "identity:\n  order-code: {did: 0xF187}\n  hardware-revision: {did: 0xF191}\n  serial: {did: "
               "0xF18C}\n"
               "loader: {state: {did: 0xF180}, reads: boot}\n"
               "components:\n  firmware: {order: dotted, version: {did: 0xF189}, checksum: {did: 0xF1F0}}\n"
               "uds: {address: 0x8000, security: {level: 1, key: add, value: 0x1234}, check-routine: 0x0202, "
               "fingerprint: 0xF184, erase-patience-s: 10, patience-s: 10%s}\n"
               "return: {down-ms: 200, patience-s: 15, settle-s: 2}\n%s",
               or_nothing(o->uds_way), or_nothing(o->profile));
}

static void write_bus_device(FILE *site, FILE *world, const struct bus_options *o, bool node, unsigned i)
{
    unsigned request = (o->ids != 0 ? o->ids : 0x700) + i;
    unsigned kib = o->capacity_kib != 0 ? o->capacity_kib : 8;
    const char *kind = node ? "node" : "unit";
    bool managed = o->network != NULL && node && !o->unnamed;
    fprintf(site, "  %s-%u:\n    link: bus\n    %s: gate\n    profile: %s\n", kind, i + 1,
            managed ? "managed-by" : "via", kind);
    fprintf(world, "  %s-%u:\n    bus: bus\n", kind, i + 1);
    if (node) {
        fprintf(site, "    node: %u\n", 11 + i);
        fprintf(world, "    canopen: {node: %u, vendor: 7, product: 0xAA, loader-product: 0xBB%s}\n", 11 + i,
                or_nothing(o->canopen));
    } else {
        fprintf(site, "    uds: {request: 0x%X, response: 0x%X%s}\n", request, request + 8,
                or_nothing(o->uds_site));
        fprintf(world,
                "    uds: {request: 0x%X, response: 0x%X, base: 0x%X, key: 0x%X, block-length: %u%s}\n",
                request, request + 8, o->base != 0 ? o->base : 0x8000, o->key != 0 ? o->key : 0x1234,
                o->block_length != 0 ? o->block_length : 130, or_nothing(o->uds));
    }
    fprintf(site, "    wants:\n      firmware: {version: 2.0, image: %s-2.0.bin}\n", kind);
    fprintf(world,
            "    order-code: %s\n    hardware-revision: 3\n    serial: \"%u\"\n    down-ms: 100\n    "
            "boot-ms: 200\n%s%s"
            "    components:\n      firmware: {product: %s, capacity-kib: %u, image: %s-1.0.bin}\n",
            node ? "TN-1" : "TU-1", 100 + i,
            o->no_times ? "" : "    erase-ms: 300\n    write-bytes-per-s: 30000\n", or_nothing(o->device),
            node ? "TN-1" : "TU-1", kib, kind);
}

void bus_make(struct little *l, const struct bus_options *o)
{
    size_t bytes = o->image_bytes > 0 ? o->image_bytes : 600;
    uint32_t bit_rate = o->bit_rate > 0 ? o->bit_rate : 250000;
    make_folder(l->folder);
    snprintf(l->site_path, sizeof l->site_path, "%s/site.yaml", l->folder);
    snprintf(l->world_path, sizeof l->world_path, "%s/world.yaml", l->folder);
    write_bus_profiles(l, o);
    write_image(l->folder, "gate.bin", "TG-1", "firmware", "2.1", 400, "1..9", "");
    write_image(l->folder, "node-1.0.bin", "TN-1", "firmware", "1.0", 500, "1..9", "");
    write_image(l->folder, "node-2.0.bin", "TN-1", "firmware", "2.0", bytes, "1..9", "");
    write_image(l->folder, "unit-1.0.bin", "TU-1", "firmware", "1.0", 500, "1..9", "");
    write_image(l->folder, "unit-2.0.bin", "TU-1", "firmware", "2.0", bytes, "1..9", "");
    FILE *site = fopen(l->site_path, "w");
    FILE *world = fopen(l->world_path, "w");
    assert_non_null(site);
    assert_non_null(world);
    fprintf(site, "site: little bus\nprofiles: .\nlinks:\n  bus: {kind: can, bit-rate: %u}\ndevices:\n",
            bit_rate);
    fprintf(world,
            "world: little bus\nseed: 7\nsite: site.yaml\nbuses:\n  bus: {bit-rate: %u%s%s}\ndevices:\n",
            bit_rate, o->bus != NULL ? ", " : "", or_nothing(o->bus));
    fprintf(site, "  gate:\n    link: bus\n    node: 1\n    profile: gate\n");
    fprintf(world,
            "  gate:\n    bus: bus\n%s    canopen: {node: 1, vendor: 7, product: 1}\n    order-code: TG-1\n  "
            "  serial: \"1\"\n"
            "    components:\n      firmware: {product: TG-1, capacity-kib: 1, image: gate.bin}\n",
            o->no_gateway ? "" : "    gateway-to: bus\n");
    if (o->network != NULL)
        fprintf(world, "    network:\n      %s\n      members:\n", o->network);
    for (unsigned i = 0; i < o->nodes && o->network != NULL; i++)
        fprintf(world, "        - {node: %u%s%s}\n", 11 + i, o->member != NULL ? ", " : "",
                or_nothing(o->member));
    for (unsigned i = 0; i < o->nodes; i++)
        write_bus_device(site, world, o, true, i);
    for (unsigned i = 0; i < o->units; i++)
        write_bus_device(site, world, o, false, i);
    fclose(site);
    fclose(world);
}

/* --- gauges on USB ------------------------------------------------------------------------------- */

uint8_t *with_suffix(const uint8_t *image, size_t *size, uint16_t vendor, uint16_t product, uint16_t release)
{
    const uint8_t suffix[12] = {(uint8_t)release,
                                (uint8_t)(release >> 8),
                                (uint8_t)product,
                                (uint8_t)(product >> 8),
                                (uint8_t)vendor,
                                (uint8_t)(vendor >> 8),
                                0x00,
                                0x01,
                                'U',
                                'F',
                                'D',
                                16};
    uint8_t *file = malloc(*size + 16);
    assert_non_null(file);
    memcpy(file, image, *size);
    memcpy(file + *size, suffix, sizeof suffix);
    uint32_t crc = ~(uint32_t)crc32_z(0, file, *size + sizeof suffix);
    for (int i = 0; i < 4; i++)
        file[*size + 12 + (size_t)i] = (uint8_t)(crc >> 8 * i);
    *size += 16;
    return file;
}

/* An image of the gauges with its manifest, the image within a DFU file where that is wanted. */
static void write_gauge_image(const struct little *l, const struct usb_options *o, const char *version,
                              size_t bytes)
{
    char name[32];
    char path[PATH_BYTES + 48];
    snprintf(name, sizeof name, "gauge-%s.bin", version);
    write_image(l->folder, name, "TS-1", "firmware", version, bytes, "1..9", "");
    if (!o->dfu_file || strcmp(version, "1.0") == 0)
        return;
    size_t size;
    uint8_t *image = (uint8_t *)read_text(l->folder, name, &size);
    uint8_t *file = with_suffix(image, &size, 0x1209, 0x0003, 0xFFFF);
    uint8_t digest[32];
    char hex[65];
    crypto_hash_sha256(digest, file, size);
    sodium_bin2hex(hex, sizeof hex, digest, sizeof digest);
    write_bytes(l->folder, name, file, size);
    snprintf(path, sizeof path, "%s.json", name);
    write_text(
        l->folder, path,
        "{\"einbau\": \"manifest/1\", \"images\": [{\"file\": \"%s\", \"component\": \"firmware\", "
        "\"version\": "
        "\"%s\", \"order_codes\": [\"TS-1\"], \"hardware_revisions\": [\"1..9\"], \"size\": %zu, \"sha256\": "
        "\"%s\"}]}",
        name, version, size, hex);
    free(file);
    free(image);
}

void usb_make(struct little *l, const struct usb_options *o)
{
    make_folder(l->folder);
    snprintf(l->site_path, sizeof l->site_path, "%s/site.yaml", l->folder);
    snprintf(l->world_path, sizeof l->world_path, "%s/world.yaml", l->folder);
    unsigned capacity_kib = o->capacity_kib > 0 ? o->capacity_kib : 8;
    write_text(
        l->folder, "gauge.yaml",
        "profile: gauge\norder-codes: [TS-1]\nidentity:\n  order-code: {usb: string, number: 4}\n"
        "  hardware-revision: {usb: string, number: 5}\n  serial: {usb: serial}\ncomponents:\n  firmware:\n"
        "    order: dotted\n    version: %s\n    checksum: {usb: string, number: 7}\n    capacity-kib: "
        "%u\n%s%s%s"
        "dfu: {ids: \"1209:0003\", loader-ids: \"1209:0004\", answer-patience-s: 1%s%s}\n"
        "return: {down-ms: 300, patience-s: 20, settle-s: 2}\n%s",
        o->by_release ? "{usb: release, parts: 2}" : "{usb: string, number: 6}", capacity_kib,
        o->firmware != NULL ? "    " : "", or_nothing(o->firmware), o->firmware != NULL ? "\n" : "",
        o->way != NULL ? ", " : "", or_nothing(o->way), or_nothing(o->profile));
    write_gauge_image(l, o, "1.0", 500);
    write_gauge_image(l, o, "2.0", o->image_bytes > 0 ? o->image_bytes : 600);
    FILE *site = fopen(l->site_path, "w");
    FILE *world = fopen(l->world_path, "w");
    assert_non_null(site);
    assert_non_null(world);
    fprintf(site, "site: gauges\nprofiles: .\nlinks:\n  desk: {kind: usb}\ndevices:\n");
    fprintf(world,
            "world: gauges\nseed: 7\nsite: site.yaml\nusb: {hubs: [\"1-2\"], latency-us: %u}\ndevices:\n",
            o->latency_us == 0 ? 40 : o->latency_us - 1);
    for (unsigned i = 1; i <= o->gauges; i++) {
        fprintf(site, "  gauge-%u:\n    link: desk\n    profile: gauge\n%s", i, or_nothing(o->site));
        if (!o->no_site_serial)
            fprintf(site, "    serial: G-%u\n", i);
        else
            fprintf(site, "    place: 1-2.%u\n", i);
        fprintf(site, "    wants:\n      firmware: {version: \"2.0\", image: gauge-2.0.bin}\n");
        fprintf(
            world,
            "  gauge-%u:\n    usb: {place: 1-2.%u, ids: \"1209:0003\", loader-ids: \"1209:0004\", release: "
            "%s, "
            "transfer-bytes: %u%s%s}\n    maker: Tester\n    product: Gauge\n    order-code: TS-1\n"
            "    hardware-revision: \"3\"\n    serial: G-%u\n    down-ms: 100\n    boot-ms: %u\n%s"
            "    components:\n      firmware: {product: TS-1, capacity-kib: %u, image: gauge-1.0.bin%s%s}\n",
            i, i, o->by_release ? "version" : "\"1.0\"", o->transfer_bytes > 0 ? o->transfer_bytes : 64,
            o->usb != NULL ? ", " : "", or_nothing(o->usb), i, o->boot_ms > 0 ? o->boot_ms : 200,
            or_nothing(o->device), capacity_kib, o->component != NULL ? ", " : "", or_nothing(o->component));
    }
    fclose(site);
    fclose(world);
}

struct little shared;

int set_up_shared(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .couplers = 1};
    little_make(&shared, &options);
    return 0;
}

int tear_down_shared(void **state)
{
    (void)state;
    little_remove(&shared);
    return 0;
}
