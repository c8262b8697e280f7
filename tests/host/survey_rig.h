/* One survey of a world that the test writes. */
#ifndef SURVEY_RIG_H
#define SURVEY_RIG_H

#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { ROWS = 64, PROBES = 16 };

static char folder[PATH_BYTES];

static inline int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    write_image(folder, "old.bin", "BOX", "firmware", "1.24", 2000, "1", "");
    return 0;
}

static inline int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* --- one survey ---------------------------------------------------------------------------------- */

struct look {
    struct eb_sim *sim;
    const struct eb_port *port;
    struct eb_link links[4];
    size_t link_count;
    struct eb_survey survey;
    struct eb_found found[ROWS];
    struct eb_survey_probe probes[PROBES];
    uint64_t began_us, took_us;
};

static inline void begin_look(struct look *l, const struct eb_port *port, bool keep_on)
{
    l->port = port;
    l->link_count = port->links->list(port->self, l->links, 4);
    const struct eb_survey_config config = {.port = port,
                                            .links = l->links,
                                            .link_count = l->link_count,
                                            .found = l->found,
                                            .cap = ROWS,
                                            .probes = l->probes,
                                            .probe_count = PROBES,
                                            .keep_on = keep_on};
    l->began_us = eb_port_now_us(port);
    eb_survey_begin(&l->survey, &config);
}

static inline void end_look(struct look *l)
{
    while (eb_survey_work(&l->survey, EB_NEVER))
        ;
    l->took_us = eb_port_now_us(l->port) - l->began_us;
    eb_survey_end(&l->survey);
}

/* `wire`, `laptop` and `devices` are YAML. */
static inline struct look *open_world(const char *wire, const char *laptop, const char *devices)
{
    struct look *l = calloc(1, sizeof *l);
    struct eb_problem problem;
    char path[PATH_BYTES + 16];
    assert_non_null(l);
    write_text(folder, "world.yaml", "world: w\nwires: {lan: {%s}}\nlaptop:\n%s\ndevices:\n%s", wire, laptop,
               devices);
    snprintf(path, sizeof path, "%s/world.yaml", folder);
    l->sim = eb_sim_open(path, NULL, &problem);
    if (l->sim == NULL)
        fail_msg("%s", problem.text);
    return l;
}

static inline void close_world(struct look *l)
{
    eb_sim_close(l->sim);
    free(l);
}

static inline const struct eb_found *by_name(const struct look *l, const char *name)
{
    for (size_t i = 0; i < l->survey.count; i++) {
        for (size_t k = 0; k < l->found[i].count; k++) {
            if (strcmp(l->found[i].facts[k].text, name) == 0)
                return &l->found[i];
        }
    }
    return NULL;
}

static inline bool heard(const struct eb_found *f, enum eb_protocol by)
{
    return f != NULL && (f->heard >> by & 1) != 0;
}

#define LAPTOP "  eth0: {wire: lan, addresses: [192.0.2.100/24]}"
#define COMPONENTS                                                                                           \
    "    components: {firmware: {send-as: fw, checksum-object: 0x90, capacity-kib: 8, image: old.bin}}\n"
#define BOX(name, more)                                                                                      \
    "  " name                                                                                                \
    ":\n    wire: lan\n    product: BOX\n    order-code: BOX\n    maker: Maker\n    hardware-revision: 1\n"  \
    "    serial: SN-" name "\n    station-name: " name "\n" more COMPONENTS

static const char all_kinds[] = BOX("modbus", "    address: 192.0.2.1\n")
    BOX("dcp", "    address: 192.0.2.2\n    speaks: [dcp]\n    vendor-id: 7\n    product-id: 9\n")
        BOX("bare",
            "    speaks: [dcp]\n") BOX("cip", "    address: 192.0.2.3\n    speaks: [cip]\n    vendor-id: 7\n")
            BOX("snmp", "    address: 192.0.2.4\n    speaks: [snmp]\n")
                BOX("sd", "    address: 192.0.2.5\n    speaks: [dns-sd]\n    dns-sd: {service: _box._tcp, "
                          "text: [\"fw={firmware}\"]}\n")
                    BOX("lldp", "    address: 192.0.2.6\n    speaks: [lldp]\n")
                        BOX("far", "    address: 198.51.100.7\n    speaks: [dns-sd, lldp]\n")
                            BOX("asks", "    asks-for-address: dhcp\n    speaks: []\n")
                                BOX("boots", "    asks-for-address: bootp\n    speaks: []\n")
                                    BOX("mute", "    address: 192.0.2.8\n    speaks: []\n")
                                        BOX("several", "    address: 192.0.2.9\n    speaks: [modbus, dcp, "
                                                       "cip, snmp, dns-sd, lldp]\n    by-dhcp: yes\n");

#endif
