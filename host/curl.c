#include "curl.h"

#include <dlfcn.h>
#include <stdbool.h>
#include <string.h>

const struct ebi_curl *ebi_curl(void)
{
    static const char *const names[] = {
#define NAME(name) #name,
        EBI_CURL_FUNCTIONS(NAME)};
    static struct ebi_curl api;
    static bool loaded;
    void *functions[sizeof names / sizeof names[0]];
    void *library = loaded ? NULL : dlopen("libcurl.so.4", RTLD_NOW | RTLD_LOCAL);
    _Static_assert(sizeof functions == sizeof api, "pointers only");
    if (loaded)
        return &api;
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        functions[i] = library != NULL ? dlsym(library, names[i]) : NULL;
        if (functions[i] == NULL)
            return NULL;
    }
    memcpy(&api, functions, sizeof api);
    loaded = true;
    return &api;
}
