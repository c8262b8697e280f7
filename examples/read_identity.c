/* Reads the identity of one device by Modbus/TCP and prints what it said.
 *
 *   read_identity 192.0.2.10 502 profiles/regent-c4.yaml */
#include <einbau/host.h>

#include <stdio.h>
#include <stdlib.h>

int main(int argc, char **argv)
{
    struct eb_problem problem;
    struct eb_profile profile;
    struct eb_endpoint device;
    static uint64_t memory[1024]; /* for the protocols that the profile names */
    if (argc != 4 || !eb_endpoint_parse(&device, argv[1])) {
        fputs("usage: read_identity ADDRESS PORT PROFILE\n", stderr);
        return 2;
    }
    device.port = (uint16_t)strtoul(argv[2], NULL, 10);
    if (!eb_profile_read(argv[3], &profile, &problem)) {
        fprintf(stderr, "%s\n", problem.text);
        return 2;
    }

    const struct eb_port *port = eb_port_linux_open();
    if (port == NULL)
        return 2;
    const struct eb_run_config config = {
        .port = port,
        .profile = &profile,
        .memory = memory,
        .memory_bytes = sizeof memory,
        .target = {.modbus = device, .unit = EB_MODBUS_UNIT_SELF},
        .reach_patience_us = 3000000,
    };
    struct eb_run run; /* without items it only looks */
    if (eb_run_init(&run, &config) != EB_OK)
        return 2;
    while (eb_run_poll(&run), !eb_run_ended(&run))
        eb_port_wait(port, eb_run_deadline_us(&run));
    eb_port_linux_close(port);

    if (!run.identified) {
        fprintf(stderr, "%s: %s\n", run.error.where, eb_status_word(run.error.status));
        return 1;
    }
    printf("%s %s, order code %s, hardware revision %s, serial number %s\n", run.identity.maker,
           run.identity.product, run.identity.order_code, run.identity.hardware_revision,
           run.identity.serial);
    for (size_t i = 0; i < profile.count; i++)
        printf("%s %s\n", profile.components[i].name, run.in_loader ? "(in loader)" : run.running[i].version);
    eb_profile_free(&profile);
    return 0;
}
