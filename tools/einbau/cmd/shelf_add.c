#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct telling {
    const struct options *options;
    struct table table;
    json_t *images, *others;
    size_t taken, there, unrecognised, refused;
};

json_t *shelf_image_document(const struct eb_shelf_image *i)
{
    return json_pack("{s:I, s:s, s:s, s:s, s:s, s:s, s:s, s:s, s:I, s:I, s:s, s:s, s:s, s:s}", "number",
                     (json_int_t)i->number, "digest", i->digest, "maker", i->maker, "product", i->product,
                     "order_codes", i->order_codes, "component", i->component, "version", i->version,
                     "released", i->released, "size", (json_int_t)i->size_bytes, "content",
                     (json_int_t)i->content_bytes, "format", i->format, "origin", i->origin, "added",
                     i->added, "by", i->by);
}

static void on_told(void *context, const struct eb_shelf_told *told)
{
    static const char *const words[] = {"added", "there", "unrecognised", "refused"};
    struct telling *t = context;
    size_t *const counts[] = {&t->taken, &t->there, &t->unrecognised, &t->refused};
    (*counts[told->what])++;
    if (told->what > EB_SHELF_THERE) {
        json_array_append_new(t->others, json_pack("{s:s, s:s, s:s}", "name", told->name, "became",
                                                   words[told->what], "why", told->why));
        if (!t->options->json && told->what == EB_SHELF_REFUSED)
            complain("refused: %s", told->why);
        return;
    }
    json_t *image = shelf_image_document(&told->image);
    json_object_set_new(image, "became", json_string(words[told->what]));
    json_array_append_new(t->images, image);
    char number[24];
    snprintf(number, sizeof number, "%lld", (long long)told->image.number);
    const char *const cells[] = {number,
                                 told->what == EB_SHELF_TAKEN ? "added" : "was there",
                                 told->image.product[0] != '\0' ? told->image.product
                                                                : told->image.order_codes,
                                 told->image.component,
                                 told->image.version,
                                 told->image.format,
                                 told->image.by,
                                 told->image.origin};
    table_add(&t->table, cells);
}

static const struct eb_profile *profile_named(const struct eb_profile *profiles, size_t count,
                                              const char *name)
{
    for (size_t i = 0; i < count; i++) {
        if (strcmp(profiles[i].name, name) == 0)
            return &profiles[i];
    }
    return NULL;
}

/* What the caller says of a file must make sense to the profile. */
static bool check_said(const struct options *o, struct eb_shelf_adding *adding)
{
    if (o->profile == NULL)
        return true;
    adding->profile = profile_named(adding->profiles, adding->profile_count, o->profile);
    if (adding->profile == NULL) {
        complain("--profile: found '%s', expected one of the %zu profiles in the folder", o->profile,
                 adding->profile_count);
        return false;
    }
    const struct eb_component_profile *c = eb_profile_component(adding->profile, o->component);
    if (c == NULL) {
        complain("--component: found '%s', expected a component of the profile %s", o->component, o->profile);
        return false;
    }
    if (!eb_version_readable(&c->order, o->version)) {
        complain("--version: found '%s', expected a version in %s order", o->version,
                 eb_version_scheme_word(c->order.scheme));
        return false;
    }
    if (o->revisions != NULL && !revisions_read(o->revisions, NULL))
        return false;
    adding->component = o->component;
    adding->version = o->version;
    adding->revisions = o->revisions;
    return true;
}

bool revisions_read(const char *text, char (*list)[EB_NAME_BYTES])
{
    size_t parts = 0;
    for (const char *at = text; *at != '\0'; parts++) {
        char range[EB_NAME_BYTES];
        size_t size = strcspn(at, ",");
        snprintf(range, sizeof range, "%.*s", (int)(size < sizeof range ? size : sizeof range - 1), at);
        if (size >= sizeof range || !eb_revision_range_valid(range) || parts == EB_PATTERNS_MAX) {
            complain("--revisions: found '%s', expected at most %d revisions or ranges with commas between, "
                     "like 5, C, B1 or 2..5",
                     text, EB_PATTERNS_MAX);
            return false;
        }
        if (list != NULL)
            eb_text_copy(list[parts], EB_NAME_BYTES, range);
        at += size + (at[size] == ',');
    }
    return parts > 0;
}

static void print_told(struct telling *t, const char *folder)
{
    if (t->options->json) {
        print_document(json_pack("{s:s, s:s, s:O, s:O}", "einbau", "shelf-add/1", "shelf", folder, "images",
                                 t->images, "others", t->others));
        return;
    }
    if (t->taken + t->there > 0)
        table_print(&t->table);
    if (t->taken + t->there > 0 && t->unrecognised > 0)
        puts("");
    for (size_t i = 0; i < json_array_size(t->others); i++) {
        const json_t *other = json_array_get(t->others, i);
        if (strcmp(json_string_value(json_object_get(other, "became")), "unrecognised") == 0)
            say("left out: %s: %s", json_string_value(json_object_get(other, "name")),
                json_string_value(json_object_get(other, "why")));
    }
    printf("%s%zu added, %zu there already, %zu left out, %zu refused; the shelf is %s\n",
           t->taken + t->there + t->unrecognised > 0 ? "\n" : "", t->taken, t->there, t->unrecognised,
           t->refused, folder);
    if (t->taken + t->there == 0 && t->unrecognised > 0)
        say("Nothing was recognised. Where a file says nothing of itself, say what it is: --profile NAME "
            "--component NAME --version TEXT; the profiles are taken from the site or --profiles DIR");
}

static int run(const struct options *options)
{
    static const char *const heads[] = {"NR",      "",       "PRODUCT",       "COMPONENT",
                                        "VERSION", "FORMAT", "RECOGNISED BY", "FILE"};
    struct session s;
    struct telling t = {.options = options};
    if (!session_open_office(&s, options, SHELF_IS_MADE))
        return session_close(&s, s.status);
    size_t count = 0;
    struct eb_profile *profiles = NULL;
    if (!session_profiles(&s, &profiles, &count))
        return session_close(&s, s.status);
    struct eb_shelf_adding adding = {.paths = (const char *const *)options->names,
                                     .count = options->name_count,
                                     .profiles = profiles,
                                     .profile_count = count,
                                     .trust = &s.job->trust,
                                     .told = on_told,
                                     .context = &t};
    int status = EXIT_WRONG_CALL;
    if (check_said(options, &adding)) {
        table_begin(&t.table, 8, heads);
        t.images = json_array();
        t.others = json_array();
        if (!eb_shelf_add(s.job->shelf, &adding, &s.job->problem)) {
            complain("%s. Nothing was added", s.job->problem.text);
        } else {
            print_told(&t, s.shelf_folder);
            status = t.refused > 0            ? EXIT_WRONG_CALL
                     : t.taken + t.there == 0 ? EXIT_NOT_AS_WANTED
                                              : EXIT_AS_WANTED;
        }
    }
    table_free(&t.table);
    json_decref(t.images);
    json_decref(t.others);
    eb_profiles_free(profiles, count);
    return session_close(&s, status);
}

/* What a file is that says nothing of itself. */
static void check(struct argp_state *state, const struct options *o)
{
    if ((o->profile != NULL) != (o->component != NULL) || (o->component != NULL) != (o->version != NULL))
        argp_error(state, "found only some of --profile, --component and --version, expected all three");
}

static const struct option_row *const add_options[] = {&option_profiles, &option_profile,   &option_component,
                                                       &option_version,  &option_revisions, NULL};

const struct command command_shelf_add = {
    .name = "shelf add",
    .arguments = "FILE...",
    .summary = "takes images onto the shelf: as they came, in archives, in packages",
    .help = "Takes packages, bare images, and zip and tar archives with whatever is in them, also archives; "
            "finds every image by its content, whatever it is called, and keeps it. A file with something "
            "wrong in it is refused whole. Give both files of a pair in one call.\v"
            "Examples:\n  einbau shelf add --site larchfell.site.yaml update.zip\n"
            "  einbau shelf add --profiles profiles old.bin --profile regent-c4 \\\n"
            "    --component firmware --version 4.1.9\n\n"
            "Exit status 2 where a file was refused, 1 where nothing was recognised.",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .options = add_options,
    .check = check,
    .run = run,
};
