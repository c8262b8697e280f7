#include "report/report.h"

#include <einbau/card.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <wchar.h>

static bool in_plan(const struct eb_job_device *t)
{
    return t->chosen && (t->item_count > 0 || t->refused);
}

size_t count_plan(const struct session *s, size_t *devices, size_t *refused)
{
    size_t images = 0;
    *devices = 0;
    *refused = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        if (!in_plan(&s->job->devices[i]))
            continue;
        images += s->job->devices[i].item_count;
        (*devices)++;
        *refused += s->job->devices[i].refused;
    }
    return images;
}

/* Prints a line of a paragraph, with an empty line before its first. */
__attribute__((format(printf, 2, 3))) static void paragraph(bool *spaced, const char *format, ...)
{
    char text[1200];
    va_list arguments;
    if (!*spaced)
        puts("");
    *spaced = true;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    say("%s", text);
}

void print_verdict(const struct eb_verdict *v, const char *indent)
{
    char found[EB_FINDING_TEXT_BYTES + 4];
    char expected[EB_FINDING_TEXT_BYTES + 4];
    char paint[PAINTED_BYTES];
    for (size_t f = 0; f < v->count; f++) {
        const struct eb_finding *finding = &v->findings[f];
        printf("%s%s %-18s ", indent, painted(eb_grade_word(finding->grade), 11, paint),
               eb_rule_code(finding->rule));
        if (strcmp(finding->expected, "any") == 0)
            puts("not required");
        else
            printf("found %s, expected %s%s%s%s\n", shorter(finding->found, found),
                   shorter(finding->expected, expected), finding->together != NULL ? ": fit " : "",
                   finding->together != NULL ? finding->together : "",
                   finding->together != NULL ? " together with it" : "");
    }
}

void print_findings(const struct eb_job_device *t, bool *spaced)
{
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        for (size_t f = 0; f < v->count; f++) {
            const struct eb_finding *finding = &v->findings[f];
            if (finding->grade == EB_GRADE_YES || finding->rule == EB_RULE_BATCH)
                continue;
            const char *code = eb_rule_code(finding->rule);
            char advice[192] = "cannot be accepted";
            char found[EB_FINDING_TEXT_BYTES + 4];
            char expected[EB_FINDING_TEXT_BYTES + 4];
            if (finding->grade == EB_GRADE_ACCEPTED)
                snprintf(advice, sizeof advice, "accepted");
            else if (finding->together != NULL)
                snprintf(advice, sizeof advice, "fit %s together with it: einbau fit %s %s",
                         finding->together, eb_job_word(finding->together), eb_job_word(t->device->name));
            else if (finding->acceptable)
                snprintf(advice, sizeof advice, "refused unless accepted: --accept %s:%s",
                         eb_job_word(t->device->name), code);
            paragraph(spaced, "%s %s %s: %s: found %s, expected %s (%s)", t->device->name,
                      t->items[k].component->name, t->items[k].image->version, code,
                      shorter(finding->found, found), shorter(finding->expected, expected), advice);
        }
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (t->components[i].lacks)
            paragraph(spaced,
                      "%s %s: image: found none of %s for %s on the shelf, expected one: einbau shelf add "
                      "FILE; 'einbau shelf list --for %s --all' shows what is there",
                      t->device->name, t->device->profile->components[i].name, eb_job_wanted(t, i),
                      t->look.identity.order_code[0] != '\0' ? t->look.identity.order_code : "this device",
                      eb_job_word(t->device->name));
    }
}

const char *file_name(const char *path)
{
    const char *slash = strrchr(path, '/');
    return slash != NULL ? slash + 1 : path;
}

uint32_t whole_seconds(uint64_t us)
{
    return (uint32_t)((us + 999999) / 1000000);
}

static uint32_t seconds_of(const struct eb_job_device *t)
{
    return whole_seconds(t->estimate.send_us + t->estimate.rest_us);
}

static size_t last_wave(const struct session *s)
{
    size_t last = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        if (in_plan(&s->job->devices[i]) && s->job->devices[i].device->wave > last)
            last = s->job->devices[i].device->wave;
    }
    return last;
}

/* The devices of the plan that this one waits for, one after the other; NULL behind the last. */
/* "drive-plc, lead-node" */
static void after_text(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_job_device *other;
    text[0] = '\0';
    for (size_t i = 0; (other = eb_job_waits_for(s->job, t, i)) != NULL; i++)
        snprintf(text + strlen(text), cap - strlen(text), "%s%s", i > 0 ? ", " : "", other->device->name);
}

static bool waits(const struct session *s)
{
    bool any = false;
    for (size_t i = 0; i < s->job->count; i++)
        any =
            any || (in_plan(&s->job->devices[i]) && eb_job_waits_for(s->job, &s->job->devices[i], 0) != NULL);
    return any;
}

static void add_plan_rows(struct table *table, const struct session *s, const struct eb_job_device *t)
{
    char time[32] = "";
    char after[160];
    bool first = true;
    char running[RUNNING_BYTES];
    if (seconds_of(t) > 0)
        seconds_text(seconds_of(t), time, sizeof time);
    after_text(s, t, after, sizeof after);
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_run_item *item = &t->items[k];
        char size[24];
        bytes_text(item->source.size_bytes, size, sizeof size);
        bool from_loader = t->look.in_loader && (k == 0 || t->items[k - 1].component != item->component);
        const char *const cells[] = {first ? t->device->name : "",
                                     item->component->name,
                                     from_loader             ? "(in loader)"
                                     : item->from[0] != '\0' ? item->from
                                                             : "?",
                                     item->image->version,
                                     file_name(t->planned[k].image->path),
                                     size,
                                     first ? after : "",
                                     first ? time : "",
                                     answer_text(eb_job_verdict(t, k)->answer)};
        table_add_below(table, cells, first ? 0 : 1);
        first = false;
    }
    for (size_t i = 0; i < t->device->profile->count; i++) {
        const char *const cells[] = {first ? t->device->name : "",
                                     t->device->profile->components[i].name,
                                     running_text(t, i, running),
                                     eb_job_wanted(t, i),
                                     "(none on the shelf)",
                                     "",
                                     first ? after : "",
                                     "",
                                     "lacks"};
        if (t->components[i].lacks)
            table_add_below(table, cells, first ? 0 : 1);
        first = first && !t->components[i].lacks;
    }
}

const char *const plan_heads[] = {"DEVICE", "COMPONENT", "FROM",  "TO",      "IMAGE",
                                  "SIZE",   "AFTER",     "ABOUT", "VERDICT", NULL};

/* Each device below those that it waits for. */
static void print_plan_table(const struct session *s)
{
    struct table table;
    table_begin(&table, 9, plan_heads);
    for (size_t w = 0; w <= last_wave(s); w++) {
        for (size_t i = 0; i < s->job->count; i++) {
            if (in_plan(&s->job->devices[i]) && s->job->devices[i].device->wave == w)
                add_plan_rows(&table, s, &s->job->devices[i]);
        }
    }
    print_folded(s, &table, 0);
    if (waits(s) && !s->job->for_card)
        say("\nA device with a name under AFTER starts when that one is confirmed; %sall others start at "
            "once.",
            plan_takes_turns(s) ? "members of a managed network start one after the other; " : "");
}

static void say_loss(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    const char *loss = t->device->profile->loses[*(const size_t *)context];
    (void)s;
    if (t->item_count > 0 && !t->refused && loss[0] != '\0')
        snprintf(text, SENTENCE_BYTES, "will lose %s", loss);
}

/* How it is written where the first way fails. */
static void say_other_ways(const struct session *s, const struct eb_job_device *t, const void *context,
                           char text[SENTENCE_BYTES])
{
    const struct eb_profile *p = t->device->profile;
    size_t at = 0;
    (void)s;
    (void)context;
    if (t->item_count == 0 || t->refused || p->otherwise_count == 0)
        return;
    at = (size_t)snprintf(text, SENTENCE_BYTES, "is written by %s", p->sends_by->title);
    for (size_t i = 0; i < p->otherwise_count; i++)
        at += (size_t)snprintf(text + at, SENTENCE_BYTES - at, "; where that fails, by %s",
                               p->otherwise[i].by->title);
}

static void say_hand(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    const struct eb_profile *p = t->device->profile;
    size_t index = *(const size_t *)context % EB_STEPS_MAX;
    bool after = *(const size_t *)context >= EB_STEPS_MAX;
    const struct eb_step *step = after ? &p->activate.list[index] : &p->prepare.list[index];
    (void)s;
    bool there = !after && t->look.in_loader && step->by == NULL && step->kind == EB_HAND_SEEN;
    if (t->item_count > 0 && !t->refused && step->hand != NULL && !there)
        snprintf(
            text, SENTENCE_BYTES, "manual step %s sending%s: %s (%s)", after ? "after" : "before",
            step->choice > 0 ? ", only where what is before it does not restart the device" : "", step->hand,
            step->by == NULL && step->kind == EB_HAND_ASKED ? "you say when it is done" : "it is checked");
}

/* A card saves nothing of what the update erases. */
static void say_unsaved(const struct session *s, const struct eb_job_device *t, const void *context,
                        char text[SENTENCE_BYTES])
{
    const struct eb_profile *p = t->device->profile;
    size_t k = *(const size_t *)context;
    (void)s;
    if (t->item_count > 0 && !t->refused && k < p->backup_count && p->backups[k].erased)
        snprintf(
            text, SENTENCE_BYTES,
            "the update erases its %s, and a card saves nothing: einbau backup %s first, einbau restore %s "
            "when it is done",
            p->backups[k].name, eb_job_word(t->device->name), eb_job_word(t->device->name));
}

/* What is lost, and which steps a person must do. */
static void print_consequences(const struct session *s)
{
    bool spaced = false;
    for (size_t k = 0; k < EB_LOSSES_MAX; k++)
        say_folded(s, say_loss, &k, &spaced);
    if (s->job->for_card) { /* nothing is done by this call that could be undone by it */
        for (size_t k = 0; k < EB_BACKUPS_MAX; k++)
            say_folded(s, say_unsaved, &k, &spaced);
        return;
    }
    print_documents(s, true, &spaced);
    say_folded(s, say_member, NULL, &spaced);
    say_folded(s, say_other_ways, NULL, &spaced);
    for (size_t k = 0; k < 2 * EB_STEPS_MAX; k++)
        say_folded(s, say_hand, &k, &spaced);
}

static const char *why_left_out(const struct eb_site_device *d)
{
    return d->profile->sends          ? " unless the device is named"
           : d->profile->card != NULL ? ": it updates itself from a memory card, see 'einbau card'"
           : d->via != NULL && eb_card_covers(d->via, d)
               ? ": the memory card of its gateway brings it, see 'einbau card'"
               : ": its profile has no way to send an image";
}

static void print_left_out(const struct eb_job_device *t, bool *spaced)
{
    for (size_t k = 0; t->reached && t->item_count == 0 && k < t->device->profile->count; k++) {
        enum eb_mark mark = eb_job_mark(t, k);
        if (mark != EB_MARK_CURRENT && eb_job_has(t, k) && !t->components[k].lacks)
            paragraph(spaced, "%s %s: %s; not in the plan%s", t->device->name,
                      t->device->profile->components[k].name, eb_mark_word(mark), why_left_out(t->device));
    }
}

static void print_refused(const struct session *s)
{
    char text[1600] = "Refused:";
    size_t at = strlen(text);
    puts("");
    for (size_t i = 0; i < s->job->count && at < sizeof text - 200; i++) {
        if (s->job->devices[i].refused)
            at += (size_t)snprintf(text + at, sizeof text - at, " %s", s->job->devices[i].device->name);
    }
    at += (size_t)snprintf(
        text + at, sizeof text - at,
        ". Nothing is written to any device while a refused one is in the plan. Leave it out:");
    for (size_t i = 0; i < s->job->count && at < sizeof text - 80; i++) {
        if (s->job->devices[i].refused)
            at += (size_t)snprintf(text + at, sizeof text - at, " --without %s",
                                   eb_job_word(s->job->devices[i].device->name));
    }
    say("%s", text);
}

void plan_question(const struct session *s, char question[PLAN_QUESTION_BYTES])
{
    size_t devices;
    size_t refused;
    size_t images = count_plan(s, &devices, &refused);
    uint32_t seconds = whole_seconds(s->job->estimate_us);
    char time[72] = "";
    if (seconds > 0)
        between_text(seconds, whole_seconds(s->job->estimate_most_us), time, sizeof time);
    snprintf(question, PLAN_QUESTION_BYTES, "Write %zu image%s to %zu device%s%s%s?", images,
             images == 1 ? "" : "s", devices, devices == 1 ? "" : "s", seconds > 0 ? ", about " : "", time);
}

static bool any_reached(const struct session *s)
{
    bool any = false;
    for (size_t i = 0; i < s->job->count; i++)
        any = any || (s->job->devices[i].chosen && s->job->devices[i].reached);
    return any;
}

bool is_left_outdated(const struct eb_job_device *t)
{
    return t->chosen && t->reached && t->item_count == 0 && !t->device->profile->sends && eb_job_wants(t) &&
           !eb_job_as_wanted(t);
}

static bool leaves_some(const struct session *s)
{
    bool some = false;
    for (size_t i = 0; i < s->job->count; i++)
        some = some || is_left_outdated(&s->job->devices[i]);
    return some;
}

void print_plan(const struct session *s)
{
    size_t devices;
    size_t refused;
    size_t images = count_plan(s, &devices, &refused);
    char time[72] = "";
    if (devices == 0) {
        puts(leaves_some(s)   ? "Nothing to write over a wire: what is not as wanted is named below."
             : any_reached(s) ? "Nothing to write: every device that was reached is up to date."
                              : "Nothing to write: no device was reached.");
    } else {
        uint32_t seconds = whole_seconds(s->job->estimate_us);
        if (seconds > 0)
            between_text(seconds, whole_seconds(s->job->estimate_most_us), time, sizeof time);
        say("Plan for %s: %zu image%s, %zu device%s%s%s%s", s->job->site->name, images,
            images == 1 ? "" : "s", devices, devices == 1 ? "" : "s",
            devices == 1                      ? ""
            : waits(s) || plan_takes_turns(s) ? ", in their order"
                                              : ", all at the same time",
            seconds > 0 ? ", about " : "", time);
        puts("");
        print_plan_table(s);
    }
    print_consequences(s);
    bool spaced = false;
    say_folded(s, say_left, NULL, &spaced);
    say_folded(s, say_moved, NULL, &spaced);
    say_folded(s, say_look, NULL, &spaced);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && !s->options->explain)
            print_findings(t, &spaced);
        if (t->chosen)
            print_left_out(t, &spaced);
    }
    for (size_t i = 0; i < s->job->count && s->options->explain; i++) {
        for (size_t k = 0; k < s->job->devices[i].item_count; k++) {
            const struct eb_run_item *item = &s->job->devices[i].items[k];
            printf("\n%s %s %s:\n", s->job->devices[i].device->name, item->component->name,
                   item->image->version);
            print_verdict(eb_job_verdict(&s->job->devices[i], k), "  ");
        }
    }
    if (refused > 0)
        print_refused(s);
}

/* --- documents ----------------------------------------------------------------------------------- */
