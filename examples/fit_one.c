/* Fits one device of a simulated world with what its site wants, and reads the version back.
 *
 *   fit_one larchfell.site.yaml larchfell.world.yaml tower-io-1 */
#include <einbau/sim.h>

#include <stdio.h>
#include <stdlib.h>

enum { BUFFER_BYTES = 65536 };

static uint8_t buffer[BUFFER_BYTES];

static void on_event(void *context, const struct eb_run *run)
{
    (void)context;
    printf("%s %llu of %llu bytes\n", eb_rung_word(run->progress.rung),
           (unsigned long long)run->progress.done_bytes, (unsigned long long)run->progress.total_bytes);
}

/* Opens the images that the site names for the device; gives their number. */
static size_t open_images(const struct eb_site_device *device, struct eb_run_item *items,
                          struct eb_image **images, struct eb_problem *problem)
{
    size_t count = 0;
    for (size_t i = 0; i < device->profile->count; i++) {
        if (device->wants[i].image[0] == '\0')
            continue;
        struct eb_image *image = eb_image_open(device->wants[i].image, problem);
        if (image == NULL)
            return 0;
        images[count] = image;
        items[count++] = (struct eb_run_item){
            .component = &device->profile->components[i],
            .image = &image->facts,
            .file = &image->found,
            .source = image->source,
            .checksum = image->checksum,
            .delivered = device->wants[i].delivered,
        };
    }
    return count;
}

int main(int argc, char **argv)
{
    struct eb_problem problem = {"this device is not on the site"};
    struct eb_run_item items[EB_COMPONENTS_MAX];
    struct eb_image *images[EB_COMPONENTS_MAX];
    if (argc != 4) {
        fputs("usage: fit_one SITE WORLD DEVICE\n", stderr);
        return 2;
    }
    struct eb_site *site = eb_site_read(argv[1], &problem);
    struct eb_sim *sim = site != NULL ? eb_sim_open(argv[2], NULL, &problem) : NULL;
    const struct eb_site_device *device = sim != NULL ? eb_site_device(site, argv[3]) : NULL;
    size_t count = device != NULL ? open_images(device, items, images, &problem) : 0;
    if (count == 0) {
        fprintf(stderr, "%s\n", problem.text);
        eb_sim_close(sim);
        eb_site_free(site);
        return 2;
    }

    const struct eb_port *port = eb_sim_port(sim);
    const struct eb_run_config config = {
        .port = port,
        .profile = device->profile,
        .route = &eb_route_ip,
        .modbus = device->modbus,
        .tftp = device->tftp,
        .unit = device->unit,
        .serial = device->serial,
        .reach_patience_us = 5000000,
        .items = items,
        .count = count,
        .buffer = buffer,
        .buffer_bytes = sizeof buffer,
        .event = on_event,
    };
    struct eb_run run;
    void *ready[1];
    eb_run_init(&run, &config);
    while (eb_run_poll(&run), !eb_run_ended(&run))
        port->wait(port->self, eb_run_deadline_us(&run), ready, 1);

    printf("%s: %s\n", device->name, eb_outcome_word(run.outcome));
    for (size_t i = 0; i < count; i++) {
        for (size_t f = 0; f < items[i].verdict.count; f++) {
            const struct eb_finding *finding = &items[i].verdict.findings[f];
            if (finding->grade != EB_GRADE_YES)
                printf("%s: found %s, expected %s\n", eb_rule_code(finding->rule), finding->found,
                       finding->expected);
        }
        eb_image_close(images[i]);
    }
    bool good = run.outcome == EB_OUTCOME_CONFIRMED;
    eb_sim_close(sim);
    eb_site_free(site);
    return good ? 0 : 1;
}
