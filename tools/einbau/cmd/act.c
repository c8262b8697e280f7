/* Restarting devices, stopping and starting their programs; and resetting one. */
#include "report/report.h"
#include "session/history.h"
#include "session/wire.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>

/* --- words ------------------------------------------------------------------------------------------- */

static bool find_action(const char *word, enum eb_action_kind *kind)
{
    for (int i = 0; i < EB_ACTION_RESET; i++) {
        *kind = (enum eb_action_kind)i;
        if (strcmp(eb_action_word(*kind), word) == 0)
            return true;
    }
    return false;
}

static const char *state_text(const struct eb_run *look)
{
    return look->in_loader         ? "in its loader"
           : !look->program_known  ? "runs"
           : look->program_stopped ? "stopped"
                                   : "runs";
}

static const char *done_text(enum eb_action_kind kind)
{
    static const char *const texts[EB_ACTIONS] = {
        "it was seen to restart, and runs", "it was seen to restart, and runs",
        "its program is stopped, as read back", "its program runs, as read back",
        "it is reset, was seen to restart, and runs"};
    return texts[kind];
}

static void say_unable(const struct session *s, const struct eb_job_device *t, const void *context,
                       char text[SENTENCE_BYTES])
{
    const enum eb_action_kind *kind = context;
    (void)s;
    if (t->chosen && !eb_profile_can(t->device->profile, *kind))
        snprintf(text, SENTENCE_BYTES, "its profile %s does not say how to %s it: the key '%s'",
                 t->device->profile->name, eb_action_word(*kind), eb_action_word(*kind));
    else if (t->chosen && !eb_job_can(t, *kind))
        snprintf(text, SENTENCE_BYTES,
                 "%s, the manager of its network, would reset it as soon as its program is stopped. Nothing "
                 "was done",
                 t->device->manager->name);
    else if (t->chosen && t->reached && t->look.in_loader)
        snprintf(text, SENTENCE_BYTES,
                 "it is in its loader. 'einbau recover %s' helps, or an image: einbau fit %s",
                 eb_job_word(t->device->name), eb_job_word(t->device->name));
    else if (t->settings != NULL && t->settings->already)
        snprintf(text, SENTENCE_BYTES, "its program %s already",
                 t->settings->action == EB_ACTION_STOP ? "is stopped" : "runs");
}

static void say_came(const struct session *s, const struct eb_job_device *t, const void *context,
                     char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (!t->begun || t->settings == NULL)
        return;
    if (eb_job_settings_good(t))
        snprintf(text, SENTENCE_BYTES, "%s", done_text(t->settings->action));
    else
        error_sentence(&t->fit, text, SENTENCE_BYTES);
}

/* Who is reached through it, and is not meanwhile. */
static void say_behind(const struct session *s, const struct eb_job_device *t, const void *context,
                       char text[SENTENCE_BYTES])
{
    size_t behind = 0;
    const char *first = NULL;
    (void)context;
    bool away = t->puts_back && t->settings->change == EB_CHANGE_RESTART;
    for (size_t i = 0; i < s->job->count && away; i++) {
        const struct eb_job_device *other = &s->job->devices[i];
        if (other->device->via != t->device || other->chosen)
            continue;
        first = first == NULL ? other->device->name : first;
        behind++;
    }
    if (behind > 0)
        snprintf(text, SENTENCE_BYTES, "meanwhile %s%s cannot be reached through it", first,
                 behind > 1 ? " and others" : "");
}

static json_t *act_document(const struct session *s, enum eb_action_kind kind)
{
    json_t *devices = json_array();
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        bool good = t->settings != NULL && (t->settings->already || eb_job_settings_good(t));
        char why[SENTENCE_BYTES] = "";
        if (!t->chosen)
            continue;
        if (t->begun && !good)
            error_sentence(&t->fit, why, sizeof why);
        const struct eb_backup_file *backup = eb_job_saved(t);
        json_array_append_new(devices, json_pack("{s:s, s:b, s:b, s:s, s:o, s:o}", "name", t->device->name,
                                                 "reached", t->reached, "done", good, "before",
                                                 t->reached ? state_text(&t->look) : "unknown", "error",
                                                 text_or_null(why), "backup",
                                                 text_or_null(backup != NULL ? backup->path : "")));
    }
    return json_pack("{s:s, s:s, s:o}", "einbau", kind == EB_ACTION_RESET ? "reset/1" : "act/1", "site",
                     s->job->site->name, "devices", devices);
}

static int status_of(const struct session *s)
{
    bool good = true;
    bool reached = false;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen)
            continue;
        reached = reached || t->answered;
        good = good && t->settings != NULL && (t->settings->already || eb_job_settings_good(t));
    }
    return exit_status(reached, good);
}

/* Nothing is done to any device while one of them cannot be acted on. */
static bool all_able(struct session *s, enum eb_action_kind kind)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && (!eb_profile_can(t->device->profile, kind) || !t->reached || t->look.in_loader)) {
            if (s->options->json) {
                print_document(act_document(s, kind));
            } else {
                say_folded(s, say_look, NULL, NULL);
                say_folded(s, say_unable, &kind, NULL);
            }
            complain("nothing was done to any device");
            if (s->status == EXIT_AS_WANTED)
                s->status = EXIT_NOT_AS_WANTED;
            return false;
        }
    }
    return true;
}

/* --- act ---------------------------------------------------------------------------------------------- */

static void print_plan_of(const struct session *s, enum eb_action_kind kind)
{
    static const char *const heads[] = {"DEVICE", "ORDER CODE", "SERIAL", "NOW", "", "THEN"};
    static const char *const thens[EB_ACTIONS] = {"restarted", "restarted, cold", "stopped", "runs", "reset"};
    struct table table;
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (!t->puts_back)
            continue;
        const char *const cells[] = {
            t->device->name, t->look.identity.order_code, t->look.identity.serial, state_text(&t->look), "->",
            thens[kind]};
        table_add(&table, cells);
    }
    table_print(&table);
    say_folded(s, say_behind, NULL, NULL);
    fflush(stdout);
}

static int run_act(const struct options *given)
{
    struct session s;
    struct options own = *given;
    enum eb_action_kind kind;
    char question[96];
    const char *word = given->names[given->name_count - 1];
    if (given->name_count < 2 || !find_action(word, &kind)) {
        complain("found '%s' as the last word, expected restart, restart-cold, stop or start behind one or "
                 "several "
                 "devices: einbau act DEVICE restart",
                 word);
        return EXIT_WRONG_CALL;
    }
    own.name_count--;
    own.names_devices = true;
    if (!session_open(&s, &own) || !job_lock_addresses(&s) || !session_look(&s))
        return session_close(&s, s.status);
    size_t devices = eb_job_plan_action(s.job, kind);
    if (!all_able(&s, kind))
        return session_close(&s, s.status);
    if (devices > 0 && !own.json)
        print_plan_of(&s, kind);
    snprintf(question, sizeof question, "%c%s %zu device%s?", toupper((unsigned char)word[0]), word + 1,
             devices, devices == 1 ? "" : "s");
    if (devices > 0 && (!job_lock_devices(&s) || !session_may(&s, question, "nothing was done") ||
                        !job_begin(&s, "nothing was done") || !session_carry_out(&s, true)))
        return session_close(&s, s.status);
    if (own.json) {
        print_document(act_document(&s, kind));
    } else {
        say_folded(&s, say_unable, &kind, NULL);
        say_folded(&s, say_came, NULL, NULL);
    }
    return session_close(&s, status_of(&s));
}

/* --- reset --------------------------------------------------------------------------------------------- */

static struct eb_job_device *chosen(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen)
            return &s->job->devices[i];
    }
    return NULL;
}

/* All that can be saved of it is on disk; false after a complaint. */
static bool save(struct session *s, struct eb_job_device *t)
{
    eb_job_plan_settings(s->job);
    if (t->puts_back && !eb_job_recover(s->job))
        return session_failed(s);
    eb_job_plan_backup(s->job, NULL);
    bool documents = t->puts_back;
    bool lacks = !documents && (t->settings == NULL || t->settings->count == 0);
    if (documents && !session_carry_out(s, true))
        return false;
    bool saved = lacks || (documents ? eb_job_documents_good(t) && eb_job_saved(t) != NULL
                                     : eb_job_keep_settings(t, NULL));
    if (!saved) {
        complain("%s: what it holds cannot be saved, so it was not reset%s%s", t->device->name,
                 s->job->problem.text[0] != '\0' ? ": " : "", s->job->problem.text);
        s->status = EXIT_NOT_AS_WANTED;
    }
    return saved;
}

static const char *saved_in(const struct eb_job_device *t)
{
    const struct eb_backup_file *saved = eb_job_saved(t);
    return saved != NULL ? saved->path : "";
}

static void print_losses(const struct eb_job_device *t)
{
    const struct eb_profile *p = t->device->profile;
    char text[SENTENCE_BYTES] = "";
    size_t settings = p->setting_count;
    for (size_t i = 0; i < p->backup_count; i++)
        snprintf(text + strlen(text), sizeof text - strlen(text), "%s%s", text[0] != '\0' ? ", " : "",
                 p->backups[i].name);
    say("%s (%s, serial number %s) goes back to what it was delivered with. It loses:", t->device->name,
        t->look.identity.order_code, t->look.identity.serial);
    if (settings > 0)
        say("- its %zu settings", settings);
    if (text[0] != '\0')
        say("- %s", text);
    say("- all else that was set on it: its address and its name may be others then");
    if (saved_in(t)[0] != '\0')
        say("Saved, and read back from the disk: %s", saved_in(t));
    else
        say("Nothing of it can be saved: its profile %s names neither settings nor documents.", p->name);
    fflush(stdout);
}

/* The address where its serial number answers now. */
static void find_again(struct session *s, const struct eb_job_device *t)
{
    struct wire wire;
    bool found = false;
    if (!target_on_ip(t) || !wire_open(&wire, s))
        return;
    if (wire.count > 0 && wire_look(&wire)) {
        for (size_t i = 0; i < wire.survey.count && !found; i++) {
            const struct eb_found *f = &wire.found[i];
            char ip[EB_ENDPOINT_TEXT_BYTES] = "no address";
            char mac[EB_MAC_TEXT_BYTES];
            found = strcmp(eb_found_text(f, EB_FACT_SERIAL), t->look.identity.serial) == 0 ||
                    (t->device->has_mac && f->has_mac && memcmp(f->mac, t->device->mac, EB_MAC_BYTES) == 0);
            if (!found)
                continue;
            if (f->has_ip)
                ip_text(f->ip, ip);
            eb_mac_text(f->mac, mac);
            if (f->has_ip && memcmp(f->ip, t->device->modbus.ip, sizeof f->ip) == 0)
                say("It answers at %s, as the site says, but not as the device that it was.", ip);
            else
                say("It was found with %s (%s). For the site: address: %s; or set it to the site's: einbau "
                    "set %s "
                    "address=...",
                    ip, mac, f->has_ip ? ip : "...", mac);
        }
        if (!found)
            say("It was not found on the laptop's links. 'einbau survey' looks again.");
    }
    wire_close(&wire);
}

static void print_end(struct session *s, const struct eb_job_device *t)
{
    say_folded(s, say_came, NULL, NULL);
    if (!eb_job_settings_good(t) && t->fit.record.acted)
        find_again(s, t);
    if (saved_in(t)[0] != '\0' && t->device->profile->setting_count > 0)
        say("What it held: einbau settings %s --load %s", eb_job_word(t->device->name),
            eb_job_word(saved_in(t)));
    if (saved_in(t)[0] != '\0' && t->device->profile->backup_count > 0)
        say("Its documents: einbau restore %s %s", eb_job_word(t->device->name), eb_job_word(saved_in(t)));
}

static int run_reset(const struct options *given)
{
    struct session s;
    struct options own = *given;
    enum eb_action_kind kind = EB_ACTION_RESET;
    char typed[EB_NAME_BYTES + 2] = "";
    char question[96];
    own.names_devices = true;
    if (!session_open(&s, &own) || !job_lock_addresses(&s) || !session_look(&s))
        return session_close(&s, s.status);
    struct eb_job_device *t = chosen(&s);
    if (!all_able(&s, kind) || !job_lock_devices(&s) || !save(&s, t))
        return session_close(&s, s.status);
    if (!own.json)
        print_losses(t);
    snprintf(question, sizeof question, "Type the device's name to reset it:");
    if (!session_types(&s, typed, sizeof typed, question) || strcmp(typed, t->device->name) != 0) {
        complain("%s: found '%s', expected the device's name, typed on a terminal. It was not reset",
                 t->device->name, typed);
        return session_close(&s, EXIT_NOT_AS_WANTED);
    }
    eb_job_plan_action(s.job, kind);
    if (!job_begin(&s, "it was not reset") || !session_carry_out(&s, true))
        return session_close(&s, s.status);
    if (own.json)
        print_document(act_document(&s, kind));
    else
        print_end(&s, t);
    return session_close(&s, status_of(&s));
}

/* ------------------------------------------------------------------------------------------------------- */

static const struct option_row *const act_options[] = {&option_yes, &option_add_address, &option_key_file,
                                                       NULL};
static const struct option_row *const reset_options[] = {&option_link, &option_add_address, &option_key_file,
                                                         NULL};

const struct command command_act = {
    .name = "act",
    .arguments = "DEVICE... restart|restart-cold|stop|start",
    .summary = "restarts devices, stops or starts their programs",
    .help = "Does what the profiles of the devices say for it, and reads back that it came about: a restart "
            "must be "
            "seen, the program read as stopped or as running. Nothing is done to any device while one of "
            "them cannot "
            "be reached or cannot do it.\v"
            "Examples:\n  einbau act --site larchfell.site.yaml drive-plc stop\n"
            "  einbau act --site larchfell.site.yaml pa-valley pa-middle restart\n\n"
            "Exit status 0 only where every device is as it was meant.",
    .takes = NEEDS_NAMES,
    .options = act_options,
    .run = run_act,
};

const struct command command_reset = {
    .name = "reset",
    .arguments = "DEVICE",
    .summary = "resets a device to what it was delivered with",
    .help = "Says what is lost, saves what can be saved, and asks for the device's name, which --yes does "
            "not type. "
            "Then it resets the device as its profile says, waits until it was seen to restart, and reads it "
            "back; "
            "where it answers at another address then, that is looked for.\v"
            "Example:\n  einbau reset --site larchfell.site.yaml pa-middle\n\n"
            "Exit status 0 only where the device was read back.",
    .takes = NEEDS_ONE,
    .options = reset_options,
    .run = run_reset,
};
