#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct checking {
    const struct options *options;
    const struct eb_trust *trust;
    struct table table;
    json_t *images, *findings, *others;
    const char *path; /* of the file that is looked at */
    size_t written;   /* how many were sites, profiles or worlds */
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
    printf("%s%zu file%s", images + findings + others > 0 ? "\n" : "", c->options->name_count,
           c->options->name_count == 1 ? "" : "s");
    if (images > 0 || c->written == 0)
        printf(", %zu image%s", images, images == 1 ? "" : "s");
    fputs(": ", stdout);
    if (findings == 0 && images + c->written > 0)
        puts("nothing is wrong");
    else
        printf("%zu thing%s wrong\n", findings, findings == 1 ? "" : "s");
    if (images + c->written == 0 && findings == 0)
        puts("Nothing was recognised: with --profiles DIR also images without a manifest are");
}

/* --- files that people write ----------------------------------------------------------------------- */

enum written { NOT_WRITTEN, A_SITE, A_PROFILE, A_WORLD };

/* What a YAML file is meant as: by the first key that only such a file has. */
static enum written kind_of(const char *path)
{
    static const struct {
        const char *key;
        enum written kind;
    } keys[] = {{"world:", A_WORLD}, {"profile:", A_PROFILE}, {"site:", A_SITE}};
    char line[512];
    enum written kind = NOT_WRITTEN;
    size_t size = strlen(path);
    bool yaml = (size > 5 && strcmp(path + size - 5, ".yaml") == 0) ||
                (size > 4 && strcmp(path + size - 4, ".yml") == 0);
    FILE *file = yaml ? fopen(path, "rb") : NULL;
    while (file != NULL && kind == NOT_WRITTEN && fgets(line, sizeof line, file) != NULL) {
        for (size_t i = 0; i < sizeof keys / sizeof keys[0]; i++) {
            if (strncmp(line, keys[i].key, strlen(keys[i].key)) == 0)
                kind = keys[i].kind;
        }
    }
    if (file != NULL)
        fclose(file);
    return yaml && kind == NOT_WRITTEN ? A_SITE : kind;
}

static void on_finding(void *context, const char *finding)
{
    struct checking *c = context;
    for (size_t i = 0; i < json_array_size(c->findings); i++) {
        if (strcmp(text_of(c->findings, i, "why"), finding) == 0)
            return; /* of a profile that several devices have */
    }
    json_array_append_new(c->findings, json_pack("{s:s, s:s}", "name", c->path, "why", finding));
}

/* A site, a profile or a world: true where `path` is none, and is looked at as an image. */
static bool check_written(struct checking *c, const char *path)
{
    enum written kind = kind_of(path);
    c->path = path;
    c->written += kind != NOT_WRITTEN;
    if (kind == A_SITE) {
        eb_site_check(path, on_finding, c);
    } else if (kind == A_PROFILE) {
        eb_profile_check(path, on_finding, c);
    } else if (kind == A_WORLD) {
        eb_world_check(path, on_finding, c);
    }
    return kind == NOT_WRITTEN;
}

/* --- the command ----------------------------------------------------------------------------------- */

/* Images, packages and archives, with the keys and profiles of the site. */
static int check_images(struct checking *c, const char *const *paths, size_t count)
{
    struct session s;
    struct eb_profile *profiles = NULL;
    size_t profile_count = 0;
    if (!session_open_office(&s, c->options, SHELF_NOT_NEEDED) ||
        !session_profiles(&s, &profiles, &profile_count))
        return session_close(&s, s.status);
    c->trust = &s.job->trust;
    const struct eb_shelf_adding adding = {.paths = paths,
                                           .count = count,
                                           .profiles = profiles,
                                           .profile_count = profile_count,
                                           .trust = &s.job->trust,
                                           .told = on_told,
                                           .context = c};
    bool good = eb_files_check(&adding, &s.job->problem);
    if (!good)
        complain("%s", s.job->problem.text);
    eb_profiles_free(profiles, profile_count);
    return session_close(&s, good ? EXIT_AS_WANTED : EXIT_WRONG_CALL);
}

static int run(const struct options *options)
{
    static const char *const heads[] = {"COMPONENT", "VERSION", "FOR",       "REVISIONS",
                                        "FLOOR",     "FORMAT",  "SIGNED BY", "FILE"};
    struct checking c = {
        .options = options, .images = json_array(), .findings = json_array(), .others = json_array()};
    const char **paths = calloc(options->name_count, sizeof *paths);
    size_t rest = 0;
    if (paths == NULL)
        abort();
    table_begin(&c.table, 8, heads);
    for (size_t i = 0; i < options->name_count; i++) {
        if (check_written(&c, options->names[i]))
            paths[rest++] = options->names[i];
    }
    /* Without a session where there are only such files: the site of this folder may be the one that is
     * wrong. */
    int status = rest > 0 ? check_images(&c, paths, rest) : EXIT_AS_WANTED;
    if (status == EXIT_AS_WANTED) {
        print_all(&c);
        status = json_array_size(c.findings) > 0 || json_array_size(c.images) + c.written == 0
                     ? EXIT_NOT_AS_WANTED
                     : EXIT_AS_WANTED;
    }
    free(paths);
    table_free(&c.table);
    json_decref(c.images);
    json_decref(c.findings);
    json_decref(c.others);
    return status;
}

static const struct option_row *const check_options[] = {&option_profiles, NULL};

const struct command command_check = {
    .name = "check",
    .arguments = "FILE...",
    .summary = "what is wrong with sites, profiles, packages and archives, and what is in them",
    .help =
        "Reads sites, profiles and worlds (*.yaml), and packages, archives and images as 'shelf add' does, "
        "but stores nothing. For every file it prints all errors with line and column, not only the first, "
        "and for every image what it is for and who signed it. A site is read with the profiles that it "
        "names; of a world, the first error. With --site the keys of the site count, and its profiles "
        "recognise images without a manifest.\v"
        "Examples:\n  einbau check larchfell.site.yaml\n  einbau check update.einbau\n"
        "  einbau check --site larchfell.site.yaml downloads/*\n\n"
        "Exit status 1 where something is wrong, or nothing is an image.",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .options = check_options,
    .run = run,
};
