/* HTTP/1.1 (RFC 9110, 9112) as a port carries it, one exchange at a time, and what an engine needs besides:
 * challenges and logins (RFC 7616, 7617), cookies (RFC 6265), forms. */
#ifndef EINBAU_HTTP_H
#define EINBAU_HTTP_H

#include "einbau/source.h"
#include "einbau/status.h"

#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_HTTP_PORT = 80,
    EB_HTTPS_PORT = 443,
    EB_HTTP_FIELDS_MAX = 8,
    EB_HTTP_CERTIFICATE_BYTES = 32 /* SHA-256 of the certificate as it is sent (DER) */
};

/* A field of a request's head; borrowed. */
struct eb_http_field {
    const char *name, *text;
};

/* One exchange.  Everything is borrowed until it is closed.  The functions are called while the port works
 * (begin, poll, or the wait); they take note, and call nothing of the port. */
struct eb_http_request {
    const char *method; /* "GET" */
    const char *path;   /* with the query: "/update?part=1" */
    bool tls;
    uint8_t ip[4];
    uint16_t port;
    const char *host;      /* its name for the certificate and the field Host; NULL: its address */
    const char *authority; /* file (PEM) of the authority that must have signed its certificate; NULL: none */
    struct eb_http_field fields[EB_HTTP_FIELDS_MAX];
    size_t field_count;

    /* The body, its size told in advance: bytes before what the source gives, and bytes behind it. */
    bool has_body;
    const char *head;
    size_t head_bytes;
    const struct eb_source *source; /* NULL: none */
    const char *tail;
    size_t tail_bytes;
    bool expect; /* asks for "100 Continue" and waits a second for it */
    bool fresh;  /* not over a connection that was used before: one that its peer has closed silently would
                    begin the body twice */

    uint64_t patience_us; /* nothing moves for so long: EB_NO_ANSWER */
    uint64_t most_bytes;  /* of the answer's body: more is EB_TOO_LARGE */

    /* Of TLS, before anything is sent: whether the certificate may be trusted. */
    bool (*certificate)(void *context, const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES]);
    /* A field of the answer's head, behind its status. */
    void (*field)(void *context, unsigned status, const char *name, const char *text);
    void (*body)(void *context, const uint8_t *bytes, size_t size);
    void *context;
};

/* How far it is. */
struct eb_http_progress {
    unsigned status;     /* of the answer, 0: none yet */
    bool connected;      /* something came, or went out */
    uint64_t sent_bytes; /* of the body */
    uint64_t received_bytes;
};

/* The size of the request's body. */
static inline uint64_t eb_http_body_bytes(const struct eb_http_request *request)
{
    uint64_t middle = request->source != NULL ? request->source->size_bytes : 0;
    return request->has_body ? request->head_bytes + middle + request->tail_bytes : 0;
}
/* Fills `to` with up to `cap` bytes of the body from `offset` on and gives their number, 0 at its end; the
 * source's failure is EB_IO. */
EB_NODISCARD enum eb_status eb_http_body_read(const struct eb_http_request *request, uint64_t offset,
                                              char *to, size_t cap, size_t *size);

/* --- logins ----------------------------------------------------------------------------------------- */

enum {
    EB_HTTP_REALM_BYTES = 80,
    EB_HTTP_NONCE_BYTES = 160,
    EB_HTTP_USER_BYTES = 64,
    EB_HTTP_PASSWORD_BYTES = 128,
    EB_HTTP_HEADER_BYTES = 768
};

enum eb_http_scheme { EB_HTTP_NO_SCHEME, EB_HTTP_BASIC, EB_HTTP_DIGEST };

/* A challenge of a server (RFC 9110 section 11.6.1). */
struct eb_http_challenge {
    enum eb_http_scheme scheme;
    bool sha256;  /* of Digest; else MD5 */
    bool session; /* its algorithm ends with -sess */
    bool has_qop, auth, stale;
    char realm[EB_HTTP_REALM_BYTES], nonce[EB_HTTP_NONCE_BYTES], opaque[EB_HTTP_REALM_BYTES];
};

/* Takes the field WWW-Authenticate; of several challenges, also of several fields, the best one of `scheme`
 * stays in `best`: SHA-256 before MD5.  One that does not fit, or wants what is not known here (auth-int
 * alone, another algorithm), is passed over; so is one with control characters. */
void eb_http_challenge_take(const char *text, enum eb_http_scheme scheme, struct eb_http_challenge *best);

/* Writes the field Authorization for it: false where it is longer than `cap`.  `count` is the number of
 * requests with this nonce, this one included; `own` is the client's nonce, fresh random letters; for Basic
 * neither counts. */
bool eb_http_authorize(const struct eb_http_challenge *challenge, const char *user, const char *password,
                       const char *method, const char *path, uint32_t count, const char *own, char *to,
                       size_t cap);

/* --- cookies ---------------------------------------------------------------------------------------- */

enum { EB_HTTP_COOKIES_MAX = 4, EB_HTTP_COOKIE_BYTES = 384, EB_HTTP_COOKIE_PATH_BYTES = 64 };

/* The cookies of one device: it is the only host that they ever go to. */
struct eb_http_cookies {
    /* One cookie. */
    struct eb_http_cookie {
        char text[EB_HTTP_COOKIE_BYTES]; /* "name=value"; empty: none */
        char path[EB_HTTP_COOKIE_PATH_BYTES];
        bool secure;
        uint64_t end_us;
    } list[EB_HTTP_COOKIES_MAX];
};
/* Takes a field Set-Cookie of `host`'s answer to a request for `path`.  One for another host (Domain), one
 * that is too long or has control characters is dropped; one that has expired takes the older one along. */
void eb_http_cookie_take(struct eb_http_cookies *cookies, const char *text, const char *host,
                         const char *path, bool tls, uint64_t now_us);
/* Writes the field Cookie for a request; empty where there is none.  False: longer than `cap`. */
bool eb_http_cookie_text(const struct eb_http_cookies *cookies, const char *path, bool tls, uint64_t now_us,
                         char *to, size_t cap);

/* --- texts ------------------------------------------------------------------------------------------ */

struct eb_text;
/* Adds a text as application/x-www-form-urlencoded wants it. */
void eb_http_add_form(struct eb_text *to, const char *text);
/* Adds a text as the inside of a JSON string. */
void eb_http_add_json(struct eb_text *to, const char *text);
/* Whether a text may stand in a field (RFC 9110 section 5.5): not empty, no line end, no other control
 * character.  What a device gives us to send back to it may not begin a field of its own. */
bool eb_http_is_field_text(const char *text);
/* Whether two names of fields are the same: case makes no difference. */
bool eb_http_name_is(const char *a, const char *b);

/* Where a redirect leads (RFC 9110 section 10.2.2). */
enum eb_http_target_kind { EB_HTTP_SAME_HOST, EB_HTTP_OTHER_HOST, EB_HTTP_TO_TLS, EB_HTTP_FROM_TLS };
/* Reads the field Location of an answer to a request for `from`: writes the path, relative ones resolved.
 * EB_HTTP_OTHER_HOST also for what is no such text or too long. */
enum eb_http_target_kind eb_http_location(const char *location, const char *from, const char *host,
                                          uint16_t port, bool tls, char *path, size_t cap);

/* The reason phrase of a status (RFC 9110 section 15), or "". */
const char *eb_http_status_text(unsigned status);

#ifdef __cplusplus
}
#endif

#endif
