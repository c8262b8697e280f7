/* What the access modules share. */
#ifndef EBI_ACCESS_H
#define EBI_ACCESS_H

#include "einbau/access.h"

/* A peer that sends without end must not keep the others from their turn: so much is taken in one poll, and
 * the rest in the next one, which is due at once. */
enum { EBI_READS_AT_ONCE = 64 };

/* Where a field of a row puts what it reads. */
#define EBI_VALUE(member)                                                                                    \
    .bytes = sizeof(((struct eb_value *)0)->member), .offset = offsetof(struct eb_value, member)
#define EBI_STEP(member)                                                                                     \
    .bytes = sizeof(((struct eb_step *)0)->member), .offset = offsetof(struct eb_step, member)

#define EBI_PROFILE(member)                                                                                  \
    .bytes = sizeof(((struct eb_profile *)0)->member), .offset = offsetof(struct eb_profile, member)
#define EBI_WAY(type, member)                                                                                \
    .bytes = sizeof(((type *)0)->member), .offset = offsetof(struct eb_profile, way) + offsetof(type, member)

/* The words for enum eb_value_form. */
extern const char *const ebi_forms[];

/* What the access needs and the port does not have, "port: no UDP"; NULL: nothing is missing. */
const char *ebi_port_lacks(const struct eb_port *port, const struct eb_access *access);

/* The link in whose subnet the device is, with the address that is used there first; false: there is none. */
bool ebi_link_to(const struct eb_contact *contact, struct eb_link *link);

/* --- restarts ---------------------------------------------------------------------------------------- */

/* From now on what shows a restart is looked for: contact->restart. */
void ebi_watch(struct eb_contact *contact);
/* Under which name the device takes what is sent. */
static inline const char *ebi_file_name(const struct eb_operation *operation)
{
    return operation->file_name != NULL ? operation->file_name : operation->component->file_name;
}
/* Whether no other access has read anything in this look, though one could. */
bool ebi_values_silent(const struct eb_contact *contact, const struct eb_access *but);
/* The first proof counts. */
void ebi_restarted(struct eb_contact *contact, enum eb_restart proof);

/* --- values ------------------------------------------------------------------------------------------ */

/* Forgets all that was read. */
void ebi_values_forget(struct eb_contact *contact);

/* Where one answer holds all values of an access and kind: `read` writes the text of each, or leaves it
 * empty. EB_NAME_BYTES are there; half a text is none. */
void ebi_values_take(struct eb_contact *contact, const struct eb_access *access, unsigned kind,
                     void (*read)(const void *answer, const struct eb_value *value, char *text),
                     const void *answer);

/* The source at a place, 0 to ebi_places - 1, and where its text goes; NULL: there is none. */
size_t ebi_places(const struct eb_contact *contact);
const struct eb_value *ebi_value_at(const struct eb_contact *contact, size_t place, char **text);

/* The value that is being read, from contact->value on, of this access and kind; NULL: there is none left.
 * One that was read already, for another item, is copied on the way. */
const struct eb_value *ebi_value_next(struct eb_contact *contact, const struct eb_access *access,
                                      unsigned kind);
/* Takes what was read of it, and goes on to the next.  `little`: a number begins with its lowest byte. */
void ebi_value_take(struct eb_contact *contact, const struct eb_value *value, const uint8_t *bytes,
                    size_t size, bool little);

/* Whether sources of this access and these kinds (bits) are still to be read. */
bool ebi_values_wanted(const struct eb_contact *contact, const struct eb_access *access, unsigned kinds);
/* They could not be asked. */
void ebi_values_failed(struct eb_contact *contact, const struct eb_access *access, unsigned kinds,
                       const struct eb_error *error);
/* Whether an item is lost: none of its sources has answered or will. */
bool ebi_values_lost(const struct eb_contact *contact);

/* The text of one of the profile's items, of the first source that has one; false where none has. */
bool ebi_value_text(const struct eb_contact *contact, const struct eb_values *values, char *text, size_t cap);
/* Leaves what stands behind the mark; without it nothing. */
void ebi_cut_before(char *text, const char *mark);

/* Whether its loader answers, by what was read last. */
bool ebi_in_loader(const struct eb_contact *contact);

#endif
