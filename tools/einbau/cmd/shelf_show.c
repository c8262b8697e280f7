#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void line(const char *key, const char *value)
{
    if (value[0] != '\0')
        printf("  %-18s %s\n", key, value);
}

static void print_notes(const char *notes)
{
    if (notes[0] == '\0')
        return;
    puts("\nnotes:");
    for (const char *at = notes; *at != '\0';) {
        size_t size = strcspn(at, "\n");
        printf("  ");
        for (size_t i = 0; i < size; i++) /* no control sequence of a package reaches the terminal */
            putchar((unsigned char)at[i] < ' ' || at[i] == 127 ? ' ' : at[i]);
        puts("");
        at += size + (at[size] == '\n');
    }
}

static void print_image(const struct eb_shelf_image *i, const struct eb_manifest *manifest,
                        const char *signature, const char *check)
{
    char text[64];
    char more[24];
    char paint[PAINTED_BYTES];
    printf("%lld: %s %s\n", (long long)i->number, i->component, i->version);
    line("maker", i->maker);
    line("product", i->product);
    line("order codes", i->order_codes);
    for (size_t k = 0; k < manifest->count; k++) {
        const struct eb_image_facts *f = &manifest->images[k].facts;
        char revisions[EB_FILE_BYTES] = "";
        struct eb_text to;
        if (strcmp(f->component, i->component) != 0 || strcmp(f->version, i->version) != 0)
            continue;
        eb_text_init(&to, revisions, sizeof revisions);
        for (int r = 0; r < EB_PATTERNS_MAX && f->hardware_revisions[r][0] != '\0'; r++) {
            eb_text_add(&to, r > 0 ? ", " : "");
            eb_text_add(&to, f->hardware_revisions[r]);
        }
        line("hardware revisions", revisions[0] != '\0' ? revisions : "not said");
        line("least running", f->least_running);
        line("least loader", f->least_loader);
        line("least gateway", f->least_gateway);
        line("floor", f->floor);
        for (int c = 0; c < EB_COMPANIONS_MAX && f->companions[c].role[0] != '\0'; c++) {
            snprintf(revisions, sizeof revisions, "%s at least %s", f->companions[c].role,
                     f->companions[c].least);
            line("companion", revisions);
        }
        break;
    }
    line("released", i->released);
    bytes_text(i->size_bytes, more, sizeof more);
    snprintf(text, sizeof text, "%s, %s", i->format, more);
    line("format", text);
    if (i->content_bytes != i->size_bytes) {
        bytes_text(i->content_bytes, text, sizeof text);
        line("stands for", text);
    }
    line("digest", i->digest);
    line("came in", i->origin);
    line("added", i->added);
    line("recognised by", i->by);
    line("signature", signature);
    printf("  %-18s %s\n", "file is", painted(check, 0, paint));
    print_notes(manifest->notes);
}

static int run_show(const struct options *options)
{
    static const char *const signatures[] = {
        [EB_SIGNATURE_MISSING] = "none",
        [EB_SIGNATURE_NOT_ASKED] = "not asked for, no key is listed as trusted",
        [EB_SIGNATURE_TRUSTED] = "by a trusted key",
        [EB_SIGNATURE_WRONG] = "does not belong to the manifest",
        [EB_SIGNATURE_STRANGE] = "by a key that is not trusted here",
        [EB_SIGNATURE_DEAD] = "by a key that has expired or was revoked",
    };
    struct session s;
    struct eb_shelf_image image;
    enum eb_signature signature = EB_SIGNATURE_NOT_ASKED;
    struct eb_manifest manifest = {0};
    if (!session_open_office(&s, options, SHELF_IF_THERE))
        return session_close(&s, s.status);
    if (s.job->shelf == NULL)
        s.job->shelf = eb_shelf_open(s.shelf_folder, false, &s.job->problem);
    char *text =
        s.job->shelf != NULL && eb_shelf_find(s.job->shelf, options->names[0], &image, &s.job->problem)
            ? eb_shelf_manifest(s.job->shelf, image.number, &s.job->trust, &signature, &s.job->problem)
            : NULL;
    if (text == NULL || !eb_manifest_read("the shelf", text, strlen(text), &manifest, &s.job->problem)) {
        complain("%s", s.job->problem.text);
        free(text);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    bool whole = eb_shelf_check(s.job->shelf, &image, &s.job->problem);
    if (options->json) {
        json_t *document = shelf_image_document(&image);
        json_object_set_new(document, "manifest", json_loads(text, 0, NULL));
        json_object_set_new(document, "signature", json_string(signatures[signature]));
        json_object_set_new(document, "whole", json_boolean(whole));
        print_document(json_pack("{s:s, s:s, s:o}", "einbau", "shelf-show/1", "shelf", s.shelf_folder,
                                 "image", document));
    } else {
        print_image(&image, &manifest, signatures[signature], whole ? "whole" : "damaged");
        if (!whole)
            say("\n%s", s.job->problem.text);
    }
    free(text);
    eb_manifest_free(&manifest);
    return session_close(&s, whole ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED);
}

static int run_drop(const struct options *options)
{
    struct session s;
    if (!session_open_office(&s, options, SHELF_IF_THERE))
        return session_close(&s, s.status);
    if (s.job->shelf == NULL)
        s.job->shelf = eb_shelf_open(s.shelf_folder, false, &s.job->problem);
    struct eb_shelf_image *images = calloc(options->name_count, sizeof *images);
    bool ok = s.job->shelf != NULL && images != NULL;
    for (size_t i = 0; ok && i < options->name_count; i++) /* all are there, or none is dropped */
        ok = eb_shelf_find(s.job->shelf, options->names[i], &images[i], &s.job->problem);
    json_t *list = json_array();
    for (size_t i = 0; ok && i < options->name_count; i++) {
        ok = eb_shelf_drop(s.job->shelf, images[i].number, &s.job->problem);
        if (ok)
            json_array_append_new(list, shelf_image_document(&images[i]));
        if (ok && !options->json)
            printf("dropped %lld: %s %s %s (%s)\n", (long long)images[i].number,
                   images[i].product[0] != '\0' ? images[i].product : images[i].order_codes,
                   images[i].component, images[i].version, images[i].origin);
    }
    free(images);
    if (options->json && ok)
        print_document(
            json_pack("{s:s, s:s, s:O}", "einbau", "shelf-drop/1", "shelf", s.shelf_folder, "images", list));
    json_decref(list);
    if (!ok)
        complain("%s", s.job->problem.text);
    return session_close(&s, ok ? EXIT_AS_WANTED : EXIT_WRONG_CALL);
}

const struct command command_shelf_show = {
    .name = "shelf show",
    .arguments = "IMAGE",
    .summary = "all that is known of one image; its digest is checked",
    .help =
        "Shows what is known of an image, where it came from and by what it was recognised, and reads its "
        "file anew to check it against its digest. IMAGE is its number, or the first digits of its digest.\v"
        "Example:\n  einbau shelf show 3",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .run = run_show,
};

const struct command command_shelf_drop = {
    .name = "shelf drop",
    .arguments = "IMAGE...",
    .summary = "takes images off the shelf",
    .help = "Takes images off the shelf, each by its number or the first digits of its digest; others that "
            "came with them stay.\v"
            "Example:\n  einbau shelf drop 3 4",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .run = run_drop,
};
