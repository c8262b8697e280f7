/* The laptop's links on Linux: routing netlink (RFC 3549), which knows this process's network namespace, and
 * ioctls for what it does not tell. */
#include "port_linux.h"

#include <errno.h>
#include <net/if.h> /* before the kernel's own, which then leave out what it has */
#include <libmnl/libmnl.h>
#include <linux/ethtool.h>
#include <linux/if_addr.h>
#include <linux/if_arp.h>
#include <linux/if_link.h>
#include <linux/neighbour.h>
#include <linux/rtnetlink.h>
#include <linux/sockios.h>
#include <linux/wireless.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { MESSAGE_BYTES = 32768, WIRELESS_BEST = 70 };

/* What a dump fills in, and for whom. */
struct dump {
    struct eb_link *links;
    int indexes[EB_LINKS_MAX];
    size_t count, cap;
    struct eb_neighbour *neighbours;
    int index; /* of the link whose neighbours are meant */
};

/* Sends one request and hands each answer to `take`; gives 0, or what went wrong. */
static int ask(struct nlmsghdr *request, mnl_cb_t take, void *data)
{
    char buffer[MESSAGE_BYTES];
    struct mnl_socket *socket = mnl_socket_open(NETLINK_ROUTE);
    int problem = 0;
    if (socket == NULL)
        return errno;
    request->nlmsg_seq = (uint32_t)time(NULL);
    if (mnl_socket_bind(socket, 0, MNL_SOCKET_AUTOPID) < 0 ||
        mnl_socket_sendto(socket, request, request->nlmsg_len) < 0)
        problem = errno;
    for (int more = MNL_CB_OK; problem == 0 && more > MNL_CB_STOP;) {
        ssize_t n = mnl_socket_recvfrom(socket, buffer, sizeof buffer);
        more = n < 0 ? MNL_CB_ERROR
                     : mnl_cb_run(buffer, (size_t)n, request->nlmsg_seq, mnl_socket_get_portid(socket), take,
                                  data);
        if (more == MNL_CB_ERROR)
            problem = errno;
    }
    mnl_socket_close(socket);
    return problem;
}

static struct nlmsghdr *request_of(char *buffer, uint16_t type, uint16_t flags)
{
    struct nlmsghdr *request = mnl_nlmsg_put_header(buffer);
    request->nlmsg_type = type;
    request->nlmsg_flags = NLM_F_REQUEST | flags;
    return request;
}

/* The attributes of a message by their type. */
enum { ATTRIBUTES_MAX = 64 };
struct attributes {
    const struct nlattr *of[ATTRIBUTES_MAX];
};

static int keep_attribute(const struct nlattr *attribute, void *data)
{
    struct attributes *all = data;
    if (mnl_attr_get_type(attribute) < ATTRIBUTES_MAX)
        all->of[mnl_attr_get_type(attribute)] = attribute;
    return MNL_CB_OK;
}

static struct attributes attributes_of(const struct nlmsghdr *message, size_t head)
{
    struct attributes all = {{NULL}};
    mnl_attr_parse(message, (unsigned)head, keep_attribute, &all);
    return all;
}

/* The value of an attribute of exactly `size` bytes, or NULL. */
static const void *value_of(const struct attributes *all, unsigned type, size_t size)
{
    const struct nlattr *attribute = all->of[type];
    return attribute != NULL && mnl_attr_get_payload_len(attribute) == size ? mnl_attr_get_payload(attribute)
                                                                            : NULL;
}

static void dump(uint16_t type, unsigned char family, mnl_cb_t take, struct dump *d)
{
    char buffer[256];
    struct nlmsghdr *request = request_of(buffer, type, NLM_F_DUMP);
    struct rtgenmsg *general = mnl_nlmsg_put_extra_header(request, sizeof *general);
    general->rtgen_family = family;
    ask(request, take, d);
}

/* --- links --------------------------------------------------------------------------------------- */

/* What the kernel tells of a link by its ioctls only. */
static bool ask_device(const char *name, unsigned long what, void *data)
{
    struct ifreq request = {.ifr_data = data};
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    eb_text_copy(request.ifr_name, sizeof request.ifr_name, name);
    bool known = fd >= 0 && ioctl(fd, what, &request) == 0;
    if (fd >= 0)
        close(fd);
    return known;
}

static uint32_t speed_of(const char *name)
{
    struct ethtool_cmd command = {.cmd = ETHTOOL_GSET};
    if (!ask_device(name, SIOCETHTOOL, &command))
        return 0;
    uint32_t speed = (uint32_t)command.speed_hi << 16 | command.speed;
    return speed == (uint32_t)SPEED_UNKNOWN || speed == UINT16_MAX ? 0 : speed;
}

/* The signal of a wireless link, of WIRELESS_BEST at most; 0 where none is told. */
static uint8_t quality_of(const char *name)
{
    char line[256];
    char link[64];
    float quality = 0;
    FILE *file = fopen("/proc/net/wireless", "re");
    while (file != NULL && fgets(line, sizeof line, file) != NULL) {
        float found;
        if (sscanf(line, " %63[^:]: %*x %f", link, &found) == 2 && strcmp(link, name) == 0)
            quality = found;
    }
    if (file != NULL)
        fclose(file);
    return (uint8_t)(quality >= WIRELESS_BEST ? 100 : quality * 100 / WIRELESS_BEST);
}

static enum eb_link_kind kind_of(const struct ifinfomsg *info, const char *name)
{
    if ((info->ifi_flags & IFF_LOOPBACK) != 0)
        return EB_LINK_LOOPBACK;
    if (ask_device(name, SIOCGIWNAME, NULL))
        return EB_LINK_WIRELESS;
    return info->ifi_type != ARPHRD_ETHER || (info->ifi_flags & IFF_POINTOPOINT) != 0 ? EB_LINK_TUNNEL
                                                                                      : EB_LINK_WIRED;
}

static int take_link(const struct nlmsghdr *message, void *data)
{
    struct dump *d = data;
    const struct ifinfomsg *info = mnl_nlmsg_get_payload(message);
    const struct attributes all = attributes_of(message, sizeof *info);
    if (d->count == d->cap || d->count == EB_LINKS_MAX || all.of[IFLA_IFNAME] == NULL)
        return MNL_CB_OK;
    struct eb_link *link = &d->links[d->count];
    *link = (struct eb_link){.up = (info->ifi_flags & IFF_UP) != 0,
                             .carrier = (info->ifi_flags & IFF_RUNNING) != 0};
    eb_text_copy(link->name, sizeof link->name, mnl_attr_get_str(all.of[IFLA_IFNAME]));
    const uint32_t *mtu = value_of(&all, IFLA_MTU, sizeof *mtu);
    const void *mac = value_of(&all, IFLA_ADDRESS, sizeof link->mac);
    if (mtu != NULL)
        link->mtu_bytes = *mtu;
    if (mac != NULL)
        memcpy(link->mac, mac, sizeof link->mac);
    link->kind = kind_of(info, link->name);
    link->has_mac =
        (link->kind == EB_LINK_WIRED || link->kind == EB_LINK_WIRELESS) && eb_mac_is_device(link->mac);
    link->speed_mbit_per_s = speed_of(link->name);
    if (link->kind == EB_LINK_WIRELESS)
        link->quality_percent = quality_of(link->name);
    d->indexes[d->count++] = info->ifi_index;
    return MNL_CB_OK;
}

static struct eb_link *link_of(const struct dump *d, int index)
{
    for (size_t i = 0; i < d->count; i++) {
        if (d->indexes[i] == index)
            return &d->links[i];
    }
    return NULL;
}

static int take_address(const struct nlmsghdr *message, void *data)
{
    const struct ifaddrmsg *info = mnl_nlmsg_get_payload(message);
    const struct attributes all = attributes_of(message, sizeof *info);
    struct eb_link *link = link_of(data, (int)info->ifa_index);
    const void *own = value_of(&all, IFA_LOCAL, 4); /* the other one is the peer's on point-to-point links */
    if (own == NULL)
        own = value_of(&all, IFA_ADDRESS, 4);
    if (info->ifa_family != AF_INET || link == NULL || own == NULL || link->count == EB_LINK_ADDRESSES_MAX)
        return MNL_CB_OK;
    struct eb_link_address *address = &link->addresses[link->count++];
    memcpy(address->ip, own, sizeof address->ip);
    address->prefix = info->ifa_prefixlen;
    return MNL_CB_OK;
}

static int take_route(const struct nlmsghdr *message, void *data)
{
    const struct rtmsg *info = mnl_nlmsg_get_payload(message);
    const struct attributes all = attributes_of(message, sizeof *info);
    const uint32_t *index = value_of(&all, RTA_OIF, sizeof *index);
    const void *router = value_of(&all, RTA_GATEWAY, 4);
    struct eb_link *link = index != NULL ? link_of(data, (int)*index) : NULL;
    if (info->rtm_family != AF_INET || info->rtm_dst_len != 0 || info->rtm_table != RT_TABLE_MAIN ||
        link == NULL)
        return MNL_CB_OK;
    link->default_route = true;
    if (router != NULL)
        memcpy(link->router, router, sizeof link->router);
    return MNL_CB_OK;
}

size_t ebi_linux_links(void *self, struct eb_link *links, size_t cap)
{
    (void)self;
    struct dump d = {.links = links, .cap = cap};
    dump(RTM_GETLINK, AF_UNSPEC, take_link, &d);
    dump(RTM_GETADDR, AF_INET, take_address, &d);
    dump(RTM_GETROUTE, AF_INET, take_route, &d);
    return d.count;
}

/* --- neighbours ---------------------------------------------------------------------------------- */

static int take_neighbour(const struct nlmsghdr *message, void *data)
{
    struct dump *d = data;
    const struct ndmsg *info = mnl_nlmsg_get_payload(message);
    const struct attributes all = attributes_of(message, sizeof *info);
    const void *ip = value_of(&all, NDA_DST, 4);
    const void *mac = value_of(&all, NDA_LLADDR, EB_MAC_BYTES);
    unsigned answered = NUD_REACHABLE | NUD_STALE | NUD_DELAY | NUD_PROBE;
    if (info->ndm_ifindex != d->index || (info->ndm_state & answered) == 0 || ip == NULL || mac == NULL ||
        d->count == d->cap)
        return MNL_CB_OK;
    memcpy(d->neighbours[d->count].ip, ip, 4);
    memcpy(d->neighbours[d->count++].mac, mac, EB_MAC_BYTES);
    return MNL_CB_OK;
}

size_t ebi_linux_neighbours(void *self, const char *link, struct eb_neighbour *list, size_t cap)
{
    (void)self;
    struct dump d = {.neighbours = list, .cap = cap, .index = (int)if_nametoindex(link)};
    dump(RTM_GETNEIGH, AF_INET, take_neighbour, &d);
    return d.count;
}

/* --- addresses ----------------------------------------------------------------------------------- */

static enum eb_status change_address(uint16_t type, uint16_t flags, const char *link,
                                     const struct eb_link_address *address)
{
    char buffer[256];
    struct nlmsghdr *request = request_of(buffer, type, flags | NLM_F_ACK);
    struct ifaddrmsg *info = mnl_nlmsg_put_extra_header(request, sizeof *info);
    info->ifa_family = AF_INET;
    info->ifa_prefixlen = address->prefix;
    info->ifa_index = if_nametoindex(link);
    mnl_attr_put(request, IFA_LOCAL, sizeof address->ip, address->ip);
    mnl_attr_put(request, IFA_ADDRESS, sizeof address->ip, address->ip);
    if (type == RTM_NEWADDR && address->prefix < 31) {
        uint8_t all[4];
        for (int i = 0; i < 4; i++) {
            int ones = address->prefix - 8 * i;
            uint8_t hosts = (uint8_t)(ones >= 8 ? 0 : ones <= 0 ? 0xFF : 0xFF >> ones);
            all[i] = address->ip[i] | hosts;
        }
        mnl_attr_put(request, IFA_BROADCAST, sizeof all, all);
    }
    int problem = ask(request, NULL, NULL);
    return problem == 0 ? EB_OK : problem == EPERM || problem == EACCES ? EB_DENIED : EB_IO;
}

enum eb_status ebi_linux_address_add(void *self, const char *link, const struct eb_link_address *address)
{
    (void)self;
    return change_address(RTM_NEWADDR, NLM_F_CREATE | NLM_F_EXCL, link, address);
}

enum eb_status ebi_linux_address_remove(void *self, const char *link, const struct eb_link_address *address)
{
    (void)self;
    return change_address(RTM_DELADDR, 0, link, address);
}
