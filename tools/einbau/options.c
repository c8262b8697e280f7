#include "options.h"

#include <einbau/einbau.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    KEY_SITE = 0x100,
    KEY_SIM,
    KEY_STATE,
    KEY_JSON,
    KEY_WITHOUT,
    KEY_IMAGE,
    KEY_ACCEPT,
    KEY_AGAIN,
    KEY_YES,
    KEY_LINK,
    KEY_LISTEN,
    KEY_COMMUNITY,
    KEY_WATCH,
    KEY_INTO,
    KEY_ADD_ADDRESS,
    KEY_UNDO,
    KEY_FOR
};

enum { SECONDS_MAX = 3600, BLINK_S = 10 };

static const struct argp_option common[] = {
    {"site", KEY_SITE, "FILE", 0, "the site file (or the variable EINBAU_SITE)", 1},
    {"sim", KEY_SIM, "WORLD", 0, "simulated hardware in place of the laptop's (or EINBAU_SIM)", 1},
    {"state", KEY_STATE, "DIR", 0, "where a simulated world keeps what it must remember (or EINBAU_STATE)",
     1},
    {"json", KEY_JSON, NULL, 0, "print one JSON document instead of text", 1},
    {0},
};
static const struct argp_option without[] = {
    {"without", KEY_WITHOUT, "NAME", 0, "leave this device out; may be given several times", 2},
    {0},
};
static const struct argp_option image[] = {
    {"image", KEY_IMAGE, "FILE", 0,
     "use this image, with its manifest FILE.json beside it, for the devices named", 2},
    {"accept", KEY_ACCEPT, "CODE", 0,
     "accept the findings with this code; never accepted: a wrong order-code, delivered-floor, size or "
     "digest",
     2},
    {"again", KEY_AGAIN, NULL, 0, "write also the version that runs already, to the devices named", 2},
    {0},
};
static const struct argp_option job[] = {
    {"yes", KEY_YES, NULL, 0, "do not ask before writing", 2},
    {0},
};

static const struct argp_option link_option[] = {
    {"link", KEY_LINK, "NAME", 0, "only this one of the laptop's links; else all wired ones", 2},
    {0},
};
static const struct argp_option survey[] = {
    {"listen", KEY_LISTEN, "SECONDS", 0, "listen at least that long; LLDP is told every 30 s", 2},
    {"community", KEY_COMMUNITY, "NAME", 0, "for SNMP, else public", 2},
    {"watch", KEY_WATCH, NULL, 0, "keep looking: what is new, changed, gone; ends with q", 2},
    {"into", KEY_INTO, "SITE", 0, "add what was found to this site file, where a profile fits", 2},
    {0},
};
static const struct argp_option address[] = {
    {"add-address", KEY_ADD_ADDRESS, NULL, 0,
     "give the laptop's links the addresses that are needed, and take them back at the end", 2},
    {0},
};
static const struct argp_option undo[] = {
    {"undo", KEY_UNDO, NULL, 0, "take back the addresses that were added and are still there", 2},
    {0},
};
static const struct argp_option duration[] = {
    {"for", KEY_FOR, "SECONDS", 0, "how long, else 10", 2},
    {0},
};

struct parsing {
    const struct command *command;
    struct options *options;
};

static void append(char ***list, size_t *count, char *text)
{
    char **more = realloc(*list, (*count + 1) * sizeof **list);
    if (more == NULL)
        abort();
    *list = more;
    more[(*count)++] = text;
}

static void accept_code(struct argp_state *state, struct options *options, const char *code)
{
    enum eb_rule rule;
    if (!eb_rule_read(code, &rule))
        argp_error(state,
                   "--accept: found '%s', expected one of: order-code, hardware-revision, running-version, "
                   "least-running, delivered-floor",
                   code);
    else
        options->accepted |= 1U << rule;
}

static unsigned seconds(struct argp_state *state, const char *option, const char *text)
{
    uint64_t number;
    if (!eb_text_number(text, strlen(text), &number) || number < 1 || number > SECONDS_MAX)
        argp_error(state, "%s: found '%s', expected seconds from 1 to %d", option, text, SECONDS_MAX);
    return (unsigned)number;
}

static error_t parse(int key, char *argument, struct argp_state *state)
{
    const struct parsing *parsing = state->input;
    struct options *o = parsing->options;
    switch (key) {
    case KEY_SITE:
        o->site = argument;
        break;
    case KEY_SIM:
        o->sim = argument;
        break;
    case KEY_STATE:
        o->state = argument;
        break;
    case KEY_JSON:
        o->json = true;
        break;
    case KEY_WITHOUT:
        append(&o->without, &o->without_count, argument);
        break;
    case KEY_IMAGE:
        o->image = argument;
        break;
    case KEY_ACCEPT:
        accept_code(state, o, argument);
        break;
    case KEY_AGAIN:
        o->again = true;
        break;
    case KEY_YES:
        o->yes = true;
        break;
    case KEY_LINK:
        o->link = argument;
        break;
    case KEY_LISTEN:
        o->listen_s = seconds(state, "--listen", argument);
        break;
    case KEY_COMMUNITY:
        o->community = argument;
        break;
    case KEY_WATCH:
        o->watch = true;
        break;
    case KEY_INTO:
        o->into = argument;
        break;
    case KEY_ADD_ADDRESS:
        o->add_address = true;
        break;
    case KEY_UNDO:
        o->undo = true;
        break;
    case KEY_FOR:
        o->for_s = seconds(state, "--for", argument);
        break;
    case ARGP_KEY_ARG:
        if ((parsing->command->takes & TAKES_ASSIGNMENTS) != 0 && o->name_count > 0) {
            append(&o->assignments, &o->assignment_count, argument);
            break;
        }
        append(&o->names, &o->name_count, argument);
        break;
    case ARGP_KEY_END:
        if ((parsing->command->takes & NEEDS_ONE_DEVICE) != 0 && o->name_count != 1)
            argp_error(state, "found %zu device names, expected one", o->name_count);
        if (o->watch && o->json)
            argp_error(state, "--watch: found --json, expected one of them");
        if (o->into != NULL && (o->watch || o->name_count > 0))
            argp_error(state, "--into: found --watch or device names, expected neither");
        if (o->again && o->name_count == 0)
            argp_error(state, "--again: found no device names, expected those to write again");
        if (o->image != NULL && o->name_count == 0)
            argp_error(state, "--image: found no device names, expected those that it is for");
        break;
    default:
        return ARGP_ERR_UNKNOWN;
    }
    return 0;
}

static const char *from_environment(const char *given, const char *name)
{
    const char *value = given != NULL ? given : getenv(name);
    return value != NULL && value[0] != '\0' ? value : NULL;
}

void options_read(const struct command *command, int argc, char **argv, struct options *options)
{
    struct argp_option all[24] = {0};
    size_t count = 0;
    static const struct {
        unsigned takes;
        const struct argp_option *list;
    } groups[] = {{TAKES_LINK, link_option}, {TAKES_SURVEY, survey}, {TAKES_FOR, duration},
                  {TAKES_WITHOUT, without},  {TAKES_IMAGE, image},   {TAKES_JOB, job},
                  {TAKES_ADDRESS, address},  {TAKES_UNDO, undo}};
    for (const struct argp_option *o = common; o->name != NULL; o++)
        all[count++] = *o;
    for (size_t g = 0; g < sizeof groups / sizeof groups[0]; g++) {
        for (const struct argp_option *o = groups[g].list;
             (command->takes & groups[g].takes) != 0 && o->name != NULL; o++)
            all[count++] = *o;
    }
    const struct argp argp = {
        .options = all, .parser = parse, .args_doc = command->arguments, .doc = command->help};
    struct parsing parsing = {command, options};
    char name[64];
    memset(options, 0, sizeof *options);
    options->for_s = BLINK_S;
    snprintf(name, sizeof name, "einbau %s", command->name);
    argv[0] = name;
    argp_err_exit_status = EXIT_WRONG_CALL;
    argp_parse(&argp, argc, argv, 0, NULL, &parsing);
    options->site_optional = (command->takes & SITE_OPTIONAL) != 0;
    options->site = from_environment(options->site, "EINBAU_SITE");
    options->sim = from_environment(options->sim, "EINBAU_SIM");
    options->state = from_environment(options->state, "EINBAU_STATE");
}

void options_free(struct options *options)
{
    free(options->names);
    free(options->without);
    free(options->assignments);
}
