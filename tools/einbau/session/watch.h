/* survey --watch: a view that keeps looking. */
#ifndef TOOL_WATCH_H
#define TOOL_WATCH_H

#include "session/wire.h"

/* Looks until q or Ctrl-C; gives the exit status. */
int watch(struct wire *wire);

#endif
