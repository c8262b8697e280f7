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

/* Takes what came to one of the two sockets: requests come to the first, a transfer has one of its own. */
static void receive_all(const struct eb_port *port, int socket, int *transfer, struct eb_tftp_serve *serve)
{
    uint8_t bytes[REQUESTS][REQUEST_BYTES];
    struct eb_datagram came[REQUESTS];
    size_t received = REQUESTS;
    while (received == REQUESTS) {
        for (size_t i = 0; i < REQUESTS; i++)
            came[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = REQUEST_BYTES};
        if (port->udp->receive(port->self, socket, came, REQUESTS, &received) != EB_OK)
            return;
        for (size_t i = 0; i < received; i++) {
            uint64_t now_us = eb_port_now_us(port);
            if (socket == *transfer) {
                eb_tftp_serve_receive(serve, &came[i].peer, came[i].bytes, came[i].size_bytes, now_us);
            } else if (eb_tftp_serve_request(serve, &came[i].peer, came[i].bytes, came[i].size_bytes,
                                             now_us)) {
                if (*transfer != EB_NO_HANDLE)
                    port->udp->close(port->self, *transfer);
                if (port->udp->open(port->self, NULL, NULL, transfer) != EB_OK)
                    *transfer = EB_NO_HANDLE;
            }
        }
    }
}

static enum eb_status serve_one(const struct eb_port *port, uint16_t at, struct eb_tftp_serve *serve)
{
    const struct eb_udp_options here = {.local_port = at};
    int requests;
    int transfer = EB_NO_HANDLE;
    enum eb_status status = port->udp->open(port->self, NULL, &here, &requests);
    if (status != EB_OK)
        return status;
    puts("ready");
    fflush(stdout);
    while (runs(serve)) {
        send_all(port, transfer != EB_NO_HANDLE ? transfer : requests, serve);
        eb_port_wait(port, eb_tftp_serve_deadline_us(serve));
        receive_all(port, requests, &transfer, serve);
        if (transfer != EB_NO_HANDLE)
            receive_all(port, transfer, &transfer, serve);
        eb_tftp_serve_tick(serve, eb_port_now_us(port));
    }
    if (transfer != EB_NO_HANDLE)
        port->udp->close(port->self, transfer);
    port->udp->close(port->self, requests);
    return serve->state == EB_TFTP_SERVE_DONE ? EB_OK : serve->error.status;
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
    const struct eb_source source = {file, (uint64_t)ftell(file), read_file};
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
