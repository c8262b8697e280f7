/* USB on Linux: libusb's asynchronous interface, its file descriptors among those of the port's wait.
 *
 * Names and the configuration come from sysfs: the kernel has read them when the device was enumerated, and
 * whoever may not open a device may see who it is.  libusb is begun with the first call that needs it. */
#include "port_linux.h"

#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <sys/eventfd.h>
#include <libusb-1.0/libusb.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/time.h>
#include <unistd.h>

enum { DESCRIPTORS_BYTES = 8192, PORTS_MAX = 7, CANCEL_S = 2 };

struct usb_handle {
    bool used, ready, watches;
    struct eb_waiter *waiter;
    libusb_device_handle *device; /* NULL: it only watches */
    int interface;                /* claimed, or -1 */
    struct libusb_transfer *transfer;
    unsigned char *buffer;
    bool pending, answered;
    /* a reset, which libusb waits for: so a thread of its own does */
    bool resetting, was_reset;
    pthread_t thread;
    atomic_bool reset_over;
    int reset_result, wake_fd;
};

struct ebi_linux_usb {
    struct pollfd *fds; /* libusb's, and the next */
    int wake_fd;        /* a thread has ended */
    size_t fd_count;
    libusb_context *context; /* NULL: not begun */
    bool failed;
    libusb_device **list;
    ssize_t count;
    struct usb_handle **handles; /* each in its place: transfers point to theirs */
    int cap;
};

/* --- libusb's file descriptors ------------------------------------------------------------------- */

static void fd_added(int fd, short events, void *data)
{
    struct ebi_linux_usb *u = data;
    struct pollfd *more = realloc(u->fds, (u->fd_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    u->fds = more;
    u->fds[u->fd_count++] = (struct pollfd){.fd = fd, .events = events};
}

static void fd_removed(int fd, void *data)
{
    struct ebi_linux_usb *u = data;
    for (size_t i = 0; i < u->fd_count; i++) {
        if (u->fds[i].fd == fd)
            u->fds[i--] = u->fds[--u->fd_count];
    }
}

size_t ebi_linux_usb_fds(const struct ebi_linux_usb *u, struct pollfd *fds, size_t cap)
{
    size_t count = u->fd_count < cap ? u->fd_count : cap;
    if (count > 0)
        memcpy(fds, u->fds, count * sizeof *fds);
    return count;
}

static int came_or_went(libusb_context *context, libusb_device *device, libusb_hotplug_event event,
                        void *data)
{
    struct ebi_linux_usb *u = data;
    (void)context;
    (void)device;
    (void)event;
    for (int i = 0; i < u->cap; i++) {
        if (u->handles[i]->used && u->handles[i]->watches)
            u->handles[i]->ready = true;
    }
    return 0;
}

static bool begin(struct ebi_linux_usb *u)
{
    if (u->context != NULL || u->failed)
        return u->context != NULL;
    u->wake_fd = eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK);
    u->failed = u->wake_fd < 0 || libusb_init(&u->context) != 0;
    if (u->failed)
        return false;
    fd_added(u->wake_fd, POLLIN, u);
    const struct libusb_pollfd **fds = libusb_get_pollfds(u->context);
    for (size_t i = 0; fds != NULL && fds[i] != NULL; i++)
        fd_added(fds[i]->fd, fds[i]->events, u);
    libusb_free_pollfds(fds);
    libusb_set_pollfd_notifiers(u->context, fd_added, fd_removed, u);
    libusb_hotplug_register_callback(
        u->context, LIBUSB_HOTPLUG_EVENT_DEVICE_ARRIVED | LIBUSB_HOTPLUG_EVENT_DEVICE_LEFT, 0,
        LIBUSB_HOTPLUG_MATCH_ANY, LIBUSB_HOTPLUG_MATCH_ANY, LIBUSB_HOTPLUG_MATCH_ANY, came_or_went, u, NULL);
    return true;
}

/* Takes the end of a reset; with `wait` where it has not come yet. */
static void end_reset(struct usb_handle *h, bool wait)
{
    if (!h->used || !h->resetting || (!wait && !atomic_load(&h->reset_over)))
        return;
    pthread_join(h->thread, NULL);
    h->resetting = false;
    h->was_reset = h->answered = h->ready = true;
    if (h->reset_result != 0)
        h->interface = -1;
}

void ebi_linux_usb_event(struct ebi_linux_usb *u)
{
    struct timeval none = {0, 0};
    uint64_t count;
    if (u->context == NULL)
        return;
    libusb_handle_events_timeout_completed(u->context, &none, NULL);
    if (read(u->wake_fd, &count, sizeof count) != (ssize_t)sizeof count)
        return;
    for (int i = 0; i < u->cap; i++)
        end_reset(u->handles[i], false);
}

uint64_t ebi_linux_usb_deadline_us(const struct ebi_linux_usb *u, uint64_t now_us)
{
    struct timeval left;
    if (u->context == NULL || libusb_pollfds_handle_timeouts(u->context) != 0 ||
        libusb_get_next_timeout(u->context, &left) != 1)
        return EB_NEVER;
    return now_us + (uint64_t)left.tv_sec * 1000000 + (uint64_t)left.tv_usec;
}

size_t ebi_linux_usb_ready(struct ebi_linux_usb *u, struct eb_waiter **ready, size_t cap)
{
    size_t count = 0;
    for (int i = 0; i < u->cap && count < cap; i++) {
        struct usb_handle *h = u->handles[i];
        if (h->used && h->ready) {
            h->ready = false;
            ready[count++] = h->waiter;
        }
    }
    return count;
}

struct ebi_linux_usb *ebi_linux_usb_new(void)
{
    return calloc(1, sizeof(struct ebi_linux_usb));
}

void ebi_linux_usb_free(struct ebi_linux_usb *u)
{
    for (int i = 0; i < u->cap; i++) {
        if (u->handles[i]->used)
            ebi_linux_usb_close(u, i);
        free(u->handles[i]);
    }
    if (u->list != NULL)
        libusb_free_device_list(u->list, 1);
    if (u->context != NULL) {
        libusb_exit(u->context);
        close(u->wake_fd);
    }
    free(u->fds);
    free(u->handles);
    free(u);
}

/* --- who is there -------------------------------------------------------------------------------- */

static void place_of(libusb_device *device, char *place, size_t cap)
{
    uint8_t ports[PORTS_MAX];
    int count = libusb_get_port_numbers(device, ports, PORTS_MAX);
    snprintf(place, cap, count > 0 ? "%u-%u" : "usb%u", libusb_get_bus_number(device),
             count > 0 ? ports[0] : 0);
    for (int i = 1; i < count; i++) {
        size_t at = strlen(place);
        snprintf(place + at, cap - at, ".%u", ports[i]);
    }
}

/* One of the kernel's files on a device; gives its size. */
static size_t read_attribute(const char *place, const char *name, uint8_t *to, size_t cap)
{
    char path[128];
    snprintf(path, sizeof path, "/sys/bus/usb/devices/%s/%s", place, name);
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    size_t size = 0;
    ssize_t n;
    while (fd >= 0 && size < cap && (n = read(fd, to + size, cap - size)) > 0)
        size += (size_t)n;
    if (fd >= 0)
        close(fd);
    return size;
}

static void read_text(const char *place, const char *name, char *to, size_t cap)
{
    uint8_t text[256];
    size_t size = read_attribute(place, name, text, sizeof text);
    while (size > 0 && text[size - 1] == '\n')
        size--;
    to[0] = '\0';
    if (size < cap) /* half a text is none */
        eb_text_copy_foreign(to, cap, text, size);
}

/* The configuration that is active; none where the kernel has set none yet. */
static void read_configuration(struct eb_usb_device *to)
{
    static _Thread_local uint8_t bytes[DESCRIPTORS_BYTES];
    char active[8];
    size_t size = read_attribute(to->place, "descriptors", bytes, sizeof bytes);
    read_text(to->place, "bConfigurationValue", active, sizeof active);
    int value = atoi(active);
    for (size_t at = EB_USB_DESCRIPTOR_BYTES; value > 0 && at + 9 <= size;) {
        size_t whole = (size_t)(bytes[at + 2] | bytes[at + 3] << 8);
        if (whole < 9 || whole > size - at)
            return;
        if (bytes[at + 5] == value) {
            to->size = (uint16_t)(whole < sizeof to->configuration ? whole : sizeof to->configuration);
            memcpy(to->configuration, bytes + at, to->size);
            return;
        }
        at += whole;
    }
}

bool ebi_linux_usb_device(struct ebi_linux_usb *u, size_t index, struct eb_usb_device *to)
{
    struct libusb_device_descriptor descriptor;
    if (!begin(u))
        return false;
    if (index == 0) {
        if (u->list != NULL)
            libusb_free_device_list(u->list, 1);
        u->list = NULL;
        u->count = libusb_get_device_list(u->context, &u->list);
    }
    if (u->count < 0 || index >= (size_t)u->count)
        return false;
    libusb_device *device = u->list[index];
    memset(to, 0, sizeof *to);
    place_of(device, to->place, sizeof to->place);
    to->bus = libusb_get_bus_number(device);
    to->address = libusb_get_device_address(device);
    if (libusb_get_device_descriptor(device, &descriptor) != 0)
        return true;
    to->vendor = descriptor.idVendor;
    to->product = descriptor.idProduct;
    to->release = descriptor.bcdDevice;
    read_text(to->place, "manufacturer", to->maker, sizeof to->maker);
    read_text(to->place, "product", to->name, sizeof to->name);
    read_text(to->place, "serial", to->serial, sizeof to->serial);
    read_configuration(to);
    return true;
}

/* --- handles ------------------------------------------------------------------------------------- */

static struct usb_handle *new_handle(struct ebi_linux_usb *u, struct eb_waiter *waiter, int *handle)
{
    int number = 0;
    *handle = EB_NO_HANDLE;
    while (number < u->cap && u->handles[number]->used)
        number++;
    if (number == u->cap) {
        struct usb_handle **more = realloc(u->handles, (size_t)(u->cap + 1) * sizeof(*more));
        if (more == NULL)
            return NULL;
        u->handles = more;
        more[number] = calloc(1, sizeof **more);
        if (more[number] == NULL)
            return NULL;
        u->cap++;
    }
    *u->handles[number] = (struct usb_handle){.used = true, .waiter = waiter, .interface = -1};
    *handle = number;
    return u->handles[number];
}

enum eb_status ebi_linux_usb_watch(struct ebi_linux_usb *u, struct eb_waiter *waiter, int *handle)
{
    struct usb_handle *h = begin(u) ? new_handle(u, waiter, handle) : NULL;
    if (h == NULL)
        return EB_IO;
    h->watches = true;
    return EB_OK;
}

static enum eb_status status_of(int error)
{
    switch (error) {
    case 0:
        return EB_OK;
    case LIBUSB_ERROR_ACCESS:
        return EB_DENIED;
    case LIBUSB_ERROR_BUSY:
        return EB_BUSY;
    case LIBUSB_ERROR_NO_DEVICE:
    case LIBUSB_ERROR_IO: /* the device's file is gone, or the device behind it */
        return EB_UNREACHABLE;
    default:
        return EB_IO;
    }
}

enum eb_status ebi_linux_usb_open(struct ebi_linux_usb *u, struct eb_waiter *waiter,
                                  const struct eb_usb_device *device, int *handle)
{
    struct eb_usb_device there;
    libusb_device_handle *opened = NULL;
    *handle = EB_NO_HANDLE;
    size_t i = 0;
    while (ebi_linux_usb_device(u, i, &there) &&
           (there.address != device->address || strcmp(there.place, device->place) != 0))
        i++;
    if (u->count < 0 || i >= (size_t)u->count)
        return EB_UNREACHABLE;
    enum eb_status status = status_of(libusb_open(u->list[i], &opened));
    if (status != EB_OK)
        return status;
    struct usb_handle *h = new_handle(u, waiter, handle);
    if (h == NULL) {
        libusb_close(opened);
        return EB_IO;
    }
    h->device = opened;
    h->transfer = libusb_alloc_transfer(0);
    return EB_OK;
}

enum eb_status ebi_linux_usb_claim(struct ebi_linux_usb *u, int handle, uint8_t interface, uint8_t alternate)
{
    struct usb_handle *h = u->handles[handle];
    int error = h->interface == interface ? 0 : libusb_claim_interface(h->device, interface);
    if (error == LIBUSB_ERROR_NOT_FOUND)
        return EB_PENDING; /* its configuration is not set yet */
    if (error == 0)
        h->interface = interface;
    if (error == 0 && alternate > 0)
        error = libusb_set_interface_alt_setting(h->device, interface, alternate);
    return error == LIBUSB_ERROR_NOT_FOUND ? EB_GARBAGE : status_of(error);
}

static void LIBUSB_CALL transfer_over(struct libusb_transfer *transfer)
{
    struct usb_handle *h = transfer->user_data;
    h->pending = false;
    h->answered = h->ready = true;
}

enum eb_status ebi_linux_usb_control(struct ebi_linux_usb *u, int handle, const struct eb_usb_setup *setup,
                                     const uint8_t *bytes, uint32_t patience_ms)
{
    struct usb_handle *h = u->handles[handle];
    if (h->pending || h->resetting || h->transfer == NULL)
        return EB_BAD_CALL;
    unsigned char *buffer = realloc(h->buffer, (size_t)LIBUSB_CONTROL_SETUP_SIZE + setup->length);
    if (buffer == NULL)
        return EB_IO;
    h->buffer = buffer;
    libusb_fill_control_setup(buffer, setup->type, setup->request, setup->value, setup->index, setup->length);
    if ((setup->type & EB_USB_IN) == 0 && setup->length > 0)
        memcpy(buffer + LIBUSB_CONTROL_SETUP_SIZE, bytes, setup->length);
    libusb_fill_control_transfer(h->transfer, h->device, buffer, transfer_over, h, patience_ms);
    h->answered = false;
    int error = libusb_submit_transfer(h->transfer);
    h->pending = error == 0;
    return error == 0 ? EB_OK : status_of(error);
}

enum eb_status ebi_linux_usb_answer(struct ebi_linux_usb *u, int handle, uint8_t *bytes, size_t cap,
                                    size_t *received)
{
    struct usb_handle *h = u->handles[handle];
    *received = 0;
    if (!h->answered)
        return EB_PENDING;
    h->answered = false;
    if (h->was_reset) {
        h->was_reset = false;
        return h->reset_result == LIBUSB_ERROR_NOT_FOUND ? EB_UNREACHABLE : status_of(h->reset_result);
    }
    switch (h->transfer->status) {
    case LIBUSB_TRANSFER_COMPLETED:
        break;
    case LIBUSB_TRANSFER_STALL:
        return EB_PEER_ERROR;
    case LIBUSB_TRANSFER_TIMED_OUT:
        return EB_NO_ANSWER;
    case LIBUSB_TRANSFER_OVERFLOW:
        return EB_TOO_LARGE;
    case LIBUSB_TRANSFER_NO_DEVICE:
        return EB_UNREACHABLE;
    default:
        return EB_NO_ANSWER; /* errors on the wire that the hardware could not mend by repeating */
    }
    if ((h->buffer[0] & EB_USB_IN) == 0)
        return EB_OK;
    size_t size = h->transfer->actual_length > 0 ? (size_t)h->transfer->actual_length : 0;
    if (size > cap)
        return EB_TOO_LARGE;
    memcpy(bytes, h->buffer + LIBUSB_CONTROL_SETUP_SIZE, size);
    *received = size;
    return EB_OK;
}

static void *reset_device(void *data)
{
    static const uint64_t one = 1;
    struct usb_handle *h = data;
    h->reset_result = libusb_reset_device(h->device);
    atomic_store(&h->reset_over, true);
    (void)!write(h->wake_fd, &one, sizeof one); /* it cannot be full */
    return NULL;
}

enum eb_status ebi_linux_usb_reset(struct ebi_linux_usb *u, int handle)
{
    struct usb_handle *h = u->handles[handle];
    if (h->pending || h->resetting)
        return EB_BAD_CALL;
    h->answered = false;
    h->wake_fd = u->wake_fd;
    atomic_store(&h->reset_over, false);
    h->resetting = pthread_create(&h->thread, NULL, reset_device, h) == 0;
    return h->resetting ? EB_OK : EB_IO;
}

void ebi_linux_usb_close(struct ebi_linux_usb *u, int handle)
{
    struct usb_handle *h = u->handles[handle];
    struct timeval second = {CANCEL_S, 0};
    end_reset(h, true);
    if (h->pending && libusb_cancel_transfer(h->transfer) == 0) {
        while (h->pending && libusb_handle_events_timeout_completed(u->context, &second, NULL) == 0)
            ;
    }
    if (h->device != NULL) {
        if (h->interface >= 0)
            libusb_release_interface(h->device, h->interface);
        libusb_close(h->device);
    }
    libusb_free_transfer(h->transfer);
    free(h->buffer);
    *h = (struct usb_handle){.used = false};
}
