/* 'einbau' alone: where one stands, and what comes next. */
#include "report/report.h"
#include "session/config.h"
#include "session/history.h"

#include <einbau/shelf.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* What is known of the devices of the site without asking them. */
struct standing {
    size_t wanting; /* devices of which something is wanted */
    size_t seen, outdated;
    char last[EB_SEEN_BYTES];
    int64_t open_job; /* the newest that wants to be gone on with; 0: none */
    int64_t card_job; /* the newest that made a memory card, with nothing read back since; 0: none */
    char job[EB_LOCK_KEY_BYTES + 96];
};

static void add_device(struct standing *st, struct session *s, struct eb_job_device *t)
{
    const struct eb_profile *p = t->device->profile;
    char seen[EB_SEEN_BYTES];
    bool wants = false;
    bool outdated = false;
    eb_job_recall(s->job, t, seen);
    for (size_t k = 0; k < p->count; k++) {
        const char *wanted = eb_job_wanted(t, k);
        bool same =
            eb_version_compare(&p->components[k].order, t->look.running[k].version, wanted) == EB_SAME;
        wants = wants || wanted[0] != '\0';
        outdated = outdated || (wanted[0] != '\0' && !same);
    }
    st->wanting += wants;
    st->seen += wants && seen[0] != '\0';
    st->outdated += wants && seen[0] != '\0' && outdated;
    if (strcmp(seen, st->last) > 0)
        snprintf(st->last, sizeof st->last, "%s", seen);
}

/* The newest job on this site, and whether one is open. */
static void add_jobs(struct standing *st, struct session *s)
{
    const char *folder = history_folder(s);
    struct eb_record *record = folder != NULL ? eb_record_open(folder, false, &s->job->problem) : NULL;
    struct eb_record_job *jobs = NULL;
    size_t count = 0;
    if (record == NULL || !history_jobs(s, record, &jobs, &count)) {
        eb_record_close(record);
        return;
    }
    for (size_t i = 0; i < count; i++) {
        const struct eb_record_job *job = &jobs[i];
        char began[32];
        if (job->devices == 0 || (s->job->site != NULL && strcmp(job->site, s->job->site->name) != 0))
            continue;
        bool goes_on = history_goes_on(record, job);
        if (st->open_job == 0 && history_is_open(job, goes_on))
            st->open_job = job->number;
        if (st->card_job == 0 && history_waits(job))
            st->card_job = job->number;
        eb_job_local_time(job->began, began, sizeof began);
        if (st->job[0] == '\0')
            snprintf(st->job, sizeof st->job, "%lld %s, %s: %s", (long long)job->number, job->command, began,
                     history_result(job, goes_on));
    }
    free(jobs);
    eb_record_close(record);
}

/* One sentence. */
static void answer(const struct session *s, const struct standing *st, char text[SENTENCE_BYTES])
{
    const char *name = s->job->site != NULL ? s->job->site->name : "";
    const char *plural = st->wanting == 1 ? "" : "s";
    size_t cap = SENTENCE_BYTES;
    if (s->options->site_several)
        snprintf(text, cap, "Several sites here: %.900s. Name one: --site FILE, or the variable EINBAU_SITE.",
                 s->options->site_found);
    else if (s->job->site == NULL)
        snprintf(text, cap,
                 "No site here: found no file *.site.yaml in this folder or above it, and none is named.");
    else if (s->job->count == 0)
        snprintf(text, cap, "%s: it has no devices yet.", name);
    else if (st->open_job != 0)
        snprintf(text, cap, "%s: job %lld was interrupted.", name, (long long)st->open_job);
    else if (st->card_job != 0)
        snprintf(text, cap,
                 "%s: job %lld made a memory card, and it was not read back yet what the devices made of it.",
                 name, (long long)st->card_job);
    else if (st->wanting == 0)
        snprintf(text, cap, "%s: nothing is wanted of its %zu device%s: the key 'wants'.", name,
                 s->job->count, s->job->count == 1 ? "" : "s");
    else if (st->seen == 0)
        snprintf(text, cap, "%s: nothing is known yet of its %zu device%s.", name, s->job->count,
                 s->job->count == 1 ? "" : "s");
    else if (st->outdated > 0)
        snprintf(text, cap, "%s: %zu of %zu device%s did not run what is wanted when last seen.", name,
                 st->outdated, st->wanting, plural);
    else if (st->seen < st->wanting)
        snprintf(text, cap,
                 "%s: %zu of %zu devices ran what is wanted when last seen; nothing is known of the others.",
                 name, st->seen, st->wanting);
    else
        snprintf(text, cap, "%s: %zu of %zu device%s ran what is wanted when last seen.", name, st->seen,
                 st->wanting, plural);
}

static void next_command(const struct session *s, const struct standing *st, char text[EB_PATH_BYTES + 32])
{
    if (s->job->site != NULL && s->job->count == 0)
        snprintf(text, EB_PATH_BYTES + 32, "einbau survey --into %s", eb_job_word(s->options->site));
    else if (s->job->site != NULL && st->open_job != 0)
        snprintf(text, EB_PATH_BYTES + 32, "einbau fit --resume %lld", (long long)st->open_job);
    else if (s->job->site != NULL && st->card_job != 0)
        snprintf(text, EB_PATH_BYTES + 32, "einbau confirm");
    else
        snprintf(text, EB_PATH_BYTES + 32, "einbau %s",
                 s->job->site == NULL || st->seen == 0 ? "survey"
                 : st->outdated > 0                    ? "plan"
                                                       : "report --devices");
}

enum { LABEL_COLUMNS = 12 };

static void line(const char *label, const char *text)
{
    say_labelled(label, LABEL_COLUMNS, text);
}

/* Images on the shelf; false: there is none. */
static bool count_images(struct session *s, size_t *count)
{
    struct eb_shelf_image *images = NULL;
    bool there = eb_job_shelf(s->job, false) && s->job->shelf != NULL &&
                 eb_shelf_list(s->job->shelf, &images, count, &s->job->problem);
    free(images);
    return there;
}

static void print_document_of(struct session *s, const struct standing *st, const char *said,
                              const char *next)
{
    size_t images = 0;
    bool shelf = count_images(s, &images);
    print_document(json_pack("{s:s, s:s?, s:s?, s:s, s:s?, s:I, s:I, s:I, s:I, s:s?, s:I, s:s}", "einbau",
                             "here/1", "site", s->options->site, "simulated", s->options->sim, "says", said,
                             "shelf", shelf ? s->shelf_folder : NULL, "images", (json_int_t)images, "wanted",
                             (json_int_t)st->wanting, "seen", (json_int_t)st->seen, "outdated",
                             (json_int_t)st->outdated, "last_seen", st->seen > 0 ? st->last : NULL,
                             "open_job", (json_int_t)st->open_job, "next", next));
}

static void print_text(struct session *s, const struct standing *st, const char *said, const char *next)
{
    char text[EB_PATH_BYTES + 64];
    char at[32];
    size_t images = 0;
    bool bold = colours_on(STDOUT_FILENO);
    fputs(bold ? "\033[1m" : "", stdout);
    say("%s%s", said, bold ? "\033[0m" : "");
    puts("");
    if (s->options->site != NULL)
        line("site", s->options->site);
    if (s->options->sim != NULL)
        line("simulated", s->options->sim);
    bool shelf = count_images(s, &images);
    snprintf(text, sizeof text, "%zu image%s in %s", images, images == 1 ? "" : "s", s->shelf_folder);
    line("shelf", shelf ? text : "none yet: einbau shelf add FILE");
    if (st->seen > 0) {
        eb_job_local_time(st->last, at, sizeof at);
        snprintf(text, sizeof text, "%s: %zu of %zu device%s", at, st->seen, st->wanting,
                 st->wanting == 1 ? "" : "s");
        line("last seen", text);
    }
    if (st->job[0] != '\0')
        line("last job", st->job);
    snprintf(text, sizeof text, "%zu", s->job->trust.count);
    line("trusted keys", s->job->trust.asked ? text : "none: images need no signature");
    say("\nNext: %s", next);
    say("'einbau --help' lists all commands.");
}

static bool where;

static int run(const struct options *options)
{
    struct session s;
    struct standing st = {.wanting = 0};
    char said[SENTENCE_BYTES];
    char next[EB_PATH_BYTES + 32];
    if (where) {
        config_print(options);
        return EXIT_AS_WANTED;
    }
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    for (size_t i = 0; i < s.job->count; i++)
        add_device(&st, &s, &s.job->devices[i]);
    add_jobs(&st, &s);
    answer(&s, &st, said);
    next_command(&s, &st, next);
    if (options->json)
        print_document_of(&s, &st, said, next);
    else
        print_text(&s, &st, said, next);
    return session_close(&s, EXIT_AS_WANTED);
}

static const struct option_row option_where = {
    "where",
    NULL,
    "the site, the shelf and the other places that count here, and where each comes from",
    2,
    OPTION_FLAG,
    .own = &where};
static const struct option_row *const here_options[] = {&option_where, NULL};

const struct command command_here = {
    .name = "",
    .arguments = "",
    .summary = "says where one stands",
    .help = "",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .options = here_options,
    .run = run,
};
