/* Values and proofs of a restart: what every access does with what it read. */
#include "access/access.h"
#include "einbau/text.h"

#include <string.h>

static const char *const restart_words[] = {"not-seen", "silence",     "connection", "loader", "boot-up",
                                            "session",  "enumeration", "counter",    "version"};

const char *eb_restart_word(enum eb_restart restart)
{
    return (size_t)restart < sizeof restart_words / sizeof restart_words[0] ? restart_words[restart]
                                                                            : "unknown";
}

void ebi_watch(struct eb_contact *contact)
{
    contact->watching = true;
    contact->restart = EB_RESTART_NOT_SEEN;
}

void ebi_restarted(struct eb_contact *contact, enum eb_restart proof)
{
    if (contact->watching && contact->restart == EB_RESTART_NOT_SEEN)
        contact->restart = proof;
}

/* --- which accesses ------------------------------------------------------------------------------------ */

static void add_access(const struct eb_access *list[EB_ACCESSES_MAX], size_t *count,
                       const struct eb_access *access)
{
    size_t at = *count;
    for (size_t i = 0; i < *count; i++) {
        if (list[i] == access)
            return;
    }
    if (access == NULL || *count == EB_ACCESSES_MAX)
        return;
    for (; at > 0 && list[at - 1]->rank > access->rank; at--)
        list[at] = list[at - 1];
    list[at] = access;
    ++*count;
}

size_t eb_profile_accesses(const struct eb_profile *p, const struct eb_access *list[EB_ACCESSES_MAX])
{
    const struct eb_steps *const steps[] = {&p->prepare, &p->activate, &p->undo, &p->restart};
    size_t count = 0;
    for (size_t i = 0; i < eb_profile_items(p); i++) {
        const struct eb_values *values = eb_profile_values(p, i);
        for (size_t k = 0; values != NULL && k < values->count; k++)
            add_access(list, &count, values->list[k].by);
    }
    for (size_t i = 0; i < sizeof steps / sizeof steps[0]; i++) {
        for (size_t k = 0; k < steps[i]->count; k++)
            add_access(list, &count, steps[i]->list[k].by);
    }
    add_access(list, &count, p->sends_by);
    for (size_t i = 0; i < p->otherwise_count; i++) {
        for (size_t k = 0; k < p->otherwise[i].prepare.count; k++)
            add_access(list, &count, p->otherwise[i].prepare.list[k].by);
        add_access(list, &count, p->otherwise[i].by);
    }
    for (size_t i = 0; i < p->stored_count; i++)
        add_access(list, &count, p->backups[i].at.by);
    return count;
}

const char *const ebi_forms[] = {"text", "number", "hex", "halves", NULL};

enum eb_wire eb_profile_wire(const struct eb_profile *p)
{
    return p->sends_by != NULL ? p->sends_by->wire : EB_WIRE_ETHERNET;
}

/* --- values ------------------------------------------------------------------------------------------ */

void ebi_values_forget(struct eb_contact *contact)
{
    memset(contact->texts, 0, eb_profile_items(contact->profile) * sizeof *contact->texts);
    memset(contact->failed, 0, sizeof contact->failed);
    memset(&contact->first_error, 0, sizeof contact->first_error);
}

size_t ebi_places(const struct eb_contact *contact)
{
    return eb_profile_items(contact->profile) * EB_SOURCES_MAX;
}

const struct eb_value *ebi_value_at(const struct eb_contact *contact, size_t place, char **text)
{
    size_t item = place / EB_SOURCES_MAX;
    size_t k = place % EB_SOURCES_MAX;
    const struct eb_values *values = eb_profile_values(contact->profile, item);
    *text = contact->texts[item][k];
    return values != NULL && k < values->count ? &values->list[k] : NULL;
}

void ebi_values_take(struct eb_contact *contact, const struct eb_access *access, unsigned kind,
                     void (*read)(const void *answer, const struct eb_value *value, char *text),
                     const void *answer)
{
    for (size_t i = 0; i < ebi_places(contact); i++) {
        char *text;
        const struct eb_value *value = ebi_value_at(contact, i, &text);
        if (value == NULL || value->by != access || value->kind != kind)
            continue;
        read(answer, value, text);
        ebi_cut_before(text, value->after);
    }
}

static bool same_text(const char *a, const char *b)
{
    return a == b || (a != NULL && b != NULL && strcmp(a, b) == 0);
}

static bool same_source(const struct eb_value *a, const struct eb_value *b)
{
    return a->by == b->by && a->kind == b->kind && a->item == b->item && a->index == b->index &&
           a->sub == b->sub && a->form == b->form && same_text(a->after, b->after);
}

const struct eb_value *ebi_value_next(struct eb_contact *contact, const struct eb_access *access,
                                      unsigned kind)
{
    for (; contact->value < ebi_places(contact); contact->value++) {
        char *text;
        char *earlier = NULL;
        const struct eb_value *value = ebi_value_at(contact, contact->value, &text);
        if (value == NULL || value->by != access || value->kind != kind)
            continue;
        for (size_t k = 0; k < contact->value && earlier == NULL; k++) {
            char *from;
            const struct eb_value *other = ebi_value_at(contact, k, &from);
            if (other != NULL && same_source(other, value))
                earlier = from;
        }
        if (earlier == NULL)
            return value;
        memcpy(text, earlier, EB_NAME_BYTES);
    }
    return NULL;
}

static void number_text(enum eb_value_form form, uint32_t number, char *text)
{
    struct eb_text out;
    eb_text_init(&out, text, EB_NAME_BYTES);
    if (form == EB_FORM_HEX) {
        eb_text_add_hex(&out, number, 8);
    } else if (form == EB_FORM_HALVES) {
        eb_text_add_number(&out, number >> 16);
        eb_text_add(&out, ".");
        eb_text_add_number(&out, number & 0xFFFF);
    } else {
        eb_text_add_number(&out, number);
    }
}

void ebi_value_take(struct eb_contact *contact, const struct eb_value *value, const uint8_t *bytes,
                    size_t size, bool little)
{
    char *text;
    ebi_value_at(contact, contact->value, &text);
    contact->value++;
    text[0] = '\0';
    if (value->form == EB_FORM_TEXT) {
        if (size < EB_NAME_BYTES) /* half a text is none */
            eb_text_copy_foreign(text, EB_NAME_BYTES, bytes, size);
    } else if (size >= 1 && size <= 4) {
        uint32_t number = 0;
        for (size_t i = 0; i < size; i++)
            number |= (uint32_t)bytes[little ? i : size - 1 - i] << 8 * i;
        number_text(value->form, number, text);
    }
    ebi_cut_before(text, value->after);
}

/* Whether the item has a text, so that in a job no further source needs to be asked. */
static bool enough(const struct eb_contact *contact, size_t item)
{
    bool has = false;
    for (size_t k = 0; k < EB_SOURCES_MAX; k++)
        has = has || contact->texts[item][k][0] != '\0';
    return has && contact->first_is_enough;
}

static bool is_of(const struct eb_value *value, const struct eb_access *access, unsigned kinds)
{
    return value != NULL && value->by == access && (kinds >> value->kind & 1) != 0;
}

bool ebi_values_wanted(const struct eb_contact *contact, const struct eb_access *access, unsigned kinds)
{
    char *text;
    for (size_t i = 0; i < ebi_places(contact); i++) {
        if (is_of(ebi_value_at(contact, i, &text), access, kinds) && !enough(contact, i / EB_SOURCES_MAX))
            return true;
    }
    return false;
}

void ebi_values_failed(struct eb_contact *contact, const struct eb_access *access, unsigned kinds,
                       const struct eb_error *error)
{
    char *text;
    for (size_t i = 0; i < ebi_places(contact); i++) {
        if (is_of(ebi_value_at(contact, i, &text), access, kinds))
            contact->failed[i / EB_SOURCES_MAX] |= (uint8_t)(1U << i % EB_SOURCES_MAX);
    }
    if (contact->first_error.status == EB_OK)
        contact->first_error = *error;
}

bool ebi_values_lost(const struct eb_contact *contact)
{
    for (size_t i = 0; i < eb_profile_items(contact->profile); i++) {
        const struct eb_values *values = eb_profile_values(contact->profile, i);
        if (values != NULL && values->count > 0 && contact->failed[i] == (1U << values->count) - 1)
            return true;
    }
    return false;
}

bool ebi_values_silent(const struct eb_contact *contact, const struct eb_access *but)
{
    bool others = false;
    for (size_t i = 0; i < ebi_places(contact); i++) {
        char *text;
        const struct eb_value *value = ebi_value_at(contact, i, &text);
        if (value == NULL || value->by == but)
            continue;
        if (text[0] != '\0')
            return false;
        others = true;
    }
    return others;
}

void ebi_cut_before(char *text, const char *mark)
{
    if (mark == NULL)
        return;
    const char *at = strstr(text, mark);
    if (at != NULL) {
        at += strlen(mark);
        memmove(text, at, strlen(at) + 1);
    } else {
        text[0] = '\0';
    }
}

bool ebi_value_text(const struct eb_contact *contact, const struct eb_values *values, char *text, size_t cap)
{
    text[0] = '\0';
    for (size_t i = 0; i < eb_profile_items(contact->profile); i++) {
        if (values == NULL || eb_profile_values(contact->profile, i) != values)
            continue;
        for (size_t k = 0; k < values->count && text[0] == '\0'; k++) {
            if (strlen(contact->texts[i][k]) < cap) /* half a text is none */
                eb_text_copy(text, cap, contact->texts[i][k]);
        }
    }
    return text[0] != '\0';
}

bool ebi_in_loader(const struct eb_contact *contact)
{
    char state[EB_NAME_BYTES];
    return ebi_value_text(contact, &contact->profile->from_state, state, sizeof state) &&
           strcmp(state, contact->profile->state_loader) == 0;
}

const char *ebi_port_lacks(const struct eb_port *port, const struct eb_access *access)
{
    /* in the order of the EB_NEEDS bits */
    static const char texts[][16] = {"port: no UDP", "port: no TCP", "port: no frames",
                                     "port: no CAN", "port: no USB", "port: no HTTP"};
    const void *const groups[] = {port->udp, port->tcp, port->frame,
                                  port->can, port->usb, EB_PORT_HAS(port, http, begin) ? port->http : NULL};
    for (size_t i = 0; i < sizeof groups / sizeof groups[0]; i++) {
        if ((access->needs >> i & 1) != 0 && groups[i] == NULL)
            return texts[i];
    }
    return NULL;
}

bool ebi_link_to(const struct eb_contact *contact, struct eb_link *link)
{
    const struct eb_port *port = contact->port;
    const struct eb_target *target = contact->target;
    struct eb_link links[EB_LINKS_MAX];
    if (target->link != NULL) {
        *link = *target->link;
        return true;
    }
    size_t count = port->links != NULL && port->links->list != NULL
                       ? port->links->list(port->self, links, EB_LINKS_MAX)
                       : 0;
    for (size_t i = 0; i < count; i++) {
        for (size_t k = 0; k < links[i].count && links[i].up; k++) {
            if (links[i].has_mac && eb_link_covers(&links[i].addresses[k], target->modbus.ip)) {
                *link = links[i];
                link->addresses[0] = links[i].addresses[k];
                return true;
            }
        }
    }
    return false;
}
