/* One line on stderr that is written over: what is waited for.  Nothing where that is no terminal. */
#ifndef TOOL_STATUS_H
#define TOOL_STATUS_H

#include <stdbool.h>

/* Whether it would be seen. */
bool status_is_seen(void);
__attribute__((format(printf, 1, 2))) void status_line(const char *format, ...);
/* It is taken away. */
void status_end(void);

#endif
