#include "output.h"

#include <stdio.h>

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s))
        return session_close(&s, s.status);
    size_t chosen = 0;
    size_t answered = 0;
    int status = s.status;
    for (size_t i = 0; i < s.count; i++) {
        chosen += s.targets[i].chosen;
        answered += s.targets[i].answered;
        if (s.targets[i].chosen && status == EXIT_AS_WANTED && !target_as_wanted(&s.targets[i]))
            status = EXIT_NOT_AS_WANTED;
    }
    if (options->json) {
        print_document(document(&s, "survey"));
    } else {
        printf("%s: %zu of %zu devices answered\n\n", s.site->name, answered, chosen);
        print_devices(&s);
    }
    return session_close(&s, status);
}

const struct command command_survey = {
    .name = "survey",
    .arguments = "[DEVICE...]",
    .summary = "what is on the links: identity, running and wanted versions",
    .help =
        "Asks every device of the site (or those named) who it is and what it runs, and marks what is not as "
        "wanted: current, behind, ahead, unreadable, silent.\v"
        "Example:\n  einbau survey --site larchfell.site.yaml\n\n"
        "Exit status 1 where a device is not as wanted, 3 where none answered.",
    .takes = TAKES_WITHOUT,
    .run = run,
};
