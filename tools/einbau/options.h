/* What the user asked for on the command line and in the environment. */
#ifndef TOOL_OPTIONS_H
#define TOOL_OPTIONS_H

#include <argp.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Exit status, the same everywhere. */
enum {
    EXIT_AS_WANTED = 0,
    EXIT_NOT_AS_WANTED = 1,
    EXIT_WRONG_CALL = 2,
    EXIT_NOT_REACHED = 3,
    EXIT_INTERRUPTED = 4
};

struct options {
    const char *site;
    const char *sim;
    const char *state;
    const char *image;
    const char *link;
    const char *trace;
    const char *bus;
    unsigned bit_rate;
    const char *into;
    const char *community;
    const char *shelf;
    const char *profiles; /* folder of them */
    const char *profile, *component, *version, *revisions;
    const char *for_device;
    const char *to;
    const char *manifest, *sign, *notes;
    const char *maker, *product, *released, *floor, *least_running, *least_loader, *least_gateway;
    char **order_codes, **companions;
    size_t order_code_count, companion_count;
    unsigned listen_s; /* 0: as long as it takes */
    unsigned for_s;
    bool watch;
    bool add_address;
    bool undo;
    bool json;
    bool yes;
    bool again;
    bool all;
    bool explain;
    bool site_optional;
    bool names_devices; /* there are names, and they are of the site's devices */
    struct accepted {
        const char *device; /* NULL: of the one device that is named */
        uint32_t rules;     /* bits of enum eb_rule */
    } * accepted;
    size_t accepted_count;
    const char *command; /* its name */
    char **names;        /* devices, or whatever else the command is about, as named on the command line */
    size_t name_count;
    char **without;
    size_t without_count;
    char **assignments;
    size_t assignment_count;
};

/* Which options a command knows besides the common ones. */
enum {
    TAKES_WITHOUT = 1,
    TAKES_IMAGE = 2,
    TAKES_JOB = 4,
    NEEDS_ONE_DEVICE = 8,
    SITE_OPTIONAL = 16,
    TAKES_LINK = 32,
    TAKES_SURVEY = 64,
    TAKES_ADDRESS = 128,
    TAKES_UNDO = 256,
    TAKES_FOR = 512,
    TAKES_ASSIGNMENTS = 1024, /* the names behind the first are settings, "address=192.0.2.10" */
    TAKES_PROFILES = 2048,
    TAKES_SAID = 4096, /* what a file is that says nothing of itself */
    TAKES_LIST = 8192,
    TAKES_TO = 16384,
    TAKES_PACK = 32768,
    TAKES_EXPLAIN = 65536,
    NEEDS_NAMES = 131072, /* at least one */
    NEEDS_ONE = 262144,
    TAKES_NO_NAMES = 524288
};

struct command {
    const char *name;
    const char *arguments; /* as in the usage line */
    const char *summary;   /* one line for the list of commands */
    const char *help;      /* more of it, with an example */
    unsigned takes;
    int (*run)(const struct options *options);
};

extern const struct command command_recover, command_links, command_survey, command_show, command_plan,
    command_fit, command_confirm, command_blink, command_set, command_shelf_add, command_shelf_list,
    command_shelf_show, command_shelf_drop, command_shelf_cover, command_shelf_copy, command_pack,
    command_key_new, command_key_trust, command_key_untrust, command_key_list, command_check;

/* Reads the arguments of one command; ends the process with EXIT_WRONG_CALL where they are wrong. */
void options_read(const struct command *command, int argc, char **argv, struct options *options);
void options_free(struct options *options);

#endif
