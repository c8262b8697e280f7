/* What happened, why, and what helps in this case: in sentences. */
#include "report/report.h"
#include "session/usb.h"

#include <stdio.h>
#include <string.h>

enum { TRIES_THAT_TELL = 2 }; /* so many equal failures are no accident */

/* What helps where a device gave this code; several codes of a protocol may need the same. */
static const struct {
    enum eb_code code;
    uint32_t number;
    const char *advice;
} by_code[] = {
    {EB_CODE_TFTP, 1, "The profile's key 'send-as' must be the file name that the device expects"},
    {EB_CODE_TFTP, 2,
     "It does not permit writing in its present state: does 'prepare' in the profile stop it, or does it "
     "have a switch?"},
    {EB_CODE_TFTP, 3, "Its memory is full, or too small for this image"},
    {EB_CODE_MODBUS, 1, "The profile asks for what this device does not have"},
    {EB_CODE_MODBUS, 2, "The profile names a register or an object that this device does not have"},
    {EB_CODE_MODBUS, 3, "The profile writes a value that this device does not take"},
    {EB_CODE_MODBUS, 4, "The device reports a failure of its own: switch its power off and on, then survey"},
    {EB_CODE_SDO, 0x06010001, "The profile names an object that cannot be read"},
    {EB_CODE_SDO, 0x06010002, "The profile names an object that cannot be written"},
    {EB_CODE_SDO, 0x06020000, "The profile names an object that this device does not have"},
    {EB_CODE_SDO, 0x06090011, "The profile names a sub-index that this device does not have: 'program'?"},
    {EB_CODE_SDO, 0x06060000,
     "The device reports a hardware error: switch its power off and on. Where it comes again, its memory is "
     "worn out or damaged"},
    {EB_CODE_UDS, 0x33, "The unit wants a key first: 'security' in the profile"},
    {EB_CODE_UDS, 0x35,
     "The key is wrong: correct 'security' in the profile before the next try. After a few wrong keys a unit "
     "locks itself"},
    {EB_CODE_UDS, 0x36,
     "The unit has locked itself after wrong keys: correct 'security' in the profile, switch the unit's "
     "power off and on, and wait as long as its maker says"},
    {EB_CODE_UDS, 0x37, "The unit is still locked after a wrong key: wait some minutes"},
    {EB_CODE_UDS, 0x22, "The unit is not in the state that it wants for this: standstill, ignition, supply"},
    {EB_CODE_UDS, 0x92, "The supply of the unit is too high"},
    {EB_CODE_UDS, 0x93, "The supply of the unit is too low: connect a charger"},
    {EB_CODE_UDS, 0x72,
     "The unit could not write its memory: check its supply. Where it comes again, the memory is worn out or "
     "damaged"},
    {EB_CODE_HTTP, 401, "Its login is another one than its profile says"},
    {EB_CODE_HTTP, 403, "Its user may not do this, or the profile lacks the token that goes with a change"},
    {EB_CODE_HTTP, 404, "The profile names a path that this device does not have"},
    {EB_CODE_HTTP, 405, "The profile's 'method' is not what this path takes"},
    {EB_CODE_HTTP, 413, "The image is too large for this device"},
    {EB_CODE_HTTP, 415, "The profile's 'type' or 'field' is not what this device takes"},
    {EB_CODE_HTTP, 422, "The device says that the image is not for it"},
    {EB_CODE_HTTP, 507, "Its memory is full, or too small for this image"},
    {EB_CODE_DFU, 1, "The image is not for this device, says its loader"},
    {EB_CODE_DFU, 2, "The image does not pass a check of the device's loader"},
};

/* What helps, by what the device or the laptop said; "": nothing that is known. */
static const char *advice_of(const struct eb_run *run)
{
    const struct eb_error *e = &run->error;
    bool can = run->config.target.can_link != NULL && run->config.target.can_link[0] != '\0';
    bool on_usb = run->config.profile != NULL && eb_profile_wire(run->config.profile) == EB_WIRE_USB;
    bool on_bus = can && run->config.profile != NULL && eb_profile_wire(run->config.profile) == EB_WIRE_CAN;
    for (size_t i = 0; i < sizeof by_code / sizeof by_code[0]; i++) {
        if (e->status == EB_PEER_ERROR && e->code == by_code[i].code && e->number == by_code[i].number)
            return by_code[i].advice;
    }
    const char *where = e->where != NULL ? e->where : "";
    if (strcmp(where, "TLS") == 0)
        return "If the device has a new certificate, accept it: --accept DEVICE:certificate; if not, another "
               "device or another program answers";
    if (e->status == EB_DENIED && strcmp(where, "login") == 0)
        return strstr(e->text, "unencrypted") != NULL
                   ? "To allow it for this call: --accept DEVICE:plain-password"
               : strstr(e->text, "has no login") != NULL
                   ? "The profile's key 'login' below 'http' must say how one logs in"
                   : "'einbau secret set' keeps the right ones, and 'einbau secret list' says for whom";
    if (e->status == EB_DENIED && strncmp(where, "opening port", 12) == 0)
        return "To grant it once: sudo setcap cap_net_bind_service,cap_net_raw+ep \"$(command -v einbau)\"";
    if (on_usb && (e->status == EB_NO_ANSWER || e->status == EB_UNREACHABLE))
        return "Check its plug, its cable and its supply, without a hub in between";
    switch (e->status) {
    case EB_NO_ANSWER:
        return on_bus ? "Check its supply, its node id and its plug; 'einbau links' says how the bus is"
                      : "Check its supply and the cable; 'einbau links' says whether the laptop is in its "
                        "subnet";
    case EB_UNREACHABLE:
        return !on_bus ? "Check the cable and the address; 'einbau links' says whether the laptop is in its "
                         "subnet"
               : e->retry == EB_RETRY_NEVER ? "Check the bit rate: 'einbau links' finds the one that is used"
                                            : "Check the adapter; 'einbau links' says how the bus is";
    case EB_OTHER:
        return "Check the address, the cable, and the serial number in the site";
    case EB_BUSY:
        return strcmp(where, EB_BESIDE_ANOTHER_JOB) == 0 ? "Wait until that has ended"
                                                         : "Close the other program";
    case EB_STALLED:
        return "This is an error in the simulated world, or in einbau: report it with the site and the world";
    default:
        return "";
    }
}

static void add(char *text, size_t cap, const char *separator, const char *more)
{
    size_t at = strlen(text);
    if (more[0] != '\0' && at < cap)
        snprintf(text + at, cap - at, "%s%s", at > 0 ? separator : "", more);
}

/* What happened, where, and what the device said. */
static void cause(const struct eb_run *run, const struct eb_error *e, enum eb_rung rung, char *text,
                  size_t cap)
{
    char code[EB_CODE_TEXT_BYTES];
    eb_error_code_text(e, code);
    /* A code says it shorter than the word for all of them. */
    snprintf(text, cap, "%s: %s%s%s", e->where != NULL ? e->where : eb_rung_word(rung),
             code[0] != '\0' ? code : eb_status_word(e->status), e->text[0] != '\0' ? ": " : "", e->text);
    if (e->status == EB_DENIED && eb_profile_wire(run->config.profile) == EB_WIRE_USB) {
        char right[320];
        usb_right_text(&run->config.profile->usb, right, sizeof right);
        add(text, cap, ". ", right);
    }
}

void error_sentence(const struct eb_run *run, char *text, size_t cap)
{
    cause(run, &run->error, run->error_rung, text, cap);
    add(text, cap, ". ", advice_of(run));
}

/* The last step of the choice that does something, or NULL. */
static const struct eb_step *restarting_step(const struct eb_run *run)
{
    const struct eb_steps *steps = &run->config.profile->activate;
    const struct eb_step *found = NULL;
    for (size_t i = 0; i < steps->count; i++) {
        const struct eb_step *step = &steps->list[i];
        if (step->choice == run->choice && (step->by != NULL || step->hand != NULL))
            found = step;
    }
    return found;
}

const char *restarted_by(const struct eb_run *run)
{
    const struct eb_step *step = restarting_step(run);
    return step == NULL ? NULL : step->hand != NULL ? "by-hand" : step->by->word;
}

void other_way_sentence(const struct eb_run *run, char *text, size_t cap)
{
    char why[SENTENCE_BYTES / 2];
    text[0] = '\0';
    if (run->way > 0) {
        cause(run, &run->way_error, EB_RUNG_SEND, why, sizeof why);
        snprintf(text, cap, "written by %s, as the way before failed: %s", eb_run_sends_by(run)->title, why);
    }
    const struct eb_step *step = restarting_step(run);
    if (run->choice > 0 && step != NULL) {
        size_t at = strlen(text);
        cause(run, &run->choice_error, EB_RUNG_ACTIVATE, why, sizeof why);
        snprintf(text + at, cap - at, "%srestarted by %s, as the way before failed: %s", at > 0 ? "; " : "",
                 step->hand != NULL ? "hand" : step->by->title, why);
    }
}

static const struct eb_job_device *gateway_of(const struct session *s, const struct eb_job_device *t)
{
    for (size_t i = 0; i < s->job->count && t->device->via != NULL; i++) {
        if (s->job->devices[i].device == t->device->via)
            return &s->job->devices[i];
    }
    return NULL;
}

/* A device behind a gateway that does not work as one. */
static bool gateway_sentence(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_job_device *g = gateway_of(s, t);
    const char *name = g != NULL ? g->device->name : "";
    if (g == NULL || t->answered || g->device->wire == t->device->wire)
        return false;
    if (g->begun && g->fit.outcome == EB_OUTCOME_CONFIRMED && g->look.in_loader)
        snprintf(text, cap,
                 "not reached before: the gateway %s was in its loader. It runs again now: 'einbau fit %s'",
                 name, eb_job_word(t->device->name));
    else if (g->reached && g->look.in_loader)
        snprintf(text, cap, "not reached: the gateway %s is in its loader. 'einbau fit %s' writes it first",
                 name, eb_job_word(name));
    else if (g->reached && eb_job_stopped(g))
        snprintf(text, cap, "not reached: the program of the gateway %s is stopped", name);
    else if (!g->reached && g->look.error.status != EB_OK)
        snprintf(text, cap, "not reached: the gateway %s %s", name,
                 g->answered ? "could not be identified" : "does not answer");
    else
        return false;
    return true;
}

/* A device that the laptop has no address for. */
static bool subnet_sentence(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    static struct eb_link links[EB_LINKS_MAX];
    struct eb_link_address device = {.prefix = t->device->prefix};
    if (!target_on_ip(t) || t->answered || !EB_PORT_HAS(s->job->port, links, list))
        return false;
    size_t count = s->job->port->links->list(s->job->port->self, links, EB_LINKS_MAX);
    memcpy(device.ip, t->device->modbus.ip, sizeof device.ip);
    struct eb_way way = eb_way_to(links, count, &device, NULL, 0);
    if (way.kind == EB_WAY_ADD)
        snprintf(text, cap, "not reached: no address of %s is in its subnet; use --add-address",
                 links[way.link].name);
    else if (way.kind == EB_WAY_ROUTED)
        snprintf(text, cap,
                 "not reached: no address of the laptop is in its subnet, and packets left by the default "
                 "route of %s. 'einbau links' says which address helps",
                 links[way.link].name);
    else if (way.kind == EB_WAY_NONE)
        snprintf(text, cap, "not reached: no link of the laptop can be used. Switch a wired one on");
    else
        return false;
    return true;
}

void look_sentence(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    text[0] = '\0';
    bool beside = t->look.error.where != NULL && strcmp(t->look.error.where, EB_BESIDE_ANOTHER_JOB) == 0;
    if (t->look.error.status != EB_OK &&
        (beside || (!gateway_sentence(s, t, text, cap) && !subnet_sentence(s, t, text, cap))))
        error_sentence(&t->look, text, cap);
}

/* How the device was left, by what was read at the end. */
static void how_left(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_run *run = &t->fit;
    char start[160];
    bool touched = false;
    for (size_t i = 0; i < t->item_count; i++)
        touched = touched || (t->fit.record.touched >> i & 1) != 0;
    text[0] = '\0';
    if (!run->identified) {
        add(text, cap, "",
            run->answered ? "What runs in it now is unknown, though it answers"
                          : "It does not answer now, so what runs in it is unknown");
    } else if (run->in_loader) {
        add(text, cap, "", "No program runs in it; its loader waits for an image");
    } else if (run->program_stopped) {
        start_sentence(t, start, sizeof start);
        snprintf(text, cap, "Its program is stopped%s: %s",
                 run->record.was_stopped ? ", as it was before the job" : "", start);
    } else if (!touched && !run->left) {
        add(text, cap, "", "Nothing was written, and it runs what it ran before");
    } else {
        add(text, cap, "", "It runs");
        for (size_t i = 0; i < t->device->profile->count; i++) {
            char one[EB_NAME_BYTES + EB_VERSION_TEXT_BYTES + 2];
            snprintf(one, sizeof one, "%s %s", t->device->profile->components[i].name,
                     run->running[i].version);
            if (run->running[i].version[0] != '\0')
                add(text, cap, strcmp(text, "It runs") == 0 ? " " : ", ", one);
        }
        if (strcmp(text, "It runs") == 0)
            snprintf(text, cap, "It answers; which version runs is unknown");
    }
    if (eb_job_is_out(t)) {
        char more[SENTENCE_BYTES / 2];
        out_sentence(t, more, sizeof more);
        add(text, cap, ". ", more);
        return;
    }
    if (run->left && run->closing && run->identified && !run->in_loader && !run->program_stopped) {
        char more[240];
        snprintf(more, sizeof more,
                 "What was opened for the update may still be open: 'einbau recover %s' closes it",
                 eb_job_word(t->device->name));
        add(text, cap, ". ", more);
        return;
    }
    if (run->left && !run->in_loader && !(run->identified && run->program_stopped)) {
        char more[240];
        start_sentence(t, start, sizeof start);
        snprintf(more, sizeof more, "Its program may still be stopped: %s", start);
        add(text, cap, ". ", more);
    }
}

/* Whether one more job of the same kind has a chance, and if so how. */
static void next_step(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_run *run = &t->fit;
    const char *advice = advice_of(run);
    bool never = eb_error_retry(&run->error) == EB_RETRY_NEVER;
    text[0] = '\0';
    if (run->failures >= TRIES_THAT_TELL && run->all_equal) {
        snprintf(text, cap, "The same happened at each of %u tries, so one more does not help by itself",
                 run->failures);
        add(text, cap, ". ",
            advice[0] != '\0' ? advice : "'einbau fit' with --trace FILE records what the device answers");
    } else if (advice[0] != '\0') {
        add(text, cap, "", advice);
    } else if (run->error.where != NULL && strcmp(run->error.where, "asking what it runs now") == 0) {
        snprintf(text, cap, "'einbau confirm %s' on a terminal asks for it", eb_job_word(t->device->name));
    } else if (!never) {
        snprintf(text, cap, "'einbau fit %s' tries once more", eb_job_word(t->device->name));
    }
}

static void fit_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_run *run = &t->fit;
    char more[640];
    bool refused = run->outcome == EB_OUTCOME_REFUSED;
    if (run->error.status == EB_OK) {
        if (eb_job_stopped(t)) {
            start_sentence(t, more, sizeof more);
            snprintf(text, cap, "its program is stopped, as it was before the job: %s", more);
        } else if (t->member != NULL && t->device->manager != NULL) {
            out_sentence(t, text, cap);
        }
        return;
    }
    if (run->failures >= TRIES_THAT_TELL && !run->all_equal) {
        cause(run, &run->first_error, run->first_rung, text, cap);
        cause(run, &run->error, run->error_rung, more, sizeof more);
        add(text, cap, "; at last ", more);
    } else {
        cause(run, &run->error, run->error_rung, text, cap);
    }
    how_left(t, more, sizeof more);
    add(text, cap, ". ", refused ? "Nothing was written" : more);
    if (run->outcome != EB_OUTCOME_INTERRUPTED && run->error.status != EB_STOPPED) {
        next_step(t, more, sizeof more);
        add(text, cap, ". ", more);
    } else if (run->in_loader || !run->identified) {
        snprintf(more, sizeof more, "'einbau fit %s' writes it again", eb_job_word(t->device->name));
        add(text, cap, ". ", more);
    }
}

void outcome_sentence(const struct session *s, const struct eb_job_device *t, char *text, size_t cap)
{
    text[0] = '\0';
    if (t->waited_for != NULL)
        snprintf(text, cap, "cancelled, as %s was not confirmed before. Nothing was written",
                 t->waited_for->name);
    else if (t->begun)
        fit_sentence(t, text, cap);
    else
        look_sentence(s, t, text, cap);
}
