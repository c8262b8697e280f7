#include "session.h"

#include <errno.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum {
    REACH_PATIENCE_US = 5000000,
    ABSENT_PATIENCE_US = 500000, /* for one that did not answer to ARP a moment ago */
    BUFFER_BYTES = 131072,       /* 64 blocks for an Ethernet's MTU, or two of the largest */
    SHOW_US = 100000
};

static volatile sig_atomic_t interrupts;

static void on_signal(int number)
{
    (void)number;
    interrupts = interrupts + 1;
}

int session_interrupts(void)
{
    return interrupts;
}

void complain(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    fputs("einbau: ", stderr);
    vfprintf(stderr, format, arguments);
    fputc('\n', stderr);
    va_end(arguments);
}

static bool fail(struct session *s, int status)
{
    s->status = status;
    return false;
}

static bool fail_problem(struct session *s)
{
    complain("%s", s->problem.text);
    return fail(s, EXIT_WRONG_CALL);
}

/* --- opening ------------------------------------------------------------------------------------- */

static bool known_name(struct session *s, const char *name, bool *flag_of_target(struct target *))
{
    for (size_t i = 0; i < s->count; i++) {
        if (strcmp(s->targets[i].device->name, name) == 0) {
            *flag_of_target(&s->targets[i]) = true;
            return true;
        }
    }
    char names[512] = "";
    for (size_t i = 0; i < s->count && strlen(names) < sizeof names - 64; i++)
        snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", i > 0 ? ", " : "",
                 s->targets[i].device->name);
    complain("found '%s', expected a device of %s: %s", name, s->site->name, names);
    return fail(s, EXIT_WRONG_CALL);
}

static bool *chosen_of(struct target *t)
{
    return &t->chosen;
}

static bool *left_out_of(struct target *t)
{
    return &t->left_out;
}

static bool choose(struct session *s)
{
    const struct options *o = s->options;
    for (size_t i = 0; i < s->count; i++)
        s->targets[i].chosen = o->name_count == 0;
    for (size_t i = 0; i < o->name_count; i++) {
        if (!known_name(s, o->names[i], chosen_of))
            return false;
    }
    for (size_t i = 0; i < o->without_count; i++) {
        if (!known_name(s, o->without[i], left_out_of))
            return false;
    }
    for (size_t i = 0; i < s->count; i++)
        s->targets[i].chosen = s->targets[i].chosen && !s->targets[i].left_out;
    return true;
}

static bool open_site(struct session *s)
{
    s->site = eb_site_read(s->options->site, &s->problem);
    if (s->site == NULL)
        return fail_problem(s);
    s->count = s->site->device_count;
    s->targets = calloc(s->count + 1, sizeof *s->targets);
    if (s->targets == NULL)
        return fail(s, EXIT_WRONG_CALL);
    for (size_t i = 0; i < s->count; i++)
        s->targets[i].device = &s->site->devices[i];
    return choose(s);
}

bool session_open(struct session *s, const struct options *options)
{
    memset(s, 0, sizeof *s);
    s->options = options;
    if (options->site == NULL && !options->site_optional) {
        complain(
            "found no site, expected one: --site FILE, or the variable EINBAU_SITE. docs/site.md says how to "
            "write one");
        return fail(s, EXIT_WRONG_CALL);
    }
    if (options->site != NULL && !open_site(s))
        return false;
    if (options->sim != NULL) {
        s->sim = eb_sim_open(options->sim, options->state, &s->problem);
        if (s->sim == NULL)
            return fail_problem(s);
        s->port = eb_sim_port(s->sim);
    } else {
        s->port = eb_port_linux_open();
        if (s->port == NULL) {
            complain("the network cannot be opened: %s", strerror(errno));
            return fail(s, EXIT_WRONG_CALL);
        }
    }
    struct sigaction action = {.sa_handler = on_signal};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    addresses_recall(s);
    return !options->add_address || addresses_add(s);
}

int session_close(struct session *s, int status)
{
    if (s->port != NULL && s->added_count > 0)
        addresses_take_back(s);
    if (s->sim != NULL && !eb_sim_save(s->sim, &s->problem)) {
        complain("the simulated world could not be remembered: %s", s->problem.text);
        status = EXIT_WRONG_CALL;
    }
    if (s->sim == NULL && s->port != NULL)
        eb_port_linux_close(s->port);
    eb_sim_close(s->sim);
    for (size_t i = 0; i < s->image_count; i++)
        eb_image_close(s->images[i]);
    for (size_t i = 0; i < s->count && s->targets != NULL; i++)
        free(s->targets[i].buffer);
    free(s->images);
    free(s->targets);
    free(s->added);
    eb_site_free(s->site);
    return status;
}

const struct eb_image *session_image(struct session *s, const char *path)
{
    for (size_t i = 0; i < s->image_count; i++) {
        if (strcmp(s->images[i]->path, path) == 0)
            return s->images[i];
    }
    struct eb_image *image = eb_image_open(path, &s->problem);
    struct eb_image **more = realloc(s->images, (s->image_count + 1) * sizeof *more);
    if (image == NULL || more == NULL) {
        if (more != NULL)
            s->images = more;
        fail_problem(s);
        return NULL;
    }
    s->images = more;
    s->images[s->image_count++] = image;
    return image;
}

bool session_may(struct session *s, const char *question, const char *nothing)
{
    char answer[16];
    if (s->options->yes)
        return true;
    if (!isatty(STDIN_FILENO)) {
        complain("found no terminal to ask on, expected one, or --yes; %s", nothing);
        return fail(s, EXIT_WRONG_CALL);
    }
    fprintf(stderr, "%s Answer yes or no: ", question);
    if (fgets(answer, sizeof answer, stdin) != NULL && strcmp(answer, "yes\n") == 0)
        return true;
    complain("not begun; %s", nothing);
    return fail(s, interrupts > 0 ? EXIT_INTERRUPTED : EXIT_NOT_AS_WANTED);
}

/* --- working ------------------------------------------------------------------------------------- */

static uint64_t real_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

void session_work(struct session *s, struct eb_crew *crew, void (*show)(void *context), void *context)
{
    uint64_t shown_us = 0;
    int told = 0;
    size_t going = crew->going;
    while (going > 0) {
        uint64_t until_us = s->sim != NULL ? EB_NEVER : s->port->now_us(s->port->self) + SHOW_US;
        going = eb_crew_work(crew, until_us);
        if (show != NULL && real_us() - shown_us >= SHOW_US) {
            shown_us = real_us();
            show(context);
        }
        if (interrupts > told) {
            told = interrupts;
            if (told == 1)
                eb_crew_stop(crew);
            else
                eb_crew_abandon(crew);
            going = crew->going;
        }
    }
    if (show != NULL)
        show(context);
}

/* A run that only looks. */
static struct eb_run_config config_of(const struct session *s, const struct target *t)
{
    return (struct eb_run_config){
        .port = s->port,
        .profile = t->device->profile,
        .modbus = t->device->modbus,
        .tftp = t->device->tftp,
        .unit = t->device->unit,
        .serial = t->device->serial,
        .reach_patience_us = REACH_PATIENCE_US,
    };
}

bool session_look(struct session *s)
{
    struct eb_crew_place *places = calloc(s->count + 1, sizeof *places);
    struct eb_crew crew;
    size_t chosen = 0;
    size_t answered = 0;
    if (places == NULL)
        return fail(s, EXIT_WRONG_CALL);
    eb_crew_init(&crew, s->port, places, s->count);
    for (size_t i = 0; i < s->count; i++) {
        struct target *t = &s->targets[i];
        if (!t->chosen)
            continue;
        struct eb_run_config config = config_of(s, t);
        if (t->absent)
            config.reach_patience_us = ABSENT_PATIENCE_US;
        eb_run_init(&t->look, &config);
        eb_crew_add(&crew, &t->look);
        chosen++;
    }
    session_work(s, &crew, NULL, NULL);
    free(places);
    for (size_t i = 0; i < s->count; i++) {
        struct target *t = &s->targets[i];
        enum eb_status error = t->look.error.status;
        t->reached = t->chosen && t->look.identified;
        t->answered = t->reached || error == EB_PEER_ERROR || error == EB_GARBAGE || error == EB_TOO_LARGE;
        answered += t->answered;
    }
    if (interrupts > 0) {
        complain("interrupted; nothing was written");
        return fail(s, EXIT_INTERRUPTED);
    }
    s->status = chosen > 0 && answered == 0 ? EXIT_NOT_REACHED : EXIT_AS_WANTED;
    return true;
}

/* --- planning ------------------------------------------------------------------------------------ */

static void add_item(struct target *t, const struct eb_component_profile *component,
                     const struct eb_image *image)
{
    size_t index = (size_t)(component - t->device->profile->components);
    t->images[t->item_count] = image;
    t->items[t->item_count++] = (struct eb_run_item){
        .component = component,
        .image = &image->facts,
        .file = &image->found,
        .source = image->source,
        .checksum = image->checksum,
        .delivered = t->device->wants[index].delivered,
    };
}

/* Whether images can be sent to it at all; says so where not. */
static bool may_send(struct session *s, const struct target *t)
{
    if (t->device->profile->sends)
        return true;
    complain("%s: found no way to send an image in the profile %s, expected the key 'tftp'. Leave the device "
             "out: --without "
             "%s",
             t->device->name, t->device->profile->name, t->device->name);
    return fail(s, EXIT_WRONG_CALL);
}

/* With --image: the one component that it is for. */
static bool plan_given(struct session *s, struct target *t)
{
    const struct eb_profile *profile = t->device->profile;
    if (!may_send(s, t))
        return false;
    const struct eb_image *image = session_image(s, s->options->image);
    if (image == NULL)
        return false;
    const struct eb_component_profile *component = eb_profile_component(profile, image->facts.component);
    if (component == NULL) {
        complain("%s: found an image for the component '%s', expected one that %s has (profile %s)",
                 image->path, image->facts.component, t->device->name, profile->name);
        return fail(s, EXIT_WRONG_CALL);
    }
    add_item(t, component, image);
    return true;
}

static bool plan_wanted(struct session *s, struct target *t, size_t index)
{
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_component_profile *component = &t->device->profile->components[index];
    if (want->image[0] == '\0') {
        complain("%s: found no image for %s %s in the site, expected the key 'image', or --image FILE",
                 t->device->name, component->name, want->version);
        return fail(s, EXIT_WRONG_CALL);
    }
    const struct eb_image *image = session_image(s, want->image);
    if (image == NULL)
        return false;
    if (strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, want->version) != EB_SAME) {
        complain("%s: found an image of %s %s, expected %s %s as %s wants it", image->path,
                 image->facts.component, image->facts.version, component->name, want->version,
                 t->device->name);
        return fail(s, EXIT_WRONG_CALL);
    }
    add_item(t, component, image);
    return true;
}

static bool plan_target(struct session *s, struct target *t)
{
    bool named = s->options->name_count > 0;
    if (s->options->image != NULL)
        return plan_given(s, t);
    if (!t->device->profile->sends)
        return true; /* only looked at; print_plan says so */
    for (size_t i = 0; i < t->device->profile->count; i++) {
        enum eb_mark mark = target_mark(t, i);
        if (t->device->wants[i].version[0] == '\0')
            continue;
        /* Unasked only what is behind, or waits in its loader. */
        bool meant = mark == EB_MARK_BEHIND || t->look.in_loader || (named && mark != EB_MARK_CURRENT) ||
                     s->options->again;
        if (meant && !plan_wanted(s, t, i))
            return false;
    }
    return true;
}

bool session_plan(struct session *s)
{
    for (size_t i = 0; i < s->count; i++) {
        struct target *t = &s->targets[i];
        if (!t->reached)
            continue;
        if (!plan_target(s, t))
            return false;
        for (size_t k = 0; k < t->item_count; k++) {
            eb_plan_judge(&t->look, &t->items[k], s->options->accepted);
            t->refused = t->refused || t->items[k].verdict.answer != EB_FITS;
        }
        t->refused = t->refused || t->look.error.status != EB_OK;
        if (t->item_count > 0 && !t->refused) {
            t->buffer = malloc(BUFFER_BYTES);
            if (t->buffer == NULL)
                return fail(s, EXIT_WRONG_CALL);
            t->fit.config = config_of(s, t);
            t->fit.config.serial = t->look.identity.serial; /* the very device that was looked at */
            t->fit.config.items = t->items;
            t->fit.config.count = t->item_count;
            t->fit.config.accepted = s->options->accepted;
            t->fit.config.again = s->options->again;
            t->fit.config.buffer = t->buffer;
            t->fit.config.buffer_bytes = BUFFER_BYTES;
        }
    }
    return true;
}

/* --- sentences ----------------------------------------------------------------------------------- */

const char *target_wanted(const struct target *t, size_t index)
{
    return t->device->wants[index].version;
}

bool target_has(const struct target *t, size_t index)
{
    return target_wanted(t, index)[0] != '\0' || t->look.running[index].version[0] != '\0';
}

enum eb_mark target_mark(const struct target *t, size_t index)
{
    if (!t->reached)
        return t->answered ? EB_MARK_UNREADABLE : EB_MARK_SILENT;
    return eb_mark_of(&t->device->profile->components[index].order, t->look.running[index].version,
                      target_wanted(t, index));
}

bool target_wants(const struct target *t)
{
    bool wants = t->item_count > 0;
    for (size_t i = 0; i < t->device->profile->count; i++)
        wants = wants || target_wanted(t, i)[0] != '\0';
    return wants;
}

bool target_as_wanted(const struct target *t)
{
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (target_has(t, i) && target_mark(t, i) != EB_MARK_CURRENT)
            return false;
    }
    return t->reached && t->look.error.status == EB_OK;
}

void error_sentence(const struct eb_run *run, char *text, size_t cap)
{
    const struct eb_error *e = &run->error;
    char number[16] = "";
    if (e->status == EB_PEER_ERROR)
        snprintf(number, sizeof number, " %u", e->number);
    snprintf(text, cap, "%s: %s%s%s%s", e->where != NULL ? e->where : eb_rung_word(run->error_rung),
             e->status == EB_PEER_ERROR ? "the device answered with error" : eb_status_word(e->status),
             number, e->text[0] != '\0' ? ": " : "", e->text);
}
