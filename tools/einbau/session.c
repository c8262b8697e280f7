#include "bus.h"

#include <ctype.h>
#include <errno.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

enum {
    REACH_PATIENCE_US = 5000000,
    ABSENT_PATIENCE_US = 500000, /* for one that did not answer to ARP a moment ago */
    SHOW_US = 100000
};

static volatile sig_atomic_t interrupts;

/* A second Ctrl-C is more urgent than the first one; a terminal that is closed is not. */
static void on_signal(int number)
{
    if (number == SIGINT)
        interrupts = interrupts + 1;
    else if (interrupts == 0)
        interrupts = 1;
}

int session_interrupts(void)
{
    return interrupts;
}

static bool hushed;

void hush(bool on)
{
    hushed = on;
}

void complain(const char *format, ...)
{
    va_list arguments;
    if (hushed)
        return;
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
    complain("%s", s->job->problem.text);
    return fail(s, EXIT_WRONG_CALL);
}

/* --- opening ------------------------------------------------------------------------------------- */

static bool known_name(struct session *s, const char *name, bool *flag_of_target(struct eb_job_device *))
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (strcmp(s->job->devices[i].device->name, name) == 0) {
            *flag_of_target(&s->job->devices[i]) = true;
            return true;
        }
    }
    char names[512] = "";
    for (size_t i = 0; i < s->job->count && strlen(names) < sizeof names - 64; i++)
        snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", i > 0 ? ", " : "",
                 s->job->devices[i].device->name);
    complain("found '%s', expected a device of %s: %s", name, s->job->site->name, names);
    return fail(s, EXIT_WRONG_CALL);
}

static bool *chosen_of(struct eb_job_device *t)
{
    return &t->chosen;
}

static bool *left_out_of(struct eb_job_device *t)
{
    return &t->left_out;
}

static struct eb_job_device *target_named(struct session *s, const char *name)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (strcmp(s->job->devices[i].device->name, name) == 0)
            return &s->job->devices[i];
    }
    return NULL;
}

/* What is accepted is accepted for one device, by name or because no other one is meant. */
static bool choose_accepted(struct session *s)
{
    const struct options *o = s->options;
    for (size_t i = 0; i < o->accepted_count; i++) {
        const char *name = o->accepted[i].device != NULL ? o->accepted[i].device : o->names[0];
        struct eb_job_device *t = target_named(s, name);
        if (t == NULL || !t->chosen) {
            complain("--accept: found '%s', expected a device of this call", name);
            return fail(s, EXIT_WRONG_CALL);
        }
        t->accepted |= o->accepted[i].rules;
    }
    return true;
}

static bool choose(struct session *s)
{
    const struct options *o = s->options;
    size_t chosen = 0;
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].chosen = o->name_count == 0;
    for (size_t i = 0; i < o->name_count; i++) {
        if (!known_name(s, o->names[i], chosen_of))
            return false;
    }
    for (size_t i = 0; i < o->without_count; i++) {
        if (!known_name(s, o->without[i], left_out_of))
            return false;
    }
    for (size_t i = 0; i < s->job->count; i++) {
        s->job->devices[i].chosen = s->job->devices[i].chosen && !s->job->devices[i].left_out;
        chosen += s->job->devices[i].chosen;
    }
    if (chosen > 0 || (s->job->count == 0 && o->site_optional)) /* there may be devices beside those of the site */
        return choose_accepted(s);
    if (s->job->count == 0)
        complain("found no devices in %s, expected at least one", s->options->site);
    else
        complain("no device is chosen: --without leaves out every one that was named");
    return fail(s, EXIT_WRONG_CALL);
}

static bool open_site(struct session *s)
{
    s->job->site = eb_site_read(s->options->site, &s->job->problem);
    if (s->job->site == NULL)
        return fail_problem(s);
    s->job->count = s->job->site->device_count;
    s->job->devices = calloc(s->job->count + 1, sizeof *s->job->devices);
    if (s->job->devices == NULL)
        return fail(s, EXIT_WRONG_CALL);
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].device = &s->job->site->devices[i];
    return true;
}

/* Without it the floor of each device is less well known, and nothing else is worse. */
static void open_known(struct session *s)
{
    char folder[EB_PATH_BYTES];
    if (s->job->site == NULL || (s->options->sim != NULL && s->options->state == NULL) ||
        !session_state_dir(s, folder))
        return;
    s->job->known = eb_known_open(folder, &s->job->problem);
    if (s->job->known == NULL)
        complain("what devices tell cannot be remembered: %s", s->job->problem.text);
}

bool session_open_office(struct session *s, const struct options *options, enum shelf_need shelf)
{
    memset(s, 0, sizeof *s);
    s->options = options;
    rights_drop(false);
    if (options->site != NULL && !open_site(s))
        return false;
    open_known(s);
    return session_trust(s) && (shelf == SHELF_NOT_NEEDED || session_open_shelf(s, shelf == SHELF_IS_MADE));
}

bool session_profiles(struct session *s, struct eb_profile **profiles, size_t *count)
{
    const char *folder = s->options->profiles != NULL ? s->options->profiles
                         : s->job->site != NULL            ? s->job->site->profiles_dir
                                                      : NULL;
    *count = 0;
    *profiles = folder != NULL ? eb_profiles_read(folder, count, &s->job->problem) : NULL;
    if (folder == NULL || s->job->problem.text[0] == '\0')
        return true;
    free(*profiles);
    *profiles = NULL;
    return fail_problem(s);
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
    if (options->site == NULL && (options->without_count > 0 || options->names_devices)) {
        complain("found device names and no site, expected one: --site FILE, or the variable EINBAU_SITE");
        return fail(s, EXIT_WRONG_CALL);
    }
    if (options->site != NULL && (!open_site(s) || !choose(s)))
        return false;
    if (!session_trust(s))
        return false;
    if (options->sim != NULL) {
        s->sim = eb_sim_open(options->sim, options->state, &s->job->problem);
        if (s->sim == NULL)
            return fail_problem(s);
        s->job->port = eb_sim_port(s->sim);
    } else {
        s->job->port = eb_port_linux_open();
        if (s->job->port == NULL) {
            complain("the network cannot be opened: %s", strerror(errno));
            return fail(s, EXIT_WRONG_CALL);
        }
    }
    if (s->sim == NULL)
        eb_port_linux_raw_first(s->job->port);
    rights_drop(options->add_address || options->undo || strcmp(options->command, "recover") == 0);
    if (options->trace != NULL) {
        s->inner = s->job->port;
        s->job->port = eb_trace_open(s->inner, options->trace, s->sim == NULL, &s->job->problem);
        if (s->job->port == NULL) {
            s->job->port = s->inner;
            s->inner = NULL;
            return fail_problem(s);
        }
    }
    open_known(s);
    struct sigaction action = {.sa_handler = on_signal};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    sigaction(SIGHUP, &action, NULL);
    job_find_left(s);
    addresses_recall(s);
    return !options->add_address || addresses_add(s);
}

int session_close(struct session *s, int status)
{
    if (s->job->port != NULL && s->added_count > 0)
        addresses_take_back(s);
    job_end(s, status);
    if (s->inner != NULL) {
        if (!eb_trace_close(s->job->port, &s->job->problem)) {
            complain("%s", s->job->problem.text);
            status = EXIT_WRONG_CALL;
        }
        s->job->port = s->inner;
    }
    if (s->sim != NULL && !eb_sim_save(s->sim, &s->job->problem)) {
        complain("the simulated world could not be remembered: %s", s->job->problem.text);
        status = EXIT_WRONG_CALL;
    }
    if (s->sim == NULL && s->job->port != NULL)
        eb_port_linux_close(s->job->port);
    eb_sim_close(s->sim);
    for (size_t i = 0; i < s->image_count; i++)
        eb_image_close(s->images[i].image);
    eb_shelf_close(s->job->shelf);
    eb_known_close(s->job->known);
    for (size_t i = 0; i < s->job->count && s->job->devices != NULL; i++) {
        free(s->job->devices[i].buffer);
        free(s->job->devices[i].memory[TARGET_LOOK]);
        free(s->job->devices[i].memory[TARGET_FIT]);
    }
    eb_record_close(s->job->record);
    eb_locks_close(s->job->locks);
    free(s->job->lefts);
    free(s->images);
    free(s->job->devices);
    free(s->added);
    eb_site_free(s->job->site);
    return status;
}

/* A folder of the user's own: $VARIABLE/einbau, or ~/OTHERWISE/einbau. */
static bool own_folder(const char *variable, const char *otherwise, char folder[EB_PATH_BYTES])
{
    const char *home = getenv("HOME");
    const char *given = getenv(variable);
    if (given != NULL && given[0] == '/')
        return snprintf(folder, EB_PATH_BYTES, "%s/einbau", given) < EB_PATH_BYTES;
    return home != NULL && home[0] == '/' &&
           snprintf(folder, EB_PATH_BYTES, "%s/%s/einbau", home, otherwise) < EB_PATH_BYTES;
}

bool session_state_dir(const struct session *s, char folder[EB_PATH_BYTES])
{
    if (s->options->state != NULL)
        return snprintf(folder, EB_PATH_BYTES, "%s", s->options->state) < EB_PATH_BYTES;
    return own_folder("XDG_STATE_HOME", ".local/state", folder);
}

static void shelf_folder(struct session *s)
{
    char own[EB_PATH_BYTES] = "";
    if (s->options->shelf != NULL)
        eb_text_copy(s->shelf_folder, sizeof s->shelf_folder, s->options->shelf);
    else if (own_folder("XDG_DATA_HOME", ".local/share", own))
        snprintf(s->shelf_folder, sizeof s->shelf_folder, "%.*s/shelf", EB_PATH_BYTES - 8, own);
}

bool session_open_shelf(struct session *s, bool must)
{
    char index[EB_PATH_BYTES + 16];
    if (s->job->shelf != NULL)
        return true;
    shelf_folder(s);
    if (s->shelf_folder[0] == '\0') {
        complain("found no place for a shelf, expected --shelf DIR, or the variable EINBAU_SHELF or HOME");
        return fail(s, EXIT_WRONG_CALL);
    }
    snprintf(index, sizeof index, "%s/index.db", s->shelf_folder);
    if (!must && s->options->shelf == NULL && access(index, F_OK) != 0)
        return true;
    s->job->shelf = eb_shelf_open(s->shelf_folder, must, &s->job->problem);
    if (s->job->shelf == NULL)
        return fail_problem(s);
    return true;
}

bool session_trusted_dir(char folder[EB_PATH_BYTES])
{
    char own[EB_PATH_BYTES];
    return own_folder("XDG_CONFIG_HOME", ".config", own) &&
           snprintf(folder, EB_PATH_BYTES, "%.*s/trusted", EB_PATH_BYTES - 16, own) < EB_PATH_BYTES;
}

bool session_trust(struct session *s)
{
    char folder[EB_PATH_BYTES];
    s->job->trust = (struct eb_trust){.asked = false};
    if (s->job->site != NULL)
        eb_trust_site(&s->job->trust, s->job->site, NULL);
    return !session_trusted_dir(folder) || eb_trust_folder(&s->job->trust, folder, &s->job->problem) || fail_problem(s);
}

static struct opened *opened_place(struct session *s)
{
    struct opened *more = realloc(s->images, (s->image_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    s->images = more;
    return &more[s->image_count];
}

static const struct eb_image *opened(struct session *s, struct eb_image *image, int64_t number)
{
    if (image == NULL) {
        fail_problem(s);
        return NULL;
    }
    *opened_place(s) = (struct opened){image, number};
    s->image_count++;
    return image;
}

const struct eb_image *session_image(struct session *s, const char *path)
{
    for (size_t i = 0; i < s->image_count; i++) {
        if (s->images[i].number == 0 && strcmp(s->images[i].image->path, path) == 0)
            return s->images[i].image;
    }
    return opened(s, eb_image_open(path, &s->job->trust, &s->job->problem), 0);
}

const struct eb_image *session_shelf_image(struct session *s, const struct eb_shelf_candidate *candidate)
{
    for (size_t i = 0; i < s->image_count; i++) {
        if (s->images[i].number == candidate->number)
            return s->images[i].image;
    }
    return opened(s, eb_shelf_image_open(s->job->shelf, candidate, &s->job->problem), candidate->number);
}

bool session_may(struct session *s, const char *question, const char *nothing)
{
    char answer[16];
    if (s->options->yes)
        return true;
    if (!isatty(STDIN_FILENO)) {
        complain("cannot ask for confirmation without a terminal; use --yes. %c%s",
                 toupper((unsigned char)nothing[0]), nothing + 1);
        return fail(s, EXIT_WRONG_CALL);
    }
    tcflush(STDIN_FILENO, TCIFLUSH); /* what was typed before the question does not answer it */
    fprintf(stderr, "%s (yes/no) ", question);
    if (fgets(answer, sizeof answer, stdin) != NULL && strcmp(answer, "yes\n") == 0)
        return true;
    complain("cancelled, %s", nothing);
    return fail(s, interrupts > 0 ? EXIT_INTERRUPTED : EXIT_NOT_AS_WANTED);
}

/* --- working ------------------------------------------------------------------------------------- */

static uint64_t real_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000 + (uint64_t)t.tv_nsec / 1000;
}

void session_work(struct session *s, struct eb_crew *crew, const struct working *w)
{
    uint64_t shown_us = 0;
    int told = 0;
    size_t going = crew->going;
    while (going > 0 || (w->more != NULL && w->more(w->context, crew))) {
        uint64_t until_us = s->sim != NULL ? EB_NEVER : s->job->port->now_us(s->job->port->self) + SHOW_US;
        eb_crew_work(crew, until_us);
        if (w->more != NULL)
            w->more(w->context, crew);
        if (w->show != NULL && real_us() - shown_us >= SHOW_US) {
            shown_us = real_us();
            w->show(w->show_context);
        }
        if (interrupts > told) {
            told = interrupts;
            if (told == 1)
                eb_crew_stop(crew);
            else
                eb_crew_abandon(crew);
        }
        going = crew->going;
    }
    if (w->show != NULL)
        w->show(w->show_context);
}

bool target_on_bus(const struct eb_job_device *t)
{
    return t->device->wire->kind == EB_SITE_CAN;
}

bool target_on_ip(const struct eb_job_device *t)
{
    return t->device->wire->kind == EB_SITE_ETHERNET;
}

const char *wire_adapter(const struct session *s, const struct eb_site_link *wire)
{
    return s->sim == NULL && wire->adapter[0] != '\0' ? wire->adapter : wire->name;
}

struct eb_run_config session_run(struct session *s, struct eb_job_device *t, enum target_run which)
{
    const struct eb_site_device *d = t->device;
    size_t size = eb_run_memory_bytes(d->profile);
    if (t->memory[which] == NULL)
        t->memory[which] = malloc(size);
    return (struct eb_run_config){
        .port = s->job->port,
        .profile = d->profile,
        .memory = t->memory[which],
        .memory_bytes = t->memory[which] != NULL ? size : 0,
        .target = {.modbus = d->modbus,
                   .tftp = d->tftp,
                   .unit = d->unit,
                   .can_link = eb_job_adapter(s->job, d->wire),
                   .bit_rate = d->wire->bit_rate,
                   .node = d->node,
                   .isotp = d->isotp,
                   .usb_place = d->usb_place,
                   .serial = d->serial},
        .reach_patience_us = REACH_PATIENCE_US,
        .around = &t->around,
        .interrupted = t->left != NULL,
    };
}

static void ask_too(struct session *s, const struct eb_site_device *d, bool *more)
{
    struct eb_job_device *t = d != NULL ? &s->job->devices[d - s->job->site->devices] : NULL;
    if (t == NULL || t->asked)
        return;
    t->asked = true;
    *more = true;
}

/* Those that the chosen ones depend on are looked at too, and those that these depend on. */
static void choose_asked(struct session *s)
{
    for (bool more = true; more;) {
        more = false;
        for (size_t i = 0; i < s->job->count; i++) {
            const struct eb_site_device *d = s->job->devices[i].device;
            if (!s->job->devices[i].chosen && !s->job->devices[i].asked)
                continue;
            ask_too(s, d->via, &more);
            for (size_t k = 0; k < d->companion_count; k++)
                ask_too(s, d->companions[k].device, &more);
        }
    }
}

/* All whom the laptop has talked to on its Ethernet segments, freed by the caller. */
static struct eb_neighbour *neighbours(const struct session *s, size_t *count)
{
    enum { NEIGHBOURS_MAX = 8192 };
    const struct eb_port *port = s->job->port;
    struct eb_link links[EB_LINKS_MAX];
    struct eb_neighbour *list = malloc(NEIGHBOURS_MAX * sizeof *list);
    bool known = list != NULL && s->job->known != NULL && port->links != NULL && port->neighbours != NULL;
    size_t link_count = known ? port->links(port->self, links, EB_LINKS_MAX) : 0;
    *count = 0;
    for (size_t i = 0; i < link_count; i++)
        *count += port->neighbours(port->self, links[i].name, list + *count, NEIGHBOURS_MAX - *count);
    return list;
}

/* Whether the same serial number answers at another MAC address than before. */
static void compare_mac(struct session *s, struct eb_job_device *t, const struct eb_neighbour *list, size_t count)
{
    const struct eb_identity *id = &t->look.identity;
    t->mac[0] = '\0';
    for (size_t i = 0; target_on_ip(t) && i < count; i++) {
        if (memcmp(list[i].ip, t->device->modbus.ip, sizeof list[i].ip) == 0)
            eb_mac_text(list[i].mac, t->mac);
    }
    if (t->mac[0] != '\0' && id->serial[0] != '\0' &&
        !eb_known_mac(s->job->known, id, t->mac, t->other_mac, t->other_seen, &s->job->problem))
        complain("the MAC address of %s cannot be remembered: %s", t->device->name, s->job->problem.text);
}

static void remember(struct session *s, const struct eb_job_device *t)
{
    if (s->job->known != NULL && !eb_known_note(s->job->known, s->job->site->name, t->device->name, &t->look, &s->job->problem))
        complain("what %s told cannot be remembered: %s", t->device->name, s->job->problem.text);
}

/* Nothing is sent to a bus that seems to run at another bit rate: every frame would disturb it. */
static bool kept_off(const struct session *s, struct eb_job_device *t)
{
    const struct heard *heard = &s->heard[t->device->wire - s->job->site->links];
    if ((heard->trouble & EB_BUS_BIT_RATE) == 0)
        return false;
    t->look.outcome = EB_OUTCOME_FAILED;
    t->look.error_rung = EB_RUNG_REACH;
    t->look.error = (struct eb_error){
        .status = EB_UNREACHABLE, .retry = EB_RETRY_NEVER, .where = "listening to the bus first"};
    snprintf(t->look.error.text, sizeof t->look.error.text,
             "errors only at %u bit/s, and not one good frame. Nothing was sent", t->device->wire->bit_rate);
    return true;
}

static void begin_look(struct session *s, struct eb_job_device *t, struct eb_crew *crew)
{
    struct eb_run_config config = session_run(s, t, TARGET_LOOK);
    if (t->absent)
        config.reach_patience_us = ABSENT_PATIENCE_US;
    t->look.config = config;
    if (!kept_off(s, t) && eb_run_init(&t->look, &config) == EB_OK && eb_crew_add(crew, &t->look) != EB_OK)
        eb_run_abandon(&t->look);
}

bool session_look(struct session *s)
{
    struct eb_crew_place *places = calloc(s->job->count + 1, sizeof *places);
    struct eb_crew crew;
    size_t chosen = 0;
    size_t answered = 0;
    if (places == NULL)
        return fail(s, EXIT_WRONG_CALL);
    choose_asked(s);
    buses_listen(s);
    eb_crew_init(&crew, s->job->port, places, s->job->count);
    for (size_t i = 0; i < s->job->count && interrupts == 0; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen || t->asked)
            begin_look(s, t, &crew);
        chosen += t->chosen;
    }
    session_work(s, &crew, &(struct working){0});
    free(places);
    size_t neighbour_count;
    struct eb_neighbour *list = neighbours(s, &neighbour_count);
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        t->reached = t->look.identified && t->look.error.status == EB_OK;
        t->answered = t->look.answered || t->reached;
        answered += t->chosen && t->answered;
        if (t->reached) {
            compare_mac(s, t, list, neighbour_count);
            remember(s, t);
        }
    }
    free(list);
    if (interrupts > 0) {
        complain("interrupted; nothing was written");
        return fail(s, EXIT_INTERRUPTED);
    }
    job_find_left(s);
    session_compare(s);
    s->status = chosen > 0 && answered == 0 ? EXIT_NOT_REACHED : EXIT_AS_WANTED;
    return true;
}

/* --- sentences ----------------------------------------------------------------------------------- */

const char *eb_job_wanted(const struct eb_job_device *t, size_t index)
{
    return t->device->wants[index].version;
}

bool eb_job_has(const struct eb_job_device *t, size_t index)
{
    return eb_job_wanted(t, index)[0] != '\0' || t->look.running[index].version[0] != '\0';
}

const struct eb_run *eb_job_last(const struct eb_job_device *t)
{
    return t->begun ? &t->fit : &t->look;
}

/* The checksum of the wanted image: of the one that was to be written now, else of the one that is known. */
static const uint32_t *wanted_checksum(const struct eb_job_device *t, size_t index)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    for (size_t k = t->item_count; k-- > 0 && component->checksum.count > 0;) {
        const struct eb_run_item *item = &t->items[k];
        if (item->component == component &&
            eb_version_compare(&component->order, item->image->version, eb_job_wanted(t, index)) == EB_SAME)
            return &item->checksum;
    }
    return t->has_checksum[index] ? &t->checksum[index] : NULL;
}

enum eb_mark eb_job_mark(const struct eb_job_device *t, size_t index)
{
    const struct eb_run *run = eb_job_last(t);
    if (t->begun && !run->identified)
        return EB_MARK_UNKNOWN;
    if (!t->begun && !t->reached)
        return t->answered ? EB_MARK_UNREADABLE : EB_MARK_UNREACHABLE;
    if (run->in_loader)
        return EB_MARK_UNREADABLE;
    return eb_mark_of(&t->device->profile->components[index].order, &run->running[index],
                      eb_job_wanted(t, index), wanted_checksum(t, index));
}

bool eb_job_wants(const struct eb_job_device *t)
{
    bool wants = t->item_count > 0;
    for (size_t i = 0; i < t->device->profile->count; i++)
        wants = wants || eb_job_wanted(t, i)[0] != '\0';
    return wants;
}

bool say_nothing_wanted(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && (eb_job_wants(t) || !t->answered))
            return false; /* of one that is silent something else is wrong */
    }
    complain("found nothing that is wanted of %s, expected the key 'wants' in %s",
             s->options->name_count == 1 ? s->options->names[0] : "these devices", s->options->site);
    return true;
}

unsigned eb_job_known_by(const struct eb_job_device *t, size_t index)
{
    return EB_BY_VERSION | (wanted_checksum(t, index) != NULL ? EB_BY_CHECKSUM : 0U);
}

bool eb_job_stopped(const struct eb_job_device *t)
{
    const struct eb_run *run = eb_job_last(t);
    return run->identified && run->program_known && run->program_stopped;
}

bool target_can_start(const struct eb_job_device *t)
{
    return t->device->profile->undo.count > 0 || !target_on_ip(t);
}

void start_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    if (target_can_start(t))
        snprintf(text, cap, "'einbau recover %s' starts it", eb_job_word(t->device->name));
    else
        snprintf(text, cap, "start it by hand: the profile %s has no key 'undo' that would do it",
                 t->device->profile->name);
}

bool eb_job_as_wanted(const struct eb_job_device *t)
{
    for (size_t i = 0; i < t->device->profile->count; i++) {
        if (eb_job_has(t, i) && eb_job_mark(t, i) != EB_MARK_CURRENT)
            return false;
    }
    return t->reached && !eb_job_stopped(t) && t->left == NULL;
}
