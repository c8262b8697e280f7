#include "support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* --- jobs ---------------------------------------------------------------------------------------- */

enum { JOB_BUFFER_BYTES = 131072 };

static struct eb_image *image_of(struct job *job, const char *path)
{
    struct eb_problem problem;
    for (size_t i = 0; i < job->image_count; i++) {
        if (strcmp(job->images[i]->path, path) == 0)
            return job->images[i];
    }
    job->images = realloc(job->images, (job->image_count + 1) * sizeof(struct eb_image *));
    assert_non_null(job->images);
    struct eb_image *image = eb_image_open(path, NULL, &problem);
    if (image == NULL)
        fail_msg("%s", problem.text);
    job->images[job->image_count++] = image;
    return image;
}

void job_open(struct job *job, const char *site_path)
{
    struct eb_problem problem;
    memset(job, 0, sizeof *job);
    job->site = eb_site_read(site_path, &problem);
    if (job->site == NULL)
        fail_msg("%s", problem.text);
    size_t n = (job->site != NULL ? job->site->device_count : 0) + 1;
    job->runs = calloc(n, sizeof *job->runs);
    job->items = calloc(n, sizeof *job->items);
    job->buffers = malloc(n * JOB_BUFFER_BYTES);
    job->places = calloc(n, sizeof *job->places);
    job->memory = calloc(n, sizeof *job->memory);
    if (job->memory == NULL)
        abort();
    job->memory_count = n - 1;
    for (size_t i = 0; i < job->memory_count; i++)
        job->memory[i] = malloc(eb_run_memory_bytes(job->site->devices[i].profile));
    assert_true(job->runs != NULL && job->items != NULL && job->buffers != NULL && job->places != NULL);
}

/* The image that leads to a PLC's firmware, where there is one and it does not run yet. */
static struct eb_image *image_before(struct job *job, const struct eb_run *before, size_t component,
                                     const char *path)
{
    char through[EB_PATH_BYTES];
    snprintf(through, sizeof through, "%.*s-1.5.bin", (int)(strlen(path) - strlen("-2.0.bin")), path);
    bool needed =
        !before->identified || before->in_loader || strcmp(before->running[component].version, "1.0") == 0;
    return component == 0 && needed && access(through, R_OK) == 0 ? image_of(job, through) : NULL;
}

static void add_job_item(struct eb_run_item *items, size_t *count,
                         const struct eb_component_profile *component, const struct eb_image *image)
{
    items[(*count)++] = (struct eb_run_item){.component = component,
                                             .image = &image->facts,
                                             .file = &image->found,
                                             .source = image->source,
                                             .checksum = image->checksum};
}

void job_begin(struct job *job, const struct eb_port *port, bool fit)
{
    eb_crew_init(&job->crew, port, job->places, job->site->device_count);
    for (size_t i = 0; i < job->site->device_count; i++) {
        const struct eb_site_device *d = &job->site->devices[i];
        size_t count = 0;
        for (size_t k = 0; fit && k < d->profile->count; k++) {
            if (d->wants[k].version[0] == '\0')
                continue;
            const struct eb_image *before = image_before(job, &job->runs[i], k, d->wants[k].image);
            if (before != NULL)
                add_job_item(job->items[i], &count, &d->profile->components[k], before);
            add_job_item(job->items[i], &count, &d->profile->components[k], image_of(job, d->wants[k].image));
        }
        static const uint64_t patience_us[] = {
            [EB_WIRE_ETHERNET] = 5000000, [EB_WIRE_CAN] = 8000000, [EB_WIRE_USB] = 14000000};
        const struct eb_run_config config = {
            .port = port,
            .profile = d->profile,
            .memory = job->memory[i],
            .memory_bytes = eb_run_memory_bytes(d->profile),
            .target = {.can_link = d->wire->adapter[0] != '\0' ? d->wire->adapter : d->wire->name,
                       .bit_rate = d->wire->bit_rate,
                       .node = d->node,
                       .isotp = d->isotp,
                       .usb_place = d->usb_place,
                       .modbus = d->modbus,
                       .tftp = d->tftp,
                       .unit = d->unit,
                       .serial = d->serial},
            .reach_patience_us = patience_us[eb_profile_wire(d->profile)],
            .items = job->items[i],
            .count = count,
            .buffer = job->buffers + i * JOB_BUFFER_BYTES,
            .buffer_bytes = JOB_BUFFER_BYTES};
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
    for (size_t i = 0; i < job->image_count; i++)
        eb_image_close(job->images[i]);
    for (size_t i = 0; i < job->memory_count; i++)
        free(job->memory[i]);
    free(job->memory);
    eb_site_free(job->site);
    free(job->images);
    free(job->runs);
    free(job->items);
    free(job->buffers);
    free(job->places);
}

enum eb_status request_work(struct eb_request *request, const struct eb_request_config *config)
{
    enum eb_status status = eb_request_begin(request, config);
    return status == EB_OK ? eb_request_work(request, EB_NEVER) : status;
}
