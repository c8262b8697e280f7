/* What a site needs of the shelf: told (cover), or taken along (copy). */
#include "report/report.h"

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

struct covering {
    struct session *session;
    struct asked *asked;
    size_t asked_count;
    struct table table;
    json_t *rows;
    int64_t *numbers; /* of the images that are needed, each once */
    size_t number_count;
    size_t wanted, lacking;
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
    const char *const cells[] = {
        t->device->name, t->look.identity.order_code, name, eb_job_wanted(t, component), state, image, note};
    c->wanted++;
    c->lacking += lacks;
    table_add(&c->table, cells);
    json_array_append_new(c->rows, json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:b}", "device", t->device->name,
                                             "component", name, "wanted", eb_job_wanted(t, component),
                                             "state", state, "image", image, "note", note, "lacks", lacks));
}

static bool cover_component(struct covering *c, struct eb_job_device *t, size_t component, const char *seen)
{
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
    } else if (seen[0] == '\0') {
        snprintf(note, sizeof note, "%s", "what runs is not known yet");
    }
    for (size_t i = 0; i < choice.steps; i++)
        need(c, a->candidates[choice.way[i]].number);
    add_row(c, t, component, "on the shelf", image, note);
    return true;
}

/* Works out what all devices need. */
static bool cover(struct covering *c, struct session *s)
{
    static const char *const heads[] = {"DEVICE", "ORDER CODE", "COMPONENT", "WANTED",
                                        "SHELF",  "IMAGE",      "NOTE"};
    bool ok = true;
    *c = (struct covering){.session = s, .rows = json_array()};
    table_begin(&c->table, 7, heads);
    if (s->job->shelf != NULL)
        eb_shelf_hold(s->job->shelf);
    for (size_t i = 0; ok && i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        char seen[EB_SEEN_BYTES];
        eb_job_recall(s->job, t, seen);
        eb_job_surround(s->job, t, false);
        for (size_t k = 0; ok && k < t->device->profile->count; k++) {
            if (eb_job_wanted(t, k)[0] != '\0' && t->device->profile->sends)
                ok = cover_component(c, t, k, seen);
        }
    }
    if (s->job->shelf != NULL)
        eb_shelf_release(s->job->shelf);
    return ok;
}

static void covering_free(struct covering *c)
{
    for (size_t i = 0; i < c->asked_count; i++)
        eb_shelf_candidates_free(c->asked[i].candidates, c->asked[i].count);
    table_free(&c->table);
    json_decref(c->rows);
    free(c->asked);
    free(c->numbers);
}

static bool open_for_site(struct session *s, const struct options *options, struct options *own)
{
    *own = *options;
    if (options->name_count > 0) {
        own->site = options->names[0];
        own->name_count = 0;
    }
    if (own->site == NULL) {
        complain("found no site, expected one: einbau %s SITE, --site FILE, or the variable EINBAU_SITE",
                 "shelf cover");
        memset(s, 0, sizeof *s);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return session_open_office(s, own, SHELF_IF_THERE);
}

static int run_cover(const struct options *options)
{
    struct session s;
    struct options own;
    struct covering c;
    if (!open_for_site(&s, options, &own))
        return session_close(&s, s.status);
    bool ok = cover(&c, &s);
    if (options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:O, s:I}", "einbau", "shelf-cover/1", "shelf",
                                 s.shelf_folder, "site", s.job->site->name, "wanted", c.rows, "lacking",
                                 (json_int_t)c.lacking));
    } else if (c.wanted == 0) {
        printf("%s wants nothing: no device has the key 'wants'.\n", s.job->site->name);
    } else {
        table_print(&c.table);
        if (c.lacking == 0)
            printf("\n%s: the shelf has all %zu that are wanted, in %zu image%s\n", s.job->site->name,
                   c.wanted, c.number_count, c.number_count == 1 ? "" : "s");
        else
            printf("\n%s: %zu of %zu lacking; the shelf is %s\n", s.job->site->name, c.lacking, c.wanted,
                   s.shelf_folder);
    }
    int status = !ok ? s.status : c.lacking > 0 ? EXIT_NOT_AS_WANTED : EXIT_AS_WANTED;
    covering_free(&c);
    return session_close(&s, status);
}

static int run_copy(const struct options *options)
{
    struct session s;
    struct options own;
    struct covering c;
    size_t copied = 0;
    if (!open_for_site(&s, options, &own))
        return session_close(&s, s.status);
    bool ok = cover(&c, &s);
    int status = ok ? c.lacking > 0 ? EXIT_NOT_AS_WANTED : EXIT_AS_WANTED : s.status;
    if (ok && s.job->shelf != NULL &&
        !eb_shelf_copy(s.job->shelf, options->to, c.numbers, c.number_count, &copied, &s.job->problem)) {
        complain("%s. Nothing was copied", s.job->problem.text);
        status = EXIT_WRONG_CALL;
    } else if (options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:s, s:I, s:I, s:I}", "einbau", "shelf-copy/1", "shelf",
                                 s.shelf_folder, "site", s.job->site->name, "to", options->to, "images",
                                 (json_int_t)c.number_count, "copied", (json_int_t)copied, "lacking",
                                 (json_int_t)c.lacking));
    } else {
        printf("%s: %zu image%s needed, %zu copied to %s, %zu there already; %zu missing%s\n",
               s.job->site->name, c.number_count, c.number_count == 1 ? "" : "s", copied, options->to,
               c.number_count - copied, c.lacking, c.lacking > 0 ? ": 'einbau shelf cover' names them" : "");
    }
    covering_free(&c);
    return session_close(&s, status);
}

const struct command command_shelf_cover = {
    .name = "shelf cover",
    .arguments = "[SITE]",
    .summary = "what a site wants, and whether the shelf has it",
    .help = "Says in the office, without any wire, for each device of a site whether the shelf has the "
            "images for what it should run, those on the way there included, by what the site says of the "
            "devices and what they reported when they were last seen.\v"
            "Example:\n  einbau shelf cover larchfell.site.yaml\n\n"
            "Exit status 1 where something is missing.",
    .takes = SITE_OPTIONAL,
    .run = run_cover,
};

static const struct option_row *const copy_options[] = {&option_to, NULL};

const struct command command_shelf_copy = {
    .name = "shelf copy",
    .arguments = "[SITE]",
    .summary = "takes what a site needs to another shelf",
    .help = "Copies the images that a site needs, those on the way there included, to another shelf, which "
            "is made where it is missing: a memory stick, or another laptop's. Each is checked against its "
            "digest on the way.\v"
            "Example:\n  einbau shelf copy larchfell.site.yaml --to stick/shelf\n\n"
            "Exit status 1 where something is missing.",
    .takes = SITE_OPTIONAL,
    .options = copy_options,
    .run = run_copy,
};
