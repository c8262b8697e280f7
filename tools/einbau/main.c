#include "options.h"

#include <einbau/einbau.h>
#include <locale.h>
#include <stdio.h>
#include <string.h>

static const struct command *const commands[] = {&command_links, &command_survey, &command_show,
                                                 &command_blink, &command_set,    &command_plan,
                                                 &command_fit,   &command_confirm};

enum { COMMANDS = sizeof commands / sizeof commands[0] };

static void print_help(FILE *to)
{
    fputs("Einbau fits firmware into field devices: it looks, judges, writes, and reads back what runs.\n\n"
          "usage: einbau COMMAND [OPTION...] [DEVICE...]\n\n",
          to);
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(to, "  %-8s %s\n", commands[i]->name, commands[i]->summary);
    fputs("\n'einbau COMMAND --help' explains one of them, with an example.\n"
          "Exit status: 0 all is as wanted; 1 a device is not; 2 wrong call or unreadable file;\n"
          "3 nothing could be reached; 4 interrupted.\n",
          to);
}

int main(int argc, char **argv)
{
    setlocale(LC_ALL, "");
    if (argc >= 2 && (strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "help") == 0)) {
        print_help(stdout);
        return EXIT_AS_WANTED;
    }
    if (argc >= 2 && strcmp(argv[1], "--version") == 0) {
        puts("einbau " EB_VERSION);
        return EXIT_AS_WANTED;
    }
    for (size_t i = 0; argc >= 2 && i < COMMANDS; i++) {
        if (strcmp(commands[i]->name, argv[1]) == 0) {
            struct options options;
            options_read(commands[i], argc - 1, argv + 1, &options);
            int status = commands[i]->run(&options);
            options_free(&options);
            return status;
        }
    }
    if (argc >= 2)
        fprintf(stderr, "einbau: found '%s', expected a command\n\n", argv[1]);
    print_help(stderr);
    return EXIT_WRONG_CALL;
}
