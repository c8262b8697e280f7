/* The simulated USB devices on a real kernel: its virtual host controller speaks USB/IP (Linux,
 * Documentation/usb/usbip_protocol.rst) over a pair of sockets that is given to it.  A device that goes
 * closes its end, and is plugged in again when it comes back.  A reset of the bus does not get here; that the
 * kernel reads the first 64 bytes of the device descriptor again, as it does behind a reset, tells of it. */
#include "vhci.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/bytes.h"

#define ATTACH "/sys/devices/platform/vhci_hcd.0/attach"

enum {
    CMD_SUBMIT = 1,
    CMD_UNLINK = 2,
    RET_SUBMIT = 3,
    RET_UNLINK = 4,
    HEAD_BYTES = 48,
    SPEED_FULL = 2,
    RETRY_US = 20000,
    EVENTS = 16,
    SET_CONFIGURATION = 9,
    FIRST_READ_BYTES = 64
};

/* One socket of the virtual controller. */
struct socket_of {
    struct ebi_sim_device *device;
    int fd;          /* -1: not plugged in */
    bool wanted;     /* to be plugged in, as soon as the kernel takes it */
    bool configured; /* the kernel has set its configuration: a first read behind that is a reset */
    uint64_t retry_us;
    uint8_t in[HEAD_BYTES + EBI_SIM_USB_TRANSFER_MAX];
    size_t have;
};

struct ebi_sim_vhci {
    struct eb_sim *sim;
    uint64_t (*now_us)(void *self);
    void *self;
    int epoll_fd;
    struct socket_of *sockets;
    size_t count;
};

static void pull(struct socket_of *s)
{
    if (s->fd >= 0)
        close(s->fd);
    s->fd = -1;
    s->have = 0;
    s->configured = false;
}

/* Gives one end of a pair to the kernel; false where the socket is not free yet. */
static bool attach(const struct ebi_sim_vhci *v, struct socket_of *s)
{
    char line[64];
    int ends[2];
    struct epoll_event event = {.events = EPOLLIN, .data.u32 = (uint32_t)(s - v->sockets)};
    if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0)
        return false;
    snprintf(line, sizeof line, "%zu %d %zu %d", (size_t)(s - v->sockets), ends[1],
             (size_t)(s - v->sockets) + 1, SPEED_FULL);
    int fd = open(ATTACH, O_WRONLY | O_CLOEXEC);
    bool ok = fd >= 0 && write(fd, line, strlen(line)) == (ssize_t)strlen(line);
    if (fd >= 0)
        close(fd);
    close(ends[1]);
    if (!ok) {
        close(ends[0]);
        return false;
    }
    s->fd = ends[0];
    fcntl(s->fd, F_SETFL, O_NONBLOCK);
    epoll_ctl(v->epoll_fd, EPOLL_CTL_ADD, s->fd, &event);
    return true;
}

static void changed(void *self, struct ebi_sim_device *d)
{
    struct ebi_sim_vhci *v = self;
    for (size_t i = 0; i < v->count; i++) {
        struct socket_of *s = &v->sockets[i];
        if (s->device != d)
            continue;
        pull(s);
        s->wanted = ebi_sim_usb_there(d);
        s->retry_us = v->now_us(v->self);
    }
}

/* --- the protocol -------------------------------------------------------------------------------- */

static void reply(const struct socket_of *s, uint32_t command, uint32_t sequence, int status,
                  const uint8_t *data, size_t size, size_t actual)
{
    static uint8_t out[HEAD_BYTES + EBI_SIM_USB_TRANSFER_MAX];
    memset(out, 0, HEAD_BYTES);
    ebi_put32(out, command);
    ebi_put32(out + 4, sequence);
    ebi_put32(out + 20, (uint32_t)status);
    ebi_put32(out + 24, (uint32_t)actual);
    if (size > 0)
        memcpy(out + HEAD_BYTES, data, size);
    size_t whole = HEAD_BYTES + size;
    for (size_t at = 0; at < whole;) {
        ssize_t n = send(s->fd, out + at, whole - at, MSG_NOSIGNAL);
        if (n < 0 && errno != EAGAIN && errno != EINTR)
            return;
        at += n > 0 ? (size_t)n : 0;
    }
}

static void submit(struct socket_of *s, size_t size)
{
    static uint8_t data[EBI_SIM_USB_TRANSFER_MAX + 1];
    struct eb_usb_setup setup;
    uint32_t sequence = ebi_get32(s->in + 4);
    bool in = ebi_get32(s->in + 12) == 1;
    struct ebi_sim_device *d = s->device;
    eb_usb_setup_get(s->in + 40, &setup);
    bool first_read = setup.type == EB_USB_IN && setup.request == EB_USB_GET_DESCRIPTOR &&
                      setup.value == EB_USB_TYPE_DEVICE << 8 && setup.length == FIRST_READ_BYTES;
    if (first_read && s->configured) {
        ebi_sim_usb_reset(d);
        s->configured = false;
    }
    s->configured = s->configured || (setup.type == 0 && setup.request == SET_CONFIGURATION);
    memcpy(data, s->in + HEAD_BYTES, size);
    size_t actual = in ? setup.length : size;
    bool ok = ebi_sim_usb_control(d, &setup, data, &actual);
    if (s->fd < 0)
        return; /* it went with that */
    actual = !ok ? 0 : in ? actual : size;
    reply(s, RET_SUBMIT, sequence, ok ? 0 : -EPIPE, data, in ? actual : 0, actual);
}

/* Takes whole messages out of what has come. */
static void take(struct socket_of *s)
{
    while (s->fd >= 0 && s->have >= HEAD_BYTES) {
        bool is_submit = ebi_get32(s->in) == CMD_SUBMIT;
        bool out = ebi_get32(s->in + 12) == 0;
        size_t size = is_submit && out ? ebi_get32(s->in + 24) : 0;
        if (size > EBI_SIM_USB_TRANSFER_MAX) {
            pull(s);
            return;
        }
        if (s->have < HEAD_BYTES + size)
            return;
        if (is_submit)
            submit(s, size);
        else if (ebi_get32(s->in) ==
                 CMD_UNLINK) /* all are answered at once: there is nothing left to take back */
            reply(s, RET_UNLINK, ebi_get32(s->in + 4), 0, NULL, 0, 0);
        if (s->fd < 0)
            return;
        s->have -= HEAD_BYTES + size;
        memmove(s->in, s->in + HEAD_BYTES + size, s->have);
    }
}

static void receive(struct socket_of *s)
{
    while (s->fd >= 0 && s->have < sizeof s->in) {
        ssize_t n = recv(s->fd, s->in + s->have, sizeof s->in - s->have, 0);
        if (n < 0 && (errno == EAGAIN || errno == EINTR))
            return;
        if (n <= 0) {
            pull(s);
            return;
        }
        s->have += (size_t)n;
        take(s);
    }
}

/* ------------------------------------------------------------------------------------------------- */

struct ebi_sim_vhci *ebi_sim_vhci_open(struct eb_sim *sim, uint64_t (*now_us)(void *self), void *self,
                                       struct eb_problem *problem)
{
    if (access(ATTACH, W_OK) != 0) {
        snprintf(
            problem->text, sizeof problem->text,
            "%s: %s. The kernel's virtual USB host controller is needed, and the right to it: sudo modprobe "
            "vhci-hcd, and run this as root",
            ATTACH, strerror(errno));
        return NULL;
    }
    struct ebi_sim_vhci *v = calloc(1, sizeof *v);
    if (v == NULL)
        return NULL;
    v->sim = sim;
    v->now_us = now_us;
    v->self = self;
    v->epoll_fd = epoll_create1(EPOLL_CLOEXEC);
    v->sockets = calloc(sim->count + 1, sizeof *v->sockets);
    for (size_t i = 0; i < sim->count && v->sockets != NULL; i++) {
        if (sim->devices[i].usb.is_usb)
            v->sockets[v->count++] = (struct socket_of){.device = &sim->devices[i], .fd = -1};
    }
    sim->usb_changed = changed;
    sim->usb_self = v;
    for (size_t i = 0; i < v->count; i++)
        changed(v, v->sockets[i].device);
    return v;
}

void ebi_sim_vhci_close(struct ebi_sim_vhci *v)
{
    if (v == NULL)
        return;
    for (size_t i = 0; i < v->count; i++)
        pull(&v->sockets[i]);
    close(v->epoll_fd);
    free(v->sockets);
    free(v);
}

int ebi_sim_vhci_fd(const struct ebi_sim_vhci *v)
{
    return v->epoll_fd;
}

uint64_t ebi_sim_vhci_deadline_us(const struct ebi_sim_vhci *v)
{
    uint64_t next_us = EB_NEVER;
    for (size_t i = 0; i < v->count; i++) {
        if (v->sockets[i].wanted && v->sockets[i].retry_us < next_us)
            next_us = v->sockets[i].retry_us;
    }
    return next_us;
}

void ebi_sim_vhci_work(struct ebi_sim_vhci *v)
{
    struct epoll_event events[EVENTS];
    uint64_t now = v->now_us(v->self);
    for (size_t i = 0; i < v->count; i++) {
        struct socket_of *s = &v->sockets[i];
        if (!s->wanted || s->retry_us > now)
            continue;
        s->wanted = !attach(v, s);
        s->retry_us = now + RETRY_US;
    }
    int n = epoll_wait(v->epoll_fd, events, EVENTS, 0);
    for (int i = 0; i < n; i++)
        receive(&v->sockets[events[i].data.u32]);
}
