/* What rules say of the items of a plan.  A verdict has room for every rule and its longest texts; kept is
 * only what is in it, as a site may have thousands of devices. */
#include "job/inside.h"

#include <stdlib.h>
#include <string.h>

/* In front of the findings; of each: two bytes, where it has one the name of another device, and its two
 * texts. */
struct head {
    uint8_t answer, step, count;
};
enum { GRADE = 0x3F, ACCEPTABLE = 0x40, TOGETHER = 0x80 };

static uint8_t *put(uint8_t *to, const void *from, size_t size)
{
    memcpy(to, from, size);
    return to + size;
}

static const uint8_t *take(const uint8_t *from, void *to, size_t size)
{
    memcpy(to, from, size);
    return from + size;
}

void ebi_verdict_keep(struct eb_job_device *target, size_t k, const struct eb_verdict *v)
{
    const struct head head = {(uint8_t)v->answer, (uint8_t)v->step, (uint8_t)v->count};
    size_t size = sizeof head;
    for (size_t i = 0; i < v->count; i++) {
        const struct eb_finding *f = &v->findings[i];
        size += 2 + (f->together != NULL ? sizeof f->together : 0) + strlen(f->found) + 1 +
                strlen(f->expected) + 1;
    }
    uint8_t *kept = realloc(target->planned[k].verdict, size);
    if (kept == NULL)
        abort();
    target->planned[k].verdict = kept;
    kept = put(kept, &head, sizeof head);
    for (size_t i = 0; i < v->count; i++) {
        const struct eb_finding *f = &v->findings[i];
        const uint8_t bytes[] = {(uint8_t)f->rule, (uint8_t)(f->grade | (f->acceptable ? ACCEPTABLE : 0) |
                                                             (f->together != NULL ? TOGETHER : 0))};
        kept = put(kept, bytes, sizeof bytes);
        if (f->together != NULL)
            kept = put(kept, &f->together, sizeof f->together);
        kept = put(kept, f->found, strlen(f->found) + 1);
        kept = put(kept, f->expected, strlen(f->expected) + 1);
    }
}

const struct eb_verdict *eb_job_verdict(const struct eb_job_device *target, size_t item)
{
    struct eb_verdict *v = &target->job->verdicts[EB_RUN_ITEMS_MAX];
    const uint8_t *from = target->planned[item].verdict;
    struct head head;
    from = take(from, &head, sizeof head);
    v->answer = (enum eb_answer)head.answer;
    v->step = (enum eb_comparison)head.step;
    v->count = head.count;
    for (size_t i = 0; i < head.count; i++) {
        struct eb_finding *f = &v->findings[i];
        uint8_t bytes[2];
        from = take(from, bytes, sizeof bytes);
        f->rule = (enum eb_rule)bytes[0];
        f->grade = (enum eb_grade)(bytes[1] & GRADE);
        f->acceptable = (bytes[1] & ACCEPTABLE) != 0;
        f->together = NULL;
        if ((bytes[1] & TOGETHER) != 0)
            from = take(from, &f->together, sizeof f->together);
        from = take(from, f->found, strlen((const char *)from) + 1);
        from = take(from, f->expected, strlen((const char *)from) + 1);
    }
    return v;
}

void ebi_verdicts_judged(struct eb_job_device *target, const struct eb_run *run)
{
    if (target->judged || !run->judged)
        return;
    target->judged = true;
    for (size_t k = 0; k < target->item_count; k++)
        ebi_verdict_keep(target, k, target->items[k].verdict);
}

void ebi_verdicts_drop(struct eb_job_device *target)
{
    for (size_t k = 0; k < target->item_count; k++)
        free(target->planned[k].verdict);
    target->item_count = 0;
}
