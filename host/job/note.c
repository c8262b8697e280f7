/* What the record says of a job, of its devices and of how each came to its end, as JSON: docs/record.md. */
#include "job/inside.h"

#include "einbau/einbau.h"

#include <jansson.h>
#include <pwd.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { SPANS_MAX = 96 };

/* --- what happens when ----------------------------------------------------------------------------- */

uint64_t ebi_note_ms(const struct eb_job *job)
{
    return (eb_port_now_us(job->port) - job->began_us) / 1000;
}

/* Where the run stands, if that is not where it stood. */
static void note_span(struct eb_job_device *target, const struct eb_run *run)
{
    const struct eb_progress *at = &run->progress;
    const char *hand = eb_run_hand(run);
    uint32_t ms = (uint32_t)ebi_note_ms(target->job);
    struct eb_job_span *last = target->span_count > 0 ? &target->spans[target->span_count - 1] : NULL;
    if (last != NULL)
        last->to_ms = ms;
    if (at->rung == EB_RUNG_END || (last != NULL && last->rung == at->rung && last->item == at->item &&
                                    last->attempt == at->attempt && last->hand == hand))
        return;
    if (target->span_count == SPANS_MAX)
        return;
    struct eb_job_span *longer = realloc(target->spans, (target->span_count + 1) * sizeof *longer);
    if (longer == NULL)
        return; /* the timeline ends here, and nothing else */
    target->spans = longer;
    longer[target->span_count++] =
        (struct eb_job_span){ms, ms, hand, (uint8_t)at->rung, (uint8_t)at->item, (uint8_t)at->attempt};
}

void ebi_note_event(void *context, const struct eb_run *run)
{
    struct eb_job_device *target = context;
    ebi_verdicts_judged(target, run);
    note_span(target, run);
    if (target->event != NULL)
        target->event(target->event_context, run);
}

static json_t *spans_of(const struct eb_job_device *target)
{
    json_t *list = json_array();
    for (size_t i = 0; i < target->span_count; i++) {
        const struct eb_job_span *s = &target->spans[i];
        json_t *span = json_pack("{s:s, s:I, s:I, s:i, s:i}", "rung", eb_rung_word((enum eb_rung)s->rung),
                                 "from_ms", (json_int_t)s->from_ms, "to_ms", (json_int_t)s->to_ms, "item",
                                 (int)s->item, "attempt", (int)s->attempt);
        if (s->hand != NULL)
            json_object_set_new(span, "hand", json_string(s->hand));
        json_array_append_new(list, span);
    }
    return list;
}

/* --- devices --------------------------------------------------------------------------------------- */

static char *text_of(json_t *object)
{
    char *text = json_dumps(object, JSON_COMPACT);
    json_decref(object);
    if (text == NULL)
        abort();
    return text;
}

/* Texts of devices may be anything. */
static json_t *text(const char *from)
{
    json_t *string = json_string(from);
    return string != NULL ? string : json_string("?");
}

const struct eb_job_device *eb_job_waits_for(const struct eb_job *job, const struct eb_job_device *target,
                                             size_t index)
{
    const struct eb_site_device *d = target->device;
    for (size_t i = 0; i <= d->companion_count; i++) {
        const struct eb_site_device *other = i == 0 ? d->via : d->companions[i - 1].device;
        const struct eb_job_device *o = other != NULL ? &job->devices[other - job->site->devices] : NULL;
        bool again = i > 0 && other == d->via;
        if (o != NULL && !again && o->chosen && o->item_count > 0 && index-- == 0)
            return o;
    }
    return NULL;
}

static json_t *components_of(const struct eb_job_device *target, const struct eb_run *run, bool known)
{
    json_t *list = json_array();
    for (size_t k = 0; k < target->device->profile->count; k++) {
        if (!eb_job_has(target, k))
            continue;
        char checksum[16];
        const struct eb_running *running = &run->running[k];
        bool read = known && !run->in_loader;
        json_t *component =
            json_pack("{s:o, s:o, s:o}", "name", text(target->device->profile->components[k].name), "running",
                      text(read ? running->version : ""), "wanted", text(eb_job_wanted(target, k)));
        snprintf(checksum, sizeof checksum, "%08x", running->checksum);
        if (read && running->has_checksum)
            json_object_set_new(component, "checksum", json_string(checksum));
        json_array_append_new(list, component);
    }
    return list;
}

static json_t *accepted_of(const struct eb_verdict *verdict)
{
    json_t *list = json_array();
    for (size_t f = 0; f < verdict->count; f++) {
        const struct eb_finding *finding = &verdict->findings[f];
        if (finding->grade == EB_GRADE_ACCEPTED)
            json_array_append_new(list,
                                  json_pack("{s:s, s:o, s:o}", "rule", eb_rule_code(finding->rule), "found",
                                            text(finding->found), "expected", text(finding->expected)));
    }
    return list;
}

static json_t *items_of(const struct eb_job_device *target)
{
    json_t *list = json_array();
    for (size_t k = 0; k < target->item_count; k++) {
        const struct eb_run_item *item = &target->items[k];
        const struct eb_image *image = target->planned[k].image;
        const struct eb_verdict *verdict = eb_job_verdict(target, k);
        char digest[2 * EB_SHA256_BYTES + 1];
        sodium_bin2hex(digest, sizeof digest, image->found.sha256, EB_SHA256_BYTES);
        json_array_append_new(
            list, json_pack("{s:o, s:o, s:o, s:o, s:s, s:I, s:s, s:s, s:o}", "component",
                            text(item->component->name), "from", text(item->from), "to",
                            text(item->image->version), "file", text(image->path), "sha256", digest, "bytes",
                            (json_int_t)item->source.size_bytes, "signed_by", image->signer, "verdict",
                            eb_answer_word(verdict->answer), "accepted", accepted_of(verdict)));
    }
    return list;
}

/* The steps that a person does for it, in their order. */
static json_t *manual_of(const struct eb_job_device *target)
{
    const struct eb_profile *p = target->device->profile;
    const struct eb_steps *const both[] = {&p->prepare, &p->activate};
    json_t *list = json_array();
    for (size_t n = 0; n < 2 && target->item_count > 0; n++) {
        for (size_t i = 0; i < both[n]->count; i++) {
            const struct eb_step *step = &both[n]->list[i];
            bool there = n == 0 && target->look.in_loader && step->by == NULL && step->kind == EB_HAND_SEEN;
            if (step->hand != NULL && !there)
                json_array_append_new(list, text(step->hand));
        }
    }
    return list;
}

char *eb_job_describe(const struct eb_job *job, const struct eb_job_device *target)
{
    static const char *const others[] = {"certificate", "plain-password", "stated"};
    const struct eb_identity *id = &target->look.identity;
    const struct eb_site_device *d = target->device;
    const struct eb_job_device *other;
    char place[EB_PLACE_TEXT_BYTES];
    json_t *after = json_array();
    json_t *loses = json_array();
    json_t *accepts = json_array();
    eb_site_place_text(d, place);
    for (size_t i = 0; (other = eb_job_waits_for(job, target, i)) != NULL; i++)
        json_array_append_new(after, text(other->device->name));
    for (size_t i = 0; i < EB_LOSSES_MAX && d->profile->loses[i][0] != '\0' && target->item_count > 0; i++)
        json_array_append_new(loses, text(d->profile->loses[i]));
    for (unsigned i = 0; i < sizeof others / sizeof others[0]; i++) {
        if ((target->accepts >> i & 1) != 0)
            json_array_append_new(accepts, json_string(others[i]));
    }
    json_t *body = json_pack("{s:o, s:o, s:o, s:o, s:o, s:s, s:b, s:b, s:b}", "maker",
                             text(id->maker[0] != '\0' ? id->maker : d->profile->maker), "product",
                             text(id->product[0] != '\0' ? id->product : d->profile->product),
                             "hardware_revision", text(id->hardware_revision), "via",
                             text(d->via != NULL ? d->via->name : ""), "place", text(place), "wire",
                             d->wire->kind == EB_SITE_CAN        ? "can"
                             : d->wire->kind == EB_SITE_ETHERNET ? "ethernet"
                                                                 : "usb",
                             "reached", target->reached, "in_loader", target->look.in_loader, "given",
                             target->given != NULL);
    json_object_set_new(body, "manual", manual_of(target));
    json_object_set_new(body, "components", components_of(target, &target->look, target->reached));
    json_object_set_new(body, "items", items_of(target));
    json_object_set_new(body, "after", after);
    json_object_set_new(body, "loses", loses);
    json_object_set_new(body, "accepts", accepts);
    json_object_set_new(body, "accepted_rules", json_integer((json_int_t)target->accepted));
    json_object_set_new(body, "noted", ebi_noted_before_json(target));
    json_object_set_new(body, "documents", ebi_kept_json(target));
    uint64_t about_us = target->estimate.send_us + target->estimate.rest_us;
    json_object_set_new(body, "about_ms", json_integer((json_int_t)(about_us / 1000)));
    return text_of(body);
}

/* Which of the kinds of proof. */
static json_t *proofs(unsigned by)
{
    static const char *const words[] = {"version", "checksum", "read-back", "statement"};
    json_t *list = json_array();
    for (unsigned i = 0; i < sizeof words / sizeof words[0]; i++) {
        if ((by >> i & 1) != 0)
            json_array_append_new(list, json_string(words[i]));
    }
    return list;
}

char *ebi_note_end(const struct eb_job *job, struct eb_job_device *target)
{
    const struct eb_run *run = eb_job_last(target);
    char says[1024] = "";
    json_t *items = json_array();
    for (size_t k = 0; k < target->item_count && target->begun; k++) {
        const struct eb_run_item *item = &target->items[k];
        json_array_append_new(
            items, json_pack("{s:o, s:o, s:s, s:o}", "component", text(item->component->name), "to",
                             text(item->image->version), "outcome",
                             item->outcome != EB_OUTCOME_NONE ? eb_outcome_word(item->outcome) : "", "by",
                             proofs(item->confirmed_by)));
    }
    if (job->config.says != NULL)
        job->config.says(job->config.context, target, says, sizeof says);
    bool known = target->begun ? run->identified : target->reached;
    json_t *body =
        json_pack("{s:b, s:b, s:b, s:i, s:o, s:o, s:o, s:o, s:I}", "reached", known, "answered",
                  target->begun ? run->answered : target->answered, "in_loader", known && run->in_loader,
                  "tries", (int)run->progress.attempt, "components", components_of(target, run, known),
                  "items", items, "says", text(says), "spans", spans_of(target), "began_ms",
                  (json_int_t)(target->begun && target->began_us >= job->began_us
                                   ? (target->began_us - job->began_us) / 1000
                                   : 0));
    json_object_set_new(body, "documents", ebi_kept_json(target));
    json_t *network = ebi_member_json(target);
    if (network != NULL)
        json_object_set_new(body, "network", network);
    return text_of(body);
}

char *ebi_note_effect(const struct eb_job_device *target)
{
    json_t *network = ebi_member_json(target);
    return network != NULL ? text_of(json_pack("{s:o}", "network", network)) : NULL;
}

/* --- the job --------------------------------------------------------------------------------------- */

void ebi_note_person(const struct eb_job *job, char to[EB_NAME_BYTES])
{
    const struct passwd *user = getpwuid(getuid());
    const char *name = user != NULL ? user->pw_name : "unknown";
    char full[EB_NAME_BYTES] = "";
    if (user != NULL && user->pw_gecos != NULL)
        snprintf(full, sizeof full, "%.*s", (int)strcspn(user->pw_gecos, ","), user->pw_gecos);
    if (job->config.person != NULL)
        name = job->config.person;
    else if (full[0] != '\0')
        name = full;
    eb_text_copy_foreign(to, EB_NAME_BYTES, (const uint8_t *)name, strlen(name));
}

void ebi_note_laptop(char to[EB_NAME_BYTES])
{
    char name[EB_NAME_BYTES] = "";
    bool known = gethostname(name, sizeof name - 1) == 0 && name[0] != '\0';
    eb_text_copy_foreign(to, EB_NAME_BYTES, (const uint8_t *)(known ? name : "unknown"),
                         strlen(known ? name : "unknown"));
}

char *ebi_note_job(const struct eb_job *job)
{
    char zone[8];
    char *site = job->config.site != NULL ? realpath(job->config.site, NULL) : NULL;
    char *shelf = job->config.shelf != NULL ? realpath(job->config.shelf, NULL) : NULL;
    time_t now = time(NULL);
    struct tm local;
    strftime(zone, sizeof zone, "%z", localtime_r(&now, &local));
    json_t *body = json_pack("{s:s, s:o, s:o, s:o, s:b, s:b, s:b, s:s, s:I, s:I}", "einbau", EB_VERSION,
                             "words", text(job->config.words != NULL ? job->config.words : ""), "site_file",
                             text(site != NULL ? site : ""), "shelf", text(shelf != NULL ? shelf : ""),
                             "again", job->again, "no_backup", job->no_backup, "named", job->named,
                             "utc_offset", zone, "about_ms", (json_int_t)(job->estimate_us / 1000), "resumes",
                             (json_int_t)job->config.resumes);
    free(site);
    free(shelf);
    json_t *left_out = json_array();
    for (size_t i = 0; i < job->count; i++) {
        if (job->devices[i].left_out)
            json_array_append_new(left_out, text(job->devices[i].device->name));
    }
    json_object_set_new(body, "left_out", left_out);
    return text_of(body);
}

void ebi_note_result(const struct eb_job *job, char *to, size_t cap)
{
    size_t counts[EB_OUTCOMES] = {0};
    to[0] = '\0';
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        if (ebi_note_is_part(target))
            counts[ebi_note_outcome(target)]++;
    }
    for (int o = EB_OUTCOME_NONE + 1; o < EB_OUTCOMES; o++) {
        size_t at = strlen(to);
        if (counts[o] > 0)
            snprintf(to + at, cap - at, "%s%zu %s", at > 0 ? ", " : "", counts[o],
                     eb_outcome_word((enum eb_outcome)o));
    }
}

bool ebi_note_is_part(const struct eb_job_device *target)
{
    return target->chosen &&
           (eb_job_wants(target) || target->item_count > 0 || target->recovers || target->puts_back);
}

enum eb_outcome ebi_note_outcome(const struct eb_job_device *target)
{
    enum eb_outcome outcome = eb_job_outcome(target);
    return outcome == EB_OUTCOME_NONE ? EB_OUTCOME_NOT_STARTED : outcome;
}
