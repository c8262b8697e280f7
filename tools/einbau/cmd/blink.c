#include "session/whom.h"

#include <stdio.h>
#include <string.h>

static struct {
    unsigned for_s;
} own = {.for_s = 10};

enum { SIGNAL_US = 3000000, WAIT_STEP_US = 100000, FLASH_MOST_S = 255 };

/* What is tried where no profile says how. */
static const struct eb_access *const unknown[] = {&eb_access_dcp, &eb_access_cip};

static const char *way_word(const struct eb_blink *blink)
{
    if (blink->by == NULL)
        return "nothing";
    return blink->by != &eb_access_modbus ? blink->by->title
           : blink->coil                  ? "a Modbus coil"
                                          : "a Modbus register";
}

/* Switches it on, or lets it blink once more. */
static enum eb_status begin(struct whom *who, struct eb_request *request, const struct eb_blink *blink,
                            bool on, unsigned seconds)
{
    const struct eb_operation operation = {.kind = EB_BLINK,
                                           .blink = blink,
                                           .on = on,
                                           .seconds =
                                               (uint8_t)(seconds < FLASH_MOST_S ? seconds : FLASH_MOST_S)};
    return whom_request(who, request, blink->by, &operation, 0);
}

static void wait_for(const struct session *s, uint64_t until_us)
{
    const struct eb_port *port = s->job->port;
    for (uint64_t now_us = eb_port_now_us(port); now_us < until_us && session_interrupts() == 0;
         now_us = eb_port_now_us(port))
        eb_port_wait(port, now_us + WAIT_STEP_US < until_us ? now_us + WAIT_STEP_US : until_us);
}

/* For as long as asked; what stays on by itself is switched off, also after Ctrl-C. */
static bool go_on(struct whom *who, struct eb_request *request, const struct eb_blink *blink,
                  unsigned seconds)
{
    const struct eb_port *port = who->session->job->port;
    uint64_t end_us = eb_port_now_us(port) + seconds * 1000000ULL;
    bool signals = blink->by == &eb_access_dcp;
    bool repeats = signals || (blink->by == &eb_access_cip && seconds > FLASH_MOST_S);
    uint64_t each_us = signals ? SIGNAL_US : FLASH_MOST_S * 1000000ULL;
    for (;;) {
        uint64_t now_us = eb_port_now_us(port);
        if (now_us >= end_us || session_interrupts() > 0)
            break;
        wait_for(who->session, repeats && now_us + each_us < end_us ? now_us + each_us : end_us);
        unsigned left = (unsigned)((end_us - now_us) / 1000000);
        if (repeats && eb_port_now_us(port) < end_us && session_interrupts() == 0 &&
            begin(who, request, blink, true, left) != EB_OK)
            return false;
    }
    if (blink->by == &eb_access_modbus)
        return begin(who, request, blink, false, 0) == EB_OK;
    return true;
}

static int report(const struct whom *who, const struct eb_blink *blink, const struct eb_request *request)
{
    char reason[320] = "";
    bool ok = request->status == EB_OK;
    if (!ok)
        whom_reason(request, reason, sizeof reason);
    if (who->session->options->json) {
        print_document(json_pack("{s:s, s:[{s:s, s:s, s:b, s:o, s:[], s:[]}]}", "einbau", "blink/1",
                                 "devices", "name", who->name, "by", way_word(blink), "blinked", ok, "error",
                                 ok ? json_null() : json_string(reason), "components", "findings"));
    } else if (ok) {
        printf("%s: done\n", who->name);
    } else {
        complain("%s: %s", who->name, reason);
    }
    return session_interrupts() > 0                                            ? EXIT_INTERRUPTED
           : ok                                                                ? EXIT_AS_WANTED
           : request->status == EB_PEER_ERROR || request->status == EB_GARBAGE ? EXIT_NOT_AS_WANTED
                                                                               : EXIT_NOT_REACHED;
}

static int run(const struct options *options)
{
    struct session s;
    struct whom who;
    static struct eb_request request;
    if (!whom_open(&who, &s, options) || !whom_on_ip(&who) || !whom_lock(&who))
        return session_close(&s, s.status);
    struct eb_blink blink = {.by = NULL};
    if (who.profile != NULL)
        blink = who.profile->blink;
    /* By DCP or EtherNet/IP it would be the device that holds the rack. */
    if (who.target != NULL && who.target->device->slot != 0 && blink.by != &eb_access_modbus)
        blink.by = NULL;
    if (who.profile != NULL && blink.by == NULL) {
        complain("%s: found no key 'blink' in the profile %s, expected how the device shows itself: dcp, "
                 "cip, {coil: ...} or {register: ...}. Compare the hardware address or serial number on its "
                 "label instead: 'einbau survey' lists them",
                 who.name, who.profile->name);
        return session_close(&s, EXIT_NOT_AS_WANTED);
    }
    if (blink.by != NULL) {
        begin(&who, &request, &blink, true, own.for_s);
    } else {
        for (size_t i = 0; i < sizeof unknown / sizeof unknown[0]; i++) {
            if (unknown[i] == &eb_access_cip && !who.has_ip)
                break;
            blink.by = unknown[i];
            if (begin(&who, &request, &blink, true, own.for_s) == EB_OK)
                break;
        }
    }
    if (request.status == EB_OK) {
        if (!options->json)
            printf("%s shows itself by %s for %u s\n", who.name, way_word(&blink), own.for_s);
        fflush(stdout);
        go_on(&who, &request, &blink, own.for_s);
    }
    return session_close(&s, report(&who, &blink, &request));
}

static const struct option_row duration = {"for", "SECONDS",      "how long, else 10",
                                           2,     OPTION_SECONDS, .own = &own.for_s};
static const struct option_row *const blink_options[] = {&option_link, &duration, NULL};

const struct command command_blink = {
    .name = "blink",
    .arguments = "DEVICE",
    .summary = "lets a device blink, to find it",
    .help =
        "Makes one device show itself, by what its profile says: PROFINET DCP, EtherNet/IP, a Modbus coil or "
        "register. DEVICE is a name of the site, or the hardware or IP address of anything on the wire.\v"
        "Example:\n  einbau blink --site larchfell.site.yaml drive-plc --for 30\n"
        "  einbau blink 02:00:5e:51:04:99\n\n"
        "Exit status 1 where the device refused, 3 where it did not answer.",
    .takes = NEEDS_ONE_DEVICE | SITE_OPTIONAL,
    .options = blink_options,
    .run = run,
};
