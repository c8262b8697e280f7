/* Opening a job, choosing devices, images, and the loop in which runs work. */
#include "job/inside.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { SHOW_US = 100000 };

/* --- how it ends ---------------------------------------------------------------------------------- */

bool ebi_job_failed(struct eb_job *job, enum eb_status status)
{
    job->status = status;
    return false;
}

bool ebi_job_fail(struct eb_job *job, enum eb_status status, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(job->problem.text, sizeof job->problem.text, format, arguments);
    va_end(arguments);
    return ebi_job_failed(job, status);
}

void ebi_job_warn(struct eb_job *job, const char *format, ...)
{
    char text[EB_PROBLEM_BYTES];
    va_list arguments;
    if (job->config.warn == NULL || job->hushed)
        return;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    job->config.warn(job->config.context, text);
}

unsigned ebi_job_stop(const struct eb_job *job)
{
    unsigned asked = job->config.stop != NULL ? job->config.stop(job->config.context) : 0;
    return asked > 0 ? asked : job->cut_off;
}

/* --- opening -------------------------------------------------------------------------------------- */

static bool open_site(struct eb_job *job)
{
    job->site = eb_site_read(job->config.site, &job->problem);
    if (job->site == NULL)
        return ebi_job_failed(job, EB_BAD_CALL);
    job->count = job->site->device_count;
    job->devices = calloc(job->count + 1, sizeof *job->devices);
    if (job->devices == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory");
    for (size_t i = 0; i < job->count; i++) {
        job->devices[i].device = &job->site->devices[i];
        job->devices[i].job = job;
        job->devices[i].components =
            calloc(job->site->devices[i].profile->count + 1, sizeof *job->devices[i].components);
        for (int which = EB_JOB_LOOK; which <= EB_JOB_FIT; which++)
            job->devices[i].running[which] =
                calloc(job->site->devices[i].profile->count + 1, sizeof(struct eb_running));
        job->devices[i].look.running = job->devices[i].running[EB_JOB_LOOK];
        job->devices[i].fit.running = job->devices[i].running[EB_JOB_FIT];
        if (job->devices[i].components == NULL || job->devices[i].look.running == NULL ||
            job->devices[i].fit.running == NULL)
            return ebi_job_fail(job, EB_IO, "out of memory");
        job->devices[i].chosen = true;
    }
    eb_trust_site(&job->trust, job->site, NULL);
    return true;
}

struct eb_job *eb_job_open(const struct eb_job_config *config, struct eb_problem *problem)
{
    struct eb_job *job = calloc(1, sizeof *job);
    if (job == NULL) {
        snprintf(problem->text, sizeof problem->text, "out of memory");
        return NULL;
    }
    job->config = *config;
    job->port = config->port;
    job->verdicts = calloc(EB_RUN_ITEMS_MAX + 1, sizeof *job->verdicts);
    if (job->verdicts == NULL)
        abort();
    if (job->config.command == NULL)
        job->config.command = "job";
    if (config->site != NULL && !open_site(job)) {
        *problem = job->problem;
        eb_job_close(job);
        return NULL;
    }
    if (config->state != NULL && job->site != NULL) {
        job->known = eb_known_open(config->state, &job->problem);
        if (job->known == NULL)
            ebi_job_warn(job, "what devices tell cannot be remembered: %s", job->problem.text);
    }
    return job;
}

void eb_job_close(struct eb_job *job)
{
    if (job == NULL)
        return;
    for (size_t i = 0; i < job->image_count; i++)
        eb_image_close(job->images[i].image);
    for (size_t i = 0; i < job->count && job->devices != NULL; i++) {
        free(job->devices[i].buffer);
        ebi_verdicts_drop(&job->devices[i]);
        free(job->devices[i].items);
        free(job->devices[i].planned);
        free(job->devices[i].memory[EB_JOB_LOOK]);
        free(job->devices[i].memory[EB_JOB_FIT]);
        free(job->devices[i].running[EB_JOB_LOOK]);
        free(job->devices[i].running[EB_JOB_FIT]);
        free(job->devices[i].components);
        free(job->devices[i].statements);
        free(job->devices[i].noted);
        ebi_kept_drop(&job->devices[i]);
        ebi_settings_drop(&job->devices[i]);
        free(job->devices[i].member);
        free(job->devices[i].spans);
    }
    for (size_t i = 0; i < EB_JOB_BUFFERS; i++)
        free(job->buffers[i]);
    eb_shelf_close(job->shelf);
    eb_known_close(job->known);
    eb_secrets_close(job->secrets);
    eb_record_close(job->record);
    eb_locks_close(job->locks);
    eb_locks_close(job->going);
    free(job->lefts);
    free(job->images);
    free(job->devices);
    eb_site_free(job->site);
    ebi_job_free_spare(job);
    free(job->verdicts);
    free(job);
}

bool eb_job_shelf(struct eb_job *job, bool must)
{
    char index[EB_PATH_BYTES + 16];
    if (job->shelf != NULL || job->config.shelf == NULL)
        return true;
    snprintf(index, sizeof index, "%s/index.db", job->config.shelf);
    if (!must && job->config.shelf_may_miss && access(index, F_OK) != 0)
        return true;
    job->shelf = eb_shelf_open(job->config.shelf, must, &job->problem);
    return job->shelf != NULL || ebi_job_failed(job, EB_BAD_CALL);
}

/* --- choosing ------------------------------------------------------------------------------------- */

struct eb_job_device *eb_job_device(struct eb_job *job, const char *name)
{
    for (size_t i = 0; i < job->count; i++) {
        if (strcmp(job->devices[i].device->name, name) == 0)
            return &job->devices[i];
    }
    return NULL;
}

bool eb_job_choose(struct eb_job *job, const char *name, struct eb_problem *problem)
{
    struct eb_job_device *t = eb_job_device(job, name);
    if (t != NULL) {
        for (size_t i = 0; i < job->count && !job->named; i++)
            job->devices[i].chosen = false;
        job->named = true;
        t->chosen = true;
        return true;
    }
    char names[512] = "";
    for (size_t i = 0; i < job->count && strlen(names) < sizeof names - 64; i++)
        snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", i > 0 ? ", " : "",
                 job->devices[i].device->name);
    ebi_job_fail(job, EB_BAD_CALL, "found '%s', expected a device of %s: %s", name,
                 job->site != NULL ? job->site->name : "a site", names);
    if (problem != NULL)
        *problem = job->problem;
    return false;
}

/* --- images --------------------------------------------------------------------------------------- */

static const struct eb_image *opened(struct eb_job *job, struct eb_image *image, int64_t number)
{
    struct eb_job_image *more =
        image != NULL ? realloc(job->images, (job->image_count + 1) * sizeof *more) : NULL;
    if (more == NULL) {
        eb_image_close(image);
        ebi_job_failed(job, EB_BAD_CALL);
        return NULL;
    }
    job->images = more;
    more[job->image_count++] = (struct eb_job_image){image, number};
    return image;
}

const struct eb_image *eb_job_image(struct eb_job *job, const char *path)
{
    for (size_t i = 0; i < job->image_count; i++) {
        if (job->images[i].number == 0 && strcmp(job->images[i].image->path, path) == 0)
            return job->images[i].image;
    }
    return opened(job, eb_image_open(path, &job->trust, &job->problem), 0);
}

const struct eb_image *eb_job_shelf_image(struct eb_job *job, const struct eb_shelf_candidate *candidate)
{
    for (size_t i = 0; i < job->image_count; i++) {
        if (job->images[i].number == candidate->number)
            return job->images[i].image;
    }
    return opened(job, eb_shelf_image_open(job->shelf, candidate, &job->problem), candidate->number);
}

/* --- working -------------------------------------------------------------------------------------- */

static uint64_t real_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

static void show(const struct eb_job *job)
{
    if (job->config.show != NULL)
        job->config.show(job->config.context);
}

void ebi_job_work(struct eb_job *job, struct eb_crew *crew,
                  bool (*more)(struct eb_job *job, struct eb_crew *crew))
{
    uint64_t shown_us = 0;
    unsigned told = 0;
    size_t going = crew->going;
    while (going > 0 || (more != NULL && more(job, crew))) {
        uint64_t until_us = job->config.simulated ? EB_NEVER : eb_port_now_us(job->port) + SHOW_US;
        eb_crew_work(crew, until_us);
        if (more != NULL)
            more(job, crew);
        if (real_us() - shown_us >= SHOW_US) {
            shown_us = real_us();
            show(job);
        }
        if (!job->cut_off && job->record != NULL && !eb_record_answers(job->record)) {
            job->cut_off = true;
            ebi_job_warn(job,
                         "the server of the record does not answer any more: what is under way is brought to "
                         "an end as with Ctrl-C, and no other device is begun");
        }
        if (ebi_job_stop(job) > told) {
            told = ebi_job_stop(job);
            if (told == 1)
                eb_crew_stop(crew);
            else
                eb_crew_abandon(crew);
        }
        going = crew->going;
    }
    show(job);
}

/* --- words ---------------------------------------------------------------------------------------- */

const char *eb_job_word(const char *name)
{
    static _Thread_local char words[4][4 * EB_PATH_BYTES];
    static _Thread_local unsigned next;
    bool plain = name[0] != '-' && name[0] != '\0';
    for (const char *c = name; *c != '\0'; c++)
        plain = plain && ((*c >= 'a' && *c <= 'z') || (*c >= 'A' && *c <= 'Z') || (*c >= '0' && *c <= '9') ||
                          strchr("-_./:@%+,", *c) != NULL || (*c & 0x80) != 0);
    if (plain)
        return name;
    char *to = words[next++ % 4];
    size_t at = 0;
    to[at++] = '\'';
    for (const char *c = name; *c != '\0' && at < sizeof words[0] - 8; c++)
        at += (size_t)snprintf(to + at, 5, "%s", *c == '\'' ? "'\\''" : (const char[]){*c, '\0'});
    snprintf(to + at, 2, "'");
    return to;
}
