#include "server.h"

#include <stdlib.h>

#define ROW(name) &ebi_sim_##name,
const struct ebi_sim_server *const ebi_sim_servers[] = {EBI_SIM_SERVERS(ROW) NULL};

static bool speaks(const struct ebi_sim_device *d, size_t i)
{
    const struct ebi_sim_server *server = ebi_sim_servers[i];
    if (server->word != NULL && (d->speaks >> i & 1) == 0)
        return false;
    return server == &ebi_sim_loader || server == &ebi_sim_ether || !ebi_sim_loader_only(d);
}

bool ebi_sim_speaks(const struct ebi_sim_device *d, const struct ebi_sim_server *server)
{
    size_t i = 0;
    while (ebi_sim_servers[i] != server)
        i++;
    return speaks(d, i);
}

uint64_t ebi_sim_servers_deadline_us(const struct ebi_sim_device *d)
{
    uint64_t next_us = EB_NEVER;
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        uint64_t at_us = ebi_sim_servers[i]->deadline_us != NULL && speaks(d, i)
                             ? ebi_sim_servers[i]->deadline_us(d)
                             : EB_NEVER;
        next_us = at_us < next_us ? at_us : next_us;
    }
    return next_us;
}

const struct ebi_sim_server *ebi_sim_server_at(const struct ebi_sim_device *d, bool tcp, uint16_t port)
{
    for (size_t i = 0; ebi_sim_servers[i] != NULL; i++) {
        const struct ebi_sim_server *server = ebi_sim_servers[i];
        if (server->port != NULL && ebi_sim_speaks(d, server) && server->port(d, tcp) == port && port != 0)
            return server;
    }
    return NULL;
}

void *ebi_sim_own(struct ebi_sim_device *d, const struct ebi_sim_server *server, size_t bytes)
{
    size_t i = 0;
    while (i + 1 < EBI_SIM_OWN_MAX && d->own[i].of != NULL && d->own[i].of != server)
        i++;
    if (d->own[i].of != server) {
        d->own[i].of = server;
        d->own[i].memory = calloc(1, bytes);
        if (d->own[i].memory == NULL)
            abort();
    }
    return d->own[i].memory;
}
