/* What both programs want of their command line. */
#ifndef TOOL_IN_FULL_H
#define TOOL_IN_FULL_H

#include <argp.h>

/* Long options are written in full: a part of a name that means one option today means another one tomorrow,
 * and the C library would take it.  Ends the process with argp_err_exit_status where one is not. */
void options_in_full(const struct argp_option *options, const char *program, int argc, char **argv);

#endif
