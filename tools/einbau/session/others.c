#include "session/others.h"
#include "session/bus.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    LISTEN_US = 1200000,
    ROUND_US = 3000000, /* between two rounds on a bus, in which it belongs to others */
    USB_US = 1000000,
    SLICE_US = 40000,
    MISSED_MOST = 2 /* an answer may be lost once */
};

enum { NAME, ADDRESS, MAC, PRODUCT, ORDER_CODE, REV, SERIAL, VERSION, HEARD_BY };

struct other_bus {
    const struct eb_site_link *wire;
    struct eb_nodes nodes;
    bool going;
    uint64_t next_us; /* when the next round begins */
    unsigned trouble; /* of the last round */
};

bool other_gone(const struct other *o)
{
    return o->missed >= MISSED_MOST;
}

const char *others_bus(const struct others *o, size_t index)
{
    return o->buses[index].wire->name;
}

bool others_begin(struct others *o, struct session *s)
{
    const struct eb_site *site = s->job->site;
    size_t links = site != NULL ? site->link_count : 0;
    *o = (struct others){.session = s, .buses = calloc(links + 1, sizeof *o->buses)};
    if (o->buses == NULL)
        abort();
    for (size_t i = 0; i < links; i++) {
        if (site->links[i].kind == EB_SITE_CAN)
            o->buses[o->bus_count++].wire = &site->links[i];
    }
    return o->bus_count > 0 || EB_PORT_HAS(s->job->port, usb, device);
}

void others_end(struct others *o)
{
    for (size_t i = 0; i < o->bus_count; i++) {
        if (o->buses[i].going)
            eb_nodes_close(&o->buses[i].nodes);
    }
    free(o->buses);
    free(o->list);
    *o = (struct others){.session = NULL};
}

static struct other *row_of(const struct others *o, const void *of, const char *address)
{
    for (size_t i = 0; i < o->count; i++) {
        if (o->list[i].of == of && strcmp(o->list[i].cells[ADDRESS], address) == 0)
            return &o->list[i];
    }
    return NULL;
}

/* One that is not asked now stays as it was. */
static void keep(const struct others *o, const void *of, const char *address, uint64_t now_us)
{
    struct other *row = row_of(o, of, address);
    if (row != NULL)
        row->last_us = now_us;
}

/* It is there, with what is known of it now. */
static void see(struct others *o, const void *of, char (*cells)[WIRE_CELL_BYTES], uint64_t now_us)
{
    struct other *row = row_of(o, of, cells[ADDRESS]);
    if (row == NULL) {
        row = realloc(o->list, (o->count + 1) * sizeof *row);
        if (row == NULL)
            abort();
        o->list = row;
        row = &o->list[o->count++];
        *row = (struct other){.of = of, .first_us = now_us};
    } else if (memcmp(row->cells, cells, sizeof row->cells) != 0 || other_gone(row)) {
        row->changed_us = now_us;
    }
    memcpy(row->cells, cells, sizeof row->cells);
    row->last_us = now_us;
    row->missed = 0;
}

/* A round is over: who was not seen in it was missed. */
static void miss(struct others *o, const void *of, uint64_t since_us)
{
    for (size_t i = 0; i < o->count; i++) {
        if (o->list[i].of == of && o->list[i].last_us < since_us && o->list[i].missed < MISSED_MOST)
            o->list[i].missed++;
    }
}

/* --- CAN ----------------------------------------------------------------------------------------- */

static void name_it(const struct others *o, const struct eb_site_link *wire, unsigned node,
                    char name[WIRE_CELL_BYTES])
{
    for (size_t i = 0; i < o->session->job->count; i++) {
        const struct eb_site_device *d = o->session->job->devices[i].device;
        if (d->wire == wire && d->node == node)
            snprintf(name, WIRE_CELL_BYTES, "%s", d->name);
    }
}

static void take_nodes(struct others *o, const struct other_bus *b, uint64_t now_us)
{
    for (unsigned id = 1; id <= EB_NODES_MAX; id++) {
        const struct eb_node *n = &b->nodes.nodes[id];
        char cells[WIRE_COLUMNS][WIRE_CELL_BYTES] = {{0}};
        snprintf(cells[ADDRESS], WIRE_CELL_BYTES, "%.40s node %u", b->wire->name, id);
        if ((b->nodes.config.alone[id / 8] >> id % 8 & 1) != 0)
            keep(o, b, cells[ADDRESS], now_us);
        if (!n->answered)
            continue;
        name_it(o, b->wire, id, cells[NAME]);
        snprintf(cells[PRODUCT], WIRE_CELL_BYTES, "%s", n->texts[EB_NODE_NAME]);
        snprintf(cells[REV], WIRE_CELL_BYTES, "%s", n->texts[EB_NODE_HARDWARE]);
        snprintf(cells[SERIAL], WIRE_CELL_BYTES, "%s", n->texts[EB_NODE_SERIAL]);
        snprintf(cells[VERSION], WIRE_CELL_BYTES, "%s", n->texts[EB_NODE_SOFTWARE]);
        snprintf(cells[HEARD_BY], WIRE_CELL_BYTES, "canopen");
        see(o, b, cells, now_us);
    }
}

static void work_bus(struct others *o, struct other_bus *b, uint64_t until_us)
{
    const struct eb_port *port = o->session->job->port;
    uint64_t now_us = eb_port_now_us(port);
    if (!b->going && now_us < b->next_us)
        return;
    if (!b->going) {
        struct eb_nodes_config config = {.port = port,
                                         .link = eb_job_adapter(o->session->job, b->wire),
                                         .bit_rate = b->wire->bit_rate,
                                         .listen_us = LISTEN_US};
        eb_job_find_left(o->session->job);
        bus_leave_alone(o->session, b->wire, &config);
        eb_nodes_begin(&b->nodes, &config);
        b->going = true;
        b->next_us = now_us;
    }
    if (eb_nodes_work(&b->nodes, until_us) == EB_PENDING)
        return;
    uint64_t began_us = b->next_us;
    now_us = eb_port_now_us(port);
    eb_nodes_close(&b->nodes);
    take_nodes(o, b, now_us);
    /* Where nothing was asked, or nothing could be heard, no node is missed. */
    if (b->nodes.status == EB_OK && !b->nodes.stayed_quiet)
        miss(o, b, began_us);
    b->trouble = eb_bus_judge(&b->nodes);
    b->going = false;
    b->next_us = now_us + ROUND_US;
}

void others_trouble(const struct others *o, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t i = 0; i < o->bus_count; i++) {
        unsigned trouble = o->buses[i].trouble;
        for (unsigned k = 0; trouble != 0 && k < EB_BUS_TROUBLES; k++) {
            if ((trouble >> k & 1) == 0)
                continue;
            snprintf(text, cap, "%s: %s", o->buses[i].wire->name,
                     eb_bus_trouble_text((enum eb_bus_trouble)(1U << k)));
            return;
        }
    }
}

/* --- USB ----------------------------------------------------------------------------------------- */

static void take_usb(struct others *o, const struct eb_usb_device *d, uint64_t now_us)
{
    char cells[WIRE_COLUMNS][WIRE_CELL_BYTES] = {{0}};
    struct eb_dfu_interface dfu;
    if (!eb_dfu_find(d, &dfu)) /* hubs, keyboards */
        return;
    for (size_t i = 0; i < o->session->job->count; i++) {
        const struct eb_site_device *known = o->session->job->devices[i].device;
        if (known->wire->kind == EB_SITE_USB &&
            eb_usb_match(&known->profile->usb, known->serial, known->usb_place, d) >= EB_USB_PERHAPS)
            snprintf(cells[NAME], WIRE_CELL_BYTES, "%s", known->name);
    }
    snprintf(cells[ADDRESS], WIRE_CELL_BYTES, "usb %.60s", d->place);
    snprintf(cells[PRODUCT], WIRE_CELL_BYTES, "%.70s%s", d->name, dfu.in_loader ? " (loader)" : "");
    snprintf(cells[ORDER_CODE], WIRE_CELL_BYTES, "%04x:%04x", d->vendor, d->product);
    snprintf(cells[SERIAL], WIRE_CELL_BYTES, "%.79s", d->serial);
    snprintf(cells[HEARD_BY], WIRE_CELL_BYTES, "usb");
    see(o, NULL, cells, now_us);
}

static void work_usb(struct others *o)
{
    const struct eb_port *port = o->session->job->port;
    uint64_t now_us = eb_port_now_us(port);
    struct eb_usb_device d;
    if (!EB_PORT_HAS(port, usb, device) || now_us < o->usb_us)
        return;
    for (size_t i = 0; i < EB_USB_DEVICES_MAX && port->usb->device(port->self, i, &d); i++)
        take_usb(o, &d, now_us);
    for (size_t i = 0; i < o->count; i++) { /* what is not enumerated is not there */
        if (o->list[i].of == NULL && o->list[i].last_us < now_us)
            o->list[i].missed = MISSED_MOST;
    }
    o->usb_us = now_us + USB_US;
}

void others_work(struct others *o, uint64_t until_us)
{
    work_usb(o);
    for (size_t i = 0; i < o->bus_count; i++) {
        uint64_t slice_us = eb_port_now_us(o->session->job->port) + SLICE_US;
        work_bus(o, &o->buses[i], slice_us < until_us ? slice_us : until_us);
    }
}
