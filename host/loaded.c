#include "loaded.h"

#include <dlfcn.h>
#include <string.h>

enum { FUNCTIONS_MOST = 64 };

bool ebi_load(const char *library, const char *const *names, size_t count, void *api)
{
    void *functions[FUNCTIONS_MOST] = {NULL};
    void *loaded = dlopen(library, RTLD_NOW | RTLD_LOCAL);
    for (size_t i = 0; i < count; i++) {
        functions[i] = loaded != NULL && count <= FUNCTIONS_MOST ? dlsym(loaded, names[i]) : NULL;
        if (functions[i] == NULL)
            return false;
    }
    memcpy(api, functions, count * sizeof functions[0]);
    return true;
}
