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

const uint8_t *eb_profile_way(const struct eb_profile *profile, const struct eb_access *by)
{
    if (profile->sends_by == by)
        return profile->way;
    for (size_t i = 0; i < profile->otherwise_count; i++) {
        if (profile->otherwise[i].by == by)
            return profile->otherwise[i].more;
    }
    return NULL;
}

enum { ITEMS_OF_DEVICE = 8 }; /* the others are the components' */

size_t eb_profile_items(const struct eb_profile *profile)
{
    return ITEMS_OF_DEVICE + 2 * profile->count;
}

const struct eb_values *eb_profile_values(const struct eb_profile *p, size_t index)
{
    const struct eb_values *const device[ITEMS_OF_DEVICE] = {
        &p->from_maker,  &p->from_product, &p->from_order_code, &p->from_hardware_revision,
        &p->from_serial, &p->from_state,   &p->from_program,    &p->from_counter};
    size_t component;
    bool checksum;
    if (!eb_profile_item_component(index, &component, &checksum))
        return device[index];
    if (component >= p->count)
        return NULL;
    return checksum ? &p->components[component].checksum : &p->components[component].version;
}

bool eb_profile_item_component(size_t index, size_t *component, bool *checksum)
{
    if (index < ITEMS_OF_DEVICE)
        return false;
    *component = (index - ITEMS_OF_DEVICE) / 2;
    *checksum = (index - ITEMS_OF_DEVICE) % 2 == 1;
    return true;
}

size_t eb_profile_item_of(size_t component, bool checksum)
{
    return ITEMS_OF_DEVICE + 2 * component + (checksum ? 1 : 0);
}

const char *eb_profile_item_word(size_t index)
{
    static const char *const words[] = {"maker",         "product", "order code",    "hardware revision",
                                        "serial number", "state",   "program state", "restart counter",
                                        "version",       "checksum"};
    return words[index < ITEMS_OF_DEVICE ? index : ITEMS_OF_DEVICE + index % 2];
}
