/* What is to be written to each device, through which images, and whether it fits. */
#include "job/inside.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { BUFFER_BYTES = 131072 }; /* 64 blocks for an Ethernet's MTU, or two of the largest */

static struct eb_job_device *target_of(struct eb_job *job, const struct eb_site_device *device)
{
    return &job->devices[device - job->site->devices];
}

/* --- what is around a device --------------------------------------------------------------------- */

/* The version of a component: as it was read last, or as the plan will leave it. */
static const char *version_of(const struct eb_job_device *t, size_t component, bool planned)
{
    for (size_t k = t->item_count; planned && !t->refused && k-- > 0;) {
        if (t->items[k].component == &t->device->profile->components[component])
            return t->items[k].image->version;
    }
    const struct eb_run *run = eb_job_last(t);
    return run->identified && !run->in_loader ? run->running[component].version : "";
}

/* Of a device that this job leaves alone: the version that a job with it would give it, or NULL. */
static const char *foreseen(const struct eb_job_device *t, size_t component)
{
    return !t->chosen && t->foreseen[component][0] != '\0' ? t->foreseen[component] : NULL;
}

void eb_job_surround(struct eb_job *job, struct eb_job_device *t, bool planned)
{
    const struct eb_site_device *d = t->device;
    t->around =
        (struct eb_surroundings){.behind_gateway = d->via != NULL, .companion_count = d->companion_count};
    if (d->via != NULL) {
        const struct eb_job_device *gateway = target_of(job, d->via);
        t->around.gateway = version_of(gateway, 0, planned);
        t->around.gateway_device = d->via->name;
        t->around.gateway_together = foreseen(gateway, 0);
        t->around.gateway_order = &d->via->profile->components[0].order;
    }
    for (size_t i = 0; i < d->companion_count; i++) {
        const struct eb_site_companion *c = &d->companions[i];
        struct eb_companion_version *to = &t->around.companions[i];
        const struct eb_job_device *other = c->device != NULL ? target_of(job, c->device) : NULL;
        *to = (struct eb_companion_version){.role = c->role, .version = c->version};
        if (other == NULL)
            continue;
        to->version = version_of(other, c->component, planned);
        to->device = c->device->name;
        to->together = foreseen(other, c->component);
    }
}

/* --- images of the shelf ------------------------------------------------------------------------- */

bool eb_job_candidates(struct eb_job *job, struct eb_job_device *t, size_t component, bool others,
                       struct eb_shelf_candidate **candidates, size_t *count)
{
    const char *code = t->look.identity.order_code;
    if (eb_shelf_candidates(job->shelf, &t->device->profile->components[component], code, others, candidates,
                            count, &job->problem))
        return true;
    return ebi_job_failed(job, EB_BAD_CALL);
}

static const char *delivered(struct eb_job *job, struct eb_job_device *t, size_t component)
{
    char last[EB_VERSION_TEXT_BYTES];
    char *to = t->delivered[component];
    const char *said = t->device->wants[component].delivered;
    if (to[0] == '\0' && said[0] != '\0')
        eb_text_copy(to, EB_VERSION_TEXT_BYTES, said);
    else if (to[0] == '\0' && job->known != NULL)
        eb_known_versions(job->known, &t->look.identity, t->device->profile->components[component].name, to,
                          last);
    return to;
}

static const char *known_floor(struct eb_job *job, struct eb_job_device *t, size_t component)
{
    char *to = t->known_floor[component];
    if (to[0] == '\0' && job->known != NULL)
        eb_known_floor(job->known, &t->look.identity, t->device->profile->components[component].name, to);
    return to;
}

void eb_job_floors(struct eb_job *job, struct eb_job_device *t)
{
    for (size_t i = 0; i < t->device->profile->count; i++) {
        delivered(job, t, i);
        known_floor(job, t, i);
    }
}

/* What is said of a candidate; where that cannot be read any more, it is for nothing. */
static const struct eb_shelf_said *said_of(struct eb_job *job, struct eb_shelf_candidate *candidate)
{
    static const struct eb_shelf_said nothing;
    if (eb_shelf_facts(job->shelf, &job->trust, candidate, &job->problem))
        return candidate->said;
    ebi_job_warn(job, "%s", job->problem.text);
    return &nothing;
}

void eb_job_judge(struct eb_job *job, struct eb_job_device *t, size_t component,
                  struct eb_shelf_candidate *candidate, struct eb_run_item *item)
{
    const struct eb_shelf_said *said = said_of(job, candidate);
    struct eb_run_item items[EB_RUN_ITEMS_MAX + 1];
    memcpy(items, t->items, t->item_count * sizeof *items);
    items[t->item_count] = (struct eb_run_item){
        .component = &t->device->profile->components[component],
        .image = &said->facts,
        .file = &said->file,
        .delivered = delivered(job, t, component),
        .known_floor = known_floor(job, t, component),
    };
    eb_plan_judge(&t->look, items, t->item_count, t->accepted);
    *item = items[t->item_count];
}

void eb_job_recall(struct eb_job *job, struct eb_job_device *t, char seen[EB_SEEN_BYTES])
{
    struct eb_run *look = &t->look;
    struct eb_identity *id = &look->identity;
    const struct eb_site_device *d = t->device;
    seen[0] = '\0';
    look->config = eb_job_run_config(job, t, EB_JOB_LOOK);
    memset(id, 0, sizeof *id);
    bool known = job->known != NULL && eb_known_recall(job->known, job->site->name, d->name, id, seen);
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
    for (size_t i = 0; job->known != NULL && seen[0] != '\0' && i < d->profile->count; i++) {
        char first[EB_VERSION_TEXT_BYTES];
        eb_known_versions(job->known, id, d->profile->components[i].name, first, look->running[i].version);
    }
}

/* --- items --------------------------------------------------------------------------------------- */

static bool add_item(struct eb_job *job, struct eb_job_device *t,
                     const struct eb_component_profile *component, const struct eb_image *image)
{
    size_t index = (size_t)(component - t->device->profile->components);
    size_t k = t->item_count;
    if (k == EB_RUN_ITEMS_MAX) {
        return ebi_job_fail(job, EB_BAD_CALL,
                            "%s: found more than %d images to write, expected at most that: split them over "
                            "several jobs",
                            t->device->name, EB_RUN_ITEMS_MAX);
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
        .delivered = delivered(job, t, index),
        .known_floor = known_floor(job, t, index),
    };
    eb_plan_judge(&t->look, t->items, k, t->accepted);
    t->item_count++;
    return true;
}

/* Whether images can be sent to it at all; says so where not. */
static bool may_send(struct eb_job *job, const struct eb_job_device *t)
{
    if (t->device->profile->sends)
        return true;
    return ebi_job_fail(
        job, EB_BAD_CALL,
        "%s: found no way to send an image in the profile %s, expected the key 'tftp'. Leave the device "
        "out: --without %s",
        t->device->name, t->device->profile->name, eb_job_word(t->device->name));
}

/* The image that the caller gives, in place of what the site wants. */
static bool plan_given(struct eb_job *job, struct eb_job_device *t)
{
    const struct eb_profile *profile = t->device->profile;
    const struct eb_component_profile *component = eb_profile_component(profile, t->given->facts.component);
    if (!may_send(job, t))
        return false;
    if (component != NULL)
        return add_item(job, t, component, t->given);
    return ebi_job_fail(job, EB_BAD_CALL,
                        "%s: found an image for the component '%s', expected one that %s has (profile %s)",
                        t->given->path, t->given->facts.component, t->device->name, profile->name);
}

/* The image that the site names. */
static bool plan_named(struct eb_job *job, struct eb_job_device *t, size_t index)
{
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_component_profile *component = &t->device->profile->components[index];
    const struct eb_image *image = eb_job_image(job, want->image);
    if (image == NULL)
        return false;
    if (strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, want->version) != EB_SAME) {
        return ebi_job_fail(job, EB_BAD_CALL, "%s: found an image of %s %s, expected %s %s as %s wants it",
                            image->path, image->facts.component, image->facts.version, component->name,
                            want->version, t->device->name);
    }
    return add_item(job, t, component, image);
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
static size_t find_way(struct eb_job *job, struct eb_job_device *t,
                       const struct eb_component_profile *component, struct eb_shelf_candidate *candidates,
                       size_t count, size_t best, size_t way[EB_WAY_STEPS_MAX])
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
        .image = &said_of(job, &candidates[best])->facts,
        .delivered = delivered(job, t, (size_t)(component - t->device->profile->components)),
        .known_floor = known_floor(job, t, (size_t)(component - t->device->profile->components)),
    };
    eb_plan_facts(&t->look, items, t->item_count, t->accepted, &running, &facts);
    images[0] = (struct eb_way_image){&said_of(job, &candidates[best])->facts,
                                      &said_of(job, &candidates[best])->file};
    from[0] = best;
    for (size_t i = 0; i < count && have < EB_WAY_IMAGES_MAX; i++) {
        const char *version = candidates[i].version;
        if (eb_version_compare(&component->order, version, running.version) != EB_NEWER ||
            eb_version_compare(&component->order, version, candidates[best].version) != EB_OLDER)
            continue;
        images[have] =
            (struct eb_way_image){&said_of(job, &candidates[i])->facts, &said_of(job, &candidates[i])->file};
        from[have++] = i;
    }
    size_t steps = eb_plan_way(&facts, images, have, 0, way);
    for (size_t i = 0; i < steps; i++)
        way[i] = from[way[i]];
    return steps;
}

void eb_job_choice(struct eb_job *job, struct eb_job_device *t, size_t index,
                   struct eb_shelf_candidate *candidates, size_t count, struct eb_job_choice *choice)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    size_t best = count;
    memset(choice, 0, sizeof *choice);
    for (size_t i = 0; i < count; i++) {
        struct eb_run_item item;
        if (eb_version_compare(&component->order, candidates[i].version, eb_job_wanted(t, index)) != EB_SAME)
            continue;
        eb_job_judge(job, t, index, &candidates[i], &item);
        if (best == count || distance(&item.verdict) < distance(&choice->verdict)) {
            best = i;
            choice->verdict = item.verdict;
        }
    }
    if (best == count)
        return;
    if (fails_by(&choice->verdict, EB_RULE_LEAST_RUNNING)) {
        choice->steps = find_way(job, t, component, candidates, count, best, choice->way);
        choice->gap = choice->steps == 0;
    }
    if (choice->steps == 0)
        choice->way[choice->steps++] = best;
}

/* The image of the wanted version that fits best, by way of others where it needs them. */
static bool choose_image(struct eb_job *job, struct eb_job_device *t, size_t index,
                         struct eb_shelf_candidate *candidates, size_t count)
{
    struct eb_job_choice choice;
    eb_job_choice(job, t, index, candidates, count, &choice);
    t->lacks[index] = choice.steps == 0;
    t->refused = t->refused || t->lacks[index];
    for (size_t i = 0; i < choice.steps; i++) {
        const struct eb_image *image = eb_job_shelf_image(job, &candidates[choice.way[i]]);
        if (image == NULL || !add_item(job, t, &t->device->profile->components[index], image))
            return false;
    }
    if (choice.gap) {
        t->items[t->item_count - 1].no_way = true;
        eb_plan_judge(&t->look, t->items, t->item_count - 1, t->accepted);
    }
    return true;
}

static bool plan_from_shelf(struct eb_job *job, struct eb_job_device *t, size_t index)
{
    struct eb_shelf_candidate *candidates;
    size_t count;
    if (job->shelf == NULL) {
        return ebi_job_fail(
            job, EB_BAD_CALL,
            "%s: found no image for %s %s in the site and no shelf, expected the key 'image', --image "
            "FILE, or "
            "an image on the shelf: einbau shelf add FILE",
            t->device->name, t->device->profile->components[index].name, eb_job_wanted(t, index));
    }
    if (!eb_job_candidates(job, t, index, false, &candidates, &count))
        return false;
    bool ok = choose_image(job, t, index, candidates, count);
    eb_shelf_candidates_free(candidates, count);
    return ok;
}

static bool plan_target(struct eb_job *job, struct eb_job_device *t)
{
    bool named = job->named && t->chosen;
    bool again = job->again && t->chosen;
    if (t->given != NULL && t->chosen)
        return plan_given(job, t);
    if (!t->device->profile->sends)
        return true; /* only looked at; print_plan says so */
    for (size_t i = 0; i < t->device->profile->count; i++) {
        enum eb_mark mark = eb_job_mark(t, i);
        if (t->device->wants[i].version[0] == '\0')
            continue;
        /* Unasked only what is outdated, has other bytes than it should, or waits in its loader. */
        bool meant = mark == EB_MARK_OUTDATED || mark == EB_MARK_DIFFERS || t->look.in_loader ||
                     (named && mark != EB_MARK_CURRENT) || again;
        if (meant &&
            !(t->device->wants[i].image[0] != '\0' ? plan_named(job, t, i) : plan_from_shelf(job, t, i)))
            return false;
    }
    return true;
}

static bool prepare_run(struct eb_job *job, struct eb_job_device *t)
{
    t->buffer = malloc(BUFFER_BYTES);
    if (t->buffer == NULL)
        return ebi_job_fail(job, EB_IO, "out of memory");
    t->fit.config = eb_job_run_config(job, t, EB_JOB_FIT);
    t->fit.config.target.serial = t->look.identity.serial; /* the very device that was looked at */
    t->fit.config.items = t->items;
    t->fit.config.count = t->item_count;
    t->fit.config.accepted = t->accepted;
    t->fit.config.again = job->again;
    t->fit.config.buffer = t->buffer;
    t->fit.config.buffer_bytes = BUFFER_BYTES;
    return true;
}

/* --- the checksums of what is wanted ------------------------------------------------------------- */

static bool use_image(struct eb_job_device *t, size_t index, const struct eb_image *image)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    if (image == NULL || strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, eb_job_wanted(t, index)) != EB_SAME ||
        memcmp(image->facts.sha256, image->found.sha256, sizeof image->found.sha256) != 0)
        return false;
    t->has_checksum[index] = true;
    t->checksum[index] = component->as_it_is ? image->file_checksum : image->checksum;
    return true;
}

static bool use_shelf(struct eb_job *job, struct eb_job_device *t, size_t index)
{
    struct eb_shelf_candidate *candidates;
    struct eb_job_choice choice;
    size_t count;
    bool used = false;
    if (job->shelf == NULL || !eb_job_candidates(job, t, index, false, &candidates, &count))
        return false;
    eb_job_surround(job, t, false);
    eb_job_choice(job, t, index, candidates, count, &choice);
    if (choice.steps > 0)
        used = use_image(t, index, eb_job_shelf_image(job, &candidates[choice.way[choice.steps - 1]]));
    eb_shelf_candidates_free(candidates, count);
    return used;
}

/* The wanted image, where one is known here; else what this laptop sent as this version before. */
static void compare(struct eb_job *job, struct eb_job_device *t, size_t index)
{
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_component_profile *component = &t->device->profile->components[index];
    const struct eb_running *running = &t->look.running[index];
    char unit[EB_LOCK_KEY_BYTES];
    if (component->checksum.count == 0 || !running->has_checksum || want->version[0] == '\0' ||
        eb_version_compare(&component->order, running->version, want->version) != EB_SAME)
        return;
    if (want->image[0] != '\0' ? use_image(t, index, eb_job_image(job, want->image))
                               : use_shelf(job, t, index))
        return;
    eb_job_unit_key(job, t, unit);
    if (job->record != NULL)
        t->has_checksum[index] =
            eb_record_checksum(job->record, unit, component->name, want->version, &t->checksum[index]);
}

void ebi_job_compare(struct eb_job *job)
{
    bool needed = false;
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *t = &job->devices[i];
        for (size_t k = 0; t->reached && k < t->device->profile->count; k++)
            needed = needed || (t->device->profile->components[k].checksum.count > 0 &&
                                eb_job_wanted(t, k)[0] != '\0' && t->look.running[k].has_checksum);
    }
    if (!needed)
        return;
    job->hushed = true; /* without the shelf less is known, and that is said where it matters */
    if (!eb_job_shelf(job, false))
        job->problem.text[0] = '\0';
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *t = &job->devices[i];
        for (size_t k = 0; t->reached && !t->look.in_loader && k < t->device->profile->count; k++)
            compare(job, t, k);
    }
    job->hushed = false;
}

/* --- the plan ------------------------------------------------------------------------------------ */

/* A batch is one only if every device in it fits. */
static void judge_batch(struct eb_job *job)
{
    const char *refused = NULL;
    for (size_t i = 0; i < job->count && refused == NULL; i++) {
        if (job->devices[i].refused)
            refused = job->devices[i].device->name;
    }
    for (size_t i = 0; i < job->count; i++) {
        for (size_t k = 0; k < job->devices[i].item_count && !job->devices[i].refused; k++)
            eb_verdict_batch(&job->devices[i].items[k].verdict, refused);
    }
}

static bool plan_chosen(struct eb_job *job, struct eb_job_device *t)
{
    eb_job_surround(job, t, true);
    if (!plan_target(job, t))
        return false;
    for (size_t k = 0; k < t->item_count; k++)
        t->refused = t->refused || t->items[k].verdict.answer != EB_FITS;
    return t->item_count == 0 || t->refused || prepare_run(job, t);
}

/* What a job with a device that is not chosen would bring it to. */
static void foresee(struct eb_job *job, struct eb_job_device *t)
{
    eb_job_surround(job, t, true);
    job->hushed = true; /* whatever is wrong with it is no concern of this job */
    bool fits = t->device->profile->sends && t->reached && plan_target(job, t) && !t->refused;
    job->hushed = false;
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

static size_t waves_of(const struct eb_job *job)
{
    size_t waves = 0;
    for (size_t i = 0; i < job->count; i++)
        waves = job->devices[i].device->wave >= waves ? job->devices[i].device->wave + 1 : waves;
    return waves;
}

void eb_job_foresee(struct eb_job *job)
{
    size_t waves = waves_of(job);
    for (size_t w = 0; w < waves; w++) {
        for (size_t i = 0; i < job->count; i++) {
            if (job->devices[i].device->wave == w && job->devices[i].asked && !job->devices[i].chosen)
                foresee(job, &job->devices[i]);
        }
    }
}

bool eb_job_plan(struct eb_job *job)
{
    if (!eb_job_shelf(job, false))
        return false;
    size_t waves = waves_of(job);
    for (size_t w = 0; w < waves; w++) {
        for (size_t i = 0; i < job->count; i++) {
            struct eb_job_device *t = &job->devices[i];
            if (t->device->wave != w)
                continue;
            if (t->asked && !t->chosen)
                foresee(job, t);
            else if (t->reached && !plan_chosen(job, t))
                return false;
            else if (!t->reached && t->look.identified)
                t->refused = true; /* another device in its place */
        }
    }
    judge_batch(job);
    return true;
}
