/* A device's own password: changed on the device, and tried there before it is kept. */
#include "job/inside.h"

#include "setting_number.h"

#include <stdlib.h>
#include <string.h>

static void begin(void *self)
{
    (void)self;
}

static enum eb_status take(void *self, const uint8_t *bytes, size_t size)
{
    (void)self;
    (void)bytes;
    (void)size;
    return EB_OK;
}

static bool never_same(void *self)
{
    (void)self;
    return false;
}

/* No device gives its password: what it gives in that place is thrown away. */
static const struct eb_sink nothing = {NULL, begin, take};

bool eb_job_plan_password(struct eb_job_device *target, const char *user, const char *old, const char *fresh)
{
    const struct eb_profile *p = target->device->profile;
    struct eb_job_settings *s = ebi_settings_of(target);
    struct eb_run_document *d = &s->documents[0];
    size_t size;
    uint8_t *bytes = p->password != NULL ? ebi_password_body(p->password, user, old, fresh, &size) : NULL;
    if (bytes == NULL)
        return false;
    s->change = EB_CHANGE_SETTINGS;
    s->document_count = 1;
    s->secret = (struct eb_backup_document){.bytes = bytes, .size = size, .cap = size};
    for (size_t i = 0; i < s->count; i++)
        s->list[i].document = NULL;
    *d = (struct eb_run_document){.backup = p->password->at,
                                  .source = eb_backup_source(&s->secret),
                                  .due = true,
                                  .check = &nothing,
                                  .same = never_same};
    target->puts_back = true;
    target->begun = false;
    return true;
}

bool eb_job_password_written(struct eb_job_device *target)
{
    struct eb_job_settings *s = target->settings;
    bool written = s->documents[0].written;
    explicit_bzero(s->secret.bytes, s->secret.size);
    free(s->secret.bytes);
    s->secret.bytes = NULL;
    ebi_settings_clear(target);
    return written;
}

bool eb_job_plan_trial(struct eb_job_device *target, const char *user, const char *password)
{
    const struct eb_profile *p = target->device->profile;
    struct eb_job_settings *s = ebi_settings_of(target);
    const struct eb_backup *at = NULL;
    for (size_t i = 0; i < p->backup_count + p->setting_count && at == NULL; i++)
        at = p->backups[i].at.by == &eb_access_http ? &p->backups[i] : NULL;
    eb_text_copy(target->trial.user, sizeof target->trial.user, user);
    eb_text_copy(target->trial.password, sizeof target->trial.password, password);
    if (at == NULL)
        return false;
    s->change = EB_CHANGE_NOTHING;
    s->document_count = 1;
    s->documents[0] = (struct eb_run_document){.backup = at, .sink = nothing};
    target->puts_back = true;
    target->begun = false;
    return true;
}

bool eb_job_trial_good(struct eb_job_device *target)
{
    bool good = target->begun && target->settings->documents[0].state == EB_DOCUMENT_SAVED;
    explicit_bzero(&target->trial, sizeof target->trial);
    ebi_settings_clear(target);
    return good;
}

void eb_job_end_password(struct eb_job_device *target, bool good)
{
    target->settings->change = EB_CHANGE_SETTINGS;
    target->settings->refused = !good;
}
