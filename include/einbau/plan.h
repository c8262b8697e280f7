/* What a job would do, worked out without writing anything. */
#ifndef EINBAU_PLAN_H
#define EINBAU_PLAN_H

#include "einbau/run.h"

/* Judges one image against the device as `looked` read it last: fills `item->verdict` and `item->from`. */
void eb_plan_judge(const struct eb_run *looked, struct eb_run_item *item, uint32_t accepted);

/* About how long it takes to send `bytes` and have the device back, seconds; 0: the profile does not say. */
uint32_t eb_plan_seconds(const struct eb_profile *profile, uint64_t bytes);

#endif
