/* The devices that jobs are struck on, and what such devices do otherwise than one would wish. */
#ifndef TOLD_SUBJECTS_H
#define TOLD_SUBJECTS_H

#include "support/web.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { COMPONENTS_MAX = 2 };

enum kind { PLC, COUPLER, NODE, UNIT, GAUGE, AMPLIFIER, PANEL, KINDS };

static const struct {
    const char *name, *components[COMPONENTS_MAX], *files[COMPONENTS_MAX]; /* what is wanted */
    size_t count;
    const char *faults[12];
    const char *accepts; /* what a later job must accept: its loader does not tell everything */
} subjects[KINDS] = {
    [PLC] = {"plc-1",
             {"firmware", "display"},
             {"plc-2.0.bin", "display-2.0.bin"},
             2,
             {"lost", "doubled", "late", "garbled", "garbled-unseen", "power-lost"}},
    [COUPLER] = {"coupler-1",
                 {"firmware"},
                 {"coupler-2.0.bin"},
                 1,
                 {"lost", "doubled", "late", "garbled", "garbled-unseen", "power-lost"}},
    [NODE] = {"node-1",
              {"firmware"},
              {"node-2.0.bin"},
              1,
              {"lost", "doubled", "late", "garbled-unseen", "power-lost", "bus-off", "adapter-lost",
               "gateway-lost"}},
    [UNIT] = {"unit-1",
              {"firmware"},
              {"unit-2.0.bin"},
              1,
              {"lost", "doubled", "late", "garbled-unseen", "power-lost", "bus-off", "adapter-lost",
               "gateway-lost"}},
    [GAUGE] = {"gauge-1",
               {"firmware"},
               {"gauge-2.0.bin"},
               1,
               {"lost", "late", "garbled-unseen", "power-lost", "stalled", "status-error", "unplugged",
                "moved"}},
    [AMPLIFIER] = {"amp-1",
                   {"firmware"},
                   {"fw-2.0.bin"},
                   1,
                   {"lost", "doubled", "late", "garbled", "garbled-unseen", "power-lost"}},
    [PANEL] = {"panel-1",
               {"firmware"},
               {"panel-2.0.bin"},
               1,
               {"lost", "doubled", "late", "garbled", "garbled-unseen", "power-lost"},
               " --accept panel-1:hardware-revision"},
};

/* What a device does otherwise than one would wish, and on which kinds. */
#define ON(kind) (1U << (kind))
enum {
    IP = ON(PLC) | ON(COUPLER),
    CAN = ON(NODE) | ON(UNIT),
    ALL = IP | CAN | ON(GAUGE),
    WEB = ON(AMPLIFIER) | ON(PANEL)
};
static const struct habit {
    const char *words; /* of the device in the world, or NULL */
    unsigned kinds;
    bool again, other_bytes; /* it runs the wanted version already; with other bytes */
    bool hopeless;           /* a job cannot end well on it */
    bool lies;               /* it tells a version that it does not run */
} habits[] = {
    {.kinds = ALL | WEB},
    {.kinds = ALL | WEB, .again = true},
    {.kinds = ALL | ON(PANEL), .again = true, .other_bytes = true},
    {.words = "conduct: {restart-delay-ms: 3000}", .kinds = IP, .again = true},
    {.words = "conduct: {restart-delay-ms: 3000}", .kinds = IP},
    {.words = "conduct: {restarts: twice}", .kinds = IP | CAN},
    {.words = "conduct: {restarts: never}", .kinds = IP, .again = true, .hopeless = true},
    {.words = "conduct: {restarts: never}", .kinds = IP, .hopeless = true},
    {.words = "conduct: {restarts-itself: yes}", .kinds = IP},
    {.words = "conduct: {restarts-itself: yes, last-acknowledgement: no}", .kinds = IP},
    {.words = "conduct: {tells-written-version: yes, restart-delay-ms: 2000}",
     .kinds = ON(PLC),
     .hopeless = true,
     .lies = true},
    {.words = "conduct: {starts-stopped: yes}", .kinds = ON(PLC)},
    {.words = "conduct: {closes-connections: yes}", .kinds = IP},
    {.words = "conduct: {busy-ms: 3000}", .kinds = ALL & ~ON(GAUGE)},
    {.words = "conduct: {busy-ms: 600000}", .kinds = ALL & ~ON(GAUGE), .hopeless = true},
    {.words = "conduct: {answer-delay-ms: 1500}", .kinds = IP},
    {.words = "conduct: {later-serial: \"77\"}", .kinds = IP | CAN, .hopeless = true},
    {.words = "conduct: {loader-serial: \"77\"}", .kinds = ON(COUPLER) | CAN, .hopeless = true},
    {.words = "checks-crc: no\n    conduct: {bad-byte-at: 400}", .kinds = ALL & ~ON(GAUGE), .hopeless = true},
    {.words = "checks-crc: no\n    conduct: {bad-byte-at: 400}",
     .kinds = ON(PLC) | ON(COUPLER),
     .again = true,
     .hopeless = true},
    {.words = "response-us: 1500000", .kinds = ON(NODE)},
};
enum { HABITS = sizeof habits / sizeof habits[0] };

static inline void make_subject(struct little *l, enum kind kind, const struct habit *h)
{
    char device[2048] = "";
    static const char program[] = "program: {state: {modbus-object: 0x80}, stopped: stopped}\n";
    if (h->words != NULL)
        snprintf(device, sizeof device, "    %s\n", h->words);
    const struct little_options ethernet = {.plcs = kind == PLC,
                                            .couplers = kind == COUPLER,
                                            .image_bytes = 3000,
                                            .device = device,
                                            .profile = program,
                                            .tftp = "windowsize: 8, blksize: 128, patience-s: 20"};
    const struct bus_options bus = {
        .nodes = kind == NODE, .units = kind == UNIT, .image_bytes = 500, .device = device};
    const struct usb_options usb = {.gauges = 1, .image_bytes = 500, .device = device, .usb = "uploads: yes"};
    const struct web_options web = {.image_bytes = 3000, .device = device};
    const struct panel_options panel = {.image_bytes = 3000, .device = device};
    if (kind == AMPLIFIER)
        web_make(l, &web);
    else if (kind == PANEL)
        panel_make(l, &panel);
    else if (kind <= COUPLER)
        little_make(l, &ethernet);
    else if (kind == GAUGE)
        usb_make(l, &usb);
    else
        bus_make(l, &bus);
    for (size_t i = 0; i < subjects[kind].count && h->again; i++) {
        char old[64];
        snprintf(old, sizeof old, "%s", subjects[kind].files[i]);
        *strstr(old, "2.0") = '1';
        if (!h->other_bytes) {
            replace_in(l, "world.yaml", old, subjects[kind].files[i]);
            continue;
        }
        /* an image of that version, but not that one */
        char other[80];
        size_t size;
        snprintf(other, sizeof other, "other-%zu.bin", i);
        char *wanted = read_text(l->folder, subjects[kind].files[i], &size);
        char product[17] = "";
        memcpy(product, wanted + 16, 16);
        free(wanted);
        write_image(l->folder, other, product, subjects[kind].components[i], "2.0", size - 50, "1..9", "");
        replace_in(l, "world.yaml", old, other);
    }
}

/* What is. */
struct truth {
    enum eb_sim_mode mode;
    bool wanted[COMPONENTS_MAX]; /* the flash holds the wanted image, to the last byte */
    char version[COMPONENTS_MAX][EB_VERSION_TEXT_BYTES]; /* by the flash */
};

static inline bool same_truth(const struct truth *a, const struct truth *b)
{
    bool same = a->mode == b->mode;
    for (size_t i = 0; i < COMPONENTS_MAX; i++)
        same = same && a->wanted[i] == b->wanted[i] && strcmp(a->version[i], b->version[i]) == 0;
    return same;
}

static inline struct truth look(const struct little *l, enum kind kind, const char *state)
{
    struct truth t = {.mode = EB_SIM_OFF};
    char folder[PATH_BYTES + 32];
    struct eb_problem problem;
    snprintf(folder, sizeof folder, "%s/%s", l->folder, state);
    struct eb_sim *sim = eb_sim_open(l->world_path, folder, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    t.mode = eb_sim_mode_of(sim, subjects[kind].name);
    for (size_t i = 0; i < subjects[kind].count; i++) {
        size_t capacity;
        size_t size;
        char *image = read_text(l->folder, subjects[kind].files[i], &size);
        const uint8_t *flash =
            eb_sim_flash(sim, subjects[kind].name, subjects[kind].components[i], &capacity);
        t.wanted[i] = memcmp(flash, image, size) == 0;
        memcpy(t.version[i], flash + 48, 16);
        free(image);
    }
    eb_sim_close(sim);
    return t;
}

/* Frames of a job on that subject without a fault: a job that is killed at a frame that never comes ends
 * well. */
static inline unsigned frames_of(enum kind kind)
{
    struct little l;
    struct eb_problem problem;
    struct job job;
    make_subject(&l, kind, &habits[0]);
    struct eb_sim *sim = eb_sim_open(l.world_path, NULL, &problem);
    assert_non_null(sim);
    job_open(&job, l.site_path);
    job_begin(&job, eb_sim_port(sim), true);
    job_work(&job);
    unsigned frames = (unsigned)eb_sim_frames(sim);
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&l);
    return 2 * frames; /* the tool looks before */
}

static inline struct outcome in_state(const struct little *l, const char *state, const char *words)
{
    return einbau_run(l, "{EINBAU_STATE=%s} %s", state, words);
}

/* A subject with these words in the world and this in its profile. */
static inline void make_with(struct little *l, enum kind kind, const char *words, const char *profile)
{
    static const char *const files[KINDS] = {[PLC] = "profiles/plc.yaml",
                                             [NODE] = "node.yaml",
                                             [UNIT] = "unit.yaml",
                                             [GAUGE] = "gauge.yaml",
                                             [AMPLIFIER] = "profiles/amp.yaml"};
    const struct habit habit = {.words = words, .kinds = ALL | WEB};
    make_subject(l, kind, &habit);
    char *text = read_text(l->folder, files[kind], NULL);
    write_text(l->folder, files[kind], "%s\n%s", text, profile);
    free(text);
}

/* What the world remembers of a device. */
static inline json_t *remembered(const struct little *l, const char *device)
{
    char *text = read_text(l->folder, "state/world.state", NULL);
    json_t *root = json_loads(text, JSON_DISABLE_EOF_CHECK, NULL);
    json_t *one = json_incref(json_object_get(json_object_get(root, "devices"), device));
    json_decref(root);
    free(text);
    return one;
}

/* What a device's n-th document holds, as text: freed by the caller; empty where it has none any more. */
static inline char *document_held(const struct little *l, const char *device, size_t n)
{
    json_t *one = remembered(l, device);
    const json_t *document = json_array_get(json_object_get(json_object_get(one, "documents"), "list"), n);
    const char *hex = json_string_value(json_object_get(document, "now"));
    assert_non_null(hex);
    size_t size = json_is_true(json_object_get(document, "gone")) ? 0 : strlen(hex) / 2;
    char *now = calloc(1, size + 1);
    for (size_t i = 0; i < size; i++) {
        const char pair[3] = {hex[2 * i], hex[2 * i + 1], '\0'};
        now[i] = (char)strtoul(pair, NULL, 16);
    }
    json_decref(one);
    return now;
}

/* A fresh state, and what happens in the world at a frame. */
static inline void strike_at(const struct little *l, const char *world, const char *key, unsigned frame,
                             const char *more)
{
    const char *rest = strstr(world, "seed: 7\n") + 8;
    struct outcome o = shell("rm -rf %s/state", l->folder);
    outcome_free(&o);
    write_text(l->folder, "world.yaml", "%.*s%s{frame: %u, %s}\n%s", (int)(rest - world), world, key, frame,
               more, rest);
}

#endif
