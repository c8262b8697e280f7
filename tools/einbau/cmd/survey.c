#include "cmd/survey_into.h"
#include "report/report.h"
#include "session/bus.h"
#include "session/usb.h"
#include "session/watch.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct {
    const char *into;
    bool watch, scan_uds;
} own;

/* What to do next, where something is to be done. */
static void print_advice(const struct session *s)
{
    size_t outdated = 0;
    size_t differs = 0;
    size_t unreachable = 0;
    size_t in_loader = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        bool here = false;
        bool other = false;
        for (size_t k = 0; t->chosen && k < t->device->profile->count; k++) {
            here = here || (eb_job_has(t, k) && eb_job_mark(t, k) == EB_MARK_OUTDATED);
            other = other || (eb_job_has(t, k) && eb_job_mark(t, k) == EB_MARK_DIFFERS);
        }
        outdated += here;
        differs += other;
        unreachable += t->chosen && !t->answered;
        in_loader += t->chosen && t->reached && t->look.in_loader;
    }
    if (outdated + differs + unreachable + in_loader > 0)
        puts("");
    if (outdated > 0)
        say("%zu outdated: 'einbau plan' shows what would be written to them.", outdated);
    if (differs > 0)
        say("%zu with other bytes than the wanted image under its version: 'einbau fit' writes the right "
            "ones.",
            differs);
    if (in_loader > 0)
        printf("%zu in the loader, where no program runs: 'einbau fit' brings them back.\n", in_loader);
    if (unreachable > 0)
        say("%zu unreachable: are they powered? 'einbau links' shows how the laptop reaches them.",
            unreachable);
}

/* How many devices there are of each mark, the worst first: a device counts once, by the worst of its
 * components; one of which nothing is wanted, and in which all is well, not at all. */
static void marks_text(const struct session *s, char *text, size_t cap)
{
    static const enum eb_mark order[] = {EB_MARK_UNREACHABLE, EB_MARK_UNREADABLE, EB_MARK_DIFFERS,
                                         EB_MARK_OUTDATED,    EB_MARK_NEWER,      EB_MARK_CURRENT};
    enum { MARKS = sizeof order / sizeof order[0] };
    size_t counts[MARKS] = {0};
    size_t in_loader = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        size_t worst = MARKS;
        for (size_t k = 0; t->chosen && k < t->device->profile->count; k++) {
            enum eb_mark mark = eb_job_mark(t, k);
            if (!eb_job_has(t, k) || (mark == EB_MARK_CURRENT && eb_job_wanted(t, k)[0] == '\0'))
                continue;
            for (size_t m = 0; m < worst; m++)
                worst = order[m] == mark ? m : worst;
        }
        if (t->chosen && !t->answered)
            worst = 0;
        if (t->chosen && t->reached && t->look.in_loader)
            in_loader++;
        else if (worst < MARKS)
            counts[worst]++;
    }
    struct eb_text to;
    eb_text_init(&to, text, cap);
    for (size_t m = 0; m <= MARKS; m++) { /* the loader stands behind what is unreachable */
        size_t count = m == 1 ? in_loader : counts[m > 1 ? m - 1 : 0];
        char part[48];
        snprintf(part, sizeof part, "%s%zu %s", text[0] != '\0' ? ", " : "", count,
                 m == 1 ? "in the loader" : eb_mark_word(order[m > 1 ? m - 1 : 0]));
        if (count > 0)
            eb_text_add(&to, part);
    }
}

/* Who did not answer to ARP a moment ago need not be waited for as long. */
static void mark_absent(struct session *s, const struct wire *w)
{
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        bool swept = false;
        for (size_t l = 0; l < w->count; l++) {
            for (size_t a = 0; a < w->links[l].count; a++)
                swept = swept || (eb_link_covers(&w->links[l].addresses[a], t->device->modbus.ip) &&
                                  !eb_survey_denied(&w->survey, l) && !eb_survey_too_large(&w->survey, l));
        }
        t->absent = t->absent || (swept && target_on_ip(t) && wire_found(w, t) == NULL);
    }
}

/* ------------------------------------------------------------------------------------------------- */

static int survey_site(struct session *s, const struct wire *w, struct buses *buses, const struct usb *usb)
{
    size_t chosen = 0;
    size_t answered = 0;
    mark_absent(s, w);
    if (s->options->name_count == 0 && !buses_look(s, buses))
        return s->status;
    if (!session_look(s))
        return s->status;
    int status = s->status;
    for (size_t i = 0; i < s->job->count; i++) {
        chosen += s->job->devices[i].chosen;
        answered += s->job->devices[i].chosen && s->job->devices[i].answered;
        if (s->job->devices[i].chosen && status == EXIT_AS_WANTED && !eb_job_as_wanted(&s->job->devices[i]))
            status = EXIT_NOT_AS_WANTED;
    }
    if (!s->options->json) {
        char marks[160];
        marks_text(s, marks, sizeof marks);
        say("%s: %zu of %zu devices answered%s%s", s->job->site->name, answered, chosen,
            marks[0] != '\0' ? ": " : "", marks);
        puts("");
        print_devices(s);
        print_advice(s);
        buses_print_nodes(s, buses);
        usb_print(s, usb);
        if (!buses_sound(buses))
            puts("");
        if (!buses_sound(buses))
            buses_print(s, buses);
    }
    return status;
}

/* One bus, whatever the site says. */
static int survey_bus(struct session *s, struct buses *buses)
{
    if (!buses_look(s, buses)) {
        complain("interrupted");
        return EXIT_INTERRUPTED;
    }
    if (s->options->json) {
        print_document(json_pack("{s:s, s:n, s:[], s:o, s:[]}", "einbau", "survey/2", "site", "devices",
                                 "buses", buses_document(s, buses), "usb"));
    } else {
        buses_print(s, buses);
        buses_print_nodes(s, buses);
    }
    const struct eb_nodes *n = &buses->list[0].nodes;
    bool any = false;
    for (size_t i = 0; i < n->unit_count; i++)
        any = any || n->units[i].answered;
    for (size_t id = 1; id <= EB_NODES_MAX; id++) {
        if (any || n->nodes[id].answered)
            return buses_sound(buses) ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
    }
    return EXIT_NOT_REACHED;
}

static int survey(struct session *s, struct wire *w, struct buses *buses, struct usb *usb)
{
    bool named = s->options->name_count > 0;
    if (!named && (w->count > 0 || s->job->site == NULL) && !wire_look(w))
        return s->status;
    usb_look(s, usb);
    if (own.into != NULL)
        return survey_into(s, own.into, w, buses, usb);
    int status = s->job->site != NULL                   ? survey_site(s, w, buses, usb)
                 : w->survey.count + usb_count(usb) > 0 ? EXIT_AS_WANTED
                                                        : EXIT_NOT_REACHED;
    if (status == EXIT_INTERRUPTED || status == EXIT_WRONG_CALL)
        return status;
    if (s->options->json) {
        json_t *root = document(s, "survey");
        json_object_set_new(root, "buses", buses_document(s, buses));
        json_object_set_new(root, "usb", usb_document(s, usb));
        if (!named)
            json_object_update_missing_new(root, wire_document(w));
        print_document(root);
    } else if (!named && (w->all_count > 0 || s->job->site == NULL)) {
        if (s->job->site != NULL)
            puts("");
        wire_print(w);
        if (s->job->site == NULL)
            usb_print(s, usb);
    }
    return status;
}

static int run(const struct options *options)
{
    struct session s;
    struct wire w;
    struct buses buses = {.scans = own.scan_uds};
    struct usb usb = {0};
    if (!session_open(&s, options))
        return session_close(&s, s.status);
    if (options->bus != NULL) {
        int status = survey_bus(&s, &buses);
        buses_free(&buses);
        return session_close(&s, status);
    }
    int status = wire_open(&w, &s) ? 0 : s.status;
    if (status == 0)
        status = own.watch ? watch(&w) : survey(&s, &w, &buses, &usb);
    buses_free(&buses);
    usb_free(&usb);
    wire_close(&w);
    return session_close(&s, status);
}

static void read_bit_rate(struct argp_state *state, struct options *options, char *text)
{
    uint64_t number;
    if (!eb_text_number(text, strlen(text), &number) || number < 5000 || number > 1000000)
        argp_error(state, "--bit-rate: found '%s', expected bit/s from 5000 to 1000000", text);
    options->bit_rate = (unsigned)number;
}

static void check(struct argp_state *state, const struct options *o)
{
    if (own.watch && o->json)
        argp_error(state, "--watch: found --json, expected one of them");
    if (o->bit_rate != 0 && o->bus == NULL)
        argp_error(state, "--bit-rate: found no --bus, expected both");
    if (o->bus != NULL && (own.watch || own.into != NULL || o->name_count > 0))
        argp_error(state, "--bus: found --watch, --into or device names, expected none of them");
    if (own.into != NULL && (own.watch || o->name_count > 0))
        argp_error(state, "--into: found --watch or device names, expected neither");
}

static const struct option_row rows[] = {
    {"listen", "SECONDS",
     "listen up to so long for what is missing; LLDP devices announce themselves every 30 s. It ends once "
     "each device of the site, and an address of each one found, was heard",
     2, OPTION_SECONDS, .to = OPTION_TO(listen_s)},
    {"community", "NAME", "for SNMP, else public", 2, OPTION_TEXT, .to = OPTION_TO(community)},
    {"watch", NULL, "keep looking: what is new, changed, gone; ends with q", 2, OPTION_FLAG,
     .own = &own.watch},
    {"bus", "ADAPTER", "without a site: only the CAN bus at this interface, or this serial adapter's file", 2,
     OPTION_TEXT, .to = OPTION_TO(bus)},
    {"bit-rate", "BIT/S", "of that bus", 2, OPTION_READ, .read = read_bit_rate},
    {"scan-uds", NULL,
     "look for UDS units that the site does not name, too: at most 356 questions on each CAN bus, some 9 s; "
     "only "
     "while nothing moves",
     2, OPTION_FLAG, .own = &own.scan_uds},
    {"into", "SITE", "add what was found to this site file, where a profile fits", 2, OPTION_TEXT,
     .own = &own.into},
};
static const struct option_row *const survey_options[] = {&option_link,
                                                          &rows[0],
                                                          &rows[1],
                                                          &rows[2],
                                                          &rows[3],
                                                          &rows[4],
                                                          &rows[5],
                                                          &rows[6],
                                                          &option_without,
                                                          &option_only,
                                                          &option_add_address,
                                                          &option_columns,
                                                          &option_sort,
                                                          &option_unfold,
                                                          NULL};

const struct command command_survey = {
    .name = "survey",
    .arguments = "[DEVICE...]",
    .summary = "discovered devices: identity, address, running and wanted versions",
    .help = "Looks on the laptop's wired links for every device that answers or announces itself: PROFINET "
            "DCP, EtherNet/IP, DNS-SD, Modbus/TCP, SNMP, LLDP, ARP, requests for an address; and on USB for "
            "those with a DFU interface. With a site it also asks each of its devices what runs, on CAN "
            "buses too, and marks what is not as wanted: current, outdated, newer, unreadable, unreachable. "
            "With names only those are asked. It only asks, with at most 1000 frames a second on each link.\v"
            "Example:\n  einbau survey\n  einbau survey --site larchfell.site.yaml\n  einbau survey --link "
            "eth0 --watch\n"
            "  einbau survey --into larchfell.site.yaml\n"
            "  einbau survey --bus /dev/ttyACM0 --bit-rate 250000\n\n"
            "Exit status 1 where a device of the site is not as wanted, 3 where none answered.",
    .takes = NAMES_DEVICES | SITE_OPTIONAL,
    .heads = devices_heads,
    .options = survey_options,
    .check = check,
    .run = run,
};
