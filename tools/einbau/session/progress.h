/* What a user sees of a job under way, on stderr: on a terminal the whole and what matters now, kept up to
 * date; a line for each rung otherwise; nothing with --json. */
#ifndef TOOL_PROGRESS_H
#define TOOL_PROGRESS_H

#include "session/session.h"

struct progress {
    struct session *session;
    bool silent;
    bool terminal;
    bool told_interrupt;
    size_t lines; /* drawn before */
};

void progress_open(struct progress *progress, struct session *session);
void progress_attach(struct progress *progress, struct eb_run_config *config);
void progress_show(void *context);

/* Draws it over what was drawn before. */
void progress_draw(struct progress *progress);

/* What came of a run; one that only saves or puts documents back has no outcome of its own. */
const char *progress_end_word(const struct eb_run *run);
const char *progress_rung_word(const struct eb_run *run);

#endif
