/* Pushes one file to a TFTP server or a device, and says how fast that was.
 *
 *   push_image 192.0.2.10 69 regent.bin regent.fw 1428 16
 *
 * 0 for the two sizes: what the path carries, and what suits its round trip, whose microseconds may be told
 * behind them.
 *
 * Shows the engine on its own: it does no input or output, the loop below carries its datagrams. */
#include <einbau/host.h>

#include <stdio.h>
#include <stdlib.h>

enum { BUFFER_BYTES = 1 << 20, ANSWER_BYTES = 600, ANSWERS = 4 };

static uint8_t buffer[BUFFER_BYTES];

static enum eb_status read_file(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    FILE *file = self;
    if (ftell(file) != (long)offset && fseek(file, (long)offset, SEEK_SET) != 0)
        return EB_IO;
    return fread(to, 1, size, file) == size ? EB_OK : EB_IO;
}

/* About one burst; whether there is more that can go out now. */
static bool send_some(const struct eb_port *port, int socket, struct eb_tftp_put *put)
{
    struct eb_datagram burst[EB_BURST_MAX];
    size_t total = 0;
    size_t given;
    size_t sent;
    do {
        given = eb_tftp_put_give(put, burst, EB_BURST_MAX, eb_port_now_us(port));
        sent = given > 0 ? port->udp->send(port->self, socket, burst, given) : 0;
        eb_tftp_put_taken(put, sent, eb_port_now_us(port));
        total += sent;
    } while (given > 0 && sent == given && total < EB_BURST_MAX);
    return total >= EB_BURST_MAX;
}

static void receive_all(const struct eb_port *port, int socket, struct eb_tftp_put *put)
{
    uint8_t bytes[ANSWERS][ANSWER_BYTES];
    struct eb_datagram answers[ANSWERS];
    size_t received = ANSWERS;
    while (received == ANSWERS) {
        for (size_t i = 0; i < ANSWERS; i++)
            answers[i] = (struct eb_datagram){.bytes = bytes[i], .size_bytes = ANSWER_BYTES};
        if (port->udp->receive(port->self, socket, answers, ANSWERS, &received) != EB_OK)
            return;
        for (size_t i = 0; i < received; i++)
            eb_tftp_put_receive(put, &answers[i].peer, answers[i].bytes, answers[i].size_bytes,
                                eb_port_now_us(port));
    }
}

static enum eb_status push(const struct eb_port *port, const struct eb_tftp_put_config *config,
                           struct eb_tftp_put *put)
{
    int socket;
    enum eb_status status = eb_tftp_put_init(put, config, eb_port_now_us(port));
    if (status != EB_OK)
        return status;
    status = port->udp->open(port->self, NULL, NULL, &socket);
    if (status != EB_OK)
        return status;
    while (put->state == EB_TFTP_ASKING || put->state == EB_TFTP_SENDING) {
        bool more = send_some(port, socket, put);
        eb_port_wait(port, more ? 0 : eb_tftp_put_deadline_us(put)); /* an answer may have come meanwhile */
        receive_all(port, socket, put);
        eb_tftp_put_tick(put, eb_port_now_us(port));
    }
    send_some(port, socket, put); /* the farewell of a transfer that failed */
    port->udp->close(port->self, socket);
    return put->state == EB_TFTP_DONE ? EB_OK : put->error.status;
}

int main(int argc, char **argv)
{
    struct eb_tftp_put put;
    struct eb_endpoint server;
    if (argc < 7 || argc > 8 || !eb_endpoint_parse(&server, argv[1])) {
        fputs("usage: push_image ADDRESS PORT FILE NAME BLKSIZE WINDOWSIZE [ROUND-TRIP-US]\n", stderr);
        return 2;
    }
    server.port = (uint16_t)strtoul(argv[2], NULL, 10);
    FILE *file = fopen(argv[3], "rb");
    const struct eb_port *port = eb_port_linux_open();
    if (file == NULL || port == NULL || fseek(file, 0, SEEK_END) != 0) {
        perror(argv[3]);
        return 2;
    }
    uint16_t blksize = (uint16_t)strtoul(argv[5], NULL, 10);
    uint16_t windowsize = (uint16_t)strtoul(argv[6], NULL, 10);
    const struct eb_source source = {.self = file, .size_bytes = (uint64_t)ftell(file), .read = read_file};
    uint32_t mtu = port->udp->mtu_bytes(port->self, &server);
    if (blksize == 0)
        blksize = (uint16_t)(mtu - EB_TFTP_OVERHEAD_BYTES < EB_TFTP_BLKSIZE_MAX ? mtu - EB_TFTP_OVERHEAD_BYTES
                                                                                : EB_TFTP_BLKSIZE_MAX);
    uint32_t round_trip_us = argc > 7 ? (uint32_t)strtoul(argv[7], NULL, 10) : 0;
    if (windowsize == 0)
        windowsize = eb_tftp_window(blksize, round_trip_us, source.size_bytes, 0);
    const struct eb_tftp_put_config config = {
        .server = server,
        .file_name = argv[4],
        .source = source,
        .blksize = blksize,
        .windowsize = windowsize,
        .tsize = true,
        .round_trip_us = round_trip_us,
        .patience_us = 20000000,
        .buffer = buffer,
        .buffer_bytes = sizeof buffer,
    };
    uint64_t began_us = eb_port_now_us(port);
    enum eb_status status = push(port, &config, &put);
    uint64_t took_us = eb_port_now_us(port) - began_us + 1;
    if (status == EB_OK)
        printf("%llu bytes in %.3f s, %.1f MB/s, blocks of %u, windows of %u, %llu repeated\n",
               (unsigned long long)config.source.size_bytes, (double)took_us / 1e6,
               (double)config.source.size_bytes / (double)took_us, put.blksize, put.windowsize,
               (unsigned long long)put.repeated);
    else
        fprintf(stderr, "%s: %s %s\n", put.error.where, eb_status_word(status), put.error.text);
    fclose(file);
    eb_port_linux_close(port);
    return status == EB_OK ? 0 : 1;
}
