#include "einbau/http.h"
#include "base/digest.h"
#include "einbau/text.h"

#include <string.h>

enum eb_status eb_http_body_read(const struct eb_http_request *r, uint64_t offset, char *to, size_t cap,
                                 size_t *size)
{
    uint64_t middle = r->source != NULL ? r->source->size_bytes : 0;
    const char *from = r->head;
    uint64_t left = r->head_bytes;
    *size = 0;
    if (!r->has_body || offset >= eb_http_body_bytes(r))
        return EB_OK;
    if (offset >= r->head_bytes && offset < r->head_bytes + middle) {
        offset -= r->head_bytes;
        *size = middle - offset < cap ? (size_t)(middle - offset) : cap;
        return r->source->read(r->source->self, offset, (uint8_t *)to, *size);
    }
    if (offset >= r->head_bytes + middle) {
        offset -= r->head_bytes + middle;
        from = r->tail;
        left = r->tail_bytes;
    }
    *size = left - offset < cap ? (size_t)(left - offset) : cap;
    memcpy(to, from + offset, *size);
    return EB_OK;
}

/* --- texts -----------------------------------------------------------------------------------------------
 */

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c - 'A' + 'a') : c;
}

static bool begins(const char *text, const char *with, size_t size)
{
    for (size_t i = 0; i < size; i++) {
        if (lower(text[i]) != lower(with[i]) || text[i] == '\0')
            return false;
    }
    return true;
}

bool eb_http_name_is(const char *a, const char *b)
{
    return strlen(a) == strlen(b) && begins(a, b, strlen(a));
}

static void add_char(struct eb_text *to, char c)
{
    const char text[2] = {c, '\0'};
    eb_text_add(to, text);
}

void eb_http_add_form(struct eb_text *to, const char *text)
{
    static const char digits[] = "0123456789ABCDEF";
    for (; *text != '\0'; text++) {
        unsigned char c = (unsigned char)*text;
        bool plain = (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || c == '-' ||
                     c == '.' || c == '_' || c == '*';
        if (plain || c == ' ') {
            add_char(to, c == ' ' ? '+' : (char)c);
        } else {
            const char code[4] = {'%', digits[c >> 4], digits[c & 15], '\0'};
            eb_text_add(to, code);
        }
    }
}

void eb_http_add_json(struct eb_text *to, const char *text)
{
    char run[32];
    size_t size = 0;
    for (; *text != '\0'; text++) {
        bool escaped = *text == '"' || *text == '\\';
        if (size + 3 > sizeof run || (unsigned char)*text < 0x20) {
            run[size] = '\0';
            eb_text_add(to, run);
            size = 0;
        }
        if ((unsigned char)*text < 0x20) {
            eb_text_add(to, "\\u");
            eb_text_add_hex(to, (unsigned char)*text, 4);
            continue;
        }
        if (escaped)
            run[size++] = '\\';
        run[size++] = *text;
    }
    run[size] = '\0';
    eb_text_add(to, run);
}

const char *eb_http_status_text(unsigned status)
{
    static const struct {
        uint16_t status;
        const char *text;
    } list[] = {{200, "OK"},
                {201, "Created"},
                {202, "Accepted"},
                {204, "No Content"},
                {301, "Moved Permanently"},
                {302, "Found"},
                {303, "See Other"},
                {307, "Temporary Redirect"},
                {308, "Permanent Redirect"},
                {400, "Bad Request"},
                {401, "Unauthorized"},
                {403, "Forbidden"},
                {404, "Not Found"},
                {405, "Method Not Allowed"},
                {408, "Request Timeout"},
                {409, "Conflict"},
                {411, "Length Required"},
                {413, "Content Too Large"},
                {415, "Unsupported Media Type"},
                {417, "Expectation Failed"},
                {422, "Unprocessable Content"},
                {423, "Locked"},
                {429, "Too Many Requests"},
                {500, "Internal Server Error"},
                {501, "Not Implemented"},
                {503, "Service Unavailable"},
                {507, "Insufficient Storage"}};
    for (size_t i = 0; i < sizeof list / sizeof list[0]; i++) {
        if (list[i].status == status)
            return list[i].text;
    }
    return "";
}

/* --- challenges ------------------------------------------------------------------------------------------
 */

static bool is_token(char c)
{
    return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
           (c != '\0' && strchr("!#$%&'*+-.^_`|~", c) != NULL);
}

static const char *past_blanks(const char *at)
{
    while (*at == ' ' || *at == '\t')
        at++;
    return at;
}

/* "token" or "\"quoted\""; what does not fit makes it empty. */
static const char *read_word(const char *at, char *to, size_t cap)
{
    size_t size = 0;
    bool quoted = *at == '"';
    at += quoted ? 1 : 0;
    while (*at != '\0' && (quoted ? *at != '"' : is_token(*at) || *at == '/' || *at == '=' || *at == ':')) {
        if (quoted && *at == '\\' && at[1] != '\0')
            at++;
        if (size < cap)
            to[size] = *at;
        size++;
        at++;
    }
    to[size < cap ? size : 0] = '\0';
    return quoted && *at == '"' ? at + 1 : at;
}

/* Whether a list of words between commas has this one. */
static bool lists(const char *list, const char *word)
{
    size_t size = strlen(word);
    for (const char *at = list; *at != '\0';) {
        at = past_blanks(at);
        if (begins(at, word, size) && (at[size] == '\0' || at[size] == ',' || at[size] == ' '))
            return true;
        while (*at != '\0' && *at != ',')
            at++;
        at += *at == ',' ? 1 : 0;
    }
    return false;
}

bool eb_http_is_field_text(const char *text)
{
    const char *at = text;
    while ((unsigned char)*at >= ' ' && *at != 0x7F)
        at++;
    return at != text && *at == '\0';
}

struct reading {
    struct eb_http_challenge challenge;
    bool known; /* its algorithm and its qop */
};

static void take_parameter(struct reading *r, const char *name, const char *text)
{
    struct eb_http_challenge *c = &r->challenge;
    r->known = r->known && (text[0] == '\0' || eb_http_is_field_text(text));
    if (eb_http_name_is(name, "realm")) {
        eb_text_copy(c->realm, sizeof c->realm, text);
    } else if (eb_http_name_is(name, "nonce")) {
        eb_text_copy(c->nonce, sizeof c->nonce, text);
    } else if (eb_http_name_is(name, "opaque")) {
        eb_text_copy(c->opaque, sizeof c->opaque, text);
    } else if (eb_http_name_is(name, "stale")) {
        c->stale = eb_http_name_is(text, "true");
    } else if (eb_http_name_is(name, "qop")) {
        c->has_qop = true;
        c->auth = lists(text, "auth");
        r->known = r->known && c->auth;
    } else if (eb_http_name_is(name, "algorithm")) {
        c->sha256 = begins(text, "SHA-256", 7);
        const char *rest = text + (c->sha256 ? 7 : begins(text, "MD5", 3) ? 3 : 0);
        c->session = eb_http_name_is(rest, "-sess");
        r->known = r->known && rest != text && (rest[0] == '\0' || c->session);
    }
}

static void end_challenge(const struct reading *r, enum eb_http_scheme scheme, struct eb_http_challenge *best)
{
    const struct eb_http_challenge *c = &r->challenge;
    bool usable = r->known && c->scheme == scheme && scheme != EB_HTTP_NO_SCHEME &&
                  (scheme != EB_HTTP_DIGEST || c->nonce[0] != '\0');
    if (usable && (best->scheme == EB_HTTP_NO_SCHEME || (c->sha256 && !best->sha256)))
        *best = *c;
}

void eb_http_challenge_take(const char *text, enum eb_http_scheme scheme, struct eb_http_challenge *best)
{
    struct reading r = {.known = true};
    const char *at = past_blanks(text);
    while (*at != '\0') {
        char name[24];
        char value[EB_HTTP_NONCE_BYTES] = "";
        const char *start = at;
        while (is_token(*at))
            at++;
        size_t size = (size_t)(at - start);
        memcpy(name, start, size < sizeof name ? size : 0);
        name[size < sizeof name ? size : 0] = '\0';
        const char *next = past_blanks(at);
        if (size > 0 && *next == '=') {
            at = read_word(past_blanks(next + 1), value, sizeof value);
            take_parameter(&r, name, value);
        } else if (size > 0) { /* the next scheme */
            end_challenge(&r, scheme, best);
            r = (struct reading){.known = true};
            r.challenge.scheme = eb_http_name_is(name, "Digest")  ? EB_HTTP_DIGEST
                                 : eb_http_name_is(name, "Basic") ? EB_HTTP_BASIC
                                                                  : EB_HTTP_NO_SCHEME;
        } else {
            at++; /* a comma, or what is not understood */
        }
        at = past_blanks(at);
    }
    end_challenge(&r, scheme, best);
}

static void add_base64(struct eb_text *to, const char *user, const char *password)
{
    static const char digits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    size_t first = strlen(user);
    size_t size = first + 1 + strlen(password);
    for (size_t i = 0; i < size; i += 3) {
        uint32_t bits = 0;
        char out[5] = "====";
        for (size_t k = i; k < i + 3; k++) {
            char c = k < first ? user[k] : k == first ? ':' : k < size ? password[k - first - 1] : '\0';
            bits = bits << 8 | (unsigned char)c;
        }
        for (size_t k = 0; k < 4 && i + k <= size; k++)
            out[k] = digits[bits >> (18 - 6 * k) & 63];
        eb_text_add(to, out);
        ebi_wipe(out, sizeof out);
        ebi_wipe(&bits, sizeof bits);
    }
}

static void add_quoted(struct eb_text *to, const char *name, const char *text)
{
    eb_text_add(to, name);
    eb_text_add(to, "=\"");
    for (; *text != '\0'; text++) {
        if (*text == '"' || *text == '\\')
            add_char(to, '\\');
        /* one byte of a character of UTF-8 at a time would be cut: characters go as they are */
        char run[5] = {*text};
        size_t size = 1;
        while (size < 4 && ((unsigned char)text[1] & 0xC0) == 0x80)
            run[size++] = *++text;
        eb_text_add(to, run);
    }
    add_char(to, '"');
}

/* RFC 7616 section 3.4.1. */
static void digest_response(const struct eb_http_challenge *c, const char *user, const char *password,
                            const char *method, const char *path, const char *count, const char *own,
                            char response[EBI_DIGEST_TEXT_BYTES])
{
    struct ebi_digest d;
    char one[EBI_DIGEST_TEXT_BYTES];
    char two[EBI_DIGEST_TEXT_BYTES];
    ebi_digest_begin(&d, c->sha256);
    ebi_digest_add_text(&d, user);
    ebi_digest_add_text(&d, ":");
    ebi_digest_add_text(&d, c->realm);
    ebi_digest_add_text(&d, ":");
    ebi_digest_add_text(&d, password);
    ebi_digest_end(&d, one);
    if (c->session) {
        ebi_digest_begin(&d, c->sha256);
        ebi_digest_add_text(&d, one);
        ebi_digest_add_text(&d, ":");
        ebi_digest_add_text(&d, c->nonce);
        ebi_digest_add_text(&d, ":");
        ebi_digest_add_text(&d, own);
        ebi_digest_end(&d, one);
    }
    ebi_digest_begin(&d, c->sha256);
    ebi_digest_add_text(&d, method);
    ebi_digest_add_text(&d, ":");
    ebi_digest_add_text(&d, path);
    ebi_digest_end(&d, two);
    ebi_digest_begin(&d, c->sha256);
    ebi_digest_add_text(&d, one);
    ebi_digest_add_text(&d, ":");
    ebi_digest_add_text(&d, c->nonce);
    if (c->has_qop) {
        ebi_digest_add_text(&d, ":");
        ebi_digest_add_text(&d, count);
        ebi_digest_add_text(&d, ":");
        ebi_digest_add_text(&d, own);
        ebi_digest_add_text(&d, ":auth");
    }
    ebi_digest_add_text(&d, ":");
    ebi_digest_add_text(&d, two);
    ebi_digest_end(&d, response);
    ebi_wipe(one, sizeof one);
}

bool eb_http_authorize(const struct eb_http_challenge *c, const char *user, const char *password,
                       const char *method, const char *path, uint32_t count, const char *own, char *to,
                       size_t cap)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    if (c->scheme == EB_HTTP_BASIC) {
        eb_text_add(&text, "Basic ");
        add_base64(&text, user, password);
        return !text.cut;
    }
    char times[9];
    char response[EBI_DIGEST_TEXT_BYTES];
    struct eb_text out;
    eb_text_init(&out, times, sizeof times);
    eb_text_add_hex(&out, count, 8);
    for (char *p = times; *p != '\0'; p++)
        *p = lower(*p);
    digest_response(c, user, password, method, path, times, own, response);
    eb_text_add(&text, "Digest ");
    add_quoted(&text, "username", user);
    add_quoted(&text, ", realm", c->realm);
    add_quoted(&text, ", nonce", c->nonce);
    add_quoted(&text, ", uri", path);
    add_quoted(&text, ", response", response);
    eb_text_add(&text, ", algorithm=");
    eb_text_add(&text, c->sha256 ? "SHA-256" : "MD5");
    eb_text_add(&text, c->session ? "-sess" : "");
    if (c->has_qop || c->session)
        add_quoted(&text, ", cnonce", own);
    if (c->has_qop) {
        eb_text_add(&text, ", qop=auth, nc=");
        eb_text_add(&text, times);
    }
    if (c->opaque[0] != '\0')
        add_quoted(&text, ", opaque", c->opaque);
    return !text.cut;
}

/* --- cookies ---------------------------------------------------------------------------------------------
 */

/* "; Name=text": the attribute's text in `to`, or false. */
static bool attribute(const char *cookie, const char *name, char *to, size_t cap)
{
    size_t size = strlen(name);
    to[0] = '\0';
    for (const char *at = strchr(cookie, ';'); at != NULL; at = strchr(at, ';')) {
        at = past_blanks(at + 1);
        if (!begins(at, name, size) || (at[size] != '=' && at[size] != ';' && at[size] != '\0'))
            continue;
        at += size;
        at += *at == '=' ? 1 : 0;
        const char *end = strchr(at, ';');
        size_t length = end != NULL ? (size_t)(end - at) : strlen(at);
        if (length < cap) {
            memcpy(to, at, length);
            to[length] = '\0';
        }
        return length < cap;
    }
    return false;
}

/* The year in a date of any of the three forms (RFC 6265, section 5.1.1); 0: none. A time has colons, and the
 * first number of one or two digits is the day. */
static unsigned year_of(const char *date)
{
    static const char digits[] = "0123456789";
    bool day = false;
    for (const char *at = date + strcspn(date, digits); *at != '\0'; at += strcspn(at, digits)) {
        size_t size = strspn(at, digits);
        size_t whole = strspn(at, "0123456789:");
        uint64_t year;
        if (whole == size && size <= 4 && (size == 4 || (size == 2 && day)) &&
            eb_text_number(at, size, &year))
            return (unsigned)(size == 4 ? year : year >= 70 ? 1900 + year : 2000 + year);
        day = day || (whole == size && size <= 2);
        at += whole;
    }
    return 0;
}

/* Max-Age, and of Expires only whether the year is long over: the laptop's clock is not looked at. */
static uint64_t end_of(const char *cookie, uint64_t now_us)
{
    char text[48];
    uint64_t seconds;
    if (attribute(cookie, "max-age", text, sizeof text)) {
        if (!eb_text_number(text, strlen(text), &seconds))
            return 0; /* negative: at once */
        return seconds > UINT64_MAX / 2000000 ? UINT64_MAX : now_us + seconds * 1000000;
    }
    if (attribute(cookie, "expires", text, sizeof text)) {
        unsigned year = year_of(text);
        return year != 0 && year < 2000 ? 0 : UINT64_MAX;
    }
    return UINT64_MAX;
}

static bool same_name(const char *a, const char *b)
{
    size_t size = strcspn(a, "=");
    return size == strcspn(b, "=") && memcmp(a, b, size) == 0;
}

void eb_http_cookie_take(struct eb_http_cookies *cookies, const char *text, const char *host,
                         const char *path, bool tls, uint64_t now_us)
{
    struct eb_http_cookie c = {.end_us = end_of(text, now_us)};
    char domain[64];
    char flag[8];
    size_t size = strcspn(text, ";");
    while (size > 0 && text[size - 1] == ' ')
        size--;
    if (size == 0 || size >= sizeof c.text || memchr(text, '=', size) == NULL || text[0] == '=')
        return;
    memcpy(c.text, text, size);
    c.text[size] = '\0';
    if (!eb_http_is_field_text(c.text))
        return;
    if (attribute(text, "domain", domain, sizeof domain) && domain[0] != '\0' &&
        !eb_http_name_is(domain[0] == '.' ? domain + 1 : domain, host))
        return;
    c.secure = attribute(text, "secure", flag, sizeof flag);
    if (c.secure && !tls)
        return;
    if (!attribute(text, "path", c.path, sizeof c.path) || c.path[0] != '/') {
        const char *last = strrchr(path, '/'); /* RFC 6265 section 5.1.4 */
        size_t length = last != NULL && last > path ? (size_t)(last - path) : 1;
        if (length >= sizeof c.path)
            return;
        memcpy(c.path, "/", 2);
        memcpy(c.path, path[0] == '/' ? path : "/", length);
        c.path[length] = '\0';
    }
    struct eb_http_cookie *to = NULL;
    for (size_t i = 0; i < EB_HTTP_COOKIES_MAX; i++) {
        struct eb_http_cookie *old = &cookies->list[i];
        if (old->text[0] != '\0' && same_name(old->text, c.text) && strcmp(old->path, c.path) == 0) {
            to = old;
            break;
        }
        if (to == NULL && old->text[0] == '\0')
            to = old;
    }
    if (to == NULL)
        return;
    ebi_wipe(to->text, sizeof to->text);
    if (c.end_us > now_us)
        *to = c;
    ebi_wipe(c.text, sizeof c.text);
}

bool eb_http_cookie_text(const struct eb_http_cookies *cookies, const char *path, bool tls, uint64_t now_us,
                         char *to, size_t cap)
{
    struct eb_text text;
    eb_text_init(&text, to, cap);
    for (size_t i = 0; i < EB_HTTP_COOKIES_MAX; i++) {
        const struct eb_http_cookie *c = &cookies->list[i];
        size_t size = strlen(c->path);
        bool below = strncmp(path, c->path, size) == 0 &&
                     (path[size] == '\0' || path[size] == '/' || path[size] == '?' ||
                      (size > 0 && c->path[size - 1] == '/'));
        if (c->text[0] == '\0' || !below || (c->secure && !tls) || now_us >= c->end_us)
            continue;
        eb_text_add(&text, text.size > 0 ? "; " : "");
        eb_text_add(&text, c->text);
    }
    return !text.cut;
}

/* --- redirects -------------------------------------------------------------------------------------------
 */

/* "HOST[:PORT]" up to the path: whether it is this one. */
static bool is_host(const char *at, size_t size, const char *host, uint16_t port, bool tls)
{
    size_t name = strlen(host);
    uint64_t number = tls ? EB_HTTPS_PORT : EB_HTTP_PORT;
    if (size < name || !begins(at, host, name))
        return false;
    if (size > name && (at[name] != ':' || !eb_text_number(at + name + 1, size - name - 1, &number)))
        return false;
    return number == port;
}

enum eb_http_target_kind eb_http_location(const char *location, const char *from, const char *host,
                                          uint16_t port, bool tls, char *path, size_t cap)
{
    struct eb_text text;
    const char *at = location;
    bool to_tls = tls;
    bool absolute = begins(at, "http://", 7) || begins(at, "https://", 8);
    eb_text_init(&text, path, cap);
    if (absolute || (at[0] == '/' && at[1] == '/')) {
        to_tls = absolute ? lower(at[4]) == 's' : tls;
        at = strstr(at, "//") + 2;
        size_t size = strcspn(at, "/?#");
        bool same = to_tls == tls ? is_host(at, size, host, port, tls)
                                  : size >= strlen(host) && begins(at, host, strlen(host)) &&
                                        (size == strlen(host) || at[strlen(host)] == ':');
        if (!same)
            return EB_HTTP_OTHER_HOST;
        at += size;
        eb_text_add(&text, *at == '/' ? "" : "/");
    } else if (at[0] != '/') {
        const char *last = strrchr(from, '/');
        const char *query = strchr(from, '?');
        while (last != NULL && query != NULL && last > query) {
            last--;
            while (last > from && *last != '/')
                last--;
        }
        for (const char *p = from; last != NULL && p <= last; p++)
            add_char(&text, *p);
    }
    for (; *at != '\0' && *at != '#'; at++) {
        if ((unsigned char)*at <= ' ' || (unsigned char)*at >= 0x7F)
            return EB_HTTP_OTHER_HOST;
        add_char(&text, *at);
    }
    if (text.cut || path[0] != '/')
        return EB_HTTP_OTHER_HOST;
    return to_tls == tls ? EB_HTTP_SAME_HOST : to_tls ? EB_HTTP_TO_TLS : EB_HTTP_FROM_TLS;
}
