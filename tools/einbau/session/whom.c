#include "session/whom.h"
#include "session/chosen.h"

#include <stdio.h>
#include <string.h>

enum { PATIENCE_US = 3000000 };

static bool find_links(struct whom *who)
{
    struct session *s = who->session;
    struct eb_link all[EB_LINKS_MAX];
    size_t count = EB_PORT_HAS(s->job->port, links, list)
                       ? s->job->port->links->list(s->job->port->self, all, EB_LINKS_MAX)
                       : 0;
    for (size_t i = 0; i < count; i++) {
        bool named = s->options->link != NULL && strcmp(s->options->link, all[i].name) == 0;
        bool wired = all[i].kind == EB_LINK_WIRED && all[i].up && all[i].carrier;
        if (all[i].has_mac && (s->options->link != NULL ? named : wired))
            who->links[who->link_count++] = all[i];
    }
    if (s->options->link != NULL && who->link_count == 0) {
        complain("--link: found '%s', expected one of the laptop's Ethernet links: 'einbau links' lists them",
                 s->options->link);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return true;
}

bool whom_on_ip(const struct whom *who)
{
    if (who->target == NULL || target_on_ip(who->target))
        return true;
    complain("%s: found it on %s, expected a device on Ethernet: there is no way yet to do this there",
             who->name, target_on_bus(who->target) ? "a CAN bus" : "USB");
    who->session->status = EXIT_WRONG_CALL;
    return false;
}

bool whom_open(struct whom *who, struct session *s, const struct options *options)
{
    static struct options local; /* the session keeps it */
    const char *name = options->names[0];
    memset(who, 0, sizeof *who);
    local = *options;
    local.name_count = 0;
    if (!session_open(s, &local))
        return false;
    who->session = s;
    snprintf(who->name, sizeof who->name, "%s", name);
    who->target = s->job->site != NULL ? chosen_one(s, name) : NULL;
    if (s->status != EXIT_AS_WANTED)
        return false;
    if (who->target != NULL) {
        const struct eb_site_device *d = who->target->device;
        snprintf(who->name, sizeof who->name, "%s", d->name);
        who->profile = d->profile;
        if (d->wire->kind != EB_SITE_ETHERNET)
            return true;
        who->has_ip = true;
        who->modbus = d->modbus;
        who->unit = d->unit;
        who->has_mac = d->has_mac;
        memcpy(who->mac, d->mac, sizeof who->mac);
    }
    if (who->target == NULL) {
        who->unit = EB_MODBUS_UNIT_SELF;
        who->modbus.port = EB_MODBUS_PORT;
        who->has_mac = eb_mac_parse(name, who->mac);
        who->has_ip = !who->has_mac && eb_endpoint_parse(&who->modbus, name);
    }
    if (!who->has_ip && !who->has_mac) {
        struct eb_nearest near = eb_nearest_begin(name);
        for (size_t i = 0; i < s->job->count; i++)
            eb_nearest_offer(&near, s->job->devices[i].device->name);
        char meant[EB_NEAREST_BYTES];
        complain("found '%s', expected %sa hardware address like 02:00:5e:10:00:01, or an IPv4 address%s",
                 name, s->job->site != NULL ? "a device of the site, " : "", eb_nearest_text(&near, meant));
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return find_links(who);
}

bool whom_lock(struct whom *who)
{
    char key[EB_LOCK_KEY_BYTES];
    eb_job_ip_key(&who->modbus, key);
    if (who->has_ip && !job_lock(who->session, who->name, key))
        return false;
    eb_job_mac_key(who->mac, key);
    return !who->has_mac || job_lock(who->session, who->name, key);
}

/* How often it is tried: over frames on each link that comes into question. */
static size_t tries(const struct whom *who, bool frames)
{
    return frames ? who->link_count : 1;
}

enum eb_status whom_request(struct whom *who, struct eb_request *request, const struct eb_access *access,
                            const struct eb_operation *operation, uint64_t patience_us)
{
    const struct eb_port *port = who->session->job->port;
    bool frames = (access->able & EB_BY_FRAMES) != 0;
    struct eb_request_config config = {
        .port = port,
        .access = access,
        .operation = *operation,
        .target = {.modbus = who->modbus, .unit = who->unit, .has_mac = who->has_mac},
        .patience_us = patience_us != 0 ? patience_us : PATIENCE_US,
        .profile = who->profile};
    memcpy(config.target.mac, who->mac, sizeof config.target.mac);
    request->status = EB_UNREACHABLE;
    request->contact.error = (struct eb_error){.status = EB_UNREACHABLE, .where = "Ethernet frames"};
    for (size_t i = 0; i < tries(who, frames); i++) {
        bool collecting = operation->macs != NULL;
        config.target.link = frames ? &who->links[i] : NULL;
        if (eb_request_begin(request, &config) == EB_OK)
            requests_work(port, request, 1);
        if (request->status != EB_OK || (collecting && operation->macs->count == 0))
            continue;
        if (frames && !collecting) { /* this is where it is, and who */
            const struct eb_exchange *exchange = (const void *)request->context;
            who->links[0] = who->links[i];
            who->link_count = 1;
            who->has_mac = true;
            memcpy(who->mac, exchange->mac, sizeof who->mac);
        }
        break;
    }
    return request->status;
}

void whom_reason(const struct eb_request *request, char *text, size_t cap)
{
    const struct eb_error *e = &request->contact.error;
    if (e->status == EB_DENIED)
        snprintf(text, cap,
                 "%s: raw Ethernet frames need a permission that this user does not have. To grant it once: "
                 "sudo setcap cap_net_raw+ep \"$(command -v einbau)\"",
                 e->where);
    else
        snprintf(text, cap, "%s: %s%s%s", e->where != NULL ? e->where : "", eb_status_word(e->status),
                 e->text[0] != '\0' ? ": " : "", e->text);
}
