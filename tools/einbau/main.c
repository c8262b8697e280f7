#include "session/options.h"

#include <einbau/einbau.h>
#include <errno.h>
#include <limits.h>
#include <locale.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <unistd.h>

const struct command *const commands[] = {&command_new_site,    &command_new_profile, &command_shelf_add,
                                          &command_shelf_list,  &command_shelf_show,  &command_shelf_drop,
                                          &command_shelf_cover, &command_shelf_copy,  &command_shelf_publish,
                                          &command_shelf_fetch, &command_pack,        &command_check,
                                          &command_key_new,     &command_key_trust,   &command_key_untrust,
                                          &command_key_list,    &command_secret_set,  &command_secret_change,
                                          &command_secret_list, &command_secret_drop, &command_links,
                                          &command_survey,      &command_show,        &command_blink,
                                          &command_set,         &command_backup_list, &command_backup,
                                          &command_restore,     &command_settings,    &command_act,
                                          &command_reset,       &command_plan,        &command_rehearse,
                                          &command_fit,         &command_confirm,     &command_card_check,
                                          &command_card,        &command_recover,     &command_network_show,
                                          &command_record_init, &command_jobs,        &command_report,
                                          &command_manual,      &command_completion,  NULL};

enum { COMMANDS = sizeof commands / sizeof commands[0] - 1 };

static void print_help(FILE *to)
{
    fputs("Einbau updates the firmware of field devices: it finds them, refuses wrong images, writes, and "
          "reads back what runs.\n\n"
          "usage: einbau COMMAND [OPTION...] [DEVICE...]\n"
          "'einbau' alone says where you stand, and what comes next; 'einbau --where' what counts here, and "
          "why.\n\n",
          to);
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(to, "  %-13s %s\n", commands[i]->name, commands[i]->summary);
    fputs("\n'einbau COMMAND --help' explains one of them, with an example.\n"
          "Exit status: 0 all is as wanted; 1 a device is not; 2 wrong call or unreadable file;\n"
          "3 nothing could be reached; 4 interrupted.\n",
          to);
}

/* How many words of the call make the command's name: "shelf add" is two. */
static int words_of(const char *name, int argc, char **argv)
{
    size_t first = strcspn(name, " ");
    if (strlen(argv[1]) != first || strncmp(name, argv[1], first) != 0)
        return 0;
    if (name[first] == '\0')
        return 1;
    return argc >= 3 && strcmp(name + first + 1, argv[2]) == 0 ? 2 : 0;
}

/* The commands that begin with a word; false: there are none. */
static bool print_group(const char *word, FILE *to)
{
    bool any = false;
    for (size_t i = 0; i < COMMANDS; i++) {
        const char *name = commands[i]->name;
        if (strncmp(name, word, strlen(word)) != 0 || name[strlen(word)] != ' ')
            continue;
        fprintf(to, "%s%-13s %s\n", any ? "  " : "einbau: expected one of these commands:\n  ", name,
                commands[i]->summary);
        any = true;
    }
    return any;
}

/* What was to be printed is part of what was asked for: a full disk, a closed pipe. */
static void end_output(void)
{
    errno = 0;
    bool lost = ferror(stdout) != 0;
    if (fclose(stdout) == 0 && !lost)
        return;
    fprintf(stderr,
            "einbau: the output could not be written: %s. What was done is done: 'einbau survey' shows it\n",
            errno != 0 ? strerror(errno) : "the disk is full, or the pipe was closed");
    _exit(EXIT_WRONG_CALL);
}

/* The command that was meant; NULL: it cannot be told. */
static const char *nearest_command(int argc, char **argv)
{
    char both[64];
    snprintf(both, sizeof both, "%s %s", argv[1], argc > 2 ? argv[2] : "");
    struct eb_nearest one = eb_nearest_begin(argv[1]);
    struct eb_nearest two = eb_nearest_begin(both);
    for (size_t i = 0; i < COMMANDS; i++) {
        eb_nearest_offer(&one, commands[i]->name);
        eb_nearest_offer(&two, commands[i]->name);
    }
    return two.best != NULL && two.least <= one.least ? two.best : one.best;
}

/* A large site needs a socket and two locks for each device; what a shell allows at first is often 1024. */
static void raise_limit(void)
{
    struct rlimit files;
    if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
        files.rlim_cur = files.rlim_max;
        setrlimit(RLIMIT_NOFILE, &files);
    }
}

int main(int argc, char **argv)
{
    setlocale(LC_ALL, "");
    signal(SIGPIPE, SIG_IGN);
    signal(SIGXFSZ, SIG_IGN); /* a limit on the size of files is an error of the write */
    atexit(end_output);
    raise_limit();
    if (argc >= 2 && (strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "help") == 0)) {
        print_help(stdout);
        return EXIT_AS_WANTED;
    }
    if (argc >= 2 && strcmp(argv[1], "--version") == 0) {
        puts("einbau " EB_VERSION);
        return EXIT_AS_WANTED;
    }
    if (argc == 1 || argv[1][0] == '-') {
        struct options options;
        options_read(&command_here, argc, argv, &options);
        int status = command_here.run(&options);
        options_free(&options);
        return status;
    }
    for (size_t i = 0; argc >= 2 && i < COMMANDS; i++) {
        int words = words_of(commands[i]->name, argc, argv);
        if (words > 0) {
            struct options options;
            options_read(commands[i], argc - words, argv + words, &options);
            int status = commands[i]->run(&options);
            options_free(&options);
            return status;
        }
    }
    const char *near = argc >= 2 ? nearest_command(argc, argv) : NULL;
    if (near != NULL) {
        fprintf(stderr, "einbau: no command '%s%s%s'; did you mean '%s'? 'einbau --help' lists them all\n",
                argv[1], strchr(near, ' ') != NULL && argc > 2 ? " " : "",
                strchr(near, ' ') != NULL && argc > 2 ? argv[2] : "", near);
        return EXIT_WRONG_CALL;
    }
    if (argc >= 2 && print_group(argv[1], argc == 2 || strcmp(argv[2], "--help") != 0 ? stderr : stdout))
        return argc == 3 && strcmp(argv[2], "--help") == 0 ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
    if (argc >= 2)
        fprintf(stderr, "einbau: no command '%s'\n\n", argv[1]);
    print_help(stderr);
    return EXIT_WRONG_CALL;
}
