/* What only a person can tell of a device: asked for, or taken from the site, and recorded with who said it.
 */
#include "job/inside.h"

#include <pwd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

const char *eb_site_item_key(const struct eb_profile *profile, size_t item)
{
    static const char *const keys[] = {"maker", "product", "order-code", "hardware-revision", "serial"};
    size_t component;
    bool checksum;
    if (item == eb_profile_items(profile))
        return "hardware-address";
    if (eb_profile_item_component(item, &component, &checksum))
        return !checksum && component < profile->count ? profile->components[component].name : "";
    return item < sizeof keys / sizeof keys[0] ? keys[item] : "";
}

static const char *of_site(const struct eb_job_device *target, size_t item)
{
    const struct eb_pairs *stated = &target->device->stated;
    const char *key = eb_site_item_key(target->device->profile, item);
    for (size_t i = 0; i < stated->count; i++) {
        if (key[0] != '\0' && strcmp(stated->list[i].name, key) == 0)
            return stated->list[i].text;
    }
    return NULL;
}

static const char *user_name(void)
{
    const struct passwd *user = getpwuid(getuid());
    return user != NULL ? user->pw_name : "unknown";
}

static void record(struct eb_job_device *target, size_t item)
{
    struct eb_job *job = target->job;
    const struct eb_job_statement *s = &target->statements[item];
    struct ebi_row_keys keys;
    struct eb_record_row row = ebi_job_row(job, target, &keys);
    row.kind = "stated";
    row.component = eb_site_item_key(target->device->profile, item);
    row.version = s->text;
    row.outcome = s->by;
    if (!eb_record_add(job->record, &row, &job->problem))
        ebi_job_warn(job, "%s: the record of jobs cannot be written: %s", target->device->name,
                     job->problem.text);
}

void ebi_job_record_statements(struct eb_job_device *target)
{
    if (target->statements == NULL || !target->job->recording)
        return;
    for (size_t i = 0; i <= eb_profile_items(target->device->profile); i++) {
        if (target->statements[i].said)
            record(target, i);
    }
}

enum eb_status ebi_job_statement(void *context, size_t item, const char *where, bool afresh,
                                 char text[EB_NAME_BYTES])
{
    struct eb_job_device *target = context;
    struct eb_job *job = target->job;
    if (target->statements == NULL)
        target->statements =
            calloc(eb_profile_items(target->device->profile) + 1, sizeof *target->statements);
    if (target->statements == NULL)
        return EB_NO_ANSWER;
    struct eb_job_statement *s = &target->statements[item];
    enum eb_status status = EB_NO_ANSWER;
    if (s->said && (s->afresh || !afresh)) {
        eb_text_copy(text, EB_NAME_BYTES, s->text);
        return EB_OK;
    }
    if (job->config.statement != NULL && !(s->declined && s->afresh == afresh))
        status = job->config.statement(job->config.context, target,
                                       eb_site_item_key(target->device->profile, item), where, afresh, text);
    uint8_t mac[EB_MAC_BYTES];
    bool label = item == eb_profile_items(target->device->profile);
    if (status == EB_PENDING || (status == EB_OK && label && !eb_mac_parse(text, mac)))
        return EB_PENDING; /* no hardware address: the question comes again */
    bool by_user = status == EB_OK && text[0] != '\0';
    const char *site = !afresh ? of_site(target, item) : NULL;
    if (!by_user && (site == NULL || !eb_text_copy(text, EB_NAME_BYTES, site))) {
        *s = (struct eb_job_statement){.afresh = afresh, .declined = true};
        return EB_NO_ANSWER;
    }
    *s = (struct eb_job_statement){.said = true, .afresh = afresh};
    eb_text_copy(s->text, sizeof s->text, text);
    eb_text_copy(s->by, sizeof s->by, by_user ? user_name() : "site");
    if ((afresh || label) && job->recording)
        record(target, item);
    return EB_OK;
}

bool eb_job_rests_on_statement(const struct eb_job_device *target)
{
    return eb_job_last(target)->stated != 0;
}
