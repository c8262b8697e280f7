/* What a job would do, worked out without writing anything. */
#ifndef EINBAU_PLAN_H
#define EINBAU_PLAN_H

#include "einbau/run.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Everything that the verdict on items[index] depends on, from the device as `looked` read it last, as it
 * will be when the items before it were written.  `running` is where the facts point to; it must live as
 * long. */
void eb_plan_facts(const struct eb_run *looked, const struct eb_run_item *items, size_t index,
                   uint32_t accepted, struct eb_running *running, struct eb_judge_facts *facts);

/* Judges items[index] against the device as `looked` read it last, as it will be when the items before it
 * were written: fills its `verdict` and `from`. */
void eb_plan_judge(const struct eb_run *looked, struct eb_run_item *items, size_t index, uint32_t accepted);

/* --- stepping stones ----------------------------------------------------------------------------- */

enum { EB_WAY_IMAGES_MAX = 64, EB_WAY_STEPS_MAX = 6 };

/* One image that a way may use. */
struct eb_way_image {
    const struct eb_image_facts *facts;
    const struct eb_image_found *file; /* may be NULL, see struct eb_judge_facts */
};

/* The shortest way from what `facts` says runs to images[wanted]: each image fits what the one before it
 * leaves running, and each is newer.  `facts->image` and `facts->file` are not looked at.  Among ways of the
 * same length the one counts whose images stand first.  Gives the number of steps, the last one being
 * `wanted`, or 0 where there is no way of at most EB_WAY_STEPS_MAX; at most EB_WAY_IMAGES_MAX images are
 * looked at. */
size_t eb_plan_way(const struct eb_judge_facts *facts, const struct eb_way_image *images, size_t count,
                   size_t wanted, size_t way[EB_WAY_STEPS_MAX]);

#ifdef __cplusplus
}
#endif

#endif
