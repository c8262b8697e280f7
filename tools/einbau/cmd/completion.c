/* What a shell completes: commands, options and their values, devices of the site, images, keys.  The scripts
 * for the shells are a few lines; each asks for the words that may stand next, which are found here for all
 * of them. */
#include "session/options.h"
#include "session/session.h"

#include <einbau/einbau.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- the scripts ---------------------------------------------------------------------------------- */

static const char bash[] =
    "_einbau()\n{\n"
    "    local line\n    COMPREPLY=()\n"
    "    while IFS= read -r line; do\n"
    "        printf -v line %q \"${line%%$'\\t'*}\" # a name is a name, whatever stands in it\n"
    "        COMPREPLY+=(\"$line\")\n"
    "    done < <(einbau completion words -- \"${COMP_WORDS[@]:1:COMP_CWORD}\" 2>/dev/null)\n"
    "    [[ ${COMPREPLY[0]} == *= ]] && compopt -o nospace\n"
    "    return 0\n}\n"
    "complete -o default -F _einbau einbau\n";

static const char zsh[] =
    "#compdef einbau\n"
    "_einbau()\n{\n"
    "    local line\n    local -a found options\n"
    "    while IFS= read -r line; do\n"
    "        line=${line//:/\\\\:}\n"
    "        line=${line/$'\\t'/:}\n"
    "        [[ ${line%%:*} == *= ]] && options+=(\"$line\") || found+=(\"$line\")\n"
    "    done < <(einbau completion words -- \"${(@)words[2,CURRENT]}\" 2>/dev/null)\n"
    "    (( $#options )) && _describe -o option options -S ''\n"
    "    (( $#found )) && _describe word found\n"
    "    (( $#found + $#options )) || _files\n}\n"
    "if [ \"$funcstack[1]\" = \"_einbau\" ]; then _einbau \"$@\"; else compdef _einbau einbau; fi\n";

static const char fish[] = "function __einbau_words\n"
                           "    set -l words (commandline -opc)[2..-1] (commandline -ct)\n"
                           "    set -l found (einbau completion words -- $words 2>/dev/null)\n"
                           "    if test (count $found) -gt 0\n        printf '%s\\n' $found\n"
                           "    else\n        __fish_complete_path (commandline -ct)\n    end\nend\n"
                           "complete -c einbau -f -a '(__einbau_words)'\n";

/* --- words ---------------------------------------------------------------------------------------- */

struct asked {
    char *const *words; /* behind "einbau"; the last one is being written */
    size_t count;
    const char *begin;  /* of the word that is wanted */
    const char *before; /* "--only=" in front of it, where that is one word for the shell */
    const struct command *command;
    size_t command_words;
    struct eb_site *site; /* NULL: none, or it cannot be read */
    const char *shelf;
};

/* One candidate, with what it is, for shells that show that. */
static void offer(const struct asked *a, const char *word, const char *what)
{
    if (strncmp(word, a->begin, strlen(a->begin)) == 0)
        printf("%s%s%s%s\n", a->before, word, what != NULL && what[0] != '\0' ? "\t" : "",
               what != NULL ? what : "");
}

static void offer_all(const struct asked *a, const char *const *words)
{
    for (size_t i = 0; words[i] != NULL; i++)
        offer(a, words[i], NULL);
}

/* The first words of the commands; or the second ones of a group. */
static void offer_commands(const struct asked *a, const char *group)
{
    size_t size = group != NULL ? strlen(group) : 0;
    for (size_t i = 0; commands[i] != NULL; i++) {
        const char *name = commands[i]->name;
        size_t first = strcspn(name, " ");
        bool member = group != NULL && first == size && name[first] == ' ' && strncmp(name, group, size) == 0;
        bool begins = i == 0 || strncmp(commands[i - 1]->name, name, first + 1) != 0;
        char word[32];
        snprintf(word, sizeof word, "%.*s", (int)first, name);
        if (member)
            offer(a, name + first + 1, commands[i]->summary);
        else if (group == NULL && begins)
            offer(a, word, name[first] == ' ' ? "has several commands" : commands[i]->summary);
    }
}

static void offer_options(const struct asked *a)
{
    const struct option_row *rows[OPTION_ROWS_MAX];
    size_t count = options_of(a->command, rows);
    for (size_t i = 0; i < count; i++) {
        char word[48];
        snprintf(word, sizeof word, "--%s%s", rows[i]->name, rows[i]->argument != NULL ? "=" : "");
        offer(a, word, rows[i]->help);
    }
    offer(a, "--help", "explains this command");
}

static void offer_devices(const struct asked *a)
{
    for (size_t i = 0; a->site != NULL && i < a->site->device_count; i++)
        offer(a, a->site->devices[i].name, a->site->devices[i].profile->product);
}

static void offer_profiles(const struct asked *a)
{
    for (size_t i = 0; a->site != NULL && i < a->site->profile_count; i++)
        offer(a, a->site->profiles[i]->name, a->site->profiles[i]->product);
}

static void offer_images(const struct asked *a)
{
    struct eb_problem problem;
    struct eb_shelf_image *images = NULL;
    size_t count = 0;
    struct eb_shelf *shelf = a->shelf != NULL ? eb_shelf_open(a->shelf, false, &problem) : NULL;
    bool listed = shelf != NULL && eb_shelf_list(shelf, &images, &count, &problem);
    for (size_t i = 0; listed && i < count; i++) {
        char number[24];
        char what[2 * EB_NAME_BYTES + EB_VERSION_TEXT_BYTES + 8];
        snprintf(number, sizeof number, "%lld", (long long)images[i].number);
        snprintf(what, sizeof what, "%s %s %s", images[i].product, images[i].component, images[i].version);
        offer(a, number, what);
    }
    free(images);
    if (shelf != NULL)
        eb_shelf_close(shelf);
}

static void offer_settings(const struct asked *a)
{
    const char *name = a->command_words < a->count - 1 ? a->words[a->command_words] : "";
    const struct eb_site_device *d = a->site != NULL ? eb_site_device(a->site, name) : NULL;
    for (size_t i = 0; d != NULL && i < d->profile->setting_count; i++) {
        char word[EB_NAME_BYTES + 2];
        snprintf(word, sizeof word, "%s=", d->profile->settings[i].at->name);
        if (!d->profile->settings[i].read_only)
            offer(a, word, d->profile->settings[i].unit);
    }
}

/* --- which of them -------------------------------------------------------------------------------- */

static bool is_one_of(const char *word, const char *const *words)
{
    while (*words != NULL && strcmp(*words, word) != 0)
        words++;
    return *words != NULL;
}

static void offer_columns(const struct asked *a)
{
    const char *const *heads = a->command->heads;
    for (size_t i = 0; heads != NULL && heads[i] != NULL; i++) {
        char word[EB_NAME_BYTES];
        column_word(heads[i], word);
        offer(a, word, NULL);
    }
}

/* The values of an option, "only" for "--only"; nothing for those that are files. */
static void offer_values(const struct asked *a, const char *option)
{
    static const char *const of_device[] = {"without",   "for",    "device", "copy-from",
                                            "step-done", "accept", NULL};
    static const char *const marks[] = {"current",    "outdated",    "newer",     "differs",
                                        "unreadable", "unreachable", "in-loader", NULL};
    static const char *const outcomes[] = {"confirmed", "failed",  "interrupted",
                                           "in-loader", "refused", NULL};
    bool mark = strcmp(option, "only") == 0 && strcmp(a->command->name, "settings") != 0 &&
                strcmp(a->command->name, "restore") != 0;
    if (is_one_of(option, of_device))
        offer_devices(a);
    else if (strcmp(option, "profile") == 0)
        offer_profiles(a);
    else if (strcmp(option, "image") == 0)
        offer_images(a);
    else if (strcmp(option, "outcome") == 0)
        offer_all(a, outcomes);
    else if (mark)
        offer_all(a, marks);
    else if (strcmp(option, "columns") == 0 || strcmp(option, "sort") == 0)
        offer_columns(a);
}

static void offer_names(const struct asked *a)
{
    static const char *const of_devices[] = {"settings", "act", "restore", "reset",
                                             "blink",    "set", "show",    NULL};
    static const char *const of_images[] = {"shelf show", "shelf drop", NULL};
    static const char *const shells[] = {"bash", "zsh", "fish", NULL};
    static const char *const acts[] = {"restart", "restart-cold", "stop", "start", NULL};
    const char *name = a->command->name;
    bool first = a->count == a->command_words + 1;
    if ((a->command->takes & NAMES_DEVICES) != 0 || is_one_of(name, of_devices))
        offer_devices(a);
    if (strcmp(name, "settings") == 0 && !first)
        offer_settings(a);
    if (strcmp(name, "act") == 0 && !first)
        offer_all(a, acts);
    if (is_one_of(name, of_images))
        offer_images(a);
    if (strncmp(name, "secret ", 7) == 0 && strcmp(name, "secret list") != 0 && first) {
        offer_devices(a);
        offer_profiles(a);
    }
    if (strcmp(name, "completion") == 0)
        offer_all(a, shells);
    if (strcmp(name, "manual") == 0)
        offer_commands(a, first ? NULL : a->words[a->command_words]);
}

static void find_command(struct asked *a)
{
    for (size_t i = 0; commands[i] != NULL && a->command == NULL; i++) {
        const char *name = commands[i]->name;
        size_t size = strcspn(name, " ");
        bool two = name[size] == ' ';
        if (a->count < (two ? 3U : 2U) || strlen(a->words[0]) != size ||
            strncmp(name, a->words[0], size) != 0 || (two && strcmp(name + size + 1, a->words[1]) != 0))
            continue;
        a->command = commands[i];
        a->command_words = two ? 2 : 1;
    }
}

/* The option whose value is being written: "--only=ou", "--only ou"; bash makes three words of the first. */
static const char *value_of(struct asked *a, char option[48])
{
    const char *last = a->words[a->count - 1];
    const char *equals = strchr(last, '=');
    size_t at = a->count - 1;
    if (strncmp(last, "--", 2) == 0 && equals != NULL) {
        snprintf(option, 48, "%.*s", (int)(equals - last) - 2, last + 2);
        a->begin = equals + 1;
        return option;
    }
    if (strcmp(last, "=") == 0)
        a->begin = "";
    else if (at > 0 && strcmp(a->words[at - 1], "=") == 0)
        at--;
    if (at == 0 || strncmp(a->words[at - 1], "--", 2) != 0)
        return NULL;
    snprintf(option, 48, "%s", a->words[at - 1] + 2);
    const struct option_row *rows[OPTION_ROWS_MAX];
    size_t count = options_of(a->command, rows);
    for (size_t i = 0; i < count; i++) {
        if (strcmp(rows[i]->name, option) == 0 && rows[i]->argument != NULL)
            return option;
    }
    return NULL;
}

/* The value of an option that was written already: the site, the shelf. */
static const char *given(const struct asked *a, const char *option, const char *otherwise)
{
    size_t size = strlen(option);
    for (size_t i = 0; i + 1 < a->count; i++) {
        const char *word = a->words[i];
        if (strncmp(word, option, size) != 0)
            continue;
        if (word[size] == '=')
            return word + size + 1;
        if (word[size] == '\0' && i + 2 < a->count)
            return strcmp(a->words[i + 1], "=") == 0 && i + 3 < a->count ? a->words[i + 2] : a->words[i + 1];
    }
    return otherwise;
}

static int offer_words(const struct options *o)
{
    struct asked a = {.words = o->names + 1, .count = o->name_count - 1, .before = ""};
    char joined[64] = "";
    char option[48];
    char shelf[EB_PATH_BYTES];
    struct eb_problem problem;
    if (a.count == 0)
        return EXIT_AS_WANTED;
    a.begin = a.words[a.count - 1];
    find_command(&a);
    if (a.command == NULL) {
        if (a.count <= 2)
            offer_commands(&a, a.count == 2 ? a.words[0] : NULL);
        return EXIT_AS_WANTED;
    }
    const char *site = given(&a, "--site", o->site);
    a.shelf = given(&a, "--shelf", session_shelf_folder(o, shelf));
    a.site = site != NULL ? eb_site_read(site, &problem) : NULL;
    const char *value = value_of(&a, option);
    if (value != NULL && strncmp(a.words[a.count - 1], "--", 2) == 0) {
        snprintf(joined, sizeof joined, "--%s=", option);
        a.before = joined;
    }
    if (value != NULL)
        offer_values(&a, value);
    else if (strncmp(a.begin, "-", 1) == 0)
        offer_options(&a);
    else
        offer_names(&a);
    eb_site_free(a.site);
    return EXIT_AS_WANTED;
}

static int run(const struct options *o)
{
    static const struct {
        const char *name, *script;
    } shells[] = {{"bash", bash}, {"zsh", zsh}, {"fish", fish}};
    if (strcmp(o->names[0], "words") == 0)
        return offer_words(o);
    for (size_t i = 0; i < sizeof shells / sizeof shells[0] && o->name_count == 1; i++) {
        if (strcmp(o->names[0], shells[i].name) == 0) {
            fputs(shells[i].script, stdout);
            return EXIT_AS_WANTED;
        }
    }
    complain("found the shell '%s', expected bash, zsh or fish", o->names[0]);
    return EXIT_WRONG_CALL;
}

const struct command command_completion = {
    .name = "completion",
    .arguments = "SHELL",
    .summary = "the script by which a shell completes commands, options and names",
    .help =
        "Prints a script for bash, zsh or fish that completes commands, options and their values, devices of "
        "the site, settings, and images of the shelf. An installation has all three. The scripts ask "
        "'einbau completion words -- WORD...' for what may stand next.\v"
        "Example:\n  einbau completion bash >einbau.bash\n\nThen 'source einbau.bash', or put it into "
        "~/.local/share/bash-completion/completions/einbau; for zsh as _einbau into a folder of fpath, for "
        "fish as ~/.config/fish/completions/einbau.fish.",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .run = run,
};
