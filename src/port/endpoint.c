#include "einbau/port.h"
#include "einbau/text.h"

#include <string.h>

bool eb_endpoint_same(const struct eb_endpoint *a, const struct eb_endpoint *b)
{
    return memcmp(a->ip, b->ip, sizeof a->ip) == 0 && a->port == b->port;
}

bool eb_endpoint_parse(struct eb_endpoint *endpoint, const char *text)
{
    uint8_t ip[4];
    for (int i = 0; i < 4; i++) {
        uint64_t number;
        size_t size = strcspn(text, ".");
        bool last = text[size] == '\0';
        if (size > 3 || !eb_text_number(text, size, &number) || number > 255 || last != (i == 3))
            return false;
        if (size > 1 && text[0] == '0')
            return false;
        ip[i] = (uint8_t)number;
        text += size + (last ? 0 : 1);
    }
    memcpy(endpoint->ip, ip, sizeof ip);
    return true;
}

void eb_endpoint_text(const struct eb_endpoint *endpoint, bool with_port, char text[EB_ENDPOINT_TEXT_BYTES])
{
    struct eb_text out;
    eb_text_init(&out, text, EB_ENDPOINT_TEXT_BYTES);
    for (int i = 0; i < 4; i++) {
        if (i > 0)
            eb_text_add(&out, ".");
        eb_text_add_number(&out, endpoint->ip[i]);
    }
    if (with_port) {
        eb_text_add(&out, ":");
        eb_text_add_number(&out, endpoint->port);
    }
}
