#include "einbau/cip.h"
#include "base/bytes.h"
#include "einbau/text.h"
#include "wire/cip_wire.h"

#include <string.h>

void eb_cip_list_identity(uint8_t message[EB_CIP_LIST_BYTES], uint16_t delay_ms)
{
    memset(message, 0, EB_CIP_LIST_BYTES);
    ebi_put16le(message, ENCAP_LIST_IDENTITY);
    ebi_put16le(message + 12, delay_ms);
}

bool eb_cip_read_attributes(struct eb_cip_identity *identity, const uint8_t *data, size_t size)
{
    if (size < 15 || size < (size_t)15 + data[14])
        return false;
    memset(identity, 0, sizeof *identity);
    identity->vendor = ebi_get16le(data);
    identity->type = ebi_get16le(data + 2);
    identity->product = ebi_get16le(data + 4);
    identity->major = data[6];
    identity->minor = data[7];
    identity->status = ebi_get16le(data + 8);
    identity->serial = ebi_get32le(data + 10);
    eb_text_copy_foreign(identity->name, sizeof identity->name, data + 15, data[14]);
    return true;
}

bool eb_cip_read_identity(struct eb_cip_identity *identity, const uint8_t *message, size_t size)
{
    enum { ITEM_AT = ENCAP_HEAD_BYTES + 2, IDENTITY_AT = ITEM_AT + 4 + 18 }; /* version and socket address */
    if (size < IDENTITY_AT || ebi_get16le(message) != ENCAP_LIST_IDENTITY || ebi_get32le(message + 8) != 0 ||
        ebi_get16le(message + 2) > size - ENCAP_HEAD_BYTES || ebi_get16le(message + ENCAP_HEAD_BYTES) == 0 ||
        ebi_get16le(message + ITEM_AT) != ENCAP_ITEM_IDENTITY)
        return false;
    size_t item = ebi_get16le(message + ITEM_AT + 2);
    if (item < 18 || item > size - ITEM_AT - 4)
        return false;
    return eb_cip_read_attributes(identity, message + IDENTITY_AT, item - 18);
}

/* --- a request over TCP -------------------------------------------------------------------------- */

static void fail(struct eb_cip *cip, enum eb_status status, uint32_t number, const char *text)
{
    cip->state = EB_CIP_FAILED;
    cip->error =
        (struct eb_error){.status = status, .code = EB_CODE_CIP, .number = number, .where = "EtherNet/IP"};
    eb_text_copy(cip->error.text, sizeof cip->error.text, text);
}

static uint8_t *begin(struct eb_cip *cip, uint16_t command, size_t size)
{
    memset(cip->tx, 0, ENCAP_HEAD_BYTES);
    ebi_put16le(cip->tx, command);
    ebi_put16le(cip->tx + 2, (uint16_t)size);
    ebi_put16le(cip->tx + 4, (uint16_t)cip->session);
    ebi_put16le(cip->tx + 6, (uint16_t)(cip->session >> 16));
    cip->tx_size = ENCAP_HEAD_BYTES + size;
    cip->tx_taken = 0;
    cip->rx_size = 0;
    return cip->tx + ENCAP_HEAD_BYTES;
}

void eb_cip_ask(struct eb_cip *cip, enum eb_cip_service service, const uint8_t *data, size_t size)
{
    static const uint8_t identity_1[5] = {2, 0x20, CIP_CLASS_IDENTITY, 0x24, 1}; /* path in words */
    memset(cip, 0, sizeof *cip);
    cip->state = EB_CIP_ASKING;
    cip->request[0] = (uint8_t)service;
    memcpy(cip->request + 1, identity_1, sizeof identity_1);
    cip->request_size = 1 + sizeof identity_1;
    if (size > 0 && size <= sizeof cip->request - cip->request_size) {
        memcpy(cip->request + cip->request_size, data, size);
        cip->request_size += size;
    }
    uint8_t *body = begin(cip, ENCAP_REGISTER, 4);
    ebi_put16le(body, 1); /* protocol version */
    ebi_put16le(body + 2, 0);
}

size_t eb_cip_give(const struct eb_cip *cip, const uint8_t **bytes)
{
    *bytes = cip->tx + cip->tx_taken;
    return cip->tx_size - cip->tx_taken;
}

void eb_cip_taken(struct eb_cip *cip, size_t count)
{
    cip->tx_taken += count;
}

static void send_request(struct eb_cip *cip)
{
    enum {
        BEFORE = 16
    }; /* interface, timeout, number of items, an empty address item, the data item's head */
    uint8_t *body = begin(cip, ENCAP_SEND_RR_DATA, BEFORE + cip->request_size);
    memset(body, 0, BEFORE);
    ebi_put16le(body + 4, 5); /* seconds */
    ebi_put16le(body + 6, 2);
    ebi_put16le(body + 12, ENCAP_ITEM_UNCONNECTED);
    ebi_put16le(body + 14, (uint16_t)cip->request_size);
    memcpy(body + BEFORE, cip->request, cip->request_size);
}

static const char *status_text(unsigned status)
{
    static const struct {
        uint8_t status;
        const char *text;
    } known[] = {
        {0x05, "path not known"},      {0x08, "service not supported"}, {0x0C, "not in this state"},
        {0x0F, "no right to do this"}, {0x10, "not in this state"},     {0x13, "not enough data"},
        {0x14, "attribute not known"}, {0x15, "too much data"},         {0x02, "no resources"},
        {0x09, "value not allowed"},
    };
    for (size_t i = 0; i < sizeof known / sizeof known[0]; i++) {
        if (known[i].status == status)
            return known[i].text;
    }
    return "unknown status";
}

/* The message router's answer: service | 80h, reserved, status, number of further status words, them, data.
 */
static void receive_answer(struct eb_cip *cip, const uint8_t *answer, size_t size)
{
    if (size < 4 || answer[0] != (cip->request[0] | CIP_REPLY) || size < 4 + 2 * (size_t)answer[3]) {
        fail(cip, EB_GARBAGE, 0, "answer to another request");
        return;
    }
    size_t head = 4 + 2 * (size_t)answer[3];
    if (answer[2] != 0) {
        fail(cip, EB_PEER_ERROR, answer[2], status_text(answer[2]));
    } else if (size - head > sizeof cip->data) {
        fail(cip, EB_TOO_LARGE, 0, "answer longer than 128 bytes");
    } else {
        cip->data_size = size - head;
        memcpy(cip->data, answer + head, cip->data_size);
        cip->state = EB_CIP_DONE;
    }
}

static void receive_items(struct eb_cip *cip, const uint8_t *body, size_t size)
{
    size_t at = 8;
    for (unsigned left = size < at ? 0 : ebi_get16le(body + 6); left > 0 && at + 4 <= size; left--) {
        size_t length = ebi_get16le(body + at + 2);
        if (length > size - at - 4)
            break;
        if (ebi_get16le(body + at) == ENCAP_ITEM_UNCONNECTED) {
            receive_answer(cip, body + at + 4, length);
            return;
        }
        at += 4 + length;
    }
    fail(cip, EB_GARBAGE, 0, "answer without its data");
}

static void receive_whole(struct eb_cip *cip)
{
    uint16_t command = ebi_get16le(cip->rx);
    uint32_t status = ebi_get32le(cip->rx + 8);
    size_t size = cip->rx_size - ENCAP_HEAD_BYTES;
    bool registering = cip->session == 0;
    if (command != (registering ? ENCAP_REGISTER : ENCAP_SEND_RR_DATA)) {
        fail(cip, EB_GARBAGE, command, "answer to another command");
    } else if (status != 0) {
        fail(cip, EB_PEER_ERROR, status, "the session was refused");
    } else if (registering) {
        cip->session = ebi_get32le(cip->rx + 4);
        if (cip->session == 0)
            fail(cip, EB_GARBAGE, 0, "session without a number");
        else
            send_request(cip);
    } else {
        receive_items(cip, cip->rx + ENCAP_HEAD_BYTES, size);
    }
}

void eb_cip_receive(struct eb_cip *cip, const uint8_t *bytes, size_t size)
{
    while (size > 0 && cip->state == EB_CIP_ASKING) {
        size_t wanted = ENCAP_HEAD_BYTES;
        if (cip->rx_size >= ENCAP_HEAD_BYTES)
            wanted += ebi_get16le(cip->rx + 2);
        if (wanted > sizeof cip->rx) {
            fail(cip, EB_TOO_LARGE, 0, "answer longer than 256 bytes");
            return;
        }
        size_t n = wanted - cip->rx_size < size ? wanted - cip->rx_size : size;
        memcpy(cip->rx + cip->rx_size, bytes, n);
        cip->rx_size += n;
        bytes += n;
        size -= n;
        if (cip->rx_size >= ENCAP_HEAD_BYTES &&
            cip->rx_size == (size_t)ENCAP_HEAD_BYTES + ebi_get16le(cip->rx + 2))
            receive_whole(cip);
    }
}
