/* Any sequence of calls to an engine, with any answers between them: sending and reading by TFTP, Modbus,
 * CIP. The first byte chooses the engine, each later one a call, with as many bytes behind it as the call
 * takes. */
#include <einbau/cip.h>
#include <einbau/modbus.h>
#include <einbau/tftp_get.h>

#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

enum { DATA_HEAD = 4, CALLS_MAX = 400 };

struct input {
    const uint8_t *bytes;
    size_t left;
};

static uint8_t take(struct input *in)
{
    if (in->left == 0)
        return 0;
    in->left--;
    return *in->bytes++;
}

static const uint8_t *take_some(struct input *in, size_t *size)
{
    size_t most = take(in);
    const uint8_t *from = in->bytes;
    *size = most < in->left ? most : in->left;
    in->bytes += *size;
    in->left -= *size;
    return from;
}

static uint8_t byte_at(uint64_t offset)
{
    return (uint8_t)(offset * 7 + offset / 251);
}

static enum eb_status read_image(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    if (offset + size > *(const uint64_t *)self)
        __builtin_trap(); /* read beyond the end */
    for (size_t i = 0; i < size; i++)
        to[i] = byte_at(offset + i);
    return EB_OK;
}

/* A time later: 0 s up to 6 s, or when the engine is due. */
static uint64_t later(struct input *in, uint64_t now_us, uint64_t due_us)
{
    uint8_t how = take(in);
    if (how == 0 && due_us != EB_NEVER && due_us > now_us)
        return due_us;
    return now_us + (how < 128 ? how * 100ULL : (how - 128) * 50000ULL);
}

static struct eb_endpoint server(uint16_t port)
{
    return (struct eb_endpoint){{192, 0, 2, 1}, port};
}

/* --- TFTP ---------------------------------------------------------------------------------------- */

/* What is sent as a block is that block; the images are too small for the numbers to begin anew. */
static void check_given(const struct eb_tftp_put *put, const struct eb_datagram *d, uint64_t image_bytes)
{
    if (d->size_bytes < DATA_HEAD || d->bytes[1] != 3)
        return;
    uint64_t number = (uint64_t)(d->bytes[2] << 8 | d->bytes[3]);
    uint64_t at = (number - 1) * put->blksize;
    uint64_t left = number > 0 && at <= image_bytes ? image_bytes - at : 0;
    size_t size = left < put->blksize ? (size_t)left : put->blksize;
    if (number == 0 || at > image_bytes || d->size_bytes != size + DATA_HEAD)
        __builtin_trap();
    for (size_t i = 0; i < size; i++) {
        if (d->bytes[DATA_HEAD + i] != byte_at(at + i))
            __builtin_trap();
    }
}

static void push(struct input *in)
{
    static uint8_t buffer[16 * (64 + DATA_HEAD) + EB_TFTP_BUFFER_MIN_BYTES];
    uint64_t image_bytes = (uint64_t)take(in) * 8 + take(in);
    uint8_t flags = take(in);
    struct eb_tftp_put_config config = {
        .server = server(EB_TFTP_PORT),
        .file_name = "image",
        .source = {.self = &image_bytes, .size_bytes = image_bytes, .read = read_image},
        .blksize = flags & 1   ? 8
                   : flags & 2 ? 64
                               : EB_TFTP_BLKSIZE_DEFAULT,
        .windowsize = (uint16_t)(1 + (flags >> 4)),
        .timeout_s = flags & 4 ? 1 : 0,
        .tsize = flags & 8,
        .rollover_to_one = flags & 16,
        .patience_us = 5000000,
        .buffer = buffer,
        .buffer_bytes = sizeof buffer};
    struct eb_tftp_put put;
    struct eb_datagram burst[EB_BURST_MAX];
    uint64_t now_us = 1000;
    uint64_t last_ack = 0; /* the highest block that any answer has acknowledged, as far as numbers go */
    bool last_acked = false;
    if (eb_tftp_put_init(&put, &config, now_us) != EB_OK)
        return;
    for (int call = 0; call < CALLS_MAX && in->left > 0; call++) {
        uint8_t what = take(in);
        struct eb_endpoint from = server(what & 0x80 ? 5000 : 4000);
        size_t size;
        size_t count;
        uint8_t answer[4] = {0, 4};
        switch (what & 7) {
        case 0: {
            const uint8_t *given = take_some(in, &size);
            /* What it holds may acknowledge the last block, too. */
            last_acked = last_acked || (size >= 4 && given[0] == 0 && given[1] == 4 &&
                                        (uint16_t)(given[2] << 8 | given[3]) == (uint16_t)put.last);
            eb_tftp_put_receive(&put, &from, given, size, now_us);
            break;
        }
        case 1:
        case 2:
            last_ack = put.acked + take(in) % 20;
            answer[2] = (uint8_t)(last_ack >> 8);
            answer[3] = (uint8_t)last_ack;
            last_acked = last_acked || (uint16_t)last_ack == (uint16_t)put.last;
            eb_tftp_put_receive(&put, &from, answer, sizeof answer, now_us);
            break;
        case 3:
            now_us = later(in, now_us, eb_tftp_put_deadline_us(&put));
            eb_tftp_put_tick(&put, now_us);
            break;
        case 4:
            eb_tftp_put_stop(&put);
            break;
        default:
            count = eb_tftp_put_give(&put, burst, 1 + take(in) % EB_BURST_MAX, now_us);
            if (count > EB_BURST_MAX)
                __builtin_trap();
            for (size_t i = 0; i < count; i++)
                check_given(&put, &burst[i], image_bytes);
            eb_tftp_put_taken(&put, count > 0 ? take(in) % (count + 1) : 0, now_us);
        }
        if (put.acked_bytes > image_bytes || put.acked > put.high)
            __builtin_trap(); /* more than there is, or than was sent */
        if (put.state == EB_TFTP_DONE && (!put.all_sent || !last_acked))
            __builtin_trap(); /* without the acknowledgement of the last block */
    }
}

static void read_back(struct input *in)
{
    uint64_t image_bytes = (uint64_t)take(in) * 8 + take(in);
    struct eb_source source = {.self = &image_bytes, .size_bytes = image_bytes, .read = read_image};
    uint8_t flags = take(in);
    struct eb_tftp_get_config config = {.server = server(EB_TFTP_PORT),
                                        .file_name = "image",
                                        .take = eb_tftp_get_compare,
                                        .self = &source,
                                        .blksize = flags & 1 ? 8 : EB_TFTP_BLKSIZE_DEFAULT,
                                        .windowsize = (uint16_t)(1 + (flags >> 4)),
                                        .rollover_to_one = flags & 2,
                                        .patience_us = 5000000};
    struct eb_tftp_get get;
    struct eb_datagram d;
    uint64_t now_us = 1000;
    eb_tftp_get_init(&get, &config, now_us);
    for (int call = 0; call < CALLS_MAX && in->left > 0; call++) {
        uint8_t what = take(in);
        struct eb_endpoint from = server(what & 0x80 ? 5000 : 4000);
        uint8_t block[DATA_HEAD + EB_TFTP_BLKSIZE_DEFAULT] = {0, 3};
        size_t size;
        switch (what & 7) {
        case 0: {
            const uint8_t *given = take_some(in, &size);
            eb_tftp_get_receive(&get, &from, given, size, now_us);
            break;
        }
        case 1:
        case 2: { /* the right block, or one near it */
            uint64_t number = get.blocks + 1 + take(in) % 3;
            uint64_t at = (number - 1) * get.blksize;
            uint64_t left = at < image_bytes ? image_bytes - at : 0;
            size = left < get.blksize ? (size_t)left : get.blksize;
            if (size > sizeof block - DATA_HEAD)
                break;
            block[2] = (uint8_t)(number >> 8);
            block[3] = (uint8_t)number;
            for (size_t i = 0; i < size; i++)
                block[DATA_HEAD + i] = byte_at(at + i);
            eb_tftp_get_receive(&get, &from, block, size + DATA_HEAD, now_us);
            break;
        }
        case 3:
            now_us = later(in, now_us, eb_tftp_get_deadline_us(&get));
            eb_tftp_get_tick(&get, now_us);
            break;
        case 4:
            eb_tftp_get_stop(&get);
            break;
        default:
            if (eb_tftp_get_give(&get, &d) && take(in) % 4 != 0)
                eb_tftp_get_taken(&get, now_us);
        }
        /* More than the image it may hold, as flash behind it. */
        if (get.state == EB_TFTP_GET_DONE && get.done_bytes < image_bytes)
            __builtin_trap(); /* the same, and yet not all of it */
    }
}

/* --- streams ------------------------------------------------------------------------------------- */

/* The answer to the request that went out last, by its own header, or any bytes. */
static void answer_modbus(struct eb_modbus *m, struct input *in, const uint8_t *request, uint8_t how)
{
    uint8_t answer[EB_MODBUS_FRAME_BYTES] = {0};
    size_t size;
    const uint8_t *given = take_some(in, &size);
    if (how & 1) {
        eb_modbus_receive(m, given, size);
        return;
    }
    size = size < 240 ? size : 240;
    memcpy(answer, request, 2); /* the transaction, as it was asked */
    answer[5] = (uint8_t)(size + 2);
    answer[6] = request[6];
    answer[7] = (uint8_t)(request[7] | (how & 2 ? 0x80 : 0));
    memcpy(answer + 8, given, size);
    eb_modbus_receive(m, answer, size + 8);
}

static void modbus(struct input *in)
{
    static struct eb_modbus m;
    uint8_t request[80] = {0};
    const uint8_t *out;
    uint16_t values[EB_MODBUS_REGISTERS_MAX] = {0};
    char text[64];
    eb_modbus_init(&m, EB_MODBUS_UNIT_SELF, take(in));
    for (int call = 0; call < CALLS_MAX && in->left > 0; call++) {
        uint8_t what = take(in);
        size_t size = eb_modbus_give(&m, &out);
        if (size > sizeof request)
            __builtin_trap();
        if (m.state != EB_MODBUS_ASKING) { /* one exchange at a time; after a failure on a new connection */
            if (m.state == EB_MODBUS_FAILED)
                eb_modbus_init(&m, EB_MODBUS_UNIT_SELF, what);
            size_t count = 1 + take(in) % EB_MODBUS_REGISTERS_MAX;
            switch (what % 6) {
            case 0:
                eb_modbus_read_register(&m, what);
                break;
            case 1:
                eb_modbus_write_register(&m, what, what);
                break;
            case 2:
                eb_modbus_read_registers(&m, what, count);
                break;
            case 3:
                eb_modbus_write_registers(&m, what, values, count);
                break;
            case 4:
                eb_modbus_write_coil(&m, what, what & 64);
                break;
            default:
                eb_modbus_identify(&m, what & 64 ? EB_MODBUS_EXTENDED : EB_MODBUS_BASIC);
            }
        } else if (size > 0 && what % 3 != 0) {
            memcpy(request, out, size < 8 ? size : 8);
            eb_modbus_taken(&m, 1 + take(in) % size);
        } else {
            answer_modbus(&m, in, request, what >> 2);
        }
        if (m.objects.count > EB_MODBUS_OBJECTS_MAX || m.objects.used > sizeof m.objects.bytes)
            __builtin_trap();
        for (uint8_t id = 0; id < 8; id++) {
            if (eb_modbus_object_text(&m.objects, id, text, sizeof text) && strlen(text) >= sizeof text)
                __builtin_trap();
        }
    }
}

static void cip(struct input *in)
{
    static struct eb_cip c;
    const uint8_t *out;
    static const enum eb_cip_service services[] = {EB_CIP_GET_ALL, EB_CIP_RESET, EB_CIP_GET_ONE,
                                                   EB_CIP_FLASH};
    uint8_t data[2] = {1, 0};
    c.state = EB_CIP_IDLE;
    for (int call = 0; call < CALLS_MAX && in->left > 0; call++) {
        uint8_t what = take(in);
        size_t size;
        if (c.state != EB_CIP_ASKING) {
            eb_cip_ask(&c, services[what % 4], data, what & 4 ? sizeof data : 0);
        } else if (what % 3 == 0) {
            size = eb_cip_give(&c, &out);
            if (size > 0)
                eb_cip_taken(&c, 1 + take(in) % size);
        } else if (what % 3 == 1) { /* an answer as it ought to begin */
            uint8_t head[24] = {what & 8 ? 0x6f : 0x65};
            uint8_t item[20] = {[6] = 2, [12] = 0xb2};
            const uint8_t *given = take_some(in, &size);
            item[14] = (uint8_t)(size + 4);
            item[16] = what & 16 ? take(in) : (uint8_t)(c.request[0] | 0x80);
            head[2] = (uint8_t)(what & 8 ? size + sizeof item : size);
            head[4] = 1;
            eb_cip_receive(&c, head, sizeof head);
            if (what & 8)
                eb_cip_receive(&c, item, sizeof item);
            eb_cip_receive(&c, given, size);
        } else {
            const uint8_t *given = take_some(in, &size);
            eb_cip_receive(&c, given, size);
        }
        if (c.data_size > EB_CIP_DATA_BYTES)
            __builtin_trap();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static void (*const engines[])(struct input *) = {push, read_back, modbus, cip};
    struct input in = {bytes, size};
    uint8_t which = take(&in);
    engines[which % 4](&in);
    return 0;
}
