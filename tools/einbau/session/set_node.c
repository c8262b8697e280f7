/* Node id and bit rate of a CANopen node: 'einbau set' for a device on a CAN bus. */
#include "session/set_node.h"
#include "session/chosen.h"
#include "ui/table.h"

#include <jansson.h>
#include <stdio.h>
#include <string.h>

static bool wrong(struct session *s, const char *text, const char *expected)
{
    complain("found '%s', expected %s. Nothing was changed", text, expected);
    s->status = EXIT_WRONG_CALL;
    return false;
}

static bool refuse(struct session *s, const struct eb_job_device *t, const char *why)
{
    complain("%s: %s. Nothing was changed", t->device->name, why);
    s->status = EXIT_NOT_AS_WANTED;
    return false;
}

static bool read_assignments(struct session *s, const struct options *o, struct eb_job_node *wish)
{
    for (size_t i = 0; i < o->assignment_count; i++) {
        const char *text = o->assignments[i];
        const char *value = strchr(text, '=') != NULL ? strchr(text, '=') + 1 : "";
        uint64_t number = 0;
        bool read = eb_text_number(value, strlen(value), &number);
        if (strncmp(text, "node=", 5) == 0) {
            if (!read || number < 1 || number > 127)
                return wrong(s, text, "a node id from 1 to 127 behind the '='");
            wish->node = (uint8_t)number;
        } else if (strncmp(text, "bit-rate=", 9) == 0) {
            if (!read || number > 1000000)
                return wrong(s, text, "a bit rate in bit/s behind the '=', like 250000");
            wish->bit_rate = (uint32_t)number;
        } else {
            return wrong(s, text, "node=NUMBER or bit-rate=NUMBER, as the device is on a CAN bus");
        }
    }
    return wish->node != 0 || wish->bit_rate != 0 ||
           wrong(s, "nothing to set", "node=NUMBER or bit-rate=NUMBER");
}

/* Another device of the site that has this id on this bus. */
static bool is_taken(struct session *s, const struct eb_job_device *t, const struct eb_job_node *wish)
{
    char why[160];
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_site_device *d = s->job->devices[i].device;
        if (d == t->device || d->wire != t->device->wire || d->node != wish->node || wish->node == 0)
            continue;
        snprintf(why, sizeof why, "found node=%u, which %s has on this bus, expected a free one", wish->node,
                 d->name);
        return !refuse(s, t, why);
    }
    return false;
}

static void print_plan(const struct eb_job_device *t, const struct eb_job_node *wish)
{
    printf("%s (serial number %s), by LSS, kept after a restart:\n", t->device->name,
           t->look.identity.serial);
    if (wish->node != 0)
        printf("  node id   %u -> %u\n", t->device->node, wish->node);
    if (wish->bit_rate != 0)
        printf("  bit rate  %u -> %u bit/s, from its next start on\n", t->device->wire->bit_rate,
               wish->bit_rate);
    if (wish->bit_rate != 0)
        say("A bus works only while all of its nodes have the same bit rate: set all of them, then switch "
            "the bus "
            "off and on, then change the site's bit-rate.");
    fflush(stdout);
}

static void print_end(const struct session *s, const struct eb_job_device *t, const struct eb_job_node *wish,
                      bool ok)
{
    const char *outcome = !ok ? "failed" : wish->bit_rate != 0 ? "stored" : "confirmed";
    if (s->options->json) {
        print_document(
            json_pack("{s:s, s:[{s:s, s:s, s:{s:i, s:I}, s:{s:i, s:I}, s:[], s:[]}]}", "einbau", "set-node/1",
                      "devices", "name", t->device->name, "outcome", outcome, "before", "node",
                      (int)t->device->node, "bit_rate", (json_int_t)t->device->wire->bit_rate, "wanted",
                      "node", (int)(wish->node != 0 ? wish->node : t->device->node), "bit_rate",
                      (json_int_t)(wish->bit_rate != 0 ? wish->bit_rate : t->device->wire->bit_rate),
                      "components", "findings"));
        return;
    }
    if (!ok)
        return;
    if (wish->node != 0)
        printf("%s: confirmed, as read back: node %u\n", t->device->name, wish->node);
    if (wish->bit_rate != 0)
        printf("%s: stored: %u bit/s. It counts from its next start on, and is confirmed only then\n",
               t->device->name, wish->bit_rate);
    if (wish->node != 0 && wish->node != t->device->node)
        printf("The site still says node %u for %s: change it there to %u.\n", t->device->node,
               t->device->name, wish->node);
}

int set_node(struct session *s, const struct options *options)
{
    struct eb_job_node wish = {.node = 0};
    struct eb_job_device *t = chosen_one(s, options->names[0]);
    if (!read_assignments(s, options, &wish))
        return s->status;
    if (t == NULL || !eb_job_choose(s->job, t->device->name, NULL) || !job_lock_addresses(s) ||
        !session_look(s))
        return s->status;
    if (!t->reached) {
        char why[SENTENCE_BYTES] = "";
        look_sentence(s, t, why, sizeof why);
        complain("%s: %s. Nothing was changed", t->device->name, why);
        return s->status == EXIT_AS_WANTED ? EXIT_NOT_REACHED : s->status;
    }
    if (t->device->node == 0) {
        refuse(s, t, "it speaks no CANopen, so it has no node id");
        return s->status;
    }
    if (t->look.in_loader) {
        refuse(s, t, "it is in its loader");
        return s->status;
    }
    if (is_taken(s, t, &wish))
        return s->status;
    if (!options->json)
        print_plan(t, &wish);
    if (!job_lock_devices(s) || !session_may(s, "Set this?", "nothing was changed"))
        return s->status;
    bool ok = eb_job_set_node(s->job, t, &wish);
    if (!ok)
        complain("%s: %s", t->device->name, s->job->problem.text);
    print_end(s, t, &wish, ok);
    return ok ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}
