/* Fits one node by CANopen with one image: judged first, written, started, and read back.
 *
 *   flash_node profiles/varnholt-d2.yaml /dev/ttyACM0 250000 11 d2-1.7.2.bin
 *
 * The image's manifest stands beside it (docs/package.md). */
#include <einbau/host.h>

#include <stdio.h>
#include <stdlib.h>

static void on_event(void *context, const struct eb_run *run)
{
    (void)context;
    printf("%s %llu of %llu bytes\n", eb_rung_word(run->progress.rung),
           (unsigned long long)run->progress.done_bytes, (unsigned long long)run->progress.total_bytes);
}

int main(int argc, char **argv)
{
    static struct eb_profile profile;
    static struct eb_run run;
    static uint8_t buffer[8192];
    static uint64_t memory[512]; /* for the protocols that the profile names */
    struct eb_problem problem = {""};
    if (argc != 6) {
        fputs("usage: flash_node PROFILE ADAPTER BIT-RATE NODE IMAGE\n", stderr);
        return 2;
    }
    struct eb_image *image =
        eb_profile_read(argv[1], &profile, &problem) ? eb_image_open(argv[5], NULL, &problem) : NULL;
    if (image == NULL) {
        fprintf(stderr, "%s\n", problem.text);
        return 2;
    }
    const struct eb_component_profile *component = eb_profile_component(&profile, image->facts.component);
    const struct eb_port *port = component != NULL ? eb_port_linux_open() : NULL;
    if (port == NULL || profile.sends_by != &eb_access_canopen) {
        fputs("The profile is not of a node by CANopen, or has no such component.\n", stderr);
        eb_image_close(image);
        eb_profile_free(&profile);
        return 2;
    }

    static struct eb_verdict verdict;
    struct eb_run_item item = {.component = component,
                               .verdict = &verdict,
                               .image = &image->facts,
                               .file = &image->found,
                               .source = image->source,
                               .checksum = image->checksum};
    const struct eb_run_config config = {.port = port,
                                         .profile = &profile,
                                         .memory = memory,
                                         .memory_bytes = sizeof memory,
                                         .target = {.can_link = argv[2],
                                                    .bit_rate = (uint32_t)strtoul(argv[3], NULL, 10),
                                                    .node = (uint8_t)strtoul(argv[4], NULL, 10)},
                                         .reach_patience_us = 5000000,
                                         .items = &item,
                                         .count = 1,
                                         .buffer = buffer,
                                         .buffer_bytes = sizeof buffer,
                                         .event = on_event};
    if (eb_run_init(&run, &config) == EB_OK) {
        while (eb_run_poll(&run), !eb_run_ended(&run))
            eb_port_wait(port, eb_run_deadline_us(&run));
    }
    printf("%s\n", eb_outcome_word(run.outcome));
    for (size_t f = 0; f < verdict.count; f++) {
        const struct eb_finding *finding = &verdict.findings[f];
        if (finding->grade != EB_GRADE_YES)
            printf("%s: found %s, expected %s\n", eb_rule_code(finding->rule), finding->found,
                   finding->expected);
    }
    if (run.error.status != EB_OK)
        printf("%s: %s %s\n", run.error.where, eb_status_word(run.error.status), run.error.text);
    eb_port_linux_close(port);
    eb_image_close(image);
    eb_profile_free(&profile);
    return run.outcome == EB_OUTCOME_CONFIRMED ? 0 : 1;
}
