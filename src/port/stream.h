/* The pump between an engine and a connection over TCP. */
#ifndef EBI_STREAM_H
#define EBI_STREAM_H

#include "einbau/port.h"

struct ebi_stream_engine {
    bool (*asking)(const void *engine);
    size_t (*give)(const void *engine, const uint8_t **bytes);
    void (*taken)(void *engine, size_t count);
    void (*receive)(void *engine, const uint8_t *bytes, size_t size);
};

/* Sends and receives what can be, in at most `turns` receptions; EB_OK once the engine asks no more.
 * EB_PENDING; EB_UNREACHABLE and EB_CLOSED as the port says them. */
enum eb_status ebi_stream_pump(struct eb_stream *stream, const struct eb_port *port,
                               const struct ebi_stream_engine *by, void *engine, int turns);
void ebi_stream_close(struct eb_stream *stream, const struct eb_port *port);

#endif
