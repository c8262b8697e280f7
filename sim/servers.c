/* Everything that simulated devices speak; a new protocol is added here. */
#include "server.h"

#include "wire/modbus_wire.h"

const struct ebi_sim_server *const ebi_sim_servers[] = {
    &ebi_sim_modbus, &ebi_sim_tftp, &ebi_sim_dcp, &ebi_sim_cip, &ebi_sim_dns_sd, &ebi_sim_snmp, &ebi_sim_lldp,
    &ebi_sim_ether,  &ebi_sim_can,  &ebi_sim_usb, NULL};

const struct ebi_sim_modbus_function ebi_sim_modbus_functions[] = {
    {MODBUS_READ_REGISTERS, ebi_sim_modbus_read_registers},
    {MODBUS_WRITE_COIL, ebi_sim_modbus_write_coil},
    {MODBUS_WRITE_REGISTER, ebi_sim_modbus_write_register},
    {MODBUS_WRITE_REGISTERS, ebi_sim_modbus_write_registers},
    {MODBUS_ENCAPSULATED, ebi_sim_modbus_identify},
    {0, NULL}};

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
