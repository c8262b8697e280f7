/* Fits one device on USB with one image: found by its serial number, judged, brought into its loader,
 * written, started, and read back, through every re-enumeration.
 *
 *   flash_usb profiles/skarvik-g3.yaml G3-3307 g3-5.2.dfu
 *
 * The image's manifest stands beside it (docs/package.md). */
#include <einbau/host.h>

#include <stdio.h>

static int fit(struct eb_run *run, const struct eb_run_config *config)
{
    const struct eb_port *port = config->port;
    enum eb_rung told = EB_RUNG_END;
    if (eb_run_init(run, config) != EB_OK)
        return 2;
    for (eb_run_poll(run); !eb_run_ended(run); eb_run_poll(run)) {
        if (run->progress.rung != told)
            printf("%s\n", eb_rung_word(run->progress.rung));
        told = run->progress.rung;
        eb_port_wait(port, eb_run_deadline_us(run));
    }
    printf("%s", eb_outcome_word(run->outcome));
    if (run->error.status != EB_OK)
        printf(": %s: %s %s", run->error.where, eb_status_word(run->error.status), run->error.text);
    printf("; it runs %s\n",
           run->identified && !run->in_loader ? run->running[0].version : "nothing that answers");
    return run->outcome == EB_OUTCOME_CONFIRMED ? 0 : 1;
}

int main(int argc, char **argv)
{
    static struct eb_profile profile;
    static struct eb_run run;
    static uint8_t buffer[65536];
    static uint64_t memory[512]; /* for the protocols that the profile names */
    struct eb_problem problem = {""};
    struct eb_image *image = NULL;
    const struct eb_port *port = NULL;
    int status = 2;
    if (argc != 4)
        snprintf(problem.text, sizeof problem.text, "usage: flash_usb PROFILE SERIAL IMAGE");
    else if (eb_profile_read(argv[1], &profile, &problem))
        image = eb_image_open(argv[3], NULL, &problem);
    if (image != NULL && profile.sends_by == &eb_access_dfu)
        port = eb_port_linux_open();
    if (port != NULL) {
        static struct eb_verdict verdict;
        struct eb_run_item item = {.component = &profile.components[0],
                                   .verdict = &verdict,
                                   .image = &image->facts,
                                   .file = &image->found,
                                   .source = image->source,
                                   .checksum = image->checksum};
        const struct eb_run_config config = {.port = port,
                                             .profile = &profile,
                                             .memory = memory,
                                             .memory_bytes = sizeof memory,
                                             .target = {.serial = argv[2]},
                                             .reach_patience_us = 5000000,
                                             .items = &item,
                                             .count = 1,
                                             .buffer = buffer,
                                             .buffer_bytes = sizeof buffer};
        status = fit(&run, &config);
        eb_port_linux_close(port);
    } else {
        fprintf(stderr, "%s\n",
                problem.text[0] != '\0' ? problem.text : "The profile is not of a device on USB.");
    }
    eb_image_close(image);
    eb_profile_free(&profile);
    return status;
}
