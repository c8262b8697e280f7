/* Addresses that the laptop's links are given for the work and lose again.  What is given is written into the
 * record first, so that it can be taken back even where the process was killed. */
#include "session/wire.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static bool note_address(struct session *s, const char *kind, const char *link, const char *address)
{
    return job_begin(s, "no address was added") &&
           (eb_job_note_address(s->job, kind, link, address) || session_failed(s));
}

enum { PROBE_US = 900000 };

/* An address that an earlier job has added and not taken back; false: this row is about something else. */
static bool read_left(const struct eb_left *left, struct added *added)
{
    char ip[EB_ENDPOINT_TEXT_BYTES];
    struct eb_endpoint endpoint;
    unsigned prefix;
    if (strcmp(left->kind, "address-add") != 0 ||
        sscanf(left->unit, "address %23s %23[0-9.]/%u", added->link, ip, &prefix) != 3 || prefix > 32 ||
        !eb_endpoint_parse(&endpoint, ip))
        return false;
    memcpy(added->address.ip, endpoint.ip, sizeof added->address.ip);
    added->address.prefix = (uint8_t)prefix;
    return true;
}

void addresses_recall(struct session *s)
{
    if (s->sim == NULL || !EB_PORT_HAS(s->job->port, links, add))
        return;
    for (size_t i = 0; i < s->job->left_count; i++) {
        struct added added;
        if (read_left(&s->job->lefts[i], &added))
            s->job->port->links->add(s->job->port->self, added.link, &added.address);
    }
}

/* --- giving -------------------------------------------------------------------------------------- */

/* One address, in the record before it is given. */
static bool add_one(struct session *s, const struct added *added)
{
    char text[32];
    struct added *more = realloc(s->added, (s->added_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    s->added = more;
    address_text(&added->address, text, sizeof text);
    if (!note_address(s, "address-add", added->link, text))
        return false;
    enum eb_status status = s->job->port->links->add(s->job->port->self, added->link, &added->address);
    if (status == EB_OK) {
        s->added[s->added_count++] = *added;
        fprintf(stderr, "einbau: added %s to %s\n", text, added->link);
        return true;
    }
    note_address(s, "address-remove", added->link, text);
    if (status == EB_DENIED)
        complain("%s cannot be added to %s without root or the capability cap_net_admin. To do it yourself: "
                 "sudo ip address add %s dev %s",
                 text, added->link, text, added->link);
    else
        complain("%s could not be added to %s: the system refused it", text, added->link);
    s->status = EXIT_WRONG_CALL;
    return false;
}

bool addresses_add(struct session *s)
{
    if (!EB_PORT_HAS(s->job->port, links, add) || !EB_PORT_HAS(s->job->port, links, list)) {
        complain("--add-address: this port cannot change the laptop's addresses");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    struct ways ways;
    bool ok = ways_find(s, &ways);
    for (size_t i = 0; ok && i < s->job->count; i++) {
        struct added added = {.address = ways.list[i].add};
        bool known = ways.list[i].kind != EB_WAY_ADD || !s->job->devices[i].chosen;
        for (size_t k = 0; k < s->added_count && !known; k++)
            known = memcmp(&s->added[k].address, &added.address, sizeof added.address) == 0;
        if (known)
            continue;
        snprintf(added.link, sizeof added.link, "%s", ways.links[ways.list[i].link].name);
        ok = add_one(s, &added);
    }
    ways_free(&ways);
    return ok;
}

static bool take_back(struct session *s, const struct added *added)
{
    char text[32];
    address_text(&added->address, text, sizeof text);
    enum eb_status status = s->job->port->links->remove(s->job->port->self, added->link, &added->address);
    if (status == EB_DENIED) {
        complain("%s cannot be taken from %s without root or the capability cap_net_admin. To do it "
                 "yourself: sudo ip address delete %s dev %s",
                 text, added->link, text, added->link);
        return false;
    }
    if (status == EB_OK) /* else it is gone already */
        fprintf(stderr, "einbau: took %s back from %s\n", text, added->link);
    note_address(s, "address-remove", added->link, text);
    return status == EB_OK;
}

void addresses_take_back(struct session *s)
{
    for (size_t i = 0; i < s->added_count; i++)
        take_back(s, &s->added[i]);
    s->added_count = 0;
}

/* Those of `einbau links` are there to stay until --undo. */
static bool is_ours(const struct eb_left *left, bool all, struct added *added)
{
    return read_left(left, added) && (all || strcmp(left->command, "links") != 0);
}

size_t addresses_left(const struct session *s)
{
    struct added added;
    size_t count = 0;
    for (size_t i = 0; i < s->job->left_count; i++)
        count += is_ours(&s->job->lefts[i], false, &added);
    return count;
}

size_t addresses_recover(struct session *s, bool all)
{
    size_t count = 0;
    for (size_t i = 0; i < s->job->left_count && EB_PORT_HAS(s->job->port, links, remove); i++) {
        struct added added;
        count += is_ours(&s->job->lefts[i], all, &added) && take_back(s, &added);
    }
    return count;
}

/* --- the ways to the devices --------------------------------------------------------------------- */

/* One question by ARP who has an address. */
struct probe {
    size_t of; /* index of the target, or of the link whose own address it is */
    uint8_t ip[4];
    struct eb_macs_seen macs;
};

static void begin_probe(const struct session *s, const struct eb_link *link, const uint8_t ip[4],
                        struct probe *probe, struct eb_request *request)
{
    struct eb_request_config config = {.port = s->job->port,
                                       .access = &eb_access_arp,
                                       .operation = {.kind = EB_WHO_HAS, .macs = &probe->macs},
                                       .target = {.link = link},
                                       .patience_us = PROBE_US};
    memcpy(config.operation.ip, ip, sizeof config.operation.ip);
    memcpy(probe->ip, ip, sizeof probe->ip);
    if (eb_request_begin(request, &config) != EB_OK)
        request->status = EB_BAD_CALL; /* it has ended with that */
}

enum eb_status address_answers(struct session *s, const uint8_t ip[4], char mac[EB_MAC_TEXT_BYTES])
{
    static struct eb_link links[EB_LINKS_MAX];
    enum eb_status status = EB_UNREACHABLE;
    size_t count = EB_PORT_HAS(s->job->port, links, list)
                       ? s->job->port->links->list(s->job->port->self, links, EB_LINKS_MAX)
                       : 0;
    for (size_t i = 0; i < count; i++) {
        struct probe probe = {.of = i};
        struct eb_request request = {.status = EB_PENDING};
        for (size_t k = 0; k < links[i].count; k++) {
            if (memcmp(links[i].addresses[k].ip, ip, sizeof links[i].addresses[k].ip) != 0)
                continue;
            eb_mac_text(links[i].mac, mac); /* the laptop's own */
            return EB_OK;
        }
        begin_probe(s, &links[i], ip, &probe, &request);
        requests_work(s->job->port, &request, 1);
        if (request.status == EB_OK && probe.macs.count > 0) {
            eb_mac_text(probe.macs.list[0], mac);
            return EB_OK;
        }
        status = request.status == EB_OK ? EB_NO_ANSWER : status == EB_NO_ANSWER ? status : request.status;
    }
    return status;
}

/* Whether nobody answers to the advised address; where somebody does, it is taken and another must be found.
 */
static bool probe_advice(struct session *s, struct ways *w, uint8_t (*taken)[4], size_t *taken_count,
                         size_t cap)
{
    bool again = false;
    struct probe *probes = calloc(s->job->count + 1, sizeof *probes);
    struct eb_request *requests = calloc(s->job->count + 1, sizeof *requests);
    size_t count = 0;
    for (size_t i = 0; probes != NULL && requests != NULL && i < s->job->count; i++) {
        bool asked = w->list[i].kind != EB_WAY_ADD || !s->job->devices[i].chosen;
        for (size_t k = 0; k < count && !asked; k++)
            asked = memcmp(probes[k].ip, w->list[i].add.ip, 4) == 0;
        if (!asked)
            begin_probe(s, &w->links[w->list[i].link], w->list[i].add.ip, &probes[count], &requests[count]);
        count += !asked;
    }
    requests_work(s->job->port, requests, count);
    for (size_t k = 0; k < count; k++) {
        w->denied = w->denied || requests[k].status == EB_DENIED;
        if (requests[k].status == EB_OK && probes[k].macs.count > 0 && *taken_count < cap) {
            memcpy(taken[(*taken_count)++], probes[k].ip, sizeof taken[0]);
            again = true;
        }
    }
    free(probes);
    free(requests);
    return again;
}

/* Another link of the laptop may answer for this one: systems do so for all their addresses. */
static bool is_own(const struct ways *w, const uint8_t mac[EB_MAC_BYTES])
{
    for (size_t i = 0; i < w->count; i++) {
        if (w->links[i].has_mac && memcmp(w->links[i].mac, mac, EB_MAC_BYTES) == 0)
            return true;
    }
    return false;
}

/* Asks who answers to the devices' addresses and to the laptop's own: more than one, or anybody, is a trap.
 */
static void probe_present(struct session *s, struct ways *w)
{
    size_t own = 0;
    for (size_t i = 0; i < w->count; i++)
        own += w->links[i].count;
    struct probe *probes = calloc(s->job->count + own + 1, sizeof *probes);
    struct eb_request *requests = calloc(s->job->count + own + 1, sizeof *requests);
    bool ready = probes != NULL && requests != NULL;
    size_t count = 0;
    for (size_t i = 0; ready && i < s->job->count; i++) {
        if (!s->job->devices[i].chosen || !target_on_ip(&s->job->devices[i]) ||
            w->list[i].kind != EB_WAY_DIRECT || !w->links[w->list[i].link].has_mac)
            continue;
        probes[count].of = i;
        begin_probe(s, &w->links[w->list[i].link], s->job->devices[i].device->modbus.ip, &probes[count],
                    &requests[count]);
        count++;
    }
    size_t devices = count;
    for (size_t i = 0; ready && i < w->count; i++) {
        for (size_t k = 0; k < w->links[i].count && w->links[i].has_mac && w->links[i].carrier; k++) {
            probes[count].of = i;
            begin_probe(s, &w->links[i], w->links[i].addresses[k].ip, &probes[count], &requests[count]);
            count++;
        }
    }
    requests_work(s->job->port, requests, count);
    for (size_t k = 0; k < count; k++) {
        const struct eb_macs_seen *macs = &probes[k].macs;
        w->denied = w->denied || requests[k].status == EB_DENIED;
        if (k < devices && macs->count > 1)
            w->list[probes[k].of].traps |= EB_TRAP_TWO_DEVICES;
        if (k >= devices && macs->count > 0 && !is_own(w, macs->list[0]) &&
            w->conflict_count < WAYS_CONFLICTS_MAX) {
            struct conflict *c = &w->conflicts[w->conflict_count++];
            c->link = probes[k].of;
            memcpy(c->ip, probes[k].ip, sizeof c->ip);
            memcpy(c->mac, macs->list[0], sizeof c->mac);
        }
    }
    free(probes);
    free(requests);
}

bool ways_find(struct session *s, struct ways *w)
{
    static const uint8_t none[4];
    memset(w, 0, sizeof *w);
    size_t cap = s->job->count + 2 * EB_LINKS_MAX + 64;
    size_t taken_count = 0;
    uint8_t(*taken)[4] = calloc(cap, sizeof *taken);
    w->list = calloc(s->job->count + 1, sizeof *w->list);
    if (taken == NULL || w->list == NULL) {
        free(taken);
        complain("out of memory");
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    w->count = s->job->port->links->list(s->job->port->self, w->links, EB_LINKS_MAX);
    for (size_t i = 0; i < s->job->count; i++)
        memcpy(taken[taken_count++], s->job->devices[i].device->modbus.ip, sizeof taken[0]);
    for (size_t i = 0; i < w->count; i++) {
        if (memcmp(w->links[i].router, none, sizeof none) != 0)
            memcpy(taken[taken_count++], w->links[i].router, sizeof taken[0]);
    }
    do {
        for (size_t i = 0; i < s->job->count; i++) {
            struct eb_link_address device = {.prefix = s->job->devices[i].device->prefix};
            if (!target_on_ip(&s->job->devices[i])) {
                w->list[i] = (struct eb_way){.kind = EB_WAY_DIRECT};
                continue;
            }
            memcpy(device.ip, s->job->devices[i].device->modbus.ip, sizeof device.ip);
            w->list[i] = eb_way_to(w->links, w->count, &device, (const uint8_t(*)[4])taken, taken_count);
        }
    } while (probe_advice(s, w, taken, &taken_count, cap));
    probe_present(s, w);
    free(taken);
    return true;
}

void ways_free(struct ways *w)
{
    free(w->list);
}
