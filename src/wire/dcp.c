#include "einbau/dcp.h"
#include "base/bytes.h"
#include "einbau/text.h"
#include "wire/dcp_wire.h"

#include <string.h>

/* A frame being written: its blocks, one after the other. */
struct writing {
    uint8_t *frame;
    size_t at;
};

static struct writing begin(uint8_t *frame, const uint8_t *to, const uint8_t *mac, uint16_t frame_id,
                            uint8_t service, uint32_t xid)
{
    uint8_t *head = frame + EB_FRAME_HEAD_BYTES;
    memset(frame, 0, EB_DCP_FRAME_BYTES);
    eb_frame_write(frame, to, mac, EB_ETHERTYPE_DCP);
    ebi_put16(head, frame_id);
    head[2] = service;
    head[3] = DCP_REQUEST;
    ebi_put32(head + 4, xid);
    return (struct writing){frame, EB_FRAME_HEAD_BYTES + DCP_HEAD_BYTES};
}

/* A block with its qualifier; `size` bytes of data behind that. */
static void add_block(struct writing *w, uint8_t option, uint8_t suboption, uint16_t qualifier,
                      const void *data, size_t size)
{
    uint8_t *block = w->frame + w->at;
    block[0] = option;
    block[1] = suboption;
    ebi_put16(block + 2, (uint16_t)(size + 2));
    ebi_put16(block + DCP_BLOCK_HEAD_BYTES, qualifier);
    memcpy(block + DCP_BLOCK_HEAD_BYTES + 2, data, size);
    w->at += DCP_BLOCK_HEAD_BYTES + 2 + size + (size & 1);
}

static size_t finish(const struct writing *w)
{
    uint8_t *head = w->frame + EB_FRAME_HEAD_BYTES;
    ebi_put16(head + 10, (uint16_t)(w->at - EB_FRAME_HEAD_BYTES - DCP_HEAD_BYTES));
    return w->at < EB_FRAME_MIN_BYTES ? EB_FRAME_MIN_BYTES : w->at;
}

size_t eb_dcp_identify(uint8_t *frame, const uint8_t *mac, uint32_t xid, uint16_t delay_10ms)
{
    static const uint8_t all_stations[EB_MAC_BYTES] = {0x01, 0x0E, 0xCF, 0x00, 0x00, 0x00};
    struct writing w = begin(frame, all_stations, mac, DCP_FRAME_IDENTIFY, DCP_IDENTIFY, xid);
    ebi_put16(frame + EB_FRAME_HEAD_BYTES + 8, delay_10ms);
    frame[w.at++] = DCP_OPTION_ALL;
    frame[w.at++] = DCP_OPTION_ALL;
    w.at += 2; /* no length */
    return finish(&w);
}

size_t eb_dcp_get(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid)
{
    static const uint8_t wanted[] = {DCP_OPTION_PROPERTIES, DCP_STATION_TYPE,      DCP_OPTION_PROPERTIES,
                                     DCP_STATION_NAME,      DCP_OPTION_PROPERTIES, DCP_STATION_ID,
                                     DCP_OPTION_IP,         DCP_IP_PARAMETERS};
    struct writing w = begin(frame, to, mac, DCP_FRAME_GET_SET, DCP_GET, xid);
    memcpy(frame + w.at, wanted, sizeof wanted);
    w.at += sizeof wanted;
    return finish(&w);
}

size_t eb_dcp_set_name(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid, const char *name)
{
    struct writing w = begin(frame, to, mac, DCP_FRAME_GET_SET, DCP_SET, xid);
    size_t size = strlen(name);
    add_block(&w, DCP_OPTION_PROPERTIES, DCP_STATION_NAME, DCP_PERMANENT, name,
              size < EB_DCP_NAME_BYTES ? size : EB_DCP_NAME_BYTES - 1);
    return finish(&w);
}

size_t eb_dcp_set_ip(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid, const uint8_t *ip,
                     const uint8_t *mask, const uint8_t *router)
{
    struct writing w = begin(frame, to, mac, DCP_FRAME_GET_SET, DCP_SET, xid);
    uint8_t data[12];
    memcpy(data, ip, 4);
    memcpy(data + 4, mask, 4);
    memcpy(data + 8, router, 4);
    add_block(&w, DCP_OPTION_IP, DCP_IP_PARAMETERS, DCP_PERMANENT, data, sizeof data);
    return finish(&w);
}

size_t eb_dcp_signal(uint8_t *frame, const uint8_t *mac, const uint8_t *to, uint32_t xid)
{
    static const uint8_t flash_once[2] = {1, 0};
    struct writing w = begin(frame, to, mac, DCP_FRAME_GET_SET, DCP_SET, xid);
    add_block(&w, DCP_OPTION_CONTROL, DCP_CONTROL_SIGNAL, 0, flash_once, sizeof flash_once);
    return finish(&w);
}

/* --- answers ------------------------------------------------------------------------------------- */

static void read_block(struct eb_dcp_station *s, unsigned option, unsigned suboption, unsigned info,
                       const uint8_t *data, size_t size)
{
    if (option == DCP_OPTION_IP && suboption == DCP_IP_PARAMETERS && size >= 12) {
        memcpy(s->ip, data, 4);
        memcpy(s->mask, data + 4, 4);
        memcpy(s->router, data + 8, 4);
        s->has_ip = ebi_get32(data) != 0;
        s->dhcp = (info & 3) == DCP_INFO_IP_DHCP;
        s->conflict = (info & DCP_INFO_IP_CONFLICT) != 0;
    } else if (option == DCP_OPTION_PROPERTIES && suboption == DCP_STATION_TYPE) {
        eb_text_copy_foreign(s->type, sizeof s->type, data, size);
    } else if (option == DCP_OPTION_PROPERTIES && suboption == DCP_STATION_NAME) {
        eb_text_copy_foreign(s->name, sizeof s->name, data, size);
    } else if (option == DCP_OPTION_PROPERTIES && suboption == DCP_STATION_ID && size >= 4) {
        s->has_id = true;
        s->vendor_id = ebi_get16(data);
        s->device_id = ebi_get16(data + 2);
    }
}

/* The blocks of an answer with this `xid`; NULL for anything else. */
static const uint8_t *blocks_of(const struct eb_frame *frame, uint32_t xid, size_t *size)
{
    if (frame->type != EB_ETHERTYPE_DCP || frame->size < DCP_HEAD_BYTES ||
        ebi_get32(frame->payload + 4) != xid || frame->payload[3] == DCP_REQUEST)
        return NULL;
    *size = ebi_get16(frame->payload + 10);
    return *size <= frame->size - DCP_HEAD_BYTES ? frame->payload + DCP_HEAD_BYTES : NULL;
}

bool eb_dcp_answers_other(const struct eb_frame *frame, uint32_t xid)
{
    return frame->size >= DCP_HEAD_BYTES && (frame->to[0] & 1) == 0 && frame->payload[3] != DCP_REQUEST &&
           ebi_get32(frame->payload + 4) != xid;
}

bool eb_dcp_read_station(struct eb_dcp_station *station, const struct eb_frame *frame, uint32_t xid)
{
    size_t size;
    const uint8_t *blocks = blocks_of(frame, xid, &size);
    if (blocks == NULL || frame->payload[3] != DCP_SUCCESS)
        return false;
    unsigned id = ebi_get16(frame->payload);
    unsigned service = frame->payload[2];
    if (!(id == DCP_FRAME_IDENTIFIED && service == DCP_IDENTIFY) &&
        !(id == DCP_FRAME_GET_SET && service == DCP_GET))
        return false;
    memset(station, 0, sizeof *station);
    memcpy(station->mac, frame->from, EB_MAC_BYTES);
    for (size_t at = 0; at + DCP_BLOCK_HEAD_BYTES <= size;) {
        size_t length = ebi_get16(blocks + at + 2);
        const uint8_t *value = blocks + at + DCP_BLOCK_HEAD_BYTES;
        if (at + DCP_BLOCK_HEAD_BYTES + length > size)
            return false;
        if (length >= 2)
            read_block(station, blocks[at], blocks[at + 1], ebi_get16(value), value + 2, length - 2);
        at += DCP_BLOCK_HEAD_BYTES + length + (length & 1);
    }
    return true;
}

enum eb_status eb_dcp_read_set(const struct eb_frame *frame, uint32_t xid, struct eb_error *error)
{
    static const char *const errors[] = {"ok",
                                         "option not supported",
                                         "suboption not supported",
                                         "not set",
                                         "resource error",
                                         "not possible for local reasons",
                                         "not while in operation"};
    size_t size;
    const uint8_t *blocks = blocks_of(frame, xid, &size);
    if (blocks == NULL || ebi_get16(frame->payload) != DCP_FRAME_GET_SET || frame->payload[2] != DCP_SET)
        return EB_PENDING;
    uint32_t number = 0;
    const char *text = NULL;
    if (frame->payload[3] != DCP_SUCCESS) {
        number = frame->payload[3];
        text = "service not supported";
    }
    for (size_t at = 0; text == NULL && at + DCP_BLOCK_HEAD_BYTES + 3 <= size;) {
        size_t length = ebi_get16(blocks + at + 2);
        if (blocks[at] == DCP_OPTION_CONTROL && blocks[at + 1] == DCP_CONTROL_RESPONSE && length >= 3 &&
            blocks[at + 6] != 0) {
            number = blocks[at + 6];
            text = number < sizeof errors / sizeof errors[0] ? errors[number] : "unknown error";
        }
        at += DCP_BLOCK_HEAD_BYTES + length + (length & 1);
    }
    if (text == NULL)
        return EB_OK;
    *error = (struct eb_error){
        .status = EB_PEER_ERROR, .code = EB_CODE_DCP, .number = number, .where = "setting by DCP"};
    eb_text_copy(error->text, sizeof error->text, text);
    return EB_PEER_ERROR;
}

/* --- names --------------------------------------------------------------------------------------- */

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

static size_t digits_at(const char *text)
{
    size_t count = 0;
    while (is_digit(text[count]))
        count++;
    return count;
}

/* "port-001" and "port-001-00001" are the ports' own. */
static bool like_port(const char *label, size_t size)
{
    if (size < 8 || memcmp(label, "port-", 5) != 0 || digits_at(label + 5) != 3)
        return false;
    return size == 8 || (size == 14 && label[8] == '-' && digits_at(label + 9) >= 5);
}

static bool like_address(const char *name)
{
    for (int part = 0; part < 4; part++) {
        size_t count = digits_at(name);
        if (count == 0 || count > 3 || name[count] != (part < 3 ? '.' : '\0'))
            return false;
        name += count + 1;
    }
    return true;
}

const char *eb_dcp_name_wrong(const char *name)
{
    if (strlen(name) >= EB_DCP_NAME_BYTES)
        return "longer than 240 characters";
    if (like_address(name))
        return "like an IP address";
    for (const char *label = name;;) {
        size_t size = strcspn(label, ".");
        if (size == 0)
            return "a part without a character between the dots";
        if (size > 63)
            return "a part of more than 63 characters";
        if (label[0] == '-' || label[size - 1] == '-')
            return "a part that begins or ends with '-'";
        for (size_t i = 0; i < size; i++) {
            bool letter = label[i] >= 'a' && label[i] <= 'z';
            if (!letter && !is_digit(label[i]) && label[i] != '-')
                return "a character other than a to z, 0 to 9, '-' and '.'";
        }
        if (label == name && like_port(label, size))
            return "like the name of a port";
        if (label[size] == '\0')
            return NULL;
        label += size + 1;
    }
}
