/* What the files of the access to web servers share. */
#ifndef EBI_ACCESS_HTTP_H
#define EBI_ACCESS_HTTP_H

#include "access/access.h"
#include "einbau/access/http.h"

/* What is asked. */
enum {
    EBI_CALL_VALUES,   /* a document with values */
    EBI_CALL_STEP,     /* a step of the profile */
    EBI_CALL_UPLOAD,   /* the image */
    EBI_CALL_PROGRESS, /* how far the device is with it */
    EBI_CALL_PROBE,    /* only to be challenged, before the image is sent (RFC 7616 section 3.3) */
    EBI_CALL_PAGE,     /* the login's form */
    EBI_CALL_LOG_IN,
    EBI_CALL_FETCH, /* a document of the profile's backups, and it is written */
    EBI_CALL_STORE
};

typedef struct eb_access_http_context ebi_http;

/* --- http_login.c: who asks, and what a request must carry for that --- */

/* Whether the profile's login is needed for such a request before it is sent. */
bool ebi_http_login_due(const ebi_http *h);
/* The first request of the login; EB_OK, or why it must not be. */
enum eb_status ebi_http_begin_login(ebi_http *h, struct eb_error *error);
/* What an answer says of the login: EB_OK: nothing; EB_PENDING: another request is due (h->call), or the
 * login has to be done anew; else the error. */
enum eb_status ebi_http_judge_login(ebi_http *h, struct eb_error *error);
/* Puts what proves the login into the request. */
enum eb_status ebi_http_authorize(ebi_http *h, struct eb_error *error);
/* Fills in the body of the login's request. */
enum eb_status ebi_http_login_body(ebi_http *h, struct eb_error *error);
/* Forgets it all. */
void ebi_http_forget(ebi_http *h);
bool ebi_http_is_change(const ebi_http *h);

/* --- http_body.c --- */

const char *ebi_http_method_word(uint8_t method);
/* Where the request goes. */
void ebi_http_choose_path(ebi_http *h);
/* Fills in the body of an upload, of a document, and of a step; false: it is too long. */
bool ebi_http_upload_body(ebi_http *h);
void ebi_http_store_body(ebi_http *h);
bool ebi_http_step_body(ebi_http *h, const struct eb_http_step *step);

/* --- http.c --- */
const struct eb_http_way *ebi_http_way(const ebi_http *h);
struct eb_error ebi_http_error(const char *where, enum eb_status status, enum eb_retry retry);
struct eb_error ebi_http_status_error(const ebi_http *h, const char *where);
void ebi_http_add_field(ebi_http *h, const char *name, const char *text);

#endif
