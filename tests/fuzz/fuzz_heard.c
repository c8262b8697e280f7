/* Any bytes as what is heard on the wire, by a whole survey: the first byte says as what they arrive. */
#include <einbau/einbau.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

struct wire {
    const uint8_t *bytes;
    size_t size;
    uint64_t now_us;
    bool given;
};

static uint64_t now_us(void *self)
{
    return ((struct wire *)self)->now_us;
}

static size_t wait_until(void *self, uint64_t deadline_us, struct eb_waiter **ready, size_t cap)
{
    struct wire *w = self;
    (void)ready, (void)cap;
    w->now_us = deadline_us > w->now_us + 500000 ? w->now_us + 500000 : deadline_us;
    return 0;
}

static uint32_t number(void *self)
{
    (void)self;
    return 0x12345678;
}

static enum eb_status open_udp(void *self, struct eb_waiter *waiter, const struct eb_udp_options *options,
                               int *handle)
{
    (void)self, (void)waiter, (void)options;
    *handle = 1;
    return EB_OK;
}

static size_t send_udp(void *self, int handle, const struct eb_datagram *burst, size_t count)
{
    (void)self, (void)handle, (void)burst;
    return count;
}

static enum eb_status receive_udp(void *self, int handle, struct eb_datagram *burst, size_t count,
                                  size_t *received)
{
    static const uint16_t ports[] = {EB_DNS_SD_PORT, EB_SNMP_PORT, EB_CIP_PORT};
    struct wire *w = self;
    (void)handle, (void)count;
    *received = 0;
    if (w->given || w->size == 0 || w->bytes[0] % 4 == 0)
        return EB_PENDING;
    w->given = true;
    if (burst[0].size_bytes > w->size - 1)
        burst[0].size_bytes = w->size - 1;
    memcpy(burst[0].bytes, w->bytes + 1, burst[0].size_bytes);
    burst[0].peer = (struct eb_endpoint){{192, 0, 2, 7}, ports[w->bytes[0] % 4 - 1]};
    *received = 1;
    return EB_OK;
}

static void close_any(void *self, int handle)
{
    (void)self, (void)handle;
}

static enum eb_status open_tcp(void *self, struct eb_waiter *waiter, const struct eb_endpoint *peer,
                               int *handle)
{
    (void)self, (void)waiter, (void)peer;
    *handle = EB_NO_HANDLE;
    return EB_UNREACHABLE;
}

static enum eb_status open_frames(void *self, struct eb_waiter *waiter, const char *link, int *handle)
{
    (void)self, (void)waiter, (void)link;
    *handle = 2;
    return EB_OK;
}

static void send_frame(void *self, int handle, const uint8_t *bytes, size_t size)
{
    (void)self, (void)handle, (void)bytes, (void)size;
}

static enum eb_status receive_frame(void *self, int handle, uint8_t *bytes, size_t cap, size_t *received)
{
    struct wire *w = self;
    (void)handle;
    if (w->given || w->size == 0 || w->bytes[0] % 4 != 0)
        return EB_PENDING;
    w->given = true;
    *received = w->size - 1 < cap ? w->size - 1 : cap;
    memcpy(bytes, w->bytes + 1, *received);
    return EB_OK;
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct eb_survey survey;
    static struct eb_found found[4];
    static struct eb_survey_probe probes[2];
    struct wire w = {bytes, size, 1000000, false};
    static const struct eb_port_time time_group = {sizeof time_group, now_us, wait_until, number};
    static const struct eb_port_udp udp_group = {
        .bytes = sizeof udp_group, open_udp, send_udp, receive_udp, close_any};
    static const struct eb_port_tcp tcp_group = {
        .bytes = sizeof tcp_group, .open = open_tcp, .close = close_any};
    static const struct eb_port_frame frame_group = {sizeof frame_group, open_frames, send_frame,
                                                     receive_frame, close_any};
    const struct eb_port port = {.bytes = sizeof port,
                                 .self = &w,
                                 .time = &time_group,
                                 .udp = &udp_group,
                                 .tcp = &tcp_group,
                                 .frame = &frame_group};
    const struct eb_link link = {.name = "eth0",
                                 .up = true,
                                 .carrier = true,
                                 .has_mac = true,
                                 .mac = {2, 0, 0, 0, 0, 1},
                                 .count = 1,
                                 .addresses = {{{192, 0, 2, 100}, 31}}};
    const struct eb_survey_config config = {.port = &port,
                                            .links = &link,
                                            .link_count = 1,
                                            .found = found,
                                            .cap = 4,
                                            .probes = probes,
                                            .probe_count = 2};
    eb_survey_begin(&survey, &config);
    for (int i = 0; i < 4; i++)
        eb_survey_work(&survey, EB_NEVER);
    eb_survey_end(&survey);
    for (size_t i = 0; i < survey.count; i++) {
        for (size_t k = 0; k < found[i].count; k++) {
            if (!eb_text_printable(found[i].facts[k].text))
                __builtin_trap(); /* nothing of a device reaches a terminal as it is */
        }
    }
    return 0;
}
