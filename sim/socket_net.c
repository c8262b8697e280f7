/* The simulated devices on real loopback sockets, in real time.  Each device has a loopback address of its
 * own, all with ports that the system gave. */
#include "pty_adapter.h"
#include "vhci.h"
#include "http_model.h"
#include "world.h"

#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { EVENTS = 64, DATAGRAM_BYTES = 65536, RECEIVE_ROOM_BYTES = 4 << 20, BURST = 64 };

enum kind {
    KIND_FREE,
    KIND_SERVICE,
    KIND_TRANSFER,
    KIND_LISTEN,
    KIND_CONNECTION,
    KIND_ADAPTER,
    KIND_USB,
    KIND_STOP
};

struct socket {
    int fd;
    enum kind kind;
    struct ebi_sim_device *device;
    uint16_t port; /* as the device knows it */
};

/* Where a device takes connections. */
struct listening {
    int handle;    /* EB_NO_HANDLE: while the device is gone */
    uint16_t port; /* as the device knows it; 0: it does not */
    uint16_t real_port;
};

enum { LISTEN_MODBUS, LISTEN_CIP, LISTEN_HTTP, LISTENS };

/* What belongs to one device. */
struct slot {
    struct listening listens[LISTENS];
};

struct ebi_sim_sockets {
    struct ebi_sim_net net;
    struct eb_sim *sim;
    int epoll_fd;
    struct ebi_sim_ptys *ptys;
    struct ebi_sim_vhci *vhci; /* or NULL */
    struct socket *sockets;
    int cap;
    int free_from; /* the first that may be free */
    struct slot *slots;
    uint64_t *due_us; /* by device: when time next matters to it */
    uint8_t buffer[DATAGRAM_BYTES];
};

static uint64_t now_us(void *self)
{
    (void)self;
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

static struct sockaddr_in socket_address(const struct eb_endpoint *endpoint)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(endpoint->port)};
    memcpy(&address.sin_addr, endpoint->ip, sizeof endpoint->ip);
    return address;
}

static struct eb_endpoint endpoint_of(const struct sockaddr_in *address)
{
    struct eb_endpoint endpoint = {.port = ntohs(address->sin_port)};
    memcpy(endpoint.ip, &address->sin_addr, sizeof endpoint.ip);
    return endpoint;
}

static int keep(struct ebi_sim_sockets *s, int fd, enum kind kind, struct ebi_sim_device *device,
                uint16_t port)
{
    int handle = s->free_from;
    if (fd < 0)
        return EB_NO_HANDLE;
    while (handle < s->cap && s->sockets[handle].kind != KIND_FREE)
        handle++;
    if (handle == s->cap) {
        int cap = s->cap == 0 ? 64 : 2 * s->cap;
        struct socket *more = realloc(s->sockets, (size_t)cap * sizeof *more);
        if (more == NULL) {
            close(fd);
            return EB_NO_HANDLE;
        }
        memset(more + s->cap, 0, (size_t)(cap - s->cap) * sizeof *more);
        s->sockets = more;
        s->cap = cap;
    }
    s->free_from = handle + 1;
    s->sockets[handle] = (struct socket){fd, kind, device, port};
    struct epoll_event event = {.events = EPOLLIN, .data.u32 = (uint32_t)handle};
    epoll_ctl(s->epoll_fd, EPOLL_CTL_ADD, fd, &event);
    return handle;
}

static void drop(void *self, int handle)
{
    struct ebi_sim_sockets *s = self;
    if (handle == EB_NO_HANDLE || s->sockets[handle].kind == KIND_FREE)
        return;
    close(s->sockets[handle].fd);
    s->sockets[handle].kind = KIND_FREE;
    s->free_from = handle < s->free_from ? handle : s->free_from;
}

/* --- what a device asks of its network ----------------------------------------------------------- */

static int bound(const struct ebi_sim_device *d, int type, uint16_t port)
{
    struct eb_endpoint here = d->address;
    int yes = 1;
    int room = RECEIVE_ROOM_BYTES;
    here.port = port;
    struct sockaddr_in address = socket_address(&here);
    int fd = socket(AF_INET, type | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    if (fd < 0)
        return -1;
    if (type == SOCK_STREAM)
        setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    else
        setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    if (bind(fd, (const struct sockaddr *)&address, sizeof address) == 0 &&
        (type != SOCK_STREAM || listen(fd, 16) == 0))
        return fd;
    close(fd);
    return -1;
}

static int udp_bind(void *self, struct ebi_sim_device *d, uint16_t port)
{
    return keep(self, bound(d, SOCK_DGRAM, port), KIND_TRANSFER, d, 0);
}

static void udp_send(void *self, int handle, const struct eb_endpoint *to, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_sockets *s = self;
    struct sockaddr_in address = socket_address(to);
    if (handle != EB_NO_HANDLE)
        sendto(s->sockets[handle].fd, bytes, size, 0, (const struct sockaddr *)&address, sizeof address);
}

/* What it says to a group nobody hears on the loopback. */
static void udp_send_from(void *self, struct ebi_sim_device *d, uint16_t port, const struct eb_endpoint *to,
                          const uint8_t *bytes, size_t size)
{
    struct ebi_sim_sockets *s = self;
    for (int i = 0; i < s->cap && to->ip[0] < 224; i++) {
        if (s->sockets[i].kind == KIND_SERVICE && s->sockets[i].device == d && s->sockets[i].port == port)
            udp_send(s, i, to, bytes, size);
    }
}

static void tcp_send(void *self, int connection, const uint8_t *bytes, size_t size)
{
    struct ebi_sim_sockets *s = self;
    /* Answers are short: what the kernel does not take at once is lost with the connection. */
    if (send(s->sockets[connection].fd, bytes, size, MSG_NOSIGNAL) != (ssize_t)size)
        shutdown(s->sockets[connection].fd, SHUT_RDWR);
}

static void set_alive(void *self, struct ebi_sim_device *d, bool alive)
{
    struct ebi_sim_sockets *s = self;
    struct slot *slot = &s->slots[d - s->sim->devices];
    for (size_t i = 0; i < LISTENS; i++) {
        struct listening *l = &slot->listens[i];
        if (!alive) {
            drop(s, l->handle);
            l->handle = EB_NO_HANDLE;
        } else if (l->port != 0 && l->handle == EB_NO_HANDLE) {
            l->handle = keep(s, bound(d, SOCK_STREAM, l->real_port), KIND_LISTEN, d, l->port);
        }
    }
    if (alive)
        return;
    for (int i = 0; i < s->cap; i++) {
        if (s->sockets[i].kind == KIND_CONNECTION && s->sockets[i].device == d)
            drop(s, i);
    }
}

/* --- opening ------------------------------------------------------------------------------------- */

static uint16_t port_of(int fd)
{
    struct sockaddr_in address = {0};
    socklen_t size = sizeof address;
    return getsockname(fd, (struct sockaddr *)&address, &size) == 0 ? ntohs(address.sin_port) : 0;
}

/* At its own port where that may be had, else at a free one. */
static bool place_web(struct ebi_sim_sockets *s, struct ebi_sim_device *d, struct listening *to)
{
    uint16_t port = s->sim->web != NULL ? ebi_sim_http_port(d) : 0;
    if (port == 0)
        return true;
    int fd = bound(d, SOCK_STREAM, port);
    if (fd < 0)
        fd = bound(d, SOCK_STREAM, 0);
    *to = (struct listening){.port = port, .real_port = fd >= 0 ? port_of(fd) : 0};
    to->handle = keep(s, fd, KIND_LISTEN, d, port);
    return to->handle != EB_NO_HANDLE;
}

/* Gives the device a loopback address, 127.77.x.y, and free ports there. */
static bool place(struct ebi_sim_sockets *s, size_t index, struct eb_problem *problem)
{
    struct ebi_sim_device *d = &s->sim->devices[index];
    const uint8_t ip[4] = {127, 77, (uint8_t)(index / 250), (uint8_t)(index % 250 + 1)};
    struct listening *listens = s->slots[index].listens;
    for (size_t i = 0; i < LISTENS; i++)
        listens[i] = (struct listening){.handle = EB_NO_HANDLE};
    if (d->rack != NULL)
        return true; /* reached through its rack */
    ebi_sim_place(d, ip);
    d->placed = true;
    int udp = bound(d, SOCK_DGRAM, 0);
    int tcp = bound(d, SOCK_STREAM, 0);
    if (udp < 0 || tcp < 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%s: found no free port on the loopback, expected one: %s", d->name, strerror(errno));
        return false;
    }
    d->tftp_port = port_of(udp);
    d->modbus_port = port_of(tcp);
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        const struct ebi_sim_server *server = ebi_sim_servers[i];
        uint16_t port = server->port != NULL && server != &ebi_sim_tftp ? server->port(d, false) : 0;
        /* One that may not be had, as SNMP's without root, is not offered. */
        if (port != 0 && ebi_sim_speaks(d, server))
            keep(s, bound(d, SOCK_DGRAM, port), KIND_SERVICE, d, port);
    }
    listens[LISTEN_MODBUS] =
        (struct listening){keep(s, tcp, KIND_LISTEN, d, d->modbus_port), d->modbus_port, d->modbus_port};
    uint16_t cip = ebi_sim_speaks(d, &ebi_sim_cip) ? EB_CIP_PORT : 0;
    listens[LISTEN_CIP] = (struct listening){EB_NO_HANDLE, cip, cip};
    return keep(s, udp, KIND_SERVICE, d, d->tftp_port) != EB_NO_HANDLE &&
           listens[LISTEN_MODBUS].handle != EB_NO_HANDLE && place_web(s, d, &listens[LISTEN_HTTP]);
}

struct eb_site *eb_sim_listen(struct eb_sim *sim, struct eb_problem *problem)
{
    if (sim->site_path[0] == '\0') {
        snprintf(problem->text, sizeof problem->text,
                 "the world '%s' names no site: found no key 'site', expected the site file whose devices it "
                 "simulates",
                 sim->name);
        return NULL;
    }
    struct eb_site *site = eb_site_read(sim->site_path, problem);
    struct ebi_sim_sockets *s = calloc(1, sizeof *s);
    if (site == NULL || s == NULL) {
        free(s);
        return NULL;
    }
    sim->sockets = s;
    s->sim = sim;
    s->net = (struct ebi_sim_net){s,        now_us, udp_bind,      udp_send, drop,
                                  tcp_send, drop,   udp_send_from, NULL,     set_alive};
    s->epoll_fd = epoll_create1(EPOLL_CLOEXEC);
    s->slots = calloc(sim->count + 1, sizeof *s->slots);
    s->due_us = calloc(sim->count + 1, sizeof *s->due_us);
    if (s->due_us == NULL)
        abort(); /* a simulation without memory has nothing to say */
    for (size_t i = 0; i < sim->count; i++) {
        if (!place(s, i, problem)) {
            eb_site_free(site);
            return NULL;
        }
    }
    for (size_t i = 0; i < site->device_count; i++) {
        struct eb_site_device *to = &site->devices[i];
        const struct ebi_sim_device *d = ebi_sim_find(sim, to->name);
        if (d == NULL)
            continue; /* on the site, but not in this world: it stays silent */
        to->modbus = d->address;
        to->modbus.port = d->modbus_port;
        to->tftp = d->address;
        to->tftp.port = d->tftp_port;
        const struct listening *web = &s->slots[d - sim->devices].listens[LISTEN_HTTP];
        if (web->real_port != web->port)
            to->web.port = web->real_port;
    }
    s->ptys = ebi_sim_ptys_open(sim, now_us, s);
    if (s->ptys == NULL) {
        snprintf(problem->text, sizeof problem->text, "no pseudo-terminal for a CAN adapter: %s",
                 strerror(errno));
        eb_site_free(site);
        return NULL;
    }
    for (size_t i = 0; i < ebi_sim_ptys_count(s->ptys); i++)
        keep(s, ebi_sim_ptys_fd(s->ptys, i), KIND_ADAPTER, NULL, (uint16_t)i);
    for (size_t i = 0; i < site->link_count; i++) {
        const char *path = ebi_sim_ptys_path(s->ptys, site->links[i].name, 0);
        if (path != NULL)
            snprintf(site->links[i].adapter, sizeof site->links[i].adapter, "%s", path);
    }
    for (size_t i = 0; i < sim->count; i++)
        ebi_sim_device_start(&sim->devices[i], &s->net);
    return site;
}

void ebi_sim_sockets_close(struct eb_sim *sim)
{
    struct ebi_sim_sockets *s = sim->sockets;
    if (s == NULL)
        return;
    for (int i = 0; i < s->cap; i++) {
        if (s->sockets[i].kind != KIND_STOP && s->sockets[i].kind != KIND_ADAPTER &&
            s->sockets[i].kind != KIND_USB)
            drop(s, i);
    }
    if (s->ptys != NULL)
        ebi_sim_ptys_close(s->ptys);
    ebi_sim_vhci_close(s->vhci);
    close(s->epoll_fd);
    free(s->sockets);
    free(s->slots);
    free(s->due_us);
    free(s);
    sim->sockets = NULL;
}

/* --- serving ------------------------------------------------------------------------------------- */

static void accept_connection(struct ebi_sim_sockets *s, const struct socket *listening)
{
    uint16_t port = listening->port;
    int yes = 1;
    struct ebi_sim_device *d = listening->device;
    int fd = accept4(listening->fd, NULL, NULL, SOCK_NONBLOCK | SOCK_CLOEXEC);
    int handle = keep(s, fd, KIND_CONNECTION, d, 0);
    if (handle == EB_NO_HANDLE)
        return;
    setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
    ebi_sim_device_connected(d, handle, port);
}

static void read_datagrams(struct ebi_sim_sockets *s, int handle, uint16_t port)
{
    struct sockaddr_in address = {0};
    for (int i = 0; i < BURST && s->sockets[handle].kind != KIND_FREE; i++) {
        socklen_t size = sizeof address;
        ssize_t n = recvfrom(s->sockets[handle].fd, s->buffer, sizeof s->buffer, 0,
                             (struct sockaddr *)&address, &size);
        if (n < 0)
            return;
        struct eb_endpoint from = endpoint_of(&address);
        ebi_sim_device_datagram(s->sockets[handle].device, handle, port, &from, s->buffer, (size_t)n);
    }
}

static void read_stream(struct ebi_sim_sockets *s, int handle)
{
    struct ebi_sim_device *d = s->sockets[handle].device;
    ssize_t n = recv(s->sockets[handle].fd, s->buffer, sizeof s->buffer, 0);
    if (n > 0) {
        ebi_sim_device_stream(d, handle, s->buffer, (size_t)n);
    } else if (n == 0 || (errno != EAGAIN && errno != EINTR)) {
        ebi_sim_device_disconnected(d, handle);
        drop(s, handle);
    }
}

/* Gives false when it is time to stop. */
static bool handle_event(struct ebi_sim_sockets *s, int handle)
{
    switch (s->sockets[handle].kind) {
    case KIND_SERVICE:
        read_datagrams(s, handle, s->sockets[handle].port);
        break;
    case KIND_TRANSFER:
        read_datagrams(s, handle, 0);
        break;
    case KIND_LISTEN:
        accept_connection(s, &s->sockets[handle]);
        break;
    case KIND_CONNECTION:
        read_stream(s, handle);
        break;
    case KIND_ADAPTER:
        ebi_sim_ptys_read(s->ptys, s->sockets[handle].port);
        break;
    case KIND_USB:
        ebi_sim_vhci_work(s->vhci);
        break;
    case KIND_STOP:
        return false;
    case KIND_FREE:
        break;
    }
    return true;
}

/* What happened to a device may concern its rack, and the modules in it. */
static void note_due(struct ebi_sim_sockets *s, struct ebi_sim_device *d)
{
    d = d->rack != NULL ? d->rack : d;
    s->due_us[d - s->sim->devices] = ebi_sim_device_deadline_us(d);
    for (struct ebi_sim_device *m = d->modules; m != NULL; m = m->next_module)
        s->due_us[m - s->sim->devices] = ebi_sim_device_deadline_us(m);
}

/* Where devices meet in other ways than by their own sockets, each is asked each time. */
static bool are_alone(const struct eb_sim *sim)
{
    return sim->bus_count == 0 && sim->sockets->vhci == NULL && sim->web == NULL;
}

static uint64_t next_deadline(const struct eb_sim *sim)
{
    uint64_t next_us = ebi_sim_can_next_us(sim);
    bool alone = are_alone(sim);
    for (size_t i = 0; i < sim->count; i++) {
        if (!alone)
            sim->sockets->due_us[i] = ebi_sim_device_deadline_us(&sim->devices[i]);
        next_us = sim->sockets->due_us[i] < next_us ? sim->sockets->due_us[i] : next_us;
    }
    if (sim->sockets->vhci != NULL && ebi_sim_vhci_deadline_us(sim->sockets->vhci) < next_us)
        next_us = ebi_sim_vhci_deadline_us(sim->sockets->vhci);
    return next_us;
}

bool eb_sim_plug_in(struct eb_sim *sim, struct eb_problem *problem)
{
    struct ebi_sim_sockets *s = sim->sockets;
    s->vhci = ebi_sim_vhci_open(sim, now_us, s, problem);
    return s->vhci != NULL && keep(s, ebi_sim_vhci_fd(s->vhci), KIND_USB, NULL, 0) != EB_NO_HANDLE;
}

const char *eb_sim_adapter(const struct eb_sim *sim, const char *bus, size_t which)
{
    return sim->sockets != NULL && sim->sockets->ptys != NULL
               ? ebi_sim_ptys_path(sim->sockets->ptys, bus, which)
               : NULL;
}

bool eb_sim_serve(struct eb_sim *sim, int stop_fd, struct eb_problem *problem)
{
    struct ebi_sim_sockets *s = sim->sockets;
    struct epoll_event events[EVENTS];
    if (keep(s, stop_fd, KIND_STOP, NULL, 0) == EB_NO_HANDLE) {
        snprintf(problem->text, sizeof problem->text, "cannot wait for the end: %s", strerror(errno));
        return false;
    }
    for (size_t i = 0; i < sim->count; i++)
        s->due_us[i] = ebi_sim_device_deadline_us(&sim->devices[i]);
    for (;;) {
        uint64_t now = now_us(s);
        uint64_t next_us = next_deadline(sim);
        struct timespec timeout = {0};
        if (next_us != EB_NEVER && next_us > now) {
            timeout.tv_sec = (time_t)((next_us - now) / 1000000);
            timeout.tv_nsec = (long)((next_us - now) % 1000000) * 1000;
        }
        int n = epoll_pwait2(s->epoll_fd, events, EVENTS, next_us == EB_NEVER ? NULL : &timeout, NULL);
        for (int i = 0; i < n; i++) {
            struct ebi_sim_device *d = s->sockets[events[i].data.u32].device;
            if (!handle_event(s, (int)events[i].data.u32))
                return true;
            if (d != NULL)
                note_due(s, d);
        }
        now = now_us(s);
        for (size_t i = 0; i < sim->bus_count; i++)
            ebi_sim_can_run(sim, &sim->buses[i], now);
        if (s->vhci != NULL)
            ebi_sim_vhci_work(s->vhci);
        for (size_t i = 0; i < sim->count; i++) {
            if ((are_alone(sim) ? s->due_us[i] : ebi_sim_device_deadline_us(&sim->devices[i])) > now)
                continue;
            ebi_sim_device_tick(&sim->devices[i]);
            note_due(s, &sim->devices[i]);
        }
    }
}
