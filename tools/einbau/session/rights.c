/* What this process may do: no more than the command needs, once everything that needs more is open. */
#include "session/session.h"

#include <cap-ng.h>
#include <sys/prctl.h>
#include <unistd.h>

void rights_drop(bool keep_addresses)
{
    capng_clear(CAPNG_SELECT_BOTH);
    if (geteuid() == 0) /* or root could not even write its user's files */
        capng_updatev(CAPNG_ADD, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_DAC_OVERRIDE, -1);
    if (keep_addresses)
        capng_updatev(CAPNG_ADD, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_NET_ADMIN, -1);
    if (capng_apply(CAPNG_SELECT_CAPS) != 0 && keep_addresses) { /* it has not even that one */
        capng_updatev(CAPNG_DROP, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_NET_ADMIN, -1);
        capng_apply(CAPNG_SELECT_CAPS);
    }
    prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
}
