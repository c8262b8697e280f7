/* What is to be written to each device, through which images, and whether it fits. */
#include "job/inside.h"
#include "einbau/card.h"
#include "image_file.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static struct eb_job_device *target_of(struct eb_job *job, const struct eb_site_device *device)
{
    return &job->devices[device - job->site->devices];
}

/* --- what is around a device --------------------------------------------------------------------- */

/* The version of a component: as it was read last, or as the plan will leave it. */
static const char *version_of(const struct eb_job_device *target, size_t component, bool planned)
{
    for (size_t k = target->item_count; planned && !target->refused && k-- > 0;) {
        if (target->items[k].component == &target->device->profile->components[component])
            return target->items[k].image->version;
    }
    const struct eb_run *run = eb_job_last(target);
    return run->identified && !run->in_loader ? run->running[component].version : "";
}

/* Of a device that this job leaves alone: the version that a job with it would give it, or NULL. */
static const char *foreseen(const struct eb_job_device *target, size_t component)
{
    return !target->chosen && target->components[component].foreseen[0] != '\0'
               ? target->components[component].foreseen
               : NULL;
}

void eb_job_surround(struct eb_job *job, struct eb_job_device *target, bool planned)
{
    const struct eb_site_device *d = target->device;
    target->around =
        (struct eb_surroundings){.behind_gateway = d->via != NULL, .companion_count = d->companion_count};
    if (d->via != NULL) {
        const struct eb_job_device *gateway = target_of(job, d->via);
        target->around.gateway = version_of(gateway, 0, planned);
        target->around.gateway_device = d->via->name;
        target->around.gateway_together = foreseen(gateway, 0);
        target->around.gateway_order = &d->via->profile->components[0].order;
    }
    for (size_t i = 0; i < d->companion_count; i++) {
        const struct eb_site_companion *c = &d->companions[i];
        struct eb_companion_version *to = &target->around.companions[i];
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

bool eb_job_candidates(struct eb_job *job, struct eb_job_device *target, size_t component, bool others,
                       struct eb_shelf_candidate **candidates, size_t *count)
{
    const char *code = target->look.identity.order_code;
    if (eb_shelf_candidates(job->shelf, &target->device->profile->components[component], code, others,
                            candidates, count, &job->problem))
        return true;
    return ebi_job_failed(job, EB_BAD_CALL);
}

static const char *delivered(struct eb_job *job, struct eb_job_device *target, size_t component)
{
    char last[EB_VERSION_TEXT_BYTES];
    char *to = target->components[component].delivered;
    const char *said = target->device->wants[component].delivered;
    if (to[0] == '\0' && said[0] != '\0')
        eb_text_copy(to, EB_VERSION_TEXT_BYTES, said);
    else if (to[0] == '\0' && job->known != NULL)
        eb_known_versions(job->known, &target->look.identity,
                          target->device->profile->components[component].name, to, last);
    return to;
}

static const char *known_floor(struct eb_job *job, struct eb_job_device *target, size_t component)
{
    char *to = target->components[component].known_floor;
    if (to[0] == '\0' && job->known != NULL)
        eb_known_floor(job->known, &target->look.identity,
                       target->device->profile->components[component].name, to);
    return to;
}

void eb_job_floors(struct eb_job *job, struct eb_job_device *target)
{
    for (size_t i = 0; i < target->device->profile->count; i++) {
        delivered(job, target, i);
        known_floor(job, target, i);
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

void eb_job_judge(struct eb_job *job, struct eb_job_device *target, size_t component,
                  struct eb_shelf_candidate *candidate, struct eb_verdict *verdict)
{
    const struct eb_shelf_said *said = said_of(job, candidate);
    struct eb_run_item items[EB_RUN_ITEMS_MAX + 1];
    if (target->item_count > 0)
        memcpy(items, target->items, target->item_count * sizeof *items);
    items[target->item_count] = (struct eb_run_item){
        .component = &target->device->profile->components[component],
        .image = &said->facts,
        .file = &said->file,
        .delivered = delivered(job, target, component),
        .known_floor = known_floor(job, target, component),
        .verdict = verdict,
    };
    eb_plan_judge(&target->look, items, target->item_count, target->accepted);
}

void eb_job_recall(struct eb_job *job, struct eb_job_device *target, char seen[EB_SEEN_BYTES])
{
    struct eb_run *look = &target->look;
    struct eb_identity *id = &look->identity;
    const struct eb_site_device *d = target->device;
    seen[0] = '\0';
    look->config = eb_job_run_config(job, target, EB_JOB_LOOK);
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

/* Room for one item more; those that are there point to their files at the new place. */
static bool add_room(struct eb_job_device *target)
{
    size_t count = target->item_count + 1;
    struct eb_run_item *items = realloc(target->items, count * sizeof *items);
    target->items = items != NULL ? items : target->items;
    struct eb_job_item *planned = items != NULL ? realloc(target->planned, count * sizeof *planned) : NULL;
    target->planned = planned != NULL ? planned : target->planned;
    for (size_t k = 0; k < target->item_count; k++)
        target->items[k].file = &target->planned[k].file;
    return planned != NULL;
}

/* The run judges it once more, into the same room. */
static void judge(struct eb_job *job, struct eb_job_device *target, size_t k)
{
    target->items[k].verdict = &job->verdicts[k];
    eb_plan_judge(&target->look, target->items, k, target->accepted);
    ebi_verdict_keep(target, k, target->items[k].verdict);
}

static bool add_item(struct eb_job *job, struct eb_job_device *target,
                     const struct eb_component_profile *component, const struct eb_image *image)
{
    size_t index = (size_t)(component - target->device->profile->components);
    size_t k = target->item_count;
    if (k == EB_RUN_ITEMS_MAX) {
        return ebi_job_fail(job, EB_BAD_CALL,
                            "%s: found more than %d images to write, expected at most that: split them over "
                            "several jobs",
                            target->device->name, EB_RUN_ITEMS_MAX);
    }
    if (!add_room(target))
        return ebi_job_fail(job, EB_IO, "%s: found no memory for its plan, expected some",
                            target->device->name);
    target->planned[k] = (struct eb_job_item){.image = image, .file = image->found};
    if (component->as_it_is)
        target->planned[k].file.content_bytes = image->found.size_bytes;
    /* What is found in it is kept with the image, which is the job's, or the caller's for this job. */
    if (component->in_files && !ebi_image_unpack((struct eb_image *)image, &job->problem))
        return ebi_job_failed(job, EB_BAD_CALL);
    if (component->in_files)
        target->planned[k].file.content_bytes = image->parts_source.size_bytes;
    target->items[k] = (struct eb_run_item){
        .component = component,
        .image = &image->facts,
        .file = &target->planned[k].file,
        .source = component->in_files   ? image->parts_source
                  : component->as_it_is ? image->file
                                        : image->source,
        .parts = image->parts,
        .part_count = component->in_files ? image->part_count : 0,
        .checksum = component->as_it_is ? image->file_checksum : image->checksum,
        .delivered = delivered(job, target, index),
        .known_floor = known_floor(job, target, index),
    };
    judge(job, target, k);
    target->item_count++;
    return true;
}

/* Whether this plan can bring images to it: over its wire, or on a memory card, be it that of its gateway. */
static bool is_written(const struct eb_job *job, const struct eb_job_device *target)
{
    const struct eb_site_device *d = target->device;
    if (!job->for_card)
        return d->profile->sends;
    return d->profile->card != NULL || (d->via != NULL && eb_card_covers(d->via, d));
}

/* Whether images can be sent to it at all; says so where not. */
static bool may_send(struct eb_job *job, const struct eb_job_device *target)
{
    if (is_written(job, target))
        return true;
    return ebi_job_fail(
        job, EB_BAD_CALL,
        "%s: found no way to send an image in the profile %s, expected one of the keys http, tftp, "
        "modbus-file, pull, canopen, uds and dfu. Leave the device "
        "out: --without %s",
        target->device->name, target->device->profile->name, eb_job_word(target->device->name));
}

/* The image that the caller gives, in place of what the site wants. */
static bool plan_given(struct eb_job *job, struct eb_job_device *target)
{
    const struct eb_profile *profile = target->device->profile;
    const struct eb_component_profile *component =
        eb_profile_component(profile, target->given->facts.component);
    if (!may_send(job, target))
        return false;
    if (component != NULL)
        return add_item(job, target, component, target->given);
    return ebi_job_fail(
        job, EB_BAD_CALL, "%s: found an image for the component '%s', expected one that %s has (profile %s)",
        target->given->path, target->given->facts.component, target->device->name, profile->name);
}

/* The image that the site names. */
static bool plan_named(struct eb_job *job, struct eb_job_device *target, size_t index)
{
    const struct eb_site_want *want = &target->device->wants[index];
    const struct eb_component_profile *component = &target->device->profile->components[index];
    const struct eb_image *image = eb_job_image(job, want->image);
    if (image == NULL)
        return false;
    if (strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, want->version) != EB_SAME) {
        return ebi_job_fail(job, EB_BAD_CALL, "%s: found an image of %s %s, expected %s %s as %s wants it",
                            image->path, image->facts.component, image->facts.version, component->name,
                            want->version, target->device->name);
    }
    return add_item(job, target, component, image);
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
static size_t find_way(struct eb_job *job, struct eb_job_device *target,
                       const struct eb_component_profile *component, struct eb_shelf_candidate *candidates,
                       size_t count, size_t best, size_t way[EB_WAY_STEPS_MAX])
{
    struct eb_way_image images[EB_WAY_IMAGES_MAX];
    size_t from[EB_WAY_IMAGES_MAX];
    size_t have = 1;
    struct eb_running running;
    struct eb_judge_facts facts;
    struct eb_run_item items[EB_RUN_ITEMS_MAX + 1];
    if (target->item_count > 0)
        memcpy(items, target->items, target->item_count * sizeof *items);
    items[target->item_count] = (struct eb_run_item){
        .component = component,
        .image = &said_of(job, &candidates[best])->facts,
        .delivered = delivered(job, target, (size_t)(component - target->device->profile->components)),
        .known_floor = known_floor(job, target, (size_t)(component - target->device->profile->components)),
    };
    eb_plan_facts(&target->look, items, target->item_count, target->accepted, &running, &facts);
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

void eb_job_choice(struct eb_job *job, struct eb_job_device *target, size_t index,
                   struct eb_shelf_candidate *candidates, size_t count, struct eb_job_choice *choice)
{
    const struct eb_component_profile *component = &target->device->profile->components[index];
    size_t best = count;
    memset(choice, 0, sizeof *choice);
    for (size_t i = 0; i < count; i++) {
        struct eb_verdict verdict;
        if (eb_version_compare(&component->order, candidates[i].version, eb_job_wanted(target, index)) !=
            EB_SAME)
            continue;
        eb_job_judge(job, target, index, &candidates[i], &verdict);
        if (best == count || distance(&verdict) < distance(&choice->verdict)) {
            best = i;
            choice->verdict = verdict;
        }
    }
    if (best == count)
        return;
    if (fails_by(&choice->verdict, EB_RULE_LEAST_RUNNING)) {
        choice->steps = find_way(job, target, component, candidates, count, best, choice->way);
        choice->gap = choice->steps == 0;
    }
    if (choice->steps == 0)
        choice->way[choice->steps++] = best;
}

/* The image of the wanted version that fits best, by way of others where it needs them. */
static bool choose_image(struct eb_job *job, struct eb_job_device *target, size_t index,
                         struct eb_shelf_candidate *candidates, size_t count)
{
    struct eb_job_choice choice;
    eb_job_choice(job, target, index, candidates, count, &choice);
    target->components[index].lacks = choice.steps == 0;
    target->refused = target->refused || target->components[index].lacks;
    for (size_t i = 0; i < choice.steps; i++) {
        const struct eb_image *image = eb_job_shelf_image(job, &candidates[choice.way[i]]);
        if (image == NULL || !add_item(job, target, &target->device->profile->components[index], image))
            return false;
    }
    if (choice.gap) {
        target->items[target->item_count - 1].no_way = true;
        judge(job, target, target->item_count - 1);
    }
    return true;
}

static bool plan_from_shelf(struct eb_job *job, struct eb_job_device *target, size_t index)
{
    struct eb_shelf_candidate *candidates;
    size_t count;
    if (job->shelf == NULL) {
        return ebi_job_fail(
            job, EB_BAD_CALL,
            "%s: found no image for %s %s in the site and no shelf, expected the key 'image', --image "
            "FILE, or "
            "an image on the shelf: einbau shelf add FILE",
            target->device->name, target->device->profile->components[index].name,
            eb_job_wanted(target, index));
    }
    if (!eb_job_candidates(job, target, index, false, &candidates, &count))
        return false;
    bool ok = choose_image(job, target, index, candidates, count);
    eb_shelf_candidates_free(candidates, count);
    return ok;
}

static bool plan_target(struct eb_job *job, struct eb_job_device *target)
{
    bool named = job->named && target->chosen;
    bool again = job->again && target->chosen;
    if (target->given != NULL && target->chosen)
        return plan_given(job, target);
    if (!is_written(job, target))
        return true; /* only looked at; print_plan says so */
    for (size_t i = 0; i < target->device->profile->count; i++) {
        enum eb_mark mark = eb_job_mark(target, i);
        if (target->device->wants[i].version[0] == '\0')
            continue;
        /* Unasked only what is outdated, has other bytes than it should, or waits in its loader. */
        bool meant = mark == EB_MARK_OUTDATED || mark == EB_MARK_DIFFERS || target->look.in_loader ||
                     (named && mark != EB_MARK_CURRENT) || again;
        if (meant && !(target->device->wants[i].image[0] != '\0' ? plan_named(job, target, i)
                                                                 : plan_from_shelf(job, target, i)))
            return false;
    }
    return true;
}

static void prepare_run(struct eb_job *job, struct eb_job_device *target)
{
    target->fit.config = eb_job_run_config(job, target, EB_JOB_FIT);
    target->fit.config.target.serial = target->look.identity.serial; /* the very device that was looked at */
    target->fit.config.items = target->items;
    target->fit.config.count = target->item_count;
    target->fit.config.accepted = target->accepted;
    target->fit.config.again = job->again;
}

/* --- the checksums of what is wanted ------------------------------------------------------------- */

static bool use_image(struct eb_job_device *target, size_t index, const struct eb_image *image)
{
    const struct eb_component_profile *component = &target->device->profile->components[index];
    if (image == NULL || strcmp(image->facts.component, component->name) != 0 ||
        eb_version_compare(&component->order, image->facts.version, eb_job_wanted(target, index)) !=
            EB_SAME ||
        memcmp(image->facts.sha256, image->found.sha256, sizeof image->found.sha256) != 0)
        return false;
    target->components[index].has_checksum = !component->in_files;
    target->components[index].checksum = component->as_it_is ? image->file_checksum : image->checksum;
    return true;
}

static bool use_shelf(struct eb_job *job, struct eb_job_device *target, size_t index)
{
    struct eb_shelf_candidate *candidates;
    struct eb_job_choice choice;
    size_t count;
    bool used = false;
    if (job->shelf == NULL || !eb_job_candidates(job, target, index, false, &candidates, &count))
        return false;
    eb_job_surround(job, target, false);
    eb_job_choice(job, target, index, candidates, count, &choice);
    if (choice.steps > 0)
        used = use_image(target, index, eb_job_shelf_image(job, &candidates[choice.way[choice.steps - 1]]));
    eb_shelf_candidates_free(candidates, count);
    return used;
}

/* The wanted image, where one is known here; else what this laptop sent as this version before. */
static void compare(struct eb_job *job, struct eb_job_device *target, size_t index)
{
    const struct eb_site_want *want = &target->device->wants[index];
    const struct eb_component_profile *component = &target->device->profile->components[index];
    const struct eb_running *running = &target->look.running[index];
    char unit[EB_LOCK_KEY_BYTES];
    if (component->checksum.count == 0 || !running->has_checksum || want->version[0] == '\0' ||
        eb_version_compare(&component->order, running->version, want->version) != EB_SAME)
        return;
    if (want->image[0] != '\0' ? use_image(target, index, eb_job_image(job, want->image))
                               : use_shelf(job, target, index))
        return;
    eb_job_unit_key(job, target, unit);
    if (job->record != NULL)
        target->components[index].has_checksum = eb_record_checksum(
            job->record, unit, component->name, want->version, &target->components[index].checksum);
}

void ebi_job_compare(struct eb_job *job)
{
    bool needed = false;
    for (size_t i = 0; i < job->count; i++) {
        const struct eb_job_device *target = &job->devices[i];
        for (size_t k = 0; target->reached && k < target->device->profile->count; k++)
            needed = needed || (target->device->profile->components[k].checksum.count > 0 &&
                                eb_job_wanted(target, k)[0] != '\0' && target->look.running[k].has_checksum);
    }
    if (!needed)
        return;
    job->hushed = true; /* without the shelf less is known, and that is said where it matters */
    if (!eb_job_shelf(job, false))
        job->problem.text[0] = '\0';
    for (size_t i = 0; i < job->count; i++) {
        struct eb_job_device *target = &job->devices[i];
        for (size_t k = 0; target->reached && !target->look.in_loader && k < target->device->profile->count;
             k++)
            compare(job, target, k);
    }
    job->hushed = false;
}

/* --- the plan ------------------------------------------------------------------------------------ */

static void add_batch(struct eb_job_device *target, size_t k, const char *refused)
{
    struct eb_verdict *verdict = &target->job->verdicts[k];
    *verdict = *eb_job_verdict(target, k);
    eb_verdict_batch(verdict, refused);
    ebi_verdict_keep(target, k, verdict);
}

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
            add_batch(&job->devices[i], k, refused);
    }
}

static bool plan_chosen(struct eb_job *job, struct eb_job_device *target)
{
    ebi_verdicts_drop(target);
    eb_job_surround(job, target, true);
    if (!plan_target(job, target))
        return false;
    for (size_t k = 0; k < target->item_count; k++) {
        ebi_member_judge(target, k);
        target->refused = target->refused || eb_job_verdict(target, k)->answer != EB_FITS;
    }
    if (target->item_count > 0 && !target->refused)
        prepare_run(job, target);
    return true;
}

/* What a job with a device that is not chosen would bring it to. */
static void foresee(struct eb_job *job, struct eb_job_device *target)
{
    eb_job_surround(job, target, true);
    job->hushed = true; /* whatever is wrong with it is no concern of this job */
    bool fits = is_written(job, target) && target->reached && plan_target(job, target) && !target->refused;
    job->hushed = false;
    for (size_t k = 0; k < target->item_count && fits; k++)
        fits = eb_job_verdict(target, k)->answer == EB_FITS;
    for (size_t k = 0; k < target->item_count && fits; k++) {
        size_t index = (size_t)(target->items[k].component - target->device->profile->components);
        eb_text_copy(target->components[index].foreseen, sizeof target->components[index].foreseen,
                     target->items[k].image->version);
    }
    ebi_verdicts_drop(target);
    target->refused = false;
    for (size_t k = 0; k < target->device->profile->count; k++)
        target->components[k].lacks = false;
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
            struct eb_job_device *target = &job->devices[i];
            if (target->device->wave != w)
                continue;
            target->refused = false; /* of an earlier plan */
            if (target->asked && !target->chosen)
                foresee(job, target);
            else if (target->reached && !plan_chosen(job, target))
                return false;
            else if (!target->reached && target->look.identified)
                target->refused = true; /* another device in its place */
        }
    }
    judge_batch(job);
    eb_job_plan_due(job);
    job->estimate_us = eb_job_estimate(job);
    return true;
}
