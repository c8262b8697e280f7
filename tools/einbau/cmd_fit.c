#include "output.h"
#include "progress.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* --- carrying out -------------------------------------------------------------------------------- */

static enum eb_outcome outcome_of(const struct target *t)
{
    if (t->begun)
        return t->fit.outcome;
    if (!target_wants(t))
        return EB_OUTCOME_NONE;
    if (t->refused)
        return EB_OUTCOME_REFUSED;
    if (!t->reached)
        return EB_OUTCOME_FAILED;
    return t->item_count == 0 && target_as_wanted(t) ? EB_OUTCOME_ALREADY_RIGHT : EB_OUTCOME_NONE;
}

/* Those that wait for nobody, or for those before: at the same time. */
static void carry_out_wave(struct session *s, size_t wave, struct eb_crew_place *places,
                           struct progress *progress)
{
    struct eb_crew crew;
    eb_crew_init(&crew, s->port, places, s->count);
    for (size_t i = 0; i < s->count; i++) {
        struct target *t = &s->targets[i];
        if (t->item_count == 0 || t->device->wave != wave)
            continue;
        /* By what runs now in those that it waited for: the run judges once more. */
        session_surround(s, t, false);
        struct eb_run_config config = t->fit.config;
        progress_attach(progress, &config);
        t->begun = true;
        if (eb_run_init(&t->fit, &config) != EB_OK)
            continue;
        if (session_interrupts() > 0 || eb_crew_add(&crew, &t->fit) != EB_OK)
            eb_run_abandon(&t->fit);
    }
    session_work(s, &crew, progress_show, progress);
}

static bool carry_out(struct session *s)
{
    struct eb_crew_place *places = calloc(s->count + 1, sizeof *places);
    struct progress progress;
    size_t waves = 0;
    if (places == NULL) {
        complain("out of memory; nothing was written");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    progress_open(&progress, s);
    for (size_t i = 0; i < s->count; i++) {
        if (s->targets[i].item_count > 0 && s->targets[i].device->wave >= waves)
            waves = s->targets[i].device->wave + 1;
    }
    for (size_t w = 0; w < waves; w++)
        carry_out_wave(s, w, places, &progress);
    free(places);
    return true;
}

/* --- the end ------------------------------------------------------------------------------------- */

static int status_of(const struct session *s)
{
    size_t chosen = 0;
    size_t answered = 0;
    int status = EXIT_AS_WANTED;
    for (size_t i = 0; i < s->count; i++) {
        const struct target *t = &s->targets[i];
        if (!t->chosen)
            continue;
        chosen++;
        answered += t->answered;
        enum eb_outcome outcome = outcome_of(t);
        if (outcome == EB_OUTCOME_INTERRUPTED)
            status = EXIT_INTERRUPTED;
        else if (target_wants(t) && outcome != EB_OUTCOME_CONFIRMED && outcome != EB_OUTCOME_ALREADY_RIGHT &&
                 status != EXIT_INTERRUPTED)
            status = EXIT_NOT_AS_WANTED;
    }
    return chosen > 0 && answered == 0 ? EXIT_NOT_REACHED : status;
}

/* What can be said of a device that is not as it should be: what happened, how it was left, what to do. */
static void sentence_of(const struct target *t, char *text, size_t cap)
{
    char reason[400];
    const struct eb_run *run = t->begun ? &t->fit : &t->look;
    text[0] = '\0';
    if (run->error.status == EB_OK)
        return;
    error_sentence(run, reason, sizeof reason);
    const char *left = !t->begun          ? ""
                       : !run->identified ? ". It does not answer now: look at it, then survey"
                       : run->in_loader   ? ". It waits in its loader: fit it again"
                       : run->outcome == EB_OUTCOME_REFUSED     ? ". Nothing was written"
                       : run->outcome == EB_OUTCOME_INTERRUPTED ? ""
                                                                : ". It runs the version below: fit it again";
    snprintf(text, cap, "%s%s", reason, left);
}

static const char *now_running(const struct target *t, const struct eb_run_item *item)
{
    const struct eb_run *run = t->begun ? &t->fit : &t->look;
    size_t index = (size_t)(item->component - t->device->profile->components);
    return !run->identified ? "?" : run->in_loader ? "(in loader)" : run->running[index].version;
}

static void print_result(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "COMPONENT", "FROM", "TO", "NOW RUNNING", "OUTCOME"};
    size_t counts[EB_OUTCOMES] = {0};
    struct table table;
    bool spaced = true;
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < s->count; i++) {
        const struct target *t = &s->targets[i];
        if (!t->chosen || !target_wants(t))
            continue;
        enum eb_outcome outcome = outcome_of(t);
        counts[outcome]++;
        if (t->item_count == 0) {
            const char *const cells[] = {
                t->device->name,
                "",
                "",
                "",
                "",
                outcome == EB_OUTCOME_NONE ? "not in the plan" : eb_outcome_word(outcome)};
            table_add(&table, cells);
        }
        for (size_t k = 0; k < t->item_count; k++) {
            const struct eb_run_item *item = &t->items[k];
            enum eb_outcome here = item->outcome != EB_OUTCOME_NONE ? item->outcome : outcome;
            const char *const cells[] = {k == 0 ? t->device->name : "",
                                         item->component->name,
                                         item->from[0] != '\0' ? item->from
                                         : t->look.in_loader   ? "(in loader)"
                                                               : "?",
                                         item->image->version,
                                         now_running(t, item),
                                         eb_outcome_word(here)};
            table_add(&table, cells);
        }
    }
    for (size_t i = 0; i < s->count; i++) {
        char sentence[512];
        sentence_of(&s->targets[i], sentence, sizeof sentence);
        if (s->targets[i].chosen && sentence[0] != '\0')
            printf("%s: %s\n", s->targets[i].device->name, sentence);
        if (outcome_of(&s->targets[i]) ==
            EB_OUTCOME_REFUSED) /* it is another than it was when it was planned */
            print_findings(&s->targets[i], &spaced);
    }
    puts("");
    table_print(&table);
    printf("\n%s:", s->site->name);
    const char *separator = " ";
    for (int o = EB_OUTCOME_NONE; o < EB_OUTCOMES; o++) {
        if (counts[o] > 0) {
            printf("%s%zu %s", separator, counts[o],
                   o == EB_OUTCOME_NONE ? "not in the plan" : eb_outcome_word((enum eb_outcome)o));
            separator = ", ";
        }
    }
    puts("");
}

static void print_result_document(const struct session *s)
{
    json_t *root = document(s, "fit");
    json_t *devices = json_object_get(root, "devices");
    size_t at = 0;
    for (size_t i = 0; i < s->count; i++) {
        const struct target *t = &s->targets[i];
        char sentence[512];
        if (!t->chosen)
            continue;
        json_t *device = json_array_get(devices, at++);
        if (outcome_of(t) != EB_OUTCOME_NONE) /* nothing was done to those that fit beside a refused one */
            json_object_set_new(device, "outcome", json_string(eb_outcome_word(outcome_of(t))));
        sentence_of(t, sentence, sizeof sentence);
        if (sentence[0] != '\0')
            json_object_set_new(device, "error", json_string(sentence));
        /* What ran before is `from`; `running` and `mark` are as read back at the end. */
        for (size_t k = 0; k < t->item_count; k++) {
            size_t index = (size_t)(t->items[k].component - t->device->profile->components);
            json_t *component = json_array_get(json_object_get(device, "components"), index);
            const char *wanted = target_wanted(t, index);
            const char *now = t->fit.identified && !t->fit.in_loader ? t->fit.running[index].version : "";
            json_object_set_new(component, "from",
                                t->items[k].from[0] != '\0' ? json_string(t->items[k].from) : json_null());
            if (!t->begun)
                continue;
            json_object_set_new(component, "running", now[0] != '\0' ? json_string(now) : json_null());
            enum eb_mark mark =
                t->fit.identified ? eb_mark_of(&t->items[k].component->order, now, wanted) : EB_MARK_SILENT;
            json_object_set_new(component, "mark", json_string(eb_mark_word(mark)));
        }
    }
    print_document(root);
}

static int run(const struct options *options)
{
    struct session s;
    size_t devices;
    size_t refused;
    if (!session_open(&s, options) || !session_look(&s) || !session_plan(&s))
        return session_close(&s, s.status);
    count_plan(&s, &devices, &refused);
    if (!options->json)
        print_plan(&s);
    if (refused > 0 || devices == 0) {
        int status = refused > 0 ? EXIT_NOT_AS_WANTED : status_of(&s);
        if (options->json)
            print_result_document(&s);
        else if (refused > 0)
            puts("Nothing was written.");
        return session_close(&s, status);
    }
    if (s.sim != NULL && options->state == NULL && !options->json)
        fputs("\nThis simulated world forgets what is written to it; with --state DIR it remembers.\n",
              stderr);
    if (!session_may(&s, devices == 1 ? "Write to this device?" : "Write to these devices?",
                     "nothing was written") ||
        !carry_out(&s))
        return session_close(&s, s.status);
    if (options->json)
        print_result_document(&s);
    else
        print_result(&s);
    return session_close(&s, status_of(&s));
}

const struct command command_fit = {
    .name = "fit",
    .arguments = "[DEVICE...]",
    .summary = "carries the plan out and reads back what runs",
    .help = "Writes to the devices named, or to everything that is behind: shows the plan, asks, writes to "
            "all at the same "
            "time, waits for each to come back under its serial number, and reads the running version back. "
            "Where one "
            "device of the plan is refused, nothing is written to any. Ctrl-C ends the job cleanly; a second "
            "one at once.\v"
            "Examples:\n  einbau fit --site larchfell.site.yaml --without tower-io-3\n"
            "  einbau fit --site larchfell.site.yaml drive-plc --again --yes\n\n"
            "Exit status 0 only where every device is confirmed or was already right.",
    .takes = TAKES_WITHOUT | TAKES_IMAGE | TAKES_JOB | TAKES_ADDRESS,
    .run = run,
};
