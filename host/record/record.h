/* The record of jobs among its own files. */
#ifndef EBI_RECORD_H
#define EBI_RECORD_H

#include "../sql.h"
#include "einbau/record.h"

#include <sodium.h>

enum { EBI_CHAIN_BYTES = crypto_hash_sha256_BYTES };

struct eb_record {
    struct ebi_sql sql;
    int64_t job;                    /* that is being written, 0: none ... */
    int64_t resumes;                /* ... and the one that it goes on with, or 0 */
    uint8_t chain[EBI_CHAIN_BYTES]; /* of its last row */
    bool went_back;
    char last[EB_SEEN_BYTES]; /* when that was written */
};

/* The columns of a row, in the order in which its digest takes them; "job" is the first. */
#define EBI_ROW_COLUMNS                                                                                      \
    "job, at, kind, unit, site, device, serial, order_code, profile, link, address, component, version,"     \
    " checksum, outcome, error, left, attempt, ms, body"
enum { EBI_ROW_TEXTS = 20 };

/* The digest of a row: that of the one before, then each column's text with a zero behind it. */
void ebi_record_chain(uint8_t chain[EBI_CHAIN_BYTES], const char *const texts[EBI_ROW_TEXTS]);

/* What the first row of a job follows: the first row of the job before it, or zeros. */
bool ebi_record_before(struct eb_record *record, int64_t job, uint8_t chain[EBI_CHAIN_BYTES],
                       struct eb_problem *problem);

/* Gives the rows of an older form their digests, while the file is renewed and never later: a row whose
 * digest is gone was changed. */
bool ebi_record_chain_old(struct ebi_sql *sql, struct eb_problem *problem);

#endif
