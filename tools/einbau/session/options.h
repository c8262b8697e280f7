/* What the user asked for on the command line and in the environment. */
#ifndef TOOL_OPTIONS_H
#define TOOL_OPTIONS_H

#include "ui/table.h"

#include <argp.h>
#include <einbau/host.h>
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

/* What several commands have; what only one has stands with it. */
struct options {
    const char *site;
    const char *sim;
    const char *state;
    const char *record;
    const char *image;
    const char *link;
    const char *trace;
    const char *bus;
    unsigned bit_rate;
    const char *community;
    const char *shelf;
    const char *profiles; /* folder of them */
    const char *profile, *component, *version, *revisions;
    const char *to;
    const char *key_file;
    unsigned listen_s; /* 0: as long as it takes */
    bool add_address;
    bool undo;
    bool json, json_lines; /* `json_lines`: events too, each document in a line */
    bool yes;
    bool again;
    bool explain;
    int64_t resumes; /* of the record: the job that this one goes on with; 0: none */
    bool site_optional;
    bool site_several; /* none is named, and this folder has several: `site_found` */
    char site_found[EB_PATH_BYTES];
    bool names_devices; /* there are names, and they are of the site's devices */
    struct accepted {
        const char *device; /* NULL: of the one device that is named */
        uint32_t rules;     /* bits of enum eb_rule */
        unsigned others;    /* EB_ACCEPT_CERTIFICATE and so on */
    } * accepted;
    size_t accepted_count;
    char words[1024];                   /* the call as it was given, cut where it is too long */
    const char *command;                /* its name */
    struct eb_config config[2];         /* beside the site, and the user's own */
    char config_path[2][EB_PATH_BYTES]; /* "": there is none */
    const char *from[EB_CONFIG_KEYS];   /* where each came from; NULL: the usual place */
    char **names; /* devices, or whatever else the command is about, as named on the command line */
    size_t name_count;
    char **without;
    size_t without_count;
    const char **only; /* marks */
    size_t only_count;
    struct table_wish wish; /* of the command's table */
    bool unfolded;          /* each of its rows by itself */
    char **step_done;
    size_t step_done_count;
    char **assignments;
    size_t assignment_count;
};

/* One option: how it is named and explained, and where it goes. */
enum option_kind {
    OPTION_TEXT,    /* a const char * */
    OPTION_FLAG,    /* a bool */
    OPTION_SECONDS, /* an unsigned, 1 to 3600 */
    OPTION_LIST,    /* a char **, and the number of texts */
    OPTION_READ     /* whatever `read` makes of it */
};
struct option_row {
    const char *name;
    const char *argument; /* what its argument is called; NULL: it has none */
    const char *help;
    int group; /* in the list of options, from 2 on */
    enum option_kind kind;
    size_t to, count;  /* offsets in struct options; `count` of a list */
    void *own;         /* not NULL: in place of them, a variable of the command that has the option ... */
    size_t *own_count; /* ... and the count of its list */
    void (*read)(struct argp_state *state, struct options *options, char *text);
};
#define OPTION_TO(member) offsetof(struct options, member)

/* Those that several commands have; any other stands with its command. */
extern const struct option_row option_without, option_only, option_image, option_accept, option_again,
    option_yes, option_link, option_add_address, option_explain, option_profiles, option_profile,
    option_component, option_version, option_revisions, option_to, option_key_file, option_columns,
    option_sort, option_unfold;

/* What a command says of itself besides its options. */
enum {
    NEEDS_ONE_DEVICE = 1,
    SITE_OPTIONAL = 2,
    NAMES_DEVICES = 4,     /* its names are devices of the site */
    TAKES_ASSIGNMENTS = 8, /* the names behind the first are settings, "address=192.0.2.10" */
    NEEDS_NAMES = 16,      /* at least one */
    NEEDS_ONE = 32,
    TAKES_NO_NAMES = 64
};

enum { OPTIONS_MAX = 24 };

struct command {
    const char *name;
    const char *arguments; /* as in the usage line */
    const char *summary;   /* one line for the list of commands */
    const char *help;      /* more of it, with an example */
    unsigned takes;
    const char *const *heads; /* of the table that --columns and --sort are about; NULL behind the last */
    const struct option_row *const *options; /* besides the common ones; NULL behind the last; may be NULL */
    void (*check)(struct argp_state *state, const struct options *options); /* what goes together; or NULL */
    int (*run)(const struct options *options);
};

extern const struct command command_recover, command_links, command_survey, command_show, command_plan,
    command_fit, command_confirm, command_blink, command_set, command_shelf_add, command_shelf_list,
    command_shelf_show, command_shelf_drop, command_shelf_cover, command_shelf_copy, command_shelf_publish,
    command_shelf_fetch, command_pack, command_key_new, command_key_trust, command_key_untrust,
    command_key_list, command_check, command_manual, command_completion, command_jobs, command_report,
    command_secret_set, command_secret_list, command_secret_drop, command_secret_change, command_backup_list,
    command_backup, command_card, command_card_check, command_restore, command_settings, command_act,
    command_reset, command_new_site, command_new_profile;

/* Without a command. */
extern const struct command command_network_show, command_rehearse, command_record_init, command_here;

/* All of them, in the order of the help; NULL behind the last. */
extern const struct command *const commands[];

/* A column's name as it is typed: "order-code" for "ORDER CODE". */
void column_word(const char *head, char word[EB_NAME_BYTES]);

/* The options of a command, the common ones last; gives their number. */
enum { OPTION_ROWS_MAX = OPTIONS_MAX + 8 };
size_t options_of(const struct command *command, const struct option_row *rows[OPTION_ROWS_MAX]);

/* Reads the arguments of one command; ends the process with EXIT_WRONG_CALL where they are wrong. */
void options_read(const struct command *command, int argc, char **argv, struct options *options);
void options_free(struct options *options);

#endif
