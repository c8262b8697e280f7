#include "whom.h"

#include <stdio.h>
#include <string.h>

enum { PATIENCE_US = 3000000 };

static bool find_links(struct whom *who)
{
    struct session *s = who->session;
    struct eb_link all[EB_LINKS_MAX];
    size_t count = s->port->links != NULL ? s->port->links(s->port->self, all, EB_LINKS_MAX) : 0;
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
    for (size_t i = 0; i < s->count; i++) {
        const struct eb_site_device *d = s->targets[i].device;
        if (strcmp(d->name, name) != 0)
            continue;
        who->target = &s->targets[i];
        who->profile = d->profile;
        if (d->wire->kind != EB_SITE_ETHERNET) {
            complain(
                "%s: found it on %s, expected a device on Ethernet: there is no way yet to do this there",
                name, d->wire->kind == EB_SITE_CAN ? "a CAN bus" : "USB");
            s->status = EXIT_WRONG_CALL;
            return false;
        }
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
        complain("found '%s', expected %sa hardware address like 02:00:5e:10:00:01, or an IPv4 address", name,
                 s->site != NULL ? "a device of the site, " : "");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return find_links(who);
}

bool whom_lock(struct whom *who)
{
    char key[EB_LOCK_KEY_BYTES];
    ip_key(&who->modbus, key);
    if (who->has_ip && !job_lock(who->session, who->name, key))
        return false;
    mac_key(who->mac, key);
    return !who->has_mac || job_lock(who->session, who->name, key);
}

enum eb_status whom_ask(struct whom *who, struct eb_ask *ask, struct eb_ask_config config)
{
    const struct eb_port *port = who->session->port;
    bool frames = config.kind <= EB_ASK_SIGNAL;
    config.port = port;
    config.owner = who;
    config.peer = who->modbus;
    if (config.kind == EB_ASK_FLASH || config.kind == EB_ASK_IDENTITY)
        config.peer.port = EB_CIP_PORT;
    config.unit = who->unit;
    if (config.patience_us == 0)
        config.patience_us = PATIENCE_US;
    if (!config.has_mac) {
        config.has_mac = who->has_mac;
        memcpy(config.mac, who->mac, sizeof config.mac);
    }
    for (size_t i = 0; i < (frames ? who->link_count : 1); i++) {
        config.link = frames ? &who->links[i] : NULL;
        eb_ask_begin(ask, &config, port->now_us(port->self));
        asks_work(port, ask, 1);
        bool collecting = config.kind == EB_ASK_WHO_HAS || config.kind == EB_ASK_NAME_USED;
        if (ask->status != EB_OK || (collecting && ask->mac_count == 0))
            continue;
        if (frames && !collecting) { /* this is where it is, and who */
            who->links[0] = who->links[i];
            who->link_count = 1;
            who->has_mac = true;
            memcpy(who->mac, ask->config.mac, sizeof who->mac);
        }
        break;
    }
    if (frames && who->link_count == 0)
        *ask = (struct eb_ask){.status = EB_UNREACHABLE,
                               .error = {.status = EB_UNREACHABLE, .where = "Ethernet frames"}};
    return ask->status;
}

void whom_reason(const struct eb_ask *ask, char *text, size_t cap)
{
    const struct eb_error *e = &ask->error;
    if (e->status == EB_DENIED)
        snprintf(text, cap,
                 "%s: raw Ethernet frames need a permission that this user does not have. To grant it once: "
                 "sudo setcap "
                 "cap_net_raw+ep \"$(command -v einbau)\"",
                 e->where);
    else
        snprintf(text, cap, "%s: %s%s%s", e->where != NULL ? e->where : "", eb_status_word(e->status),
                 e->text[0] != '\0' ? ": " : "", e->text);
}
