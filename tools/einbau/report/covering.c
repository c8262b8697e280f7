/* What a site needs of a shelf, by what is known of its devices without a wire. */
#include "report/covering.h"

#include <einbau/card.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* Devices of one kind have the same candidates. */
struct asked {
    const struct eb_component_profile *component;
    char order_code[EB_NAME_BYTES];
    struct eb_shelf_candidate *candidates;
    size_t count;
};

static const struct asked *ask(struct covering *c, struct eb_job_device *t, size_t component)
{
    const struct eb_component_profile *profile = &t->device->profile->components[component];
    const char *code = t->look.identity.order_code;
    for (size_t i = 0; i < c->asked_count; i++) {
        if (c->asked[i].component == profile && strcmp(c->asked[i].order_code, code) == 0)
            return &c->asked[i];
    }
    struct asked *more = realloc(c->asked, (c->asked_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    c->asked = more;
    struct asked *a = &more[c->asked_count];
    *a = (struct asked){.component = profile};
    eb_text_copy(a->order_code, sizeof a->order_code, code);
    if (c->session->job->shelf != NULL &&
        !session_candidates(c->session, t, component, false, &a->candidates, &a->count))
        return NULL;
    c->asked_count++;
    return a;
}

static void need(struct covering *c, int64_t number)
{
    for (size_t i = 0; i < c->number_count; i++) {
        if (c->numbers[i] == number)
            return;
    }
    int64_t *more = realloc(c->numbers, (c->number_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    c->numbers = more;
    c->numbers[c->number_count++] = number;
}

/* What stands against an image already in the office; what only the device itself can tell is no lack. */
static void objections(const struct eb_verdict *v, bool gap, char *text, size_t cap)
{
    static const enum eb_rule there[] = {EB_RULE_RUNNING_VERSION, EB_RULE_GATEWAY_VERSION, EB_RULE_COMPANION,
                                         EB_RULE_LOADER_VERSION};
    struct eb_text to;
    eb_text_init(&to, text, cap);
    for (size_t i = 0; i < v->count; i++) {
        const struct eb_finding *f = &v->findings[i];
        bool later = f->rule == EB_RULE_LEAST_RUNNING && !gap;
        for (size_t k = 0; k < sizeof there / sizeof there[0]; k++)
            later = later || f->rule == there[k];
        if (f->grade != EB_GRADE_NO || later)
            continue;
        char found[EB_FINDING_TEXT_BYTES + 4];
        char expected[EB_FINDING_TEXT_BYTES + 4];
        eb_text_add(&to, text[0] != '\0' ? "; " : "");
        eb_text_add(&to, eb_rule_code(f->rule));
        eb_text_add(&to, ": found ");
        eb_text_add(&to, shorter(f->found, found));
        eb_text_add(&to, ", expected ");
        eb_text_add(&to, shorter(f->expected, expected));
        if (f->rule == EB_RULE_LEAST_RUNNING)
            eb_text_add(&to, ", and no image on the shelf leads there");
    }
}

static void add_row(struct covering *c, const struct eb_job_device *t, size_t component, const char *state,
                    const char *image, const char *note)
{
    const char *name = t->device->profile->components[component].name;
    bool lacks = strcmp(state, "on the shelf") != 0 && strcmp(state, "file") != 0;
    c->wanted++;
    c->lacking += lacks;
    json_array_append_new(c->rows, json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:b}", "device",
                                             t->device->name, "order_code", t->look.identity.order_code,
                                             "component", name, "wanted", eb_job_wanted(t, component),
                                             "state", state, "image", image, "note", note, "lacks", lacks));
}

static bool cover_component(struct covering *c, struct eb_job_device *t, size_t component, json_t *rows)
{
    (void)rows;
    const struct eb_site_want *want = &t->device->wants[component];
    struct eb_job_choice choice;
    char note[600] = "";
    if (want->image[0] != '\0') {
        bool there = access(want->image, R_OK) == 0;
        add_row(c, t, component, there ? "file" : "missing", file_name(want->image),
                there ? "" : "the site names this file: put it there, or take the key 'image' out");
        return true;
    }
    const struct asked *a = ask(c, t, component);
    if (a == NULL)
        return false;
    eb_job_choice(c->session->job, t, component, a->candidates, a->count, &choice);
    if (choice.steps == 0) {
        add_row(c, t, component, "missing", "", "einbau shelf add FILE");
        return true;
    }
    const struct eb_shelf_candidate *best = &a->candidates[choice.way[choice.steps - 1]];
    const char *image = best->said != NULL ? file_name(best->said->image.origin) : "";
    if (t->look.identity.order_code[0] == '\0') {
        add_row(c, t, component, "cannot tell", "",
                "its order code is not known: enter 'order-code' in the site, or survey it first");
        return true;
    }
    objections(&choice.verdict, choice.gap, note, sizeof note);
    if (note[0] != '\0') {
        add_row(c, t, component, "does not fit", image, note);
        return true;
    }
    if (choice.steps > 1) {
        struct eb_text to;
        eb_text_init(&to, note, sizeof note);
        eb_text_add(&to, "by way of");
        for (size_t i = 0; i + 1 < choice.steps; i++) {
            eb_text_add(&to, i > 0 ? ", " : " ");
            eb_text_add(&to, a->candidates[choice.way[i]].version);
        }
    } else if (t->look.identity.hardware_revision[0] == '\0') {
        snprintf(note, sizeof note, "%s", "its hardware revision is not known yet");
    } else if (c->seen[0] == '\0') {
        snprintf(note, sizeof note, "%s", "what runs is not known yet");
    }
    for (size_t i = 0; i < choice.steps; i++)
        need(c, a->candidates[choice.way[i]].number);
    add_row(c, t, component, "on the shelf", image, note);
    return true;
}

/* Asks `each` for every component for which the site wants a version, of devices that Einbau writes. */
static bool covering_each(struct covering *c, struct session *s,
                          bool (*each)(struct covering *c, struct eb_job_device *t, size_t component,
                                       json_t *rows),
                          json_t *rows)
{
    bool ok = true;
    *c = (struct covering){.session = s, .rows = json_array()};
    if (s->job->shelf != NULL)
        eb_shelf_hold(s->job->shelf);
    for (size_t i = 0; ok && i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        eb_job_recall(s->job, t, c->seen);
        eb_job_surround(s->job, t, false);
        for (size_t k = 0; ok && k < t->device->profile->count; k++) {
            bool by_card = t->device->profile->card != NULL ||
                           (t->device->via != NULL && eb_card_covers(t->device->via, t->device));
            if (eb_job_wanted(t, k)[0] != '\0' && (t->device->profile->sends || by_card))
                ok = each(c, t, k, rows);
        }
    }
    if (s->job->shelf != NULL)
        eb_shelf_release(s->job->shelf);
    return ok;
}

bool cover(struct covering *c, struct session *s)
{
    return covering_each(c, s, cover_component, NULL);
}

void covering_free(struct covering *c)
{
    for (size_t i = 0; i < c->asked_count; i++)
        eb_shelf_candidates_free(c->asked[i].candidates, c->asked[i].count);
    json_decref(c->rows);
    free(c->asked);
    free(c->numbers);
}

/* --- what is newer than what the site wants ------------------------------------------------------- */

static bool add_newer(struct covering *c, struct eb_job_device *t, size_t component, json_t *rows)
{
    const struct eb_component_profile *profile = &t->device->profile->components[component];
    const char *wanted = eb_job_wanted(t, component);
    const struct asked *a = ask(c, t, component);
    if (a == NULL)
        return false;
    for (size_t i = 0; i < a->count; i++) {
        struct eb_shelf_candidate *candidate = &a->candidates[i];
        struct eb_verdict verdict;
        char note[600] = "";
        if (eb_version_compare(&profile->order, candidate->version, wanted) != EB_NEWER)
            continue;
        eb_job_judge(c->session->job, t, component, candidate, &verdict);
        objections(&verdict, false, note, sizeof note);
        if (candidate->said == NULL || note[0] != '\0')
            continue;
        const struct eb_shelf_image *image = &candidate->said->image;
        json_array_append_new(rows, json_pack("{s:s, s:s, s:s, s:s, s:I, s:s}", "device", t->device->name,
                                              "component", profile->name, "wanted", wanted, "newer",
                                              image->version, "number", (json_int_t)image->number, "image",
                                              file_name(image->origin)));
        return true;
    }
    return true;
}

json_t *newer_rows(struct session *s)
{
    struct covering c;
    json_t *rows = json_array();
    bool ok = covering_each(&c, s, add_newer, rows);
    covering_free(&c);
    if (ok)
        return rows;
    json_decref(rows);
    return NULL;
}

static void say_newer(const struct session *s, const struct eb_job_device *t, const void *context,
                      char text[SENTENCE_BYTES])
{
    const json_t *rows = context;
    size_t i;
    const json_t *row;
    struct eb_text to;
    (void)s;
    eb_text_init(&to, text, SENTENCE_BYTES);
    for (i = 0; (row = json_array_get(rows, i)) != NULL; i++) {
        const char *const parts[] = {text[0] != '\0' ? "; " : "",
                                     json_string_value(json_object_get(row, "component")),
                                     " ",
                                     json_string_value(json_object_get(row, "newer")),
                                     " fits, ",
                                     json_string_value(json_object_get(row, "wanted")),
                                     " is wanted (",
                                     json_string_value(json_object_get(row, "image")),
                                     ")"};
        if (strcmp(json_string_value(json_object_get(row, "device")), t->device->name) != 0)
            continue;
        for (size_t k = 0; k < sizeof parts / sizeof parts[0]; k++)
            eb_text_add(&to, parts[k]);
    }
}

void print_newer(struct session *s, const json_t *rows)
{
    bool spaced = true;
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].chosen = true;
    say_folded(s, say_newer, rows, &spaced);
}
