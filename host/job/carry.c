/* Carrying a plan out: each device begins when all that it depends on is confirmed. */
#include "job/inside.h"

#include <stddef.h>
#include <stdlib.h>
#include <string.h>

enum eb_outcome eb_job_outcome(const struct eb_job_device *target)
{
    const struct eb_job_settings *s = target->settings;
    if (target->begun && target->puts_back && target->fit.outcome == EB_OUTCOME_NONE && s != NULL &&
        s->change != EB_CHANGE_NOTHING)
        return eb_job_settings_good(target) ? EB_OUTCOME_DONE : EB_OUTCOME_FAILED;
    if (target->begun && target->puts_back && target->fit.outcome == EB_OUTCOME_NONE)
        return target->fit.error.status != EB_OK || !eb_job_documents_good(target) ? EB_OUTCOME_FAILED
               : ebi_kept_any_due(target)                                          ? EB_OUTCOME_PUT_BACK
                                                                                   : EB_OUTCOME_DONE;
    if (target->begun)
        return target->fit.outcome;
    if (target->waited_for != NULL)
        return EB_OUTCOME_NOT_STARTED;
    if (!eb_job_wants(target))
        return EB_OUTCOME_NONE;
    if (target->refused)
        return EB_OUTCOME_REFUSED;
    if (!target->reached)
        return EB_OUTCOME_FAILED;
    return target->item_count == 0 && eb_job_as_wanted(target) ? EB_OUTCOME_UP_TO_DATE : EB_OUTCOME_NONE;
}

enum { BUFFER_BYTES = 131072 }; /* 64 blocks for an Ethernet's MTU, or two of the largest */

/* Whether its images are sent by nothing that keeps what is under way in the run's buffer from one poll to
 * the next. */
static bool may_share_buffer(const struct eb_profile *p)
{
    const struct eb_access *list[EB_ACCESSES_MAX];
    size_t count = eb_profile_accesses(p, list);
    bool may = p->stored_count == 0 || eb_profile_wire(p) != EB_WIRE_CAN; /* documents are read into it */
    for (size_t i = 0; i < count; i++)
        may = may && list[i] != &eb_access_uds && list[i] != &eb_access_dfu && list[i] != &eb_access_pull;
    return may;
}

static void take_buffer(struct eb_job *job, struct eb_job_device *target, struct eb_run_config *config)
{
    bool shares = may_share_buffer(target->device->profile);
    uint8_t **buffer = shares ? &job->buffers[job->buffers_taken++ % EB_JOB_BUFFERS] : &target->buffer;
    if (*buffer == NULL)
        *buffer = malloc(BUFFER_BYTES);
    if (*buffer == NULL)
        abort();
    config->buffer = *buffer;
    config->buffer_bytes = BUFFER_BYTES;
}

/* What the run of a device needed while it went on. */
static void give_back(struct eb_job_device *target)
{
    ebi_job_give_memory(target, EB_JOB_FIT);
    free(target->buffer);
    target->buffer = NULL;
}

/* Begins a run that writes. */
static bool begin(struct eb_job *job, struct eb_job_device *target, struct eb_crew *crew)
{
    struct eb_run_config config = target->fit.config;
    config.target.urgent = ebi_is_urgent(target);
    ebi_pace_recall(target, &config.target);
    if (job->config.begins != NULL)
        job->config.begins(job->config.context, &config);
    ebi_job_attach(job, &config);
    if (!ebi_settings_attach(target, &config))
        ebi_kept_attach(target, &config);
    ebi_member_attach(target, &config);
    ebi_job_record_statements(target);
    target->begun = true;
    target->judged = false;
    target->began_us = eb_port_now_us(job->port);
    ebi_job_take_memory(target, EB_JOB_FIT, &config);
    take_buffer(job, target, &config);
    memset(target->fit.running, 0, target->device->profile->count * sizeof *target->fit.running);
    if (eb_run_init(&target->fit, &config) != EB_OK)
        return false;
    if (eb_crew_add(crew, &target->fit) == EB_OK)
        return true;
    eb_run_abandon(&target->fit);
    return false;
}

static bool begin_ready(struct eb_job *job, struct eb_crew *crew)
{
    bool added = false;
    struct eb_run *run;
    do {
        run = eb_crew_ended(crew);
        if (run != NULL) {
            struct eb_job_device *target =
                (struct eb_job_device *)(void *)((char *)run - offsetof(struct eb_job_device, fit));
            give_back(target);
            ebi_order_ended(job, target,
                            run->outcome == EB_OUTCOME_CONFIRMED || run->outcome == EB_OUTCOME_UP_TO_DATE);
        }
        for (struct eb_job_device *target;
             ebi_job_stop(job) == 0 && (target = ebi_order_next(job)) != NULL;) {
            /* By what runs now in those that it waited for: the run judges once more. */
            eb_job_surround(job, target, false);
            if (begin(job, target, crew))
                added = true;
            else
                ebi_order_ended(job, target, false);
        }
    } while (run != NULL);
    return added;
}

static bool begin_recovering(struct eb_job *job, struct eb_crew *crew)
{
    bool added = false;
    for (size_t i = 0; i < job->count && ebi_job_stop(job) == 0; i++) {
        struct eb_job_device *target = &job->devices[i];
        if (!(target->recovers || target->puts_back) || target->begun)
            continue;
        target->fit.config = eb_job_run_config(job, target, EB_JOB_FIT);
        target->fit.config.target.serial =
            target->look.identity.serial; /* the very device that was looked at */
        target->fit.config.recover = target->recovers;
        added = begin(job, target, crew) || added;
    }
    return added;
}

static bool work(struct eb_job *job, bool (*more)(struct eb_job *job, struct eb_crew *crew))
{
    struct eb_crew_place *places = calloc(job->count + 1, sizeof *places);
    struct eb_crew crew;
    if (places == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory; nothing was written");
    eb_crew_init(&crew, job->port, places, job->count);
    ebi_job_work(job, &crew, more);
    free(places);
    return true;
}

bool eb_job_carry_out(struct eb_job *job)
{
    ebi_noted_before(job);
    bool ok =
        ebi_note_plan(job) && work(job, begin_recovering) && ebi_order_begin(job) && work(job, begin_ready);
    ebi_noted_after(job);
    return ok;
}

bool eb_job_recover(struct eb_job *job)
{
    bool ok = ebi_note_plan(job) && work(job, begin_recovering);
    for (size_t i = 0; i < job->count; i++) {
        if (job->devices[i].begun)
            ebi_settings_end(&job->devices[i]);
    }
    ebi_noted_after(job);
    return ok;
}

/* --- all of it ------------------------------------------------------------------------------------ */

/* Why nothing is written: one device is refused, or could not be looked at. */
static bool is_ready(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        const struct eb_finding *f = NULL;
        if (!target->chosen || !eb_job_wants(target))
            continue;
        if (!target->reached)
            return ebi_job_fail(job, EB_NO_ANSWER, "%s: %s: %s. Nothing was written", target->device->name,
                                target->look.error.where != NULL ? target->look.error.where : "looking at it",
                                target->look.error.text[0] != '\0'
                                    ? target->look.error.text
                                    : eb_status_word(target->look.error.status));
        for (size_t k = 0; k < target->item_count && f == NULL; k++) {
            const struct eb_verdict *v = eb_job_verdict(target, k);
            for (size_t n = 0; n < v->count && f == NULL; n++)
                f = v->findings[n].grade > EB_GRADE_ACCEPTED ? &v->findings[n] : NULL;
        }
        if (target->refused)
            return ebi_job_fail(
                job, EB_OTHER, "%s is refused: %s: found %s, expected %s. Nothing was written",
                target->device->name, f != NULL ? eb_rule_code(f->rule) : "image",
                f != NULL ? f->found : "none on the shelf", f != NULL ? f->expected : "the wanted version");
    }
    return true;
}

/* Whether all is as wanted; else the first device that is not. */
static bool is_done(struct eb_job *job)
{
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        enum eb_outcome outcome = eb_job_outcome(target);
        const struct eb_error *e = &target->fit.error;
        bool good = outcome == EB_OUTCOME_CONFIRMED || outcome == EB_OUTCOME_UP_TO_DATE ||
                    (outcome == EB_OUTCOME_PUT_BACK && eb_job_as_wanted(target));
        if (target->chosen && !eb_job_documents_good(target))
            return ebi_job_fail(
                job, EB_UNCONFIRMED, "%s: %s, but not all that was saved of it is back. It is kept: %s",
                target->device->name, eb_outcome_word(outcome),
                target->kept->due.count > 0 ? target->kept->due.path : target->kept->file.path);
        if (target->chosen && eb_job_is_out(target))
            return ebi_job_fail(job, EB_UNCONFIRMED,
                                "%s: %s, but %s was not seen to take it back into its network: %s",
                                target->device->name, eb_outcome_word(outcome), target->device->manager->name,
                                target->member->run.error.text);
        if (!target->chosen || !eb_job_wants(target) || good)
            continue;
        return ebi_job_fail(job, e->status != EB_OK ? e->status : EB_UNCONFIRMED, "%s: %s%s%s%s%s",
                            target->device->name, eb_outcome_word(outcome), e->where != NULL ? ": " : "",
                            e->where != NULL ? e->where : "", e->text[0] != '\0' ? ": " : "", e->text);
    }
    return true;
}

bool eb_job_fit(struct eb_job *job, struct eb_problem *problem)
{
    bool good = eb_job_lock_addresses(job) && eb_job_look(job) && eb_job_plan(job) && is_ready(job) &&
                eb_job_lock_devices(job) && eb_job_begin(job) && eb_job_carry_out(job) && is_done(job);
    if (!good && job->status == EB_OTHER && !job->recording) {
        struct eb_problem refused = job->problem;
        if (!eb_job_refuse(job))
            ebi_job_warn(job, "that this plan was refused is not in the record of jobs: %s",
                         job->problem.text);
        ebi_job_fail(job, EB_OTHER, "%s", refused.text);
    }
    eb_job_end(job, good ? "as wanted" : "not as wanted");
    if (!good && problem != NULL)
        *problem = job->problem;
    return good;
}
