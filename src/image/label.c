#include "einbau/label.h"
#include "base/bytes.h"
#include "einbau/text.h"

#include <string.h>

void eb_label_begin(struct eb_label_reader *reader, const struct eb_label *label, uint64_t base)
{
    memset(reader, 0, sizeof *reader);
    reader->label = label;
    reader->base = base;
    reader->next = base;
}

static uint8_t bytes_wanted(const struct eb_label_place *place)
{
    return place->text_bytes != 0 ? place->text_bytes : (uint8_t)(place->number_bytes * place->parts);
}

/* Bytes of a piece that lie at the place's offset. */
static void take_at(struct eb_label_reader *r, int item, uint64_t from, const uint8_t *bytes, size_t size)
{
    const struct eb_label_place *place = &r->label->places[item];
    uint64_t at = (uint64_t)place->offset + r->have[item];
    uint8_t wanted = bytes_wanted(place);
    while (r->have[item] < wanted && at >= from && at < from + size)
        r->bytes[item][r->have[item]++] = bytes[at++ - from];
}

/* The longest end of the first `matched` characters that is also their beginning (Knuth, Morris, Pratt). */
static uint8_t shorter_match(const char *marker, uint8_t matched)
{
    uint8_t k = (uint8_t)(matched - 1);
    while (k > 0 && memcmp(marker, marker + matched - k, k) != 0)
        k--;
    return k;
}

static void take_after(struct eb_label_reader *r, int item, const uint8_t *bytes, size_t size)
{
    const struct eb_label_place *place = &r->label->places[item];
    uint8_t length = (uint8_t)strlen(place->marker);
    size_t i = 0;
    while (!r->found[item] && i < size) {
        if (r->matched[item] == 0) {
            const uint8_t *first = memchr(bytes + i, (uint8_t)place->marker[0], size - i);
            if (first == NULL)
                return;
            i = (size_t)(first - bytes);
        }
        if (bytes[i] == (uint8_t)place->marker[r->matched[item]]) {
            i++;
            r->found[item] = ++r->matched[item] == length;
        } else {
            r->matched[item] = shorter_match(place->marker, r->matched[item]);
        }
    }
    while (r->have[item] < bytes_wanted(place) && i < size)
        r->bytes[item][r->have[item]++] = bytes[i++];
}

void eb_label_take(struct eb_label_reader *r, const struct eb_image_piece *piece)
{
    bool touches = piece->address == r->next;
    bool near = piece->address - r->base < EB_LABEL_SEARCH_BYTES;
    for (int i = 0; i < EB_LABEL_ITEMS; i++) {
        const struct eb_label_place *place = &r->label->places[i];
        if (place->where == EB_PLACE_AT)
            take_at(r, i, piece->address - r->base, piece->bytes, piece->size);
        if (place->where != EB_PLACE_AFTER)
            continue;
        if (!touches && r->have[i] == 0) {
            r->matched[i] = 0;
            r->found[i] = false;
        }
        if (r->found[i] ? touches : near)
            take_after(r, i, piece->bytes, piece->size);
    }
    r->next = piece->address + piece->size;
}

static bool settled_item(const struct eb_label_reader *r, int item)
{
    const struct eb_label_place *place = &r->label->places[item];
    return place->where == EB_PLACE_NONE || r->have[item] == bytes_wanted(place) ||
           (place->where == EB_PLACE_AFTER && !r->found[item] && r->next - r->base >= EB_LABEL_SEARCH_BYTES);
}

bool eb_label_settled(const struct eb_label_reader *r)
{
    for (int i = 0; i < EB_LABEL_ITEMS; i++) {
        if (!settled_item(r, i))
            return false;
    }
    return true;
}

static uint64_t number_at(const struct eb_label_place *place, const uint8_t *bytes)
{
    uint64_t number = 0;
    for (uint8_t i = 0; i < place->number_bytes; i++) {
        uint8_t byte = bytes[place->big_endian ? i : place->number_bytes - 1 - i];
        number = number << 8 | byte;
    }
    return number;
}

bool eb_label_text(const struct eb_label_reader *r, enum eb_label_item item, char to[EB_NAME_BYTES])
{
    const struct eb_label_place *place = &r->label->places[item];
    const uint8_t *bytes = r->bytes[item];
    to[0] = '\0';
    if (place->where == EB_PLACE_NONE)
        return false;
    if (place->text_bytes == 0) {
        struct eb_text text;
        eb_text_init(&text, to, EB_NAME_BYTES);
        if (r->have[item] < bytes_wanted(place))
            return false;
        for (uint8_t i = 0; i < place->parts; i++) {
            eb_text_add(&text, i > 0 ? "." : "");
            eb_text_add_number(&text, number_at(place, bytes + i * place->number_bytes));
        }
        return true;
    }
    size_t size = 0;
    while (size < r->have[item] && bytes[size] != '\0' && bytes[size] != '\r' && bytes[size] != '\n' &&
           strchr(place->until, bytes[size]) == NULL)
        size++;
    eb_text_copy_foreign(to, EB_NAME_BYTES, bytes, size);
    return to[0] != '\0' && strchr(to, '?') == NULL;
}
