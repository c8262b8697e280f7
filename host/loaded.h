/* Libraries that most commands do not need, loaded when they are. */
#ifndef EBI_LOADED_H
#define EBI_LOADED_H

#include <stdbool.h>
#include <stddef.h>

/* Loads a library and finds its functions by their names; `api` is a struct of as many pointers, which stays
 * as it was where one is missing. */
bool ebi_load(const char *library, const char *const *names, size_t count, void *api);

#endif
