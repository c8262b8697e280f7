#include "output.h"

#include <stdio.h>

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s))
        return session_close(&s, s.status);
    size_t right = 0;
    size_t wrong = 0;
    for (size_t i = 0; i < s.count; i++) {
        if (s.targets[i].chosen)
            *(target_as_wanted(&s.targets[i]) ? &right : &wrong) += 1;
    }
    if (options->json) {
        json_t *root = document(&s, "confirm");
        json_object_set_new(root, "as_wanted", json_integer((json_int_t)right));
        json_object_set_new(root, "not_as_wanted", json_integer((json_int_t)wrong));
        print_document(root);
    } else {
        print_devices(&s);
        printf("\n%s: %zu device%s as wanted, %zu not", s.site->name, right, right == 1 ? "" : "s", wrong);
        const char *separator = ": ";
        for (size_t i = 0; i < s.count; i++) {
            if (s.targets[i].chosen && !target_as_wanted(&s.targets[i])) {
                printf("%s%s", separator, s.targets[i].device->name);
                separator = ", ";
            }
        }
        puts("");
    }
    if (s.status == EXIT_AS_WANTED && wrong > 0)
        s.status = EXIT_NOT_AS_WANTED;
    return session_close(&s, s.status);
}

const struct command command_confirm = {
    .name = "confirm",
    .arguments = "[DEVICE...]",
    .summary = "running versions read back and compared with what the site wants",
    .help = "Reads the running version of every component from the devices and compares it with the site's. "
            "Writes nothing.\v"
            "Example:\n  einbau confirm --site larchfell.site.yaml drive-plc\n\n"
            "Exit status 0 only where each component runs what is wanted.",
    .takes = TAKES_WITHOUT | TAKES_ADDRESS,
    .run = run,
};
