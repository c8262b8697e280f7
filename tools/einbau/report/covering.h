/* What a site needs of a shelf, by what is known of its devices without a wire. */
#ifndef TOOL_COVERING_H
#define TOOL_COVERING_H

#include "report/report.h"

struct covering {
    struct session *session;
    char seen[EB_SEEN_BYTES]; /* when the device at hand was seen last */
    struct asked *asked;
    size_t asked_count;
    json_t *rows;
    int64_t *numbers; /* of the images that are needed, each once */
    size_t number_count;
    size_t wanted, lacking;
};

/* Works out what all devices need of the job's shelf; false after a complaint.  Freed in either case. */
bool cover(struct covering *covering, struct session *session);
void covering_free(struct covering *covering);

/* What the job's shelf has that fits and is newer than what the site wants: of each device and component the
 * newest; NULL after a complaint.  And says it, once for all devices of which it is the same. */
json_t *newer_rows(struct session *session);
void print_newer(struct session *session, const json_t *rows);

#endif
