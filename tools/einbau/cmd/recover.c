#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>

/* Puts right what a job left behind that did not end: starts programs again, takes addresses back. */

/* What is to be done to a device, and whether anything is. */
static const char *needs(const struct eb_job_device *t)
{
    if (!t->reached)
        return NULL;
    if (t->left != NULL && t->left->joined && !t->look.in_loader && !eb_job_stopped(t))
        return "its manager is asked to take it back into the network as it was";
    if (t->puts_back)
        return "what an earlier job has saved of it is put back, where the device does not hold it";
    if (t->look.in_loader)
        return target_may_have_program(t) ? "its program is started again, where it still has one" : NULL;
    if (eb_job_stopped(t))
        return t->left != NULL
                   ? "its program is started again"
                   : "its program is stopped, though no job of this user left it so. It is started";
    return t->left != NULL ? "its program is started again, in case it is stopped" : NULL;
}

/* Chosen are those that are named, else those of which something was left. */
static void choose(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (s->options->name_count == 0)
            t->chosen = t->chosen && (t->left != NULL || t->worked_on);
    }
}

static size_t plan(struct session *s)
{
    size_t count = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        bool stopped = eb_job_stopped(t) || (t->left != NULL && !t->puts_back);
        t->recovers = t->chosen && stopped && needs(t) != NULL && target_can_start(t);
        count += t->recovers || t->puts_back;
    }
    return count;
}

static void print_plan_of(const struct session *s)
{
    size_t addresses = addresses_left(s);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        char sentence[SENTENCE_BYTES];
        if (!t->chosen)
            continue;
        if (t->left != NULL) {
            left_sentence(t, sentence, sizeof sentence);
            say("%s: %s", t->device->name, sentence);
        }
        if (t->look.error.status != EB_OK) {
            look_sentence(s, t, sentence, sizeof sentence);
            say("%s: %s", t->device->name, sentence);
        } else if (t->recovers || t->puts_back) {
            say("%s: %s", t->device->name, needs(t));
        } else if (t->look.in_loader) {
            say("%s: it is in its loader, where no program can be started: 'einbau fit %s' writes one",
                t->device->name, eb_job_word(t->device->name));
        } else if (needs(t) != NULL) {
            start_sentence(t, sentence, sizeof sentence);
            say("%s: its program cannot be started from here: %s", t->device->name, sentence);
        } else {
            say("%s: nothing was left behind", t->device->name);
        }
    }
    if (addresses > 0)
        say("%zu address%s of the laptop %s taken back", addresses, addresses == 1 ? "" : "es",
            addresses == 1 ? "is" : "are");
}

static int status_of(const struct session *s, size_t addresses_before, size_t addresses)
{
    bool right = addresses == addresses_before;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        right = right && t->reached &&
                (t->begun ? (t->recovers ? t->fit.outcome == EB_OUTCOME_RECOVERED &&
                                               eb_job_documents_good(t) && !eb_job_is_out(t)
                                         : eb_job_outcome(t) == EB_OUTCOME_PUT_BACK)
                          : t->left == NULL && !eb_job_stopped(t) && !t->look.in_loader);
    }
    return right ? EXIT_AS_WANTED : session_interrupts() > 0 ? EXIT_INTERRUPTED : EXIT_NOT_AS_WANTED;
}

static void say_recovered(const struct session *s, const struct eb_job_device *t, const void *context,
                          char text[SENTENCE_BYTES])
{
    if (t->begun)
        say_outcome(s, t, context, text);
}

static void print_result(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "COMPONENT", "NOW RUNNING", "OUTCOME"};
    struct table table;
    size_t rows = 0;
    table_begin(&table, 4, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        for (size_t k = 0; t->begun && k < t->device->profile->count; k++) {
            char running[RUNNING_BYTES];
            const char *const cells[] = {k == 0 ? t->device->name : "",
                                         t->device->profile->components[k].name, running_text(t, k, running),
                                         k == 0 ? eb_outcome_word(eb_job_outcome(t)) : ""};
            table_add(&table, cells);
            rows++;
        }
    }
    if (rows == 0) {
        table_free(&table);
        return;
    }
    puts("");
    table_print(&table);
    say_folded(s, say_recovered, NULL, NULL);
    print_documents(s, false, NULL);
}

static void print_result_document(const struct session *s, size_t addresses)
{
    json_t *root = document(s, "recover");
    json_t *devices = json_object_get(root, "devices");
    size_t at = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        if (!s->job->devices[i].chosen)
            continue;
        json_t *device = json_array_get(devices, at++);
        if (s->job->devices[i].begun)
            json_object_set_new(device, "outcome",
                                json_string(eb_outcome_word(eb_job_outcome(&s->job->devices[i]))));
    }
    json_object_set_new(root, "addresses_taken_back", json_integer((json_int_t)addresses));
    print_document(root);
}

static int run(const struct options *options)
{
    struct session s;
    size_t addresses = 0;
    if (!session_open(&s, options))
        return session_close(&s, s.status);
    size_t left = addresses_left(&s);
    size_t devices = 0;
    choose(&s);
    for (size_t i = 0; i < s.job->count; i++)
        devices += s.job->devices[i].chosen;
    if (devices + left == 0) {
        if (options->json)
            print_result_document(&s, 0);
        else
            puts("No job of this user left anything behind.");
        return session_close(&s, EXIT_AS_WANTED);
    }
    if (devices > 0 && (!job_lock_addresses(&s) || !session_look(&s)))
        return session_close(&s, s.status);
    eb_job_plan_due(s.job);
    size_t count = plan(&s);
    if (!options->json)
        print_plan_of(&s);
    if (count > 0 && (!job_lock_devices(&s) || !session_may(&s, "Do this?", "nothing was done") ||
                      !job_begin(&s, "nothing was done") || !session_carry_out(&s, true)))
        return session_close(&s, s.status);
    addresses = addresses_recover(&s, false);
    if (options->json)
        print_result_document(&s, addresses);
    else
        print_result(&s);
    return session_close(&s, status_of(&s, left, addresses));
}

static const struct option_row *const recover_options[] = {&option_without, &option_yes, NULL};

const struct command command_recover = {
    .name = "recover",
    .arguments = "[DEVICE...]",
    .summary = "cleans up after a job that was killed",
    .help = "After a job that was killed, or a laptop that lost its power: starts the programs again that "
            "the job had stopped, puts documents back that it had saved, and takes back the addresses that "
            "it had given the laptop. Without names: "
            "all devices of the site of which something was left. A device that is named is also started "
            "where its program is stopped for another reason.\v"
            "Examples:\n  einbau recover --site larchfell.site.yaml\n"
            "  einbau recover --site larchfell.site.yaml drive-plc --yes\n\n"
            "Exit status 0 only where nothing is left behind any more.",
    .takes = NAMES_DEVICES,
    .options = recover_options,
    .run = run,
};
