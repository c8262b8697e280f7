/* Against a real kernel, which few build machines have: its virtual USB host controller with the simulated
 * devices behind it, its ISO-TP against ours, and its line discipline for serial CAN adapters against the
 * simulated adapter.  scripts/check-kernel runs this in a virtual machine; elsewhere each test says what is
 * missing. */
#include "support/support.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <linux/can.h>
#include <linux/can/isotp.h>
#include <linux/can/raw.h>
#include <net/if.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

#ifndef N_SLCAN
#define N_SLCAN 17
#endif

static void expect_text(const char *text, const char *wanted)
{
    if (strstr(text, wanted) == NULL)
        fail_msg("found:\n%s\nexpected: %s", text, wanted);
}

static bool have_interface(const char *name, const char *make)
{
    if (if_nametoindex(name) != 0)
        return true;
    return system(make) == 0 && if_nametoindex(name) != 0;
}

/* --- USB ----------------------------------------------------------------------------------------- */

static struct outcome einbau(const struct little *l, const char *site, const char *command, const char *more)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line, BIN_DIR "/einbau %s --site %s/%s --state %s/own %s", command, l->folder, site,
             l->folder, more);
    const char *const shell[] = {"sh", "-c", line, NULL};
    return run_program(shell);
}

static int serve(const struct little *l, bool vhci, const char *log)
{
    char site[PATH_BYTES + 32];
    snprintf(site, sizeof site, "%s/real.site.yaml", l->folder);
    const char *const arguments[] = {BIN_DIR "/einbau-sim",  l->world_path, "--write-site", site,
                                     vhci ? "--vhci" : NULL, NULL};
    int pid = start_program(arguments, log);
    if (!wait_for_text(log, "ready:", 30)) {
        stop_program(pid, SIGTERM);
        fail_msg("einbau-sim does not get ready");
    }
    return pid;
}

static void usb_devices_on_the_kernels_own_controller(void **state)
{
    (void)state;
    static const struct usb_options kinds[] = {
        {.gauges = 1, .image_bytes = 3000, .usb = "detach-ms: 5000"},
        {.gauges = 2,
         .image_bytes = 3000,
         .usb = "detaches-itself: yes, manifest: tolerant, uploads: yes",
         .component = "banks: 2"},
        {.gauges = 1,
         .image_bytes = 6000,
         .transfer_bytes = 4096,
         .usb = "manifest: restart, other-interface: yes"}};
    struct little l;
    char log[PATH_BYTES + 32];
    if (access("/sys/devices/platform/vhci_hcd.0/attach", W_OK) != 0) {
        print_message("no vhci-hcd in this kernel: skipped\n");
        skip();
    }
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++) {
        usb_make(&l, &kinds[i]);
        snprintf(log, sizeof log, "%s/sim.log", l.folder);
        int pid = serve(&l, true, log);
        struct outcome o = {0};
        for (int tries = 0; tries < 20; tries++) {
            outcome_free(&o);
            o = einbau(&l, "real.site.yaml", "links", "");
            if (strstr(o.out, "not plugged in") == NULL)
                break;
            usleep(300000);
        }
        expect_text(o.out, "plugged in at ");
        outcome_free(&o);
        o = einbau(&l, "real.site.yaml", "fit", "--yes");
        if (o.status != 0)
            fail_msg("kind %zu: %d %s%s", i, o.status, o.out, o.err);
        expect_text(o.out, "confirmed");
        print_message("kernel: kind %zu confirmed over the virtual controller\n", i);
        outcome_free(&o);
        o = einbau(&l, "real.site.yaml", "confirm", "");
        assert_int_equal(o.status, 0);
        outcome_free(&o);
        stop_program(pid, SIGTERM);
        little_remove(&l);
    }
}

/* --- ISO-TP -------------------------------------------------------------------------------------- */

static int kernel_isotp(const char *interface, uint32_t tx, uint32_t rx,
                        const struct can_isotp_fc_options *flow)
{
    struct sockaddr_can address = {.can_family = AF_CAN, .can_ifindex = (int)if_nametoindex(interface)};
    int fd = socket(AF_CAN, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, CAN_ISOTP);
    address.can_addr.tp.tx_id = tx;
    address.can_addr.tp.rx_id = rx;
    if (fd >= 0 && flow != NULL)
        setsockopt(fd, SOL_CAN_ISOTP, CAN_ISOTP_RECV_FC, flow, sizeof *flow);
    if (fd >= 0 && bind(fd, (const struct sockaddr *)&address, sizeof address) != 0) {
        close(fd);
        return -1;
    }
    return fd;
}

/* Our end of the conversation, on the Linux port. */
struct ours {
    const struct eb_port *port;
    int handle;
    struct eb_isotp tp;
    uint64_t given;
    uint64_t turn_us;
    uint64_t longest_us; /* between two turns */
    uint8_t buffer[4096];
};

static void note_turn(struct ours *o, uint64_t now_us)
{
    if (o->turn_us != 0 && now_us - o->turn_us > o->longest_us)
        o->longest_us = now_us - o->turn_us;
    o->turn_us = now_us;
}

static void work_ours(struct ours *o)
{
    const struct eb_port *port = o->port;
    struct eb_can_frame frames[64];
    size_t count;
    uint64_t now = eb_port_now_us(port);
    note_turn(o, now);
    while (port->can->receive(port->self, o->handle, frames, 64, &count) == EB_OK) {
        for (size_t i = 0; i < count; i++)
            eb_isotp_receive(&o->tp, &frames[i], now);
    }
    eb_isotp_tick(&o->tp, now);
    count = eb_isotp_give(&o->tp, frames, 64, port->can->sent(port->self, o->handle) >= o->given, now);
    size_t taken = count > 0 ? port->can->send(port->self, o->handle, frames, count) : 0;
    o->given += taken;
    eb_isotp_taken(&o->tp, taken, now);
    eb_port_wait(port, now + 500);
}

enum { STALL_US = 300000, ATTEMPTS = 5 };

/* A message to the kernel and back; where it stopped, or NULL. */
static const char *there_and_back(struct ours *o, int fd, const uint8_t *message, size_t size)
{
    static uint8_t got[4096];
    ssize_t n = -1;
    eb_isotp_send(&o->tp, message, size, eb_port_now_us(o->port));
    errno = EAGAIN;
    for (int turns = 0; turns < 60000 && n < 0 && errno == EAGAIN && o->tp.sending != EB_NO_ANSWER; turns++) {
        work_ours(o);
        n = read(fd, got, sizeof got);
    }
    if (n != (ssize_t)size || memcmp(got, message, size) != 0)
        return "it did not arrive at the kernel";
    while (o->tp.sending == EB_PENDING)
        work_ours(o);
    if (o->tp.sending != EB_OK)
        return "ours did not see it sent";
    eb_isotp_clear(&o->tp);
    if (write(fd, message, size) != (ssize_t)size)
        return "the kernel did not take it";
    for (int turns = 0; turns < 60000 && o->tp.received == EB_PENDING; turns++)
        work_ours(o);
    if (o->tp.received != EB_OK || o->tp.size != size || memcmp(o->buffer, message, size) != 0)
        return "it did not come back";
    return NULL;
}

static const char *exchange(const struct can_isotp_fc_options *flow, const uint8_t *message, size_t size,
                            uint64_t *longest_us)
{
    const struct eb_can_options options = {.link = "einbau1"};
    /* A bus without a bit rate brings frames faster than any reader takes them: so ours asks for pauses. */
    const struct eb_isotp_config config = {
        .request = 0x7E1, .response = 0x7E9, .padding = 0xCC, .block_size = 64};
    static struct ours ours;
    int fd = kernel_isotp("einbau1", 0x7E9, 0x7E1, flow);
    if (fd < 0) {
        print_message("no ISO-TP in this kernel: skipped\n");
        skip();
    }
    ours = (struct ours){.port = eb_port_linux_open()};
    assert_int_equal(ours.port->can->open(ours.port->self, NULL, &options, &ours.handle), EB_OK);
    eb_isotp_init(&ours.tp, &config, ours.buffer, sizeof ours.buffer);
    const char *fault = there_and_back(&ours, fd, message, size);
    note_turn(&ours, eb_port_now_us(ours.port));
    *longest_us = ours.longest_us;
    ours.port->can->close(ours.port->self, ours.handle);
    eb_port_linux_close(ours.port);
    close(fd);
    return fault;
}

/* Both ends give up after a second without a frame (ISO 15765-2, N_Bs and N_Cr), so a machine that stands
 * still for so long ends a message: only then it is passed again. */
static void the_kernels_iso_tp_and_ours_understand_each_other(void **state)
{
    (void)state;
    static const size_t sizes[] = {1, 7, 8, 62, 500, 4095};
    static const struct can_isotp_fc_options flows[] = {{0, 0, 0}, {8, 0, 0}, {1, 0xF5, 0}, {15, 1, 0}};
    if (!have_interface("einbau1", "ip link add einbau1 type vcan 2>/dev/null && ip link set einbau1 up")) {
        print_message("no vcan can be made here: skipped\n");
        skip();
    }
    static uint8_t message[4096];
    unsigned passed = 0;
    unsigned stalls = 0;
    for (size_t f = 0; f < sizeof flows / sizeof flows[0]; f++) {
        for (size_t i = 0; i < sizeof sizes / sizeof sizes[0]; i++) {
            for (size_t k = 0; k < sizes[i]; k++)
                message[k] = (uint8_t)(k * 13 + f);
            const char *fault = "";
            for (int attempt = 1; fault != NULL; attempt++) {
                uint64_t longest_us = 0;
                fault = exchange(&flows[f], message, sizes[i], &longest_us);
                if (fault == NULL)
                    break;
                if (longest_us < STALL_US || attempt == ATTEMPTS)
                    fail_msg("%zu bytes, block size %u: %s; the longest turn took %" PRIu64 " us, attempt %d",
                             sizes[i], flows[f].bs, fault, longest_us, attempt);
                stalls++;
            }
            passed++;
        }
    }
    assert_int_equal(passed, 24);
    print_message(
        "kernel: %u messages of 1 to 4095 bytes passed both ways between the kernel's ISO-TP and ours "
        "(%u times the machine stood still)\n",
        passed, stalls);
}

/* --- serial adapters, and SocketCAN with simulated nodes behind it -------------------------------- */

static int raw_socket(const char *interface)
{
    struct sockaddr_can address = {.can_family = AF_CAN, .can_ifindex = (int)if_nametoindex(interface)};
    int fd = socket(AF_CAN, SOCK_RAW | SOCK_CLOEXEC, CAN_RAW);
    if (fd >= 0 && bind(fd, (const struct sockaddr *)&address, sizeof address) != 0) {
        close(fd);
        return -1;
    }
    return fd;
}

/* Carries frames between two interfaces until it is killed. */
static void bridge(const char *one, const char *other)
{
    struct pollfd fds[2] = {{.fd = raw_socket(one), .events = POLLIN},
                            {.fd = raw_socket(other), .events = POLLIN}};
    struct can_frame frame;
    while (poll(fds, 2, -1) > 0) {
        for (int i = 0; i < 2; i++) {
            if ((fds[i].revents & POLLIN) == 0 || read(fds[i].fd, &frame, sizeof frame) != sizeof frame)
                continue;
            while (write(fds[1 - i].fd, &frame, sizeof frame) < 0 && errno == ENOBUFS)
                usleep(500);
        }
    }
    _exit(0);
}

/* Gives the pseudo-terminal to the kernel's discipline; a network interface comes of it.  At 250 kbit/s (S5).
 */
static int attach_discipline(const char *path, char interface[IFNAMSIZ])
{
    int discipline = N_SLCAN;
    int fd = open(path, O_RDWR | O_NOCTTY | O_CLOEXEC);
    struct termios raw;
    struct ifreq request;
    char line[160];
    if (fd < 0 || tcgetattr(fd, &raw) != 0)
        return -1;
    cfmakeraw(&raw);
    tcsetattr(fd, TCSANOW, &raw);
    if (ioctl(fd, TIOCSETD, &discipline) != 0 || ioctl(fd, SIOCGIFNAME, &request) != 0) {
        close(fd);
        return -1;
    }
    snprintf(interface, IFNAMSIZ, "%s", request.ifr_name);
    snprintf(line, sizeof line, "ip link set %s type can bitrate 250000 && ip link set %s txqueuelen 64 up",
             interface, interface);
    if (system(line) != 0) {
        close(fd);
        return -1;
    }
    return fd;
}

static void nodes_behind_the_kernels_serial_discipline_and_vcan(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 1, .units = 1, .image_bytes = 1500, .no_gateway = true};
    struct little l;
    char log[PATH_BYTES + 32];
    char interface[IFNAMSIZ];
    char adapter[64] = "";
    if (!have_interface("einbau2", "ip link add einbau2 type vcan 2>/dev/null && ip link set einbau2 up")) {
        print_message("no vcan can be made here: skipped\n");
        skip();
    }
    bus_make(&l, &options);
    snprintf(log, sizeof log, "%s/sim.log", l.folder);
    int pid = serve(&l, false, log);
    char *text = read_text(l.folder, "sim.log", NULL);
    const char *at = strstr(text, "adapters ");
    assert_non_null(at);
    assert_int_equal(sscanf(at, "adapters %60s", adapter), 1);
    free(text);
    int fd = attach_discipline(adapter, interface);
    if (fd < 0) {
        print_message("no discipline for serial CAN adapters in this kernel: skipped\n");
        stop_program(pid, SIGTERM);
        little_remove(&l);
        skip();
    }
    /* First straight on the kernel's interface, then on a virtual one that frames are carried to. */
    const char *links[] = {interface, "einbau2"};
    for (size_t i = 0; i < 2; i++) {
        pid_t carrier = i == 1 ? fork() : -1;
        if (carrier == 0)
            bridge(interface, "einbau2");
        char line[3 * PATH_BYTES];
        snprintf(line, sizeof line,
                 "sed 's|adapter: .*|adapter: \"%s\"|; /bit-rate/d' %s/real.site.yaml > %s/can.site.yaml",
                 links[i], l.folder, l.folder);
        assert_int_equal(system(line), 0);
        struct outcome o = einbau(&l, "can.site.yaml", "survey", "gate node-1 unit-1");
        expect_text(o.out, "3 of 3 devices answered");
        outcome_free(&o);
        o = einbau(&l, "can.site.yaml", "fit", "--again --yes node-1 unit-1");
        if (o.status != 0)
            fail_msg("over %s: %d %s%s", links[i], o.status, o.out, o.err);
        expect_text(o.out, "2 confirmed");
        print_message("kernel: 2 devices confirmed over %s\n", links[i]);
        outcome_free(&o);
        if (carrier > 0) {
            kill(carrier, SIGTERM);
            waitpid(carrier, NULL, 0);
        }
    }
    close(fd);
    stop_program(pid, SIGTERM);
    little_remove(&l);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(usb_devices_on_the_kernels_own_controller),
        cmocka_unit_test(the_kernels_iso_tp_and_ours_understand_each_other),
        cmocka_unit_test(nodes_behind_the_kernels_serial_discipline_and_vcan),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
