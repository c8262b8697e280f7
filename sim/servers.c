/* Everything that simulated devices speak; a new protocol is added here. */
#include "server.h"

#include <stdlib.h>

const struct ebi_sim_server *const ebi_sim_servers[] = {
    &ebi_sim_modbus, &ebi_sim_tftp, &ebi_sim_dcp, &ebi_sim_cip, &ebi_sim_dns_sd, &ebi_sim_snmp, &ebi_sim_lldp,
    &ebi_sim_ether,  &ebi_sim_can,  &ebi_sim_usb, NULL};

bool ebi_sim_speaks(const struct ebi_sim_device *d, const struct ebi_sim_server *server)
{
    size_t i = 0;
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
