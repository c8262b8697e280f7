#include "whom.h"

#include <stdio.h>
#include <string.h>

enum { SIGNAL_US = 3000000, WAIT_STEP_US = 100000, FLASH_MOST_S = 255 };

/* The ways that are tried where no profile says which one. */
static const enum eb_blink_kind unknown[] = {EB_BLINK_DCP, EB_BLINK_CIP};

static const char *way_word(enum eb_blink_kind kind)
{
    static const char *const words[] = {"nothing", "PROFINET DCP", "EtherNet/IP", "a Modbus coil",
                                        "a Modbus register"};
    return words[kind];
}

/* Switches it on, or lets it blink once more. */
static enum eb_status begin(struct whom *who, struct eb_ask *ask, const struct eb_blink *blink, bool on,
                            unsigned seconds)
{
    struct eb_ask_config config = {.address = blink->address, .on = on, .count = 1};
    const uint16_t value = on ? blink->on : blink->off;
    config.values = &value;
    config.flash_s = (uint8_t)(seconds < FLASH_MOST_S ? seconds : FLASH_MOST_S);
    config.kind = blink->kind == EB_BLINK_DCP    ? EB_ASK_SIGNAL
                  : blink->kind == EB_BLINK_CIP  ? EB_ASK_FLASH
                  : blink->kind == EB_BLINK_COIL ? EB_ASK_COIL
                                                 : EB_ASK_WRITE;
    return whom_ask(who, ask, config);
}

static void wait_for(const struct session *s, uint64_t until_us)
{
    void *owners[4];
    const struct eb_port *port = s->port;
    for (uint64_t now_us = port->now_us(port->self); now_us < until_us && session_interrupts() == 0;
         now_us = port->now_us(port->self))
        port->wait(port->self, now_us + WAIT_STEP_US < until_us ? now_us + WAIT_STEP_US : until_us, owners,
                   4);
}

/* For as long as asked; what stays on by itself is switched off, also after Ctrl-C. */
static bool go_on(struct whom *who, struct eb_ask *ask, const struct eb_blink *blink, unsigned seconds)
{
    const struct eb_port *port = who->session->port;
    uint64_t end_us = port->now_us(port->self) + seconds * 1000000ULL;
    bool repeats = blink->kind == EB_BLINK_DCP || (blink->kind == EB_BLINK_CIP && seconds > FLASH_MOST_S);
    uint64_t each_us = blink->kind == EB_BLINK_DCP ? SIGNAL_US : FLASH_MOST_S * 1000000ULL;
    for (;;) {
        uint64_t now_us = port->now_us(port->self);
        if (now_us >= end_us || session_interrupts() > 0)
            break;
        wait_for(who->session, repeats && now_us + each_us < end_us ? now_us + each_us : end_us);
        unsigned left = (unsigned)((end_us - now_us) / 1000000);
        if (repeats && port->now_us(port->self) < end_us && session_interrupts() == 0 &&
            begin(who, ask, blink, true, left) != EB_OK)
            return false;
    }
    if (blink->kind == EB_BLINK_COIL || blink->kind == EB_BLINK_REGISTER)
        return begin(who, ask, blink, false, 0) == EB_OK;
    return true;
}

static int report(const struct whom *who, const struct eb_blink *blink, const struct eb_ask *ask)
{
    char reason[320] = "";
    bool ok = ask->status == EB_OK;
    if (!ok)
        whom_reason(ask, reason, sizeof reason);
    if (who->session->options->json) {
        print_document(json_pack("{s:s, s:[{s:s, s:s, s:b, s:o, s:[], s:[]}]}", "einbau", "blink/1",
                                 "devices", "name", who->name, "by", way_word(blink->kind), "blinked", ok,
                                 "error", ok ? json_null() : json_string(reason), "components", "findings"));
    } else if (ok) {
        printf("%s: done\n", who->name);
    } else {
        complain("%s: %s", who->name, reason);
    }
    return session_interrupts() > 0                                    ? EXIT_INTERRUPTED
           : ok                                                        ? EXIT_AS_WANTED
           : ask->status == EB_PEER_ERROR || ask->status == EB_GARBAGE ? EXIT_NOT_AS_WANTED
                                                                       : EXIT_NOT_REACHED;
}

static int run(const struct options *options)
{
    struct session s;
    struct whom who;
    static struct eb_ask ask;
    if (!whom_open(&who, &s, options) || !whom_lock(&who))
        return session_close(&s, s.status);
    struct eb_blink blink = {.kind = EB_BLINK_NONE};
    if (who.profile != NULL)
        blink = who.profile->blink;
    if (who.profile != NULL && blink.kind == EB_BLINK_NONE) {
        complain(
            "%s: found no key 'blink' in the profile %s, expected how the device shows itself: dcp, cip, "
            "{coil: ...} or {register: ...}. Compare the hardware address or serial number on its label "
            "instead: 'einbau survey' lists them",
            who.name, who.profile->name);
        return session_close(&s, EXIT_NOT_AS_WANTED);
    }
    if (blink.kind != EB_BLINK_NONE) {
        begin(&who, &ask, &blink, true, options->for_s);
    } else {
        for (size_t i = 0; i < sizeof unknown / sizeof unknown[0]; i++) {
            if (unknown[i] == EB_BLINK_CIP && !who.has_ip)
                break;
            blink.kind = unknown[i];
            if (begin(&who, &ask, &blink, true, options->for_s) == EB_OK)
                break;
        }
    }
    if (ask.status == EB_OK) {
        if (!options->json)
            printf("%s shows itself by %s for %u s\n", who.name, way_word(blink.kind), options->for_s);
        fflush(stdout);
        go_on(&who, &ask, &blink, options->for_s);
    }
    return session_close(&s, report(&who, &blink, &ask));
}

const struct command command_blink = {
    .name = "blink",
    .arguments = "DEVICE",
    .summary = "the device shows itself: a lamp blinks",
    .help =
        "Makes one device show itself, by what its profile says: PROFINET DCP, EtherNet/IP, a Modbus coil or "
        "register. DEVICE is a name of the site, or the hardware or IP address of anything on the wire.\v"
        "Example:\n  einbau blink --site larchfell.site.yaml drive-plc --for 30\n"
        "  einbau blink 02:00:5e:51:04:99\n\n"
        "Exit status 1 where the device refused, 3 where it did not answer.",
    .takes = NEEDS_ONE_DEVICE | SITE_OPTIONAL | TAKES_LINK | TAKES_FOR,
    .run = run,
};
