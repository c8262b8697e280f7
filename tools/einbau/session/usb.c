#include "session/usb.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static enum eb_usb_match match_of(const struct eb_job_device *t, const struct eb_usb_device *d)
{
    const struct eb_site_device *device = t->device;
    if (device->wire->kind != EB_SITE_USB)
        return EB_USB_NOT_IT;
    return eb_usb_match(&device->profile->usb, device->serial, device->usb_place, d);
}

static const struct eb_job_device *target_of(const struct session *s, const struct eb_usb_device *d)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (match_of(&s->job->devices[i], d) >= EB_USB_PERHAPS)
            return &s->job->devices[i];
    }
    return NULL;
}

static const struct eb_usb_device *device_of(const struct usb *usb, const struct eb_job_device *t)
{
    for (size_t i = 0; i < usb->count; i++) {
        if (match_of(t, &usb->list[i]) >= EB_USB_PERHAPS)
            return &usb->list[i];
    }
    return NULL;
}

void usb_look(struct session *s, struct usb *usb)
{
    const struct eb_port *port = s->job->port;
    memset(usb, 0, sizeof *usb);
    if (!EB_PORT_HAS(port, usb, device))
        return;
    usb->list = calloc(EB_USB_DEVICES_MAX, sizeof *usb->list);
    while (usb->list != NULL && usb->count < EB_USB_DEVICES_MAX &&
           port->usb->device(port->self, usb->count, &usb->list[usb->count]))
        usb->count++;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        t->absent = t->absent || (t->device->wire->kind == EB_SITE_USB && device_of(usb, t) == NULL);
    }
}

void usb_free(struct usb *usb)
{
    free(usb->list);
    usb->list = NULL;
    usb->count = 0;
}

size_t usb_count(const struct usb *usb)
{
    struct eb_dfu_interface dfu;
    size_t count = 0;
    for (size_t i = 0; i < usb->count; i++)
        count += eb_dfu_find(&usb->list[i], &dfu);
    return count;
}

/* --- as text ------------------------------------------------------------------------------------- */

static void ids_text(const struct eb_usb_device *d, char text[12])
{
    snprintf(text, 12, "%04x:%04x", d->vendor, d->product);
}

void usb_print_count(const struct usb *usb)
{
    size_t count = usb_count(usb);
    if (usb->count > 0)
        say("\nUSB: %zu plugged in, hubs among them; %zu with a DFU interface", usb->count, count);
}

void usb_print(const struct session *s, const struct usb *usb)
{
    static const char *const heads[] = {"PLACE",         "IDS",     "MAKER", "PRODUCT",
                                        "SERIAL NUMBER", "RELEASE", "RUNS"};
    struct table table;
    size_t rows = 0;
    table_begin(&table, 7, heads);
    for (size_t i = 0; i < usb->count; i++) {
        const struct eb_usb_device *d = &usb->list[i];
        struct eb_dfu_interface dfu;
        char ids[12];
        char release[EB_USB_RELEASE_BYTES];
        if (!eb_dfu_find(d, &dfu) || target_of(s, d) != NULL)
            continue;
        ids_text(d, ids);
        eb_usb_release_text(d->release, 3, release);
        const char *const cells[] = {d->place,
                                     ids,
                                     d->maker,
                                     d->name,
                                     d->serial,
                                     release,
                                     dfu.in_loader ? "its loader" : "its program"};
        table_add(&table, cells);
        rows++;
    }
    if (rows > 0) {
        printf("\nOn USB%s:\n\n", s->job->site != NULL ? " and not on the site" : "");
        table_print(&table);
    } else {
        table_free(&table);
    }
}

void usb_right_text(const struct eb_usb_ids *ids, char *text, size_t cap)
{
    char loader[120] = "";
    if (ids->loader_vendor != ids->vendor || ids->loader_product != ids->product)
        snprintf(loader, sizeof loader, ", and the same line with %04x and %04x for its loader",
                 ids->loader_vendor, ids->loader_product);
    snprintf(
        text, cap,
        "To grant the permission once, write into /etc/udev/rules.d/70-einbau.rules: SUBSYSTEM==\"usb\", "
        "ATTR{idVendor}==\"%04x\", ATTR{idProduct}==\"%04x\", TAG+=\"uaccess\"%s; then plug it in again",
        ids->vendor, ids->product, loader);
}

/* Whether it could be written to: EB_OK, EB_NO_ANSWER where it is not plugged in, EB_GARBAGE where it has no
 * interface for that, or what keeps this user from it. */
static enum eb_status try_open(const struct session *s, const struct eb_usb_device *d)
{
    const struct eb_port *port = s->job->port;
    struct eb_dfu_interface dfu;
    int handle;
    if (d == NULL)
        return EB_NO_ANSWER;
    enum eb_status status = port->usb->open(port->self, NULL, d, &handle);
    if (status != EB_OK)
        return status;
    status = eb_dfu_find(d, &dfu) ? port->usb->claim(port->self, handle, dfu.number, 0) : EB_GARBAGE;
    port->usb->close(port->self, handle);
    return status;
}

bool usb_sound(const struct session *s, const struct usb *usb, const struct eb_job_device *t)
{
    return t->device->wire->kind != EB_SITE_USB || try_open(s, device_of(usb, t)) == EB_OK;
}

void usb_way_text(const struct session *s, const struct usb *usb, const struct eb_job_device *t, char *text,
                  size_t cap)
{
    const struct eb_usb_device *d = device_of(usb, t);
    struct eb_dfu_interface dfu;
    enum eb_status status = try_open(s, d);
    if (d == NULL) {
        snprintf(text, cap,
                 !EB_PORT_HAS(s->job->port, usb, device) ? "this laptop has no USB" : "not plugged in");
        return;
    }
    bool found = eb_dfu_find(d, &dfu);
    snprintf(text, cap, "plugged in at %s%s%s", d->place,
             !found          ? ", without a DFU interface"
             : dfu.in_loader ? ", in its loader"
                             : "",
             status == EB_DENIED ? "; this user may not open it. "
             : status == EB_BUSY ? "; a program, or a driver, on this laptop uses its DFU interface: end that"
             : found && status != EB_OK ? "; it cannot be opened now"
                                        : "");
    size_t at = strlen(text);
    if (status == EB_DENIED)
        usb_right_text(&t->device->profile->usb, text + at, cap - at);
}

/* --- as a document ------------------------------------------------------------------------------- */

static json_t *device_document(const struct session *s, const struct eb_usb_device *d)
{
    const struct eb_job_device *t = target_of(s, d);
    struct eb_dfu_interface dfu;
    char ids[12];
    char release[EB_USB_RELEASE_BYTES];
    bool found = eb_dfu_find(d, &dfu);
    ids_text(d, ids);
    eb_usb_release_text(d->release, 3, release);
    return json_pack("{s:s, s:i, s:i, s:s, s:s, s:s, s:s, s:s, s:o, s:o}", "place", d->place, "bus",
                     (int)d->bus, "address", (int)d->address, "ids", ids, "release", release, "maker",
                     d->maker, "product", d->name, "serial", d->serial, "dfu",
                     found ? json_string(dfu.in_loader ? "loader" : "program") : json_null(), "device",
                     t != NULL ? json_string(t->device->name) : json_null());
}

json_t *usb_document(const struct session *s, const struct usb *usb)
{
    json_t *list = json_array();
    for (size_t i = 0; i < usb->count; i++)
        json_array_append_new(list, device_document(s, &usb->list[i]));
    return list;
}
