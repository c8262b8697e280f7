/* What must hold inside the core, checked where the C library has assert and NDEBUG is not defined. */
#ifndef EBI_CHECK_H
#define EBI_CHECK_H

#if defined(NDEBUG) || (defined(__STDC_HOSTED__) && __STDC_HOSTED__ == 0)
#define EBI_CHECK(condition)                                                                                 \
    do {                                                                                                     \
        if (0)                                                                                               \
            (void)(condition);                                                                               \
    } while (0)
#else
#include <assert.h>
#define EBI_CHECK(condition) assert(condition)
#endif

#endif
