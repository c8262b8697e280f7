/* What every way to a device shares. */
#include "einbau/text.h"
#include "route/route.h"

#include <string.h>

void ebi_route_init(struct ebi_route *route, const struct eb_run_config *config, void *owner)
{
    memset(route, 0, sizeof *route);
    route->config = config;
    route->owner = owner;
    route->tcp = EB_NO_HANDLE;
    route->udp = EB_NO_HANDLE;
    route->can.handle = EB_NO_HANDLE;
    route->usb.handle = EB_NO_HANDLE;
    route->usb.watch = EB_NO_HANDLE;
    route->can.node = config->node;
    route->can.bit_rate = config->bit_rate;
}

void ebi_route_watch(struct ebi_route *route)
{
    route->watching = true;
    route->restart = EB_RESTART_NOT_SEEN;
}

void ebi_route_restarted(struct ebi_route *route, enum eb_restart proof)
{
    if (route->watching && route->restart == EB_RESTART_NOT_SEEN)
        route->restart = proof;
}

enum eb_status ebi_route_end(struct ebi_route *route, const struct eb_error *error)
{
    route->error = *error;
    route->config->route->close(route);
    return error->status;
}

enum eb_status ebi_route_end_simple(struct ebi_route *route, enum eb_status status, const char *where)
{
    const struct eb_error error = {.status = status, .where = where};
    return ebi_route_end(route, &error);
}

void ebi_route_cut_before(char *text, const char *mark)
{
    if (mark[0] == '\0')
        return;
    const char *at = strstr(text, mark);
    if (at != NULL) {
        at += strlen(mark);
        memmove(text, at, strlen(at) + 1);
    } else {
        text[0] = '\0';
    }
}

bool ebi_route_value(const struct ebi_route *route, const struct eb_values *values, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t i = 0; i < EB_PROFILE_ITEMS; i++) {
        if (values == NULL || eb_profile_values(route->config->profile, i) != values)
            continue;
        for (size_t k = 0; k < values->count && text[0] == '\0'; k++) {
            if (strlen(route->texts[i][k]) < cap) /* half a text is none */
                eb_text_copy(text, cap, route->texts[i][k]);
        }
    }
    return text[0] != '\0';
}

/* --- values -------------------------------------------------------------------------------------- */

static const struct eb_value *value_at(const struct ebi_route *r, size_t place, char **text)
{
    size_t item = place / EB_SOURCES_MAX;
    size_t k = place % EB_SOURCES_MAX;
    const struct eb_values *values = eb_profile_values(r->config->profile, item);
    *text = (char *)r->texts[item][k];
    return values != NULL && k < values->count ? &values->list[k] : NULL;
}

static bool same_source(const struct eb_value *a, const struct eb_value *b)
{
    return a->kind == b->kind && a->item == b->item && a->index == b->index && a->sub == b->sub &&
           a->form == b->form && strcmp(a->after, b->after) == 0;
}

const struct eb_value *ebi_value_next(struct ebi_route *r, enum eb_value_kind kind)
{
    for (; r->value < EB_PROFILE_ITEMS * (size_t)EB_SOURCES_MAX; r->value++) {
        char *text;
        char *earlier = NULL;
        const struct eb_value *value = value_at(r, r->value, &text);
        if (value == NULL || value->kind != kind)
            continue;
        for (size_t k = 0; k < r->value && earlier == NULL; k++) {
            char *from;
            const struct eb_value *other = value_at(r, k, &from);
            if (other != NULL && same_source(other, value))
                earlier = from;
        }
        if (earlier == NULL)
            return value;
        memcpy(text, earlier, EB_NAME_BYTES);
    }
    return NULL;
}

static void number_text(enum eb_value_form form, uint32_t number, char *text)
{
    static const char hex[] = "0123456789ABCDEF";
    struct eb_text out;
    eb_text_init(&out, text, EB_NAME_BYTES);
    if (form == EB_FORM_HEX) {
        char digits[9] = "";
        for (int i = 0; i < 8; i++)
            digits[i] = hex[number >> (28 - 4 * i) & 15];
        eb_text_add(&out, digits);
    } else if (form == EB_FORM_HALVES) {
        eb_text_add_number(&out, number >> 16);
        eb_text_add(&out, ".");
        eb_text_add_number(&out, number & 0xFFFF);
    } else {
        eb_text_add_number(&out, number);
    }
}

void ebi_value_take(struct ebi_route *r, const struct eb_value *value, const uint8_t *bytes, size_t size)
{
    char *text;
    value_at(r, r->value, &text);
    r->value++;
    text[0] = '\0';
    if (value->form == EB_FORM_TEXT) {
        if (size < EB_NAME_BYTES) /* half a text is none */
            eb_text_copy_foreign(text, EB_NAME_BYTES, bytes, size);
    } else if (size >= 1 && size <= 4) {
        uint32_t number = 0;
        for (size_t i = 0; i < size;
             i++) /* CANopen's numbers begin with the lowest byte, those of UDS do not */
            number |= (uint32_t)bytes[value->kind == EB_VALUE_SDO ? i : size - 1 - i] << 8 * i;
        number_text(value->form, number, text);
    }
    ebi_route_cut_before(text, value->after);
}
