/* The names of several devices in one text. */
#ifndef TOOL_NAMES_H
#define TOOL_NAMES_H

#include "session/session.h"

/* "door-01..door-07, grip-amp-1" for the devices of the job with these indices; freed by the caller. */
char *names_folded(const struct session *session, const size_t *list, size_t count);
/* The same for a command line: each name, quoted where the shell needs it, with blanks between. */
char *names_of_call(const struct session *session, const size_t *list, size_t count);

#endif
