#include "einbau/plan.h"
#include "einbau/text.h"

void eb_plan_judge(const struct eb_run *looked, struct eb_run_item *item, uint32_t accepted)
{
    const struct eb_running *running = &looked->running[item->component - looked->config.profile->components];
    const struct eb_judge_facts facts = {
        .identity = &looked->identity,
        .running = running,
        .in_loader = looked->in_loader,
        .order = &item->component->order,
        .image = item->image,
        .file = item->file,
        .capacity_bytes = item->component->capacity_bytes,
        .profile_floor = item->component->floor,
        .delivered = item->delivered,
        .accepted = accepted,
    };
    eb_judge(&facts, &item->verdict);
    eb_text_copy(item->from, sizeof item->from, running->version);
}

uint32_t eb_plan_seconds(const struct eb_profile *profile, uint64_t bytes)
{
    if (profile->typical_bytes_per_s == 0)
        return 0;
    return (uint32_t)(bytes / profile->typical_bytes_per_s) + profile->typical_restart_s + 1;
}
