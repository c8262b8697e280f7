/* The simulated device's DNS-SD over multicast: one service with its text record (RFC 6762, 6763). */
#include "server.h"

#include <stdio.h>
#include <string.h>

#include "base/bytes.h"

enum {
    MESSAGE_BYTES = 1400,
    CLASS_IN = 1,
    CLASS_UNICAST = 0x8000,
    CLASS_FLUSH = 0x8000,
    RESPONSE = 0x8400,
    TTL_HOST_S = 120,
    TTL_OTHER_S = 4500,
    TTL_ONE_SHOT_S = 10 /* RFC 6762 section 6.7 */
};

struct message {
    uint8_t bytes[MESSAGE_BYTES];
    size_t size;
    bool one_shot;
};

static void put(struct message *m, const void *bytes, size_t size)
{
    if (m->size + size <= sizeof m->bytes) {
        memcpy(m->bytes + m->size, bytes, size);
        m->size += size;
    }
}

static void put_number(struct message *m, uint16_t number)
{
    uint8_t bytes[2];
    ebi_put16(bytes, number);
    put(m, bytes, 2);
}

static void put_label(struct message *m, const char *label, size_t size)
{
    const uint8_t length = (uint8_t)size;
    put(m, &length, 1);
    put(m, label, size);
}

/* "_pa._tcp.local" as labels, `first` before it as one label where there is one. */
static void put_name(struct message *m, const char *first, const char *name)
{
    if (first != NULL)
        put_label(m, first, strlen(first));
    while (*name != '\0') {
        size_t size = strcspn(name, ".");
        put_label(m, name, size);
        name += size + (name[size] == '.');
    }
    put(m, "", 1);
}

/* The head of a record; gives where its length stands. */
static size_t put_record(struct message *m, uint16_t type, bool unique, uint32_t ttl_s)
{
    uint32_t ttl = m->one_shot ? TTL_ONE_SHOT_S : ttl_s;
    put_number(m, type);
    put_number(m, CLASS_IN | (unique && !m->one_shot ? CLASS_FLUSH : 0));
    put_number(m, (uint16_t)(ttl >> 16));
    put_number(m, (uint16_t)ttl);
    put_number(m, 0);
    return m->size - 2;
}

static void end_record(struct message *m, size_t length_at)
{
    ebi_put16(m->bytes + length_at, (uint16_t)(m->size - length_at - 2));
}

/* "firmware={firmware}" with the component's version in the place of its name. */
static void fill_text(const struct ebi_sim_device *d, const char *text, char *to, size_t cap)
{
    const char *open = strchr(text, '{');
    const char *close = open != NULL ? strchr(open, '}') : NULL;
    const char *version = "";
    if (close == NULL) {
        snprintf(to, cap, "%s", text);
        return;
    }
    for (size_t i = 0; i < d->count; i++) {
        if (strlen(d->components[i].name) == (size_t)(close - open - 1) &&
            memcmp(d->components[i].name, open + 1, (size_t)(close - open - 1)) == 0)
            version = ebi_sim_device_version(d, i);
    }
    snprintf(to, cap, "%.*s%s%s", (int)(open - text), text, version, close + 1);
}

/* --- records ------------------------------------------------------------------------------------- */

struct names {
    char instance[64], service[80], host[80];
};

static void put_services(struct message *m, const struct names *n)
{
    put_name(m, NULL, "_services._dns-sd._udp.local");
    size_t at = put_record(m, 12, false, TTL_OTHER_S);
    put_name(m, NULL, n->service);
    end_record(m, at);
}

static void put_instance(struct message *m, const struct names *n)
{
    put_name(m, NULL, n->service);
    size_t at = put_record(m, 12, false, TTL_OTHER_S);
    put_name(m, n->instance, n->service);
    end_record(m, at);
}

static void put_server(struct message *m, const struct names *n)
{
    put_name(m, n->instance, n->service);
    size_t at = put_record(m, 33, true, TTL_HOST_S);
    put_number(m, 0);
    put_number(m, 0);
    put_number(m, 80);
    put_name(m, NULL, n->host);
    end_record(m, at);
}

static void put_texts(struct message *m, const struct ebi_sim_device *d, const struct names *n)
{
    char text[128];
    put_name(m, n->instance, n->service);
    size_t at = put_record(m, 16, true, TTL_OTHER_S);
    for (size_t i = 0; i < EBI_SIM_DNS_TEXTS_MAX && d->dns_texts[i][0] != '\0'; i++) {
        fill_text(d, d->dns_texts[i], text, sizeof text);
        put_label(m, text, strlen(text));
    }
    if (d->dns_texts[0][0] == '\0')
        put(m, "", 1);
    end_record(m, at);
}

static void put_address(struct message *m, const struct ebi_sim_device *d, const struct names *n)
{
    put_name(m, NULL, n->host);
    size_t at = put_record(m, 1, true, TTL_HOST_S);
    put(m, d->set.ip, 4);
    end_record(m, at);
}

/* --- questions ----------------------------------------------------------------------------------- */

/* A question's name as text, lower case, without compression: questions have nothing to point to.  Gives
 * where it ends, 0 for none. */
static size_t read_question(const uint8_t *bytes, size_t size, size_t at, char *name, size_t cap)
{
    size_t n = 0;
    while (at < size && bytes[at] != 0) {
        size_t length = bytes[at++];
        if (length > 63 || at + length > size || n + length + 2 > cap)
            return 0;
        if (n > 0)
            name[n++] = '.';
        for (size_t i = 0; i < length; i++, at++)
            name[n++] = (char)(bytes[at] >= 'A' && bytes[at] <= 'Z' ? bytes[at] + 32 : bytes[at]);
    }
    name[n] = '\0';
    return at < size ? at + 1 : 0;
}

static void lower(char *text)
{
    for (; *text != '\0'; text++) {
        if (*text >= 'A' && *text <= 'Z')
            *text = (char)(*text + 32);
    }
}

static bool wanted(uint16_t type, uint16_t record)
{
    return type == record || type == 255;
}

/* Puts the answers to one question; gives how many. */
static unsigned answer(struct message *m, const struct ebi_sim_device *d, const struct names *n,
                       const char *name, uint16_t type, unsigned *additional)
{
    char whole[160];
    snprintf(whole, sizeof whole, "%s.%s", n->instance, n->service);
    lower(whole);
    if (strcmp(name, "_services._dns-sd._udp.local") == 0 && wanted(type, 12)) {
        put_services(m, n);
        return 1;
    }
    if (strcmp(name, n->service) == 0 && wanted(type, 12)) {
        put_instance(m, n);
        put_server(m, n);
        put_texts(m, d, n);
        put_address(m, d, n);
        *additional += 3;
        return 1;
    }
    unsigned count = 0;
    if (strcmp(name, whole) == 0 && wanted(type, 33)) {
        put_server(m, n);
        count++;
    }
    if (strcmp(name, whole) == 0 && wanted(type, 16)) {
        put_texts(m, d, n);
        count++;
    }
    if (strcmp(name, n->host) == 0 && wanted(type, 1)) {
        put_address(m, d, n);
        count++;
    }
    return count;
}

static void datagram(struct ebi_sim_device *d, int handle, const struct eb_endpoint *from,
                     const uint8_t *bytes, size_t size)
{
    (void)handle;
    struct names n;
    if (size < 12 || (ebi_get16(bytes + 2) & 0x8000) != 0 || !ebi_sim_device_has_ip(d))
        return;
    snprintf(n.instance, sizeof n.instance, "%.63s", d->set.name[0] != '\0' ? d->set.name : d->name);
    snprintf(n.service, sizeof n.service, "%s.local", d->service);
    snprintf(n.host, sizeof n.host, "%s.local", d->name);
    lower(n.host);
    unsigned questions = ebi_get16(bytes + 4);
    size_t at = 12;
    bool one_shot = from->port != EB_DNS_SD_PORT;
    bool unicast = one_shot;
    /* Each question is answered in a message of its own. */
    for (; questions > 0; questions--) {
        char name[256];
        size_t start = at;
        at = read_question(bytes, size, at, name, sizeof name);
        if (at == 0 || at + 4 > size)
            return;
        uint16_t type = ebi_get16(bytes + at);
        unicast = one_shot || (ebi_get16(bytes + at + 2) & CLASS_UNICAST) != 0;
        at += 4;
        struct message m = {.size = 12, .one_shot = one_shot};
        if (one_shot)
            put(&m, bytes + start, at - start);
        unsigned additional = 0;
        unsigned answers = answer(&m, d, &n, name, type, &additional);
        if (answers == 0)
            continue;
        ebi_put16(m.bytes, one_shot ? ebi_get16(bytes) : 0);
        ebi_put16(m.bytes + 2, RESPONSE);
        ebi_put16(m.bytes + 4, one_shot ? 1 : 0);
        ebi_put16(m.bytes + 6, (uint16_t)answers);
        ebi_put16(m.bytes + 10, (uint16_t)additional);
        const struct eb_endpoint group = {{224, 0, 0, 251}, EB_DNS_SD_PORT};
        d->net->udp_send_from(d->net->self, d, EB_DNS_SD_PORT, unicast ? from : &group, m.bytes, m.size);
    }
}

static uint16_t port(const struct ebi_sim_device *d, bool tcp)
{
    (void)d;
    return tcp ? 0 : EB_DNS_SD_PORT;
}

const struct ebi_sim_server ebi_sim_dns_sd = {.word = "dns-sd", .port = port, .datagram = datagram};
