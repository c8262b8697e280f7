#include "einbau/plan.h"
#include "einbau/text.h"

/* The version of a component once the first `count` items are written. */
static const char *version_then(const struct eb_run *looked, const struct eb_run_item *items, size_t count,
                                const struct eb_component_profile *component)
{
    for (size_t i = count; i-- > 0;) {
        if (items[i].component == component)
            return items[i].image->version;
    }
    return looked->running[component - looked->config.profile->components].version;
}

void eb_plan_facts(const struct eb_run *looked, const struct eb_run_item *items, size_t index,
                   uint32_t accepted, struct eb_running *running, struct eb_judge_facts *facts)
{
    const struct eb_profile *profile = looked->config.profile;
    const struct eb_run_item *item = &items[index];
    const struct eb_running *now = &looked->running[item->component - profile->components];
    const struct eb_component_profile *loader = eb_profile_component(profile, profile->loader_component);
    const char *version = version_then(looked, items, index, item->component);
    *running = *now;
    eb_text_copy(running->version, sizeof running->version, version);
    *facts = (struct eb_judge_facts){
        .identity = &looked->identity,
        .running = running,
        .in_loader = looked->in_loader && version == now->version,
        .order = &item->component->order,
        .image = item->image,
        .file = item->file,
        .capacity_bytes = item->component->capacity_bytes,
        .profile_floor = item->component->floor,
        .delivered = item->delivered,
        .known_floor = item->known_floor,
        .loader = loader != NULL ? version_then(looked, items, index, loader) : NULL,
        .loader_order = loader != NULL ? &loader->order : NULL,
        .usb = eb_profile_wire(profile) == EB_WIRE_USB && looked->identified ? &looked->usb : NULL,
        .around = looked->config.around,
        .no_way = item->no_way,
        .accepted = accepted,
    };
}

void eb_plan_judge(const struct eb_run *looked, struct eb_run_item *items, size_t index, uint32_t accepted)
{
    struct eb_running running;
    struct eb_judge_facts facts;
    eb_plan_facts(looked, items, index, accepted, &running, &facts);
    eb_judge(&facts, items[index].verdict);
    eb_text_copy(items[index].from, sizeof items[index].from, running.version);
}

/* Whether `image` may follow where `running` runs, on the way to `wanted`. */
static bool follows(const struct eb_judge_facts *facts, const struct eb_running *running,
                    const struct eb_way_image *image, const struct eb_way_image *wanted)
{
    struct eb_judge_facts here = *facts;
    struct eb_verdict verdict;
    if (image != wanted &&
        eb_version_compare(facts->order, image->facts->version, wanted->facts->version) != EB_OLDER)
        return false;
    here.running = running;
    here.image = image->facts;
    here.file = image->file;
    eb_judge(&here, &verdict);
    return verdict.answer == EB_FITS && verdict.step == EB_NEWER;
}

size_t eb_plan_way(const struct eb_judge_facts *facts, const struct eb_way_image *images, size_t count,
                   size_t wanted, size_t way[EB_WAY_STEPS_MAX])
{
    uint8_t before[EB_WAY_IMAGES_MAX]; /* the image before, or itself where what runs is */
    uint8_t steps[EB_WAY_IMAGES_MAX] = {0};
    if (count > EB_WAY_IMAGES_MAX)
        count = EB_WAY_IMAGES_MAX;
    for (size_t round = 1; round <= EB_WAY_STEPS_MAX && wanted < count && steps[wanted] == 0; round++) {
        for (size_t from = 0; from < count; from++) {
            struct eb_running running = *facts->running;
            if (round > 1 ? steps[from] != round - 1 : from > 0)
                continue;
            if (round > 1) {
                running.has_checksum = false;
                eb_text_copy(running.version, sizeof running.version, images[from].facts->version);
            }
            for (size_t to = 0; to < count; to++) {
                if (steps[to] != 0 || !follows(facts, &running, &images[to], &images[wanted]))
                    continue;
                steps[to] = (uint8_t)round;
                before[to] = (uint8_t)(round > 1 ? from : to);
            }
        }
    }
    if (wanted >= count)
        return 0;
    size_t at = wanted;
    for (size_t i = steps[wanted]; i-- > 0; at = before[at])
        way[i] = at;
    return steps[wanted];
}
