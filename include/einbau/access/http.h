/* A device with a web server as a job sees it: values from documents, steps, an upload, behind a login. */
#ifndef EINBAU_ACCESS_HTTP_H
#define EINBAU_ACCESS_HTTP_H

#include "einbau/access.h"
#include "einbau/document.h"

#ifdef __cplusplus
extern "C" {
#endif

enum eb_http_login { EB_LOGIN_NONE, EB_LOGIN_BASIC, EB_LOGIN_DIGEST, EB_LOGIN_FORM, EB_LOGIN_TOKEN };
enum eb_http_method { EB_HTTP_POST, EB_HTTP_PUT, EB_HTTP_GET, EB_HTTP_DELETE };

/* What a profile says of the device's web server.  In paths and in the texts of fields "{send-as}" stands for
 * the name under which the device takes the component, "{component}" for that of the component. */
struct eb_http_way {
    uint16_t port; /* 0: 443 with TLS, else 80 */
    bool tls;
    bool plain_passwords; /* a login without TLS is allowed */

    uint8_t login;               /* enum eb_http_login */
    const char *page;            /* where a form stands; an ended session leads there */
    const char *log_in;          /* where a form or a JSON document with user and password goes */
    const char *user, *password; /* what its members are called */
    const char *hidden;          /* the form's input that hides a token */
    const char *token_field;     /* the field that brings a token, and sends it back with each change */
    const char *token;           /* where the token stands in the answer (a JSON pointer) */

    uint8_t method; /* enum eb_http_method */
    const char *path;
    const char *field; /* of multipart/form-data; NULL: the image is the whole body */
    const char *type;  /* Content-Type of that body, or of the part */
    struct eb_pairs fields;
    struct eb_numbers expect; /* what says that it was taken; none: 200, 201, 202, 204, 303 */
    bool asks_first;          /* Expect: 100-continue */

    const char *progress; /* a document that tells how far the device is; or the one that it names itself */
    const char *state, *percent; /* where that stands in it (JSON pointers) */
    struct eb_strings done, failed;
};
/* What the profile says of it; NULL: it has no such section. */
const struct eb_http_way *eb_http_way_of(const struct eb_profile *profile);

/* One request as a step. */
struct eb_http_step {
    uint8_t method;
    const char *path;
    struct eb_pairs fields;   /* of a form */
    struct eb_pairs json;     /* of a JSON document: texts, or numbers, true and false as they stand */
    struct eb_numbers expect; /* none: 200, 201, 202, 204, 303 */
    const char *reads;        /* a text that must be in the answer, or NULL */
};

/* One document that is fetched (GET) and put back. */
struct eb_http_document {
    const char *path;
    const char *put_to;       /* NULL: the same */
    const char *type;         /* Content-Type */
    uint8_t method;           /* enum eb_http_method, POST or PUT */
    struct eb_numbers expect; /* what says that it was taken; none: 200, 201, 202, 204, 303 */
};

enum { EB_HTTP_PATH_BYTES = 192, EB_HTTP_TOKEN_BYTES = 512, EB_HTTP_MARKS_MAX = 6 };

/* What it needs for one device. */
struct eb_access_http_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle;
    bool busy;
    uint8_t call, after_login; /* what is being asked; what is asked once the login is done */
    uint8_t redirects, logins, unanswered;
    bool logged_in, proven; /* `proven`: this login has opened something */
    bool rejected;          /* user or password were refused: they are not tried again */
    bool answered;          /* ever: so that silence says something */
    bool without_expect, stopped, was_away;
    bool new_cookie, to_page, found, refused_certificate;
    bool has_location;
    uint64_t wait_us;               /* EB_NEVER: it is under way; else it begins then */
    uint64_t end_us;                /* patience with the whole operation */
    uint64_t called_us, longest_us; /* when the exchange began; how long one took, at most */
    uint64_t moved_us;              /* the progress document told something new */
    uint32_t retry_after_s;
    uint32_t count;                /* requests with this nonce */
    unsigned status, field_status; /* of the answer; of the one whose head was read last */
    enum eb_status sunk;           /* what the sink of a document said */
    bool sized, twice;             /* its answer says how long it is; else it is read twice, and compared: */
    uint32_t hash, first_hash;     /* FNV-1a of it, and of the first time */
    struct eb_http_challenge challenge, offered;
    struct eb_http_cookies cookies;
    char token[EB_HTTP_TOKEN_BYTES]; /* bearer, or what a form hides */
    char path[EB_HTTP_PATH_BYTES], redirect[EB_HTTP_PATH_BYTES], follow[EB_HTTP_PATH_BYTES];
    char host[64];
    char authorization[EB_HTTP_HEADER_BYTES], cookie[1024], type[96], tail[64];
    char head[1024]; /* of the body: a form, or what stands before the image */
    struct eb_http_request request;
    struct eb_http_progress progress;
    uint8_t certificate[EB_HTTP_CERTIFICATE_BYTES];
    /* reading of the answer */
    size_t place; /* of the values whose document is read */
    char text[EB_HTTP_TOKEN_BYTES];
    char state[EB_NAME_BYTES], percent[16];
    struct eb_json json;
    bool has_json;
    struct eb_mark_reader marks[EB_HTTP_MARKS_MAX];
    size_t mark_count;
    struct eb_input_reader input;
};
extern const struct eb_access eb_access_http;
extern const struct eb_rows eb_rows_http;

#ifdef __cplusplus
}
#endif

#endif
