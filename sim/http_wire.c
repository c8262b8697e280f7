/* HTTP/1.1 on a simulated connection, the device's side: text in, text out (RFC 9112). */
#include "http_model.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { HEAD_MAX = 8192, BODY_MAX = 64 << 20 };

struct line {
    struct ebi_sim_http_request request;
    char head[HEAD_MAX];
    size_t head_size, cap;
    bool has_head;
};

struct lines {
    struct line *of[EBI_SIM_CONNECTIONS_MAX];
};

static const struct ebi_sim_server key_of_lines = {.word = "http-lines"};

static struct line **line_of(struct ebi_sim_device *d, const struct ebi_sim_connection *c)
{
    struct lines *lines = ebi_sim_own(d, &key_of_lines, sizeof *lines);
    return &lines->of[c - d->connections];
}

static void free_line(struct line **line)
{
    if (*line != NULL)
        free((*line)->request.body);
    free(*line);
    *line = NULL;
}

void ebi_sim_http_wire_forget(struct ebi_sim_device *d)
{
    struct lines *lines = ebi_sim_own(d, &key_of_lines, sizeof *lines);
    for (size_t i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++)
        free_line(&lines->of[i]);
}

static void shut(struct ebi_sim_device *d, struct ebi_sim_connection *c)
{
    int handle = c->handle;
    c->handle = EB_NO_HANDLE;
    free_line(line_of(d, c));
    d->net->tcp_close(d->net->self, handle);
}

static void send_reply(struct ebi_sim_device *d, struct ebi_sim_connection *c,
                       const struct ebi_sim_http_reply *reply, bool keep)
{
    char head[2048];
    if (reply->end == EBI_SIM_HTTP_SILENT || c->handle == EB_NO_HANDLE)
        return;
    if (reply->end == EBI_SIM_HTTP_RESET) {
        shut(d, c);
        return;
    }
    keep = keep && !d->conduct.closes_connections && !reply->unsized;
    size_t body = reply->size - (reply->cut < reply->size ? reply->cut : reply->size);
    char length[48] = "";
    if (!reply->unsized)
        snprintf(length, sizeof length, "Content-Length: %zu\r\n", reply->size);
    int size = snprintf(head, sizeof head, "HTTP/1.1 %u %s\r\n%s%s%s\r\n", reply->status,
                        eb_http_status_text(reply->status), reply->fields, length,
                        keep ? "" : "Connection: close\r\n");
    d->net->tcp_send(d->net->self, c->handle, (const uint8_t *)head, (size_t)size);
    if (body > 0 && c->handle != EB_NO_HANDLE) /* its power may go at any frame */
        d->net->tcp_send(d->net->self, c->handle,
                         reply->bytes != NULL ? reply->bytes : (const uint8_t *)reply->body, body);
    if (!keep && c->handle != EB_NO_HANDLE)
        shut(d, c);
}

static bool read_head(struct line *l)
{
    char *save = NULL;
    char *first = strtok_r(l->head, "\r\n", &save);
    if (first == NULL || sscanf(first, "%11s %255s", l->request.method, l->request.path) != 2)
        return false;
    for (char *line = strtok_r(NULL, "\r\n", &save); line != NULL; line = strtok_r(NULL, "\r\n", &save)) {
        char *colon = strchr(line, ':');
        if (colon == NULL)
            return false;
        *colon++ = '\0';
        ebi_sim_http_take_field(&l->request, line, colon + strspn(colon, " \t"));
    }
    return true;
}

/* The head is there: what it says alone, and room for the body. */
static bool begin_body(struct ebi_sim_device *d, struct ebi_sim_connection *c, struct line *l)
{
    struct ebi_sim_http_reply reply = {0};
    l->has_head = true;
    if (!read_head(l) || l->request.length > BODY_MAX) {
        shut(d, c);
        return false;
    }
    ebi_sim_http_head(d, &l->request, &reply);
    if (reply.status != 0) {
        send_reply(d, c, &reply, false);
        return false;
    }
    if (l->request.expects && !ebi_sim_http_ignores_expect(d)) {
        static const char go_on[] = "HTTP/1.1 100 Continue\r\n\r\n";
        d->net->tcp_send(d->net->self, c->handle, (const uint8_t *)go_on, sizeof go_on - 1);
    }
    if (c->handle == EB_NO_HANDLE)
        return false;
    l->request.body = malloc(l->request.length + 1);
    if (l->request.body == NULL)
        abort();
    return true;
}

static void end_request(struct ebi_sim_device *d, struct ebi_sim_connection *c, struct line *l)
{
    struct ebi_sim_http_reply reply = {0};
    ebi_sim_http_answer(d, &l->request, &reply);
    free_line(line_of(d, c));
    send_reply(d, c, &reply, true);
}

void ebi_sim_http_stream(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes,
                         size_t size)
{
    struct line **line = line_of(d, c);
    if (c->rx_size == 0)
        free_line(line); /* of a connection that was here before */
    c->rx_size = 1;
    while (size > 0 && c->handle != EB_NO_HANDLE) {
        if (*line == NULL)
            *line = calloc(1, sizeof **line);
        struct line *l = *line;
        if (l == NULL)
            abort();
        if (!l->has_head) {
            if (l->head_size + 1 == HEAD_MAX) {
                shut(d, c);
                return;
            }
            l->head[l->head_size++] = (char)*bytes++;
            size--;
            if (l->head_size < 4 || memcmp(l->head + l->head_size - 4, "\r\n\r\n", 4) != 0)
                continue;
            if (!begin_body(d, c, l))
                return;
        } else {
            size_t n = l->request.length - l->request.size;
            n = n < size ? n : size;
            memcpy(l->request.body + l->request.size, bytes, n);
            l->request.size += n;
            bytes += n;
            size -= n;
        }
        if (l->request.size == l->request.length)
            end_request(d, c, l);
    }
}
