/* The port on Linux: sockets, epoll and the monotonic clock. */
#include "einbau/host.h"

#include <errno.h>
#include <ifaddrs.h>
#include <linux/ethtool.h>
#include <linux/sockios.h>
#include <net/if.h>
#include <net/if_arp.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { HANDLES_FIRST = 64, EVENTS = 64 };

struct handle {
    int fd; /* -1: free */
    void *owner;
    bool tcp;
    bool connecting;
    bool wants_room;
};

struct port_linux {
    struct eb_port port;
    int epoll_fd;
    struct handle *handles;
    int cap;
};

static uint64_t now_us(void *self)
{
    (void)self;
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

static void watch(struct port_linux *p, int number, int operation)
{
    struct handle *h = &p->handles[number];
    struct epoll_event event = {.events = EPOLLIN, .data.u32 = (uint32_t)number};
    if (h->connecting || h->wants_room)
        event.events |= EPOLLOUT;
    epoll_ctl(p->epoll_fd, operation, h->fd, &event);
}

static size_t wait_until(void *self, uint64_t deadline_us, void **owners, size_t cap)
{
    struct port_linux *p = self;
    struct epoll_event events[EVENTS];
    struct timespec timeout = {0};
    uint64_t now = now_us(p);
    if (deadline_us > now && deadline_us != EB_NEVER) {
        timeout.tv_sec = (time_t)((deadline_us - now) / 1000000);
        timeout.tv_nsec = (long)((deadline_us - now) % 1000000) * 1000;
    }
    int n = epoll_pwait2(p->epoll_fd, events, cap < EVENTS ? (int)cap : EVENTS,
                         deadline_us == EB_NEVER ? NULL : &timeout, NULL);
    size_t count = 0;
    for (int i = 0; i < n; i++) {
        int number = (int)events[i].data.u32;
        struct handle *h = &p->handles[number];
        if (h->fd < 0)
            continue;
        if ((events[i].events & EPOLLOUT) != 0) {
            h->connecting = false;
            h->wants_room = false;
            watch(p, number, EPOLL_CTL_MOD);
        }
        owners[count++] = h->owner;
    }
    return count;
}

static uint32_t random_number(void *self)
{
    (void)self;
    uint32_t number = 0;
    if (getrandom(&number, sizeof number, GRND_NONBLOCK) != (ssize_t)sizeof number)
        number = (uint32_t)now_us(NULL);
    return number;
}

static struct sockaddr_in to_sockaddr(const struct eb_endpoint *endpoint)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(endpoint->port)};
    memcpy(&address.sin_addr, endpoint->ip, sizeof endpoint->ip);
    return address;
}

static void from_sockaddr(const struct sockaddr_in *address, struct eb_endpoint *endpoint)
{
    memcpy(endpoint->ip, &address->sin_addr, sizeof endpoint->ip);
    endpoint->port = ntohs(address->sin_port);
}

static uint32_t path_mtu_bytes(void *self, const struct eb_endpoint *peer)
{
    (void)self;
    int mtu = 576;
    socklen_t size = sizeof mtu;
    struct sockaddr_in address = to_sockaddr(peer);
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (fd < 0)
        return 576;
    if (connect(fd, (const struct sockaddr *)&address, sizeof address) != 0 ||
        getsockopt(fd, IPPROTO_IP, IP_MTU, &mtu, &size) != 0)
        mtu = 576;
    close(fd);
    return (uint32_t)mtu;
}

/* Gives the number of a new handle for `fd`, or EB_NO_HANDLE (and closes it). */
static int new_handle(struct port_linux *p, int fd, void *owner, bool tcp)
{
    int number = 0;
    if (fd < 0)
        return EB_NO_HANDLE;
    while (number < p->cap && p->handles[number].fd >= 0)
        number++;
    if (number == p->cap) {
        int cap = p->cap == 0 ? HANDLES_FIRST : 2 * p->cap;
        struct handle *more = realloc(p->handles, (size_t)cap * sizeof *more);
        if (more == NULL) {
            close(fd);
            return EB_NO_HANDLE;
        }
        for (int i = p->cap; i < cap; i++)
            more[i].fd = -1;
        p->handles = more;
        p->cap = cap;
    }
    p->handles[number] = (struct handle){.fd = fd, .owner = owner, .tcp = tcp, .connecting = tcp};
    watch(p, number, EPOLL_CTL_ADD);
    return number;
}

static void close_handle(void *self, int handle)
{
    struct port_linux *p = self;
    close(p->handles[handle].fd);
    p->handles[handle].fd = -1;
}

/* --- UDP ----------------------------------------------------------------------------------------- */

static enum eb_status udp_open(void *self, void *owner, int *handle)
{
    *handle = new_handle(self, socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0), owner, false);
    return *handle == EB_NO_HANDLE ? EB_IO : EB_OK;
}

/* A burst as the kernel wants it; `count` of the messages are described. */
struct kernel_burst {
    struct mmsghdr messages[EB_BURST_MAX];
    struct iovec parts[EB_BURST_MAX];
    struct sockaddr_in peers[EB_BURST_MAX];
    unsigned count;
};

static void describe(struct kernel_burst *k, const struct eb_datagram *burst, size_t count)
{
    k->count = (unsigned)(count < EB_BURST_MAX ? count : EB_BURST_MAX);
    memset(k->messages, 0, k->count * sizeof k->messages[0]);
    for (unsigned i = 0; i < k->count; i++) {
        k->peers[i] = to_sockaddr(&burst[i].peer);
        k->parts[i] = (struct iovec){burst[i].bytes, burst[i].size_bytes};
        k->messages[i].msg_hdr.msg_name = &k->peers[i];
        k->messages[i].msg_hdr.msg_namelen = sizeof k->peers[i];
        k->messages[i].msg_hdr.msg_iov = &k->parts[i];
        k->messages[i].msg_hdr.msg_iovlen = 1;
    }
}

static size_t udp_send(void *self, int handle, const struct eb_datagram *burst, size_t count)
{
    struct port_linux *p = self;
    struct handle *h = &p->handles[handle];
    struct kernel_burst k;
    describe(&k, burst, count);
    int sent = sendmmsg(h->fd, k.messages, k.count, 0);
    if (sent < 0 && errno != EAGAIN && errno != EWOULDBLOCK && errno != ENOBUFS)
        return count; /* no route now, or a message came back: as good as lost on the wire, patience decides
                       */
    size_t taken = sent > 0 ? (size_t)sent : 0;
    if (taken < count) {
        h->wants_room = true;
        watch(p, handle, EPOLL_CTL_MOD);
    }
    return taken;
}

static enum eb_status udp_receive(void *self, int handle, struct eb_datagram *burst, size_t count,
                                  size_t *received)
{
    struct port_linux *p = self;
    struct kernel_burst k;
    describe(&k, burst, count);
    *received = 0;
    int n = recvmmsg(p->handles[handle].fd, k.messages, k.count, 0, NULL);
    if (n < 0)
        return errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR ? EB_PENDING : EB_UNREACHABLE;
    for (int i = 0; i < n; i++) {
        burst[i].size_bytes = k.messages[i].msg_len;
        from_sockaddr(&k.peers[i], &burst[i].peer);
    }
    *received = (size_t)n;
    return EB_OK;
}

/* --- TCP ----------------------------------------------------------------------------------------- */

static enum eb_status tcp_open(void *self, void *owner, const struct eb_endpoint *peer, int *handle)
{
    struct sockaddr_in address = to_sockaddr(peer);
    int fd = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    int yes = 1;
    *handle = EB_NO_HANDLE;
    if (fd < 0)
        return EB_IO;
    setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
    if (connect(fd, (const struct sockaddr *)&address, sizeof address) != 0 && errno != EINPROGRESS) {
        close(fd);
        return EB_UNREACHABLE;
    }
    *handle = new_handle(self, fd, owner, true);
    return *handle == EB_NO_HANDLE ? EB_IO : EB_OK;
}

static enum eb_status tcp_result(struct port_linux *p, int handle, ssize_t n, size_t *done)
{
    if (n > 0) {
        *done = (size_t)n;
        return EB_OK;
    }
    if (n < 0 && (errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR || errno == ENOTCONN) &&
        (errno != ENOTCONN || p->handles[handle].connecting))
        return EB_PENDING;
    return EB_UNREACHABLE;
}

static enum eb_status tcp_send(void *self, int handle, const uint8_t *bytes, size_t size, size_t *sent)
{
    struct port_linux *p = self;
    struct handle *h = &p->handles[handle];
    *sent = 0;
    enum eb_status status = tcp_result(p, handle, send(h->fd, bytes, size, MSG_NOSIGNAL), sent);
    if (status == EB_PENDING && !h->wants_room) {
        h->wants_room = true;
        watch(p, handle, EPOLL_CTL_MOD);
    }
    return status;
}

static enum eb_status tcp_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct port_linux *p = self;
    *received = 0;
    return tcp_result(p, handle, recv(p->handles[handle].fd, bytes, cap, 0), received);
}

/* --- links --------------------------------------------------------------------------------------- */

/* What the kernel tells of a link by its ioctls, which know this process's network namespace. */
static bool ask_kernel(int fd, const char *name, unsigned long what, struct ifreq *request)
{
    eb_text_copy(request->ifr_name, sizeof request->ifr_name, name);
    return ioctl(fd, what, request) == 0;
}

static uint32_t speed_of(int fd, const char *name)
{
    struct ethtool_cmd command = {.cmd = ETHTOOL_GSET};
    struct ifreq request = {.ifr_data = (void *)&command};
    if (!ask_kernel(fd, name, SIOCETHTOOL, &request))
        return 0;
    uint32_t speed = ethtool_cmd_speed(&command);
    return speed == (uint32_t)SPEED_UNKNOWN || speed == UINT16_MAX ? 0 : speed;
}

static bool in_sysfs(const char *name, const char *what)
{
    char path[128];
    snprintf(path, sizeof path, "/sys/class/net/%s/%s", name, what);
    return access(path, F_OK) == 0;
}

/* Whether a line of the kernel's routing table with destination and mask 0 names this link. */
static bool has_default_route(const char *name)
{
    char line[256];
    char link[64];
    unsigned long destination;
    unsigned long mask;
    bool found = false;
    FILE *file = fopen("/proc/net/route", "re");
    while (file != NULL && !found && fgets(line, sizeof line, file) != NULL)
        found = sscanf(line, "%63s %lx %*x %*x %*u %*u %*u %lx", link, &destination, &mask) == 3 &&
                destination == 0 && mask == 0 && strcmp(link, name) == 0;
    if (file != NULL)
        fclose(file);
    return found;
}

static void describe_link(const struct ifaddrs *from, struct eb_link *link)
{
    const char *name = from->ifa_name;
    struct ifreq mtu = {.ifr_mtu = 0};
    struct ifreq hardware = {.ifr_ifindex = 0};
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    *link = (struct eb_link){.up = (from->ifa_flags & IFF_UP) != 0, .kind = EB_LINK_WIRED};
    eb_text_copy(link->name, sizeof link->name, name);
    bool raw = ask_kernel(fd, name, SIOCGIFHWADDR, &hardware) && hardware.ifr_hwaddr.sa_family == ARPHRD_NONE;
    if ((from->ifa_flags & IFF_LOOPBACK) != 0)
        link->kind = EB_LINK_LOOPBACK;
    else if (in_sysfs(name, "wireless") || in_sysfs(name, "phy80211"))
        link->kind = EB_LINK_WIRELESS;
    else if (raw || (from->ifa_flags & IFF_POINTOPOINT) != 0)
        link->kind = EB_LINK_TUNNEL;
    link->carrier = (from->ifa_flags & IFF_RUNNING) != 0;
    link->speed_mbit_per_s = speed_of(fd, name);
    link->mtu_bytes = ask_kernel(fd, name, SIOCGIFMTU, &mtu) ? (uint32_t)mtu.ifr_mtu : 0;
    link->default_route = has_default_route(name);
    close(fd);
}

static size_t list_links(void *self, struct eb_link *links, size_t cap)
{
    (void)self;
    struct ifaddrs *all;
    size_t count = 0;
    if (getifaddrs(&all) != 0)
        return 0;
    for (const struct ifaddrs *a = all; a != NULL; a = a->ifa_next) {
        size_t at = 0;
        while (at < count && strncmp(links[at].name, a->ifa_name, EB_LINK_NAME_BYTES - 1) != 0)
            at++;
        if (at == cap)
            continue;
        if (at == count)
            describe_link(a, &links[count++]);
        struct eb_link *link = &links[at];
        if (a->ifa_addr == NULL || a->ifa_addr->sa_family != AF_INET || a->ifa_netmask == NULL ||
            link->count == EB_LINK_ADDRESSES_MAX)
            continue;
        uint8_t mask[4];
        struct eb_link_address *address = &link->addresses[link->count];
        memcpy(address->ip, &((const struct sockaddr_in *)(const void *)a->ifa_addr)->sin_addr, 4);
        memcpy(mask, &((const struct sockaddr_in *)(const void *)a->ifa_netmask)->sin_addr, 4);
        if (eb_mask_read(mask, &address->prefix))
            link->count++;
    }
    freeifaddrs(all);
    return count;
}

/* ------------------------------------------------------------------------------------------------- */

const struct eb_port *eb_port_linux_open(void)
{
    struct port_linux *p = calloc(1, sizeof *p);
    if (p == NULL)
        return NULL;
    p->epoll_fd = epoll_create1(EPOLL_CLOEXEC);
    p->port = (struct eb_port){
        .self = p,
        .now_us = now_us,
        .wait = wait_until,
        .random = random_number,
        .path_mtu_bytes = path_mtu_bytes,
        .links = list_links,
        .udp_open = udp_open,
        .udp_send = udp_send,
        .udp_receive = udp_receive,
        .udp_close = close_handle,
        .tcp_open = tcp_open,
        .tcp_send = tcp_send,
        .tcp_receive = tcp_receive,
        .tcp_close = close_handle,
    };
    if (p->epoll_fd >= 0)
        return &p->port;
    free(p);
    return NULL;
}

void eb_port_linux_close(const struct eb_port *port)
{
    struct port_linux *p = port->self;
    for (int i = 0; i < p->cap; i++) {
        if (p->handles[i].fd >= 0)
            close(p->handles[i].fd);
    }
    close(p->epoll_fd);
    free(p->handles);
    free(p);
}
