#include "session/wire.h"
#include "ui/status.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SHOW_US = 100000 };

const char *const wire_heads[WIRE_COLUMNS] = {"NAME", "ADDRESS",       "MAC",     "PRODUCT", "ORDER CODE",
                                              "REV",  "SERIAL NUMBER", "VERSION", "HEARD BY"};

/* --- links --------------------------------------------------------------------------------------- */

static bool fail_link(struct wire *w, const char *name)
{
    char names[512] = "";
    for (size_t i = 0; i < w->all_count && strlen(names) < sizeof names - 32; i++)
        snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", i > 0 ? ", " : "",
                 w->all[i].name);
    complain("--link: found '%s', expected one of: %s", name, names);
    w->session->status = EXIT_WRONG_CALL;
    return false;
}

bool wire_open(struct wire *w, struct session *s)
{
    const char *name = s->options->link;
    memset(w, 0, sizeof *w);
    w->session = s;
    w->found = calloc(WIRE_FOUND_MAX, sizeof *w->found);
    w->probes = calloc(WIRE_PROBES_MAX, sizeof *w->probes);
    if (w->found == NULL || w->probes == NULL) {
        complain("out of memory");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    if (EB_PORT_HAS(s->job->port, links, list))
        w->all_count = s->job->port->links->list(s->job->port->self, w->all, EB_LINKS_MAX);
    for (size_t i = 0; i < w->all_count && w->count < EB_SURVEY_LINKS_MAX; i++) {
        const struct eb_link *l = &w->all[i];
        if (name != NULL ? strcmp(l->name, name) == 0 : l->kind == EB_LINK_WIRED && l->up && l->carrier)
            w->links[w->count++] = *l;
    }
    if (name != NULL && w->count == 0)
        return fail_link(w, name);
    return true;
}

static void show_so_far(struct wire *w, uint64_t began_us)
{
    uint64_t now_us = eb_port_now_us(w->session->job->port);
    if (w->session->sim != NULL || now_us < w->shown_us + SHOW_US)
        return;
    w->shown_us = now_us;
    status_line("Looking on the wire: %zu devices after %.1f s", w->survey.count,
                (double)(now_us - began_us) / 1e6);
}

void wire_begin(struct wire *w, bool keep_on)
{
    const struct session *s = w->session;
    const struct eb_survey_config config = {
        .port = s->job->port,
        .links = w->links,
        .link_count = w->count,
        .found = w->found,
        .cap = WIRE_FOUND_MAX,
        .probes = w->probes,
        .probe_count = WIRE_PROBES_MAX,
        .listen_us = s->options->listen_s * 1000000ULL,
        .keep_on = keep_on,
        .community = s->options->community,
    };
    eb_survey_begin(&w->survey, &config);
}

void wire_close(struct wire *w)
{
    free(w->found);
    free(w->probes);
}

/* --- rows and the site --------------------------------------------------------------------------- */

static bool is_target(const struct eb_found *f, const struct eb_job_device *t)
{
    const char *serial = eb_found_text(f, EB_FACT_SERIAL);
    if (!target_on_ip(t))
        return false;
    if (t->device->has_mac)
        return f->has_mac && memcmp(t->device->mac, f->mac, EB_MAC_BYTES) == 0;
    if (t->device->serial[0] != '\0' && strcmp(t->device->serial, serial) == 0)
        return true;
    return f->has_ip && memcmp(t->device->modbus.ip, f->ip, sizeof f->ip) == 0;
}

const struct eb_job_device *wire_target(const struct wire *w, const struct eb_found *f)
{
    for (size_t i = 0; i < w->session->job->count; i++) {
        if (is_target(f, &w->session->job->devices[i]))
            return &w->session->job->devices[i];
    }
    return NULL;
}

const struct eb_found *wire_found(const struct wire *w, const struct eb_job_device *t)
{
    for (size_t i = 0; i < w->survey.count; i++) {
        if (is_target(&w->found[i], t))
            return &w->found[i];
    }
    return NULL;
}

/* Whether --listen may bring something: a device of the site that was not heard yet, or the address of one
 * that was.  Without a site any wire may have one more. */
static bool misses(const struct wire *w)
{
    const struct eb_job *job = w->session->job;
    for (size_t i = 0; i < job->count; i++) {
        if (target_on_ip(&job->devices[i]) && wire_found(w, &job->devices[i]) == NULL)
            return true;
    }
    for (size_t i = 0; i < w->survey.count; i++) {
        if (!w->found[i].has_ip && !w->found[i].asks && (w->found[i].heard >> EB_BY_DCP & 1) == 0)
            return true;
    }
    return job->count == 0;
}

bool wire_look(struct wire *w)
{
    struct session *s = w->session;
    uint64_t began_us = eb_port_now_us(s->job->port);
    wire_begin(w, false);
    while (session_interrupts() == 0 && eb_survey_work(&w->survey, EB_NEVER)) {
        show_so_far(w, began_us);
        if (s->options->listen_s > 0 && !misses(w))
            eb_survey_enough(&w->survey);
    }
    status_end();
    eb_survey_end(&w->survey);
    w->took_us = eb_port_now_us(s->job->port) - began_us;
    if (session_interrupts() == 0)
        return true;
    complain("interrupted; nothing was changed");
    s->status = EXIT_INTERRUPTED;
    return false;
}

struct eb_way wire_way(const struct wire *w, const struct eb_found *f)
{
    struct eb_link_address device = {.prefix = f->has_mask ? f->prefix : 24};
    uint8_t(*taken)[4] = calloc(w->survey.count + 1, sizeof *taken);
    size_t count = 0;
    memcpy(device.ip, f->ip, sizeof device.ip);
    for (size_t i = 0; taken != NULL && i < w->survey.count; i++) {
        if (w->found[i].has_ip)
            memcpy(taken[count++], w->found[i].ip, sizeof taken[0]);
    }
    struct eb_way way =
        eb_way_to(&w->links[f->link], 1, &device, (const uint8_t(*)[4])taken, taken != NULL ? count : 0);
    free(taken);
    return way;
}

/* --- as text ------------------------------------------------------------------------------------- */

void address_text(const struct eb_link_address *address, char *text, size_t cap)
{
    struct eb_endpoint endpoint = {.port = 0};
    char ip[EB_ENDPOINT_TEXT_BYTES];
    memcpy(endpoint.ip, address->ip, sizeof endpoint.ip);
    eb_endpoint_text(&endpoint, false, ip);
    snprintf(text, cap, "%s/%u", ip, address->prefix);
}

void ip_text(const uint8_t ip[4], char text[EB_ENDPOINT_TEXT_BYTES])
{
    struct eb_endpoint endpoint = {.port = 0};
    memcpy(endpoint.ip, ip, sizeof endpoint.ip);
    eb_endpoint_text(&endpoint, false, text);
}

static void heard_text(const struct eb_found *f, char *text, size_t cap)
{
    static const char *const words[] = {"arp", "dhcp", "lldp", "dcp", "cip", "dns-sd", "snmp", "modbus"};
    text[0] = '\0';
    for (unsigned i = 0; i < EB_PROTOCOLS; i++) {
        /* That it answers to ARP says nothing where it answers to more. */
        if ((f->heard >> i & 1) != 0 && (i != EB_BY_ARP || f->heard == 1U << EB_BY_ARP))
            snprintf(text + strlen(text), cap - strlen(text), "%s%s", text[0] != '\0' ? " " : "", words[i]);
    }
}

void wire_cells(const struct wire *w, const struct eb_found *f, char cells[WIRE_COLUMNS][WIRE_CELL_BYTES])
{
    static const enum eb_fact_kind kinds[] = {EB_FACT_PRODUCT, EB_FACT_ORDER_CODE, EB_FACT_HARDWARE_REVISION,
                                              EB_FACT_SERIAL, EB_FACT_VERSION};
    const struct eb_job_device *t = wire_target(w, f);
    char ip[EB_ENDPOINT_TEXT_BYTES];
    char mac[EB_MAC_TEXT_BYTES];
    memset(cells, 0, WIRE_COLUMNS * WIRE_CELL_BYTES);
    snprintf(cells[0], WIRE_CELL_BYTES, "%s", t != NULL ? t->device->name : eb_found_text(f, EB_FACT_NAME));
    ip_text(f->ip, ip);
    snprintf(cells[1], WIRE_CELL_BYTES, "%s", f->has_ip ? ip : "none");
    eb_mac_text(f->mac, mac);
    snprintf(cells[2], WIRE_CELL_BYTES, "%s", f->has_mac ? mac : "");
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0]; i++)
        snprintf(cells[3 + i], WIRE_CELL_BYTES, "%.40s", eb_found_text(f, kinds[i]));
    if (cells[3][0] == '\0')
        snprintf(cells[3], WIRE_CELL_BYTES, "%.40s", eb_found_text(f, EB_FACT_DESCRIPTION));
    if (cells[3][0] == '\0')
        snprintf(cells[3], WIRE_CELL_BYTES, "%.40s", eb_found_text(f, EB_FACT_SERVICE));
    heard_text(f, cells[8], WIRE_CELL_BYTES);
}

/* How a row is called in a sentence. */
static const char *called(const struct wire *w, const struct eb_found *f, char text[96])
{
    char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
    wire_cells(w, f, cells);
    snprintf(text, 96, "%s", cells[0][0] != '\0' ? cells[0] : f->has_ip ? cells[1] : cells[2]);
    return text;
}

static int by_address(const void *a, const void *b)
{
    const struct eb_found *const *x = a;
    const struct eb_found *const *y = b;
    if ((*x)->has_ip != (*y)->has_ip)
        return (*x)->has_ip ? -1 : 1;
    int order = memcmp((*x)->ip, (*y)->ip, sizeof(*x)->ip);
    return order != 0 ? order : memcmp((*x)->mac, (*y)->mac, sizeof(*x)->mac);
}

const struct eb_found *const *wire_order(const struct wire *w)
{
    static const struct eb_found *order[WIRE_FOUND_MAX];
    for (size_t i = 0; i < w->survey.count; i++)
        order[i] = &w->found[i];
    qsort(order, w->survey.count, sizeof order[0], by_address);
    return order;
}

static void print_table(const struct wire *w)
{
    struct table table;
    const struct eb_found *const *order = wire_order(w);
    table_begin(&table, WIRE_COLUMNS, wire_heads);
    for (size_t i = 0; i < w->survey.count; i++) {
        char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
        const char *line[WIRE_COLUMNS];
        if (wire_target(w, order[i]) != NULL)
            continue;
        wire_cells(w, order[i], cells);
        for (size_t c = 0; c < WIRE_COLUMNS; c++)
            line[c] = cells[c];
        table_add(&table, line);
    }
    table_print(&table);
}

static void print_contradictions(const struct eb_found *f, const char *name)
{

    for (unsigned kind = 0; kind < EB_FACT_KINDS; kind++) {
        const struct eb_fact *one;
        const struct eb_fact *other;
        if (eb_found_disagree(f, (enum eb_fact_kind)kind, &one, &other))
            say("%s: %s: found %s by %s and %s by %s, expected the same", name,
                eb_fact_word((enum eb_fact_kind)kind), one->text, eb_protocol_word((enum eb_protocol)one->by),
                other->text, eb_protocol_word((enum eb_protocol)other->by));
    }
}

/* What is to be done about one device, in sentences. */
static void print_remarks(const struct wire *w, const struct eb_found *f)
{
    char name[96];
    char ip[EB_ENDPOINT_TEXT_BYTES];
    char mac[EB_MAC_TEXT_BYTES];
    const struct eb_job_device *t = wire_target(w, f);
    called(w, f, name);
    ip_text(f->ip, ip);
    eb_mac_text(f->mac, mac);
    if (f->shared_ip)
        say("%s (%s): another device answers to %s too: give one of them another address before anything is "
            "written",
            name, mac, ip);
    if (f->several)
        say("%s: several devices seem to have the hardware address %s: their details may be mixed up", name,
            mac);
    if (f->asks)
        say("%s asks for an address by %s, and no server here gives it one. Where it speaks PROFINET DCP, "
            "'einbau set %s address=...' does",
            f->has_mac ? mac : name, f->bootp ? "BOOTP, as loaders do" : "DHCP", mac);
    else if (!f->has_ip && (f->heard >> EB_BY_DCP & 1) == 0)
        say("%s: no address of it was heard; --listen 35 waits for what is announced every half minute",
            name);
    else if (!f->has_ip)
        say("%s has no address: 'einbau set %s address=... mask=...' gives it one", name, mac);
    else if (f->dhcp)
        say("%s has its address from DHCP, which may change: 'einbau set %s dhcp=off' fixes it", name,
            t != NULL    ? t->device->name
            : f->has_mac ? mac
                         : ip);
    if (t != NULL && f->has_ip && memcmp(t->device->modbus.ip, f->ip, 4) != 0) {
        char wanted[EB_ENDPOINT_TEXT_BYTES];
        eb_endpoint_text(&t->device->modbus, false, wanted);
        say("%s: found at %s, expected at %s as the site says: set its address, or change the site", name, ip,
            wanted);
    }
    for (size_t i = 0; t == NULL && i < w->session->job->count; i++) {
        const struct eb_site_device *d = w->session->job->devices[i].device;
        char wanted[EB_ENDPOINT_TEXT_BYTES];
        eb_endpoint_text(&d->modbus, false, wanted);
        if (strcmp(name, d->name) == 0)
            say("%s: a device that calls itself so was found at %s, expected at %s as the site says: set its "
                "address, or change the site",
                name, f->has_ip ? ip : mac, wanted);
    }
    if (f->has_ip && !f->ours_to_ask) {
        struct eb_way way = wire_way(w, f);
        char add[32];
        address_text(&way.add, add, sizeof add);
        if (way.kind == EB_WAY_ADD)
            say("%s: %s is not in a subnet of %s: to reach it, sudo ip address add %s dev %s", name, ip,
                w->links[f->link].name, add, w->links[f->link].name);
    }
    print_contradictions(f, name);
}

static void print_limits(const struct wire *w)
{
    const struct eb_survey *v = &w->survey;
    bool denied = false;
    for (size_t i = 0; i < w->count; i++) {
        denied = denied || eb_survey_denied(v, i);
        if (eb_survey_too_large(v, i))
            say("%s: a subnet of it has more than 1022 addresses and was only listened to; what answers to "
                "everybody was found",
                w->links[i].name);
        if (w->links[i].count == 0)
            say("%s has no IPv4 address: only what needs none was found. 'einbau links' says which to add",
                w->links[i].name);
    }
    if (denied)
        say("Raw Ethernet frames need a permission that this user does not have: devices that speak only "
            "PROFINET DCP or LLDP, or have no address, stay unseen. To grant it once: sudo setcap "
            "cap_net_raw+ep \"$(command -v einbau)\"");
    if (v->left_out > 0)
        say("Found more devices than the %d that there is room for: look on one link at a time, with --link",
            WIRE_FOUND_MAX);
}

void wire_print(const struct wire *w)
{
    size_t strangers = 0;
    char links[160] = "";
    for (size_t i = 0; i < w->count; i++)
        snprintf(links + strlen(links), sizeof links - strlen(links), "%s%s", i > 0 ? ", " : "",
                 w->links[i].name);
    for (size_t i = 0; i < w->survey.count; i++)
        strangers += wire_target(w, &w->found[i]) == NULL;
    if (w->count == 0) {
        puts("No wired link has a carrier: check the cable; 'einbau links' lists them.");
        return;
    }
    say("On %s: %zu device%s%s, looked for %.1f s with %llu frames", links, strangers,
        strangers == 1 ? "" : "s", w->session->job->site != NULL ? " beside those of the site" : "",
        (double)w->took_us / 1e6, (unsigned long long)eb_survey_sent(&w->survey));
    if (strangers > 0) {
        puts("");
        print_table(w);
    }
    puts("");
    const struct eb_found *const *order = wire_order(w);
    for (size_t i = 0; i < w->survey.count; i++)
        print_remarks(w, order[i]);
    print_limits(w);
}

/* --- as a document ------------------------------------------------------------------------------- */

static json_t *facts_document(const struct eb_found *f)
{
    json_t *facts = json_array();
    for (size_t i = 0; i < f->count; i++)
        json_array_append_new(facts, json_pack("{s:s, s:s, s:s}", "what",
                                               eb_fact_word((enum eb_fact_kind)f->facts[i].kind), "by",
                                               eb_protocol_word((enum eb_protocol)f->facts[i].by), "text",
                                               f->facts[i].text));
    return facts;
}

static json_t *found_document(const struct wire *w, const struct eb_found *f)
{
    char ip[EB_ENDPOINT_TEXT_BYTES];
    char mac[EB_MAC_TEXT_BYTES];
    char heard[WIRE_CELL_BYTES];
    const struct eb_job_device *t = wire_target(w, f);
    ip_text(f->ip, ip);
    eb_mac_text(f->mac, mac);
    heard_text(f, heard, sizeof heard);
    return json_pack("{s:o, s:s, s:o, s:o, s:s, s:b, s:b, s:b, s:b, s:o}", "device",
                     t != NULL ? json_string(t->device->name) : json_null(), "link", w->links[f->link].name,
                     "address", f->has_ip ? json_string(ip) : json_null(), "mac",
                     f->has_mac ? json_string(mac) : json_null(), "heard_by", heard, "from_dhcp", f->dhcp,
                     "asks_for_address", f->asks, "address_shared", f->shared_ip, "in_subnet", f->ours_to_ask,
                     "facts", facts_document(f));
}

json_t *wire_document(const struct wire *w)
{
    json_t *links = json_array();
    json_t *found = json_array();
    for (size_t i = 0; i < w->count; i++)
        json_array_append_new(links, json_pack("{s:s, s:b, s:b}", "name", w->links[i].name, "raw_frames",
                                               !eb_survey_denied(&w->survey, i), "swept",
                                               w->links[i].count > 0 && !eb_survey_too_large(&w->survey, i)));
    for (size_t i = 0; i < w->survey.count; i++)
        json_array_append_new(found, found_document(w, &w->found[i]));
    return json_pack("{s:o, s:f, s:I, s:I, s:o}", "looked_on", links, "seconds", (double)w->took_us / 1e6,
                     "frames_sent", (json_int_t)eb_survey_sent(&w->survey), "stray_answers",
                     (json_int_t)w->survey.strays, "found", found);
}

/* --- asking -------------------------------------------------------------------------------------- */

void requests_work(const struct eb_port *port, struct eb_request *requests, size_t count)
{
    for (size_t going = count; going > 0;) {
        uint64_t now_us = eb_port_now_us(port);
        uint64_t next_us = EB_NEVER;
        going = 0;
        for (size_t i = 0; i < count; i++) {
            if (eb_request_poll(&requests[i], now_us) != EB_PENDING)
                continue;
            going++;
            if (eb_request_deadline_us(&requests[i]) < next_us)
                next_us = eb_request_deadline_us(&requests[i]);
        }
        if (going > 0)
            eb_port_wait(port, next_us);
    }
}
