/* What the core knows of HTTP and of documents: logins against the standards' own examples, cookies,
 * redirects, JSON in all slicings, HTML. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* RFC 7616 section 3.9.1, RFC 2617 section 3.5, RFC 7617 sections 2 and 2.1 */
static void the_standards_logins(void **state)
{
    (void)state;
    static const struct {
        const char *challenge, *user, *password, *path, *own, *expected;
        enum eb_http_scheme scheme;
    } rows[] = {
        {"Digest realm=\"http-auth@example.org\", qop=\"auth, auth-int\", algorithm=MD5, "
         "nonce=\"7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v\", "
         "opaque=\"FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS\"",
         "Mufasa", "Circle of Life", "/dir/index.html", "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
         "response=\"8ca523f5e9506fed4657c9700eebdbec\"", EB_HTTP_DIGEST},
        {"Digest realm=\"http-auth@example.org\", qop=\"auth, auth-int\", algorithm=SHA-256, "
         "nonce=\"7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v\", "
         "opaque=\"FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS\"",
         "Mufasa", "Circle of Life", "/dir/index.html", "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
         "response=\"753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1\"", EB_HTTP_DIGEST},
        {"Digest realm=\"testrealm@host.com\", qop=\"auth,auth-int\", "
         "nonce=\"dcd98b7102dd2f0e8b11d0f600bfb0c093\", opaque=\"5ccc069c403ebaf9f0171e9517f40e41\"",
         "Mufasa", "Circle Of Life", "/dir/index.html", "0a4f113b",
         "response=\"6629fae49393a05397450978507c4ef1\"", EB_HTTP_DIGEST},
        {"Basic realm=\"WallyWorld\"", "Aladdin", "open sesame", "/", "",
         "Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==", EB_HTTP_BASIC},
        {"Basic realm=\"foo\", charset=\"UTF-8\"", "test", "123\xC2\xA3", "/", "",
         "Basic dGVzdDoxMjPCow==", EB_HTTP_BASIC},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_http_challenge c = {.scheme = EB_HTTP_NO_SCHEME};
        char text[EB_HTTP_HEADER_BYTES];
        eb_http_challenge_take(rows[i].challenge, rows[i].scheme, &c);
        assert_int_equal(c.scheme, rows[i].scheme);
        assert_true(eb_http_authorize(&c, rows[i].user, rows[i].password, "GET", rows[i].path, 1, rows[i].own,
                                      text, sizeof text));
        if (strstr(text, rows[i].expected) == NULL)
            fail_msg("row %zu: %s", i, text);
        /* one byte too few is an error */
        assert_false(eb_http_authorize(&c, rows[i].user, rows[i].password, "GET", rows[i].path, 1,
                                       rows[i].own, text, strlen(text)));
    }
}

static void challenges_are_chosen(void **state)
{
    (void)state;
    static const struct {
        const char *fields[3];
        enum eb_http_scheme wanted, found;
        bool sha256, stale;
        const char *nonce;
    } rows[] = {
        {{"Basic realm=\"a\""}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""}, /* never downgraded */
        {{"Digest nonce=\"n\", realm=\"a\""}, EB_HTTP_BASIC, EB_HTTP_NO_SCHEME, false, false, ""},
        {{"Basic realm=\"a\", Digest realm=\"b\", nonce=\"n1\""},
         EB_HTTP_DIGEST,
         EB_HTTP_DIGEST,
         false,
         false,
         "n1"},
        {{"Digest algorithm=MD5, realm=\"a\", nonce=\"m\"",
          "Digest algorithm=SHA-256, nonce=\"s\", realm=\"a\""},
         EB_HTTP_DIGEST,
         EB_HTTP_DIGEST,
         true,
         false,
         "s"},
        {{"Digest algorithm=SHA-256, nonce=\"s\"", "Digest algorithm=MD5, nonce=\"m\""},
         EB_HTTP_DIGEST,
         EB_HTTP_DIGEST,
         true,
         false,
         "s"},
        {{"DIGEST NONCE=\"n\",STALE=TRUE"}, EB_HTTP_DIGEST, EB_HTTP_DIGEST, false, true, "n"},
        {{"Digest nonce=\"n\", qop=\"auth-int\""}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{"Digest nonce=\"n\", algorithm=SHA-512-256"}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{"Digest realm=\"without a nonce\""}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{"Digest nonce=\"with \\\" a quote\""},
         EB_HTTP_DIGEST,
         EB_HTTP_DIGEST,
         false,
         false,
         "with \" a quote"},
        {{"Digest nonce=\"never ends"}, EB_HTTP_DIGEST, EB_HTTP_DIGEST, false, false, "never ends"},
        {{"Digest nonce=\"n\nX-Admin: 1\""}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{"Digest nonce=\"n\", opaque=\"\r\""}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{", ,,= \"\" Digest"}, EB_HTTP_DIGEST, EB_HTTP_NO_SCHEME, false, false, ""},
        {{""}, EB_HTTP_BASIC, EB_HTTP_NO_SCHEME, false, false, ""},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_http_challenge c = {.scheme = EB_HTTP_NO_SCHEME};
        for (size_t k = 0; k < 3 && rows[i].fields[k] != NULL; k++)
            eb_http_challenge_take(rows[i].fields[k], rows[i].wanted, &c);
        if (c.scheme != rows[i].found || c.sha256 != rows[i].sha256 || c.stale != rows[i].stale ||
            strcmp(c.nonce, rows[i].nonce) != 0)
            fail_msg("row %zu: scheme %d, sha256 %d, stale %d, nonce '%s'", i, c.scheme, c.sha256, c.stale,
                     c.nonce);
    }
}

/* RFC 6265 sections 5.2 to 5.4 */
static void cookies_go_back_to_their_host_only(void **state)
{
    (void)state;
    static const struct {
        const char *cookies[3];
        const char *path;
        bool tls;
        const char *expected;
    } rows[] = {
        {{"SID=31d4d96e407aad42"}, "/x", false, "SID=31d4d96e407aad42"},
        {{"SID=1; Path=/; Secure; HttpOnly"}, "/x", true, "SID=1"},
        {{"SID=1; Secure"}, "/x", false, ""},
        {{"SID=1; Domain=192.0.2.41"}, "/x", false, "SID=1"},
        {{"SID=1; Domain=example.org"}, "/x", false, ""},
        {{"SID=1; Domain=.192.0.2.41"}, "/x", false, "SID=1"},
        {{"SID=1; path=/api"}, "/api", false, "SID=1"},
        {{"SID=1; path=/api"}, "/api/status", false, "SID=1"},
        {{"SID=1; path=/api"}, "/apis", false, ""},
        {{"SID=1; path=/api"}, "/", false, ""},
        {{"SID=1", "SID=2"}, "/", false, "SID=2"},
        {{"SID=1", "lang=en"}, "/", false, "SID=1; lang=en"},
        {{"SID=1", "SID=; Max-Age=0"}, "/", false, ""},
        {{"SID=1", "SID=; Max-Age=-1"}, "/", false, ""},
        {{"SID=1", "SID=gone; Expires=Thu, 01 Jan 1970 00:00:00 GMT"}, "/", false, ""},
        /* a date in each of its forms; the hour, the day and the second say nothing of the year */
        {{"SID=1", "SID=; Expires=Thu, 01-Jan-70 00:00:01 GMT"}, "/", false, ""},
        {{"SID=1", "SID=; Expires=Thu Jan  1 00:00:00 1970"}, "/", false, ""},
        {{"SID=1; Expires=Sun, 29 Nov 2026 19:19:19 GMT"}, "/", false, "SID=1"},
        {{"SID=1; Expires=Thu, 19 Nov 2026 08:49:37 GMT"}, "/", false, "SID=1"},
        {{"SID=1; Expires=Thursday, 19-Nov-26 19:19:19 GMT"}, "/", false, "SID=1"},
        {{"SID=1; Expires=Tue, 19-Jan-38 03:14:07 GMT"}, "/", false, "SID=1"},
        {{"SID=1; Expires=Thu Nov 19 19:19:19 2026"}, "/", false, "SID=1"},
        {{"SID=1; Expires=never"}, "/", false, "SID=1"},
        {{"SID=1; Expires=19:19:19"}, "/", false, "SID=1"},
        {{"SID=1; Max-Age=60"}, "/", false, "SID=1"},
        {{"=x"}, "/", false, ""},
        {{"nothing"}, "/", false, ""},
        {{";;;"}, "/", false, ""},
        /* what would begin a field of its own in our next request (RFC 9110 section 5.5) */
        {{"SID=1\r\nX-Admin: 1"}, "/", false, ""},
        {{"SID=1\n", "lang=en"}, "/", false, "lang=en"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_http_cookies jar = {0};
        char text[256];
        for (size_t k = 0; k < 3 && rows[i].cookies[k] != NULL; k++)
            eb_http_cookie_take(&jar, rows[i].cookies[k], "192.0.2.41", "/login", rows[i].tls, 1000);
        assert_true(eb_http_cookie_text(&jar, rows[i].path, rows[i].tls, 1000, text, sizeof text));
        if (strcmp(text, rows[i].expected) != 0)
            fail_msg("row %zu: '%s'", i, text);
        /* none outlives its time, none is ever sent without TLS that must not be */
        eb_http_cookie_text(&jar, rows[i].path, rows[i].tls, 61000000, text, sizeof text);
        if (strstr(rows[i].cookies[0], "Max-Age=60") != NULL)
            assert_string_equal(text, "");
        eb_http_cookie_text(&jar, rows[i].path, false, 1000, text, sizeof text);
        if (strstr(rows[i].cookies[0], "Secure") != NULL)
            assert_string_equal(text, "");
    }
    struct eb_http_cookies jar = {0};
    char text[64];
    char longer[EB_HTTP_COOKIE_BYTES + 8];
    memset(longer, 'x', sizeof longer);
    memcpy(longer, "a=", 2);
    longer[sizeof longer - 1] = '\0';
    eb_http_cookie_take(&jar, longer, "h", "/", false, 0);
    assert_true(eb_http_cookie_text(&jar, "/", false, 0, text, sizeof text));
    assert_string_equal(text, "");
    for (int i = 0; i < EB_HTTP_COOKIES_MAX + 2; i++) {
        char name[16];
        snprintf(name, sizeof name, "c%d=v", i);
        eb_http_cookie_take(&jar, name, "h", "/", false, 0);
    }
    assert_true(eb_http_cookie_text(&jar, "/", false, 0, text, sizeof text));
    assert_string_equal(text, "c0=v; c1=v; c2=v; c3=v");
}

static void redirects_stay_on_the_device(void **state)
{
    (void)state;
    static const struct {
        const char *location;
        bool tls;
        enum eb_http_target_kind kind;
        const char *path;
    } rows[] = {
        {"/login", false, EB_HTTP_SAME_HOST, "/login"},
        {"login?next=1#top", false, EB_HTTP_SAME_HOST, "/api/login?next=1"},
        {"http://192.0.2.41/x", false, EB_HTTP_SAME_HOST, "/x"},
        {"HTTP://192.0.2.41:80/x", false, EB_HTTP_SAME_HOST, "/x"},
        {"http://192.0.2.41", false, EB_HTTP_SAME_HOST, "/"},
        {"http://192.0.2.41?x", false, EB_HTTP_SAME_HOST, "/?x"},
        {"//192.0.2.41/x", false, EB_HTTP_SAME_HOST, "/x"},
        {"http://192.0.2.41:8080/x", false, EB_HTTP_OTHER_HOST, NULL},
        {"http://192.0.2.42/x", false, EB_HTTP_OTHER_HOST, NULL},
        {"http://192.0.2.41.example.org/x", false, EB_HTTP_OTHER_HOST, NULL},
        {"http://192.0.2.41@example.org/x", false, EB_HTTP_OTHER_HOST, NULL},
        {"//example.org/x", false, EB_HTTP_OTHER_HOST, NULL},
        {"https://192.0.2.41/x", false, EB_HTTP_TO_TLS, "/x"},
        {"https://192.0.2.41/x", true, EB_HTTP_SAME_HOST, "/x"},
        {"http://192.0.2.41/x", true, EB_HTTP_FROM_TLS, "/x"},
        {"/with blanks", false, EB_HTTP_OTHER_HOST, NULL},
        {"/with\x7f", false, EB_HTTP_OTHER_HOST, NULL},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char path[64];
        uint16_t port = rows[i].tls ? EB_HTTPS_PORT : EB_HTTP_PORT;
        enum eb_http_target_kind kind = eb_http_location(rows[i].location, "/api/status?q=/y/z", "192.0.2.41",
                                                         port, rows[i].tls, path, sizeof path);
        if (kind != rows[i].kind || (rows[i].path != NULL && strcmp(path, rows[i].path) != 0))
            fail_msg("%s: %d, '%s'", rows[i].location, kind, path);
    }
    char path[8];
    assert_int_equal(eb_http_location("/12345678", "/", "h", 80, false, path, sizeof path),
                     EB_HTTP_OTHER_HOST);
}

static void texts_are_encoded(void **state)
{
    (void)state;
    char text[64];
    struct eb_text out;
    eb_text_init(&out, text, sizeof text);
    eb_http_add_form(&out, "Larch:fell 7&x=\xC3\xA4+~*-._");
    assert_string_equal(text, "Larch%3Afell+7%26x%3D%C3%A4%2B%7E*-._");
    eb_text_init(&out, text, sizeof text);
    eb_http_add_json(&out, "a\"b\\c\td\xC3\xA4");
    assert_string_equal(text, "a\\\"b\\\\c\\u0009d\xC3\xA4");
}

/* --- documents ------------------------------------------------------------------------------------- */

struct told {
    char text[1024];
};

static void on_value(void *context, const char *pointer, const char *text, bool cut)
{
    struct told *t = context;
    size_t at = strlen(t->text);
    snprintf(t->text + at, sizeof t->text - at, "%s=%s%s|", pointer, text, cut ? "..." : "");
}

static bool read_json(const char *document, size_t size, size_t slice, struct told *t)
{
    struct eb_json json;
    char buffer[16];
    t->text[0] = '\0';
    eb_json_begin(&json, buffer, sizeof buffer, on_value, t);
    for (size_t at = 0; at < size; at += slice)
        eb_json_take(&json, (const uint8_t *)document + at, size - at < slice ? size - at : slice);
    return eb_json_end(&json);
}

/* RFC 6901 section 5, and what RFC 8259 allows. */
static void values_by_their_pointers(void **state)
{
    (void)state;
    static const struct {
        const char *document, *told;
    } rows[] = {
        {"{\"foo\": [\"bar\", \"baz\"], \"\": 0, \"a/b\": 1, \"c%d\": 2, \"e^f\": 3, \"g|h\": 4, \"i\\\\j\": "
         "5, "
         "\"k\\\"l\": 6, \" \": 7, \"m~n\": 8}",
         "/foo/0=bar|/foo/1=baz|/=0|/a~1b=1|/c%d=2|/e^f=3|/g|h=4|/i\\j=5|/k\"l=6|/ =7|/m~0n=8|"},
        {"42", "=42|"},
        {" \"x\" ", "=x|"},
        {"[]", ""},
        {"{}", ""},
        {"[[1,[2]],{\"a\":[{}]},-1.5e+3,true,false,null]",
         "/0/0=1|/0/1/0=2|/2=-1.5e+3|/3=true|/4=false|/5=null|"},
        {"{\"v\":\"\\u00e4\\uD83D\\uDE00\\n\\/\"}", "/v=\xC3\xA4\xF0\x9F\x98\x80\n/|"},
        {"{\"v\":\"\\uDE00\"}", "/v=\xEF\xBF\xBD|"},
        {"{\"v\":\"0123456789012345\"}", "/v=012345678901234...|"},
        {"{\"v\":\"012345678901234\"}", "/v=012345678901234|"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t size = strlen(rows[i].document);
        for (size_t slice = 1; slice <= size; slice++) {
            struct told t;
            if (!read_json(rows[i].document, size, slice, &t) || strcmp(t.text, rows[i].told) != 0)
                fail_msg("row %zu, slices of %zu: %s", i, slice, t.text);
        }
    }
}

static void what_is_no_json_fails(void **state)
{
    (void)state;
    static const char *const rows[] = {"",     "{",          "[1",    "{\"a\"}",  "{\"a\":}", "{a:1}",
                                       "[1,]", "{\"a\":1,}", "tru",   "nul1",     "\"\\x\"",  "\"\\u12g4\"",
                                       "1 2",  "[1}",        "]",     "\"a\nb\"", "<html>",   "{\"a\":1}x",
                                       "+1",   "[,]",        "\"open"};
    struct told t;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        if (read_json(rows[i], strlen(rows[i]), 1, &t))
            fail_msg("'%s' was taken", rows[i]);
    }
    /* just deep enough, and one too deep */
    char deep[2 * EB_JSON_DEPTH_MAX + 3] = "";
    memset(deep, '[', EB_JSON_DEPTH_MAX);
    memset(deep + EB_JSON_DEPTH_MAX, ']', EB_JSON_DEPTH_MAX);
    assert_true(read_json(deep, 2 * EB_JSON_DEPTH_MAX, 3, &t));
    memset(deep, '[', EB_JSON_DEPTH_MAX + 1);
    assert_false(read_json(deep, EB_JSON_DEPTH_MAX + 1, 3, &t));
    /* a name that is too long hides what is below it, and nothing else */
    char named[EB_JSON_PATH_BYTES + 64];
    snprintf(named, sizeof named, "{\"%0*d\": {\"a\": 1}, \"b\": 2}", EB_JSON_PATH_BYTES, 0);
    assert_true(read_json(named, strlen(named), 5, &t));
    assert_string_equal(t.text, "/b=2|");
}

static void text_behind_a_mark(void **state)
{
    (void)state;
    static const struct {
        const char *document, *mark, *until, *text;
    } rows[] = {
        {"<th>Version</th><td> 3.10 </td>", "Version</th><td>", NULL, "3.10"},
        {"aaab: 1\n", "aab: ", NULL, "1"},
        {"ababac=7;", "abac=", ";", "7"},
        {"version=3.9", "version=", NULL, "3.9"},
        {"version=3.9", "Version=", NULL, ""},
        {"version=0123456789", "version=", NULL, ""}, /* half a text is none */
        {"  3.9\r\nmore", "", NULL, "3.9"},
        {"v=\"quoted\"", "v=", "", "\"quoted\""},
        {"", "x", NULL, ""},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t size = strlen(rows[i].document);
        for (size_t slice = 1; slice <= size; slice++) {
            struct eb_mark_reader r;
            char text[10];
            eb_mark_begin(&r, rows[i].mark, rows[i].until, text, sizeof text);
            for (size_t at = 0; at < size; at += slice)
                eb_mark_take(&r, (const uint8_t *)rows[i].document + at,
                             size - at < slice ? size - at : slice);
            eb_mark_end(&r);
            if (strcmp(text, rows[i].text) != 0)
                fail_msg("row %zu, slices of %zu: '%s'", i, slice, text);
        }
    }
}

static void what_a_form_hides(void **state)
{
    (void)state;
    static const struct {
        const char *document, *text;
    } rows[] = {
        {"<input type=\"hidden\" name=\"csrf\" value=\"ab12\">", "ab12"},
        {"<INPUT VALUE='ab12' NAME='csrf' type=hidden/>", "ab12"},
        {"<input name=csrf value=ab12 disabled>", "ab12"},
        {"<input name=\"other\" value=\"1\"><input name=\"csrf\"\n value=\"a&amp;b&#43;&#x2B;&quot;\">",
         "a&b++\""},
        {"<input name=\"csrf\">", ""},
        {"<p name=\"csrf\" value=\"1\">", ""},
        {"<inputs name=\"csrf\" value=\"1\">", ""},
        {"<input name=\"csrf\" value=\"12345678901234567890\">", ""},
        {"<input name=\"csrf\" value=\"open", ""},
        {"< input name = \"csrf\" value = \"1\" ><input name = \"csrf\" value = \"2\" >", "2"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t size = strlen(rows[i].document);
        for (size_t slice = 1; slice <= size; slice += 7) {
            struct eb_input_reader r;
            char text[16];
            eb_input_begin(&r, "csrf", text, sizeof text);
            for (size_t at = 0; at < size; at += slice)
                eb_input_take(&r, (const uint8_t *)rows[i].document + at,
                              size - at < slice ? size - at : slice);
            if (strcmp(text, rows[i].text) != 0)
                fail_msg("row %zu, slices of %zu: '%s'", i, slice, text);
        }
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_standards_logins),
        cmocka_unit_test(challenges_are_chosen),
        cmocka_unit_test(cookies_go_back_to_their_host_only),
        cmocka_unit_test(redirects_stay_on_the_device),
        cmocka_unit_test(texts_are_encoded),
        cmocka_unit_test(values_by_their_pointers),
        cmocka_unit_test(what_is_no_json_fails),
        cmocka_unit_test(text_behind_a_mark),
        cmocka_unit_test(what_a_form_hides),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
