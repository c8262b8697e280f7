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
    route->can.node = config->node;
    route->can.bit_rate = config->bit_rate;
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
