/* What a profile can name, from the tables by which profiles are read. */
#ifndef TOOL_MANUAL_KEYS_H
#define TOOL_MANUAL_KEYS_H

#include <stdio.h>

/* As Markdown: docs/keys.md. */
void put_keys(FILE *to);

#endif
