/* The programs that make and read file systems on cards: mtools, mkfs.fat and sfdisk. */
#ifndef EBI_CARD_CHILD_H
#define EBI_CARD_CHILD_H

#include "einbau/host.h"

/* It could not be run at all; it ended badly, or what it printed was not taken; or well. */
enum ebi_child_end { EBI_CHILD_NONE, EBI_CHILD_BAD, EBI_CHILD_GOOD };

/* Runs one without a shell.  `input`: its standard input, or -1; what it prints goes to `take`, or nowhere
 * where that is NULL.  `problem` is filled with what it says, unless it ended well. */
enum ebi_child_end ebi_child_end(const char *const *words, int input,
                                 bool (*take)(void *context, const void *bytes, size_t size), void *context,
                                 struct eb_problem *problem);
bool ebi_child_run(const char *const *words, int input,
                   bool (*take)(void *context, const void *bytes, size_t size), void *context,
                   struct eb_problem *problem);

#endif
