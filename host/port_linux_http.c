/* HTTP of the port on Linux: libcurl, its sockets in a set of their own that the port's wait looks at. */
#include "port_linux.h"
#include "curl.h"

#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <unistd.h>

static const struct ebi_curl *api; /* once an exchange has begun */

enum { EVENTS = 32, HEAD_BYTES_MAX = 1 << 16, UPLOAD_BUFFER_BYTES = 64 << 10, CERTIFICATE_BYTES = 1 << 14 };

struct exchange {
    bool used, ended, refused, told;
    struct ebi_linux_http *of;
    struct eb_waiter *waiter;
    const struct eb_http_request *request;
    CURL *curl;
    struct curl_slist *fields, *connect_to;
    unsigned status;
    uint64_t offset, head_bytes, received_bytes, moved_us, moved_bytes;
    enum eb_status failure; /* of a callback, or EB_OK */
    CURLcode result;
};

struct ebi_linux_http {
    int epoll_fd;
    CURLM *multi;
    uint64_t timer_us;
    struct exchange **list;
    int cap;
};

/* --- callbacks of an exchange ---------------------------------------------------------------------- */

static size_t on_read(char *to, size_t size, size_t count, void *context)
{
    struct exchange *x = context;
    size_t given = 0;
    if (eb_http_body_read(x->request, x->offset, to, size * count, &given) != EB_OK) {
        x->failure = EB_IO;
        return CURL_READFUNC_ABORT;
    }
    x->offset += given;
    return given;
}

static int on_seek(void *context, curl_off_t offset, int origin)
{
    struct exchange *x = context;
    if (origin != SEEK_SET || offset < 0)
        return CURL_SEEKFUNC_FAIL;
    x->offset = (uint64_t)offset;
    return CURL_SEEKFUNC_OK;
}

static size_t on_field(char *bytes, size_t size, size_t count, void *context)
{
    struct exchange *x = context;
    char line[4096];
    size_t length = size * count;
    x->head_bytes += length;
    if (x->head_bytes > HEAD_BYTES_MAX) {
        x->failure = EB_TOO_LARGE;
        return 0;
    }
    while (length > 0 && (bytes[length - 1] == '\n' || bytes[length - 1] == '\r' || bytes[length - 1] == ' '))
        length--;
    if (length >= sizeof line)
        return size * count; /* none that is looked at is that long */
    memcpy(line, bytes, length);
    line[length] = '\0';
    unsigned status;
    char *colon = strchr(line, ':');
    if (sscanf(line, "HTTP/%*s %3u", &status) == 1) {
        x->status = status;
    } else if (colon != NULL && x->status >= 200) {
        *colon++ = '\0';
        x->request->field(x->request->context, x->status, line, colon + strspn(colon, " \t"));
    }
    return size * count;
}

static size_t on_body(char *bytes, size_t size, size_t count, void *context)
{
    struct exchange *x = context;
    x->received_bytes += size * count;
    if (x->received_bytes > x->request->most_bytes) {
        x->failure = EB_TOO_LARGE;
        return 0;
    }
    x->request->body(x->request->context, (const uint8_t *)bytes, size * count);
    return size * count;
}

/* The SHA-256 of the certificate as it was sent; false: there is none. */
static bool digest_certificate(CURL *curl, uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES])
{
    static const char begin[] = "-----BEGIN CERTIFICATE-----";
    struct curl_certinfo *chain = NULL;
    if (api->curl_easy_getinfo(curl, CURLINFO_CERTINFO, &chain) != CURLE_OK || chain == NULL ||
        chain->num_of_certs < 1)
        return false;
    for (const struct curl_slist *item = chain->certinfo[0]; item != NULL; item = item->next) {
        const char *at = strncmp(item->data, "Cert:", 5) == 0 ? strstr(item->data, begin) : NULL;
        const char *end = at != NULL ? strstr(at, "-----END") : NULL;
        uint8_t der[CERTIFICATE_BYTES];
        size_t size = 0;
        if (end == NULL)
            continue;
        at += sizeof begin - 1;
        return sodium_base642bin(der, sizeof der, at, (size_t)(end - at), "\r\n", &size, NULL,
                                 sodium_base64_VARIANT_ORIGINAL) == 0 &&
               crypto_hash_sha256(sha256, der, size) == 0;
    }
    return false;
}

/* Connected, TLS included, and nothing was sent yet. */
static int before_request(void *context, char *peer, char *local, int peer_port, int local_port)
{
    struct exchange *x = context;
    uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES];
    long connections = 1;
    (void)peer;
    (void)local;
    (void)peer_port;
    (void)local_port;
    if (!x->request->tls)
        return CURL_PREREQFUNC_OK;
    api->curl_easy_getinfo(x->curl, CURLINFO_NUM_CONNECTS, &connections);
    if (connections == 0)
        return CURL_PREREQFUNC_OK; /* the connection of an exchange before, whose certificate was judged */
    if (digest_certificate(x->curl, sha256) && x->request->certificate(x->request->context, sha256))
        return CURL_PREREQFUNC_OK;
    x->refused = true;
    return CURL_PREREQFUNC_ABORT;
}

/* --- curl's sockets and its time ------------------------------------------------------------------- */

static int on_socket(CURL *curl, curl_socket_t fd, int what, void *context, void *known)
{
    struct ebi_linux_http *h = context;
    struct epoll_event event = {.data.fd = fd};
    (void)curl;
    if (what == CURL_POLL_REMOVE) {
        epoll_ctl(h->epoll_fd, EPOLL_CTL_DEL, fd, NULL);
        return 0;
    }
    event.events = (what & CURL_POLL_IN ? EPOLLIN : 0U) | (what & CURL_POLL_OUT ? EPOLLOUT : 0U);
    if (known == NULL || epoll_ctl(h->epoll_fd, EPOLL_CTL_MOD, fd, &event) != 0)
        epoll_ctl(h->epoll_fd, EPOLL_CTL_ADD, fd, &event);
    api->curl_multi_assign(h->multi, fd, h);
    return 0;
}

static int on_timer(CURLM *multi, long ms, void *context)
{
    struct ebi_linux_http *h = context;
    (void)multi;
    h->timer_us = ms < 0 ? EB_NEVER : ebi_linux_now_us(NULL) + (uint64_t)ms * 1000;
    return 0;
}

static void take_ends(struct ebi_linux_http *h)
{
    int left;
    for (CURLMsg *m = api->curl_multi_info_read(h->multi, &left); m != NULL;
         m = api->curl_multi_info_read(h->multi, &left)) {
        struct exchange *x = NULL;
        api->curl_easy_getinfo(m->easy_handle, CURLINFO_PRIVATE, &x);
        if (m->msg != CURLMSG_DONE || x == NULL)
            continue;
        x->ended = true;
        x->result = m->data.result;
    }
}

static bool begin_curl(struct ebi_linux_http *h)
{
    if (h->multi != NULL)
        return true;
    api = ebi_curl();
    if (api == NULL || sodium_init() < 0 || api->curl_global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK)
        return false;
    h->multi = api->curl_multi_init();
    if (h->multi == NULL)
        return false;
    api->curl_multi_setopt(h->multi, CURLMOPT_SOCKETFUNCTION, on_socket);
    api->curl_multi_setopt(h->multi, CURLMOPT_SOCKETDATA, h);
    api->curl_multi_setopt(h->multi, CURLMOPT_TIMERFUNCTION, on_timer);
    api->curl_multi_setopt(h->multi, CURLMOPT_TIMERDATA, h);
    return true;
}

/* --- exchanges ------------------------------------------------------------------------------------- */

static void add_line(struct exchange *x, const char *line)
{
    struct curl_slist *more = api->curl_slist_append(x->fields, line);
    if (more == NULL)
        abort();
    x->fields = more;
}

static void set_fields(struct exchange *x, const struct eb_http_request *r)
{
    bool typed = false;
    for (size_t i = 0; i < r->field_count; i++) {
        char line[EB_HTTP_HEADER_BYTES + 512];
        snprintf(line, sizeof line, "%s: %s", r->fields[i].name, r->fields[i].text);
        add_line(x, line);
        sodium_memzero(line, sizeof line);
        typed = typed || eb_http_name_is(r->fields[i].name, "Content-Type");
    }
    if (r->has_body && !typed)
        add_line(x, "Content-Type:"); /* none */
    add_line(x, r->expect ? "Expect: 100-continue" : "Expect:");
    api->curl_easy_setopt(x->curl, CURLOPT_HTTPHEADER, x->fields);
}

static void set_target(struct exchange *x, const struct eb_http_request *r)
{
    char address[32];
    char text[1024];
    snprintf(address, sizeof address, "%u.%u.%u.%u", r->ip[0], r->ip[1], r->ip[2], r->ip[3]);
    snprintf(text, sizeof text, "%s://%s:%u%s", r->tls ? "https" : "http",
             r->host != NULL ? r->host : address, r->port, r->path);
    api->curl_easy_setopt(x->curl, CURLOPT_URL, text);
    if (r->host != NULL) {
        snprintf(text, sizeof text, "%s:%u:%s:%u", r->host, r->port, address, r->port);
        x->connect_to = api->curl_slist_append(NULL, text);
        api->curl_easy_setopt(x->curl, CURLOPT_CONNECT_TO, x->connect_to);
    }
    api->curl_easy_setopt(x->curl, CURLOPT_SSL_VERIFYPEER, r->authority != NULL ? 1L : 0L);
    api->curl_easy_setopt(x->curl, CURLOPT_SSL_VERIFYHOST, r->authority != NULL ? 2L : 0L);
    if (r->authority != NULL)
        api->curl_easy_setopt(x->curl, CURLOPT_CAINFO, r->authority);
}

static void set_body(struct exchange *x, const struct eb_http_request *r)
{
    if (r->has_body && strcmp(r->method, "POST") == 0) {
        api->curl_easy_setopt(x->curl, CURLOPT_POST, 1L);
        api->curl_easy_setopt(x->curl, CURLOPT_POSTFIELDSIZE_LARGE, (curl_off_t)eb_http_body_bytes(r));
    } else if (r->has_body) {
        api->curl_easy_setopt(x->curl, CURLOPT_UPLOAD, 1L);
        api->curl_easy_setopt(x->curl, CURLOPT_INFILESIZE_LARGE, (curl_off_t)eb_http_body_bytes(r));
    }
    if (!r->has_body || strcmp(r->method, "POST") != 0)
        api->curl_easy_setopt(x->curl, CURLOPT_CUSTOMREQUEST, r->method);
}

static void set_up(struct exchange *x, const struct eb_http_request *r)
{
    CURL *curl = x->curl;
    api->curl_easy_setopt(curl, CURLOPT_PRIVATE, x);
    api->curl_easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
    api->curl_easy_setopt(curl, CURLOPT_NOPROXY, "*");
    api->curl_easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "http,https");
    api->curl_easy_setopt(curl, CURLOPT_HTTP_VERSION, (long)CURL_HTTP_VERSION_1_1);
    api->curl_easy_setopt(curl, CURLOPT_PATH_AS_IS, 1L);
    api->curl_easy_setopt(curl, CURLOPT_NETRC, (long)CURL_NETRC_IGNORED);
    api->curl_easy_setopt(curl, CURLOPT_CERTINFO, 1L);
    api->curl_easy_setopt(curl, CURLOPT_CONNECTTIMEOUT_MS, (long)(r->patience_us / 1000));
    api->curl_easy_setopt(curl, CURLOPT_EXPECT_100_TIMEOUT_MS, 1000L);
    api->curl_easy_setopt(curl, CURLOPT_UPLOAD_BUFFERSIZE, (long)UPLOAD_BUFFER_BYTES);
    api->curl_easy_setopt(curl, CURLOPT_FRESH_CONNECT, r->fresh ? 1L : 0L);
    api->curl_easy_setopt(curl, CURLOPT_READFUNCTION, on_read);
    api->curl_easy_setopt(curl, CURLOPT_READDATA, x);
    api->curl_easy_setopt(curl, CURLOPT_SEEKFUNCTION, on_seek);
    api->curl_easy_setopt(curl, CURLOPT_SEEKDATA, x);
    api->curl_easy_setopt(curl, CURLOPT_HEADERFUNCTION, on_field);
    api->curl_easy_setopt(curl, CURLOPT_HEADERDATA, x);
    api->curl_easy_setopt(curl, CURLOPT_WRITEFUNCTION, on_body);
    api->curl_easy_setopt(curl, CURLOPT_WRITEDATA, x);
    api->curl_easy_setopt(curl, CURLOPT_PREREQFUNCTION, before_request);
    api->curl_easy_setopt(curl, CURLOPT_PREREQDATA, x);
    set_target(x, r);
    set_body(x, r);
    set_fields(x, r);
}

static struct exchange *new_exchange(struct ebi_linux_http *h, int *handle)
{
    int number = 0;
    while (number < h->cap && h->list[number] != NULL)
        number++;
    if (number == h->cap) {
        int cap = h->cap == 0 ? 16 : 2 * h->cap;
        struct exchange **more = realloc(h->list, (size_t)cap * sizeof(*more));
        if (more == NULL)
            return NULL;
        memset(more + h->cap, 0, (size_t)(cap - h->cap) * sizeof(*more));
        h->list = more;
        h->cap = cap;
    }
    h->list[number] = calloc(1, sizeof *h->list[number]);
    *handle = number;
    return h->list[number];
}

void ebi_linux_http_close(struct ebi_linux_http *h, int handle)
{
    struct exchange *x = h->list[handle];
    if (x == NULL)
        return;
    h->list[handle] = NULL;
    if (x->curl != NULL) {
        api->curl_multi_remove_handle(h->multi, x->curl);
        api->curl_easy_cleanup(x->curl);
    }
    api->curl_slist_free_all(x->fields);
    api->curl_slist_free_all(x->connect_to);
    free(x);
}

enum eb_status ebi_linux_http_begin(struct ebi_linux_http *h, struct eb_waiter *waiter,
                                    const struct eb_http_request *request, int *handle)
{
    struct exchange *x = begin_curl(h) ? new_exchange(h, handle) : NULL;
    int running;
    if (x == NULL)
        return EB_IO;
    *x = (struct exchange){.of = h, .waiter = waiter, .request = request, .moved_us = ebi_linux_now_us(NULL)};
    x->curl = api->curl_easy_init();
    if (x->curl != NULL)
        set_up(x, request);
    if (x->curl == NULL || api->curl_multi_add_handle(h->multi, x->curl) != CURLM_OK) {
        ebi_linux_http_close(h, *handle);
        return EB_IO;
    }
    api->curl_multi_socket_action(h->multi, CURL_SOCKET_TIMEOUT, 0, &running);
    take_ends(h);
    return EB_OK;
}

static enum eb_status status_of(const struct exchange *x)
{
    if (x->failure != EB_OK)
        return x->failure;
    if (x->refused)
        return EB_OTHER;
    switch (x->result) {
    case CURLE_OK:
        return EB_OK;
    case CURLE_OPERATION_TIMEDOUT:
        return EB_NO_ANSWER;
    case CURLE_GOT_NOTHING:
    case CURLE_PARTIAL_FILE:
        return EB_CLOSED;
    case CURLE_PEER_FAILED_VERIFICATION:
    case CURLE_SSL_CACERT_BADFILE:
        return EB_OTHER;
    case CURLE_WEIRD_SERVER_REPLY:
    case CURLE_UNSUPPORTED_PROTOCOL:
    case CURLE_BAD_CONTENT_ENCODING:
    case CURLE_SSL_CONNECT_ERROR:
        return EB_GARBAGE;
    case CURLE_OUT_OF_MEMORY:
        return EB_TOO_LARGE; /* of a field, in the answer's head */
    default:
        return EB_UNREACHABLE;
    }
}

enum eb_status ebi_linux_http_poll(struct ebi_linux_http *h, int handle, struct eb_http_progress *progress)
{
    struct exchange *x = h->list[handle];
    uint64_t now_us = ebi_linux_now_us(NULL);
    curl_off_t sent = 0;
    double connected = 0;
    api->curl_easy_getinfo(x->curl, CURLINFO_SIZE_UPLOAD_T, &sent);
    api->curl_easy_getinfo(x->curl, CURLINFO_CONNECT_TIME, &connected);
    *progress = (struct eb_http_progress){.status = x->status >= 200 ? x->status : 0,
                                          .connected = connected > 0 || x->head_bytes > 0,
                                          .sent_bytes = (uint64_t)sent,
                                          .received_bytes = x->received_bytes};
    uint64_t moved = (uint64_t)sent + x->head_bytes + x->received_bytes + (progress->connected ? 1 : 0);
    if (moved != x->moved_bytes)
        x->moved_us = now_us;
    x->moved_bytes = moved;
    if (x->ended)
        return status_of(x);
    return now_us - x->moved_us >= x->request->patience_us ? EB_NO_ANSWER : EB_PENDING;
}

/* --- the port's wait ------------------------------------------------------------------------------- */

struct ebi_linux_http *ebi_linux_http_new(int epoll_fd)
{
    struct ebi_linux_http *h = calloc(1, sizeof *h);
    if (h == NULL)
        return NULL;
    h->timer_us = EB_NEVER;
    h->epoll_fd = epoll_create1(EPOLL_CLOEXEC);
    struct epoll_event event = {.events = EPOLLIN, .data.u32 = EBI_LINUX_HTTP};
    if (h->epoll_fd >= 0 && epoll_ctl(epoll_fd, EPOLL_CTL_ADD, h->epoll_fd, &event) == 0)
        return h;
    ebi_linux_http_free(h);
    return NULL;
}

void ebi_linux_http_free(struct ebi_linux_http *h)
{
    for (int i = 0; i < h->cap; i++)
        ebi_linux_http_close(h, i);
    free(h->list);
    if (h->multi != NULL) {
        api->curl_multi_cleanup(h->multi);
        api->curl_global_cleanup();
    }
    if (h->epoll_fd >= 0)
        close(h->epoll_fd);
    free(h);
}

void ebi_linux_http_event(struct ebi_linux_http *h)
{
    struct epoll_event events[EVENTS];
    int running;
    int n = h->multi != NULL ? epoll_wait(h->epoll_fd, events, EVENTS, 0) : 0;
    for (int i = 0; i < n; i++) {
        int what = (events[i].events & EPOLLIN ? CURL_CSELECT_IN : 0) |
                   (events[i].events & EPOLLOUT ? CURL_CSELECT_OUT : 0) |
                   (events[i].events & (EPOLLERR | EPOLLHUP) ? CURL_CSELECT_ERR : 0);
        api->curl_multi_socket_action(h->multi, events[i].data.fd, what, &running);
    }
    if (h->multi != NULL && ebi_linux_now_us(NULL) >= h->timer_us) {
        h->timer_us = EB_NEVER;
        api->curl_multi_socket_action(h->multi, CURL_SOCKET_TIMEOUT, 0, &running);
    }
    if (h->multi != NULL)
        take_ends(h);
}

uint64_t ebi_linux_http_deadline_us(const struct ebi_linux_http *h)
{
    return h->timer_us;
}

size_t ebi_linux_http_ready(struct ebi_linux_http *h, struct eb_waiter **ready, size_t cap)
{
    size_t count = 0;
    for (int i = 0; i < h->cap && count < cap; i++) {
        struct exchange *x = h->list[i];
        if (x == NULL || !x->ended || x->told)
            continue;
        x->told = true;
        ready[count++] = x->waiter;
    }
    return count;
}
