#include "report/page.h"
#include "ui/table.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* What a job did, for the technician and for the customer: text, JSON, or a page to be signed. */

static const char *to_file;

/* Writes beside the file and puts it in its place at once: what was there stays until the page is whole. */
static int write_page(const struct past *past)
{
    char *name;
    struct stat there;
    /* What is no plain file, like /dev/stdout or a link, is written to and stays what it is. */
    if (lstat(to_file, &there) == 0 && !S_ISREG(there.st_mode)) {
        FILE *to = fopen(to_file, "w");
        bool done = to != NULL && page_write(to, past);
        done = (to == NULL || fclose(to) == 0) && done;
        if (!done)
            complain("%s could not be written: %s", to_file, strerror(errno));
        return done ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
    }
    if (asprintf(&name, "%s.XXXXXX", to_file) < 0)
        abort();
    int fd = mkstemp(name);
    FILE *file = fd >= 0 ? fdopen(fd, "w") : NULL;
    bool ok = file != NULL && page_write(file, past) && fchmod(fd, 0644) == 0 && fsync(fd) == 0;
    ok = (file == NULL || fclose(file) == 0) && ok;
    ok = ok && rename(name, to_file) == 0;
    if (!ok) {
        complain("%s could not be written: %s. Nothing was changed there", to_file, strerror(errno));
        unlink(name);
    } else {
        fprintf(stderr, "%s holds the report on job %lld. A browser shows and prints it\n", to_file,
                (long long)past->job.number);
    }
    free(name);
    return ok ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
}

static int print(const struct session *s, struct past *past)
{
    if (past->goes_on) {
        complain("job %lld still goes on (process %ld); its report comes when it has ended",
                 (long long)past->job.number, past->job.process);
        return EXIT_NOT_AS_WANTED;
    }
    if (to_file != NULL)
        return write_page(past);
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
