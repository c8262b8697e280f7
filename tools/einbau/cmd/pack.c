#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* What only this command is given. */
static struct {
    const char *manifest, *sign, *notes;
    const char *maker, *product, *released, *floor, *least_running, *least_loader, *least_gateway;
    char **order_codes, **companions;
    size_t order_code_count, companion_count;
} own;

static bool wrong_call(const char *what)
{
    complain("%s", what);
    return false;
}

/* ROLE:LEAST[:ORDER] */
static bool read_companion(const char *text, struct eb_companion *companion)
{
    size_t role = strcspn(text, ":");
    const char *least = text + role + (text[role] == ':');
    size_t size = strcspn(least, ":");
    const char *order = least[size] == ':' ? least + size + 1 : "dotted";
    if (role > 0 && role < sizeof companion->role && size > 0 && size < sizeof companion->least &&
        eb_version_scheme_read(order, &companion->order.scheme)) {
        snprintf(companion->role, sizeof companion->role, "%.*s", (int)role, text);
        snprintf(companion->least, sizeof companion->least, "%.*s", (int)size, least);
        if (eb_version_readable(&companion->order, companion->least))
            return true;
    }
    complain("--companion: found '%s', expected ROLE:LEAST or ROLE:LEAST:ORDER, like plc:4.2 or "
             "tool:2026-09-18:date",
             text);
    return false;
}

static bool copy(const char *option, const char *text, char *to, size_t cap)
{
    if (text == NULL || (eb_text_copy(to, cap, text) && eb_text_printable(text)))
        return true;
    complain("%s: found a text that is too long or not printable, expected at most %zu characters", option,
             cap - 1);
    return false;
}

static bool facts_of(const struct options *o, struct eb_image_facts *f)
{
    if (o->component == NULL || o->version == NULL || own.order_code_count == 0)
        return wrong_call(
            "found no --manifest, and not all of --component, --version and --order-code, expected either");
    if (own.order_code_count > EB_PATTERNS_MAX || own.companion_count > EB_COMPANIONS_MAX)
        return wrong_call("found too many order codes or companions, expected at most 8 and 4");
    for (size_t i = 0; i < own.order_code_count; i++) {
        if (!copy("--order-code", own.order_codes[i], f->order_codes[i], EB_NAME_BYTES))
            return false;
    }
    for (size_t i = 0; i < own.companion_count; i++) {
        if (!read_companion(own.companions[i], &f->companions[i]))
            return false;
    }
    return (o->revisions == NULL || revisions_read(o->revisions, f->hardware_revisions)) &&
           copy("--component", o->component, f->component, sizeof f->component) &&
           copy("--version", o->version, f->version, sizeof f->version) &&
           copy("--floor", own.floor, f->floor, sizeof f->floor) &&
           copy("--least-running", own.least_running, f->least_running, sizeof f->least_running) &&
           copy("--least-loader", own.least_loader, f->least_loader, sizeof f->least_loader) &&
           copy("--least-gateway", own.least_gateway, f->least_gateway, sizeof f->least_gateway);
}

static bool read_whole(const char *path, char *to, size_t cap)
{
    FILE *file = fopen(path, "rb");
    size_t size = file != NULL ? fread(to, 1, cap, file) : 0;
    bool ok = file != NULL && size < cap && ferror(file) == 0;
    if (ok)
        to[size] = '\0';
    if (file != NULL)
        fclose(file);
    if (!ok)
        complain("%s: found no file that can be read of fewer than %zu bytes, expected one", path, cap);
    return ok;
}

static bool is_folder(const char *path)
{
    struct stat info;
    return stat(path, &info) == 0 && S_ISDIR(info.st_mode);
}

/* A folder becomes an archive of its files, which is one image: at `zip` for the time being. */
static bool take_folder(const struct options *o, struct eb_manifest_image *image, char *zip, size_t cap)
{
    struct eb_problem problem;
    char name[EB_FILE_BYTES - 4];
    snprintf(name, sizeof name, "%s", o->names[0]);
    for (size_t at = strlen(name); at > 1 && name[at - 1] == '/'; at--)
        name[at - 1] = '\0';
    snprintf(image->file, sizeof image->file, "%s.zip", file_name(name));
    snprintf(zip, cap, "%s.%ld.zip", o->to, (long)getpid());
    if (eb_folder_pack(o->names[0], zip, image->files, &problem))
        return true;
    complain("%s", problem.text);
    return false;
}

/* The manifest of the one file that the options describe. */
static bool from_options(const struct options *o, struct eb_manifest *m, char *zip, size_t cap)
{
    if (o->name_count != 1)
        return wrong_call("found several files, expected one, or --manifest FILE, which describes several");
    m->images = calloc(1, sizeof *m->images);
    if (m->images == NULL)
        abort();
    m->count = 1;
    eb_text_copy(m->images[0].file, sizeof m->images[0].file, file_name(o->names[0]));
    if (is_folder(o->names[0]) && !take_folder(o, &m->images[0], zip, cap))
        return false;
    return facts_of(o, &m->images[0].facts) && copy("--maker", own.maker, m->maker, sizeof m->maker) &&
           copy("--product", own.product, m->product, sizeof m->product) &&
           copy("--released", own.released, m->released, sizeof m->released) &&
           (own.notes == NULL || read_whole(own.notes, m->notes, sizeof m->notes));
}

static bool from_manifest(struct eb_manifest *m)
{
    struct eb_problem problem;
    char *text = malloc(EB_MANIFEST_BYTES);
    bool ok = text != NULL && read_whole(own.manifest, text, EB_MANIFEST_BYTES);
    if (ok && !eb_manifest_draft(own.manifest, text, strlen(text), m, &problem)) {
        complain("%s", problem.text);
        ok = false;
    }
    free(text);
    return ok;
}

/* The file for each image of the manifest, by its name. */
static const char **match(const struct options *o, const struct eb_manifest *m)
{
    const char **paths = calloc(m->count + 1, sizeof *paths);
    for (size_t i = 0; paths != NULL && i < m->count; i++) {
        for (size_t k = 0; k < o->name_count; k++) {
            if (strcmp(file_name(o->names[k]), m->images[i].file) == 0)
                paths[i] = o->names[k];
        }
        if (paths[i] == NULL) {
            complain("found no file called %s among those given, expected each that the manifest names",
                     m->images[i].file);
            free(paths);
            return NULL;
        }
    }
    if (paths != NULL && o->name_count != m->count) {
        complain("found %zu files, expected the %zu that the manifest names", o->name_count, m->count);
        free(paths);
        return NULL;
    }
    return paths;
}

/* Size and digest come from the files; what the manifest says of them already must be so. */
static bool measure(struct eb_manifest *m, const char *const *paths)
{
    static const uint8_t none[EB_SHA256_BYTES];
    for (size_t i = 0; i < m->count; i++) {
        struct eb_problem problem;
        struct eb_image_found found;
        struct eb_image_facts *f = &m->images[i].facts;
        if (!eb_file_measure(paths[i], &found, &problem)) {
            complain("%s", problem.text);
            return false;
        }
        if ((f->size_bytes != 0 && f->size_bytes != found.size_bytes) ||
            (memcmp(f->sha256, none, sizeof none) != 0 &&
             memcmp(f->sha256, found.sha256, sizeof none) != 0)) {
            complain("%s: found another size or digest than the manifest says, expected that file: leave "
                     "both out of the manifest to have them filled in",
                     paths[i]);
            return false;
        }
        f->size_bytes = found.size_bytes;
        memcpy(f->sha256, found.sha256, sizeof f->sha256);
    }
    return true;
}

static int run(const struct options *options)
{
    struct eb_manifest manifest = {0};
    struct eb_problem problem;
    const char **paths = NULL;
    char zip[EB_PATH_BYTES + 32] = "";
    bool ok =
        own.manifest != NULL ? from_manifest(&manifest) : from_options(options, &manifest, zip, sizeof zip);
    if (ok) {
        paths = zip[0] != '\0' ? calloc(1, sizeof *paths) : match(options, &manifest);
        if (paths != NULL && zip[0] != '\0')
            paths[0] = zip;
        ok = paths != NULL && measure(&manifest, paths);
    }
    if (ok && !eb_package_write(options->to, &manifest, paths, own.sign, &problem)) {
        complain("%s", problem.text);
        ok = false;
    }
    if (ok && options->json)
        print_document(json_pack("{s:s, s:s, s:I, s:b}", "einbau", "pack/1", "package", options->to, "images",
                                 (json_int_t)manifest.count, "signed", own.sign != NULL));
    else if (ok)
        printf("%s: %zu image%s, %s\n", options->to, manifest.count, manifest.count == 1 ? "" : "s",
               own.sign != NULL ? "signed" : "not signed");
    if (zip[0] != '\0')
        unlink(zip);
    free(paths);
    eb_manifest_free(&manifest);
    return ok ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
}

static const struct option_row rows[] = {
    {"manifest", "FILE", "all that is said of the images, in place of the options below", 2, OPTION_TEXT,
     .own = &own.manifest},
    {"sign", "KEY", "sign the package with this private key (einbau key new)", 2, OPTION_TEXT,
     .own = &own.sign},
    {"component", "NAME", "the component that the image is for", 3, OPTION_TEXT, .to = OPTION_TO(component)},
    {"version", "TEXT", "its version", 3, OPTION_TEXT, .to = OPTION_TO(version)},
    {"order-code", "PATTERN", "the devices that it is for; may be given several times", 3, OPTION_LIST,
     .own = &own.order_codes, .own_count = &own.order_code_count},
    {"revisions", "LIST", "their hardware revisions, like 2..5 or B1,B2", 3, OPTION_TEXT,
     .to = OPTION_TO(revisions)},
    {"least-running", "TEXT", "the least version that it may follow", 3, OPTION_TEXT,
     .own = &own.least_running},
    {"least-loader", "TEXT", "the least version of the loader", 3, OPTION_TEXT, .own = &own.least_loader},
    {"least-gateway", "TEXT", "the least version of a gateway on the way", 3, OPTION_TEXT,
     .own = &own.least_gateway},
    {"companion", "ROLE:LEAST[:ORDER]",
     "the least version of something else on the site; may be given several times", 3, OPTION_LIST,
     .own = &own.companions, .own_count = &own.companion_count},
    {"floor", "TEXT", "these devices must never get an older version", 3, OPTION_TEXT, .own = &own.floor},
    {"maker", "TEXT", "who made it", 4, OPTION_TEXT, .own = &own.maker},
    {"product", "TEXT", "for which product", 4, OPTION_TEXT, .own = &own.product},
    {"released", "DATE", "when, like 2026-09-18", 4, OPTION_TEXT, .own = &own.released},
    {"notes", "FILE", "a text with the notes", 4, OPTION_TEXT, .own = &own.notes},
};
static const struct option_row *const pack_options[] = {
    &option_to, &rows[0], &rows[1],  &rows[2],  &rows[3],  &rows[4],  &rows[5],  &rows[6], &rows[7],
    &rows[8],   &rows[9], &rows[10], &rows[11], &rows[12], &rows[13], &rows[14], NULL};

const struct command command_pack = {
    .name = "pack",
    .arguments = "FILE...|FOLDER",
    .summary = "makes a package from images",
    .help =
        "Makes a package (.einbau) of images with what is said of them, by the options for one image or "
        "by a manifest for several; size and digest are filled in. A folder is one image: its files all go "
        "to "
        "the device, in the order of their names. docs/package.md describes it.\v"
        "Examples:\n"
        "  einbau pack k8.bin --to k8-1.3.einbau --component firmware \\\n"
        "    --version 1.3 --order-code BL-K8-E --revisions 2..5 --sign workshop.key\n"
        "  einbau pack fw.hex web.zip --manifest update.json --to update.einbau\n"
        "  einbau pack panel-2.0 --to panel.einbau --component firmware \\\n"
        "    --version 2.0 --order-code HS-T07-W",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .options = pack_options,
    .run = run,
};
