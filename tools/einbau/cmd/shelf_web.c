/* A shelf on a web server: written for one (publish), and fetched from it. */
#include "report/covering.h"
#include "ui/status.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* --- publish ------------------------------------------------------------------------------------- */

static int run_publish(const struct options *options)
{
    struct session s;
    size_t count = 0;
    size_t written = 0;
    if (!session_open_office(&s, options, SHELF_IF_THERE))
        return session_close(&s, s.status);
    if (s.job->shelf == NULL) {
        complain("found no shelf in %s, expected one: 'einbau shelf add FILE' makes it", s.shelf_folder);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    if (!eb_shelf_publish(s.job->shelf, options->to, &count, &written, &s.job->problem)) {
        complain("%s. What was published before is as it was", s.job->problem.text);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    if (options->json)
        print_document(json_pack("{s:s, s:s, s:s, s:I, s:I}", "einbau", "shelf-publish/1", "shelf",
                                 s.shelf_folder, "to", options->to, "images", (json_int_t)count, "written",
                                 (json_int_t)written));
    else
        printf("%zu image%s published in %s, %zu of them new there\n", count, count == 1 ? "" : "s",
               options->to, written);
    return session_close(&s, EXIT_AS_WANTED);
}

static const struct option_row *const publish_options[] = {&option_to, NULL};

const struct command command_shelf_publish = {
    .name = "shelf publish",
    .arguments = "",
    .summary = "writes the shelf to a folder that any web server can serve",
    .help = "Writes an index and each image under its digest to a folder, for a web server that serves it as "
            "it is; 'einbau shelf fetch' reads it. What is there and right stays as it is, nothing is taken "
            "away, and the index changes last: who fetches meanwhile sees the old one or the new one.\v"
            "Example:\n  einbau shelf publish --to web/shelf",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .options = publish_options,
    .run = run_publish,
};

/* --- fetch --------------------------------------------------------------------------------------- */

static struct {
    const char *authority;
    bool all;
} own;

/* What is under way, for the line about it. */
struct fetching {
    struct session *session;
    uint64_t bytes, passed; /* of all images; of those that are through */
    char name[EB_FILE_BYTES];
    uint64_t size, got;
    double began_s, begun_with; /* since when, and with how much of it */
    size_t refused;
};

static double now_s(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (double)now.tv_sec + (double)now.tv_nsec / 1e9;
}

static bool on_progress(void *context, const char *name, uint64_t got, uint64_t all)
{
    struct fetching *f = context;
    char here[24];
    char whole[24];
    char left[32] = "";
    if (all > 0 && (strcmp(f->name, name) != 0 || got < f->got)) {
        f->passed += strcmp(f->name, name) != 0 ? f->size : 0;
        snprintf(f->name, sizeof f->name, "%s", name);
        f->began_s = now_s();
        f->begun_with = (double)got;
        if (!status_is_seen())
            fprintf(stderr, "fetching %s%s\n", name, got > 0 ? ", which was begun before" : "");
    }
    f->size = all;
    f->got = got;
    double took = now_s() - f->began_s;
    double rate = took > 1 ? ((double)got - f->begun_with) / took : 0;
    uint64_t here_bytes = f->passed + got;
    if (rate > 0 && all > 0 && f->bytes >= here_bytes)
        seconds_text((uint64_t)((double)(f->bytes - here_bytes) / rate) + 1, left, sizeof left);
    bytes_text(here_bytes, here, sizeof here);
    bytes_text(f->bytes, whole, sizeof whole);
    if (all > 0)
        status_line("%s of %s%s%s%s: %s", here, whole, left[0] != '\0' ? ", about " : "", left,
                    left[0] != '\0' ? " left" : "", name);
    else
        status_line("reading the index: %s", here);
    return session_interrupts() == 0;
}

/* Of many, the first few. */
enum { SHOWN = 5 };
static void on_refused(void *context, const char *name, const char *why)
{
    struct fetching *f = context;
    status_end();
    if (f->refused++ < SHOWN)
        complain("left out: %s: %s", name, why);
}

static bool check_url(const char *url)
{
    const char *rest = strstr(url, "://");
    if (strncmp(url, "http://", 7) != 0 && strncmp(url, "https://", 8) != 0) {
        complain("found '%s', expected the address of a published shelf, like https://images.example/shelf",
                 url);
        return false;
    }
    if (strpbrk(url, "?#") != NULL || !eb_text_printable(url)) {
        complain("found '%s', expected the address of a folder, without ? and #", url);
        return false;
    }
    if (memchr(rest + 3, '@', strcspn(rest + 3, "/")) != NULL) {
        complain(
            "found a user name in the address, expected none: others see it in the list of processes. It "
            "goes into ~/.netrc");
        return false;
    }
    return true;
}

/* All that the mirror has. */
static bool all_numbers(struct session *s, struct eb_shelf *mirror, struct covering *c)
{
    struct eb_shelf_image *list = NULL;
    size_t count = 0;
    if (!eb_shelf_list(mirror, &list, &count, &s->job->problem)) {
        complain("%s", s->job->problem.text);
        return false;
    }
    *c = (struct covering){.session = s, .numbers = calloc(count + 1, sizeof *c->numbers)};
    if (c->numbers == NULL)
        abort();
    for (size_t i = 0; i < count; i++)
        c->numbers[c->number_count++] = list[i].number;
    free(list);
    return true;
}

/* What is to come: of those that the shelf has not. */
static uint64_t sum_of(struct eb_shelf *mirror, struct eb_shelf *shelf, const struct covering *c)
{
    uint64_t bytes = 0;
    for (size_t i = 0; i < c->number_count; i++) {
        char name[24];
        struct eb_shelf_image image;
        struct eb_shelf_image own_image;
        struct eb_problem unheard;
        snprintf(name, sizeof name, "%" PRId64, c->numbers[i]);
        if (eb_shelf_find(mirror, name, &image, &unheard) &&
            !eb_shelf_find(shelf, image.digest, &own_image, &unheard))
            bytes += image.size_bytes;
    }
    return bytes;
}

static int failed(const struct session *s, enum eb_status status, const char *kept)
{
    status_end();
    complain("%s. %s", s->job->problem.text, kept);
    return status == EB_UNREACHABLE ? EXIT_NOT_REACHED
           : status == EB_STOPPED   ? EXIT_INTERRUPTED
                                    : EXIT_WRONG_CALL;
}

/* What is lacking afterwards, by the shelf itself. */
static bool lacking_now(struct session *s, size_t *wanted, size_t *lacking)
{
    struct covering c;
    bool ok = cover(&c, s);
    *wanted = c.wanted;
    *lacking = c.lacking;
    covering_free(&c);
    return ok;
}

static void print_fetched(struct session *s, const struct covering *c, size_t brought, size_t wanted,
                          size_t lacking, const json_t *newer)
{
    say("%zu image%s fetched, %zu there already; the shelf is %s", brought, brought == 1 ? "" : "s",
        c->number_count - brought, s->shelf_folder);
    if (s->job->site != NULL && !own.all) {
        if (lacking == 0)
            say("%s: the shelf has all %zu that are wanted", s->job->site->name, wanted);
        else
            say("%s: %zu of %zu lacking: 'einbau shelf cover' names them", s->job->site->name, lacking,
                wanted);
    }
    if (json_array_size(newer) > 0) {
        printf("\nNewer there than what the site wants; --all fetches it too:\n");
        print_newer(s, newer);
    }
}

static int fetch(struct session *s, const struct eb_shelf_server *server, struct eb_shelf *mirror)
{
    struct fetching *f = server->context;
    struct eb_shelf *shelf = s->job->shelf;
    struct covering c = {0};
    size_t brought = 0;
    size_t wanted = 0;
    size_t lacking = 0;
    s->job->shelf = mirror;
    bool ok = own.all ? all_numbers(s, mirror, &c) : cover(&c, s);
    json_t *newer = ok && s->job->site != NULL ? newer_rows(s) : json_array();
    ok = ok && newer != NULL;
    s->job->shelf = shelf;
    int exit = ok ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
    if (ok) {
        f->bytes = sum_of(mirror, shelf, &c);
        enum eb_status status =
            eb_shelf_fetch(server, mirror, shelf, c.numbers, c.number_count, &brought, &s->job->problem);
        status_end();
        if (status != EB_OK)
            exit = failed(
                s, status,
                "Nothing was put on the shelf; what has come is kept, and the same call goes on with it");
    }
    if (exit == EXIT_AS_WANTED && !own.all && !lacking_now(s, &wanted, &lacking))
        exit = EXIT_WRONG_CALL;
    if (exit == EXIT_AS_WANTED && s->options->json)
        print_document(
            json_pack("{s:s, s:s, s:s?, s:s, s:I, s:I, s:I, s:I, s:O}", "einbau", "shelf-fetch/1", "shelf",
                      s->shelf_folder, "site", s->job->site != NULL ? s->job->site->name : NULL, "from",
                      server->url, "images", (json_int_t)c.number_count, "fetched", (json_int_t)brought,
                      "left_out", (json_int_t)f->refused, "lacking", (json_int_t)lacking, "newer", newer));
    else if (exit == EXIT_AS_WANTED)
        print_fetched(s, &c, brought, wanted, lacking, newer);
    if (exit == EXIT_AS_WANTED && lacking > 0)
        exit = EXIT_NOT_AS_WANTED;
    covering_free(&c);
    json_decref(newer);
    return exit;
}

static int run_fetch(const struct options *options)
{
    struct session s;
    struct eb_shelf *mirror = NULL;
    struct eb_profile *profiles = NULL;
    size_t profile_count = 0;
    if (!check_url(options->names[0]))
        return EXIT_WRONG_CALL;
    if (options->site == NULL && !own.all) {
        complain(
            "found no site, expected one whose images are fetched: --site FILE; or --all for every image");
        return EXIT_WRONG_CALL;
    }
    if (!session_open_office(&s, options, SHELF_IS_MADE) || !session_profiles(&s, &profiles, &profile_count))
        return session_close(&s, s.status);
    struct fetching f = {.session = &s, .began_s = now_s()};
    const struct eb_shelf_server server = {.url = options->names[0],
                                           .authority = own.authority,
                                           .profiles = profiles,
                                           .profile_count = profile_count,
                                           .trust = &s.job->trust,
                                           .refused = on_refused,
                                           .progress = on_progress,
                                           .context = &f};
    if (strncmp(server.url, "http://", 7) == 0 && !s.job->trust.asked)
        complain("without TLS (https://) and without trusted keys nothing proves whose images these are");
    session_heed_interrupts();
    enum eb_status status = eb_shelf_mirror(&server, s.job->shelf, &mirror, &s.job->problem);
    if (f.refused > SHOWN)
        complain("left out: %zu more, for reasons like these", f.refused - SHOWN);
    int exit = status == EB_OK ? fetch(&s, &server, mirror) : failed(&s, status, "Nothing was fetched");
    eb_shelf_close(mirror);
    eb_profiles_free(profiles, profile_count);
    return session_close(&s, exit);
}

static const struct option_row authority = {"authority",
                                            "FILE",
                                            "a certificate (PEM): only a server that it has signed is "
                                            "trusted, in place of those that the system trusts",
                                            2,
                                            OPTION_TEXT,
                                            .own = &own.authority};
static const struct option_row fetch_all = {"all", NULL,        "every image, not only what the site needs",
                                            2,     OPTION_FLAG, .own = &own.all};
static const struct option_row *const fetch_options[] = {&fetch_all, &authority, &option_profiles, NULL};

const struct command command_shelf_fetch = {
    .name = "shelf fetch",
    .arguments = "URL",
    .summary = "brings what a site needs from a published shelf",
    .help =
        "Brings the images that a site needs, those on the way there included, from a shelf that 'einbau "
        "shelf publish' wrote and a web server serves. Each is compared with its digest, and where keys "
        "are trusted, only what one of them signed is seen. A download that was cut off goes on where it "
        "stood. Says what is newer there than what the site wants.\v"
        "Example:\n  einbau shelf fetch https://images.example/shelf\n\n"
        "Exit status 1 where something that the site wants is missing afterwards, 3 where the server cannot "
        "be reached.",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .options = fetch_options,
    .run = run_fetch,
};
