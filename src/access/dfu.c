/* A device on USB: its identity by its descriptors and strings, its program by the DFU class.
 *
 *   reading:     FIND --> CHECK --> STRINGS
 *   sending:     FIND --> CHECK --> [program: DETACH --> (reset by us, or by itself) --> FIND its loader -->
 * CHECK]
 *                --> CLAIM --> LOAD (a document: of its own alternate setting, in both directions)
 *   activating:  FIND --> RESET, where it is still in its loader
 *
 * It is the same device where its serial number is the same; one that tells none is the same where it is
 * plugged into the same socket.  That there is only one of its kind says nothing. */
#include "einbau/access/dfu.h"
#include "access/access.h"
#include "base/bytes.h"
#include "einbau/text.h"

#include <string.h>

enum move { FIND, CHECK, LANGUAGE, STRINGS, DETACH, CLAIM, LOAD, RESET };

enum {
    FIND_US = 400000,   /* while looking: so long it may just be on its way */
    STAYS_US = 3000000, /* beyond its own time a program that still runs has not let go */
    RETRY_US = 50000,   /* claiming, right after it came */
    CLAIM_US = 2000000,
    STRING_MS = 1000
};

/* What the end of a reset leads to. */
enum after_reset { IT_STARTS, LOADER_COMES, TRY_HAS_FAILED };

static const char *const where[] = {
    "looking for the device on USB",
    "reading its descriptors",
    "reading its strings",
    "reading its strings",
    "asking its program to let go (DFU detach)",
    "opening its loader",
    "DFU download",
    "resetting it",
};

typedef struct eb_access_dfu_context context;

static struct eb_dfu_way way(const context *r)
{
    return eb_dfu_way_of(r->contact->profile);
}

static void close_device(context *r)
{
    const struct eb_port *port = r->contact->port;
    if (r->handle != EB_NO_HANDLE)
        port->usb->close(port->self, r->handle);
    r->handle = EB_NO_HANDLE;
    r->asked = false;
}

static void stop_watching(context *r)
{
    const struct eb_port *port = r->contact->port;
    if (r->watch != EB_NO_HANDLE)
        port->usb->close(port->self, r->watch);
    r->watch = EB_NO_HANDLE;
}

static void close_all(context *r)
{
    close_device(r);
    stop_watching(r);
    r->busy = false;
}

static enum eb_status end_with(context *r, const struct eb_error *error)
{
    r->contact->error = *error;
    close_all(r);
    return error->status;
}

static enum eb_status end(context *r, enum eb_status status, const char *text)
{
    struct eb_error error = {.status = status, .where = where[r->move]};
    eb_text_copy(error.text, sizeof error.text, text);
    return end_with(r, &error);
}

static enum eb_status end_well(context *r)
{
    close_all(r);
    return EB_OK;
}

static void set_move(context *r, enum move move, uint64_t at_us)
{
    r->move = (uint8_t)move;
    r->look_us = at_us;
    r->asked = false;
}

static void begin_reset(context *r, enum after_reset after, uint64_t now_us)
{
    r->after = (uint8_t)after;
    set_move(r, RESET, now_us);
}

/* --- who is who ---------------------------------------------------------------------------------- */

static enum eb_usb_match match_of(const context *r, const struct eb_usb_device *d)
{
    const struct eb_target *target = r->contact->target;
    const char *serial = r->serial[0] != '\0' ? r->serial : target->serial;
    const char *place = r->place[0] != '\0' ? r->place : target->usb_place;
    return eb_usb_match(&r->contact->profile->usb, serial != NULL ? serial : "", place != NULL ? place : "",
                        d);
}

/* What is there in its stead, for the message. */
static void say_others(const context *r, const struct eb_usb_device *other, size_t others, char *text,
                       size_t cap)
{
    struct eb_text out;
    eb_text_init(&out, text, cap);
    if (others == 0) {
        eb_text_add(&out, "it is not plugged in");
        return;
    }
    eb_text_add(&out, "found ");
    eb_text_add(&out, other->serial[0] != '\0' ? other->serial : "one without a serial number");
    eb_text_add(&out, " at ");
    eb_text_add(&out, other->place);
    if (others > 1)
        eb_text_add(&out, " and others");
    eb_text_add(&out, ", expected ");
    if (r->contact->target->serial != NULL && r->contact->target->serial[0] != '\0')
        eb_text_add(&out, r->contact->target->serial);
    else if (r->serial[0] != '\0')
        eb_text_add(&out, r->serial);
    else
        eb_text_add(&out, "it at the place where it was");
    if (others == 1 && other->serial[0] == '\0')
        eb_text_add(&out, ": if that is it, enter its place on the site");
}

/* Finds it among what is plugged in: EB_OK; with `text` filled EB_NO_ANSWER, EB_PENDING where it has just
 * come, EB_OTHER where several might be it, or EB_GARBAGE. */
static enum eb_status find(context *r, char *text, size_t cap)
{
    const struct eb_port *port = r->contact->port;
    struct eb_usb_device device;
    struct eb_usb_device other = {.vendor = 0};
    size_t found = 0;
    size_t perhaps = 0;
    size_t others = 0;
    bool sure = false;
    for (size_t i = 0; port->usb->device(port->self, i, &device); i++) {
        enum eb_usb_match match = match_of(r, &device);
        if (match == EB_USB_ANOTHER) {
            others++;
            other = device;
        }
        if (match < EB_USB_PERHAPS || sure)
            continue;
        sure = match == EB_USB_IT;
        perhaps += match == EB_USB_PERHAPS;
        found++;
        r->contact->by_place = match == EB_USB_BY_PLACE;
        r->device = device;
        r->contact->release = device.release;
    }
    if (found == 0) {
        say_others(r, &other, others, text, cap);
        return EB_NO_ANSWER;
    }
    if (!sure && perhaps > 1) {
        eb_text_copy(text, cap,
                     "several devices of this kind are plugged in, and nothing says which one is meant: "
                     "give its serial number, or its place");
        return EB_OTHER;
    }
    if (!eb_dfu_find(&r->device, &r->interface)) {
        eb_text_copy(text, cap,
                     r->device.size == 0 ? "the system does not get it configured"
                                         : "found no DFU interface in it");
        return r->device.size == 0 ? EB_PENDING : EB_GARBAGE;
    }
    return EB_OK;
}

/* Remembers who it is, for when it comes back. */
static void remember(context *r)
{
    eb_text_copy(r->place, sizeof r->place, r->device.place);
    if (r->device.serial[0] != '\0')
        eb_text_copy(r->serial, sizeof r->serial, r->device.serial);
}

/* --- values -------------------------------------------------------------------------------------- */

/* The index of the string that has the value, 0: none is needed or there; then `text` is the value. */
static uint8_t string_of(const context *r, const struct eb_value *value, char text[EB_NAME_BYTES])
{
    uint8_t index = 0;
    text[0] = '\0';
    switch ((enum eb_usb_item)value->item) {
    case EB_USB_SERIAL:
        eb_text_copy(text, EB_NAME_BYTES, r->device.serial);
        break;
    case EB_USB_MAKER:
        eb_text_copy(text, EB_NAME_BYTES, r->device.maker);
        break;
    case EB_USB_NAME:
        eb_text_copy(text, EB_NAME_BYTES, r->device.name);
        break;
    case EB_USB_RELEASE: {
        char release[EB_USB_RELEASE_BYTES];
        eb_usb_release_text(r->device.release, value->sub, release);
        if (!r->interface.in_loader) /* there it is the loader's own */
            eb_text_copy(text, EB_NAME_BYTES, release);
        break;
    }
    case EB_USB_STRING:
        return (uint8_t)value->index;
    case EB_USB_INTERFACE:
        eb_usb_interface_name(&r->device, (uint8_t)value->index, value->sub, &index);
        break;
    case EB_USB_MODE:
        eb_text_copy(text, EB_NAME_BYTES, r->interface.in_loader ? "loader" : "program");
        break;
    }
    return index;
}

/* Takes all values that need no transfer, up to one that does: its string index; 0: there is none left. */
static uint8_t next_string(context *r)
{
    const struct eb_value *value;
    while ((value = ebi_value_next(r->contact, &eb_access_dfu, 0)) != NULL) {
        char text[EB_NAME_BYTES];
        uint8_t index = string_of(r, value, text);
        if (index != 0)
            return index;
        ebi_value_take(r->contact, value, (const uint8_t *)text, strlen(text), false);
    }
    return 0;
}

/* --- transfers ----------------------------------------------------------------------------------- */

static enum eb_status begin_transfer(context *r, const struct eb_usb_setup *setup, const uint8_t *bytes,
                                     uint32_t patience_ms)
{
    const struct eb_port *port = r->contact->port;
    r->asked = true;
    return port->usb->control(port->self, r->handle, setup, bytes, patience_ms);
}

static enum eb_status transfer_answer(context *r, uint8_t *bytes, size_t cap, size_t *received)
{
    const struct eb_port *port = r->contact->port;
    enum eb_status status = port->usb->answer(port->self, r->handle, bytes, cap, received);
    if (status != EB_PENDING)
        r->asked = false;
    return status;
}

static enum eb_status open_device(context *r)
{
    const struct eb_port *port = r->contact->port;
    return port->usb->open(port->self, r->contact->waiter, &r->device, &r->handle);
}

/* --- moves --------------------------------------------------------------------------------------- */

/* Not there, or not the right one yet: waits for a change, or a little. */
static enum eb_status not_found(context *r, enum eb_status status, const char *text, uint64_t now_us)
{
    const struct eb_port *port = r->contact->port;
    if (now_us >= r->patience_end_us)
        return end(r, status, text);
    if (r->watch == EB_NO_HANDLE && port->usb->watch(port->self, r->contact->waiter, &r->watch) != EB_OK)
        r->watch = EB_NO_HANDLE;
    r->look_us = now_us + RETRY_US;
    if (r->watch != EB_NO_HANDLE || r->look_us > r->patience_end_us)
        r->look_us = r->patience_end_us;
    return EB_PENDING;
}

/* It stands open. */
static enum eb_status found(context *r, uint64_t now_us)
{
    stop_watching(r);
    remember(r);
    r->contact->connected = true;
    set_move(r, CHECK, now_us);
    return EB_OK;
}

static enum eb_status poll_find(context *r, uint64_t now_us)
{
    char text[EB_ERROR_TEXT_BYTES];
    enum eb_status status = find(r, text, sizeof text);
    if (status == EB_NO_ANSWER || status == EB_PENDING) {
        enum eb_status pending = not_found(r, EB_NO_ANSWER, text, now_us);
        if (status == EB_PENDING && r->look_us > now_us + RETRY_US)
            r->look_us = now_us + RETRY_US; /* no event says when it is ready */
        return pending;
    }
    if (status != EB_OK)
        return end(r, status, text);
    if (r->wants_loader && !r->interface.in_loader) {
        if (now_us >= r->patience_end_us && r->goes_itself) {
            /* Its descriptor says that it goes by itself, and it has not: asked once more, and then reset. */
            r->goes_itself = r->wants_loader = false;
            r->never_went = true;
        } else {
            return not_found(r, EB_UNCONFIRMED, "found its program still running, expected its loader",
                             now_us);
        }
    }
    if (r->doing_reset && !r->interface.in_loader)
        return end_well(r); /* it has left its loader by itself */
    status = open_device(r);
    if (status == EB_UNREACHABLE)
        return not_found(r, EB_NO_ANSWER, "it is gone again", now_us);
    if (status == EB_DENIED)
        return not_found(r, EB_DENIED, "it is plugged in, and this user may not open it", now_us);
    if (status != EB_OK)
        return end(r, status, "");
    if (r->doing_reset) {
        begin_reset(r, IT_STARTS, now_us);
        return EB_OK;
    }
    return found(r, now_us);
}

/* What is opened must be what was found. */
static enum eb_status poll_check(context *r, uint64_t now_us)
{
    size_t size = 0;
    if (!r->asked) {
        const struct eb_usb_setup setup = {EB_USB_IN, EB_USB_GET_DESCRIPTOR, EB_USB_TYPE_DEVICE << 8, 0,
                                           EB_USB_DESCRIPTOR_BYTES};
        return begin_transfer(r, &setup, NULL, STRING_MS) == EB_OK ? EB_PENDING : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, r->bytes, sizeof r->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK)
        return end(r, status, "");
    if (size < EB_USB_DESCRIPTOR_BYTES || ebi_get16le(r->bytes + 8) != r->device.vendor ||
        ebi_get16le(r->bytes + 10) != r->device.product || ebi_get16le(r->bytes + 12) != r->device.release)
        return end(r, EB_GARBAGE, "found another descriptor in it than the system had read");
    r->patience_end_us = now_us + CLAIM_US;
    if (r->operation.kind != EB_READ)
        set_move(r, r->interface.in_loader ? CLAIM : DETACH, now_us);
    else
        set_move(r, next_string(r) != 0 ? LANGUAGE : STRINGS, now_us);
    return EB_OK;
}

static enum eb_status poll_strings(context *r, uint64_t now_us)
{
    uint8_t index = next_string(r);
    bool language = r->move == LANGUAGE;
    size_t size = 0;
    if (index == 0)
        return end_well(r);
    if (!r->asked) {
        const struct eb_usb_setup setup = eb_usb_ask_string(language ? 0 : index, r->language);
        return begin_transfer(r, &setup, NULL, STRING_MS) == EB_OK ? EB_PENDING : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, r->bytes, sizeof r->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK && status != EB_PEER_ERROR)
        return end(r, status, "");
    if (status == EB_PEER_ERROR && r->stalls++ == 0)
        return EB_OK; /* asked once more */
    if (status == EB_PEER_ERROR)
        size = 0; /* it has no such string */
    r->stalls = 0;
    if (language) {
        r->language = eb_usb_language(r->bytes, size);
        set_move(r, STRINGS, now_us);
        return EB_OK;
    }
    char text[EB_NAME_BYTES];
    eb_usb_string(r->bytes, size, text, sizeof text);
    ebi_value_take(r->contact, ebi_value_next(r->contact, &eb_access_dfu, 0), (const uint8_t *)text,
                   strlen(text), false);
    return EB_OK;
}

static enum eb_status poll_claim(context *r, uint8_t alternate, uint64_t now_us)
{
    const struct eb_port *port = r->contact->port;
    enum eb_status status = port->usb->claim(port->self, r->handle, r->interface.number, alternate);
    if (status == EB_PENDING && now_us < r->patience_end_us) {
        r->look_us = now_us + RETRY_US;
        return EB_PENDING;
    }
    if (status == EB_OK)
        return EB_OK;
    return end(r, status == EB_PENDING ? EB_NO_ANSWER : status,
               status == EB_PENDING ? "the system does not get it configured"
               : status == EB_BUSY ? "a program, or a driver, on this laptop uses its DFU interface: end that"
                                   : "");
}

static void await_loader(context *r, uint64_t now_us)
{
    uint64_t stays_us = r->interface.detach_ms * 1000ULL + STAYS_US;
    uint64_t patience_us = r->contact->profile->return_patience_ms * 1000ULL;
    close_device(r);
    r->wants_loader = true;
    if (r->goes_itself) /* a reset is tried where it stays */
        patience_us = stays_us;
    r->patience_end_us = now_us + (patience_us > stays_us ? patience_us : stays_us);
    set_move(r, FIND, now_us);
}

/* Whatever the laptop says of the reset: what comes of it, the next look tells. */
static enum eb_status poll_reset(context *r, uint64_t now_us)
{
    const struct eb_port *port = r->contact->port;
    size_t size = 0;
    if (!r->asked && port->usb->reset(port->self, r->handle) == EB_OK) {
        r->asked = true;
        return EB_PENDING;
    }
    if (r->asked && transfer_answer(r, r->bytes, sizeof r->bytes, &size) == EB_PENDING)
        return EB_PENDING;
    if (r->after == TRY_HAS_FAILED)
        return end_with(r, &r->dfu.error);
    if (r->after == IT_STARTS)
        return end_well(r);
    await_loader(r, now_us);
    return EB_OK;
}

static enum eb_status poll_detach(context *r, uint64_t now_us)
{
    size_t size = 0;
    if (!r->asked) {
        const struct eb_usb_setup setup = eb_dfu_detach(&r->interface);
        enum eb_status claimed = poll_claim(r, 0, now_us);
        if (claimed != EB_OK)
            return claimed;
        return begin_transfer(r, &setup, NULL, way(r).answer_patience_ms) == EB_OK
                   ? EB_PENDING
                   : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, r->bytes, sizeof r->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    /* A device that detaches by itself may be gone before it answers. */
    bool goes = (r->interface.attributes & EB_DFU_WILL_DETACH) != 0 && !r->never_went;
    if (status != EB_OK && (!goes || status == EB_PEER_ERROR))
        return end(r, status, status == EB_PEER_ERROR ? "its program stalled the request" : "");
    r->goes_itself = goes;
    if (goes)
        await_loader(r, now_us);
    else
        begin_reset(r, LOADER_COMES, now_us);
    return EB_OK;
}

static enum eb_status poll_open_loader(context *r, uint64_t now_us)
{
    const struct eb_sink *sink = r->operation.kind == EB_FETCH ? r->operation.sink : NULL;
    bool image = r->operation.kind == EB_SEND;
    uint8_t alternate = image ? r->operation.component->alternate : (uint8_t)r->operation.step->address;
    const struct eb_dfu_config config = {
        .interface = &r->interface,
        .source = r->operation.source,
        .take = sink != NULL ? sink->take : NULL,
        .take_self = sink != NULL ? sink->self : NULL,
        .buffer = r->contact->buffer,
        .buffer_bytes = r->contact->buffer_bytes,
        .read_back = image ? r->contact->profile->read_back : EB_READ_BACK_NO,
        .patience_us = r->contact->profile->send_patience_ms * 1000ULL,
    };
    if (alternate >= r->interface.alternates)
        return end(r, EB_GARBAGE, "found fewer alternate settings than the profile names");
    enum eb_status status = poll_claim(r, alternate, now_us);
    if (status != EB_OK)
        return status;
    if (eb_dfu_begin(&r->dfu, &config, now_us) != EB_OK)
        return end(r, EB_GARBAGE, "its descriptor gives no size for transfers");
    if (sink != NULL)
        sink->begin(sink->self);
    r->contact->loader_seen = true; /* of the same device: by its number or its place */
    set_move(r, LOAD, now_us);
    return EB_OK;
}

static enum eb_status poll_load(context *r, uint64_t now_us)
{
    struct eb_usb_setup setup;
    const uint8_t *bytes;
    size_t size = 0;
    if (r->asked) {
        bool upload =
            r->dfu.config.take != NULL || (r->dfu.config.read_back != EB_READ_BACK_NO && r->dfu.whole);
        uint8_t *to = upload ? r->contact->buffer : r->bytes;
        enum eb_status status =
            transfer_answer(r, to, upload ? r->contact->buffer_bytes : sizeof r->bytes, &size);
        if (status == EB_PENDING)
            return EB_PENDING;
        eb_dfu_answer(&r->dfu, status, to, size, now_us);
        r->contact->done_bytes = r->dfu.done_bytes;
        r->contact->all_sent = r->dfu.whole;
        r->contact->read_back = r->dfu.read_back;
    } else if (eb_dfu_next(&r->dfu, now_us, &setup, &bytes)) {
        enum eb_status status = begin_transfer(r, &setup, bytes, way(r).answer_patience_ms);
        if (status == EB_OK)
            return EB_PENDING;
        r->asked = false;
        eb_dfu_answer(&r->dfu, status, NULL, 0, now_us);
    } else if (r->dfu.step == EB_DFU_BUSY) {
        r->look_us = eb_dfu_deadline_us(&r->dfu);
        return EB_PENDING;
    }
    if (r->dfu.step == EB_DFU_FAILED && r->dfu.wants_reset) {
        begin_reset(r, TRY_HAS_FAILED, now_us); /* the next one finds it anew */
        return EB_OK;
    }
    if (r->dfu.step == EB_DFU_FAILED)
        return end_with(r, &r->dfu.error);
    if (r->dfu.step != EB_DFU_DONE)
        return EB_OK;
    if (r->operation.kind == EB_STORE && r->dfu.wants_reset &&
        (r->interface.attributes & EB_DFU_MANIFESTATION_TOLERANT) == 0) {
        begin_reset(r, IT_STARTS, now_us); /* until then it answers nothing more */
        return EB_OK;
    }
    return end_well(r);
}

static enum eb_status poll_once(context *r, uint64_t now_us)
{
    switch ((enum move)r->move) {
    case FIND:
        return poll_find(r, now_us);
    case CHECK:
        return poll_check(r, now_us);
    case LANGUAGE:
    case STRINGS:
        return poll_strings(r, now_us);
    case DETACH:
        return poll_detach(r, now_us);
    case CLAIM:
        return poll_open_loader(r, now_us);
    case LOAD:
        return poll_load(r, now_us);
    case RESET:
        return poll_reset(r, now_us);
    }
    return EB_OK;
}

/* ------------------------------------------------------------------------------------------------- */

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *r = self;
    struct eb_contact *c = r->contact;
    close_all(r);
    memset(&c->error, 0, sizeof c->error);
    r->busy = true;
    c->connected = c->all_sent = false;
    c->done_bytes = 0;
    c->value = 0;
    r->operation = *operation;
    r->doing_reset = operation->kind == EB_ACTIVATE || operation->kind == EB_UNDO;
    r->wants_loader = r->goes_itself = r->never_went = false;
    r->stalls = 0;
    /* Behind a document that was stored it may be on its way back. */
    bool document = operation->kind == EB_FETCH || operation->kind == EB_STORE;
    r->patience_end_us = now_us + (document ? c->profile->return_patience_ms * 1000ULL : FIND_US);
    set_move(r, FIND, now_us);
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *r = self;
    for (;;) {
        enum eb_status status = poll_once(r, now_us);
        if (!r->busy || status == EB_PENDING)
            return status;
    }
}

static uint64_t deadline_us(const void *self)
{
    const context *r = self;
    return !r->busy || r->asked ? EB_NEVER : r->look_us;
}

static void stop(void *self)
{
    context *r = self;
    if (r->move == LOAD)
        eb_dfu_stop(&r->dfu);
}

static void close(void *self)
{
    close_all(self);
}

static void init(void *self, struct eb_contact *contact)
{
    context *r = self;
    memset(r, 0, sizeof *r);
    r->contact = contact;
    r->handle = r->watch = EB_NO_HANDLE;
}

/* {usb: serial}, {usb: release, parts: 3}, {usb: string, number: 4}, {usb: interface, number: 1, alternate:
 * 0} */
static const char *const items[] = {"serial", "maker",     "name", "release",
                                    "string", "interface", "mode", NULL};
static const struct eb_field fields[] = {
    {"usb", EB_FIELD_WORD, EBI_VALUE(item), .words = items},
    {"parts", EB_FIELD_NUMBER, EBI_VALUE(sub), .least = 2, .most = 3, .otherwise = 3,
     .only_for = 1U << EB_USB_RELEASE},
    {"number", EB_FIELD_NUMBER, EBI_VALUE(index), .needed = true, .least = 1, .most = 255,
     .only_for = 1U << EB_USB_STRING},
    {"number", EB_FIELD_NUMBER, EBI_VALUE(index), .most = 255, .only_for = 1U << EB_USB_INTERFACE},
    {"alternate", EB_FIELD_NUMBER, EBI_VALUE(sub), .most = 255, .only_for = 1U << EB_USB_INTERFACE}};
static const struct eb_row sources[] = {{"usb", .fields = fields, .count = 5}};

static const struct eb_field way_fields[] = {
    {"ids", EB_FIELD_USB_IDS, EBI_PROFILE(usb.vendor), .needed = true},
    {"loader-ids", EB_FIELD_USB_IDS, EBI_PROFILE(usb.loader_vendor)},
    {"answer-patience-s", EB_FIELD_SECONDS, EBI_WAY(struct eb_dfu_way, answer_patience_ms), .least = 1,
     .most = 600, .otherwise = 5}};
_Static_assert(sizeof(struct eb_dfu_way) <= EB_WAY_BYTES, "a profile holds it");
_Static_assert(offsetof(struct eb_usb_ids, product) ==
                       offsetof(struct eb_usb_ids, vendor) + sizeof(uint16_t) &&
                   offsetof(struct eb_usb_ids, loader_product) ==
                       offsetof(struct eb_usb_ids, loader_vendor) + sizeof(uint16_t),
               "the two numbers stand behind each other");

/* The loader has the same numbers unless others are given, and the class itself tells which of the two
 * answers. */
static void complete(struct eb_profile *profile)
{
    if (profile->usb.loader_vendor == 0 && profile->usb.loader_product == 0) {
        profile->usb.loader_vendor = profile->usb.vendor;
        profile->usb.loader_product = profile->usb.product;
    }
    if (profile->state_loader[0] == '\0') {
        profile->from_state =
            (struct eb_values){.list = {{.by = &eb_access_dfu, .item = EB_USB_MODE}}, .count = 1};
        eb_text_copy(profile->state_loader, sizeof profile->state_loader, "loader");
    }
}

static const struct eb_section section = {.key = "dfu",
                                          .fields = way_fields,
                                          .count = sizeof way_fields / sizeof way_fields[0],
                                          .elsewhere = "it read by 'usb', as the device is on USB",
                                          .read_back = EB_READ_BACK_IF_POSSIBLE,
                                          .alternates = true,
                                          .complete = complete};

static const struct eb_field document_fields[] = {
    {"alternate", EB_FIELD_NUMBER, EBI_STEP(address), .needed = true, .most = 255}};
static const struct eb_row documents[] = {{"dfu", 0, document_fields, 1, 0, EB_LIST_NONE}};

const struct eb_rows eb_rows_dfu = {.sources = sources,
                                    .source_count = sizeof sources / sizeof sources[0],
                                    .documents = documents,
                                    .document_count = 1,
                                    .section = &section};

const struct eb_access eb_access_dfu = {
    .word = "dfu",
    .title = "USB",
    .wire = EB_WIRE_USB,
    .able = EB_ABLE(EB_READ) | EB_ABLE(EB_SEND) | EB_ABLE(EB_ACTIVATE) | EB_ABLE(EB_UNDO) |
            EB_ABLE_TO_READ_BACK | EB_ABLE(EB_FETCH) | EB_ABLE(EB_STORE) | EB_DOCUMENTS_IN_LOADER,
    .needs = EB_NEEDS_USB,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close,
};
