/* In place of sim/ where the tool is built without simulated hardware (EINBAU_SIM=OFF). */
#include <einbau/sim.h>

#include <stdio.h>

struct eb_sim *eb_sim_open(const char *world_path, const char *state_dir, struct eb_problem *problem)
{
    (void)state_dir;
    snprintf(
        problem->text, sizeof problem->text,
        "%.500s: found no simulated hardware in this einbau, expected one that was built with EINBAU_SIM=ON",
        world_path);
    return NULL;
}

bool eb_world_check(const char *path, eb_finding_tell *tell, void *context)
{
    struct eb_problem problem = {""};
    struct eb_sim *none = eb_sim_open(path, NULL, &problem);
    tell(context, problem.text);
    return none != NULL;
}

void eb_sim_close(struct eb_sim *sim)
{
    (void)sim;
}

bool eb_sim_save(struct eb_sim *sim, struct eb_problem *problem)
{
    (void)sim;
    (void)problem;
    return true;
}

const struct eb_port *eb_sim_port(struct eb_sim *sim)
{
    (void)sim;
    return NULL;
}

void eb_sim_ask_person(struct eb_sim *sim, const char *device, const char *words)
{
    (void)sim;
    (void)device;
    (void)words;
}
