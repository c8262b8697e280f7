#include "device.h"
#include "documents.h"
#include "server.h"
#include "world.h"

#include <stdio.h>
#include <string.h>

enum {
    ENUMERATION_US = 150000, /* USB 2.0 section 7.1.7.3: 100 ms of debouncing, a reset, a few transfers */
    STRING_BYTES_MAX = 126,
    FIRST_HUB_ADDRESS = 120,
    CLASS_MASK = 0x60,
    GET_STATUS = 0,
    SET_ADDRESS = 5,
    GET_CONFIGURATION = 8,
    SET_CONFIGURATION = 9,
    GET_INTERFACE = 10,
    SET_INTERFACE = 11,
    OK = 0,
    ERR_ADDRESS = 8,
    ERR_FIRMWARE = 10,
    ERR_STALLEDPKT = 15
};

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static bool in_loader(const struct ebi_sim_device *d)
{
    return d->mode == EB_SIM_LOADER;
}

static void put16(uint8_t *at, unsigned number)
{
    at[0] = (uint8_t)number;
    at[1] = (uint8_t)(number >> 8);
}

/* --- descriptors --------------------------------------------------------------------------------- */

/* "2.1.0" as 0210h, "5.2" as 0502h. */
static uint16_t bcd_of(const char *version)
{
    unsigned parts[3] = {0};
    int count = sscanf(version, "%u.%u.%u", &parts[0], &parts[1], &parts[2]);
    unsigned minor =
        count == 3 ? parts[1] % 10 << 4 | parts[2] % 10 : parts[1] / 10 % 10 << 4 | parts[1] % 10;
    return (uint16_t)((parts[0] / 10 % 10 << 4 | parts[0] % 10) << 8 | minor);
}

static size_t device_descriptor(const struct ebi_sim_device *d, uint8_t *to)
{
    const struct ebi_sim_usb *u = &d->usb;
    static const uint8_t head[] = {EB_USB_DESCRIPTOR_BYTES, EB_USB_TYPE_DEVICE, 0x00, 0x02, 0, 0, 0, 64};
    unsigned release = in_loader(d)            ? u->loader_release
                       : u->release_is_version ? bcd_of(d->components[0].version)
                                               : u->release;
    memcpy(to, head, sizeof head);
    put16(to + 8, in_loader(d) ? u->loader_vendor : u->vendor);
    put16(to + 10, in_loader(d) ? u->loader_product : u->product);
    put16(to + 12, release);
    to[14] = EBI_SIM_USB_MAKER;
    to[15] = EBI_SIM_USB_PRODUCT;
    to[16] = (in_loader(d) ? u->no_loader_serial : u->no_serial) ? 0 : EBI_SIM_USB_SERIAL;
    to[17] = 1;
    return EB_USB_DESCRIPTOR_BYTES;
}

static size_t interface_descriptor(uint8_t *to, size_t number, size_t alternate, const uint8_t kind[3],
                                   size_t name)
{
    const uint8_t bytes[] = {
        9,       EB_USB_TYPE_INTERFACE, (uint8_t)number, (uint8_t)alternate, 0, kind[0], kind[1],
        kind[2], (uint8_t)name};
    memcpy(to, bytes, sizeof bytes);
    return sizeof bytes;
}

/* Of its loader: one for each component, and behind them one for each document. */
static size_t alternates(const struct ebi_sim_device *d)
{
    return d->count + (d->documents != NULL ? d->documents->count : 0);
}

/* The document that the loader's alternate setting stands for; NULL: it is a component. */
static struct ebi_sim_document *document_at(const struct ebi_sim_device *d, size_t alternate)
{
    return alternate < d->count ? NULL : ebi_sim_document_in_loader(d, alternate - d->count);
}

static size_t dfu_interface(const struct ebi_sim_device *d)
{
    return !in_loader(d) && d->usb.other_interface ? 1 : 0;
}

static size_t configuration_descriptor(const struct ebi_sim_device *d, uint8_t *to)
{
    const struct ebi_sim_usb *u = &d->usb;
    static const uint8_t makers[3] = {0xFF, 0, 0};
    const uint8_t dfu[3] = {EB_DFU_CLASS, EB_DFU_SUBCLASS, in_loader(d) ? 2 : 1};
    size_t interface = dfu_interface(d);
    size_t at = 9;
    if (interface > 0)
        at += interface_descriptor(to + at, 0, 0, makers, 0);
    for (size_t i = 0; i < (in_loader(d) ? alternates(d) : 1); i++)
        at += interface_descriptor(to + at, interface, i, dfu,
                                   in_loader(d) ? EBI_SIM_USB_TARGETS + i : EBI_SIM_USB_PROGRAM);
    uint8_t *f = to + at;
    f[0] = 9;
    f[1] = 0x21;
    f[2] = (uint8_t)(EB_DFU_CAN_DNLOAD | (u->uploads ? EB_DFU_CAN_UPLOAD : 0) |
                     (u->manifest == EBI_SIM_USB_TOLERANT ? EB_DFU_MANIFESTATION_TOLERANT : 0) |
                     (u->detaches_itself || u->claims_detach ? EB_DFU_WILL_DETACH : 0));
    put16(f + 3, u->detach_ms);
    put16(f + 5, u->transfer_bytes);
    put16(f + 7, 0x0110);
    at += 9;
    const uint8_t head[] = {
        9, EB_USB_TYPE_CONFIGURATION,  (uint8_t)at, (uint8_t)(at >> 8), (uint8_t)(interface + 1), 1,
        0, u->own_power ? 0xC0 : 0x80, 50};
    memcpy(to, head, sizeof head);
    return at;
}

static void string_text(const struct ebi_sim_device *d, unsigned index, char *text, size_t cap)
{
    const struct ebi_sim_component *c = &d->components[0];
    bool program = !in_loader(d);
    text[0] = '\0';
    if (index == EBI_SIM_USB_MAKER)
        snprintf(text, cap, "%s", d->identity.maker);
    else if (index == EBI_SIM_USB_PRODUCT)
        snprintf(text, cap, "%.38s%s", d->identity.product, program ? "" : " loader");
    else if (index == EBI_SIM_USB_SERIAL && !(program ? d->usb.no_serial : d->usb.no_loader_serial))
        snprintf(text, cap, "%s", ebi_sim_device_serial(d));
    else if (index == EBI_SIM_USB_ORDER_CODE)
        snprintf(text, cap, "%s", d->identity.order_code);
    else if (index == EBI_SIM_USB_REVISION)
        snprintf(text, cap, "%s", d->identity.hardware_revision);
    else if (index == EBI_SIM_USB_VERSION && program)
        snprintf(text, cap, "%s", c->version);
    else if (index == EBI_SIM_USB_CHECKSUM && program)
        snprintf(text, cap, "%08X", c->checksum);
    else if (index == EBI_SIM_USB_PROGRAM && program)
        snprintf(text, cap, "%.28s %s", d->identity.product, c->version);
    else if (!program && index >= EBI_SIM_USB_TARGETS + d->count &&
             index < EBI_SIM_USB_TARGETS + alternates(d))
        snprintf(text, cap, "%s", document_at(d, index - EBI_SIM_USB_TARGETS)->name);
    else if (index >= EBI_SIM_USB_TARGETS && index < EBI_SIM_USB_TARGETS + d->count)
        snprintf(text, cap, "%s",
                 program ? d->components[index - EBI_SIM_USB_TARGETS].version
                         : d->components[index - EBI_SIM_USB_TARGETS].name);
}

/* 0: it has none with that index. */
static size_t string_descriptor(const struct ebi_sim_device *d, unsigned index, uint8_t *to)
{
    char text[STRING_BYTES_MAX] = "";
    static const uint8_t languages[] = {4, EB_USB_TYPE_STRING, 0x09, 0x04};
    if (index == 0) {
        memcpy(to, languages, sizeof languages);
        return sizeof languages;
    }
    string_text(d, index, text, sizeof text);
    size_t size = strlen(text);
    to[0] = (uint8_t)(2 + 2 * size);
    to[1] = EB_USB_TYPE_STRING;
    for (size_t i = 0; i < size; i++)
        put16(to + 2 + 2 * i, (uint8_t)text[i]);
    return size > 0 ? 2 + 2 * size : 0;
}

bool ebi_sim_usb_there(const struct ebi_sim_device *d)
{
    return d->usb.is_usb && d->usb.address != 0;
}

void ebi_sim_usb_describe(const struct ebi_sim_device *d, struct eb_usb_device *to)
{
    uint8_t bytes[EB_USB_DESCRIPTOR_BYTES];
    memset(to, 0, sizeof *to);
    snprintf(to->place, sizeof to->place, "%s", d->usb.place);
    to->bus = (uint16_t)(d->usb.place[0] - '0');
    to->address = d->usb.address;
    device_descriptor(d, bytes);
    to->vendor = (uint16_t)(bytes[8] | bytes[9] << 8);
    to->product = (uint16_t)(bytes[10] | bytes[11] << 8);
    to->release = (uint16_t)(bytes[12] | bytes[13] << 8);
    string_text(d, EBI_SIM_USB_MAKER, to->maker, sizeof to->maker);
    string_text(d, EBI_SIM_USB_PRODUCT, to->name, sizeof to->name);
    string_text(d, EBI_SIM_USB_SERIAL, to->serial, sizeof to->serial);
    if (now(d) < d->usb.configured_us)
        return;
    to->size = (uint16_t)configuration_descriptor(d, to->configuration);
}

/* --- standard requests --------------------------------------------------------------------------- */

static bool standard_request(struct ebi_sim_device *d, const struct eb_usb_setup *s, uint8_t *data,
                             size_t *size)
{
    uint8_t answer[2 * STRING_BYTES_MAX + 2] = {0};
    size_t have = 0;
    switch (s->request) {
    case EB_USB_GET_DESCRIPTOR:
        if (s->value >> 8 == EB_USB_TYPE_DEVICE)
            have = device_descriptor(d, answer);
        else if (s->value >> 8 == EB_USB_TYPE_CONFIGURATION && (s->value & 0xFF) == 0)
            have = configuration_descriptor(d, answer);
        else if (s->value >> 8 == EB_USB_TYPE_STRING)
            have = string_descriptor(d, s->value & 0xFF, answer);
        if (have == 0)
            return false;
        break;
    case GET_STATUS:
        answer[0] = d->usb.own_power;
        have = 2;
        break;
    case GET_CONFIGURATION:
        answer[0] = 1;
        have = 1;
        break;
    case GET_INTERFACE:
        answer[0] = d->usb.alternate;
        have = 1;
        break;
    case SET_INTERFACE:
        if (s->index == dfu_interface(d)) {
            if (s->value >= (in_loader(d) ? alternates(d) : 1))
                return false;
            d->usb.alternate = (uint8_t)s->value;
        }
        *size = 0;
        return true;
    case SET_ADDRESS:
    case SET_CONFIGURATION:
        *size = 0;
        return s->request == SET_ADDRESS || s->value <= 1;
    default:
        return false;
    }
    if ((s->type & EB_USB_IN) == 0)
        return false;
    *size = have < s->length ? have : s->length;
    memcpy(data, answer, *size);
    return true;
}

/* --- DFU ----------------------------------------------------------------------------------------- */

void ebi_sim_usb_fail(struct ebi_sim_device *d, unsigned status)
{
    struct ebi_sim_usb *u = &d->usb;
    u->state = in_loader(d) ? EB_DFU_ERROR : EB_DFU_APP_IDLE;
    u->status = (uint8_t)(in_loader(d) ? status : OK);
    u->until_us = EB_NEVER;
}

/* The component that is written, or where a document is kept until it is whole. */
static struct ebi_sim_component *target(struct ebi_sim_device *d)
{
    return document_at(d, d->usb.alternate) != NULL ? ebi_sim_document_file(d)
                                                    : &d->components[d->usb.alternate];
}

static void begin_download(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    struct ebi_sim_component *c = target(d);
    struct ebi_sim_document *document = document_at(d, u->alternate);
    u->bank = c->bank[c->banks == 2 ? 1 - c->active : c->active];
    c->pending = false;
    memset(u->bank, 0xFF, c->capacity);
    if (document != NULL)
        ebi_sim_document_erase(document);
    ebi_sim_device_examine(d);
    u->received = 0;
    u->left_ms = d->erase_ms;
}

/* DFU_DNLOAD with some bytes. */
static bool take_block(struct ebi_sim_device *d, const struct eb_usb_setup *s, const uint8_t *data,
                       size_t size)
{
    struct ebi_sim_usb *u = &d->usb;
    u->left_ms = 0;
    if (u->state == EB_DFU_IDLE) {
        begin_download(d);
        u->block = s->value;
    }
    if (size > u->transfer_bytes || s->value != u->block || u->received + size > target(d)->capacity) {
        ebi_sim_usb_fail(d, size > u->transfer_bytes ? ERR_STALLEDPKT : ERR_ADDRESS);
        return size <= u->transfer_bytes;
    }
    ebi_sim_device_write(d, u->bank, u->bank + u->received, data, size);
    u->received += size;
    u->block++;
    if (d->write_bytes_per_s > 0)
        u->left_ms += (uint32_t)((size * 1000ULL + d->write_bytes_per_s - 1) / d->write_bytes_per_s);
    u->state = EB_DFU_DNLOAD_SYNC;
    return true;
}

static bool download(struct ebi_sim_device *d, const struct eb_usb_setup *s, const uint8_t *data, size_t size)
{
    struct ebi_sim_usb *u = &d->usb;
    if (u->state != EB_DFU_IDLE && u->state != EB_DFU_DNLOAD_IDLE)
        return false;
    if (size > 0)
        return take_block(d, s, data, size);
    if (u->state == EB_DFU_IDLE)
        return false;
    u->state = EB_DFU_MANIFEST_SYNC;
    u->left_ms = u->manifest_ms;
    u->manifested = false;
    return true;
}

static bool upload(struct ebi_sim_device *d, const struct eb_usb_setup *s, uint8_t *data, size_t *size)
{
    struct ebi_sim_usb *u = &d->usb;
    const struct ebi_sim_component *c = target(d);
    const struct ebi_sim_document *document = document_at(d, u->alternate);
    if (!u->uploads || (document != NULL && document->refuses) ||
        (u->state != EB_DFU_IDLE && u->state != EB_DFU_UPLOAD_IDLE) || s->length > u->transfer_bytes)
        return false;
    if (u->state == EB_DFU_IDLE) {
        u->received = 0;
        u->block = s->value;
    }
    if (s->value != u->block)
        return false;
    const uint8_t *bank =
        document != NULL ? document->now.bytes : c->bank[c->pending ? 1 - c->active : c->active];
    size_t left = (document != NULL ? document->now.size : c->capacity) - u->received;
    *size = left < s->length ? left : s->length;
    memcpy(data, bank + u->received, *size);
    u->received += *size;
    u->block++;
    u->state = *size < s->length ? EB_DFU_IDLE : EB_DFU_UPLOAD_IDLE;
    return true;
}

/* The program that was written is valid, or it is an error. */
static bool manifest(struct ebi_sim_device *d)
{
    struct ebi_sim_component *c = target(d);
    struct ebi_sim_document *document = document_at(d, d->usb.alternate);
    if (document != NULL) {
        ebi_sim_document_write(document, d->usb.bank, d->usb.received);
        return true;
    }
    c->pending = c->banks == 2;
    ebi_sim_device_examine(d);
    return c->pending || c->valid;
}

/* How long it will not want to be asked.  One that answers no more behind it says it all at once. */
static uint32_t next_wait_ms(struct ebi_sim_usb *u)
{
    bool parts = u->state == EB_DFU_DNLOAD_SYNC || u->manifest == EBI_SIM_USB_TOLERANT;
    uint32_t ms = parts && u->poll_cap_ms > 0 && u->left_ms > u->poll_cap_ms ? u->poll_cap_ms : u->left_ms;
    u->left_ms -= ms;
    return ms;
}

static void manifest_over(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    if (u->left_ms > 0) {
        u->state = EB_DFU_MANIFEST_SYNC;
        return;
    }
    u->manifested = true;
    if (!manifest(d))
        ebi_sim_usb_fail(d, ERR_FIRMWARE);
    else if (u->manifest == EBI_SIM_USB_TOLERANT)
        u->state = EB_DFU_MANIFEST_SYNC;
    else
        u->state = EB_DFU_MANIFEST_WAIT_RESET;
    if (u->state == EB_DFU_MANIFEST_WAIT_RESET && u->manifest == EBI_SIM_USB_RESTARTS)
        ebi_sim_device_restart(d, false, 0);
}

static uint32_t step_of_status(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    uint32_t wait_ms = 0;
    if (u->state == EB_DFU_DNLOAD_SYNC) {
        wait_ms = next_wait_ms(u);
        u->state = wait_ms > 0 ? EB_DFU_DNBUSY : EB_DFU_DNLOAD_IDLE;
    } else if (u->state == EB_DFU_MANIFEST_SYNC && u->manifested) {
        u->state = EB_DFU_IDLE;
    } else if (u->state == EB_DFU_MANIFEST_SYNC) {
        wait_ms = next_wait_ms(u);
        u->state = EB_DFU_MANIFEST;
    }
    if (u->state == EB_DFU_DNBUSY || u->state == EB_DFU_MANIFEST)
        u->until_us = now(d) + wait_ms * 1000ULL;
    return wait_ms;
}

static void put_status(struct ebi_sim_device *d, uint8_t *data)
{
    uint32_t wait_ms = step_of_status(d);
    data[0] = d->usb.status;
    put16(data + 1, wait_ms & 0xFFFF);
    data[3] = (uint8_t)(wait_ms >> 16);
    data[4] = d->usb.state;
    data[5] = 0;
}

static bool program_request(struct ebi_sim_device *d, const struct eb_usb_setup *s, uint8_t *data,
                            size_t *size)
{
    struct ebi_sim_usb *u = &d->usb;
    if (s->request == EB_DFU_GETSTATUS && s->length >= EB_DFU_STATUS_BYTES) {
        put_status(d, data);
        *size = EB_DFU_STATUS_BYTES;
        return true;
    }
    if (s->request == EB_DFU_GETSTATE && s->length >= 1) {
        data[0] = u->state;
        *size = 1;
        return true;
    }
    if (s->request != EB_DFU_DETACH || u->state != EB_DFU_APP_IDLE)
        return false;
    u->state = EB_DFU_APP_DETACH;
    *size = 0;
    if (u->detaches_itself && !u->stays)
        ebi_sim_device_restart(d, true, 0);
    else
        u->until_us = now(d) + (s->value < u->detach_ms ? s->value : u->detach_ms) * 1000ULL;
    return true;
}

static bool loader_request(struct ebi_sim_device *d, const struct eb_usb_setup *s, uint8_t *data,
                           size_t *size)
{
    struct ebi_sim_usb *u = &d->usb;
    bool idle = u->state == EB_DFU_IDLE || u->state == EB_DFU_DNLOAD_IDLE || u->state == EB_DFU_UPLOAD_IDLE;
    if (u->state == EB_DFU_DNBUSY || u->state == EB_DFU_MANIFEST || u->state == EB_DFU_MANIFEST_WAIT_RESET)
        return false;
    switch (s->request) {
    case EB_DFU_GETSTATUS:
        put_status(d, data);
        *size = EB_DFU_STATUS_BYTES;
        return true;
    case EB_DFU_GETSTATE:
        data[0] = u->state;
        *size = 1;
        return true;
    case EB_DFU_DNLOAD:
        return download(d, s, data, *size);
    case EB_DFU_UPLOAD:
        return upload(d, s, data, size);
    case EB_DFU_CLRSTATUS:
        if (u->state != EB_DFU_ERROR)
            return false;
        u->state = EB_DFU_IDLE;
        u->status = OK;
        *size = 0;
        return true;
    case EB_DFU_ABORT:
        u->state = idle ? EB_DFU_IDLE : u->state;
        *size = 0;
        return idle;
    default:
        return false;
    }
}

bool ebi_sim_usb_control(struct ebi_sim_device *d, const struct eb_usb_setup *s, uint8_t *data, size_t *size)
{
    ebi_sim_usb_tick(d);
    if ((s->type & CLASS_MASK) == 0)
        return standard_request(d, s, data, size);
    bool ok = s->type == ((s->type & EB_USB_IN) | 0x21) && s->index == dfu_interface(d) &&
              (in_loader(d) ? loader_request(d, s, data, size) : program_request(d, s, data, size));
    if (!ok && d->usb.state != EB_DFU_ERROR)
        ebi_sim_usb_fail(d, ERR_STALLEDPKT);
    return ok;
}

/* --- power, plug, time --------------------------------------------------------------------------- */

/* As it begins after a reset or a start. */
static void settle(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    u->state = in_loader(d) ? EB_DFU_IDLE : EB_DFU_APP_IDLE;
    u->status = OK;
    u->alternate = 0;
    u->until_us = EB_NEVER;
    u->left_ms = 0;
    u->bank = NULL;
    if (in_loader(d) && !d->components[0].valid)
        ebi_sim_usb_fail(d, ERR_FIRMWARE);
}

void ebi_sim_usb_reset(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    ebi_sim_usb_tick(d);
    if (!in_loader(d)) {
        if (u->state == EB_DFU_APP_DETACH && !u->stays)
            ebi_sim_device_restart(d, true, 0);
        u->alternate = 0;
        return;
    }
    if (d->components[0].valid || d->components[0].pending)
        ebi_sim_device_restart(d, false, 0);
    else
        settle(d);
}

static void hot(struct ebi_sim_device *d)
{
    if (d->sim != NULL && d->sim->usb_changed != NULL)
        d->sim->usb_changed(d->sim->usb_self, d);
}

static void leave(struct ebi_sim_device *d)
{
    bool was = d->usb.address != 0;
    d->usb.address = 0;
    d->usb.arrives_us = EB_NEVER;
    if (was) {
        ebi_sim_can_gateway(d);
        hot(d);
    }
}

static void alive(struct ebi_sim_device *d, bool on)
{
    if (!d->usb.is_usb)
        return;
    leave(d);
    settle(d);
    if (on && !d->usb.unplugged)
        d->usb.arrives_us = now(d) + ENUMERATION_US;
}

/* It was plugged in and enumerated long before. */
static void was_there(struct ebi_sim_device *d)
{
    if (d->usb.arrives_us != EB_NEVER)
        d->usb.arrives_us = now(d);
    ebi_sim_usb_tick(d);
    d->usb.configured_us = 0;
}

void ebi_sim_usb_plug(struct ebi_sim_device *d, const char *place)
{
    struct ebi_sim_usb *u = &d->usb;
    u->unplugged = place == NULL;
    if (place != NULL)
        snprintf(u->place, sizeof u->place, "%s", place);
    if (!u->own_power) {
        ebi_sim_device_power(d, place != NULL);
        return;
    }
    leave(d);
    if (place != NULL && ebi_sim_device_alive(d)) {
        ebi_sim_usb_reset(d);
        u->arrives_us = now(d) + ENUMERATION_US;
    }
}

/* As hosts do it: the next one, from 2 on, as the root of all is 1, and from the beginning again behind 119.
 */
static uint8_t next_address(struct eb_sim *sim)
{
    sim->usb_addresses = (uint8_t)(sim->usb_addresses % (FIRST_HUB_ADDRESS - 2) + 1);
    return (uint8_t)(sim->usb_addresses + 1);
}

void ebi_sim_usb_tick(struct ebi_sim_device *d)
{
    struct ebi_sim_usb *u = &d->usb;
    uint64_t at = now(d);
    if (!u->is_usb)
        return;
    if (at >= u->arrives_us) {
        u->arrives_us = EB_NEVER;
        u->address = next_address(d->sim);
        u->configured_us = at + u->configured_ms * 1000ULL;
        hot(d);
    }
    if (at < u->until_us)
        return;
    u->until_us = EB_NEVER;
    if (u->state == EB_DFU_DNBUSY)
        u->state = EB_DFU_DNLOAD_SYNC;
    else if (u->state == EB_DFU_MANIFEST)
        manifest_over(d);
    else if (u->state == EB_DFU_APP_DETACH)
        u->state = EB_DFU_APP_IDLE;
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    const struct ebi_sim_usb *u = &d->usb;
    if (!u->is_usb)
        return EB_NEVER;
    return u->arrives_us < u->until_us ? u->arrives_us : u->until_us;
}

const struct ebi_sim_server ebi_sim_usb = {
    .begin = was_there, .alive = alive, .tick = ebi_sim_usb_tick, .deadline_us = deadline_us};
