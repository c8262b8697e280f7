/* Any bytes as what a device with a web server or a loader sends: documents, heads of answers, BOOTP and
 * DHCP, read requests and acknowledgements.  What is read must not depend on how a document is cut into
 * slices. */
#include <einbau/bootp.h>
#include <einbau/document.h>
#include <einbau/http.h>
#include <einbau/tftp_serve.h>

#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

static void must(bool holds)
{
    if (!holds)
        abort();
}

/* A sum over all that was read: FNV-1a, as good as any. */
static void sum(uint64_t *total, const char *text)
{
    for (size_t i = 0; i <= strlen(text); i++)
        *total = (*total ^ (uint8_t)text[i]) * 0x100000001b3u;
}

static void take_value(void *context, const char *pointer, const char *text, bool cut)
{
    must(strlen(pointer) < EB_JSON_PATH_BYTES);
    sum(context, pointer);
    sum(context, text);
    sum(context, cut ? "cut" : "");
}

static uint64_t read_document(unsigned kind, const uint8_t *bytes, size_t size, size_t slice)
{
    static const char *const marks[] = {"Firmware: ", "aab", ""};
    char text[24];
    uint64_t total = size;
    struct eb_json json;
    struct eb_mark_reader mark;
    struct eb_input_reader input;
    eb_json_begin(&json, text, sizeof text, take_value, &total);
    if (kind < 3)
        eb_mark_begin(&mark, marks[kind], NULL, text, sizeof text);
    eb_input_begin(&input, "token", text, sizeof text);
    for (size_t at = 0; at < size; at += slice) {
        size_t n = size - at < slice ? size - at : slice;
        if (kind < 3)
            eb_mark_take(&mark, bytes + at, n);
        else if (kind == 3)
            eb_input_take(&input, bytes + at, n);
        else
            eb_json_take(&json, bytes + at, n);
    }
    if (kind < 3)
        eb_mark_end(&mark);
    if (kind <= 3)
        sum(&total, text);
    else
        sum(&total, eb_json_end(&json) ? "whole" : "failed");
    return total;
}

static void read_head(const char *text)
{
    struct eb_http_challenge challenge = {0};
    static struct eb_http_cookies cookies;
    char to[EB_HTTP_HEADER_BYTES];
    memset(&cookies, 0, sizeof cookies);
    eb_http_challenge_take(text, EB_HTTP_DIGEST, &challenge);
    eb_http_challenge_take(text, EB_HTTP_BASIC, &challenge);
    if (eb_http_authorize(&challenge, "user", "word", "GET", "/", 1, "abcdefgh", to, sizeof to))
        must(strchr(to, '\n') == NULL && strlen(to) < sizeof to);
    eb_http_cookie_take(&cookies, text, "198.51.100.7", "/update", false, 0);
    if (eb_http_cookie_text(&cookies, "/update/x", false, 1, to, sizeof to))
        must(strchr(to, '\n') == NULL);
    eb_http_location(text, "/update/x", "198.51.100.7", 80, false, to, 64);
    must(strlen(to) < 64);
}

static enum eb_status give_zeros(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    (void)self;
    must(offset + size <= 3000);
    memset(to, 0, size);
    return EB_OK;
}

/* Messages of the loader: a byte of length before each.  The first one asks, what follows acknowledges. */
static void serve(const uint8_t *bytes, size_t size)
{
    static uint8_t buffer[4096];
    struct eb_source source = {.read = give_zeros, .size_bytes = 3000};
    struct eb_tftp_serve_config config = {.name = "a.bin",
                                          .source = &source,
                                          .ip = {198, 51, 100, 7},
                                          .blksize = 512,
                                          .windowsize = 4,
                                          .patience_us = 1000000,
                                          .buffer = buffer,
                                          .buffer_bytes = sizeof buffer};
    struct eb_endpoint from = {.ip = {198, 51, 100, 7}, .port = 2000};
    struct eb_tftp_serve tftp;
    uint64_t now = 0;
    eb_tftp_serve_init(&tftp, &config);
    for (size_t at = 0; at < size;) {
        size_t n = bytes[at++];
        n = n < size - at ? n : size - at;
        if (tftp.state == EB_TFTP_SERVE_WAITING)
            eb_tftp_serve_request(&tftp, &from, bytes + at, n, now);
        else
            eb_tftp_serve_receive(&tftp, &from, bytes + at, n, now);
        struct eb_datagram burst[4];
        size_t count = eb_tftp_serve_give(&tftp, burst, 4);
        for (size_t i = 0; i < count; i++)
            must(burst[i].size_bytes <= 4 + 512 && memcmp(burst[i].peer.ip, config.ip, 4) == 0);
        eb_tftp_serve_taken(&tftp, count, now);
        now += 1 + (n << 14);
        eb_tftp_serve_tick(&tftp, now);
        must(tftp.acked_bytes <= 3000 && tftp.acked <= tftp.next);
        at += n;
    }
    must(tftp.state != EB_TFTP_SERVE_DONE || tftp.last_unanswered || tftp.acked_bytes == 3000);
}

static void lease(const uint8_t *bytes, size_t size)
{
    static struct eb_bootp bootp;
    struct eb_bootp_config config = {.mac = {2, 0, 0x5e, 0x51, 4, 1},
                                     .ip = {198, 51, 100, 7},
                                     .mask = {255, 255, 255, 0},
                                     .server = {198, 51, 100, 1},
                                     .file = "a.bin",
                                     .lease_s = 3600};
    eb_bootp_init(&bootp, &config);
    enum eb_bootp_event event = eb_bootp_receive(&bootp, bytes, size);
    must(bootp.answer_bytes <= EB_BOOTP_MESSAGE_BYTES);
    /* only the one device ever gets an answer */
    must(bootp.answer_bytes == 0 || memcmp(bytes + 28, config.mac, 6) == 0);
    must((event == EB_BOOTP_ASKED || event == EB_BOOTP_BOUND) == (bootp.answer_bytes > 0));
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    if (size < 2)
        return 0;
    unsigned kind = bytes[0] % 8;
    if (kind < 5) {
        must(read_document(kind, bytes + 2, size - 2, size) ==
             read_document(kind, bytes + 2, size - 2, 1 + bytes[1] % 16));
    } else if (kind == 5) {
        char *text = calloc(1, size);
        must(text != NULL);
        memcpy(text, bytes + 1, size - 1);
        read_head(text);
        free(text);
    } else if (kind == 6) {
        lease(bytes + 1, size - 1);
    } else {
        serve(bytes + 1, size - 1);
    }
    return 0;
}
