#include "report/report.h"

#include <einbau/record.h>

/* In a folder: the first job would make it as well. */
static bool make_file(const char *folder, bool *made, struct eb_problem *problem)
{
    struct eb_record *record = eb_record_open(folder, false, problem);
    *made = record == NULL && problem->text[0] == '\0';
    if (*made)
        record = eb_record_open(folder, true, problem);
    bool there = record != NULL;
    eb_record_close(record);
    return there;
}

static int run(const struct options *options)
{
    struct eb_problem problem;
    const char *place = options->names[0];
    bool made;
    if (eb_record_is_server(place) ? !eb_record_init(place, &made, &problem)
                                   : !make_file(place, &made, &problem)) {
        complain("%s", problem.text);
        return EXIT_WRONG_CALL;
    }
    if (options->json) {
        print_document(json_pack("{s:s, s:s, s:b}", "einbau", "record-init/1", "place", place, "made", made));
        return EXIT_AS_WANTED;
    }
    if (made && !eb_record_is_server(place))
        say("The record was made in %s. Next: einbau fit --record %s", place, eb_job_word(place));
    else if (made)
        say("The record was made at %s. Who is to write into it gets the role einbau_technician: GRANT "
            "einbau_technician TO name\nNext: einbau fit --record '%s', or EINBAU_RECORD, or 'record:' in "
            "your own "
            "config.yaml",
            place, place);
    else
        say("The record is already at %s. Nothing was changed", place);
    return EXIT_AS_WANTED;
}

const struct command command_record_init = {
    .name = "record init",
    .arguments = "PLACE",
    .summary = "makes a record that several laptops share, on a PostgreSQL server",
    .help =
        "Makes a record: PLACE is postgresql://SERVER/DATABASE, or a folder. On a PostgreSQL server it makes "
        "the tables and the role einbau_technician, which may add "
        "to it and read it, but not change or delete what is there. Jobs of several laptops are then in one "
        "record, "
        "and what one of them works on is left alone by the others. Where the record is already, nothing is "
        "changed.\v"
        "Example:\n  einbau record init plant-record\n\n"
        "On a server PLACE is like postgresql://ward@record.example/plant. A password belongs into "
        "~/.pgpass, never into the address. TLS as libpq has it: PGSSLMODE, or "
        "?sslmode=verify-full in the address.",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run,
};
