/* A job's length in simulated time against its critical path: the longest chain of devices that wait for each
 * other, each with the time that its own run took.
 *
 *   makespan SITE WORLD SHELF STATE [LEFT-OUT ...]
 *
 * STATE: the folder with the passwords of the devices, opened with passwords.key; none where it has none. */
#include <einbau/job.h>
#include <einbau/sim.h>

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct times {
    struct eb_job *job;
    struct eb_sim *sim;
    uint64_t *began_us; /* by device */
};

/* The person at the device does what its profile says. */
static void on_event(void *context, const struct eb_run *run)
{
    struct times *t = context;
    const struct eb_job_device *target = run->config.target.statement_context;
    if (eb_run_hand(run) != NULL)
        eb_sim_ask_person(t->sim, target->device->name, run->hands[0]);
}

static void note_begin(void *context, struct eb_run_config *config)
{
    struct times *t = context;
    config->event = on_event;
    config->event_context = t;
    const struct eb_job_device *target = config->target.statement_context;
    t->began_us[target - t->job->devices] = eb_port_now_us(config->port);
}

static uint64_t took_us(const struct times *t, size_t i)
{
    return t->job->devices[i].begun ? t->job->devices[i].fit.now_us - t->began_us[i] : 0;
}

/* Of the chain that ends with device i. */
static uint64_t chain_us(const struct times *t, size_t i)
{
    const struct eb_site_device *d = t->job->devices[i].device;
    uint64_t before_us = d->via != NULL ? chain_us(t, (size_t)(d->via - t->job->site->devices)) : 0;
    for (size_t k = 0; k < d->companion_count; k++) {
        const struct eb_site_device *other = d->companions[k].device;
        uint64_t us = other != NULL ? chain_us(t, (size_t)(other - t->job->site->devices)) : 0;
        before_us = us > before_us ? us : before_us;
    }
    return before_us + took_us(t, i);
}

static bool work(struct eb_job *job)
{
    return eb_job_look(job) && eb_job_shelf(job, false) && eb_job_plan(job) && eb_job_carry_out(job);
}

int main(int argc, char **argv)
{
    struct eb_problem problem = {"usage: makespan SITE WORLD SHELF STATE [LEFT-OUT ...]"};
    struct times t = {0};
    struct eb_sim *sim = argc >= 5 ? eb_sim_open(argv[2], NULL, &problem) : NULL;
    struct eb_job_config config = {.site = argv[1],
                                   .shelf = argc >= 5 ? argv[3] : NULL,
                                   .shelf_may_miss = true,
                                   .simulated = true,
                                   .begins = note_begin,
                                   .context = &t};
    config.port = sim != NULL ? eb_sim_port(sim) : NULL;
    t.job = sim != NULL ? eb_job_open(&config, &problem) : NULL;
    if (t.job == NULL) {
        fprintf(stderr, "%s\n", problem.text);
        return 2;
    }
    const struct eb_secrets_config secrets = {.folder = argv[4], .key_file = "passwords.key"};
    t.sim = sim;
    if (eb_secrets_there(argv[4]) && (t.job->secrets = eb_secrets_open(&secrets, &problem)) == NULL) {
        fprintf(stderr, "%s\n", problem.text);
        return 2;
    }
    t.began_us = calloc(t.job->count, sizeof *t.began_us);
    for (int i = 5; i < argc; i++) {
        struct eb_job_device *device = eb_job_device(t.job, argv[i]);
        if (device != NULL)
            device->left_out = true;
    }
    for (size_t i = 0; i < t.job->count; i++)
        t.job->devices[i].chosen = !t.job->devices[i].left_out;
    if (!work(t.job)) {
        fprintf(stderr, "%s\n", t.job->problem.text);
        return 1;
    }
    uint64_t first_us = UINT64_MAX;
    uint64_t last_us = 0;
    uint64_t path_us = 0;
    size_t confirmed = 0;
    size_t begun = 0;
    for (size_t i = 0; i < t.job->count; i++) {
        const struct eb_job_device *d = &t.job->devices[i];
        if (d->refused)
            fprintf(stderr, "%s is refused\n", d->device->name);
        if (!d->begun)
            continue;
        begun++;
        first_us = t.began_us[i] < first_us ? t.began_us[i] : first_us;
        last_us = d->fit.now_us > last_us ? d->fit.now_us : last_us;
        path_us = chain_us(&t, i) > path_us ? chain_us(&t, i) : path_us;
        confirmed += d->fit.outcome == EB_OUTCOME_CONFIRMED;
    }
    uint64_t makespan_us = last_us - first_us;
    printf("{\"devices\": %zu, \"confirmed\": %zu, \"makespan_s\": %.6f, \"path_s\": %.6f, "
           "\"estimate_s\": %.6f}\n",
           begun, confirmed, (double)makespan_us / 1e6, (double)path_us / 1e6,
           (double)t.job->estimate_us / 1e6);
    free(t.began_us);
    eb_job_close(t.job);
    eb_sim_close(sim);
    return 0;
}
