/* What is to be written to each device, through which images, and whether it fits. */
#include "session.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { BUFFER_BYTES = 131072 }; /* 64 blocks for an Ethernet's MTU, or two of the largest */

static struct target *target_of(struct session *s, const struct eb_site_device *device)
{
    return &s->targets[device - s->site->devices];
}

/* --- what is around a device --------------------------------------------------------------------- */

/* The version of a component: as it was read last, or as the plan will leave it. */
static const char *version_of(const struct target *t, size_t component, bool planned)
{
    for (size_t k = t->item_count; planned && !t->refused && k-- > 0;) {
        if (t->items[k].component == &t->device->profile->components[component])
            return t->items[k].image->version;
    }
    const struct eb_run *run = target_last(t);
    return run->identified && !run->in_loader ? run->running[component].version : "";
}

/* Of a device that this job leaves alone: the version that a job with it would give it, or NULL. */
static const char *foreseen(const struct target *t, size_t component)
{
    return !t->chosen && t->foreseen[component][0] != '\0' ? t->foreseen[component] : NULL;
}

void session_surround(struct session *s, struct target *t, bool planned)
{
    const struct eb_site_device *d = t->device;
    t->around =
        (struct eb_surroundings){.behind_gateway = d->via != NULL, .companion_count = d->companion_count};
    if (d->via != NULL) {
        const struct target *gateway = target_of(s, d->via);
        t->around.gateway = version_of(gateway, 0, planned);
        t->around.gateway_device = d->via->name;
        t->around.gateway_together = foreseen(gateway, 0);
        t->around.gateway_order = &d->via->profile->components[0].order;
    }
    for (size_t i = 0; i < d->companion_count; i++) {
        const struct eb_site_companion *c = &d->companions[i];
        struct eb_companion_version *to = &t->around.companions[i];
        const struct target *other = c->device != NULL ? target_of(s, c->device) : NULL;
        *to = (struct eb_companion_version){.role = c->role, .version = c->version};
        if (other == NULL)
            continue;
        to->version = version_of(other, c->component, planned);
        to->device = c->device->name;
        to->together = foreseen(other, c->component);
    }
}

/* --- images of the shelf ------------------------------------------------------------------------- */

bool session_candidates(struct session *s, struct target *t, size_t component, bool others,
                        struct eb_shelf_candidate **candidates, size_t *count)
{
    const char *code = t->look.identity.order_code;
    if (eb_shelf_candidates(s->shelf, &t->device->profile->components[component], code, others, candidates,
                            count, &s->problem))
        return true;
    complain("%s", s->problem.text);
    s->status = EXIT_WRONG_CALL;
    return false;
}

static const char *delivered(struct session *s, struct target *t, size_t component)
{
    char last[EB_VERSION_TEXT_BYTES];
    char *to = t->delivered[component];
    const char *said = t->device->wants[component].delivered;
    if (to[0] == '\0' && said[0] != '\0')
        eb_text_copy(to, EB_VERSION_TEXT_BYTES, said);
    else if (to[0] == '\0' && s->known != NULL)
        eb_known_versions(s->known, &t->look.identity, t->device->profile->components[component].name, to,
                          last);
    return to;
}

static const char *known_floor(struct session *s, struct target *t, size_t component)
{
    char *to = t->known_floor[component];
    if (to[0] == '\0' && s->known != NULL)
        eb_known_floor(s->known, &t->look.identity, t->device->profile->components[component].name, to);
    return to;
}

void session_floors(struct session *s, struct target *t)
{
    for (size_t i = 0; i < t->device->profile->count; i++) {
        delivered(s, t, i);
        known_floor(s, t, i);
    }
}

/* What is said of a candidate; where that cannot be read any more, it is for nothing. */
static const struct eb_shelf_said *said_of(struct session *s, struct eb_shelf_candidate *candidate)
{
    static const struct eb_shelf_said nothing;
    if (eb_shelf_facts(s->shelf, &s->trust, candidate, &s->problem))
        return candidate->said;
    complain("%s", s->problem.text);
    return &nothing;
}

void session_judge(struct session *s, struct target *t, size_t component,
                   struct eb_shelf_candidate *candidate, struct eb_run_item *item)
{
    const struct eb_shelf_said *said = said_of(s, candidate);
    struct eb_run_item items[EB_RUN_ITEMS_MAX + 1];
    memcpy(items, t->items, t->item_count * sizeof *items);
    items[t->item_count] = (struct eb_run_item){
        .component = &t->device->profile->components[component],
        .image = &said->facts,
        .file = &said->file,
        .delivered = delivered(s, t, component),
        .known_floor = known_floor(s, t, component),
    };
    eb_plan_judge(&t->look, items, t->item_count, t->accepted);
    *item = items[t->item_count];
}

void session_recall(struct session *s, struct target *t, char seen[EB_SEEN_BYTES])
{
    struct eb_run *look = &t->look;
    struct eb_identity *id = &look->identity;
    const struct eb_site_device *d = t->device;
    seen[0] = '\0';
    look->config = session_run(s, t, TARGET_LOOK);
    memset(id, 0, sizeof *id);
    bool known = s->known != NULL && eb_known_recall(s->known, s->site->name, d->name, id, seen);
    if (known && d->serial[0] != '\0' && strcmp(id->serial, d->serial) != 0) { /* another one was there */
        memset(id, 0, sizeof *id);
        seen[0] = '\0';
    }
    if (d->order_code[0] != '\0')
        eb_text_copy(id->order_code, sizeof id->order_code, d->order_code);
    if (d->hardware_revision[0] != '\0')
        eb_text_copy(id->hardware_revision, sizeof id->hardware_revision, d->hardware_revision);
    if (id->order_code[0] == '\0' && d->profile->order_codes[1][0] == '\0' &&
        strpbrk(d->profile->order_codes[0], "*?") == NULL)
        eb_text_copy(id->order_code, sizeof id->order_code, d->profile->order_codes[0]);
    for (size_t i = 0; s->known != NULL && seen[0] != '\0' && i < d->profile->count; i++) {
        char first[EB_VERSION_TEXT_BYTES];
        eb_known_versions(s->known, id, d->profile->components[i].name, first, look->running[i].version);
    }
}

/* --- items --------------------------------------------------------------------------------------- */

static bool add_item(struct session *s, struct target *t, const struct eb_component_profile *component,
                     const struct eb_image *image)
{
    size_t index = (size_t)(component - t->device->profile->components);
    size_t k = t->item_count;
    if (k == EB_RUN_ITEMS_MAX) {
        complain("%s: found more than %d images to write, expected at most that: leave some for another job",
                 t->device->name, EB_RUN_ITEMS_MAX);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    t->images[k] = image;
    t->files[k] = image->found;
    if (component->as_it_is)
        t->files[k].content_bytes = image->found.size_bytes;
    t->items[k] = (struct eb_run_item){
        .component = component,
        .image = &image->facts,
        .file = &t->files[k],
        .source = component->as_it_is ? image->file : image->source,
        .checksum = component->as_it_is ? image->file_checksum : image->checksum,
        .delivered = delivered(s, t, index),
        .known_floor = known_floor(s, t, index),
    };
    eb_plan_judge(&t->look, t->items, k, t->accepted);
    t->item_count++;
    return true;
}

/* Whether images can be sent to it at all; says so where not. */
static bool may_send(struct session *s, const struct target *t)
{
    if (t->device->profile->sends)
        return true;
    complain("%s: found no way to send an image in the profile %s, expected the key 'tftp'. Leave the device "
             "out: --without %s",
             t->device->name, t->device->profile->name, shell_word(t->device->name));
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* --image NUMBER: one of the shelf. */
static const struct eb_image *image_by_number(struct session *s, struct target *t)
{
    struct eb_shelf_image found;
    const struct eb_component_profile *component = NULL;
    struct eb_shelf_candidate *candidates = NULL;
    const struct eb_image *image = NULL;
    size_t count = 0;
    if (!eb_shelf_find(s->shelf, s->options->image, &found, &s->problem)) {
        complain("--image: %s, or a file", s->problem.text);
        s->status = EXIT_WRONG_CALL;
        return NULL;
    }
    component = eb_profile_component(t->device->profile, found.component);
    if (component == NULL) {
        complain("%s: found an image for the component '%s', expected one that %s has (profile %s)",
                 found.origin, found.component, t->device->name, t->device->profile->name);
        s->status = EXIT_WRONG_CALL;
        return NULL;
    }
    if (session_candidates(s, t, (size_t)(component - t->device->profile->components), true, &candidates,
                           &count)) {
        for (size_t i = 0; i < count; i++) {
            if (candidates[i].number == found.number &&
                eb_shelf_facts(s->shelf, &s->trust, &candidates[i], &s->problem))
                image = session_shelf_image(s, &candidates[i]);
        }
    }
    eb_shelf_candidates_free(candidates, count);
    return image;
}

/* With --image: the one component that it is for. */
static bool plan_given(struct session *s, struct target *t)
{
    const struct eb_profile *profile = t->device->profile;
    if (!may_send(s, t))
        return false;
    const char *name = s->options->image;
    bool number = s->shelf != NULL && strchr(name, '/') == NULL && access(name, F_OK) != 0;
    const struct eb_image *image = number ? image_by_number(s, t) : session_image(s, name);
    if (image == NULL)
        return false;
    const struct eb_component_profile *component = eb_profile_component(profile, image->facts.component);
    if (component != NULL)
        return add_item(s, t, component, image);
    complain("%s: found an image for the component '%s', expected one that %s has (profile %s)", image->path,
             image->facts.component, t->device->name, profile->name);
    s->status = EXIT_WRONG_CALL;
    return false;
}

/* The image that the site names. */
static bool plan_named(struct session *s, struct target *t, size_t index)
{
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_component_profile *component = &t->device->profile->components[index];
    const struct eb_image *image = session_image(s, want->image);
    if (image == NULL)
        return false;
    if (strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, want->version) != EB_SAME) {
        complain("%s: found an image of %s %s, expected %s %s as %s wants it", image->path,
                 image->facts.component, image->facts.version, component->name, want->version,
                 t->device->name);
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    return add_item(s, t, component, image);
}

/* How far a verdict is from a plain yes. */
static unsigned distance(const struct eb_verdict *v)
{
    unsigned sum = 0;
    for (size_t i = 0; i < v->count; i++)
        sum += v->findings[i].grade == EB_GRADE_NO ? 100 : v->findings[i].grade > EB_GRADE_ACCEPTED ? 1 : 0;
    return v->answer == EB_FITS ? 0 : 1 + sum;
}

static bool fails_by(const struct eb_verdict *v, enum eb_rule rule)
{
    for (size_t i = 0; i < v->count; i++) {
        if (v->findings[i].rule == rule)
            return v->findings[i].grade == EB_GRADE_NO;
    }
    return false;
}

/* The images between what runs and what is wanted, as a way; 0: there is none. */
static size_t find_way(struct session *s, struct target *t, const struct eb_component_profile *component,
                       struct eb_shelf_candidate *candidates, size_t count, size_t best,
                       size_t way[EB_WAY_STEPS_MAX])
{
    struct eb_way_image images[EB_WAY_IMAGES_MAX];
    size_t from[EB_WAY_IMAGES_MAX];
    size_t have = 1;
    struct eb_running running;
    struct eb_judge_facts facts;
    struct eb_run_item items[EB_RUN_ITEMS_MAX + 1];
    memcpy(items, t->items, t->item_count * sizeof *items);
    items[t->item_count] = (struct eb_run_item){
        .component = component,
        .image = &said_of(s, &candidates[best])->facts,
        .delivered = delivered(s, t, (size_t)(component - t->device->profile->components)),
        .known_floor = known_floor(s, t, (size_t)(component - t->device->profile->components)),
    };
    eb_plan_facts(&t->look, items, t->item_count, t->accepted, &running, &facts);
    images[0] =
        (struct eb_way_image){&said_of(s, &candidates[best])->facts, &said_of(s, &candidates[best])->file};
    from[0] = best;
    for (size_t i = 0; i < count && have < EB_WAY_IMAGES_MAX; i++) {
        const char *version = candidates[i].version;
        if (eb_version_compare(&component->order, version, running.version) != EB_NEWER ||
            eb_version_compare(&component->order, version, candidates[best].version) != EB_OLDER)
            continue;
        images[have] =
            (struct eb_way_image){&said_of(s, &candidates[i])->facts, &said_of(s, &candidates[i])->file};
        from[have++] = i;
    }
    size_t steps = eb_plan_way(&facts, images, have, 0, way);
    for (size_t i = 0; i < steps; i++)
        way[i] = from[way[i]];
    return steps;
}

void session_choose(struct session *s, struct target *t, size_t index, struct eb_shelf_candidate *candidates,
                    size_t count, struct choice *choice)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    size_t best = count;
    memset(choice, 0, sizeof *choice);
    for (size_t i = 0; i < count; i++) {
        struct eb_run_item item;
        if (eb_version_compare(&component->order, candidates[i].version, target_wanted(t, index)) != EB_SAME)
            continue;
        session_judge(s, t, index, &candidates[i], &item);
        if (best == count || distance(&item.verdict) < distance(&choice->verdict)) {
            best = i;
            choice->verdict = item.verdict;
        }
    }
    if (best == count)
        return;
    if (fails_by(&choice->verdict, EB_RULE_LEAST_RUNNING)) {
        choice->steps = find_way(s, t, component, candidates, count, best, choice->way);
        choice->gap = choice->steps == 0;
    }
    if (choice->steps == 0)
        choice->way[choice->steps++] = best;
}

/* The image of the wanted version that fits best, by way of others where it needs them. */
static bool choose_image(struct session *s, struct target *t, size_t index,
                         struct eb_shelf_candidate *candidates, size_t count)
{
    struct choice choice;
    session_choose(s, t, index, candidates, count, &choice);
    t->lacks[index] = choice.steps == 0;
    t->refused = t->refused || t->lacks[index];
    for (size_t i = 0; i < choice.steps; i++) {
        const struct eb_image *image = session_shelf_image(s, &candidates[choice.way[i]]);
        if (image == NULL || !add_item(s, t, &t->device->profile->components[index], image))
            return false;
    }
    if (choice.gap) {
        t->items[t->item_count - 1].no_way = true;
        eb_plan_judge(&t->look, t->items, t->item_count - 1, t->accepted);
    }
    return true;
}

static bool plan_from_shelf(struct session *s, struct target *t, size_t index)
{
    struct eb_shelf_candidate *candidates;
    size_t count;
    if (s->shelf == NULL) {
        complain("%s: found no image for %s %s in the site and no shelf, expected the key 'image', --image "
                 "FILE, or "
                 "an image on the shelf: einbau shelf add FILE",
                 t->device->name, t->device->profile->components[index].name, target_wanted(t, index));
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    if (!session_candidates(s, t, index, false, &candidates, &count))
        return false;
    bool ok = choose_image(s, t, index, candidates, count);
    eb_shelf_candidates_free(candidates, count);
    return ok;
}

static bool plan_target(struct session *s, struct target *t)
{
    bool named = s->options->name_count > 0 && t->chosen;
    bool again = s->options->again && t->chosen;
    if (s->options->image != NULL && t->chosen)
        return plan_given(s, t);
    if (!t->device->profile->sends)
        return true; /* only looked at; print_plan says so */
    for (size_t i = 0; i < t->device->profile->count; i++) {
        enum eb_mark mark = target_mark(t, i);
        if (t->device->wants[i].version[0] == '\0')
            continue;
        /* Unasked only what is outdated, has other bytes than it should, or waits in its loader. */
        bool meant = mark == EB_MARK_OUTDATED || mark == EB_MARK_DIFFERS || t->look.in_loader ||
                     (named && mark != EB_MARK_CURRENT) || again;
        if (meant && !(t->device->wants[i].image[0] != '\0' ? plan_named(s, t, i) : plan_from_shelf(s, t, i)))
            return false;
    }
    return true;
}

static bool prepare_run(struct session *s, struct target *t)
{
    t->buffer = malloc(BUFFER_BYTES);
    if (t->buffer == NULL) {
        s->status = EXIT_WRONG_CALL;
        return false;
    }
    t->fit.config = session_run(s, t, TARGET_FIT);
    t->fit.config.target.serial = t->look.identity.serial; /* the very device that was looked at */
    t->fit.config.items = t->items;
    t->fit.config.count = t->item_count;
    t->fit.config.accepted = t->accepted;
    t->fit.config.again = s->options->again;
    t->fit.config.buffer = t->buffer;
    t->fit.config.buffer_bytes = BUFFER_BYTES;
    return true;
}

/* --- the checksums of what is wanted ------------------------------------------------------------- */

static bool use_image(struct target *t, size_t index, const struct eb_image *image)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    if (image == NULL || strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, target_wanted(t, index)) != EB_SAME ||
        memcmp(image->facts.sha256, image->found.sha256, sizeof image->found.sha256) != 0)
        return false;
    t->has_checksum[index] = true;
    t->checksum[index] = component->as_it_is ? image->file_checksum : image->checksum;
    return true;
}

static bool use_shelf(struct session *s, struct target *t, size_t index)
{
    struct eb_shelf_candidate *candidates;
    struct choice choice;
    size_t count;
    bool used = false;
    if (s->shelf == NULL || !session_candidates(s, t, index, false, &candidates, &count))
        return false;
    session_surround(s, t, false);
    session_choose(s, t, index, candidates, count, &choice);
    if (choice.steps > 0)
        used = use_image(t, index, session_shelf_image(s, &candidates[choice.way[choice.steps - 1]]));
    eb_shelf_candidates_free(candidates, count);
    return used;
}

/* The wanted image, where one is known here; else what this laptop sent as this version before. */
static void compare(struct session *s, struct target *t, size_t index)
{
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_component_profile *component = &t->device->profile->components[index];
    const struct eb_running *running = &t->look.running[index];
    char unit[EB_LOCK_KEY_BYTES];
    if (component->checksum.count == 0 || !running->has_checksum || want->version[0] == '\0' ||
        eb_version_compare(&component->order, running->version, want->version) != EB_SAME)
        return;
    if (want->image[0] != '\0' ? use_image(t, index, session_image(s, want->image)) : use_shelf(s, t, index))
        return;
    unit_key(s, t, unit);
    if (s->record != NULL)
        t->has_checksum[index] =
            eb_record_checksum(s->record, unit, component->name, want->version, &t->checksum[index]);
}

void session_compare(struct session *s)
{
    int status = s->status;
    bool needed = false;
    for (size_t i = 0; i < s->count; i++) {
        const struct target *t = &s->targets[i];
        for (size_t k = 0; t->reached && k < t->device->profile->count; k++)
            needed = needed || (t->device->profile->components[k].checksum.count > 0 &&
                                target_wanted(t, k)[0] != '\0' && t->look.running[k].has_checksum);
    }
    if (!needed)
        return;
    hush(true); /* without the shelf less is known, and that is said where it matters */
    session_open_shelf(s, false);
    for (size_t i = 0; i < s->count; i++) {
        struct target *t = &s->targets[i];
        for (size_t k = 0; t->reached && !t->look.in_loader && k < t->device->profile->count; k++)
            compare(s, t, k);
    }
    hush(false);
    s->status = status;
}

/* --- the plan ------------------------------------------------------------------------------------ */

/* A batch is one only if every device in it fits. */
static void judge_batch(struct session *s)
{
    const char *refused = NULL;
    for (size_t i = 0; i < s->count && refused == NULL; i++) {
        if (s->targets[i].refused)
            refused = s->targets[i].device->name;
    }
    for (size_t i = 0; i < s->count; i++) {
        for (size_t k = 0; k < s->targets[i].item_count && !s->targets[i].refused; k++)
            eb_verdict_batch(&s->targets[i].items[k].verdict, refused);
    }
}

static bool plan_chosen(struct session *s, struct target *t)
{
    session_surround(s, t, true);
    if (!plan_target(s, t))
        return false;
    for (size_t k = 0; k < t->item_count; k++)
        t->refused = t->refused || t->items[k].verdict.answer != EB_FITS;
    return t->item_count == 0 || t->refused || prepare_run(s, t);
}

/* What a job with a device that is not chosen would bring it to. */
static void foresee(struct session *s, struct target *t)
{
    int status = s->status;
    session_surround(s, t, true);
    hush(true); /* whatever is wrong with it is no concern of this job */
    bool fits = t->device->profile->sends && t->reached && plan_target(s, t) && !t->refused;
    hush(false);
    s->status = status;
    for (size_t k = 0; k < t->item_count && fits; k++)
        fits = t->items[k].verdict.answer == EB_FITS;
    for (size_t k = 0; k < t->item_count && fits; k++) {
        size_t index = (size_t)(t->items[k].component - t->device->profile->components);
        eb_text_copy(t->foreseen[index], sizeof t->foreseen[index], t->items[k].image->version);
    }
    t->item_count = 0;
    t->refused = false;
    memset(t->lacks, 0, sizeof t->lacks);
}

static size_t waves_of(const struct session *s)
{
    size_t waves = 0;
    for (size_t i = 0; i < s->count; i++)
        waves = s->targets[i].device->wave >= waves ? s->targets[i].device->wave + 1 : waves;
    return waves;
}

void session_foresee(struct session *s)
{
    size_t waves = waves_of(s);
    for (size_t w = 0; w < waves; w++) {
        for (size_t i = 0; i < s->count; i++) {
            if (s->targets[i].device->wave == w && s->targets[i].asked && !s->targets[i].chosen)
                foresee(s, &s->targets[i]);
        }
    }
}

bool session_plan(struct session *s)
{
    if (!session_open_shelf(s, false))
        return false;
    size_t waves = waves_of(s);
    for (size_t w = 0; w < waves; w++) {
        for (size_t i = 0; i < s->count; i++) {
            struct target *t = &s->targets[i];
            if (t->device->wave != w)
                continue;
            if (t->asked && !t->chosen)
                foresee(s, t);
            else if (t->reached && !plan_chosen(s, t))
                return false;
            else if (!t->reached && t->look.identified)
                t->refused = true; /* another device in its place */
        }
    }
    judge_batch(s);
    return true;
}
