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
    KEY_YES
};

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
    case ARGP_KEY_ARG:
        append(&o->names, &o->name_count, argument);
        break;
    case ARGP_KEY_END:
        if ((parsing->command->takes & NEEDS_ONE_DEVICE) != 0 && o->name_count != 1)
            argp_error(state, "found %zu device names, expected one", o->name_count);
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
    struct argp_option all[16] = {0};
    size_t count = 0;
    const struct argp_option *const lists[] = {common, (command->takes & TAKES_WITHOUT) != 0 ? without : NULL,
                                               (command->takes & TAKES_IMAGE) != 0 ? image : NULL,
                                               (command->takes & TAKES_JOB) != 0 ? job : NULL};
    for (size_t l = 0; l < sizeof lists / sizeof lists[0]; l++) {
        for (const struct argp_option *o = lists[l]; o != NULL && o->name != NULL; o++)
            all[count++] = *o;
    }
    const struct argp argp = {
        .options = all, .parser = parse, .args_doc = command->arguments, .doc = command->help};
    struct parsing parsing = {command, options};
    char name[64];
    memset(options, 0, sizeof *options);
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
}
