#include "output.h"

#include <stdio.h>

static int run_new(const struct options *options)
{
    struct eb_problem problem;
    struct eb_key key;
    char text[EB_KEY_TEXT_BYTES];
    const char *name = options->names[0];
    if (!eb_key_new(name, &key, &problem)) {
        complain("%s", problem.text);
        return EXIT_WRONG_CALL;
    }
    eb_key_text(&key, text);
    if (options->json) {
        print_document(json_pack("{s:s, s:s, s:s}", "einbau", "key-new/1", "name", name, "public", text));
        return EXIT_AS_WANTED;
    }
    printf("%s.key  the private part: signs packages (einbau pack --sign %s.key). Keep it to yourself.\n",
           name, name);
    printf("%s.pub  the public part: %s\n\n", name, text);
    say("Who trusts it lists the public part in the site's 'trusted-keys', or says 'einbau key trust %s.pub' "
        "for a shelf. "
        "From then on only what a trusted key has signed is taken.",
        name);
    return EXIT_AS_WANTED;
}

static int run_trust(const struct options *options)
{
    struct session s;
    if (!session_open_office(&s, options, true))
        return session_close(&s, s.status);
    if (!eb_shelf_trust(s.shelf, options->names[0], &s.problem)) {
        complain("%s", s.problem.text);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    struct eb_key keys[EB_KEYS_MAX];
    size_t count = eb_shelf_keys(s.shelf, keys);
    if (options->json)
        print_document(json_pack("{s:s, s:s, s:I}", "einbau", "key-trust/1", "shelf", s.shelf_folder, "keys",
                                 (json_int_t)count));
    else
        printf("The shelf %s trusts %zu key%s now: only packages signed by one of them are taken. They are "
               "the files in its "
               "folder 'trusted'; remove one to stop trusting it.\n",
               s.shelf_folder, count, count == 1 ? "" : "s");
    return session_close(&s, EXIT_AS_WANTED);
}

const struct command command_key_new = {
    .name = "key new",
    .arguments = "NAME",
    .summary = "makes a key pair for signing packages",
    .help = "Makes an Ed25519 key pair: NAME.key signs packages, NAME.pub is for those who trust it. Never "
            "writes over a "
            "key.\v"
            "Example:\n  einbau key new workshop",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_new,
};

const struct command command_key_trust = {
    .name = "key trust",
    .arguments = "FILE",
    .summary = "lets the shelf take only what trusted keys have signed",
    .help = "Adds a public key to those that the shelf trusts. Once it trusts any, packages that none of "
            "them has signed, "
            "and bare images, are refused.\v"
            "Example:\n  einbau key trust workshop.pub",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_trust,
};
