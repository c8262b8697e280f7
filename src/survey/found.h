/* The rows of a survey: facts, and what belongs together. */
#ifndef EBI_FOUND_H
#define EBI_FOUND_H

#include "einbau/survey.h"

/* Whom something was heard from; `mac` and `ip` may be NULL. */
struct ebi_heard {
    size_t link;
    enum eb_protocol by;
    const uint8_t *mac;
    const uint8_t *ip;
    uint64_t now_us;
};

/* The row of that device, a new one where there is none; NULL where there is no room for it. */
struct eb_found *ebi_found_row(struct eb_survey *survey, const struct ebi_heard *heard);

/* Adds what it said; empty texts are nothing. */
void ebi_found_add(struct eb_found *found, enum eb_fact_kind kind, enum eb_protocol by, const char *text,
                   uint64_t now_us);

/* Makes one row of those that show the same serial number and lie together: another port of one device. */
void ebi_found_join(struct eb_survey *survey, struct eb_found *found);

#endif
