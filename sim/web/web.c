/* A device's web server for real programs.  What comes over its connections goes through a pair of sockets to
 * libmicrohttpd, and what that says goes back the same way: so it does not matter whether the connections
 * are the kernel's or those of a simulated segment. */
#include "certificate.h"
#include "einbau/sim_web.h"
#include "http_model.h"
#include "world.h"

#include <errno.h>
#include <microhttpd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { BODY_MAX = 1 << 30, ROUNDS_MAX = 1000 };

/* One connection: our end of the pair. */
struct pair {
    int fd; /* -1: none */
    bool silent;
};

struct served {
    struct MHD_Daemon *daemon;
    struct pair pairs[EBI_SIM_CONNECTIONS_MAX];
    size_t at;      /* the connection whose bytes are being handled */
    bool restarted; /* its certificate is the second one */
};

static const struct ebi_sim_server key_of_served = {.word = "http-served"};

static struct served *served_of(struct ebi_sim_device *d)
{
    return ebi_sim_own(d, &key_of_served, sizeof(struct served));
}

/* --- what libmicrohttpd asks ----------------------------------------------------------------------- */

/* The path as it was sent. */
static void *request_begins(void *context, const char *path, struct MHD_Connection *connection)
{
    (void)context;
    (void)connection;
    struct ebi_sim_http_request *request = calloc(1, sizeof *request);
    if (request != NULL)
        snprintf(request->path, sizeof request->path, "%s", path);
    return request;
}

static void request_ended(void *context, struct MHD_Connection *connection, void **own,
                          enum MHD_RequestTerminationCode why)
{
    (void)context;
    (void)connection;
    (void)why;
    struct ebi_sim_http_request *request = *own;
    if (request != NULL)
        free(request->body);
    free(request);
    *own = NULL;
}

static enum MHD_Result take_field(void *context, enum MHD_ValueKind kind, const char *name, const char *text)
{
    (void)kind;
    ebi_sim_http_take_field(context, name, text != NULL ? text : "");
    return MHD_YES;
}

static enum MHD_Result give(struct ebi_sim_device *d, struct MHD_Connection *connection,
                            struct ebi_sim_http_reply *reply, bool keep)
{
    struct served *served = served_of(d);
    if (reply->end == EBI_SIM_HTTP_RESET)
        return MHD_NO;
    served->pairs[served->at].silent = reply->end == EBI_SIM_HTTP_SILENT;
    struct MHD_Response *response = MHD_create_response_from_buffer(
        reply->size, reply->bytes != NULL ? (void *)reply->bytes : (void *)reply->body,
        MHD_RESPMEM_MUST_COPY);
    if (response == NULL)
        return MHD_NO;
    char *save = NULL;
    for (char *line = strtok_r(reply->fields, "\r\n", &save); line != NULL;
         line = strtok_r(NULL, "\r\n", &save)) {
        char *colon = strstr(line, ": ");
        if (colon != NULL) {
            *colon = '\0';
            MHD_add_response_header(response, line, colon + 2);
        }
    }
    if (!keep || d->conduct.closes_connections)
        MHD_add_response_header(response, MHD_HTTP_HEADER_CONNECTION, "close");
    enum MHD_Result result = MHD_queue_response(connection, reply->status, response);
    MHD_destroy_response(response);
    return result;
}

/* Called with the head, with each piece of the body, and with its end. */
static enum MHD_Result handle(void *context, struct MHD_Connection *connection, const char *url,
                              const char *method, const char *version, const char *bytes, size_t *size,
                              void **own)
{
    (void)url;
    (void)version;
    struct ebi_sim_device *d = context;
    struct ebi_sim_http_request *request = *own;
    struct ebi_sim_http_reply reply = {0};
    if (request == NULL)
        return MHD_NO;
    if (request->method[0] == '\0') {
        snprintf(request->method, sizeof request->method, "%s", method);
        MHD_get_connection_values(connection, MHD_HEADER_KIND, take_field, request);
        if (request->length > BODY_MAX)
            return MHD_NO;
        ebi_sim_http_head(d, request, &reply);
        request->body = reply.status == 0 ? malloc(request->length + 1) : NULL;
        if (reply.status != 0)
            return give(d, connection, &reply, false);
        return request->body != NULL ? MHD_YES : MHD_NO;
    }
    if (*size > 0) {
        if (*size > request->length - request->size)
            return MHD_NO;
        memcpy(request->body + request->size, bytes, *size);
        request->size += *size;
        *size = 0;
        return MHD_YES;
    }
    ebi_sim_http_answer(d, request, &reply);
    return give(d, connection, &reply, true);
}

/* --- connections ----------------------------------------------------------------------------------- */

static void close_pairs(struct served *served)
{
    for (size_t i = 0; i < EBI_SIM_CONNECTIONS_MAX; i++) {
        if (served->pairs[i].fd > 0)
            close(served->pairs[i].fd);
        served->pairs[i] = (struct pair){.fd = -1};
    }
}

static void stop(struct ebi_sim_device *d)
{
    struct served *served = served_of(d);
    if (served->daemon == NULL)
        return;
    close_pairs(served);
    MHD_stop_daemon(served->daemon);
    served->daemon = NULL;
}

static bool start(struct ebi_sim_device *d)
{
    struct served *served = served_of(d);
    char pem[EBI_SIM_PEM_BYTES] = "";
    unsigned flags = MHD_USE_NO_LISTEN_SOCKET | MHD_USE_EPOLL;
    struct MHD_OptionItem options[] = {{MHD_OPTION_URI_LOG_CALLBACK, (intptr_t)request_begins, NULL},
                                       {MHD_OPTION_NOTIFY_COMPLETED, (intptr_t)request_ended, NULL},
                                       {MHD_OPTION_END, 0, NULL},
                                       {MHD_OPTION_HTTPS_MEM_CERT, 0, pem},
                                       {MHD_OPTION_END, 0, NULL}};
    if (ebi_sim_http_tls(d)) {
        if (!ebi_sim_certificate(d, served->restarted, pem))
            return false;
        flags |= MHD_USE_TLS;
        options[2] = (struct MHD_OptionItem){MHD_OPTION_HTTPS_MEM_KEY, 0, pem};
    }
    served->daemon =
        MHD_start_daemon(flags, 0, NULL, NULL, handle, d, MHD_OPTION_ARRAY, options, MHD_OPTION_END);
    explicit_bzero(&pem, sizeof pem);
    close_pairs(served);
    return served->daemon != NULL;
}

static void shut(struct ebi_sim_device *d, struct ebi_sim_connection *c, struct pair *pair)
{
    int handle = c->handle;
    if (pair->fd > 0)
        close(pair->fd);
    pair->fd = -1;
    c->handle = EB_NO_HANDLE;
    if (handle != EB_NO_HANDLE)
        d->net->tcp_close(d->net->self, handle);
}

/* What libmicrohttpd says.  False: it has closed the connection. */
static bool carry_back(struct ebi_sim_device *d, const struct ebi_sim_connection *c, const struct pair *pair)
{
    uint8_t bytes[4096];
    ssize_t n;
    while ((n = recv(pair->fd, bytes, sizeof bytes, MSG_DONTWAIT)) > 0) {
        if (c->handle != EB_NO_HANDLE && !pair->silent)
            d->net->tcp_send(d->net->self, c->handle, bytes, (size_t)n);
        if (pair->fd < 0)
            return true; /* its power went as it said that */
    }
    return n < 0 && (errno == EAGAIN || errno == EINTR);
}

/* A connection that is new: a pair of its own. */
static bool open_pair(struct served *served, struct pair *pair)
{
    int ends[2];
    if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0, ends) != 0)
        return false;
    const struct sockaddr anonymous = {.sa_family = AF_UNIX};
    *pair = (struct pair){.fd = ends[0]};
    return MHD_add_connection(served->daemon, ends[1], &anonymous, sizeof anonymous) == MHD_YES;
}

static void stream(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes, size_t size)
{
    struct served *served = served_of(d);
    size_t at = (size_t)(c - d->connections);
    struct pair *pair = &served->pairs[at];
    bool second = ebi_sim_http_second_certificate(d);
    bool fresh = c->rx_size == 0; /* another one was here before */
    if (served->daemon != NULL && second != served->restarted)
        stop(d);
    served->restarted = second;
    if (served->daemon == NULL && !start(d)) {
        shut(d, c, pair);
        return;
    }
    if (fresh && pair->fd > 0) {
        close(pair->fd);
        pair->fd = -1;
    }
    c->rx_size = 1;
    if (pair->fd < 0 && (!fresh || !open_pair(served, pair))) {
        shut(d, c, pair);
        return;
    }
    /* libmicrohttpd takes it in a few rounds; more than that many only if it has given up. */
    for (unsigned round = 0; round < ROUNDS_MAX && c->handle != EB_NO_HANDLE && pair->fd > 0; round++) {
        ssize_t n = size > 0 ? send(pair->fd, bytes, size, MSG_DONTWAIT | MSG_NOSIGNAL) : 0;
        bool full = n < 0 && errno == EAGAIN;
        served->at = at;
        MHD_run(served->daemon);
        bool open = pair->fd > 0 && carry_back(d, c, pair);
        if (!open && c->handle != EB_NO_HANDLE)
            shut(d, c, pair);
        if (!open || (n < 0 && !full))
            return;
        bytes += n > 0 ? n : 0;
        size -= n > 0 ? (size_t)n : 0;
        unsigned long long due_ms;
        if (size == 0 && (MHD_get_timeout(served->daemon, &due_ms) != MHD_YES || due_ms > 0))
            return;
    }
}

/* Its power went, or it restarts: nothing is said any more.  Called while a request is being answered, too,
 * so that libmicrohttpd itself is left alone. */
static void gone(struct ebi_sim_device *d)
{
    struct served *served = served_of(d);
    if (served->daemon != NULL)
        close_pairs(served);
}

void eb_sim_use_web(struct eb_sim *sim)
{
    static const struct ebi_sim_web web = {stream, gone, stop};
    sim->web = &web;
}
