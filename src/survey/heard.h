/* What a survey takes out of whatever it hears. */
#ifndef EBI_HEARD_H
#define EBI_HEARD_H

#include "einbau/survey.h"

/* How far a device has been asked by one protocol. */
enum ebi_asked { EBI_NOT_ASKED, EBI_ASKED, EBI_ASKED_MORE, EBI_ANSWERED };

void ebi_heard_frame(struct eb_survey *survey, size_t link, const uint8_t *bytes, size_t size,
                     uint64_t now_us);
void ebi_heard_datagram(struct eb_survey *survey, size_t link, const struct eb_datagram *datagram,
                        uint64_t now_us);
void ebi_heard_neighbour(struct eb_survey *survey, size_t link, const struct eb_neighbour *neighbour,
                         uint64_t now_us);
/* The identification that a probe has read. */
void ebi_heard_modbus(struct eb_survey *survey, const struct eb_survey_probe *probe, uint64_t now_us);

/* Writes what a device is asked by SNMP, the system group or the ENTITY-MIB; gives its size. */
size_t ebi_heard_snmp_question(const struct eb_survey *survey, const uint8_t *ip, bool entity, uint8_t *bytes,
                               size_t cap);

#endif
