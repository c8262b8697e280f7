/* What is on the laptop's links, for the commands that look without a site, or beyond it. */
#ifndef TOOL_WIRE_H
#define TOOL_WIRE_H

#include "session/session.h"
#include "ui/table.h"

enum { WIRE_FOUND_MAX = 1024, WIRE_PROBES_MAX = 64 };

struct wire {
    struct session *session;
    struct eb_link all[EB_LINKS_MAX]; /* the laptop's */
    size_t all_count;
    struct eb_link links[EB_SURVEY_LINKS_MAX]; /* those that are looked on */
    size_t count;
    struct eb_survey survey;
    struct eb_found *found;
    struct eb_survey_probe *probes;
    uint64_t took_us, shown_us;
};

/* Finds the links: the one named by --link, else all wired ones that are switched on and have a carrier.
 * False where the command must end: the reason was printed, session->status says with what.  Where the port
 * knows no links, `count` is 0. */
bool wire_open(struct wire *wire, struct session *session);

/* Begins to look on them, once or round after round. */
void wire_begin(struct wire *wire, bool keep_on);

/* Looks on them.  False where it was interrupted. */
bool wire_look(struct wire *wire);
void wire_close(struct wire *wire);

/* The device of the site that a row is, or NULL: by its hardware address, serial number or address. */
const struct eb_job_device *wire_target(const struct wire *wire, const struct eb_found *found);
/* The other way round. */
const struct eb_found *wire_found(const struct wire *wire, const struct eb_job_device *target);

/* How the laptop reaches it: advice on its own links only. */
struct eb_way wire_way(const struct wire *wire, const struct eb_found *found);

/* The table of rows that are not on the site, and what is to be said of any row. */
void wire_print(const struct wire *wire);
json_t *wire_document(const struct wire *wire);

/* One line of the table: name, address, MAC, product, order code, revision, serial number, version, heard by.
 */
enum { WIRE_COLUMNS = 9, WIRE_CELL_BYTES = 80 };
extern const char *const wire_heads[WIRE_COLUMNS];
void wire_cells(const struct wire *wire, const struct eb_found *found,
                char cells[WIRE_COLUMNS][WIRE_CELL_BYTES]);

/* The rows in the order of their addresses, those without one behind; up to WIRE_FOUND_MAX, valid until the
 * next call. */
const struct eb_found *const *wire_order(const struct wire *wire);

/* --- the way to each device of the site --- */

enum { WAYS_CONFLICTS_MAX = 8 };

/* Somebody else answers to an address of the laptop's own. */
struct conflict {
    size_t link;
    uint8_t ip[4], mac[EB_MAC_BYTES];
};

struct ways {
    struct eb_link links[EB_LINKS_MAX];
    size_t count;
    struct eb_way *list; /* one per target */
    bool denied;         /* there was no right to ask by ARP whether an address is free */
    struct conflict conflicts[WAYS_CONFLICTS_MAX];
    size_t conflict_count;
};

/* Finds them, asking by ARP that an advised address is free.  False where the command must end. */
bool ways_find(struct session *session, struct ways *ways);
void ways_free(struct ways *ways);

/* --- several requests at once --- */

/* Works until all have ended. */
void requests_work(const struct eb_port *port, struct eb_request *requests, size_t count);

/* "192.0.2.10" */
void ip_text(const uint8_t ip[4], char text[EB_ENDPOINT_TEXT_BYTES]);
/* "192.0.2.10/24" */
void address_text(const struct eb_link_address *address, char *text, size_t cap);

#endif
