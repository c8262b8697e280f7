/* The simulated device's web server, apart from how requests come: over a simulated wire (http_wire.c) or
 * from real programs (web/). */
#ifndef EBI_SIM_HTTP_MODEL_H
#define EBI_SIM_HTTP_MODEL_H

#include "server.h"

struct ebi_sim_http_request {
    char method[12], path[256];
    bool has_length, expects, encoded; /* `encoded`: Transfer-Encoding in place of a length */
    size_t length;
    char authorization[1024], cookie[1024], type[160], token[128]; /* fields of its head */
    uint8_t *body;
    size_t size;
};

enum ebi_sim_http_end { EBI_SIM_HTTP_SENT, EBI_SIM_HTTP_RESET, EBI_SIM_HTTP_SILENT };

struct ebi_sim_http_reply {
    unsigned status; /* 0: none yet */
    enum ebi_sim_http_end end;
    char fields[1024]; /* "Name: text\r\n", one behind the other */
    char body[2048];
    uint8_t *bytes; /* in place of `body`; the device's */
    size_t size;
    bool unsized; /* without a length: only the end of the connection ends it ... */
    size_t cut;   /* ... so far in front of its own end */
};

/* A password that came by its web server, or NULL; and one that it remembers. */
const char *ebi_sim_http_password(const struct ebi_sim_device *device);
void ebi_sim_http_set_password(struct ebi_sim_device *device, const char *password);
bool ebi_sim_http_speaks(const struct ebi_sim_device *device);
uint16_t ebi_sim_http_port(const struct ebi_sim_device *device);
bool ebi_sim_http_tls(const struct ebi_sim_device *device);
bool ebi_sim_http_ignores_expect(const struct ebi_sim_device *device);
/* Whether its certificate is the second one now. */
bool ebi_sim_http_second_certificate(const struct ebi_sim_device *device);
/* The SHA-256 of its simulated certificate. */
void ebi_sim_http_certificate(struct ebi_sim_device *device, uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES]);

/* What can be said from the head alone; no status: the body may come. */
void ebi_sim_http_head(struct ebi_sim_device *device, const struct ebi_sim_http_request *request,
                       struct ebi_sim_http_reply *reply);
/* The answer to the whole request. */
void ebi_sim_http_answer(struct ebi_sim_device *device, const struct ebi_sim_http_request *request,
                         struct ebi_sim_http_reply *reply);
/* A field of the request's head. */
void ebi_sim_http_take_field(struct ebi_sim_http_request *request, const char *name, const char *text);

/* http_wire.c: what comes over a simulated connection. */
void ebi_sim_http_stream(struct ebi_sim_device *device, struct ebi_sim_connection *connection,
                         const uint8_t *bytes, size_t size);
void ebi_sim_http_wire_forget(struct ebi_sim_device *device);

/* web/: what comes over a real one, where eb_sim_use_web was called. */
struct ebi_sim_web {
    void (*stream)(struct ebi_sim_device *device, struct ebi_sim_connection *connection, const uint8_t *bytes,
                   size_t size);
    void (*gone)(struct ebi_sim_device *device); /* without power: its connections end without a word */
    void (*stop)(struct ebi_sim_device *device);
};

#endif
