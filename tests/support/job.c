#include "support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* --- jobs ---------------------------------------------------------------------------------------- */

enum { JOB_BUFFER_BYTES = 131072 };

static const struct eb_image *image_of(struct job *job, const char *path)
{
    const struct eb_image *image = eb_job_image(job->job, path);
    if (image == NULL)
        fail_msg("%s", job->job->problem.text);
    return image;
}

void job_open(struct job *job, const char *site_path)
{
    struct eb_problem problem;
    const struct eb_job_config config = {.site = site_path};
    memset(job, 0, sizeof *job);
    job->job = eb_job_open(&config, &problem);
    if (job->job == NULL)
        fail_msg("%s", problem.text);
    job->site = job->job->site;
    size_t n = job->site->device_count + 1;
    job->runs = calloc(n, sizeof *job->runs);
    job->items = calloc(n, sizeof *job->items);
    job->verdicts = calloc(n, sizeof *job->verdicts);
    assert_non_null(job->verdicts);
    job->buffers = malloc(n * JOB_BUFFER_BYTES);
    job->places = calloc(n, sizeof *job->places);
    assert_true(job->runs != NULL && job->items != NULL && job->buffers != NULL && job->places != NULL);
}

/* The image that leads to a PLC's firmware, where there is one and it does not run yet. */
static const struct eb_image *image_before(struct job *job, const struct eb_run *before, size_t component,
                                           const char *path)
{
    char through[EB_PATH_BYTES];
    snprintf(through, sizeof through, "%.*s-1.5.bin", (int)(strlen(path) - strlen("-2.0.bin")), path);
    bool needed =
        !before->identified || before->in_loader || strcmp(before->running[component].version, "1.0") == 0;
    return component == 0 && needed && access(through, R_OK) == 0 ? image_of(job, through) : NULL;
}

static void add_job_item(struct eb_run_item *items, size_t *count, struct eb_verdict *verdict,
                         const struct eb_component_profile *component, const struct eb_image *image)
{
    items[(*count)++] = (struct eb_run_item){.component = component,
                                             .verdict = verdict,
                                             .image = &image->facts,
                                             .file = &image->found,
                                             .source = image->source,
                                             .checksum = image->checksum};
}

void job_begin(struct job *job, const struct eb_port *port, bool fit)
{
    job->job->port = port;
    eb_crew_init(&job->crew, port, job->places, job->site->device_count);
    for (size_t i = 0; i < job->site->device_count; i++) {
        const struct eb_site_device *d = &job->site->devices[i];
        size_t count = 0;
        for (size_t k = 0; fit && k < d->profile->count; k++) {
            if (d->wants[k].version[0] == '\0')
                continue;
            const struct eb_image *before = image_before(job, &job->runs[i], k, d->wants[k].image);
            if (before != NULL)
                add_job_item(job->items[i], &count, &job->verdicts[i][count], &d->profile->components[k],
                             before);
            add_job_item(job->items[i], &count, &job->verdicts[i][count], &d->profile->components[k],
                         image_of(job, d->wants[k].image));
        }
        static const uint64_t patience_us[] = {
            [EB_WIRE_ETHERNET] = 5000000, [EB_WIRE_CAN] = 8000000, [EB_WIRE_USB] = 14000000};
        struct eb_job_device *target = &job->job->devices[i];
        struct eb_run_config config = eb_job_run_config(job->job, target, EB_JOB_FIT);
        free(target->memory[EB_JOB_FIT]);
        target->memory[EB_JOB_FIT] = malloc(eb_run_memory_bytes(d->profile));
        config.memory = target->memory[EB_JOB_FIT];
        config.memory_bytes = eb_run_memory_bytes(d->profile);
        config.around = NULL; /* judged without the site around it */
        config.reach_patience_us = patience_us[eb_profile_wire(d->profile)];
        config.items = job->items[i];
        config.count = count;
        config.buffer = job->buffers + i * JOB_BUFFER_BYTES;
        config.buffer_bytes = JOB_BUFFER_BYTES;
        assert_int_equal(eb_run_init(&job->runs[i], &config), EB_OK);
        assert_int_equal(eb_crew_add(&job->crew, &job->runs[i]), EB_OK);
    }
}

void job_forget(struct job *job)
{
    memset(job->runs, 0, job->site->device_count * sizeof *job->runs);
}

void job_work(struct job *job)
{
    while (eb_crew_work(&job->crew, EB_NEVER) > 0)
        ;
}

void job_close(struct job *job)
{
    eb_job_close(job->job);
    free(job->runs);
    free(job->items);
    free(job->verdicts);
    free(job->buffers);
    free(job->places);
}

enum eb_status request_work(struct eb_request *request, const struct eb_request_config *config)
{
    enum eb_status status = eb_request_begin(request, config);
    return status == EB_OK ? eb_request_work(request, EB_NEVER) : status;
}
