/* The simulated port's HTTP: an exchange is text on a simulated connection (RFC 9112), so that everything
 * that happens to frames on the wire happens to it.  TLS is not simulated but for the certificate. */
#include "http_model.h"
#include "virtual.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    HEAD_MAX = 32768,
    CHUNK = 4096,
    BACKLOG_US = 20000, /* so much of the wire's time may be taken */
    GO_ON_US = 1000000  /* how long "100 Continue" is waited for */
};

enum stage { CONNECTING, SENDING_HEAD, AWAITING, SENDING_BODY, SENT };

struct http_end {
    const struct eb_http_request *request;
    enum stage stage;
    struct eb_http_progress progress;
    uint64_t moved_us, await_us;
    char *head; /* of the answer, as far as it came */
    size_t head_size;
    bool has_head, has_length, chunked;
    uint64_t length;
    char size_line[20]; /* of a chunk */
    size_t size_line_size;
    bool in_chunk, after_chunk;
    enum eb_status status; /* EB_PENDING until it has ended */
};

void ebi_sim_virtual_http_free(struct end *end)
{
    if (end->http != NULL)
        free(end->http->head);
    free(end->http);
    end->http = NULL;
}

static enum eb_status begin(void *self, struct eb_waiter *waiter, const struct eb_http_request *request,
                            int *handle)
{
    struct ebi_sim_virtual *v = self;
    struct eb_endpoint peer = {.port = request->port};
    memcpy(peer.ip, request->ip, sizeof peer.ip);
    enum eb_status status = v->port.tcp->open(self, waiter, &peer, handle);
    struct http_end *h = ebi_sim_grow(NULL, 1, sizeof *h);
    *h = (struct http_end){.request = request, .moved_us = v->now_us, .status = EB_PENDING};
    v->ends[*handle].http = h;
    return status;
}

/* The waiter hears of it at the latest then. */
static void wake_at(struct ebi_sim_virtual *v, int handle, uint64_t at_us)
{
    struct end *end = &v->ends[handle];
    if (!end->room_due)
        ebi_sim_push_event(v, (struct event){.at_us = at_us > v->now_us ? at_us : v->now_us,
                                             .kind = EVENT_ROOM,
                                             .handle = handle,
                                             .generation = end->generation});
    end->room_due = true;
}

/* --- sending --------------------------------------------------------------------------------------- */

static void send_head(struct ebi_sim_virtual *v, int handle)
{
    struct http_end *h = v->ends[handle].http;
    const struct eb_http_request *r = h->request;
    char text[8192];
    char host[80];
    snprintf(host, sizeof host, "%u.%u.%u.%u", r->ip[0], r->ip[1], r->ip[2], r->ip[3]);
    int at = snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n", r->method,
                      r->path, r->host != NULL ? r->host : host);
    for (size_t i = 0; i < r->field_count; i++)
        at +=
            snprintf(text + at, sizeof text - (size_t)at, "%s: %s\r\n", r->fields[i].name, r->fields[i].text);
    if (r->has_body)
        at += snprintf(text + at, sizeof text - (size_t)at, "Content-Length: %llu\r\n",
                       (unsigned long long)eb_http_body_bytes(r));
    at +=
        snprintf(text + at, sizeof text - (size_t)at, "%s\r\n", r->expect ? "Expect: 100-continue\r\n" : "");
    ebi_sim_send_stream(v, handle, true, (const uint8_t *)text, (size_t)at);
    h->stage = r->expect ? AWAITING : SENDING_BODY;
    h->await_us = v->now_us + GO_ON_US;
    if (r->expect)
        wake_at(v, handle, h->await_us);
}

static void send_body(struct ebi_sim_virtual *v, int handle)
{
    struct end *end = &v->ends[handle];
    struct http_end *h = end->http;
    const struct ebi_sim_wire *w = ebi_sim_wire_of(v, end->device);
    for (;;) {
        char bytes[CHUNK];
        size_t size;
        uint64_t free_us = w->up.free_ns / 1000;
        if (h->progress.sent_bytes == eb_http_body_bytes(h->request)) {
            h->stage = SENT;
            return;
        }
        if (free_us > v->now_us + BACKLOG_US) {
            wake_at(v, handle, free_us - BACKLOG_US / 2);
            return;
        }
        if (eb_http_body_read(h->request, h->progress.sent_bytes, bytes, sizeof bytes, &size) != EB_OK) {
            h->status = EB_IO;
            return;
        }
        ebi_sim_send_stream(v, handle, true, (const uint8_t *)bytes, size);
        h->progress.sent_bytes += size;
        h->moved_us = v->now_us;
    }
}

/* --- receiving ------------------------------------------------------------------------------------- */

static void end_well(struct http_end *h)
{
    h->status = EB_OK;
}

static void take_content(struct http_end *h, const uint8_t *bytes, size_t size)
{
    h->progress.received_bytes += size;
    if (h->progress.received_bytes > h->request->most_bytes)
        h->status = EB_TOO_LARGE;
    else if (size > 0)
        h->request->body(h->request->context, bytes, size);
}

/* RFC 9112 section 7.1 */
static void take_chunked(struct http_end *h, const uint8_t *bytes, size_t size)
{
    while (size > 0 && h->status == EB_PENDING) {
        if (h->in_chunk) {
            size_t n = h->length < size ? (size_t)h->length : size;
            take_content(h, bytes, n);
            bytes += n;
            size -= n;
            h->length -= n;
            h->in_chunk = h->length > 0;
            h->after_chunk = !h->in_chunk;
            continue;
        }
        char c = (char)*bytes++;
        size--;
        if (c != '\n') {
            if (h->size_line_size + 1 < sizeof h->size_line && c != '\r')
                h->size_line[h->size_line_size++] = c;
            continue;
        }
        h->size_line[h->size_line_size] = '\0';
        h->size_line_size = 0;
        if (h->after_chunk) {
            h->after_chunk = false;
            continue;
        }
        h->length = strtoull(h->size_line, NULL, 16);
        h->in_chunk = h->length > 0;
        if (!h->in_chunk)
            end_well(h);
    }
}

static void take_body(struct http_end *h, const uint8_t *bytes, size_t size)
{
    if (h->chunked) {
        take_chunked(h, bytes, size);
        return;
    }
    size_t n = h->has_length && h->length - h->progress.received_bytes < size
                   ? (size_t)(h->length - h->progress.received_bytes)
                   : size;
    take_content(h, bytes, n);
    if (h->status == EB_PENDING && h->has_length && h->progress.received_bytes == h->length)
        end_well(h);
}

/* The head is whole. */
static void read_head(struct http_end *h)
{
    char *save = NULL;
    unsigned status = 0;
    char *line = strtok_r(h->head, "\r\n", &save);
    if (line == NULL || sscanf(line, "HTTP/1.%*1u %3u", &status) != 1 || status < 100) {
        h->status = EB_GARBAGE;
        return;
    }
    if (status < 200) { /* "100 Continue", or what else is in between */
        h->head_size = 0;
        h->stage = h->stage == AWAITING ? SENDING_BODY : h->stage;
        return;
    }
    h->progress.status = status;
    h->has_head = true;
    for (line = strtok_r(NULL, "\r\n", &save); line != NULL; line = strtok_r(NULL, "\r\n", &save)) {
        char *text = strchr(line, ':');
        if (text == NULL)
            continue;
        *text++ = '\0';
        text += strspn(text, " \t");
        if (eb_http_name_is(line, "Content-Length")) {
            h->has_length = true;
            h->length = strtoull(text, NULL, 10);
        } else if (eb_http_name_is(line, "Transfer-Encoding")) {
            h->chunked = true;
        }
        h->request->field(h->request->context, status, line, text);
    }
    if (!h->chunked && (status == 204 || status == 304 || (h->has_length && h->length == 0)))
        end_well(h);
}

static void take_bytes(struct http_end *h, const uint8_t *bytes, size_t size)
{
    while (size > 0 && h->status == EB_PENDING && !h->has_head) {
        if (h->head == NULL)
            h->head = ebi_sim_grow(NULL, HEAD_MAX, 1);
        if (h->head_size + 1 >= HEAD_MAX) {
            h->status = EB_TOO_LARGE;
            return;
        }
        h->head[h->head_size++] = (char)*bytes++;
        h->head[h->head_size] = '\0';
        size--;
        if (h->head_size >= 4 && strcmp(h->head + h->head_size - 4, "\r\n\r\n") == 0)
            read_head(h);
    }
    if (size > 0 && h->status == EB_PENDING)
        take_body(h, bytes, size);
}

static void receive(struct ebi_sim_virtual *v, int handle)
{
    struct http_end *h = v->ends[handle].http;
    uint8_t bytes[2048];
    size_t size = 0;
    enum eb_status status = EB_OK;
    while (h->status == EB_PENDING &&
           (status = v->port.tcp->receive(v, handle, bytes, sizeof bytes, &size)) == EB_OK) {
        h->moved_us = v->now_us;
        h->progress.connected = true;
        take_bytes(h, bytes, size);
    }
    if (h->status != EB_PENDING || status == EB_PENDING)
        return;
    bool to_the_end = h->has_head && !h->has_length && !h->chunked;
    h->status = status == EB_CLOSED && to_the_end ? EB_OK : status;
}

static enum eb_status poll(void *self, int handle, struct eb_http_progress *progress)
{
    struct ebi_sim_virtual *v = self;
    struct end *end = &v->ends[handle];
    struct http_end *h = end->http;
    const struct eb_http_request *r = h->request;
    if (end->open && h->stage == CONNECTING) {
        uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES];
        h->progress.connected = true;
        h->moved_us = v->now_us;
        h->stage = SENDING_HEAD;
        if (r->tls != ebi_sim_http_tls(end->device)) {
            h->status = EB_GARBAGE;
        } else if (r->tls) {
            ebi_sim_http_certificate(end->device, sha256);
            h->status = r->certificate(r->context, sha256) ? EB_PENDING : EB_OTHER;
        }
    }
    if (h->status == EB_PENDING)
        receive(v, handle);
    if (h->status == EB_PENDING && h->stage == SENDING_HEAD)
        send_head(v, handle);
    if (h->status == EB_PENDING && h->stage == AWAITING && v->now_us >= h->await_us)
        h->stage = SENDING_BODY;
    if (h->status == EB_PENDING && h->stage == SENDING_BODY && !h->has_head)
        send_body(v, handle);
    if (h->status == EB_PENDING && v->now_us - h->moved_us >= r->patience_us)
        h->status = EB_NO_ANSWER;
    *progress = h->progress;
    return h->status;
}

void ebi_sim_virtual_http_open(struct ebi_sim_virtual *v)
{
    v->http = (struct eb_port_http){sizeof v->http, begin, poll, ebi_sim_close_end};
    v->port.http = &v->http;
}
