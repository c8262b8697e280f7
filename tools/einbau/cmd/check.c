#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct checking {
    const struct options *options;
    const struct eb_trust *trust;
    struct table table;
    json_t *images, *findings, *others;
};

/* Patterns with ", " between. */
static const char *joined(const char list[][EB_NAME_BYTES], char *text, size_t cap)
{
    struct eb_text to;
    eb_text_init(&to, text, cap);
    for (int i = 0; i < EB_PATTERNS_MAX && list[i][0] != '\0'; i++) {
        eb_text_add(&to, i > 0 ? ", " : "");
        eb_text_add(&to, list[i]);
    }
    return text;
}

static void add_image(struct checking *c, const struct eb_shelf_told *told)
{
    char key[EB_KEY_TEXT_BYTES] = "";
    char signer[EB_KEY_TEXT_BYTES + 32] = "no signature";
    char codes[EB_FILE_BYTES];
    char revisions[EB_FILE_BYTES];
    bool counts = told->signer != NULL && c->trust->asked;
    if (told->signer != NULL) {
        eb_key_text(told->signer, key);
        snprintf(signer, sizeof signer, "%.8s..., %s", key, counts ? "which counts here" : "not listed here");
    }
    joined(told->facts->order_codes, codes, sizeof codes);
    joined(told->facts->hardware_revisions, revisions, sizeof revisions);
    const char *const cells[] = {told->image.component, told->image.version, codes,  revisions,
                                 told->facts->floor,    told->image.format,  signer, told->name};
    table_add(&c->table, cells);
    json_array_append_new(c->images,
                          json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:s*, s:b, s:s}", "name",
                                    told->name, "maker", told->image.maker, "product", told->image.product,
                                    "component", told->image.component, "version", told->image.version,
                                    "order_codes", codes, "hardware_revisions", revisions, "floor",
                                    told->facts->floor, "digest", told->image.digest, "signed_by",
                                    key[0] != '\0' ? key : NULL, "counts", counts, "by", told->image.by));
}

static void on_told(void *context, const struct eb_shelf_told *told)
{
    struct checking *c = context;
    if (told->what == EB_SHELF_TAKEN)
        add_image(c, told);
    else
        json_array_append_new(told->what == EB_SHELF_REFUSED ? c->findings : c->others,
                              json_pack("{s:s, s:s}", "name", told->name, "why", told->why));
}

static const char *text_of(const json_t *list, size_t index, const char *key)
{
    return json_string_value(json_object_get(json_array_get(list, index), key));
}

static void print_all(struct checking *c)
{
    size_t images = json_array_size(c->images);
    size_t findings = json_array_size(c->findings);
    size_t others = json_array_size(c->others);
    if (c->options->json) {
        print_document(json_pack("{s:s, s:O, s:O, s:O}", "einbau", "check/1", "images", c->images, "findings",
                                 c->findings, "others", c->others));
        return;
    }
    for (size_t i = 0; i < findings; i++)
        say("wrong: %s", text_of(c->findings, i, "why"));
    if (findings > 0 && images + others > 0)
        puts("");
    if (images > 0)
        table_print(&c->table);
    if (images > 0 && others > 0)
        puts("");
    for (size_t i = 0; i < others; i++)
        say("not an image: %s: %s", text_of(c->others, i, "name"), text_of(c->others, i, "why"));
    printf("%s%zu file%s, %zu image%s: ", images + findings + others > 0 ? "\n" : "", c->options->name_count,
           c->options->name_count == 1 ? "" : "s", images, images == 1 ? "" : "s");
    if (findings == 0 && images > 0)
        puts("nothing is wrong");
    else
        printf("%zu thing%s wrong\n", findings, findings == 1 ? "" : "s");
    if (images == 0 && findings == 0)
        puts("Nothing was recognised: with --profiles DIR also images without a manifest are");
}

static int run(const struct options *options)
{
    static const char *const heads[] = {"COMPONENT", "VERSION", "FOR",       "REVISIONS",
                                        "FLOOR",     "FORMAT",  "SIGNED BY", "FILE"};
    struct session s;
    struct checking c = {.options = options};
    struct eb_profile *profiles = NULL;
    size_t count = 0;
    int status = EXIT_WRONG_CALL;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED) || !session_profiles(&s, &profiles, &count))
        return session_close(&s, s.status);
    c.trust = &s.job->trust;
    const struct eb_shelf_adding adding = {.paths = (const char *const *)options->names,
                                           .count = options->name_count,
                                           .profiles = profiles,
                                           .profile_count = count,
                                           .trust = &s.job->trust,
                                           .told = on_told,
                                           .context = &c};
    table_begin(&c.table, 8, heads);
    c.images = json_array();
    c.findings = json_array();
    c.others = json_array();
    if (!eb_files_check(&adding, &s.job->problem)) {
        complain("%s", s.job->problem.text);
    } else {
        print_all(&c);
        status = json_array_size(c.findings) > 0 || json_array_size(c.images) == 0 ? EXIT_NOT_AS_WANTED
                                                                                   : EXIT_AS_WANTED;
    }
    table_free(&c.table);
    json_decref(c.images);
    json_decref(c.findings);
    json_decref(c.others);
    eb_profiles_free(profiles, count);
    return session_close(&s, status);
}

static const struct option_row *const check_options[] = {&option_profiles, NULL};

const struct command command_check = {
    .name = "check",
    .arguments = "FILE...",
    .summary = "what is in packages and archives, and everything that is wrong with them",
    .help = "Reads packages, archives and images as 'shelf add' does, but stores nothing. For every image it "
            "prints what it is for and who signed it, and for every file all errors, not only the first. "
            "With --site the keys of the site count, and its profiles recognise images without a manifest.\v"
            "Examples:\n  einbau check update.einbau\n"
            "  einbau check --site larchfell.site.yaml downloads/*\n\n"
            "Exit status 1 where something is wrong, or nothing is an image.",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .options = check_options,
    .run = run,
};
