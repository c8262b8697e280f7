/* Reads what one node on a CANopen bus says of itself, with nothing but the SDO engine and a port.
 *
 *   read_node /dev/ttyACM0 250000 11      by a serial adapter
 *   read_node can0 0 11                   by a CAN interface, at the bit rate that it has */
#include <einbau/host.h>

#include <stdio.h>
#include <stdlib.h>

enum { NAME = 0x1008, HARDWARE = 0x1009, SOFTWARE = 0x100A, IDENTITY = 0x1018, PATIENCE_US = 1000000 };

/* Moves frames between the engine and the bus until the object is read, or not. */
static void work(const struct eb_port *port, int handle, struct eb_sdo *sdo)
{
    struct eb_can_frame frames[16];
    size_t count;
    while (sdo->state == EB_SDO_BUSY) {
        uint64_t now_us = eb_port_now_us(port);
        while (port->can->receive(port->self, handle, frames, 16, &count) == EB_OK) {
            for (size_t i = 0; i < count; i++)
                eb_sdo_receive(sdo, &frames[i], now_us);
        }
        eb_sdo_tick(sdo, now_us);
        count = eb_sdo_give(sdo, frames, 16);
        eb_sdo_taken(sdo, count > 0 ? port->can->send(port->self, handle, frames, count) : 0, now_us);
        if (sdo->state == EB_SDO_BUSY)
            eb_port_wait(port, eb_sdo_deadline_us(sdo));
    }
}

int main(int argc, char **argv)
{
    static const struct {
        const char *name;
        uint16_t index;
        uint8_t sub;
        bool number;
    } objects[] = {{"name", NAME, 0, false},
                   {"hardware version", HARDWARE, 0, false},
                   {"software version", SOFTWARE, 0, false},
                   {"serial number", IDENTITY, 4, true}};
    if (argc != 4) {
        fputs("usage: read_node ADAPTER BIT-RATE NODE\n", stderr);
        return 2;
    }
    const struct eb_port *port = eb_port_linux_open();
    if (port == NULL)
        return 2;
    const struct eb_can_options options = {.link = argv[1], .bit_rate = (uint32_t)strtoul(argv[2], NULL, 10)};
    struct eb_sdo sdo;
    int handle;
    enum eb_status status = port->can->open(port->self, NULL, &options, &handle);
    if (status != EB_OK) {
        fprintf(stderr, "%s: %s\n", argv[1], eb_status_word(status));
        eb_port_linux_close(port);
        return 2;
    }
    int failed = 0;
    eb_sdo_init(&sdo, (uint8_t)strtoul(argv[3], NULL, 10));
    for (size_t i = 0; i < sizeof objects / sizeof objects[0]; i++) {
        uint8_t bytes[64];
        char text[64];
        eb_sdo_read(&sdo, objects[i].index, objects[i].sub, EB_SDO_SEGMENTED, bytes, sizeof bytes - 1,
                    PATIENCE_US, eb_port_now_us(port));
        work(port, handle, &sdo);
        if (sdo.state == EB_SDO_FAILED) {
            printf("%s: %s\n", objects[i].name, sdo.error.text);
            failed = 1;
        } else if (objects[i].number) {
            printf("%s: %u\n", objects[i].name,
                   bytes[0] | (unsigned)bytes[1] << 8 | (unsigned)bytes[2] << 16 | (unsigned)bytes[3] << 24);
        } else {
            eb_text_copy_foreign(text, sizeof text, bytes, sdo.size);
            printf("%s: %s\n", objects[i].name, text);
        }
    }
    port->can->close(port->self, handle);
    eb_port_linux_close(port);
    return failed;
}
