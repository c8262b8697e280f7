/* The record of jobs among its own files. */
#ifndef EBI_RECORD_H
#define EBI_RECORD_H

#include "record/store.h"

#include <sodium.h>

_Static_assert(EBI_CHAIN_BYTES == crypto_hash_sha256_BYTES, "the digest of a row is a SHA-256");

struct eb_record {
    struct ebi_sql sql;             /* the file; not used where ... */
    struct ebi_server *server;      /* ... it is on a server */
    char outbox[EB_PATH_BYTES];     /* of a server: where rows wait that it could not take; empty: nowhere */
    int64_t job;                    /* that is being written, 0: none ... */
    int64_t resumes;                /* ... and the one that it goes on with, or 0 */
    uint8_t chain[EBI_CHAIN_BYTES]; /* of its last row */
    bool went_back;
    bool inside;              /* a transaction */
    char last[EB_SEEN_BYTES]; /* when that was written */
};

/* The columns of a row, in the order in which its digest takes them; "job" is the first. */
#define EBI_ROW_COLUMNS                                                                                      \
    "job, at, kind, unit, site, device, serial, order_code, profile, link, address, component, version,"     \
    " checksum, outcome, error, \"left\", attempt, ms, body"
enum { EBI_ROW_TEXTS = 20 };

/* The digest of a row: that of the one before, then each column's text with a zero behind it. */
void ebi_record_chain(uint8_t chain[EBI_CHAIN_BYTES], const char *const texts[EBI_ROW_TEXTS]);

/* Rows that are there together or not at all.  What fails is rolled back. */
bool ebi_transaction(struct eb_record *record, bool begins, struct eb_problem *problem);

/* Keeps a row that a lost server could not take. */
bool ebi_outbox_put(struct eb_record *record, const char *const texts[EBI_ROW_TEXTS],
                    const uint8_t chain[EBI_CHAIN_BYTES], struct eb_problem *problem);

/* What the first row of a job follows: the first row of the job before it, or zeros. */
bool ebi_record_before(struct eb_record *record, int64_t job, uint8_t chain[EBI_CHAIN_BYTES],
                       struct eb_problem *problem);

/* Gives the rows of an older form their digests, while the file is renewed and never later: a row whose
 * digest is gone was changed. */
bool ebi_record_chain_old(struct ebi_sql *sql, struct eb_problem *problem);

#endif
