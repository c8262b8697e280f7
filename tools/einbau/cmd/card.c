/* Memory cards: made for devices that update themselves from one, and checked. */
#include "report/page.h"
#include "report/report.h"
#include "session/chosen.h"
#include "session/names.h"

#include <einbau/card.h>
#include <inttypes.h>
#include <jansson.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <string.h>

enum { MB = 1000000, MIB = 1 << 20 };

static bool erase;
static const char *html;

/* --- which devices ----------------------------------------------------------------------------------- */

static struct eb_job_device *gateway_of(const struct session *s, const struct eb_job_device *t)
{
    return t->device->via != NULL ? &s->job->devices[t->device->via - s->job->site->devices] : NULL;
}

/* Whether it gets what it needs from the card of its gateway. */
static bool is_covered(const struct session *s, const struct eb_job_device *t)
{
    const struct eb_job_device *gateway = gateway_of(s, t);
    return gateway != NULL && gateway->chosen && eb_card_covers(gateway->device, t->device);
}

/* The devices into which a card goes; with each those that it is for besides. */
static bool choose(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen || t->device->profile->card != NULL || is_covered(s, t))
            continue;
        const struct eb_job_device *gateway = gateway_of(s, t);
        bool by_gateway = gateway != NULL && eb_card_covers(gateway->device, t->device);
        complain("%s: found no 'card' in its profile %s, expected one%s%s%s", t->device->name,
                 t->device->profile->name,
                 by_gateway ? ". The card of its gateway is for it too: einbau card " : "",
                 by_gateway ? eb_job_word(gateway->device->name) : "", by_gateway ? " --to PATH" : "");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (!t->left_out && is_covered(s, t) && !eb_job_choose(s->job, t->device->name, NULL))
            return session_failed(s);
    }
    s->job->for_card = true;
    return true;
}

/* A card holds all that its devices take, also what some of them run already: half of it is no card. */
static void make_whole(struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        s->job->again = s->job->again || (t->chosen && t->reached && eb_job_wants(t) && !eb_job_as_wanted(t));
    }
}

static bool takes_card(const struct session *s, const struct eb_job_device *t)
{
    return t->chosen && t->device->profile->card != NULL && !is_covered(s, t);
}

/* The files of all devices, which must be the same ones; `count` 0: there is nothing to write. */
static bool collect(struct session *s, struct eb_card_files *files)
{
    const struct eb_job_device *first = NULL;
    memset(files, 0, sizeof *files);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        struct eb_card_files own;
        if (!takes_card(s, t))
            continue;
        if (!eb_card_files_of(s->job, t, &own, &s->job->problem))
            return session_failed(s);
        if (own.count == 0) /* it runs what is wanted */
            continue;
        if (first == NULL) {
            first = t;
            *files = own;
            continue;
        }
        bool same = eb_card_files_same(files, &own);
        eb_card_files_free(&own);
        if (same)
            continue;
        complain("%s and %s take other files: one card cannot be for both. Make one for each",
                 first->device->name, t->device->name);
        s->status = EXIT_NOT_AS_WANTED;
        return false;
    }
    return true;
}

/* --- the instruction --------------------------------------------------------------------------------- */

/* Those into which the card goes; `all`: and those that it is for besides, as words of a call. */
static char *devices_text(const struct session *s, bool all)
{
    size_t *list = calloc(s->job->count + 1, sizeof *list);
    size_t count = 0;
    if (list == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (takes_card(s, t) || (all && t->chosen))
            list[count++] = i;
    }
    char *text = all ? names_of_call(s, list, count) : names_folded(s, list, count);
    free(list);
    return text;
}

enum { LINES_MAX = 32 };

/* What the person does who carries the card; `below`: belongs to the step above. */
struct instruction {
    const struct session *session;
    const struct eb_card_files *files;
    char *names; /* of the devices */
    struct line {
        char text[SENTENCE_BYTES];
        bool below;
    } list[LINES_MAX];
    size_t count;
};

__attribute__((format(printf, 3, 4))) static void add_line(struct instruction *to, bool below,
                                                           const char *format, ...)
{
    va_list arguments;
    if (to->count == LINES_MAX)
        return;
    va_start(arguments, format);
    vsnprintf(to->list[to->count].text, SENTENCE_BYTES, format, arguments);
    va_end(arguments);
    to->list[to->count++].below = below;
}

static void instruct(const struct session *s, const struct eb_card_files *files, const struct eb_medium *m,
                     struct instruction *to)
{
    const struct eb_card *card = files->card;
    char time[32];
    char *words = devices_text(s, true);
    *to = (struct instruction){.session = s, .files = files, .names = devices_text(s, false)};
    if (m->kind == EB_MEDIUM_FOLDER)
        add_line(to, false, "Before it is taken out of the laptop: umount %s", eb_job_word(m->path));
    add_line(to, false, "%s",
             card->insert != NULL ? card->insert : "Insert the card as the device's manual says.");
    if (card->shows.count > 0)
        add_line(to, false, "Wait. What is seen:");
    for (size_t i = 0; i < card->shows.count; i++)
        add_line(to, true, "%s: %s", card->shows.list[i].name, card->shows.list[i].text);
    seconds_text(card->takes_s, time, sizeof time);
    if (card->takes_s > 0)
        add_line(to, false, "It takes at most %s.%s", time,
                 card->may_cut_power ? ""
                                     : " Meanwhile leave the card where it is, and do not cut the power.");
    else if (!card->may_cut_power)
        add_line(to, false, "Do not cut the power, and leave the card where it is, until it has ended.");
    if (card->after != NULL)
        add_line(to, false, "%s", card->after);
    add_line(to, false, "Then read back what runs: einbau confirm %s", words);
    free(words);
}

static void print_instruction(const struct instruction *to)
{
    unsigned step = 1;
    puts("");
    say("With this card at %s:", to->names);
    for (size_t i = 0; i < to->count; i++) {
        if (to->list[i].below)
            say("   - %s", to->list[i].text);
        else
            say("%u. %s", step++, to->list[i].text);
    }
}

/* On a page of paper, for a person without the laptop. */
static bool write_instruction(FILE *file, const void *context)
{
    const struct instruction *to = context;
    const struct page page = {.to = file};
    bool below = false;
    fputs("<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
          "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
          "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src "
          "'unsafe-inline'\">\n<title>Memory card for ",
          file);
    page_text(&page, to->names);
    fputs(
        "</title>\n<style>@page{size:A4;margin:20mm}body{font:16px/1.5 \"DejaVu "
        "Sans\",sans-serif;max-width:44rem;"
        "margin:2rem auto;padding:0 1rem}h1{font-size:1.5rem}li{margin:.5rem 0}ul{list-style:none;padding:0}"
        "ul li{border-left:4px solid;padding-left:.6rem}td,th{text-align:left;padding:.15rem 1rem .15rem 0}"
        ".small{font-size:.8rem}.small td:last-child{overflow-wrap:anywhere}.small "
        "td+td:not(:last-child),th{white-space:nowrap}</style>\n</head>\n<body>\n<h1>Memory card for ",
        file);
    page_text(&page, to->names);
    fputs("</h1>\n<p>", file);
    page_format(&page, "%s, job %lld in the record of this laptop", to->session->job->site->name,
                (long long)to->session->job->number);
    fputs("</p>\n<ol>\n", file);
    for (size_t i = 0; i < to->count; i++) {
        bool ends = i + 1 == to->count || !to->list[i + 1].below;
        fputs(to->list[i].below && !below ? "<ul>\n<li>" : "<li>", file);
        below = to->list[i].below;
        page_text(&page, to->list[i].text);
        fputs(below ? "</li>\n" : ends ? "</li>\n" : "\n", file);
        if (below && ends)
            fputs("</ul>\n</li>\n", file);
        below = below && !ends;
    }
    fputs("</ol>\n<table class=\"small\">\n<tr><th scope=\"col\">On the card</th><th scope=\"col\">Bytes</th>"
          "<th scope=\"col\">SHA-256</th></tr>\n",
          file);
    char *text = eb_card_describe(to->files);
    json_t *files = json_loads(text, 0, NULL);
    for (size_t i = 0; i < json_array_size(files); i++) {
        const json_t *f = json_array_get(files, i);
        fputs("<tr><td>", file);
        page_text(&page, json_string_value(json_object_get(f, "path")));
        fprintf(file, "</td><td>%lld</td><td>%s</td></tr>\n",
                (long long)json_integer_value(json_object_get(f, "size_bytes")),
                json_string_value(json_object_get(f, "sha256")));
    }
    json_decref(files);
    free(text);
    fputs("</table>\n</body>\n</html>\n", file);
    return !ferror(file);
}

static void print_files(const struct eb_card_files *files)
{
    static const char *const heads[] = {"FILE", "SIZE", "MADE OF"};
    struct table table;
    table_begin(&table, 3, heads);
    table.plain = 3;
    for (size_t i = 0; i < files->count; i++) {
        const struct eb_card_file *f = &files->list[i];
        const char *slash = strrchr(f->image, '/');
        char size[32];
        bytes_text(f->size_bytes, size, sizeof size);
        const char *const cells[] = {f->path, size,
                                     f->text != NULL ? "a text of the profile"
                                     : slash != NULL ? slash + 1
                                                     : f->image};
        table_add(&table, cells);
    }
    table_print(&table);
}

static json_t *files_document(const struct eb_card_files *files)
{
    char *text = eb_card_describe(files);
    json_t *list = json_loads(text, 0, NULL);
    free(text);
    return list;
}

/* --- making one -------------------------------------------------------------------------------------- */

static void say_fault(void *context, const char *finding)
{
    json_t *list = context;
    json_array_append_new(list, json_string(finding));
}

static void print_faults(const char *path, const json_t *faults)
{
    for (size_t i = 0; i < json_array_size(faults); i++)
        say("%s: %s", path, json_string_value(json_array_get(faults, i)));
}

static const char *last_part(const char *path)
{
    const char *slash = strrchr(path, '/');
    return slash != NULL && slash[1] != '\0' ? slash + 1 : path;
}

/* A person types the medium's name before all that is on it is lost. */
static bool may_erase(struct session *s, const struct eb_medium *m)
{
    char typed[EB_NAME_BYTES] = "";
    char question[EB_PATH_BYTES + 160];
    snprintf(question, sizeof question,
             "Everything on %.900s (%" PRIu64 " MB, entries: %zu) is lost. Type %.100s to erase it:", m->path,
             m->size_bytes / MB, m->count, last_part(m->path));
    if (session_types(s, typed, sizeof typed, question) && strcmp(typed, last_part(m->path)) == 0)
        return true;
    complain("%s: found '%s', expected '%s', typed on a terminal. Nothing was erased", m->path, typed,
             last_part(m->path));
    s->status = EXIT_NOT_AS_WANTED;
    return false;
}

/* Whether it is erased first; false where the command ends. */
static bool judge_medium(struct session *s, const struct eb_medium *m, const struct eb_card_files *files,
                         bool *erases)
{
    bool helps;
    json_t *faults = json_array();
    size_t count = eb_medium_unfit(m, files, &helps, say_fault, faults);
    *erases = m->missing;
    if (count > 0 && !(helps && erase)) {
        print_faults(m->path, faults);
        complain("%s: nothing was written%s", m->path,
                 helps ? ". With --erase it is made right: everything on it is lost then" : "");
        s->status = EXIT_NOT_AS_WANTED;
    }
    if (count > 0 && helps && erase)
        print_faults(m->path, faults);
    bool good = count == 0 || (helps && erase && may_erase(s, m));
    *erases = *erases || count > 0;
    json_decref(faults);
    return good;
}

/* Of an image file that is not there yet: room for what belongs on it, and for a file system that is read. */
static uint64_t fresh_size(const struct eb_card_files *files)
{
    const uint64_t least = (files->card->file_systems >> EB_FS_FAT32 & 1) != 0   ? 64
                           : (files->card->file_systems >> EB_FS_FAT16 & 1) != 0 ? 16
                                                                                 : 3;
    uint64_t wanted = 1 + (files->size_bytes + files->size_bytes / 8) / MIB;
    return (least > wanted + 2 ? least : wanted + 2) * MIB;
}

static bool make(struct session *s, struct eb_medium *m, const struct eb_card_files *files, bool erases)
{
    if (erases && !eb_medium_erase(m, files->card, fresh_size(files), &s->job->problem))
        return false;
    return eb_card_write(m, files, &s->job->problem);
}

/* Why no card is made, after the plan has named the devices; NULL: nothing is against it. */
static const char *refused_as(const struct session *s)
{
    const char *why = NULL;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && t->refused)
            return "it would be for a device that does not take it";
        if (t->chosen && !t->reached)
            why = "without a look at each device nothing says whether it takes it";
    }
    return why;
}

/* What a medium is called where it is locked: a disk by its number, anything else by where it is. */
static void medium_key(const struct eb_medium *m, char key[EB_LOCK_KEY_BYTES])
{
    struct stat st;
    char folder[EB_PATH_BYTES];
    snprintf(folder, sizeof folder, "%s", m->path);
    char *slash = strrchr(folder, '/');
    const char *name = slash != NULL ? m->path + (slash + 1 - folder) : m->path;
    if (slash != NULL)
        slash[slash == folder ? 1 : 0] = '\0';
    char *whole = realpath(slash != NULL ? folder : ".", NULL);
    if (stat(m->path, &st) == 0 && S_ISBLK(st.st_mode))
        snprintf(key, EB_LOCK_KEY_BYTES, "card disk %llu", (unsigned long long)st.st_rdev);
    else
        snprintf(key, EB_LOCK_KEY_BYTES, "card %.100s/%.40s", whole != NULL ? whole : "", name);
    free(whole);
}

/* One call at a time writes to a medium; on simulated hardware also where there is no place for locks.  False
 * after a complaint.
 */
static bool lock_medium(struct session *s, const struct eb_medium *m, struct eb_locks **taken)
{
    struct eb_lock_holder holder;
    char key[EB_LOCK_KEY_BYTES];
    char who[160];
    struct eb_locks *locks = eb_locks_open("card", &s->job->problem);
    *taken = locks;
    medium_key(m, key);
    if (locks == NULL && s->sim != NULL)
        return true;
    enum eb_status status = locks != NULL ? eb_locks_take(locks, key, &holder, &s->job->problem) : EB_IO;
    if (status == EB_OK)
        return true;
    if (status == EB_BUSY)
        eb_job_holder_text(&holder, who, sizeof who);
    if (status == EB_BUSY)
        complain("%s: %s is working on it. Wait until that has ended. Nothing was written", m->path, who);
    else
        complain("%s. Nothing was written", s->job->problem.text);
    eb_locks_close(locks);
    return false;
}

static int write_card(struct session *s, struct eb_card_files *files, struct eb_medium *m)
{
    char question[EB_PATH_BYTES + 80];
    char size[32];
    bool erases;
    if (!judge_medium(s, m, files, &erases))
        return s->status;
    bytes_text(files->size_bytes, size, sizeof size);
    snprintf(question, sizeof question, "Write %zu file%s (%s) to %.900s?", files->count,
             files->count == 1 ? "" : "s", size, m->path);
    if (!session_may(s, question, "nothing was written") || !job_begin(s, "nothing was written"))
        return s->status;
    struct eb_locks *locks;
    if (!lock_medium(s, m, &locks)) {
        eb_job_end(s->job, "failed");
        return EXIT_NOT_AS_WANTED;
    }
    bool good = make(s, m, files, erases);
    struct eb_problem why = s->job->problem;
    eb_locks_close(locks);
    if (good && !eb_job_record_card(s->job, files))
        complain("the record of jobs cannot be written: %s", s->job->problem.text);
    eb_job_end(s->job, good ? "card-written" : "failed");
    if (!good) {
        complain("%s is no card that may be used: %s", m->path, why.text);
        return EXIT_NOT_AS_WANTED;
    }
    struct instruction to;
    instruct(s, files, m, &to);
    bool told = html == NULL || page_file(html, write_instruction, &to);
    if (s->options->json) {
        print_document(json_pack("{s:s, s:s, s:s, s:I, s:s, s:o}", "einbau", "card/1", "site",
                                 s->job->site->name, "medium", m->path, "job", (json_int_t)s->job->number,
                                 "file_system", eb_file_system_word(m->fs), "files", files_document(files)));
    } else {
        puts("");
        say("%s: %zu file%s written and read back, byte by byte", m->path, files->count,
            files->count == 1 ? "" : "s");
        puts("");
        print_files(files);
        print_instruction(&to);
        if (s->job->number > 0)
            say("\nIn the record: job %lld", (long long)s->job->number);
    }
    free(to.names);
    return told ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
}

static int run(const struct options *options)
{
    struct session s;
    struct eb_card_files files;
    struct eb_medium medium;
    if (!session_open(&s, options) || !choose(&s) || !session_look(&s))
        return session_close(&s, s.status);
    make_whole(&s);
    if (!session_plan(&s))
        return session_close(&s, s.status);
    if (!options->json)
        print_plan(&s);
    const char *refused = refused_as(&s);
    if (refused != NULL) {
        complain("no card was made: %s", refused);
        return session_close(&s, EXIT_NOT_AS_WANTED);
    }
    if (!collect(&s, &files))
        return session_close(&s, s.status);
    if (files.count == 0) {
        complain("no card was made: what is wanted runs already. With --again it is made all the same");
        return session_close(&s, EXIT_AS_WANTED);
    }
    int status = EXIT_WRONG_CALL;
    bool there = eb_medium_look(options->to, &medium, &s.job->problem);
    if (there && medium.missing && !eb_medium_image_name(options->to)) {
        complain("%s: found nothing there, expected the top folder of a mounted card, or the card itself. "
                 "The name of an "
                 "image file that is to be made ends with .img",
                 options->to);
    } else if (there) {
        status = write_card(&s, &files, &medium);
        eb_medium_free(&medium);
    } else {
        complain("%s", s.job->problem.text);
    }
    eb_card_files_free(&files);
    return session_close(&s, status);
}

static const struct option_row row_erase = {
    "erase",
    NULL,
    "make a new file system where the medium needs one: everything on it is lost. You type its name",
    2,
    OPTION_FLAG,
    .own = &erase};
static const struct option_row row_html = {
    "html", "FILE",      "write the instruction as a page, too: for the person who carries the card",
    2,      OPTION_TEXT, .own = &html};
static const struct option_row *const card_options[] = {
    &option_to,    &row_html,           &row_erase,  &option_without,  &option_image, &option_accept,
    &option_again, &option_add_address, &option_yes, &option_key_file, NULL};

const struct command command_card = {
    .name = "card",
    .arguments = "DEVICE... --to PATH",
    .summary = "makes a memory card for devices that update themselves from one",
    .help =
        "Looks at the devices, judges the images as 'plan' does, and puts onto the medium exactly what their "
        "profile wants there: the top folder of a mounted card, an image file of one, or the card itself. "
        "What is "
        "written is read back from the medium and compared. A gateway's card brings what the devices behind "
        "it "
        "need, where its profile says so. Disks of this computer, and media with anything but FAT or exFAT, "
        "are "
        "never written.\v"
        "Example:\n  einbau card mast-gateway --to card.img --site larchfell.site.yaml\n\n"
        "Exit status 1 where no card was made. What it did shows 'confirm'.",
    .takes = NAMES_DEVICES | NEEDS_NAMES,
    .options = card_options,
    .run = run,
};

/* --- checking one ------------------------------------------------------------------------------------ */

/* The plan for a device that gets everything that is wanted, by what is known of it. */
static bool plan_from_memory(struct session *s)
{
    char seen[EB_SEEN_BYTES];
    s->job->for_card = true;
    s->job->again = true;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        bool covered = t->device->via != NULL && eb_card_covers(t->device->via, t->device);
        if (t->chosen && t->device->profile->card == NULL && !covered && s->options->name_count > 0) {
            complain("%s: found no 'card' in its profile %s, expected one", t->device->name,
                     t->device->profile->name);
            s->status = EXIT_WRONG_CALL;
            return false;
        }
        t->chosen = (t->chosen && t->device->profile->card != NULL) || (covered && gateway_of(s, t)->chosen);
        t->reached = t->chosen;
        eb_job_recall(s->job, t, seen);
    }
    return session_plan(s);
}

/* What lies there may be what the site wants, and yet nothing for this device. */
static void say_unfit(const struct eb_job_device *t, json_t *faults)
{
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        for (size_t i = 0; i < v->count; i++) {
            const struct eb_finding *f = &v->findings[i];
            if (f->grade == EB_GRADE_NO && f->rule != EB_RULE_BATCH)
                json_array_append_new(faults, json_sprintf("%s %s does not fit %s: %s: found %s, expected %s",
                                                           t->items[k].component->name,
                                                           t->items[k].image->version, t->device->name,
                                                           eb_rule_code(f->rule), f->found, f->expected));
        }
    }
}

static json_t *check_device(struct session *s, const struct eb_job_device *t, const struct eb_medium *m)
{
    struct eb_card_files files;
    json_t *faults = json_array();
    for (size_t k = 0; k < t->device->profile->count; k++) {
        if (t->components[k].lacks)
            json_array_append_new(faults,
                                  json_sprintf("the shelf has no %s %s to compare it with",
                                               t->device->profile->components[k].name, eb_job_wanted(t, k)));
    }
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *other = &s->job->devices[i];
        if (other == t || (other->chosen && eb_card_covers(t->device, other->device)))
            say_unfit(other, faults);
    }
    if (!eb_card_files_of(s->job, t, &files, &s->job->problem)) {
        json_array_append_new(faults, json_string(s->job->problem.text));
    } else {
        if (files.count == 0 && json_array_size(faults) == 0)
            json_array_append_new(faults, json_string("the site wants nothing of it"));
        eb_card_check(m, &files, say_fault, faults);
        eb_card_files_free(&files);
    }
    return json_pack("{s:s, s:b, s:o}", "name", t->device->name, "right", json_array_size(faults) == 0,
                     "faults", faults);
}

static void print_check(const struct eb_medium *m, const json_t *devices, size_t right)
{
    size_t asked = json_array_size(devices);
    char names[512] = "";
    for (size_t i = 0; i < asked; i++) {
        const json_t *device = json_array_get(devices, i);
        size_t at = strlen(names);
        if (json_is_true(json_object_get(device, "right")) && at < sizeof names - 64)
            snprintf(names + at, sizeof names - at, "%s%s", at > 0 ? ", " : "",
                     json_string_value(json_object_get(device, "name")));
    }
    if (right > 0)
        say("%s: right for %s", m->path, names);
    else if (asked == 1)
        say("%s: wrong for %s", m->path,
            json_string_value(json_object_get(json_array_get(devices, 0), "name")));
    else
        say("%s: wrong for all %zu devices that it could be for", m->path, asked);
    for (size_t i = 0; i < asked; i++) {
        const json_t *device = json_array_get(devices, i);
        const json_t *faults = json_object_get(device, "faults");
        for (size_t k = 0; k < json_array_size(faults); k++)
            say("%s: %s", json_string_value(json_object_get(device, "name")),
                json_string_value(json_array_get(faults, k)));
    }
    puts("");
    say("On it: %s%s, %" PRIu64 " MB, entries: %zu",
        m->fs == EB_FS_OTHER ? m->other : eb_file_system_word(m->fs),
        m->partitions == 1 ? " in a partition" : "", m->size_bytes / MB, m->count);
    for (size_t i = 0; i < m->count && i < 20; i++)
        say("  %s", m->entries[i].path);
    if (m->count > 20)
        say("  and %zu more", m->count - 20);
}

static int check_card(struct session *s, const char *path)
{
    struct eb_medium medium;
    json_t *devices = json_array();
    size_t right = 0;
    bool there = eb_medium_look(path, &medium, &s->job->problem);
    if (!there)
        complain("%s", s->job->problem.text);
    else if (medium.missing)
        complain("%s: cannot be opened: no such file or folder", path);
    if (!there || medium.missing) {
        json_decref(devices);
        return EXIT_WRONG_CALL;
    }
    if (!plan_from_memory(s)) {
        eb_medium_free(&medium);
        json_decref(devices);
        return s->status;
    }
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen || t->device->profile->card == NULL)
            continue;
        json_t *device = check_device(s, t, &medium);
        right += json_is_true(json_object_get(device, "right"));
        json_array_append_new(devices, device);
    }
    if (json_array_size(devices) == 0) {
        complain("no device of %s takes a memory card: found no 'card' in its profiles", s->job->site->name);
        eb_medium_free(&medium);
        json_decref(devices);
        return EXIT_WRONG_CALL;
    }
    bool good = s->options->name_count > 0 ? right == json_array_size(devices) && right > 0 : right > 0;
    if (!s->options->json) {
        print_check(&medium, devices, right);
        json_decref(devices);
    } else {
        json_t *entries = json_array();
        for (size_t i = 0; i < medium.count; i++)
            json_array_append_new(entries, json_string(medium.entries[i].path));
        print_document(json_pack("{s:s, s:s, s:s, s:s, s:I, s:o, s:o}", "einbau", "card-check/1", "site",
                                 s->job->site->name, "medium", medium.path, "file_system",
                                 eb_file_system_word(medium.fs), "size_bytes", (json_int_t)medium.size_bytes,
                                 "entries", entries, "devices", devices));
    }
    eb_medium_free(&medium);
    return good ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int run_check(const struct options *options)
{
    struct session s;
    struct options own = *options;
    const char *path = options->names[0];
    own.names++;
    own.name_count--;
    own.names_devices = true;
    if (!chosen_open_office(&s, &own))
        return session_close(&s, s.status);
    return session_close(&s, check_card(&s, path));
}

const struct command command_card_check = {
    .name = "card check",
    .arguments = "PATH [DEVICE...]",
    .summary = "what is on a memory card, for which devices it is right, and what is wrong with it",
    .help = "Compares a medium with what the site wants of each device that takes a card: names, bytes, file "
            "system, "
            "and what else lies there. Nothing is written, and no device is asked: what it runs counts as it "
            "was seen "
            "last.\v"
            "Examples:\n  einbau card mast-gateway --to card.img --site larchfell.site.yaml\n"
            "  einbau card check card.img --site larchfell.site.yaml\n\n"
            "Exit status 1 where it is not right for one of the devices named, or for none.",
    .takes = NEEDS_NAMES,
    .run = run_check,
};
