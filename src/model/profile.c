#include "einbau/profile.h"
#include "einbau/text.h"

#include <string.h>

bool eb_profile_covers(const struct eb_profile *profile, const char *order_code)
{
    for (int i = 0; i < EB_PATTERNS_MAX && profile->order_codes[i][0] != '\0'; i++) {
        if (eb_pattern_matches(profile->order_codes[i], order_code))
            return true;
    }
    return false;
}

const struct eb_component_profile *eb_profile_component(const struct eb_profile *profile, const char *name)
{
    for (size_t i = 0; i < profile->count; i++) {
        if (strcmp(profile->components[i].name, name) == 0)
            return &profile->components[i];
    }
    return NULL;
}
