#include "report/report.h"
#include "session/bus.h"
#include "session/usb.h"
#include "session/wire.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { TRAPS = 7 };

static struct eb_link_address address_of(const struct eb_job_device *t)
{
    struct eb_link_address address = {.prefix = t->device->prefix};
    memcpy(address.ip, t->device->modbus.ip, sizeof address.ip);
    return address;
}

/* --- as text ------------------------------------------------------------------------------------- */

static void print_links(const struct ways *f)
{
    static const char *const heads[] = {"LINK", "KIND", "STATE", "SPEED", "MTU", "ADDRESSES"};
    struct table table;
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < f->count; i++) {
        const struct eb_link *l = &f->links[i];
        char speed[24] = "";
        char state[24];
        char mtu[16];
        char addresses[EB_LINK_ADDRESSES_MAX * 24] = "";
        if (l->speed_mbit_per_s > 0)
            snprintf(speed, sizeof speed, "%u Mbit/s", l->speed_mbit_per_s);
        snprintf(mtu, sizeof mtu, "%u", l->mtu_bytes);
        snprintf(state, sizeof state, "%s", !l->up ? "off" : l->carrier ? "carrier" : "no carrier");
        if (l->carrier && l->quality_percent > 0)
            snprintf(state, sizeof state, "signal %u %%", l->quality_percent);
        for (size_t k = 0; k < l->count; k++) {
            size_t at = strlen(addresses);
            if (k > 0)
                addresses[at++] = ' ';
            address_text(&l->addresses[k], addresses + at, sizeof addresses - at);
        }
        const char *const cells[] = {l->name, eb_link_kind_word(l->kind), state, speed, mtu, addresses};
        table_add(&table, cells);
    }
    table_print(&table);
}

static void way_sentence(const struct ways *f, const struct eb_way *way, char *text)
{
    char add[32];
    const char *over = f->links[way->link].name;
    address_text(&way->add, add, sizeof add);
    switch (way->kind) {
    case EB_WAY_DIRECT:
        snprintf(text, SENTENCE_BYTES, "in one subnet with %s", over);
        break;
    case EB_WAY_ROUTED:
        snprintf(text, SENTENCE_BYTES,
                 "not in a subnet of the laptop: packets would leave by the default route of %s", over);
        break;
    case EB_WAY_ADD:
        snprintf(text, SENTENCE_BYTES, "not in a subnet of the laptop: %s needs an address like %s", over,
                 add);
        break;
    case EB_WAY_NONE:
        snprintf(text, SENTENCE_BYTES, "no link of the laptop can be used: switch a wired one on");
        break;
    }
}

/* Of a device on a CAN bus or on USB. */
static void other_way_text(const struct session *s, const struct eb_job_device *t, const struct buses *buses,
                           const struct usb *usb, char *text)
{
    if (t->device->wire->kind == EB_SITE_USB)
        usb_way_text(s, usb, t, text, SENTENCE_BYTES);
    else
        bus_way_text(buses, t, text, SENTENCE_BYTES);
}

static void print_ways(const struct session *s, const struct ways *f, const struct buses *buses,
                       const struct usb *usb)
{
    static const char *const heads[] = {"DEVICE", "ADDRESS", "WAY"};
    struct table table;
    table_begin(&table, 3, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        struct eb_link_address device = address_of(t);
        char address[32];
        char sentence[SENTENCE_BYTES];
        if (!t->chosen)
            continue;
        if (!target_on_ip(t)) {
            eb_site_place_text(t->device, address);
            other_way_text(s, t, buses, usb, sentence);
        } else {
            address_text(&device, address, sizeof address);
            way_sentence(f, &f->list[i], sentence);
        }
        const char *const cells[] = {t->device->name, address, sentence};
        table_add(&table, cells);
    }
    puts("");
    print_folded(s, &table, 1U << 1);
}

static void print_traps(const struct session *s, const struct ways *f)
{
    bool spaced = false;
    for (size_t i = 0; i < s->job->count; i++) {
        for (unsigned bit = 0; bit < TRAPS && s->job->devices[i].chosen; bit++) {
            if ((f->list[i].traps >> bit & 1) == 0)
                continue;
            if (!spaced)
                puts("");
            spaced = true;
            say("%s: %s", s->job->devices[i].device->name, eb_trap_text((enum eb_trap)(1U << bit)));
        }
    }
}

/* Each command once, however many devices it helps. */
static void print_commands(const struct session *s, const struct ways *f)
{
    bool any = false;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_way *way = &f->list[i];
        bool told = way->kind != EB_WAY_ADD || !s->job->devices[i].chosen;
        for (size_t k = 0; k < i && !told; k++)
            told = s->job->devices[k].chosen && f->list[k].kind == EB_WAY_ADD &&
                   f->list[k].link == way->link && memcmp(&f->list[k].add, &way->add, sizeof way->add) == 0;
        if (told)
            continue;
        char add[32];
        address_text(&way->add, add, sizeof add);
        if (!any)
            printf("\nTo reach them%s, or with --add-address:\n",
                   f->denied ? ", once no other device is known to have the address" : "");
        any = true;
        printf("  sudo ip address add %s dev %s\n", add, f->links[way->link].name);
    }
    if (f->denied)
        puts("");
    if (f->denied)
        say("Whether an address is free, or used twice, was not asked: raw Ethernet frames need a permission "
            "that this user does not have. To grant it once: sudo setcap cap_net_raw+ep \"$(command -v "
            "einbau)\"");
}

static bool overlap(const struct eb_link *a, const struct eb_link *b)
{
    for (size_t i = 0; i < a->count; i++) {
        for (size_t k = 0; k < b->count; k++) {
            if (eb_link_covers(&a->addresses[i], b->addresses[k].ip) ||
                eb_link_covers(&b->addresses[k], a->addresses[i].ip))
                return true;
        }
    }
    return false;
}

/* Packets for such a subnet leave by only one of the two, whichever the system likes. */
static void print_overlaps(const struct ways *f)
{
    for (size_t i = 0; i < f->count; i++) {
        for (size_t k = i + 1; k < f->count; k++) {
            if (!f->links[i].up || !f->links[k].up || !overlap(&f->links[i], &f->links[k]))
                continue;
            puts("");
            say("%s and %s are in one subnet: take the address away from the one that the devices are not on",
                f->links[i].name, f->links[k].name);
        }
    }
}

static void print_conflicts(const struct ways *f)
{
    for (size_t i = 0; i < f->conflict_count; i++) {
        const struct conflict *c = &f->conflicts[i];
        char mac[EB_MAC_TEXT_BYTES];
        char ip[32];
        struct eb_link_address address = {.prefix = 32};
        memcpy(address.ip, c->ip, sizeof address.ip);
        address_text(&address, ip, sizeof ip);
        ip[strcspn(ip, "/")] = '\0';
        eb_mac_text(c->mac, mac);
        puts("");
        say("%s: the device %s answers to the laptop's own address %s: give the laptop another one",
            f->links[c->link].name, mac, ip);
    }
}

/* --- as a document ------------------------------------------------------------------------------- */

static json_t *links_document(const struct ways *f)
{
    json_t *list = json_array();
    for (size_t i = 0; i < f->count; i++) {
        const struct eb_link *l = &f->links[i];
        json_t *addresses = json_array();
        for (size_t k = 0; k < l->count; k++) {
            char text[32];
            address_text(&l->addresses[k], text, sizeof text);
            json_array_append_new(addresses, json_string(text));
        }
        json_array_append_new(list, json_pack("{s:s, s:s, s:b, s:b, s:i, s:i, s:b, s:o}", "name", l->name,
                                              "kind", eb_link_kind_word(l->kind), "up", l->up, "carrier",
                                              l->carrier, "speed_mbit_per_s", (int)l->speed_mbit_per_s,
                                              "mtu_bytes", (int)l->mtu_bytes, "default_route",
                                              l->default_route, "addresses", addresses));
    }
    return list;
}

/* --- ports of a server for loaders ----------------------------------------------------------------- */

static const struct {
    uint16_t port;
    const char *what;
} loader_ports[] = {{67, "BOOTP and DHCP"}, {69, "TFTP"}};
enum { LOADER_PORTS = sizeof loader_ports / sizeof loader_ports[0] };

static bool any_pulls(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen &&
            eb_profile_way(s->job->devices[i].device->profile, &eb_access_pull) != NULL)
            return true;
    }
    return false;
}

/* Whether it may be opened now. */
static enum eb_status try_port(const struct session *s, uint16_t number)
{
    const struct eb_port *port = s->job->port;
    const struct eb_udp_options options = {.local_port = number, .exclusive = true};
    int handle;
    enum eb_status status = port->udp->open(port->self, NULL, &options, &handle);
    if (status == EB_OK)
        port->udp->close(port->self, handle);
    return status;
}

static const char *port_word(enum eb_status status)
{
    return status == EB_OK       ? "free"
           : status == EB_BUSY   ? "in use"
           : status == EB_DENIED ? "no permission"
                                 : "unknown";
}

static void print_loader_ports(const struct session *s)
{
    bool denied = false;
    bool busy = false;
    if (!any_pulls(s))
        return;
    puts("");
    for (size_t i = 0; i < LOADER_PORTS; i++) {
        enum eb_status status = try_port(s, loader_ports[i].port);
        say("Port %u, %s for loaders: %s", loader_ports[i].port, loader_ports[i].what, port_word(status));
        denied = denied || status == EB_DENIED;
        busy = busy || status == EB_BUSY;
    }
    if (denied)
        say("To grant it once: sudo setcap cap_net_bind_service,cap_net_raw+ep \"$(command -v einbau)\"");
    if (busy)
        say("Another program of this laptop has the port: end it before a loader is to pull its image.");
}

static bool loader_ports_free(const struct session *s)
{
    for (size_t i = 0; i < LOADER_PORTS && any_pulls(s); i++) {
        if (try_port(s, loader_ports[i].port) != EB_OK)
            return false;
    }
    return true;
}

static json_t *loader_ports_document(const struct session *s)
{
    json_t *list = json_array();
    for (size_t i = 0; i < LOADER_PORTS && any_pulls(s); i++)
        json_array_append_new(list, json_pack("{s:i, s:s}", "port", loader_ports[i].port, "state",
                                              port_word(try_port(s, loader_ports[i].port))));
    return list;
}

static json_t *other_way_document(const struct session *s, const struct eb_job_device *t,
                                  const struct buses *buses, const struct usb *usb)
{
    char place[EB_PLACE_TEXT_BYTES];
    char sentence[SENTENCE_BYTES];
    eb_site_place_text(t->device, place);
    other_way_text(s, t, buses, usb, sentence);
    return json_pack("{s:s, s:s, s:s, s:s, s:s, s:[], s:[], s:[]}", "name", t->device->name, "link",
                     t->device->link, "address", place, "way", t->absent ? "none" : "direct", "says",
                     sentence, "traps", "components", "findings");
}

static json_t *way_document(const struct eb_job_device *t, const struct ways *f, const struct eb_way *way)
{
    static const char *const kinds[] = {"direct", "routed", "add", "none"};
    struct eb_link_address device = address_of(t);
    char text[32];
    json_t *traps = json_array();
    address_text(&device, text, sizeof text);
    for (unsigned bit = 0; bit < TRAPS; bit++) {
        if ((way->traps >> bit & 1) != 0)
            json_array_append_new(traps, json_string(eb_trap_text((enum eb_trap)(1U << bit))));
    }
    json_t *root =
        json_pack("{s:s, s:s, s:s, s:s, s:o, s:[], s:[]}", "name", t->device->name, "link", t->device->link,
                  "address", text, "way", kinds[way->kind], "traps", traps, "components", "findings");
    if (way->kind != EB_WAY_NONE)
        json_object_set_new(root, "over", json_string(f->links[way->link].name));
    if (way->kind == EB_WAY_ADD) {
        address_text(&way->add, text, sizeof text);
        json_object_set_new(root, "add", json_string(text));
    }
    return root;
}

static void print_links_document(const struct session *s, const struct ways *f, const struct buses *buses,
                                 const struct usb *usb)
{
    json_t *devices = json_array();
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            json_array_append_new(devices, target_on_ip(&s->job->devices[i])
                                               ? way_document(&s->job->devices[i], f, &f->list[i])
                                               : other_way_document(s, &s->job->devices[i], buses, usb));
    }
    print_document(json_pack("{s:s, s:o, s:o, s:o, s:o, s:o, s:o}", "einbau", "links/1", "site",
                             s->job->site != NULL ? json_string(s->job->site->name) : json_null(), "links",
                             links_document(f), "buses", buses_document(s, buses), "usb",
                             usb_document(s, usb), "loader_ports", loader_ports_document(s), "devices",
                             devices));
}

/* ------------------------------------------------------------------------------------------------- */

static int undo(struct session *s)
{
    size_t count = addresses_recover(s, true);
    printf("%zu address%s taken back\n", count, count == 1 ? "" : "es");
    return session_close(s, EXIT_AS_WANTED);
}

static int run(const struct options *options)
{
    struct session s;
    struct ways f;
    struct buses buses = {0};
    struct usb usb;
    if (!session_open(&s, options))
        return session_close(&s, s.status);
    if (!EB_PORT_HAS(s.job->port, links, list)) {
        complain("%s: found no key 'laptop', expected the links of the simulated laptop (docs/world.md)",
                 options->sim);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    if (options->undo)
        return undo(&s);
    if (!ways_find(&s, &f)) {
        ways_free(&f);
        return session_close(&s, s.status);
    }
    if (!buses_look(&s, &buses)) {
        ways_free(&f);
        buses_free(&buses);
        return session_close(&s, s.status);
    }
    usb_look(&s, &usb);
    if (options->json) {
        print_links_document(&s, &f, &buses, &usb);
    } else {
        print_links(&f);
        if (buses.count > 0)
            puts("");
        buses_print(&s, &buses);
        usb_print_count(&usb);
        usb_print(&s, &usb);
        print_overlaps(&f);
        print_conflicts(&f);
        if (s.job->count > 0)
            print_ways(&s, &f, &buses, &usb);
        print_traps(&s, &f);
        print_loader_ports(&s);
        print_commands(&s, &f);
    }
    for (size_t i = 0; i < s.job->count; i++) {
        if (s.job->devices[i].chosen &&
            (s.job->devices[i].absent || !usb_sound(&s, &usb, &s.job->devices[i]) ||
             f.list[i].kind != EB_WAY_DIRECT || f.list[i].traps != 0))
            s.status = EXIT_NOT_AS_WANTED;
    }
    if (f.conflict_count > 0 || !buses_sound(&buses) || !loader_ports_free(&s))
        s.status = EXIT_NOT_AS_WANTED;
    ways_free(&f);
    buses_free(&buses);
    usb_free(&usb);
    s.added_count = 0; /* they stay, until --undo */
    return session_close(&s, s.status);
}

static const struct option_row undo_option = {
    "undo", NULL,        "take back the addresses that were added and are still there",
    2,      OPTION_FLAG, .to = OPTION_TO(undo)};
static const struct option_row *const links_options[] = {&option_without, &option_add_address, &undo_option,
                                                         &option_unfold, NULL};

const struct command command_links = {
    .name = "links",
    .arguments = "[DEVICE...]",
    .summary = "the laptop's links, and whether each device can be reached over them",
    .help = "Lists the laptop's links with their addresses, and says for each device of the site (or those "
            "named) over which of them it is reached, or what to change. Asks by ARP whether an address is "
            "free or used twice; changes nothing unless --add-address or --undo is given.\v"
            "Example:\n  einbau links --site larchfell.site.yaml\n"
            "  einbau links --site larchfell.site.yaml --add-address\n"
            "  einbau links --undo\n\n"
            "Exit status 1 where a device is not in a subnet of the laptop, or something will go wrong on "
            "the way.",
    .takes = NAMES_DEVICES | SITE_OPTIONAL,
    .options = links_options,
    .run = run,
};
