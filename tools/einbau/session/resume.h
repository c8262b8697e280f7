/* Going on with a job that did not come to its end. */
#ifndef TOOL_RESUME_H
#define TOOL_RESUME_H

#include "session/history.h"

struct resume {
    struct past past;
    struct options options; /* what the call amounts to: by the record, and by what was given */
    char image[EB_PATH_BYTES], shelf[EB_PATH_BYTES], site[EB_PATH_BYTES];
    bool named; /* that job named its devices */
};

/* Reads the job from the record; `number` NULL: the last one that did not come to its end.  False after a
 * complaint, with `status`. */
bool resume_open(struct resume *resume, const struct options *given, const char *number, int *status);
void resume_close(struct resume *resume);

/* Once the session is open: what the names on the command line would change is put back.  False after a
 * complaint. */
bool resume_begin(const struct resume *resume, struct session *session);
/* Once the devices were looked at: prints what became of them; a person's consent that was given for another
 * device does not count. */
void resume_compare(const struct resume *resume, struct session *session);
/* Once it is planned: whether the images are those of then; false after a complaint. */
bool resume_same_images(const struct resume *resume, struct session *session);

/* Whether a device could not be looked at because its gateway did not run, which does now. */
bool resume_again(const struct session *session);
/* Those that are not written to and that the job may have left prepared: they are marked so that this is
 * undone. Gives their number. */
size_t resume_recovers(struct session *session);

#endif
