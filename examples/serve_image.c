/* Serves one file by TFTP to one device, until the device has pulled it.
 *
 *   serve_image 192.0.2.10 6969 panel.bin panel.fw 1468 16
 *
 * Shows the engine on its own: it knows no files and does no input or output, the loop below carries its
 * datagrams.  Port 69, where loaders ask, needs a permission. */
#include <einbau/host.h>
#include <einbau/tftp_serve.h>

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { BUFFER_BYTES = 1 << 20, REQUEST_BYTES = 600, REQUESTS = 4 };

static uint8_t buffer[BUFFER_BYTES];

static enum eb_status read_file(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    FILE *file = self;
    if (ftell(file) != (long)offset && fseek(file, (long)offset, SEEK_SET) != 0)
        return EB_IO;
    return fread(to, 1, size, file) == size ? EB_OK : EB_IO;
}

/* What a wait has found: which of the two sockets has something. */
struct seen {
    struct eb_waiter waiter;
    bool came;
};

static void on_ready(struct eb_waiter *waiter)
{
    ((struct seen *)waiter)->came = true;
}

static bool runs(const struct eb_tftp_serve *serve)
{
    return serve->state != EB_TFTP_SERVE_DONE && serve->state != EB_TFTP_SERVE_FAILED;
}

static void send_all(const struct eb_port *port, int socket, struct eb_tftp_serve *serve)
{
    struct eb_datagram burst[EB_BURST_MAX];
    size_t given;
    size_t sent;
    do {
        given = eb_tftp_serve_give(serve, burst, EB_BURST_MAX);
        sent = given > 0 ? port->udp->send(port->self, socket, burst, given) : 0;
        eb_tftp_serve_taken(serve, sent, eb_port_now_us(port));
    } while (given > 0 && sent == given);
}

/* One server: requests come to the first of its two sockets, a transfer has one of its own. */
struct server {
    const struct eb_port *port;
    struct eb_tftp_serve *serve;
    struct seen asked, answered;
    int requests, transfer;
};

static enum eb_status open_transfer(struct server *s)
{
    if (s->transfer != EB_NO_HANDLE)
        s->port->udp->close(s->port->self, s->transfer);
    s->transfer = EB_NO_HANDLE;
    return s->port->udp->open(s->port->self, &s->answered.waiter, NULL, &s->transfer);
}

static enum eb_status receive_from(struct server *s, struct seen *seen)
{
    uint8_t bytes[REQUESTS][REQUEST_BYTES];
    struct eb_datagram came[REQUESTS];
    size_t received = 0;
    enum eb_status status = EB_OK;
    for (size_t i = 0; i < REQUESTS; i++)
        came[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = REQUEST_BYTES};
    s->port->udp->receive(s->port->self, seen == &s->asked ? s->requests : s->transfer, came, REQUESTS,
                          &received);
    seen->came = received == REQUESTS; /* then there may be more */
    for (size_t i = 0; i < received && status == EB_OK; i++) {
        const struct eb_datagram *d = &came[i];
        uint64_t now_us = eb_port_now_us(s->port);
        if (seen == &s->answered)
            eb_tftp_serve_receive(s->serve, &d->peer, d->bytes, d->size_bytes, now_us);
        else if (eb_tftp_serve_request(s->serve, &d->peer, d->bytes, d->size_bytes, now_us))
            status = open_transfer(s);
    }
    return status;
}

static enum eb_status serve_one(const struct eb_port *port, uint16_t at, struct eb_tftp_serve *serve)
{
    const struct eb_udp_options here = {.local_port = at};
    struct server s = {.port = port,
                       .serve = serve,
                       .asked = {.waiter.ready = on_ready},
                       .answered = {.waiter.ready = on_ready},
                       .transfer = EB_NO_HANDLE};
    enum eb_status status = port->udp->open(port->self, &s.asked.waiter, &here, &s.requests);
    if (status != EB_OK)
        return status;
    puts("ready");
    fflush(stdout);
    while (runs(serve) && status == EB_OK) {
        send_all(port, s.transfer != EB_NO_HANDLE ? s.transfer : s.requests, serve);
        if (!s.asked.came && !s.answered.came)
            eb_port_wait(port, eb_tftp_serve_deadline_us(serve));
        if (s.asked.came)
            status = receive_from(&s, &s.asked);
        if (s.answered.came && status == EB_OK)
            status = receive_from(&s, &s.answered);
        eb_tftp_serve_tick(serve, eb_port_now_us(port));
    }
    if (s.transfer != EB_NO_HANDLE)
        port->udp->close(port->self, s.transfer);
    port->udp->close(port->self, s.requests);
    return status != EB_OK ? status : serve->state == EB_TFTP_SERVE_DONE ? EB_OK : serve->error.status;
}

int main(int argc, char **argv)
{
    static struct eb_tftp_serve serve;
    struct eb_endpoint device;
    if (argc != 7 || !eb_endpoint_parse(&device, argv[1])) {
        fputs("usage: serve_image DEVICE PORT FILE NAME BLKSIZE WINDOWSIZE\n", stderr);
        return 2;
    }
    FILE *file = fopen(argv[3], "rb");
    const struct eb_port *port = eb_port_linux_open();
    if (file == NULL || port == NULL || fseek(file, 0, SEEK_END) != 0) {
        perror(argv[3]);
        return 2;
    }
    const struct eb_source source = {.self = file, .size_bytes = (uint64_t)ftell(file), .read = read_file};
    struct eb_tftp_serve_config config = {
        .name = argv[4],
        .source = &source,
        .blksize = (uint16_t)strtoul(argv[5], NULL, 10),
        .windowsize = (uint16_t)strtoul(argv[6], NULL, 10),
        .patience_us = 20000000,
        .buffer = buffer,
        .buffer_bytes = sizeof buffer,
    };
    memcpy(config.ip, device.ip, sizeof config.ip);
    eb_tftp_serve_init(&serve, &config);
    enum eb_status status = serve_one(port, (uint16_t)strtoul(argv[2], NULL, 10), &serve);
    if (status == EB_OK)
        printf("%llu bytes%s\n", (unsigned long long)serve.acked_bytes,
               serve.last_unanswered ? ", but the last block was not acknowledged" : "");
    else
        fprintf(stderr, "%s: %s %s\n", serve.error.where, eb_status_word(status), serve.error.text);
    fclose(file);
    eb_port_linux_close(port);
    return status == EB_OK ? 0 : 1;
}
