#include "report/page.h"
#include "ui/table.h"

#include <stdio.h>

/* What a job did, for the technician and for the customer: text, JSON, or a page to be signed. */

static const char *to_file;
static bool devices;

static int print(const struct session *s, struct past *past)
{
    if (past->goes_on) {
        complain("job %lld still goes on (process %ld); its report comes when it has ended",
                 (long long)past->job.number, past->job.process);
        return EXIT_NOT_AS_WANTED;
    }
    if (to_file != NULL)
        return page_save(to_file, past) ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
    if (s->options->json) {
        print_document(past_document(past));
        return EXIT_AS_WANTED;
    }
    past_print(past);
    puts("");
    say("Next: einbau report %lld --to report.html", (long long)past->job.number);
    return EXIT_AS_WANTED;
}

/* --- all devices of a site, as far as the record knows them ------------------------------------------ */

/* What a device ran, by its component: since when, by which job. */
struct known_device {
    const struct eb_site_device *device;
    char serial[EB_NAME_BYTES], read[EB_SEEN_BYTES]; /* when it was read last; empty: never */
    struct known_component {
        char version[EB_VERSION_TEXT_BYTES], since[EB_SEEN_BYTES];
        int64_t job;
    } components[EB_COMPONENTS_MAX];
    const char *site;
    int64_t cut; /* the job that may have begun with it, and of which nothing was read; 0: none */
    bool named;  /* it has a line already */
};

static bool take_end(void *context, const struct eb_record_entry *e)
{
    struct known_device *k = context;
    const struct eb_profile *p = k->device->profile;
    bool before = strcmp(e->row.kind, "device") == 0;
    json_t *body = strcmp(e->row.site, k->site) == 0 ? json_loads(e->row.body, 0, NULL) : NULL;
    size_t i;
    const json_t *c;
    if (body != NULL)
        k->cut = before && json_array_size(json_object_get(body, "items")) > 0 ? e->job : 0;
    json_array_foreach(json_object_get(body, "components"), i, c)
    {
        const struct eb_component_profile *component = eb_profile_component(p, history_text(c, "name"));
        const char *running = history_text(c, "running");
        if (component == NULL || running[0] == '\0')
            continue;
        struct known_component *known = &k->components[component - p->components];
        eb_text_copy(k->serial, sizeof k->serial, e->row.serial);
        eb_text_copy(k->read, sizeof k->read, e->at);
        if (strcmp(known->version, running) == 0)
            continue;
        eb_text_copy(known->version, sizeof known->version, running);
        eb_text_copy(known->since, sizeof known->since, before ? "" : e->at); /* it ran that already */
        known->job = e->job;
    }
    json_decref(body);
    return true;
}

/* What was read before a job that was cut off says nothing of what runs behind it. */
static void add_known(struct table *table, json_t *documents, struct known_device *k, size_t i)
{
    const struct eb_component_profile *component = &k->device->profile->components[i];
    const struct known_component *known = &k->components[i];
    const char *wanted = k->device->wants[i].version;
    struct eb_running then = {.has_checksum = false};
    char since[48] = "";
    char read[32] = "";
    char job[24] = "";
    if (k->cut == 0)
        eb_text_copy(then.version, sizeof then.version, known->version);
    if (then.version[0] == '\0' && wanted[0] == '\0')
        return;
    const char *mark = then.version[0] == '\0' ? "unknown"
                       : wanted[0] == '\0'     ? ""
                                           : eb_mark_word(eb_mark_of(&component->order, &then, wanted, NULL));
    bool written = then.version[0] != '\0' && known->since[0] != '\0';
    if (k->cut != 0)
        snprintf(since, sizeof since, "job %lld was cut off", (long long)k->cut);
    else if (written)
        eb_job_local_time(known->since, since, sizeof since);
    else if (then.version[0] != '\0')
        snprintf(since, sizeof since, "before the record");
    if (k->read[0] != '\0')
        eb_job_local_time(k->read, read, sizeof read);
    if (written)
        snprintf(job, sizeof job, "%lld", (long long)known->job);
    const char *const cells[] = {k->named ? "" : k->device->name,
                                 k->named ? "" : k->serial,
                                 component->name,
                                 then.version[0] != '\0' ? then.version : W_UNKNOWN,
                                 since,
                                 job,
                                 read,
                                 wanted,
                                 mark};
    table_add(table, cells);
    k->named = true;
    json_array_append_new(
        documents, json_pack("{s:s, s:s, s:s, s:o, s:o, s:o, s:o, s:o, s:o, s:s}", "device", k->device->name,
                             "serial", k->serial, "component", component->name, "version",
                             text_or_null(then.version), "since", text_or_null(written ? known->since : ""),
                             "job", written ? json_integer(known->job) : json_null(), "cut_off_by",
                             k->cut != 0 ? json_integer(k->cut) : json_null(), "read", text_or_null(k->read),
                             "wanted", text_or_null(wanted), "mark", mark));
}

static int print_devices_known(struct session *s, struct eb_record *record)
{
    static const char *const heads[] = {"DEVICE", "SERIAL NUMBER", "COMPONENT", "RAN", "SINCE",
                                        "JOB",    "LAST READ",     "WANTED",    "THEN"};
    struct table table;
    json_t *documents = json_array();
    if (s->job->site == NULL) {
        complain("found no site, expected one: --site FILE, or the variable EINBAU_SITE");
        json_decref(documents);
        return EXIT_WRONG_CALL;
    }
    table_begin(&table, 9, heads);
    for (size_t i = 0; i < s->job->site->device_count; i++) {
        struct known_device k = {.device = &s->job->site->devices[i], .site = s->job->site->name};
        if (!eb_record_device(record, k.device->name, take_end, &k, &s->job->problem)) {
            complain("the record of jobs cannot be read: %s", s->job->problem.text);
            table_free(&table);
            json_decref(documents);
            return EXIT_WRONG_CALL;
        }
        for (size_t c = 0; c < k.device->profile->count; c++)
            add_known(&table, documents, &k, c);
    }
    if (s->options->json) {
        table_free(&table);
        print_document(json_pack("{s:s, s:s, s:o}", "einbau", "report-devices/1", "site", s->job->site->name,
                                 "components", documents));
        return EXIT_AS_WANTED;
    }
    json_decref(documents);
    say("%s, by the record: what each device ran when it was read last.", s->job->site->name);
    puts("");
    table_print(&table);
    puts("");
    say("Next: einbau survey (reads what runs now)");
    return EXIT_AS_WANTED;
}

static int run(const struct options *options)
{
    struct session s;
    struct past past;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    struct eb_record *record = history_open(&s);
    if (record != NULL && devices) {
        int known = print_devices_known(&s, record);
        eb_record_close(record);
        return session_close(&s, known);
    }
    bool read =
        record != NULL && history_read(&s, record, options->name_count > 0 ? options->names[0] : NULL, &past);
    int status = read ? print(&s, &past) : s.status;
    if (record != NULL)
        history_free(&past);
    eb_record_close(record);
    return session_close(&s, status);
}

static void check(struct argp_state *state, const struct options *o)
{
    if (o->name_count > 1)
        argp_error(state, "found %zu names, expected the number of one job, or none", o->name_count);
    if (devices && (o->name_count > 0 || to_file != NULL))
        argp_error(state, "--devices is of the whole site: expected neither a job nor --to beside it");
    if (to_file != NULL && o->json)
        argp_error(state, "--to writes a page, and --json prints a document: expected one of them");
}

static const struct option_row row_to = {
    "to", "FILE",      "write a page (HTML) to this file: for a browser, to print and to sign",
    2,    OPTION_TEXT, .own = &to_file};
static const struct option_row row_devices = {
    "devices",
    NULL,
    "in place of a job: what each device of the site ran when it was read last, and since when",
    2,
    OPTION_FLAG,
    .own = &devices};
static const struct option_row *const report_options[] = {&row_to, &row_devices, NULL};

const struct command command_report = {
    .name = "report",
    .arguments = "[JOB]",
    .summary = "what a job did to each device, as text or as a page to be signed",
    .help =
        "Reports on a job of the record, by its number, else on the last one that was to write to a device: "
        "what was found, written and read back, with which image, what was accepted and by whom, manual "
        "steps, "
        "losses, and the digest of the record. With --to as one page (HTML) that needs nothing else, with a "
        "drawing of the site, a timeline, and room for two signatures.\v"
        "Examples:\n  einbau report\n  einbau report --devices\n  einbau report --to report.html",
    .takes = SITE_OPTIONAL,
    .options = report_options,
    .check = check,
    .run = run,
};
