/* What is not said on the command line: by the environment, by einbau.yaml beside the site, by config.yaml of
 * the user. */
#ifndef TOOL_CONFIG_H
#define TOOL_CONFIG_H

#include "session/options.h"

/* Fills in what the options leave open; false after a complaint about a file that cannot be read. */
bool config_apply(struct options *options);

/* 'einbau --where': each of them, and what it came from. */
void config_print(const struct options *options);

#endif
