#include "einbau/bootp.h"
#include "base/bytes.h"

#include <string.h>

/* RFC 951 section 3, RFC 2132 */
enum {
    FIXED = 236,
    COOKIE = 0x63825363,
    LEAST_BYTES = 300,
    AT_XID = 4,
    AT_FLAGS = 10,
    AT_CLIENT = 12,
    AT_YOURS = 16,
    AT_SERVER = 20,
    AT_RELAY = 24,
    AT_MAC = 28,
    AT_NAME = 44,
    AT_FILE = 108,
    FILE_BYTES = 128,
    NAME_BYTES = 64,
    OPTION_PAD = 0,
    OPTION_MASK = 1,
    OPTION_REQUESTED = 50,
    OPTION_LEASE = 51,
    OPTION_OVERLOAD = 52,
    OPTION_TYPE = 53,
    OPTION_SERVER = 54,
    OPTION_RENEW = 58,
    OPTION_REBIND = 59,
    OPTION_CLIENT = 61,
    OPTION_TFTP_SERVER = 66,
    OPTION_FILE = 67,
    OPTION_END = 255,
    DISCOVER = 1,
    OFFER = 2,
    REQUEST = 3,
    DECLINE = 4,
    ACK = 5,
    NAK = 6,
    INFORM = 8
};

struct request {
    uint8_t type; /* 0: plain BOOTP */
    bool has_requested, has_server, has_client;
    uint8_t requested[4], server[4];
    uint8_t overload;
    uint8_t client_size;
    const uint8_t *client;
};

void eb_bootp_init(struct eb_bootp *b, const struct eb_bootp_config *config)
{
    memset(b, 0, sizeof *b);
    b->config = *config;
}

static void take_option(struct request *r, uint8_t option, const uint8_t *value, size_t size)
{
    if (option == OPTION_TYPE && size == 1) {
        r->type = value[0];
    } else if (option == OPTION_REQUESTED && size == 4) {
        r->has_requested = true;
        memcpy(r->requested, value, 4);
    } else if (option == OPTION_SERVER && size == 4) {
        r->has_server = true;
        memcpy(r->server, value, 4);
    } else if (option == OPTION_OVERLOAD && size == 1) {
        r->overload = value[0];
    } else if (option == OPTION_CLIENT && size <= EB_BOOTP_CLIENT_ID_BYTES) {
        r->has_client = true;
        r->client = value;
        r->client_size = (uint8_t)size;
    }
}

/* Options in a field; one that lies about its length ends it. */
static void read_options(struct request *r, const uint8_t *bytes, size_t size)
{
    for (size_t at = 0; at < size && bytes[at] != OPTION_END;) {
        uint8_t option = bytes[at++];
        if (option == OPTION_PAD)
            continue;
        if (at == size || at + 1 + bytes[at] > size)
            return;
        take_option(r, option, bytes + at + 1, bytes[at]);
        at += 1 + (size_t)bytes[at];
    }
}

/* RFC 2132 section 9.3: the fields of names may hold options too. */
static void read_request(struct request *r, const uint8_t *message, size_t size)
{
    memset(r, 0, sizeof *r);
    if (size < FIXED + 4 || ebi_get32(message + FIXED) != COOKIE)
        return;
    read_options(r, message + FIXED + 4, size - FIXED - 4);
    if ((r->overload & 1) != 0)
        read_options(r, message + AT_FILE, FILE_BYTES);
    if ((r->overload & 2) != 0)
        read_options(r, message + AT_NAME, NAME_BYTES);
}

static size_t put_option(uint8_t *message, size_t at, uint8_t option, const void *value, size_t size)
{
    message[at] = option;
    message[at + 1] = (uint8_t)size;
    memcpy(message + at + 2, value, size);
    return at + 2 + size;
}

static size_t put_time(uint8_t *message, size_t at, uint8_t option, uint32_t seconds)
{
    uint8_t value[4];
    ebi_put32(value, seconds);
    return put_option(message, at, option, value, sizeof value);
}

static size_t put_address_text(uint8_t *message, size_t at, uint8_t option, const uint8_t ip[4])
{
    char text[EB_ENDPOINT_TEXT_BYTES];
    const struct eb_endpoint endpoint = {.ip = {ip[0], ip[1], ip[2], ip[3]}};
    eb_endpoint_text(&endpoint, false, text);
    return put_option(message, at, option, text, strlen(text));
}

/* RFC 2131 section 4.1: where an answer goes. */
static void choose_target(struct eb_bootp *b, const uint8_t *message, bool refusal)
{
    static const uint8_t none[4];
    static const uint8_t all[4] = {255, 255, 255, 255};
    b->to.port = EB_BOOTP_CLIENT_PORT;
    memcpy(b->to.ip, all, 4);
    if (memcmp(message + AT_RELAY, none, 4) != 0) {
        b->to.port = EB_BOOTP_SERVER_PORT;
        memcpy(b->to.ip, message + AT_RELAY, 4);
    } else if (memcmp(message + AT_CLIENT, none, 4) != 0 && !refusal) {
        memcpy(b->to.ip, message + AT_CLIENT, 4);
    }
}

static void answer(struct eb_bootp *b, const uint8_t *message, const struct request *r, uint8_t type)
{
    const struct eb_bootp_config *c = &b->config;
    uint8_t *to = b->answer;
    size_t at = FIXED;
    size_t file = strlen(c->file);
    memset(to, 0, sizeof b->answer);
    to[0] = 2;
    to[1] = 1;
    to[2] = EB_MAC_BYTES;
    memcpy(to + AT_XID, message + AT_XID, 4);
    memcpy(to + AT_FLAGS, message + AT_FLAGS, 2);
    memcpy(to + AT_RELAY, message + AT_RELAY, 4);
    memcpy(to + AT_MAC, message + AT_MAC, 16);
    choose_target(b, message, type == NAK);
    if (type != NAK) {
        if (r->type == REQUEST || r->type == INFORM)
            memcpy(to + AT_CLIENT, message + AT_CLIENT, 4);
        if (r->type != INFORM)
            memcpy(to + AT_YOURS, c->ip, 4);
        memcpy(to + AT_SERVER, c->server, 4);
        memcpy(to + AT_FILE, c->file, file < FILE_BYTES ? file : 0);
    }
    ebi_put32(to + at, COOKIE);
    at += 4;
    if (type != 0) {
        at = put_option(to, at, OPTION_TYPE, &type, 1);
        at = put_option(to, at, OPTION_SERVER, c->server, 4);
    }
    if (type != 0 && type != NAK && r->type != INFORM) {
        at = put_time(to, at, OPTION_LEASE, c->lease_s);
        at = put_time(to, at, OPTION_RENEW, c->lease_s / 2);
        at = put_time(to, at, OPTION_REBIND, c->lease_s - c->lease_s / 8);
    }
    if (type != NAK) {
        at = put_option(to, at, OPTION_MASK, c->mask, 4);
        at = put_address_text(to, at, OPTION_TFTP_SERVER, c->server);
        at = put_option(to, at, OPTION_FILE, c->file, file < FILE_BYTES ? file : 0);
    }
    if (r->has_client) /* RFC 6842 */
        at = put_option(to, at, OPTION_CLIENT, r->client, r->client_size);
    to[at++] = OPTION_END;
    b->answer_bytes = at < LEAST_BYTES ? LEAST_BYTES : at;
}

/* RFC 2131 section 4.3.2 */
static enum eb_bootp_event take_request(struct eb_bootp *b, const uint8_t *message, const struct request *r)
{
    static const uint8_t none[4];
    const uint8_t *asked = r->has_requested ? r->requested : message + AT_CLIENT;
    if (r->has_server && memcmp(r->server, b->config.server, 4) != 0) {
        memcpy(b->other, r->server, 4);
        return EB_BOOTP_ELSEWHERE;
    }
    if (!r->has_requested && memcmp(asked, none, 4) == 0)
        return EB_BOOTP_NOTHING;
    if (memcmp(asked, b->config.ip, 4) != 0) {
        answer(b, message, r, NAK);
        return EB_BOOTP_ASKED;
    }
    answer(b, message, r, ACK);
    return EB_BOOTP_BOUND;
}

enum eb_bootp_event eb_bootp_receive(struct eb_bootp *b, const uint8_t *message, size_t size)
{
    struct request r;
    b->answer_bytes = 0;
    if (size < FIXED || message[0] != 1 || message[1] != 1 || message[2] != EB_MAC_BYTES)
        return EB_BOOTP_NOTHING;
    if (memcmp(message + AT_MAC, b->config.mac, EB_MAC_BYTES) != 0) {
        memcpy(b->stranger, message + AT_MAC, EB_MAC_BYTES);
        return eb_mac_is_device(b->stranger) ? EB_BOOTP_STRANGER : EB_BOOTP_NOTHING;
    }
    read_request(&r, message, size);
    switch (r.type) {
    case 0:
        answer(b, message, &r, 0);
        return EB_BOOTP_BOUND;
    case DISCOVER:
        answer(b, message, &r, OFFER);
        return EB_BOOTP_ASKED;
    case REQUEST:
        return take_request(b, message, &r);
    case INFORM:
        answer(b, message, &r, ACK);
        return EB_BOOTP_ASKED;
    case DECLINE:
        return EB_BOOTP_DECLINED;
    default:
        return EB_BOOTP_NOTHING;
    }
}
