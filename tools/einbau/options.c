#include "options.h"
#include "../in_full.h"

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
    KEY_FOR,
    KEY_SHELF,
    KEY_PROFILES,
    KEY_PROFILE,
    KEY_COMPONENT,
    KEY_VERSION,
    KEY_REVISIONS,
    KEY_FOR_DEVICE,
    KEY_ALL,
    KEY_TO,
    KEY_MANIFEST,
    KEY_SIGN,
    KEY_NOTES,
    KEY_MAKER,
    KEY_PRODUCT,
    KEY_RELEASED,
    KEY_FLOOR,
    KEY_LEAST_RUNNING,
    KEY_LEAST_LOADER,
    KEY_LEAST_GATEWAY,
    KEY_ORDER_CODE,
    KEY_COMPANION,
    KEY_EXPLAIN,
    KEY_TRACE,
    KEY_BUS,
    KEY_BIT_RATE
};

enum { SECONDS_MAX = 3600, BLINK_S = 10 };

static const struct argp_option common[] = {
    {"site", KEY_SITE, "FILE", 0, "the site file (or the variable EINBAU_SITE)", 1},
    {"sim", KEY_SIM, "WORLD", 0, "simulated hardware in place of the laptop's (or EINBAU_SIM)", 1},
    {"state", KEY_STATE, "DIR", 0, "where a simulated world keeps what it must remember (or EINBAU_STATE)",
     1},
    {"shelf", KEY_SHELF, "DIR", 0, "the shelf of images (or EINBAU_SHELF), else the user's own", 1},
    {"trace", KEY_TRACE, "FILE", 0, "write all that passes on every link to FILE (pcapng)", 1},
    {"json", KEY_JSON, NULL, 0, "print one JSON document instead of text", 1},
    {0},
};
static const struct argp_option without[] = {
    {"without", KEY_WITHOUT, "NAME", 0, "leave this device out; may be given several times", 2},
    {0},
};
static const struct argp_option image[] = {
    {"image", KEY_IMAGE, "FILE", 0,
     "use this image for the devices named: a file with its manifest FILE.json beside it, or one of the "
     "shelf by its number",
     2},
    {"accept", KEY_ACCEPT, "DEVICE:CODE", 0,
     "accept what this rule finds on this device; where one device is named, the code is enough. Never "
     "accepted: a wrong order-code, delivered-floor, capacity, size, digest or signature",
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
    {"listen", KEY_LISTEN, "SECONDS", 0,
     "listen for at least that long; LLDP devices announce themselves every 30 s", 2},
    {"community", KEY_COMMUNITY, "NAME", 0, "for SNMP, else public", 2},
    {"watch", KEY_WATCH, NULL, 0, "keep looking: what is new, changed, gone; ends with q", 2},
    {"bus", KEY_BUS, "ADAPTER", 0,
     "without a site: only the CAN bus at this interface, or this serial adapter's file", 2},
    {"bit-rate", KEY_BIT_RATE, "BIT/S", 0, "of that bus", 2},
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

static const struct argp_option profiles[] = {
    {"profiles", KEY_PROFILES, "DIR", 0, "the profiles that bare images are recognised by, else the site's",
     2},
    {0},
};
static const struct argp_option said[] = {
    {"profile", KEY_PROFILE, "NAME", 0,
     "what the one file is for that is not recognised: its product's profile", 2},
    {"component", KEY_COMPONENT, "NAME", 0, "its component", 2},
    {"version", KEY_VERSION, "TEXT", 0, "its version", 2},
    {"revisions", KEY_REVISIONS, "LIST", 0,
     "its hardware revisions, like 2..5 or B1,B2; else they are not known", 2},
    {0},
};
static const struct argp_option list_option[] = {
    {"for", KEY_FOR_DEVICE, "DEVICE", 0, "only what fits this device of the site, newest first", 2},
    {"all", KEY_ALL, NULL, 0, "with --for: the others too, with the reason", 2},
    {0},
};
static const struct argp_option to[] = {
    {"to", KEY_TO, "PATH", 0, "where it goes", 2},
    {0},
};
static const struct argp_option pack[] = {
    {"manifest", KEY_MANIFEST, "FILE", 0, "all that is said of the images, in place of the options below", 2},
    {"sign", KEY_SIGN, "KEY", 0, "sign the package with this private key (einbau key new)", 2},
    {"component", KEY_COMPONENT, "NAME", 0, "the component that the image is for", 3},
    {"version", KEY_VERSION, "TEXT", 0, "its version", 3},
    {"order-code", KEY_ORDER_CODE, "PATTERN", 0, "the devices that it is for; may be given several times", 3},
    {"revisions", KEY_REVISIONS, "LIST", 0, "their hardware revisions, like 2..5 or B1,B2", 3},
    {"least-running", KEY_LEAST_RUNNING, "TEXT", 0, "the least version that it may follow", 3},
    {"least-loader", KEY_LEAST_LOADER, "TEXT", 0, "the least version of the loader", 3},
    {"least-gateway", KEY_LEAST_GATEWAY, "TEXT", 0, "the least version of a gateway on the way", 3},
    {"companion", KEY_COMPANION, "ROLE:LEAST[:ORDER]", 0,
     "the least version of something else on the site; may be given several times", 3},
    {"floor", KEY_FLOOR, "TEXT", 0, "these devices must never get an older version", 3},
    {"maker", KEY_MAKER, "TEXT", 0, "who made it", 4},
    {"product", KEY_PRODUCT, "TEXT", 0, "for which product", 4},
    {"released", KEY_RELEASED, "DATE", 0, "when, like 2026-09-18", 4},
    {"notes", KEY_NOTES, "FILE", 0, "a text with the notes", 4},
    {0},
};
static const struct argp_option explain[] = {
    {"explain", KEY_EXPLAIN, NULL, 0, "every rule's answer, also of those that hold", 2},
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

/* --accept DEVICE:CODE, or only CODE. */
static void accept_code(struct argp_state *state, struct options *options, char *text)
{
    char *colon = strrchr(text, ':');
    const char *code = colon != NULL ? colon + 1 : text;
    enum eb_rule rule;
    if (!eb_rule_read(code, &rule)) {
        argp_error(
            state,
            "--accept: found '%s', expected DEVICE: and one of: order-code, hardware-revision, "
            "loader-version, running-version, least-running, delivered-floor, gateway-version, companion",
            text);
        return;
    }
    struct accepted *more = realloc(options->accepted, (options->accepted_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    options->accepted = more;
    if (colon != NULL)
        *colon = '\0';
    more[options->accepted_count++] = (struct accepted){colon != NULL ? text : NULL, 1U << rule};
}

static unsigned seconds(struct argp_state *state, const char *option, const char *text)
{
    uint64_t number;
    if (!eb_text_number(text, strlen(text), &number) || number < 1 || number > SECONDS_MAX)
        argp_error(state, "%s: found '%s', expected seconds from 1 to %d", option, text, SECONDS_MAX);
    return (unsigned)number;
}

static unsigned bit_rate(struct argp_state *state, const char *text)
{
    uint64_t number;
    if (!eb_text_number(text, strlen(text), &number) || number < 5000 || number > 1000000)
        argp_error(state, "--bit-rate: found '%s', expected bit/s from 5000 to 1000000", text);
    return (unsigned)number;
}

/* Options whose argument is a text to be kept; NULL: another one. */
static const char **text_of(struct options *o, int key)
{
    switch (key) {
    case KEY_SITE:
        return &o->site;
    case KEY_SIM:
        return &o->sim;
    case KEY_STATE:
        return &o->state;
    case KEY_SHELF:
        return &o->shelf;
    case KEY_IMAGE:
        return &o->image;
    case KEY_TRACE:
        return &o->trace;
    case KEY_BUS:
        return &o->bus;
    case KEY_LINK:
        return &o->link;
    case KEY_COMMUNITY:
        return &o->community;
    case KEY_INTO:
        return &o->into;
    case KEY_PROFILES:
        return &o->profiles;
    case KEY_PROFILE:
        return &o->profile;
    case KEY_COMPONENT:
        return &o->component;
    case KEY_VERSION:
        return &o->version;
    case KEY_REVISIONS:
        return &o->revisions;
    case KEY_FOR_DEVICE:
        return &o->for_device;
    case KEY_TO:
        return &o->to;
    case KEY_MANIFEST:
        return &o->manifest;
    case KEY_SIGN:
        return &o->sign;
    case KEY_NOTES:
        return &o->notes;
    case KEY_MAKER:
        return &o->maker;
    case KEY_PRODUCT:
        return &o->product;
    case KEY_RELEASED:
        return &o->released;
    case KEY_FLOOR:
        return &o->floor;
    case KEY_LEAST_RUNNING:
        return &o->least_running;
    case KEY_LEAST_LOADER:
        return &o->least_loader;
    case KEY_LEAST_GATEWAY:
        return &o->least_gateway;
    default:
        return NULL;
    }
}

/* What cannot go together, or is missing. */
static void check(struct argp_state *state, const struct options *o, unsigned takes)
{
    if ((takes & NEEDS_ONE_DEVICE) != 0 && o->name_count != 1)
        argp_error(state, "found %zu device names, expected one", o->name_count);
    if ((takes & NEEDS_ONE) != 0 && o->name_count != 1)
        argp_error(state, "found %zu names, expected one", o->name_count);
    if ((takes & TAKES_NO_NAMES) != 0 && o->name_count > 0)
        argp_error(state, "this command takes no names");
    if ((takes & NEEDS_NAMES) != 0 && o->name_count == 0)
        argp_error(state, "found no names, expected at least one");
    if (o->watch && o->json)
        argp_error(state, "--watch: found --json, expected one of them");
    if (o->bit_rate != 0 && o->bus == NULL)
        argp_error(state, "--bit-rate: found no --bus, expected both");
    if (o->bus != NULL && (o->watch || o->into != NULL || o->name_count > 0))
        argp_error(state, "--bus: found --watch, --into or device names, expected none of them");
    if (o->into != NULL && (o->watch || o->name_count > 0))
        argp_error(state, "--into: found --watch or device names, expected neither");
    if (o->again && o->name_count == 0)
        argp_error(state, "--again: found no device names, expected those to write again");
    for (size_t i = 0; i < o->accepted_count; i++) {
        if (o->accepted[i].device == NULL && o->name_count != 1)
            argp_error(
                state,
                "--accept: found a code for %zu named devices, expected DEVICE:CODE: a code alone goes "
                "only with one device named",
                o->name_count);
    }
    if (o->image != NULL && o->name_count == 0)
        argp_error(state, "--image: found no device names, expected those that it is for");
    if (o->all && o->for_device == NULL)
        argp_error(state, "--all: found no --for DEVICE, expected it");
    if ((takes & TAKES_SAID) != 0 &&
        ((o->profile != NULL) != (o->component != NULL) || (o->component != NULL) != (o->version != NULL)))
        argp_error(state, "found only some of --profile, --component and --version, expected all three");
    if ((takes & TAKES_TO) != 0 && o->to == NULL)
        argp_error(state, "found no --to, expected where it goes");
}

static error_t parse(int key, char *argument, struct argp_state *state)
{
    const struct parsing *parsing = state->input;
    struct options *o = parsing->options;
    const char **text = text_of(o, key);
    if (text != NULL) {
        *text = argument;
        return 0;
    }
    switch (key) {
    case KEY_JSON:
        o->json = true;
        break;
    case KEY_WITHOUT:
        append(&o->without, &o->without_count, argument);
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
    case KEY_LISTEN:
        o->listen_s = seconds(state, "--listen", argument);
        break;
    case KEY_BIT_RATE:
        o->bit_rate = bit_rate(state, argument);
        break;
    case KEY_WATCH:
        o->watch = true;
        break;
    case KEY_ADD_ADDRESS:
        o->add_address = true;
        break;
    case KEY_UNDO:
        o->undo = true;
        break;
    case KEY_ALL:
        o->all = true;
        break;
    case KEY_EXPLAIN:
        o->explain = true;
        break;
    case KEY_ORDER_CODE:
        append(&o->order_codes, &o->order_code_count, argument);
        break;
    case KEY_COMPANION:
        append(&o->companions, &o->companion_count, argument);
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
        check(state, o, parsing->command->takes);
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
    struct argp_option all[40] = {0};
    size_t count = 0;
    static const struct {
        unsigned takes;
        const struct argp_option *list;
    } groups[] = {{TAKES_LINK, link_option}, {TAKES_SURVEY, survey},    {TAKES_FOR, duration},
                  {TAKES_WITHOUT, without},  {TAKES_IMAGE, image},      {TAKES_JOB, job},
                  {TAKES_ADDRESS, address},  {TAKES_UNDO, undo},        {TAKES_PROFILES, profiles},
                  {TAKES_SAID, said},        {TAKES_LIST, list_option}, {TAKES_TO, to},
                  {TAKES_PACK, pack},        {TAKES_EXPLAIN, explain}};
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
    snprintf(name, sizeof name, "einbau %s", command->name);
    options_in_full(all, name, argc, argv);
    argp_parse(&argp, argc, argv, 0, NULL, &parsing);
    options->command = command->name;
    options->names_devices = (command->takes & TAKES_WITHOUT) != 0 && options->name_count > 0;
    options->site_optional = (command->takes & SITE_OPTIONAL) != 0;
    options->site = from_environment(options->site, "EINBAU_SITE");
    options->sim = from_environment(options->sim, "EINBAU_SIM");
    options->state = from_environment(options->state, "EINBAU_STATE");
    options->shelf = from_environment(options->shelf, "EINBAU_SHELF");
}

void options_free(struct options *options)
{
    free(options->accepted);
    free(options->names);
    free(options->order_codes);
    free(options->companions);
    free(options->without);
    free(options->assignments);
}
