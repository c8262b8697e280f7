/* Looks on one of the laptop's links for a few seconds and prints who is there.
 *
 *   who_is_there eth0                     on the laptop's own link
 *   who_is_there eth0 larchfell.world.yaml    on simulated wires */
#include <einbau/einbau.h>
#include <einbau/host.h>
#include <einbau/sim.h>
#include <stdio.h>
#include <string.h>

enum { ROWS = 256, PROBES = 16 };

static void print_row(const struct eb_found *found)
{
    char mac[EB_MAC_TEXT_BYTES] = "";
    char ip[EB_ENDPOINT_TEXT_BYTES] = "no address";
    struct eb_endpoint endpoint = {.port = 0};
    memcpy(endpoint.ip, found->ip, sizeof endpoint.ip);
    if (found->has_ip)
        eb_endpoint_text(&endpoint, false, ip);
    if (found->has_mac)
        eb_mac_text(found->mac, mac);
    printf("%s %s %s\n", ip, mac, eb_found_text(found, EB_FACT_NAME));
    for (size_t i = 0; i < found->count; i++)
        printf("    %s by %s: %s\n", eb_fact_word((enum eb_fact_kind)found->facts[i].kind),
               eb_protocol_word((enum eb_protocol)found->facts[i].by), found->facts[i].text);
}

/* Looks with what the port offers; everything that the survey needs is the caller's. */
static int look(const struct eb_port *port, const char *name)
{
    static struct eb_found found[ROWS];
    static struct eb_survey_probe probes[PROBES];
    static struct eb_survey survey;
    struct eb_link links[EB_LINKS_MAX];
    size_t count = port->links->list(port->self, links, EB_LINKS_MAX);
    size_t at = 0;
    while (at < count && strcmp(links[at].name, name) != 0)
        at++;
    if (at == count) {
        fprintf(stderr, "found no link '%s', expected one of this laptop\n", name);
        return 2;
    }
    const struct eb_survey_config config = {.port = port,
                                            .links = &links[at],
                                            .link_count = 1,
                                            .found = found,
                                            .cap = ROWS,
                                            .probes = probes,
                                            .probe_count = PROBES};
    eb_survey_begin(&survey, &config);
    while (eb_survey_work(&survey, EB_NEVER))
        ;
    eb_survey_end(&survey);
    if (eb_survey_denied(&survey, 0))
        fputs("without the right to raw frames: not all devices can be seen\n", stderr);
    for (size_t i = 0; i < survey.count; i++)
        print_row(&found[i]);
    return survey.count > 0 ? 0 : 3;
}

int main(int argc, char **argv)
{
    struct eb_problem problem;
    if (argc != 2 && argc != 3) {
        fputs("usage: who_is_there LINK [WORLD]\n", stderr);
        return 2;
    }
    if (argc == 2) {
        const struct eb_port *port = eb_port_linux_open();
        int status = port != NULL ? look(port, argv[1]) : 2;
        if (port != NULL)
            eb_port_linux_close(port);
        return status;
    }
    struct eb_sim *sim = eb_sim_open(argv[2], NULL, &problem);
    if (sim == NULL) {
        fprintf(stderr, "%s\n", problem.text);
        return 2;
    }
    int status = look(eb_sim_port(sim), argv[1]);
    eb_sim_close(sim);
    return status;
}
