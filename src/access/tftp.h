/* What sending images and documents by TFTP share. */
#ifndef EBI_ACCESS_TFTP_H
#define EBI_ACCESS_TFTP_H

#include "access/access.h"
#include "einbau/access/tftp.h"

/* What both classes do alike. */
void ebi_tftp_init(void *self, struct eb_contact *contact);
uint64_t ebi_tftp_deadline_us(const void *self);
void ebi_tftp_stop(void *self);
void ebi_tftp_close(void *self);

/* The largest block that path, buffer and profile (0: it does not say) allow. */
uint16_t ebi_tftp_block_size(const struct eb_contact *contact, uint16_t wanted);
/* Begins to write a file; polls that, or the reading that was begun (`back`), to its end. */
void ebi_tftp_begin_put(struct eb_access_tftp_context *tftp, const char *file_name,
                        const struct eb_source *source, uint64_t now_us);
enum eb_status ebi_tftp_poll_put(struct eb_access_tftp_context *tftp, uint64_t now_us);
enum eb_status ebi_tftp_poll_get(struct eb_access_tftp_context *tftp, uint64_t now_us);
/* Opens a socket where none is; else the error. */
enum eb_status ebi_tftp_open(struct eb_access_tftp_context *tftp);
enum eb_status ebi_tftp_end_well(struct eb_access_tftp_context *tftp);

#endif
