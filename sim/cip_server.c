/* The simulated device's EtherNet/IP: list identity, a session, and the Identity object (The CIP Networks
 * Library, volume 1 chapter 5, volume 2 chapter 2). */
#include "documents.h"
#include "server.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>

#include "base/bytes.h"
#include "wire/cip_wire.h"

enum {
    REPLY_BYTES = 256,
    STATUS_COMMAND = 1,
    STATUS_SESSION = 0x64,
    STATUS_LENGTH = 0x65,
    SESSION = 0x45424901,
    CIP_OK = 0,
    CIP_PATH_UNKNOWN = 5,
    CIP_NO_SERVICE = 8,
    CIP_NO_ATTRIBUTE = 0x14,
    STATE_OPERATIONAL = 3
};

static void put32le(uint8_t *at, uint32_t value)
{
    ebi_put16le(at, (uint16_t)value);
    ebi_put16le(at + 2, (uint16_t)(value >> 16));
}

static size_t put_name(const struct ebi_sim_device *d, uint8_t *at)
{
    size_t size = strlen(d->identity.product);
    at[0] = (uint8_t)size;
    memcpy(at + 1, d->identity.product, size);
    return 1 + size;
}

/* Attributes 1 to 7, one after the other. */
static size_t put_attributes(const struct ebi_sim_device *d, uint8_t *at)
{
    const char *version = ebi_sim_device_version(d, 0);
    const char *dot = strchr(version, '.');
    ebi_put16le(at, d->vendor_id);
    ebi_put16le(at + 2, 0x0C); /* communications adapter */
    ebi_put16le(at + 4, d->product_id);
    at[6] = (uint8_t)strtoul(version, NULL, 10);
    at[7] = (uint8_t)(dot != NULL ? strtoul(dot + 1, NULL, 10) : 0);
    ebi_put16le(at + 8, d->mode == EB_SIM_RUNNING ? 0x0064 : 0x0010);
    put32le(at + 10, (uint32_t)crc32_z(0, (const uint8_t *)d->identity.serial, strlen(d->identity.serial)));
    return 14 + put_name(d, at + 14);
}

static size_t list_identity(const struct ebi_sim_device *d, uint8_t *body)
{
    uint8_t *item = body + 6;
    memset(body, 0, 6 + 18);
    ebi_put16le(body, 1);
    ebi_put16le(body + 2, ENCAP_ITEM_IDENTITY);
    ebi_put16le(item, 1);
    ebi_put16(item + 2, 2); /* AF_INET, highest byte first as in a socket address */
    ebi_put16(item + 4, EB_CIP_PORT);
    memcpy(item + 6, d->set.ip, 4);
    size_t size = 18 + put_attributes(d, item + 18);
    item[size++] = STATE_OPERATIONAL;
    ebi_put16le(body + 4, (uint16_t)size);
    return 6 + size;
}

static size_t list_services(uint8_t *body)
{
    static const uint8_t services[] = {1,   0,   0x00, 0x01, 20,  0,   1,   0,   0x20, 0,   'C', 'o', 'm',
                                       'm', 'u', 'n',  'i',  'c', 'a', 't', 'i', 'o',  'n', 's', 0,   0};
    memcpy(body, services, sizeof services);
    return sizeof services;
}

/* One request to the message router; gives the size of the answer. */
static size_t serve(struct ebi_sim_device *d, const uint8_t *cip, size_t size, uint8_t *answer)
{
    uint8_t all[80];
    static const uint8_t at[] = {0, 0, 2, 4, 6, 8, 10, 14, 0};
    unsigned attribute = 0;
    size_t path = size < 2 ? 0 : 2 * (size_t)cip[1];
    memset(answer, 0, 4);
    answer[0] = (uint8_t)((size > 0 ? cip[0] : 0) | CIP_REPLY);
    if (size < 2 + path || path < 4 || cip[2] != 0x20 || cip[3] != CIP_CLASS_IDENTITY || cip[4] != 0x24 ||
        cip[5] != 1) {
        answer[2] = CIP_PATH_UNKNOWN;
        return 4;
    }
    if (path >= 6 && cip[6] == 0x30)
        attribute = cip[7];
    size_t all_size = put_attributes(d, all);
    switch (cip[0]) {
    case EB_CIP_GET_ALL:
        memcpy(answer + 4, all, all_size);
        return 4 + all_size;
    case EB_CIP_GET_ONE:
        if (attribute < 1 || attribute > 7) {
            answer[2] = CIP_NO_ATTRIBUTE;
            return 4;
        }
        size_t end = attribute == 7 ? all_size : at[attribute + 1];
        memcpy(answer + 4, all + at[attribute], end - at[attribute]);
        return 4 + end - at[attribute];
    case EB_CIP_FLASH:
        d->blinks++;
        return 4;
    case EB_CIP_RESET: /* type 1: as it was delivered */
        if (size > 2 + path && cip[2 + path] == 1)
            ebi_sim_documents_reset(d);
        ebi_sim_device_restart(d, false, 0);
        return 4;
    default:
        answer[2] = CIP_NO_SERVICE;
        return 4;
    }
}

static size_t send_rr_data(struct ebi_sim_device *d, const uint8_t *body, size_t size, uint8_t *reply)
{
    if (size < 16 || ebi_get16le(body + 6) != 2 || ebi_get16le(body + 12) != ENCAP_ITEM_UNCONNECTED ||
        ebi_get16le(body + 14) > size - 16)
        return 0;
    memset(reply, 0, 16);
    ebi_put16le(reply + 6, 2);
    size_t answered = serve(d, body + 16, ebi_get16le(body + 14), reply + 16);
    ebi_put16le(reply + 12, ENCAP_ITEM_UNCONNECTED);
    ebi_put16le(reply + 14, (uint16_t)answered);
    return 16 + answered;
}

/* Answers one message; gives the size of the reply, 0 for none. */
static size_t answer(struct ebi_sim_device *d, bool tcp, const uint8_t *message, size_t size, uint8_t *reply)
{
    unsigned command = ebi_get16le(message);
    uint32_t status = 0;
    size_t body = 0;
    memcpy(reply, message, ENCAP_HEAD_BYTES);
    const uint8_t *in = message + ENCAP_HEAD_BYTES;
    uint8_t *out = reply + ENCAP_HEAD_BYTES;
    size_t in_size = size - ENCAP_HEAD_BYTES;
    bool session = ebi_get32le(message + 4) == SESSION;
    if (command == ENCAP_LIST_IDENTITY) {
        body = list_identity(d, out);
    } else if (command == ENCAP_LIST_SERVICES) {
        body = list_services(out);
    } else if (command == ENCAP_REGISTER && tcp) {
        status = in_size == 4 ? 0 : STATUS_LENGTH;
        body = in_size == 4 ? 4 : 0;
        memcpy(out, in, body);
        put32le(reply + 4, SESSION);
    } else if (command == ENCAP_UNREGISTER && tcp) {
        return 0;
    } else if (command == ENCAP_SEND_RR_DATA && tcp) {
        body = session ? send_rr_data(d, in, in_size, out) : 0;
        status = !session ? STATUS_SESSION : body == 0 ? STATUS_LENGTH : 0;
    } else {
        status = STATUS_COMMAND;
    }
    ebi_put16le(reply + 2, (uint16_t)body);
    put32le(reply + 8, status);
    return ENCAP_HEAD_BYTES + body;
}

static void datagram(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size)
{
    (void)handle;
    uint8_t reply[REPLY_BYTES];
    if (size < ENCAP_HEAD_BYTES || ebi_get16le(bytes + 2) != size - ENCAP_HEAD_BYTES)
        return;
    size_t n = answer(d, false, bytes, size, reply);
    d->net->udp_send_from(d->net->self, d, EB_CIP_PORT, from, reply, n);
}

static void stream(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes, size_t size)
{
    uint8_t reply[REPLY_BYTES];
    while (size > 0 && c->handle != EB_NO_HANDLE) {
        size_t n = sizeof c->rx - c->rx_size < size ? sizeof c->rx - c->rx_size : size;
        memcpy(c->rx + c->rx_size, bytes, n);
        c->rx_size += n;
        bytes += n;
        size -= n;
        while (c->rx_size >= ENCAP_HEAD_BYTES) {
            size_t whole = (size_t)ENCAP_HEAD_BYTES + ebi_get16le(c->rx + 2);
            if (whole > sizeof c->rx) {
                int handle = c->handle;
                c->handle = EB_NO_HANDLE;
                d->net->tcp_close(d->net->self, handle);
                return;
            }
            if (c->rx_size < whole)
                break;
            size_t answered = answer(d, true, c->rx, whole, reply);
            if (answered > 0)
                d->net->tcp_send(d->net->self, c->handle, reply, answered);
            c->rx_size -= whole;
            memmove(c->rx, c->rx + whole, c->rx_size);
        }
    }
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    (void)d;
    (void)tcp;
    return EB_CIP_PORT;
}

const struct ebi_sim_server ebi_sim_cip = {
    .word = "cip", .port = port, .datagram = datagram, .stream = stream};
