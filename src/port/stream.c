#include "port/stream.h"

enum { STREAM_BYTES = 260 };

enum eb_status ebi_stream_pump(struct eb_stream *s, const struct eb_port *port,
                               const struct ebi_stream_engine *by, void *engine, int turns)
{
    enum eb_status status = EB_OK;
    s->more = false;
    while (status == EB_OK && by->asking(engine)) {
        const uint8_t *out;
        size_t size = by->give(engine, &out);
        size_t done = 0;
        if (size > 0) {
            status = port->tcp->send(port->self, s->handle, out, size, &done);
            if (status == EB_OK) {
                s->connected = true;
                by->taken(engine, done);
            }
        } else if (turns-- == 0) {
            s->more = true;
            return EB_PENDING;
        } else {
            uint8_t in[STREAM_BYTES];
            status = port->tcp->receive(port->self, s->handle, in, sizeof in, &done);
            if (status == EB_OK)
                by->receive(engine, in, done);
        }
    }
    return by->asking(engine) ? status : EB_OK;
}

void ebi_stream_close(struct eb_stream *s, const struct eb_port *port)
{
    if (s->handle != EB_NO_HANDLE)
        port->tcp->close(port->self, s->handle);
    s->handle = EB_NO_HANDLE;
    s->connected = false;
}
