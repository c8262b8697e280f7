#include "report/page.h"
#include "ui/table.h"

#include <stdio.h>

/* What a job did, for the technician and for the customer: text, JSON, or a page to be signed. */

static const char *to_file;

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

static int run(const struct options *options)
{
    struct session s;
    struct past past;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    struct eb_record *record = history_open(&s);
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
    if (to_file != NULL && o->json)
        argp_error(state, "--to writes a page, and --json prints a document: expected one of them");
}

static const struct option_row row_to = {
    "to", "FILE",      "write a page (HTML) to this file: for a browser, to print and to sign",
    2,    OPTION_TEXT, .own = &to_file};
static const struct option_row *const report_options[] = {&row_to, NULL};

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
        "Examples:\n  einbau report\n  einbau report --to report.html",
    .takes = SITE_OPTIONAL,
    .options = report_options,
    .check = check,
    .run = run,
};
