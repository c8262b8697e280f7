#include "session/chosen.h"

#include <fnmatch.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* What is known of a device besides its name. */
struct facts {
    char address[EB_ENDPOINT_TEXT_BYTES], mac[EB_MAC_TEXT_BYTES];
    struct eb_identity seen;
};

enum way { BY_NAME, BY_ADDRESS, BY_SERIAL, BY_ORDER_CODE, WAYS };

static void know(const struct session *s, const struct eb_job_device *t, struct facts *f)
{
    const struct eb_site_device *d = t->device;
    char when[EB_SEEN_BYTES];
    memset(f, 0, sizeof *f);
    if (s->job->known == NULL || !eb_known_recall(s->job->known, s->job->site->name, d->name, &f->seen, when))
        memset(&f->seen, 0, sizeof f->seen);
    if (target_on_ip(t))
        eb_endpoint_text(&d->modbus, false, f->address);
    else
        eb_text_copy(f->address, sizeof f->address, d->usb_place);
    if (d->has_mac)
        eb_mac_text(d->mac, f->mac);
}

static bool same(const char *word, bool pattern, const char *text)
{
    return text[0] != '\0' && (pattern ? fnmatch(word, text, 0) == 0 : strcmp(word, text) == 0);
}

static bool is(const struct session *s, const struct eb_job_device *t, const char *word, bool pattern,
               enum way way)
{
    const struct eb_site_device *d = t->device;
    struct facts f;
    if (way == BY_NAME)
        return same(word, pattern, d->name);
    know(s, t, &f);
    switch (way) {
    case BY_ADDRESS:
        return same(word, pattern, f.address) || same(word, pattern, f.mac);
    case BY_SERIAL:
        return same(word, pattern, d->serial) || same(word, pattern, f.seen.serial);
    default:
        return same(word, pattern, d->order_code) || same(word, pattern, f.seen.order_code);
    }
}

size_t chosen_by(const struct session *s, const char *word, bool *called)
{
    size_t count = 0;
    bool pattern = strpbrk(word, "*?[") != NULL;
    for (int k = 0; k < 2 * WAYS && count == 0; k++) {
        bool as_pattern = k % 2 != 0;
        for (size_t i = 0; i < s->job->count && (pattern || !as_pattern); i++) {
            called[i] = is(s, &s->job->devices[i], word, as_pattern, (enum way)(k / 2));
            count += called[i];
        }
    }
    return count;
}

static void complain_of_none(const struct session *s, const char *word)
{
    struct eb_nearest near = eb_nearest_begin(word);
    char meant[EB_NEAREST_BYTES];
    char names[512] = "";
    for (size_t i = 0; i < s->job->count; i++) {
        size_t at = strlen(names);
        eb_nearest_offer(&near, s->job->devices[i].device->name);
        if (at < sizeof names - 64)
            snprintf(names + at, sizeof names - at, "%s%s", i > 0 ? ", " : "",
                     s->job->devices[i].device->name);
    }
    if (near.best != NULL)
        complain("found '%s', expected a device of %s%s", word, s->job->site->name,
                 eb_nearest_text(&near, meant));
    else
        complain("found '%s', expected a device of %s: %s; or a pattern, an address, a serial number or an "
                 "order code",
                 word, s->job->site->name, names);
}

/* One entry for each device of the job, freed by the caller. */
static bool *flags(const struct session *s)
{
    bool *list = calloc(s->job->count + 1, sizeof *list);
    if (list == NULL)
        abort();
    return list;
}

struct eb_job_device *chosen_one(struct session *s, const char *word)
{
    bool *called = flags(s);
    size_t count = chosen_by(s, word, called);
    struct eb_job_device *one = NULL;
    char names[256] = "";
    for (size_t i = 0; i < s->job->count; i++) {
        size_t at = strlen(names);
        if (!called[i])
            continue;
        one = one == NULL ? &s->job->devices[i] : one;
        if (at < sizeof names - 64)
            snprintf(names + at, sizeof names - at, "%s%s", at > 0 ? ", " : "",
                     s->job->devices[i].device->name);
    }
    free(called);
    if (count <= 1)
        return one;
    complain("'%s' stands for %zu devices (%s), expected one: use its name", word, count, names);
    s->status = EXIT_WRONG_CALL;
    return NULL;
}

/* What is accepted is accepted for one device, by name or because no other one is meant. */
static bool choose_accepted(struct session *s)
{
    const struct options *o = s->options;
    for (size_t i = 0; i < o->accepted_count; i++) {
        const char *name = o->accepted[i].device != NULL ? o->accepted[i].device : o->names[0];
        struct eb_job_device *t = chosen_one(s, name);
        if (t == NULL || !t->chosen) {
            struct eb_nearest near = eb_nearest_begin(name);
            char meant[EB_NEAREST_BYTES];
            for (size_t k = 0; k < s->job->count; k++) {
                if (s->job->devices[k].chosen)
                    eb_nearest_offer(&near, s->job->devices[k].device->name);
            }
            if (s->status != EXIT_WRONG_CALL)
                complain("--accept: found '%s', expected a device of this call%s", name,
                         eb_nearest_text(&near, meant));
            s->status = EXIT_WRONG_CALL;
            return false;
        }
        t->accepted |= o->accepted[i].rules;
        t->accepts |= o->accepted[i].others;
    }
    return true;
}

static bool choose_words(struct session *s, bool *called)
{
    const struct options *o = s->options;
    for (size_t i = 0; i < o->name_count; i++) {
        if (chosen_by(s, o->names[i], called) == 0) {
            complain_of_none(s, o->names[i]);
            return false;
        }
        for (size_t k = 0; k < s->job->count; k++) {
            if (called[k] && !eb_job_choose(s->job, s->job->devices[k].device->name, NULL))
                return false;
        }
    }
    for (size_t i = 0; i < o->without_count; i++) {
        if (chosen_by(s, o->without[i], called) == 0) {
            complain_of_none(s, o->without[i]);
            return false;
        }
        for (size_t k = 0; k < s->job->count; k++)
            s->job->devices[k].left_out = s->job->devices[k].left_out || called[k];
    }
    for (size_t i = 0; i < o->step_done_count; i++) {
        if (chosen_by(s, o->step_done[i], called) == 0) {
            complain_of_none(s, o->step_done[i]);
            return false;
        }
        for (size_t k = 0; k < s->job->count; k++)
            s->job->devices[k].steps_done = s->job->devices[k].steps_done || called[k];
    }
    return true;
}

bool chosen_choose(struct session *s)
{
    bool *called = flags(s);
    bool known = choose_words(s, called);
    size_t chosen = 0;
    free(called);
    s->status = known ? s->status : EXIT_WRONG_CALL;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        t->chosen = t->chosen && !t->left_out;
        chosen += t->chosen;
    }
    if (!known)
        return false;
    if (chosen > 0 ||
        (s->job->count == 0 && s->options->site_optional)) /* there may be others than the site's */
        return choose_accepted(s);
    if (s->job->count == 0)
        complain("found no devices in %s, expected at least one", s->options->site);
    else
        complain("no device is chosen: --without leaves out every one that was named");
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* --- --only --------------------------------------------------------------------------------------- */

static const char in_loader[] = "in-loader";

static bool has_mark(const struct eb_job_device *t, const char *word)
{
    if (strcmp(word, in_loader) == 0)
        return t->reached && t->look.in_loader;
    if (!t->answered) /* also one of which nothing is wanted */
        return strcmp(word, eb_mark_word(EB_MARK_UNREACHABLE)) == 0;
    for (size_t k = 0; k < t->device->profile->count; k++) {
        if (eb_job_has(t, k) && strcmp(eb_mark_word(eb_job_mark(t, k)), word) == 0)
            return true;
    }
    return false;
}

bool chosen_narrow(struct session *s)
{
    const struct options *o = s->options;
    size_t before = 0;
    size_t after = 0;
    size_t silent = 0;
    if (o->only_count == 0)
        return true;
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        bool stays = false;
        for (size_t k = 0; k < o->only_count; k++)
            stays = stays || has_mark(t, o->only[k]);
        before += t->chosen;
        silent += t->chosen && !stays && !t->answered;
        t->chosen = t->chosen && stays;
        after += t->chosen;
    }
    eb_job_ask(s->job); /* what was chosen may be a gateway of those that stay */
    if (silent > 0)     /* nothing is known of these: they may be what is looked for */
        complain("--only leaves out %zu device%s that did not answer", silent, silent == 1 ? "" : "s");
    if (after > 0 || o->json)
        return true;
    printf("Of %zu device%s none is %s", before, before == 1 ? "" : "s", o->only[0]);
    for (size_t k = 1; k < o->only_count; k++)
        printf(" or %s", o->only[k]);
    puts(".");
    return false;
}

bool chosen_open_office(struct session *s, const struct options *options)
{
    if (!session_open_office(s, options, SHELF_IF_THERE))
        return false;
    if (s->job->site != NULL)
        return chosen_choose(s);
    complain("found no site, expected one: --site FILE, or the variable EINBAU_SITE");
    s->status = EXIT_WRONG_CALL;
    return false;
}
