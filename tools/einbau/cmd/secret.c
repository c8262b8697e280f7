/* Users and passwords of devices. */
#include "report/report.h"
#include "session/chosen.h"
#include "session/session.h"

#include <jansson.h>
#include <stdio.h>
#include <string.h>

/* A device of the site, or a profile. */
static bool name_of(const struct session *s, const char *text, struct eb_secret_name *name)
{
    const struct eb_site_device *device = s->job->site != NULL ? eb_site_device(s->job->site, text) : NULL;
    *name = (struct eb_secret_name){.profile = text};
    if (device != NULL) {
        *name = (struct eb_secret_name){.site = s->job->site->name, .device = device->name};
        return true;
    }
    char meant[EB_NEAREST_BYTES];
    struct eb_nearest near = eb_nearest_begin(text);
    for (size_t i = 0; s->job->site != NULL && i < s->job->site->profile_count; i++) {
        if (strcmp(s->job->site->profiles[i]->name, text) == 0)
            return true;
        eb_nearest_offer(&near, s->job->site->profiles[i]->name);
    }
    for (size_t i = 0; i < s->job->count; i++)
        eb_nearest_offer(&near, s->job->devices[i].device->name);
    if (s->job->site == NULL)
        return true; /* without a site only profiles can be meant */
    complain("found no device and no profile '%s' on this site, expected the name of one%s", text,
             eb_nearest_text(&near, meant));
    return false;
}

static int set(const struct options *options)
{
    struct session s;
    struct eb_secret_name name;
    char password[EB_HTTP_PASSWORD_BYTES] = "";
    const char *user = options->name_count > 1 ? options->names[1] : "";
    int status = EXIT_WRONG_CALL;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    if (options->name_count > 2)
        complain(
            "found %zu words, expected a device or profile, and a user. A password is never a word of the "
            "command line: it is asked for",
            options->name_count);
    else if (name_of(&s, options->names[0], &name) && secrets_password(options->names[0], password) &&
             secrets_open(&s, true)) {
        if (eb_secret_set(s.job->secrets, &name, user, password, &s.job->problem))
            status = EXIT_AS_WANTED;
        else
            complain("%s", s.job->problem.text);
    }
    explicit_bzero(password, sizeof password);
    if (status == EXIT_AS_WANTED && options->json)
        print_document(json_pack("{s:s, s:s, s:s?, s:s?, s:s}", "einbau", "secret-set/1", "state",
                                 s.state_folder, "device", name.device, "profile", name.profile, "user",
                                 user));
    else if (status == EXIT_AS_WANTED)
        say("The password of %s%s is kept, encrypted, in %s.", name.device != NULL ? "" : "all devices of ",
            options->names[0], s.state_folder);
    return session_close(&s, status);
}

static int drop(const struct options *options)
{
    struct session s;
    struct eb_secret_name name;
    int status = EXIT_WRONG_CALL;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED))
        return session_close(&s, s.status);
    if (name_of(&s, options->names[0], &name) && secrets_open(&s, true)) {
        if (eb_secret_drop(s.job->secrets, &name, &s.job->problem))
            status = EXIT_AS_WANTED;
        else
            complain("%s", s.job->problem.text);
    }
    if (status == EXIT_AS_WANTED && options->json)
        print_document(json_pack("{s:s, s:s?, s:s?}", "einbau", "secret-drop/1", "device", name.device,
                                 "profile", name.profile));
    else if (status == EXIT_AS_WANTED)
        say("The password of %s is forgotten.", options->names[0]);
    return session_close(&s, status);
}

static int list(const struct options *options)
{
    static const char *const heads[] = {"FOR", "SITE", "USER"};
    struct session s;
    struct eb_secret_name name;
    const char *user;
    size_t count = 0;
    if (!session_open_office(&s, options, SHELF_NOT_NEEDED) || !secrets_open(&s, false))
        return session_close(&s, s.status != 0 ? s.status : EXIT_WRONG_CALL);
    json_t *entries = json_array();
    struct table table;
    table_begin(&table, 3, heads);
    for (; s.job->secrets != NULL && eb_secret_entry(s.job->secrets, count, &name, &user); count++) {
        char whose[EB_NAME_BYTES + 16];
        snprintf(whose, sizeof whose, "%s%s", name.device != NULL ? name.device : "profile ",
                 name.device != NULL ? "" : name.profile);
        const char *const cells[] = {whose, name.site != NULL ? name.site : "", user};
        table_add(&table, cells);
        json_array_append_new(entries, json_pack("{s:s?, s:s?, s:s?, s:s}", "site", name.site, "device",
                                                 name.device, "profile", name.profile, "user", user));
    }
    if (options->json) {
        print_document(json_pack("{s:s, s:s, s:O}", "einbau", "secret-list/1", "state", s.state_folder,
                                 "entries", entries));
        table_free(&table);
    } else if (count == 0) {
        say("No password is kept. 'einbau secret set DEVICE USER' keeps one, encrypted, in %s.",
            s.state_folder);
        table_free(&table);
    } else {
        say("%zu password%s kept, encrypted, in %s.\n", count, count == 1 ? "" : "s", s.state_folder);
        table_print(&table);
    }
    json_decref(entries);
    return session_close(&s, EXIT_AS_WANTED);
}

/* --- on the device ------------------------------------------------------------------------------------ */

/* Whether a login with this works; false also where it could not be tried. */
static bool works(struct session *s, struct eb_job_device *t, const char *user, const char *password)
{
    bool ran = eb_job_plan_trial(t, user, password) && eb_job_recover(s->job);
    return eb_job_trial_good(t) && ran;
}

struct change {
    struct eb_secret_name name;
    char user[EB_HTTP_USER_BYTES], old[EB_HTTP_PASSWORD_BYTES], fresh[EB_HTTP_PASSWORD_BYTES];
};

/* What may be changed, and to what; false after a complaint. */
static bool prepare(struct session *s, struct eb_job_device *t, struct change *c)
{
    const struct eb_profile *p = t->device->profile;
    c->name =
        (struct eb_secret_name){.site = s->job->site->name, .device = t->device->name, .profile = p->name};
    s->status = EXIT_NOT_AS_WANTED;
    if (p->password == NULL)
        complain("%s: its profile %s does not say how its password is changed: the key 'password'. Nothing "
                 "was changed",
                 t->device->name, p->name);
    else if (!eb_secret_find(s->job->secrets, &c->name, c->user, c->old))
        complain("%s: no user and password are known for it: einbau secret set %s USER. Nothing was changed",
                 t->device->name, eb_job_word(t->device->name));
    else if (!works(s, t, c->user, c->old))
        complain("%s: the password that is kept here does not work on it, or it cannot be tried. Nothing was "
                 "changed",
                 t->device->name);
    else if (secrets_new_password(t->device->name, c->fresh)) {
        s->status = EXIT_AS_WANTED;
        return true;
    }
    return false;
}

/* The new one is tried on the device before it takes the place of the old one here. */
static bool carry_out(struct session *s, struct eb_job_device *t, struct change *c)
{
    bool ran = eb_job_plan_password(t, c->user, c->old, c->fresh) && session_carry_out(s, true);
    bool written = eb_job_password_written(t);
    if (works(s, t, c->user, c->fresh)) {
        struct eb_secret_name own = {.site = c->name.site, .device = c->name.device};
        if (eb_secret_set(s->job->secrets, &own, c->user, c->fresh, &s->job->problem))
            return true;
        complain("%s: it has the new password, which was tried; but it could not be kept here: %s. 'einbau "
                 "secret set %s "
                 "%s' keeps it",
                 t->device->name, s->job->problem.text, eb_job_word(t->device->name), eb_job_word(c->user));
    } else if (works(s, t, c->user, c->old)) {
        complain("%s: it did not take the new password: the old one still works, and stays here",
                 t->device->name);
    } else {
        complain("%s: %s, and now neither the new nor the old password works, or it does not answer. The old "
                 "one stays "
                 "here; try both at the device, then 'einbau secret set %s %s'",
                 t->device->name,
                 written && ran ? "the new password was sent" : "the new password may have been sent",
                 eb_job_word(t->device->name), eb_job_word(c->user));
    }
    s->status = EXIT_NOT_AS_WANTED;
    return false;
}

static int change(const struct options *given)
{
    struct session s;
    struct options own = *given;
    struct change c = {.user = ""};
    own.names_devices = true;
    bool good = session_open(&s, &own) && secrets_open(&s, true);
    if (!good)
        return session_close(&s, s.status != EXIT_AS_WANTED ? s.status : EXIT_WRONG_CALL);
    if (!job_lock_addresses(&s) || !session_look(&s))
        return session_close(&s, s.status);
    struct eb_job_device *t = chosen_one(&s, own.names[0]);
    if (!t->reached) {
        say_folded(&s, say_look, NULL, NULL);
        return session_close(&s, s.status != EXIT_AS_WANTED ? s.status : EXIT_NOT_REACHED);
    }
    good = prepare(&s, t, &c) && job_lock_devices(&s) &&
           session_may(&s, "Change the password on the device?", "nothing was changed") &&
           job_begin(&s, "nothing was changed");
    if (good) {
        good = carry_out(&s, t, &c);
        eb_job_end_password(t, good);
    }
    explicit_bzero(c.old, sizeof c.old);
    explicit_bzero(c.fresh, sizeof c.fresh);
    if (good && own.json)
        print_document(json_pack("{s:s, s:s, s:s}", "einbau", "secret-change/1", "device", t->device->name,
                                 "user", c.user));
    else if (good)
        say("%s: its new password works on the device, and is kept here, encrypted.", t->device->name);
    return session_close(&s, good ? EXIT_AS_WANTED : s.status);
}

static const struct option_row *const secret_options[] = {&option_key_file, NULL};

const struct command command_secret_set = {
    .name = "secret set",
    .arguments = "DEVICE|PROFILE [USER]",
    .summary = "keeps the password of a device, or of all devices of a profile",
    .help =
        "Keeps a user and a password in one encrypted file of this user's. The password is asked for on the "
        "terminal without an echo; a script names a file whose first line it is in the variable "
        "EINBAU_PASSWORD_FILE. The file is encrypted with a passphrase, which is asked for too, or with a "
        "key file (--key-file), which is made where it is missing. An entry for a profile counts for all "
        "of its devices that have no entry of their own.\v"
        "Example:\n  einbau secret set pa-valley service",
    .takes = SITE_OPTIONAL | NEEDS_NAMES,
    .options = secret_options,
    .run = set,
};

static const struct option_row *const change_options[] = {&option_yes, &option_add_address, &option_key_file,
                                                          NULL};

const struct command command_secret_change = {
    .name = "secret change",
    .arguments = "DEVICE",
    .summary = "changes the password of a device, on the device and here",
    .help = "The new password is asked for twice on the terminal without an echo; a script names a file "
            "whose first "
            "line it is in the variable EINBAU_PASSWORD_FILE. It is written to the device as its profile "
            "says, tried "
            "there by logging in, and only then kept in place of the old one.\v"
            "Example:\n  einbau secret change --site larchfell.site.yaml pa-valley\n\n"
            "Exit status 1 where the device did not take it, or it could not be tried.",
    .takes = NEEDS_ONE,
    .options = change_options,
    .run = change,
};

const struct command command_secret_list = {
    .name = "secret list",
    .arguments = "",
    .summary = "devices and profiles whose passwords are kept",
    .help = "Prints for which devices and profiles a password is kept, and the user; never a password.\v"
            "Example:\n  einbau secret list",
    .takes = SITE_OPTIONAL | TAKES_NO_NAMES,
    .options = secret_options,
    .run = list,
};

const struct command command_secret_drop = {
    .name = "secret drop",
    .arguments = "DEVICE|PROFILE",
    .summary = "forgets a password",
    .help = "Takes an entry out of the encrypted file.\v"
            "Example:\n  einbau secret drop pa-valley",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .options = secret_options,
    .run = drop,
};
