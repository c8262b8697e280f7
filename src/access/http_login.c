/* Logins.  A password goes to this one device only, over TLS unless profile or user allow otherwise; one that
 * was refused is not tried again.
 *
 *   Basic, Digest:  the device's challenge (401), then each request carries the answer
 *   form:           its page (cookie, hidden token), then user and password, then a cookie with each request
 *   token:          user and password as JSON, then "Authorization: Bearer" with each request
 */
#include "access/http.h"
#include "base/digest.h"
#include "einbau/text.h"

#include <string.h>

enum { LOGINS_MAX = 4 }; /* in one operation: a session may end in the middle, but not again and again */

static bool by_challenge(const ebi_http *h)
{
    uint8_t login = ebi_http_way(h)->login;
    return login == EB_LOGIN_BASIC || login == EB_LOGIN_DIGEST;
}

static bool by_session(const ebi_http *h)
{
    uint8_t login = ebi_http_way(h)->login;
    return login == EB_LOGIN_FORM || login == EB_LOGIN_TOKEN;
}

void ebi_http_forget(ebi_http *h)
{
    ebi_wipe(h->token, sizeof h->token);
    ebi_wipe(&h->cookies, sizeof h->cookies);
    ebi_wipe(h->authorization, sizeof h->authorization);
    ebi_wipe(h->cookie, sizeof h->cookie);
    h->logged_in = h->proven = false;
}

bool ebi_http_is_change(const ebi_http *h)
{
    if (h->call == EBI_CALL_STEP)
        return ((const struct eb_http_step *)h->operation.step->more)->method != EB_HTTP_GET;
    return h->call == EBI_CALL_UPLOAD || h->call == EBI_CALL_STORE;
}

bool ebi_http_login_due(const ebi_http *h)
{
    if (h->call == EBI_CALL_UPLOAD && by_challenge(h))
        return h->challenge.scheme == EB_HTTP_NO_SCHEME && !h->logged_in; /* `logged_in`: it was probed */
    return ebi_http_is_change(h) && by_session(h) && !h->logged_in;
}

/* Why a password must not be sent, or cannot. */
static enum eb_status may_log_in(const ebi_http *h, struct eb_error *error)
{
    const struct eb_http_way *way = ebi_http_way(h);
    const struct eb_http_target *to = &h->contact->target->http;
    *error = ebi_http_error("login", EB_DENIED, EB_RETRY_NEVER);
    if (way->login == EB_LOGIN_NONE)
        eb_text_copy(error->text, sizeof error->text,
                     "the device wants a user and a password, and its profile has no login");
    else if (!way->tls && !way->plain_passwords && !to->plain_passwords)
        eb_text_copy(error->text, sizeof error->text,
                     "the password would cross the network unencrypted, which the profile does not allow");
    else if (h->rejected)
        eb_text_copy(error->text, sizeof error->text,
                     "user or password were refused before; they are not tried again");
    else if (h->logins >= LOGINS_MAX)
        eb_text_copy(error->text, sizeof error->text, "the session has ended again and again");
    else if (to->secret == NULL)
        eb_text_copy(error->text, sizeof error->text, "no user and password are known");
    else
        return EB_OK;
    return EB_DENIED;
}

enum eb_status ebi_http_begin_login(ebi_http *h, struct eb_error *error)
{
    enum eb_status status = may_log_in(h, error);
    if (status != EB_OK)
        return status;
    h->after_login = h->call;
    if (by_challenge(h)) {
        h->call = EBI_CALL_PROBE;
        return EB_OK;
    }
    ebi_http_forget(h);
    h->logins++;
    h->call = ebi_http_way(h)->page != NULL && ebi_http_way(h)->login == EB_LOGIN_FORM ? EBI_CALL_PAGE
                                                                                       : EBI_CALL_LOG_IN;
    return EB_OK;
}

/* --- what requests carry ----------------------------------------------------------------------------------
 */

struct secret {
    char user[EB_HTTP_USER_BYTES], password[EB_HTTP_PASSWORD_BYTES];
};

static enum eb_status know(const ebi_http *h, struct secret *s, struct eb_error *error)
{
    const struct eb_http_target *to = &h->contact->target->http;
    memset(s, 0, sizeof *s);
    if (to->secret(to->context, s->user, s->password))
        return EB_OK;
    *error = ebi_http_error("login", EB_DENIED, EB_RETRY_NEVER);
    eb_text_copy(error->text, sizeof error->text, "no user and password are known");
    ebi_wipe(s, sizeof *s);
    return EB_DENIED;
}

enum eb_status ebi_http_authorize(ebi_http *h, struct eb_error *error)
{
    const struct eb_http_way *way = ebi_http_way(h);
    struct eb_http_request *r = &h->request;
    if (by_challenge(h) && h->challenge.scheme != EB_HTTP_NO_SCHEME) {
        struct secret s;
        enum eb_status status = may_log_in(h, error);
        if (status == EB_OK)
            status = know(h, &s, error);
        if (status != EB_OK)
            return status;
        const struct eb_port *port = h->contact->port;
        char own[33];
        struct eb_text text;
        eb_text_init(&text, own, sizeof own);
        for (int i = 0; i < 4; i++)
            eb_text_add_hex(&text, eb_port_random(port), 8);
        bool fits = eb_http_authorize(&h->challenge, s.user, s.password, r->method, r->path, ++h->count, own,
                                      h->authorization, sizeof h->authorization);
        ebi_wipe(&s, sizeof s);
        if (!fits) {
            *error = ebi_http_error("login", EB_TOO_LARGE, EB_RETRY_NEVER);
            return EB_TOO_LARGE;
        }
        ebi_http_add_field(h, "Authorization", h->authorization);
    } else if (way->login == EB_LOGIN_TOKEN && h->logged_in) {
        struct eb_text text;
        eb_text_init(&text, h->authorization, sizeof h->authorization);
        eb_text_add(&text, "Bearer ");
        eb_text_add(&text, h->token);
        ebi_http_add_field(h, "Authorization", h->authorization);
    }
    if (!eb_http_cookie_text(&h->cookies, r->path, way->tls, eb_port_now_us(h->contact->port), h->cookie,
                             sizeof h->cookie)) {
        *error = ebi_http_error("login", EB_TOO_LARGE, EB_RETRY_NEVER);
        return EB_TOO_LARGE;
    }
    if (h->cookie[0] != '\0')
        ebi_http_add_field(h, "Cookie", h->cookie);
    if (way->token_field != NULL && eb_http_is_field_text(h->token) && ebi_http_is_change(h))
        ebi_http_add_field(h, way->token_field, h->token);
    return EB_OK;
}

static void add_pair(struct eb_text *body, bool json, const char *name, const char *text)
{
    if (json) {
        eb_text_add(body, body->size > 0 ? ",\"" : "{\"");
        eb_http_add_json(body, name);
        eb_text_add(body, "\":\"");
        eb_http_add_json(body, text);
        eb_text_add(body, "\"");
    } else {
        eb_text_add(body, body->size > 0 ? "&" : "");
        eb_http_add_form(body, name);
        eb_text_add(body, "=");
        eb_http_add_form(body, text);
    }
}

enum eb_status ebi_http_login_body(ebi_http *h, struct eb_error *error)
{
    const struct eb_http_way *way = ebi_http_way(h);
    bool json = way->login == EB_LOGIN_TOKEN;
    struct secret s;
    struct eb_text body;
    enum eb_status status = know(h, &s, error);
    if (status != EB_OK)
        return status;
    eb_text_init(&body, h->head, sizeof h->head);
    add_pair(&body, json, way->user, s.user);
    add_pair(&body, json, way->password, s.password);
    if (way->hidden != NULL && h->token[0] != '\0')
        add_pair(&body, json, way->hidden, h->token);
    eb_text_add(&body, json ? "}" : "");
    ebi_wipe(&s, sizeof s);
    h->request.has_body = true;
    h->request.head = h->head;
    h->request.head_bytes = body.size;
    ebi_http_add_field(h, "Content-Type", json ? "application/json" : "application/x-www-form-urlencoded");
    h->new_cookie = false;
    return EB_OK;
}

/* --- what answers say of it -------------------------------------------------------------------------------
 */

/* User or password are wrong, or the device has locked itself: no further try. */
static enum eb_status refused(ebi_http *h, struct eb_error *error)
{
    *error = ebi_http_status_error(h, "login");
    error->retry = EB_RETRY_NEVER;
    if (h->status == 423 || h->status == 429)
        eb_text_copy(error->text, sizeof error->text, "the device has locked itself for a while");
    else
        eb_text_copy(error->text, sizeof error->text,
                     "user or password were refused; they are not tried again");
    error->status = EB_DENIED;
    h->rejected = true;
    ebi_http_forget(h);
    return EB_DENIED;
}

/* Back to what was to be done. */
static enum eb_status go_back(ebi_http *h)
{
    h->logged_in = true;
    h->proven = h->was_away = false;
    h->call = h->after_login;
    return EB_PENDING;
}

static enum eb_status judge_log_in(ebi_http *h, struct eb_error *error)
{
    const struct eb_http_way *way = ebi_http_way(h);
    bool moved = h->status >= 301 && h->status <= 308;
    bool well = (h->status >= 200 && h->status < 300) || moved;
    if (h->status == 401 || h->status == 403 || h->status == 423 || h->status == 429 || h->to_page)
        return refused(h, error);
    if (!well) {
        *error = ebi_http_status_error(h, "login");
        return error->status;
    }
    /* A page that comes once more, without a new cookie, is the form again. */
    if (way->login == EB_LOGIN_FORM && !moved && !h->new_cookie)
        return refused(h, error);
    if (way->login == EB_LOGIN_TOKEN && (!h->found || !eb_http_is_field_text(h->token))) {
        *error = ebi_http_error("login", EB_GARBAGE, EB_RETRY_NEVER);
        eb_text_copy(error->text, sizeof error->text, "the answer holds no token where the profile says");
        return EB_GARBAGE;
    }
    return go_back(h);
}

/* The nonce has changed, or this is the first challenge: with the answer to it once more. */
static enum eb_status take_challenge(ebi_http *h, struct eb_error *error)
{
    bool had = h->challenge.scheme != EB_HTTP_NO_SCHEME;
    if (h->offered.scheme == EB_HTTP_NO_SCHEME) {
        *error = ebi_http_status_error(h, "login");
        error->retry = EB_RETRY_NEVER;
        eb_text_copy(error->text, sizeof error->text,
                     "the device asks for another login than its profile says");
        return error->status;
    }
    if (had && !h->offered.stale && !(h->proven && strcmp(h->challenge.nonce, h->offered.nonce) != 0))
        return refused(h, error);
    enum eb_status status = may_log_in(h, error);
    if (status != EB_OK)
        return status;
    h->logins++;
    h->challenge = h->offered;
    h->count = 0;
    h->proven = false;
    return EB_PENDING;
}

enum eb_status ebi_http_judge_login(ebi_http *h, struct eb_error *error)
{
    bool session = by_session(h);
    if (h->call == EBI_CALL_PAGE) {
        if (h->status != 200) {
            *error = ebi_http_status_error(h, "the page of the login");
            return error->status;
        }
        h->call = EBI_CALL_LOG_IN;
        return EB_PENDING;
    }
    if (h->call == EBI_CALL_LOG_IN)
        return judge_log_in(h, error);
    bool ended = session && (h->status == 401 || h->to_page || (h->status == 403 && h->proven));
    if (h->status == 401 && by_challenge(h)) {
        if (h->call == EBI_CALL_PROBE)
            h->call = h->after_login;
        h->logged_in = true;
        return take_challenge(h, error);
    }
    if (h->call == EBI_CALL_PROBE)
        return go_back(h); /* it asks for nothing here: perhaps when the image comes */
    /* A login that opens nothing was none, unless the device was away since: then its sessions are gone. */
    if (ended && h->logged_in && !h->proven && !h->was_away)
        return refused(h, error);
    if (ended) {
        enum eb_status status = ebi_http_begin_login(h, error);
        return status == EB_OK ? EB_PENDING : status;
    }
    if (h->status == 401) {
        enum eb_status status = may_log_in(h, error);
        return status == EB_OK ? EB_DENIED : status;
    }
    h->proven = h->proven || h->status < 400;
    return EB_OK;
}
