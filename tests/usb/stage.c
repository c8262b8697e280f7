/* Puts the simulated USB devices of a world in front of the real libusb: umockdev mocks sysfs, the device
 * files and their ioctls, and this program answers the latter with the device models, in real time.  The
 * program under test runs as it is, as a child; this one ends with its exit status and says what each device
 * then runs.
 *
 * usage: umockdev-wrapper usb_stage WORLD [--stall|--silence|--unplug|--vanish N] [--no-right] -- COMMAND...
 *
 * The N-th control transfer of the job is stalled, not answered, or answered by nobody any more; with
 * --vanish the device stays away. */
#include <errno.h>
#include <glib.h>
#include <linux/usbdevice_fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <umockdev.h>
#include <unistd.h>

#include "sim/world.h"

enum { TICK_MS = 1, UNPLUGGED_US = 1500000, DATA_BYTES = 65536 };

struct urb {
    struct urb *next;
    UMockdevIoctlData *data, *buffer;
    gulong address; /* in the client */
    bool over;
};

/* A device as long as it has one address. */
struct stand {
    struct stand *next;
    struct ebi_sim_device *device;
    uint8_t address;
    char path[128], node[64];
    bool gone, claimed;
    struct urb *urbs;
};

static UMockdevTestbed *bed;
static GMainLoop *loop;
static struct eb_sim *sim;
static struct stand *stands;
static struct ebi_sim_net net;
static int child_status;
static GPid child;
static unsigned transfers, struck;
static enum { NOTHING, STALL, SILENCE, UNPLUG, VANISH } strike;
static bool no_right;
static uint64_t plug_us = EB_NEVER;
static struct ebi_sim_device *pulled;

/* --- the devices' surroundings ------------------------------------------------------------------- */

static uint64_t now_us(void *self)
{
    struct timespec t;
    (void)self;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

static void set_alive(void *self, struct ebi_sim_device *device, bool alive)
{
    (void)self;
    (void)device;
    (void)alive;
}

/* --- in sysfs ------------------------------------------------------------------------------------ */

static void put_hex(GString *to, const uint8_t *bytes, size_t size)
{
    for (size_t i = 0; i < size; i++)
        g_string_append_printf(to, "%02X", bytes[i]);
}

static void descriptor_of(const struct eb_usb_device *d, uint8_t to[EB_USB_DESCRIPTOR_BYTES])
{
    const uint8_t bytes[EB_USB_DESCRIPTOR_BYTES] = {18,
                                                    1,
                                                    0,
                                                    2,
                                                    0,
                                                    0,
                                                    0,
                                                    64,
                                                    (uint8_t)d->vendor,
                                                    (uint8_t)(d->vendor >> 8),
                                                    (uint8_t)d->product,
                                                    (uint8_t)(d->product >> 8),
                                                    (uint8_t)d->release,
                                                    (uint8_t)(d->release >> 8),
                                                    1,
                                                    2,
                                                    3,
                                                    1};
    memcpy(to, bytes, sizeof bytes);
}

static gboolean handle_ioctl(UMockdevIoctlBase *base, UMockdevIoctlClient *client, gpointer data);

/* "1-2.1" is below "1-2". */
static void path_of(const char *place, char *path, size_t cap)
{
    char hub[EB_USB_PLACE_BYTES];
    char *dot;
    snprintf(hub, sizeof hub, "%s", place);
    dot = strrchr(hub, '.');
    if (dot == NULL) {
        snprintf(path, cap, "/devices/usb1/%s", place);
        return;
    }
    *dot = '\0';
    path_of(hub, path, cap);
    snprintf(path + strlen(path), cap - strlen(path), "/%s", place);
}

/* A hub, or the root of all: nobody talks to it here. */
static void add_hub(const char *path, unsigned address)
{
    GError *error = NULL;
    char *text = g_strdup_printf(
        "P: %s\nN: bus/usb/001/%03u\nE: DEVNAME=/dev/bus/usb/001/%03u\nE: DEVTYPE=usb_device\nE: "
        "SUBSYSTEM=usb\n"
        "E: BUSNUM=001\nE: DEVNUM=%03u\nA: busnum=1\\n\nA: devnum=%u\\n\nA: speed=12\\n\nA: "
        "bConfigurationValue=1\\n\n"
        "H: "
        "descriptors="
        "12010002090000400912100000010000000109021900010100E0000904000001090000000705810304000C\n",
        path, address, address, address, address);
    if (!umockdev_testbed_add_from_string(bed, text, &error))
        g_error("adding: %s", error->message);
    g_free(text);
}

static void arrive(struct ebi_sim_device *d)
{
    struct stand *s = g_new0(struct stand, 1);
    struct eb_usb_device seen;
    uint8_t descriptor[EB_USB_DESCRIPTOR_BYTES];
    GString *text = g_string_new(NULL);
    GError *error = NULL;
    uint64_t configured_us = d->usb.configured_us;
    d->usb.configured_us = 0; /* the file has all descriptors from the beginning; what is set comes later */
    ebi_sim_usb_describe(d, &seen);
    d->usb.configured_us = configured_us;
    descriptor_of(&seen, descriptor);
    s->device = d;
    s->address = d->usb.address;
    s->next = stands;
    stands = s;
    path_of(seen.place, s->path, sizeof s->path);
    snprintf(s->node, sizeof s->node, "/dev/bus/usb/001/%03u", s->address);
    UMockdevIoctlBase *handler = umockdev_ioctl_base_new();
    g_signal_connect(handler, "handle-ioctl", G_CALLBACK(handle_ioctl), s);
    if (!no_right && !umockdev_testbed_attach_ioctl(bed, s->node, handler, &error))
        g_error("attaching: %s", error->message);
    g_string_append_printf(
        text,
        "P: %s\nN: bus/usb/001/%03u\nE: DEVNAME=%s\nE: DEVTYPE=usb_device\nE: SUBSYSTEM=usb\n"
        "E: BUSNUM=001\nE: DEVNUM=%03u\nE: MAJOR=189\nE: MINOR=%u\n"
        "A: busnum=1\\n\nA: devnum=%u\\n\nA: speed=12\\n\nA: bConfigurationValue=%s\\n\n"
        "A: manufacturer=%s\\n\nA: product=%s\\n\n",
        s->path, s->address, s->node, s->address, s->address - 1U, s->address,
        configured_us > now_us(NULL) ? "" : "1", seen.maker, seen.name);
    if (seen.serial[0] != '\0')
        g_string_append_printf(text, "A: serial=%s\\n\n", seen.serial);
    g_string_append(text, "H: descriptors=");
    put_hex(text, descriptor, sizeof descriptor);
    put_hex(text, seen.configuration, seen.size);
    g_string_append(text, "\n");
    if (!umockdev_testbed_add_from_string(bed, text->str, &error))
        g_error("adding: %s", error->message);
    if (no_right) {
        char *root = umockdev_testbed_get_root_dir(bed);
        char *file = g_strconcat(root, s->node, NULL);
        char *others = g_strconcat(root, "/ioctl/_default", NULL);
        chmod(others, 0777);
        g_free(others);
        chmod(root, 0777);
        chmod(file, 0);
        g_free(file);
        g_free(root);
    }
    g_string_free(text, TRUE);
}

static void leave(struct stand *s)
{
    char *syspath = g_strconcat("/sys", s->path, NULL);
    s->gone = true;
    umockdev_testbed_uevent(bed, syspath, "remove");
    umockdev_testbed_detach_ioctl(bed, s->node, NULL);
    umockdev_testbed_remove_device(bed, syspath);
    g_free(syspath);
    for (struct urb *u = s->urbs; u != NULL; u = u->next) {
        if (!u->over)
            ((struct usbdevfs_urb *)(void *)u->data->data)->status = -ESHUTDOWN;
        u->over = true;
    }
}

static void changed(void *self, struct ebi_sim_device *d)
{
    (void)self;
    for (struct stand *s = stands; s != NULL; s = s->next) {
        if (s->device == d && !s->gone)
            leave(s);
    }
    if (ebi_sim_usb_there(d))
        arrive(d);
}

/* --- what usbfs does ----------------------------------------------------------------------------- */

/* The transfer meets its device, and what is to happen to it. */
static void perform(struct stand *s, struct urb *u)
{
    struct usbdevfs_urb *urb = (void *)u->data->data;
    static uint8_t data[DATA_BYTES];
    struct eb_usb_setup setup;
    eb_usb_setup_get(u->buffer->data, &setup);
    size_t size = setup.length;
    bool in = (setup.type & EB_USB_IN) != 0;
    bool hit = ++transfers == struck;
    urb->actual_length = 0;
    if (hit && (strike == UNPLUG || strike == VANISH)) {
        pulled = s->device;
        plug_us = strike == VANISH ? EB_NEVER : now_us(NULL) + UNPLUGGED_US;
        ebi_sim_usb_plug(s->device, NULL);
        return;
    }
    if (hit && strike == SILENCE)
        return; /* until it is discarded */
    if (hit && strike == STALL)
        ebi_sim_usb_fail(s->device, 15);
    if (!in)
        memcpy(data, u->buffer->data + EB_USB_SETUP_BYTES, size);
    bool ok = !(hit && strike == STALL) && ebi_sim_usb_control(s->device, &setup, data, &size);
    urb->status = ok ? 0 : -EPIPE;
    if (ok && in)
        umockdev_ioctl_data_update(u->buffer, EB_USB_SETUP_BYTES, data, (gint)size);
    urb->actual_length = ok ? (int)(in ? size : setup.length) : 0;
    u->over = true;
}

static void submit(struct stand *s, UMockdevIoctlClient *client, UMockdevIoctlData *arg)
{
    struct urb *u = g_new0(struct urb, 1);
    u->data = umockdev_ioctl_data_resolve(arg, 0, sizeof(struct usbdevfs_urb), NULL);
    u->address = u->data->client_addr;
    const struct usbdevfs_urb *urb = (const void *)u->data->data;
    u->buffer = umockdev_ioctl_data_resolve(u->data, offsetof(struct usbdevfs_urb, buffer),
                                            (gsize)urb->buffer_length, NULL);
    struct urb **last = &s->urbs;
    while (*last != NULL)
        last = &(*last)->next;
    *last = u;
    umockdev_ioctl_client_complete(client, 0, 0);
    perform(s, u);
}

/* EAGAIN comes late: the mocked device file is always ready, and libusb would ask without end. */
static gboolean nothing_yet(gpointer data)
{
    umockdev_ioctl_client_complete(data, -1, EAGAIN);
    g_object_unref(data);
    return G_SOURCE_REMOVE;
}

static void reap(struct stand *s, UMockdevIoctlClient *client, UMockdevIoctlData *arg)
{
    for (struct urb **at = &s->urbs; *at != NULL; at = &(*at)->next) {
        struct urb *u = *at;
        if (!u->over)
            continue;
        UMockdevIoctlData *to = umockdev_ioctl_data_resolve(arg, 0, sizeof(void *), NULL);
        umockdev_ioctl_data_set_ptr(to, 0, u->data);
        *at = u->next;
        umockdev_ioctl_client_complete(client, 0, 0);
        g_object_unref(u->buffer);
        g_object_unref(u->data);
        g_free(u);
        return;
    }
    if (s->gone)
        umockdev_ioctl_client_complete(client, -1, ENODEV);
    else
        g_timeout_add(TICK_MS, nothing_yet, g_object_ref(client));
}

static void discard(struct stand *s, UMockdevIoctlClient *client, UMockdevIoctlData *arg)
{
    gulong address;
    memcpy(&address, arg->data, sizeof address);
    for (struct urb *u = s->urbs; u != NULL; u = u->next) {
        if (u->address != address || u->over)
            continue;
        ((struct usbdevfs_urb *)(void *)u->data->data)->status = -ENOENT;
        u->over = true;
        umockdev_ioctl_client_complete(client, 0, 0);
        return;
    }
    umockdev_ioctl_client_complete(client, -1, EINVAL);
}

static gboolean handle_ioctl(UMockdevIoctlBase *base, UMockdevIoctlClient *client, gpointer data)
{
    struct stand *s = data;
    UMockdevIoctlData *arg = umockdev_ioctl_client_get_arg(client);
    gulong request = umockdev_ioctl_client_get_request(client);
    (void)base;
    if (s->gone && request != USBDEVFS_REAPURBNDELAY && request != USBDEVFS_REAPURB &&
        request != USBDEVFS_DISCARDURB) {
        umockdev_ioctl_client_complete(client, -1, ENODEV);
        return TRUE;
    }
    switch (request) {
    case USBDEVFS_GET_CAPABILITIES: {
        uint32_t none = 0;
        UMockdevIoctlData *to = umockdev_ioctl_data_resolve(arg, 0, sizeof none, NULL);
        umockdev_ioctl_data_update(to, 0, (guint8 *)&none, sizeof none);
        umockdev_ioctl_client_complete(client, 0, 0);
        break;
    }
    case USBDEVFS_CLAIMINTERFACE:
        if (s->device->usb.busy)
            umockdev_ioctl_client_complete(client, -1, EBUSY);
        else if (now_us(NULL) < s->device->usb.configured_us)
            umockdev_ioctl_client_complete(client, -1, ENOENT);
        else
            umockdev_ioctl_client_complete(client, 0, 0);
        break;
    case USBDEVFS_RELEASEINTERFACE:
        umockdev_ioctl_client_complete(client, 0, 0);
        break;
    case USBDEVFS_SETINTERFACE: {
        UMockdevIoctlData *set =
            umockdev_ioctl_data_resolve(arg, 0, sizeof(struct usbdevfs_setinterface), NULL);
        const struct usbdevfs_setinterface *to = (const void *)set->data;
        const struct eb_usb_setup setup = {1, 11, (uint16_t)to->altsetting, (uint16_t)to->interface, 0};
        size_t none = 0;
        bool ok = ebi_sim_usb_control(s->device, &setup, NULL, &none);
        umockdev_ioctl_client_complete(client, ok ? 0 : -1, ok ? 0 : EPIPE);
        break;
    }
    case USBDEVFS_SUBMITURB:
        submit(s, client, arg);
        break;
    case USBDEVFS_REAPURB:
    case USBDEVFS_REAPURBNDELAY:
        reap(s, client, arg);
        break;
    case USBDEVFS_DISCARDURB:
        discard(s, client, arg);
        break;
    case USBDEVFS_RESET:
        ebi_sim_usb_reset(s->device);
        /* A kernel reads the descriptors again: where they have changed, the device is another one. */
        umockdev_ioctl_client_complete(client, s->device->restart_us != EB_NEVER ? -1 : 0,
                                       s->device->restart_us != EB_NEVER ? ENODEV : 0);
        break;
    default:
        return FALSE;
    }
    return TRUE;
}

/* --- time ---------------------------------------------------------------------------------------- */

static gboolean tick(gpointer data)
{
    (void)data;
    uint64_t now = now_us(NULL);
    for (size_t i = 0; i < sim->count; i++) {
        struct ebi_sim_device *d = &sim->devices[i];
        if (d->usb.is_usb && ebi_sim_device_deadline_us(d) <= now)
            ebi_sim_device_tick(d);
    }
    for (struct stand *s = stands; s != NULL; s = s->next) {
        if (s->gone || s->device->usb.configured_us == 0 || now < s->device->usb.configured_us)
            continue;
        s->device->usb.configured_us = 0;
        char *syspath = g_strconcat("/sys", s->path, NULL);
        umockdev_testbed_set_attribute(bed, syspath, "bConfigurationValue", "1\n");
        g_free(syspath);
    }
    if (now >= plug_us) {
        plug_us = EB_NEVER;
        ebi_sim_usb_plug(pulled, pulled->usb.home);
    }
    return G_SOURCE_CONTINUE;
}

static void child_over(GPid pid, gint status, gpointer data)
{
    (void)pid;
    (void)data;
    child_status = WIFEXITED(status) ? WEXITSTATUS(status) : 128;
    g_main_loop_quit(loop);
}

static char **read_arguments(int argc, char **argv)
{
    static const char *const strikes[] = {"", "--stall", "--silence", "--unplug", "--vanish"};
    int i = 2;
    for (; i < argc && strcmp(argv[i], "--") != 0; i++) {
        if (strcmp(argv[i], "--no-right") == 0) {
            no_right = true;
            continue;
        }
        for (int k = STALL; k <= VANISH; k++) {
            if (strcmp(argv[i], strikes[k]) == 0 && i + 1 < argc) {
                strike = k;
                struck = (unsigned)atoi(argv[i + 1]);
            }
        }
        i++;
    }
    return i + 1 < argc ? argv + i + 1 : NULL;
}

int main(int argc, char **argv)
{
    struct eb_problem problem;
    char **command = argc > 3 ? read_arguments(argc, argv) : NULL;
    GError *error = NULL;
    const char *preload = getenv("LD_PRELOAD");
    if (command == NULL || preload == NULL || strstr(preload, "umockdev") == NULL) {
        fprintf(stderr, "usage: umockdev-wrapper usb_stage WORLD [STRIKE N] [--no-right] -- COMMAND...\n");
        return 2;
    }
    sim = eb_sim_open(argv[1], NULL, &problem);
    if (sim == NULL) {
        fprintf(stderr, "usb_stage: %s\n", problem.text);
        return 2;
    }
    net.now_us = now_us;
    net.set_alive = set_alive;
    bed = umockdev_testbed_new();
    loop = g_main_loop_new(NULL, FALSE);
    sim->usb_changed = changed;
    add_hub("/devices/usb1", 1);
    for (size_t i = 0; i < sim->hub_count; i++) {
        char path[128];
        path_of(sim->hubs[i].place, path, sizeof path);
        add_hub(path, sim->hubs[i].address);
    }
    for (size_t i = 0; i < sim->count; i++) {
        if (!sim->devices[i].usb.is_usb)
            continue;
        uint32_t late_ms = sim->devices[i].usb.configured_ms;
        sim->devices[i].usb.configured_ms = 0; /* at the beginning it has long been there */
        ebi_sim_device_start(&sim->devices[i], &net);
        sim->devices[i].usb.configured_ms = late_ms;
    }
    g_timeout_add(TICK_MS, tick, NULL);
    if (!g_spawn_async(NULL, command, NULL, G_SPAWN_DO_NOT_REAP_CHILD | G_SPAWN_SEARCH_PATH, NULL, NULL,
                       &child, &error)) {
        fprintf(stderr, "usb_stage: %s\n", error->message);
        return 2;
    }
    g_child_watch_add(child, child_over, NULL);
    g_main_loop_run(loop);
    for (size_t i = 0; i < sim->count; i++) {
        const struct ebi_sim_device *d = &sim->devices[i];
        if (d->usb.is_usb)
            printf("stage: %s %s %s, %u transfers\n", d->name,
                   d->mode == EB_SIM_RUNNING  ? "runs"
                   : d->mode == EB_SIM_LOADER ? "in its loader with"
                                              : "is off with",
                   d->components[0].version[0] != '\0' ? d->components[0].version : "nothing", transfers);
    }
    eb_sim_close(sim);
    g_object_unref(bed);
    return child_status;
}
