/* Manual pages, from the table of commands. */
#include "cmd/manual_keys.h"
#include "session/options.h"
#include "session/session.h"

#include <einbau/einbau.h>
#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct {
    const char *into;
    bool keys;
} own;

/* "shelf add" as part of a page's name: "einbau-shelf-add" */
static void page_name(const struct command *command, char *name, size_t cap)
{
    snprintf(name, cap, command != NULL ? "einbau-%s" : "einbau", command != NULL ? command->name : "");
    for (char *at = name; *at != '\0'; at++)
        *at = *at == ' ' ? '-' : *at;
}

/* Text for roff: hyphens that are typed, no line that begins with a request. */
static void put_text(FILE *to, const char *text, size_t size)
{
    for (size_t i = 0; i < size; i++) {
        if ((text[i] == '.' || text[i] == '\'') && (i == 0 || text[i - 1] == '\n'))
            fputs("\\&", to);
        if (text[i] == '-')
            fputs("\\-", to);
        else if (text[i] == '\\')
            fputs("\\e", to);
        else
            putc(text[i], to);
    }
}

static void put(FILE *to, const char *text)
{
    put_text(to, text, strlen(text));
}

/* What stands behind the mark in a help text: paragraphs, and examples, whose lines are indented. */
static void put_examples(FILE *to, const char *text)
{
    bool verbatim = false;
    while (*text != '\0') {
        size_t size = strcspn(text, "\n");
        bool indented = text[0] == ' ';
        if (indented != verbatim)
            fputs(indented ? ".PP\n.nf\n" : ".fi\n", to);
        verbatim = indented;
        if (size == 0)
            fputs(verbatim ? "" : ".PP\n", to);
        else
            put_text(to, text, size);
        fputs(size > 0 ? "\n" : "", to);
        text += size + (text[size] == '\n');
    }
    fputs(verbatim ? ".fi\n" : "", to);
}

static void put_head(FILE *to, const char *name, const char *summary)
{
    char title[64];
    size_t i = 0;
    for (; name[i] != '\0' && i + 1 < sizeof title; i++)
        title[i] = (char)toupper((unsigned char)name[i]);
    title[i] = '\0';
    fprintf(to, ".TH %s 1 \"\" \"Einbau " EB_VERSION "\" \"Einbau\"\n.SH NAME\n", title);
    put(to, name);
    fputs(" \\- ", to);
    put(to, summary);
    fputs("\n.SH SYNOPSIS\n.B einbau\n", to);
}

static void put_exit_status(FILE *to)
{
    fputs(".SH EXIT STATUS\n0: all is as wanted; 1: a device is not; 2: wrong call or unreadable file; 3: "
          "nothing could be reached; 4: interrupted.\n",
          to);
}

static void put_option_rows(FILE *to, const struct command *command)
{
    const struct option_row *rows[OPTION_ROWS_MAX];
    size_t count = options_of(command, rows);
    for (size_t i = 0; i < count; i++) {
        fputs(rows[i]->argument != NULL ? ".TP\n.BI " : ".TP\n.B ", to);
        put(to, "--");
        put(to, rows[i]->name);
        if (rows[i]->argument != NULL)
            fprintf(to, "= %s", rows[i]->argument);
        putc('\n', to);
        put(to, rows[i]->help);
        putc('\n', to);
    }
}

static void put_command(FILE *to, const struct command *command)
{
    char name[64];
    const char *more = strchr(command->help, '\v');
    size_t size = more != NULL ? (size_t)(more - command->help) : strlen(command->help);
    page_name(command, name, sizeof name);
    put_head(to, name, command->summary);
    put(to, command->name);
    fputs(" [\\fIOPTION\\fR...] ", to);
    put(to, command->arguments != NULL ? command->arguments : "");
    fputs("\n.SH DESCRIPTION\n", to);
    put_text(to, command->help, size);
    putc('\n', to);
    fputs(".SH OPTIONS\n", to);
    put_option_rows(to, command);
    if (more != NULL) {
        fputs(".SH NOTES\n", to);
        put_examples(to, more + 1);
    }
    put_exit_status(to);
    fputs(".SH SEE ALSO\n.BR einbau (1)\n", to);
}

static const struct {
    const char *name, *says;
} surroundings[] =
    {{"EINBAU_SITE, EINBAU_SHELF, EINBAU_STATE, EINBAU_RECORD, EINBAU_SIM",
      "As the options of these names, which override them."},
     {"EINBAU_KEY_FILE", "The key to the encrypted file of passwords, in place of a passphrase."},
     {"EINBAU_PASSWORD_FILE", "A file with a password, for a call that would ask for one."},
     {"EINBAU_PERSON", "Who is at work, for the record, else the user's name."},
     {"EINBAU_LOCKS",
      "The folder of the locks by which two calls on this laptop leave each other's devices alone."},
     {"TMPDIR", "Where copies of images are, else /tmp."},
     {"XDG_CONFIG_HOME, XDG_DATA_HOME, XDG_STATE_HOME",
      "Where this user's files are, else below the home folder."},
     {"NO_COLOR", "No colours."},
     {"https_proxy", "The proxy of 'shelf fetch'."}},
  places[] = {
      {"*.site.yaml", "The site of a call, in this folder or the nearest one above it."},
      {"einbau.yaml", "Beside the site: what counts there (site, shelf, state, record, key-file, sim)."},
      {"~/.config/einbau/config.yaml", "The same for this user."},
      {"~/.config/einbau/trusted/", "Public keys that this user trusts."},
      {"~/.local/share/einbau/shelf/", "The shelf of images."},
      {"~/.local/state/einbau/", "The record of jobs, backups, and what is remembered of devices."}};

static void put_overview(FILE *to)
{
    put_head(to, "einbau", "updates the firmware of field devices");
    fputs("\\fICOMMAND\\fR [\\fIOPTION\\fR...] [\\fIDEVICE\\fR...]\n.SH DESCRIPTION\nFinds the devices of an "
          "installation, judges whether an image fits each of them, refuses a wrong one before the first "
          "byte, writes, and reads back what runs.\n.SH COMMANDS\n",
          to);
    for (size_t i = 0; commands[i] != NULL; i++) {
        char name[64];
        page_name(commands[i], name, sizeof name);
        fputs(".TP\n.BR ", to);
        put(to, name);
        fputs(" (1)\n", to);
        put(to, commands[i]->summary);
        putc('\n', to);
    }
    fputs(".PP\nThe formats of files:\n.BR einbau\\-site (5),\n.BR einbau\\-profile (5),\n.BR "
          "einbau\\-package (5).\n.SH OPTIONS\nEvery command has these, and its own; options stand in full, "
          "with two hyphens.\n",
          to);
    put_option_rows(to, &command_here);
    fputs(".SH ENVIRONMENT\n", to);
    for (size_t i = 0; i < sizeof surroundings / sizeof surroundings[0]; i++) {
        fprintf(to, ".TP\n.B %s\n", surroundings[i].name);
        put(to, surroundings[i].says);
        putc('\n', to);
    }
    fputs(".SH FILES\n", to);
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        fputs(".TP\n.I ", to);
        put(to, places[i].name);
        putc('\n', to);
        put(to, places[i].says);
        putc('\n', to);
    }
    fputs(".PP\n\"einbau \\-\\-where\" says which of them count here, and why.\n.SH JSON\nWith \\-\\-json a "
          "command prints one document, "
          "which begins with its name and version, like \"fit/1\"; einbau\\-doc has the schemas.\n",
          to);
    put_exit_status(to);
    fputs(".SH EXAMPLES\n.nf\neinbau                      # where do I stand\neinbau new site "
          "mine.site.yaml\neinbau survey\neinbau plan\neinbau "
          "fit\neinbau report\n.fi\n",
          to);
}

static const struct command *command_named(const char *name)
{
    size_t i = 0;
    while (commands[i] != NULL && strcmp(commands[i]->name, name) != 0)
        i++;
    return commands[i];
}

static bool write_page(const char *folder, const struct command *command)
{
    char name[64];
    char path[EB_PATH_BYTES];
    page_name(command, name, sizeof name);
    snprintf(path, sizeof path, "%s/%s.1", folder, name);
    FILE *to = fopen(path, "w");
    if (to != NULL && command != NULL)
        put_command(to, command);
    else if (to != NULL)
        put_overview(to);
    bool good = to != NULL && ferror(to) == 0;
    good = to != NULL && fclose(to) == 0 && good;
    if (!good)
        complain("%s: the page cannot be written", path);
    return good;
}

static int run_manual(const struct options *o)
{
    char name[64] = "";
    if (own.keys) {
        put_keys(stdout);
        return EXIT_AS_WANTED;
    }
    for (size_t i = 0; i < o->name_count; i++)
        snprintf(name + strlen(name), sizeof name - strlen(name), "%s%s", i > 0 ? " " : "", o->names[i]);
    const struct command *command = name[0] != '\0' ? command_named(name) : NULL;
    if (name[0] != '\0' && command == NULL) {
        char meant[EB_NEAREST_BYTES];
        struct eb_nearest near = eb_nearest_begin(name);
        for (size_t i = 0; commands[i] != NULL; i++)
            eb_nearest_offer(&near, commands[i]->name);
        complain("found no command '%s', expected one that 'einbau --help' lists%s", name,
                 eb_nearest_text(&near, meant));
        return EXIT_WRONG_CALL;
    }
    if (own.into != NULL) {
        bool good = write_page(own.into, NULL);
        for (size_t i = 0; commands[i] != NULL && good; i++)
            good = write_page(own.into, commands[i]);
        return good ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
    }
    if (command != NULL)
        put_command(stdout, command);
    else
        put_overview(stdout);
    return EXIT_AS_WANTED;
}

static const struct option_row option_pages = {"into", "DIR",       "write the pages of all commands there",
                                               2,      OPTION_TEXT, .own = &own.into};
static const struct option_row option_keys = {
    "keys", NULL,        "the sources, steps and sections that a profile can name, as Markdown",
    2,      OPTION_FLAG, .own = &own.keys};
static const struct option_row *const manual_options[] = {&option_pages, &option_keys, NULL};

const struct command command_manual = {
    .name = "manual",
    .arguments = "[COMMAND]",
    .summary = "the manual page of a command, for man",
    .help = "Prints the manual page of a command, or of the tool, in the form that man reads.\v"
            "Example:\n  einbau manual fit >einbau-fit.1\n\n'man -l einbau-fit.1' shows it. An installation "
            "has all pages.",
    .options = manual_options,
    .run = run_manual,
};
