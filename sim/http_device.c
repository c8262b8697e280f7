/* The web server of a simulated device, as its maker made it:
 *
 *   GET  /api/identity, /api/status   JSON; /about.html has the same as a page
 *   GET  /api/values, /api/log        JSON: what it holds, and its diagnostics
 *   GET  /login, POST /login          a form with a hidden token; a cookie
 *   POST /token                       user and password as JSON; a bearer token
 *   POST /update                      multipart/form-data: component, file
 *   PUT  /images/NAME                 the image as the body
 *   GET, PUT /api/NAME              a document that it keeps, behind the login (POST as well)
 *   POST /restart, POST /factory-reset
 *   PUT  /api/password                user, old and new one as JSON
 *
 * What was sent is written into the flash afterwards, which takes its time; the status tells how far it is.
 */
#include "base/digest.h"
#include "documents.h"
#include "http_model.h"
#include "values.h"
#include "world.h"
#include "yaml_read.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

enum login { LOGIN_NONE, LOGIN_BASIC, LOGIN_DIGEST, LOGIN_FORM, LOGIN_TOKEN };
enum answer { ANSWER_200, ANSWER_201, ANSWER_202, ANSWER_303, ANSWER_RESET, ANSWER_SILENCE };

struct web {
    bool taken;
    uint16_t port;
    bool tls, private, md5, ignores_restart, refuses_expect, ignores_expect, jumps, fails, stands_still;
    bool certificate_changes;
    enum login login;
    enum answer answer;
    char user[64], password[128], redirect[160];
    bool keeps_password, changed; /* it says that it has taken a new one, and has not; one was sent */
    unsigned limit_kib, session_requests, nonce_requests, lockout, upload_status;
    /* what it remembers */
    char session[33], token[33], nonce[33];
    bool logged_in;
    unsigned in_session, with_nonce, wrong;
    uint64_t locked_until_us;
    struct ebi_sim_component *component; /* that is being written */
    uint8_t *image;
    size_t size;
    uint64_t began_us, done_us;
    bool failed;
};

static struct web *web_of(const struct ebi_sim_device *d)
{
    struct ebi_sim_device *own = (struct ebi_sim_device *)d; /* its memory, which is ours */
    return ebi_sim_own(own, &ebi_sim_http, sizeof(struct web));
}

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

bool ebi_sim_http_speaks(const struct ebi_sim_device *d)
{
    return web_of(d)->taken;
}

uint16_t ebi_sim_http_port(const struct ebi_sim_device *d)
{
    return web_of(d)->taken ? web_of(d)->port : 0;
}

bool ebi_sim_http_tls(const struct ebi_sim_device *d)
{
    return web_of(d)->tls;
}

bool ebi_sim_http_ignores_expect(const struct ebi_sim_device *d)
{
    return web_of(d)->ignores_expect;
}

bool ebi_sim_http_second_certificate(const struct ebi_sim_device *d)
{
    return web_of(d)->certificate_changes && d->restarted;
}

void ebi_sim_http_certificate(struct ebi_sim_device *d, uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES])
{
    struct ebi_digest digest;
    char text[EBI_DIGEST_TEXT_BYTES];
    ebi_digest_begin(&digest, true);
    ebi_digest_add_text(&digest, d->name);
    ebi_digest_add_text(&digest, ebi_sim_http_second_certificate(d) ? " 2" : " 1");
    ebi_digest_end(&digest, text);
    for (size_t i = 0; i < EB_HTTP_CERTIFICATE_BYTES; i++) {
        const char pair[3] = {text[2 * i], text[2 * i + 1], '\0'};
        sha256[i] = (uint8_t)strtoul(pair, NULL, 16);
    }
}

void ebi_sim_http_take_field(struct ebi_sim_http_request *r, const char *name, const char *text)
{
    const struct {
        const char *name;
        char *to;
        size_t cap;
    } texts[] = {{"Authorization", r->authorization, sizeof r->authorization},
                 {"Cookie", r->cookie, sizeof r->cookie},
                 {"Content-Type", r->type, sizeof r->type},
                 {"X-Herald-Token", r->token, sizeof r->token}};
    for (size_t i = 0; i < sizeof texts / sizeof texts[0]; i++) {
        if (strcasecmp(name, texts[i].name) == 0)
            snprintf(texts[i].to, texts[i].cap, "%s", text);
    }
    if (strcasecmp(name, "Content-Length") == 0) {
        r->has_length = true;
        r->length = strtoul(text, NULL, 10);
    } else if (strcasecmp(name, "Transfer-Encoding") == 0) {
        r->encoded = true;
    } else if (strcasecmp(name, "Expect") == 0) {
        r->expects = true;
    }
}

/* --- answers --------------------------------------------------------------------------------------- */

static void say(struct ebi_sim_http_reply *reply, unsigned status, const char *type, const char *text)
{
    size_t at = strlen(reply->fields);
    reply->status = status;
    reply->size = (size_t)snprintf(reply->body, sizeof reply->body, "%s", text);
    snprintf(reply->fields + at, sizeof reply->fields - at, "Content-Type: %s\r\n", type);
}

static void add_field(struct ebi_sim_http_reply *reply, const char *name, const char *text)
{
    size_t at = strlen(reply->fields);
    snprintf(reply->fields + at, sizeof reply->fields - at, "%s: %s\r\n", name, text);
}

static const char *version_of(const struct ebi_sim_device *d, size_t i)
{
    const char *version = ebi_sim_device_version(d, i);
    return version[0] != '\0' ? version : "none";
}

static const char *state_word(const struct ebi_sim_device *d, unsigned *percent)
{
    const struct web *w = web_of(d);
    *percent = 0;
    if (w->failed)
        return "failed";
    if (w->component == NULL)
        return "idle";
    if (w->jumps) {
        *percent = now(d) - w->began_us < 700000 ? 25 : 100;
        return "writing";
    }
    uint64_t takes_us = w->done_us - w->began_us;
    *percent =
        w->stands_still ? 40 : (unsigned)(takes_us == 0 ? 100 : 100 * (now(d) - w->began_us) / takes_us);
    return "writing";
}

static void say_status(const struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    char text[1024];
    unsigned percent;
    const char *state = state_word(d, &percent);
    int at = snprintf(text, sizeof text,
                      "{\"mode\": \"%s\", \"job\": {\"state\": \"%s\", \"percent\": %u}, \"starts\": %u, "
                      "\"uptime\": %llu, \"versions\": {",
                      d->mode == EB_SIM_LOADER    ? "loader"
                      : d->mode == EB_SIM_STOPPED ? "stopped"
                                                  : "running",
                      state, percent, d->starts, (unsigned long long)((now(d) - d->started_us) / 1000000));
    for (size_t i = 0; i < d->count; i++)
        at += snprintf(text + at, sizeof text - (size_t)at, "%s\"%s\": \"%s\"", i > 0 ? ", " : "",
                       d->components[i].name, version_of(d, i));
    snprintf(text + at, sizeof text - (size_t)at, "}}\n");
    say(reply, 200, "application/json", text);
}

static void say_values(const struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    const struct ebi_sim_values *values = d->values;
    json_t *object = json_object();
    uint32_t value;
    for (size_t i = 0; values != NULL && i < values->count; i++) {
        if (ebi_sim_value_of(d, values->list[i].number, &value))
            json_object_set_new(object, values->list[i].name, json_integer((json_int_t)value));
    }
    char *text = json_dumps(object, 0);
    json_decref(object);
    say(reply, 200, "application/json", text != NULL ? text : "");
    free(text);
}

static void say_log(const struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    const struct ebi_sim_log *log = ebi_sim_log_of(d);
    char text[64 * EBI_SIM_LOG_MAX] = "{\"entries\": [";
    for (size_t i = 0; log != NULL && i < log->count; i++)
        snprintf(text + strlen(text), sizeof text - strlen(text), "%s{\"text\": \"E%u\"}", i > 0 ? ", " : "",
                 (unsigned)log->entries[i]);
    snprintf(text + strlen(text), sizeof text - strlen(text), "]}\n");
    say(reply, 200, "application/json", text);
}

static void say_identity(const struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    char text[1024];
    const struct eb_identity *id = &d->identity;
    snprintf(text, sizeof text,
             "{\"maker\": \"%s\", \"product\": \"%s\", \"order\": \"%s\", \"hardware\": \"%s\", \"serial\": "
             "\"%s\"}\n",
             id->maker, id->product, id->order_code, id->hardware_revision, ebi_sim_device_serial(d));
    say(reply, 200, "application/json", text);
}

static void say_about(const struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    char text[2048];
    int at = snprintf(text, sizeof text,
                      "<!DOCTYPE html>\n<html><head><title>%s</title></head><body><h1>%s %s</h1>\n<table>\n"
                      "<tr><th>Order code</th><td>%s</td></tr>\n<tr><th>Serial number</th><td>%s</td></tr>\n",
                      d->identity.product, d->identity.maker, d->identity.product, d->identity.order_code,
                      ebi_sim_device_serial(d));
    for (size_t i = 0; i < d->count; i++)
        at += snprintf(text + at, sizeof text - (size_t)at, "<tr><th>Version of %s</th><td> %s</td></tr>\n",
                       d->components[i].name, version_of(d, i));
    snprintf(text + at, sizeof text - (size_t)at, "</table></body></html>\n");
    say(reply, 200, "text/html", text);
}

/* --- logins ---------------------------------------------------------------------------------------- */

static void fresh_word(struct ebi_sim_device *d, char word[33])
{
    snprintf(word, 33, "%016llx%016llx", (unsigned long long)ebi_sim_random(d->sim),
             (unsigned long long)ebi_sim_random(d->sim));
}

static bool parameter(const char *text, const char *name, char *to, size_t cap)
{
    char mark[32];
    snprintf(mark, sizeof mark, "%s=", name);
    for (const char *at = strstr(text, mark); at != NULL; at = strstr(at + 1, mark)) {
        if (at > text && at[-1] != ' ' && at[-1] != ',')
            continue;
        at += strlen(mark);
        const char *end = *at == '"' ? strchr(++at, '"') : at + strcspn(at, ", ");
        if (end == NULL || (size_t)(end - at) >= cap)
            return false;
        memcpy(to, at, (size_t)(end - at));
        to[end - at] = '\0';
        return true;
    }
    return false;
}

static void add_texts(struct ebi_digest *digest, const char *a, const char *b, const char *c)
{
    ebi_digest_add_text(digest, a);
    ebi_digest_add_text(digest, ":");
    ebi_digest_add_text(digest, b);
    if (c != NULL) {
        ebi_digest_add_text(digest, ":");
        ebi_digest_add_text(digest, c);
    }
}

static bool digest_is_right(struct web *w, const struct ebi_sim_http_request *r, const char *realm)
{
    struct ebi_digest digest;
    char one[EBI_DIGEST_TEXT_BYTES];
    char two[EBI_DIGEST_TEXT_BYTES];
    char nc[16];
    char own[64];
    char uri[256];
    char response[EBI_DIGEST_TEXT_BYTES];
    if (!parameter(r->authorization, "nc", nc, sizeof nc) ||
        !parameter(r->authorization, "cnonce", own, sizeof own) ||
        !parameter(r->authorization, "uri", uri, sizeof uri) || strcmp(uri, r->path) != 0 ||
        !parameter(r->authorization, "response", response, sizeof response))
        return false;
    ebi_digest_begin(&digest, !w->md5);
    add_texts(&digest, w->user, realm, w->password);
    ebi_digest_end(&digest, one);
    ebi_digest_begin(&digest, !w->md5);
    add_texts(&digest, r->method, uri, NULL);
    ebi_digest_end(&digest, two);
    ebi_digest_begin(&digest, !w->md5);
    add_texts(&digest, one, w->nonce, nc);
    ebi_digest_add_text(&digest, ":");
    add_texts(&digest, own, "auth", two);
    ebi_digest_end(&digest, one);
    return strcmp(one, response) == 0;
}

static void unauthorized(struct ebi_sim_device *d, struct ebi_sim_http_reply *reply, bool stale)
{
    struct web *w = web_of(d);
    char text[512];
    if (w->login == LOGIN_BASIC) {
        snprintf(text, sizeof text, "Basic realm=\"%s\", charset=\"UTF-8\"", d->identity.product);
        add_field(reply, "WWW-Authenticate", text);
    } else if (w->login == LOGIN_DIGEST) {
        fresh_word(d, w->nonce);
        w->with_nonce = 0;
        snprintf(text, sizeof text,
                 "Digest realm=\"%s\", qop=\"auth\", algorithm=%s, nonce=\"%s\", opaque=\"h250\"%s",
                 d->identity.product, w->md5 ? "MD5" : "SHA-256", w->nonce, stale ? ", stale=true" : "");
        add_field(reply, "WWW-Authenticate", text);
    }
    if (w->login == LOGIN_FORM) {
        add_field(reply, "Location", "/login");
        say(reply, 302, "text/html", "<a href=\"/login\">log in</a>\n");
    } else {
        say(reply, 401, "text/plain", "log in first\n");
    }
}

static bool locked(struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    if (now(d) >= w->locked_until_us)
        return false;
    add_field(reply, "Retry-After", "300");
    say(reply, 429, "text/plain", "too many wrong passwords\n");
    return true;
}

static void wrong_password(struct ebi_sim_device *d)
{
    struct web *w = web_of(d);
    if (w->lockout != 0 && ++w->wrong >= w->lockout)
        w->locked_until_us = now(d) + 300000000;
}

static void end_session(struct web *w)
{
    w->logged_in = false;
    w->session[0] = w->token[0] = '\0';
}

static bool has_session(struct web *w, const struct ebi_sim_http_request *r)
{
    char cookie[64];
    bool right = w->login == LOGIN_TOKEN
                     ? strncmp(r->authorization, "Bearer ", 7) == 0 && w->token[0] != '\0' &&
                           strcmp(r->authorization + 7, w->token) == 0
                     : parameter(r->cookie, "herald", cookie, sizeof cookie) && w->session[0] != '\0' &&
                           strcmp(cookie, w->session) == 0;
    if (!right || !w->logged_in)
        return false;
    if (w->session_requests != 0 && ++w->in_session > w->session_requests) {
        end_session(w);
        return false;
    }
    return true;
}

/* "Basic base64(user:password)" */
static bool basic_is_right(const struct web *w, const struct ebi_sim_http_request *r)
{
    const struct eb_http_challenge basic = {.scheme = EB_HTTP_BASIC};
    char expected[EB_HTTP_HEADER_BYTES];
    return eb_http_authorize(&basic, w->user, w->password, "", "", 0, "", expected, sizeof expected) &&
           strcmp(expected, r->authorization) == 0;
}

/* False: it was answered. */
static bool let_in(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                   struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    char nonce[64];
    if (w->login == LOGIN_NONE)
        return true;
    if (locked(d, reply))
        return false;
    if (w->login == LOGIN_FORM || w->login == LOGIN_TOKEN) {
        if (!has_session(w, r)) {
            unauthorized(d, reply, false);
            return false;
        }
        if (w->login == LOGIN_FORM && strcmp(r->method, "GET") != 0 && strcmp(r->token, w->token) != 0) {
            say(reply, 403, "application/json", "{\"error\": \"token\"}\n");
            return false;
        }
        return true;
    }
    if (r->authorization[0] == '\0') {
        unauthorized(d, reply, false);
        return false;
    }
    bool known = w->login == LOGIN_BASIC || (parameter(r->authorization, "nonce", nonce, sizeof nonce) &&
                                             w->nonce[0] != '\0' && strcmp(nonce, w->nonce) == 0);
    if (!known || (w->nonce_requests != 0 && ++w->with_nonce > w->nonce_requests)) {
        unauthorized(d, reply, true);
        return false;
    }
    bool right = w->login == LOGIN_BASIC ? basic_is_right(w, r) : digest_is_right(w, r, d->identity.product);
    if (!right) {
        wrong_password(d);
        unauthorized(d, reply, false);
    }
    return right;
}

static void say_form(struct ebi_sim_device *d, struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    char text[640];
    fresh_word(d, w->session);
    fresh_word(d, w->token);
    w->logged_in = false;
    snprintf(text, sizeof text, "herald=%s; Path=/; HttpOnly", w->session);
    add_field(reply, "Set-Cookie", text);
    snprintf(text, sizeof text,
             "<!DOCTYPE html>\n<form method=\"post\" action=\"/login\">\n<input name=\"user\">\n<input "
             "name=\"password\" type=\"password\">\n<input type=\"hidden\" value=\"%s\" name=\"herald\">\n"
             "<button>Log in</button></form>\n",
             w->token);
    say(reply, 200, "text/html", text);
}

/* Decodes one field of a form. */
static bool form_field(const struct ebi_sim_http_request *r, const char *name, char *to, size_t cap)
{
    char body[1024];
    size_t size = r->size < sizeof body - 1 ? r->size : sizeof body - 1;
    if (size > 0)
        memcpy(body, r->body, size);
    body[size] = '\0';
    size_t length = strlen(name);
    for (char *at = body; at != NULL && *at != '\0'; at = strchr(at, '&')) {
        at += *at == '&' ? 1 : 0;
        if (strncmp(at, name, length) != 0 || at[length] != '=')
            continue;
        size_t out = 0;
        for (at += length + 1; *at != '\0' && *at != '&' && out + 1 < cap; at++) {
            char code[3] = {0};
            if (*at == '%' && at[1] != '\0' && at[2] != '\0') {
                memcpy(code, at + 1, 2);
                to[out++] = (char)strtoul(code, NULL, 16);
                at += 2;
            } else {
                to[out++] = *at == '+' ? ' ' : *at;
            }
        }
        to[out] = '\0';
        return true;
    }
    return false;
}

static void log_in_form(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                        struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    char user[64];
    char password[128];
    char token[64];
    char cookie[64];
    char text[128];
    if (locked(d, reply))
        return;
    if (!form_field(r, "herald", token, sizeof token) || w->token[0] == '\0' ||
        strcmp(token, w->token) != 0 || !parameter(r->cookie, "herald", cookie, sizeof cookie) ||
        strcmp(cookie, w->session) != 0) {
        say(reply, 403, "text/plain", "this form is out of date\n");
        return;
    }
    if (!form_field(r, "user", user, sizeof user) || !form_field(r, "password", password, sizeof password) ||
        strcmp(user, w->user) != 0 || strcmp(password, w->password) != 0) {
        wrong_password(d);
        add_field(reply, "Location", "/login");
        say(reply, 303, "text/plain", "wrong\n");
        return;
    }
    fresh_word(d, w->session);
    fresh_word(d, w->token);
    w->logged_in = true;
    w->in_session = 0;
    snprintf(text, sizeof text, "herald=%s; Path=/; HttpOnly; SameSite=Strict", w->session);
    add_field(reply, "Set-Cookie", text);
    add_field(reply, "X-Herald-Token", w->token);
    add_field(reply, "Location", "/api/status");
    say(reply, 303, "text/plain", "welcome\n");
}

static void log_in_token(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                         struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    char expected[512];
    char body[512];
    char text[128];
    struct eb_text out;
    if (locked(d, reply))
        return;
    eb_text_init(&out, expected, sizeof expected);
    eb_text_add(&out, "{\"user\":\"");
    eb_http_add_json(&out, w->user);
    eb_text_add(&out, "\",\"password\":\"");
    eb_http_add_json(&out, w->password);
    eb_text_add(&out, "\"}");
    snprintf(body, sizeof body, "%.*s", (int)r->size, r->body != NULL ? (const char *)r->body : "");
    if (strcmp(body, expected) != 0) {
        wrong_password(d);
        say(reply, 401, "application/json", "{\"error\": \"login\"}\n");
        return;
    }
    fresh_word(d, w->token);
    w->logged_in = true;
    w->in_session = 0;
    snprintf(text, sizeof text, "{\"token\": \"%s\", \"type\": \"Bearer\"}\n", w->token);
    say(reply, 200, "application/json", text);
}

/* --- images ---------------------------------------------------------------------------------------- */

static struct ebi_sim_component *component_by(struct ebi_sim_device *d, const char *file)
{
    for (size_t i = 0; i < d->count; i++) {
        if (strcmp(d->components[i].file_name, file) == 0)
            return &d->components[i];
    }
    return NULL;
}

/* The part `name` of a multipart/form-data body (RFC 7578). */
static const uint8_t *part(const struct ebi_sim_http_request *r, const char *name, size_t *size)
{
    char mark[96];
    char bounds[96];
    const char *at = strstr(r->type, "boundary=");
    if (strncmp(r->type, "multipart/form-data", 19) != 0 || at == NULL || r->size == 0)
        return NULL;
    snprintf(bounds, sizeof bounds, "\r\n--%.70s", at + 9);
    snprintf(mark, sizeof mark, "name=\"%s\"", name);
    const uint8_t *end = r->body + r->size;
    for (const uint8_t *p = memmem(r->body, r->size, mark, strlen(mark)); p != NULL;
         p = memmem(p + 1, (size_t)(end - p - 1), mark, strlen(mark))) {
        const uint8_t *data = memmem(p, (size_t)(end - p), "\r\n\r\n", 4);
        if (p[-1] != ' ' || data == NULL)
            continue;
        data += 4;
        const uint8_t *stop = memmem(data, (size_t)(end - data), bounds, strlen(bounds));
        if (stop == NULL)
            return NULL;
        *size = (size_t)(stop - data);
        return data;
    }
    return NULL;
}

static void begin_writing(struct ebi_sim_device *d, struct ebi_sim_component *c, const uint8_t *bytes,
                          size_t size)
{
    struct web *w = web_of(d);
    free(w->image);
    w->image = malloc(size + 1);
    if (w->image == NULL)
        abort();
    memcpy(w->image, bytes, size);
    w->size = size;
    w->component = c;
    w->failed = false;
    w->began_us = now(d);
    w->done_us = now(d) + d->erase_ms * 1000ULL +
                 (d->write_bytes_per_s > 0 ? (uint64_t)size * 1000000 / d->write_bytes_per_s : 0);
}

/* So much of it is in the flash. */
static void write_part(struct ebi_sim_device *d, size_t size)
{
    struct web *w = web_of(d);
    struct ebi_sim_component *c = w->component;
    uint8_t *bank = c->bank[c->banks == 2 ? 1 - c->active : c->active];
    memset(bank, 0xFF, c->capacity);
    ebi_sim_device_write(d, bank, bank, w->image, size);
    c->pending = c->banks == 2 && size == w->size;
}

static void end_writing(struct web *w)
{
    free(w->image);
    w->image = NULL;
    w->component = NULL;
}

static void take_image(struct ebi_sim_device *d, struct ebi_sim_http_reply *reply,
                       struct ebi_sim_component *c, const uint8_t *bytes, size_t size)
{
    struct web *w = web_of(d);
    if (c == NULL || bytes == NULL || size == 0) {
        say(reply, 400, "application/json", "{\"error\": \"component or file is missing\"}\n");
    } else if (w->component != NULL || !ebi_sim_device_writable(d)) {
        say(reply, 409, "application/json", "{\"error\": \"busy\"}\n");
    } else if (ebi_sim_device_busy(d)) {
        add_field(reply, "Retry-After", "1");
        say(reply, 503, "application/json", "{\"error\": \"busy\"}\n");
    } else if (size > c->capacity) {
        say(reply, 413, "application/json", "{\"error\": \"too large\"}\n");
    } else if (w->upload_status != 0) {
        say(reply, w->upload_status, "application/json", "{\"error\": \"no\"}\n");
    } else {
        begin_writing(d, c, bytes, size);
        if (w->answer == ANSWER_RESET || w->answer == ANSWER_SILENCE) {
            reply->status = 200;
            reply->end = w->answer == ANSWER_RESET ? EBI_SIM_HTTP_RESET : EBI_SIM_HTTP_SILENT;
            return;
        }
        if (w->answer == ANSWER_202 || w->answer == ANSWER_303)
            add_field(reply, "Location", "/api/status");
        static const unsigned statuses[] = {200, 201, 202, 303};
        say(reply, statuses[w->answer], "application/json", "{\"taken\": true}\n");
    }
}

/* --- requests -------------------------------------------------------------------------------------- */

static bool is(const struct ebi_sim_http_request *r, const char *method, const char *path)
{
    return strcmp(r->method, method) == 0 && strcmp(r->path, path) == 0;
}

static bool is_upload(const struct ebi_sim_http_request *r)
{
    return is(r, "POST", "/update") ||
           (strcmp(r->method, "PUT") == 0 && strncmp(r->path, "/images/", 8) == 0);
}

void ebi_sim_http_head(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                       struct ebi_sim_http_reply *reply)
{
    const struct web *w = web_of(d);
    bool body = strcmp(r->method, "GET") != 0;
    if (r->expects && w->refuses_expect)
        say(reply, 417, "text/plain", "no expectations\n");
    else if (body && (!r->has_length || r->encoded))
        say(reply, 411, "text/plain", "a length is needed\n");
    else if (w->limit_kib != 0 && r->length > 1024UL * w->limit_kib)
        say(reply, 413, "text/plain", "too large\n");
    else if (is_upload(r) && r->expects)
        let_in(d, r, reply);
}

/* A document of its own, whole. */
static void answer_document(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                            struct ebi_sim_document *document, struct ebi_sim_http_reply *reply)
{
    if (!let_in(d, r, reply))
        return;
    if (document->busy > 0) {
        document->busy--;
        add_field(reply, "Retry-After", "1");
        say(reply, 503, "application/json", "{\"error\": \"busy\"}\n");
    } else if (strcmp(r->method, "GET") == 0 && document->gone) {
        say(reply, 404, "text/plain", "not here\n");
    } else if (strcmp(r->method, "GET") == 0) {
        say(reply, 200, "application/octet-stream", "");
        reply->bytes = document->now.bytes;
        reply->size = document->now.size;
        reply->unsized = document->unsized;
        reply->cut = document->cuts > 0 ? 1 + document->cuts-- % 3 : 0;
    } else if (document->refuses || web_of(d)->component != NULL) {
        say(reply, document->refuses ? 422 : 409, "application/json", "{\"error\": \"not taken\"}\n");
    } else {
        ebi_sim_document_write(document, r->body, r->size);
        say(reply, 200, "application/json", "{\"taken\": true}\n");
        if (document->loses_answer)
            reply->end = EBI_SIM_HTTP_SILENT;
        document->loses_answer = false;
    }
}

/* A path that it does not have is behind the login as well. */
static void say_nothing_there(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                              struct ebi_sim_http_reply *reply)
{
    if (let_in(d, r, reply))
        say(reply, 404, "text/plain", "not here\n");
}

/* {"user": "...", "old": "...", "new": "..."}; sessions that are open stay so. */
static void change_password(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                            struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    json_t *body = json_loadb((const char *)r->body, r->size, 0, NULL);
    const char *user = json_string_value(json_object_get(body, "user"));
    const char *old = json_string_value(json_object_get(body, "old"));
    const char *fresh = json_string_value(json_object_get(body, "new"));
    bool right = user != NULL && old != NULL && strcmp(user, w->user) == 0 && strcmp(old, w->password) == 0;
    if (!right || fresh == NULL || strlen(fresh) < 6 || strlen(fresh) >= sizeof w->password)
        say(reply, right ? 422 : 403, "application/json", "{\"error\": \"not taken\"}\n");
    else if (!w->keeps_password)
        snprintf(w->password, sizeof w->password, "%s", fresh);
    if (right && fresh != NULL && strlen(fresh) >= 6)
        say(reply, 200, "application/json", "{\"taken\": true}\n");
    w->changed = true;
    json_decref(body);
}

void ebi_sim_http_answer(struct ebi_sim_device *d, const struct ebi_sim_http_request *r,
                         struct ebi_sim_http_reply *reply)
{
    struct web *w = web_of(d);
    size_t size = 0;
    struct ebi_sim_document *document = ebi_sim_document_at(d, r->path);
    if (document != NULL) {
        answer_document(d, r, document, reply);
        return;
    }
    if (w->redirect[0] != '\0' && strcmp(r->method, "GET") == 0) {
        add_field(reply, "Location", w->redirect);
        say(reply, 302, "text/plain", "elsewhere\n");
    } else if (is(r, "GET", "/login") && w->login == LOGIN_FORM) {
        say_form(d, reply);
    } else if (is(r, "POST", "/login") && w->login == LOGIN_FORM) {
        log_in_form(d, r, reply);
    } else if (is(r, "POST", "/token") && w->login == LOGIN_TOKEN) {
        log_in_token(d, r, reply);
    } else if (strcmp(r->method, "GET") == 0) {
        if (w->private && !let_in(d, r, reply))
            return;
        if (is(r, "GET", "/api/status"))
            say_status(d, reply);
        else if (is(r, "GET", "/api/identity"))
            say_identity(d, reply);
        else if (is(r, "GET", "/api/values"))
            say_values(d, reply);
        else if (is(r, "GET", "/api/log"))
            say_log(d, reply);
        else if (is(r, "GET", "/about.html"))
            say_about(d, reply);
        else if (w->login == LOGIN_DIGEST || w->login == LOGIN_BASIC)
            say_nothing_there(d, r, reply);
        else
            say(reply, 404, "text/plain", "not here\n");
    } else if (!let_in(d, r, reply)) {
        return;
    } else if (is(r, "POST", "/update")) {
        char file[EB_FILE_NAME_BYTES] = "";
        const uint8_t *name = part(r, "component", &size);
        if (name != NULL)
            snprintf(file, sizeof file, "%.*s", (int)size, (const char *)name);
        const uint8_t *bytes = part(r, "file", &size);
        take_image(d, reply, component_by(d, file), bytes, size);
    } else if (is_upload(r)) {
        take_image(d, reply, component_by(d, r->path + 8), r->body, r->size);
    } else if (is(r, "PUT", "/api/password")) {
        change_password(d, r, reply);
    } else if (is(r, "POST", "/restart") || is(r, "POST", "/factory-reset")) {
        if (w->component != NULL) {
            say(reply, 409, "application/json", "{\"error\": \"busy\"}\n");
        } else {
            say(reply, 202, "application/json", "{\"restarting\": true}\n");
            if (is(r, "POST", "/factory-reset"))
                ebi_sim_documents_reset(d);
            if (!w->ignores_restart)
                ebi_sim_device_restart(d, false, 0);
        }
    } else {
        say(reply, 404, "text/plain", "not here\n");
    }
}

/* --- what a world says of it ----------------------------------------------------------------------- */

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    static const char *const logins[] = {"none", "basic", "digest", "form", "token", NULL};
    static const char *const answers[] = {"200", "201", "202", "303", "reset", "silence", NULL};
    yaml_node_t *node = ebi_yaml_get(map, "http", false);
    struct web *w = web_of(d);
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, node);
    w->taken = node != NULL;
    w->tls = ebi_yaml_yes(&keys, "tls", true);
    w->port = (uint16_t)ebi_yaml_number(&keys, "port", 1, 65535, w->tls ? EB_HTTPS_PORT : EB_HTTP_PORT);
    if (ebi_yaml_get(&keys, "login", false) != NULL)
        w->login = (enum login)ebi_yaml_word(&keys, "login", logins);
    w->answer = ebi_yaml_get(&keys, "answer", false) != NULL
                    ? (enum answer)ebi_yaml_word(&keys, "answer", answers)
                    : ANSWER_202;
    ebi_yaml_text(&keys, "user", false, w->user, sizeof w->user);
    ebi_yaml_text(&keys, "password", false, w->password, sizeof w->password);
    w->keeps_password = ebi_yaml_yes(&keys, "keeps-password", false);
    ebi_yaml_text(&keys, "redirects-to", false, w->redirect, sizeof w->redirect);
    w->private = ebi_yaml_yes(&keys, "private", false);
    w->md5 = ebi_yaml_yes(&keys, "md5", false);
    w->refuses_expect = ebi_yaml_yes(&keys, "refuses-expect", false);
    w->ignores_expect = ebi_yaml_yes(&keys, "ignores-expect", false);
    w->ignores_restart = ebi_yaml_yes(&keys, "ignores-restart", false);
    w->jumps = ebi_yaml_yes(&keys, "progress-jumps", false);
    w->stands_still = ebi_yaml_yes(&keys, "stands-still", false);
    w->fails = ebi_yaml_yes(&keys, "write-fails", false);
    w->certificate_changes = ebi_yaml_yes(&keys, "certificate-changes", false);
    w->limit_kib = (unsigned)ebi_yaml_number(&keys, "limit-kib", 1, 1 << 20, 0);
    w->session_requests = (unsigned)ebi_yaml_number(&keys, "session-requests", 1, 1000000, 0);
    w->nonce_requests = (unsigned)ebi_yaml_number(&keys, "nonce-requests", 1, 1000000, 0);
    w->lockout = (unsigned)ebi_yaml_number(&keys, "lockout", 1, 1000, 0);
    w->upload_status = (unsigned)ebi_yaml_number(&keys, "upload-status", 200, 599, 0);
    ebi_yaml_map_end(&keys);
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    return tcp ? ebi_sim_http_port(d) : 0;
}

/* What was being written when it goes down is written in part. */
static void alive(struct ebi_sim_device *d, bool on)
{
    struct web *w = web_of(d);
    if (!w->taken || on)
        return;
    if (d->sim->web != NULL)
        d->sim->web->gone(d);
    if (w->component != NULL && !w->jumps && !w->stands_still) {
        uint64_t takes_us = w->done_us - w->began_us;
        uint64_t passed_us = now(d) - w->began_us;
        write_part(d, passed_us >= takes_us ? w->size : (size_t)(w->size * passed_us / takes_us));
    }
    end_writing(w);
    w->failed = false;
    end_session(w);
    w->nonce[0] = '\0';
}

static void tick(struct ebi_sim_device *d)
{
    struct web *w = web_of(d);
    if (w->component == NULL || w->stands_still || now(d) < w->done_us + (w->jumps ? 1000000 : 0))
        return;
    w->failed = w->fails;
    if (!w->jumps)
        write_part(d, w->fails ? w->size / 2 : w->size);
    end_writing(w);
    if (d->conduct.restarts_itself && !w->fails)
        ebi_sim_device_restart(d, false, 0);
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    const struct web *w = web_of(d);
    return w->component == NULL || w->stands_still ? EB_NEVER : w->done_us + (w->jumps ? 1000000 : 0);
}

static void forget(struct ebi_sim_device *d)
{
    end_writing(web_of(d));
    ebi_sim_http_wire_forget(d);
    if (d->sim->web != NULL)
        d->sim->web->stop(d);
}

static void stream(struct ebi_sim_device *d, struct ebi_sim_connection *c, const uint8_t *bytes, size_t size)
{
    if (d->sim->web != NULL)
        d->sim->web->stream(d, c, bytes, size);
    else
        ebi_sim_http_stream(d, c, bytes, size);
}

const struct ebi_sim_server ebi_sim_http = {.read = read_keys,
                                            .port = port,
                                            .stream = stream,
                                            .alive = alive,
                                            .tick = tick,
                                            .deadline_us = deadline_us,
                                            .forget = forget};

const char *ebi_sim_http_password(const struct ebi_sim_device *d)
{
    const struct web *w = web_of(d);
    return w != NULL && w->taken && w->changed ? w->password : NULL;
}

void ebi_sim_http_set_password(struct ebi_sim_device *d, const char *password)
{
    struct web *w = web_of(d);
    if (w == NULL || !w->taken)
        return;
    snprintf(w->password, sizeof w->password, "%s", password);
    w->changed = true;
}
