/* Sources of values and steps, as the tables of the accesses describe them. */
#ifndef EBI_PROFILE_ROWS_H
#define EBI_PROFILE_ROWS_H

#include "yaml_read.h"

/* The access with this word that is able to do one of these (EB_ABLE bits); NULL: there is none. */
const struct eb_access *ebi_access_named(const char *word, unsigned able);

/* One source, {snmp: 1.3.6.1.2.1.1.5.0}; gives how further entries are named where it is the first of a list.
 * One step, {write-register: {address: 1, value: 2}}. */
enum eb_list ebi_read_source(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_value *value);
void ebi_read_step(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_step *step);

/* The key of the map that names a document, {http: {path: /presets}}. */
void ebi_read_document(struct ebi_yaml_map *map, struct eb_step *step);

/* A list of steps; with `choices` some may stand below `otherwise`, for where those before have not helped.
 */
void ebi_read_steps(struct ebi_yaml_map *map, const char *key, bool choices, struct eb_steps *steps);

/* The fields of a section, into the members of `to`.  The words of the first one decide which of the others
 * there are. */
void ebi_read_fields(struct ebi_yaml_map *map, const struct eb_field *fields, size_t count, void *to);

/* What it wants of a memory card; components are read already. */
void ebi_read_card(struct ebi_yaml_map *map, struct eb_profile *profile);

/* What is noted of it; everything else of the profile is read already. */
void ebi_read_notes(struct ebi_yaml_map *map, struct eb_profile *profile);

/* What can be saved of it and put back, and how it is restarted for that. */
void ebi_read_backups(struct ebi_yaml_map *map, struct eb_profile *profile);

/* One text or several. */
void ebi_read_strings(struct ebi_yaml_map *map, const char *key, struct eb_strings *strings);

/* Whether a document, or a setting, may be called so. */
bool ebi_is_document_name(const char *name);

/* What a user sets and does; what can be saved is read already. */
void ebi_read_settings(struct ebi_yaml_map *map, struct eb_profile *profile);

/* How the device is written to, and how otherwise; components, values and steps are read already. */
void ebi_read_way(struct ebi_yaml_map *map, struct eb_profile *profile);

#endif
