/* What a site needs of the shelf: told (cover), or taken along (copy). */
#include "report/covering.h"

#include <stdio.h>
#include <string.h>

static void print_rows(const struct covering *c)
{
    static const char *const heads[] = {"DEVICE", "ORDER CODE", "COMPONENT", "WANTED",
                                        "SHELF",  "IMAGE",      "NOTE"};
    static const char *const keys[] = {"device", "order_code", "component", "wanted",
                                       "state",  "image",      "note"};
    enum { COLUMNS = sizeof keys / sizeof keys[0] };
    struct table table;
    size_t i;
    const json_t *row;
    table_begin(&table, COLUMNS, heads);
    for (i = 0; (row = json_array_get(c->rows, i)) != NULL; i++) {
        const char *cells[COLUMNS];
        for (size_t k = 0; k < COLUMNS; k++)
            cells[k] = json_string_value(json_object_get(row, keys[k]));
        table_add(&table, cells);
    }
    table_print(&table);
}

static bool open_for_site(struct session *s, const struct options *options, struct options *own)
{
    *own = *options;
    if (options->name_count > 0) {
        own->site = options->names[0];
        own->name_count = 0;
    }
    if (own->site == NULL) {
        complain("found no site, expected one: einbau %s SITE, --site FILE, or the variable EINBAU_SITE",
                 "shelf cover");
        memset(s, 0, sizeof *s);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return session_open_office(s, own, SHELF_IF_THERE);
}

static int run_cover(const struct options *options)
{
    struct session s;
    struct options own;
    struct covering c;
    if (!open_for_site(&s, options, &own))
        return session_close(&s, s.status);
    bool ok = cover(&c, &s);
    if (options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:O, s:I}", "einbau", "shelf-cover/1", "shelf",
                                 s.shelf_folder, "site", s.job->site->name, "wanted", c.rows, "lacking",
                                 (json_int_t)c.lacking));
    } else if (c.wanted == 0) {
        say("%s wants nothing: no device has the key 'wants'.", s.job->site->name);
    } else {
        print_rows(&c);
        if (c.lacking == 0)
            say("\n%s: the shelf has all %zu that are wanted, in %zu image%s", s.job->site->name, c.wanted,
                c.number_count, c.number_count == 1 ? "" : "s");
        else
            say("\n%s: %zu of %zu lacking; the shelf is %s", s.job->site->name, c.lacking, c.wanted,
                s.shelf_folder);
    }
    int status = !ok ? s.status : c.lacking > 0 ? EXIT_NOT_AS_WANTED : EXIT_AS_WANTED;
    covering_free(&c);
    return session_close(&s, status);
}

static int run_copy(const struct options *options)
{
    struct session s;
    struct options own;
    struct covering c;
    size_t copied = 0;
    if (!open_for_site(&s, options, &own))
        return session_close(&s, s.status);
    bool ok = cover(&c, &s);
    int status = ok ? c.lacking > 0 ? EXIT_NOT_AS_WANTED : EXIT_AS_WANTED : s.status;
    if (ok && s.job->shelf != NULL &&
        !eb_shelf_copy(s.job->shelf, options->to, c.numbers, c.number_count, &copied, &s.job->problem)) {
        complain("%s. Nothing was copied", s.job->problem.text);
        status = EXIT_WRONG_CALL;
    } else if (options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:s, s:I, s:I, s:I}", "einbau", "shelf-copy/1", "shelf",
                                 s.shelf_folder, "site", s.job->site->name, "to", options->to, "images",
                                 (json_int_t)c.number_count, "copied", (json_int_t)copied, "lacking",
                                 (json_int_t)c.lacking));
    } else {
        printf("%s: %zu image%s needed, %zu copied to %s, %zu there already; %zu missing%s\n",
               s.job->site->name, c.number_count, c.number_count == 1 ? "" : "s", copied, options->to,
               c.number_count - copied, c.lacking, c.lacking > 0 ? ": 'einbau shelf cover' names them" : "");
    }
    covering_free(&c);
    return session_close(&s, status);
}

const struct command command_shelf_cover = {
    .name = "shelf cover",
    .arguments = "[SITE]",
    .summary = "what a site wants, and whether the shelf has it",
    .help = "Says in the office, without any wire, for each device of a site whether the shelf has the "
            "images for what it should run, those on the way there included, by what the site says of the "
            "devices and what they reported when they were last seen.\v"
            "Example:\n  einbau shelf cover larchfell.site.yaml\n\n"
            "Exit status 1 where something is missing.",
    .takes = SITE_OPTIONAL,
    .run = run_cover,
};

static const struct option_row *const copy_options[] = {&option_to, NULL};

const struct command command_shelf_copy = {
    .name = "shelf copy",
    .arguments = "[SITE]",
    .summary = "takes what a site needs to another shelf",
    .help = "Copies the images that a site needs, those on the way there included, to another shelf, which "
            "is made where it is missing: a memory stick, or another laptop's. Each is checked against its "
            "digest on the way.\v"
            "Example:\n  einbau shelf copy larchfell.site.yaml --to stick/shelf\n\n"
            "Exit status 1 where something is missing.",
    .takes = SITE_OPTIONAL,
    .options = copy_options,
    .run = run_copy,
};
