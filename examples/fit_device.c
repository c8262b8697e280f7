/* Fits one device of a site on simulated hardware with what the site wants, and reads the version back.
 *
 *   fit_device larchfell.site.yaml larchfell.world.yaml rescue-plc shelf */
#include <einbau/job.h>
#include <einbau/sim.h>

#include <stdio.h>

int main(int argc, char **argv)
{
    struct eb_problem problem = {"usage: fit_device SITE WORLD DEVICE SHELF"};
    struct eb_sim *sim = argc == 5 ? eb_sim_open(argv[2], NULL, &problem) : NULL;
    struct eb_job_config config = {
        .site = argv[1], .shelf = argv[4], .shelf_may_miss = true, .simulated = true};
    config.port = sim != NULL ? eb_sim_port(sim) : NULL;
    struct eb_job *job = sim != NULL ? eb_job_open(&config, &problem) : NULL;
    bool good = job != NULL && eb_job_choose(job, argv[3], &problem) && eb_job_fit(job, &problem);
    puts(good ? "confirmed" : problem.text);
    eb_job_close(job);
    eb_sim_close(sim);
    return good ? 0 : 1;
}
