/* Simulated devices on real loopback sockets, in real time. */
#include <argp.h>
#include <einbau/sim.h>
#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/signalfd.h>
#include <unistd.h>

enum { KEY_STATE = 0x100, KEY_WRITE_SITE, EXIT_WRONG = 2 };

struct arguments {
    const char *world, *state, *write_site;
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
    case ARGP_KEY_ARG:
        if (a->world != NULL)
            argp_error(state, "found a second world '%s', expected one", argument);
        a->world = argument;
        break;
    case ARGP_KEY_END:
        if (a->world == NULL)
            argp_error(state, "found no world, expected the file that describes one");
        if (a->write_site == NULL)
            argp_error(state,
                       "found no --write-site FILE, expected it: the addresses are not known otherwise");
        break;
    default:
        return ARGP_ERR_UNKNOWN;
    }
    return 0;
}

static const struct argp_option options[] = {
    {"state", KEY_STATE, "DIR", 0, "where the world keeps what it must remember", 0},
    {"write-site", KEY_WRITE_SITE, "FILE", 0,
     "write the world's site here, with the real addresses and ports", 0},
    {0},
};

static const struct argp argp = {
    .options = options,
    .parser = parse,
    .args_doc = "WORLD",
    .doc = "Serves the simulated devices of a world on loopback addresses until SIGINT or SIGTERM.\v"
           "Example:\n  einbau-sim larchfell.world.yaml --state /tmp/larchfell --write-site "
           "/tmp/real.site.yaml\n"
           "  einbau survey --site /tmp/real.site.yaml",
};

static int complain(const struct eb_problem *problem)
{
    fprintf(stderr, "einbau-sim: %s\n", problem->text);
    return EXIT_WRONG;
}

static int serve(struct eb_sim *sim, const struct arguments *a, int stop_fd)
{
    struct eb_problem problem = {""};
    struct eb_site *site = eb_sim_listen(sim, &problem);
    bool ok = site != NULL && eb_site_write(site, a->write_site, &problem);
    if (ok) {
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
    int status = sim != NULL ? serve(sim, &a, stop_fd) : complain(&problem);
    eb_sim_close(sim);
    close(stop_fd);
    return status;
}
