/* Operations of the accesses that a run has, and looking: all values, by one access after the other. */
#include "access/access.h"
#include "einbau/text.h"
#include "job/ladder.h"

#include <limits.h>

const struct ebi_run_access *ebi_access_of(const struct eb_run *run, const struct eb_access *access)
{
    for (size_t i = 0; i < run->access_count; i++) {
        if (access != NULL && run->accesses[i].access == access)
            return &run->accesses[i];
    }
    return NULL;
}

const struct eb_access *eb_run_sends_by(const struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    return run->way == 0 ? p->sends_by : p->otherwise[run->way - 1].by;
}

/* What sends its images, or NULL. */
const struct ebi_run_access *ebi_sender(const struct eb_run *run)
{
    return ebi_access_of(run, eb_run_sends_by(run));
}

bool ebi_sender_is_able(const struct eb_run *run, unsigned bits)
{
    return ebi_sender(run) != NULL && (ebi_sender(run)->access->able & bits) != 0;
}

void ebi_close_but(struct eb_run *run, const struct ebi_run_access *one)
{
    for (size_t i = 0; i < run->access_count; i++) {
        if (&run->accesses[i] != one)
            run->accesses[i].access->close(run->accesses[i].context);
    }
}

void ebi_begin_operation(struct eb_run *run, const struct ebi_run_access *by,
                         const struct eb_operation *operation)
{
    run->active = (size_t)(by - run->accesses);
    by->access->begin(by->context, operation, run->now_us);
}

enum eb_status ebi_poll_operation(struct eb_run *run)
{
    const struct ebi_run_access *by = &run->accesses[run->active];
    if (run->active < run->access_count)
        return by->access->poll(by->context, run->now_us);
    if (run->hand_waits && !run->stopping) {
        if (run->hand_done || run->now_us < run->step_end_us)
            return run->hand_done ? EB_OK : EB_PENDING;
        run->contact.error =
            (struct eb_error){.status = EB_UNCONFIRMED, .where = "waiting for a manual step"};
        eb_text_copy(run->contact.error.text, sizeof run->contact.error.text,
                     "it was not reported as done in time");
        return EB_UNCONFIRMED;
    }
    return run->now_us >= run->step_end_us ? EB_OK : EB_PENDING;
}

void ebi_begin_by_sender(struct eb_run *run, enum eb_operation_kind kind)
{
    ebi_begin_operation(run, ebi_sender(run), &(struct eb_operation){.kind = kind});
}

void ebi_begin_step(struct eb_run *run, const struct eb_step *step)
{
    run->step_end_us = run->now_us + step->time_ms * 1000ULL;
    if (step->by != NULL)
        ebi_begin_operation(run, ebi_access_of(run, step->by),
                            &(struct eb_operation){.kind = EB_STEP, .step = step});
    else
        run->active = EB_ACCESSES_MAX;
}

/* Begins with the next access, from `at` on, that has something to read; false: there is none. */
static bool look_further(struct eb_run *run, size_t at)
{
    for (; at < run->access_count; at++) {
        if (ebi_values_wanted(&run->contact, run->accesses[at].access, UINT_MAX)) {
            run->contact.value = 0;
            ebi_begin_operation(run, &run->accesses[at], &(struct eb_operation){.kind = EB_READ});
            return true;
        }
    }
    return false;
}

void ebi_begin_look(struct eb_run *run)
{
    ebi_values_forget(&run->contact);
    run->contact.connected = run->contact.by_mac = false;
    run->active = EB_ACCESSES_MAX;
    run->step_end_us = 0;
    look_further(run, 0);
}

/* Whether an access that was not asked yet may know that the device is in its loader. */
static bool loader_may_tell(const struct eb_run *run)
{
    const struct eb_values *state = &run->config.profile->from_state;
    for (size_t at = run->active + 1; at < run->access_count; at++) {
        for (size_t k = 0; k < state->count; k++) {
            if (state->list[k].by == run->accesses[at].access)
                return true;
        }
    }
    return false;
}

/* One access after the other.  One that does not answer is no harm where another has the same items. */
enum eb_status ebi_poll_look(struct eb_run *run)
{
    enum eb_status status = ebi_poll_operation(run);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK)
        ebi_values_failed(&run->contact, run->accesses[run->active].access, UINT_MAX, &run->contact.error);
    bool lost = ebi_values_lost(&run->contact) && !run->contact.by_mac;
    if ((!lost || loader_may_tell(run)) && look_further(run, run->active + 1))
        return EB_PENDING;
    if (!lost)
        return EB_OK;
    run->contact.error = run->contact.first_error;
    return run->contact.error.status;
}

/* Contexts lie one behind the other, each where any type may begin. */
static size_t context_words(const struct eb_access *access)
{
    return (access->context_bytes + sizeof(uint64_t) - 1) / sizeof(uint64_t);
}

static size_t texts_words(const struct eb_profile *profile)
{
    return (eb_profile_items(profile) * sizeof(eb_texts) + sizeof(uint64_t) - 1) / sizeof(uint64_t);
}

static size_t running_words(const struct eb_profile *profile)
{
    return (profile->count * sizeof(struct eb_running) + sizeof(uint64_t) - 1) / sizeof(uint64_t);
}

size_t eb_run_memory_bytes(const struct eb_profile *profile)
{
    const struct eb_access *list[EB_ACCESSES_MAX];
    size_t count = eb_profile_accesses(profile, list);
    size_t words = running_words(profile) + texts_words(profile);
    for (size_t i = 0; i < count; i++)
        words += context_words(list[i]);
    return words * sizeof(uint64_t);
}

const void *eb_run_context(const struct eb_run *run, const struct eb_access *access)
{
    const struct ebi_run_access *found = ebi_access_of(run, access);
    return found != NULL ? found->context : NULL;
}

const char *ebi_run_lacks(const struct eb_run_config *config)
{
    const struct eb_access *list[EB_ACCESSES_MAX];
    size_t count = eb_profile_accesses(config->profile, list);
    const char *lacks = NULL;
    for (size_t i = 0; i < count && lacks == NULL; i++)
        lacks = ebi_port_lacks(config->port, list[i]);
    return lacks;
}

void ebi_init_accesses(struct eb_run *run)
{
    const struct eb_run_config *config = &run->config;
    const struct eb_access *list[EB_ACCESSES_MAX];
    uint64_t *at = config->memory + running_words(config->profile);
    run->texts = (eb_texts *)at;
    at += texts_words(config->profile);
    run->contact = (struct eb_contact){.port = config->port,
                                       .profile = config->profile,
                                       .target = &run->config.target,
                                       .waiter = &run->waiter,
                                       .patience_us = config->profile->answer_patience_ms * 1000ULL,
                                       .buffer = config->buffer,
                                       .buffer_bytes = config->buffer_bytes,
                                       .first_is_enough = config->count > 0,
                                       .interrupted = config->interrupted,
                                       .texts = run->texts};
    run->access_count = eb_profile_accesses(config->profile, list);
    for (size_t i = 0; i < run->access_count; i++) {
        run->accesses[i] = (struct ebi_run_access){list[i], at};
        at += context_words(list[i]);
        list[i]->init(run->accesses[i].context, &run->contact);
    }
}
