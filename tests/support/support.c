#include "support.h"

#include <ctype.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>
#include <zlib.h>

void make_folder(char folder[PATH_BYTES])
{
    snprintf(folder, PATH_BYTES, "%s/einbau-test-XXXXXX",
             getenv("TMPDIR") != NULL ? getenv("TMPDIR") : "/tmp");
    assert_non_null(mkdtemp(folder));
    /* What the tool keeps of its own is the folder's too: the devices of two tests may have one serial
     * number. */
    char own[PATH_BYTES + 16];
    snprintf(own, sizeof own, "%s/locks", folder);
    setenv("EINBAU_LOCKS", own, 1);
    snprintf(own, sizeof own, "%s/home", folder);
    setenv("XDG_STATE_HOME", own, 1);
    snprintf(own, sizeof own, "%s/config", folder);
    setenv("XDG_CONFIG_HOME", own, 1);
}

void remove_folder(const char *folder)
{
    const char *const arguments[] = {"rm", "-rf", folder, NULL};
    struct outcome o = run_program(arguments);
    outcome_free(&o);
}

void write_bytes(const char *folder, const char *name, const void *bytes, size_t size)
{
    char path[2 * PATH_BYTES];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    assert_int_equal(fwrite(bytes, 1, size, file), size);
    assert_int_equal(fclose(file), 0);
}

void write_text(const char *folder, const char *name, const char *format, ...)
{
    char *text;
    va_list arguments;
    va_start(arguments, format);
    int size = vasprintf(&text, format, arguments);
    va_end(arguments);
    assert_true(size >= 0);
    write_bytes(folder, name, text, (size_t)size);
    free(text);
}

char *read_text(const char *folder, const char *name, size_t *size)
{
    char path[2 * PATH_BYTES];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "rb");
    if (file == NULL)
        return NULL;
    char *text = NULL;
    size_t have = 0;
    size_t n;
    do {
        text = realloc(text, have + 65536 + 1);
        assert_non_null(text);
        n = fread(text + have, 1, 65536, file);
        have += n;
    } while (n > 0);
    text[have] = '\0';
    fclose(file);
    if (size != NULL)
        *size = have;
    return text;
}

/* --- images -------------------------------------------------------------------------------------- */

static void put32(uint8_t *at, uint32_t value)
{
    for (int i = 0; i < 4; i++)
        at[i] = (uint8_t)(value >> 8 * i);
}

uint8_t *make_image(const char *product, const char *component, const char *version, size_t size)
{
    uint8_t *bytes = calloc(1, size);
    assert_non_null(bytes);
    memcpy(bytes, "EBIMAGE1", 8);
    put32(bytes + 8, (uint32_t)size);
    strncpy((char *)bytes + 16, product, 16);
    strncpy((char *)bytes + 32, component, 16);
    strncpy((char *)bytes + 48, version, 16);
    uint32_t x = (uint32_t)crc32(0, bytes + 16, 48) | 1;
    for (size_t i = 64; i < size; i++) {
        x ^= x << 13;
        x ^= x >> 17;
        x ^= x << 5;
        bytes[i] = (uint8_t)x;
    }
    put32(bytes + 12, (uint32_t)crc32_z(0, bytes + 16, size - 16));
    return bytes;
}

void write_image(const char *folder, const char *name, const char *product, const char *component,
                 const char *version, size_t size, const char *revisions, const char *more)
{
    uint8_t *bytes = make_image(product, component, version, size);
    uint8_t digest[crypto_hash_sha256_BYTES];
    char hex[2 * sizeof digest + 1];
    char manifest[PATH_BYTES];
    crypto_hash_sha256(digest, bytes, size);
    sodium_bin2hex(hex, sizeof hex, digest, sizeof digest);
    write_bytes(folder, name, bytes, size);
    free(bytes);
    snprintf(manifest, sizeof manifest, "%s.json", name);
    write_text(folder, manifest,
               "{\"einbau\": \"manifest/1\", \"images\": [{\"file\": \"%s\", \"component\": \"%s\", "
               "\"version\": \"%s\", "
               "\"size\": %zu, \"sha256\": \"%s\", \"order_codes\": [\"%s\"], \"hardware_revisions\": "
               "[\"%s\"]%s}]}\n",
               strrchr(name, '/') != NULL ? strrchr(name, '/') + 1 : name, component, version, size, hex,
               product, revisions, more);
}

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
               "components:\n  firmware: {order: dotted, version: {sdo: 0x100A}}\ncanopen: {}\n");
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
    fprintf(site, "  %s-%u:\n    link: bus\n    via: gate\n    profile: %s\n", kind, i + 1, kind);
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

/* --- jobs ---------------------------------------------------------------------------------------- */

enum { JOB_BUFFER_BYTES = 131072 };

static struct eb_image *image_of(struct job *job, const char *path)
{
    struct eb_problem problem;
    for (size_t i = 0; i < job->image_count; i++) {
        if (strcmp(job->images[i]->path, path) == 0)
            return job->images[i];
    }
    job->images = realloc(job->images, (job->image_count + 1) * sizeof(struct eb_image *));
    assert_non_null(job->images);
    struct eb_image *image = eb_image_open(path, NULL, &problem);
    if (image == NULL)
        fail_msg("%s", problem.text);
    job->images[job->image_count++] = image;
    return image;
}

void job_open(struct job *job, const char *site_path)
{
    struct eb_problem problem;
    memset(job, 0, sizeof *job);
    job->site = eb_site_read(site_path, &problem);
    if (job->site == NULL)
        fail_msg("%s", problem.text);
    size_t n = (job->site != NULL ? job->site->device_count : 0) + 1;
    job->runs = calloc(n, sizeof *job->runs);
    job->items = calloc(n, sizeof *job->items);
    job->buffers = malloc(n * JOB_BUFFER_BYTES);
    job->places = calloc(n, sizeof *job->places);
    job->memory = calloc(n, sizeof *job->memory);
    if (job->memory == NULL)
        abort();
    job->memory_count = n - 1;
    for (size_t i = 0; i < job->memory_count; i++)
        job->memory[i] = malloc(eb_run_memory_bytes(job->site->devices[i].profile));
    assert_true(job->runs != NULL && job->items != NULL && job->buffers != NULL && job->places != NULL);
}

/* The image that leads to a PLC's firmware, where there is one and it does not run yet. */
static struct eb_image *image_before(struct job *job, const struct eb_run *before, size_t component,
                                     const char *path)
{
    char through[EB_PATH_BYTES];
    snprintf(through, sizeof through, "%.*s-1.5.bin", (int)(strlen(path) - strlen("-2.0.bin")), path);
    bool needed =
        !before->identified || before->in_loader || strcmp(before->running[component].version, "1.0") == 0;
    return component == 0 && needed && access(through, R_OK) == 0 ? image_of(job, through) : NULL;
}

static void add_job_item(struct eb_run_item *items, size_t *count,
                         const struct eb_component_profile *component, const struct eb_image *image)
{
    items[(*count)++] = (struct eb_run_item){.component = component,
                                             .image = &image->facts,
                                             .file = &image->found,
                                             .source = image->source,
                                             .checksum = image->checksum};
}

void job_begin(struct job *job, const struct eb_port *port, bool fit)
{
    eb_crew_init(&job->crew, port, job->places, job->site->device_count);
    for (size_t i = 0; i < job->site->device_count; i++) {
        const struct eb_site_device *d = &job->site->devices[i];
        size_t count = 0;
        for (size_t k = 0; fit && k < d->profile->count; k++) {
            if (d->wants[k].version[0] == '\0')
                continue;
            const struct eb_image *before = image_before(job, &job->runs[i], k, d->wants[k].image);
            if (before != NULL)
                add_job_item(job->items[i], &count, &d->profile->components[k], before);
            add_job_item(job->items[i], &count, &d->profile->components[k], image_of(job, d->wants[k].image));
        }
        static const uint64_t patience_us[] = {
            [EB_WIRE_ETHERNET] = 5000000, [EB_WIRE_CAN] = 8000000, [EB_WIRE_USB] = 14000000};
        const struct eb_run_config config = {
            .port = port,
            .profile = d->profile,
            .memory = job->memory[i],
            .memory_bytes = eb_run_memory_bytes(d->profile),
            .target = {.can_link = d->wire->adapter[0] != '\0' ? d->wire->adapter : d->wire->name,
                       .bit_rate = d->wire->bit_rate,
                       .node = d->node,
                       .isotp = d->isotp,
                       .usb_place = d->usb_place,
                       .modbus = d->modbus,
                       .tftp = d->tftp,
                       .unit = d->unit,
                       .serial = d->serial},
            .reach_patience_us = patience_us[eb_profile_wire(d->profile)],
            .items = job->items[i],
            .count = count,
            .buffer = job->buffers + i * JOB_BUFFER_BYTES,
            .buffer_bytes = JOB_BUFFER_BYTES};
        assert_int_equal(eb_run_init(&job->runs[i], &config), EB_OK);
        assert_int_equal(eb_crew_add(&job->crew, &job->runs[i]), EB_OK);
    }
}

void job_forget(struct job *job)
{
    memset(job->runs, 0, job->site->device_count * sizeof *job->runs);
}

void job_work(struct job *job)
{
    while (eb_crew_work(&job->crew, EB_NEVER) > 0)
        ;
}

void job_close(struct job *job)
{
    for (size_t i = 0; i < job->image_count; i++)
        eb_image_close(job->images[i]);
    for (size_t i = 0; i < job->memory_count; i++)
        free(job->memory[i]);
    free(job->memory);
    eb_site_free(job->site);
    free(job->images);
    free(job->runs);
    free(job->items);
    free(job->buffers);
    free(job->places);
}

enum eb_status request_work(struct eb_request *request, const struct eb_request_config *config)
{
    enum eb_status status = eb_request_begin(request, config);
    return status == EB_OK ? eb_request_work(request, EB_NEVER) : status;
}

/* --- processes ----------------------------------------------------------------------------------- */

static pid_t spawn(const char *const *arguments, int in, int out, int err)
{
    fflush(NULL);
    pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid == 0) {
        dup2(in, 0);
        dup2(out, 1);
        dup2(err, 2);
        /* Nothing of the user's own, unless a test says so. */
        setenv("XDG_DATA_HOME", "/dev/null/none", 0);
        setenv("XDG_STATE_HOME", "/dev/null/none", 0);
        setenv("XDG_CONFIG_HOME", "/nonexistent", 0);
        union {
            const char *const *given;
            char *const *wanted;
        } words = {arguments};
        execvp(arguments[0], words.wanted);
        dprintf(2, "%s: %s\n", arguments[0], strerror(errno));
        _exit(127);
    }
    return pid;
}

static int wait_status(pid_t pid)
{
    int status;
    while (waitpid(pid, &status, 0) < 0)
        assert_int_equal(errno, EINTR);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

static char *text_of_file(FILE *file)
{
    long size = ftell(file);
    char *text = calloc(1, (size_t)size + 1);
    rewind(file);
    assert_int_equal(fread(text, 1, (size_t)size, file), size);
    fclose(file);
    return text;
}

struct outcome shell(const char *format, ...)
{
    char *line;
    va_list arguments;
    va_start(arguments, format);
    assert_true(vasprintf(&line, format, arguments) >= 0);
    va_end(arguments);
    const char *const words[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(words);
    free(line);
    return o;
}

struct outcome run_program(const char *const *arguments)
{
    FILE *out = tmpfile();
    FILE *err = tmpfile();
    int in = open("/dev/null", O_RDONLY | O_CLOEXEC);
    assert_true(out != NULL && err != NULL && in >= 0);
    struct outcome o = {.status = wait_status(spawn(arguments, in, fileno(out), fileno(err)))};
    close(in);
    fseek(out, 0, SEEK_END);
    fseek(err, 0, SEEK_END);
    o.out = text_of_file(out);
    o.err = text_of_file(err);
    return o;
}

void outcome_free(struct outcome *o)
{
    free(o->out);
    free(o->err);
}

static struct outcome run_with(const struct little *l, const char *format, va_list arguments)
{
    char line[8 * PATH_BYTES];
    char *words;
    assert_true(vasprintf(&words, format, arguments) >= 0);
    char *rest = words;
    int variables = 0;
    if (words[0] == '{') {
        variables = (int)strcspn(words, "}") - 1;
        rest = words + variables + 3;
    }
    snprintf(line, sizeof line,
             "cd %s && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state "
             "XDG_DATA_HOME=$PWD/home %.*s "
             "&& exec " BIN_DIR "/einbau %s",
             l->folder, variables, words + 1, rest);
    free(words);
    const char *const run[] = {"sh", "-c", line, NULL};
    return run_program(run);
}

struct outcome einbau_run(const struct little *l, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = run_with(l, format, arguments);
    va_end(arguments);
    return o;
}

char *einbau_says(const struct little *l, int status, const char *says, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = run_with(l, format, arguments);
    va_end(arguments);
    if (o.status != status || (says != NULL && strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: found %d\n%s\n%s\nexpected %d: %s", format, o.status, o.out, o.err, status,
                 says != NULL ? says : "");
    free(o.err);
    return o.out;
}

void replace_in(const struct little *l, const char *file, const char *old, const char *fresh)
{
    char *text = read_text(l->folder, file, NULL);
    char *at = text != NULL ? strstr(text, old) : NULL;
    if (at == NULL)
        fail_msg("%s: found no '%s'", file, old);
    write_text(l->folder, file, "%.*s%s%s", (int)(at - text), text, fresh, at + strlen(old));
    free(text);
}

int start_program(const char *const *arguments, const char *log)
{
    int fd = open(log, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
    int in = open("/dev/null", O_RDONLY | O_CLOEXEC);
    assert_true(fd >= 0 && in >= 0);
    pid_t pid = spawn(arguments, in, fd, fd);
    close(fd);
    close(in);
    return pid;
}

int stop_program(int pid, int number)
{
    kill(pid, number);
    return wait_status(pid);
}

bool wait_for_text(const char *path, const char *text, unsigned seconds)
{
    const struct timespec pause = {0, 20000000};
    for (unsigned i = 0; i < seconds * 50; i++) {
        char *have = read_text("", path, NULL);
        bool found = have != NULL && strstr(have, text) != NULL;
        free(have);
        if (found)
            return true;
        nanosleep(&pause, NULL);
    }
    return false;
}

bool have_program(const char *name)
{
    char line[256];
    snprintf(line, sizeof line, "PATH=$PATH:/usr/sbin:/sbin command -v %s", name);
    const char *const arguments[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(arguments);
    bool have = o.status == 0;
    outcome_free(&o);
    return have;
}

static struct sockaddr_in on_loopback(unsigned port)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    return address;
}

unsigned free_port(int type)
{
    struct sockaddr_in address = on_loopback(0);
    socklen_t size = sizeof address;
    int fd = socket(AF_INET, type, 0);
    assert_int_equal(bind(fd, (const struct sockaddr *)&address, sizeof address), 0);
    assert_int_equal(getsockname(fd, (struct sockaddr *)&address, &size), 0);
    close(fd);
    return ntohs(address.sin_port);
}

bool wait_for_server(unsigned port)
{
    struct sockaddr_in address = on_loopback(port);
    bool up = false;
    for (int i = 0; i < 150 && !up; i++) {
        int fd = socket(AF_INET, SOCK_STREAM, 0);
        up = connect(fd, (const struct sockaddr *)&address, sizeof address) == 0;
        close(fd);
        usleep(100000);
    }
    return up;
}

char *on_terminal(const char *words)
{
    enum { SCREEN_BYTES = 1 << 20, SECONDS_MAX = 240 };
    static const char full_screen[] = "\x1b[?1049h";
    char *screen = calloc(1, SCREEN_BYTES);
    size_t size = 0;
    size_t answered = 0;
    int fd;
    time_t until = time(NULL) + SECONDS_MAX;
    pid_t pid = forkpty(&fd, NULL, NULL, NULL);
    if (pid < 0 || screen == NULL)
        abort();
    if (pid == 0) {
        setenv("TERM", "xterm", 1);
        execl("/bin/sh", "sh", "-c", words, (char *)NULL);
        _exit(127);
    }
    for (;;) {
        struct pollfd p = {.fd = fd, .events = POLLIN};
        int ready = poll(&p, 1, 500);
        ssize_t n = ready > 0 ? read(fd, screen + size, SCREEN_BYTES - 1 - size) : 0;
        if (ready > 0 && n <= 0)
            break;
        size += (size_t)(n > 0 ? n : 0);
        if (strstr(screen + answered, "(yes/no) ") != NULL) {
            answered = size;
            assert_int_equal(write(fd, "yes\n", 4), 4);
        } else if (strstr(screen + answered, full_screen) != NULL &&
                   strstr(screen + answered, "q ends") != NULL) {
            answered = size;
            assert_int_equal(write(fd, "q", 1), 1);
        }
        if (time(NULL) >= until) {
            kill(pid, SIGKILL);
            fputs(screen, stderr); /* whole: the messages of cmocka are cut */
            fail_msg("%s: not ended after %d s", words, SECONDS_MAX);
        }
    }
    close(fd);
    waitpid(pid, NULL, 0);
    assert_int_equal(strlen(screen), size); /* no NUL among it */
    return screen;
}
