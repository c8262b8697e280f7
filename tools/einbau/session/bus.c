#include "session/bus.h"
#include "ui/status.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    LISTEN_US = 1200000, /* longer than the heartbeat that most nodes have, one a second */
    TRY_US = 1100000,
    PATIENCE_US = 20000000
};

static const char *state_text(const struct eb_node *n)
{
    if (!n->has_state)
        return n->answered ? "" : "no answer";
    return n->state == 4     ? "stopped"
           : n->state == 5   ? "operational"
           : n->state == 127 ? "pre-operational"
                             : "starting";
}

/* --- looking ------------------------------------------------------------------------------------- */

bool bus_leave_alone(const struct session *s, const struct eb_site_link *wire, struct eb_nodes_config *config)
{
    bool any = false;
    for (unsigned node = 1; s->job->locks != NULL && node <= EB_NODES_MAX; node++) {
        struct eb_lock_holder holder;
        char key[EB_LOCK_KEY_BYTES];
        eb_job_node_key(s->job, wire, node, key);
        if (!eb_locks_held(s->job->locks, key, &holder))
            continue;
        any = true;
        config->alone[node / 8] |= (uint8_t)(1U << node % 8);
    }
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        any = any || (t->worked_on &&
                      strcmp(eb_job_adapter(s->job, t->device->wire), eb_job_adapter(s->job, wire)) == 0);
    }
    return any;
}

/* The UDS units of the site on this bus. */
static size_t units_of(const struct session *s, struct bus *b)
{
    size_t count = 0;
    for (size_t i = 0; i < s->job->count && count < EB_UNITS_MAX; i++) {
        const struct eb_site_device *d = s->job->devices[i].device;
        if (d->wire == b->wire && d->node == 0 && !s->job->devices[i].worked_on) {
            b->units[count] = d->isotp;
            struct eb_uds_way way = eb_uds_way_of(d->profile);
            b->units[count].unpadded = !way.padded;
            b->units[count++].padding = way.padding;
        }
    }
    return count;
}

static struct eb_node *node_of(struct bus *b, const struct eb_site_device *d)
{
    if (d->node != 0)
        return &b->nodes.nodes[d->node];
    for (size_t i = 0; i < b->nodes.config.unit_count; i++) {
        if (b->units[i].request == d->isotp.request && b->units[i].response == d->isotp.response)
            return &b->nodes.units[i];
    }
    return NULL;
}

/* Where only errors were heard: listens at the other bit rates for a good frame. */
static uint32_t find_bit_rate(const struct session *s, const struct bus *b)
{
    struct eb_nodes_config config = b->nodes.config;
    config.only_listen = true;
    config.listen_us = TRY_US;
    for (size_t i = EB_CAN_BIT_RATES; i-- > 0 && session_interrupts() == 0;) {
        struct eb_nodes nodes;
        config.bit_rate = eb_can_bit_rates[i];
        if (config.bit_rate == b->nodes.config.bit_rate)
            continue;
        eb_nodes_begin(&nodes, &config);
        eb_nodes_work(&nodes, eb_port_now_us(s->job->port) + PATIENCE_US);
        eb_nodes_close(&nodes);
        if (nodes.quiet.received > 0)
            return config.bit_rate;
    }
    return 0;
}

/* The lists of the managers that have answered. */
static void read_networks(struct session *s, struct bus *b)
{
    const struct eb_can_options options = {
        .link = b->nodes.config.link, .bit_rate = b->nodes.config.bit_rate, .mask = 0};
    for (unsigned id = 1; id <= EB_NODES_MAX && session_interrupts() == 0; id++) {
        struct eb_member list[EB_MEMBERS_MAX];
        struct eb_error error;
        size_t count;
        if (!b->nodes.nodes[id].manages ||
            !eb_read_network(s->job->port, &options, (uint8_t)id, 1, EB_MEMBERS_MAX, list, &count, &error))
            continue;
        for (size_t i = 0; i < count; i++) {
            b->members[list[i].node] = list[i];
            b->managers[list[i].node] = (uint8_t)id;
        }
    }
}

static void look(struct session *s, struct bus *b, bool scans)
{
    struct eb_nodes_config config = {
        .port = s->job->port,
        .link = eb_job_adapter(s->job, b->wire),
        .bit_rate = b->wire->bit_rate,
        .listen_us = LISTEN_US,
        .units = b->units,
        .unit_count = units_of(s, b),
    };
    bool others_work = bus_leave_alone(s, b->wire, &config);
    config.scan_units = scans && !others_work;
    uint64_t until_us = eb_port_now_us(s->job->port) + PATIENCE_US;
    eb_nodes_begin(&b->nodes, &config);
    while (session_interrupts() == 0 &&
           eb_nodes_work(&b->nodes, eb_port_now_us(s->job->port) + TRY_US) == EB_PENDING &&
           eb_port_now_us(s->job->port) < until_us) {
        if (b->nodes.scanned > 0)
            status_line("%s: %u of at most %d pairs of identifiers asked", b->wire->name, b->nodes.scanned,
                        EB_SCAN_STEPS);
        else
            status_line("%s: looking for nodes", b->wire->name);
    }
    status_end();
    eb_nodes_close(&b->nodes);
    read_networks(s, b);
    b->trouble = eb_bus_judge(&b->nodes);
    if (b->wire != NULL && s->job->site != NULL && b->wire >= s->job->site->links &&
        b->wire < s->job->site->links + s->job->site->link_count)
        s->heard[b->wire - s->job->site->links] = (struct heard){true, b->trouble};
    if ((b->trouble & EB_BUS_BIT_RATE) != 0)
        b->heard_bit_rate = find_bit_rate(s, b);
}

bool buses_look(struct session *s, struct buses *buses)
{
    size_t links = s->job->site != NULL ? s->job->site->link_count : 0;
    buses->list = calloc(links + 1, sizeof *buses->list);
    if (buses->list != NULL && s->options->bus != NULL) {
        buses->named.kind = EB_SITE_CAN;
        buses->named.bit_rate = s->options->bit_rate;
        eb_text_copy(buses->named.name, sizeof buses->named.name, s->options->bus);
        eb_text_copy(buses->named.adapter, sizeof buses->named.adapter, s->options->bus);
        buses->list[0].wire = &buses->named;
        buses->count = 1;
        look(s, &buses->list[0], buses->scans);
        return session_interrupts() == 0;
    }
    for (size_t i = 0; buses->list != NULL && i < links; i++) {
        const struct eb_site_link *wire = &s->job->site->links[i];
        bool wanted = false;
        for (size_t k = 0; k < s->job->count; k++)
            wanted = wanted || (s->job->devices[k].chosen && s->job->devices[k].device->wire == wire);
        if (wire->kind != EB_SITE_CAN || !wanted)
            continue;
        struct bus *b = &buses->list[buses->count++];
        b->wire = wire;
        look(s, b, buses->scans);
        for (size_t k = 0; k < s->job->count; k++) {
            const struct eb_node *node =
                s->job->devices[k].device->wire == wire ? node_of(b, s->job->devices[k].device) : NULL;
            s->job->devices[k].absent = s->job->devices[k].absent ||
                                        (node != NULL && !node->answered && !s->job->devices[k].worked_on);
        }
    }
    if (session_interrupts() > 0) {
        complain("interrupted; nothing was written");
        s->status = EXIT_INTERRUPTED;
        return false;
    }
    return buses->list != NULL;
}

bool buses_look_at(struct session *s, struct buses *buses, const struct eb_site *site)
{
    buses->list = calloc(site->link_count + 1, sizeof *buses->list);
    for (size_t i = 0; buses->list != NULL && i < site->link_count && session_interrupts() == 0; i++) {
        if (site->links[i].kind != EB_SITE_CAN)
            continue;
        buses->list[buses->count].wire = &site->links[i];
        look(s, &buses->list[buses->count++], buses->scans);
    }
    return session_interrupts() == 0;
}

void buses_listen(struct session *s)
{
    for (size_t i = 0; s->job->site != NULL && i < s->job->site->link_count && session_interrupts() == 0;
         i++) {
        const struct eb_site_link *wire = &s->job->site->links[i];
        bool wanted = false;
        for (size_t k = 0; k < s->job->count; k++)
            wanted = wanted || ((s->job->devices[k].chosen || s->job->devices[k].asked) &&
                                s->job->devices[k].device->wire == wire);
        if (wire->kind != EB_SITE_CAN || !wanted || s->heard[i].listened)
            continue;
        static struct eb_nodes nodes;
        const struct eb_nodes_config config = {.port = s->job->port,
                                               .link = eb_job_adapter(s->job, wire),
                                               .bit_rate = wire->bit_rate,
                                               .listen_us = LISTEN_US,
                                               .only_listen = true};
        eb_nodes_begin(&nodes, &config);
        eb_nodes_work(&nodes, eb_port_now_us(s->job->port) + PATIENCE_US);
        eb_nodes_close(&nodes);
        s->heard[i] = (struct heard){true, eb_bus_judge(&nodes)};
    }
}

void buses_free(struct buses *buses)
{
    free(buses->list);
    buses->list = NULL;
}

bool buses_sound(const struct buses *buses)
{
    for (size_t i = 0; i < buses->count; i++) {
        if (buses->list[i].trouble != 0)
            return false;
    }
    return true;
}

const char *bus_device_at(const struct session *s, const struct bus *b, unsigned id)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].device->wire == b->wire && s->job->devices[i].device->node == id)
            return s->job->devices[i].device->name;
    }
    return "";
}

/* --- as text ------------------------------------------------------------------------------------- */

static const struct eb_can_state *last_state(const struct bus *b)
{
    return b->nodes.stayed_quiet || b->nodes.state.bit_rate == 0 ? &b->nodes.quiet : &b->nodes.state;
}

static void rate_text(uint32_t bit_rate, char *text, size_t cap)
{
    if (bit_rate >= 1000000 && bit_rate % 1000000 == 0)
        snprintf(text, cap, "%u Mbit/s", bit_rate / 1000000);
    else if (bit_rate > 0)
        snprintf(text, cap, "%u kbit/s", bit_rate / 1000);
    else
        snprintf(text, cap, "?");
}

/* Names of the site's devices that `which` picks, as far as they fit. */
static void name_them(const struct session *s, struct bus *b, bool which(const struct eb_node *), char *text,
                      size_t cap)
{
    text[0] = '\0';
    for (unsigned id = 1; id <= EB_NODES_MAX && strlen(text) + 80 < cap; id++) {
        const char *name = NULL;
        if (!which(&b->nodes.nodes[id]))
            continue;
        for (size_t i = 0; i < s->job->count; i++) {
            if (s->job->devices[i].device->wire == b->wire && s->job->devices[i].device->node == id)
                name = s->job->devices[i].device->name;
        }
        snprintf(text + strlen(text), cap - strlen(text), "%snode %u%s%s%s", text[0] != '\0' ? ", " : "", id,
                 name != NULL ? " (" : "", name != NULL ? name : "", name != NULL ? ")" : "");
    }
}

static bool is_twice(const struct eb_node *n)
{
    return n->twice;
}

static bool had_errors(const struct eb_node *n)
{
    return n->bus_errors > 0;
}

static void print_troubles(const struct session *s, struct bus *b)
{
    char names[512];
    char rate[24];
    for (unsigned i = 0; i < EB_BUS_TROUBLES; i++) {
        enum eb_bus_trouble trouble = (enum eb_bus_trouble)(1U << i);
        if ((b->trouble & trouble) == 0)
            continue;
        names[0] = '\0';
        if (trouble == EB_BUS_TWO_NODES || trouble == EB_BUS_NODE_OFF)
            name_them(s, b, trouble == EB_BUS_TWO_NODES ? is_twice : had_errors, names, sizeof names);
        puts("");
        if (trouble == EB_BUS_BIT_RATE && b->heard_bit_rate != 0) {
            rate_text(b->heard_bit_rate, rate, sizeof rate);
            say("%s: %s: good frames come at %s", b->wire->name, eb_bus_trouble_text(trouble), rate);
        } else if (trouble == EB_BUS_REFLECTS || trouble == EB_BUS_NOISE) {
            unsigned wrong = eb_bus_errors_per_mille(&b->nodes);
            say("%s: found %u.%u %% bad, expected none: %s", b->wire->name, wrong / 10, wrong % 10,
                eb_bus_trouble_text(trouble));
        } else {
            say("%s: %s%s%s", b->wire->name, names, names[0] != '\0' ? ": " : "",
                eb_bus_trouble_text(trouble));
        }
        if (trouble == EB_BUS_BIT_RATE && b->nodes.stayed_quiet)
            say("%s: nothing was sent: at the wrong bit rate every frame disturbs the others", b->wire->name);
    }
}

void buses_print(const struct session *s, const struct buses *buses)
{
    static const char *const heads[] = {"BUS",    "BIT RATE", "STATE",        "LOAD",
                                        "FRAMES", "WRONG",    "ERRORS TX/RX", "ANSWER"};
    struct table table;
    if (buses->count == 0)
        return;
    table_begin(&table, 8, heads);
    for (size_t i = 0; i < buses->count; i++) {
        const struct bus *b = &buses->list[i];
        const struct eb_can_state *state = last_state(b);
        unsigned wrong = eb_bus_errors_per_mille(&b->nodes);
        size_t answered = 0;
        unsigned long long frames = b->nodes.quiet.received;
        char cells[7][32];
        for (size_t k = 0; k <= EB_NODES_MAX; k++)
            answered += b->nodes.nodes[k].answered;
        for (size_t k = 0; k < b->nodes.unit_count; k++)
            answered += b->nodes.units[k].answered;
        rate_text(b->wire->bit_rate != 0 ? b->wire->bit_rate : state->bit_rate, cells[0], sizeof cells[0]);
        snprintf(cells[1], sizeof cells[1], "%s",
                 b->trouble == 0                         ? "sound"
                 : (b->trouble & EB_BUS_NO_ADAPTER) != 0 ? "no adapter"
                 : state->mode <= EB_CAN_ACTIVE          ? "troubled"
                                                         : eb_can_mode_word(state->mode));
        snprintf(cells[2], sizeof cells[2], "%u %%", eb_bus_load_percent(&b->nodes));
        frames += b->nodes.state.received;
        frames += b->nodes.state.sent;
        snprintf(cells[3], sizeof cells[3], "%llu", frames);
        snprintf(cells[4], sizeof cells[4], "%u.%u %%", wrong / 10, wrong % 10);
        snprintf(cells[5], sizeof cells[5], state->has_counters ? "%u/%u" : "unknown", state->tx_errors,
                 state->rx_errors);
        snprintf(cells[6], sizeof cells[6], "%zu", answered);
        const char *const row[] = {b->wire->name, cells[0], cells[1], cells[2],
                                   cells[3],      cells[4], cells[5], cells[6]};
        table_add(&table, row);
    }
    table_print(&table);
    for (size_t i = 0; i < buses->count; i++)
        print_troubles(s, &buses->list[i]);
}

/* Nodes that the site does not know, and those that only said something. */
static bool foreign(const struct session *s, const struct bus *b, unsigned id)
{
    const struct eb_node *n = &b->nodes.nodes[id];
    return (n->answered || n->heard || b->managers[id] != 0) && bus_device_at(s, b, id)[0] == '\0';
}

/* Units that were found by a scan, and that the site does not know. */
static void print_units(const struct session *s, const struct bus *b)
{
    static const char *const heads[] = {"REQUEST", "RESPONSE", "PART", "REV", "VERSION", "SERIAL NUMBER"};
    struct table table;
    table_begin(&table, 6, heads);
    for (size_t i = b->nodes.config.unit_count; i < b->nodes.unit_count; i++) {
        const struct eb_node *u = &b->nodes.units[i];
        char ids[2][12];
        snprintf(ids[0], sizeof ids[0], "%X", b->nodes.ways[i].request);
        snprintf(ids[1], sizeof ids[1], "%X", b->nodes.ways[i].response);
        const char *const cells[] = {ids[0],
                                     ids[1],
                                     u->texts[EB_NODE_NAME],
                                     u->texts[EB_NODE_HARDWARE],
                                     u->texts[EB_NODE_SOFTWARE],
                                     u->texts[EB_NODE_SERIAL]};
        if (u->answered)
            table_add(&table, cells);
    }
    if (table.rows > 1) {
        printf("\nUDS units on %s%s:\n\n", b->wire->name, s->job->site != NULL ? " and not on the site" : "");
        table_print(&table);
    } else {
        table_free(&table);
    }
    if (b->nodes.scanned > 0)
        say("\n%s: %u pairs of identifiers were asked for UDS units, of 11 bits from 780 to 7E7 and of 29 "
            "bits with "
            "fixed addresses; units with other identifiers, or with extended addressing, are not found so.",
            b->wire->name, b->nodes.scanned);
}

static bool has_manager(const struct bus *b)
{
    bool has = false;
    for (unsigned id = 1; id <= EB_NODES_MAX; id++)
        has = has || b->managers[id] != 0;
    return has;
}

/* Devices of the site that a manager has in its list, without a word of that in the site. */
static void print_unnamed(const struct session *s, const struct bus *b)
{
    for (unsigned id = 1; id <= EB_NODES_MAX && s->job->site != NULL; id++) {
        const char *name = b->managers[id] != 0 ? bus_device_at(s, b, id) : "";
        const char *manager = name[0] != '\0' ? bus_device_at(s, b, b->managers[id]) : "";
        const struct eb_site_device *d = name[0] != '\0' ? eb_site_device(s->job->site, name) : NULL;
        if (d != NULL && d->manager == NULL && manager[0] != '\0')
            say("\n%s is in the list of %s, which may reset it while it is written. Add to it in the site: "
                "managed-by: %s",
                name, manager, manager);
        else if (d != NULL && d->manager == NULL)
            say("\n%s is in the list of node %u, which may reset it while it is written. 'einbau survey "
                "--into' adds that "
                "node to the site",
                name, b->managers[id]);
    }
}

void buses_print_nodes(const struct session *s, const struct buses *buses)
{
    static const char *const heads[] = {"NODE",   "NAME",    "REV",   "VERSION", "SERIAL NUMBER",
                                        "VENDOR", "PRODUCT", "STATE", "MANAGER"};
    for (size_t i = 0; i < buses->count; i++) {
        const struct bus *b = &buses->list[i];
        struct table table;
        size_t rows = 0;
        table_begin(&table, has_manager(b) ? 9 : 8, heads);
        for (unsigned id = 1; id <= EB_NODES_MAX; id++) {
            const struct eb_node *n = &b->nodes.nodes[id];
            char node[8];
            char vendor[16] = "";
            char product[16] = "";
            char manager[16] = "";
            if (!foreign(s, b, id))
                continue;
            snprintf(node, sizeof node, "%u", id);
            if (b->managers[id] != 0)
                snprintf(manager, sizeof manager, "node %u", b->managers[id]);
            if (n->has_identity) {
                snprintf(vendor, sizeof vendor, "%08X", n->vendor);
                snprintf(product, sizeof product, "%08X", n->product);
            }
            const char *const cells[] = {node,
                                         n->texts[EB_NODE_NAME],
                                         n->texts[EB_NODE_HARDWARE],
                                         n->texts[EB_NODE_SOFTWARE],
                                         n->texts[EB_NODE_SERIAL],
                                         vendor,
                                         product,
                                         state_text(n),
                                         manager};
            table_add(&table, cells);
            rows++;
        }
        if (rows > 0)
            printf("\nOn %s%s:\n\n", b->wire->name, s->job->site != NULL ? " and not on the site" : "");
        if (rows > 0)
            table_print(&table);
        else
            table_free(&table);
        print_unnamed(s, b);
        print_units(s, b);
    }
}

void bus_way_text(const struct buses *buses, const struct eb_job_device *t, char *text, size_t cap)
{
    snprintf(text, cap, "%s was not looked at", t->device->link);
    for (size_t i = 0; i < buses->count; i++) {
        struct bus *b = &buses->list[i];
        const struct eb_node *n = b->wire == t->device->wire ? node_of(b, t->device) : NULL;
        if (b->wire != t->device->wire)
            continue;
        if (b->trouble & EB_BUS_NO_ADAPTER)
            snprintf(text, cap, "no adapter for %s", t->device->link);
        else if (n != NULL && n->answered)
            snprintf(text, cap, "answers on %s%s%s", t->device->link, n->has_state ? ", " : "",
                     n->has_state ? state_text(n) : "");
        else
            snprintf(text, cap, "does not answer on %s: check its supply and this %s", t->device->link,
                     t->device->node != 0 ? "node id" : "pair of identifiers");
    }
}

/* --- as a document ------------------------------------------------------------------------------- */

static json_t *node_document(const struct session *s, const struct bus *b, unsigned id)
{
    const struct eb_node *n = &b->nodes.nodes[id];
    const char *name = bus_device_at(s, b, id);
    json_t *node =
        json_pack("{s:i, s:b, s:b, s:b, s:o}", "node", (int)id, "answered", n->answered, "heard", n->heard,
                  "twice", n->twice, "device", name[0] != '\0' ? json_string(name) : json_null());
    static const char *const keys[] = {"name", "hardware", "software", "serial"};
    for (size_t i = 0; i < EB_NODE_TEXTS; i++) {
        if (n->texts[i][0] != '\0')
            json_object_set_new(node, keys[i], json_string(n->texts[i]));
    }
    if (n->has_identity) {
        json_object_set_new(node, "vendor", json_integer(n->vendor));
        json_object_set_new(node, "product", json_integer(n->product));
        json_object_set_new(node, "revision", json_integer(n->revision));
    }
    if (n->has_state)
        json_object_set_new(node, "state", json_string(state_text(n)));
    if (n->emergency != 0)
        json_object_set_new(node, "emergency", json_integer(n->emergency));
    if (n->manages)
        json_object_set_new(node, "manages", json_true());
    if (b->managers[id] != 0)
        json_object_set_new(node, "manager", json_integer(b->managers[id]));
    return node;
}

json_t *buses_document(const struct session *s, const struct buses *buses)
{
    json_t *list = json_array();
    for (size_t i = 0; i < buses->count; i++) {
        const struct bus *b = &buses->list[i];
        const struct eb_can_state *state = last_state(b);
        json_t *nodes = json_array();
        json_t *troubles = json_array();
        for (unsigned id = 1; id <= EB_NODES_MAX; id++) {
            if (b->nodes.nodes[id].answered || b->nodes.nodes[id].heard || b->managers[id] != 0)
                json_array_append_new(nodes, node_document(s, b, id));
        }
        for (unsigned k = 0; k < EB_BUS_TROUBLES; k++) {
            if ((b->trouble >> k & 1) != 0)
                json_array_append_new(troubles,
                                      json_string(eb_bus_trouble_text((enum eb_bus_trouble)(1U << k))));
        }
        json_t *units = json_array();
        for (size_t k = b->nodes.config.unit_count; k < b->nodes.unit_count; k++) {
            const struct eb_node *u = &b->nodes.units[k];
            if (u->answered)
                json_array_append_new(
                    units,
                    json_pack("{s:i, s:i, s:s, s:s, s:s, s:s}", "request", (int)b->nodes.ways[k].request,
                              "response", (int)b->nodes.ways[k].response, "part", u->texts[EB_NODE_NAME],
                              "hardware", u->texts[EB_NODE_HARDWARE], "software", u->texts[EB_NODE_SOFTWARE],
                              "serial", u->texts[EB_NODE_SERIAL]));
        }
        json_t *bus = json_pack(
            "{s:s, s:i, s:s, s:i, s:I, s:I, s:I, s:i, s:o, s:o}", "name", b->wire->name, "bit_rate",
            (int)b->wire->bit_rate, "mode", eb_can_mode_word(state->mode), "load_percent",
            (int)eb_bus_load_percent(&b->nodes), "heard_quietly", (json_int_t)b->nodes.quiet.received, "sent",
            (json_int_t)b->nodes.state.sent, "received", (json_int_t)b->nodes.state.received,
            "wrong_per_mille", (int)eb_bus_errors_per_mille(&b->nodes), "troubles", troubles, "nodes", nodes);
        json_object_set_new(bus, "tx_errors",
                            state->has_counters ? json_integer(state->tx_errors) : json_null());
        json_object_set_new(bus, "rx_errors",
                            state->has_counters ? json_integer(state->rx_errors) : json_null());
        json_object_set_new(bus, "listened_us", json_integer((json_int_t)b->nodes.quiet_us));
        json_object_set_new(bus, "asked_us", json_integer((json_int_t)b->nodes.asked_us));
        json_object_set_new(bus, "units", units);
        if (b->heard_bit_rate != 0)
            json_object_set_new(bus, "heard_bit_rate", json_integer(b->heard_bit_rate));
        json_array_append_new(list, bus);
    }
    return list;
}
