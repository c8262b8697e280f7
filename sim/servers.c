#include "server.h"

#include <stdlib.h>

#define ROW(name) &ebi_sim_##name,
const struct ebi_sim_server *const ebi_sim_servers[] = {EBI_SIM_SERVERS(ROW) NULL};

bool ebi_sim_speaks(const struct ebi_sim_device *d, const struct ebi_sim_server *server)
{
    size_t i = 0;
    if (ebi_sim_loader_only(d) && server != &ebi_sim_loader && server != &ebi_sim_ether)
        return false;
    while (ebi_sim_servers[i] != server)
        i++;
    return server->word == NULL || (d->speaks >> i & 1) != 0;
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
