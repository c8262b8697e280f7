#include "record/pq.h"
#include "loaded.h"

const struct ebi_pq *ebi_pq(void)
{
    static const char *const names[] = {
#define NAME(name) #name,
        EBI_PQ_FUNCTIONS(NAME)};
    static struct ebi_pq api;
    static bool loaded;
    _Static_assert(sizeof names == sizeof api, "pointers only");
    loaded = loaded || ebi_load("libpq.so.5", names, sizeof names / sizeof names[0], &api);
    return loaded ? &api : NULL;
}
