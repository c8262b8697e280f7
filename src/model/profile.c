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

const struct eb_values *eb_profile_values(const struct eb_profile *p, size_t index)
{
    const struct eb_values *const identity[] = {&p->from_maker,      &p->from_product,
                                                &p->from_order_code, &p->from_hardware_revision,
                                                &p->from_serial,     &p->from_state};
    if (index < 6)
        return identity[index];
    const struct eb_component_profile *c = &p->components[(index - 6) / 2];
    if ((index - 6) / 2 >= p->count)
        return NULL;
    return (index - 6) % 2 == 0 ? &c->version : &c->checksum;
}

const char *eb_profile_item_word(size_t index)
{
    static const char *const words[] = {"maker",         "product", "order code", "hardware revision",
                                        "serial number", "state",   "version",    "checksum"};
    return words[index < 6 ? index : 6 + index % 2];
}

const char *eb_value_kind_word(enum eb_value_kind kind)
{
    static const char *const words[] = {"nothing",      "Modbus/TCP", "SNMP", "EtherNet/IP", "DNS-SD",
                                        "PROFINET DCP", "SDO",        "UDS",  "USB"};
    return (size_t)kind < EB_VALUE_KINDS ? words[kind] : "unknown";
}
