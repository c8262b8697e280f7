#include "report/report.h"
#include "session/resume.h"
#include "ui/notify.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* --- the end ------------------------------------------------------------------------------------- */

/* Whether it is as the job was to make it; one of which nothing is wanted is. */
static bool is_good(const struct eb_job_device *t)
{
    enum eb_outcome outcome = eb_job_outcome(t);
    bool good = outcome == EB_OUTCOME_CONFIRMED || outcome == EB_OUTCOME_UP_TO_DATE ||
                ((outcome == EB_OUTCOME_RECOVERED || outcome == EB_OUTCOME_PUT_BACK) && eb_job_as_wanted(t));
    return (!eb_job_wants(t) || (good && statement_counts(t))) && eb_job_documents_good(t) &&
           !eb_job_is_out(t);
}

static int status_of(const struct session *s)
{
    size_t chosen = 0;
    size_t answered = 0;
    size_t wanting = 0;
    int status = EXIT_AS_WANTED;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        chosen++;
        answered += t->answered;
        wanting += eb_job_wants(t);
        if (!is_good(t))
            status = EXIT_NOT_AS_WANTED;
    }
    if (chosen > 0 && answered == 0)
        return EXIT_NOT_REACHED;
    if (wanting == 0)
        return EXIT_NOT_AS_WANTED;
    return status == EXIT_NOT_AS_WANTED && session_interrupts() > 0 ? EXIT_INTERRUPTED : status;
}

/* Whether only texts were compared: of an item, or of all that is wanted where nothing had to be written. */
static bool by_version_only(const struct eb_job_device *t, const struct eb_run_item *item)
{
    bool only = false;
    if (item != NULL)
        return item->confirmed_by == EB_BY_VERSION;
    for (size_t i = 0; i < t->device->profile->count; i++)
        only = only || (eb_job_wanted(t, i)[0] != '\0' && eb_job_known_by(t, i) == EB_BY_VERSION);
    return only;
}

/* Whether it rests on what a person said. */
static bool by_statement(const struct eb_job_device *t, const struct eb_run_item *item)
{
    return item != NULL ? (item->confirmed_by & EB_BY_STATEMENT) != 0 || eb_job_rests_on_statement(t)
                        : eb_job_rests_on_statement(t);
}

static void outcome_cell(const struct eb_job_device *t, const struct eb_run_item *item, char *text,
                         size_t cap)
{
    enum eb_outcome outcome = eb_job_outcome(t);
    enum eb_outcome here = item != NULL && item->outcome != EB_OUTCOME_NONE ? item->outcome : outcome;
    bool good = here == EB_OUTCOME_CONFIRMED || here == EB_OUTCOME_UP_TO_DATE;
    snprintf(text, cap, "%s%s",
             here != EB_OUTCOME_NONE ? eb_outcome_word(here)
             : t->item_count > 0     ? eb_outcome_word(EB_OUTCOME_NOT_STARTED)
                                     : "not in the plan",
             good && by_statement(t, item)      ? " (stated)"
             : good && by_version_only(t, item) ? " (version only)"
                                                : "");
}

static void add_result(struct table *table, const struct eb_job_device *t)
{
    char outcome[48];
    char running[RUNNING_BYTES];
    if (t->item_count == 0) {
        outcome_cell(t, NULL, outcome, sizeof outcome);
        const char *const cells[] = {t->device->name, "", "", "", "", outcome};
        table_add(table, cells);
    }
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_run_item *item = &t->items[k];
        outcome_cell(t, item, outcome, sizeof outcome);
        const char *const cells[] = {
            k == 0 ? t->device->name : "",
            item->component->name,
            item->from[0] != '\0' ? item->from
            : t->look.in_loader   ? "(in loader)"
                                  : "?",
            item->image->version,
            running_text(t, (size_t)(item->component - t->device->profile->components), running),
            outcome};
        table_add_below(table, cells, k > 0 ? 1 : 0);
    }
}

static void print_accepted(const struct eb_job_device *t)
{
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        for (size_t f = 0; f < v->count; f++) {
            if (v->findings[f].grade == EB_GRADE_ACCEPTED)
                say("%s %s: accepted %s: found %s, expected %s", t->device->name, t->items[k].component->name,
                    eb_rule_code(v->findings[f].rule), v->findings[f].found, v->findings[f].expected);
        }
    }
}

static void print_counts(const struct session *s)
{
    size_t counts[EB_OUTCOMES] = {0};
    size_t only = 0; /* up to date, by the version alone */
    const char *separator = " ";
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        enum eb_outcome outcome = eb_job_outcome(t);
        if (!t->chosen || !eb_job_wants(t))
            continue;
        counts[outcome == EB_OUTCOME_NONE && t->item_count > 0 ? EB_OUTCOME_NOT_STARTED : outcome]++;
        only += outcome == EB_OUTCOME_UP_TO_DATE && !t->begun && by_version_only(t, NULL);
    }
    printf("\n%s:", s->job->site->name);
    for (int o = EB_OUTCOME_NONE; o < EB_OUTCOMES; o++) {
        if (counts[o] == 0)
            continue;
        printf("%s%zu %s", separator, counts[o],
               o == EB_OUTCOME_NONE ? "not in the plan" : eb_outcome_word((enum eb_outcome)o));
        if (o == EB_OUTCOME_UP_TO_DATE && only > 0)
            printf(only == counts[o] ? " (version only)" : " (%zu of them by the version only)", only);
        separator = ", ";
    }
    puts("");
}

static void print_result(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "COMPONENT", "FROM", "TO", "NOW RUNNING", "OUTCOME"};
    struct table table;
    bool spaced = true;
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen && eb_job_wants(&s->job->devices[i]))
            add_result(&table, &s->job->devices[i]);
    }
    puts("");
    print_folded(s, &table, 0);
    say_folded(s, say_statement, NULL, NULL);
    say_folded(s, say_way, NULL, NULL);
    say_folded(s, say_outcome, NULL, NULL);
    print_documents(s, false, NULL);
    print_noted(s);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        if (eb_job_outcome(t) == EB_OUTCOME_REFUSED) /* it is another than it was when it was planned */
            print_findings(t, &spaced);
        print_accepted(t);
    }
    print_counts(s);
    if (s->job->number > 0)
        say("\nNext: einbau report %lld", (long long)s->job->number);
}

static void print_result_document(const struct session *s)
{
    json_t *root = document(s, "fit");
    json_t *devices = json_object_get(root, "devices");
    size_t at = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        json_t *device = json_array_get(devices, at++);
        enum eb_outcome outcome = eb_job_outcome(t);
        if (outcome == EB_OUTCOME_NONE && t->item_count > 0 && s->carried)
            outcome = EB_OUTCOME_NOT_STARTED; /* the job was ended before its turn */
        if (outcome != EB_OUTCOME_NONE)       /* nothing was done to those that fit beside a refused one */
            json_object_set_new(device, "outcome", json_string(eb_outcome_word(outcome)));
        json_t *noted = noted_of(t);
        if (noted != NULL)
            json_object_set_new(device, "noted", noted);
        if (outcome == EB_OUTCOME_CONFIRMED && t->device->profile->restarts)
            json_object_set_new(device, "restart_seen", json_string(eb_restart_word(t->fit.restart)));
        if (outcome == EB_OUTCOME_CONFIRMED) {
            char way[SENTENCE_BYTES];
            other_way_sentence(&t->fit, way, sizeof way);
            json_object_set_new(device, "sent_by", json_string(eb_run_sends_by(&t->fit)->word));
            if (restarted_by(&t->fit) != NULL)
                json_object_set_new(device, "restarted_by", json_string(restarted_by(&t->fit)));
            if (way[0] != '\0')
                json_object_set_new(device, "way", json_string(way));
        }
    }
    if (s->options->json_lines)
        print_line(root);
    else
        print_document(root);
}

static bool plan_is_told(struct session *s)
{
    if (s->options->json)
        return true;
    print_plan(s);
    if (fflush(stdout) == 0 && !ferror(stdout))
        return true;
    complain("the plan could not be printed; nothing was written");
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* A job that has nothing left to do ends in the record too, once every device was looked at. */
static void end_resumed(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen && !s->job->devices[i].reached)
            return;
    }
    if (job_begin(s, "that this job is done could not be written down") && !eb_job_carry_out(s->job))
        session_failed(s);
}

static int end_unwritten(struct session *s, size_t refused)
{
    int status = refused > 0 ? EXIT_NOT_AS_WANTED : status_of(s);
    if (refused > 0 && !eb_job_refuse(s->job))
        complain("that this plan was refused is not in the record of jobs: %s", s->job->problem.text);
    bool resumed = refused == 0 && s->options->resumes != 0;
    if (resumed) /* what its devices have noted is read now */
        end_resumed(s);
    if (s->options->json)
        print_result_document(s);
    else if (refused > 0)
        puts("Nothing was written.");
    else
        print_counts(s);
    say_nothing_wanted(s);
    if (resumed && !s->options->json)
        print_noted(s);
    return session_close(s, status);
}

static bool resume, no_backup, wants_notice;

/* The job has ended: in one sentence, for a user who looks elsewhere. */
static void call_back(const struct session *s)
{
    char title[EB_NAME_BYTES + 16];
    char text[96];
    size_t devices = 0;
    size_t good = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        bool wanted = t->chosen && (eb_job_wants(t) || t->puts_back);
        devices += wanted;
        good += wanted && is_good(t);
    }
    snprintf(title, sizeof title, "einbau: %s", s->job->site->name);
    snprintf(text, sizeof text, "Job %lld has ended: %zu of %zu device%s as wanted",
             (long long)s->job->number, good, devices, devices == 1 ? " is" : "s are");
    notify(title, text);
}

/* Looks at the devices and plans; `r`: what is left of an earlier job. */
static bool look_and_plan(struct session *s, const struct resume *r)
{
    if ((r != NULL && !resume_begin(r, s)) || !job_lock_addresses(s) || !session_look(s))
        return false;
    if (r != NULL)
        resume_compare(r, s);
    return session_plan(s) && (r == NULL || resume_same_images(r, s));
}

static void say_recovers(const struct session *s, const struct eb_job_device *t, const void *context,
                         char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->recovers)
        snprintf(text, SENTENCE_BYTES, "its program is started again");
}

/* `again`, where it is not NULL: the number of this job, if it must be gone on with. */
static int work(const struct options *options, const struct resume *r, char again[24])
{
    struct session s;
    size_t devices;
    size_t refused;
    size_t recovers;
    size_t put_back = 0;
    char question[PLAN_QUESTION_BYTES];
    if (!session_open(&s, options))
        return session_close(&s, s.status);
    s.job->no_backup = no_backup;
    if (!look_and_plan(&s, r))
        return session_close(&s, s.status);
    count_plan(&s, &devices, &refused);
    recovers = r != NULL ? resume_recovers(&s) : 0;
    for (size_t i = 0; i < s.job->count; i++)
        put_back += s.job->devices[i].puts_back;
    if (!plan_is_told(&s))
        return session_close(&s, s.status);
    if (!options->json)
        say_folded(&s, say_recovers, NULL, NULL);
    if (refused > 0 || devices + recovers + put_back == 0)
        return end_unwritten(&s, refused);
    if (!job_lock_devices(&s))
        return session_close(&s, s.status);
    if (s.sim != NULL && options->state == NULL && !options->json)
        fputs("\nThis simulated world forgets what is written to it; with --state DIR it remembers.\n",
              stderr);
    if (devices > 0)
        plan_question(&s, question);
    else if (recovers == 0)
        snprintf(question, sizeof question, "Put documents back onto %zu device%s?", put_back,
                 put_back == 1 ? "" : "s");
    else
        snprintf(question, sizeof question, "Start the program of %zu device%s again?", recovers,
                 recovers == 1 ? "" : "s");
    if (!session_may(&s, question, "nothing was written") || !job_begin(&s, "nothing was written"))
        return session_close(&s, s.status);
    if (options->json_lines)
        print_line(json_pack("{s:s, s:s, s:I, s:s, s:I}", "einbau", "event/1", "event", "begins", "job",
                             (json_int_t)s.job->number, "site", s.job->site->name, "devices",
                             (json_int_t)devices + (json_int_t)recovers + (json_int_t)put_back));
    if ((recovers + put_back > 0 && !session_carry_out(&s, true)) ||
        (devices > 0 && !session_carry_out(&s, false)))
        return session_close(&s, s.status);
    s.carried = true;
    if (r != NULL && resume_again(&s) && session_interrupts() == 0)
        snprintf(again, 24, "%lld", (long long)s.job->number);
    if (options->json)
        print_result_document(&s);
    else
        print_result(&s);
    if (wants_notice)
        call_back(&s);
    return session_close(&s, status_of(&s));
}

static int run(const struct options *given)
{
    static struct resume r;
    char number[24] = "";
    int status;
    struct options own = *given;
    const struct options *options = &own;
    own.json = given->json || given->json_lines;
    if (!resume)
        return work(options, NULL, NULL);
    /* Once more for devices whose gateway had to be written first, and once more for those behind one of
     * them. */
    for (int turn = 0; turn < 3; turn++) {
        const char *name = turn > 0 ? number : options->name_count > 0 ? options->names[0] : NULL;
        char again[24] = "";
        if (resume_open(&r, options, name, &status))
            status = work(&r.options, &r, again);
        resume_close(&r);
        if (again[0] == '\0' || (options->json && !options->json_lines)) /* which is one document */
            break;
        memcpy(number, again, sizeof number);
        if (!options->json)
            puts("");
    }
    return status;
}

static void check(struct argp_state *state, const struct options *o)
{
    bool whole = true;
    for (size_t i = 0; i < o->accepted_count; i++)
        whole = whole && o->accepted[i].device != NULL;
    if (resume && (o->name_count > 1 || o->again || o->image != NULL || !whole))
        argp_error(
            state,
            "--resume takes devices, images and what was accepted from the record: expected the number "
            "of a job beside it, or nothing, and what else is accepted as --accept DEVICE:CODE");
}

static const struct option_row option_resume = {"resume",
                                                NULL,
                                                "go on with a job that did not come to its end: the one with "
                                                "this number in place of device names, else the "
                                                "last one",
                                                2,
                                                OPTION_FLAG,
                                                .own = &resume};
static const struct option_row option_no_backup = {
    "no-backup",
    NULL,
    "save nothing of what the update erases, and put nothing back; this stands in the record",
    2,
    OPTION_FLAG,
    .own = &no_backup};
static const struct option_row json_lines = {
    "json-lines",
    NULL,
    "for other programs: print events as they come, and the result, each as one line of JSON",
    2,
    OPTION_FLAG,
    .to = OPTION_TO(json_lines)};
static const struct option_row notify_row = {
    "notify",
    NULL,
    "when it has ended, ring the terminal's bell and show it on the desktop (notify-send)",
    2,
    OPTION_FLAG,
    .own = &wants_notice};
static const struct option_row step_done = {"step-done",
                                            "DEVICE",
                                            "take the manual steps of this device, or of each that a pattern "
                                            "names, as done where nothing else shows it; may be "
                                            "given several times",
                                            2,
                                            OPTION_LIST,
                                            .to = OPTION_TO(step_done),
                                            .count = OPTION_TO(step_done_count)};
static const struct option_row *const fit_options[] = {
    &step_done,       &option_without,   &option_only, &option_image,  &option_accept,
    &option_again,    &option_resume,    &json_lines,  &option_yes,    &option_add_address,
    &option_key_file, &option_no_backup, &notify_row,  &option_unfold, NULL};

const struct command command_fit = {
    .name = "fit",
    .arguments = "[DEVICE...]\n--resume [JOB]",
    .summary = "carries the plan out and reads back what runs",
    .help = "Writes to the devices named, or to all that do not run what is wanted: shows the plan, asks, "
            "writes to all at the same time, waits for each to come back under its serial number, and reads "
            "back what runs. Where one device of the plan is refused, nothing is written to any. Ctrl-C ends "
            "the job cleanly; a second one at once.\v"
            "Examples:\n  einbau fit --site larchfell.site.yaml --without tower-io-3\n"
            "  einbau fit --resume\n"
            "  einbau fit --site larchfell.site.yaml drive-plc --again --yes\n\n"
            "Exit status 0 only where every device is confirmed or was up to date.",
    .takes = NAMES_DEVICES,
    .options = fit_options,
    .check = check,
    .run = run,
};
