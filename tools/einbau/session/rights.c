/* What this process may do: no more than the command needs, once everything that needs more is open. */
#include "session/session.h"

#include <cap-ng.h>
#include <sys/prctl.h>
#include <unistd.h>

static bool has(unsigned capability)
{
    return capng_have_capability(CAPNG_PERMITTED, capability) != 0;
}

void rights_drop(bool keep_addresses, bool keep_ports)
{
    capng_get_caps_process();
    bool addresses = keep_addresses && has(CAP_NET_ADMIN);
    bool ports = keep_ports && has(CAP_NET_BIND_SERVICE);
    capng_clear(CAPNG_SELECT_BOTH);
    if (geteuid() == 0) /* or root could not even write its user's files */
        capng_updatev(CAPNG_ADD, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_DAC_OVERRIDE, -1);
    if (addresses)
        capng_updatev(CAPNG_ADD, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_NET_ADMIN, -1);
    if (ports)
        capng_updatev(CAPNG_ADD, CAPNG_EFFECTIVE | CAPNG_PERMITTED, CAP_NET_BIND_SERVICE, -1);
    capng_apply(CAPNG_SELECT_CAPS);
    prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
}
