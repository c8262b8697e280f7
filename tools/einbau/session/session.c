#include "session/bus.h"
#include "session/chosen.h"
#include "session/progress.h"
#include "ui/status.h"

#include <ctype.h>
#include <errno.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

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

void session_heed_interrupts(void)
{
    struct sigaction action = {.sa_handler = on_signal};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    sigaction(SIGHUP, &action, NULL);
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

/* What the library could not do, as it says it. */
bool session_failed(struct session *s)
{
    complain("%s", s->job->problem.text);
    return fail(s, s->job->status == EB_STOPPED ? EXIT_INTERRUPTED
                   : s->job->status == EB_BUSY  ? EXIT_NOT_AS_WANTED
                                                : EXIT_WRONG_CALL);
}

static bool fail_problem(struct session *s)
{
    complain("%s", s->job->problem.text);
    return fail(s, EXIT_WRONG_CALL);
}

static void warn(void *context, const char *text)
{
    (void)context;
    complain("%s", text);
}

static unsigned stop(void *context)
{
    (void)context;
    return (unsigned)interrupts;
}

/* How many devices have not answered yet, and which. */
static void show_look(const struct session *s)
{
    enum { SOON_US = 150000 }; /* nothing is shown of what takes no longer */
    uint64_t us = eb_port_now_us(s->job->port) - s->looks_us;
    char names[96] = "";
    size_t devices = 0;
    size_t left = 0;
    if (us < SOON_US || s->options->json || !status_is_seen())
        return;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        bool waits = (t->chosen || t->asked) && !eb_run_ended(&t->look);
        devices += t->chosen || t->asked;
        left += waits;
        if (waits && left <= 2)
            snprintf(names + strlen(names), sizeof names - strlen(names), "%s%s", left > 1 ? ", " : "",
                     t->device->name);
    }
    if (left > 0)
        status_line("Looking at %zu device%s for %.1f s; %zu did not answer yet: %s%s", devices,
                    devices == 1 ? "" : "s", (double)us / 1e6, left, names, left > 2 ? " ..." : "");
}

static void show(void *context)
{
    const struct session *s = context;
    if (s->progress != NULL)
        progress_show(s->progress);
    else if (s->looking)
        show_look(s);
}

/* Whether nothing was begun because of a refused device. */
static bool was_refused(const struct session *s)
{
    bool refused = false;
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].begun)
            return false;
        refused = refused || (s->job->devices[i].chosen && s->job->devices[i].refused);
    }
    return refused;
}

/* For the record. */
static void says(void *context, struct eb_job_device *t, char *text, size_t cap)
{
    if (t->refused && !t->begun)
        plan_sentence(context, t, text, cap);
    else if (t->item_count > 0 && was_refused(context))
        snprintf(text, cap, "another device of the plan was refused. Nothing was written");
    else
        outcome_sentence(context, t, text, cap);
}

static void begins(void *context, struct eb_run_config *config)
{
    const struct session *s = context;
    if (s->progress != NULL)
        progress_attach(s->progress, config);
}

/* --- opening ------------------------------------------------------------------------------------- */

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

const char *session_shelf_folder(const struct options *o, char folder[EB_PATH_BYTES])
{
    char own[EB_PATH_BYTES] = "";
    folder[0] = '\0';
    if (o->shelf != NULL)
        eb_text_copy(folder, EB_PATH_BYTES, o->shelf);
    else if (own_folder("XDG_DATA_HOME", ".local/share", own))
        snprintf(folder, EB_PATH_BYTES, "%.*s/shelf", EB_PATH_BYTES - 8, own);
    return folder;
}

static void find_folders(struct session *s)
{
    const struct options *o = s->options;
    if (o->state != NULL)
        eb_text_copy(s->state_folder, sizeof s->state_folder, o->state);
    else if (!own_folder("XDG_STATE_HOME", ".local/state", s->state_folder))
        s->state_folder[0] = '\0';
    session_shelf_folder(o, s->shelf_folder);
}

/* The job of this call, without its port. */
static bool open_job(struct session *s, const struct options *options)
{
    struct eb_problem problem;
    memset(s, 0, sizeof *s);
    s->options = options;
    find_folders(s);
    /* A simulated world without --state ends with the process, and its devices are nobody else's. */
    bool outlives = options->sim == NULL || options->state != NULL;
    const char *person = getenv("EINBAU_PERSON");
    const struct eb_job_config config = {
        .site = options->site,
        .shelf = s->shelf_folder[0] != '\0' ? s->shelf_folder : NULL,
        .shelf_may_miss = options->shelf == NULL,
        .state = outlives && s->state_folder[0] != '\0' ? s->state_folder : NULL,
        .records = outlives || options->record != NULL,
        .record = options->record,
        .words = options->words,
        .person = person != NULL && person[0] != '\0' ? person : NULL,
        .resumes = options->resumes,
        .locks = options->sim == NULL,
        .simulated = options->sim != NULL,
        .command = options->command,
        .warn = warn,
        .stop = stop,
        .show = show,
        .begins = begins,
        .says = says,
        .statement = statement_ask,
        .context = s,
    };
    s->job = eb_job_open(&config, &problem);
    if (s->job == NULL) {
        complain("%s", problem.text);
        return fail(s, EXIT_WRONG_CALL);
    }
    s->job->again = options->again;
    s->heard = calloc(s->job->site != NULL ? s->job->site->link_count + 1 : 1, sizeof *s->heard);
    return s->heard != NULL || fail(s, EXIT_WRONG_CALL);
}

bool session_open_office(struct session *s, const struct options *options, enum shelf_need shelf)
{
    rights_drop(false, false);
    if (!open_job(s, options))
        return false;
    return session_trust(s) && (shelf == SHELF_NOT_NEEDED || session_open_shelf(s, shelf == SHELF_IS_MADE));
}

bool session_profiles(struct session *s, struct eb_profile **profiles, size_t *count)
{
    const char *folder = s->options->profiles != NULL ? s->options->profiles
                         : s->job->site != NULL       ? s->job->site->profiles_dir
                                                      : NULL;
    *count = 0;
    *profiles = folder != NULL ? eb_profiles_read(folder, count, &s->job->problem) : NULL;
    if (folder == NULL || s->job->problem.text[0] == '\0')
        return true;
    eb_profiles_free(*profiles, *count);
    *profiles = NULL;
    return fail_problem(s);
}

/* Whether a chosen device pulls its image from the laptop. */
static bool pulls(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && eb_profile_way(t->device->profile, &eb_access_pull) != NULL)
            return true;
    }
    return false;
}

bool session_open(struct session *s, const struct options *options)
{
    *s = (struct session){.options = options};
    if (options->site == NULL && !options->site_optional && options->site_several) {
        complain("found several sites in this folder (%s), expected one: --site FILE", options->site_found);
        return fail(s, EXIT_WRONG_CALL);
    }
    if (options->site == NULL && !options->site_optional) {
        complain(
            "found no site, expected one: a file *.site.yaml in this folder or above it, --site FILE, or the "
            "variable EINBAU_SITE. docs/site.md says how to write one");
        return fail(s, EXIT_WRONG_CALL);
    }
    if (options->site == NULL && (options->without_count > 0 || options->names_devices)) {
        complain("found device names and no site, expected one: --site FILE, or the variable EINBAU_SITE");
        return fail(s, EXIT_WRONG_CALL);
    }
    if (options->sim != NULL && options->from[EB_CONFIG_SIM] != NULL &&
        strstr(options->from[EB_CONFIG_SIM], ".yaml") != NULL)
        complain("simulated hardware, by %s", options->from[EB_CONFIG_SIM]);
    if (!open_job(s, options) || (options->site != NULL && !chosen_choose(s)))
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
    rights_drop(options->add_address || options->undo || strcmp(options->command, "recover") == 0, pulls(s));
    if (options->trace != NULL) {
        s->inner = s->job->port;
        s->job->port = eb_trace_open(s->inner, options->trace, s->sim == NULL, &s->job->problem);
        if (s->job->port == NULL) {
            s->job->port = s->inner;
            s->inner = NULL;
            return fail_problem(s);
        }
    }
    session_heed_interrupts();
    eb_job_find_left(s->job);
    addresses_recall(s);
    return !options->add_address || addresses_add(s);
}

int session_close(struct session *s, int status)
{
    static const char *const words[] = {"as wanted", "not as wanted", "wrong call", "not reached",
                                        "interrupted"};
    if (s->job == NULL)
        return status;
    if (s->job->port != NULL && s->added_count > 0)
        addresses_take_back(s);
    eb_job_end(s->job, words[status]);
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
    eb_job_close(s->job);
    free(s->added);
    free(s->heard);
    return status;
}

bool session_open_shelf(struct session *s, bool must)
{
    if (s->shelf_folder[0] == '\0') {
        complain("found no place for a shelf, expected --shelf DIR, or the variable EINBAU_SHELF or HOME");
        return fail(s, EXIT_WRONG_CALL);
    }
    return eb_job_shelf(s->job, must) || session_failed(s);
}

bool session_candidates(struct session *s, struct eb_job_device *t, size_t component, bool others,
                        struct eb_shelf_candidate **candidates, size_t *count)
{
    return eb_job_candidates(s->job, t, component, others, candidates, count) || session_failed(s);
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
    return !session_trusted_dir(folder) || eb_trust_folder(&s->job->trust, folder, &s->job->problem) ||
           fail_problem(s);
}

bool session_may(struct session *s, const char *question, const char *nothing)
{
    char answer[64];
    if (s->options->yes)
        return true;
    if (!isatty(STDIN_FILENO)) {
        complain("cannot ask for confirmation without a terminal; use --yes. %c%s",
                 toupper((unsigned char)nothing[0]), nothing + 1);
        return fail(s, EXIT_WRONG_CALL);
    }
    tcflush(STDIN_FILENO, TCIFLUSH); /* what was typed before the question does not answer it */
    fprintf(stderr, "%s (yes/no) ", question);
    while (fgets(answer, sizeof answer, stdin) != NULL) {
        answer[strcspn(answer, "\n")] = '\0';
        if (strcmp(answer, "yes") == 0)
            return true;
        if (strcmp(answer, "no") == 0 || answer[0] == '\0' || interrupts > 0)
            break;
        char shown[sizeof answer];
        eb_text_copy_foreign(shown, sizeof shown, (const uint8_t *)answer, strlen(answer));
        fprintf(stderr, "Found '%s', expected yes or no, in full. %s (yes/no) ", shown, question);
    }
    complain("cancelled, %s", nothing);
    return fail(s, interrupts > 0 ? EXIT_INTERRUPTED : EXIT_NOT_AS_WANTED);
}

int exit_status(bool reached, bool good)
{
    return interrupts > 0 ? EXIT_INTERRUPTED
           : !reached     ? EXIT_NOT_REACHED
           : good         ? EXIT_AS_WANTED
                          : EXIT_NOT_AS_WANTED;
}

bool session_types(const struct session *s, char *typed, size_t cap, const char *question)
{
    (void)s;
    if (!isatty(STDIN_FILENO))
        return false;
    tcflush(STDIN_FILENO, TCIFLUSH);
    fprintf(stderr, "%s ", question);
    typed[0] = '\0';
    if (fgets(typed, (int)cap, stdin) == NULL)
        typed[0] = '\0';
    typed[strcspn(typed, "\n")] = '\0';
    return true;
}

/* --- the steps ----------------------------------------------------------------------------------- */

bool session_look(struct session *s)
{
    size_t chosen = 0;
    size_t answered = 0;
    eb_job_ask(s->job);
    if (!secrets_needed(s))
        return fail(s, EXIT_WRONG_CALL);
    buses_listen(s);
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        t->kept_off = (s->heard[t->device->wire - s->job->site->links].trouble & EB_BUS_BIT_RATE) != 0;
    }
    s->looking = s->sim == NULL;
    s->looks_us = eb_port_now_us(s->job->port);
    bool good = eb_job_look(s->job);
    s->looking = false;
    status_end();
    if (!good)
        return session_failed(s);
    for (size_t i = 0; i < s->job->count; i++) {
        chosen += s->job->devices[i].chosen;
        answered += s->job->devices[i].chosen && s->job->devices[i].answered;
    }
    s->status = chosen > 0 && answered == 0 ? EXIT_NOT_REACHED : EXIT_AS_WANTED;
    return chosen_narrow(s);
}

/* --image NUMBER: one of the shelf. */
static const struct eb_image *image_by_number(struct session *s, struct eb_job_device *t)
{
    struct eb_shelf_image found;
    const struct eb_component_profile *component = NULL;
    struct eb_shelf_candidate *candidates = NULL;
    const struct eb_image *image = NULL;
    size_t count = 0;
    if (!eb_shelf_find(s->job->shelf, s->options->image, &found, &s->job->problem)) {
        complain("--image: %s, or a file", s->job->problem.text);
        fail(s, EXIT_WRONG_CALL);
        return NULL;
    }
    component = eb_profile_component(t->device->profile, found.component);
    if (component == NULL) {
        complain("%s: found an image for the component '%s', expected one that %s has (profile %s)",
                 found.origin, found.component, t->device->name, t->device->profile->name);
        fail(s, EXIT_WRONG_CALL);
        return NULL;
    }
    if (session_candidates(s, t, (size_t)(component - t->device->profile->components), true, &candidates,
                           &count)) {
        for (size_t i = 0; i < count; i++) {
            if (candidates[i].number == found.number &&
                eb_shelf_facts(s->job->shelf, &s->job->trust, &candidates[i], &s->job->problem) &&
                (image = eb_job_shelf_image(s->job, &candidates[i])) == NULL)
                session_failed(s);
        }
    }
    eb_shelf_candidates_free(candidates, count);
    return image;
}

/* The image of --image. */
static bool give(struct session *s, struct eb_job_device *t)
{
    const char *name = s->options->image;
    bool number = s->job->shelf != NULL && strchr(name, '/') == NULL && access(name, F_OK) != 0;
    t->given = number ? image_by_number(s, t) : eb_job_image(s->job, name);
    if (t->given == NULL && !number)
        session_failed(s);
    return t->given != NULL;
}

bool session_plan(struct session *s)
{
    if (!session_open_shelf(s, false))
        return false;
    for (size_t i = 0; i < s->job->count && s->options->image != NULL; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && t->reached && !give(s, t))
            return false;
    }
    if (!eb_job_plan(s->job))
        return session_failed(s);
    secrets_miss(s);
    return true;
}

bool session_carry_out(struct session *s, bool recovers)
{
    struct progress progress;
    progress_open(&progress, s);
    s->progress = &progress;
    bool done = recovers ? eb_job_recover(s->job) : eb_job_carry_out(s->job);
    s->progress = NULL;
    return done || session_failed(s);
}

bool job_lock(struct session *s, const char *name, const char *key)
{
    return eb_job_lock(s->job, name, key) || session_failed(s);
}

bool job_lock_addresses(struct session *s)
{
    return eb_job_lock_addresses(s->job) || session_failed(s);
}

bool job_lock_devices(struct session *s)
{
    return eb_job_lock_devices(s->job) || session_failed(s);
}

bool job_begin(struct session *s, const char *nothing)
{
    if (eb_job_begin(s->job))
        return true;
    complain("the record of jobs cannot be written, so %s. Without the record, nothing would be known "
             "of a job that is cut off: %s. Make room there, or name another folder with --state",
             nothing, s->job->problem.text);
    return fail(s, EXIT_WRONG_CALL);
}

/* --- sentences ----------------------------------------------------------------------------------- */

bool target_on_bus(const struct eb_job_device *t)
{
    return t->device->wire->kind == EB_SITE_CAN;
}

bool target_on_ip(const struct eb_job_device *t)
{
    return t->device->wire->kind == EB_SITE_ETHERNET;
}

bool say_nothing_wanted(const struct session *s)
{
    size_t chosen = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        chosen += t->chosen;
        if (t->chosen && (eb_job_wants(t) || !t->answered))
            return false; /* of one that is silent something else is wrong */
    }
    if (chosen == 0) /* by --only */
        return false;
    complain("found nothing that is wanted of %s, expected the key 'wants' in %s",
             s->options->name_count == 1 ? s->options->names[0] : "these devices", s->options->site);
    return true;
}

bool target_can_start(const struct eb_job_device *t)
{
    return t->device->profile->undo.count > t->device->profile->closes || !target_on_ip(t);
}

bool target_may_have_program(const struct eb_job_device *t)
{
    return t->left != NULL && strcmp(t->left->kind, "send") != 0 && strcmp(t->left->kind, "activate") != 0;
}

void start_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    if (target_can_start(t))
        snprintf(text, cap, "'einbau recover %s' starts it", eb_job_word(t->device->name));
    else
        snprintf(text, cap, "start it manually: the profile %s has no key 'undo' that would do it",
                 t->device->profile->name);
}

void left_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_left *l = t->left;
    char began[32];
    char what[160];
    const char *name = eb_job_word(t->device->name);
    eb_job_local_time(l->began, began, sizeof began);
    bool in_loader = t->reached && t->look.in_loader;
    bool ended = strcmp(l->kind, "end") == 0; /* and said so itself */
    /* It runs: what may be left is what was opened for the update. */
    bool open = t->reached && !in_loader && !eb_job_stopped(t) && t->device->profile->closes > 0;
    bool out = l->joined && t->reached && !in_loader && !eb_job_stopped(t);
    if (out && strcmp(l->kind, "prepare") == 0)
        snprintf(what, sizeof what, "it had taken it out of its network");
    else if (strcmp(l->kind, "prepare") == 0)
        snprintf(what, sizeof what, "it had begun to stop the program");
    else if (strcmp(l->kind, "send") == 0)
        snprintf(what, sizeof what, "it was writing %s %s", l->component, l->version);
    else if (strcmp(l->kind, "activate") == 0)
        snprintf(what, sizeof what, "it was restarting the device with %s %s", l->component, l->version);
    else
        snprintf(what, sizeof what,
                 out    ? "it was having it taken back into its network"
                 : open ? "it was closing what it had opened"
                        : "it was starting the program again");
    snprintf(text, cap, "%s by a job on %s (einbau %s, process %ld) that %s%s. ",
             in_loader           ? "left in the loader"
             : out               ? "left out of its network's supervision"
             : eb_job_stopped(t) ? "left stopped"
                                 : "left unfinished",
             began, l->command, l->process,
             !ended ? "did not end: "
             : out  ? "did not see its manager take it back"
             : open ? "could not close what it had opened"
                    : "could not start its program again",
             ended ? "" : what);
    size_t at = strlen(text);
    bool sending = strcmp(l->kind, "send") == 0;
    if (in_loader && !target_may_have_program(t))
        snprintf(text + at, cap - at, "'einbau fit %s' writes it again%s", name,
                 l->joined ? ", and has it taken back into the network that it is out of until then" : "");
    else if (in_loader)
        snprintf(
            text + at, cap - at,
            "'einbau recover %s' starts its program, where it still has one; 'einbau fit %s' writes it again",
            name, name);
    else
        snprintf(text + at, cap - at, "'einbau recover %s' %s%s%s%s", name,
                 out    ? "has it taken back as it was"
                 : open ? "closes what was opened for it"
                        : "starts the program",
                 sending ? "; 'einbau fit " : "", sending ? name : "", sending ? "' writes it anew" : "");
}
