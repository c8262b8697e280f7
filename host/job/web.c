/* Devices with a web server: their passwords, and whether their certificates are those that are known. */
#include "job/inside.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool secret(void *context, char user[EB_HTTP_USER_BYTES], char password[EB_HTTP_PASSWORD_BYTES])
{
    const struct eb_job_device *target = context;
    const struct eb_job *job = target->job;
    if (target->trial.user[0] != '\0')
        return eb_text_copy(user, EB_HTTP_USER_BYTES, target->trial.user) &&
               eb_text_copy(password, EB_HTTP_PASSWORD_BYTES, target->trial.password);
    const struct eb_secret_name name = {
        .site = job->site->name, .device = target->device->name, .profile = target->device->profile->name};
    return job->secrets != NULL && eb_secret_find(job->secrets, &name, user, password);
}

static void digits(const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES], char text[EB_CERTIFICATE_TEXT_BYTES])
{
    for (size_t i = 0; i < EB_HTTP_CERTIFICATE_BYTES; i++)
        snprintf(text + 2 * i, 3, "%02x", sha256[i]);
}

/* The first one is taken for the device's own; another one only where the user accepts it. */
static bool certificate(void *context, const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES])
{
    struct eb_job_device *target = context;
    struct eb_job *job = target->job;
    const struct eb_site_web *web = &target->device->web;
    char text[EB_CERTIFICATE_TEXT_BYTES];
    char before[EB_CERTIFICATE_TEXT_BYTES] = "";
    digits(sha256, text);
    if (web->certificate[0] != '\0' || web->authority[0] != '\0') {
        bool right = web->certificate[0] == '\0' || strcmp(web->certificate, text) == 0;
        if (right)
            eb_text_copy(target->certificate, sizeof target->certificate, text);
        return right;
    }
    if (target->certificate[0] == '\0' && job->known != NULL)
        eb_known_certificate(job->known, job->site->name, target->device->name, target->certificate);
    if (strcmp(target->certificate, text) == 0)
        return true;
    eb_text_copy(before, sizeof before, target->certificate);
    if (before[0] != '\0' && (target->accepts & EB_ACCEPT_CERTIFICATE) == 0)
        return false;
    eb_text_copy(target->certificate, sizeof target->certificate, text);
    if (job->known != NULL &&
        !eb_known_set_certificate(job->known, job->site->name, target->device->name, text, &job->problem))
        ebi_job_warn(job, "%s: its certificate cannot be remembered: %s", target->device->name,
                     job->problem.text);
    if (before[0] != '\0')
        ebi_job_warn(job, "%s: its new certificate is trusted from now on, SHA-256 %s", target->device->name,
                     text);
    else
        ebi_job_warn(job,
                     "%s: its certificate is seen for the first time and trusted from now on, SHA-256 %s",
                     target->device->name, text);
    return true;
}

struct eb_http_target ebi_job_web(struct eb_job_device *target)
{
    const struct eb_site_web *web = &target->device->web;
    return (struct eb_http_target){.port = web->port,
                                   .host = web->host[0] != '\0' ? web->host : NULL,
                                   .authority = web->authority[0] != '\0' ? web->authority : NULL,
                                   .plain_passwords = (target->accepts & EB_ACCEPT_PLAIN_PASSWORD) != 0,
                                   .secret = secret,
                                   .certificate = certificate,
                                   .context = target};
}

bool eb_job_logs_in(const struct eb_job_device *target)
{
    const struct eb_http_way *way = eb_http_way_of(target->device->profile);
    return way != NULL && way->login != EB_LOGIN_NONE;
}

bool eb_job_has_secret(const struct eb_job *job, const struct eb_job_device *target)
{
    char user[EB_HTTP_USER_BYTES] = "";
    char password[EB_HTTP_PASSWORD_BYTES] = "";
    const struct eb_secret_name name = {
        .site = job->site->name, .device = target->device->name, .profile = target->device->profile->name};
    bool there = job->secrets != NULL && eb_secret_find(job->secrets, &name, user, password);
    volatile char *wiped = password;
    for (size_t i = 0; i < sizeof password; i++)
        wiped[i] = 0;
    return there;
}
