/* The port on Linux: sockets, epoll and the monotonic clock.  The laptop's links are in port_linux_links.c.
 */
#include "port_linux.h"

#include <errno.h>
#include <linux/filter.h>
#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { HANDLES_FIRST = 64, EVENTS = 64, GROUP_ROOM_BYTES = 1 << 20 };

struct handle {
    int fd; /* -1: free */
    struct eb_waiter *waiter;
    bool tcp;
    bool connecting;
    bool wants_room;
};

static const uint8_t lldp_address[EB_MAC_BYTES] = {0x01, 0x80, 0xC2,
                                                   0x00, 0x00, 0x0E}; /* 802.1AB section 7.1 */

enum { RAW_SOCKETS = 8 }; /* one for each link that is surveyed, and for what is asked meanwhile */

struct port_linux {
    struct eb_port port;
    int epoll_fd;
    struct handle *handles;
    int cap;
    struct ebi_linux_can *can;
    struct ebi_linux_usb *usb;
    struct ebi_linux_http *http;
    int raw[RAW_SOCKETS]; /* opened first, so that the right to open them can be given up; -1: lent out */
};

uint64_t ebi_linux_now_us(void *self)
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

/* Where there is USB it waits here, for everything; gives what the next wait is to be. */
static const struct timespec *wait_for_usb(struct port_linux *p, const struct timespec *timeout)
{
    static const struct timespec none;
    struct pollfd fds[1 + EVENTS];
    size_t count = ebi_linux_usb_fds(p->usb, fds + 1, EVENTS);
    if (count == 0)
        return timeout;
    fds[0] = (struct pollfd){.fd = p->epoll_fd, .events = POLLIN};
    bool ready = ppoll(fds, 1 + count, timeout, NULL) > 0;
    for (size_t i = 1; ready && i <= count; i++) {
        if (fds[i].revents != 0) {
            ebi_linux_usb_event(p->usb);
            break;
        }
    }
    return &none;
}

static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct port_linux *p = self;
    struct epoll_event events[EVENTS];
    struct timespec timeout = {0};
    size_t count = ebi_linux_can_ready(p->can, ready, cap);
    count += ebi_linux_usb_ready(p->usb, ready + count, cap - count);
    count += ebi_linux_http_ready(p->http, ready + count, cap - count);
    if (count > 0)
        return count;
    uint64_t now = ebi_linux_now_us(p);
    uint64_t can_us = ebi_linux_can_tick(p->can, now);
    uint64_t usb_us = ebi_linux_usb_deadline_us(p->usb, now);
    deadline_us = can_us < deadline_us ? can_us : deadline_us;
    uint64_t http_us = ebi_linux_http_deadline_us(p->http);
    deadline_us = usb_us < deadline_us ? usb_us : deadline_us;
    deadline_us = http_us < deadline_us ? http_us : deadline_us;
    if (deadline_us > now && deadline_us != EB_NEVER) {
        timeout.tv_sec = (time_t)((deadline_us - now) / 1000000);
        timeout.tv_nsec = (long)((deadline_us - now) % 1000000) * 1000;
    }
    int n = epoll_pwait2(p->epoll_fd, events, cap < EVENTS ? (int)cap : EVENTS,
                         wait_for_usb(p, deadline_us == EB_NEVER ? NULL : &timeout), NULL);
    for (int i = 0; i < n; i++) {
        if ((events[i].data.u32 & EBI_LINUX_CAN) != 0) {
            ebi_linux_can_event(p->can, events[i].data.u32 & ~(uint32_t)EBI_LINUX_CAN);
            continue;
        }
        if (events[i].data.u32 == EBI_LINUX_HTTP)
            continue;
        int number = (int)events[i].data.u32;
        struct handle *h = &p->handles[number];
        if (h->fd < 0)
            continue;
        if ((events[i].events & EPOLLOUT) != 0) {
            h->connecting = false;
            h->wants_room = false;
            watch(p, number, EPOLL_CTL_MOD);
        }
        ready[count++] = h->waiter;
    }
    ebi_linux_can_tick(p->can, ebi_linux_now_us(p));
    if (usb_us != EB_NEVER)
        ebi_linux_usb_event(p->usb);
    ebi_linux_http_event(p->http);
    count += ebi_linux_http_ready(p->http, ready + count, cap - count);
    count += ebi_linux_can_ready(p->can, ready + count, cap - count);
    return count + ebi_linux_usb_ready(p->usb, ready + count, cap - count);
}

static uint32_t random_number(void *self)
{
    (void)self;
    uint32_t number = 0;
    if (getrandom(&number, sizeof number, GRND_NONBLOCK) != (ssize_t)sizeof number)
        number = (uint32_t)ebi_linux_now_us(NULL);
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
static int new_handle(struct port_linux *p, int fd, void *waiter, bool tcp)
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
    p->handles[number] = (struct handle){.fd = fd, .waiter = waiter, .tcp = tcp, .connecting = tcp};
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

/* As the options say; false where the system refuses what cannot be done without. */
static bool set_options(int fd, const struct eb_udp_options *o)
{
    static const uint8_t none[4];
    int yes = 1;
    int ttl = 255; /* RFC 6762 section 11 */
    int room = GROUP_ROOM_BYTES;
    unsigned index = o->link != NULL ? if_nametoindex(o->link) : 0;
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(o->local_port)};
    if (o->link != NULL &&
        (index == 0 || setsockopt(fd, SOL_SOCKET, SO_BINDTODEVICE, o->link, (socklen_t)strlen(o->link)) != 0))
        return false;
    setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    if (o->broadcast)
        setsockopt(fd, SOL_SOCKET, SO_BROADCAST, &yes, sizeof yes);
    bool shares = o->local_port != 0 && !o->exclusive;
    if (o->local_port != 0 && ((shares && setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes) != 0) ||
                               bind(fd, (const struct sockaddr *)&address, sizeof address) != 0))
        return false;
    if (o->peer != NULL) {
        const struct sockaddr_in peer = to_sockaddr(o->peer);
        return connect(fd, (const struct sockaddr *)&peer, sizeof peer) == 0;
    }
    struct ip_mreqn group = {.imr_ifindex = (int)index};
    memcpy(&group.imr_multiaddr, o->group, sizeof o->group);
    setsockopt(fd, IPPROTO_IP, IP_MULTICAST_TTL, &ttl, sizeof ttl);
    setsockopt(fd, IPPROTO_IP, IP_MULTICAST_IF, &group, sizeof group);
    return memcmp(o->group, none, sizeof none) == 0 ||
           setsockopt(fd, IPPROTO_IP, IP_ADD_MEMBERSHIP, &group, sizeof group) == 0;
}

static enum eb_status udp_open(void *self, struct eb_waiter *waiter, const struct eb_udp_options *options,
                               int *handle)
{
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    enum eb_status failed = EB_IO;
    if (fd >= 0 && options != NULL && !set_options(fd, options)) {
        failed = errno == EACCES || errno == EPERM ? EB_DENIED : errno == EADDRINUSE ? EB_BUSY : EB_IO;
        close(fd);
        fd = -1;
    }
    *handle = new_handle(self, fd, waiter, false);
    return *handle == EB_NO_HANDLE ? failed : EB_OK;
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

static enum eb_status tcp_open(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                               int *handle)
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
    *handle = new_handle(self, fd, waiter, true);
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
    ssize_t n = recv(p->handles[handle].fd, bytes, cap, 0);
    return n == 0 && cap > 0 ? EB_CLOSED : tcp_result(p, handle, n, received);
}

/* --- frames -------------------------------------------------------------------------------------- */

/* What a survey wants to hear; everything else stays in the kernel: ARP, DCP, LLDP, tagged frames, DHCP
 * requests and DNS-SD. */
static bool set_filter(int fd)
{
    enum { DROP = 14, TAKE = 15 }; /* the last two instructions */
#define JUMP(at, test, k, yes, no)                                                                           \
    BPF_JUMP(BPF_JMP | (test) | BPF_K, k, (yes) ? TAKE - (at)-1 : 0, (no) ? DROP - (at)-1 : 0)
    struct sock_filter code[] = {
        BPF_STMT(BPF_LD | BPF_H | BPF_ABS, 12),
        JUMP(1, BPF_JEQ, EB_ETHERTYPE_ARP, 1, 0),
        JUMP(2, BPF_JEQ, EB_ETHERTYPE_DCP, 1, 0),
        JUMP(3, BPF_JEQ, EB_ETHERTYPE_LLDP, 1, 0),
        JUMP(4, BPF_JEQ, EB_ETHERTYPE_VLAN, 1, 0),
        JUMP(5, BPF_JEQ, EB_ETHERTYPE_IPV4, 0, 1),
        BPF_STMT(BPF_LD | BPF_B | BPF_ABS, 23),
        JUMP(7, BPF_JEQ, IPPROTO_UDP, 0, 1),
        BPF_STMT(BPF_LD | BPF_H | BPF_ABS, 20),
        BPF_JUMP(BPF_JMP | BPF_JSET | BPF_K, 0x1FFF, DROP - 9 - 1, 0), /* fragments */
        BPF_STMT(BPF_LDX | BPF_B | BPF_MSH, 14),
        BPF_STMT(BPF_LD | BPF_H | BPF_IND, 16),
        JUMP(12, BPF_JEQ, 67, 1, 0),
        JUMP(13, BPF_JEQ, EB_DNS_SD_PORT, 1, 0),
        BPF_STMT(BPF_RET | BPF_K, 0),
        BPF_STMT(BPF_RET | BPF_K, EB_FRAME_MAX_BYTES),
    };
#undef JUMP
    const struct sock_fprog program = {sizeof code / sizeof code[0], code};
    return setsockopt(fd, SOL_SOCKET, SO_ATTACH_FILTER, &program, sizeof program) == 0;
}

/* --- raw frames ---------------------------------------------------------------------------------- */

static int raw_socket(void)
{
    return socket(AF_PACKET, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, 0); /* hears nothing before bind */
}

static void open_raw(struct port_linux *p)
{
    for (size_t i = 0; i < RAW_SOCKETS; i++)
        p->raw[i] = i == 0 || p->raw[i - 1] >= 0 ? raw_socket() : -1;
}

static int lend_raw(struct port_linux *p)
{
    for (size_t i = 0; i < RAW_SOCKETS; i++) {
        int fd = p->raw[i];
        if (fd >= 0) {
            p->raw[i] = -1;
            return fd;
        }
    }
    return raw_socket();
}

/* Takes a socket back: it hears nothing any more, and what it has heard is gone. */
static void return_raw(struct port_linux *p, int fd)
{
    struct sockaddr_ll nowhere = {.sll_family = AF_PACKET};
    struct sockaddr_ll now = {0};
    socklen_t size = sizeof now;
    struct packet_mreq lldp = {.mr_type = PACKET_MR_MULTICAST, .mr_alen = EB_MAC_BYTES};
    uint8_t frame[64];
    size_t i = 0;
    while (i < RAW_SOCKETS && p->raw[i] >= 0)
        i++;
    memcpy(lldp.mr_address, lldp_address, sizeof lldp_address);
    bool known = getsockname(fd, (struct sockaddr *)&now, &size) == 0;
    lldp.mr_ifindex = now.sll_ifindex;
    if (i == RAW_SOCKETS || !known || bind(fd, (const struct sockaddr *)&nowhere, sizeof nowhere) != 0) {
        close(fd);
        return;
    }
    setsockopt(fd, SOL_PACKET, PACKET_DROP_MEMBERSHIP, &lldp, sizeof lldp);
    while (recv(fd, frame, sizeof frame, MSG_TRUNC) >= 0) {
    }
    p->raw[i] = fd;
}

static void close_raw(struct port_linux *p)
{
    for (size_t i = 0; i < RAW_SOCKETS; i++) {
        if (p->raw[i] >= 0)
            close(p->raw[i]);
    }
}

static void frame_close(void *self, int handle)
{
    struct port_linux *p = self;
    epoll_ctl(p->epoll_fd, EPOLL_CTL_DEL, p->handles[handle].fd, NULL);
    return_raw(p, p->handles[handle].fd);
    p->handles[handle].fd = -1;
}

static enum eb_status frame_open(void *self, struct eb_waiter *waiter, const char *link, int *handle)
{
    struct port_linux *p = self;
    struct sockaddr_ll address = {.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ALL)};
    struct packet_mreq lldp = {.mr_type = PACKET_MR_MULTICAST, .mr_alen = EB_MAC_BYTES};
    int room = GROUP_ROOM_BYTES;
    memcpy(lldp.mr_address, lldp_address, sizeof lldp_address);
    *handle = EB_NO_HANDLE;
    int fd = lend_raw(p);
    if (fd < 0)
        return errno == EPERM || errno == EACCES ? EB_DENIED : EB_IO;
    address.sll_ifindex = (int)if_nametoindex(link);
    lldp.mr_ifindex = address.sll_ifindex;
    setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    if (address.sll_ifindex == 0 || !set_filter(fd) ||
        bind(fd, (const struct sockaddr *)&address, sizeof address) != 0) {
        return_raw(p, fd);
        return EB_IO;
    }
    setsockopt(fd, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &lldp, sizeof lldp);
    *handle = new_handle(self, fd, waiter, false);
    return *handle == EB_NO_HANDLE ? EB_IO : EB_OK;
}

static void frame_send(void *self, int handle, const uint8_t *bytes, size_t size)
{
    const struct port_linux *p = self;
    /* A frame that the system has no room for is lost, as on the wire. */
    (void)!send(p->handles[handle].fd, bytes, size, 0);
}

static enum eb_status frame_receive(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    const struct port_linux *p = self;
    for (;;) {
        struct sockaddr_ll from = {0};
        socklen_t from_size = sizeof from;
        ssize_t n = recvfrom(p->handles[handle].fd, bytes, cap, 0, (struct sockaddr *)&from, &from_size);
        *received = n > 0 ? (size_t)n : 0;
        if (n < 0)
            return EB_PENDING;
        if (from.sll_pkttype != PACKET_OUTGOING)
            return EB_OK;
    }
}

/* --- CAN ----------------------------------------------------------------------------------------- */

static enum eb_status can_open(void *self, struct eb_waiter *waiter, const struct eb_can_options *options,
                               int *handle)
{
    return ebi_linux_can_open(((struct port_linux *)self)->can, waiter, options, handle);
}

static size_t can_send(void *self, int handle, const struct eb_can_frame *burst, size_t count)
{
    return ebi_linux_can_send(((struct port_linux *)self)->can, handle, burst, count);
}

static uint64_t can_sent(void *self, int handle)
{
    return ebi_linux_can_sent(((struct port_linux *)self)->can, handle);
}

static enum eb_status can_receive(void *self, int handle, struct eb_can_frame *frames, size_t cap,
                                  size_t *received)
{
    return ebi_linux_can_receive(((struct port_linux *)self)->can, handle, frames, cap, received);
}

static void can_state(void *self, int handle, struct eb_can_state *state)
{
    ebi_linux_can_state(((struct port_linux *)self)->can, handle, state);
}

static void can_close(void *self, int handle)
{
    ebi_linux_can_close(((struct port_linux *)self)->can, handle);
}

/* --- USB ----------------------------------------------------------------------------------------- */

static bool usb_device(void *self, size_t index, struct eb_usb_device *device)
{
    return ebi_linux_usb_device(((struct port_linux *)self)->usb, index, device);
}

static enum eb_status usb_watch(void *self, struct eb_waiter *waiter, int *handle)
{
    return ebi_linux_usb_watch(((struct port_linux *)self)->usb, waiter, handle);
}

static enum eb_status usb_open(void *self, struct eb_waiter *waiter, const struct eb_usb_device *device,
                               int *handle)
{
    return ebi_linux_usb_open(((struct port_linux *)self)->usb, waiter, device, handle);
}

static enum eb_status usb_claim(void *self, int handle, uint8_t interface, uint8_t alternate)
{
    return ebi_linux_usb_claim(((struct port_linux *)self)->usb, handle, interface, alternate);
}

static enum eb_status usb_control(void *self, int handle, const struct eb_usb_setup *setup,
                                  const uint8_t *bytes, uint32_t patience_ms)
{
    return ebi_linux_usb_control(((struct port_linux *)self)->usb, handle, setup, bytes, patience_ms);
}

static enum eb_status usb_answer(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    return ebi_linux_usb_answer(((struct port_linux *)self)->usb, handle, bytes, cap, received);
}

static enum eb_status usb_reset(void *self, int handle)
{
    return ebi_linux_usb_reset(((struct port_linux *)self)->usb, handle);
}

static void usb_close(void *self, int handle)
{
    ebi_linux_usb_close(((struct port_linux *)self)->usb, handle);
}

/* --- HTTP ---------------------------------------------------------------------------------------- */

static enum eb_status http_begin(void *self, struct eb_waiter *waiter, const struct eb_http_request *request,
                                 int *handle)
{
    return ebi_linux_http_begin(((struct port_linux *)self)->http, waiter, request, handle);
}

static enum eb_status http_poll(void *self, int handle, struct eb_http_progress *progress)
{
    return ebi_linux_http_poll(((struct port_linux *)self)->http, handle, progress);
}

static void http_close(void *self, int handle)
{
    ebi_linux_http_close(((struct port_linux *)self)->http, handle);
}

/* ------------------------------------------------------------------------------------------------- */

static const struct eb_port_time time_group = {sizeof time_group, ebi_linux_now_us, wait_until,
                                               random_number};
static const struct eb_port_udp udp_group = {sizeof udp_group, udp_open,     udp_send,
                                             udp_receive,      close_handle, path_mtu_bytes};
static const struct eb_port_tcp tcp_group = {sizeof tcp_group, tcp_open, tcp_send, tcp_receive, close_handle};
static const struct eb_port_frame frame_group = {sizeof frame_group, frame_open, frame_send, frame_receive,
                                                 frame_close};
static const struct eb_port_links links_group = {sizeof links_group, ebi_linux_links, ebi_linux_neighbours,
                                                 ebi_linux_address_add, ebi_linux_address_remove};
static const struct eb_port_can can_group = {sizeof can_group, can_open,  can_send, can_sent,
                                             can_receive,      can_state, can_close};
static const struct eb_port_usb usb_group = {sizeof usb_group, usb_device, usb_watch, usb_open, usb_claim,
                                             usb_control,      usb_answer, usb_reset, usb_close};

static const struct eb_port_http http_group = {sizeof http_group, http_begin, http_poll, http_close};

const struct eb_port *eb_port_linux_open(void)
{
    struct port_linux *p = calloc(1, sizeof *p);
    if (p == NULL)
        return NULL;
    p->epoll_fd = epoll_create1(EPOLL_CLOEXEC);
    p->port = (struct eb_port){.bytes = sizeof p->port,
                               .self = p,
                               .time = &time_group,
                               .udp = &udp_group,
                               .tcp = &tcp_group,
                               .frame = &frame_group,
                               .links = &links_group,
                               .can = &can_group,
                               .usb = &usb_group,
                               .http = &http_group};
    for (size_t i = 0; i < RAW_SOCKETS; i++)
        p->raw[i] = -1;
    p->can = p->epoll_fd >= 0 ? ebi_linux_can_new(p->epoll_fd) : NULL;
    p->usb = p->can != NULL ? ebi_linux_usb_new() : NULL;
    p->http = p->usb != NULL ? ebi_linux_http_new(p->epoll_fd) : NULL;
    if (p->http != NULL)
        return &p->port;
    if (p->usb != NULL)
        ebi_linux_usb_free(p->usb);
    close_raw(p);
    if (p->can != NULL)
        ebi_linux_can_free(p->can);
    if (p->epoll_fd >= 0)
        close(p->epoll_fd);
    free(p);
    return NULL;
}

void eb_port_linux_raw_first(const struct eb_port *port)
{
    open_raw(port->self);
}

void eb_port_linux_close(const struct eb_port *port)
{
    struct port_linux *p = port->self;
    for (int i = 0; i < p->cap; i++) {
        if (p->handles[i].fd >= 0)
            close(p->handles[i].fd);
    }
    close_raw(p);
    ebi_linux_http_free(p->http);
    ebi_linux_usb_free(p->usb);
    ebi_linux_can_free(p->can);
    close(p->epoll_fd);
    free(p->handles);
    free(p);
}
