#include "output.h"

#include <stdio.h>

/* What to do next, where something is to be done. */
static void print_advice(const struct session *s)
{
    size_t behind = 0;
    size_t silent = 0;
    size_t in_loader = 0;
    for (size_t i = 0; i < s->count; i++) {
        const struct target *t = &s->targets[i];
        bool here = false;
        for (size_t k = 0; t->chosen && k < t->device->profile->count; k++)
            here = here || (target_has(t, k) && target_mark(t, k) == EB_MARK_BEHIND);
        behind += here;
        silent += t->chosen && !t->answered;
        in_loader += t->reached && t->look.in_loader;
    }
    if (behind + silent + in_loader > 0)
        puts("");
    if (behind > 0)
        printf("%zu behind: 'einbau plan' says what would be written to them.\n", behind);
    if (in_loader > 0)
        printf("%zu in the loader, where no program runs: 'einbau fit' brings them back.\n", in_loader);
    if (silent > 0)
        printf("%zu silent: are they powered? 'einbau links' says whether the laptop is in their subnet.\n",
               silent);
}

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
        print_advice(&s);
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
