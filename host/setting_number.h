#ifndef EBI_SETTING_NUMBER_H
#define EBI_SETTING_NUMBER_H

#include "einbau/settings.h"

/* A number as a person writes it, as the device keeps it: "-3.5" of one decimal is -35.  False: it is none,
 * or has more decimals than the device keeps. */
bool ebi_setting_number(const struct eb_setting *setting, const char *text, int64_t *number);

/* What is sent to change a password; freed by the caller. */
uint8_t *ebi_password_body(const struct eb_setting *how, const char *user, const char *old, const char *fresh,
                           size_t *size);

#endif
