#include "curl.h"
#include "loaded.h"

const struct ebi_curl *ebi_curl(void)
{
    static const char *const names[] = {
#define NAME(name) #name,
        EBI_CURL_FUNCTIONS(NAME)};
    static struct ebi_curl api;
    static bool loaded;
    _Static_assert(sizeof names == sizeof api, "pointers only");
    loaded = loaded || ebi_load("libcurl.so.4", names, sizeof names / sizeof names[0], &api);
    return loaded ? &api : NULL;
}
