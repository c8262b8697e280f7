/* Simulated devices in real time: on loopback sockets, or as a whole segment on an Ethernet interface. */
#include <argp.h>
#include "../in_full.h"

#include <einbau/sim_web.h>
#include <errno.h>
#include <signal.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/signalfd.h>
#include <unistd.h>

enum { KEY_STATE = 0x100, KEY_WRITE_SITE, KEY_ON, KEY_WIRE, KEY_VHCI, KEY_PERSON, EXIT_WRONG = 2 };

struct arguments {
    const char *world, *state, *write_site, *on, *wire;
    bool vhci, person;
};

static error_t parse(int key, char *argument, struct argp_state *state)
{
    struct arguments *a = state->input;
    switch (key) {
    case KEY_STATE:
        a->state = argument;
        break;
    case KEY_WRITE_SITE:
        a->write_site = argument;
        break;
    case KEY_ON:
        a->on = argument;
        break;
    case KEY_VHCI:
        a->vhci = true;
        break;
    case KEY_WIRE:
        a->wire = argument;
        break;
    case KEY_PERSON:
        a->person = true;
        break;
    case ARGP_KEY_ARG:
        if (a->world != NULL)
            argp_error(state, "found a second world '%s', expected one", argument);
        a->world = argument;
        break;
    case ARGP_KEY_END:
        if (a->world == NULL)
            argp_error(state, "found no world, expected the file that describes one");
        if (a->write_site == NULL && a->on == NULL)
            argp_error(state, "found neither --write-site FILE nor --on INTERFACE, expected one of them: the "
                              "addresses are not known otherwise");
        if (a->write_site != NULL && a->on != NULL)
            argp_error(state, "found --write-site and --on, expected one of them");
        if (a->person && a->on == NULL)
            argp_error(state, "found --person without --on INTERFACE: only a segment has devices that wait "
                              "for a person");
        break;
    default:
        return ARGP_ERR_UNKNOWN;
    }
    return 0;
}

static const struct argp_option options[] = {
    {"state", KEY_STATE, "DIR", 0, "where the world keeps what it must remember", 0},
    {"write-site", KEY_WRITE_SITE, "FILE", 0,
     "serve on loopback addresses, and write the world's site here with the real addresses and ports", 0},
    {"vhci", KEY_VHCI, NULL, 0,
     "with --write-site: plug the USB devices into this kernel's virtual host controller (modprobe vhci-hcd)",
     0},
    {"on", KEY_ON, "INTERFACE", 0,
     "be the whole segment at the other end of this Ethernet interface, each device with its own addresses",
     0},
    {"wire", KEY_WIRE, "NAME", 0, "with --on: the wire of the world whose devices it is; else the first", 0},
    {"person", KEY_PERSON, NULL, 0,
     "with --on: a line on standard input names a device, and the person there does what is due next", 0},
    {0},
};

static const struct argp argp = {
    .options = options,
    .parser = parse,
    .args_doc = "WORLD",
    .doc = "Serves the simulated devices of a world until SIGINT or SIGTERM.\v"
           "Example:\n  einbau-sim larchfell.world.yaml --state /tmp/larchfell \\\n"
           "    --write-site /tmp/real.site.yaml\n"
           "  einbau survey --site /tmp/real.site.yaml\n\n"
           "As a segment, in a network namespace joined by a pair of virtual interfaces:\n"
           "  ip netns add plant\n"
           "  ip link add plug type veth peer name socket netns plant\n"
           "  ip link set plug up; ip address add 192.0.2.100/24 dev plug\n"
           "  ip -n plant link set socket up\n"
           "  ip netns exec plant einbau-sim larchfell.world.yaml --on socket",
};

static int complain(const struct eb_problem *problem)
{
    fprintf(stderr, "einbau-sim: %s\n", problem->text);
    return EXIT_WRONG;
}

/* Lets the person at the named device do what is due next; false: there are no more names. */
static bool take_name(struct eb_sim *sim)
{
    char line[256];
    ssize_t size = read(STDIN_FILENO, line, sizeof line - 1);
    if (size <= 0)
        return false;
    line[size] = '\0';
    for (char *rest = line, *name; (name = strsep(&rest, "\n")) != NULL;) {
        if (name[0] != '\0')
            eb_sim_ask_person(sim, name, NULL);
    }
    return true;
}

static int serve_segment(struct eb_sim *sim, const struct arguments *a, int stop_fd)
{
    struct eb_problem problem = {""};
    struct epoll_event event = {.events = EPOLLIN, .data.fd = stop_fd};
    if (!eb_sim_join(sim, a->on, a->wire, &problem))
        return complain(&problem);
    int either = epoll_create1(EPOLL_CLOEXEC);
    epoll_ctl(either, EPOLL_CTL_ADD, stop_fd, &event);
    event.data.fd = STDIN_FILENO;
    if (a->person && epoll_ctl(either, EPOLL_CTL_ADD, STDIN_FILENO, &event) != 0)
        fputs("einbau-sim: standard input cannot be waited for: --person needs a pipe or a terminal\n",
              stderr);
    printf("ready: on %s\n", a->on);
    fflush(stdout);
    bool ok;
    for (;;) {
        ok = eb_sim_serve_segment(sim, either, &problem);
        if (!ok || epoll_wait(either, &event, 1, 0) != 1 || event.data.fd == stop_fd)
            break;
        if (!take_name(sim))
            epoll_ctl(either, EPOLL_CTL_DEL, STDIN_FILENO, NULL);
    }
    close(either);
    return ok && eb_sim_save(sim, &problem) ? 0 : complain(&problem);
}

static int serve(struct eb_sim *sim, const struct arguments *a, int stop_fd)
{
    struct eb_problem problem = {""};
    struct eb_site *site = eb_sim_listen(sim, &problem);
    bool ok = site != NULL && eb_site_write(site, a->write_site, &problem) &&
              (!a->vhci || eb_sim_plug_in(sim, &problem));
    if (ok) {
        for (size_t i = 0; i < site->link_count; i++) {
            const char *second = eb_sim_adapter(sim, site->links[i].name, 1);
            if (second != NULL)
                printf("%s: adapters %s and %s\n", site->links[i].name, site->links[i].adapter, second);
        }
        printf("ready: %zu devices, site in %s\n", site->device_count, a->write_site);
        fflush(stdout);
        ok = eb_sim_serve(sim, stop_fd, &problem) && eb_sim_save(sim, &problem);
    }
    eb_site_free(site);
    return ok ? 0 : complain(&problem);
}

int main(int argc, char **argv)
{
    struct arguments a = {0};
    struct eb_problem problem = {""};
    sigset_t signals;
    argp_err_exit_status = EXIT_WRONG;
    options_in_full(options, "einbau-sim", argc, argv);
    argp_parse(&argp, argc, argv, 0, NULL, &a);
    sigemptyset(&signals);
    sigaddset(&signals, SIGINT);
    sigaddset(&signals, SIGTERM);
    sigprocmask(SIG_BLOCK, &signals, NULL);
    int stop_fd = signalfd(-1, &signals, SFD_CLOEXEC);
    if (stop_fd < 0) {
        fprintf(stderr, "einbau-sim: signals cannot be waited for: %s\n", strerror(errno));
        return EXIT_WRONG;
    }
    struct eb_sim *sim = eb_sim_open(a.world, a.state, &problem);
    if (sim != NULL)
        eb_sim_use_web(sim);
    int status = sim == NULL    ? complain(&problem)
                 : a.on != NULL ? serve_segment(sim, &a, stop_fd)
                                : serve(sim, &a, stop_fd);
    eb_sim_close(sim);
    close(stop_fd);
    return status;
}
