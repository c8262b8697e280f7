/* HTTP in a trace: each exchange becomes the text of one connection, without what proves a login. */
#ifndef EBI_TRACE_HTTP_H
#define EBI_TRACE_HTTP_H

#include "einbau/host.h"

/* Where the text goes: one connection per handle. */
struct ebi_trace_text {
    void *self;
    void (*open)(void *self, int handle, const struct eb_endpoint *peer);
    void (*text)(void *self, int handle, bool out, const uint8_t *bytes, size_t size);
    void (*close)(void *self, int handle);
};

struct ebi_trace_http;
struct ebi_trace_http *ebi_trace_http_new(const struct eb_port *inner, const struct ebi_trace_text *to);
void ebi_trace_http_free(struct ebi_trace_http *http);
/* As the group of a port does it. */
enum eb_status ebi_trace_http_begin(struct ebi_trace_http *http, struct eb_waiter *waiter,
                                    const struct eb_http_request *request, int *handle);
enum eb_status ebi_trace_http_poll(struct ebi_trace_http *http, int handle,
                                   struct eb_http_progress *progress);
void ebi_trace_http_close(struct ebi_trace_http *http, int handle);

#endif
