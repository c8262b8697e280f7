/* Members of networks that a manager keeps: what a plan does with them, how they were left, and the manager's
 * list. */
#include "report/report.h"

#include <stdio.h>
#include <string.h>

void say_member(const struct session *s, const struct eb_job_device *t, const void *context,
                char text[SENTENCE_BYTES])
{
    (void)s;
    (void)context;
    if (t->item_count == 0 || t->refused || t->member == NULL || t->device->manager == NULL ||
        !t->member->entry.listed)
        return;
    const struct eb_member *e = &t->member->entry;
    bool out = t->left != NULL && t->left->joined; /* by an earlier job: as that has found it */
    bool supervised = out ? t->left->supervised : e->supervised;
    uint8_t state = out ? t->left->state : e->state;
    bool alone = !eb_canopen_way_of(t->device->manager->profile).members_at_once;
    snprintf(text, SENTENCE_BYTES,
             "member of the network of %s: %sset pre-operational while it is written%s; %s again afterwards",
             t->device->manager->name, supervised ? "taken out of supervision and " : "",
             alone ? ", one device after the other" : "",
             state >= EB_NMT_STOPPED ? eb_nmt_word(state) : "as it was");
}

bool plan_takes_turns(const struct session *s)
{
    size_t members = 0;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        const struct eb_site_device *manager = t->item_count > 0 ? t->device->manager : NULL;
        members += manager != NULL && !eb_canopen_way_of(manager->profile).members_at_once;
    }
    return members > 1;
}

void out_sentence(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_error *e = &t->member->run.error;
    const char *manager = t->device->manager->name;
    char why[192] = "";
    text[0] = '\0';
    if (!eb_job_is_out(t))
        return;
    if (t->begun && e->status == EB_OK) { /* that was not tried */
        snprintf(text, cap,
                 "It is left out of the network of %s, which would reset it in its loader: 'einbau fit %s' "
                 "writes it and has it "
                 "taken back",
                 manager, eb_job_word(t->device->name));
        return;
    }
    if (t->begun)
        snprintf(why, sizeof why, " (%s)", e->text[0] != '\0' ? e->text : eb_status_word(e->status));
    snprintf(
        text, cap,
        "%s was not seen to take it back into its network as it was%s: 'einbau recover %s' asks it again",
        manager, why, eb_job_word(t->device->name));
}

/* --- the list ---------------------------------------------------------------------------------------- */

static const char *const heads[] = {"NODE", "DEVICE", "STATE", "SUPERVISED", "ANSWERS", "AS LISTED"};

/* What differs, the first of it in words. */
static void difference_text(const struct eb_member *m, char *text, size_t cap)
{
    snprintf(text, cap, m->answers ? "yes" : "unknown");
    for (unsigned i = EB_MEMBER_ITEMS; i-- > 0;) {
        const char *word = eb_member_item_word((enum eb_member_item)i);
        if (!eb_member_differs(m, (enum eb_member_item)i))
            continue;
        if ((m->has >> i & 1) != 0)
            snprintf(text, cap, "no: %s %08X, expected %08X", word, m->actual[i], m->expected[i]);
        else
            snprintf(text, cap, "no: no %s, expected %08X", word, m->expected[i]);
    }
}

static const char *name_of(const struct session *s, const struct eb_site_device *manager, unsigned node)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_site_device *d = s->job->devices[i].device;
        if (d->wire == manager->wire && d->node == node)
            return d->name;
    }
    return "";
}

static void supervision_text(const struct eb_member *m, char *text, size_t cap)
{
    const char *how = m->tells_supervision ? "" : ", by its list";
    if (m->supervised && m->guard_ms > 0)
        snprintf(text, cap, "every %u ms%s", m->guard_ms, how);
    else
        snprintf(text, cap, "%s%s", m->supervised ? "yes" : "no", how);
}

bool network_print(const struct session *s, const struct eb_site_device *manager,
                   const struct eb_member *list, size_t count)
{
    struct table table;
    bool good = true;
    say("%s (node %u on %s) is the manager of a network of %zu member%s", manager->name, manager->node,
        manager->link, count, count == 1 ? "" : "s");
    if (count == 0)
        return true;
    puts("");
    table_begin(&table, 6, heads);
    for (size_t i = 0; i < count; i++) {
        const struct eb_member *m = &list[i];
        char cells[3][128];
        snprintf(cells[0], sizeof cells[0], "%u", m->node);
        supervision_text(m, cells[1], sizeof cells[1]);
        difference_text(m, cells[2], sizeof cells[2]);
        const char *const row[] = {cells[0], name_of(s, manager, m->node), eb_nmt_word(m->state),
                                   cells[1], m->answers ? "yes" : "no",    cells[2]};
        table_add(&table, row);
        good = good && m->answers && strcmp(cells[2], "yes") == 0;
    }
    table_print(&table);
    return good;
}

/* What speaks for itself in the list and is no row of its own. */
void network_print_notes(const struct session *s, const struct eb_site_device *manager,
                         const struct eb_member *list, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        const struct eb_member *m = &list[i];
        const char *name = name_of(s, manager, m->node);
        const struct eb_site_device *d = name[0] != '\0' ? eb_site_device(s->job->site, name) : NULL;
        if (d == NULL)
            say("\nNode %u is not on the site: 'einbau survey --into %s' adds it, where a profile fits.",
                m->node, s->options->site != NULL ? s->options->site : "SITE");
        else if (d->manager != manager)
            say("\n%s: the site does not say that %s keeps its network. Add to it: managed-by: %s", name,
                manager->name, manager->name);
        if (m->verifies_software &&
            (m->expected[EB_MEMBER_SOFTWARE] != 0 || m->expected[EB_MEMBER_DATE] != 0))
            say("\n%s%s: %s starts it only with the software that its list names (1F53h to 1F55h).",
                name[0] != '\0' ? name : "Node ", name[0] != '\0' ? "" : "not on the site", manager->name);
    }
}

json_t *network_document(const struct session *s, const struct eb_site_device *manager,
                         const struct eb_member *list, size_t count)
{
    json_t *members = json_array();
    for (size_t i = 0; i < count; i++) {
        const struct eb_member *m = &list[i];
        const char *name = name_of(s, manager, m->node);
        json_t *expected = json_object();
        json_t *actual = json_object();
        json_t *differs = json_array();
        for (unsigned k = 0; k < EB_MEMBER_ITEMS; k++) {
            const char *word = eb_member_item_word((enum eb_member_item)k);
            if (m->expected[k] != 0)
                json_object_set_new(expected, word, json_integer(m->expected[k]));
            if ((m->has >> k & 1) != 0)
                json_object_set_new(actual, word, json_integer(m->actual[k]));
            if (eb_member_differs(m, (enum eb_member_item)k))
                json_array_append_new(differs, json_string(word));
        }
        json_array_append_new(
            members,
            json_pack("{s:i, s:s, s:s, s:b, s:b, s:i, s:i, s:b, s:b, s:b, s:b, s:o, s:o, s:o}", "node",
                      (int)m->node, "device", name, "state", eb_nmt_word(m->state), "supervised",
                      m->supervised, "tells_supervision", m->tells_supervision, "guard_ms", (int)m->guard_ms,
                      "retries", (int)m->retries, "boots", m->boots, "mandatory", m->mandatory,
                      "verifies_software", m->verifies_software, "answers", m->answers, "expected", expected,
                      "actual", actual, "differs", differs));
    }
    return json_pack("{s:s, s:s, s:i, s:s, s:o}", "einbau", "network/1", "manager", manager->name, "node",
                     (int)manager->node, "link", manager->link, "members", members);
}
