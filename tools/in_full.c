#include "in_full.h"

#include <einbau/einbau.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* An option that begins like what was written, or that it begins with, or that is written much like it; NULL:
 * none. */
static const char *meant(const struct argp_option *options, const char *name, size_t size)
{
    char word[64];
    const char *found = NULL;
    snprintf(word, sizeof word, "%.*s", (int)size, name);
    struct eb_nearest near = eb_nearest_begin(word);
    for (const struct argp_option *o = options; o->name != NULL; o++) {
        size_t own = strlen(o->name);
        size_t least = size < own ? size : own;
        if (least > 1 && strncmp(o->name, name, least) == 0)
            found = o->name;
        eb_nearest_offer(&near, o->name);
    }
    return found != NULL ? found : near.best;
}

static bool is(const char *name, size_t size, const char *option)
{
    return strlen(option) == size && strncmp(option, name, size) == 0;
}

static const struct argp_option *find(const struct argp_option *options, const char *name, size_t size)
{
    while (options->name != NULL && !is(name, size, options->name))
        options++;
    return options->name != NULL ? options : NULL;
}

void options_in_full(const struct argp_option *options, const char *program, int argc, char **argv)
{
    for (int i = 1; i < argc && strcmp(argv[i], "--") != 0; i++) {
        const char *name = argv[i] + 2;
        if (strncmp(argv[i], "--", 2) != 0)
            continue;
        size_t size = strcspn(name, "=");
        const struct argp_option *o = find(options, name, size);
        const char *other = meant(options, name, size);
        if (o != NULL) {
            i += o->arg != NULL && name[size] == '\0'; /* its value is no option */
        } else if (!is(name, size, "help") && !is(name, size, "usage")) {
            fprintf(stderr, "%s: found '%s', expected one of its options in full", program, argv[i]);
            if (other != NULL)
                fprintf(stderr, ": did you mean --%s?", other);
            fprintf(stderr, "%s Try '%s --help'\n", other != NULL ? "" : ".", program);
            exit(argp_err_exit_status);
        }
    }
}
