/* A simulated controller: flash, loader, program, power, and what it answers and says on its wire.  It judges
 * what it receives by the standards, in code of its own, and sees the network only through struct sim_net. */
#ifndef EBI_SIM_DEVICE_H
#define EBI_SIM_DEVICE_H

#include "can_node.h"
#include "einbau/sim.h"
#include "usb_device.h"

enum {
    SIM_COMPONENTS_MAX = EB_COMPONENTS_MAX,
    SIM_BANKS_MAX = 2,
    SIM_CONNECTIONS_MAX = 4, /* at once, as small devices have it */
    SIM_RX_BYTES = 512
};

struct sim_device;

/* The network as a device sees it.  Handles are the network's. */
struct sim_net {
    void *self;
    uint64_t (*now_us)(void *self);
    int (*udp_bind)(void *self, struct sim_device *device, uint16_t port); /* 0: any free one */
    void (*udp_send)(void *self, int handle, const struct eb_endpoint *to, const uint8_t *bytes, size_t size);
    void (*udp_unbind)(void *self, int handle);
    void (*tcp_send)(void *self, int connection, const uint8_t *bytes, size_t size);
    void (*tcp_close)(void *self, int connection);
    /* From one of its well-known ports, to one address or a group. */
    void (*udp_send_from)(void *self, struct sim_device *device, uint16_t port, const struct eb_endpoint *to,
                          const uint8_t *bytes, size_t size);
    /* A whole Ethernet frame; NULL on wires that carry none. */
    void (*frame_send)(void *self, struct sim_device *device, const uint8_t *frame, size_t size);
    /* The device is there for the network, or gone with all its connections. */
    void (*set_alive)(void *self, struct sim_device *device, bool alive);
};

/* The head of an image as these devices define it; all numbers little-endian.
 *   0  8 bytes "EBIMAGE1"     8  u32 bytes of the whole image    12  u32 CRC-32 of everything from byte 16
 *  16  16 bytes product      32  16 bytes component              48  16 bytes version, texts filled up with
 * NUL 64  the program */
enum { SIM_IMAGE_HEAD_BYTES = 64 };

struct sim_component {
    char name[EB_NAME_BYTES];
    char file_name[EB_FILE_NAME_BYTES];
    char product[17];                        /* only a program for this product starts; empty: any does */
    uint8_t version_object, checksum_object; /* Modbus objects, 0: none */
    size_t capacity;
    int banks;
    /* remembered */
    uint8_t *bank[SIM_BANKS_MAX];
    int active;
    bool pending; /* the other bank was written and is tried at the next start */
    /* found at the last start */
    bool valid;
    char version[17];
    uint32_t checksum;
};

enum sim_push_state { SIM_PUSH_NONE, SIM_PUSH_ERASING, SIM_PUSH_RECEIVING, SIM_PUSH_DALLYING };

/* A TFTP transfer into the device; one at a time. */
struct sim_push {
    enum sim_push_state state;
    struct sim_component *component;
    uint8_t *bank;
    int handle;
    struct eb_endpoint peer;
    uint8_t first_reply[96]; /* OACK or ACK 0 */
    size_t first_reply_size;
    size_t blksize;
    uint32_t windowsize;
    uint64_t interval_us;
    uint64_t expected; /* next block, without rollover */
    uint32_t in_window;
    size_t received;
    bool acked_gap;
    bool ack_due; /* when the flash is written, at busy_until_us */
    uint64_t began_us, busy_until_us, timer_us;
    uint32_t tries;
};

/* A TFTP transfer out of the device, where what was written can be read back. */
struct sim_pull {
    int handle; /* EB_NO_HANDLE: there is none */
    struct eb_endpoint peer;
    const uint8_t *bank;
    size_t size, blksize;
    uint32_t windowsize;
    uint64_t acked; /* blocks */
    uint32_t tries;
    uint64_t timer_us;
    uint8_t *block;
};

struct sim_connection {
    int handle; /* EB_NO_HANDLE: free */
    uint16_t port;
    uint8_t rx[SIM_RX_BYTES];
    size_t rx_size;
};

enum sim_options { SIM_OPTIONS_TAKEN, SIM_OPTIONS_IGNORED, SIM_OPTIONS_REFUSED, SIM_OPTIONS_DROPPED };
enum sim_writable { SIM_WRITABLE_ALWAYS, SIM_WRITABLE_STOPPED, SIM_WRITABLE_LOADER };

/* What a device speaks: bits of `speaks`. */
enum sim_speaks {
    SIM_MODBUS = 1,
    SIM_TFTP = 2,
    SIM_DCP = 4,
    SIM_CIP = 8,
    SIM_DNS_SD = 16,
    SIM_SNMP = 32,
    SIM_LLDP = 64
};

/* How it comes by an address: it has one for good, or asks for one and gets none here. */
enum sim_asks { SIM_ASKS_NOT, SIM_ASKS_DHCP, SIM_ASKS_BOOTP };

/* What can be set in a device. */
struct sim_settings {
    uint8_t ip[4]; /* zeros: none */
    uint8_t prefix;
    uint8_t router[4];
    bool dhcp;
    char name[241]; /* of the station */
};

enum { SIM_DNS_TEXTS_MAX = 6 };

/* How often it restarts where it is asked to once. */
enum sim_restarts { SIM_RESTARTS_ONCE, SIM_RESTARTS_TWICE, SIM_RESTARTS_NEVER };

/* What the standards leave to a device, and what devices are known to do beside them; all zero: as expected.
 */
struct sim_conduct {
    enum sim_restarts restarts;
    uint32_t restart_delay_ms; /* a restart that is asked for begins that late */
    bool restarts_itself;      /* behind the last block of a transfer, without being asked */
    bool no_last_ack;          /* that block is never acknowledged */
    bool tells_written;        /* it tells the version in the memory that was written, before it runs */
    bool starts_stopped;       /* after a restart its program waits to be started */
    bool closes_connections;   /* TCP, behind each answer */
    bool readable;             /* what was written can be read back */
    uint32_t busy_ms;          /* refuses to be written for that long since it was asked first */
    uint32_t answer_delay_ms;  /* over TCP */
    uint32_t bad_byte_at;      /* one more than the place of a byte of the memory that does not hold what is
                                * written; 0: none */
    char loader_serial[EB_NAME_BYTES]; /* what the loader tells; empty: the device's own, like the next */
    char later_serial[EB_NAME_BYTES];  /* what the program tells after a restart */
};

struct sim_device {
    char name[EB_NAME_BYTES];
    char wire[EB_NAME_BYTES];
    struct eb_endpoint address; /* port not used; zeros: none */
    bool placed;                /* it has the network's address, whatever is set */
    uint8_t mac[EB_MAC_BYTES];
    struct sim_settings set;    /* what holds now; `address` follows it */
    struct sim_settings saved;  /* what holds after the next start */
    struct sim_settings wanted; /* written to the registers, not taken up yet */
    enum sim_asks asks;
    unsigned speaks;
    struct eb_identity identity;
    uint16_t vendor_id, product_id;        /* in the lists of PROFINET and EtherNet/IP */
    char service[64];                      /* of DNS-SD: "_pa._tcp" */
    char dns_texts[SIM_DNS_TEXTS_MAX][64]; /* "key=value"; "{firmware}" stands for a component's version */
    char community[EB_NAME_BYTES];
    uint32_t lldp_interval_s;
    unsigned blinks; /* how often it was asked to */
    bool lamp;       /* switched on by Modbus */
    uint16_t modbus_port, tftp_port;
    uint8_t unit;
    uint8_t objects_per_answer; /* 0: as many as fit */
    bool babbles;               /* answers with bytes that are no Modbus, for tests */

    enum sim_options options;
    uint16_t blksize_max, windowsize_max;
    bool rollover_to_one;
    enum sim_writable writable;
    bool checks_crc;
    uint32_t erase_ms;
    uint32_t write_bytes_per_s; /* 0: at once */
    uint32_t down_ms, boot_ms;

    struct sim_component components[SIM_COMPONENTS_MAX];
    size_t count;
    struct sim_conduct conduct;

    /* remembered */
    enum eb_sim_mode mode;
    bool wants_loader; /* at the next start */
    /* the rest is gone with the power */
    uint64_t restart_us;           /* EB_NEVER: none is due */
    bool restarted, restart_again; /* since the beginning; once more, behind the next start */
    unsigned starts;               /* since the beginning */
    uint64_t started_us;
    uint64_t busy_since_us; /* 0: no request yet */
    struct {
        int connection;
        uint8_t bytes[SIM_RX_BYTES];
        size_t size;
        uint64_t at_us; /* EB_NEVER: none is due */
    } late;             /* the answer that comes late */
    uint64_t boot_until_us;
    uint64_t power_back_us;
    uint32_t arrives_after_s,
        leaves_after_s; /* somebody plugs it in, or pulls it, that long after the beginning */
    uint32_t
        switch_after_s; /* somebody turns its service switch that long after the beginning; 0: nobody does */
    uint64_t leaves_us;
    uint64_t lldp_us, ask_us; /* when it next says so */
    uint64_t set_us;          /* when `wanted` is taken up; EB_NEVER: not */
    struct sim_push push;
    struct sim_pull pull;
    struct sim_connection connections[SIM_CONNECTIONS_MAX];
    struct sim_can can;
    struct sim_usb usb;
    struct eb_sim *sim;
    const struct sim_net *net;
    void *net_slot; /* the network's own */
};

enum {
    SIM_REGISTER_CONTROL = 0x1000,
    SIM_REGISTER_STATE = 0x1001,
    SIM_REGISTER_LAMP = 0x1002,
    SIM_REGISTER_SWITCH = 0x1003, /* 1 once somebody has turned it */
    SIM_REGISTER_STARTS = 0x1004, /* how often it has started */
    SIM_REGISTER_UPTIME = 0x1005, /* hundredths of a second since it started; two */
    SIM_COIL_LAMP = 16,
    SIM_REGISTER_ADDRESS = 0x1010, /* two each */
    SIM_REGISTER_MASK = 0x1012,
    SIM_REGISTER_ROUTER = 0x1014,
    SIM_REGISTER_DHCP = 0x1016,
    SIM_REGISTER_NAME = 0x1020, /* two characters each */
    SIM_NAME_REGISTERS = 8,
    SIM_CONTROL_START = 1,
    SIM_CONTROL_STOP = 2,
    SIM_CONTROL_RESTART = 3,
    SIM_CONTROL_LOADER = 4,
    SIM_CONTROL_TAKE_UP = 5, /* the settings in the registers, for good */
    SIM_STATE_RUNNING = 1,
    SIM_STATE_STOPPED = 2,
    SIM_STATE_LOADER = 3,
    SIM_OBJECT_STATE = 0x80,
    SIM_OBJECT_SERIAL = 0x81,
    SIM_OBJECT_HARDWARE_REVISION = 0x82
};

/* Power comes on: the device starts on `net`. */
void sim_device_start(struct sim_device *device, const struct sim_net *net);
void sim_device_power(struct sim_device *device, bool on);
bool sim_device_alive(const struct sim_device *device);

/* Whether a start after now would find a program: sets what is found of each component. */
void sim_device_examine(struct sim_device *device);
void sim_component_examine(const struct sim_device *device, struct sim_component *component);

/* What the network brings.  Connections beyond SIM_CONNECTIONS_MAX are closed. */
void sim_device_datagram(struct sim_device *device, int handle, uint16_t port, const struct eb_endpoint *from,
                         const uint8_t *bytes, size_t size);
void sim_device_frame(struct sim_device *device, const uint8_t *frame, size_t size);
void sim_device_connected(struct sim_device *device, int handle, uint16_t port);
void sim_device_stream(struct sim_device *device, int handle, const uint8_t *bytes, size_t size);
void sim_device_disconnected(struct sim_device *device, int handle);

/* Whether it listens there. */
bool sim_device_listens(const struct sim_device *device, bool tcp, uint16_t port);
bool sim_device_has_ip(const struct sim_device *device);
/* Whether it takes an address as one of its own subnet. */
bool sim_device_covers(const struct sim_device *device, const uint8_t ip[4]);

/* Lets time pass; and when it next matters. */
void sim_device_tick(struct sim_device *device);
uint64_t sim_device_deadline_us(const struct sim_device *device);

/* --- between the device's own files --- */
void sim_device_restart(struct sim_device *device, bool into_loader, uint64_t delay_us);

void sim_push_request(struct sim_device *device, int handle, const struct eb_endpoint *from,
                      const uint8_t *bytes, size_t size);
void sim_push_receive(struct sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                      size_t size);
void sim_push_tick(struct sim_device *device);
uint64_t sim_push_deadline_us(const struct sim_device *device);
void sim_push_power_lost(struct sim_device *device);

/* pull.c; false: it is not for that */
bool sim_pull_request(struct sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                      size_t size);
bool sim_pull_receive(struct sim_device *device, int handle, const struct eb_endpoint *from,
                      const uint8_t *bytes, size_t size);
void sim_pull_tick(struct sim_device *device);
uint64_t sim_pull_deadline_us(const struct sim_device *device);
void sim_pull_end(struct sim_device *device);

/* Takes settings up now, and keeps them where they are `permanent`. */
void sim_device_set(struct sim_device *device, const struct sim_settings *settings, bool permanent);

/* What it tells as its serial number now. */
const char *sim_device_serial(const struct sim_device *device);
/* Whether it refuses to be written now, as it is busy. */
bool sim_device_busy(struct sim_device *device);
/* An answer over TCP, now or late, and the connection's end where it closes each. */
void sim_device_answer(struct sim_device *device, struct sim_connection *connection, const uint8_t *bytes,
                       size_t size);
/* Writes into the memory of a component, at `to` of its bank. */
void sim_device_write(const struct sim_device *device, const uint8_t *bank, uint8_t *to, const uint8_t *bytes,
                      size_t size);

/* The version of a component as its flash says, "" where none runs. */
const char *sim_device_version(const struct sim_device *device, size_t component);

/* ether.c: ARP, DCP, LLDP, asking for an address */
void sim_ether_frame(struct sim_device *device, const uint8_t *frame, size_t size);
void sim_ether_tick(struct sim_device *device);
uint64_t sim_ether_deadline_us(const struct sim_device *device);
void sim_ether_group_mac(const uint8_t ip[4], uint8_t mac[EB_MAC_BYTES]);
/* cip_server.c, snmp_server.c, dns_sd_server.c */
void sim_cip_datagram(struct sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                      size_t size);
void sim_cip_stream(struct sim_device *device, struct sim_connection *connection, const uint8_t *bytes,
                    size_t size);
void sim_snmp_datagram(struct sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                       size_t size);
void sim_dns_sd_datagram(struct sim_device *device, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size);

void sim_modbus_stream(struct sim_device *device, struct sim_connection *connection, const uint8_t *bytes,
                       size_t size);

#endif
