/* CAN on Linux: SocketCAN interfaces, and serial adapters with the ASCII protocol.  An adapter that several
 * handles use is opened once; what it brings is given to each of them.
 *
 * That a frame went out is known of SocketCAN by its echo (CAN_RAW_RECV_OWN_MSGS).  A serial adapter answers
 * each command: most when the frame was sent, some when they have queued it.  So from its answer on the
 * frame's own time on the bus is added, and that of all frames before it and of those heard meanwhile: before
 * that it is not called out.
 *
 * A serial adapter whose queue is full answers BEL, and takes what stands behind that command all the same.
 * Frames that must keep their order are therefore given one by one, or as many at once as the adapter is
 * known to take. */
#include "port_linux.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/can.h>
#include <linux/can/error.h>
#include <linux/can/raw.h>
#include <net/if.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <termios.h>
#include <unistd.h>

enum {
    RECEIVED_MAX = 4096,
    SOCKET_QUEUE = 32,
    ROOM_BYTES = 1 << 20,    /* for what comes while this process waits for a processor */
    WAITING_MAX = 64,        /* more than either queue */
    SERIAL_QUEUE = 16,       /* commands that are on their way at once */
    SERIAL_WAIT_US = 500000, /* for the adapter's answer to a command that opens it */
    REFUSALS_MAX = 200,
    FLAGS_EVERY_US = 500000, /* its status flags, when nothing else is under way */
    NO_ROOM_US = 10000,      /* until a socket that took nothing is tried again, where no echo will tell */
    READS_AT_ONCE = 8,       /* of what comes, before others have their turn */
    OUT_BYTES = 4096
};

/* How far a serial adapter is with being opened. */
enum stage { FLUSHING, SETTING, OPENING, ASKING_FLAGS, OPEN };

_Static_assert(SOCKET_QUEUE <= WAITING_MAX && SERIAL_QUEUE <= WAITING_MAX,
               "every frame in flight is remembered");

/* A frame that was given to an adapter. */
struct command {
    int handle; /* whose it is */
    struct eb_can_frame frame;
};

struct adapter {
    int fd; /* -1: free */
    bool serial, gone;
    char name[EB_PATH_BYTES];
    size_t users;
    struct eb_can_state state;
    struct eb_can_pace pace;
    /* serial */
    struct eb_ascii_can reader;
    enum stage stage;
    uint64_t until_us;
    uint64_t bus_free_us; /* when what was answered has left the bus */
    uint32_t queue;       /* that it surely takes; 0: not known */
    bool knows_flags;
    uint64_t flags_us;                   /* when they are asked for next */
    struct command waiting[WAITING_MAX]; /* to be known out, in their order */
    size_t first, count;
    unsigned refusals; /* in a row */
    char out[OUT_BYTES];
    size_t out_size;
};

struct can_handle {
    bool used, gone, off, wants_room, ready, urgent; /* `off`: gone as the adapter is bus-off */
    struct eb_waiter *waiter;
    size_t adapter;
    uint32_t id, mask;
    struct eb_can_frame *received;
    size_t first, count;
    uint64_t given, answered;
    uint64_t out_us; /* when the last of them is out, EB_NEVER: told already */
};

struct ebi_linux_can {
    int epoll_fd;
    struct adapter *adapters;
    size_t adapter_count;
    struct can_handle *handles;
    int cap;
    int turn;
};

static void set_ready(struct can_handle *h)
{
    h->ready = true;
}

static void lose(struct ebi_linux_can *c, struct adapter *a)
{
    a->gone = true;
    for (int i = 0; i < c->cap; i++) {
        if (c->handles[i].used && !c->handles[i].gone && &c->adapters[c->handles[i].adapter] == a) {
            c->handles[i].gone = true;
            c->handles[i].off = a->state.mode == EB_CAN_BUS_OFF;
            set_ready(&c->handles[i]);
        }
    }
    if (a->fd >= 0)
        close(a->fd);
    a->fd = -1;
    a->users = 0;
}

/* --- what an adapter brings ---------------------------------------------------------------------- */

static void receive(struct ebi_linux_can *c, struct adapter *a, const struct eb_can_frame *frame, int but)
{
    bool fault = (frame->flags & EB_CAN_FAULT) != 0;
    for (int i = 0; i < c->cap; i++) {
        struct can_handle *h = &c->handles[i];
        if (!h->used || &c->adapters[h->adapter] != a || i == but ||
            (fault ? h->mask != 0 : (frame->id & h->mask) != h->id))
            continue;
        if (h->count == RECEIVED_MAX) {
            a->state.faults[EB_CAN_FAULT_OVERRUN]++;
            continue;
        }
        h->received[(h->first + h->count++) % RECEIVED_MAX] = *frame;
        set_ready(h);
    }
}

static uint64_t bus_time_us(const struct adapter *a, const struct eb_can_frame *frame)
{
    uint32_t rate = a->state.bit_rate != 0 ? a->state.bit_rate : 1000000;
    return (uint64_t)eb_can_bits(frame) * 1000000 / rate + 1;
}

static void take_frame(struct ebi_linux_can *c, struct adapter *a, struct eb_can_frame *frame)
{
    frame->at_us = ebi_linux_now_us(NULL);
    a->state.received++;
    a->state.bits += eb_can_bits(frame);
    if (a->bus_free_us > frame->at_us) { /* ours have had to wait for it */
        a->bus_free_us += bus_time_us(a, frame);
        for (int i = 0; i < c->cap; i++) {
            if (c->handles[i].out_us != EB_NEVER && &c->adapters[c->handles[i].adapter] == a)
                c->handles[i].out_us += bus_time_us(a, frame);
        }
    }
    receive(c, a, frame, EB_NO_HANDLE);
}

static void take_fault(struct ebi_linux_can *c, struct adapter *a, enum eb_can_fault fault)
{
    const struct eb_can_frame frame = {
        .at_us = ebi_linux_now_us(NULL), .id = (uint32_t)fault, .flags = EB_CAN_FAULT};
    a->state.faults[fault]++;
    receive(c, a, &frame, EB_NO_HANDLE);
}

static void give_room(struct ebi_linux_can *c, const struct adapter *a)
{
    for (int i = 0; i < c->cap; i++) {
        struct can_handle *h = &c->handles[i];
        if (h->used && h->wants_room && &c->adapters[h->adapter] == a)
            set_ready(h);
    }
}

/* A frame of `handle` has gone out, or was refused for good. */
static void went_out(struct ebi_linux_can *c, struct adapter *a, int handle, const struct eb_can_frame *frame)
{
    struct can_handle *h = &c->handles[handle];
    uint64_t now_us = ebi_linux_now_us(NULL);
    a->state.sent++;
    a->state.bits += eb_can_bits(frame);
    a->bus_free_us = (a->bus_free_us > now_us ? a->bus_free_us : now_us) + bus_time_us(a, frame);
    if (h->used && !h->gone && &c->adapters[h->adapter] == a && ++h->answered == h->given) {
        h->out_us = a->serial ? a->bus_free_us : now_us;
        set_ready(h);
    }
    if (eb_can_pace_sent(&a->pace))
        give_room(c, a);
}

/* --- serial adapters ----------------------------------------------------------------------------- */

static void flush_out(struct ebi_linux_can *c, struct adapter *a)
{
    while (a->out_size > 0) {
        ssize_t n = write(a->fd, a->out, a->out_size);
        if (n <= 0) {
            if (n < 0 && errno != EAGAIN && errno != EINTR)
                lose(c, a);
            break;
        }
        a->out_size -= (size_t)n;
        memmove(a->out, a->out + n, a->out_size);
    }
    if (a->fd < 0)
        return;
    struct epoll_event event = {.events = EPOLLIN | (a->out_size > 0 ? EPOLLOUT : 0),
                                .data.u32 = EBI_LINUX_CAN | (uint32_t)(a - c->adapters)};
    epoll_ctl(c->epoll_fd, EPOLL_CTL_MOD, a->fd, &event);
}

static void say(struct adapter *a, const char *text, size_t size)
{
    if (a->out_size + size <= sizeof a->out) {
        memcpy(a->out + a->out_size, text, size);
        a->out_size += size;
    }
}

static void expect(struct adapter *a, int handle, const struct eb_can_frame *frame)
{
    size_t cap = WAITING_MAX;
    if (a->count < cap)
        a->waiting[(a->first + a->count++) % cap] =
            (struct command){handle, frame != NULL ? *frame : (struct eb_can_frame){0}};
}

static void ask_flags(struct adapter *a)
{
    say(a, "F\r", 2);
    a->stage = ASKING_FLAGS;
    a->until_us = ebi_linux_now_us(NULL) + SERIAL_WAIT_US;
}

/* Whether it told them or not: one that does not is not asked again. */
static void flags_answered(struct ebi_linux_can *c, struct adapter *a, bool told)
{
    a->knows_flags = told;
    a->flags_us = told ? ebi_linux_now_us(NULL) + FLAGS_EVERY_US : EB_NEVER;
    a->stage = OPEN;
    give_room(c, a);
}

/* The next command of opening it, each once the one before is answered. */
static void next_stage(struct adapter *a, enum stage stage)
{
    char rate[4] = {'S', eb_ascii_can_rate(a->state.bit_rate), '\r', 0};
    a->stage = stage;
    a->until_us = ebi_linux_now_us(NULL) + SERIAL_WAIT_US;
    if (stage == SETTING)
        say(a, rate, 3);
    else if (stage == OPENING)
        say(a, a->state.listen_only ? "L\r" : "O\r", 2);
    else
        ask_flags(a);
}

static void answered(struct ebi_linux_can *c, struct adapter *a, bool well)
{
    size_t cap = WAITING_MAX;
    if (a->stage == FLUSHING) /* a channel that was closed already says so */
        return;
    if (a->stage == SETTING || a->stage == OPENING) {
        if (well)
            next_stage(a, a->stage == SETTING ? OPENING : ASKING_FLAGS);
        else
            lose(c, a);
        return;
    }
    if (a->stage == ASKING_FLAGS) {
        if (!well) /* it does not know the command */
            flags_answered(c, a, false);
        return;
    }
    if (a->count == 0)
        return;
    struct command command = a->waiting[a->first];
    a->first = (a->first + 1) % cap;
    a->count--;
    a->refusals = well ? 0 : a->refusals + 1;
    if (well) {
        went_out(c, a, command.handle, &command.frame);
    } else if (a->refusals == REFUSALS_MAX) { /* as after a restart of its own: it is closed */
        lose(c, a);
    } else { /* its queue was full: once more, and from now on less at once */
        a->pace.queue = a->pace.queue > 1 ? a->pace.queue / 2 : 1;
        char text[EB_ASCII_CAN_FRAME_BYTES];
        say(a, text, eb_ascii_can_put(&command.frame, text));
        expect(a, command.handle, &command.frame);
    }
}

static void take_byte(struct ebi_linux_can *c, struct adapter *a, uint8_t byte)
{
    struct eb_can_frame frame;
    switch (eb_ascii_can_take(&a->reader, byte, &frame)) {
    case EB_ASCII_CAN_DONE:
    case EB_ASCII_CAN_TAKEN:
        answered(c, a, true);
        break;
    case EB_ASCII_CAN_REFUSED:
        answered(c, a, false);
        break;
    case EB_ASCII_CAN_FRAME:
        if (a->stage >= ASKING_FLAGS)
            take_frame(c, a, &frame);
        break;
    case EB_ASCII_CAN_STATE:
        a->state.has_counters = true;
        a->state.mode = a->reader.mode;
        a->state.tx_errors = a->reader.tx_errors;
        a->state.rx_errors = a->reader.rx_errors;
        if (a->state.mode == EB_CAN_BUS_OFF) {
            take_fault(c, a, EB_CAN_FAULT_BUS_OFF);
            lose(c, a);
        }
        break;
    case EB_ASCII_CAN_FLAGS:
        a->state.has_flags = true;
        a->state.flags = a->reader.flags;
        if (a->stage == ASKING_FLAGS)
            flags_answered(c, a, true);
        break;
    case EB_ASCII_CAN_FAULT:
        for (unsigned i = 0; i < EB_CAN_FAULTS; i++) {
            for (uint32_t k = 0; k < a->reader.faults[i]; k++)
                take_fault(c, a, (enum eb_can_fault)i);
        }
        break;
    default:
        break;
    }
}

static void serial_event(struct ebi_linux_can *c, struct adapter *a)
{
    uint8_t bytes[4096];
    for (int reads = 0; reads < READS_AT_ONCE && a->fd >= 0; reads++) {
        ssize_t n = read(a->fd, bytes, sizeof bytes);
        if (n < 0 && (errno == EAGAIN || errno == EINTR))
            break;
        if (n <= 0) { /* 0 is a hang-up: it was pulled out */
            lose(c, a);
            return;
        }
        for (ssize_t i = 0; i < n && a->fd >= 0; i++)
            take_byte(c, a, bytes[i]);
    }
    if (a->fd >= 0)
        flush_out(c, a);
}

/* A pseudo-terminal (Linux, Documentation/admin-guide/devices.txt: majors 136 to 143).  Its mark of being
 * used by one only outlasts who has set it, as long as the other end lives. */
static bool is_pseudo(int fd)
{
    struct stat info;
    return fstat(fd, &info) == 0 && major(info.st_rdev) >= 136 && major(info.st_rdev) <= 143;
}

static int open_serial(const char *path)
{
    struct termios settings;
    int fd = open(path, O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return -1;
    /* TIOCEXCL keeps all others out but the superuser; the lock those who ask for it. */
    if (!isatty(fd) || flock(fd, LOCK_EX | LOCK_NB) != 0 || (!is_pseudo(fd) && ioctl(fd, TIOCEXCL) != 0) ||
        tcgetattr(fd, &settings) != 0) {
        close(fd);
        errno = EIO;
        return -1;
    }
    cfmakeraw(&settings);
    settings.c_cflag |= CLOCAL | CREAD;
    cfsetspeed(&settings, B115200); /* behind USB it does not matter */
    tcsetattr(fd, TCSANOW, &settings);
    tcflush(fd, TCIOFLUSH);
    return fd;
}

/* --- SocketCAN ----------------------------------------------------------------------------------- */

static int open_socket(const char *name)
{
    int yes = 1;
    int room = ROOM_BYTES;
    can_err_mask_t errors = CAN_ERR_MASK;
    struct sockaddr_can address = {.can_family = AF_CAN, .can_ifindex = (int)if_nametoindex(name)};
    int fd = socket(PF_CAN, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, CAN_RAW);
    if (fd < 0)
        return -1;
    setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    setsockopt(fd, SOL_CAN_RAW, CAN_RAW_RECV_OWN_MSGS, &yes, sizeof yes);
    setsockopt(fd, SOL_CAN_RAW, CAN_RAW_ERR_FILTER, &errors, sizeof errors);
    if (address.can_ifindex == 0 || bind(fd, (const struct sockaddr *)&address, sizeof address) != 0) {
        int error = address.can_ifindex == 0 ? ENODEV : errno;
        close(fd);
        errno = error;
        return -1;
    }
    return fd;
}

static void take_error(struct ebi_linux_can *c, struct adapter *a, const struct can_frame *f)
{
    if ((f->can_id & CAN_ERR_CNT) != 0) {
        a->state.has_counters = true;
        a->state.tx_errors = f->data[6];
        a->state.rx_errors = f->data[7];
    }
    if ((f->can_id & CAN_ERR_CRTL) != 0) {
        if ((f->data[1] & (CAN_ERR_CRTL_RX_OVERFLOW | CAN_ERR_CRTL_TX_OVERFLOW)) != 0)
            take_fault(c, a, EB_CAN_FAULT_OVERRUN);
        if ((f->data[1] & (CAN_ERR_CRTL_RX_PASSIVE | CAN_ERR_CRTL_TX_PASSIVE)) != 0)
            a->state.mode = EB_CAN_PASSIVE;
        else if ((f->data[1] & (CAN_ERR_CRTL_RX_WARNING | CAN_ERR_CRTL_TX_WARNING)) != 0)
            a->state.mode = EB_CAN_WARNING;
        else if ((f->data[1] & CAN_ERR_CRTL_ACTIVE) != 0)
            a->state.mode = EB_CAN_ACTIVE;
    }
    if ((f->can_id & CAN_ERR_ACK) != 0)
        take_fault(c, a, EB_CAN_FAULT_ACK);
    if ((f->can_id & CAN_ERR_PROT) != 0)
        take_fault(c, a,
                   (f->data[2] & CAN_ERR_PROT_STUFF) != 0  ? EB_CAN_FAULT_STUFF
                   : (f->data[2] & CAN_ERR_PROT_FORM) != 0 ? EB_CAN_FAULT_FORM
                   : (f->data[2] & (CAN_ERR_PROT_BIT | CAN_ERR_PROT_BIT0 | CAN_ERR_PROT_BIT1)) != 0
                       ? EB_CAN_FAULT_BIT
                       : EB_CAN_FAULT_OTHER);
    if ((f->can_id & CAN_ERR_BUSOFF) != 0) {
        a->state.mode = EB_CAN_BUS_OFF;
        take_fault(c, a, EB_CAN_FAULT_BUS_OFF);
        lose(c, a);
    }
}

static void socket_event(struct ebi_linux_can *c, struct adapter *a)
{
    struct can_frame f;
    struct iovec part = {&f, sizeof f};
    struct msghdr message = {.msg_iov = &part, .msg_iovlen = 1};
    size_t cap = WAITING_MAX;
    for (int reads = 0; reads < READS_AT_ONCE * SOCKET_QUEUE && a->fd >= 0; reads++) {
        ssize_t n = recvmsg(a->fd, &message, 0);
        if (n < 0) {
            if (errno != EAGAIN && errno != EINTR)
                lose(c, a); /* the interface is down, or gone */
            return;
        }
        struct eb_can_frame frame = {.id = f.can_id &
                                           ((f.can_id & CAN_EFF_FLAG) != 0 ? CAN_EFF_MASK : CAN_SFF_MASK),
                                     .size = f.can_dlc > 8 ? 8 : f.can_dlc};
        frame.flags = (uint8_t)(((f.can_id & CAN_EFF_FLAG) != 0 ? EB_CAN_EXTENDED : 0) |
                                ((f.can_id & CAN_RTR_FLAG) != 0 ? EB_CAN_REMOTE : 0));
        memcpy(frame.data, f.data, sizeof frame.data);
        if ((f.can_id & CAN_ERR_FLAG) != 0) {
            take_error(c, a, &f);
        } else if ((message.msg_flags & MSG_CONFIRM) != 0 && a->count > 0) { /* our own: it went out */
            struct command own = a->waiting[a->first];
            a->first = (a->first + 1) % cap;
            a->count--;
            went_out(c, a, own.handle, &own.frame);
        } else {
            take_frame(c, a, &frame);
        }
    }
}

/* False: no room. */
static bool socket_send(const struct adapter *a, const struct eb_can_frame *frame)
{
    struct can_frame f = {.can_id = frame->id | ((frame->flags & EB_CAN_EXTENDED) != 0 ? CAN_EFF_FLAG : 0) |
                                    ((frame->flags & EB_CAN_REMOTE) != 0 ? CAN_RTR_FLAG : 0),
                          .can_dlc = frame->size};
    memcpy(f.data, frame->data, sizeof f.data);
    return write(a->fd, &f, sizeof f) == (ssize_t)sizeof f;
}

/* --- the port ------------------------------------------------------------------------------------ */

struct ebi_linux_can *ebi_linux_can_new(int epoll_fd)
{
    struct ebi_linux_can *c = calloc(1, sizeof *c);
    if (c != NULL)
        c->epoll_fd = epoll_fd;
    return c;
}

void ebi_linux_can_free(struct ebi_linux_can *c)
{
    for (size_t i = 0; i < c->adapter_count; i++) {
        if (c->adapters[i].fd >= 0)
            close(c->adapters[i].fd);
    }
    for (int i = 0; i < c->cap; i++)
        free(c->handles[i].received);
    free(c->adapters);
    free(c->handles);
    free(c);
}

void ebi_linux_can_event(struct ebi_linux_can *c, uint32_t index)
{
    struct adapter *a = index < c->adapter_count ? &c->adapters[index] : NULL;
    if (a == NULL || a->fd < 0)
        return;
    if (a->serial)
        serial_event(c, a);
    else
        socket_event(c, a);
}

/* What time alone brings to one adapter; when it does next. */
static uint64_t tick_adapter(struct ebi_linux_can *c, struct adapter *a, uint64_t now_us)
{
    if (a->stage == OPEN) {
        if (now_us >= a->flags_us && a->count == 0) {
            ask_flags(a);
            flush_out(c, a);
        }
        return a->stage != OPEN ? a->until_us : a->count == 0 ? a->flags_us : EB_NEVER;
    }
    if (now_us < a->until_us)
        return a->until_us;
    if (a->stage == FLUSHING)
        next_stage(a, SETTING);
    else if (a->stage == ASKING_FLAGS)
        flags_answered(c, a, false);
    else
        lose(c, a); /* nothing that answers as such an adapter does */
    if (a->fd >= 0)
        flush_out(c, a);
    return a->fd < 0 ? EB_NEVER : a->stage == OPEN ? a->flags_us : a->until_us;
}

/* A handle whose last frame has left the bus by now; one that waits for room which nothing will tell of. */
static uint64_t tick_handle(const struct ebi_linux_can *c, struct can_handle *h, uint64_t now_us)
{
    const struct adapter *a = &c->adapters[h->adapter];
    if (!h->used || h->gone)
        return EB_NEVER;
    if (now_us >= h->out_us) {
        h->out_us = EB_NEVER;
        set_ready(h);
    }
    if (h->wants_room && !a->serial && a->count == 0) {
        set_ready(h);
        return now_us + NO_ROOM_US;
    }
    return h->out_us;
}

uint64_t ebi_linux_can_tick(struct ebi_linux_can *c, uint64_t now_us)
{
    uint64_t next_us = EB_NEVER;
    for (size_t i = 0; i < c->adapter_count; i++) {
        struct adapter *a = &c->adapters[i];
        uint64_t at_us = a->fd >= 0 && a->serial ? tick_adapter(c, a, now_us) : EB_NEVER;
        next_us = at_us < next_us ? at_us : next_us;
    }
    for (int i = 0; i < c->cap; i++) {
        uint64_t at_us = tick_handle(c, &c->handles[i], now_us);
        next_us = at_us < next_us ? at_us : next_us;
    }
    return next_us;
}

size_t ebi_linux_can_ready(struct ebi_linux_can *c, struct eb_waiter **ready, size_t cap)
{
    size_t count = 0;
    for (int i = 0; i < c->cap && count < cap; i++) {
        struct can_handle *h = &c->handles[(c->turn + i) % c->cap];
        if (h->used && h->ready) {
            h->ready = false;
            ready[count++] = h->waiter;
        }
    }
    c->turn = c->cap > 0 ? (c->turn + 1) % c->cap : 0;
    return count;
}

static enum eb_status new_adapter(struct ebi_linux_can *c, const struct eb_can_options *o, size_t *index)
{
    bool serial = strchr(o->link, '/') != NULL;
    if (serial && eb_ascii_can_rate(o->bit_rate) == 0)
        return EB_BAD_CALL;
    int fd = serial ? open_serial(o->link) : open_socket(o->link);
    if (fd < 0)
        return errno == EACCES || errno == EPERM ? EB_DENIED : EB_IO;
    size_t i = 0;
    while (i < c->adapter_count && c->adapters[i].fd >= 0)
        i++;
    if (i == c->adapter_count) {
        struct adapter *more = realloc(c->adapters, (i + 1) * sizeof *more);
        if (more == NULL) {
            close(fd);
            return EB_IO;
        }
        c->adapters = more;
        c->adapter_count++;
    }
    struct adapter *a = &c->adapters[i];
    *a = (struct adapter){.fd = fd, .serial = serial, .queue = o->queue, .flags_us = EB_NEVER};
    snprintf(a->name, sizeof a->name, "%s", o->link);
    a->state.bit_rate = o->bit_rate;
    a->state.listen_only = o->listen_only;
    a->state.mode = EB_CAN_UNKNOWN;
    a->state.sent_is_proof = !serial;
    eb_can_pace_init(&a->pace, serial ? SERIAL_QUEUE : SOCKET_QUEUE,
                     o->bit_rate != 0 ? o->bit_rate : 1000000);
    struct epoll_event event = {.events = EPOLLIN, .data.u32 = EBI_LINUX_CAN | (uint32_t)i};
    epoll_ctl(c->epoll_fd, EPOLL_CTL_ADD, fd, &event);
    if (serial) {
        eb_ascii_can_init(&a->reader);
        a->stage = FLUSHING;
        a->until_us = ebi_linux_now_us(NULL) + 50000;
        say(a, "\r\r\rC\r", 5); /* whatever was begun before is ended */
        flush_out(c, a);
    }
    *index = i;
    return EB_OK;
}

enum eb_status ebi_linux_can_open(struct ebi_linux_can *c, struct eb_waiter *waiter,
                                  const struct eb_can_options *o, int *handle)
{
    size_t index = 0;
    *handle = EB_NO_HANDLE;
    while (index < c->adapter_count &&
           (c->adapters[index].fd < 0 || strcmp(c->adapters[index].name, o->link) != 0))
        index++;
    if (index == c->adapter_count) {
        enum eb_status status = new_adapter(c, o, &index);
        if (status != EB_OK)
            return status;
    } else if ((o->bit_rate != 0 && o->bit_rate != c->adapters[index].state.bit_rate) ||
               o->listen_only != c->adapters[index].state.listen_only) {
        return EB_BAD_CALL;
    }
    int number = 0;
    while (number < c->cap && c->handles[number].used)
        number++;
    if (number == c->cap) {
        int cap = c->cap == 0 ? 32 : 2 * c->cap;
        struct can_handle *more = realloc(c->handles, (size_t)cap * sizeof *more);
        if (more == NULL)
            return EB_IO;
        memset(more + c->cap, 0, (size_t)(cap - c->cap) * sizeof *more);
        c->handles = more;
        c->cap = cap;
    }
    struct eb_can_frame *received = c->handles[number].received;
    if (received == NULL)
        received = malloc(RECEIVED_MAX * sizeof *received);
    if (received == NULL)
        return EB_IO;
    c->adapters[index].users++;
    c->handles[number] = (struct can_handle){.used = true,
                                             .waiter = waiter,
                                             .adapter = index,
                                             .out_us = EB_NEVER,
                                             .id = o->id & o->mask,
                                             .mask = o->mask,
                                             .received = received};
    *handle = number;
    return EB_OK;
}

/* Whether the next frame has to wait until what this handle gave before is answered. */
static bool waits_for_order(const struct adapter *a, const struct can_handle *h, size_t taken,
                            const struct eb_can_frame *frame)
{
    uint64_t unanswered = h->given + taken - h->answered;
    return a->serial && (frame->flags & EB_CAN_ORDERED) != 0 && unanswered >= (a->queue > 0 ? a->queue : 1);
}

size_t ebi_linux_can_send(struct ebi_linux_can *c, int handle, const struct eb_can_frame *burst, size_t count)
{
    struct can_handle *h = &c->handles[handle];
    struct adapter *a = &c->adapters[h->adapter];
    struct eb_can_others others = {0};
    h->wants_room = h->wants_room && count > 0;
    if (h->gone || count == 0)
        return 0;
    for (int i = 0; i < c->cap; i++) {
        const struct can_handle *other = &c->handles[i];
        bool there = i != handle && other->used && other->adapter == h->adapter;
        others.waiting += there && other->wants_room;
        others.urgent_waiting += there && other->wants_room && other->urgent;
        others.urgent = others.urgent || (there && other->urgent);
    }
    uint32_t share = a->serial && a->stage != OPEN ? 0 : eb_can_pace_share(&a->pace, &others, h->urgent);
    size_t taken = 0;
    while (taken < count && taken < share && !waits_for_order(a, h, taken, &burst[taken])) {
        struct eb_can_frame frame = burst[taken];
        char text[EB_ASCII_CAN_FRAME_BYTES];
        frame.flags &= (uint8_t)~EB_CAN_ORDERED;
        if (a->serial)
            say(a, text, eb_ascii_can_put(&frame, text));
        else if (!socket_send(a, &frame))
            break;
        expect(a, handle, &frame);
        taken++;
    }
    if (a->serial)
        flush_out(c, a);
    h->wants_room = taken < count;
    h->given += taken;
    h->out_us = taken > 0 ? EB_NEVER : h->out_us;
    eb_can_pace_given(&a->pace, (uint32_t)taken, others.urgent_waiting > 0 && !h->urgent);
    return taken;
}

uint64_t ebi_linux_can_sent(const struct ebi_linux_can *c, int handle)
{
    const struct can_handle *h = &c->handles[handle];
    bool on_its_way = h->out_us != EB_NEVER && ebi_linux_now_us(NULL) < h->out_us;
    return h->answered - on_its_way;
}

enum eb_status ebi_linux_can_receive(struct ebi_linux_can *c, int handle, struct eb_can_frame *frames,
                                     size_t cap, size_t *received)
{
    struct can_handle *h = &c->handles[handle];
    *received = 0;
    while (*received < cap && h->count > 0) {
        frames[(*received)++] = h->received[h->first];
        h->first = (h->first + 1) % RECEIVED_MAX;
        h->count--;
    }
    if (*received > 0)
        return EB_OK;
    return h->gone ? EB_UNREACHABLE : EB_PENDING;
}

void ebi_linux_can_state(const struct ebi_linux_can *c, int handle, struct eb_can_state *state)
{
    *state = c->adapters[c->handles[handle].adapter].state;
    if (c->handles[handle].off)
        state->mode = EB_CAN_BUS_OFF;
}

void ebi_linux_can_close(struct ebi_linux_can *c, int handle)
{
    struct can_handle *h = &c->handles[handle];
    struct adapter *a = &c->adapters[h->adapter];
    h->used = false;
    if (h->gone || --a->users > 0)
        return;
    if (a->serial && write(a->fd, "C\r", 2) < 0)
        a->gone = true; /* it goes anyway */
    close(a->fd);
    a->fd = -1;
}
