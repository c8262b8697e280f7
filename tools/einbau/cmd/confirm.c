#include "report/report.h"
#include "session/history.h"
#include "session/names.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* The names of those that `which` picks. */
static void put_names(FILE *to, const struct session *s, bool which(const struct eb_job_device *))
{
    size_t *list = calloc(s->job->count + 1, sizeof *list);
    size_t count = 0;
    if (list == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen && which(&s->job->devices[i]))
            list[count++] = i;
    }
    char *names = names_folded(s, list, count);
    fprintf(to, "%s%s", count > 0 ? ": " : "", names);
    free(names);
    free(list);
}

static bool is_not_compared(const struct eb_job_device *t)
{
    return !eb_job_wants(t);
}

static bool is_wrong(const struct eb_job_device *t)
{
    return eb_job_wants(t) && !eb_job_as_wanted(t);
}

static bool is_right(const struct eb_job_device *t)
{
    return eb_job_wants(t) && eb_job_as_wanted(t);
}

/* As wanted, but of one component only the text of the version could be compared. */
static bool is_by_version_only(const struct eb_job_device *t)
{
    bool only = false;
    for (size_t i = 0; i < t->device->profile->count; i++)
        only = only || (eb_job_wanted(t, i)[0] != '\0' && eb_job_known_by(t, i) == EB_BY_VERSION);
    return is_right(t) && only;
}

static size_t count(const struct session *s, bool which(const struct eb_job_device *))
{
    size_t sum = 0;
    for (size_t i = 0; i < s->job->count; i++)
        sum += s->job->devices[i].chosen && which(&s->job->devices[i]);
    return sum;
}

static void print_sum(const struct session *s, size_t right, size_t wrong, size_t only, size_t others)
{
    char *text = NULL;
    size_t size = 0;
    FILE *to = open_memstream(&text, &size);
    if (to == NULL)
        abort();
    fprintf(to, "%s: %zu device%s as wanted, %zu not", s->job->site->name, right, right == 1 ? "" : "s",
            wrong);
    put_names(to, s, is_wrong);
    if (only > 0)
        fprintf(to, "; %zu by the version only", only);
    if (only > 0 && only < right)
        put_names(to, s, is_by_version_only);
    if (others > 0)
        fprintf(to, "; nothing is wanted of %zu", others);
    fclose(to);
    say("%s", text);
    free(text);
}

/* --- memory cards that are closed by this ------------------------------------------------------------ */

enum { CARDS_MAX = 16 };

/* The devices of a card, and whether each runs what the card has brought. */
struct card {
    struct session *session;
    int64_t number;
    bool *devices; /* of the site */
    size_t count;
    bool taken;
};

static bool takes(void *context, const struct eb_record_entry *entry)
{
    struct card *card = context;
    if (strcmp(entry->row.kind, "card") != 0)
        return true;
    struct eb_job_device *t = eb_job_device(card->session->job, entry->row.device);
    const struct eb_profile *p = t != NULL ? t->device->profile : NULL;
    const struct eb_component_profile *c = p != NULL ? eb_profile_component(p, entry->row.component) : NULL;
    bool same = c != NULL && t->chosen && t->reached && !t->look.in_loader &&
                eb_version_compare(&c->order, t->look.running[c - p->components].version,
                                   entry->row.version) == EB_SAME;
    card->taken = card->taken && same && is_right(t);
    if (t != NULL && !card->devices[t - card->session->job->devices]) {
        card->devices[t - card->session->job->devices] = true;
        card->count++;
    }
    return card->taken;
}

/* A job of its own, of these devices, that goes on with the one that made the card. */
static bool close_card(struct session *s, const struct card *card)
{
    bool *chosen = calloc(s->job->count + 1, sizeof *chosen);
    if (chosen == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        chosen[i] = s->job->devices[i].chosen;
        s->job->devices[i].chosen = card->devices[i];
    }
    s->job->config.resumes = card->number;
    bool closed = eb_job_refuse(s->job);
    if (closed)
        eb_job_end(s->job, "as wanted");
    else
        complain("that the card of job %lld was taken is not in the record: %s", (long long)card->number,
                 s->job->problem.text);
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].chosen = chosen[i];
    free(chosen);
    return closed;
}

static void find_cards(struct session *s, struct card *cards, size_t *count)
{
    const char *folder = s->job->config.records ? history_folder(s) : NULL;
    struct eb_record *record = folder != NULL ? eb_record_open(folder, false, &s->job->problem) : NULL;
    struct eb_record_job *jobs = NULL;
    size_t job_count = 0;
    if (record == NULL || !eb_record_jobs(record, &jobs, &job_count, &s->job->problem))
        job_count = 0;
    for (size_t i = 0; i < job_count && *count < CARDS_MAX; i++) {
        struct card *card = &cards[*count];
        if (!history_waits(&jobs[i]) || strcmp(jobs[i].site, s->job->site->name) != 0)
            continue;
        *card = (struct card){.session = s, .number = jobs[i].number, .taken = true};
        card->devices = calloc(s->job->count + 1, sizeof *card->devices);
        if (card->devices == NULL)
            abort();
        if (eb_record_rows(record, card->number, takes, card, &s->job->problem) && card->taken &&
            card->count > 0)
            (*count)++;
        else
            free(card->devices);
    }
    free(jobs);
    eb_record_close(record);
}

/* Jobs whose cards were taken, as was read back now: of each, how many devices. */
static json_t *close_cards(struct session *s)
{
    struct card cards[CARDS_MAX];
    json_t *closed = json_array();
    size_t count = 0;
    find_cards(s, cards, &count);
    for (size_t i = 0; i < count; i++) {
        if (close_card(s, &cards[i])) {
            json_array_append_new(closed, json_integer((json_int_t)cards[i].number));
            if (!s->options->json)
                say("\nThe memory card of job %lld was taken by its %zu device%s: that job is closed, by job "
                    "%lld.",
                    (long long)cards[i].number, cards[i].count, cards[i].count == 1 ? "" : "s",
                    (long long)s->job->number);
        }
        free(cards[i].devices);
    }
    return closed;
}

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s))
        return session_close(&s, s.status);
    size_t right = count(&s, is_right);
    size_t wrong = count(&s, is_wrong);
    size_t only = count(&s, is_by_version_only);
    size_t others = count(&s, is_not_compared);
    if (options->json) {
        json_t *root = document(&s, "confirm");
        json_object_set_new(root, "as_wanted", json_integer((json_int_t)right));
        json_object_set_new(root, "not_as_wanted", json_integer((json_int_t)wrong));
        json_object_set_new(root, "not_compared", json_integer((json_int_t)others));
        json_object_set_new(root, "closed_jobs", close_cards(&s));
        print_document(root);
    } else {
        print_sum(&s, right, wrong, only, others);
        puts("");
        print_devices(&s);
        json_decref(close_cards(&s));
    }
    if (say_nothing_wanted(&s) && s.status == EXIT_AS_WANTED)
        s.status = EXIT_NOT_AS_WANTED;
    for (size_t i = 0; i < s.job->count && s.status == EXIT_AS_WANTED; i++) {
        if (s.job->devices[i].chosen && !statement_counts(&s.job->devices[i]))
            s.status = EXIT_NOT_AS_WANTED;
    }
    if (s.status == EXIT_AS_WANTED && wrong > 0)
        s.status = EXIT_NOT_AS_WANTED;
    return session_close(&s, s.status);
}

static const struct option_row *const confirm_options[] = {
    &option_without,     &option_only,     &option_accept,
    &option_add_address, &option_key_file, &option_columns,
    &option_sort,        &option_unfold,   NULL};

const struct command command_confirm = {
    .name = "confirm",
    .arguments = "[DEVICE...]",
    .summary = "running versions read back and compared with what the site wants",
    .help = "Reads the running version and checksum of every component from the devices and compares them "
            "with what the site wants. Where the image is not known here, or the device has no checksum to "
            "read, the version alone is compared, which is said. Writes nothing to a device. Where all "
            "devices of "
            "a memory card run what it has brought, the job that made the card is closed in the record.\v"
            "Example:\n  einbau confirm --site larchfell.site.yaml drive-plc\n\n"
            "Exit status 0 only where each component runs what is wanted, and no program is stopped.",
    .takes = NAMES_DEVICES,
    .heads = devices_heads,
    .options = confirm_options,
    .run = run,
};
