#include "cmd/survey_into.h"
#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SERIAL_PATIENCE_US = 1000000 };

/* What is entered. */
struct into {
    struct session *session;
    const struct eb_site *site;
    const struct eb_profile *profiles;
    size_t profile_count;
    struct eb_site_entry *entries;
    const struct eb_profile **chosen; /* the profile of each */
    size_t count;
};

/* The profile that covers the order code that the device said. */
static const struct eb_profile *profile_for(const struct eb_profile *profiles, size_t count,
                                            const struct eb_found *f)
{
    for (size_t i = 0; i < count; i++) {
        for (size_t k = 0; k < f->count; k++) {
            bool code = f->facts[k].kind == EB_FACT_ORDER_CODE || f->facts[k].kind == EB_FACT_PRODUCT;
            const char *text = f->facts[k].text;
            if (f->facts[k].kind == EB_FACT_TEXT && strchr(text, '=') != NULL) {
                code = true; /* of DNS-SD: only the profile knows which key it is */
                text = strchr(text, '=') + 1;
            }
            if (code && eb_profile_covers(&profiles[i], text))
                return &profiles[i];
        }
    }
    return NULL;
}

/* A name that the site has not yet: what the device is called, else what it is and where. */
static void entry_name(const struct into *into, const char *told, const struct eb_profile *profile,
                       const char *where, char name[EB_NAME_BYTES])
{
    char base[EB_NAME_BYTES];
    bool plain = told[0] != '\0';
    for (const char *c = told; *c != '\0'; c++)
        plain = plain && ((*c >= 'a' && *c <= 'z') || (*c >= 'A' && *c <= 'Z') || (*c >= '0' && *c <= '9') ||
                          *c == '-' || *c == '_');
    if (plain)
        snprintf(base, sizeof base, "%.40s", told);
    else
        snprintf(base, sizeof base, "%.28s-%.11s", profile->name, where);
    for (unsigned i = 1;; i++) {
        bool taken = false;
        snprintf(name, EB_NAME_BYTES, i == 1 ? "%.40s" : "%.40s-%u", base, i);
        for (size_t k = 0; k < into->count; k++)
            taken = taken || strcmp(into->entries[k].name, name) == 0;
        if (!taken && eb_site_device(into->site, name) == NULL)
            return;
    }
}

static bool on_site(const struct eb_site *site, const struct eb_found *f)
{
    for (size_t i = 0; i < site->device_count; i++) {
        const struct eb_site_device *d = &site->devices[i];
        if ((d->has_mac && f->has_mac && memcmp(d->mac, f->mac, EB_MAC_BYTES) == 0) ||
            (f->has_ip && memcmp(d->modbus.ip, f->ip, 4) == 0))
            return true;
    }
    return false;
}

/* Asks each new device for its serial number as its profile says; one that does not tell is entered without.
 */
static void ask_serials(const struct session *s, struct eb_site_entry *entries, size_t count,
                        const struct eb_profile *const *profiles)
{
    struct eb_run *runs = calloc(count + 1, sizeof *runs);
    struct eb_crew_place *places = calloc(count + 1, sizeof *places);
    size_t words = 1;
    for (size_t i = 0; i < count; i++) {
        size_t needed = eb_run_memory_bytes(profiles[i]) / sizeof(uint64_t);
        words = needed > words ? needed : words;
    }
    uint64_t *memory = calloc(count + 1, words * sizeof *memory);
    struct eb_crew crew;
    eb_crew_init(&crew, s->job->port, places, count);
    for (size_t i = 0; runs != NULL && places != NULL && memory != NULL && i < count; i++) {
        struct eb_run_config config = {
            .port = s->job->port,
            .profile = profiles[i],
            .memory = memory + i * words,
            .memory_bytes = words * sizeof *memory,
            .target = {.modbus = {.port = EB_MODBUS_PORT}, .unit = EB_MODBUS_UNIT_SELF},
            .reach_patience_us = SERIAL_PATIENCE_US};
        memcpy(config.target.modbus.ip, entries[i].address.ip, sizeof config.target.modbus.ip);
        if (eb_run_init(&runs[i], &config) == EB_OK && eb_crew_add(&crew, &runs[i]) != EB_OK)
            eb_run_abandon(&runs[i]);
    }
    while (crew.going > 0 && session_interrupts() == 0)
        eb_crew_work(&crew, eb_port_now_us(s->job->port) + SERIAL_PATIENCE_US);
    eb_crew_abandon(&crew);
    for (size_t i = 0; runs != NULL && places != NULL && memory != NULL && i < count; i++)
        snprintf(entries[i].serial, sizeof entries[i].serial, "%s", runs[i].identity.serial);
    free(runs);
    free(places);
    free(memory);
}

/* The link on which new devices are: that of the first one on Ethernet, else the first such link; NULL: none.
 */
static const char *ethernet_of(const struct eb_site *site)
{
    for (size_t i = 0; i < site->device_count; i++) {
        if (site->devices[i].wire->kind == EB_SITE_ETHERNET)
            return site->devices[i].link;
    }
    for (size_t i = 0; i < site->link_count; i++) {
        if (site->links[i].kind == EB_SITE_ETHERNET)
            return site->links[i].name;
    }
    return NULL;
}

/* Room for one more, and its profile. */
static struct eb_site_entry *new_entry(struct into *into, const struct eb_profile *profile, const char *link,
                                       const char *told, const char *where)
{
    struct eb_site_entry *more = realloc(into->entries, (into->count + 1) * sizeof *more);
    const struct eb_profile **profiles = realloc(into->chosen, (into->count + 1) * sizeof *profiles);
    if (more == NULL || profiles == NULL)
        abort();
    into->entries = more;
    into->chosen = profiles;
    struct eb_site_entry *e = &more[into->count];
    memset(e, 0, sizeof *e);
    snprintf(e->link, sizeof e->link, "%s", link);
    snprintf(e->profile, sizeof e->profile, "%s", profile->name);
    entry_name(into, told, profile, where, e->name);
    profiles[into->count++] = profile;
    return e;
}

static void enter_ethernet(struct into *into, const struct wire *w)
{
    const char *link = ethernet_of(into->site);
    for (size_t i = 0; i < w->survey.count; i++) {
        const struct eb_found *f = &w->found[i];
        const struct eb_profile *p = profile_for(into->profiles, into->profile_count, f);
        char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
        char where[12];
        if (on_site(into->site, f))
            continue;
        wire_cells(w, f, cells);
        if (p == NULL || !f->has_ip || link == NULL) {
            say("not added: %s %s: %s", f->has_ip ? cells[1] : cells[2], cells[3],
                p == NULL ? "found no profile for what it says of itself, expected one in the site's folder "
                            "of profiles"
                : !f->has_ip ? "it has no address yet"
                             : "the site has no link of kind ethernet");
            continue;
        }
        snprintf(where, sizeof where, "%u", f->ip[3]);
        struct eb_site_entry *e = new_entry(into, p, link, eb_found_text(f, EB_FACT_NAME), where);
        e->on = EB_SITE_ETHERNET;
        e->address.prefix = f->has_mask ? f->prefix : 24;
        memcpy(e->address.ip, f->ip, sizeof e->address.ip);
        e->has_mac = f->has_mac;
        memcpy(e->mac, f->mac, sizeof e->mac);
    }
    ask_serials(into->session, into->entries, into->count, into->chosen);
}

/* The profile on this kind of wire that covers an order code. */
static const struct eb_profile *profile_covering(const struct into *into, enum eb_wire wire, const char *code)
{
    for (size_t i = 0; i < into->profile_count && code[0] != '\0'; i++) {
        if (eb_profile_wire(&into->profiles[i]) == wire && eb_profile_covers(&into->profiles[i], code))
            return &into->profiles[i];
    }
    return NULL;
}

/* Through which device all others of this link are reached; empty: through none, or not all through the same.
 */
static const char *way_to(const struct eb_site *site, const struct eb_site_link *wire)
{
    const char *via = NULL;
    for (size_t i = 0; i < site->device_count; i++) {
        const struct eb_site_device *d = &site->devices[i];
        const char *own = d->via != NULL ? d->via->name : "";
        if (d->wire == wire && via != NULL && strcmp(via, own) != 0)
            return "";
        if (d->wire == wire)
            via = own;
    }
    return via != NULL ? via : "";
}

static bool node_on_site(const struct into *into, const struct eb_site_link *wire, unsigned node,
                         const struct eb_isotp_config *unit)
{
    for (size_t i = 0; i < into->site->device_count; i++) {
        const struct eb_site_device *d = &into->site->devices[i];
        if (d->wire == wire && (unit == NULL ? d->node == node
                                             : d->node == 0 && d->isotp.request == unit->request &&
                                                   d->isotp.extended_ids == unit->extended_ids))
            return true;
    }
    return false;
}

/* A node, or a unit, of a bus. */
static void enter_node(struct into *into, const struct bus *b, const struct eb_node *n, unsigned id,
                       const struct eb_isotp_config *unit)
{
    const char *code = n->texts[EB_NODE_NAME];
    char where[24];
    snprintf(where, sizeof where, unit != NULL ? "%X" : "%u", unit != NULL ? unit->request : id);
    if (!n->answered || node_on_site(into, b->wire, id, unit))
        return;
    const struct eb_profile *p = profile_covering(into, EB_WIRE_CAN, code);
    if (p == NULL || n->twice) {
        say("not added: %s %s on %s, %s: %s", unit != NULL ? "unit" : "node", where, b->wire->name,
            code[0] != '\0' ? code : "which does not say what it is",
            n->twice ? "two nodes have this id"
                     : "found no profile for it, expected one in the site's folder of profiles");
        return;
    }
    struct eb_site_entry *e = new_entry(into, p, b->wire->name, "", where);
    e->on = EB_SITE_CAN;
    e->node = unit == NULL ? (uint8_t)id : 0;
    if (unit != NULL)
        e->unit = *unit;
    snprintf(e->via, sizeof e->via, "%s", way_to(into->site, b->wire));
    snprintf(e->serial, sizeof e->serial, "%s", n->texts[EB_NODE_SERIAL]);
}

static void enter_can(struct into *into, const struct buses *buses)
{
    for (size_t i = 0; i < buses->count; i++) {
        const struct bus *b = &buses->list[i];
        for (unsigned id = 1; id <= EB_NODES_MAX; id++)
            enter_node(into, b, &b->nodes.nodes[id], id, NULL);
        for (size_t k = b->nodes.config.unit_count; k < b->nodes.unit_count; k++)
            enter_node(into, b, &b->nodes.units[k], 0, &b->nodes.ways[k]);
    }
}

/* The name of a node: on the site, or as it was entered now; NULL: it has none. */
static const char *node_name(const struct into *into, const struct eb_site_link *wire, unsigned node)
{
    for (size_t i = 0; i < into->site->device_count; i++) {
        const struct eb_site_device *d = &into->site->devices[i];
        if (d->wire == wire && d->node == node)
            return d->name;
    }
    for (size_t i = 0; i < into->count; i++) {
        if (strcmp(into->entries[i].link, wire->name) == 0 && into->entries[i].node == node)
            return into->entries[i].name;
    }
    return NULL;
}

/* Members of networks, once all nodes have their names. */
static void enter_managers(struct into *into, const struct buses *buses)
{
    for (size_t i = 0; i < buses->count; i++) {
        const struct bus *b = &buses->list[i];
        for (size_t k = 0; k < into->count; k++) {
            struct eb_site_entry *e = &into->entries[k];
            unsigned manager = e->node != 0 && strcmp(e->link, b->wire->name) == 0 ? b->managers[e->node] : 0;
            const char *name = manager != 0 ? node_name(into, b->wire, manager) : NULL;
            if (manager != 0 && name == NULL)
                say("%s: node %u keeps its network, and is not on the site: it may reset the device while "
                    "that is written",
                    e->name, manager);
            e->managed = name != NULL;
            if (name != NULL)
                snprintf(e->via, sizeof e->via, "%s", name);
        }
    }
}

static bool usb_on_site(const struct eb_site *site, const struct eb_usb_device *d)
{
    for (size_t i = 0; i < site->device_count; i++) {
        const struct eb_site_device *known = &site->devices[i];
        if (known->wire->kind == EB_SITE_USB &&
            eb_usb_match(&known->profile->usb, known->serial, known->usb_place, d) >= EB_USB_PERHAPS)
            return true;
    }
    return false;
}

static void enter_usb(struct into *into, const struct usb *usb)
{
    const char *link = NULL;
    for (size_t i = 0; i < into->site->link_count; i++) {
        if (link == NULL && into->site->links[i].kind == EB_SITE_USB)
            link = into->site->links[i].name;
    }
    for (size_t i = 0; i < usb->count; i++) {
        const struct eb_usb_device *d = &usb->list[i];
        const struct eb_profile *p = NULL;
        struct eb_dfu_interface dfu;
        if (!eb_dfu_find(d, &dfu) || usb_on_site(into->site, d))
            continue;
        for (size_t k = 0; p == NULL && k < into->profile_count; k++) {
            if (eb_profile_wire(&into->profiles[k]) == EB_WIRE_USB &&
                eb_usb_match(&into->profiles[k].usb, "", "", d) >= EB_USB_PERHAPS)
                p = &into->profiles[k];
        }
        if (p == NULL || link == NULL || dfu.in_loader) {
            say("not added: %04x:%04x at %s, %s: %s", d->vendor, d->product, d->place, d->name,
                p == NULL
                    ? "found no profile with these numbers, expected one in the site's folder of profiles"
                : link == NULL ? "the site has no link of kind usb"
                               : "it is in its loader, where its serial number may be another one");
            continue;
        }
        struct eb_site_entry *e = new_entry(into, p, link, d->serial[0] != '\0' ? d->serial : "", d->place);
        e->on = EB_SITE_USB;
        if (d->serial[0] != '\0')
            snprintf(e->serial, sizeof e->serial, "%s", d->serial);
        else
            snprintf(e->place, sizeof e->place, "%s", d->place);
    }
}

static void print_entry(const struct eb_site_entry *e)
{
    char where[48];
    if (e->on == EB_SITE_ETHERNET)
        snprintf(where, sizeof where, "%u.%u.%u.%u", e->address.ip[0], e->address.ip[1], e->address.ip[2],
                 e->address.ip[3]);
    else if (e->on == EB_SITE_USB)
        snprintf(where, sizeof where, "on USB%s%.16s", e->place[0] != '\0' ? " at " : "", e->place);
    else if (e->node != 0)
        snprintf(where, sizeof where, "node %u", e->node);
    else
        snprintf(where, sizeof where, "%X/%X", e->unit.request, e->unit.response);
    say("added: %s, %s, profile %s%s%s%s%s", e->name, where, e->profile,
        e->serial[0] != '\0' ? ", serial number " : "", e->serial, e->managed ? ", managed by " : "",
        e->managed ? e->via : "");
}

int survey_into(struct session *s, const char *path, const struct wire *w, struct buses *buses,
                const struct usb *usb)
{
    struct eb_site *site = eb_site_read(path, &s->job->problem);
    if (site == NULL) {
        complain("%s", s->job->problem.text);
        return EXIT_WRONG_CALL;
    }
    struct into into = {.session = s, .site = site};
    struct eb_profile *profiles = eb_profiles_read(site->profiles_dir, &into.profile_count, &s->job->problem);
    if (s->job->problem.text[0] != '\0')
        complain("%s", s->job->problem.text);
    into.profiles = profiles;
    enter_ethernet(&into, w);
    if (!buses_look_at(s, buses, site)) {
        complain("interrupted; %s is as it was", path);
        eb_profiles_free(profiles, into.profile_count);
        eb_site_free(site);
        return EXIT_INTERRUPTED;
    }
    enter_can(&into, buses);
    enter_managers(&into, buses);
    enter_usb(&into, usb);
    bool ok = into.count == 0 || eb_site_add(path, into.entries, into.count, &s->job->problem);
    for (size_t i = 0; ok && i < into.count; i++)
        print_entry(&into.entries[i]);
    if (!ok)
        complain("%s", s->job->problem.text);
    else
        printf("%zu device%s added to %s\n", into.count, into.count == 1 ? "" : "s", path);
    free(into.entries);
    free(into.chosen);
    eb_profiles_free(profiles, into.profile_count);
    eb_site_free(site);
    return ok ? EXIT_AS_WANTED : EXIT_WRONG_CALL;
}
