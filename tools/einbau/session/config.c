#include "session/config.h"
#include "session/session.h"
#include "session/site_here.h"
#include "ui/table.h"

#include <einbau/record.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

enum { BESIDE, OWN };

static const char *const variables[EB_CONFIG_KEYS] = {
    [EB_CONFIG_SITE] = "EINBAU_SITE",         [EB_CONFIG_SHELF] = "EINBAU_SHELF",
    [EB_CONFIG_STATE] = "EINBAU_STATE",       [EB_CONFIG_RECORD] = "EINBAU_RECORD",
    [EB_CONFIG_KEY_FILE] = "EINBAU_KEY_FILE", [EB_CONFIG_SIM] = "EINBAU_SIM"};

static const char **place_of(struct options *o, enum eb_config_key key)
{
    const char **const places[EB_CONFIG_KEYS] = {
        [EB_CONFIG_SITE] = &o->site,     [EB_CONFIG_SHELF] = &o->shelf,       [EB_CONFIG_STATE] = &o->state,
        [EB_CONFIG_RECORD] = &o->record, [EB_CONFIG_KEY_FILE] = &o->key_file, [EB_CONFIG_SIM] = &o->sim};
    return places[key];
}

/* Where nothing else says it.  An empty value says that there is none; of the site that it is looked for. */
static void take(struct options *o, enum eb_config_key key, const char *value, const char *from)
{
    const char **place = place_of(o, key);
    if (o->from[key] != NULL || value == NULL || (value[0] == '\0' && key == EB_CONFIG_SITE))
        return;
    *place = value[0] != '\0' ? value : NULL;
    o->from[key] = from;
}

/* A file that is not there says nothing; one that others could have written is not looked at. */
static bool read_file(struct options *o, int which)
{
    struct eb_problem problem;
    struct stat info;
    if (o->config_path[which][0] == '\0' || stat(o->config_path[which], &info) != 0)
        o->config_path[which][0] = '\0';
    if (o->config_path[which][0] == '\0')
        return true;
    if (!site_is_safe(o->config_path[which], S_IFREG)) {
        complain("%s is not used: others than its user may write to it", o->config_path[which]);
        o->config_path[which][0] = '\0';
        return true;
    }
    if (!eb_config_read(o->config_path[which], &o->config[which], &problem)) {
        complain("%s", problem.text);
        return false;
    }
    return true;
}

bool config_apply(struct options *o)
{
    const char *home = getenv("HOME");
    const char *given = getenv("XDG_CONFIG_HOME");
    for (int key = 0; key < EB_CONFIG_KEYS; key++) {
        const char *named = *place_of(o, (enum eb_config_key)key);
        *place_of(o, (enum eb_config_key)key) = NULL;
        take(o, (enum eb_config_key)key, named, "the command line");
        take(o, (enum eb_config_key)key, getenv(variables[key]), variables[key]);
    }
    if (given != NULL && given[0] == '/')
        snprintf(o->config_path[OWN], EB_PATH_BYTES, "%s/einbau/config.yaml", given);
    else if (home != NULL && home[0] == '/')
        snprintf(o->config_path[OWN], EB_PATH_BYTES, "%s/.config/einbau/config.yaml", home);
    if (!read_file(o, OWN))
        return false;
    if (o->site == NULL) {
        enum site_here here = site_here(o->site_found);
        o->site_several = here == SITE_SEVERAL;
        if (here == SITE_ONE)
            take(o, EB_CONFIG_SITE, o->site_found, "found in this folder or above it");
    }
    if (!o->site_several && o->config[OWN].paths[EB_CONFIG_SITE][0] != '\0')
        take(o, EB_CONFIG_SITE, o->config[OWN].paths[EB_CONFIG_SITE], o->config_path[OWN]);
    const char *slash = o->site != NULL ? strrchr(o->site, '/') : NULL;
    if (o->site != NULL && snprintf(o->config_path[BESIDE], EB_PATH_BYTES, "%.*seinbau.yaml",
                                    slash != NULL ? (int)(slash + 1 - o->site) : 0, o->site) >= EB_PATH_BYTES)
        o->config_path[BESIDE][0] = '\0';
    if (!read_file(o, BESIDE))
        return false;
    for (int which = BESIDE; which <= OWN; which++) {
        for (int key = 0; key < EB_CONFIG_KEYS; key++) {
            const char *value = o->config[which].paths[key];
            if (which == BESIDE && key == EB_CONFIG_RECORD && eb_record_is_server(value)) {
                complain(
                    "%s: a record on a server is not taken from the file beside a site, which may come from "
                    "anywhere. Use --record, EINBAU_RECORD or your own config.yaml",
                    o->config_path[which]);
                return false;
            }
            if (o->config[which].paths[key][0] != '\0')
                take(o, (enum eb_config_key)key, o->config[which].paths[key], o->config_path[which]);
        }
    }
    return true;
}

void config_print(const struct options *o)
{
    static const char *const heads[] = {"WHAT", "VALUE", "FROM"};
    struct table table;
    struct options copy = *o;
    char shelf[EB_PATH_BYTES];
    table_begin(&table, 3, heads);
    table.plain = 3;
    for (int key = 0; key < EB_CONFIG_KEYS; key++) {
        const char *value = *place_of(&copy, (enum eb_config_key)key);
        const char *from = o->from[key];
        if (value == NULL && key == EB_CONFIG_SHELF) {
            value = session_shelf_folder(o, shelf);
            from = "the user's own";
        }
        bool own = key == EB_CONFIG_STATE || key == EB_CONFIG_RECORD;
        const char *otherwise = own ? "the user's own" : "nothing says it";
        const char *const cells[] = {eb_config_word((enum eb_config_key)key), value != NULL ? value : "-",
                                     from != NULL ? from : otherwise};
        table_add(&table, cells);
    }
    table_print(&table);
    for (int which = BESIDE; which <= OWN; which++) {
        if (o->config_path[which][0] != '\0')
            say("%s%s was read.", which == BESIDE ? "\n" : "", o->config_path[which]);
    }
    say("\nThe command line counts before the environment, that before einbau.yaml beside the site, and that "
        "before "
        "config.yaml of the user.");
}
