/* One transfer, as the state diagram of the standard draws it (appendix A), from the host's side:
 *
 *   WAKE (the device's state brought to dfuIDLE) --> BLOCK <--> STATUS ... --> END --> MANIFEST --> DONE
 *                                                      |                                |
 *                                                 lost: WHERE (GETSTATE)          BACK (upload), compared
 *
 *   WAKE --> BACK (upload) ... --> DONE, where something is read
 *
 * bwPollTimeout is waited for from every answer on: a device that is asked earlier stalls and has failed. */
#include "einbau/dfu.h"
#include "base/bytes.h"
#include "einbau/port.h"
#include "einbau/text.h"

#include <string.h>

enum move {
    WAKE,     /* GETSTATUS until it is in dfuIDLE */
    CLEAR,    /* CLRSTATUS */
    IDLE,     /* ABORT */
    BLOCK,    /* DNLOAD of some bytes */
    STATUS,   /* GETSTATUS behind them */
    WHERE,    /* GETSTATE: did it get the block? */
    END,      /* DNLOAD of none */
    MANIFEST, /* GETSTATUS behind that */
    WHAT,     /* GETSTATUS: why did it stall? */
    BACK,     /* UPLOAD */
    BACK_END, /* ABORT behind it */
    GIVE_UP   /* ABORT: stopped */
};

enum {
    TO_DEVICE = 0x21, /* class request to an interface */
    FROM_DEVICE = 0xA1,
    FUNCTIONAL = 0x21,
    INTERFACE_BYTES = 9,
    FUNCTIONAL_MIN_BYTES = 7,
    TRIES = 3,
    LOST_PAUSE_MS = 50 /* after a status that was lost: at least that long */
};

static const char *const where[] = {
    [WAKE] = "asking the loader's state",
    [CLEAR] = "clearing the loader's error",
    [IDLE] = "aborting an earlier transfer",
    [BLOCK] = "DFU download",
    [STATUS] = "DFU download",
    [WHERE] = "DFU download",
    [END] = "DFU download",
    [MANIFEST] = "manifestation (DFU)",
    [WHAT] = "DFU download",
    [BACK] = "reading back (DFU upload)",
    [BACK_END] = "reading back (DFU upload)",
    [GIVE_UP] = "DFU download",
};

const char *eb_dfu_state_word(unsigned state)
{
    static const char *const words[EB_DFU_STATES] = {
        "appIDLE",        "appDETACH",        "dfuIDLE",     "dfuDNLOAD-SYNC",         "dfuDNBUSY",
        "dfuDNLOAD-IDLE", "dfuMANIFEST-SYNC", "dfuMANIFEST", "dfuMANIFEST-WAIT-RESET", "dfuUPLOAD-IDLE",
        "dfuERROR"};
    return state < EB_DFU_STATES ? words[state] : "unknown state";
}

const char *eb_dfu_status_text(unsigned status)
{
    static const char *const texts[] = {"no error",
                                        "the file is not for this device",
                                        "the file fails a check of the maker's",
                                        "the memory cannot be written",
                                        "the memory cannot be erased",
                                        "the memory is not erased",
                                        "programming the memory failed",
                                        "the memory does not hold what was written",
                                        "an address out of range",
                                        "the transfer ended, and the device does not have all of the data",
                                        "the program in it is corrupt",
                                        "an error of the maker's own",
                                        "an unexpected USB reset",
                                        "an unexpected loss of power",
                                        "something went wrong, the device does not know what",
                                        "a request that was not expected"};
    return status < sizeof texts / sizeof texts[0] ? texts[status] : "unknown error";
}

/* --- descriptors --------------------------------------------------------------------------------- */

bool eb_dfu_find(const struct eb_usb_device *device, struct eb_dfu_interface *found)
{
    const uint8_t *at = device->configuration;
    const uint8_t *end = at + device->size;
    bool in = false; /* among what belongs to it */
    bool any = false;
    memset(found, 0, sizeof *found);
    found->version = 0x0100;
    for (; end - at >= 2 && at[0] >= 2 && at[0] <= end - at; at += at[0]) {
        if (at[1] == EB_USB_TYPE_INTERFACE && at[0] >= INTERFACE_BYTES) {
            in = at[5] == EB_DFU_CLASS && at[6] == EB_DFU_SUBCLASS && (!any || at[2] == found->number);
            if (!in)
                continue;
            any = true;
            found->number = at[2];
            found->in_loader = at[7] == 2;
            found->alternates++;
        } else if (in && at[1] == FUNCTIONAL && at[0] >= FUNCTIONAL_MIN_BYTES) {
            found->attributes = at[2];
            found->detach_ms = ebi_get16le(at + 3);
            found->transfer_bytes = ebi_get16le(at + 5);
            if (at[0] >= FUNCTIONAL_MIN_BYTES + 2)
                found->version = ebi_get16le(at + 7);
        }
    }
    return any;
}

enum eb_usb_match eb_usb_match(const struct eb_usb_ids *ids, const char *serial, const char *place,
                               const struct eb_usb_device *d)
{
    if ((d->vendor != ids->vendor || d->product != ids->product) &&
        (d->vendor != ids->loader_vendor || d->product != ids->loader_product))
        return EB_USB_NOT_IT;
    if (serial[0] != '\0' && d->serial[0] != '\0')
        return strcmp(serial, d->serial) == 0 ? EB_USB_IT : EB_USB_ANOTHER;
    if (place[0] != '\0')
        return strcmp(place, d->place) == 0 ? EB_USB_BY_PLACE : EB_USB_ANOTHER;
    return serial[0] != '\0' ? EB_USB_ANOTHER : EB_USB_PERHAPS;
}

struct eb_usb_setup eb_dfu_detach(const struct eb_dfu_interface *found)
{
    return (struct eb_usb_setup){TO_DEVICE, EB_DFU_DETACH, found->detach_ms, found->number, 0};
}

/* --- moves --------------------------------------------------------------------------------------- */

static void fail(struct eb_dfu *d, enum eb_status status, uint32_t number, const char *text)
{
    bool uploads = d->config.take != NULL && (d->move == BACK || d->move == WHAT);
    d->step = EB_DFU_FAILED;
    d->error = (struct eb_error){.status = status,
                                 .code = EB_CODE_DFU,
                                 .number = number,
                                 .where = uploads ? "DFU upload" : where[d->move]};
    eb_text_copy(d->error.text, sizeof d->error.text, text);
}

static void fail_for_good(struct eb_dfu *d, const char *text)
{
    fail(d, EB_PEER_ERROR, 0, text);
    d->error.retry = EB_RETRY_NEVER;
}

static bool can_read_back(const struct eb_dfu *d)
{
    uint8_t needed = EB_DFU_CAN_UPLOAD | EB_DFU_MANIFESTATION_TOLERANT;
    return (d->config.interface->attributes & needed) == needed;
}

/* Whatever asks for the status comes no earlier than the device wishes. */
static void go(struct eb_dfu *d, enum move move, uint64_t at_us)
{
    bool status = move == WAKE || move == STATUS || move == MANIFEST || move == WHAT;
    d->move = (uint8_t)move;
    d->look_us = status && at_us < d->quiet_end_us ? d->quiet_end_us : at_us;
}

static void done(struct eb_dfu *d, bool wants_reset)
{
    d->step = EB_DFU_DONE;
    d->wants_reset = wants_reset;
}

enum eb_status eb_dfu_begin(struct eb_dfu *d, const struct eb_dfu_config *config, uint64_t now_us)
{
    size_t room = config->buffer_bytes < UINT16_MAX ? config->buffer_bytes : UINT16_MAX;
    memset(d, 0, sizeof *d);
    d->config = *config;
    if (room == 0 || config->interface->transfer_bytes == 0 || !config->interface->in_loader)
        return EB_BAD_CALL;
    d->transfer_bytes = (uint16_t)room < config->interface->transfer_bytes
                            ? (uint16_t)room
                            : config->interface->transfer_bytes;
    d->patience_end_us = now_us + config->patience_us;
    d->quiet_end_us = now_us;
    go(d, WAKE, now_us);
    if (config->take != NULL && (config->interface->attributes & EB_DFU_CAN_UPLOAD) == 0)
        fail_for_good(d, "its descriptor says that it gives no upload");
    else if (config->take == NULL && (config->interface->attributes & EB_DFU_CAN_DNLOAD) == 0)
        fail_for_good(d, "its descriptor says that it takes no download");
    else if (config->read_back == EB_READ_BACK_YES && !can_read_back(d))
        fail_for_good(d,
                      "the profile asks to read back what was sent, and its descriptor says that it cannot");
    return EB_OK;
}

void eb_dfu_stop(struct eb_dfu *d)
{
    d->stopping = true;
}

uint64_t eb_dfu_deadline_us(const struct eb_dfu *d)
{
    return d->step == EB_DFU_BUSY && !d->asked ? d->look_us : EB_NEVER;
}

static bool read_block(struct eb_dfu *d, uint64_t from, uint16_t size)
{
    if (d->config.source->read(d->config.source->self, from, d->config.buffer, size) == EB_OK)
        return true;
    fail(d, EB_IO, 0, "the image could not be read");
    return false;
}

bool eb_dfu_next(struct eb_dfu *d, uint64_t now_us, struct eb_usb_setup *setup, const uint8_t **bytes)
{
    uint8_t interface = d->config.interface->number;
    uint64_t left = d->config.take == NULL ? d->config.source->size_bytes - d->done_bytes : 0;
    *bytes = d->config.buffer;
    if (d->step != EB_DFU_BUSY || d->asked)
        return false;
    /* Between two transfers, when it does not wait for the device's memory, it may be stopped. */
    if (d->stopping && (d->move == WAKE || d->move == BLOCK || d->move == END || d->move == BACK) &&
        now_us >= d->look_us)
        go(d, GIVE_UP, now_us);
    if (now_us < d->look_us)
        return false;
    if (d->move == BLOCK && left == 0) {
        d->repeats = 0;
        go(d, END, now_us);
    }
    if (d->move == MANIFEST && d->state == EB_DFU_MANIFEST_WAIT_RESET) {
        done(d, true);
        return false;
    }
    *setup = (struct eb_usb_setup){TO_DEVICE, EB_DFU_ABORT, 0, interface, 0};
    switch ((enum move)d->move) {
    case WAKE:
    case STATUS:
    case MANIFEST:
    case WHAT:
        *setup = (struct eb_usb_setup){FROM_DEVICE, EB_DFU_GETSTATUS, 0, interface, EB_DFU_STATUS_BYTES};
        break;
    case CLEAR:
        setup->request = EB_DFU_CLRSTATUS;
        break;
    case WHERE:
        *setup = (struct eb_usb_setup){FROM_DEVICE, EB_DFU_GETSTATE, 0, interface, 1};
        break;
    case BLOCK:
        d->sent_bytes = left < d->transfer_bytes ? (uint16_t)left : d->transfer_bytes;
        if (!read_block(d, d->done_bytes, d->sent_bytes))
            return false;
        *setup = (struct eb_usb_setup){TO_DEVICE, EB_DFU_DNLOAD, d->block, interface, d->sent_bytes};
        break;
    case END:
        d->whole = true;
        *setup = (struct eb_usb_setup){TO_DEVICE, EB_DFU_DNLOAD, d->block, interface, 0};
        break;
    case BACK:
        *setup = (struct eb_usb_setup){FROM_DEVICE, EB_DFU_UPLOAD, d->block, interface, d->transfer_bytes};
        break;
    case IDLE:
    case BACK_END:
    case GIVE_UP:
        break;
    }
    d->asked = true;
    return true;
}

/* --- answers ------------------------------------------------------------------------------------- */

static void begin_back(struct eb_dfu *d, uint64_t now_us)
{
    if (d->config.read_back == EB_READ_BACK_NO || !can_read_back(d)) {
        done(d, true);
        return;
    }
    d->block = 0;
    go(d, BACK, now_us);
}

/* It is in dfuIDLE before the transfer, or behind it. */
static void at_rest(struct eb_dfu *d, uint64_t now_us)
{
    if (d->stopping)
        fail(d, EB_STOPPED, 0, "");
    else if (d->whole)
        begin_back(d, now_us);
    else {
        d->repeats = 0;
        go(d, d->config.take != NULL ? BACK : BLOCK, now_us);
    }
}

/* errTARGET and errFILE: the file is not for this device, and stays so. */
static void device_error(struct eb_dfu *d, unsigned status)
{
    fail(d, EB_PEER_ERROR, status, eb_dfu_status_text(status));
    d->error.retry = status == 1 || status == 2 ? EB_RETRY_NEVER : EB_RETRY_LATER;
}

/* Waits as long as the device says, then asks with the same move again. */
static void wait_poll(struct eb_dfu *d, uint64_t now_us)
{
    d->poll_us += d->last_poll_ms * 1000ULL;
    d->look_us = now_us + d->last_poll_ms * 1000ULL;
    if (d->look_us > d->patience_end_us)
        fail(d, EB_NO_ANSWER, 0, "the device asks for more time than it is given");
}

/* Before the transfer: whatever it was left in. */
static void woke(struct eb_dfu *d, unsigned status, uint64_t now_us)
{
    switch ((enum eb_dfu_state)d->state) {
    case EB_DFU_IDLE:
        at_rest(d, now_us);
        break;
    case EB_DFU_ERROR:
        if (d->repeats++ < TRIES)
            go(d, CLEAR, now_us);
        else
            device_error(d, status);
        break;
    case EB_DFU_DNLOAD_IDLE:
    case EB_DFU_UPLOAD_IDLE:
        if (d->repeats++ < TRIES)
            go(d, IDLE, now_us);
        else
            fail(d, EB_GARBAGE, d->state, "it stays in an earlier transfer, however often that is aborted");
        break;
    case EB_DFU_MANIFEST_WAIT_RESET:
        fail(d, EB_GARBAGE, 0, "found it waiting for a reset after an earlier transfer, expected it idle");
        d->wants_reset = true;
        break;
    case EB_DFU_APP_IDLE:
    case EB_DFU_APP_DETACH:
        fail(d, EB_GARBAGE, 0, "found the state of a running program, expected one of the loader");
        break;
    default:
        wait_poll(d, now_us);
        break;
    }
}

static void after_block(struct eb_dfu *d, uint64_t now_us)
{
    if (d->state == EB_DFU_DNBUSY || d->state == EB_DFU_DNLOAD_SYNC) {
        wait_poll(d, now_us);
    } else if (d->state == EB_DFU_DNLOAD_IDLE) {
        d->done_bytes += d->sent_bytes;
        d->block++;
        d->patience_end_us = now_us + d->config.patience_us;
        d->repeats = 0;
        go(d, BLOCK, now_us);
    } else {
        fail(d, EB_GARBAGE, d->state, eb_dfu_state_word(d->state));
    }
}

static void after_end(struct eb_dfu *d, uint64_t now_us)
{
    bool tolerant = (d->config.interface->attributes & EB_DFU_MANIFESTATION_TOLERANT) != 0;
    if (d->state == EB_DFU_MANIFEST_WAIT_RESET) {
        done(d, true);
    } else if (d->state == EB_DFU_MANIFEST || d->state == EB_DFU_MANIFEST_SYNC) {
        wait_poll(d, now_us);
        /* One that is not tolerant answers no more: when its time is over it wants the reset. */
        if (d->state == EB_DFU_MANIFEST && !tolerant)
            d->state = EB_DFU_MANIFEST_WAIT_RESET;
    } else if (d->state == EB_DFU_IDLE) {
        at_rest(d, now_us);
    } else if (d->state == EB_DFU_DNLOAD_IDLE && d->repeats++ == 0) {
        go(d, END, now_us); /* the end was lost */
    } else {
        fail(d, EB_GARBAGE, d->state, eb_dfu_state_word(d->state));
    }
}

static void took_status(struct eb_dfu *d, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    if (size < EB_DFU_STATUS_BYTES || bytes[4] >= EB_DFU_STATES) {
        fail(d, EB_GARBAGE, 0, "a status of another length, or a state that the standard does not know");
        return;
    }
    unsigned status = bytes[0];
    d->last_poll_ms = bytes[1] | (uint32_t)bytes[2] << 8 | (uint32_t)bytes[3] << 16;
    d->state = bytes[4];
    d->quiet_end_us = now_us + d->last_poll_ms * 1000ULL;
    if (d->move == WAKE)
        woke(d, status, now_us);
    else if (d->state == EB_DFU_ERROR || status != 0)
        device_error(d, status);
    else if (d->move == STATUS)
        after_block(d, now_us);
    else if (d->move == MANIFEST)
        after_end(d, now_us);
    else
        fail(d, EB_PEER_ERROR, 0, "it stalled, and says that nothing is wrong");
}

/* Where it stands tells whether the block that was lost on the way was taken. */
static void took_state(struct eb_dfu *d, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    d->state = size > 0 ? bytes[0] : EB_DFU_STATES;
    bool begun = d->done_bytes > 0 || d->whole;
    if (!d->whole && (d->state == EB_DFU_DNLOAD_SYNC || d->state == EB_DFU_DNBUSY))
        go(d, STATUS, now_us);
    else if (d->whole && (d->state == EB_DFU_MANIFEST_SYNC || d->state == EB_DFU_MANIFEST))
        go(d, MANIFEST, now_us);
    else if (begun ? d->state == EB_DFU_DNLOAD_IDLE : d->state == EB_DFU_IDLE)
        go(d, d->whole ? END : BLOCK, now_us); /* it did not come */
    else if (d->state == EB_DFU_ERROR)
        go(d, WHAT, now_us);
    else
        fail(d, EB_GARBAGE, d->state, eb_dfu_state_word(d->state));
}

/* A short block, perhaps of no byte, ends it. */
static void took_upload(struct eb_dfu *d, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    enum eb_status status = size > 0 ? d->config.take(d->config.take_self, bytes, size) : EB_OK;
    d->done_bytes += size;
    d->block++;
    d->repeats = 0;
    d->patience_end_us = now_us + d->config.patience_us;
    if (status != EB_OK)
        fail(d, status, 0, "what was read cannot be kept");
    else if (size < d->transfer_bytes)
        done(d, false);
}

static void took_back(struct eb_dfu *d, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    uint8_t expected[64];
    uint64_t left = d->config.source->size_bytes - d->back_bytes;
    size_t compared = size < left ? size : (size_t)left;
    for (size_t at = 0; at < compared; at += sizeof expected) {
        size_t n = compared - at < sizeof expected ? compared - at : sizeof expected;
        if (d->config.source->read(d->config.source->self, d->back_bytes + at, expected, n) != EB_OK) {
            fail(d, EB_IO, 0, "the image could not be read");
            return;
        }
        if (memcmp(expected, bytes + at, n) != 0) {
            fail(d, EB_UNCONFIRMED, 0, "what the device holds is not what was sent");
            return;
        }
    }
    d->back_bytes += compared;
    d->block++;
    if (d->back_bytes == d->config.source->size_bytes) {
        d->read_back = true;
        if (size < d->transfer_bytes)
            done(d, true); /* a short block ended it */
        else
            go(d, BACK_END, now_us);
    } else if (size < d->transfer_bytes) {
        fail(d, EB_UNCONFIRMED, 0, "the device holds less than was sent");
    }
}

static void took(struct eb_dfu *d, const uint8_t *bytes, size_t size, uint64_t now_us)
{
    switch ((enum move)d->move) {
    case WAKE:
    case STATUS:
    case MANIFEST:
    case WHAT:
        took_status(d, bytes, size, now_us);
        break;
    case CLEAR:
    case IDLE:
        go(d, WAKE, now_us);
        break;
    case BLOCK:
        go(d, STATUS, now_us);
        break;
    case END:
        go(d, MANIFEST, now_us);
        break;
    case WHERE:
        took_state(d, bytes, size, now_us);
        break;
    case BACK:
        if (d->config.take != NULL)
            took_upload(d, bytes, size, now_us);
        else
            took_back(d, bytes, size, now_us);
        break;
    case BACK_END:
        done(d, true);
        break;
    case GIVE_UP:
        fail(d, EB_STOPPED, 0, "");
        break;
    }
}

/* Nothing came: the transfer, or its answer, was lost. */
static void lost(struct eb_dfu *d, uint64_t now_us)
{
    uint64_t pause_us = (d->last_poll_ms > LOST_PAUSE_MS ? d->last_poll_ms : LOST_PAUSE_MS) * 1000ULL;
    if (d->move == GIVE_UP) {
        fail(d, EB_STOPPED, 0, "");
    } else if (++d->repeats >= TRIES) {
        fail(d, EB_NO_ANSWER, 0, "");
    } else if (d->move == BLOCK || d->move == END) {
        go(d, WHERE, now_us);
    } else if (d->move == BACK) {
        fail(d, EB_NO_ANSWER, 0, ""); /* a second request for a block may skip one */
    } else {
        d->look_us = now_us + pause_us; /* it may be busy, for as long as last time */
    }
}

void eb_dfu_answer(struct eb_dfu *d, enum eb_status status, const uint8_t *bytes, size_t size,
                   uint64_t now_us)
{
    d->asked = false;
    if (d->step != EB_DFU_BUSY)
        return;
    if (status == EB_OK) {
        took(d, bytes, size, now_us);
    } else if (status == EB_NO_ANSWER) {
        lost(d, now_us);
    } else if (status == EB_PEER_ERROR) {
        if (d->move == GIVE_UP)
            fail(d, EB_STOPPED, 0, "");
        else if (d->repeats++ >= TRIES || d->move == WHAT)
            fail(d, EB_PEER_ERROR, 0, "the request was stalled");
        else
            go(d, d->move == WAKE || d->move == CLEAR || d->move == IDLE ? WAKE : WHAT,
               now_us); /* a stall says nothing: the status does */
    } else if (status == EB_UNREACHABLE && d->whole && (d->move == END || d->move == MANIFEST)) {
        done(d, false); /* it went with the end: what comes back will tell */
    } else {
        fail(d, status, 0, "");
    }
}
