/* A simulated controller: flash, loader, program, power, and what it answers and says on its wire.  It judges
 * what it receives by the standards, in code of its own, and sees the network only through struct
 * ebi_sim_net. */
#ifndef EBI_SIM_DEVICE_H
#define EBI_SIM_DEVICE_H

#include "can_node.h"
#include "einbau/sim.h"
#include "usb_device.h"

enum {
    EBI_SIM_COMPONENTS_MAX = EB_COMPONENTS_MAX,
    EBI_SIM_FILES_MAX = 8,
    EBI_SIM_BANKS_MAX = 2,
    EBI_SIM_CONNECTIONS_MAX = 4, /* at once, as small devices have it */
    EBI_SIM_RX_BYTES = 512,
    EBI_SIM_OWN_MAX = 8
};

struct ebi_sim_device;
struct ebi_sim_values;    /* values.h */
struct ebi_sim_documents; /* documents.h */
struct ebi_sim_document;

/* The network as a device sees it.  Handles are the network's. */
struct ebi_sim_net {
    void *self;
    uint64_t (*now_us)(void *self);
    int (*udp_bind)(void *self, struct ebi_sim_device *device, uint16_t port); /* 0: any free one */
    void (*udp_send)(void *self, int handle, const struct eb_endpoint *to, const uint8_t *bytes, size_t size);
    void (*udp_unbind)(void *self, int handle);
    void (*tcp_send)(void *self, int connection, const uint8_t *bytes, size_t size);
    void (*tcp_close)(void *self, int connection);
    /* From one of its well-known ports, to one address or a group. */
    void (*udp_send_from)(void *self, struct ebi_sim_device *device, uint16_t port,
                          const struct eb_endpoint *to, const uint8_t *bytes, size_t size);
    /* A whole Ethernet frame; NULL on wires that carry none. */
    void (*frame_send)(void *self, struct ebi_sim_device *device, const uint8_t *frame, size_t size);
    /* The device is there for the network, or gone with all its connections. */
    void (*set_alive)(void *self, struct ebi_sim_device *device, bool alive);
};

/* The head of an image as these devices define it; all numbers little-endian.
 *   0  8 bytes "EBIMAGE1"     8  u32 bytes of the whole image    12  u32 CRC-32 of everything from byte 16
 *  16  16 bytes product      32  16 bytes component              48  16 bytes version, texts filled up with
 * NUL 64  the program */
enum { EBI_SIM_IMAGE_HEAD_BYTES = 64 };

struct ebi_sim_component {
    char name[EB_NAME_BYTES];
    char file_name[EB_FILE_NAME_BYTES];
    char files[EBI_SIM_FILES_MAX][EB_FILE_NAME_BYTES]; /* it takes these, in this order, in place of one */
    size_t file_count, files_taken;
    size_t filled;                           /* bytes of those that were taken */
    char product[17];                        /* only a program for this product starts; empty: any does */
    uint8_t version_object, checksum_object; /* Modbus objects, 0: none */
    size_t capacity;
    int banks;
    /* remembered */
    uint8_t *bank[EBI_SIM_BANKS_MAX];
    int active;
    bool pending; /* the other bank was written and is tried at the next start */
    /* found at the last start */
    bool valid;
    char version[17];
    uint32_t checksum;
};

enum ebi_sim_push_state {
    EBI_SIM_PUSH_NONE,
    EBI_SIM_PUSH_ERASING,
    EBI_SIM_PUSH_RECEIVING,
    EBI_SIM_PUSH_DALLYING
};

/* A TFTP transfer into the device; one at a time. */
struct ebi_sim_push {
    enum ebi_sim_push_state state;
    struct ebi_sim_component *component;
    struct ebi_sim_document *document; /* what it becomes; NULL: an image of the component */
    struct ebi_sim_device *owner;      /* whose component it is: the device, or a module in its rack */
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
struct ebi_sim_pull {
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

struct ebi_sim_connection {
    int handle; /* EB_NO_HANDLE: free */
    uint16_t port;
    uint8_t rx[EBI_SIM_RX_BYTES];
    size_t rx_size;
};

enum ebi_sim_options {
    EBI_SIM_OPTIONS_TAKEN,
    EBI_SIM_OPTIONS_IGNORED,
    EBI_SIM_OPTIONS_REFUSED,
    EBI_SIM_OPTIONS_DROPPED
};
enum ebi_sim_writable { EBI_SIM_WRITABLE_ALWAYS, EBI_SIM_WRITABLE_STOPPED, EBI_SIM_WRITABLE_LOADER };

/* How it comes by an address: it has one for good, or asks for one and gets none here. */
enum ebi_sim_asks { EBI_SIM_ASKS_NOT, EBI_SIM_ASKS_DHCP, EBI_SIM_ASKS_BOOTP };

/* What can be set in a device. */
struct ebi_sim_settings {
    uint8_t ip[4]; /* zeros: none */
    uint8_t prefix;
    uint8_t router[4];
    bool dhcp;
    char name[241]; /* of the station */
};

enum { EBI_SIM_DNS_TEXTS_MAX = 6 };

/* How often it restarts where it is asked to once. */
enum ebi_sim_restarts { EBI_SIM_RESTARTS_ONCE, EBI_SIM_RESTARTS_TWICE, EBI_SIM_RESTARTS_NEVER };

/* What the standards leave to a device, and what devices are known to do beside them; all zero: as expected.
 */
struct ebi_sim_conduct {
    enum ebi_sim_restarts restarts;
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

struct ebi_sim_device {
    char name[EB_NAME_BYTES];
    char wire[EB_NAME_BYTES];
    struct eb_endpoint address; /* port not used; zeros: none */
    bool placed;                /* it has the network's address, whatever is set */
    uint8_t mac[EB_MAC_BYTES];
    struct ebi_sim_settings set;    /* what holds now; `address` follows it */
    struct ebi_sim_settings saved;  /* what holds after the next start */
    struct ebi_sim_settings wanted; /* written to the registers, not taken up yet */
    enum ebi_sim_asks asks;
    unsigned speaks; /* bit per server of server.h */
    struct eb_identity identity;
    uint16_t vendor_id, product_id; /* in the lists of PROFINET and EtherNet/IP */
    char service[64];               /* of DNS-SD: "_pa._tcp" */
    char dns_texts[EBI_SIM_DNS_TEXTS_MAX]
                  [64]; /* "key=value"; "{firmware}" stands for a component's version */
    char community[EB_NAME_BYTES];
    uint32_t lldp_interval_s;
    unsigned blinks;    /* how often it was asked to */
    bool has_card_slot; /* for a memory card: card_slot.c */
    bool is_manager;    /* of its CANopen network: manager.c */
    bool lamp;          /* switched on by Modbus */
    uint16_t modbus_port, tftp_port;
    uint8_t unit;
    struct ebi_sim_device *rack; /* in whose rack it is: it is reached through that one only; or NULL */
    struct ebi_sim_device *modules, *next_module; /* of its own rack; of the rack that it is in */
    uint8_t slot;                                 /* there: its unit identifier */
    bool silent_slots; /* says nothing for a slot whose module does not answer, in place of exception 11 */
    uint8_t objects_per_answer; /* 0: as many as fit */
    bool babbles;               /* answers with bytes that are no Modbus, for tests */

    enum ebi_sim_options options;
    uint16_t blksize_max, windowsize_max;
    bool rollover_to_one;
    enum ebi_sim_writable writable;
    bool checks_crc;
    uint32_t erase_ms;
    uint32_t write_bytes_per_s; /* 0: at once */
    uint32_t down_ms, boot_ms;

    struct ebi_sim_component components[EBI_SIM_COMPONENTS_MAX];
    size_t count;
    struct ebi_sim_conduct conduct;

    /* remembered */
    struct ebi_sim_values *values;       /* NULL: none */
    struct ebi_sim_documents *documents; /* the same */
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
        uint8_t bytes[EBI_SIM_RX_BYTES];
        size_t size;
        uint64_t at_us; /* EB_NEVER: none is due */
    } late;             /* the answer that comes late */
    uint64_t boot_until_us;
    uint64_t power_back_us;
    uint32_t arrives_after_s, leaves_after_s; /* it is plugged in, or pulled, that long after the beginning */
    uint32_t switch_after_s;   /* its service switch is turned that long after the beginning; 0: never */
    uint16_t service_register; /* of a document: its first word is 1 where an update is allowed; 0: always */
    uint64_t leaves_us;
    uint64_t lldp_us, ask_us; /* when it next says so */
    uint64_t set_us;          /* when `wanted` is taken up; EB_NEVER: not */
    struct ebi_sim_push push;
    struct ebi_sim_pull pull;
    struct ebi_sim_connection connections[EBI_SIM_CONNECTIONS_MAX];
    struct ebi_sim_can can;
    struct ebi_sim_usb usb;
    struct {
        const void *of;
        void *memory;
    } own[EBI_SIM_OWN_MAX]; /* what its protocols remember */
    struct eb_sim *sim;
    const struct ebi_sim_net *net;
    void *net_slot; /* the network's own */
};

enum {
    EBI_SIM_REGISTER_CONTROL = 0x1000,
    EBI_SIM_REGISTER_STATE = 0x1001,
    EBI_SIM_REGISTER_LAMP = 0x1002,
    EBI_SIM_REGISTER_SWITCH = 0x1003, /* 1 once somebody has turned it */
    EBI_SIM_REGISTER_STARTS = 0x1004, /* how often it has started */
    EBI_SIM_REGISTER_CARD = 0x1008,   /* what it made of the memory card: enum eb_sim_card */
    EBI_SIM_REGISTER_UPTIME = 0x1005, /* hundredths of a second since it started; two */
    EBI_SIM_COIL_LAMP = 16,
    EBI_SIM_REGISTER_ADDRESS = 0x1010, /* two each */
    EBI_SIM_REGISTER_MASK = 0x1012,
    EBI_SIM_REGISTER_ROUTER = 0x1014,
    EBI_SIM_REGISTER_DHCP = 0x1016,
    EBI_SIM_REGISTER_NAME = 0x1020, /* two characters each */
    EBI_SIM_NAME_REGISTERS = 8,
    EBI_SIM_CONTROL_START = 1,
    EBI_SIM_CONTROL_STOP = 2,
    EBI_SIM_CONTROL_RESTART = 3,
    EBI_SIM_CONTROL_LOADER = 4,
    EBI_SIM_CONTROL_TAKE_UP = 5, /* the settings in the registers, for good */
    EBI_SIM_STATE_RUNNING = 1,
    EBI_SIM_STATE_STOPPED = 2,
    EBI_SIM_STATE_LOADER = 3,
    EBI_SIM_OBJECT_STATE = 0x80,
    EBI_SIM_OBJECT_SERIAL = 0x81,
    EBI_SIM_OBJECT_HARDWARE_REVISION = 0x82
};

/* Power comes on: the device starts on `net`. */
void ebi_sim_device_start(struct ebi_sim_device *device, const struct ebi_sim_net *net);
void ebi_sim_device_power(struct ebi_sim_device *device, bool on);
bool ebi_sim_device_alive(const struct ebi_sim_device *device);

/* Whether a program starts from this bank; how many bytes it has. */
bool ebi_sim_bank_valid(const struct ebi_sim_device *device, const struct ebi_sim_component *component,
                        const uint8_t *bank);
size_t ebi_sim_image_bytes(const uint8_t *bank);

/* Whether a start after now would find a program: sets what is found of each component. */
void ebi_sim_device_examine(struct ebi_sim_device *device);
void ebi_sim_component_examine(const struct ebi_sim_device *device, struct ebi_sim_component *component);

/* What the network brings.  Connections beyond EBI_SIM_CONNECTIONS_MAX are closed. */
void ebi_sim_device_datagram(struct ebi_sim_device *device, int handle, uint16_t port,
                             const struct eb_endpoint *from, const uint8_t *bytes, size_t size);
void ebi_sim_device_frame(struct ebi_sim_device *device, const uint8_t *frame, size_t size);
void ebi_sim_device_connected(struct ebi_sim_device *device, int handle, uint16_t port);
void ebi_sim_device_stream(struct ebi_sim_device *device, int handle, const uint8_t *bytes, size_t size);
void ebi_sim_device_disconnected(struct ebi_sim_device *device, int handle);

/* Whether it listens there. */
bool ebi_sim_device_listens(const struct ebi_sim_device *device, bool tcp, uint16_t port);
bool ebi_sim_device_has_ip(const struct ebi_sim_device *device);
/* Whether it takes an address as one of its own subnet. */
bool ebi_sim_device_covers(const struct ebi_sim_device *device, const uint8_t ip[4]);

/* Lets time pass; and when it next matters. */
void ebi_sim_device_tick(struct ebi_sim_device *device);
uint64_t ebi_sim_device_deadline_us(const struct ebi_sim_device *device);

/* --- between the device's own files --- */
void ebi_sim_device_restart(struct ebi_sim_device *device, bool into_loader, uint64_t delay_us);

/* Takes settings up now, and keeps them where they are `permanent`. */
void ebi_sim_device_set(struct ebi_sim_device *device, const struct ebi_sim_settings *settings,
                        bool permanent);

/* What it tells as its serial number now. */
const char *ebi_sim_device_serial(const struct ebi_sim_device *device);
/* Whether it refuses to be written now, as it is busy; whether its mode lets it be written over Ethernet. */
bool ebi_sim_device_busy(struct ebi_sim_device *device);
bool ebi_sim_device_writable(const struct ebi_sim_device *device);
/* An answer over TCP, now or late, and the connection's end where it closes each. */
void ebi_sim_device_answer(struct ebi_sim_device *device, struct ebi_sim_connection *connection,
                           const uint8_t *bytes, size_t size);
/* The module in that slot of its rack, or NULL. */
struct ebi_sim_device *ebi_sim_module(const struct ebi_sim_device *rack, uint8_t slot);
/* Writes into the memory of a component, at `to` of its bank. */
void ebi_sim_device_write(const struct ebi_sim_device *device, const uint8_t *bank, uint8_t *to,
                          const uint8_t *bytes, size_t size);

/* The version of a component as its flash says, "" where none runs. */
const char *ebi_sim_device_version(const struct ebi_sim_device *device, size_t component);

void ebi_sim_ether_group_mac(const uint8_t ip[4], uint8_t mac[EB_MAC_BYTES]);

#endif
