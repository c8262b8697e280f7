#include "einbau/einbau.h"

#define TEXT(number)                #number
#define JOINED(major, minor, patch) TEXT(major) "." TEXT(minor) "." TEXT(patch)

_Static_assert(sizeof JOINED(EB_VERSION_MAJOR, EB_VERSION_MINOR, EB_VERSION_PATCH) == sizeof EB_VERSION,
               "the version has changed in one place only");

const char *eb_library_version(void)
{
    return JOINED(EB_VERSION_MAJOR, EB_VERSION_MINOR, EB_VERSION_PATCH);
}
