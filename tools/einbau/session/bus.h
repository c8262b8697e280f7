/* The CAN buses of a site, or the one that --bus names: how they are, and who is on them. */
#ifndef TOOL_BUS_H
#define TOOL_BUS_H

#include "session/session.h"
#include "ui/table.h"

struct bus {
    const struct eb_site_link *wire;
    struct eb_nodes nodes;
    struct eb_isotp_config units[EB_UNITS_MAX];
    unsigned trouble;                           /* bits of enum eb_bus_trouble */
    struct eb_member members[EB_NODES_MAX + 1]; /* by node id: what its manager's list says of it ... */
    uint8_t managers[EB_NODES_MAX + 1];         /* ... and which node that is; 0: none has it in its list */
    uint32_t heard_bit_rate; /* where it is another one: the one at which good frames came; 0: not found */
};

struct buses {
    struct bus *list;
    size_t count;
    bool scans;                /* for UDS units that the site does not know */
    struct eb_site_link named; /* of --bus */
};

/* Looks at the one that --bus names, or at every CAN bus that a chosen device is on; those found silent are
 * marked absent.  False where the command must end. */
bool buses_look(struct session *session, struct buses *buses);
/* Looks at every CAN bus of a site, also at those without a device of it. */
bool buses_look_at(struct session *session, struct buses *buses, const struct eb_site *site);
/* Only listens to every CAN bus that a chosen or asked device is on and that was not looked at yet. */
void buses_listen(struct session *session);
void buses_free(struct buses *buses);

/* Those on a bus that another process works on are not asked; whether there are any. */
bool bus_leave_alone(const struct session *session, const struct eb_site_link *wire,
                     struct eb_nodes_config *config);

/* How they are: a line each, and a sentence for each trouble. */
void buses_print(const struct session *session, const struct buses *buses);
/* Who is on them: a table each. */
void buses_print_nodes(const struct session *session, const struct buses *buses);
json_t *buses_document(const struct session *session, const struct buses *buses);

/* The name of the site's device that is this node, or "". */
const char *bus_device_at(const struct session *session, const struct bus *bus, unsigned id);

/* What the bus says of a device of the site: a sentence. */
void bus_way_text(const struct buses *buses, const struct eb_job_device *target, char *text, size_t cap);
bool buses_sound(const struct buses *buses);

#endif
