/* What a user sees of a job under way, on stderr: one line per device on a terminal, kept up to date; a line
 * for each rung otherwise; nothing with --json. */
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

#endif
