/* Files of a web server, by libcurl: gone on with where they were cut off. */
#include "curl.h"
#include "shelf/published.h"

#include <einbau/einbau.h>
#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

enum {
    CONNECT_S = 15,
    SILENCE_S = 30,
    SLOWEST_BYTES_PER_S = 256,
    TRIES = 5,            /* without ... */
    STEP_BYTES = 1 << 16, /* ... so much in between */
    AFRESH = 3,           /* for one file */
    WORDS_BYTES_MAX = 1 << 16,
    OK = 200,
    PARTIAL = 206,
    REDIRECT = 300,
    REFUSED = 400,
    UNKNOWN_USER = 401,
    FORBIDDEN = 403,
    NOT_FOUND = 404,
    BEYOND_END = 416,
    TOO_MANY = 429,
    FAULT_OF_SERVER = 500
};

struct ebi_download {
    const struct ebi_curl *api;
    CURL *curl;
    const struct eb_shelf_server *server;
    const char *label;
    char url[2048], error[CURL_ERROR_SIZE];
    int fd;             /* of a file, or -1 ... */
    char *text;         /* ... for which this is */
    uint64_t got, size; /* what is here; the most that may come */
    size_t other;       /* bytes of an answer that is not the file */
    bool too_long, stopped;
    int why; /* errno of a file that could not be written */
};

/* --- callbacks ------------------------------------------------------------------------------------- */

static long status_of(const struct ebi_download *d)
{
    long status = 0;
    d->api->curl_easy_getinfo(d->curl, CURLINFO_RESPONSE_CODE, &status);
    return status;
}

static bool keep(struct ebi_download *d, const char *bytes, size_t size)
{
    if (d->fd < 0) {
        char *more = realloc(d->text, (size_t)d->got + size + 1);
        if (more == NULL)
            abort();
        memcpy(more + d->got, bytes, size);
        d->text = more;
        return true;
    }
    for (size_t at = 0; at < size;) {
        ssize_t n = pwrite(d->fd, bytes + at, size - at, (off_t)(d->got + at));
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0) {
            d->why = errno;
            return false;
        }
        at += (size_t)n;
    }
    return true;
}

static size_t on_bytes(char *bytes, size_t size, size_t count, void *context)
{
    struct ebi_download *d = context;
    size_t n = size * count;
    long status = status_of(d);
    if (status != OK && status != PARTIAL)
        return (d->other += n) <= WORDS_BYTES_MAX ? n : 0; /* what a server says about that */
    if (n > d->size - d->got) {
        d->too_long = true;
        return 0;
    }
    if (!keep(d, bytes, n))
        return 0;
    d->got += n;
    return n;
}

static int on_progress(void *context, curl_off_t to_come, curl_off_t came, curl_off_t to_go, curl_off_t gone)
{
    struct ebi_download *d = context;
    (void)to_come;
    (void)came;
    (void)to_go;
    (void)gone;
    d->stopped = d->server->progress != NULL &&
                 !d->server->progress(d->server->context, d->label, d->got, d->fd < 0 ? 0 : d->size);
    return d->stopped;
}

/* --- one try --------------------------------------------------------------------------------------- */

static void set_up(struct ebi_download *d)
{
    const struct ebi_curl *api = d->api;
    api->curl_easy_setopt(d->curl, CURLOPT_ERRORBUFFER, d->error);
    api->curl_easy_setopt(d->curl, CURLOPT_NOSIGNAL, 1L);
    api->curl_easy_setopt(d->curl, CURLOPT_PROTOCOLS_STR, "http,https");
    api->curl_easy_setopt(d->curl, CURLOPT_NETRC, (long)CURL_NETRC_OPTIONAL);
    api->curl_easy_setopt(d->curl, CURLOPT_USERAGENT, "einbau/" EB_VERSION);
    api->curl_easy_setopt(d->curl, CURLOPT_CONNECTTIMEOUT, (long)CONNECT_S);
    api->curl_easy_setopt(d->curl, CURLOPT_LOW_SPEED_LIMIT, (long)SLOWEST_BYTES_PER_S);
    api->curl_easy_setopt(d->curl, CURLOPT_LOW_SPEED_TIME, (long)SILENCE_S);
    api->curl_easy_setopt(d->curl, CURLOPT_BUFFERSIZE, 1L << 18);
    api->curl_easy_setopt(d->curl, CURLOPT_WRITEFUNCTION, on_bytes);
    api->curl_easy_setopt(d->curl, CURLOPT_WRITEDATA, d);
    api->curl_easy_setopt(d->curl, CURLOPT_NOPROGRESS, 0L);
    api->curl_easy_setopt(d->curl, CURLOPT_XFERINFOFUNCTION, on_progress);
    api->curl_easy_setopt(d->curl, CURLOPT_XFERINFODATA, d);
    if (d->server->authority != NULL) {
        api->curl_easy_setopt(d->curl, CURLOPT_CAINFO, d->server->authority);
        api->curl_easy_setopt(d->curl, CURLOPT_CAPATH, NULL);
    }
}

/* Whether another try may help. */
static bool may_help(CURLcode result, long status)
{
    if (status >= FAULT_OF_SERVER || status == TOO_MANY)
        return true;
    switch (result) {
    case CURLE_COULDNT_CONNECT:
    case CURLE_OPERATION_TIMEDOUT:
    case CURLE_GOT_NOTHING:
    case CURLE_PARTIAL_FILE:
    case CURLE_SEND_ERROR:
    case CURLE_RECV_ERROR:
    case CURLE_HTTP2:
    case CURLE_HTTP2_STREAM:
    case CURLE_SSL_CONNECT_ERROR:
        return true;
    default:
        return false;
    }
}

__attribute__((format(printf, 3, 4))) static enum eb_status
say(struct eb_problem *problem, enum eb_status status, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(problem->text, sizeof problem->text, format, arguments);
    va_end(arguments);
    return status;
}

/* What has happened, why, and what helps. */
static enum eb_status explain(const struct ebi_download *d, CURLcode result, long status,
                              struct eb_problem *problem)
{
    const char *url = d->url;
    const char *detail = d->error[0] != '\0' ? d->error : "no reason was given";
    char words[CURL_ERROR_SIZE];
    if (d->stopped)
        return say(problem, EB_STOPPED, "%.900s: interrupted", url);
    if (d->why != 0)
        return say(problem, EB_IO, "%.500s: it cannot be kept here: %s", url, strerror(d->why));
    if (d->too_long)
        return say(problem, EB_GARBAGE, "%.500s: found more than %llu bytes, expected at most that", url,
                   (unsigned long long)d->size);
    eb_text_copy_foreign(words, sizeof words, (const uint8_t *)detail, strlen(detail));
    if (result == CURLE_PEER_FAILED_VERIFICATION || result == CURLE_SSL_CACERT_BADFILE)
        return say(problem, EB_GARBAGE,
                   "%.500s: the server's certificate is not trusted here: %s. If it is your own server: "
                   "--authority FILE names the certificate that signed it",
                   url, words);
    if (result == CURLE_COULDNT_RESOLVE_HOST || result == CURLE_COULDNT_RESOLVE_PROXY)
        return say(problem, EB_UNREACHABLE,
                   "%.500s: %s. Look at how the name is spelt, and whether this laptop is on the network",
                   url, words);
    if (status == NOT_FOUND)
        return say(
            problem, EB_GARBAGE,
            "%.500s: the server has no such file (404), expected the folder that 'einbau shelf publish' "
            "wrote",
            url);
    if (status >= REDIRECT && status < REFUSED) {
        char *to = NULL;
        d->api->curl_easy_getinfo(d->curl, CURLINFO_REDIRECT_URL, &to);
        eb_text_copy_foreign(words, sizeof words, (const uint8_t *)(to != NULL ? to : ""),
                             to != NULL ? strlen(to) : 0);
        return say(problem, EB_GARBAGE,
                   "%.500s: the server sends elsewhere (%ld): %s. Give that address if it is the right one",
                   url, status, words);
    }
    if (status >= REFUSED && !may_help(result, status))
        return say(problem, EB_GARBAGE, "%.500s: the server refuses it (%ld)%s", url, status,
                   status == UNKNOWN_USER || status == FORBIDDEN
                       ? ". A user name and a password for it stand in ~/.netrc"
                       : "");
    if (status >= REFUSED)
        return say(problem, EB_UNREACHABLE, "%.500s: the server cannot give it now (%ld)", url, status);
    return say(problem, EB_UNREACHABLE, "%.500s: %s", url, words);
}

/* --- to the end ------------------------------------------------------------------------------------ */

/* True: once more. */
static bool wait(struct ebi_download *d, unsigned tries)
{
    const struct timespec pause = {.tv_nsec = 100000000};
    unsigned pauses = tries > 1 ? 10U << (tries - 2) : 2; /* 0.2, 1, 2, 4 s */
    while (pauses-- > 0) {
        nanosleep(&pause, NULL);
        if (on_progress(d, 0, 0, 0, 0) != 0)
            return false;
    }
    return true;
}

static CURLcode try_once(struct ebi_download *d, long *status)
{
    d->error[0] = '\0';
    d->too_long = false;
    d->other = 0;
    /* A text that was cut off is read anew: it may be another one by now. */
    if (d->fd < 0)
        d->got = 0;
    d->api->curl_easy_setopt(d->curl, CURLOPT_RESUME_FROM_LARGE, (curl_off_t)d->got);
    CURLcode result = d->api->curl_easy_perform(d->curl);
    *status = status_of(d);
    return result;
}

static enum eb_status run(struct ebi_download *d, struct eb_problem *problem)
{
    unsigned tries = 0;
    unsigned left = AFRESH;
    for (;;) {
        long status;
        uint64_t before = d->got;
        CURLcode result = try_once(d, &status);
        bool fine = status == OK || status == PARTIAL;
        if (result == CURLE_OK && fine && (d->fd < 0 || d->got == d->size))
            return EB_OK;
        if (result == CURLE_OK && fine)
            return say(problem, EB_GARBAGE, "%.500s: found %llu bytes, expected %llu as its index says",
                       d->url, (unsigned long long)d->got, (unsigned long long)d->size);
        /* A server that gives no parts, or has a shorter file now: from its beginning. */
        bool afresh = before > 0 && d->fd >= 0 && (result == CURLE_RANGE_ERROR || status == BEYOND_END);
        if (afresh && left-- > 0) {
            d->got = 0;
            continue;
        }
        tries = d->got >= before + STEP_BYTES ? 1 : tries + 1; /* one that drips has an end */
        if (d->stopped || d->why != 0 || tries >= TRIES || !may_help(result, status) || !wait(d, tries))
            return explain(d, result, status, problem);
    }
}

struct ebi_download *ebi_download_open(const struct eb_shelf_server *server, struct eb_problem *problem)
{
    const struct ebi_curl *api = ebi_curl();
    struct ebi_download *d = calloc(1, sizeof *d);
    if (d == NULL)
        abort();
    *d = (struct ebi_download){.server = server, .api = api};
    bool ok = api != NULL && api->curl_global_init(CURL_GLOBAL_DEFAULT) == CURLE_OK;
    d->curl = ok ? api->curl_easy_init() : NULL;
    if (d->curl != NULL) {
        set_up(d);
        return d;
    }
    say(problem, EB_IO, "libcurl, which fetches from web servers, is not on this laptop: install libcurl4");
    if (ok)
        api->curl_global_cleanup();
    free(d);
    return NULL;
}

void ebi_download_close(struct ebi_download *d)
{
    if (d == NULL)
        return;
    d->api->curl_easy_cleanup(d->curl);
    d->api->curl_global_cleanup();
    free(d);
}

/* What the next file is called, for the server and for people. */
static bool name(struct ebi_download *d, const char *file, const char *label, struct eb_problem *problem)
{
    const char *url = d->server->url;
    size_t length = strlen(url);
    while (length > 0 && url[length - 1] == '/')
        length--;
    d->label = label;
    if ((size_t)snprintf(d->url, sizeof d->url, "%.*s/%s", (int)length, url, file) < sizeof d->url)
        return true;
    say(problem, EB_IO, "%.100s...: found a longer address than can be used", url);
    return false;
}

enum eb_status ebi_download_text(struct ebi_download *d, const char *file, size_t most, char **text,
                                 size_t *size, struct eb_problem *problem)
{
    d->fd = -1;
    d->size = most;
    d->text = NULL;
    enum eb_status status = EB_IO;
    if (name(d, file, file, problem)) {
        d->api->curl_easy_setopt(d->curl, CURLOPT_URL, d->url);
        d->api->curl_easy_setopt(d->curl, CURLOPT_ACCEPT_ENCODING, "");
        status = run(d, problem);
    }
    *size = (size_t)d->got;
    *text = d->text;
    if (status != EB_OK) {
        free(d->text);
        *text = NULL;
    }
    return status;
}

enum eb_status ebi_download_file(struct ebi_download *d, const char *file, const char *label, int fd,
                                 uint64_t size, struct eb_problem *problem)
{
    struct stat info;
    if (fstat(fd, &info) != 0)
        return say(problem, EB_IO, "%.900s: %s", label, strerror(errno));
    d->fd = fd;
    d->size = size;
    d->got = (uint64_t)info.st_size <= size ? (uint64_t)info.st_size : 0;
    if (d->got == size && size > 0)
        return EB_OK; /* an earlier call had the rest */
    if (!name(d, file, label, problem))
        return EB_IO;
    d->api->curl_easy_setopt(d->curl, CURLOPT_URL, d->url);
    d->api->curl_easy_setopt(d->curl, CURLOPT_ACCEPT_ENCODING, NULL); /* parts are of the bytes as they are */
    enum eb_status status = run(d, problem);
    if (status == EB_OK && ftruncate(fd, (off_t)size) != 0)
        return say(problem, EB_IO, "%.900s: %s", label, strerror(errno));
    return status;
}
