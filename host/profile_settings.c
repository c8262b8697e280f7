/* What a user sets and does: the sections `settings`, `restart`, `stop`, `start`, `reset` of a profile. */
#include "einbau/settings.h"
#include "profile_rows.h"
#include "setting_number.h"

#include <stdio.h>
#include <string.h>

enum { CAN_HEAD_BYTES = 5, UDS_HEAD_BYTES = 6 };

/* In what form the access gives a value, unless the profile says otherwise. */
static void take_form(struct eb_setting *s, const struct eb_access *by)
{
    bool can = by == &eb_access_canopen;
    bool uds = by == &eb_access_uds;
    bool whole = by == &eb_access_http || by == &eb_access_tftp_document;
    s->head_bytes = can ? CAN_HEAD_BYTES : uds ? UDS_HEAD_BYTES : 0;
    s->form = can ? EB_SETTING_LITTLE : whole ? EB_SETTING_CHARACTERS : EB_SETTING_BIG;
}

static void read_limit(struct ebi_yaml_map *map, const char *key, const struct eb_setting *s, int64_t *limit)
{
    const char *text = ebi_yaml_string(map, key, true);
    if (text != NULL && !map->yaml->failed && !ebi_setting_number(s, text, limit))
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, key), text,
                       "a number with no more digits behind the point than 'decimals' says");
}

static void read_range(struct ebi_yaml_map *map, struct eb_setting *s)
{
    bool from = ebi_yaml_has(map, "from");
    bool to = ebi_yaml_has(map, "to");
    if (s->kind == EB_SETTING_TEXT) {
        s->most = (int64_t)ebi_yaml_number(map, "length", 1, EB_SETTING_BYTES - 1, EB_SETTING_BYTES - 1);
        s->has_range = ebi_yaml_has(map, "length");
    } else if (s->kind == EB_SETTING_NUMBER && (from || to)) {
        read_limit(map, "from", s, &s->least);
        read_limit(map, "to", s, &s->most);
        s->has_range = true;
        s->is_signed = s->is_signed || s->least < 0;
        if (!map->yaml->failed && s->least > s->most)
            ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, "from"), "a larger number than 'to'",
                           "a smaller one");
    }
}

static void read_choices(struct ebi_yaml_map *map, struct eb_setting *s)
{
    enum { CHOICES_MAX = 64 };
    yaml_node_t *node = ebi_yaml_get(map, "choices", true);
    size_t count = ebi_yaml_pairs(node);
    const char *name;
    if (count == 0 || count > CHOICES_MAX) {
        ebi_yaml_wrong(map->yaml, node, "no choices, or more than 64",
                       "words, each with what the device keeps");
        return;
    }
    struct eb_pair *list = ebi_yaml_keep(map->yaml, count * sizeof *list);
    for (size_t i = 0; i < count && !map->yaml->failed; i++) {
        list[i].text = ebi_yaml_kept(map->yaml, ebi_yaml_pair(map->yaml, node, i, &name));
        list[i].name = memcpy(ebi_yaml_keep(map->yaml, strlen(name) + 1), name, strlen(name) + 1);
    }
    s->choices = (struct eb_pairs){list, map->yaml->failed ? 0 : count};
}

/* What is written where that is not the value by itself. */
static void read_template(struct ebi_yaml_map *map, yaml_node_t *node, struct eb_setting *s)
{
    const char *json = ebi_yaml_string(map, "writes-json", false);
    const char *form = ebi_yaml_string(map, "writes-form", false);
    s->json = ebi_yaml_string(map, "json", false);
    s->writes = json != NULL ? json : form;
    s->writes_as = json != NULL ? EB_SETTING_JSON : form != NULL ? EB_SETTING_FORM : EB_SETTING_PLAIN;
    if (map->yaml->failed)
        return;
    if (s->writes != NULL && strstr(s->writes, "{value}") == NULL)
        ebi_yaml_wrong(map->yaml, node, s->writes, "a text with {value} in it");
    else if ((s->json != NULL || s->writes != NULL) && s->form != EB_SETTING_CHARACTERS)
        ebi_yaml_wrong(map->yaml, node, "'json', 'writes-json' or 'writes-form'",
                       "them only of a document that is text");
    else if (s->json != NULL && s->json[0] != '/')
        ebi_yaml_wrong(map->yaml, node, s->json, "a JSON pointer, like /audio/gain");
    else if (s->json != NULL && s->writes == NULL && !s->read_only)
        ebi_yaml_wrong(map->yaml, node, "a value in a JSON document without 'writes-json' or 'writes-form'",
                       "one of them, or 'read-only: yes'");
}

static void read_setting(struct ebi_yaml *yaml, const char *name, yaml_node_t *node, struct eb_setting *s,
                         struct eb_backup *at)
{
    static const char *const kinds[] = {"number", "text", "yes-no", "choice", "address", "time", NULL};
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (!ebi_is_document_name(name) || !eb_text_copy(at->name, sizeof at->name, name))
        ebi_yaml_wrong(yaml, node, "a setting with another name",
                       "1 to 32 small letters, digits and '-', like gain");
    ebi_read_document(&map, &at->at);
    at->restarts = ebi_yaml_yes(&map, "restart", false);
    s->at = at;
    take_form(s, at->at.by);
    s->kind = ebi_yaml_has(&map, "kind") ? ebi_yaml_word(&map, "kind", kinds) : EB_SETTING_NUMBER;
    ebi_yaml_get(&map, "kind", false);
    s->is_signed = ebi_yaml_yes(&map, "signed", false);
    s->read_only = ebi_yaml_yes(&map, "read-only", false);
    s->unique = ebi_yaml_yes(&map, "unique", false);
    s->safety = ebi_yaml_yes(&map, "safety", false);
    s->decimals = (uint8_t)ebi_yaml_number(&map, "decimals", 0, 6, 0);
    s->unit = ebi_yaml_string(&map, "unit", false);
    if (ebi_yaml_yes(&map, "low-word-first", false))
        s->form = EB_SETTING_LOW_WORD;
    if (ebi_yaml_yes(&map, "characters", s->form == EB_SETTING_CHARACTERS))
        s->form = EB_SETTING_CHARACTERS;
    read_range(&map, s);
    if (s->kind == EB_SETTING_CHOICE)
        read_choices(&map, s);
    read_template(&map, node, s);
    ebi_yaml_map_end(&map);
}

/* How the password of the login is changed. */
static void read_password(struct ebi_yaml_map *map, struct eb_profile *p, struct eb_backup *at)
{
    yaml_node_t *node = ebi_yaml_get(map, "password", false);
    if (node == NULL)
        return;
    struct eb_setting *s = ebi_yaml_keep(map->yaml, sizeof *s);
    struct ebi_yaml_map from = ebi_yaml_map(map->yaml, node);
    ebi_read_document(&from, &at->at);
    eb_text_copy(at->name, sizeof at->name, "password");
    const char *json = ebi_yaml_string(&from, "writes-json", false);
    const char *form = ebi_yaml_string(&from, "writes-form", false);
    *s = (struct eb_setting){.at = at,
                             .form = EB_SETTING_CHARACTERS,
                             .kind = EB_SETTING_TEXT,
                             .writes = json != NULL ? json : form,
                             .writes_as = json != NULL ? EB_SETTING_JSON : EB_SETTING_FORM};
    ebi_yaml_map_end(&from);
    if (map->yaml->failed)
        return;
    if (at->at.by != &eb_access_http || s->writes == NULL || strstr(s->writes, "{new-password}") == NULL)
        ebi_yaml_wrong(map->yaml, node, "no way to change a password",
                       "a document by 'http', and {new-password} in 'writes-json' or 'writes-form'");
    p->password = s;
    p->stored_count++;
}

static void read_actions(struct ebi_yaml_map *map, struct eb_profile *p)
{
    struct eb_action *actions = ebi_yaml_keep(map->yaml, EB_ACTIONS * sizeof *actions);
    bool any = false;
    for (size_t i = 0; i < EB_ACTIONS; i++) {
        if (i == EB_ACTION_RESTART)
            actions[i].steps = p->restart;
        else
            ebi_read_steps(map, eb_action_word((enum eb_action_kind)i), false, &actions[i].steps);
        bool program = i == EB_ACTION_STOP || i == EB_ACTION_START;
        any = any || actions[i].steps.count > 0;
        if (ebi_yaml_whole(map->yaml) && program && actions[i].steps.count > 0 && p->from_program.count == 0)
            ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, eb_action_word((enum eb_action_kind)i)),
                           "steps, and no way to read whether the program runs", "the key 'program'");
    }
    p->actions = any ? actions : NULL;
}

void ebi_read_settings(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *node = ebi_yaml_get(map, "settings", false);
    struct eb_setting *list = ebi_yaml_keep(map->yaml, EB_SETTINGS_MAX * sizeof *list);
    struct eb_backup *stored =
        ebi_yaml_keep(map->yaml, (EB_BACKUPS_MAX + EB_SETTINGS_MAX + 1) * sizeof *stored);
    const char *name;
    yaml_node_t *one;
    read_actions(map, p);
    ebi_read_strings(map, "settings-from", &p->settings_from);
    for (size_t i = 0; i < p->backup_count; i++)
        stored[i] = p->backups[i];
    p->backups = stored;
    p->settings = list;
    p->stored_count = p->backup_count;
    for (size_t i = 0;
         node != NULL && (one = ebi_yaml_pair(map->yaml, node, i, &name)) != NULL && !map->yaml->failed;
         i++) {
        if (i == EB_SETTINGS_MAX) {
            ebi_yaml_wrong(map->yaml, one, "one setting too many", "at most 32 in 'settings'");
            return;
        }
        struct eb_backup *at = &stored[p->stored_count];
        read_setting(map->yaml, name, one, &list[i], at);
        if (map->yaml->failed)
            return;
        bool whole = ebi_yaml_whole(map->yaml);
        if (whole && at->restarts && p->restart.count == 0)
            ebi_yaml_wrong(map->yaml, one, "a setting that needs a restart, without the key 'restart'",
                           "steps that restart the device, below 'restart'");
        else if (whole && at->at.by->wire != eb_profile_wire(p))
            ebi_yaml_wrong(map->yaml, one, "a setting that is read by another wire",
                           "one on the wire by which the device is written to");
        else if (whole && (at->at.by->able & EB_DOCUMENTS_IN_LOADER) != 0)
            ebi_yaml_wrong(
                map->yaml, one, "a setting that only its loader gives",
                "one that its program gives; what the loader holds can be saved: the key 'backups'");
        p->setting_count = i + 1;
        p->stored_count++;
    }
    if (!map->yaml->failed)
        read_password(map, p, &stored[p->stored_count]);
}
