/* How long a device took for what, so that the next plan with such a product knows. */
#include "job/inside.h"

enum { PAUSE_MOST_US = 10000 }; /* what a file that was damaged says is not believed */

void ebi_pace_note(struct eb_job_device *target, const struct eb_run *run, const struct eb_run_record *record)
{
    if (target->sends != NULL)
        target->sends->sent_us = run->now_us - target->sends_since_us;
    target->sends = NULL;
    if (record->effect == EB_EFFECT_SEND && record->item < target->item_count) {
        target->sends = &target->planned[record->item];
        target->sends_since_us = run->now_us;
    }
    /* Only what went well at once says how long it takes; and nothing does where a person was waited for. */
    bool typical = run->outcome == EB_OUTCOME_CONFIRMED && run->failures == 0 && run->way == 0 &&
                   run->choice == 0 && target->left == NULL && !eb_job_by_hand(target);
    if (record->effect != EB_EFFECT_END || !typical)
        return;
    target->took_us = run->now_us - target->began_us;
    const struct eb_access_tftp_context *tftp = eb_run_context(run, &eb_access_tftp);
    target->by_tftp = tftp != NULL && eb_run_sends_by(run) == &eb_access_tftp && !tftp->back;
    if (target->by_tftp) {
        target->tftp_at_once = tftp->put.flight_most;
        target->tftp_pause_us = tftp->put.pace_us;
    }
}

void ebi_pace_recall(const struct eb_job_device *target, struct eb_target *to)
{
    struct eb_known_pace pace;
    if (target->item_count == 0 || target->job->known == NULL ||
        !eb_known_pace(target->job->known, &target->look.identity, target->items[0].component->name, &pace))
        return;
    to->tftp_at_once = pace.tftp_at_once < EB_TFTP_WINDOWSIZE_MAX ? pace.tftp_at_once : 0;
    to->tftp_pause_us = pace.tftp_pause_us < PAUSE_MOST_US ? pace.tftp_pause_us : 0;
}

unsigned ebi_restarts(const struct eb_job_device *target, size_t count)
{
    const struct eb_run_item *items = target->items;
    unsigned restarts = 0;
    for (size_t i = 0; i < count; i++)
        restarts += i + 1 == target->item_count || !target->device->profile->restarts_once ||
                    items[i + 1].component == items[i].component;
    return restarts;
}

static bool remember(struct eb_job *job, const struct eb_job_device *target)
{
    uint64_t sent_us = 0;
    for (size_t i = 0; i < target->item_count; i++)
        sent_us += target->planned[i].sent_us;
    unsigned restarts = ebi_restarts(target, target->item_count);
    if (restarts == 0 || sent_us > target->took_us)
        return true;
    uint64_t rest_ms = (target->took_us - sent_us) / 1000 / restarts;
    for (size_t i = 0; i < target->item_count; i++) {
        uint64_t us = target->planned[i].sent_us;
        uint64_t bytes_per_s = us > 0 ? target->items[i].source.size_bytes * 1000000 / us : 0;
        const struct eb_known_pace pace = {.bytes_per_s =
                                               bytes_per_s > UINT32_MAX ? UINT32_MAX : (uint32_t)bytes_per_s,
                                           .rest_ms = rest_ms > UINT32_MAX ? UINT32_MAX : (uint32_t)rest_ms,
                                           .by_tftp = target->by_tftp,
                                           .tftp_at_once = target->tftp_at_once,
                                           .tftp_pause_us = target->tftp_pause_us};
        if (!eb_known_set_pace(job->known, &target->fit.identity, target->items[i].component->name, &pace,
                               &job->problem))
            return false;
    }
    return true;
}

void ebi_job_remember(struct eb_job *job)
{
    bool good = true;
    bool begun = false;
    for (size_t i = 0; i < job->count && job->known != NULL && good; i++) {
        struct eb_job_device *target = &job->devices[i];
        bool read = target->begun && target->fit.identified && !target->fit.in_loader;
        if (target->took_us == 0 && !read)
            continue;
        good = (begun || eb_known_begin(job->known, &job->problem)) &&
               (!read || eb_known_note(job->known, job->site->name, target->device->name, &target->fit,
                                       &job->problem)) &&
               (target->took_us == 0 || remember(job, target));
        begun = true;
        target->took_us = 0;
    }
    if (begun && !(eb_known_end(job->known, &job->problem) && good))
        ebi_job_warn(job, "what the devices run now, and how long they took, cannot be remembered: %s",
                     job->problem.text);
}
