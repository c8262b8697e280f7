#include "report/report.h"
#include "session/history.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <wchar.h>

static json_t *findings_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        for (size_t f = 0; f < v->count; f++) {
            const struct eb_finding *finding = &v->findings[f];
            json_array_append_new(
                list,
                json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:b, s:o}", "component",
                          t->items[k].component->name, "version", t->items[k].image->version, "code",
                          eb_rule_code(finding->rule), "grade", eb_grade_word(finding->grade), "found",
                          finding->found, "expected", finding->expected, "acceptable", finding->acceptable,
                          "together", text_or_null(finding->together != NULL ? finding->together : "")));
        }
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (t->components[i].lacks)
            json_array_append_new(list, json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:b}", "component",
                                                  t->device->profile->components[i].name, "version",
                                                  eb_job_wanted(t, i), "code", "image", "grade", "no",
                                                  "found", "none on the shelf", "expected",
                                                  eb_job_wanted(t, i), "acceptable", 0));
    }
    return list;
}

/* Which of the kinds of proof. */
static json_t *known_by_document(unsigned by)
{
    static const char *const words[] = {"version", "checksum", "read-back", "statement"};
    json_t *list = json_array();
    for (unsigned i = 0; i < sizeof words / sizeof words[0]; i++) {
        if ((by >> i & 1) != 0)
            json_array_append_new(list, json_string(words[i]));
    }
    return list;
}

/* Of a component to which something is to be written, or was. */
static void add_item(const struct eb_job_device *t, json_t *component, size_t i)
{
    const struct eb_run_item *item = &t->items[i];
    json_t *through = json_object_get(component, "through");
    if (through == NULL) {
        through = json_array();
        json_object_set_new(component, "through", through);
        json_object_set_new(component, "from", text_or_null(item->from));
    }
    json_array_append_new(through, json_string(item->image->version));
    json_object_set_new(component, "to", json_string(item->image->version));
    json_object_set_new(component, "image", json_string(t->planned[i].image->path));
    json_object_set_new(component, "verdict", json_string(eb_answer_word(eb_job_verdict(t, i)->answer)));
    if (!t->begun)
        return;
    enum eb_outcome outcome = item->outcome != EB_OUTCOME_NONE ? item->outcome : t->fit.outcome;
    json_object_set_new(component, "outcome", json_string(eb_outcome_word(outcome)));
    json_object_set_new(component, "confirmed_by", known_by_document(item->confirmed_by));
}

static json_t *components_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    const struct eb_run *run = eb_job_last(t);
    bool known = (t->begun ? run->identified : t->reached) && !run->in_loader;
    for (size_t k = 0; k < t->device->profile->count; k++) {
        if (!eb_job_has(t, k))
            continue;
        const struct eb_running *running = &run->running[k];
        enum eb_mark mark = eb_job_mark(t, k);
        json_t *component = json_pack("{s:s, s:o, s:o, s:s}", "name", t->device->profile->components[k].name,
                                      "running", text_or_null(known ? running->version : ""), "wanted",
                                      text_or_null(eb_job_wanted(t, k)), "mark", eb_mark_word(mark));
        if (mark == EB_MARK_CURRENT && eb_job_wanted(t, k)[0] != '\0')
            json_object_set_new(component, "confirmed_by", known_by_document(eb_job_known_by(t, k)));
        for (size_t i = 0; i < t->item_count; i++) {
            if (t->items[i].component == &t->device->profile->components[k])
                add_item(t, component, i);
        }
        json_array_append_new(list, component);
    }
    return list;
}

/* Rules whose findings were accepted. */
static json_t *accepted_document(const struct eb_job_device *t)
{
    json_t *list = json_array();
    uint32_t told = 0;
    for (size_t i = 0; i < t->item_count; i++) {
        const struct eb_verdict *v = eb_job_verdict(t, i);
        for (size_t f = 0; f < v->count; f++) {
            if (v->findings[f].grade != EB_GRADE_ACCEPTED || (told >> v->findings[f].rule & 1) != 0)
                continue;
            told |= 1U << v->findings[f].rule;
            json_array_append_new(list, json_string(eb_rule_code(v->findings[f].rule)));
        }
    }
    return list;
}

static json_t *left_document(const struct eb_job_device *t)
{
    const struct eb_left *l = t->left;
    char sentence[SENTENCE_BYTES];
    left_sentence(t, sentence, sizeof sentence);
    return json_pack("{s:s, s:s, s:s, s:I, s:s}", "after", l->kind, "command", l->command, "began", l->began,
                     "process", (json_int_t)l->process, "says", sentence);
}

static json_t *disagreement_document(const struct eb_disagreement *d)
{
    return json_pack("{s:s, s:s, s:s, s:s, s:s}", "what", eb_profile_item_word(d->item), "by", d->by->title,
                     "text", d->text, "other_by", d->other_by->title, "other_text", d->other_text);
}

/* What was said by a person, and counts. */
static json_t *stated_document(const struct eb_job_device *t)
{
    json_t *stated = json_object();
    const struct eb_run *run = eb_job_last(t);
    for (size_t i = 0; t->statements != NULL && i < eb_profile_items(t->device->profile); i++) {
        if ((run->stated >> i & 1) != 0)
            json_object_set_new(
                stated, eb_site_item_key(t->device->profile, i),
                json_pack("{s:s, s:s}", "text", t->statements[i].text, "by", t->statements[i].by));
    }
    return stated;
}

/* How long it will take, where that is known. */
static void set_about(json_t *object, uint64_t us)
{
    if (us > 0)
        json_object_set_new(object, "about_s", json_integer(whole_seconds(us)));
}

static json_t *device_document(const struct session *s, const struct eb_job_device *t)
{
    char address[EB_PLACE_TEXT_BYTES];
    char sentence[SENTENCE_BYTES];
    const struct eb_run *run = eb_job_last(t);
    const struct eb_identity *id = &run->identity;
    bool known = t->begun ? run->identified : t->reached;
    eb_site_place_text(t->device, address);
    json_t *device = json_pack(
        "{s:s, s:s, s:s, s:s, s:b, s:b, s:o, s:o, s:{s:o, s:o, s:o, s:o, s:o}, s:o, s:o, s:o}", "name",
        t->device->name, "link", t->device->link, "address", address, "profile", t->device->profile->name,
        "reached", known, "answered", t->begun ? run->answered : t->answered, "in_loader",
        known ? json_boolean(run->in_loader) : json_null(), "program",
        known && run->program_known ? json_string(run->program_stopped ? "stopped" : "running") : json_null(),
        "identity", "maker", text_or_null(id->maker), "product", text_or_null(id->product), "order_code",
        text_or_null(id->order_code), "hardware_revision", text_or_null(id->hardware_revision), "serial",
        text_or_null(id->serial), "components", components_document(t), "findings", findings_document(t),
        "accepted", accepted_document(t));
    json_t *disagreements = json_array();
    for (size_t i = 0; i < run->disagreements; i++)
        json_array_append_new(disagreements, disagreement_document(&run->disagreement[i]));
    json_object_set_new(device, "disagreements", disagreements);
    if (t->left != NULL && !t->begun)
        json_object_set_new(device, "left", left_document(t));
    json_t *stated = stated_document(t);
    if (json_object_size(stated) > 0)
        json_object_set(device, "stated", stated);
    json_decref(stated);
    if (t->worked_on)
        json_object_set_new(device, "worked_on",
                            json_pack("{s:s, s:I, s:s}", "command", t->worker.command, "process",
                                      (json_int_t)t->worker.process, "since", t->worker.since));
    if (t->other_mac[0] != '\0')
        json_object_set_new(
            device, "moved",
            json_pack("{s:s, s:s, s:s}", "mac", t->mac, "before", t->other_mac, "seen", t->other_seen));
    if (t->item_count > 0) {
        const struct eb_job_device *other;
        json_t *after = json_array();
        for (size_t i = 0; (other = eb_job_waits_for(s->job, t, i)) != NULL; i++)
            json_array_append_new(after, json_string(other->device->name));
        json_object_set_new(device, "after", after);
        set_about(device, t->estimate.send_us + t->estimate.rest_us);
    }
    json_t *documents = documents_of(t);
    if (documents != NULL)
        json_object_set_new(device, "documents", documents);
    outcome_sentence(s, t, sentence, sizeof sentence);
    if (sentence[0] != '\0')
        json_object_set_new(device, "error", json_string(sentence));
    return device;
}

json_t *document(const struct session *s, const char *command)
{
    char kind[64];
    json_t *devices = json_array();
    snprintf(kind, sizeof kind, "%s/2", command);
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            json_array_append_new(devices, device_document(s, &s->job->devices[i]));
    }
    json_t *whole =
        json_pack("{s:s, s:o, s:o}", "einbau", kind, "site",
                  s->job->site != NULL ? json_string(s->job->site->name) : json_null(), "devices", devices);
    set_about(whole, s->job->estimate_us);
    if (s->job->estimate_us > 0)
        json_object_set_new(whole, "about_most_s", json_integer(whole_seconds(s->job->estimate_most_us)));
    return whole;
}
