#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

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
           name, eb_job_word(name));
    printf("%s.pub  the public part: %s\n\n", name, text);
    say("Who trusts it lists the public part in the site's 'trusted-keys', or says 'einbau key trust "
        "%s.pub'. From then on only what a trusted key has signed is written.",
        name);
    return EXIT_AS_WANTED;
}

/* The images of the shelf that can no longer be used. */
static size_t print_unusable(struct session *s, json_t *list)
{
    struct eb_shelf_image *images = NULL;
    size_t count = 0;
    size_t unusable = 0;
    if (s->job->shelf == NULL || !eb_shelf_list(s->job->shelf, &images, &count, &s->job->problem))
        return 0;
    for (size_t i = 0; i < count; i++) {
        enum eb_signature signature = EB_SIGNATURE_MISSING;
        char *text =
            eb_shelf_manifest(s->job->shelf, images[i].number, &s->job->trust, &signature, &s->job->problem);
        bool usable =
            text != NULL && (signature == EB_SIGNATURE_TRUSTED || signature == EB_SIGNATURE_NOT_ASKED);
        free(text);
        if (usable)
            continue;
        if (unusable++ == 0 && list == NULL)
            puts("\nNo trusted key has signed these images of the shelf, so they cannot be used any more:");
        if (list != NULL)
            json_array_append_new(list, shelf_image_document(&images[i]));
        else
            printf("  %lld  %s %s (%s)\n", (long long)images[i].number, images[i].component,
                   images[i].version, images[i].origin);
    }
    free(images);
    return unusable;
}

/* What these commands work with; a shelf only where there is one. */
struct work {
    struct session session;
    struct options options;
    char folder[EB_PATH_BYTES]; /* of this user's keys */
};

static bool open_keys(struct work *w, const struct options *options)
{
    char index[EB_PATH_BYTES];
    w->options = *options;
    if (options->shelf != NULL &&
        snprintf(index, sizeof index, "%s/index.db", options->shelf) < EB_PATH_BYTES &&
        access(index, F_OK) != 0)
        w->options.shelf = NULL;
    if (!session_open_office(&w->session, &w->options, SHELF_IF_THERE))
        return false;
    if (session_trusted_dir(w->folder))
        return true;
    complain("no place for keys: set the variable XDG_CONFIG_HOME or HOME");
    w->session.status = EXIT_WRONG_CALL;
    return false;
}

static json_t *keys_document(const struct eb_key *keys, size_t count)
{
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++) {
        char text[EB_KEY_TEXT_BYTES];
        eb_key_text(&keys[i], text);
        json_array_append_new(list, json_string(text));
    }
    return list;
}

static int run_trust(const struct options *options)
{
    static struct work work;
    struct session *s = &work.session;
    const char *folder = work.folder;
    if (!open_keys(&work, options))
        return session_close(s, s->status);
    if (!eb_key_trust(folder, options->names[0], &s->job->problem)) {
        complain("%s", s->job->problem.text);
        return session_close(s, EXIT_WRONG_CALL);
    }
    if (!session_trust(s))
        return session_close(s, s->status);
    if (options->json) {
        json_t *unusable = json_array();
        print_unusable(s, unusable);
        print_document(json_pack("{s:s, s:s, s:o, s:o}", "einbau", "key-trust/2", "folder", folder, "trusted",
                                 keys_document(s->job->trust.keys, s->job->trust.count), "unusable",
                                 unusable));
    } else {
        say("%zu key%s trusted now. Whatever is written, on any site, must be signed by one of them, or by "
            "one that the site lists.",
            s->job->trust.count, s->job->trust.count == 1 ? " is" : "s are");
        print_unusable(s, NULL);
    }
    return session_close(s, EXIT_AS_WANTED);
}

static int run_untrust(const struct options *options)
{
    static struct work work;
    struct session *s = &work.session;
    const char *folder = work.folder;
    if (!open_keys(&work, options))
        return session_close(s, s->status);
    if (!eb_key_untrust(folder, options->names[0], &s->job->problem)) {
        complain("%s", s->job->problem.text);
        return session_close(s, EXIT_WRONG_CALL);
    }
    if (!session_trust(s))
        return session_close(s, s->status);
    if (options->json)
        print_document(json_pack("{s:s, s:s, s:o}", "einbau", "key-untrust/1", "folder", folder, "trusted",
                                 keys_document(s->job->trust.keys, s->job->trust.count)));
    else if (s->job->trust.asked)
        say("It is not trusted any more. %zu other key%s.", s->job->trust.count,
            s->job->trust.count == 1 ? " is" : "s are");
    else
        say("It is not trusted any more. No key is trusted now, so no signature is asked for.");
    return session_close(s, EXIT_AS_WANTED);
}

/* Who lists each key, the site or this user, and until when it is accepted. */
static void print_keys(const struct session *s, const char *folder)
{
    static const char *const heads[] = {"KEY", "LISTED BY", "STATE"};
    struct table table;
    table_begin(&table, 3, heads);
    for (size_t dead = 0; dead < 2; dead++) {
        const struct eb_key *list = dead ? s->job->trust.dead : s->job->trust.keys;
        size_t count = dead ? s->job->trust.dead_count : s->job->trust.count;
        for (size_t i = 0; i < count; i++) {
            char text[EB_KEY_TEXT_BYTES];
            char state[64];
            const struct eb_site_key *found = NULL;
            for (size_t k = 0; s->job->site != NULL && k < s->job->site->key_count; k++)
                found = memcmp(s->job->site->keys[k].key.bytes, list[i].bytes, EB_KEY_BYTES) == 0
                            ? &s->job->site->keys[k]
                            : found;
            bool until = found != NULL && found->until[0] != '\0';
            snprintf(state, sizeof state, "%s%s%s", dead ? "expired or revoked" : "trusted",
                     until && !dead ? " until " : "", until && !dead ? found->until : "");
            eb_key_text(&list[i], text);
            const char *const cells[] = {text, found != NULL || dead ? "the site" : "this user", state};
            table_add(&table, cells);
        }
    }
    if (s->job->trust.count + s->job->trust.dead_count > 0)
        table_print(&table);
    else
        table_free(&table);
    if (!s->job->trust.asked)
        say("No key is trusted, so no signature is asked for. 'einbau key trust FILE.pub' trusts one.");
    else if (s->job->trust.count == 0)
        say("Every listed key has expired or was revoked: nothing can be written until the site lists "
            "another one.");
    say("This user's own keys are in %s", folder);
}

static int run_list(const struct options *options)
{
    static struct work work;
    struct session *s = &work.session;
    const char *folder = work.folder;
    if (!open_keys(&work, options))
        return session_close(s, s->status);
    if (options->json)
        print_document(json_pack("{s:s, s:s, s:b, s:o, s:o}", "einbau", "key-list/1", "folder", folder,
                                 "asked", s->job->trust.asked, "trusted",
                                 keys_document(s->job->trust.keys, s->job->trust.count), "expired_or_revoked",
                                 keys_document(s->job->trust.dead, s->job->trust.dead_count)));
    else
        print_keys(s, folder);
    return session_close(s, EXIT_AS_WANTED);
}

const struct command command_key_new = {
    .name = "key new",
    .arguments = "NAME",
    .summary = "makes a key pair for signing packages",
    .help = "Makes an Ed25519 key pair: NAME.key signs packages, NAME.pub is for those who trust it. Never "
            "writes over a key.\v"
            "Example:\n  einbau key new workshop",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_new,
};

const struct command command_key_trust = {
    .name = "key trust",
    .arguments = "FILE",
    .summary = "trusts a key: from then on everything that is written must be signed",
    .help = "Adds a public key to those that this user trusts, on every site and every shelf. As soon as a "
            "key is trusted, here or by the key 'trusted-keys' of the site, everything that is written must "
            "be signed by one: packages, images of the shelf, and files that --image or the site name, with "
            "FILE.json and FILE.jws beside them. A shelf never brings trusted keys with it. Prints which "
            "images of the shelf cannot be used any more.\v"
            "Example:\n  einbau key trust workshop.pub",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_trust,
};

const struct command command_key_untrust = {
    .name = "key untrust",
    .arguments = "KEY",
    .summary = "stops trusting a key",
    .help =
        "Takes a public key, named by its 43 characters or by its file, from those that this user trusts. A "
        "key that the site lists is taken from the site's 'trusted-keys', or put under its 'revoked-keys'.\v"
        "Example:\n  einbau key untrust workshop.pub",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_untrust,
};

const struct command command_key_list = {
    .name = "key list",
    .arguments = "",
    .summary = "keys whose signatures count",
    .help = "Prints the keys of this user and of the site, if one is named, and which of them have expired "
            "or were revoked.\v"
            "Example:\n  einbau key list --site larchfell.site.yaml",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .run = run_list,
};
