#include "einbau/einbau.h"

const char *eb_library_version(void)
{
    return EB_VERSION;
}
