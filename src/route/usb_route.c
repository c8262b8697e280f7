/* The way to a device on USB: its identity by its descriptors and strings, its program by the DFU class.
 *
 *   reading:     FIND --> CHECK --> STRINGS
 *   sending:     FIND --> CHECK --> [program: DETACH --> (reset by us, or by itself) --> FIND its loader -->
 * CHECK]
 *                --> CLAIM --> LOAD
 *   activating:  FIND --> RESET, where it is still in its loader
 *
 * It is the same device where its serial number is the same; one that tells none is the same where it is
 * plugged into the same socket.  That there is only one of its kind says nothing. */
#include "base/bytes.h"
#include "einbau/text.h"
#include "route/route.h"

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

static const struct eb_dfu_way *way(const struct ebi_route *r)
{
    return &r->config->profile->dfu;
}

static void close_device(struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    if (r->usb.handle != EB_NO_HANDLE)
        port->usb_close(port->self, r->usb.handle);
    r->usb.handle = EB_NO_HANDLE;
    r->usb.asked = false;
}

static void stop_watching(struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    if (r->usb.watch != EB_NO_HANDLE)
        port->usb_close(port->self, r->usb.watch);
    r->usb.watch = EB_NO_HANDLE;
}

static void close_all(struct ebi_route *r)
{
    close_device(r);
    stop_watching(r);
    r->doing = 0;
}

static enum eb_status end(struct ebi_route *r, enum eb_status status, const char *text)
{
    struct eb_error error = {.status = status, .where = where[r->usb.move]};
    eb_text_copy(error.text, sizeof error.text, text);
    return ebi_route_end(r, &error);
}

static enum eb_status end_well(struct ebi_route *r)
{
    close_all(r);
    return EB_OK;
}

static void set_move(struct ebi_route *r, enum move move, uint64_t at_us)
{
    r->usb.move = (uint8_t)move;
    r->usb.look_us = at_us;
    r->usb.asked = false;
}

static void begin_reset(struct ebi_route *r, enum after_reset after, uint64_t now_us)
{
    r->usb.after = (uint8_t)after;
    set_move(r, RESET, now_us);
}

/* --- who is who ---------------------------------------------------------------------------------- */

static enum eb_usb_match match_of(const struct ebi_route *r, const struct eb_usb_device *d)
{
    const struct eb_run_config *config = r->config;
    const char *serial = r->usb.serial[0] != '\0' ? r->usb.serial : config->serial;
    const char *place = r->usb.place[0] != '\0' ? r->usb.place : config->usb_place;
    return eb_usb_match(way(r), serial != NULL ? serial : "", place != NULL ? place : "", d);
}

/* What is there in its stead, for the message. */
static void say_others(const struct ebi_route *r, const struct eb_usb_device *other, size_t others,
                       char *text, size_t cap)
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
    if (r->config->serial != NULL && r->config->serial[0] != '\0')
        eb_text_add(&out, r->config->serial);
    else if (r->usb.serial[0] != '\0')
        eb_text_add(&out, r->usb.serial);
    else
        eb_text_add(&out, "it at the place where it was");
    if (others == 1 && other->serial[0] == '\0')
        eb_text_add(&out, ": if that is it, enter its place on the site");
}

/* Finds it among what is plugged in: EB_OK; with `text` filled EB_NO_ANSWER, EB_PENDING where it has just
 * come, EB_OTHER where several might be it, or EB_GARBAGE. */
static enum eb_status find(struct ebi_route *r, char *text, size_t cap)
{
    const struct eb_port *port = r->config->port;
    struct ebi_usb_route *u = &r->usb;
    struct eb_usb_device device;
    struct eb_usb_device other = {.vendor = 0};
    size_t found = 0;
    size_t perhaps = 0;
    size_t others = 0;
    bool sure = false;
    for (size_t i = 0; port->usb_device(port->self, i, &device); i++) {
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
        u->by_place = match == EB_USB_BY_PLACE;
        u->device = device;
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
    if (!eb_dfu_find(&u->device, &u->interface)) {
        eb_text_copy(text, cap,
                     u->device.size == 0 ? "the system does not get it configured"
                                         : "found no DFU interface in it");
        return u->device.size == 0 ? EB_PENDING : EB_GARBAGE;
    }
    return EB_OK;
}

/* Remembers who it is, for when it comes back. */
static void remember(struct ebi_route *r)
{
    eb_text_copy(r->usb.place, sizeof r->usb.place, r->usb.device.place);
    if (r->usb.device.serial[0] != '\0')
        eb_text_copy(r->usb.serial, sizeof r->usb.serial, r->usb.device.serial);
}

/* --- values -------------------------------------------------------------------------------------- */

/* The index of the string that has the value, 0: none is needed or there; then `text` is the value. */
static uint8_t string_of(const struct ebi_route *r, const struct eb_value *value, char text[EB_NAME_BYTES])
{
    const struct ebi_usb_route *u = &r->usb;
    uint8_t index = 0;
    text[0] = '\0';
    switch ((enum eb_usb_item)value->item) {
    case EB_USB_SERIAL:
        eb_text_copy(text, EB_NAME_BYTES, u->device.serial);
        break;
    case EB_USB_MAKER:
        eb_text_copy(text, EB_NAME_BYTES, u->device.maker);
        break;
    case EB_USB_NAME:
        eb_text_copy(text, EB_NAME_BYTES, u->device.name);
        break;
    case EB_USB_RELEASE: {
        char release[EB_USB_RELEASE_BYTES];
        eb_usb_release_text(u->device.release, value->sub, release);
        if (!u->interface.in_loader) /* there it is the loader's own */
            eb_text_copy(text, EB_NAME_BYTES, release);
        break;
    }
    case EB_USB_STRING:
        return (uint8_t)value->index;
    case EB_USB_INTERFACE:
        eb_usb_interface_name(&u->device, (uint8_t)value->index, value->sub, &index);
        break;
    case EB_USB_MODE:
        eb_text_copy(text, EB_NAME_BYTES, u->interface.in_loader ? "loader" : "program");
        break;
    }
    return index;
}

/* Takes all values that need no transfer, up to one that does: its string index; 0: there is none left. */
static uint8_t next_string(struct ebi_route *r)
{
    const struct eb_value *value;
    while ((value = ebi_value_next(r, EB_VALUE_USB)) != NULL) {
        char text[EB_NAME_BYTES];
        uint8_t index = string_of(r, value, text);
        if (index != 0)
            return index;
        ebi_value_take(r, value, (const uint8_t *)text, strlen(text));
    }
    return 0;
}

/* --- transfers ----------------------------------------------------------------------------------- */

static enum eb_status begin_transfer(struct ebi_route *r, const struct eb_usb_setup *setup,
                                     const uint8_t *bytes, uint32_t patience_ms)
{
    const struct eb_port *port = r->config->port;
    r->usb.asked = true;
    return port->usb_control(port->self, r->usb.handle, setup, bytes, patience_ms);
}

static enum eb_status transfer_answer(struct ebi_route *r, uint8_t *bytes, size_t cap, size_t *received)
{
    const struct eb_port *port = r->config->port;
    enum eb_status status = port->usb_answer(port->self, r->usb.handle, bytes, cap, received);
    if (status != EB_PENDING)
        r->usb.asked = false;
    return status;
}

static enum eb_status open_device(struct ebi_route *r)
{
    const struct eb_port *port = r->config->port;
    return port->usb_open(port->self, r->owner, &r->usb.device, &r->usb.handle);
}

/* --- moves --------------------------------------------------------------------------------------- */

/* Not there, or not the right one yet: waits for a change, or a little. */
static enum eb_status not_found(struct ebi_route *r, enum eb_status status, const char *text, uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    if (now_us >= r->usb.patience_end_us)
        return end(r, status, text);
    if (r->usb.watch == EB_NO_HANDLE && port->usb_watch(port->self, r->owner, &r->usb.watch) != EB_OK)
        r->usb.watch = EB_NO_HANDLE;
    r->usb.look_us = now_us + RETRY_US;
    if (r->usb.watch != EB_NO_HANDLE || r->usb.look_us > r->usb.patience_end_us)
        r->usb.look_us = r->usb.patience_end_us;
    return EB_PENDING;
}

/* It stands open. */
static enum eb_status found(struct ebi_route *r, uint64_t now_us)
{
    stop_watching(r);
    remember(r);
    r->connected = true;
    set_move(r, CHECK, now_us);
    return EB_OK;
}

static enum eb_status poll_find(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    char text[EB_ERROR_TEXT_BYTES];
    enum eb_status status = find(r, text, sizeof text);
    if (status == EB_NO_ANSWER || status == EB_PENDING) {
        enum eb_status pending = not_found(r, EB_NO_ANSWER, text, now_us);
        if (status == EB_PENDING && u->look_us > now_us + RETRY_US)
            u->look_us = now_us + RETRY_US; /* nobody tells when it is ready */
        return pending;
    }
    if (status != EB_OK)
        return end(r, status, text);
    if (u->wants_loader && !u->interface.in_loader) {
        if (now_us >= u->patience_end_us && u->goes_itself) {
            /* Its descriptor says that it goes by itself, and it has not: asked once more, and then reset. */
            u->goes_itself = u->wants_loader = false;
            u->never_went = true;
        } else {
            return not_found(r, EB_UNCONFIRMED, "found its program still running, expected its loader",
                             now_us);
        }
    }
    if (u->doing_reset && !u->interface.in_loader)
        return end_well(r); /* it has gone by itself */
    status = open_device(r);
    if (status == EB_UNREACHABLE)
        return not_found(r, EB_NO_ANSWER, "it is gone again", now_us);
    if (status == EB_DENIED)
        return not_found(r, EB_DENIED, "it is plugged in, and this user may not open it", now_us);
    if (status != EB_OK)
        return end(r, status, "");
    if (u->doing_reset) {
        begin_reset(r, IT_STARTS, now_us);
        return EB_OK;
    }
    return found(r, now_us);
}

/* What is opened must be what was found. */
static enum eb_status poll_check(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    size_t size = 0;
    if (!u->asked) {
        const struct eb_usb_setup setup = {EB_USB_IN, EB_USB_GET_DESCRIPTOR, EB_USB_TYPE_DEVICE << 8, 0,
                                           EB_USB_DESCRIPTOR_BYTES};
        return begin_transfer(r, &setup, NULL, STRING_MS) == EB_OK ? EB_PENDING : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, u->bytes, sizeof u->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK)
        return end(r, status, "");
    if (size < EB_USB_DESCRIPTOR_BYTES || ebi_get16le(u->bytes + 8) != u->device.vendor ||
        ebi_get16le(u->bytes + 10) != u->device.product || ebi_get16le(u->bytes + 12) != u->device.release)
        return end(r, EB_GARBAGE, "found another descriptor in it than the system had read");
    u->patience_end_us = now_us + CLAIM_US;
    if (u->item != NULL)
        set_move(r, u->interface.in_loader ? CLAIM : DETACH, now_us);
    else
        set_move(r, next_string(r) != 0 ? LANGUAGE : STRINGS, now_us);
    return EB_OK;
}

static enum eb_status poll_strings(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    uint8_t index = next_string(r);
    bool language = u->move == LANGUAGE;
    size_t size = 0;
    if (index == 0)
        return end_well(r);
    if (!u->asked) {
        const struct eb_usb_setup setup = eb_usb_ask_string(language ? 0 : index, u->language);
        return begin_transfer(r, &setup, NULL, STRING_MS) == EB_OK ? EB_PENDING : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, u->bytes, sizeof u->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    if (status != EB_OK && status != EB_PEER_ERROR)
        return end(r, status, "");
    if (status == EB_PEER_ERROR && u->stalls++ == 0)
        return EB_OK; /* asked once more */
    if (status == EB_PEER_ERROR)
        size = 0; /* it has no such string */
    u->stalls = 0;
    if (language) {
        u->language = eb_usb_language(u->bytes, size);
        set_move(r, STRINGS, now_us);
        return EB_OK;
    }
    char text[EB_NAME_BYTES];
    eb_usb_string(u->bytes, size, text, sizeof text);
    ebi_value_take(r, ebi_value_next(r, EB_VALUE_USB), (const uint8_t *)text, strlen(text));
    return EB_OK;
}

static enum eb_status poll_claim(struct ebi_route *r, uint8_t alternate, uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    struct ebi_usb_route *u = &r->usb;
    enum eb_status status = port->usb_claim(port->self, u->handle, u->interface.number, alternate);
    if (status == EB_PENDING && now_us < u->patience_end_us) {
        u->look_us = now_us + RETRY_US;
        return EB_PENDING;
    }
    if (status == EB_OK)
        return EB_OK;
    return end(r, status == EB_PENDING ? EB_NO_ANSWER : status,
               status == EB_PENDING ? "the system does not get it configured"
               : status == EB_BUSY ? "a program, or a driver, on this laptop uses its DFU interface: end that"
                                   : "");
}

static void await_loader(struct ebi_route *r, uint64_t now_us)
{
    uint64_t stays_us = r->usb.interface.detach_ms * 1000ULL + STAYS_US;
    uint64_t patience_us = r->config->profile->return_patience_ms * 1000ULL;
    close_device(r);
    r->usb.wants_loader = true;
    if (r->usb.goes_itself) /* a reset is tried where it stays */
        patience_us = stays_us;
    r->usb.patience_end_us = now_us + (patience_us > stays_us ? patience_us : stays_us);
    set_move(r, FIND, now_us);
}

/* Whatever the laptop says of the reset: what comes of it, the next look tells. */
static enum eb_status poll_reset(struct ebi_route *r, uint64_t now_us)
{
    const struct eb_port *port = r->config->port;
    struct ebi_usb_route *u = &r->usb;
    size_t size = 0;
    if (!u->asked && port->usb_reset(port->self, u->handle) == EB_OK) {
        u->asked = true;
        return EB_PENDING;
    }
    if (u->asked && transfer_answer(r, u->bytes, sizeof u->bytes, &size) == EB_PENDING)
        return EB_PENDING;
    if (u->after == TRY_HAS_FAILED)
        return ebi_route_end(r, &u->dfu.error);
    if (u->after == IT_STARTS)
        return end_well(r);
    await_loader(r, now_us);
    return EB_OK;
}

static enum eb_status poll_detach(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    size_t size = 0;
    if (!u->asked) {
        const struct eb_usb_setup setup = eb_dfu_detach(&u->interface);
        enum eb_status claimed = poll_claim(r, 0, now_us);
        if (claimed != EB_OK)
            return claimed;
        return begin_transfer(r, &setup, NULL, way(r)->answer_patience_ms) == EB_OK
                   ? EB_PENDING
                   : end(r, EB_UNREACHABLE, "");
    }
    enum eb_status status = transfer_answer(r, u->bytes, sizeof u->bytes, &size);
    if (status == EB_PENDING)
        return EB_PENDING;
    /* One that goes by itself may have gone before it answered. */
    bool goes = (u->interface.attributes & EB_DFU_WILL_DETACH) != 0 && !u->never_went;
    if (status != EB_OK && (!goes || status == EB_PEER_ERROR))
        return end(r, status, status == EB_PEER_ERROR ? "its program stalled the request" : "");
    u->goes_itself = goes;
    if (goes)
        await_loader(r, now_us);
    else
        begin_reset(r, LOADER_COMES, now_us);
    return EB_OK;
}

static enum eb_status poll_open_loader(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    uint8_t alternate = u->item->component->alternate;
    const struct eb_dfu_config config = {
        .interface = &u->interface,
        .source = &u->item->source,
        .buffer = r->config->buffer,
        .buffer_bytes = r->config->buffer_bytes,
        .read_back = r->config->profile->read_back,
        .patience_us = r->config->profile->send_patience_ms * 1000ULL,
    };
    if (alternate >= u->interface.alternates)
        return end(r, EB_GARBAGE, "found fewer alternate settings than the profile names");
    enum eb_status status = poll_claim(r, alternate, now_us);
    if (status != EB_OK)
        return status;
    if (eb_dfu_begin(&u->dfu, &config, now_us) != EB_OK)
        return end(r, EB_GARBAGE, "its descriptor gives no size for transfers");
    r->loader_seen = true; /* of the same device: by its number or its place */
    set_move(r, LOAD, now_us);
    return EB_OK;
}

static enum eb_status poll_load(struct ebi_route *r, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    struct eb_usb_setup setup;
    const uint8_t *bytes;
    size_t size = 0;
    if (u->asked) {
        bool upload = u->dfu.config.read_back != EB_READ_BACK_NO && u->dfu.whole;
        uint8_t *to = upload ? r->config->buffer : u->bytes;
        enum eb_status status =
            transfer_answer(r, to, upload ? r->config->buffer_bytes : sizeof u->bytes, &size);
        if (status == EB_PENDING)
            return EB_PENDING;
        eb_dfu_answer(&u->dfu, status, to, size, now_us);
        r->done_bytes = u->dfu.done_bytes;
        r->all_sent = u->dfu.whole;
        r->read_back = u->dfu.read_back;
    } else if (eb_dfu_next(&u->dfu, now_us, &setup, &bytes)) {
        enum eb_status status = begin_transfer(r, &setup, bytes, way(r)->answer_patience_ms);
        if (status == EB_OK)
            return EB_PENDING;
        u->asked = false;
        eb_dfu_answer(&u->dfu, status, NULL, 0, now_us);
    } else if (u->dfu.step == EB_DFU_BUSY) {
        u->look_us = eb_dfu_deadline_us(&u->dfu);
        return EB_PENDING;
    }
    if (u->dfu.step == EB_DFU_FAILED && u->dfu.wants_reset) {
        begin_reset(r, TRY_HAS_FAILED, now_us); /* the next one finds it anew */
        return EB_OK;
    }
    if (u->dfu.step == EB_DFU_FAILED)
        return ebi_route_end(r, &u->dfu.error);
    return u->dfu.step == EB_DFU_DONE ? end_well(r) : EB_OK;
}

static enum eb_status poll_once(struct ebi_route *r, uint64_t now_us)
{
    switch ((enum move)r->usb.move) {
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

static void begin(struct ebi_route *r, const struct eb_run_item *item, uint64_t now_us)
{
    struct ebi_usb_route *u = &r->usb;
    close_all(r);
    memset(&r->error, 0, sizeof r->error);
    r->doing = 1;
    r->connected = r->all_sent = false;
    r->done_bytes = 0;
    r->value = 0;
    u->item = item;
    u->wants_loader = u->doing_reset = u->goes_itself = u->never_went = false;
    u->stalls = 0;
    u->patience_end_us = now_us + FIND_US;
    set_move(r, FIND, now_us);
}

static void identify(struct ebi_route *r, uint64_t now_us)
{
    begin(r, NULL, now_us);
    memset(r->texts, 0, sizeof r->texts);
}

static void send(struct ebi_route *r, const struct eb_run_item *item, uint64_t now_us)
{
    begin(r, item, now_us);
}

static void activate(struct ebi_route *r, uint64_t now_us)
{
    begin(r, NULL, now_us);
    r->usb.doing_reset = true;
}

static enum eb_status poll(struct ebi_route *r, uint64_t now_us)
{
    if (r->config->port->usb_device == NULL)
        return ebi_route_end_simple(r, EB_UNREACHABLE, where[FIND]);
    for (;;) {
        enum eb_status status = poll_once(r, now_us);
        if (r->doing == 0 || status == EB_PENDING)
            return status;
    }
}

static uint64_t deadline_us(const struct ebi_route *r)
{
    return r->doing == 0 || r->usb.asked ? EB_NEVER : r->usb.look_us;
}

static void stop(struct ebi_route *r)
{
    if (r->usb.move == LOAD)
        eb_dfu_stop(&r->usb.dfu);
}

const struct eb_route eb_route_dfu = {
    .identify = identify,
    .send = send,
    .activate = activate,
    .undo = activate,
    .poll = poll,
    .deadline_us = deadline_us,
    .stop = stop,
    .close = close_all,
};
