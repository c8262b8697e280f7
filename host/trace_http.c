#include "trace_http.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { ANSWER_BYTES_MAX = 1 << 16, CHUNK = 16384 };

/* One exchange; the request's own functions are called behind those of here. */
struct seen {
    struct eb_http_request request;
    const struct eb_http_request *asked;
    struct eb_http_progress progress;
    char *head, *body; /* of the answer */
    size_t head_size, body_size;
};

struct ebi_trace_http {
    const struct eb_port *inner;
    struct ebi_trace_text to;
    struct seen **list;
    int cap;
};

struct ebi_trace_http *ebi_trace_http_new(const struct eb_port *inner, const struct ebi_trace_text *to)
{
    struct ebi_trace_http *h = calloc(1, sizeof *h);
    if (h == NULL)
        abort();
    h->inner = inner;
    h->to = *to;
    return h;
}

static void free_seen(struct seen *s)
{
    if (s != NULL) {
        free(s->head);
        free(s->body);
    }
    free(s);
}

void ebi_trace_http_free(struct ebi_trace_http *h)
{
    for (int i = 0; i < h->cap; i++)
        free_seen(h->list[i]);
    free(h->list);
    free(h);
}

static void append(char **to, size_t *size, const void *bytes, size_t count)
{
    if (*size + count > ANSWER_BYTES_MAX)
        count = ANSWER_BYTES_MAX - *size;
    char *more = realloc(*to, *size + count + 1);
    if (more == NULL)
        abort();
    memcpy(more + *size, bytes, count);
    *to = more;
    *size += count;
}

/* Fields with secrets: passwords, sessions, tokens. */
static bool proves(const char *name)
{
    static const char *const names[] = {"Authorization", "Cookie", "Set-Cookie"};
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        if (eb_http_name_is(name, names[i]))
            return true;
    }
    return strcasestr(name, "token") != NULL;
}

static void add_line(char **to, size_t *size, const char *name, const char *text)
{
    append(to, size, name, strlen(name));
    append(to, size, ": ", 2);
    append(to, size, proves(name) ? "(left out)" : text, proves(name) ? 10 : strlen(text));
    append(to, size, "\r\n", 2);
}

static void on_field(void *context, unsigned status, const char *name, const char *text)
{
    struct seen *s = context;
    if (!eb_http_name_is(name, "Transfer-Encoding") && !eb_http_name_is(name, "Content-Length") &&
        status >= 200)
        add_line(&s->head, &s->head_size, name, text);
    s->asked->field(s->asked->context, status, name, text);
}

/* A form or a JSON document may hold a password, and its answer a token. */
static bool is_private(const struct eb_http_request *r)
{
    return r->has_body && r->source == NULL;
}

static void on_body(void *context, const uint8_t *bytes, size_t size)
{
    struct seen *s = context;
    append(&s->body, &s->body_size, bytes, size);
    s->asked->body(s->asked->context, bytes, size);
}

static bool on_certificate(void *context, const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES])
{
    const struct seen *s = context;
    return s->asked->certificate(s->asked->context, sha256);
}

enum eb_status ebi_trace_http_begin(struct ebi_trace_http *h, struct eb_waiter *waiter,
                                    const struct eb_http_request *request, int *handle)
{
    struct seen *s = calloc(1, sizeof *s);
    if (s == NULL)
        abort();
    s->request = *request;
    s->asked = request;
    s->request.field = on_field;
    s->request.body = on_body;
    s->request.certificate = on_certificate;
    s->request.context = s;
    enum eb_status status = h->inner->http->begin(h->inner->self, waiter, &s->request, handle);
    if (status != EB_OK) {
        free_seen(s);
        return status;
    }
    if (*handle >= h->cap) {
        int cap = *handle + 64;
        h->list = realloc(h->list, (size_t)cap * sizeof(*h->list));
        if (h->list == NULL)
            abort();
        memset(h->list + h->cap, 0, (size_t)(cap - h->cap) * sizeof(*h->list));
        h->cap = cap;
    }
    h->list[*handle] = s;
    return EB_OK;
}

enum eb_status ebi_trace_http_poll(struct ebi_trace_http *h, int handle, struct eb_http_progress *progress)
{
    enum eb_status status = h->inner->http->poll(h->inner->self, handle, progress);
    h->list[handle]->progress = *progress;
    return status;
}

static void put_body(struct ebi_trace_http *h, int handle, const struct seen *s)
{
    char bytes[CHUNK];
    size_t size;
    for (uint64_t at = 0; at < s->progress.sent_bytes; at += size) {
        uint64_t left = s->progress.sent_bytes - at;
        if (eb_http_body_read(s->asked, at, bytes, left < CHUNK ? (size_t)left : CHUNK, &size) != EB_OK ||
            size == 0)
            return;
        if (is_private(s->asked))
            memset(bytes, 'x', size);
        h->to.text(h->to.self, handle, true, (const uint8_t *)bytes, size);
    }
}

static void put_exchange(struct ebi_trace_http *h, int handle, const struct seen *s)
{
    const struct eb_http_request *r = s->asked;
    struct eb_endpoint peer = {.port = r->port};
    char text[512];
    char *head = NULL;
    size_t size = 0;
    char address[EB_ENDPOINT_TEXT_BYTES];
    memcpy(peer.ip, r->ip, sizeof peer.ip);
    eb_endpoint_text(&peer, false, address);
    h->to.open(h->to.self, handle, &peer);
    snprintf(text, sizeof text, "%s %s HTTP/1.1\r\n", r->method, r->path);
    append(&head, &size, text, strlen(text));
    add_line(&head, &size, "Host", r->host != NULL ? r->host : address);
    for (size_t i = 0; i < r->field_count; i++)
        add_line(&head, &size, r->fields[i].name, r->fields[i].text);
    if (r->has_body) {
        snprintf(text, sizeof text, "%llu", (unsigned long long)eb_http_body_bytes(r));
        add_line(&head, &size, "Content-Length", text);
    }
    append(&head, &size, "\r\n", 2);
    h->to.text(h->to.self, handle, true, (const uint8_t *)head, size);
    free(head);
    put_body(h, handle, s);
    if (s->progress.status != 0) {
        snprintf(text, sizeof text, "HTTP/1.1 %u %s\r\nContent-Length: %zu\r\n", s->progress.status,
                 eb_http_status_text(s->progress.status), s->body_size);
        h->to.text(h->to.self, handle, false, (const uint8_t *)text, strlen(text));
        if (s->head_size > 0)
            h->to.text(h->to.self, handle, false, (const uint8_t *)s->head, s->head_size);
        h->to.text(h->to.self, handle, false, (const uint8_t *)"\r\n", 2);
        if (is_private(r) && s->body_size > 0)
            memset(s->body, 'x', s->body_size);
        if (s->body_size > 0)
            h->to.text(h->to.self, handle, false, (const uint8_t *)s->body, s->body_size);
    }
    h->to.close(h->to.self, handle);
}

void ebi_trace_http_close(struct ebi_trace_http *h, int handle)
{
    struct seen *s = h->list[handle];
    h->inner->http->close(h->inner->self, handle);
    put_exchange(h, handle, s);
    free_seen(s);
    h->list[handle] = NULL;
}
