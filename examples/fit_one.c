/* Fits one device of a simulated world with what its site wants, and reads the version back.  The images are
 * those that the site names, else the newest of the wanted version on the shelf.
 *
 *   fit_one larchfell.site.yaml larchfell.world.yaml rescue-plc shelf */
#include <einbau/shelf.h>
#include <einbau/sim.h>

#include <stdio.h>
#include <stdlib.h>

enum { BUFFER_BYTES = 65536 };

static uint8_t buffer[BUFFER_BYTES];
static uint64_t memory[1024]; /* for the protocols that the profile names */

static void on_event(void *context, const struct eb_run *run)
{
    (void)context;
    printf("%s %llu of %llu bytes\n", eb_rung_word(run->progress.rung),
           (unsigned long long)run->progress.done_bytes, (unsigned long long)run->progress.total_bytes);
}

/* The image of the wanted version from the shelf; NULL with `problem` filled where there is none. */
static struct eb_image *from_shelf(struct eb_shelf *shelf, const struct eb_trust *trust,
                                   const struct eb_site_device *device, size_t component,
                                   struct eb_problem *problem)
{
    const struct eb_component_profile *c = &device->profile->components[component];
    struct eb_shelf_candidate *candidates = NULL;
    struct eb_image *image = NULL;
    size_t count = 0;
    if (!eb_shelf_candidates(shelf, c, device->order_code, false, &candidates, &count, problem))
        return NULL;
    snprintf(problem->text, sizeof problem->text, "the shelf has no %s %s for %s", c->name,
             device->wants[component].version, device->name);
    for (size_t i = 0; i < count && image == NULL; i++) {
        if (eb_version_compare(&c->order, candidates[i].version, device->wants[component].version) ==
                EB_SAME &&
            eb_shelf_facts(shelf, trust, &candidates[i], problem))
            image = eb_shelf_image_open(shelf, &candidates[i], problem);
    }
    eb_shelf_candidates_free(candidates, count);
    return image;
}

/* Opens the images that the device should run; gives their number, 0 with `problem` filled. */
static size_t open_images(const struct eb_site_device *device, const struct eb_trust *trust,
                          struct eb_shelf *shelf, struct eb_run_item *items, struct eb_verdict *verdicts,
                          struct eb_image **images, struct eb_problem *problem)
{
    size_t count = 0;
    snprintf(problem->text, sizeof problem->text, "the site wants nothing of %s", device->name);
    for (size_t i = 0; i < device->profile->count; i++) {
        const struct eb_site_want *want = &device->wants[i];
        if (want->version[0] == '\0')
            continue;
        if (want->image[0] == '\0' && shelf == NULL) {
            snprintf(problem->text, sizeof problem->text,
                     "the site names no image for %s: name a shelf behind the device", device->name);
            return 0;
        }
        struct eb_image *image = want->image[0] != '\0' ? eb_image_open(want->image, trust, problem)
                                                        : from_shelf(shelf, trust, device, i, problem);
        if (image == NULL)
            return 0;
        images[count] = image;
        items[count] = (struct eb_run_item){
            .verdict = &verdicts[count],
            .component = &device->profile->components[i],
            .image = &image->facts,
            .file = &image->found,
            .source = image->source,
            .checksum = image->checksum,
            .delivered = want->delivered,
        };
        count++;
    }
    return count;
}

/* Runs to the end; false where it was not confirmed. */
static bool fit(const struct eb_site_device *device, const struct eb_port *port, struct eb_run_item *items,
                size_t count)
{
    const struct eb_run_config config = {
        .port = port,
        .profile = device->profile,
        .memory = memory,
        .memory_bytes = sizeof memory,
        .target = {.modbus = device->modbus,
                   .tftp = device->tftp,
                   .unit = device->unit,
                   .serial = device->serial},
        .reach_patience_us = 5000000,
        .items = items,
        .count = count,
        .buffer = buffer,
        .buffer_bytes = sizeof buffer,
        .event = on_event,
    };
    struct eb_run run;
    if (eb_run_init(&run, &config) != EB_OK)
        return false;
    while (eb_run_poll(&run), !eb_run_ended(&run))
        eb_port_wait(port, eb_run_deadline_us(&run));
    printf("%s: %s\n", device->name, eb_outcome_word(run.outcome));
    return run.outcome == EB_OUTCOME_CONFIRMED;
}

int main(int argc, char **argv)
{
    struct eb_problem problem = {""};
    struct eb_run_item items[EB_COMPONENTS_MAX];
    static struct eb_verdict verdicts[EB_COMPONENTS_MAX];
    struct eb_image *images[EB_COMPONENTS_MAX];
    if (argc != 4 && argc != 5) {
        fputs("usage: fit_one SITE WORLD DEVICE [SHELF]\n", stderr);
        return 2;
    }
    struct eb_site *site = eb_site_read(argv[1], &problem);
    struct eb_sim *sim = site != NULL ? eb_sim_open(argv[2], NULL, &problem) : NULL;
    struct eb_shelf *shelf = sim != NULL && argc == 5 ? eb_shelf_open(argv[4], false, &problem) : NULL;
    const struct eb_site_device *device = sim != NULL ? eb_site_device(site, argv[3]) : NULL;
    bool ready = sim != NULL && (argc == 4 || shelf != NULL);
    struct eb_trust trust = {.asked = false};
    if (site != NULL)
        eb_trust_site(&trust, site, NULL);
    size_t count =
        device != NULL && ready ? open_images(device, &trust, shelf, items, verdicts, images, &problem) : 0;
    bool good = count > 0 && fit(device, eb_sim_port(sim), items, count);
    if (count == 0)
        fprintf(stderr, "%s\n", device == NULL && ready ? "this device is not on the site" : problem.text);
    for (size_t i = 0; i < count; i++) {
        for (size_t f = 0; f < verdicts[i].count; f++) {
            const struct eb_finding *finding = &verdicts[i].findings[f];
            if (finding->grade != EB_GRADE_YES)
                printf("%s: found %s, expected %s\n", eb_rule_code(finding->rule), finding->found,
                       finding->expected);
        }
        eb_image_close(images[i]);
    }
    eb_shelf_close(shelf);
    eb_sim_close(sim);
    eb_site_free(site);
    return count == 0 ? 2 : good ? 0 : 1;
}
