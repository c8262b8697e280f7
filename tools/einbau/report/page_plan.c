/* A plan as a page: the same drawing and timeline, before anything is written. */
#include "report/page.h"
#include "report/report.h"

#include <einbau/einbau.h>

#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

void plan_sentence(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    text[0] = '\0';
    if (!t->reached) {
        look_sentence(s, t, text, cap);
        return;
    }
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        for (size_t f = 0; f < v->count; f++) {
            size_t used = strlen(text);
            if (v->findings[f].grade > EB_GRADE_ACCEPTED)
                snprintf(text + used, cap - used, "%s" W_PLAN_FINDING, used > 0 ? "; " : "",
                         t->items[k].component->name, t->items[k].image->version,
                         eb_rule_code(v->findings[f].rule), v->findings[f].found, v->findings[f].expected);
        }
    }
    for (size_t k = 0; k < t->device->profile->count; k++) {
        size_t used = strlen(text);
        if (t->components[k].lacks)
            snprintf(text + used, cap - used, "%s" W_PLAN_NO_IMAGE, used > 0 ? "; " : "",
                     t->device->profile->components[k].name, eb_job_wanted(t, k));
    }
}

static json_t *span(const char *rung, uint64_t from_us, uint64_t to_us)
{
    return json_pack("{s:s, s:I, s:I, s:i, s:i}", "rung", rung, "from_ms", (json_int_t)(from_us / 1000),
                     "to_ms", (json_int_t)(to_us / 1000), "item", 0, "attempt", 1);
}

static void take(const struct session *s, const struct eb_job_device *t, struct past *past)
{
    struct past_device *d = &past->devices[past->count++];
    const struct eb_job_estimate *e = &t->estimate;
    char *text = eb_job_describe(s->job, t);
    snprintf(d->name, sizeof d->name, "%s", t->device->name);
    snprintf(d->serial, sizeof d->serial, "%s", t->look.identity.serial);
    snprintf(d->order_code, sizeof d->order_code, "%s", t->look.identity.order_code);
    snprintf(d->link, sizeof d->link, "%s", t->device->link);
    snprintf(d->profile, sizeof d->profile, "%s", t->device->profile->name);
    snprintf(d->outcome, sizeof d->outcome, "%s",
             !t->reached           ? "unreachable"
             : t->refused          ? "refused"
             : t->item_count > 0   ? "planned"
             : eb_job_as_wanted(t) ? "up-to-date"
                                   : "not-started");
    plan_sentence(s, t, d->error, sizeof d->error);
    d->before = json_loads(text, 0, NULL);
    free(text);
    if (strcmp(d->outcome, "planned") == 0 && s->job->estimate_us > 0) {
        d->spans = json_array();
        json_array_append_new(d->spans, span("send", e->begins_us, e->sent_us));
        json_array_append_new(d->spans, span("return", e->sent_us, e->sent_us + e->rest_us));
    }
}

void past_of_plan(const struct session *s, struct past *past)
{
    time_t now = time(NULL);
    struct tm parts;
    char zone[8];
    const char *person = s->job->config.person;
    memset(past, 0, sizeof *past);
    past->plan = true;
    past->last_ms = past->job.took_ms = s->job->estimate_us / 1000;
    past->job.simulated = s->sim != NULL;
    snprintf(past->job.site, sizeof past->job.site, "%s", s->job->site->name);
    strftime(past->job.began, sizeof past->job.began, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&now, &parts));
    strftime(zone, sizeof zone, "%z", localtime_r(&now, &parts));
    if (gethostname(past->job.laptop, sizeof past->job.laptop - 1) != 0)
        past->job.laptop[0] = '\0';
    snprintf(past->job.person, sizeof past->job.person, "%s", person != NULL ? person : "");
    past->body =
        json_pack("{s:s, s:s, s:s}", "einbau", EB_VERSION, "utc_offset", zone, "site_file", s->options->site);
    past->devices = calloc(s->job->count + 1, sizeof *past->devices);
    if (past->devices == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && (eb_job_wants(t) || t->item_count > 0))
            take(s, t, past);
    }
}
