#include "session/options.h"
#include "session/config.h"
#include "../../in_full.h"

#include <ctype.h>
#include <einbau/einbau.h>
#include <einbau/job.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    KEY_FIRST = 0x100,
    SECONDS_MAX = 3600,
    SHARED = 3,
    TRIALS = 9 /* groups of options, behind those that a command has alone */
};

/* Those that every command has. */
static const struct option_row common[] = {
    {"site", "FILE",
     "the site file (or the variable EINBAU_SITE, or the one *.site.yaml in this folder or above it)", SHARED,
     OPTION_TEXT, .to = OPTION_TO(site)},
    {"sim", "WORLD", "simulated hardware in place of the laptop's (or EINBAU_SIM)", TRIALS, OPTION_TEXT,
     .to = OPTION_TO(sim)},
    {"state", "DIR", "where a simulated world keeps what it must remember (or EINBAU_STATE)", TRIALS,
     OPTION_TEXT, .to = OPTION_TO(state)},
    {"record", "PLACE",
     "where the record of jobs is (or EINBAU_RECORD): a folder, or postgresql://SERVER/DATABASE; else the "
     "user's "
     "own, or that of --state",
     SHARED, OPTION_TEXT, .to = OPTION_TO(record)},
    {"shelf", "DIR", "the shelf of images (or EINBAU_SHELF), else the user's own", SHARED, OPTION_TEXT,
     .to = OPTION_TO(shelf)},
    {"trace", "FILE", "write all that passes on every link to FILE (pcapng)", TRIALS, OPTION_TEXT,
     .to = OPTION_TO(trace)},
    {"json", NULL, "print one JSON document instead of text", SHARED, OPTION_FLAG, .to = OPTION_TO(json)},
};
enum { COMMON = sizeof common / sizeof common[0] };

static void append(char ***list, size_t *count, char *text)
{
    char **more = realloc(*list, (*count + 1) * sizeof **list);
    if (more == NULL)
        abort();
    *list = more;
    more[(*count)++] = text;
}

/* --accept DEVICE:CODE, or only CODE. */
static void accept_code(struct argp_state *state, struct options *options, char *text)
{
    char *colon = strrchr(text, ':');
    const char *code = colon != NULL ? colon + 1 : text;
    static const char *const others[] = {"certificate", "plain-password", "stated"};
    enum eb_rule rule = EB_RULES;
    unsigned other = 0;
    for (unsigned i = 0; i < 3; i++)
        other |= strcmp(code, others[i]) == 0 ? 1U << i : 0;
    if (other == 0 && !eb_rule_read(code, &rule)) {
        static const char *const codes[] = {
            "order-code",    "hardware-revision", "loader-version",  "running-version",
            "least-running", "delivered-floor",   "gateway-version", "companion",
            "certificate",   "plain-password",    "stated"};
        char meant[EB_NEAREST_BYTES];
        struct eb_nearest near = eb_nearest_begin(code);
        for (size_t i = 0; i < sizeof codes / sizeof codes[0]; i++)
            eb_nearest_offer(&near, codes[i]);
        argp_error(state,
                   "--accept: found '%s', expected DEVICE: and one of: order-code, hardware-revision, "
                   "loader-version, running-version, least-running, delivered-floor, gateway-version, "
                   "companion, certificate, plain-password, stated%s",
                   text, eb_nearest_text(&near, meant));
        return;
    }
    struct accepted *more = realloc(options->accepted, (options->accepted_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    options->accepted = more;
    if (colon != NULL)
        *colon = '\0';
    more[options->accepted_count++] =
        (struct accepted){colon != NULL ? text : NULL, other == 0 ? 1U << rule : 0, other};
}

/* --only MARK,MARK */
static void only_marks(struct argp_state *state, struct options *options, char *text)
{
    static const char *const marks[] = {"current",    "outdated",    "newer",    "differs",
                                        "unreadable", "unreachable", "in-loader"};
    enum { MARKS = sizeof marks / sizeof marks[0] };
    char meant[EB_NEAREST_BYTES];
    char *rest;
    for (char *word = strtok_r(text, ",", &rest); word != NULL; word = strtok_r(NULL, ",", &rest)) {
        struct eb_nearest near = eb_nearest_begin(word);
        for (size_t i = 0; i < MARKS; i++)
            eb_nearest_offer(&near, marks[i]);
        if (near.best == NULL || strcmp(near.best, word) != 0)
            argp_error(state,
                       "--only: found '%s', expected current, outdated, newer, differs, unreadable, "
                       "unreachable or in-loader, or several of them with commas between%s",
                       word, eb_nearest_text(&near, meant));
        append((char ***)(void *)&options->only, &options->only_count, (char *)near.best);
    }
    if (options->only_count == 0) /* not all devices, where none are named */
        argp_error(state, "--only: found nothing, expected a mark like outdated");
}

const struct option_row option_only = {
    "only",
    "MARK",
    "only devices of which something is this, once they were looked at: current, outdated, newer, "
    "differs, unreadable, unreachable, in-loader; or several with commas between",
    2,
    OPTION_READ,
    .read = only_marks};
const struct option_row option_without = {
    "without",
    "DEVICE",
    "leave this device out, or all that the pattern stands for; may be given several times",
    2,
    OPTION_LIST,
    .to = OPTION_TO(without),
    .count = OPTION_TO(without_count)};
const struct option_row option_image = {"image",
                                        "FILE",
                                        "use this image for the devices named: a file with its manifest "
                                        "FILE.json beside it, or one of the shelf by its number",
                                        2,
                                        OPTION_TEXT,
                                        .to = OPTION_TO(image)};
const struct option_row option_accept = {
    "accept",
    "DEVICE:CODE",
    "accept what this rule finds on this device; where one device is named, the code is enough. Never "
    "accepted: a wrong order-code, delivered-floor, capacity, size, digest or signature. Besides rules: "
    "'certificate', a new one of its web server; 'plain-password', a login without TLS; 'stated', what "
    "a person read off the device",
    2,
    OPTION_READ,
    .read = accept_code};
const struct option_row option_again = {
    "again", NULL,        "write also the version that runs already, to the devices named",
    2,       OPTION_FLAG, .to = OPTION_TO(again)};
const struct option_row option_yes = {"yes", NULL,        "do not ask before writing",
                                      2,     OPTION_FLAG, .to = OPTION_TO(yes)};
const struct option_row option_link = {
    "link", "NAME",      "only this one of the laptop's links; else all wired ones",
    2,      OPTION_TEXT, .to = OPTION_TO(link)};
const struct option_row option_add_address = {
    "add-address",
    NULL,
    "give the laptop's links the addresses that are needed, and take them back at the end",
    2,
    OPTION_FLAG,
    .to = OPTION_TO(add_address)};
const struct option_row option_explain = {
    "explain", NULL,        "every rule's answer, also of those that hold",
    2,         OPTION_FLAG, .to = OPTION_TO(explain)};
const struct option_row option_profiles = {
    "profiles", "DIR",       "the profiles that bare images are recognised by, else the site's",
    2,          OPTION_TEXT, .to = OPTION_TO(profiles)};
const struct option_row option_profile = {
    "profile", "NAME",      "what the one file is for that is not recognised: its product's profile",
    2,         OPTION_TEXT, .to = OPTION_TO(profile)};
const struct option_row option_component = {"component", "NAME",      "the component that the image is for",
                                            2,           OPTION_TEXT, .to = OPTION_TO(component)};
const struct option_row option_version = {"version", "TEXT",      "its version",
                                          2,         OPTION_TEXT, .to = OPTION_TO(version)};
const struct option_row option_revisions = {
    "revisions", "LIST",      "its hardware revisions, like 2..5 or B1,B2; else they are not known",
    2,           OPTION_TEXT, .to = OPTION_TO(revisions)};
const struct option_row option_to = {"to", "PATH", "where it goes", 2, OPTION_TEXT, .to = OPTION_TO(to)};

struct parsing {
    const struct command *command;
    struct options *options;
    const struct option_row *rows[OPTION_ROWS_MAX];
    size_t count;
};

void column_word(const char *head, char word[EB_NAME_BYTES])
{
    size_t i = 0;
    for (; head[i] != '\0' && i + 1 < EB_NAME_BYTES; i++)
        word[i] = (char)(head[i] == ' ' ? '-' : tolower((unsigned char)head[i]));
    word[i] = '\0';
}

/* --columns and --sort: names of columns with commas between. */
static void take_columns(struct argp_state *state, const char *option, char *text,
                         size_t list[TABLE_COLUMNS_MAX], size_t *count)
{
    const char *const *heads = ((const struct parsing *)state->input)->command->heads;
    char words[TABLE_COLUMNS_MAX][EB_NAME_BYTES];
    char all[TABLE_COLUMNS_MAX * (EB_NAME_BYTES + 2)] = "";
    char meant[EB_NEAREST_BYTES];
    char *rest;
    size_t columns = 0;
    for (; heads[columns] != NULL; columns++) {
        column_word(heads[columns], words[columns]);
        snprintf(all + strlen(all), sizeof all - strlen(all), "%s%s", columns > 0 ? ", " : "",
                 words[columns]);
    }
    *count = 0;
    for (char *word = strtok_r(text, ",", &rest); word != NULL; word = strtok_r(NULL, ",", &rest)) {
        struct eb_nearest near = eb_nearest_begin(word);
        size_t at = columns;
        for (size_t i = 0; i < columns; i++) {
            eb_nearest_offer(&near, words[i]);
            at = strcmp(words[i], word) == 0 ? i : at;
        }
        if (at == columns)
            argp_error(state, "--%s: found '%s', expected one or several of %s, with commas between%s",
                       option, word, all, eb_nearest_text(&near, meant));
        if (at < columns && *count < TABLE_COLUMNS_MAX)
            list[(*count)++] = at;
    }
    if (*count == 0)
        argp_error(state, "--%s: found nothing, expected one or several of %s", option, all);
}

static void read_columns(struct argp_state *state, struct options *options, char *text)
{
    take_columns(state, "columns", text, options->wish.shown, &options->wish.shown_count);
}

static void read_sort(struct argp_state *state, struct options *options, char *text)
{
    take_columns(state, "sort", text, options->wish.sort, &options->wish.sort_count);
}

const struct option_row option_columns = {
    "columns", "NAME,NAME", "only these columns of the table, in this order",
    2,         OPTION_READ, .read = read_columns};
const struct option_row option_sort = {
    "sort", "NAME,NAME", "the rows by these columns, numbers in them by their size",
    2,      OPTION_READ, .read = read_sort};

const struct option_row option_unfold = {
    "unfold", NULL,        "each row by itself; on a terminal a series of like ones is one row: door-01..07",
    2,        OPTION_FLAG, .to = OPTION_TO(unfolded)};

static unsigned seconds(struct argp_state *state, const char *name, const char *text)
{
    uint64_t number;
    if (!eb_text_number(text, strlen(text), &number) || number < 1 || number > SECONDS_MAX)
        argp_error(state, "--%s: found '%s', expected seconds from 1 to %d", name, text, SECONDS_MAX);
    return (unsigned)number;
}

static void take(struct argp_state *state, struct options *o, const struct option_row *row, char *text)
{
    char *to = row->own != NULL ? row->own : (char *)o + row->to;
    char *count = row->own_count != NULL ? (char *)row->own_count : (char *)o + row->count;
    switch (row->kind) {
    case OPTION_TEXT:
        *(const char **)(void *)to = text;
        break;
    case OPTION_FLAG:
        *(bool *)to = true;
        break;
    case OPTION_SECONDS:
        *(unsigned *)(void *)to = seconds(state, row->name, text);
        break;
    case OPTION_LIST:
        append((char ***)(void *)to, (size_t *)(void *)count, text);
        break;
    case OPTION_READ:
        row->read(state, o, text);
        break;
    }
}

/* What holds for all commands that have the options. */
static void check(struct argp_state *state, const struct options *o, const struct command *command)
{
    unsigned takes = command->takes;
    if ((takes & NEEDS_ONE_DEVICE) != 0 && o->name_count != 1)
        argp_error(state, "found %zu device names, expected one", o->name_count);
    if ((takes & NEEDS_ONE) != 0 && o->name_count != 1)
        argp_error(state, "found %zu names, expected one", o->name_count);
    if ((takes & TAKES_NO_NAMES) != 0 && o->name_count > 0)
        argp_error(state, "this command takes no names");
    if ((takes & NEEDS_NAMES) != 0 && o->name_count == 0)
        argp_error(state, "found no names, expected at least one");
    if (o->again && o->name_count == 0)
        argp_error(state, "--again: found no device names, expected those to write again");
    for (size_t i = 0; i < o->accepted_count; i++) {
        if (o->accepted[i].device == NULL && o->name_count != 1)
            argp_error(state,
                       "--accept: found a code for %zu named devices, expected DEVICE:CODE: a code alone "
                       "goes only with one device named",
                       o->name_count);
    }
    if (o->image != NULL && o->name_count == 0)
        argp_error(state, "--image: found no device names, expected those that it is for");
    for (size_t i = 0; command->options != NULL && command->options[i] != NULL; i++) {
        if (command->options[i] == &option_to && o->to == NULL)
            argp_error(state, "found no --to, expected where it goes");
    }
    if (command->check != NULL)
        command->check(state, o);
}

static error_t parse(int key, char *argument, struct argp_state *state)
{
    const struct parsing *parsing = state->input;
    struct options *o = parsing->options;
    if (key >= KEY_FIRST && (size_t)(key - KEY_FIRST) < parsing->count) {
        take(state, o, parsing->rows[key - KEY_FIRST], argument);
        return 0;
    }
    if (key == ARGP_KEY_ARG && (parsing->command->takes & TAKES_ASSIGNMENTS) != 0 && o->name_count > 0)
        append(&o->assignments, &o->assignment_count, argument);
    else if (key == ARGP_KEY_ARG)
        append(&o->names, &o->name_count, argument);
    else if (key == ARGP_KEY_END)
        check(state, o, parsing->command);
    else
        return ARGP_ERR_UNKNOWN;
    return 0;
}

size_t options_of(const struct command *command, const struct option_row *rows[OPTION_ROWS_MAX])
{
    _Static_assert(OPTIONS_MAX + COMMON <= OPTION_ROWS_MAX, "all have room");
    size_t count = 0;
    for (size_t i = 0; command->options != NULL && command->options[i] != NULL && i < OPTIONS_MAX; i++)
        rows[count++] = command->options[i];
    for (size_t i = 0; i < COMMON; i++)
        rows[count++] = &common[i];
    return count;
}

/* The call, as a shell takes it, for the record; none of our options is a secret. */
static void put_words(char *to, size_t cap, const char *name, int argc, char **argv)
{
    size_t at = (size_t)snprintf(to, cap, "einbau %s", name);
    for (int i = 1; i < argc && at < cap; i++)
        at += (size_t)snprintf(to + at, cap - at, " %s", eb_job_word(argv[i]));
}

void options_read(const struct command *command, int argc, char **argv, struct options *options)
{
    struct argp_option all[OPTION_ROWS_MAX + 2] = {0};
    struct parsing parsing = {.command = command, .options = options};
    parsing.count = options_of(command, parsing.rows);
    for (size_t i = 0; i < parsing.count; i++) {
        const struct option_row *row = parsing.rows[i];
        all[i] = (struct argp_option){row->name, KEY_FIRST + (int)i, row->argument, 0, row->help, row->group};
    }
    all[parsing.count] = (struct argp_option){.doc = "Options for trials:", .group = TRIALS};
    const struct argp argp = {
        .options = all, .parser = parse, .args_doc = command->arguments, .doc = command->help};
    char name[64];
    memset(options, 0, sizeof *options);
    snprintf(name, sizeof name, "einbau%s%s", command->name[0] != '\0' ? " " : "", command->name);
    put_words(options->words, sizeof options->words, command->name, argc, argv);
    argv[0] = name;
    argp_err_exit_status = EXIT_WRONG_CALL;
    snprintf(name, sizeof name, "einbau%s%s", command->name[0] != '\0' ? " " : "", command->name);
    options_in_full(all, name, argc, argv);
    argp_parse(&argp, argc, argv, 0, NULL, &parsing);
    options->command = command->name;
    options->names_devices = (command->takes & NAMES_DEVICES) != 0 && options->name_count > 0;
    options->site_optional = (command->takes & SITE_OPTIONAL) != 0;
    if (!config_apply(options))
        exit(EXIT_WRONG_CALL);
}

void options_free(struct options *options)
{
    free(options->accepted);
    free(options->names);
    free(options->without);
    free(options->only);
    free(options->step_done);
    free(options->assignments);
}
