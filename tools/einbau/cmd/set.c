#include "session/set_node.h"
#include "session/whom.h"

#include <stdio.h>
#include <string.h>

enum { SETTLE_US = 5000000, PAUSE_US = 300000, PROBE_US = 1200000 };

/* What a device has, or shall have. */
struct settings {
    char name[EB_DCP_NAME_BYTES];
    uint8_t ip[4], mask[4], router[4];
    bool dhcp;
};

struct work {
    struct whom who;
    bool by_modbus;
    bool names, addresses; /* what is asked for */
    struct settings now, wish;
    struct eb_request request;
    struct eb_macs_seen macs;
    struct eb_dcp_station station;
};

static const uint8_t none[4];

static bool refuse(struct session *s, const char *device, const char *found, const char *expected)
{
    complain("%s: found %s, expected %s. Nothing was changed", device, found, expected);
    s->status = EXIT_NOT_AS_WANTED;
    return false;
}

static bool trouble(struct work *w, const char *what)
{
    char reason[320];
    whom_reason(&w->request, reason, sizeof reason);
    complain("%s: %s: %s", w->who.name, what, reason);
    w->who.session->status = w->request.status == EB_PEER_ERROR ? EXIT_NOT_AS_WANTED : EXIT_NOT_REACHED;
    return false;
}

static bool ask(struct work *w, const struct eb_access *access, struct eb_operation operation)
{
    return whom_request(&w->who, &w->request, access, &operation, 0) == EB_OK;
}

/* --- what is asked for --------------------------------------------------------------------------- */

static bool wrong_assignment(struct session *s, const char *text, const char *expected)
{
    complain("found '%s', expected %s", text, expected);
    s->status = EXIT_WRONG_CALL;
    return false;
}

static bool read_ip(struct session *s, const char *assignment, const char *text, uint8_t ip[4])
{
    struct eb_endpoint endpoint;
    if (!eb_endpoint_parse(&endpoint, text))
        return wrong_assignment(s, assignment, "an IPv4 address like 192.0.2.10 behind the '='");
    memcpy(ip, endpoint.ip, 4);
    return true;
}

static bool read_assignments(struct work *w, const struct options *o)
{
    struct session *s = w->who.session;
    for (size_t i = 0; i < o->assignment_count; i++) {
        const char *text = o->assignments[i];
        const char *value = strchr(text, '=') != NULL ? strchr(text, '=') + 1 : "";
        bool ok = true;
        if (strncmp(text, "name=", 5) == 0) {
            w->names = true;
            if (!eb_text_copy(w->wish.name, sizeof w->wish.name, value))
                return wrong_assignment(s, text, "a name of at most 240 characters");
        } else if (strncmp(text, "address=", 8) == 0) {
            ok = read_ip(s, text, value, w->wish.ip);
            w->wish.dhcp = false;
            w->addresses = true;
        } else if (strncmp(text, "mask=", 5) == 0) {
            ok = read_ip(s, text, value, w->wish.mask);
            w->addresses = true;
        } else if (strncmp(text, "router=", 7) == 0) {
            ok = read_ip(s, text, value, w->wish.router);
            w->addresses = true;
        } else if (strcmp(text, "dhcp=off") == 0 || strcmp(text, "dhcp=on") == 0) {
            w->wish.dhcp = strcmp(value, "on") == 0;
            w->addresses = true;
        } else {
            return wrong_assignment(s, text,
                                    "name=..., address=..., mask=..., router=..., dhcp=off or dhcp=on");
        }
        if (!ok)
            return false;
    }
    return true;
}

/* --- what is there ------------------------------------------------------------------------------- */

static bool read_registers(struct work *w, const struct eb_registers *r, uint8_t *bytes, size_t cap)
{
    if (r->count == 0)
        return true;
    uint16_t values[EB_MODBUS_REGISTERS_MAX] = {0};
    if (!ask(w, &eb_access_modbus,
             (struct eb_operation){
                 .kind = EB_GET, .address = r->address, .count = r->count, .registers = values}))
        return false;
    for (size_t i = 0; i < r->count && 2 * i + 1 < cap; i++) {
        bytes[2 * i] = (uint8_t)(values[i] >> 8);
        bytes[2 * i + 1] = (uint8_t)values[i];
    }
    return true;
}

static bool read_by_modbus(struct work *w, struct settings *to)
{
    const struct eb_profile *p = w->who.profile;
    uint8_t name[2 * EB_MODBUS_REGISTERS_MAX] = {0};
    uint8_t dhcp[2] = {0};
    bool ok = read_registers(w, &p->set_name, name, sizeof name) &&
              read_registers(w, &p->set_address, to->ip, sizeof to->ip) &&
              read_registers(w, &p->set_mask, to->mask, sizeof to->mask) &&
              read_registers(w, &p->set_router, to->router, sizeof to->router) &&
              read_registers(w, &p->set_dhcp, dhcp, sizeof dhcp);
    eb_text_copy_foreign(to->name, sizeof to->name, name, sizeof name);
    to->dhcp = dhcp[1] != 0;
    return ok;
}

static bool read_settings(struct work *w, struct settings *to)
{
    memset(to, 0, sizeof *to);
    if (w->by_modbus)
        return read_by_modbus(w, to);
    if (!ask(w, &eb_access_dcp, (struct eb_operation){.kind = EB_STATION, .station = &w->station}))
        return false;
    snprintf(to->name, sizeof to->name, "%s", w->station.name);
    memcpy(to->ip, w->station.ip, sizeof to->ip);
    memcpy(to->mask, w->station.mask, sizeof to->mask);
    memcpy(to->router, w->station.router, sizeof to->router);
    to->dhcp = w->station.dhcp;
    return true;
}

/* --- whether it may be --------------------------------------------------------------------------- */

static bool same_subnet(const uint8_t a[4], const uint8_t b[4], const uint8_t mask[4])
{
    for (int i = 0; i < 4; i++) {
        if (((a[i] ^ b[i]) & mask[i]) != 0)
            return false;
    }
    return true;
}

/* Whether anybody but this device answers; `taken` has who. */
static bool used_by_another(struct work *w, const struct eb_access *access, enum eb_operation_kind kind,
                            char taken[EB_MAC_TEXT_BYTES])
{
    struct eb_operation operation = {.kind = kind, .name = w->wish.name, .macs = &w->macs};
    memcpy(operation.ip, w->wish.ip, sizeof operation.ip);
    /* Somebody else on any link is one too many. */
    struct whom everywhere = w->who;
    w->macs.count = 0;
    whom_request(&everywhere, &w->request, access, &operation, PROBE_US);
    for (size_t i = 0; i < w->macs.count; i++) {
        if (w->who.has_mac && memcmp(w->macs.list[i], w->who.mac, EB_MAC_BYTES) == 0)
            continue;
        eb_mac_text(w->macs.list[i], taken);
        return true;
    }
    return false;
}

static bool check_name(struct work *w)
{
    struct session *s = w->who.session;
    char found[320];
    char taken[EB_MAC_TEXT_BYTES];
    const char *wrong = w->wish.name[0] == '\0' ? NULL : eb_dcp_name_wrong(w->wish.name);
    if (wrong != NULL) {
        snprintf(found, sizeof found, "the name '%.200s': %s", w->wish.name, wrong);
        return refuse(s, w->who.name, found,
                      "parts of a to z, 0 to 9 and '-' with dots between them, like drive-plc.valley");
    }
    if (w->by_modbus && strlen(w->wish.name) > 2U * w->who.profile->set_name.count) {
        snprintf(found, sizeof found, "a name of %zu characters", strlen(w->wish.name));
        return refuse(s, w->who.name, found, "no more than its registers hold");
    }
    if (w->wish.name[0] != '\0' && used_by_another(w, &eb_access_dcp, EB_NAMED, taken)) {
        snprintf(found, sizeof found, "the name '%.100s' at %s already", w->wish.name, taken);
        return refuse(s, w->who.name, found, "a name that no other device has");
    }
    return true;
}

static bool check_address(struct work *w)
{
    struct session *s = w->who.session;
    struct settings *x = &w->wish;
    struct eb_link_address address = {.prefix = 24};
    char found[160];
    char ip[EB_ENDPOINT_TEXT_BYTES];
    char taken[EB_MAC_TEXT_BYTES];
    if (x->dhcp)
        return w->by_modbus && w->who.profile->set_dhcp.count > 0
                   ? true
                   : refuse(s, w->who.name, "dhcp=on", "it only where the profile has a register for it");
    if (memcmp(x->ip, none, 4) == 0)
        return refuse(s, w->who.name, "no address", "address=..., as the device has none of its own yet");
    if (memcmp(x->mask, none, 4) == 0)
        memcpy(x->mask, (const uint8_t[4]){255, 255, 255, 0}, 4);
    ip_text(x->mask, ip);
    snprintf(found, sizeof found, "the mask %s", ip);
    if (!eb_mask_read(x->mask, &address.prefix))
        return refuse(s, w->who.name, found, "ones, then zeros, like 255.255.255.0");
    memcpy(address.ip, x->ip, sizeof address.ip);
    ip_text(x->ip, ip);
    struct eb_way way = eb_way_to(w->who.links, w->who.link_count, &address, NULL, 0);
    snprintf(found, sizeof found, "%s, which is the subnet's own or its broadcast address", ip);
    if ((way.traps & EB_TRAP_NO_HOST_ADDRESS) != 0)
        return refuse(s, w->who.name, found, "the address of a host");
    snprintf(found, sizeof found, "%s, which the laptop has itself", ip);
    if ((way.traps & EB_TRAP_SAME_ADDRESS) != 0)
        return refuse(s, w->who.name, found, "a free address");
    ip_text(x->router, ip);
    snprintf(found, sizeof found, "the router %s outside of the device's subnet", ip);
    if (memcmp(x->router, none, 4) != 0 && !same_subnet(x->router, x->ip, x->mask))
        return refuse(s, w->who.name, found, "one inside, or router=0.0.0.0 for none");
    ip_text(x->ip, ip);
    if (memcmp(x->ip, w->now.ip, 4) != 0 && used_by_another(w, &eb_access_arp, EB_WHO_HAS, taken)) {
        snprintf(found, sizeof found, "%s in use by %s", ip, taken);
        return refuse(s, w->who.name, found, "a free address");
    }
    if (way.kind == EB_WAY_ADD) {
        char add[32];
        address_text(&way.add, add, sizeof add);
        fprintf(
            stderr,
            "einbau: %s is not in a subnet of the laptop: to reach it then, sudo ip address add %s dev %s\n",
            ip, add, w->who.links[way.link].name);
    }
    return true;
}

/* --- doing it ------------------------------------------------------------------------------------ */

static bool write_registers(struct work *w, const struct eb_registers *r, const uint8_t *bytes, size_t size)
{
    uint16_t values[EB_MODBUS_REGISTERS_MAX] = {0};
    if (r->count == 0)
        return true;
    for (size_t i = 0; i < r->count && 2 * i + 1 < size; i++)
        values[i] = (uint16_t)(bytes[2 * i] << 8 | bytes[2 * i + 1]);
    return ask(
        w, &eb_access_modbus,
        (struct eb_operation){.kind = EB_PUT, .address = r->address, .values = values, .count = r->count});
}

static bool write_by_modbus(struct work *w)
{
    const struct eb_profile *p = w->who.profile;
    uint8_t name[2 * EB_MODBUS_REGISTERS_MAX] = {0};
    const uint8_t dhcp[2] = {0, w->wish.dhcp};
    memcpy(name, w->wish.name, strlen(w->wish.name));
    bool ok = !w->names || write_registers(w, &p->set_name, name, sizeof name);
    if (ok && w->addresses)
        ok = write_registers(w, &p->set_address, w->wish.ip, sizeof w->wish.ip) &&
             write_registers(w, &p->set_mask, w->wish.mask, sizeof w->wish.mask) &&
             write_registers(w, &p->set_router, w->wish.router, sizeof w->wish.router) &&
             write_registers(w, &p->set_dhcp, dhcp, sizeof dhcp);
    for (size_t i = 0; ok && i < p->take_up.count; i++) {
        const struct eb_step *step = &p->take_up.list[i];
        ok = step->by == NULL || step->kind != EB_MODBUS_WRITE ||
             ask(w, step->by, (struct eb_operation){.kind = EB_STEP, .step = step});
    }
    if (ok && w->addresses && !w->wish.dhcp)
        memcpy(w->who.modbus.ip, w->wish.ip, 4); /* where it is found from now on */
    return ok;
}

static bool write_settings(struct work *w)
{
    if (w->by_modbus)
        return write_by_modbus(w);
    struct eb_operation operation = {.kind = EB_SET_NAME, .name = w->wish.name};
    if (w->names && !ask(w, &eb_access_dcp, operation))
        return false;
    operation.kind = EB_SET_IP;
    memcpy(operation.ip, w->wish.ip, 4);
    memcpy(operation.mask, w->wish.mask, 4);
    memcpy(operation.router, w->wish.router, 4);
    return !w->addresses || ask(w, &eb_access_dcp, operation);
}

static bool as_wished(const struct work *w, const struct settings *is)
{
    bool name = !w->names || strcmp(is->name, w->wish.name) == 0;
    bool address = !w->addresses || (w->wish.dhcp && is->dhcp) ||
                   (memcmp(is->ip, w->wish.ip, 4) == 0 && memcmp(is->mask, w->wish.mask, 4) == 0 &&
                    memcmp(is->router, w->wish.router, 4) == 0 && !is->dhcp);
    return name && address;
}

/* Reads back until it is as wished, or patience is over; `*answers`: whether it did so at last. */
static bool read_back(struct work *w, struct settings *is, bool *answers)
{
    const struct eb_port *port = w->who.session->job->port;
    uint64_t end_us = eb_port_now_us(port) + SETTLE_US;
    for (;;) {
        *answers = read_settings(w, is);
        if (*answers && as_wished(w, is))
            return true;
        uint64_t now_us = eb_port_now_us(port);
        if (now_us >= end_us || session_interrupts() > 0)
            return false;
        while (eb_port_now_us(port) < now_us + PAUSE_US)
            eb_port_wait(port, now_us + PAUSE_US);
    }
}

/* --- words --------------------------------------------------------------------------------------- */

static void print_change(const char *what, const char *from, const char *to)
{
    if (strcmp(from, to) == 0)
        printf("  %-8s %s\n", what, to[0] != '\0' ? to : "none");
    else
        printf("  %-8s %s -> %s\n", what, from[0] != '\0' ? from : "none", to[0] != '\0' ? to : "none");
}

static void print_plan_of(const struct work *w)
{
    const struct settings *from = &w->now;
    const struct settings *to = &w->wish;
    char mac[EB_MAC_TEXT_BYTES];
    char a[EB_ENDPOINT_TEXT_BYTES];
    char b[EB_ENDPOINT_TEXT_BYTES];
    eb_mac_text(w->who.mac, mac);
    printf("%s%s%s%s, by %s, kept after a restart:\n", w->who.name,
           w->who.has_mac && strcmp(mac, w->who.name) != 0 ? " (" : "",
           w->who.has_mac && strcmp(mac, w->who.name) != 0 ? mac : "",
           w->who.has_mac && strcmp(mac, w->who.name) != 0 ? ")" : "",
           w->by_modbus ? "Modbus registers" : "PROFINET DCP");
    if (w->names)
        print_change("name", from->name, to->name);
    if (!w->addresses)
        return;
    const uint8_t *const pairs[][2] = {
        {from->ip, to->ip}, {from->mask, to->mask}, {from->router, to->router}};
    static const char *const words[] = {"address", "mask", "router"};
    for (size_t i = 0; i < 3; i++) {
        ip_text(pairs[i][0], a);
        ip_text(pairs[i][1], b);
        print_change(words[i], a, b);
    }
    print_change("dhcp", from->dhcp ? "on" : "off", to->dhcp ? "on" : "off");
}

static json_t *settings_document(const struct settings *x)
{
    char ip[EB_ENDPOINT_TEXT_BYTES];
    char mask[EB_ENDPOINT_TEXT_BYTES];
    char router[EB_ENDPOINT_TEXT_BYTES];
    ip_text(x->ip, ip);
    ip_text(x->mask, mask);
    ip_text(x->router, router);
    return json_pack("{s:s, s:s, s:s, s:s, s:b}", "name", x->name, "address", ip, "mask", mask, "router",
                     router, "dhcp", x->dhcp);
}

/* `is` NULL: it does not answer any more. */
static int report(struct work *w, bool ok, const struct settings *is)
{
    struct session *s = w->who.session;
    char ip[EB_ENDPOINT_TEXT_BYTES] = "";
    if (is != NULL)
        ip_text(is->ip, ip);
    if (s->options->json)
        print_document(json_pack("{s:s, s:[{s:s, s:s, s:o, s:o, s:[], s:[]}]}", "einbau", "set/1", "devices",
                                 "name", w->who.name, "outcome", ok ? "confirmed" : "failed", "before",
                                 settings_document(&w->now), "now",
                                 is != NULL ? settings_document(is) : json_null(), "components", "findings"));
    else if (ok)
        printf("%s: confirmed, as read back: %s%s%s\n", w->who.name, w->names ? is->name : "",
               w->names && w->addresses ? ", " : "", w->addresses ? ip : "");
    else if (is == NULL)
        trouble(w, "not confirmed: it does not answer any more. 'einbau survey' says where it is");
    else
        complain("%s: not confirmed: found the name '%s' and the address %s when reading back, expected what "
                 "was set. Look again with 'einbau survey'",
                 w->who.name, is->name, ip);
    if (ok && is != NULL && w->who.target != NULL && w->addresses && !w->wish.dhcp && !s->options->json &&
        memcmp(w->who.target->device->modbus.ip, is->ip, 4) != 0)
        printf("The site still says another address for %s: change it there to %s.\n", w->who.name, ip);
    return ok ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int set(struct work *w, const struct options *options)
{
    struct session *s = w->who.session;
    const struct eb_profile *p = w->who.profile;
    struct settings is;
    w->by_modbus = p != NULL && (p->set_name.count > 0 || p->set_address.count > 0);
    if (!read_settings(w, &w->now)) {
        trouble(w, "its settings cannot be read");
        return s->status;
    }
    w->wish = w->now;
    w->wish.dhcp = false;
    /* A job that knows it by its address may be at work on it. */
    struct eb_endpoint modbus = {.port = EB_MODBUS_PORT};
    char key[EB_LOCK_KEY_BYTES];
    memcpy(modbus.ip, w->now.ip, sizeof modbus.ip);
    eb_job_ip_key(&modbus, key);
    if (!w->who.has_ip && memcmp(w->now.ip, none, sizeof none) != 0 && !job_lock(s, w->who.name, key))
        return s->status;
    if (!read_assignments(w, options) || (w->names && !check_name(w)) || (w->addresses && !check_address(w)))
        return s->status;
    if (!options->json) {
        print_plan_of(w);
        fflush(stdout);
    }
    if (!session_may(s, "Set this? A connection that the device has now may break.", "nothing was changed"))
        return s->status;
    if (!write_settings(w)) {
        trouble(w, "it did not take this");
        return s->status;
    }
    bool answers;
    bool ok = read_back(w, &is, &answers);
    return report(w, ok, answers ? &is : NULL);
}

static int run(const struct options *options)
{
    static struct work work;
    struct session s;
    if (!whom_open(&work.who, &s, options))
        return session_close(&s, s.status);
    if (work.who.target != NULL && target_on_bus(work.who.target))
        return session_close(&s, set_node(&s, options));
    if (!whom_on_ip(&work.who) || !whom_lock(&work.who))
        return session_close(&s, s.status);
    if (options->assignment_count == 0) {
        complain("found nothing to set, expected name=..., address=..., mask=..., router=... or dhcp=off");
        return session_close(&s, EXIT_WRONG_CALL);
    }
    const struct eb_job_device *target = work.who.target;
    if (target != NULL && target->device->slot != 0) {
        complain(
            "%s is a module in the rack of %s: it has no name and no address of its own. Nothing was changed",
            target->device->name, target->device->via->name);
        return session_close(&s, EXIT_WRONG_CALL);
    }
    return session_close(&s, set(&work, options));
}

static const struct option_row *const set_options[] = {&option_link, &option_yes, NULL};

const struct command command_set = {
    .name = "set",
    .arguments = "DEVICE name=NAME address=IP mask=MASK router=IP dhcp=off | node=NUMBER bit-rate=NUMBER",
    .summary = "gives a device a name and a fixed address, or a node id",
    .help =
        "Sets what is named, for good, by PROFINET DCP or by the registers that the profile says. "
        "Checked before: that the address and the name are legal and free, and in one subnet with the "
        "router. Read back after. DEVICE is a name of the site, or the hardware or IP address of "
        "anything on the wire; a device without an address is called by its hardware address. A CANopen node "
        "of the site gets its node id and bit rate by LSS: the one node that is meant, chosen by its "
        "identity.\v"
        "Example:\n  einbau set 02:00:5e:51:04:99 name=spare-plc address=192.0.2.12\n"
        "  einbau set --site larchfell.site.yaml tower-io-1 dhcp=off\n"
        "  einbau set --site larchfell.site.yaml door-03 node=23\n\n"
        "Exit status 1 where it was refused or not confirmed, 3 where the device did not answer.",
    .takes = NEEDS_ONE_DEVICE | SITE_OPTIONAL | TAKES_ASSIGNMENTS,
    .options = set_options,
    .run = run,
};
