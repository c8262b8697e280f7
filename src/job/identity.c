/* What was read of a device: who it is, what it runs, and whether it restarted. */
#include "job/ladder.h"
#include "einbau/text.h"

#include <string.h>

/* Whether two texts of one item say the same: versions by their order, checksums as numbers. */
static bool agree(const struct eb_profile *p, size_t item, const char *one, const char *other)
{
    uint32_t a;
    uint32_t b;
    size_t component;
    bool checksum;
    if (strcmp(one, other) == 0)
        return true;
    if (!eb_profile_item_component(item, &component, &checksum))
        return false;
    if (!checksum)
        return eb_version_compare(&p->components[component].order, one, other) == EB_SAME;
    return eb_text_hex32(one, &a) && eb_text_hex32(other, &b) && a == b;
}

static void find_disagreement(struct eb_run *run, size_t item)
{
    const struct eb_profile *p = run->config.profile;
    const struct eb_values *values = eb_profile_values(p, item);
    size_t first = EB_SOURCES_MAX;
    for (size_t i = 0; values != NULL && i < values->count; i++) {
        const char *text = run->texts[item][i];
        if (text[0] == '\0')
            continue;
        if (first == EB_SOURCES_MAX) {
            first = i;
        } else if (!agree(p, item, run->texts[item][first], text) &&
                   run->disagreements < EB_DISAGREEMENTS_MAX) {
            struct eb_disagreement *d = &run->disagreement[run->disagreements++];
            *d = (struct eb_disagreement){
                .item = item, .by = values->list[first].by, .other_by = values->list[i].by};
            eb_text_copy(d->text, sizeof d->text, run->texts[item][first]);
            eb_text_copy(d->other_text, sizeof d->other_text, text);
        }
    }
}

/* A counter that is read before the restart and behind it. */
static void take_counter(struct eb_run *run)
{
    static const uint32_t ticks_per_s[] = {0, 1, 100, 1000};
    const struct eb_profile *p = run->config.profile;
    char text[EB_NAME_BYTES];
    uint64_t number;
    run->counter_read = ebi_value_text(&run->contact, &p->from_counter, text, sizeof text) &&
                        eb_text_number(text, strlen(text), &number);
    if (!run->counter_read)
        return;
    if (!run->contact.watching || !run->has_counter) {
        run->has_counter = true;
        run->counter = number;
        run->counter_us = run->now_us;
        return;
    }
    if (p->counts == EB_COUNTS_STARTS) {
        run->counter_restarted = number != run->counter;
        return;
    }
    /* Without a restart it has gone on by the time that has passed; clocks differ by two seconds and a
     * fiftieth. */
    uint64_t passed = (run->now_us - run->counter_us) / 1000 * ticks_per_s[p->counts] / 1000;
    uint64_t slack = 2 * (uint64_t)ticks_per_s[p->counts] + passed / 50;
    run->counter_restarted = number + slack < run->counter + passed;
}

static void take_identity(struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    char text[EB_NAME_BYTES];
    struct eb_identity *id = &run->identity;
    ebi_value_text(&run->contact, &p->from_maker, id->maker, sizeof id->maker);
    ebi_value_text(&run->contact, &p->from_product, id->product, sizeof id->product);
    ebi_value_text(&run->contact, &p->from_order_code, id->order_code, sizeof id->order_code);
    ebi_value_text(&run->contact, &p->from_hardware_revision, id->hardware_revision,
                   sizeof id->hardware_revision);
    ebi_value_text(&run->contact, &p->from_serial, id->serial, sizeof id->serial);
    run->in_loader = ebi_value_text(&run->contact, &p->from_state, text, sizeof text) &&
                     strcmp(text, p->state_loader) == 0;
    if (run->in_loader && p->loader_order_code[0] != '\0')
        eb_text_copy(id->order_code, sizeof id->order_code, p->loader_order_code);
    run->program_known =
        !run->in_loader && ebi_value_text(&run->contact, &p->from_program, text, sizeof text);
    run->program_stopped = run->program_known && strcmp(text, p->program_stopped) == 0;
    take_counter(run);
    for (size_t i = 0; i < p->count; i++) {
        struct eb_running *running = &run->running[i];
        ebi_value_text(&run->contact, &p->components[i].version, running->version, sizeof running->version);
        running->has_checksum =
            ebi_value_text(&run->contact, &p->components[i].checksum, text, sizeof text) &&
            eb_text_hex32(text, &running->checksum);
    }
    run->usb = p->usb;
    run->usb.release = run->contact.release;
    for (size_t i = 0; i < p->count; i++) {
        const struct eb_values *version = &p->components[i].version;
        for (size_t k = 0; k < version->count; k++)
            run->usb.release_is_version =
                run->usb.release_is_version ||
                (version->list[k].by->wire == EB_WIRE_USB && version->list[k].item == EB_USB_RELEASE);
    }
    run->disagreements = 0;
    for (size_t i = 0; i < eb_profile_items(p); i++)
        find_disagreement(run, i);
    if (run->config.extras != NULL)
        run->config.extras->note_statements(run);
    run->identified = true;
}

struct eb_error ebi_other(const char *where, const char *found, const char *expected)
{
    struct eb_error error = {.status = EB_OTHER, .where = where};
    struct eb_text text;
    eb_text_init(&text, error.text, sizeof error.text);
    eb_text_add(&text, "found ");
    eb_text_add(&text, found[0] != '\0' ? found : "nothing readable");
    eb_text_add(&text, ", expected ");
    eb_text_add(&text, expected);
    return error;
}

/* Whether it is the device that was meant, and after the first time: the same one.  Its loader may know no
 * more than the serial number; one on USB without a number is known by its place, a loader that pulls by its
 * hardware address. */
static bool is_meant(struct eb_run *run, struct eb_error *error)
{
    const struct eb_profile *p = run->config.profile;
    const struct eb_identity *id = &run->identity;
    const char *serial = run->record.serial[0] != '\0' ? run->record.serial : run->config.target.serial;
    const char *code = run->record.order_code;
    bool by_place = (run->contact.by_place || run->contact.by_mac) && id->serial[0] == '\0';
    if (serial != NULL && serial[0] != '\0' && !by_place && strcmp(serial, id->serial) != 0) {
        *error = ebi_other("comparing the serial number", id->serial, serial);
        if (id->serial[0] == '\0' && run->contact.first_error.status != EB_OK)
            *error = run->contact.first_error; /* why it could not be read */
        return false;
    }
    if (id->order_code[0] != '\0' && !eb_profile_covers(p, id->order_code)) {
        *error = ebi_other("comparing the order code with the profile's", id->order_code, p->order_codes[0]);
        return false;
    }
    if (!run->in_loader && code[0] != '\0' && strcmp(code, id->order_code) != 0) {
        *error = ebi_other("comparing the order code with the one before", id->order_code, code);
        return false;
    }
    if (run->record.serial[0] == '\0' && !run->judged)
        eb_text_copy(run->record.serial, sizeof run->record.serial, id->serial);
    if (run->record.order_code[0] == '\0')
        eb_text_copy(run->record.order_code, sizeof run->record.order_code, id->order_code);
    return true;
}

const struct eb_running *ebi_running_of(const struct eb_run *run, const struct eb_run_item *item)
{
    return &run->running[item->component - run->config.profile->components];
}

/* The heart of confirming: what was read back, never what was sent. */
bool ebi_runs_as_intended(const struct eb_run *run, const struct eb_run_item *item)
{
    const struct eb_running *running = ebi_running_of(run, item);
    const struct eb_component_profile *component = item->component;
    if (run->in_loader ||
        eb_version_compare(&component->order, running->version, item->image->version) != EB_SAME)
        return false;
    return component->checksum.count == 0 || (running->has_checksum && running->checksum == item->checksum);
}

bool ebi_stopped_by_job(const struct eb_run *run)
{
    return run->program_stopped && !run->record.was_stopped;
}

/* Whether the restart that the profile tells of was seen since the device was made to take up what was sent.
 */
bool ebi_restart_seen(struct eb_run *run)
{
    const struct eb_profile *p = run->config.profile;
    if (!p->restarts)
        return true;
    if (run->counter_read && run->has_counter) {
        if (run->counter_restarted)
            run->contact.restart = EB_RESTART_COUNTER;
        return run->counter_restarted; /* it alone decides */
    }
    if (run->contact.loader_seen && run->identified && !run->in_loader)
        ebi_restarted(&run->contact, EB_RESTART_LOADER);
    for (size_t i = run->group; p->version_proves && i <= run->progress.item; i++) {
        const struct eb_run_item *item = &run->config.items[i];
        if (eb_version_compare(&item->component->order, item->from, ebi_running_of(run, item)->version) !=
                EB_SAME &&
            item->from[0] != '\0')
            ebi_restarted(&run->contact, EB_RESTART_VERSION);
    }
    return run->contact.watching && run->contact.restart != EB_RESTART_NOT_SEEN;
}

/* Identification has ended with `status`; EB_OK: with the device that is meant, else `error` says why not. */
enum eb_status ebi_take_look(struct eb_run *run, enum eb_status status, struct eb_error *error)
{
    *error = run->contact.error;
    run->answered = status == EB_OK || status == EB_PEER_ERROR || status == EB_GARBAGE ||
                    status == EB_TOO_LARGE || status == EB_OTHER;
    if (status != EB_OK)
        return status;
    take_identity(run);
    status = is_meant(run, error) ? EB_OK : error->status;
    run->others = status == EB_OTHER ? run->others + 1 : 0;
    return status;
}

/* That another device answers is read twice before it is believed: an answer may be damaged. */
bool ebi_in_doubt(const struct eb_run *run, enum eb_status status)
{
    return status == EB_OTHER && run->others == 1;
}
