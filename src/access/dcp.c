#include "access/exchange.h"
#include "einbau/dcp.h"
#include "einbau/text.h"

#include <string.h>

static size_t write(const struct eb_exchange *x, uint8_t *bytes, size_t cap)
{
    const struct eb_operation *o = &x->operation;
    const uint8_t *mac = x->link.mac;
    (void)cap;
    switch (o->kind) {
    case EB_NAMED:
        return eb_dcp_identify(bytes, mac, x->id, 1);
    case EB_SET_NAME:
        return eb_dcp_set_name(bytes, mac, x->mac, x->id, o->name);
    case EB_SET_IP:
        return eb_dcp_set_ip(bytes, mac, x->mac, x->id, o->ip, o->mask, o->router);
    case EB_BLINK:
        return eb_dcp_signal(bytes, mac, x->mac, x->id);
    default:
        return eb_dcp_get(bytes, mac, x->mac, x->id);
    }
}

static void read_value(const void *from, const struct eb_value *value, char *text)
{
    const struct eb_dcp_station *station = from;
    const char *said = value->item == EB_DCP_NAME ? station->name : station->type;
    struct eb_text out;
    eb_text_init(&out, text, EB_NAME_BYTES);
    if (value->item == EB_DCP_NAME || value->item == EB_DCP_TYPE)
        eb_text_add(&out, strlen(said) < EB_NAME_BYTES ? said : "");
    else if (station->has_id)
        eb_text_add_number(&out, value->item == EB_DCP_VENDOR ? station->vendor_id : station->device_id);
}

static enum eb_status take(struct eb_exchange *x, const uint8_t *bytes, size_t size, struct eb_error *error)
{
    const struct eb_operation *o = &x->operation;
    struct eb_dcp_station station;
    struct eb_frame frame;
    if (!eb_frame_read(&frame, bytes, size))
        return EB_PENDING;
    if (o->kind == EB_NAMED) {
        if (eb_dcp_read_station(&station, &frame, x->id) && strcmp(station.name, o->name) == 0)
            ebi_exchange_collect(x, frame.from);
        return EB_PENDING;
    }
    if (memcmp(frame.from, x->mac, EB_MAC_BYTES) != 0)
        return EB_PENDING;
    if (o->kind != EB_STATION && o->kind != EB_READ)
        return eb_dcp_read_set(&frame, x->id, error);
    if (!eb_dcp_read_station(&station, &frame, x->id))
        return EB_PENDING;
    if (o->kind == EB_STATION)
        *o->station = station;
    else
        ebi_values_take(x->contact, &eb_access_dcp, 0, read_value, &station);
    return EB_OK;
}

static const struct ebi_question question = {&eb_access_dcp, 0, write, take};

static void init(void *self, struct eb_contact *contact)
{
    ebi_exchange_init(self, &question, contact);
}

static const char *const items[] = {"name", "type", "vendor", "device", NULL};
static const struct eb_field fields[] = {{"dcp", EB_FIELD_WORD, EBI_VALUE(item), .words = items}};
static const struct eb_row sources[] = {{"dcp", .fields = fields, .count = 1}};

const struct eb_rows eb_rows_dcp = {.sources = sources, .source_count = sizeof sources / sizeof sources[0]};

const struct eb_access eb_access_dcp = {
    .word = "dcp",
    .title = "PROFINET DCP",
    .rank = 6,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_BLINK) | EB_ABLE(EB_STATION) | EB_ABLE(EB_SET_NAME) |
            EB_ABLE(EB_SET_IP) | EB_ABLE(EB_NAMED) | EB_BY_FRAMES,
    .needs = EB_NEEDS_FRAMES,
    .context_bytes = sizeof(struct eb_exchange),
    .init = init,
    .begin = ebi_exchange_begin,
    .poll = ebi_exchange_poll,
    .deadline_us = ebi_exchange_deadline_us,
    .close = ebi_exchange_close,
};
