#include "access/http.h"
#include "base/digest.h"
#include "einbau/text.h"

#include <string.h>

#define FNV_BASIS 2166136261U
#define FNV_PRIME 16777619U

enum {
    REDIRECTS_MAX = 5,
    PROGRESS_US = 500000,         /* between two looks at how far the device is */
    DOCUMENT_BYTES_MAX = 1 << 20, /* of an answer: what devices tell of themselves has some kilobytes */
    ANSWER_BYTES_MAX = 1 << 16,
    BACKUP_BYTES_MAX = 1 << 26,
    SHOW_US = 100000, /* between two looks at how much was sent */
    CONNECT_LEAST_US = 300000,
    CONNECT_US = 1200000,   /* while a restart is looked for: for one answer */
    UNANSWERED_MAX = 2,     /* so many in a row are no accident */
    RETRY_AFTER_MOST_S = 60 /* a device that wants to be left alone for longer is busy */
};

const struct eb_http_way *eb_http_way_of(const struct eb_profile *profile)
{
    const uint8_t *own = eb_profile_way(profile, &eb_access_http);
    const struct eb_http_way *way = NULL;
    if (own != NULL)
        memcpy(&way, own, sizeof way);
    return way;
}

const struct eb_http_way *ebi_http_way(const ebi_http *h)
{
    static const struct eb_http_way plain = {.plain_passwords = false};
    const struct eb_http_way *way = eb_http_way_of(h->contact->profile);
    return way != NULL ? way : &plain;
}

struct eb_error ebi_http_error(const char *where, enum eb_status status, enum eb_retry retry)
{
    return (struct eb_error){.status = status, .retry = retry, .where = where};
}

struct eb_error ebi_http_status_error(const ebi_http *h, const char *where)
{
    struct eb_error error = {
        .status = EB_PEER_ERROR, .code = EB_CODE_HTTP, .number = h->status, .where = where};
    bool passes = h->status == 409 || h->status == 423 || h->status == 429 || h->status >= 500;
    error.retry = passes && h->status != 501 && h->status != 507 ? EB_RETRY_LATER
                  : h->status == 408                             ? EB_RETRY_AT_ONCE
                                                                 : EB_RETRY_NEVER;
    eb_text_copy(error.text, sizeof error.text, eb_http_status_text(h->status));
    return error;
}

void ebi_http_add_field(ebi_http *h, const char *name, const char *text)
{
    struct eb_http_request *r = &h->request;
    if (r->field_count < EB_HTTP_FIELDS_MAX)
        r->fields[r->field_count++] = (struct eb_http_field){name, text};
}

/* --- the answer ------------------------------------------------------------------------------------------
 */

static bool trusts(void *self, const uint8_t sha256[EB_HTTP_CERTIFICATE_BYTES])
{
    ebi_http *h = self;
    const struct eb_http_target *to = &h->contact->target->http;
    memcpy(h->certificate, sha256, sizeof h->certificate);
    h->refused_certificate = to->certificate == NULL || !to->certificate(to->context, sha256);
    return !h->refused_certificate;
}

static void take_location(ebi_http *h, const char *text)
{
    const struct eb_http_way *way = ebi_http_way(h);
    enum eb_http_target_kind kind = eb_http_location(text, h->request.path, h->host, h->request.port,
                                                     way->tls, h->redirect, sizeof h->redirect);
    h->has_location = true;
    h->follow[0] = '\0';
    if (kind == EB_HTTP_SAME_HOST)
        eb_text_copy(h->follow, sizeof h->follow, h->redirect);
    if (way->page != NULL && kind == EB_HTTP_SAME_HOST) {
        size_t size = strlen(way->page);
        h->to_page =
            strncmp(h->follow, way->page, size) == 0 && (h->follow[size] == '\0' || h->follow[size] == '?');
    }
    /* an error in it is reported when it would be followed */
    eb_text_copy(h->redirect, sizeof h->redirect,
                 kind == EB_HTTP_OTHER_HOST ? "the device sends us to another host; that is not followed"
                 : kind == EB_HTTP_TO_TLS   ? "the device sends us to https, and its profile says http"
                 : kind == EB_HTTP_FROM_TLS ? "the device sends us from https to http; that is not followed"
                                            : "");
}

static void take_field(void *self, unsigned status, const char *name, const char *text)
{
    ebi_http *h = self;
    const struct eb_http_way *way = ebi_http_way(h);
    uint64_t seconds;
    if (status < 200)
        return;
    h->field_status = status;
    h->sized =
        h->sized || eb_http_name_is(name, "Content-Length") || eb_http_name_is(name, "Transfer-Encoding");
    if (eb_http_name_is(name, "Set-Cookie")) {
        eb_http_cookie_take(&h->cookies, text, h->host, h->request.path, way->tls,
                            eb_port_now_us(h->contact->port));
        h->new_cookie = true;
    } else if (eb_http_name_is(name, "Location")) {
        take_location(h, text);
    } else if (eb_http_name_is(name, "WWW-Authenticate") && status == 401) {
        enum eb_http_scheme scheme = way->login == EB_LOGIN_DIGEST  ? EB_HTTP_DIGEST
                                     : way->login == EB_LOGIN_BASIC ? EB_HTTP_BASIC
                                                                    : EB_HTTP_NO_SCHEME;
        eb_http_challenge_take(text, scheme, &h->offered);
    } else if (eb_http_name_is(name, "Retry-After")) {
        h->retry_after_s = eb_text_number(text, strlen(text), &seconds) && seconds <= 86400
                               ? (uint32_t)seconds
                               : RETRY_AFTER_MOST_S;
        h->retry_after_s += h->retry_after_s == 0 ? 1 : 0;
    } else if (way->token_field != NULL && eb_http_name_is(name, way->token_field)) {
        if (!eb_text_copy(h->token, sizeof h->token, text))
            h->token[0] = '\0';
    }
}

static bool same(const char *a, const char *b)
{
    return a != NULL && b != NULL && strcmp(a, b) == 0;
}

/* A value of the document that is being read; a document has each value once, but two items may want it. */
static void take_value(ebi_http *h, const char *pointer, const char *text)
{
    struct eb_contact *c = h->contact;
    char *first;
    const struct eb_value *of = ebi_value_at(c, h->place, &first);
    for (size_t i = 0; i < ebi_places(c); i++) {
        char *to;
        const struct eb_value *value = ebi_value_at(c, i, &to);
        if (value == NULL || value->by != &eb_access_http || !same(value->path, of->path) ||
            !same(value->key, pointer) || to[0] != '\0' || strlen(text) >= EB_NAME_BYTES)
            continue;
        eb_text_copy_foreign(to, EB_NAME_BYTES, (const uint8_t *)text, strlen(text));
        ebi_cut_before(to, value->after);
    }
}

static void on_value(void *self, const char *pointer, const char *text, bool cut)
{
    ebi_http *h = self;
    const struct eb_http_way *way = ebi_http_way(h);
    if (cut)
        return; /* half a text is none */
    if (h->call == EBI_CALL_VALUES) {
        take_value(h, pointer, text);
    } else if (h->call == EBI_CALL_PROGRESS) {
        if (same(way->state, pointer))
            eb_text_copy_foreign(h->state, sizeof h->state, (const uint8_t *)text, strlen(text));
        if (same(way->percent, pointer))
            eb_text_copy_foreign(h->percent, sizeof h->percent, (const uint8_t *)text, strlen(text));
    } else if (h->call == EBI_CALL_LOG_IN && same(way->token, pointer)) {
        h->found = eb_text_copy(h->token, sizeof h->token, text) && text[0] != '\0';
    }
}

static void take_body(void *self, const uint8_t *bytes, size_t size)
{
    ebi_http *h = self;
    const struct eb_sink *sink = h->operation.sink;
    if (h->call == EBI_CALL_FETCH && h->field_status == 200 && h->sunk == EB_OK)
        h->sunk = sink->take(sink->self, bytes, size);
    for (size_t i = 0; i < size && h->call == EBI_CALL_FETCH; i++)
        h->hash = (h->hash ^ bytes[i]) * FNV_PRIME;
    if (h->has_json)
        eb_json_take(&h->json, bytes, size);
    for (size_t i = 0; i < h->mark_count; i++)
        eb_mark_take(&h->marks[i], bytes, size);
    if (h->call == EBI_CALL_PAGE && ebi_http_way(h)->hidden != NULL)
        eb_input_take(&h->input, bytes, size);
}

/* What the answer's body is read for. */
static void begin_reading(ebi_http *h)
{
    const struct eb_http_way *way = ebi_http_way(h);
    const struct eb_contact *c = h->contact;
    char *first;
    h->mark_count = 0;
    h->has_json = h->call == EBI_CALL_PROGRESS || (h->call == EBI_CALL_LOG_IN && way->token != NULL);
    h->found = false;
    h->field_status = 0;
    h->sunk = EB_OK;
    h->sized = false;
    h->hash = FNV_BASIS;
    if (h->call == EBI_CALL_FETCH)
        h->operation.sink->begin(h->operation.sink->self);
    h->state[0] = h->percent[0] = '\0';
    if (h->call == EBI_CALL_VALUES) {
        const struct eb_value *of = ebi_value_at(c, h->place, &first);
        for (size_t i = 0; i < ebi_places(c); i++) {
            char *to;
            const struct eb_value *value = ebi_value_at(c, i, &to);
            if (value == NULL || value->by != &eb_access_http || !same(value->path, of->path))
                continue;
            if (value->key != NULL)
                h->has_json = true;
            else if (h->mark_count < EB_HTTP_MARKS_MAX)
                eb_mark_begin(&h->marks[h->mark_count++], value->after != NULL ? value->after : "",
                              value->until, to, EB_NAME_BYTES);
        }
    } else if (h->call == EBI_CALL_STEP) {
        const struct eb_http_step *step = h->operation.step->more;
        if (step->reads != NULL)
            eb_mark_begin(&h->marks[h->mark_count++], step->reads, NULL, h->text, sizeof h->text);
    } else if (h->call == EBI_CALL_PAGE && way->hidden != NULL) {
        eb_input_begin(&h->input, way->hidden, h->token, sizeof h->token);
    }
    if (h->has_json)
        eb_json_begin(&h->json, h->text, sizeof h->text, on_value, h);
}

/* Texts behind marks came as they were; what may not be shown is replaced. */
static void end_reading(ebi_http *h)
{
    for (size_t i = 0; i < h->mark_count; i++) {
        eb_mark_end(&h->marks[i]);
        if (h->call == EBI_CALL_VALUES)
            eb_text_copy_foreign(h->marks[i].text, EB_NAME_BYTES, (const uint8_t *)h->marks[i].text,
                                 h->marks[i].size);
    }
    if (h->has_json)
        eb_json_end(&h->json);
}

/* --- the request -----------------------------------------------------------------------------------------
 */

/* While a restart is looked for: four times as long as an answer took before.  The system's second packet,
 * after a second, would find a device that is back already. */
static uint64_t watched_us(const ebi_http *h)
{
    uint64_t us = 4 * h->longest_us;
    return us < CONNECT_LEAST_US ? CONNECT_LEAST_US : us < CONNECT_US ? us : CONNECT_US;
}

static enum eb_status prepare(ebi_http *h, struct eb_error *error)
{
    const struct eb_http_way *way = ebi_http_way(h);
    const struct eb_contact *c = h->contact;
    const struct eb_http_target *to = &c->target->http;
    uint16_t port = to->port != 0 ? to->port : way->port;
    bool watched = c->watching && c->restart == EB_RESTART_NOT_SEEN && h->call == EBI_CALL_VALUES;
    bool well = true;
    bool is_long = h->call == EBI_CALL_UPLOAD || h->call == EBI_CALL_STORE || h->call == EBI_CALL_FETCH;
    h->request = (struct eb_http_request){
        .method = h->call == EBI_CALL_LOG_IN ? "POST" : "GET",
        .path = h->path,
        .tls = way->tls,
        .port = port != 0  ? port
                : way->tls ? EB_HTTPS_PORT
                           : EB_HTTP_PORT,
        .host = to->host,
        .authority = to->authority,
        .patience_us = watched   ? watched_us(h)
                       : is_long ? c->profile->send_patience_ms * 1000ULL
                                 : c->patience_us,
        .most_bytes = h->call == EBI_CALL_FETCH                                ? BACKUP_BYTES_MAX
                      : h->call == EBI_CALL_VALUES || h->call == EBI_CALL_PAGE ? DOCUMENT_BYTES_MAX
                                                                               : ANSWER_BYTES_MAX,
        .certificate = trusts,
        .field = take_field,
        .body = take_body,
        .context = h,
    };
    memcpy(h->request.ip, c->target->modbus.ip, sizeof h->request.ip);
    if (to->host != NULL)
        eb_text_copy(h->host, sizeof h->host, to->host);
    else
        eb_endpoint_text(&(struct eb_endpoint){.ip = {h->request.ip[0], h->request.ip[1], h->request.ip[2],
                                                      h->request.ip[3]}},
                         false, h->host);
    if (h->call == EBI_CALL_UPLOAD) {
        h->request.method = ebi_http_method_word(way->method);
        well = ebi_http_upload_body(h);
    } else if (h->call == EBI_CALL_STEP) {
        const struct eb_http_step *step = h->operation.step->more;
        h->request.method = ebi_http_method_word(step->method);
        well = ebi_http_step_body(h, step);
    } else if (h->call == EBI_CALL_STORE) {
        h->request.method =
            ebi_http_method_word(((const struct eb_http_document *)h->operation.step->more)->method);
        ebi_http_store_body(h);
    } else if (h->call == EBI_CALL_LOG_IN) {
        enum eb_status status = ebi_http_login_body(h, error);
        if (status != EB_OK)
            return status;
    }
    if (!well) {
        *error = ebi_http_error("the fields of the form", EB_TOO_LARGE, EB_RETRY_NEVER);
        return EB_TOO_LARGE;
    }
    return ebi_http_authorize(h, error);
}

static enum eb_status begin_call(ebi_http *h, struct eb_error *error)
{
    const struct eb_port *port = h->contact->port;
    memset(&h->offered, 0, sizeof h->offered);
    memset(&h->progress, 0, sizeof h->progress);
    h->to_page = h->has_location = h->refused_certificate = false;
    h->retry_after_s = 0;
    h->status = 0;
    enum eb_status status = prepare(h, error);
    if (status != EB_OK)
        return status;
    begin_reading(h);
    h->called_us = eb_port_now_us(port);
    status = port->http->begin(port->self, h->contact->waiter, &h->request, &h->handle);
    if (status != EB_OK) {
        h->handle = EB_NO_HANDLE;
        *error = ebi_http_error("beginning an exchange", status, EB_RETRY_BY_STATUS);
    }
    return status;
}

static void close_call(ebi_http *h)
{
    const struct eb_port *port = h->contact->port;
    if (h->handle != EB_NO_HANDLE)
        port->http->close(port->self, h->handle);
    h->handle = EB_NO_HANDLE;
    ebi_wipe(h->authorization, sizeof h->authorization);
    ebi_wipe(h->cookie, sizeof h->cookie);
    ebi_wipe(h->head, sizeof h->head);
}

/* --- operations ------------------------------------------------------------------------------------------
 */

static enum eb_status end(ebi_http *h, const struct eb_error *error)
{
    h->contact->error = *error;
    close_call(h);
    h->busy = false;
    return error->status;
}

static enum eb_status end_well(ebi_http *h)
{
    close_call(h);
    h->busy = false;
    return EB_OK;
}

/* The same call, or another one, at `at_us`. */
static enum eb_status call_at(ebi_http *h, uint64_t at_us)
{
    close_call(h);
    h->wait_us = at_us;
    return EB_PENDING;
}

static enum eb_status call_afresh(ebi_http *h, uint8_t call, uint64_t at_us)
{
    close_call(h); /* it borrows what is changed now */
    h->call = call;
    h->redirects = 0;
    if (call != EBI_CALL_PROGRESS)
        h->follow[0] = '\0';
    ebi_http_choose_path(h);
    return call_at(h, at_us);
}

/* The next value whose document was not read yet, from `place` on. */
static bool next_document(ebi_http *h, size_t place)
{
    struct eb_contact *c = h->contact;
    for (; place < ebi_places(c); place++) {
        char *to;
        const struct eb_value *value = ebi_value_at(c, place, &to);
        bool read = value == NULL || value->by != &eb_access_http;
        for (size_t k = 0; k < place && !read; k++) {
            const struct eb_value *other = ebi_value_at(c, k, &to);
            read = other != NULL && other->by == &eb_access_http && same(other->path, value->path);
        }
        if (!read) {
            h->place = place;
            return true;
        }
    }
    return false;
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    ebi_http *h = self;
    struct eb_contact *c = h->contact;
    uint64_t patience_us =
        operation->kind == EB_SEND || operation->kind == EB_STORE     ? c->profile->send_patience_ms * 1000ULL
        : operation->kind == EB_STEP && operation->step->time_ms != 0 ? operation->step->time_ms * 1000ULL
                                                                      : c->patience_us;
    close_call(h);
    memset(&c->error, 0, sizeof c->error);
    h->operation = *operation;
    h->busy = true;
    h->logins = 0;
    h->twice = false;
    h->without_expect = h->stopped = false;
    h->end_us = now_us + patience_us;
    h->moved_us = now_us;
    if (operation->kind == EB_SEND) {
        c->done_bytes = 0;
        call_afresh(h, EBI_CALL_UPLOAD, now_us);
    } else if (operation->kind == EB_FETCH) {
        call_afresh(h, EBI_CALL_FETCH, now_us);
    } else if (operation->kind == EB_STORE) {
        call_afresh(h, EBI_CALL_STORE, now_us);
    } else if (operation->kind == EB_STEP) {
        call_afresh(h, EBI_CALL_STEP, now_us);
    } else if (next_document(h, 0)) {
        call_afresh(h, EBI_CALL_VALUES, now_us);
    }
}

/* --- what an answer means --------------------------------------------------------------------------------
 */

static bool is_expected(const ebi_http *h, const struct eb_numbers *expected)
{
    bool any = expected->count == 0 && (h->status == 200 || h->status == 201 || h->status == 202 ||
                                        h->status == 204 || (h->status == 303 && !h->to_page));
    for (size_t i = 0; i < expected->count; i++)
        any = any || expected->list[i] == h->status;
    return any;
}

static bool is_redirect(const ebi_http *h)
{
    return h->has_location &&
           (h->status == 301 || h->status == 302 || h->status == 303 || h->status == 307 || h->status == 308);
}

/* Only reading follows a redirect; what changes the device goes where its profile says. */
static enum eb_status follow(ebi_http *h, uint64_t now_us)
{
    struct eb_error error = ebi_http_error("following a redirect", EB_GARBAGE, EB_RETRY_NEVER);
    if (h->follow[0] == '\0')
        eb_text_copy(error.text, sizeof error.text, h->redirect);
    else if (++h->redirects > REDIRECTS_MAX)
        eb_text_copy(error.text, sizeof error.text, "the device sends us on and on");
    else {
        close_call(h);
        eb_text_copy(h->path, sizeof h->path, h->follow);
        return call_at(h, now_us);
    }
    return end(h, &error);
}

/* Of a document with values: one that the device does not have is no harm where another source has them. */
static enum eb_status values_answered(ebi_http *h, uint64_t now_us)
{
    struct eb_contact *c = h->contact;
    if (h->status != 200 || (h->has_json && h->json.failed)) {
        struct eb_error error = ebi_http_status_error(h, "reading a document");
        if (h->status == 200) {
            error = ebi_http_error("reading a document", EB_GARBAGE, EB_RETRY_BY_STATUS);
            eb_text_copy(error.text, sizeof error.text, "it is no JSON, or not whole");
        }
        if (c->first_error.status == EB_OK)
            c->first_error = error;
    }
    if (next_document(h, h->place + 1))
        return call_afresh(h, EBI_CALL_VALUES, now_us);
    return end_well(h);
}

static enum eb_status step_answered(ebi_http *h)
{
    const struct eb_http_step *step = h->operation.step->more;
    if (!is_expected(h, &step->expect)) {
        const struct eb_error error = ebi_http_status_error(h, step->path);
        return end(h, &error);
    }
    if (step->reads != NULL && !h->marks[0].found) {
        struct eb_error error = ebi_http_error(step->path, EB_UNCONFIRMED, EB_RETRY_BY_STATUS);
        eb_text_copy(error.text, sizeof error.text,
                     "the answer does not hold the text that its profile expects");
        return end(h, &error);
    }
    return end_well(h);
}

/* An answer that only the end of the connection ends (RFC 9112 section 6.3) may be cut off unseen. */
static enum eb_status document_answered(ebi_http *h, uint64_t now_us)
{
    const struct eb_http_document *document = h->operation.step->more;
    bool fetched = h->call == EBI_CALL_FETCH;
    struct eb_error error = ebi_http_status_error(h, document->path);
    if (fetched ? h->status != 200 : !is_expected(h, &document->expect))
        return end(h, &error);
    if (fetched && h->sunk != EB_OK) {
        error = ebi_http_error(document->path, h->sunk, EB_RETRY_NEVER);
        return end(h, &error);
    }
    if (fetched && !h->sized && !h->twice) {
        h->twice = true;
        h->first_hash = h->hash;
        return call_afresh(h, EBI_CALL_FETCH, now_us);
    }
    if (fetched && !h->sized && h->hash != h->first_hash) {
        error = ebi_http_error(document->path, EB_UNCONFIRMED, EB_RETRY_AT_ONCE);
        eb_text_copy(error.text, sizeof error.text,
                     "its answer does not say how long it is, and was not the same when it was read again");
        return end(h, &error);
    }
    return end_well(h);
}

/* All of it is in the device; how far that is with it, where it tells. */
static enum eb_status upload_answered(ebi_http *h, uint64_t now_us)
{
    const struct eb_http_way *way = ebi_http_way(h);
    if (!is_expected(h, &way->expect)) {
        const struct eb_error error = ebi_http_status_error(h, "sending the image");
        return end(h, &error);
    }
    h->contact->done_bytes = h->operation.source->size_bytes;
    h->contact->all_sent = true;
    bool named = h->status == 202 && h->has_location && h->follow[0] != '\0' && way->state != NULL;
    if (!named)
        h->follow[0] = '\0';
    if (way->progress == NULL && !named)
        return end_well(h);
    h->moved_us = now_us;
    h->redirect[0] = '\0';
    return call_afresh(h, EBI_CALL_PROGRESS, now_us + PROGRESS_US);
}

static bool is_one_of(const struct eb_strings *list, const char *text)
{
    for (size_t i = 0; i < list->count; i++) {
        if (strcmp(list->list[i], text) == 0)
            return true;
    }
    return false;
}

static enum eb_status progress_answered(ebi_http *h, uint64_t now_us)
{
    const struct eb_http_way *way = ebi_http_way(h);
    struct eb_error error = ebi_http_error("waiting for the device", EB_PEER_ERROR, EB_RETRY_NEVER);
    uint64_t percent = 0;
    bool told = eb_text_number(h->percent, strcspn(h->percent, "."), &percent);
    if (h->status >= 400)
        return end_well(h); /* it tells no more: what runs afterwards decides */
    if (is_one_of(&way->failed, h->state)) {
        struct eb_text text;
        eb_text_init(&text, error.text, sizeof error.text);
        eb_text_add(&text, "it reports '");
        eb_text_add(&text, h->state);
        eb_text_add(&text, "'");
        return end(h, &error);
    }
    if (is_one_of(&way->done, h->state) || (way->state == NULL && told && percent >= 100))
        return end_well(h);
    /* Only a change counts as life: the texts of before are in the redirect's place. */
    struct eb_text now;
    char seen[EB_NAME_BYTES + 20];
    eb_text_init(&now, seen, sizeof seen);
    eb_text_add(&now, h->state);
    eb_text_add(&now, " ");
    eb_text_add(&now, h->percent);
    if (strcmp(seen, h->redirect) != 0)
        h->moved_us = now_us;
    eb_text_copy(h->redirect, sizeof h->redirect, seen);
    if (now_us - h->moved_us >= h->contact->profile->send_patience_ms * 1000ULL) {
        struct eb_text text;
        eb_text_init(&text, error.text, sizeof error.text);
        eb_text_add(&text, "it stands still at '");
        eb_text_add(&text, seen);
        eb_text_add(&text, "'");
        return end(h, &error);
    }
    return call_at(h, now_us + PROGRESS_US);
}

/* Whether the same request is due again, later or in another way: EB_PENDING. */
static enum eb_status once_more(ebi_http *h, uint64_t now_us)
{
    if (h->status == 417 && h->request.expect) {
        h->without_expect = true;
        return call_at(h, now_us);
    }
    bool asks = (h->status == 503 || h->status == 429 || h->status == 409) && h->retry_after_s > 0 &&
                h->retry_after_s <= RETRY_AFTER_MOST_S && h->call != EBI_CALL_LOG_IN;
    uint64_t at_us = now_us + h->retry_after_s * 1000000ULL;
    if (asks && at_us < h->end_us)
        return call_at(h, at_us);
    return EB_OK;
}

static enum eb_status answered(ebi_http *h, uint64_t now_us)
{
    struct eb_error error = {.status = EB_OK};
    struct eb_contact *c = h->contact;
    h->status = h->progress.status;
    h->answered = c->connected = true;
    if (h->call == EBI_CALL_VALUES && !c->watching && now_us - h->called_us > h->longest_us)
        h->longest_us = now_us - h->called_us;
    h->unanswered = 0;
    end_reading(h);
    if (once_more(h, now_us) == EB_PENDING)
        return EB_PENDING;
    uint8_t call = h->call;
    enum eb_status status = ebi_http_judge_login(h, &error);
    if (status == EB_PENDING) {
        if (h->call != call || h->call == EBI_CALL_UPLOAD || h->call == EBI_CALL_PROGRESS)
            h->without_expect = false;
        return call_afresh(h, h->call, now_us);
    }
    if (status != EB_OK)
        return end(h, &error);
    if (is_redirect(h) &&
        (h->call == EBI_CALL_VALUES || h->call == EBI_CALL_PROGRESS || h->call == EBI_CALL_FETCH))
        return follow(h, now_us);
    if (h->call == EBI_CALL_VALUES)
        return values_answered(h, now_us);
    if (h->call == EBI_CALL_STEP)
        return step_answered(h);
    if (h->call == EBI_CALL_FETCH || h->call == EBI_CALL_STORE)
        return document_answered(h, now_us);
    return h->call == EBI_CALL_UPLOAD ? upload_answered(h, now_us) : progress_answered(h, now_us);
}

/* What the end of a connection says, where a restart is looked for. */
static void judge_silence(ebi_http *h, enum eb_status status)
{
    if (!h->contact->watching || !h->answered || h->contact->profile->from_counter.count > 0)
        return;
    if (status == EB_NO_ANSWER && !h->progress.connected && h->unanswered < UNANSWERED_MAX)
        h->unanswered++;
    if (status == EB_UNREACHABLE || h->unanswered == UNANSWERED_MAX)
        ebi_restarted(h->contact, EB_RESTART_SILENCE);
}

static const char *place_of(const ebi_http *h)
{
    static const char *const words[] = {"reading a document by HTTP",
                                        "a step by HTTP",
                                        "sending the image",
                                        "waiting for the device",
                                        "asking for the login",
                                        "the page of the login",
                                        "login",
                                        "reading a document by HTTP",
                                        "writing a document by HTTP"};
    return words[h->call];
}

/* No answer came, or not all of it. */
static enum eb_status broken(ebi_http *h, enum eb_status status)
{
    static const char digits[] = "0123456789abcdef";
    struct eb_error error = ebi_http_error(place_of(h), status, EB_RETRY_BY_STATUS);
    struct eb_contact *c = h->contact;
    c->connected = c->connected || h->progress.connected;
    h->was_away = true;
    if (status == EB_OTHER && h->refused_certificate) {
        char hex[2 * 8 + 1];
        for (size_t i = 0; i < 8; i++) {
            hex[2 * i] = digits[h->certificate[i] >> 4];
            hex[2 * i + 1] = digits[h->certificate[i] & 15];
        }
        hex[16] = '\0';
        struct eb_text text;
        eb_text_init(&text, error.text, sizeof error.text);
        eb_text_add(&text, "its certificate, SHA-256 ");
        eb_text_add(&text, hex);
        eb_text_add(&text, "..., is not the one that is trusted");
        error.retry = EB_RETRY_NEVER;
        error.where = "TLS";
        return end(h, &error);
    }
    if (status == EB_OTHER) {
        error.where = "TLS";
        error.retry = EB_RETRY_NEVER;
        eb_text_copy(error.text, sizeof error.text,
                     "its certificate is not of the site's authority, or not for this name");
    }
    if (h->call == EBI_CALL_VALUES)
        judge_silence(h, status);
    if (status == EB_CLOSED)
        error.status = EB_UNREACHABLE;
    if (h->call == EBI_CALL_UPLOAD) {
        /* A reset or silence behind the last byte may be the restart. */
        c->all_sent = h->progress.sent_bytes > 0 && h->progress.sent_bytes == eb_http_body_bytes(&h->request);
        if (c->all_sent && (status == EB_UNREACHABLE || status == EB_CLOSED || status == EB_NO_ANSWER)) {
            c->done_bytes = h->operation.source->size_bytes;
            error.status = EB_NO_ANSWER;
        }
    }
    if (h->call == EBI_CALL_PROGRESS &&
        (status == EB_UNREACHABLE || status == EB_CLOSED || status == EB_NO_ANSWER))
        return end_well(h); /* it may have restarted: what runs then decides */
    return end(h, &error);
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    ebi_http *h = self;
    const struct eb_port *port = h->contact->port;
    struct eb_error error = {.status = EB_OK};
    if (!h->busy)
        return EB_OK;
    if (h->stopped) {
        error = ebi_http_error(place_of(h), EB_STOPPED, EB_RETRY_NEVER);
        return end(h, &error);
    }
    if (h->handle == EB_NO_HANDLE) {
        if (now_us < h->wait_us)
            return EB_PENDING;
        enum eb_status status = EB_OK;
        if (ebi_http_login_due(h)) {
            status = ebi_http_begin_login(h, &error);
            ebi_http_choose_path(h);
        }
        if (status == EB_OK)
            status = begin_call(h, &error);
        if (status != EB_OK)
            return end(h, &error);
    }
    enum eb_status status = port->http->poll(port->self, h->handle, &h->progress);
    if (h->call == EBI_CALL_UPLOAD) {
        uint64_t sent = h->progress.sent_bytes;
        uint64_t head = h->request.head_bytes;
        uint64_t most = h->operation.source->size_bytes;
        uint64_t done = sent > head ? sent - head : 0;
        h->contact->done_bytes = done < most ? done : most;
    }
    if (status == EB_PENDING)
        return EB_PENDING;
    return status == EB_OK ? answered(h, now_us) : broken(h, status);
}

static uint64_t deadline_us(const void *self)
{
    const ebi_http *h = self;
    if (!h->busy)
        return EB_NEVER;
    uint64_t now_us = eb_port_now_us(h->contact->port);
    uint64_t look_us = h->call == EBI_CALL_UPLOAD ? SHOW_US : h->request.patience_us;
    return h->handle == EB_NO_HANDLE ? h->wait_us : h->stopped ? 0 : now_us + look_us;
}

/* What the device has it goes on with; an image that is not whole it throws away. */
static void stop(void *self)
{
    ebi_http *h = self;
    if (!h->busy || h->call == EBI_CALL_PROGRESS)
        return;
    h->stopped = true;
}

static void close(void *self)
{
    ebi_http *h = self;
    close_call(h);
    h->busy = false;
}

static void init(void *self, struct eb_contact *contact)
{
    ebi_http *h = self;
    memset(h, 0, sizeof *h);
    h->contact = contact;
    h->handle = EB_NO_HANDLE;
}

/* --- how profiles name it ---------------------------------------------------------------------------------
 */

#define WAY(member)                                                                                          \
    .bytes = sizeof(((struct eb_http_way *)0)->member), .offset = offsetof(struct eb_http_way, member)
#define STEP(member)                                                                                         \
    .bytes = sizeof(((struct eb_http_step *)0)->member), .offset = offsetof(struct eb_http_step, member)

static const char *const logins[] = {"none", "basic", "digest", "form", "token", NULL};
static const char *const upload_methods[] = {"POST", "PUT", NULL};
static const char *const step_methods[] = {"POST", "PUT", "GET", "DELETE", NULL};
enum { FORM = 1 << EB_LOGIN_FORM, TOKEN = 1 << EB_LOGIN_TOKEN };
static const struct eb_field login_fields[] = {
    {"kind", EB_FIELD_WORD, WAY(login), .needed = true, .words = logins},
    {"page", EB_FIELD_STRING, WAY(page)},
    {"to", EB_FIELD_STRING, WAY(log_in), .needed = true, .only_for = FORM | TOKEN},
    {"user", EB_FIELD_STRING, WAY(user), .needed = true, .only_for = FORM | TOKEN},
    {"password", EB_FIELD_STRING, WAY(password), .needed = true, .only_for = FORM | TOKEN},
    {"hidden", EB_FIELD_STRING, WAY(hidden), .only_for = FORM},
    {"token-field", EB_FIELD_STRING, WAY(token_field), .only_for = FORM},
    {"token", EB_FIELD_STRING, WAY(token), .needed = true, .only_for = TOKEN}};
static const struct eb_field upload_fields[] = {
    {"path", EB_FIELD_STRING, WAY(path), .needed = true},
    {"method", EB_FIELD_WORD, WAY(method), .words = upload_methods},
    {"field", EB_FIELD_STRING, WAY(field)},
    {"type", EB_FIELD_STRING, WAY(type)},
    {"fields", EB_FIELD_PAIRS, WAY(fields)},
    {"expect", EB_FIELD_NUMBERS, WAY(expect), .least = 200, .most = 599},
    {"asks-first", EB_FIELD_YES, WAY(asks_first)}};
static const struct eb_field progress_fields[] = {{"path", EB_FIELD_STRING, WAY(progress)},
                                                  {"state", EB_FIELD_STRING, WAY(state)},
                                                  {"percent", EB_FIELD_STRING, WAY(percent)},
                                                  {"done", EB_FIELD_STRINGS, WAY(done)},
                                                  {"failed", EB_FIELD_STRINGS, WAY(failed)}};
#define COUNT(list) (sizeof(list) / sizeof((list)[0]))
static const struct eb_field way_fields[] = {
    {"port", EB_FIELD_NUMBER, WAY(port), .least = 1, .most = 65535},
    {"tls", EB_FIELD_YES, WAY(tls), .otherwise = true},
    {"plain-passwords", EB_FIELD_YES, WAY(plain_passwords)},
    {"login", EB_FIELD_MAP, .fields = login_fields, .count = COUNT(login_fields)},
    {"upload", EB_FIELD_MAP, .needed = true, .fields = upload_fields, .count = COUNT(upload_fields)},
    {"progress", EB_FIELD_MAP, .fields = progress_fields, .count = COUNT(progress_fields)}};
static const struct eb_section section = {.key = "http",
                                          .fields = way_fields,
                                          .count = COUNT(way_fields),
                                          .more_bytes = sizeof(struct eb_http_way),
                                          .by = EB_BY_NAME};

static const struct eb_field value_fields[] = {{"http", EB_FIELD_STRING, EBI_VALUE(path), .needed = true},
                                               {"json", EB_FIELD_STRING, EBI_VALUE(key)},
                                               {"until", EB_FIELD_STRING, EBI_VALUE(until)}};
static const struct eb_row sources[] = {{"http", 0, value_fields, COUNT(value_fields), 0, EB_LIST_KEY}};

static const struct eb_field step_fields[] = {
    {"path", EB_FIELD_STRING, STEP(path), .needed = true},
    {"method", EB_FIELD_WORD, STEP(method), .words = step_methods},
    {"fields", EB_FIELD_PAIRS, STEP(fields)},
    {"json", EB_FIELD_PAIRS, STEP(json)},
    {"expect", EB_FIELD_NUMBERS, STEP(expect), .least = 200, .most = 599},
    {"reads", EB_FIELD_STRING, STEP(reads)}};
static const struct eb_row steps[] = {
    {"http", 0, step_fields, COUNT(step_fields), sizeof(struct eb_http_step), EB_LIST_NONE}};

#define DOCUMENT(member)                                                                                     \
    .bytes = sizeof(((struct eb_http_document *)0)->member),                                                 \
    .offset = offsetof(struct eb_http_document, member)
static const struct eb_field document_fields[] = {
    {"path", EB_FIELD_STRING, DOCUMENT(path), .needed = true},
    {"put-to", EB_FIELD_STRING, DOCUMENT(put_to)},
    {"method", EB_FIELD_WORD, DOCUMENT(method), .otherwise = EB_HTTP_PUT, .words = upload_methods},
    {"type", EB_FIELD_STRING, DOCUMENT(type)},
    {"expect", EB_FIELD_NUMBERS, DOCUMENT(expect), .least = 200, .most = 599}};
static const struct eb_row documents[] = {
    {"http", 0, document_fields, COUNT(document_fields), sizeof(struct eb_http_document), EB_LIST_NONE}};

const struct eb_rows eb_rows_http = {.sources = sources,
                                     .source_count = 1,
                                     .steps = steps,
                                     .step_count = 1,
                                     .documents = documents,
                                     .document_count = 1,
                                     .section = &section};

const struct eb_access eb_access_http = {
    .word = "http",
    .title = "HTTP",
    .rank = 2,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_STEP) | EB_ABLE(EB_SEND) | EB_ABLE(EB_FETCH) | EB_ABLE(EB_STORE),
    .needs = EB_NEEDS_HTTP,
    .context_bytes = sizeof(ebi_http),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
};
