/* The parts of the port on Linux. */
#ifndef EBI_PORT_LINUX_H
#define EBI_PORT_LINUX_H

#include "einbau/host.h"

/* port_linux_links.c: members of struct eb_port. */
size_t ebi_linux_links(void *self, struct eb_link *links, size_t cap);
size_t ebi_linux_neighbours(void *self, const char *link, struct eb_neighbour *list, size_t cap);
enum eb_status ebi_linux_address_add(void *self, const char *link, const struct eb_link_address *address);
enum eb_status ebi_linux_address_remove(void *self, const char *link, const struct eb_link_address *address);

#endif
