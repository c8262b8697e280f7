/* Values that a simulated device holds, and the log of its own diagnostics: read by whatever it speaks, kept
 * over a restart, and perhaps reset when another image runs for the first time. */
#ifndef EBI_SIM_VALUES_H
#define EBI_SIM_VALUES_H

#include "device.h"

#include <jansson.h>

enum { EBI_SIM_VALUES_MAX = 8, EBI_SIM_LOG_MAX = 8 };

struct ebi_sim_values {
    struct ebi_sim_value {
        char name[EB_NAME_BYTES];
        uint16_t number; /* of its register, object or data identifier */
        uint32_t now, after_update;
        bool has_after, gone_after, gone; /* `gone`: no longer readable */
    } list[EBI_SIM_VALUES_MAX];
    size_t count;
    struct ebi_sim_log {
        uint16_t number; /* of its first register, or its object */
        uint32_t entries[EBI_SIM_LOG_MAX], after_update[EBI_SIM_LOG_MAX]; /* the newest first */
        size_t count, after_count;
        bool cleared_by_update, moves_up, taken; /* `moves_up`: an update takes out the third */
    } log;
    bool known; /* which images ran at the last start */
    uint32_t ran;
};

/* A value by its number; false: there is none, or its program does not run. */
bool ebi_sim_value_of(const struct ebi_sim_device *device, unsigned number, uint32_t *value);
/* The log, or NULL. */
const struct ebi_sim_log *ebi_sim_log_of(const struct ebi_sim_device *device);

/* A number that differs where other images run. */
uint32_t ebi_sim_images(const struct ebi_sim_device *device);

/* What a state directory remembers of them; NULL: the device has none. */
json_t *ebi_sim_values_save(const struct ebi_sim_device *device);
void ebi_sim_values_load(struct ebi_sim_device *device, const json_t *from);

#endif
