#include "report/covering.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct {
    const char *for_device;
    bool all, newer;
} own;

enum { VERSION_COLUMN = 5 };
static const char *const heads[] = {"NR",      "MAKER",    "PRODUCT", "ORDER CODE", "COMPONENT",
                                    "VERSION", "RELEASED", "SIZE",    "FILE",       NULL};

static void add_row(struct table *table, const struct eb_shelf_image *i, const struct eb_shelf_image *before)
{
    char number[24];
    char size[24];
    bool same = before != NULL && strcmp(before->product, i->product) == 0;
    bool same_codes = same && strcmp(before->order_codes, i->order_codes) == 0;
    snprintf(number, sizeof number, "%lld", (long long)i->number);
    bytes_text(i->size_bytes, size, sizeof size);
    const char *const cells[] = {number,
                                 same ? "" : i->maker,
                                 same ? "" : i->product,
                                 same_codes ? "" : i->order_codes,
                                 same_codes && strcmp(before->component, i->component) == 0 ? ""
                                                                                            : i->component,
                                 i->version,
                                 i->released,
                                 size,
                                 file_name(i->origin)};
    table_add_below(table, cells, same ? VERSION_COLUMN : 0);
}

static int list_all(struct session *s)
{
    struct eb_shelf_image *images = NULL;
    size_t count = 0;
    uint64_t bytes = 0;
    if (s->job->shelf != NULL && !eb_shelf_list(s->job->shelf, &images, &count, &s->job->problem)) {
        complain("%s", s->job->problem.text);
        return EXIT_WRONG_CALL;
    }
    if (s->options->json) {
        json_t *list = json_array();
        for (size_t i = 0; i < count; i++)
            json_array_append_new(list, shelf_image_document(&images[i]));
        print_document(
            json_pack("{s:s, s:s, s:o}", "einbau", "shelf-list/1", "shelf", s->shelf_folder, "images", list));
    } else if (count == 0) {
        printf("The shelf %s is empty. 'einbau shelf add FILE' puts images on it.\n", s->shelf_folder);
    } else {
        struct table table;
        char text[24];
        table_begin(&table, 9, heads);
        for (size_t i = 0; i < count; i++) {
            add_row(&table, &images[i], i > 0 ? &images[i - 1] : NULL);
            bytes += images[i].size_bytes;
        }
        table_print_as(&table, &s->options->wish);
        bytes_text(bytes, text, sizeof text);
        say("\n%zu image%s, %s, on the shelf %s", count, count == 1 ? "" : "s", text, s->shelf_folder);
    }
    free(images);
    return EXIT_AS_WANTED;
}

/* The findings that are in the way, in few words. */
static void reasons(const struct eb_verdict *v, char *text, size_t cap)
{
    struct eb_text to;
    bool any = false;
    eb_text_init(&to, text, cap);
    for (size_t i = 0; i < v->count; i++) {
        const struct eb_finding *f = &v->findings[i];
        if (any &&
            v->findings[0].grade == EB_GRADE_NO) /* for another order code: what else is there to say */
            return;
        if (f->grade <= EB_GRADE_ACCEPTED)
            continue;
        char found[EB_FINDING_TEXT_BYTES + 4];
        char expected[EB_FINDING_TEXT_BYTES + 4];
        eb_text_add(&to, any ? "; " : "");
        eb_text_add(&to, eb_rule_code(f->rule));
        eb_text_add(&to, ": found ");
        eb_text_add(&to, shorter(f->found, found));
        eb_text_add(&to, ", expected ");
        eb_text_add(&to, shorter(f->expected, expected));
        any = true;
    }
}

struct listing {
    struct table table;
    json_t *list, *codes;
    size_t fitting, others;
};

static void list_candidate(struct session *s, struct eb_job_device *t, size_t component,
                           struct eb_shelf_candidate *candidate, struct listing *l)
{
    struct eb_verdict verdict;
    char number[24];
    char why[600];
    eb_job_judge(s->job, t, component, candidate, &verdict);
    if (candidate->said == NULL)
        return;
    const struct eb_shelf_image *image = &candidate->said->image;
    /* One that is older, or the same, fits if it is asked for: it is shown as such. */
    if (verdict.answer > EB_FITS_IF && !own.all) {
        l->others++;
        return;
    }
    l->fitting += verdict.answer <= EB_FITS_IF;
    reasons(&verdict, why, sizeof why);
    snprintf(number, sizeof number, "%lld", (long long)image->number);
    const char *const cells[] = {number,
                                 image->component,
                                 image->version,
                                 image->order_codes,
                                 answer_text(verdict.answer),
                                 file_name(image->origin),
                                 why};
    table_add(&l->table, cells);
    json_t *document = shelf_image_document(image);
    json_object_set_new(document, "verdict", json_string(eb_answer_word(verdict.answer)));
    json_object_set_new(document, "why", json_string(why));
    json_array_append_new(l->list, document);
}

/* Those for another order code are counted: the reason is the same for all. */
static void count_others(struct session *s, const struct eb_job_device *t, size_t component,
                         struct listing *l)
{
    struct eb_shelf_code *codes;
    size_t count;
    const char *name = t->device->profile->components[component].name;
    const char *code = t->look.identity.order_code;
    if (!own.all || code[0] == '\0')
        return;
    if (!eb_shelf_other_codes(s->job->shelf, name, code, &codes, &count, &s->job->problem))
        complain("%s", s->job->problem.text);
    for (size_t i = 0; i < count; i++)
        json_array_append_new(l->codes, json_pack("{s:s, s:s, s:I}", "component", name, "order_code",
                                                  codes[i].pattern, "images", (json_int_t)codes[i].images));
    free(codes);
}

static void list_component(struct session *s, struct eb_job_device *t, size_t component, struct listing *l)
{
    struct eb_shelf_candidate *candidates;
    size_t count;
    if (!session_candidates(s, t, component, false, &candidates, &count))
        return;
    for (size_t i = 0; i < count; i++)
        list_candidate(s, t, component, &candidates[i], l);
    eb_shelf_candidates_free(candidates, count);
    count_others(s, t, component, l);
}

/* "11 more are for other order codes: BL-K8-E (2), OR-H250 ...", whatever components they are for. */
static void print_others(const json_t *codes)
{
    enum { NAMED = 8 };
    size_t i;
    size_t named = 0;
    json_t *code;
    const char *name;
    json_int_t images = 0;
    json_t *sums = json_object();
    json_array_foreach(codes, i, code)
    {
        json_int_t more = json_integer_value(json_object_get(code, "images"));
        name = json_string_value(json_object_get(code, "order_code"));
        json_int_t sum = json_integer_value(json_object_get(sums, name)) + more;
        json_object_set_new(sums, name, json_integer(sum));
        images += more;
    }
    char *text = NULL;
    size_t size = 0;
    FILE *to = open_memstream(&text, &size);
    fprintf(to, "\n%lld more %s for other order codes:", (long long)images, images == 1 ? "is" : "are");
    json_object_foreach(sums, name, code)
    {
        json_int_t sum = json_integer_value(code);
        if (named == NAMED && json_object_size(sums) > NAMED + 1) {
            fprintf(to, ", and %zu other codes", json_object_size(sums) - NAMED);
            break;
        }
        fprintf(to, "%s %s", named++ > 0 ? "," : "", name);
        if (sum > 1)
            fprintf(to, " (%lld)", (long long)sum);
    }
    fclose(to);
    if (images > 0)
        say("%s", text);
    free(text);
    json_decref(sums);
}

static int list_for(struct session *s)
{
    static const char *const columns[] = {"NR",      "COMPONENT", "VERSION", "ORDER CODE",
                                          "VERDICT", "FILE",      "WHY"};
    struct eb_job_device *t = NULL;
    struct listing l = {.list = json_array(), .codes = json_array()};
    char seen[EB_SEEN_BYTES] = "";
    for (size_t i = 0; i < s->job->count; i++)
        t = s->job->devices[i].chosen ? &s->job->devices[i] : t;
    if (t == NULL)
        return EXIT_WRONG_CALL;
    if (!t->reached)
        eb_job_recall(s->job, t, seen);
    eb_job_foresee(s->job);
    eb_job_surround(s->job, t, false);
    table_begin(&l.table, 7, columns);
    for (size_t i = 0; s->job->shelf != NULL && i < t->device->profile->count; i++)
        list_component(s, t, i, &l);
    const struct eb_identity *id = &t->look.identity;
    if (s->options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:b, s:s, s:o, s:o}", "einbau", "shelf-list/1", "shelf",
                                 s->shelf_folder, "device", t->device->name, "reached", t->reached, "seen",
                                 seen, "images", l.list, "other_order_codes", l.codes));
        table_free(&l.table);
        return l.fitting > 0 ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
    }
    json_decref(l.list);
    printf("%s: %s, hardware revision %s%s%s\n\n", t->device->name,
           id->order_code[0] != '\0' ? id->order_code : "order code not known",
           id->hardware_revision[0] != '\0' ? id->hardware_revision : "not known",
           t->reached        ? ""
           : seen[0] != '\0' ? "; it does not answer, this is as it was seen on "
                             : "; by the site alone",
           seen);
    bool any = l.table.rows > 1;
    if (any)
        table_print(&l.table);
    else
        table_free(&l.table);
    if (l.fitting == 0)
        printf("%sNothing on the shelf fits it.\n", any ? "\n" : "");
    print_others(l.codes);
    json_decref(l.codes);
    if (l.others > 0)
        printf("%zu more for it that do not fit: --all shows them, with the reason\n", l.others);
    return l.fitting > 0 ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int list_newer(struct session *s)
{
    json_t *rows = newer_rows(s);
    if (rows == NULL)
        return s->status;
    if (s->options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:O}", "einbau", "shelf-newer/1", "shelf", s->shelf_folder,
                                 "site", s->job->site->name, "newer", rows));
    } else if (json_array_size(rows) == 0) {
        printf("Nothing on the shelf that fits a device of %s is newer than what the site wants.\n",
               s->job->site->name);
    } else {
        print_newer(s, rows);
    }
    json_decref(rows);
    return EXIT_AS_WANTED;
}

static int run(const struct options *options)
{
    struct session s;
    if (own.newer && options->site == NULL) {
        complain("--newer: found no site, expected one: --site FILE, or the variable EINBAU_SITE");
        return EXIT_WRONG_CALL;
    }
    if (own.newer) {
        if (!session_open_office(&s, options, SHELF_IF_THERE))
            return session_close(&s, s.status);
        return session_close(&s, list_newer(&s));
    }
    if (own.for_device == NULL) {
        if (!session_open_office(&s, options, SHELF_IF_THERE))
            return session_close(&s, s.status);
        return session_close(&s, list_all(&s));
    }
    struct options one = *options;
    char *name = (char *)own.for_device;
    one.names = &name;
    one.name_count = 1;
    one.site_optional = false;
    if (!session_open(&s, &one) || !session_look(&s) || !session_open_shelf(&s, false))
        return session_close(&s, s.status);
    return session_close(&s, list_for(&s));
}

static const struct option_row for_device = {
    "for", "DEVICE",    "only what fits this device of the site, newest first",
    2,     OPTION_TEXT, .own = &own.for_device};
static const struct option_row all = {"all", NULL,        "with --for: the others too, with the reason",
                                      2,     OPTION_FLAG, .own = &own.all};
static const struct option_row newer = {
    "newer", NULL,        "what fits a device of the site and is newer than what the site wants",
    2,       OPTION_FLAG, .own = &own.newer};
static const struct option_row *const list_options[] = {&for_device,     &all,         &newer,
                                                        &option_columns, &option_sort, NULL};

static void check(struct argp_state *state, const struct options *o)
{
    (void)o;
    if (own.newer && own.for_device != NULL)
        argp_error(state, "found --newer and --for, expected one of them");
    if (own.all && own.for_device == NULL)
        argp_error(state, "--all: found no --for DEVICE, expected it");
}

const struct command command_shelf_list = {
    .name = "shelf list",
    .arguments = "",
    .summary = "what is on the shelf; --for DEVICE: what fits it; --newer",
    .help = "Lists the images by product, newest first. With --for only those that fit a device of the site, "
            "judged by all rules against what it reports now, or reported when it was last seen; with --all "
            "the others too, with the reason, and what the rest is for. With --newer, in the office: what is "
            "newer "
            "than what the site wants.\v"
            "Examples:\n  einbau shelf list\n  einbau shelf list --newer --site larchfell.site.yaml\n  "
            "einbau shelf list --site larchfell.site.yaml --for tower-io-3 "
            "--all",
    .takes = SITE_OPTIONAL,
    .heads = heads,
    .options = list_options,
    .check = check,
    .run = run,
};
