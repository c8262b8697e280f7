/* A link between a TFTP client and its server, on real sockets of the loopback: so many bits a second in each
 * direction, a delay, losses that strike anywhere, and a switch's buffer before it: what comes faster is
 * lost.
 *
 *   relay PORT SERVER-PORT MBIT-PER-S RTT-US LOSS-PPM SEED
 *
 * Requests come to PORT of 127.0.0.1.  As by RFC 1350 each transfer has a port of its own at either end: the
 * relay's is the one from which it answers.  One transfer at a time.  Ends with SIGTERM. */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <poll.h>
#include <signal.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum {
    QUEUE = 4096,           /* packets on their way in one direction */
    BACKLOG_BYTES = 256000, /* what a switch keeps for one port; more is lost */
    PACKET_BYTES = 2048,
    FRAME_BYTES = 66, /* what a frame has around a datagram, preamble and gap included */
    ROOM_BYTES = 8 << 20,
    SPIN_NS = 60000 /* a sleep is no more exact */
};

static const uint8_t write_request[2] = {0, 2};

struct packet {
    uint64_t due_ns;
    size_t size;
    uint8_t bytes[PACKET_BYTES];
};

/* One direction. */
struct way {
    struct packet *queue;
    size_t first, count;
    uint64_t free_ns; /* when the link has sent all that came */
    int out;
    struct sockaddr_in to;
};

static double ns_per_byte;
static uint64_t delay_ns;
static uint32_t loss_ppm;
static uint64_t state;

static uint64_t now_ns(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000000 + (uint64_t)t.tv_nsec;
}

static bool is_lost(void)
{
    state ^= state << 13;
    state ^= state >> 7;
    state ^= state << 17;
    return state % 1000000 < loss_ppm;
}

static void take(struct way *way, const uint8_t *bytes, size_t size)
{
    uint64_t now = now_ns();
    uint64_t free = way->free_ns > now ? way->free_ns : now;
    if (way->count == QUEUE || (double)(free - now) > BACKLOG_BYTES * ns_per_byte || is_lost())
        return;
    way->free_ns = free + (uint64_t)((double)(size + FRAME_BYTES) * ns_per_byte);
    struct packet *p = &way->queue[(way->first + way->count++) % QUEUE];
    p->due_ns = way->free_ns + delay_ns;
    p->size = size;
    memcpy(p->bytes, bytes, size);
}

static void let_out(struct way *way)
{
    while (way->count > 0 && way->queue[way->first].due_ns <= now_ns()) {
        const struct packet *p = &way->queue[way->first];
        if (sendto(way->out, p->bytes, p->size, 0, (const struct sockaddr *)&way->to, sizeof way->to) < 0)
            perror("relay");
        way->first = (way->first + 1) % QUEUE;
        way->count--;
    }
}

static struct sockaddr_in loopback(unsigned port)
{
    return (struct sockaddr_in){
        .sin_family = AF_INET, .sin_port = htons((uint16_t)port), .sin_addr = {htonl(INADDR_LOOPBACK)}};
}

static int open_at(unsigned port)
{
    struct sockaddr_in at = loopback(port);
    int room = ROOM_BYTES;
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK, 0);
    if (fd < 0 || bind(fd, (const struct sockaddr *)&at, sizeof at) != 0) {
        perror("relay");
        exit(2);
    }
    setsockopt(fd, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
    return fd;
}

static void wait_for_more(struct pollfd *polled, const struct way *up, const struct way *down)
{
    uint64_t due = UINT64_MAX;
    if (up->count > 0)
        due = up->queue[up->first].due_ns;
    if (down->count > 0 && down->queue[down->first].due_ns < due)
        due = down->queue[down->first].due_ns;
    uint64_t now = now_ns();
    uint64_t wait = due > now ? due - now : 0;
    if (wait < SPIN_NS) {
        poll(polled, 3, 0);
        return;
    }
    struct timespec t = {(time_t)((wait - SPIN_NS / 2) / 1000000000),
                         (long)((wait - SPIN_NS / 2) % 1000000000)};
    ppoll(polled, 3, due == UINT64_MAX ? NULL : &t, NULL);
}

int main(int argc, char **argv)
{
    if (argc != 7 || atoi(argv[3]) < 1) {
        fprintf(stderr, "usage: relay PORT SERVER-PORT MBIT-PER-S RTT-US LOSS-PPM SEED\n");
        return 2;
    }
    unsigned server_port = (unsigned)atoi(argv[2]);
    ns_per_byte = 8000.0 / atoi(argv[3]);
    delay_ns = (uint64_t)atoi(argv[4]) * 1000 / 2;
    loss_ppm = (uint32_t)atoi(argv[5]);
    state = (uint64_t)atoi(argv[6]) * 2654435761U + 88172645463325252U;
    int front = open_at((unsigned)atoi(argv[1]));
    int to_client = open_at(0);
    int to_server = open_at(0);
    struct way up = {
        .queue = calloc(QUEUE, sizeof(struct packet)), .out = to_server, .to = loopback(server_port)};
    struct way down = {.queue = calloc(QUEUE, sizeof(struct packet)), .out = to_client};
    if (up.queue == NULL || down.queue == NULL)
        return 2;
    struct pollfd polled[3] = {{front, POLLIN, 0}, {to_client, POLLIN, 0}, {to_server, POLLIN, 0}};
    puts("ready");
    fflush(stdout);
    for (;;) {
        wait_for_more(polled, &up, &down);
        for (size_t i = 0; i < 3; i++) {
            struct sockaddr_in from;
            socklen_t from_size = sizeof from;
            uint8_t bytes[PACKET_BYTES];
            ssize_t n;
            for (int k = 0; k < 64 && (n = recvfrom(polled[i].fd, bytes, sizeof bytes, 0,
                                                    (struct sockaddr *)&from, &from_size)) > 0;
                 k++) {
                bool request = i == 0 && n > 2 && memcmp(bytes, write_request, 2) == 0;
                bool another = request && (from.sin_port != down.to.sin_port ||
                                           up.to.sin_port == htons((uint16_t)server_port));
                if (another) { /* what is still on its way is of the one before */
                    up.count = down.count = 0;
                    up.to = loopback(server_port);
                    down.to = from;
                }
                if (i == 2)
                    up.to = from; /* the port of this transfer */
                if (i == 2)
                    take(&down, bytes, (size_t)n);
                else if (i == 1 || another)
                    take(&up, bytes, (size_t)n);
            }
        }
        let_out(&up);
        let_out(&down);
    }
}
